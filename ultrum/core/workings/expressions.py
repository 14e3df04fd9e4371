"""Expressions of workings: evaluated on numbers and columns, and written as formulas of a spreadsheet."""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Final

import numpy as np

from ultrum.core.array_types import Floats

Value = float | Floats
_OPERATORS: Final[Mapping[type[ast.operator], tuple[str, Callable[[Value, Value], Value]]]] = {
    ast.Add: ("+", lambda a, b: a + b), ast.Sub: ("-", lambda a, b: a - b), ast.Mult: ("*", lambda a, b: a * b),
    ast.Div: ("/", lambda a, b: a / b), ast.Pow: ("^", lambda a, b: a**b),
}  # fmt: skip
_OF_COLUMNS: Final[Mapping[str, tuple[str, Callable[[Floats], float]]]] = {
    "sum": ("SUM({0})", math.fsum),
    "count": ("COUNT({0})", lambda x: float(np.isfinite(x).sum())),
    "product": ("PRODUCT({0})", lambda x: float(np.prod(x))),
    "last": ("INDEX({0},ROWS({0}))", lambda x: float(x[-1])),
    "first": ("INDEX({0},1)", lambda x: float(x[0])),
}  # fmt: skip
_OF_NUMBERS: Final[Mapping[str, tuple[str, Callable[[Value], Value]]]] = {
    "sqrt": ("SQRT", np.sqrt), "exp": ("EXP", np.exp), "log": ("LN", np.log),
}  # fmt: skip


def evaluated(expression: str, numbers: Mapping[str, float], columns: Mapping[str, Floats]) -> Value:
    """The value of an expression: a number, or a column where it names columns row by row.

    Examples
    --------
    >>> evaluated("sum(x) / n", {"n": 2.0}, {"x": np.array([1.0, 2.0])})
    1.5
    """
    return _value(_parsed(expression), numbers, columns)


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
    return f"={_cell(_parsed(expression), cells, ranges, rows)}"


@lru_cache(maxsize=4096)
def _parsed(expression: str) -> ast.expr:
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
