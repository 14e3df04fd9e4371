"""Unit roots: the augmented Dickey–Fuller test."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import scipy.special

from ultrum.core.array_types import Floats, Ints
from ultrum.core.displayed_numbers import quantity
from ultrum.core.regression.engine.least_squares import row_weights
from ultrum.core.regression.engine.newey_west_and_fixed_b import on_calendar
from ultrum.errors import EstimationError

_SHORT: Final = 25  # rows, below which the test has little power
_PERSISTENT: Final = 0.85  # first autocorrelation of a level worth a test
# MacKinnon (1994), p values of the t statistic: Φ of a polynomial, below and above a joint
_BELOW: Final = {"constant": (2.1659, 1.4412, 0.038269), "trend": (3.2512, 1.6047, 0.049588)}
_ABOVE: Final = {
    "constant": (1.7339, 0.93202, -0.12745, -0.010368),
    "trend": (2.5261, 0.61654, -0.37956, -0.060285),
}
_JOINT: Final = {"constant": -1.61, "trend": -2.89}
_RANGE: Final = {"constant": (-18.83, 2.74), "trend": (-16.18, 0.70)}


@dataclass(frozen=True)
class UnitRoot:
    """Dickey–Fuller t statistic, its p value under a unit root, and the number of lagged differences."""

    statistic: float
    p_value: float
    lags: int


def dickey_fuller(values: Floats, trend: bool = False, positions: Ints | None = None) -> UnitRoot:
    """Augmented Dickey–Fuller test with a constant, optionally a trend.

    The number of lagged differences minimises the BIC up to floor(12(T/100)^(1/4)) (Schwert 1989) on a common
    sample; the test then uses all observations. p values are MacKinnon's (1994).

    Parameters
    ----------
    values : ndarray, shape (T,)
    trend : bool
    positions : ndarray of int, shape (T,), optional
        Periods of the values, so that differences and their lags do not span gaps.
    """
    if len(values) < _SHORT:
        raise EstimationError(
            f"{quantity(len(values), 'observation')}: a unit-root test needs at least {_SHORT}."
        )
    most = min(int(12 * (len(values) / 100) ** 0.25), len(values) // 3 - 2)
    values = on_calendar(values, positions, empty=np.nan)[0]
    changes = np.diff(values)
    lags = _lags(values, changes, most, trend)
    y, X = _design(values, changes, lags, lags, trend)
    weights = row_weights(X)
    beta, root = weights @ y, weights[0]
    rss = float(np.sum((y - X @ beta) ** 2))
    error = np.sqrt(rss / (len(y) - X.shape[1]) * (root @ root))
    statistic = float(beta[0] / error) if error > 0 else -np.inf
    return UnitRoot(statistic, _p_value(statistic, "trend" if trend else "constant"), lags)


def trending_levels(y: Floats, X: Floats) -> tuple[float, dict[int, float]]:
    """P values of the test for y and for the apparently non-stationary columns of X; none if y is stationary.

    A regression of one non-stationary level on another gives spurious results.
    """
    p_of_y = _unit_root_p(y)
    if p_of_y is None:
        return 0.0, {}
    others = {k: _unit_root_p(X[:, k]) for k in range(X.shape[1])}
    return p_of_y, {k: p for k, p in others.items() if p is not None}


def _unit_root_p(values: Floats) -> float | None:
    """P value of a series that resembles a level and whose unit root is not rejected at 5 %."""
    if not is_persistent(values):
        return None
    p_value = dickey_fuller(values, trend=True).p_value
    return p_value if p_value > 0.05 else None


def is_persistent(values: Floats) -> bool:
    """Whether a series is persistent enough to be a level; a straight line counts as a deliberate trend."""
    if len(values) < _SHORT:
        return False
    deviations = values - values.mean()
    total = float(deviations @ deviations)
    if not total > 0 or deviations[1:] @ deviations[:-1] < _PERSISTENT * total:
        return False
    return bool(np.abs(np.diff(values, 2)).max() > 1e-9 * np.abs(values).max())


def _design(values: Floats, changes: Floats, lags: int, first: int, trend: bool) -> tuple[Floats, Floats]:
    """Differences from row ``first``, and the lagged level, lagged differences, constant and trend."""
    rows = len(changes) - first
    columns = [values[first:-1]]
    columns += [changes[first - lag : len(changes) - lag] for lag in range(1, lags + 1)]
    columns.append(np.ones(rows))
    if trend:
        columns.append(np.arange(rows, dtype=np.float64))
    y, X = changes[first:], np.column_stack(columns)
    whole = np.isfinite(y) & np.isfinite(X).all(axis=1)
    return y[whole], X[whole]


def _lags(values: Floats, changes: Floats, most: int, trend: bool) -> int:
    def _criterion(lags: int) -> float:
        y, X = _design(values, changes, lags, most, trend)
        q = np.linalg.qr(X)[0]
        rss = max(float(y @ y - np.sum((q.T @ y) ** 2)), np.finfo(float).tiny)
        return float(len(y) * np.log(rss / len(y)) + np.log(len(y)) * X.shape[1])

    return int(np.argmin([_criterion(lags) for lags in range(most + 1)]))


def _p_value(statistic: float, kind: str) -> float:
    low, high = _RANGE[kind]
    if statistic <= low or statistic >= high:
        return float(statistic >= high)
    weights = _BELOW[kind] if statistic <= _JOINT[kind] else _ABOVE[kind]
    return float(scipy.special.ndtr(np.polynomial.polynomial.polyval(statistic, weights)))
