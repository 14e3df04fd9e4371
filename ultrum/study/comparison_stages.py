"""Stages that compare models, forecasts of beta and costs of equity by several methods."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Final

import numpy as np
import pandas as pd

from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import decimals, quantity
from ultrum.core.pricing.valuation_models import NEEDED_COLUMNS, OPTIONAL_COLUMNS
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.period_labels_and_relative_dates import days_in, period_ends_in, period_label
from ultrum.core.transform.rolling_statistics import months_before
from ultrum.desk.desk import Desk
from ultrum.errors import StudyError, choices, name_list
from ultrum.sources.table.price_and_event_columns import PriceTable, event_columns
from ultrum.study import panel_stages
from ultrum.study.asset_returns import daily_returns, records_at
from ultrum.study.pricing_stages import (
    cost_section,
    index_returns_at,
    premia_of_factors,
    risk_free_of_cost,
)
from ultrum.study.schema import Study
from ultrum.study.sections import HierarchicalSection, ImpliedSection

if TYPE_CHECKING:
    from ultrum.core.model_comparison.beta_forecasts import BetaForecasts
    from ultrum.core.model_comparison.compare_costs import AnyCosts, CostsSideBySide
    from ultrum.core.model_comparison.compare_models import ModelComparison
    from ultrum.core.pricing.hierarchical_costs import HierarchicalCosts
    from ultrum.core.pricing.implied_costs import ImpliedCosts
    from ultrum.core.pricing.premium import Premium
    from ultrum.core.pricing.two_pass_result import TwoPass

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
    """

    models: ModelComparison | None = None
    betas: BetaForecasts | None = None
    hierarchical: HierarchicalCosts | None = None
    implied: ImpliedCosts | None = None
    costs: CostsSideBySide | None = None

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
            "error "
            f"{decimals(errors.iloc[0], 3)}); the base case '{base}' ranks {rank} ({decimals(errors[base], 3)}). "
            f"{kept} of them cannot be distinguished from the best one."
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


def costs_side_by_side(plan: Study, company: str, costs: Mapping[str, AnyCosts]) -> CostsSideBySide | None:
    """Costs of the company by every method that has one; none if fewer than two have."""
    from ultrum.core.model_comparison.compare_costs import compare_costs

    given = {name: c for name, c in costs.items() if company in c.value.index and np.isfinite(c.value[company])}
    return compare_costs(given, company, level=plan.report.level) if len(given) > 1 else None
