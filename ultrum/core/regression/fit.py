"""The regression of one left-hand side, with everything that follows from it."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.displayed_numbers import counted
from ultrum.core.regression.engine.covariance import COSINE, degrees_of_freedom, errors_in_words
from ultrum.core.regression.engine.qr import condition_number
from ultrum.core.regression.inference import (
    CoefficientInference,
    TestResult,
    degrees_in_words,
    restriction_matrix,
    restrictions_in_words,
)
from ultrum.core.regression.influence import influence_table, weighted_rows
from ultrum.core.regression.narrative import Figures, dropped_in_words, sentences
from ultrum.core.series.text_tables import TableInNotebooks, table_text
from ultrum.core.time.period_labels import period_label
from ultrum.core.workings.regression_steps import regression_workings
from ultrum.core.workings.steps_table import Workings
from ultrum.errors import EstimationError, listed

CONSTANT: Final = "constant"


@dataclass(frozen=True, eq=False, repr=False)
class Fit(CoefficientInference, TableInNotebooks):
    """One estimated regression.

    Attributes
    ----------
    coefficients, standard_errors, t_values, p_values : Series, shape (p,)
        Labelled by term; the first is ``constant`` where there is one.
    covariance : DataFrame, shape (p, p)
    response, design : Series (T,), DataFrame (T, p)
        The rows that were used.
    nobs, df, sigma, r2, r2_adjusted
        Observations; degrees of freedom of t; √(RSS/(T − p)); R², uncentred without a constant.
    errors, lags
        Kind of standard errors, and the lags if they are ``hac``.
    weights, clusters : Series (T,) and int, optional
        Weights of the rows used, of mean one; and how many clusters there are of the rarer kind.
    condition_number : float
        Of the design with columns of unit length.
    sample : tuple
        Labels of the first and last row used.
    dropped : mapping of str to int
        Observations not used, by cause, those among them that the panel left out for lack of other series.
    kinds : mapping of str to str
        What response and factors are, by name: ``excess return`` or ``return``; empty for plain numbers.

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

    name: str
    coefficients: pd.Series
    covariance: pd.DataFrame
    response: pd.Series
    design: pd.DataFrame
    sigma: float
    r2: float
    errors: str
    lags: int | None
    dropped: Mapping[str, int] = field(default_factory=dict)
    weights: pd.Series | None = None
    clusters: int | None = None
    kinds: Mapping[str, str] = field(default_factory=dict)

    @property
    def fitted(self) -> pd.Series:
        """Fitted values on the rows used."""
        return (self.design @ self.coefficients).rename("fitted")

    @property
    def residuals(self) -> pd.Series:
        """Response less fitted values, on the rows used."""
        return (self.response - self.fitted).rename("residuals")

    @property
    def nobs(self) -> int:
        """Rows used."""
        return len(self.response)

    @property
    def df(self) -> float:
        """Degrees of freedom of t: T − p, with clusters the fewest less one, of cosines their number."""
        if self.clusters is not None:
            return self.clusters - 1
        lags = None if self.lags is None else np.array(self.lags, dtype=float)
        found = float(degrees_of_freedom(self.errors, np.array(self.nobs), len(self.coefficients), lags))
        return int(found) if found.is_integer() else found

    @cached_property
    def condition_number(self) -> float:
        """Of the design with columns of unit length."""
        return condition_number(self.design.to_numpy(dtype=np.float64))

    @property
    def r2_adjusted(self) -> float:
        """R² adjusted for degrees of freedom."""
        free = self.nobs - (1 if CONSTANT in self.coefficients.index else 0)
        return float(1.0 - (1.0 - self.r2) * free / (self.nobs - len(self.coefficients)))

    @property
    def sample(self) -> tuple[Any, Any]:
        """First and last row used."""
        return self.response.index[0], self.response.index[-1]

    def test(self, R: Any, value: Any = 0.0) -> TestResult:
        """Wald test of R·coefficients = value, as an F with (q, df) degrees of freedom.

        Parameters
        ----------
        R : str, list of str, or array of shape (q, p)
            Names of coefficients, or the restrictions themselves.
        value : float or array of shape (q,)
            What they are tested against.

        Returns
        -------
        TestResult
            Statistic, degrees of freedom and p value.

        Examples
        --------
        >>> from ultrum.core.regression.ols import regress
        >>> fit = regress([1.0, 2.1, 2.9, 4.2], [[1.0], [2.0], [3.0], [4.0]], errors="classical")
        >>> fit.test("x1", 1.0).p_value > 0.3
        True
        """
        restrictions = restriction_matrix(R, self.coefficients.index)
        gap = restrictions @ self.coefficients.to_numpy() - np.asarray(value, dtype=np.float64)
        middle = restrictions @ self.covariance.to_numpy() @ restrictions.T
        count = len(restrictions)
        if np.linalg.matrix_rank(middle) < count:
            raise EstimationError(f"The {count} restrictions are not independent; drop some.")
        statistic = gap @ np.linalg.solve(middle, gap) / count
        hypothesis = restrictions_in_words(restrictions, value, list(map(str, self.coefficients.index)))
        below = self.df
        if self.errors in COSINE and count > 1:  # Hotelling's T² as an F
            below = below - count + 1
            if below < 1:
                raise EstimationError(
                    f"{count} restrictions at once need more than {count} cosines; there are {self.df:g}."
                )
            statistic *= below / self.df
        return TestResult.of_f(statistic, count, below, hypothesis=hypothesis)

    def influence(self) -> pd.DataFrame:
        """By row: leverage, residual in three scales, Cook's distance, shift of its fit (DFFITS).

        Returns
        -------
        DataFrame
            Measures, a row an observation.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> fit = betas.fit("BRTW")
        >>> fit.influence()["cook"].nlargest(2).round(3)
        period
        2004-04    0.165
        2009-10    0.105
        Freq: M, Name: cook, dtype: float64
        """
        X, y = weighted_rows(self.design, self.response, self.weights)
        return influence_table(X, y - X @ self.coefficients.to_numpy(), self.response.index)

    def in_words(self, level: float = 0.95) -> str:
        """The regression read aloud: one sentence for each figure, returns taken to be in decimals.

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
        >>> "one is inside" in fit.in_words() or "neither" in fit.in_words()
        True
        """
        figures = Figures(
            str(self.name), self.nobs, self.errors, self.lags, self.response.index, self.coefficients,
            self.p_values, self.interval(level), level, self.r2, self.sigma, self.dropped, self.detectable(),
        )  # fmt: skip
        return "\n".join(sentences(figures, CONSTANT))

    def workings(self) -> Workings:
        """How the coefficients follow from the rows: covariance over variance, or the normal equations.

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
            self.name, self.response, self.design, self.coefficients, self.weights, CONSTANT,
            errors_in_words(self.errors),
        )  # fmt: skip

    def predict(self, X: pd.DataFrame) -> pd.Series:
        """Predicted response for rows of factors, columns named as the factors.

        Parameters
        ----------
        X : DataFrame, shape (n, p)
            Factors, in decimals where the regression had decimals.

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
            raise EstimationError(f"X lacks {listed(absent)}; the model needs them.")
        level = float(self.coefficients.get(CONSTANT, 0.0))
        return (X[factors] @ self.coefficients[factors] + level).rename(self.name)

    @property
    def basis(self) -> str:
        """What the numbers rest on, for people: rows, sample, errors, observations dropped and R²."""
        kind = f"{errors_in_words(self.errors)}" + (f", {self.lags} lags" if self.lags is not None else "")
        span = " to ".join(period_label(end) for end in self.sample)
        head = f"{self.name}: {counted(self.nobs, 'row')}, {span}; {kind}; {dropped_in_words(self.dropped)}"
        return (
            f"{textwrap.fill(head, 100)}\n"
            f"R² {self.r2:.4f}, adjusted {self.r2_adjusted:.4f}; sigma {self.sigma:.4g}; "
            f"df {degrees_in_words(self.df)}"
        )

    def __repr__(self) -> str:
        return f"{self.basis}\n{table_text(self.to_frame(), '{:.4g}')}"
