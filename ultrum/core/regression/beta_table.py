"""Regressions of many dependent variables on the same regressors, as tables by asset."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import cast

import numpy as np
import pandas as pd

from ultrum.core.array_types import Bools, Floats
from ultrum.core.presentation import ToLatex, estimates_text, quantity, table_html
from ultrum.core.regression.engine.covariance import degrees_of_freedom, errors_in_words
from ultrum.core.regression.engine.newey_west_and_fixed_b import score_autocorrelation
from ultrum.core.regression.fit import CONSTANT, Fit
from ultrum.core.regression.inference import t_p_values, t_quantile
from ultrum.core.regression.inputs import same_rows
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.workings import Workings
from ultrum.errors import EstimationError, one_of


@dataclass(frozen=True, eq=False, repr=False)
class BetaTable(ToLatex):
    """Regressions of many assets on the same factors, such as the CAPM, each on its own sample.

    The loadings measure systematic risk; ``sigma`` is the idiosyncratic risk per period.

    Attributes
    ----------
    coefficients, standard_errors, t_values, p_values : DataFrame, shape (N, p)
    covariance : ndarray, shape (N, p, p)
    nobs, df, sigma, r2, lags, first, last : Series, shape (N,)
    residuals : DataFrame, shape (T, N)
        Missing where an observation was not used.
    dropped : DataFrame, shape (N, causes)
        Observations not used, by cause; causes inside the panel name the series that was missing.
    unadjusted : BetaTable or None
        The regressions before adjustment, where :func:`ultrum.shrink_betas` has shrunk their betas. Residuals and
        :meth:`fit` refer to these.
    kinds : mapping of str to str
        Kind of return of each asset and factor, by name: ``excess return`` or ``return``; empty for plain
        numbers.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> betas.to_frame()[["market", "market_error", "r2"]].head(3).round(3)
          market  market_error     r2
    BRTW   0.564         0.104  0.120
    EBMK   0.476         0.080  0.100
    CSHW   0.660         0.099  0.137
    """

    coefficients: pd.DataFrame
    covariance: Floats
    nobs: pd.Series
    sigma: pd.Series
    r2: pd.Series
    lags: pd.Series
    response: pd.DataFrame
    design: pd.DataFrame
    dropped: pd.DataFrame
    errors: str
    weights: pd.Series | None = None
    clusters: pd.Series | None = None
    unadjusted: BetaTable | None = None
    kinds: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def assets(self) -> list[str]:
        """Names of the dependent variables."""
        return list(self.coefficients.index)

    @property
    def standard_errors(self) -> pd.DataFrame:
        """Square roots of each covariance's diagonal."""
        variances = np.diagonal(self.covariance, axis1=1, axis2=2)
        return self._like(np.sqrt(variances))

    @property
    def t_values(self) -> pd.DataFrame:
        """Coefficients over their standard errors."""
        return self.coefficients / self.standard_errors

    @property
    def p_values(self) -> pd.DataFrame:
        """Two-sided, Student's t with each asset's ``df``."""
        return self._like(t_p_values(self.t_values.to_numpy(), self.df.to_numpy()[:, None]))

    @cached_property
    def residuals(self) -> pd.DataFrame:
        """Dependent variable less fitted values, shape (T, N); missing where an observation was not used."""
        if self.unadjusted is not None:
            return self.unadjusted.residuals
        left = self.response.to_numpy(dtype=np.float64)
        apart = left - self.design.to_numpy(dtype=np.float64) @ self.coefficients.to_numpy().T
        apart[~self._used()] = np.nan
        return pd.DataFrame(apart, self.response.index, self.coefficients.index, copy=False)

    @property
    def df(self) -> pd.Series:
        """Degrees of freedom of each asset's t, as of :attr:`Fit.df`."""
        if self.clusters is not None:
            return self.clusters - 1
        degrees = degrees_of_freedom(
            self.errors, self.nobs.to_numpy(), self.coefficients.shape[1], self.lags.to_numpy(float)
        )
        return pd.Series(degrees, self.nobs.index, name=self.nobs.name)

    @property
    def first(self) -> pd.Series:
        """First observation used for each asset."""
        return self._edge(0)

    @property
    def last(self) -> pd.Series:
        """Last observation used for each asset."""
        return self._edge(-1)

    @property
    def score_autocorrelation(self) -> pd.DataFrame:
        """First autocorrelation of the score of each coefficient, corrected for its bias, shape (N, p).

        Above 0.3 standard errors that are not prewhitened are too small.
        """
        return self._like(self.scores_by_asset())

    def scores_by_asset(self) -> Floats:
        """First autocorrelation of the scores, as an array.

        Returns
        -------
        ndarray, shape (N, p)
            By asset and term; missing where rows have no order in time.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.factor_betas(ul.practice.panel(), ["market"]).scores_by_asset().shape
        (23, 2)
        """
        residuals, X = self.residuals.to_numpy(), self.design.to_numpy(dtype=np.float64)
        if self.weights is not None:
            root = np.sqrt(self.weights.to_numpy(dtype=np.float64))[:, None]
            residuals, X = residuals * root, X * root
        used = np.isfinite(residuals)
        out = np.full(self.coefficients.shape, np.nan)
        if not isinstance(self.response.index, pd.PeriodIndex | pd.DatetimeIndex | pd.RangeIndex):
            return out  # rows without an order in time
        positions = time_positions(self.response.index)
        for columns in same_rows(used):
            rows = np.flatnonzero(used[:, columns[0]])
            if len(rows) > X.shape[1]:
                pull = np.linalg.pinv(X[rows])
                out[columns] = score_autocorrelation(pull, residuals[np.ix_(rows, columns)], positions[rows]).T
        return out

    def interval(self, term: str, level: float = 0.95) -> pd.DataFrame:
        """Confidence interval of one term for every asset, columns ``low high``.

        Parameters
        ----------
        term : str
            Name of the constant or factor.
        level : float
            Confidence level, between 0 and 1.

        Returns
        -------
        DataFrame
            Bounds, one row per asset.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> betas.interval("market").head(3).round(2)
               low  high
        BRTW  0.36  0.77
        EBMK  0.32  0.63
        CSHW  0.47  0.85
        """
        centre = self.coefficients[term]
        reach = self.standard_errors[term] * t_quantile(level, self.df.to_numpy())
        return pd.DataFrame({"low": centre - reach, "high": centre + reach})

    def fit(self, asset: str) -> Fit:
        """Regression of one asset, identical to :func:`ultrum.regress` on that asset alone.

        Parameters
        ----------
        asset : str
            Name of the asset.

        Returns
        -------
        Fit
            The regression and its sample.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> betas.fit("BRTW").coefficients.round(4)
        constant    0.0029
        market      0.5642
        Name: BRTW, dtype: float64
        """
        if self.unadjusted is not None:
            return self.unadjusted.fit(asset)
        if asset not in self.coefficients.index:
            raise EstimationError(f"No asset '{asset}'; {one_of(asset, self.assets)}")
        where = int(cast(int, self.coefficients.index.get_loc(asset)))
        if not self.nobs.iloc[where]:
            raise EstimationError(f"{asset} has too few observations for an estimate.")
        used = self._used([where])[:, 0]
        terms = self.coefficients.columns
        lags = float(self.lags.iloc[where])
        weights = None if self.weights is None else self.weights[used]
        return Fit(
            name=asset,
            coefficients=self.coefficients.iloc[where],
            covariance=pd.DataFrame(self.covariance[where], terms, terms),
            response=self.response[asset][used],
            design=self.design[used],
            sigma=float(self.sigma.iloc[where]),
            r2=float(self.r2.iloc[where]),
            errors=self.errors,
            lags=None if np.isnan(lags) else int(lags),
            dropped={str(c): int(self.dropped[c].iloc[where]) for c in self.dropped},
            weights=None if weights is None else weights / weights.mean(),
            clusters=None if self.clusters is None else int(self.clusters.iloc[where]),
            kinds=self.kinds,
        )

    def workings(self, asset: str) -> Workings:
        """Calculation of the coefficients of one asset from its observations; see :meth:`Fit.workings`.

        Parameters
        ----------
        asset : str
            Name of the asset.

        Returns
        -------
        Workings
            Steps from the observations to each coefficient.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> betas.workings("BRTW").to_frame().tail(3)[["name", "value"]]
                 name     value
        8   classical  0.096819
        9       alpha  0.002874
        10       beta  0.564248
        """
        return self.fit(asset).workings()

    def to_frame(self) -> pd.DataFrame:
        """One row per asset: each term with its standard error, t and p; then R², sigma and sample.

        Returns
        -------
        DataFrame
            Estimates, one row per asset.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> betas.to_frame().iloc[:2, :4].round(3)
              constant  constant_error  constant_t  constant_p
        BRTW     0.003           0.004       0.776       0.439
        EBMK     0.001           0.004       0.194       0.847
        """
        parts = {}
        for term in self.coefficients.columns:
            parts[term] = self.coefficients[term]
            parts[f"{term}_error"] = self.standard_errors[term]
            parts[f"{term}_t"] = self.t_values[term]
            parts[f"{term}_p"] = self.p_values[term]
        tail = {"r2": self.r2, "sigma": self.sigma, "rows": self.nobs, "first": self.first}
        return pd.DataFrame({**parts, **tail, "last": self.last, "dropped": self.observations_dropped})

    @property
    def observations_dropped(self) -> pd.Series:
        """Observations within each asset's own history that were not used, for any cause."""
        return self.dropped.sum(axis=1).astype(np.int64)

    def _like(self, values: Floats) -> pd.DataFrame:
        return pd.DataFrame(values, self.coefficients.index, self.coefficients.columns)

    @property
    def rows_used(self) -> Bools:
        """Mask of the observations used for each asset, shape (T, N)."""
        return self._used()

    def _used(self, columns: slice | list[int] = slice(None)) -> Bools:
        """Observations used for each estimate."""
        there = np.isfinite(self.response.iloc[:, columns].to_numpy(dtype=np.float64))
        return np.asarray(there & self._whole[:, None] & (self.nobs.to_numpy()[columns] > 0))

    @cached_property
    def _whole(self) -> Bools:
        """Observations in which no regressor is missing."""
        return np.asarray(np.isfinite(self.design.to_numpy(dtype=np.float64)).all(axis=1))

    def _edge(self, which: int) -> pd.Series:
        used, index = self._used(), self.response.index
        place = used.argmax(axis=0) if which == 0 else len(used) - 1 - used[::-1].argmax(axis=0)
        some: Bools = np.asarray(used.any(axis=0))
        labels = [index[int(row)] if there else None for row, there in zip(place, some, strict=True)]
        return pd.Series(labels, self.assets, dtype=None if some.all() else object)

    def __repr__(self) -> str:
        beside = pd.DataFrame({"R2": self.r2.round(3), "rows": self.nobs, "dropped": self.observations_dropped})
        values, errors = self.coefficients, self.standard_errors
        if CONSTANT in values and all(str(name) in self.kinds for name in self.assets):
            name = {CONSTANT: "alpha, %"}  # of returns
            values, errors = (
                (100.0 * t[[CONSTANT]]).join(t.drop(columns=CONSTANT)).rename(columns=name)
                for t in (values, errors)
            )
        text = estimates_text(values, errors, beside)
        return f"{quantity(len(self.assets), 'asset')}; {errors_in_words(self.errors)} in parentheses\n{text}"

    def _repr_html_(self) -> str:
        kind = errors_in_words(self.errors)
        return table_html(self.to_frame(), f"{quantity(len(self.assets), 'asset')}; {kind}")
