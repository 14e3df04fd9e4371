"""Frequencies, durations such as ``P1Y``, and period arithmetic on integer ordinals.

Every date belongs to one period of a frequency, and every period has an integer ordinal. Conversion, lags and
alignment are then integer arithmetic, the same for months and weeks.
"""

from __future__ import annotations

import contextlib
import functools
import re
from dataclasses import dataclass
from functools import total_ordering
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Dates, Ints
from ultrum.core.time.frequency_words import DAYS, MONTHS, MONTHS_IN, code_of_word, duration_like
from ultrum.errors import FrequencyError

_PER_YEAR: Final = {
    "A": 1.0,
    "S": 2.0,
    "Q": 4.0,
    "M": 12.0,
    "W": 365.25 / 7,
    "B": 365.25 * 5 / 7,
    "D": 365.25,
    "H": 8766.0,
    "N": 525960.0,
}
_NAMES: Final = {
    "A": "annual",
    "S": "half-yearly",
    "Q": "quarterly",
    "M": "monthly",
    "W": "weekly",
    "B": "business-daily",
    "D": "daily",
    "H": "hourly",
    "N": "minutely",
}
_NOUNS: Final = {
    "A": "year",
    "S": "half-year",
    "Q": "quarter",
    "M": "month",
    "W": "week",
    "B": "day",
    "D": "day",
    "H": "hour",
    "N": "minute",
}
_ORDER: Final = "NHBDWMQSA"
_TEXT: Final = re.compile(r"^(\d*)([ASQMWBDHN])(?:-([A-Z]{3}|\d{1,2}))?$")
_PERIOD: Final = re.compile(r"^(\d{4})(?:-?([ASQMW])(\d{1,2})|-(\d{2}))?$")
_DAY: Final = re.compile(r"^\d{4}-\d{2}-\d{2}(T[\d:.]+(Z|[+-]\d\d:?\d\d)?)?$")


