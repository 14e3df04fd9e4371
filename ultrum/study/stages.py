"""Stages of a run, each computed again only when one of its inputs has changed.

A stage is a function of its arguments alone: the study, the desk, results of other stages and plain values. What
it reads of the study is noted as it is read, like its downloads, so no list of inputs is kept by hand. Its result
is stored next to the vault with these inputs, and used again while all of them are the same. Results are data and
not code, signed with a key of this user. A result that cannot be read, or belongs to other inputs, is computed
again.
"""

from __future__ import annotations

import hashlib
import hmac
import inspect
import json
import logging
import os
import secrets
import time
import types
import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any, Final, NamedTuple, TypeVar, cast

import pandas as pd
from pydantic_core import to_jsonable_python

from ultrum.core.transform.steps import custom_steps
from ultrum.desk.addresses_and_local_tables import places_of
from ultrum.desk.desk import Desk
from ultrum.desk.downloads import LISTING, Access
from ultrum.desk.settings import SourceSettings
from ultrum.errors import DataWarning, UltrumError
from ultrum.file_access import json_of, write_whole
from ultrum.study.schema import Study
from ultrum.study.sections import Section
from ultrum.study.stage_values import NotStorableError, from_bytes, to_bytes
from ultrum.study.validation import warning_in_study_words
from ultrum.vault.journal_and_payload_files import Record

_KEPT: Final = 400  # results at most
_PARTS: Final = ("core", "sources", "desk", "study")
_CODE: Final = (".py", ".j2", ".css", ".js", ".json", ".toml")
_LIBRARIES: Final = ("numpy", "scipy", "pandas", "pyarrow")
_AGENCIES: Final = {"ALL"}
_KEY_BYTES: Final = 32
_LOG: Final = logging.getLogger(__name__)
_IS_SET, _NAMES = "is set", "names"
Progress = Callable[[str], None]
Place = tuple[str, ...]
T = TypeVar("T")


@dataclass(frozen=True)
class Stage:
    """One stage, computed or read from storage.

    Attributes
    ----------
    name : str
    settings : mapping of str to Any
        The settings of the study that it read, by key, such as ``[panel] rows``.
    needs : tuple of str
        Stages whose results it took.
    state : str
        Checksum of its result.
    downloads : tuple of Record
        Its own downloads.
    reused : bool
    """

    name: str
    settings: Mapping[str, object]
    needs: tuple[str, ...]
    state: str
    downloads: tuple[Record, ...]
    reused: bool


class _Reads:
    """Settings that a stage has read, with their values."""

    def __init__(self) -> None:
        self.found: dict[Place, object] = {}

    def note(self, place: Place, value: object) -> None:
        """Keep a setting with its value as plain data."""
        self.found[place] = to_jsonable_python(value)


class _Recorded:
    """A study or one of its sections, which notes each setting that is read."""

    __slots__ = ("_place", "_reads", "_real")

    def __init__(self, real: Section, place: Place, reads: _Reads) -> None:
        self._real, self._place, self._reads = real, place, reads

    def __getattr__(self, name: str) -> Any:
        kind = type(self._real)
        if name not in kind.model_fields:
            return self._member_through_view(inspect.getattr_static(kind, name))
        value, place = getattr(self._real, name), (*self._place, name)
        if not self._place and (value is None or isinstance(value, Section)):
            self._reads.note((*place, _IS_SET), value is not None)
            return None if value is None else _Recorded(value, place, self._reads)
        if not self._place and isinstance(value, dict | list):
            return _RecordedGroup(value, place, self._reads)
        self._reads.note(place, value)
        return value

    def _member_through_view(self, member: Any) -> Any:
        """A property or method, which reads settings through this object."""
        if isinstance(member, property) and member.fget is not None:
            return member.fget(self)
        if isinstance(member, types.FunctionType):
            return types.MethodType(member, self)
        raise AttributeError(f"a stage cannot read {member!r}")


