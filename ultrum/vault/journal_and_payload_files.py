"""The journal of the vault, and the files of its payloads.

It alone defines the content of the vault; the catalogue is built from it. Each line begins with 16 hexadecimal
digits of the SHA-256 of the digits of the previous line and its own text, so a changed, moved or removed line is
detected.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
import tempfile
import uuid
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Final

from ultrum.errors import VaultError, reason
from ultrum.file_access import is_of_dead, process_mark, write_whole
from ultrum.sources.download_and_limits import Download

ARRIVING: Final = ".arriving-"
UNEXPLAINED: Final = "unexplained"  # folder of payloads that no journal names
_CHECKSUM: Final = re.compile(r"[0-9a-f]{64}")
_DAY: Final = 86_400


@dataclass(frozen=True)
class Payloads:
    """Files below a folder."""

    folder: Path

    def place_of(self, checksum: str) -> Path:
        """File of a payload."""
        return self.folder / checksum[:2] / checksum

    @contextmanager
    def arriving(self, checksum: str, body: bytes) -> Iterator[Callable[[], None]]:
        """Write a payload under a temporary name; the yielded function moves it to its place.

        The function must be called by a process that holds the vault's lock, so that no process removes the
        payload before it is recorded. A damaged payload is replaced.

        Raises
        ------
        VaultError
            If it cannot be written.
        """
        place = self.place_of(checksum)
        with self._failing():
            left = None if _is_whole(place, checksum, len(body)) else self._written(body)

        def _settle() -> None:
            nonlocal left
            with self._failing():
                if left is None and not place.exists():  # forgotten in the meantime
                    left = self._written(body)
                if left is not None:
                    place.parent.mkdir(exist_ok=True)
                    os.replace(left, place)
                    left = None

        try:
            yield _settle
        finally:
            if left is not None:
                left.unlink(missing_ok=True)

    def _written(self, body: bytes) -> Path:
        """A new file, named by the process that writes it, on disk."""
        handle, name = tempfile.mkstemp(dir=self.folder, prefix=f"{ARRIVING}{process_mark()}")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(body)
                file.flush()
                os.fsync(file.fileno())
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
        return Path(name)

    @contextmanager
    def _failing(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            raise VaultError(
                f"A download could not be stored in {self.folder.parent}: {reason(error)}. Nothing was recorded."
            ) from error

    def read(self, checksum: str, name: str) -> bytes:
        """Bytes of a payload, verified; ``name`` is the displayed name of the download.

        Raises
        ------
        VaultError
            If they are missing or damaged.
        """
        try:
            body = self.place_of(checksum).read_bytes()
        except OSError as error:
            raise VaultError(f"{name}: its payload cannot be read: {error.strerror}. Fetch it again.") from error
        if hashlib.sha256(body).hexdigest() != checksum:
            raise VaultError(f"{name}: its payload is damaged. Fetch it again to replace it.")
        return body

    def remove(self, checksum: str) -> int:
        """Delete a payload; returns the bytes freed."""
        place = self.place_of(checksum)
        size = place.stat().st_size if place.exists() else 0
        place.unlink(missing_ok=True)
        return size

    def sweep(self) -> None:
        """Delete partial files of a dead process of this machine, or older than a day on another."""
        day = datetime.now(UTC).timestamp() - _DAY
        for left in (*self.folder.glob(f"{ARRIVING}*"), *self.folder.glob(f"*/{ARRIVING}*")):
            with contextlib.suppress(OSError):  # it has arrived in the meantime
                if is_of_dead(left.name, ARRIVING) or left.stat().st_mtime < day:
                    left.unlink(missing_ok=True)

    def set_others_aside(self, kept: Collection[str]) -> tuple[int, int]:
        """Move all other payloads to the folder ``unexplained``; returns their number and bytes."""
        others = [p for p in self._files() if p.name not in kept]
        size = sum(p.stat().st_size for p in others)
        aside = self.folder.with_name(UNEXPLAINED)
        if others:
            aside.mkdir(exist_ok=True)
        for place in others:
            place.replace(aside / place.name)
        return len(others), size

    def sizes(self) -> list[int]:
        """Bytes of every payload."""
        return [p.stat().st_size for p in self._files()]

    def _files(self) -> list[Path]:
        found = (p for p in self.folder.glob("*/*") if _CHECKSUM.fullmatch(p.name))
        return [p for p in found if p.is_file() and not p.is_symlink()]


def _is_whole(place: Path, checksum: str, size: int) -> bool:
    if not place.exists() or place.stat().st_size != size:
        return False
    return hashlib.sha256(place.read_bytes()).hexdigest() == checksum


# The journal

NAME: Final = "journal.jsonl"
VERSION: Final = 3
_DIGITS: Final = 16
_RESERVE: Final = 65_536  # bytes set free when the disk is full, so that forgetting can be recorded


@dataclass(frozen=True)
class Entry:
    """One line: its position, its digits, and its event, which is None if the line is damaged."""

    offset: int
    end: int
    digits: str
    event: dict[str, object] | None


@dataclass(frozen=True)
class Position:
    """How far a journal has been read: number, end, start and digits of the last line, and its identity."""

    number: int = 0
    end: int = 0
    last: int = 0
    digits: str = ""
    identity: str = ""


@dataclass(frozen=True)
class Journal:
    """The journal of a vault's folder.

    Only a process that holds the vault's lock may call :meth:`begin` and :meth:`append`.
    """

    folder: Path

    @property
    def file(self) -> Path:
        """Its file."""
        return self.folder / NAME

    @property
    def _reserve(self) -> Path:
        return self.folder / ".reserve"

    def stamp(self) -> tuple[int, int]:
        """Inode number and size of the file, to detect changes; zeros if there is none."""
        try:
            status = self.file.stat()
        except FileNotFoundError:
            return 0, 0
        return status.st_ino, status.st_size

    def begin(self, entries: Sequence[dict[str, object]] = ()) -> None:
        """Write a new journal atomically, with its first entries."""
        events = [{"do": "vault", "version": VERSION, "identity": uuid.uuid4().hex}, *entries]
        with write_whole(self.file) as arriving, arriving.open("wb") as file:
            file.write(_chain(events, Position()))
            file.flush()
            os.fsync(file.fileno())
        self.keep_reserve()

    def append(
        self, entries: Sequence[dict[str, object]], at: Position, *, durable: bool, needed: bool = False
    ) -> None:
        """Write entries after a position that is the end of the journal.

        ``needed`` entries can use the space reserved for a full disk.
        """
        body = _chain(entries, at)
        try:
            self._write(body, at.end, durable)
        except OSError:
            if not needed or not self._reserve.exists():
                raise
            self._reserve.unlink()
            self._write(body, at.end, durable)

    def _write(self, body: bytes, end: int, durable: bool) -> None:
        """Append; the remains of a failed attempt are removed."""
        with self.file.open("r+b", buffering=0) as file:
            file.truncate(end)  # a line cut short by a process that died
            file.seek(end)
            try:
                done = file.write(body)
                if done != len(body):
                    file.write(body[done:])  # explains why the disk takes no more
                if durable:
                    os.fsync(file.fileno())
            except OSError:
                file.truncate(end)
                raise

    def settle(self) -> None:
        """Flush everything to disk."""
        with self.file.open("rb") as file:
            os.fsync(file.fileno())

    def keep_reserve(self) -> None:
        """Reserve space, if the disk has it."""
        if self._reserve.exists():
            return
        handle = -1
        try:  # never through a link that somebody else has put there
            handle = os.open(
                self._reserve, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0), 0o600
            )
            os.write(handle, b"\0" * _RESERVE)
        except FileExistsError:
            return
        except OSError:
            self._reserve.unlink(missing_ok=True)
        finally:
            if handle >= 0:
                os.close(handle)

    def fits(self, at: Position) -> bool:
        """Whether the journal still has the line at the end of a position, even a damaged one."""
        if not at.end or at.end > self.stamp()[1]:
            return False
        with self.file.open("rb") as file:
            if self._identity(file.readline()) != at.identity:
                return False
            file.seek(at.last)
            line = file.read(at.end - at.last)
        event = _parse(line)  # a damaged line is still the one that was read
        return line.startswith(at.digits.encode()) or not event or event.get("n") == at.number

    @staticmethod
    def _identity(line: bytes) -> str:
        event = _parse(line)
        return str(event.get("identity", "")) if event else ""

    def entries(self, at: Position = Position()) -> Iterator[Entry]:
        """Checked lines after a position; a truncated last line is skipped."""
        if not self.file.exists():
            return
        before: tuple[str, ...] = (at.digits,)
        offset = at.end
        with self.file.open("rb") as file:
            file.seek(offset)
            for line in file:
                if not line.endswith(b"\n"):
                    return
                digits, event = line[:_DIGITS].decode("ascii", "replace"), None
                digits_there = [_digits(b, line[_DIGITS + 1 : -1]) for b in before]
                if digits in digits_there and line[_DIGITS : _DIGITS + 1] == b" ":
                    event = _parse(line)
                    before = (digits,)
                else:  # a damaged text or damaged digits; the next line may follow either
                    before = (digits, *digits_there)
                yield Entry(offset, offset + len(line), digits, event)
                offset += len(line)

    def identity(self) -> str:
        """The identity of this journal; refuses one of a newer version."""
        with self.file.open("rb") as file:
            event = _parse(file.readline()) or {}
        version = event.get("version", VERSION)
        if not isinstance(version, int) or version > VERSION:
            raise VaultError(
                f"The vault {self.folder} was written by a newer Ultrum (layout version {version}; this Ultrum "
                f"reads {VERSION}). Update Ultrum."
            )
        return str(event.get("identity", ""))


def _chain(entries: Sequence[dict[str, object]], at: Position) -> bytes:
    lines, before = [], at.digits
    for number, entry in enumerate(entries, start=at.number + 1):
        event = {"n": number, **entry}
        text = json.dumps(event, ensure_ascii=False, separators=(",", ":")).encode()
        before = _digits(before, text)
        lines.append(before.encode() + b" " + text + b"\n")
    return b"".join(lines)


def _digits(before: str, text: bytes) -> str:
    return hashlib.sha256(before.encode("utf-8", "replace") + text).hexdigest()[:_DIGITS]


def _parse(line: bytes) -> dict[str, object] | None:
    try:
        event = json.loads(line[_DIGITS:])
    except (ValueError, RecursionError):
        return None
    return event if isinstance(event, dict) else None


# The record of one download

FACTS: Final = ("source", "path", "retrieved", "checksum", "size", "content_type", "etag", "last_modified")
_FORM: Final = "%Y-%m-%dT%H:%M:%S.%fZ"
_FIRST: Final = "2025"  # years between which a clock may be right
_LAST: Final = "2200"
_HURRY: Final = timedelta(days=1)  # that a clock may be ahead of another


@dataclass(frozen=True)
class Record:
    """One download.

    Attributes
    ----------
    id : int
        Its number in this vault's journal.
    retrieved : str
        ISO 8601 instant in UTC.
    imported : bool
        Whether it was imported from an archive and not confirmed by its source since.
    placed : str
        Instant that orders the downloads of an address; ``retrieved``, unless a clock was wrong.
    """

    id: int
    source: str
    path: str
    retrieved: str
    checksum: str
    size: int
    content_type: str
    etag: str
    last_modified: str
    imported: bool = False
    placed: str = ""

    @property
    def facts(self) -> dict[str, object]:
        """Facts that another vault stores too."""
        return {k: getattr(self, k) for k in FACTS}

    @property
    def name(self) -> str:
        """Source, path and instant, in words."""
        return f"{self.source}:{self.path}, retrieved {self.retrieved}"


def now() -> str:
    """The current instant, by the machine's clock."""
    return datetime.now(UTC).strftime(_FORM)


