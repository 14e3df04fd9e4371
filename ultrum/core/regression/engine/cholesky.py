"""Batched Cholesky solutions: many dependent variables, each on its own rows, over many windows at once.

Sums of products are computed afresh in every window by matrix products, never as differences of running sums, so
one wrong price affects only the windows that contain it. Columns are first centred near their medians. Where the
Cholesky pivots, or a small share of residuals in the sum of squares, indicate a loss of digits, the window is
marked for QR.

Small matrices are stored as arrays (p, p, B, N) or (p, B, N) for B windows and N dependent variables, so each
step of the algebra is one pass over all of them; symmetric matrices are packed by rows of the lower triangle, (B,
q, N) with q = p(p+1)/2.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from ultrum.core.array_types import Bools, Floats

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
