"""Factor betas of a whole panel, and their shrinkage: Vasicek's prior, Blume's line, betas by industry."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final, Literal, Protocol

import numpy as np
import pandas as pd

from ultrum.core.arguments import accepts_large, refuse_idle_options, validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import TableInNotebooks, quantity, table_text
from ultrum.core.pricing.peers_and_leverage import industry_by_asset
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import errors_in_words
from ultrum.core.regression.inference import mixture_quantile
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.regression.regress import regress
from ultrum.errors import EstimationError, choices, name_list, one_of


@accepts_large("panel")
@validate_arguments
def factor_betas(
    panel: Panel, factors: Sequence[str] | None = None, *, errors: str = "hac", lags: int | str | None = None
) -> BetaTable:
    """Factor betas (loadings, exposures): CAPM, three-factor or other regressions of every asset.

    Each asset has its own sample.

    Parameters
    ----------
    panel : Panel or LongPanel
        Made by :func:`ultrum.align`.
    factors : sequence of str, optional
        Names of factors; all of them by default.
    errors : str
        Kind of standard errors, as for :func:`ultrum.regress`.
    lags : int or {"automatic"}, optional
        Lags of ``hac`` standard errors, as for :func:`ultrum.regress`.

    Returns
    -------
    BetaTable
        The constant is alpha, per period.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> table = factor_betas(panel, ["market"])
    >>> list(table.coefficients.columns)
    ['constant', 'market']
    """
    names = chosen_factors(panel, factors)
    return regress(panel.excess, panel.factor_table.select(names), errors=errors, lags=lags)


MARKET: Final = "market"


class HasFactors(Protocol):
    """A panel, in memory or on disk."""

    @property
    def factors(self) -> pd.DataFrame:
        """Shape (T, K)."""


def chosen_factors(panel: HasFactors, factors: Sequence[str] | None, *, empty: bool = False) -> list[str]:
    """The given factors, or all of the panel; ``empty`` allows none."""
    names = [str(n) for n in (panel.factors if factors is None else factors)]
    unknown = [n for n in names if n not in panel.factors]
    if unknown or not (names or empty):
        names_there = choices(panel.factors)
        raise EstimationError(f"No factor {name_list(unknown) or 'given'}; the panel has: {names_there}.")
    return names


def chosen_factor(panel: Panel, factor: str | None) -> str:
    """The given factor; by default the only one of the panel, or the market."""
    if factor is None:
        names = [str(n) for n in panel.factors]
        if len(names) > 1 and MARKET not in names:
            raise EstimationError(
                f"The panel has the factors {name_list(names)}. Set factor= to one of them, such as "
                f"factor='{names[0]}'."
            )
        factor = names[0] if len(names) == 1 else MARKET
    return chosen_factors(panel, [factor])[0]


# Shrinkage of betas: Vasicek's prior, Blume's line

BLUME_1971: Final = (0.343, 0.677)
_PRIOR_POWER: Final = 1.7  # of the deviation: between a flat prior on it and one on its square


@validate_arguments
def shrink_betas(
    table: BetaTable,
    *,
    how: Literal["vasicek", "blume"] = "vasicek",
    among: Sequence[str] | None = None,
    earlier: BetaTable | None = None,
    line: tuple[float, float] | None = None,
) -> BetaTable:
    """Shrunk betas: Vasicek (1973) or Blume (1975) adjustment.

    Parameters
    ----------
    table : BetaTable
        Betas as estimated.
    how : {"vasicek", "blume"}
        Vasicek (1973) weights each beta and the cross-sectional mean by their precision: for each factor the
        prior has the mean of the betas and the variance max(0, var(β̂) − mean se²). Blume (1975) regresses the
        betas on those of an earlier period and applies the line to the present ones.
    among : sequence of str, optional
        Assets of the cross-section for Vasicek, all by default; exclude portfolios of the other assets, which
        would count twice.
    earlier : BetaTable, optional
        Betas of the same assets in an earlier period, for Blume.
    line : (float, float), optional
        Intercept and slope to use instead, such as ``(0.343, 0.677)`` (Blume 1971).

    Returns
    -------
    BetaTable
        Alphas stay. Standard errors are those of the empirical-Bayes posterior (Vasicek), which allows for the
        estimated mean and variance of the prior (Morris 1983), or the slope times the standard error of each beta
        (Blume), which ignores the estimation error of the line. Residuals and single fits are those of the
        unadjusted regressions.

    Raises
    ------
    EstimationError
        If fewer than five assets have a beta, or Blume has neither an earlier table nor a line.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> made = shrink_betas(table)
    >>> bool(made.coefficients["market"].std() < table.coefficients["market"].std())
    True
    """
    if how == "vasicek":
        refuse_idle_options("how='vasicek'", earlier=earlier, line=line)
        return _rescale_table(table, *_vasicek(table, _cross_section_members(table, among)))
    refuse_idle_options("how='blume'", among=among)
    if line is not None:
        refuse_idle_options("a given line", earlier=earlier)
    return _rescale_table(table, *_blume(table, earlier, line))


def _cross_section_members(table: BetaTable, among: Sequence[str] | None) -> Bools:
    """Which assets are in the cross-section."""
    absent = [a for a in among if a not in table.coefficients.index] if among is not None else []
    if absent:
        raise EstimationError(f"No asset {name_list(absent)}; there are: {choices(table.assets)}.")
    if among is None:
        return np.ones(len(table.assets), dtype=bool)
    return np.asarray(table.coefficients.index.isin(list(among)))


def _vasicek(table: BetaTable, counted: Bools) -> tuple[Floats, Floats]:
    """Adjusted coefficients, and the factor on each standard error."""
    adjusted, shrunk = table.coefficients.to_numpy().copy(), np.ones(table.coefficients.shape)
    errors = table.standard_errors.to_numpy()
    for column, term in enumerate(table.coefficients.columns):
        if term == CONSTANT:
            continue
        beta, variance = adjusted[:, column], errors[:, column] ** 2
        estimated = np.isfinite(beta) & np.isfinite(variance)
        uncertain = estimated & (variance > 0.0)  # an asset that is the factor itself stays where it is
        prior = uncertain & counted
        if prior.sum() < 5:
            raise EstimationError(
                f"shrink_betas: {int(prior.sum())} assets have a {term} beta; the Vasicek prior needs at least 5."
            )
        among = beta[prior], variance[prior]
        centre = float(among[0].mean())
        spread = max(0.0, float(among[0].var(ddof=1) - among[1].mean()))
        beta, variance = beta[uncertain], variance[uncertain]
        pulled = (spread * beta + variance * centre) / (spread + variance)
        error = _posterior_error(*among, beta, variance, pulled)
        adjusted[~estimated, column] = np.nan
        adjusted[uncertain, column], shrunk[uncertain, column] = pulled, error / np.sqrt(variance)
    return adjusted, shrunk


def _posterior_error(
    among: Floats, variances: Floats, beta: Floats, variance_of_beta: Floats, shrunk: Floats
) -> Floats:
    """Root mean squared error of shrunk betas with an estimated prior mean and variance.

    Parameters
    ----------
    among, variances : ndarray, shape (M,)
        Betas of the cross-section and their squared standard errors.
    beta, variance_of_beta, shrunk : ndarray, shape (N,)
        Betas to shrink, their squared standard errors, and the shrunk betas.

    Returns
    -------
    ndarray, shape (N,)
        The posterior variance, averaged over the variance of the true betas, and the squared distance of the
        shrunk beta from the posterior mean. The approximation of Morris (1983), V(1 − B) plus a term v(y − ȳ)²
        for the unknown variance, covers too little between 50 and 200 assets.
    """
    steps = np.concatenate([[0.0], np.geomspace(0.02, 12.0, 79)])  # deviation of the true betas
    edges = np.concatenate([[0.0], (steps[1:] + steps[:-1]) / 2.0, [1.1 * steps[-1]]])
    spread = steps[:, None] ** 2 * variances.mean()
    total = variances + spread
    sums = (1.0 / total).sum(axis=1)
    centre = (among / total).sum(axis=1) / sums
    misfit = ((among - centre[:, None]) ** 2 / total).sum(axis=1)
    likelihood = -0.5 * (np.log(total).sum(axis=1) + np.log(sums) + misfit)
    weight = np.exp(likelihood - likelihood.max()) * np.diff(edges**_PRIOR_POWER)
    weight /= weight.sum()
    pull = variance_of_beta / (variance_of_beta + spread)
    mean = (1.0 - pull) * beta + pull * centre[:, None]
    variance = variance_of_beta * (1.0 - pull) + pull**2 / sums[:, None]
    squared = weight @ (variance + (mean - shrunk) ** 2)
    return np.asarray(np.sqrt(squared))


def _blume(
    table: BetaTable, earlier: BetaTable | None, line: tuple[float, float] | None
) -> tuple[Floats, Floats]:
    adjusted, shrunk = table.coefficients.to_numpy().copy(), np.ones(table.coefficients.shape)
    for column, term in enumerate(table.coefficients.columns):
        if term == CONSTANT:
            continue
        at, slope = line if line is not None else _line(table, earlier, str(term))
        adjusted[:, column] = at + slope * adjusted[:, column]
        shrunk[:, column] = abs(slope)
    return adjusted, shrunk


def _line(table: BetaTable, earlier: BetaTable | None, term: str) -> tuple[float, float]:
    """Regression of later on earlier betas, over the assets that have both."""
    if earlier is None:
        raise EstimationError(
            "shrink_betas: how='blume' needs earlier=, an earlier beta table, or line=, such as (0.343, 0.677)."
        )
    if term not in earlier.coefficients:
        raise EstimationError(f"The earlier table has no {term} beta.")
    both = pd.concat([earlier.coefficients[term], table.coefficients[term]], axis=1, join="inner").dropna()
    if len(both) < 5:
        raise EstimationError(
            f"shrink_betas: {len(both)} assets have a {term} beta in both periods; the Blume regression needs "
            "at least 5."
        )
    fit = regress(both.iloc[:, 1].to_numpy(), both.iloc[:, :1].to_numpy(), errors="classical")
    return float(fit.coefficients.iloc[0]), float(fit.coefficients.iloc[1])


def _rescale_table(table: BetaTable, adjusted: Floats, shrunk: Floats) -> BetaTable:
    covariance = table.covariance * shrunk[:, :, None] * shrunk[:, None, :]
    return replace(table.with_coefficients(adjusted, covariance), unadjusted=table.unadjusted or table)


# Hierarchical (two-level) shrinkage of betas: firms towards their industry, industries towards each other

_FEWEST: Final = 5  # firms
_UNSEEN: Final = "any"  # an industry that is not in the sample
_STEPS: Final = np.concatenate([[0.0], np.geomspace(0.02, 12.0, 39)])  # of deviations, in errors of estimation
_POWER_OF_FIRMS, _POWER_OF_INDUSTRIES = 0.7, 1.0  # of a deviation: its prior is flat in this power
_NEGLIGIBLE: Final = 1e-7  # weight of a grid point against the largest


@dataclass(frozen=True, eq=False, repr=False)
class HierarchicalBetas(TableInNotebooks):
    """Betas of firms and industries, shrunk on two levels.

    Attributes
    ----------
    firms : DataFrame
        By firm: ``industry beta standard_error shrunk shrunk_se low high own_weight``; the last is the weight of
        the firm's own estimate.
    industries : DataFrame
        By industry: ``n mean standard_error low high new_low new_high``; the last two bound the beta of a firm of
        the industry that is not in the sample. The last row, ``any``, is an industry not in the sample.
    between_firms, between_industries : float
        Posterior means of the standard deviations of true betas within and between industries.
    level : float
        Of the intervals.
    basis : str
    """

    firms: pd.DataFrame
    industries: pd.DataFrame
    between_firms: float
    between_industries: float
    level: float
    basis: str

    def to_frame(self) -> pd.DataFrame:
        """One row per firm.

        Returns
        -------
        DataFrame

        Examples
        --------
        >>> import ultrum as ul
        >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
        >>> made = ul.hierarchical_betas(table, {a: "sea" if a < "M" else "land" for a in table.assets})
        >>> made.to_frame().loc[["BRTW"], ["beta", "shrunk"]].round(2)
              beta  shrunk
        BRTW  0.56     0.6
        """
        return self.firms

    def __repr__(self) -> str:
        return f"{table_text(self.firms, '{:.3f}')}\n\n{table_text(self.industries, '{:.3f}')}\n{self.basis}"


@validate_arguments
def hierarchical_betas(
    betas: BetaTable, industries: Mapping[str, str] | pd.Series, *, factor: str | None = None, level: float = 0.95
) -> HierarchicalBetas:
    """Hierarchical Bayes betas: each firm is shrunk to its industry, each industry to the mean of all.

    Parameters
    ----------
    betas : BetaTable
        Estimated betas.
    industries : mapping or Series of asset to industry
        Industry of each asset; assets without one are left out.
    factor : str, optional
        Factor whose beta is used; by default the first.
    level : float
        Of the intervals, between 0 and 1.

    Returns
    -------
    HierarchicalBetas
        Posterior means, standard deviations and intervals of firms, industry means, and firms not in the sample.

    Raises
    ------
    EstimationError
        If fewer than five assets have a beta and an industry, the factor is unknown, an asset has two industries,
        or the betas are shrunk already.

    Notes
    -----
    bᵢ ~ N(βᵢ, seᵢ²), βᵢ ~ N(μ_g, τ²) within industry g, μ_g ~ N(μ, ω²) with a flat prior on μ (Lindley and Smith
    1972; Karolyi 1992). Given τ and ω all posteriors are normal; they are averaged over a grid of both, with the
    marginal likelihood and priors that are flat in τ^0.7 and in ω. Estimates of firms are taken as independent.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> made = hierarchical_betas(table, {a: "sea" if a < "M" else "land" for a in table.assets})
    >>> bool(made.firms["shrunk"].std() < made.firms["beta"].std()), list(made.industries.index)
    (True, ['sea', 'land', 'any'])
    """
    names = [str(t) for t in betas.coefficients if t != CONSTANT]
    term = factor or names[0]
    if term not in names:
        raise EstimationError(f"No factor {term}; {one_of(term, names)}")
    if betas.unadjusted is not None:
        raise EstimationError("hierarchical_betas: the betas are shrunk already. Pass those of factor_betas.")
    b, se = betas.coefficients[term], betas.standard_errors[term]
    listed = industry_by_asset(industries)
    group_of = listed.reindex(b.index)
    used = (np.isfinite(b) & (se > 0) & group_of.notna()).to_numpy()
    if used.sum() < _FEWEST:
        raise EstimationError(
            f"hierarchical_betas: {quantity(int(used.sum()), 'asset')} with a beta and an industry; at least "
            f"{_FEWEST} are needed."
        )
    codes, groups = pd.factorize(group_of[used].astype(str))
    beta, variance = b.to_numpy(float)[used], se.to_numpy(float)[used] ** 2
    posterior = _Posterior.of(beta, variance, codes)
    shrunk, own = posterior.of_firms(beta, variance, codes)
    means, new = posterior.of_industries()
    firms = pd.DataFrame(
        {"industry": groups[codes], "beta": beta, "standard_error": np.sqrt(variance)}, b.index[used]
    ).join(posterior.summary(*shrunk, level, b.index[used], ("shrunk", "shrunk_se", "low", "high")))
    if _UNSEEN in groups:
        raise EstimationError(
            f"hierarchical_betas: an industry is named '{_UNSEEN}', as the row of one not in the "
            "sample. Rename it."
        )
    labels = pd.Index([*groups, _UNSEEN], name="industry")
    counts = pd.Series([*np.bincount(codes), 0], labels, name="n")
    of_mean = posterior.summary(*means, level, labels, ("mean", "standard_error", "low", "high"))
    bounds = posterior.summary(*new, level, labels, ("mean", "sd", "new_low", "new_high"))
    between_firms, between_industries = posterior.deviations
    basis = (
        f"{term} betas of {quantity(int(used.sum()), 'asset')} in {quantity(len(groups), 'industry')}, "
        f"{int((~used).sum())} left out, {int((~listed.index.isin(b.index)).sum())} without a beta; "
        f"{errors_in_words(betas.errors)}; true betas differ by "
        f"{between_firms:.2f} within and by {between_industries:.2f} between industries (standard deviations); "
        f"{100 * level:g} % posterior intervals"
    )
    return HierarchicalBetas(
        firms.assign(own_weight=own),
        counts.to_frame().join(of_mean).join(bounds[["new_low", "new_high"]]),
        between_firms,
        between_industries,
        level,
        basis,
    )


@dataclass(frozen=True)
class _Posterior:
    """Posteriors at the M points of a grid of (τ, ω) with their weights; industry means are (G + 1, M), the last
    one of an industry not in the sample.
    """

    weights: Floats
    tau: Floats
    omega: Floats
    means: Floats
    variances: Floats

    @classmethod
    def of(cls, beta: Floats, variance: Floats, codes: Ints) -> _Posterior:
        """The grid, without its negligible points."""
        scale = float(np.sqrt(variance.mean()))
        tau, omega = (part.ravel() for part in np.meshgrid(scale * _STEPS, scale * _STEPS, indexing="ij"))
        prior = np.outer(_prior(_POWER_OF_FIRMS), _prior(_POWER_OF_INDUSTRIES)).ravel()
        members = (codes[:, None] == np.arange(codes.max() + 1)).astype(np.float64)
        precision = 1.0 / (variance + tau[:, None] ** 2)  # (M, N)
        total = precision @ members  # (M, G)
        mean = (precision * beta) @ members / total
        misfit = np.sum(precision * (beta - mean[:, codes]) ** 2, axis=1)
        of_group = 1.0 / (omega[:, None] ** 2 + 1.0 / total)
        whole = of_group.sum(axis=1)
        centre = np.sum(of_group * mean, axis=1) / whole
        logs = 0.5 * (
            np.log(precision).sum(axis=1)
            - np.log(total).sum(axis=1)
            - misfit
            + np.log(of_group).sum(axis=1)
            - np.log(whole)
            - np.sum(of_group * (mean - centre[:, None]) ** 2, axis=1)
        )
        weights = np.exp(logs - logs.max()) * prior
        kept = weights > _NEGLIGIBLE * weights.max()
        trust = omega[:, None] ** 2 * of_group  # weight of an industry's own mean
        means = trust * mean + (1.0 - trust) * centre[:, None]
        variances = trust / total + (1.0 - trust) ** 2 / whole[:, None]
        unknown = omega**2 + 1.0 / whole
        return cls(
            weights[kept] / weights[kept].sum(),
            tau[kept],
            omega[kept],
            np.column_stack([means, centre])[kept].T,
            np.column_stack([variances, unknown])[kept].T,
        )

    @property
    def deviations(self) -> tuple[float, float]:
        """Posterior means of τ and ω."""
        return float(self.weights @ self.tau), float(self.weights @ self.omega)

    def of_firms(self, beta: Floats, variance: Floats, codes: Ints) -> tuple[tuple[Floats, Floats], Floats]:
        """Means and variances of the firms, (N, M), and the weight of each firm's own estimate."""
        pull = variance[:, None] / (variance[:, None] + self.tau**2)
        means = (1.0 - pull) * beta[:, None] + pull * self.means[codes]
        variances = variance[:, None] * (1.0 - pull) + pull**2 * self.variances[codes]
        return (means, variances), (1.0 - pull) @ self.weights

    def of_industries(self) -> tuple[tuple[Floats, Floats], tuple[Floats, Floats]]:
        """Means and variances of the industry means, and of firms not in the sample, (G + 1, M)."""
        return (self.means, self.variances), (self.means, self.variances + self.tau**2)

    def summary(
        self, means: Floats, variances: Floats, level: float, index: pd.Index, names: tuple[str, ...]
    ) -> pd.DataFrame:
        """Posterior mean, standard deviation and interval of each row."""
        middle = means @ self.weights
        spread = np.sqrt(((means - middle[:, None]) ** 2 + variances) @ self.weights)
        normal, sd = np.full(len(means), np.inf), np.sqrt(variances)
        tails = (0.5 - level / 2.0, 0.5 + level / 2.0)
        low, high = (mixture_quantile(tail, means, sd, normal, self.weights) for tail in tails)
        return pd.DataFrame(dict(zip(names, (middle, spread, low, high), strict=True)), index)


def _prior(power: float) -> Floats:
    """Probability of each step of a deviation whose prior is flat in a power of it."""
    edges = np.concatenate([[0.0], (_STEPS[1:] + _STEPS[:-1]) / 2.0, [1.1 * _STEPS[-1]]])
    return np.diff(edges**power)
