"""The record of a run: its numbers by name, its stages, and their downloads. It holds no clock of its own."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from typing import Any, Final

from ultrum.core.pricing.sensitivity import CHOICES
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
        "study": _study_of(result),
        "specifications": list(result.specifications),
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


def _study_of(result: StudyResult) -> dict[str, Any]:
    """The study without the addresses of its sources, which are those of one machine."""
    content = result.study.model_dump(mode="json", exclude_defaults=True)
    sources = content["sources"].items()
    content["sources"] = {n: {k: v for k, v in s.items() if k != "url"} for n, s in sources}
    return content


def answer_of(facts: Mapping[str, Any]) -> str:
    """The number that answers a run: the cost of equity of its company, else its first beta.

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


def _taken(record: Record, mixed: bool) -> dict[str, Any]:
    """Facts of a download; among others, those of an imported one are marked."""
    imported = {"imported": True} if record.imported and mixed else {}
    return {k: getattr(record, k) for k in _FACTS} | imported


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
    """Every number of a result that has a name, with the name."""
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
    for name, series in result.series.items():
        valid = series.values.dropna()
        if len(valid):
            yield f"series.{name}", float(valid.iloc[-1])


def _costs(result: StudyResult) -> Iterator[tuple[str, float]]:
    """Costs of equity with their errors and intervals, premia, the rate, and inflation."""
    cost = result.cost
    if cost is None:
        return
    bounds = cost.interval(result.study.report.level)
    by_asset = {
        "cost_of_equity": cost.value, "cost_of_equity_error": cost.standard_error,
        "cost_of_equity_low": bounds["low"], "cost_of_equity_high": bounds["high"],
    }  # fmt: skip
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
    """Statistics and p values of tests, and the betas of the last moving window."""
    for name, test in result.joint_alpha.items():
        yield f"joint_alpha.{name}.statistic", float(test.statistic)
        yield f"joint_alpha.{name}.p", float(test.p_value)
    for finding in result.diagnosis.findings if result.diagnosis is not None else ():
        yield f"diagnosis.{finding.test}.p", float(finding.p_value)
    for asset, p_value in result.checks["break_p"].items():
        yield f"break_p.{asset}", float(p_value)
    if result.rolling is not None:
        last, errors = (result.rolling.frame(f).iloc[-1] for f in ("coefficients", "standard_errors"))
        for asset in map(str, last.index):
            yield f"rolling.{asset}", float(last[asset])
            yield f"rolling.{asset}.error", float(errors[asset])
