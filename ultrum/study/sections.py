"""The sections of a study file, each key with its type."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Final, Literal

from pydantic import (
    AfterValidator,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    WithJsonSchema,
    model_validator,
)

from ultrum.core.arguments import LARGEST_RATE
from ultrum.core.currency.exchange_rates import is_currency
from ultrum.core.deprecated_names import warn_of_name
from ultrum.core.time.frequency import Frequency, last_day, parse_duration, parse_period
from ultrum.core.transform.steps import step_fault
from ultrum.desk.settings import KINDS, kinds
from ultrum.errors import UltrumError, one_of

Errors = Literal["classical", "hc0", "hc1", "hc2", "hc3", "hac", "hac-fixed-b", "ewc", "ewc-prewhitened"]
FigureName = Literal[
    "betas",
    "line of fit",
    "components",
    "rolling beta",
    "state-space beta",
    "break",
    "predicted against realised",
    "peers",
    "sensitivity",
    "risk and return",
    "growth of one",
    "model comparison",
    "beta forecasts",
    "costs side by side",
]
Export = Literal["csv", "xlsx", "parquet", "latex", "markdown", "sql", "png", "svg", "pdf"]
Adjustment = Literal["none", "vasicek", "blume"]
_EARLIER: Final = {"plain": "ols", "lagged": "dimson", "build-up": "components", "blend": "blume"}


def _name_now(word: object) -> object:
    """The current name of a word of an earlier release, so that earlier studies stay valid."""
    if isinstance(word, str) and word in _EARLIER:
        warn_of_name(f"'{word}'", f"'{_EARLIER[word]}'")
        return _EARLIER[word]
    return word


Estimator = Annotated[Literal["ols", "dimson"], BeforeValidator(_name_now)]
Figure = Annotated[FigureName, BeforeValidator(_name_now)]
Text = Annotated[str, Field(min_length=1)]


def _of(check: Callable[[str], object], *, optional: bool = False) -> AfterValidator:
    """A text that the package's own parser takes, the same in a study, a function and a command."""

    def _validate(text: str) -> str:
        if text or not optional:
            try:
                check(text)
            except UltrumError as error:
                raise ValueError(str(error)) from error
        return text

    return AfterValidator(_validate)


def _check_currency(code: str) -> None:
    if not is_currency(code):
        raise UltrumError(f"'{code}' is not a code of ISO 4217, such as EUR")


Duration = Annotated[str, _of(parse_duration)]
Currency = Annotated[str, _of(_check_currency, optional=True)]
Code = Annotated[str, _of(Frequency.parse)]
Day = Annotated[str, _of(parse_period, optional=True)]


def _check_rule(rule: str) -> None:
    if rule not in ("hindsight", "release lag", "release dates"):
        try:
            parse_duration(rule)
        except UltrumError:
            raise UltrumError(
                f"'{rule}' is not a rule. Write a duration such as 'P1M', 'release lag' or 'hindsight'."
            ) from None


def _check_bound(bound: str) -> None:
    if bound not in ("earliest", "latest"):
        parse_period(bound)


def _check_order(span: tuple[str, str]) -> tuple[str, str]:
    first, last = span
    dated = not {"earliest", "latest"} & set(span)
    if first == "latest" or last == "earliest" or (dated and parse_period(first)[1] > last_day(last)):
        raise ValueError("the span ends before it begins; exchange the two")
    return span


ReleaseRule = Annotated[str, _of(_check_rule)]
Bound = Annotated[str, _of(_check_bound)]
Span = Annotated[tuple[Bound, Bound], AfterValidator(_check_order)]
Whole = Annotated[int, Field(strict=True)]
Number = Annotated[float, Field(strict=True)]
Share = Annotated[Number, Field(gt=0, lt=1)]
Count = Annotated[Whole, Field(ge=1)]
LARGEST_DRAWS: Final = 100_000
Draws = Annotated[Whole, Field(ge=0, le=LARGEST_DRAWS)]


def _check_kind(kind: str) -> str:
    if kind not in kinds():
        raise ValueError(f"no kind '{kind}' of source; {one_of(kind, kinds()).rstrip('.')}")
    return kind


