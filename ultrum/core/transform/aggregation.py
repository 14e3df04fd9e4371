"""Aggregation to a lower frequency, by measure and timing.

Reductions read the block in its memory order, a few columns at a time, so that a wide table is read once and
little more than the result is allocated.

A flow is summed, a price takes its last value, a rate is averaged or taken at the end according to its timing,
returns compound. A period with too few observations is missing, and an unfinished first or last period is
omitted.
"""

from __future__ import annotations

from typing import Final, Literal

import numpy as np

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import DAY, Bools, Dates, Floats, Ints
from ultrum.core.series.input_checks import check_size, on_block, returns_of
from ultrum.core.series.metadata import ZERO_COST, Metadata, step_of
from ultrum.core.series.time_series import Causes, SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_grouping import Grouping, Session, full_sizes, group
from ultrum.errors import FrequencyError, UnitError

_HOW_OR_MEASURE: Final = "Set how='last', 'mean' or 'sum', or measure='return' for returns."
_MIDNIGHT: Final = Session()
_NARROW: Final = 64  # columns up to which a copy by columns is quicker than a walk by rows
_AT_ONCE: Final = 64  # columns reduced at a time, which bounds the memory


def reduce_block(
    block: Floats, columns: Ints, grouping: Grouping, take: np.ufunc, neutral: float
) -> tuple[Floats, Ints]:
    """A reduction of every period and column over its valid values, and the number of these.

    Parameters
    ----------
    block : ndarray, shape (T, N)
        Read in memory order: by columns where these are contiguous, otherwise by rows.
    columns : ndarray of int, shape (M,)
        The columns wanted.
    grouping : Grouping
        G periods.
    take : ufunc
        ``np.add``, ``np.multiply``, ``np.maximum`` or ``np.minimum``.
    neutral : float
        Replacement of missing values where valid values remain.

    Returns
    -------
    results, counts : ndarray, shape (G, M)
    """
    if not len(grouping.first):
        return np.empty((0, len(columns))), np.empty((0, len(columns)), dtype=np.int64)
    if block.flags.c_contiguous and len(columns) > _NARROW:
        return _by_rows(_columns(block, columns), grouping, take, neutral)
    results = np.empty((len(columns), len(grouping.first)))
    counts = np.empty(results.shape, dtype=np.int64)
    for low in range(0, len(columns), _AT_ONCE):
        inside = slice(low, low + _AT_ONCE)
        part = _columns(block, columns[inside])
        results[inside], counts[inside] = _by_columns(part, grouping, take, neutral)
    return results.T, counts.T


def _columns(block: Floats, columns: Ints) -> Floats:
    """Some columns, without a copy where they are evenly spaced."""
    steps = np.diff(columns)
    if len(columns) == 1 or (len(columns) and steps[0] > 0 and (steps == steps[0]).all()):
        step = int(steps[0]) if len(steps) else 1
        return block[:, columns[0] : columns[-1] + 1 : step]
    return block.T[columns].T if block.flags.f_contiguous else block.take(columns, axis=1)


def _by_columns(part: Floats, grouping: Grouping, take: np.ufunc, neutral: float) -> tuple[Floats, Ints]:
    """Reductions and counts of shape (M, G), one column at a time."""
    across = part.T
    if across.strides[1] != across.itemsize:
        across = np.ascontiguousarray(across)
    reduced = take.reduceat(across, grouping.first, axis=1)
    counts = np.empty(reduced.shape, dtype=np.int64)
    counts[:] = grouping.size
    torn = np.flatnonzero(~np.isfinite(reduced).all(axis=1))
    if len(torn):
        valid = np.isfinite(across[torn])
        filled = np.where(valid, across[torn], neutral)
        reduced[torn] = take.reduceat(filled, grouping.first, axis=1)
        counts[torn] = np.add.reduceat(valid.astype(np.int32), grouping.first, axis=1)
    return reduced, counts


