"""Step-by-step calculations as a table of steps; each number recomputes from those before it."""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.core.deprecated_names import RenamedAttribute
from ultrum.core.presentation import TextInNotebooks
from ultrum.errors import EstimationError

Value = float | Floats
_OPERATORS: Final[Mapping[type[ast.operator], tuple[str, Callable[[Value, Value], Value]]]] = {
    ast.Add: ("+", lambda a, b: a + b),
    ast.Sub: ("-", lambda a, b: a - b),
    ast.Mult: ("*", lambda a, b: a * b),
    ast.Div: ("/", lambda a, b: a / b),
    ast.Pow: ("^", lambda a, b: a**b),
}
_OF_COLUMNS: Final[Mapping[str, tuple[str, Callable[[Floats], float]]]] = {
    "sum": ("SUM({0})", math.fsum),
    "count": ("COUNT({0})", lambda x: float(np.isfinite(x).sum())),
    "product": ("PRODUCT({0})", lambda x: float(np.prod(x))),
    "last": ("INDEX({0},ROWS({0}))", lambda x: float(x[-1])),
    "first": ("INDEX({0},1)", lambda x: float(x[0])),
}
_OF_NUMBERS: Final[Mapping[str, tuple[str, Callable[[Value], Value]]]] = {
    "sqrt": ("SQRT", np.sqrt),
    "exp": ("EXP", np.exp),
    "log": ("LN", np.log),
}


def evaluate(expression: str, numbers: Mapping[str, float], columns: Mapping[str, Floats]) -> Value:
    """The value of an expression: a number, or a column if it refers to columns row by row.

    Examples
    --------
    >>> evaluate("sum(x) / n", {"n": 2.0}, {"x": np.array([1.0, 2.0])})
    1.5
    """
    return _value(_parse(expression), numbers, columns)


def in_a_spreadsheet(
    expression: str, cells: Mapping[str, str], ranges: Mapping[str, str], rows: Mapping[str, str]
) -> str:
    """The formula of a cell.

    Parameters
    ----------
    expression : str
    cells : mapping of str to str
        The cell of each number.
    ranges : mapping of str to str
        The range of each column, for functions of whole columns.
    rows : mapping of str to str
        The cell of each column in the row of the formula.

    Examples
    --------
    >>> in_a_spreadsheet("sum(x) / n", {"n": "B3"}, {"x": "D2:D9"}, {})
    '=(SUM(D2:D9)/B3)'
    """
    return f"={_cell(_parse(expression), cells, ranges, rows)}"


@lru_cache(maxsize=4096)
def _parse(expression: str) -> ast.expr:
    return ast.parse(expression, mode="eval").body


def _value(node: ast.expr, numbers: Mapping[str, float], columns: Mapping[str, Floats]) -> Value:
    if isinstance(node, ast.Constant) and isinstance(node.value, int | float):
        return float(node.value)
    if isinstance(node, ast.Name):
        return numbers[node.id] if node.id in numbers else columns[node.id]
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        return -_value(node.operand, numbers, columns)
    if isinstance(node, ast.BinOp):
        left, right = (_value(part, numbers, columns) for part in (node.left, node.right))
        return _OPERATORS[type(node.op)][1](left, right)
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
        name = node.func.id
        if name in _OF_COLUMNS:
            return _OF_COLUMNS[name][1](np.asarray(_value(node.args[0], {}, columns)))
        return _OF_NUMBERS[name][1](_value(node.args[0], numbers, columns))
    raise ValueError(f"{ast.unparse(node)} is not an expression of workings")


