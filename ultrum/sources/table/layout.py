"""Finding the table inside a text: its delimiter, its rows, its header; prose and recaps set aside."""

from __future__ import annotations

import csv
import re
from collections import Counter
from dataclasses import dataclass
from typing import Final

from ultrum.errors import TableError
from ultrum.sources.table.cells import MISSING, is_number, style_of

DELIMITERS: Final = (";", "\t", "|", ",")
MOST_COLUMNS: Final = 50_000
_TOO_MANY_BAD: Final = 0.1


@dataclass(frozen=True)
class Rejected:
    """A row that was not used, and why."""

    line: int
    text: str
    reason: str


@dataclass(frozen=True)
class Layout:
    """The table as cells: column names, rows with their line numbers, and what was set aside."""

    delimiter: str
    header: list[str]
    header_line: int
    rows: list[list[str]]
    lines: list[int]
    rejected: list[Rejected]
    aside: list[str]
    preamble: str


def find_table(
    text: str, name: str, delimiter: str | None = None, columns: list[str] | None = None
) -> Layout:
    """Find the longest block of rows that begin with a date and have the same number of cells.

    Raises
    ------
    TableError
        If there is no such block, or its header is missing and ``columns`` are not given.
    """
    lines = text.splitlines()
    mark = delimiter or _best_delimiter(lines, name)
    cells = [[c.strip() for c in row] for row in csv.reader(lines, delimiter=mark)]
    if len(cells) != len(lines):  # a quoted cell holds a line break
        raise TableError(
            f"{name}: a quoted cell spans lines; that is not supported. Remove the break."
        )
    if max(map(len, cells), default=0) > MOST_COLUMNS:
        raise TableError(f"{name}: a line has more than {MOST_COLUMNS:,} cells; it is refused.")
    shapes = [(style_of(row[0]), len(row)) if len(row) > 1 else ("", 0) for row in cells]
    counts = Counter(s for s in shapes if s[0])
    if not counts:
        raise TableError(
            f"{name}: no rows that begin with a date were found in {len(lines)} lines. Is it the right "
            "file? A table needs its dates in the first column."
        )
    main = _main_shape(counts)
    at = [i for i, s in enumerate(shapes) if s in main]
    header, header_line = _header(cells, at[0], max(n for _, n in main), columns, name)
    rejected = _rejected(lines, cells, shapes, at, main)
    if len(rejected) > _TOO_MANY_BAD * len(at):
        first = rejected[0]
        raise TableError(
            f"{name}: {len(rejected)} rows between the first and last date do not fit, first line "
            f"{first.line}: {first.reason} ('{first.text[:60]}'). Mend them, or name the block."
        )
    aside = [
        f"{n} rows written like {s[0]} with {s[1]} cells"
        for s, n in counts.items()
        if s not in main
    ]
    preamble = "\n".join(lines[: at[0]])
    return Layout(
        mark,
        header,
        header_line,
        [cells[i] for i in at],
        [i + 1 for i in at],
        rejected,
        aside,
        preamble,
    )


def _main_shape(counts: Counter[tuple[str, int]]) -> set[tuple[str, int]]:
    """The commonest shape, with the twin style that day and month in figures may also fit."""
    shape, _ = counts.most_common(1)[0]
    twins = {"15/03/2024": "03/15/2024", "03/15/2024": "15/03/2024"}
    twin = (twins.get(shape[0], ""), shape[1])
    return {shape, twin} if twin in counts else {shape}


def _best_delimiter(lines: list[str], name: str) -> str:
    """The mark that makes the most lines start with a date and fall into equal cells."""
    best, most = "", 0
    for mark in DELIMITERS:
        shapes: Counter[int] = Counter()
        for line in lines[:20_000]:
            if mark in line and style_of(line.split(mark, 1)[0].strip().strip('"')):
                shapes[line.count(mark)] += 1
        score = shapes.most_common(1)[0][1] if shapes else 0
        if score > most:
            best, most = mark, score
    if not best:
        raise TableError(
            f"{name}: no rows of a date and values, parted by ; , | or tab, in {len(lines)} lines. "
            "Is it the right file?"
        )
    return best


def _header(
    cells: list[list[str]], first: int, width: int, columns: list[str] | None, name: str
) -> tuple[list[str], int]:
    if columns is not None:
        if len(columns) != width:
            raise TableError(f"{name}: {len(columns)} column names for {width} columns.")
        return columns, 0
    above = next((i for i in range(first - 1, -1, -1) if any(cells[i])), -1)
    row = cells[above] if above >= 0 else []
    if len(row) != width or _looks_like_data(row):
        raise TableError(
            f"{name}: the table that starts on line {first + 1} has no header; its first row reads "
            f"'{' '.join(cells[first])}'. Give the names of its {width} columns: columns=[...]."
        )
    twice = [n for n, count in Counter(row).items() if count > 1]
    if twice or not all(row[1:]):
        what = f"column '{twice[0]}' twice" if twice else "a column without a name"
        raise TableError(f"{name}: the header on line {above + 1} has {what}; say columns=[...].")
    return row, above + 1


def _looks_like_data(row: list[str]) -> bool:
    values = [c for c in row[1:] if c.lower() not in MISSING]
    return bool(style_of(row[0])) or (bool(values) and all(is_number(c) for c in values))


def _rejected(
    lines: list[str],
    cells: list[list[str]],
    shapes: list[tuple[str, int]],
    at: list[int],
    main: set[tuple[str, int]],
) -> list[Rejected]:
    """Rows between the first and the last of the block that are not like it."""
    width = max(n for _, n in main)
    found = []
    for i in range(at[0], at[-1]):
        if shapes[i] in main or not re.search(r"\S", lines[i]):
            continue
        count = len(cells[i])
        reason = f"{count} cells, not {width}" if count != width else "its date is not understood"
        found.append(Rejected(i + 1, lines[i], reason))
    return found
