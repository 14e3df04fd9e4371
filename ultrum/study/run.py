"""The run of a study: fetch, compute returns, align, estimate, price. Reads from top to bottom."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.pricing.factor_betas_and_shrinkage import factor_betas, shrink_betas
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.desk.desk import Desk
from ultrum.errors import StudyError, one_of
from ultrum.sources.credentials import CredentialStore
from ultrum.sources.limits import HttpPolicy
from ultrum.sources.table.price_and_event_columns import PriceTable
from ultrum.sources.table.reading_result import Decision
from ultrum.study import panel_stages, pricing_stages
from ultrum.study.asset_returns import names_of, read_prices, records_at, total_returns
from ultrum.study.result_checks import StudyWarning, check_assets, specifications_run, study_warnings
from ultrum.study.schema import Study, all_series
from ultrum.study.stages import Stages, StageStore
from ultrum.study.study_result import StudyResult
from ultrum.study.validation import in_study_words
from ultrum.vault.journal import Record

if TYPE_CHECKING:
    from ultrum.core.pricing.alpha_and_multiple_tests import JointAlphaTest
    from ultrum.core.pricing.cost_of_equity_result import CostOfEquity
    from ultrum.core.pricing.peers_and_leverage import PeerBeta
    from ultrum.core.pricing.sensitivity import BetaSensitivity
    from ultrum.core.pricing.two_pass_result import TwoPass
    from ultrum.core.regression.diagnostics import Diagnosis
    from ultrum.core.regression.rolling_regression import RollingFit

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


def run_on(
    plan: Study,
    desk: Desk,
    tell: Progress,
    keep: bool,
) -> StudyResult:
    """Run a study on a desk with its sources; ``keep`` stores the results of its stages."""
    kept = StageStore.beside(Path(desk.vault.path)) if keep else None
    stages = Stages(desk, tell, kept)
    series = _series(plan, desk, stages)
    prices: PriceTable = stages.do(
        "prices", plan.panel.model_dump(mode="json"), [], lambda: read_prices(plan, desk)
    )
    asset_returns, returns_warnings = _returns(plan, desk, stages, prices)
    factors, decisions = _factors(plan, desk, stages, series)
    panel = _panel(plan, desk, stages, asset_returns, factors, series)
    models = _models(plan, stages, panel)
    betas = models[plan.model.name]
    company = plan.asset or betas.assets[0]
    if company not in betas.assets:
        raise StudyError(f"No asset '{company}' in the panel; {one_of(company, betas.assets)}")
    wanted = f"model: {plan.model.name}"
    checks = stages.do("checks", plan.tests.breaks, ["prices", wanted], lambda: check_assets(plan, prices, betas))
    premia = _two_pass(plan, stages, panel)
    cost, abroad = _cost(plan, desk, stages, panel, factors, betas, premia)
    peers = _peers(plan, desk, stages, panel, betas)
    inflation = pricing_stages.inflation_at_end(plan, series, panel)
    cost_warnings = [StudyWarning(a, f"{note}.") for a, note in cost.notes.items()] if cost else []
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
        diagnosis=_diagnosis(plan, stages, company, betas),
        rolling=_rolling(plan, stages, panel),
        two_pass=premia,
        peers=peers,
        sensitivity=_sensitivity(plan, desk, stages, panel, prices, company),
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

    def _find(name: str) -> TimeSeries:
        return by_name[name] if name in by_name else desk.fetch(name)

    for name in panel_stages.in_order(sections):
        section = sections[name]
        needs = [f"series: {n}" for n in panel_stages.series_inputs(section, sections)]
        settings = [section.model_dump(mode="json"), plan.study.frequency]
        work = partial(panel_stages.make_series, plan, desk, name, section, _find)
        by_name[name] = stages.do(f"series: {name}", settings, needs, work)
    return by_name


def _returns(
    plan: Study, desk: Desk, stages: Stages, prices: PriceTable
) -> tuple[SeriesTable, list[StudyWarning]]:
    """Total returns of every asset and portfolio, with warnings."""

    def _work() -> tuple[SeriesTable, list[StudyWarning]]:
        warnings: list[StudyWarning] = []
        asset_returns = total_returns(plan, desk, prices, warnings)
        asset_returns = panel_stages.with_portfolios(plan, asset_returns, records_at(desk, plan.panel.companies))
        return panel_stages.limit_assets(plan, asset_returns), warnings

    settings = [plan.study.frequency, plan.study.currency, plan.panel.model_dump(mode="json")]
    folios = {n: p.model_dump(mode="json") for n, p in plan.portfolios.items()}
    result: tuple[SeriesTable, list[StudyWarning]] = stages.do("returns", [*settings, folios], ["prices"], _work)
    return result


def _panel(
    plan: Study,
    desk: Desk,
    stages: Stages,
    asset_returns: SeriesTable,
    factors: list[TimeSeries],
    series: dict[str, TimeSeries],
) -> Panel:
    """Panel of returns, the factors used by models, and the conditioning variables."""
    needs = ["returns", "factors", *(f"series: {n}" for n in plan.panel.conditions)]

    def _work() -> Panel:
        risk_free = panel_stages.panel_rate(plan, desk)
        conditions = [series[n].with_metadata(name=n) for n in plan.panel.conditions]
        known_by = panel_stages.release_rules(plan, desk)
        return panel_stages.make_panel(plan, asset_returns, factors, risk_free, conditions, known_by)

    wanted = [m.factors for m in plan.models]
    settings = [plan.study.model_dump(mode="json"), plan.panel.model_dump(mode="json"), wanted]
    panel: Panel = stages.do("panel", settings, needs, _work)
    return panel


def _factors(
    plan: Study, desk: Desk, stages: Stages, series: dict[str, TimeSeries]
) -> tuple[list[TimeSeries], tuple[Decision, ...]]:
    """Every factor used by a model, over its full span, and the decisions about their file."""
    used = [f for m in plan.models for f in m.factors if f in series]
    own_series = {n: series[n] for n in dict.fromkeys(used)}

    def _work() -> tuple[list[TimeSeries], tuple[Decision, ...]]:
        return panel_stages.factor_table(plan, desk, own_series)

    settings = [
        plan.study.frequency,
        plan.panel.model_dump(mode="json"),
        [m.factors for m in plan.models],
    ]
    factors: tuple[list[TimeSeries], tuple[Decision, ...]] = stages.do(
        "factors", settings, [f"series: {n}" for n in own_series], _work
    )
    return factors


def _models(plan: Study, stages: Stages, panel: Panel) -> dict[str, BetaTable]:
    tables = {}
    for model in plan.models:

        def _work(m: Any = model) -> BetaTable:
            table = factor_betas(panel, m.factors, errors=m.errors, lags=m.lags)
            single = [a for a in table.assets if a not in plan.portfolios]
            return shrink_betas(table, how=m.adjust, among=single) if m.adjust else table

        tables[model.name] = stages.do(f"model: {model.name}", model.model_dump(mode="json"), ["panel"], _work)
    return tables


def _joint_alphas(plan: Study, stages: Stages, panel: Panel) -> dict[str, JointAlphaTest]:
    from ultrum.core.pricing.alpha_and_multiple_tests import joint_alpha_test

    tests = {}
    panel = panel_stages.without_portfolios(plan, panel)  # they are combinations of the others
    for model in plan.models:
        if model.adjust or not all(panel.metadata[f].is_return for f in model.factors):
            continue  # alphas of adjusted betas, and of factors that are not traded, have no meaning
        for how in plan.tests.joint_alpha:
            name = f"{model.name}, {how}"
            work = partial(joint_alpha_test, panel, model.factors, how=how)
            tests[name] = stages.do(f"joint alpha: {name}", model.factors, ["panel"], work)
    return tests


def _diagnosis(plan: Study, stages: Stages, company: str, betas: BetaTable) -> Diagnosis | None:
    if not plan.tests.diagnose:
        return None
    from ultrum.core.regression.diagnostics import diagnose

    diagnosis: Diagnosis = stages.do(
        "diagnosis", company, [f"model: {plan.model.name}"], lambda: diagnose(betas.fit(company))
    )
    return diagnosis


def _rolling(plan: Study, stages: Stages, panel: Panel) -> RollingFit | None:
    window = plan.tests.rolling_window
    if window is None and "rolling beta" not in plan.report.figures:
        return None
    from ultrum.core.regression.rolling_regression import rolling_regress

    model = plan.model
    betas: RollingFit = stages.do(
        "rolling betas",
        [window, model.factors, model.errors],
        ["panel"],
        lambda: rolling_regress(
            panel.excess, panel.factor_table.select(model.factors), window=window or 60, errors=model.errors
        ),
    )
    return betas


def _two_pass(plan: Study, stages: Stages, panel: Panel) -> TwoPass | None:
    section = plan.two_pass
    if section is None:
        return None
    from ultrum.core.pricing.two_pass import two_pass

    factors = section.factors or list(dict.fromkeys(f for m in plan.models for f in m.factors))
    work = partial(
        two_pass,
        panel_stages.without_portfolios(plan, panel),
        factors,
        beta_sample=section.beta_sample,
        window=section.window,
        draws=section.draws,
    )
    premia: TwoPass = stages.do("two-pass", section.model_dump(mode="json"), ["panel"], work)
    return premia


def _cost(
    plan: Study,
    desk: Desk,
    stages: Stages,
    panel: Panel,
    factors: list[TimeSeries],
    betas: BetaTable,
    premia: TwoPass | None,
) -> tuple[CostOfEquity | None, CostOfEquity | None]:
    asked = plan.cost_of_equity
    if asked is None:
        return None, None
    needs = ["panel", "factors", f"model: {plan.model.name}"]
    needs += ["two-pass"] if "two-pass" in asked.premium.values() else []
    settings = asked.model_dump(mode="json")
    cost: CostOfEquity = stages.do(
        "cost of equity",
        settings,
        needs,
        lambda: pricing_stages.cost_of(plan, desk, panel, factors, betas, premia),
    )
    section = asked.in_currency
    return cost, None if section is None else cost.in_currency(section.code, inflation=section.inflation)


def _peers(plan: Study, desk: Desk, stages: Stages, panel: Panel, betas: BetaTable) -> PeerBeta | None:
    section = plan.cost_of_equity.peers if plan.cost_of_equity else None
    if section is None:
        return None
    settings = [section.model_dump(mode="json"), plan.asset]
    peers: PeerBeta = stages.do(
        "peers",
        settings,
        ["panel", f"model: {plan.model.name}"],
        lambda: pricing_stages.peers_of(plan, desk, panel, betas, records_at(desk, plan.panel.companies)),
    )
    return peers


def _sensitivity(
    plan: Study, desk: Desk, stages: Stages, panel: Panel, prices: PriceTable, company: str
) -> BetaSensitivity | None:
    section = plan.sensitivity
    if section is None:
        return None
    settings = [section.model_dump(mode="json"), company, plan.study.currency]
    work = partial(pricing_stages.sensitivity_of, plan, desk, panel, prices, company)
    sensitivity: BetaSensitivity = stages.do("sensitivity", settings, ["panel", "prices"], work)
    return sensitivity


def _run_hash(plan: Study, used: list[Record]) -> str:
    """Identity of a run: the study without its hosts, and the input bytes."""
    content = plan.model_dump(mode="json")
    keys = ("kind", "tables", "snapshots", "queries")
    content["sources"] = {
        name: {key: source[key] for key in keys if source[key]} for name, source in content["sources"].items()
    }
    inputs = sorted({(r.source, r.path, r.checksum) for r in used})
    return hashlib.sha256(repr((content, inputs)).encode()).hexdigest()
