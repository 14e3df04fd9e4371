"""Several date columns side by side: each has the dates of the value columns to its right."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Final

from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import Grid, Row, content_width, is_empty, is_value, shape_of
from ultrum.sources.table.date_formats import BARE
from ultrum.sources.table.date_words import field_of, is_date_heading
from ultrum.sources.table.header_line import DATE_WORDS, PUBLICATION_WORDS

_SAMPLE: Final = 400
_SHARE: Final = 0.8  # of the filled cells of a column
_FEWEST: Final = 3


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
    if dates < max(_FEWEST, _SHARE * len(cells)) or PUBLICATION_WORDS.search(heading.lower()):
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