def _cell(node: ast.expr, cells: Mapping[str, str], ranges: Mapping[str, str], rows: Mapping[str, str]) -> str:
    if isinstance(node, ast.Constant):
        return repr(node.value)
    if isinstance(node, ast.Name):
        return cells[node.id] if node.id in cells else rows[node.id]
    if isinstance(node, ast.UnaryOp):
        return f"(0-{_cell(node.operand, cells, ranges, rows)})"
    if isinstance(node, ast.BinOp):
        left, right = (_cell(part, cells, ranges, rows) for part in (node.left, node.right))
        return f"({left}{_OPERATORS[type(node.op)][0]}{right})"
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
        name = node.func.id
        if name in _OF_COLUMNS:
            return _OF_COLUMNS[name][0].format(_cell(node.args[0], {}, {}, ranges))
        return f"{_OF_NUMBERS[name][0]}({_cell(node.args[0], cells, ranges, rows)})"
    raise ValueError(f"{ast.unparse(node)} is not an expression of workings")


# Workings as a table of steps over a table of rows; each number recomputes from those before it

_SHOWN = 4  # rows in the text
_AGREE = 1e-9  # relative; workings add up in another order than the estimators


@dataclass(frozen=True)
class WorkingColumn:
    """A column: an input, or a formula evaluated row by row."""

    name: str
    label: str
    formula: str = ""


@dataclass(frozen=True)
class WorkingStep:
    """A number: an input, or a formula."""

    name: str
    label: str
    formula: str
    value: float


@dataclass(frozen=True, eq=False, repr=False)
class Workings(TextInNotebooks):
    """Step-by-step calculation of a number from its inputs.

    Attributes
    ----------
    title : str
    rows : DataFrame, shape (T, C)
        Inputs and derived columns, by the names that formulas use.
    columns : tuple of WorkingColumn
    steps : tuple of WorkingStep
        In order; the last is the result.
    note : str
        What the calculation leaves out.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> fit = betas.fit("BRTW")
    >>> steps = fit.workings()
    >>> steps.title
    'Regression of BRTW on market'
    >>> round(steps.result, 4)
    0.5642
    """

    title: str
    rows: pd.DataFrame
    columns: tuple[WorkingColumn, ...]
    steps: tuple[WorkingStep, ...]
    note: str = ""

    @property
    def result(self) -> float:
        """The last number."""
        return self.steps[-1].value

    def __getitem__(self, name: str) -> float:
        for step in self.steps:
            if name in (step.name, step.label):
                return step.value
        raise EstimationError(f"The workings have no step '{name}'.")

    def to_frame(self) -> pd.DataFrame:
        """The steps, one per row: ``step name formula value``.

        Returns
        -------
        DataFrame
            Steps.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> steps = ul.factor_betas(panel, ["market"]).fit("BRTW").workings()
        >>> steps.to_frame()["value"].tail(2).round(4).tolist()
        [0.0029, 0.5642]
        """
        table = [(s.label, s.name, s.formula, s.value) for s in self.steps]
        return pd.DataFrame(table, columns=["step", "name", "formula", "value"])

    def to_rows(self) -> pd.DataFrame:
        """The rows under the labels of their columns.

        Returns
        -------
        DataFrame
            Observations that the steps use.
        """
        return self.rows.rename(columns={c.name: c.label for c in self.columns})

    recomputed = RenamedAttribute("recompute")

    def recompute(self) -> dict[str, float]:
        """Recompute every number from the inputs alone.

        Returns
        -------
        dict[str, float]
            Numbers by name.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> steps = ul.factor_betas(panel, ["market"]).fit("BRTW").workings()
        >>> round(steps.recompute()["r2"], 4)
        0.12
        """
        inputs = {c.name: self.rows[c.name].to_numpy(dtype=float) for c in self.columns if not c.formula}
        given = {s.name: s.value for s in self.steps if not s.formula}
        return _evaluate(self.columns, self.steps, inputs, given)[0]

    def __repr__(self) -> str:
        table = self.to_frame()
        table["value"] = [f"{v:.10g}" for v in table["value"]]
        shown, rows = self.to_rows(), ""
        if len(shown):
            head = f"{len(shown)} rows" + ("; the first and last:" if len(shown) > _SHOWN else ":")
            few = shown if len(shown) <= _SHOWN else pd.concat([shown.head(2), shown.tail(2)])
            rows = f"\n{head}\n{few.to_string(float_format='{:.6g}'.format, line_width=100)}"
        note = f"\n{self.note}" if self.note else ""
        return f"{self.title}\n{table.to_string(index=False)}{rows}{note}"


