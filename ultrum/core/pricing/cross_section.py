"""One cross-sectional regression for each period, all periods at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ultrum.core.types import Bools, Floats
from ultrum.errors import EstimationError

_LOSS_ALLOWED = 1e-8  # smallest eigenvalue of the scaled moments, before a period goes to QR


@dataclass(frozen=True)
class CrossSections:
    """Slopes (T, p) of every period, NaN where it has too few assets; R² (T,) and assets used (T,)."""

    slopes: Floats
    r2: Floats
    counts: Floats


def cross_sections(returns: Floats, exposures: Sequence[Floats], constant: bool) -> CrossSections:
    """Least squares of each period's returns on the exposures its assets have.

    Parameters
    ----------
    returns : ndarray, shape (T, N)
    exposures : sequence of ndarray, each (T, N) or (N,)
        Missing values drop the asset from that period.
    constant : bool
    """
    periods, assets = returns.shape
    used: Bools = np.asarray(np.isfinite(returns))
    for values in exposures:
        used = used & np.isfinite(values)
    count = len(exposures) + int(constant)
    X = np.empty((periods, count, assets))
    if constant:
        X[:, 0] = used
    for k, values in enumerate(exposures, start=int(constant)):
        X[:, k] = values
        np.copyto(X[:, k], 0.0, where=~used)
    y = np.where(used, returns, 0.0)
    moments, cross = X @ X.transpose(0, 2, 1), (X @ y[:, :, None])[:, :, 0]
    counts = used.sum(axis=1)
    slopes, loose = _solved(moments, cross)
    enough = counts > count
    for period in np.flatnonzero(loose & enough):
        slopes[period] = _by_qr(X[period][:, used[period]].T, y[period, used[period]])
    slopes[~enough] = np.nan
    residuals = y - np.einsum("tpn,tp->tn", X, slopes)
    residuals *= used
    mean = y.sum(axis=1) / np.maximum(counts, 1) if constant else np.zeros(periods)
    about = (y - mean[:, None]) * used
    with np.errstate(invalid="ignore", divide="ignore"):
        r2 = 1.0 - np.sum(residuals**2, axis=1) / np.sum(about**2, axis=1)
    return CrossSections(slopes, r2, counts.astype(np.float64))


def _solved(moments: Floats, cross: Floats) -> tuple[Floats, Bools]:
    """Solutions of the normal equations scaled to unit diagonal, and which of them lose digits."""
    scale = np.sqrt(np.einsum("tpp->tp", moments))
    scale[~(scale > 0)] = 1.0
    scaled = moments / (scale[:, :, None] * scale[:, None, :])
    smallest = np.linalg.eigvalsh(scaled)[:, 0]
    loose: Bools = np.asarray(~(smallest > _LOSS_ALLOWED))
    scaled[loose] = np.eye(moments.shape[1])
    return np.linalg.solve(scaled, (cross / scale)[:, :, None])[:, :, 0] / scale, loose


def _by_qr(X: Floats, y: Floats) -> Floats:
    length = np.linalg.norm(X, axis=0)
    if not (length > 0).all():
        return np.full(X.shape[1], np.nan)
    Q, R = np.linalg.qr(X / length)
    if np.abs(np.diag(R)).min() < len(X) * np.finfo(float).eps:
        return np.full(X.shape[1], np.nan)  # exposures depend on each other in this period
    return np.asarray(np.linalg.solve(R, Q.T @ y) / length)


def refuse_empty(slopes: Floats, names: Sequence[str]) -> None:
    """Say so when no period has an estimate."""
    if not np.isfinite(slopes).all(axis=1).any():
        raise EstimationError(
            f"No period has more assets with returns and exposures than the {len(names)} coefficients "
            f"({', '.join(names)}), or the exposures depend on each other in all of them."
        )
