"""Inference on coefficients: t values, p values, intervals, tests."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import check_probability
from ultrum.core.array_types import Array, Floats
from ultrum.core.presentation import HasBasis, TableInNotebooks, TextInNotebooks, p_equals, quantity, table_text
from ultrum.errors import EstimationError, choices, name_list, one_of


@dataclass(frozen=True)
class TestResult(TextInNotebooks):
    """A test statistic with its distribution under the null hypothesis.

    ``df`` holds the degrees of freedom, numerator first; ``hypothesis`` is what is tested: ``market = 1``. A
    statistic that is not a number has no p value.
    """

    statistic: float
    distribution: str
    df: tuple[float, ...]
    p_value: float
    note: str = ""
    hypothesis: str = ""

    def __post_init__(self) -> None:
        if math.isnan(self.statistic):
            object.__setattr__(self, "p_value", math.nan)

    @classmethod
    def of_f(cls, statistic: float, above: int, below: float, note: str = "", hypothesis: str = "") -> TestResult:
        """F test with its upper-tail p value.

        Parameters
        ----------
        statistic : float
            Value of F.
        above : int
            Degrees of freedom of the numerator.
        below : int
            Degrees of freedom of the denominator.
        note : str
            Additional result, such as the date of a break.
        hypothesis : str
            Null hypothesis, in words.
        """
        p_value = float(scipy.special.fdtrc(above, below, max(statistic, 0.0)))
        return cls(
            float(statistic), f"F({above}, {degrees_in_words(below)})", (above, below), p_value, note, hypothesis
        )

    def in_words(self, level: float = 0.05) -> str:
        """Summary in words: the null hypothesis, the statistic and the verdict.

        Parameters
        ----------
        level : float
            Significance level.

        Returns
        -------
        str
            Sentences.

        Examples
        --------
        >>> TestResult.of_f(9.0, 1, 60, hypothesis="market = 1").in_words()
        'H0: market = 1: F(1, 60) = 9, p = 0.004; rejected at the 5 % level.'
        """
        verdict = "rejected" if self.p_value < level else "not rejected"
        subject = f"H0: {self.hypothesis}: " if self.hypothesis else ""
        statistic = f"{self.distribution} = {self.statistic:.4g}, {p_equals(self.p_value)}"
        return f"{subject}{statistic}; {verdict} at the {100 * level:g} % level."

    def to_frame(self) -> pd.DataFrame:
        """One row.

        Returns
        -------
        DataFrame
            Statistic, distribution, p value and note.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> fit = ul.factor_betas(panel, ["market"]).fit("BRTW")
        >>> fit.test("market", 1.0).to_frame().T
                              0
        statistic     17.618269
        distribution  F(1, 249)
        p_value        0.000038
        note
        """
        row = {"statistic": self.statistic, "distribution": self.distribution}
        return pd.DataFrame([{**row, "p_value": self.p_value, "note": self.note}])

    def __repr__(self) -> str:
        tail = f"  {self.note}" if self.note else ""
        return f"{self.distribution} = {self.statistic:.4g}, {p_equals(self.p_value)}{tail}"


def restriction_matrix(R: object, terms: pd.Index) -> Floats:
    """Restrictions (q, p) from names of coefficients, or as given.

    Raises
    ------
    EstimationError
        If a name is not a coefficient, or the number of columns is not that of the coefficients.
    """
    if isinstance(R, str):
        R = [R]
    if isinstance(R, Sequence) and R and all(isinstance(r, str) for r in R):
        unknown = [r for r in R if r not in terms]
        if unknown:
            there = choices(terms)
            raise EstimationError(f"No coefficient {name_list(unknown)}; there are: {there}.")
        return np.eye(len(terms))[terms.get_indexer(pd.Index(R))]
    restrictions = np.atleast_2d(np.asarray(R, dtype=np.float64))
    if restrictions.shape[1] != len(terms):
        raise EstimationError(
            f"R has {quantity(restrictions.shape[1], 'column')}; the model has {len(terms)} coefficients."
        )
    return restrictions


def restrictions_in_words(restrictions: Floats, value: object, terms: Sequence[str]) -> str:
    """Linear restrictions as equations.

    Examples
    --------
    >>> restrictions_in_words(np.array([[0.0, 1.0, 0.0], [0.0, 2.0, -1.0]]), 1.0, ["constant", "market", "size"])
    'market = 1, 2·market - size = 1'
    """
    values = np.broadcast_to(np.asarray(value, dtype=np.float64), len(restrictions))
    equations = []
    for row, right in zip(restrictions, values, strict=True):
        parts = [
            f"{'-' if weight < 0 else '+'} {'' if abs(weight) == 1 else f'{abs(weight):g}·'}{term}"
            for weight, term in zip(row, terms, strict=True)
            if weight
        ]
        equations.append(f"{' '.join(parts).removeprefix('+ ')} = {right:g}")
    return ", ".join(equations)


def t_quantile(level: float, df: float | Floats) -> Floats:
    """Two-sided quantile of Student's t for a confidence level."""
    check_probability("level", level)
    return np.asarray(scipy.special.stdtrit(df, 0.5 + level / 2.0))


