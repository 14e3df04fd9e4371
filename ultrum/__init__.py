"""From downloaded series to betas and costs of equity, with every step checked and traced.

The map: get data (`Desk`, `read_series`), shape them (`to_frequency`, `disaggregate`, `growth`,
`rebase`, `deflate`, `splice`, `composite`, `spells` …), change currencies (`RateTable`, `to_currency`),
make returns (`returns`, `excess`, `per_period`), look at them (`risk_return`, `calendar_grid`,
`momentum` …), line them up (`align`), estimate (`regress`,
`factor_betas`, `cost_of_equity`), or say the whole job in a study file (`run_study`). `practice` is a
made-up world to try everything on. Names are imported when first used.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ultrum import practice as practice
    from ultrum.core.currency.conversion import to_currency as to_currency
    from ultrum.core.currency.exchange_rates import RateTable as RateTable
    from ultrum.core.panel.aligned_panel import Panel as Panel
    from ultrum.core.panel.alignment import align as align
    from ultrum.core.pricing.conditional_beta import conditional_beta as conditional_beta
    from ultrum.core.pricing.conditional_beta import up_down_betas as up_down_betas
    from ultrum.core.pricing.cost_of_equity import cost_comparison as cost_comparison
    from ultrum.core.pricing.cost_of_equity import cost_of_equity as cost_of_equity
    from ultrum.core.pricing.cost_result import CostOfEquity as CostOfEquity
    from ultrum.core.pricing.currency_factor import currency_factor as currency_factor
    from ultrum.core.pricing.factor_betas import factor_betas as factor_betas
    from ultrum.core.pricing.joint_alpha import joint_alpha_test as joint_alpha_test
    from ultrum.core.pricing.kalman_beta import filtered_beta as filtered_beta
    from ultrum.core.pricing.peers import industry_betas as industry_betas
    from ultrum.core.pricing.peers import peer_beta as peer_beta
    from ultrum.core.pricing.premium import Premium as Premium
    from ultrum.core.pricing.premium import premium as premium
    from ultrum.core.pricing.sensitivity import beta_sensitivity as beta_sensitivity
    from ultrum.core.pricing.shrinkage import adjust_betas as adjust_betas
    from ultrum.core.pricing.single_factor import downside_beta as downside_beta
    from ultrum.core.pricing.single_factor import lagged_beta as lagged_beta
    from ultrum.core.pricing.single_factor import relever as relever
    from ultrum.core.pricing.single_factor import unlever as unlever
    from ultrum.core.pricing.two_pass import two_pass as two_pass
    from ultrum.core.pricing.two_pass_result import TwoPass as TwoPass
    from ultrum.core.regression.diagnostics import Diagnosis as Diagnosis
    from ultrum.core.regression.diagnostics import diagnose as diagnose
    from ultrum.core.regression.ols import regress as regress
    from ultrum.core.regression.panel_regression import pooled_regress as pooled_regress
    from ultrum.core.regression.results import BetaTable as BetaTable
    from ultrum.core.regression.results import Fit as Fit
    from ultrum.core.regression.rolling_regression import rolling_regress as rolling_regress
    from ultrum.core.regression.rolling_result import RollingFit as RollingFit
    from ultrum.core.regression.structural_breaks import BreakTest as BreakTest
    from ultrum.core.regression.structural_breaks import break_test as break_test
    from ultrum.core.returns.asset_returns import excess as excess
    from ultrum.core.returns.asset_returns import returns as returns
    from ultrum.core.returns.asset_returns import to_log as to_log
    from ultrum.core.returns.asset_returns import to_simple as to_simple
    from ultrum.core.returns.nearest_dates import match_after as match_after
    from ultrum.core.returns.nearest_dates import match_before as match_before
    from ultrum.core.returns.price_adjustment import adjust_prices as adjust_prices
    from ultrum.core.returns.price_checks import dividend_yield as dividend_yield
    from ultrum.core.returns.price_checks import suspect_prices as suspect_prices
    from ultrum.core.returns.price_checks import traded_prices as traded_prices
    from ultrum.core.returns.price_checks import untraded_share as untraded_share
    from ultrum.core.returns.yields import per_period as per_period
    from ultrum.core.series.metadata import Descriptor as Descriptor
    from ultrum.core.series.time_series import SeriesTable as SeriesTable
    from ultrum.core.series.time_series import TimeSeries as TimeSeries
    from ultrum.core.statistics.benchmark import relative as relative
    from ultrum.core.statistics.calendar_returns import calendar_grid as calendar_grid
    from ultrum.core.statistics.calendar_returns import returns_after as returns_after
    from ultrum.core.statistics.correlation import correlations as correlations
    from ultrum.core.statistics.distribution import distribution as distribution
    from ultrum.core.statistics.momentum import momentum as momentum
    from ultrum.core.statistics.positions import holdings as holdings
    from ultrum.core.statistics.risk_return import drawdowns as drawdowns
    from ultrum.core.statistics.risk_return import portfolio as portfolio
    from ultrum.core.statistics.risk_return import risk_return as risk_return
    from ultrum.core.time.frequency import Frequency as Frequency
    from ultrum.core.transform.aggregation import to_bars as to_bars
    from ultrum.core.transform.aggregation import to_frequency as to_frequency
    from ultrum.core.transform.composite import composite as composite
    from ultrum.core.transform.disaggregation import disaggregate as disaggregate
    from ultrum.core.transform.growth import difference as difference
    from ultrum.core.transform.growth import growth as growth
    from ultrum.core.transform.innovations import innovations as innovations
    from ultrum.core.transform.levels import cumulate as cumulate
    from ultrum.core.transform.levels import deflate as deflate
    from ultrum.core.transform.levels import fill as fill
    from ultrum.core.transform.levels import lag as lag
    from ultrum.core.transform.levels import rebase as rebase
    from ultrum.core.transform.levels import spread as spread
    from ultrum.core.transform.rolling_statistics import bands as bands
    from ultrum.core.transform.rolling_statistics import roll as roll
    from ultrum.core.transform.spells import spells as spells
    from ultrum.core.transform.splice import splice as splice
    from ultrum.core.transform.standardise import standardise as standardise
    from ultrum.core.transform.steps import add_step as add_step
    from ultrum.desk import Desk as Desk
    from ultrum.desk import SeriesSet as SeriesSet
    from ultrum.desk.settings import add_source_kind as add_source_kind
    from ultrum.errors import DataWarning as DataWarning
    from ultrum.errors import UltrumError as UltrumError
    from ultrum.large.long_panel import LongPanel as LongPanel
    from ultrum.large.long_table import LongTable as LongTable
    from ultrum.report import figures as figures
    from ultrum.report.export import save as save
    from ultrum.report.model_tables import model_table as model_table
    from ultrum.sources.limits import Limits as Limits
    from ultrum.sources.limits import limits as limits
    from ultrum.sources.table import read_series as read_series
    from ultrum.study import Study as Study
    from ultrum.study import run_study as run_study
    from ultrum.study.provenance import trail as trail

__version__ = "0.1.0"

_HOME = {
    "BetaTable": "core.regression.results",
    "BreakTest": "core.regression.structural_breaks",
    "CostOfEquity": "core.pricing.cost_result",
    "DataWarning": "errors",
    "Descriptor": "core.series.metadata",
    "Desk": "desk",
    "Diagnosis": "core.regression.diagnostics",
    "Fit": "core.regression.results",
    "Frequency": "core.time.frequency",
    "Limits": "sources.limits",
    "LongPanel": "large.long_panel",
    "LongTable": "large.long_table",
    "Panel": "core.panel.aligned_panel",
    "Premium": "core.pricing.premium",
    "RateTable": "core.currency.exchange_rates",
    "RollingFit": "core.regression.rolling_result",
    "SeriesSet": "desk",
    "SeriesTable": "core.series.time_series",
    "Study": "study",
    "TimeSeries": "core.series.time_series",
    "TwoPass": "core.pricing.two_pass_result",
    "UltrumError": "errors",
    "add_source_kind": "desk.settings",
    "add_step": "core.transform.steps",
    "adjust_betas": "core.pricing.shrinkage",
    "adjust_prices": "core.returns.price_adjustment",
    "align": "core.panel.alignment",
    "bands": "core.transform.rolling_statistics",
    "beta_sensitivity": "core.pricing.sensitivity",
    "break_test": "core.regression.structural_breaks",
    "calendar_grid": "core.statistics.calendar_returns",
    "composite": "core.transform.composite",
    "conditional_beta": "core.pricing.conditional_beta",
    "correlations": "core.statistics.correlation",
    "cost_comparison": "core.pricing.cost_of_equity",
    "cost_of_equity": "core.pricing.cost_of_equity",
    "cumulate": "core.transform.levels",
    "currency_factor": "core.pricing.currency_factor",
    "deflate": "core.transform.levels",
    "diagnose": "core.regression.diagnostics",
    "difference": "core.transform.growth",
    "disaggregate": "core.transform.disaggregation",
    "distribution": "core.statistics.distribution",
    "dividend_yield": "core.returns.price_checks",
    "downside_beta": "core.pricing.single_factor",
    "drawdowns": "core.statistics.risk_return",
    "excess": "core.returns.asset_returns",
    "factor_betas": "core.pricing.factor_betas",
    "fill": "core.transform.levels",
    "filtered_beta": "core.pricing.kalman_beta",
    "growth": "core.transform.growth",
    "holdings": "core.statistics.positions",
    "industry_betas": "core.pricing.peers",
    "innovations": "core.transform.innovations",
    "joint_alpha_test": "core.pricing.joint_alpha",
    "lag": "core.transform.levels",
    "lagged_beta": "core.pricing.single_factor",
    "limits": "sources.limits",
    "match_after": "core.returns.nearest_dates",
    "match_before": "core.returns.nearest_dates",
    "model_table": "report.model_tables",
    "momentum": "core.statistics.momentum",
    "peer_beta": "core.pricing.peers",
    "per_period": "core.returns.yields",
    "pooled_regress": "core.regression.panel_regression",
    "portfolio": "core.statistics.risk_return",
    "premium": "core.pricing.premium",
    "read_series": "sources.table",
    "rebase": "core.transform.levels",
    "regress": "core.regression.ols",
    "relative": "core.statistics.benchmark",
    "relever": "core.pricing.single_factor",
    "returns": "core.returns.asset_returns",
    "returns_after": "core.statistics.calendar_returns",
    "risk_return": "core.statistics.risk_return",
    "roll": "core.transform.rolling_statistics",
    "rolling_regress": "core.regression.rolling_regression",
    "run_study": "study",
    "save": "report.export",
    "spells": "core.transform.spells",
    "splice": "core.transform.splice",
    "spread": "core.transform.levels",
    "standardise": "core.transform.standardise",
    "suspect_prices": "core.returns.price_checks",
    "to_bars": "core.transform.aggregation",
    "to_currency": "core.currency.conversion",
    "to_frequency": "core.transform.aggregation",
    "to_log": "core.returns.asset_returns",
    "to_simple": "core.returns.asset_returns",
    "traded_prices": "core.returns.price_checks",
    "trail": "study.provenance",
    "two_pass": "core.pricing.two_pass",
    "unlever": "core.pricing.single_factor",
    "untraded_share": "core.returns.price_checks",
    "up_down_betas": "core.pricing.conditional_beta",
}
_MODULES = {"figures": "report.figures", "practice": "practice"}

__all__ = [*_HOME, *_MODULES]  # noqa: PLE0604 - names live in the map above


def __getattr__(name: str) -> Any:
    if name in _MODULES:
        return importlib.import_module(f"ultrum.{_MODULES[name]}")
    if name not in _HOME:
        raise AttributeError(f"module 'ultrum' has no attribute '{name}'")
    found = getattr(importlib.import_module(f"ultrum.{_HOME[name]}"), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
