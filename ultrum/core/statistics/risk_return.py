"""Risk and return of assets and portfolios, and their drawdowns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.returns.asset_returns import excess
from ultrum.core.series.labels import period_label, span_of
from ultrum.core.series.time_series import SeriesLike, SeriesTable, TimeSeries
from ultrum.core.statistics.return_samples import Described, per_year, returns_in, simple_block
from ultrum.core.time.durations import months_in
from ultrum.core.time.gaps import positions_of
from ultrum.errors import AlignmentError, CurrencyError, UnitError


@dataclass(frozen=True, eq=False, repr=False)
class RiskReturn(Described):
    """Risk and return of each asset; ``table`` holds decimals, a year where they are rates."""


@dataclass(frozen=True, eq=False, repr=False)
class Drawdowns(Described):
    """Falls from a peak and back; ``table`` lists them deepest first.

    Attributes
    ----------
    under_water : DataFrame, shape (T, N)
        Distance below the highest level so far, zero or negative.
    """

    under_water: pd.DataFrame


@checked
def risk_return(
    x: SeriesLike | pd.DataFrame,
    *,
    risk_free: TimeSeries | None = None,
    periods_per_year: float | None = None,
) -> RiskReturn:
    """Means, volatility and shape of returns.

    Parameters
    ----------
    x : TimeSeries, SeriesTable or DataFrame
        Returns, simple or logarithmic.
    risk_free : TimeSeries, optional
        Risk-free return of each period, for the excess per unit of risk; excess returns need none.
    periods_per_year : float, optional
        By default the calendar's; of business-daily data as many as there were a year.

    Returns
    -------
    RiskReturn
        Of log returns, ``mean``, ``geometric`` and ``drawdown`` are growth and all else is logarithmic.
        Columns ``mean`` (P·m; log returns exp(P·m) − 1), ``geometric`` (∏(1+r)^(P/T) − 1), ``volatility``
        (√P·s), ``variance`` (P·s²), ``deviation`` (s, a period; all with n − 1), ``excess_per_risk`` and
        its ``error``, ``skewness``, ``kurtosis`` (3 for a normal), ``worst`` and ``worst_period``,
        ``drawdown``, ``positive`` (share of periods above zero), ``periods``, ``first``, ``last``. Excess
        returns are compounded alone, which is no growth that a holder had; the basis says so.

    Notes
    -----
    The error of the excess per unit of risk is √P·√((1 + S²/2 − γ₃S + (γ₄ − 3)S²/4)/T) with S a period
    (Mertens 2002); for normal returns it is that of Lo (2002). Skewness and kurtosis are moments over
    powers of the deviation with n. A mean of fewer than two values has no deviation.

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
        own = table.block[:, column]
        valid = np.flatnonzero(np.isfinite(own))
        rows[metadata.name] = {
            **_moments(own[valid], metadata.measure, years[column]),
            **_extremes(table, column, valid),
            **_per_risk(None if over is None else over.block[:, column], years[column]),
        }
    order = ["mean", "geometric", "volatility", "variance", "deviation", "excess_per_risk", "error", "skewness",
             "kurtosis", "worst", "worst_period", "drawdown", "positive", "periods", "first", "last"]  # fmt: skip
    logs = table.metadata[0].measure == "log_return"
    kind = "log returns (mean, geometric and drawdown as growth)" if logs else "simple returns"
    if any(a.excess_of for a in table.metadata):
        kind += " in excess of a rate, compounded alone"
    basis = f"{kind}, {table.frequency.name}, {span_of(table.index)}; {_range_of(years)} periods a year; decimals"
    return RiskReturn(pd.DataFrame(rows).T[order].infer_objects(), basis)


@checked
def portfolio(
    x: SeriesTable | pd.DataFrame,
    *,
    weights: str | Mapping[str, float] | SeriesTable = "equal",
    rebalance: str = "every period",
    name: str = "portfolio",
) -> TimeSeries:
    """Returns of a portfolio.

    Parameters
    ----------
    x : SeriesTable or DataFrame
        Simple returns.
    weights : "equal", mapping or SeriesTable
        Equal over the assets with a return; given by name; or market values, those at the end of the
        period before being used.
    rebalance : str
        ``"every period"``, ``"never"``, or a duration such as ``"P1Y"``; in between weights drift with
        returns.
    name : str

    Returns
    -------
    TimeSeries
        Weights are scaled to one over the assets that have a return in a period; a period in which
        none has, or market values are missing, is missing.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> r = SeriesTable.from_pandas(pd.DataFrame({"A": [0.1, 0.0], "B": [0.0, 0.1]}, months), measure="return")
    >>> portfolio(r).to_pandas().tolist(), portfolio(r, rebalance="never").to_pandas().round(4).tolist()
    ([0.05, 0.05], [0.05, 0.0476])
    """
    table = returns_in(x, "portfolio")
    if table.metadata[0].measure == "log_return":
        raise UnitError(
            "Log returns do not add across assets; bring them to simple ones with to_simple."
        )
    currencies = sorted({a.currency for a in table.metadata if a.currency})
    if len(currencies) > 1:
        raise CurrencyError(
            f"The assets are in {' and '.join(currencies)}; bring their prices to one currency with to_currency."
        )
    targets = _targets(table, weights)
    anew = _rebalancing(table, rebalance)
    made = _held(table.block, targets, anew)
    missing = int((~np.isfinite(table.block)).sum())
    said = (
        weights
        if isinstance(weights, str)
        else "market values"
        if isinstance(weights, SeriesTable)
        else "given"
    )
    metadata = table.metadata[0].changed(name=name, title=name, address="", source="")
    metadata = metadata.stepped(
        "portfolio",
        of=len(table.names),
        weights=said,
        rebalance=rebalance,
        returns_missing=missing or None,
    )
    return TimeSeries.from_arrays(made, table.index, metadata)


