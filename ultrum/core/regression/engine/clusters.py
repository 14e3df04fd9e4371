"""Cluster-robust covariances, one way or two."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

import numpy as np

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.regression.engine.qr import orthonormal
from ultrum.errors import EstimationError, warn_user

_SINGULAR: Final = 1e10  # condition number


def clustered(influence: Floats, residuals: Floats, codes: Ints) -> Floats:
    """Cameron, Gelbach and Miller (2011): by first label, plus by second, less by both.

    Parameters
    ----------
    influence : ndarray, shape (p, T)
    residuals : ndarray, shape (T, N)
    codes : ndarray of int, shape (T, ways)
        Cluster of each row, in one or two ways.

    Returns
    -------
    ndarray, shape (N, p, p)
        Each part has the factor G/(G−1)·(T−1)/(T−p) with its own G clusters. Where the two-way sum is
        not positive, its negative eigenvalues are set to zero with a warning.
    """
    total = sum(_one_way(influence, residuals, codes[:, way]) for way in range(codes.shape[1]))
    if codes.shape[1] == 1:
        return np.asarray(total)
    _, both = np.unique(codes, axis=0, return_inverse=True)
    return _made_positive(total - _one_way(influence, residuals, both.reshape(-1)))


def jackknifed(X: Floats, influence: Floats, residuals: Floats, codes: Ints) -> Floats:
    """CR3, the jackknife over clusters: (G−1)/G·Σ(b₍g₎ − b)(b₍g₎ − b)' (MacKinnon, Nielsen and Webb 2023).

    Parameters
    ----------
    X : ndarray, shape (T, p)
    influence : ndarray, shape (p, T)
        (X'X)⁻¹X'.
    residuals : ndarray, shape (T, N)
    codes : ndarray of int, shape (T, 1)

    Returns
    -------
    ndarray, shape (N, p, p)
        For Student's t with G − 1 degrees of freedom.

    Raises
    ------
    EstimationError
        If the coefficients cannot be estimated without one of the clusters.
    """
    groups = len(np.unique(codes[:, 0]))
    if groups < 2:
        raise EstimationError("All rows are in one cluster; errors by cluster need two or more.")
    place = np.unique(codes[:, 0], return_inverse=True)[1]
    moves = np.empty((groups, X.shape[1], residuals.shape[1]))
    for group, rows, pull in _pulls(X, influence, place):
        moves[group] = pull @ residuals[rows]
    return np.asarray((groups - 1) / groups * np.einsum("gpn,gqn->npq", moves, moves))


def leave_one_out(X: Floats, influence: Floats, codes: Ints, which: int) -> Floats:
    """By how much each residual moves one coefficient when its cluster is left out, shape (T,)."""
    pulls = np.empty(len(X))
    for _, rows, pull in _pulls(X, influence, codes):
        pulls[rows] = pull[which]
    return pulls


def _pulls(X: Floats, influence: Floats, place: Ints) -> Iterator[tuple[int, Bools, Floats]]:
    """Each cluster, its rows, and b − b₍g₎ as a matrix times their residuals."""
    Q = orthonormal(X)
    back, groups = influence @ Q, int(place.max()) + 1  # from coefficients of Q to those of X
    for group in range(groups):
        rows: Bools = np.asarray(place == group)
        slack = np.eye(Q.shape[1]) - Q[rows].T @ Q[rows]
        if np.linalg.cond(slack) > _SINGULAR:
            raise EstimationError(
                f"Without cluster number {group + 1} of {groups} a coefficient cannot be estimated; "
                "the jackknife needs each cluster to be dispensable."
            )
        yield group, rows, back @ np.linalg.solve(slack, Q[rows].T)


def smallest_count(codes: Ints) -> int:
    """Clusters of the way that has fewest."""
    return min(len(np.unique(codes[:, way])) for way in range(codes.shape[1]))


def _one_way(influence: Floats, residuals: Floats, codes: Ints) -> Floats:
    terms, rows = influence.shape
    labels, place = np.unique(codes, return_inverse=True)
    groups = len(labels)
    if groups < 2:
        raise EstimationError("All rows are in one cluster; errors by cluster need two or more.")
    scores = influence.T[:, :, None] * residuals[:, None, :]
    sums = np.zeros((groups, *scores.shape[1:]))
    np.add.at(sums, place, scores)
    factor = groups / (groups - 1) * (rows - 1) / (rows - terms)
    return np.asarray(factor * np.einsum("gpn,gqn->npq", sums, sums))


def _made_positive(covariance: Floats) -> Floats:
    """The nearest covariance without negative eigenvalues.

    Examples
    --------
    >>> import warnings
    >>> with warnings.catch_warnings(record=True) as caught:
    ...     _made_positive(np.array([[[1.0, 2.0], [2.0, 1.0]]])).round(12).tolist()
    [[[1.5, 1.5], [1.5, 1.5]]]
    >>> len(caught)
    1
    """
    values, vectors = np.linalg.eigh(covariance)
    if (values < 0).any():
        warn_user("The two-way clustered covariance is not positive; its negative eigenvalues are set to zero.")
    return np.asarray((vectors * np.maximum(values, 0.0)[:, None, :]) @ vectors.swapaxes(1, 2))