def workings_of(
    title: str,
    inputs: pd.DataFrame,
    labels: Mapping[str, str],
    lines: Sequence[tuple[str, str, str | float]],
    columns: Sequence[tuple[str, str, str]] = (),
    expected: float | None = None,
    note: str = "",
) -> Workings:
    """Create workings from inputs and formulas.

    Parameters
    ----------
    title : str
    inputs : DataFrame
        Columns by name; the index labels the rows.
    labels : mapping of str to str
        A label for each input column.
    lines : sequence of (name, label, formula or number)
        The steps in order.
    columns : sequence of (name, label, formula)
        Columns evaluated row by row; they can use steps, and steps can use them.
    expected : float, optional
        The expected result.
    note : str

    Raises
    ------
    EstimationError
        If the steps do not give the expected result.

    Examples
    --------
    >>> inputs, lines = pd.DataFrame({"x": [1.0, 3.0]}), [("mean", "mean", "sum(x) / 2")]
    >>> workings_of("Mean", inputs, {"x": "x"}, lines, expected=2.0 + 1e-14).result
    2.0
    >>> workings_of("Mean", inputs, {"x": "x"}, lines, expected=2.001)
    Traceback (most recent call last):
        ...
    ultrum.errors.EstimationError: Mean: the steps lead to 2, the result is 2.001.
    """
    every = [WorkingColumn(str(c), labels[str(c)]) for c in inputs]
    every += [WorkingColumn(*column) for column in columns]
    unvalued = [
        WorkingStep(
            name,
            label,
            "" if isinstance(given, int | float) else given,
            float(given) if isinstance(given, int | float) else np.nan,
        )
        for name, label, given in lines
    ]
    given_numbers = {s.name: s.value for s in unvalued if not s.formula}
    arrays = {str(c): inputs[c].to_numpy(dtype=float) for c in inputs}
    numbers, filled = _evaluate(every, unvalued, arrays, given_numbers)
    steps = tuple(WorkingStep(s.name, s.label, s.formula, numbers[s.name]) for s in unvalued)
    rows = pd.DataFrame({c.name: filled[c.name] for c in every}, index=inputs.index)
    workings = Workings(title, rows, tuple(every), steps, note)
    if expected is not None and abs(workings.result - expected) > _AGREE * max(abs(expected), 1e-12):
        raise EstimationError(
            f"{title}: the steps lead to {workings.result:.12g}, the result is {expected:.12g}."
        )
    return workings


def _evaluate(
    columns: Sequence[WorkingColumn],
    steps: Sequence[WorkingStep],
    inputs: Mapping[str, Floats],
    given: Mapping[str, float],
) -> tuple[dict[str, float], dict[str, Floats]]:
    """All numbers and columns, each as soon as its inputs are available."""
    numbers, arrays = dict(given), dict(inputs)
    height = len(next(iter(arrays.values()))) if arrays else 0
    every: list[WorkingColumn | WorkingStep] = [*columns, *steps]
    waiting = [part for part in every if part.name not in numbers and part.name not in arrays]
    while waiting:
        later: list[WorkingColumn | WorkingStep] = []
        for part in waiting:
            try:
                value = evaluate(part.formula, numbers, arrays)
            except KeyError:
                later.append(part)
                continue
            if isinstance(part, WorkingColumn):
                arrays[part.name] = np.broadcast_to(np.asarray(value, dtype=float), height).copy()
            else:
                numbers[part.name] = float(np.asarray(value))
        if len(later) == len(waiting):
            raise EstimationError(f"Workings: {later[0].name} = {later[0].formula} uses what is not there.")
        waiting = later
    return numbers, arrays
