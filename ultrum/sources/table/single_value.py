"""A single value in a page or text, located by the words next to it."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Final

from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import read_dates
from ultrum.sources.table.cell_grid import column_array
from ultrum.sources.table.html_tables import page_text
from ultrum.sources.table.number_formats import decimal_mark, read_numbers

_NUMBER: Final = re.compile(
    r"(?P<pre>[A-Z]{3}|[€$£¥])?\s?(?P<number>[-−(]?\d(?:[\d.,' \u00a0]*\d)?\)?)"
    r"\s?(?P<post>%|per ?cent|[A-Z]{3}\b)?"
)
_REACH: Final = 80
_DATE: Final = re.compile(
    r"(?:as (?:of|at)|on|dated?|updated):?\s+((?:\w+,? )?\d{1,2}(?:st|nd|rd|th)?[ ./-]\w+[ ./-]\d{2,4}|"
    r"\d{4}-\d{2}-\d{2}|\w+ \d{1,2},? \d{4})",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class LoneFigure:
    """A value, the words around it, and its date on the page."""

    value: float
    percent: bool
    currency: str
    words: str
    day: str = ""


def find_figure(body: bytes, beside: str, name: str, decimal: str | None = None) -> LoneFigure:
    """The number after some words of a page.

    Raises
    ------
    TableError
        If the words are absent, no number follows them, or different numbers do.
    """
    text = page_text(body, name)
    wanted = re.compile(r"\s+".join(re.escape(w) for w in beside.split()), re.IGNORECASE)
    places = list(wanted.finditer(text))
    if not places:
        raise TableError(f"{name}: it does not contain the words '{beside}'. It begins: '{text[:80]}'.")
    figures = [f for p in places if (f := _after(text, p.end(), name, decimal)) is not None]
    if not figures:
        raise TableError(f"{name}: no number follows '{beside}' within {_REACH} characters.")
    if len({f.value for f in figures}) > 1:
        phrases = " and ".join(f"'{f.words}'" for f in figures[:3])
        raise TableError(
            f"{name}: different numbers follow '{beside}': {phrases}. Quote more of the words before the number."
        )
    return figures[0]


def _after(text: str, start: int, name: str, decimal: str | None) -> LoneFigure | None:
    """The first number after a position that is not part of a date."""
    stretch = text[start : start + _REACH]
    dated = [m.span(1) for m in _DATE.finditer(stretch)]
    for match in _NUMBER.finditer(stretch):
        if any(a <= match.start("number") < b for a, b in dated):
            continue
        cell = match["number"].strip()
        mark = decimal_mark([cell], decimal, name)
        read = read_numbers(column_array([cell]), mark, frozenset())
        if read.values[0] in (float("inf"),):
            continue
        post = (match["post"] or "").strip()
        percent = post.lower() in ("%", "percent", "per cent")
        currency = match["pre"] or ("" if percent else post)
        words = text[max(0, start - 40) : start + match.end()].strip()
        return LoneFigure(float(read.values[0]), percent, currency, words, _day_near(text, start))
    return None


def _day_near(text: str, place: int) -> str:
    """The date of a page's values, as an ISO date."""
    dates = [(abs(m.start() - place), m[1]) for m in _DATE.finditer(text)]
    for _, words in sorted(dates):
        try:
            moments = read_dates(column_array([words]), None, "page").moments
        except TableError:
            continue
        return str(moments[0].astype("datetime64[D]"))
    return ""
