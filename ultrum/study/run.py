"""The run of a study: fetch, compute returns, align, estimate, price. Reads from top to bottom."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import pandas as pd

from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import percent, quantity, table_html
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.desk.desk import Desk
from ultrum.errors import StudyError, name_list
from ultrum.sources.credentials import CredentialStore
from ultrum.sources.download_and_limits import HttpPolicy
from ultrum.sources.table.reading_result import Decision
from ultrum.study import panel_stages, pricing_stages
from ultrum.study.asset_returns_and_sorts import (
    SortDescription,
    decisions_of_sorts,
    describe_sort,
    names_of,
    notes_of_sorts,
    read_prices,
)
from ultrum.study.pricing_stages import Comparisons
from ultrum.study.result_checks import StudyWarning, check_assets, specifications_run, study_warnings
from ultrum.study.schema import Study, all_series
from ultrum.study.stages import Stage, Stages, StageStore
from ultrum.study.validation import in_study_words
from ultrum.vault.journal_and_payload_files import Record

if TYPE_CHECKING:
    from ultrum.core.model_comparison.compare_costs import AnyCosts
    from ultrum.core.pricing.alpha_and_multiple_tests import JointAlphaTest
    from ultrum.core.pricing.cost_of_equity_result import CostOfEquity
    from ultrum.core.pricing.implied_costs import ImpliedCosts
    from ultrum.core.pricing.kalman_beta import FilteredBetas
    from ultrum.core.pricing.peers_and_leverage import PeerBeta
    from ultrum.core.pricing.premium import Premium
    from ultrum.core.pricing.sensitivity import BetaSensitivity
    from ultrum.core.pricing.two_pass_result import TwoPass
    from ultrum.core.regression.diagnostics import Diagnosis
    from ultrum.core.regression.rolling_regression import RollingFit
    from ultrum.core.regression.structural_breaks import BreakTest
    from ultrum.sources.table.price_and_event_columns import PriceTable


@dataclass(frozen=True, eq=False, repr=False)
class StudyResult:
    """All results of a study.

    Attributes
    ----------
    study : Study
    panel : Panel
    names : mapping of str to str
        Full names of the assets, if the study has a table of them.
    series : mapping of str to TimeSeries
        The study's own series, after their steps.
    models : mapping of str to BetaTable
    cost : CostOfEquity or None
        Cost of every asset by the chosen model; None without [cost_of_equity].
    checks : DataFrame
        By asset: share of days without trading, and the p value of a break.
    inflation : float or None
        Annual, the last value up to the panel's end; ``inflation_period`` is its period.
    downloads : tuple of Record
        Downloads used, with their times.
    warnings : tuple of StudyWarning
        Warnings for the reader: subject and text.
    run : str
        Hash of the study and of the input bytes.
    returns : SeriesTable
        Total returns of every asset and portfolio, before alignment.
    stages : mapping of str to Stage
        Stages computed or read from storage, with their inputs.
    joint_alpha : mapping of str to JointAlphaTest
        By model and kind of test.
    diagnosis : Diagnosis or None
    rolling : RollingFit or None
    two_pass : TwoPass or None
    peers : PeerBeta or None
    sensitivity : BetaSensitivity or None
    decisions : tuple of Decision
        Decisions about the columns of the files of prices and factors.
    store : StageStore or None
        Storage next to the vault, so that figures are drawn again only when they change.
    abroad : CostOfEquity or None
        In another currency.
    comparisons : Comparisons
        Models, forecasts of beta and costs by several methods against each other.
    sorts : mapping of str to SortDescription
        Portfolios behind the sorted factors.
    specifications : tuple of str
        Checksums of the distinct specifications estimated on these returns with this vault, including this one;
        empty without storage.
    """

    study: Study
    panel: Panel
    names: dict[str, str]
    series: dict[str, TimeSeries]
    models: dict[str, BetaTable]
    cost: CostOfEquity | None
    checks: pd.DataFrame
    inflation: float | None
    downloads: tuple[Record, ...]
    warnings: tuple[StudyWarning, ...]
    run: str
    returns: SeriesTable
    inflation_period: str = ""
    stages: Mapping[str, Stage] = field(default_factory=dict)
    joint_alpha: Mapping[str, JointAlphaTest] = field(default_factory=dict)
    diagnosis: Diagnosis | None = None
    rolling: RollingFit | None = None
    two_pass: TwoPass | None = None
    peers: PeerBeta | None = None
    sensitivity: BetaSensitivity | None = None
    abroad: CostOfEquity | None = None
    comparisons: Comparisons = field(default_factory=Comparisons)
    sorts: Mapping[str, SortDescription] = field(default_factory=dict)
    decisions: tuple[Decision, ...] = ()
    store: StageStore | None = None
    specifications: tuple[str, ...] = ()

    @property
    def company(self) -> str:
        """The asset of the study."""
        return self.study.asset or self.models[self.study.model.name].assets[0]

    @property
    def betas(self) -> BetaTable:
        """Betas of the model of the cost of equity, or of the first model."""
        return self.models[self.study.model.name]

    @property
    def real_cost(self) -> pd.Series | None:
        """(1 + cost)/(1 + inflation) − 1."""
        if self.inflation is None or self.cost is None:
            return None
        return (1.0 + self.cost.value) / (1.0 + self.inflation) - 1.0

    @cached_property
    def company_panel(self) -> Panel:
        """The panel of the company alone."""
        return replace(self.panel, assets=self.panel.assets[[self.company]])

    @cached_property
    def state_space_beta(self) -> FilteredBetas:
        """Random-walk beta of the company on the first factor."""
        from ultrum.core.pricing.kalman_beta import kalman_beta

        factor = next(str(t) for t in self.betas.coefficients if t != CONSTANT)
        return kalman_beta(self.company_panel, factor)

    @cached_property
    def company_break(self) -> BreakTest:
        """Test for a break of the company's regression at an unknown date."""
        from ultrum.core.regression.structural_breaks import break_test

        return break_test(self.betas.fit(self.company), how="sup-f")

    def to_frame(self) -> pd.DataFrame:
        """Cost of equity of every asset; betas if the study has no cost of equity.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> study = ul.Study.load(ul.practice.demo_study())
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     result = ul.run_study(study.with_sources_at(service.places), vault=folder)
        >>> result.to_frame()[["cost_of_equity", "low", "high"]].head(2).round(4)
              cost_of_equity     low    high
        BRTW          0.0622  0.0271  0.1027
        EBMK          0.0570  0.0275  0.0905
        """
        return self.betas.to_frame() if self.cost is None else self.cost.to_frame()

    def _repr_html_(self) -> str:
        return table_html(self.to_frame().loc[[self.company]], repr(self))

    def __repr__(self) -> str:
        head = f"{self.study.study.title} (run {self.run[:12]})\n{self.panel!r}\n"
        if self.cost is None:
            return f"{head}{self.betas.fit(self.company)!r}\n{quantity(len(self.warnings), 'warning')}"
        value = float(self.cost.value[self.company])
        low, high = map(float, self.cost.interval().loc[self.company, ["low", "high"]])
        return (
            f"{head}Cost of equity of {self.company}: {percent(value)} % per year, 95 % interval {percent(low)} "
            f"to {percent(high)} %; {quantity(len(self.warnings), 'warning')}"
        )


