"""Bundles: a study with its downloads, which reproduces the same bytes on another machine."""

from __future__ import annotations

import importlib.metadata
import os
import platform
import re
import shutil
import tempfile
import zipfile
from pathlib import Path
from typing import Final

from ultrum.errors import StudyError, name_list, reason
from ultrum.file_access import open_zip, path_of, write_whole
from ultrum.study.provenance import RunRecord, run_file, run_from
from ultrum.study.result_checks import add_specifications
from ultrum.study.run import StudyResult
from ultrum.study.schema import LARGEST, Study
from ultrum.vault.archive import pack, unpack
from ultrum.vault.store import Vault

STUDY, VAULT, RUN = "study.toml", "vault.zip", "run.json"
PACKAGES, README = "requirements.txt", "README.md"
_README: Final = """# {title}

This archive holds a study, every download that it used, what the run gave, and the versions of its packages.

Run it as it is, with the packages you have:

    ultrum run {file}

Run it with the very packages of the run (Python {python}), in a folder of its own:

    python{short} -m venv bundle-env
    bundle-env/bin/pip install -r requirements.txt     # on Windows: bundle-env\\Scripts\\pip
    bundle-env/bin/ultrum run {file}

`requirements.txt` is in this archive. If your package index has no `ultrum`, install it from a copy of its source
first, version {ultrum} (`pip install PATH`), and then the other lines. The command prints what differs from the
run in the archive.
"""
_LARGEST_VAULT: Final = 8 * 1024**3
_LARGEST_RUN: Final = 64 * 1024**2
_MEMBERS: Final = {STUDY, VAULT, RUN}
_FIXED: Final = (1980, 1, 1, 0, 0, 0)


def bundle(result: StudyResult, vault: str | os.PathLike[str], file: str | os.PathLike[str]) -> Path:
    """Pack the study of a result, its downloads, and the record of the run.

    Parameters
    ----------
    result : StudyResult
    vault : path
        The vault used by the run.
    file : path
        The archive to write; it must not exist.

    Raises
    ------
    StudyError
        If the file exists, or cannot be written.
    """
    target = free_name(file)
    with tempfile.TemporaryDirectory() as folder, Vault(vault) as kept:
        part = Path(folder) / VAULT
        pack(kept, part, list(result.downloads))
        texts = {
            STUDY: result.study.to_toml(),
            RUN: run_file(result),
            PACKAGES: requirements(),
            README: _readme(result, target.name),
        }
        try:
            with write_whole(target) as arriving, zipfile.ZipFile(arriving, "w", zipfile.ZIP_DEFLATED) as archive:
                for name, text in texts.items():
                    archive.writestr(_entry(name), text)
                with part.open("rb") as body, archive.open(_entry(VAULT), "w", force_zip64=True) as packed:
                    shutil.copyfileobj(body, packed)
        except OSError as error:
            raise StudyError(f"{target} cannot be written: {error.strerror}.") from error
    return target


def requirements() -> str:
    """Every package that this one requires, with the installed version, one per line."""
    versions: dict[str, str] = {}
    waiting = ["ultrum"]
    while waiting:
        name = waiting.pop()
        key = re.sub(r"[-_.]+", "-", name).lower()
        if key in versions:
            continue
        try:
            package = importlib.metadata.distribution(name)
        except importlib.metadata.PackageNotFoundError:
            continue  # it is for another system, or for an extra that is not installed
        versions[key] = package.version
        needs = [r for r in package.requires or [] if "extra ==" not in r]
        waiting += [match[0] for r in needs if (match := re.match(r"[\w.-]+", r))]
    return "".join(f"{name}=={version}\n" for name, version in sorted(versions.items()))


def _readme(result: StudyResult, file: str) -> str:
    """Instructions to run the bundle again, with the same packages."""
    short = ".".join(platform.python_version_tuple()[:2])
    return _README.format(
        title=result.study.study.title,
        file=file,
        python=platform.python_version(),
        short=short,
        ultrum=importlib.metadata.version("ultrum"),
    )


def free_name(file: str | os.PathLike[str]) -> Path:
    """The path of an archive that does not exist yet."""
    target = path_of(file)
    if target.exists():
        raise StudyError(f"{target} exists already; choose another name.")
    if not target.absolute().parent.is_dir():
        raise StudyError(f"The folder {target.absolute().parent} does not exist; create it first.")
    return target


def run_of(file: str | os.PathLike[str]) -> RunRecord:
    """The record of the run in a bundle, as returned by :func:`read_run`."""
    try:
        with open_zip(file) as archive:
            if archive.getinfo(RUN).file_size > _LARGEST_RUN:
                raise StudyError(f"{file}: its {RUN} is larger than {_LARGEST_RUN} bytes.")
            return run_from(archive.read(RUN).decode("utf-8"), f"{RUN} of {file}")
    except (OSError, KeyError, zipfile.BadZipFile, UnicodeDecodeError) as error:
        raise StudyError(f"{file} is not a bundle of a study: {reason(error)}.") from error


def _entry(name: str) -> zipfile.ZipInfo:
    """A zip entry without a time stamp, so the same run gives the same bytes."""
    entry = zipfile.ZipInfo(name, _FIXED)
    entry.compress_type = zipfile.ZIP_STORED if name == VAULT else zipfile.ZIP_DEFLATED
    return entry


def unbundle(file: str | os.PathLike[str], folder: str | os.PathLike[str]) -> tuple[Study, Path]:
    """The study of an archive, and a vault in ``folder`` with its downloads; run it offline.

    Only study, vault and run are read, so nothing can be written elsewhere.

    Raises
    ------
    StudyError
        If it is not a bundle.
    """
    place = path_of(folder)
    try:
        with open_zip(file) as archive:
            names = {i.filename: i.file_size for i in archive.infolist()}
            too_large = names.get(STUDY, 0) > LARGEST or names.get(VAULT, 0) > _LARGEST_VAULT
            if not _MEMBERS <= set(names) <= {*_MEMBERS, PACKAGES, README} or too_large:
                raise StudyError(f"{file} is not a bundle of a study; it holds {name_list(sorted(names))}.")
            text = archive.read(STUDY).decode("utf-8")
            place.mkdir(parents=True, exist_ok=True)
            with tempfile.TemporaryDirectory() as work:
                packed = Path(archive.extract(VAULT, work))
                with Vault(place / "vault") as vault:
                    unpack(vault, packed)
    except (OSError, zipfile.BadZipFile, UnicodeDecodeError) as error:
        raise StudyError(f"{file} is not a bundle of a study: {reason(error)}.") from error
    plan, run = Study.parse(text, STUDY), run_of(file)
    noted = run.get("specifications")  # of a stranger
    valid_names = [name for name in noted if isinstance(name, str)] if isinstance(noted, list) else []
    add_specifications(place / "vault", plan.price_addresses, str(run.get("company", "")), valid_names)
    return plan, place / "vault"
