"""Returns of portfolios, and the gain of positions (money-weighted return, IRR)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats
from ultrum.core.currency.exchange_rates import ExchangeRates
from ultrum.core.returns.nearest_dates import match_dates
from ultrum.core.returns.price_adjustment_and_errors import adjust_prices
from ultrum.core.series.input_checks import asset_codes, check_one_currency, refuse_no_values
from ultrum.core.series.metadata import hindsight_of
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.statistics.risk_return_and_drawdowns import Described, returns_in
from ultrum.core.time.frequency import months_in
from ultrum.core.time.period_labels_and_relative_dates import day_in, days_in
from ultrum.errors import AlignmentError, CurrencyError, UnitError, choices, name_list

_OLDEST: Final = {"B": 6, "D": 8}  # periods since the market values, so that holidays do not end a portfolio


@validate_arguments
def portfolio(
    x: SeriesTable | pd.DataFrame,
    *,
    weights: str | Mapping[str, float] | SeriesTable = "equal",
    rebalance: str = "every period",
    name: str = "portfolio",
) -> TimeSeries:
    """Portfolio returns: equal-weighted, value-weighted or fixed weights, buy-and-hold between rebalancing dates.

    Parameters
    ----------
    x : SeriesTable or DataFrame
        Simple returns.
    weights : "equal", mapping or SeriesTable
        Equal over the assets with a return; fixed by name; or market values, taken at the end of the period
        before (for daily data of the last five weekdays).
    rebalance : str
        ``"every period"``, ``"never"``, or a duration such as ``"P1Y"``; weights drift with returns in between.
    name : str
        Name of the result.

    Returns
    -------
    TimeSeries
        Weights are scaled to sum to one over the assets with a return; a period without any return, or without
        market values, is missing.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> r = SeriesTable.from_pandas(pd.DataFrame({"A": [0.1, 0.0], "B": [0.0, 0.1]}, months), measure="return")
    >>> portfolio(r).to_pandas().tolist(), portfolio(r, rebalance="never").to_pandas().round(4).tolist()
    ([0.05, 0.05], [0.05, 0.0476])
    """
    table = returns_in(x, "portfolio")
    check_one_currency(table.metadata, "portfolio")
    if table.metadata[0].measure == "log_return":
        raise UnitError("portfolio: log returns do not add across assets. Convert them with to_simple.")
    excess, total = ([m.name for m in table.metadata if bool(m.excess_of) is over] for over in (True, False))
    if excess and total:
        raise UnitError(
            f"portfolio: {excess[0]} is an excess return and {total[0]} a total return. Apply excess to all, or "
            "to none."
        )
    targets = _targets(table, weights)
    rebalanced = _rebalancing(table, rebalance)
    values = _drifting_returns(table.block, targets, rebalanced)
    missing = int((~np.isfinite(table.block)).sum())
    description = (
        weights if isinstance(weights, str) else "market values" if isinstance(weights, SeriesTable) else "given"
    )
    metadata = table.metadata[0].replace(name=name, title=name, address="", source="")
    incomes = {m.income for m in table.metadata}
    facts = {"hindsight": hindsight_of(table.metadata), "income": incomes.pop() if len(incomes) == 1 else ""}
    metadata = metadata.add_step(
        "portfolio",
        facts,
        of=len(table.names),
        weights=description,
        rebalance=rebalance,
        returns_missing=missing or None,
    )
    return TimeSeries.from_arrays(values, table.index, metadata)


def _targets(table: SeriesTable, weights: str | Mapping[str, float] | SeriesTable) -> Floats:
    """Target weights of every period, before scaling."""
    if isinstance(weights, SeriesTable):
        absent = [n for n in table.names if n not in weights.names]
        if absent:
            raise AlignmentError(f"No market value of {name_list(absent)}.")
        refuse_no_values("portfolio", weights)
        amounts = weights.select(table.names).metadata
        check_one_currency(amounts, "portfolio weights", "Convert the market values with to_currency.")
        values = weights.values[table.names]
        ordinals = weights.frequency.ordinals_of(values.index)
        place = np.searchsorted(ordinals, table.ordinals) - 1
        if table.frequency != weights.frequency:
            raise AlignmentError(
                f"Market values are {weights.frequency.name}, returns {table.frequency.name}. Convert both to "
                "one."
            )
        age = table.ordinals - ordinals[np.maximum(place, 0)]
        fresh = (place >= 0) & (age <= _OLDEST.get(table.frequency.code, 1))
        return np.where(fresh[:, None], values.to_numpy()[np.maximum(place, 0)], np.nan)
    if weights == "equal":
        return np.ones(table.block.shape)
    if isinstance(weights, str):
        raise UnitError(f"weights='{weights}' is not known; it is equal, a mapping or market values.")
    unknown = [n for n in weights if n not in table.names]
    if unknown:
        raise AlignmentError(f"weights names '{unknown[0]}', which is not one of {choices(table.names)}.")
    shares = np.array([float(weights.get(n, 0.0)) for n in table.names])
    return np.broadcast_to(shares, table.block.shape)


def _rebalancing(table: SeriesTable, rebalance: str) -> Bools:
    """Rows at whose start the portfolio is rebalanced."""
    if rebalance == "every period":
        return np.ones(len(table.index), dtype=bool)
    rebalanced = np.zeros(len(table.index), dtype=bool)
    if len(rebalanced):
        rebalanced[0] = True
    if rebalance == "never":
        return rebalanced
    months = months_in(rebalance)
    if not months:
        raise UnitError(f"rebalance='{rebalance}' is not known; it is 'every period', 'never', 'P3M', 'P1Y' …")
    since = table.frequency.starts(table.ordinals).astype("datetime64[M]").astype(np.int64) // months
    return np.asarray(rebalanced | np.append(False, np.diff(since) != 0)[: len(rebalanced)])


def _drifting_returns(block: Floats, targets: Floats, rebalanced: Bools) -> Floats:
    """Returns of the holdings, with weights that drift between rebalancing dates."""
    portfolio_return = np.full(len(block), np.nan)
    held = np.zeros(block.shape[1])
    for row, values in enumerate(block):
        there = np.isfinite(values)
        if rebalanced[row] or not held.any():
            held = np.where(np.isfinite(targets[row]), targets[row], 0.0)
        share = np.where(there, held, 0.0)
        total = share.sum()
        if total == 0:
            continue
        portfolio_return[row] = float((share * np.where(there, values, 0.0)).sum() / total)
        held = np.where(there, held * (1.0 + np.where(there, values, 0.0)), held)
    return portfolio_return


# Positions: the gain of purchases, simple and money-weighted


@dataclass(frozen=True, eq=False, repr=False)
class Holdings(Described):
    """Purchases and their market values.

    Attributes
    ----------
    table : DataFrame
        A row a purchase: ``asset date units price cost now value gain growth yearly``.
    by_asset : DataFrame
        ``cost value gain growth yearly``, the last the money-weighted return (internal rate of return).
    total : Series
        The same for all positions together.
    """

    by_asset: pd.DataFrame
    total: pd.Series


@validate_arguments
def positions(
    purchases: pd.DataFrame,
    prices: SeriesTable,
    *,
    dividends: pd.DataFrame | None = None,
    splits: pd.DataFrame | None = None,
    on: str | None = None,
    currency: str | None = None,
    rates: ExchangeRates | None = None,
) -> Holdings:
    """Positions: gain, holding-period return and annualised money-weighted return (IRR).

    Parameters
    ----------
    purchases : DataFrame
        ``asset date units`` and, if the price paid was not the close, ``price``. Negative units are sales.
    prices : SeriesTable
        Unadjusted daily closing prices.
    dividends, splits : DataFrame, optional
        As for :func:`adjust_prices`; dividends are reinvested.
    on : str, optional
        Valuation date; by default the last date of the prices. A day without trading uses the last one before it.
    currency : str
        Currency of the result; needs ``rates`` for prices in other currencies.
    rates : ExchangeRates, optional
        Exchange rates, where currencies differ.

    Returns
    -------
    Holdings
        ``yearly`` is (value/cost)^(365.25/days) − 1 for one purchase, and for several the internal rate of
        return. It is missing for holding periods under one day, or where no rate exists.

    Raises
    ------
    AlignmentError
        If an asset has no price, or none near a date.

    Examples
    --------
    >>> days = pd.bdate_range("2023-01-02", "2024-01-02")
    >>> close = pd.DataFrame({"BRTW": np.linspace(10.0, 11.0, len(days))}, days)
    >>> close = SeriesTable.from_pandas(close, measure="price", currency="QML")
    >>> bought = pd.DataFrame({"asset": ["BRTW"], "date": ["2023-01-02"], "units": [5]})
    >>> positions(bought, close).table["gain"].round(2).tolist()
    [5.0]
    """
    refuse_no_values("positions", prices)
    purchases = _purchases_in(purchases, prices)
    held = adjust_prices(prices, dividends, splits)
    day = pd.Timestamp(day_in(on or prices.index[-1], "on"))
    rows = [_row(p, prices, held, day, currency or "", rates) for p in purchases.to_dict("records")]
    table = pd.DataFrame(rows)
    by_asset = pd.DataFrame({a: _together(t, day) for a, t in table.groupby("asset", sort=False)}).T
    unit = (
        currency
        or "/".join(sorted({a.currency for a in prices.metadata if a.currency}))
        or "currency of the prices"
    )
    paid = "reinvested" if dividends is not None else "not given"
    basis = f"valued on {day.date()} in {unit}; dividends {paid}"
    if not currency and len({a.currency for a in prices.metadata if a.name in set(table["asset"])}) > 1:
        raise CurrencyError("The assets are in several currencies. Set currency and rates.")
    return Holdings(table, basis, by_asset, _together(table, day))


def _purchases_in(purchases: pd.DataFrame, prices: SeriesTable) -> pd.DataFrame:
    """Purchases with dates and numbers; refused if a column, a price or a value is missing."""
    absent = [c for c in ("asset", "date", "units") if c not in purchases]
    if absent:
        raise UnitError(f"Purchases need the columns asset, date and units; {name_list(absent)} is not there.")
    purchases = purchases.assign(asset=asset_codes(purchases["asset"]))
    unknown = [a for a in purchases["asset"].unique() if a not in prices.names]
    if unknown:
        raise AlignmentError(f"No price of {name_list(unknown)}; there are: {choices(prices.names)}.")
    units = pd.to_numeric(purchases["units"], errors="coerce").astype(np.float64)
    wrong = np.flatnonzero(~np.isfinite(units))
    if len(wrong):
        row = purchases.iloc[wrong[0]]
        raise UnitError(f"{row['asset']}, {row['date']}: units of '{row['units']}'; a number is expected.")
    days = days_in(purchases["date"], "date of a purchase")
    return purchases.assign(date=days.astype("datetime64[s]"), units=units)


def _row(
    bought: dict[object, Any],
    prices: SeriesTable,
    held: SeriesTable,
    day: pd.Timestamp,
    currency: str,
    rates: ExchangeRates | None,
) -> dict[str, object]:
    asset, when, units = str(bought["asset"]), pd.Timestamp(bought["date"]), float(bought["units"])
    if when > day:
        raise AlignmentError(f"{asset} was bought on {when.date()}, after the day of valuation {day.date()}.")
    close, now = (_price(prices[asset], at) for at in (when, day))
    grown = _price(held[asset], day) / _price(held[asset], when)  # shares and dividends included
    paid = float(bought["price"]) if pd.notna(bought.get("price", np.nan)) else close
    metadata = prices[asset].metadata
    cost = units * paid * _rate(metadata.currency, currency, rates, when)
    value = units * close * grown * _rate(metadata.currency, currency, rates, day)
    years = (day - when).days / 365.25
    growth = value / cost - 1.0 if cost else np.nan
    return {
        "asset": asset,
        "date": when,
        "units": units,
        "price": paid,
        "cost": cost,
        "now": now,
        "value": value,
        "gain": value - cost,
        "growth": growth,
        "yearly": (1.0 + growth) ** (1.0 / years) - 1.0 if years > 0 and growth > -1 else np.nan,
    }


def _price(series: TimeSeries, day: pd.Timestamp) -> float:
    matched = match_dates([day], series, max_age="P7D")
    value = float(matched["value"].iloc[0])
    if np.isnan(value):
        raise AlignmentError(f"{series.name} has no price on {day.date()} or within the seven days before it.")
    return value


def _rate(currency: str, wanted: str, rates: ExchangeRates | None, day: pd.Timestamp) -> float:
    if not wanted or currency == wanted:
        return 1.0
    if rates is None:
        raise CurrencyError(
            f"Prices are in {currency or 'no known currency'}. Set rates= to convert them to {wanted}."
        )
    return float(rates.rate(currency, wanted, on=day))


def _together(table: pd.DataFrame, day: pd.Timestamp) -> pd.Series:
    cost, value = float(table["cost"].sum()), float(table["value"].sum())
    years = (day - pd.DatetimeIndex(table["date"])).days.to_numpy() / 365.25
    return pd.Series(
        {
            "cost": cost,
            "value": value,
            "gain": value - cost,
            "growth": value / cost - 1.0 if cost else np.nan,
            "yearly": _money_weighted(table["cost"].to_numpy(), years, value),
        }
    )


def _money_weighted(costs: Floats, years: Floats, value: float) -> float:
    """The annual rate at which the payments grow to the value (internal rate of return)."""
    if not len(costs) or years.max() <= 0:
        return np.nan

    def _short(rate: float) -> float:
        return float((costs * (1.0 + rate) ** years).sum() - value)

    edges = np.concatenate([np.linspace(-0.999, 1.0, 60), np.geomspace(1.1, 1e4, 60)])
    signs = np.sign([_short(e) for e in edges])
    turns = np.flatnonzero(signs[1:] * signs[:-1] <= 0)
    if len(turns) != 1:  # none, or several: no single rate exists
        return np.nan
    low, high = edges[turns[0]], edges[turns[0] + 1]
    import scipy.optimize  # slow to import, and needed here alone

    return float(scipy.optimize.brentq(_short, low, high, xtol=1e-13))
