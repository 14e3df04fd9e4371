"""Wild cluster bootstrap test of a coefficient, for few clusters."""

from __future__ import annotations

from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats, Ints
from ultrum.core.displayed_numbers import quantity
from ultrum.core.regression import inputs
from ultrum.core.regression.design_warnings import warn_of_few_treatments
from ultrum.core.regression.engine.covariance import leave_one_out
from ultrum.core.regression.fit import Fit, weight_rows
from ultrum.core.regression.inference import TestResult
from ultrum.errors import EstimationError, one_of

_FEWEST: Final = 5  # clusters
_ROUNDING: Final = 1e-10  # of the size of the dependent variable
_WEBB: Final = np.array([-1.5, -1.0, -0.5, 0.5, 1.0, 1.5])  # squares of the weights, with their signs


@validate_arguments
def wild_cluster_test(
    fit: Fit, clusters: object, term: str, value: float = 0.0, *, draws: int = 999, seed: int = 0
) -> TestResult:
    """Wild cluster bootstrap-t test (restricted, WCR) of one coefficient.

    Parameters
    ----------
    fit : Fit
        Regression on the full sample; its own standard errors are not used.
    clusters : Series or array, shape (T,)
        Cluster label of each observation; a Series is matched by its labels.
    term : str
        Name of the coefficient.
    value : float
        Value of the coefficient under the null hypothesis.
    draws, seed : int
        Of the bootstrap.

    Returns
    -------
    TestResult
        Student's t with jackknife (CR3) standard errors, and the share of draws with a t at least as large; both
        missing for a dependent variable that is zero or fitted exactly.

    Raises
    ------
    EstimationError
        If the term is unknown, the clusters are two-way or fewer than five, or a coefficient is not identified
        when a cluster is deleted.

    Warns
    -----
    DataWarning
        If a factor differs in only one or two clusters, where no method is reliable.

    Notes
    -----
    Residuals under the null change sign and size together within a cluster, with the six-point weights of Webb
    (2023); the statistic is studentised again in each draw (Cameron, Gelbach and Miller 2008). See
    docs/formulas.md.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> fit = ul.factor_betas(panel, ["market"]).fit("BRTW")
    >>> thirds = pd.Series(fit.response.index.year // 3, fit.response.index)
    >>> result = wild_cluster_test(fit, thirds, "market", 1.0, draws=999)
    >>> result.note, bool(result.p_value < 0.05)
    ('7 clusters, 999 draws', True)
    """
    names = list(map(str, fit.coefficients.index))
    if term not in names:
        raise EstimationError(f"No coefficient '{term}'; {one_of(term, names)}")
    labels = inputs.labels_of(clusters, fit.response.index)
    if labels.shape[1] > 1:
        raise EstimationError("wild_cluster_test: clusters are one-way. Pass one column.")
    codes = pd.factorize(labels.iloc[:, 0])[0].astype(np.int64)
    groups = int(codes.max()) + 1
    if groups < _FEWEST:
        raise EstimationError(f"wild_cluster_test: {quantity(groups, 'cluster')}; at least {_FEWEST} are needed.")
    warn_of_few_treatments(fit.design, labels)
    X, y = weight_rows(fit.design, fit.response, fit.weights)
    t, drawn = _bootstrap_t(X, y, codes, names.index(term), value, draws, seed)
    p_value = float((1 + np.sum(np.abs(drawn) >= abs(t))) / (draws + 1))
    return TestResult(
        t, "t", (groups - 1,), p_value, f"{quantity(groups, 'cluster')}, {draws} draws", f"{term} = {value:g}"
    )


def _bootstrap_t(
    X: Floats, y: Floats, codes: Ints, which: int, value: float, draws: int, seed: int
) -> tuple[float, Floats]:
    """T of one coefficient in the data, and in samples drawn under the null."""
    influence: Floats = np.asarray(np.linalg.pinv(X), dtype=np.float64)
    row, groups = influence[which], int(codes.max()) + 1
    others = np.delete(X, which, axis=1)
    shifted = y - value * X[:, which]
    restricted = shifted - others @ np.linalg.lstsq(others, shifted, rcond=None)[0]
    members = np.zeros((groups, len(y)))
    members[codes, np.arange(len(y))] = 1.0
    cluster_parts = members @ (row * restricted)  # part of each cluster in the coefficient
    leave = members * leave_one_out(X, influence, codes, which)  # (G, T): how each cluster moves it
    reach = leave @ X  # (G, p)
    pulls = (influence * restricted) @ members.T  # (p, G)
    moves = np.diag(leave @ restricted) - reach @ pulls  # of a draw: moves @ weights
    generator = np.random.default_rng(seed)
    signs = _WEBB[generator.integers(0, 6, size=(draws, groups))]
    weights = np.sign(signs) * np.sqrt(np.abs(signs))
    weights = np.vstack([np.ones(groups), weights])  # the first are the data themselves
    if np.linalg.norm(shifted - X @ (influence @ shifted)) <= _ROUNDING * np.linalg.norm(y):
        return float("nan"), np.full(draws, np.nan)  # an exact fit has residuals of rounding
    with np.errstate(divide="ignore", invalid="ignore"):
        t = weights @ cluster_parts / np.sqrt(np.sum((weights @ moves.T) ** 2, axis=1))
    scale = np.sqrt(groups / (groups - 1))
    return float(t[0] * scale), np.nan_to_num(t[1:] * scale, nan=np.inf)
