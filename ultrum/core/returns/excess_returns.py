"""Excess returns: returns less the risk-free return."""

from __future__ import annotations

import numpy as np

from ultrum.core.arguments import checked
from ultrum.core.series.metadata import check_same
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.errors import CurrencyError, UnitError


@on_block
@checked
def excess(x: SeriesTable, risk_free: TimeSeries) -> SeriesTable:
    """Returns less the risk-free return of the same period.

    Never shifts a date: a yield is refused, and :func:`yield_to_return` turns it into a return first.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Returns, simple or logarithmic.
    risk_free : TimeSeries
        Simple risk-free return of each period.

    Returns
    -------
    SeriesTable
        Excess returns, decimal a period.

    Raises
    ------
    UnitError
        If ``risk_free`` is a yield, or ``x`` is in excess of something already.
    CurrencyError
        If both have currencies and these differ.

    Examples
    --------
    >>> import pandas as pd
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> r = TimeSeries.from_pandas(pd.Series([0.02, 0.01], months), measure="return")
    >>> bill = TimeSeries.from_pandas(pd.Series([0.002, 0.002], months), name="bill", measure="return")
    >>> excess(r, bill).to_pandas().round(3).tolist()
    [0.018, 0.008]
    """
    _check_risk_free(risk_free, x)
    rate = risk_free.values.reindex(x.index).to_numpy(dtype=np.float64)
    block = x.block.copy()
    for i, metadata in enumerate(x.metadata):
        if not metadata.is_return:
            raise UnitError(f"{metadata.name} is a {metadata.measure or 'series'}, not a return.")
        if metadata.excess_of:
            raise UnitError(
                f"{metadata.name} is already in excess of {metadata.excess_of}; "
                f"subtracting {risk_free.name} would count it twice."
            )
        block[:, i] -= np.log1p(rate) if metadata.measure == "log_return" else rate
    metadata_list = [a.stepped("excess", {"excess_of": risk_free.name}, of=risk_free.name) for a in x.metadata]
    return SeriesTable.from_arrays(block, x.index, metadata_list)


def _check_risk_free(risk_free: TimeSeries, x: SeriesTable) -> None:
    metadata = risk_free.metadata
    if metadata.measure != "return":
        raise UnitError(
            f"{metadata.name} is a {metadata.measure or 'series'}, not a return per period. "
            "Turn a yield into returns with yield_to_return first."
        )
    mine = x.metadata[0].changed(measure="return", currency=metadata.currency, excess_of="")
    check_same(mine, metadata.changed(excess_of=""), "less")
    abroad = [a for a in x.metadata if a.currency and metadata.currency and a.currency != metadata.currency]
    if abroad:
        raise CurrencyError(
            f"{abroad[0].name} is in {abroad[0].currency}, {metadata.name} in {metadata.currency}; take the "
            "risk-free return of its own currency, or convert it with to_currency first."
        )
