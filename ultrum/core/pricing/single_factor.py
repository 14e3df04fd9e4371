"""Betas on one factor beside the plain one: with leads and lags, of falling markets, levered and not."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.pricing.factor_betas import chosen_factor
from ultrum.core.regression.engine.covariance import errors_said
from ultrum.core.regression.ols import regress
from ultrum.core.regression.results import BetaTable
from ultrum.core.series.labels import TableInNotebooks, table_text
from ultrum.core.time.gaps import time_positions
from ultrum.errors import EstimationError

Numbers = float | np.ndarray | pd.Series | pd.DataFrame


@dataclass(frozen=True, eq=False, repr=False)
class OneBeta(TableInNotebooks):
    """One beta of each asset.

    Attributes
    ----------
    beta, standard_error, nobs : Series, shape (N,)
    parts : DataFrame
        What the beta is made of, where it is a sum.
    basis : str
    errors : str
    end : label
        Last row of the sample.
    """

    beta: pd.Series
    standard_error: pd.Series
    nobs: pd.Series
    parts: pd.DataFrame
    basis: str
    errors: str = "sandwich"
    end: Any = None

    def to_frame(self) -> pd.DataFrame:
        """Beta, error and rows of each asset."""
        return pd.DataFrame({"beta": self.beta, "error": self.standard_error, "nobs": self.nobs})

    def __repr__(self) -> str:
        return f"{table_text(self.to_frame())}\n{self.basis}"


@checked
def dimson_beta(
    panel: Panel,
    factor: str = "market",
    *,
    lags: int = 1,
    leads: int = 1,
    weights: str = "sum",
    errors: str = "hac",
) -> OneBeta:
    """Beta of assets that react late or early: the sum over lags and leads of the factor.

    Parameters
    ----------
    panel : Panel
    factor : str
    lags, leads : int
        Up to two of each.
    weights : {"sum", "fowler-rorke"}
        Dimson's (1979) plain sum, or Fowler and Rorke's (1983) weights, which a factor with autocorrelation
        asks for; these need as many leads as lags.
    errors : str
        As for :func:`ultrum.regress`; the joint error of the weighted sum, weights taken as known.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> made = dimson_beta(panel)
    >>> bool(made.beta["NTSH"] > ul.factor_betas(panel, ["market"]).coefficients.loc["NTSH", "market"])
    True
    """
    chosen_factor(panel, factor)
    if not (0 <= lags <= 2 and 0 <= leads <= 2 and lags + leads):
        raise EstimationError("lags and leads are 0, 1 or 2, and not both 0.")
    design = leads_and_lags(panel.factors[factor], lags, leads)
    share = _shares(panel.factors[factor], lags, leads, weights)
    table: BetaTable = regress(panel.excess, design, errors=errors)
    own = table.coefficients[list(design)].to_numpy()
    joint = table.covariance[:, 1:, 1:]
    beta = pd.Series(own @ share, table.coefficients.index, name=factor)
    error = np.sqrt(np.einsum("i,nij,j->n", share, joint, share))
    said = f"sum of {lags} lags, the factor and {leads} leads of {factor}, weights {weights}"
    basis = f"{said}; {errors_said(errors)}"
    return OneBeta(
        beta, pd.Series(error, beta.index), table.nobs, table.coefficients[list(design)], basis,
        errors, panel.assets.index[-1],
    )  # fmt: skip


@checked
def downside_beta(panel: Panel, factor: str = "market") -> OneBeta:
    """Co-movement when the factor is below the risk-free rate: Σ eᵢ·min(eₘ,0) / Σ min(eₘ,0)².

    Bawa and Lindenberg (1977); the error is the sandwich Σ(eᵢ − βeₘ)²min(eₘ,0)² over (Σmin(eₘ,0)²)².

    Parameters
    ----------
    panel : Panel
    factor : str
        A factor in excess of the risk-free rate.

    Examples
    --------
    >>> import ultrum as ul
    >>> bool(downside_beta(ul.practice.panel()).beta["BRTW"] > 0)
    True
    """
    chosen_factor(panel, factor)
    x = panel.factors[factor].to_numpy(dtype=np.float64)[:, None]
    y = panel.excess.block
    both = np.isfinite(y) & np.isfinite(x)
    fall = np.where(both, np.minimum(x, 0.0), 0.0)
    below = (fall**2).sum(axis=0)
    counts = (fall < 0).sum(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        beta = np.where(counts >= 3, (np.where(both, y, 0.0) * fall).sum(axis=0) / below, np.nan)
        off = np.where(both, y - beta * x, 0.0)
        error = np.sqrt((off**2 * fall**2).sum(axis=0)) / below
    names = pd.Index(panel.excess.names)
    shown = pd.DataFrame({"rows below": counts}, names)
    basis = f"rows in which {factor} is below the risk-free rate; sandwich errors"
    return OneBeta(
        pd.Series(beta, names, name=factor),
        pd.Series(error, names),
        pd.Series(counts, names),
        shown,
        basis,
        end=panel.assets.index[-1],
    )


@checked
def unlever(
    beta: Numbers, debt_to_equity: Numbers, tax: Numbers = 0.0, *, debt_beta: Numbers = 0.0
) -> Any:
    """Beta of the assets behind a levered share (Hamada 1972): (βₑ + β_d(1−τ)D/E) / (1 + (1−τ)D/E).

    Parameters
    ----------
    beta, debt_to_equity, tax, debt_beta : float, array or Series
        Debt over the market value of equity; tax and debt beta in decimals.

    Examples
    --------
    >>> round(unlever(1.2, 0.5, 0.3), 4)
    0.8889
    """
    _check_leverage(debt_to_equity, tax)
    share = (1.0 - tax) * debt_to_equity
    return (beta + debt_beta * share) / (1.0 + share)


@checked
def relever(
    beta: Numbers, debt_to_equity: Numbers, tax: Numbers = 0.0, *, debt_beta: Numbers = 0.0
) -> Any:
    """Beta of a share with a given leverage, from that of its assets; undoes :func:`unlever`.

    Examples
    --------
    >>> round(relever(unlever(1.2, 0.5, 0.3), 0.5, 0.3), 12)
    1.2
    """
    _check_leverage(debt_to_equity, tax)
    share = (1.0 - tax) * debt_to_equity
    return beta * (1.0 + share) - debt_beta * share


def _check_leverage(debt_to_equity: Any, tax: Any) -> None:
    if np.any(np.asarray(debt_to_equity, dtype=float) < 0):
        raise EstimationError(
            "debt_to_equity is below zero; debt and equity are both positive amounts."
        )
    rates = np.asarray(tax, dtype=float)
    if np.any((rates < 0) | (rates >= 1)):
        raise EstimationError(
            f"A tax rate of {np.max(rates):g} is no decimal below one; divide percent by 100."
        )


def leads_and_lags(column: pd.Series, lags: int, leads: int) -> pd.DataFrame:
    """The factor with its lags and leads, by the calendar where there is one."""
    index = column.index
    listed = time_positions(index)  # rows may have been dropped: shift by periods, not by rows
    column = column.set_axis(listed).reindex(np.arange(listed[0], listed[-1] + 1))
    shifted = {f"lag {k}": column.shift(k) for k in range(lags, 0, -1)}
    shifted[str(column.name)] = column
    shifted |= {f"lead {k}": column.shift(-k) for k in range(1, leads + 1)}
    return pd.DataFrame(shifted).loc[listed].set_axis(index)


def _shares(column: pd.Series, lags: int, leads: int, weights: str) -> Floats:
    """Weight of each lag, the factor itself and each lead."""
    if weights == "sum":
        return np.ones(lags + leads + 1)
    if weights != "fowler-rorke":
        raise EstimationError(f"weights='{weights}' is not known; it is sum or fowler-rorke.")
    if lags != leads:
        raise EstimationError("Fowler and Rorke's weights need as many leads as lags.")
    lagged = leads_and_lags(column, 2, 0)
    rho = [float(column.corr(lagged[f"lag {k}"])) for k in (1, 2)]
    if lags == 1:
        side = [(1 + rho[0]) / (1 + 2 * rho[0])]
    else:
        whole = 1 + 2 * rho[0] + 2 * rho[1]
        side = [(1 + 2 * rho[0] + rho[1]) / whole, (1 + rho[0] + rho[1]) / whole]
    return np.array([*side[::-1], 1.0, *side])
