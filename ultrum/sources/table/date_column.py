"""The date column of a table, found by its cells and its heading."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Final

from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import Grid, Row, is_empty, is_value, shape_of
from ultrum.sources.table.date_formats import BARE, BY_NAME, DateStyle
from ultrum.sources.table.date_words import field_of, is_date_heading
from ultrum.sources.table.header_line import DATE_WORDS, PUBLICATION_WORDS

_DEEPEST_DATE_COLUMN: Final = 12
_SAMPLE: Final = 300


@dataclass(frozen=True)
class LayoutOptions:
    """Options on the layout; ``style`` is the given form of the dates."""

    columns: list[str] | None = None
    header: int | None = None
    date_column: str | int | None = None
    weak_dates: bool = False
    style: DateStyle | None = None

    def shape(self, cell: object) -> str:
        """Name of the style of a date; empty if the cell is none."""
        if self.style is not None and not self.style.weak and not isinstance(cell, date):
            return self.style.name if self.style.matches(cell_text(cell)) else ""
        return shape_of(cell)

    def frequency(self, shape: str) -> str:
        """Frequency code of a style of dates."""
        if shape == "date":
            return "D"
        return (
            self.style.frequency
            if self.style is not None and shape == self.style.name
            else BY_NAME[shape].frequency
        )


def date_column_of(grid: Grid, layout: LayoutOptions) -> tuple[int, int]:
    """Column with the most dates next to values, and their number; bare numbers count less."""
    width = min(max(map(len, grid.rows), default=0), _DEEPEST_DATE_COLUMN)
    if isinstance(layout.date_column, int):
        return layout.date_column - 1, len(grid.rows)
    rows = _sample(grid.rows)
    ranks = _ranks(grid, width)
    best, most, score = 0, 0, 0.0
    for column in range(width):
        dated = [(layout.shape(r[column]), r) for r in rows if len(r) > column]
        better = [(s, r) for s, r in dated if s and _has_more(r, column)]
        weight = sum((0.6 if s in BARE else 1.0) * (1.0 if _has_value(r, column) else 0.5) for s, r in better)
        weight *= 0.98**column * ranks[column]
        if weight > score * 1.05:
            best, most, score = column, len(better), weight
    if not most and layout.weak_dates:
        return 0, sum(1 for r in rows if r and is_value(r[0]))
    named = _option_date_column(grid, layout)
    if named is not None:
        return named, len(rows)
    if most and layout.columns is None:
        _refuse_other_date_column(grid, best, width)
    return best, most


def _refuse_other_date_column(grid: Grid, best: int, width: int) -> None:
    """Refuse bare numbers as dates if another column is headed as the dates and is not understood."""
    first = next((i for i, r in enumerate(grid.rows[:200]) if len(r) > best and shape_of(r[best])), 0)
    if not first or shape_of(grid.rows[first][best]) not in BARE:
        return
    head = [cell_text(c) for c in grid.rows[first - 1]][:width]
    dated = [k for k, name in enumerate(head) if k != best and is_date_heading(name)]
    if not dated or len(head) <= best or is_date_heading(head[best]) or field_of(head[best]):
        return
    cell = cell_text(grid.rows[first][dated[0]]) if len(grid.rows[first]) > dated[0] else ""
    if cell:
        raise TableError(
            f"{grid.name}: column '{head[dated[0]]}' is headed as the dates, and '{cell}' is not understood. Set "
            f"dates= to the form of its cells, such as '%d.%m.%Y', or date_column='{head[best]}'."
        )


def _ranks(grid: Grid, width: int) -> list[float]:
    """Fit of the heading of each column to dates of observations; dates of publication do not fit."""
    first = next((i for i, r in enumerate(grid.rows[:200]) if any(shape_of(c) for c in r[:width])), 0)
    head = [cell_text(c).lower() for c in grid.rows[first - 1]] if first else []
    named = [*head, *[""] * width][:width]
    return [
        0.5 if PUBLICATION_WORDS.search(n) else 1.3 if n.rpartition(".")[2] in DATE_WORDS else 1.0 for n in named
    ]


def _sample(rows: Sequence[Row]) -> Sequence[Row]:
    """All rows of a small grid; for a large one the first rows and a spread sample."""
    if len(rows) <= 2 * _SAMPLE:
        return rows
    return [*rows[:_SAMPLE], *rows[_SAMPLE :: max(1, (len(rows) - _SAMPLE) // _SAMPLE)]]


def _option_date_column(grid: Grid, layout: LayoutOptions) -> int | None:
    """Column with the given heading of the dates."""
    if not isinstance(layout.date_column, str):
        return None
    for row in grid.rows[:200]:
        texts = [cell_text(c) for c in row]
        if layout.date_column in texts:
            return texts.index(layout.date_column)
    raise TableError(f"{grid.name}: there is no column '{layout.date_column}'.")


def _has_more(row: Row, column: int) -> bool:
    return any(not is_empty(c) for i, c in enumerate(row) if i != column)


def _has_value(row: Row, column: int) -> bool:
    return any(is_value(c) or is_empty(c) for i, c in enumerate(row) if i != column)
