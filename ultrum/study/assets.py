"""A study's assets: prices to total returns in one currency, with dividends, splits and names."""

from __future__ import annotations

from dataclasses import replace

import pandas as pd

from ultrum.core.adjusting import unused_events
from ultrum.core.currency import to_currency
from ultrum.core.prices import traded_prices
from ultrum.core.returns import returns
from ultrum.core.series import SeriesTable, TimeSeries
from ultrum.desk import Desk
from ultrum.errors import StudyError
from ultrum.sources.table import Reading
from ultrum.study.checks import Caution
from ultrum.study.schema import Study


def read_prices(plan: Study, desk: Desk) -> Reading:
    """The table of prices: its price column by asset, or a wide table with a column for each asset."""
    reading = desk.table(plan.panel.assets)
    wide = bool(reading.fields) and all(t.names == [n] for n, t in reading.fields.items())
    if wide and plan.panel.price_column not in reading.fields:
        close = reading.wide()
        untold = not any(a.measure for a in close.about)
        close = close.described(measure="price") if untold else close
        return replace(reading, fields={plan.panel.price_column: close})
    if plan.panel.price_column not in reading.fields:
        raise StudyError(
            f"{plan.panel.assets} has no column '{plan.panel.price_column}'; it has: "
            f"{', '.join(reading.fields)}. Say price_column in [panel]."
        )
    return reading


def total_returns(plan: Study, desk: Desk, prices: Reading, warnings: list[Caution]) -> SeriesTable:
    """Total returns of every asset in the study's currency."""
    close = prices.fields[plan.panel.price_column]
    if plan.panel.volume_column in prices.fields:
        close = traded_prices(close, prices.fields[plan.panel.volume_column])
    dividends, splits, payments = (
        records_at(desk, address)
        for address in (plan.panel.dividends, plan.panel.splits, plan.panel.final_payments)
    )
    if dividends is None:
        warnings.append(Caution("all assets", "no dividends given; returns leave income out."))
    close, dividends = _one_currency(plan, desk, close, dividends, warnings)
    for asset in [] if payments is None else payments["asset"]:
        text = "delisted; its last return uses the recorded final payment."
        warnings.append(Caution(str(asset), text))
    made = returns(
        close,
        frequency=plan.study.frequency,
        dividends=dividends,
        splits=splits,
        final_payments=payments,
    )
    warnings += [
        Caution(name, f"{count} dividends or splits fall outside its prices and were not used.")
        for name, count in unused_events(made.about).items()
    ]
    return made


def daily_returns(plan: Study, desk: Desk, prices: Reading) -> SeriesTable:
    """Total returns of every trading day, of the assets in the study's own currency."""
    close = prices.fields[plan.panel.price_column]
    home = plan.study.currency
    own = [a.name for a in close.about if not home or not a.currency or a.currency == home]
    dividends, splits = (records_at(desk, a) for a in (plan.panel.dividends, plan.panel.splits))
    if dividends is not None and "currency" in dividends and home:
        dividends = dividends[dividends["currency"] == home]
    return returns(close.select(own), dividends=dividends, splits=splits)


def names_of(plan: Study, desk: Desk) -> dict[str, str]:
    """Full names of the assets, from the table of companies."""
    table = records_at(desk, plan.panel.companies)
    if table is None:
        return {}
    if "asset" not in table or "name" not in table:
        raise StudyError(f"{plan.panel.companies} needs the columns 'asset' and 'name'.")
    return {str(a): str(n) for a, n in zip(table["asset"], table["name"], strict=True)}


def records_at(desk: Desk, address: str) -> pd.DataFrame | None:
    """Dated records at an address; none where it is empty."""
    return desk.table(address, records_only=True).records if address else None


def _one_currency(
    plan: Study,
    desk: Desk,
    close: SeriesTable,
    dividends: pd.DataFrame | None,
    warnings: list[Caution],
) -> tuple[SeriesTable, pd.DataFrame | None]:
    """Prices and dividends converted to the study's currency with the quotes it names."""
    home = plan.study.currency
    abroad = [a.name for a in close.about if home and a.currency and a.currency != home]
    if not abroad:
        return close, dividends
    quotes = [desk.fetch(address) for address in plan.panel.exchange_rates]
    columns = []
    for name in close.names:
        series = close[name]
        if name in abroad:
            rate = _quote_for(series.about.currency, home, quotes, name)
            dividends = _dividends_converted(dividends, name, home, rate)
            warnings.append(
                Caution(
                    name,
                    f"posted in {series.about.currency}; prices and dividends "
                    f"converted to {home} at {rate.about.address}.",
                )
            )
            series = to_currency(series, home, rate)
        columns.append(series)
    return SeriesTable.of(columns), dividends


def _quote_for(currency: str, home: str, quotes: list[TimeSeries], asset: str) -> TimeSeries:
    for quote in quotes:
        if quote.about.unit in (f"{currency}/{home}", f"{home}/{currency}"):
            return quote
    raise StudyError(
        f"{asset} is posted in {currency}, the study is in {home}. Name a quote of the two in "
        "[panel] exchange_rates."
    )


def _dividends_converted(
    dividends: pd.DataFrame | None, asset: str, home: str, rate: TimeSeries
) -> pd.DataFrame | None:
    if dividends is None:
        return None
    own = (dividends["asset"] == asset).to_numpy()
    paid = pd.Series(
        dividends.loc[own, "amount"].to_numpy(dtype=float),
        pd.DatetimeIndex(dividends.loc[own, "date"].to_numpy()),
        name=asset,
    )
    currency = dividends.loc[own, "currency"].iloc[0] if own.any() else home
    if not own.any() or currency == home:
        return dividends
    flow = TimeSeries.wrap(paid, measure="flow", currency=currency, frequency=rate.about.frequency)
    converted = to_currency(flow, home, rate).to_pandas()
    changed = dividends.copy()
    changed.loc[own, "amount"] = converted.reindex(paid.index).to_numpy()
    changed.loc[own, "currency"] = home
    return changed
