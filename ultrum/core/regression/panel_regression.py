"""Panel regressions of all assets and periods together, and the wild cluster bootstrap for few clusters."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats, Ints
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import ToLatex, quantity
from ultrum.core.pricing.factor_betas_and_shrinkage import chosen_factors
from ultrum.core.pricing.two_pass import refuse_other
from ultrum.core.regression import inputs
from ultrum.core.regression.engine.covariance_and_bootstrap import (
    cluster_covariance,
    leave_one_out,
    smallest_count,
)
from ultrum.core.regression.engine.least_squares import least_squares
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.inference import CoefficientInference, TestResult
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.regression.unit_roots_and_design_warnings import warn_of_few_clusters, warn_of_few_treatments
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import EstimationError, choices, name_list, one_of, warn_user

WAYS: Final = ("asset", "period")
_ROUNDS, _SETTLED = 2000, 1e-13
_FEW: Final = "Read p values near 5 % with care, or cluster by the other dimension."


@dataclass(frozen=True, eq=False, repr=False)
class PooledFit(CoefficientInference, ToLatex):
    """A pooled regression.

    Attributes
    ----------
    coefficients : Series, shape (p,)
    covariance : DataFrame, shape (p, p)
    nobs, free : int
        Asset-periods used; the smallest number of clusters less one, which is ``df``.
    sigma, r2 : float
        Within R² where effects are removed.
    effects, clusters : tuple of str
    dropped : mapping of str to int
    basis : str
    """

    coefficients: pd.Series
    covariance: pd.DataFrame
    nobs: int
    free: int
    sigma: float
    r2: float
    effects: tuple[str, ...]
    clusters: tuple[str, ...]
    basis: str
    dropped: Mapping[str, int] = field(default_factory=dict)

    @property
    def df(self) -> int:
        """Degrees of freedom of t: the smallest number of clusters less one."""
        return self.free

    def test(self, names: str | Sequence[str]) -> TestResult:
        """Joint test that the named coefficients are zero, F with (q, df) degrees.

        Parameters
        ----------
        names : str or sequence of str
            Coefficients.

        Returns
        -------
        TestResult
            F and its p value.

        Raises
        ------
        EstimationError
            If there is no such coefficient.

        Examples
        --------
        >>> import ultrum as ul
        >>> fit = ul.panel_regress(ul.practice.panel(), ["market", "size"])
        >>> round(fit.test("size").p_value, 3)
        0.109
        """
        names = [names] if isinstance(names, str) else list(names)
        absent = [n for n in names if n not in self.coefficients.index]
        if absent or not names:
            wanted = absent[0] if absent else ""
            raise EstimationError(f"No coefficient '{wanted}'; {one_of(wanted, self.coefficients.index)}")
        values, V = self.coefficients[list(names)], self.covariance.loc[list(names), list(names)]
        statistic = float(values.to_numpy() @ np.linalg.solve(V.to_numpy(), values.to_numpy())) / len(values)
        return TestResult.of_f(statistic, len(values), self.df)


@validate_arguments
def panel_regress(
    panel: Panel,
    factors: Sequence[str] | None = None,
    *,
    conditions: Sequence[str] = (),
    characteristics: Mapping[str, pd.DataFrame] | None = None,
    effects: str | Sequence[str] = "asset",
    clusters: str | Sequence[str] = WAYS,
) -> PooledFit:
    """Panel-data (pooled or fixed-effects) regression on factors, conditions and characteristics.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factors, conditions : sequence of str, optional
        All factors and no conditioning variable by default. They are collinear with period effects, since they
        are the same for all assets.
    characteristics : mapping of str to DataFrame, optional
        Value of each asset, in the row whose return it explains.
    effects : {"asset", "period"}, both, or none
        Asset or period fixed effects, removed before the regression.
    clusters : {"asset", "period"} or both
        Groups within which errors may be correlated (Cameron, Gelbach and Miller 2011).

    Returns
    -------
    PooledFit
        Estimates with clustered errors.

    Raises
    ------
    EstimationError
        If a regressor is absorbed by the effects.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel_regress(ul.practice.panel(), ["market"]).df
    22
    """
    effects, clusters = _ways(effects, "effects"), _ways(clusters, "clusters")
    if not clusters:
        raise EstimationError("panel_regress: clusters= must name asset, period or both.")
    common = [*(chosen_factors(panel, factors, empty=True) if "period" not in effects or factors else [])]
    absent = [c for c in conditions if c not in panel.conditions]
    if absent:
        raise EstimationError(f"No condition {name_list(absent)}; the panel has: {choices(panel.conditions)}.")
    if "period" in effects and (common or conditions):
        raise EstimationError(
            f"panel_regress: {', '.join([*common, *conditions])} is identical across assets in each period and "
            "is collinear with the period fixed effects. Use effects='asset', or pass characteristics=."
        )
    names, y, X, codes, missing = _stack_panel(panel, common, list(conditions), dict(characteristics or {}))
    groups = [codes[:, WAYS.index(way)] for way in effects]
    y, X = _within(y, groups), _within(X, groups)
    if not effects:
        names, X = [CONSTANT, *names], np.column_stack([np.ones(len(y)), X])
    _refuse_collinear(X, names, effects)
    solution = least_squares(X, y, names)
    free = len(y) - X.shape[1] - sum(len(np.unique(g)) for g in groups) + max(len(groups) - 1, 0)
    ways = np.column_stack([codes[:, WAYS.index(way)] for way in clusters])
    fewest = smallest_count(ways)
    if fewest < 2:
        raise EstimationError("Clustered standard errors need at least 2 clusters; all observations are in one.")
    warn_of_few_clusters(fewest, _FEW)
    index = pd.Index(names)
    rss = float(np.sum(solution.residuals**2))
    covariance = cluster_covariance(solution.influence, solution.residuals, ways)[0]
    deviations = y - y.mean()
    return PooledFit(
        coefficients=pd.Series(solution.coefficients[:, 0], index),
        covariance=pd.DataFrame(covariance, index, index),
        nobs=len(y),
        free=fewest - 1,
        sigma=float(np.sqrt(rss / free)),
        r2=1.0 - rss / float(np.sum(deviations**2)),
        effects=effects,
        clusters=clusters,
        basis=_basis(panel, len(y), effects, clusters, missing),
        dropped={"missing return or regressor": missing},
    )


def _ways(given: str | Sequence[str], what: str) -> tuple[str, ...]:
    ways = (given,) if isinstance(given, str) else tuple(given)
    unknown = [w for w in ways if w not in WAYS]
    if unknown:
        raise EstimationError(
            f"panel_regress: {what} of '{unknown[0]}' are unavailable; use {' or '.join(WAYS)}."
        )
    return ways


def _stack_panel(
    panel: Panel, common: list[str], conditions: list[str], interactions: dict[str, pd.DataFrame]
) -> tuple[list[str], Floats, Floats, Ints, int]:
    """Stacked asset-periods: names, returns, regressors, (asset, period) codes, rows dropped."""
    returns = panel.excess.block
    periods, assets = returns.shape
    columns = [np.repeat(panel.factors[n].to_numpy(dtype=np.float64), assets) for n in common]
    columns += [np.repeat(panel.conditions[n].to_numpy(dtype=np.float64), assets) for n in conditions]
    for name, frame in interactions.items():
        refuse_other(name, frame)
        fitted = frame.reindex(index=panel.assets.index, columns=panel.assets.columns)
        if not fitted.notna().to_numpy().any():
            raise EstimationError(f"The characteristic {name} has no asset and period in common with the panel.")
        columns.append(fitted.to_numpy(dtype=np.float64).ravel())
    if not columns:
        raise EstimationError("panel_regress: no regressors. Pass factors=, conditions= or characteristics=.")
    codes = np.column_stack([np.tile(np.arange(assets), periods), np.repeat(np.arange(periods), assets)])
    X, y = np.column_stack(columns), returns.ravel()
    used = np.isfinite(y) & np.isfinite(X).all(axis=1)
    names = [*common, *conditions, *interactions]
    return names, y[used][:, None], X[used], codes[used], int((~used).sum())


def _within(block: Floats, groups: list[Ints]) -> Floats:
    """Values less group means, alternating until both are zero (needed for unbalanced panels)."""
    demeaned = block.copy()
    scale = np.maximum(np.abs(block).max(axis=0), np.finfo(float).tiny)
    for _ in range(_ROUNDS if len(groups) > 1 else len(groups)):
        moved = 0.0
        for codes in groups:
            counts = np.bincount(codes)
            for k in range(demeaned.shape[1]):
                means = np.bincount(codes, demeaned[:, k]) / np.maximum(counts, 1)
                demeaned[:, k] -= means[codes]
                moved = max(moved, float(np.abs(means).max() / scale[k]))
        if moved < _SETTLED:
            break
    else:
        if len(groups) > 1:
            warn_user(
                f"panel_regress: after {_ROUNDS} iterations the asset and period effects still change by "
                f"{moved:.1g} of the largest value, "
                "because assets and periods hardly overlap. Use one kind of effects."
            )
    return demeaned


def _refuse_collinear(X: Floats, names: list[str], effects: tuple[str, ...]) -> None:
    size = np.abs(X).max(axis=0)
    gone = [n for n, s in zip(names, size, strict=True) if not s > 1e-12]
    if gone:
        raise EstimationError(
            f"panel_regress: {name_list(gone)} is collinear with the {' and '.join(effects)} fixed effects. Drop "
            "it, or use one kind of effects."
        )


def _basis(panel: Panel, rows: int, effects: tuple[str, ...], clusters: tuple[str, ...], missing: int) -> str:
    kind = f"{' and '.join(effects)} fixed effects" if effects else "pooled OLS"
    return (
        f"{rows} asset-periods of {panel.assets.shape[1]} assets, {span_of(panel.assets.index)}; {kind}; "
        f"standard errors clustered by {' and '.join(clusters)}; {quantity(missing, 'observation')} dropped "
        "(missing)"
    )


# Wild cluster bootstrap test of a coefficient, for few clusters

_FEWEST: Final = 5  # clusters
_ROUNDING: Final = 1e-10  # of the size of the dependent variable
_WEBB: Final = np.array([-1.5, -1.0, -0.5, 0.5, 1.0, 1.5])  # squares of the weights, with their signs


@validate_arguments
def wild_cluster_test(
    fit: Fit, clusters: object, term: str, value: float = 0.0, *, draws: int = 999, seed: int = 0
) -> TestResult:
    """Wild cluster bootstrap-t test (restricted, WCR) of one coefficient.

    Parameters
    ----------
    fit : Fit
        Regression on the full sample; its own standard errors are not used.
    clusters : Series or array, shape (T,)
        Cluster label of each observation; a Series is matched by its labels.
    term : str
        Name of the coefficient.
    value : float
        Value of the coefficient under the null hypothesis.
    draws, seed : int
        Of the bootstrap.

    Returns
    -------
    TestResult
        Student's t with jackknife (CR3) standard errors, and the share of draws with a t at least as large; both
        missing for a dependent variable that is zero or fitted exactly.

    Raises
    ------
    EstimationError
        If the term is unknown, the clusters are two-way or fewer than five, or a coefficient is not identified
        when a cluster is deleted.

    Warns
    -----
    DataWarning
        If a factor differs in only one or two clusters, where no method is reliable.

    Notes
    -----
    Residuals under the null change sign and size together within a cluster, with the six-point weights of Webb
    (2023); the statistic is studentised again in each draw (Cameron, Gelbach and Miller 2008). See
    docs/formulas.md.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> fit = ul.factor_betas(panel, ["market"]).fit("BRTW")
    >>> thirds = pd.Series(fit.response.index.year // 3, fit.response.index)
    >>> result = wild_cluster_test(fit, thirds, "market", 1.0, draws=999)
    >>> result.note, bool(result.p_value < 0.05)
    ('7 clusters, 999 draws', True)
    """
    names = list(map(str, fit.coefficients.index))
    if term not in names:
        raise EstimationError(f"No coefficient '{term}'; {one_of(term, names)}")
    labels = inputs.labels_of(clusters, fit.response.index)
    if labels.shape[1] > 1:
        raise EstimationError("wild_cluster_test: clusters are one-way. Pass one column.")
    codes = pd.factorize(labels.iloc[:, 0])[0].astype(np.int64)
    groups = int(codes.max()) + 1
    if groups < _FEWEST:
        raise EstimationError(f"wild_cluster_test: {quantity(groups, 'cluster')}; at least {_FEWEST} are needed.")
    warn_of_few_treatments(fit.design, labels)
    X, y = fit.rows_by_weight()
    t, drawn = _bootstrap_t(X, y, codes, names.index(term), value, draws, seed)
    p_value = float((1 + np.sum(np.abs(drawn) >= abs(t))) / (draws + 1))
    return TestResult(
        t, "t", (groups - 1,), p_value, f"{quantity(groups, 'cluster')}, {draws} draws", f"{term} = {value:g}"
    )


def _bootstrap_t(
    X: Floats, y: Floats, codes: Ints, which: int, value: float, draws: int, seed: int
) -> tuple[float, Floats]:
    """T of one coefficient in the data, and in samples drawn under the null."""
    influence: Floats = np.asarray(np.linalg.pinv(X), dtype=np.float64)
    row, groups = influence[which], int(codes.max()) + 1
    others = np.delete(X, which, axis=1)
    shifted = y - value * X[:, which]
    restricted = shifted - others @ np.linalg.lstsq(others, shifted, rcond=None)[0]
    members = np.zeros((groups, len(y)))
    members[codes, np.arange(len(y))] = 1.0
    cluster_parts = members @ (row * restricted)  # part of each cluster in the coefficient
    leave = members * leave_one_out(X, influence, codes, which)  # (G, T): how each cluster moves it
    reach = leave @ X  # (G, p)
    pulls = (influence * restricted) @ members.T  # (p, G)
    moves = np.diag(leave @ restricted) - reach @ pulls  # of a draw: moves @ weights
    generator = np.random.default_rng(seed)
    signs = _WEBB[generator.integers(0, 6, size=(draws, groups))]
    weights = np.sign(signs) * np.sqrt(np.abs(signs))
    weights = np.vstack([np.ones(groups), weights])  # the first are the data themselves
    if np.linalg.norm(shifted - X @ (influence @ shifted)) <= _ROUNDING * np.linalg.norm(y):
        return float("nan"), np.full(draws, np.nan)  # an exact fit has residuals of rounding
    with np.errstate(divide="ignore", invalid="ignore"):
        t = weights @ cluster_parts / np.sqrt(np.sum((weights @ moves.T) ** 2, axis=1))
    scale = np.sqrt(groups / (groups - 1))
    return float(t[0] * scale), np.nan_to_num(t[1:] * scale, nan=np.inf)
