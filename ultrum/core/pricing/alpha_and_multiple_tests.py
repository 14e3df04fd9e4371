"""Joint tests of zero alphas (GRS), and p values adjusted for multiple testing."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import ClassVar, Final, Literal

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.deprecated_names import RenamedColumns
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import TextInNotebooks, p_equals, quantity
from ultrum.core.pricing.factor_betas_and_shrinkage import chosen_factors
from ultrum.core.regression.engine.covariance_and_bootstrap import block_length, drawn_periods, row_counts
from ultrum.core.regression.engine.least_squares import refuse_combinations, row_weights
from ultrum.core.regression.engine.newey_west_and_fixed_b import bartlett_sum, check_depth, lag_rule
from ultrum.core.regression.inputs import same_rows
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import EstimationError, count_parts, name_list, warn_user

_FEW: Final = 0.8  # share of the rows below which assets that cost most are named
_NEARLY_ALL: Final = 0.9
_TIE: Final = 1e-9  # relative; the draw with all signs equal has the statistic of the sample

_TITLES: Final = {
    "exact": "GRS test (Gibbons, Ross and Shanken 1989), H0: all alphas zero",
    "robust": "Heteroskedasticity-robust GRS test, H0: all alphas zero (wild bootstrap, null imposed)",
    "diagonal": "Sum of squared t statistics, H0: all alphas zero (wild bootstrap, null imposed)",
    "bootstrap": "HAC Wald test, H0: all alphas zero (block-bootstrap p value)",
}


@dataclass(frozen=True, eq=False, repr=False)
class JointAlphaTest(TextInNotebooks):
    """The joint test of alphas and its basis.

    Attributes
    ----------
    statistic, p_value : float
    df : (int, int)
        N and T − N − K: degrees of freedom of the F distribution of the exact test.
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
        title, _, sample = self.basis.partition("; ")
        kinds = {_TITLES["bootstrap"]: "Wald/N", _TITLES["diagonal"]: "Σt²"}
        kind = kinds.get(title, f"F({self.df[0]}, {self.df[1]})")
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
    """Joint test of zero alphas: GRS, robust GRS or block bootstrap, over the periods that all assets have.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factors : sequence of str, optional
        Traded factors; by default all of the panel.
    how : {"exact", "robust", "bootstrap"}
        ``"exact"``: the GRS test (Gibbons, Ross and Shanken 1989), (T−N−K)/N · α̂'Σ̂⁻¹α̂ / (1 + f̄'Ω̂⁻¹f̄) with
        both covariances over T; exactly F(N, T−N−K) for independent normal errors. ``"robust"``: the same
        statistic with a p value from the wild bootstrap: one random sign for each date, on HC2 residuals of the
        model without alphas, so that variances may change with the factors and over time. With T ≤ N + K it tests
        the sum of squared t statistics. ``"bootstrap"``: the Newey–West Wald statistic, for autocorrelated
        errors; its null distribution comes from block-resampled rows of factors and residuals.
    lags : int, optional
        Of ``how="bootstrap"``; by default floor(4(T/100)^(2/9)).
    draws, seed : int
        Draws of the robust test and of the bootstrap.

    Returns
    -------
    JointAlphaTest
        Statistic, distribution, p value and the periods used.

    Raises
    ------
    EstimationError
        If a factor is not traded, an asset is a combination of others, or there are not more common periods than
        assets and factors (unless ``how="robust"``).

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
    if rows <= (count + 2 if how == "robust" else assets + count):
        needs = "T > K + 2" if how == "robust" else "T > N + K"
        fewer = " how='robust' works with fewer periods." * (how != "robust" and rows > count + 2)
        raise EstimationError(
            f"joint_alpha_test: the test needs {needs}; {quantity(rows, 'complete period')}, N = {assets} "
            f"assets, K = {quantity(count, 'factor')}. {advice or 'Use fewer assets or a longer sample.'}{fewer}"
        )
    y, f = frame.to_numpy()[whole], x.to_numpy(dtype=np.float64)[whole]
    df = assets, rows - assets - count
    positions = time_positions(frame.index[whole])
    title = "diagonal" if how == "robust" and df[1] < 1 else how
    if title != "diagonal":
        refuse_combinations("joint_alpha_test", y, np.column_stack([np.ones(rows), f]), list(frame.columns))
    if how == "robust":
        alphas, statistic, p_value = _wild_bootstrap(y, f, draws, seed)
    elif how == "bootstrap":
        check_depth(lags, rows)
        alphas, statistic, p_value = _bootstrap(
            y, f, positions, lag_rule(rows) if lags is None else lags, draws, seed
        )
    else:
        alphas, statistic = _exact(y, f)
        p_value = float(scipy.special.fdtrc(*df, statistic))
    if advice and rows < _FEW * complete.sum():
        warn_user(
            f"joint_alpha_test uses {rows} of {int(complete.sum())} periods, those that every asset has. {advice}"
        )
    span = span_of(frame.index[whole])
    lost = int((complete & ~whole).sum())
    left_out = f"{quantity(lost, 'incomplete period')} dropped"
    basis = (
        f"{_TITLES[title]}; {quantity(assets, 'asset')}, factors: {', '.join(names)}; {rows} periods, {span}; "
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
            "two_pass to estimate its risk premium."
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
    return alphas, (rows - assets - count) / assets * size / _price_of(f)


def _wild_bootstrap(y: Floats, f: Floats, draws: int, seed: int) -> tuple[Floats, float, float]:
    """Alphas, their GRS statistic (Σt² without T > N + K), and the share of draws under the null that reach it.

    The statistic does not depend on the betas, so draws have residuals alone. With Q an orthonormal basis of the
    design, the sum of squares of signed residuals is U'U for any signs, and the rest follows from Q'(sU).
    """
    rows, assets, count = len(y), y.shape[1], f.shape[1]
    design = np.column_stack([np.ones(rows), f])
    basis = np.asarray(np.linalg.qr(design)[0])
    alphas, residuals, weights = _fit_alphas(y, f)
    restricted = np.asarray(np.linalg.qr(f)[0])
    free = 1.0 - np.sum(restricted**2, axis=1)
    null = (y - restricted @ (restricted.T @ y)) / np.sqrt(np.maximum(free, 1e-12))[:, None]
    signs = np.random.default_rng(seed).choice([-1.0, 1.0], (draws, rows))
    pull = basis.T @ weights
    if rows > assets + count:
        statistic, scale = _exact(y, f)[1], rows * (rows - assets - count) / assets / _price_of(f)
        root = np.asarray(np.linalg.qr(null)[1])
        drawn = scale * _drawn_quadratics(basis, pull, np.linalg.solve(root.T, null.T).T, signs)
    else:
        variances = np.sum(residuals**2, axis=0)
        if not (variances > 0).all():
            raise EstimationError(
                "joint_alpha_test: an asset has no residuals. Drop the assets that fit exactly."
            )
        scale = (rows - count - 1) / float(weights @ weights)
        statistic = scale * float(np.sum(alphas**2 / variances))
        drawn = scale * _drawn_squares(basis, pull, null, signs)
    return alphas, statistic, float((1 + np.sum(drawn >= statistic * (1.0 - _TIE))) / (draws + 1))


def _drawn_quadratics(basis: Floats, pull: Floats, scaled: Floats, signs: Floats) -> Floats:
    """α'S⁻¹α of each draw, (draws,), from residuals scaled to U'U = I: α = pull'B and S = I − B'B, B = Q'(sU)."""
    out = []
    for projected in project_signed(basis, scaled, signs):
        gram = projected @ projected.swapaxes(1, 2)
        solved = np.linalg.solve(
            np.eye(len(pull)) - gram, np.broadcast_to(pull[:, None], (len(gram), len(pull), 1))
        )
        out.append(np.einsum("k,dkl,dl->d", pull, gram, solved[:, :, 0]))
    return np.concatenate(out)


