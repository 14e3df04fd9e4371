"""Key columns of a long table: names of assets, codes, regions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Array, Dates
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.number_formats import is_blank

_ATTRIBUTES: Final = frozenset(
    ("currency", "unit", "units", "name", "title", "status", "obs_status", "note", "notes")
)
_LAST_RESORT: Final = ("currency", "name", "title")
_IDENTIFIERS: Final = frozenset(
    (
        "asset",
        "ticker",
        "symbol",
        "isin",
        "security",
        "instrument",
        "stock",
        "company",
        "code",
        "region",
        "series",
    )
)
_MOST_KEYS: Final = 4
_REPEATS: Final = 2  # an identifier is next to so many dates at least, on average


def key_columns(texts: Mapping[str, Array], moments: Dates) -> list[str] | None:
    """Text columns that identify each row of a date: none needed, one or more, or None if none does.

    Parameters
    ----------
    texts : mapping of str to array
        Columns of text.
    moments : array of datetime64
        Dates of the rows.
    """
    steps = np.diff(moments.astype(np.int64))
    if (steps > 0).all() or pd.Series(moments).is_unique:
        return _identifier_columns(texts)
    keys = _identifying([n for n in texts if n.lower() not in _ATTRIBUTES], texts, moments)
    return keys or _identifying([n for n in texts if n.lower() in _LAST_RESORT], texts, moments)


def _identifier_columns(texts: Mapping[str, Array]) -> list[str]:
    """A column labelled as an identifier with several values that each occur more than once on average."""
    for name, cells in texts.items():
        count = len(pd.unique(pd.Series(cells)))
        if name.strip().lower() in _IDENTIFIERS and 1 < count <= len(cells) / _REPEATS:
            return [name]
    return []


def _identifying(names: Sequence[str], texts: Mapping[str, Array], moments: Dates) -> list[str] | None:
    """The first column, or the first few together, that identify the rows of each date."""
    frame = pd.DataFrame({n: texts[n] for n in names}).assign(**{"": moments})
    alone = [n for n in names if not frame.duplicated(["", n]).any()]
    if alone:
        return alone[:1]
    for count in range(2, min(len(names), _MOST_KEYS) + 1):
        if not frame.duplicated(["", *names[:count]]).any():
            return list(names[:count])
    return None


def identifier_column(cells: Mapping[str, Array], numeric: Sequence[str], moments: Dates) -> str | None:
    """The column of integer codes, if the rows of a date need a key.

    A code repeats across dates and is unique within a date; amounts are not.
    """
    numbers = set(numeric)
    texts = {n: c for n, c in cells.items() if n not in numbers}
    if key_columns(texts, moments) is not None:
        return None
    for name in numeric:
        codes = [cell_text(c) for c in cells[name]]
        if any(is_blank(c) or not c.isalnum() for c in codes):
            continue
        frame = pd.DataFrame({"date": moments, "code": codes})
        if 1 < frame["code"].nunique() <= len(frame) / _REPEATS and not frame.duplicated().any():
            return name
    return None
