"""Dividend yields from payments, splits and prices."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Dates, Floats
from ultrum.core.returns.price_adjustment import check_measures, events_of
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.transform.window_bounds import months_before
from ultrum.errors import FrequencyError


@checked
def dividend_yield(
    prices: SeriesTable, dividends: pd.DataFrame, splits: pd.DataFrame | None = None
) -> SeriesTable:
    """Dividends of the year up to each day over the price of that day.

    Parameters
    ----------
    prices : SeriesTable
        Daily closes as they were.
    dividends, splits : DataFrame
        As for :func:`ultrum.adjust_prices`; a dividend paid before a split is per old share, and is
        divided by its ratio.

    Returns
    -------
    SeriesTable
        Decimals; missing in the first year of an asset's prices.

    Examples
    --------
    >>> days = pd.bdate_range("2023-01-02", "2024-02-01")
    >>> close = SeriesTable.from_pandas(pd.DataFrame({"A": np.full(len(days), 20.0)}, days), measure="price")
    >>> paid = pd.DataFrame({"asset": ["A"], "date": ["2023-06-01"], "amount": [1.0]})
    >>> dividend_yield(close, paid).to_pandas()["A"].iloc[-1].item()
    0.05
    """
    check_measures(prices)
    if not prices.frequency.is_dated:
        raise FrequencyError(
            f"{prices.names[0]} is {prices.frequency.name}; a dividend yield takes daily prices."
        )
    paid_by = dict(iter(events_of(dividends, "amount").groupby("asset")))
    split_by = {} if splits is None else dict(iter(events_of(splits, "ratio").groupby("asset")))
    days = pd.DatetimeIndex(prices.index).to_numpy().astype("datetime64[D]")
    back = months_before(days, 12)
    block = np.full(prices.block.shape, np.nan)
    for column, name in enumerate(prices.names):
        valid = np.flatnonzero(np.isfinite(prices.block[:, column]))
        if not len(valid):
            continue
        when, paid = _dated(paid_by.get(name), "amount")
        split = _dated(split_by.get(name), "ratio")
        amounts = paid / _later_splits(split, when, days[-1])
        order = np.argsort(when, kind="stable")
        total = np.append(0.0, np.cumsum(amounts[order]))
        ends = np.searchsorted(when[order], days, side="right")
        starts = np.searchsorted(when[order], back, side="right")
        per_old = 1.0 / _later_splits(split, days, days[-1])
        whole = back >= days[valid[0]]
        block[:, column] = np.where(
            whole, (total[ends] - total[starts]) / (prices.block[:, column] * per_old), np.nan
        )
    facts = {"measure": "rate", "unit": "decimal", "currency": "", "timing": "end", "income": ""}
    metadata_list = [a.stepped("dividend yield", facts, over="P1Y") for a in prices.metadata]
    return SeriesTable.from_arrays(block, prices.index, metadata_list)


def _dated(events: pd.DataFrame | None, value: str) -> tuple[Dates, Floats]:
    """Days and values of one asset's events."""
    if events is None:
        return np.empty(0, dtype="datetime64[D]"), np.empty(0)
    return events["date"].to_numpy().astype("datetime64[D]"), events[value].to_numpy()


def _later_splits(splits: tuple[Dates, Floats], when: Dates, last: np.datetime64) -> Floats:
    """Product of the split ratios after each day, up to the last."""
    factor = np.ones(len(when))
    for day, ratio in zip(*splits, strict=True):
        if day <= last:
            factor[when < day] *= ratio
    return factor
