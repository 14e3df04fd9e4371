"""Downloads by source and path: requested once a session and recorded in the vault, or read from it."""

from __future__ import annotations

import hashlib
import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Final

from ultrum.desk.addresses_and_local_tables import files_below, place_of, read_below
from ultrum.desk.settings import Fetch, SourceSettings, custom_fetch
from ultrum.errors import SourceError, UltrumError, VaultError
from ultrum.sources import database
from ultrum.sources.credentials import Credentials, CredentialStore, Secret
from ultrum.sources.download_and_limits import Download, HttpPolicy, current
from ultrum.vault.journal_and_payload_files import Record
from ultrum.vault.store import Vault

if TYPE_CHECKING:
    from ultrum.sources.http_client import HttpClient

_CACHE_BYTES: Final = 64 * 1024**2  # of responses in memory
_PAGE: Final = (b"<!doctype html", b"<html")
Progress = Callable[[str], None]


LISTING: Final = "listing"  # how the files that match a pattern are requested


@dataclass(frozen=True)
class Access:
    """One use of a download, or of the list of files that match a pattern.

    It has the location, how it was requested, and the checksum of the bytes.
    """

    source: str
    path: str
    accept: str
    page: bool
    checksum: str


class ClientOnDemand:
    """An HTTP client, opened at the first request together with its library.

    Parameters
    ----------
    policy : HttpPolicy
    """

    def __init__(self, policy: HttpPolicy) -> None:
        self.policy, self._lock = policy, threading.Lock()
        self._client: HttpClient | None = None

    def get(
        self, url: str, *, accept: str = "*/*", held: Download | None = None, secret: Secret | None = None
    ) -> Download:
        """Fetch one address; see :meth:`ultrum.sources.http_client.HttpClient.get`."""
        with self._lock:
            if self._client is None:
                from ultrum.sources.http_client import HttpClient

                self._client = HttpClient(self.policy)
        return self._client.get(url, accept=accept, held=held, secret=secret)

    def close(self) -> None:
        """Close the connections, if there are any."""
        if self._client is not None:
            self._client.__exit__()


