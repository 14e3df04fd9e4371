"""A study with the deliveries it used, as one archive that another machine runs to the same bytes."""

from __future__ import annotations

import os
import tempfile
import zipfile
from pathlib import Path
from typing import Final

from ultrum.errors import StudyError
from ultrum.present.run_file import run_file
from ultrum.study.result import StudyResult
from ultrum.study.schema import LARGEST, Study
from ultrum.vault import Vault, pack, unpack

STUDY, VAULT, RUN = "study.toml", "vault.zip", "run.json"
_LARGEST_VAULT: Final = 8 * 1024**3
_FIXED: Final = (1980, 1, 1, 0, 0, 0)


def bundle(
    result: StudyResult, vault: str | os.PathLike[str], file: str | os.PathLike[str]
) -> Path:
    """Pack the study of a result, the deliveries it used, and what the run was.

    Parameters
    ----------
    result : StudyResult
    vault : path
        The vault that the run used.
    file : path
        The archive to write; it must not be there yet.

    Raises
    ------
    StudyError
        If the file is there already, or cannot be written.
    """
    target = Path(file)
    if target.exists():
        raise StudyError(f"{target} is there already; choose another name.")
    with tempfile.TemporaryDirectory() as folder, Vault(vault) as kept:
        part = Path(folder) / VAULT
        pack(kept, part, list(result.deliveries))
        parts = {
            STUDY: result.study.to_toml().encode(),
            RUN: run_file(result).encode(),
            VAULT: part.read_bytes(),
        }
        arriving = target.with_name(f".{target.name}.arriving")
        try:
            with zipfile.ZipFile(arriving, "w", zipfile.ZIP_DEFLATED) as archive:
                for name, body in parts.items():
                    archive.writestr(zipfile.ZipInfo(name, _FIXED), body)
            os.replace(arriving, target)
        except OSError as error:
            raise StudyError(f"{target} cannot be written: {error.strerror}.") from None
        finally:
            arriving.unlink(missing_ok=True)
    return target


def unbundle(file: str | os.PathLike[str], folder: str | os.PathLike[str]) -> tuple[Study, Path]:
    """The study of an archive, and a vault in ``folder`` with its deliveries; run it offline.

    Only the three names that a bundle has are read, so nothing can be written elsewhere.

    Raises
    ------
    StudyError
        If it is no bundle.
    """
    place = Path(folder)
    try:
        with zipfile.ZipFile(file) as archive:
            names = {i.filename: i.file_size for i in archive.infolist()}
            too_large = names.get(STUDY, 0) > LARGEST or names.get(VAULT, 0) > _LARGEST_VAULT
            if set(names) != {STUDY, VAULT, RUN} or too_large:
                raise StudyError(
                    f"{file} is no bundle of a study; it holds {', '.join(sorted(names)[:6])}."
                )
            text = archive.read(STUDY).decode("utf-8")
            place.mkdir(parents=True, exist_ok=True)
            with tempfile.TemporaryDirectory() as work:
                packed = Path(archive.extract(VAULT, work))
                with Vault(place / "vault") as vault:
                    unpack(vault, packed)
    except (OSError, zipfile.BadZipFile, UnicodeDecodeError) as error:
        raise StudyError(f"{file} is no bundle of a study: {error}.") from None
    return Study.parse(text, STUDY), place / "vault"
