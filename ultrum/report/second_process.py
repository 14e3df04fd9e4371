"""A second process that shares work such as drawing, which holds Python's lock: threads would not help."""

from __future__ import annotations

import os
import pickle
import struct
import subprocess
import sys
from collections import deque
from collections.abc import Callable, Sequence
from pathlib import Path
from threading import Thread
from typing import IO, Any, Final, Generic, TypeVar, cast

T = TypeVar("T")
R = TypeVar("R")
_LENGTH: Final = struct.Struct("!Q")
_FEWEST: Final = 4  # figures for which another process is worth its start
_START: Final = "from ultrum.report.second_process import serve; serve()"


class SecondProcessError(Exception):
    """The second process ended or could not do its part."""


class SharedWork(Generic[T, R]):
    """A function applied to many things, a share of them in another process that begins at once.

    Parameters
    ----------
    work : callable
        Pickled for the other process.
    things : sequence
        What to work on. This process begins with the first, the other with the last.

    Examples
    --------
    >>> with SharedWork(abs, [-1, -2]) as shared:
    ...     shared.results()
    {-1: 1, -2: 2}
    """

    def __init__(self, work: Callable[[T], R], things: Sequence[T]) -> None:
        self._work, self._things = work, tuple(things)
        self._waiting, self._done = deque(things), dict[T, R]()
        self._helper = Thread(target=self._helped)
        if len(things) >= _FEWEST and (os.cpu_count() or 1) > 1:
            self._helper.start()

    def results(self) -> dict[T, R]:
        """Results by thing. What the other process fails to do is done here, so that errors are raised here."""
        self._do_here()
        if self._helper.is_alive():
            self._helper.join()
        self._do_here()  # what the other could not do
        return {thing: self._done[thing] for thing in self._things}

    def __enter__(self) -> SharedWork[T, R]:
        return self

    def __exit__(self, *error: object) -> None:
        self._waiting.clear()  # the helper ends with what it has in hand

    def _do_here(self) -> None:
        while self._waiting:
            try:
                thing = self._waiting.popleft()
            except IndexError:  # the other took the last
                return
            self._done[thing] = self._work(thing)

    def _helped(self) -> None:
        """Hand things to the other process, one when it is done with the last."""
        thing: T | None = None
        try:
            with SecondProcess(self._work) as process:
                while self._waiting:
                    thing = self._waiting.pop()
                    self._done[thing] = process.do(thing)
                    thing = None
        except (
            SecondProcessError,
            OSError,
            IndexError,
            pickle.PickleError,
            AttributeError,
            TypeError,
        ):
            if thing is not None:
                self._waiting.append(thing)


class SecondProcess:
    """A process that applies one function to what it is sent. Both ends are this program; nothing listens."""

    def __init__(self, work: Callable[[Any], Any]) -> None:
        body = pickle.dumps(work, protocol=5)
        root = str(Path(__file__).parent.parent.parent)
        places = os.pathsep.join([root, *(p for p in sys.path if p)])
        self._process = subprocess.Popen(  # noqa: S603 - this program itself
            [sys.executable, "-P", "-c", _START], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL, env={**os.environ, "PYTHONPATH": places},
        )  # fmt: skip
        self._there, self._back = cast(
            "tuple[IO[bytes], IO[bytes]]", (self._process.stdin, self._process.stdout)
        )
        _sent(self._there, body)

    def do(self, thing: Any) -> Any:
        """Apply the function in the other process.

        Raises
        ------
        SecondProcessError
            If the function or the process fails there.
        """
        _sent(self._there, pickle.dumps(thing, protocol=5))
        answer = _received(self._back)
        if not answer:
            raise SecondProcessError
        return pickle.loads(answer)  # noqa: S301 - from a process that this one started

    def __enter__(self) -> SecondProcess:
        return self

    def __exit__(self, *error: object) -> None:
        self._process.kill()
        self._process.communicate()


def serve() -> None:
    """The other process: read a function, then apply it to each thing that comes, until there is no more."""
    source, target = sys.stdin.buffer, sys.stdout.buffer
    sys.stdout = sys.stderr  # what a library prints is no answer
    work = pickle.loads(_received(source))  # noqa: S301 - from the process that started this one
    while body := _received(source):
        try:
            answer = pickle.dumps(work(pickle.loads(body)), protocol=5)  # noqa: S301 - as above
        except Exception:
            answer = b""  # the first process does it again and reports what is wrong
        _sent(target, answer)


def _sent(stream: IO[bytes], body: bytes) -> None:
    stream.write(_LENGTH.pack(len(body)))
    stream.write(body)
    stream.flush()


def _received(stream: IO[bytes]) -> bytes:
    """The next message; empty at the end."""
    head = stream.read(_LENGTH.size)
    return stream.read(_LENGTH.unpack(head)[0]) if len(head) == _LENGTH.size else b""
