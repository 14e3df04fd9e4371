"""Ordinary and weighted least squares of labelled data: `regress`."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Final, Literal, cast, overload

import numpy as np
import numpy.typing as npt
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.panel.aligned_panel import counts_by_cause
from ultrum.core.regression import inputs
from ultrum.core.regression.beta_table import BetaTable, ColumnEstimates
from ultrum.core.regression.engine.covariance_and_bootstrap import (
    COSINE,
    HAC,
    check_errors,
    cluster_covariance,
    covariance,
    jackknife_covariance,
    prewhitening_kind,
    smallest_count,
)
from ultrum.core.regression.engine.least_squares import Solution, least_squares
from ultrum.core.regression.engine.newey_west_and_fixed_b import (
    AUTOMATIC,
    check_depth,
    lag_rule,
    lag_rules,
    lags_of,
    score_autocorrelation,
)
from ultrum.core.regression.engine.rolling_windows import (
    DEPENDENT,
    TOO_FEW,
    Estimates,
    Recipe,
    Rows,
    estimate,
    r_squared,
)
from ultrum.core.regression.fit import NO_RESPONSE, Fit
from ultrum.core.regression.inputs import CONSTANT, Observations, spread_rows
from ultrum.core.regression.unit_roots_and_design_warnings import (
    warn_of_copies,
    warn_of_exact_fits,
    warn_of_few_clusters,
    warn_of_few_treatments,
    warn_of_persistent_scores,
    warn_of_trends,
)
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.index_frequency_and_gaps import has_order, time_positions
from ultrum.errors import EstimationError

Vector = pd.Series | TimeSeries | list[float]
NO_FACTOR, TOO_SHORT = "no factors", "too few observations"
_GROUPS: Final = 24  # with more sets of rows than these, kernels take over from one QR for each
_BLOCK: Final = 512  # dependent variables at a time in the kernels


@overload
def regress(
    Y: Vector,
    X: object,
    *,
    errors: str = ...,
    lags: int | str | None = ...,
    clusters: object = ...,
    weights: object = ...,
    constant: bool = ...,
    prewhiten: bool = ...,
) -> Fit: ...
@overload
def regress(
    Y: pd.DataFrame | SeriesTable,
    X: object,
    *,
    errors: str = ...,
    lags: int | str | None = ...,
    clusters: object = ...,
    weights: object = ...,
    constant: bool = ...,
    prewhiten: bool = ...,
) -> BetaTable: ...
@overload
def regress(
    Y: npt.NDArray[Any],
    X: object,
    *,
    errors: str = ...,
    lags: int | str | None = ...,
    clusters: object = ...,
    weights: object = ...,
    constant: bool = ...,
    prewhiten: bool = ...,
) -> Any: ...
@validate_arguments
def regress(
    Y: object,
    X: object,
    *,
    errors: str = "hac",
    lags: int | str | None = None,
    clusters: object = None,
    weights: object = None,
    constant: bool = True,
    prewhiten: bool = False,
) -> Fit | BetaTable:
    """Ordinary or weighted least squares (OLS, WLS) of one or many dependent variables, each on its own sample.

    Parameters
    ----------
    Y : TimeSeries, SeriesTable, pandas or array; shape (T,) or (T, N)
        Dependent variable. A missing value drops the observation for that column only.
    X : TimeSeries, SeriesTable, pandas or array; shape (T,) or (T, K)
        Factors, without the constant. Labelled data are matched by label and sorted by time.
    errors : {"hac", "hac-fixed-b", "ewc", "ewc-prewhitened", "classical", "hc0", "hc1", "hc2", "hc3", "cr3"}
        Kind of standard errors, case-insensitive. ``hac`` is Newey and West (1987), ``hac-fixed-b`` the same with
        the critical values of Kiefer and Vogelsang (2005). ``ewc`` averages cosine transforms, with Student's t
        (Lazarus, Lewis, Stock and Watson 2018); ``ewc-prewhitened`` does so after an autoregression of each
        score. ``cr3`` is the jackknife over clusters.
    lags : int or "automatic", optional
        Lags of ``hac``; by default floor(4(T/100)^(2/9)); automatic is the plug-in of Newey and West (1994).
    clusters : Series, array or DataFrame; shape (T,) or (T, 2), optional
        Cluster labels, one- or two-way (Cameron, Gelbach and Miller 2011); Student's t has the smallest number of
        clusters less one degrees of freedom. ``errors`` is then ignored, unless it is ``cr3``.
    weights : Series or array, shape (T,), optional
        Positive weights of the observations, for weighted least squares (WLS).
    constant : bool
        Whether to add a constant as the first column.
    prewhiten : bool
        With ``errors="ewc"``, the same as ``errors="ewc-prewhitened"``.

    Returns
    -------
    Fit
        For one dependent variable.
    BetaTable
        For many. With too few observations of its own, a column has missing estimates, and all its observations
        are dropped.

    Raises
    ------
    EstimationError
        If observations are too few or columns are collinear; the columns are named. UnitError If an excess return
        is combined with a return that is not in excess.

    Warns
    -----
    DataWarning
        If a factor is near-collinear with others, trending levels are regressed on trending levels, or the score
        of a slope has a first autocorrelation above 0.3, where t statistics reject too often.

    Notes
    -----
    Solved by Householder QR on columns of unit length, with one step of refinement. Many dependent variables with
    different samples are solved together by Cholesky factors of centred moments; ill-conditioned ones are solved
    by QR. Formulas of the standard errors are in :mod:`ultrum.core.regression.engine.covariance_and_bootstrap`.

    Examples
    --------
    >>> import numpy as np
    >>> x = np.array([60.0, 61, 62, 63, 64])
    >>> fit = regress(pd.Series(2 * x + [0.1, -0.1, 0, 0.1, -0.1]), x, errors="classical")
    >>> fit.coefficients.round(3).to_dict()
    {'constant': 1.24, 'x1': 1.98}
    """
    inputs.check_excess(Y, X)
    left, single = inputs.observations_of(Y, "y")
    right, _ = inputs.observations_of(X, "x")
    kind = prewhitening_kind(errors) if prewhiten else errors
    rule = rule_of(kind, lags, clusters, weights, left.index)
    whole = left
    left, right, _ = inputs.match_rows(left, right)
    design = inputs.with_constant(right) if constant else right
    rule = rule.on(whole.index, left.index)
    if rule.clusters is not None and rule.clusters.shape[1] == 1:
        warn_of_few_treatments(design.frame, rule.clusters)
    table = estimate_columns(left, design, rule)
    table = replace(table, losses=_losses(table, whole, Y), kinds=inputs.kinds_of(Y, X))
    warn_of_copies(design)
    warn_of_exact_fits(table)
    warn_of_persistent_scores(table)
    warn_of_trends(Y, X, left, right)
    return table.fit(left.names[0]) if single else table


def estimate_table(
    Y: pd.DataFrame, X: pd.DataFrame, *, errors: str = "hac", lags: int | Literal["automatic"] | None = None
) -> BetaTable:
    """The regressions of :func:`regress` without its warnings, for many samples one after another.

    Parameters
    ----------
    Y, X : DataFrame, shape (T, N) and (T, K)
        Dependent variables and factors; a constant is added.
    errors : str
    lags : int or {"automatic"}, optional

    Examples
    --------
    >>> y, x = pd.DataFrame({"y": [1.0, 2.1, 2.9, 4.0]}), pd.DataFrame({"x": [1.0, 2, 3, 4]})
    >>> round(float(estimate_table(y, x, errors="classical").coefficients.loc["y", "x"]), 2)
    0.98
    """
    left, right, _ = inputs.match_rows(inputs.observations_of(Y, "y")[0], inputs.observations_of(X, "x")[0])
    return estimate_columns(left, inputs.with_constant(right), rule_of(errors, lags, None, None, left.index))


def _losses(table: BetaTable, whole: Observations, y: object) -> dict[str, Ints]:
    """Observations dropped by cause: also rows without factors, and those that the panel of y dropped."""
    counted = dict(table.losses)
    if len(whole.index) > len(table.observed.index):
        present = np.isfinite(whole.check_finite("y"))
        counted[NO_RESPONSE] = _holes(present[whole.index.argsort()])
        counted[NO_FACTOR] = present[~whole.index.isin(table.observed.index)].sum(axis=0)
    before = y.dropped if isinstance(y, SeriesTable) else {}
    for cause in dict.fromkeys(cause for causes_before in before.values() for cause in causes_before):
        counts = np.array([before.get(str(name), {}).get(cause, 0) for name in table.names])
        counted[cause] = counted[cause] + counts if cause in table.losses else counts
    return counted


def _holes(present: Bools) -> Ints:
    """Missing values of each column between its first and last observation."""
    if present.all():
        return np.zeros(present.shape[1], dtype=np.int64)
    some = present.any(axis=0)
    first, last = present.argmax(axis=0), len(present) - present[::-1].argmax(axis=0)
    return np.asarray(np.where(some, last - first - present.sum(axis=0), 0), dtype=np.int64)


@dataclass(frozen=True)
class Rule:
    """Options of the estimation: kind of standard errors, weights and clusters."""

    errors: str
    lags: int | str | None
    clusters: pd.DataFrame | None
    weights: Floats | None

    def on(self, index: pd.Index, rows: pd.Index) -> Rule:
        """The same options, given for all rows of an index, for those that remain after matching."""
        if self.clusters is None and self.weights is None:
            return self
        where = index.get_indexer(rows)
        clusters = None if self.clusters is None else self.clusters.iloc[where]
        weights = None if self.weights is None else self.weights[where]
        return Rule(self.errors, self.lags, clusters, weights)

    @property
    def is_plain(self) -> bool:
        """Whether the kernels apply: no weights, no clusters, no automatic lags per variable."""
        given = self.clusters is not None or self.weights is not None
        return not given and self.lags != AUTOMATIC and self.errors not in COSINE

    def codes(self) -> Ints | None:
        """Cluster labels as integers, shape (T, ways)."""
        if self.clusters is None:
            return None
        return np.column_stack([pd.factorize(self.clusters[c])[0] for c in self.clusters]).astype(np.int64)


def rule_of(errors: str, lags: int | str | None, clusters: object, weights: object, index: pd.Index) -> Rule:
    """The requested lag rule, checked against the number of observations."""
    kind = check_errors(errors, lags, clustered=clusters is not None)
    check_depth(lags, len(index))
    groups = None if clusters is None else inputs.labels_of(clusters, index)
    heavy = None if weights is None else inputs.weights_of(weights, index)
    if kind == "cr3" and (heavy is not None or (groups is not None and groups.shape[1] > 1)):
        raise EstimationError(
            "errors='cr3' needs one-way clusters and no weights. Use one column of clusters and remove weights."
        )
    if groups is not None and kind != "cr3":
        warn_of_few_clusters(int(groups.nunique().min()))
    return Rule(kind if kind == "cr3" or clusters is None else "clustered", lags, groups, heavy)


def estimate_columns(left: Observations, design: Observations, rule: Rule, *, part: bool = False) -> BetaTable:
    """Estimate all columns, grouped by sample; combine the pieces in one table.

    A single dependent variable must have enough observations, unless it is ``part`` of more.
    """
    Y, X = left.check_finite("y"), design.check_finite("X")
    results = ColumnEstimates.blank(Y.shape[1], X.shape[1])
    whole: Bools = np.asarray(np.isfinite(X).all(axis=1))
    present = np.isfinite(Y)
    used = present & whole[:, None]
    if rule.is_plain and _many_samples(used):
        _by_kernel(results, Y, X, design, rule)
    else:
        _by_groups(results, left, design, used, rule, part or Y.shape[1] > 1)
    results.close()
    losses = {NO_RESPONSE: _holes(present)}
    if not whole.all():
        factors = [str(c) for c in design.names]
        losses |= counts_by_cause(~np.isfinite(X[~whole]), factors, present[~whole])
    if results.short.any():
        losses[TOO_SHORT] = results.short
    return BetaTable(results, left.names, design.names, left, design, losses, rule.errors, rule.weights)


def _by_groups(
    results: ColumnEstimates, left: Observations, design: Observations, used: Bools, rule: Rule, many: bool
) -> None:
    """One QR for each distinct sample."""
    places, codes, weights = time_positions(left.index), rule.codes(), rule.weights
    Y, X, constant, ordered = left.values, design.values, CONSTANT in design.names, has_order(left.index)
    for columns in inputs.same_rows(used):
        own: Bools = used[:, columns[0]]
        count = int(np.count_nonzero(own))
        if many and count <= X.shape[1]:
            results.short[columns] = count  # its own estimate is missing, the others go on
            results.persistence[columns] = np.nan
            continue
        mask = slice(None) if count == len(used) else own
        group_weights = None if weights is None else weights[mask] / weights[mask].mean()
        response, at = Y[mask][:, columns], places[mask]
        solution = _solve(X[mask], response, design, left.names[columns[0]], constant, group_weights)
        _put(results, columns, solution, response, group_weights, constant)
        persistence = score_autocorrelation(solution.influence, solution.residuals, at).T if ordered else np.nan
        results.persistence[columns] = persistence
        if codes is not None:
            results.covariance[columns] = (
                jackknife_covariance(X[mask], solution.influence, solution.residuals, codes[mask])
                if rule.errors == "cr3"
                else cluster_covariance(solution.influence, solution.residuals, codes[mask])
            )
            results.clusters[columns] = smallest_count(codes[mask])
            continue
        for lags, which in _depths(rule, solution, X[mask], at, constant):
            chosen = columns[which]
            results.covariance[chosen] = covariance(
                rule.errors, solution.influence, solution.residuals[:, which], solution.leverage, at, lags
            )
            results.lags[chosen] = np.nan if lags is None else lags


def _put(
    results: ColumnEstimates,
    columns: Ints,
    solution: Solution,
    response: Floats,
    weights: Floats | None,
    constant: bool,
) -> None:
    rss = np.einsum("tn,tn->n", solution.residuals, solution.residuals)
    results.coefficients[columns] = solution.coefficients.T
    results.nobs[columns] = count = len(response)
    results.sigma[columns] = np.sqrt(rss / (count - len(solution.coefficients)))
    results.r2[columns] = r_squared(response, rss, constant, weights)


def _depths(
    rule: Rule, solution: Solution, X: Floats, places: Ints, constant: bool
) -> list[tuple[int | None, Ints]]:
    """Lags, and the columns of the group that use them."""
    everyone = np.arange(solution.residuals.shape[1])
    if rule.errors not in HAC:
        return [(None, everyone)]
    if rule.lags != AUTOMATIC:
        return [(lag_rule(len(X)) if rule.lags is None else int(rule.lags), everyone)]
    depths = lags_of(rule.lags, X, solution.residuals, places, constant)
    return [(int(depth), np.flatnonzero(depths == depth)) for depth in np.unique(depths)]


def _by_kernel(columns: ColumnEstimates, Y: Floats, X: Floats, design: Observations, rule: Rule) -> None:
    """All dependent variables with different samples at once, in blocks."""
    places = time_positions(design.index)
    places = places - places[0]
    rows, terms = int(places[-1]) + 1, X.shape[1]
    recipe = Recipe(rule.errors, cast(int | None, rule.lags), terms + 1, whole_covariance=True)
    whole = rows == len(X)  # else those not in the calendar are put in as missing, for the lags
    regressors = X if whole else spread_rows(X, places, rows)
    for low in range(0, Y.shape[1], _BLOCK):
        block = slice(low, low + _BLOCK)
        response = Y[:, block] if whole else spread_rows(Y[:, block], places, rows)
        estimates = estimate(
            Rows(response, regressors, CONSTANT in design.names), np.array([0]), np.array([rows]), recipe
        )
        _take(columns, block, estimates, Y[:, block], X, design, rule)


def _take(
    columns: ColumnEstimates,
    block: slice,
    estimates: Estimates,
    Y: Floats,
    X: Floats,
    design: Observations,
    rule: Rule,
) -> None:
    """Store the estimates of some dependent variables."""
    status = estimates.status[0]
    if (status == DEPENDENT).any():
        first = int(np.argmax(status == DEPENDENT))
        used = np.isfinite(Y[:, first]) & np.isfinite(X).all(axis=1)
        name = f"dependent variable {block.start + first + 1}"
        _solve(X[used], Y[used, first : first + 1], design, name, CONSTANT in design.names, None)
    short = status == TOO_FEW
    columns.coefficients[block] = estimates.coefficients[0].T
    columns.covariance[block] = cast(Floats, estimates.covariance)[0]
    columns.nobs[block] = np.where(short, 0, estimates.nobs[0])
    columns.short[block] = np.where(short, estimates.nobs[0], 0)
    columns.sigma[block], columns.r2[block] = estimates.sigma[0], estimates.r2[0]
    if rule.errors in HAC:
        lags_used = lag_rules(estimates.nobs[0]) if rule.lags is None else int(cast(int, rule.lags))
        columns.lags[block] = np.where(short, np.nan, lags_used)


def _solve(
    X: Floats, Y: Floats, design: Observations, name: str, constant: bool, weights: Floats | None
) -> Solution:
    try:
        return least_squares(X, Y, [str(c) for c in design.names], constant, weights)
    except EstimationError as error:
        raise EstimationError(f"{name}: {error}") from error


def _many_samples(used: Bools) -> bool:
    """Whether there are so many distinct samples that one QR for each would be slow."""
    few = used[:, : 4 * _GROUPS]
    return len({key.tobytes() for key in np.packbits(few, axis=0).T}) > _GROUPS
