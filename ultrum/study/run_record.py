"""The record of a run: its numbers by name, its stages, and their downloads. It holds no clock of its own."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from typing import Any, Final

from ultrum.study.study_result import StudyResult
from ultrum.vault import Record

FORM: Final = "ultrum run 1"
_FACTS: Final = ("source", "path", "checksum", "retrieved", "size")


def run_facts(result: StudyResult) -> dict[str, Any]:
    """Numbers, stages and downloads of a study's result, as plain data.

    A run that rests on an archive alone repeats the run that made it, byte for byte; where only some
    downloads came out of an archive, they are marked.
    """
    mixed = not all(r.imported for s in result.stages.values() for r in s.downloads)
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
                "takes": [_taken(r, mixed) for r in s.downloads],
            }
            for s in result.stages.values()
        ],
    }


def answer_of(facts: Mapping[str, Any]) -> str:
    """The number that answers a run: the cost of equity of its company, else its first beta."""
    company = facts["company"]
    if f"cost_of_equity.{company}" in facts["numbers"]:
        return f"cost_of_equity.{company}"
    betas = [
        n
        for n in facts["numbers"]
        if n.startswith("models.")
        and f".{company}." in n
        and not n.endswith((".error", ".constant"))
    ]
    return betas[0] if betas else f"cost_of_equity.{company}"


def _taken(record: Record, mixed: bool) -> dict[str, Any]:
    """Facts of a download; among others, those of an imported one are marked."""
    imported = {"imported": True} if record.imported and mixed else {}
    return {k: getattr(record, k) for k in _FACTS} | imported


def run_file(result: StudyResult) -> str:
    """The text of ``run.json``."""
    return json.dumps(run_facts(result), indent=1, ensure_ascii=False, default=str) + "\n"


def _numbers(result: StudyResult) -> Iterator[tuple[str, float]]:
    """Every number of a result that has a name, with the name."""
    if result.cost is not None:
        for asset in map(str, result.cost.value.index):
            yield f"cost_of_equity.{asset}", float(result.cost.value[asset])
            yield f"cost_of_equity_error.{asset}", float(result.cost.standard_error[asset])
        yield "risk_free", float(result.cost.risk_free)
    for name, table in result.models.items():
        values, errors = table.coefficients.to_numpy(), table.standard_errors.to_numpy()
        for row, asset in enumerate(table.assets):
            for column, term in enumerate(table.coefficients):
                yield f"models.{name}.{asset}.{term}", float(values[row, column])
                yield f"models.{name}.{asset}.{term}.error", float(errors[row, column])
    if result.two_pass is not None:
        for term, value in result.two_pass.premia.items():
            yield f"two_pass.{term}", float(value)
    if result.peers is not None:
        yield "peers.beta", float(result.peers.beta)
        yield "peers.asset_beta", float(result.peers.asset_beta)
    for name, series in result.series.items():
        valid = series.values.dropna()
        if len(valid):
            yield f"series.{name}", float(valid.iloc[-1])
