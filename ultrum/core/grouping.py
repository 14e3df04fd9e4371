"""Which rows of a series fall in which period of a lower frequency, and what is made of them.

The reductions walk period by period over the block as it lies in memory, so that a wide table is
read once and nothing larger than the result is made beside it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.frequency import Frequency
from ultrum.core.series import SeriesTable
from ultrum.core.types import Bools, Dates, Floats, Ints
from ultrum.errors import FrequencyError

_DAY: Final = 86_400
_NARROW: Final = 16  # columns up to which NumPy's own grouped reduction is quicker than a walk
Reduction = Callable[[Floats], Floats]


@dataclass(frozen=True)
class Session:
    """When a trading day of intraday data ends: a clock time in a time zone."""

    close: str = ""
    time_zone: str = ""

    @property
    def seconds(self) -> int:
        """Clock time of the close in seconds after midnight; midnight where none is said."""
        if not self.close:
            return _DAY
        try:
            hours, minutes = (int(part) for part in self.close.split(":"))
        except ValueError:
            hours, minutes = 24, 60
        if not (0 <= hours < 24 and 0 <= minutes < 60):
            raise FrequencyError(f"session_close='{self.close}' is no clock time such as '17:00'.")
        return hours * 3600 + minutes * 60


@dataclass(frozen=True)
class Grouping:
    """Which rows of the source fall in which period of the target.

    ``first`` holds the first row of each period and ``size`` the number of rows; periods that hold
    no row at all are missing from ``ordinals``. ``days`` is the last day of each row.
    """

    ordinals: Ints
    first: Ints
    size: Ints
    of_row: Ints
    days: Dates
    finished: Bools
    left_out: str | None
    index: pd.Index

    @property
    def last(self) -> Ints:
        """Last row of each period."""
        return self.first + self.size - 1


def group(
    x: SeriesTable, target: Frequency, session: Session, through: str | None = None
) -> Grouping:
    """Group the rows of a table by the periods of a lower frequency.

    Parameters
    ----------
    x : SeriesTable
    target : Frequency
    session : Session
        When days of intraday data end.
    through : str, optional
        Day up to which the data are known to be whole.
    """
    if x.frequency.code not in "HN":
        days = x.frequency.ends(x.ordinals)
        return _grouped(target, target.ordinals(days), days, _known(days, through), x.frequency)
    clock = _local(x.index, session)
    if target.code in "HN":
        return _within_days(clock, x.frequency, target)
    days = _trading_days(clock, session)
    known = _known(_whole_days(clock, days, session, x.frequency), through)
    return _grouped(target, target.ordinals(days), days, known, x.frequency)


def last_days(x: SeriesTable) -> Dates:
    """Last day of each row's period."""
    if x.frequency.code in "HN":
        return x.index.to_numpy().astype("datetime64[D]")
    return x.frequency.ends(x.ordinals)


def _local(index: pd.Index, session: Session) -> pd.DatetimeIndex:
    moments = pd.DatetimeIndex(index)
    try:
        return moments.tz_convert(session.time_zone) if session.time_zone else moments
    except (KeyError, ValueError, TypeError) as error:
        raise FrequencyError(f"time_zone='{session.time_zone}' is not known ({error}).") from None


def _wall_seconds(clock: pd.DatetimeIndex) -> Ints:
    return np.asarray(clock.tz_localize(None).as_unit("s").asi8, dtype=np.int64)


