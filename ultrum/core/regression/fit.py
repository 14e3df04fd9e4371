"""The fit of one dependent variable: estimates, tests, influence (Cook's distance) and a summary in words."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import ClassVar, Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.core.deprecated_names import RenamedColumns
from ultrum.core.presentation import ToLatex, ToPlot, p_equals, quantity
from ultrum.core.regression.engine.covariance_and_bootstrap import COSINE, degrees_of_freedom, errors_in_words
from ultrum.core.regression.engine.least_squares import condition_number, orthonormal
from ultrum.core.regression.inference import (
    CoefficientInference,
    TestResult,
    degrees_in_words,
    restriction_matrix,
    restrictions_in_words,
)
from ultrum.core.regression.inputs import CONSTANT, Observations
from ultrum.core.time.index_frequency_and_gaps import infer_frequency
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.core.workings import Workings
from ultrum.core.workings_of_results import regression_workings
from ultrum.errors import EstimationError, FrequencyError, name_list


def influence_table(X: Floats, residuals: Floats, index: pd.Index) -> pd.DataFrame:
    """Leverage, scaled residuals and the effect of deleting each observation (Cook 1977; Belsley and others
    1980).

    Parameters
    ----------
    X, residuals : ndarray, shape (T, p) and (T,)
    index : Index
    """
    rows, terms = X.shape
    Q = orthonormal(X)
    leverage = np.sum(Q * Q, axis=1)
    slack = np.maximum(1.0 - leverage, np.finfo(float).eps)
    sigma = np.sqrt(residuals @ residuals / (rows - terms))
    with np.errstate(divide="ignore", invalid="ignore"):
        standardised = residuals / (sigma * np.sqrt(slack))
        outside = standardised * np.sqrt((rows - terms - 1) / np.maximum(rows - terms - standardised**2, 0.0))
        columns = {
            "leverage": leverage,
            "residual": residuals,
            "standardised": standardised,
            "studentised": outside,
            "cooks_distance": standardised**2 * leverage / (slack * terms),
            "dffits": outside * np.sqrt(leverage / slack),
        }
    return _InfluenceTable(pd.DataFrame(columns, index))


class _InfluenceTable(RenamedColumns):
    old_names: ClassVar = {"cook": "cooks_distance", "shift": "dffits"}


# A regression in words: each figure in one sentence

NO_RESPONSE: Final = "missing dependent variable"


def loss_summary(dropped: Mapping[str, int]) -> str:
    """Observations dropped, with their causes.

    Examples
    --------
    >>> loss_summary({"missing size": 15, "missing dependent variable": 2})
    '17 observations dropped: 15 missing size, 2 missing dependent variable'
    >>> loss_summary({})
    'no observations dropped'
    """
    causes = ", ".join(f"{n} {cause}" for cause, n in dropped.items() if n)
    return (
        f"{quantity(sum(dropped.values()), 'observation')} dropped: {causes}"
        if causes
        else "no observations dropped"
    )


@dataclass(frozen=True)
class Figures:
    """The statistics of a regression that the summary needs."""

    name: str
    nobs: int
    errors: str
    lags: int | None
    index: pd.Index
    coefficients: pd.Series
    p_values: pd.Series
    interval: pd.DataFrame
    level: float
    r2: float
    sigma: float
    dropped: Mapping[str, int]
    detectable: pd.Series


def sentences(fit: Figures, constant: str) -> list[str]:
    """One sentence per statistic of a regression; factor returns are in decimals."""
    noun, level = noun_of(fit.index), fit.level
    first, last = (period_label(fit.index[end]) for end in (0, -1))
    lags = f", {quantity(fit.lags, 'lag')}" if fit.lags is not None else ""
    lines = [f"{fit.name}: {fit.nobs} {noun}s, {first} to {last}; {errors_in_words(fit.errors)}{lags}."]
    ends = fit.interval
    for term in fit.coefficients.index:
        value, p = float(fit.coefficients[term]), float(fit.p_values[term])
        low, high = float(ends.loc[term, "low"]), float(ends.loc[term, "high"])
        if term == constant:
            lines.append(_alpha(value, low, high, p, noun, level))
            lines.append(
                f"Minimum detectable alpha: {100 * fit.detectable[term]:.2f} % per {noun} (80 % power, two-sided "
                "5 % test)."
            )
        else:
            lines.append(_beta(str(fit.name), str(term), value, low, high, p, noun, level))
    factors = [str(t) for t in fit.coefficients.index if t != constant]
    lines.append(_r2(fit.r2, factors, centred=constant in fit.coefficients.index))
    lines.append(f"Idiosyncratic volatility (s.e. of regression): {100 * fit.sigma:.2f} % per {noun}.")
    if any(fit.dropped.values()):
        summary = loss_summary(fit.dropped)
        lines.append(f"{summary[0].upper()}{summary[1:]}.")
    return lines


def noun_of(index: pd.Index) -> str:
    """Noun for one observation of an index."""
    try:
        return infer_frequency(index).noun
    except FrequencyError:
        return "row"


def _alpha(value: float, low: float, high: float, p: float, noun: str, level: float) -> str:
    verdict = "not significantly different from zero" if low <= 0 <= high else "significantly different from zero"
    return (
        f"Alpha (Jensen's alpha): {100 * value:.2f} % per {noun}, {100 * level:g} % CI {100 * low:.2f} to "
        f"{100 * high:.2f} %; {verdict} ({p_equals(p)})."
    )


def _beta(name: str, term: str, value: float, low: float, high: float, p: float, noun: str, level: float) -> str:
    inside = [str(number) for number in (0, 1) if low <= number <= high]
    outside = [str(number) for number in (0, 1) if not low <= number <= high]
    parts = [f"{word} {' and '.join(n)}" for word, n in (("excludes", outside), ("includes", inside)) if n]
    direction = "higher" if value >= 0 else "lower"
    return (
        f"{term}: beta {value:.2f}, {100 * level:g} % CI {low:.2f} to {high:.2f}, which {' and '.join(parts)} "
        f"(H0: β = 0, {p_equals(p)}). In a {noun} in which {term} is 1 % higher, {name} is {abs(value):.2f} % "
        f"{direction} on average, other factors equal."
    )


def _r2(r2: float, factors: list[str], *, centred: bool) -> str:
    if not np.isfinite(r2):
        return "R² is undefined: the dependent variable is constant."
    what = factors[0] if len(factors) == 1 else "the model"
    if not centred:
        return (
            f"R² {r2:.2f} is uncentred, since there is no constant: it is not a share of the variance, and not "
            "comparable with that of a regression with a constant."
        )
    return (
        f"R² {r2:.2f}: {what} explains {100 * r2:.0f} % of the variance; {100 * (1 - r2):.0f} % is residual "
        "(idiosyncratic) variance, diversifiable to the extent that residuals are uncorrelated across assets."
    )


# The regression of one dependent variable, with everything that follows from it


@dataclass(frozen=True, eq=False, repr=False)
class Fit(CoefficientInference, ToLatex, ToPlot):
    """One estimated regression.

    Attributes
    ----------
    coefficients, standard_errors, t_values, p_values : Series, shape (p,)
        Labelled by term; the first is ``constant`` where there is one.
    covariance : DataFrame, shape (p, p)
    response, design : Series (T,), DataFrame (T, p)
        The observations used.
    nobs, df, sigma, r2, r2_adjusted
        Number of observations; degrees of freedom of t; √(RSS/(T − p)); R², uncentred without a constant.
    errors, lags
        Kind of standard errors, and the lags of ``hac``.
    weights, clusters : Series (T,) and int, optional
        Weights of the observations used, with mean one; and the smaller number of clusters.
    condition_number : float
        Condition number of the column-scaled design (Belsley, Kuh and Welsch 1980).
    sample : tuple
        Labels of the first and last observation used.
    dropped : mapping of str to int
        Observations not used, by cause; causes inside the panel name the series that was missing.
    kinds : mapping of str to str
        Kind of return of the dependent variable and the factors, by name: ``excess return`` or ``return``; empty
        for plain numbers.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> fit = betas.fit("BRTW")
    >>> fit.to_frame()[["coefficient", "standard_error", "t"]].round(4)
              coefficient  standard_error       t
    constant       0.0029          0.0037  0.7755
    market         0.5642          0.1038  5.4352
    >>> fit.nobs, round(fit.r2, 3)
    (251, 0.12)
    """

    _figure: ClassVar[str] = "line_of_fit"
    name: str
    values: Floats
    variances: Floats
    observed: Floats
    regressors: Observations
    sigma: float
    r2: float
    errors: str
    lags: int | None
    dropped: Mapping[str, int] = field(default_factory=dict)
    row_weights: Floats | None = None
    clusters: int | None = None
    kinds: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def coefficients(self) -> pd.Series:
        """Estimates, shape (p,)."""
        return pd.Series(self.values, self.regressors.labels, name=self.name, copy=True)

    @cached_property
    def covariance(self) -> pd.DataFrame:
        """Covariance of the coefficients, shape (p, p)."""
        labels = self.regressors.labels
        return pd.DataFrame(self.variances, labels, labels, copy=True)

    @cached_property
    def response(self) -> pd.Series:
        """Dependent variable, for the observations used."""
        return pd.Series(self.observed, self.regressors.index, name=self.name, copy=True)

    @property
    def design(self) -> pd.DataFrame:
        """Regressors, for the observations used."""
        return self.regressors.frame

    @cached_property
    def weights(self) -> pd.Series | None:
        """Weights of the observations used, with mean one."""
        return None if self.row_weights is None else pd.Series(self.row_weights, self.regressors.index)

    def rows_by_weight(self) -> tuple[Floats, Floats]:
        """Regressors and dependent variable, each observation times the root of its weight.

        Returns
        -------
        X, y : ndarray, shape (T, p) and (T,)
            The observations used.

        Examples
        --------
        >>> import ultrum as ul
        >>> X, y = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW").rows_by_weight()
        >>> X.shape, y.shape
        ((251, 2), (251,))
        """
        if self.row_weights is None:
            return self.regressors.values, self.observed
        root = np.sqrt(self.row_weights)
        return self.regressors.values * root[:, None], self.observed * root

    @property
    def fitted(self) -> pd.Series:
        """Fitted values of the observations used."""
        return (self.design @ self.coefficients).rename("fitted")

    @property
    def residuals(self) -> pd.Series:
        """Dependent variable less fitted values, for the observations used."""
        return (self.response - self.fitted).rename("residuals")

    @property
    def nobs(self) -> int:
        """Rows used."""
        return len(self.observed)

    @property
    def df(self) -> float:
        """Degrees of freedom of t: T − p; clusters less one; or the number of EWC cosines."""
        if self.clusters is not None:
            return self.clusters - 1
        lags = None if self.lags is None else np.array(self.lags, dtype=float)
        degrees = float(degrees_of_freedom(self.errors, np.array(self.nobs), len(self.values), lags))
        return int(degrees) if degrees.is_integer() else degrees

    @cached_property
    def condition_number(self) -> float:
        """Condition number of the column-scaled design (Belsley, Kuh and Welsch 1980)."""
        return condition_number(self.regressors.values)

    @property
    def r2_adjusted(self) -> float:
        """R² adjusted for degrees of freedom."""
        free = self.nobs - (1 if CONSTANT in self.regressors.names else 0)
        return float(1.0 - (1.0 - self.r2) * free / (self.nobs - len(self.values)))

    @property
    def sample(self) -> tuple[object, object]:
        """First and last observation used."""
        return self.regressors.index[0], self.regressors.index[-1]

    def test(self, R: object, value: object = 0.0) -> TestResult:
        """Wald test of R·coefficients = value, as an F with (q, df) degrees of freedom.

        Parameters
        ----------
        R : str, list of str, or array of shape (q, p)
            Names of coefficients, or the restriction matrix itself.
        value : float or array of shape (q,)
            Value of the restrictions under the null hypothesis.

        Returns
        -------
        TestResult
            Statistic, degrees of freedom and p value.

        Examples
        --------
        >>> from ultrum.core.regression.regress import regress
        >>> fit = regress([1.0, 2.1, 2.9, 4.2], [[1.0], [2.0], [3.0], [4.0]], errors="classical")
        >>> fit.test("x1", 1.0).p_value > 0.3
        True
        """
        restrictions = restriction_matrix(R, self.coefficients.index)
        gap = restrictions @ self.coefficients.to_numpy() - np.asarray(value, dtype=np.float64)
        middle = restrictions @ self.covariance.to_numpy() @ restrictions.T
        count = len(restrictions)
        if np.linalg.matrix_rank(middle) < count:
            raise EstimationError(
                f"fit.test: the {count} restrictions are not independent. Drop the redundant ones."
            )
        statistic = gap @ np.linalg.solve(middle, gap) / count
        hypothesis = restrictions_in_words(restrictions, value, list(map(str, self.coefficients.index)))
        below = self.df
        if self.errors in COSINE and count > 1:  # Hotelling's T² as an F
            below = below - count + 1
            if below < 1:
                raise EstimationError(
                    f"fit.test: a joint test of {count} restrictions with errors='{self.errors}' needs more than "
                    f"{count} degrees of freedom; this sample gives {self.df:g}. Use errors='hac' or a longer "
                    "sample."
                )
            statistic *= below / self.df
        return TestResult.of_f(statistic, count, below, hypothesis=hypothesis)

    def influence(self) -> pd.DataFrame:
        """Influence of each observation: leverage, studentised residuals, Cook's distance, DFFITS.

        Returns
        -------
        DataFrame
            One row per observation: ``leverage``, ``residual``, ``standardised`` (internally studentised),
            ``studentised`` (externally studentised, the deleted residual), ``cooks_distance``, ``dffits``.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> fit = betas.fit("BRTW")
        >>> fit.influence()["cooks_distance"].nlargest(2).round(3)
        period
        2004-04    0.165
        2009-10    0.105
        Freq: M, Name: cooks_distance, dtype: float64
        """
        X, y = self.rows_by_weight()
        return influence_table(X, y - X @ self.values, self.regressors.index)

    def in_words(self, level: float = 0.95) -> str:
        """Summary in words: one sentence per statistic, with returns in decimals.

        Parameters
        ----------
        level : float
            Confidence level, between 0 and 1.

        Returns
        -------
        str
            Sentences.

        Examples
        --------
        >>> import ultrum as ul
        >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
        >>> "H0: β = 0" in fit.in_words()
        True
        """
        figures = Figures(
            str(self.name),
            self.nobs,
            self.errors,
            self.lags,
            self.response.index,
            self.coefficients,
            self.p_values,
            self.interval(level),
            level,
            self.r2,
            self.sigma,
            self.dropped,
            self.detectable(),
        )
        return "\n".join(sentences(figures, CONSTANT))

    def workings(self) -> Workings:
        """Calculation of the coefficients: covariance over variance, or the normal equations.

        Returns
        -------
        Workings
            Steps to each coefficient.

        Examples
        --------
        >>> import ultrum as ul
        >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
        >>> workings = fit.workings()
        >>> round(workings["covariance"] / workings["variance"], 4), round(fit.coefficients["market"].item(), 4)
        (0.5642, 0.5642)
        """
        return regression_workings(
            self.name,
            self.response,
            self.design,
            self.coefficients,
            self.weights,
            CONSTANT,
            errors_in_words(self.errors),
        )

    def predict(self, X: pd.DataFrame) -> pd.Series:
        """Predicted dependent variable for rows of factors, with columns named as the factors.

        Parameters
        ----------
        X : DataFrame, shape (n, p)
            Factors, in the units of the regression.

        Returns
        -------
        Series
            Predicted values, shape (n,).

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> fit = betas.fit("BRTW")
        >>> import pandas as pd
        >>> fit.predict(pd.DataFrame({"market": [-0.05, 0.0, 0.05]})).round(4)
        0   -0.0253
        1    0.0029
        2    0.0311
        Name: BRTW, dtype: float64
        """
        factors = [t for t in self.coefficients.index if t != CONSTANT]
        absent = [name for name in factors if name not in X]
        if absent:
            raise EstimationError(f"predict: X lacks {name_list(absent)}. Add these columns.")
        level = float(self.coefficients.get(CONSTANT, 0.0))
        return (X[factors] @ self.coefficients[factors] + level).rename(self.name)

    @property
    def basis(self) -> str:
        """Basis of the estimates in words: sample, standard errors, observations dropped and R²."""
        kind = f"{errors_in_words(self.errors)}" + (
            f", {quantity(self.lags, 'lag')}" if self.lags is not None else ""
        )
        span = " to ".join(period_label(end) for end in self.sample)
        head = f"{self.name}: {quantity(self.nobs, 'observation')}, {span}; {kind}; {loss_summary(self.dropped)}"
        return (
            f"{textwrap.fill(head, 100)}\nR² {self.r2:.4f}, adjusted {self.r2_adjusted:.4f}; s.e. of regression "
            f"{self.sigma:.4g}; residual d.f. {degrees_in_words(self.df)}"
        )
