"""`Desk`: search, browse, describe, fetch, pull and refresh series of any source."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pandas as pd

from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.period_labels_and_relative_dates import resolve_instant
from ultrum.desk.addresses_and_local_tables import DataSpan
from ultrum.desk.catalogue_search import synonyms_with
from ultrum.desk.describe_and_revisions import Description, describe
from ultrum.desk.downloads import ClientOnDemand, Downloads
from ultrum.desk.repository import Repository
from ultrum.desk.settings import SourceSettings, default_vault, load_settings, source_settings
from ultrum.sources.credentials import CredentialStore
from ultrum.sources.download_and_limits import Download, HttpPolicy
from ultrum.sources.table.reading_result import Reading
from ultrum.vault.journal_and_payload_files import Record
from ultrum.vault.store import Vault

if TYPE_CHECKING:
    from ultrum.desk.batch_and_series_sets import PullResult, SeriesSet
    from ultrum.vault.search_index import Listings


class Desk:
    """Sources and a vault.

    Parameters
    ----------
    path : path, optional
        Folder of the vault; by default one in the user's data folder.
    sources : mapping or path, optional
        For each name ``{"kind": "sdmx", "table" or "database", "url": ...}``, or a settings file; by default
        ``ultrum.toml`` here or in the user's configuration folder.
    offline : bool
        Use the vault only; download nothing.
    groups : mapping, optional
        Names of groups of regions, each with its codes.
    progress : callable, optional
        Called with a short text for each download.
    policy : HttpPolicy, optional
        Limits of fetching.
    keep_readings : bool
        Parse the same bytes of a table once per session; callers must not modify them.
    credentials : CredentialStore or path, optional
        Credentials that sources use; by default those of the user's configuration folder.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
    ...     sources = ul.practice.sources_at(service.places)
    ...     with Desk(folder, sources=sources) as desk:
    ...         desk.fetch("observatory:PRICES/M.QM.CPI").metadata.title
    'Consumer prices, all items, Miravel'
    """

    def __init__(
        self,
        path: str | os.PathLike[str] | None = None,
        *,
        sources: Mapping[str, Mapping[str, object]] | str | os.PathLike[str] | None = None,
        offline: bool = False,
        groups: Mapping[str, Sequence[str]] | None = None,
        progress: Callable[[str], None] | None = None,
        policy: HttpPolicy | None = None,
        at: str | None = None,
        keep_readings: bool = False,
        credentials: CredentialStore | str | os.PathLike[str] | None = None,
    ) -> None:
        settings: Mapping[str, Any] = (
            {"sources": sources} if isinstance(sources, Mapping) else load_settings(sources)
        )
        self.groups = dict(groups or settings.get("groups", {}))
        self.synonyms = synonyms_with(settings.get("synonyms", {}))
        self._settings, self._policy = settings["sources"], policy
        self._progress = progress or (lambda _: None)
        self._client = ClientOnDemand(policy or HttpPolicy())
        self._store = (
            credentials if isinstance(credentials, CredentialStore) else CredentialStore.load(credentials)
        )
        named = {name: source_settings(name, s) for name, s in settings["sources"].items()}
        vault = Vault(path if path is not None else default_vault())
        downloads = Downloads(
            vault, named, self._client, self._progress, self._store, offline=offline, instant=at or ""
        )
        self.repository = Repository(downloads, keep_readings)
        self._listings: Listings | None = None

    def __enter__(self) -> Desk:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Close connections and the vault."""
        self._client.close()
        self.vault.close()
        if self._listings is not None:
            self._listings.close()

    @property
    def vault(self) -> Vault:
        """The store of downloads."""
        return self.repository.downloads.vault

    @property
    def sources(self) -> Mapping[str, SourceSettings]:
        """Settings of the sources by name."""
        return self.repository.downloads.sources

    @property
    def offline(self) -> bool:
        """Whether downloads are disabled."""
        return self.repository.downloads.offline

    @property
    def used(self) -> list[Record]:
        """Downloads used in this session."""
        return self.repository.downloads.used

    def at(self, instant: str) -> Desk:
        """A desk on the vault as of an instant (point-in-time), without downloads.

        Parameters
        ----------
        instant : str
            ISO 8601, UTC without a zone; a day means its end.

        Returns
        -------
        Desk
            A desk that uses the vault alone.
        """
        moment = resolve_instant(instant, date.today())
        return Desk(
            self.vault.path,
            sources=self._settings,
            groups=self.groups,
            progress=self._progress,
            policy=self._policy,
            at=moment,
            keep_readings=self.repository.keeps_readings,
            credentials=self._store,
        )

    def fetch(
        self,
        address: str,
        *,
        start: str | None = None,
        end: str | None = None,
        last: int = 0,
        frequency: str | None = None,
        **facts: object,
    ) -> TimeSeries:
        """One series by its address.

        Parameters
        ----------
        address : str
            ``source:FLOW/KEY``, or ``source:path#field`` for a column of a table.
        start, end : str
            First and last period; relative dates such as ``yesterday`` are allowed, and ``last 25 years`` counts
            from the last observation.
        last : int
            Number of most recent observations.
        frequency : str, optional
            A lower frequency to convert to, by the measure of the series.
        **facts
            Fields of the metadata that the source does not state.

        Returns
        -------
        TimeSeries
            Values in decimals, with metadata and provenance.

        Raises
        ------
        SourceError
            If the source is unavailable, or has no such series.
        FrequencyError
            If the source only has lower frequencies than requested.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     cpi = desk.fetch("observatory:PRICES/M.QM.CPI", start="2020")
        ...     print(cpi.to_pandas().head(2).tolist())
        ...     desk.close()
        [107.26, 107.24]
        """
        return self.repository.one_series(address, DataSpan.of(start, end, last), frequency, facts)

    def fetch_all(
        self, address: str, *, start: str | None = None, end: str | None = None, last: int = 0
    ) -> list[TimeSeries]:
        """Every series of an address with wildcards, or of a table.

        Parameters
        ----------
        address : str
            Address, ``source:path`` and for a column ``#column``.
        start : str, optional
            First date or period, included; by default from the beginning.
        end : str, optional
            Last date or period, included; by default to the end.
        last : int
            Number of most recent observations; 0 for all.

        Returns
        -------
        list of TimeSeries
            The series, in the order of the source.
        """
        span = DataSpan.of(start, end, last)
        series_list = self.repository.series_within(address, span)
        data_span = span.from_latest(*series_list)
        return [data_span.cut(s) for s in series_list]

    def table(
        self, address: str, *, expand: Mapping[str, Sequence[str]] | None = None, **facts: object
    ) -> Reading:
        """A whole table by its address, which may be a pattern such as ``council:rents/{region}.csv``.

        Parameters
        ----------
        address : str
            Address of the table, which may be a pattern.
        expand : mapping of str to sequence, optional
            Values of the fields in braces.
        **facts
            Options and metadata as for :func:`ultrum.read_series`, such as ``records_only=True``,
            ``units="percent"`` or ``measure="return"``.

        Returns
        -------
        Reading
            Series, records and decisions of the reader.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     table = desk.table("college:factors_monthly.zip")
        ...     print(list(table.series)[:3])
        ...     desk.close()
        ['bill', 'market', 'size']
        """
        return self.repository.table(address, expand, **facts)

    def search(
        self, words: str = "", *, limit: int = 200, refresh: bool = False, **filters: object
    ) -> pd.DataFrame:
        """Catalogue search: listings of all sources that contain every word or a synonym, best first.

        Misspellings are forgiven. Synonyms of the field (inflation: consumer prices) are built in; settings add
        to them under ``[synonyms]``.

        Parameters
        ----------
        words : str
            Words that a listing must contain, or synonyms of them.
        limit : int
            Maximum number of listings.
        refresh : bool
            Download the catalogues again; by default they are downloaded once.
        **filters
            ``region`` (a code, or the name of a group), ``topic``, ``frequency``, ``measure``, ``currency``,
            ``source``.

        Returns
        -------
        DataFrame
            Columns ``address title frequency flow topic region currency``.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     print(desk.search("inflation prices")["address"].tolist()[:2])
        ...     desk.close()
        ['observatory:PRICES/M.QM.CPI', 'observatory:PRICES/M.QS.CPI']
        """
        from ultrum.desk import catalogue_search

        entries = self.listings(refresh).search(
            words, limit, self.synonyms, **catalogue_search.widen_groups(self.groups, filters)
        )
        columns = ["address", "title", "frequency", "flow", "topic", "region", "currency"]
        return pd.DataFrame([[getattr(e, c) for c in columns] for e in entries], columns=columns)

    def why_nothing(self, words: str, **filters: object) -> str:
        """Why a search has no results: unmatched words, or filters that exclude everything.

        Parameters
        ----------
        words : str
            Words to look for.
        **filters
            Filters of the search, such as ``frequency="M"``.

        Returns
        -------
        str
            The reason, in one sentence.
        """
        from ultrum.desk import catalogue_search

        return catalogue_search.why_nothing(self.listings(), words, self.synonyms, filters, list(self.sources))

    def browse(self, *levels: str, hierarchy: str = "topic", **filters: object) -> pd.DataFrame:
        """One level of the catalogue below a path, for browsing without a search word.

        Parameters
        ----------
        *levels : str
            Names of the levels so far.
        hierarchy : {"topic", "region", "source"}
        **filters
            As for :meth:`search`, such as ``region="lantern sea"``.

        Returns
        -------
        DataFrame
            Columns ``name kind series``; at the bottom ``address title frequency``.
        """
        from ultrum.desk import catalogue_search

        return catalogue_search.browse(
            self.listings(), levels, hierarchy, catalogue_search.widen_groups(self.groups, filters)
        )

    def describe(self, address: str) -> Description:
        """What a series is: title, unit, frequency, ends, last update, notes.

        Parameters
        ----------
        address : str
            Address, ``source:path`` and for a column ``#column``.

        Returns
        -------
        Description
            Facts of the series.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     print(desk.describe("observatory:PRICES/M.QM.CPI").to_frame().head(4))
        ...     desk.close()
                fact                                 text
        0      title  Consumer prices, all items, Miravel
        1    address          observatory:PRICES/M.QM.CPI
        2  frequency                              monthly
        3    measure                                index
        """
        return describe(self.repository, address)

    def pull(self, what: SeriesSet | Sequence[str] | str, *, resume: bool = False) -> PullResult:
        """Fetch many series at once; a failure does not stop the others.

        Parameters
        ----------
        what : SeriesSet, addresses or one address
            A set, addresses, or a single address.
        resume : bool
            Resume a pull that was interrupted or partly failed; finished series are not requested again.

        Returns
        -------
        PullResult
            Series, and statuses of failures and changes.
        """
        from ultrum.desk.batch_and_series_sets import pull

        return pull(self.repository, what, resume)

    def refresh(self, what: SeriesSet | Sequence[str] | str) -> PullResult:
        """Download series again, within this session too; the result lists the changes.

        Parameters
        ----------
        what : SeriesSet, sequence of str or str
            A set, addresses, or a single address.

        Returns
        -------
        PullResult
            Series, and statuses of failures and changes.
        """
        self.repository.start_again()
        return self.pull(what)

    def revisions(self, address: str, since: str | None = None, until: str | None = None) -> pd.DataFrame:
        """Revisions of a series between two vintages in the vault.

        Parameters
        ----------
        address : str
            Address, ``source:path`` and for a column ``#column``.
        since, until : str
            Instants of the vintages, as for :meth:`at`; by default the last two.

        Returns
        -------
        DataFrame
            Columns ``period before after change kind``.
        """
        today = date.today()
        bounds = [resolve_instant(instant, today) if instant else "" for instant in (since, until)]
        from ultrum.desk.describe_and_revisions import revisions

        return revisions(self.repository, address, *bounds)

    def listings(self, refresh: bool = False) -> Listings:
        """The catalogues of all sources, downloaded where they are not yet stored.

        Parameters
        ----------
        refresh : bool
            Download them again.

        Returns
        -------
        Listings
            Searchable catalogues.
        """
        from ultrum.desk import catalogue_search
        from ultrum.vault.search_index import Listings

        if self._listings is None:
            self._listings = Listings(Path(self.vault.path) / "listings.sqlite")
        for name in self.sources:
            if not self.offline and (refresh or not self._listings.last_refresh(name)):
                self._progress(f"{name}: catalogue")
                now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
                self._listings.replace(name, catalogue_search.entries_of(self.repository, name), now)
        return self._listings

    def download(self, source: str, path: str) -> Download:
        """The raw response at a path, through the vault.

        Parameters
        ----------
        source : str
            Name of the source.
        path : str
            Path below the address of the source.

        Returns
        -------
        Download
            Bytes, type and time of the response.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     body = desk.download("exchange", "companies.csv").body
        ...     print(body[:11])
        ...     desk.close()
        b'listed,asse'
        """
        return self.repository.response(source, path)
