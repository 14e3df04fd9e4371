"""The frequency of an index of dates, and gaps other than weekends and holidays.

A daily table lists trading days only, so an absent weekday is a holiday or a gap. A stretch of more than five
weekdays without rows is a gap. A closure of up to ten is accepted where three or more series share it, or where a
calendar of trading days is given.
"""

from __future__ import annotations

from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import DAY, MONTH, Bools, Dates, Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.errors import FrequencyError

_HOLIDAYS: Final = 3  # weekdays by which a date may miss the first or last of its period
_FIT: Final = 0.9  # share of dates that must stand so


def infer_frequency(index: pd.Index) -> Frequency:
    """Frequency of an index: that of a PeriodIndex, or the spacing of dates."""
    if isinstance(index, pd.PeriodIndex):
        if index.freqstr == "6M":
            return _half_years(index)
        return Frequency.parse(index.freqstr.replace("Y-", "A-").replace("-DEC", ""))
    if not isinstance(index, pd.DatetimeIndex) or len(index) < 2:
        raise FrequencyError(
            f"The frequency cannot be inferred from {quantity(len(index), 'row')}. Set it, such as frequency='M'."
        )
    days = calendar_days(index).astype(np.int64)
    if (np.diff(days) <= 0).any():
        days = np.unique(days)
    if len(days) < len(index):
        raise FrequencyError(_several_a_day(index))
    gap = float(np.median(np.diff(days)))
    weekdays = bool(((days + 3) % 7 < 5).all())
    for code, low, high in (("W", 6, 8), ("M", 27, 32), ("Q", 88, 93), ("A", 360, 370)):
        if low <= gap <= high:
            return _fitting(days.astype("datetime64[D]"), code) or Frequency("B" if weekdays else "D")
    if gap < 4:
        return Frequency("B" if weekdays else "D")
    raise FrequencyError(f"Dates {gap:g} days apart match no frequency. Set frequency=...")


def distinct(moments: Dates) -> Dates:
    """Sorted unique moments; fast where they are sorted already."""
    ordered = moments if (np.diff(moments.astype(np.int64)) >= 0).all() else np.sort(moments)
    return ordered[np.r_[True, np.diff(ordered.astype(np.int64)) > 0]] if len(ordered) else ordered


