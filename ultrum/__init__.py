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
    from ultrum.core.adjusting import adjust_prices as adjust_prices
    from ultrum.core.align import align as align
    from ultrum.core.convert import to_bars as to_bars
    from ultrum.core.convert import to_frequency as to_frequency
    from ultrum.core.currency import to_currency as to_currency
    from ultrum.core.describe.correlation import correlations as correlations
    from ultrum.core.describe.distribution import distribution as distribution
    from ultrum.core.describe.momentum import momentum as momentum
    from ultrum.core.describe.purchases import holdings as holdings
    from ultrum.core.describe.relative import relative as relative
    from ultrum.core.describe.risk import drawdowns as drawdowns
    from ultrum.core.describe.risk import portfolio as portfolio
    from ultrum.core.describe.risk import risk_return as risk_return
    from ultrum.core.describe.seasons import calendar_grid as calendar_grid
    from ultrum.core.describe.seasons import returns_after as returns_after
    from ultrum.core.descriptor import Descriptor as Descriptor
    from ultrum.core.disaggregate import disaggregate as disaggregate
    from ultrum.core.frequency import Frequency as Frequency
    from ultrum.core.matching import match_after as match_after
    from ultrum.core.matching import match_before as match_before
    from ultrum.core.panel import Panel as Panel
    from ultrum.core.prices import dividend_yield as dividend_yield
    from ultrum.core.prices import suspect_prices as suspect_prices
    from ultrum.core.prices import traded_prices as traded_prices
    from ultrum.core.prices import untraded_share as untraded_share
    from ultrum.core.pricing.adjust import adjust_betas as adjust_betas
    from ultrum.core.pricing.betas import factor_betas as factor_betas
    from ultrum.core.pricing.cost_of_equity import cost_comparison as cost_comparison
    from ultrum.core.pricing.cost_of_equity import cost_of_equity as cost_of_equity
    from ultrum.core.pricing.cost_result import CostOfEquity as CostOfEquity
    from ultrum.core.pricing.currency_factor import currency_factor as currency_factor
    from ultrum.core.pricing.filtered import filtered_beta as filtered_beta
    from ultrum.core.pricing.joint_alpha import joint_alpha_test as joint_alpha_test
    from ultrum.core.pricing.moving import conditional_beta as conditional_beta
    from ultrum.core.pricing.moving import up_down_betas as up_down_betas
    from ultrum.core.pricing.one_factor import downside_beta as downside_beta
    from ultrum.core.pricing.one_factor import lagged_beta as lagged_beta
    from ultrum.core.pricing.one_factor import relever as relever
    from ultrum.core.pricing.one_factor import unlever as unlever
    from ultrum.core.pricing.peers import industry_betas as industry_betas
    from ultrum.core.pricing.peers import peer_beta as peer_beta
    from ultrum.core.pricing.pooled import pooled_regress as pooled_regress
    from ultrum.core.pricing.premium import Premium as Premium
    from ultrum.core.pricing.premium import premium as premium
    from ultrum.core.pricing.sensitivity import beta_sensitivity as beta_sensitivity
    from ultrum.core.pricing.two_pass import two_pass as two_pass
    from ultrum.core.pricing.two_pass_result import TwoPass as TwoPass
    from ultrum.core.rates import per_period as per_period
    from ultrum.core.ratetable import RateTable as RateTable
    from ultrum.core.regression.diagnose import Diagnosis as Diagnosis
    from ultrum.core.regression.diagnose import diagnose as diagnose
    from ultrum.core.regression.ols import regress as regress
    from ultrum.core.regression.results import BetaTable as BetaTable
    from ultrum.core.regression.results import Fit as Fit
    from ultrum.core.regression.rolling import rolling_regress as rolling_regress
    from ultrum.core.regression.rolling_result import RollingFit as RollingFit
    from ultrum.core.regression.stability import BreakTest as BreakTest
    from ultrum.core.regression.stability import break_test as break_test
    from ultrum.core.returns import excess as excess
    from ultrum.core.returns import returns as returns
    from ultrum.core.returns import to_log as to_log
    from ultrum.core.returns import to_simple as to_simple
    from ultrum.core.series import SeriesTable as SeriesTable
    from ultrum.core.series import TimeSeries as TimeSeries
    from ultrum.core.steps import add_step as add_step
    from ultrum.core.transform.composite import composite as composite
    from ultrum.core.transform.growth import difference as difference
    from ultrum.core.transform.growth import growth as growth
    from ultrum.core.transform.innovations import innovations as innovations
    from ultrum.core.transform.levels import cumulate as cumulate
    from ultrum.core.transform.levels import deflate as deflate
    from ultrum.core.transform.levels import fill as fill
    from ultrum.core.transform.levels import lag as lag
    from ultrum.core.transform.levels import rebase as rebase
    from ultrum.core.transform.levels import spread as spread
    from ultrum.core.transform.roll import bands as bands
    from ultrum.core.transform.roll import roll as roll
    from ultrum.core.transform.spells import spells as spells
    from ultrum.core.transform.splice import splice as splice
    from ultrum.core.transform.standardise import standardise as standardise
    from ultrum.desk import Desk as Desk
    from ultrum.desk import SeriesSet as SeriesSet
    from ultrum.desk.settings import add_source_kind as add_source_kind
    from ultrum.errors import DataWarning as DataWarning
    from ultrum.errors import UltrumError as UltrumError
    from ultrum.present import figures as figures
    from ultrum.present.model_tables import model_table as model_table
    from ultrum.present.saving import save as save
    from ultrum.sources.limits import Limits as Limits
    from ultrum.sources.limits import limits as limits
    from ultrum.sources.table import read_series as read_series
    from ultrum.stream.long_table import LongTable as LongTable
    from ultrum.stream.panel import LongPanel as LongPanel
    from ultrum.study import Study as Study
    from ultrum.study import run_study as run_study
    from ultrum.study.trail import trail as trail

