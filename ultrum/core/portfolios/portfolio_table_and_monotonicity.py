"""Tables of sorted portfolios with alphas and exposures, and tests of a monotonic pattern in their means."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.panel.alignment import align
from ultrum.core.portfolios.factors_from_sorts import factor_from_portfolios
from ultrum.core.portfolios.sorted_portfolios import SortedPortfolios
from ultrum.core.presentation import (
    MainTable,
    TextInNotebooks,
    decimals,
    over_basis,
    p_equals,
    quantity,
    table_text,
)
from ultrum.core.pricing.alpha_and_multiple_tests import JointAlphaTest, joint_alpha_test
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import block_length, drawn_periods
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.regression.regress import regress
from ultrum.core.regression.unit_roots_and_design_warnings import exact_fits
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.statistics.risk_return_and_drawdowns import returns_in
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import EstimationError, one_of

_FEWEST: Final = 24  # complete periods
_AT_ONCE: Final = 200  # draws held in memory


@dataclass(frozen=True, eq=False, repr=False)
class PortfolioTable(TextInNotebooks):
    """Mean excess returns, alphas and exposures of sorted portfolios and their spreads.

    Attributes
    ----------
    means : BetaTable
        Mean excess return of each portfolio and spread per period (the constant alone).
    models : mapping of str to BetaTable
        Regressions of each portfolio and spread on the factors of each model.
    joint : mapping of str to JointAlphaTest
        Joint test of zero alphas of all portfolios under each model.
    untested : mapping of str to str
        Models without a joint test, and why, such as a factor that is a combination of the portfolios.
    nobs : int
        Periods with a portfolio, at most.
    noun : str
        What a period is, such as month.
    basis : str

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.stocks(60, 72)
    >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=5)
    >>> table = ul.portfolio_table(sorted_, world.market, world.risk_free, spread="value high - value low")
    >>> table.to_frame().columns.tolist()[:3]
    [('mean', 'value'), ('mean', 't'), ('market', 'alpha')]
    """

    means: BetaTable
    models: dict[str, BetaTable]
    joint: dict[str, JointAlphaTest]
    untested: dict[str, str]
    nobs: int
    noun: str
    basis: str

    @property
    def in_percent(self) -> str:
        """The basis where numbers are shown in percent."""
        return self.basis.replace("decimals per", "percent per")

    def alpha_t(self, model: str) -> pd.Series:
        """The t statistic of each alpha under a model; missing where the factors fit exactly.

        Parameters
        ----------
        model : str
            Name of the model.

        Returns
        -------
        Series
            By portfolio and spread. The error of an exact fit is rounding, so that its t has no meaning.
        """
        fit = self.models[model]
        return fit.t_values[CONSTANT].mask(fit.t_values.index.isin(exact_fits(fit)))

    def to_frame(self) -> pd.DataFrame:
        """A row per portfolio and spread: mean and t, then alpha, t, exposures and R² of each model.

        Returns
        -------
        DataFrame
            Columns by model and statistic.
        """
        columns: dict[tuple[str, str], pd.Series] = {
            ("mean", "value"): self.means.coefficients[CONSTANT],
            ("mean", "t"): self.means.t_values[CONSTANT],
        }
        for name, fit in self.models.items():
            columns[name, "alpha"] = fit.coefficients[CONSTANT]
            columns[name, "t"] = self.alpha_t(name)
            for term in fit.coefficients.columns.drop(CONSTANT):
                columns[name, str(term)] = fit.coefficients[term]
            columns[name, "R²"] = fit.r2
        return pd.DataFrame(columns)

    def __repr__(self) -> str:
        tests = {n: f"statistic {decimals(t.statistic)}, {p_equals(t.p_value)}." for n, t in self.joint.items()}
        tests |= {name: f"not tested. {reason}" for name, reason in self.untested.items()}
        lines = [f"All alphas zero under {name}: {result}" for name, result in tests.items()]
        return over_basis(self.basis, table_text(self.to_frame(), "{:.4f}"), *lines)


@validate_arguments
def portfolio_table(
    portfolios: SortedPortfolios,
    factors: TimeSeries | SeriesTable,
    risk_free: TimeSeries,
    *,
    models: Mapping[str, Sequence[str]] | None = None,
    spread: str | Sequence[str] = (),
    errors: str = "hac",
    joint: Literal["exact", "robust", "bootstrap"] = "exact",
    trading_cost: float = 0.0,
) -> PortfolioTable:
    """Table of sorted portfolios: mean excess return, and alpha and exposures under several models.

    Parameters
    ----------
    portfolios : SortedPortfolios
        From :func:`sort_portfolios`.
    factors : TimeSeries or SeriesTable
        Traded factors: excess or zero-cost returns.
    risk_free : TimeSeries
        Risk-free return, subtracted from the portfolios.
    models : mapping of str to sequence of str, optional
        Factors of each model by its name; by default one model of all factors.
    spread : str or sequence of str
        Formulas of spreads to add as rows, as for :func:`factor_from_portfolios`.
    errors : str
        Kind of standard errors, as for :func:`regress`.
    joint : {"exact", "robust", "bootstrap"}
        Joint test of the portfolios' alphas, as for :func:`joint_alpha_test`; where it cannot be computed the
        model is in ``untested``.
    trading_cost : float
        Cost of a trade that the spreads bear, as for :func:`factor_from_portfolios`; the portfolios do not.

    Returns
    -------
    PortfolioTable
        Decimals per period.

    Raises
    ------
    EstimationError
        If a model names a factor that there is not, or there is a trading cost and no spread to bear it.

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.stocks(60, 72)
    >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=5)
    >>> table = ul.portfolio_table(sorted_, world.market, world.risk_free)
    >>> table.joint["market"].df[0]
    5
    """
    panel = align(assets=portfolios.returns, factors=factors, risk_free=risk_free)
    names = list(panel.factors.columns)
    wanted = {", ".join(names): names} if models is None else dict(models)
    if not wanted:
        raise EstimationError(
            "portfolio_table: models is empty. Name the factors of a model: {'CAPM': ['market']}."
        )
    for model, terms in wanted.items():
        if isinstance(terms, str) or not isinstance(terms, Sequence):
            raise EstimationError(
                f"portfolio_table: model '{model}' takes a list of factors, such as {names[:1]}."
            )
        unknown = [term for term in terms if term not in names]
        if unknown or not terms:
            raise EstimationError(
                f"portfolio_table: model '{model}' has "
                + (f"'{unknown[0]}'; {one_of(unknown[0], names)}" if unknown else "no factors.")
            )
    rows = panel.excess.to_pandas()
    spreads = [spread] if isinstance(spread, str) else list(spread)
    if trading_cost and not spreads:
        raise EstimationError(
            "portfolio_table: trading_cost has no effect without spread=, as portfolios bear no costs. Remove it."
        )
    for formula in spreads:
        spread_returns = factor_from_portfolios(portfolios, formula, trading_cost=trading_cost)
        rows[formula] = spread_returns.to_pandas().reindex(rows.index)
    means = mean_returns(rows, errors)
    fits = {name: regress(rows, panel.factors[list(terms)], errors=errors) for name, terms in wanted.items()}
    tests, untested = _joint_tests(panel, wanted, joint)
    titles = "".join(dict.fromkeys(f"Joint test: {one.basis.partition(';')[0]}. " for one in tests.values()))
    nobs = int(means.nobs.max())
    basis = (
        f"at most {nobs} periods, {span_of(rows.index)}; excess of {risk_free.name}, spreads at zero cost"
        f"{f', after costs of {trading_cost:g} per trade' if trading_cost and spreads else ''}; "
        f"{means.errors.upper() if means.errors.startswith('h') else means.errors} standard errors; decimals per "
        f"period. {titles}{portfolios.basis}"
    )
    return PortfolioTable(means, fits, tests, untested, nobs, portfolios.returns.frequency.noun, basis)


def mean_returns(returns: pd.DataFrame, errors: str = "hac") -> BetaTable:
    """Mean of each column with its error: a regression on the constant alone, each on its own sample.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> made = mean_returns(pd.DataFrame({"a": [0.01, 0.03, np.nan]}, months), "classical")
    >>> round(made.coefficients["constant"]["a"], 6).item(), made.nobs["a"].item()
    (0.02, 2)
    """
    constant = pd.DataFrame({CONSTANT: np.ones(len(returns))}, returns.index)
    return regress(returns, constant, errors=errors, constant=False)


def _joint_tests(
    panel: Panel, models: Mapping[str, Sequence[str]], how: Literal["exact", "robust", "bootstrap"]
) -> tuple[dict[str, JointAlphaTest], dict[str, str]]:
    """The joint test of each model, or why there is none."""
    tests: dict[str, JointAlphaTest] = {}
    untested: dict[str, str] = {}
    for name, terms in models.items():
        try:
            tests[name] = joint_alpha_test(panel, terms, how=how)
        except EstimationError as error:
            untested[name] = str(error).removeprefix("joint_alpha_test: ")
    return tests, untested


# Tests of a monotonic pattern in mean returns


@dataclass(frozen=True, eq=False, repr=False)
class MonotonicityTests(MainTable):
    """Two tests of the steps between the mean returns of neighbouring portfolios.

    Attributes
    ----------
    steps : DataFrame
        Each step from one portfolio to the next: ``step standard_error t p``, the last one-sided.
    statistic, p_value : float
        Smallest step, and its p value where no pattern (all means equal) is the null (Patton and Timmermann
        2010).
    all_steps_t, all_steps_p : float
        Smallest t of a step, and the p value of the test that all steps rise: its null is that some step does not
        (Romano and Wolf 2013).
    direction : str
        rising or falling.
    nobs : int
        Complete periods.
    basis : str

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.stocks(60, 72)
    >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=5)
    >>> 0.0 <= ul.monotonicity_tests(sorted_.returns, draws=199).p_value <= 1.0
    True
    """

    _main = "steps"
    steps: pd.DataFrame
    statistic: float
    p_value: float
    all_steps_t: float
    all_steps_p: float
    direction: str
    nobs: int
    basis: str

    def to_pandas(self) -> pd.Series:
        """Statistics and p values by name.

        Returns
        -------
        Series
            By name.
        """
        facts = {
            "statistic": self.statistic,
            "p_value": self.p_value,
            "all_steps_t": self.all_steps_t,
            "all_steps_p": self.all_steps_p,
            "nobs": self.nobs,
        }
        return pd.Series(facts, name=self.direction)

    def __repr__(self) -> str:
        mean = "rising" if self.direction == "rising" else "falling"
        lines = [
            table_text(self.steps, "{:.4f}"),
            f"Monotonic relation, against no pattern: smallest step {decimals(self.statistic, 4)}, "
            f"{p_equals(self.p_value)}. A small p value is evidence of some {mean} pattern.",
            f"All steps {mean}, against one that is not: smallest t {decimals(self.all_steps_t)}, "
            f"{p_equals(self.all_steps_p)}. Only this test rejects a single step the other way.",
        ]
        return over_basis(self.basis, *lines)


@validate_arguments
def monotonicity_tests(
    portfolios: SeriesTable | pd.DataFrame,
    *,
    direction: Literal["rising", "falling"] = "rising",
    draws: int = 999,
    block: float | None = None,
    seed: int = 0,
) -> MonotonicityTests:
    r"""Tests of monotonic mean returns: against no pattern, and that all steps rise.

    With :math:`\hat\Delta_i` the difference of the means of portfolios i + 1 and i, the test against no pattern
    compares :math:`\min_i\hat\Delta_i` with the bootstrap distribution of
    :math:`\min_i(\hat\Delta_i^*-\hat\Delta_i)`, which holds where all means are equal. It can reject where one
    step
    falls, if its null is neither. The test that all steps rise rejects only if each step alone is significant:
    its p value is the largest of the one-sided bootstrap p values of the steps' t statistics.

    Parameters
    ----------
    portfolios : SeriesTable or DataFrame, shape (T, N)
        Returns of portfolios from the lowest to the highest group.
    direction : {"rising", "falling"}
        The pattern that theory predicts; choose it before looking at the means.
    draws : int
        Draws of the stationary bootstrap.
    block : float, optional
        Mean block length in periods; by default by Patton, Politis and White (2009) for the steps.
    seed : int
        Seed of the draws.

    Returns
    -------
    MonotonicityTests
        Both tests and every step.

    Raises
    ------
    EstimationError
        If there are fewer than three portfolios or too few complete periods, or a step does not vary.

    References
    ----------
    Patton, A. J., and A. Timmermann (2010), Monotonicity in asset returns. Journal of Financial Economics 98,
    605–625. Romano, J. P., and M. Wolf (2013), Testing for monotonicity in expected asset returns. Journal of
    Empirical Finance 23, 93–116.

    Examples
    --------
    >>> rng = np.random.default_rng(0)
    >>> months = pd.period_range("2000-01", periods=240, freq="M")
    >>> rising = pd.DataFrame(rng.normal(0, 0.02, (240, 4)) + [0.0, 0.01, 0.02, 0.03], months, list("abcd"))
    >>> monotonicity_tests(rising, draws=199).all_steps_p < 0.05
    True
    """
    table = returns_in(portfolios, "monotonicity_tests")
    if len(table.names) < 3:
        raise EstimationError(
            f"monotonicity_tests: {quantity(len(table.names), 'portfolio')}; at least 3 are needed. For 2 use "
            "the t statistic of their spread."
        )
    whole: Bools = np.asarray(np.isfinite(table.block).all(axis=1))
    returns, index = table.block[whole], table.index[whole]
    if len(returns) < _FEWEST:
        raise EstimationError(
            f"monotonicity_tests: {quantity(len(returns), 'complete period')}; at least {_FEWEST} are needed."
        )
    sign = 1.0 if direction == "rising" else -1.0
    steps = sign * np.diff(returns, axis=1)
    still = np.flatnonzero(np.ptp(steps, axis=0) <= 1e-12 * np.abs(returns).max())
    if len(still):
        raise EstimationError(
            f"monotonicity_tests: {table.names[still[0]]} and {table.names[still[0] + 1]} differ by a "
            "constant, so there is nothing to test."
        )
    length = block_length(steps) if block is None else block
    drawn = drawn_periods(time_positions(index), draws, length, seed)
    mean, error = steps.mean(axis=0), _errors(steps, length)
    lowest, largest = _drawn_statistics(steps, drawn, length)
    p_value = float((1 + (lowest >= mean.min()).sum()) / (draws + 1))
    t = mean / error
    alone = (1 + (largest >= t).sum(axis=0)) / (draws + 1)
    labels = [f"{a} to {b}" for a, b in zip(table.names[:-1], table.names[1:], strict=True)]
    listed = pd.DataFrame({"step": sign * mean, "standard_error": error, "t": t, "p": alone}, labels)
    dropped = len(whole) - int(whole.sum())
    basis = (
        f"{len(table.names)} portfolios, {quantity(len(returns), 'complete period')} ({span_of(index)}), "
        f"{quantity(dropped, 'incomplete period')} left out; {draws} draws in blocks of {length:.1f} on average, "
        f"seed {seed}; t is of a {direction} step; decimals per period."
    )
    return MonotonicityTests(
        listed, float(mean.min()), p_value, float(t.min()), float(alone.max()), direction, len(returns), basis
    )


def _errors(steps: Floats, length: float) -> Floats:
    """Standard errors of means under the stationary bootstrap, in closed form (Politis and Romano 1994).

    Circular autocovariances have the weight (1 − k/T)(1 − 1/b)^k for blocks of mean length b.
    """
    rows = len(steps)
    centred = steps - steps.mean(axis=0)
    keep = 1.0 - 1.0 / max(length, 1.0)
    total = (centred**2).sum(axis=0)
    for lag in range(1, min(rows, int(np.ceil(30.0 * length))) if keep > 0.0 else 1):
        weight = (1.0 - lag / rows) * keep**lag
        total = total + 2.0 * weight * (centred * np.roll(centred, lag, axis=0)).sum(axis=0)
    return np.asarray(np.sqrt(np.maximum(total, 0.0)) / rows)


def _drawn_statistics(steps: Floats, drawn: Ints, length: float) -> tuple[Floats, Floats]:
    """Of each draw: the smallest centred step, and centred t statistics of all steps, shape (draws, N − 1)."""
    mean = steps.mean(axis=0)
    error = _errors(steps, length)
    padded = np.vstack([steps, np.full((1, steps.shape[1]), np.nan)])  # row −1: a period without a row
    lowest, t = [], []
    for first in range(0, len(drawn), _AT_ONCE):
        part = padded[drawn[first : first + _AT_ONCE]]
        moved = np.nanmean(part, axis=1) - mean
        lowest.append(moved.min(axis=1))
        spread = np.nanstd(part, axis=1, ddof=0) / np.nanstd(steps, axis=0)
        t.append(moved / (error * np.maximum(spread, 1e-12)))
    return np.concatenate(lowest), np.concatenate(t)
