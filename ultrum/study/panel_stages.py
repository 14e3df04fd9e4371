"""The function of each stage, from downloads to a panel."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any, Final, cast

import numpy as np
import pandas as pd

from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.panel.alignment import align
from ultrum.core.pricing.factor_betas_and_shrinkage import factor_betas, shrink_betas
from ultrum.core.pricing.premium import currency_factor
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.returns.price_log_and_excess_returns import excess
from ultrum.core.returns.price_log_and_excess_returns import returns as returns_of_prices
from ultrum.core.returns.yields import accrual_rate, yield_to_return
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.statistics.portfolios_and_positions import portfolio
from ultrum.core.time.frequency import Frequency, last_day, parse_period
from ultrum.core.time.period_labels_and_relative_dates import days_in
from ultrum.core.transform.aggregation import to_frequency
from ultrum.core.transform.splices_composites_spreads import composite
from ultrum.core.transform.steps import apply_steps
from ultrum.desk.desk import Desk
from ultrum.errors import StudyError, TableError, choices, name_list, warn_user
from ultrum.sources.download_and_limits import Address
from ultrum.sources.table.factor_columns import FactorReturns, check_rate, check_total, factor_returns
from ultrum.sources.table.price_and_event_columns import PriceTable, release_column, simple_returns
from ultrum.sources.table.reading_result import Decision
from ultrum.study.asset_returns_and_sorts import factor_of_sort, records_at, total_returns
from ultrum.study.result_checks import StudyWarning
from ultrum.study.schema import Study
from ultrum.study.sections import PortfolioSection, ReleasesSection, Series


def series_inputs(section: Series, sections: Mapping[str, Series]) -> list[str]:
    """Other series of the study that a series uses."""
    words = list(section.composite.parts) if section.composite else []
    for step in section.steps:
        for settings in step.values():
            values = settings.values() if isinstance(settings, Mapping) else [settings]
            for value in values:
                words += value if isinstance(value, list) else [value]
    return [w for w in dict.fromkeys(words) if isinstance(w, str) and w in sections]


def in_order(sections: Mapping[str, Series]) -> list[str]:
    """Names of series, each after those it uses."""
    order: list[str] = []

    def _place(name: str, above: tuple[str, ...]) -> None:
        if name in above:
            raise StudyError(
                f"The series {' and '.join(above)} depend on each other. Remove one of the references."
            )
        if name in order:
            return
        for other in series_inputs(sections[name], sections):
            _place(other, (*above, name))
        order.append(name)

    for name in sections:
        _place(name, ())
    return order


def make_series(plan: Study, desk: Desk, name: str, known: Mapping[str, TimeSeries]) -> TimeSeries:
    """One series after its steps; ``known`` has the other series of the study that it uses."""
    section = _section_of(plan, name)

    def _find(word: str) -> TimeSeries:
        return known[word] if word in known else desk.fetch(word)

    if section.address:
        start = desk.fetch(section.address)
    elif section.composite:
        gauge = section.composite
        start = composite(
            [_find(n).with_metadata(name=n) for n in gauge.parts],
            orient=dict(gauge.orient),
            weights=dict(gauge.weights) or None,
            at_least=gauge.at_least,
            window=gauge.window,
            name=name,
        )
    elif section.sort:
        start = factor_of_sort(section.sort, desk, name)
    else:
        if not isinstance(plan.panel.risk_free, str):
            raise StudyError(f"The series '{name}' needs [panel] risk_free, the address of a series.")
        home = rate_at(plan, desk, plan.panel.risk_free).with_metadata(currency=plan.study.currency)
        start = currency_factor(section.currency_factor, home, [desk.fetch(a) for a in section.rates])
    series = apply_steps(start, section.steps, _find)
    return series.with_metadata(title=section.title) if section.title else series


def _section_of(plan: Study, name: str) -> Series:
    """The section of a series, or of a member of a set."""
    for members in plan.sets.values():
        if name in members.series:
            return Series(address=members.series[name], steps=members.steps)
    return plan.series[name]


def returns_of_assets(plan: Study, desk: Desk, prices: PriceTable) -> tuple[SeriesTable, list[StudyWarning]]:
    """Total returns of every asset and portfolio, with warnings."""
    warnings: list[StudyWarning] = []
    asset_returns = total_returns(plan, desk, prices, warnings)
    asset_returns = with_portfolios(plan, asset_returns, records_at(desk, plan.panel.companies))
    asset_returns = limit_assets(plan, asset_returns)
    about = {*asset_returns.names, "all assets"}
    return asset_returns, [w for w in warnings if w.subject in about]


def betas_of_model(plan: Study, panel: Panel, name: str) -> BetaTable:
    """Betas of every asset by a model of the study, shrunk if that is set."""
    model = next(m for m in plan.models if m.name == name)
    table = factor_betas(panel, model.factors, errors=model.errors, lags=model.lags)
    single = [a for a in table.assets if a not in plan.portfolios]
    return shrink_betas(table, how=model.adjust, among=single) if model.adjust else table


def rate_at(plan: Study, desk: Desk, address: str) -> TimeSeries:
    """Risk-free return at an address: a column of returns, or a yield converted to returns."""
    wanted = Address.parse(address)
    if plan.sources[wanted.source].kind == "sdmx":
        return yield_to_return(desk.fetch(address), plan.study.frequency)
    if f"{wanted.source}:{wanted.path}" == plan.panel.factors:
        return _rate_of_factors(plan, desk, wanted.field)
    series_there = desk.table(address).series
    name = wanted.field or (next(iter(series_there)) if len(series_there) == 1 else "")
    if name not in series_there:
        raise StudyError(f"{address}: no column '{wanted.field}'; it has: {choices(series_there)}.")
    rate = series_there[name]
    if rate.metadata.measure == "rate":  # stated to be a yield per annum
        return yield_to_return(rate, plan.study.frequency)
    if rate.metadata.unit != "decimal":
        rate = _rate_by_size(rate, plan.panel.factor_units)
    rate = simple_returns(rate.as_table())[name]
    check_rate(address, rate)
    return rate


_PLAUSIBLE_RATES: Final = (0.001, 0.2)  # a year


def _rate_by_size(rate: TimeSeries, units: str | None) -> TimeSeries:
    """A rate whose file states no unit: in that of the factors, or if no rate has such a size, in the other."""
    yearly = abs(float(np.nanmean(rate.values))) * rate.periods_per_year
    low, high = _PLAUSIBLE_RATES
    fits = [u for u, divisor in (("decimal", 1.0), ("percent", 100.0)) if low <= yearly / divisor <= high]
    if len(fits) > 1 and units is None:
        raise StudyError(
            f"{rate.name}: its file states no unit, and {yearly:.3g} per year can be decimals or percent.",
            fix="Set units where it is read.",
            setting="units",
        )
    chosen = units if units in fits or not fits else fits[0]
    if chosen != units:
        shown = yearly if chosen == "percent" else 100.0 * yearly
        warn_user(
            f"{rate.name}: its file states no unit. By its size it is read as {chosen}: {shown:.2f} % per year. "
            "Set units where it is read."
        )
    if chosen != "percent":
        return rate
    metadata = rate.metadata.add_step("percent to decimals", {"unit": "decimal"})
    return TimeSeries(rate.values / 100.0, metadata)


def _rate_of_factors(plan: Study, desk: Desk, column: str) -> TimeSeries:
    """The risk-free column of the factor file, in the units of the factors, since its own size is ambiguous."""
    reading = desk.table(plan.panel.factors, units=plan.panel.factor_units)
    if column not in reading.series:
        raise StudyError(f"{plan.panel.factors}: no column '{column}'; it has: {choices(reading.series)}.")
    returns = factor_returns(reading, [*_factor_names(plan, reading.series), column])
    if returns.levels or column not in returns.table.names:
        raise StudyError(f"{plan.panel.factors}#{column} is a level; a factor must be a return per period.")
    check_rate(f"{plan.panel.factors}#{column}", returns.table[column])
    return returns.table[column]


def risk_free_return(plan: Study, desk: Desk) -> TimeSeries:
    """The panel's risk-free return from its address."""
    return rate_at(plan, desk, str(plan.panel.risk_free))