def _by_rows(part: Floats, grouping: Grouping, take: np.ufunc, neutral: float) -> tuple[Floats, Ints]:
    """Reductions and counts of shape (G, M), one period at a time."""
    reduced = np.empty((len(grouping.first), part.shape[1]))
    counts = np.empty(reduced.shape, dtype=np.int64)
    counts[:] = grouping.size[:, None]
    for g, (low, size) in enumerate(zip(grouping.first, grouping.size, strict=True)):
        rows = part[low : low + size]
        take.reduce(rows, axis=0, out=reduced[g])
        torn = np.flatnonzero(~np.isfinite(reduced[g]))
        if len(torn):
            holed = rows.take(torn, axis=1)
            valid = np.isfinite(holed)
            reduced[g, torn] = take.reduce(np.where(valid, holed, neutral), axis=0)
            counts[g, torn] = valid.sum(axis=0)
    return reduced, counts


def median_block(block: Floats, columns: Ints, grouping: Grouping) -> tuple[Floats, Ints]:
    """Medians of valid values and counts."""
    results, counts = reduce_block(block, columns, grouping, np.add, 0.0)
    for g, (low, size) in enumerate(zip(grouping.first, grouping.size, strict=True)):
        part = block[low : low + size][:, columns]
        seen = counts[g] > 0
        results[g, seen] = np.nanmedian(part[:, seen], axis=0)
    return results, counts


def take_rows(block: Floats, rows: Ints, columns: Ints) -> Floats:
    """Some rows of some columns, in the memory order of the block."""
    if len(columns) == block.shape[1]:
        return block.T.take(rows, axis=1).T if block.flags.f_contiguous else block[rows]
    return block[np.ix_(rows, columns)]


def earlier_rows(x: SeriesTable, columns: Ints, last: Floats, grouping: Grouping) -> tuple[Ints, Ints, Ints]:
    """Periods whose last row has no value but an earlier one has: period, position of the column, row.

    Periods before the start or after the end of a series are skipped.
    """
    begins, ends = (bound[columns] for bound in x.bounds)
    holed = ~np.isfinite(last)
    holed &= (grouping.last[:, None] > begins) & (grouping.first[:, None] <= ends)
    block, pieces = x.block, [np.empty((3, 0), dtype=np.int64)]
    for g in np.flatnonzero(holed.any(axis=1)):
        places = np.flatnonzero(holed[g])
        low, size = grouping.first[g], grouping.size[g]
        valid = np.isfinite(block[low : low + size].take(columns[places], axis=1))
        there = np.flatnonzero(valid.any(axis=0))
        back = np.argmax(valid[::-1, there], axis=0)
        pieces.append(np.stack([np.full(len(there), g), places[there], low + size - 1 - back]))
    period, place, row = np.concatenate(pieces, axis=1)
    return period, place, row


def weekdays_after(days: Dates, ends: Dates) -> Ints:
    """Weekdays after each day up to and including the end of its period."""
    return np.asarray(np.busday_count(days + DAY, ends + DAY), dtype=np.int64)


def too_old(
    x: SeriesTable, grouping: Grouping, target: Frequency, rows: Ints, ordinals: Ints, stale_after: int
) -> Bools:
    """Whether rows are too old at their period's end to represent it."""
    if target.code in "HN":
        return np.zeros(len(rows), dtype=bool)
    ends = target.ends(ordinals)
    if x.frequency.is_dated or x.frequency.code == "W":
        return weekdays_after(grouping.days[rows], ends) > stale_after
    return np.asarray(grouping.days[rows] != ends)


def too_late(x: SeriesTable, grouping: Grouping, target: Frequency, stale_after: int) -> Bools:
    """Periods whose first row is too late after their start to represent it."""
    if target.code in "HN":
        return np.zeros(len(grouping.ordinals), dtype=bool)
    starts = target.starts(grouping.ordinals)
    if x.frequency.is_dated or x.frequency.code == "W":
        return np.asarray(np.busday_count(starts, grouping.days[grouping.first]) > stale_after)
    return np.asarray(x.frequency.starts(x.ordinals[grouping.first]) != starts)


