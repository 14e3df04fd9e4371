"""To a lower frequency, by what the numbers measure.

A flow is summed, a price takes its last value, a rate is averaged or taken at the end according to
its timing, returns compound. A period that lacks observations is missing rather than wrong, and an
unfinished last period is always left out.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ultrum.core.descriptor import ZERO_COST, Descriptor
from ultrum.core.frequency import Frequency
from ultrum.core.series import Causes, SeriesTable, TimeSeries, on_block
from ultrum.core.types import Bools, Dates, Floats, Ints
from ultrum.errors import FrequencyError, UnitError

HOWS: Final = ("sum", "mean", "last", "first", "high", "low", "compound", "log sum")
STALE_AFTER: Final = 5
STALE: Final = "stale price"
_BY_MEASURE: Final = {
    "price": "last", "stock": "last", "quote": "last", "flow": "sum", "score": "mean",
    "return": "compound", "log_return": "log sum",
}  # fmt: skip
_BY_TIMING: Final = {"end": "last", "start": "first", "average": "mean"}
_TIMING_AFTER: Final = {"last": "end", "first": "start", "mean": "average", "sum": "total"}


@dataclass(frozen=True)
class Grouping:
    """Which rows of the source fall in which period of the target.

    ``first`` holds the first row of each period and ``size`` the number of rows; periods that hold
    no row at all are missing from ``ordinals``.
    """

    ordinals: Ints
    first: Ints
    size: Ints
    of_row: Ints

    @property
    def last(self) -> Ints:
        """Last row of each period."""
        return self.first + self.size - 1

    @classmethod
    def by(cls, target: Frequency, ends: Dates) -> Grouping:
        """Group rows by the period of ``target`` their last day falls in."""
        of_row = target.ordinals(ends)
        ordinals, first, size = np.unique(of_row, return_index=True, return_counts=True)
        return cls(ordinals, first.astype(np.int64), size.astype(np.int64), of_row)


@on_block
def to_frequency(
    x: SeriesTable,
    frequency: str | Frequency,
    *,
    how: str | None = None,
    require: float = 1.0,
    stale_after: int = STALE_AFTER,
    risk_free: TimeSeries | None = None,
    through: str | None = None,
) -> SeriesTable:
    """Convert to a lower frequency.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Series of a higher frequency.
    frequency : str or Frequency
        The frequency wanted, such as ``"Q"``.
    how : {"sum", "mean", "last", "first", "high", "low", "compound", "log sum"}, optional
        Defaults to what the measure and timing of each series ask for.
    require : float
        Share of a period's expected observations that must be present for sums, means and
        compounding. For daily data a period is expected to have the rows the table has.
    stale_after : int
        A last value older than this many weekdays before its period's end is missing.
    risk_free : TimeSeries, optional
        Needed to compound returns that are in excess of it: ∏(1+f+rf) − ∏(1+rf).
    through : str, optional
        Day up to which the data are known to be whole, when that is later than the last row.

    Returns
    -------
    TimeSeries or SeriesTable
        With the conversion, and any unfinished period left out, on its trail.

    Raises
    ------
    FrequencyError
        If ``frequency`` is not lower, or its periods do not hold whole periods of the source.
    UnitError
        If no default fits the measure, or the sum of an index is asked for.

    Examples
    --------
    >>> import pandas as pd
    >>> sales = pd.Series([1.0, 2, 3, 4], pd.period_range("2024-01", periods=4, freq="M"))
    >>> sales = TimeSeries.wrap(sales, name="sales", measure="flow", currency="QML", unit="currency")
    >>> to_frequency(sales, "Q").to_pandas().tolist()
    [6.0]
    """
    target = Frequency.parse(frequency)
    _check_direction(x, target)
    if target == x.frequency:
        return x
    ends = last_days(x)
    grouping = Grouping.by(target, ends)
    kept, left_out = finished(target, grouping, ends, through)
    methods = [how or default_method(about) for about in x.about]
    block = np.full((len(grouping.ordinals), len(methods)), np.nan)
    stale = np.zeros(block.shape, dtype=bool)
    for method in dict.fromkeys(methods):
        columns = [i for i, each in enumerate(methods) if each == method]
        _check_sense(method, [x.about[i] for i in columns])
        if method == "last":
            block[:, columns], stale[:, columns] = _last(x, columns, grouping, target, stale_after)
            continue
        part = x.block[:, columns]
        if method == "first":
            block[:, columns] = part[grouping.first]
            continue
        whole = (
            _compound(x, columns, grouping, risk_free)
            if method == "compound"
            else _reduce(part, grouping, method)
        )
        expected = _expected(x.frequency, target, grouping)
        block[:, columns] = _blank(whole, part, grouping, expected, require)
    abouts = [_after(a, target, m, left_out) for a, m in zip(x.about, methods, strict=True)]
    index = target.index(grouping.ordinals[kept])
    return SeriesTable.build(block[kept], index, abouts, _stale_causes(x, stale, grouping))


def default_method(about: Descriptor) -> str:
    """How a series is brought to a lower frequency when nothing is said."""
    method = _BY_MEASURE.get(about.measure)
    if method is None and about.measure in ("index", "rate", ""):
        method = _BY_TIMING.get(about.timing)
    if method is None and not about.measure and about.timing == "total":
        method = "sum"
    if method is None:
        raise UnitError(
            f"{about.name}: nothing says whether to sum, average or take the last "
            f"(measure '{about.measure}', timing '{about.timing}'). Say how='last', 'mean' or 'sum'."
        )
    return method


def last_days(x: SeriesTable) -> Dates:
    """Last day of each row's period."""
    if x.frequency.code in "HN":
        return x.index.to_numpy().astype("datetime64[D]")
    return x.frequency.ends(x.ordinals)


