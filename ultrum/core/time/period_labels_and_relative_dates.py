"""Labels of periods, and relative dates such as "the last 25 years"."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, date, datetime, time, timedelta
from typing import Any, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.array_types import Dates
from ultrum.core.time.frequency import Frequency, calendar_days, last_day, parse_period
from ultrum.core.time.index_frequency_and_gaps import _half_years
from ultrum.errors import AlignmentError, FrequencyError

_PERIOD: Final = re.compile(r"\d{4}(-(0[1-9]|1[0-2]|Q[1-4]|S[12]))?")  # a year, month, quarter or half-year


def span_of(index: pd.Index) -> str:
    """A span in words: ``2004-01 to 2024-12``."""
    if not len(index):
        return "empty"
    return f"{period_label(index[0])} to {period_label(index[-1])}"


def period_label(moment: object) -> str:
    """SDMX name of a period or date, with the time of day and the offset of an instant; a dash for a missing one.

    Examples
    --------
    >>> period_label(pd.Period("2024Q1")), period_label(pd.Timestamp("2024-01-02 09:31", tz="Europe/Paris"))
    ('2024-Q1', '2024-01-02T09:31+01:00')
    """
    if moment is None or moment is pd.NaT:
        return "—"
    if isinstance(moment, pd.Period):
        text = str(moment)
        if moment.freqstr == "6M":
            anchor = _half_years(pd.PeriodIndex([moment]))
            return anchor.labels(anchor.ordinals_of(pd.PeriodIndex([moment])))[0]
        if moment.freqstr.startswith("W"):
            end = moment.end_time
            year, week, _ = (end - pd.Timedelta(days=end.weekday() - 3)).isocalendar()
            return f"{year}-W{week:02d}"
        return f"{text[:4]}-{text[4:]}" if "Q" in text else text
    if isinstance(moment, datetime) and (moment.tzinfo is not None or moment.time() != time.min):
        return moment.isoformat(timespec="minutes" if not (moment.second or moment.microsecond) else "auto")
    return str(moment)[:10]


def file_label(moment: object) -> str:
    """The label of a period in a file, from which it is read back.

    That of :func:`period_label`, but weeks that do not end on a Sunday have their last day.

    Examples
    --------
    >>> file_label(pd.Period("2024-01-05", "W-FRI")), file_label(pd.Period("2024-01-07", "W-SUN"))
    ('2024-01-05', '2024-W01')
    """
    if isinstance(moment, pd.Period) and moment.freqstr.startswith("W") and moment.freqstr != "W-SUN":
        return str(moment.end_time.date())
    return period_label(moment)


# Rows of an index from one period to another


def rows_between(index: pd.Index, frequency: Frequency, start: object, end: object) -> slice:
    """Rows from ``start`` to ``end``, both included; an open side is None.

    Names of periods are parsed as by :meth:`Frequency.ordinal_named`; days and periods of another kind include
    all their days. Intraday data are selected by instants.

    Examples
    --------
    >>> weeks = pd.period_range("2024-01-05", periods=9, freq="W-FRI")
    >>> rows_between(weeks, Frequency.parse("W-FRI"), "2024-W03", "2024-02-05")
    slice(2, 6, None)
    """
    if frequency.code in "HN":
        return index.slice_indexer(_instant(start, "start", index), _instant(end, "end", index))
    places: Any = calendar_days(index) if frequency.is_dated else frequency.ordinals_of(index)
    first, stop = 0, len(index)
    if start is not None:
        name = start if isinstance(start, str) else period_label(start)
        low: Any = parse_period(name)[1] if frequency.is_dated else frequency.ordinal_of_name(name)
        first = int(np.searchsorted(places, low, "left"))
    if end is not None:
        name = end if isinstance(end, str) else period_label(end)
        high: Any = last_day(name) if frequency.is_dated else frequency.ordinal_of_name(name, last=True)
        stop = int(np.searchsorted(places, high, "right"))
    return slice(first, stop)


def _instant(moment: object, side: Literal["start", "end"], index: Any) -> object:
    """The first or last instant of a period, in the time zone of an index; other labels are unchanged."""
    if not isinstance(moment, pd.Period):
        return moment
    return moment.to_timestamp(how=side).tz_localize(index.tz)


# Relative dates ("the last 25 years"), instants in UTC, and columns of days

OPEN: Final = ("earliest", "latest")
_LAST: Final = re.compile(r"(?:the )?last (\d+) (year|quarter|month|week|day)s?", re.IGNORECASE)
_LENGTHS: Final = {  # months and days
    "year": (12, 0),
    "quarter": (3, 0),
    "month": (1, 0),
    "week": (0, 7),
    "day": (0, 1),
}
_LONGEST: Final = 12_000  # months or days
_PLAIN: Final = {"today": 0, "yesterday": 1}


def resolve_day(text: str, today: date, *, end: bool = False) -> str:
    """ISO date of a period or a relative date; empty for an open end.

    Parameters
    ----------
    text : str
        ``2010``, ``2010-Q1``, ``2010-01-15``, ``today``, ``yesterday``, ``last 25 years``,
        ``earliest`` or ``latest``.
    today : date
        The reference day of relative dates.
    end : bool
        Return the last day of a period instead of its first.

    Examples
    --------
    >>> resolve_day("the last 30 months", date(2024, 12, 10))
    '2022-06-10'
    >>> resolve_day("2010-Q1", date(2024, 12, 10), end=True)
    '2010-03-31'
    """
    word = text.strip().lower()
    if word in OPEN:
        return ""
    if word in _PLAIN:
        return str(today - timedelta(days=_PLAIN[word]))
    if is_relative(word):
        return str((pd.Timestamp(today) - _offset(word)).date())
    return str(last_day(text) if end else parse_period(text)[1])


def is_relative(text: str) -> bool:
    """Whether a text is a relative length, such as ``last 12 quarters``."""
    return bool(_LAST.fullmatch(text.strip().lower()))


def start_of_last(text: str, last: date) -> str:
    """First day of a span of a given length that ends on a day.

    Examples
    --------
    >>> start_of_last("last 12 quarters", date(2023, 12, 31))
    '2021-01-01'
    """
    after = pd.Timestamp(last) + pd.Timedelta(days=1)
    return str((after - _offset(text.strip().lower())).date())


def _offset(text: str) -> pd.DateOffset:
    match = _LAST.fullmatch(text)
    if not match:
        raise FrequencyError(f"'{text}' is not a relative date. Write 'last 12 quarters' or 'last 25 years'.")
    count, (months, days) = int(match[1]), _LENGTHS[match[2].lower()]
    if count * (months or 1) > _LONGEST:
        raise FrequencyError(f"'{text}' is longer than any data. Write a shorter length, or 'earliest'.")
    return pd.DateOffset(months=count * months, days=count * days)


def resolve_instant(text: str, today: date) -> str:
    """An instant in UTC; a day, a longer period or a word such as ``yesterday`` stands for its end.

    Examples
    --------
    >>> resolve_instant("2024-03-31", date(2024, 12, 10))
    '2024-03-31T23:59:59.999999Z'
    >>> resolve_instant("2024-03-31T12:00+02:00", date(2024, 12, 10))
    '2024-03-31T10:00:00.000000Z'
    """
    if "T" not in text:
        last = resolve_day(text, today, end=True)
        if not last:
            raise FrequencyError(f"'{text}' is not an instant; write a day, or 2024-03-31T12:00Z.")
        return f"{last}T23:59:59.999999Z"
    try:
        moment = datetime.fromisoformat(text.strip())
    except ValueError:
        raise FrequencyError(f"'{text}' is not an instant; write a day, or 2024-03-31T12:00Z.") from None
    instant = moment.astimezone(UTC) if moment.tzinfo else moment.replace(tzinfo=UTC)
    return instant.strftime("%Y-%m-%dT%H:%M:%S.%fZ")


def resolve_span(span: Sequence[str], today: date) -> tuple[str, str]:
    """First and last day (ISO dates, empty where open) of a span of one or two words.

    Examples
    --------
    >>> resolve_span(["last 25 years"], date(2024, 12, 31))
    ('1999-12-31', '')
    >>> resolve_span(["2010", "yesterday"], date(2024, 12, 31))
    ('2010-01-01', '2024-12-30')
    """
    if not 1 <= len(span) <= 2:
        raise FrequencyError(f"A span is a first and a last period, or 'last 25 years'; not {list(span)}.")
    start = resolve_day(span[0], today)
    last = resolve_day(span[1], today, end=True) if len(span) == 2 else ""
    if start and last and last < start:
        raise FrequencyError(f"The span ends ({last}) before it starts ({start}).")
    return start, last


def period_ends_in(periods: Any, what: str) -> Dates:
    """Last days of a column of periods: days, months such as ``2024-06``, quarters, years, or pandas periods.

    Parameters
    ----------
    periods : sequence, shape (T,)
    what : str
        Name of the column, for the message.

    Examples
    --------
    >>> period_ends_in(["2024-06", "2024-Q3", "2024", "2024-06-28"], "period").astype(str).tolist()
    ['2024-06-30', '2024-09-30', '2024-12-31', '2024-06-28']
    """
    index = periods if isinstance(periods, pd.Index) else pd.Index(periods)
    if isinstance(index, pd.PeriodIndex | pd.DatetimeIndex):
        return days_in(index, what)
    ends = {label: _period_end(label) for label in index.unique()}
    return days_in([ends[label] for label in index], what)


def _period_end(label: object) -> object:
    """The last day of a month, quarter or year; anything else as it is."""
    text = str(label).strip()
    return str(last_day(text)) if _PERIOD.fullmatch(text) else label


def days_in(dates: Any, what: str, *, missing: bool = False) -> Dates:
    """Days of a column of ISO texts, dates, timestamps or periods; for a period its last day.

    An ambiguous text such as ``03/04/2024`` is refused.

    Parameters
    ----------
    dates : sequence, shape (T,)
    what : str
        Name of the column, for the message.
    missing : bool
        Allow missing values.

    Examples
    --------
    >>> days_in(["2024-03-31", date(2024, 4, 1)], "paid").astype(str).tolist()
    ['2024-03-31', '2024-04-01']
    """
    if np.ndim(dates) != 1:
        raise AlignmentError(f"{what}: one column of days is expected, not {np.ndim(dates)} dimensions.")
    index = dates if isinstance(dates, pd.Index) else pd.Index(dates)
    if isinstance(index, pd.PeriodIndex):
        index = index.to_timestamp(how="end")
    if isinstance(index, pd.DatetimeIndex):
        days = index.tz_localize(None).to_numpy().astype("datetime64[D]")
    else:
        days = np.array([_day(value) for value in index], dtype="datetime64[D]")
    wrong = np.flatnonzero(np.isnat(days) & ~(missing & np.asarray(index.isna())))
    if len(wrong):
        raise AlignmentError(
            f"{what}: row {wrong[0] + 1} of {len(index)} holds '{index[wrong[0]]}', which is not a date. Write "
            "dates as 2024-03-31."
        )
    return np.asarray(days)


def day_in(moment: object, what: str) -> np.datetime64:
    """One day, parsed as by :func:`days_in`."""
    return np.datetime64(days_in([moment], what)[0], "D")


def _day(value: object) -> object:
    """Day of a text or date; NaT for other values."""
    if isinstance(value, str):
        try:
            return datetime.fromisoformat(value.strip()).date()
        except ValueError:
            return np.datetime64("NaT", "D")
    if isinstance(value, date | np.datetime64) and not pd.isna(value):
        return pd.Timestamp(value).tz_localize(None).date()
    return np.datetime64("NaT", "D")
