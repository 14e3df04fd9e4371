"""Covariance estimators of least-squares coefficients: classical, HC0 to HC3, Newey–West, cosines.

Every estimator is a quadratic form in the columns of the influence matrix A = (X'X)⁻¹X', which
comes from QR; X'X itself is never formed. Arrays: A is (p,T), residuals E are (T,N), results are
(N,p,p).
"""

from __future__ import annotations

from typing import Final

import numpy as np

from ultrum.core.array_types import Floats, Ints
from ultrum.core.regression.engine.cosine import (
    cosine_counts,
    equal_weighted_cosine,
    fixed_b_degrees,
)
from ultrum.core.regression.engine.newey_west import AUTOMATIC, newey_west
from ultrum.errors import EstimationError, one_of

_WORDS: Final = {
    "hac": "Newey–West", "classical": "classical", "clustered": "clustered", "sandwich": "sandwich",
    "hac-fixed-b": "Newey–West (fixed-b)", "ewc": "cosine", "ewc-prewhitened": "prewhitened cosine",
    "cr3": "clustered (jackknife)",
}  # fmt: skip
HAC: Final = ("hac", "hac-fixed-b")  # kinds that have lags
COSINE: Final = ("ewc", "ewc-prewhitened")
ERRORS: Final = ("classical", "hc0", "hc1", "hc2", "hc3", *HAC, *COSINE)
CLUSTERED: Final = ("cr3",)  # kinds that need clusters


def check_errors(errors: str, lags: int | str | None, *, clustered: bool = False) -> str:
    """Kind of standard errors in lower case, and refusal of lags that it has no use for.

    Examples
    --------
    >>> check_errors("HC3", None)
    'hc3'
    """
    kind = str(errors).lower()
    if kind not in (*ERRORS, *CLUSTERED):
        raise EstimationError(f"errors='{errors}' is not a kind of errors; {one_of(kind, ERRORS)}")
    if kind in CLUSTERED and not clustered:
        raise EstimationError(f"errors='{errors}' needs the clusters of the rows; give clusters=.")
    if lags is None:
        return kind
    if kind not in HAC or clustered:
        used = "clusters" if clustered else f"errors='{errors}'"
        raise EstimationError(f"lags={lags} has no effect with {used}; remove lags, or set errors='hac'.")
    if isinstance(lags, str):
        if lags != AUTOMATIC:
            raise EstimationError(f"lags='{lags}' is not a number of periods; give one, or '{AUTOMATIC}'.")
    elif lags < 0:
        raise EstimationError(f"lags={lags}: give a number of periods, 0 or more.")
    return kind


def prewhitened(errors: str) -> str:
    """The kind of errors after an autoregression of each score, for those that have one."""
    if errors.lower() != "ewc":
        raise EstimationError(
            f"prewhiten=True has no effect with errors='{errors}'; set errors='ewc' or leave it out."
        )
    return "ewc-prewhitened"


def errors_name(kind: str) -> str:
    """Name of a kind of standard errors, for people."""
    return _WORDS.get(kind, kind.upper())


def errors_in_words(kind: str) -> str:
    """The same in words.

    Examples
    --------
    >>> errors_in_words("hac")
    'Newey–West errors'
    """
    return f"{errors_name(kind)} errors"


def covariance(
    errors: str,
    influence: Floats,
    residuals: Floats,
    leverage: Floats,
    moments: Ints,
    lags: int | None,
) -> Floats:
    """Covariance (N,p,p) by name.

    Parameters
    ----------
    errors : {"classical", "hc0", "hc1", "hc2", "hc3", "hac", "hac-fixed-b", "ewc", "ewc-prewhitened"}
        See the functions below for the formulas.
    influence : ndarray, shape (p, T)
        (X'X)⁻¹X', the weight of each row in each coefficient.
    residuals : ndarray, shape (T, N)
    leverage : ndarray, shape (T,)
        Diagonal of X(X'X)⁻¹X'.
    moments : ndarray of int64, shape (T,)
        Ordinal of each row, so that lags count periods and not rows.
    lags : int, optional
        Only for hac; by default :func:`~ultrum.core.regression.engine.newey_west.lag_rule`.
    """
    if errors == "classical":
        return classical(influence, residuals)
    if errors in HAC:
        return newey_west(influence, residuals, moments, lags)
    if errors in COSINE:
        return equal_weighted_cosine(influence, residuals, moments, errors != "ewc")
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
    """Degrees of freedom of t for a kind of errors without clusters.

    Parameters
    ----------
    errors : str
        Kind of errors.
    rows : ndarray of int
        Rows of each regression.
    terms : int
        Coefficients.
    lags : ndarray, optional
        Lags of each, for Newey and West's errors.

    Returns
    -------
    ndarray
        T − p; the number of cosines for theirs; for fixed-b those with the same critical value.
    """
    own: Floats = np.asarray(rows, dtype=float) - terms
    if errors in COSINE:
        return np.minimum(cosine_counts(np.asarray(rows)), np.maximum(own, 1)).astype(float)
    if errors == "hac-fixed-b" and lags is not None:
        return np.asarray(np.minimum(fixed_b_degrees(lags, np.maximum(rows, 1)), own))
    return own
