"""Correlations, with the number of pairs behind each."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Final, Literal

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats, Ints
from ultrum.core.displayed_numbers import counted
from ultrum.core.rounding import varies, without_rounding
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.statistics.return_samples import Described
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.gaps import positions_of
from ultrum.core.time.period_labels import span_of
from ultrum.errors import AlignmentError, UnitError, listed

_LOSS_ALLOWED: Final = 1e-6  # of the squares about a pair's own means, before it is done alone


@dataclass(frozen=True, eq=False, repr=False)
class Correlations(Described):
    """Correlations with the number of pairs they rest on.

    Attributes
    ----------
    counts, p_values : DataFrame, shape (N, N)
    rolling : DataFrame
        With a window: a column ``A / B`` for each pair.
    warnings : tuple of str
    """

    counts: pd.DataFrame
    p_values: pd.DataFrame
    rolling: pd.DataFrame = field(default_factory=pd.DataFrame)
    warnings: tuple[str, ...] = ()


@checked
def correlations(
    x: SeriesTable | pd.DataFrame,
    *,
    deletion: Literal["pairwise", "listwise"] = "pairwise",
    window: int | None = None,
) -> Correlations:
    """Correlations of series, each with its number of pairs and a p value.

    Parameters
    ----------
    x : SeriesTable or DataFrame
        Returns, rates, growth or scores. Levels are taken too, with a warning, since two trends correlate
        whatever they are.
    deletion : {"pairwise", "listwise"}
        Every pair over the periods both have, or all over those that every series has.
    window : int, optional
        Periods of a rolling correlation of every pair.

    Returns
    -------
    Correlations
        Correlations, rows and p values. These are of Student's t with n − 2 degrees, for independent periods.
        Missing where a series has fewer than three values or does not vary.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=4, freq="M")
    >>> frame = pd.DataFrame({"A": [1.0, 2, 3, 4], "B": [2.0, 4, 6, 8]}, months)
    >>> correlations(SeriesTable.from_pandas(frame, measure="score")).table.loc["A", "B"].round(6).item()
    1.0
    """
    table = x if isinstance(x, SeriesTable) else SeriesTable.from_pandas(x, measure="return")
    frame = table.values.dropna() if deletion == "listwise" else table.values
    if len(frame) < 3:
        raise AlignmentError(f"Only {counted(len(frame), 'period')} with every series; take deletion='pairwise'.")
    matrix, counts = _pairwise(frame.to_numpy(dtype=np.float64))
    with np.errstate(divide="ignore", invalid="ignore"):
        t = matrix * np.sqrt((counts - 2) / (1 - matrix**2))
    p = np.where(counts > 2, 2 * scipy.special.stdtr(np.maximum(counts - 2, 1), -np.abs(t)), np.nan)
    np.fill_diagonal(p, np.nan)
    levels = [a.name for a in table.metadata if a.measure in ("price", "index", "stock", "quote")]
    warnings: tuple[str, ...] = ()
    if levels:
        warnings = (
            f"{listed(levels)} are levels; two that trend correlate whatever they are. Take growth(x) first.",
        )
    rolled = _rolling(frame, window, table.frequency) if window else pd.DataFrame()
    lost = len(table.index) - len(frame)
    sample = f"{deletion} rows" + (f", {lost} not whole left out" if lost else "")
    basis = "; ".join([f"{table.frequency.name}, {span_of(frame.index)}, {sample}", *warnings])
    return Correlations(
        _square(matrix, table.names),
        basis,
        _square(counts, table.names),
        _square(p, table.names),
        rolled,
        warnings,
    )


def _square(block: Any, names: list[str]) -> pd.DataFrame:
    return pd.DataFrame(block, index=names, columns=names)


def _pairwise(block: Floats) -> tuple[Floats, Ints]:
    """Correlations over the rows each pair has, about the means of these, and their number."""
    valid = np.isfinite(block)
    there = valid.astype(np.float64)
    level = np.where(valid, block, 0.0).sum(axis=0) / np.maximum(there.sum(axis=0), 1.0)
    x = np.where(valid, block - level, 0.0)
    counts = there.T @ there
    sums = x.T @ there  # of each over the rows that it shares with each other
    squares = (x * x).T @ there
    with np.errstate(divide="ignore", invalid="ignore"):
        spread = squares - sums**2 / counts
        matrix = (x.T @ x - sums * sums.T / counts) / np.sqrt(spread * spread.T)
        lost = ~(spread > _LOSS_ALLOWED * squares)
    matrix[counts < 3] = np.nan
    for i, j in np.argwhere(np.triu(lost | lost.T) & (counts >= 3)):
        matrix[i, j] = matrix[j, i] = _alone(block[valid[:, i] & valid[:, j]][:, [i, j]])
    np.fill_diagonal(matrix, np.where(np.isfinite(np.diag(matrix)), 1.0, np.nan))
    return np.clip(matrix, -1.0, 1.0), counts.astype(np.int64)


def _alone(pair: Floats) -> float:
    """One pair whose sums would lose digits, or that does not move."""
    a, b = (pair - pair.mean(axis=0)).T
    return float(a @ b / np.sqrt((a @ a) * (b @ b))) if varies(pair).all() else np.nan


def _rolling(frame: pd.DataFrame, window: int, frequency: Frequency) -> pd.DataFrame:
    """Correlation of every pair over windows of the calendar, where two thirds of a window have both."""
    positions = positions_of(frequency, frame.index)
    places = positions - positions[0]
    if window < 3 or places[-1] + 1 < window:
        raise UnitError(
            f"A window of {window} does not fit {counted(int(places[-1]) + 1, 'period')}, or is below three."
        )
    line = np.full((int(places[-1]) + 1, frame.shape[1]), np.nan)
    line[places] = frame.to_numpy(dtype=np.float64)
    least = max(3, -(-2 * window // 3))
    columns = {}
    names = [str(c) for c in frame]
    for i in range(len(names)):
        for j in range(i + 1, len(names)):
            pair = line[:, [i, j]]
            pair[np.isnan(pair).any(axis=1)] = np.nan
            columns[f"{names[i]} / {names[j]}"] = _moving(pair, window, least)
    rolled = pd.DataFrame(columns)[window - 1 :]
    ends = np.arange(window - 1, len(line))
    listed = np.isin(ends, places)
    return rolled[listed].set_axis(frame.index[np.searchsorted(places, ends[listed])])


def _moving(pair: Floats, window: int, least: int) -> Floats:
    """Correlation of two columns in the window that ends at each row, from its own rows."""
    values = np.full(len(pair), np.nan)
    views = np.lib.stride_tricks.sliding_window_view(pair, window, axis=0)
    valid = np.isfinite(views[:, :1])
    count = valid.sum(axis=-1, keepdims=True)
    level = np.where(valid, views, 0.0).sum(axis=-1, keepdims=True) / np.maximum(count, 1)
    off = np.where(valid, views - level, 0.0)
    highest = np.abs(np.where(valid, views, 0.0)).max(axis=-1)
    size = without_rounding(np.sqrt((off**2).sum(axis=-1)), highest)
    with np.errstate(divide="ignore", invalid="ignore"):
        together = (off[:, 0] * off[:, 1]).sum(axis=-1) / (size[:, 0] * size[:, 1])
    usable = (count[:, 0, 0] >= least) & (size > 0).all(axis=1)
    values[window - 1 :] = np.where(usable, together, np.nan)
    return values
