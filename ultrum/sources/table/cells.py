"""What one cell can mean: dates in several styles, numbers with several marks, missing values."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.types import Array, Floats
from ultrum.errors import TableError

MISSING: Final = frozenset(
    [
        "",
        "n/a",
        "na",
        "n.a.",
        "nan",
        "null",
        "none",
        ".",
        "..",
        "...",
        "-",
        "–",
        "—",
        ":",
        "#n/a",
        "x",
    ]
)


@dataclass(frozen=True)
class DateStyle:
    """One way to write a date: its name for people, its pattern, its frequency and its reader."""

    name: str
    pattern: re.Pattern[str]
    frequency: str
    read: Callable[[pd.Series], pd.Series]


def _by_format(form: str) -> Callable[[pd.Series], pd.Series]:
    return lambda cells: pd.to_datetime(cells, format=form, errors="coerce")


def _halves(cells: pd.Series) -> pd.Series:
    parts = cells.str.extract(r"(\d{4}).*?([12])$")
    month = parts[1].map({"1": "01", "2": "07"})
    return pd.to_datetime(parts[0] + "-" + month + "-01", format="%Y-%m-%d", errors="coerce")


def _quarters(cells: pd.Series) -> pd.Series:
    parts = cells.str.extract(r"(\d{4}).*?([1-4])$")
    month = parts[1].map({"1": "01", "2": "04", "3": "07", "4": "10"})
    return pd.to_datetime(parts[0] + "-" + month + "-01", format="%Y-%m-%d", errors="coerce")


def _style(
    name: str, pattern: str, frequency: str, read: str | Callable[[pd.Series], pd.Series]
) -> DateStyle:
    reader = _by_format(read) if isinstance(read, str) else read
    return DateStyle(name, re.compile(pattern + r"\Z", re.IGNORECASE), frequency, reader)


STYLES: Final = (
    _style("2024-03-15", r"\d{4}-\d{2}-\d{2}", "D", "%Y-%m-%d"),
    _style("2024/03/15", r"\d{4}/\d{1,2}/\d{1,2}", "D", "%Y/%m/%d"),
    _style("20240315", r"(19|20)\d{2}(0[1-9]|1[0-2])([0-2]\d|3[01])", "D", "%Y%m%d"),
    _style("15/03/2024", r"(0?[1-9]|[12]\d|3[01])/(0?[1-9]|1[0-2])/\d{4}", "D", "%d/%m/%Y"),
    _style("03/15/2024", r"(0?[1-9]|1[0-2])/(0?[1-9]|[12]\d|3[01])/\d{4}", "D", "%m/%d/%Y"),
    _style("15.03.2024", r"\d{1,2}\.\d{1,2}\.\d{4}", "D", "%d.%m.%Y"),
    _style("15-Mar-2024", r"\d{1,2}[- ][a-z]{3}[- ]\d{4}", "D", lambda c: pd.to_datetime(
        c.str.replace(" ", "-"), format="%d-%b-%Y", errors="coerce")),
    _style("2024-03", r"\d{4}-(0[1-9]|1[0-2])", "M", "%Y-%m"),
    _style("03/2024", r"(0[1-9]|1[0-2])/\d{4}", "M", "%m/%Y"),
    _style("202403", r"(19|20)\d{2}(0[1-9]|1[0-2])", "M", "%Y%m"),
    _style("Mar 2024", r"[a-z]{3}[- ]\d{4}", "M", lambda c: pd.to_datetime(
        c.str.replace("-", " "), format="%b %Y", errors="coerce")),
    _style("2024 H1", r"\d{4}[- ]?[HS][12]", "S", _halves),
    _style("2024-Q1", r"\d{4}[- ]?Q[1-4]", "Q", _quarters),
    _style("2024", r"(18|19|20)\d{2}", "A", "%Y"),
)  # fmt: skip


def style_of(cell: str) -> str:
    """Name of the first style a cell fits, or nothing."""
    for style in STYLES:
        if style.pattern.match(cell):
            return style.name
    return ""


def date_style(cells: Sequence[str], given: str | None, where: str) -> DateStyle:
    """The one style all cells fit.

    Raises
    ------
    TableError
        If day and month could be either way round: both readings of a row are shown.
    """
    fits = [s for s in STYLES if all(s.pattern.match(c) for c in cells)]
    if given is not None:
        chosen = [s for s in STYLES if s.name == given]
        if not chosen:
            raise TableError(f"dates='{given}' is not known; it is one of {_names(STYLES)}.")
        if chosen[0] not in fits:
            bad = next(c for c in cells if not chosen[0].pattern.match(c))
            raise TableError(f"{where}: '{bad}' is not written as {given}.")
        return chosen[0]
    if not fits:
        raise TableError(
            f"{where}: the dates ('{cells[0]}' …) are in no style known: {_names(STYLES)}."
        )
    if len(fits) > 1:
        example = next((c for c in cells if c.split("/")[0] != c.split("/")[-2]), cells[0])
        readings = [f"{s.read(pd.Series([example]))[0].date()} (dates='{s.name}')" for s in fits]
        raise TableError(f"{where}: '{example}' can be {' or '.join(readings)}; say which.")
    return fits[0]


def _names(styles: Sequence[DateStyle]) -> str:
    return ", ".join(s.name for s in styles)


_POINT: Final = re.compile(r"[-+]?(\d+|\d{1,3}(,\d{3})+)?(\.\d*)?([eE][-+]?\d+)?%?\Z")
_COMMA: Final = re.compile(r"[-+]?(\d+|\d{1,3}([. ]\d{3})+)?(,\d*)?([eE][-+]?\d+)?%?\Z")


def bare(cell: str) -> str:
    """A number in brackets, as accountants write negatives, with a minus instead."""
    return f"-{cell[1:-1]}" if cell.startswith("(") and cell.endswith(")") else cell


def is_number(cell: str) -> bool:
    """Whether a cell could be a number, with either decimal mark."""
    cell = bare(cell)
    return bool(re.search(r"\d", cell)) and bool(_POINT.match(cell) or _COMMA.match(cell))


def decimal_mark(cells: Sequence[str], given: str | None, where: str) -> str:
    """The decimal mark that explains every number.

    Raises
    ------
    TableError
        If both marks do and the values would differ.
    """
    point = all(_POINT.match(bare(c)) for c in cells)
    comma = all(_COMMA.match(bare(c)) for c in cells)
    if given:
        return given
    if point and comma:
        torn = next((c for c in cells if "," in c or "." in c), None)
        if torn is None:
            return "."
        raise TableError(
            f"{where}: '{torn}' can be read with a decimal point or a decimal comma; "
            "say decimal='.' or decimal=','."
        )
    if not point and not comma:
        return "."
    return "." if point else ","


def to_numbers(cells: Array, decimal: str) -> Floats:
    """Numbers of a column, missing marks as NaN; a cell that is no number gives infinity."""
    text = pd.Series(cells, dtype=object).astype(str)
    missing = text.str.lower().isin(MISSING).to_numpy()
    group = "," if decimal == "." else "."
    text = text.map(bare)
    plain = text.str.rstrip("%").str.replace(group, "", regex=False).str.replace(" ", "")
    if decimal == ",":
        plain = plain.str.replace(",", ".", regex=False)
    numbers = pd.to_numeric(plain, errors="coerce").to_numpy(dtype=np.float64, copy=True)
    numbers[np.isnan(numbers) & ~missing] = np.inf
    numbers[missing] = np.nan
    return numbers
