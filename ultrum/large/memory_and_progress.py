"""Memory limits of work in blocks, and progress reports."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Final

from ultrum.core.executors import Progress
from ultrum.errors import UltrumError

_UNITS: Final = {"": 1, "KB": 10**3, "MB": 10**6, "GB": 10**9, "KIB": 2**10, "MIB": 2**20, "GIB": 2**30}
DEFAULT: Final = "1 GB"
BASE: Final = 300_000_000  # what the packages themselves hold, and small things
_LEAST: Final = 400_000_000


def bytes_of(max_memory: int | str) -> int:
    """Bytes of a number or of a text such as ``"2 GB"``.

    Raises
    ------
    UltrumError
        If it cannot be parsed, or is less than the program itself needs.

    Examples
    --------
    >>> bytes_of("1.5 GB")
    1500000000
    """
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([A-Za-z]*)\s*", str(max_memory))
    if not match or match[2].upper() not in _UNITS:
        raise UltrumError(
            f"max_memory='{max_memory}' is not a size. Set a number of bytes, or a text such as '2 GB'."
        )
    size = int(float(match[1]) * _UNITS[match[2].upper()])
    if size < _LEAST:
        raise UltrumError(f"max_memory={size:,} bytes is too small; at least {_LEAST:,} are needed.")
    return size


def at_once(max_memory: int, block: int, workers: int) -> int:
    """Maximum number of blocks in progress or waiting.

    Raises
    ------
    UltrumError
        If no block fits.
    """
    most = (max_memory - BASE) // max(block, 1)
    if most < 1:
        raise UltrumError(
            f"One block needs about {block:,} bytes in addition to the {BASE:,} of the program; "
            f"max_memory={max_memory:,} is too small."
        )
    return int(min(most, workers + 1))


# Progress reports of long work


@contextmanager
def reporting(progress: Progress | None) -> Iterator[Progress]:
    """A progress function: the caller's, or a line on the terminal if there is one."""
    if progress is not None or not sys.stderr.isatty():
        yield progress or (lambda _: None)
        return
    from rich.console import Console

    with Console(stderr=True).status("starting") as status:
        yield status.update
