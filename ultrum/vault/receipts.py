"""What the catalogue knows, once more beside the payloads: a line for each delivery, in files that only grow.

If the catalogue is damaged it is made anew from them. A line is written before the catalogue's transaction
ends, so nothing that was recorded lacks one.
"""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Final

FACTS: Final = (
    "source", "path", "retrieved", "checksum", "size", "content_type", "etag", "last_modified",
)  # fmt: skip
_KEY: Final = ("source", "path", "retrieved")


@dataclass(frozen=True)
class Receipts:
    """Receipts below a folder, one file for each payload."""

    folder: Path

    def add(self, facts: dict[str, Any]) -> None:
        """A delivery was recorded."""
        self._append(facts["checksum"], facts)

    def confirm(self, checksum: str, source: str, path: str, retrieved: str, at: str) -> None:
        """A source still serves a delivery."""
        line = {"source": source, "path": path, "retrieved": retrieved, "confirmed": at}
        self._append(checksum, line)

    def drop(self, checksum: str, gone: set[tuple[str, str, str]]) -> None:
        """Take out the lines of deliveries that are forgotten."""
        place = self._place(checksum)
        kept = [line for line in _lines(place) if tuple(line[k] for k in _KEY) not in gone]
        if not kept:
            place.unlink(missing_ok=True)
            return
        handle, name = tempfile.mkstemp(dir=place.parent)
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            file.writelines(_text(line) for line in kept)
        os.replace(name, place)

    def all(self) -> Iterable[tuple[dict[str, Any], list[str]]]:
        """Facts of every delivery, oldest first, and when each was confirmed; each once."""
        found: dict[tuple[str, ...], tuple[dict[str, Any], list[str]]] = {}
        confirmed = []
        for place in sorted(self.folder.glob("*/*.jsonl")):
            for line in _lines(place):
                key = tuple(str(line[k]) for k in _KEY)
                if "confirmed" in line:
                    confirmed.append(((*key, place.stem), line["confirmed"]))
                elif set(FACTS) <= set(line):
                    found.setdefault((*key, place.stem), (line, []))
        for key, at in confirmed:
            if key in found:
                found[key][1].append(at)
        return [found[k] for k in sorted(found, key=lambda k: (k[2], k))]

    def __bool__(self) -> bool:
        return any(self.folder.glob("*/*.jsonl"))

    def _place(self, checksum: str) -> Path:
        return self.folder / checksum[:2] / f"{checksum}.jsonl"

    def _append(self, checksum: str, line: dict[str, Any]) -> None:
        place = self._place(checksum)
        place.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(place, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o644)
        try:  # one write, so that lines of two processes do not mix
            os.write(handle, _text(line).encode())
        finally:
            os.close(handle)


def _text(line: dict[str, Any]) -> str:
    return json.dumps(line, ensure_ascii=False) + "\n"


def _lines(place: Path) -> Iterator[dict[str, Any]]:
    """Lines of a file; one cut short by a process that died is passed over."""
    if not place.exists():
        return
    for text in place.read_text(encoding="utf-8", errors="replace").splitlines():
        try:
            line = json.loads(text)
        except ValueError:
            continue
        if isinstance(line, dict) and all(k in line for k in _KEY):
            yield line
