"""Least squares by QR for dependent variables on the same observations, with iterative refinement.

Columns are scaled to unit length before the factorisation, so the units of a factor cannot make a design look
singular; a collinear column is named.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from ultrum.core.array_types import Floats, Ints
from ultrum.errors import EstimationError, choices, name_list

_STEPS = 4
_COLLINEAR: Final = 1e-10  # of columns of unit length


def refine(X: Floats, y: Floats, Q: Floats, R: Floats, start: Floats) -> tuple[Floats, Floats]:
    """Coefficients and residuals of least squares, refined together (Björck 1967).

    Parameters
    ----------
    X, y : ndarray of longdouble, shape (T, p) and (T, N)
        The original data, without the rounding of the factorisation.
    Q, R : ndarray, shape (T, p) and (p, p)
        QR factors of X in double precision.
    start : ndarray, shape (p, N)
    """
    import scipy.linalg

    b = start.astype(np.longdouble)
    r = y - X @ b
    for _ in range(_STEPS):
        apart, slant = (y - r - X @ b).astype(np.float64), -(X.T @ r).astype(np.float64)
        inner = scipy.linalg.solve_triangular(R, slant, trans="T")
        change = scipy.linalg.solve_triangular(R, Q.T @ apart - inner)
        r += apart - X @ change
        b += change
    return b.astype(np.float64), r.astype(np.float64)


def refine_inverse(X: Floats, influence: Floats) -> Floats:
    """Left inverse A of X with one step A + (I − AX)A; the remaining error of AA' is of second order."""
    short = np.eye(len(influence)) - influence.astype(np.longdouble) @ X
    return np.asarray(influence + (short @ influence).astype(np.float64))


# QR least squares of many dependent variables that share their rows

_ILL_CONDITIONED: Final = 1e3
_EPS: Final = float(np.finfo(float).eps)


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


def least_squares(
    X: Floats, Y: Floats, labels: Sequence[str], constant: bool = False, weights: Floats | None = None
) -> Solution:
    """Solve by Householder QR with column scaling.

    Parameters
    ----------
    X, Y : ndarray, shape (T, p) and (T, N)
    labels : sequence of str
        Names of the columns, for messages.
    constant : bool
        Whether the first column is one. The other columns and Y are then centred at their medians, which keeps
        the digits of series at a high level.
    weights : ndarray, shape (T,), optional
        Of the rows. Residuals, influence and leverage refer to observations times √weight.

    Raises
    ------
    EstimationError
        If there are no more observations than columns, or columns are collinear (they are named).
    """
    rows, columns = X.shape
    if rows <= columns:
        raise EstimationError(
            f"{rows} complete observations for {columns} coefficients ({choices(labels)}); at least "
            f"{columns + 1} are needed."
        )
    scaled, response, centre, level = X, Y, np.zeros(columns), np.zeros(Y.shape[1])
    if constant:
        centre, level = _middle(X), _middle(Y)
        centre[0] = 0.0
        scaled, response = X - centre, Y - level
    root = np.ones((1, 1)) if weights is None else np.sqrt(weights)[:, None]
    if weights is not None:
        scaled, response = scaled * root, response * root
    length = np.sqrt(np.einsum("tp,tp->p", scaled, scaled))
    scale = 2.0 ** np.rint(np.log2(np.where(length > 0, length, 1.0)))  # powers of two round nothing
    scaled = scaled / scale
    Q, R = np.linalg.qr(scaled)
    singular = np.linalg.svd(R, compute_uv=False)
    if not singular[-1] > singular[0] * rows * _EPS:
        _refuse_dependent(X, labels)
    ill_conditioned = singular[0] > _ILL_CONDITIONED * singular[-1]
    influence = np.linalg.solve(R, Q.T) if ill_conditioned else np.linalg.inv(R) @ Q.T
    coefficients = influence @ response
    if ill_conditioned:
        exact = (X.astype(np.longdouble) - centre) * root / scale
        target = (Y.astype(np.longdouble) - level) * root
        coefficients, residuals = refine(exact, target, Q, R, coefficients)
        influence = refine_inverse(exact, influence)
    else:
        coefficients += influence @ (response - scaled @ coefficients)  # refined once
        residuals = response - scaled @ coefficients
    coefficients, influence = coefficients / scale[:, None], influence / scale[:, None]
    if constant:
        coefficients[0] += level - centre @ coefficients
        influence[0] -= centre @ influence
    return Solution(coefficients, residuals, influence, np.einsum("tp,tp->t", Q, Q))


def _middle(values: Floats) -> Floats:
    """A value in the middle of each column: the median, or for an even number of rows the one above it."""
    half = len(values) // 2
    return np.asarray(np.partition(values, half, axis=0)[half])


def unit_columns(X: Floats) -> Floats:
    """Columns of unit length; a column of zeros stays as it is."""
    length = np.linalg.norm(X, axis=0)
    return np.asarray(X / np.where(length > 0, length, 1.0))


