"""Robust Wald tests with the null imposed: of added terms, and of a break at every date.

The covariance of the scores takes the residuals of the restricted regression. With unrestricted ones
such tests reject far too often in samples of monthly data (Davidson and MacKinnon 1985); docs/benchmarks.md
has the sizes.
"""

from __future__ import annotations

from itertools import pairwise
from typing import Final

import numpy as np

from ultrum.core.array_types import Floats, Ints
from ultrum.core.regression.engine.newey_west import bartlett_sum, bartlett_weight, on_calendar
from ultrum.core.regression.engine.qr import orthonormal, projection_residuals, unit_columns
from ultrum.errors import EstimationError

_AT_ONCE: Final = 1 << 22  # numbers of score products held at a time


def added_terms_f(
    X: Floats, added: Floats, residuals: Floats, positions: Ints, lags: int | None
) -> float:
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
    gram = np.cumsum(Q[:, :, None] * Q[:, None, :], axis=0)[cuts - 1]
    before, after = np.linalg.inv(gram), np.linalg.inv(np.eye(terms) - gram)
    path = np.empty((len(cuts), Y.shape[1]))
    step = max(1, _AT_ONCE // (rows * terms * terms))
    for low in range(0, Y.shape[1], step):
        some = slice(low, low + step)
        scores = Q[:, :, None] * residuals[:, None, some]
        first = np.cumsum(scores, axis=0)[cuts - 1]
        apart = np.einsum("cpq,cqn->cnp", before + after, first)  # scores of both parts sum to zero
        ahead, behind = _products_by_cut(scores, cuts, positions, lags)
        V = np.einsum("cpq,cqrn,crs->cnps", before, ahead, before, optimize=True)
        V += np.einsum("cpq,cqrn,crs->cnps", after, behind, after, optimize=True)
        solved = np.linalg.solve(V, apart[..., None])[..., 0]
        path[:, some] = np.einsum("cnp,cnp->cn", apart, solved)
    return np.asarray(path / terms * (rows - 2 * terms) / rows)


def _products_by_cut(
    scores: Floats, cuts: Ints, positions: Ints, lags: int | None
) -> tuple[Floats, Floats]:
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
    parts = np.array([values[low:high].sum(axis=0) for low, high in pairwise(edges)])
    sums: Floats = np.cumsum(parts, axis=0)
    return sums, sums[-1] + values[stops[-1] :].sum(axis=0)
