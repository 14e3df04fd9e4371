"""Reading the frequency off an index, and names of periods for people."""

from __future__ import annotations

import html
from typing import Any, Protocol

import numpy as np
import pandas as pd

from ultrum.core.frequency import Frequency
from ultrum.errors import FrequencyError


def infer_frequency(index: pd.Index) -> Frequency:
    """Frequency an index shows: a PeriodIndex says it, dates show it by their spacing."""
    if isinstance(index, pd.PeriodIndex):
        return Frequency.parse(index.freqstr.replace("Y-", "A-").replace("-DEC", ""))
    if not isinstance(index, pd.DatetimeIndex) or len(index) < 2:
        raise FrequencyError(
            f"The frequency cannot be read off a {type(index).__name__} of {len(index)} entries; "
            "say frequency='M' or give it dates."
        )
    days = index.to_numpy().astype("datetime64[D]").astype(np.int64)
    if (np.diff(days) <= 0).any():
        days = np.unique(days)
    if len(days) < len(index):
        raise FrequencyError("Several observations a day: say frequency='N', '5N' or 'H'.")
    gap = float(np.median(np.diff(days)))
    weekdays = (days + 3) % 7 < 5
    for code, low, high in (("W", 6, 8), ("M", 27, 32), ("Q", 88, 93), ("A", 360, 370)):
        if low <= gap <= high:
            return Frequency(code)
    if gap < 4:
        return Frequency("B" if weekdays.all() else "D")
    raise FrequencyError(f"Dates {gap:g} days apart match no frequency; say frequency=...")


def span_of(index: pd.Index) -> str:
    """First to last, for people: ``2004-01 to 2024-12``."""
    if not len(index):
        return "empty"
    return f"{period_label(index[0])} to {period_label(index[-1])}"


def period_label(moment: Any) -> str:
    """SDMX name of a period or date; a dash for none."""
    if moment is None:
        return "—"
    if isinstance(moment, pd.Period):
        text = str(moment)
        return f"{text[:4]}-{text[4:]}" if "Q" in text else text.replace("/", " – ")
    return str(moment)[:10]


def headed(name: str) -> str:
    """A name with a capital first letter; the rest is left as it is.

    >>> headed("market"), headed("QSR")
    ('Market', 'QSR')
    """
    return name[:1].upper() + name[1:]


def table_html(table: pd.DataFrame, text: str = "", most: int = 60) -> str:
    """A table for notebooks under its text: four digits, p values as people write them.

    >>> table_html(pd.DataFrame({"beta": [0.56425], "beta_p": [1.3e-7]})).count("&lt; 0.001")
    1
    """
    shown: Any = {
        name: p_said if str(name) in ("p", "p_value") or str(name).endswith("_p") else _four_digits
        for name in table.columns
        if pd.api.types.is_float_dtype(table[name])
    }
    head = f"<pre>{html.escape(text)}</pre>" if text else ""
    return head + str(table.to_html(formatters=shown, max_rows=most, na_rep=""))


def p_said(value: float) -> str:
    """A p value as people write it; empty for none.

    >>> p_said(0.0342), p_said(1e-9)
    ('0.034', '< 0.001')
    """
    return "" if pd.isna(value) else "< 0.001" if value < 0.001 else f"{value:.3f}"


def p_equals(value: float) -> str:
    """The same as an equation.

    >>> p_equals(0.0342), p_equals(1e-9)
    ('p = 0.034', 'p < 0.001')
    """
    return f"p {p_said(value)}" if value < 0.001 else f"p = {p_said(value)}"


class _HasBasis(Protocol):
    """A result that is a table, and says in words what it rests on."""

    @property
    def basis(self) -> str:
        """Sample, conventions, errors."""

    def to_frame(self) -> pd.DataFrame:
        """The table."""


class TableInNotebooks:
    """A result that notebooks show as its table under its basis."""

    def _repr_html_(self: _HasBasis) -> str:
        return table_html(self.to_frame(), self.basis)


class TextInNotebooks:
    """A result that notebooks show as its text."""

    def _repr_html_(self) -> str:
        return f"<pre>{html.escape(repr(self))}</pre>"


def _four_digits(value: float) -> str:
    if pd.isna(value):
        return ""
    return f"{value:,.0f}" if abs(value) >= 10_000 else f"{value:.4g}"
