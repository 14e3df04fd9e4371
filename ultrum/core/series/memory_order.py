"""Memory order: the numbers of a table as one array in the order it is read."""

from __future__ import annotations

from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats, Ints
from ultrum.core.time.period_labels import period_label
from ultrum.errors import UnitError

_WIDE: Final = 256  # columns from which a table is stored by rows


def numbers_in(frame: pd.DataFrame) -> Floats:
    """Values of a frame as an array; the first that is not a finite real number is named."""
    for name, kind in frame.dtypes.items():
        if kind.kind == "c":
            raise UnitError(f"{name} holds complex numbers; give real ones.")
    try:
        return _finite(frame, np.asarray(frame.to_numpy(dtype=np.float64, na_value=np.nan)))
    except (TypeError, ValueError):
        for name in frame:
            numbers = pd.to_numeric(frame[name], errors="coerce")
            wrong = np.flatnonzero(numbers.isna() & frame[name].notna())
            if len(wrong):
                place = f"{name}, {period_label(frame.index[wrong[0]])}"
                raise UnitError(
                    f"{place}: '{frame[name].iloc[wrong[0]]}' is not a number; read_series reads files "
                    "with marks for missing values and decimal commas."
                ) from None
        raise


def _finite(frame: pd.DataFrame, values: Floats) -> Floats:
    """The values, if none is infinite."""
    for low in range(0, values.shape[1], 64):
        infinite = np.isinf(values[:, low : low + 64])
        if infinite.any():
            row, column = np.argwhere(infinite)[0]
            place = f"{frame.columns[low + column]}, {period_label(frame.index[row])}"
            raise UnitError(f"{place}: the value is infinite. Mark it as missing (NaN), or correct it.")
    return values


def laid_out(values: Floats) -> tuple[Floats, tuple[Ints, Ints]]:
    """A copy that lies as it will be read, and the first and last row with a value of each column.

    A wide table is stored by rows, a narrow and long one by columns.
    """
    wide = values.shape[1] > _WIDE
    block = np.empty(values.shape, order="C" if wide else "F")
    first = np.empty(values.shape[1], dtype=np.int64)
    last = first.copy()
    for low in range(0, values.shape[1], 64):
        part = values[:, low : low + 64]
        block[:, low : low + 64] = part
        first[low : low + 64], last[low : low + 64] = bounds_of(part)
    return block, (first, last)


def bounds_of(block: Floats) -> tuple[Ints, Ints]:
    """First and last row with a value; T and −1 where a column has none."""
    rows = len(block)
    if not rows:
        return np.zeros(block.shape[1], dtype=np.int64), np.full(block.shape[1], -1)
    valid = np.ascontiguousarray(np.isfinite(block).T)
    none = ~valid.any(axis=1)
    first = np.where(none, rows, valid.argmax(axis=1))
    return first, np.where(none, -1, rows - 1 - valid[:, ::-1].argmax(axis=1))
