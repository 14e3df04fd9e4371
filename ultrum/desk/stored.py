"""Stored downloads of an address, and how they are read again."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from ultrum.core.series.time_series import TimeSeries
from ultrum.desk.addresses import addressed, places_of
from ultrum.desk.settings import SourceSettings
from ultrum.desk.spans import DataSpan
from ultrum.errors import VaultError
from ultrum.sources.database import Query, table_options
from ultrum.sources.delivery import Address
from ultrum.sources.sdmx import covers, key_of
from ultrum.sources.table import TableOptions, read_table
from ultrum.sources.table.file_patterns import is_pattern
from ultrum.vault import Record

if TYPE_CHECKING:
    from ultrum.desk.desk import Desk


def kept_paths(desk: Desk, wanted: Address, spans: bool = False) -> list[str]:
    """Paths in the vault whose deliveries hold what an address names, whole or also for a span."""
    paths = dict.fromkeys(r.path for r in desk.vault.records() if r.source == wanted.source)
    if desk.kind_of(wanted) == "sdmx":
        return [p for p in paths if covers(p, wanted.path, spans)]
    snapshot = desk.sources[wanted.source].snapshots.get(wanted.path)
    return [p for p in paths if p == (snapshot.path if snapshot else wanted.path)]


def series_of_service(desk: Desk, wanted: Address, span: DataSpan, whole: bool) -> TimeSeries:
    """One series of a statistics service; offline also out of a delivery of many."""
    service = desk.service(wanted.source)
    try:
        return service.series(wanted.path, span.query(whole=whole), wanted.field)
    except VaultError:
        flow = wanted.path.partition("/")[0]
        for path in kept_paths(desk, wanted):
            for series in service.all_series(f"{flow}/{key_of(path)}"):
                if series.metadata.address == str(wanted):
                    return series
        raise


def series_of_record(desk: Desk, record: Record, wanted: Address) -> TimeSeries:
    """The series that an address names, out of one delivery in the vault."""
    body = desk.vault.payload(record)
    if desk.kind_of(wanted) == "sdmx":
        found = desk.service(wanted.source).read(wanted.path.partition("/")[0], body)
        own = {s.metadata.address: s for s in found}
    else:
        options = TableOptions.of(**table_settings(desk.sources[wanted.source], wanted.path))
        reading = addressed(read_table(body, record.path, options), wanted)
        own = {s.metadata.address: s for s in reading.series.values()}
    if str(wanted) not in own:
        raise VaultError(f"{record.name} does not hold {wanted}.")
    return own[str(wanted)]


def table_settings(settings: SourceSettings, path: str) -> dict[str, Any]:
    """Decisions that the settings hold for a table."""
    if settings.kind == "database":
        return dict(table_options(settings.queries.get(path) or Query(table=path)))
    return dict(settings.tables.get(path, {}))


def series_within(
    desk: Desk, address: str, span: DataSpan, *, whole: bool = False
) -> list[TimeSeries]:
    """Every series that an address names, of a span or with its whole history, not yet cut.

    Parameters
    ----------
    desk : Desk
    address : str
    span : DataSpan
    whole : bool
        Ask for the history before the span too, which steps need.
    """
    wanted = Address.parse(address)
    if desk.kind_of(wanted) == "sdmx":
        found = desk.service(wanted.source).all_series(wanted.path, span.query(whole=whole))
        return [
            s for s in found if not wanted.field or s.metadata.address.endswith(f"#{wanted.field}")
        ]
    if wanted.field or wanted.path in desk.sources[wanted.source].snapshots:
        return [desk.fetch(address)]
    return list(desk.table(address).series.values())


def paths_of(
    desk: Desk, address: str, span: DataSpan, over: Mapping[str, Sequence[str]], *, whole: bool
) -> list[tuple[str, str]]:
    """Sources and paths of the deliveries that an address needs."""
    wanted = Address.parse(address)
    if desk.kind_of(wanted) == "sdmx":
        path = desk.service(wanted.source).data_path(wanted.path, span.query(whole=whole))
        return [(wanted.source, path)]
    settings = desk.sources[wanted.source]
    snapshot = settings.snapshots.get(wanted.path)
    path = snapshot.path if snapshot else wanted.path
    paths = [p for p, _ in places_of(settings, path, over)] if is_pattern(path) else [path]
    return [(wanted.source, p) for p in paths]