def degrees_in_words(df: float) -> str:
    """Degrees of freedom as text: an integer, or one decimal.

    >>> degrees_in_words(12345), degrees_in_words(10.6428)
    ('12345', '10.6')
    """
    return f"{df:.0f}" if float(df).is_integer() else f"{df:.1f}"


def detectable_multiple(df: float, level: float = 0.05, power: float = 0.8) -> float:
    """Distance from zero, in standard errors, that a two-sided test detects with a given power.

    Examples
    --------
    >>> round(detectable_multiple(1e6), 2)
    2.8
    """
    check_probability("level", level)
    check_probability("power", power)
    ends = scipy.special.stdtrit(df, 1.0 - level / 2.0) + scipy.special.stdtrit(df, power)
    return float(ends)


def t_p_values(t_values: Array, df: object) -> Floats:
    """Two-sided p values of Student's t."""
    return np.asarray(2.0 * scipy.special.stdtr(df, -np.abs(t_values)))


class CoefficientInference(TableInNotebooks):
    """Standard errors, t, p and intervals of labelled coefficients from a covariance and ``df``."""

    if TYPE_CHECKING:  # a field of some results, computed by others

        @property
        def coefficients(self) -> pd.Series:
            """Estimates, shape (p,)."""

        @property
        def covariance(self) -> pd.DataFrame:
            """Covariance of the coefficients, shape (p, p)."""

    def __repr__(self: HasBasis) -> str:
        return f"{self.basis}\n{table_text(self.to_frame(), '{:.4g}')}"

    @property
    def df(self) -> float:
        """Degrees of freedom of t."""
        raise NotImplementedError

    @property
    def standard_errors(self) -> pd.Series:
        """Square roots of the covariance's diagonal."""
        return pd.Series(np.sqrt(np.diag(self.covariance)), self.coefficients.index)

    @property
    def t_values(self) -> pd.Series:
        """Coefficients over their standard errors."""
        return self.coefficients / self.standard_errors

    @property
    def p_values(self) -> pd.Series:
        """Two-sided, Student's t with ``df`` degrees of freedom."""
        return pd.Series(t_p_values(self.t_values.to_numpy(), self.df), self.coefficients.index)

    def interval(self, level: float = 0.95) -> pd.DataFrame:
        """Confidence interval of each coefficient, columns ``low high``.

        Parameters
        ----------
        level : float
            Confidence level, between 0 and 1.

        Returns
        -------
        DataFrame
            Bounds, one row per term.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> fit = betas.fit("BRTW")
        >>> fit.interval(0.90).round(4)
                     low    high
        constant -0.0032  0.0090
        market    0.3929  0.7356
        """
        reach = t_quantile(level, self.df) * self.standard_errors
        return pd.DataFrame({"low": self.coefficients - reach, "high": self.coefficients + reach})

    def detectable(self, level: float = 0.05, power: float = 0.8) -> pd.Series:
        """Minimum detectable effect (MDE): smallest true value that a two-sided test detects with a given power.

        Parameters
        ----------
        level : float
            Level of the test.
        power : float
            Power of the test.

        Returns
        -------
        Series
            (t at 1 − level/2 + t at power) standard errors, by term, against zero.

        Examples
        --------
        >>> import ultrum as ul
        >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
        >>> fit.detectable().round(4).to_dict()
        {'constant': 0.0104, 'market': 0.292}
        """
        return self.standard_errors * detectable_multiple(self.df, level, power)

    def to_frame(self) -> pd.DataFrame:
        """One row per term: coefficient, standard error, t, p and 95 % interval.

        Returns
        -------
        DataFrame
            Estimates, one row per term.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> fit = betas.fit("BRTW")
        >>> fit.to_frame().iloc[:, :3].round(4)
                  coefficient  standard_error       t
        constant       0.0029          0.0037  0.7755
        market         0.5642          0.1038  5.4352
        """
        columns = {
            "coefficient": self.coefficients,
            "standard_error": self.standard_errors,
            "t": self.t_values,
            "p": self.p_values,
        }
        return pd.DataFrame(columns).join(self.interval())


