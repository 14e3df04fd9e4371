"""The run of a study: fetch, compute returns, align, estimate, price. Reads from top to bottom."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.series.time_series import TimeSeries
from ultrum.desk.desk import Desk
from ultrum.errors import StudyError
from ultrum.sources.credentials import CredentialStore
from ultrum.sources.limits import HttpPolicy
from ultrum.study import panel_stages, pricing_stages
from ultrum.study.asset_returns import names_of, read_prices
from ultrum.study.result_checks import StudyWarning, check_assets, specifications_run, study_warnings
from ultrum.study.schema import Study, all_series
from ultrum.study.stages import Stages, StageStore
from ultrum.study.study_result import StudyResult
from ultrum.study.validation import in_study_words
from ultrum.vault.journal import Record

if TYPE_CHECKING:
    from ultrum.core.pricing.alpha_and_multiple_tests import JointAlphaTest
    from ultrum.core.pricing.cost_of_equity_result import CostOfEquity
    from ultrum.core.pricing.two_pass_result import TwoPass

Progress = Callable[[str], None]


def run(
    plan: Study,
    *,
    vault: str | os.PathLike[str] | None = None,
    offline: bool = False,
    at: str | None = None,
    keep: bool = True,
    refresh: bool = False,
    progress: Progress | None = None,
    credentials: CredentialStore | str | os.PathLike[str] | None = None,
) -> StudyResult:
    """Run a study; parameters as for :func:`ultrum.run_study`."""
    if refresh and (offline or at):
        raise StudyError("refresh downloads from every source; offline and at download nothing. Use one of them.")
    tell = progress or (lambda _: None)
    sources = {name: source.model_dump(exclude_defaults=True) for name, source in plan.sources.items()}
    policy = HttpPolicy(conditional=not refresh)
    with (
        in_study_words(),
        Desk(
            vault,
            sources=sources,
            offline=offline,
            progress=tell,
            policy=policy,
            keep_readings=True,
            credentials=credentials,
        ) as now,
    ):
        if at is None:
            return run_on(plan, now, tell, keep)
        with now.at(at) as then:
            return run_on(plan, then, tell, keep)


def run_on(plan: Study, desk: Desk, tell: Progress, keep: bool) -> StudyResult:
    """Run a study on a desk with its sources; ``keep`` stores the results of its stages."""
    kept = StageStore.beside(Path(desk.vault.path)) if keep else None
    stages = Stages(plan, desk, tell, kept)
    series = _series(plan, desk, stages)
    prices = stages.do("prices", read_prices, plan, desk)
    asset_returns, returns_warnings = stages.do("returns", panel_stages.returns_of_assets, plan, desk, prices)
    used = dict.fromkeys(f for m in plan.models for f in m.factors if f in series)
    own, rate = {n: series[n] for n in used}, _risk_free(plan, desk, stages)
    factors, decisions = stages.do("factors", panel_stages.factor_table, plan, desk, own, rate)
    conditions = {n: series[n] for n in plan.panel.conditions}
    panel = stages.do("panel", panel_stages.make_panel, plan, desk, asset_returns, factors, conditions, rate)
    models = {
        m.name: stages.do(f"model: {m.name}", panel_stages.betas_of_model, plan, panel, m.name)
        for m in plan.models
    }
    betas = models[plan.model.name]
    company = pricing_stages.company_of(plan, betas)
    checks = stages.do("checks", check_assets, plan, prices, betas)
    premia = stages.do("two-pass", pricing_stages.two_pass_of, plan, panel) if plan.two_pass else None
    cost, abroad = _cost(plan, desk, stages, panel, factors, betas, premia, rate)
    peers = None
    if plan.cost_of_equity and plan.cost_of_equity.peers:
        peers = stages.do("peers", pricing_stages.peers_of, plan, desk, panel, betas)
    inflation = pricing_stages.inflation_at_end(plan, series, panel)
    cost_warnings = [StudyWarning(a, f"{note}.") for a, note in cost.notes.items()] if cost else []
    diagnosis = stages.do("diagnosis", pricing_stages.diagnosis_of, plan, betas) if plan.tests.diagnose else None
    rolling = None
    if plan.tests.rolling_window is not None or "rolling beta" in plan.report.figures:
        rolling = stages.do("rolling betas", pricing_stages.rolling_betas, plan, panel)
    sensitivity = None
    if plan.sensitivity:
        work = pricing_stages.sensitivity_of
        sensitivity = stages.do("sensitivity", work, plan, desk, panel, prices, betas)
    return StudyResult(
        study=plan,
        panel=panel,
        names=names_of(plan, desk),
        series=series,
        models=models,
        cost=cost,
        checks=checks,
        inflation=None if inflation is None else inflation[0],
        inflation_period="" if inflation is None else inflation[1],
        warnings=(
            *_market_model(panel),
            *study_warnings(plan, company, checks, betas),
            *cost_warnings,
            *returns_warnings,
        ),
        joint_alpha=_joint_alphas(plan, stages, panel),
        diagnosis=diagnosis,
        rolling=rolling,
        two_pass=premia,
        peers=peers,
        sensitivity=sensitivity,
        abroad=abroad,
        downloads=tuple(sorted(set(desk.used), key=lambda r: (r.source, r.path))),
        run=_run_hash(plan, desk.used),
        stages=dict(stages.done),
        returns=asset_returns,
        decisions=(*prices.decisions, *decisions),
        store=stages.kept,
        specifications=specifications_run(Path(desk.vault.path), plan, company) if keep else (),
    )


def _market_model(panel: Panel) -> list[StudyWarning]:
    if panel.has_risk_free:
        return []
    text = "there is no risk-free rate; betas are those of the market model on total returns."
    return [StudyWarning("all assets", text)]


def _series(plan: Study, desk: Desk, stages: Stages) -> dict[str, TimeSeries]:
    """Every series of the study, each after those it uses."""
    sections = all_series(plan)
    by_name: dict[str, TimeSeries] = {}
    for name in panel_stages.in_order(sections):
        known = {n: by_name[n] for n in panel_stages.series_inputs(sections[name], sections)}
        by_name[name] = stages.do(f"series: {name}", panel_stages.make_series, plan, desk, name, known)
    return by_name


def _risk_free(plan: Study, desk: Desk, stages: Stages) -> TimeSeries | float | None:
    """The panel's risk-free return, an annual rate, or None."""
    rate = plan.panel.risk_free
    if isinstance(rate, str):
        return stages.do("risk-free return", panel_stages.risk_free_return, plan, desk)
    return rate


