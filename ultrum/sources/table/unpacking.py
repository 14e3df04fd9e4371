"""Unpacking: archives within limits, text encodings tried in order."""

from __future__ import annotations

import gzip
import io
import re
import struct
import zipfile
import zlib
from pathlib import Path
from typing import IO, Final

from ultrum.core.displayed_numbers import quantity
from ultrum.errors import NotFoundError, TableError, choices
from ultrum.sources.limits import current
from ultrum.sources.table.encodings import encodings_by_words

_README: Final = re.compile(
    r"(?:^|/)(?:read[-_ ]?me|licen[cs]e|notes?|about|terms|disclaimer)[^/]*$|\.(?:pdf|md|rtf|docx?|png|jpe?g)$",
    re.IGNORECASE,
)
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
)


def read_file(path: Path) -> bytes:
    """Bytes of a local file, within the limit even if its size is unknown."""
    most = current().file_bytes
    try:
        with path.open("rb") as file:
            body = file.read(most + 1)
    except FileNotFoundError:
        raise NotFoundError(f"{path} cannot be read: there is no such file.") from None
    except OSError as error:
        raise TableError(f"{path} cannot be read: {error.strerror}.") from error
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


def members_beside(body: bytes) -> list[str]:
    """Files of a zip archive next to its only table, such as a read-me."""
    if _is_packed(body) != "zip":
        return []
    names = sorted(n for n in names_in(body) if not n.endswith("/") and not _is_system_file(n))
    aside = [n for n in names if _README.search(n)]
    return aside if len(names) - len(aside) == 1 else []


def decode(body: bytes, name: str, encoding: str | None) -> tuple[str, str]:
    """Text and its encoding: the given one, UTF-8, UTF-16 by its mark, or the one whose words are known."""
    marked = "utf-16" if body[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig"
    if marked == "utf-8-sig" and body[1:20:2] == b"\x00" * 10:
        marked = "utf-16-le"
    for trial in [encoding] if encoding else [marked]:
        text = _decoded(body, trial)
        if text is not None:
            return text, trial
    for trial in encodings_by_words(body) if not encoding else []:
        text = _decoded(body, trial)
        if text is not None:
            return text, trial
    raise TableError(
        f"{name} is not text in {encoding or 'UTF-8 or another known encoding'}. Set its encoding, such as "
        "encoding='utf-16'."
    )


def _decoded(body: bytes, encoding: str) -> str | None:
    """Text in an encoding, or None if the bytes are none."""
    try:
        text = body.decode(encoding)
    except (UnicodeDecodeError, LookupError):
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
            with archive.open(wanted) as packed:
                packed_size = archive.getinfo(wanted).compress_size
                return _read_within_limits(packed, f"{name}/{wanted}", packed_size), wanted
    except DAMAGED as error:
        raise TableError(f"{name} is a damaged or locked zip archive: {error}.") from error


def _is_system_file(name: str) -> bool:
    """Whether it is a file that an operating system adds to archives."""
    return name.startswith("__MACOSX/") or name.rsplit("/", 1)[-1].startswith(".")


def _read_within_limits(packed: IO[bytes] | gzip.GzipFile, name: str, packed_size: int) -> bytes:
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
