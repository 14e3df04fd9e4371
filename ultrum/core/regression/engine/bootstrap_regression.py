"""Bootstrap regressions: the coefficients of all draws from moments weighted by row counts."""

from __future__ import annotations

import numpy as np

from ultrum.core.array_types import Floats
from ultrum.core.regression.engine import cholesky


def drawn_coefficients(design: Floats, response: Floats, counts: Floats, constant: bool) -> Floats:
    """Least-squares coefficients of every bootstrap draw, each asset on the rows it has.

    Parameters
    ----------
    design, response : ndarray, shape (T, p) and (T, N)
        The design has no missing values.
    counts : ndarray, shape (draws, T)
        How often each draw takes each row.
    constant : bool
        Whether the first column is one.

    Returns
    -------
    ndarray, shape (p, N, draws)
        Missing where a draw has no more distinct rows than coefficients.
    """
    shift = cholesky.Shift.of(design, constant)
    moved = shift.apply(design)
    products = cholesky.packed_products(moved)
    weights = counts.T
    coefficients = np.empty((design.shape[1], response.shape[1], len(counts)))
    for asset, values in enumerate(response.T):
        used = np.isfinite(values)
        y = np.where(used, values - (np.median(values[used]) if constant and used.any() else 0.0), 0.0)
        gram = (products * used[:, None]).T @ weights
        cross, squares = (moved * y[:, None]).T @ weights, (y * y) @ weights
        with np.errstate(divide="ignore", invalid="ignore"):
            solution = cholesky.solve_batch(gram[None], cross[None], squares[None], constant)
        of_asset = solution.coefficients[:, 0] / shift.spread[:, None]
        for draw in np.flatnonzero(solution.loose[0]):
            of_asset[:, draw] = _by_rows(design[used], values[used], counts[draw][used])
        coefficients[:, asset] = of_asset
    return coefficients


def _by_rows(design: Floats, values: Floats, counts: Floats) -> Floats:
    """One draw, by its rows, whose moments lose digits."""
    if np.count_nonzero(counts) <= design.shape[1]:
        return np.full(design.shape[1], np.nan)
    root = np.sqrt(counts)
    return np.asarray(np.linalg.lstsq(design * root[:, None], values * root, rcond=None)[0])
