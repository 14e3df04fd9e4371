"""Dispatch to data larger than memory: functions of this package accept such data in place of a table.

`core` reads no files. `ultrum.large` registers a function of its own for each kind of data on disk.
"""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from typing import Any, ClassVar, Final, ParamSpec, TypeVar

from ultrum.errors import TableError

P = ParamSpec("P")
R = TypeVar("R")
_ON_DISK: Final = "__on_disk__"


class LargeData:
    """Base class of data on disk."""

    kind_in_words: ClassVar[str] = "data on disk"


def refuse_large(function: str, data: object) -> None:
    """Refuse data on disk where a function works in memory."""
    if isinstance(data, LargeData):
        raise TableError(
            f"{function} works in memory, and was given data on disk; read some assets of them with .read([...])."
        )


def accepts_large(data: str) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Let a function take data on disk as the argument of this name.

    The work is done by the function that :func:`register_large` sets for the kind of data. ``to``, where the
    function has it, is for data on disk alone.
    """

    def _decorate(function: Callable[P, R]) -> Callable[P, R]:
        signature = inspect.signature(function)
        work_of: dict[type[LargeData], Callable[..., R]] = {}

        @functools.wraps(function)
        def _dispatch(*args: P.args, **kwargs: P.kwargs) -> R:
            first = args[0] if args else kwargs.get(data)
            if not isinstance(first, LargeData):
                if kwargs.get("to") is not None:
                    raise TableError(
                        f"{function.__name__}: to= is for the results of data on disk; these are in memory. "
                        "Leave it out, or open the data with LongTable(path)."
                    )
                return function(*args, **kwargs)
            if type(first) not in work_of:
                takes = " or ".join(kind.kind_in_words for kind in work_of)
                raise TableError(f"{function.__name__} takes {takes}; it was given {type(first).kind_in_words}.")
            bound = signature.bind(*args, **kwargs)
            bound.apply_defaults()
            rest = {name: value for name, value in bound.arguments.items() if name != data}
            return work_of[type(first)](first, **rest)

        setattr(_dispatch, _ON_DISK, work_of)
        return _dispatch

    return _decorate


def register_large(function: Callable[..., Any], kind: type[LargeData], work: Callable[..., Any]) -> None:
    """Set what a function does with one kind of data on disk."""
    getattr(function, _ON_DISK)[kind] = work
