"""Executors: blocks of work in order, with a bounded number in progress, repeated when a worker dies.

Each block runs on one core, so the same work gives the same bits on every worker.
"""

from __future__ import annotations

import os
import sys
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import BrokenExecutor, CancelledError, Executor, Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cache
from typing import Any, Final, Generic, TypeVar

import numpy as np

from ultrum.core.array_types import Array, Floats, Ints
from ultrum.errors import UltrumError

B = TypeVar("B")
T = TypeVar("T")
Progress = Callable[[str], None]
_STRIP: Final = 128  # columns of a few rows, so that the memory pages they are on stay at hand
_TRIES: Final = 3  # of a block at the executor, before it is done here
_LOSSES: Final = (BrokenExecutor, CancelledError, ConnectionError, EOFError)
_LOSSES_OF_CLUSTERS: Final = {"KilledWorker", "CommClosedError", "FutureCancelledError"}
_LOCK: Final = threading.Lock()
_HELD: Final[dict[str, Any]] = {"count": 0, "limits": None}


def each_block(
    job: Callable[[B], T],
    blocks: Iterable[B],
    executor: Executor | None = None,
    most: int | None = None,
    progress: Progress | None = None,
) -> Iterator[T]:
    """Results of a job for every block, in their order.

    Parameters
    ----------
    job : callable
        A function of the block alone; an executor of processes must be able to pickle it.
    blocks : iterable
    executor : concurrent.futures.Executor, optional
        By default a pool of threads of this process, one per core.
    most : int, optional
        Maximum number of blocks in progress, including results that wait for their turn; by default the number of
        cores plus one.
    progress : callable, optional
        Called for every block.
    """
    most = cores() + 1 if most is None else most
    tell = progress or (lambda _: None)
    with one_core():
        if executor is not None:
            yield from _Queue(job, executor, tell).results(blocks, most)
            return
        with ThreadPoolExecutor(min(cores(), most)) as threads:
            yield from _Queue(job, threads, tell).results(blocks, most)


class Workspace(threading.local):
    """Arrays that the blocks of a thread use in turn.

    The system clears memory it hands out, which takes several times as long as the arithmetic on an array of a
    megabyte.
    """

    def floats(self, name: str, shape: tuple[int, int]) -> Floats:
        """An array of floats with any content."""
        return self._array(name, shape, np.float64)

    def copy(self, name: str, values: Floats) -> Floats:
        """A copy of floats, with its rows in one piece."""
        out = self.floats(name, (values.shape[0], values.shape[1]))
        wide = values.shape[1] if values.flags.c_contiguous else _STRIP
        for first in range(0, values.shape[1], wide):
            out[:, first : first + wide] = values[:, first : first + wide]
        return out

    def integers(self, name: str, shape: tuple[int, int]) -> Ints:
        """An array of integers with any content."""
        return self._array(name, shape, np.int64)

    def _array(self, name: str, shape: tuple[int, int], kind: type) -> Array:
        size, key = shape[0] * shape[1], f"{name} {kind.__name__}"
        kept: Array | None = self.__dict__.get(key)
        if kept is None or kept.size < size:
            kept = self.__dict__[key] = np.empty(size, dtype=kind)
        return kept[:size].reshape(shape)


def cores() -> int:
    """Number of cores that this process can use."""
    if sys.platform == "linux":
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


@dataclass(frozen=True)
class _Queue(Generic[B, T]):
    """Blocks in progress, oldest first."""

    job: Callable[[B], T]
    executor: Executor
    tell: Progress
    waiting: deque[tuple[int, B, Future[T] | None]] = field(default_factory=deque)

    def results(self, blocks: Iterable[B], most: int) -> Iterator[T]:
        """Results of the blocks, in order, with a bounded number in progress."""
        try:
            for number, block in enumerate(blocks, 1):
                if len(self.waiting) == most:
                    yield self._first()
                self.waiting.append((number, block, self._submit(block)))
            while self.waiting:
                yield self._first()
        finally:
            for _, _, future in self.waiting:
                if future is not None:
                    future.cancel()

    def _submit(self, block: B) -> Future[T] | None:
        """Submit the block to the executor; None if it accepts no more work."""
        try:
            return self.executor.submit(alone, self.job, block)
        except (BrokenExecutor, RuntimeError):
            return None

    def _first(self) -> T:
        """The result of the oldest block; if its worker died the block is repeated, finally in this process."""
        number, block, future = self.waiting.popleft()
        for _ in range(_TRIES):
            if future is None:
                break
            try:
                result = future.result()
            except Exception as error:
                if not _is_loss(error):
                    raise
                self.tell(f"{number} again, its worker was lost")
                future = self._submit(block)
                continue
            self.tell(f"{number} done")
            return result
        self.tell(f"{number} in this process")
        return alone(self.job, block)


def alone(job: Callable[[B], T], block: B) -> T:
    """Run a block with single-threaded matrix products."""
    with one_core():
        return job(block)


@contextmanager
def one_core() -> Iterator[None]:
    """Matrix products use no threads of their own inside; the last block to leave restores them.

    The number of threads is a setting of the whole process, so blocks inside are counted.
    """
    with _LOCK:
        _HELD["count"] += 1
        if _HELD["count"] == 1:
            _HELD["limits"] = _libraries().limit(limits=1)
    try:
        yield
    finally:
        with _LOCK:
            _HELD["count"] -= 1
            if not _HELD["count"]:
                _HELD["limits"].restore_original_limits()


@cache
def _libraries() -> Any:
    """The libraries behind NumPy's matrix products, found once per process."""
    from threadpoolctl import ThreadpoolController

    return ThreadpoolController()


def _is_loss(error: Exception) -> bool:
    """Whether the worker failed, rather than the work."""
    if isinstance(error, UltrumError):
        return False
    return isinstance(error, _LOSSES) or type(error).__name__ in _LOSSES_OF_CLUSTERS
