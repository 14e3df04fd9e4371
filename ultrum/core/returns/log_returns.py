"""Simple returns to log returns and back."""

from __future__ import annotations

import numpy as np

from ultrum.core.arguments import checked
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesTable
from ultrum.errors import UnitError


@on_block
@checked
def to_simple(x: SeriesTable) -> SeriesTable:
    """Log returns as simple ones, exp(r) − 1; simple returns pass through.

    Parameters
    ----------
    x : SeriesTable or TimeSeries
        Returns, decimal.

    Returns
    -------
    SeriesTable
        Simple returns, decimal.

    Examples
    --------
    >>> import numpy as np
    >>> import pandas as pd
    >>> import ultrum as ul
    >>> r = pd.Series([np.log(1.1)], pd.period_range("2024-01", periods=1, freq="M"))
    >>> to_simple(ul.TimeSeries.from_pandas(r, measure="log_return")).to_pandas().round(12).tolist()
    [0.1]
    """
    return _of_kind(x, "log_return", "return", np.expm1)


@on_block
@checked
def to_log(x: SeriesTable) -> SeriesTable:
    """Simple returns as logarithmic ones, log(1 + r); log returns pass through.

    Parameters
    ----------
    x : SeriesTable or TimeSeries
        Returns, decimal.

    Returns
    -------
    SeriesTable
        Log returns, decimal.

    Raises
    ------
    UnitError
        If a return is −100 % or less, whose log is none; or it is in excess of something, since the
        log excess is log(1+r) − log(1+rf).

    Examples
    --------
    >>> import pandas as pd
    >>> import ultrum as ul
    >>> r = pd.Series([0.1], pd.period_range("2024-01", periods=1, freq="M"))
    >>> to_log(ul.TimeSeries.from_pandas(r, measure="return")).to_pandas().round(4).tolist()
    [0.0953]
    """
    for column, metadata in enumerate(x.metadata):
        if metadata.measure == "return" and np.nanmin(x.block[:, column], initial=0.0) <= -1.0:
            raise UnitError(f"{metadata.name} has a return of −100 % or less; it has no logarithm.")
    return _of_kind(x, "return", "log_return", np.log1p)


def _of_kind(x: SeriesTable, source: str, target: str, turn: np.ufunc) -> SeriesTable:
    block, metadata_list = x.block.copy(), list(x.metadata)
    for column, metadata in enumerate(x.metadata):
        if metadata.measure == target:
            continue
        if metadata.measure != source:
            raise UnitError(
                f"{metadata.name} is a {metadata.measure or 'series of unknown measure'}, not a return."
            )
        if metadata.excess_of:
            raise UnitError(
                f"{metadata.name} is in excess of {metadata.excess_of}; convert the returns first, then "
                "subtract with excess."
            )
        block[:, column] = turn(block[:, column])
        metadata_list[column] = metadata.stepped(
            "simple to log" if target == "log_return" else "log to simple", {"measure": target}
        )
    return SeriesTable.from_arrays(block, x.index, metadata_list)
