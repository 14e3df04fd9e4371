"""What a study file may say. Every fault is found before anything is downloaded."""

from __future__ import annotations

import difflib
import os
import re
import tomllib
from collections import Counter
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Annotated, Any, Final, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

from ultrum.core.frequency import Frequency, parse_period
from ultrum.core.steps import step_fault
from ultrum.errors import FrequencyError, SourceError, StudyError
from ultrum.sources.delivery import Address

LARGEST: Final = 1024 * 1024
Errors = Literal["classical", "hc0", "hc1", "hc2", "hc3", "hac"]
Figure = Literal["betas", "line of fit", "build-up"]
Text = Annotated[str, Field(min_length=1)]


class _Section(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class StudySection(_Section):
    """What the study is about."""

    title: Text
    question: str = ""
    frequency: str = "M"
    currency: str = ""
    span: tuple[str, str] = ("earliest", "latest")
    known_by: str | dict[str, str] | None = None


class Source(_Section):
    """Where data come from."""

    kind: Literal["sdmx", "table", "database"]
    url: Text
    format: Literal["csv", "csv2", "json", "json2", "xml", "xml generic"] = "csv"
    rest: Literal["", "2.1", "3.0"] = ""
    credentials: dict[str, str] = {}
    tables: dict[str, dict[str, Any]] = {}
    snapshots: dict[str, dict[str, Any]] = {}
    queries: dict[str, dict[str, str]] = {}


def _known_step(step: dict[str, Any]) -> dict[str, Any]:
    if fault := step_fault(step):
        raise ValueError(fault)
    return step


Step = Annotated[dict[str, Any], AfterValidator(_known_step)]


class Series(_Section):
    """A series fetched by its address and taken through steps."""

    address: Text
    steps: list[Step] = []


class PanelSection(_Section):
    """What is lined up."""

    assets: Text
    price_column: str = "close"
    volume_column: str = "volume"
    companies: str = ""
    dividends: str = ""
    splits: str = ""
    final_payments: str = ""
    exchange_rates: list[str] = []
    factors: Text
    factor_units: Literal["percent", "decimal"] | None = None
    total_return_factors: list[str] = []
    risk_free: Text
    conditions: list[str] = []
    rows: Literal["complete", "any"] = "complete"


class Model(_Section):
    """A regression."""

    name: Text
    factors: Annotated[list[str], Field(min_length=1)]
    errors: Errors = "hac"
    lags: Annotated[int, Field(ge=0)] | None = None


class CostSection(_Section):
    """The cost of equity asked for."""

    company: Text
    model: Text
    premium: dict[str, Literal["history"] | float] = {}
    risk_free: str | float | None = None
    inflation: str = ""


class ReportSection(_Section):
    """What is shown and written."""

    figures: list[Figure] = ["betas", "line of fit", "build-up"]
    export: list[Literal["csv"]] = ["csv"]
    level: Annotated[float, Field(gt=0, lt=1)] = 0.95


class Study(_Section):
    """A whole study.

    Examples
    --------
    >>> from ultrum.practice import demo_study
    >>> Study.load(demo_study()).cost_of_equity.company
    'BRTW'
    """

    study: StudySection
    sources: dict[str, Source]
    series: dict[str, Series] = {}
    panel: PanelSection
    models: Annotated[list[Model], Field(min_length=1)]
    cost_of_equity: CostSection
    report: ReportSection = ReportSection()

    @classmethod
    def load(cls, path: str | os.PathLike[str]) -> Study:
        """Read and check a study file.

        Raises
        ------
        StudyError
            With every fault and its line.
        """
        file = Path(path)
        try:
            if file.stat().st_size > LARGEST:
                raise StudyError(
                    f"{file} has more than {LARGEST:,} bytes; a study is a short text."
                )
            return cls.parse(file.read_text(encoding="utf-8"), file.name)._beside(file.parent)
        except OSError as error:
            raise StudyError(f"{file} cannot be read: {error.strerror}.") from None
        except UnicodeDecodeError:
            raise StudyError(f"{file} is not UTF-8 text.") from None

    @classmethod
    def parse(cls, text: str, name: str = "study") -> Study:
        """Check the text of a study file."""
        try:
            said = tomllib.loads(text)
        except (tomllib.TOMLDecodeError, RecursionError) as error:
            raise StudyError(f"{name} is not TOML: {error}.") from None
        lines = _Lines(text)
        faults = [*_shape_faults(cls, said, lines), *_meaning_faults(said, lines)]
        if faults:
            listed = "\n".join(f"  line {line}: {text}" for line, text in sorted(set(faults)))
            raise StudyError(f"{name} has {len(set(faults))} faults; nothing was tried.\n{listed}")
        return cls.model_validate(said)

    def _beside(self, folder: Path) -> Study:
        """Local folders of sources are meant from the study file's own folder."""
        local = {
            name: str(folder / source.url)
            for name, source in self.sources.items()
            if not source.url.startswith(("http://", "https://"))
        }
        return self.with_sources_at(local)

    def with_sources_at(self, urls: Mapping[str, str]) -> Study:
        """Same study with other addresses of its sources."""
        moved = {
            n: s.model_copy(update={"url": urls.get(n, s.url)}) for n, s in self.sources.items()
        }
        return self.model_copy(update={"sources": moved})


class _Lines:
    """Finds the line of a key in the text of a TOML file."""

    def __init__(self, text: str) -> None:
        self.known: dict[tuple[str, ...], int] = {}
        table: tuple[str, ...] = ()
        counts: dict[tuple[str, ...], int] = {}
        for number, line in enumerate(text.splitlines(), start=1):
            head = re.match(r"\s*\[(\[)?\s*([^\]]+?)\s*\]", line)
            key = re.match(r"\s*(\"?[\w .-]+\"?)\s*=", line)
            if head:
                table = tuple(p.strip().strip('"') for p in head[2].split("."))
                if head[1]:
                    counts[table] = counts.get(table, -1) + 1
                    table = (*table, str(counts[table]))
                self.known.setdefault(table, number)
            elif key:
                self.known.setdefault((*table, key[1].strip().strip('"')), number)

    def of(self, place: tuple[Any, ...]) -> int:
        """Line of a place, or of the nearest part of it that stands in the text."""
        parts = tuple(str(p) for p in place)
        for length in range(len(parts), 0, -1):
            if parts[:length] in self.known:
                return self.known[parts[:length]]
        return 1


Fault = tuple[int, str]


def _shape_faults(model: type[BaseModel], said: Mapping[str, Any], lines: _Lines) -> list[Fault]:
    """Faults against the schema: unknown keys, absent ones, wrong kinds of values."""
    try:
        model.model_validate(said)
    except ValidationError as error:
        return [_worded(e, lines) for e in error.errors()]
    return []


def _worded(error: Any, lines: _Lines) -> Fault:
    place = tuple(error["loc"])
    where = ".".join(str(p) for p in place[:-1] if not isinstance(p, int))
    key, line = str(place[-1]), lines.of(place)
    if error["type"] == "extra_forbidden":
        near = difflib.get_close_matches(key, _known_keys(place[:-1]), 1)
        hint = (
            f"; did you mean '{near[0]}'?"
            if near
            else f"; it has: {', '.join(_known_keys(place[:-1]))}."
        )
        return line, f"[{where or 'the file'}] has no key '{key}'{hint}"
    if error["type"] == "missing":
        return line, f"[{where}] lacks '{key}'." if where else f"the section [{key}] is missing."
    if error["type"] == "model_type":
        return line, f"[{'.'.join(str(p) for p in place)}] must be a table of keys, not a value."
    if error["type"] == "value_error":
        return line, str(error["ctx"]["error"])
    return line, f"[{where or 'the file'}] {key} = {error['input']!r}: {error['msg'].lower()}."


def _known_keys(place: tuple[Any, ...]) -> list[str]:
    """Keys that the section at a place may have."""
    model: Any = Study
    for part in place:
        if isinstance(part, int) or not hasattr(model, "model_fields"):
            continue
        if part not in model.model_fields:
            continue
        found = _sections_in(model.model_fields[part].annotation)
        model = found[0] if found else model
    return list(model.model_fields)


def _sections_in(annotation: Any) -> list[Any]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [m for a in getattr(annotation, "__args__", ()) for m in _sections_in(a)]


def _meaning_faults(said: Mapping[str, Any], lines: _Lines) -> list[Fault]:
    """Faults of meaning: names that refer to nothing, words that are no frequency or address."""
    faults = [(lines.of(place), text) for place, text in _reference_faults(said)]
    study = _part(said, "study")
    try:
        Frequency.parse(study.get("frequency", "M"))
    except FrequencyError as error:
        faults.append((lines.of(("study", "frequency")), str(error)))
    for bound in study.get("span") or []:
        if isinstance(bound, str) and bound not in ("earliest", "latest"):
            try:
                parse_period(bound)
            except FrequencyError as error:
                faults.append((lines.of(("study", "span")), str(error)))
    panel = _part(said, "panel")
    if panel.get("conditions") and not study.get("known_by"):
        faults.append(
            (
                lines.of(("panel", "conditions")),
                "conditions need [study] known_by: a duration such as 'P1M', or 'hindsight'.",
            )
        )
    return faults


def _reference_faults(said: Mapping[str, Any]) -> Iterator[tuple[tuple[str, ...], str]]:
    sources, series = _part(said, "sources"), _part(said, "series")
    for place, address in _addresses(said):
        try:
            name = Address.parse(str(address)).source
        except SourceError as error:
            yield place, str(error)
            continue
        if name not in sources:
            yield place, f"'{address}': no source '{name}'{_nearest(name, sources)}"
    for name in _part(said, "panel").get("conditions") or []:
        if name not in series:
            yield ("panel", "conditions"), f"no series '{name}'{_nearest(name, series)}"
    cost = _part(said, "cost_of_equity")
    models = [m for m in said.get("models", []) if isinstance(m, dict)]
    names = [m.get("name", "") for m in models]
    for name, count in Counter(names).items():
        if count > 1:
            yield ("models", str(names.index(name)), "name"), f"{count} models are named '{name}'."
    used = [f for m in models for f in m.get("factors") or []]
    for factor in [
        *_part(cost, "premium"),
        *(_part(said, "panel").get("total_return_factors") or []),
    ]:
        if factor not in used:
            place = (
                ("cost_of_equity", "premium") if factor in _part(cost, "premium") else ("panel",)
            )
            yield place, f"no model has the factor '{factor}'{_nearest(factor, used)}"
    if cost.get("model") and cost["model"] not in names:
        yield (
            ("cost_of_equity", "model"),
            f"no model '{cost['model']}'{_nearest(cost['model'], names)}",
        )
    if cost.get("inflation") and cost["inflation"] not in series:
        wrong = cost["inflation"]
        yield ("cost_of_equity", "inflation"), f"no series '{wrong}'{_nearest(wrong, series)}"


def _addresses(said: Mapping[str, Any]) -> Iterator[tuple[tuple[str, ...], Any]]:
    """Every address in the study, with its place."""
    for name, series in _part(said, "series").items():
        if isinstance(series, dict) and "address" in series:
            yield ("series", name, "address"), series["address"]
    panel = _part(said, "panel")
    for key in (
        "assets",
        "companies",
        "dividends",
        "splits",
        "final_payments",
        "factors",
        "risk_free",
    ):
        if panel.get(key):
            yield ("panel", key), panel[key]
    for address in panel.get("exchange_rates") or []:
        yield ("panel", "exchange_rates"), address
    rate = _part(said, "cost_of_equity").get("risk_free")
    if isinstance(rate, str):
        yield ("cost_of_equity", "risk_free"), rate


def _part(said: Mapping[str, Any], key: str) -> dict[str, Any]:
    found = said.get(key)
    return found if isinstance(found, dict) else {}


def _nearest(word: Any, known: Any) -> str:
    near = difflib.get_close_matches(str(word), list(known), 1)
    if near:
        return f"; did you mean '{near[0]}'?"
    return f"; there are: {', '.join(known) or 'none'}."