def intraday_frequency(moments: Dates) -> Frequency:
    """Frequency in minutes or hours, from the most common step.

    Examples
    --------
    >>> intraday_frequency(np.array(["2024-03-15T09:30", "2024-03-15T09:35"], "datetime64[s]"))
    Frequency('5N')
    """
    steps = np.diff(distinct(moments)).astype(np.int64)
    usual = int(np.bincount(np.minimum(steps, 86_400)).argmax()) if len(steps) else 60
    minutes = max(1, round(usual / 60))
    return Frequency("H", minutes // 60) if minutes % 60 == 0 else Frequency("N", minutes)


def _half_years(index: pd.PeriodIndex) -> Frequency:
    """Half-years from periods of six months, which must all begin in the same or the opposite month."""
    firsts = set((index.month % 6).tolist())
    if len(firsts) > 1:
        raise FrequencyError("The half-years overlap. Half-years must begin six months apart.")
    before = (firsts.pop() - 1) % 6 if firsts else 0  # month before the first of a half-year
    return Frequency("S", anchor=before or 12)


def _several_a_day(index: pd.DatetimeIndex) -> str:
    if not index.is_unique:
        twice = index[index.duplicated()][0]
        return f"{twice} occurs twice. Keep one row per date."
    return "There are several observations per day. Set frequency='N', '5N' or 'H'."


def _fitting(days: Dates, code: str) -> Frequency | None:
    """The frequency whose period ends or starts the dates are, or None for other dates.

    Dates mark periods when 90 % are at the first or last day or weekday of one, up to three holidays away, or on
    one day of the month. Dates at the ends of other months change the anchor.
    """
    if code == "W":
        return Frequency("W")
    months = days.astype("datetime64[M]")
    first, last = months.astype("datetime64[D]"), (months + MONTH).astype("datetime64[D]") - DAY
    weekend = ~np.is_busday(days)
    near_end = np.busday_count(days + DAY, last + DAY) <= np.where(weekend, -1, _HOLIDAYS)
    near_start = np.busday_count(first, days) <= np.where(weekend, -1, _HOLIDAYS)
    at_end, at_start = near_end | (days == last), near_start | (days == first)
    if code == "M":
        one_day = (days - first) == np.median((days - first).astype(np.int64)).astype(np.int64)
        return Frequency("M") if max(map(_share, (at_end, at_start, one_day))) >= _FIT else None
    length = {"Q": 3, "A": 12}[code]
    phase = months.astype(np.int64) % length
    usual = int(np.bincount(phase).argmax())
    regular = phase == usual
    if _share(regular & at_end) >= _FIT and _share(at_end) >= _share(at_start):
        anchor = 12 if code == "Q" and usual == 2 else usual + 1
        return Frequency(code, anchor=anchor)
    return Frequency(code) if _share(regular & at_start) >= _FIT else None


def _share(mask: Bools) -> float:
    return float(mask.mean())


# Gaps in dated data, apart from weekends and holidays, and positions of rows in time

LONGEST_HOLIDAY: Final = 5  # weekdays without rows that need no explanation
LONGEST_CLOSURE: Final = 10  # weekdays without rows that several series may share
SHARED_BY: Final = 3
_DAYS_PER_YEAR: Final = 365.25
_SHORTEST_SPAN: Final = 0.5  # years; below it observations a year are taken from the calendar


def missing_weekdays(days: Dates) -> Ints:
    """Weekdays strictly between each day and the next, shape (T − 1,)."""
    return np.asarray(np.maximum(np.busday_count(days[:-1] + DAY, days[1:]), 0), dtype=np.int64)


def gap_lengths(days: Dates, values: Floats | None = None, trading_days: Dates | None = None) -> Ints:
    """Missing weekdays before each row but the first; 0 for adjacent rows.

    Parameters
    ----------
    days : ndarray of datetime64[D], shape (T,)
        Sorted, without duplicates.
    values : ndarray, shape (T, N), optional
        Values of the series, used only at closures. Three series with a value on both sides make it a closure.
    trading_days : ndarray of datetime64[D], optional
        Calendar of trading days. A gap is then a stretch that omits any of them; its length is the number
        omitted.

    Returns
    -------
    ndarray of int64, shape (T − 1,)

    Examples
    --------
    >>> days = np.array(["2024-03-01", "2024-03-04", "2024-03-20"], dtype="datetime64[D]")
    >>> gap_lengths(days).tolist()
    [0, 11]
    """
    if len(days) < 2:
        return np.zeros(0, dtype=np.int64)
    if trading_days is not None:
        listed = np.sort(trading_days)
        between = np.searchsorted(listed, days[1:]) - np.searchsorted(listed, days[:-1], "right")
        return np.asarray(np.maximum(between, 0), dtype=np.int64)
    missing = missing_weekdays(days)
    usual = int(np.median(missing))  # of dates that are weeks or months apart, more than none
    limit = np.full(len(missing), max(LONGEST_HOLIDAY, 2 * usual))
    long = np.flatnonzero((missing > limit) & (missing <= LONGEST_CLOSURE))
    if values is not None and len(long):
        both = np.isfinite(values[long]) & np.isfinite(values[long + 1])
        shared = both.sum(axis=1) >= SHARED_BY
        limit[long[shared]] = LONGEST_CLOSURE
    return np.where(missing > limit, missing, 0)


def gap_table(days: Dates, values: Floats | None = None) -> pd.DataFrame:
    """Gaps of dated data: first and last weekday without a row, and their number.

    Columns ``first last weekdays``. Other weekdays without rows are holidays; their number is
    ``attrs["holidays"]``.

    Examples
    --------
    >>> days = np.array(["2024-03-01", "2024-03-04", "2024-03-20"], dtype="datetime64[D]")
    >>> gap_table(days)["weekdays"].tolist()
    [11]
    """
    lengths = gap_lengths(days, values)
    rows = np.flatnonzero(lengths)
    first = np.busday_offset(days[rows] + DAY, 0, roll="forward")
    last = np.busday_offset(days[rows + 1] - DAY, 0, roll="backward")
    table = pd.DataFrame({"first": first.astype(str), "last": last.astype(str), "weekdays": lengths[rows]})
    table.attrs["holidays"] = int(missing_weekdays(days).sum() - lengths.sum()) if len(days) else 0
    return table


def has_order(index: pd.Index) -> bool:
    """Whether rows have an order in time: dates, periods, or rows without labels."""
    return isinstance(index, pd.PeriodIndex | pd.DatetimeIndex | pd.RangeIndex)


def time_positions(index: pd.Index) -> Ints:
    """Integer positions in time, so that lags and windows skip missing periods.

    Periods, and dates of weeks to years, have their ordinals. Trading days are consecutive, and a gap counts its
    missing weekdays. Rows without dates are consecutive.

    Examples
    --------
    >>> months = pd.PeriodIndex(["2024-01", "2024-02", "2024-05"], freq="M")
    >>> positions = time_positions(months)
    >>> (positions - positions[0]).tolist()
    [0, 1, 4]
    """
    rows = np.arange(len(index), dtype=np.int64)
    if not isinstance(index, pd.PeriodIndex | pd.DatetimeIndex):
        return rows
    try:
        frequency = infer_frequency(index)
    except FrequencyError:
        return rows
    return positions_of(frequency, index)


def positions_of(frequency: Frequency, index: pd.Index) -> Ints:
    """As :func:`time_positions`, for a known frequency."""
    if not frequency.is_dated:
        return frequency.ordinals_of(index)
    rows = np.arange(len(index), dtype=np.int64)
    if frequency.code in "HN":
        return rows
    rows[1:] += np.cumsum(gap_lengths(calendar_days(index)))
    return rows


def labels_at(index: pd.Index, positions: Ints, wanted: Ints) -> pd.Index:
    """Labels of positions: those of the rows, or the day or period that an absent row represents.

    Parameters
    ----------
    index : Index, shape (T,)
    positions : ndarray of int, shape (T,)
        Positions from :func:`time_positions`.
    wanted : ndarray of int, shape (S,)
        Between the first and the last position.
    """
    row = np.searchsorted(positions, wanted, side="right") - 1
    there = positions[row] == wanted
    if there.all():
        return index[row]
    if isinstance(index, pd.PeriodIndex) and not infer_frequency(index).is_dated:
        frequency = infer_frequency(index)
        return pd.PeriodIndex(frequency.index(wanted), freq=index.freq, name=index.name)
    frequency = infer_frequency(index)
    if not frequency.is_dated:
        days = frequency.ends(wanted)
        days[there] = calendar_days(index)[row[there]]
    else:
        ahead = wanted - positions[row]
        days = np.busday_offset(calendar_days(index)[row], ahead, roll="preceding")
        days[there] = calendar_days(index)[row[there]]
    labels: pd.Index = pd.DatetimeIndex(days.astype("datetime64[s]"), name=index.name)
    return pd.PeriodIndex(labels, freq=index.freq) if isinstance(index, pd.PeriodIndex) else labels


def observations_per_year(
    frequency: Frequency, days: Dates, first: Ints, last: Ints, values: Floats | None = None
) -> Floats:
    """Periods per year of each series; for dated data the observations over the series' own span.

    Gaps count neither as time nor as observations. For a span under half a year the number of periods of the
    calendar is used.

    Parameters
    ----------
    frequency : Frequency
    days : ndarray of datetime64[D], shape (T,)
    first, last : ndarray of int, shape (N,)
        First and last row with a value of each series.
    values : ndarray, shape (T, N), optional
        As for :func:`gap_lengths`.

    Returns
    -------
    ndarray, shape (N,)

    Examples
    --------
    >>> days = np.arange("2023-01-02", "2025-01-01", dtype="datetime64[D]")
    >>> days = days[np.is_busday(days)]
    >>> ends = np.array([0]), np.array([len(days) - 1])
    >>> observations_per_year(Frequency("B"), days, *ends).round(1).tolist()
    [261.0]
    """
    plain = np.full(len(first), frequency.periods_per_year)
    if not frequency.is_dated or len(days) < 2:
        return plain
    whole = gap_lengths(days, values) == 0
    spans = np.where(whole, (days[1:] - days[:-1]).astype(np.int64), 0)
    steps = np.concatenate([[0], np.cumsum(whole)])
    elapsed = np.concatenate([[0], np.cumsum(spans)])
    low, high = np.minimum(first, len(days) - 1), np.maximum(last, 0)
    years = (elapsed[high] - elapsed[low]) / _DAYS_PER_YEAR
    counted = steps[high] - steps[low]
    long = years > _SHORTEST_SPAN
    return np.where(long, counted / np.where(long, years, 1.0), plain)