@checked
def drawdowns(x: SeriesLike | pd.DataFrame, *, most: int = 5) -> Drawdowns:
    """Falls from the highest level so far.

    Parameters
    ----------
    x : TimeSeries, SeriesTable or DataFrame
        Returns, or prices and total-return indices.
    most : int
        How many of each series are listed, deepest first.

    Returns
    -------
    Drawdowns
        ``table``: ``series peak trough recovered depth fall recovery``; the last two in periods, and a
        drawdown that has not ended has no recovery. Before the first return the level is one; a missing
        return leaves it where it was, and the basis counts them.

    Examples
    --------
    >>> p = pd.Series([100.0, 80, 90, 120], pd.period_range("2024-01", periods=4, freq="M"))
    >>> falls = drawdowns(TimeSeries.from_pandas(p, measure="price")).table
    >>> falls[["trough", "fall", "recovery"]].values.tolist()
    [['2024-02', 1, 2]]
    """
    table, holes = x.as_table() if isinstance(x, TimeSeries) else x, 0
    if isinstance(table, SeriesTable) and all(
        a.measure in ("price", "index") for a in table.metadata
    ):
        levels, before = table.block, False
    else:
        table = returns_in(table, "drawdowns")
        first, last = table.bounds
        holes = int((last - first + 1).clip(min=0).sum() - np.isfinite(table.block).sum())
        growth = np.where(np.isfinite(table.block), 1.0 + simple_block(table), 1.0)
        levels, before = (
            np.where(np.isfinite(table.block), np.cumprod(growth, axis=0), np.nan),
            True,
        )
    highest = np.fmax.accumulate(levels, axis=0)
    highest = np.fmax(highest, 1.0) if before else highest
    depth = levels / highest - 1.0
    rows = []
    positions = positions_of(table.frequency, table.index)
    for column, label in enumerate(table.names):
        rows += _falls(depth[:, column], table.index, positions, label, most)
    columns = ["series", "peak", "trough", "recovered", "depth", "fall", "recovery"]
    water = pd.DataFrame(depth, index=table.index, columns=table.names)
    noun = table.frequency.noun
    basis = f"{table.frequency.name}, {span_of(table.index)}; depth in decimals, lengths in {noun}s"
    basis += f"; {holes} missing returns passed over" if holes else ""
    return Drawdowns(pd.DataFrame(rows, columns=columns), basis, water)


def _range_of(years: Floats) -> str:
    """One number, or the lowest and the highest."""
    low, high = f"{years.min():.6g}", f"{years.max():.6g}"
    return low if low == high else f"{low} to {high}"


def _moments(values: Floats, measure: str, years: float) -> dict[str, float]:
    count = len(values)
    if not count:
        return dict.fromkeys(
            ("mean", "geometric", "volatility", "variance", "deviation", "skewness", "kurtosis"),
            np.nan,
        )
    mean = float(values.mean())
    off = values - mean
    spread = float(np.sqrt((off**2).sum() / (count - 1))) if count > 1 else np.nan
    wide = float(np.sqrt((off**2).mean()))
    shape = [float((off**k).mean() / wide**k) if wide > 1e-14 else np.nan for k in (3, 4)]
    logs = values if measure == "log_return" else np.log1p(np.maximum(values, -1.0 + 1e-300))
    yearly = np.expm1(years * mean) if measure == "log_return" else years * mean
    return {
        "mean": float(yearly), "geometric": float(np.expm1(years * logs.mean())),
        "volatility": spread * np.sqrt(years), "variance": spread**2 * years, "deviation": spread,
        "skewness": shape[0], "kurtosis": shape[1],
    }  # fmt: skip


def _extremes(table: SeriesTable, column: int, valid: Ints) -> dict[str, object]:
    if not len(valid):
        return {"worst": np.nan, "worst_period": "", "drawdown": np.nan, "positive": np.nan, "periods": 0,
                "first": "", "last": ""}  # fmt: skip
    values = table.block[valid, column]
    simple = simple_block(table)[valid, column]
    level = np.cumprod(1.0 + simple)
    highest = np.maximum.accumulate(np.maximum(level, 1.0))
    worst = int(np.argmin(values))
    return {
        "worst": float(values[worst]), "worst_period": period_label(table.index[valid[worst]]),
        "drawdown": float((level / highest - 1.0).min(initial=0.0)), "positive": float((values > 0).mean()),
        "periods": len(valid), "first": period_label(table.index[valid[0]]),
        "last": period_label(table.index[valid[-1]]),
    }  # fmt: skip


