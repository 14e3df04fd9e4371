"""Inference of the frequency from an index of dates or periods."""

from __future__ import annotations

from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import DAY, MONTH, Bools, Dates
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
            f"The frequency cannot be read off a {type(index).__name__} of {len(index)} entries; "
            "set frequency='M' or give it dates."
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
    raise FrequencyError(f"Dates {gap:g} days apart match no frequency; set frequency=...")


def distinct(moments: Dates) -> Dates:
    """Sorted distinct moments; quick where they are in order already, as they mostly are."""
    ordered = moments if (np.diff(moments.astype(np.int64)) >= 0).all() else np.sort(moments)
    return ordered[np.r_[True, np.diff(ordered.astype(np.int64)) > 0]] if len(ordered) else ordered


def intraday_frequency(moments: Dates) -> Frequency:
    """Minutes or hours between neighbours, by the commonest step.

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
    """Half-years out of periods of six months, which must all begin in the same or the opposite month."""
    firsts = set((index.month % 6).tolist())
    if len(firsts) > 1:
        raise FrequencyError("The periods of six months overlap; half-years begin six months apart.")
    before = (firsts.pop() - 1) % 6 if firsts else 0  # month before the first of a half-year
    return Frequency("S", anchor=before or 12)


def _several_a_day(index: pd.DatetimeIndex) -> str:
    if not index.is_unique:
        twice = index[index.duplicated()][0]
        return f"{twice} appears twice; keep one row of each date."
    return "Several observations a day: set frequency='N', '5N' or 'H'."


def _fitting(days: Dates, code: str) -> Frequency | None:
    """The frequency whose periods the dates mark, or None where they are just dates.

    Dates mark periods when nine in ten are at the first or last day or weekday of one, up to three
    holidays apart, or on one day of the month. Dates at the ends of other months move the anchor.
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