class _RecordedGroup(Mapping[str, Any]):
    """Sections by name, such as the models; iteration is over names for a table, and over sections for a list."""

    def __init__(self, real: Mapping[str, Section] | Sequence[Any], place: Place, reads: _Reads) -> None:
        self._listed = not isinstance(real, Mapping)
        self._real = real if isinstance(real, Mapping) else {section.name: section for section in real}
        self._place, self._reads = place, reads

    def __getitem__(self, name: str | int) -> Any:
        if isinstance(name, int):
            self._reads.note((*self._place, _NAMES), list(self._real))
            name = list(self._real)[name]
        if name not in self:
            raise KeyError(name)
        return _Recorded(self._real[name], (*self._place, name), self._reads)

    def __contains__(self, name: object) -> bool:
        self._reads.note((*self._place, str(name), _IS_SET), name in self._real)
        return name in self._real

    def __iter__(self) -> Iterator[Any]:
        self._reads.note((*self._place, _NAMES), list(self._real))
        return iter([self[name] for name in self._real] if self._listed else list(self._real))

    def __len__(self) -> int:
        self._reads.note((*self._place, _NAMES), list(self._real))
        return len(self._real)


def setting_at(plan: Study, place: Sequence[str]) -> object:
    """The value at a place that a stage has read, as plain data."""
    value: Any = plan
    for part in place[:-1] if place[-1] in (_IS_SET, _NAMES) else place:
        if isinstance(value, Section):
            value = getattr(value, part, None)
        elif isinstance(value, Mapping):
            value = value.get(part)
        else:
            value = next((section for section in value or () if section.name == part), None)
    if place[-1] == _IS_SET:
        return value is not None
    if place[-1] == _NAMES:
        return list(value) if isinstance(value, Mapping) else [section.name for section in value or ()]
    return to_jsonable_python(value)


def key_of(place: Sequence[str]) -> str:
    """A place in the study as section and key.

    Examples
    --------
    >>> key_of(("panel", "rows")), key_of(("models", "one factor", "lags")), key_of(("two_pass", "is set"))
    ('[panel] rows', '[models.one factor] lags', '[two_pass]')
    """
    *sections, last = place
    return f"[{'.'.join(sections)}]" if last in (_IS_SET, _NAMES) else f"[{'.'.join(sections)}] {last}"


class _Given(NamedTuple):
    """A result of a stage, among the arguments of another."""

    stage: str
    state: str
    value: object  # held, so that its identity stays its own


