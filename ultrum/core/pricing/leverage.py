"""Unlevering and relevering of betas."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.errors import EstimationError

Numbers = float | np.ndarray | pd.Series | pd.DataFrame


@checked
def unlever(beta: Numbers, debt_to_equity: Numbers, tax: Numbers = 0.0, *, debt_beta: Numbers = 0.0) -> Any:
    """Beta of the assets behind a levered share (Hamada 1972): (βₑ + β_d(1−τ)D/E) / (1 + (1−τ)D/E).

    Parameters
    ----------
    beta, debt_to_equity, tax, debt_beta : float, array or Series
        Debt over the market value of equity; tax and debt beta in decimals.

    Returns
    -------
    float or array-like
        Beta of the assets, of the form given.

    Examples
    --------
    >>> round(unlever(1.2, 0.5, 0.3), 4)
    0.8889
    """
    _check_leverage(debt_to_equity, tax)
    return _without_debt(beta, _after_tax(debt_to_equity, tax), debt_beta)


@checked
def relever(beta: Numbers, debt_to_equity: Numbers, tax: Numbers = 0.0, *, debt_beta: Numbers = 0.0) -> Any:
    """Beta of a share with a given leverage, from that of its assets; undoes :func:`unlever`.

    Parameters
    ----------
    beta : float or array-like
        Beta of the assets.
    debt_to_equity : float or array-like
        Debt divided by equity, at market values.
    tax : float or array-like
        Tax rate, decimal.
    debt_beta : float or array-like
        Beta of the debt.

    Returns
    -------
    float or array-like
        Beta of the share, of the form given.

    Examples
    --------
    >>> round(relever(unlever(1.2, 0.5, 0.3), 0.5, 0.3), 12)
    1.2
    """
    _check_leverage(debt_to_equity, tax)
    return _with_debt(beta, _after_tax(debt_to_equity, tax), debt_beta)


def _after_tax(debt_to_equity: Any, tax: Any) -> Any:
    return (1.0 - tax) * debt_to_equity


def _without_debt(beta: Any, share: Any, debt_beta: Any) -> Any:
    return (beta + debt_beta * share) / (1.0 + share)


def _with_debt(beta: Any, share: Any, debt_beta: Any) -> Any:
    return beta * (1.0 + share) - debt_beta * share


def _check_leverage(debt_to_equity: Any, tax: Any) -> None:
    if np.any(np.asarray(debt_to_equity, dtype=float) < 0):
        raise EstimationError("debt_to_equity is below zero; debt and equity are both positive amounts.")
    rates = np.asarray(tax, dtype=float)
    if np.any((rates < 0) | (rates >= 1)):
        raise EstimationError(
            f"A tax rate of {np.max(rates):g} is not a decimal below one; divide percent by 100."
        )