# Aggregation to a lower frequency, by measure and timing

How = Literal["sum", "mean", "last", "first", "high", "low", "median", "compound", "log sum"]
STALE_AFTER: Final = 5
STALE: Final = "stale price"
_BY_MEASURE: Final = {
    "price": "last",
    "stock": "last",
    "quote": "last",
    "flow": "sum",
    "score": "mean",
    "return": "compound",
    "log_return": "log sum",
}
_OF_BARS: Final[dict[str, How]] = {
    "open": "first",
    "high": "high",
    "low": "low",
    "close": "last",
    "volume": "sum",
    "open interest": "last",
}
_BAR: Final = ("open", "high", "low", "close")
_WHOLE: Final = ("sum", "compound", "log sum")
_REDUCTIONS: Final[dict[str, tuple[np.ufunc, float]]] = {
    "high": (np.maximum, -np.inf),
    "low": (np.minimum, np.inf),
}
_BY_TIMING: Final = {"end": "last", "start": "first", "average": "mean"}
_TIMING_AFTER: Final = {"last": "end", "first": "start", "mean": "average", "median": "average", "sum": "total"}


@on_block(plain="")
@validate_arguments
def to_frequency(
    x: SeriesTable,
    frequency: str | Frequency,
    *,
    how: How | None = None,
    require: float = 1.0,
    stale_after: int = STALE_AFTER,
    risk_free: TimeSeries | None = None,
    through: str | None = None,
    since: str | None = None,
    session_close: str | None = None,
    timezone: str | None = None,
) -> SeriesTable:
    """Convert to a lower frequency (resample, temporal aggregation).

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Series of a higher frequency.
    frequency : str or Frequency
        Target frequency, such as ``"Q"``.
    how : {"sum", "mean", "last", "first", "high", "low", "median", "compound", "log sum"}, optional
        Method; by default the one that fits the measure and timing of each series. Open, high, low, close and
        volume of OHLC bars become those of the longer bar.
    require : float
        Share of a period's expected observations that must be present for sums, means and compounding. For daily
        data a period is expected to have the rows of the table.
    stale_after : int
        A last value more than this many weekdays before the end of its period is missing.
    risk_free : TimeSeries, optional
        Risk-free return needed to compound excess returns over it: ∏(1+f+rf) − ∏(1+rf).
    through : str, optional
        Day up to which the data are known to be complete, if later than the last row.
    since : str, optional
        Day from which the data are known to be complete, if earlier than the first row.
    session_close : str
        For intraday data, the clock time at which a trading day ends, such as ``"17:00"``; later observations
        belong to the next day. By default days end at midnight.
    timezone : str
        Time zone of that clock, such as ``"UTC"``; by default that of the data.

    Returns
    -------
    TimeSeries or SeriesTable
        The provenance has the conversion and any unfinished period that was omitted. A period is unfinished when
        a weekday of it is before the first row (except the first weekday of a year) or after the last. The value
        at the end of a first period is known nevertheless, so ``last`` keeps it.

    Raises
    ------
    FrequencyError
        If ``frequency`` is not lower, or the periods of the source do not nest in its periods.
    UnitError
        If no default fits the measure, or the sum of an index is requested.

    Examples
    --------
    >>> import pandas as pd
    >>> sales = pd.Series([1.0, 2, 3, 4], pd.period_range("2024-01", periods=4, freq="M"))
    >>> sales = TimeSeries.from_pandas(sales, name="sales", measure="flow", currency="QML", unit="currency")
    >>> to_frequency(sales, "Q").to_pandas().tolist()
    [6.0]
    """
    target, session = Frequency.parse(frequency), Session(session_close or "", timezone or "")
    if how is None or how == "compound":  # what is compounded is a return, whatever it is declared as
        check_size(x if how else returns_of(x), "to_frequency")
    return convert(x, target, how, (require, stale_after), risk_free, session, (since, through))


