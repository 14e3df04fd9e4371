"""Dates with day and month swapped by a spreadsheet, detected by their pattern."""

from __future__ import annotations

from typing import Final

import numpy as np

from ultrum.core.array_types import DAY, Bools, Dates, Ints
from ultrum.core.displayed_numbers import quantity
from ultrum.errors import TableError

_LEAST_ROWS: Final = 4
_BETTER: Final = 0.2  # turns that remain once days and months are exchanged back
_WEEKENDS: Final = 0.15  # of days up to the twelfth, where later days have none
_MANY: Final = 20


def refuse_day_month_swap(moments: Dates, where: str) -> None:
    """Refuse a column in which dates up to the twelfth of a month have day and month swapped.

    A spreadsheet that expects the month first reads 05/03/2024 as 3 May and leaves 15/03/2024 as it is. The rows
    are then unsorted, and dates fall on weekends, exactly where the day is 12 or less.

    Raises
    ------
    TableError
        With the number of such rows and the first one.
    """
    days = moments.astype("datetime64[D]")[~np.isnat(moments)]
    early = _day(days) <= 12
    if len(days) < _LEAST_ROWS or early.all() or not early.any():
        return
    exchanged = _exchange_day_month(days, early)
    before, after = _turns(days), _turns(exchanged)
    ordered = before > 0 and after <= _BETTER * before
    if not (ordered or _on_weekends(days, exchanged, early)):
        return
    changed = np.flatnonzero(exchanged != days)
    raise TableError(
        f"{where}: day and month are swapped in {quantity(len(changed), 'date')} whose day is 12 or less, "
        f"first {days[changed[0]]}, which is {exchanged[changed[0]]} by the order of the rows; a spreadsheet "
        "read them month first. Download the file again, with dates of the form 2024-03-15."
    )


def _day(days: Dates) -> Ints:
    return np.asarray((days - days.astype("datetime64[M]")).astype(np.int64) + 1)


def _exchange_day_month(days: Dates, early: Bools) -> Dates:
    """Dates with day and month swapped where the day can be a month."""
    months = days.astype("datetime64[M]").astype(np.int64)
    year, month, day = months // 12, months % 12 + 1, _day(days)
    first = (year * 12 + day - 1).astype("datetime64[M]").astype("datetime64[D]")
    other = first + DAY * (month - 1)
    return np.asarray(np.where(early, other, days))


def _turns(days: Dates) -> int:
    """Steps against the direction of most steps."""
    steps = np.diff(days.astype(np.int64))
    return int(min((steps > 0).sum(), (steps < 0).sum()))


def _on_weekends(days: Dates, exchanged: Dates, early: Bools) -> bool:
    """Whether only days up to the twelfth fall on weekends, and none does after swapping back."""
    if early.sum() < _MANY or (~early).sum() < _MANY or not np.is_busday(days[~early]).all():
        return False
    weekend = ~np.is_busday(days[early])
    return bool(weekend.mean() > _WEEKENDS and np.is_busday(exchanged[early]).all())
