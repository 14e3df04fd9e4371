"""Mean–variance spanning tests, and regressions of each factor on the others."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats
from ultrum.core.presentation import MainTable, over_basis, p_equals, quantity, table_text
from ultrum.core.pricing.alpha_and_multiple_tests import adjust_p_values, project_signed
from ultrum.core.regression.engine.least_squares import (
    orthonormal,
    projection_residuals,
    refuse_combinations,
    row_weights,
)
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.regression.regress import estimate_table, regress
from ultrum.core.regression.unit_roots_and_design_warnings import exact_fits
from ultrum.core.series.input_checks import check_one_currency
from ultrum.core.series.metadata import ZERO_COST
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.statistics.risk_return_and_drawdowns import returns_in
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import AlignmentError, EstimationError, UnitError, name_list

_TIE: Final = 1e-9  # relative; the draw with all signs equal has the statistic of the sample
_LEAST_FREE: Final = 1e-12  # one less the leverage
_EXACT: Final = 1e-10  # residuals relative to returns that are rounding


@dataclass(frozen=True)
class CompleteReturns:
    """Returns of two tables over the periods that every series has."""

    left: Floats
    right: Floats
    index: pd.Index
    dropped: int
    basis: str

    @classmethod
    def of(cls, left: SeriesTable, right: SeriesTable, doing: str, needed: int) -> CompleteReturns:
        """Rows that both tables have in full; the periods of either that are dropped are counted.

        Parameters
        ----------
        left, right : SeriesTable
            Returns of one frequency.
        doing : str
            Function, for messages.
        needed : int
            Fewest complete periods.
        """
        logs = [m.name for t in (left, right) for m in t.metadata if m.measure == "log_return"]
        if logs:
            raise UnitError(f"{doing}: {name_list(logs)}: log returns. Convert them with to_simple.")
        check_one_currency((*left.metadata, *right.metadata), doing)
        if left.frequency != right.frequency:
            raise AlignmentError(
                f"{doing}: {name_list(left.names)} {'is' if len(left) == 1 else 'are'} {left.frequency.name}, "
                f"{name_list(right.names)} {right.frequency.name}. Convert one with to_frequency."
            )
        shared = left.index.intersection(right.index)
        there = pd.Series(0, left.index.union(right.index))
        a = left.block[left.index.get_indexer(shared)]
        b = right.block[right.index.get_indexer(shared)]
        whole: Bools = np.asarray(np.isfinite(a).all(axis=1) & np.isfinite(b).all(axis=1))
        if whole.sum() < needed:
            raise EstimationError(
                f"{doing}: {quantity(int(whole.sum()), 'period')} in which all of "
                f"{name_list(list(dict.fromkeys([*left.names, *right.names])))} have a return; at least {needed} "
                "are needed. Use fewer series or a longer sample."
            )
        every = time_positions(there.index)
        dropped = int(every[-1] - every[0]) + 1 - int(whole.sum()) if len(every) else 0  # absent periods too
        index = shared[whole]
        lost = quantity(dropped, "incomplete period")
        basis = f"{quantity(len(index), 'period')} ({span_of(index)}), {lost} dropped"
        return cls(a[whole], b[whole], index, dropped, basis)


def is_excess(tables: list[SeriesTable], doing: str) -> bool:
    """Whether all returns are excess or zero-cost returns; a mixture with total returns is refused.

    Examples
    --------
    >>> import ultrum as ul
    >>> is_excess([ul.practice.panel().excess], "a test")
    True
    """
    states = {bool(m.excess_of) for table in tables for m in table.metadata}
    if len(states) > 1:
        total = [m.name for table in tables for m in table.metadata if not m.excess_of]
        raise UnitError(
            f"{doing}: {name_list(total)} {'is a total return' if len(total) == 1 else 'are total returns'}, the "
            "others are excess or zero-cost returns. Subtract the risk-free return with excess, or state "
            "excess_of= if they are excess returns."
        )
    rates = sorted({m.excess_of for table in tables for m in table.metadata} - {"", ZERO_COST})
    if len(rates) > 1:
        raise UnitError(
            f"{doing}: the returns are in excess of different rates, {name_list(rates)}. Use one rate."
        )
    return states.pop()


@dataclass(frozen=True, eq=False, repr=False)
class SpanningTest(MainTable):
    """Test that benchmark assets span the mean–variance frontier of further assets.

    Attributes
    ----------
    tests : DataFrame
        Rows ``spanning`` (total returns only), ``alphas`` and ``betas`` (the step-down tests, total returns
        only): ``statistic df1 df2 p_value``.
    assets : DataFrame
        By test asset: ``alpha`` per period, ``beta_sum``, and the share of its variance that the benchmark
        explains, ``r2``.
    nobs : int
    how : str
    basis : str
    """

    _main = "tests"
    tests: pd.DataFrame
    assets: pd.DataFrame
    nobs: int
    how: str
    basis: str

    @property
    def statistic(self) -> float:
        """F statistic of the whole hypothesis."""
        return float(self.tests["statistic"].iloc[0])

    @property
    def p_value(self) -> float:
        """P value of the whole hypothesis."""
        return float(self.tests["p_value"].iloc[0])

    def __repr__(self) -> str:
        lines = [
            f"{name}: F({row.df1:g}, {row.df2:g}) = {row.statistic:.4g}, {p_equals(float(row.p_value))}"
            for name, row in self.tests.rename(index=_HYPOTHESES).iterrows()
        ]
        return over_basis(self.basis, *lines, table_text(self.assets))


_HYPOTHESES: Final = {
    "spanning": "Spanning (alphas zero and betas sum to one)",
    "alphas": "Alphas zero",
    "betas": "Betas sum to one, given zero alphas",
}


@validate_arguments
def spanning_test(
    assets: SeriesTable | TimeSeries | pd.DataFrame,
    benchmark: SeriesTable | TimeSeries | pd.DataFrame,
    *,
    how: Literal["exact", "robust"] = "exact",
    draws: int = 999,
    seed: int = 0,
) -> SpanningTest:
    r"""Mean–variance spanning test (Huberman and Kandel 1987) of assets by a benchmark.

    Total returns: without a risk-free asset the benchmark spans the assets if :math:`\alpha = 0` and
    :math:`B1 = 1` in :math:`r_t = \alpha + B b_t + e_t`. Excess or zero-cost returns: the risk-free asset belongs
    to the benchmark, and the hypothesis is :math:`\alpha = 0` (the GRS test). What the series state decides.

    Parameters
    ----------
    assets : SeriesTable, TimeSeries or DataFrame, shape (T, N)
        Returns of the test assets or of further factors. A DataFrame holds total returns.
    benchmark : SeriesTable, TimeSeries or DataFrame, shape (T, K)
        Returns of the benchmark assets or factors, of the same kind.
    how : {"exact", "robust"}
        ``"exact"``: F tests, exact for independent normal errors. ``"robust"``: the same statistics with p values
        from the wild bootstrap: one random sign for each date, on HC2 residuals of the model under the null, so
        that variances may change over time and with the benchmark.
    draws, seed : int
        Draws of the robust test.

    Returns
    -------
    SpanningTest
        The joint test, for total returns also its two steps (Kan and Zhou 2012), and each asset's part.

    Raises
    ------
    UnitError
        If excess and total returns are mixed.
    EstimationError
        If there are not more complete periods than series, or an asset is a combination of others.

    Notes
    -----
    With U the ratio of the determinants of the unrestricted and the restricted residual covariance,
    (T−K−N)/N·(U^−½ − 1) has the distribution F(2N, 2(T−K−N)); for one asset (T−K−1)/2·(1/U − 1) has F(2, T−K−1).
    See docs/formulas.md.

    References
    ----------
    Huberman, G., and S. Kandel (1987), Mean-variance spanning. Journal of Finance 42, 873–888. Kan, R., and G.
    Zhou (2012), Tests of mean-variance spanning. Annals of Economics and Finance 13, 139–187.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> assets = panel.excess.select(["BRTW", "EBMK"])
    >>> ul.spanning_test(assets, panel.factor_table.select(["market"])).tests.index.tolist()
    ['alphas']
    """
    tested, spanning = returns_in(assets, "spanning_test"), returns_in(benchmark, "spanning_test")
    both = sorted(set(tested.names) & set(spanning.names))
    if both:
        raise EstimationError(
            f"spanning_test: {name_list(both)} is among the assets and the benchmark. Remove it from one of them."
        )
    excess = is_excess([tested, spanning], "spanning_test")
    count, width = len(tested), len(spanning)
    data = CompleteReturns.of(tested, spanning, "spanning_test", count + width + 2)
    y, f = data.left, data.right
    full = np.column_stack([np.ones(len(y)), f])
    refuse_combinations("spanning_test", y, full, tested.names)
    tests = _all_tests(y, f, full, excess, draws if how == "robust" else 0, seed)
    slopes = row_weights(full) @ y
    residuals = y - full @ slopes
    r2 = 1.0 - np.sum(residuals**2, axis=0) / np.sum((y - y.mean(axis=0)) ** 2, axis=0)
    columns = {"alpha": slopes[0], "beta_sum": slopes[1:].sum(axis=0), "r2": r2}
    listed = pd.DataFrame(columns, pd.Index(tested.names, name="asset"))
    kind = "total returns, without a risk-free asset"
    if excess:
        kind = "excess returns, so that the risk-free asset belongs to the benchmark"
    means = f"wild bootstrap, null imposed, {draws} draws, seed {seed}" if how == "robust" else "F distribution"
    basis = (
        f"{quantity(count, 'test asset')}, benchmark {', '.join(spanning.names)}; {kind}; {data.basis}; p "
        f"values: {means}; alphas in decimals per period"
    )
    return SpanningTest(tests, listed, len(y), how, basis)


def alphas_p(y: Floats, f: Floats, draws: int, seed: int) -> float:
    """P value of zero alphas of excess returns (T, N) on factors (T, K), exact or by draws; missing if
    T ≤ N + K or the factors fit an asset exactly.

    Examples
    --------
    >>> rng = np.random.default_rng(0)
    >>> 0.0 < alphas_p(rng.normal(size=(60, 3)), rng.normal(size=(60, 1)), 0, 0) < 1.0
    True
    """
    full = np.column_stack([np.ones(len(y)), f])
    left = projection_residuals(full, y)
    exact = np.linalg.norm(left, axis=0) <= _EXACT * np.linalg.norm(y, axis=0)
    if len(y) <= y.shape[1] + f.shape[1] + 1 or exact.any():
        return np.nan
    return float(_all_tests(y, f, full, True, draws, seed)["p_value"].iloc[0])


def _all_tests(y: Floats, f: Floats, full: Floats, excess: bool, draws: int, seed: int) -> pd.DataFrame:
    """The joint test, and for total returns its two steps."""
    rows, count, width = len(y), y.shape[1], f.shape[1]
    free = rows - width - count
    apart, less = f[:, 1:] - f[:, :1], y - f[:, :1]  # under α = 0 and B1 = 1: y − b₁ on b₂ − b₁, …, no constant
    degrees = (2 * count, 2 * free, 0.5) if count > 1 else (2, rows - width - 1, 1.0)
    stages = {
        "spanning": (full, apart, less, *degrees),
        "alphas": (full, f, y, count, free, 1.0),
        "betas": (f, apart, less, count, free + 1, 1.0),
    }
    if excess:
        stages = {"alphas": stages["alphas"]}
    out = {}
    for name, (design, restricted, response, above, below, power) in stages.items():
        ratio, drawn = _determinant_ratios(design, restricted, response, draws, seed)
        statistic = below / above * np.expm1(power * ratio)
        p = (
            (1 + np.sum(drawn >= ratio - _TIE * abs(ratio))) / (draws + 1)
            if draws
            else scipy.special.fdtrc(above, below, statistic)
        )
        out[name] = (statistic, above, below, float(p))
    return pd.DataFrame.from_dict(out, orient="index", columns=["statistic", "df1", "df2", "p_value"])


def _determinant_ratios(
    design: Floats, restricted: Floats, response: Floats, draws: int, seed: int
) -> tuple[float, Floats]:
    """Logarithm of |restricted| / |unrestricted residual products|, in the sample and in draws under the null.

    The restricted design spans a subspace of the other, and the response differs from the assets' returns by a
    combination of its columns. With residuals scaled to U'U = I, signs leave U'U as it is, and |I − B'B| =
    |I − BB'| for B = Q'(sU) needs only matrices as large as the design.
    """
    basis = orthonormal(design)
    inner = orthonormal(restricted) if restricted.shape[1] else np.zeros((len(response), 0))
    null = response - inner @ (inner.T @ response)
    left = response - basis @ (basis.T @ response)
    ratio = float(np.linalg.slogdet(null.T @ null)[1] - np.linalg.slogdet(left.T @ left)[1])
    if not draws:
        return ratio, np.empty(0)
    free = np.maximum(1.0 - np.sum(inner**2, axis=1), _LEAST_FREE)
    scaled = null / np.sqrt(free)[:, None]
    root = np.asarray(np.linalg.qr(scaled)[1])
    unit = np.linalg.solve(root.T, scaled.T).T
    signs = np.random.default_rng(seed).choice([-1.0, 1.0], (draws, len(unit)))
    return ratio, _log_free(inner, unit, signs) - _log_free(basis, unit, signs)


def _log_free(basis: Floats, unit: Floats, signs: Floats) -> Floats:
    """log|I − B'B| of the share of signed residuals that a design leaves, of each draw."""
    if not basis.shape[1]:
        return np.zeros(len(signs))
    projected = np.concatenate(list(project_signed(basis, unit, signs)))
    gram = projected @ projected.swapaxes(1, 2)
    return np.asarray(np.linalg.slogdet(np.eye(basis.shape[1]) - gram)[1])


