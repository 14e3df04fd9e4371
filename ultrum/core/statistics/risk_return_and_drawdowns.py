"""Risk and return (volatility, Sharpe ratio), and drawdowns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats, Ints, largest, varies, without_rounding
from ultrum.core.deprecated_names import RenamedAttribute, RenamedColumns
from ultrum.core.presentation import TableInNotebooks, quantity
from ultrum.core.returns.price_log_and_excess_returns import excess
from ultrum.core.series.input_checks import check_returns
from ultrum.core.series.time_series import SeriesLike, SeriesTable, TimeSeries
from ultrum.core.time.index_frequency_and_gaps import positions_of
from ultrum.core.time.period_labels_and_relative_dates import period_label, span_of
from ultrum.core.workings import Workings
from ultrum.core.workings_of_results import risk_workings
from ultrum.errors import EstimationError, UnitError, one_of


@dataclass(frozen=True, eq=False, repr=False)
class Described(TableInNotebooks):
    """A table with a sentence that states its basis.

    Attributes
    ----------
    table : DataFrame
    basis : str
        Sample, frequency, conventions.
    """

    table: pd.DataFrame
    basis: str

    @property
    def in_percent(self) -> str:
        """The basis where numbers are shown in percent."""
        return self.basis.replace("decimals", "percent")

    def to_frame(self) -> pd.DataFrame:
        """The table."""
        return self.table.copy()

    def __repr__(self) -> str:
        with pd.option_context("display.width", 100, "display.max_columns", 20):
            text = self.table.to_string(max_rows=40, float_format=lambda v: f"{v:.4g}", line_width=100)
        return f"{text}\n{self.basis}"


def returns_in(x: object, doing: str) -> SeriesTable:
    """A table of simple or log returns; prices are refused, with the fix."""
    table = x.as_table() if isinstance(x, TimeSeries) else x
    if isinstance(table, pd.DataFrame | pd.Series):
        frame = table.to_frame() if isinstance(table, pd.Series) else table
        table = SeriesTable.from_pandas(frame, measure="return")
    if not isinstance(table, SeriesTable):
        raise UnitError(f"{doing} needs returns; got a {type(x).__name__}.")
    check_returns(table, doing)
    kinds = {a.measure for a in table.metadata}
    if len(kinds) > 1:
        raise UnitError(f"{doing}: simple and log returns are mixed. Convert the log returns with to_simple.")
    return table


def simple_block(x: SeriesTable) -> Floats:
    """The returns as simple returns."""
    return np.asarray(np.expm1(x.block) if x.metadata[0].measure == "log_return" else x.block)


def per_year(x: SeriesTable, given: float | None) -> Floats:
    """Periods per year of each series: as given, or counted by :attr:`SeriesTable.periods_per_year`."""
    if given is None:
        return x.periods_per_year
    if not (np.isfinite(given) and given > 0):
        raise UnitError(f"periods_per_year={given}: a positive number is expected.")
    return np.full(len(x), float(given))


# Risk and return of assets


@dataclass(frozen=True, eq=False, repr=False)
class RiskReturn(Described):
    """Risk and return of each asset; ``table`` holds decimals; rates are annual.

    Attributes
    ----------
    returns : SeriesTable
        The returns described.
    periods_per_year : mapping of str to float
        By asset.
    """

    returns: SeriesTable
    periods_per_year: Mapping[str, float]

    def workings(self, asset: str | None = None) -> Workings:
        """Step-by-step calculation of the annualised mean and volatility of one asset.

        Parameters
        ----------
        asset : str, optional
            Can be omitted where there is only one.

        Returns
        -------
        Workings

        Raises
        ------
        EstimationError
            If there is no such asset, or it has fewer than two returns.

        Examples
        --------
        >>> r = pd.Series([0.02, -0.01, 0.03], pd.period_range("2024-01", periods=3, freq="M"))
        >>> made = risk_return(TimeSeries.from_pandas(r, name="BRTW", measure="return"))
        >>> made.workings().to_frame()["step"].tolist()[:3]
        ['number of returns', 'sum of returns', 'mean per period']
        """
        names = self.returns.names
        name = names[0] if asset is None and len(names) == 1 else asset
        if name not in names:
            raise EstimationError(f"Set asset= to one asset; {one_of(name or '', names)}")
        values = self.returns[name].values.dropna()
        if len(values) < 2:
            raise EstimationError(
                f"risk_return: a standard deviation needs at least 2 returns; {name} has {len(values)}."
            )
        logs = self.returns[name].metadata.measure == "log_return"
        volatility = float(self.table["volatility"][name])
        return risk_workings(name, values, self.periods_per_year[name], logs=logs, volatility=volatility)


class _RiskTable(RenamedColumns):
    old_names: ClassVar = {
        "excess_per_risk": "sharpe_ratio",
        "error": "sharpe_se",
        "deviation": "std",
        "drawdown": "max_drawdown",
    }


class _DrawdownTable(RenamedColumns):
    old_names: ClassVar = {
        "recovered": "recovery_date",
        "fall": "periods_to_trough",
        "recovery": "periods_to_recovery",
    }


@validate_arguments
def risk_return(
    x: SeriesLike | pd.DataFrame | pd.Series,
    *,
    risk_free: TimeSeries | None = None,
    periods_per_year: float | None = None,
) -> RiskReturn:
    """Risk and return: means, volatility, Sharpe ratio, maximum drawdown, skewness and kurtosis.

    The Sharpe ratio is the mean excess return over its standard deviation, annualised by √P.

    Parameters
    ----------
    x : TimeSeries, SeriesTable or DataFrame
        Returns, simple or logarithmic.
    risk_free : TimeSeries, optional
        Risk-free return of each period, for the Sharpe ratio; not needed for excess returns.
    periods_per_year : float, optional
        Periods per year; by default those of the calendar, for business-daily data the observed number.

    Returns
    -------
    RiskReturn
        For log returns, ``mean``, ``geometric`` and ``max_drawdown`` are simple growth rates; all other columns
        are logarithmic. Columns ``mean`` (P·m; log returns exp(P·m) − 1), ``mean_log`` (P·m of log returns, which
        simple ones do not have), ``geometric`` (∏(1+r)^(P/T) − 1),
        ``volatility`` (√P·s), ``variance`` (P·s²), ``std`` (s, per period; all with n − 1), ``sharpe_ratio`` and
        its standard error ``sharpe_se``, ``skewness``, ``kurtosis`` (3 for a normal), ``worst`` and
        ``worst_period``, ``max_drawdown``, ``positive`` (share of positive periods), ``periods``, ``first``,
        ``last``. Excess returns are compounded as they are, which is not a realised wealth path; the basis states
        it.

    Notes
    -----
    The standard error of the Sharpe ratio is √P·√((1 + S²/2 − γ₃S + (γ₄ − 3)S²/4)/T) with S per period (Mertens
    2002); for normal returns it is that of Lo (2002). Skewness and kurtosis are central moments over powers of
    the standard deviation, both with n. A standard deviation needs two values, skewness three, kurtosis four; the
    last two are missing for constant returns. A standard deviation at the level of rounding is zero.

    Examples
    --------
    >>> r = pd.Series([0.02, -0.01, 0.03], pd.period_range("2024-01", periods=3, freq="M"))
    >>> made = risk_return(TimeSeries.from_pandas(r, name="BRTW", measure="return"))
    >>> made.table.loc["BRTW", ["mean", "positive"]].round(4).tolist()
    [0.16, 0.6667]
    """
    table = returns_in(x, "risk_return")
    years = per_year(table, periods_per_year)
    over = excess(table, risk_free) if risk_free is not None else None
    if over is None and all(a.excess_of for a in table.metadata):
        over = table
    moments = _moments(table, years)
    shape = {name: moments.pop(name) for name in ("skewness", "kurtosis")}
    ratios = _sharpe_ratios(None if over is None else over.block, years)
    columns = {**moments, **ratios, **shape, **_extremes(table)}
    logs = table.metadata[0].measure == "log_return"
    growth = "mean, geometric and maximum drawdown as growth, mean_log as it is"
    kind = f"log returns ({growth})" if logs else "simple returns"
    if any(a.excess_of for a in table.metadata):
        kind = kind.replace("returns", "excess returns", 1) + ", compounded (not a realised wealth path)"
    basis = f"{kind}, {table.frequency.name}, {span_of(table.index)}; "
    basis += f"annualised with {_range_of(years)} periods per year; in decimals"
    by_asset = dict(zip(table.names, years.tolist(), strict=True))
    if not logs:
        del columns["mean_log"]
    return RiskReturn(_RiskTable(pd.DataFrame(columns, table.names)), basis, table, by_asset)


def _range_of(years: Floats) -> str:
    """One number, or the minimum and the maximum."""
    low, high = f"{years.min():.6g}", f"{years.max():.6g}"
    return low if low == high else f"{low} to {high}"


def _moments(table: SeriesTable, years: Floats) -> dict[str, Floats]:
    """Means, spread and shape of each series, missing where there are too few values."""
    block, logs = table.block, np.array([m.measure == "log_return" for m in table.metadata])
    present = np.isfinite(block)
    count = np.where(present.any(axis=0), present.sum(axis=0), np.nan)
    mean = np.where(present, block, 0.0).sum(axis=0) / count
    off = np.where(present, block - mean, 0.0)
    squares = without_rounding(np.sqrt(np.einsum("tn,tn->n", off, off)), largest(block)) ** 2
    with np.errstate(divide="ignore", invalid="ignore"):  # after a total loss nothing grows
        std = np.where(count > 1, np.sqrt(squares / (count - 1)), np.nan)
        growth = np.where(logs, block, np.log1p(np.maximum(block, -1.0)))
        yearly = np.where(present, growth, 0.0).sum(axis=0) / count * years
        skewness, kurtosis = _shape(off, squares, count)
    return {
        "mean": np.where(logs, np.expm1(np.where(logs, years * mean, 0.0)), years * mean),
        "mean_log": years * mean,
        "geometric": np.expm1(yearly),
        "volatility": std * np.sqrt(years),
        "variance": std**2 * years,
        "std": std,
        "skewness": np.where(count > 2, skewness, np.nan),
        "kurtosis": np.where(count > 3, kurtosis, np.nan),
    }


def _shape(off: Floats, squares: Floats, count: Floats) -> tuple[Floats, Floats]:
    """Skewness and kurtosis from deviations, which are zero where a value is missing."""
    wide = np.sqrt(squares / count)
    cubes = off * off * off
    third, fourth = cubes.sum(axis=0) / count, np.einsum("tn,tn->n", cubes, off) / count
    return np.where(wide > 0, third / wide**3, np.nan), np.where(wide > 0, fourth / wide**4, np.nan)


def _extremes(table: SeriesTable) -> dict[str, Floats | Ints | list[str]]:
    """The worst period, the maximum drawdown, the share of positive periods and the span of each series."""
    block, (first, last) = table.block, table.bounds
    present = np.isfinite(block)
    some, count = last >= 0, present.sum(axis=0)
    if not len(block):  # a row without values, so that there is a worst one
        block, present = np.full((1, len(count)), np.nan), np.zeros((1, len(count)), dtype=bool)
    worst = np.where(present, block, np.inf).argmin(axis=0)
    level = np.cumprod(np.where(present, 1.0 + simple_block(table), 1.0), axis=0)
    depth = level / np.maximum.accumulate(np.maximum(level, 1.0), axis=0) - 1.0
    with np.errstate(invalid="ignore"):
        positive = (block > 0).sum(axis=0) / np.where(some, count, np.nan)
    return {
        "worst": np.where(some, np.take_along_axis(block, worst[None], axis=0)[0], np.nan),
        "worst_period": _labels_of(table.index, np.where(some, worst, -1)),
        "max_drawdown": np.where(some, depth.min(axis=0, initial=0.0), np.nan),
        "positive": positive,
        "periods": count,
        "first": _labels_of(table.index, np.where(some, first, -1)),
        "last": _labels_of(table.index, last),
    }


def _labels_of(index: pd.Index, rows: Ints) -> list[str]:
    """Labels of rows, empty for −1; each row is put into words once."""
    distinct, places = np.unique(rows, return_inverse=True)
    words = ["" if row < 0 else period_label(index[row]) for row in distinct.tolist()]
    return [words[place] for place in places.tolist()]


def _sharpe_ratios(block: Floats | None, years: Floats) -> dict[str, Floats]:
    """Annualised Sharpe ratio of excess returns and its standard error; missing where they do not vary."""
    if block is None:
        return dict.fromkeys(("sharpe_ratio", "sharpe_se"), np.full(len(years), np.nan))
    present = np.isfinite(block)
    count = present.sum(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.where(present, block, 0.0).sum(axis=0) / count
        off = np.where(present, block - mean, 0.0)
        squares = np.einsum("tn,tn->n", off, off)
        ratio = mean / np.sqrt(squares / (count - 1))
        skewness, kurtosis = _shape(off, squares, np.asarray(count, dtype=np.float64))
        variance = (1 + ratio**2 / 2 - skewness * ratio + (kurtosis - 3) / 4 * ratio**2) / count
        defined = (count > 2) & varies(block) & (squares > 1e-28 * (count - 1))
    return {
        "sharpe_ratio": np.where(defined, np.sqrt(years) * ratio, np.nan),
        "sharpe_se": np.where(defined, np.sqrt(years) * np.sqrt(np.maximum(variance, 0.0)), np.nan),
    }


# Drawdowns: declines from the running maximum, with their length and recovery


@dataclass(frozen=True, eq=False, repr=False)
class Drawdowns(Described):
    """Drawdowns: declines from the running maximum; ``table`` lists them deepest first.

    Attributes
    ----------
    drawdown_series : DataFrame, shape (T, N)
        Drawdown of each period from the running maximum, zero or negative (the underwater curve).
    """

    drawdown_series: pd.DataFrame
    under_water = RenamedAttribute("drawdown_series")


@validate_arguments
def drawdowns(x: SeriesLike | pd.DataFrame | pd.Series, *, limit: int = 5) -> Drawdowns:
    """Drawdowns, the maximum drawdown first: declines from the running maximum, with length and recovery time.

    Parameters
    ----------
    x : TimeSeries, SeriesTable or DataFrame
        Returns, or prices and total-return indices.
    limit : int
        Number of drawdowns per series, deepest first.

    Returns
    -------
    Drawdowns
        ``table``: ``series peak trough recovery_date depth periods_to_trough periods_to_recovery``; an ongoing
        drawdown has no recovery. Wealth is one before the first return; a missing return leaves it unchanged, and
        the basis counts these.

    Examples
    --------
    >>> p = pd.Series([100.0, 80, 90, 120], pd.period_range("2024-01", periods=4, freq="M"))
    >>> falls = drawdowns(TimeSeries.from_pandas(p, measure="price")).table
    >>> falls[["trough", "periods_to_trough", "periods_to_recovery"]].values.tolist()
    [['2024-02', 1, 2]]
    """
    table, holes = x.as_table() if isinstance(x, TimeSeries) else x, 0
    if isinstance(table, SeriesTable) and all(a.measure in ("price", "index") for a in table.metadata):
        levels, before = table.block, False
    else:
        table = returns_in(table, "drawdowns")
        first, last = table.bounds
        holes = int((last - first + 1).clip(min=0).sum() - np.isfinite(table.block).sum())
        growth = np.where(np.isfinite(table.block), 1.0 + simple_block(table), 1.0)
        levels, before = (np.where(np.isfinite(table.block), np.cumprod(growth, axis=0), np.nan), True)
    highest = np.fmax.accumulate(levels, axis=0)
    highest = np.fmax(highest, 1.0) if before else highest
    depth = levels / highest - 1.0
    falls = _falls(depth, table, limit)
    water = pd.DataFrame(depth, index=table.index, columns=table.names)
    noun = table.frequency.noun
    basis = f"{table.frequency.name}, {span_of(table.index)}; depth in decimals, lengths in {noun}s"
    basis += f"; {quantity(holes, 'missing return')} skipped" if holes else ""
    return Drawdowns(_DrawdownTable(falls), basis, water)


def _falls(depth: Floats, table: SeriesTable, limit: int) -> pd.DataFrame:
    """The deepest drawdowns of each series.

    The valid periods of all series stand in one line, series after series, so that a drawdown is a run of it.
    """
    column, row = np.nonzero(np.isfinite(depth).T)
    value, position = depth[row, column], positions_of(table.frequency, table.index)[row]
    under, begins = value < 0, np.diff(column, prepend=-1) != 0
    after = np.append(begins[1:], True)  # the last of its series
    first = np.flatnonzero(under & (begins | ~np.roll(under, 1)))
    final = np.flatnonzero(under & (after | ~np.roll(under, -1)))
    inside = np.flatnonzero(under)
    run = np.repeat(np.arange(len(first)), final - first + 1)
    deepest = np.minimum.reduceat(value[inside], np.searchsorted(inside, first)) if len(first) else value[:0]
    lowest = np.flatnonzero(value[inside] == deepest[run])
    low = inside[lowest[np.diff(run[lowest], prepend=-1) > 0]]
    of = column[first]
    kept = np.lexsort((first, value[low], of))
    rank = np.arange(len(kept)) - np.searchsorted(of[kept], of[kept])
    first, final, low = (part[kept][rank < limit] for part in (first, final, low))
    alone, over = begins[first], ~after[final]
    start = np.where(alone, first, first - 1)
    recovered = np.where(over, np.minimum(final + 1, len(row) - 1), -1)
    lengths = position[recovered] - position[low]
    names, peaks = table.names, _labels_of(table.index, row[start])
    return pd.DataFrame(
        {
            "series": [names[k] for k in column[first].tolist()],
            "peak": ["start of sample" if none else label for none, label in zip(alone, peaks, strict=True)],
            "trough": _labels_of(table.index, row[low]),
            "recovery_date": _labels_of(table.index, np.where(over, row[recovered], -1)),
            "depth": value[low],
            "periods_to_trough": position[low] - position[start] + alone,
            "periods_to_recovery": lengths if over.all() else np.where(over, lengths, np.nan),
        }
    )
