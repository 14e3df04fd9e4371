"""Returns of assets, and portfolios sorted on the user's own characteristics."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.currency.conversion import to_currency
from ultrum.core.currency.exchange_rates import ExchangeRates
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.portfolios.factors_from_sorts import SORTED, factor_from_portfolios
from ultrum.core.portfolios.portfolio_table_and_monotonicity import (
    PortfolioTable,
    monotonicity_tests,
    portfolio_table,
)
from ultrum.core.portfolios.sorted_portfolios import SortedPortfolios, sort_portfolios
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.returns.price_adjustment_and_errors import events_not_used, mask_untraded
from ultrum.core.returns.price_log_and_excess_returns import excess, returns, to_simple
from ultrum.core.series.metadata import Step
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import calendar_days
from ultrum.core.time.period_labels_and_relative_dates import days_in
from ultrum.core.transform.aggregation import to_frequency
from ultrum.desk.addresses_and_local_tables import LocalTables
from ultrum.desk.desk import Desk
from ultrum.errors import StudyError, TableError, name_list, one_of
from ultrum.sources.download_and_limits import Address
from ultrum.sources.table.factor_columns import FactorTable
from ultrum.sources.table.price_and_event_columns import PriceTable, event_columns, price_table, simple_returns
from ultrum.sources.table.reading_result import Decision, Reading
from ultrum.study.result_checks import StudyWarning
from ultrum.study.schema import Study
from ultrum.study.sections import EventsSection, SortSection


def read_prices(plan: Study, desk: Desk) -> PriceTable:
    """Prices of every asset, from one table or several."""
    panel = plan.panel
    tables = [
        price_table(desk.table(address), panel.price_column, panel.volume_column)
        for address in plan.price_addresses
    ]
    if len(tables) == 1:
        return tables[0]
    counts = Counter(name for t in tables for name in t.prices.names)
    twice = [name for name, count in counts.items() if count > 1]
    if twice:
        raise StudyError(f"{name_list(twice)}: prices are in more than one file. Remove one of them.")
    if len({t.holds_returns for t in tables}) > 1:
        raise StudyError("Some files contain prices and others returns. Use one kind.")
    volumes = [t.volumes for t in tables if t.volumes is not None]
    return PriceTable(
        _join_tables([t.prices for t in tables]),
        _join_tables(volumes) if volumes else None,
        ", ".join(dict.fromkeys(t.column for t in tables)),
        tuple(d for t in tables for d in t.decisions),
    )


def _join_tables(tables: Sequence[SeriesTable]) -> SeriesTable:
    return SeriesTable.of([table[name] for table in tables for name in table.names])


_LATE: Final = 45  # days without a price at the end, from which an asset may be delisted


def _early_ends(prices: SeriesTable, payments: pd.DataFrame | None) -> list[StudyWarning]:
    """Assets whose prices end long before those of the others, without a final payment."""
    paid = set() if payments is None else set(payments["asset"].astype(str))
    days = calendar_days(prices.index)
    ends = {n: days[row] for n, row in zip(prices.names, prices.bounds[1], strict=True) if row >= 0}
    latest = max(ends.values(), default=None)
    return [
        StudyWarning(
            name, f"its prices end on {day}, before the others; if it was delisted, add its final payment."
        )
        for name, day in ends.items()
        if name not in paid and latest is not None and latest - day > np.timedelta64(_LATE, "D")
    ]


def total_returns(plan: Study, desk: Desk, prices: PriceTable, warnings: list[StudyWarning]) -> SeriesTable:
    """Total returns of every asset in the study's currency."""
    if prices.holds_returns:
        return _returns_of_file(plan, prices)
    close = prices_of_trading_days(prices)
    dividends, splits, payments = _records_of_assets(plan, desk, close.names)
    if dividends is None and not all(a.income == "total" for a in close.metadata):
        warnings.append(StudyWarning("all assets", "no dividends are given, so returns exclude income."))
    warnings += _amounts_without_currency(close, {"dividends": dividends, "final payments": payments})
    close, (dividends, payments) = _one_currency(plan, desk, close, (dividends, payments), warnings)
    for asset in [] if payments is None else payments["asset"]:
        text = "delisted; its last return uses the final payment."
        warnings.append(StudyWarning(str(asset), text))
    warnings += _early_ends(close, payments)
    result = returns(
        close, frequency=plan.study.frequency, dividends=dividends, splits=splits, final_payments=payments
    )
    warnings += [
        StudyWarning(name, f"{count} dividends or splits outside its prices are not used.")
        for name, count in events_not_used(result.metadata).items()
    ]
    return result


