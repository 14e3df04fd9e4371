"""State-space (random-walk) betas, with bands that allow for the unknown variance ratio.

Given the ratio of the state variance to the noise variance, the rest is least squares: the initial beta and alpha
are regression coefficients of innovations, so their diffuse start needs no large number (de Jong 1991). The ratio
is averaged over a grid that includes zero, weighted by its likelihood and a half-Cauchy prior. All assets of a
block are filtered together.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.deprecated_names import RenamedAttribute
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import TableInNotebooks, quantity
from ultrum.core.pricing.factor_betas_and_shrinkage import chosen_factor
from ultrum.core.regression.inference import band_of
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.errors import EstimationError, count_parts

_ROUNDING: Final = 1e-10  # of the size of the returns
_LEAST_ROWS: Final = 24
_PRIOR_SCALE: Final = 0.09  # of the half-Cauchy prior on beta's step in units of noise over factor
_STEPS_OF_BETA: Final = np.concatenate([[0.0], np.geomspace(0.004, 4.0, 32)])  # in the same units
_SEARCH: Final = 20  # golden-section steps for the likeliest ratio
_GOLDEN: Final = (np.sqrt(5.0) - 1.0) / 2.0
_AT_ONCE: Final = 64  # assets in a block, which bounds the memory


@dataclass(frozen=True, eq=False, repr=False)
class FilteredBetas(TableInNotebooks):
    """Random-walk (state-space) betas by the Kalman filter and smoother.

    Attributes
    ----------
    beta, standard_error : DataFrame, shape (T, N)
        Smoothed: from the full sample, with hindsight. The standard error allows for the unknown variance ratio.
    filtered : DataFrame, shape (T, N)
        Filtered: the estimate for each date from the observations up to that date. Missing where there is no
        return, and before an asset has 24 observations.
    state_sd : Series, shape (N,)
        Maximum-likelihood standard deviation of the random-walk innovation σ_η, per period; zero where a
        constant beta is at least as likely.
    p_value : Series, shape (N,)
        Likelihood-ratio test of a constant beta (½χ²(1), since the null is on the boundary).
    alpha, sigma, nobs : Series, shape (N,)
    basis : str
    """

    beta: pd.DataFrame
    standard_error: pd.DataFrame
    filtered: pd.DataFrame
    state_sd: pd.Series
    p_value: pd.Series
    alpha: pd.Series
    sigma: pd.Series
    nobs: pd.Series
    basis: str
    known = RenamedAttribute("filtered")
    movement = RenamedAttribute("state_sd")

    def interval(self, asset: str, level: float = 0.95) -> pd.DataFrame:
        """Smoothed beta of one asset with its band, columns ``estimate low high``.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> ul.kalman_beta(panel).interval("BRTW").tail(2).round(2)
                 estimate   low  high
        period
        2024-11      0.64  0.15  1.13
        2024-12      0.64  0.14  1.14
        """
        df = float(self.nobs[asset] - 2) if asset in self.beta else 1.0
        return band_of(self.beta, self.standard_error, asset, level, df)

    def to_frame(self) -> pd.DataFrame:
        """One row per asset: first and last beta, last standard error, state SD, p value, alpha, sigma,
        observations.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> ul.kalman_beta(panel).to_frame().loc[["BRTW", "MRWG"]].round(2)
              first  last  error  state_sd    p  alpha  sigma  rows
        BRTW   0.74  0.64   0.25      0.00  1.0   0.00   0.06   251
        MRWG   0.43  1.87   0.44      0.08  0.0  -0.01   0.08   251
        """
        columns = {
            "first": self.beta.bfill().iloc[0],
            "last": self.beta.ffill().iloc[-1],
            "error": self.standard_error.ffill().iloc[-1],
            "state_sd": self.state_sd,
            "p": self.p_value,
            "alpha": self.alpha,
            "sigma": self.sigma,
            "rows": self.nobs,
        }
        return pd.DataFrame(columns)


@dataclass(frozen=True)
class _Pass:
    """One pass of the filter at a given ratio: arrays (T, N) for y, 1 and f."""

    ahead: Floats  # predicted state variance, over the noise
    after: Floats  # updated state variance
    state: Floats  # updated state of each column, (3, T, N)
    innovations: Floats  # (3, T, N)
    spread: Floats  # innovation variance


@dataclass(frozen=True)
class _Fit:
    """Filtered estimates at a given ratio: (T, N), coefficients (2, T, N)."""

    likelihood: Floats
    coefficients: Floats  # alpha, and beta at the start
    covariance: Floats  # (2, 2, T, N)
    variance: Floats  # of the noise


@dataclass(frozen=True)
class _Sample:
    """Rows on the calendar; missing values are zero and not used."""

    y: Floats
    x: Floats
    used: Bools

    @property
    def unit(self) -> Floats:
        """Standard deviation of the factor over each asset's first observations, (N,): it fixes the grid before
        any result.
        """
        early = self.used & (np.cumsum(self.used, axis=0) <= _LEAST_ROWS)
        return np.asarray(np.sqrt((early * self.x[:, None] ** 2).sum(axis=0) / early.sum(axis=0)))

    def deviations(self) -> Floats:
        """Standard deviation of the factor over the observations up to each row, (T, N)."""
        count = np.maximum(np.cumsum(self.used, axis=0), 1)
        moved = self.x - np.mean(self.x[self.x != 0.0][:_LEAST_ROWS])
        first = np.cumsum(self.used * moved[:, None], axis=0) / count
        second = np.cumsum(self.used * moved[:, None] ** 2, axis=0) / count
        return np.sqrt(np.maximum(second - first**2, 0.0))


@validate_arguments
def kalman_beta(panel: Panel, factor: str | None = None) -> FilteredBetas:
    """Random-walk beta by the Kalman filter and smoother: e = α + βₜf + ε, βₜ = βₜ₋₁ + η.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factor : str, optional
        Name of the factor; by default the only one of the panel, or ``market``.

    Returns
    -------
    FilteredBetas
        The band allows for the estimation error of alpha, of the initial beta and of the state's standard
        deviation.

    Raises
    ------
    EstimationError
        If no asset has 24 observations; an asset with fewer has missing estimates.

    Notes
    -----
    For each ratio r of the variances of η and ε the likelihood is that of contrasts (diffuse start, de Jong
    1991), with the noise variance concentrated out. Estimates are averaged over a grid of ratios, zero included,
    with weights from the likelihood and a half-Cauchy prior of scale 0.09 on √r times the factor's standard
    deviation; their variance is the mean variance plus the variance of the means. A normal approximation around
    the most likely ratio (Hamilton 1986) covers less and fails at zero. A missing period leaves the state
    unchanged and increases its variance.

    Examples
    --------
    >>> import ultrum as ul
    >>> made = kalman_beta(ul.practice.panel())
    >>> bool(made.p_value["MRWG"] < 0.01), bool(made.p_value["BRTW"] > 0.05)
    (True, True)
    """
    factor = chosen_factor(panel, factor)
    x = panel.factors[factor].to_numpy(dtype=np.float64)
    y = panel.excess.block
    used: Bools = np.asarray(np.isfinite(y) & np.isfinite(x)[:, None])
    counts = used.sum(axis=0)
    names = pd.Index(panel.excess.names)
    kept = counts >= _LEAST_ROWS
    if not kept.any():
        raise EstimationError(
            f"kalman_beta: no asset has {_LEAST_ROWS} observations, the minimum for a state-space beta. Use a "
            "longer sample."
        )
    if not kept.all():
        short = replace(panel, assets=panel.assets.loc[:, kept])
        return _with_missing(kalman_beta(short, factor), names, counts)
    positions = time_positions(panel.assets.index)
    places = positions - positions[0]
    sample = _on_calendar(np.where(used, y, 0.0), np.where(np.isfinite(x), x, 0.0), used, places)
    estimates = {name: np.empty(y.shape) for name in ("beta", "standard_error", "filtered")}
    flat = {name: np.empty(y.shape[1]) for name in ("state_sd", "p_value", "alpha", "sigma")}
    starts = range(0, y.shape[1], _AT_ONCE)
    for low in count_parts(starts, "kalman_beta, blocks of assets", len(starts)):
        block = slice(low, low + _AT_ONCE)
        part = _Sample(sample.y[:, block], sample.x, sample.used[:, block])
        paths, numbers = _estimate_paths(part)
        for name, path in paths.items():
            estimates[name][:, block] = path[places]
        for name, value in numbers.items():
            flat[name][block] = value
    size = np.sqrt(np.sum(np.where(used, y, 0.0) ** 2, axis=0) / counts)
    flat["p_value"][(flat["sigma"] <= _ROUNDING * size) | (size == 0)] = (
        np.nan
    )  # an exact fit has nothing to test
    rows = panel.assets.index
    return FilteredBetas(
        beta=pd.DataFrame(estimates["beta"], rows, names),
        standard_error=pd.DataFrame(estimates["standard_error"], rows, names),
        filtered=pd.DataFrame(estimates["filtered"], rows, names),
        state_sd=pd.Series(flat["state_sd"], names),
        p_value=pd.Series(flat["p_value"], names),
        alpha=pd.Series(flat["alpha"], names),
        sigma=pd.Series(flat["sigma"], names),
        nobs=pd.Series(counts, names),
        basis=f"random-walk beta on {factor}, Kalman smoother, averaged over the signal-to-noise ratio",
    )


def _on_calendar(y: Floats, x: Floats, used: Bools, places: Ints) -> _Sample:
    """The rows at their positions in time; periods in between are not used."""
    span = int(places[-1]) + 1
    rows, factor = np.zeros((span, y.shape[1])), np.zeros(span)
    there = np.zeros(rows.shape, dtype=bool)
    rows[places], factor[places], there[places] = y, x, used
    return _Sample(rows, factor, there)


def _with_missing(betas: FilteredBetas, names: pd.Index, counts: Ints) -> FilteredBetas:
    """The result extended by assets with too few observations, with missing estimates."""
    frames = {n: getattr(betas, n).reindex(columns=names) for n in ("beta", "standard_error", "filtered")}
    flat = {n: getattr(betas, n).reindex(names) for n in ("state_sd", "p_value", "alpha", "sigma")}
    short = int((counts < _LEAST_ROWS).sum())
    basis = f"{betas.basis}; {quantity(short, 'asset')} left out, with fewer than {_LEAST_ROWS} rows"
    return replace(betas, **frames, **flat, nobs=pd.Series(counts, names), basis=basis)


def _estimate_paths(sample: _Sample) -> tuple[dict[str, Floats], dict[str, Floats]]:
    """Paths (T, N) and statistics (N,) of a block of assets, averaged over the grid of ratios."""
    ratios = (_STEPS_OF_BETA[:, None] / sample.unit) ** 2
    passes = [_filter(sample, ratio) for ratio in ratios]
    fits = [_fit(sample, filter_pass) for filter_pass in passes]
    weights = _weights(sample, np.array([fit.likelihood for fit in fits]))
    rows, assets = sample.y.shape
    filtered, beta, square, alpha, variance = (np.zeros((rows, assets)) for _ in range(5))
    for filter_pass, fit, weight in zip(passes, fits, weights, strict=True):
        start = fit.coefficients[1]
        so_far = (
            start
            + filter_pass.state[0]
            - fit.coefficients[0] * filter_pass.state[1]
            - start * filter_pass.state[2]
        )
        filtered += weight * so_far
        smooth, error = _smooth(filter_pass, fit)
        beta += weight[-1] * smooth
        square += weight[-1] * (error**2 + smooth**2)
        alpha += weight * fit.coefficients[0]
        variance += weight * fit.variance
    seen = np.cumsum(sample.used, axis=0)
    inside = (seen > 0) & (np.cumsum(sample.used[::-1], axis=0)[::-1] > 0)
    error = np.sqrt(np.maximum(square - beta**2, 0.0))
    paths = {
        "beta": np.where(inside, beta, np.nan),
        "standard_error": np.where(inside, error, np.nan),
        "filtered": np.where(sample.used & (seen >= _LEAST_ROWS), filtered, np.nan),
    }
    likelihoods = np.array([fit.likelihood[-1] for fit in fits])
    state_sd, p_value = _likeliest(sample, ratios, likelihoods)
    numbers = {"state_sd": state_sd, "p_value": p_value, "alpha": alpha[-1], "sigma": np.sqrt(variance[-1])}
    return paths, numbers


def _weights(sample: _Sample, likelihoods: Floats) -> Floats:
    """Weight of each ratio given the observations up to each row, (G, T, N)."""
    middles = (_STEPS_OF_BETA[1:] + _STEPS_OF_BETA[:-1]) / 2.0
    edges = np.concatenate([[0.0], middles, [np.inf]])
    scale = sample.deviations() / sample.unit / _PRIOR_SCALE
    with np.errstate(invalid="ignore"):
        reach = np.arctan(np.where(scale > 0, scale, 1.0) * edges[:, None, None])
    prior = np.diff(reach, axis=0)
    best = likelihoods.max(axis=0)
    weights = prior * np.exp(likelihoods - best)
    return np.asarray(weights / weights.sum(axis=0))


def _likeliest(sample: _Sample, ratios: Floats, likelihoods: Floats) -> tuple[Floats, Floats]:
    """Most likely standard deviation of the state innovation, and the p value of zero (half of χ²(1), on the
    boundary).
    """
    best = likelihoods.argmax(axis=0)
    each = np.arange(likelihoods.shape[1])
    last = len(ratios) - 1
    low = np.log(ratios[np.maximum(best - 1, 1), each])
    high = np.log(ratios[np.minimum(np.maximum(best, 1) + 1, last), each])
    for _ in range(_SEARCH):
        left, right = high - _GOLDEN * (high - low), low + _GOLDEN * (high - low)
        better = _likelihood(sample, np.exp(left)) > _likelihood(sample, np.exp(right))
        low, high = np.where(better, low, left), np.where(better, right, high)
    ratio = np.exp((low + high) / 2.0)
    fit = _fit(sample, _filter(sample, ratio))
    gain = 2.0 * (fit.likelihood[-1] - likelihoods[0])
    moves = gain > 0
    state_sd = np.where(moves, np.sqrt(ratio * fit.variance[-1]), 0.0)
    p_value = np.where(moves, 0.5 * scipy.special.chdtrc(1, np.maximum(gain, 0.0)), 1.0)
    return state_sd, p_value


def _likelihood(sample: _Sample, ratio: Floats) -> Floats:
    """Log likelihood of the full sample at one ratio for each asset, (N,)."""
    return np.asarray(_fit(sample, _filter(sample, ratio)).likelihood[-1])


def _fit(sample: _Sample, filter_pass: _Pass) -> _Fit:
    """Alpha, initial beta and the likelihood of contrasts, from the observations up to each row."""
    used = sample.used
    weight = np.where(used, 1.0 / filter_pass.spread, 0.0)
    v, a, b = filter_pass.innovations

    def total(p: Floats, q: Floats) -> Floats:
        """Weighted products of two columns, cumulative over rows."""
        return np.cumsum(weight * p * q, axis=0)

    aa, ab, bb, av, bv, vv = (total(p, q) for p, q in ((a, a), (a, b), (b, b), (a, v), (b, v), (v, v)))
    free = np.maximum(np.cumsum(used, axis=0) - 2, 1)
    whole = aa * bb - ab * ab
    safe = np.where(whole > 0, whole, 1.0)
    alpha, start = (bb * av - ab * bv) / safe, (aa * bv - ab * av) / safe
    rest = vv - alpha * av - start * bv
    variance = np.maximum(rest, np.finfo(float).tiny) / free
    logs = np.cumsum(np.where(used, np.log(filter_pass.spread), 0.0), axis=0)
    likelihood = -0.5 * (free * np.log(variance) + logs + np.log(safe))
    covariance = np.array([[bb, -ab], [-ab, aa]]) / safe * variance
    return _Fit(likelihood, np.array([alpha, start]), covariance, variance)


def _filter(sample: _Sample, ratio: Floats) -> _Pass:
    """The filter applied to y, 1 and f at once, with a state that starts at zero."""
    y, x, used = sample.y, sample.x, sample.used
    rows, assets = y.shape
    columns = np.array([y, np.where(used, 1.0, 0.0), np.where(used, x[:, None], 0.0)])
    ahead, after, spread = np.empty((3, rows, assets))
    state, innovations = np.empty((2, 3, rows, assets))
    mean, variance = np.zeros((3, assets)), np.zeros(assets)
    for row in range(rows):
        if row:
            variance = variance + ratio
        f = columns[2, row]
        ahead[row] = variance
        spread[row] = 1.0 + f * f * variance
        innovations[:, row] = columns[:, row] - f * mean
        gain = variance * f / spread[row]
        mean = mean + gain * innovations[:, row]
        variance = variance / spread[row]
        after[row], state[:, row] = variance, mean
    return _Pass(ahead, after, state, innovations, spread)


def _smooth(filter_pass: _Pass, fit: _Fit) -> tuple[Floats, Floats]:
    """Smoothed beta of every row at one ratio, and its standard error."""
    state, spread = filter_pass.state.copy(), filter_pass.after.copy()
    with np.errstate(invalid="ignore", divide="ignore"):
        back = np.where(filter_pass.ahead[1:] > 0, filter_pass.after[:-1] / filter_pass.ahead[1:], 0.0)
    for row in range(len(spread) - 2, -1, -1):
        state[:, row] += back[row] * (state[:, row + 1] - filter_pass.state[:, row])
        spread[row] += back[row] ** 2 * (spread[row + 1] - filter_pass.ahead[row + 1])
    alpha, start = fit.coefficients[:, -1]
    beta = start + state[0] - alpha * state[1] - start * state[2]
    slant = np.array([-state[1], 1.0 - state[2]])
    outside = np.einsum("itn,ijn,jtn->tn", slant, fit.covariance[:, :, -1], slant)
    return beta, np.sqrt(np.maximum(spread, 0.0) * fit.variance[-1] + outside)
