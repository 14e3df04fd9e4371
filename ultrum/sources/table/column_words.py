"""Words for the columns of price tables in the languages of exchanges: close, open, volume and so on.

The words stand in ``column_words.json``: only those that name one column without doubt. Other headings need
``price_column=``.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Final

from ultrum.core.series.excess_headings import plain_heading

_WORDS: Final = Path(__file__).with_name("column_words.json")


@cache
def _roles() -> Mapping[str, str]:
    table = json.loads(_WORDS.read_text(encoding="utf-8"))
    return {word: role for role, words in table.items() for word in words}


def role_of(heading: str) -> str:
    """What a column of a price table has, by its heading; empty if the words are not known.

    Examples
    --------
    >>> role_of("Schlusskurs"), role_of("出来高"), role_of("Adj Close"), role_of("KELP")
    ('close', 'volume', 'adjusted close', '')
    """
    return _roles().get(plain_heading(heading), "")