def _amounts_without_currency(
    close: SeriesTable, events: Mapping[str, pd.DataFrame | None]
) -> list[StudyWarning]:
    """Amounts without a currency beside prices that a file states in hundredths of theirs, such as pence."""
    scaled = {m.name: m.currency for m in close.metadata if m.scale < 0 and m.currency}
    return [
        StudyWarning(
            asset,
            f"its prices are in hundredths of {scaled[asset]}, and its {what} state no currency: they are taken "
            f"in {scaled[asset]}. Put the currency into the heading of the amounts.",
        )
        for what, table in events.items()
        if table is not None and "currency" not in table
        for asset in dict.fromkeys(table["asset"].astype(str))
        if asset in scaled
    ]


def prices_of_trading_days(prices: PriceTable) -> SeriesTable:
    """Prices without days on which nothing was traded, if volumes are known."""
    if prices.volumes is None:
        return prices.prices
    names = prices.volumes.names
    if names == prices.prices.names:
        return mask_untraded(prices.prices, prices.volumes)
    masked = mask_untraded(prices.prices.select(names), prices.volumes)
    return SeriesTable.of([masked[n] if n in names else prices.prices[n] for n in prices.prices.names])


def _returns_of_file(plan: Study, prices: PriceTable) -> SeriesTable:
    """Returns from a file of returns, at the study's frequency."""
    events = {
        "dividends": plan.panel.dividends,
        "splits": plan.panel.splits,
        "final_payments": plan.panel.final_payments,
    }
    for key, events_section in events.items():
        if events_section:
            raise StudyError(f"The assets are already returns. Remove [panel] {key}.")
    return to_frequency(to_simple(prices.prices), plan.study.frequency)


def daily_returns(plan: Study, desk: Desk, prices: PriceTable) -> SeriesTable:
    """Total returns of every trading day in the study's currency; warnings are those of its own returns."""
    if prices.holds_returns:
        raise StudyError(
            "[sensitivity] and [beta_forecasts] need daily prices, but the assets are returns. Remove the "
            "section, or use prices."
        )
    close = prices.prices  # a masked day would leave out its week and month
    dividends, splits, payments = _records_of_assets(plan, desk, close.names)
    close, (dividends, payments) = _one_currency(plan, desk, close, (dividends, payments), [])
    return returns(close, dividends=dividends, splits=splits, final_payments=payments)


def _records_of_assets(plan: Study, desk: Desk, assets: Sequence[str]) -> tuple[pd.DataFrame | None, ...]:
    """Dividends, splits and final payments; empty if the study has no table of them."""
    asked = plan.panel
    return (
        _events(desk, asked.dividends, "amount", assets),
        _events(desk, asked.splits, "ratio", assets),
        _events(desk, asked.final_payments, "amount", assets),
    )


def _events(desk: Desk, events: str | EventsSection, number: str, assets: Sequence[str]) -> pd.DataFrame | None:
    """Events of the assets, with their columns under standard names."""
    section = EventsSection(table=events) if isinstance(events, str) and events else events
    if not isinstance(section, EventsSection):
        return None
    reading = desk.table(section.table, records_only=True)
    given = section.model_dump(exclude={"table"})
    roles = ["asset", "date", number]
    return event_columns(reading.records, section.table, roles, given, assets, reading.currencies)


