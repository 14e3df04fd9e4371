"""Fixes in the words of a study file: what a message of the library advises, as keys of a section."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import Final

from ultrum.core.series.metadata import Metadata
from ultrum.errors import UltrumError, options_in_text
from ultrum.sources.table import TableOptions

_FIXES: Final = {
    "price_column": "Name it in [panel] price_column.",
    "market": "Name it in the factors of [[models]].",
    "risk_free": "Set [panel] risk_free: the address of a column of returns, or a rate a year such as 0.03.",
    "rate_size": "Set [panel] factor_units, or risk_free to a rate a year such as 0.03.",
    "units": 'Set [panel] factor_units; for other tables, units in [sources.NAME.tables."FILE"].',
    "how": "Add how to its step: { to_frequency = { frequency = 'Q', how = 'last' } }, or mean or sum.",
    "total_return_factors": "For a total return, name it in [panel] total_return_factors.",
}
_NAMES: Final = (*TableOptions.__dataclass_fields__, *Metadata.__dataclass_fields__)
_WHERE: Final = ' Such a key is set in [sources.NAME.tables."FILE"].'


@contextlib.contextmanager
def in_study_words() -> Iterator[None]:
    """Errors raised inside name the key of the study that fixes them."""
    try:
        yield
    except UltrumError as error:
        text = error.with_fix(_FIXES)
        changed = options_in_text(text, _NAMES, lambda name, value: f"{name} = '{value}'")
        if changed != text:
            changed += _WHERE
        if changed == str(error):
            raise
        error.args = (changed,)
        raise