def _factor_names(plan: Study, columns: Iterable[str]) -> list[str]:
    """Factors of the models that are columns of the factor file."""
    there = set(columns)
    used = dict.fromkeys(f for m in plan.models for f in m.factors)
    return [f for f in used if f in there]


def factor_table(
    plan: Study, desk: Desk, own_series: Mapping[str, TimeSeries], rate: TimeSeries | float | None
) -> tuple[list[TimeSeries], tuple[Decision, ...]]:
    """Every factor used by a model: columns of the factor file, and series of the study."""
    wanted = list(dict.fromkeys(f for m in plan.models for f in m.factors))
    reading = desk.table(plan.panel.factors, units=plan.panel.factor_units)
    columns = [f for f in wanted if f not in own_series]
    returns = factor_returns(reading, _factor_names(plan, reading.series) if columns else ())
    absent = [name for name in columns if name not in returns.table.names]
    if absent:
        there = returns.table.names if returns.levels else list(reading.series)
        raise StudyError(f"{plan.panel.factors} has no factor {name_list(absent)}; it has: {choices(there)}.")
    factors = [
        own_series[name].with_metadata(name=name) if name in own_series else _factor(plan, returns, name, rate)
        for name in wanted
    ]
    return [_at_frequency(plan, factor, rate) for factor in factors], returns.decisions


