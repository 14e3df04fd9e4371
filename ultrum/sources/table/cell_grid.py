"""The grid of cells of a table, from any kind of file, also of tables without dates."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Array, Dates, Ints
from ultrum.core.presentation import quantity
from ultrum.errors import TableError
from ultrum.sources.download_and_limits import current
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.date_formats import style_of
from ultrum.sources.table.number_formats_and_date_words import is_blank, is_missing, is_number

Row = Sequence[Any]
_RULE: Final = re.compile(r"[:|+]?[-=_─━═]{2,}[:|+]?")


@dataclass(frozen=True)
class Grid:
    """Cells of one sheet, page table or text.

    Attributes
    ----------
    name : str
        Name of the sheet, caption of the table, or name of the file.
    rows : list of rows
        Cells: text, numbers, dates or None.
    lines : list of int
        Line or row number of each row in its file, from 1.
    how : str
        Name of the delimiter, in words.
    above, below : str
        Text of a page around its table.
    beside : tuple of (str, str)
        Names and texts of files in the archive next to the table, such as a read-me.
    """

    name: str
    rows: list[Row]
    lines: list[int]
    how: str = ""
    decisions: tuple[tuple[str, str], ...] = field(default=())
    above: str = ""
    below: str = ""
    beside: tuple[tuple[str, str], ...] = ()

    def check_size(self, where: str) -> Grid:
        """The grid itself, unless it exceeds the limits of a table."""
        current().check_shape(len(self.rows), max(map(len, self.rows), default=0), where)
        return self

    def transpose(self) -> Grid:
        """The transposed grid; lines then count columns."""
        width = max(map(len, self.rows), default=0)
        padded = [[*row, *[""] * (width - len(row))] for row in self.rows]
        turned: list[Row] = [list(column) for column in zip(*padded, strict=True)]
        return replace(self, rows=turned, lines=list(range(1, width + 1)))


def repeat_count(attribute: str | None) -> int:
    """How often an element of an OpenDocument sheet stands, by its attribute.

    >>> repeat_count("3"), repeat_count(None)
    (3, 1)
    """
    return int(attribute) if attribute and attribute.isdigit() else 1


def without_empty_start(grid: Grid) -> Grid:
    """The grid without columns that are empty in all rows, to the left of the table."""
    start = min(
        (next((k for k, c in enumerate(row) if not is_empty(c)), 1 << 30) for row in grid.rows), default=0
    )
    return replace(grid, rows=[row[start:] for row in grid.rows]) if 0 < start < 1 << 30 else grid


def is_rule(row: Row) -> bool:
    """Whether a row is a line of dashes below the headings or above the totals.

    Examples
    --------
    >>> is_rule(["----", "-----"]), is_rule(["2024-01", "--"])
    (True, False)
    """
    filled = [c for c in row if not is_empty(c)]
    return bool(filled) and all(isinstance(c, str) and _RULE.fullmatch(c.strip()) for c in filled)


def without_rules(grid: Grid) -> Grid:
    """The grid with lines of dashes as blank lines."""
    rules = [i for i, row in enumerate(grid.rows) if row and str(row[0])[:1] in "-=_─━═:|+" and is_rule(row)]
    if not rules:
        return grid
    rows = list(grid.rows)
    for i in rules:
        rows[i] = []
    return replace(grid, rows=rows)


def shown_rows(grid: Grid, most: int = 3) -> str:
    """The first rows of a grid for a message, with advice if they contain dates."""
    rows = [" | ".join(cell_text(c) for c in r[:8])[:80] for r in grid.rows if not all(map(is_empty, r))]
    if not rows:
        return "it is empty."
    listed = "; ".join(f"'{r}'" for r in rows[:most])
    return (
        f"it begins {listed}. Check that it is the right file. If a column has dates, set date_column= to its "
        "heading and dates= to their form."
    )


def is_date(cell: object) -> bool:
    """Whether a cell is a date or written like one."""
    if isinstance(cell, str):
        return bool(style_of(cell_text(cell)))
    if isinstance(cell, date):
        return True
    return isinstance(cell, float | int) and not isinstance(cell, bool) and bool(style_of(cell_text(cell)))


def shape_of(cell: object) -> str:
    """Name of the style of a date; empty if the cell is none."""
    if isinstance(cell, str):
        return style_of(cell_text(cell))
    if isinstance(cell, date):
        return "date"
    if isinstance(cell, float | int) and not isinstance(cell, bool):
        return style_of(cell_text(cell))
    return ""


def is_empty(cell: object) -> bool:
    """Whether a cell is empty."""
    if isinstance(cell, str):
        return not cell or cell.isspace()
    return cell is None or (isinstance(cell, float) and cell != cell)  # noqa: PLR0124


def is_value(cell: object) -> bool:
    """Whether a cell is a number, or a missing-value code other than an empty cell."""
    if isinstance(cell, str):
        return is_number(cell) or (bool(cell.strip()) and is_missing(cell))
    return isinstance(cell, int | float) and not isinstance(cell, bool) and not is_empty(cell)


def is_word(cell: object) -> bool:
    """Whether a cell is text other than a number, a date or a missing-value code."""
    return isinstance(cell, str) and bool(cell.strip()) and not is_value(cell) and not is_date(cell)


def content_width(row: Row) -> int:
    """Number of cells up to the last that is not empty."""
    count = len(row)
    while count and is_empty(row[count - 1]):
        count -= 1
    return count


def column_array(cells: Sequence[object]) -> Array:
    """A column as an array: of floats if all cells are numbers, otherwise of objects."""
    kinds = set(map(type, cells))
    if kinds <= {float, int} and kinds:
        return np.array(cells, dtype=np.float64)
    column = np.empty(len(cells), dtype=object)
    column[:] = cells
    return column


# Tables without dates, such as rates by term on a page, found by their headings, for a given day


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


# Columns that name the rows: text or codes that identify each row of a date

_ATTRIBUTES: Final = frozenset(
    ("currency", "unit", "units", "name", "title", "status", "obs_status", "note", "notes")
)
_LAST_RESORT: Final = ("currency", "name", "title")
_IDENTIFIERS: Final = frozenset(
    (
        "asset",
        "ticker",
        "symbol",
        "isin",
        "security",
        "instrument",
        "stock",
        "company",
        "code",
        "region",
        "series",
    )
)
_MOST_KEYS: Final = 4
_MOST_PLACES: Final = 1 << 27  # bytes of a table of places
_REPEATS: Final = 2  # an identifier is next to so many dates at least, on average


def key_columns(texts: Mapping[str, Array], moments: Dates) -> list[str] | None:
    """Text columns that identify each row of a date: none needed, one or more, or None if none does.

    Parameters
    ----------
    texts : mapping of str to array
        Columns of text.
    moments : array of datetime64
        Dates of the rows.
    """
    steps = np.diff(moments.astype(np.int64))
    if (steps > 0).all() or pd.Series(moments).is_unique:
        return _identifier_columns(texts)
    keys = _identifying([n for n in texts if n.lower() not in _ATTRIBUTES], texts, moments)
    return keys or _identifying([n for n in texts if n.lower() in _LAST_RESORT], texts, moments)


def _identifier_columns(texts: Mapping[str, Array]) -> list[str]:
    """A column labelled as an identifier with several values that each occur more than once on average."""
    for name, cells in texts.items():
        count = len(pd.unique(pd.Series(cells)))
        if name.strip().lower() in _IDENTIFIERS and 1 < count <= len(cells) / _REPEATS:
            return [name]
    return []


def _identifying(names: Sequence[str], texts: Mapping[str, Array], moments: Dates) -> list[str] | None:
    """The first column, or the first few together, that identify the rows of each date."""
    days, codes = codes_of(moments), {name: codes_of(texts[name]) for name in names}
    for name in names:
        if not rows_repeat([days, codes[name]]):
            return [name]
    for count in range(2, min(len(names), _MOST_KEYS) + 1):
        if not rows_repeat([days, *(codes[name] for name in names[:count])]):
            return list(names[:count])
    return None


class CodedTexts(np.ndarray[tuple[int], np.dtype[np.object_]]):
    """Texts with the integer of each, so that a million cells are distinguished once; a part of them has none."""

    codes: Ints | None

    @classmethod
    def of(cls, distinct: Sequence[str], codes: Ints) -> CodedTexts:
        """The texts of codes."""
        texts = np.asarray(distinct, dtype=object)[codes].view(cls)
        texts.codes = codes
        return texts

    def __array_finalize__(self, source: object) -> None:
        """Another array has no codes."""
        self.codes = None


def codes_of(values: Array) -> Ints:
    """An integer for each distinct value."""
    if isinstance(values, CodedTexts) and values.codes is not None:
        return values.codes
    numbers = values.view(np.int64) if values.dtype.kind in "mM" else values
    return np.asarray(pd.factorize(numbers, use_na_sentinel=False)[0], dtype=np.int64)


def first_rows(codes: Ints) -> Ints:
    """The first row of each code, −1 for a code that no row has.

    Examples
    --------
    >>> first_rows(np.array([2, 0, 2])).tolist()
    [1, -1, 0]
    """
    rows = np.full(int(codes.max(initial=-1)) + 1, -1)
    rows[codes[::-1]] = np.arange(len(codes))[::-1]
    return rows


def rows_repeat(columns: Sequence[Ints]) -> bool:
    """Whether a row of codes stands twice.

    Examples
    --------
    >>> rows_repeat([np.array([0, 0, 1]), np.array([0, 1, 0])]), rows_repeat([np.array([0, 1, 0])])
    (False, True)
    """
    rows = columns[0]
    for codes in columns[1:]:
        rows = rows * (int(codes.max(initial=0)) + 1) + codes
        if rows.max(initial=0) > _MOST_PLACES:
            rows = codes_of(rows)
    places = np.zeros(int(rows.max(initial=-1)) + 1, dtype=bool)
    places[rows] = True
    return int(np.count_nonzero(places)) < len(rows)


def identifier_column(cells: Mapping[str, Array], numeric: Sequence[str], moments: Dates) -> str | None:
    """The column of integer codes, if the rows of a date need a key.

    A code repeats across dates and is unique within a date; amounts are not.
    """
    numbers = set(numeric)
    texts = {n: c for n, c in cells.items() if n not in numbers}
    if key_columns(texts, moments) is not None:
        return None
    for name in numeric:
        codes = [cell_text(c) for c in cells[name]]
        if any(is_blank(c) or not c.isalnum() for c in codes):
            continue
        frame = pd.DataFrame({"date": moments, "code": codes})
        if 1 < frame["code"].nunique() <= len(frame) / _REPEATS and not frame.duplicated().any():
            return name
    return None
