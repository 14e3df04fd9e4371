"""Rows of a series: sorted, unique, by period or date; memory order of a table."""

from __future__ import annotations

from collections import Counter
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import Metadata
from ultrum.core.time.frequency import Frequency, calendar_days, ordinals_of_labels, parse_period
from ultrum.core.time.period_labels_and_relative_dates import period_label, span_of
from ultrum.errors import AlignmentError, FrequencyError, UnitError

_USE_DATES: Final = "Use dates such as 2024-03-31 or periods."
_YEARS: Final = (1500, 2500)  # four digits outside are row numbers or codes
_COLUMNS: Final = 24  # looked at together, so that they stay in the cache
_LEAST_MONTH: Final = 100_000  # numbers below are years


def index_like(index: pd.Index, ordinals: Ints, frequency: Frequency) -> pd.Index:
    """Index of a series: periods, or dates where rows keep theirs."""
    if frequency.code in "HN":
        if getattr(index, "tz", None) is None:
            raise FrequencyError("Intraday data need a time zone: index.tz_localize('Europe/…').")
        return index
    if frequency.is_dated:  # a row keeps its date
        return pd.DatetimeIndex(calendar_days(index).astype("datetime64[s]"), name="date")
    return frequency.index(ordinals)


def refuse_disorder(index: pd.Index, name: str) -> None:
    """Rows of a series are sorted by time and unique, which all other code relies on."""
    if index.is_monotonic_increasing and index.is_unique:
        return
    wrong = "twice" if not index.is_unique else "out of order"
    raise FrequencyError(f"{name} has rows {wrong}. Use from_pandas, which checks and sorts.")


def in_order(values: pd.DataFrame) -> pd.DataFrame:
    """Rows sorted by time."""
    try:
        return values if values.index.is_monotonic_increasing else values.sort_index()
    except TypeError as error:
        raise FrequencyError(
            f"The row labels cannot be sorted ({error}). Use dates or periods of one kind."
        ) from error


def with_weekends(frequency: Frequency, index: pd.Index) -> Frequency:
    """Business-daily data with rows on weekends become daily, so that each row keeps its date."""
    if frequency.code != "B" or isinstance(index, pd.PeriodIndex) or not len(index):
        return frequency
    return frequency if np.is_busday(calendar_days(index)).all() else Frequency("D")


def dates_or_periods(index: pd.Index) -> pd.Index:
    """Row labels as dates or periods: texts of the standard, and numbers such as 20240331, 202403 and 2024.

    Examples
    --------
    >>> dates_or_periods(pd.Index([202403, 202404]))
    PeriodIndex(['2024-03', '2024-04'], dtype='period[M]', name='period')
    >>> dates_or_periods(pd.Index(["2024-03-28", "2024-04-02"])).strftime("%d/%m").tolist()
    ['28/03', '02/04']
    >>> dates_or_periods(pd.RangeIndex(12))
    Traceback (most recent call last):
    ...
    ultrum.errors.FrequencyError: The row labels are numbers, 0 to 11, not dates. Set the dates as the index, \
such as values.set_index('date'); years as text, with values.index.astype(str).
    """
    if not len(index):
        return index if isinstance(index, pd.DatetimeIndex | pd.PeriodIndex) else pd.DatetimeIndex([])
    if index.hasnans:
        row = int(np.flatnonzero(index.isna())[0])
        raise FrequencyError(f"Row {row + 1} of {len(index)} has no date. Remove the row, or set its date.")
    if isinstance(index, pd.DatetimeIndex | pd.PeriodIndex):
        return index
    if pd.api.types.is_bool_dtype(index.dtype) or pd.api.types.is_timedelta64_dtype(index.dtype):
        raise FrequencyError(f"The row label '{index[0]}' is not a date. {_USE_DATES}")
    texts = [_number_text(label) for label in index]
    is_number = pd.api.types.is_numeric_dtype(index.dtype)
    if is_number or all(text.isdigit() for text in texts):
        labels = None if is_number and _may_be_row_numbers(index) else _labels_of(list(map(_with_hyphens, texts)))
        if labels is None:
            raise FrequencyError(
                f"The row labels are numbers, {index[0]} to {index[-1]}, not dates. Set the dates as the index, "
                "such as values.set_index('date'); years as text, with values.index.astype(str)."
            )
        return labels
    labels = _labels_of(texts)
    if labels is not None:
        return labels
    try:
        if isinstance(index[0], pd.Period):
            return pd.PeriodIndex(index)
        return pd.DatetimeIndex(np.array(index.to_numpy(), dtype="datetime64[us]"))
    except (TypeError, ValueError) as error:
        raise FrequencyError(f"The row label '{index[0]}' is not a date. {_USE_DATES}") from error


def _may_be_row_numbers(index: pd.Index) -> bool:
    """Whether numbers may be those of rows, which a part of a frame keeps: years have none left out."""
    if isinstance(index, pd.RangeIndex):
        return True
    return float(index.max()) < _LEAST_MONTH and (np.abs(np.diff(np.sort(index.to_numpy()))) != 1).any()


