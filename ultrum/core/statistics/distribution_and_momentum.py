"""Distribution of returns, calendar returns, momentum, and forward returns after a condition."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from numbers import Real
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints, varies
from ultrum.core.presentation import quantity
from ultrum.core.regression.predictive_regression import hodrick_1b
from ultrum.core.series.input_checks import check_size, series_in, warn_of_currencies
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.statistics.risk_return_and_drawdowns import Described, returns_in, simple_block
from ultrum.core.time.frequency import months_in, periods_in
from ultrum.core.time.index_frequency_and_gaps import positions_of
from ultrum.core.time.period_labels_and_relative_dates import period_label, span_of
from ultrum.core.transform.aggregation import to_frequency
from ultrum.core.transform.rolling_statistics import months_before, row_before
from ultrum.errors import AlignmentError, EstimationError, FrequencyError, UnitError

_QUANTILES: Final = (0.01, 0.05, 0.1, 0.25, 0.5, 0.75, 0.9, 0.95, 0.99)
_CENTRE: Final = 0.5
_MOST_BINS: Final = 100_000
_TAILS: Final = (2.0, 3.0, 4.0)


@dataclass(frozen=True, eq=False, repr=False)
class Distribution(Described):
    """Distribution of one series.

    Attributes
    ----------
    table : DataFrame
        By absolute z-score (standard deviations from the mean): ``|z| < 0.5``, ``0.5 to 2``, ``> 2``, ``> 3``,
        ``> 4``. Columns ``count`` and ``expected`` (under normality), ``observed`` and ``normal`` (shares),
        ``ratio``.
    histogram : DataFrame
        Bins: ``low high count share density normal``, the last the density of the fitted normal.
    quantiles : Series
    mean, deviation, skewness, kurtosis : float
    jarque_bera, p_value : float
        Jarque–Bera (1980) test; a small p value rejects normality.
    values : ndarray
    metadata : Metadata
        What the values are.
    """

    histogram: pd.DataFrame
    quantiles: pd.Series
    mean: float
    deviation: float
    skewness: float
    kurtosis: float
    jarque_bera: float
    p_value: float
    values: Floats
    metadata: Metadata

    @property
    def name(self) -> str:
        """Name of the series."""
        return self.metadata.name


@validate_arguments
def distribution(x: TimeSeries | pd.Series, *, bins: int | float | list[float] | str = "auto") -> Distribution:
    """Distribution: histogram, quantiles, fitted normal and the Jarque–Bera test.

    Parameters
    ----------
    x : TimeSeries or Series
        Returns, rates or scores; plain data are returns.
    bins : int, float, list or "auto"
        Number of bins, their width, their edges, or the rule of Freedman and Diaconis (1981).

    Returns
    -------
    Distribution
        Bins, quantiles, moments and the test.

    Raises
    ------
    EstimationError
        If there are fewer than eight values, or they are constant.

    Examples
    --------
    >>> r = pd.Series(np.arange(20) / 100, pd.period_range("2023-01", periods=20, freq="M"))
    >>> made = distribution(TimeSeries.from_pandas(r, name="A", measure="return"), bins=4)
    >>> made.histogram["count"].tolist()
    [5, 5, 5, 5]
    """
    x = series_in(x, "return")
    if x.metadata.measure in ("price", "index", "stock", "quote"):
        raise UnitError(f"{x.name} is a level ({x.metadata.measure}). Use its returns or growth.")
    if x.metadata.is_return:
        check_size(x.as_table(), "distribution")
    values = x.values.dropna().to_numpy(dtype=np.float64)
    if len(values) < 8 or not varies(values):
        raise EstimationError(
            f"distribution: {x.name} has {quantity(len(values), 'value')}, or they are constant; at least 8 "
            "that vary are needed."
        )
    mean, spread = float(values.mean()), float(values.std(ddof=1))
    off = (values - mean) / values.std()
    skew, kurt = float((off**3).mean()), float((off**4).mean())
    statistic = len(values) / 6 * (skew**2 + (kurt - 3) ** 2 / 4)
    table = _shares((values - mean) / spread)
    basis = (
        f"{x.metadata.heading}, {x.metadata.frequency.name}, {span_of(x.values.dropna().index)}, "
        f"{quantity(len(values), 'value')}; mean {_in_words(mean, x.metadata)}, SD "
        f"{_in_words(spread, x.metadata)}, skewness {skew:.3g}, kurtosis {kurt:.3g}, Jarque–Bera {statistic:.4g}"
    )
    return Distribution(
        table,
        basis,
        _histogram(values, _edges(values, bins), mean, spread),
        pd.Series(np.quantile(values, _QUANTILES), index=_QUANTILES, name=x.name),
        mean,
        spread,
        skew,
        kurt,
        float(statistic),
        float(scipy.special.chdtrc(2, statistic)),
        values,
        x.metadata,
    )


def _in_words(value: float, metadata: Metadata) -> str:
    """A number in display units: returns and rates in percent."""
    return f"{100 * value:.4g} %" if metadata.in_percent else f"{value:.4g}"


def _shares(scores: Floats) -> pd.DataFrame:
    size = np.abs(scores)
    beyond = 2.0 * scipy.special.ndtr([-_CENTRE, *(-reach for reach in _TAILS)])
    normal = [1.0 - beyond[0], beyond[0] - beyond[1], *beyond[1:]]
    counts = [
        int((size <= _CENTRE).sum()),
        int(((size > _CENTRE) & (size <= _TAILS[0])).sum()),
        *(int((size > reach).sum()) for reach in _TAILS),
    ]
    names = ["|z| < 0.5", "0.5 to 2", *(f"> {reach:g}" for reach in _TAILS)]
    table = pd.DataFrame({"count": counts, "expected": np.array(normal) * len(scores)}, names)
    table = table.assign(observed=table["count"] / len(scores), normal=normal)
    return table.assign(ratio=table["observed"] / table["normal"])


def _edges(values: Floats, bins: int | float | list[float] | str) -> Floats:
    if isinstance(bins, str):
        return np.histogram_bin_edges(values, bins="fd")
    if isinstance(bins, list):
        numbers = [b for b in bins if isinstance(b, Real) and np.isfinite(float(b))]
        if len(numbers) < max(len(bins), 2):
            raise UnitError("bins= must be two or more finite numbers.")
        edges = np.sort(np.asarray(numbers, dtype=float))
        if edges[0] > values.min() or edges[-1] < values.max():
            raise UnitError(
                f"Bins from {edges[0]:g} to {edges[-1]:g} do not cover the values ({values.min():g} "
                f"to {values.max():g})."
            )
        return edges
    if not 0 < bins <= _MOST_BINS:
        raise UnitError(f"bins={bins:g}: use a number of bins, or a width above 0 with at most {_MOST_BINS:,}.")
    if isinstance(bins, float):
        low = np.floor(values.min() / bins)
        count = int(np.floor(values.max() / bins) - low) + 1
        if count > _MOST_BINS:
            raise UnitError(f"A width of {bins:g} makes {count:,} bins. Use a wider one.")
        return np.asarray(bins * (low + np.arange(count + 1)))
    return np.linspace(values.min(), values.max(), max(int(bins), 1) + 1)


def _histogram(values: Floats, edges: Floats, mean: float, spread: float) -> pd.DataFrame:
    counts, _ = np.histogram(values, edges)
    width = np.diff(edges)
    normal = np.diff(scipy.special.ndtr((edges - mean) / spread)) / width
    share = counts / len(values)
    return pd.DataFrame(
        {
            "low": edges[:-1],
            "high": edges[1:],
            "count": counts,
            "share": share,
            "density": share / width,
            "normal": normal,
        }
    )


# Calendar returns: a grid of months by years

_MONTHS: Final = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


@dataclass(frozen=True, eq=False, repr=False)
class CalendarReturns(Described):
    """Returns by year (rows) and month or quarter (columns), and for the whole year.

    Attributes
    ----------
    summary : DataFrame
        For each column: ``mean median positive count``, where ``positive`` is the share of years above zero.
        Incomplete years are excluded from the column ``year``.
    """

    summary: pd.DataFrame
    name: str


@validate_arguments
def calendar_returns(x: TimeSeries | pd.Series) -> CalendarReturns:
    """Calendar returns: the return of each month of each year.

    Parameters
    ----------
    x : TimeSeries
        Monthly or quarterly returns; daily and weekly returns are compounded to months.

    Returns
    -------
    CalendarReturns
        ``table`` has a column per month and ``year``, the compounded return of the available months; incomplete
        years are listed in ``attrs["partial_years"]``.

    Examples
    --------
    >>> r = pd.Series([0.1, -0.1], pd.period_range("2024-01", periods=2, freq="M"))
    >>> calendar_returns(TimeSeries.from_pandas(r, measure="return")).table["year"].round(4).tolist()
    [-0.01]
    """
    x = series_in(x, "return")
    returns = returns_in(x, "calendar_returns").only()
    if returns.metadata.frequency.is_dated or returns.metadata.frequency.code == "W":
        returns = to_frequency(returns, "M")
    valid = returns.values.dropna().index
    if len(valid):
        returns = TimeSeries(returns.values.loc[valid[0] : valid[-1]], returns.metadata)
    code = returns.metadata.frequency.code
    if code not in "MQ":
        raise FrequencyError(
            f"calendar_returns: {x.name} is {returns.metadata.frequency.name}; months or quarters are needed."
        )
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
    summary = pd.DataFrame(
        {
            "mean": counted.mean(),
            "median": counted.median(),
            "positive": (counted > 0).sum() / counted.notna().sum().replace(0, np.nan),
            "count": counted.notna().sum(),
        }
    ).T
    basis = f"{x.metadata.heading}, simple returns, {span_of(returns.values.dropna().index)}; decimals"
    return CalendarReturns(table, basis, summary, x.metadata.heading)


def _on_calendar(x: TimeSeries) -> TimeSeries:
    """The series with one row per period: a condition can hold in a period without a return."""
    if x.metadata.frequency.is_dated or not len(x):
        return x
    every = np.arange(x.ordinals[0], x.ordinals[-1] + 1)
    return TimeSeries(x.values.reindex(x.metadata.frequency.index(every)), x.metadata)


# Momentum and forward returns


@dataclass(frozen=True, eq=False, repr=False)
class ForwardReturns(Described):
    """Mean returns over horizons after a condition, against all dates."""


@validate_arguments
def forward_returns(
    x: TimeSeries | pd.Series,
    condition: pd.DataFrame | pd.Series | Sequence[object],
    horizons: Sequence[str | int] = (1, 3, 6, 12),
) -> ForwardReturns:
    """Conditional mean of forward returns after a condition, against the unconditional mean.

    An event study differs: it subtracts a model's normal return from each return.

    Parameters
    ----------
    x : TimeSeries
        Returns.
    condition : DataFrame, Series or sequence
        Episodes from :func:`ultrum.spells` (every period of an episode counts), a boolean Series, or periods.
    horizons : sequence of int or str
        Numbers of periods, or durations such as ``"P1Y"``.

    Returns
    -------
    ForwardReturns
        A row a horizon: ``after`` (conditional mean of the compounded return), ``count``, ``all_dates``
        (unconditional mean), ``difference``, its ``error`` and ``t``, ``p``. Horizons overlap, so the last three
        are for summed returns with Hodrick (1992) 1B standard errors, which regress each period's return on the
        last h conditions.

    Raises
    ------
    AlignmentError
        If the condition never holds where a horizon is complete.
    EstimationError
        If the returns are constant, or a horizon is shorter than a period.

    Examples
    --------
    >>> r = pd.Series([0.0, 0.1, 0.0, 0.1, 0.0, 0.1], pd.period_range("2024-01", periods=6, freq="M"))
    >>> made = forward_returns(TimeSeries.from_pandas(r, measure="return"), ["2024-01", "2024-03"], horizons=[1])
    >>> round(made.table.loc[1, "after"], 3).item()
    0.1
    """
    x = series_in(x, "return")
    returns = _on_calendar(returns_in(x, "forward_returns").only())
    values = simple_block(returns.as_table())[:, 0]
    if not varies(values):
        raise EstimationError(f"forward_returns: {x.name} is constant, so there is nothing to compare.")
    holds = _holds(returns, condition)
    rows = {}
    for horizon in horizons:
        count = int(horizon) if str(horizon).isdigit() else periods_in(str(horizon), returns.metadata.frequency)
        if count < 1:
            raise EstimationError(f"horizons={list(horizons)}: a horizon must be at least one period.")
        rows[horizon] = _after(values, _to_come(values, returns, count), holds, count, x.name)
    basis = (
        f"{x.metadata.heading}, {returns.metadata.frequency.name}, {span_of(returns.values.dropna().index)}; "
        "the condition holds in "
        f"{int(holds.sum())} of {quantity(len(holds), 'period')}; errors 1B (Hodrick 1992); decimals"
    )
    return ForwardReturns(pd.DataFrame(rows).T.rename_axis("horizon"), basis)


def _holds(returns: TimeSeries, condition: pd.DataFrame | pd.Series | Sequence[object]) -> Bools:
    ordinals = returns.ordinals
    frequency = returns.metadata.frequency
    if isinstance(condition, pd.DataFrame):
        if not {"start", "end"} <= set(condition):
            raise AlignmentError(
                "A condition in a DataFrame needs the columns start and end, as spells has them; it has "
                f"{', '.join(map(str, condition))}."
            )
        held = np.zeros(len(ordinals), dtype=bool)
        for start, end in zip(condition["start"], condition["end"], strict=True):
            first, last = (frequency.ordinal_of_name(str(label)) for label in (start, end))
            held |= (ordinals >= first) & (ordinals <= last)
        return held
    if isinstance(condition, pd.Series):
        dates = condition[condition.fillna(False).astype(bool)].index
        return np.isin(ordinals, frequency.ordinals_of(dates))
    wanted = [frequency.ordinal_of_name(str(label)) for label in condition]
    return np.isin(ordinals, wanted)


def _to_come(values: Floats, returns: TimeSeries, count: int) -> Floats:
    """Compounded return of the next periods; missing where one is missing, or beyond the end of the series."""
    forward = np.full(len(values), np.nan)
    ordinals = positions_of(returns.metadata.frequency, returns.index)
    for row in range(len(values) - count):
        if ordinals[row + count] - ordinals[row] == count:
            forward[row] = np.prod(1.0 + values[row + 1 : row + 1 + count]) - 1.0
    return forward


def _after(values: Floats, to_come: Floats, holds: Bools, count: int, name: str) -> dict[str, float]:
    whole = np.isfinite(to_come)
    if not (whole & holds).any() or (whole & ~holds).sum() < 2:
        raise AlignmentError(
            f"forward_returns: with a horizon of {quantity(count, 'period')} the condition of {name} holds on "
            f"{int((whole & holds).sum())} of {quantity(int(whole.sum()), 'date')}, so there is no conditional "
            "mean. Use a shorter horizon or a weaker condition."
        )
    slope = hodrick_1b(values[1:], holds[:-1].astype(float), count)
    after, others = float(to_come[whole & holds].mean()), float(to_come[whole & ~holds].mean())
    return {
        "after": after,
        "count": int((whole & holds).sum()),
        "all_dates": float(to_come[whole].mean()),
        "difference": after - others,
        "error": slope.error,
        "t": slope.t,
        "p": slope.p_value,
    }


# Calendar horizons: the row where each begins


def months_of(duration: str) -> int:
    """Number of months of a duration; refused if it is not whole."""
    months = months_in(duration)
    if not months:
        raise FrequencyError(f"'{duration}' is not a number of whole months. Write P3M or P1Y.")
    return months


def row_at(ordinals: Ints, wanted: Ints) -> Ints:
    """Row of each period, −1 where it has none."""
    place = np.searchsorted(ordinals, wanted)
    safe = np.minimum(place, len(ordinals) - 1)
    return np.where(ordinals[safe] == wanted, safe, -1)


# Momentum: past returns over calendar horizons, averaged and ranked


@dataclass(frozen=True, eq=False, repr=False)
class Momentum(Described):
    """Past returns of assets and their ranks.

    Attributes
    ----------
    table : DataFrame
        The last period: each horizon, ``average`` and ``rank`` (1 is the highest).
    returns : dict of str to DataFrame
        Return over each horizon, shape (T, N).
    average, ranks : DataFrame, shape (T, N)
    """

    returns: dict[str, pd.DataFrame]
    average: pd.DataFrame
    ranks: pd.DataFrame


@validate_arguments
def momentum(
    x: SeriesTable | pd.DataFrame, horizons: Sequence[str] = ("P3M", "P6M", "P12M"), *, skip: str | None = None
) -> Momentum:
    """Momentum: cumulative past returns over formation periods, with a skip period, averaged and ranked.

    Parameters
    ----------
    x : SeriesTable or DataFrame
        Returns of months or longer periods, or prices of any frequency, measured by calendar.
    horizons : sequence of str
        Durations.
    skip : str
        Skip period at the end, such as ``"P1M"``; the horizon is counted back from the period itself.

    Returns
    -------
    Momentum
        Missing where a horizon is incomplete. Ties share the lower rank number.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> frame = pd.DataFrame({"A": [0.1, 0.1, 0.1], "B": [0.0, 0.0, 0.3]}, months)
    >>> r = SeriesTable.from_pandas(frame, measure="return")
    >>> momentum(r, ["P3M"]).table["rank"].to_dict()
    {'A': 1.0, 'B': 2.0}
    """
    table = x if isinstance(x, SeriesTable) else SeriesTable.from_pandas(x, measure="return")
    priced = all(a.measure in ("price", "index") for a in table.metadata)
    if not priced:
        table = returns_in(table, "momentum")
    warn_of_currencies(table.metadata, "momentum")
    if not len(table.index):
        raise AlignmentError("momentum: the series are empty.")
    if not len(horizons):
        raise AlignmentError("momentum: horizons is empty. Pass one such as P12M.")
    by_horizon = {h: _past(table, h, skip or "", priced) for h in horizons}
    blocks = np.stack([frame.to_numpy() for frame in by_horizon.values()])
    average = pd.DataFrame(blocks.mean(axis=0), index=table.index, columns=table.names)
    ranks = average.rank(axis=1, ascending=False, method="min")
    whole = np.flatnonzero(average.notna().any(axis=1))
    if not len(whole):
        raise AlignmentError(
            f"momentum: no date has {' or '.join(horizons)} of earlier returns (sample {span_of(table.index)}). "
            "Use shorter horizons or a longer sample."
        )
    last = table.index[whole[-1]]
    shown = pd.DataFrame({h: frame.loc[last] for h, frame in by_horizon.items()})
    shown = shown.assign(average=average.loc[last], rank=ranks.loc[last]).sort_values("rank")
    skipped = f", skip period {skip}" if skip else ""
    return Momentum(
        shown,
        f"momentum (cumulative past returns) at {period_label(last)}{skipped}; decimals",
        by_horizon,
        average,
        ranks,
    )


def _past(table: SeriesTable, horizon: str, skip: str, priced: bool) -> pd.DataFrame:
    """Compounded return of the horizon that ends at each row, without the skip period."""
    ordinals = table.ordinals
    if table.frequency.is_dated:
        if not priced:
            raise FrequencyError("momentum: calendar horizons need daily prices, not daily returns. Pass prices.")
        days = table.frequency.starts(ordinals)
        start = row_before(days, months_before(days, months_of(horizon)))
        end = row_before(days, months_before(days, months_of(skip))) if skip else np.arange(len(days))
    else:
        width = periods_in(horizon, table.frequency)
        ago = periods_in(skip, table.frequency) if skip else 0
        if ago >= width:
            left = (
                f"skip='{skip}' is not shorter than the horizon '{horizon}'"
                if skip
                else f"the horizon {horizon} is empty"
            )
            raise FrequencyError(f"momentum: {left}. Use a shorter skip or a longer horizon.")
        start, end = row_at(ordinals, ordinals - width), row_at(ordinals, ordinals - ago)
    if priced:
        levels = table.block
        there = (start >= 0) & (end >= 0)
        past = np.where(there[:, None], levels[end] / levels[start] - 1.0, np.nan)
        return pd.DataFrame(past, index=table.index, columns=table.names)
    return pd.DataFrame(_compound_returns(table, width, ago), index=table.index, columns=table.names)


def _compound_returns(table: SeriesTable, width: int, ago: int) -> Floats:
    """∏(1+r) − 1 over the rows from t − width + 1 to t − ago, by the calendar."""
    growth = 1.0 + simple_block(table)
    first, last = table.ordinals[0], table.ordinals[-1]
    every = np.full((int(last - first) + 1, growth.shape[1]), np.nan)
    every[table.ordinals - first] = growth
    compounded = np.full(every.shape, np.nan)
    if len(every) >= width:
        views = np.lib.stride_tricks.sliding_window_view(every, width, axis=0)[:, :, : width - ago]
        compounded[width - 1 :] = np.prod(views, axis=-1) - 1.0
    return np.asarray(compounded[table.ordinals - first])
