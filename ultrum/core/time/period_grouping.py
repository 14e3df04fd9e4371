"""Grouping of rows by period of a lower frequency, and which periods are complete."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import DAY, Array, Bools, Dates, Ints
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.index_frequency_and_gaps import gap_lengths
from ultrum.core.time.period_labels_and_relative_dates import day_in
from ultrum.errors import FrequencyError

_DAY: Final = 86_400
_WEEKENDS: Final = 0.1  # share of rows on weekends from which daily data have seven days a week


@dataclass(frozen=True)
class Session:
    """End of the trading day of intraday data: a clock time in a time zone."""

    close: str = ""
    timezone: str = ""

    @property
    def seconds(self) -> int:
        """Clock time of the close in seconds after midnight; midnight by default."""
        if not self.close:
            return _DAY
        try:
            hours, minutes = (int(part) for part in self.close.split(":"))
        except ValueError:
            hours, minutes = 24, 60
        if not (0 <= hours < 24 and 0 <= minutes < 60):
            raise FrequencyError(f"session_close='{self.close}' is not a clock time such as '17:00'.")
        return hours * 3600 + minutes * 60


@dataclass(frozen=True)
class Grouping:
    """Rows of the source in each period of the target.

    ``first`` is the first row of each period and ``size`` the number of rows; empty periods are not in
    ``ordinals``. ``days`` is the last day of each row. ``begun`` and ``finished`` are false for a first and a
    last period that the data cover in part; ``unfinished`` names these.
    """

    ordinals: Ints
    first: Ints
    size: Ints
    days: Dates
    begun: Bools
    finished: Bools
    unfinished: tuple[str, ...]
    index: pd.Index

    @property
    def last(self) -> Ints:
        """Last row of each period."""
        return self.first + self.size - 1

    def ordinal_of(self, row: int) -> int:
        """Ordinal of the period that contains a row."""
        return int(self.ordinals[np.searchsorted(self.first, row, side="right") - 1])


def group(
    x: SeriesTable, target: Frequency, session: Session, through: str | None = None, since: str | None = None
) -> Grouping:
    """Group the rows of a table by the periods of a lower frequency.

    Parameters
    ----------
    x : SeriesTable
    target : Frequency
    session : Session
        End of the trading day of intraday data.
    through, since : str, optional
        Dates from which and up to which the data are known to be complete.
    """
    if x.frequency.code not in "HN":
        days = last_days(x)
        begins = days[:1] if x.frequency.is_dated else x.frequency.starts(x.ordinals[:1])
        return _group_days(target, days, _earliest(begins, since), _end_of_data(days, through), x.frequency)
    clock = _local(x.index, session)
    if target.code in "HN":
        return _within_days(clock, x.frequency, target)
    wall = _wall_seconds(clock)
    days = _trading_days(wall, session)
    last_day = _end_of_data(_whole_days(wall, days, session, x.frequency), through)
    begins = _first_whole_day(wall, days, x.frequency)
    return _group_days(target, days, _earliest(begins, since), last_day, x.frequency)


def last_days(x: SeriesTable) -> Dates:
    """Last day of each row's period."""
    if x.frequency.code in "HN":
        return x.index.to_numpy().astype("datetime64[D]")
    return calendar_days(x.index) if x.frequency.is_dated else x.frequency.ends(x.ordinals)


def _local(index: pd.Index, session: Session) -> pd.DatetimeIndex:
    moments = pd.DatetimeIndex(index)
    try:
        return moments.tz_convert(session.timezone) if session.timezone else moments
    except (KeyError, ValueError, TypeError) as error:
        raise FrequencyError(f"timezone='{session.timezone}' is not known ({error}).") from error


def _wall_seconds(clock: pd.DatetimeIndex) -> Ints:
    return np.asarray(clock.tz_localize(None).as_unit("s").asi8, dtype=np.int64)


def _trading_days(wall: Ints, session: Session) -> Dates:
    """Trading day of each row; a row after the close belongs to the next day, the close itself does not."""
    days = wall // _DAY if not session.close else -((session.seconds - wall) // _DAY)
    return np.maximum.accumulate(days).astype("datetime64[D]")  # a clock put back repeats no day


