"""The repository of a desk: series and tables by address, over the downloads of its sources."""

from __future__ import annotations

import re
import threading
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from ultrum.core.series.metadata import Metadata, Step
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.core.transform.aggregation import to_frequency
from ultrum.desk.addresses_and_local_tables import DataSpan, column_of, places_of, with_address
from ultrum.desk.downloads import Downloads
from ultrum.desk.settings import SnapshotSettings, SourceSettings
from ultrum.errors import SourceError, VaultError, one_of
from ultrum.sources.database import Query, table_options
from ultrum.sources.download_and_limits import Address, Download
from ultrum.sources.sdmx.queries import accept_of, covers, key_of
from ultrum.sources.table.file_patterns import LoneFigure, find_figure, is_pattern, read_many
from ultrum.sources.table.reader import read_table
from ultrum.sources.table.reading_result import Reading, TableOptions
from ultrum.vault.journal_and_payload_files import Record

if TYPE_CHECKING:
    from ultrum.sources.sdmx.client import SdmxSource


_PARSED: Final = 4  # tables whose series are taken one by one
_GRAIN: Final = re.compile(r"P(?:(1)D|T(\d+)([MH]))")


def grain_frequency(text: str) -> Frequency:
    """Frequency of a grain.

    Examples
    --------
    >>> grain_frequency("PT30M")
    Frequency('30N')
    """
    match = _GRAIN.fullmatch(text.upper())
    if not match:
        raise SourceError(
            f"'{text}' is not a grain. Write P1D for a day, PT30M for half an hour or PT1H for an hour."
        )
    if match[1]:
        return Frequency("D")
    return Frequency("N" if match[3] == "M" else "H", int(match[2]))


def snapshot_series(downloads: Downloads, wanted: Address, settings: SnapshotSettings) -> TimeSeries:
    """Every value of a page in the vault, after downloading the current one.

    The day is that on the page if it has one, otherwise that of the pull. Two pulls within one grain are one
    observation; the later is a revision.
    """
    downloads.get(wanted.source, settings.path, page=True)
    frequency = grain_frequency(settings.grain)
    seen: dict[int, tuple[str, LoneFigure]] = {}
    revised = 0
    for record in downloads.vintages(wanted.source, settings.path):
        limit = downloads.instant
        if limit and record.retrieved > limit:
            continue
        decimal = settings.options.get("decimal")
        figure = find_figure(
            downloads.vault.payload(record), settings.figure, f"{wanted.source}:{settings.path}", decimal
        )
        for instant in [record.retrieved, *downloads.vault.confirmations(record)]:
            if limit and instant > limit:
                continue
            ordinal = _ordinal(frequency, instant, figure)
            earlier = seen.get(ordinal)
            revised += earlier is not None and earlier[1].value != figure.value
            if earlier is None or earlier[0] <= instant:
                seen[ordinal] = (instant, figure)
    return _series(wanted, settings, frequency, seen, revised)


def _ordinal(frequency: Frequency, instant: str, figure: LoneFigure) -> int:
    """Grain of an observation: that of the day on the page, or of the pull."""
    moment = figure.day if figure.day and frequency.code == "D" else instant.rstrip("Z")
    return int(frequency.ordinals(np.array([moment], dtype="datetime64[s]"))[0])


def _series(
    wanted: Address,
    settings: SnapshotSettings,
    frequency: Frequency,
    seen: dict[int, tuple[str, LoneFigure]],
    revised: int,
) -> TimeSeries:
    ordinals = np.array(sorted(seen), dtype=np.int64)
    figures = [seen[int(o)][1] for o in ordinals]
    percent = figures[-1].percent
    numbers = np.array([f.value / 100.0 if f.percent else f.value for f in figures])
    facts = {k: v for k, v in settings.options.items() if k != "decimal"}
    currency = figures[-1].currency if re.fullmatch("[A-Z]{3}", figures[-1].currency) else ""
    unit = {"unit": "decimal"} if percent else {"unit": "currency", "currency": currency} if currency else {}
    step = Step("seen", (("grain", settings.grain), ("beside", settings.figure), ("revised", str(revised))))
    metadata = Metadata(
        name=wanted.path,
        title=settings.title or settings.figure,
        frequency=frequency,
        source=wanted.source,
        address=str(wanted),
        trail=(step,),
        **{**unit, **facts},
    )
    return SeriesTable.from_arrays(numbers[:, None], frequency.index(ordinals), [metadata]).only()


# The repository of a desk: series and tables by address, over the downloads of its sources