def _factor(plan: Study, table: FactorReturns, name: str, rate: TimeSeries | float | None) -> TimeSeries:
    """One column of the factor file, in excess of the risk-free rate if there is one."""
    factor = table.table[name]
    total = table.levels or name in plan.panel.total_return_factors
    if table.levels:
        factor = returns_of_prices(factor, frequency=plan.study.frequency)
    if rate is None:
        if not total:
            raise StudyError(
                f"The factor '{name}' is treated as an excess return. Set [panel] risk_free to the rate's "
                f"address or an annual rate; or, if it is a total return, set total_return_factors = ['{name}']."
            )
        return factor
    if not total:
        check_total(plan.panel.factors, factor.metadata)
        over = rate.name if isinstance(rate, TimeSeries) else "risk_free"
        return factor.with_metadata(excess_of=over)
    if isinstance(rate, TimeSeries):
        if factor.metadata.frequency < rate.metadata.frequency:
            factor = to_frequency(factor, plan.study.frequency)
        return excess(factor, to_frequency(rate, factor.metadata.frequency))
    return excess(factor, accrual_rate(rate, factor.index, factor.metadata.frequency))


def _at_frequency(plan: Study, factor: TimeSeries, rate: TimeSeries | float | None) -> TimeSeries:
    """A traded factor at the study's frequency, if its own is higher."""
    target = Frequency.parse(plan.study.frequency)
    if not factor.metadata.is_return or not factor.metadata.frequency < target:
        return factor
    if isinstance(rate, float | int):
        rate = accrual_rate(rate, factor.index, factor.metadata.frequency)
    return to_frequency(factor, target, risk_free=rate)


def _rules_of(rules: object, names: Sequence[str]) -> object:
    """The rules of the series that the panel has; a study also states those of their parts."""
    return {n: r for n, r in rules.items() if n in names} if isinstance(rules, Mapping) else rules


def make_panel(
    plan: Study,
    desk: Desk,
    asset_returns: SeriesTable,
    factors: list[TimeSeries],
    conditions: Mapping[str, TimeSeries],
    rate: TimeSeries | float | None,
) -> Panel:
    """Returns, the factors of the models and the conditioning variables, aligned."""
    start, end = plan.study.span
    return align(
        assets=asset_returns,
        factors=SeriesTable.of(factors) if _alike(factors) else cast(Any, factors),
        risk_free=rate,
        conditions=[series.with_metadata(name=name) for name, series in conditions.items()] or None,
        frequency=plan.study.frequency,
        rows=plan.panel.rows,
        known_by=cast(Any, _rules_of(release_rules(plan, desk), [*(f.name for f in factors), *conditions])),
        start=None if start == "earliest" else start,
        end=None if end == "latest" else end,
    )


def within_span(series: TimeSeries, span: tuple[str, str]) -> TimeSeries:
    """The part of a series within a span of the study."""
    start, end = span
    frequency, ordinals = series.metadata.frequency, series.ordinals
    inside = np.ones(len(series), dtype=bool)
    if start != "earliest":
        inside &= ordinals >= frequency.ordinals([parse_period(start)[1]])[0]
    if end != "latest":
        inside &= ordinals <= frequency.ordinals([last_day(end)])[0]
    return TimeSeries(series.values[inside], series.metadata)


def _alike(series: list[TimeSeries]) -> bool:
    """Whether series have one frequency, so that they can share one table."""
    return len({s.metadata.frequency for s in series}) == 1


def release_rules(plan: Study, desk: Desk) -> object:
    """Publication lag of each series, with tables of releases."""
    settings = plan.study.known_by
    if not isinstance(settings, dict):
        return settings
    return {n: _release_dates(desk, v) if isinstance(v, ReleasesSection) else v for n, v in settings.items()}


def _release_dates(desk: Desk, section: ReleasesSection) -> pd.Series | pd.DataFrame:
    """Release date of each period, or every vintage, from a table of records."""
    where = section.releases
    table, released = _release_table(desk, where, section.date)
    headings = list(map(str, table))
    period = release_column(headings, where, "period", section.period)
    absent = [c for c in section.where if c not in table]
    if absent:
        there = choices(table)
        raise StudyError(f"{section.releases} has no column {name_list(absent)}; it has: {there}.")
    for column, wanted in section.where.items():
        table = table[table[column].astype(str) == wanted]
    if not len(table):
        raise StudyError(f"{section.releases} has no row that matches where = {section.where}.")
    if section.use == "vintages":
        value = release_column(headings, where, "value", section.value)
        columns = {"period": period, "released": released, "value": value}
        return pd.DataFrame({name: table[column] for name, column in columns.items()})
    return table[released].groupby(table[period].rename("period")).min()