class Downloads:
    """Bytes by source and path: each is requested once per session, through the vault.

    Parameters
    ----------
    vault : Vault
    sources : mapping of str to SourceSettings
    client : ClientOnDemand
    progress : callable
        Called with a short text for each request.
    store : CredentialStore
    offline : bool
        Use the vault only.
    instant : str
        Use the vault as of an instant; "" for the present.
    """

    def __init__(
        self,
        vault: Vault,
        sources: Mapping[str, SourceSettings],
        client: ClientOnDemand,
        progress: Progress,
        store: CredentialStore,
        *,
        offline: bool = False,
        instant: str = "",
    ) -> None:
        self.vault, self.sources, self.client, self.store = vault, sources, client, store
        self.progress, self.offline, self.instant = progress, offline or bool(instant), instant
        self.used: list[Record] = []
        self.accesses: list[Access] = []
        self._records: dict[tuple[str, str], Record] = {}
        self._bodies: OrderedDict[tuple[str, str], bytes] = OrderedDict()  # the latest ones
        self._cached_bytes = 0
        self._lock = threading.Lock()

    def at(self, instant: str) -> Downloads:
        """The downloads in the vault as of an instant; nothing is requested."""
        vault = Vault(self.vault.path)
        return Downloads(vault, self.sources, self.client, self.progress, self.store, instant=instant)

    def get(self, source: str, path: str, accept: str = "*/*", page: bool = False) -> tuple[Record, Download]:
        """The bytes at a path with their record: from the vault when offline, otherwise from the source."""
        with self._lock:
            record, body = self._records.get((source, path)), self._bodies.get((source, path))
        if record is None:
            record, body = self._from_vault_or_source(source, path, accept, page)
            with self._lock:
                self.used.append(record)
                self._records[source, path] = record
                self._remember((source, path), body)
        elif body is None:
            body = self.vault.payload(record)
        self.accesses.append(Access(source, path, accept, page, record.checksum))
        return record, Download(body, record.content_type, record.etag)

    def get_again(self, access: Access) -> Record:
        """The record of a download that an earlier run used."""
        return self.get(access.source, access.path, access.accept, access.page)[0]

    def files_of(self, source: str, pattern: str) -> list[tuple[str, dict[str, str]]]:
        """Files of a local source that match a pattern; which there are is an input like the bytes of one."""
        places = files_below(self.sources[source].url, pattern)
        self.accesses.append(Access(source, pattern, LISTING, False, ""))
        return places

    def latest(self, source: str, path: str, at: str = "") -> Record | None:
        """The newest download of an address as of an instant; of a local file only one of its own."""
        if self._is_local(source):
            return next(iter(reversed(self.vintages(source, path, at))), None)
        return self.vault.latest(source, path, at)

    def vintages(self, source: str, path: str, at: str = "") -> list[Record]:
        """Downloads of an address up to an instant, oldest first.

        Two folders can have files of one name. A local file answers for itself: by its location, or by its bytes
        if it has moved. A file that is not on this machine is answered by what was imported.
        """
        records = [r for r in self.vault.vintages(source, path) if not at or r.retrieved <= at]
        if not self._is_local(source):
            return records
        url = self.sources[source].url
        own = [r for r in records if r.etag == place_of(url, path)]
        if own:
            return own
        try:
            checksum = hashlib.sha256(read_below(url, path)).hexdigest()
        except UltrumError:
            return [r for r in records if r.imported]
        return [r for r in records if r.checksum == checksum]

    def start_again(self) -> None:
        """Request everything again, within this session too."""
        with self._lock:
            self._records.clear()
            self._bodies.clear()
            self._cached_bytes = 0

    def _is_local(self, source: str) -> bool:
        return source in self.sources and self.sources[source].is_local

    def _remember(self, place: tuple[str, str], body: bytes) -> None:
        """Cache of the latest bodies, with a size limit; the vault has the others."""
        self._cached_bytes += len(body) - len(self._bodies.pop(place, b""))
        self._bodies[place] = body
        while len(self._bodies) > 1 and self._cached_bytes > _CACHE_BYTES:
            self._cached_bytes -= len(self._bodies.popitem(last=False)[1])

    def _from_vault_or_source(self, source: str, path: str, accept: str, page: bool) -> tuple[Record, bytes]:
        stored = self.latest(source, path, self.instant)
        if not self.offline:
            self.progress(f"{source}: {path}")
            return self._from_source(_Request(source, path, accept, page, self.sources[source]), stored)
        if stored is None:
            raise VaultError(self._absence(source, path))
        return stored, self.vault.payload(stored)

    def _absence(self, source: str, path: str) -> str:
        """What the vault does not hold, and how to get it."""
        when = f" of {self.instant[:10]}" if self.instant else ""
        absent = f"The vault {self.vault.path} holds no {source}:{path}"
        if self._is_local(source):
            return f"{absent} of this folder{when}. Use 'ultrum pull' or a run without offline, which store it."
        if self.instant:
            return f"{absent}{when}: nothing was downloaded by then. Use a later day."
        return f"{absent}; fetch it once without offline."

    def _from_source(self, request: _Request, stored: Record | None) -> tuple[Record, bytes]:
        """A new response, recorded, with its bytes; the stored copy if the server confirms it."""
        credentials = self._credentials_of(request)
        fetch = _fetch_of_kind(request.settings)
        if fetch is not None:
            return self._record_answer(request, fetch(request, credentials))
        copy = self._copy_of(stored)
        secret = credentials.secret(request.source) if credentials else None
        url = f"{request.settings.url.rstrip('/')}/{request.path}"
        answer = self.client.get(url, accept=request.accept, held=copy, secret=secret)
        if answer.unchanged and stored is not None and copy is not None:
            return self.vault.confirm(stored), copy.body
        _refuse_page(request, answer)
        return self._record_answer(request, answer)

    def _credentials_of(self, request: _Request) -> Credentials | None:
        """Credentials of a source: those given in code, or the user's stored ones that its host may receive."""
        settings = request.settings
        if settings.is_local:
            return None  # a folder has no host
        if isinstance(settings.credentials, str):
            return self.store.for_host(settings.credentials, settings.url, request.source)
        return settings.credentials

    def _record_answer(self, request: _Request, answer: Download) -> tuple[Record, bytes]:
        return self.vault.record(request.source, request.path, answer), answer.body

    def _copy_of(self, stored: Record | None) -> Download | None:
        """The stored copy, if it is intact, for confirmation by the server."""
        if stored is None or stored.imported or not (stored.etag or stored.last_modified):
            return None  # the validators in an archive were chosen by its maker
        try:
            body = self.vault.payload(stored)
        except VaultError:
            return None
        return Download(body, etag=stored.etag, last_modified=stored.last_modified)


