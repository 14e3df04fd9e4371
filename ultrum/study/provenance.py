"""Provenance: from a number of a study to the source bytes, and the record of a run."""

from __future__ import annotations

import difflib
import json
import math
import os
import re
import shlex
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Final, NotRequired, TypedDict, cast

from ultrum.core.arguments import validate_arguments
from ultrum.core.presentation import TextInNotebooks, significant
from ultrum.core.pricing.sensitivity import CHOICES
from ultrum.errors import StudyError, reason
from ultrum.file_access import json_of, path_of, read_regular
from ultrum.study.pricing_stages import Comparisons
from ultrum.study.run import StudyResult
from ultrum.vault.journal_and_payload_files import Record


class DownloadRecord(TypedDict):
    """A download in the record of a run."""

    source: str
    path: str
    checksum: str
    retrieved: str
    size: int
    imported: NotRequired[bool]


class StageRecord(TypedDict):
    """A stage in the record of a run."""

    name: str
    settings: object
    needs: list[str]
    gives: str
    takes: list[DownloadRecord]


class RunRecord(TypedDict, total=False):
    """The record of a run, as written to ``run.json``."""

    form: str
    run: str
    title: str
    file: str
    company: str
    study: dict[str, object]
    specifications: list[str]
    numbers: dict[str, float]
    stages: list[StageRecord]


FORM: Final = "ultrum run 1"


def run_facts(result: StudyResult) -> RunRecord:
    """Numbers, stages and downloads of a study's result, as plain data.

    A run from an archive alone reproduces the original run byte for byte; imported downloads among others are
    marked.
    """
    mixed = not all(r.imported for s in result.stages.values() for r in s.downloads)
    return {
        "form": FORM,
        "run": result.run,
        "title": result.study.study.title,
        "file": result.study.file_name,
        "company": result.company,
        "study": _study_of(result),
        "specifications": list(result.specifications),
        "numbers": {name: value for name, value in _numbers(result) if math.isfinite(value)},
        "stages": [
            {
                "name": s.name,
                "settings": dict(s.settings),
                "needs": list(s.needs),
                "gives": s.state,
                "takes": [_taken(r, mixed) for r in s.downloads],
            }
            for s in result.stages.values()
        ],
    }


def _study_of(result: StudyResult) -> dict[str, object]:
    """The study without the addresses of its sources, which differ between machines."""
    content = result.study.model_dump(mode="json", exclude_defaults=True)
    sources = content["sources"].items()
    content["sources"] = {n: {k: v for k, v in s.items() if k != "url"} for n, s in sources}
    return content


def answer_of(facts: RunRecord) -> str:
    """The answer of a run: the cost of equity of its company, otherwise its first beta.

    Examples
    --------
    >>> names = ["models.m.B.market", "models.m.A.constant", "models.m.A.market.error", "models.m.A.market"]
    >>> answer_of({"company": "A", "numbers": dict.fromkeys(names, 0.0)})
    'models.m.A.market'
    """
    company = facts["company"]
    if f"cost_of_equity.{company}" in facts["numbers"]:
        return f"cost_of_equity.{company}"
    betas = [
        n
        for n in facts["numbers"]
        if n.startswith("models.") and f".{company}." in n and not n.endswith((".error", ".constant"))
    ]
    return betas[0] if betas else f"cost_of_equity.{company}"


def _taken(record: Record, mixed: bool) -> DownloadRecord:
    """Facts of a download; imported ones are marked."""
    taken: DownloadRecord = {
        "source": record.source,
        "path": record.path,
        "checksum": record.checksum,
        "retrieved": record.retrieved,
        "size": record.size,
    }
    return {**taken, "imported": True} if record.imported and mixed else taken


def run_file(result: StudyResult) -> str:
    """The text of ``run.json``."""
    return json.dumps(run_facts(result), indent=1, ensure_ascii=False, default=str) + "\n"


def error_of(number: str) -> str:
    """Name of the standard error of a number."""
    first, _, rest = number.partition(".")
    if first in ("cost_of_equity", "cost_of_equity_low", "cost_of_equity_high", "cost_abroad"):
        return f"cost_of_equity_error.{rest}"
    return f"{number}.error"


