"""Factor betas of a whole panel."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.large_data import accepts_large
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.ols import regress
from ultrum.errors import EstimationError, choices, listed


@accepts_large("panel")
@checked
def factor_betas(
    panel: Panel,
    factors: Sequence[str] | None = None,
    *,
    errors: str = "hac",
    lags: int | str | None = None,
) -> BetaTable:
    """Regress every asset's excess return on the factors, each on its own sample.

    Parameters
    ----------
    panel : Panel or LongPanel
        Made by :func:`ultrum.align`.
    factors : sequence of str, optional
        Names of factors; all of them by default.
    errors : str
        Kind of standard errors, as for :func:`ultrum.regress`.
    lags : int or {"automatic"}, optional
        Lags of ``hac`` errors, as for :func:`ultrum.regress`.

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


class HasFactors(Protocol):
    """A panel, in memory or on disk."""

    @property
    def factors(self) -> pd.DataFrame:
        """Shape (T, K)."""


def chosen_factors(panel: HasFactors, factors: Sequence[str] | None, *, empty: bool = False) -> list[str]:
    """The factors named, or all of the panel; ``empty`` allows none."""
    names = [str(n) for n in (panel.factors if factors is None else factors)]
    unknown = [n for n in names if n not in panel.factors]
    if unknown or not (names or empty):
        names_there = choices(panel.factors)
        raise EstimationError(f"No factor {listed(unknown) or 'given'}; the panel has: {names_there}.")
    return names


def chosen_factor(panel: Panel, factor: str) -> str:
    """The one factor named, if the panel has it."""
    return chosen_factors(panel, [factor])[0]
