"""The vault: a folder with a journal, payloads named by checksum, and a catalogue built from the journal.

Every change is made by a process that holds the vault's lock: payloads first, then the journal, then the
catalogue. Interrupted at any moment, the vault has complete downloads only. Several processes can use it at once:
what two of them download at the same time is recorded once.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import sqlite3
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Final, TypeVar

import filelock

from ultrum.core.presentation import quantity
from ultrum.errors import VaultError, name_list, reason, warn_user
from ultrum.file_access import path_of
from ultrum.sources.download_and_limits import PLACE, Download
from ultrum.vault.catalogue import (
    DAMAGE,
    Catalogue,
    another_in,
    catalogue_of,
    entries_without_journal,
    entry_of,
    is_sound,
    journal_faults,
    last_catalogue,
    newest_in,
    remove_catalogues,
    repair,
    shows_damage,
)
from ultrum.vault.journal_and_payload_files import (
    UNEXPLAINED,
    Journal,
    Payloads,
    Position,
    Record,
    confirmation,
    new_record,
)

_T = TypeVar("_T")
_PATIENCE: Final = 600.0  # seconds to wait for another process


class Vault:
    """Downloads on disk, by source and path; nothing is ever overwritten.

    Parameters
    ----------
    path : path
        Folder; created if it does not exist.

    Raises
    ------
    VaultError
        If the folder cannot be used, or a newer Ultrum wrote it.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder, Vault(folder) as vault:
    ...     record = vault.record("college", "factors.txt", Download(b"03/2011;0.02"))
    ...     vault.payload(record)
    b'03/2011;0.02'
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = path_of(path)
        self._threads = threading.RLock()
        self._journal = Journal(self.path)
        self._seen = (0, 0)  # stamp of the journal that the catalogue reaches
        self._payloads = Payloads(self.path / "payloads")
        self._lock = filelock.FileLock(
            self.path / ".lock", timeout=_PATIENCE, poll_interval=0.002, thread_local=False
        )
        try:
            self.readonly = self.path.is_dir() and not os.access(self.path, os.W_OK)
            if not self.readonly:
                self._payloads.folder.mkdir(parents=True, exist_ok=True)
            self._open()
        except (OSError, sqlite3.Error) as error:
            raise VaultError(f"The vault {self.path} cannot be used: {reason(error)}.") from error

    def _open(self) -> None:
        if self.readonly:
            self._refuse_lost_journal()
            self._catalogue = catalogue_of(self._journal)
            return
        if not self._journal.file.exists():
            with self._hold_lock():
                if not self._journal.file.exists():  # no other process was quicker
                    self._journal.begin(entries_without_journal(self.path))
                    remove_catalogues(self.path)  # rebuilt from the journal
        self._journal.identity()  # refuses one of a newer version
        self._payloads.sweep()
        self._catalogue = self._open_catalogue()
        self._read(lambda _: None)

    def _refuse_lost_journal(self) -> None:
        """Refuse a vault without a journal where no new one can be written."""
        if not self._journal.file.exists() and last_catalogue(self.path):
            raise VaultError(
                f"The vault {self.path} has no journal and is read-only. Rebuild it where it is writable: "
                "ultrum vault verify."
            )

    def _open_catalogue(self) -> Catalogue:
        """The newest catalogue, or a new one if it is damaged."""
        self._seen = (0, 0)
        with contextlib.suppress(sqlite3.OperationalError, *DAMAGE):
            return newest_in(self.path)
        return self._rebuilt()

    def _rebuilt(self) -> Catalogue:
        """A new, empty catalogue."""
        self._seen = (0, 0)
        with self._hold_lock():
            return another_in(self.path)

    def __enter__(self) -> Vault:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Release the vault, with everything recorded on disk."""
        with contextlib.suppress(OSError):
            if not self.readonly:
                self._journal.settle()
        self._catalogue.close()

    def rebuild(self) -> int:
        """Rebuild the catalogue from the journal; returns the number of downloads."""
        with self._threads:
            self._catalogue.close()
            self._catalogue = self._rebuilt()
            self._catch_up()
            count = len(self._catalogue.records(""))
        warn_user(
            f"The catalogue of the vault {self.path} was damaged and has been rebuilt: "
            f"{quantity(count, 'download')}."
        )
        return count

    def record(self, source: str, path: str, download: Download) -> Record:
        """Store a download; bytes equal to the latest only confirm it."""
        self._refuse_readonly()
        checksum = hashlib.sha256(download.body).hexdigest()
        with self._payloads.arriving(checksum, download.body) as settle, self._changing() as write:
            latest = self._newest(source, path, place=download.etag)
            settle()
            same = latest is not None and latest.checksum == checksum
            if latest is not None and same and not latest.imported:
                write([confirmation(latest)])
                return latest
            if latest is not None and latest.imported and not same:
                warn_user(
                    f"{source}:{path}: the download imported from an archive, retrieved {latest.retrieved}, "
                    "differs from what the source serves now. The source's version is used."
                )
            write([entry_of(new_record(source, path, checksum, download, latest))])
            recorded = self._newest(source, path, place=download.etag)
        if recorded is None or recorded.checksum != checksum:
            raise VaultError(f"{source}:{path} was not recorded. Run 'ultrum vault verify'.")
        return recorded

    def confirm(self, record: Record) -> Record:
        """Record that the source confirmed the same bytes."""
        with self._changing() as write:
            write([confirmation(duplicate) for duplicate in self._same(record)])
        return record

    def confirmations(self, record: Record) -> list[str]:
        """Instants at which a source confirmed the same bytes."""
        return self._read(lambda c: [at for r in self._same(record) for at in c.confirmations(r.id)])

    def latest(self, source: str, path: str, at: str = "") -> Record | None:
        """Newest download of an address, or the newest as of an instant.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     table = desk.table("exchange:companies.csv", records_only=True)
        ...     print(desk.vault.latest("exchange", "companies.csv").size)
        ...     desk.close()
        1284
        """
        return self._read(lambda _: self._newest(source, path, at))

    def vintages(self, source: str, path: str) -> list[Record]:
        """Every download of an address, oldest first.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     table = desk.table("exchange:companies.csv", records_only=True)
        ...     print(len(desk.vault.vintages("exchange", "companies.csv")))
        ...     desk.close()
        1
        """
        where = "WHERE source = ? AND path = ? ORDER BY placed, id"
        return self._read(lambda catalogue: catalogue.records(where, (source, path)))

    def records(self) -> list[Record]:
        """Every download, oldest first.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     table = desk.table("exchange:companies.csv", records_only=True)
        ...     print([r.path for r in desk.vault.records()])
        ...     desk.close()
        ['companies.csv']
        """
        return self._read(lambda catalogue: catalogue.records("ORDER BY placed, id"))

    def forget(self, records: list[Record]) -> int:
        """Remove downloads permanently, with payloads that no other download needs. Bytes freed."""
        with self._changing(durable=True, needed=True) as write:
            write([{"do": "forget", "of": [r.id for given in records for r in self._same(given)]}])
            gone = {r.checksum for r in records}
            kept = {c for c in gone if self._catalogue.records("WHERE checksum = ?", (c,))}
            freed = sum(self._payloads.remove(c) for c in gone - kept)
        self._journal.keep_reserve()
        return freed

    def payload(self, record: Record) -> bytes:
        """Bytes of a download, verified by checksum.

        Raises
        ------
        VaultError
            If they are missing or damaged.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     table = desk.table("exchange:companies.csv", records_only=True)
        ...     record = desk.vault.latest("exchange", "companies.csv")
        ...     print(desk.vault.payload(record)[:11])
        ...     desk.close()
        b'listed,asse'
        """
        return self._payloads.read(record.checksum, record.name)

    def place_of(self, checksum: str) -> Path:
        """File of a payload."""
        return self._payloads.place_of(checksum)

    @contextmanager
    def frozen(self) -> Iterator[None]:
        """Lock the vault against changes by other processes."""
        with self._threads, contextlib.nullcontext() if self.readonly else self._hold_lock():
            yield

    def verify(self) -> list[str]:
        """Check journal, catalogue and every payload; returns the errors, one line each.

        A damaged catalogue is rebuilt, a damaged journal is repaired from the catalogue. Payloads that no
        download names are set aside with a warning.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     table = desk.table("exchange:companies.csv", records_only=True)
        ...     print(desk.vault.verify())
        ...     desk.close()
        []
        """
        with self.frozen():
            faults = self._check_journal()
            for record in {r.checksum: r for r in self.records()}.values():
                try:
                    self.payload(record)
                except VaultError as error:
                    faults.append(str(error))
            if not self.readonly and not faults:
                count, size = self._payloads.set_others_aside({r.checksum for r in self.records()})
                if count:
                    warn_user(
                        f"{quantity(count, 'payload')} that no download names ({size:,} bytes), as an "
                        f"interrupted process leaves: moved to {self.path / UNEXPLAINED}. Delete that folder "
                        "if you need none."
                    )
        return faults

    def _check_journal(self) -> list[str]:
        """Errors of journal and catalogue; both are repaired."""
        reached = 0
        with contextlib.suppress(*DAMAGE):
            reached = self._catalogue.position().end
        faults = journal_faults(self._journal, reached)
        if self.readonly:
            return faults
        if faults:
            faults.append(repair(self._journal, self._catalogue))
        elif not is_sound(self._catalogue, self._journal):
            faults.append("The catalogue was damaged; it has been rebuilt from the journal.")
        if faults:
            self.rebuild()
        return faults

    def size(self) -> dict[str, int]:
        """Number of addresses and downloads, and bytes of payloads on disk.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     desk = ul.Desk(folder, sources=ul.practice.sources_at(service.places))
        ...     table = desk.table("exchange:companies.csv", records_only=True)
        ...     print(desk.vault.size()["downloads"])
        ...     desk.close()
        1
        """
        sizes = self._payloads.sizes()
        records = self.records()
        return {
            "addresses": len({(r.source, r.path) for r in records}),
            "downloads": len(records),
            "payloads": len(sizes),
            "bytes": sum(sizes),
        }

    def adopt(self, records: Sequence[tuple[Record, Sequence[str]]], body: Callable[[str], bytes]) -> int:
        """Import downloads of another vault with their instants, all or none; returns the number of new ones.

        Parameters
        ----------
        records : sequence of (Record, sequence of str)
            Downloads with their confirmations.
        body : function
            Payload of a checksum, verified before anything is imported.
        """
        self._refuse_readonly()
        with self._changing(durable=True) as write:
            new = [(record, at) for record, at in records if not self._same(record)]
            for checksum in dict.fromkeys(record.checksum for record, _ in new):
                with self._payloads.arriving(checksum, body(checksum)) as settle:
                    settle()
            number, entries = self._catalogue.position().number, list[dict[str, object]]()
            for record, times in new:
                entries.append(entry_of(replace(record, imported=True)))
                record_number = number + len(entries)
                entries += [{"do": "confirm", "of": record_number, "at": at} for at in times]
            write(entries)
        return len(new)

    def _same(self, record: Record) -> list[Record]:
        """The download with its number in this vault."""
        key = "WHERE source = ? AND path = ? AND retrieved = ? AND checksum = ?"
        return self._catalogue.records(key, (record.source, record.path, record.retrieved, record.checksum))

    def _newest(self, source: str, path: str, at: str = "", place: str = "") -> Record | None:
        """Newest download of an address, as of an instant; of a local file, that of its own place."""
        limit = "AND retrieved <= ? " if at else ""
        own = "AND etag = ? " if place.startswith(PLACE) else ""
        where = f"WHERE source = ? AND path = ? {limit}{own}ORDER BY placed DESC, id DESC LIMIT 1"
        values = (source, path, *([at] if at else []), *([place] if own else []))
        records = self._catalogue.records(where, values)
        return records[0] if records else None

    def _read(self, ask: Callable[[Catalogue], _T]) -> _T:
        """A result of the catalogue, after reading new entries of the journal; the catalogue is rebuilt if it is
        damaged.
        """
        with self._threads:
            try:
                self._catch_up()
                return ask(self._catalogue)
            except sqlite3.OperationalError as error:
                if not shows_damage(error):
                    raise VaultError(f"The catalogue of {self.path} cannot be used: {reason(error)}.") from error
            except DAMAGE:
                pass
            if self.readonly:
                raise VaultError(f"The catalogue of {self.path} is damaged. Open the vault again.")
            self.rebuild()
            return ask(self._catalogue)

    def _catch_up(self) -> None:
        """Read what other processes have written; from the first line if the journal is a new one."""
        if self.readonly:
            return
        if self._journal.stamp() == self._seen:
            return
        with self._hold_lock():
            if not self._journal.fits(self._catalogue.position()):
                self._catalogue.close()
                self._catalogue = self._open_catalogue()  # another process may have rebuilt it
                at = self._catalogue.position()
                if at.number and not self._journal.fits(at):
                    self._restore_lost_lines(at)
                    self._catalogue.close()
                    self._catalogue = self._rebuilt()
            self._apply()

    def _restore_lost_lines(self, at: Position) -> None:
        """Write a journal that has lost its end again, from the catalogue, and name what was missing."""
        if self._journal.identity() != at.identity:
            return  # another journal, which the catalogue does not know
        rebuilt = catalogue_of(self._journal)
        with contextlib.closing(rebuilt), contextlib.suppress(*DAMAGE):
            there = {(r.source, r.path, r.retrieved, r.checksum) for r in rebuilt.records("")}
            lost = [
                r
                for r in self._catalogue.records("ORDER BY id")
                if (r.source, r.path, r.retrieved, r.checksum) not in there
            ]
            if not lost:
                return
            repair(self._journal, self._catalogue)
            warn_user(
                f"The journal of the vault {self.path} had lost {quantity(len(lost), 'download')}, restored from "
                f"the catalogue: {name_list([r.name for r in lost], 5)}. Run 'ultrum vault verify'."
            )

    def _apply(self) -> None:
        """Read the lines of the journal that the catalogue lacks."""
        seen = self._journal.stamp()
        try:
            at = self._catalogue.position()
            if at.end < seen[1]:
                identity = at.identity or self._journal.identity()
                self._catalogue.apply(self._journal.entries(at), identity)
        except sqlite3.OperationalError as error:
            if shows_damage(error):
                raise
            self._catalogue.close()
            self._catalogue = catalogue_of(self._journal)  # there is no room for a file
        self._seen = seen

    @contextmanager
    def _hold_lock(self) -> Iterator[None]:
        try:
            with self._lock:
                yield
        except filelock.Timeout:
            raise VaultError(
                f"Another process has locked the vault {self.path} for {_PATIENCE:g} seconds; nothing was "
                "written. Try again when it has finished."
            ) from None

    @contextmanager
    def _changing(
        self, *, durable: bool = False, needed: bool = False
    ) -> Iterator[Callable[[Sequence[dict[str, object]]], None]]:
        """A writer of entries, while no other process changes the vault.

        A durable entry is on disk when it is written; others survive the death of the process, and are on disk
        when the vault is closed.
        """
        self._refuse_readonly()

        def _write(entries: Sequence[dict[str, object]]) -> None:
            if entries:
                at = self._catalogue.position()
                self._journal.append(entries, at, durable=durable, needed=needed)
                self._apply()

        with self._threads, self._failing(), self._hold_lock():
            self._read(lambda _: None)
            yield _write

    @contextmanager
    def _failing(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            raise VaultError(f"Nothing could be recorded in {self.path}: {reason(error)}.") from error
        except DAMAGE as error:
            raise VaultError(
                f"The catalogue of {self.path} is damaged: {error}. 'ultrum vault verify' rebuilds it."
            ) from error

    def _refuse_readonly(self) -> None:
        if self.readonly:
            raise VaultError(
                f"The vault {self.path} is read-only, so downloads cannot be stored. Run offline, or use "
                "another vault."
            )