def convert(
    x: SeriesTable,
    target: Frequency,
    how: How | None = None,
    limits: tuple[float, int] = (1.0, STALE_AFTER),
    risk_free: TimeSeries | None = None,
    session: Session = _MIDNIGHT,
    complete: tuple[str | None, str | None] = (None, None),
) -> SeriesTable:
    """Convert to a lower frequency as :func:`to_frequency`, without a check of the size of returns.

    ``limits`` are ``require`` and ``stale_after``; ``complete`` is ``since`` and ``through``.
    """
    _check_direction(x, target)
    if target == x.frequency:
        return x
    since, through = complete
    grouping = group(x, target, session, through, since)
    of_bars = {} if how else _bar_methods(x.names)
    methods = [how or of_bars.get(a.name) or default_method(a) for a in x.metadata]
    block, stale = _convert_columns(x, target, methods, grouping, limits, risk_free)
    begun = bool(grouping.begun.all())
    partial = [
        not begun and (method != "last" or metadata.name in of_bars)  # a bar is whole or is none
        for method, metadata in zip(methods, x.metadata, strict=True)
    ]
    if any(partial):
        block[0, partial] = np.nan
    kept = slice(int(len(partial) > 0 and all(partial)), int(grouping.finished.sum()))
    metadata_list = _abouts(x, target, methods, grouping.unfinished)
    causes = _stale_causes(x, stale, grouping)
    return SeriesTable.from_arrays(block[kept], grouping.index[kept], metadata_list, causes)


def _convert_columns(
    x: SeriesTable,
    target: Frequency,
    methods: list[str],
    grouping: Grouping,
    limits: tuple[float, int],
    risk_free: TimeSeries | None,
) -> tuple[Floats, Bools]:
    """Values of every period and column, and the mask of stale ones; columns with one method together."""
    parts = {}
    for method in dict.fromkeys(methods):
        columns = np.flatnonzero([each == method for each in methods])
        _check_sense(method, x, target, [x.metadata[i] for i in columns])
        parts[method] = (columns, *_of_method(x, target, method, columns, grouping, limits, risk_free))
    if len(parts) == 1:
        return next(iter(parts.values()))[1:]
    block = np.empty((len(grouping.ordinals), len(methods)))
    stale = np.zeros(block.shape, dtype=bool)
    for columns, values, old in parts.values():
        block[:, columns], stale[:, columns] = values, old
    return block, stale


def _of_method(
    x: SeriesTable,
    target: Frequency,
    method: str,
    columns: Ints,
    grouping: Grouping,
    limits: tuple[float, int],
    risk_free: TimeSeries | None,
) -> tuple[Floats, Bools]:
    require, stale_after = limits
    if method == "last":
        return _last(x, columns, grouping, target, stale_after)
    if method == "first":
        values = take_rows(x.block, grouping.first, columns)
        values[too_late(x, grouping, target, stale_after)] = np.nan
    else:
        values, count = _reduce(x, columns, grouping, method, risk_free)
        needed = np.ceil(require * full_sizes(x, target, grouping) - 1e-9)
        values[count < np.maximum(needed, 1.0)[:, None]] = np.nan
    return values, np.zeros((1, len(columns)), dtype=bool)


