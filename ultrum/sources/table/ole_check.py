"""Checks of OLE containers (old workbooks), whose sector chains can be circular in damaged files.

Reading a circular chain would never end. Format: [MS-CFB], an open specification.
"""

from __future__ import annotations

import numpy as np

from ultrum.core.array_types import Ints
from ultrum.errors import TableError

MARK = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
_END, _LAST = 0xFFFFFFFE, 0xFFFFFFFA  # end of a chain; greater numbers are not sectors
_ENTRY, _IN_HEADER = 128, 109  # bytes of a directory entry; sector numbers in the header


def refuse_circles(body: bytes, name: str) -> None:
    """Refuse a compound file with a chain of sectors that is endless or leaves the file.

    Raises
    ------
    TableError
        If it is damaged so.
    """
    try:
        _check(body)
    except (ValueError, IndexError) as error:
        raise TableError(f"{name} is a damaged workbook: {error}.") from error


def _check(body: bytes) -> None:
    shift = int.from_bytes(body[0x1E:0x20], "little")
    if len(body) < 512 or shift not in (9, 12):
        raise ValueError("its header is truncated or unreadable")
    size = 1 << shift
    most = len(body) // size + 1
    table = _table(body, size, most)
    directory = _chain(table, _number(body, 0x30), most)
    small = _join(body, _chain(table, _number(body, 0x3C), most), size)
    entries = _join(body, directory, size).astype("<u4").tobytes()
    if len(entries) != len(directory) * size:
        raise ValueError("its directory is cut short")
    for place in range(0, len(entries), _ENTRY):
        entry = entries[place : place + _ENTRY]
        kind, start = entry[66], _number(entry, 116)
        length = int.from_bytes(entry[120:124], "little")
        if kind == 5 or (kind == 2 and length >= _number(body, 0x38)):
            _chain(table, start, most)
        elif kind == 2 and length:
            _chain(small, start, len(small) + 1)


def _table(body: bytes, size: int, most: int) -> Ints:
    """Successor of every sector, from the sectors that store them."""
    places = np.frombuffer(body, "<u4", _IN_HEADER, 0x4C).astype(np.int64)
    more, seen = _number(body, 0x44), 0
    while more < _LAST:
        held = _sector(body, more, size)
        places, more = np.append(places, held[:-1]), int(held[-1])
        seen += 1
        if seen > most:
            raise ValueError("the list of its tables is circular")
    return _join(body, places[places < _LAST], size)


def _join(body: bytes, sectors: Ints, size: int) -> Ints:
    parts = [_sector(body, int(s), size) for s in sectors]
    return np.concatenate(parts) if parts else np.zeros(0, np.int64)


def _sector(body: bytes, number: int, size: int) -> Ints:
    held = body[(number + 1) * size : (number + 2) * size]
    if len(held) < 4:
        raise ValueError(f"sector {number} lies beyond its end")
    return np.frombuffer(held[: len(held) // 4 * 4], "<u4").astype(np.int64)


def _chain(table: Ints, start: int, most: int) -> Ints:
    """Sectors from a start to the end of their chain."""
    sectors, sector = [], start
    while sector < _LAST:
        if sector >= len(table):
            raise ValueError(f"sector {sector} has no successor and no end")
        sectors.append(sector)
        sector = int(table[sector])
        if len(sectors) > most:
            raise ValueError("a chain of its sectors is circular")
    return np.array(sectors, dtype=np.int64)


def _number(body: bytes, place: int) -> int:
    return int.from_bytes(body[place : place + 4], "little")
