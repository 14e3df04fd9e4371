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
from ultrum.core.series.return_checks import check_returns
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
    rows = {}
    for column, metadata in enumerate(table.metadata):
        values = table.block[:, column]
        valid = np.flatnonzero(np.isfinite(values))
        rows[metadata.name] = {
            **_moments(values[valid], metadata.measure, years[column]),
            **_extremes(table, column, valid),
            **_per_risk(None if over is None else over.block[:, column], years[column]),
        }
    order = [
        "mean",
        "geometric",
        "volatility",
        "variance",
        "std",
        "sharpe_ratio",
        "sharpe_se",
        "skewness",
        "kurtosis",
        "worst",
        "worst_period",
        "max_drawdown",
        "positive",
        "periods",
        "first",
        "last",
    ]
    logs = table.metadata[0].measure == "log_return"
    growth = "mean, geometric and maximum drawdown as growth, mean_log as it is"
    kind = f"log returns ({growth})" if logs else "simple returns"
    if any(a.excess_of for a in table.metadata):
        kind = kind.replace("returns", "excess returns", 1) + ", compounded (not a realised wealth path)"
    basis = f"{kind}, {table.frequency.name}, {span_of(table.index)}; "
    basis += f"annualised with {_range_of(years)} periods per year; in decimals"
    by_asset = dict(zip(table.names, years.tolist(), strict=True))
    order[1:1] = ["mean_log"] if logs else []
    return RiskReturn(_RiskTable(pd.DataFrame(rows).T[order].infer_objects()), basis, table, by_asset)


def _range_of(years: Floats) -> str:
    """One number, or the minimum and the maximum."""
    low, high = f"{years.min():.6g}", f"{years.max():.6g}"
    return low if low == high else f"{low} to {high}"


def _moments(values: Floats, measure: str, years: float) -> dict[str, float]:
    count = len(values)
    if not count:
        return dict.fromkeys(
            ("mean", "mean_log", "geometric", "volatility", "variance", "std", "skewness", "kurtosis"), np.nan
        )
    mean = float(values.mean())
    off = values - mean
    squares = float(without_rounding(np.sqrt(off @ off), largest(values))) ** 2
    spread = float(np.sqrt(squares / (count - 1))) if count > 1 else np.nan
    wide = float(np.sqrt(squares / count))
    shape = [float((off**k).mean() / wide**k) if wide > 0 and count > k - 1 else np.nan for k in (3, 4)]
    with np.errstate(divide="ignore"):  # after a total loss nothing grows
        logs = values if measure == "log_return" else np.log1p(np.maximum(values, -1.0))
    yearly = np.expm1(years * mean) if measure == "log_return" else years * mean
    return {
        "mean": float(yearly),
        "mean_log": years * mean,
        "geometric": float(np.expm1(years * logs.mean())),
        "volatility": spread * np.sqrt(years),
        "variance": spread**2 * years,
        "std": spread,
        "skewness": shape[0],
        "kurtosis": shape[1],
    }


def _extremes(table: SeriesTable, column: int, valid: Ints) -> dict[str, object]:
    if not len(valid):
        return {
            "worst": np.nan,
            "worst_period": "",
            "max_drawdown": np.nan,
            "positive": np.nan,
            "periods": 0,
            "first": "",
            "last": "",
        }
    values = table.block[valid, column]
    simple = simple_block(table)[valid, column]
    level = np.cumprod(1.0 + simple)
    highest = np.maximum.accumulate(np.maximum(level, 1.0))
    worst = int(np.argmin(values))
    return {
        "worst": float(values[worst]),
        "worst_period": period_label(table.index[valid[worst]]),
        "max_drawdown": float((level / highest - 1.0).min(initial=0.0)),
        "positive": float((values > 0).mean()),
        "periods": len(valid),
        "first": period_label(table.index[valid[0]]),
        "last": period_label(table.index[valid[-1]]),
    }


def _per_risk(values: Floats | None, years: float) -> dict[str, float]:
    """Annualised Sharpe ratio and its standard error."""
    none = {"sharpe_ratio": np.nan, "sharpe_se": np.nan}
    if values is None:
        return none
    valid = values[np.isfinite(values)]
    if len(valid) < 3 or not varies(valid) or not valid.std(ddof=1) > 1e-14:
        return none
    ratio = valid.mean() / valid.std(ddof=1)
    off = (valid - valid.mean()) / valid.std()
    skew, kurt = (off**3).mean(), (off**4).mean()
    variance = (1 + ratio**2 / 2 - skew * ratio + (kurt - 3) / 4 * ratio**2) / len(valid)
    return {
        "sharpe_ratio": float(np.sqrt(years) * ratio),
        "sharpe_se": float(np.sqrt(years * max(variance, 0.0))),
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
    rows = []
    positions = positions_of(table.frequency, table.index)
    for column, label in enumerate(table.names):
        rows += _falls(depth[:, column], table.index, positions, label, limit)
    columns = ["series", "peak", "trough", "recovery_date", "depth", "periods_to_trough", "periods_to_recovery"]
    water = pd.DataFrame(depth, index=table.index, columns=table.names)
    noun = table.frequency.noun
    basis = f"{table.frequency.name}, {span_of(table.index)}; depth in decimals, lengths in {noun}s"
    basis += f"; {quantity(holes, 'missing return')} skipped" if holes else ""
    return Drawdowns(_DrawdownTable(pd.DataFrame(rows, columns=columns)), basis, water)


def _falls(depth: Floats, index: pd.Index, positions: Ints, name: str, most: int) -> list[list[object]]:
    """The deepest drawdowns of one series."""
    valid = np.flatnonzero(np.isfinite(depth))
    at = positions[valid]
    under = depth[valid] < 0
    edges = np.flatnonzero(np.diff(np.concatenate([[False], under, [False]]).astype(int)))
    falls: list[list[object]] = []
    for first, past in zip(edges[::2], edges[1::2], strict=True):
        low = first + int(np.argmin(depth[valid[first:past]]))
        peak = period_label(index[valid[first - 1]]) if first else "start of sample"
        over = past < len(valid)
        falls.append(
            [
                name,
                peak,
                period_label(index[valid[low]]),
                period_label(index[valid[past]]) if over else "",
                float(depth[valid[low]]),
                int(at[low] - at[first - 1] if first else at[low] - at[first] + 1),
                int(at[past] - at[low]) if over else None,
            ]
        )
    return sorted(falls, key=lambda row: float(str(row[4])))[:most]
