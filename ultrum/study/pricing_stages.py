"""Stages of pricing, and of the comparison of models and estimates."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import decimals, quantity
from ultrum.core.pricing.valuation_models import NEEDED_COLUMNS, OPTIONAL_COLUMNS
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.returns.price_log_and_excess_returns import returns
from ultrum.core.returns.yields import accrual_rate
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import months_in
from ultrum.core.time.period_labels_and_relative_dates import days_in, period_ends_in, period_label
from ultrum.core.transform.rolling_statistics import months_before
from ultrum.desk.desk import Desk
from ultrum.errors import StudyError, choices, name_list, one_of
from ultrum.sources.download_and_limits import Address
from ultrum.sources.table.price_and_event_columns import PriceTable, event_columns
from ultrum.study import panel_stages
from ultrum.study.asset_returns_and_sorts import daily_returns, records_at
from ultrum.study.schema import Study
from ultrum.study.sections import CostSection, HierarchicalSection, ImpliedSection, PremiumSection

if TYPE_CHECKING:
    from ultrum.core.model_comparison.beta_forecasts import BetaForecasts
    from ultrum.core.model_comparison.compare_costs import AnyCosts, CostsSideBySide
    from ultrum.core.model_comparison.compare_models import ModelComparison
    from ultrum.core.pricing.alpha_and_multiple_tests import JointAlphaTest
    from ultrum.core.pricing.cost_of_equity_result import CostOfEquity
    from ultrum.core.pricing.hierarchical_costs import HierarchicalCosts
    from ultrum.core.pricing.implied_costs import ImpliedCosts
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


_OLDEST: Final = 15  # months of a forecast before the end of the panel
_REPORTED: Final = 4  # months after a period, when its outcome is taken as known if no release is stated


@dataclass(frozen=True)
class Comparisons:
    """Results of the sections that compare; none where the study has no such section.

    Attributes
    ----------
    models : ModelComparison or None
    betas : BetaForecasts or None
    hierarchical : HierarchicalCosts or None
    implied : ImpliedCosts or None
    costs : CostsSideBySide or None
        Costs of the company by every method of the study, if there are at least two.
    left_out : mapping of str to str
        Methods of the study without a cost of the company, with the reason.
    """

    models: ModelComparison | None = None
    betas: BetaForecasts | None = None
    hierarchical: HierarchicalCosts | None = None
    implied: ImpliedCosts | None = None
    costs: CostsSideBySide | None = None
    left_out: Mapping[str, str] = field(default_factory=dict)

    def best_forecast(self) -> str:
        """Which ways to estimate beta forecast best, in a sentence; empty without forecasts."""
        if self.betas is None:
            return ""
        table = self.betas.table
        best, base, errors = str(table.index[0]), self.betas.base_case, table["mse"].astype(float)
        kept = int(table["included"].sum()) if "included" in table else len(table)
        rank = list(table.index).index(base) + 1
        return (
            f"Of {len(table)} ways to estimate beta, '{best}' has the smallest forecast error (mean squared "
            f"error {decimals(errors.iloc[0], 3)}); the base case '{base}' ranks {rank} "
            f"({decimals(errors[base], 3)}). {kept} of them cannot be distinguished from the best one."
        )


def compare_study_models(plan: Study, panel: Panel) -> ModelComparison:
    """The models of the study against each other: those of traded factors, each set of factors once."""
    from ultrum.core.model_comparison.compare_models import compare_models

    section = plan.model_comparison
    if section is None:
        raise StudyError("The study has no section [model_comparison].")
    wanted = section.models or [m.name for m in plan.models]
    models: dict[str, list[str]] = {}
    left_out: list[str] = []
    for model in plan.models:
        traded = all(panel.metadata[f].is_return for f in model.factors)
        if model.name in section.models and not traded:
            raise StudyError(
                f"[model_comparison] '{model.name}' has a factor that is not traded. Remove it from models."
            )
        twin = next((name for name, terms in models.items() if set(terms) == set(model.factors)), "")
        if model.name in wanted and traded and not twin:
            models[model.name] = list(model.factors)
        elif model.name in wanted:
            left_out.append(f"{model.name} ({f'the factors of {twin}' if traded else 'a factor is not traded'})")
    made = compare_models(
        panel_stages.without_portfolios(plan, panel),
        models,
        how=section.how,
        level=section.level,
        draws=section.draws,
    )
    return replace(made, basis=f"{made.basis}; not compared: {name_list(left_out)}") if left_out else made


def forecast_betas(plan: Study, desk: Desk, panel: Panel, prices: PriceTable) -> BetaForecasts:
    """Forecast errors of each way to estimate beta, from daily prices up to the panel's end."""
    from ultrum.core.model_comparison.beta_forecasts import evaluate_betas

    section = plan.beta_forecasts
    if section is None:
        raise StudyError("The study has no section [beta_forecasts].")
    end = str(panel_stages.end_of(panel))
    return evaluate_betas(
        daily_returns(plan, desk, prices).sample(None, end),
        index_returns_at(desk, section.market).sample(None, end),
        risk_free=panel_stages.rate_at(plan, desk, section.risk_free),
        windows=section.windows,
        frequencies=section.frequencies,
        adjustments=section.adjustments,
        estimators=section.estimators,
        every=section.every,
        horizon=section.horizon,
        base_case=section.base_case,
        realised_frequency=section.realised_frequency,
    )


