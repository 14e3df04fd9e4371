"""Bundles: a study with its downloads, which reproduces the same bytes elsewhere; changes between two runs."""

from __future__ import annotations

import contextlib
import importlib.metadata
import json
import os
import platform
import re
import shutil
import tempfile
import zipfile
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Final

import pandas as pd

from ultrum.core.presentation import decimals, quantity, significant
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import StudyError, UltrumError, choices, name_list, reason
from ultrum.file_access import open_zip, path_of, write_whole
from ultrum.sources.table.reader import read_table
from ultrum.sources.table.reading_result import TableOptions
from ultrum.study.provenance import RunRecord, StageRecord, error_of, run_file, run_from, stage_of, stage_trail
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


# Changes between two runs

BytesOf = Callable[[str], bytes | None]
_ROUNDING: Final = 1e-12  # relative; two machines may differ by as much
_SHOWN: Final = 12
_ONLY_WORDS: Final = ("[study] title", "[study] question", "[report] ")  # keys that move no stage
_OF_ALL_MODELS: Final = ("factors", "risk-free return")
_LEVEL: Final = "[report] level"
_BOUNDS: Final = ("cost_of_equity_low.", "cost_of_equity_high.")
_COLUMNS: Final = ("before", "after", "change", "in_errors", "because")


@dataclass(frozen=True, repr=False)
class Changes:
    """Differences between two runs of a study.

    Attributes
    ----------
    revised : list of str
        Downloads with other bytes.
    settings : DataFrame
        Keys of the study that changed: ``before after``, as written in a file.
    done_again : list of str
        Stages with another result.
    moved : DataFrame
        Numbers that moved: ``before after change in_errors because``, the answer first, then by size;
        ``in_errors`` is the change in standard errors.
    added, removed : Series
        Numbers of only one of the runs.
    renamed : mapping of str to str
        Parts of names that changed while the numbers are equal.
    since : str
        The run used for comparison, in words.
    cells : DataFrame
        Columns of the revised downloads that differ: ``download column cells first last`` and the largest change,
        ``at before after``. Empty if the bytes before are no longer in the vault.
    """

    revised: list[str]
    settings: pd.DataFrame
    done_again: list[str]
    moved: pd.DataFrame
    added: pd.Series
    removed: pd.Series
    renamed: Mapping[str, str]
    since: str = "the last run"
    cells: pd.DataFrame = field(default_factory=pd.DataFrame)

    @property
    def is_empty(self) -> bool:
        """Whether nothing differs."""
        parts = (self.revised, self.settings, self.moved, self.added, self.removed, self.renamed)
        return all(not len(part) for part in parts)

    def to_frame(self) -> pd.DataFrame:
        """The numbers that changed."""
        return self.moved

    def __repr__(self) -> str:
        if self.is_empty:
            return f"Nothing has changed since {self.since}."
        return "\n".join(self._lines())

    def _lines(self) -> Iterator[str]:
        for key, row in self.settings.iterrows():
            yield f"changed: {key} = {row['after']}, before {row['before']}"
        yield f"revised: {name_list(self.revised) or 'no download'}"
        for cell in self.cells.head(_SHOWN).to_dict("records"):
            span = cell["first"] if cell["first"] == cell["last"] else f"{cell['first']} to {cell['last']}"
            value = f"{cell['after']}, before {cell['before']}" + (
                "" if cell["cells"] == 1 else f", at {cell['at']}"
            )
            yield f"  {cell['download']}, {cell['column']}: {quantity(cell['cells'], 'cell')} of {span}; {value}"
        yield f"done again: {choices(self.done_again) or 'nothing'}"
        for old, new in self.renamed.items():
            yield f"renamed: {old} to {new}"
        for word, numbers in (("new", self.added), ("gone", self.removed)):
            if len(numbers):
                names = (f"{name} = {significant(value)}" for name, value in numbers.items())
                yield f"{word}: {name_list(names, 3)}"
        if len(self.moved):
            shown = self.moved.head(_SHOWN).copy()
            shown["in_errors"] = [decimals(v, signed=True, missing="") for v in shown["in_errors"]]
            text = shown.rename(columns={"in_errors": "in errors"}).to_string(
                float_format=significant, max_colwidth=60
            )
            yield f"{quantity(len(self.moved), 'number')} changed, those of the answer first:\n{text}"


