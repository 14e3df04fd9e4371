"""Dates in words of other languages, in plain form: one language must explain all months of a file."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Final

from ultrum.errors import TableError
from ultrum.sources.table.cell_grid import Grid, Row
from ultrum.sources.table.date_formats import styles_of
from ultrum.sources.table.date_words import (
    ENGLISH,
    WordedDate,
    is_worded_date,
    may_be_worded,
    months_by_language,
    plain_text,
    worded_date,
)

_COLUMNS, _ROWS = 12, 300  # searched for words of dates
_HEADER_ROWS: Final = 60
_BARE_NAMES: Final = 6  # months without a year in one row or column, from which they are dates
Months = Mapping[str, Mapping[str, int]]


def with_plain_dates(grid: Grid, language: str | None = None) -> Grid:
    """The grid with dates in words, and rows or columns of names of months, in plain form.

    Parameters
    ----------
    grid : Grid
        Cells of a file.
    language : str, optional
        Code of the language of the months, where two languages disagree.

    Raises
    ------
    TableError
        If months of the file differ between languages that have all its words.
    """
    columns, rows = _places(grid)
    if not columns and not rows:
        return grid
    cells = [*_cells_of(grid, columns, rows)]
    worded = {c: w for c in dict.fromkeys(cells) if (w := worded_date(c) or _bare(c)) is not None}
    chosen = _language({c: w.months for c, w in worded.items() if w.months}, language, grid.name)
    plain = {c: w.plain(chosen) for c, w in worded.items() if not w.months or chosen in w.months}
    if not plain:
        return grid
    return _replaced(grid, columns, rows, plain, chosen)


def _places(grid: Grid) -> tuple[list[int], list[int]]:
    """Columns and rows with dates in words, or with names of several months."""
    sample = grid.rows[:_ROWS]
    columns = [
        c for c in range(_COLUMNS) if _has_words([r[c] for r in sample if len(r) > c and isinstance(r[c], str)])
    ]
    rows = [
        i
        for i, row in enumerate(grid.rows[:_HEADER_ROWS])
        if _has_words([c for c in row[1:] if isinstance(c, str)])
    ]
    return columns, rows


def _has_words(cells: Sequence[str]) -> bool:
    bare: set[str] = set()
    for cell in dict.fromkeys(cells):
        if may_be_worded(cell):
            if not styles_of(cell, worded=False) and is_worded_date(cell):
                return True
            if _bare(cell):
                bare.add(plain_text(cell))
        elif (
            (2 <= len(cell) <= 24 and cell[:1].isalnum() and not cell.isascii())
            or cell.isalpha()
            or cell[-1:] == "."
        ):
            bare.add(plain_text(cell))
    if len(bare) < _BARE_NAMES:
        return False
    return _counts(bare)


def _counts(bare: Iterable[str]) -> bool:
    """Whether texts name six months or all quarters in one language other than English."""
    counts: dict[str, set[int]] = defaultdict(set)
    for text in bare:
        for language, number in months_by_language(text).items():
            counts[language].add(number)
    best = max(map(len, counts.values()), default=0)
    return best >= _BARE_NAMES and len(counts.get("en", ())) < best


def _bare(cell: str) -> WordedDate | None:
    months = months_by_language(cell) if 2 <= len(cell) <= 24 else {}
    return WordedDate("{}", months) if months else None


def _cells_of(grid: Grid, columns: Sequence[int], rows: Sequence[int]) -> Iterable[str]:
    for row in grid.rows:
        yield from (row[c] for c in columns if len(row) > c and isinstance(row[c], str))
    for i in rows:
        yield from (c for c in grid.rows[i] if isinstance(c, str))


def _language(months: Months, given: str | None, where: str) -> str:
    """The language that has all words, or most; two that give different months are refused."""
    if not months:
        return ""
    counts: dict[str, int] = defaultdict(int)
    for held in months.values():
        for language in held:
            counts[language] += 1
    best = [lang for lang, n in counts.items() if n == max(counts.values())]
    if given is not None:
        if given not in counts:
            raise TableError(f"{where}: no month is a word of the language '{given}'. Write dates= without it.")
        return given
    first = best[0]
    for cell, held in months.items():
        other = next((lang for lang in best if lang in held and held[lang] != held.get(first)), None)
        if other is not None and first in held:
            raise TableError(
                f"{where}: '{cell}' is {ENGLISH[held[first] - 1]} in the language '{first}' and "
                f"{ENGLISH[held[other] - 1]} in '{other}'. Set dates='{first}' or dates='{other}'."
            )
    return first


def _replaced(
    grid: Grid, columns: Sequence[int], rows: Sequence[int], plain: Mapping[str, str], language: str
) -> Grid:
    inside, across = set(columns), set(rows)
    changed: list[Row] = []
    for i, row in enumerate(grid.rows):
        if i in across:
            changed.append([plain.get(c, c) if isinstance(c, str) else c for c in row])
        elif any(isinstance(row[c], str) and row[c] in plain for c in inside if len(row) > c):
            changed.append(
                [plain.get(x, x) if k in inside and isinstance(x, str) else x for k, x in enumerate(row)]
            )
        else:
            changed.append(row)
    words = (("date words", f"language '{language}'"),) if language else ()
    return replace(grid, rows=changed, decisions=(*grid.decisions, *words))
