"""Standard errors of two-pass risk premia: Newey–West, Shanken, misspecification-robust, bootstrap."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import scipy.linalg
import scipy.special

from ultrum.core.array_types import Floats, Ints
from ultrum.core.pricing.cross_sections import Exposure, cross_sections
from ultrum.core.regression.engine.covariance_and_bootstrap import (
    block_length,
    drawn_coefficients,
    drawn_periods,
    row_counts,
)
from ultrum.core.regression.engine.least_squares import combinations_among, row_weights
from ultrum.core.regression.engine.newey_west_and_fixed_b import bartlett_sum
from ultrum.core.regression.inputs import same_rows
from ultrum.errors import EstimationError, count_parts

_AT_ONCE: Final = 1 << 20  # numbers of the draws that are solved together


def covariance_of_mean(slopes: Floats) -> Floats:
    """Covariance of mean slopes that are uncorrelated over time (Fama and MacBeth 1973)."""
    terms = slopes.shape[1]
    return np.cov(slopes.T, ddof=1).reshape(terms, terms) / len(slopes)


def newey_west_of_mean(slopes: Floats, places: Ints, depth: int) -> Floats:
    """Newey and West (1987) covariance of the mean slopes, lags counting periods."""
    rows = len(slopes)
    scores = (slopes - slopes.mean(axis=0)) / rows
    return np.asarray(bartlett_sum(scores, depth, places) * rows / (rows - 1))


def shanken(plain: Floats, mean: Floats, factors: Floats, constant: bool) -> Floats:
    """Shanken (1992) covariance; that of the factors is padded with zeros for the constant."""
    first = int(constant)
    spread = np.atleast_2d(np.cov(factors.T, ddof=1))
    prices = mean[first:]
    c = float(prices @ np.linalg.solve(spread, prices))
    factor_covariance = np.zeros_like(plain)
    factor_covariance[first:, first:] = spread / len(factors)
    return np.asarray((1.0 + c) * (plain - factor_covariance) + factor_covariance)


def bootstrap_covariance(
    returns: Floats,
    factors: Floats,
    others: list[Exposure],
    positions: Ints,
    constant: bool,
    draws: int,
    seed: int,
) -> Floats:
    """Covariance over draws of whole periods, with betas and premia estimated again in each."""
    drawn = drawn_periods(positions, draws, block_length(factors), seed)
    betas = redrawn_betas(returns, factors, row_counts(drawn, len(factors)))
    rows = [periods[periods >= 0] for periods in drawn]
    numbers = returns.size * (factors.shape[1] + len(others) + int(constant) + 1)
    step = max(1, _AT_ONCE // numbers)
    means = [
        mean
        for first in count_parts(range(0, draws, step), "two_pass, blocks of draws", -(-draws // step))
        for mean in _drawn_premia(
            returns, rows[first : first + step], betas[first : first + step], others, constant
        )
    ]
    return np.atleast_2d(np.cov(np.array(means).T, ddof=1))


def _drawn_premia(
    returns: Floats, rows: list[Ints], betas: Floats, others: list[Exposure], constant: bool
) -> list[Floats]:
    """Mean slopes of some draws, whose cross-sections are solved together with the betas of the draw."""
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
    """Betas (draws, N, K) of every draw; missing where an asset has too few observations in it."""
    design = np.column_stack([np.ones(len(factors)), factors])
    betas = drawn_coefficients(design, returns, counts, True)[1:].transpose(2, 1, 0)
    rows = counts @ np.isfinite(returns)
    betas[~(rows > 2 * design.shape[1])] = np.nan
    return betas


# Two-pass estimates on a balanced panel: errors that allow for misspecification, identification, robust sets

_POINTS: Final = 200  # of a premium, at which the room for the factor's mean is looked at
_FEWEST_ROWS: Final = 24  # observations of an asset in the test of equal betas
_LEAST_FREE: Final = 1e-6  # one less the leverage
_ROUNDING: Final = 1e-20  # of a variance


@dataclass(frozen=True)
class RobustPremia:
    """Premia (p,), covariance (p, p), cross-sectional R² with its standard error, slopes (T, p), predicted means
    (N,).
    """

    premia: Floats
    covariance: Floats
    r2: float
    r2_error: float
    slopes: Floats
    predicted: Floats


def misspecification_robust(
    R: Floats, F: Floats, gls: bool, lags: int, positions: Ints | None = None
) -> RobustPremia:
    """Two-pass premia with Kan–Robotti–Shanken (2013) standard errors.

    hₜ = (γₜ − γ) − (φₜ − φ)wₜ + Hzₜ, by GLS less (γₜ − γ)uₜ; uₜ = e'W(Rₜ − μ), wₜ = γ₁'Vf⁻¹(fₜ − f̄),
    zₜ = (0, uₜVf⁻¹(fₜ − f̄)), φₜ = γₜ − (0, fₜ), H = (X'WX)⁻¹ and e the pricing errors.

    Parameters
    ----------
    R, F : ndarray, shape (T, N) and (T, K)
        Excess returns and factors, without missing values.
    gls : bool
        Whether to weight by the inverse covariance of returns.
    lags : int
        Lags of hₜ; zero for none.
    positions : ndarray of int, shape (T,), optional
        Period of each observation, so that lags count periods.
    """
    rows, section = len(R), _CrossSection.of(R, F, gls)
    phi = section.moves - np.column_stack([np.zeros(rows), section.f])
    z = np.column_stack([np.zeros(rows), section.u[:, None] * section.scaled])
    h = section.moves - phi * section.w[:, None] + z @ section.H
    if gls:
        h = h - section.moves * section.u[:, None]
    scale = rows / (rows - section.X.shape[1])
    covariance = bartlett_sum(h - h.mean(axis=0), lags, positions) / rows**2 * scale
    r2, influence = _r2_and_influence(
        section.mean, section.off, section.W, section.error, section.u, section.w, gls
    )
    r2_error = float(np.sqrt(bartlett_sum(influence[:, None], lags, positions)[0, 0])) / rows
    return RobustPremia(
        section.premia, np.asarray(covariance), r2, r2_error, R @ section.A.T, section.X @ section.premia
    )


@dataclass(frozen=True)
class _CrossSection:
    """One regression of mean returns on betas, with the series of Kan, Robotti and Shanken (2013)."""

    mean: Floats
    off: Floats
    f: Floats
    X: Floats
    W: Floats
    H: Floats
    A: Floats
    premia: Floats
    moves: Floats
    error: Floats
    u: Floats
    scaled: Floats
    w: Floats

    @classmethod
    def of(cls, R: Floats, F: Floats, gls: bool) -> _CrossSection:
        """From excess returns (T, N) and factors (T, K)."""
        rows = len(R)
        mean, off, f = R.mean(axis=0), R - R.mean(axis=0), F - F.mean(axis=0)
        spread = f.T @ f / rows
        beta = np.linalg.solve(spread, f.T @ off / rows).T
        X = np.column_stack([np.ones(R.shape[1]), beta])
        W = np.linalg.inv(off.T @ off / rows) if gls else np.eye(R.shape[1])
        H = np.linalg.inv(X.T @ W @ X)
        A = H @ X.T @ W
        premia = A @ mean
        error = mean - X @ premia
        scaled = f @ np.linalg.inv(spread)
        return cls(
            mean, off, f, X, W, H, A, premia, off @ A.T, error, off @ W @ error, scaled, scaled @ premia[1:]
        )


def _r2_and_influence(
    mean: Floats, off: Floats, W: Floats, error: Floats, u: Floats, w: Floats, gls: bool
) -> tuple[float, Floats]:
    """R² = 1 − e'We/e₀'We₀ and the influence of each observation, valid where R² is neither zero nor one."""
    ones = np.ones(len(mean))
    plain = mean - ones * (ones @ W @ mean) / (ones @ W @ ones)
    total, left = float(plain @ W @ plain), float(error @ W @ error)
    r2, y, v = 1.0 - left / total, 1.0 - w, off @ W @ plain
    n = -2.0 * u * y + 2.0 * (1.0 - r2) * v
    if gls:
        n = n + u**2 - (1.0 - r2) * v**2
    return r2, (n - n.mean()) / total


def cross_sectional_fit(R: Floats, F: Floats, gls: bool) -> tuple[float, Floats]:
    """R² of mean returns on betas and a constant, and the influence of each observation on it, (T,).

    Parameters
    ----------
    R, F : ndarray, shape (T, N) and (T, K)
        Excess returns and factors, without missing values.
    gls : bool
        Whether to weight by the inverse covariance of returns.
    """
    section = _CrossSection.of(R, F, gls)
    return _r2_and_influence(section.mean, section.off, section.W, section.error, section.u, section.w, gls)


@dataclass(frozen=True)
class EqualBetasTest:
    """Test that some combination of the factors has the same beta for every asset.

    Attributes
    ----------
    statistic, df : float
        A χ² statistic and its degrees of freedom, which need not be whole.
    p_value : float
    weakest : ndarray, shape (K,)
        The combination of standardised factors.
    assets : int
        Assets in the test.
    """

    statistic: float
    df: float
    p_value: float
    weakest: Floats
    assets: int


def equal_betas_test(R: Floats, F: Floats, constant: bool = True) -> EqualBetasTest | None:
    """Test of equal betas, which identifies a weak factor; of zero betas for cross-sections without a constant.

    S = Σ(β̂ᵢ − β̄)²/vᵢ with HC3 variances vᵢ and β̄ weighted by 1/vᵢ; S/g is compared with χ²(h), g = tr C²/tr C
    and h = (tr C)²/tr C², where C is the correlation matrix of the HC3 scores less its weighted mean (two moments
    of a quadratic form, Satterthwaite 1946). No matrix of assets is inverted. Of several factors the combination
    with the smallest generalised eigenvalue of the betas against their variances is tested.

    Parameters
    ----------
    R, F : ndarray, shape (T, N) and (T, K)
        Excess returns, missing where an asset has none, and factors without missing values.
    constant : bool
        Whether the cross-sections have a constant.

    Returns
    -------
    EqualBetasTest, or None if fewer than K + 2 assets have 24 observations.
    """
    factors = F.shape[1]
    f = (F - F.mean(axis=0)) / F.std(axis=0)
    present = np.isfinite(R)
    assets = np.flatnonzero(present.sum(axis=0) >= max(_FEWEST_ROWS, 3 * (factors + 1)))
    if len(assets) < factors + 2:
        return None
    betas, scores = np.zeros((len(assets), factors)), np.zeros((factors, len(F), len(assets)))
    for columns in same_rows(present[:, assets]):
        rows = np.flatnonzero(present[:, assets[columns[0]]])
        design = np.column_stack([np.ones(len(rows)), f[rows]])
        weights = row_weights(design)
        y = R[np.ix_(rows, assets[columns])]
        leverage = np.sum(design.T * weights, axis=0)
        residuals = (y - design @ (weights @ y)) / np.maximum(1.0 - leverage, _LEAST_FREE)[:, None]
        betas[columns] = (weights[1:] @ y).T
        scores[np.ix_(np.arange(factors), rows, columns)] = weights[1:, :, None] * residuals
    x = _weakest_combination(betas, np.einsum("ktn,ltn->kl", scores, scores), constant)
    b, s = betas @ x, np.tensordot(x, scores, axes=1)
    v = np.sum(s**2, axis=0)
    kept = v > _ROUNDING * (b**2 + np.median(b**2))  # a perfect fit has no error
    if kept.sum() < factors + 2:
        return None
    b, v, z = b[kept], v[kept], s[:, kept] / np.sqrt(v[kept])
    if constant:
        b = b - np.average(b, weights=1.0 / v)
        direction = 1.0 / np.sqrt(v)
        direction /= np.linalg.norm(direction)
        z = z - np.outer(z @ direction, direction)
    trace, squares = float(np.sum(z**2)), _gram_norm(z)
    df = trace**2 / squares
    statistic = float(np.sum(b**2 / v)) * trace / squares
    return EqualBetasTest(statistic, df, float(scipy.special.chdtrc(df, statistic)), x, int(kept.sum()))


def _weakest_combination(betas: Floats, variances: Floats, constant: bool) -> Floats:
    """The combination whose betas differ least between assets against their variances, of unit length."""
    if betas.shape[1] == 1:
        return np.ones(1)
    apart = betas - betas.mean(axis=0) if constant else betas
    weakest = scipy.linalg.eigh(apart.T @ apart, variances)[1][:, 0]
    return np.asarray(weakest / np.linalg.norm(weakest))


def _gram_norm(z: Floats) -> float:
    """Sum of the squares of z'z, from the smaller of z'z and zz'."""
    gram = z @ z.T if z.shape[0] < z.shape[1] else z.T @ z
    return float(np.sum(gram**2))


def robust_sets(R: Floats, F: Floats, level: float) -> list[list[tuple[float, float]]]:
    """Identification-robust confidence sets of the premia (Kleibergen and Zhan 2020).

    The factor Anderson–Rubin statistic at each value, with the other premia free: T·α'Σ⁻¹α/(1 + μ'Vf⁻¹μ) with α =
    r̄ − Bμ of returns less one asset's, plus T(μₖ − λₖ)²/Vₖₖ for the sample mean of the factor, on N − K degrees
    of freedom. Each set is a list of intervals: one, two half-lines, the whole line, or none. They assume that
    the model prices the assets.

    Parameters
    ----------
    R, F : ndarray, shape (T, N) and (T, K)
    level : float
        Confidence level, between 0 and 1.
    """
    rows, factors = F.shape
    apart, f = R[:, 1:] - R[:, :1], F - F.mean(axis=0)
    mean, off = apart.mean(axis=0), apart - apart.mean(axis=0)
    spread = f.T @ f / rows
    beta = np.linalg.solve(f.T @ f, f.T @ off).T
    left = off - f @ beta.T
    free = rows - apart.shape[1] - factors
    if free < 1:
        return [[(-np.inf, np.inf)]] * factors
    if len(combinations_among(left, np.linalg.norm(apart, axis=0))):
        raise EstimationError("robust_sets: an asset is a factor or a combination of others. Drop such assets.")
    sides = np.column_stack([mean, -beta])
    distance = sides.T @ np.linalg.solve(left.T @ left / rows, sides)
    scale = scipy.linalg.block_diag(1.0, np.linalg.inv(spread))
    q = apart.shape[1] - factors + 1
    critical = float(scipy.special.fdtri(q, free, level)) * q / free
    return [_widen_set(distance, scale, critical, k + 1, float(np.sqrt(spread[k, k]))) for k in range(factors)]


def _project_set(middle: Floats, which: int) -> list[tuple[float, float]]:
    """Values of one premium for which (1, μ)M(1, μ)' ≤ 0 at some value of the others."""
    kept = [0, which]
    others = [k for k in range(1, len(middle)) if k != which]
    small = middle[np.ix_(kept, kept)]
    if others:
        block = middle[np.ix_(others, others)]
        if np.linalg.eigvalsh(block).min() <= 0:  # some direction of the others is unbounded
            return [(-np.inf, np.inf)]
        cross = middle[np.ix_(kept, others)]
        small = small - cross @ np.linalg.solve(block, cross.T)
    a, b, c = float(small[1, 1]), float(small[0, 1]), float(small[0, 0])
    root = b * b - a * c
    if a > 0:
        return [] if root < 0 else [((-b - np.sqrt(root)) / a, (-b + np.sqrt(root)) / a)]
    if root < 0 or a == 0:
        return [(-np.inf, np.inf)]
    low, high = sorted(((-b - np.sqrt(root)) / a, (-b + np.sqrt(root)) / a))
    return [(-np.inf, low), (high, np.inf)]


def _widen_set(
    distance: Floats, scale: Floats, critical: float, which: int, deviation: float
) -> list[tuple[float, float]]:
    """The projected set, with each end shifted by the sampling range of the factor's mean."""
    ends = _project_set(distance - critical * scale, which)
    moved = []
    reach = 2.0 * deviation * np.sqrt(critical)  # no end moves farther
    for number, (low, high) in enumerate(ends):
        upper, lower = high, low
        if np.isfinite(high):
            points = np.linspace(max(low, high - reach), high, _POINTS)
            gain = _room(distance, scale, critical, which, points) * deviation
            upper = float((points + gain).max())
        if np.isfinite(low):
            points = np.linspace(low, min(ends[number][1], low + reach), _POINTS)
            gain = _room(distance, scale, critical, which, points) * deviation
            lower = float((points - gain).min())
        moved.append((lower, upper))
    if len(moved) == 2 and moved[0][1] >= moved[1][0]:
        return [(-np.inf, np.inf)]
    return moved


def _room(distance: Floats, scale: Floats, critical: float, which: int, points: Floats) -> Floats:
    """√(critical − smallest statistic) at values of one premium, minimised over the others; zero where there is
    none.
    """
    others = [k for k in range(1, len(distance)) if k != which]
    base = np.zeros((len(points), len(distance), 1 + len(others)))
    base[:, 0, 0], base[:, which, 0] = 1.0, points
    for column, other in enumerate(others, start=1):
        base[:, other, column] = 1.0
    across = base.swapaxes(1, 2)
    root = np.linalg.inv(np.linalg.cholesky(across @ scale @ base))
    smallest = np.linalg.eigvalsh(root @ (across @ distance @ base) @ root.swapaxes(1, 2))[:, 0]
    return np.asarray(np.sqrt(np.maximum(critical - smallest, 0.0)))
