"""Progress reports of long work."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager

from ultrum.core.executors import Progress


@contextmanager
def reporting(progress: Progress | None) -> Iterator[Progress]:
    """A function that reports progress: the caller's, or a line on the terminal if there is one."""
    if progress is not None or not sys.stderr.isatty():
        yield progress or (lambda _: None)
        return
    from rich.console import Console

    with Console(stderr=True).status("starting") as status:
        yield status.update
