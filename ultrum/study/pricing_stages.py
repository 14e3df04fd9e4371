"""Pricing stages: costs of equity, peers, sensitivity."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Final, Literal

import pandas as pd

from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.returns.price_log_and_excess_returns import returns
from ultrum.core.returns.yields import accrual_rate
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import months_in
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.desk.desk import Desk
from ultrum.errors import StudyError, one_of
from ultrum.sources.download_and_limits import Address
from ultrum.sources.table.price_and_event_columns import PriceTable, event_columns
from ultrum.study import panel_stages
from ultrum.study.asset_returns import daily_returns, records_at
from ultrum.study.schema import Study
from ultrum.study.sections import CostSection, PremiumSection

if TYPE_CHECKING:
    from ultrum.core.pricing.alpha_and_multiple_tests import JointAlphaTest
    from ultrum.core.pricing.cost_of_equity_result import CostOfEquity
    from ultrum.core.pricing.peers_and_leverage import PeerBeta
    from ultrum.core.pricing.premium import Premium
    from ultrum.core.pricing.sensitivity import BetaSensitivity
    from ultrum.core.pricing.two_pass_result import TwoPass
    from ultrum.core.regression.diagnostics import Diagnosis
    from ultrum.core.regression.rolling_regression import RollingFit

_ROLLING_WINDOW: Final = 60  # periods


def cost_section(plan: Study) -> CostSection:
    """The section of the cost of equity; the caller ensures that it exists."""
    if plan.cost_of_equity is None:
        raise StudyError("The study has no section [cost_of_equity].")
    return plan.cost_of_equity


def cost_of(
    plan: Study,
    desk: Desk,
    panel: Panel,
    factors: Sequence[TimeSeries],
    betas: BetaTable,
    two_pass_result: TwoPass | None,
    rate: TimeSeries | float | None,
    implied: Premium | None = None,
) -> CostOfEquity:
    """Cost of equity of every asset from betas, by the premia of the study."""
    from ultrum.core.pricing.cost_of_equity import cost_of_equity

    section = cost_section(plan)
    names = [str(t) for t in betas.coefficients if t != CONSTANT]
    return cost_of_equity(
        betas,
        premia=premia_of_factors(plan, panel, factors, names, two_pass_result, rate, implied),
        risk_free=risk_free_of_cost(plan, desk, panel),
        on=section.on or None,
        draws=section.draws,
        add_ons={name: (a.value, a.reason) for name, a in section.add_ons.items()},
    )


def premia_of_factors(
    plan: Study,
    panel: Panel,
    factors: Sequence[TimeSeries],
    names: Sequence[str],
    two_pass_result: TwoPass | None,
    rate: TimeSeries | float | None,
    implied: Premium | None = None,
) -> dict[str, Premium] | TwoPass:
    """Premium of each factor as the study sets it, from history by default."""
    section = cost_section(plan)
    given = {name: section.premium.get(name, "history") for name in names}
    histories = {f.name: _history(plan, f, given.get(f.name)) for f in factors}
    if isinstance(rate, float | int):
        rate = accrual_rate(rate, panel.risk_free.index, panel.frequency)
    if rate is None:
        raise StudyError("[cost_of_equity] needs [panel] risk_free, an address or an annual rate.")
    if two_pass_result is not None and set(given.values()) == {"two-pass"}:
        return two_pass_result  # with their joint covariance
    return {n: _premium(histories[n], rate, value, two_pass_result, implied) for n, value in given.items()}


def _history(plan: Study, factor: TimeSeries, given: object) -> TimeSeries:
    """A factor over the study's span, or over the span of its premium."""
    span = given.span if isinstance(given, PremiumSection) else None
    return panel_stages.within_span(factor, span or plan.study.span)