def _whole_days(wall: Ints, days: Dates, session: Session, source: Frequency) -> Dates:
    """Days up to the last complete one: without a close, one that ends no earlier than usual."""
    if not len(days):
        return days
    ends = np.flatnonzero(np.append(days[1:] != days[:-1], True))
    reached = wall[ends] - days[ends].astype(np.int64) * _DAY
    step = source.multiple * (3600 if source.code == "H" else 60)
    usual = float(np.median(reached[:-1])) if len(ends) > 1 else float(_DAY)
    close = float(session.seconds) if session.close else usual
    slack = step if session.close or len(ends) == 1 else 0
    whole = reached[-1] + slack >= close
    return days if whole else days[days < days[-1]]


def _first_whole_day(wall: Ints, days: Dates, source: Frequency) -> Dates:
    """First complete day: the first one, unless it begins later than usual.

    Examples
    --------
    >>> hours, days = np.array([9, 10, 33, 34]), np.array(["2024-01-01", "2024-01-02"], "datetime64[D]")
    >>> _first_whole_day(hours * 3600 + 1704067200, days.repeat(2), Frequency("H")).astype(str).tolist()
    ['2024-01-01']
    >>> later = hours + [2, 2, 0, 0]
    >>> _first_whole_day(later * 3600 + 1704067200, days.repeat(2), Frequency("H")).astype(str).tolist()
    ['2024-01-02']
    """
    if not len(days):
        return days
    begins = np.flatnonzero(np.append(True, days[1:] != days[:-1]))
    opened = wall[begins] - days[begins].astype(np.int64) * _DAY
    step = source.multiple * (3600 if source.code == "H" else 60)
    late = len(begins) > 1 and opened[0] > float(np.median(opened[1:])) + step
    return days[:1] + DAY if late else days[:1]


def _earliest(begins: Dates, since: str | None) -> np.datetime64 | None:
    given = [] if since is None else [day_in(since, "since")]
    return min([*begins[:1], *given], default=None)


def _end_of_data(days: Dates, through: str | None) -> np.datetime64 | None:
    given = [] if through is None else [day_in(through, "through")]
    return max([*days[-1:], *given], default=None)


def _group_days(
    target: Frequency,
    days: Dates,
    begins: np.datetime64 | None,
    last_day: np.datetime64 | None,
    source: Frequency,
) -> Grouping:
    starts = _turns(days)  # many rows of a day are placed at once
    ordinals = target.ordinals(days[starts])
    place = _turns(ordinals)
    first = starts[place]
    size = np.diff(np.append(first, len(days)))
    whole_weeks = source.code == "D" and _has_weekends(days)
    begun, late = _begun(target, ordinals[place], begins, days, source, whole_weeks)
    kept, cut = _complete_mask(target, ordinals[place], last_day, source, whole_weeks)
    index = target.index(ordinals[place])
    unfinished = tuple(dict.fromkeys(text for text in (late, cut) if text))
    return Grouping(ordinals[place], first, size, days, begun, kept, unfinished, index)


def _has_weekends(days: Dates) -> bool:
    """Whether daily data generally include weekends."""
    return bool((~np.is_busday(days)).mean() > _WEEKENDS) if len(days) else False


def _begun(
    target: Frequency,
    ordinals: Ints,
    begins: np.datetime64 | None,
    days: Dates,
    source: Frequency,
    whole_weeks: bool,
) -> tuple[Bools, str | None]:
    """Mask of periods whose beginning is in the data, and the name of the one whose beginning is not.

    The first period is complete at its beginning when no weekday of it is before the first row (except the first
    weekday of a year, unless it has rows); for calendar-daily data no day, for longer periods none.
    """
    begun = np.ones(len(ordinals), dtype=bool)
    if not len(begun) or begins is None:
        return begun, None
    first_day = target.starts(ordinals[:1])[0]
    if whole_weeks or not source.is_dated:  # a week belongs where it ends, so one before would lie here
        missing = int((begins - first_day).astype(np.int64))
    else:
        missing = int(np.busday_count(first_day, begins))
        new_year = np.busday_offset(first_day.astype("datetime64[Y]").astype("datetime64[D]"), 0, "forward")
        missing -= int(first_day <= new_year < min(begins, days[0]))
    if missing <= 0:
        return begun, None
    begun[0] = False
    return begun, f"{target.labels(ordinals[:1])[0]} (data begin {begins})"


