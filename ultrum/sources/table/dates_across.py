"""Tables with dates across: the row of dates, and its surroundings."""

from __future__ import annotations

from dataclasses import replace

from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import Grid, Row, content_width, is_date, is_empty, is_value, is_word
from ultrum.sources.table.periods_of_year import part_of_year


def dates_across(grid: Grid) -> tuple[int, int] | None:
    """Row with the most adjacent dates above values, and their number."""
    best: tuple[int, int] | None = None
    for i, row in enumerate(grid.rows[:200]):
        dates = [c for c, cell in enumerate(row) if c and is_date(cell)]
        if len(dates) < 2 or len(dates) < 0.5 * (content_width(row) - 1) or is_date(row[0]):
            continue
        coded = is_word(row[0]) and not any(is_date(r[0]) for r in grid.rows[i + 1 :] if r)
        labelled = [
            r
            for r in grid.rows[i + 1 :]
            if r
            and (is_word(r[0]) or part_of_year(r[0]) or (coded and cell_text(r[0]).isalnum()))
            and any(is_value(c) for c in r[1:])
        ]
        if labelled and (best is None or len(dates) > best[1]):
            best = (i, len(dates))
    return best


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
