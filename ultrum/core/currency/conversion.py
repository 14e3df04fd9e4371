"""Conversion of series to another currency, by measure.

A quote BASE/QUOTE is the amount of QUOTE paid for one BASE.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Dates, Floats
from ultrum.core.currency.exchange_rates import STALE_AFTER, ExchangeRates
from ultrum.core.series.input_checks import on_block
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesLike, SeriesTable, TimeSeries
from ultrum.core.time.period_grouping import last_days
from ultrum.errors import CurrencyError

_AT_A_MOMENT = ("price", "stock", "index")


@on_block()
@validate_arguments
def to_currency(
    x: SeriesTable,
    currency: str,
    rates: SeriesLike | Iterable[TimeSeries] | ExchangeRates,
    *,
    stale_after: int = STALE_AFTER,
) -> SeriesTable:
    """Convert prices, flows or returns.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Prices, stocks and indices are converted at the rate at the end of their period; flows at the average rate
        of the period; a return r becomes (1+r)(1+s) − 1 with s the return of the currency over the period (log
        returns add). Series already in ``currency`` are unchanged.
    currency : str
        Target currency, an ISO 4217 code.
    rates : TimeSeries, several, or ExchangeRates
        Exchange rates in either direction; an unquoted pair is crossed through the fewest quotes.
    stale_after : int
        A day without a quote uses the last one before it, up to this many weekdays old; otherwise the value is
        missing.

    Returns
    -------
    SeriesTable
        Data in the target currency.

    Raises
    ------
    CurrencyError
        If the quotes do not connect the currencies, or are averages where end values are needed; or if a series
        has no currency, is a rate, or is an excess return.

    Examples
    --------
    >>> import pandas as pd
    >>> days = pd.bdate_range("2024-01-01", periods=2)
    >>> price = TimeSeries.from_pandas(pd.Series([10.0, 11.0], days), measure="price", currency="QSR")
    >>> quote = TimeSeries.from_pandas(pd.Series([2.0, 2.0], days), measure="quote", unit="QSR/QML")
    >>> to_currency(price, "QML", quote).to_pandas().tolist()
    [20.0, 22.0]
    """
    table = _table_of(rates, stale_after)
    block, metadata_list = x.block.copy(), list(x.metadata)
    rates_by_pair: dict[tuple[str, str], Floats] = {}
    for i, metadata in enumerate(x.metadata):
        if metadata.currency == currency:
            continue
        kind = _kind_of(metadata)
        key = metadata.currency, kind
        if key not in rates_by_pair:
            rates_by_pair[key] = _rates_for(x, metadata, currency, kind, table)
        there = np.isfinite(block[:, i])
        block[:, i] = _convert_values(block[:, i], rates_by_pair[key], metadata.measure)
        without = int((there & ~np.isfinite(block[:, i])).sum()) or None
        converted = metadata.add_step(
            "to currency",
            {"currency": currency},
            to=currency,
            at=table.names_of(metadata.currency, currency),
            rate={"moment": "of its moment", "period": "average of its period", "change": "its change"}[kind],
            values_without_a_rate=without,
        )
        metadata_list[i] = converted
    return SeriesTable.from_arrays(block, x.index, metadata_list)


def _table_of(rates: SeriesLike | Iterable[TimeSeries] | ExchangeRates, stale_after: int) -> ExchangeRates:
    if isinstance(rates, ExchangeRates):
        return rates
    return ExchangeRates([rates] if isinstance(rates, TimeSeries) else rates, stale_after=stale_after)


def _kind_of(metadata: Metadata) -> str:
    """How a series is converted: at a point in time, over a period, or by a change."""
    if not metadata.currency:
        raise CurrencyError(
            f"{metadata.name} has no currency. If it is an amount of money, use with_metadata(currency=...)."
        )
    if metadata.is_return:
        if metadata.excess_of:
            raise CurrencyError(
                f"{metadata.name} is in excess of {metadata.excess_of}. Convert the returns first, then "
                "subtract the risk-free rate of the new currency."
            )
        return "change"
    if metadata.measure in _AT_A_MOMENT:
        return "period" if metadata.timing == "average" else "moment"
    if metadata.measure == "flow":
        return "period"
    raise CurrencyError(
        f"{metadata.name} is {metadata.measure_in_words}; only prices, stocks, indices, flows and returns "
        "convert."
    )


def _rates_for(x: SeriesTable, metadata: Metadata, currency: str, kind: str, table: ExchangeRates) -> Floats:
    """Rate of every row; for returns its change over the row's period."""
    frequency, timing = table.timing_of(metadata.currency, currency)
    if frequency > x.frequency:
        raise CurrencyError(
            f"{metadata.name} is {x.frequency.name}, the quotes of {metadata.currency} and {currency} are only "
            f"{frequency.name}; convert it to {frequency.name} first."
        )
    same = frequency == x.frequency and not frequency.is_dated
    if same and (timing == "average") != (kind == "period"):
        wanted = "averages of each period" if kind == "period" else "rates at each period's end"
        raise CurrencyError(
            f"{metadata.name} needs {wanted}; the quotes {table.names_of(metadata.currency, currency)} are "
            f"{timing or 'end'} values. Use daily quotes."
        )
    if kind == "period" and not same:
        return _averages(x, metadata.currency, currency, table)
    ends = last_days(x)
    quoted = table.rates(metadata.currency, currency, ends)
    if kind == "moment" or (same and kind == "period"):
        return quoted
    before = table.rates(metadata.currency, currency, _ends_before(x))
    return quoted / before - 1.0


def _ends_before(x: SeriesTable) -> Dates:
    """Last day of the period before each row."""
    if x.frequency.is_dated:
        return np.append(x.frequency.ends(x.ordinals[:1] - 1), last_days(x)[:-1])
    return x.frequency.ends(x.ordinals - 1)


def _averages(x: SeriesTable, base: str, quote: str, table: ExchangeRates) -> Floats:
    """Mean of the rates quoted within each row's period; for daily rows the rate of that day."""
    if x.frequency.is_dated:
        return table.rates(base, quote, last_days(x))
    pair = table.series(base, quote)
    days = pair.metadata.frequency.ends(pair.ordinals)
    place = np.searchsorted(x.ordinals, x.frequency.ordinals(days))
    inside = (place < len(x.index)) & (
        x.ordinals[np.minimum(place, len(x.index) - 1)] == x.frequency.ordinals(days)
    )
    count = np.bincount(place[inside], minlength=len(x.index))
    total = np.bincount(place[inside], pair.values.to_numpy()[inside], minlength=len(x.index))
    return np.where(count > 0, total / np.maximum(count, 1), np.nan)


def _convert_values(values: Floats, rates: Floats, measure: str) -> Floats:
    if measure == "return":
        return (1.0 + values) * (1.0 + rates) - 1.0
    if measure == "log_return":
        return values + np.log1p(rates)
    return values * rates
