"""Drawdowns: falls from a peak, their length and recovery."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats, Ints
from ultrum.core.series.time_series import SeriesLike, SeriesTable, TimeSeries
from ultrum.core.statistics.return_samples import Described, returns_in, simple_block
from ultrum.core.time.gaps import positions_of
from ultrum.core.time.period_labels import period_label, span_of


@dataclass(frozen=True, eq=False, repr=False)
class Drawdowns(Described):
    """Falls from a peak and back; ``table`` lists them deepest first.

    Attributes
    ----------
    under_water : DataFrame, shape (T, N)
        Distance below the highest level so far, zero or negative.
    """

    under_water: pd.DataFrame


@checked
def drawdowns(x: SeriesLike | pd.DataFrame, *, limit: int = 5) -> Drawdowns:
    """Falls from the highest level so far.

    Parameters
    ----------
    x : TimeSeries, SeriesTable or DataFrame
        Returns, or prices and total-return indices.
    limit : int
        How many of each series are listed, deepest first.

    Returns
    -------
    Drawdowns
        ``table``: ``series peak trough recovered depth fall recovery``; the last two in periods, and a
        drawdown that has not ended has no recovery. Before the first return the level is one; a missing
        return leaves it where it was, and the basis counts them.

    Examples
    --------
    >>> p = pd.Series([100.0, 80, 90, 120], pd.period_range("2024-01", periods=4, freq="M"))
    >>> falls = drawdowns(TimeSeries.from_pandas(p, measure="price")).table
    >>> falls[["trough", "fall", "recovery"]].values.tolist()
    [['2024-02', 1, 2]]
    """
    table, holes = x.as_table() if isinstance(x, TimeSeries) else x, 0
    if isinstance(table, SeriesTable) and all(a.measure in ("price", "index") for a in table.metadata):
        levels, before = table.block, False
    else:
        table = returns_in(table, "drawdowns")
        first, last = table.bounds
        holes = int((last - first + 1).clip(min=0).sum() - np.isfinite(table.block).sum())
        growth = np.where(np.isfinite(table.block), 1.0 + simple_block(table), 1.0)
        levels, before = (
            np.where(np.isfinite(table.block), np.cumprod(growth, axis=0), np.nan),
            True,
        )
    highest = np.fmax.accumulate(levels, axis=0)
    highest = np.fmax(highest, 1.0) if before else highest
    depth = levels / highest - 1.0
    rows = []
    positions = positions_of(table.frequency, table.index)
    for column, label in enumerate(table.names):
        rows += _falls(depth[:, column], table.index, positions, label, limit)
    columns = ["series", "peak", "trough", "recovered", "depth", "fall", "recovery"]
    water = pd.DataFrame(depth, index=table.index, columns=table.names)
    noun = table.frequency.noun
    basis = f"{table.frequency.name}, {span_of(table.index)}; depth in decimals, lengths in {noun}s"
    basis += f"; {holes} missing returns passed over" if holes else ""
    return Drawdowns(pd.DataFrame(rows, columns=columns), basis, water)


def _falls(depth: Floats, index: pd.Index, positions: Ints, name: str, most: int) -> list[list[object]]:
    """The deepest drawdowns of one series."""
    valid = np.flatnonzero(np.isfinite(depth))
    at = positions[valid]
    under = depth[valid] < 0
    edges = np.flatnonzero(np.diff(np.concatenate([[False], under, [False]]).astype(int)))
    falls: list[list[object]] = []
    for first, past in zip(edges[::2], edges[1::2], strict=True):
        low = first + int(np.argmin(depth[valid[first:past]]))
        peak = period_label(index[valid[first - 1]]) if first else "before the first"
        over = past < len(valid)
        falls.append([
            name, peak, period_label(index[valid[low]]), period_label(index[valid[past]]) if over else "",
            float(depth[valid[low]]),
            int(at[low] - at[first - 1] if first else at[low] - at[first] + 1),
            int(at[past] - at[low]) if over else None,
        ])  # fmt: skip
    return sorted(falls, key=lambda row: float(str(row[4])))[:most]