def orthonormal(X: Floats) -> Floats:
    """Orthonormal columns that span those of X, whatever the units of X."""
    return np.asarray(np.linalg.qr(unit_columns(X))[0])


def projection_residuals(X: Floats, Y: Floats) -> Floats:
    """The part of Y orthogonal to the columns of X."""
    Q = orthonormal(X)
    return np.asarray(Y - Q @ (Q.T @ Y))


def coefficients(X: Floats, y: Floats) -> Floats:
    """Coefficients alone, for designs with independent columns of similar size."""
    Q, R = np.linalg.qr(X)
    return np.asarray(np.linalg.solve(R, Q.T @ y))


def row_weights(X: Floats) -> Floats:
    """(X'X)⁻¹X', the weight of each observation in each coefficient, shape (p, T)."""
    Q, R = np.linalg.qr(X)
    return np.asarray(np.linalg.solve(R, Q.T))


def condition_number(X: Floats) -> float:
    """Condition number of a design with columns of unit length (Belsley, Kuh and Welsch 1980)."""
    return float(np.linalg.cond(np.linalg.qr(unit_columns(X))[1]))


def near_collinear(X: Floats, limit: float) -> bool:
    """Whether the condition number may be above a limit up to 1e4, by the products of the columns."""
    products = X.T @ X
    length = np.sqrt(np.maximum(products.diagonal(), np.finfo(float).tiny))
    values = np.linalg.eigvalsh(products / (length[:, None] * length))
    return bool(values[0] * (0.99 * limit) ** 2 < values[-1])


def inflation(X: Floats, centred: bool) -> Floats:
    """Variance inflation 1/(1 − R²) of each column on the others (Marquardt 1970), shape (K,)."""
    import scipy.linalg

    columns = X - X.mean(axis=0) if centred else X
    R = np.linalg.qr(unit_columns(columns))[1]
    with np.errstate(divide="ignore"):
        inverse = scipy.linalg.solve_triangular(R, np.eye(len(R)), check_finite=False)
    return np.asarray(np.sum(inverse**2, axis=1))


def _refuse_dependent(X: Floats, labels: Sequence[str]) -> None:
    """Names of the columns that are linear combinations of others, found by pivoted QR."""
    import scipy.linalg

    length = np.linalg.norm(X, axis=0)
    scaled = X / np.where(length > 0, length, 1.0)
    R, pivot = scipy.linalg.qr(scaled, mode="r", pivoting=True)
    diagonal = np.abs(np.diag(R))
    rank = int(np.sum(diagonal > max(scaled.shape) * np.finfo(float).eps * diagonal[0]))
    if rank == len(labels):
        raise EstimationError(f"The columns {choices(labels)} are collinear within rounding. Drop one.")
    weights = scipy.linalg.solve_triangular(R[:rank, :rank], R[:rank, rank])
    partners = [labels[pivot[i]] for i in np.flatnonzero(np.abs(weights) > 1e-8)]
    column = labels[pivot[rank]]
    reason = f"a combination of {', '.join(partners)}" if partners else "zero in every row"
    raise EstimationError(
        f"Column '{column}' is {reason}: the design has rank {rank}, not {len(labels)}. Drop one of them."
    )


def refuse_combinations(doing: str, values: Floats, design: Floats, names: Sequence[str]) -> None:
    """Refuse assets that are copies or combinations of other assets and the regressors, if there are any.

    Parameters
    ----------
    doing : str
        Name of the function, for the message.
    values, design : ndarray, shape (T, N) and (T, p)
        Without missing values.
    names : sequence of str
    """
    residuals = values - design @ (row_weights(design) @ values) if design.size else values
    copies = combinations_among(residuals, np.linalg.norm(values, axis=0))
    if len(copies):
        raise EstimationError(
            f"{doing}: {name_list(names[k] for k in copies)}: a copy or a combination of other assets or "
            "factors. Drop such assets."
        )


def combinations_among(block: Floats, sizes: Floats) -> Ints:
    """Columns that are zero against their sizes, or combinations of the others.

    Examples
    --------
    >>> block = np.array([[1.0, 2.0, 0.0], [0.0, 0.0, 1.0], [1.0, 2.0, 3.0]])
    >>> combinations_among(block, np.linalg.norm(block, axis=0)).tolist()
    [0]
    """
    import scipy.linalg

    lengths = np.linalg.norm(block, axis=0)
    empty = lengths <= _COLLINEAR * sizes
    kept = np.flatnonzero(~empty)
    r, order = scipy.linalg.qr(block[:, kept] / lengths[kept], mode="r", pivoting=True)
    diagonal = np.abs(np.diag(r))
    dependent = np.flatnonzero(diagonal <= _COLLINEAR)
    beyond = np.arange(len(diagonal), len(order))
    return np.asarray(np.sort(np.concatenate([np.flatnonzero(empty), kept[order[[*dependent, *beyond]]]])))
