"""Iterative refinement of ill-conditioned solutions, with sums in extended precision."""

from __future__ import annotations

from typing import Any

import numpy as np
import scipy.linalg

from ultrum.core.array_types import Floats

_STEPS = 4


def refined(X: Any, y: Any, Q: Floats, R: Floats, start: Floats) -> tuple[Floats, Floats]:
    """Coefficients and residuals of least squares, refined together (Björck 1967).

    Parameters
    ----------
    X, y : ndarray of longdouble, shape (T, p) and (T, N)
        As they are, without the rounding that the factors suffered.
    Q, R : ndarray, shape (T, p) and (p, p)
        QR factors of X in double precision.
    start : ndarray, shape (p, N)
    """
    b = start.astype(np.longdouble)
    r = y - X @ b
    for _ in range(_STEPS):
        apart, slant = (y - r - X @ b).astype(np.float64), -(X.T @ r).astype(np.float64)
        inner = scipy.linalg.solve_triangular(R, slant, trans="T")
        change = scipy.linalg.solve_triangular(R, Q.T @ apart - inner)
        r += apart - X @ change
        b += change
    return b.astype(np.float64), r.astype(np.float64)


def refined_inverse(X: Any, influence: Floats) -> Floats:
    """Left inverse A of X with one step A + (I − AX)A; what is left in AA' is of second order."""
    short = np.eye(len(influence)) - influence.astype(np.longdouble) @ X
    return np.asarray(influence + (short @ influence).astype(np.float64))
