"""Formats of files, and limits of workbooks.

A sheet of a few bytes can refer to a cell in its last row and column; the rectangle around it would exceed the
memory.
"""

from __future__ import annotations

import contextlib
import csv
import io
import re
import zipfile
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from datetime import timedelta
from typing import IO, TYPE_CHECKING, Any, Final

import numpy as np

from ultrum.core.array_types import Ints
from ultrum.core.presentation import quantity
from ultrum.errors import TableError
from ultrum.sources.download_and_limits import current
from ultrum.sources.table.cell_grid import Grid, Row, repeat_count
from ultrum.sources.table.date_formats import style_of
from ultrum.sources.table.date_layouts import part_of_year
from ultrum.sources.table.dates_in_words import is_fiscal_label, with_plain_dates
from ultrum.sources.table.number_formats_and_date_words import is_date_in_words
from ultrum.sources.table.unpacking import DAMAGED, decode, kind_of, refuse_circles, shown_encoding

if TYPE_CHECKING:
    import lxml.etree

_FAR_TOO_MANY: Final = 2_000_000_000  # cells
_PIECE: Final = 4 * 1024 * 1024
_SHEET: Final = re.compile(r"/?xl/worksheets/[^/]+\.(xml|bin)", re.IGNORECASE)
_CELL: Final = re.compile(rb"""<(?:\w+:)?c\s[^<>]*?\br\s*=\s*["']\$?([A-Za-z]+)\$?(\d+)["'][^<>]*(?<!/)>""")
_UNPLACED: Final = re.compile(rb"<(?:\w+:)?c(?![^<>]*\sr\s*=)[\s>]")
_TEXT_CELL: Final = re.compile(rb"""<(?:\w+:)?c\s[^<>]*?\bt\s*=\s*["']s["'][^<>]*>\s*<(?:\w+:)?v>\s*(\d+)""")
_LEAST_CELL: Final = len(b'<c t="s"><v>0</v></c>')
_NEAR: Final = (99_999, 702)  # rows, and columns to ZZ
_NOT_NEAR: Final = re.compile(rb'<c(?! r="[A-Z]{1,2}\d{1,5}"|[a-z])')
_PREFIXED: Final = re.compile(rb":c[\s>]")
_SHARED: Final = "xl/sharedStrings.xml"
_TABLE: Final = "{urn:oasis:names:tc:opendocument:xmlns:table:1.0}"
_OFFICE: Final = "{urn:oasis:names:tc:opendocument:xmlns:office:1.0}"
_ROW, _CELLS = 0, range(1, 12)  # records of a binary sheet


def refuse_huge_workbook(body: bytes, name: str) -> None:
    """Refuse a zipped workbook that unpacks to more, or extends further, than the limits allow.

    Raises
    ------
    TableError
        With its size and instructions for a higher limit; or if it is damaged.
    """
    from lxml.etree import LxmlError

    limits_now = current()
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as archive:
            size = sum(i.file_size for i in archive.infolist())
            limits_now.check("unpacked_bytes", size, f"{name} unpacks to {size:,} bytes")
            sheets = [n for n in archive.namelist() if _SHEET.fullmatch(n)]
            others = set(archive.namelist()) - set(sheets)
            for other in others:  # a size that lies is found by reading
                for _ in _pieces(archive.open(other)):
                    pass
            limits_now.check("sheets", len(sheets), f"{name} has {len(sheets):,} sheets")
            for sheet in sheets:
                _refuse_far_cells(archive, sheet, name)
            texts = _common_texts(archive, [n for n in sheets if n.lower().endswith(".xml")])
            limits_now.check("unpacked_bytes", texts, f"{name} has {texts:,} letters, with repetitions")
            if "content.xml" in archive.namelist():
                for reach in _tables(archive.open("content.xml")):
                    _refuse_beyond_memory(reach, name)
                    limits_now.check_shape(*reach, name)
    except (*DAMAGED, LxmlError) as error:
        raise TableError(f"{name} is a damaged or locked workbook: {error}.") from error


