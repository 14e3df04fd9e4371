"""Least squares: by QR for dependent variables on the same rows, by Cholesky for batches with rows of their own.

Columns are scaled to unit length before the factorisation, so the units of a factor cannot make a design look
singular; a collinear column is named.

Sums of products are computed afresh in every window by matrix products, never as differences of running sums, so
one wrong price affects only the windows that contain it. Columns are first centred near their medians. Where the
Cholesky pivots, or a small share of residuals in the sum of squares, indicate a loss of digits, the window is
marked for QR.

Small matrices are stored as arrays (p, p, B, N) or (p, B, N) for B windows and N dependent variables, so each
step of the algebra is one pass over all of them; symmetric matrices are packed by rows of the lower triangle, (B,
q, N) with q = p(p+1)/2.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from ultrum.core.array_types import Bools, Floats, Ints
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


# Batches by Cholesky

_LOSS_ALLOWED: Final = 1e-10  # of a standard error, before a window goes to QR


@dataclass(frozen=True)
class Shift:
    """Columns less their centre, divided by their spread."""

    centre: Floats
    spread: Floats

    @classmethod
    def of(cls, X: Floats, constant: bool) -> Shift:
        """Medians and median absolute deviations; without a constant nothing is shifted."""
        count = X.shape[1]
        if not len(X):
            return cls(np.zeros(count), np.ones(count))
        centre = np.median(X, axis=0) if constant else np.zeros(count)
        centre[:1] *= 0.0 if constant else 1.0
        apart = np.abs(X - centre)
        spread, widest = np.median(apart, axis=0), apart.max(axis=0)
        return cls(centre, np.where(spread > 0, spread, np.where(widest > 0, widest, 1.0)))

    def apply(self, X: Floats) -> Floats:
        """The shifted columns."""
        return np.asarray((X - self.centre) / self.spread)

    @property
    def constant_row(self) -> Floats:
        """Weights (p,) of shifted coefficients in the constant of the unshifted data."""
        row = -self.centre / self.spread
        row[0] = 1.0 / self.spread[0]
        return row


@dataclass(frozen=True)
class BatchSolution:
    """Estimates for B windows and N dependent variables, on shifted columns.

    ``root`` is the inverse of the Cholesky factor of the moments, so (X'X)⁻¹ = root'root. ``loose`` marks
    estimates that must be solved by QR.
    """

    coefficients: Floats
    root: Floats
    rss: Floats
    tss: Floats
    loose: Bools


def pack_products(left: Floats, right: Floats | None = None) -> Floats:
    """Products of columns in each row, (…,p) to (…,q); for two arrays symmetrised: x y' + y x'."""
    low, high = np.tril_indices(left.shape[-1])
    if right is None:
        return np.asarray(left[..., low] * left[..., high])
    return np.asarray(left[..., low] * right[..., high] + right[..., low] * left[..., high])


def solve_batch(gram: Floats, cross: Floats, squares: Floats, constant: bool) -> BatchSolution:
    """Coefficients from moments of shifted columns.

    Parameters
    ----------
    gram : ndarray, shape (B, q, N)
        Packed X'X.
    cross : ndarray, shape (B, p, N)
        X'y.
    squares : ndarray, shape (B, N)
        y'y.
    constant : bool
        Whether the first column is one.
    """
    count = cross.shape[1]
    root, pivot = _inverse_root(gram, count)
    right = cross.transpose(1, 0, 2)
    z = np.stack([_dot(root[k, : k + 1], right[: k + 1]) for k in range(count)])
    coefficients = np.stack([_dot(root[j:, j], z[j:]) for j in range(count)])
    rss = squares - _dot(z, z)
    tss = squares - z[0] * z[0] if constant else squares
    loose = ~(np.finfo(float).eps * squares <= _LOSS_ALLOWED * rss * pivot)
    return BatchSolution(coefficients, root, rss, tss, loose)


def solve_moments(gram: Floats, cross: Floats, squares: Floats) -> tuple[Floats, Bools]:
    """Coefficients of B regressions from their moments, and a mask of those that lose digits.

    Parameters
    ----------
    gram, cross, squares : ndarray, shape (B, p, p), (B, p) and (B,)
        X'X, X'y and y'y.

    Returns
    -------
    tuple of ndarray, shape (B, p) and (B,)
        The second marks the regressions that must be solved by QR.
    """
    low, high = np.tril_indices(cross.shape[1])
    with np.errstate(divide="ignore", invalid="ignore"):
        solution = solve_batch(gram[:, low, high][:, :, None], cross[:, :, None], squares[:, None], False)
    return np.asarray(solution.coefficients[:, :, 0].T), np.asarray(solution.loose[:, 0])


def coefficients_of(solution: BatchSolution, shift: Shift, centre: Floats) -> Floats:
    """Coefficients (p, B, N) on the data; ``centre`` is what was subtracted from the dependent variables."""
    coefficients = solution.coefficients / shift.spread[:, None, None]
    coefficients[0] = centre + np.einsum("j,jbn->bn", shift.constant_row, solution.coefficients)
    return np.asarray(coefficients)


def variances_of_inverse(solution: BatchSolution, shift: Shift) -> Floats:
    """Diagonal of (X'X)⁻¹ on the data, (p, B, N)."""
    root = solution.root
    count = len(root)
    variances = np.stack([_dot(root[j:, j], root[j:, j]) for j in range(count)])
    variances /= shift.spread[:, None, None] ** 2
    row = shift.constant_row
    if row[1:].any():
        first = np.stack([np.einsum("j,jbn->bn", row[: k + 1], root[k, : k + 1]) for k in range(count)])
        variances[0] = _dot(first, first)
    return variances


def pack_inverse(solution: BatchSolution) -> Floats:
    """(X'X)⁻¹ on shifted columns, (B, q, N)."""
    root = solution.root
    count, _, windows, assets = root.shape
    packed = np.empty((windows, count * (count + 1) // 2, assets))
    for i in range(count):
        for j in range(i + 1):
            _dot(root[i:, i], root[i:, j], out=packed[:, _place(i, j)])
    return packed


def double_off_diagonal(packed: Floats) -> Floats:
    """Off-diagonal elements doubled, so that a product with packed xx' is a quadratic form."""
    count = _order_of(packed)
    twice = np.full(packed.shape[1], 2.0)
    twice[[_place(j, j) for j in range(count)]] = 1.0
    return np.asarray(packed * twice[:, None])


def unpack(packed: Floats) -> Floats:
    """(B, q, N) to (p, p, B, N)."""
    count = _order_of(packed)
    whole = np.array([[_place(j, k) for k in range(count)] for j in range(count)])
    return np.asarray(packed.transpose(1, 0, 2)[whole])


def influence_on_data(solution: BatchSolution, shift: Shift) -> Floats:
    """Matrix (p, p, B, N) that maps sums of shifted scores to coefficients on the data."""
    root = solution.root
    influence = np.empty_like(root)
    for i in range(len(root)):
        for j in range(i + 1):
            _dot(root[i:, i], root[i:, j], out=influence[i, j])
            influence[j, i] = influence[i, j]
    row = shift.constant_row
    if row[1:].any():
        influence[0] = np.einsum("i,ijbn->jbn", row, influence)
        influence[1:] /= shift.spread[1:, None, None, None]
    else:
        influence /= shift.spread[:, None, None, None]
    return influence


def sandwich_variances(influence: Floats, meat: Floats) -> Floats:
    """Diagonal (p, B, N) of influence · meat · influence', the meat packed."""
    middle = unpack(meat)
    half = np.empty_like(influence[0])
    variances = np.empty(influence.shape[1:])
    for i, row in enumerate(influence):
        for k in range(len(row)):
            _dot(row, middle[k], out=half[k])
        _dot(half, row, out=variances[i])
    return variances


def sandwich(influence: Floats, meat: Floats) -> Floats:
    """All elements of influence · meat · influence', (p, p, B, N)."""
    middle = unpack(meat)
    count = len(influence)
    covariance = np.empty_like(influence)
    for i in range(count):
        half = np.stack([_dot(influence[i], middle[k]) for k in range(count)])
        for j in range(i + 1):
            covariance[i, j] = covariance[j, i] = _dot(half, influence[j])
    return covariance


def inverse_on_data(solution: BatchSolution, shift: Shift) -> Floats:
    """(X'X)⁻¹ on the data, (p, p, B, N)."""
    influence = influence_on_data(solution, shift)
    back = np.diag(1.0 / shift.spread)
    back[0] = shift.constant_row
    return np.asarray(np.einsum("ijbn,kj->ikbn", influence, back))


def _inverse_root(gram: Floats, count: int) -> tuple[Floats, Floats]:
    """Inverse of the Cholesky factor, and the smallest pivot relative to its diagonal element.

    The inverse is in the lower triangle of its array; the rows of the factor are columns above it.
    """
    windows, _, assets = gram.shape
    root = np.empty((count, count, windows, assets))
    smallest = np.ones((windows, assets))
    work = np.empty((windows, assets))
    for j in range(count):
        for k in range(j):
            value = root[k, j]
            if k:
                np.subtract(gram[:, _place(j, k)], _dot(root[:k, j], root[:k, k], out=work), out=value)
                value *= root[k, k]
            else:
                np.multiply(gram[:, _place(j, 0)], root[0, 0], out=value)
        diagonal, pivot_root = gram[:, _place(j, j)], root[j, j]
        if j:
            pivot = np.subtract(diagonal, _dot(root[:j, j], root[:j, j], out=pivot_root), out=pivot_root)
            np.divide(pivot, diagonal, out=work)
            np.fmin(smallest, work, out=smallest)
            np.sqrt(pivot, out=pivot_root)
        else:
            np.sqrt(diagonal, out=pivot_root)
        np.divide(1.0, pivot_root, out=pivot_root)
        np.negative(pivot_root, out=work)
        for k in range(j):
            _dot(root[k:j, j], root[k:j, k], out=root[j, k])
            root[j, k] *= work
    return root, smallest


def _dot(left: Floats, right: Floats, out: Floats | None = None) -> Floats:
    """Sum of products over the first axis."""
    if len(left) == 1:
        return np.asarray(np.multiply(left[0], right[0], out=out))
    return np.asarray(np.einsum("kbn,kbn->bn", left, right, out=out))


def _place(row: int, column: int) -> int:
    """Position of an element of a symmetric matrix in its packed form."""
    low, high = min(row, column), max(row, column)
    return high * (high + 1) // 2 + low


def _order_of(packed: Floats) -> int:
    return int((np.sqrt(8 * packed.shape[1] + 1) - 1) / 2)
