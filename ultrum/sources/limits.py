"""Limits on input from outside: bytes, rows, cells, nested archives, time."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field, fields, replace
from typing import Final

from ultrum.core.displayed_numbers import quantity
from ultrum.errors import TableError, UltrumError, one_of

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