@dataclass
class Stages:
    """Runs stages in sequence."""

    plan: Study
    desk: Desk
    tell: Progress
    kept: StageStore | None
    done: dict[str, Stage] = field(default_factory=dict)
    _results: dict[int, _Given] = field(default_factory=dict)

    def do(self, name: str, function: Callable[..., T], *arguments: object) -> T:
        """The result of a function of the arguments: stored, if no input has changed, otherwise computed.

        Parameters
        ----------
        name : str
            Name of the stage.
        function : callable
            A function of a module: it can read nothing but its arguments.
        *arguments
            The study, the desk, results of stages, and plain values.
        """
        if getattr(function, "__closure__", None) or not isinstance(function, types.FunctionType):
            raise TypeError(f"the stage '{name}' is not a function of its arguments alone")
        needs: dict[str, None] = {}
        inputs = [self._identity(a, needs) for a in arguments]
        code = [code_of_parts(*_PARTS), _library_versions(), _custom_code()]
        key = digest([code, name, f"{function.__module__}.{function.__qualname__}", inputs])
        kept = self.kept.find(key, self.plan, self._as_read) if self.kept else None
        if kept is not None:
            for warning in kept.warned:
                _warn(_warning_from(*warning), name)
            self._note(name, kept.settings, needs, kept.state, kept.accesses, True)
            self._register(name, kept.state, kept.value)
            _LOG.info("stage '%s' taken from the stored ones", name)
            return cast(T, kept.value)
        self.tell(name)
        start = time.monotonic()
        before, reads = len(self.desk.repository.downloads.accesses), _Reads()
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            value: Any = function(*(_Recorded(a, (), reads) if a is self.plan else a for a in arguments))
        warned = self._warn_again(caught, name)
        accesses = self._with_structures(list(dict.fromkeys(self.desk.repository.downloads.accesses[before:])))
        try:
            body = to_bytes((value, warned))
            state = hashlib.sha256(body).hexdigest()
            # every stage rests on what a stored one would give, to the last bit
            value = from_bytes(body)[0]
        except NotStorableError:
            body, state = b"", secrets.token_hex(32)
        if self.kept and body:
            self.kept.keep(key, body, state, reads.found, [(t, self._as_read(t)) for t in accesses])
        self._note(name, reads.found, needs, state, accesses, False)
        _LOG.info("stage '%s' computed in %.2f s", name, time.monotonic() - start)
        self._register(name, state, value)
        return cast(T, value)

    def _identity(self, argument: object, needs: dict[str, None]) -> object:
        """What stands for an argument in the key of a stage."""
        if argument is self.plan:
            return "the study"  # what is read of it is noted
        if argument is self.desk:
            return "the desk"  # its downloads are noted
        if id(argument) in self._results:
            given = self._results[id(argument)]
            needs[given.stage] = None
            return ["result", given.state]
        if argument is None or isinstance(argument, bool | int | float | str):
            return argument
        if isinstance(argument, Mapping):
            return {"table": [[str(k), self._identity(v, needs)] for k, v in argument.items()]}
        if isinstance(argument, list | tuple):
            return [self._identity(a, needs) for a in argument]
        raise TypeError(f"{type(argument).__name__} is not an input of a stage")

    def _register(self, stage: str, state: str, value: object) -> None:
        """Remember a result and its parts, which can be inputs of other stages."""
        if isinstance(value, Section) or not (hasattr(value, "__dataclass_fields__") or _is_container(value)):
            return
        self._results[id(value)] = _Given(stage, state, value)
        parts = (
            value
            if isinstance(value, dict)
            else dict(enumerate(value))
            if isinstance(value, list | tuple)
            else {}
        )
        for place, part in parts.items():
            self._register(stage, f"{state}/{place}", part)

    def _warn_again(self, caught: Sequence[warnings.WarningMessage], name: str) -> list[list[str]]:
        """Warnings about the data, by the name of their class; those of libraries are only passed on."""
        heard = []
        for w in caught:
            if isinstance(w.message, DataWarning):
                warning = warning_in_study_words(w.message)
                fix = str(warning).removeprefix(warning.finding).strip()
                heard.append([type(warning).__name__, warning.finding, fix, warning.setting])
                _warn(warning, name)
            else:
                warnings.warn_explicit(w.message, w.category, w.filename, w.lineno)
        return heard

    def _note(
        self,
        name: str,
        settings: Mapping[Place, object],
        needs: Mapping[str, None],
        state: str,
        accesses: Sequence[Access],
        reused: bool,
    ) -> None:
        records = tuple(self._record(t) for t in accesses if t.accept != LISTING)
        by_key = {key_of(place): value for place, value in sorted(settings.items())}
        self.done[name] = Stage(name, by_key, tuple(needs), state, records, reused)

    def _with_structures(self, accesses: list[Access]) -> list[Access]:
        """Includes a service's structure messages of this session, which are read once."""
        services = {t.source for t in accesses if self.desk.sources[t.source].kind == "sdmx"}
        words = {w for t in accesses if t.path.startswith("data/") for w in _words(t.path)}
        earlier = [
            t
            for t in self.desk.repository.downloads.accesses
            if t.source in services
            and not t.path.startswith("data/")
            and (t.path.startswith("dataflow") or words & _words(t.path))
        ]
        return list(dict.fromkeys([*accesses, *earlier]))

    def _record(self, access: Access) -> Record:
        return self.desk.repository.downloads.get_again(access)

    def _as_read(self, access: Access) -> str:
        """Identity of a download for a stage: its bytes, and the settings of its source; of a list, its files."""
        if access.accept == LISTING:
            return digest(places_of(self.desk.sources[access.source], access.path, {}))
        try:
            checksum = self._record(access).checksum
        except UltrumError:
            return ""  # it is unavailable now; the stage itself reports it
        return f"{checksum} {digest(reading_settings(self.desk.sources[access.source]))}"