def _numbers(result: StudyResult) -> Iterator[tuple[str, float]]:
    """Every named number of a result."""
    yield from _costs(result)
    for name, table in result.models.items():
        values, errors = table.coefficients.to_numpy(), table.standard_errors.to_numpy()
        for row, asset in enumerate(table.assets):
            for column, term in enumerate(table.coefficients):
                yield f"models.{name}.{asset}.{term}", float(values[row, column])
                yield f"models.{name}.{asset}.{term}.error", float(errors[row, column])
    yield from _tests(result)
    if result.two_pass is not None:
        for term, value in result.two_pass.premia.items():
            yield f"two_pass.{term}", float(value)
        for term, error in result.two_pass.standard_errors.items():
            yield f"two_pass.{term}.error", float(error)
    if result.peers is not None:
        yield "peers.beta", float(result.peers.beta)
        yield "peers.beta.error", float(result.peers.standard_error)
        yield "peers.asset_beta", float(result.peers.asset_beta)
        yield "peers.asset_beta.error", float(result.peers.asset_error)
    if result.sensitivity is not None:
        grid = result.sensitivity.table
        choices = grid[list(CHOICES)].astype(str).agg(".".join, axis=1)
        for choice, beta, error in zip(choices, grid["beta"], grid["error"], strict=True):
            yield f"sensitivity.{choice}", float(beta)
            yield f"sensitivity.{choice}.error", float(error)
    yield from _compared(result.comparisons)
    for name, series in result.series.items():
        valid = series.values.dropna()
        if len(valid):
            yield f"series.{name}", float(valid.iloc[-1])


def _compared(made: Comparisons) -> Iterator[tuple[str, float]]:
    """Numbers of the sections that compare."""
    if made.models is not None:
        for name, row in made.models.models.drop(columns="factors").iterrows():
            yield from ((f"model_comparison.{name}.{column}", float(value)) for column, value in row.items())
    if made.betas is not None:
        for name, value in made.betas.table["mse"].items():
            yield f"beta_forecasts.{name}", float(value)
    for kind, costs in (("hierarchical", made.hierarchical), ("implied", made.implied)):
        if costs is not None:
            for (name, value), error in zip(costs.value.items(), costs.standard_error, strict=True):
                yield f"{kind}_cost.{name}", float(value)
                yield f"{kind}_cost.{name}.error", float(error)


def _costs(result: StudyResult) -> Iterator[tuple[str, float]]:
    """Costs of equity with standard errors and intervals, premia, the risk-free rate, and inflation."""
    cost = result.cost
    if cost is None:
        return
    bounds = cost.interval(result.study.report.level)
    by_asset = {
        "cost_of_equity": cost.value,
        "cost_of_equity_error": cost.standard_error,
        "cost_of_equity_low": bounds["low"],
        "cost_of_equity_high": bounds["high"],
    }
    if result.abroad is not None:
        by_asset["cost_abroad"] = result.abroad.value
    for kind, numbers in by_asset.items():
        for asset, value in numbers.items():
            yield f"{kind}.{asset}", float(value)
    yield "risk_free", float(cost.risk_free)
    parts = cost.parts.loc[result.company]
    for column, ending in (("premium", ""), ("premium_error", ".error")):
        for name, value in parts[column].items():
            yield f"premium.{name}{ending}", float(value)
    if result.inflation is not None:
        yield "inflation", result.inflation


def _tests(result: StudyResult) -> Iterator[tuple[str, float]]:
    """Statistics and p values of tests, and the betas of the last rolling window."""
    for name, test in result.joint_alpha.items():
        yield f"joint_alpha.{name}.statistic", float(test.statistic)
        yield f"joint_alpha.{name}.p", float(test.p_value)
    for finding in result.diagnosis.findings if result.diagnosis is not None else ():
        yield f"diagnosis.{finding.key}.p", float(finding.p_value)
    for asset, p_value in result.checks["break_p"].items():
        yield f"break_p.{asset}", float(p_value)
    if result.rolling is not None:
        last, errors = (result.rolling.frame(f).iloc[-1] for f in ("coefficients", "standard_errors"))
        for asset in map(str, last.index):
            yield f"rolling.{asset}", float(last[asset])
            yield f"rolling.{asset}.error", float(errors[asset])


