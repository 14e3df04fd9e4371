"""Workings of a cost of equity: the risk-free rate, each beta times its premium, and what is added."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ultrum.core.workings.steps_table import Workings, workings_of


def cost_workings(asset: str, parts: pd.DataFrame, risk_free: float, value: float, error: float) -> Workings:
    """The cost of equity of one asset.

    Parameters
    ----------
    asset : str
    parts : DataFrame
        By part: ``beta beta_error premium premium_error contribution``.
    risk_free, value, error : float
        The rate, the cost and its standard error, a year.
    """
    lines: list[tuple[str, str, str | float]] = [("rate", "risk-free rate a year", float(risk_free))]
    terms, factors = ["rate"], []
    for number, (name, row) in enumerate(parts.iterrows()):
        if np.isfinite(row["beta"]):
            factors.append(row)
            lines += [
                (f"beta{number}", f"beta on {name}", float(row["beta"])),
                (f"premium{number}", f"premium of {name} a year", float(row["premium"])),
                (f"part{number}", f"{name}: beta times premium", f"beta{number} * premium{number}"),
            ]
        elif str(name) == "risk-free rate":
            continue
        else:
            lines.append((f"part{number}", str(name), float(row["contribution"])))
        terms.append(f"part{number}")
    note = ""
    if len(factors) == 1 and np.isfinite(error):
        row = factors[0]
        lines += [
            ("beta_error", "standard error of beta", float(row["beta_error"])),
            ("premium_error", "standard error of the premium", float(row["premium_error"])),
            ("own_error", "standard error by beta and premium (Goodman 1960)", _GOODMAN),
        ]
        lines = [(n, label, _named(f, parts) if n == "own_error" else f) for n, label, f in lines]
    elif len(factors) > 1:
        note = "The standard error uses the covariances of betas and premia, which are not shown."
    lines.append(("cost", f"cost of equity of {asset} a year", " + ".join(terms)))
    return workings_of(f"Cost of equity of {asset}", pd.DataFrame(), {}, lines, expected=value, note=note)


_GOODMAN = "sqrt(B ** 2 * premium_error ** 2 + L ** 2 * beta_error ** 2 - beta_error ** 2 * premium_error ** 2)"


def _named(formula: str | float, parts: pd.DataFrame) -> str | float:
    """Goodman's formula with the names of the one factor."""
    if not isinstance(formula, str):
        return formula
    number = next(k for k, beta in enumerate(parts["beta"]) if np.isfinite(beta))
    return formula.replace("B ", f"beta{number} ").replace("L ", f"premium{number} ")