def changes(
    before: RunRecord, after: RunRecord, since: str = "the last run", bytes_of: BytesOf | None = None
) -> Changes:
    """Compare two runs, each as returned by :func:`read_run`.

    Parameters
    ----------
    before, after : mapping
    since : str
        Label of the first run.
    bytes_of : callable, optional
        Bytes of a download by its checksum, or None; with it the cells that differ are found.

    Examples
    --------
    >>> run = {"numbers": {"risk_free": 0.03}, "stages": []}
    >>> changes(run, run)
    Nothing has changed since the last run.
    """
    settings = _setting_changes(before.get("study"), after.get("study"))
    revised = _revisions(before, after)
    old, new = before["numbers"], after["numbers"]
    renamed, pairs = _renames(
        {n: v for n, v in old.items() if n not in new}, {n: v for n, v in new.items() if n not in old}
    )
    added = {n: v for n, v in new.items() if n not in old and n not in pairs.values()}
    removed = {n: v for n, v in old.items() if n not in new and n not in pairs}
    states = {s["name"]: s["gives"] for s in before["stages"]}
    done = [s["name"] for s in after["stages"] if states.get(s["name"]) != s["gives"]]
    moved = _moves(before, after, revised, settings)
    cells = _revision_rows(before, after, bytes_of) if bytes_of is not None else pd.DataFrame()
    return Changes(revised, settings, done, moved, _numbers(added), _numbers(removed), renamed, since, cells)


def _revision_rows(before: RunRecord, after: RunRecord, bytes_of: BytesOf) -> pd.DataFrame:
    """The columns of revised downloads that differ."""
    old, new = _bytes_of(before), _bytes_of(after)
    rows: list[tuple[object, ...]] = []
    for name, checksum in new.items():
        if name not in old or old[name] == checksum:
            continue
        bodies = bytes_of(old[name]), bytes_of(checksum)
        if bodies[0] is None or bodies[1] is None:
            continue
        tables = [columns_of(body, name, after, bytes_of) for body in bodies if body is not None]
        rows += [(name, *row) for row in differing_columns(*tables)]
    return pd.DataFrame(rows, columns=["download", "column", "cells", "first", "last", "at", "before", "after"])


def columns_of(body: bytes, name: str, run: RunRecord, bytes_of: BytesOf) -> dict[str, pd.Series]:
    """The columns of a download by date: its series, or the rows of its records."""
    source, _, path = name.partition(":")
    sections: Any = (run.get("study") or {}).get("sources", {})
    settings = sections.get(source, {})
    if settings.get("kind", "sdmx") == "sdmx" and body.lstrip()[:1] in (b"<", b"{"):
        is_data = path.startswith("data/")
        return _series_of_message(body, path, _structures(run, source, bytes_of)) if is_data else {}
    given = settings.get("tables", {}).get(path, {})
    for options in (given, {**given, "records_only": True}):
        try:
            reading = read_table(body, path.rpartition("/")[2], TableOptions.of(**options))
        except UltrumError:
            continue
        if reading.series:
            every = {n: s.values for n, s in reading.series.items()}
            labelled = {n: v.set_axis([period_label(p) for p in v.index]) for n, v in every.items()}
            return {n: v[~v.index.duplicated()] for n, v in labelled.items()}
        records = reading.records
        rows = pd.Index([f"row {k + 1}" for k in range(len(records))])
        return {str(c): records[c].set_axis(rows) for c in records}
    return {}


def _structures(run: RunRecord, source: str, bytes_of: BytesOf) -> list[tuple[str, ...]]:
    """Dimensions of the structures that a run took from a source."""
    from ultrum.sources.sdmx.structures_and_typing import read_structure

    dimensions = []
    for name, checksum in _bytes_of(run).items():
        body = bytes_of(checksum) if name.startswith(f"{source}:datastructure/") else None
        with contextlib.suppress(UltrumError):
            dimensions += [read_structure(body, name).dimensions] if body is not None else []
    return dimensions


def _series_of_message(body: bytes, path: str, structures: Sequence[tuple[str, ...]]) -> dict[str, pd.Series]:
    """The series of an SDMX data message by key; by number if no structure of the run has its dimensions."""
    from ultrum.sources.sdmx.client import decode

    for dimensions in (*structures, ()):
        try:
            series = decode(body, "", dimensions, path)
        except UltrumError:
            continue
        keys = [s.key for s in series]
        named = bool(dimensions) and all(all(k.split(".")) and k.count(".") == len(dimensions) - 1 for k in keys)
        if dimensions and not (named and len(set(keys)) == len(keys)):
            continue
        names = keys if named else [f"series {k + 1}" for k in range(len(series))]
        columns = {n: pd.Series(s.values, index=pd.Index(s.periods)) for n, s in zip(names, series, strict=True)}
        return {n: v[~v.index.duplicated()] for n, v in columns.items()}
    return {}


