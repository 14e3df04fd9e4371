"""Distribution of returns against the normal, and calendar returns by year and month."""

from __future__ import annotations

from dataclasses import dataclass
from numbers import Real
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats, varies
from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.return_checks import check_size
from ultrum.core.series.series_or_table import series_in
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.statistics.risk_return_and_drawdowns import Described, returns_in, simple_block
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.core.transform.aggregation import to_frequency
from ultrum.errors import EstimationError, FrequencyError, UnitError

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
        f"{quantity(len(values), 'value')}; "
        f"mean {_in_words(mean, x.metadata)}, SD {_in_words(spread, x.metadata)}, "
        f"skewness {skew:.3g}, kurtosis {kurt:.3g}, Jarque–Bera {statistic:.4g}"
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
