"""Momentum: past returns over calendar horizons, averaged and ranked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.statistics.horizons import months_of, row_at
from ultrum.core.statistics.return_samples import Described, returns_in, simple_block
from ultrum.core.time.durations import periods_in
from ultrum.core.time.period_labels import period_label, span_of
from ultrum.core.transform.window_bounds import months_before, row_before
from ultrum.errors import AlignmentError, FrequencyError


@dataclass(frozen=True, eq=False, repr=False)
class Momentum(Described):
    """Past returns of assets and their ranks.

    Attributes
    ----------
    table : DataFrame
        The last period: each horizon, ``average`` and ``rank`` (1 the highest).
    returns : dict of str to DataFrame
        Return over each horizon, shape (T, N).
    average, ranks : DataFrame, shape (T, N)
    """

    returns: dict[str, pd.DataFrame]
    average: pd.DataFrame
    ranks: pd.DataFrame


@checked
def momentum(
    x: SeriesTable | pd.DataFrame,
    horizons: Sequence[str] = ("P3M", "P6M", "P12M"),
    *,
    skip: str | None = None,
) -> Momentum:
    """Compounded past returns over calendar horizons, averaged and ranked.

    Parameters
    ----------
    x : SeriesTable or DataFrame
        Returns, of months or longer; or prices of any frequency, whose calendar is then used.
    horizons : sequence of str
        Durations.
    skip : str
        What is left out at the end, such as ``"P1M"``; the horizon is counted back from the period itself.

    Returns
    -------
    Momentum
        Missing where a horizon is not whole. Ties share the better rank.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> frame = pd.DataFrame({"A": [0.1, 0.1, 0.1], "B": [0.0, 0.0, 0.3]}, months)
    >>> r = SeriesTable.from_pandas(frame, measure="return")
    >>> momentum(r, ["P3M"]).table["rank"].to_dict()
    {'A': 1.0, 'B': 2.0}
    """
    table = x if isinstance(x, SeriesTable) else SeriesTable.from_pandas(x, measure="return")
    priced = all(a.measure in ("price", "index") for a in table.metadata)
    if not priced:
        table = returns_in(table, "momentum")
    if not len(table.index):
        raise AlignmentError("momentum was given no row; its series are empty.")
    if not len(horizons):
        raise AlignmentError("momentum was given no horizon; take one such as P12M.")
    by_horizon = {h: _past(table, h, skip or "", priced) for h in horizons}
    blocks = np.stack([frame.to_numpy() for frame in by_horizon.values()])
    average = pd.DataFrame(blocks.mean(axis=0), index=table.index, columns=table.names)
    ranks = average.rank(axis=1, ascending=False, method="min")
    whole = np.flatnonzero(average.notna().any(axis=1))
    if not len(whole):
        raise AlignmentError(
            f"No period has {', '.join(horizons)} behind it; the series run {span_of(table.index)}."
        )
    last = table.index[whole[-1]]
    shown = pd.DataFrame({h: frame.loc[last] for h, frame in by_horizon.items()})
    shown = shown.assign(average=average.loc[last], rank=ranks.loc[last]).sort_values("rank")
    skipped = f", the last {skip} left out" if skip else ""
    return Momentum(
        shown,
        f"past returns at {period_label(last)}{skipped}; decimals",
        by_horizon,
        average,
        ranks,
    )


def _past(table: SeriesTable, horizon: str, skip: str, priced: bool) -> pd.DataFrame:
    """Compounded return of the horizon that ends at each row, the skipped end left out."""
    ordinals = table.ordinals
    if table.frequency.is_dated:
        if not priced:
            raise FrequencyError("Momentum over calendar horizons takes daily prices, not daily returns.")
        days = table.frequency.starts(ordinals)
        start = row_before(days, months_before(days, months_of(horizon)))
        end = row_before(days, months_before(days, months_of(skip))) if skip else np.arange(len(days))
    else:
        width = periods_in(horizon, table.frequency)
        ago = periods_in(skip, table.frequency) if skip else 0
        if ago >= width:
            left = f"skip={skip} leaves nothing of {horizon}" if skip else f"the horizon {horizon} is empty"
            raise FrequencyError(f"momentum: {left}.")
        start, end = row_at(ordinals, ordinals - width), row_at(ordinals, ordinals - ago)
    if priced:
        levels = table.block
        there = (start >= 0) & (end >= 0)
        past = np.where(there[:, None], levels[end] / levels[start] - 1.0, np.nan)
        return pd.DataFrame(past, index=table.index, columns=table.names)
    return pd.DataFrame(_compounded(table, width, ago), index=table.index, columns=table.names)


def _compounded(table: SeriesTable, width: int, ago: int) -> Floats:
    """∏(1+r) − 1 over the rows from t − width + 1 to t − ago, by the calendar."""
    growth = 1.0 + simple_block(table)
    first, last = table.ordinals[0], table.ordinals[-1]
    every = np.full((int(last - first) + 1, growth.shape[1]), np.nan)
    every[table.ordinals - first] = growth
    compounded = np.full(every.shape, np.nan)
    if len(every) >= width:
        views = np.lib.stride_tricks.sliding_window_view(every, width, axis=0)[:, :, : width - ago]
        compounded[width - 1 :] = np.prod(views, axis=-1) - 1.0
    return np.asarray(compounded[table.ordinals - first])