def reading_settings(source: SourceSettings) -> dict[str, object]:
    """Settings of a source that affect how its bytes are read, without its location."""
    parts: dict[str, object] = {
        "kind": source.kind,
        "format": source.format,
        "rest": source.rest,
        "tables": {path: dict(options) for path, options in source.tables.items()},
        "snapshots": {name: vars(snapshot) for name, snapshot in source.snapshots.items()},
        "queries": {name: vars(query) for name, query in source.queries.items()},
    }
    return {name: part for name, part in parts.items() if part}


class Kept(NamedTuple):
    """A stored result with unchanged inputs."""

    value: Any
    warned: list[list[str]]
    state: str
    settings: dict[Place, object]
    accesses: list[Access]


class StageStore:
    """Results of stages in a folder next to the vault: an Arrow file each, and a JSON file of their inputs."""

    def __init__(self, folder: Path, key: bytes) -> None:
        self.folder, self._key = folder, key

    @classmethod
    def beside(cls, vault: Path) -> StageStore | None:
        """The folder of a vault, or None if there is no key or it is read-only."""
        try:
            key = _user_key()
            folder = vault / "stages"
            folder.mkdir(parents=True, exist_ok=True)
        except OSError:
            return None
        return cls(folder, key)

    def find(self, key: str, plan: Study | None, as_read: Callable[[Access], str]) -> Kept | None:
        """The stored result of a key whose settings and downloads are those of now, or None."""
        for entry in self._entries(key):
            try:
                body = self._body_if_signed(key, entry)
                if body is None:
                    continue
                settings = {tuple(place): value for place, value in entry["settings"]}
                accesses = [Access(**t["access"]) for t in entry["downloads"]]
                changed = any(
                    plan is None or _differ(setting_at(plan, p), v) for p, v in settings.items()
                ) or any(as_read(t) != d["as_read"] for t, d in zip(accesses, entry["downloads"], strict=True))
                if not changed:
                    value, warned = from_bytes(body)
                    return Kept(value, warned, str(entry["state"]), settings, accesses)
            except (NotStorableError, KeyError, TypeError, ValueError):
                continue  # of another version, or damaged: it is computed again
        return None

    def keep(
        self,
        key: str,
        body: bytes,
        state: str,
        settings: Mapping[Place, object],
        read: Sequence[tuple[Access, str]],
    ) -> None:
        """Store a result, with the settings and downloads that it read.

        A folder that cannot be written costs time only.
        """
        downloads = [{"access": vars(t) | {"checksum": ""}, "as_read": as_read} for t, as_read in read]
        inputs = {"settings": [[list(p), v] for p, v in sorted(settings.items())], "downloads": downloads}
        entry = {**inputs, "state": state, "signature": self._signature(key, inputs, state, body)}
        try:
            self._write(self.folder / f"{state}.arrow", body)
            others = [e for e in self._entries(key) if {n: e.get(n) for n in inputs} != inputs][:3]
            self._write(self.folder / f"{key}.json", json.dumps([entry, *others]).encode())
            self._prune()
        except OSError:
            return

    def load(self, key: str) -> Any:
        """A value that was stored under a key, or None."""
        kept_value = self.find(key, None, lambda _: "")
        return None if kept_value is None else kept_value.value

    def store(self, key: str, value: object) -> None:
        """Store a value that depends on its key alone."""
        body = to_bytes((value, []))
        self.keep(key, body, hashlib.sha256(body).hexdigest(), {}, [])

    def __reduce__(self) -> tuple[Callable[[], None], tuple[()]]:
        """A pickle excludes the folder and this user's key."""
        return _nothing, ()

    def _entries(self, key: str) -> list[dict[str, Any]]:
        try:
            entries = json_of((self.folder / f"{key}.json").read_bytes())
        except (OSError, ValueError):
            return []
        return [e for e in entries if isinstance(e, dict)] if isinstance(entries, list) else []

    def _body_if_signed(self, key: str, entry: Mapping[str, Any]) -> bytes | None:
        """The stored bytes, if this user signed them together with the key and the inputs of the entry."""
        state = str(entry.get("state"))
        if not (state.isalnum() and state.isascii()):
            return None
        try:
            body = (self.folder / f"{state}.arrow").read_bytes()
        except OSError:
            return None
        inputs = {name: entry.get(name) for name in ("settings", "downloads")}
        mine = self._signature(key, inputs, state, body)
        return body if hmac.compare_digest(mine, str(entry.get("signature"))) else None

    def _signature(self, key: str, inputs: object, state: str, body: bytes) -> str:
        about = json.dumps([key, inputs, state], sort_keys=True).encode()
        signed = hmac.new(self._key, hashlib.sha256(about).digest() + body, hashlib.sha256)
        return signed.hexdigest()

    def _write(self, path: Path, body: bytes) -> None:
        with write_whole(path) as arriving:
            arriving.write_bytes(body)

    def _prune(self) -> None:
        for file in self.folder.glob("*.pickle"):  # of earlier versions
            file.unlink(missing_ok=True)
        files = sorted(self.folder.glob("[!.]*"), key=lambda f: f.stat().st_mtime)
        for file in files[: max(0, len(files) - 2 * _KEPT)]:
            file.unlink(missing_ok=True)


