"""Names of the array types that pass between functions, steps of dates, and rounding of constant values."""

from typing import Any, Final, TypeAlias

import numpy as np
import numpy.typing as npt

Floats: TypeAlias = npt.NDArray[np.float64]
Ints: TypeAlias = npt.NDArray[np.int64]
Bools: TypeAlias = npt.NDArray[np.bool_]
Dates: TypeAlias = npt.NDArray[np.datetime64]
Array: TypeAlias = npt.NDArray[Any]

# steps of dates; a bare number next to a date has no unit
DAY: Final = np.timedelta64(1, "D")
MONTH: Final = np.timedelta64(1, "M")
YEAR: Final = np.timedelta64(1, "Y")


# What is left of a deviation when values do not vary: rounding, taken for zero

_ROUNDING: Final = 1e-12  # of the largest value


def largest(values: Floats) -> Floats:
    """The largest size in each column, zero where all are missing."""
    return np.asarray(np.nan_to_num(np.abs(values)).max(axis=0, initial=0.0))


def without_rounding(deviation: Floats, size: Floats) -> Floats:
    """Deviations, zero where they are no more than rounding of values of this size.

    Examples
    --------
    >>> values = np.full(96, 0.004)
    >>> bool(values.std() > 0), without_rounding(values.std(), largest(values)).item()
    (True, 0.0)
    """
    return np.where(deviation <= _ROUNDING * size, 0.0, deviation)


def varies(values: Floats) -> Bools:
    """Whether a column has values that differ by more than rounding.

    Examples
    --------
    >>> varies(np.array([[0.1 + 0.2, 1.0], [0.3, 2.0]])).tolist()
    [False, True]
    """
    middle = np.nan_to_num(values).sum(axis=0) / np.maximum(np.isfinite(values).sum(axis=0), 1)
    return np.asarray(without_rounding(largest(values - middle), largest(values)) > 0)
