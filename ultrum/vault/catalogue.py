"""The catalogue: searchable tables of the journal, which can be rebuilt at any time; verification and repair."""

from __future__ import annotations

import contextlib
import os
import sqlite3
import zlib
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any, Final

from ultrum.errors import VaultError, reason, warn_user
from ultrum.vault.journal_and_payload_files import FACTS, VERSION, Entry, Journal, Position, Record, now

_STATEMENTS: Final = (
    "CREATE TABLE downloads (id INTEGER PRIMARY KEY, source TEXT NOT NULL, path TEXT NOT NULL, retrieved TEXT "
    "NOT NULL, checksum TEXT NOT NULL, size INTEGER NOT NULL, content_type TEXT NOT NULL, etag TEXT NOT NULL, "
    "last_modified TEXT NOT NULL, imported INTEGER NOT NULL, placed TEXT NOT NULL, digits INTEGER NOT NULL)",
    "CREATE INDEX by_address ON downloads (source, path, placed, id)",
    "CREATE INDEX by_checksum ON downloads (checksum)",
    "CREATE TABLE confirmations (download INTEGER NOT NULL, at TEXT NOT NULL)",
    "CREATE INDEX by_download ON confirmations (download, at)",
    "CREATE TABLE position (number INTEGER NOT NULL, end INTEGER NOT NULL, last INTEGER NOT NULL, "
    "digits TEXT NOT NULL, identity TEXT NOT NULL, mark INTEGER NOT NULL)",
)
_COLUMNS: Final = f"id, {', '.join(FACTS)}, imported, placed"
_INSERT: Final = f"INSERT INTO downloads ({_COLUMNS}, digits) VALUES ({', '.join('?' * 12)})"  # noqa: S608


class DamagedError(Exception):
    """The content of the catalogue has changed."""


DAMAGE: Final = (sqlite3.DatabaseError, DamagedError, UnicodeDecodeError)


class Catalogue:
    """Tables of one SQLite file, or in memory where no file can be written.

    Parameters
    ----------
    file : path, optional
        None for one in memory.

    Raises
    ------
    sqlite3.Error
        If the file is not a catalogue.
    """

    def __init__(self, file: Path | None = None) -> None:
        self.file = file
        place = file.absolute().as_uri() if file else "file::memory:"
        self._connection = sqlite3.connect(
            place, timeout=60.0, check_same_thread=False, isolation_level=None, uri=True
        )
        try:
            if file:
                self._connection.execute("PRAGMA journal_mode=WAL")
                self._connection.execute("PRAGMA synchronous=NORMAL")
                self._connection.execute("PRAGMA wal_autocheckpoint=200")  # pages: the log stays small
            self._prepare()
        except BaseException:
            self._connection.close()
            raise

    def _prepare(self) -> None:
        """Create the tables of a new file; refuse any other tables."""
        if int(self._one("PRAGMA user_version")) == 0 and not self._one("SELECT count(*) FROM sqlite_master"):
            self._connection.execute("BEGIN IMMEDIATE")
            for statement in _STATEMENTS:
                self._connection.execute(statement)
            self._connection.execute("INSERT INTO position VALUES (?, ?, ?, ?, ?, ?)", _mark(Position()))
            self._connection.execute(f"PRAGMA user_version = {VERSION}")
            self._connection.execute("COMMIT")
        tables = [r[0] for r in self.query("SELECT sql FROM sqlite_master WHERE sql IS NOT NULL")]
        if sorted(tables) != sorted(_STATEMENTS):
            raise DamagedError("its tables are not those of a catalogue")

    def close(self) -> None:
        """Let go of the file."""
        with contextlib.suppress(sqlite3.Error):  # another process may be doing the same
            self._connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        self._connection.close()

    def position(self) -> Position:
        """Position in the journal up to which it has read."""
        rows = self.query("SELECT * FROM position")
        if len(rows) != 1 or _mark(at := Position(*rows[0][:5])) != rows[0]:
            raise DamagedError("it lacks its position in the journal")
        return at

    def apply(self, entries: Iterable[Entry], identity: str) -> None:
        """Read new lines of the journal; damaged ones are skipped."""
        self._connection.execute("BEGIN IMMEDIATE")
        try:
            at = self.position()
            for entry in entries:
                number = self._apply(entry.event) if entry.event is not None else 0
                at = Position(max(number, at.number), entry.end, entry.offset, entry.digits, identity)
            self._connection.execute(
                "UPDATE position SET number = ?, end = ?, last = ?, digits = ?, identity = ?, mark = ?", _mark(at)
            )
        except BaseException:
            self._connection.execute("ROLLBACK")
            raise
        self._connection.execute("COMMIT")

    def _apply(self, event: dict[str, Any]) -> int:
        """Read one line; returns its number, 0 if it is not valid."""
        try:
            number = int(event["n"])
            match event["do"]:
                case "record":
                    record = record_of(number, event)
                    self._connection.execute(_INSERT, (*_row(record), _digits(record)))
                case "confirm":
                    row = (int(event["of"]), str(event["at"]))
                    self._connection.execute("INSERT INTO confirmations VALUES (?, ?)", row)
                case "forget":
                    gone = [(int(of),) for of in event["of"]]
                    self._connection.executemany("DELETE FROM downloads WHERE id = ?", gone)
                    self._connection.executemany("DELETE FROM confirmations WHERE download = ?", gone)
        except (KeyError, TypeError, ValueError):
            return 0
        return number

    def records(self, where: str, values: Sequence[object] = ()) -> list[Record]:
        """Downloads that match a condition.

        Raises
        ------
        DamagedError
            If the content of one has changed.
        """
        rows = self.query(f"SELECT {_COLUMNS}, digits FROM downloads {where}", values)  # noqa: S608
        record_list = [_record(row) for row in rows]
        for record, row in zip(record_list, rows, strict=True):
            if _digits(record) != row[11]:
                raise DamagedError(f"the entry of {record.source}:{record.path} has changed")
        return record_list

    def confirmations(self, number: int) -> list[str]:
        """Instants at which a source confirmed the same bytes."""
        rows = self.query("SELECT at FROM confirmations WHERE download = ? ORDER BY at", (number,))
        return [str(r[0]) for r in rows]

    def query(self, query: str, values: Sequence[object] = ()) -> list[Any]:
        """Rows of a query."""
        return self._connection.execute(query, values).fetchall()

    def _one(self, query: str) -> Any:
        return self._connection.execute(query).fetchone()[0]

    def is_same(self, other: Catalogue) -> bool:
        """Whether another catalogue gives the same answers, by its tables and by its indexes."""
        if self._one("PRAGMA integrity_check(1)") != "ok":
            return False
        for query in (
            f"SELECT {_COLUMNS}, digits FROM downloads ORDER BY id",  # noqa: S608
            f"SELECT {_COLUMNS} FROM downloads INDEXED BY by_address ORDER BY source, path, placed, id",  # noqa: S608
            "SELECT download, at FROM confirmations ORDER BY download, at",
            "SELECT * FROM position",
            "SELECT checksum, id FROM downloads INDEXED BY by_checksum ORDER BY checksum, id",
        ):
            if self.query(query) != other.query(query):
                return False
        return True


