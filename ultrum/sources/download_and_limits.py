"""A download with its facts, and the limits of what a source may send."""

from __future__ import annotations

import codecs
import os
import re
import zlib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field, fields, replace
from typing import Any, Final

from ultrum.core.presentation import quantity
from ultrum.errors import SourceError, TableError, UltrumError, one_of
from ultrum.sources.credentials import refuse_secret

VARIABLE: Final = "ULTRUM_LIMITS"


@dataclass(frozen=True)
class Limits:
    """Maximum sizes of input; see :func:`limits`.

    Attributes
    ----------
    file_bytes, answer_bytes : int
        Bytes of a local file, and of the response of a service.
    unpacked_bytes, expansion, nesting : int
        Contents of an archive or a workbook: bytes, expansion ratio for contents above 16 MB, and depth of nested
        archives.
    rows, columns, cells, sheets : int
        Rows and columns of a table, its cells, and sheets of a workbook; cells are rows times the widest row.
    redirects, seconds : int
        Of one answer.

    Examples
    --------
    >>> import ultrum as ul
    >>> larger = ul.Limits(cells=10_000_000)
    >>> larger.cells
    10000000
    """

    file_bytes: int = 512 * 1024**2
    answer_bytes: int = 512 * 1024**2
    unpacked_bytes: int = 512 * 1024**2
    expansion: int = 400
    nesting: int = 1
    rows: int = 20_000_000
    columns: int = 50_000
    cells: int = 100_000_000
    sheets: int = 1_000
    redirects: int = 5
    seconds: int = 600

    def check(self, name: str, size: float, description: str) -> None:
        """Refuse a size above the limit of that name; ``description`` is for the message.

        Parameters
        ----------
        name : str
            Name of the limit.
        size : float
            Size that was found.
        description : str
            The object of that size, for the message.

        Raises
        ------
        TableError
            With instructions for a higher limit.
        """
        most = getattr(self, name)
        if size > most:
            enough = _rounder(size)
            raise TableError(
                f"{description}; the limit is {most:,}. To read it, raise the limit: "
                f"ul.limits({name}={enough}), or {VARIABLE}={name}={enough} in the environment."
            )

    def check_shape(self, rows: int, columns: int, where: str) -> None:
        """Refuse a table of too many rows, columns or cells.

        Parameters
        ----------
        rows : int
            Rows found.
        columns : int
            Columns found.
        where : str
            File or address, for the message.
        """
        self.check("rows", rows, f"{where} has {quantity(rows, 'row')}")
        self.check("columns", columns, f"{where}: a line has {quantity(columns, 'cell')}")
        cells = rows * columns
        self.check("cells", cells, f"{where} has {rows:,} rows of {columns:,} columns, {cells:,} cells")


def _rounder(number: float) -> int:
    """The next round number."""
    size = 10 ** (len(str(int(number))) - 1)
    return int(-(-int(number) // size) * size)


def _from_environment() -> Limits:
    text = os.environ.get(VARIABLE, "")
    changes: dict[str, int] = {}
    for part in filter(None, (p.strip() for p in text.split(","))):
        name, _, value = part.partition("=")
        if not value.strip().replace("_", "").isdigit():
            raise UltrumError(f"{VARIABLE}: '{part}' is not a limit. Write rows=30000000,columns=80000.")
        changes[name.strip()] = int(value)
    return _change_limits(Limits(), changes, VARIABLE)


def _change_limits(base: Limits, changes: dict[str, int], where: str) -> Limits:
    names = [f.name for f in fields(Limits)]
    for name, value in changes.items():
        if name not in names:
            raise UltrumError(f"{where}: no limit '{name}'; {one_of(name, names)}")
        if value < 1:
            raise UltrumError(f"{where}: {name}={value}. A limit must be 1 or more.")
    return replace(base, **changes)


# Of the blocks of code around, the innermost last.
_OVERRIDES: Final = ContextVar[tuple[Limits, ...]]("limits", default=())


def current() -> Limits:
    """The limits in effect: those of ``ul.limits``, or of the environment."""
    overrides = _OVERRIDES.get()
    return overrides[-1] if overrides else _from_environment()


@contextmanager
def limits(**changes: int) -> Iterator[Limits]:
    r"""Use other limits within a block of code.

    They apply to this thread and its parallel downloads; other threads keep their own. For whole programs and for
    the command line, set the environment variable ``ULTRUM_LIMITS``:
    ``ULTRUM_LIMITS=rows=30000000,columns=80000``.

    Parameters
    ----------
    **changes : int
        ``file_bytes answer_bytes unpacked_bytes expansion nesting rows columns cells sheets redirects
        seconds``.

    Yields
    ------
    Limits
        The limits within the block.

    Raises
    ------
    UltrumError
        If there is no such limit.

    Examples
    --------
    >>> import ultrum as ul
    >>> with ul.limits(rows=2):
    ...     try:
    ...         ul.read_series("date,a\n2024-01,1\n2024-02,2\n2024-03,3\n")
    ...     except ul.UltrumError as error:
    ...         print(str(error)[:52])
    pasted text has 4 lines; the limit is 2. To read it,
    """
    changed = _change_limits(current(), changes, "limits")
    _OVERRIDES.set((*_OVERRIDES.get(), changed))
    try:
        yield changed
    finally:  # by identity: an outer block may have set equal limits, or have ended before this one
        _OVERRIDES.set(tuple(limits for limits in _OVERRIDES.get() if limits is not changed))


@dataclass(frozen=True)
class HttpPolicy:
    """Limits of downloads, in seconds and bytes, and whether a server can confirm a stored copy."""

    attempts: int = 4
    first_wait: float = 0.25
    longest_wait: float = 60.0
    connect_timeout: float = 5.0
    read_timeout: float = 60.0
    total_time: float = field(default_factory=lambda: current().seconds)
    largest_answer: int = field(default_factory=lambda: current().answer_bytes)
    connections: int = 16
    connections_per_host: int = 8
    redirects: int = field(default_factory=lambda: current().redirects)
    conditional: bool = True


# Downloads before they are parsed, decoding of response bodies, and addresses of series

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
        >>> from ultrum.sources.download_and_limits import Address
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
