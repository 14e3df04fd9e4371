"""Workings of a regression: covariance over variance, or the normal equations and their elimination."""

from __future__ import annotations

from collections.abc import Sequence

import pandas as pd

from ultrum.core.workings.steps_table import Workings, workings_of

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
    """Coefficients of one regression, in steps.

    A regression on a constant and one factor is shown as covariance over variance; every other one by its
    normal equations, X'Wy = X'WX·b, eliminated row by row.

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
        {"y": response.to_numpy(dtype=float), "x": design.iloc[:, 1].to_numpy(dtype=float)},
        index=response.index,
    )
    columns = [
        ("dy", f"{name} less its mean", "y - mean_y"), ("dx", f"{factor} less its mean", "x - mean_x"),
        ("dxdy", "product of both", "dx * dy"), ("dx2", f"square of {factor} less its mean", "dx ** 2"),
        ("fitted", "fitted", "alpha + beta * x"), ("e", "residual", "y - fitted"),
        ("e2", "squared residual", "e ** 2"),
        ("dy2", f"square of {name} less its mean", "dy ** 2"),
    ]  # fmt: skip
    lines: list[Line] = [
        ("n", "number of rows", "count(y)"),
        ("mean_y", f"mean of {name}", "sum(y) / n"),
        ("mean_x", f"mean of {factor}", "sum(x) / n"),
        ("covariance", f"covariance of {name} and {factor}, over n − 1", "sum(dxdy) / (n - 1)"),
        ("variance", f"variance of {factor}, over n − 1", "sum(dx2) / (n - 1)"),
        ("rss", "sum of squared residuals", "sum(e2)"),
        ("sigma", "standard error of the regression, over n − 2", "sqrt(rss / (n - 2))"),
        ("r2", "R²", "1 - rss / sum(dy2)"),
        ("classical", "classical standard error of beta", "sigma / sqrt(sum(dx2))"),
        (
            "alpha",
            f"alpha: mean of {name} less beta times mean of {factor}",
            "mean_y - beta * mean_x",
        ),
        ("beta", f"beta on {factor}: covariance over variance", "covariance / variance"),
    ]
    note = f"The standard errors of the table are {errors}; the classical one is worked out here."
    return workings_of(
        f"Regression of {name} on {factor}", inputs, {"y": name, "x": factor}, lines, columns,
        expected=float(coefficients.iloc[1]), note=note,
    )  # fmt: skip


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
        f"Regression of {name} on {', '.join(t for t in terms if t != constant)}", inputs, labels, lines, columns,
        expected=float(coefficients.iloc[0]),
    )  # fmt: skip


def _elimination(terms: Sequence[str]) -> list[Line]:
    """Each term taken out of the equations of those after it."""
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
    """The coefficients, the last one first."""
    lines: list[Line] = []
    for i in reversed(range(len(terms))):
        others = "".join(f" - a{i}_{j}_{i} * beta{j}" for j in range(i + 1, len(terms)))
        lines.append((f"beta{i}", f"coefficient of {terms[i]}", f"(b{i}_{i}{others}) / a{i}_{i}_{i}"))
    return lines