def names_of(plan: Study, desk: Desk) -> dict[str, str]:
    """Full names of the assets, from the table of companies."""
    table = records_at(desk, plan.panel.companies)
    if table is None:
        return {}
    if "asset" not in table or "name" not in table:
        raise StudyError(f"{plan.panel.companies} needs the columns 'asset' and 'name'.")
    return {str(a): str(n) for a, n in zip(table["asset"], table["name"], strict=True)}


def records_at(desk: Desk, address: str) -> pd.DataFrame | None:
    """Dated records at an address; empty without an address."""
    return desk.table(address, records_only=True).records if address else None


def _one_currency(
    plan: Study, desk: Desk, close: SeriesTable, paid: Sequence[pd.DataFrame | None], warnings: list[StudyWarning]
) -> tuple[SeriesTable, list[pd.DataFrame | None]]:
    """Prices, and tables of payments, converted to the study's currency with its exchange rates."""
    home, converted = plan.study.currency, list(paid)
    abroad = [a.name for a in close.metadata if home and a.currency and a.currency != home]
    if not abroad:
        return close, converted
    quotes = [desk.fetch(address) for address in plan.panel.exchange_rates]
    columns = []
    for name in close.names:
        series = close[name]
        if name in abroad:
            currency = series.metadata.currency
            rate = _quote_for(currency, home, quotes, name)
            converted = [_convert_payments(table, name, currency, home, rate) for table in converted]
            text = (
                f"quoted in {currency}; prices and payments are converted to {home} at {rate.metadata.address}."
            )
            warnings.append(StudyWarning(name, text))
            series = to_currency(series, home, rate)
        columns.append(series)
    return SeriesTable.of(columns), converted


def _quote_for(currency: str, home: str, quotes: list[TimeSeries], asset: str) -> TimeSeries:
    for quote in quotes:
        if quote.metadata.unit in (f"{currency}/{home}", f"{home}/{currency}"):
            return quote
    raise StudyError(
        f"{asset} is quoted in {currency}, the study is in {home}. Add an exchange rate of the two to [panel] "
        "exchange_rates."
    )


def _convert_payments(
    table: pd.DataFrame | None, asset: str, currency: str, home: str, rate: TimeSeries
) -> pd.DataFrame | None:
    """Amounts of one asset in the study's currency; a table without a currency uses that of the prices."""
    if table is None:
        return None
    currencies = table["currency"] if "currency" in table else pd.Series(currency, table.index)
    foreign = ((table["asset"] == asset) & (currencies != home)).to_numpy()
    other = [c for c in currencies[foreign].unique() if c != currency]
    if other:
        raise StudyError(
            f"{asset} is quoted in {currency}, a payment is in {other[0]}. Convert it to {currency} or {home}."
        )
    if not foreign.any():
        return table
    days = days_in(table.loc[foreign, "date"], f"{asset}, date of what it paid")
    amounts = table.loc[foreign, "amount"].to_numpy(dtype=float)
    rates = ExchangeRates([rate]).rates(currency, home, days)
    if np.isnan(rates).any():
        day = days[np.isnan(rates)][0]
        raise StudyError(
            f"{asset} has a payment on {day}, a day without a rate in {rate.metadata.address}. Add the rate."
        )
    changed = table.astype({"amount": np.float64})
    changed.loc[foreign, "amount"] = amounts * rates
    if "currency" in table:
        changed.loc[foreign, "currency"] = home
    return changed


# Sorted portfolios

_PLAIN: Final = (
    "encoding",
    "delimiter",
    "header",
    "rows",
    "dates",
    "decimal mark",
    "format",
)  # where they are sure
_READ: Final = "columns of a sort"  # step with the decisions about its table


