"""The protocol of data larger than memory: functions of this package accept it in place of a table.

`core` reads no files, so it only knows that such data can do the work themselves; `ultrum.large` has them.
"""

from __future__ import annotations

import functools
import inspect
from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import Any, ParamSpec, TypeVar

from ultrum.errors import TableError

P = ParamSpec("P")
R = TypeVar("R")


class Streamed(ABC):
    """Data that do the work of a function block by block, by the name of the function."""

    @abstractmethod
    def streamed(self, function: str, **said: Any) -> Any:
        """Do what the function of that name does, with what it was given beside these data."""


def refuse_streamed(function: str, data: object) -> None:
    """Say that a function works in memory, where data on disk are given to it."""
    if isinstance(data, Streamed):
        raise TableError(
            f"{function} works in memory, and was given data on disk; take some assets of them with "
            ".read([...])."
        )


def streams(data: str) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Let a function take `Streamed` data as the argument of that name; they then do its work.

    ``to`` and ``executor``, where the function has them, are for such data alone or as it says.
    """

    def _decorate(function: Callable[P, R]) -> Callable[P, R]:
        shape = inspect.signature(function)

        @functools.wraps(function)
        def _either(*args: P.args, **kwargs: P.kwargs) -> R:
            first = args[0] if args else kwargs.get(data)
            if isinstance(first, Streamed):
                bound = shape.bind(*args, **kwargs)
                bound.apply_defaults()
                said = dict(bound.arguments)
                del said[data]
                return first.streamed(function.__name__, **said)  # type: ignore[no-any-return]
            if kwargs.get("to") is not None:
                raise TableError(
                    f"{function.__name__}: to= is where the results of data on disk go; these are in memory. "
                    "Leave it out, or open the data with LongTable(path)."
                )
            return function(*args, **kwargs)

        return _either

    return _decorate