def _drawn_squares(basis: Floats, pull: Floats, null: Floats, signs: Floats) -> Floats:
    """Sum of squared alphas over their residual sums of squares in each draw, (draws,)."""
    whole = np.sum(null**2, axis=0)
    parts = [
        np.sum((pull @ projected) ** 2 / (whole - np.sum(projected**2, axis=1)), axis=1)
        for projected in project_signed(basis, null, signs)
    ]
    return np.concatenate(parts)


def project_signed(basis: Floats, values: Floats, signs: Floats) -> Iterator[Floats]:
    """Q'(sU) of some draws after another, (some draws, K, N): sums over dates of sₜqₜuₜ' by one product.

    Parameters
    ----------
    basis, values : ndarray, shape (T, K) and (T, N)
    signs : ndarray, shape (draws, T)

    Examples
    --------
    >>> one, signs = np.ones((2, 1)), np.array([[1.0, -1.0], [1.0, 1.0]])
    >>> [part.ravel().tolist() for part in project_signed(one, np.array([[3.0], [1.0]]), signs)]
    [[2.0, 4.0]]
    """
    width, count = basis.shape[1], values.shape[1]
    columns = max(1, _AT_ONCE // (len(values) * width))  # of values at a time
    step = max(1, _AT_ONCE // (width * count))
    for first in range(0, len(signs), step):
        some = signs[first : first + step]
        parts = [
            (some @ (basis[:, :, None] * values[:, None, low : low + columns]).reshape(len(values), -1)).reshape(
                len(some), width, -1
            )
            for low in range(0, count, columns)
        ]
        yield np.concatenate(parts, axis=2)


def _price_of(f: Floats) -> float:
    """1 + f̄'Ω̂⁻¹f̄."""
    mean = f.mean(axis=0)
    return 1.0 + _quadratic(mean, (f - mean) / np.sqrt(len(f)))


def _quadratic(vector: Floats, root: Floats) -> float:
    """v'(R'R)⁻¹v from the triangular factor of R, without forming R'R."""
    sizes = np.linalg.norm(root, axis=0)
    if not (sizes > 0).all():
        raise EstimationError("A factor is constant. Drop it.")
    vector, root = vector / sizes, root / sizes
    r: Floats = np.asarray(np.linalg.qr(root)[1])
    if np.abs(np.diag(r)).min() <= 1e-12 * np.abs(np.diag(r)).max():
        raise EstimationError("Some factors are collinear. Drop those that are combinations of others.")
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
    for periods in count_parts(drawn_periods(positions, draws, block, seed), "joint_alpha_test, draws", draws):
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
_AT_ONCE: Final = 1 << 21  # counts of rows held at a time
_EXACT: Final = 1e-12  # residuals relative to the largest return that are rounding


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
    panel: Panel, factors: Sequence[str] | None = None, *, min_obs: int = 24, draws: int = 999, seed: int = 0
) -> pd.DataFrame:
    """Romano–Wolf (2005) step-down p values of the alphas of all assets.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factors : sequence of str, optional
        All of the panel by default.
    min_obs : int
        Fewest observations of an asset; assets with fewer are left out and do not affect the others.
    draws, seed : int
        Options of the bootstrap over blocks of periods.

    Returns
    -------
    DataFrame
        By asset, smallest p first: ``alpha`` per period, ``t`` (White standard errors), ``p`` of the single test,
        and ``p_adjusted``, which controls the probability of any false rejection and uses the correlation across
        assets. Assets that are left out come last, without p values.

    Raises
    ------
    EstimationError
        If the panel has no risk-free return, or fewer than 20 periods have every factor.

    Warns
    -----
    DataWarning
        If assets are left out; they are named.

    Notes
    -----
    Circular blocks of 2.5·T^(1/3) periods are resampled (Politis and Romano 1992), which preserves correlation
    across assets and over time; the t of each draw is the deviation from the sample alpha over a White standard
    error estimated in that draw, as in the sample. An asset observed in less than half of the periods is drawn
    from its own span, so that its few observations do not make the largest t of all assets erratic.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = step_down_alphas(ul.practice.panel(), ["market"], draws=199)
    >>> list(table.columns), bool((table["p_adjusted"] >= table["p"] - 0.05).all())
    (['alpha', 't', 'p', 'p_adjusted'], True)
    """
    panel.check_excess("A test of alphas")
    names = chosen_factors(panel, factors)
    F = panel.factors[names].to_numpy(dtype=np.float64)
    whole = np.isfinite(F).all(axis=1)
    if whole.sum() < _FEWEST:
        raise EstimationError(
            f"step_down_alphas: {quantity(int(whole.sum()), 'period')} with every factor; at least {_FEWEST} "
            "are needed. Use a longer sample or fewer factors."
        )
    Y, assets = panel.excess.to_pandas().to_numpy(float)[whole], list(panel.excess.names)
    counts = np.isfinite(Y).sum(axis=0)
    used = np.flatnonzero(counts >= max(min_obs, len(names) + 2))
    if not len(used):
        raise EstimationError(
            f"step_down_alphas: no asset has {min_obs} observations with every factor. Use a longer sample, or a "
            "smaller min_obs."
        )
    _warn_of_short_assets(assets, counts, used, min_obs)
    positions = time_positions(panel.excess.index[whole])
    alphas, t = np.full((2, len(assets)), np.nan)
    p_values = np.full((2, len(assets)), np.nan)
    alphas[used], t[used], drawn = alpha_t_and_draws(Y[:, used], F[whole], positions, draws, seed)
    kept = np.isfinite(t[used])  # an exact fit has no t, and no p value
    p_values[:, used[kept]] = step_down(np.abs(t[used[kept]]), np.abs(drawn[:, kept]))
    columns = {"alpha": alphas, "t": t, "p": p_values[1], "p_adjusted": p_values[0]}
    result = pd.DataFrame(columns, pd.Index(assets, name="asset"))
    return _AdjustedTable(result.sort_values(["p_adjusted", "p"], kind="stable"))


def _warn_of_short_assets(assets: list[str], counts: Ints, used: Ints, min_obs: int) -> None:
    if len(used) < len(assets):
        short = [f"{assets[k]} ({counts[k]})" for k in np.setdiff1d(np.arange(len(assets)), used)]
        warn_user(
            f"step_down_alphas leaves out assets with fewer than {min_obs} observations: {name_list(short)}. Set "
            "min_obs to use them."
        )


def alpha_t_and_draws(
    Y: Floats, F: Floats, positions: Ints, draws: int, seed: int
) -> tuple[Floats, Floats, Floats]:
    """Alphas and their White t, (N,), and studentised deviations in samples of resampled blocks, (draws, N).

    Parameters
    ----------
    Y, F : ndarray, shape (T, N) and (T, K)
        F has no missing values.
    positions : ndarray of int, shape (T,)
        Periods of the rows.
    draws, seed : int
    """
    middle, spread = F.mean(axis=0), F.std(axis=0)
    spread = np.where(spread > 0, spread, 1.0)
    X = np.column_stack([np.ones(len(F)), (F - middle) / spread])  # units and levels of factors do not matter
    at_zero = np.concatenate([[1.0], -middle / spread])  # alpha is the fit where the factors are zero
    present = np.isfinite(Y)
    alphas, t = np.empty((2, Y.shape[1]))
    out = np.empty((draws, Y.shape[1]))
    for columns in same_rows(present):
        rows = np.flatnonzero(present[:, columns[0]])
        own_span = np.arange(rows[0], rows[-1] + 1) if 2 * len(rows) < len(F) else np.arange(len(F))
        design, y = X[rows], Y[np.ix_(rows, columns)]
        inverse = np.linalg.pinv(design.T @ design)
        slopes = inverse @ design.T @ y
        residuals = y - design @ slopes
        alphas[columns] = at_zero @ slopes
        exact = np.abs(residuals).max(axis=0) <= _EXACT * np.abs(y).max(axis=0, initial=0.0)
        errors = np.sqrt(np.sum(((design @ inverse @ at_zero)[:, None] * residuals) ** 2, axis=0))
        with np.errstate(invalid="ignore", divide="ignore"):
            t[columns] = np.where(exact, np.nan, alphas[columns] / errors)
        low = 0
        blocks = _block_counts(positions[own_span], draws, [seed, int(own_span[0]), int(own_span[-1])])
        for counts in count_parts(
            blocks, "step_down_alphas, blocks of draws", -(-draws * len(own_span) // _AT_ONCE)
        ):
            some = counts[:, rows - own_span[0]]
            out[low : low + len(some), columns] = _drawn_t(design, residuals, some, at_zero)
            low += len(some)
    return alphas, t, out


def _block_counts(positions: Ints, draws: int, seed: Sequence[int]) -> Iterator[Floats]:
    """How often each row is drawn, (some draws, T): circular blocks of 2.5·T^(1/3) periods of the calendar."""
    span = int(positions[-1] - positions[0]) + 1
    length = int(np.ceil(2.5 * span ** (1.0 / 3.0)))
    starts = np.random.default_rng(seed).integers(0, span, (draws, -(-span // length)))
    row_at = np.full(span, -1, dtype=np.int64)
    row_at[positions - positions[0]] = np.arange(len(positions))
    for some in np.array_split(starts, max(1, -(-draws * span // _AT_ONCE))):
        periods = ((some[:, :, None] + np.arange(length)) % span).reshape(len(some), -1)[:, :span]
        yield row_counts(row_at[periods], len(positions))


def _drawn_t(X: Floats, residuals: Floats, counts: Floats, functional: Floats) -> Floats:
    """Deviations of a linear functional of the coefficients over White standard errors, (draws, N).

    Observations are weighted by their counts; with residuals of the sample, sums of squares lose no digits.
    """
    gram = np.einsum("dt,tp,tq->dpq", counts, X, X, optimize=True)
    inverse = np.linalg.pinv(gram, hermitian=True)
    deviations = inverse @ np.einsum("dt,tp,tn->dpn", counts, X, residuals, optimize=True)
    weight = counts * (inverse @ functional @ X.T) ** 2
    squares = weight @ residuals**2
    squares -= 2.0 * np.sum(deviations * np.einsum("dt,tp,tn->dpn", weight, X, residuals, optimize=True), axis=1)
    products = np.einsum("dt,tp,tq->dpq", weight, X, X, optimize=True)
    squares += np.sum(deviations * (products @ deviations), axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(functional @ deviations / np.sqrt(np.maximum(squares, 0.0)))


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