# Provenance: from a number of a study to the bytes it rests on

_RECORD: Final = "Pass the run.json in the folder of its results."
_LISTED: Final = 8  # names in a message
_STAGES: Final = {
    "model_comparison": "model comparison",
    "beta_forecasts": "beta forecasts",
    "hierarchical_cost": "hierarchical costs",
    "implied_cost": "implied costs",
    **dict.fromkeys(
        (
            "cost_of_equity",
            "cost_of_equity_error",
            "cost_of_equity_low",
            "cost_of_equity_high",
            "cost_abroad",
            "risk_free",
            "premium",
            "inflation",
        ),
        "cost of equity",
    ),
    "two_pass": "two-pass",
    "rolling": "rolling betas",
    "break_p": "checks",
}


@validate_arguments
def trail(result: StudyResult | str | os.PathLike[str], number: str) -> Trail:
    """Trace a number of a study to the downloaded bytes.

    Parameters
    ----------
    result : StudyResult, or path
        A result, or the folder (or ``run.json``) of a run.
    number : str
        Such as ``cost_of_equity.BRTW``, ``models.one factor.BRTW.market`` or ``series.inflation``; or a printed
        value, ``6.22`` or ``6.22 %``.

    Returns
    -------
    Trail
        Stages, downloads, times and checksums.

    Raises
    ------
    StudyError
        If the run has no such number; the closest ones are listed.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> study = ul.Study.load(ul.practice.demo_study())
    >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
    ...     made = ul.run_study(study.with_sources_at(service.places), vault=folder)
    >>> found = trail(made, "cost_of_equity.BRTW")
    >>> [part.name for part in found.parts[0].parts][:3]
    ['panel', 'factors', 'model: one factor']
    """
    facts = run_facts(result) if isinstance(result, StudyResult) else read_run(result)
    numbers = facts["numbers"]
    if number not in numbers:
        named = numbers_printing(numbers, number)
        if len(named) == 1:
            return trail_of(facts, named[0])
        if named:
            more = f" and {len(named) - _LISTED} more" if len(named) > _LISTED else ""
            raise StudyError(
                f"{len(named)} numbers print as {number}: {', '.join(named[:_LISTED])}{more}. "
                "Write the name of one of them."
            )
        near = difflib.get_close_matches(number, list(numbers), 3)
        hint = f"the nearest are: {', '.join(near)}" if near else f"such as {next(iter(numbers))}"
        raise StudyError(f"The run has no number '{number}'; {hint}.")
    return trail_of(facts, number)


def numbers_printing(numbers: Mapping[str, float], text: str) -> list[str]:
    """Names of the numbers that print as this text, in decimals or in percent, to the same number of places.

    Examples
    --------
    >>> numbers_printing({"beta": 0.56425, "cost": 0.0622}, "6.22 %")
    ['cost']
    >>> numbers_printing({"beta": 0.56425, "cost": 0.0622}, "0.564")
    ['beta']
    """
    match = re.fullmatch(r"\s*([-−]?\d+(?:\.(\d+))?)\s*(%?)\s*", text)
    if not match:
        return []
    wanted, places = match[1].replace("−", "-"), len(match[2] or "")
    scales = (100.0,) if match[3] else (1.0, 100.0)
    return [
        name
        for name, value in numbers.items()
        if any(f"{scale * value:.{places}f}" == wanted for scale in scales)
    ]


def read_run(path: str | os.PathLike[str]) -> RunRecord:
    """The record of a run."""
    file = path_of(path)
    file = file / "run.json" if file.is_dir() else file
    try:
        return run_from(read_regular(file).decode("utf-8"), str(file))
    except (OSError, UnicodeDecodeError) as error:
        raise StudyError(f"{file} is not the record of a run: {reason(error)}. {_RECORD}") from error


def run_from(text: str, place: str) -> RunRecord:
    """The record of a run, from its text; ``place`` is for messages."""
    try:
        content = json_of(text)
    except ValueError as error:
        raise StudyError(f"{place} is not the record of a run: {reason(error)}. {_RECORD}") from error
    if not isinstance(content, dict) or content.get("form") != FORM:
        raise StudyError(f"{place} is not the record of a run. {_RECORD}")
    return cast("RunRecord", content)