def finished(
    target: Frequency, grouping: Grouping, ends: Dates, through: str | None = None
) -> tuple[Bools, str | None]:
    """Mask of finished periods, and the name of the one left out.

    The last period is finished when no weekday of it remains after the last row.
    """
    kept = np.ones(len(grouping.ordinals), dtype=bool)
    if not len(kept):
        return kept, None
    known = ends[-1] if through is None else max(ends[-1], np.datetime64(through, "D"))
    last_day = target.ends(grouping.ordinals[-1:])[0]
    remaining = np.busday_count(known + 1, last_day + 1) if known < last_day else 0
    if remaining == 0:
        return kept, None
    kept[-1] = False
    return kept, f"{target.labels(grouping.ordinals[-1:])[0]} (data end {known})"


def last_rows(block: Floats, grouping: Grouping) -> Ints:
    """Row of the last valid value in each period and column, −1 where there is none."""
    rows = np.arange(len(block))[:, None]
    valid = np.where(np.isfinite(block), rows, -1)
    return np.asarray(np.maximum.reduceat(valid, grouping.first, axis=0), dtype=np.int64)


def weekdays_after(days: Dates, ends: Dates) -> Ints:
    """Weekdays after each day up to and including its period's end."""
    return np.asarray(np.busday_count(days + 1, ends + 1), dtype=np.int64)


def _check_direction(x: SeriesTable, target: Frequency) -> None:
    if target < x.frequency:
        raise FrequencyError(
            f"{x.names[0]} is {x.frequency.name}; {target.name} is higher. A higher frequency must "
            "be estimated: say by which method with disaggregate."
        )
    if not target.contains(x.frequency):
        raise FrequencyError(
            f"{x.frequency.name} periods do not fit whole into {target.name} ones; "
            "start from daily data or choose another target."
        )


def _expected(source: Frequency, target: Frequency, grouping: Grouping) -> Ints:
    """Observations each period should have: by the calendar, or the table's own trading days."""
    if source.is_dated:
        return grouping.size
    spans = source.ordinals(target.ends(grouping.ordinals)) - source.ordinals(
        target.starts(grouping.ordinals)
    )
    return np.asarray(spans + 1, dtype=np.int64)


def _check_sense(method: str, abouts: list[Descriptor]) -> None:
    if method not in HOWS:
        raise UnitError(f"how='{method}' is not known; it is one of {', '.join(HOWS)}.")
    for about in abouts:
        if method == "sum" and about.measure in ("index", "price", "rate", "quote", "return"):
            raise UnitError(
                f"{about.name}: the sum of {about.measure} values means nothing. "
                f"Take how='{'compound' if about.is_return else 'mean'}' or leave how out."
            )
        if about.excess_of and method == "log sum":
            raise UnitError(
                f"{about.name} is in excess of {about.excess_of}; convert simple returns."
            )


