"""Joint tests of zero alphas (GRS), and p values adjusted for multiple testing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar, Final, Literal

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.deprecated_names import RenamedColumns
from ultrum.core.displayed_numbers import p_equals, quantity
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.pricing.factor_betas_and_shrinkage import chosen_factors
from ultrum.core.regression.engine.bootstrap import block_length, drawn_periods, row_counts
from ultrum.core.regression.engine.least_squares import row_weights
from ultrum.core.regression.engine.newey_west_and_fixed_b import bartlett_sum, check_depth, lag_rule
from ultrum.core.regression.regress import regress
from ultrum.core.series.text_tables import TextInNotebooks
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels import span_of
from ultrum.errors import EstimationError, name_list, warn_user

_FEW: Final = 0.8  # share of the rows below which assets that cost most are named
_NEARLY_ALL: Final = 0.9


_TITLES: Final = {
    "exact": "GRS test (Gibbons, Ross and Shanken 1989), H0: all alphas zero",
    "robust": "Heteroskedasticity-robust Wald test, H0: all alphas zero (F approximation)",
    "bootstrap": "HAC Wald test, H0: all alphas zero (block-bootstrap p value)",
}


@dataclass(frozen=True, eq=False, repr=False)
class JointAlphaTest(TextInNotebooks):
    """The joint test of alphas and its basis.

    Attributes
    ----------
    statistic, p_value : float
    df : (int, int)
        Degrees of freedom of the F distribution.
    alphas : Series, shape (N,)
        Alphas per period, over the common periods.
    rows : int
    dropped : Series, shape (N,)
        Observations that each asset lacks in the dropped periods.
    basis : str
    """

    statistic: float
    p_value: float
    df: tuple[int, int]
    alphas: pd.Series
    rows: int
    dropped: pd.Series
    basis: str

    def to_frame(self) -> pd.DataFrame:
        """Alphas, and the observations that each asset lacks.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> ul.joint_alpha_test(panel, ["market"]).to_frame().head(2).round(3)
              alpha  observations missing
        BRTW  0.004                     1
        EBMK -0.000                     1
        """
        return pd.DataFrame({"alpha": self.alphas, "observations missing": self.dropped})

    def __repr__(self) -> str:
        kind = "Wald/N" if "bootstrap" in self.basis else f"F({self.df[0]}, {self.df[1]})"
        title, _, sample = self.basis.partition("; ")
        return f"{title}: {kind} = {self.statistic:.4g}, {p_equals(self.p_value)}\n{sample}"


@validate_arguments
def joint_alpha_test(
    panel: Panel,
    factors: Sequence[str] | None = None,
    *,
    how: Literal["exact", "robust", "bootstrap"] = "exact",
    lags: int | None = None,
    draws: int = 999,
    seed: int = 0,
) -> JointAlphaTest:
    """Joint test of zero alphas: GRS, robust Wald or block bootstrap, over the periods that all assets have.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factors : sequence of str, optional
        Traded factors; by default all of the panel.
    how : {"exact", "robust", "bootstrap"}
        ``"exact"``: the GRS test (Gibbons, Ross and Shanken 1989), (T−N−K)/N · α̂'Σ̂⁻¹α̂ / (1 + f̄'Ω̂⁻¹f̄) with
        both covariances over T; exactly F(N, T−N−K) for independent normal errors. Robust: the HC0 Wald statistic
        times (T−N−K)/(NT), against the same F. Bootstrap: the Newey–West Wald statistic; its null distribution
        comes from block-resampled rows of factors and residuals.
    lags, draws, seed : int
        Options of the bootstrap; Newey–West lags are by default floor(4(T/100)^(2/9)).

    Returns
    -------
    JointAlphaTest
        Statistic, distribution, p value and the periods used.

    Raises
    ------
    EstimationError
        If a factor is not traded, or there are not more common periods than assets and factors.

    Warns
    -----
    DataWarning
        If fewer than 80 % of the periods have every asset; the assets that cause most drops are named.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> joint_alpha_test(panel, ["market"]).df
    (23, 38)
    """
    if lags is not None and how != "bootstrap":
        raise EstimationError(f"lags={lags} has no effect with how='{how}'; remove lags.")
    panel.check_excess("A joint test of alphas")
    names = chosen_factors(panel, factors)
    _check_factors(panel, names)
    frame = panel.excess.values
    x = panel.factors[names]
    complete = x.notna().all(axis=1).to_numpy()
    there = np.isfinite(frame.to_numpy())
    whole = complete & there.all(axis=1)
    dropped = pd.Series((~there & complete[:, None]).sum(axis=0), frame.columns)
    rows, assets, count = int(whole.sum()), frame.shape[1], len(names)
    advice = _what_costs_rows(there[complete], frame.columns)
    if rows <= assets + count:
        raise EstimationError(
            f"joint_alpha_test: the GRS test needs T > N + K; {quantity(rows, 'complete period')}, N = "
            f"{assets} assets, K = "
            f"{quantity(count, 'factor')}. {advice or 'Use fewer assets or a longer sample.'}"
        )
    y, f = frame.to_numpy()[whole], x.to_numpy(dtype=np.float64)[whole]
    df = assets, rows - assets - count
    positions = time_positions(frame.index[whole])
    if how == "bootstrap":
        check_depth(lags, rows)
        alphas, statistic, p_value = _bootstrap(
            y, f, positions, lag_rule(rows) if lags is None else lags, draws, seed
        )
    else:
        alphas, statistic = (_exact if how == "exact" else _robust)(y, f)
        p_value = float(scipy.special.fdtrc(*df, statistic))
    if advice and rows < _FEW * complete.sum():
        warn_user(
            f"joint_alpha_test uses {rows} of {int(complete.sum())} periods, those that every asset has. {advice}"
        )
    span = span_of(frame.index[whole])
    lost = int((complete & ~whole).sum())
    left_out = f"{quantity(lost, 'incomplete period')} dropped"
    basis = (
        f"{_TITLES[how]}; {quantity(assets, 'asset')}, factors: {', '.join(names)}; {rows} periods, {span}; "
        f"{left_out}"
    )
    named = pd.Series(alphas, frame.columns)
    return JointAlphaTest(statistic, p_value, df, named, rows, dropped, basis)


def _what_costs_rows(there: Bools, names: pd.Index) -> str:
    """The assets that cause most dropped periods, and the periods that remain without them; empty if there are
    none.

    Assets are removed one by one, always the one with the fewest observations, until 90 % of the periods are
    complete.
    """
    counts = there.sum(axis=0)
    order = np.argsort(counts, kind="stable")
    left = np.ones(len(order), dtype=bool)
    out: list[str] = []
    for place in order[:-1]:
        if there[:, left].all(axis=1).mean() >= _NEARLY_ALL or counts[place] == len(there):
            break
        left[place] = False
        out.append(f"{names[place]} ({quantity(counts[place], 'row')})")
    if not out:
        return ""
    rows = int(there[:, left].all(axis=1).sum())
    return (
        f"{name_list(out)} cause most of the drops; without {'it' if len(out) == 1 else 'them'} {rows} periods "
        f"remain for {quantity(int(left.sum()), 'asset')}."
    )


def _check_factors(panel: Panel, names: list[str]) -> None:
    macro = [n for n in names if not panel.metadata[n].is_return]
    if macro:
        raise EstimationError(
            f"joint_alpha_test: {name_list(macro)} is not a traded factor, so the alphas have no meaning. Use "
            "two_pass to "
            "estimate its risk premium."
        )


def _fit_alphas(y: Floats, f: Floats) -> tuple[Floats, Floats, Floats]:
    """Alphas, residuals, and the weight of each observation in every alpha."""
    design = np.column_stack([np.ones(len(f)), f])
    weights = row_weights(design)
    return weights[0] @ y, y - design @ (weights @ y), weights[0]


def _exact(y: Floats, f: Floats) -> tuple[Floats, float]:
    rows, assets, count = len(y), y.shape[1], f.shape[1]
    alphas, residuals, _ = _fit_alphas(y, f)
    size = _quadratic(alphas, residuals / np.sqrt(rows))
    mean = f.mean(axis=0)
    price = _quadratic(mean, (f - mean) / np.sqrt(rows))
    return alphas, (rows - assets - count) / assets * size / (1.0 + price)


def _robust(y: Floats, f: Floats) -> tuple[Floats, float]:
    rows, assets, count = len(y), y.shape[1], f.shape[1]
    alphas, residuals, weights = _fit_alphas(y, f)
    wald = _quadratic(alphas, residuals * weights[:, None])
    return alphas, (rows - assets - count) / (assets * rows) * wald


def _quadratic(vector: Floats, root: Floats) -> float:
    """v'(R'R)⁻¹v from the triangular factor of R, without forming R'R."""
    r: Floats = np.asarray(np.linalg.qr(root)[1])
    if np.abs(np.diag(r)).min() <= 1e-12 * np.abs(np.diag(r)).max():
        raise EstimationError("Some assets or factors are collinear. Drop those that are combinations of others.")
    half = np.linalg.solve(r.T, vector)
    return float(half @ half)