@total_ordering
@dataclass(frozen=True)
class Frequency:
    """Frequency of a series: an SDMX code, a multiple and an anchor.

    Parameters
    ----------
    code : str
        SDMX frequency code: A, S, Q, M, W, B (business days), D, H or N (minutes).
    multiple : int
        Number of the code's units per period; only for H and N.
    anchor : int
        Weeks: the day a week ends on, 0 Monday to 6 Sunday. Years, half-years and quarters: the
        month (1 to 12) a year ends in. Months: the day (1 to 28) they end on, 31 for their last.

    Examples
    --------
    >>> Frequency.parse("Q").periods_per_year
    4.0
    >>> Frequency.parse("M") < Frequency.parse("Q")
    True
    >>> Frequency.parse("W-FRI")
    Frequency('W-FRI')
    """

    code: str
    multiple: int = 1
    anchor: int = -1

    def __post_init__(self) -> None:
        if self.code not in _PER_YEAR:
            raise FrequencyError(_unknown(self.code))
        if self.multiple < 1 or (self.multiple > 1 and self.code not in "HN"):
            text = f"{self.multiple}{self.code}"
            code, months = code_of_word(text), self.multiple * MONTHS_IN.get(self.code, 0)
            span = f"P{months}M" if months else f"P{self.multiple}{self.code.replace('B', 'D')}"
            fix = f"Write '{code}'." if code else f"A window or horizon of that length is '{span}'."
            raise FrequencyError(f"'{text}': only hours and minutes can have a multiple. {fix}")
        if self.anchor == -1:
            object.__setattr__(self, "anchor", {"W": 6, "M": 31}.get(self.code, 12))

    @classmethod
    def parse(cls, text: str | Frequency) -> Frequency:
        """Parse ``"M"``, ``"5N"``, ``"W-FRI"``, ``"A-MAR"`` or ``"M-25"``; a Frequency is returned unchanged.

        Parameters
        ----------
        text : str or Frequency
            Code of the frequency.

        Examples
        --------
        >>> from ultrum.core.time.frequency import Frequency
        >>> Frequency.parse("Q").name
        'quarterly'
        """
        if isinstance(text, Frequency):
            return text
        match = _TEXT.match(str(text).strip().upper())
        if not match:
            raise FrequencyError(_unknown(text))
        multiple, code, anchor = match.groups()
        return cls(code, int(multiple or 1), _anchor(code, anchor, text))

    @property
    def name(self) -> str:
        """The adjective, such as ``monthly``."""
        return _NAMES[self.code] if self.multiple == 1 else f"{self.multiple}-{_NOUNS[self.code]}"

    @property
    def noun(self) -> str:
        """The noun for one period, such as ``month``."""
        return _NOUNS[self.code] if self.multiple == 1 else f"{self.multiple} {_NOUNS[self.code]}s"

    @property
    def periods_per_year(self) -> float:
        """Average number of periods per year; B counts weekdays.

        Examples
        --------
        >>> {code: round(Frequency.parse(code).periods_per_year, 3) for code in "ASQMWBD"}
        {'A': 1.0, 'S': 2.0, 'Q': 4.0, 'M': 12.0, 'W': 52.179, 'B': 260.893, 'D': 365.25}
        """
        return _PER_YEAR[self.code] / self.multiple

    @property
    def is_dated(self) -> bool:
        """Whether an observation is marked by a date (B, D) or an instant (H, N), not a period."""
        return self.code in "BDHN"

    def __lt__(self, other: Frequency) -> bool:
        """Shorter periods come first: daily < monthly < annual."""
        mine, theirs = (_ORDER.index(f.code) for f in (self, other))
        return (mine, self.multiple) < (theirs, other.multiple)

    def __str__(self) -> str:
        text = (str(self.multiple) if self.multiple > 1 else "") + self.code
        if self.code == "W" and self.anchor != 6:
            return f"{text}-{DAYS[self.anchor]}"
        if self.code in "ASQ" and self.anchor != 12:
            return f"{text}-{MONTHS[self.anchor - 1]}"
        return f"{text}-{self.anchor}" if self.code == "M" and self.anchor != 31 else text

    def __repr__(self) -> str:
        return f"Frequency('{self}')"

    def contains(self, other: Frequency) -> bool:
        """Whether each period of ``other`` lies within one period of this frequency.

        Parameters
        ----------
        other : Frequency
            The higher frequency.

        Returns
        -------
        bool
            True if every period of the other nests in one of this.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.Frequency.parse("Q").contains(ul.Frequency.parse("M"))
        True
        """
        if other == self or other.is_dated:
            fits = self.code not in "HN" or self._minutes % other._minutes == 0
            return other <= self and fits
        if (
            other.code == "W"
            or self.code not in MONTHS_IN
            or ("M" in (self.code, other.code) and (self._day != other._day))
        ):
            return False
        return other < self and self.anchor % MONTHS_IN[other.code] == other.anchor % MONTHS_IN[other.code]

    def ordinals(self, dates: object) -> Ints:
        """Ordinal of the period that contains each date.

        Parameters
        ----------
        dates : array-like of datetime64 or str
            Dates, shape (T,).

        Returns
        -------
        ndarray of int64, shape (T,)
            Consecutive periods have consecutive integers.
        """
        moments = np.asarray(dates, dtype="datetime64[s]")  # nanoseconds would end in 2262
        days = moments.astype("datetime64[D]")
        if self.code in MONTHS_IN:
            first = days.astype("datetime64[M]")
            months = first.astype(np.int64)
            if self.code == "M":
                into = (days - first.astype("datetime64[D]")).astype(np.int64) + 1
                moved: Ints = months + (into > self.anchor).astype(np.int64)
                return moved
            return (months + 12 - self.anchor) // MONTHS_IN[self.code]
        if self.code == "W":
            return (days.astype(np.int64) + 9 - self.anchor) // 7
        if self.code == "B":
            return np.busday_count(np.datetime64("1970-01-01"), days).astype(np.int64)
        if self.code == "D":
            return days.astype(np.int64)
        unit = "h" if self.code == "H" else "m"
        return moments.astype(f"datetime64[{unit}]").astype(np.int64) // self.multiple

    def starts(self, ordinals: Ints) -> Dates:
        """First day of each period, as datetime64[D].

        Parameters
        ----------
        ordinals : ndarray of int
            Ordinals of periods of this frequency.

        Returns
        -------
        ndarray of datetime64
            Days, one per ordinal.
        """
        if self.code == "M" and self.anchor != 31:
            before: Any = (ordinals - 1).astype("datetime64[M]").astype("datetime64[D]")
            ended: Dates = before + np.timedelta64(self.anchor, "D")
            return ended
        if self.code in MONTHS_IN:
            months = ordinals * MONTHS_IN[self.code] - (12 - self.anchor if self.code != "M" else 0)
            return months.astype("datetime64[M]").astype("datetime64[D]")
        if self.code == "W":
            return (ordinals * 7 - 9 + self.anchor).astype("datetime64[D]")
        if self.code == "B":
            return np.busday_offset("1970-01-01", ordinals, roll="forward")
        return ordinals.astype("datetime64[D]")

    def ends(self, ordinals: Ints) -> Dates:
        """Last day of each period, as datetime64[D].

        Parameters
        ----------
        ordinals : ndarray of int
            Ordinals of periods of this frequency.

        Returns
        -------
        ndarray of datetime64
            Days, one per ordinal.
        """
        if self.code in "BD":
            return self.starts(ordinals)
        return self.starts(ordinals + 1) - np.timedelta64(1, "D")

    def index(self, ordinals: Ints) -> pd.Index:
        """Pandas index of these periods: a PeriodIndex, dates for B and D, or instants (UTC) within days.

        Parameters
        ----------
        ordinals : ndarray of int
            Ordinals of periods of this frequency.

        Returns
        -------
        Index
            Index, one entry per ordinal.
        """
        if self.code in "HN":
            instants = (ordinals * self._minutes).astype("datetime64[m]").astype("datetime64[s]")
            return pd.DatetimeIndex(instants, name="time", tz="UTC")
        if self.is_dated:
            return pd.DatetimeIndex(self.starts(ordinals).astype("datetime64[s]"), name="date")
        make: Any = pd.PeriodIndex
        places = (
            ordinals + self._pandas_shift
            if self.code != "S"
            else (self.starts(ordinals).astype("datetime64[M]").astype(np.int64))
        )  # pandas has no half-years; its six months count by their first month
        index: pd.Index = make.from_ordinals(places, freq=self._pandas_code, name="period")
        return index

    def ordinals_of(self, index: pd.Index) -> Ints:
        """Ordinals of an index from :meth:`index`, or of any dates.

        Parameters
        ----------
        index : Index
            Periods or dates.

        Returns
        -------
        ndarray of int
            Ordinals of periods, one per date.
        """
        if isinstance(index, pd.PeriodIndex):
            if self.code == "S":
                return self.ordinals(calendar_days(index))
            same = index.freqstr == self._pandas_code
            codes = (index if same else index.asfreq(self._pandas_code)).asi8.astype(np.int64)
            return np.asarray(codes - self._pandas_shift)
        if isinstance(index, pd.DatetimeIndex) and index.tz is not None:
            index = index.tz_localize(None)
        return self.ordinals(index.to_numpy())

    def ordinal_of_name(self, period: str, *, last: bool = False) -> int:
        """Ordinal of the period with a name as written by :meth:`labels`.

        Parameters
        ----------
        period : str
            Name of a period. A name of the same kind is a period of this frequency: ``1984-Q1`` of ``Q-JAN`` ends
            in April 1983. A period of another kind, or a day, maps to the period that contains its first day.
        last : bool
            Use the last day of a period of another kind.

        Returns
        -------
        int
            Period number.

        Raises
        ------
        FrequencyError
            If ``period`` is not a period.

        Examples
        --------
        >>> fiscal = Frequency.parse("Q-JAN")
        >>> number = fiscal.ordinal_of_name("1984-Q1")
        >>> fiscal.labels(np.array([number])), str(fiscal.ends(np.array([number]))[0])
        (['1984-Q1'], '1983-04-30')
        """
        code, first = parse_period(period)
        if code == self.code and code in MONTHS_IN:
            return int(first.astype("datetime64[M]").astype(np.int64)) // MONTHS_IN[code]
        day = last_day(period) if last and code != self.code else first
        closed = last and self.code == "B" and not np.is_busday(day)
        return int(self.ordinals([day])[0]) - int(closed)

    def labels(self, ordinals: Ints) -> list[str]:
        """SDMX names of the periods, such as ``2024-Q1``.

        Parameters
        ----------
        ordinals : ndarray of int
            Ordinals of periods of this frequency.

        Returns
        -------
        list of str
            Names, one per ordinal.

        Examples
        --------
        >>> import ultrum as ul
        >>> monthly = ul.Frequency.parse("M")
        >>> monthly.labels(monthly.ordinals_of(ul.practice.panel().assets.index[:2]))
        ['2004-01', '2004-02']
        """
        starts = self.starts(ordinals)
        if self.code in "BD":
            return [str(day) for day in starts]
        if self.code == "M":
            return [str(day)[:7] for day in self.ends(ordinals)]
        if self.code == "W":
            thursdays = pd.DatetimeIndex(self.ends(ordinals)) - pd.Timedelta(days=self.anchor - 3)
            return [f"{d.isocalendar()[0]}-W{d.isocalendar()[1]:02d}" for d in thursdays]
        per_year = 12 // MONTHS_IN[self.code]
        years, parts = ordinals // per_year + 1970, ordinals % per_year + 1
        if self.code == "A":
            return [str(year) for year in years]
        return [f"{y}-{self.code}{part}" for y, part in zip(years, parts, strict=True)]

    @property
    def _day(self) -> int:
        """Day of the month on which its periods end; 31 for the last."""
        return self.anchor if self.code == "M" else 31

    @property
    def _minutes(self) -> int:
        return self.multiple * (60 if self.code == "H" else 1)

    @property
    def _pandas_code(self) -> str:
        if self.code == "W":
            return f"W-{DAYS[self.anchor]}"
        suffix = f"-{MONTHS[self.anchor - 1]}" if self.code in "AQ" else ""
        return {"A": "Y", "S": "6M"}.get(self.code, self.code) + suffix

    @property
    def _pandas_shift(self) -> int:
        """Difference between this ordinal and that of pandas, to convert one into the other."""
        return _pandas_shift_of(self)


