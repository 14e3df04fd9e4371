"""The bytes of a file: limits of size, archives, the kind of the content, and the encoding of a text.

In a wrong encoding a text has no known words for dates, months and prices. Windows-1252 is the first choice where
no encoding has more of them than another.

Reading a circular chain would never end. Format: [MS-CFB], an open specification.
"""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import re
import struct
import zipfile
import zlib
from pathlib import Path
from typing import IO, Final

import numpy as np

from ultrum.core.array_types import Ints
from ultrum.core.presentation import quantity
from ultrum.errors import NotFoundError, TableError, choices
from ultrum.file_access import read_regular
from ultrum.sources.download_and_limits import current
from ultrum.sources.table.number_formats_and_date_words import (
    date_in_words,
    field_of,
    is_date_heading,
    months_by_language,
)
from ultrum.sources.table.unit_statements import any_percent_word
from ultrum.sources.table.units import role_of

ENCODINGS: Final = (
    *("cp1252", "cp1251", "cp1250", "cp1253", "cp1254", "cp1257", "cp932", "gb18030", "cp949", "big5", "koi8_r"),
    *("cp1255", "cp1256", "iso8859_2", "iso8859_5", "euc_jp"),
)
_SAMPLE: Final = 32 * 1024
_LINES: Final = 60
_WORD: Final = re.compile(r"[^\W\d_]{2,}")


def encodings_by_words(body: bytes) -> list[str]:
    """Encodings to try, the one with most known words first.

    Examples
    --------
    >>> encodings_by_words("Дата;Цена".encode("cp1251"))[0], encodings_by_words("Größe;Maß".encode("cp1252"))[0]
    ('cp1251', 'cp1252')
    """
    lines = [line for line in body[:_SAMPLE].splitlines() if not line.isascii()][:_LINES]
    counts = {code: sum(_count_words(line, code) for line in lines) for code in ENCODINGS}
    best = max(ENCODINGS, key=lambda code: counts[code])
    return [best, "cp1252"] if counts[best] > counts["cp1252"] else ["cp1252"]


def shown_encoding(encoding: str, text: str, given: str | None) -> str:
    """The encoding for a report: the default is an assumption where no known word has a letter outside ASCII."""
    if given or encoding != "cp1252":
        return encoding
    lines = [line for line in text[:_SAMPLE].splitlines() if not line.isascii()][:_LINES]
    known = any(_count_words(line.encode("cp1252", "replace"), "cp1252") > 0 for line in lines)
    return encoding if known else f"{encoding}, assumed: set encoding= if names are not spelled correctly"


def _count_words(line: bytes, code: str) -> int:
    """Number of known words of a line with letters outside ASCII; -1 if it is not text in the encoding."""
    try:
        text = line.decode(code)
    except (UnicodeDecodeError, LookupError):
        return -1
    cells = [c for part in re.split(r"[;,|\t]", text) if not (c := part.strip().strip('"')).isascii()]
    named = sum(bool(role_of(c) or is_date_heading(c) or field_of(c)) for c in cells)
    dates = sum(date_in_words(c) is not None for c in cells)
    words = [w for w in _WORD.findall(text) if not w.isascii()]
    return 2 * (named + dates) + sum(
        bool(months_by_language(w) or any_percent_word().fullmatch(w)) for w in words
    )


# Unpacking: archives within limits, text encodings tried in order

_README: Final = re.compile(
    r"(?:^|/)(?:read[-_ ]?me|licen[cs]e|notes?|about|terms|disclaimer)[^/]*$|\.(?:pdf|md|rtf|docx?|png|jpe?g)$",
    re.IGNORECASE,
)
_README_TEXT: Final = re.compile(r"(?:\.(?:txt|md|text)|(?:^|/)[^./]+)$", re.IGNORECASE)
_LONGEST_README: Final = 64 * 1024
_ENCRYPTED: Final = 0x1  # flags of a member of a zip archive
_END_MARK: Final = 0x2
_MOST_DICTIONARY: Final = 256 * 1024 * 1024  # bytes that LZMA may hold
_PIECE: Final = 1024 * 1024
_SMALL: Final = 16 * 1024 * 1024  # unpacked bytes below which the ratio to the packed ones is not checked
DAMAGED: Final = (
    zipfile.BadZipFile,
    zlib.error,
    struct.error,
    OSError,
    EOFError,
    NotImplementedError,
    RuntimeError,
    ValueError,
    LookupError,
    lzma.LZMAError,
)


