"""Tables without dates, such as rates by term on a page, found by their headings, for a given day."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ultrum.core.displayed_numbers import quantity
from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import Grid, Row, is_empty, is_value


def add_day_column(grids: Sequence[Grid], headings: Sequence[str], day: str, name: str) -> Grid:
    """The only table with some headings, with a day added to each of its rows.

    Parameters
    ----------
    grids : sequence of Grid
    headings : sequence of str
        Parts of the names of its columns; the first column names the rows.
    day : str
        ISO date of the values.
    name : str
        Location, for messages.

    Raises
    ------
    TableError
        If no table or several have the headings, or no day is stated.
    """
    candidates = [(g, i) for g in grids if (i := _heading_row(g, headings)) is not None]
    if len(candidates) != 1:
        many = f"{quantity(len(candidates), 'table')} have" if candidates else "no table has"
        raise TableError(f"{name}: {many} the headings {', '.join(headings)}.")
    grid, at = candidates[0]
    if not day:
        raise TableError(
            f"{name}: the table with {', '.join(headings)} has no dates. Set its date, such as on='2024-03-15'."
        )
    names = [cell_text(c) for c in grid.rows[at]]
    width = len(names)
    body = [row for row in grid.rows[at + 1 :] if len(row) >= width and _has_values(row)]
    if not body:
        raise TableError(f"{name}: there are no rows below the headings {', '.join(headings)}.")
    labels = next(k for k, n in enumerate(names) if headings[0].lower() in n.lower())
    rows: list[Row] = [["date", names[labels], *_without(names, labels)]]
    rows += [[day, cell_text(row[labels]), *_without(row[:width], labels)] for row in body]
    lines = [grid.lines[at], *[grid.lines[grid.rows.index(row)] for row in body]]
    decision = ("dates", f"the table has no dates; all values are of {day}")
    return replace(grid, rows=rows, lines=lines, decisions=(*grid.decisions, decision))


def _heading_row(grid: Grid, headings: Sequence[str]) -> int | None:
    """Index of the first row with every heading."""
    wanted = [h.lower() for h in headings]
    for i, row in enumerate(grid.rows):
        texts = [cell_text(c).lower() for c in row]
        if all(any(w in t for t in texts) for w in wanted):
            return i
    return None


def _has_values(row: Row) -> bool:
    return any(is_value(c) for c in row) and not all(map(is_empty, row))


def _without(row: Sequence[object], place: int) -> list[object]:
    return [c for k, c in enumerate(row) if k != place]