def _refuse_far_cells(archive: zipfile.ZipFile, sheet: str, name: str) -> None:
    """Measure one sheet, by the fast method if it is plainly written and all its cells are close."""
    limits_now, binary = current(), sheet.lower().endswith(".bin")
    rows, columns = _NEAR
    allowed = limits_now.rows >= rows and limits_now.columns >= columns and limits_now.cells >= rows * columns
    if allowed and not binary and all(map(_is_near, _whole_tags(archive.open(sheet)))):
        return
    opened = archive.open(sheet)
    reach = _binary_reach(opened.read()) if binary else _reach(_whole_tags(opened))
    reach = reach or _reach_by_count(archive.open(sheet))
    where = f"{name}, {sheet.rpartition('/')[2]}"
    _refuse_beyond_memory(reach, where)
    limits_now.check_shape(*reach, where)


def _is_near(text: bytes) -> bool:
    """Whether a part of a sheet is plainly written and has no cell beyond row 99,999 or column ZZ."""
    return not _NOT_NEAR.search(text) and not _PREFIXED.search(text)


def _elements(opened: IO[bytes], tags: str | Sequence[str]) -> Iterator[tuple[str, lxml.etree._Element]]:
    """Elements with these tags as they end; nothing outside the file is followed."""
    from lxml.etree import iterparse

    return iter(iterparse(opened, tag=tags, resolve_entities=False, no_network=True, load_dtd=False))


def _common_texts(archive: zipfile.ZipFile, sheets: Iterable[str]) -> int:
    """Letters of all cells that refer to the common list of texts, counted at each use."""
    if _SHARED not in archive.namelist():
        return 0
    lengths = []
    for _, element in _elements(archive.open(_SHARED), "{*}si"):
        lengths.append(sum(map(len, element.itertext())))
        element.clear()
    size = np.array([*lengths, 0], dtype=np.int64)
    packed = sum(archive.getinfo(sheet).file_size for sheet in sheets)
    if packed // _LEAST_CELL * int(size.max()) <= current().unpacked_bytes:
        return 0  # however often the longest is taken
    total = 0
    for sheet in sheets:
        rest = b""
        for piece in _pieces(archive.open(sheet)):
            text = rest + piece
            cut = max(text.rfind(b"<c "), 0)
            text, rest = text[:cut], text[cut:]
            total += _taken(text, size)
        total += _taken(rest, size)
    return total


def _taken(text: bytes, size: Ints) -> int:
    cell_numbers = np.array([int(n[:9]) for n in _TEXT_CELL.findall(text)], dtype=np.int64)
    return int(size[np.minimum(cell_numbers, len(size) - 1)].sum())


def _refuse_beyond_memory(reach: tuple[int, int], where: str) -> None:
    """Some extents are beyond any limit."""
    rows, columns = reach
    if rows * columns > _FAR_TOO_MANY:
        raise TableError(
            f"{where} reaches over {rows:,} rows of {columns:,} columns, which is too large for memory. Delete "
            "the cells far from the others, or save the table as CSV."
        )


def _pieces(opened: IO[bytes]) -> Iterator[bytes]:
    while piece := opened.read(_PIECE):
        yield piece


def _whole_tags(opened: IO[bytes]) -> Iterator[bytes]:
    """Parts that end before a tag begins, so that no tag is split."""
    rest = b""
    for piece in _pieces(opened):
        text = rest + piece
        cut = max(text.rfind(b"<"), 0)
        yield text[:cut]
        rest = text[cut:]
    yield rest


def _reach(parts: Iterable[bytes]) -> tuple[int, int] | None:
    """Last row and column of non-empty cells; None if some have no position."""
    rows = columns = 0
    for text in parts:
        if _UNPLACED.search(text):
            return None
        match_cells = _CELL.findall(text)
        rows = max(rows, max((int(n) for _, n in match_cells), default=0))
        columns = max(columns, max(map(_column, {letters for letters, _ in match_cells}), default=0))
    return rows, columns


def _reach_by_count(opened: IO[bytes]) -> tuple[int, int]:
    """The same where cells follow each other without positions: rows by number or in order."""
    row = rows = columns = 0
    for _, element in _elements(opened, "{*}row"):
        place = element.get("r", "")
        row = int(place) if place.isdigit() else row + 1
        column = 0
        for cell in element:
            letters = re.match("[A-Za-z]+", cell.get("r", ""))
            column = _column(letters[0].encode()) if letters else column + 1
            if len(cell):
                rows, columns = max(rows, row), max(columns, column)
        element.clear()
    return rows, columns