def _differ(one: object, other: object) -> bool:
    """Whether two settings differ; the order of keys counts, and 1, 1.0 and true are different."""
    return json.dumps(one) != json.dumps(other)


def _is_container(value: object) -> bool:
    return isinstance(value, pd.DataFrame | pd.Series | list | dict | tuple) and len(value) > 0


def _warning_from(category: str, finding: str, fix: str, setting: str) -> DataWarning:
    """A data warning of the class with this name."""
    kinds = [DataWarning]
    for kind in kinds:
        kinds += kind.__subclasses__()
    named = next((kind for kind in kinds if kind.__name__ == category), DataWarning)
    return named(finding, fix=fix, setting=setting)


def _warn(warning: DataWarning, stage: str) -> None:
    """Give a warning at the place of its stage."""
    warnings.warn_explicit(warning, type(warning), stage, 0)


@lru_cache(maxsize=1)
def _library_versions() -> tuple[str, ...]:
    from importlib.metadata import version

    return tuple(f"{name} {version(name)}" for name in _LIBRARIES)


def _nothing() -> None:
    return None


def _words(path: str) -> set[str]:
    """Parts of a path that identify a dataflow or a structure, not a version or a location."""
    parts = path.partition("?")[0].replace(",", "/").split("/")[1:]
    return {p for p in parts if p.isupper() and len(p) > 1 and "." not in p} - _AGENCIES


def digest(content: object) -> str:
    """Checksum of plain data."""
    return hashlib.sha256(json.dumps(content, sort_keys=True, default=str).encode()).hexdigest()


@lru_cache(maxsize=2)
def code_of_parts(*parts: str) -> str:
    """Checksum of the program's own code in some packages: another version computes everything again."""
    root = Path(__file__).parent.parent
    checksum = hashlib.sha256()
    for part in parts:
        for file in sorted(f for f in (root / part).rglob("*") if f.suffix in _CODE):
            checksum.update(file.read_bytes())
    return checksum.hexdigest()


def _custom_code() -> list[str]:
    """The code of the steps registered by the user."""
    return [f"{name}: {_code_of(function)}" for name, function in sorted(custom_steps().items())]


def _code_of(function: Callable[..., object]) -> str:
    try:
        return inspect.getsource(function)
    except (OSError, TypeError):  # typed at a prompt
        code = getattr(function, "__code__", None)
        return f"{getattr(code, 'co_code', function)!r} {getattr(code, 'co_consts', '')!r}"


def _user_key() -> bytes:
    """A secret of this user, created once; one of another length is replaced."""
    import platformdirs

    place = Path(platformdirs.user_data_dir("ultrum", appauthor=False)) / "stages.key"
    try:
        key = place.read_bytes()
    except FileNotFoundError:
        key = b""
    if len(key) == _KEY_BYTES:
        return key
    place.parent.mkdir(parents=True, exist_ok=True)
    arriving = place.with_name(f".stages.key.{os.getpid()}")
    handle = os.open(arriving, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(secrets.token_bytes(_KEY_BYTES))
    try:
        if key or place.exists():
            arriving.replace(place)
        else:
            os.link(arriving, place)  # the first of two processes wins
    except FileExistsError:
        pass
    finally:
        arriving.unlink(missing_ok=True)
    return place.read_bytes()
