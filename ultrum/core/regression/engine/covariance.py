"""Covariance estimators of coefficients: classical, HC0 to HC3, Newey–West, one- or two-way clustered.

Every estimator is a quadratic form in the columns of the influence matrix A = (X'X)⁻¹X', which
comes from QR; X'X itself is never formed. Arrays: A is (p,T), residuals E are (T,N), results are
(N,p,p).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

import numpy as np

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.regression.engine.least_squares import orthonormal
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
