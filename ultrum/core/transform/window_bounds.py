"""Window bounds: the rows that each calendar window spans.

Every window is computed from its own rows, never from a running sum, so that one bad tick spoils the
windows that hold it and no other.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Final

import numpy as np

from ultrum.core.array_types import DAY, MONTH, Dates, Floats, Ints
from ultrum.core.time.durations import months_in, periods_in
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.gaps import gap_lengths
from ultrum.core.transform.period_reductions import weekdays_after
from ultrum.errors import FrequencyError

_OLDEST: Final = 5  # weekdays that an earlier daily value may be before its day
_AT_ONCE: Final = 1 << 22  # numbers of windows held at a time
Statistic = Callable[[Floats], Floats]


def starts_of(window: int | str, ordinals: Ints, frequency: Frequency) -> Ints:
    """First row of the window that ends at each row.

    A number counts periods of the calendar, for dated series observations and the weekdays of gaps; a
    duration such as ``P3M`` is a calendar span whatever the frequency.
    """
    if isinstance(window, int) or str(window).isdigit():
        width = int(window)
        if width < 1:
            raise FrequencyError(f"A window of {width} is empty; take at least 1.")
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
    """The same day so many months earlier; the last of a month where that month is shorter."""
    first = days.astype("datetime64[M]")
    into = (days - first.astype("datetime64[D]")).astype(np.int64)
    target = first - months * MONTH
    length = (target + MONTH).astype("datetime64[D]") - target.astype("datetime64[D]")
    moved: Dates = target.astype("datetime64[D]") + DAY * np.minimum(into, length.astype(np.int64) - 1)
    return moved


def row_before(days: Dates, wanted: Dates) -> Ints:
    """Row of the last day on or before each, −1 where there is none at most five weekdays old."""
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
        From (rows, columns) with NaN to (columns,).
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
    """Windows of one width over rows without gaps, some at a time: first end row and (W, N, width)."""
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
    """Mean, sum of squared deviations and count of the valid values up to each row (Welford 1962)."""
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