__version__ = "0.1.0"

_HOME = {
    "BetaTable": "core.regression.results",
    "BreakTest": "core.regression.stability",
    "CostOfEquity": "core.pricing.cost_result",
    "DataWarning": "errors",
    "Descriptor": "core.descriptor",
    "Desk": "desk",
    "Diagnosis": "core.regression.diagnose",
    "Fit": "core.regression.results",
    "Frequency": "core.frequency",
    "Limits": "sources.limits",
    "LongPanel": "stream.panel",
    "LongTable": "stream.long_table",
    "Panel": "core.panel",
    "Premium": "core.pricing.premium",
    "RateTable": "core.ratetable",
    "RollingFit": "core.regression.rolling_result",
    "SeriesSet": "desk",
    "SeriesTable": "core.series",
    "Study": "study",
    "TimeSeries": "core.series",
    "TwoPass": "core.pricing.two_pass_result",
    "UltrumError": "errors",
    "add_source_kind": "desk.settings",
    "add_step": "core.steps",
    "adjust_betas": "core.pricing.adjust",
    "adjust_prices": "core.adjusting",
    "align": "core.align",
    "bands": "core.transform.roll",
    "beta_sensitivity": "core.pricing.sensitivity",
    "break_test": "core.regression.stability",
    "calendar_grid": "core.describe.seasons",
    "composite": "core.transform.composite",
    "conditional_beta": "core.pricing.moving",
    "correlations": "core.describe.correlation",
    "cost_comparison": "core.pricing.cost_of_equity",
    "cost_of_equity": "core.pricing.cost_of_equity",
    "cumulate": "core.transform.levels",
    "currency_factor": "core.pricing.currency_factor",
    "deflate": "core.transform.levels",
    "diagnose": "core.regression.diagnose",
    "difference": "core.transform.growth",
    "disaggregate": "core.disaggregate",
    "distribution": "core.describe.distribution",
    "dividend_yield": "core.prices",
    "downside_beta": "core.pricing.one_factor",
    "drawdowns": "core.describe.risk",
    "excess": "core.returns",
    "factor_betas": "core.pricing.betas",
    "fill": "core.transform.levels",
    "filtered_beta": "core.pricing.filtered",
    "growth": "core.transform.growth",
    "holdings": "core.describe.purchases",
    "industry_betas": "core.pricing.peers",
    "innovations": "core.transform.innovations",
    "joint_alpha_test": "core.pricing.joint_alpha",
    "lag": "core.transform.levels",
    "lagged_beta": "core.pricing.one_factor",
    "limits": "sources.limits",
    "match_after": "core.matching",
    "match_before": "core.matching",
    "model_table": "present.model_tables",
    "momentum": "core.describe.momentum",
    "peer_beta": "core.pricing.peers",
    "per_period": "core.rates",
    "pooled_regress": "core.pricing.pooled",
    "portfolio": "core.describe.risk",
    "premium": "core.pricing.premium",
    "read_series": "sources.table",
    "rebase": "core.transform.levels",
    "regress": "core.regression.ols",
    "relative": "core.describe.relative",
    "relever": "core.pricing.one_factor",
    "returns": "core.returns",
    "returns_after": "core.describe.seasons",
    "risk_return": "core.describe.risk",
    "roll": "core.transform.roll",
    "rolling_regress": "core.regression.rolling",
    "run_study": "study",
    "save": "present.saving",
    "spells": "core.transform.spells",
    "splice": "core.transform.splice",
    "spread": "core.transform.levels",
    "standardise": "core.transform.standardise",
    "suspect_prices": "core.prices",
    "to_bars": "core.convert",
    "to_currency": "core.currency",
    "to_frequency": "core.convert",
    "to_log": "core.returns",
    "to_simple": "core.returns",
    "traded_prices": "core.prices",
    "trail": "study.trail",
    "two_pass": "core.pricing.two_pass",
    "unlever": "core.pricing.one_factor",
    "untraded_share": "core.prices",
    "up_down_betas": "core.pricing.moving",
}
_MODULES = {"figures": "present.figures", "practice": "practice"}

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
