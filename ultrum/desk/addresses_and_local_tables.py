"""Series by address with their provenance, spans of time, and tables of local files, read in place."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, TypeVar

import numpy as np

from ultrum.core.series.metadata import Metadata, Step
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import calendar_days
from ultrum.core.time.period_labels_and_relative_dates import (
    is_relative,
    resolve_day,
    resolve_span,
    start_of_last,
)
from ultrum.errors import NotFoundError, SourceError, TableError, choices
from ultrum.sources.download_and_limits import PLACE, Address
from ultrum.sources.sdmx.queries import Span
from ultrum.sources.table.file_patterns import expand_pattern, files_of, is_pattern, read_many
from ultrum.sources.table.reader import read_table
from ultrum.sources.table.reading_result import Reading, TableOptions
from ultrum.sources.table.unpacking import read_file

if TYPE_CHECKING:
    from ultrum.desk.settings import SourceSettings


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


# Series by address with their provenance, and tables of local files, read in place

IN_PART: Final = "read in part"  # step, and status of a pull


def column_of(reading: Reading, wanted: Address) -> TimeSeries:
    """The series of a table that an address refers to; a table with one series needs no column name.

    Raises
    ------
    SourceError
        If it refers to none, or one that does not exist.
    """
    series = reading.series
    if not wanted.field and len(series) == 1:
        return next(iter(series.values()))
    if wanted.field in series:
        return series[wanted.field]
    columns = choices(series)
    if wanted.field:
        raise SourceError(f"{wanted}: no column '{wanted.field}'; there are: {columns}.")
    first = next(iter(series), "column")
    raise SourceError(f"{wanted} is a table. Add a column, such as {wanted}#{first}. There are: {columns}.")


def with_address(reading: Reading, wanted: Address) -> Reading:
    """Series with their source in the metadata; ``#dividends`` and ``#splits`` are the events among prices."""
    if wanted.field in reading.events:
        return reading.events_alone(wanted.field)
    if wanted.field in ("dividends", "splits") and not any(wanted.field in n for n in reading.series):
        raise SourceError(
            f"{wanted.source}:{wanted.path} has no {wanted.field} among its prices. Remove #{wanted.field}."
        )
    step = _partial_step(reading)
    fields = {
        column: block.from_arrays(
            block.array,
            block.index,
            tuple(_metadata_at(a, wanted, column, step) for a in block.metadata),
            block.causes,
        )
        for column, block in reading.fields.items()
    }
    return replace(reading, fields=fields)


def _partial_step(reading: Reading) -> Step | None:
    """The step of a reading in part; None if everything was used."""
    if not reading.faults:
        return None
    first = reading.faults[0]
    return Step(IN_PART, (("not used", f"{len(reading.faults)}, first line {first.line}"),))


def _metadata_at(metadata: Metadata, address: Address, column: str, step: Step | None) -> Metadata:
    """Metadata with the source, and with the step of a reading in part."""
    name = metadata.name if metadata.name == column or not column else f"{metadata.name}.{column}"
    where = Address(address.source, address.path, name)
    placed = metadata.replace(source=address.source, address=str(where))
    return placed if step is None else placed.replace(trail=(*placed.trail, step))


def places_of(
    settings: SourceSettings, pattern: str, expand: Mapping[str, Sequence[str]]
) -> list[tuple[str, dict[str, str]]]:
    """Paths that match a pattern, with the values of its fields; in a local folder those of existing files."""
    if expand or not settings.is_local:
        return expand_pattern(pattern, expand)
    return files_below(settings.url, pattern)


def files_below(folder: str, pattern: str) -> list[tuple[str, dict[str, str]]]:
    """Paths below a folder that match a pattern, with the values of its fields."""
    root = Path(folder)
    return [(Path(file).relative_to(root).as_posix(), parts) for file, parts in files_of(str(root / pattern))]


# Tables of local files, read in place and not stored


class LocalTables:
    """Local files as tables by address, like those of a :class:`ultrum.Desk`, without a vault.

    Parameters
    ----------
    settings : mapping
        Settings of a source of kind ``table`` whose ``url`` is a folder.
    """

    def __init__(self, settings: Mapping[str, Any]) -> None:
        self._root, self._options = str(settings["url"]), dict(settings.get("tables", {}))

    def table(self, address: str, **facts: object) -> Reading:
        """A whole table by its address, which may be a pattern.

        Parameters
        ----------
        address : str
        **facts
            Options and metadata as for :func:`ultrum.read_series`.

        Returns
        -------
        Reading

        Raises
        ------
        SourceError, TableError
            If a file is missing, or ambiguous.
        """
        wanted = Address.parse(address)
        options = self.options_of(wanted, facts)
        if not is_pattern(wanted.path):
            return with_address(self._read(wanted.path, options), wanted).warn_of_faults()
        places = files_below(self._root, wanted.path)
        reading = read_many(wanted.path, places, options, self._read, lambda path: read_below(self._root, path))
        return with_address(reading, wanted).warn_of_faults()

    def options_of(self, wanted: Address, facts: Mapping[str, object]) -> TableOptions:
        """Options of a table: those of its source, then those given; None is not given."""
        given = {name: value for name, value in facts.items() if value is not None}
        return TableOptions.of(**{**self._options.get(wanted.path, {}), **given})

    def fetch(self, address: str) -> TimeSeries:
        """One column of a table.

        Parameters
        ----------
        address : str

        Returns
        -------
        TimeSeries

        Raises
        ------
        SourceError
            If the address names no existing column.
        """
        wanted = Address.parse(address)
        return column_of(self.table(f"{wanted.source}:{wanted.path}"), wanted)

    def _read(self, path: str, options: TableOptions) -> Reading:
        body = read_below(self._root, path)
        return read_table(body, path, options.in_charset("", body), str(date.today()))


def place_of(folder: str, path: str) -> str:
    """What stands for the location of a local file in the vault; it does not reveal the path.

    Examples
    --------
    >>> place_of("/data/one", "prices.csv") == place_of("/data/two", "prices.csv")
    False
    """
    file = (Path(folder) / path).resolve()
    return f"{PLACE}{hashlib.sha256(os.fsencode(file)).hexdigest()[:32]}"


def read_below(folder: str, path: str) -> bytes:
    """Bytes of a file within a folder.

    Raises
    ------
    SourceError
        If the file is outside the folder, missing or not a regular file.
    """
    root = Path(folder).resolve()
    file = (root / path).resolve()
    if not file.is_relative_to(root):
        raise SourceError(f"{path} is outside the folder {folder}. A source reads only its own folder.")
    try:
        return read_file(file)
    except NotFoundError:
        raise
    except TableError as error:
        raise SourceError(str(error)) from error