@validate_arguments
def to_bars(
    x: TimeSeries, frequency: str | Frequency, *, session_close: str | None = None, timezone: str | None = None
) -> SeriesTable:
    """OHLC bars: open, high, low and close of each longer period, from single prices.

    For OHLC bars use :func:`to_frequency`.

    Parameters
    ----------
    x : TimeSeries
        Prices or quotes.
    frequency : str or Frequency
        Frequency of the result, such as ``"M"``.
    session_close, timezone : str
        As for :func:`to_frequency`.

    Returns
    -------
    SeriesTable
        Table ``open high low close``.

    Examples
    --------
    >>> import pandas as pd
    >>> days = pd.bdate_range("2024-04-29", "2024-05-31")
    >>> price = TimeSeries.from_pandas(pd.Series(range(25), days, dtype=float), measure="price", unit="QML")
    >>> to_bars(price, "M").to_pandas().iloc[-1].tolist()
    [2.0, 24.0, 2.0, 24.0]
    """
    parts = []
    for field in _BAR:
        part = to_frequency(
            x, frequency, how=_OF_BARS[field], require=0.0, session_close=session_close, timezone=timezone
        )
        parts.append(part.with_metadata(name=field))
    bars = SeriesTable.of(parts)
    partial = int(np.isnan(bars.block[:1]).any() and not np.isnan(bars.block[:1]).all())
    return SeriesTable(bars.values.iloc[partial:], bars.metadata)


def default_method(metadata: Metadata) -> str:
    """Default conversion of a series to a lower frequency."""
    method = _BY_MEASURE.get(metadata.measure)
    if method is None and metadata.measure in ("index", "rate", ""):
        method = _BY_TIMING.get(metadata.timing)
    if method is None and not metadata.measure and metadata.timing == "total":
        method = "sum"
    if method is None:
        raise UnitError(
            f"{metadata.name}: its metadata do not show whether to sum, average or take the last "
            f"(measure '{metadata.measure}', timing '{metadata.timing}').",
            fix="Set how='last', 'mean' or 'sum'." if metadata.measure else _HOW_OR_MEASURE,
            setting="how" if metadata.measure else "measure_or_how",
        )
    return method


def _bar_methods(names: list[str]) -> dict[str, str]:
    """Conversion of the columns of OHLC bars (``BRTW.open``, or plain ``open``)."""
    if not any(name.lower().endswith(_BAR[0]) for name in names):
        return {}
    fields = [(name, *name.lower().rpartition(".")[::2]) for name in names]
    owned = {(owner, field) for _, owner, field in fields}
    return {
        name: _OF_BARS[field]
        for name, owner, field in fields
        if field in _OF_BARS and all((owner, f) in owned for f in _BAR)
    }


def _check_direction(x: SeriesTable, target: Frequency) -> None:
    if target < x.frequency:
        raise FrequencyError(
            f"{x.names[0]} is {x.frequency.name}; {target.name} is higher.",
            fix="Use disaggregate to estimate a higher frequency.",
            setting="disaggregate",
        )
    if x.frequency.code != "W" and not target.contains(x.frequency):
        raise FrequencyError(
            f"{x.frequency.name} periods do not nest in {target.name} periods. Start from daily data, or choose "
            "another frequency."
        )


def _check_sense(method: str, x: SeriesTable, target: Frequency, metadata_list: list[Metadata]) -> None:
    if x.frequency.code == "W" and target.code != "W" and method in _WHOLE:
        raise FrequencyError(
            f"{metadata_list[0].name}: weeks do not nest in a {target.noun}, so a {method} over weeks includes "
            "days of the next or previous one. Start from daily data, or use how='mean' or 'last'."
        )
    for metadata in metadata_list:
        if method == "sum" and metadata.measure in ("index", "price", "rate", "quote", "return"):
            raise UnitError(
                f"{metadata.name}: the sum of {metadata.measure} values is not meaningful. "
                f"Take how='{'compound' if metadata.is_return else 'mean'}' or leave how out."
            )
        if metadata.excess_of and method == "log sum":
            raise UnitError(f"{metadata.name} is in excess of {metadata.excess_of}; convert simple returns.")


def _reduce(
    x: SeriesTable, columns: Ints, grouping: Grouping, method: str, risk_free: TimeSeries | None
) -> tuple[Floats, Ints]:
    """Result of a method on the valid values of each period, and their number."""
    if method == "compound":
        return _compound(x, columns, grouping, risk_free)
    if method == "median":
        return median_block(x.block, columns, grouping)
    take, neutral = _REDUCTIONS.get(method, (np.add, 0.0))
    totals, count = reduce_block(x.block, columns, grouping, take, neutral)
    if method == "mean":
        totals /= np.maximum(count, 1)
    return totals, count


