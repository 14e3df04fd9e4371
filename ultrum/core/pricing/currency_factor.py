"""The currency factor of an international model."""

from __future__ import annotations

from collections.abc import Iterable

from ultrum.core.arguments import checked
from ultrum.core.currency.conversion import to_currency
from ultrum.core.currency.exchange_rates import ExchangeRates
from ultrum.core.returns.excess_returns import excess
from ultrum.core.series.time_series import SeriesLike, TimeSeries
from ultrum.errors import CurrencyError


@checked
def currency_factor(
    foreign_rate: TimeSeries | str,
    home_rate: TimeSeries,
    rates: SeriesLike | Iterable[TimeSeries] | ExchangeRates,
) -> TimeSeries:
    """What foreign bills earned at home over home bills: (1 + r*)(1 + s) − 1 − r (Adler and Dumas 1983).

    Parameters
    ----------
    foreign_rate : TimeSeries or str
        Risk-free returns per period, with their currency; or its code alone, for cash that earns nothing there.
    home_rate : TimeSeries
        Risk-free returns per period, with their currency.
    rates : TimeSeries, several, or ExchangeRates
        Quotes, in either direction.

    Returns
    -------
    TimeSeries
        A traded factor, in excess of the home rate, named after the foreign currency.

    Raises
    ------
    CurrencyError
        If a rate has no currency, or both have the same.

    Examples
    --------
    >>> import pandas as pd
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> there = TimeSeries.from_pandas(pd.Series(0.004, months), name="sorr bill",
    ...                                measure="return", currency="QSR")
    >>> here = TimeSeries.from_pandas(pd.Series(0.002, months), name="bill", measure="return", currency="QML")
    >>> quote = TimeSeries.from_pandas(pd.Series([2.0, 2.1, 2.1], months), measure="quote",
    ...                                unit="QSR/QML", timing="end")
    >>> currency_factor(there, here, quote).to_pandas().round(4).tolist()
    [nan, 0.0522, 0.002]
    """
    if isinstance(foreign_rate, str):
        facts = {"currency": foreign_rate, "name": f"cash in {foreign_rate}", "excess_of": ""}
        foreign_rate = TimeSeries(0.0 * home_rate.values, home_rate.metadata.stepped("cash", facts))
    home, abroad = home_rate.metadata.currency, foreign_rate.metadata.currency
    if not home or not abroad or home == abroad:
        raise CurrencyError(
            f"{foreign_rate.name} is in {abroad or 'no known currency'}, {home_rate.name} in "
            f"{home or 'no known currency'}; two different currencies are needed. "
            "Use .with_metadata(currency=...)."
        )
    factor = excess(to_currency(foreign_rate, home, rates), home_rate)
    return factor.with_metadata(name=abroad, title=f"{foreign_rate.name} over {home_rate.name}")
