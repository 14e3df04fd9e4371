"""Rows of an index from one period to another."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd

from ultrum.core.time.frequency import Frequency, calendar_days, last_day, parse_period
from ultrum.core.time.period_labels import period_label


def rows_between(index: pd.Index, frequency: Frequency, start: Any, end: Any) -> slice:
    """Rows from ``start`` to ``end``, both included; an open side is None.

    Names of periods are those of the frequency, as :meth:`Frequency.ordinal_named` reads them; days and
    periods of another kind stand for all their days. Data within days are cut as pandas reads instants.

    Examples
    --------
    >>> weeks = pd.period_range("2024-01-05", periods=9, freq="W-FRI")
    >>> rows_between(weeks, Frequency.parse("W-FRI"), "2024-W03", "2024-02-05")
    slice(2, 6, None)
    """
    if frequency.code in "HN":
        return index.slice_indexer(start, end)
    names = [
        moment if moment is None or isinstance(moment, str) else period_label(moment) for moment in (start, end)
    ]
    if frequency.is_dated:
        places: Any = calendar_days(index)
        low = None if names[0] is None else parse_period(names[0])[1]
        high = None if names[1] is None else last_day(names[1])
    else:
        places = frequency.ordinals_of(index)
        low = None if names[0] is None else frequency.ordinal_named(names[0])
        high = None if names[1] is None else frequency.ordinal_named(names[1], last=True)
    first = 0 if low is None else int(np.searchsorted(places, low, "left"))
    return slice(first, len(index) if high is None else int(np.searchsorted(places, high, "right")))
