"""Regressions of many dependent variables on the same regressors, as tables by asset."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import Final

import numpy as np
import pandas as pd
from numpy.typing import ArrayLike

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.presentation import ToLatex, estimates_text, quantity, table_html
from ultrum.core.regression.engine.covariance_and_bootstrap import CLUSTERED, degrees_of_freedom, errors_in_words
from ultrum.core.regression.engine.newey_west_and_fixed_b import score_autocorrelation, score_autocorrelations
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.inference import t_p_values, t_quantile
from ultrum.core.regression.inputs import CONSTANT, Names, Observations, same_rows
from ultrum.core.time.index_frequency_and_gaps import has_order, time_positions
from ultrum.core.workings import Workings
from ultrum.errors import EstimationError, one_of

_FEW_SAMPLES: Final = 16  # different sets of rows that are worked on one after another


@dataclass
class ColumnEstimates:
    """Estimates of many dependent variables as arrays, filled piece by piece.

    ``coefficients`` (N, p), ``covariance`` (N, p, p), the others (N,). ``short`` counts the observations of a
    variable that has too few. ``persistence`` (N, p) is the first autocorrelation of the scores; infinite if
    unknown.
    """

    coefficients: Floats
    covariance: Floats
    nobs: Ints
    sigma: Floats
    r2: Floats
    lags: Floats
    clusters: Floats
    short: Ints
    persistence: Floats

    @classmethod
    def blank(cls, assets: int, terms: int) -> ColumnEstimates:
        """Nothing estimated yet."""
        sigma, r2, lags, clusters = np.full((4, assets), np.nan)
        nobs, short = np.zeros((2, assets), dtype=np.int64)
        coefficients, unknown = np.full((assets, terms), np.nan), np.full((assets, terms), np.inf)
        covariance = np.full((assets, terms, terms), np.nan)
        return cls(coefficients, covariance, nobs, sigma, r2, lags, clusters, short, unknown)

    def close(self) -> None:
        """Make the arrays read-only, once they are filled."""
        for one in fields(self):
            getattr(self, one.name).flags.writeable = False

    @classmethod
    def join(cls, parts: Sequence[ColumnEstimates]) -> ColumnEstimates:
        """Several parts, one after another."""
        return cls(*(np.concatenate([getattr(part, f.name) for part in parts]) for f in fields(cls)))


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

    estimates: ColumnEstimates
    names: Names
    terms: Names
    observed: Observations
    regressors: Observations
    losses: Mapping[str, Ints]
    errors: str
    row_weights: Floats | None = None
    unadjusted: BetaTable | None = None
    kinds: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def coefficients(self) -> pd.DataFrame:
        """Estimates, shape (N, p)."""
        return self._like(self.estimates.coefficients)

    @property
    def covariance(self) -> Floats:
        """Covariance of each asset's coefficients, shape (N, p, p)."""
        return self.estimates.covariance

    @cached_property
    def nobs(self) -> pd.Series:
        """Observations used."""
        return self._series(self.estimates.nobs)

    @cached_property
    def sigma(self) -> pd.Series:
        """Standard error of each regression, √(RSS/(T − p))."""
        return self._series(self.estimates.sigma)

    @cached_property
    def r2(self) -> pd.Series:
        """R², uncentred without a constant."""
        return self._series(self.estimates.r2)

    @cached_property
    def lags(self) -> pd.Series:
        """Lags of Newey–West standard errors; missing for other kinds."""
        return self._series(self.estimates.lags)

    @cached_property
    def clusters(self) -> pd.Series | None:
        """Smaller number of clusters, where standard errors are clustered."""
        return self._series(self.estimates.clusters) if self.errors in CLUSTERED else None

    @property
    def response(self) -> pd.DataFrame:
        """Dependent variables, shape (T, N)."""
        return self.observed.frame

    @property
    def design(self) -> pd.DataFrame:
        """Regressors, shape (T, p)."""
        return self.regressors.frame

    @cached_property
    def weights(self) -> pd.Series | None:
        """Weights of the observations."""
        return None if self.row_weights is None else pd.Series(self.row_weights, self.regressors.index)

    @cached_property
    def dropped(self) -> pd.DataFrame:
        """Observations not used, by cause, shape (N, causes)."""
        return pd.DataFrame(dict(self.losses), self._labels)

    @cached_property
    def assets(self) -> list[str]:
        """Names of the dependent variables."""
        return [str(name) for name in self.names]

    @property
    def standard_errors(self) -> pd.DataFrame:
        """Square roots of each covariance's diagonal."""
        return self._like(np.sqrt(np.diagonal(self.covariance, axis1=1, axis2=2)))

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
        apart = self.observed.values - self.regressors.values @ self.estimates.coefficients.T
        apart[~self._used()] = np.nan
        return pd.DataFrame(apart, self.observed.index, self._labels, copy=False)

    @property
    def df(self) -> pd.Series:
        """Degrees of freedom of each asset's t, as of :attr:`Fit.df`."""
        if self.clusters is not None:
            return self.clusters - 1
        made = self.estimates
        return self._series(degrees_of_freedom(self.errors, made.nobs, len(self.terms), made.lags))

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
        if not np.isinf(self.estimates.persistence).any():
            return self.estimates.persistence
        residuals, X = self.residuals.to_numpy(), self.regressors.values
        if self.row_weights is not None:
            root = np.sqrt(self.row_weights)[:, None]
            residuals, X = residuals * root, X * root
        used = np.isfinite(residuals)
        out = np.full(self.estimates.coefficients.shape, np.nan)
        if not has_order(self.observed.index):
            return out
        positions = time_positions(self.observed.index)
        groups = same_rows(used)
        if len(groups) > _FEW_SAMPLES:
            out = score_autocorrelations(X, residuals, positions)
            groups = [g for g in groups if np.isnan(out[g[0]]).any()]  # short or nearly collinear: one by one
        for columns in groups:
            rows = np.flatnonzero(used[:, columns[0]])
            if len(rows) > X.shape[1]:
                pull = np.asarray(np.linalg.pinv(X[rows]), dtype=np.float64)
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

    def fit(self, asset: Hashable) -> Fit:
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
        if asset not in self.names:
            raise EstimationError(f"No asset '{asset}'; {one_of(asset, self.assets)}")
        where, made = self.names.index(asset), self.estimates
        if not made.nobs[where]:
            raise EstimationError(f"{asset} has too few observations for an estimate.")
        whole = made.nobs[where] == len(self.regressors.index)
        rows: slice | Bools = slice(None) if whole else self._used([where])[:, 0]
        heavy = None if self.row_weights is None else self.row_weights[rows]
        return Fit(
            name=str(asset),
            values=made.coefficients[where],
            variances=made.covariance[where],
            observed=self.observed.values[rows, where],
            regressors=self.regressors.take(rows),
            sigma=float(made.sigma[where]),
            r2=float(made.r2[where]),
            errors=self.errors,
            lags=None if np.isnan(made.lags[where]) else int(made.lags[where]),
            dropped={cause: int(counts[where]) for cause, counts in self.losses.items()},
            row_weights=None if heavy is None else heavy / heavy.mean(),
            clusters=int(made.clusters[where]) if self.errors in CLUSTERED else None,
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
        errors, t_values, p_values = self.standard_errors, self.t_values, self.p_values
        parts = {}
        for term in self.coefficients.columns:
            parts[term] = self.coefficients[term]
            parts[f"{term}_error"] = errors[term]
            parts[f"{term}_t"] = t_values[term]
            parts[f"{term}_p"] = p_values[term]
        tail = {"r2": self.r2, "sigma": self.sigma, "rows": self.nobs, "first": self.first}
        return pd.DataFrame({**parts, **tail, "last": self.last, "dropped": self.observations_dropped})

    @property
    def observations_dropped(self) -> pd.Series:
        """Observations within each asset's own history that were not used, for any cause."""
        return self.dropped.sum(axis=1).astype(np.int64)

    def with_coefficients(
        self, coefficients: ArrayLike, covariance: Floats | None = None, terms: Names | None = None
    ) -> BetaTable:
        """The same regressions with adjusted coefficients.

        Parameters
        ----------
        coefficients : array of shape (N, p)
            By asset and term.
        covariance : ndarray, shape (N, p, p), optional
            Of the coefficients; by default unchanged.
        terms : tuple of str, optional
            Names of the coefficients, where they are others than before.

        Returns
        -------
        BetaTable
            With these coefficients.

        Examples
        --------
        >>> import ultrum as ul
        >>> betas = ul.factor_betas(ul.practice.panel(), ["market"])
        >>> round(betas.with_coefficients(0.5 * betas.coefficients).coefficients.loc["BRTW", "market"], 4)
        np.float64(0.2821)
        """
        values = np.array(coefficients, dtype=np.float64)
        spread = self.covariance if covariance is None else covariance
        estimates = replace(self.estimates, coefficients=values, covariance=spread)
        return replace(self, estimates=estimates, terms=self.terms if terms is None else terms)

    @cached_property
    def _labels(self) -> pd.Index:
        return pd.Index(self.names, tupleize_cols=False)

    def _like(self, values: Floats) -> pd.DataFrame:
        return pd.DataFrame(values, self._labels, pd.Index(self.terms, tupleize_cols=False), copy=True)

    def _series(self, values: Floats | Ints) -> pd.Series:
        return pd.Series(values, self._labels, copy=True)

    @property
    def rows_used(self) -> Bools:
        """Mask of the observations used for each asset, shape (T, N)."""
        return self._used()

    def _used(self, columns: slice | list[int] = slice(None)) -> Bools:
        """Observations used for each estimate."""
        there = np.isfinite(self.observed.values[:, columns])
        return np.asarray(there & self._whole[:, None] & (self.estimates.nobs[columns] > 0))

    @cached_property
    def _whole(self) -> Bools:
        """Observations in which no regressor is missing."""
        return np.asarray(np.isfinite(self.regressors.values).all(axis=1))

    def _edge(self, which: int) -> pd.Series:
        used, index = self._used(), self.observed.index
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
