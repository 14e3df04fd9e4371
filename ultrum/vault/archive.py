"""Archives of a vault, or a part of it, as one zip file that another machine can import."""

from __future__ import annotations

import hashlib
import json
import os
import re
import zipfile
import zlib
from typing import Final

from ultrum.errors import VaultError, reason
from ultrum.file_access import json_of, open_zip, path_of, write_whole
from ultrum.vault.journal_and_payload_files import FACTS, Record, check_instant
from ultrum.vault.store import Vault

_LISTED: Final = "deliveries.json"
_NAME: Final = re.compile(r"payloads/[0-9a-f]{64}")
_FACTS: Final = tuple(fact for fact in FACTS if fact != "size")  # known from the payload itself
_LONGEST: Final = 10_000  # characters of a fact
_STRANGE: Final = (KeyError, ValueError, TypeError, AttributeError, RecursionError, NotImplementedError)
LARGEST: Final = 8 * 1024**3


def pack(vault: Vault, file: str | os.PathLike[str], records: list[Record] | None = None) -> int:
    """Write downloads and their payloads to an archive; returns their number.

    Raises
    ------
    VaultError
        If a payload is damaged, or the file exists.
    """
    target = path_of(file)
    if target.exists():
        raise VaultError(f"{target} exists already; choose another name.")
    try:
        with (
            write_whole(target) as arriving,
            vault.frozen(),
            zipfile.ZipFile(arriving, "w", zipfile.ZIP_DEFLATED) as archive,
        ):
            chosen = vault.records() if records is None else records
            for record in {r.checksum: r for r in chosen}.values():
                archive.writestr(f"payloads/{record.checksum}", vault.payload(record))
            rows = [{**{k: getattr(r, k) for k in _FACTS}, "confirmed": vault.confirmations(r)} for r in chosen]
            archive.writestr(_LISTED, json.dumps(rows, indent=1))
    except OSError as error:
        raise VaultError(f"{target} cannot be written: {reason(error)}.") from error
    return len(chosen)


def unpack(vault: Vault, file: str | os.PathLike[str]) -> tuple[int, int]:
    """Import the downloads of an archive; returns the numbers of new and of existing ones.

    Only names that are checksums are read, so nothing can be written outside the vault. Everything is checked
    before anything is imported. Imported downloads are marked: their validators are never sent to a source, and
    the source's own response replaces them.

    Raises
    ------
    VaultError
        If the archive is damaged, or a payload does not match its checksum.
    """
    try:
        with open_zip(file) as archive:
            if sum(i.file_size for i in archive.infolist()) > LARGEST:
                raise VaultError(f"{file} unpacks to more than {LARGEST:,} bytes, which is refused.")
            strange = [n for n in archive.namelist() if n != _LISTED and not _NAME.fullmatch(n)]
            if strange:
                raise VaultError(f"{file} contains '{strange[0][:80]}', which is not part of a packed vault.")
            rows = json_of(archive.read(_LISTED))
            return _taken(vault, archive, rows)
    except (OSError, zipfile.BadZipFile, zlib.error, *_STRANGE) as error:
        raise VaultError(f"{file} is not a packed vault, or a damaged one: {reason(error)}.") from error


def _taken(vault: Vault, archive: zipfile.ZipFile, rows: object) -> tuple[int, int]:
    """Check every row and payload, and import the new ones."""
    if not isinstance(rows, list):
        raise TypeError(f"{_LISTED} holds no list")
    sizes: dict[str, int] = {}
    adopted = []
    for row in rows:
        facts = {k: _text(row[k]) for k in _FACTS}
        checksum = facts["checksum"]
        if checksum not in sizes:
            sizes[checksum] = len(_body(archive, checksum, facts))
        name = f"{facts['source']}:{facts['path']}"
        check_instant(facts["retrieved"], name)
        confirmed = [check_instant(_text(at), name) for at in row.get("confirmed", [])]
        adopted.append((Record(id=0, size=sizes[checksum], **facts), confirmed))  # type: ignore[arg-type]
    new = vault.adopt(adopted, lambda checksum: archive.read(f"payloads/{checksum}"))
    return new, len(rows) - new


def _body(archive: zipfile.ZipFile, checksum: str, facts: dict[str, str]) -> bytes:
    body = archive.read(f"payloads/{checksum}")
    if hashlib.sha256(body).hexdigest() != checksum:
        raise VaultError(
            f"{facts['source']}:{facts['path']}: its payload does not match its checksum; nothing was imported."
        )
    return body


def _text(value: object) -> str:
    if not isinstance(value, str) or len(value) > _LONGEST:
        raise TypeError(f"{str(value)[:40]} is not a text of at most {_LONGEST:,} characters")
    return value