def differing_columns(old: Mapping[str, pd.Series], new: Mapping[str, pd.Series]) -> Iterator[tuple[object, ...]]:
    """Columns with cells that differ: how many, the first, the last, and the largest change."""
    for column in dict.fromkeys((*old, *new)):
        a, b = (side.get(column, pd.Series(dtype=float)) for side in (old, new))
        labels = [*a.index, *b.index[~b.index.isin(a.index)]]
        one, other = a.reindex(labels), b.reindex(labels)
        same = (one == other) | (one.isna() & other.isna())
        places = [p for p, equal in zip(labels, same.tolist(), strict=True) if not equal]
        if not places:
            continue
        numbers = [pd.to_numeric(side.loc[places], errors="coerce").astype(float) for side in (one, other)]
        sizes = (numbers[1] - numbers[0]).abs().fillna(-1.0).tolist()
        at = places[sizes.index(max(sizes))]
        ends = (min(places), max(places)) if not places[0].startswith("row ") else (places[0], places[-1])
        yield column, len(places), *ends, at, _cell(one[at]), _cell(other[at])


def _cell(value: object) -> str:
    if value is None or value != value:  # noqa: PLR0124 - NaN
        return "missing"
    return significant(value) if isinstance(value, float | int) else str(value)


def _numbers(by_name: Mapping[str, float]) -> pd.Series:
    return pd.Series(by_name, dtype=float).rename_axis("number")


def _revisions(before: RunRecord, after: RunRecord) -> list[str]:
    """Downloads that changed, are new, or are no longer there."""
    old, new = _bytes_of(before), _bytes_of(after)
    revised = [name for name, checksum in new.items() if name in old and old[name] != checksum]
    gone = [f"{name} (gone)" for name in old if name not in new]
    return revised + [f"{name} (new)" for name in new if name not in old] + gone


def _bytes_of(run: RunRecord) -> dict[str, str]:
    return {f"{d['source']}:{d['path']}": d["checksum"] for s in run["stages"] for d in s["takes"]}


def _setting_changes(before: object, after: object) -> pd.DataFrame:
    """Keys of the study whose values differ; empty if a run did not store its study."""
    rows = {}
    if isinstance(before, Mapping) and isinstance(after, Mapping):
        old, new = dict(_leaves(before)), dict(_leaves(after))
        for place in [*old, *(p for p in new if p not in old)]:
            if old.get(place) != new.get(place):
                rows[_key(place)] = (_written(old.get(place)), _written(new.get(place)))
    return pd.DataFrame.from_dict(rows, orient="index", columns=["before", "after"]).rename_axis("key")


def _leaves(content: object, place: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], object]]:
    """Every value of a study with its path; a list of tables is keyed by name."""
    if isinstance(content, Mapping):
        for key, value in content.items():
            yield from _leaves(value, (*place, str(key)))
    elif isinstance(content, list) and content and all(isinstance(c, Mapping) and "name" in c for c in content):
        for part in content:
            yield from _leaves({k: v for k, v in part.items() if k != "name"}, (*place, str(part["name"])))
    else:
        yield place, content


def _key(place: Sequence[str]) -> str:
    """A path as section and key."""
    return f"[{'.'.join(place[:-1])}] {place[-1]}" if len(place) > 1 else place[0]


def _written(value: object) -> str:
    """A value as in a study file."""
    if value is None:
        return "not set"
    return json.dumps(value, ensure_ascii=False)


def _renames(removed: Mapping[str, float], added: Mapping[str, float]) -> tuple[dict[str, str], dict[str, str]]:
    """Parts of names that changed, with the names of the numbers: equal in value, and in all other parts."""
    by_shape: dict[tuple[object, ...], list[str]] = defaultdict(list)
    for name, value in added.items():
        by_shape[(value, name.count("."))].append(name)
    parts: dict[str, str] = {}
    pairs: dict[str, str] = {}
    for name, value in removed.items():
        for other in by_shape.get((value, name.count(".")), []):
            differing = [(a, b) for a, b in zip(name.split("."), other.split("."), strict=True) if a != b]
            if len(differing) == 1 and parts.get(differing[0][0], differing[0][1]) == differing[0][1]:
                parts[differing[0][0]], pairs[name] = differing[0][1], other
                break
    return parts, pairs


