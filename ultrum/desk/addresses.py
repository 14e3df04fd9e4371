"""Series by address, cut to a span, with their provenance."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Final

from ultrum.core.series.metadata import Metadata, Step
from ultrum.core.series.time_series import TimeSeries
from ultrum.errors import SourceError, choices
from ultrum.sources.download import Address
from ultrum.sources.table.file_patterns import expand_pattern, files_of
from ultrum.sources.table.reading_result import Reading

if TYPE_CHECKING:
    from ultrum.desk.settings import SourceSettings


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
        column: type(block)(
            block.values, tuple(_metadata_at(a, wanted, column, step) for a in block.metadata), block.causes
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