def _reduce(block: Floats, grouping: Grouping, method: str) -> Floats:
    valid = np.isfinite(block)
    if method in ("high", "low"):
        filler, take = (-np.inf, np.maximum) if method == "high" else (np.inf, np.minimum)
        return np.asarray(take.reduceat(np.where(valid, block, filler), grouping.first, axis=0))
    totals = np.add.reduceat(np.where(valid, block, 0.0), grouping.first, axis=0)
    if method != "mean":
        return np.asarray(totals)
    count = np.add.reduceat(valid.astype(np.int64), grouping.first, axis=0)
    return np.asarray(totals / np.maximum(count, 1))


def _blank(
    result: Floats, block: Floats, grouping: Grouping, expected: Ints, require: float
) -> Floats:
    """Missing where fewer than the required share of observations is present."""
    count = np.add.reduceat(np.isfinite(block).astype(np.int64), grouping.first, axis=0)
    needed = np.maximum(np.ceil(require * expected - 1e-9), 1.0)
    return np.where(count >= needed[:, None], result, np.nan)


def _last(
    x: SeriesTable, columns: list[int], grouping: Grouping, target: Frequency, stale_after: int
) -> tuple[Floats, Bools]:
    """Last values, missing where stale, and the mask of the stale ones."""
    block, ends = x.block[:, columns], last_days(x)
    rows = last_rows(block, grouping)
    values = np.take_along_axis(block, np.maximum(rows, 0), axis=0)
    if x.frequency.is_dated:
        period_ends = np.broadcast_to(target.ends(grouping.ordinals)[:, None], rows.shape)
        old = weekdays_after(ends[np.maximum(rows, 0)], period_ends) > stale_after
    else:
        closing = ends[grouping.last] == target.ends(grouping.ordinals)
        old = (rows != grouping.last[:, None]) | ~closing[:, None]
    return np.where((rows < 0) | old, np.nan, values), old & (rows >= 0)


def _stale_causes(x: SeriesTable, stale: Bools, grouping: Grouping) -> Causes:
    """Stale periods of each series that goes on after them; the last ones are its end."""
    causes = {}
    for column in np.flatnonzero(stale.any(axis=0)):
        final = grouping.of_row[np.flatnonzero(np.isfinite(x.block[:, column]))[-1]]
        periods = grouping.ordinals[stale[:, column]]
        causes[x.names[column]] = {int(p): STALE for p in periods if p < final}
    return causes


def _compound(
    x: SeriesTable, columns: list[int], grouping: Grouping, risk_free: TimeSeries | None
) -> Floats:
    block = x.block[:, columns]
    base = np.zeros_like(block)
    excess = [i for i, c in enumerate(columns) if x.about[c].excess_of]
    if excess:
        base[:, excess] = _matching_rate(x, [x.about[columns[i]] for i in excess], risk_free)[
            :, None
        ]
    whole = _product(np.where(np.isfinite(block), 1.0 + block + base, 1.0), grouping)
    return np.asarray(whole - _product(1.0 + base, grouping))


def _product(gross: Floats, grouping: Grouping) -> Floats:
    return np.asarray(np.multiply.reduceat(gross, grouping.first, axis=0))


def _matching_rate(
    x: SeriesTable, abouts: list[Descriptor], risk_free: TimeSeries | None
) -> Floats:
    names = {a.excess_of for a in abouts} - {ZERO_COST}
    if risk_free is None or not names <= {risk_free.name}:
        given = "none was given" if risk_free is None else f"'{risk_free.name}' was given"
        raise UnitError(
            f"{abouts[0].name} is in excess of {', '.join(sorted(names)) or ZERO_COST}; compounding "
            f"it needs that rate as risk_free, and {given}."
        )
    rates = risk_free.values.reindex(x.index).to_numpy(dtype=np.float64)
    if np.isnan(rates).any():
        first = x.index[np.flatnonzero(np.isnan(rates))[0]]
        raise UnitError(
            f"risk_free '{risk_free.name}' has no value at {first}; it must cover {x.names[0]}."
        )
    return rates


def _after(about: Descriptor, target: Frequency, method: str, left_out: str | None) -> Descriptor:
    facts = {"frequency": target, "timing": _TIMING_AFTER.get(method, about.timing)}
    return about.stepped(
        "to frequency", facts, frequency=target, how=method, unfinished_left_out=left_out
    )
