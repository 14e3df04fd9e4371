"""Standard errors of premia: of means, over lags, for estimated betas, and by bootstrap."""

from __future__ import annotations

import numpy as np

from ultrum.core.array_types import Floats, Ints
from ultrum.core.pricing.cross_sections import Exposure, cross_sections
from ultrum.core.regression.engine.bootstrap_draws import block_length, drawn_periods, row_counts
from ultrum.core.regression.engine.bootstrap_regression import drawn_coefficients
from ultrum.core.regression.engine.newey_west import bartlett_sum


def covariance_of_mean(slopes: Floats) -> Floats:
    """Covariance of mean slopes that are unrelated over time (Fama and MacBeth 1973)."""
    terms = slopes.shape[1]
    return np.cov(slopes.T, ddof=1).reshape(terms, terms) / len(slopes)


def newey_west_of_mean(slopes: Floats, places: Ints, depth: int) -> Floats:
    """Newey and West (1987) covariance of the mean slopes, lags counting periods."""
    rows = len(slopes)
    scores = (slopes - slopes.mean(axis=0)) / rows
    return np.asarray(bartlett_sum(scores, depth, places) * rows / (rows - 1))


def shanken(plain: Floats, mean: Floats, factors: Floats, constant: bool) -> Floats:
    """Shanken's (1992) covariance; the factors' own is padded with zeros for the constant."""
    first = int(constant)
    spread = np.atleast_2d(np.cov(factors.T, ddof=1))
    prices = mean[first:]
    c = float(prices @ np.linalg.solve(spread, prices))
    factor_covariance = np.zeros_like(plain)
    factor_covariance[first:, first:] = spread / len(factors)
    return np.asarray((1.0 + c) * (plain - factor_covariance) + factor_covariance)


def bootstrapped(
    returns: Floats,
    factors: Floats,
    others: list[Exposure],
    positions: Ints,
    constant: bool,
    draws: int,
    seed: int,
) -> Floats:
    """Covariance over draws of whole periods, in which betas and premia are both estimated again."""
    drawn = drawn_periods(positions, draws, block_length(factors), seed)
    betas = redrawn_betas(returns, factors, row_counts(drawn, len(factors)))
    means = []
    for periods, beta in zip(drawn, betas, strict=True):
        rows = periods[periods >= 0]
        exposures = [*(Exposure(b) for b in beta.T), *(o.drawn(rows) for o in others)]
        sections = cross_sections(returns[rows], exposures, constant)
        whole = np.isfinite(sections.slopes).all(axis=1)
        means.append(sections.slopes[whole].mean(axis=0))
    return np.atleast_2d(np.cov(np.array(means).T, ddof=1))


def redrawn_betas(returns: Floats, factors: Floats, counts: Floats) -> Floats:
    """Betas (draws, N, K) of every draw; missing where an asset has too few rows in it."""
    design = np.column_stack([np.ones(len(factors)), factors])
    betas = drawn_coefficients(design, returns, counts, True)[1:].transpose(2, 1, 0)
    rows = counts @ np.isfinite(returns)
    betas[~(rows > 2 * design.shape[1])] = np.nan
    return betas
