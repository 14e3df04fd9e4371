"""Tables whose dates run across: the row that holds them, and what stands around it."""

from __future__ import annotations

from ultrum.sources.table.dates import cell_text
from ultrum.sources.table.grid import Grid, filled, is_date, is_empty, is_value, is_word


def dates_across(grid: Grid) -> tuple[int, int] | None:
    """Row with the most dates side by side above values, and their number."""
    best: tuple[int, int] | None = None
    for i, row in enumerate(grid.rows[:200]):
        dates = [c for c, cell in enumerate(row) if c and is_date(cell)]
        if len(dates) < 2 or len(dates) < 0.5 * (filled(row) - 1) or is_date(row[0]):
            continue
        labelled = [
            r for r in grid.rows[i + 1 :] if r and is_word(r[0]) and any(is_value(c) for c in r[1:])
        ]
        if labelled and (best is None or len(dates) > best[1]):
            best = (i, len(dates))
    return best


def without_empty_rows(grid: Grid) -> Grid:
    """The grid without rows of a single cell, which are prose, or of none."""
    kept = [i for i, row in enumerate(grid.rows) if filled(row) > 1]
    return Grid(
        grid.name,
        [grid.rows[i] for i in kept],
        [grid.lines[i] for i in kept],
        grid.how,
        grid.decisions,
    )


def prose_above(grid: Grid, row: int) -> str:
    """All text above a row."""
    return "\n".join(" ".join(cell_text(c) for c in r if not is_empty(c)) for r in grid.rows[:row])
