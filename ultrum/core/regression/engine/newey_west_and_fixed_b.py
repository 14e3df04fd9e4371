"""Long-run variance: Newey–West, equal-weighted cosine (EWC) and fixed-b inference."""

from __future__ import annotations

from typing import Final

import numpy as np
import scipy.special
from numpy.typing import ArrayLike

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.errors import EstimationError

AUTOMATIC: Final = "automatic"


def check_depth(lags: int | str | None, rows: int) -> None:
    """Refuse lags beyond the sample; their sum would tend to zero for any data.

    Examples
    --------
    >>> check_depth(4, 60), check_depth("automatic", 60)
    (None, None)
    """
    if lags is not None and not isinstance(lags, str) and lags >= rows:
        raise EstimationError(
            f"lags={lags} for {quantity(rows, 'observation')}: use fewer lags than observations."
        )


def lag_rule(rows: int) -> int:
    """floor(4(T/100)^(2/9)), after Newey and West (1994).

    Examples
    --------
    >>> lag_rule(252)
    4
    """
    return int(lag_rules(np.array(rows)))


def lag_rules(rows: Ints) -> Ints:
    """The same rule for many samples."""
    return np.asarray(4.0 * (rows / 100.0) ** (2.0 / 9.0)).astype(np.int64)


def bartlett_weight(lag: int, lags: ArrayLike) -> Floats:
    """Weight 1 − lag/(lags + 1) of a lag, zero beyond the last one."""
    return np.maximum(1.0 - lag / (np.asarray(lags) + 1.0), 0.0)


def on_calendar(values: Floats, positions: Ints | None, empty: float = 0.0) -> tuple[Floats, Ints]:
    """Rows placed at their periods, with ``empty`` where a period has none; and the position of each row.

    Zero scores at missing periods make lags count periods (Parzen 1963).

    Examples
    --------
    >>> on_calendar(np.array([1.0, 2.0]), np.array([5, 7]))[0].tolist()
    [1.0, 0.0, 2.0]
    """
    if positions is None or not len(positions):
        return values, np.arange(len(values))
    places = positions - positions[0]
    periods = int(places[-1]) + 1
    if periods == len(values):
        return values, places
    line = np.full((periods, *values.shape[1:]), empty)
    line[places] = values
    return line, places


def bartlett_sum(scores: Floats, lags: int, positions: Ints | None = None) -> Floats:
    """Long-run products of scores with Bartlett weights, after Newey and West (1987).

    Parameters
    ----------
    scores : ndarray, shape (T, p)
    lags : int
    positions : ndarray of int, shape (T,), optional
        Period of each row; a missing period contributes zero scores.

    Returns
    -------
    ndarray, shape (p, p)

    Notes
    -----
    Rolling windows add packed products (``windows``), and break tests add them by date (``robust_tests``); both
    use the weights of :func:`bartlett_weight`.
    """
    return _bartlett(np.ascontiguousarray(on_calendar(scores, positions)[0].T), lags)


def _bartlett(scores: Floats, lags: int) -> Floats:
    """The same of scores of consecutive periods in rows, shape (p, S) or (N, p, S)."""
    total = scores @ scores.swapaxes(-1, -2)
    for lag in range(1, min(lags, scores.shape[-1] - 1) + 1):
        cross = scores[..., lag:] @ scores[..., :-lag].swapaxes(-1, -2)
        total += (1.0 - lag / (lags + 1.0)) * (cross + cross.swapaxes(-1, -2))
    return np.asarray(total)


def newey_west(influence: Floats, residuals: Floats, moments: Ints, lags: int | None = None) -> Floats:
    """Newey and West (1987) covariances (N, p, p) with Bartlett weights and factor T/(T−p).

    Parameters
    ----------
    influence, residuals : ndarray, shape (p, T) and (T, N)
    moments : ndarray of int, shape (T,)
        Ordinal of each observation, so that lags count periods.
    lags : int, optional
        By default :func:`lag_rule`.
    """
    columns, rows = influence.shape
    errors = on_calendar(residuals, moments)[0]
    scores = np.ascontiguousarray(on_calendar(influence.T, moments)[0].T) * errors.T[:, None, :]
    total = _bartlett(scores, lag_rule(rows) if lags is None else lags)
    return np.asarray(total * rows / (rows - columns))