def _per_risk(values: Floats | None, years: float) -> dict[str, float]:
    """Excess return per unit of risk a year, and its error."""
    none = {"excess_per_risk": np.nan, "error": np.nan}
    if values is None:
        return none
    known = values[np.isfinite(values)]
    if len(known) < 3 or not known.std(ddof=1) > 1e-14:
        return none
    ratio = known.mean() / known.std(ddof=1)
    off = (known - known.mean()) / known.std()
    skew, kurt = (off**3).mean(), (off**4).mean()
    variance = (1 + ratio**2 / 2 - skew * ratio + (kurt - 3) / 4 * ratio**2) / len(known)
    return {
        "excess_per_risk": float(np.sqrt(years) * ratio),
        "error": float(np.sqrt(years * max(variance, 0.0))),
    }


def _targets(table: SeriesTable, weights: str | Mapping[str, float] | SeriesTable) -> Floats:
    """Wanted weights of every period, before they are scaled."""
    if isinstance(weights, SeriesTable):
        absent = [n for n in table.names if n not in weights.names]
        if absent:
            raise AlignmentError(f"No market value of {', '.join(absent)}.")
        values = weights.values[table.names]
        own = weights.frequency.ordinals_of(values.index)
        place = np.searchsorted(own, table.ordinals) - 1
        if table.frequency != weights.frequency:
            raise AlignmentError(
                f"Market values are {weights.frequency.name}, returns {table.frequency.name}; "
                "bring both to one."
            )
        before = np.where((place >= 0)[:, None], values.to_numpy()[np.maximum(place, 0)], np.nan)
        return np.where(
            (table.ordinals - own[np.maximum(place, 0)] == 1)[:, None] | table.frequency.is_dated,
            before,
            np.nan,
        )
    if weights == "equal":
        return np.ones(table.block.shape)
    if isinstance(weights, str):
        raise UnitError(
            f"weights='{weights}' is not known; it is equal, a mapping or market values."
        )
    unknown = [n for n in weights if n not in table.names]
    if unknown:
        raise AlignmentError(
            f"weights names '{unknown[0]}', which is none of {', '.join(table.names[:20])}."
        )
    shares = np.array([float(weights.get(n, 0.0)) for n in table.names])
    return np.broadcast_to(shares, table.block.shape)


def _rebalancing(table: SeriesTable, rebalance: str) -> Bools:
    """Rows at whose start weights are set anew."""
    if rebalance == "every period":
        return np.ones(len(table.index), dtype=bool)
    anew = np.zeros(len(table.index), dtype=bool)
    if len(anew):
        anew[0] = True
    if rebalance == "never":
        return anew
    months = months_in(rebalance)
    if not months:
        raise UnitError(
            f"rebalance='{rebalance}' is not known; it is 'every period', 'never', 'P3M', 'P1Y' …"
        )
    since = (
        table.frequency.starts(table.ordinals).astype("datetime64[M]").astype(np.int64) // months
    )
    return np.asarray(anew | np.append(False, np.diff(since) != 0)[: len(anew)])


def _held(block: Floats, targets: Floats, anew: Bools) -> Floats:
    """Returns of what is held, weights drifting between the days they are set."""
    made = np.full(len(block), np.nan)
    held = np.zeros(block.shape[1])
    for row, values in enumerate(block):
        there = np.isfinite(values)
        if anew[row] or not held.any():
            held = np.where(np.isfinite(targets[row]), targets[row], 0.0)
        share = np.where(there, held, 0.0)
        total = share.sum()
        if total == 0:
            continue
        made[row] = float((share * np.where(there, values, 0.0)).sum() / total)
        held = np.where(there, held * (1.0 + np.where(there, values, 0.0)), held)
    return made


def _falls(
    depth: Floats, index: pd.Index, positions: Ints, name: str, most: int
) -> list[list[object]]:
    """The deepest drawdowns of one series."""
    known = np.flatnonzero(np.isfinite(depth))
    at = positions[known]
    under = depth[known] < 0
    edges = np.flatnonzero(np.diff(np.concatenate([[False], under, [False]]).astype(int)))
    found: list[list[object]] = []
    for first, past in zip(edges[::2], edges[1::2], strict=True):
        low = first + int(np.argmin(depth[known[first:past]]))
        peak = period_label(index[known[first - 1]]) if first else "before the first"
        over = past < len(known)
        found.append([
            name, peak, period_label(index[known[low]]), period_label(index[known[past]]) if over else "",
            float(depth[known[low]]),
            int(at[low] - at[first - 1] if first else at[low] - at[first] + 1),
            int(at[past] - at[low]) if over else None,
        ])  # fmt: skip
    return sorted(found, key=lambda row: float(str(row[4])))[:most]
