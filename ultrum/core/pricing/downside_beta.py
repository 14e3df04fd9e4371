"""Downside betas: co-movement in falling markets."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.pricing.factor_betas import chosen_factor
from ultrum.core.pricing.one_beta import OneBeta


@checked
def downside_beta(panel: Panel, factor: str = "market") -> OneBeta:
    """Co-movement when the factor is below the risk-free rate: Σ eᵢ·min(eₘ,0) / Σ min(eₘ,0)².

    Bawa and Lindenberg (1977); the error is the sandwich Σ(eᵢ − βeₘ)²min(eₘ,0)² over (Σmin(eₘ,0)²)².

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factor : str
        A factor in excess of the risk-free rate.

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
