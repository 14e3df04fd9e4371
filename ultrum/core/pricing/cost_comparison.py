"""Costs of equity by several models side by side."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.pricing.cost_of_equity import cost_of_equity
from ultrum.core.pricing.cost_result import RISK_FREE
from ultrum.core.pricing.one_beta import OneBeta
from ultrum.core.regression.beta_table import BetaTable
from ultrum.errors import EstimationError, one_of


@checked
def cost_comparison(
    estimators: Mapping[str, BetaTable | OneBeta],
    *,
    asset: str | None = None,
    level: float = 0.95,
    factor: str | None = None,
    **options: Any,
) -> pd.DataFrame:
    """Costs of equity by several estimators of beta, side by side.

    Parameters
    ----------
    estimators : mapping of str to BetaTable or OneBeta
        Tables of betas by the name of the estimator.
    asset : str, optional
        One asset; all by default.
    level : float
        Of the intervals.
    factor : str, optional
        Whose beta is shown; by default the first.
    **options
        As for :func:`ultrum.cost_of_equity`.

    Returns
    -------
    DataFrame
        Indexed by (asset, estimator): ``beta beta_error cost standard_error low high``.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> made = cost_comparison({"plain": table, "vasicek": ul.shrink_betas(table)}, asset="BRTW",
    ...                        premia={"market": 0.05}, risk_free=0.03)
    >>> made.shape
    (2, 6)
    """
    if not estimators:
        raise EstimationError("cost_comparison was given no betas; give them by name.")
    blocks = []
    for name, betas in estimators.items():
        cost = cost_of_equity(betas, **options)
        parts = [p for p in cost.parts.index.unique(1) if p != RISK_FREE]
        if factor is not None and factor not in parts:
            raise EstimationError(f"No factor {factor} in {name}; {one_of(factor, parts)}")
        part = factor or parts[0]
        exposure = cost.parts.xs(part, level=1)
        frame = pd.DataFrame({"beta": exposure["beta"], "beta_error": exposure["beta_error"], "cost": cost.value,
                              "standard_error": cost.standard_error}).join(cost.interval(level))  # fmt: skip
        frame.index = pd.MultiIndex.from_product([frame.index, [name]], names=["asset", "estimator"])
        blocks.append(frame)
    whole = pd.concat(blocks)
    assets = list(dict.fromkeys(whole.index.get_level_values(0)))
    if asset is not None:
        if asset not in assets:
            raise EstimationError(f"No asset '{asset}'; {one_of(asset, assets)}")
        return whole.loc[[asset]]
    return whole.loc[assets]
