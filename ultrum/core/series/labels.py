"""Reading the frequency off an index, and names of periods for people."""

from __future__ import annotations

import html
from typing import Any, Final, Protocol

import numpy as np
import pandas as pd

from ultrum.core.array_types import Bools, Dates
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.errors import FrequencyError

_HOLIDAYS: Final = 3  # weekdays by which a date may miss the first or last of its period
_FIT: Final = 0.9  # share of dates that must stand so


def infer_frequency(index: pd.Index) -> Frequency:
    """Frequency an index shows: a PeriodIndex says it, dates show it by their spacing."""
    if isinstance(index, pd.PeriodIndex):
        if index.freqstr == "6M":
            return _half_years(index)
        return Frequency.parse(index.freqstr.replace("Y-", "A-").replace("-DEC", ""))
    if not isinstance(index, pd.DatetimeIndex) or len(index) < 2:
        raise FrequencyError(
            f"The frequency cannot be read off a {type(index).__name__} of {len(index)} entries; "
            "set frequency='M' or give it dates."
        )
    days = calendar_days(index).astype(np.int64)
    if (np.diff(days) <= 0).any():
        days = np.unique(days)
    if len(days) < len(index):
        raise FrequencyError(_several_a_day(index))
    gap = float(np.median(np.diff(days)))
    weekdays = bool(((days + 3) % 7 < 5).all())
    for code, low, high in (("W", 6, 8), ("M", 27, 32), ("Q", 88, 93), ("A", 360, 370)):
        if low <= gap <= high:
            return _fitting(days.astype("datetime64[D]"), code) or Frequency(
                "B" if weekdays else "D"
            )
    if gap < 4:
        return Frequency("B" if weekdays else "D")
    raise FrequencyError(f"Dates {gap:g} days apart match no frequency; set frequency=...")


def distinct(moments: Dates) -> Dates:
    """Sorted distinct moments; quick where they are in order already, as they mostly are."""
    ordered = moments if (np.diff(moments.astype(np.int64)) >= 0).all() else np.sort(moments)
    return ordered[np.r_[True, np.diff(ordered.astype(np.int64)) > 0]] if len(ordered) else ordered


def intraday_frequency(moments: Dates) -> Frequency:
    """Minutes or hours between neighbours, by the commonest step.

    Examples
    --------
    >>> intraday_frequency(np.array(["2024-03-15T09:30", "2024-03-15T09:35"], "datetime64[s]"))
    Frequency('5N')
    """
    steps = np.diff(distinct(moments)).astype(np.int64)
    usual = int(np.bincount(np.minimum(steps, 86_400)).argmax()) if len(steps) else 60
    minutes = max(1, round(usual / 60))
    return Frequency("H", minutes // 60) if minutes % 60 == 0 else Frequency("N", minutes)


def _half_years(index: pd.PeriodIndex) -> Frequency:
    """Half-years out of periods of six months, which must all begin in the same or the opposite month."""
    firsts = set((index.month % 6).tolist())
    if len(firsts) > 1:
        raise FrequencyError(
            "The periods of six months overlap; half-years begin six months apart."
        )
    before = (firsts.pop() - 1) % 6 if firsts else 0  # month before the first of a half-year
    return Frequency("S", anchor=before or 12)


def _several_a_day(index: pd.DatetimeIndex) -> str:
    if not index.is_unique:
        twice = index[index.duplicated()][0]
        return f"{twice} appears twice; keep one row of each date."
    return "Several observations a day: set frequency='N', '5N' or 'H'."


def _fitting(days: Dates, code: str) -> Frequency | None:
    """The frequency whose periods the dates mark, or None where they are just dates.

    Dates mark periods when nine in ten stand at the first or last day or weekday of one, up to three
    holidays apart, or on one day of the month. Dates at the ends of other months move the anchor.
    """
    if code == "W":
        return Frequency("W")
    months = days.astype("datetime64[M]")
    first, last = months.astype("datetime64[D]"), (months + 1).astype("datetime64[D]") - 1
    weekend = ~np.is_busday(days)
    near_end = np.busday_count(days + 1, last + 1) <= np.where(weekend, -1, _HOLIDAYS)
    near_start = np.busday_count(first, days) <= np.where(weekend, -1, _HOLIDAYS)
    at_end, at_start = near_end | (days == last), near_start | (days == first)
    if code == "M":
        one_day = (days - first) == np.median((days - first).astype(np.int64)).astype(np.int64)
        return Frequency("M") if max(map(_share, (at_end, at_start, one_day))) >= _FIT else None
    length = {"Q": 3, "A": 12}[code]
    phase = months.astype(np.int64) % length
    usual = int(np.bincount(phase).argmax())
    regular = phase == usual
    if _share(regular & at_end) >= _FIT and _share(at_end) >= _share(at_start):
        anchor = 12 if code == "Q" and usual == 2 else usual + 1
        return Frequency(code, anchor=anchor)
    return Frequency(code) if _share(regular & at_start) >= _FIT else None


def _share(mask: Bools) -> float:
    return float(mask.mean())


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
        if moment.freqstr == "6M":
            anchor = _half_years(pd.PeriodIndex([moment]))
            return anchor.labels(anchor.ordinals_of(pd.PeriodIndex([moment])))[0]
        return f"{text[:4]}-{text[4:]}" if "Q" in text else text.replace("/", " – ")
    return str(moment)[:10]


def headed(name: str) -> str:
    """A name with a capital first letter; the rest is left as it is.

    >>> headed("market"), headed("QSR")
    ('Market', 'QSR')
    """
    return name[:1].upper() + name[1:]


def table_text(table: pd.DataFrame, number: str = "{:.4f}") -> str:
    """A table as text within 100 columns; p values below 0.001 are written so, never as zero.

    >>> print(table_text(pd.DataFrame({"beta": [0.5], "p": [1e-9]})))
        beta       p
    0 0.5000 < 0.001
    """
    shown: Any = {
        name: p_said if _holds_p(name) else number.format
        for name in table.columns
        if pd.api.types.is_float_dtype(table[name])
    }
    return table.to_string(formatters=shown, line_width=100)


def _holds_p(name: object) -> bool:
    return str(name) in ("p", "p_value") or str(name).endswith(("_p", " p"))


def table_html(table: pd.DataFrame, text: str = "", most: int = 60) -> str:
    """A table for notebooks under its text: four digits, p values as people write them.

    >>> table_html(pd.DataFrame({"beta": [0.56425], "beta_p": [1.3e-7]})).count("&lt; 0.001")
    1
    """
    shown: Any = {
        name: p_said if _holds_p(name) else _four_digits
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
