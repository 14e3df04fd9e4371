"""Paths and texts of files that may come from others."""

from __future__ import annotations

import errno
import json
import os
import platform
import re
import stat
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any, Final

from ultrum.errors import ArgumentError

_PIECEWISE: Final = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)
_DOTTED: Final = re.compile(r"^[ \t\[]*[^=\n#\"']*?(?:\.[^=.\n#\"']*){50}", re.MULTILINE)


def path_of(place: str | os.PathLike[str]) -> Path:
    """A path that is safe to pass to the system.

    Raises
    ------
    ArgumentError
        If it contains the character NUL.

    Examples
    --------
    >>> path_of("prices.csv").name
    'prices.csv'
    """
    if "\0" in os.fspath(place):
        raise ArgumentError(f"{os.fspath(place)!r} is not a path; take out the character NUL.")
    return Path(place)


def open_regular(path: str | os.PathLike[str]) -> IO[bytes]:
    """A file opened for reading; named pipes and devices, which could block or never end, are refused.

    Raises
    ------
    OSError
        If it does not exist, cannot be read, or is not a regular file.
    """
    handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    try:
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            raise OSError(errno.EINVAL, "it is not a regular file", os.fspath(path))
        return os.fdopen(handle, "rb")
    except BaseException:
        os.close(handle)
        raise


def read_regular(path: str | os.PathLike[str], most: int = -1) -> bytes:
    """Bytes of a regular file, ``most`` at most.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     _ = Path(folder, "a.txt").write_text("whole")
    ...     read_regular(Path(folder, "a.txt"), 3)
    b'who'
    """
    with open_regular(path) as file:
        size = os.fstat(file.fileno()).st_size + 1  # a buffer of this size, not of the limit
        return file.read(size if most < 0 else min(most, size))


@contextmanager
def open_zip(path: str | os.PathLike[str]) -> Iterator[zipfile.ZipFile]:
    """A zip archive of this program: a regular file whose members unpack piece by piece.

    Raises
    ------
    OSError, zipfile.BadZipFile
        If it is none.
    """
    with open_regular(path_of(path)) as file, zipfile.ZipFile(file) as archive:
        odd = [i.filename for i in archive.infolist() if i.compress_type not in _PIECEWISE]
        if odd:
            raise zipfile.BadZipFile(f"'{odd[0][:80]}' is packed by an unusual method")
        yield archive


def process_mark() -> str:
    """The machine and number of this process, as a part of the name of a temporary file."""
    return f"{re.sub(r'[^A-Za-z0-9]+', '_', platform.node())[:40]}-{os.getpid()}-"


def is_of_dead(name: str, prefix: str) -> bool:
    """Whether a process of this machine that has ended made a file named with its mark after a prefix."""
    mark = process_mark().rpartition(f"{os.getpid()}-")[0]
    match = re.match(rf"{re.escape(prefix + mark)}(\d+)-", name)
    if not match or os.name == "nt":  # where asking would stop the process
        return False
    try:
        os.kill(int(match[1]), 0)
    except ProcessLookupError:
        return True
    except OSError:
        return False
    return False


@contextmanager
def write_whole(target: Path) -> Iterator[Path]:
    """A temporary path that replaces ``target`` only when the block ends without an error.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     with write_whole(Path(folder, "a.txt")) as arriving:
    ...         _ = arriving.write_text("whole")
    ...     Path(folder, "a.txt").read_text()
    'whole'
    """
    arriving = target.with_name(f".{target.name}.{os.getpid()}.arriving")
    try:
        yield arriving
        os.replace(arriving, target)
    finally:
        arriving.unlink(missing_ok=True)


def toml_of(text: str) -> dict[str, Any]:
    """The content of a TOML text.

    Raises
    ------
    tomllib.TOMLDecodeError
        If it is not TOML, or its brackets are nested too deeply.
    """
    import tomllib

    dotted = _DOTTED.search(text)
    if dotted:
        line = text.count("\n", 0, dotted.start()) + 1
        raise tomllib.TOMLDecodeError(f"line {line} has a name of too many parts")
    try:
        return tomllib.loads(text)
    except RecursionError:
        raise tomllib.TOMLDecodeError("its brackets are nested too deeply") from None
    except tomllib.TOMLDecodeError:
        raise
    except ValueError:  # a whole number of thousands of digits
        raise tomllib.TOMLDecodeError("a number has too many digits") from None


def json_of(text: str | bytes) -> object:
    """The content of a JSON text.

    Raises
    ------
    ValueError
        If it is not JSON, or its brackets are nested too deeply.
    """
    try:
        return json.loads(text)
    except RecursionError:
        raise ValueError("its brackets are nested too deeply") from None