def band_of(centre: pd.DataFrame, error: pd.DataFrame, asset: str, level: float, df: float) -> pd.DataFrame:
    """One asset's path with its band, columns ``estimate low high``."""
    if asset not in centre:
        raise EstimationError(f"No asset '{asset}'; {one_of(asset, centre)}")
    reach = error[asset] * t_quantile(level, df)
    path = centre[asset]
    return pd.DataFrame({"estimate": path, "low": path - reach, "high": path + reach})


# Quantiles of mixtures, such as the distribution of a product or a posterior averaged over a grid

_STEPS: Final = 60  # of the search for a quantile, which ends much earlier
_ROUNDING: Final = 1e-13  # of a probability
_NO_STEP: Final = 1e-14  # relative
_TAIL: Final = 1e-9  # probability outside the bracket of the search
_NORMAL: Final = 1e12  # degrees of freedom of a normal distribution


def mixture_quantile(
    share: float, centre: Floats, sd: Floats, df: Floats, weights: Floats | None = None
) -> Floats:
    """Quantile of a mixture of Student's t distributions for each of N quantities.

    Parameters
    ----------
    share : float
        Probability below the quantile.
    centre, sd : ndarray, shape (N, M)
        Of each component.
    df : ndarray, shape (N,)
        Degrees of freedom; infinite for normal distributions.
    weights : ndarray, shape (M,), optional
        Weights of the components, summing to one; equal by default.

    Examples
    --------
    >>> mixture_quantile(0.975, np.zeros((1, 2)), np.ones((1, 2)), np.array([np.inf])).round(3).tolist()
    [1.96]
    """
    degrees = np.where(np.isfinite(df), df, _NORMAL)[:, None]
    reach = sd * scipy.special.stdtrit(degrees, share)
    if centre.shape[1] == 1:
        return np.asarray((centre + reach)[:, 0])
    sd = np.maximum(sd, 1e-12 * (1.0 + np.abs(centre)))
    far = sd * scipy.special.stdtrit(degrees, _TAIL)
    low, high = (centre + far).min(axis=1), (centre - far).max(axis=1)
    weights = np.full(centre.shape[1], 1.0 / centre.shape[1]) if weights is None else weights
    middle = centre @ weights
    spread = np.sqrt(((centre - middle[:, None]) ** 2 + sd**2) @ weights)
    at = np.clip(middle + scipy.special.ndtri(share) * spread, low, high)
    for _ in range(_STEPS):
        below, density = _probability_and_density(at[:, None], centre, sd, degrees, weights)
        below -= share
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            newton = at - below / density
        settled = (np.abs(below) < _ROUNDING) | (np.abs(newton - at) <= _NO_STEP * (1.0 + np.abs(at)))
        if settled.all():
            break
        low, high = np.where(below < 0, at, low), np.where(below > 0, at, high)
        inside = (newton > low) & (newton < high)  # otherwise halve the bracket
        at = np.where(settled, at, np.where(inside, newton, (low + high) / 2.0))
    return np.asarray(at)


def _probability_and_density(
    at: Floats, centre: Floats, sd: Floats, df: Floats, weights: Floats
) -> tuple[Floats, Floats]:
    """Of the mixture of each asset; Student's t by Wallace's (1959) normal score, exact to 1e-4 from 10 df on."""
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):  # a deviation near zero is a step
        t = (at - centre) / sd
        shape = (8.0 * df + 1.0) / (8.0 * df + 3.0)
        score = np.copysign(shape * np.sqrt(df * np.log1p(t**2 / df)), t)
        slope = np.where(score == 0, shape, shape**2 * t / ((1.0 + t**2 / df) * score))
        normal = np.exp(-(score**2) / 2.0) / np.sqrt(2.0 * np.pi)
    return scipy.special.ndtr(score) @ weights, np.nan_to_num(normal * slope / sd) @ weights
