"""The extent of a workbook, from its bytes, before memory is allocated.

A sheet of a few bytes can refer to a cell in its last row and column; the rectangle around it would exceed the
memory.
"""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterable, Iterator
from typing import IO, Final

import lxml.etree
import numpy as np

from ultrum.core.array_types import Ints
from ultrum.errors import TableError
from ultrum.sources.download_and_limits import current
from ultrum.sources.table.unpacking import DAMAGED

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
    except (*DAMAGED, lxml.etree.LxmlError) as error:
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


def _common_texts(archive: zipfile.ZipFile, sheets: Iterable[str]) -> int:
    """Letters of all cells that refer to the common list of texts, counted at each use."""
    if _SHARED not in archive.namelist():
        return 0
    lengths = []
    for _, element in lxml.etree.iterparse(
        archive.open(_SHARED), tag="{*}si", resolve_entities=False, no_network=True, load_dtd=False
    ):
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
    for _, element in lxml.etree.iterparse(
        opened, events=("end",), tag="{*}row", resolve_entities=False, no_network=True, load_dtd=False
    ):
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
    for _, element in lxml.etree.iterparse(
        opened, events=("end",), tag=tags, resolve_entities=False, no_network=True, load_dtd=False
    ):
        times, wide = _repeat_count(element, "rows"), _width(element)
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
        wide += _repeat_count(cell, "columns")
        if len(cell) or cell.get(f"{_OFFICE}value-type"):
            held = wide
    return held


def _repeat_count(element: lxml.etree._Element, what: str) -> int:
    count = element.get(f"{_TABLE}number-{what}-repeated", "1")
    return int(count) if count.isdigit() else 1