def stage_of(number: str) -> str:
    """The stage behind a number."""
    first, _, rest = number.partition(".")
    if first in ("models", "series"):
        return f"model: {rest.split('.')[0]}" if first == "models" else f"series: {rest}"
    if first == "joint_alpha":
        return f"joint alpha: {rest.rpartition('.')[0]}"
    return _STAGES.get(first, first)


@dataclass(frozen=True, repr=False)
class Trail(TextInNotebooks):
    """Origin of a number.

    Attributes
    ----------
    name : str
        The number, a stage or a download.
    value : float or None
    settings : mapping
        Settings of the stage.
    gives : str
        Checksum of the result of a stage, or of the bytes of a download.
    retrieved : str
        Time of a download.
    imported : bool
        Whether a download was imported from an archive.
    parts : tuple of Trail
        What it rests on.
    command : str
        Command that reproduces it, for the first only.
    """

    name: str
    value: float | None = None
    settings: object = None
    gives: str = ""
    retrieved: str = ""
    parts: tuple[Trail, ...] = ()
    command: str = ""
    imported: bool = False

    def downloads(self) -> list[Trail]:
        """Every download under it, once."""
        own_download = [self] if self.retrieved else []
        all_downloads = [*own_download, *(d for part in self.parts for d in part.downloads())]
        return list({(d.name, d.gives): d for d in all_downloads}.values())

    def to_dict(self) -> dict[str, object]:
        """As plain data."""
        facts = {
            "name": self.name,
            "value": self.value,
            "settings": self.settings,
            "gives": self.gives,
            "retrieved": self.retrieved,
            "command": self.command,
            "imported": self.imported or None,
        }
        kept = {k: v for k, v in facts.items() if v not in (None, "", [], {})}
        return kept | ({"parts": [p.to_dict() for p in self.parts]} if self.parts else {})

    def lines(self) -> Iterator[str]:
        """The tree, one node per line; a repeated stage is only named."""
        yield self.name if self.value is None else f"{self.name} = {significant(self.value)}"
        met: set[str] = set()
        for place, part in enumerate(self.parts):
            yield from part._branch("", place == len(self.parts) - 1, met)
        if self.command:
            yield f"to reproduce it: {self.command}"

    def _branch(self, lead: str, last: bool, met: set[str]) -> Iterator[str]:
        when = f"  {self.retrieved[:19]}" if self.retrieved else ""
        when += "  imported from an archive" if self.imported else ""
        again = "  (as above)" if self.name in met and self.parts else ""
        yield f"{lead}{'└ ' if last else '├ '}{self.name}  {self.gives[:12]}{when}{again}"
        if again:
            return
        met.add(self.name)
        for place, part in enumerate(self.parts):
            yield from part._branch(lead + ("  " if last else "│ "), place == len(self.parts) - 1, met)

    def __repr__(self) -> str:
        return "\n".join(self.lines())


def trail_of(facts: RunRecord, number: str) -> Trail:
    """Inputs of a number of a run."""
    stages = {s["name"]: s for s in facts["stages"]}
    root = stage_trail(stages, stage_of(number))
    newest = max((d.retrieved for d in root.downloads()), default="")
    file = shlex.quote(str(facts.get("file") or "STUDY.toml"))
    command = f"ultrum run {file} --at {newest}" if newest else f"ultrum run {file}"
    return Trail(number, value=facts["numbers"].get(number), parts=(root,), command=command)


def stage_trail(stages: Mapping[str, StageRecord], name: str) -> Trail:
    """Inputs of a stage."""
    stage = stages.get(name)
    if stage is None:
        return Trail(name)
    takes = tuple(
        Trail(
            f"{d['source']}:{d['path']}",
            gives=d["checksum"],
            retrieved=d["retrieved"],
            imported=bool(d.get("imported")),
        )
        for d in stage["takes"]
    )
    needs = tuple(stage_trail(stages, n) for n in stage["needs"])
    return Trail(name, settings=stage["settings"], gives=stage["gives"], parts=(*needs, *takes))
