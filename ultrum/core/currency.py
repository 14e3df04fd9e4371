"""Exchange rates in either direction, and series moved from one currency to another.

A quote BASE/QUOTE is the amount of QUOTE paid for one BASE.
"""

from __future__ import annotations

import numpy as np

from ultrum.core.convert import last_days
from ultrum.core.series import SeriesTable, TimeSeries, on_block
from ultrum.core.types import Floats
from ultrum.errors import CurrencyError


@on_block
def to_currency(
    x: SeriesTable, currency: str, rates: TimeSeries, *, max_age: int = 5
) -> SeriesTable:
    """Convert prices or flows at the exchange rate of their own day.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Prices or flows; series already in ``currency`` pass through.
    currency : str
        ISO 4217 code wanted.
    rates : TimeSeries
        A quote of the two currencies, either way round (its unit reads BASE/QUOTE).
    max_age : int
        A day without a quote takes the last before it, up to this many weekdays old;
        with none it is missing.

    Raises
    ------
    CurrencyError
        If the quote is not between the two currencies.

    Examples
    --------
    >>> import pandas as pd
    >>> days = pd.bdate_range("2024-01-01", periods=2)
    >>> price = TimeSeries.wrap(pd.Series([10.0, 11.0], days), measure="price", currency="QSR")
    >>> quote = TimeSeries.wrap(pd.Series([2.0, 2.0], days), measure="quote", unit="QSR/QML")
    >>> to_currency(price, "QML", quote).to_pandas().tolist()
    [20.0, 22.0]
    """
    block, abouts = x.block.copy(), list(x.about)
    for i, about in enumerate(x.about):
        if about.currency == currency:
            continue
        if about.measure not in ("price", "flow", "stock"):
            raise CurrencyError(
                f"{about.name} is a {about.measure or 'series of unknown measure'}; "
                "convert the prices before making returns."
            )
        block[:, i] *= _price_of(about.currency, currency, rates, x, max_age)
        abouts[i] = about.stepped("to currency", {"currency": currency}, at=rates.name)
    return SeriesTable.build(block, x.index, abouts)


def _price_of(base: str, quote: str, rates: TimeSeries, x: SeriesTable, max_age: int) -> Floats:
    """Amount of ``quote`` for one ``base`` on each row of ``x``; missing where none is fresh."""
    known = rates.as_table().values.dropna()
    if not len(known):
        raise CurrencyError(f"'{rates.name}' holds no rate.")
    quoted = rates.about.frequency.ends(rates.about.frequency.ordinals_of(known.index))
    wanted = last_days(x)
    place = np.searchsorted(quoted, wanted, side="right") - 1
    age = np.busday_count(quoted[np.maximum(place, 0)], wanted)
    fresh = (place >= 0) & (age <= max_age)
    found = np.where(fresh, known.iloc[:, 0].to_numpy()[np.maximum(place, 0)], np.nan)
    if rates.about.unit == f"{base}/{quote}":
        return found
    if rates.about.unit == f"{quote}/{base}":
        return 1.0 / found
    raise CurrencyError(
        f"'{rates.name}' quotes {rates.about.unit or 'no pair'}; converting {base} to {quote} needs "
        f"{base}/{quote} or {quote}/{base}."
    )