def read_file(path: Path) -> bytes:
    """Bytes of a local file, within the limit even if its size is unknown."""
    most = current().file_bytes
    try:
        body = read_regular(path, most + 1)
    except FileNotFoundError:
        raise NotFoundError(f"{path} cannot be read: there is no such file.") from None
    except OSError as error:
        raise TableError(f"{path} cannot be read: {error.strerror}.") from error
    except ValueError:
        raise TableError(f"{str(path)!r} is not a path; take out the character NUL.") from None
    if len(body) > most:
        size = max(path.stat().st_size, len(body))
        current().check("file_bytes", size, f"{path} has {size:,} bytes")
    return body


def unpack(body: bytes, name: str, member: str | None) -> tuple[bytes, str]:
    """Bytes and name of the table itself, from a zip or gzip archive if it is in one."""
    for depth in range(current().nesting + 1):
        packed = _is_packed(body)
        if not packed:
            return body, name
        if depth == current().nesting:
            break
        if packed == "gzip":
            with gzip.GzipFile(fileobj=io.BytesIO(body)) as opened:
                body, name = _read_within_limits(opened, name, len(body)), name.removesuffix(".gz")
        else:
            body, name = _from_zip(body, name, member if depth == 0 else None)
    depth = current().nesting + 1
    current().check("nesting", depth, f"{name} contains {depth} or more nested archives")
    return body, name


def _is_packed(body: bytes) -> str:
    if body[:2] == b"\x1f\x8b":
        return "gzip"
    return "zip" if body[:4] == b"PK\x03\x04" and not _is_document(body) else ""


def _is_document(body: bytes) -> bool:
    """Whether a zip archive is a workbook."""
    return bool({"[Content_Types].xml", "content.xml"} & names_in(body))


def names_in(body: bytes) -> set[str]:
    """Names of the files in a zip archive; empty for a damaged one, which is refused on opening."""
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as archive:
            return set(archive.namelist())
    except DAMAGED:
        return set()


def texts_beside(body: bytes) -> dict[str, str]:
    """Files of a zip archive next to its only table; a short read-me with its text."""
    if _is_packed(body) != "zip":
        return {}
    names = sorted(n for n in names_in(body) if not n.endswith("/") and not _is_system_file(n))
    aside = [n for n in names if _README.search(n)]
    return {n: _text_of_member(body, n) for n in aside} if len(names) - len(aside) == 1 else {}


def _text_of_member(body: bytes, name: str) -> str:
    """The text of a read-me; empty for another kind of document, or one that cannot be read."""
    if not _README_TEXT.search(name):
        return ""
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as archive:
            if archive.getinfo(name).compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
                return ""
            with archive.open(name) as member:
                text = member.read(_LONGEST_README + 1)
        return "" if len(text) > _LONGEST_README else decode(text, name, None)[0]
    except (*DAMAGED, TableError):
        return ""