def new_record(source: str, path: str, checksum: str, download: Download, latest: Record | None) -> Record:
    """Record of a new download, after the latest of its address."""
    retrieved, placed = stamps(latest)
    return Record(
        0,
        source,
        path,
        retrieved,
        checksum,
        len(download.body),
        download.content_type,
        download.etag,
        download.last_modified,
        placed=placed,
    )


def confirmation(record: Record) -> dict[str, object]:
    """Line of the journal for a source that confirms the same bytes."""
    return {"do": "confirm", "of": record.id, "at": now()}


def stamps(latest: Record | None) -> tuple[str, str]:
    """Instant of a new download, and the instant that orders it after the latest of its address.

    If the clock went back by less than a day, or to before Ultrum existed, the new instant follows the latest.
    Otherwise the latest had the wrong instant.

    Raises
    ------
    VaultError
        If the clock is wrong.
    """
    instant = now()
    if instant[:4] >= _LAST:
        raise VaultError(f"The clock of this machine shows {instant[:10]}. Set it, and try again.")
    if latest is None or (latest.placed or latest.retrieved) < instant:
        return instant, instant
    after = _moment(latest.placed or latest.retrieved) + timedelta(microseconds=1)
    following = after.strftime(_FORM)
    wrong = _moment(latest.retrieved) - _moment(instant) > _HURRY and instant[:4] >= _FIRST
    return (instant if wrong else following), following


def check_instant(text: str, what: str) -> str:
    """An instant of another vault, if it is valid and in the past.

    Raises
    ------
    VaultError
        If it is not.
    """
    try:
        moment = _moment(text)
        if moment.strftime(_FORM) != text:
            raise ValueError
    except ValueError:
        raise VaultError(f"{what}: '{text[:40]}' is not an instant; nothing was imported.") from None
    if moment - _moment(now()) > _HURRY:
        raise VaultError(f"{what}: {text[:40]} is in the future; nothing was imported.")
    return text


def _moment(text: str) -> datetime:
    return datetime.strptime(text, _FORM)
