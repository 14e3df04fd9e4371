"""Standard scores over the whole sample, or over what is known at each period."""

from __future__ import annotations

import numpy as np

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats
from ultrum.core.rounding import without_rounding
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.transform.rolling_statistics import rolling
from ultrum.core.transform.window_bounds import expanding_moments
from ultrum.errors import UnitError


@on_block
@checked
def standardise(x: SeriesTable, *, window: str | int = "all", min_obs: int | None = None) -> SeriesTable:
    """Values less their mean, in standard deviations (n − 1).

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Data to work on; the result has the same form.
    window : str or int
        ``"all"``: mean and deviation of the whole sample, which looks ahead; ``"expanding"``: of
        everything up to each period; or a moving window as for :func:`rolling`.
    min_obs : int, optional
        Values needed; by default 2 for the whole sample, else two years of them and at least eight
        (at most two thirds of a moving window).

    Returns
    -------
    TimeSeries or SeriesTable
        Scores; the first periods, which have too little to be measured by, are missing.

    Examples
    --------
    >>> import pandas as pd
    >>> from ultrum.core.series.time_series import TimeSeries
    >>> x = pd.Series([1.0, 2, 3], pd.period_range("2024-01", periods=3, freq="M"))
    >>> standardise(TimeSeries.from_pandas(x, measure="rate")).to_pandas().tolist()
    [-1.0, 0.0, 1.0]
    """
    block = x.block
    if window == "all":
        scores = _scores_of_all(block, min_obs or 2)
    elif window == "expanding":
        years = 2 * x.frequency.periods_per_year
        scores = _scores_so_far(block, min_obs or max(8, round(years)))
    else:
        centre = rolling(x, window, min_obs=min_obs).block
        spread = rolling(x, window, how="deviation", min_obs=min_obs).block
        scores = _scores(block, centre, spread)
    if len(scores) and not np.isfinite(scores).any() and np.isfinite(block).any():
        raise UnitError(f"{x.names[0]} does not vary, or has too few values, so it has no standard scores.")
    facts = {"measure": "score", "unit": "decimal", "currency": "", "base_period": ""}
    metadata_list = [a.stepped("standardised", facts, over=window) for a in x.metadata]
    return SeriesTable.from_arrays(scores, x.index, metadata_list)


def _scores(block: Floats, centre: Floats, spread: Floats) -> Floats:
    flat = ~(without_rounding(spread, np.abs(centre)) > 0)
    return np.where(flat, np.nan, (block - centre) / np.where(flat, 1.0, spread))


def _scores_of_all(block: Floats, min_obs: int) -> Floats:
    count = np.isfinite(block).sum(axis=0)
    filled = np.where(np.isfinite(block), block, 0.0)
    centre = filled.sum(axis=0) / np.maximum(count, 1)
    off = np.where(np.isfinite(block), block - centre, 0.0)
    spread = np.sqrt((off**2).sum(axis=0) / np.maximum(count - 1, 1))
    spread = np.where(count >= max(min_obs, 2), spread, np.nan)
    return _scores(block, np.broadcast_to(centre, block.shape), spread)


def _scores_so_far(block: Floats, min_obs: int) -> Floats:
    centre, squares, count = expanding_moments(block)
    spread = np.sqrt(squares / np.maximum(count - 1, 1))
    return _scores(block, centre, np.where(count >= max(min_obs, 2), spread, np.nan))
