"""Covariance estimators of least-squares coefficients: classical, HC0 to HC3, Newey–West.

Every estimator is a quadratic form in the columns of the influence matrix A = (X'X)⁻¹X', which
comes from QR; X'X itself is never formed. Arrays: A is (p,T), residuals E are (T,N), results are
(N,p,p).
"""

from __future__ import annotations

from typing import Final

import numpy as np

from ultrum.core.array_types import Floats, Ints
from ultrum.core.regression.engine.newey_west import AUTOMATIC, newey_west
from ultrum.errors import EstimationError, one_of

_WORDS: Final = {
    "hac": "Newey–West", "classical": "classical", "clustered": "clustered", "sandwich": "sandwich",
}  # fmt: skip
ERRORS: Final = ("classical", "hc0", "hc1", "hc2", "hc3", "hac")


def check_errors(errors: str, lags: int | str | None, *, clustered: bool = False) -> str:
    """Kind of standard errors in lower case, and refusal of lags that it has no use for.

    Examples
    --------
    >>> check_errors("HC3", None)
    'hc3'
    """
    kind = str(errors).lower()
    if kind not in ERRORS:
        raise EstimationError(f"errors='{errors}' is not a kind of errors; {one_of(kind, ERRORS)}")
    if lags is None:
        return kind
    if kind != "hac" or clustered:
        used = "clusters" if clustered else f"errors='{errors}'"
        raise EstimationError(
            f"lags={lags} has no effect with {used}; remove lags, or set errors='hac'."
        )
    if isinstance(lags, str):
        if lags != AUTOMATIC:
            raise EstimationError(
                f"lags='{lags}' is not a number of periods; give one, or '{AUTOMATIC}'."
            )
    elif lags < 0:
        raise EstimationError(f"lags={lags}: give a number of periods, 0 or more.")
    return kind


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
    errors : {"classical", "hc0", "hc1", "hc2", "hc3", "hac"}
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
    if errors == "hac":
        return newey_west(influence, residuals, moments, lags)
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