def lags_of(rule: int | str | None, X: Floats, residuals: Floats, places: Ints, constant: bool) -> Ints:
    """Lags of each dependent variable, shape (N,).

    Parameters
    ----------
    rule : int, "automatic" or None
    X, residuals : ndarray, shape (T, p) and (T, N)
    places : ndarray of int, shape (T,)
        Ordinal of each row.
    constant : bool
        Whether the first column is one; it has no weight in the plug-in rule.
    """
    count = residuals.shape[1]
    if rule is None:
        return np.full(count, lag_rule(len(X)))
    if rule != AUTOMATIC:
        return np.full(count, int(rule))
    scores = _score_sums(X, residuals, places, constant)
    return np.array([_plug_in(scores[:, i], len(X)) for i in range(count)], dtype=np.int64)


def _score_sums(X: Floats, residuals: Floats, places: Ints, constant: bool) -> Floats:
    """Sum of the scores of all factors, each scaled to unit length, by calendar period, shape (S, N)."""
    factors = X[:, 1:] if constant and X.shape[1] > 1 else X
    weight = (factors / np.sqrt(np.mean(factors**2, axis=0))).sum(axis=1)
    return on_calendar(weight[:, None] * residuals, places)[0]


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


# Long-run variance by equal-weighted cosine transforms, and critical values of Newey–West with fixed lags

_FEWEST_PAIRS: Final = 12  # consecutive observations for an autocorrelation
_SINGULAR: Final = 1e-8  # determinant of a sample in an orthonormal basis, under which it is nearly collinear
_AT_ONCE: Final = 1000  # dependent variables, which bounds the memory
_MOST_PERSISTENT: Final = 0.97  # bound of the autoregression that prewhitens (Andrews and Monahan 1992)


def cosine_count(rows: int) -> int:
    """Number of cosine transforms to average, ν = floor(0.4 T^(2/3)) (Lazarus, Lewis, Stock and Watson 2018).

    Examples
    --------
    >>> cosine_count(60), cosine_count(600)
    (6, 28)
    """
    return int(cosine_counts(np.array(rows)))


def cosine_counts(rows: Ints) -> Ints:
    """The same rule for many samples, at least one."""
    counts = np.floor(0.4 * np.cbrt(np.asarray(rows, dtype=float)) ** 2)
    return np.asarray(np.maximum(counts, 1), dtype=np.int64)


def cosine_waves(count: int, rows: int) -> Floats:
    """Orthonormal cosines √(2/T)·cos(πj(t − 1/2)/T), shape (count, T), j from 1."""
    times = (np.arange(rows) + 0.5) / rows
    waves: Floats = np.cos(np.pi * np.arange(1, count + 1)[:, None] * times)
    return np.asarray(np.sqrt(2.0 / rows) * waves)


def first_autocorrelation(line: Floats) -> Floats:
    """First-order autocorrelation along the first axis, about zero, corrected for its bias (Kendall 1954)."""
    past, now = line[:-1], line[1:]
    with np.errstate(invalid="ignore", divide="ignore"):
        rho = np.sum(past * now, axis=0) / np.sum(past * past, axis=0)
    return np.asarray(rho + (1.0 + 3.0 * rho) / len(line))


def score_autocorrelation(influence: Floats, residuals: Floats, positions: Ints) -> Floats:
    """First autocorrelation of the score of each coefficient, (p, N), over pairs of consecutive periods.

    Parameters
    ----------
    influence, residuals : ndarray, shape (p, T) and (T, N)
    positions : ndarray of int, shape (T,)

    Examples
    --------
    >>> alternating = np.array([[1.0, -1.0] * 20])
    >>> score_autocorrelation(np.ones((1, 40)), alternating.T, np.arange(40)).round(2).tolist()
    [[-1.05]]
    """
    first: slice | Ints = slice(None, -1)
    second: slice | Ints = slice(1, None)
    count = len(positions) - 1
    if len(positions) and positions[-1] - positions[0] > count:
        pairs = np.flatnonzero(np.diff(positions) == 1)
        first, second, count = pairs, pairs + 1, len(pairs)
    if count < _FEWEST_PAIRS:
        return np.full((len(influence), residuals.shape[1]), np.nan)
    products = influence[:, first] * influence[:, second] @ (residuals[first] * residuals[second])
    with np.errstate(invalid="ignore", divide="ignore"):
        rho = products / (influence[:, first] ** 2 @ residuals[first] ** 2)
    return np.asarray(rho + (1.0 + 3.0 * rho) / count)


