"""Covariance estimators of coefficients, and the stationary bootstrap.

Every estimator is a quadratic form in the columns of the influence matrix A = (X'X)⁻¹X', which
comes from QR; X'X itself is never formed. Arrays: A is (p,T), residuals E are (T,N), results are
(N,p,p).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

import numpy as np

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.regression.engine.least_squares import Shift, orthonormal, pack_products, solve_batch
from ultrum.core.regression.engine.newey_west_and_fixed_b import (
    AUTOMATIC,
    cosine_counts,
    cosine_covariance,
    fixed_b_degrees,
    newey_west,
)
from ultrum.errors import EstimationError, one_of, warn_user

_WORDS: Final = {
    "hac": "Newey–West (HAC)",
    **{f"hc{k}": f"heteroskedasticity-robust (HC{k})" for k in range(4)},
    "classical": "classical",
    "clustered": "clustered",
    "sandwich": "heteroskedasticity-robust",
    "hac-fixed-b": "Newey–West (HAC, fixed-b)",
    "ewc": "EWC (equal-weighted cosine)",
    "ewc-prewhitened": "prewhitened EWC (equal-weighted cosine)",
    "cr3": "clustered (CR3 jackknife)",
}
HAC: Final = ("hac", "hac-fixed-b")  # kinds that have lags
COSINE: Final = ("ewc", "ewc-prewhitened")
ERRORS: Final = ("classical", "hc0", "hc1", "hc2", "hc3", *HAC, *COSINE)
CLUSTERED: Final = ("clustered", "cr3")  # kinds of clusters


def check_errors(errors: str, lags: int | str | None, *, clustered: bool = False) -> str:
    """Kind of standard errors in lower case; refuses lags that it does not use.

    Examples
    --------
    >>> check_errors("HC3", None)
    'hc3'
    """
    kind = str(errors).lower()
    if kind not in (*ERRORS, "cr3"):
        raise EstimationError(f"errors='{errors}' is not a kind of errors; {one_of(kind, ERRORS)}")
    if kind == "cr3" and not clustered:
        raise EstimationError(f"errors='{errors}' needs clusters=: one label per observation.")
    if lags is None:
        return kind
    if kind not in HAC or clustered:
        if clustered:
            raise EstimationError(f"lags={lags} has no effect with clusters. Remove lags, or clusters.")
        raise EstimationError(
            f"lags={lags} has no effect with errors='{errors}'. Remove lags, or set errors='hac'."
        )
    if isinstance(lags, str):
        if lags != AUTOMATIC:
            raise EstimationError(f"lags='{lags}' is not a number of periods. Use an integer, or '{AUTOMATIC}'.")
    elif lags < 0:
        raise EstimationError(f"lags={lags}: it must be 0 or more.")
    return kind


def prewhitening_kind(errors: str) -> str:
    """The prewhitened version of a kind of standard errors, where there is one."""
    if errors.lower() != "ewc":
        raise EstimationError(
            f"prewhiten=True has no effect with errors='{errors}'. Set errors='ewc', or remove prewhiten."
        )
    return "ewc-prewhitened"


def errors_name(kind: str) -> str:
    """Printed name of a kind of standard errors."""
    return _WORDS.get(kind, kind.upper())


def errors_in_words(kind: str) -> str:
    """The same in words.

    Examples
    --------
    >>> errors_in_words("hac")
    'Newey–West (HAC) standard errors'
    """
    return f"{errors_name(kind)} standard errors"


def covariance(
    errors: str, influence: Floats, residuals: Floats, leverage: Floats, moments: Ints, lags: int | None
) -> Floats:
    """Covariance (N,p,p) of a named kind.

    Parameters
    ----------
    errors : {"classical", "hc0", "hc1", "hc2", "hc3", "hac", "hac-fixed-b", "ewc", "ewc-prewhitened"}
        The formulas are in the functions below.
    influence : ndarray, shape (p, T)
        (X'X)⁻¹X', the weight of each observation in each coefficient.
    residuals : ndarray, shape (T, N)
    leverage : ndarray, shape (T,)
        Diagonal of X(X'X)⁻¹X'.
    moments : ndarray of int64, shape (T,)
        Ordinal of each observation, so that lags count periods.
    lags : int, optional
        Used by hac only; by default :func:`~ultrum.core.regression.engine.newey_west_and_fixed_b.lag_rule`.
    """
    if errors == "classical":
        return classical(influence, residuals)
    if errors in HAC:
        return newey_west(influence, residuals, moments, lags)
    if errors in COSINE:
        return cosine_covariance(influence, residuals, moments, errors != "ewc")
    if errors in ERRORS:
        return heteroskedastic(influence, residuals, leverage, errors)
    raise EstimationError(f"errors='{errors}' is not known; {one_of(errors, ERRORS)}")


def classical(influence: Floats, residuals: Floats) -> Floats:
    """s²(X'X)⁻¹ with s² = RSS/(T−p)."""
    rows, columns = influence.shape[1], influence.shape[0]
    variance = np.sum(residuals**2, axis=0) / (rows - columns)
    return np.asarray(variance[:, None, None] * (influence @ influence.T))


def heteroskedastic(influence: Floats, residuals: Floats, leverage: Floats, kind: str) -> Floats:
    """White (1980) HC0; HC1 = HC0·T/(T−p); HC2 and HC3 of MacKinnon and White (1985)."""
    rows, columns = influence.shape[1], influence.shape[0]
    weight = residuals**2
    if kind in ("hc2", "hc3"):
        slack = np.maximum(1.0 - leverage, np.finfo(float).eps)[:, None]
        weight = weight / (slack if kind == "hc2" else slack**2)
    meat = np.einsum("pt,tn,qt->npq", influence, weight, influence, optimize=True)
    return np.asarray(meat * rows / (rows - columns) if kind == "hc1" else meat)


def degrees_of_freedom(errors: str, rows: Ints, terms: int, lags: Floats | None = None) -> Floats:
    """Degrees of freedom of t for a kind of standard errors without clusters.

    Parameters
    ----------
    errors : str
        Kind of errors.
    rows : ndarray of int
        Observations of each regression.
    terms : int
        Coefficients.
    lags : ndarray, optional
        Lags of each regression, for Newey–West standard errors.

    Returns
    -------
    ndarray
        T − p; for EWC the number of cosines; for fixed-b the degrees with the same critical value.
    """
    residual: Floats = np.asarray(rows, dtype=float) - terms
    if errors in COSINE:
        return np.minimum(cosine_counts(np.asarray(rows)), np.maximum(residual, 1)).astype(float)
    if errors == "hac-fixed-b" and lags is not None:
        return np.asarray(np.minimum(fixed_b_degrees(lags, np.maximum(rows, 1)), residual))
    return residual


# Cluster-robust covariances, one way or two

_SINGULAR: Final = 1e10  # condition number


def cluster_covariance(influence: Floats, residuals: Floats, codes: Ints) -> Floats:
    """Two-way clustering (Cameron, Gelbach and Miller 2011): by the first label, plus by the second, minus by
    both.

    Parameters
    ----------
    influence : ndarray, shape (p, T)
    residuals : ndarray, shape (T, N)
    codes : ndarray of int, shape (T, ways)
        Cluster of each observation, in one or two ways.

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
    return _nearest_positive(total - _one_way(influence, residuals, both.reshape(-1)))


def jackknife_covariance(X: Floats, influence: Floats, residuals: Floats, codes: Ints) -> Floats:
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
        raise EstimationError("Clustered standard errors need at least 2 clusters; all observations are in one.")
    place = np.unique(codes[:, 0], return_inverse=True)[1]
    moves = np.empty((groups, X.shape[1], residuals.shape[1]))
    for group, rows, pull in _pulls(X, influence, place):
        moves[group] = pull @ residuals[rows]
    return np.asarray((groups - 1) / groups * np.einsum("gpn,gqn->npq", moves, moves))


def leave_one_out(X: Floats, influence: Floats, codes: Ints, which: int) -> Floats:
    """Change of one coefficient per unit of each residual when its cluster is deleted, shape (T,)."""
    pulls = np.empty(len(X))
    for _, rows, pull in _pulls(X, influence, codes):
        pulls[rows] = pull[which]
    return pulls


def _pulls(X: Floats, influence: Floats, place: Ints) -> Iterator[tuple[int, Bools, Floats]]:
    """Each cluster: its rows, and b − b₍g₎ as a matrix times its residuals."""
    Q = orthonormal(X)
    back, groups = influence @ Q, int(place.max()) + 1  # from coefficients of Q to those of X
    for group in range(groups):
        rows: Bools = np.asarray(place == group)
        slack = np.eye(Q.shape[1]) - Q[rows].T @ Q[rows]
        if np.linalg.cond(slack) > _SINGULAR:
            raise EstimationError(
                f"errors='cr3': a coefficient is not identified when cluster {group + 1} of {groups} is "
                "deleted, so the cluster "
                "jackknife fails. Remove errors= (clustered standard errors), or use wild_cluster_test."
            )
        yield group, rows, back @ np.linalg.solve(slack, Q[rows].T)


def smallest_count(codes: Ints) -> int:
    """Cluster labels of the way with fewest clusters."""
    return min(len(np.unique(codes[:, way])) for way in range(codes.shape[1]))


def _one_way(influence: Floats, residuals: Floats, codes: Ints) -> Floats:
    terms, rows = influence.shape
    labels, place = np.unique(codes, return_inverse=True)
    groups = len(labels)
    if groups < 2:
        raise EstimationError("Clustered standard errors need at least 2 clusters; all observations are in one.")
    scores = influence.T[:, :, None] * residuals[:, None, :]
    sums = np.zeros((groups, *scores.shape[1:]))
    np.add.at(sums, place, scores)
    factor = groups / (groups - 1) * (rows - 1) / (rows - terms)
    return np.asarray(factor * np.einsum("gpn,gqn->npq", sums, sums))


def _nearest_positive(covariance: Floats) -> Floats:
    """The nearest covariance without negative eigenvalues.

    Examples
    --------
    >>> import warnings
    >>> with warnings.catch_warnings(record=True) as caught:
    ...     _nearest_positive(np.array([[[1.0, 2.0], [2.0, 1.0]]])).round(12).tolist()
    [[[1.5, 1.5], [1.5, 1.5]]]
    >>> len(caught)
    1
    """
    values, vectors = np.linalg.eigh(covariance)
    if (values < 0).any():
        warn_user("The two-way clustered covariance is not positive; its negative eigenvalues are set to zero.")
    return np.asarray((vectors * np.maximum(values, 0.0)[:, None, :]) @ vectors.swapaxes(1, 2))


# The bootstrap


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
    shift = Shift.of(design, constant)
    moved = shift.apply(design)
    products = pack_products(moved)
    weights = counts.T
    coefficients = np.empty((design.shape[1], response.shape[1], len(counts)))
    for asset, values in enumerate(response.T):
        used = np.isfinite(values)
        y = np.where(used, values - (np.median(values[used]) if constant and used.any() else 0.0), 0.0)
        gram = (products * used[:, None]).T @ weights
        cross, squares = (moved * y[:, None]).T @ weights, (y * y) @ weights
        with np.errstate(divide="ignore", invalid="ignore"):
            solution = solve_batch(gram[None], cross[None], squares[None], constant)
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