# The run of a study: fetch, compute returns, align, estimate, price. Reads from top to bottom

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
    implied = _implied(plan, desk, stages, panel)
    cost, abroad = _cost(plan, desk, stages, panel, factors, betas, premia, rate, implied[1])
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
            *notes_of_sorts(series),
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
        comparisons=_comparisons(
            plan, desk, stages, panel, prices, factors, models, company, cost, premia, rate, implied
        ),
        sorts=_sorts(plan, desk, stages, panel),
        downloads=tuple(sorted(set(desk.used), key=lambda r: (r.source, r.path))),
        run=_run_hash(plan, desk.used),
        stages=dict(stages.done),
        returns=asset_returns,
        decisions=(*prices.decisions, *decisions, *decisions_of_sorts(series)),
        store=stages.kept,
        specifications=specifications_run(Path(desk.vault.path), plan, company) if keep else (),
    )


def _sorts(plan: Study, desk: Desk, stages: Stages, panel: Panel) -> dict[str, SortDescription]:
    """The portfolios behind each sorted factor."""
    names = [name for name, one in plan.series.items() if one.sort is not None]
    return {n: stages.do(f"portfolios: {n}", describe_sort, plan, desk, panel, n) for n in names}


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
    implied: Premium | None,
) -> tuple[CostOfEquity | None, CostOfEquity | None]:
    asked = plan.cost_of_equity
    if asked is None:
        return None, None
    premia = premia if "two-pass" in asked.premium.values() else None
    inputs = plan, desk, panel, factors, betas, premia, rate, implied
    cost = stages.do("cost of equity", pricing_stages.cost_of, *inputs)
    section = asked.in_currency
    return cost, None if section is None else cost.in_currency(section.code, inflation=section.inflation)


