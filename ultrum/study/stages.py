"""Stages of a run, each computed again only when one of its inputs has changed.

A stage depends on its settings, its input stages, its downloads, the settings by which these are read, and the
program's own code. Its result is stored next to the vault, so after an interruption or the revision of one series
only what depends on it is computed again. Stored results are signed with a key of this user, and one with another
signature is computed again: a folder from elsewhere cannot execute code.
"""

from __future__ import annotations

import hashlib
import hmac
import inspect
import json
import os
import pickle
import secrets
import warnings
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any, Final

from ultrum.core.transform.steps import custom_steps
from ultrum.desk.desk import Desk
from ultrum.desk.fetch import Access
from ultrum.desk.settings import SourceSettings
from ultrum.errors import DataWarning, UltrumError
from ultrum.file_access import json_of, write_whole
from ultrum.vault.journal import Record

_KEPT: Final = 400  # results at most
_PARTS: Final = ("core", "sources", "desk", "study")
_CODE: Final = (".py", ".j2", ".css", ".js")
_AGENCIES: Final = {"ALL"}
Progress = Callable[[str], None]


@dataclass(frozen=True)
class Stage:
    """One stage, computed or read from storage.

    Attributes
    ----------
    name : str
    settings : Any
        Its settings in the study.
    needs : tuple of str
        Stages it rests on.
    state : str
        Checksum of its result.
    downloads : tuple of Record
        Its own downloads.
    reused : bool
    """

    name: str
    settings: object
    needs: tuple[str, ...]
    state: str
    downloads: tuple[Record, ...]
    reused: bool


@dataclass
class Stages:
    """Runs stages in sequence."""

    desk: Desk
    tell: Progress
    kept: StageStore | None
    done: dict[str, Stage] = field(default_factory=dict)

    def do(self, name: str, settings: object, needs: Sequence[str], work: Callable[[], object]) -> Any:
        """The result of a stage: stored, if none of its inputs has changed, otherwise computed."""
        key = digest(
            [
                code_of_parts(*_PARTS),
                _custom_code(),
                name,
                settings,
                [self.done[n].state for n in needs],
            ]
        )
        kept_stage = self.kept.find(key, self._as_read) if self.kept else None
        if kept_stage is not None:
            value, warned, state, accesses = kept_stage
            for text in warned:
                warnings.warn_explicit(text[1], text[0], name, 0)
            self._note(name, settings, needs, state, accesses, True)
            return value
        self.tell(name)
        before = len(self.desk.repository.fetcher.accesses)
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            value = work()
        for w in caught:
            if not issubclass(w.category, DataWarning):  # a library's, not about the data
                warnings.warn_explicit(w.message, w.category, w.filename, w.lineno)
        heard = [(w.category, str(w.message)) for w in caught if issubclass(w.category, DataWarning)]
        for category, text in heard:
            warnings.warn_explicit(text, category, name, 0)
        accesses = self._with_structures(list(dict.fromkeys(self.desk.repository.fetcher.accesses[before:])))
        body = pickle.dumps((value, heard), protocol=5)
        state = hashlib.sha256(body).hexdigest()
        if self.kept:
            self.kept.keep(key, body, state, [(t, self._as_read(t)) for t in accesses])
        self._note(name, settings, needs, state, accesses, False)
        # what was kept is made of other objects than what was just computed, and a checksum of what a later
        # stage makes of them can tell: every stage therefore rests on what a kept one would give
        return pickle.loads(body)[0]  # noqa: S301 - made three lines above

    def _note(
        self,
        name: str,
        settings: Any,
        needs: Sequence[str],
        state: str,
        accesses: Sequence[Access],
        reused: bool,
    ) -> None:
        records = tuple(self._record(t) for t in accesses)
        self.done[name] = Stage(name, settings, tuple(needs), state, records, reused)

    def _with_structures(self, accesses: list[Access]) -> list[Access]:
        """Includes a service's structure messages of this session, which are read once."""
        services = {t.source for t in accesses if self.desk.sources[t.source].kind == "sdmx"}
        words = {w for t in accesses if t.path.startswith("data/") for w in _words(t.path)}
        earlier = [
            t
            for t in self.desk.repository.fetcher.accesses
            if t.source in services
            and not t.path.startswith("data/")
            and (t.path.startswith("dataflow") or words & _words(t.path))
        ]
        return list(dict.fromkeys([*accesses, *earlier]))

    def _record(self, access: Access) -> Record:
        return self.desk.repository.fetcher.record_of_access(access)

    def _as_read(self, access: Access) -> str:
        """Identity of a download for a stage: its bytes, and the settings of its source."""
        try:
            checksum = self._record(access).checksum
        except UltrumError:
            return ""  # it is unavailable now; the stage itself reports it
        return f"{checksum} {digest(reading_settings(self.desk.sources[access.source]))}"


