"""Tests of predictability on arrays: Hodrick's 1B, IVX, the bias correction, forecasts out of sample."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import scipy.special

from ultrum.core.array_types import Floats
from ultrum.core.regression.engine.newey_west import bartlett_weight

_IVX_POWER: Final = 0.95  # of the instrument's root 1 − 1/T^power (Kostakis, Magdalinos and Stamatogiannis 2015)


@dataclass(frozen=True)
class Slope:
    """A slope with its standard error and p value."""

    value: float
    error: float
    p_value: float

    @property
    def t(self) -> float:
        """Value over error; missing where the error is zero."""
        return self.value / self.error if self.error > 0 else float("nan")


def summed_conditions(condition: Floats, horizon: int) -> Floats:
    """Sum of the last ``horizon`` demeaned conditions at each time, zero before the sample.

    Examples
    --------
    >>> summed_conditions(np.array([1.0, 0.0, 0.0, 1.0]), 2).tolist()
    [0.5, 0.0, -1.0, 0.0]
    """
    centred = condition - condition.mean()
    total = np.cumsum(centred)
    return np.asarray(total - np.concatenate([np.zeros(horizon), total[:-horizon]]))


def hodrick_1b(returns: Floats, condition: Floats, horizon: int) -> Slope:
    """Slope of summed returns on a condition, with the 1B error of Hodrick (1992).

    b = Σ rₛ₊₁Cₛ/Sxx with Cₛ the sum of the last H demeaned conditions; error √Σ(rₛ₊₁ − r̄)²Cₛ²/Sxx.

    Parameters
    ----------
    returns : ndarray, shape (T,)
        rₛ₊₁, next to the condition known at s; missing where there is none.
    condition : ndarray, shape (T,)
    horizon : int
        Periods H of the summed return.
    """
    sums = summed_conditions(condition, horizon)
    spread = float(np.sum((condition - condition.mean()) ** 2))
    known = np.isfinite(returns)
    off = returns[known] - returns[known].mean()
    # over gaps the sums no longer cancel, so that the mean return must not enter
    value = float((returns if known.all() else off) @ sums[known]) / spread
    error = float(np.sqrt(np.sum(off**2 * sums[known] ** 2))) / spread
    t = abs(value) / error if error > 0 else np.nan
    return Slope(value, error, float(2.0 * scipy.special.ndtr(-t)))


def ivx_wald(returns: Floats, x: Floats) -> tuple[Floats, Floats, float]:
    """Coefficients, their covariance and the joint Wald statistic of IVX, with its small-sample correction.

    Parameters
    ----------
    returns : ndarray, shape (n,)
        y of each row, a period after ``x[:-1]``.
    x : ndarray, shape (n + 1, K)
        Predictors; row t is known before ``returns[t]``, and the last only gives its innovation.
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
    value = np.linalg.solve(cross.T, instruments.T @ (returns - returns.mean()))
    centre = instruments.mean(axis=0)
    middle = variance * instruments.T @ instruments - rows * adjusted * np.outer(centre, centre)
    inverse = np.linalg.inv(cross.T)
    spread = inverse @ middle @ inverse.T
    return value, spread, float(value @ np.linalg.solve(spread, value))


def _shocks_of(past: Floats, now: Floats) -> Floats:
    """Residuals of a first autoregression."""
    design = np.column_stack([np.ones(len(past)), past])
    return np.asarray(now - design @ np.linalg.lstsq(design, now, rcond=None)[0])


def bias_corrected(returns: Floats, x: Floats) -> tuple[Slope, float]:
    """Slope on one predictor without the bias of Stambaugh (1999), and the corrected autoregression.

    Amihud and Hurvich (2004): ρ̂ + (1 + 3ρ̂)/n + 3(1 + 3ρ̂)/n², and the shock of the predictor as a regressor; the
    error is √(φ²·Var(ρ) + Var(β)).
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
    own = float(rest @ rest) / (rows - 3) * np.linalg.inv(wide.T @ wide)[1, 1]
    growth = (1 + 3 / rows + 9 / rows**2) ** 2
    error = float(np.sqrt(slopes[2] ** 2 * growth * root_variance + own))
    value = float(slopes[1])
    p_value = float(2.0 * scipy.special.stdtr(rows - 3, -abs(value / error)))
    return Slope(value, error, p_value), corrected


@dataclass(frozen=True)
class OutOfSample:
    """Forecasts on past data alone, against the mean so far."""

    r2: float
    p_value: float
    count: int


def out_of_sample(returns: Floats, past: Floats, first: int) -> OutOfSample:
    """R² out of sample (Campbell and Thompson 2008) with the test of Clark and West (2007).

    Each forecast uses the rows before it, from row ``first`` on; p is one-sided, against no predictability.

    Parameters
    ----------
    returns : ndarray, shape (n,)
    past : ndarray, shape (n, K)
        What was known before each return.
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
