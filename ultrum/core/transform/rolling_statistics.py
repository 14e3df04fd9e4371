"""Rolling statistics: means, deviations, sums, extremes, exponential means, and bands."""

from __future__ import annotations

from typing import Any, Final, Literal

import numpy as np

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats, Ints
from ultrum.core.rounding import largest, without_rounding
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesLike, SeriesTable, TimeSeries
from ultrum.core.time.gaps import positions_of
from ultrum.core.transform.window_bounds import (
    Statistic,
    default_min_obs,
    even_windows,
    over_windows,
    starts_of,
)
from ultrum.errors import UnitError


def _deviation(part: Floats) -> Floats:
    return without_rounding(np.nanstd(part, axis=0, ddof=1), largest(part))


STATISTICS: Final[dict[str, Statistic]] = {
    "mean": lambda part: np.asarray(np.nanmean(part, axis=0)),
    "deviation": _deviation,
    "sum": lambda part: np.asarray(np.nansum(part, axis=0)),
    "high": lambda part: np.asarray(np.nanmax(part, axis=0)),
    "low": lambda part: np.asarray(np.nanmin(part, axis=0)),
    "median": lambda part: np.asarray(np.nanmedian(part, axis=0)),
}
_QUICK: Final[dict[str, Any]] = {
    "mean": np.mean,
    "sum": np.sum,
    "high": np.max,
    "low": np.min,
    "median": np.median,
}


RollingStatistic = Literal["mean", "deviation", "sum", "high", "low", "median", "exponential"]


@on_block
@checked
def rolling(
    x: SeriesTable, window: int | str, *, how: RollingStatistic = "mean", min_obs: int | None = None
) -> SeriesTable:
    """A statistic over a moving window that ends at each period.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Data to work on; the result has the same form.
    window : int or str
        Periods (of dated series, observations), or a duration such as ``"P1Y"``.
    how : {"mean", "deviation", "sum", "high", "low", "median", "exponential"}
        Deviations have n − 1. Exponential means weight what lies k periods back by (1−α)^k with
        α = 2/(window+1), over everything up to the period, weights scaled to one.
    min_obs : int, optional
        Values a window must have; by default two thirds of it, and at least two for deviations.

    Returns
    -------
    TimeSeries or SeriesTable
        On the periods of ``x``; missing where a window has too few values.

    Raises
    ------
    UnitError
        If it sums what cannot be summed.

    Examples
    --------
    >>> import pandas as pd
    >>> x = pd.Series([1.0, 2, 3, 6], pd.period_range("2024-01", periods=4, freq="M"))
    >>> x = TimeSeries.from_pandas(x, measure="score")
    >>> rolling(x, 2, min_obs=2).to_pandas().tolist()
    [nan, 1.5, 2.5, 4.5]
    """
    if how == "sum" and any(a.measure in ("index", "price", "quote", "rate", "return") for a in x.metadata):
        raise UnitError(f"{x.names[0]}: the sum of {x.metadata[0].measure} values is not meaningful.")
    if str(window).isdigit() and min_obs is not None and min_obs > int(str(window)):
        raise UnitError(f"min_obs={min_obs} is more than the window of {window} has.")
    starts = starts_of(window, x.ordinals, x.frequency)
    least = default_min_obs(window, starts) if min_obs is None else min_obs
    if how == "exponential":
        positions = positions_of(x.frequency, x.index)
        values = _exponential(x.block, starts, positions, least)
    else:
        values = _rolled(x.block, starts, how, max(least, 2 if how == "deviation" else 1))
    metadata_list = [a.stepped("rolled", window=window, how=how, min_obs=least) for a in x.metadata]
    return SeriesTable.from_arrays(values, x.index, metadata_list)


@checked
def bands(x: SeriesLike, window: int | str = 20, *, width: float = 2.0) -> SeriesTable:
    """The moving mean of a series with a band of so many moving deviations about it.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Data to work on; the result has the same form.
    window : int or str
        As for :func:`rolling`.
    width : float
        Deviations (n − 1) on either side.

    Returns
    -------
    SeriesTable
        Columns ``middle``, ``low`` and ``high``, headed by the name of each series where there are
        several.

    Examples
    --------
    >>> import pandas as pd
    >>> x = pd.Series([1.0, 3.0], pd.period_range("2024-01", periods=2, freq="M"))
    >>> bands(TimeSeries.from_pandas(x, measure="score"), 2, width=1).to_pandas().round(2).iloc[-1].tolist()
    [2.0, 0.59, 3.41]
    """
    if not width > 0:
        raise UnitError(f"width={width:g}: a positive number of deviations is expected.")
    single = isinstance(x, TimeSeries)
    table = x.as_table() if isinstance(x, TimeSeries) else x
    middle = rolling(table, window)
    spread = rolling(table, window, how="deviation").block * width
    parts = []
    for name, shift in (("middle", 0.0), ("low", -1.0), ("high", 1.0)):
        values = middle.block + shift * spread
        for column, metadata in enumerate(middle.metadata):
            label = name if single else f"{metadata.name} {name}"
            facts = {"name": label, "title": f"{metadata.heading}, {name} of band"}
            metadata_after = metadata.stepped("bands", facts, window=window, width=width)
            parts.append(TimeSeries.from_arrays(values[:, column].copy(), x.index, metadata_after))
    return SeriesTable.of(parts)


def _rolled(block: Floats, starts: Ints, how: str, min_obs: int) -> Floats:
    """Windows of one width without a hole are taken many at a time."""
    rows = np.arange(len(starts))
    width = int((rows - starts).max() + 1) if len(rows) else 1
    even = bool((rows[width - 1 :] - starts[width - 1 :] == width - 1).all())
    if not (even and np.isfinite(block).all() and len(block) >= width):
        return over_windows(block, starts, STATISTICS[how], min_obs)
    values = np.full(block.shape, np.nan)
    values[: width - 1] = over_windows(block[: width - 1], starts[: width - 1], STATISTICS[how], min_obs)
    if width >= min_obs:
        for first, views in even_windows(block, width):
            rolled = (
                without_rounding(views.std(axis=-1, ddof=1), np.abs(views).max(axis=-1))
                if how == "deviation"
                else np.asarray(_QUICK[how](views, axis=-1))
            )
            values[first : first + len(views)] = rolled
    return values


def _exponential(block: Floats, starts: Ints, positions: Ints, min_obs: int) -> Floats:
    """Exponentially weighted means; a missing value is passed over and the weights go on fading."""
    width = int((np.arange(len(starts)) - starts).max() + 1) if len(starts) else 1
    keep = 1.0 - 2.0 / (width + 1.0)
    steps = np.diff(positions, prepend=positions[:1])
    total, weight = np.zeros(block.shape[1]), np.zeros(block.shape[1])
    count = np.zeros(block.shape[1], dtype=np.int64)
    means = np.full(block.shape, np.nan)
    for row, values in enumerate(block):
        valid = np.isfinite(values)
        fade = keep ** steps[row]
        total = fade * total + np.where(valid, values, 0.0)
        weight = fade * weight + valid
        count += valid
        seen = valid & (count >= min_obs)
        means[row, seen] = total[seen] / weight[seen]
    return means