Kind = Annotated[str, AfterValidator(_check_kind), WithJsonSchema({"type": "string", "enum": list(KINDS)})]


class Section(BaseModel):
    """A table of the file; an unknown key is an error."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class ReleasesSection(Section):
    """Release dates of a series: a table of dates, or all its vintages."""

    releases: Text
    where: dict[str, str] = {}
    period: str = ""
    date: str = ""
    value: str = ""
    use: Literal["dates", "vintages"] = "dates"


class StudySection(Section):
    """Subject, sample and frequency of the study."""

    title: Text
    question: str = ""
    inherits: str = ""
    frequency: Code = "M"
    asset: str = ""
    currency: Currency = ""
    span: Span = ("earliest", "latest")
    known_by: ReleaseRule | dict[str, ReleaseRule | ReleasesSection] | None = None


def _as_names(value: object) -> object:
    if isinstance(value, dict):
        raise ValueError(
            'must be the name of a credential, such as credentials = "observatory_key"; define it in '
            "credentials.toml in your configuration folder, with the hosts it can be sent to"
        )
    return value


class Source(Section):
    """Where data come from."""

    kind: Kind
    url: Text
    format: Literal["csv", "csv2", "json", "json2", "xml", "xml generic"] = "csv"
    rest: Literal["", "2.1", "3.0"] = ""
    credentials: Annotated[str, BeforeValidator(_as_names)] = ""
    tables: dict[str, dict[str, object]] = {}
    snapshots: dict[str, dict[str, object]] = {}
    queries: dict[str, dict[str, str]] = {}


def _check_step(step: dict[str, object]) -> dict[str, object]:
    if fault := step_fault(step):
        raise ValueError(fault)
    return step


Step = Annotated[dict[str, Any], AfterValidator(_check_step)]


class CompositeSection(Section):
    """A composite index of other series of the study."""

    parts: Annotated[list[str], Field(min_length=2)]
    orient: dict[str, Literal[-1, 1]] = {}
    weights: dict[str, Number] = {}
    at_least: Count | None = None
    window: str | int = "all"


class SortSection(Section):
    """A factor from portfolios sorted from a table with a row per asset and date."""

    table: Text
    by: Annotated[
        dict[str, Count | Annotated[list[Annotated[Number, Field(gt=0, lt=1)]], Field(min_length=1)]],
        Field(min_length=1, max_length=3),
    ]
    formula: Text
    returns: str = ""
    weights: str = ""
    formation: Annotated[str, _of(Frequency.parse, optional=True)] = ""
    hold_for: Count | Duration | None = None
    order: Literal["independent", "dependent"] = "independent"
    cap: Annotated[Number, Field(gt=0, le=1)] | None = None
    min_assets: Count = 1
    rebalance: bool = False
    trading_cost: Annotated[Number, Field(ge=0, lt=0.5)] = 0.0
    members: str = ""
    delistings: str = ""
    prices: str = ""
    min_price: Annotated[Number, Field(gt=0)] | None = None
    breakpoints_from: str = ""

    @model_validator(mode="after")
    def _can_be_read(self) -> SortSection:
        if bool(self.prices) == (self.min_price is None):
            raise ValueError("prices and min_price need each other")
        from ultrum.core.portfolios.breakpoints_and_holdings import Groups
        from ultrum.core.portfolios.factors_from_sorts import formula_weights

        try:
            formula_weights({name: Groups.of(name, each).count for name, each in self.by.items()}, self.formula)
        except UltrumError as error:
            raise ValueError(str(error)) from error
        return self


class Series(Section):
    """A series: fetched by its address, a composite of others or a factor from a sort, transformed by steps."""

    address: str = ""
    composite: CompositeSection | None = None
    sort: SortSection | None = None
    currency_factor: str = ""
    rates: list[str] = []
    steps: list[Step] = []
    title: str = ""

    @model_validator(mode="after")
    def _one_origin(self) -> Series:
        if sum(map(bool, (self.address, self.composite, self.sort, self.currency_factor))) != 1:
            raise ValueError("a series needs exactly one of address, composite, sort and currency_factor")
        return self


class SetSection(Section):
    """Several series with the same steps, each under its own name."""

    series: Annotated[dict[str, str], Field(min_length=1)]
    steps: list[Step] = []


class PortfolioSection(Section):
    """A portfolio of assets, which becomes an asset of the panel."""

    assets: list[str] = []
    industry: str = ""
    weights: Literal["equal"] | dict[str, Number] = "equal"
    rebalance: str = "every period"


class EventsSection(Section):
    """A table of dividends, splits or final payments, and the headings of its columns."""

    table: Text
    asset: str = ""
    date: str = ""
    amount: str = ""
    ratio: str = ""


class PanelSection(Section):
    """What is lined up."""

    assets: Text | Annotated[list[Text], Field(min_length=1)]
    price_column: str = ""
    volume_column: str = ""
    companies: str = ""
    only: list[str] = []
    dividends: str | EventsSection = ""
    splits: str | EventsSection = ""
    final_payments: str | EventsSection = ""
    exchange_rates: list[str] = []
    factors: Text
    factor_units: Literal["percent", "decimal"] | None = None
    total_return_factors: list[str] = []
    risk_free: Text | Number | None = None
    conditions: list[str] = []
    rows: Literal["complete", "any"] = "complete"


class Model(Section):
    """A regression."""

    name: Text
    factors: Annotated[list[str], Field(min_length=1)]
    errors: Errors = "hac"
    lags: Annotated[Whole, Field(ge=0)] | Literal["automatic"] | None = None
    adjust: Literal["", "vasicek"] = ""


class TestsSection(Section):
    """Tests in addition to the regressions."""

    joint_alpha: list[Literal["exact", "robust", "bootstrap"]] = []
    diagnose: bool = False
    breaks: Literal["chow", "sup-f"] = "chow"
    rolling_window: Count | Duration | None = None


class TwoPassSection(Section):
    """Risk premia from two-pass regressions."""

    factors: list[str] = []
    beta_sample: Literal["full", "rolling"] = "full"
    window: Count | None = None
    draws: Annotated[Whole, Field(ge=49, le=LARGEST_DRAWS)] = 999


class PremiumSection(Section):
    """A premium: a mean of its history, or a value with its standard error."""

    mean: Annotated[Literal["arithmetic", "geometric", "blume"], BeforeValidator(_name_now)] = "arithmetic"
    horizon: Annotated[Number, Field(gt=0)] | None = None
    span: Span | None = None
    value: Number | None = None
    error: Annotated[Number, Field(ge=0)] = 0.0
    excess_of: str = ""
    basis: str = ""


class AddOn(Section):
    """An additional premium of a cost of equity, with its reason."""

    value: Number
    reason: Text


class PeersSection(Section):
    """Companies whose unlevered betas give the asset beta."""

    companies: list[str] = []
    accounts: Text
    debt: str = "net_debt_m"
    equity: str = "market_value_m"
    tax: str = "tax_rate"
    how: Literal["median", "mean", "value", "precision"] = "median"
    debt_beta: Number = 0.0


class CurrencySection(Section):
    """A second currency of the cost of equity."""

    code: Currency
    inflation: tuple[Number, Number]


_PREMIA: Final = ("history", "two-pass", "implied")


def _premium(value: object) -> object:
    """A premium in a known form, in decimals and not in percent."""
    if isinstance(value, str) and value not in _PREMIA:
        near = one_of(value, _PREMIA)
        form = 'write an annual number such as 0.05, "history", "two-pass", "implied" or a table'
        raise ValueError(near if near.startswith("did") else form)
    if isinstance(value, int | float) and not isinstance(value, bool) and abs(value) > LARGEST_RATE:
        raise ValueError(f"that is {100 * value:,.0f} % per year; write 0.05 for 5 %")
    return value


PremiumChoice = Annotated[
    Literal["history", "two-pass", "implied"] | Number | PremiumSection, BeforeValidator(_premium)
]


class HierarchicalSection(Section):
    """Costs of equity from loadings shrunk towards industry and, with accounts, size and leverage."""

    industry: Text = "industry"
    accounts: str = ""
    debt: str = "net_debt_m"
    equity: str = "market_value_m"


class CostSection(Section):
    """The cost of equity to compute."""

    company: Text
    model: Text
    premium: dict[str, PremiumChoice] = {}
    risk_free: str | Number | None = None
    on: Day = ""
    inflation: str = ""
    add_ons: dict[str, AddOn] = {}
    peers: PeersSection | None = None
    hierarchical: HierarchicalSection | None = None
    in_currency: CurrencySection | None = None
    draws: Draws = 0


class SensitivitySection(Section):
    """Sensitivity of a beta to specification."""

    markets: Annotated[list[str], Field(min_length=1)]
    risk_free: Text
    windows: Annotated[list[Duration], Field(min_length=1)] = ["P2Y", "P3Y", "P5Y", "P10Y"]
    frequencies: Annotated[list[Code], Field(min_length=1)] = ["W", "M"]
    adjustments: Annotated[list[Adjustment], Field(min_length=1)] = ["none", "vasicek", "blume"]
    estimators: Annotated[list[Estimator], Field(min_length=1)] = ["ols", "dimson"]
    chosen: dict[str, Annotated[str, BeforeValidator(_name_now)]] = {}
    published: Number | None = None


class ModelComparisonSection(Section):
    """The models of the study against each other, by squared Sharpe ratio and cross-sectional R²."""

    models: list[Text] = []
    how: Literal["exact", "robust"] = "robust"
    level: Share = 0.05
    draws: Annotated[Whole, Field(ge=49, le=LARGEST_DRAWS)] = 999


class BetaForecastsSection(Section):
    """Ways to estimate beta, by how well each forecasts the beta of the following period."""

    market: Text
    risk_free: Text
    windows: Annotated[list[Duration], Field(min_length=1)] = ["P2Y", "P3Y", "P5Y"]
    frequencies: Annotated[list[Code], Field(min_length=1)] = ["W", "M"]
    adjustments: Annotated[list[Adjustment], Field(min_length=1)] = ["none", "vasicek", "blume"]
    estimators: Annotated[list[Estimator], Field(min_length=1)] = ["ols", "dimson"]
    every: Duration = "P1Y"
    horizon: Duration = "P1Y"
    realised_frequency: Code = "W"
    base_case: dict[str, str] = {}


class ImpliedSection(Section):
    """Implied costs of equity from a table of forecasts, and the bias of such forecasts from past ones."""

    forecasts: Text
    model: Literal["constant growth", "two-stage", "H-model", "residual income", "abnormal earnings growth"] = (
        "two-stage"
    )
    long_run_growth: Annotated[Number, Field(ge=-0.5, le=0.5)] | None = None
    long_run_growth_error: Annotated[Number, Field(ge=0, le=0.5)] = 0.0
    fade_years: Annotated[Whole, Field(ge=0, le=100)] = 0
    persistence: Annotated[Number, Field(ge=0, le=1)] = 0.0
    history: str = ""
    market_values: Text = "market_value_m"
    bias: Annotated[Number, Field(gt=-1, lt=1)] = 0.0
    bias_error: Annotated[Number, Field(ge=0, lt=1)] = 0.0

    @model_validator(mode="after")
    def _one_bias(self) -> ImpliedSection:
        if self.history and (self.bias or self.bias_error):
            raise ValueError("history gives the bias; remove bias and bias_error, or history")
        return self


class FigureWords(Section):
    """Texts that replace those of a figure."""

    title: str = ""
    x: str = ""
    y: str = ""
    legend: dict[str, str] = {}


class ReportSection(Section):
    """Content of the report and its files."""

    figures: list[Figure] = ["betas", "line of fit", "components"]
    titles: dict[Figure, str | FigureWords] = {}
    export: list[Export] = ["csv"]
    level: Share = 0.95
    separator: Literal[",", ";", "\t", "|"] = ","
    decimal_mark: Literal[".", ","] = "."
    dates: Literal["period", "iso", "year and period"] = "period"
    interactive: bool = False

    @model_validator(mode="after")
    def _check_distinct(self) -> ReportSection:
        if self.separator == self.decimal_mark:
            raise ValueError("separator and decimal_mark must differ; use ';' with a decimal comma")
        return self
