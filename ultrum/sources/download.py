"""Downloads before they are parsed, decoding of response bodies, and addresses of series."""

from __future__ import annotations

import codecs
import re
import zlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any, Final

from ultrum.errors import SourceError
from ultrum.sources.credentials import refuse_secret

PLACE: Final = "place:"  # begins the validator of a local file, which stands for its location
_ADDRESS: Final = re.compile(r"^([A-Za-z][\w-]*):([^#\s][^#\t\n\r]*)(?:#(.+))?$")


@dataclass(frozen=True)
class Download:
    """Complete raw response of a source.

    ``unchanged``: the source confirmed the stored copy, and ``body`` is empty.
    """

    body: bytes
    content_type: str = ""
    etag: str = ""
    last_modified: str = ""
    unchanged: bool = False


@dataclass(frozen=True)
class Address:
    """Name of one series or table: ``source:path`` or ``source:path#field``.

    Examples
    --------
    >>> Address.parse("college:factors_monthly.zip#bill")
    Address(source='college', path='factors_monthly.zip', field='bill')
    """

    source: str
    path: str
    field: str = ""

    @classmethod
    def parse(cls, text: str) -> Address:
        """Read an address.

        Examples
        --------
        >>> from ultrum.sources.download import Address
        >>> Address.parse("exchange:prices.csv#close").field
        'close'
        """
        refuse_secret(f"?{text.partition('?')[2]}" if "?" in text else "", "The address")
        match = _ADDRESS.match(text.strip())
        if not match or "\0" in text:
            raise SourceError(
                f"'{text}' is not an address. Write source:FLOW/KEY for a statistics service, or "
                "source:path#column for a table."
            )
        source, path, field = match.groups()
        if ".." in path.split("/") or path.startswith("/"):
            raise SourceError(f"'{text}': an address cannot leave its source. Remove '..'.")
        return cls(source, path, field or "")

    def __str__(self) -> str:
        return f"{self.source}:{self.path}" + (f"#{self.field}" if self.field else "")


# Decoding of response bodies: one content coding at most, bounded, its end checked

_CODINGS: Final = {"gzip": 31, "x-gzip": 31, "deflate": 15}  # window bits of zlib
_PIECE: Final = 1 << 16
_CHARSET: Final = re.compile(r"charset\s*=\s*[\"']?([\w.:-]+)", re.IGNORECASE)
ACCEPTED: Final = "gzip, deflate"


class CodingError(Exception):
    """The content encoding is not accepted, or the body is truncated."""


def decode_body(parts: Iterable[bytes], coding: str) -> Iterator[bytes]:
    """The body of a response without its content encoding, in pieces of bounded size.

    Parameters
    ----------
    parts : iterable of bytes
        Chunks of the body.
    coding : str
        Value of the Content-Encoding header.

    Raises
    ------
    CodingError
        If there are several encodings, an unknown one, a damaged body, or a truncated one.
    """
    names = [name.strip().lower() for name in coding.split(",") if name.strip()]
    names = [name for name in names if name != "identity"]
    if not names:
        yield from parts
        return
    if len(names) > 1 or names[0] not in _CODINGS:
        raise CodingError(f"its content encoding is '{coding[:60]}'; only gzip or deflate is accepted")
    yield from _inflate(parts, _CODINGS[names[0]])


def _inflate(parts: Iterable[bytes], bits: int) -> Iterator[bytes]:
    reader: Any = None
    for part in parts:
        if reader is None:
            reader = zlib.decompressobj(_bits(part, bits))
        elif reader.eof:
            if part.strip(b"\0"):
                raise CodingError("bytes follow the end of its compressed body")
            continue
        left = part
        while left or reader.unconsumed_tail:
            piece = _decompress(reader, left or reader.unconsumed_tail)
            left = b""
            yield piece
            if not piece and not reader.unconsumed_tail:
                break
        if reader.eof and reader.unused_data.strip(b"\0"):
            raise CodingError("bytes follow the end of its compressed body")
    if reader is not None and not reader.eof:
        raise CodingError("its compressed body is truncated")


def _decompress(reader: Any, data: bytes) -> bytes:
    try:
        return bytes(reader.decompress(data, _PIECE))
    except zlib.error as error:
        raise CodingError(f"its compressed body is damaged ({error})") from None


def _bits(part: bytes, bits: int) -> int:
    """Deflate without the header of the standard is common; it is accepted.

    Examples
    --------
    >>> packed = zlib.compress(b"date,x", 9)
    >>> _bits(packed, 15), _bits(packed[2:], 15), _bits(b"xx", 15), _bits(packed, 31)
    (15, -15, -15, 31)
    """
    if bits == 15 and (len(part) < 2 or (part[0] & 0x0F) != 8 or ((part[0] << 8) | part[1]) % 31):
        return -15
    return bits


def charset_of(content_type: str, body: bytes) -> str | None:
    """Encoding of a text by its Content-Type, unless the text is UTF-8, which servers often do not declare.

    Examples
    --------
    >>> charset_of("text/csv; charset=windows-1250", "Lód,ž".encode("cp1250"))
    'cp1250'
    >>> charset_of("text/csv; charset=iso-8859-1", "Löhne".encode()) is None
    True
    """
    match = _CHARSET.search(content_type)
    if not match:
        return None
    try:
        name = codecs.lookup(match[1]).name
    except LookupError:
        return None
    try:
        body.decode("utf-8")
    except UnicodeDecodeError:
        return name
    return None
