"""Dividends and splits among prices: rows such as "0.35 Dividend", and columns that are zero on most days."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.array_types import Dates, Floats
from ultrum.core.currency.exchange_rates import is_currency
from ultrum.sources.table.cell_grid import Row, is_empty

_DIVIDEND: Final = (
    r"(?:cash |special |final |interim |ordinary )?(?:dividend\w*|utdelning|udbytte|utbytte|osinko|dywidend\w*"
    r"|osalék|temettü|дивиденд\w*|μέρισμα|配当金?|股息|배당금?)"
)
_SPLIT: Final = (
    r"(?:reverse )?(?:stock |share |aktien|aktie|aktsia)?split\w*|frazionamento|desdobramento|desdoblamiento"
    r"|fractionnement|podział akcji|сплит|дробление|株式分割|拆分|액면분할"
)
_NUMBER: Final = r"[+]?\d[\d'’  ]*(?:[.,]\d+)?"
_RATIO: Final = r"(?P<new>\d+(?:\.\d+)?) ?(?::|/|-?for-?| for | zu | pour | per ) ?(?P<old>\d+(?:\.\d+)?)"
_MONEY: Final = r"(?P<before{0}>[A-Z]{{3}} ?)?(?P<amount{0}>" + _NUMBER + r")(?P<after{0}> ?[A-Z]{{3}})?"
_ANY: Final = re.compile(rf"{_DIVIDEND}|{_SPLIT}", re.IGNORECASE)
_OF_DIVIDEND: Final = re.compile(
    rf"(?i:{_DIVIDEND})[ :]*(?:of )?{_MONEY.format(1)}|{_MONEY.format(2)} *(?i:{_DIVIDEND})"
)
_OF_SPLIT: Final = re.compile(
    rf"(?i:{_SPLIT})[ :]*{_RATIO}|{_RATIO.replace('new', 'n2').replace('old', 'o2')} *(?i:{_SPLIT})"
)
_SHARE_OF_ROWS: Final = 0.5  # more rows of events than prices are a table of events

_DIVIDEND_HEADING: Final = re.compile(r"(?:cash |gross )?dividends?(?: amount| per share)?|dps", re.IGNORECASE)
_SPLIT_HEADING: Final = re.compile(r"(?:stock |share )?splits?(?: ratio| factor| coefficient)?", re.IGNORECASE)
_SHARE_OF_BLANKS: Final = 0.8  # days without an event in a column of events

Kind = Literal["dividends", "splits"]


@dataclass(frozen=True)
class EventRow:
    """A dividend or split in the row of a price table.

    Attributes
    ----------
    kind : {"dividends", "splits"}
    number : float
        Amount per share, or new shares per old share.
    currency : str
        Code, if the row states one.
    """

    kind: Kind
    number: float
    currency: str = ""


def event_in(row: Row, date_column: int) -> EventRow | None:
    """The event of a row whose cells have nothing else than a date and the event.

    Examples
    --------
    >>> event_in(["2024-01-31", "0.35 Dividend", "", ""], 0)
    EventRow(kind='dividends', number=0.35, currency='')
    >>> event_in(["2024-01-31", "Split", "2:1"], 0).number, event_in(["2024-01-31", "9", "Split 2:1"], 0)
    (2.0, None)
    """
    if not any(isinstance(c, str) and c.upper() != c.lower() for c in row[date_column + 1 : date_column + 9]):
        return None
    cells = [str(c).strip() for k, c in enumerate(row) if k != date_column and not is_empty(c)]
    text = " ".join(dict.fromkeys(c for c in cells if c not in ("-", "–", "null", "n/a")))
    if len(text) > 60 or not _ANY.search(text):
        return None
    if match := _OF_SPLIT.fullmatch(text):
        new, old = (float(match[a] or match[b]) for a, b in (("new", "n2"), ("old", "o2")))
        return EventRow("splits", new / old) if old else None
    if match := _OF_DIVIDEND.fullmatch(text):
        code = next((t for g in ("before1", "after1", "before2", "after2") if (t := match[g])), "").strip()
        number = _decimal(match["amount1"] or match["amount2"])
        return EventRow("dividends", number, code if is_currency(code) else "")
    return None


def _decimal(text: str) -> float:
    """An amount per share; its last mark is the decimal mark."""
    return float(re.sub(r"[^\d.]", "", text.replace(",", ".")))


def events_among(rows: Sequence[Row], lines: Sequence[int], date_column: int) -> dict[int, EventRow]:
    """Events by line, unless they are most of the rows."""
    events = {
        line: e for row, line in zip(rows, lines, strict=True) if (e := event_in(row, date_column)) is not None
    }
    return events if len(events) <= _SHARE_OF_ROWS * len(rows) else {}


def event_tables(events: Mapping[int, EventRow], dates: Dates) -> dict[str, pd.DataFrame]:
    """Tables of the dividends and splits, by name.

    Parameters
    ----------
    events : mapping of int to EventRow
        By row.
    dates : ndarray, shape (rows,)
        Instants of the rows.
    """
    tables: dict[str, pd.DataFrame] = {}
    for kind, number in (("dividends", "amount"), ("splits", "ratio")):
        held = [(row, e) for row, e in events.items() if e.kind == kind]
        if not held:
            continue
        days = pd.DatetimeIndex(dates[[row for row, _ in held]]).normalize()
        table = pd.DataFrame({"date": days, number: [e.number for _, e in held]})
        if any(e.currency for _, e in held):
            table["currency"] = [e.currency for _, e in held]
        tables[kind] = table
    return tables


def is_event_heading(heading: str) -> bool:
    """Whether a heading is that of a column of dividends or splits."""
    plain = heading.replace("_", " ").strip()
    return bool(_DIVIDEND_HEADING.fullmatch(plain) or _SPLIT_HEADING.fullmatch(plain))


def events_in_columns(columns: Mapping[str, Floats], dates: Dates) -> dict[str, pd.DataFrame]:
    """Dividends and splits in columns of their own, which are zero or empty on most days.

    Parameters
    ----------
    columns : mapping of str to ndarray, shape (rows,)
        Columns of numbers by heading.
    dates : ndarray, shape (rows,)
        Instants of the rows.

    Examples
    --------
    >>> days = np.arange("2024-01-01", "2024-01-11", dtype="datetime64[D]")
    >>> paid = np.array([0, 0, 0, 0.35, 0, 0, 0, 0, 0, 0])
    >>> events_in_columns({"Dividends": paid}, days)["dividends"]["amount"].tolist()
    [0.35]
    """
    tables: dict[str, pd.DataFrame] = {}
    for kind, number, heading, nothing in (
        ("dividends", "amount", _DIVIDEND_HEADING, (0.0,)),
        ("splits", "ratio", _SPLIT_HEADING, (0.0, 1.0)),
    ):
        named = [c for n, c in columns.items() if heading.fullmatch(n.replace("_", " ").strip())]
        if len(named) != 1:
            continue
        held = np.isfinite(named[0]) & ~np.isin(named[0], nothing)
        if 0 < held.sum() <= (1.0 - _SHARE_OF_BLANKS) * len(held):
            days = pd.DatetimeIndex(dates[held]).normalize()
            tables[kind] = pd.DataFrame({"date": days, number: named[0][held]})
    return tables
