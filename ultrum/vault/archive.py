"""A vault, or a part of it, as one zip archive that another machine can take over."""

from __future__ import annotations

import json
import os
import re
import zipfile
from pathlib import Path
from typing import Any, Final

from ultrum.errors import VaultError, reason
from ultrum.vault.receipts import FACTS
from ultrum.vault.record import Record
from ultrum.vault.store import Vault

_LISTED: Final = "deliveries.json"
_NAME: Final = re.compile(r"payloads/[0-9a-f]{64}")
_FACTS: Final = tuple(fact for fact in FACTS if fact != "size")  # which the payload itself tells
LARGEST: Final = 8 * 1024**3


def pack(vault: Vault, file: str | os.PathLike[str], records: list[Record] | None = None) -> int:
    """Write deliveries and their payloads into an archive; how many.

    Raises
    ------
    VaultError
        If a payload is damaged, or the file is there already.
    """
    target = Path(file)
    if target.exists():
        raise VaultError(f"{target} is there already; choose another name.")
    chosen = vault.records() if records is None else records
    arriving = target.with_name(f".{target.name}.arriving")
    try:
        with zipfile.ZipFile(arriving, "w", zipfile.ZIP_DEFLATED) as archive:
            for record in {r.checksum: r for r in chosen}.values():
                archive.writestr(f"payloads/{record.checksum}", vault.payload(record))
            rows = [
                {**{k: getattr(r, k) for k in _FACTS}, "confirmed": vault.confirmations(r)}
                for r in chosen
            ]
            archive.writestr(_LISTED, json.dumps(rows, indent=1))
        os.replace(arriving, target)
    except OSError as error:
        raise VaultError(f"{target} cannot be written: {error.strerror}.") from None
    finally:
        arriving.unlink(missing_ok=True)
    return len(chosen)


def unpack(vault: Vault, file: str | os.PathLike[str]) -> tuple[int, int]:
    """Take over the deliveries of an archive: how many were new, and how many were here already.

    Only names that are checksums are read, so nothing can be written outside the vault.

    Raises
    ------
    VaultError
        If the archive is damaged, or a payload does not fit its checksum.
    """
    try:
        with zipfile.ZipFile(file) as archive:
            if sum(i.file_size for i in archive.infolist()) > LARGEST:
                raise VaultError(f"{file} unpacks to more than {LARGEST:,} bytes; it is refused.")
            strange = [n for n in archive.namelist() if n != _LISTED and not _NAME.fullmatch(n)]
            if strange:
                raise VaultError(f"{file} holds '{strange[0][:80]}', which no packed vault does.")
            rows = json.loads(archive.read(_LISTED))
            return _taken(vault, archive, rows)
    except (OSError, zipfile.BadZipFile, KeyError, ValueError, TypeError) as error:
        raise VaultError(f"{file} is no packed vault, or a damaged one: {reason(error)}.") from None


def _taken(vault: Vault, archive: zipfile.ZipFile, rows: list[dict[str, Any]]) -> tuple[int, int]:
    new = 0
    for row in rows:
        facts = {k: str(row[k]) for k in _FACTS}
        body = archive.read(f"payloads/{facts['checksum']}")
        record = Record(id=0, size=len(body), **facts)
        new += vault.adopt(record, body, [str(at) for at in row.get("confirmed", [])])
    return new, len(rows) - new
