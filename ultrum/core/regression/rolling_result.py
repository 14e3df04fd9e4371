"""The result of rolling regressions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import numpy.typing as npt
import pandas as pd

from ultrum.core.array_types import Floats, Ints
from ultrum.core.displayed_numbers import counted
from ultrum.core.regression.engine.covariance import degrees_of_freedom
from ultrum.core.regression.engine.newey_west import lag_rules
from ultrum.core.regression.fit import CONSTANT
from ultrum.core.regression.inference import t_quantile
from ultrum.core.series.text_tables import table_html
from ultrum.errors import EstimationError, one_of

STATUS: Final = ("estimated", "too few rows", "columns depend on each other")


@dataclass(frozen=True, eq=False, repr=False)
class RollingFit:
    """Regressions of N assets in W windows.

    Attributes
    ----------
    coefficients, standard_errors : ndarray, shape (W, N, p)
    nobs, sigma, r2 : ndarray, shape (W, N)
        Rows used, √(RSS/(nobs − p)) and R² of each window.
    status : ndarray of int8, shape (W, N)
        0 estimated, 1 too few rows, 2 columns depend on each other; the estimates of the last two are missing.
    ends : Index, shape (W,)
        Label of the last row of each window.
    assets, terms : list of str
    errors : str
    basis : str
        Window, errors and sample, for people.
    lags : int or None
        Lags of Newey and West's errors; by rule where there are none.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> rolled = ul.rolling_regress(panel.excess, panel.factor_table.select(["market"]), window=60)
    >>> rolled.frame().iloc[-2:, :3].round(2)
             BRTW  EBMK  CSHW
    period
    2024-11  0.57  0.56  1.14
    2024-12  0.58  0.54  1.10
    """

    coefficients: Floats
    standard_errors: Floats
    nobs: Ints
    sigma: Floats
    r2: Floats
    status: npt.NDArray[np.int8]
    ends: pd.Index
    assets: list[str]
    terms: list[str]
    errors: str
    basis: str
    lags: int | None = None

    @property
    def t_values(self) -> Floats:
        """Coefficients over their standard errors, (W, N, p)."""
        return np.asarray(self.coefficients / self.standard_errors)

    def frame(self, field: str = "coefficients", term: str | None = None) -> pd.DataFrame:
        """One field over time, shape (W, N); ``term`` for coefficients, standard errors and t values.

        By default the first factor. The status comes in words.

        Parameters
        ----------
        field : {"coefficients", "standard_errors", "t_values", "nobs", "r2", "sigma"}
            Field to take.
        term : str, optional
            Name of the constant or factor; by default the first factor.

        Returns
        -------
        DataFrame
            Values, a row a window, a column an asset.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> rolled = ul.rolling_regress(panel.excess, panel.factor_table.select(["market"]), window=60)
        >>> rolled.frame("r2").iloc[-2:, :3].round(2)
                 BRTW  EBMK  CSHW
        period
        2024-11  0.16  0.16  0.32
        2024-12  0.17  0.16  0.31
        """
        fields = ("coefficients", "standard_errors", "t_values", "nobs", "sigma", "r2", "status")
        if field not in fields:
            raise EstimationError(f"No field '{field}'; {one_of(field, fields)}")
        values = getattr(self, field)
        if values.ndim == 3:
            values = values[:, :, self._place(term)]
        elif field == "status":
            values = np.array(STATUS, dtype=object)[values]
        return pd.DataFrame(values, self.ends, self.assets)

    def interval(self, asset: str, term: str | None = None, level: float = 0.95) -> pd.DataFrame:
        """Estimate and confidence interval of one asset through time, columns ``estimate low high``.

        Parameters
        ----------
        asset : str
            Name of the asset.
        term : str, optional
            Name of the constant or factor; by default the first factor.
        level : float
            Confidence level, between 0 and 1.

        Returns
        -------
        DataFrame
            Estimates and bounds, a row a window.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> rolled = ul.rolling_regress(panel.excess, panel.factor_table.select(["market"]), window=60)
        >>> rolled.interval("BRTW").tail(2).round(2)
                 estimate   low  high
        period
        2024-11      0.57  0.20  0.93
        2024-12      0.58  0.21  0.94
        """
        if asset not in self.assets:
            raise EstimationError(f"No asset '{asset}'; {one_of(asset, self.assets)}")
        where, which = self.assets.index(asset), self._place(term)
        centre = self.coefficients[:, where, which]
        rows = self.nobs[:, where]
        lags = lag_rules(rows) if self.lags is None else np.full(len(rows), self.lags)
        free = np.maximum(degrees_of_freedom(self.errors, rows, len(self.terms), lags.astype(float)), 1)
        reach = self.standard_errors[:, where, which] * t_quantile(level, free)
        return pd.DataFrame({"estimate": centre, "low": centre - reach, "high": centre + reach}, self.ends)

    def to_frame(self) -> pd.DataFrame:
        """One row per window and asset: each term with its error, rows, sigma, R² and status.

        Returns
        -------
        DataFrame
            Estimates, a row a window and asset.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> moving = ul.rolling_regress(panel.excess, panel.factor_table.select(["market"]), window=60)
        >>> moving.to_frame()[["market", "market_error", "rows"]].tail(2).round(2)
                       market  market_error  rows
        end     asset
        2024-12 TDWD     0.62          0.24    60
                LMPB     1.29          0.33    60
        """
        index = pd.MultiIndex.from_product([self.ends, self.assets], names=["end", "asset"])
        columns: dict[str, Any] = {}
        for k, term in enumerate(self.terms):
            columns[term] = self.coefficients[:, :, k].ravel()
            columns[f"{term}_error"] = self.standard_errors[:, :, k].ravel()
        columns |= {"rows": self.nobs.ravel(), "sigma": self.sigma.ravel(), "r2": self.r2.ravel()}
        words = pd.Categorical.from_codes(self.status.ravel().astype(np.int64), categories=pd.Index(STATUS))
        return pd.DataFrame({**columns, "status": words}, index)

    def _place(self, term: str | None) -> int:
        term = term or next((t for t in self.terms if t != CONSTANT), self.terms[0])
        if term not in self.terms:
            raise EstimationError(f"No term '{term}'; {one_of(term, self.terms)}")
        return self.terms.index(term)

    def __repr__(self) -> str:
        return f"{self._head()}\n{self._summary().round(3).to_string(max_rows=24, line_width=100)}"

    def _repr_html_(self) -> str:
        return table_html(self._summary(), self._head(), 24)

    def _head(self) -> str:
        words = [f"{int((self.status == k).sum())} {name}" for k, name in enumerate(STATUS)]
        head = f"{counted(len(self.ends), 'window')} of {counted(len(self.assets), 'asset')}"
        return f"{head}, {self.basis}\n{', '.join(words)}"

    def _summary(self) -> pd.DataFrame:
        """Of the first factor: first and last estimate of each asset, and the span between."""
        shown = self.frame()
        error = self.frame("standard_errors")
        return pd.DataFrame(
            {
                f"first {self.terms[self._place(None)]}": shown.bfill().iloc[0],
                "least": shown.min(),
                "most": shown.max(),
                "last": shown.ffill().iloc[-1],
                "its error": error.ffill().iloc[-1],
                "windows": (self.status == 0).sum(axis=0),
            }
        )
