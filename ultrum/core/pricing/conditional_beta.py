"""Conditional betas: linear in variables known before the period."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.pricing.factor_betas import chosen_factor
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance import errors_in_words
from ultrum.core.regression.inference import band_of
from ultrum.core.regression.ols import regress
from ultrum.core.series.text_tables import TableInNotebooks, table_text
from ultrum.errors import EstimationError, choices, listed


@dataclass(frozen=True, eq=False, repr=False)
class ConditionalBetas(TableInNotebooks):
    """Betas as linear functions of conditions.

    Attributes
    ----------
    beta, standard_error : DataFrame, shape (T, N)
        Beta of every row, from what was known before it.
    table : BetaTable
        The regressions; terms ``factor × condition`` are the change of beta with one standard deviation.
    p_value : Series, shape (N,)
        Of the joint test that no condition moves beta.
    scale : DataFrame
        Mean and standard deviation that each condition was standardised by.
    basis : str
    """

    beta: pd.DataFrame
    standard_error: pd.DataFrame
    table: BetaTable
    p_value: pd.Series
    scale: pd.DataFrame
    basis: str

    def interval(self, asset: str, level: float = 0.95) -> pd.DataFrame:
        """Beta of one asset through time with its band, columns ``estimate low high``."""
        df = float(self.table.df[asset]) if asset in self.beta else 1.0
        return band_of(self.beta, self.standard_error, asset, level, df)

    def to_frame(self) -> pd.DataFrame:
        """One row per asset: each coefficient with its error, t and p; and the joint p value."""
        return self.table.to_frame().assign(constant_beta_p=self.p_value)

    def __repr__(self) -> str:
        terms = [t for t in self.table.coefficients if t != "constant"]
        shown = self.table.coefficients[terms].join(self.p_value.rename("p of no movement"))
        return f"{table_text(shown, '{:.3f}')}\n{self.basis}"


@checked
def conditional_beta(
    panel: Panel,
    conditions: Sequence[str] | None = None,
    *,
    factor: str = "market",
    alpha_moves: bool = False,
    errors: str = "hac",
) -> ConditionalBetas:
    """Beta as a linear function of conditions known before (Shanken 1990; Ferson and Harvey 1999).

    Parameters
    ----------
    panel : Panel
        With conditions, which are in each row as they were known at the end of the row before.
    conditions : sequence of str, optional
        All of the panel by default.
    factor : str
        Name of the factor.
    alpha_moves : bool
        Whether alpha is a function of the conditions too (Christopherson, Ferson and Glassman 1998).
    errors : str
        As for :func:`ultrum.regress`.

    Returns
    -------
    ConditionalBetas
        Coefficients, and beta at each date.

    Notes
    -----
    eₜ = α + (β₀ + β'zₜ₋₁)fₜ + εₜ, each z less its mean and over its standard deviation in the sample, which
    sets the scale of the coefficients and nothing else: the fitted betas are the same for any scale.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> rate = ul.TimeSeries.from_pandas(panel.risk_free.rename("bill level"), measure="rate")
    >>> panel = ul.align(assets=panel.assets, factors=panel.factor_table, conditions=rate,
    ...                  risk_free=panel.rate, known_by="P1M")
    >>> conditional_beta(panel).beta.shape
    (250, 23)
    """
    names = [str(c) for c in (panel.conditions if conditions is None else conditions)]
    absent = [c for c in names if c not in panel.conditions]
    if absent or not names:
        names_there = choices(panel.conditions) or "none; align with conditions=..."
        raise EstimationError(f"No condition {listed(absent) or 'given'}; the panel has: {names_there}.")
    values = panel.factors[chosen_factor(panel, factor)]
    known_before = panel.conditions[names]
    scale = pd.DataFrame({"mean": known_before.mean(), "deviation": known_before.std()})
    still = scale.index[~(scale["deviation"] > 0)]
    if len(still):
        raise EstimationError(f"{listed(still)} does not move, so no beta can move with it.")
    z = (known_before - scale["mean"]) / scale["deviation"]
    moving = {f"{factor} × {c}": values * z[c] for c in names}
    design = pd.DataFrame({**({c: z[c] for c in names} if alpha_moves else {}), factor: values, **moving})
    table = regress(panel.excess, design, errors=errors)
    terms = list(table.coefficients.columns)
    places = [terms.index(factor), *(terms.index(t) for t in moving)]
    weights = np.column_stack([np.ones(len(z)), z.to_numpy(dtype=np.float64)])
    beta = weights @ table.coefficients.to_numpy()[:, places].T
    part = table.covariance[:, places][:, :, places]
    error = np.sqrt(np.einsum("ti,nij,tj->tn", weights, part, weights))
    assets = table.coefficients.index
    return ConditionalBetas(
        beta=pd.DataFrame(beta, z.index, assets),
        standard_error=pd.DataFrame(error, z.index, assets),
        table=table,
        p_value=pd.Series([_joint(table, str(a), list(moving)) for a in assets], assets),
        scale=scale,
        basis=f"{factor} beta moves with {', '.join(names)} (known before, standardised); "
        f"{errors_in_words(errors)}",
    )


def _joint(table: BetaTable, asset: str, terms: list[str]) -> float:
    if not table.nobs[asset]:
        return np.nan
    return table.fit(asset).test(terms).p_value
