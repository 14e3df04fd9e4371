"""Robust Wald tests with the null imposed: of added terms, and of a break at every date.

The covariance of the scores takes the residuals of the restricted regression. With unrestricted ones
such tests reject far too often in samples of monthly data (Davidson and MacKinnon 1985); docs/benchmarks.md
has the sizes.
"""

from __future__ import annotations

from itertools import pairwise
from typing import Final

import numpy as np

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.regression.engine.newey_west import bartlett_sum, bartlett_weight, on_calendar
from ultrum.core.regression.engine.qr import orthonormal, projection_residuals, unit_columns
from ultrum.errors import EstimationError

_NO_VARIANCE: Final = 1e-20  # of the sum of variances, as residuals of 1e-10 of the others make it
_NO_DIGITS: Final = 1e-12  # what is left of a variance when the other coefficients explain it
_DEPENDENT: Final = 1e-10  # share of a combination of columns that a part of the rows holds
_AT_ONCE: Final = 1 << 22  # numbers of score products held at a time


def added_terms_f(X: Floats, added: Floats, residuals: Floats, positions: Ints, lags: int | None) -> float:
    """Robust F of terms added to a regression, with the null imposed.

    Parameters
    ----------
    X, added : ndarray, shape (T, p) and (T, q)
    residuals : ndarray, shape (T,)
        Of the regression on X alone.
    positions : ndarray of int, shape (T,)
        Periods of the rows, so that lags count periods.
    lags : int, optional
        Of Newey–West covariances; None for White's.

    Returns
    -------
    float
        W/q·(T − p − q)/T, against F(q, T − p − q).

    Raises
    ------
    EstimationError
        If the added terms are combinations of X and each other.
    """
    apart = projection_residuals(X, added)
    lost = np.linalg.norm(apart, axis=0) < 1e-9 * np.linalg.norm(added, axis=0)
    if lost.any():
        raise EstimationError("The added terms are combinations of those in the regression.")
    scores = unit_columns(apart) * residuals[:, None]
    total = scores.sum(axis=0)
    middle = bartlett_sum(scores, lags or 0, positions)
    rows, terms = len(X), X.shape[1] + added.shape[1]
    return float(total @ np.linalg.solve(middle, total) / added.shape[1] * (rows - terms) / rows)


def estimable_cuts(X: Floats, cuts: Ints) -> Bools:
    """Whether the columns of X are independent both before and from each cut."""
    Q = orthonormal(X)
    gram = np.cumsum(Q[:, :, None] * Q[:, None, :], axis=0)[cuts - 1]
    sizes = np.linalg.eigvalsh(gram)  # before the cut; one less these are those from it on
    return np.asarray((sizes[:, 0] > _DEPENDENT) & (sizes[:, -1] < 1.0 - _DEPENDENT))


def classical_break_f_path(X: Floats, Y: Floats, cuts: Ints) -> Floats:
    """Chow's (1960) F of equal coefficients before and from each cut, shape (cuts, columns).

    Parameters
    ----------
    X, Y : ndarray, shape (T, p) and (T, N)
        Without missing values.
    cuts : ndarray of int, shape (C,)
        First row of the second part; the columns of X are independent on both sides.
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
    """Inverses of the products of orthonormal columns over the rows before and from each cut, (C, p, p)."""
    gram = np.cumsum(Q[:, :, None] * Q[:, None, :], axis=0)[cuts - 1]
    before, after = np.linalg.inv(gram), np.linalg.inv(np.eye(Q.shape[1]) - gram)
    return np.asarray(before, dtype=np.float64), np.asarray(after, dtype=np.float64)


def break_f_path(X: Floats, Y: Floats, cuts: Ints, positions: Ints, lags: int | None) -> Floats:
    """Robust F of equal coefficients before and from each cut, shape (cuts, columns), with the null imposed.

    Parameters
    ----------
    X, Y : ndarray, shape (T, p) and (T, N)
        Without missing values.
    cuts : ndarray of int, shape (C,)
        First row of the second part.
    positions, lags
        As for :func:`added_terms_f`.

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
    """d'V⁻¹d of each of many small symmetric V (C, p, p, N) and d (C, p, N), by elimination: V = LDL'.

    NaN where V is singular, but for rounding.
    """
    terms, V, left = V.shape[1], V.copy(), d.copy()
    total = np.zeros((V.shape[0], V.shape[3]))
    least = _NO_VARIANCE * np.einsum("cppn->cn", V)
    own = np.einsum("cppn->cpn", V).copy()
    for i in range(terms):
        pivot = np.where(V[:, i, i] > np.maximum(least, _NO_DIGITS * own[:, i]), V[:, i, i], np.nan)
        total += left[:, i] ** 2 / pivot
        factor = V[:, i + 1 :, i] / pivot[:, None]
        left[:, i + 1 :] -= factor * left[:, i][:, None]
        V[:, i + 1 :, i + 1 :] -= factor[:, :, None] * V[:, i, i + 1 :][:, None]
    return total


def _products_by_cut(scores: Floats, cuts: Ints, positions: Ints, lags: int | None) -> tuple[Floats, Floats]:
    """Weighted products of scores (T, p, N) over the rows before and from each cut, (C, p, p, N)."""
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
    """Sums of the rows before each of some rising stops, and of all rows."""
    edges = np.concatenate([[0], stops])
    parts = np.array([_summed(values[low:high]) for low, high in pairwise(edges)])
    sums: Floats = np.cumsum(parts, axis=0)
    return sums, sums[-1] + values[stops[-1] :].sum(axis=0)


def _summed(rows: Floats) -> Floats:
    """Sum of rows, of which there is often one alone."""
    return rows[0] if len(rows) == 1 else np.asarray(rows.sum(axis=0))