def _joint_alphas(plan: Study, stages: Stages, panel: Panel) -> dict[str, JointAlphaTest]:
    tests = {}
    for model in plan.models:
        if model.adjust or not all(panel.metadata[f].is_return for f in model.factors):
            continue  # alphas of adjusted betas, and of factors that are not traded, have no meaning
        for how in plan.tests.joint_alpha:
            name, work = f"{model.name}, {how}", pricing_stages.joint_alphas
            tests[name] = stages.do(f"joint alpha: {name}", work, plan, panel, model.name, how)
    return tests


def _cost(
    plan: Study,
    desk: Desk,
    stages: Stages,
    panel: Panel,
    factors: list[TimeSeries],
    betas: BetaTable,
    premia: TwoPass | None,
    rate: TimeSeries | float | None,
) -> tuple[CostOfEquity | None, CostOfEquity | None]:
    asked = plan.cost_of_equity
    if asked is None:
        return None, None
    premia = premia if "two-pass" in asked.premium.values() else None
    cost = stages.do("cost of equity", pricing_stages.cost_of, plan, desk, panel, factors, betas, premia, rate)
    section = asked.in_currency
    return cost, None if section is None else cost.in_currency(section.code, inflation=section.inflation)


def _run_hash(plan: Study, used: list[Record]) -> str:
    """Identity of a run: the study without its hosts, and the input bytes."""
    content = plan.model_dump(mode="json")
    keys = ("kind", "tables", "snapshots", "queries")
    content["sources"] = {
        name: {key: source[key] for key in keys if source[key]} for name, source in content["sources"].items()
    }
    inputs = sorted({(r.source, r.path, r.checksum) for r in used})
    return hashlib.sha256(repr((content, inputs)).encode()).hexdigest()
