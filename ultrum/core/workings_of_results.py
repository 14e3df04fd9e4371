"""Step-by-step calculation of conversions, costs of equity, regressions, and risk and return."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.core.transform.aggregation import How, default_method, to_frequency
from ultrum.core.workings import Workings, workings_of
from ultrum.errors import FrequencyError

_FORMULAS: Final = {
    "sum": ("sum of the period", "sum(x)"),
    "log sum": ("sum of the log returns of the period", "sum(x)"),
    "mean": ("mean of the period", "sum(x) / n"),
    "last": ("last of the period", "last(x)"),
    "first": ("first of the period", "first(x)"),
    "compound": ("compounded return of the period", "product(growth) - 1"),
}


@validate_arguments
def conversion_workings(
    x: TimeSeries, frequency: str | Frequency, period: str | None = None, *, how: How | None = None
) -> Workings:
    """Step-by-step calculation of one period of a lower frequency from its observations.

    Parameters
    ----------
    x : TimeSeries
        The series to convert.
    frequency : str or Frequency
        The lower frequency.
    period : str, optional
        A period, such as ``"2024-Q1"``; by default the last complete one.
    how : str, optional
        Method, as for :func:`ultrum.to_frequency`; by default that of the measure.

    Returns
    -------
    Workings
        Steps to the value of the period.

    Raises
    ------
    FrequencyError
        If the period has no value, or the method no workings.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> r = TimeSeries.from_pandas(pd.Series([0.01, 0.02, -0.01], months), name="BRTW", measure="return")
    >>> round(conversion_workings(r, "Q").result, 8)
    0.019898
    """
    target = Frequency.parse(frequency)
    method = how or default_method(x.metadata)
    if method not in _FORMULAS or (x.metadata.excess_of and method == "compound"):
        raise FrequencyError(f"{x.name} is converted by '{method}', which has no workings.")
    converted = to_frequency(x, target, how=how)
    valid = converted.values.dropna()
    if not len(valid):
        raise FrequencyError(f"{x.name} has no whole {target.noun}.")
    ordinals = target.ordinals_of(valid.index)
    wanted = ordinals[-1] if period is None else target.ordinal_of_name(period)
    if wanted not in ordinals:
        raise FrequencyError(
            f"{x.name} has no value in {period}; its periods are {period_label(valid.index[0])} "
            f"to {period_label(valid.index[-1])}."
        )
    place = int(np.flatnonzero(ordinals == wanted)[0])
    source = x.metadata.frequency
    ends = source.ends(source.ordinals_of(x.index))
    inside = x.values[(target.ordinals(ends) == wanted)].dropna()
    label, formula = _FORMULAS[method]
    lines: list[tuple[str, str, str | float]] = [("n", "number of observations", "count(x)")]
    columns = [("growth", "one plus the return", "1 + x")] if method == "compound" else []
    return workings_of(
        f"{x.name} in {period_label(valid.index[place])}, {method} of {source.name} observations",
        pd.DataFrame({"x": inside.to_numpy(dtype=float)}, index=inside.index),
        {"x": x.name},
        [*lines, ("result", label, formula)],
        columns,
        expected=float(valid.iloc[place]),
    )


# Workings of a cost of equity: the risk-free rate, each beta times its premium, and what is added


def cost_workings(asset: str, parts: pd.DataFrame, risk_free: float, value: float, error: float) -> Workings:
    """The cost of equity of one asset.

    Parameters
    ----------
    asset : str
    parts : DataFrame
        By part: ``beta beta_error premium premium_error contribution``.
    risk_free, value, error : float
        Annual rate, cost and standard error of the cost.
    """
    lines: list[tuple[str, str, str | float]] = [("rate", "annual risk-free rate", float(risk_free))]
    terms, factors = ["rate"], []
    for number, (name, row) in enumerate(parts.iterrows()):
        if np.isfinite(row["beta"]):
            factors.append(row)
            lines += [
                (f"beta{number}", f"beta on {name}", float(row["beta"])),
                (f"premium{number}", f"annual premium of {name}", float(row["premium"])),
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
            ("own_error", "standard error by beta and premium (Aroian 1947)", _PRODUCT_ERROR),
        ]
        lines = [(n, label, _name_parts(f, parts) if n == "own_error" else f) for n, label, f in lines]
    elif len(factors) > 1:
        note = "The standard error uses the covariances of betas and premia, which are not shown."
    lines.append(("cost", f"annual cost of equity of {asset}", " + ".join(terms)))
    return workings_of(f"Cost of equity of {asset}", pd.DataFrame(), {}, lines, expected=value, note=note)


_PRODUCT_ERROR = (
    "sqrt(B ** 2 * premium_error ** 2 + L ** 2 * beta_error ** 2 + beta_error ** 2 * premium_error ** 2)"
)


def _name_parts(formula: str | float, parts: pd.DataFrame) -> str | float:
    """The formula with the names of the single factor."""
    if not isinstance(formula, str):
        return formula
    number = next(k for k, beta in enumerate(parts["beta"]) if np.isfinite(beta))
    return formula.replace("B ", f"beta{number} ").replace("L ", f"premium{number} ")


# Workings of a regression: covariance over variance, or the normal equations and their elimination

Line = tuple[str, str, str | float]


def regression_workings(
    name: str,
    response: pd.Series,
    design: pd.DataFrame,
    coefficients: pd.Series,
    weights: pd.Series | None,
    constant: str,
    errors: str,
) -> Workings:
    """Step-by-step calculation of the coefficients of one regression.

    A regression on a constant and one factor is shown as covariance over variance; others by their normal
    equations, X'Wy = X'WX·b, eliminated row by row.

    Parameters
    ----------
    name : str
    response : Series, shape (T,)
    design : DataFrame, shape (T, p)
    coefficients : Series, shape (p,)
    weights : Series, shape (T,), or None
    constant : str
        Name of the constant among the terms.
    errors : str
        Standard errors of the table, in words.
    """
    terms = [str(t) for t in design]
    if weights is None and terms[:1] == [constant] and len(terms) == 2:
        return _one_factor(name, response, design, coefficients, errors)
    return _normal_equations(name, response, design, coefficients, weights, constant)


def _one_factor(
    name: str, response: pd.Series, design: pd.DataFrame, coefficients: pd.Series, errors: str
) -> Workings:
    factor = str(design.columns[1])
    inputs = pd.DataFrame(
        {"y": response.to_numpy(dtype=float), "x": design.iloc[:, 1].to_numpy(dtype=float)}, index=response.index
    )
    columns = [
        ("dy", f"{name} less its mean", "y - mean_y"),
        ("dx", f"{factor} less its mean", "x - mean_x"),
        ("dxdy", "product of both", "dx * dy"),
        ("dx2", f"square of {factor} less its mean", "dx ** 2"),
        ("fitted", "fitted", "alpha + beta * x"),
        ("e", "residual", "y - fitted"),
        ("e2", "squared residual", "e ** 2"),
        ("dy2", f"square of {name} less its mean", "dy ** 2"),
    ]
    lines: list[Line] = [
        ("n", "number of observations", "count(y)"),
        ("mean_y", f"mean of {name}", "sum(y) / n"),
        ("mean_x", f"mean of {factor}", "sum(x) / n"),
        ("covariance", f"covariance of {name} and {factor}, over n − 1", "sum(dxdy) / (n - 1)"),
        ("variance", f"variance of {factor}, over n − 1", "sum(dx2) / (n - 1)"),
        ("rss", "sum of squared residuals", "sum(e2)"),
        ("sigma", "standard error of the regression, over n − 2", "sqrt(rss / (n - 2))"),
        ("r2", "R²", "1 - rss / sum(dy2)"),
        ("classical", "classical standard error of beta", "sigma / sqrt(sum(dx2))"),
        ("alpha", f"alpha: mean of {name} less beta times mean of {factor}", "mean_y - beta * mean_x"),
        ("beta", f"beta on {factor}: covariance over variance", "covariance / variance"),
    ]
    note = f"The standard errors of the table are {errors}; the classical one is worked out here."
    return workings_of(
        f"Regression of {name} on {factor}",
        inputs,
        {"y": name, "x": factor},
        lines,
        columns,
        expected=float(coefficients.iloc[1]),
        note=note,
    )


def _normal_equations(
    name: str,
    response: pd.Series,
    design: pd.DataFrame,
    coefficients: pd.Series,
    weights: pd.Series | None,
    constant: str,
) -> Workings:
    terms = [str(t) for t in design]
    names = [f"x{k}" for k in range(len(terms))]
    inputs = pd.DataFrame({"y": response.to_numpy(dtype=float)}, index=response.index)
    for short, term in zip(names, terms, strict=True):
        inputs[short] = design[term].to_numpy(dtype=float)
    labels = {"y": name, **dict(zip(names, terms, strict=True))}
    weight = ""
    if weights is not None:
        inputs["w"] = weights.to_numpy(dtype=float)
        labels["w"], weight = "weight", "w * "
    pairs = [(i, j) for i in range(len(terms)) for j in range(i, len(terms))]
    columns = [(f"p{i}_{j}", f"{terms[i]} × {terms[j]}", f"{weight}x{i} * x{j}") for i, j in pairs]
    columns += [(f"q{i}", f"{terms[i]} × {name}", f"{weight}x{i} * y") for i in range(len(terms))]
    lines: list[Line] = [(f"a{i}_{j}_0", f"sum of {terms[i]} × {terms[j]}", f"sum(p{i}_{j})") for i, j in pairs]
    lines += [(f"b{i}_0", f"sum of {terms[i]} × {name}", f"sum(q{i})") for i in range(len(terms))]
    lines += _elimination(terms) + _substitution(terms)
    return workings_of(
        f"Regression of {name} on {', '.join(t for t in terms if t != constant)}",
        inputs,
        labels,
        lines,
        columns,
        expected=float(coefficients.iloc[0]),
    )


def _elimination(terms: Sequence[str]) -> list[Line]:
    """Forward elimination of each term from the equations after it."""
    lines: list[Line] = []
    for k in range(len(terms) - 1):
        for i in range(k + 1, len(terms)):
            ratio = f"a{k}_{i}_{k} / a{k}_{k}_{k}"
            without = f"without {', '.join(terms[: k + 1])}"
            lines += [
                (
                    f"a{i}_{j}_{k + 1}",
                    f"{terms[i]} × {terms[j]} {without}",
                    f"a{i}_{j}_{k} - {ratio} * a{k}_{j}_{k}",
                )
                for j in range(i, len(terms))
            ]
            formula = f"b{i}_{k} - {ratio} * b{k}_{k}"
            lines.append((f"b{i}_{k + 1}", f"{terms[i]} × response {without}", formula))
    return lines


def _substitution(terms: Sequence[str]) -> list[Line]:
    """Back substitution of the coefficients, last one first."""
    lines: list[Line] = []
    for i in reversed(range(len(terms))):
        others = "".join(f" - a{i}_{j}_{i} * beta{j}" for j in range(i + 1, len(terms)))
        lines.append((f"beta{i}", f"coefficient of {terms[i]}", f"(b{i}_{i}{others}) / a{i}_{i}_{i}"))
    return lines


# Workings of risk and return: mean, deviations, squares, annualised volatility


def risk_workings(
    name: str, returns: pd.Series, periods_per_year: float, *, logs: bool, volatility: float
) -> Workings:
    """Mean and annualised volatility of the returns of one asset.

    Parameters
    ----------
    name : str
    returns : Series, shape (T,)
        Without missing values.
    periods_per_year : float
    logs : bool
        Whether they are log returns, whose annualised mean is exp(P·m) − 1.
    volatility : float
        The expected annualised volatility.
    """
    yearly = "exp(P * mean) - 1" if logs else "P * mean"
    return workings_of(
        f"Risk and return of {name}",
        pd.DataFrame({"r": returns.to_numpy(dtype=float)}, index=returns.index),
        {"r": "log return" if logs else "return"},
        [
            ("n", "number of returns", "count(r)"),
            ("total", "sum of returns", "sum(r)"),
            ("mean", "mean per period", "total / n"),
            ("squares", "sum of squared deviations", "sum(d2)"),
            ("variance", "variance per period, over n − 1", "squares / (n - 1)"),
            ("deviation", "standard deviation per period", "sqrt(variance)"),
            ("P", "periods per year", float(periods_per_year)),
            ("mean_year", "annualised mean", yearly),
            ("variance_year", "annualised variance", "P * variance"),
            ("volatility", "annualised volatility", "sqrt(variance_year)"),
        ],
        [("d", "deviation from the mean", "r - mean"), ("d2", "squared deviation", "d ** 2")],
        expected=volatility,
    )
