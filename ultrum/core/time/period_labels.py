"""Labels of periods and spans, and rows from one period to another."""

from __future__ import annotations

from datetime import datetime, time
from typing import Any, Literal

import numpy as np
import pandas as pd

from ultrum.core.time.frequency import Frequency, calendar_days, last_day, parse_period
from ultrum.core.time.index_frequency_and_gaps import _half_years


def span_of(index: pd.Index) -> str:
    """A span in words: ``2004-01 to 2024-12``."""
    if not len(index):
        return "empty"
    return f"{period_label(index[0])} to {period_label(index[-1])}"


def period_label(moment: object) -> str:
    """SDMX name of a period or date, with the time of day and the offset of an instant; a dash for a missing one.

    Examples
    --------
    >>> period_label(pd.Period("2024Q1")), period_label(pd.Timestamp("2024-01-02 09:31", tz="Europe/Paris"))
    ('2024-Q1', '2024-01-02T09:31+01:00')
    """
    if moment is None or moment is pd.NaT:
        return "—"
    if isinstance(moment, pd.Period):
        text = str(moment)
        if moment.freqstr == "6M":
            anchor = _half_years(pd.PeriodIndex([moment]))
            return anchor.labels(anchor.ordinals_of(pd.PeriodIndex([moment])))[0]
        if moment.freqstr.startswith("W"):
            end = moment.end_time
            year, week, _ = (end - pd.Timedelta(days=end.weekday() - 3)).isocalendar()
            return f"{year}-W{week:02d}"
        return f"{text[:4]}-{text[4:]}" if "Q" in text else text
    if isinstance(moment, datetime) and (moment.tzinfo is not None or moment.time() != time.min):
        return moment.isoformat(timespec="minutes" if not (moment.second or moment.microsecond) else "auto")
    return str(moment)[:10]


def file_label(moment: object) -> str:
    """The label of a period in a file, from which it is read back.

    That of :func:`period_label`, but weeks that do not end on a Sunday have their last day.

    Examples
    --------
    >>> file_label(pd.Period("2024-01-05", "W-FRI")), file_label(pd.Period("2024-01-07", "W-SUN"))
    ('2024-01-05', '2024-W01')
    """
    if isinstance(moment, pd.Period) and moment.freqstr.startswith("W") and moment.freqstr != "W-SUN":
        return str(moment.end_time.date())
    return period_label(moment)


# Rows of an index from one period to another


def rows_between(index: pd.Index, frequency: Frequency, start: object, end: object) -> slice:
    """Rows from ``start`` to ``end``, both included; an open side is None.

    Names of periods are parsed as by :meth:`Frequency.ordinal_named`; days and periods of another kind include
    all their days. Intraday data are selected by instants.

    Examples
    --------
    >>> weeks = pd.period_range("2024-01-05", periods=9, freq="W-FRI")
    >>> rows_between(weeks, Frequency.parse("W-FRI"), "2024-W03", "2024-02-05")
    slice(2, 6, None)
    """
    if frequency.code in "HN":
        return index.slice_indexer(_instant(start, "start", index), _instant(end, "end", index))
    places: Any = calendar_days(index) if frequency.is_dated else frequency.ordinals_of(index)
    first, stop = 0, len(index)
    if start is not None:
        name = start if isinstance(start, str) else period_label(start)
        low: Any = parse_period(name)[1] if frequency.is_dated else frequency.ordinal_of_name(name)
        first = int(np.searchsorted(places, low, "left"))
    if end is not None:
        name = end if isinstance(end, str) else period_label(end)
        high: Any = last_day(name) if frequency.is_dated else frequency.ordinal_of_name(name, last=True)
        stop = int(np.searchsorted(places, high, "right"))
    return slice(first, stop)


def _instant(moment: object, side: Literal["start", "end"], index: Any) -> object:
    """The first or last instant of a period, in the time zone of an index; other labels are unchanged."""
    if not isinstance(moment, pd.Period):
        return moment
    return moment.to_timestamp(how=side).tz_localize(index.tz)