def _turns(ordered: Array) -> Ints:
    """Start of each run of equal values."""
    return np.flatnonzero(np.append(True, ordered[1:] != ordered[:-1])[: len(ordered)])


def _complete_mask(
    target: Frequency, ordinals: Ints, known_until: np.datetime64 | None, source: Frequency, whole_weeks: bool
) -> tuple[Bools, str | None]:
    """Mask of finished periods, and the name of an unfinished one.

    The last period is finished when no weekday remains in it; for calendar-daily data no day, for weeks no end of
    a week.
    """
    kept = np.ones(len(ordinals), dtype=bool)
    if not len(kept):
        return kept, None
    last_day = target.ends(ordinals[-1:])[0]
    if known_until is None:
        remaining = 1
    elif whole_weeks or source.code == "W":
        remaining = int((last_day - known_until).astype(int) >= (7 if source.code == "W" else 1))
    else:
        remaining = int(np.busday_count(known_until + DAY, last_day + DAY)) if known_until < last_day else 0
    if remaining == 0:
        return kept, None
    kept[-1] = False
    until = "before the first whole day" if known_until is None else f"data end {known_until}"
    return kept, f"{target.labels(ordinals[-1:])[0]} ({until})"


def _within_days(clock: pd.DatetimeIndex, source: Frequency, target: Frequency) -> Grouping:
    """Intraday to intraday: periods start at multiples of the local clock."""
    step = target.multiple * (3600 if target.code == "H" else 60)
    seconds = source.multiple * (3600 if source.code == "H" else 60)
    moments = np.asarray(clock.tz_convert("UTC").as_unit("s").asi8, dtype=np.int64)
    starts = moments - _wall_seconds(clock) % step
    first = _turns(starts)
    ordinals, size = starts[first], np.diff(np.append(first, len(starts)))
    begun, kept = np.ones((2, len(ordinals)), dtype=bool)
    unfinished = []
    index = pd.DatetimeIndex(ordinals.astype("datetime64[s]"), tz="UTC", name="time")
    index = index.tz_convert(clock.tz)
    if len(kept) and moments[-1] + seconds < ordinals[-1] + step:
        kept[-1] = False
        unfinished.append(f"{index[-1]} (data end {clock[-1]})")
    if len(begun) and moments[0] >= ordinals[0] + seconds:
        begun[0] = False
        unfinished.insert(0, f"{index[0]} (data begin {clock[0]})")
    days = clock.tz_localize(None).to_numpy().astype("datetime64[D]")
    return Grouping(ordinals, first, size, days, begun, kept, tuple(unfinished), index)


def full_sizes(x: SeriesTable, target: Frequency, grouping: Grouping) -> Ints:
    """Expected observations of each period: by calendar, or the table's own days and those in its gaps."""
    source = x.frequency
    if source.code in "HN":
        return grouping.size
    if source.is_dated:
        return grouping.size + _days_in_gaps(x, target, grouping)
    after = target.ends(grouping.ordinals) + np.timedelta64(1, "D")
    spans = source.ordinals(after) - source.ordinals(target.starts(grouping.ordinals))
    return np.asarray(spans, dtype=np.int64)


def _days_in_gaps(x: SeriesTable, target: Frequency, grouping: Grouping) -> Ints:
    """Weekdays of each period that lie in gaps of the table."""
    counts = np.zeros(len(grouping.ordinals), dtype=np.int64)
    days = grouping.days
    for row in np.flatnonzero(gap_lengths(days, x.block)):
        between = np.arange(days[row] + DAY, days[row + 1])
        absent = target.ordinals(between[np.is_busday(between)])
        place = np.minimum(np.searchsorted(grouping.ordinals, absent), len(counts) - 1)
        np.add.at(counts, place[grouping.ordinals[place] == absent], 1)
    return counts