def _last(
    x: SeriesTable, columns: Ints, grouping: Grouping, target: Frequency, stale_after: int
) -> tuple[Floats, Bools]:
    """Last values, missing where stale, and the mask of stale ones."""
    values = take_rows(x.block, grouping.last, columns)
    stale = np.zeros(values.shape, dtype=bool)
    late = np.flatnonzero(too_old(x, grouping, target, grouping.last, grouping.ordinals, stale_after))
    stale[late] = np.isfinite(values[late])
    period, place, row = earlier_rows(x, columns, values, grouping)
    if len(row):
        values[period, place] = x.block[row, columns[place]]
        ordinals = grouping.ordinals[period]
        stale[period, place] = too_old(x, grouping, target, row, ordinals, stale_after)
    if stale.any():
        values[stale] = np.nan
    return values, stale


def _stale_causes(x: SeriesTable, stale: Bools, grouping: Grouping) -> Causes:
    """Stale periods of each series before its last valid one."""
    causes = {}
    for column in np.flatnonzero(stale.any(axis=0)):
        final = grouping.ordinal_of(int(np.flatnonzero(np.isfinite(x.block[:, column]))[-1]))
        periods = grouping.ordinals[stale[:, column]]
        causes[x.names[column]] = {int(p): STALE for p in periods if p < final}
    return causes


def _compound(
    x: SeriesTable, columns: Ints, grouping: Grouping, risk_free: TimeSeries | None
) -> tuple[Floats, Ints]:
    """∏(1+r) − 1, or for excess returns ∏(1+f+rf) − ∏(1+rf)."""
    excess = [c for c in columns if x.metadata[c].excess_of]
    every = np.arange(len(columns))
    gross = 1.0 + x.block[:, columns]
    if not excess:
        whole, count = reduce_block(gross, every, grouping, np.multiply, 1.0)
        return whole - 1.0, count
    base = np.ones(gross.shape)
    rates = _matching_rate(x, [x.metadata[c] for c in excess], risk_free)
    base[:, np.isin(columns, excess)] += rates[:, None]
    whole, count = reduce_block(gross + base - 1.0, every, grouping, np.multiply, 1.0)
    return whole - reduce_block(base, every, grouping, np.multiply, 1.0)[0], count


def _matching_rate(x: SeriesTable, metadata_list: list[Metadata], risk_free: TimeSeries | None) -> Floats:
    names = {a.excess_of for a in metadata_list} - {ZERO_COST}
    if risk_free is None or not names <= {risk_free.name}:
        given = "none was given" if risk_free is None else f"'{risk_free.name}' was given"
        raise UnitError(
            f"{metadata_list[0].name} is in excess of {', '.join(sorted(names)) or ZERO_COST}; compounding "
            f"it needs that rate as risk_free, and {given}."
        )
    rates = risk_free.values.reindex(x.index).to_numpy(dtype=np.float64)
    if np.isnan(rates).any():
        first = x.index[np.flatnonzero(np.isnan(rates))[0]]
        raise UnitError(f"risk_free '{risk_free.name}' has no value at {first}; it must cover {x.names[0]}.")
    return rates


def _abouts(x: SeriesTable, target: Frequency, methods: list[str], unfinished: tuple[str, ...]) -> list[Metadata]:
    """Descriptors after the conversion; identical ones stay shared."""
    steps = {}
    for method in dict.fromkeys(methods):
        cut = [text for text in unfinished if method != "last" or "(data begin" not in text]
        steps[method] = step_of(
            "to frequency", frequency=target, how=method, unfinished_left_out=", ".join(cut) or None
        )
    converted = []
    for metadata, method in zip(x.metadata, methods, strict=True):
        timing = _TIMING_AFTER.get(method, metadata.timing)
        converted.append(metadata.with_step(steps[method], frequency=target, timing=timing))
    return converted
