"""Long-run variance by equal-weighted cosine transforms, and critical values of Newey–West with fixed lags."""

from __future__ import annotations

from typing import Final

import numpy as np
import scipy.special

from ultrum.core.array_types import Floats, Ints
from ultrum.core.regression.engine.newey_west import on_calendar

_MOST_PERSISTENT: Final = 0.97  # bound of the autoregression that prewhitens (Andrews and Monahan 1992)


def cosine_count(rows: int) -> int:
    """Cosine transforms that are averaged, ν = floor(0.4 T^(2/3)) (Lazarus, Lewis, Stock and Watson 2018).

    Examples
    --------
    >>> cosine_count(60), cosine_count(600)
    (6, 28)
    """
    return int(cosine_counts(np.array(rows)))


def cosine_counts(rows: Ints) -> Ints:
    """The same for many samples at once, at least one."""
    counts = np.floor(0.4 * np.cbrt(np.asarray(rows, dtype=float)) ** 2)
    return np.asarray(np.maximum(counts, 1), dtype=np.int64)


def cosine_waves(count: int, rows: int) -> Floats:
    """Orthonormal cosines √(2/T)·cos(πj(t − 1/2)/T), shape (count, T), j from 1."""
    times = (np.arange(rows) + 0.5) / rows
    waves: Floats = np.cos(np.pi * np.arange(1, count + 1)[:, None] * times)
    return np.asarray(np.sqrt(2.0 / rows) * waves)


def cosine_sum(scores: Floats, positions: Ints | None, prewhiten: bool, count: int | None = None) -> Floats:
    """T times the long-run variance of scores (T, p, N), shape (N, p, p); absent periods have zero scores.

    With ``prewhiten`` each score is first regressed on its own past, and the variance of what is left is
    divided by (1 − ρ)(1 − ρ'), after Andrews and Monahan (1992). ρ is corrected for its bias.
    """
    line, _ = on_calendar(scores, positions)
    count = cosine_count(len(scores)) if count is None else count
    if not prewhiten:
        return _averaged(line, count, len(line))
    past, now = line[:-1], line[1:]
    with np.errstate(invalid="ignore", divide="ignore"):
        rho = np.sum(past * now, axis=0) / np.sum(past * past, axis=0)
    rho = np.nan_to_num(rho) + (1.0 + 3.0 * np.nan_to_num(rho)) / len(line)  # Kendall (1954)
    rho = np.clip(rho, -_MOST_PERSISTENT, _MOST_PERSISTENT)
    total = _averaged(now - rho * past, count, len(line))
    scale = (1.0 / (1.0 - rho)).T
    return np.asarray(total * scale[:, :, None] * scale[:, None, :])


def _averaged(line: Floats, count: int, rows: int) -> Floats:
    """Mean over the transforms of their products, times the rows."""
    waves = cosine_waves(count, len(line))
    parts = np.tensordot(waves, line, axes=(1, 0))
    return np.asarray(np.einsum("jpn,jqn->npq", parts, parts) * rows / count)


def equal_weighted_cosine(influence: Floats, residuals: Floats, moments: Ints, prewhiten: bool) -> Floats:
    """Covariances (N, p, p) with factor T/(T − p), for Student's t with ν degrees of freedom.

    Parameters
    ----------
    influence, residuals : ndarray, shape (p, T) and (T, N)
    moments : ndarray of int, shape (T,)
        Ordinal of each row.
    prewhiten : bool
        Whether each score is regressed on its own past first.
    """
    columns, rows = influence.shape
    scores = influence.T[:, :, None] * residuals[:, None, :]
    return np.asarray(cosine_sum(scores, moments, prewhiten) * rows / (rows - columns))


def fixed_b_degrees(lags: Floats, rows: Floats) -> Floats:
    """Degrees of freedom at which Student's t has the 5 % critical value of Kiefer and Vogelsang (2005).

    With Bartlett weights and b = (lags + 1)/T it is 1.9600 + 2.9694b + 0.4160b² − 0.5324b³, two-sided.

    Examples
    --------
    >>> fixed_b_degrees(np.array([4.0, 24.0]), np.array([250.0, 250.0])).round(1).tolist()
    [41.0, 9.0]
    """
    share = np.clip((np.asarray(lags, float) + 1.0) / np.asarray(rows, float), 0.0, 1.0)
    critical = 1.9600 + 2.9694 * share + 0.4160 * share**2 - 0.5324 * share**3
    return np.asarray(scipy.special.stdtridf(0.975, np.round(critical, 6)))