def _premium(
    history: TimeSeries, rate: TimeSeries, given: Any, two_pass_result: TwoPass | None, implied: Premium | None
) -> Premium:
    """The chosen premium, from history within its span if no number is given."""
    from ultrum.core.pricing.premium import Premium, premium

    excess_of, name = rate.name, history.name
    if isinstance(given, PremiumSection) and given.value is not None:
        basis = given.basis or "given"
        return Premium(given.value, given.error, excess_of=given.excess_of or excess_of, basis=basis)
    if isinstance(given, PremiumSection):
        rate_of_history = rate if rate.metadata.frequency == history.metadata.frequency else None
        return premium(history, mean=given.mean, horizon=given.horizon, risk_free=rate_of_history)
    if given == "history":
        return premium(history)
    if given == "implied":
        if implied is None:
            raise StudyError(f"The premium of '{name}' is 'implied'. Add a section [implied_cost].")
        return implied
    if given == "two-pass":
        if two_pass_result is None or name not in two_pass_result.premia.index:
            raise StudyError(
                f"The two-pass regressions have no premium of '{name}'. Add it to [two_pass] factors."
            )
        per_year, error = (two_pass_result.periods_per_year, float(two_pass_result.standard_errors[name]))
        value = per_year * float(two_pass_result.premia[name])
        return Premium(value, per_year * error, two_pass_result.df, excess_of, "two-pass premium")
    return Premium(float(given), excess_of=excess_of)


def risk_free_of_cost(plan: Study, desk: Desk, panel: Panel) -> TimeSeries | float:
    """The risk-free rate to add: a number, the panel's own, a yield by its quoting rule, or a column of
    returns.
    """
    setting = cost_section(plan).risk_free
    if setting is None or setting == plan.panel.risk_free:
        return panel.rate
    if isinstance(setting, float | int):
        return float(setting)
    if plan.sources[Address.parse(setting).source].kind == "sdmx":
        return desk.fetch(setting)
    return panel_stages.rate_at(plan, desk, setting)


def inflation_at_end(plan: Study, series: Mapping[str, TimeSeries], panel: Panel) -> tuple[float, str] | None:
    """Annual inflation from the study's series, the last value up to the panel's end, and its period."""
    name = plan.cost_of_equity.inflation if plan.cost_of_equity else ""
    if not name:
        return None
    metadata, valid = series[name].metadata, series[name].values.dropna()
    setting = f"[cost_of_equity] inflation = '{name}'"
    if metadata.measure != "rate":
        raise StudyError(
            f"{setting} is {metadata.measure_in_words}, not a growth rate. Add a growth step to the series."
        )
    _check_yearly(metadata, setting)
    end = panel_stages.end_of(panel)
    valid = valid[metadata.frequency.ends(metadata.frequency.ordinals_of(valid.index)) <= end]
    if not len(valid):
        raise StudyError(f"{setting} has no value up to the end of the panel, {end}.")
    return float(valid.iloc[-1]), period_label(valid.index[-1])


def _check_yearly(metadata: Metadata, setting: str) -> None:
    """Refuse growth over another span than a year, which does not match an annual cost."""
    for step in metadata.trail:
        settings = dict(step.settings)
        over = settings.get("over", "")
        if step.action == "growth" and months_in(over) != 12 and "annualised" not in settings:
            raise StudyError(
                f"{setting} grows over {over}, but a cost of equity is annual. Set over = 'P1Y', or annualised "
                "= true."
            )


def peers_of(plan: Study, desk: Desk, panel: Panel, betas: BetaTable) -> PeerBeta:
    """The company's peer beta: from the listed peers, or its industry, by accounts up to the panel's end."""
    from ultrum.core.pricing.peers_and_leverage import peer_beta

    section, company = cost_section(plan).peers, plan.asset
    if section is None:
        raise StudyError("The study has no section [cost_of_equity.peers].")
    records = desk.table(section.accounts, records_only=True).records
    table = event_columns(records, section.accounts, ["asset", "date"], {}, [company])
    columns = {"debt": section.debt, "equity": section.equity, "tax": section.tax}
    end = panel_stages.end_of(panel)
    accounts = panel_stages.accounts_of(table, section.accounts, columns, end)
    if company not in accounts.index:
        raise StudyError(f"{section.accounts} has no accounts of {company} up to {end}.")
    leverage = (accounts["debt"] / accounts["equity"]).clip(lower=0.0)
    names = list(section.companies) or _of_its_industry(company, records_at(desk, plan.panel.companies), betas)
    result = peer_beta(
        betas,
        names,
        debt_to_equity=leverage,
        tax=accounts["tax"],
        how=section.how,
        values=accounts["equity"] if section.how == "value" else None,
        debt_beta=section.debt_beta,
        target_debt_to_equity=float(leverage[company]),
        target_tax=float(accounts["tax"][company]),
    )
    days = accounts["date"].reindex([*names, company]).dropna()
    span = " to ".join(dict.fromkeys(period_label(day) for day in (days.min(), days.max())))
    return replace(result, basis=f"{result.basis}; accounts of {span}")


