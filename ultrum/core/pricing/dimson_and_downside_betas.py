"""Dimson, downside, and up- and down-market betas."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import TableInNotebooks, quantity
from ultrum.core.pricing.factor_betas_and_shrinkage import chosen_factor
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import errors_in_words
from ultrum.core.regression.inference import t_p_values
from ultrum.core.regression.regress import regress
from ultrum.core.regression.unit_roots_and_design_warnings import exact_fits
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.errors import EstimationError


@dataclass(frozen=True, eq=False, repr=False)
class OneBeta(TableInNotebooks):
    """One beta of each asset.

    Attributes
    ----------
    beta, standard_error, nobs : Series, shape (N,)
    parts : DataFrame
        Components of the beta, where it is a sum.
    basis : str
    errors : str
    end : label
        Last observation of the sample.
    """

    beta: pd.Series
    standard_error: pd.Series
    nobs: pd.Series
    parts: pd.DataFrame
    basis: str
    errors: str = "sandwich"
    end: object = None

    def to_frame(self) -> pd.DataFrame:
        """Beta, standard error and observations of each asset.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> ul.dimson_beta(panel).to_frame().head(2).round(2)
              beta  error  nobs
        BRTW  0.49   0.14   250
        EBMK  0.59   0.16   250
        """
        return pd.DataFrame({"beta": self.beta, "error": self.standard_error, "nobs": self.nobs})


# Betas with leads and lags of the factor, for thinly traded assets


@validate_arguments
def dimson_beta(
    panel: Panel,
    factor: str | None = None,
    *,
    factor_lags: int = 1,
    factor_leads: int = 1,
    how: Literal["sum", "fowler-rorke"] = "sum",
    errors: str = "hac",
) -> OneBeta:
    """Dimson (1979) beta for thin trading: the sum of the coefficients on lags and leads of the factor.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factor : str, optional
        Name of the factor; by default the only one of the panel, or ``market``.
    factor_lags, factor_leads : int
        Up to two of each.
    how : {"sum", "fowler-rorke"}
        Plain sum (Dimson 1979), or weights of Fowler and Rorke (1983), which an autocorrelated factor requires;
        these need equal numbers of lags and leads.
    errors : str
        As for :func:`ultrum.regress`; the joint standard error of the weighted sum, with known weights.

    Returns
    -------
    OneBeta
        Sum of the betas, with its standard error.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> made = dimson_beta(panel)
    >>> bool(made.beta["NTSH"] > ul.factor_betas(panel, ["market"]).coefficients.loc["NTSH", "market"])
    True
    """
    factor = chosen_factor(panel, factor)
    if not (0 <= factor_lags <= 2 and 0 <= factor_leads <= 2 and factor_lags + factor_leads):
        raise EstimationError("dimson_beta: factor_lags and factor_leads must be 0, 1 or 2, and not both 0.")
    design = leads_and_lags(panel.factors[factor], factor_lags, factor_leads)
    share = _shares(panel.factors[factor], factor_lags, factor_leads, how)
    table: BetaTable = regress(panel.excess, design, errors=errors)
    coefficients = table.coefficients[list(design)].to_numpy()
    joint = table.covariance[:, 1:, 1:]
    beta = pd.Series(coefficients @ share, table.coefficients.index, name=factor)
    error = np.sqrt(np.einsum("i,nij,j->n", share, joint, share))
    title = "Dimson (1979)" if how == "sum" else "Fowler–Rorke (1983)"
    description = (
        f"{title} beta: sum of the coefficients on {quantity(factor_lags, 'lag')}, the contemporaneous {factor} "
        f"and {quantity(factor_leads, 'lead')}"
    )
    basis = f"{description}; {errors_in_words(errors)}"
    return OneBeta(
        beta,
        pd.Series(error, beta.index),
        table.nobs,
        table.coefficients[list(design)],
        basis,
        errors,
        panel.assets.index[-1],
    )


def leads_and_lags(column: pd.Series, lags: int, leads: int) -> pd.DataFrame:
    """The factor with its lags and leads, by calendar where there is one."""
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
    if lags != leads:
        raise EstimationError(
            "dimson_beta: Fowler–Rorke weights need factor_lags equal to factor_leads. Set them equal, or use "
            "how='sum'."
        )
    lagged = leads_and_lags(column, 2, 0)
    rho = [float(column.corr(lagged[f"lag {k}"])) for k in (1, 2)]
    if lags == 1:
        side = [(1 + rho[0]) / (1 + 2 * rho[0])]
    else:
        whole = 1 + 2 * rho[0] + 2 * rho[1]
        side = [(1 + 2 * rho[0] + rho[1]) / whole, (1 + rho[0] + rho[1]) / whole]
    return np.array([*side[::-1], 1.0, *side])


# Downside betas: co-movement in falling markets


@validate_arguments
def downside_beta(panel: Panel, factor: str | None = None) -> OneBeta:
    """Downside beta (Bawa and Lindenberg 1977): Σ eᵢ·min(eₘ,0) / Σ min(eₘ,0)².

    The standard error is the sandwich Σ(eᵢ − βeₘ)²min(eₘ,0)² over (Σmin(eₘ,0)²)².

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factor : str, optional
        A factor in excess of the risk-free rate; by default the only one of the panel, or ``market``.

    Returns
    -------
    OneBeta
        Betas with their standard errors.

    Examples
    --------
    >>> import ultrum as ul
    >>> bool(downside_beta(ul.practice.panel()).beta["BRTW"] > 0)
    True
    """
    factor = chosen_factor(panel, factor)
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
    basis = (
        f"Downside beta (Bawa and Lindenberg 1977) on periods in which {factor} is below the risk-free rate; "
        "heteroskedasticity-robust standard errors"
    )
    return OneBeta(
        pd.Series(beta, names, name=factor),
        pd.Series(error, names),
        pd.Series(counts, names),
        shown,
        basis,
        end=panel.assets.index[-1],
    )


# Betas in rising and in falling markets


@dataclass(frozen=True, eq=False, repr=False)
class UpDownBetas(TableInNotebooks):
    """Betas in rising and falling markets.

    Attributes
    ----------
    up, down, up_error, down_error, p_value : Series, shape (N,)
        P value of the hypothesis that both are equal.
    table : BetaTable
        The regressions: constant, up, down.
    basis : str
    """

    up: pd.Series
    down: pd.Series
    up_error: pd.Series
    down_error: pd.Series
    p_value: pd.Series
    table: BetaTable
    basis: str

    def to_frame(self) -> pd.DataFrame:
        """Both betas with their standard errors, and the p value of equality.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> ul.up_down_betas(panel).to_frame().head(2).round(2)
                up  up_error  down  down_error  difference     p
        BRTW  0.64      0.13  0.48        0.21        0.16  0.58
        EBMK  0.28      0.14  0.69        0.14       -0.40  0.09
        """
        columns = {
            "up": self.up,
            "up_error": self.up_error,
            "down": self.down,
            "down_error": self.down_error,
            "difference": self.up - self.down,
            "p": self.p_value,
        }
        return pd.DataFrame(columns)

    _number = "{:.3f}"


@validate_arguments
def up_down_betas(panel: Panel, factor: str | None = None, *, errors: str = "hac") -> UpDownBetas:
    """Up- and down-market betas (Henriksson and Merton 1981).

    The regression is e = α + β₊·max(f, 0) + β₋·min(f, 0).

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factor : str, optional
        A factor in excess of the risk-free rate, so that zero separates up and down markets; by default the only
        one of the panel, or ``market``.
    errors : str
        As for :func:`ultrum.regress`.

    Returns
    -------
    UpDownBetas
        Both betas with their standard errors, and the test that they are equal.

    Examples
    --------
    >>> import ultrum as ul
    >>> made = up_down_betas(ul.practice.panel())
    >>> bool(made.p_value["BRTW"] > 0.05)
    True
    """
    factor = chosen_factor(panel, factor)
    values = panel.factors[factor]
    design = pd.DataFrame({"up": values.clip(lower=0.0), "down": values.clip(upper=0.0)})
    table = regress(panel.excess, design, errors=errors)
    apart = table.coefficients["up"] - table.coefficients["down"]
    spread = table.covariance[:, 1, 1] + table.covariance[:, 2, 2] - 2 * table.covariance[:, 1, 2]
    p_value = t_p_values((apart / np.sqrt(spread)).to_numpy(), table.df.to_numpy())
    rising = int((values > 0).sum())
    return UpDownBetas(
        up=table.coefficients["up"],
        down=table.coefficients["down"],
        up_error=table.standard_errors["up"],
        down_error=table.standard_errors["down"],
        p_value=pd.Series(p_value, table.coefficients.index).where(
            ~table.coefficients.index.isin(exact_fits(table))
        ),
        table=table,
        basis=f"{quantity(rising, 'row')} with {factor} up, {len(values) - rising} not; "
        f"{errors_in_words(errors)}",
    )
