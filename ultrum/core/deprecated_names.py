"""Earlier names, which work for one more release with a warning."""

from __future__ import annotations

import functools
import warnings
from collections.abc import Callable, Mapping
from typing import Any, ClassVar, Final, ParamSpec, TypeVar

import pandas as pd

from ultrum.errors import ArgumentError

P = ParamSpec("P")
R = TypeVar("R")
UNTIL: Final = "0.3"
_VALUES: Final = "__earlier_values__"


def warn_of_name(old: str, new: str, stacklevel: int = 3) -> None:
    """Warn that a name has been replaced.

    Parameters
    ----------
    old, new : str
        Both names, as a user writes them.
    stacklevel : int
        Number of frames between this function and the user's line.
    """
    text = f"{old} is now {new}; the old name works until version {UNTIL}."
    warnings.warn(text, DeprecationWarning, stacklevel=stacklevel)


class RenamedAttribute:
    """An attribute or method under its earlier name.

    Parameters
    ----------
    new : str
        The current name of the attribute.

    Examples
    --------
    >>> class Example:
    ...     value = 1
    ...     number = RenamedAttribute("value")
    >>> with warnings.catch_warnings(action="ignore"):
    ...     Example().number
    1
    """

    def __init__(self, new: str) -> None:
        self._new, self._old = new, ""

    def __set_name__(self, owner: type, name: str) -> None:
        self._old = name

    def __get__(self, instance: object, owner: type | None = None) -> object:
        if instance is None:
            return self
        name = type(instance).__name__
        warn_of_name(f"{name}.{self._old}", f"{name}.{self._new}")
        return getattr(instance, self._new)


class RenamedColumns(pd.DataFrame):
    """A table that also accepts earlier column names, as ``table["old"]``.

    Results of operations on it are plain DataFrames.
    """

    old_names: ClassVar[dict[str, str]] = {}

    def __getitem__(self, key: object) -> Any:
        """Columns by name; an earlier name warns."""
        if isinstance(key, str):
            key = self._name_now(key)
        elif isinstance(key, list):
            key = list(key)
            for place, name in enumerate(key):
                key[place] = self._name_now(name) if isinstance(name, str) else name
        return super().__getitem__(key)

    def _name_now(self, name: str) -> str:
        if name in self.columns or name not in self.old_names:
            return name
        warn_of_name(f"Column '{name}'", f"'{self.old_names[name]}'", stacklevel=4)
        return self.old_names[name]


def renamed_arguments(**names: str) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Let a function accept keywords by their earlier names.

    Parameters
    ----------
    **names : str
        Current keyword for each earlier name.

    Returns
    -------
    callable
        A decorator.

    Examples
    --------
    >>> @renamed_arguments(step="over")
    ... def lag(over=1):
    ...     return over
    >>> with warnings.catch_warnings(action="ignore"):
    ...     lag(step=3)
    3
    """

    def _decorate(function: Callable[P, R]) -> Callable[P, R]:
        @functools.wraps(function)
        def _call(*args: P.args, **kwargs: P.kwargs) -> R:
            for old in names.keys() & kwargs.keys():
                warn_of_name(f"{function.__name__}({old}=)", f"{function.__name__}({names[old]}=)")
                if names[old] in kwargs:
                    raise ArgumentError(
                        f"{function.__name__}: {old}= is the old name of {names[old]}=; give one of them."
                    )
                kwargs[names[old]] = kwargs.pop(old)
            return function(*args, **kwargs)

        return _call

    return _decorate


def renamed_values(**values: Mapping[str, str]) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Let a function accept earlier names of values of its keywords, alone or in a list.

    Parameters
    ----------
    **values : mapping of str to str
        For each keyword, the current value by its earlier name.

    Returns
    -------
    callable
        A decorator.

    Examples
    --------
    >>> @renamed_values(how={"deviation": "std"})
    ... def rolling(how="mean"):
    ...     return how
    >>> with warnings.catch_warnings(action="ignore"):
    ...     rolling(how="deviation")
    'std'
    """

    def _decorate(function: Callable[P, R]) -> Callable[P, R]:
        @functools.wraps(function)
        def _call(*args: P.args, **kwargs: P.kwargs) -> R:
            for name in values.keys() & kwargs.keys():
                kwargs[name] = _value_now(f"{function.__name__}({name}=", kwargs[name], values[name])
            return function(*args, **kwargs)

        setattr(_call, _VALUES, values)
        return _call

    return _decorate


def value_now(function: Callable[..., object], name: str, value: object) -> object:
    """The current name of a value of a function's keyword, without a warning.

    Parameters
    ----------
    function : callable
    name : str
        The keyword.
    value : object

    Returns
    -------
    object
        The value itself, unless it is an earlier name.
    """
    names = getattr(function, _VALUES, {}).get(name, {})
    return names.get(value, value) if isinstance(value, str) else value


def _value_now(where: str, value: object, names: Mapping[str, str]) -> object:
    if isinstance(value, list | tuple):
        return type(value)(_value_now(where, one, names) for one in value)
    if isinstance(value, Mapping):
        return {key: _value_now(where, one, names) for key, one in value.items()}
    if isinstance(value, str) and value in names:
        warn_of_name(f"{where}'{value}')", f"{where}'{names[value]}')", stacklevel=4)
        return names[value]
    return value