def _column(letters: bytes) -> int:
    """Number of a column from its letters."""
    number = 0
    for letter in letters.upper():
        number = number * 26 + letter - 64
    return number


def _binary_reach(body: bytes) -> tuple[int, int]:
    """The same for a sheet of records: kind and length as integers of variable length, then the content."""
    place, rows, columns, row = 0, 0, 0, 0
    while place < len(body):
        kind, place = _variable_length_integer(body, place, 2)
        size, place = _variable_length_integer(body, place, 4)
        first = int.from_bytes(body[place : place + 4], "little")
        if kind == _ROW:
            row = first + 1
        elif kind in _CELLS:
            rows, columns = max(rows, row), max(columns, first + 1)
        place += size
    return rows, columns


def _variable_length_integer(body: bytes, place: int, most: int) -> tuple[int, int]:
    number = 0
    for k in range(most):
        byte = body[place + k] if place + k < len(body) else 0
        number |= (byte & 0x7F) << (7 * k)
        if not byte & 0x80:
            return number, place + k + 1
    return number, place + most


def _tables(opened: IO[bytes]) -> Iterator[tuple[int, int]]:
    """Rows and columns of each table of an open document, including repetitions."""
    rows = columns = empty = 0
    tags = (f"{_TABLE}table-row", f"{_TABLE}table")
    for _, element in _elements(opened, tags):
        times, wide = repeat_count(element.get(f"{_TABLE}number-rows-repeated")), _width(element)
        if element.tag == tags[1]:
            yield rows, columns
            rows = columns = empty = 0
        elif wide:
            rows, columns, empty = rows + empty + times, max(columns, wide), 0
        else:
            empty += times  # counts only if something follows
        element.clear()


def _width(row: lxml.etree._Element) -> int:
    """Cells of a row up to the last non-empty one."""
    wide = held = 0
    for cell in row:
        wide += repeat_count(cell.get(f"{_TABLE}number-columns-repeated"))
        if len(cell) or cell.get(f"{_OFFICE}value-type"):
            held = wide
    return held


# Grids of cells by format

DELIMITERS: Final = (";", "\t", "|", ",")
SPACES: Final = "spaces"
_GAPS: Final = re.compile(r" {2,}|\t+")
_ANY_GAP: Final = re.compile(r"\s+")
_MARKED: Final = 0.5  # of the lines with a mark that no table in columns of spaces has
_SAMPLED: Final = 2_000  # lines at each end by which the delimiter is found
_MOST_PROSE: Final = 100  # lines above a table


def grids_of(
    body: bytes,
    name: str,
    *,
    encoding: str | None,
    delimiter: str | None,
    sheet: str | int | None,
    language: str | None = None,
) -> list[Grid]:
    """Every grid of a file, or the requested sheet.

    Raises
    ------
    TableError
        If the file is damaged, or has no such sheet.
    """
    kind = kind_of(body)
    if kind == "workbook":
        grids = _workbook(body, name, sheet)
    elif kind == "page":
        from ultrum.sources.table.html_json_and_workbook_cells import page_grids

        grids = _chosen(page_grids(body, name, encoding), sheet, name, "table")
    elif kind == "json":
        from ultrum.sources.table.html_json_and_workbook_cells import json_grids

        grids = json_grids(body, name)
    elif sheet is not None:
        raise TableError(f"{name} is a text file without sheets. Remove sheet={sheet!r}.")
    else:
        text, text_encoding = decode(body, name, encoding)
        shown = shown_encoding(text_encoding, text, encoding)
        return [text_grid(text, name, delimiter, shown, language).check_size(name)]
    return [with_plain_dates(grid.check_size(name), language) for grid in grids]