def _of_its_industry(company: str, companies: pd.DataFrame | None, betas: BetaTable) -> list[str]:
    if companies is None or "industry" not in companies:
        raise StudyError("Set the peers, or set [panel] companies to a table with a column of industries.")
    industry = companies.set_index("asset")["industry"]
    if company not in industry.index:
        raise StudyError(f"The table of companies has no row for {company}. Set its peers.")
    same = industry.index[industry == industry[company]].astype(str)
    return [a for a in dict.fromkeys(same) if a != company and a in betas.assets]


def two_pass_of(plan: Study, panel: Panel) -> TwoPass:
    """Risk premia from two-pass regressions of the single assets."""
    from ultrum.core.pricing.two_pass import two_pass

    section = plan.two_pass
    if section is None:
        raise StudyError("The study has no section [two_pass].")
    factors = section.factors or list(dict.fromkeys(f for m in plan.models for f in m.factors))
    return two_pass(
        panel_stages.without_portfolios(plan, panel),
        factors,
        beta_sample=section.beta_sample,
        window=section.window,
        draws=section.draws,
    )


def joint_alphas(
    plan: Study, panel: Panel, model: str, how: Literal["exact", "robust", "bootstrap"]
) -> JointAlphaTest:
    """Joint test of the alphas of the single assets in a model; portfolios are combinations of them."""
    from ultrum.core.pricing.alpha_and_multiple_tests import joint_alpha_test

    factors = next(m for m in plan.models if m.name == model).factors
    return joint_alpha_test(panel_stages.without_portfolios(plan, panel), factors, how=how)


def company_of(plan: Study, betas: BetaTable) -> str:
    """The asset of the study, or the first one.

    Raises
    ------
    StudyError
        If the panel does not have it.
    """
    company = plan.asset or betas.assets[0]
    if company not in betas.assets:
        raise StudyError(f"No asset '{company}' in the panel; {one_of(company, betas.assets)}")
    return company


def diagnosis_of(plan: Study, betas: BetaTable) -> Diagnosis:
    """Diagnostic tests of the company's regression."""
    from ultrum.core.regression.diagnostics import diagnose

    return diagnose(betas.fit(company_of(plan, betas)))


def rolling_betas(plan: Study, panel: Panel) -> RollingFit:
    """Rolling-window betas of the model of the cost of equity, with its standard errors."""
    from ultrum.core.regression.rolling_regression import rolling_regress

    model, window = plan.model, plan.tests.rolling_window
    factors, lags = panel.factor_table.select(model.factors), model.lags
    if lags == "automatic":
        raise StudyError(
            f"[models] '{model.name}': rolling windows take a number of lags, not 'automatic'. Set lags to a "
            "number, or remove [tests] rolling_window and the figure 'rolling beta'."
        )
    return rolling_regress(
        panel.excess, factors, window=window or _ROLLING_WINDOW, errors=model.errors, lags=lags
    )


def sensitivity_of(
    plan: Study, desk: Desk, panel: Panel, prices: PriceTable, betas: BetaTable
) -> BetaSensitivity:
    """Betas of the company under every combination of specification choices, from daily prices up to the panel's
    end.
    """
    from ultrum.core.pricing.sensitivity import beta_sensitivity

    section = plan.sensitivity
    if section is None:
        raise StudyError("The study has no section [sensitivity].")
    markets = SeriesTable.of([index_returns_at(desk, address) for address in section.markets])
    return beta_sensitivity(
        daily_returns(plan, desk, prices),
        markets,
        company_of(plan, betas),
        risk_free=panel_stages.rate_at(plan, desk, section.risk_free),
        windows=section.windows,
        frequencies=section.frequencies,
        adjustments=section.adjustments,
        estimators=section.estimators,
        chosen=section.chosen,
        published=section.published,
        errors=plan.model.errors,
        lags=plan.model.lags,
        end=str(panel_stages.end_of(panel)),
    )


def index_returns_at(desk: Desk, address: str) -> TimeSeries:
    """Returns of an index by its address, under the name of its column."""
    index = desk.fetch(address, measure="index", timing="end")
    return returns(index.with_metadata(name=Address.parse(address).field or index.name))