def score_autocorrelations(X: Floats, residuals: Floats, positions: Ints) -> Floats:
    """The same, (N, p), for dependent variables with rows of their own; residuals (T, N) are NaN elsewhere.

    In an orthonormal basis of X (T, p), where inverses of samples are well-conditioned; NaN where one is not.
    """
    terms = X.shape[1]
    low, high = places = np.tril_indices(terms)
    whole: Bools = np.asarray(np.isfinite(X).all(axis=1))
    Q, R = np.linalg.qr(np.where(whole[:, None], X, 0.0))
    own, later = Q[:, low] * Q[:, high], (Q[:-1, low] * Q[1:, high] + Q[1:, low] * Q[:-1, high]) / 2.0
    out = np.full((residuals.shape[1], terms), np.nan)

    for first in range(0, len(out), _AT_ONCE):
        some = slice(first, first + _AT_ONCE)
        used = np.isfinite(residuals[:, some])
        errors = np.where(used, residuals[:, some], 0.0)
        pairs = used[:-1] & used[1:] & (np.diff(positions) == 1)[:, None]
        gram, count = _symmetric(own.T @ used, places), pairs.sum(axis=0)
        fine = (used.sum(axis=0) > terms) & (count >= _FEWEST_PAIRS) & (np.linalg.det(gram) > _SINGULAR)
        pull = np.linalg.solve(R, np.linalg.inv(np.where(fine[:, None, None], gram, np.eye(terms))))
        products = _symmetric(later.T @ (errors[:-1] * errors[1:] * pairs), places)
        squares = _symmetric(own[:-1].T @ (errors[:-1] ** 2 * pairs), places)
        with np.errstate(invalid="ignore", divide="ignore"):
            rho = np.sum((pull @ products) * pull, axis=2) / np.sum((pull @ squares) * pull, axis=2)
            out[some] = np.where(fine[:, None], rho + (1.0 + 3.0 * rho) / count[:, None], np.nan)
    return out


def _symmetric(packed: Floats, places: tuple[Ints, Ints]) -> Floats:
    """Symmetric matrices (N, p, p) of packed columns (q, N)."""
    low, high = places
    made = np.empty((packed.shape[1], int(low[-1]) + 1, int(low[-1]) + 1))
    made[:, low, high] = made[:, high, low] = packed.T
    return made


def least_persistence(weights: Floats, residuals: Floats, positions: Ints | None) -> Floats:
    """ρₓ·ρₑ of each coefficient, (p, N): what the autocorrelation of a score is if x and e are autoregressive.

    Parameters
    ----------
    weights : ndarray, shape (T, p, N) or (T, p, 1)
        Weight of each observation in each coefficient.
    residuals : ndarray, shape (T, N)
    positions : ndarray of int, shape (T,), optional
    """
    of_weights = _clip_rho(first_autocorrelation(on_calendar(weights, positions)[0]))
    return np.asarray(of_weights * _clip_rho(first_autocorrelation(on_calendar(residuals, positions)[0])))


def _clip_rho(rho: Floats) -> Floats:
    return np.clip(np.nan_to_num(rho), -_MOST_PERSISTENT, _MOST_PERSISTENT)


def cosine_sum(
    scores: Floats, positions: Ints | None, least: Floats | None = None, count: int | None = None
) -> Floats:
    """T times the long-run variance of scores (T, p, N), shape (N, p, p); absent periods have zero scores.

    With ``least`` (p, N) the scores are prewhitened (Andrews and Monahan 1992): each less ρ times its lag, and
    the variance of the rest is divided by (1 − ρ)(1 − ρ'). ρ is the larger of ``least`` and the
    autocorrelation of the score, both corrected for their bias.
    """
    line, _ = on_calendar(scores, positions)
    count = cosine_count(len(scores)) if count is None else count
    if least is None:
        return _mean_product(line, count, len(line))
    rho = np.maximum(_clip_rho(first_autocorrelation(line)), least)
    total = _mean_product(line[1:] - rho * line[:-1], count, len(line))
    scale = (1.0 / (1.0 - rho)).T
    return np.asarray(total * scale[:, :, None] * scale[:, None, :])


def _mean_product(line: Floats, count: int, rows: int) -> Floats:
    """Mean over the transforms of their products, times the number of observations."""
    waves = cosine_waves(count, len(line))
    parts = np.tensordot(waves, line, axes=(1, 0))
    return np.asarray(np.einsum("jpn,jqn->npq", parts, parts) * rows / count)


def cosine_covariance(influence: Floats, residuals: Floats, moments: Ints, prewhiten: bool) -> Floats:
    """Covariances (N, p, p) with factor T/(T − p), for Student's t with ν degrees of freedom.

    Parameters
    ----------
    influence, residuals : ndarray, shape (p, T) and (T, N)
    moments : ndarray of int, shape (T,)
        Ordinal of each row.
    prewhiten : bool
        Whether each score is prewhitened.
    """
    columns, rows = influence.shape
    weights = influence.T[:, :, None]
    least = least_persistence(weights, residuals, moments) if prewhiten else None
    return np.asarray(cosine_sum(weights * residuals[:, None, :], moments, least) * rows / (rows - columns))


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
