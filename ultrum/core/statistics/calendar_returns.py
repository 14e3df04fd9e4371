"""Calendar returns: a grid of months by years."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.statistics.return_samples import Described, returns_in, simple_block
from ultrum.core.time.period_labels import span_of
from ultrum.core.transform.aggregation import to_frequency
from ultrum.errors import FrequencyError

_MONTHS: Final = (
    "Jan",
    "Feb",
    "Mar",
    "Apr",
    "May",
    "Jun",
    "Jul",
    "Aug",
    "Sep",
    "Oct",
    "Nov",
    "Dec",
)


@dataclass(frozen=True, eq=False, repr=False)
class CalendarReturns(Described):
    """Returns by year (rows) and month or quarter (columns), with the year's own.

    Attributes
    ----------
    summary : DataFrame
        For each column: ``mean median positive count``, the third the share of years above zero. Years that are
        not whole are left out of the column ``year``.
    """

    summary: pd.DataFrame
    name: str


@checked
def calendar_returns(x: TimeSeries) -> CalendarReturns:
    """Returns of each month of each year.

    Parameters
    ----------
    x : TimeSeries
        Returns, monthly or quarterly; those of days and weeks are compounded to months.

    Returns
    -------
    CalendarReturns
        ``table`` has a column for each month and ``year``, the compounded return of the months there
        are; a year that is not whole has its number in ``attrs["partial_years"]``.

    Examples
    --------
    >>> r = pd.Series([0.1, -0.1], pd.period_range("2024-01", periods=2, freq="M"))
    >>> calendar_returns(TimeSeries.from_pandas(r, measure="return")).table["year"].round(4).tolist()
    [-0.01]
    """
    returns = returns_in(x, "calendar_returns").only()
    if returns.metadata.frequency.is_dated or returns.metadata.frequency.code == "W":
        returns = to_frequency(returns, "M")
    valid = returns.values.dropna().index
    if len(valid):
        returns = TimeSeries(returns.values.loc[valid[0] : valid[-1]], returns.metadata)
    code = returns.metadata.frequency.code
    if code not in "MQ":
        raise FrequencyError(f"{x.name} is {returns.metadata.frequency.name}; a grid needs months or quarters.")
    count = 12 if code == "M" else 4
    names = list(_MONTHS) if code == "M" else ["Q1", "Q2", "Q3", "Q4"]
    ordinals = returns.ordinals
    years = np.unique(ordinals // count)
    grid = np.full((len(years), count), np.nan)
    grid[np.searchsorted(years, ordinals // count), ordinals % count] = simple_block(returns.as_table())[:, 0]
    there = np.isfinite(grid)
    whole = np.where(there.any(axis=1), np.prod(np.where(there, 1.0 + grid, 1.0), axis=1) - 1.0, np.nan)
    table = pd.DataFrame(grid, index=pd.Index(years + 1970, name="year"), columns=names)
    table["year"] = whole
    table.attrs["partial_years"] = [
        int(y) + 1970 for y, k in zip(years, there, strict=True) if 0 < k.sum() < count
    ]
    counted = table.copy()
    counted.loc[table.attrs["partial_years"], "year"] = np.nan  # part of a year is not a year's return
    summary = pd.DataFrame({
        "mean": counted.mean(), "median": counted.median(),
        "positive": (counted > 0).sum() / counted.notna().sum().replace(0, np.nan),
        "count": counted.notna().sum(),
    }).T  # fmt: skip
    basis = f"{x.metadata.heading}, simple returns, {span_of(returns.values.dropna().index)}; decimals"
    return CalendarReturns(table, basis, summary, x.metadata.heading)


def _on_calendar(x: TimeSeries) -> TimeSeries:
    """With a row for every period: a condition can hold in one whose return is missing."""
    if x.metadata.frequency.is_dated or not len(x):
        return x
    every = np.arange(x.ordinals[0], x.ordinals[-1] + 1)
    return TimeSeries(x.values.reindex(x.metadata.frequency.index(every)), x.metadata)
