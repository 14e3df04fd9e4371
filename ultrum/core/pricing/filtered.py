"""A beta that wanders: estimated by maximum likelihood in state space, with a smoothed band.

Given how fast beta moves, everything else is least squares: the level of beta at the start and alpha are
regression coefficients of innovations, so their unknown start needs no large number (de Jong 1991).
All assets go through the filter together.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import checked
from ultrum.core.labels import TableInNotebooks
from ultrum.core.panel import Panel
from ultrum.core.pricing.betas import chosen_factor
from ultrum.core.regression.inference import band_of
from ultrum.core.types import Bools, Floats, Ints
from ultrum.errors import EstimationError

_SLOWEST, _FASTEST, _GRID, _STEPS = -8.0, 1.0, 37, 40  # log10 of movement in one period over noise
_GOLDEN: Final = (np.sqrt(5.0) - 1.0) / 2.0
_LEAST_ROWS: Final = 24


@dataclass(frozen=True, eq=False, repr=False)
class FilteredBetas(TableInNotebooks):
    """Betas as random walks.

    Attributes
    ----------
    beta, standard_error : DataFrame, shape (T, N)
        Smoothed: from the whole sample, with hindsight.
    known : DataFrame, shape (T, N)
        Filtered: from the rows up to each, the movement estimated on the whole sample.
    movement : Series, shape (N,)
        Standard deviation of beta's change in a period; zero where none is found.
    p_value : Series, shape (N,)
        Of the likelihood ratio test that beta does not move (half of χ²(1), as it is on a boundary).
    alpha, sigma, nobs : Series, shape (N,)
    basis : str
    """

    beta: pd.DataFrame
    standard_error: pd.DataFrame
    known: pd.DataFrame
    movement: pd.Series
    p_value: pd.Series
    alpha: pd.Series
    sigma: pd.Series
    nobs: pd.Series
    basis: str

    def interval(self, asset: str, level: float = 0.95) -> pd.DataFrame:
        """Smoothed beta of one asset with its band, columns ``estimate low high``."""
        df = float(self.nobs[asset] - 2) if asset in self.beta else 1.0
        return band_of(self.beta, self.standard_error, asset, level, df)

    def to_frame(self) -> pd.DataFrame:
        """One row per asset: first and last beta, last error, movement, p value, alpha, sigma, rows."""
        columns = {
            "first": self.beta.bfill().iloc[0], "last": self.beta.ffill().iloc[-1],
            "error": self.standard_error.ffill().iloc[-1], "movement": self.movement, "p": self.p_value,
            "alpha": self.alpha, "sigma": self.sigma, "rows": self.nobs,
        }  # fmt: skip
        return pd.DataFrame(columns)

    def __repr__(self) -> str:
        return f"{self.to_frame().to_string(float_format='{:.4f}'.format)}\n{self.basis}"


@dataclass(frozen=True)
class _Filtered:
    """One pass of the filter at a given speed: everything by (T, N), three columns y, 1 and f."""

    ahead: Floats  # predicted state variance, over the noise
    after: Floats  # updated state variance
    state: Floats  # updated state of each column, (3, T, N)
    innovations: Floats  # (3, T, N)
    spread: Floats  # innovation variance


@checked
def filtered_beta(panel: Panel, factor: str = "market") -> FilteredBetas:
    """Beta as a random walk: e = α + βₜf + ε, βₜ = βₜ₋₁ + η, by maximum likelihood.

    Parameters
    ----------
    panel : Panel
    factor : str

    Returns
    -------
    FilteredBetas
        The band allows for the errors of alpha and of beta's start, and takes the movement as known.

    Raises
    ------
    EstimationError
        If no asset has 24 rows; one with fewer has missing estimates.

    Notes
    -----
    The likelihood is that of contrasts (diffuse start), concentrated for all but the ratio of the variances of
    η and ε, which is searched on a grid and then by golden section. A missing row leaves the state as it was.

    Examples
    --------
    >>> import ultrum as ul
    >>> made = filtered_beta(ul.practice.panel())
    >>> bool(made.p_value["MRWG"] < 0.01), bool(made.p_value["BRTW"] > 0.05)
    (True, True)
    """
    x = panel.factors[chosen_factor(panel, factor)].to_numpy(dtype=np.float64)
    y = panel.excess.block
    used: Bools = np.asarray(np.isfinite(y) & np.isfinite(x)[:, None])
    counts = used.sum(axis=0)
    names = pd.Index(panel.excess.names)
    kept = counts >= _LEAST_ROWS
    if not kept.any():
        raise EstimationError(f"No asset has the {_LEAST_ROWS} rows that a wandering beta needs.")
    if not kept.all():
        short = replace(panel, assets=panel.assets.loc[:, kept])
        return _with_missing(filtered_beta(short, factor), names, counts)
    x = np.where(np.isfinite(x), x, 0.0)
    y = np.where(used, y, 0.0)
    power = float(np.mean(x**2))
    speed = _fastest_likelihood(y, x, used, power)
    fixed = _likelihood(y, x, used, np.zeros(y.shape[1]))[0]
    moving, coefficients, covariance, variance = _likelihood(y, x, used, speed)
    still = moving <= fixed
    speed = np.where(still, 0.0, speed)
    _, coefficients, covariance, variance = _likelihood(y, x, used, speed)
    beta, error, known = _smoothed(y, x, used, speed, coefficients, covariance, variance)
    inside = np.cumsum(used, axis=0) > 0
    inside &= (
        np.cumsum(used[::-1], axis=0)[::-1] > 0
    )  # from the first to the last row with a return
    ratio = np.maximum(2.0 * (moving - fixed), 0.0)
    rows = panel.assets.index
    return FilteredBetas(
        beta=pd.DataFrame(np.where(inside, beta, np.nan), rows, names),
        standard_error=pd.DataFrame(np.where(inside, error, np.nan), rows, names),
        known=pd.DataFrame(np.where(inside, known, np.nan), rows, names),
        movement=pd.Series(np.sqrt(speed * variance), names),
        p_value=pd.Series(np.where(ratio > 0, 0.5 * scipy.special.chdtrc(1, ratio), 1.0), names),
        alpha=pd.Series(coefficients[0], names),
        sigma=pd.Series(np.sqrt(variance), names),
        nobs=pd.Series(counts, names),
        basis=f"{factor} beta as a random walk, maximum likelihood; smoothed; movement taken as known",
    )


def _with_missing(made: FilteredBetas, names: pd.Index, counts: Ints) -> FilteredBetas:
    """The same with assets that have too few rows, all their estimates missing."""
    frames = {
        n: getattr(made, n).reindex(columns=names) for n in ("beta", "standard_error", "known")
    }
    flat = {n: getattr(made, n).reindex(names) for n in ("movement", "p_value", "alpha", "sigma")}
    short = int((counts < _LEAST_ROWS).sum())
    basis = f"{made.basis}; {short} assets with fewer than {_LEAST_ROWS} rows are missing"
    return replace(made, **frames, **flat, nobs=pd.Series(counts, names), basis=basis)


def _fastest_likelihood(y: Floats, x: Floats, used: Bools, power: float) -> Floats:
    """The ratio of variances with the largest likelihood, for each asset."""
    grid = np.linspace(_SLOWEST, _FASTEST, _GRID)
    assets = y.shape[1]
    found = np.array([_likelihood(y, x, used, np.full(assets, 10.0**g / power))[0] for g in grid])
    best = found.argmax(axis=0)
    low, high = grid[np.maximum(best - 1, 0)], grid[np.minimum(best + 1, _GRID - 1)]
    for _ in range(_STEPS):
        left, right = high - _GOLDEN * (high - low), low + _GOLDEN * (high - low)
        better = (
            _likelihood(y, x, used, 10.0**left / power)[0]
            > _likelihood(y, x, used, 10.0**right / power)[0]
        )
        low, high = np.where(better, low, left), np.where(better, right, high)
    return np.asarray(10.0 ** ((low + high) / 2.0) / power)


def _likelihood(
    y: Floats, x: Floats, used: Bools, speed: Floats
) -> tuple[Floats, Floats, Floats, Floats]:
    """Log likelihood of contrasts, (α, β at the start) (2,N), their covariance (2,2,N), noise variance (N,)."""
    made = _filter(y, x, used, speed)
    weight = np.where(used, 1.0 / made.spread, 0.0)
    v, a, b = made.innovations
    aa, ab, bb = (np.sum(weight * p * q, axis=0) for p, q in ((a, a), (a, b), (b, b)))
    av, bv = np.sum(weight * a * v, axis=0), np.sum(weight * b * v, axis=0)
    whole = aa * bb - ab * ab
    alpha, start = (bb * av - ab * bv) / whole, (aa * bv - ab * av) / whole
    rest = v - alpha * a - start * b
    free = used.sum(axis=0) - 2
    variance = np.sum(weight * rest * rest, axis=0) / free
    logs = np.sum(np.where(used, np.log(made.spread), 0.0), axis=0)
    likelihood = -0.5 * (free * np.log(variance) + logs + np.log(whole))
    covariance = np.array([[bb, -ab], [-ab, aa]]) / whole * variance
    return likelihood, np.array([alpha, start]), covariance, variance


def _filter(y: Floats, x: Floats, used: Bools, speed: Floats) -> _Filtered:
    """The filter on y, 1 and f at once, of a state that starts at zero."""
    rows, assets = y.shape
    columns = np.array([y, np.where(used, 1.0, 0.0), np.where(used, x[:, None], 0.0)])
    ahead, after, spread = np.empty((3, rows, assets))
    state, innovations = np.empty((2, 3, rows, assets))
    mean, variance = np.zeros((3, assets)), np.zeros(assets)
    for row in range(rows):
        if row:
            variance = variance + speed
        f = np.where(used[row], x[row], 0.0)
        ahead[row] = variance
        spread[row] = 1.0 + f * f * variance
        innovations[:, row] = columns[:, row] - f * mean
        gain = variance * f / spread[row]
        mean = mean + gain * innovations[:, row]
        variance = variance / spread[row]
        after[row], state[:, row] = variance, mean
    return _Filtered(ahead, after, state, innovations, spread)


def _smoothed(
    y: Floats,
    x: Floats,
    used: Bools,
    speed: Floats,
    coefficients: Floats,
    covariance: Floats,
    variance: Floats,
) -> tuple[Floats, Floats, Floats]:
    """Beta of every row from the whole sample, its error, and beta from the rows up to it."""
    made = _filter(y, x, used, speed)
    rows = len(y)
    state, spread = made.state.copy(), made.after.copy()
    for row in range(rows - 2, -1, -1):
        with np.errstate(invalid="ignore", divide="ignore"):
            back = np.where(made.ahead[row + 1] > 0, made.after[row] / made.ahead[row + 1], 0.0)
        state[:, row] += back * (state[:, row + 1] - made.state[:, row])
        spread[row] += back**2 * (spread[row + 1] - made.ahead[row + 1])
    alpha, start = coefficients
    beta = start + state[0] - alpha * state[1] - start * state[2]
    known = start + made.state[0] - alpha * made.state[1] - start * made.state[2]
    slant = np.array([-state[1], 1.0 - state[2]])
    outside = np.einsum("itn,ijn,jtn->tn", slant, covariance, slant)
    return beta, np.sqrt(np.maximum(spread, 0.0) * variance + outside), known
