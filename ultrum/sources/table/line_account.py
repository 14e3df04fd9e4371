"""The account of the lines of a table: each line that is not blank has exactly one class.

Lines that look like rows and belong to no table that is read are never skipped in silence: many of one form are
another table, or the file is refused.
"""

from __future__ import annotations

import itertools
from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Final, Literal

from ultrum.core.displayed_numbers import quantity
from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import Grid, Row, content_width, is_date, is_empty, is_rule, is_value
from ultrum.sources.table.number_formats import is_blank
from ultrum.sources.table.statements import statements_in
from ultrum.sources.table.table_detection import A_TOTAL, Block

LineClass = Literal[
    "title",
    "unit",
    "currency",
    "header",
    "row",
    "event row",
    "subtotal",
    "rejected",
    "date",
    "note",
    "other table",
    "other sheet",
    "not used",
]
ORDER: Final[Sequence[LineClass]] = (
    "title",
    "unit",
    "currency",
    "header",
    "row",
    "event row",
    "subtotal",
    "rejected",
    "date",
    "note",
    "other table",
    "other sheet",
    "not used",
)
_RUN: Final = 10  # lines of one form that are a table, and not remarks
_SHARE: Final = 0.1  # of the rows that are read


@dataclass(frozen=True)
class LineRange:
    """Lines of one class, one after the other.

    Attributes
    ----------
    what : str
        Class of the lines.
    first, last : int
        Lines of the file or rows of the sheet, from 1.
    lines : int
        Number of lines that are not blank.
    place : str
        Sheet or table of a page, if the file has several.
    """

    what: LineClass
    first: int
    last: int
    lines: int
    place: str = ""


@dataclass(frozen=True)
class CellsOfColumn:
    """What the cells of a column are.

    Attributes
    ----------
    column : str
        Heading.
    what : {"date", "value", "name", "unit", "status", "text"}
        Dates, values of series, names of series, units of rows, statuses of values, or other text.
    used, missing, rejected : int
        Cells that are used; cells that are empty or have a code for a missing value; other cells.
    """

    column: str
    what: Literal["date", "value", "name", "unit", "status", "text"]
    used: int
    missing: int
    rejected: int


def account_of(grid: Grid, read: Sequence[Block], aside: Sequence[Block]) -> tuple[LineRange, ...]:
    """Classes of the lines of a grid, as ranges.

    Parameters
    ----------
    grid : Grid
        Cells as the file has them.
    read, aside : sequence of Block
        Tables that are read, and others that were detected.

    Raises
    ------
    TableError
        If many lines have the form of the rows and are not among them.
    """
    classes = _classes(grid, read, aside)
    _refuse_lost_rows(grid, classes, read)
    return _ranges(grid, classes)


def other_sheet(grid: Grid) -> LineRange:
    """All lines of a sheet that is not read."""
    lines = [line for row, line in zip(grid.rows, grid.lines, strict=False) if content_width(row)]
    return LineRange("other sheet", lines[0] if lines else 0, lines[-1] if lines else 0, len(lines), grid.name)


def summary_of(account: Sequence[LineRange]) -> str:
    """The account in one line.

    Examples
    --------
    >>> summary_of([LineRange("header", 1, 1, 1), LineRange("row", 2, 1041, 1040)])
    '1,041 lines: 1 header, 1,040 rows'
    """
    if not account:
        return ""
    counts: Counter[str] = Counter()
    for item in account:
        counts[item.what] += item.lines
    plural = {
        "row": "rows",
        "event row": "event rows",
        "note": "notes",
        "unit": "units",
        "subtotal": "subtotals",
        "date": "dates",
    }
    parts = [
        f"{counts[what]:,} {plural.get(what, what) if counts[what] > 1 else what}"
        for what in ORDER
        if counts[what]
    ]
    return f"{quantity(sum(counts.values()), 'line')}: {', '.join(parts)}"


