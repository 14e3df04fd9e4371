"""Tests of Sharpe ratios and of forecasts."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.model_comparison.spanning_tests import CompleteReturns, is_excess
from ultrum.core.presentation import MainTable, over_basis, p_equals, quantity, table_text
from ultrum.core.pricing.alpha_and_multiple_tests import step_down
from ultrum.core.regression.engine.covariance_and_bootstrap import block_length, stationary_rows
from ultrum.core.regression.engine.newey_west_and_fixed_b import bartlett_sum, check_depth, lag_rule
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.inference import TestResult
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.regression.regress import regress
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.statistics.risk_return_and_drawdowns import per_year, returns_in
from ultrum.core.time.index_frequency_and_gaps import has_order, time_positions
from ultrum.errors import EstimationError, UnitError, name_list, one_of

_FEWEST_PERIODS: Final = 24  # complete periods
_RETURNS_AT_ONCE: Final = 1 << 20  # numbers of drawn returns held at a time
_SAME: Final = 1e-10  # relative size of a difference that is rounding


@dataclass(frozen=True, eq=False, repr=False)
class SharpeRatioTests(MainTable):
    """Sharpe ratios, and their differences from that of a benchmark.

    Attributes
    ----------
    ratios : DataFrame
        By series: ``sharpe_ratio`` (annual), its standard error ``normal`` (Lo 2002, independent normal returns),
        ``moments`` (Mertens 2002, with skewness and kurtosis) and ``hac`` (autocorrelated returns).
    differences : DataFrame
        By series other than the benchmark: ``difference`` (annual), ``standard_error t p``, and ``p_adjusted``
        for the number of series compared (Romano and Wolf 2005).
    benchmark : str
    nobs : int
    basis : str
    """

    _main = "differences"
    ratios: pd.DataFrame
    differences: pd.DataFrame
    benchmark: str
    nobs: int
    basis: str

    @property
    def p_value(self) -> float:
        """P value of the largest difference, corrected for the choice of the best of all series."""
        return float(self.differences["p_adjusted"].min())

    def __repr__(self) -> str:
        words = f"Differences from {self.benchmark}; smallest adjusted {p_equals(self.p_value)}"
        tables = [table_text(table, "{:.3f}") for table in (self.ratios, self.differences)]
        return over_basis(self.basis, tables[0], words, tables[1])


@validate_arguments
def sharpe_ratio_tests(
    returns: SeriesTable | pd.DataFrame,
    benchmark: str,
    *,
    lags: int | None = None,
    block: int | None = None,
    draws: int = 999,
    seed: int = 0,
    periods_per_year: float | None = None,
) -> SharpeRatioTests:
    r"""Sharpe ratios with standard errors, and tests that others differ from that of a benchmark.

    The difference of two Sharpe ratios is a smooth function of means and second moments; its standard error
    follows by the delta method. P values come from a bootstrap of circular blocks whose statistic is studentised
    in each draw (Ledoit and Wolf 2008). The draws of all series together give p values that allow for the choice
    of the best of many (Romano and Wolf 2005).

    Parameters
    ----------
    returns : SeriesTable or DataFrame, shape (T, N)
        Excess or zero-cost simple returns. A DataFrame holds excess returns.
    benchmark : str
        The series with which the others are compared.
    lags : int, optional
        Newey–West lags of the standard errors, by default floor(4(T/100)^(2/9)).
    block : int, optional
        Periods in a block of the bootstrap, by default T^(1/3), rounded up.
    draws, seed : int
        Draws of the bootstrap.
    periods_per_year : float, optional
        By default counted over the index.

    Returns
    -------
    SharpeRatioTests
        Over the periods that all series have. Ratios and differences are annual, √P times those per period.

    Raises
    ------
    UnitError
        If the returns are total or logarithmic.
    EstimationError
        If the benchmark is not among the series, a series does not vary or is a multiple of the benchmark, or
        there are fewer than 24 complete periods.

    References
    ----------
    Ledoit, O., and M. Wolf (2008), Robust performance hypothesis testing with the Sharpe ratio. Journal of
    Empirical Finance 15, 850–859. Lo, A. W. (2002), The statistics of Sharpe ratios. Financial Analysts Journal
    58(4), 36–52. Mertens, E. (2002), Comments on variance of the IID estimator in Lo (2002). Working paper,
    University of Basel.

    Examples
    --------
    >>> import ultrum as ul
    >>> factors = ul.practice.panel().factor_table
    >>> made = ul.sharpe_ratio_tests(factors, "market", draws=199)
    >>> made.differences.index.tolist() == [n for n in factors.names if n != "market"]
    True
    """
    if isinstance(returns, pd.DataFrame):
        returns = SeriesTable.from_pandas(returns, measure="return", excess_of="risk-free")
    table = returns_in(returns, "sharpe_ratio_tests")
    if benchmark not in table.names:
        raise EstimationError(f"sharpe_ratio_tests: no series '{benchmark}'; {one_of(benchmark, table.names)}")
    if len(table) < 2:
        raise EstimationError("sharpe_ratio_tests: one series; pass the benchmark and at least one other.")
    if not is_excess([table], "sharpe_ratio_tests"):
        raise UnitError(
            "sharpe_ratio_tests: the returns are total returns. Subtract the risk-free return with excess."
        )
    if any(m.measure == "log_return" for m in table.metadata):
        raise UnitError("sharpe_ratio_tests needs simple returns. Convert them with to_simple.")
    data = CompleteReturns.of(table, table, "sharpe_ratio_tests", _FEWEST_PERIODS)
    y, rows = data.left, len(data.index)
    check_depth(lags, rows)
    lags = lag_rule(rows) if lags is None else lags
    length = int(np.ceil(rows ** (1.0 / 3.0))) if block is None else block
    if not 1 <= length <= rows // 4:
        raise EstimationError(
            f"sharpe_ratio_tests: block={length} for {quantity(rows, 'period')}; use 1 to {rows // 4}."
        )
    place = table.names.index(benchmark)
    others = [k for k in range(len(table)) if k != place]
    _check_movement(y, table.names, place)
    y = y / y.std(axis=0)  # Sharpe ratios do not depend on the scale
    positions = time_positions(data.index)
    ratio = y.mean(axis=0) / y.std(axis=0)
    difference = ratio[others] - ratio[place]
    influence = _influence(y)
    apart = influence[:, others] - influence[:, [place]]
    error = _hac_errors(apart, lags, positions)
    t = difference / error
    drawn = _drawn_t(y, place, others, length, draws, seed)
    adjusted, alone = step_down(np.abs(t), np.abs(drawn))
    common = float(np.sqrt(per_year(table.select([benchmark]), periods_per_year)[0]))
    names = pd.Index([table.names[k] for k in others], name="series")
    differences = pd.DataFrame(
        {"difference": common * difference, "standard_error": common * error, "t": t, "p": alone}, names
    ).assign(p_adjusted=adjusted)
    basis = (
        f"{data.basis}; annual by √{common**2:.4g}; HAC with {quantity(lags, 'lag')}; bootstrap in circular "
        f"blocks of {quantity(length, 'period')}, {draws} draws, seed {seed}"
    )
    return SharpeRatioTests(
        _ratios(y, influence, lags, positions, table.names, common), differences, benchmark, rows, basis
    )


def _check_movement(y: Floats, names: list[str], place: int) -> None:
    """Refuse series that do not vary, and multiples of the benchmark, whose ratios are equal by construction."""
    still = [n for n, s, m in zip(names, y.std(axis=0), np.abs(y).max(axis=0), strict=True) if s <= _SAME * m]
    if still:
        raise EstimationError(f"sharpe_ratio_tests: {name_list(still)} does not vary. Remove it.")
    unit = y / y.std(axis=0)
    apart = np.abs(unit - unit[:, [place]]).max(axis=0)
    same = [n for k, n in enumerate(names) if k != place and apart[k] <= 1e3 * _SAME]
    if same:
        raise EstimationError(
            f"sharpe_ratio_tests: {name_list(same)} is a multiple of {names[place]}, so that the ratios are "
            "equal. Remove it."
        )


def _influence(y: Floats) -> Floats:
    """Influence of each observation on the Sharpe ratios, (T, N): z − S(z² − 1)/2 of standardised returns, less
    S.

    With deviations z = (r − μ)/σ, dS = z − S/2·(z² − 1).
    """
    z = (y - y.mean(axis=0)) / y.std(axis=0)
    return np.asarray(z - y.mean(axis=0) / y.std(axis=0) / 2.0 * (z**2 - 1.0))


def _hac_errors(influence: Floats, lags: int, positions: Ints) -> Floats:
    """Newey–West standard errors of means of each column."""
    rows = len(influence)
    variances = [bartlett_sum(column[:, None], lags, positions)[0, 0] for column in influence.T]
    return np.asarray(np.sqrt(np.array(variances) * rows / (rows - 1.0)) / rows)


def _ratios(
    y: Floats, influence: Floats, lags: int, positions: Ints, names: list[str], scale: float
) -> pd.DataFrame:
    """Annual Sharpe ratios (with n − 1) and their standard errors by three formulas."""
    rows = len(y)
    s = y.mean(axis=0) / y.std(axis=0)
    return pd.DataFrame(
        {
            "sharpe_ratio": scale * y.mean(axis=0) / y.std(axis=0, ddof=1),
            "normal": scale * np.sqrt((1.0 + s**2 / 2.0) / rows),
            "moments": scale * np.sqrt(np.mean(influence**2, axis=0) / rows),
            "hac": scale * _hac_errors(influence, lags, positions),
        },
        pd.Index(names, name="series"),
    )


def _drawn_t(y: Floats, place: int, others: list[int], length: int, draws: int, seed: int) -> Floats:
    """Studentised differences of Sharpe ratios in draws, less that of the sample, (draws, N − 1).

    Blocks are stretches of complete periods, as many as fit; the error of a draw comes from the means of its
    own blocks (Götze and Künsch 1996), so that resampled blocks are treated as independent.
    """
    rows = len(y)
    count = rows // length
    full = y.mean(axis=0) / y.std(axis=0)
    apart = full[others] - full[place]
    generator = np.random.default_rng(seed)
    step = max(1, _RETURNS_AT_ONCE // (count * length * y.shape[1]))
    out = []
    for first in range(0, draws, step):
        starts = generator.integers(0, rows, (min(step, draws - first), count))
        taken = (starts[:, :, None] + np.arange(length)) % rows
        sample = y[taken.reshape(len(starts), -1)]
        mean, spread = sample.mean(axis=1), sample.std(axis=1)
        z = (sample - mean[:, None]) / spread[:, None]
        ratio = mean / spread
        moves = z - ratio[:, None] / 2.0 * (z**2 - 1.0)
        moves = moves[:, :, others] - moves[:, :, [place]]
        blocks = moves.reshape(len(starts), count, length, len(others)).sum(axis=2)
        error = np.sqrt(np.sum(blocks**2, axis=1)) / (count * length)
        out.append((ratio[:, others] - ratio[:, [place]] - apart) / error)
    return np.concatenate(out)


# Tests of forecasts

_FEWEST: Final = 10  # forecasts
_AT_ONCE: Final = 1 << 22  # losses of draws held at a time


@validate_arguments
def mincer_zarnowitz_test(
    realised: pd.Series, forecasts: pd.Series, *, clusters: pd.Series | None = None
) -> TestResult:
    """Mincer–Zarnowitz test of unbiased forecasts: outcomes on forecasts, constant zero and slope one.

    Parameters
    ----------
    realised, forecasts : Series, shape (n,)
        Outcomes and their forecasts, matched by label; pairs without one of them are left out.
    clusters : Series, optional
        Label of each forecast, such as its date, within which errors are correlated; by default HAC errors.

    Returns
    -------
    TestResult
        Wald test; the note has the constant and the slope.

    Raises
    ------
    EstimationError
        If fewer than ten pairs are complete, or the forecasts do not vary.

    References
    ----------
    Mincer, J., and V. Zarnowitz (1969), The evaluation of economic forecasts, in: Economic Forecasts and
    Expectations, NBER.

    Examples
    --------
    >>> rng = np.random.default_rng(0)
    >>> f = pd.Series(rng.normal(size=200))
    >>> mincer_zarnowitz_test(f + rng.normal(size=200), f).p_value > 0.05
    True
    """
    fit = forecast_regression(realised, forecasts, clusters)
    test = fit.test([[1.0, 0.0], [0.0, 1.0]], [0.0, 1.0])
    a, b = fit.coefficients
    note = f"constant {a:.3g}, slope {b:.3g}; {quantity(fit.nobs, 'forecast')}"
    return replace(test, note=note, hypothesis="forecasts are unbiased and efficient (constant zero, slope one)")


def forecast_regression(realised: pd.Series, forecasts: pd.Series, clusters: pd.Series | None = None) -> Fit:
    """Regression of outcomes on a constant and their forecasts.

    Examples
    --------
    >>> f = pd.Series(np.arange(12.0))
    >>> forecast_regression(2.0 * f + np.tile([0.1, -0.1], 6), f).coefficients.round(2).tolist()
    [0.02, 2.0]
    """
    both = pd.concat({"realised": realised, "forecast": forecasts}, axis=1, join="inner")
    both = _in_time(both).dropna()
    if len(both) < _FEWEST:
        raise EstimationError(
            f"mincer_zarnowitz_test: {quantity(len(both), 'complete pair')} of forecast and outcome; at least "
            f"{_FEWEST} are needed."
        )
    values = both.reset_index(drop=True)
    design = pd.DataFrame({CONSTANT: np.ones(len(values)), "forecast": values["forecast"]})
    if clusters is None:
        return regress(values["realised"], design, constant=False)
    labels = clusters.reindex(both.index).to_numpy()
    return regress(values["realised"], design, constant=False, errors="cr3", clusters=labels)


@validate_arguments
def diebold_mariano_test(losses: pd.Series, other_losses: pd.Series, *, horizon: int = 1) -> TestResult:
    r"""Diebold–Mariano test that two forecasts have the same expected loss.

    The mean difference of losses over its standard error with h − 1 autocovariances, times
    :math:`\sqrt{(n+1-2h+h(h-1)/n)/n}`, is compared with Student's t on n − 1 degrees of freedom (Harvey,
    Leybourne and Newbold 1997). Where the sum of autocovariances is not positive, Bartlett weights are used.

    Parameters
    ----------
    losses, other_losses : Series, shape (n,)
        Losses of the two forecasts in order of time, such as squared errors, matched by label.
    horizon : int
        Steps by which a forecast looks ahead; forecasts of h steps have errors that overlap h − 1 periods.

    Returns
    -------
    TestResult
        A negative statistic: the first forecast has the smaller losses.

    Raises
    ------
    EstimationError
        If fewer than ten differences are complete, or all are the same.

    References
    ----------
    Diebold, F. X., and R. S. Mariano (1995), Comparing predictive accuracy. Journal of Business & Economic
    Statistics 13, 253–263. Harvey, D., S. Leybourne and P. Newbold (1997), Testing the equality of prediction
    mean squared errors. International Journal of Forecasting 13, 281–291.

    Examples
    --------
    >>> a = pd.Series([1.0, 2.0, 1.5, 1.0, 2.2, 1.1, 0.9, 1.4, 1.8, 1.2])
    >>> round(diebold_mariano_test(a, a * 0 + 1.5).statistic, 2)
    -0.62
    """
    both = _in_time(pd.concat([losses, other_losses], axis=1, join="inner")).dropna().to_numpy(float)
    n = len(both)
    if n < _FEWEST or not 1 <= horizon < n / 2:
        raise EstimationError(
            f"diebold_mariano_test: {quantity(n, 'difference')} and horizon={horizon}; at least {_FEWEST} "
            "differences and more than two horizons are needed."
        )
    difference = both[:, 0] - both[:, 1]
    statistic, weights = _loss_t(difference, horizon)
    p = float(2.0 * scipy.special.stdtr(n - 1, -abs(statistic)))
    note = f"mean difference {difference.mean():.4g}; {quantity(n, 'forecast')}, {weights}"
    return TestResult(statistic, f"t({n - 1})", (n - 1,), p, note, "both forecasts have the same expected loss")


def _in_time(frame: pd.DataFrame) -> pd.DataFrame:
    """Rows in order of time, where their labels have one; a label that is there twice is refused."""
    if frame.index.has_duplicates:
        twice = sorted(map(str, frame.index[frame.index.duplicated()].unique()))
        raise EstimationError(f"Forecasts: the label {name_list(twice)} has more than one row. Keep one of each.")
    return frame.sort_index() if has_order(frame.index) else frame


def _loss_t(difference: Floats, horizon: int) -> tuple[float, str]:
    """The corrected t of a mean difference of losses, and the weights of the autocovariances."""
    n = len(difference)
    off = difference - difference.mean()
    if np.abs(off).max() <= 1e-12 * np.abs(difference).max():
        raise EstimationError("diebold_mariano_test: the differences do not vary, so there is nothing to test.")
    covariances = np.array([off[lag:] @ off[: n - lag] for lag in range(horizon)]) / n
    variance, weights = float(covariances[0] + 2.0 * covariances[1:].sum()), "equal weights"
    if not variance > 0.0:
        bartlett = 1.0 - np.arange(1, horizon) / horizon
        variance, weights = float(covariances[0] + 2.0 * bartlett @ covariances[1:]), "Bartlett weights"
    correction = np.sqrt((n + 1 - 2 * horizon + horizon * (horizon - 1) / n) / n)
    return float(correction * difference.mean() / np.sqrt(variance / n)), weights


@dataclass(frozen=True, eq=False, repr=False)
class ModelConfidenceSet(MainTable):
    """The forecasts that contain the best one with a stated probability.

    Attributes
    ----------
    table : DataFrame
        By forecast, largest p value first: ``mean_loss``, ``p_value`` (of the step in which it would leave), and
        ``included``.
    level : float
        Probability with which the set contains the best forecast.
    nobs : int
    basis : str
    """

    table: pd.DataFrame
    level: float
    nobs: int
    basis: str

    @property
    def included(self) -> list[str]:
        """Forecasts in the set."""
        return [str(name) for name in self.table.index[self.table["included"]]]

    def __repr__(self) -> str:
        return over_basis(self.basis, table_text(self.table))


@validate_arguments
def model_confidence_set(
    losses: pd.DataFrame, *, level: float = 0.9, block: float | None = None, draws: int = 999, seed: int = 0
) -> ModelConfidenceSet:
    """Model confidence set (Hansen, Lunde and Nason 2011): forecasts not significantly worse than the best.

    Forecasts leave one by one, the one with the largest t of its mean loss less the average loss first, while the
    largest t is significant in a block bootstrap. A forecast's p value is the largest up to its own step.

    Parameters
    ----------
    losses : DataFrame, shape (n, M)
        Losses of each forecast in order of time.
    level : float
        Probability with which the set contains the best forecast.
    block : float, optional
        Mean length of a block, by default by Patton, Politis and White (2009) for the differences.
    draws, seed : int
        Draws of the stationary bootstrap.

    Returns
    -------
    ModelConfidenceSet
        Forecasts with p values.

    Raises
    ------
    EstimationError
        If there are fewer than two forecasts or ten complete rows, or two forecasts have the same losses.

    References
    ----------
    Hansen, P. R., A. Lunde and J. M. Nason (2011), The model confidence set. Econometrica 79, 453–497.

    Examples
    --------
    >>> rng = np.random.default_rng(0)
    >>> made = model_confidence_set(pd.DataFrame(rng.normal([0.0, 0.0, 1.0], 1.0, (100, 3)), columns=list("abc")))
    >>> made.included
    ['a', 'b']
    """
    losses = _in_time(losses)
    if block is not None and block < 1.0:
        raise EstimationError(f"model_confidence_set: block={block}; a block has at least one period.")
    if losses.shape[1] < 2:
        raise EstimationError("model_confidence_set: one forecast; pass the losses of at least two.")
    numbers = losses.to_numpy(float)
    whole: Bools = np.asarray(np.isfinite(numbers).all(axis=1))
    L = numbers[whole]
    if len(L) < _FEWEST:
        raise EstimationError(
            f"model_confidence_set: {quantity(len(L), 'complete row')} of losses; at least {_FEWEST} are needed."
        )
    names = [str(n) for n in losses.columns]
    apart = L - L.mean(axis=1, keepdims=True)
    _refuse_copies(L, names)
    length = block_length(apart) if block is None else block
    drawn = _drawn_means(L, length, draws, seed)
    mean, p_values, left = L.mean(axis=0), np.ones(len(names)), list(range(len(names)))
    largest = 0.0
    while len(left) > 1:
        p, worst = _equal_losses(mean[left], drawn[:, left])
        largest = max(largest, p)
        p_values[left[worst]] = largest
        left.pop(worst)
    columns = {"mean_loss": mean, "p_value": p_values, "included": p_values > 1.0 - level}
    table = pd.DataFrame(columns, pd.Index(names, name="forecast"))
    order = np.lexsort([mean, -p_values])
    basis = (
        f"{100 * level:g} % model confidence set; {quantity(len(L), 'forecast date')}, "
        f"{quantity(int((~whole).sum()), 'incomplete row')} dropped; {draws} draws in blocks of {length:.1f} on "
        f"average, seed {seed}"
    )
    return ModelConfidenceSet(table.iloc[order], level, len(L), basis)


def _refuse_copies(L: Floats, names: list[str]) -> None:
    """Refuse forecasts with the same losses, of which none could leave."""
    size = np.abs(L).max()
    for k in range(1, len(names)):
        same = np.abs(L[:, :k] - L[:, [k]]).max(axis=0) <= 1e-12 * size
        if same.any():
            raise EstimationError(
                f"model_confidence_set: {names[int(np.argmax(same))]} and {names[k]} have the same losses. "
                "Remove one."
            )


def _drawn_means(L: Floats, length: float, draws: int, seed: int) -> Floats:
    """Mean losses of each draw less those of the sample, (draws, M)."""
    rows = stationary_rows(len(L), draws, length, seed)
    step = max(1, _AT_ONCE // L.size)
    means = [L[rows[first : first + step]].mean(axis=1) for first in range(0, draws, step)]
    return np.asarray(np.concatenate(means) - L.mean(axis=0))


def _equal_losses(mean: Floats, drawn: Floats) -> tuple[float, int]:
    """P value of equal mean losses, and the place of the worst forecast."""
    off = mean - mean.mean()
    moves = drawn - drawn.mean(axis=1, keepdims=True)
    error = np.sqrt(np.mean(moves**2, axis=0))
    t = off / error
    largest = (moves / error).max(axis=1)
    return float((1 + np.sum(largest >= t.max())) / (len(drawn) + 1)), int(np.argmax(t))
