"""Event columns of a table: asset, date and amount of dividends, splits or payments."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

import pandas as pd

from ultrum.errors import TableError, choices, one_of
from ultrum.sources.table.column_words import plain_heading

_ASSET: Final = (
    "asset",
    "ticker",
    "symbol",
    "code",
    "isin",
    "security",
    "instrument",
    "stock",
    "company",
)
_DATE: Final = (
    "date",
    "ex date",
    "exdate",
    "ex dividend date",
    "exdividend date",
    "ex day",
    "effective date",
    "period end",
    "pay date",
    "payment date",
)
_AMOUNT: Final = (
    "amount",
    "dividend",
    "dividends",
    "dividend amount",
    "cash amount",
    "cash dividend",
    "gross dividend",
    "payment",
    "final payment",
    "value",
    "dividend per share",
    "amount per share",
)
_RATIO: Final = (
    "ratio",
    "split",
    "splits",
    "stock splits",
    "split ratio",
    "factor",
    "split factor",
)
_RELEASES: Final = {
    "period": (
        "period",
        "time period",
        "reference period",
        "ref period",
        "quarter",
        "month",
        "observation period",
    ),
    "released": (
        "released",
        "release date",
        "published",
        "publication date",
        "release",
        "vintage",
        "vintage date",
    ),
    "value": ("value", "obs value", "figure", "estimate", "amount"),
}
WORDS: Final = {"asset": _ASSET, "date": _DATE, "amount": _AMOUNT, "ratio": _RATIO}


def event_columns(
    table: pd.DataFrame,
    where: str,
    wanted: Sequence[str],
    given: dict[str, str],
    assets: Sequence[str],
) -> pd.DataFrame:
    """A table of events with its columns under standard names.

    Parameters
    ----------
    table : DataFrame
        Records, one per event.
    where : str
        Address or file, for messages.
    wanted : sequence of str
        ``asset``, ``date`` and ``amount``, or ``ratio`` for splits.
    given : dict of str to str
        Headings by their standard names, for unusual headings.
    assets : sequence of str
        Assets with prices. A table without a column of assets belongs to the only asset.

    Raises
    ------
    TableError
        If a column is absent or ambiguous.

    Examples
    --------
    >>> records = pd.DataFrame({"Ticker": ["KELP"], "Ex-Date": ["2024-05-10"], "Dividends": [1.5]})
    >>> event_columns(records, "dividends.csv", ["asset", "date", "amount"], {}, ["KELP"]).columns.tolist()
    ['asset', 'date', 'amount']
    """
    names: dict[str, str] = {}
    for role in wanted:
        column = _column(table, where, role, given.get(role, ""), set(names))
        if column:
            names[column] = role
    unused = [c for c in names.values() if c in table and c not in names]
    renamed = table.drop(columns=unused).rename(columns=names)
    if "asset" in wanted and "asset" not in renamed:
        if len(assets) != 1:
            raise TableError(f"{where} has no column of assets, and there are {len(assets)}; {_headings(table)}")
        renamed = renamed.assign(asset=assets[0])
    return renamed


def _column(table: pd.DataFrame, where: str, role: str, given: str, taken: set[str]) -> str:
    """The column of a role: the given one, or the one with a usual heading."""
    headings = [str(c) for c in table.columns if str(c) not in taken]
    if given:
        if given not in headings:
            raise TableError(f"{where} has no column '{given}'; {one_of(given, headings)}")
        return given
    if role in headings:
        return role
    words = WORDS[role]
    named = [c for c in headings if plain_heading(c) in words]
    if len(named) == 1 or (named and role == "date"):
        return min(named, key=lambda c: words.index(plain_heading(c)))
    if role == "asset" and not named:
        return ""
    if role == "date":
        dated = [c for c in headings if pd.api.types.is_datetime64_any_dtype(table[c])]
        named = dated[:1]
    if role in ("amount", "ratio") and not named:
        named = [c for c in headings if pd.api.types.is_numeric_dtype(table[c])]
    if len(named) == 1:
        return named[0]
    count = "no column" if not named else f"{len(named)} columns ({', '.join(named)})"
    raise TableError(f"{where} has {count} for the {role}; {_headings(table)}")


def _headings(table: pd.DataFrame) -> str:
    return f"its columns are {', '.join(map(str, table.columns))}. Name the column of each."


def release_column(headings: Sequence[str], where: str, role: str, given: str = "") -> str:
    """Heading of the period, the release date or the value in a table of releases.

    Parameters
    ----------
    headings : sequence of str
    where : str
        Address or file, for messages.
    role : {"period", "released", "value"}
    given : str
        A given heading.

    Raises
    ------
    TableError
        If it is absent.

    Examples
    --------
    >>> release_column(["Quarter", "Published", "GDP"], "gdp.csv", "released")
    'Published'
    >>> release_column(["Quarter", "date", "GDP"], "gdp.csv", "released")
    'date'
    """
    named = [h for h in headings if plain_heading(h) in _RELEASES[role]]
    wanted = given or (named[0] if named else "")
    if wanted in headings:
        return wanted
    if role == "released" and not given and "date" in headings:
        return "date"  # the reader's own name of the column of dates
    missing = f"'{wanted}'" if wanted else f"for the {role}"
    raise TableError(f"{where} has no column {missing}; its columns are {choices(headings)}.")
