"""Days without trade: prices masked, and their share."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats
from ultrum.core.returns.price_adjustment import check_measures
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.period_labels import span_of
from ultrum.errors import AlignmentError, listed


@checked
def mask_untraded(prices: SeriesTable, volume: SeriesTable) -> SeriesTable:
    """Prices of the days on which something was traded; quotes carried over are missing.

    A file that repeats the last price on days without trade makes an old price look fresh. With
    those days missing, the stale rule of :func:`returns` sees its true age.

    Parameters
    ----------
    prices, volume : SeriesTable
        Daily closes and volumes of the same assets, shape (T, N).

    Returns
    -------
    SeriesTable
        Prices with gaps on days without trade.

    Examples
    --------
    >>> days = pd.bdate_range("2024-01-01", periods=3)
    >>> close = SeriesTable.from_pandas(pd.DataFrame({"NTSH": [5.0, 5, 6]}, days), measure="price")
    >>> volume = SeriesTable.from_pandas(pd.DataFrame({"NTSH": [9.0, 0, 8]}, days), measure="flow")
    >>> mask_untraded(close, volume)["NTSH"].to_pandas().tolist()
    [5.0, nan, 6.0]
    """
    idle = _volume_like(prices, volume) == 0
    carried = np.sum(idle & np.isfinite(prices.block), axis=0)
    metadata_list = [
        a.stepped("traded days only", untraded=int(n)) if n else a
        for a, n in zip(prices.metadata, carried, strict=True)
    ]
    return SeriesTable.from_arrays(
        np.where(idle, np.nan, prices.block), prices.index, metadata_list, prices.causes
    )


def _volume_like(prices: SeriesTable, volume: SeriesTable) -> Floats:
    """Volumes on the days and of the assets of the prices; refused where they have none in common."""
    check_measures(prices)
    shares = volume.values.reindex(index=prices.index, columns=prices.names).to_numpy()
    if prices.block.size and not np.isfinite(shares).any():
        raise AlignmentError(
            f"No volume of {listed(prices.names)} on a day of their prices; the volumes are of "
            f"{listed(volume.names)}, {span_of(volume.index)}."
        )
    return np.asarray(shares)


@checked
def zero_volume_share(prices: SeriesTable, volume: SeriesTable) -> pd.Series:
    """Share of each asset's days, from first to last price, on which nothing was traded.

    Parameters
    ----------
    prices, volume : SeriesTable
        Daily closes and volumes of the same assets, shape (T, N).

    Returns
    -------
    Series, shape (N,)
        A day counts as untraded when its volume is zero or its price is missing.

    Examples
    --------
    >>> days = pd.bdate_range("2024-01-01", periods=4)
    >>> close = SeriesTable.from_pandas(pd.DataFrame({"NTSH": [5.0, 5, 6, 6]}, days), measure="price")
    >>> volume = SeriesTable.from_pandas(pd.DataFrame({"NTSH": [9.0, 0, 8, 7]}, days), measure="flow")
    >>> zero_volume_share(close, volume).to_dict()
    {'NTSH': 0.25}
    """
    priced = np.isfinite(prices.block)
    listed = (np.cumsum(priced, axis=0) > 0) & (np.cumsum(priced[::-1], axis=0)[::-1] > 0)
    still = listed & (~priced | (_volume_like(prices, volume) == 0))
    return pd.Series(still.sum(axis=0) / np.maximum(listed.sum(axis=0), 1), index=prices.names)