@dataclass(frozen=True)
class _Request:
    """One path of a source, with the settings of the source."""

    source: str
    path: str
    accept: str
    page: bool
    settings: SourceSettings

    @property
    def name(self) -> str:
        """Source and path, for messages."""
        return f"{self.source}:{self.path}"


_FetchKind = Callable[[_Request, Credentials | None], Download]


def _fetch_of_kind(settings: SourceSettings) -> _FetchKind | None:
    """How a kind of source is read; None for the kinds that are requested over HTTP."""
    if settings.kind == "database":
        return _from_database
    function = custom_fetch(settings.kind)
    if function is not None:
        return partial(_from_function, function)
    return _from_folder if settings.is_local else None


def _from_folder(request: _Request, _: Credentials | None) -> Download:
    url = request.settings.url
    return Download(read_below(url, request.path), etag=place_of(url, request.path))


def _from_database(request: _Request, credentials: Credentials | None) -> Download:
    query = request.settings.queries.get(request.path) or database.Query(table=request.path)
    password = next(iter(credentials.secret(request.source).words), "") if credentials else ""
    return database.fetch(request.settings.url, query, request.name, password)


def _from_function(fetch: Fetch, request: _Request, credentials: Credentials | None) -> Download:
    """Output of a user's function, treated like an HTTP response."""
    try:
        answer = fetch(request.settings.url, request.path, credentials)
    except UltrumError:
        raise
    except Exception as error:
        raise SourceError(
            f"{request.name}: the reading function of this kind of source failed: "
            f"{type(error).__name__}: {error}."
        ) from error
    download = answer if isinstance(answer, Download) else Download(answer)
    if not isinstance(download.body, bytes) or not download.body:
        raise SourceError(f"{request.name}: the reading function of this kind of source returned no bytes.")
    current().check("answer_bytes", len(download.body), f"{request.name} has {len(download.body):,} bytes")
    return download


def _refuse_page(request: _Request, answer: Download) -> None:
    """Refuse an empty answer, and a web page where data are expected."""
    if not answer.body:
        raise SourceError(f"{request.name}: the answer is empty. Check the address.")
    statistics = request.settings.kind == "sdmx"
    expects_table = request.settings.kind == "table" and not request.page
    if (statistics and _starts_as_page(answer)) or (expects_table and _is_page(answer, request.path)):
        raise SourceError(f"{request.name}: a web page came instead of data. Check the address.")


def _starts_as_page(answer: Download) -> bool:
    return answer.body[:64].lstrip().lower().startswith(_PAGE)


def _is_page(answer: Download, path: str) -> bool:
    """Whether a web page was returned instead of data: a page where a file was expected, or a page without a
    table.
    """
    if not _starts_as_page(answer):
        return False
    named = path.rsplit("/", 1)[-1].lower()
    data_file = "." in named and not named.endswith((".html", ".htm", ".php", ".aspx"))
    return data_file or b"<table" not in answer.body.lower()