def catalogues_in(folder: Path) -> list[Path]:
    """Files of the catalogues in a folder, newest last."""
    return sorted(folder.glob("catalogue*.sqlite"), key=_number)


def newest_in(folder: Path) -> Catalogue:
    """The newest catalogue of a folder, or a new one."""
    files = catalogues_in(folder)
    return Catalogue(files[-1] if files else folder / "catalogue.sqlite")


def remove_catalogues(folder: Path) -> None:
    """Delete every catalogue of a folder; the journal can rebuild it."""
    for file in folder.glob("catalogue*.sqlite*"):
        file.unlink(missing_ok=True)


def another_in(folder: Path) -> Catalogue:
    """An empty catalogue in a new file; the others, which may still be open, are deleted.

    In memory if there is no space for a file.
    """
    old = sorted(folder.glob("catalogue*.sqlite*"), key=_number)  # with the files that SQLite keeps beside
    number = max([_number(file) for file in old], default=0) + 1
    try:
        catalogue = Catalogue(folder / f"catalogue.{number}.sqlite")
    except (OSError, *DAMAGE):
        return Catalogue()
    for file in old:
        file.unlink(missing_ok=True)
    return catalogue


def _number(file: Path) -> int:
    """Number of a catalogue's file: 1 for the first."""
    part = file.name.split(".")[1]
    return int(part) if part.isdigit() else 1


def catalogue_of(journal: Journal) -> Catalogue:
    """Catalogue in memory of a whole journal."""
    catalogue = Catalogue()
    if journal.file.exists():
        catalogue.apply(journal.entries(), journal.identity())
    return catalogue


def record_of(number: int, event: dict[str, Any]) -> Record:
    """The record of a line of the journal."""
    facts = [int(event[k]) if k == "size" else str(event[k]) for k in FACTS]
    placed = str(event.get("placed", event["retrieved"]))
    return _record((number, *facts, bool(event.get("imported")), placed))


