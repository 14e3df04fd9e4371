"""Account columns of a table: debt, equity and tax of companies."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

from ultrum.errors import TableError, choices
from ultrum.sources.table.column_words import plain_heading

_WORDS: Final = {
    "debt": ("net debt", "debt", "total debt", "borrowings", "net borrowings", "interest bearing debt"),
    "equity": (
        "market value",
        "market cap",
        "market capitalisation",
        "market capitalization",
        "equity value",
        "equity",
    ),
    "tax": ("tax rate", "tax", "effective tax rate", "corporate tax rate"),
}


def account_columns(headings: Sequence[str], where: str) -> dict[str, str]:
    """Headings of debt, equity and tax, recognised by their words; units after the words are ignored.

    Raises
    ------
    TableError
        If one is absent or ambiguous.

    Examples
    --------
    >>> account_columns(["Symbol", "Net Debt (m)", "Market Cap", "Tax Rate"], "accounts.csv")
    {'debt': 'Net Debt (m)', 'equity': 'Market Cap', 'tax': 'Tax Rate'}
    """
    heading_of_role: dict[str, str] = {}
    for role, words in _WORDS.items():
        named = [h for h in headings if _begins(plain_heading(h), words)]
        if len(named) != 1:
            what = " and ".join(named) if named else "no column"
            raise TableError(f"{where}: {what} for the {role} of the peers. Its columns are {choices(headings)}.")
        heading_of_role[role] = named[0]
    return heading_of_role


def _begins(heading: str, words: Sequence[str]) -> bool:
    """Whether a heading consists of some words, optionally with a unit."""
    return any(heading == w or (heading.startswith(f"{w} ") and len(heading) <= len(w) + 4) for w in words)
