"""Structural breaks: Chow, sup-F (Quandt–Andrews) and CUSUM tests, with robust Wald forms.

The covariance of the scores uses the residuals of the restricted regression. With unrestricted residuals such
tests over-reject in samples of monthly data (Davidson and MacKinnon 1985); docs/simulations.md has the sizes.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any, Final, Literal

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import refuse_idle_options, validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.least_squares import (
    least_squares,
    orthonormal,
    projection_residuals,
    unit_columns,
)
from ultrum.core.regression.engine.newey_west_and_fixed_b import bartlett_sum, bartlett_weight, on_calendar
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.inference import TestResult
from ultrum.core.regression.inputs import same_rows
from ultrum.core.regression.unit_roots_and_design_warnings import exact_fits, refuse_exact_fit
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import EstimationError

_NO_VARIANCE: Final = 1e-20  # of the sum of variances, as residuals of 1e-10 of the others make it
_NO_DIGITS: Final = 1e-12  # what is left of a variance when the other coefficients explain it
_DEPENDENT: Final = 1e-10  # share of a combination of columns that a part of the rows holds
_AT_ONCE: Final = 1 << 22  # numbers of score products held at a time


def robust_f_of_terms(X: Floats, added: Floats, residuals: Floats, positions: Ints, lags: int | None) -> float:
    """Robust F of terms added to a regression, with the null imposed.

    Parameters
    ----------
    X, added : ndarray, shape (T, p) and (T, q)
    residuals : ndarray, shape (T,)
        Residuals of the regression on X alone.
    positions : ndarray of int, shape (T,)
        Periods of the observations, so that lags count periods.
    lags : int, optional
        Lags of Newey–West covariances; None for White's.

    Returns
    -------
    float
        W/q·(T − p − q)/T, against F(q, T − p − q).

    Raises
    ------
    EstimationError
        If the added terms are collinear with X or each other.
    """
    apart = projection_residuals(X, added)
    lost = np.linalg.norm(apart, axis=0) < 1e-9 * np.linalg.norm(added, axis=0)
    if lost.any():
        raise EstimationError("The added terms are collinear with the regressors.")
    scores = unit_columns(apart) * residuals[:, None]
    total = scores.sum(axis=0)
    middle = bartlett_sum(scores, lags or 0, positions)
    rows, terms = len(X), X.shape[1] + added.shape[1]
    return float(total @ np.linalg.solve(middle, total) / added.shape[1] * (rows - terms) / rows)


def estimable_cuts(X: Floats, cuts: Ints) -> Bools:
    """Whether the columns of X are independent both before and from each break date."""
    Q = orthonormal(X)
    gram = np.cumsum(Q[:, :, None] * Q[:, None, :], axis=0)[cuts - 1]
    sizes = np.linalg.eigvalsh(gram)  # before the cut; one less these are those from it on
    return np.asarray((sizes[:, 0] > _DEPENDENT) & (sizes[:, -1] < 1.0 - _DEPENDENT))


def classical_break_f_path(X: Floats, Y: Floats, cuts: Ints) -> Floats:
    """Chow (1960) F of equal coefficients before and from each break date, shape (dates, columns).

    Parameters
    ----------
    X, Y : ndarray, shape (T, p) and (T, N)
        Without missing values.
    cuts : ndarray of int, shape (C,)
        First observation of the second subsample; the columns of X are independent in both.
    """
    Q = orthonormal(X)
    residuals = Y - Q @ (Q.T @ Y)
    rows, terms = Q.shape
    both = sum(_inverse_grams(Q, cuts))
    squares = np.sum(residuals * residuals, axis=0)
    path = np.empty((len(cuts), Y.shape[1]))
    step = max(1, _AT_ONCE // (rows * terms))
    for low in range(0, Y.shape[1], step):
        some = slice(low, low + step)
        first = _sums_before(Q[:, :, None] * residuals[:, None, some], cuts)[0]
        gained = np.sum(first * (both @ first), axis=1)  # as the sums of both parts are zero
        left = np.maximum(squares[some] - gained, np.finfo(float).eps * squares[some])
        path[:, some] = gained / terms / (left / (rows - 2 * terms))
    return path


def _inverse_grams(Q: Floats, cuts: Ints) -> tuple[Floats, Floats]:
    """Inverses of the products of orthonormal columns before and from each break date, (C, p, p)."""
    gram = np.cumsum(Q[:, :, None] * Q[:, None, :], axis=0)[cuts - 1]
    before, after = np.linalg.inv(gram), np.linalg.inv(np.eye(Q.shape[1]) - gram)
    return np.asarray(before, dtype=np.float64), np.asarray(after, dtype=np.float64)


def break_f_path(X: Floats, Y: Floats, cuts: Ints, positions: Ints, lags: int | None) -> Floats:
    """Robust F of equal coefficients before and from each break date, shape (dates, columns), under the null.

    Parameters
    ----------
    X, Y : ndarray, shape (T, p) and (T, N)
        Without missing values.
    cuts : ndarray of int, shape (C,)
        First row of the second part.
    positions, lags
        As for :func:`robust_f_of_terms`.

    Returns
    -------
    ndarray, shape (C, N)
        d'V⁻¹d/p·(T − 2p)/T with d the difference of the coefficients and V the sum of the covariances of both
        parts.
    """
    Q = orthonormal(X)  # the test does not depend on the units of the factors
    residuals = Y - Q @ (Q.T @ Y)
    rows, terms = Q.shape
    before, after = _inverse_grams(Q, cuts)
    path = np.empty((len(cuts), Y.shape[1]))
    step = max(1, _AT_ONCE // (rows * terms * terms))
    for low in range(0, Y.shape[1], step):
        some = slice(low, low + step)
        scores = Q[:, :, None] * residuals[:, None, some]
        first = _sums_before(scores, cuts)[0]
        apart = (before + after) @ first  # scores of both parts sum to zero
        ahead, behind = _products_by_cut(scores, cuts, positions, lags)
        V = _on_both_sides(before, ahead) + _on_both_sides(after, behind)
        path[:, some] = _quadratic_forms(V, apart)
    return np.asarray(path / terms * (rows - 2 * terms) / rows)


def _on_both_sides(M: Floats, V: Floats) -> Floats:
    """M V M of symmetric M (C, p, p) and V (C, p, p, N)."""
    cuts, terms, _, columns = V.shape
    left = (M @ V.reshape(cuts, terms, -1)).reshape(V.shape).swapaxes(1, 2)
    return np.asarray((M @ left.reshape(cuts, terms, -1)).reshape(cuts, terms, terms, columns))


def _quadratic_forms(V: Floats, d: Floats) -> Floats:
    """d'V⁻¹d for many small symmetric V (C, p, p, N) and d (C, p, N), by elimination: V = LDL'.

    NaN where V is singular up to rounding.
    """
    terms, V, left = V.shape[1], V.copy(), d.copy()
    total = np.zeros((V.shape[0], V.shape[3]))
    least = _NO_VARIANCE * np.einsum("cppn->cn", V)
    diagonal = np.einsum("cppn->cpn", V).copy()
    for i in range(terms):
        pivot = np.where(V[:, i, i] > np.maximum(least, _NO_DIGITS * diagonal[:, i]), V[:, i, i], np.nan)
        total += left[:, i] ** 2 / pivot
        factor = V[:, i + 1 :, i] / pivot[:, None]
        left[:, i + 1 :] -= factor * left[:, i][:, None]
        V[:, i + 1 :, i + 1 :] -= factor[:, :, None] * V[:, i, i + 1 :][:, None]
    return total


def _products_by_cut(scores: Floats, cuts: Ints, positions: Ints, lags: int | None) -> tuple[Floats, Floats]:
    """Weighted products of scores (T, p, N) before and from each break date, (C, p, p, N)."""
    line, places = on_calendar(scores, positions)
    starts = places[cuts]
    ahead, whole = _sums_before(line[:, :, None] * line[:, None], starts)
    behind = whole - ahead
    for lag in range(1, min(lags or 0, len(line) - 1) + 1):
        cross = bartlett_weight(lag, lags or 0) * line[lag:, :, None] * line[:-lag, None]
        first_part, whole = _sums_before(cross, np.maximum(starts - lag, 0))
        rest = whole - _sums_before(cross, np.minimum(starts, len(cross)))[0]
        ahead += first_part + first_part.swapaxes(1, 2)
        behind += rest + rest.swapaxes(1, 2)
    return ahead, behind


def _sums_before(values: Floats, stops: Ints) -> tuple[Floats, Floats]:
    """Sums of the rows before each of several increasing stops, and of all rows."""
    edges = np.concatenate([[0], stops])
    parts = np.array([_sum_rows(values[low:high]) for low, high in pairwise(edges)])
    sums: Floats = np.cumsum(parts, axis=0)
    return sums, sums[-1] + values[stops[-1] :].sum(axis=0)


def _sum_rows(rows: Floats) -> Floats:
    """Sum of rows, often of a single one."""
    return rows[0] if len(rows) == 1 else np.asarray(rows.sum(axis=0))


# Structural breaks: Chow, sup-F and CUSUM tests

Break = Literal["chow", "sup-f", "cusum"]
_DATES: Final = 400  # most cuts that simulated samples try
SUP_F: Final = "sup F"
_LINE: Final = 0.9479  # of the 5 % bounds of the cumulated sum

_TRIM: Final = 0.15  # of the rows at each end


@dataclass(frozen=True, repr=False)
class BreakTest(TestResult):
    """A test for structural breaks, and the path of its statistic.

    Attributes
    ----------
    statistic, distribution, df, p_value, note
        As for every test.
    path : Series
        F at every date for ``sup-f``, robust if the fit is; the cumulative sum of recursive residuals for
        ``cusum``.
    bounds : DataFrame
        Columns ``low high``: 5 % critical values of the path where they are known.
    at : label
        The break date that minimises the sum of squares, or that of the largest statistic.
    between : (label, label) or None
        Confidence interval of the break date at 95 % (Hansen 2000).
    name : str
        Dependent variable.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> fit = betas.fit("MRWG")
    >>> ul.break_test(fit, at="2014-07").to_frame().T.iloc[1:]
                                        0
    distribution                F(2, 247)
    p_value                      0.000093
    note          before and from 2014-07
    """

    path: pd.Series = field(default_factory=lambda: pd.Series(dtype=float), repr=False, compare=False)
    bounds: pd.DataFrame = field(default_factory=pd.DataFrame, compare=False)
    at: Any = field(default=None, compare=False)
    name: str = field(default="", compare=False)
    between: tuple[object, object] | None = field(default=None, compare=False)


@validate_arguments
def break_test(
    fit: Fit,
    at: object = None,
    *,
    how: Break = "chow",
    trim: float | None = None,
    draws: int = 999,
    seed: int = 0,
) -> BreakTest:
    """Structural-break test: Chow, Quandt–Andrews sup-F or CUSUM.

    Parameters
    ----------
    fit : Fit
        Regression on the full sample.
    at : label, optional
        First observation of the second subsample, for ``chow``; by default the middle one.
    how : {"chow", "sup-f", "cusum"}
        Chow (1960) at a given date; the largest F over all dates of the trimmed sample (Andrews 1993); the
        cumulative sum of recursive residuals (Brown, Durbin and Evans 1975).
    trim : float, optional
        Share of the sample trimmed at each end for ``sup-f``, by default 0.15. Dates at which a coefficient is
        not identified before or after, such as that of a dummy, are also excluded.
    draws, seed : int
        The p value of ``sup-f`` is from a fixed-regressor bootstrap with this number of draws (Hansen 2000),
        which allows for heteroskedasticity.

    Returns
    -------
    BreakTest
        Chow's F has (p, T − 2p) degrees of freedom. For a fit with classical standard errors the variance is the
        same in both subsamples. For a robust fit the test is a Wald test divided by p, with White's or, for
        ``hac``, Newey–West covariances in each subsample under the null; the same holds for each F of ``sup-f``.
        Fits with clustered or EWC standard errors use White's covariance. The break date is the least-squares
        estimate in every case.

    Raises
    ------
    EstimationError
        If a subsample has too few observations, or the regressors fit every observation exactly.

    Examples
    --------
    >>> import numpy as np
    >>> from ultrum.core.regression.regress import regress
    >>> x = np.arange(40.0) % 7
    >>> y = np.where(np.arange(40) < 20, x, 3 * x) + np.tile([0.1, -0.1], 20)
    >>> break_test(regress(y, x), how="sup-f").at
    20
    """
    refuse_exact_fit(fit)
    if how != "sup-f":
        refuse_idle_options(f"how='{how}'", trim=trim)
    if how == "chow":
        return _chow(fit, at)
    refuse_idle_options(f"how='{how}'", at=at)
    share = _TRIM if trim is None else trim
    return _sup_f(fit, share, draws, seed) if how == "sup-f" else _cusum(fit)


def _chow(fit: Fit, at: Any) -> BreakTest:
    terms = fit.design.shape[1]
    if at is not None and not pd.api.types.is_scalar(at):
        raise EstimationError(f"at is a {type(at).__name__}. Use one label of the sample.")
    try:
        cut = fit.nobs // 2 if at is None else int(fit.design.index.searchsorted(at))
    except (TypeError, ValueError):
        label = period_label(fit.design.index[0])
        raise EstimationError(f"at={at!r} is not in the sample. Use a label such as {label}.") from None
    if not terms < cut < fit.nobs - terms:
        raise EstimationError(
            f"break_test: a break after {cut} of {quantity(fit.nobs, 'observation')} of {fit.name} leaves a "
            "subsample with no more "
            f"than {terms} observations, the number of coefficients. Choose a date further inside the sample."
        )
    X, y = fit.rows_by_weight()
    statistic = float(_chow_f(X, y[:, None], cut, fit.errors, fit.design.index, fit.lags)[0])
    _refuse_nan(fit.name, np.array([statistic]))
    below = fit.nobs - 2 * terms
    p_value = float(scipy.special.fdtrc(terms, below, max(statistic, 0.0)))
    label = fit.design.index[cut]
    note = f"before and from {period_label(label)}"
    return BreakTest(statistic, f"F({terms}, {below})", (terms, below), p_value, note, at=label, name=fit.name)


def chow_tests(table: BetaTable) -> pd.DataFrame:
    """Chow test at the middle of each asset's own sample; assets with the same sample are solved together.

    Parameters
    ----------
    table : BetaTable
        Without weights.

    Returns
    -------
    DataFrame, shape (N, 3)
        ``statistic p_value note``; with too few observations the first two are missing and the note gives the
        reason.
    """
    used, terms = table.rows_used, table.design.shape[1]
    results = pd.DataFrame(
        {"statistic": np.nan, "p_value": np.nan, "note": "too few observations for two parts"}, table.assets
    ).astype({"note": object})
    for columns in same_rows(used):
        mask = used[:, columns[0]]
        cut, rows = int(mask.sum()) // 2, int(mask.sum())
        if not terms < cut < rows - terms:
            continue
        X, Y = table.design.to_numpy()[mask], table.response.to_numpy()[np.ix_(mask, columns)]
        below = rows - 2 * terms
        lags = table.lags.iloc[columns[0]]  # alike for all with the same rows, but of the plug-in
        depth = None if np.isnan(lags) else int(lags)
        try:
            statistics = _chow_f(X, Y, cut, table.errors, table.design.index[mask], depth)
        except EstimationError as error:
            results.iloc[columns, 2] = str(error)
            continue
        results.iloc[columns, 0] = statistics
        results.iloc[columns, 1] = scipy.special.fdtrc(terms, below, np.maximum(statistics, 0.0))
        results.iloc[columns, 2] = f"before and from {period_label(table.design.index[mask][cut])}"
    undefined = results["note"].str.startswith("before") & results["statistic"].isna()
    results.loc[undefined, "note"] = "no robust covariance: too few residuals differ from zero"
    exact = exact_fits(table)
    results.loc[exact, ["statistic", "p_value"]] = np.nan
    results.loc[exact, "note"] = "no residuals: the regressors fit every row exactly"
    return results


def _chow_f(X: Floats, Y: Floats, cut: int, errors: str, index: pd.Index, lags: int | None) -> Floats:
    """F of equal coefficients before and from one observation, for each column."""
    if not estimable_cuts(X, np.array([cut]))[0]:
        raise EstimationError(
            f"break_test: at {period_label(index[cut])} one subsample has a constant or collinear regressor. "
            "Choose another date, or drop that regressor."
        )
    parts = sum(_rss(X[part], Y[part]) for part in (slice(None, cut), slice(cut, None)))
    rows, terms = X.shape
    if errors == "classical":
        return np.asarray((_rss(X, Y) - parts) / terms / (parts / (rows - 2 * terms)))
    return np.asarray(break_f_path(X, Y, np.array([cut]), time_positions(index), lags)[0])


def _sup_f(fit: Fit, trim: float, draws: int, seed: int) -> BreakTest:
    X, y = fit.rows_by_weight()
    rows, terms = X.shape
    if not 0 < trim < 0.5:
        raise EstimationError(f"trim={trim}: it must be a share of the sample between 0 and 0.5.")
    first = max(int(np.ceil(trim * rows)), terms + 1)
    inside = np.arange(first, rows - first + 1)
    cuts = inside[estimable_cuts(X, inside)]
    if len(cuts) < 2:
        raise EstimationError(
            f"{fit.name}: {rows} observations leave no date at which every coefficient can be estimated before "
            "and after. Use a longer sample or fewer regressors."
        )
    residuals = y - X @ fit.coefficients.to_numpy()
    positions = time_positions(fit.design.index)

    def path_of(values: Floats, dates: Ints) -> Floats:
        """F at each date, with the standard errors of the fit."""
        if fit.errors == "classical":
            return classical_break_f_path(X, values, dates)
        return break_f_path(X, values, dates, positions, fit.lags)

    squares = classical_break_f_path(X, residuals[:, None], cuts)[:, 0]
    best = int(squares.argmax())  # the date with the smallest sum of squares
    path = path_of(residuals[:, None], cuts)[:, 0]
    top = float(path.max())
    few = cuts[np.unique(np.linspace(0, len(cuts) - 1, min(len(cuts), _DATES)).astype(int))]
    _refuse_nan(fit.name, path)
    noise = np.random.default_rng(seed).standard_normal((rows, draws)) * residuals[:, None]
    largest = path_of(noise, few).max(axis=0)
    _refuse_nan(fit.name, largest)
    p_value = float((1 + np.sum(largest >= top)) / (draws + 1))
    label = fit.design.index[cuts[best]]
    limit = float(np.quantile(largest, 0.95))
    dates = fit.design.index[cuts]
    between = _date_interval(fit.design.index, X, residuals, cuts, squares, best)
    note = f"at {period_label(label)} ({period_label(between[0])} to {period_label(between[1])})"
    if len(cuts) < len(inside):
        lost = quantity(len(inside) - len(cuts), "date")
        note += f"; {lost} left out, where a regressor is constant before or after"
    return BreakTest(
        top,
        SUP_F,
        (terms, rows - 2 * terms),
        p_value,
        note,
        path=pd.Series(path, dates, name="F"),
        bounds=pd.DataFrame({"low": np.nan, "high": limit}, dates),
        at=label,
        name=fit.name,
        between=between,
    )


def _refuse_nan(name: str, values: Floats) -> None:
    """Refuse statistics that are not numbers, which would count as small."""
    if not np.isfinite(values).all():
        raise EstimationError(
            f"{name}: the coefficients before or after a date have no robust covariance, because too few "
            "residuals there differ from zero. Use errors='classical'."
        )


def _date_interval(
    index: pd.Index, X: Floats, residuals: Floats, cuts: Ints, path: Floats, best: int, level: float = 0.95
) -> tuple[object, object]:
    """First and last date of the 95 % confidence interval of the break (Hansen 2000), with or without
    heteroskedasticity.
    """
    cut, rows, terms = int(cuts[best]), len(X), X.shape[1]
    parts = [slice(None, cut), slice(cut, None)]
    fits = [np.linalg.lstsq(X[p], residuals[p], rcond=None)[0] for p in parts]
    moved = (X @ (fits[1] - fits[0])) ** 2
    left = np.concatenate(
        [residuals[p] - X[p] @ coefficients for p, coefficients in zip(parts, fits, strict=True)]
    )
    variance = left @ left / (rows - 2 * terms)
    unequal = float(np.mean(moved * left**2) / (np.mean(moved) * variance))
    whole = float(residuals @ residuals)
    # RSS of both parts at each date, from F = (whole − parts)/terms / (parts/below)
    apart = whole / (1.0 + path * terms / (rows - 2 * terms))
    worse = (apart - apart[best]) / variance / unequal
    inside = np.flatnonzero(worse <= -2.0 * np.log(1.0 - np.sqrt(level)))
    return index[cuts[inside[0]]], index[cuts[inside[-1]]]


def _cusum(fit: Fit) -> BreakTest:
    X, y = fit.rows_by_weight()
    rows = len(X)
    ahead = _recursive_residuals(X, y)
    free = len(ahead)
    if free < 5:
        raise EstimationError(
            f"break_test(how='cusum'): {fit.name} gives {quantity(free, 'recursive residual')}, too few for a "
            "CUSUM test. Use a longer sample."
        )
    path = np.cumsum(ahead) / np.sqrt(ahead @ ahead / free)
    slope = 1.0 + 2.0 * np.arange(1, free + 1) / free
    reach = np.abs(path) / (np.sqrt(free) * slope)
    worst = int(reach.argmax())
    index = fit.design.index[rows - free :]
    high = _LINE * np.sqrt(free) * slope
    label = index[worst]
    return BreakTest(
        float(reach[worst]),
        "max |CUSUM|",
        (free,),
        _crossing(float(reach[worst])),
        f"farthest at {period_label(label)}",
        path=pd.Series(path, index, name="CUSUM"),
        bounds=pd.DataFrame({"low": -high, "high": high}, index),
        at=label,
        name=fit.name,
    )


def _recursive_residuals(X: Floats, y: Floats) -> Floats:
    """Recursive residuals: standardised one-step forecast errors, from the first observation that can be
    forecast.
    """
    rows, terms = X.shape
    X = unit_columns(X)
    begun = terms
    while begun < rows and np.linalg.matrix_rank(X[:begun]) < terms:
        begun += 1
    Q, R = np.linalg.qr(X[:begun])
    z = Q.T @ y[:begun]
    recursive = np.empty(rows - begun)
    for row in range(begun, rows):
        half = np.linalg.solve(R.T, X[row])
        recursive[row - begun] = (y[row] - half @ z) / np.sqrt(1.0 + half @ half)
        q, R = np.linalg.qr(np.vstack([R, X[row]]))
        z = q.T @ np.append(z, y[row])
    return recursive


def _crossing(height: float) -> float:
    """Probability that the cumulative sum crosses lines of this height (Brown, Durbin and Evans 1975)."""
    upper = scipy.special.ndtr
    once = upper(-3 * height) + np.exp(-4 * height**2) * upper(height)
    return float(min(1.0, 2.0 * once))


def _rss(X: Floats, Y: Floats) -> Floats:
    """Of each column."""
    labels = [f"column {i + 1}" for i in range(X.shape[1])]
    return np.asarray(np.sum(least_squares(X, Y, labels).residuals ** 2, axis=0))
