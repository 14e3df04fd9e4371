"""Least squares on arrays, by QR, for many left-hand sides that share their rows.

Columns are scaled to unit length before they are factored, so that the units of a factor cannot
make a design look singular; a truly dependent column is named.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy.linalg

from ultrum.core.types import Floats
from ultrum.errors import EstimationError


@dataclass(frozen=True)
class Solution:
    """Least squares of Y (T,N) on X (T,p).

    ``influence`` is the pseudo-inverse of X, shape (p,T): coefficients are ``influence @ Y``, and
    every sandwich covariance is a quadratic form in its columns.
    """

    coefficients: Floats
    residuals: Floats
    influence: Floats
    leverage: Floats
    condition: float


def least_squares(X: Floats, Y: Floats, labels: Sequence[str]) -> Solution:
    """Solve by Householder QR with column scaling.

    Raises
    ------
    EstimationError
        If there are no more rows than columns, or columns depend on each other (they are named).
    """
    rows, columns = X.shape
    if rows <= columns:
        raise EstimationError(
            f"{rows} complete rows for {columns} coefficients ({', '.join(labels)}); "
            "at least one more row than coefficients is needed."
        )
    length = np.linalg.norm(X, axis=0)
    scale = np.where(length > 0, length, 1.0)
    Q, R = np.linalg.qr(X / scale)
    condition = float(np.linalg.cond(R))
    if not condition < 1.0 / (rows * np.finfo(float).eps):
        _refuse_dependent(X / scale, labels)
    influence = np.linalg.solve(R, Q.T) / scale[:, None]  # R is triangular: back substitution
    coefficients = influence @ Y
    coefficients += influence @ (Y - X @ coefficients)  # refined once, for ill-conditioned designs
    residuals = Y - X @ coefficients
    return Solution(coefficients, residuals, influence, np.sum(Q * Q, axis=1), condition)


def _refuse_dependent(scaled: Floats, labels: Sequence[str]) -> None:
    """Name the columns that are combinations of others, found by pivoted QR."""
    R, pivot = scipy.linalg.qr(scaled, mode="r", pivoting=True)
    diagonal = np.abs(np.diag(R))
    rank = int(np.sum(diagonal > max(scaled.shape) * np.finfo(float).eps * diagonal[0]))
    if rank == len(labels):
        return
    weights = scipy.linalg.solve_triangular(R[:rank, :rank], R[:rank, rank])
    partners = [labels[pivot[i]] for i in np.flatnonzero(np.abs(weights) > 1e-8)]
    column = labels[pivot[rank]]
    reason = f"a combination of {', '.join(partners)}" if partners else "zero in every row"
    raise EstimationError(
        f"The column '{column}' is {reason}: the design has rank {rank}, not {len(labels)}. "
        "Leave out one of them."
    )
