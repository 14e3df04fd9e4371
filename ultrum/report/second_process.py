"""A second process that shares work such as drawing, which holds Python's lock: threads would not help."""

from __future__ import annotations

import contextlib
import importlib
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

from ultrum.core.executors import cores

T = TypeVar("T")
R = TypeVar("R")
_LENGTH: Final = struct.Struct("!Q")
FEWEST: Final = 4  # things for which another process is worth its start
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
    process : SecondProcess, optional
        One that has been started already; it is ended here.

    Examples
    --------
    >>> with SharedWork(abs, [-1, -2]) as shared:
    ...     shared.results()
    {-1: 1, -2: 2}
    """

    def __init__(self, work: Callable[[T], R], things: Sequence[T], process: SecondProcess | None = None) -> None:
        self._work, self._things, self._process = work, tuple(things), process
        self._waiting, self._done = deque(things), dict[T, R]()
        self._helper: Thread | None = None
        if len(things) >= FEWEST and cores() > 1:
            with contextlib.suppress(pickle.PicklingError, AttributeError, TypeError):
                # packed at once, before this process can change what the work holds
                packed = pickle.dumps(work, protocol=5)
                self._helper = Thread(target=self._helped, args=(packed,))
                self._helper.start()

    def results(self) -> dict[T, R]:
        """Results by thing. What the other process fails to do is done here, so that errors are raised here."""
        self._do_here()
        if self._helper is not None:
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

    def _helped(self, packed: bytes) -> None:
        """Hand things to the other process, one when it is done with the last."""
        thing: T | None = None
        try:
            with self._process or SecondProcess() as process:
                process.take(packed)
                while self._waiting:
                    thing = self._waiting.pop()
                    self._done[thing] = process.do(thing)
                    thing = None
        except IndexError:  # the first took the last
            return
        except (SecondProcessError, OSError, ValueError, pickle.PickleError):
            if thing is not None:
                self._waiting.append(thing)


class SecondProcess:
    """A process that applies one function to what it is sent. Both ends are this program; nothing listens.

    Parameters
    ----------
    modules : str
        Names of modules that it imports at once, so that it need not when the work comes.
    """

    def __init__(self, *modules: str) -> None:
        root = str(Path(__file__).parent.parent.parent)
        places = os.pathsep.join([root, *(p for p in sys.path if p)])
        self._process = subprocess.Popen(  # noqa: S603 - this program itself
            [sys.executable, "-P", "-c", _START], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL, env={**os.environ, "PYTHONPATH": places},
        )  # fmt: skip
        self._there, self._back = cast("tuple[IO[bytes], IO[bytes]]", (self._process.stdin, self._process.stdout))
        _sent(self._there, " ".join(modules).encode())

    def take(self, packed: bytes) -> None:
        """Send the function, pickled."""
        _sent(self._there, packed)

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
        self.end()

    def end(self) -> None:
        """End the process, whatever it is doing."""
        self._process.kill()
        self._process.wait()
        for stream in (self._there, self._back):
            with contextlib.suppress(OSError):
                stream.close()


class StartedAhead:
    """A second process that starts when it is first known to be needed, and ends with a block.

    Parameters
    ----------
    modules : str
        Names of modules that it imports.
    enough : bool
        Whether there will be work enough for two.
    """

    def __init__(self, *modules: str, enough: bool = True) -> None:
        self._modules, self._useful = modules, enough and cores() > 1
        self.process: SecondProcess | None = None

    def start(self) -> None:
        """Start it, unless it runs already or would not help."""
        if self.process is None and self._useful:
            with contextlib.suppress(OSError):
                self.process = SecondProcess(*self._modules)

    def __enter__(self) -> StartedAhead:
        return self

    def __exit__(self, *error: object) -> None:
        if self.process is not None:
            self.process.end()


def serve() -> None:
    """The other process: read a function, then apply it to each thing that comes, until there is no more."""
    source, target = sys.stdin.buffer, sys.stdout.buffer
    sys.stdout = sys.stderr  # an answer is only what is sent below
    for name in _received(source).decode().split():
        importlib.import_module(name)
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
