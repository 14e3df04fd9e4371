"""Unit roots: the augmented Dickey–Fuller test; and warnings about designs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.array_types import Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.regression import inputs
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.least_squares import condition_number, inflation, near_collinear, row_weights
from ultrum.core.regression.engine.newey_west_and_fixed_b import on_calendar
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.inputs import CONSTANT, Observations
from ultrum.errors import EstimationError, name_list, warn_user

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


# Warnings about designs: multicollinearity, spurious regression, few clusters

_LOOKED_AT: Final = 24  # dependent variables at most that are tested for unit roots
_NAMED: Final = 5  # in a warning
_ROUNDING: Final = 1e-10  # of the size of a dependent variable
_FEW_CLUSTERS: Final = 40
_FEW_TREATED: Final = 2
_PERSISTENT_SCORE: Final = 0.3  # first autocorrelation of a score
_SIZE: Final = 0.05  # of the chance that any independent score is above it
_STRONG: Final = 100.0  # condition number; 30 is called strong by Belsley, Kuh and Welsch (1980)


def warn_of_copies(design: Observations) -> None:
    """Warn when a factor is near-collinear with others, so its coefficient is imprecise."""
    factors = [c for c in design.names if c != CONSTANT]
    X = design.values[np.isfinite(design.values).all(axis=1)]
    if len(factors) < 2 or len(X) <= X.shape[1]:
        return
    if not near_collinear(X, _STRONG):
        return
    condition = condition_number(X)
    if condition <= _STRONG:
        return
    inflated = inflation(X[:, X.shape[1] - len(factors) :], len(factors) < X.shape[1])
    worst = int(np.argmax(inflated))
    if inflated[worst] <= _STRONG:
        return  # columns at a high level with little movement of their own; medians are taken from them
    warn_user(
        f"Multicollinearity: {factors[worst]} is near-collinear with the other factors (VIF "
        f"{inflated[worst]:.3g}, condition number {condition:.3g}), so its coefficient and standard error are "
        "unreliable. Drop one of them."
    )


def warn_of_trends(y: object, X: object, left: Observations, right: Observations) -> None:
    """Warn when trending levels are regressed on trending levels (Granger and Newbold 1974)."""
    if any(d.is_return for d in inputs.metadata_of(y) + inputs.metadata_of(X)) or len(left.names) > _LOOKED_AT:
        return
    regressors = right.values
    for column in _maybe_persistent(left.values):
        name, values = left.names[column], left.values[:, column]
        whole = np.isfinite(values) & np.isfinite(regressors).all(axis=1)
        p_of_response, persistent = trending_levels(values[whole], regressors[whole])
        if persistent:
            others = ", ".join(f"{right.names[k]} (p = {p:.2f})" for k, p in persistent.items())
            warn_user(
                f"Possible spurious regression: a unit root is not rejected at the 5 % level in {name} (ADF p = "
                f"{p_of_response:.2f}) and {others}. Use growth rates or first differences."
            )


def _maybe_persistent(block: Floats) -> list[int]:
    """Columns that can be levels: those with gaps, and those whose autocorrelation is high."""
    apart = block - block.sum(axis=0) / len(block)
    total = np.einsum("tn,tn->n", apart, apart)
    lagged = np.einsum("tn,tn->n", apart[1:], apart[:-1])
    return np.flatnonzero(~(lagged < 0.99 * _PERSISTENT * total)).tolist()


def exact_fits(table: BetaTable) -> list[object]:
    """Dependent variables whose residuals are rounding errors, relative to the values used."""
    values, sigma = table.observed.values, table.estimates.sigma
    if not (sigma <= _ROUNDING * np.fmax.reduce(np.abs(values), axis=None, initial=0.0)).any():
        return []
    used = table.rows_used
    squares = np.square(values, where=used, out=np.zeros_like(values)).sum(axis=0)
    exact = sigma <= _ROUNDING * np.sqrt(squares / np.maximum(used.sum(axis=0), 1))
    return [table.names[k] for k in np.flatnonzero(exact)]


def warn_of_exact_fits(table: BetaTable) -> None:
    """Warn where the regressors fit every observation exactly."""
    exact = exact_fits(table)
    if exact:
        more = f" and {len(exact) - _NAMED} more" if len(exact) > _NAMED else ""
        warn_user(
            f"{', '.join(map(str, exact[:_NAMED]))}{more}: perfect fit (residuals are rounding error), so "
            "standard errors and t statistics are meaningless. Check whether the dependent variable is constant "
            "or an exact combination of the regressors."
        )


def warn_of_persistent_scores(table: BetaTable) -> None:
    """Warn where the score of a slope is so autocorrelated that t statistics reject too often."""
    if table.errors in ("ewc-prewhitened", "cr3", "clustered"):
        return
    slopes_at = [k for k, term in enumerate(table.terms) if term != CONSTANT]
    rho = table.scores_by_asset()[:, slopes_at]
    if not (rho > _PERSISTENT_SCORE).any():
        return
    noise = scipy.special.ndtri(1.0 - _SIZE / max(rho.size, 1)) / np.sqrt(np.maximum(table.estimates.nobs, 1))
    places = np.argwhere(rho > np.maximum(_PERSISTENT_SCORE, noise)[:, None])
    if not len(places):
        return
    exact, assets, terms = set(exact_fits(table)), table.names, [table.terms[k] for k in slopes_at]
    named = [(assets[k], terms[j], rho[k, j]) for k, j in places if assets[k] not in exact]
    if named:
        slopes = name_list([f"{factor} in {y} ({value:.2f})" for y, factor, value in named])
        warn_user(
            f"Autocorrelated scores: {slopes}. The products of factor and residual persist, so t statistics "
            "reject too often.",
            fix="Use errors='ewc-prewhitened', or growth rates and innovations.",
            setting="persistent",
        )


def refuse_exact_fit(fit: Fit) -> None:
    """Refuse to test residuals that are rounding errors.

    Raises
    ------
    EstimationError
        If the regressors fit every observation exactly.
    """
    size = float(np.sqrt(np.mean(fit.observed**2)))
    if fit.sigma <= _ROUNDING * size:
        raise EstimationError(
            f"{fit.name}: perfect fit (residuals are rounding error), so there are no residuals to test. Check "
            "whether the dependent variable is constant or an exact combination of the regressors."
        )


def warn_of_few_clusters(fewest: int, advice: str = "Use errors='cr3' or wild_cluster_test.") -> None:
    """Warn where clusters are too few for clustered standard errors (Cameron and Miller 2015)."""
    if 1 < fewest < _FEW_CLUSTERS:
        warn_user(
            f"Only {quantity(fewest, 'cluster')}: with fewer than {_FEW_CLUSTERS}, clustered standard errors are "
            "biased downwards. " + advice
        )


def warn_of_few_treatments(design: pd.DataFrame, groups: pd.DataFrame) -> None:
    """Warn where a factor that is constant within clusters differs in only one or two of them."""
    labels = groups.iloc[:, 0].to_numpy()
    for name in design:
        values = design[name].groupby(labels)
        if name == CONSTANT or (values.nunique() > 1).any():
            continue
        counts = values.first().value_counts()
        if len(counts) == 2 and counts.min() <= _FEW_TREATED:
            warn_user(
                f"{name} differs in {counts.min()} of {counts.sum()} clusters; with so few, neither clustered "
                "standard errors nor their bootstrap are reliable (MacKinnon and Webb 2017)."
            )