def text_grid(
    text: str, name: str, delimiter: str | None, encoding: str = "utf-8", language: str | None = None
) -> Grid:
    """Cells of a delimited text, with dates in words in plain form."""
    lines = _lines(text, name)
    mark = delimiter or _best_delimiter(lines)
    if len(mark) == 1:
        cells = text.count(mark) + len(lines)
        current().check("cells", cells, f"{name} has {quantity(cells, 'cell')}")
    delimiter_name = {"\t": "tab", " ": SPACES}.get(mark, mark)
    if mark in (SPACES, " "):
        rows: list[Row] = [_ANY_GAP.split(line.strip()) for line in lines]
        numbers = list(range(1, len(lines) + 1))
    elif mark == "  ":
        rows = [_GAPS.split(line.strip()) for line in lines]
        numbers, delimiter_name = list(range(1, len(lines) + 1)), "two or more spaces"
    else:
        rows, numbers = _split_rows(text, lines, mark)
        rows = _with_titles_whole(rows, numbers, lines, mark)
    encoding_name = {"utf-8-sig": "UTF-8"}.get(encoding, encoding)
    decisions = (("encoding", encoding_name), ("delimiter", delimiter_name))
    return with_plain_dates(Grid(name, rows, numbers, delimiter_name, decisions), language)


def _with_titles_whole(rows: list[Row], numbers: list[int], lines: list[str], mark: str) -> list[Row]:
    """A prose line above a table that contains the delimiter, as one cell: each of its delimiters is followed by
    a space.
    """
    first = next((i for i, r in enumerate(rows[:_MOST_PROSE]) if any(_is_period(str(c)) for c in r[:3])), 0)
    if not first or mark not in ",;" or re.search(rf"{mark}[ ]", lines[numbers[first] - 1]):
        return rows
    width = len(rows[first])
    for i in range(first):
        line = lines[numbers[i] - 1]
        spaced = f"{mark} " in line and not re.search(rf"{mark}(?! )", line) and '"' not in line
        if spaced and not (i == first - 1 and len(rows[i]) == width):
            rows[i] = [line.strip()]
    return rows


def _lines(text: str, name: str) -> list[str]:
    count = text.count("\n") + (not text.endswith("\n"))
    current().check("rows", count, f"{name} has {quantity(count, 'line')}")
    return text.splitlines()


def _split_rows(text: str, lines: list[str], mark: str) -> tuple[list[Row], list[int]]:
    """Rows split at a delimiter; a quoted cell can contain line breaks, and a stray quote does not swallow the
    file.
    """
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=mark)
    rows: list[Row] = []
    numbers: list[int] = []
    try:
        before = 0
        for row in reader:
            if reader.line_num - before > 12:
                raise csv.Error("a quote that does not close")
            rows.append([c.strip() for c in row])
            numbers.append(before + 1)
            before = reader.line_num
    except csv.Error:
        rows = [[c.strip().strip('"') for c in line.split(mark)] if line else [] for line in lines]
        numbers = list(range(1, len(lines) + 1))
    return rows, numbers


def _best_delimiter(lines: list[str]) -> str:
    """The delimiter that splits the most lines with a date into equal numbers of cells."""
    sample = lines if len(lines) < 2 * _SAMPLED else [*lines[:_SAMPLED], *lines[-_SAMPLED:]]
    best, most = ",", 0.0
    marked = sum(";" in line or "\t" in line or "|" in line for line in sample) > _MARKED * len(sample)
    for mark in DELIMITERS if marked else (*DELIMITERS, "  ", SPACES):
        widths: Counter[int] = Counter()
        for line in sample:
            cells = _split(line, mark)
            if len(cells) > 1 and any(map(_is_period, cells[:3])):
                widths[len(cells)] += 1
        score = widths.most_common(1)[0][1] if widths else 0
        headed = _is_headed(sample, mark, widths.most_common(1)[0][0]) if widths else False
        penalty = (1.2 if headed else 1.0) * (
            0.85 if mark == SPACES else 0.9 if mark == "," and _decimal_commas(sample) else 1.0
        )
        if score * penalty > most:
            best, most = mark, score * penalty
    return best if most else _by_headings(sample)


def _is_headed(lines: Sequence[str], mark: str, width: int) -> bool:
    """Whether the line before the first dated one has the same number of cells."""
    before = ""
    for line in lines[:200]:
        cells = _split(line, mark)
        if len(cells) > 1 and any(map(_is_period, cells[:3])):
            return bool(before) and len(_split(before, mark)) == width
        before = line.strip() or before
    return False


