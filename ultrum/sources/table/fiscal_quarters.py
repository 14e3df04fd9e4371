"""Quarters and half-years of fiscal years, such as FY04 Q1, as those of the calendar."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Final

from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import Grid, Row, content_width
from ultrum.sources.table.date_formats import month_of_name

_SAMPLE: Final = 60
_YEAR: Final = r"FY ?'?(?:(?:19|20)?\d\d[/-])?(?P<{}>(?:19|20)?\d\d)"
_SPAN: Final = r"(?:FY ?)?(?:19|20)\d\d[/-](?P<{}>\d\d(?:\d\d)?)"
_PART: Final = r"(?P<{}>[QH][1-4]|[1-4][QH])"
_LABEL: Final = re.compile(
    f"(?:{_YEAR.format('a')}|{_SPAN.format('b')})[ ,:-]*{_PART.format('k')}"
    f"|{_PART.format('l')}[ ,:-]*(?:{_YEAR.format('c')}|{_SPAN.format('d')})",
    re.IGNORECASE,
)
_YEAR_END: Final = re.compile(
    r"(?:fiscal|financial|accounting)? ?year[- ]?ends?(?:ing)?:? (?:in |on |at )?(?:the end of )?"
    r"(?:\d{1,2} )?([a-z]{3,9})",
    re.IGNORECASE,
)
_HALVES_AND_QUARTERS: Final = {"Q": 3, "H": 6}
_PIVOT: Final = 70  # two digits from here on are of the twentieth century


def year_end_in(text: str) -> int | None:
    """Month in which the fiscal year ends, by the words of a text.

    Examples
    --------
    >>> year_end_in("year ends June"), year_end_in("Financial year ending 31 March"), year_end_in("FY04")
    (6, 3, None)
    """
    for match in _YEAR_END.finditer(text):
        try:
            return month_of_name(match[1])
        except ValueError:
            continue
    return None


def is_fiscal_label(text: str) -> bool:
    """Whether a text is a quarter or half of a fiscal year."""
    return _LABEL.fullmatch(text) is not None


def in_calendar_quarters(grid: Grid, year_end: int | None) -> Grid:
    """The grid with quarters and half-years of fiscal years as those of the calendar.

    A fiscal year has the number of the calendar year in which it ends.

    Parameters
    ----------
    grid : Grid
        Cells of a file.
    year_end : int, optional
        Month in which the fiscal year ends; by default the one that the file states.

    Raises
    ------
    TableError
        If no month is stated, or the quarters are none of the calendar.
    """
    columns = {
        k
        for row in grid.rows[:_SAMPLE]
        for k, c in enumerate(row[:4])
        if isinstance(c, str) and is_fiscal_label(c.strip())
    }
    if not columns:
        return grid
    words = " ".join(cell_text(r[0]) for r in grid.rows if content_width(r) == 1)
    end = year_end or year_end_in(f"{words} {grid.above} {grid.below}")
    if end is None:
        raise TableError(
            f"{grid.name}: quarters of fiscal years need the month in which the year ends. Set dates='year ends "
            "June', with the month of these data."
        )
    rows: list[Row] = [
        [_calendar_label(c, end, grid.name) if k in columns else c for k, c in enumerate(row)]
        for row in grid.rows
    ]
    decision = ("fiscal years", f"end in month {end}; quarters are those of the calendar")
    return replace(grid, rows=rows, decisions=(*grid.decisions, decision))


def _calendar_label(cell: object, end: int, where: str) -> object:
    match = _LABEL.fullmatch(cell.strip()) if isinstance(cell, str) else None
    if match is None:
        return cell
    year = int(next(match[g] for g in "abcd" if match[g]))
    year += 0 if year > 99 else 1900 if year >= _PIVOT else 2000
    kind, digit = sorted((match["k"] or match["l"]).upper(), key=str.isdigit)
    months, number = _HALVES_AND_QUARTERS[kind], int(digit)
    if number * months > 12:
        return cell
    last = 12 * (year - 1) + end + number * months - 1  # months since January of year 0
    if end % months:
        raise TableError(
            f"{where}: '{cell}' ends in month {last % 12 + 1}, which ends no calendar "
            f"{'quarter' if months == 3 else 'half-year'}. Write the last day of each period in the file."
        )
    label = "Q" if kind == "Q" else "S"
    return f"{last // 12}-{label}{last % 12 // months + 1}"
