"""The vault: a folder with a catalogue and payloads named by their checksum.

A payload is written under another name, flushed to disk and renamed; only then does the catalogue
learn of it, in one transaction. Killed at any moment, the vault holds whole deliveries only.
"""

from __future__ import annotations

import hashlib
import os
import sqlite3
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Final

from ultrum.errors import VaultError
from ultrum.sources.delivery import Delivery

_SCHEMA: Final = """
CREATE TABLE IF NOT EXISTS deliveries (
    id INTEGER PRIMARY KEY, source TEXT NOT NULL, path TEXT NOT NULL, retrieved TEXT NOT NULL,
    checksum TEXT NOT NULL, size INTEGER NOT NULL, content_type TEXT NOT NULL,
    etag TEXT NOT NULL, last_modified TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS by_address ON deliveries (source, path, retrieved, id);
CREATE TABLE IF NOT EXISTS confirmations (
    delivery INTEGER NOT NULL REFERENCES deliveries (id), at TEXT NOT NULL);
"""
_COLUMNS: Final = "id, source, path, retrieved, checksum, size, content_type, etag, last_modified"


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


class Vault:
    """Deliveries on disk, by source and path; nothing in it is ever overwritten.

    Parameters
    ----------
    path : path
        Folder; made if it is not there.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     vault = Vault(folder)
    ...     record = vault.record("college", "factors.txt", Delivery(b"03/2011;0.02"))
    ...     vault.payload(record)
    b'03/2011;0.02'
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = Path(path)
        try:
            (self.path / "payloads").mkdir(parents=True, exist_ok=True)
            with self._catalogue() as catalogue:
                catalogue.executescript(_SCHEMA)
        except (OSError, sqlite3.Error) as error:
            raise VaultError(f"The vault {self.path} cannot be used: {error}.") from None

    def record(self, source: str, path: str, delivery: Delivery) -> Record:
        """Keep a delivery; the same bytes as the latest only confirm it."""
        checksum = hashlib.sha256(delivery.body).hexdigest()
        latest = self.latest(source, path)
        if latest is not None and latest.checksum == checksum:
            return self.confirm(latest)
        self._keep(checksum, delivery.body)
        row = (
            source,
            path,
            _now(),
            checksum,
            len(delivery.body),
            delivery.content_type,
            delivery.etag,
            delivery.last_modified,
        )
        with self._catalogue() as catalogue:
            done = catalogue.execute(
                "INSERT INTO deliveries (source, path, retrieved, checksum, size, content_type, "
                "etag, last_modified) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                row,
            )
            return Record(int(done.lastrowid or 0), *row)

    def confirm(self, record: Record) -> Record:
        """Note that the source still serves the same bytes."""
        with self._catalogue() as catalogue:
            catalogue.execute("INSERT INTO confirmations VALUES (?, ?)", (record.id, _now()))
        return record

    def latest(self, source: str, path: str) -> Record | None:
        """Newest delivery of an address, if there is one."""
        with self._catalogue() as catalogue:
            row = catalogue.execute(
                f"SELECT {_COLUMNS} FROM deliveries WHERE source = ? AND path = ? "  # noqa: S608
                "ORDER BY retrieved DESC, id DESC LIMIT 1",
                (source, path),
            ).fetchone()
        return Record(*row) if row else None

    def records(self) -> list[Record]:
        """Every delivery, oldest first."""
        with self._catalogue() as catalogue:
            rows = catalogue.execute(
                f"SELECT {_COLUMNS} FROM deliveries ORDER BY retrieved, id"  # noqa: S608
            ).fetchall()
        return [Record(*row) for row in rows]

    def payload(self, record: Record) -> bytes:
        """Bytes of a delivery, checked against their checksum.

        Raises
        ------
        VaultError
            If they are missing or damaged.
        """
        name = f"{record.source}:{record.path}, retrieved {record.retrieved}"
        try:
            body = self._place(record.checksum).read_bytes()
        except OSError as error:
            raise VaultError(
                f"{name}: its payload cannot be read: {error}. Fetch it again."
            ) from None
        if hashlib.sha256(body).hexdigest() != record.checksum:
            raise VaultError(f"{name}: its payload is damaged. Move it away and fetch it again.")
        return body

    def _place(self, checksum: str) -> Path:
        return self.path / "payloads" / checksum[:2] / checksum

    def _keep(self, checksum: str, body: bytes) -> None:
        """Write the payload so that it appears whole or not at all."""
        place = self._place(checksum)
        if place.exists() and place.stat().st_size == len(body):
            return
        try:
            place.parent.mkdir(exist_ok=True)
            handle, name = tempfile.mkstemp(dir=place.parent, prefix=".arriving-")
            try:
                with os.fdopen(handle, "wb") as file:
                    file.write(body)
                    file.flush()
                    os.fsync(file.fileno())
                os.replace(name, place)
            except BaseException:
                os.unlink(name)
                raise
        except OSError as error:
            raise VaultError(f"A delivery could not be kept in {self.path}: {error}.") from None

    @contextmanager
    def _catalogue(self) -> Iterator[sqlite3.Connection]:
        connection = sqlite3.connect(self.path / "catalogue.sqlite", timeout=30.0)
        try:
            connection.execute("PRAGMA journal_mode=WAL")
            with connection:
                yield connection
        except sqlite3.Error as error:
            raise VaultError(f"The catalogue of {self.path} cannot be used: {error}.") from None
        finally:
            connection.close()


def _now() -> str:
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
