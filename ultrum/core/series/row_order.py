"""Rows of a series: sorted, unique, as periods or dates."""

from __future__ import annotations

from collections import Counter

import numpy as np
import pandas as pd

from ultrum.core.array_types import Dates, Ints
from ultrum.core.displayed_numbers import counted
from ultrum.core.series.metadata import Metadata
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.period_labels import span_of
from ultrum.errors import AlignmentError, FrequencyError


def index_like(index: pd.Index, ordinals: Ints, frequency: Frequency) -> pd.Index:
    """Index of a series: periods, or dates where rows keep theirs."""
    if frequency.code in "HN":
        if getattr(index, "tz", None) is None:
            raise FrequencyError("Intraday data need a time zone: index.tz_localize('Europe/…').")
        return index
    if frequency.is_dated:  # a row keeps its date
        return pd.DatetimeIndex(days_of(index).astype("datetime64[s]"), name="date")
    return frequency.index(ordinals)


def refuse_disorder(index: pd.Index, name: str) -> None:
    """Rows of a series are in order of time, each once; everything below relies on it."""
    if index.is_monotonic_increasing and index.is_unique:
        return
    wrong = "twice" if not index.is_unique else "out of order"
    raise FrequencyError(f"{name} has rows {wrong}. Make it with from_pandas, which checks and sorts.")


def in_order(values: pd.DataFrame) -> pd.DataFrame:
    """Rows in order of time."""
    try:
        return values if values.index.is_monotonic_increasing else values.sort_index()
    except TypeError as error:
        raise FrequencyError(
            f"The row labels cannot be put in order ({error}); use dates or periods of one kind."
        ) from error


def with_weekends(frequency: Frequency, index: pd.Index) -> Frequency:
    """Business-daily data with rows on weekends are daily, so that each row keeps its date."""
    if frequency.code != "B" or isinstance(index, pd.PeriodIndex) or not len(index):
        return frequency
    return frequency if np.is_busday(days_of(index)).all() else Frequency("D")


def days_of(index: pd.Index) -> Dates:
    """Calendar dates of labels that are dates or texts of dates."""
    try:
        return calendar_days(index)
    except (TypeError, ValueError) as error:
        raise FrequencyError(
            f"The row label '{index[0]}' is not a date; use dates such as 2024-03-31 or periods."
        ) from error


def refuse_one_name_twice(names: list[str]) -> None:
    """Refuse two series of one name."""
    twice = [n for n, c in Counter(names).items() if c > 1]
    if twice:
        raise AlignmentError(f"Two series are named '{twice[0]}'; rename one of them.")


def refuse_duplicates(ordinals: Ints, frequency: Frequency, name: str) -> None:
    """Refuse two rows of one period."""
    twice = np.flatnonzero(np.diff(ordinals) == 0)
    if len(twice) and frequency.code not in "HN":
        label = frequency.labels(ordinals[twice[:1]])[0]
        raise FrequencyError(
            f"{name}: {counted(len(twice), f'duplicate {frequency.name} period')}, first {label}. "
            "Keep one of each, or set the true frequency."
        )


def headline(metadata: Metadata, index: pd.Index) -> str:
    """What a series is, in one line."""
    unit = " ".join(word for word in (metadata.measure, metadata.unit, metadata.currency) if word)
    facts = [
        metadata.heading,
        metadata.frequency.name,
        unit,
        span_of(index),
        f"{counted(len(index), 'value')}",
    ]
    return ", ".join(fact for fact in facts if fact)


def glimpse(values: pd.Series | pd.DataFrame) -> str:
    """First and last three rows, 100 columns wide at most."""
    with pd.option_context("display.width", 100, "display.max_rows", 6, "display.min_rows", 6):
        text = repr(values.to_frame() if isinstance(values, pd.Series) else values)
    return "\n".join(line for line in text.splitlines() if not line.startswith("["))