def sort_file(
    desk: Desk | LocalTables,
    address: str,
    by: Mapping[str, int | Sequence[float]],
    *,
    returns_column: str = "",
    weights_column: str = "",
    formation: str = "",
    hold_for: int | str | None = None,
    order: Literal["independent", "dependent"] = "independent",
    cap: float | None = None,
    min_assets: int = 1,
    rebalance: bool = False,
    prices_column: str = "",
    min_price: float | None = None,
    subset_column: str = "",
    members: str = "",
    delistings: str = "",
) -> tuple[SortedPortfolios, list[tuple[str, Decision]]]:
    """Portfolios sorted from a table with a row per asset and date, and the decisions about its tables by
    address.

    Parameters
    ----------
    desk : Desk or LocalTables
    address : str
        Address of the table. A unit that is given for all of it is that of its returns.
    by : mapping of str to int or sequence of float
        Columns to sort on, with their groups.
    returns_column, weights_column : str
        Columns of returns or prices, and of market values; recognised or equal if empty.
    formation, hold_for, order, cap, min_assets, rebalance
        As for :func:`ultrum.sort_portfolios`.
    prices_column, min_price : str and float, optional
        Column of prices, and the price below which an asset is left out at formation.
    subset_column : str
        Column of ones and zeros: assets with a one set the breakpoints.
    members, delistings : str
        Addresses of tables of members and of delisting returns; none by default.

    Raises
    ------
    TableError
        If a column does not exist, or no column has returns or prices.
    """
    reading = _long_table(desk, address)
    column, values, decision = _returns(reading, dict(reading.fields), returns_column)
    tables = desk if isinstance(desk, LocalTables) else desk.repository
    unit = tables.options_of(Address.parse(address), {}).units
    if isinstance(unit, str):
        reading = _long_table(desk, address, units={column: unit})
        _, values, _ = _returns(reading, dict(reading.fields), column)
    fields = dict(reading.fields)
    characteristics = {name: _column(reading, fields, name) for name in by}
    weights: SeriesTable | Literal["equal"] = "equal"
    if weights_column:
        weights = _column(reading, fields, weights_column)
    universe, of_members = _records(desk, members, ("asset", "entry", "exit"))
    gone, of_delistings = _records(desk, delistings, ("asset", "date", "return"))
    portfolios = sort_portfolios(
        values,
        characteristics,
        groups=dict(by),
        order=order,
        formation=formation,
        hold_for=hold_for or None,
        weights=weights,
        cap=cap,
        min_assets=min_assets,
        rebalance=rebalance,
        prices=_column(reading, fields, prices_column) if prices_column else None,
        min_price=min_price,
        breakpoints_from=_column(reading, fields, subset_column) if subset_column else None,
        universe=universe,
        delisting_returns=gone,
    )
    used = {column, weights_column, prices_column, subset_column, *by}
    idle = [name for name in (*fields, *reading.events) if name not in used]
    of_table = [(address, one) for one in (decision, *_not_used(idle), *_not_plain(reading))]
    return portfolios, [*of_table, *of_members, *of_delistings]


def _not_used(columns: Sequence[str]) -> list[Decision]:
    return [Decision("not used", f"column '{name}'") for name in columns]


def _not_plain(reading: Reading) -> list[Decision]:
    """Decisions of the reader that the user should see."""
    return [one for one in reading.decisions if one.certainty != "sure" or one.what not in _PLAIN]


def _records(
    desk: Desk | LocalTables, address: str, columns: tuple[str, ...]
) -> tuple[pd.DataFrame | None, list[tuple[str, Decision]]]:
    """Records at an address, if there is one, and the decisions about them."""
    if not address:
        return None, []
    reading = desk.table(address, records_only=True)
    table = reading.records
    if "entry" in columns and "entry" not in table:
        table = table.rename(columns={"date": "entry"})  # the reader takes it for the date of a record
    kept = [one for one in _not_plain(reading) if not any(one.what == f"column '{name}'" for name in columns)]
    idle = [str(name) for name in table if name not in columns]
    return table, [(address, one) for one in (*_not_used(idle), *kept)]


def _long_table(desk: Desk | LocalTables, address: str, units: Mapping[str, str] | None = None) -> Reading:
    """A table with a row per asset and date."""
    reading = desk.table(address, units=units)
    if all(_is_alone(name, table) for name, table in dict(reading.fields).items()):
        raise TableError(
            f"{reading.name} has a series per column; a sort needs a row per asset and date, with a column that "
            "names the asset."
        )
    return reading


