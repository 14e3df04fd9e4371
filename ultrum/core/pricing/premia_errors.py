"""Standard errors of premia: of means, over lags, for estimated betas, and by bootstrap."""

from __future__ import annotations

from typing import Final

import numpy as np

from ultrum.core.array_types import Floats, Ints
from ultrum.core.pricing.cross_sections import Exposure, cross_sections
from ultrum.core.regression.engine.bootstrap_draws import block_length, drawn_periods, row_counts
from ultrum.core.regression.engine.bootstrap_regression import drawn_coefficients
from ultrum.core.regression.engine.newey_west import bartlett_sum

_AT_ONCE: Final = 1 << 20  # numbers of the draws that are solved together


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
    rows = [periods[periods >= 0] for periods in drawn]
    numbers = returns.size * (factors.shape[1] + len(others) + int(constant) + 1)
    step = max(1, _AT_ONCE // numbers)
    means = [
        mean
        for first in range(0, draws, step)
        for mean in _drawn_premia(
            returns, rows[first : first + step], betas[first : first + step], others, constant
        )
    ]
    return np.atleast_2d(np.cov(np.array(means).T, ddof=1))


def _drawn_premia(
    returns: Floats, rows: list[Ints], betas: Floats, others: list[Exposure], constant: bool
) -> list[Floats]:
    """Mean slopes of some draws, whose cross-sections are solved together: each period has its draw's betas."""
    periods = np.concatenate(rows)
    lengths = list(map(len, rows))
    draw = np.repeat(np.arange(len(rows)), lengths)
    exposures = [
        *(Exposure(beta, draw) for beta in betas.transpose(2, 0, 1)),
        *(other.drawn(periods) for other in others),
    ]
    slopes = cross_sections(returns[periods], exposures, constant).slopes
    each_draw = np.split(slopes, np.cumsum(lengths)[:-1])
    return [part[np.isfinite(part).all(axis=1)].mean(axis=0) for part in each_draw]


def redrawn_betas(returns: Floats, factors: Floats, counts: Floats) -> Floats:
    """Betas (draws, N, K) of every draw; missing where an asset has too few rows in it."""
    design = np.column_stack([np.ones(len(factors)), factors])
    betas = drawn_coefficients(design, returns, counts, True)[1:].transpose(2, 1, 0)
    rows = counts @ np.isfinite(returns)
    betas[~(rows > 2 * design.shape[1])] = np.nan
    return betas