def _bootstrap(
    y: Floats, f: Floats, positions: Ints, lags: int, draws: int, seed: int
) -> tuple[Floats, float, float]:
    """Alphas, their Newey–West Wald statistic over N, and the share of draws under the null that reach it."""
    alphas, residuals, weights = _fit_alphas(y, f)
    statistic = _hac_wald(alphas, residuals, weights, positions, lags)
    explained = y - residuals - alphas
    reached = 0
    block = block_length(np.column_stack([f, residuals]))
    for periods in drawn_periods(positions, draws, block, seed):
        places = np.flatnonzero(periods >= 0)
        rows = periods[places]
        drawn = _fit_alphas(explained[rows] + residuals[rows], f[rows])
        reached += _hac_wald(*drawn, places, lags) >= statistic
    return alphas, statistic, (1 + reached) / (draws + 1)


def _hac_wald(alphas: Floats, residuals: Floats, weights: Floats, positions: Ints, lags: int) -> float:
    total = bartlett_sum(residuals * weights[:, None], lags, positions)
    return float(alphas @ np.linalg.solve(total, alphas)) / len(alphas)


# Many tests at once: p values adjusted for how many there are

Adjustment = Literal["holm", "bh", "by"]
_FEWEST: Final = 20  # periods
_AT_ONCE: Final = 1 << 22  # numbers of one array of some draws; about six such are held