def _column(reading: Reading, fields: Mapping[str, SeriesTable], name: str) -> SeriesTable:
    """A column of numbers by its heading."""
    if name not in fields:
        raise TableError(f"{reading.name} has no column of numbers '{name}'; {one_of(name, fields)}")
    return fields[name]


def _is_alone(name: str, table: SeriesTable) -> bool:
    """Whether a column is a series of its own, rather than one of many assets."""
    return len(table.names) < 2 or not name or table.names == [name]


def _returns(
    reading: Reading, fields: Mapping[str, SeriesTable], given: str
) -> tuple[str, SeriesTable, Decision]:
    """The column of returns or prices, the returns, and the decision about them."""
    if given:
        table = _column(reading, fields, given)
        if table.metadata[0].measure in ("price", "index"):
            return given, returns(table), _of_prices(given, table, "given")
        return given, simple_returns(table), Decision("returns", f"'{given}'", certainty="given")
    for measure in ("return", "price"):
        having = [name for name, table in fields.items() if table.metadata[0].measure == measure]
        if len(having) > 1:
            raise TableError(
                f"{reading.name}: {' and '.join(map(repr, having))} can each be the column of {measure}s.",
                fix="Set returns= to one of them.",
                setting="returns",
            )
        for name in having:
            table = _column(reading, fields, name)
            if measure == "price":
                return name, returns(table), _of_prices(name, table, "from the heading")
            return name, table, Decision("returns", f"'{name}'", certainty="from the heading")
    raise TableError(
        f"{reading.name} has no column with returns or prices in its heading; there are "
        f"{', '.join(map(repr, fields))}.",
        fix="Set returns= to the column.",
        setting="returns",
    )


def _of_prices(name: str, table: SeriesTable, certainty: str) -> Decision:
    """The decision about a column of prices, with what their returns leave out."""
    whole = all(m.income == "total" for m in table.metadata)
    words = "" if whole else "; dividends are not included"
    return Decision("returns", f"'{name}', prices converted to returns{words}", certainty=certainty)


def _portfolios_of(section: SortSection, desk: Desk) -> tuple[SortedPortfolios, list[tuple[str, Decision]]]:
    """The sorted portfolios of a section, and the decisions about its tables by address."""
    return sort_file(
        desk,
        section.table,
        section.by,
        returns_column=section.returns,
        weights_column=section.weights,
        formation=section.formation,
        hold_for=section.hold_for,
        order=section.order,
        cap=section.cap,
        min_assets=section.min_assets,
        rebalance=section.rebalance,
        prices_column=section.prices,
        min_price=section.min_price,
        subset_column=section.breakpoints_from,
        members=section.members,
        delistings=section.delistings,
    )


def factor_of_sort(section: SortSection, desk: Desk, name: str) -> TimeSeries:
    """The factor of a study that is made of sorted portfolios; its trail has what was decided and left out."""
    portfolios, decisions = _portfolios_of(section, desk)
    factor = factor_from_portfolios(portfolios, section.formula, name=name, trading_cost=section.trading_cost)
    chosen = "; ".join(
        f"{'' if address == section.table else f'{address}, '}{one.what}: {one.chosen}"
        for address, one in decisions
    )
    return factor.with_metadata(trail=(*factor.metadata.trail, Step(_READ, (("columns", chosen),))))


@dataclass(frozen=True)
class SortDescription:
    """The portfolios behind a sorted factor of a study.

    Attributes
    ----------
    portfolios : DataFrame
        By portfolio: ``mean std assets turnover`` and the mean of each characteristic.
    estimates : DataFrame
        By portfolio and spread: ``mean`` and its ``t``, then ``alpha`` and ``t`` of each model, in decimals per
        period.
    joint : mapping of str to float
        P value of zero alphas of all portfolios by model; missing where it is not tested.
    monotonic : tuple of float
        P values against no pattern, and that all steps rise; missing unless there is one characteristic.
    left_out : Series
        Assets left out of formations, by reason.
    basis : str
    """

    portfolios: pd.DataFrame
    estimates: pd.DataFrame
    joint: dict[str, float]
    monotonic: tuple[float, float]
    left_out: pd.Series
    basis: str