def reading_settings(source: SourceSettings) -> dict[str, object]:
    """Settings of a source that affect how its bytes are read, without its location."""
    parts = {
        "tables": {path: dict(options) for path, options in source.tables.items()},
        "snapshots": {name: vars(snapshot) for name, snapshot in source.snapshots.items()},
        "queries": {name: vars(query) for name, query in source.queries.items()},
    }
    return {name: part for name, part in parts.items() if part}


class StageStore:
    """Results of stages in a folder next to the vault."""

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

    def find(
        self, key: str, as_read: Callable[[Access], str]
    ) -> tuple[object, list[Any], str, list[Access]] | None:
        """Value, warnings, state and downloads of a stored result with unchanged downloads."""
        for entry in self._entries(key):
            accesses = [Access(**t["access"]) for t in entry["downloads"]]
            if any(as_read(t) != d["as_read"] for t, d in zip(accesses, entry["downloads"], strict=True)):
                continue
            body = self._body(entry)
            if body is not None:
                value, warned = pickle.loads(body)  # noqa: S301 - signed with this user's own key
                return value, warned, entry["state"], accesses
        return None

    def keep(self, key: str, body: bytes, state: str, read: Sequence[tuple[Access, str]]) -> None:
        """Store a result, with its downloads.

        A folder that cannot be written costs time only.
        """
        try:
            self._write(self.folder / f"{state}.pickle", body)
            downloads = [{"access": vars(t) | {"checksum": ""}, "as_read": as_read} for t, as_read in read]
            entry = {"downloads": downloads, "state": state, "signature": self._signature(body)}
            others = [e for e in self._entries(key) if e["downloads"] != downloads][:3]
            self._write(self.folder / f"{key}.json", json.dumps([entry, *others]).encode())
            self._prune()
        except OSError:
            return

    def load(self, key: str) -> Any:
        """A value that was stored under a key, or None."""
        kept_value = self.find(key, lambda _: "")
        return None if kept_value is None else kept_value[0]

    def store(self, key: str, value: Any) -> None:
        """Store a value that depends on its key alone."""
        body = pickle.dumps((value, []), protocol=5)
        self.keep(key, body, hashlib.sha256(body).hexdigest(), [])

    def __reduce__(self) -> tuple[Callable[[], None], tuple[()]]:
        """A pickle excludes the folder and this user's key."""
        return _nothing, ()

    def _entries(self, key: str) -> list[dict[str, Any]]:
        try:
            entries = json_of((self.folder / f"{key}.json").read_bytes())
            return entries if isinstance(entries, list) else []
        except (OSError, ValueError):
            return []

    def _body(self, entry: dict[str, object]) -> bytes | None:
        """The stored bytes, if this user signed them."""
        try:
            state = str(entry["state"])
            if not state.isalnum():
                return None
            body = (self.folder / f"{state}.pickle").read_bytes()
        except OSError:
            return None
        return body if hmac.compare_digest(self._signature(body), str(entry.get("signature"))) else None

    def _signature(self, body: bytes) -> str:
        return hmac.new(self._key, body, hashlib.sha256).hexdigest()

    def _write(self, path: Path, body: bytes) -> None:
        with write_whole(path) as arriving:
            arriving.write_bytes(body)

    def _prune(self) -> None:
        files = sorted(self.folder.glob("[!.]*"), key=lambda f: f.stat().st_mtime)
        for file in files[: max(0, len(files) - 2 * _KEPT)]:
            file.unlink(missing_ok=True)


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
    """A secret of this user, created once."""
    import platformdirs

    place = Path(platformdirs.user_data_dir("ultrum", appauthor=False)) / "stages.key"
    if not place.exists():
        place.parent.mkdir(parents=True, exist_ok=True)
        arriving = place.with_name(f".stages.key.{os.getpid()}")
        metadata = os.open(arriving, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(metadata, "wb") as file:
            file.write(secrets.token_bytes(32))
        try:
            os.link(arriving, place)  # the first of two processes wins
        except FileExistsError:
            pass
        finally:
            arriving.unlink(missing_ok=True)
    return place.read_bytes()