@functools.cache
def _pandas_shift_of(frequency: Frequency) -> int:
    first = pd.Period("1970-01-01", freq=frequency._pandas_code)
    return int(first.ordinal) - int(frequency.ordinals(["1970-01-01"])[0])


def calendar_days(index: pd.Index) -> Dates:
    """Calendar date of each row in the time zone of the data, as datetime64[D]; for a period its last day.

    Examples
    --------
    >>> calendar_days(pd.DatetimeIndex(["2024-01-31"], tz="Asia/Tokyo")).astype(str).tolist()
    ['2024-01-31']
    """
    if isinstance(index, pd.PeriodIndex):
        index = index.to_timestamp(how="end")
    if isinstance(index, pd.DatetimeIndex) and index.tz is not None:
        index = index.tz_localize(None)
    return np.asarray(index.to_numpy().astype("datetime64[D]"))


def _unknown(text: object) -> str:
    code = code_of_word(str(text))
    if code:
        return f"'{text}' is not a frequency code. Write '{code}'."
    return (
        f"'{text}' is not a frequency. Use an SDMX code: A, S, Q, M, W, B, D, H or N, "
        "optionally with an anchor (W-FRI, A-MAR, M-25)."
    )


def _anchor(code: str, anchor: str | None, text: object) -> int:
    if anchor is None:
        return -1
    if code == "W" and anchor in DAYS:
        return DAYS.index(anchor)
    if code in "ASQ" and anchor in MONTHS:
        return MONTHS.index(anchor) + 1
    if code == "M" and anchor.isdigit() and 1 <= int(anchor) <= 28:
        return int(anchor)
    raise FrequencyError(_unknown(text))


