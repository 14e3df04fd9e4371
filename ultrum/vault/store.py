"""The vault: a folder with a catalogue and payloads named by their checksum.

A payload is on disk whole before the catalogue learns of it, in one transaction. Killed at any moment, the
vault holds whole deliveries only. Several processes may use it at once: what two of them bring at the same
time is recorded once. A damaged catalogue is set aside and made anew from receipts, which say the same beside
the payloads.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Final

from ultrum.errors import VaultError, reason, warn_user
from ultrum.sources.delivery import Delivery
from ultrum.vault.payloads import Payloads
from ultrum.vault.receipts import FACTS, Receipts
from ultrum.vault.record import Record

VERSION: Final = 2  # 2: receipts beside the payloads
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
_COLUMNS: Final = f"id, {', '.join(FACTS)}"
_INSERT: Final = f"INSERT INTO deliveries ({', '.join(FACTS)}) VALUES (?, ?, ?, ?, ?, ?, ?, ?)"  # noqa: S608
_FORM: Final = "%Y-%m-%dT%H:%M:%S.%fZ"


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
        self._receipts = Receipts(self.path / "receipts")
        self._payloads = Payloads(self.path / "payloads")
        try:
            self.readonly = self.path.is_dir() and not os.access(self.path, os.W_OK)
            if not self.readonly:
                (self.path / "payloads").mkdir(parents=True, exist_ok=True)
            self._open()
        except (OSError, sqlite3.Error) as error:
            raise VaultError(f"The vault {self.path} cannot be used: {reason(error)}.") from None

    @property
    def _file(self) -> Path:
        return self.path / "catalogue.sqlite"

    def _open(self) -> None:
        """Open the catalogue, or make it anew if it is damaged."""
        if self.readonly:
            self._connection = self._connected(
                f"{self._file.absolute().as_uri()}?mode=ro&immutable=1"
            )
            self._refuse_unsettled()
            return
        try:
            self._connection = self._connected(self._file.absolute().as_uri())
            self._connection.execute("PRAGMA journal_mode=WAL")
            self._prepare()
        except sqlite3.OperationalError:
            raise
        except sqlite3.DatabaseError:
            self._connection.close()
            self.rebuild()

    @staticmethod
    def _connected(address: str) -> sqlite3.Connection:
        return sqlite3.connect(
            address, timeout=60.0, check_same_thread=False, isolation_level=None, uri=True
        )

    def _refuse_unsettled(self) -> None:
        """Only what is in the catalogue itself can be read where nothing may be written."""
        left = self._file.with_name(f"{self._file.name}-wal")
        if left.exists() and left.stat().st_size:
            raise VaultError(
                f"The vault {self.path} may only be read, and its last changes were not settled. Open it "
                "once where it may be written, for example with 'ultrum vault verify'."
            )

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
        if found == VERSION:
            return
        with self._changing() as catalogue:
            found = int(catalogue.execute("PRAGMA user_version").fetchone()[0])
            if found == VERSION:  # another process was quicker
                return
            for statement in _SCHEMA.split(";"):
                catalogue.execute(statement)
            if found == 1:
                self._write_receipts()
            elif self._receipts:  # the catalogue is gone, what it knew is not
                self._fill(catalogue)
            catalogue.execute(f"PRAGMA user_version = {VERSION}")

    def _write_receipts(self) -> None:
        """A vault of version 1 has none."""
        for record in self.records():
            self._receipts.add(record.facts)
            for at in self.confirmations(record):
                self._receipts.confirm(
                    record.checksum, record.source, record.path, record.retrieved, at
                )

    def _fill(self, catalogue: sqlite3.Connection) -> int:
        """Record what the receipts know; how many deliveries."""
        known = list(self._receipts.all())
        for facts, confirmed in known:
            done = catalogue.execute(_INSERT, tuple(facts[k] for k in FACTS))
            rows = [(done.lastrowid, at) for at in confirmed]
            catalogue.executemany("INSERT INTO confirmations VALUES (?, ?)", rows)
        return len(known)

    def rebuild(self) -> int:
        """Set the catalogue aside and make it anew from the receipts; how many deliveries.

        Nothing is lost or deleted; a warning says where the old catalogue is.
        """
        with self._lock:
            aside = self._file.with_name(f"catalogue.damaged-{_now().replace(':', '')}.sqlite")
            with contextlib.suppress(sqlite3.Error):
                self._connection.close()
            for end in ("", "-wal", "-shm"):
                old = self._file.with_name(self._file.name + end)
                if old.exists():
                    os.replace(old, aside.with_name(aside.name + end))
            self._connection = self._connected(self._file.absolute().as_uri())
            self._connection.execute("PRAGMA journal_mode=WAL")
            self._prepare()
            count = len(self.records())
        warn_user(
            f"The catalogue of the vault {self.path} was damaged and has been made anew: {count} deliveries. "
            f"The old one is {aside.name}."
        )
        return count

    def record(self, source: str, path: str, delivery: Delivery) -> Record:
        """Keep a delivery; the same bytes as the latest only confirm it."""
        checksum = hashlib.sha256(delivery.body).hexdigest()
        self._keep(checksum, delivery.body)
        with self._changing(durable=False) as catalogue:
            latest = self._newest(source, path)
            if latest is not None and latest.checksum == checksum:
                self._confirm(catalogue, latest)
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
            record = Record(int(catalogue.execute(_INSERT, row).lastrowid or 0), *row)
            self._receipts.add(record.facts)
            return record

    def confirm(self, record: Record) -> Record:
        """Note that the source still serves the same bytes."""
        with self._changing(durable=False) as catalogue:
            self._confirm(catalogue, record)
        return record

    def _confirm(self, catalogue: sqlite3.Connection, record: Record) -> None:
        at = _now()
        catalogue.execute("INSERT INTO confirmations VALUES (?, ?)", (record.id, at))
        self._receipts.confirm(record.checksum, record.source, record.path, record.retrieved, at)

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
        for checksum in {r.checksum for r in records}:
            gone = {(r.source, r.path, r.retrieved) for r in records if r.checksum == checksum}
            self._receipts.drop(checksum, gone)
        kept = {r.checksum for r in self.records()}
        return sum(self._payloads.remove(c) for c in {r.checksum for r in records} - kept)

    def payload(self, record: Record) -> bytes:
        """Bytes of a delivery, checked against their checksum.

        Raises
        ------
        VaultError
            If they are missing or damaged.
        """
        return self._payloads.read(record.checksum, record.name)

    def place_of(self, checksum: str) -> Path:
        """File of a payload."""
        return self._payloads.place_of(checksum)

    def verify(self) -> list[str]:
        """Check the catalogue, and re-hash every payload; what is wrong, one line each.

        A damaged catalogue is made anew. Files that were arriving when a process died are removed.
        """
        faults = []
        if not self.readonly and not self._catalogue_is_sound():
            count = self.rebuild()
            faults.append(
                f"The catalogue was damaged; it has been made anew, with {count} deliveries."
            )
        for record in {r.checksum: r for r in self.records()}.values():
            try:
                self.payload(record)
            except VaultError as error:
                faults.append(str(error))
        if not self.readonly:
            self._payloads.sweep()
        return faults

    def _catalogue_is_sound(self) -> bool:
        try:
            with self._lock:
                return bool(self._connection.execute("PRAGMA quick_check(1)").fetchone()[0] == "ok")
        except sqlite3.DatabaseError:
            return False

    def size(self) -> dict[str, int]:
        """Number of addresses and deliveries, and bytes of payloads on disk."""
        sizes = self._payloads.sizes()
        records = self.records()
        return {
            "addresses": len({(r.source, r.path) for r in records}),
            "deliveries": len(records),
            "payloads": len(sizes),
            "bytes": sum(sizes),
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
            values = (*key, len(body), record.content_type, record.etag, record.last_modified)
            taken = Record(int(catalogue.execute(_INSERT, values).lastrowid or 0), *values)
            self._receipts.add(taken.facts)
            for at in confirmations:
                catalogue.execute("INSERT INTO confirmations VALUES (?, ?)", (taken.id, at))
                self._receipts.confirm(
                    taken.checksum, taken.source, taken.path, taken.retrieved, at
                )
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
        self._refuse_readonly()
        self._payloads.keep(checksum, body)

    def _refuse_readonly(self) -> None:
        if self.readonly:
            raise VaultError(
                f"The vault {self.path} may only be read; nothing can be recorded in it. Run offline, or "
                "take another vault."
            )

    @contextmanager
    def _changing(self, durable: bool = True) -> Iterator[sqlite3.Connection]:
        """One transaction that no other process can come between.

        A durable one is on disk when it ends; another is safe from a process that dies at any moment,
        and on disk when the vault is closed.
        """
        self._refuse_readonly()
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
        except OSError as error:
            raise VaultError(
                f"Nothing could be recorded in {self.path}: {error.strerror}."
            ) from None
        except sqlite3.OperationalError as error:
            raise VaultError(
                f"The catalogue of {self.path} cannot be used: {reason(error)}."
            ) from None
        except sqlite3.Error as error:
            raise VaultError(
                f"The catalogue of {self.path} is damaged: {error}. 'ultrum vault verify' makes it anew."
            ) from None


def _now() -> str:
    return datetime.now(UTC).strftime(_FORM)


def _after(latest: Record | None) -> str:
    """Now, but never before the delivery it follows, even if the clock went back."""
    now = _now()
    if latest is None or latest.retrieved < now:
        return now
    return (datetime.strptime(latest.retrieved, _FORM) + timedelta(microseconds=1)).strftime(_FORM)
