"""Stored downloads of an address, and how they are parsed again."""

from __future__ import annotations

from ultrum.core.series.time_series import TimeSeries
from ultrum.desk.addresses import column_of, with_address
from ultrum.desk.repository import Repository, table_settings
from ultrum.desk.settings import SourceSettings
from ultrum.errors import VaultError
from ultrum.sources.download import Address
from ultrum.sources.sdmx.queries import covers
from ultrum.sources.table.reader import read_table
from ultrum.sources.table.reading_result import TableOptions
from ultrum.vault.journal import Record
from ultrum.vault.store import Vault


def vault_paths(vault: Vault, settings: SourceSettings, wanted: Address, spans: bool = False) -> list[str]:
    """Paths in the vault whose downloads contain an address, in full or for a span."""
    paths = dict.fromkeys(r.path for r in vault.records() if r.source == wanted.source)
    if settings.kind == "sdmx":
        return [p for p in paths if covers(p, wanted.path, spans)]
    snapshot = settings.snapshots.get(wanted.path)
    return [p for p in paths if p == (snapshot.path if snapshot else wanted.path)]


def series_of_record(repository: Repository, record: Record, wanted: Address) -> TimeSeries:
    """The series of an address, from one download in the vault."""
    body = repository.vault.payload(record)
    settings = repository.settings_of(wanted)
    if settings.kind == "sdmx":
        series_list = repository.service(wanted.source).read(wanted.path.partition("/")[0], body)
        by_address = {s.metadata.address: s for s in series_list}
    else:
        options = TableOptions.of(**table_settings(settings, wanted.path))
        reading = with_address(read_table(body, record.path, options), wanted)
        if not wanted.field:
            return column_of(reading, wanted)
        by_address = {s.metadata.address: s for s in reading.series.values()}
    if str(wanted) not in by_address:
        raise VaultError(f"{record.name} does not contain {wanted}.")
    return by_address[str(wanted)]
