"""The result of a beta on one factor."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import pandas as pd

from ultrum.core.series.text_tables import TableInNotebooks, table_text


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
        """Beta, error and rows of each asset.

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

    def __repr__(self) -> str:
        return f"{table_text(self.to_frame())}\n{self.basis}"
