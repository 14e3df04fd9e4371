"""Centuries of two-digit years, inferred from the whole column."""

from __future__ import annotations

from datetime import date
from typing import Final

import numpy as np

from ultrum.core.array_types import Array, Dates, Ints
from ultrum.errors import TableError

_LEAST_GAP: Final = 10  # years without data that show where a span of less than a century begins
_ROUND: Final = 50  # a step back of more years is the turn of a century
_AHEAD_DAYS: Final = 366  # the end of the running year may be later than today
_FORECAST_YEARS: Final = 10  # forecasts begin so many years after today at most
_LONGEST_FORECAST: Final = 50


def with_centuries(moments: Dates, first_year: int | None, where: str) -> Dates:
    """Instants with two-digit years, moved to their century.

    The years of a column form one span without a large gap, sorted if the rows are sorted, and do not begin after
    today.

    Parameters
    ----------
    moments : array of datetime64
        Instants of any century, NaT where a cell is not a date.
    first_year : int, optional
        Year of the earliest date, if given.
    where : str
        Location, for messages.

    Raises
    ------
    TableError
        If two centuries are possible.
    """
    dated = np.flatnonzero(~np.isnat(moments))
    if not len(dated):
        return moments
    years = moments[dated].astype("datetime64[Y]").astype(np.int64) + 1970
    short = years % 100
    counted = _by_gap(short) if _gap(short)[1] >= _LEAST_GAP else _by_order(moments[dated], short)
    if counted is None:
        raise TableError(
            f"{where}: the years have two digits and span a century in no order, so their centuries are "
            "ambiguous. Sort the rows by date, or write the years with four digits."
        )
    start = int(counted.min())
    century = _century(counted, moments[dated], start, first_year, where)
    moved = moments.copy()
    moved[dated] = _in_year(moments[dated], counted + century, where)
    return moved


def _gap(short: Ints) -> tuple[int, int]:
    """Year after the longest gap of two-digit years, and the length of the gap."""
    distinct = np.unique(short)
    lengths = np.diff(np.r_[distinct, distinct[0] + 100]) - 1
    longest = int(lengths.argmax())
    return int(distinct[(longest + 1) % len(distinct)]), int(lengths[longest])


def _by_gap(short: Ints) -> Ints:
    """Years counted from the one after the gap, 0 to 199."""
    start = _gap(short)[0]
    return np.where(short >= start, short, short + 100)


def _by_order(moments: Dates, short: Ints) -> Ints | None:
    """Years counted along sorted rows, or None if the rows are not sorted."""
    for sign in (1, -1):
        ordered = short[::sign]
        turns = np.diff(ordered) < -_ROUND
        counted = ordered + 100 * np.r_[0, np.cumsum(turns)]
        months = moments[::sign].astype("datetime64[M]").astype(np.int64) % 12
        if (np.diff(counted * 12 + months) >= 0).all():
            return np.asarray(counted[::sign])
    return None


def _century(counted: Ints, moments: Dates, start: int, first_year: int | None, where: str) -> int:
    """Years to add: the latest century without future dates."""
    today = np.datetime64(date.today(), "D")
    if first_year is not None:
        if (first_year - start) % 100:
            raise TableError(
                f"{where}: first_year={first_year}, but the earliest year ends in {start % 100:02d}."
            )
        return first_year - start
    last = int(counted.argmax())
    later, this_year = 2000 - start // 100 * 100, int(str(today)[:4])
    end = _in_year(moments[[last]], counted[[last]] + later, where)[0].astype("datetime64[D]")
    if end <= today + np.timedelta64(_AHEAD_DAYS, "D"):
        return later
    ahead = int(counted.max()) + later - this_year
    if start + later > this_year + _FORECAST_YEARS or ahead > _LONGEST_FORECAST:
        return later - 100
    earlier = start + later - 100
    raise TableError(
        f"{where}: the years have two digits and can begin in {earlier} or, with forecasts, in "
        f"{start + later}. Set first_year={earlier} or first_year={start + later}."
    )


def _in_year(moments: Dates, years: Array, where: str) -> Dates:
    """The same day and time in other years."""
    months = moments.astype("datetime64[M]")
    rest = moments - months
    place = (years - 1970) * 12 + months.astype(np.int64) % 12
    moved = place.astype("datetime64[M]") + rest
    if (moved.astype("datetime64[M]").astype(np.int64) != place).any():
        raise TableError(f"{where}: a date is 29 February of a year that is not a leap year. Check the years.")
    return np.asarray(moved.astype(moments.dtype))