class Repository:
    """Series and tables by address.

    Parameters
    ----------
    downloads : Downloads
    keep_readings : bool
        Parse the same bytes of a table once; callers must not modify them.
    """

    def __init__(self, downloads: Downloads, keep_readings: bool = False) -> None:
        self.downloads, self.keeps_readings = downloads, keep_readings
        self._readings: dict[tuple[str, ...], Reading] = {}
        self._addressed: dict[tuple[str, ...], Reading] = {}
        self._lock = threading.Lock()
        self._services: dict[str, SdmxSource] = {}

    def at(self, instant: str) -> Repository:
        """The same sources on the vault as of an instant."""
        return Repository(self.downloads.at(instant), self.keeps_readings)

    def start_again(self) -> None:
        """Download everything again, within this session too."""
        self.downloads.start_again()
        self._services.clear()

    def settings_of(self, address: Address) -> SourceSettings:
        """Settings of the source of an address."""
        sources = self.downloads.sources
        if address.source not in sources:
            hint = one_of(address.source, sources)
            raise SourceError(f"'{address}': no source '{address.source}'; {hint}")
        return sources[address.source]

    def service(self, name: str) -> SdmxSource:
        """The statistics service with a name."""
        if name not in self._services:
            from ultrum.sources.sdmx.client import SdmxSource

            settings = self.downloads.sources[name]

            def _response(path: str, accept: str) -> Download:
                return self.downloads.get(name, path, accept)[1]

            self._services[name] = SdmxSource(name, _response, settings.format, settings.rest)
        return self._services[name]

    def response(self, source: str, path: str) -> Download:
        """The response at a path, in the preferred format of the settings."""
        settings = self.downloads.sources[source]
        page = any(s.path == path for s in settings.snapshots.values())
        accept = accept_of(settings.format) if settings.kind == "sdmx" else "*/*"
        return self.downloads.get(source, path, accept, page)[1]

    def table(self, address: str, expand: Mapping[str, Sequence[str]] | None = None, **facts: object) -> Reading:
        """A whole table by its address, which may be a pattern; see :meth:`ultrum.Desk.table`."""
        wanted = Address.parse(address)
        settings = self.settings_of(wanted)
        if settings.kind == "sdmx":
            raise SourceError(f"{address}: {wanted.source} is a statistics service, not a table.")
        options = self.options_of(wanted, facts)
        if not is_pattern(wanted.path):
            return with_address(self._read_file(wanted, options), wanted).warn_of_faults()
        reading = read_many(
            wanted.path,
            self.downloads.files_of(wanted.source, wanted.path)
            if settings.is_local and not expand
            else places_of(settings, wanted.path, expand or {}),
            options,
            lambda path, options_of_file: self._read_file(Address(wanted.source, path), options_of_file),
            lambda path: self.downloads.get(wanted.source, path)[1].body,
        )
        return with_address(reading, wanted).warn_of_faults()

    def one_series(
        self,
        address: str,
        span: DataSpan,
        frequency: str | None = None,
        facts: Mapping[str, object] | None = None,
    ) -> TimeSeries:
        """One series, in the target frequency and span; see :meth:`ultrum.Desk.fetch`."""
        wanted = Address.parse(address)
        if self.settings_of(wanted).kind == "sdmx":
            series = self._series_of_service(wanted, span, whole=bool(frequency))
            series = series.with_metadata(**facts) if facts else series
        else:
            series = self._series_of_table(wanted, facts or {})
        if frequency:  # of whole periods, before the start is cut
            series = to_frequency(series.sample(None, span.end or None), frequency)
        return span.cut(series)

    def series_within(self, address: str, span: DataSpan, *, whole: bool = False) -> list[TimeSeries]:
        """Every series of an address, for a span or with the full history, before the cut.

        Parameters
        ----------
        address : str
        span : DataSpan
        whole : bool
            Include the history before the span, which steps need.
        """
        wanted = Address.parse(address)
        settings = self.settings_of(wanted)
        if settings.kind == "sdmx":
            series_list = self.service(wanted.source).all_series(wanted.path, span.query(whole=whole))
            return [s for s in series_list if not wanted.field or s.metadata.address.endswith(f"#{wanted.field}")]
        if wanted.field or wanted.path in settings.snapshots:
            return [self._series_of_table(wanted, {})]
        return list(self.table(address).series.values())

    def paths_of(
        self, address: str, span: DataSpan, expand: Mapping[str, Sequence[str]], *, whole: bool
    ) -> list[tuple[str, str]]:
        """Sources and paths of the downloads that an address needs."""
        wanted = Address.parse(address)
        settings = self.settings_of(wanted)
        if settings.kind == "sdmx":
            path = self.service(wanted.source).data_path(wanted.path, span.query(whole=whole))
            return [(wanted.source, path)]
        path = _path_in_source(settings, wanted)
        paths = [p for p, _ in places_of(settings, path, expand)] if is_pattern(path) else [path]
        return [(wanted.source, p) for p in paths]

    def paths_in_vault(self, wanted: Address, *, spans: bool = False) -> list[str]:
        """Paths in the vault whose downloads contain an address, in full or also for a span."""
        settings = self.settings_of(wanted)
        paths = dict.fromkeys(r.path for r in self.downloads.vault.records() if r.source == wanted.source)
        if settings.kind == "sdmx":
            return [p for p in paths if covers(p, wanted.path, spans)]
        return [p for p in paths if p == _path_in_source(settings, wanted)]

    def series_of_record(self, record: Record, wanted: Address) -> TimeSeries:
        """The series of an address, from one download in the vault."""
        body = self.downloads.vault.payload(record)
        settings = self.settings_of(wanted)
        if settings.kind == "sdmx":
            series_list = self.service(wanted.source).read(wanted.path.partition("/")[0], body)
            by_address = {s.metadata.address: s for s in series_list}
        else:
            options = TableOptions.of(**_table_settings(settings, wanted.path))
            reading = with_address(read_table(body, record.path, options), wanted)
            if not wanted.field:
                return column_of(reading, wanted)
            by_address = {s.metadata.address: s for s in reading.series.values()}
        if str(wanted) not in by_address:
            raise VaultError(f"{record.name} does not contain {wanted}.")
        return by_address[str(wanted)]

    def _series_of_table(self, wanted: Address, facts: Mapping[str, Any]) -> TimeSeries:
        """One column of a table, or the history of a snapshot."""
        snapshots = self.settings_of(wanted).snapshots
        if wanted.path in snapshots:
            return snapshot_series(self.downloads, wanted, snapshots[wanted.path])
        whole = Address(wanted.source, wanted.path)
        if is_pattern(wanted.path):
            return column_of(self.table(str(whole), **facts), wanted)
        return column_of(self._reading_of_series(whole, self.options_of(whole, facts)), wanted)

    def _reading_of_series(self, wanted: Address, options: TableOptions) -> Reading:
        """A table of one file whose series are taken one by one; the latest few are parsed once."""
        key, parse = self._open_file(wanted, options)
        with self._lock:
            if key not in self._addressed:
                self._addressed[key] = with_address(parse(), wanted)
            if len(self._addressed) > _PARSED:
                del self._addressed[next(iter(self._addressed))]
            reading = self._addressed[key]
        return reading.warn_of_faults()

    def options_of(self, wanted: Address, facts: Mapping[str, object]) -> TableOptions:
        """Options of a table: those of its source, then those given; None is not given."""
        given = {name: value for name, value in facts.items() if value is not None}
        return TableOptions.of(**{**_table_settings(self.settings_of(wanted), wanted.path), **given})

    def _series_of_service(self, wanted: Address, span: DataSpan, *, whole: bool) -> TimeSeries:
        """One series of a statistics service; offline also from a download of many."""
        service = self.service(wanted.source)
        try:
            return service.series(wanted.path, span.query(whole=whole), wanted.field)
        except VaultError:
            flow = wanted.path.partition("/")[0]
            for path in self.paths_in_vault(wanted):
                for series in service.all_series(f"{flow}/{key_of(path)}"):
                    if series.metadata.address == str(wanted):
                        return series
            raise

    def _read_file(self, wanted: Address, options: TableOptions) -> Reading:
        """A table of one file, from the cache of parsed tables if enabled."""
        key, parse = self._open_file(wanted, options)
        if not self.keeps_readings:
            return parse()
        if key not in self._readings:
            self._readings[key] = parse()
        return self._readings[key]

    def _open_file(self, wanted: Address, options: TableOptions) -> tuple[tuple[str, ...], Callable[[], Reading]]:
        """What identifies the parsed table of a file, and a function that parses it."""
        record, response = self.downloads.get(wanted.source, wanted.path)
        options = options.in_charset(response.content_type, response.body)
        key = (wanted.source, wanted.path, record.checksum, repr(options))
        return key, lambda: read_table(response.body, wanted.path, options, record.retrieved[:10])


def _table_settings(settings: SourceSettings, path: str) -> dict[str, object]:
    """Options of a table in the settings."""
    if settings.kind == "database":
        return dict(table_options(settings.queries.get(path) or Query(table=path)))
    return dict(settings.tables.get(path, {}))


def _path_in_source(settings: SourceSettings, wanted: Address) -> str:
    """Path of the download with a table; that of its page for a snapshot."""
    snapshot = settings.snapshots.get(wanted.path)
    return snapshot.path if snapshot else wanted.path
