"""Betas in rising and in falling markets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.displayed_numbers import counted
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.pricing.factor_betas import chosen_factor
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance import errors_in_words
from ultrum.core.regression.inference import t_p_values
from ultrum.core.regression.ols import regress
from ultrum.core.series.text_tables import TableInNotebooks, table_text


@dataclass(frozen=True, eq=False, repr=False)
class UpDownBetas(TableInNotebooks):
    """Betas in rising and falling markets.

    Attributes
    ----------
    up, down, up_error, down_error, p_value : Series, shape (N,)
        The p value is that of no difference.
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
        """Both betas with their errors, and the p value of no difference.

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
            "up": self.up, "up_error": self.up_error, "down": self.down, "down_error": self.down_error,
            "difference": self.up - self.down, "p": self.p_value,
        }  # fmt: skip
        return pd.DataFrame(columns)

    def __repr__(self) -> str:
        return f"{table_text(self.to_frame(), '{:.3f}')}\n{self.basis}"


@checked
def up_down_betas(panel: Panel, factor: str = "market", *, errors: str = "hac") -> UpDownBetas:
    """One beta for rising and one for falling markets (Henriksson and Merton 1981).

    The regression is e = α + β₊·max(f, 0) + β₋·min(f, 0).

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factor : str
        In excess of the risk-free rate, so that zero parts the two.
    errors : str
        As for :func:`ultrum.regress`.

    Returns
    -------
    UpDownBetas
        Both betas with their errors, and the test that they are equal.

    Examples
    --------
    >>> import ultrum as ul
    >>> made = up_down_betas(ul.practice.panel())
    >>> bool(made.p_value["BRTW"] > 0.05)
    True
    """
    values = panel.factors[chosen_factor(panel, factor)]
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
        p_value=pd.Series(p_value, table.coefficients.index),
        table=table,
        basis=f"{counted(rising, 'row')} with {factor} up, {len(values) - rising} not; {errors_in_words(errors)}",
    )
