"""Spans: what to request from a source, and where to cut the result.

``last 12 quarters`` counts from the end of the data, and steps that look back (growth, rolling means,
conversions) get the history they need before the span is cut.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import TypeVar

import numpy as np

from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import calendar_days
from ultrum.core.time.relative_dates import is_relative, resolve_day, resolve_span, start_of_last
from ultrum.sources.sdmx.queries import Span

S = TypeVar("S", TimeSeries, SeriesTable)


@dataclass(frozen=True)
class DataSpan:
    """First and last day of the span.

    Attributes
    ----------
    start, end : str
        ISO dates, empty where open.
    last : int
        Number of most recent observations; 0 for all.
    lasting : str
        A relative length such as ``last 12 quarters``, which counts from the end of the data.
    """

    start: str = ""
    end: str = ""
    last: int = 0
    lasting: str = ""

    @classmethod
    def of(cls, start: str | None = None, end: str | None = None, last: int = 0) -> DataSpan:
        """Parse the ends of a span; words relative to today become dates."""
        today = date.today()
        stop = resolve_day(end, today, end=True) if end else ""
        if start and is_relative(start):
            return cls("", stop, last, start)
        return cls(resolve_day(start, today) if start else "", stop, last)

    @classmethod
    def of_words(cls, words: Sequence[str]) -> DataSpan:
        """Parse a span of one or two words, as in a set or a study."""
        if words and is_relative(words[0]):
            end = words[1] if len(words) == 2 else ""
            return cls.of(words[0], end)
        return cls(*resolve_span(words, date.today()))

    def query(self, *, whole: bool = False) -> Span:
        """What to request from a source: the full history if the start is not yet known or steps look back."""
        if whole or self.lasting:
            return Span("", self.end, 0 if whole else self.last)
        return Span(self.start, self.end, self.last)

    def from_latest(self, *series: TimeSeries) -> DataSpan:
        """The span with its start counted from the latest observation of some series."""
        if not self.lasting:
            return self
        ends = [calendar_days(k)[-1] for s in series if len(k := s.values.dropna().index)]
        if not ends:
            return replace(self, lasting="")
        last = min(np.max(ends), np.datetime64(self.end)) if self.end else np.max(ends)
        return replace(self, start=start_of_last(self.lasting, last.astype(object)), lasting="")

    def cut(self, series: TimeSeries) -> TimeSeries:
        """The part of a series within the span."""
        span = self.from_latest(series)
        part = series.sample(span.start or None, span.end or None)
        return TimeSeries(part.values.iloc[-span.last :], part.metadata) if span.last else part