class _AdjustedTable(RenamedColumns):
    old_names: ClassVar = {"adjusted": "p_adjusted"}


@validate_arguments
def adjust_p_values(p_values: pd.Series | pd.DataFrame, how: Adjustment = "holm") -> pd.DataFrame:
    """P values adjusted for multiple testing (Holm, Benjamini–Hochberg, Benjamini–Yekutieli).

    Parameters
    ----------
    p_values : Series or DataFrame, shape (n,) or (n, k)
        P values of tests; all values of a DataFrame are one family. Missing p values are not counted and come
        last.
    how : {"holm", "bh", "by"}
        ``holm`` controls the probability of any false rejection (Holm 1979); ``bh`` the expected share of false
        rejections, for independent or positively dependent tests (Benjamini and Hochberg 1995); ``by`` the same
        under any dependence (Benjamini and Yekutieli 2001).

    Returns
    -------
    DataFrame
        Columns ``p`` and ``p_adjusted``, smallest first.

    Raises
    ------
    EstimationError
        If a value is not between 0 and 1.

    Examples
    --------
    >>> adjust_p_values(pd.Series({"a": 0.01, "b": 0.04, "c": 0.03})).round(3)
          p  p_adjusted
    a  0.01        0.03
    c  0.03        0.06
    b  0.04        0.06
    """
    whole: pd.Series = pd.Series(p_values.stack()) if isinstance(p_values, pd.DataFrame) else p_values
    p = whole.astype(float).sort_values(kind="stable")  # missing ones come last
    values = np.asarray(p, dtype=np.float64)
    present = ~np.isnan(values)
    if not ((values[present] >= 0) & (values[present] <= 1)).all():
        raise EstimationError("adjust_p_values: p values must lie between 0 and 1. Pass the p values of tests.")
    adjusted = np.full(len(p), np.nan)
    adjusted[present] = _adjust_rising(values[present], how)
    return _AdjustedTable({"p": p, "p_adjusted": adjusted}, p.index)


def _adjust_rising(p: Floats, how: Adjustment) -> Floats:
    """Adjusted p values of sorted ones."""
    count, ranks = len(p), np.arange(1, len(p) + 1)
    if how == "holm":
        return np.asarray(np.minimum(np.maximum.accumulate((count - ranks + 1) * p), 1.0))
    factor = count / ranks * (np.sum(1.0 / ranks) if how == "by" else 1.0)
    return np.asarray(np.minimum(np.minimum.accumulate((factor * p)[::-1])[::-1], 1.0))


