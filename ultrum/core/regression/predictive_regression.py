"""Predictive regressions of returns on lagged variables: IVX, Hodrick's 1B, bias correction, forecasts."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats, varies
from ultrum.core.presentation import TableInNotebooks, decimals, p_in_words, quantity, table_text
from ultrum.core.regression import inputs
from ultrum.core.regression.engine.newey_west_and_fixed_b import bartlett_weight
from ultrum.core.regression.inference import TestResult
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import EstimationError, UnitError, warn_user

_IVX_POWER: Final = 0.95  # of the instrument's root 1 − 1/T^power (Kostakis, Magdalinos and Stamatogiannis 2015)


@dataclass(frozen=True)
class Slope:
    """A slope with its standard error and p value."""

    value: float
    error: float
    p_value: float

    @property
    def t(self) -> float:
        """Value over standard error; missing where the standard error is zero."""
        return self.value / self.error if self.error > 0 else float("nan")


def rolling_sums(condition: Floats, horizon: int) -> Floats:
    """Sum of the last ``horizon`` demeaned predictors at each time, zero before the sample.

    Examples
    --------
    >>> rolling_sums(np.array([1.0, 0.0, 0.0, 1.0]), 2).tolist()
    [0.5, 0.0, -1.0, 0.0]
    """
    centred = condition - condition.mean()
    total = np.cumsum(centred)
    return np.asarray(total - np.concatenate([np.zeros(horizon), total[:-horizon]]))


def hodrick_1b(returns: Floats, condition: Floats, horizon: int) -> Slope:
    """Slope of summed returns on a predictor, with the 1B standard error of Hodrick (1992).

    b = Σ rₛ₊₁Cₛ/Sxx with Cₛ the sum of the last H demeaned predictors; standard error √Σ(rₛ₊₁ − r̄)²Cₛ²/Sxx.

    Parameters
    ----------
    returns : ndarray, shape (T,)
        rₛ₊₁, next to the predictor at s; missing where there is none.
    condition : ndarray, shape (T,)
    horizon : int
        Horizon H of the summed return, in periods.
    """
    sums = rolling_sums(condition, horizon)
    spread = float(np.sum((condition - condition.mean()) ** 2))
    present = np.isfinite(returns)
    off = returns[present] - returns[present].mean()
    # over gaps the sums no longer cancel, so that the mean return must not enter
    value = float((returns if present.all() else off) @ sums[present]) / spread
    error = float(np.sqrt(np.sum(off**2 * sums[present] ** 2))) / spread
    t = abs(value) / error if error > 0 else np.nan
    return Slope(value, error, float(2.0 * scipy.special.ndtr(-t)))


def ivx_wald(returns: Floats, x: Floats) -> tuple[Floats, Floats, float]:
    """IVX coefficients, their covariance and the joint Wald statistic, robust to heteroskedasticity.

    The middle matrix is Σ(zₜ − z̄)(zₜ − z̄)'(rₜ₊₁ − r̄)² + T(σ̂² − σ̂²_FM)z̄z̄': Eicker–White with the residuals under
    the null and centred instruments, and the small-sample correction of Kostakis, Magdalinos and Stamatogiannis
    (2015).

    Parameters
    ----------
    returns : ndarray, shape (n,)
        Return of each row, one period after ``x[:-1]``.
    x : ndarray, shape (n + 1, K)
        Predictors; row t precedes ``returns[t]``, and the last row only gives its innovation.
    """
    rows = len(returns)
    past, now = x[:-1], x[1:]
    means = past.mean(axis=0)
    design = np.column_stack([np.ones(rows), past])
    residuals = returns - design @ np.linalg.lstsq(design, returns, rcond=None)[0]
    shocks = np.column_stack([_shocks_of(past[:, k], now[:, k]) for k in range(x.shape[1])])
    variance = float(residuals @ residuals) / rows
    depth = int(rows ** (1.0 / 3.0))
    shock_variance = shocks.T @ shocks / rows
    common = shocks.T @ residuals / rows
    long_run, long_common = shock_variance.copy(), common.copy()
    for lag in range(1, depth + 1):
        weight = float(bartlett_weight(lag, depth))
        lead = shocks[lag:].T @ shocks[:-lag] / rows
        long_run += weight * (lead + lead.T)
        long_common += weight * (shocks[lag:].T @ residuals[:-lag]) / rows
    adjusted = variance - float(long_common @ np.linalg.solve(long_run, long_common))
    root = 1.0 - 1.0 / rows**_IVX_POWER
    instruments = np.zeros_like(past)
    for t in range(1, rows):
        instruments[t] = root * instruments[t - 1] + past[t] - past[t - 1]
    cross = (past - means).T @ instruments  # (K, K)
    null = returns - returns.mean()
    value = np.linalg.solve(cross.T, instruments.T @ null)
    centre = instruments.mean(axis=0)
    scores = (instruments - centre) * null[:, None]
    middle = scores.T @ scores + rows * (variance - adjusted) * np.outer(centre, centre)
    inverse = np.linalg.inv(cross.T)
    spread = inverse @ middle @ inverse.T
    return value, spread, float(value @ np.linalg.solve(spread, value))


def _shocks_of(past: Floats, now: Floats) -> Floats:
    """Residuals of a first-order autoregression."""
    design = np.column_stack([np.ones(len(past)), past])
    return np.asarray(now - design @ np.linalg.lstsq(design, now, rcond=None)[0])


def correct_bias(returns: Floats, x: Floats) -> tuple[Slope, float]:
    """Bias-corrected slope on one predictor (Stambaugh 1999), and the corrected autoregressive coefficient.

    Amihud and Hurvich (2004): ρ̂ + (1 + 3ρ̂)/n + 3(1 + 3ρ̂)/n², with the shock of the predictor as a regressor;
    the standard error is √(φ²·Var(ρ) + Var(β)).
    """
    rows = len(returns)
    past, now = x[:-1], x[1:]
    design = np.column_stack([np.ones(rows), past])
    first = np.linalg.lstsq(design, now, rcond=None)[0]
    left = now - design @ first
    inverse = np.linalg.inv(design.T @ design)
    root_variance = float(left @ left) / (rows - 2) * inverse[1, 1]
    root = float(first[1])
    corrected = root + (1 + 3 * root) / rows + 3 * (1 + 3 * root) / rows**2
    shock = now - corrected * past
    wide = np.column_stack([design, shock - shock.mean()])
    slopes = np.linalg.lstsq(wide, returns, rcond=None)[0]
    rest = returns - wide @ slopes
    slope_variance = float(rest @ rest) / (rows - 3) * np.linalg.inv(wide.T @ wide)[1, 1]
    growth = (1 + 3 / rows + 9 / rows**2) ** 2
    error = float(np.sqrt(slopes[2] ** 2 * growth * root_variance + slope_variance))
    value = float(slopes[1])
    p_value = float(2.0 * scipy.special.stdtr(rows - 3, -abs(value / error)))
    return Slope(value, error, p_value), corrected


@dataclass(frozen=True)
class OutOfSample:
    """Out-of-sample forecasts against the historical (prevailing) mean."""

    r2: float
    p_value: float
    count: int


def out_of_sample(returns: Floats, past: Floats, first: int) -> OutOfSample:
    """R² out of sample (Campbell and Thompson 2008) with the test of Clark and West (2007).

    Each forecast uses only the rows before it, from row ``first``; p is one-sided, against no predictability.

    Parameters
    ----------
    returns : ndarray, shape (n,)
    past : ndarray, shape (n, K)
        Predictors before each return.
    first : int
        Rows before the first forecast.
    """
    scaled = (past - past.mean(axis=0)) / past.std(axis=0)  # forecasts do not depend on it
    design = np.column_stack([np.ones(len(returns)), scaled])
    gram = np.cumsum(design[:, :, None] * design[:, None, :], axis=0)[first - 1 : -1]
    cross = np.cumsum(design * returns[:, None], axis=0)[first - 1 : -1]
    # a predictor that has not moved yet adds nothing, which the pseudoinverse gives
    slopes = np.einsum("tpq,tq->tp", np.linalg.pinv(gram, rcond=1e-10, hermitian=True), cross)
    forecast = np.sum(design[first:] * slopes, axis=1)
    mean = (np.cumsum(returns) / np.arange(1, len(returns) + 1))[first - 1 : -1]
    actual = returns[first:]
    model, plain = (actual - forecast) ** 2, (actual - mean) ** 2
    gain = plain - (model - (mean - forecast) ** 2)
    deviation = float(gain.std(ddof=1))
    t = float(gain.mean()) / (deviation / np.sqrt(len(gain))) if deviation > 0 else np.nan
    return OutOfSample(float(1.0 - model.sum() / plain.sum()), float(scipy.special.ndtr(-t)), len(gain))


# Prediction of returns by what was known before, with tests that allow for persistent predictors

_NEAR_ONE: Final = 0.95  # autoregression, bias-corrected, from which tests other than IVX reject too often
_ONE_SIDED: Final = 1.645  # standard errors: the 5 % quantile
_PER_UNIT: Final = ("slope", "error", "corrected", "corrected_error")  # per unit of the predictor
_CORRELATED: Final = 0.2  # of a predictor's shocks with returns, from which that matters
_DEPENDENT: Final = 1e-9
_FEWEST: Final = 30
_FIRST_SHARE: Final = 1 / 3  # of the rows, before the first forecast


@dataclass(frozen=True, eq=False, repr=False)
class PredictiveRegression(TableInNotebooks):
    """Predictive regressions: slopes, persistence and out-of-sample forecasts.

    Attributes
    ----------
    table : DataFrame
        One row per horizon and predictor: ``slope`` of summed returns, ``error`` and ``p`` by Hodrick (1992) 1B;
        at one period also ``corrected`` with ``corrected_error`` and ``corrected_p`` (bias-corrected, Amihud and
        Hurvich 2004) and ``ivx_p``; ``rows``.
    persistence : DataFrame
        By predictor: ``root``, the bias-corrected autoregressive coefficient, its standard error ``root_se``, and
        ``correlation`` of its shocks with returns.
    joint : TestResult
        IVX-Wald test of no predictability, at one period.
    forecasts : OutOfSample
        Out-of-sample R² against the historical mean, and the p value of Clark and West (2007).
    basis : str

    Examples
    --------
    >>> import numpy as np, pandas as pd
    >>> draw = np.random.default_rng(2)
    >>> months = pd.period_range("2000-01", periods=240, freq="M")
    >>> state = pd.Series(draw.normal(size=240), months, name="state")
    >>> result = predictive_regression(0.5 * state.shift(1).fillna(0) + draw.normal(size=240), state)
    >>> bool(result.joint.p_value < 0.001), result.forecasts.r2 > 0
    (True, True)
    """

    table: pd.DataFrame
    persistence: pd.DataFrame
    joint: TestResult
    forecasts: OutOfSample
    basis: str

    def to_frame(self) -> pd.DataFrame:
        """One row per horizon and predictor.

        Returns
        -------
        DataFrame
            The table.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> state = panel.risk_free.rename("bill")
        >>> ul.predictive_regression(panel.factors["market"], state).to_frame().T.iloc[:4]
        horizon           1
        predictor      bill
        slope      4.989573
        error      2.448161
        p          0.041541
        corrected  5.772486
        """
        return self.table

    def __repr__(self) -> str:
        words = (
            f"all predictors, one period: {self.joint!r}\nout of sample: R² {decimals(self.forecasts.r2, 3)}, "
            f"p {p_in_words(self.forecasts.p_value)} (Clark–West, {self.forecasts.count} forecasts)"
        )
        shown = self.table.dropna(axis=1, how="all")
        return f"{table_text(shown)}\n{words}\n{textwrap.fill(self.basis, 100)}"


@validate_arguments
def predictive_regression(Y: object, X: object, horizons: Sequence[int] = (1,)) -> PredictiveRegression:
    """Predictive regression on lagged predictors, with inference robust to persistence (Stambaugh bias).

    Parameters
    ----------
    Y : TimeSeries, Series or array, shape (T,)
        Returns; those over several periods are summed, so log returns compound.
    X : TimeSeries, SeriesTable, DataFrame or array, shape (T,) or (T, K)
        Predictors, dated when they became known. The value of one period predicts the return of the next.
    horizons : sequence of int
        Horizons of the returns, in periods.

    Returns
    -------
    PredictiveRegression
        Slopes on one predictor at a time, the joint test, persistence and out-of-sample forecasts.

    Raises
    ------
    EstimationError
        If fewer than 30 returns follow a period with every predictor, or a series is constant or collinear.
    UnitError
        If Y contains prices or levels.

    Warns
    -----
    DataWarning
        If a predictor is near a unit root and its shocks are correlated with returns; then only IVX has the
        correct size.

    Notes
    -----
    Standard errors over horizons are Hodrick (1992) 1B. ``corrected`` follows Amihud and Hurvich (2004); IVX-Wald
    follows Kostakis, Magdalinos and Stamatogiannis (2015) with the small-sample correction. Formulas are in
    docs/formulas.md, rejection rates in docs/simulations.md.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> rate = panel.risk_free.rename("bill")
    >>> result = predictive_regression(panel.factors["market"], rate, horizons=[1, 12])
    >>> list(result.table.index), result.joint.distribution
    ([(1, 'bill'), (12, 'bill')], 'χ²(1)')
    """
    left, single = inputs.observations_of(Y, "y")
    right, _ = inputs.observations_of(X, "x")
    if not single:
        raise EstimationError(f"Y has {quantity(len(left.names), 'column')}. Pass the returns of one asset.")
    _refuse_levels(Y)
    if isinstance(Y, TimeSeries | SeriesTable):
        inputs.check_declared_returns(Y, "predictive_regression")
    given = int(np.isfinite(left.check_finite("y")).sum())
    left, right, _ = inputs.match_rows(left, right)
    returns, x, ends = _pairs(left, right)
    scale = x.std(axis=0)
    names = [str(c) for c in right.names]
    steps = [_horizon(h, len(returns)) for h in horizons]
    if not steps:
        raise EstimationError("horizons is empty. Set numbers of periods, such as [1, 12].")
    _refuse_dependent([str(left.names[0]), *names], np.column_stack([returns, x[:-1]]))
    x = (x - x.mean(axis=0)) / scale  # units and levels of the predictors do not matter
    rows = {}
    for horizon in steps:
        for k, name in enumerate(names):
            row = _row(returns, x[:, k], horizon)
            rows[horizon, name] = {key: v / scale[k] if key in _PER_UNIT else v for key, v in row.items()}
    wald = ivx_wald(returns, x)[2]
    joint = TestResult(
        wald,
        f"χ²({len(names)})",
        (len(names),),
        float(scipy.special.chdtrc(len(names), wald)),
        "IVX-Wald",
        "no predictor matters",
    )
    persistence = pd.DataFrame({n: _persistence(returns, x[:, k]) for k, n in enumerate(names)}).T
    _warn_of_persistence(persistence, 1 in steps)
    first = max(int(len(returns) * _FIRST_SHARE), len(names) + 2)
    table = pd.DataFrame(rows).T.rename_axis(["horizon", "predictor"])
    basis = (
        f"{left.names[0]} on predictors lagged one period; {len(returns)} of {given} returns, "
        f"{span_of(ends)}; Hodrick (1992) 1B standard errors; multi-period returns are summed"
    )
    return PredictiveRegression(
        table.astype({"rows": int}), persistence, joint, out_of_sample(returns, x[:-1], first), basis
    )


def _refuse_levels(y: object) -> None:
    """Refuse prices and levels where returns belong."""
    for metadata in inputs.metadata_of(y):
        if metadata.measure in ("price", "index", "quote"):
            raise UnitError(
                f"{metadata.name} holds levels ({metadata.measure}). Use its returns: returns({metadata.name})."
            )


def _refuse_dependent(names: list[str], columns: Floats) -> None:
    """Refuse a constant series, and a predictor that is a linear combination of others."""
    for name, column in zip(names, columns.T, strict=True):
        if not varies(column):
            raise EstimationError(f"{name} is constant. Use a series that varies.")
    apart = columns[:, 1:] - columns[:, 1:].mean(axis=0)
    unit = apart / np.linalg.norm(apart, axis=0)
    if np.linalg.matrix_rank(unit, tol=_DEPENDENT) < unit.shape[1]:
        raise EstimationError(
            f"Collinear predictors: one is a combination of the others ({', '.join(names[1:])}). Drop it."
        )


def _horizon(given: object, rows: int) -> int:
    """A horizon: an integer that the sample allows."""
    if isinstance(given, bool) or not isinstance(given, int | np.integer):
        raise EstimationError(f"horizons={given!r}: give whole numbers of periods, such as [1, 12].")
    if not 1 <= given <= rows // 3:
        raise EstimationError(f"horizons={given}: each must be from 1 to a third of the {rows} returns.")
    return int(given)


def _pairs(left: inputs.Observations, right: inputs.Observations) -> tuple[Floats, Floats, pd.Index]:
    """Returns, predictors one period before and at the end of each, over the longest stretch without gaps."""
    y, x = left.check_finite("y")[:, 0], right.check_finite("x")
    positions = time_positions(left.index)
    good: Bools = np.asarray(np.isfinite(x).all(axis=1))
    follows: Bools = np.asarray(np.diff(positions) == 1)
    follows &= good[:-1] & good[1:] & np.isfinite(y[1:])
    edges = np.flatnonzero(np.diff(np.concatenate([[0], follows.astype(int), [0]])))
    starts, stops = edges[::2], edges[1::2]
    longest = int(np.argmax(stops - starts)) if len(starts) else 0
    low, high = (int(starts[longest]), int(stops[longest])) if len(starts) else (0, 0)
    if high - low < _FEWEST:
        raise EstimationError(
            f"predictive_regression: {quantity(high - low, 'consecutive observation')} with all lagged "
            f"predictors; {_FEWEST} are needed. Use a longer sample without gaps."
        )
    lost = int(follows.sum()) - (high - low)
    if lost:
        warn_user(
            f"Gaps split the sample; {quantity(lost, 'return')} outside the longest stretch without gaps "
            "not used."
        )
    return y[low + 1 : high + 1], x[low : high + 1], left.index[low + 1 : high + 1]


def _row(returns: Floats, x: Floats, horizon: int) -> dict[str, float]:
    """All results for one predictor at one horizon."""
    slope = hodrick_1b(returns, x[:-1], horizon)
    row = {"slope": slope.value, "error": slope.error, "p": slope.p_value}
    nothing = dict.fromkeys(("corrected", "corrected_error", "corrected_p", "ivx_p"), np.nan)
    if horizon > 1:
        return {**row, **nothing, "rows": len(returns)}
    better, _ = correct_bias(returns, x)
    wald = ivx_wald(returns, x[:, None])[2]
    return {
        **row,
        "corrected": better.value,
        "corrected_error": better.error,
        "corrected_p": better.p_value,
        "ivx_p": float(scipy.special.chdtrc(1, wald)),
        "rows": len(returns),
    }


def _persistence(returns: Floats, x: Floats) -> dict[str, float]:
    """Autoregressive coefficient of a predictor, and the correlation of its shocks with returns."""
    _, root = correct_bias(returns, x)
    shocks = x[1:] - root * x[:-1]
    past = x[:-1] - x[:-1].mean()
    error = float(shocks.std(ddof=2) / np.sqrt(past @ past))
    return {"root": root, "root_se": error, "correlation": float(np.corrcoef(shocks, returns)[0, 1])}


def _warn_of_persistence(persistence: pd.DataFrame, one_period: bool) -> None:
    """Warn where only IVX has the correct size: the root is near one by more than its sampling error."""
    near = persistence["root"] - _ONE_SIDED * persistence["root_se"] > _NEAR_ONE
    for name, row in persistence[near & (persistence["correlation"].abs() > _CORRELATED)].iterrows():
        warn_user(
            f"{name} is near a unit root (autoregressive coefficient {row['root']:.2f}, standard error "
            f"{row['root_se']:.2f}) and its shocks are correlated with returns ({row['correlation']:.2f}): the "
            "1B and bias-corrected tests over-reject. "
            + ("Use ivx_p." if one_period else "Add 1 to horizons and use its ivx_p, or read the joint test.")
        )