def parse_period(text: str) -> tuple[str, np.datetime64]:
    """Frequency code and first day of an SDMX period such as ``2024-Q1`` or ``2024-03-15``.

    Examples
    --------
    >>> parse_period("2024-Q2")
    ('Q', np.datetime64('2024-04-01'))
    """
    match = _PERIOD.match(text.strip())
    try:
        if not match:
            if not _DAY.match(text.strip()):
                raise ValueError(text)
            if text.strip().startswith("0"):
                raise ValueError(text)
            return "D", np.datetime64(text.strip()[:10], "D")
        year, code, part, month = match.groups()
        if year.startswith("0"):
            raise ValueError(text)
        if month:
            return "M", np.datetime64(f"{year}-{month}-01", "D")
        code = code or "A"
        if code == "W":
            monday = pd.Timestamp.fromisocalendar(int(year), int(part), 1)
            return "W", np.datetime64(monday.date(), "D")
        number = int(part or 1)
        if not 1 <= number <= 12 // MONTHS_IN[code]:
            raise ValueError(text)
        return code, np.datetime64(f"{year}-{(number - 1) * MONTHS_IN[code] + 1:02d}-01", "D")
    except ValueError as error:
        raise FrequencyError(
            f"'{text}' is not a period. Write 2024, 2024-Q1, 2024-03, 2024-W05 or 2024-03-15."
        ) from error


