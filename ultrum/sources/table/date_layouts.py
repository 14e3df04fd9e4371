"""Layouts of dates: parts of a year, merged periods, dates across, and several date columns side by side.

Statistical releases often print a year once, over its months or quarters or next to them, and leave the other
cells empty. Each function returns the grid with the full period of every row or column in its own cell.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import date, datetime, timedelta
from typing import Final

from ultrum.core.presentation import quantity
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import (
    Grid,
    Row,
    content_width,
    is_date,
    is_empty,
    is_value,
    is_word,
    shape_of,
)
from ultrum.sources.table.date_formats import (
    BARE,
    MONTHS_OF_QUARTER,
    NTH,
    NTHS,
    QUARTER_WORD,
    month_of_name,
    serial_moment,
    style_of,
)
from ultrum.sources.table.header_line import DATE_WORDS, PUBLICATION_WORDS
from ultrum.sources.table.number_formats_and_date_words import field_of, is_date_heading, quarter_in_words

ROMAN: Final = {"I": 1, "II": 2, "III": 3, "IV": 4}
YEAR: Final = re.compile(r"(1[6-9]|20|21)\d\d")
_MONTH: Final = re.compile(r"M?(0?[1-9]|1[0-2])", re.IGNORECASE)
_QUARTER: Final = re.compile(
    rf"[QT]0?(?P<a>[1-4])|(?P<b>[1-4])[QT]|(?:{QUARTER_WORD}) ?(?P<c>[1-4])|(?P<roman>I{{1,3}}|IV)"
    rf"|{NTH} ?(?:{QUARTER_WORD})|(?P<roman2>I{{1,3}}|IV)\.? ?(?:{QUARTER_WORD})",
    re.IGNORECASE,
)
_SPAN: Final = re.compile(MONTHS_OF_QUARTER, re.IGNORECASE)
_HALF: Final = re.compile(r"[HS]([12])|([12])[HS]|([12])(?:st|nd) half(?:[- ]year)?", re.IGNORECASE)


def part_of_year(cell: object) -> tuple[str, int] | None:
    """Kind (M, Q or S) and number of the part of a year in a cell, or None.

    Examples
    --------
    >>> part_of_year("Sep."), part_of_year("3rd quarter"), part_of_year("H2"), part_of_year("2024")
    (('M', 9), ('Q', 3), ('S', 2), None)
    """
    text = cell_text(cell).strip().rstrip(".:")
    if not text or len(text) > 24:
        return None
    if match := _MONTH.fullmatch(text):
        return "M", int(match[1])
    if match := _QUARTER.fullmatch(text):
        return "Q", _number(match.groupdict())
    if match := _SPAN.fullmatch(text):
        return "Q", (month_of_name(match["quarter"][:3]) + 2) // 3
    if match := _HALF.fullmatch(text):
        return "S", int(match[1] or match[2] or match[3])
    return _part_in_words(text)


def _part_in_words(text: str) -> tuple[str, int] | None:
    """A quarter or month by its name in any language."""
    quarter = quarter_in_words(text) if not text.isascii() or " " in text or "." in text else 0
    if quarter:
        return "Q", quarter
    return ("M", month_of_name(text)) if is_month_name(text) and not style_of(text) else None


def _number(parts: dict[str, str | None]) -> int:
    """Number of a quarter from the matching group of the pattern."""
    for group in ("a", "b", "c", "q"):
        if parts.get(group):
            return int(str(parts[group]))
    roman = parts.get("roman") or parts.get("roman2")
    return ROMAN[roman.upper()] if roman else NTHS[str(parts["nth"]).lower()[:3]]


def is_month_name(text: str) -> bool:
    """Whether a text is the name of a month in one of several languages, full or abbreviated."""
    if not text[:1].isalpha() or len(text) > 12 or not all(c.isalpha() or c == "." for c in text):
        return False
    try:
        month_of_name(text)
    except ValueError:
        return False
    return True


def label_part(year: str, part: tuple[str, int]) -> str:
    """SDMX-like name of a part of a year.

    Examples
    --------
    >>> label_part("2024", ("Q", 3)), label_part("2024", ("M", 3))
    ('2024-Q3', '2024-03')
    """
    kind, number = part
    return f"{year}-{number:02d}" if kind == "M" else f"{year}-{kind}{number}"


# Merged periods: years written once for several rows or columns, filled in

_FIRST_COLUMNS: Final = 4
_FIRST_ROWS: Final = 60
_SHARE: Final = 0.9
_SERIALS: Final = (10_000, 80_000)  # day numbers of 1927 to 2119
_NEAR: Final = timedelta(days=5 * 366)


def with_every_period(grid: Grid) -> Grid:
    """The grid with merged years repeated and day numbers among dates converted to dates."""
    grid = _serials_as_dates(grid)
    return _under_year_rows(_years_across(_years_down(grid)))


def _is_year(cell: object) -> bool:
    return bool(YEAR.fullmatch(cell_text(cell)))


def _years_down(grid: Grid) -> Grid:
    """Repeat a year next to the first of its months or quarters for all of them."""
    for column in range(_FIRST_COLUMNS):
        if not _may_span_cells(grid.rows[:_FIRST_ROWS], column):
            continue
        cells = [row[column] if len(row) > column else "" for row in grid.rows]
        years = [i for i, c in enumerate(cells) if _is_year(c)]
        if not years or len(years) > len(cells) / 2 or not _only_years(grid.rows, column, years):
            continue
        beside = _part_column(grid.rows, column, years[0])
        if beside is None:
            continue
        rows, year, carried = list(grid.rows), "", 0
        for i in range(years[0], len(rows)):
            row = rows[i]
            if len(row) <= max(column, beside):
                continue
            year = cell_text(row[column]) if _is_year(row[column]) else year
            if is_empty(row[column]) and part_of_year(row[beside]):
                rows[i] = [*row[:column], year, *row[column + 1 :]]
                carried += 1
        if carried:
            decisions = ("layout", f"years carried down over {carried} empty cells of column {column + 1}")
            return replace(grid, rows=rows, decisions=(*grid.decisions, decisions))
    return grid


def _may_span_cells(rows: Sequence[Row], column: int) -> bool:
    """Whether an empty cell follows a year in the first rows."""
    cells = [row[column] for row in rows if len(row) > column]
    return any(is_empty(b) and _is_year(a) for a, b in itertools.pairwise(cells))


def _only_years(rows: Sequence[Row], column: int, years: Sequence[int]) -> bool:
    """Whether the cells of rows with values are consecutive years, or empty."""
    held = [r[column] for r in rows[years[0] :] if len(r) > column and sum(map(is_value, r)) > 1]
    numbers = [int(cell_text(rows[i][column])) for i in years]
    steps = {b - a for a, b in itertools.pairwise(numbers)}
    return all(is_empty(c) or _is_year(c) for c in held) and (not steps or steps in ({1}, {-1}))


def _part_column(rows: Sequence[Row], column: int, first: int) -> int | None:
    """Column whose cells are parts of a year wherever the year is empty."""
    empty = [r for r in rows[first:] if len(r) > column and is_empty(r[column]) and any(map(is_value, r))]
    for other in range(_FIRST_COLUMNS):
        if other == column or len(empty) < 1:
            continue
        parts = sum(1 for r in empty if len(r) > other and part_of_year(r[other]))
        if parts >= _SHARE * len(empty):
            return other
    return None


def _years_across(grid: Grid) -> Grid:
    """Combine a row of years above a row of months or quarters into one row of periods."""
    for i, above in enumerate(grid.rows[:_FIRST_ROWS]):
        years = [c for c, cell in enumerate(above) if c and _is_year(cell)]
        if not years or not all(is_empty(c) or _is_year(c) for c in above[years[0] :]):
            continue
        under = next(
            (k for k in (i + 1, i + 2) if k < len(grid.rows) and not all(map(is_empty, grid.rows[k]))), None
        )
        if under is None:
            continue
        parts = {c: p for c, cell in enumerate(grid.rows[under]) if c >= years[0] and (p := part_of_year(cell))}
        if len(parts) < 2 or len({kind for kind, _ in parts.values()}) > 1:
            continue
        if not any(cell_text(grid.rows[under][c])[:1].isalpha() for c in parts):
            if not _count_up(years, parts):
                continue  # numbers under years are values
            kind = "M" if max(n for _, n in parts.values()) > 4 else "Q"
            parts = {c: (kind, n) for c, (_, n) in parts.items()}
        row, year = list(grid.rows[under]), ""
        for c in range(years[0], len(row)):
            year = cell_text(above[c]) if c < len(above) and _is_year(above[c]) else year
            row[c] = label_part(year, parts[c]) if c in parts else f"{year} {cell_text(row[c])}".strip()
        kept = [k for k in range(len(grid.rows)) if k not in (i, under)]
        rows = {k: grid.rows[k] for k in kept} | {under: row}
        order = sorted(rows)
        decisions = ("layout", f"years on line {grid.lines[i]} over parts of years on line {grid.lines[under]}")
        return replace(
            grid,
            rows=[rows[k] for k in order],
            lines=[grid.lines[k] for k in order],
            decisions=(*grid.decisions, decisions),
        )
    return grid


def _count_up(years: Sequence[int], parts: dict[int, tuple[str, int]]) -> bool:
    """Whether bare numbers count 1, 2, 3 … up to a full year below each year."""
    edges = [*years, 10**9]
    counts = [[n for c, (_, n) in parts.items() if low <= c < high] for low, high in itertools.pairwise(edges)]
    longest = max(map(len, counts))
    return longest in (4, 12) and all(c == list(range(1, len(c) + 1)) and len(c) > 1 for c in counts)


def _under_year_rows(grid: Grid) -> Grid:
    """Convert months or quarters below each year in one column to periods."""
    for column in range(2):
        if not any(_is_year(row[column]) for row in grid.rows[:_FIRST_ROWS] if len(row) > column):
            continue
        if not any(_names_part(row[column]) for row in grid.rows[:_FIRST_ROWS] if len(row) > column):
            continue
        cells = [cell_text(row[column]) if len(row) > column else "" for row in grid.rows]
        years = [i for i, c in enumerate(cells) if YEAR.fullmatch(c)]
        parts = {i: p for i, c in enumerate(cells) if c[:1].isalpha() and (p := part_of_year(c))}
        if not years or len(parts) < 2 * len(years) or min(parts) < years[0]:
            continue
        if len({kind for kind, _ in parts.values()}) > 1 or not _in_order(years, parts):
            continue
        rows: list[Row] = []
        lines: list[int] = []
        year = ""
        for i, row in enumerate(grid.rows):
            if i in years:
                year = cells[i]
                continue
            named = label_part(year, parts[i]) if i in parts else None
            rows.append([*row[:column], named, *row[column + 1 :]] if named else row)
            lines.append(grid.lines[i])
        decisions = (
            "layout",
            f"parts of years under {quantity(len(years), 'row')} of years; those rows are not used",
        )
        return replace(grid, rows=rows, lines=lines, decisions=(*grid.decisions, decisions))
    return grid


def _names_part(cell: object) -> bool:
    """Whether a cell is the name of a month or quarter."""
    text = cell_text(cell)
    return text[:1].isalpha() and part_of_year(text) is not None


def _in_order(years: Sequence[int], parts: dict[int, tuple[str, int]]) -> bool:
    """Whether the parts of each year are sorted and unique."""
    edges = [*years, 10**9]
    for first, last in itertools.pairwise(edges):
        numbers = [n for i, (_, n) in parts.items() if first < i < last]
        if len(set(numbers)) < len(numbers) or numbers not in (sorted(numbers), sorted(numbers, reverse=True)):
            return False
    return True


def _serials_as_dates(grid: Grid) -> Grid:
    """Convert day numbers of a spreadsheet among the dates of a column to dates, where they are close to them."""
    if grid.how != "sheet":
        return grid
    for column in range(_FIRST_COLUMNS):
        kinds = {type(r[column]) for r in grid.rows if len(r) > column}
        if not any(issubclass(k, date) for k in kinds) or not kinds & {int, float}:
            continue
        dates = [r[column] for r in grid.rows if len(r) > column and isinstance(r[column], date)]
        numbers = [
            i
            for i, r in enumerate(grid.rows)
            if len(r) > column
            and isinstance(r[column], int | float)
            and not isinstance(r[column], bool)
            and _SERIALS[0] <= r[column] <= _SERIALS[1]
        ]
        if not numbers or len(dates) < 2:
            continue
        low, high = min(map(_instant, dates)) - _NEAR, max(map(_instant, dates)) + _NEAR
        meant = {i: m for i in numbers if low <= (m := serial_moment(float(grid.rows[i][column]))) <= high}
        if not meant:
            continue
        rows = [[*r[:column], meant[i], *r[column + 1 :]] if i in meant else r for i, r in enumerate(grid.rows)]
        decisions = ("dates", f"{len(meant)} day numbers among dates in column {column + 1} read as dates")
        return replace(grid, rows=rows, decisions=(*grid.decisions, decisions))
    return grid


def _instant(day: date) -> datetime:
    return day.replace(tzinfo=None) if isinstance(day, datetime) else datetime(day.year, day.month, day.day)


# Tables with dates across: the row of dates, and its surroundings


def dates_across(grid: Grid) -> tuple[int, int] | None:
    """Row with the most adjacent dates above values, and their number."""
    dated: list[tuple[int, int]] = []
    for i, row in enumerate(grid.rows[:200]):
        count = sum(c > 0 and is_date(cell) for c, cell in enumerate(row))
        if count >= 2 and count >= 0.5 * (content_width(row) - 1) and not is_date(row[0]):
            dated.append((i, count))
    if not dated:
        return None
    label = _last_row(grid, lambda row: (is_word(row[0]) or bool(part_of_year(row[0]))) and _has_value(row))
    code = _last_row(grid, lambda row: cell_text(row[0]).isalnum() and _has_value(row))
    date_column = _last_row(grid, lambda row: is_date(row[0]))
    above_values = [
        (i, count)
        for i, count in dated
        if i < label or (i < code and i >= date_column and is_word(grid.rows[i][0]))
    ]
    return max(above_values, key=lambda found: found[1], default=None)


def _last_row(grid: Grid, holds: Callable[[Row], bool]) -> int:
    """Place of the last row of which something holds; −1 if there is none."""
    places = range(len(grid.rows) - 1, -1, -1)
    return next((i for i in places if grid.rows[i] and holds(grid.rows[i])), -1)


def _has_value(row: Row) -> bool:
    """Whether a row has a value after its first cell."""
    return any(map(is_value, row[1:]))


def parts_down(grid: Grid, row: int) -> bool:
    """Whether all rows below the dates are parts of a year, as in tables of years across and months down."""
    named = [r[0] for r in grid.rows[row + 1 :] if content_width(r) > 1]
    return len(named) > 1 and all(part_of_year(c) for c in named)


def without_other_columns(grid: Grid) -> tuple[Grid, list[tuple[str, str]]]:
    """The grid without columns to the right of the first date whose heading is not a date, and the columns not
    used.
    """
    head = grid.rows[0]
    first = next(c for c, cell in enumerate(head) if c and is_date(cell))
    width = max(map(len, grid.rows))
    others = [c for c in range(first, width) if c >= len(head) or not is_date(head[c])]
    filled_ones = [c for c in others if any(len(r) > c and not is_empty(r[c]) for r in grid.rows)]
    rows: list[Row] = [[cell for c, cell in enumerate(r) if c not in others] for r in grid.rows]
    names = [cell_text(head[c]) if c < len(head) and not is_empty(head[c]) else f"{c + 1}" for c in filled_ones]
    decisions = [("set aside", f"column '{n}', whose heading is not a date") for n in names]
    return replace(grid, rows=rows), decisions


def without_empty_rows(grid: Grid) -> Grid:
    """The grid without empty rows and rows of a single cell, which are prose."""
    kept = [i for i, row in enumerate(grid.rows) if content_width(row) > 1]
    rows, lines = [grid.rows[i] for i in kept], [grid.lines[i] for i in kept]
    return replace(grid, rows=rows, lines=lines)


def prose_below(grid: Grid, row: int) -> str:
    """Text of the single-cell rows below a row."""
    return "\n".join(cell_text(r[0]) for r in grid.rows[row + 1 :] if content_width(r) == 1)


def prose_above(grid: Grid, row: int) -> str:
    """All text above a row."""
    return "\n".join(" ".join(cell_text(c) for c in r if not is_empty(c)) for r in grid.rows[:row])


# Several date columns side by side: each has the dates of the value columns to its right

_SAMPLE: Final = 400
_FLAG: Final = re.compile(r"[A-Za-z*]{1,2}")  # in an extra cell of a row
_SHARE_OF_DATES: Final = 0.8  # of the filled cells of a column
_FEWEST: Final = 3


def with_flag_column(grid: Grid) -> Grid:
    """The grid with a heading for flags that stand in an extra cell of some rows, such as ``2024-01,7,p``."""
    rows = grid.rows
    first = next((i for i, r in enumerate(rows[:_SAMPLE]) if r and shape_of(r[0])), 0)
    width = content_width(rows[first - 1]) if first else 0
    if width < 2 or any(str(c)[:1].isdigit() for c in rows[first - 1][1:]):
        return grid
    dated = [i for i in range(first, len(rows)) if rows[i] and shape_of(rows[i][0])]
    longer = [i for i in dated if content_width(rows[i]) > width]
    flagged = all(
        content_width(rows[i]) == width + 1 and _FLAG.fullmatch(str(rows[i][width]).strip()) for i in longer
    )
    if not longer or not flagged or len(longer) == len(dated):
        return grid
    changed = list(rows)
    changed[first - 1] = [*rows[first - 1][:width], "status"]
    for i in dated:
        changed[i] = [*rows[i][: width + 1], *[""] * (width + 1 - len(rows[i]))]
    return replace(grid, rows=changed, decisions=(*grid.decisions, ("status", "letters after the last column")))


def parts_by_date_column(grid: Grid) -> list[Grid]:
    """One grid for each date column that has values to its right; the grid itself if there is only one.

    Parameters
    ----------
    grid : Grid
        Cells of a sheet or text.
    """
    rows = grid.rows[:_SAMPLE]
    first = next((i for i, r in enumerate(rows) if sum(bool(shape_of(c)) for c in r) > 1), None)
    if first is None:
        return [grid]
    width = max(map(len, rows))
    heads = [_heading(rows[:first], c) for c in range(width)]
    columns = [c for c in range(width) if _has_dates(rows[first:], c, heads[c])]
    ends = [*columns[1:], width]
    if len(columns) < 2 or not all(_has_values(rows[first:], c, e) for c, e in zip(columns, ends, strict=True)):
        return [grid]
    words = "\n".join(cell_text(r[0]) for r in rows[:first] if content_width(r) == 1)
    parts = [_part(grid, first, start, end) for start, end in zip(columns, ends, strict=True)]
    return [parts[0], *(replace(p, above=f"{words}\n{p.above}") for p in parts[1:])]


def _heading(rows: Sequence[Row], column: int) -> str:
    return next((cell_text(r[column]) for r in reversed(rows) if len(r) > column and not is_empty(r[column])), "")


def _has_dates(rows: Sequence[Row], column: int, heading: str) -> bool:
    """Whether a column has the dates of observations."""
    cells = [r[column] for r in rows if len(r) > column and not is_empty(r[column])]
    shapes = [shape_of(c) for c in cells]
    dates = sum(map(bool, shapes))
    if dates < max(_FEWEST, _SHARE_OF_DATES * len(cells)) or PUBLICATION_WORDS.search(heading.lower()):
        return False
    word = heading.lower()
    named = word in DATE_WORDS or is_date_heading(word) or bool(field_of(word))
    return named or (not heading and not all(s in BARE for s in shapes if s))


def _has_values(rows: Sequence[Row], start: int, end: int) -> bool:
    """Whether a column of values stands between a date column and the next."""
    return any(is_value(c) for r in rows for c in r[start + 1 : end])


def _part(grid: Grid, first: int, start: int, end: int) -> Grid:
    """The columns of one date column, with the rows that have a date, and the lines of the header."""
    rows: list[Row] = []
    kept = []
    for i, row in enumerate(grid.rows):
        alone = content_width(row) == 1
        if i < first:
            rows.append([*row[start:end]] if not alone else list(row[:1]) if not start else [])
        elif alone and not is_empty(row[0]) and not shape_of(row[0]):
            rows.append(list(row[:1]))  # a note holds for all parts
        elif len(row) > start and any(not is_empty(c) for c in row[start:end]):
            rows.append([*row[start:end]])
        else:
            continue
        kept.append(i)
    lines = [grid.lines[i] for i in kept]
    return replace(grid, rows=rows, lines=lines)
