"""Verification of a vault, and repair of what can be repaired."""

from __future__ import annotations

import contextlib
import os
import sqlite3
from pathlib import Path
from typing import Any

from ultrum.errors import VaultError, reason, warn_user
from ultrum.vault.catalogue import DAMAGE, Catalogue, catalogues_in, made_from
from ultrum.vault.journal import VERSION, Journal
from ultrum.vault.record import FACTS, Record, now


def damaged_lines(journal: Journal, reached: int) -> list[str]:
    """What is wrong with a journal that has been read as far as ``reached`` bytes, one line each."""
    faults, line, end = [], 0, 0
    for entry in journal.entries():
        line, end = line + 1, entry.end
        if entry.event is None:
            faults.append(f"Line {line} of {journal.file} is damaged.")
    if end < reached:
        faults.append(f"{journal.file} has lost what stood after line {line}.")
    return faults


def is_sound(catalogue: Catalogue, journal: Journal) -> bool:
    """Whether a catalogue agrees with a sound journal."""
    rebuilt = made_from(journal)
    with contextlib.closing(rebuilt), contextlib.suppress(*DAMAGE):
        return catalogue.is_same(rebuilt)
    return False


def repair(journal: Journal, catalogue: Catalogue) -> str:
    """Set a damaged journal aside and write another; what it could be made of."""
    rebuilt = made_from(journal)
    with contextlib.closing(rebuilt):
        kept = entries_of(rebuilt)
        remark = f"It keeps the {len(rebuilt.records(''))} downloads that can still be read."
        with contextlib.suppress(*DAMAGE):
            kept = entries_of(catalogue)
            remark = "It has been repaired from the catalogue; nothing is lost."
    aside = journal.file.with_name(f"journal.damaged-{now().replace(':', '')}.jsonl")
    os.link(journal.file, aside)
    journal.begin(kept)
    return f"{remark} The damaged one is {aside.name}."


def entries_of(catalogue: Catalogue) -> list[dict[str, Any]]:
    """Journal entries with the content of a catalogue."""
    entries: list[dict[str, Any]] = []
    for record in catalogue.records("ORDER BY id"):
        entries.append(entry_of(record))
        number = len(entries) + 1  # the first line is the journal's own
        entries += [{"do": "confirm", "of": number, "at": at} for at in catalogue.confirmations(record.id)]
    return entries


def entry_of(record: Record) -> dict[str, Any]:
    """Line of the journal for a download."""
    facts = {k: getattr(record, k) for k in FACTS}
    placed = {"placed": record.placed} if record.placed not in ("", record.retrieved) else {}
    return {"do": "record", **facts, **placed, **({"imported": True} if record.imported else {})}


def layout_version(folder: Path) -> int:
    """Version of the layout of a vault without a journal; 0 where there is no vault."""
    for file in reversed(catalogues_in(folder)):
        if file.stat().st_size:
            place = file.absolute().as_uri()
            with contextlib.closing(sqlite3.connect(place, timeout=60.0, uri=True)) as catalogue:
                return int(catalogue.execute("PRAGMA user_version").fetchone()[0])
    return 0


def entries_without_journal(folder: Path) -> list[dict[str, Any]]:
    """Journal entries of a vault whose journal is lost, from its newest catalogue.

    Raises
    ------
    VaultError
        If another version of Ultrum wrote the catalogue, or it is damaged.
    """
    try:
        version = layout_version(folder)
        if not version:
            return []
        if version != VERSION:
            raise VaultError(
                f"The vault {folder} has layout version {version}; this Ultrum reads version {VERSION}. "
                "Use the version of Ultrum that wrote the vault, or another folder."
            )
        with contextlib.closing(Catalogue(catalogues_in(folder)[-1])) as catalogue:
            entries = entries_of(catalogue)
    except DAMAGE as error:
        raise VaultError(
            f"The vault {folder} has no journal, and its catalogue is damaged ({reason(error)}). Restore the "
            "vault from a copy, or use another folder."
        ) from error
    warn_user(f"The vault {folder} had no journal. It has been rebuilt from the catalogue.")
    return entries
