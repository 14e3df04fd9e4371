"""Rolling means, standard deviations and bands, z-scores, and the windows they span.

Every window is computed from its own rows, never from a running sum, so one wrong price affects only the windows
that contain it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Final, Literal

import numpy as np

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import DAY, MONTH, Dates, Floats, Ints, largest, without_rounding
from ultrum.core.deprecated_names import renamed_values
from ultrum.core.series.input_checks import on_block
from ultrum.core.series.metadata import RETURNS, Metadata, hindsight_of
from ultrum.core.series.time_series import SeriesLike, SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency, months_in, periods_in
from ultrum.core.time.index_frequency_and_gaps import gap_lengths, positions_of
from ultrum.core.transform.aggregation import weekdays_after
from ultrum.errors import FrequencyError, UnitError

_OLDEST: Final = 5  # weekdays that an earlier daily value may be before its day
_AT_ONCE: Final = 1 << 22  # numbers of windows held at a time
Statistic = Callable[[Floats], Floats]


def starts_of(window: int | str, ordinals: Ints, frequency: Frequency) -> Ints:
    """First row of the window that ends at each row.

    A number counts calendar periods (for dated series observations and missing weekdays); a duration such as
    ``P3M`` is a calendar span at any frequency.
    """
    if isinstance(window, int) or str(window).isdigit():
        width = int(window)
        if width < 1:
            raise FrequencyError(f"A window of {width} is empty. Use at least 1.")
        if frequency.is_dated:
            rows = np.arange(len(ordinals))
            if frequency.code in "BD":
                rows[1:] += np.cumsum(gap_lengths(frequency.starts(ordinals)))
            return np.searchsorted(rows, rows - width + 1)
        return np.searchsorted(ordinals, ordinals - width + 1)
    if frequency.is_dated and (months := months_in(window)):
        days = frequency.starts(ordinals)
        return np.searchsorted(days, months_before(days, months), side="right")
    return np.searchsorted(ordinals, ordinals - periods_in(str(window), frequency) + 1)


def months_before(days: Dates, months: int) -> Dates:
    """The same day some months earlier; the last day of a shorter month."""
    first = days.astype("datetime64[M]")
    into = (days - first.astype("datetime64[D]")).astype(np.int64)
    target = first - months * MONTH
    length = (target + MONTH).astype("datetime64[D]") - target.astype("datetime64[D]")
    moved: Dates = target.astype("datetime64[D]") + DAY * np.minimum(into, length.astype(np.int64) - 1)
    return moved


def row_before(days: Dates, wanted: Dates) -> Ints:
    """Row of the last day on or before each day, −1 where there is none at most five weekdays earlier."""
    place = np.searchsorted(days, wanted, side="right") - 1
    matched = days[np.maximum(place, 0)]
    fresh = weekdays_after(np.minimum(matched, wanted), wanted) <= _OLDEST
    return np.where((place >= 0) & fresh, place, -1)


def over_windows(block: Floats, starts: Ints, statistic: Statistic, min_obs: int) -> Floats:
    """A statistic of every window and column; missing where fewer than ``min_obs`` values are valid.

    Parameters
    ----------
    block : ndarray, shape (T, N)
    starts : ndarray of int, shape (T,)
        First row of the window that ends at each row.
    statistic : callable
        Maps (rows, columns) with NaN to (columns,).
    min_obs : int

    Returns
    -------
    ndarray, shape (T, N)
    """
    values = np.full(block.shape, np.nan)
    valid = np.isfinite(block)
    before = np.vstack([np.zeros((1, block.shape[1]), dtype=np.int64), np.cumsum(valid, axis=0)])
    enough = before[1:] - before[starts] >= max(min_obs, 1)
    for row, start in enumerate(starts):
        columns = np.flatnonzero(enough[row])
        if len(columns):
            values[row, columns] = statistic(block[start : row + 1, columns])
    return values


def even_windows(block: Floats, width: int) -> Iterator[tuple[int, Floats]]:
    """Windows of one width over rows without gaps, in batches: first end row and (W, N, width)."""
    views = np.lib.stride_tricks.sliding_window_view(block, width, axis=0)
    step = max(1, _AT_ONCE // (width * block.shape[1]))
    for low in range(0, len(views), step):
        yield low + width - 1, views[low : low + step]


def default_min_obs(window: int | str, starts: Ints) -> int:
    """Two thirds of the widest window."""
    widest = int((np.arange(len(starts)) - starts).max() + 1) if len(starts) else 1
    wanted = int(window) if str(window).isdigit() else widest
    return max(1, -(-2 * wanted // 3))


def expanding_moments(block: Floats) -> tuple[Floats, Floats, Ints]:
    """Cumulative mean, sum of squared deviations and count of the valid values (Welford 1962)."""
    mean, squares = np.zeros(block.shape[1]), np.zeros(block.shape[1])
    count = np.zeros(block.shape[1], dtype=np.int64)
    means, spreads = np.empty(block.shape), np.empty(block.shape)
    counts = np.empty(block.shape, dtype=np.int64)
    for row, values in enumerate(block):
        valid = np.isfinite(values)
        count += valid
        step = np.where(valid, values - mean, 0.0)
        mean += step / np.maximum(count, 1)
        squares += step * np.where(valid, values - mean, 0.0)
        means[row], spreads[row], counts[row] = mean, squares, count
    return means, spreads, counts


# Rolling statistics: means, deviations, sums, extremes, exponential means, and bands


def _deviation(part: Floats) -> Floats:
    return without_rounding(np.nanstd(part, axis=0, ddof=1), largest(part))


STATISTICS: Final[dict[str, Statistic]] = {
    "mean": lambda part: np.asarray(np.nanmean(part, axis=0)),
    "std": _deviation,
    "sum": lambda part: np.asarray(np.nansum(part, axis=0)),
    "high": lambda part: np.asarray(np.nanmax(part, axis=0)),
    "low": lambda part: np.asarray(np.nanmin(part, axis=0)),
    "median": lambda part: np.asarray(np.nanmedian(part, axis=0)),
}
_QUICK: Final[dict[str, Callable[..., Floats]]] = {
    "mean": np.mean,
    "sum": np.sum,
    "high": np.max,
    "low": np.min,
    "median": np.median,
}


RollingStatistic = Literal["mean", "std", "sum", "high", "low", "median", "exponential"]


@renamed_values(how={"deviation": "std"})
@on_block(plain="")
@validate_arguments
def rolling(
    x: SeriesTable, window: int | str, *, how: RollingStatistic = "mean", min_obs: int | None = None
) -> SeriesTable:
    """Rolling mean, standard deviation and other statistics over windows that end at each period.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        The series.
    window : int or str
        Number of periods (for dated series observations), or a duration such as ``"P1Y"``.
    how : {"mean", "std", "sum", "high", "low", "median", "exponential"}
        Standard deviations divide by n − 1. Exponential means weight the value k periods earlier by (1−α)^k with
        α = 2/(window+1), over all earlier periods, with weights scaled to sum to one.
    min_obs : int, optional
        Minimum number of values per window; by default two thirds of it, and at least two for standard
        deviations.

    Returns
    -------
    TimeSeries or SeriesTable
        On the periods of ``x``; missing where a window has too few values.

    Raises
    ------
    UnitError
        If the method sums a measure that cannot be summed.

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
        values = _roll_block(x.block, starts, how, max(least, 2 if how == "std" else 1))
    metadata_list = [
        a.add_step("rolled", _facts_of_statistic(a, how), window=window, how=how, min_obs=least)
        for a in x.metadata
    ]
    return SeriesTable.from_arrays(values, x.index, metadata_list)


