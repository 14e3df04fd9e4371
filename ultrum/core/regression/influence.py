"""Influence of each row of a regression."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.core.regression.engine.qr import orthonormal


def weighted_rows(design: pd.DataFrame, response: pd.Series, weights: pd.Series | None) -> tuple[Floats, Floats]:
    """Regressors and response, each row times the root of its weight."""
    X, y = design.to_numpy(dtype=np.float64), response.to_numpy(dtype=np.float64)
    if weights is None:
        return X, y
    root = np.sqrt(weights.to_numpy(dtype=np.float64))
    return X * root[:, None], y * root


def influence_table(X: Floats, residuals: Floats, index: pd.Index) -> pd.DataFrame:
    """Leverage, scaled residuals, and what leaving out each row would do (Cook 1977; Belsley and others 1980).

    Parameters
    ----------
    X, residuals : ndarray, shape (T, p) and (T,)
    index : Index
    """
    rows, terms = X.shape
    Q = orthonormal(X)
    leverage = np.sum(Q * Q, axis=1)
    slack = np.maximum(1.0 - leverage, np.finfo(float).eps)
    sigma = np.sqrt(residuals @ residuals / (rows - terms))
    with np.errstate(divide="ignore", invalid="ignore"):
        standardised = residuals / (sigma * np.sqrt(slack))
        outside = standardised * np.sqrt((rows - terms - 1) / np.maximum(rows - terms - standardised**2, 0.0))
        columns = {
            "leverage": leverage,
            "residual": residuals,
            "standardised": standardised,
            "studentised": outside,
            "cook": standardised**2 * leverage / (slack * terms),
            "shift": outside * np.sqrt(leverage / slack),
        }
    return pd.DataFrame(columns, index)
