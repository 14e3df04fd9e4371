"""Merged periods: years written once for several rows or columns, filled in.

Statistical releases often print a year once, over its months or quarters or next to them, and leave the other
cells empty. Each function returns the grid with the full period of every row or column in its own cell.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace
from datetime import date, datetime, timedelta
from typing import Final

from ultrum.core.displayed_numbers import quantity
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import Grid, Row, is_empty, is_value
from ultrum.sources.table.date_formats import serial_moment
from ultrum.sources.table.periods_of_year import YEAR, label_part, part_of_year

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
            decisions = (
                "layout",
                f"years carried down over {carried} empty cells of column {column + 1}",
            )
            return replace(grid, rows=rows, decisions=(*grid.decisions, decisions))
    return grid


def _may_span_cells(rows: Sequence[Row], column: int) -> bool:
    """Whether among the first rows a year is above an empty cell."""
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
            (k for k in (i + 1, i + 2) if k < len(grid.rows) and not all(map(is_empty, grid.rows[k]))),
            None,
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
        decisions = (
            "layout",
            f"years on line {grid.lines[i]} over parts of years on line {grid.lines[under]}",
        )
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
        if len(set(numbers)) < len(numbers) or numbers not in (
            sorted(numbers),
            sorted(numbers, reverse=True),
        ):
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
        decisions = (
            "dates",
            f"{len(meant)} day numbers among dates in column {column + 1} read as dates",
        )
        return replace(grid, rows=rows, decisions=(*grid.decisions, decisions))
    return grid


def _instant(day: date) -> datetime:
    return day.replace(tzinfo=None) if isinstance(day, datetime) else datetime(day.year, day.month, day.day)