def _facts_of_statistic(metadata: Metadata, how: str) -> dict[str, str]:
    """What a statistic over a window no longer is: a return of the period, a price that is paid, a level."""
    if metadata.measure == "score" or (how != "std" and metadata.measure not in ("price", *RETURNS)):
        return {}
    gone = {"measure": "", "excess_of": "", "income": ""}
    return gone | ({"unit": "", "base_period": ""} if metadata.unit == "index" else {})


@validate_arguments
def bands(x: SeriesLike, window: int | str = 20, *, width: float = 2.0) -> SeriesTable:
    """Rolling mean ± k rolling standard deviations.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        The series.
    window : int or str
        As for :func:`rolling`.
    width : float
        Number of standard deviations (n − 1) on either side.

    Returns
    -------
    SeriesTable
        Columns ``middle``, ``low`` and ``high``, with the series names as prefix where there are several.

    Examples
    --------
    >>> import pandas as pd
    >>> x = pd.Series([1.0, 3.0], pd.period_range("2024-01", periods=2, freq="M"))
    >>> bands(TimeSeries.from_pandas(x, measure="score"), 2, width=1).to_pandas().round(2).iloc[-1].tolist()
    [2.0, 0.59, 3.41]
    """
    if not width > 0:
        raise UnitError(f"width={width:g}: a positive number of standard deviations is expected.")
    single = isinstance(x, TimeSeries)
    table = x.as_table() if isinstance(x, TimeSeries) else x
    middle = rolling(table, window)
    spread = rolling(table, window, how="std").block * width
    parts = []
    for name, shift in (("middle", 0.0), ("low", -1.0), ("high", 1.0)):
        values = middle.block + shift * spread
        for column, metadata in enumerate(middle.metadata):
            label = name if single else f"{metadata.name} {name}"
            facts = {"name": label, "title": f"{metadata.heading}, {name} of band"}
            metadata_after = metadata.add_step("bands", facts, window=window, width=width)
            parts.append(TimeSeries.from_arrays(values[:, column].copy(), x.index, metadata_after))
    return SeriesTable.of(parts)


