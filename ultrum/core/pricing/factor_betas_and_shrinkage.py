"""Factor betas of a panel, and their shrinkage by Vasicek (1973) or Blume (1975)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Final, Literal, Protocol

import numpy as np
import pandas as pd

from ultrum.core.arguments import accepts_large, refuse_idle_options, validate_arguments
from ultrum.core.array_types import Bools, Floats
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.fit import CONSTANT
from ultrum.core.regression.regress import regress
from ultrum.errors import EstimationError, choices, name_list


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
    frame = pd.DataFrame(adjusted, table.coefficients.index, table.coefficients.columns)
    return replace(
        table,
        coefficients=frame,
        covariance=table.covariance * shrunk[:, :, None] * shrunk[:, None, :],
        unadjusted=table.unadjusted or table,
    )
