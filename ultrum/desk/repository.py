"""The repository of a desk: sources, fetcher and vault, shared by all parts of a desk."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from ultrum.desk.addresses import places_of, with_address
from ultrum.desk.fetch import Fetcher
from ultrum.desk.settings import SourceSettings
from ultrum.errors import SourceError, one_of
from ultrum.sources.database import Query, table_options
from ultrum.sources.download import Address, Download
from ultrum.sources.sdmx.queries import accept_of
from ultrum.sources.table.file_patterns import is_pattern, read_many
from ultrum.sources.table.reader import read_table
from ultrum.sources.table.reading_result import Reading, TableOptions
from ultrum.vault.store import Vault

if TYPE_CHECKING:
    from ultrum.sources.sdmx.client import SdmxSource


class Repository:
    """Sources and downloads by address.

    Parameters
    ----------
    fetcher : Fetcher
    keep_readings : bool
        Parse the same bytes of a table once; callers must not modify them.
    """

    def __init__(self, fetcher: Fetcher, keep_readings: bool = False) -> None:
        self.fetcher, self.keeps_readings = fetcher, keep_readings
        self._readings: dict[tuple[object, ...], Reading] = {}
        self._services: dict[str, SdmxSource] = {}

    @property
    def vault(self) -> Vault:
        """The store of downloads."""
        return self.fetcher.vault

    @property
    def sources(self) -> Mapping[str, SourceSettings]:
        """Settings of the sources by name."""
        return self.fetcher.sources

    @property
    def offline(self) -> bool:
        """Whether downloads are disabled."""
        return self.fetcher.offline or bool(self.fetcher.at)

    def at(self, instant: str) -> Repository:
        """The same sources on the vault as of an instant."""
        return Repository(self.fetcher.seen_at(instant), self.keeps_readings)

    def close(self) -> None:
        """Close the vault."""
        self.vault.close()

    def start_again(self) -> None:
        """Download everything again, within this session too."""
        self.fetcher.forget_session()
        self._services.clear()

    def settings_of(self, address: Address) -> SourceSettings:
        """Settings of the source of an address."""
        if address.source not in self.sources:
            hint = one_of(address.source, self.sources)
            raise SourceError(f"'{address}': no source '{address.source}'; {hint}")
        return self.sources[address.source]

    def service(self, name: str) -> SdmxSource:
        """The statistics service with a name."""
        if name not in self._services:
            from ultrum.sources.sdmx.client import SdmxSource

            settings = self.sources[name]

            def _response(path: str, accept: str) -> Download:
                return self.fetcher.response(name, path, accept)

            self._services[name] = SdmxSource(name, _response, settings.format, settings.rest)
        return self._services[name]

    def response(self, source: str, path: str) -> Download:
        """The response at a path, in the preferred format of the settings."""
        settings = self.sources[source]
        page = any(s.path == path for s in settings.snapshots.values())
        accept = accept_of(settings.format) if settings.kind == "sdmx" else "*/*"
        return self.fetcher.response(source, path, accept, page)

    def table(self, address: str, expand: Mapping[str, Sequence[str]] | None = None, **facts: object) -> Reading:
        """A whole table by its address, which may be a pattern; see :meth:`ultrum.Desk.table`."""
        wanted = Address.parse(address)
        settings = self.settings_of(wanted)
        if settings.kind == "sdmx":
            raise SourceError(f"{address}: {wanted.source} is a statistics service, not a table.")
        settings_given = {name: value for name, value in facts.items() if value is not None}  # None: not set
        options = TableOptions.of(**{**table_settings(settings, wanted.path), **settings_given})
        if not is_pattern(wanted.path):
            return with_address(self._read(wanted, options), wanted).warn_of_faults()
        reading = read_many(
            wanted.path,
            self.fetcher.files_of(wanted.source, wanted.path)
            if settings.is_local and not expand
            else places_of(settings, wanted.path, expand or {}),
            options,
            lambda path, options_of_file: self._read(Address(wanted.source, path), options_of_file),
            lambda path: self.fetcher.response(wanted.source, path).body,
        )
        return with_address(reading, wanted).warn_of_faults()

    def _read(self, wanted: Address, options: TableOptions) -> Reading:
        """A table of one file, from the cache of parsed tables if enabled."""
        record, response = self.fetcher.record_of(wanted.source, wanted.path)
        body, day = response.body, record.retrieved[:10]
        options = options.in_charset(response.content_type, body)
        if not self.keeps_readings:
            return read_table(body, wanted.path, options, day)
        key = (wanted.source, wanted.path, hash(body), repr(options))
        if key not in self._readings:
            self._readings[key] = read_table(body, wanted.path, options, day)
        return self._readings[key]


def table_settings(settings: SourceSettings, path: str) -> dict[str, object]:
    """Options of a table in the settings."""
    if settings.kind == "database":
        return dict(table_options(settings.queries.get(path) or Query(table=path)))
    return dict(settings.tables.get(path, {}))