@validate_arguments
def step_down_alphas(
    panel: Panel, factors: Sequence[str] | None = None, *, draws: int = 999, seed: int = 0
) -> pd.DataFrame:
    """Romano–Wolf (2005) step-down p values of the alphas of all assets.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factors : sequence of str, optional
        All of the panel by default.
    draws, seed : int
        Options of the bootstrap over whole periods.

    Returns
    -------
    DataFrame
        By asset, smallest p first: ``alpha`` per period, ``t`` (White standard errors), ``p`` of the single test,
        and ``p_adjusted``, which controls the probability of any false rejection and uses the correlation across
        assets. Assets with too few observations come last, with missing estimates.

    Raises
    ------
    EstimationError
        If the panel has no risk-free return, or fewer than 20 periods have every factor.

    Notes
    -----
    Whole periods are resampled, which preserves the correlation across assets; the t of each draw is the
    deviation from the sample alpha over a standard error estimated in that draw. Each asset uses its own
    observations.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = step_down_alphas(ul.practice.panel(), ["market"], draws=199)
    >>> list(table.columns), bool((table["p_adjusted"] >= table["p"] - 0.05).all())
    (['alpha', 't', 'p', 'p_adjusted'], True)
    """
    panel.check_excess("A test of alphas")
    names = chosen_factors(panel, factors)
    table = regress(panel.excess, panel.factor_table.select(names), errors="hc0")
    F = panel.factors[names].to_numpy(dtype=np.float64)
    whole = np.isfinite(F).all(axis=1)
    if whole.sum() < _FEWEST:
        raise EstimationError(
            f"step_down_alphas: {quantity(int(whole.sum()), 'period')} with every factor; at least {_FEWEST} "
            "are needed. Use a "
            "longer sample or fewer factors."
        )
    t = table.t_values["constant"].to_numpy()
    drawn = drawn_alpha_t(panel.excess.to_pandas().to_numpy(float)[whole], F[whole], draws, seed)
    kept = np.flatnonzero(np.isfinite(t))
    p_values = np.full((2, len(t)), np.nan)
    p_values[:, kept] = step_down(np.abs(t[kept]), np.abs(drawn[:, kept]))
    alphas = table.coefficients["constant"].to_numpy()
    columns = {"alpha": alphas, "t": t, "p": p_values[1], "p_adjusted": p_values[0]}
    result = pd.DataFrame(columns, pd.Index(table.assets, name="asset"))
    return _AdjustedTable(result.sort_values(["p_adjusted", "p"], kind="stable"))


def drawn_alpha_t(Y: Floats, F: Floats, draws: int, seed: int) -> Floats:
    """Studentised deviations of alphas in samples of resampled periods, (draws, N).

    Least squares weighted by the count of each period, with White standard errors in each draw.
    """
    X = np.column_stack([np.ones(len(F)), F])
    present = np.isfinite(Y)
    filled = np.where(present, Y, 0.0)
    products = X[:, :, None] * X[:, None, :]
    base = _alphas(X, products, filled, present, np.ones((1, len(X))))[0][0]
    generator = np.random.default_rng(seed)
    out = np.empty((draws, Y.shape[1]))
    step = max(1, _AT_ONCE // max(Y.size, 1))
    for low in range(0, draws, step):
        some = min(step, draws - low)
        periods: Ints = generator.integers(0, len(X), size=(some, len(X)))
        alphas, errors = _alphas(X, products, filled, present, row_counts(periods, len(X)))
        with np.errstate(invalid="ignore", divide="ignore"):
            out[low : low + some] = (alphas - base) / errors
    return out


def _alphas(X: Floats, products: Floats, Y: Floats, present: Floats, counts: Floats) -> tuple[Floats, Floats]:
    """Constants and their White standard errors by draw and asset, with observations weighted by their counts."""
    terms = X.shape[1]
    weight = counts[:, :, None] * present  # (D, T, N)
    flat = products.reshape(len(X), -1)
    gram = np.einsum("dtn,tq->dnq", weight, flat, optimize=True).reshape(*weight.shape[::2], terms, terms)
    cross = np.einsum("dtn,tn,tp->dnp", weight, Y, X, optimize=True)
    inverse = np.linalg.pinv(gram)
    slopes = np.einsum("dnpq,dnq->dnp", inverse, cross)
    residuals = Y[None] - np.einsum("tp,dnp->dtn", X, slopes)
    pull = np.einsum("dnp,tp->dtn", inverse[:, :, 0, :], X, optimize=True)
    with np.errstate(invalid="ignore", divide="ignore"):
        errors = np.sqrt(np.sum(weight * (pull * residuals) ** 2, axis=1))
    return slopes[:, :, 0], errors


def step_down(statistics: Floats, drawn: Floats) -> tuple[Floats, Floats]:
    """Adjusted p values of Romano and Wolf (2016), and the single-test p values.

    Parameters
    ----------
    statistics : ndarray, shape (N,)
        Absolute t.
    drawn : ndarray, shape (draws, N)
        Absolute t of each draw, under the null hypothesis.
    """
    count = len(drawn)
    order = np.argsort(-statistics, kind="stable")
    ranked = np.nan_to_num(drawn[:, order], nan=np.inf)
    largest = np.maximum.accumulate(ranked[:, ::-1], axis=1)[:, ::-1]  # of those not yet rejected
    p = (1 + np.sum(largest >= statistics[order], axis=0)) / (count + 1)
    adjusted = np.empty(len(order))
    adjusted[order] = np.maximum.accumulate(p)
    single = (1 + np.sum(np.nan_to_num(drawn, nan=np.inf) >= statistics, axis=0)) / (count + 1)
    return adjusted, single
