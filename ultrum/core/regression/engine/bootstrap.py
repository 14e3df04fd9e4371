"""Bootstrap: stationary blocks of time (Politis and Romano 1994), and coefficients of all draws."""

from __future__ import annotations

import numpy as np

from ultrum.core.array_types import Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.regression.engine import cholesky
from ultrum.errors import EstimationError


def block_length(block: Floats) -> float:
    """Mean block length of the stationary bootstrap: the largest over the columns.

    Politis and White (2004) with the correction of Patton, Politis and White (2009): flat-top weights
    over twice the lag after which autocorrelations are small.

    Parameters
    ----------
    block : ndarray, shape (T, K)
        Without gaps.

    Examples
    --------
    >>> block_length(np.random.default_rng(0).normal(size=(240, 1))) < 5
    True
    """
    if len(block) < 10:
        raise EstimationError(f"{quantity(len(block), 'observation')}: a block bootstrap needs at least 10.")
    return max(_length(column) for column in block.T)


def _length(values: Floats) -> float:
    rows = len(values)
    deviations = values - values.mean()
    run = max(5, int(np.ceil(np.sqrt(np.log10(rows)))))
    most = int(np.ceil(np.sqrt(rows))) + run
    lags = min(most + run, rows - 1)
    covariances = np.array([deviations[lag:] @ deviations[: rows - lag] for lag in range(lags + 1)]) / rows
    if not covariances[0] > 0:
        return 1.0
    small = np.abs(covariances[1:] / covariances[0]) < 2.0 * np.sqrt(np.log10(rows) / rows)
    width = min(2 * max(_first_quiet(small, run), 1), most, lags)
    lag = np.arange(1, width + 1)
    weights = np.clip(2.0 * (1.0 - lag / width), 0.0, 1.0)
    slope = 2.0 * np.sum(weights * lag * covariances[1 : width + 1])
    level = covariances[0] + 2.0 * np.sum(weights * covariances[1 : width + 1])
    longest = np.ceil(min(3.0 * np.sqrt(rows), rows / 3.0))
    if not level:
        return float(longest)
    return float(np.clip((slope**2 / level**2 * rows) ** (1.0 / 3.0), 1.0, longest))


def _first_quiet(small: np.ndarray, run: int) -> int:
    """The lag after which a run of autocorrelations is small; otherwise the last large one."""
    for start in range(len(small) - run + 1):
        if small[start : start + run].all():
            return start
    return int(np.flatnonzero(~small)[-1]) + 1 if (~small).any() else 0


def stationary_rows(rows: int, draws: int, block: float, seed: int | np.random.Generator) -> Ints:
    """Row numbers of each draw, shape (draws, rows): blocks of geometric length (Politis and Romano 1994).

    Examples
    --------
    >>> stationary_rows(6, 2, 3.0, 0).shape
    (2, 6)
    """
    generator = np.random.default_rng(seed)
    begun = generator.random((draws, rows)) < 1.0 / max(block, 1.0)
    begun[:, 0] = True
    place = np.arange(rows)
    since = np.maximum.accumulate(np.where(begun, place, 0), axis=1)
    first = generator.integers(0, rows, (draws, rows))
    return np.asarray((np.take_along_axis(first, since, axis=1) + place - since) % rows)


def drawn_periods(positions: Ints, draws: int, block: float, seed: int | np.random.Generator) -> Ints:
    """Row of each period in each draw, shape (draws, S); −1 for a period without a row.

    Blocks are stretches of the calendar, so rows on both sides of a gap are not adjacent.

    Parameters
    ----------
    positions : ndarray of int, shape (T,)
        Periods of the rows, increasing; S periods from first to last.
    draws : int
    block : float
        Average length of a block, in periods.
    seed : int or Generator

    Examples
    --------
    >>> drawn_periods(np.array([0, 1, 4]), 1, 2.0, 1).shape
    (1, 5)
    """
    span = int(positions[-1] - positions[0]) + 1
    row_at = np.full(span, -1, dtype=np.int64)
    row_at[positions - positions[0]] = np.arange(len(positions))
    return np.asarray(row_at[stationary_rows(span, draws, block, seed)])


def row_counts(drawn: Ints, rows: int) -> Floats:
    """How often each draw takes each row, shape (draws, rows); enough for any sum over rows. −1 marks no row."""
    draws = len(drawn)
    flat = (drawn + rows * np.arange(draws)[:, None])[drawn >= 0]
    return np.bincount(flat, minlength=draws * rows).reshape(draws, rows).astype(np.float64)


# Bootstrap regressions: the coefficients of all draws from moments weighted by row counts


def drawn_coefficients(design: Floats, response: Floats, counts: Floats, constant: bool) -> Floats:
    """Least-squares coefficients of every bootstrap draw, each asset on its own observations.

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
        Missing where a draw has no more distinct observations than coefficients.
    """
    shift = cholesky.Shift.of(design, constant)
    moved = shift.apply(design)
    products = cholesky.pack_products(moved)
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
    """One ill-conditioned draw, solved from its rows."""
    if np.count_nonzero(counts) <= design.shape[1]:
        return np.full(design.shape[1], np.nan)
    root = np.sqrt(counts)
    return np.asarray(np.linalg.lstsq(design * root[:, None], values * root, rcond=None)[0])
