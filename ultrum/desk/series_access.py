"""Series by address: one, or all of an address, from a service or a table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ultrum.core.series.time_series import TimeSeries
from ultrum.core.transform.aggregation import to_frequency
from ultrum.desk.addresses import column_of, places_of
from ultrum.desk.repository import Repository
from ultrum.desk.settings import SourceSettings
from ultrum.desk.snapshots import snapshot_series
from ultrum.desk.spans import DataSpan
from ultrum.desk.stored import vault_paths
from ultrum.errors import VaultError
from ultrum.sources.download import Address
from ultrum.sources.sdmx.queries import key_of
from ultrum.sources.table.file_patterns import is_pattern


def one_series(
    repository: Repository,
    address: str,
    span: DataSpan,
    frequency: str | None = None,
    facts: Mapping[str, object] | None = None,
) -> TimeSeries:
    """One series, in the target frequency and span; see :meth:`ultrum.Desk.fetch`."""
    wanted = Address.parse(address)
    settings = repository.settings_of(wanted)
    if settings.kind == "sdmx":
        series = series_of_service(repository, wanted, settings, span, whole=bool(frequency))
        series = series.with_metadata(**facts) if facts else series
    else:
        series = series_of_table(repository, wanted, settings, facts or {})
    if frequency:  # of whole periods, before the start is cut
        series = to_frequency(series.sample(None, span.end or None), frequency)
    return span.cut(series)


def series_of_table(
    repository: Repository, wanted: Address, settings: SourceSettings, facts: Mapping[str, Any]
) -> TimeSeries:
    """One column of a table, or the history of a snapshot."""
    if wanted.path in settings.snapshots:
        return snapshot_series(repository, wanted, settings.snapshots[wanted.path])
    return column_of(repository.table(f"{wanted.source}:{wanted.path}", **facts), wanted)


def series_of_service(
    repository: Repository, wanted: Address, settings: SourceSettings, span: DataSpan, whole: bool
) -> TimeSeries:
    """One series of a statistics service; offline also from a download of many."""
    service = repository.service(wanted.source)
    try:
        return service.series(wanted.path, span.query(whole=whole), wanted.field)
    except VaultError:
        flow = wanted.path.partition("/")[0]
        for path in vault_paths(repository.vault, settings, wanted):
            for series in service.all_series(f"{flow}/{key_of(path)}"):
                if series.metadata.address == str(wanted):
                    return series
        raise


def series_within(
    repository: Repository, address: str, span: DataSpan, *, whole: bool = False
) -> list[TimeSeries]:
    """Every series of an address, for a span or with the full history, before the cut.

    Parameters
    ----------
    repository : Repository
    address : str
    span : DataSpan
    whole : bool
        Include the history before the span, which steps need.
    """
    wanted = Address.parse(address)
    settings = repository.settings_of(wanted)
    if settings.kind == "sdmx":
        series_list = repository.service(wanted.source).all_series(wanted.path, span.query(whole=whole))
        return [s for s in series_list if not wanted.field or s.metadata.address.endswith(f"#{wanted.field}")]
    if wanted.field or wanted.path in settings.snapshots:
        return [series_of_table(repository, wanted, settings, {})]
    return list(repository.table(address).series.values())


def paths_of(
    repository: Repository,
    address: str,
    span: DataSpan,
    expand: Mapping[str, Sequence[str]],
    *,
    whole: bool,
) -> list[tuple[str, str]]:
    """Sources and paths of the downloads that an address needs."""
    wanted = Address.parse(address)
    settings = repository.settings_of(wanted)
    if settings.kind == "sdmx":
        path = repository.service(wanted.source).data_path(wanted.path, span.query(whole=whole))
        return [(wanted.source, path)]
    snapshot = settings.snapshots.get(wanted.path)
    path = snapshot.path if snapshot else wanted.path
    paths = [p for p, _ in places_of(settings, path, expand)] if is_pattern(path) else [path]
    return [(wanted.source, p) for p in paths]
