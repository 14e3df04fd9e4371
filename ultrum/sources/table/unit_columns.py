"""Columns of units and of multiples, one for each row."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Array, Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import codes_of, first_rows
from ultrum.sources.table.number_formats_and_date_words import ReadNumbers
from ultrum.sources.table.unit_statements import LABELS, NOT_MONEY, SETTLED, Statement, statement_of
from ultrum.sources.table.units import UnitFinding, role_of

MULTIPLIER: Final = re.compile(
    r"unit[ _]?mult(?:iplier)?|multiplier|magnitude|scale|power[ _]?code", re.IGNORECASE
)
_OF_POWERS: Final = re.compile("unit|power", re.IGNORECASE)
_THOUSANDS: Final = frozenset(10**power for power in (0, 3, 6, 9, 12))
_NO_MULTIPLE: Final = ("", "unit", "units", "one", "ones", "none", "nan")
_WHOLE: Final = re.compile(r"-?\d{1,15}(?:\.0*)?")
_DIVISORS: Final[dict[str, float]] = {"percent": 100.0, "basis points": 10_000.0}


@dataclass(frozen=True)
class UnitColumn:
    """A column of units: its name, empty if there is none, and what each row states.

    Attributes
    ----------
    name : str
    stated : list of Statement or None
        Statement of each distinct text, in the order of its first row.
    codes : array of int, shape (rows,)
        Which of them a row has.
    """

    name: str = ""
    stated: Sequence[Statement | None] = ()
    codes: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))

    @property
    def of_all(self) -> Statement | None:
        """The statement that every row has; None if they differ or there is none."""
        return self.stated[0] if len(set(self.stated)) == 1 else None

    @property
    def differs(self) -> bool:
        """Whether rows have different units."""
        return len(set(self.stated)) > 1

    def numbers(self, number: Callable[[Statement], float]) -> Floats:
        """A number for each row, one where nothing is stated."""
        return np.array([1.0 if s is None else number(s) for s in self.stated])[self.codes]


def multiplier_column(cells: Mapping[str, Array]) -> str:
    """Name of the column of multiples, one for each row; empty if there is none.

    Examples
    --------
    >>> multiplier_column({"OBS_VALUE": np.array([1.5]), "UNIT_MULT": np.array(["6"], dtype=object)})
    'UNIT_MULT'
    """
    named = (n for n in cells if MULTIPLIER.fullmatch(n.strip()))
    return next((n for n in named if _powers(n, cells[n])), "")


def _powers(name: str, column: Array) -> dict[str, int]:
    """Power of ten of each cell of a column of multiples; none if a cell is neither a word nor a number for one.

    Numbers are 1, 1000, a million or the like; others are powers if the name announces them, as in SDMX, and
    otherwise of another kind, such as the size of a contract.
    """
    texts = {cell_text(c).strip() for c in pd.unique(column)}
    numbers = {t: int(float(t)) for t in texts if _WHOLE.fullmatch(t)}
    of_units = _OF_POWERS.match(name.strip()) is not None
    as_multiples = set(numbers.values()) <= _THOUSANDS and not (
        of_units and max(numbers.values(), default=0) == 1
    )
    if not (as_multiples or of_units):
        return {}
    powers = {t: len(str(n)) - 1 if as_multiples else n for t, n in numbers.items()}
    for text in texts - set(numbers):
        stated = statement_of(text)
        if stated is not None and stated.kind == "multiple":
            powers[text] = stated.power
        elif text.lower() in _NO_MULTIPLE:
            powers[text] = 0
        elif of_units and numbers:  # without it, amounts would be read without any multiple
            raise TableError(
                f"The column '{name}' has '{text[:40]}', which is no power of ten. Correct the cell."
            )
        else:
            return {}
    return powers if all(-12 <= p <= 15 for p in powers.values()) else {}


def unit_column(cells: Mapping[str, Array], numeric: Sequence[str]) -> UnitColumn:
    """The column of units, with the statement of each of its rows, and with the multiple beside it."""
    multiplier = multiplier_column(cells)
    powers = _powers(multiplier, cells[multiplier]) if multiplier else {}
    multiples = (
        cells[multiplier] if multiplier else np.full(len(next(iter(cells.values()), ())), "", dtype=object)
    )
    of_units = [
        n for n, c in cells.items() if c.dtype.kind == "O" and LABELS.fullmatch(n.strip()) and n not in numeric
    ]
    for name in (*of_units, *filter(None, [multiplier])):
        column, beside = cells[name], codes_of(multiples)
        codes = codes_of(column) * (beside.max(initial=0) + 1) + beside
        first = first_rows(codes)
        used = np.flatnonzero(first >= 0)
        order = used[np.argsort(first[used])]
        stated = [
            _statement_of_row(
                "" if name == multiplier else column[row], powers.get(cell_text(multiples[row]).strip(), 0)
            )
            for row in first[order]
        ]
        if any(s is not None for s in stated):
            place = np.zeros(len(first), dtype=np.int64)
            place[order] = np.arange(len(order))
            found = [s and replace(s, labelled=True, column=f"column '{name}'") for s in stated]
            return UnitColumn(name, found, place[codes])
    return UnitColumn()


def _statement_of_row(unit: object, power: int) -> Statement | None:
    """What a cell of units states, with the multiple beside it."""
    text = cell_text(unit).strip()
    stated = statement_of(text)
    if not power:
        return stated
    return (
        Statement("multiple", text, power=power)
        if stated is None
        else replace(stated, power=stated.power + power)
    )


def states_units(heading: str) -> bool:
    """Whether a column has units, multiples or definitions of its rows; a currency is looked up by asset."""
    plain = heading.strip().lower()
    of_rows = plain in SETTLED or MULTIPLIER.fullmatch(plain) is not None
    return of_rows or (plain != "currency" and LABELS.fullmatch(plain) is not None)


def unit_certainty(name: str) -> str:
    """Why numbers have the unit of their row."""
    return f"by column '{name}'"


def units_by_row(
    column_of_units: UnitColumn, units: Mapping[str, UnitFinding], numbers: Mapping[str, ReadNumbers]
) -> tuple[dict[str, UnitFinding], dict[str, ReadNumbers]]:
    """Numbers in the unit of their own row, for a column of units that differ."""
    divisor = column_of_units.numbers(lambda s: _DIVISORS.get(s.kind, 1.0))
    factor = column_of_units.numbers(lambda s: 10.0**s.power)
    of_counts = column_of_units.numbers(lambda s: 1.0 if s.kind == "currency" else 10.0**s.power)
    counts: Counter[str] = Counter()
    for s, rows in zip(column_of_units.stated, np.bincount(column_of_units.codes).tolist(), strict=True):
        counts["none" if s is None else s.unit_in_words] += rows
    chosen = ", ".join(f"{unit} in {quantity(count, 'row')}" for unit, count in counts.items())
    found = dict(units)
    read = dict(numbers)
    for column, finding in units.items():
        if not finding.percent and finding.factor == 1.0 and finding.certainty != "given":
            found[column] = replace(finding, chosen=chosen, certainty=unit_certainty(column_of_units.name))
            scale = of_counts if NOT_MONEY.search(column) or role_of(column) == "volume" else factor
            read[column] = replace(read[column], values=read[column].values / divisor * scale)
    return found, read
