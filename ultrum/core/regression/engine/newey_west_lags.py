"""Lags of Newey–West errors: the fixed rule and the automatic choice."""

from __future__ import annotations

from typing import Final

import numpy as np

from ultrum.core.array_types import Floats, Ints

AUTOMATIC: Final = "automatic"


def lag_rule(rows: int) -> int:
    """floor(4(T/100)^(2/9)), after Newey and West (1994).

    Examples
    --------
    >>> lag_rule(252)
    4
    """
    return int(4.0 * (rows / 100.0) ** (2.0 / 9.0))


def lags_of(
    rule: int | str | None, X: Floats, residuals: Floats, places: Ints, constant: bool
) -> Ints:
    """Lags of each left-hand side, shape (N,).

    Parameters
    ----------
    rule : int, "automatic" or None
    X, residuals : ndarray, shape (T, p) and (T, N)
    places : ndarray of int, shape (T,)
        Ordinal of each row.
    constant : bool
        Whether the first column is one; it has no weight in the plug-in.
    """
    count = residuals.shape[1]
    if rule is None:
        return np.full(count, lag_rule(len(X)))
    if rule != AUTOMATIC:
        return np.full(count, int(rule))
    scores = _score_sums(X, residuals, places, constant)
    return np.array([_plug_in(scores[:, i], len(X)) for i in range(count)], dtype=np.int64)


def _score_sums(X: Floats, residuals: Floats, places: Ints, constant: bool) -> Floats:
    """Sum of the scores of all factors, each first brought to unit length, by calendar period, (S,N)."""
    factors = X[:, 1:] if constant and X.shape[1] > 1 else X
    weight = (factors / np.sqrt(np.mean(factors**2, axis=0))).sum(axis=1)
    sums = np.zeros((int(places[-1] - places[0]) + 1, residuals.shape[1]))
    sums[places - places[0]] = weight[:, None] * residuals
    return sums


def _plug_in(scores: Floats, rows: int) -> int:
    """Newey and West (1994) for Bartlett weights, from truncated sums of autocovariances."""
    most = min(lag_rule(rows), len(scores) - 1)
    covariances = np.array([scores[lag:] @ scores[: len(scores) - lag] for lag in range(most + 1)])
    level = covariances[0] + 2.0 * covariances[1:].sum()
    slope = 2.0 * np.arange(1, most + 1) @ covariances[1:]
    if not level:
        return 0
    wanted = 1.1447 * ((slope / level) ** 2 * rows) ** (1.0 / 3.0)
    return int(min(wanted, len(scores) - 1))