def hierarchical_costs(
    plan: Study,
    desk: Desk,
    panel: Panel,
    factors: Sequence[TimeSeries],
    betas: BetaTable,
    two_pass_result: TwoPass | None,
    rate: TimeSeries | float | None,
    implied: Premium | None = None,
) -> HierarchicalCosts:
    """Costs of equity with the loadings of a model shrunk towards industry, size and leverage."""
    from ultrum.core.pricing.hierarchical_costs import hierarchical_cost_of_equity

    section = cost_section(plan).hierarchical
    if section is None:
        raise StudyError("The study has no section [cost_of_equity.hierarchical].")
    companies = records_at(desk, plan.panel.companies)
    if companies is None or section.industry not in companies:
        raise StudyError(
            f"[cost_of_equity.hierarchical] needs [panel] companies, a table with a column '{section.industry}'."
        )
    industry = companies.drop_duplicates("asset").set_index("asset")[section.industry]
    names = [str(t) for t in betas.coefficients if t != CONSTANT]
    return hierarchical_cost_of_equity(
        betas if betas.unadjusted is None else betas.unadjusted,
        industry.drop(list(plan.portfolios), errors="ignore"),
        premia=premia_of_factors(plan, panel, factors, names, two_pass_result, rate, implied),
        risk_free=risk_free_of_cost(plan, desk, panel),
        on=cost_section(plan).on or None,
        add_ons={name: (a.value, a.reason) for name, a in cost_section(plan).add_ons.items()},
        characteristics=_size_and_leverage(section, desk, panel, betas) if section.accounts else None,
        level=plan.report.level,
    )


def _size_and_leverage(section: HierarchicalSection, desk: Desk, panel: Panel, betas: BetaTable) -> pd.DataFrame:
    """Log market value and debt to equity of each company, from its last accounts."""
    records = desk.table(section.accounts, records_only=True).records
    table = event_columns(records, section.accounts, ["asset", "date"], {}, list(betas.assets))
    columns = {"debt": section.debt, "equity": section.equity}
    accounts = panel_stages.accounts_of(table, section.accounts, columns, panel_stages.end_of(panel))
    equity = accounts["equity"].where(accounts["equity"] > 0)
    leverage = (accounts["debt"] / equity).clip(lower=0.0)
    return pd.DataFrame({"size": np.log(equity), "leverage": leverage})


def implied_costs(plan: Study, desk: Desk, panel: Panel) -> ImpliedCosts:
    """Implied costs of equity from the last forecasts up to the panel's end."""
    from ultrum.core.pricing.implied_costs import forecast_bias, implied_cost_of_equity

    section = plan.implied_cost
    if section is None:
        raise StudyError("The study has no section [implied_cost].")
    end = panel_stages.end_of(panel)
    forecasts, words = _last_forecasts(desk, section, panel, end)
    bias, bias_error = section.bias, section.bias_error
    if section.history:
        past = desk.table(section.history, records_only=True).records.rename(columns={"date": "period"})
        absent = [c for c in ("asset", "period", "forecast", "outcome") if c not in past]
        if absent:
            raise StudyError(f"{section.history} has no column {name_list(absent)}; it has: {choices(past)}.")
        past = past.assign(**{c: _numbers(past[c], f"{section.history}, {c}") for c in ("forecast", "outcome")})
        known, late = _known_outcomes(past, section.history, end)
        words += late
        estimated = forecast_bias(known)
        bias, bias_error = float(estimated["bias"]["all"]), float(estimated["standard_error"]["all"])
    costs = implied_cost_of_equity(
        forecasts,
        model=section.model,
        long_run_growth=section.long_run_growth,
        long_run_growth_error=section.long_run_growth_error,
        fade_years=section.fade_years,
        persistence=section.persistence,
        bias=bias,
        bias_error=bias_error,
    )
    return replace(costs, basis=f"{costs.basis}; {words}")


