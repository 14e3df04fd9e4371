"""Bytes of deliveries in files named by their checksum; each is there whole or not at all."""

from __future__ import annotations

import hashlib
import os
import tempfile
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Final

from ultrum.errors import VaultError

ARRIVING: Final = ".arriving-"
_DAY: Final = 86_400


@dataclass(frozen=True)
class Payloads:
    """Files below a folder."""

    folder: Path

    def place_of(self, checksum: str) -> Path:
        """File of a payload."""
        return self.folder / checksum[:2] / checksum

    def keep(self, checksum: str, body: bytes) -> None:
        """Write a payload under another name, flush it to disk and rename it; a damaged one is replaced.

        Raises
        ------
        VaultError
            If it cannot be written.
        """
        place = self.place_of(checksum)
        if _is_whole(place, checksum, len(body)):
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
                f"A delivery could not be kept in {self.folder.parent}: {error.strerror}. "
                "Nothing was recorded."
            ) from None

    def read(self, checksum: str, name: str) -> bytes:
        """Bytes of a payload, checked; ``name`` is the delivery's, for people.

        Raises
        ------
        VaultError
            If they are missing or damaged.
        """
        try:
            body = self.place_of(checksum).read_bytes()
        except OSError as error:
            raise VaultError(
                f"{name}: its payload cannot be read: {error.strerror}. Fetch it again."
            ) from None
        if hashlib.sha256(body).hexdigest() != checksum:
            raise VaultError(
                f"{name}: its payload is damaged. Fetch it again; it is then replaced."
            )
        return body

    def remove(self, checksum: str) -> int:
        """Delete a payload; bytes freed."""
        place = self.place_of(checksum)
        size = place.stat().st_size if place.exists() else 0
        place.unlink(missing_ok=True)
        return size

    def sweep(self) -> None:
        """Delete files that were arriving when a process died, a day ago or more."""
        day = datetime.now(UTC).timestamp() - _DAY
        for left in self.folder.glob(f"*/{ARRIVING}*"):
            if left.stat().st_mtime < day:
                left.unlink(missing_ok=True)

    def sizes(self) -> list[int]:
        """Bytes of every payload."""
        return [p.stat().st_size for p in self.folder.glob("*/*") if not p.name.startswith(".")]


def _is_whole(place: Path, checksum: str, size: int) -> bool:
    if not place.exists() or place.stat().st_size != size:
        return False
    return hashlib.sha256(place.read_bytes()).hexdigest() == checksum
