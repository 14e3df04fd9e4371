"""Paths and texts of files that may come from others."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from ultrum.errors import ArgumentError


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

    try:
        return tomllib.loads(text)
    except RecursionError:
        raise tomllib.TOMLDecodeError("its brackets are nested too deeply") from None


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
