"""Lags by periods, and filling of gaps by a named rule."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ultrum.core.arguments import checked, refuse_unused
from ultrum.core.displayed_numbers import counted
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.durations import periods_in
from ultrum.errors import FrequencyError, UnitError


@on_block
@checked
def lag(x: SeriesTable, over: str | int = 1) -> SeriesTable:
    """Values moved to later periods, where they are the past; none is lost.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Data to work on; the result has the same form.
    over : str or int
        Periods, or a duration such as ``"P3M"``.

    Returns
    -------
    SeriesTable
        Data at their later periods.

    Examples
    --------
    >>> import ultrum as ul
    >>> import pandas as pd
    >>> x = pd.Series([1.0, 2.0], pd.period_range("2024-01", periods=2, freq="M"))
    >>> lag(ul.TimeSeries.from_pandas(x, measure="score")).to_pandas().index[-1]
    Period('2024-03', 'M')
    """
    count = int(over) if str(over).isdigit() else periods_in(str(over), x.frequency)
    if count < 1:
        raise FrequencyError(f"A lag of {counted(count, 'period')} would bring the future in; take at least 1.")
    if x.frequency.code in "HN":
        raise FrequencyError("Intraday series are not lagged by periods; convert them to days.")
    index = x.frequency.index(x.ordinals + count)
    return SeriesTable.from_arrays(x.block.copy(), index, [a.stepped("lagged", by=over) for a in x.metadata])


@on_block
@checked
def fill(
    x: SeriesTable,
    how: Literal["forward", "backward", "none"] = "forward",
    *,
    limit: int | None = None,
) -> SeriesTable:
    """Missing values from the one before or after; the trail counts them.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Data to work on; the result has the same form.
    how : {"forward", "backward", "none"}
        With ``"none"`` periods that are not listed are only put in, missing.
    limit : int, optional
        Periods filled in a row at most.

    Returns
    -------
    SeriesTable
        Data with fewer gaps.

    Raises
    ------
    UnitError
        If a flow or a return would be repeated, which would count it twice.

    Examples
    --------
    >>> import ultrum as ul
    >>> import numpy as np, pandas as pd
    >>> x = pd.Series([1.0, np.nan, np.nan], pd.period_range("2024-01", periods=3, freq="M"))
    >>> filled = fill(ul.TimeSeries.from_pandas(x, measure="rate", timing="end"), limit=1)
    >>> filled.to_pandas().tolist(), str(filled.metadata.trail[-1])
    ([1.0, 1.0, nan], 'filled (how forward, limit 1, values 1)')
    """
    for metadata in x.metadata:
        if how != "none" and (metadata.measure == "flow" or metadata.is_return):
            raise UnitError(
                f"{metadata.name} holds {metadata.measure.replace('_', ' ')}s; repeating one counts it twice."
            )
    frame = x.values
    if not x.frequency.is_dated and len(x.index):
        every = np.arange(x.ordinals[0], x.ordinals[-1] + 1)
        frame = frame.reindex(x.frequency.index(every))
    if how == "none":
        refuse_unused("how='none'", limit=limit)
    filled = {"forward": frame.ffill, "backward": frame.bfill}
    filled_frame = filled[how](limit=limit) if how in filled else frame
    counts = (frame.isna() & filled_frame.notna()).sum().to_numpy()
    metadata_list = [
        a.stepped("filled", how=how, limit=limit, values=int(c)) for a, c in zip(x.metadata, counts, strict=True)
    ]
    return SeriesTable.from_arrays(
        np.array(filled_frame.to_numpy(dtype=np.float64)), filled_frame.index, metadata_list
    )