def _record(row: Sequence[Any]) -> Record:
    named = dict(zip(("id", *FACTS), row[:9], strict=True))
    return Record(**named, imported=bool(row[9]), placed=row[10])


def _row(record: Record) -> tuple[object, ...]:
    return (record.id, *(getattr(record, k) for k in FACTS), record.imported, record.placed)


def _mark(at: Position) -> tuple[object, ...]:
    """Row of a position, with a checksum that detects changes."""
    row = (at.number, at.end, at.last, at.digits, at.identity)
    return (*row, zlib.crc32(repr(row).encode("utf-8", "surrogatepass")))


def _digits(record: Record) -> int:
    return zlib.crc32(repr(_row(record)).encode("utf-8", "surrogatepass"))


def shows_damage(error: sqlite3.OperationalError) -> bool:
    """Whether a table or column is missing, as opposed to a full disk or a locked file."""
    return any(
        word in str(error) for word in ("no such", "malformed", "corrupt", "syntax", "unsupported", "decode")
    )


# Verification of a vault, and repair of what can be repaired


def journal_faults(journal: Journal, reached: int) -> list[str]:
    """Errors of a journal that has been read up to ``reached`` bytes, one line each."""
    faults, line, end = [], 0, 0
    for entry in journal.entries():
        line, end = line + 1, entry.end
        if entry.event is None:
            faults.append(f"Line {line} of {journal.file} is damaged.")
    if end < reached:
        faults.append(f"{journal.file} has lost everything after line {line}.")
    return faults


def is_sound(catalogue: Catalogue, journal: Journal) -> bool:
    """Whether a catalogue agrees with an intact journal."""
    rebuilt = catalogue_of(journal)
    with contextlib.closing(rebuilt), contextlib.suppress(*DAMAGE):
        return catalogue.is_same(rebuilt)
    return False


def repair(journal: Journal, catalogue: Catalogue) -> str:
    """Set a damaged journal aside and write a new one from what is readable."""
    rebuilt = catalogue_of(journal)
    with contextlib.closing(rebuilt):
        kept = entries_of(rebuilt)
        remark = f"It keeps the {len(rebuilt.records(''))} downloads that can still be read."
        with contextlib.suppress(*DAMAGE):
            kept = entries_of(catalogue)
            remark = "It has been repaired from the catalogue; nothing is lost."
    aside = journal.file.with_name(f"journal.damaged-{now().replace(':', '')}.jsonl")
    os.link(journal.file, aside)
    journal.begin(kept)
    return f"{remark} The damaged file is {aside.name}."


def entries_of(catalogue: Catalogue) -> list[dict[str, object]]:
    """Journal entries with the content of a catalogue."""
    entries: list[dict[str, object]] = []
    for record in catalogue.records("ORDER BY id"):
        entries.append(entry_of(record))
        number = len(entries) + 1  # the first line is the journal's own
        entries += [{"do": "confirm", "of": number, "at": at} for at in catalogue.confirmations(record.id)]
    return entries


def entry_of(record: Record) -> dict[str, object]:
    """Line of the journal for a download."""
    facts = {k: getattr(record, k) for k in FACTS}
    placed = {"placed": record.placed} if record.placed not in ("", record.retrieved) else {}
    return {"do": "record", **facts, **placed, **({"imported": True} if record.imported else {})}


def last_catalogue(folder: Path) -> Path | None:
    """File of the newest catalogue with content; None where there is none."""
    return next((file for file in reversed(catalogues_in(folder)) if file.stat().st_size), None)


def entries_without_journal(folder: Path) -> list[dict[str, object]]:
    """Journal entries of a vault without a journal, from its newest catalogue.

    Raises
    ------
    VaultError
        If another version of Ultrum wrote the catalogue, or it is damaged.
    """
    file = last_catalogue(folder)
    if file is None:
        return []
    try:
        with contextlib.closing(sqlite3.connect(file.absolute().as_uri(), timeout=60.0, uri=True)) as connection:
            version = int(connection.execute("PRAGMA user_version").fetchone()[0])
        if version != VERSION:
            raise VaultError(
                f"The vault {folder} has layout version {version}; this Ultrum reads version {VERSION}. "
                "Use the version of Ultrum that wrote the vault, or another folder."
            )
        with contextlib.closing(Catalogue(file)) as catalogue:
            entries = entries_of(catalogue)
    except DAMAGE as error:
        raise VaultError(
            f"The vault {folder} has no journal, and its catalogue is damaged ({reason(error)}). Restore the "
            "vault from a copy, or use another folder."
        ) from error
    warn_user(f"The vault {folder} had no journal. It has been rebuilt from the catalogue.")
    return entries