@validate_arguments
def factor_spanning_regressions(factors: SeriesTable | pd.DataFrame, *, errors: str = "hac") -> pd.DataFrame:
    """Alpha of each factor on all others: a factor without alpha adds nothing to them.

    Parameters
    ----------
    factors : SeriesTable or DataFrame, shape (T, K)
        Traded factors: excess or zero-cost returns.
    errors : str
        Kind of standard errors, as for :func:`ultrum.regress`.

    Returns
    -------
    DataFrame
        By factor: ``mean`` and ``mean_t``, ``alpha standard_error t p`` and ``p_adjusted`` (Holm 1979, for as
        many tests as factors), ``r2`` and ``nobs``; per period. Each uses the periods that all factors have.

    Raises
    ------
    EstimationError
        If there is only one factor, or a factor is a combination of others.

    References
    ----------
    Barillas, F., and J. Shanken (2017), Which alpha? Review of Financial Studies 30, 1316–1338.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> ul.factor_spanning_regressions(panel.factor_table).index.tolist() == list(panel.factors)
    True
    """
    table = returns_in(factors, "factor_spanning_regressions")
    if len(table) < 2:
        raise EstimationError(
            "factor_spanning_regressions: one factor; at least two are needed, each of which is explained by "
            "the others."
        )
    data = CompleteReturns.of(table, table, "factor_spanning_regressions", len(table) + 2)
    frame = pd.DataFrame(data.left, data.index, table.names)
    ones = pd.DataFrame({CONSTANT: np.ones(len(frame))}, frame.index)
    means = regress(frame, ones, errors=errors, constant=False)
    out = {}
    for name in table.names:
        fit = estimate_table(frame[[name]], frame.drop(columns=name), errors=errors)
        if exact_fits(fit):
            raise EstimationError(
                f"factor_spanning_regressions: {name} is a combination of the other factors. Drop one of them."
            )
        parts = fit.coefficients, fit.standard_errors, fit.t_values, fit.p_values
        alpha = [part[CONSTANT][name] for part in parts]
        mean = means.coefficients[CONSTANT][name], means.t_values[CONSTANT][name]
        out[name] = [*mean, *alpha, fit.r2[name], int(fit.nobs[name])]
    columns = ["mean", "mean_t", "alpha", "standard_error", "t", "p", "r2", "nobs"]
    result = pd.DataFrame.from_dict(out, orient="index", columns=columns)
    result.insert(6, "p_adjusted", adjust_p_values(result["p"])["p_adjusted"].reindex(result.index))
    return result.rename_axis("factor")
