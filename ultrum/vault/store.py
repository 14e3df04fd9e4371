"""The vault: a folder with a catalogue and payloads named by their checksum.

A payload is written under another name, flushed to disk and renamed; only then does the catalogue
learn of it, in one transaction. Killed at any moment, the vault holds whole deliveries only. Several
processes may use it at once: what two of them bring at the same time is recorded once.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import sqlite3
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Final

from ultrum.errors import VaultError
from ultrum.sources.delivery import Delivery

VERSION: Final = 1
_SCHEMA: Final = """
CREATE TABLE IF NOT EXISTS deliveries (
    id INTEGER PRIMARY KEY, source TEXT NOT NULL, path TEXT NOT NULL, retrieved TEXT NOT NULL,
    checksum TEXT NOT NULL, size INTEGER NOT NULL, content_type TEXT NOT NULL,
    etag TEXT NOT NULL, last_modified TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS by_address ON deliveries (source, path, retrieved, id);
CREATE TABLE IF NOT EXISTS confirmations (
    delivery INTEGER NOT NULL REFERENCES deliveries (id), at TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS by_delivery ON confirmations (delivery, at);
"""
_COLUMNS: Final = "id, source, path, retrieved, checksum, size, content_type, etag, last_modified"
_FORM: Final = "%Y-%m-%dT%H:%M:%S.%fZ"
ARRIVING: Final = ".arriving-"


@dataclass(frozen=True)
class Record:
    """Catalogue entry of one delivery; ``retrieved`` is an ISO 8601 instant in UTC."""

    id: int
    source: str
    path: str
    retrieved: str
    checksum: str
    size: int
    content_type: str
    etag: str
    last_modified: str

    @property
    def name(self) -> str:
        """Source, path and instant, for people."""
        return f"{self.source}:{self.path}, retrieved {self.retrieved}"


class Vault:
    """Deliveries on disk, by source and path; nothing in it is ever overwritten.

    Parameters
    ----------
    path : path
        Folder; made if it is not there.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder, Vault(folder) as vault:
    ...     record = vault.record("college", "factors.txt", Delivery(b"03/2011;0.02"))
    ...     vault.payload(record)
    b'03/2011;0.02'
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = Path(path)
        self._lock = threading.RLock()
        try:
            (self.path / "payloads").mkdir(parents=True, exist_ok=True)
            self._connection = sqlite3.connect(
                self.path / "catalogue.sqlite",
                timeout=60.0,
                check_same_thread=False,
                isolation_level=None,
            )
            self._connection.execute("PRAGMA journal_mode=WAL")
            self._prepare()
        except (OSError, sqlite3.Error) as error:
            raise VaultError(f"The vault {self.path} cannot be used: {error}.") from None

    def __enter__(self) -> Vault:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the catalogue, with everything recorded on disk."""
        with contextlib.suppress(sqlite3.Error):  # another process may be doing the same
            self._connection.execute("PRAGMA wal_checkpoint(PASSIVE)")
        self._connection.close()

    def _prepare(self) -> None:
        found = int(self._connection.execute("PRAGMA user_version").fetchone()[0])
        if found > VERSION:
            raise VaultError(
                f"The vault {self.path} was made by a newer Ultrum (version {found} of its layout, this "
                f"one knows {VERSION}). Update Ultrum."
            )
        if found < VERSION:
            self._connection.executescript(_SCHEMA)
            self._connection.execute(f"PRAGMA user_version = {VERSION}")

    def record(self, source: str, path: str, delivery: Delivery) -> Record:
        """Keep a delivery; the same bytes as the latest only confirm it."""
        checksum = hashlib.sha256(delivery.body).hexdigest()
        self._keep(checksum, delivery.body)
        with self._changing(durable=False) as catalogue:
            latest = self._newest(source, path)
            if latest is not None and latest.checksum == checksum:
                catalogue.execute("INSERT INTO confirmations VALUES (?, ?)", (latest.id, _now()))
                return latest
            row = (
                source,
                path,
                _after(latest),
                checksum,
                len(delivery.body),
                delivery.content_type,
                delivery.etag,
                delivery.last_modified,
            )
            done = catalogue.execute(
                "INSERT INTO deliveries (source, path, retrieved, checksum, size, content_type, "
                "etag, last_modified) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                row,
            )
            return Record(int(done.lastrowid or 0), *row)

    def confirm(self, record: Record) -> Record:
        """Note that the source still serves the same bytes."""
        with self._changing(durable=False) as catalogue:
            catalogue.execute("INSERT INTO confirmations VALUES (?, ?)", (record.id, _now()))
        return record

    def confirmations(self, record: Record) -> list[str]:
        """Instants at which a source still served the same bytes."""
        rows = self._asked(
            "SELECT at FROM confirmations WHERE delivery = ? ORDER BY at", (record.id,)
        )
        return [str(r[0]) for r in rows]

    def latest(self, source: str, path: str, at: str = "") -> Record | None:
        """Newest delivery of an address, or the newest there was at an instant."""
        return self._newest(source, path, at)

    def vintages(self, source: str, path: str) -> list[Record]:
        """Every delivery of an address, oldest first."""
        where = "WHERE source = ? AND path = ? ORDER BY retrieved, id"
        return self._records(where, (source, path))

    def records(self) -> list[Record]:
        """Every delivery, oldest first."""
        return self._records("ORDER BY retrieved, id", ())

    def forget(self, records: list[Record]) -> int:
        """Remove deliveries for good; payloads that no other delivery needs go too. Bytes freed."""
        with self._changing() as catalogue:
            for record in records:
                catalogue.execute("DELETE FROM confirmations WHERE delivery = ?", (record.id,))
                catalogue.execute("DELETE FROM deliveries WHERE id = ?", (record.id,))
        kept = {r.checksum for r in self.records()}
        freed = 0
        for checksum in {r.checksum for r in records} - kept:
            place = self.place_of(checksum)
            if place.exists():
                freed += place.stat().st_size
                place.unlink()
        return freed

    def payload(self, record: Record) -> bytes:
        """Bytes of a delivery, checked against their checksum.

        Raises
        ------
        VaultError
            If they are missing or damaged.
        """
        try:
            body = self.place_of(record.checksum).read_bytes()
        except OSError as error:
            raise VaultError(
                f"{record.name}: its payload cannot be read: {error.strerror}. Fetch it again."
            ) from None
        if hashlib.sha256(body).hexdigest() != record.checksum:
            raise VaultError(
                f"{record.name}: its payload is damaged. Fetch it again; it is then replaced."
            )
        return body

    def place_of(self, checksum: str) -> Path:
        """File of a payload."""
        return self.path / "payloads" / checksum[:2] / checksum

    def verify(self) -> list[str]:
        """Re-hash every payload; what is wrong, one line each.

        Files that were arriving when a process died are removed.
        """
        faults = []
        for record in {r.checksum: r for r in self.records()}.values():
            try:
                self.payload(record)
            except VaultError as error:
                faults.append(str(error))
        day = datetime.now(UTC).timestamp() - 86_400
        for left in (self.path / "payloads").glob(f"*/{ARRIVING}*"):
            if left.stat().st_mtime < day:
                left.unlink(missing_ok=True)
        return faults

    def size(self) -> dict[str, int]:
        """Number of addresses and deliveries, and bytes of payloads on disk."""
        files = [p for p in (self.path / "payloads").glob("*/*") if not p.name.startswith(".")]
        records = self.records()
        return {
            "addresses": len({(r.source, r.path) for r in records}),
            "deliveries": len(records),
            "payloads": len(files),
            "bytes": sum(p.stat().st_size for p in files),
        }

    def adopt(self, record: Record, body: bytes, confirmations: list[str]) -> bool:
        """Take over a delivery of another vault with its instant; False if it is here already."""
        if hashlib.sha256(body).hexdigest() != record.checksum:
            raise VaultError(
                f"{record.name}: its payload does not fit its checksum; nothing was taken."
            )
        self._keep(record.checksum, body)
        with self._changing() as catalogue:
            same = "WHERE source = ? AND path = ? AND retrieved = ? AND checksum = ?"
            key = (record.source, record.path, record.retrieved, record.checksum)
            if catalogue.execute(f"SELECT 1 FROM deliveries {same}", key).fetchone():  # noqa: S608
                return False
            done = catalogue.execute(
                "INSERT INTO deliveries (source, path, retrieved, checksum, size, content_type, "
                "etag, last_modified) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                (*key, len(body), record.content_type, record.etag, record.last_modified),
            )
            rows = [(done.lastrowid, at) for at in confirmations]
            catalogue.executemany("INSERT INTO confirmations VALUES (?, ?)", rows)
        return True

    def _newest(self, source: str, path: str, at: str = "") -> Record | None:
        limit = "AND retrieved <= ? " if at else ""
        where = f"WHERE source = ? AND path = ? {limit}ORDER BY retrieved DESC, id DESC LIMIT 1"
        found = self._records(where, (source, path, at) if at else (source, path))
        return found[0] if found else None

    def _records(self, where: str, values: tuple[str, ...]) -> list[Record]:
        rows = self._asked(f"SELECT {_COLUMNS} FROM deliveries {where}", values)  # noqa: S608
        return [Record(*row) for row in rows]

    def _asked(self, query: str, values: tuple[object, ...]) -> list[Any]:
        with self._lock, self._failing():
            return self._connection.execute(query, values).fetchall()

    def _keep(self, checksum: str, body: bytes) -> None:
        """Write the payload so that it appears whole or not at all; a damaged one is replaced."""
        place = self.place_of(checksum)
        if self._is_whole(place, checksum, len(body)):
            return
        try:
            place.parent.mkdir(parents=True, exist_ok=True)
            handle, name = tempfile.mkstemp(dir=place.parent, prefix=ARRIVING)
            try:
                with os.fdopen(handle, "wb") as file:
                    file.write(body)
                    file.flush()
                    os.fsync(file.fileno())
                os.replace(name, place)
            except BaseException:
                Path(name).unlink(missing_ok=True)
                raise
        except OSError as error:
            raise VaultError(
                f"A delivery could not be kept in {self.path}: {error.strerror}. Nothing was recorded."
            ) from None

    @staticmethod
    def _is_whole(place: Path, checksum: str, size: int) -> bool:
        if not place.exists() or place.stat().st_size != size:
            return False
        return hashlib.sha256(place.read_bytes()).hexdigest() == checksum

    @contextmanager
    def _changing(self, durable: bool = True) -> Iterator[sqlite3.Connection]:
        """One transaction that no other process can come between.

        A durable one is on disk when it ends; another is safe from a process that dies at any moment,
        and on disk when the vault is closed.
        """
        with self._lock, self._failing():
            self._connection.execute(f"PRAGMA synchronous = {'FULL' if durable else 'NORMAL'}")
            self._connection.execute("BEGIN IMMEDIATE")
            try:
                yield self._connection
            except BaseException:
                self._connection.execute("ROLLBACK")
                raise
            self._connection.execute("COMMIT")

    @contextmanager
    def _failing(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as error:
            raise VaultError(f"The catalogue of {self.path} cannot be used: {error}.") from None


def _now() -> str:
    return datetime.now(UTC).strftime(_FORM)


def _after(latest: Record | None) -> str:
    """Now, but never before the delivery it follows, even if the clock went back."""
    now = _now()
    if latest is None or latest.retrieved < now:
        return now
    return (datetime.strptime(latest.retrieved, _FORM) + timedelta(microseconds=1)).strftime(_FORM)
