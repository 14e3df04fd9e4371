"""Names of an earlier release, which work for one release more with a warning."""

from __future__ import annotations

import warnings
from typing import Any, ClassVar, Final

import pandas as pd

UNTIL: Final = "0.3"


def warn_of_name(old: str, new: str, stacklevel: int = 3) -> None:
    """Warn that a name has been replaced.

    Parameters
    ----------
    old, new : str
        The names, as a user writes them.
    stacklevel : int
        Frames between this function and the user's line.
    """
    text = f"{old} is now {new}; the old name works until version {UNTIL}."
    warnings.warn(text, DeprecationWarning, stacklevel=stacklevel)


class RenamedAttribute:
    """An attribute or method under its earlier name.

    Parameters
    ----------
    new : str
        The attribute's name now.

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

    def __get__(self, instance: object, owner: type | None = None) -> Any:
        if instance is None:
            return self
        name = type(instance).__name__
        warn_of_name(f"{name}.{self._old}", f"{name}.{self._new}")
        return getattr(instance, self._new)


class RenamedColumns(pd.DataFrame):
    """A table whose columns are also found by their earlier names, as ``table["old"]``.

    What is taken from it is a plain table.
    """

    old_names: ClassVar[dict[str, str]] = {}

    def __getitem__(self, key: Any) -> Any:
        """A column by its name; an earlier name warns."""
        if isinstance(key, str) and key not in self.columns and key in self.old_names:
            warn_of_name(f"Column '{key}'", f"'{self.old_names[key]}'")
            key = self.old_names[key]
        return super().__getitem__(key)
