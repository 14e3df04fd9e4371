"""Comparison with a benchmark (tracking error, information ratio), and correlations."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import ClassVar, Final, Literal

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats, Ints, varies, without_rounding
from ultrum.core.deprecated_names import RenamedAttribute, RenamedColumns
from ultrum.core.presentation import quantity
from ultrum.core.series.input_checks import check_size, refuse_no_values, series_in, warn_of_currencies
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.statistics.distribution_and_momentum import months_of, row_at
from ultrum.core.statistics.risk_return_and_drawdowns import Described, per_year, simple_block
from ultrum.core.time.frequency import Frequency, periods_in
from ultrum.core.time.index_frequency_and_gaps import positions_of
from ultrum.core.time.period_labels_and_relative_dates import day_in, period_label, span_of
from ultrum.core.transform.rolling_statistics import months_before, row_before
from ultrum.errors import AlignmentError, CurrencyError, FrequencyError, UnitError, name_list

_A_RETURN: Final = np.array(0.01)  # beside which differences of returns are rounding


class _HorizonTable(RenamedColumns):
    old_names: ClassVar = {"ahead": "active_return"}


@dataclass(frozen=True, eq=False, repr=False)
class Relative(Described):
    """An asset compared with its benchmark.

    Attributes
    ----------
    table : DataFrame
        By horizon: ``start end asset benchmark active_return``.
    active : TimeSeries
        Active return of each period: return less that of the benchmark.
    tracking_error, information_ratio, information_ratio_se : float
        Per year.
    """

    active: TimeSeries
    tracking_error: float
    information_ratio: float
    information_ratio_se: float
    information_error = RenamedAttribute("information_ratio_se")


@validate_arguments
def compare_to_benchmark(
    x: TimeSeries | pd.Series,
    benchmark: TimeSeries | pd.Series,
    horizons: Sequence[str] = ("P1M", "P3M", "P1Y", "P3Y"),
    *,
    on: str | None = None,
    periods_per_year: float | None = None,
) -> Relative:
    """Benchmark comparison: active return, tracking error and information ratio.

    Parameters
    ----------
    x, benchmark : TimeSeries
        Both prices or indices, or both returns, of the same frequency and currency.
    horizons : sequence of str
        Durations; those longer than the data, or with a missing return inside, are omitted.
    on : str
        Day or period at which the spans end; by default the last common one. A day without trading uses the last
        one before it, at most five weekdays earlier.
    periods_per_year : float, optional
        Periods per year for the annual tracking error; by default those of the data.

    Returns
    -------
    Relative
        ``active_return`` is the asset's cumulative return less the benchmark's.

    Raises
    ------
    AlignmentError
        If the benchmark ends before the asset (set ``on`` to compare up to its end), or they have no common
        period.
    UnitError
        If one is prices and the other returns, or one includes dividends and the other does not.

    Examples
    --------
    >>> days = pd.period_range("2024-01", periods=3, freq="M")
    >>> a = TimeSeries.from_pandas(pd.Series([100.0, 110, 121], days), name="A", measure="price")
    >>> b = TimeSeries.from_pandas(pd.Series([50.0, 50, 60], days), name="B", measure="price")
    >>> compare_to_benchmark(a, b, ["P1M", "P2M"]).table["active_return"].round(3).tolist()
    [-0.1, 0.01]
    """
    x, benchmark = series_in(x, "return"), series_in(benchmark, "return")
    _check_pair(x, benchmark)
    refuse_no_values("compare_to_benchmark", x, benchmark)
    levels = pd.concat([_level(x), _level(benchmark)], axis=1, keys=["asset", "benchmark"])
    ends = [level.dropna().index[-1] for _, level in levels.items()]
    if not on and ends[1] < ends[0]:
        raise AlignmentError(
            f"{benchmark.name} ends at {period_label(ends[1])}, before {x.name} ({period_label(ends[0])}). Fetch "
            f"it again, or set on='{period_label(ends[1])}'."
        )
    both = levels.dropna()
    if len(both) < 3:
        raise AlignmentError(
            f"compare_to_benchmark: {x.name} ({span_of(x.index)}) and {benchmark.name} "
            f"({span_of(benchmark.index)}) overlap in fewer than 3 periods. Use series that cover the same span."
        )
    holes = pd.concat([_holes(x), _holes(benchmark)], axis=1).ffill().fillna(0.0).sum(axis=1)
    rows, end, torn = _spans(both, x, horizons, on or "", holes)
    active = _active(x, benchmark)
    active = TimeSeries(active.values.loc[:end], active.metadata)  # nothing of after the day
    years = float(per_year(active.as_table(), periods_per_year)[0])
    active_returns = active.values.dropna().to_numpy()
    spread = float(without_rounding(active_returns.std(ddof=1), _A_RETURN))
    ratio = float(active_returns.mean() / spread) if spread > 0 else np.nan
    error = np.sqrt(years * (1 + ratio**2 / 2) / len(active_returns))
    basis = (
        f"{x.metadata.heading} against {benchmark.metadata.heading} up to {period_label(end)}; tracking error "
        f"{100 * spread * np.sqrt(years):.4g} % per year, information ratio {ratio * np.sqrt(years):.3g} (error "
        f"{error:.2g}), {len(active_returns)} {x.metadata.frequency.noun}s; decimals"
        + (f"; {name_list(torn)} omitted: missing returns inside" if torn else "")
    )
    return Relative(
        rows, basis, active, spread * float(np.sqrt(years)), ratio * float(np.sqrt(years)), float(error)
    )


def _check_pair(x: TimeSeries, benchmark: TimeSeries) -> None:
    a, b = x.metadata, benchmark.metadata
    if a.frequency != b.frequency:
        raise FrequencyError(
            f"{a.name} is {a.frequency.name}, {b.name} {b.frequency.name}: convert both to one with to_frequency."
        )
    if a.is_return != b.is_return:
        raise UnitError(
            f"{a.name} is {a.measure_in_words}, {b.name} {b.measure_in_words}; compare prices with prices, "
            "returns with returns."
        )
    if a.is_return:
        check_size(x.as_table(), "compare_to_benchmark")
        check_size(benchmark.as_table(), "compare_to_benchmark")
    if a.currency and b.currency and a.currency != b.currency:
        raise CurrencyError(
            f"{a.name} is in {a.currency}, {b.name} in {b.currency}: convert one with to_currency first."
        )
    if a.income and b.income and a.income != b.income:
        raise UnitError(
            f"{a.name} is a {a.income} return, {b.name} a {b.income} return: one excludes dividends. Use the "
            "total-return index."
        )


def _level(x: TimeSeries) -> pd.Series:
    if not x.metadata.is_return:
        return x.values
    simple = pd.Series(simple_block(x.as_table())[:, 0], x.index)
    return (1.0 + simple.fillna(0.0)).cumprod().where(simple.notna())


def _holes(x: TimeSeries) -> pd.Series:
    """Cumulative number of missing returns, including periods that are not listed; prices need none."""
    if not x.metadata.is_return:
        return pd.Series(0.0, x.index)
    frequency, ordinals = x.metadata.frequency, x.ordinals
    whole = x.index if frequency.is_dated else frequency.index(np.arange(ordinals[0], ordinals[-1] + 1))
    return x.values.reindex(whole).isna().cumsum().astype(np.float64)


def _active(x: TimeSeries, benchmark: TimeSeries) -> TimeSeries:
    """Return less that of the benchmark; for prices over the same two days, or two adjacent periods."""
    frequency = x.metadata.frequency
    both = pd.concat([x.values, benchmark.values], axis=1, keys=["x", "benchmark"]).dropna()
    if not x.metadata.is_return:
        apart = np.diff(positions_of(frequency, both.index)) != 1
        both = both.pct_change().iloc[1:][~apart]
    alone = len(x.values.dropna()) + len(benchmark.values.dropna()) - 2 * len(both)
    metadata = x.metadata.replace(
        name=f"{x.name}_less_{benchmark.name}",
        measure="return",
        unit="decimal",
        timing="total",
        income="",
        excess_of="zero cost",
    )
    alone -= 0 if x.metadata.is_return else 2  # the first price of each has no return
    return TimeSeries(
        (both["x"] - both["benchmark"]).rename(metadata.name),
        metadata.add_step("compare_to_benchmark", benchmark=benchmark.name, rows_in_one_only=alone or None),
    )


def _spans(
    both: pd.DataFrame, x: TimeSeries, horizons: Sequence[str], on: str, holes: pd.Series
) -> tuple[pd.DataFrame, object, list[str]]:
    """Growth over each horizon, the common end, and the horizons with missing returns inside."""
    frequency = x.metadata.frequency
    ordinals = frequency.ordinals_of(both.index)
    days = frequency.ends(ordinals)
    asked = day_in(on, "on") if on and len(on) > 7 else None
    last = len(both) - 1
    if asked is not None:
        last = int(row_before(days, np.array([asked]))[0])
    elif on:
        last = int(row_at(ordinals, np.array([frequency.ordinal_of_name(on, last=True)]))[0])
    if last < 0:
        raise AlignmentError(
            f"Neither {on} nor the five weekdays before it have both values (common sample "
            f"{span_of(both.index)})."
        )
    rows, torn = {}, []
    spans = holes.reindex(both.index)
    for horizon in horizons:
        if frequency.is_dated:
            start = int(row_before(days, months_before(days[last : last + 1], months_of(horizon)))[0])
        else:
            count = periods_in(horizon, frequency)
            if count < 1:
                raise FrequencyError(f"The horizon {horizon} is shorter than one period. Use a longer one.")
            start = int(row_at(ordinals, ordinals[last : last + 1] - count)[0])
        if start >= 0 and spans.iloc[start] != spans.iloc[last]:
            torn.append(horizon)
        elif start >= 0:
            grown = both.iloc[last] / both.iloc[start] - 1.0
            rows[horizon] = {
                "start": period_label(both.index[start]),
                "end": period_label(both.index[last]),
                "asset": grown["asset"],
                "benchmark": grown["benchmark"],
                "active_return": grown["asset"] - grown["benchmark"],
            }
    if not rows:
        raise AlignmentError(
            f"No horizon of {', '.join(horizons)} fits into {span_of(both.index)}"
            + (" without missing returns." if torn else ".")
        )
    return _HorizonTable(pd.DataFrame(rows).T.infer_objects()), both.index[last], torn


# Correlations, with the number of pairs behind each

_LOSS_ALLOWED: Final = 1e-6  # of the squares about a pair's own means, before it is done alone


@dataclass(frozen=True, eq=False, repr=False)
class Correlations(Described):
    """Correlations with their numbers of observations.

    Attributes
    ----------
    counts, p_values : DataFrame, shape (N, N)
    rolling : DataFrame
        With a window: one column ``A / B`` per pair.
    warnings : tuple of str
    """

    counts: pd.DataFrame
    p_values: pd.DataFrame
    rolling: pd.DataFrame = field(default_factory=pd.DataFrame)
    warnings: tuple[str, ...] = ()


@validate_arguments
def correlations(
    x: SeriesTable | pd.DataFrame,
    *,
    deletion: Literal["pairwise", "listwise"] = "pairwise",
    window: int | None = None,
) -> Correlations:
    """Correlations of series, each with its number of observations and a p value.

    Parameters
    ----------
    x : SeriesTable or DataFrame
        Returns, rates, growth or scores. Levels are accepted with a warning, since trending levels correlate
        spuriously.
    deletion : {"pairwise", "listwise"}
        Pairwise deletion (every pair over its common periods), or listwise (over the periods that all series
        have).
    window : int, optional
        Window of a rolling correlation of every pair, in periods.

    Returns
    -------
    Correlations
        Correlations, observations and p values. P values use Student's t with n − 2 degrees of freedom, for
        independent periods. Missing where a series has fewer than three values or is constant.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=4, freq="M")
    >>> frame = pd.DataFrame({"A": [1.0, 2, 3, 4], "B": [2.0, 4, 6, 8]}, months)
    >>> correlations(SeriesTable.from_pandas(frame, measure="score")).table.loc["A", "B"].round(6).item()
    1.0
    """
    table = x if isinstance(x, SeriesTable) else SeriesTable.from_pandas(x, measure="return")
    frame = table.values.dropna() if deletion == "listwise" else table.values
    if len(frame) < 3:
        raise AlignmentError(f"Only {quantity(len(frame), 'complete period')}. Use deletion='pairwise'.")
    matrix, counts = _pairwise(frame.to_numpy(dtype=np.float64))
    with np.errstate(divide="ignore", invalid="ignore"):
        t = matrix * np.sqrt((counts - 2) / (1 - matrix**2))
    p = np.where(counts > 2, 2 * scipy.special.stdtr(np.maximum(counts - 2, 1), -np.abs(t)), np.nan)
    np.fill_diagonal(p, np.nan)
    warn_of_currencies(table.metadata, "correlations")
    levels = [a.name for a in table.metadata if a.measure in ("price", "index", "stock", "quote")]
    warnings: tuple[str, ...] = ()
    if levels:
        warnings = (
            f"{name_list(levels)} are levels; trending levels correlate spuriously. Use growth(x) first.",
        )
    rolled = _rolling(frame, window, table.frequency) if window else pd.DataFrame()
    lost = len(table.index) - len(frame)
    sample = f"{deletion} deletion" + (f", {quantity(lost, 'incomplete observation')} dropped" if lost else "")
    basis = "; ".join([f"{table.frequency.name}, {span_of(frame.index)}, {sample}", *warnings])
    return Correlations(
        _square(matrix, table.names),
        basis,
        _square(counts, table.names),
        _square(p, table.names),
        rolled,
        warnings,
    )


def _square(block: Floats | Ints, names: list[str]) -> pd.DataFrame:
    return pd.DataFrame(block, index=names, columns=names)


def _pairwise(block: Floats) -> tuple[Floats, Ints]:
    """Pairwise correlations, about the means of the common periods, and their number of observations."""
    valid = np.isfinite(block)
    there = valid.astype(np.float64)
    level = np.where(valid, block, 0.0).sum(axis=0) / np.maximum(there.sum(axis=0), 1.0)
    x = np.where(valid, block - level, 0.0)
    counts = there.T @ there
    sums = x.T @ there  # of each over the rows that it shares with each other
    squares = (x * x).T @ there
    with np.errstate(divide="ignore", invalid="ignore"):
        spread = squares - sums**2 / counts
        matrix = (x.T @ x - sums * sums.T / counts) / np.sqrt(spread * spread.T)
        lost = ~(spread > _LOSS_ALLOWED * squares)
    matrix[counts < 3] = np.nan
    for i, j in np.argwhere(np.triu(lost | lost.T) & (counts >= 3)):
        matrix[i, j] = matrix[j, i] = _alone(block[valid[:, i] & valid[:, j]][:, [i, j]])
    np.fill_diagonal(matrix, np.where(np.isfinite(np.diag(matrix)), 1.0, np.nan))
    return np.clip(matrix, -1.0, 1.0), counts.astype(np.int64)


def _alone(pair: Floats) -> float:
    """One ill-conditioned pair, or one with a constant series."""
    a, b = (pair - pair.mean(axis=0)).T
    return float(a @ b / np.sqrt((a @ a) * (b @ b))) if varies(pair).all() else np.nan


def _rolling(frame: pd.DataFrame, window: int, frequency: Frequency) -> pd.DataFrame:
    """Rolling correlation of every pair over calendar windows with at least two thirds of the observations."""
    positions = positions_of(frequency, frame.index)
    places = positions - positions[0]
    if window < 3 or places[-1] + 1 < window:
        raise UnitError(
            f"A window of {window} does not fit {quantity(int(places[-1]) + 1, 'period')}, or is below three."
        )
    line = np.full((int(places[-1]) + 1, frame.shape[1]), np.nan)
    line[places] = frame.to_numpy(dtype=np.float64)
    least = max(3, -(-2 * window // 3))
    columns = {}
    names = [str(c) for c in frame]
    for i in range(len(names)):
        for j in range(i + 1, len(names)):
            pair = line[:, [i, j]]
            pair[np.isnan(pair).any(axis=1)] = np.nan
            columns[f"{names[i]} / {names[j]}"] = _moving(pair, window, least)
    rolled = pd.DataFrame(columns)[window - 1 :]
    ends = np.arange(window - 1, len(line))
    listed = np.isin(ends, places)
    return rolled[listed].set_axis(frame.index[np.searchsorted(places, ends[listed])])


def _moving(pair: Floats, window: int, least: int) -> Floats:
    """Correlation of two columns in the window that ends at each row, from its own observations."""
    values = np.full(len(pair), np.nan)
    views = np.lib.stride_tricks.sliding_window_view(pair, window, axis=0)
    valid = np.isfinite(views[:, :1])
    count = valid.sum(axis=-1, keepdims=True)
    level = np.where(valid, views, 0.0).sum(axis=-1, keepdims=True) / np.maximum(count, 1)
    off = np.where(valid, views - level, 0.0)
    highest = np.abs(np.where(valid, views, 0.0)).max(axis=-1)
    size = without_rounding(np.sqrt((off**2).sum(axis=-1)), highest)
    with np.errstate(divide="ignore", invalid="ignore"):
        together = (off[:, 0] * off[:, 1]).sum(axis=-1) / (size[:, 0] * size[:, 1])
    usable = (count[:, 0, 0] >= least) & (size > 0).all(axis=1)
    values[window - 1 :] = np.where(usable, together, np.nan)
    return values