def last_day(period: str) -> np.datetime64:
    """Last day of an SDMX period, or the day itself.

    Examples
    --------
    >>> last_day("2024-Q2")
    np.datetime64('2024-06-30')
    """
    code, first = parse_period(period)
    frequency = Frequency(code)
    return np.datetime64(frequency.ends(frequency.ordinals([first]))[0], "D")


def ordinals_of_labels(labels: object, frequency: Frequency) -> Ints:
    """Ordinals of many SDMX period names at once.

    Examples
    --------
    >>> ordinals_of_labels(["1970-Q1", "1971-Q1"], Frequency.parse("Q")).tolist()
    [0, 4]
    """
    texts = np.asarray(labels, dtype=np.str_)
    if not len(texts):
        return np.empty(0, dtype=np.int64)
    usual = np.isin(np.char.str_len(texts), {"A": [4], "M": [7], "B": [10], "D": [10]}.get(frequency.code, []))
    if usual.all():
        with contextlib.suppress(ValueError):  # a wrong label is named below
            return frequency.ordinals(texts.astype("datetime64[D]"))
    unique, place = np.unique(texts, return_inverse=True)
    return np.array([frequency.ordinal_of_name(str(text)) for text in unique], dtype=np.int64)[place]


# Durations of ISO 8601 with one unit, such as ``P1Y`` or ``P10D``

_DURATION: Final = re.compile(r"^P(\d{1,6})([YMWD])$")


def parse_duration(duration: str) -> tuple[int, str]:
    """Count and unit of a duration.

    Examples
    --------
    >>> parse_duration("P3M")
    (3, 'M')
    """
    match = _DURATION.match(str(duration).upper())
    if not match:
        raise FrequencyError(f"'{duration}' is not a duration. {duration_like(str(duration))}")
    return int(match[1]), match[2]


_WEEKS_A_MONTH: Final = 365.25 / 12 / 7


def periods_in(duration: str, frequency: Frequency) -> int:
    """Number of periods of a frequency in an ISO 8601 duration such as ``P1Y`` or ``P3M``; must be whole.

    Examples
    --------
    >>> periods_in("P1Y", Frequency.parse("Q"))
    4
    """
    count, unit = parse_duration(duration)
    months = {"Y": 12, "M": 1}.get(unit)
    if months and frequency.code in MONTHS_IN:
        whole, rest = divmod(count * months, MONTHS_IN[frequency.code])
        if rest == 0:
            return whole
    elif (unit, frequency.code) in {("W", "W"), ("D", "D")}:
        return count
    elif (unit, frequency.code) == ("W", "D"):
        return 7 * count
    weeks = round(count * (months or 0) * _WEEKS_A_MONTH) if frequency.code == "W" else 0
    advice = f"write P{weeks}W" if weeks else "choose another length"
    raise FrequencyError(f"{duration} is not a whole number of {frequency.name} periods; {advice}.")


def months_in(duration: str) -> int:
    """Months in a duration of years or months; 0 for weeks or days.

    Examples
    --------
    >>> months_in("P2Y"), months_in("P10D")
    (24, 0)
    """
    match = _DURATION.match(str(duration).upper())
    return int(match[1]) * {"Y": 12, "M": 1}.get(match[2], 0) if match else 0