def implied_market_premium(plan: Study, desk: Desk, panel: Panel, costs: ImpliedCosts) -> Premium:
    """The value-weighted implied cost less the risk-free rate of the cost of equity."""
    from ultrum.core.pricing.cost_of_equity import annual_rate
    from ultrum.core.pricing.implied_costs import implied_premium

    section = plan.implied_cost
    if section is None:
        raise StudyError("The study has no section [implied_cost].")
    end = panel_stages.end_of(panel)
    forecasts = _last_forecasts(desk, section, panel, end)[0]
    if section.market_values not in forecasts:
        raise StudyError(
            f"{section.forecasts} has no column '{section.market_values}' for the weights of the implied "
            f"premium; set [implied_cost] market_values. It has: {choices(forecasts)}."
        )
    values = _numbers(forecasts[section.market_values], f"{section.forecasts}, {section.market_values}")
    rate, name = annual_rate(risk_free_of_cost(plan, desk, panel), cost_section(plan).on or str(end))
    return implied_premium(costs, values, rate, excess_of=name)


def _known_outcomes(past: pd.DataFrame, address: str, end: np.datetime64) -> tuple[pd.DataFrame, str]:
    """Past forecasts whose outcomes were known by a day, and in words how that was decided."""
    if "released" in past:
        known = days_in(past["released"], f"{address}, released") <= end
        words = "outcomes known by their day of release"
    else:
        known = (
            period_ends_in(past["period"], f"{address}, period") <= months_before(np.array([end]), _REPORTED)[0]
        )
        words = f"outcomes taken as known {_REPORTED} months after their period"
    return past[known], f"; {words}, {quantity(int((~known).sum()), 'later one')} not used"


def _last_forecasts(
    desk: Desk, section: ImpliedSection, panel: Panel, end: np.datetime64
) -> tuple[pd.DataFrame, str]:
    """The newest forecasts of each company up to a day, not older than 15 months, and what was left out."""
    records = desk.table(section.forecasts, records_only=True).records
    table = event_columns(records, section.forecasts, ["asset", "date"], {}, panel.asset_names)
    days = days_in(table["date"].astype(str), f"{section.forecasts}, date")
    twice = table.duplicated(["asset", "date"])
    if twice.any():
        row = table[twice].iloc[0]
        raise StudyError(
            f"{section.forecasts}: {row['asset']} has two rows of {period_label(row['date'])}. Keep one."
        )
    oldest = months_before(np.array([end]), _OLDEST)[0]
    inside = table["asset"].isin(panel.asset_names).to_numpy()
    usable = table[(days <= end) & (days > oldest) & inside]
    if not len(usable):
        raise StudyError(
            f"{section.forecasts} has no forecasts of the panel's companies in the {_OLDEST} months up to {end}."
        )
    last = usable.sort_values("date", kind="stable").drop_duplicates("asset", keep="last").set_index("asset")
    named = {*NEEDED_COLUMNS[section.model], *OPTIONAL_COLUMNS}
    numbers = {
        c: _numbers(last[c], f"{section.forecasts}, {c}")
        for c in last
        if c in named or str(c).startswith("earnings_")
    }
    others = int((~inside).sum())
    older = len(table) - len(last) - others
    dates = " to ".join(dict.fromkeys(map(period_label, (last["date"].min(), last["date"].max()))))
    words = (
        f"forecasts of {dates}; left out: {quantity(older, 'older or later row')}, {quantity(others, 'row')} of "
        "other companies"
    )
    return last.drop(columns="date").assign(**numbers), words


def _numbers(column: pd.Series, where: str) -> pd.Series:
    """Numbers of a column; a cell that is not one is refused, an empty one is missing."""
    numbers = pd.to_numeric(column, errors="coerce")
    wrong = numbers.isna() & column.notna() & (column.astype(str).str.strip() != "")
    if wrong.any():
        raise StudyError(f"{where}: '{column[wrong].iloc[0]}' is not a number.")
    return numbers.astype(float)


def costs_side_by_side(
    plan: Study, company: str, costs: Mapping[str, AnyCosts]
) -> tuple[CostsSideBySide | None, dict[str, str]]:
    """Costs of the company by every method that has one, if two have; and why the others have none."""
    known = {name: c for name, c in costs.items() if company in c.value.index and np.isfinite(c.value[company])}
    left_out = {name: _why_no_cost(c, company) for name, c in costs.items() if name not in known}
    if len(known) < 2:
        return None, left_out
    from ultrum.core.model_comparison.compare_costs import compare_costs  # an estimate has one cost at most

    return compare_costs(known, company, level=plan.report.level), left_out


def _why_no_cost(costs: AnyCosts, company: str) -> str:
    """Why a method has no cost of a company."""
    from ultrum.core.pricing.implied_costs import ImpliedCosts

    if company not in costs.value.index:
        return f"{company} is not among its companies"
    return str(costs.table["note"][company]) if isinstance(costs, ImpliedCosts) else "it has no beta"