def describe_sort(plan: Study, desk: Desk, panel: Panel, name: str) -> SortDescription:
    """Portfolios of a sorted factor, their alphas under the models of the study, and tests of a pattern."""
    section = plan.series[name].sort
    if section is None:
        raise StudyError(f"The series '{name}' is not made of sorted portfolios.")
    portfolios, _ = _portfolios_of(section, desk)
    models = {
        m.name: list(m.factors)
        for m in plan.models
        if name not in m.factors and all(panel.metadata[f].is_return for f in m.factors)
    }
    estimates, joint = pd.DataFrame(), dict[str, float]()
    if models and panel.has_risk_free and panel.frequency == portfolios.returns.frequency:
        used = list(dict.fromkeys(f for names in models.values() for f in names))
        table = portfolio_table(
            portfolios,
            panel.factor_table.select(used),
            panel.rate,
            models=models,
            spread=section.formula,
            trading_cost=section.trading_cost,
        )
        columns = {"mean": table.to_frame()["mean", "value"], "t of mean": table.to_frame()["mean", "t"]}
        for model, fit in table.models.items():
            columns |= {f"alpha, {model}": fit.coefficients[CONSTANT], f"t, {model}": table.alpha_t(model)}
        estimates = pd.DataFrame(columns)
        joint = {m: table.joint[m].p_value if m in table.joint else float("nan") for m in models}
    monotonic = (float("nan"), float("nan"))
    if len(section.by) == 1 and len(portfolios.names) > 2:
        tests = monotonicity_tests(portfolios.returns)
        monotonic = tests.p_value, tests.all_steps_p
    left_out = portfolios.left_out["reason"].astype(str).value_counts()
    return SortDescription(portfolios.to_frame(), estimates, joint, monotonic, left_out, portfolios.basis)


def decisions_of_sorts(series: Mapping[str, TimeSeries]) -> list[Decision]:
    """What was decided about the tables that the factors of a study are sorted from."""
    return [Decision(f"factor {name}", text) for name, text in _settings(series, _READ, "columns")]


def notes_of_sorts(series: Mapping[str, TimeSeries]) -> list[StudyWarning]:
    """The rules of the sorts of a study, with what each left out and did not use."""
    return [
        StudyWarning(name, f"a factor from sorted portfolios. {text}")
        for name, text in _settings(series, SORTED, "portfolios")
    ]


def _settings(series: Mapping[str, TimeSeries], action: str, key: str) -> list[tuple[str, str]]:
    """A setting of a step of each series that has it."""
    steps = [(name, step) for name, one in series.items() for step in one.metadata.trail if step.action == action]
    return [(name, dict(step.settings)[key]) for name, step in steps if key in dict(step.settings)]


def table_of_sort(
    portfolios: SortedPortfolios,
    factors: FactorTable,
    more: Sequence[str],
    spreads: Sequence[str],
    errors: str,
    trading_cost: float = 0.0,
) -> PortfolioTable:
    """Mean excess returns, alphas and exposures on the market and more factors of a file.

    Raises
    ------
    TableError
        If the factor file has no risk-free return, or lacks a factor.
    """
    rate = factors.risk_free
    if rate is None:
        raise TableError("The factor file has no risk-free return, which the portfolios are in excess of.")
    names = list(dict.fromkeys([factors.market, *more]))
    for name in names:
        if name not in factors.factors.names:
            raise TableError(f"The factor file has no column '{name}'; {one_of(name, factors.factors.names)}")
    each = [factors.factors[name] for name in names]
    net = [one if one.metadata.excess_of else excess(one, rate) for one in each]
    table = SeriesTable.of(dict(zip(names, net, strict=True)))
    return portfolio_table(
        portfolios, table, rate, spread=list(spreads), errors=errors, trading_cost=trading_cost
    )
