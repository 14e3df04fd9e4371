"""Betas with leads and lags of the factor, for thinly traded assets."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.pricing.factor_betas import chosen_factor
from ultrum.core.pricing.one_beta import OneBeta
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance import errors_in_words
from ultrum.core.regression.ols import regress
from ultrum.core.time.gaps import time_positions
from ultrum.errors import EstimationError


@checked
def dimson_beta(
    panel: Panel,
    factor: str = "market",
    *,
    factor_lags: int = 1,
    factor_leads: int = 1,
    how: Literal["sum", "fowler-rorke"] = "sum",
    errors: str = "hac",
) -> OneBeta:
    """Beta of assets that react late or early: the sum over lags and leads of the factor.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factor : str
        Name of the factor.
    factor_lags, factor_leads : int
        Up to two of each.
    how : {"sum", "fowler-rorke"}
        Dimson's (1979) plain sum, or Fowler and Rorke's (1983) weights, which a factor with autocorrelation
        asks for; these need as many leads as lags.
    errors : str
        As for :func:`ultrum.regress`; the joint error of the weighted sum, weights taken as known.

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
    chosen_factor(panel, factor)
    if not (0 <= factor_lags <= 2 and 0 <= factor_leads <= 2 and factor_lags + factor_leads):
        raise EstimationError("lags and leads are 0, 1 or 2, and not both 0.")
    design = leads_and_lags(panel.factors[factor], factor_lags, factor_leads)
    share = _shares(panel.factors[factor], factor_lags, factor_leads, how)
    table: BetaTable = regress(panel.excess, design, errors=errors)
    coefficients = table.coefficients[list(design)].to_numpy()
    joint = table.covariance[:, 1:, 1:]
    beta = pd.Series(coefficients @ share, table.coefficients.index, name=factor)
    error = np.sqrt(np.einsum("i,nij,j->n", share, joint, share))
    description = f"sum of {factor_lags} lags, the factor and {factor_leads} leads of {factor}, weights {how}"
    basis = f"{description}; {errors_in_words(errors)}"
    return OneBeta(
        beta, pd.Series(error, beta.index), table.nobs, table.coefficients[list(design)], basis,
        errors, panel.assets.index[-1],
    )  # fmt: skip


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