def _classes(grid: Grid, read: Sequence[Block], aside: Sequence[Block]) -> list[LineClass | None]:
    """Class of each row of the grid; None of a blank one."""
    classes: list[LineClass | None] = [None] * len(grid.rows)
    if read[0].across:
        return _classes_across(grid, read)
    places = defaultdict(list)
    for place, line in enumerate(grid.lines):
        places[line].append(place)

    def mark(lines: Iterable[int], what: LineClass) -> None:
        for place in itertools.chain.from_iterable(places[line] for line in lines):
            if classes[place] is None and content_width(grid.rows[place]):
                classes[place] = what

    for block in read:
        mark(block.events, "event row")
        mark(block.lines, "row")
        mark((r.line for r in block.rejected if r.reason == A_TOTAL), "subtotal")
        mark((r.line for r in block.rejected), "rejected")
    for block, what in (*((b, "header") for b in read), *((b, "other table") for b in aside)):
        if what == "other table":
            mark(block.lines, "other table")
            mark((r.line for r in block.rejected), "other table")
        mark(block.header_lines, "header" if what == "header" else "other table")
    first = min(b.lines[0] for b in read)
    for place, row in enumerate(grid.rows):
        if classes[place] is None and content_width(row):
            classes[place] = _class_outside(row, grid.lines[place] < first, read)
    return classes


def _classes_across(grid: Grid, read: Sequence[Block]) -> list[LineClass | None]:
    """Classes where dates run across: each row with a name and values is a series."""
    dates, names = read[0].across, {n for b in read for n in b.heading.names}
    classes: list[LineClass | None] = []
    for row, line in zip(grid.rows, grid.lines, strict=False):
        width = content_width(row)
        if not width:
            classes.append(None)
        elif line == dates:
            classes.append("header")
        elif line < dates:
            classes.append("header" if sum(map(is_date, row)) > 1 else "title")
        elif width > 1 and any(is_value(c) for c in row[1:]):
            classes.append("row" if _is_named(row, names) else "not used")
        else:
            classes.append("note")
    return classes


def _is_named(row: Row, names: set[str]) -> bool:
    texts = [cell_text(c) for c in row[:4] if not is_empty(c)]
    return any(t in names or any(t and t in n for n in names) for t in texts)


def _class_outside(row: Row, above: bool, read: Sequence[Block]) -> LineClass:
    """Class of a line outside the rows and headers."""
    if any(b.heading.names_again(row) for b in read) or (above and is_rule(row)):
        return "header"
    filled = [c for c in row if not is_empty(c)]
    dates = sum(map(is_date, filled))
    if dates == len(filled):
        return "header" if above else "date" if len(filled) == 1 else "not used"
    if looks_like_row(row) and not is_rule(row):
        return "not used"
    kinds = {s.kind for s in statements_in(", ".join(map(cell_text, filled)), "")}
    if kinds:
        return "currency" if kinds == {"currency"} else "unit"
    return "title" if above else "note"


def looks_like_row(row: Row) -> bool:
    """Whether a line has the form of a row: two cells or more, at least half of them numbers or dates."""
    filled = [c for c in row if not is_blank(c)]
    numbers = sum(is_value(c) or is_date(c) for c in filled)
    return len(filled) > 1 and any(map(is_value, filled)) and 2 * numbers >= len(filled)


def _refuse_lost_rows(grid: Grid, classes: Sequence[LineClass | None], read: Sequence[Block]) -> None:
    """Refuse a file if many lines with the width of the table are not read."""
    lost: dict[int, list[int]] = defaultdict(list)
    for place, what in enumerate(classes):
        if what == "not used":
            lost[content_width(grid.rows[place])].append(place)
    rows = sum(len(b.lines) for b in read)
    widths = {content_width(b.rows[0]) for b in read}
    for width, places in lost.items():
        if len(places) <= max(1, min(_RUN, _SHARE * rows)) or (width not in widths and not read[0].across):
            continue
        first, last = grid.lines[places[0]], grid.lines[places[-1]]
        text = " ".join(cell_text(c) for c in grid.rows[places[0]])[:60]
        raise TableError(
            f"{grid.name}: {quantity(len(places), 'line')} with numbers, lines {first} to {last}, would not be "
            f"read ('{text}'). The dates of {quantity(rows, 'row')} are understood. Set dates= to the form of "
            "the dates and date_column= to their column, or choose a table with block=."
        )


def _ranges(grid: Grid, classes: Sequence[LineClass | None]) -> tuple[LineRange, ...]:
    """Neighbouring lines of one class as one range; blank lines do not part them."""
    held = [(what, grid.lines[i]) for i, what in enumerate(classes) if what is not None]
    ranges = []
    for what, members in itertools.groupby(held, key=lambda item: item[0]):
        lines = [line for _, line in members]
        ranges.append(LineRange(what, lines[0], lines[-1], len(lines)))
    return tuple(ranges)
