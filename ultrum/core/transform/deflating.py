"""Deflating: nominal values at the prices of a base period."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.period_labels import period_label, span_of
from ultrum.core.transform.rebasing import rebase
from ultrum.errors import AlignmentError, CurrencyError, FrequencyError, UnitError


@on_block
@checked
def deflate(x: SeriesTable, prices: TimeSeries, *, base: str = "last") -> SeriesTable:
    """Money amounts at the prices of one period, or returns after inflation.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Amounts or prices in a currency, indices of them, or simple returns.
    prices : TimeSeries
        A price index of the same frequency.
    base : str
        Period whose prices are used, as for :func:`rebase`, or ``"last"`` common one.

    Returns
    -------
    TimeSeries or SeriesTable
        On the periods both have; a return is (1+r)/(1+π) − 1.

    Raises
    ------
    UnitError
        If ``prices`` is not an index, or ``x`` a rate or of another region.
    FrequencyError
        If the frequencies differ.

    Examples
    --------
    >>> import pandas as pd
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> pay = TimeSeries.from_pandas(pd.Series([100.0, 110.0], months), measure="flow", currency="QML")
    >>> cpi = TimeSeries.from_pandas(pd.Series([100.0, 110.0], months), measure="index", timing="average")
    >>> deflate(pay, cpi, base="2024-01").to_pandas().round(9).tolist()
    [100.0, 100.0]
    """
    for metadata in x.metadata:
        _check_deflating(metadata, prices.metadata)
    index = x.index.intersection(prices.values.dropna().index)
    lost = len(x.index) - len(index) or None
    if not len(index):
        raise AlignmentError(
            f"{x.names[0]} ({span_of(x.index)}) and {prices.name} ({span_of(prices.index)}) share no period."
        )
    common = prices.values.reindex(index)
    if all(a.is_return for a in x.metadata):
        inflation = _inflation(prices).reindex(index).to_numpy()
        block = (1.0 + x.values.reindex(index).to_numpy()) / (1.0 + inflation[:, None]) - 1.0
        metadata_list = [a.stepped("deflated", by=prices.name, rows_without_prices=lost) for a in x.metadata]
        return SeriesTable.from_arrays(block, index, metadata_list)
    wanted = period_label(index[-1]) if base == "last" else base
    at = TimeSeries(common, prices.metadata)
    price_level = rebase(at, wanted, value=1.0).values.to_numpy()
    block = x.values.reindex(index).to_numpy() / price_level[:, None]
    metadata_list = [
        a.stepped(
            "deflated",
            {"base_period": f"prices of {wanted}"},
            by=prices.name,
            base=wanted,
            rows_without_prices=lost,
        )
        for a in x.metadata
    ]
    return SeriesTable.from_arrays(block, index, metadata_list)


def _check_deflating(metadata: Metadata, prices: Metadata) -> None:
    if prices.measure not in ("index", "price"):
        raise UnitError(
            f"{prices.name} is a {prices.measure or 'series of unknown measure'}; deflating needs a price "
            "index. Cumulate inflation rates into one first."
        )
    if prices.frequency != metadata.frequency:
        raise FrequencyError(
            f"{metadata.name} is {metadata.frequency.name}, {prices.name} {prices.frequency.name}: bring both to "
            "one frequency with to_frequency first."
        )
    if metadata.measure in ("rate", "log_return", "score", "quote"):
        raise UnitError(
            f"{metadata.name} is a {metadata.measure}; only amounts, prices, indices and simple returns deflate. "
            "A real rate is a rate less expected inflation."
        )
    if metadata.region and prices.region and metadata.region != prices.region:
        raise UnitError(
            f"{metadata.name} is of {metadata.region}, the prices {prices.name} of {prices.region}. "
            "Take the price index of its own region."
        )
    if metadata.currency and prices.currency and metadata.currency != prices.currency:
        raise CurrencyError(
            f"{metadata.name} is in {metadata.currency}, the prices {prices.name} in {prices.currency}."
        )


def _inflation(prices: TimeSeries) -> pd.Series:
    ordinals = prices.ordinals
    values = prices.values.to_numpy()
    change = np.full(len(values), np.nan)
    change[1:] = np.where(np.diff(ordinals) == 1, values[1:] / values[:-1] - 1.0, np.nan)
    return pd.Series(change, prices.index)
