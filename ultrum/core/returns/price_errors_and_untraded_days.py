"""Price errors, missing splits, and days without trading."""

from __future__ import annotations

from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats, Ints
from ultrum.core.returns.dividends_and_splits import check_measures
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.period_labels_and_relative_dates import period_label, span_of
from ultrum.errors import AlignmentError, name_list

_SPLITS: Final = (2.0, 3.0, 4.0, 5.0, 10.0, 20.0, 100.0)
_NEAR: Final = 0.06  # a day's own move compared with a split's ratio
_BIG: Final = 0.45  # log moves that are looked at: −36 % and +57 %
_AT_ONCE: Final = 64


@validate_arguments
def flag_price_errors(prices: SeriesTable) -> pd.DataFrame:
    """Dates of suspicious price moves (outliers): likely price errors or missing splits.

    Parameters
    ----------
    prices : SeriesTable
        Daily prices, adjusted for the known splits.

    Returns
    -------
    DataFrame
        ``series date change looks_like``: a price error (a move of more than −36 % or +57 % that reverses on the
        next day), a split (a permanent move near 2, 3, 4, 5, 10, 20, 100 to 1 or the reverse), or another jump
        beyond −70 % or +200 %. Smaller ratios, such as 3 to 2, cannot be distinguished from market moves.

    Examples
    --------
    >>> days = pd.bdate_range("2024-01-01", periods=4)
    >>> frame = pd.DataFrame({"A": [10.0, 10.1, 5.05, 5.1], "B": [7.0, 70.0, 7.1, 7.0]}, days)
    >>> flag_price_errors(SeriesTable.from_pandas(frame, measure="price"))["looks_like"].tolist()
    ['a split of 2 to 1', 'a bad tick']
    """
    check_measures(prices)
    rows: list[list[object]] = []
    for low in range(0, len(prices.names), _AT_ONCE):
        part = prices.block[:, low : low + _AT_ONCE]
        for column in np.flatnonzero(_jumps(part)):
            rows += _suspects(part[:, column], prices, prices.names[low + column])
    return pd.DataFrame(rows, columns=["series", "date", "change", "looks_like"])


def _jumps(block: Floats) -> Floats:
    """Columns with some day beyond the limit; gaps are checked one by one."""
    if len(block) < 2:
        return np.zeros(block.shape[1], dtype=bool)
    ratio = block[1:] / block[:-1]
    with np.errstate(invalid="ignore"):
        jumps = (ratio > np.exp(_BIG)) | (ratio < np.exp(-_BIG))
    return np.asarray(jumps.any(axis=0) | np.isnan(block).any(axis=0))


def _suspects(values: Floats, prices: SeriesTable, name: str) -> list[list[object]]:
    valid: Ints = np.flatnonzero(np.isfinite(values))
    moves = np.diff(np.log(values[valid]))
    rows: list[list[object]] = []
    taken_back = -1
    for at in np.flatnonzero(np.abs(moves) > _BIG):
        if at == taken_back:
            continue
        kind = _kind(moves, int(at))
        if kind:
            rows.append([name, period_label(prices.index[valid[at + 1]]), float(np.expm1(moves[at])), kind])
        if kind == "a bad tick":
            taken_back = int(at) + 1
    return rows


def _kind(moves: Floats, at: int) -> str:
    """What a large move looks like; empty where it can be a market move."""
    after = moves[at + 1] if at + 1 < len(moves) else 0.0
    if abs(moves[at] + after) < 0.25 * abs(moves[at]):
        return "a bad tick"
    for ratio in _SPLITS:
        if abs(abs(moves[at]) - np.log(ratio)) < _NEAR:
            return f"a split of {ratio:g} to 1" if moves[at] < 0 else f"a split of 1 to {ratio:g}"
    return "a jump" if moves[at] < np.log(0.3) or moves[at] > np.log(3.0) else ""


# Days without trade: prices masked, and their share


@validate_arguments
def mask_untraded(prices: SeriesTable, volume: SeriesTable) -> SeriesTable:
    """Prices on days with trading; carried-forward quotes become missing.

    A file that repeats the last price on days without trading makes an old price look recent. With these days
    missing, the stale-price rule of :func:`returns` uses the true age.

    Parameters
    ----------
    prices, volume : SeriesTable
        Daily closing prices and volumes of the same assets, shape (T, N).

    Returns
    -------
    SeriesTable
        Prices with gaps on days without trading.

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
        a.add_step("traded days only", untraded=int(n)) if n else a
        for a, n in zip(prices.metadata, carried, strict=True)
    ]
    return SeriesTable.from_arrays(
        np.where(idle, np.nan, prices.block), prices.index, metadata_list, prices.causes
    )


def _volume_like(prices: SeriesTable, volume: SeriesTable) -> Floats:
    """Volumes on the dates and for the assets of the prices; refused if they have none in common."""
    check_measures(prices)
    shares = volume.values.reindex(index=prices.index, columns=prices.names).to_numpy()
    if prices.block.size and not np.isfinite(shares).any():
        raise AlignmentError(
            f"No price date of {name_list(prices.names)} has a volume; the volumes are of "
            f"{name_list(volume.names)}, {span_of(volume.index)}."
        )
    return np.asarray(shares)


@validate_arguments
def zero_volume_share(prices: SeriesTable, volume: SeriesTable) -> pd.Series:
    """Share of days without trading of each asset, from its first to its last price.

    Parameters
    ----------
    prices, volume : SeriesTable
        Daily closing prices and volumes of the same assets, shape (T, N).

    Returns
    -------
    Series, shape (N,)
        A day has no trading when its volume is zero or its price is missing.

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
