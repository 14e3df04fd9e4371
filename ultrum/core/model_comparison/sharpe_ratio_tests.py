"""Tests of differences between Sharpe ratios (Ledoit and Wolf 2008), also of many with one."""

from __future__ import annotations

import textwrap
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats, Ints
from ultrum.core.model_comparison.spanning_tests import CompleteReturns, is_excess
from ultrum.core.presentation import WIDTH, TextInNotebooks, p_equals, quantity, table_text
from ultrum.core.pricing.alpha_and_multiple_tests import step_down
from ultrum.core.regression.engine.newey_west_and_fixed_b import bartlett_sum, check_depth, lag_rule
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.statistics.risk_return_and_drawdowns import per_year, returns_in
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.errors import EstimationError, UnitError, name_list, one_of

_FEWEST: Final = 24  # complete periods
_AT_ONCE: Final = 1 << 20  # numbers of drawn returns held at a time
_SAME: Final = 1e-10  # relative size of a difference that is rounding


@dataclass(frozen=True, eq=False, repr=False)
class SharpeRatioTests(TextInNotebooks):
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

    ratios: pd.DataFrame
    differences: pd.DataFrame
    benchmark: str
    nobs: int
    basis: str

    @property
    def p_value(self) -> float:
        """P value of the largest difference, corrected for the choice of the best of all series."""
        return float(self.differences["p_adjusted"].min())

    def to_frame(self) -> pd.DataFrame:
        """The differences.

        Returns
        -------
        DataFrame
            A row per series.
        """
        return self.differences.copy()

    def __repr__(self) -> str:
        words = f"Differences from {self.benchmark}; smallest adjusted {p_equals(self.p_value)}"
        text = [table_text(self.ratios, "{:.3f}"), words, table_text(self.differences, "{:.3f}")]
        return "\n".join([*text, textwrap.fill(self.basis, WIDTH)])


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
    data = CompleteReturns.of(table, table, "sharpe_ratio_tests", _FEWEST)
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
        {
            "difference": common * difference,
            "standard_error": common * error,
            "t": t,
            "p": alone,
            "p_adjusted": adjusted,
        },
        names,
    )
    basis = (
        f"{data.basis}; annual by √{common**2:.4g}; HAC with {quantity(lags, 'lag')}; bootstrap in circular "
        "blocks of "
        f"{quantity(length, 'period')}, {draws} draws, seed {seed}"
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
    same = [
        n for k, n in enumerate(names) if k != place and np.abs(unit[:, k] - unit[:, place]).max() <= 1e3 * _SAME
    ]
    if same:
        raise EstimationError(
            f"sharpe_ratio_tests: {name_list(same)} is a multiple of {names[place]}, so that the ratios are "
            "equal. "
            "Remove it."
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
    step = max(1, _AT_ONCE // (count * length * y.shape[1]))
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
