"""Migrations of earlier vaults: version 1 had a catalogue alone, version 2 also receipts next to the payloads."""

from __future__ import annotations

import contextlib
import json
import shutil
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ultrum.core.displayed_numbers import counted
from ultrum.errors import VaultError, reason, warn_user
from ultrum.vault.catalogue import DAMAGE, Catalogue
from ultrum.vault.journal import NAME, VERSION
from ultrum.vault.record import FACTS
from ultrum.vault.verification import entries_of

_KEY = ("source", "path", "retrieved")


def version_of(folder: Path) -> int:
    """Version of a vault without a journal; 0 if there is no vault."""
    file = folder / "catalogue.sqlite"
    if file.exists() and file.stat().st_size:
        with contextlib.suppress(sqlite3.Error), contextlib.closing(_opened(file)) as catalogue:
            return int(catalogue.execute("PRAGMA user_version").fetchone()[0])
    return 2 if (folder / "receipts").is_dir() else 0


def entries_of_earlier(folder: Path) -> list[dict[str, Any]]:
    """Journal entries with the content of a vault of an earlier version.

    Raises
    ------
    VaultError
        If a newer Ultrum made it, or nothing of it can be read.
    """
    version = version_of(folder)
    if not version:
        return []
    if version > VERSION:
        raise VaultError(
            f"The vault {folder} was made by a newer Ultrum (version {version} of its layout, this one "
            f"knows {VERSION}). Update Ultrum."
        )
    if version == VERSION:
        return _of_catalogue(folder)
    try:
        rows = list(_rows(folder / "catalogue.sqlite"))
    except sqlite3.Error as error:
        rows = list(_receipts(folder / "receipts"))
        if version == 1 or not rows:
            raise VaultError(
                f"The catalogue of the vault {folder} is damaged ({reason(error)}), and nothing else records "
                "what it holds. Take its copy, or another vault."
            ) from error
        warn_user(
            f"The catalogue of the vault {folder} was damaged; the vault has been rebuilt from its "
            f"receipts: {counted(len(rows), 'download')}."
        )
    return _entries(rows)


def refuse_earlier(folder: Path) -> None:
    """Refuse a vault without a journal where none can be written."""
    if not (folder / NAME).exists() and version_of(folder):
        raise VaultError(
            f"The vault {folder} may only be read, and an earlier Ultrum made it. Open it once where it may "
            "be written, for example with 'ultrum vault verify'."
        )


def remove_earlier(folder: Path) -> None:
    """Delete what the journal now holds."""
    for end in ("", "-wal", "-shm"):
        (folder / f"catalogue.sqlite{end}").unlink(missing_ok=True)
    shutil.rmtree(folder / "receipts", ignore_errors=True)


def _of_catalogue(folder: Path) -> list[dict[str, Any]]:
    """The journal is gone, what the catalogue knows of it is not."""
    try:
        with contextlib.closing(Catalogue(folder / "catalogue.sqlite")) as catalogue:
            entries = entries_of(catalogue)
    except DAMAGE as error:
        raise VaultError(
            f"The vault {folder} has no journal, and its catalogue is damaged ({reason(error)}). Take its "
            "copy, or another vault."
        ) from error
    warn_user(f"The vault {folder} had no journal; it has been rebuilt from the catalogue.")
    return entries


def _entries(rows: list[tuple[dict[str, Any], list[str]]]) -> list[dict[str, Any]]:
    entries: list[dict[str, Any]] = []
    for facts, confirmed in rows:
        entries.append({"do": "record", **{k: facts[k] for k in FACTS}})
        number = len(entries) + 1
        entries += [{"do": "confirm", "of": number, "at": at} for at in confirmed]
    return entries


def _rows(file: Path) -> Iterator[tuple[dict[str, Any], list[str]]]:
    """Facts and confirmations of every download of a catalogue."""
    with contextlib.closing(_opened(file)) as catalogue:
        for number, *facts in catalogue.execute(
            f"SELECT id, {', '.join(FACTS)} FROM deliveries ORDER BY retrieved, id"  # noqa: S608
        ).fetchall():
            times = catalogue.execute("SELECT at FROM confirmations WHERE delivery = ? ORDER BY at", (number,))
            yield dict(zip(FACTS, facts, strict=True)), [str(row[0]) for row in times]


def _receipts(folder: Path) -> Iterator[tuple[dict[str, Any], list[str]]]:
    """The same from receipts, a file of lines for each payload."""
    receipts: dict[tuple[str, ...], tuple[dict[str, Any], list[str]]] = {}
    confirmed = []
    for place in sorted(folder.glob("*/*.jsonl")):
        for line in _lines(place):
            key = (*(str(line[k]) for k in _KEY), place.stem)
            if "confirmed" in line:
                confirmed.append((key, str(line["confirmed"])))
            elif set(FACTS) <= set(line):
                receipts.setdefault(key, (line, []))
    for key, at in confirmed:
        if key in receipts:
            receipts[key][1].append(at)
    yield from (receipts[k] for k in sorted(receipts, key=lambda k: (k[2], k)))


def _lines(place: Path) -> Iterator[dict[str, Any]]:
    """Lines of a file; one cut short by a process that died is passed over."""
    for text in place.read_text(encoding="utf-8", errors="replace").splitlines():
        with contextlib.suppress(ValueError, RecursionError):
            line = json.loads(text)
            if isinstance(line, dict) and all(k in line for k in _KEY):
                yield line


def _opened(file: Path) -> sqlite3.Connection:
    return sqlite3.connect(file.absolute().as_uri(), timeout=60.0, uri=True)
