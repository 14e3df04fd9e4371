"""Scheduling of blocks over workers, within a memory limit."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor
from typing import Final, TypeVar

from ultrum.core.displayed_numbers import counted
from ultrum.core.executors import cores, each_block
from ultrum.errors import TableError
from ultrum.large.long_table import LongTable
from ultrum.large.memory_limit import at_once, bytes_of
from ultrum.large.progress import reporting

B = TypeVar("B")
T = TypeVar("T")
WIDE_BLOCK: Final = 256  # assets laid on a calendar together; fixed, so that results depend on nothing else
_COPIES: Final = 12  # wide tables that lowering a frequency and lining up hold of a block
To = str | os.PathLike[str] | None


def through_blocks(
    table: LongTable,
    job: Callable[[B], T],
    blocks: Sequence[B],
    needs: int,
    executor: Executor | None = None,
) -> Iterator[T]:
    """What a job gives for each block, in order; ``needs`` are the bytes a block takes at most."""
    executor = executor or table.executor
    most = at_once(bytes_of(table.max_memory), needs, table.workers or cores())
    with reporting(table.progress) as tell:
        label = f"{table.path}, {counted(len(blocks), 'block')}"
        tell(label)
        yield from each_block(job, blocks, executor, most, lambda text: tell(f"{label}: {text}"))


def wide_needs(table: LongTable) -> int:
    """Bytes that a block takes at most where it is laid on the whole calendar."""
    return len(table.calendar) * min(WIDE_BLOCK, len(table.assets)) * 8 * _COPIES


def wanted(to: To, function: str) -> str | os.PathLike[str]:
    """Where results go; they must go somewhere."""
    if to is None:
        raise TableError(
            f"{function} of a LongTable writes its results to disk: set the path, to='results.parquet'."
        )
    return to