def _is_period(cell: str) -> bool:
    """Whether a cell is a date or the name of a month or quarter."""
    text = cell.strip().strip('"')
    named = text[:1].isalpha() and part_of_year(text) is not None
    return bool(style_of(text)) or named or is_date_in_words(text) or is_fiscal_label(text)


def _split(line: str, mark: str) -> list[str]:
    if mark == SPACES:
        return _ANY_GAP.split(line.strip())
    if mark == "  ":
        return _GAPS.split(line.strip())
    if '"' in line:
        with contextlib.suppress(csv.Error):  # a cell longer than any
            return next(csv.reader([line], delimiter=mark), [])
    return line.split(mark)


def _decimal_commas(lines: Sequence[str]) -> bool:
    """Whether commas are decimal marks and semicolons or tabs are delimiters."""
    return any(re.search(r"\d,\d", line) and re.search(r"[;\t]", line) for line in lines[:200])


def _by_headings(lines: Sequence[str]) -> str:
    """Without rows that begin with a date: the most evenly distributed delimiter."""
    counts = {m: Counter(line.count(m) for line in lines if m in line) for m in DELIMITERS}
    ranked = {m: c.most_common(1)[0][1] for m, c in counts.items() if c}
    return max(ranked, key=lambda m: ranked[m]) if ranked else ","


def _workbook(body: bytes, name: str, sheet: str | int | None) -> list[Grid]:
    import python_calamine

    unread: tuple[tuple[str, str], ...] = ()
    if body[:4] == b"PK\x03\x04":
        refuse_huge_workbook(body, name)
    else:
        refuse_circles(body, name)
    if body[:4] != b"PK\x03\x04" or b"xl/workbook.bin" in body:
        unread = (
            ("not used", "percent signs and currencies in number formats; save it as .xlsx to have them read"),
        )
    try:
        book = python_calamine.CalamineWorkbook.from_filelike(io.BytesIO(body))
        names = list(book.sheet_names)
        wanted = [_sheet_name(names, sheet, name)] if sheet is not None else names
        grids = []
        for title in wanted:
            chosen = book.get_sheet_by_name(title)
            rows: Any = chosen.to_python(skip_empty_area=False)
            grids.append(Grid(title, rows, list(range(1, len(rows) + 1)), "sheet", (("sheet", title), *unread)))
    except TableError:
        raise
    except BaseException as error:  # its reader has several kinds of errors, and panics on some files
        if isinstance(error, KeyboardInterrupt | SystemExit | MemoryError | TimeoutError):
            raise
        raise TableError(f"{name} is a damaged or locked workbook: {error}.") from error
    if body[:4] == b"PK\x03\x04":
        from ultrum.sources.table.html_json_and_workbook_cells import with_cell_facts

        grids = with_cell_facts(grids, body, name)
    return [_without_durations(g) for g in grids]


def _without_durations(grid: Grid) -> Grid:
    """Times of day as text."""
    if not any(isinstance(c, timedelta) for row in grid.rows[:50] for c in row):
        return grid
    rows: list[Row] = [[str(c) if isinstance(c, timedelta) else c for c in row] for row in grid.rows]
    return replace(grid, rows=rows)


def _sheet_name(names: Sequence[str], sheet: str | int, name: str) -> str:
    if isinstance(sheet, int) and 1 <= sheet <= len(names):
        return names[sheet - 1]
    if sheet in names:
        return str(sheet)
    listed = ", ".join(f"'{n}'" for n in names)
    raise TableError(f"Sheet '{sheet}' is not in {name}; it has: {listed}.")


def _chosen(grids: list[Grid], sheet: str | int | None, name: str, what: str) -> list[Grid]:
    if sheet is None:
        return grids
    if isinstance(sheet, int) and 1 <= sheet <= len(grids):
        return [grids[sheet - 1]]
    words = str(sheet).lower()
    exact = [g for g in grids if g.name.lower() == words] or [g for g in grids if words in g.name.lower()]
    if len(exact) != 1:
        listed = ", ".join(f"'{g.name}'" for g in grids)
        raise TableError(f"{len(exact)} {what}s of {name} are named '{sheet}'. Rename one; it has: {listed}.")
    return exact
