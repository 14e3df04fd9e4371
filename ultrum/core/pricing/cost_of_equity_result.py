"""The result of a cost of equity: value, standard error, components, bootstrap intervals."""

from __future__ import annotations

import functools
import textwrap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.array_types import Floats, Ints
from ultrum.core.presentation import TextInNotebooks
from ultrum.core.pricing.premium import Premium, histories_of
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import (
    block_length,
    drawn_coefficients,
    drawn_periods,
    errors_in_words,
    row_counts,
)
from ultrum.core.regression.inference import mixture_quantile, t_quantile
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.workings import Workings
from ultrum.core.workings_of_results import cost_workings
from ultrum.errors import EstimationError, UnitError, count_parts, one_of

_AT_ONCE: Final = 1 << 22  # counts of rows held at a time
_POINTS: Final = 256  # premia at which the conditional distribution of a cost is averaged
_PROBABILITIES_AT_ONCE: Final = 1 << 20


@dataclass(frozen=True)
class CostEstimates:
    """The estimates that a cost of equity multiplies, with their uncertainty.

    Attributes
    ----------
    beta : ndarray, shape (N, K)
    covariance : ndarray, shape (N, K, K)
    df : ndarray, shape (N,)
        Degrees of freedom of the betas.
    prices, spread : ndarray, shape (K,) and (K, K)
        Premia and their covariance.
    prices_df : float
        Degrees of freedom of the premia.
    base, base_error : float
        Risk-free rate and additional premia, and their standard error.
    """

    beta: Floats
    covariance: Floats
    df: Floats
    prices: Floats
    spread: Floats
    prices_df: float
    base: float
    base_error: float

    def quantiles(self, shares: Sequence[float]) -> Floats:
        """Quantiles of the distribution of the product of betas and premia, (shares, N).

        Given the premia λ, the cost is Student's t around base + β̂'λ with variance λ'Vβλ + the variance of the
        rate; its distribution function is averaged over premia drawn evenly from theirs, and inverted.
        """
        out = np.full((len(shares), len(self.beta)), np.nan)
        if not np.isfinite(self.spread).all():
            return out
        premia = self._premia()
        known = np.flatnonzero(np.isfinite(self.beta).all(axis=1) & np.isfinite(self.covariance).all(axis=(1, 2)))
        step = max(1, _PROBABILITIES_AT_ONCE // len(premia))
        for low in range(0, len(known), step):
            some = known[low : low + step]
            centre = self.base + self.beta[some] @ premia.T
            variance = np.einsum("mk,nkl,ml->nm", premia, self.covariance[some], premia) + self.base_error**2
            for row, share in enumerate(shares):
                out[row, some] = mixture_quantile(
                    share, centre, np.sqrt(np.maximum(variance, 0.0)), self.df[some]
                )
        return out

    def _premia(self) -> Floats:
        """Premia spread evenly over their Student's t distribution, (M, K); one row if they are known."""
        if not self.spread.any():
            return self.prices[None, :]
        count = len(self.prices)
        if count == 1:
            even = (np.arange(_POINTS) + 0.5) / _POINTS
            normal = scipy.special.stdtrit(self.prices_df, even) if self.finite else scipy.special.ndtri(even)
            return np.asarray(self.prices + np.sqrt(self.spread[0, 0]) * normal[:, None])
        even = _even_points(4 * _POINTS, count + self.finite)
        half = scipy.special.ndtri(even[:, :count])
        half = np.linalg.solve(np.linalg.cholesky(half.T @ half / len(half)), half.T).T  # exact second moments
        if self.finite:
            half *= np.sqrt(self.prices_df / scipy.special.chdtri(self.prices_df, even[:, -1:]))
        return np.asarray(self.prices + np.concatenate([half, -half]) @ _root(self.spread).T)

    @property
    def finite(self) -> bool:
        """Whether the premia have finite degrees of freedom."""
        return bool(np.isfinite(self.prices_df))


def _even_points(count: int, dimensions: int) -> Floats:
    """Points that fill the unit cube evenly: an additive recurrence by powers of a generalised golden ratio."""
    ratio = 2.0
    for _ in range(64):
        ratio = (1.0 + ratio) ** (1.0 / (dimensions + 1))
    steps = ratio ** -np.arange(1.0, dimensions + 1)
    return np.asarray((0.5 + np.arange(1, count + 1)[:, None] * steps) % 1.0)


@dataclass(frozen=True)
class CostBootstrap:
    """The stationary block bootstrap of a cost of equity, computed on first use.

    Attributes
    ----------
    betas : BetaTable
    factors : sequence of str
    premia : mapping of str to Premium
        Premia with a history are resampled from it, with the rows of the betas where both have the same rows; the
        others are drawn from a normal distribution with ``spread``.
    prices, spread : ndarray, shape (K,) and (K, K)
        Premia and their covariance.
    base, base_error : float
        Risk-free rate and additional premia, and their standard error.
    draws, seed : int
    """

    betas: BetaTable
    factors: Sequence[str]
    premia: Mapping[str, Premium]
    prices: Floats
    spread: Floats
    base: float
    base_error: float
    draws: int
    seed: int

    def costs(self) -> Floats:
        """Costs of equity of every draw, (draws, N)."""
        return _drawn_costs(**vars(self))


def _drawn_costs(
    betas: BetaTable,
    factors: Sequence[str],
    premia: Mapping[str, Premium],
    prices: Floats,
    spread: Floats,
    base: float,
    base_error: float,
    draws: int,
    seed: int,
) -> Floats:
    generator = np.random.default_rng(seed)
    design = betas.design.to_numpy(dtype=np.float64)
    whole = np.isfinite(design).all(axis=1)
    response = betas.response.to_numpy(dtype=np.float64)
    histories = {k: p.influence for k, p in premia.items() if p.influence is not None}
    rows = betas.design.index[whole]
    positions = time_positions(rows)
    shared = all(h.index.equals(rows) for h in histories.values())
    chunks = max(1, -(-draws * len(rows) // _AT_ONCE))
    costs = []
    sizes = [len(part) for part in np.array_split(np.arange(draws), chunks)]
    for size in count_parts(sizes, "cost_of_equity, blocks of draws", chunks):
        counts = _counts(design[whole], positions, size, generator)
        lam = _drawn_premia(factors, histories, prices, spread, size, generator, counts if shared else None)
        drawn = drawn_coefficients(design[whole], response[whole], counts, CONSTANT in betas.design)
        where = [int(w) for w in betas.design.columns.get_indexer(pd.Index(factors))]
        noise = base_error * generator.standard_normal((size, 1))
        costs.append(base + noise + sum(drawn[w].T * lam[:, [k]] for k, w in enumerate(where)))
    return np.concatenate(costs)


def _counts(block: Floats, positions: Ints, draws: int, generator: np.random.Generator) -> Floats:
    """How often each row is drawn; the block length suits the most persistent column."""
    moving = block[:, np.ptp(block, axis=0) > 0]
    drawn = drawn_periods(positions, draws, block_length(moving), generator)
    return row_counts(drawn, len(block))


def _drawn_premia(
    factors: Sequence[str],
    histories: Mapping[str, pd.Series],
    prices: Floats,
    spread: Floats,
    draws: int,
    generator: np.random.Generator,
    counts: Floats | None,
) -> Floats:
    """Premia of every draw, (draws, K)."""
    root = _root(spread)
    premia = prices + generator.standard_normal((draws, len(factors))) @ root.T
    if not histories:
        return np.asarray(premia)
    block, index = histories_of(list(histories.values()))
    if counts is None:
        counts = _counts(block, time_positions(index), draws, generator)
    for k, name in enumerate(factors):
        if name in histories:
            premia[:, k] = prices[k] + (counts - 1.0) @ block[:, list(histories).index(name)]
    return np.asarray(premia)


def _root(spread: Floats) -> Floats:
    values, vectors = np.linalg.eigh(spread)
    return np.asarray(vectors * np.sqrt(np.maximum(values, 0.0)))


# The result of a cost of equity: value, error, components, shares of its variance

RISK_FREE: Final = "risk-free rate"


METHODS: Final = ("product", "t", "bootstrap")


@dataclass(frozen=True, eq=False, repr=False)
class CostOfEquity(TextInNotebooks):
    """Annual cost of equity of each asset.

    Attributes
    ----------
    value, standard_error : Series, shape (N,)
        Annual decimals. The standard error combines those of beta, premium and, if given, the risk-free rate.
    parts : DataFrame
        Indexed by (asset, part): ``beta beta_error premium premium_error contribution
        variance_share``.
    shares : DataFrame, shape (N, 3)
        Variance decomposition: shares of beta, premium and risk-free rate.
    df : Series, shape (N,)
        Degrees of freedom of the interval.
    risk_free : float
    basis : mapping of str to str
        Source of each premium and additional premium.
    errors : str
    sample : mapping of str to str
        Observations of each beta.
    draws : ndarray, shape (draws, N), or None
        Bootstrap costs of equity, drawn on first use; None for adjusted betas or ``draws=0``.
    estimates : CostEstimates
        Betas, premia and their covariances, for the intervals.
    taken_as_known : tuple of str
        Parts without a standard error: premia given as numbers, the risk-free rate.
    notes : mapping of str to str
        Notes on single assets.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> cost = ul.cost_of_equity(betas, premia={"market": 0.05}, risk_free=0.03)
    >>> cost.to_frame().loc[["BRTW"], ["cost_of_equity", "standard_error"]].round(4)
          cost_of_equity  standard_error
    BRTW          0.0582          0.0052
    """

    value: pd.Series
    standard_error: pd.Series
    parts: pd.DataFrame
    shares: pd.DataFrame
    df: pd.Series
    risk_free: float
    basis: Mapping[str, str]
    errors: str
    sample: Mapping[str, str]
    estimates: CostEstimates = field(repr=False)
    taken_as_known: tuple[str, ...] = ()
    bootstrap: CostBootstrap | None = field(default=None)
    notes: Mapping[str, str] = field(default_factory=dict)
    growth: float = 1.0  # of one plus the cost, in another currency

    @functools.cached_property
    def draws(self) -> Floats | None:
        """Costs of equity of the bootstrap, (draws, N)."""
        if self.bootstrap is None:
            return None
        return np.asarray((1.0 + self.bootstrap.costs()) * self.growth - 1.0)

    def interval(self, level: float = 0.95, method: str = "product") -> pd.DataFrame:
        """Confidence interval, columns ``low high``, by the distribution of the product of beta and premium.

        Parameters
        ----------
        level : float
            Confidence level, between 0 and 1.
        method : {"product", "t", "bootstrap"}
            Quantiles of the product of two estimates, each with Student's t distribution (Meeker, Cornwell and
            Aroian 1981), which is skewed where both are uncertain; Student's t with the standard error; or
            quantiles of the bootstrap draws.

        Returns
        -------
        DataFrame
            Bounds, one row per asset, annual decimals.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> cost = ul.cost_of_equity(betas, premia={"market": 0.05}, risk_free=0.03)
        >>> cost.interval().head(2).round(4)
                 low    high
        BRTW  0.0480  0.0684
        EBMK  0.0459  0.0617
        """
        if method not in METHODS:
            raise EstimationError(f"method='{method}' is not known; {one_of(method, METHODS)}")
        tails = [0.5 - level / 2.0, 0.5 + level / 2.0]
        if method == "product":
            low, high = (1.0 + self.estimates.quantiles(tails)) * self.growth - 1.0
            return pd.DataFrame({"low": low, "high": high}, self.value.index)
        if method == "t":
            reach = self.standard_error * t_quantile(level, self.df.to_numpy())
            return pd.DataFrame({"low": self.value - reach, "high": self.value + reach})
        if self.draws is None:
            raise EstimationError(
                "interval(method='bootstrap'): no bootstrap replications, because the betas are adjusted "
                "(shrunk) or draws=0. Use method='product', or unadjusted betas with draws=999."
            )
        ends = np.nanquantile(self.draws, tails, axis=0)
        return pd.DataFrame({"low": ends[0], "high": ends[1]}, self.value.index)

    def in_currency(
        self,
        currency: str,
        *,
        inflation: tuple[float, float] | None = None,
        forward: tuple[float, float] | None = None,
    ) -> CostOfEquity:
        """The same costs in another currency.

        Parameters
        ----------
        currency : str
            Code of the other currency, for the components.
        inflation : (float, float), optional
            Expected annual inflation at home and abroad: (1 + k)(1 + abroad)/(1 + home) − 1 (relative PPP).
        forward : (float, float), optional
            Spot and one-year forward rate, in units of the other currency per unit of this one: (1 +
            k)·forward/spot − 1 (covered interest parity).

        Returns
        -------
        CostOfEquity
            Costs plus the inflation differential, or the forward premium.

        Examples
        --------
        >>> import ultrum as ul
        >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
        >>> cost = ul.cost_of_equity(table, premia={"market": 0.05}, risk_free=0.03)
        >>> there = cost.in_currency("QSR", inflation=(0.022, 0.035))
        >>> bool((there.value > cost.value).all())
        True
        """
        if (inflation is None) == (forward is None):
            raise EstimationError("Set either inflation=(here, there) or forward=(spot, one year forward).")
        if inflation is not None:
            if max(abs(rate) for rate in inflation) > 0.5:
                raise UnitError(f"inflation={inflation}: decimals are expected, 0.02 for 2 %.")
            factor = (1.0 + inflation[1]) / (1.0 + inflation[0])
            basis = (
                f"inflation differential: {100 * inflation[0]:.2f} % home, {100 * inflation[1]:.2f} % foreign "
                "(relative PPP)"
            )
        else:
            spot, later = forward or (1.0, 1.0)
            if not (spot > 0 and later > 0):
                raise UnitError(f"forward={forward}: two positive rates are expected.")
            factor, basis = later / spot, f"spot {spot:g}, one-year forward {later:g}"
        moved = (1.0 + self.value) * factor - 1.0
        index = pd.MultiIndex.from_product([self.value.index, [f"in {currency}"]], names=["asset", "part"])
        row = pd.DataFrame({"contribution": (moved - self.value).to_numpy(), "variance_share": 0.0}, index)
        return replace(
            self,
            value=moved.rename("cost_of_equity"),
            standard_error=self.standard_error * factor,
            parts=by_asset(pd.concat([self.parts, row]), list(self.value.index)),
            basis={**self.basis, f"in {currency}": basis},
            growth=self.growth * factor,
        )

    def workings(self, asset: str) -> Workings:
        """Step-by-step calculation of the cost of equity of one asset.

        Parameters
        ----------
        asset : str
            Name of the asset.

        Returns
        -------
        Workings
            Steps to the cost.

        Raises
        ------
        EstimationError
            If there is no such asset.

        Examples
        --------
        >>> import ultrum as ul
        >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
        >>> cost = ul.cost_of_equity(table, premia={"market": 0.05}, risk_free=0.03)
        >>> cost.workings("BRTW").to_frame()["step"].tolist()[:3]
        ['annual risk-free rate', 'beta on market', 'annual premium of market']
        """
        if asset not in self.value.index:
            raise EstimationError(f"No asset '{asset}'; {one_of(asset, map(str, self.value.index))}")
        return cost_workings(
            asset,
            pd.DataFrame(self.parts.xs(asset)),
            self.risk_free,
            float(self.value[asset]),
            float(self.standard_error[asset]),
        )

    def to_frame(self) -> pd.DataFrame:
        """One row per asset: cost of equity, standard error, 95 % interval, degrees of freedom.

        Returns
        -------
        DataFrame
            Costs, one row per asset, annual decimals.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> cost = ul.cost_of_equity(betas, premia={"market": 0.05}, risk_free=0.03)
        >>> cost.to_frame().iloc[:2, :2].round(4)
              cost_of_equity  standard_error
        BRTW          0.0582          0.0052
        EBMK          0.0538          0.0040
        """
        columns = {"cost_of_equity": self.value, "standard_error": self.standard_error}
        return pd.DataFrame(columns).join(self.interval()).assign(df=self.df)

    def __repr__(self) -> str:
        shown = (100 * self.to_frame()).assign(df=self.df)
        basis = "\n".join(textwrap.fill(f"{name}: {text}", 100) for name, text in self.basis.items())
        known = f"taken as known: {', '.join(self.taken_as_known)}"
        basis += f"\n{known}" * bool(self.taken_as_known)
        noted = "".join(f"\n{name}: {text}" for name, text in self.notes.items())
        return (
            f"Annual cost of equity, percent; risk-free {100 * self.risk_free:.2f} %; "
            f"{errors_in_words(self.errors)}\n{basis}\n{shown.round(2).to_string(max_rows=30)}{noted}"
        )


def by_asset(parts: pd.DataFrame, assets: list[object]) -> pd.DataFrame:
    """Components of each asset together, in the given order."""
    order = {asset: place for place, asset in enumerate(assets)}
    places = parts.index.get_level_values(0).map(order).to_numpy()
    return parts.iloc[np.argsort(places, kind="stable")]