def _roll_block(block: Floats, starts: Ints, how: str, min_obs: int) -> Floats:
    """Windows of one width without gaps are processed in batches."""
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
                if how == "std"
                else np.asarray(_QUICK[how](views, axis=-1))
            )
            values[first : first + len(views)] = rolled
    return values


def _exponential(block: Floats, starts: Ints, positions: Ints, min_obs: int) -> Floats:
    """Exponentially weighted means; a missing value is skipped while weights keep decaying."""
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


# Standard scores over the whole sample, or over what is known at each period


@on_block()
@validate_arguments
def standardise(x: SeriesTable, *, window: str | int = "all", min_obs: int | None = None) -> SeriesTable:
    """Standard scores (z-scores): (x − mean)/SD with n − 1, full-sample, expanding or rolling.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        The series.
    window : str or int
        ``"all"``: mean and standard deviation of the full sample (look-ahead); ``"expanding"``: of everything up
        to each period; or a rolling window as for :func:`rolling`.
    min_obs : int, optional
        Minimum number of values; by default 2 for the full sample, otherwise two years of them and at least eight
        (at most two thirds of a rolling window).

    Returns
    -------
    TimeSeries or SeriesTable
        Scores; missing in the first periods, which have too few values.

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
        spread = rolling(x, window, how="std", min_obs=min_obs).block
        scores = _scores(block, centre, spread)
    if len(scores) and not np.isfinite(scores).any() and np.isfinite(block).any():
        raise UnitError(f"{x.names[0]} is constant or has too few values, so it has no z-scores.")
    facts = {"measure": "score", "unit": "decimal", "currency": "", "base_period": ""}
    whole = "standardised over the whole sample" if window == "all" else ""
    metadata_list = [
        a.add_step("standardised", facts | {"hindsight": hindsight_of([a], whole)}, over=window)
        for a in x.metadata
    ]
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