def decode(body: bytes, name: str, encoding: str | None) -> tuple[str, str]:
    """Text and its encoding: the given one, UTF-8, UTF-16 by its mark, or the one whose words are known."""
    marked = "utf-16" if body[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig"
    if marked == "utf-8-sig" and body[1:20:2] == b"\x00" * 10:
        marked = "utf-16-le"
    for trial in [encoding] if encoding else [marked]:
        text = _decode(body, trial)
        if text is not None:
            return text, trial
    for trial in encodings_by_words(body) if not encoding else []:
        text = _decode(body, trial)
        if text is not None:
            return text, trial
    raise TableError(
        f"{name} is not text in {encoding or 'UTF-8 or another known encoding'}. Set its encoding, such as "
        "encoding='utf-16'."
    )


def _decode(body: bytes, encoding: str) -> str | None:
    """Text in an encoding, or None if the bytes are none."""
    try:
        text = body.decode(encoding)
    except (UnicodeError, LookupError):
        return None
    return None if "\x00" in text else text


def decode_page(body: bytes, name: str, encoding: str | None = None) -> tuple[str, str]:
    """As :func:`decode`, by default with the encoding that a web page declares."""
    declared = re.search(rb"charset\s*=\s*[\"']?([\w-]+)", body[:2048], re.IGNORECASE)
    return decode(body, name, encoding or (declared[1].decode("ascii") if declared else None))


def _from_zip(body: bytes, name: str, member: str | None) -> tuple[bytes, str]:
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as archive:
            files = [i for i in archive.infolist() if not i.is_dir() and not _is_system_file(i.filename)]
            names = [i.filename for i in files]
            tables = [n for n in names if not _README.search(n)]
            wanted = member or (tables[0] if len(tables) == 1 else names[0] if len(names) == 1 else None)
            if wanted is None or wanted not in names:
                asked = f"no file '{member}'" if member else f"{quantity(len(names), 'file')}"
                raise TableError(f"{name} holds {asked}: {choices(names)}. Set member='{names[0]}' or another.")
            info = archive.getinfo(wanted)
            if info.compress_type in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
                with archive.open(wanted) as packed:
                    return _read_within_limits(packed, f"{name}/{wanted}", info.compress_size), wanted
            stream = _Bounded(body, info)
            return _read_within_limits(stream, f"{name}/{wanted}", info.compress_size), wanted
    except DAMAGED as error:
        raise TableError(f"{name} is a damaged or locked zip archive: {error}.") from error


class _Bounded:
    """A member of an archive by bzip2 or LZMA, unpacked a piece at a time; ``zipfile`` unpacks all it read."""

    def __init__(self, body: bytes, info: zipfile.ZipInfo) -> None:
        if info.flag_bits & _ENCRYPTED:
            raise zipfile.BadZipFile("it is encrypted")
        start = info.header_offset
        name, extra = struct.unpack("<HH", body[start + 26 : start + 30])
        start += 30 + name + extra
        packed = body[start : start + info.compress_size]
        self._checksum, self._expected, self._left = 0, info.CRC, info.file_size
        if info.compress_type == zipfile.ZIP_BZIP2:
            self._decompressor: bz2.BZ2Decompressor | lzma.LZMADecompressor = bz2.BZ2Decompressor()
        elif info.compress_type == zipfile.ZIP_LZMA:
            (length,) = struct.unpack("<H", packed[2:4])
            size = struct.pack("<Q", (1 << 64) - 1 if info.flag_bits & _END_MARK else info.file_size)
            packed = packed[4 : 4 + length] + size + packed[4 + length :]
            self._decompressor = lzma.LZMADecompressor(lzma.FORMAT_ALONE, memlimit=_MOST_DICTIONARY)
        else:
            raise zipfile.BadZipFile(f"method {info.compress_type} of compression is not supported")
        self._packed = packed

    def read(self, most: int) -> bytes:
        """The next bytes, ``most`` at most; checked against the checksum of the archive at the end."""
        if self._decompressor.eof or self._left <= 0:
            if self._checksum != self._expected:
                raise zipfile.BadZipFile("its checksum is wrong")
            return b""
        piece = self._decompressor.decompress(self._packed, most)
        self._packed = b""
        if not piece and not self._decompressor.eof:
            raise EOFError("it ends early")
        piece = piece[: self._left]
        self._left -= len(piece)
        self._checksum = zlib.crc32(piece, self._checksum)
        return piece


def _is_system_file(name: str) -> bool:
    """Whether it is a file that an operating system adds to archives."""
    return name.startswith("__MACOSX/") or name.rsplit("/", 1)[-1].startswith(".")


def _read_within_limits(packed: IO[bytes] | gzip.GzipFile | _Bounded, name: str, packed_size: int) -> bytes:
    """Read to the end within the limits; ``own`` are the packed bytes."""
    limits_now = current()
    parts, size = [], 0
    try:
        while piece := packed.read(_PIECE):
            size += len(piece)
            limits_now.check("unpacked_bytes", size, f"{name} unpacks to at least {size:,} bytes")
            times = size // max(packed_size, 1) if size > _SMALL else 0
            limits_now.check("expansion", times, f"{name} unpacks to {times:,} times its bytes")
            parts.append(piece)
    except DAMAGED as error:
        raise TableError(f"{name} is a damaged archive: {error}.") from error
    return b"".join(parts)


# Checks of OLE containers (old workbooks), whose sector chains can be circular in damaged files

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
    """The next sector of each sector, from the file's allocation table."""
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


# The kind of a file, by its first bytes: workbook, Parquet, page, JSON or text

_PAGE: Final = re.compile(rb"\s*(<!doctype html|<html|<table|<\?xml[^>]*\?>\s*<!doctype html)", re.IGNORECASE)
_WORKBOOKS: Final = {"xl/workbook.xml", "xl/workbook.bin", "content.xml"}


def kind_of(body: bytes) -> str:
    """Kind of a file, by its first bytes: workbook, parquet (Feather too), page, json or text."""
    if body[:4] == b"PK\x03\x04" and _WORKBOOKS & names_in(body):
        return "workbook"
    if body[:8] == MARK:
        return "workbook"
    if body[:4] == b"PAR1" or body[:6] == b"ARROW1":
        return "parquet"
    start = body[:4096].removeprefix(b"\xef\xbb\xbf")
    if _PAGE.match(start) or (b"<table" in start.lower() and start.lstrip()[:1] == b"<"):
        return "page"
    return "json" if start.lstrip()[:1] in (b"{", b"[") else "text"