def _release_table(desk: Desk, where: str, given: str) -> tuple[pd.DataFrame, str]:
    """A table of releases, and its column of release dates."""
    try:  # periods of several frequencies would hide the days, so their usual heading comes first
        table = desk.table(where, records_only=True, date_column=given or "released").records
        return table, "date" if "date" in table else given or "released"
    except TableError:
        if given:
            raise
    table = desk.table(where, records_only=True).records
    released = release_column(list(map(str, table)), where, "released")
    if released != "date":  # the reader names its column of dates "date"
        table = desk.table(where, records_only=True, date_column=released).records
        released = "date" if "date" in table else released
    return table, released


def with_portfolios(plan: Study, asset_returns: SeriesTable, companies: pd.DataFrame | None) -> SeriesTable:
    """The assets, followed by the study's portfolios."""
    if not plan.portfolios:
        return asset_returns
    extra = [_portfolio(name, section, asset_returns, companies) for name, section in plan.portfolios.items()]
    together = SeriesTable.of([*(asset_returns[n] for n in asset_returns.names), *extra])
    return together.copy_with(causes=asset_returns.causes)


def _portfolio(
    name: str, section: PortfolioSection, asset_returns: SeriesTable, companies: pd.DataFrame | None
) -> TimeSeries:
    members = list(section.assets)
    if section.industry and companies is not None:
        members = _of_industry(name, section.industry, asset_returns, companies)
    absent = [a for a in members if a not in asset_returns.names]
    if absent:
        names_there = choices(asset_returns.names)
        raise StudyError(f"The portfolio '{name}': no asset {name_list(absent)}; there are: {names_there}.")
    weights: Any = section.weights if section.weights == "equal" else dict(section.weights)
    return portfolio(asset_returns.select(members), weights=weights, rebalance=section.rebalance, name=name)


def _of_industry(name: str, industry: str, asset_returns: SeriesTable, companies: pd.DataFrame) -> list[str]:
    if "industry" not in companies:
        raise StudyError("The table of companies has no column 'industry'.")
    of_it = companies.loc[companies["industry"] == industry, "asset"].astype(str)
    members = [a for a in dict.fromkeys(of_it) if a in asset_returns.names]
    if not members:
        industries = ", ".join(map(str, companies["industry"].dropna().unique()))
        raise StudyError(
            f"The portfolio '{name}': no company with prices is in the industry '{industry}'; there are: "
            f"{industries}."
        )
    return members


def without_portfolios(plan: Study, panel: Panel) -> Panel:
    """The panel of single assets."""
    return replace(panel, assets=panel.assets.drop(columns=list(plan.portfolios), errors="ignore"))


def limit_assets(plan: Study, asset_returns: SeriesTable) -> SeriesTable:
    """The assets to which a run is limited."""
    wanted = plan.panel.only
    if not wanted:
        return asset_returns
    absent = [a for a in wanted if a not in asset_returns.names]
    if absent:
        raise StudyError(f"No asset {name_list(absent)}; there are: {choices(asset_returns.names)}.")
    return asset_returns.select(wanted)


def end_of(panel: Panel) -> np.datetime64:
    """Last day of a panel."""
    ordinals = panel.frequency.ordinals_of(panel.assets.index[-1:])
    return np.datetime64(panel.frequency.ends(ordinals)[0], "D")


def accounts_of(
    table: pd.DataFrame, address: str, columns: Mapping[str, str], end: np.datetime64
) -> pd.DataFrame:
    """The last accounts of each company up to a day: debt, equity and tax under these names, and their date.

    Examples
    --------
    >>> days = ["2023-12-31", "2024-12-31", "2025-12-31"]
    >>> table = pd.DataFrame({"asset": "A", "date": days, "debt": [1.0, 2.0, 9.0], "equity": [4.0, None, 9.0]})
    >>> columns = {"debt": "debt", "equity": "equity"}
    >>> accounts_of(table, "a.csv", columns, np.datetime64("2024-12-31")).to_dict("list")
    {'debt': [2.0], 'equity': [nan], 'date': ['2024-12-31']}
    """
    absent = [c for c in ("asset", "date", *columns.values()) if c not in table]
    if absent:
        raise StudyError(f"{address} has no column {name_list(absent)}; it has: {choices(table)}.")
    dated = table[days_in(table["date"], f"{address}, date") <= end]
    by_date = dated.sort_values("date", kind="stable")
    last = by_date.drop_duplicates("asset", keep="last").set_index("asset")  # a row as it is, its gaps too
    numbers = {name: pd.to_numeric(last[c], errors="coerce") for name, c in columns.items()}
    return pd.DataFrame(numbers).replace([np.inf, -np.inf], np.nan).assign(date=last["date"])
