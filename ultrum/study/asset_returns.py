"""A study's assets: total returns in one currency from prices, dividends and splits; their names."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.currency.conversion import to_currency
from ultrum.core.currency.exchange_rates import ExchangeRates
from ultrum.core.returns.dividends_and_splits import events_not_used
from ultrum.core.returns.price_errors_and_untraded_days import mask_untraded
from ultrum.core.returns.price_log_and_excess_returns import returns, to_simple
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import calendar_days
from ultrum.core.time.period_labels_and_relative_dates import days_in
from ultrum.core.transform.aggregation import to_frequency
from ultrum.desk.desk import Desk
from ultrum.errors import StudyError, name_list
from ultrum.sources.table.price_and_event_columns import PriceTable, event_columns, price_table
from ultrum.study.result_checks import StudyWarning
from ultrum.study.schema import Study
from ultrum.study.sections import EventsSection


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
    """Total returns of every trading day, for the assets in the study's own currency."""
    if prices.holds_returns:
        raise StudyError(
            "[sensitivity] and [beta_forecasts] need daily prices, but the assets are returns. Remove the "
            "section, or "
            "use prices."
        )
    close = prices.prices
    home = plan.study.currency
    home_names = [a.name for a in close.metadata if not home or not a.currency or a.currency == home]
    dividends, splits, payments = (
        None if table is None else table[table["asset"].isin(home_names)]
        for table in _records_of_assets(plan, desk, close.names)
    )
    return returns(close.select(home_names), dividends=dividends, splits=splits, final_payments=payments)


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
    table = desk.table(section.table, records_only=True).records
    given = section.model_dump(exclude={"table"})
    return event_columns(table, section.table, ["asset", "date", number], given, assets)


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
