"""Chow and Lin's (1971) regression of low-frequency values on high-frequency indicators."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ultrum.core.array_types import Floats
from ultrum.core.displayed_numbers import counted
from ultrum.errors import EstimationError

_EDGE: Final = 0.999


@dataclass(frozen=True)
class ChowLin:
    """High-frequency values, their standard errors, the coefficients and the autocorrelation."""

    values: Floats
    standard_errors: Floats
    coefficients: Floats
    rho: float


@dataclass(frozen=True)
class _Fitted:
    """Generalised least squares of the aggregates at one autocorrelation."""

    coefficients: Floats
    residuals: Floats  # whitened by the Cholesky factor
    factor: Floats
    r: Floats  # triangular factor of the whitened regressors
    covariance: Floats  # of high with low errors, over the variance


def chow_lin(low: Floats, regressors: Floats, aggregator: Floats, name: str) -> ChowLin:
    """Estimate high-frequency values from their aggregates.

    The errors follow u_t = ρu_{t−1} + e_t; ρ maximises the likelihood of the aggregates (Bournay and
    Laroque 1979), and β is by generalised least squares given ρ. The variance is divided by n − k.

    Parameters
    ----------
    low : ndarray, shape (n,)
    regressors : ndarray, shape (H, k)
    aggregator : ndarray, shape (n, H)
    name : str
        For messages.

    Raises
    ------
    EstimationError
        If there are no more low values than coefficients, or the indicator does not vary.
    """
    n, k = len(low), regressors.shape[1]
    import scipy.linalg  # slow to import, and needed by this method alone

    if n <= k + 1:
        raise EstimationError(f"{name} has {counted(n, 'value')}, too few for {counted(k, 'coefficient')} and ρ.")
    if np.linalg.matrix_rank(aggregator @ regressors) < k:
        raise EstimationError(f"{name}: the indicator does not vary; take how='denton'.")
    rho = _likeliest(low, regressors, aggregator)
    at = _fit(rho, low, regressors, aggregator)
    gain = scipy.linalg.cho_solve((at.factor, True), at.covariance.T).T
    missed = low - aggregator @ regressors @ at.coefficients
    values = regressors @ at.coefficients + gain @ missed
    values = values + gain @ (low - aggregator @ values)
    variance = float(at.residuals @ at.residuals) / (n - k)
    conditional = 1.0 / (1.0 - rho**2) - np.einsum("ij,ij->i", gain, at.covariance)
    spread = regressors - gain @ (aggregator @ regressors)
    shaped = scipy.linalg.solve_triangular(at.r, spread.T, trans="T")
    total = np.maximum(conditional, 0.0) + np.einsum("ij,ij->j", shaped, shaped)
    return ChowLin(values, np.sqrt(variance * total), at.coefficients, rho)


def _likeliest(low: Floats, regressors: Floats, aggregator: Floats) -> float:
    def _minus(rho: float) -> float:
        at = _fit(rho, low, regressors, aggregator)
        spread = max(float(at.residuals @ at.residuals) / len(low), np.finfo(float).tiny)
        return float(0.5 * len(low) * np.log(spread) + np.log(np.diag(at.factor)).sum())

    grid = np.tanh(np.linspace(-1.0, 1.0, 81) * np.arctanh(_EDGE))  # dense where it changes fast
    heights = [_minus(r) for r in grid]
    best = int(np.argmin(heights))
    low_edge, high_edge = grid[max(best - 1, 0)], grid[min(best + 1, len(grid) - 1)]
    import scipy.optimize  # slow to import, and needed here alone

    optimum = scipy.optimize.minimize_scalar(
        _minus, bounds=(low_edge, high_edge), method="bounded", options={"xatol": 1e-10}
    )
    return float(optimum.x if optimum.fun <= heights[best] else grid[best])


def _fit(rho: float, low: Floats, regressors: Floats, aggregator: Floats) -> _Fitted:
    import scipy.linalg

    lags = np.arange(aggregator.shape[1])
    kernel = scipy.linalg.toeplitz(rho**lags / (1.0 - rho**2))
    covariance = kernel @ aggregator.T
    factor = np.linalg.cholesky(aggregator @ covariance)
    x = scipy.linalg.solve_triangular(factor, aggregator @ regressors, lower=True)
    y = scipy.linalg.solve_triangular(factor, low, lower=True)
    q, r = np.linalg.qr(x)
    coefficients = scipy.linalg.solve_triangular(r, q.T @ y)
    return _Fitted(coefficients, y - x @ coefficients, factor, r, covariance)
