"""Comparison of factor models by squared Sharpe ratio and by cross-sectional R²."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats, Ints
from ultrum.core.model_comparison.spanning_tests import CompleteReturns, alphas_p, is_excess, spanning_test
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import MainTable, decimals, over_basis, p_in_words, quantity, table_text
from ultrum.core.pricing.two_pass_standard_errors import cross_sectional_fit
from ultrum.core.regression.engine.least_squares import refuse_combinations
from ultrum.core.regression.engine.newey_west_and_fixed_b import bartlett_sum, check_depth
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.errors import EstimationError, name_list, one_of

Criterion = Literal["squared Sharpe ratio", "OLS R²", "GLS R²"]
_SPARE: Final = 24  # periods beyond the number of factors
_WORLDS: Final = 2_000  # draws of the mixture of χ² distributions


@dataclass(frozen=True, eq=False, repr=False)
class ModelComparison(MainTable):
    """Factor models compared by their squared Sharpe ratios and cross-sectional R².

    Attributes
    ----------
    models : DataFrame
        By model: ``factors``; ``squared_sharpe`` per period, ``adjusted`` for its bias, ``standard_error``;
        ``best_p``, the p value of the hypothesis that no other model has a larger one; ``alphas_p``, of zero
        alphas of the panel's assets; ``ols_r2 ols_r2_se gls_r2 gls_r2_se`` of the cross-section of mean returns.
    pairs : DataFrame
        By pair and criterion: ``relation`` (nested or not nested), ``difference`` (first less second),
        ``standard_error``, the ``test`` used, its ``p_value``, and the model ``preferred`` at the level, if any.
    level : float
        Level of the tests behind ``preferred``.
    nobs : int
    basis : str
    """

    _main = "pairs"
    models: pd.DataFrame
    pairs: pd.DataFrame
    level: float
    nobs: int
    basis: str

    @property
    def preferences(self) -> pd.DataFrame:
        """Preferred model of each pair by each criterion, with ``agreement`` in words."""
        table = self.pairs["preferred"].unstack("criterion", sort=False)[list(_CRITERIA)]
        return table.assign(agreement=[_agreement(list(row)) for row in table.to_numpy()])

    def __repr__(self) -> str:
        shown = self.models[list(_SHORT)].map(lambda v: decimals(v, 3, missing="–")).rename(columns=_SHORT)
        lines = [f"{name}: {factors}" for name, factors in self.models["factors"].items()]
        listed = self.pairs[_PAIR[1:]].replace({"preferred": {"": "–"}})
        listed["p_value"] = listed["p_value"].map(p_in_words)
        listed = listed.rename(columns={"standard_error": "s.e.", "p_value": "p"})
        listed.index = pd.Index([f"{a} – {b}, {criterion}" for a, b, criterion in self.pairs.index], name="")
        agreed = self.preferences["agreement"].reset_index()
        verdicts = [f"{r['first']} and {r['second']}: {r['agreement']}." for r in agreed.to_dict("records")]
        return over_basis(self.basis, *lines, shown.to_string(), table_text(listed, "{:.4f}"), *verdicts)


_CRITERIA: Final[tuple[Criterion, ...]] = ("squared Sharpe ratio", "OLS R²", "GLS R²")
_SQUARED: Final = {"squared_sharpe": "Sh²", "adjusted": "adj. Sh²", "standard_error": "s.e."}
_TESTS: Final = {"best_p": "best, p", "alphas_p": "alphas, p"}
_R2: Final = {"ols_r2": "OLS R²", "ols_r2_se": "s.e.", "gls_r2": "GLS R²", "gls_r2_se": "s.e."}
_SHORT: Final = {**_SQUARED, **_TESTS, **_R2}
_PAIR: Final = ["relation", "difference", "standard_error", "test", "p_value", "preferred"]


def _agreement(preferred: list[str]) -> str:
    """What the criteria say together."""
    named = sorted({p for p in preferred if p})
    if not named:
        return "no test prefers one"
    by = {m: [c for c, p in zip(_CRITERIA, preferred, strict=True) if p == m] for m in named}
    words = "; ".join(f"{m} is preferred by {name_list(c)}" for m, c in by.items())
    silent = [c for c, p in zip(_CRITERIA, preferred, strict=True) if not p]
    if len(named) > 1:
        return f"the tests disagree: {words}"
    return words + (f"; {name_list(silent)} cannot tell them apart" if silent else "; all tests agree")


@validate_arguments
def compare_models(
    panel: Panel,
    models: Mapping[str, Sequence[str]],
    *,
    lags: int = 0,
    level: float = 0.05,
    how: Literal["exact", "robust"] = "robust",
    draws: int = 999,
    seed: int = 0,
) -> ModelComparison:
    r"""Compare factor models: squared Sharpe ratios of their factors, and R² on the assets of the panel.

    A model of traded factors is better the larger the squared Sharpe ratio :math:`\mu'V^{-1}\mu` that its factors
    attain; the test assets do not matter for that (Barillas and Shanken 2017). For a nested model the test is
    that the additional factors have zero alphas on the others. For models that do not nest, the difference is
    asymptotically normal (Barillas, Kan, Robotti and Shanken 2020), if the factors that differ are not spanned by
    those in common, which is tested first. The R² of the cross-section of mean returns is compared in the same
    way (Kan, Robotti and Shanken 2013), valid where no model is exactly right.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return. Periods and assets are those without missing values.
    models : mapping of str to sequence of str
        Traded factors of each model, by its name; at least two models.
    lags : int
        Newey–West lags of the standard errors; none by default, as for returns without autocorrelation.
    level : float
        Level of the tests behind ``preferred``.
    how : {"exact", "robust"}
        Tests of zero alphas, as for :func:`ultrum.spanning_test`.
    draws, seed : int
        Draws of the robust tests.

    Returns
    -------
    ModelComparison
        Models, pairs of models, and the preferred ones.

    Raises
    ------
    EstimationError
        If a factor is unknown or not traded, two models are the same, or too few periods or assets are complete.

    Notes
    -----
    The unbiased estimate of the squared Sharpe ratio is ((T−K−2)·θ̂² − K)/T for normal factors. ``best_p`` is the
    likelihood-ratio test of Wolak (1989) that all other models that neither nest it nor are nested have no larger
    squared Sharpe ratio. See docs/formulas.md.

    References
    ----------
    Barillas, F., and J. Shanken (2017), Which alpha? Review of Financial Studies 30, 1316–1338. Barillas, F.,
    R. Kan, C. Robotti and J. Shanken (2020), Model comparison with Sharpe ratios. Journal of Financial and
    Quantitative Analysis 55, 1840–1874. Kan, R., C. Robotti and J. Shanken (2013), Pricing model performance
    and the two-pass cross-sectional regression methodology. Journal of Finance 68, 2617–2649.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> models = {"CAPM": ["market"], "two factors": ["market", "momentum"]}
    >>> ul.compare_models(panel, models, draws=199).preferences["squared Sharpe ratio"].tolist()
    ['two factors']
    """
    named = _check_models(panel, models)
    every = list(dict.fromkeys(name for terms in named.values() for name in terms))
    data, assets, left_out = _complete(panel, every)
    f, rows = pd.DataFrame(data.right, data.index, every), len(data.index)
    check_depth(lags, rows)
    if len(assets) + 1 < rows:
        refuse_combinations("compare_models", data.left, np.ones((rows, 1)), assets)
    refuse_combinations("compare_models", data.right, np.ones((rows, 1)), every)
    positions = time_positions(data.index)
    estimates = {name: _Estimates.of(f[terms].to_numpy(), data.left) for name, terms in named.items()}
    scale = lags, positions
    table = SeriesTable.from_arrays(
        data.right, data.index, tuple(panel.metadata[n].replace(name=n) for n in every)
    )
    pairs: dict[tuple[str, str, str], list[object]] = {}
    for a, b in itertools.combinations(named, 2):
        pairs |= _compare(a, b, named, estimates, table, data.left, scale, level, (how, draws, seed))
    labels = pd.MultiIndex.from_tuples(pairs, names=["first", "second", "criterion"])
    listed = pd.DataFrame(list(pairs.values()), labels, _PAIR)
    summary = {}
    for name, estimate in estimates.items():
        best = _best_p(name, named, estimates, scale, seed)
        alphas = alphas_p(data.left, f[named[name]].to_numpy(), draws if how == "robust" else 0, seed)
        sections = [n for r2, moves in estimate.cross_sections for n in (r2, _error_of_mean(moves, scale))]
        summary[name] = [", ".join(named[name]), *estimate.squared_sharpe_ratio(scale), best, alphas, *sections]
    summarised = pd.DataFrame.from_dict(summary, orient="index", columns=["factors", *_SHORT])
    without = f", without {name_list(left_out)} (incomplete)" if left_out else ""
    basis = (
        f"{data.basis}; cross-section of {quantity(len(assets), 'asset')}{without}; squared Sharpe ratios per "
        f"period; standard errors {f'HAC with {lags} lags' if lags else 'without lags'}; tests of nested models "
        f"{'by wild bootstrap, ' + str(draws) + ' draws' if how == 'robust' else 'by F'}; preferred at "
        f"{100 * level:g} %"
    )
    return ModelComparison(summarised.rename_axis("model"), listed, level, rows, basis)


def _check_models(panel: Panel, models: Mapping[str, Sequence[str]]) -> dict[str, list[str]]:
    """Factors of each model; unknown and macro factors, empty and equal models are refused."""
    panel.check_excess("A comparison of models")
    names = list(panel.factors)
    named: dict[str, list[str]] = {}
    for model, terms in models.items():
        if isinstance(terms, str) or not isinstance(terms, Sequence) or not terms:
            raise EstimationError(f"compare_models: '{model}' needs a list of factors, such as {names[:1]}.")
        wrong = [t for t in terms if t not in names]
        if wrong:
            raise EstimationError(f"compare_models: '{model}' has '{wrong[0]}'; {one_of(wrong[0], names)}")
        macro = [t for t in terms if not panel.metadata[t].is_return]
        if macro:
            raise EstimationError(
                f"compare_models: {name_list(macro)} is not a traded factor. Use its mimicking portfolio "
                "(mimicking_portfolios)."
            )
        same = [other for other, listed in named.items() if set(listed) == set(terms)]
        if same:
            raise EstimationError(f"compare_models: '{model}' and '{same[0]}' have the same factors. Remove one.")
        named[model] = list(dict.fromkeys(terms))
    if len(named) < 2:
        raise EstimationError("compare_models: one model; pass at least two, each with the list of its factors.")
    return named


def _complete(panel: Panel, factors: list[str]) -> tuple[CompleteReturns, list[str], list[str]]:
    """Returns of the assets and factors over common periods; assets without 90 % of them are left out."""
    excess, table = panel.excess, panel.factor_table.select(factors)
    is_excess([table], "compare_models")
    there = np.isfinite(table.block).all(axis=1)
    present = np.isfinite(excess.block[there])
    some = present.mean(axis=1) > 0.5  # not the periods before most assets begin
    kept = [n for n, share in zip(excess.names, present[some].mean(axis=0), strict=True) if share >= 0.9]
    needed = len(factors) + _SPARE
    if len(kept) < 2:
        raise EstimationError("compare_models: fewer than two assets have returns in 90 % of the periods.")
    data = CompleteReturns.of(excess.select(kept), table, "compare_models", needed)
    return data, kept, [n for n in excess.names if n not in kept]


# Estimates of one model and the influence of each observation on them


@dataclass(frozen=True)
class _Estimates:
    """Squared Sharpe ratio and R² of one model with the influence of each observation, (T,).

    Attributes
    ----------
    cross_sections : tuple of (float, ndarray)
        R² by OLS and by GLS with influences; missing where there are too few assets.
    """

    squared_sharpe: float
    adjusted: float
    influence: Floats
    cross_sections: tuple[tuple[float, Floats], ...]

    @classmethod
    def of(cls, f: Floats, returns: Floats) -> _Estimates:
        """From factors (T, K) and excess returns (T, N)."""
        rows, count = f.shape
        mean, off = f.mean(axis=0), f - f.mean(axis=0)
        u = off @ np.linalg.solve(off.T @ off / rows, mean)
        squared = float(mean @ np.linalg.solve(off.T @ off / rows, mean))
        adjusted = ((rows - count - 2) * squared - count) / rows
        sections: list[tuple[float, Floats]] = []
        for gls in (False, True):
            possible = returns.shape[1] > count + 1 and (not gls or rows > returns.shape[1] + count)
            missing = np.nan, np.full(rows, np.nan)
            sections.append(cross_sectional_fit(returns, f, gls) if possible else missing)
        return cls(squared, adjusted, 2.0 * u - u**2 + squared, tuple(sections))

    def squared_sharpe_ratio(self, scale: tuple[int, Ints]) -> tuple[float, float, float]:
        """Squared Sharpe ratio, adjusted for its bias, and its standard error."""
        return self.squared_sharpe, self.adjusted, _error_of_mean(self.influence, scale)


def _error_of_mean(influence: Floats, scale: tuple[int, Ints]) -> float:
    """Standard error of a mean of influences, with lags that count periods."""
    lags, positions = scale
    centred = (influence - influence.mean())[:, None]
    return float(np.sqrt(bartlett_sum(centred, lags, positions)[0, 0])) / len(influence)


def _best_p(
    name: str,
    named: Mapping[str, list[str]],
    estimates: Mapping[str, _Estimates],
    scale: tuple[int, Ints],
    seed: int,
) -> float:
    """Wolak (1989): no other model that is not nested has a larger squared Sharpe ratio.

    The statistic is the squared distance of the differences from the non-negative ones, in their covariance; its
    distribution where all differences are zero is a mixture of χ² distributions, which is simulated.
    """
    own = set(named[name])
    others = [m for m, terms in named.items() if m != name and not (set(terms) <= own or own <= set(terms))]
    if not others:
        return np.nan
    rows = len(estimates[name].influence)
    moves = np.column_stack([estimates[name].influence - estimates[m].influence for m in others])
    moves = moves - moves.mean(axis=0)
    spread = np.asarray(bartlett_sum(moves, *scale)) / rows**2
    sizes = np.sqrt(np.diag(spread))
    difference = np.array([estimates[name].squared_sharpe - estimates[m].squared_sharpe for m in others]) / sizes
    root = np.linalg.inv(np.linalg.cholesky(spread / np.outer(sizes, sizes) + 1e-9 * np.eye(len(others))))
    statistic = _distance_from_cone(root, difference)
    if len(others) == 1:
        return float(scipy.special.ndtr(difference[0]))
    draws = np.random.default_rng(seed).standard_normal((_WORLDS, len(others)))
    back = np.linalg.inv(root)
    drawn = np.array([_distance_from_cone(root, back @ draw) for draw in draws])
    return float((1 + np.sum(drawn >= statistic - 1e-12)) / (len(drawn) + 1))


def _distance_from_cone(root: Floats, difference: Floats) -> float:
    """Min over δ ≥ 0 of |root (d − δ)|²."""
    import scipy.optimize  # slow to import, and only this needs it

    return float(scipy.optimize.nnls(root, root @ difference)[1] ** 2)


# Pairs of models


def _compare(
    a: str,
    b: str,
    named: Mapping[str, list[str]],
    estimates: Mapping[str, _Estimates],
    factors: SeriesTable,
    returns: Floats,
    scale: tuple[int, Ints],
    level: float,
    options: tuple[Literal["exact", "robust"], int, int],
) -> dict[tuple[str, str, str], list[object]]:
    """The rows of one pair of models, by criterion."""
    first, second = estimates[a], estimates[b]
    common = [n for n in named[a] if n in named[b]]
    extra = [n for n in [*named[a], *named[b]] if n not in common]
    nested = len(common) in (len(named[a]), len(named[b]))
    how, draws, seed = options
    spanned = 0.0
    if common:
        test = spanning_test(factors.select(extra), factors.select(common), how=how, draws=draws, seed=seed)
        spanned = test.p_value
    difference = first.squared_sharpe - second.squared_sharpe
    error = _error_of_mean(first.influence - second.influence, scale)
    row = _row(nested, difference, error, spanned, level, (a, b), "alphas zero")
    rows = {(a, b, "squared Sharpe ratio"): row}
    blocks = np.column_stack([factors.block[:, factors.names.index(n)] for n in [*common, *extra]])
    for place, criterion in enumerate(_CRITERIA[1:]):
        (one, moves), (other, others) = first.cross_sections[place], second.cross_sections[place]
        equal, error = np.nan, _error_of_mean(moves - others, scale)
        if np.isfinite(one - other):
            equal = _extra_prices_p(returns, blocks, len(common), place == 1, scale)
        rows[a, b, criterion] = _row(nested, one - other, error, equal, level, (a, b), "prices zero")
    return rows


def _row(
    nested: bool, difference: float, error: float, equal_p: float, level: float, pair: tuple[str, str], null: str
) -> list[object]:
    """The test that applies to a pair, and which model it prefers.

    Nested models differ if their further factors count. Others differ if, first, some of their further factors
    count, and then the difference is not zero by the normal distribution.
    """
    normal = float(2.0 * scipy.special.ndtr(-abs(difference) / error)) if error > 0 else np.nan
    if np.isnan(difference):
        test, p = "too few assets or periods", np.nan
    elif nested:
        test, p = null, equal_p
    elif equal_p > level:
        test, p = f"{null} (not distinct)", equal_p
    else:
        test, p = "normal", normal
    better = pair[0] if difference > 0 else pair[1]
    relation = "nested" if nested else "not nested"
    return [relation, difference, error, test, p, better if p <= level else ""]


def _extra_prices_p(returns: Floats, f: Floats, common: int, gls: bool, scale: tuple[int, Ints]) -> float:
    """P value that the further factors have zero prices of covariance risk, where both models' factors are used.

    Wald test with misspecification-robust covariance (Kan, Robotti and Shanken 2013, for prices of covariance).
    """
    if returns.shape[1] <= f.shape[1] + 1:
        return np.nan
    prices, influence = covariance_prices(returns, f, gls)
    lags, positions = scale
    spread = bartlett_sum(influence - influence.mean(axis=0), lags, positions) / len(f) ** 2
    keep = slice(1 + common, None)
    statistic = float(prices[keep] @ np.linalg.solve(spread[keep, keep], prices[keep]))
    return float(scipy.special.chdtrc(f.shape[1] - common, statistic))


def covariance_prices(returns: Floats, f: Floats, gls: bool) -> tuple[Floats, Floats]:
    """Constant and prices of covariance risk (1 + K,) of mean returns on covariances, with influences (T, 1 + K).

    Parameters
    ----------
    returns, f : ndarray, shape (T, N) and (T, K)
        Excess returns and factors.
    gls : bool
        Whether to weight by the inverse covariance of returns.
    """
    rows = len(returns)
    mean, off, g = returns.mean(axis=0), returns - returns.mean(axis=0), f - f.mean(axis=0)
    design = np.column_stack([np.ones(returns.shape[1]), off.T @ g / rows])
    weight = np.linalg.inv(off.T @ off / rows) if gls else np.eye(returns.shape[1])
    inverse = np.linalg.inv(design.T @ weight @ design)
    mapping = inverse @ design.T @ weight
    prices = mapping @ mean
    error = mean - design @ prices
    w, u = g @ prices[1:], off @ weight @ error
    moves = off @ mapping.T
    influence = moves * (1.0 - w)[:, None] + np.column_stack([np.zeros(rows), g * u[:, None]]) @ inverse
    return prices, influence - moves * u[:, None] if gls else influence
