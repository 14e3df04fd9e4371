"""What a run was: its numbers by name, its stages, and the deliveries under them. Holds no clock of its own."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Final

from ultrum.core.series.labels import TextInNotebooks

FORM: Final = "ultrum run 1"
_FACTS: Final = ("source", "path", "checksum", "retrieved", "size")


def run_facts(result: Any) -> dict[str, Any]:
    """Numbers, stages and deliveries of a study's result, as plain data.

    A run that rests on an archive alone repeats the run that made it, byte for byte; where only some
    deliveries came out of an archive, they are marked.
    """
    mixed = not all(r.imported for s in result.stages.values() for r in s.deliveries)
    return {
        "form": FORM,
        "run": result.run,
        "title": result.study.study.title,
        "company": result.company,
        "numbers": {name: value for name, value in _numbers(result) if math.isfinite(value)},
        "stages": [
            {
                "name": s.name,
                "settings": s.settings,
                "needs": list(s.needs),
                "gives": s.state,
                "takes": [_taken(r, mixed) for r in s.deliveries],
            }
            for s in result.stages.values()
        ],
    }


def _taken(record: Any, mixed: bool) -> dict[str, Any]:
    """Facts of a delivery; among others, those of one that came out of an archive say so."""
    imported = {"imported": True} if record.imported and mixed else {}
    return {k: getattr(record, k) for k in _FACTS} | imported


def run_file(result: Any) -> str:
    """The text of ``run.json``."""
    return json.dumps(run_facts(result), indent=1, ensure_ascii=False, default=str) + "\n"


def _numbers(result: Any) -> Iterator[tuple[str, float]]:
    """Every number of a result that has a name, with the name."""
    for asset, value in result.cost.value.items():
        yield f"cost_of_equity.{asset}", float(value)
        yield f"cost_of_equity_error.{asset}", float(result.cost.standard_error[asset])
    yield "risk_free", float(result.cost.risk_free)
    for name, table in result.models.items():
        errors = table.standard_errors
        for asset in table.assets:
            for term in table.coefficients:
                yield f"models.{name}.{asset}.{term}", float(table.coefficients.loc[asset, term])
                yield f"models.{name}.{asset}.{term}.error", float(errors.loc[asset, term])
    if result.two_pass is not None:
        for term, value in result.two_pass.premia.items():
            yield f"two_pass.{term}", float(value)
    if result.peers is not None:
        yield "peers.beta", float(result.peers.beta)
        yield "peers.asset_beta", float(result.peers.asset_beta)
    for name, series in result.series.items():
        known = series.values.dropna()
        if len(known):
            yield f"series.{name}", float(known.iloc[-1])


def stage_of(number: str) -> str:
    """The stage that a number comes out of."""
    first, _, rest = number.partition(".")
    if first in ("cost_of_equity", "cost_of_equity_error", "risk_free"):
        return "cost of equity"
    if first == "models":
        return f"model: {rest.split('.')[0]}"
    if first == "series":
        return f"series: {rest}"
    return {"two_pass": "two-pass", "peers": "peers", "sensitivity": "sensitivity"}.get(
        first, first
    )


@dataclass(frozen=True, repr=False)
class Trail(TextInNotebooks):
    """Where a number came from.

    Attributes
    ----------
    name : str
        The number, a stage or a delivery.
    value : float or None
    settings : Any
        What the study says of the stage.
    gives : str
        Checksum of what the stage gave, or of the bytes of a delivery.
    retrieved : str
        When a delivery came.
    imported : bool
        Whether a delivery came out of an archive, not from its source.
    parts : tuple of Trail
        What it rests on.
    command : str
        What reproduces it, for the first only.
    """

    name: str
    value: float | None = None
    settings: Any = None
    gives: str = ""
    retrieved: str = ""
    parts: tuple[Trail, ...] = ()
    command: str = ""
    imported: bool = False

    def deliveries(self) -> list[Trail]:
        """Every delivery under it, once."""
        own = [self] if self.retrieved else []
        found = [*own, *(d for part in self.parts for d in part.deliveries())]
        return list({(d.name, d.gives): d for d in found}.values())

    def to_dict(self) -> dict[str, Any]:
        """As plain data."""
        said = {"name": self.name, "value": self.value, "settings": self.settings, "gives": self.gives,
                "retrieved": self.retrieved, "command": self.command,
                "imported": self.imported or None}  # fmt: skip
        kept = {k: v for k, v in said.items() if v not in (None, "", [], {})}
        return kept | ({"parts": [p.to_dict() for p in self.parts]} if self.parts else {})

    def lines(self) -> Iterator[str]:
        """The tree, a line each; a stage met before is only named again."""
        yield self.name if self.value is None else f"{self.name} = {self.value:.6g}"
        met: set[str] = set()
        for place, part in enumerate(self.parts):
            yield from part._branch("", place == len(self.parts) - 1, met)
        if self.command:
            yield f"to make it again: {self.command}"

    def _branch(self, lead: str, last: bool, met: set[str]) -> Iterator[str]:
        when = f"  {self.retrieved[:19]}" if self.retrieved else ""
        when += "  imported from an archive" if self.imported else ""
        again = "  (as above)" if self.name in met and self.parts else ""
        yield f"{lead}{'└ ' if last else '├ '}{self.name}  {self.gives[:12]}{when}{again}"
        if again:
            return
        met.add(self.name)
        for place, part in enumerate(self.parts):
            yield from part._branch(
                lead + ("  " if last else "│ "), place == len(self.parts) - 1, met
            )

    def __repr__(self) -> str:
        return "\n".join(self.lines())


def trail_of(facts: Mapping[str, Any], number: str) -> Trail:
    """What a number of a run rests on."""
    stages = {s["name"]: s for s in facts["stages"]}
    root = stage_trail(stages, stage_of(number))
    newest = max((d.retrieved for d in root.deliveries()), default="")
    command = f"ultrum run STUDY.toml --at {newest}" if newest else "ultrum run STUDY.toml"
    return Trail(number, value=facts["numbers"].get(number), parts=(root,), command=command)


def stage_trail(stages: Mapping[str, Any], name: str) -> Trail:
    """What a stage rests on."""
    said = stages.get(name)
    if said is None:
        return Trail(name)
    takes = tuple(
        Trail(
            f"{d['source']}:{d['path']}",
            gives=d["checksum"],
            retrieved=d["retrieved"],
            imported=bool(d.get("imported")),
        )
        for d in said["takes"]
    )
    needs = tuple(stage_trail(stages, n) for n in said["needs"])
    return Trail(name, settings=said["settings"], gives=said["gives"], parts=(*needs, *takes))
