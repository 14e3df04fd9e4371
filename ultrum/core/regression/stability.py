"""Whether the coefficients of a regression stay the same through time."""

from __future__ import annotations

from typing import Any

import numpy as np

from ultrum.core.labels import period_label
from ultrum.core.regression.results import Fit, TestResult
from ultrum.core.regression.solve import least_squares
from ultrum.core.types import Floats
from ultrum.errors import EstimationError


def break_test(fit: Fit, at: Any = None) -> TestResult:
    """Chow (1960) test that all coefficients are the same before and from a date.

    Parameters
    ----------
    fit : Fit
        Regression on the whole sample.
    at : label, optional
        First row of the second part; by default the middle row.

    Returns
    -------
    TestResult
        F with (p, T − 2p) degrees of freedom. It takes the errors as alike in both parts.

    Raises
    ------
    EstimationError
        If a part has too few rows.

    Examples
    --------
    >>> import numpy as np
    >>> from ultrum.core.regression.ols import regress
    >>> x = np.arange(20.0)
    >>> y = np.where(x < 10, x, 3 * x) + np.tile([0.1, -0.1], 10)
    >>> break_test(regress(y, x)).p_value < 0.01
    True
    """
    terms = fit.design.shape[1]
    cut = fit.nobs // 2 if at is None else int(fit.design.index.searchsorted(at))
    if not terms < cut < fit.nobs - terms:
        raise EstimationError(
            f"{fit.name}: a break after {cut} of {fit.nobs} rows leaves a part with no more rows "
            f"than its {terms} coefficients. Choose a date further inside the sample."
        )
    X, y = fit.design.to_numpy(), fit.response.to_numpy()
    parts = sum(_rss(X[rows], y[rows]) for rows in (slice(None, cut), slice(cut, None)))
    below = fit.nobs - 2 * terms
    statistic = (_rss(X, y) - parts) / terms / (parts / below)
    label = period_label(fit.design.index[cut])
    return TestResult.of_f(statistic, terms, below, f"before and from {label}")


def _rss(X: Floats, y: Floats) -> float:
    labels = [f"column {i + 1}" for i in range(X.shape[1])]
    return float(np.sum(least_squares(X, y[:, None], labels).residuals ** 2))