def _trading_days(clock: pd.DatetimeIndex, session: Session) -> Dates:
    """Day of each row; what comes after the close belongs to the next, the close itself does not."""
    wall = _wall_seconds(clock)
    if not session.close:
        return (wall // _DAY).astype("datetime64[D]")
    return (-((session.seconds - wall) // _DAY)).astype("datetime64[D]")


def _whole_days(clock: pd.DatetimeIndex, days: Dates, session: Session, source: Frequency) -> Dates:
    """Days up to the last that is whole: without a close, one that ends no earlier than days do."""
    if not len(days):
        return days
    wall = _wall_seconds(clock)
    ends = np.flatnonzero(np.append(days[1:] != days[:-1], True))
    reached = wall[ends] - days[ends].astype(np.int64) * _DAY
    step = source.multiple * (3600 if source.code == "H" else 60)
    usual = float(np.median(reached[:-1])) if len(ends) > 1 else float(_DAY)
    close = float(session.seconds) if session.close else usual
    slack = step if session.close or len(ends) == 1 else 0
    whole = reached[-1] + slack >= close
    return days if whole else days[days < days[-1]]


def _known(days: Dates, through: str | None) -> np.datetime64 | None:
    said = [] if through is None else [np.datetime64(through, "D")]
    return max([*days[-1:], *said], default=None)


def _grouped(
    target: Frequency, of_row: Ints, days: Dates, known: np.datetime64 | None, source: Frequency
) -> Grouping:
    ordinals, first, size = np.unique(of_row, return_index=True, return_counts=True)
    kept, left_out = _finished(target, ordinals, known, source)
    return Grouping(
        ordinals, first.astype(np.int64), size.astype(np.int64), of_row, days, kept, left_out,
        target.index(ordinals),
    )  # fmt: skip


def _finished(
    target: Frequency, ordinals: Ints, known: np.datetime64 | None, source: Frequency
) -> tuple[Bools, str | None]:
    """Mask of finished periods, and the name of the one left out.

    The last period is finished when no weekday, or for weeks no week's end, remains in it.
    """
    kept = np.ones(len(ordinals), dtype=bool)
    if not len(kept):
        return kept, None
    last_day = target.ends(ordinals[-1:])[0]
    if known is None:
        remaining = 1
    elif source.code == "W":
        remaining = int((last_day - known).astype(int) >= 7)
    else:
        remaining = int(np.busday_count(known + 1, last_day + 1)) if known < last_day else 0
    if remaining == 0:
        return kept, None
    kept[-1] = False
    until = "before the first whole day" if known is None else f"data end {known}"
    return kept, f"{target.labels(ordinals[-1:])[0]} ({until})"


def _within_days(clock: pd.DatetimeIndex, source: Frequency, target: Frequency) -> Grouping:
    """Intraday to intraday: periods start on whole multiples of the local clock."""
    step = target.multiple * (3600 if target.code == "H" else 60)
    own = source.multiple * (3600 if source.code == "H" else 60)
    moments = np.asarray(clock.tz_convert("UTC").as_unit("s").asi8, dtype=np.int64)
    starts = moments - _wall_seconds(clock) % step
    ordinals, first, size = np.unique(starts, return_index=True, return_counts=True)
    kept = np.ones(len(ordinals), dtype=bool)
    left_out = None
    index = pd.DatetimeIndex(ordinals.astype("datetime64[s]"), tz="UTC", name="time")
    index = index.tz_convert(clock.tz)
    if len(kept) and moments[-1] + own < ordinals[-1] + step:
        kept[-1] = False
        left_out = f"{index[-1]} (data end {clock[-1]})"
    days = clock.tz_localize(None).to_numpy().astype("datetime64[D]")
    return Grouping(ordinals, first.astype(np.int64), size.astype(np.int64), starts, days, kept,
                    left_out, index)  # fmt: skip


def expected_sizes(source: Frequency, target: Frequency, grouping: Grouping) -> Ints:
    """Observations each period should have: by the calendar, or the table's own trading days."""
    if source.is_dated:
        return grouping.size
    after = target.ends(grouping.ordinals) + np.timedelta64(1, "D")
    spans = source.ordinals(after) - source.ordinals(target.starts(grouping.ordinals))
    return np.asarray(spans, dtype=np.int64)


def reduce_block(
    block: Floats, columns: Ints, grouping: Grouping, reduction: Reduction, neutral: float
) -> tuple[Floats, Ints]:
    """A reduction of every period and column over its valid values, and how many those are.

    Parameters
    ----------
    block : ndarray, shape (T, N)
    columns : ndarray of int, shape (M,)
        The columns wanted.
    grouping : Grouping
        G periods.
    reduction : callable
        From (rows, columns) to (columns,); NaN where any of the values is.
    neutral : float
        What stands for a missing value where values are left.

    Returns
    -------
    results, counts : ndarray, shape (G, M)
    """
    results = np.empty((len(grouping.first), len(columns)))
    counts = np.empty(results.shape, dtype=np.int64)
    counts[:] = grouping.size[:, None]
    every = len(columns) == block.shape[1]
    for g, (low, size) in enumerate(zip(grouping.first, grouping.size, strict=True)):
        part = block[low : low + size]
        part = part if every else part[:, columns]
        found = reduction(part)
        torn = np.flatnonzero(~np.isfinite(found))
        if len(torn):
            holed = part[:, torn]
            valid = np.isfinite(holed)
            counts[g, torn] = valid.sum(axis=0)
            found[torn] = reduction(np.where(valid, holed, neutral))
        results[g] = found
    return results, counts


def sum_block(block: Floats, columns: Ints, grouping: Grouping) -> tuple[Floats, Ints]:
    """Sums of valid values and their counts, as :func:`reduce_block`."""
    if len(columns) > _NARROW or not len(block):
        return reduce_block(block, columns, grouping, lambda part: part.sum(axis=0), 0.0)
    part = block[:, columns]
    valid = np.isfinite(part)
    counts = np.add.reduceat(valid.astype(np.int64), grouping.first, axis=0)
    return np.add.reduceat(np.where(valid, part, 0.0), grouping.first, axis=0), counts


def extreme_block(
    block: Floats, columns: Ints, grouping: Grouping, take: np.ufunc
) -> tuple[Floats, Ints]:
    """Highest or lowest valid values and counts; ``take`` is ``np.maximum`` or ``np.minimum``."""
    worst = -np.inf if take is np.maximum else np.inf
    if len(columns) > _NARROW or not len(block):
        return reduce_block(
            block, columns, grouping, lambda p: np.asarray(take.reduce(p, axis=0)), worst
        )
    part = block[:, columns]
    valid = np.isfinite(part)
    counts = np.add.reduceat(valid.astype(np.int64), grouping.first, axis=0)
    return take.reduceat(np.where(valid, part, worst), grouping.first, axis=0), counts


def median_block(block: Floats, columns: Ints, grouping: Grouping) -> tuple[Floats, Ints]:
    """Medians of valid values and counts."""
    results, counts = sum_block(block, columns, grouping)
    for g, (low, size) in enumerate(zip(grouping.first, grouping.size, strict=True)):
        part = block[low : low + size][:, columns]
        seen = counts[g] > 0
        results[g, seen] = np.nanmedian(part[:, seen], axis=0)
    return results, counts


def last_rows(block: Floats, columns: Ints, grouping: Grouping) -> Ints:
    """Row of the last valid value of each period and column, −1 where there is none.

    Most last rows are valid; only the cells that are not are followed backwards.
    """
    rows = np.repeat(grouping.last[:, None], len(columns), axis=1)
    period, place = np.nonzero(~np.isfinite(block[np.ix_(grouping.last, columns)]))
    at = grouping.last[period]
    while len(period):
        at = at - 1
        outside = at < grouping.first[period]
        rows[period[outside], place[outside]] = -1
        period, place, at = period[~outside], place[~outside], at[~outside]
        found = np.isfinite(block[at, columns[place]])
        rows[period[found], place[found]] = at[found]
        period, place, at = period[~found], place[~found], at[~found]
    return rows


def weekdays_after(days: Dates, ends: Dates) -> Ints:
    """Weekdays after each day up to and including its period's end."""
    return np.asarray(np.busday_count(days + 1, ends + 1), dtype=np.int64)
