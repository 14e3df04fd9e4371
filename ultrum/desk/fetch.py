"""Fetching through the vault: downloaded from the source and recorded, or read from the vault."""

from __future__ import annotations

import hashlib
import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Final

from ultrum.desk.addresses import files_below
from ultrum.desk.local_tables import place_of, read_below
from ultrum.desk.settings import Fetch, SourceSettings, custom_fetch
from ultrum.errors import SourceError, UltrumError, VaultError
from ultrum.sources import database
from ultrum.sources.credentials import Credentials, CredentialStore, Secret
from ultrum.sources.download import Download
from ultrum.sources.limits import HttpPolicy, current
from ultrum.vault.journal import Record
from ultrum.vault.store import Vault

if TYPE_CHECKING:
    from ultrum.sources.http_client import HttpClient

_HELD: Final = 64 * 1024**2  # bytes of responses in memory
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


class Fetcher:
    """Requests each path of a source once per session, through the vault."""

    def __init__(
        self,
        vault: Vault,
        sources: Mapping[str, SourceSettings],
        client: ClientOnDemand,
        progress: Progress,
        offline: bool,
        at: str,
        store: CredentialStore,
    ) -> None:
        self.vault, self.sources, self.client, self.store = vault, sources, client, store
        self.progress, self.offline, self.at = progress, offline, at
        self.used: list[Record] = []
        self.accesses: list[Access] = []
        self._records: dict[tuple[str, str], Record] = {}
        self._bodies: OrderedDict[tuple[str, str], bytes] = OrderedDict()  # the latest ones
        self._held = 0  # their bytes
        self._lock = threading.Lock()

    def response(self, source: str, path: str, accept: str = "*/*", page: bool = False) -> Download:
        """The response at a path: from the vault when offline, otherwise from the source through it."""
        return self.record_of(source, path, accept, page)[1]

    def record_of(
        self, source: str, path: str, accept: str = "*/*", page: bool = False
    ) -> tuple[Record, Download]:
        """The response at a path, with its record in the vault."""
        with self._lock:
            record_before, body = (
                self._records.get((source, path)),
                self._bodies.get((source, path)),
            )
        if record_before is not None:
            self.accesses.append(Access(source, path, accept, page, record_before.checksum))
            body = self.vault.payload(record_before) if body is None else body
            return record_before, Download(body, record_before.content_type, record_before.etag)
        held = self.latest(source, path, self.at)
        if self.offline or self.at:
            if held is None:
                when = f" of {self.at[:10]}" if self.at else ""
                if self.sources[source].is_local:
                    raise VaultError(
                        f"The vault {self.vault.path} holds no {source}:{path} of this folder{when}. Use "
                        "'ultrum pull' or a run without offline, which store it."
                    )
                raise VaultError(
                    f"The vault {self.vault.path} holds no {source}:{path}{when}; fetch it once without offline."
                )
            record, body = held, self.vault.payload(held)
        else:
            self.progress(f"{source}: {path}")
            record, body = self._fetch_fresh(source, path, accept, held, page)
        with self._lock:
            self.used.append(record)
            self.accesses.append(Access(source, path, accept, page, record.checksum))
            self._records[source, path] = record
            self._remember((source, path), body)
        return record, Download(body, record.content_type, record.etag)

    def _remember(self, place: tuple[str, str], body: bytes) -> None:
        """Cache of the latest bodies, with a size limit; the vault has the others."""
        self._held += len(body) - len(self._bodies.pop(place, b""))
        self._bodies[place] = body
        while len(self._bodies) > 1 and self._held > _HELD:
            self._held -= len(self._bodies.popitem(last=False)[1])

    def files_of(self, source: str, pattern: str) -> list[tuple[str, dict[str, str]]]:
        """Files of a local source that match a pattern; which there are is an input like the bytes of one."""
        places = files_below(self.sources[source].url, pattern)
        self.accesses.append(Access(source, pattern, LISTING, False, ""))
        return places

    def latest(self, source: str, path: str, at: str = "") -> Record | None:
        """The newest download of an address as of an instant; of a local file only one of its own."""
        if source in self.sources and self.sources[source].is_local:
            return next(iter(reversed(self.vintages(source, path, at))), None)
        return self.vault.latest(source, path, at)

    def vintages(self, source: str, path: str, at: str = "") -> list[Record]:
        """Downloads of an address up to an instant, oldest first.

        Two folders can have files of one name. A local file answers for itself: by its location, or by its bytes
        if it has moved. A file that is not on this machine is answered by what was imported.
        """
        records = [r for r in self.vault.vintages(source, path) if not at or r.retrieved <= at]
        if source not in self.sources or not self.sources[source].is_local:
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

    def record_of_access(self, access: Access) -> Record:
        """The record of a download with an earlier request."""
        return self.record_of(access.source, access.path, access.accept, access.page)[0]

    def seen_at(self, instant: str) -> Fetcher:
        """A fetcher on the vault as of an instant, without downloads."""
        return Fetcher(
            Vault(self.vault.path),
            self.sources,
            self.client,
            self.progress,
            True,
            instant,
            self.store,
        )

    def forget_session(self) -> None:
        """Request everything again."""
        with self._lock:
            self._records.clear()
            self._bodies.clear()
            self._held = 0

    def _fetch_fresh(
        self, source: str, path: str, accept: str, held: Record | None, page: bool
    ) -> tuple[Record, bytes]:
        """A new response, recorded, with its bytes."""
        where = self.sources[source]
        if where.kind == "database":
            return self._record_answer(source, path, self._from_database(source, path, where))
        user_function = custom_fetch(where.kind)
        if user_function is not None:
            how = self._credentials_of(source, where)
            return self._record_answer(
                source, path, _fetch_by_function(user_function, f"{source}:{path}", path, where.url, how)
            )
        if where.is_local:
            return self._record_answer(
                source, path, Download(read_below(where.url, path), etag=place_of(where.url, path))
            )
        copy = self._copy_of(held)
        how = self._credentials_of(source, where)
        secret = how.secret(source) if how else None
        url = f"{where.url.rstrip('/')}/{path}"
        answer = self.client.get(url, accept=accept, held=copy, secret=secret)
        if answer.unchanged and held is not None and copy is not None:
            return self.vault.confirm(held), copy.body
        if not answer.body:
            raise SourceError(f"{source}:{path}: the answer is empty. Check the address.")
        if where.kind == "sdmx" and answer.body[:64].lstrip().lower().startswith(_PAGE):
            raise SourceError(f"{source}:{path}: a web page came instead of data. Check the address.")
        if where.kind == "table" and not page and _is_page(answer, path):
            raise SourceError(f"{source}:{path}: a web page came instead of data. Check the address.")
        return self._record_answer(source, path, answer)

    def _credentials_of(self, source: str, where: SourceSettings) -> Credentials | None:
        """Credentials for a source: from the program, or the user's own by name, for its host."""
        if isinstance(where.credentials, str):
            return self.store.for_host(where.credentials, where.url, source)
        return where.credentials

    def _record_answer(self, source: str, path: str, answer: Download) -> tuple[Record, bytes]:
        return self.vault.record(source, path, answer), answer.body

    def _copy_of(self, held: Record | None) -> Download | None:
        """The stored copy, if it is intact, for confirmation by the server."""
        if held is None or held.imported or not (held.etag or held.last_modified):
            return None  # the validators in an archive were chosen by its maker
        try:
            body = self.vault.payload(held)
        except VaultError:
            return None
        return Download(body, etag=held.etag, last_modified=held.last_modified)

    def _from_database(self, source: str, path: str, where: SourceSettings) -> Download:
        query = where.queries.get(path) or database.Query(table=path)
        password = ""
        how = self._credentials_of(source, where)
        if how:
            password = next(iter(how.secret(source).words), "")
        return database.fetch(where.url, query, f"{source}:{path}", password)


def _fetch_by_function(fetch: Fetch, name: str, path: str, url: str, credentials: Credentials | None) -> Download:
    """Output of a user's function, treated like an HTTP response."""
    try:
        answer = fetch(url, path, credentials)
    except UltrumError:
        raise
    except Exception as error:
        raise SourceError(
            f"{name}: the reading function of this kind of source failed: {type(error).__name__}: {error}."
        ) from error
    download = answer if isinstance(answer, Download) else Download(answer)
    if not isinstance(download.body, bytes) or not download.body:
        raise SourceError(f"{name}: the reading function of this kind of source returned no bytes.")
    current().check("answer_bytes", len(download.body), f"{name} has {len(download.body):,} bytes")
    return download


def _is_page(answer: Download, path: str) -> bool:
    """Whether a web page was returned instead of data: a page where a file was expected, or a page without a
    table.
    """
    if not answer.body[:64].lstrip().lower().startswith(_PAGE):
        return False
    named = path.rsplit("/", 1)[-1].lower()
    data_file = "." in named and not named.endswith((".html", ".htm", ".php", ".aspx"))
    return data_file or b"<table" not in answer.body.lower()