def _moves(before: RunRecord, after: RunRecord, revised: Sequence[str], settings: pd.DataFrame) -> pd.DataFrame:
    """Numbers that changed, with causes: the answer first, then by size in standard errors."""
    old, new = before["numbers"], after["numbers"]
    causes = _Causes(before, after, revised, list(map(str, settings.index)))
    rows, order = {}, {}
    for name, value in new.items():
        was = old.get(name)
        if was is None or abs(value - was) <= _ROUNDING * max(abs(was), abs(value)):
            continue
        error = old.get(error_of(name)) or new.get(error_of(name)) or float("nan")
        rows[name] = (was, value, value - was, (value - was) / error, causes.of(name))
        relative = abs(value - was) / max(abs(was), _ROUNDING)
        size = abs((value - was) / error)
        order[name] = (_rank(name, after), -(size if size == size else relative))  # noqa: PLR0124 - NaN
    table = pd.DataFrame.from_dict(rows, orient="index", columns=list(_COLUMNS)).rename_axis("number")
    return table.loc[sorted(rows, key=order.__getitem__)]


def _rank(name: str, run: RunRecord) -> int:
    """Rank of a number: the answer, its components, the company, others, standard errors."""
    company = str(run.get("company", ""))
    if name == f"cost_of_equity.{company}":
        return 0
    if name in ("risk_free",) or (name.startswith("premium.") and not name.endswith(".error")):
        return 1
    if name.endswith(".error") or "_error" in name.split(".", maxsplit=1)[0]:
        return 4
    return 2 if company and company in name.split(".") else 3


def _is_read(key: str, settings: Mapping[str, object]) -> bool:
    """Whether a stage read a key of the study, as ``[section.name] key``, or the section that has it."""
    section = key.partition("]")[0]
    return any(key == k or key.startswith(f"{k}.") or _within(section, k) for k in settings)


def _within(section: str, key: str) -> bool:
    """Whether a section is a table below a key that was read as a whole, such as ``[panel] dividends``."""
    outer, _, name = key.partition("] ")
    return bool(name) and f"{section}.".startswith(f"{outer}.{name}.")


def _source(key: str) -> str:
    """The source whose settings include a key; for other keys a line break, which no name contains."""
    section, _, name = key.lstrip("[").split("]")[0].partition(".")
    return name.split(".")[0] if section == "sources" else "\n"


def _settings(stage: StageRecord) -> Mapping[str, object]:
    """The keys that a stage read; runs of earlier versions did not record them."""
    return stage["settings"] if isinstance(stage["settings"], Mapping) else {}


class _Causes:
    """Why numbers changed: downloads and changed keys of the stage behind them."""

    def __init__(self, before: RunRecord, after: RunRecord, revised: Sequence[str], keys: Sequence[str]) -> None:
        self._revised = revised
        self._keys = [key for key in keys if not key.startswith(_ONLY_WORDS)]
        self._level = [_LEVEL] if _LEVEL in keys else []
        self._stages = {s["name"]: s for s in after["stages"]}
        self._before = {s["name"]: s for s in before["stages"]}
        old = {s["name"]: _settings(s) for s in before["stages"]}
        self._read = {n: {**old.get(n, {}), **_settings(s)} for n, s in self._stages.items()}
        self._known: dict[str, list[str]] = {}

    def of(self, number: str) -> str:
        """The causes of one number, in words."""
        stage = stage_of(number)
        if stage not in self._known:
            self._known[stage] = self._of_stage(stage)
        level = self._level if number.startswith(_BOUNDS) else []
        causes = [*self._known[stage], *level]
        return ", ".join(causes) or "the program or a setting of this machine changed"

    def _of_stage(self, stage: str) -> list[str]:
        both = (stage_trail(stages, stage).downloads() for stages in (self._stages, self._before))
        downloads = {d.name for of_run in both for d in of_run}
        causes = [r for r in self._revised if r.removesuffix(" (new)").removesuffix(" (gone)") in downloads]
        under = list(dict.fromkeys(self._under(stage)))
        keys = self._keys_of_models(under) or self._keys_read(self._keys, under)
        read = [k for k in self._keys if any(d.startswith(f"{_source(k)}:") for d in downloads)]
        return [*causes, *read, *(k for k in keys if k not in read)]

    def _keys_read(self, keys: Sequence[str], stages: Sequence[str]) -> list[str]:
        return [k for k in keys if any(_is_read(k, self._read.get(name, {})) for name in stages)]

    def _keys_of_models(self, stages: Sequence[str]) -> list[str]:
        """Changed keys, of the models only those that some stage reads for itself.

        The factors and the risk-free return read the factors of all models, to judge the units of their file.
        """
        read = self._keys_read(self._keys, stages)
        own = self._keys_read(read, [name for name in stages if name not in _OF_ALL_MODELS])
        return [k for k in read if k in own or not k.startswith("[models.")]

    def _under(self, stage: str) -> Iterator[str]:
        """A stage and all its inputs."""
        yield stage
        if stage in self._stages:
            for need in self._stages[stage]["needs"]:
                yield from self._under(need)
