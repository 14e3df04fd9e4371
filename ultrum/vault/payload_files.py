"""Payload files: the stored bytes of downloads, named by checksum."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import tempfile
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Final

from ultrum.errors import VaultError, reason
from ultrum.file_access import is_of_dead, process_mark

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