def _number_text(label: object) -> str:
    """A label as text; a whole number without its decimal point."""
    if isinstance(label, float) and label.is_integer():
        return str(int(label))
    return str(label).strip()


def _with_hyphens(text: str) -> str:
    """Eight digits as a day, six as a month and four as a year with hyphens; other numbers are no date."""
    if not text.isdigit() or len(text) not in (4, 6, 8) or not _YEARS[0] <= int(text[:4]) <= _YEARS[1]:
        return "not a date"
    return "-".join(part for part in (text[:4], text[4:6], text[6:]) if part)


def _labels_of(texts: list[str]) -> pd.Index | None:
    """Index of the periods or dates that texts name in the form of the standard; None if one does not."""
    try:
        codes = {parse_period(text)[0] for text in dict.fromkeys(texts)}
    except FrequencyError:
        return None
    if len(codes) > 1:
        raise FrequencyError(
            f"The row labels mix days and periods, such as '{texts[0]}' and others. {_USE_DATES}"
        )
    if codes == {"D"}:
        return pd.DatetimeIndex(texts)
    frequency = Frequency(codes.pop())
    return frequency.index(ordinals_of_labels(texts, frequency))


def refuse_one_name_twice(names: list[str]) -> None:
    """Refuse duplicate names of series."""
    twice = [n for n, c in Counter(names).items() if c > 1]
    if twice:
        raise AlignmentError(f"Two series are named '{twice[0]}'. Rename one of them.")


def refuse_duplicates(ordinals: Ints, frequency: Frequency, name: str) -> None:
    """Refuse duplicate periods."""
    twice = np.flatnonzero(np.diff(ordinals) == 0)
    if len(twice) and frequency.code not in "HN":
        label = frequency.labels(ordinals[twice[:1]])[0]
        raise FrequencyError(
            f"{name}: {quantity(len(twice), f'duplicate {frequency.name} period')}, first {label}. "
            "Keep one of each, or set the true frequency."
        )


def headline(metadata: Metadata, index: pd.Index) -> str:
    """A series in one line."""
    unit = " ".join(word for word in (metadata.measure, metadata.unit, metadata.currency) if word)
    facts = [metadata.heading, metadata.frequency.name, unit, span_of(index), f"{quantity(len(index), 'value')}"]
    return ", ".join(fact for fact in facts if fact)


def glimpse(values: pd.Series | pd.DataFrame) -> str:
    """First and last three rows, within 100 columns."""
    with pd.option_context("display.width", 100, "display.max_rows", 6, "display.min_rows", 6):
        text = repr(values.to_frame() if isinstance(values, pd.Series) else values)
    return "\n".join(line for line in text.splitlines() if not line.startswith("["))


# The numbers of a table as one array


def numbers_in(frame: pd.DataFrame) -> Floats:
    """Values of a frame as an array; the first value that is not a finite real number is named."""
    for name, kind in frame.dtypes.items():
        if kind.kind == "c":
            raise UnitError(f"{name} contains complex numbers. Use real numbers.")
    try:
        return _finite(frame, np.asarray(frame.to_numpy(dtype=np.float64, na_value=np.nan)))
    except (TypeError, ValueError):
        for name in frame:
            numbers = pd.to_numeric(frame[name], errors="coerce")
            wrong = np.flatnonzero(numbers.isna() & frame[name].notna())
            if len(wrong):
                place = f"{name}, {period_label(frame.index[wrong[0]])}"
                raise UnitError(
                    f"{place}: '{frame[name].iloc[wrong[0]]}' is not a number. For files with codes for missing "
                    "values or decimal commas use read_series."
                ) from None
        raise


def _finite(frame: pd.DataFrame, values: Floats) -> Floats:
    """The values; refuses infinite ones."""
    for low in range(0, values.shape[1], _COLUMNS):
        infinite = np.isinf(values[:, low : low + _COLUMNS])
        if infinite.any():
            row, column = np.argwhere(infinite)[0]
            place = f"{frame.columns[low + column]}, {period_label(frame.index[row])}"
            raise UnitError(f"{place}: the value is infinite. Mark it as missing (NaN), or correct it.")
    return values


def bounds_of(block: Floats) -> tuple[Ints, Ints]:
    """First and last row with a value; T and −1 where a column has none."""
    first = _first_value(block)
    last = len(block) - 1 - _first_value(block[::-1])
    return first, last


def _first_value(block: Floats) -> Ints:
    """First row with a value; T where a column has none. Few rows are read of columns that begin early."""
    rows, columns = block.shape
    first, open_, low, size = np.full(columns, rows), np.arange(columns), 0, 16
    while len(open_) and low < rows:
        part = block[low : low + size]
        valid = np.isfinite(part if len(open_) == columns else part[:, open_])
        found = valid.any(axis=0)
        first[open_[found]] = low + valid[:, found].argmax(axis=0)
        open_, low, size = open_[~found], low + size, 4 * size
    return first
