"""Workings of risk and return: mean, deviations, squares, volatility a year."""

from __future__ import annotations

import pandas as pd

from ultrum.core.workings.steps_table import Workings, workings_of


def risk_workings(
    name: str, returns: pd.Series, periods_per_year: float, *, logs: bool, volatility: float
) -> Workings:
    """Mean and volatility a year of the returns of one asset.

    Parameters
    ----------
    name : str
    returns : Series, shape (T,)
        Without missing values.
    periods_per_year : float
    logs : bool
        Whether they are log returns, whose mean a year is exp(P·m) − 1.
    volatility : float
        The volatility a year that the steps must lead to.
    """
    yearly = "exp(P * mean) - 1" if logs else "P * mean"
    return workings_of(
        f"Risk and return of {name}",
        pd.DataFrame({"r": returns.to_numpy(dtype=float)}, index=returns.index),
        {"r": "log return" if logs else "return"},
        [
            ("n", "number of returns", "count(r)"),
            ("total", "sum of returns", "sum(r)"),
            ("mean", "mean a period", "total / n"),
            ("squares", "sum of squared deviations", "sum(d2)"),
            ("variance", "variance a period, over n − 1", "squares / (n - 1)"),
            ("deviation", "standard deviation a period", "sqrt(variance)"),
            ("P", "periods a year", float(periods_per_year)),
            ("mean_year", "mean a year", yearly),
            ("variance_year", "variance a year", "P * variance"),
            ("volatility", "volatility a year", "sqrt(variance_year)"),
        ],
        [("d", "deviation from the mean", "r - mean"), ("d2", "squared deviation", "d ** 2")],
        expected=volatility,
    )