def _implied(plan: Study, desk: Desk, stages: Stages, panel: Panel) -> tuple[ImpliedCosts | None, Premium | None]:
    """Implied costs, and the implied market premium if a cost of equity uses it."""
    if plan.implied_cost is None:
        return None, None
    costs = stages.do("implied costs", pricing_stages.implied_costs, plan, desk, panel)
    if plan.cost_of_equity is None or "implied" not in plan.cost_of_equity.premium.values():
        return costs, None
    work = pricing_stages.implied_market_premium
    return costs, stages.do("implied premium", work, plan, desk, panel, costs)


def _comparisons(
    plan: Study,
    desk: Desk,
    stages: Stages,
    panel: Panel,
    prices: PriceTable,
    factors: list[TimeSeries],
    models: Mapping[str, BetaTable],
    company: str,
    cost: CostOfEquity | None,
    premia: TwoPass | None,
    rate: TimeSeries | float | None,
    implied_with_premium: tuple[ImpliedCosts | None, Premium | None],
) -> Comparisons:
    """Results of the sections that compare."""
    work, asked = pricing_stages, plan.cost_of_equity
    compared = betas = hierarchical = None
    implied, implied_premium = implied_with_premium
    if plan.model_comparison:
        compared = stages.do("model comparison", work.compare_study_models, plan, panel)
    if plan.beta_forecasts:
        betas = stages.do("beta forecasts", work.forecast_betas, plan, desk, panel, prices)
    premia = premia if asked and "two-pass" in asked.premium.values() else None
    inputs = plan, desk, panel, factors
    if asked and asked.hierarchical:
        name, base = "hierarchical costs", models[plan.model.name]
        hierarchical = stages.do(name, work.hierarchical_costs, *inputs, base, premia, rate, implied_premium)
    costs: dict[str, AnyCosts] = {}
    left_out: dict[str, str] = {}
    if asked and cost is not None and (compared or hierarchical or implied):
        costs[plan.model.name] = cost
        for model in (m for m in plan.models if m.name != plan.model.name):
            unpriced = [f for f in model.factors if not panel.metadata[f].is_return and f not in asked.premium]
            if unpriced:
                left_out[model.name] = f"{name_list(unpriced)}: not traded, and no premium is stated"
                continue
            stage, table = f"cost of equity: {model.name}", models[model.name]
            costs[model.name] = stages.do(stage, work.cost_of, *inputs, table, premia, rate, implied_premium)
    costs |= {"hierarchical": hierarchical} if hierarchical else {}
    costs |= {"implied": implied} if implied else {}
    side_by_side, without = work.costs_side_by_side(plan, company, costs)
    return Comparisons(compared, betas, hierarchical, implied, side_by_side, left_out | without)


def _run_hash(plan: Study, used: list[Record]) -> str:
    """Identity of a run: the study without its hosts, and the input bytes."""
    content = plan.model_dump(mode="json")
    keys = ("kind", "tables", "snapshots", "queries")
    content["sources"] = {
        name: {key: source[key] for key in keys if source[key]} for name, source in content["sources"].items()
    }
    inputs = sorted({(r.source, r.path, r.checksum) for r in used})
    return hashlib.sha256(repr((content, inputs)).encode()).hexdigest()
