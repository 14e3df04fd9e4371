"""Returns of portfolios with fixed or rebalanced weights."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Bools, Floats
from ultrum.core.series.series_or_table import refuse_no_values
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.statistics.return_samples import returns_in
from ultrum.core.time.durations import months_in
from ultrum.errors import AlignmentError, CurrencyError, UnitError, choices, listed

_OLDEST: Final = {"B": 6, "D": 8}  # periods since the market values, so that holidays do not end a portfolio


@checked
def portfolio(
    x: SeriesTable | pd.DataFrame,
    *,
    weights: str | Mapping[str, float] | SeriesTable = "equal",
    rebalance: str = "every period",
    name: str = "portfolio",
) -> TimeSeries:
    """Returns of a portfolio.

    Parameters
    ----------
    x : SeriesTable or DataFrame
        Simple returns.
    weights : "equal", mapping or SeriesTable
        Equal over the assets with a return; given by name; or market values, those at the end of the
        period before being used, of days those of the last five weekdays.
    rebalance : str
        ``"every period"``, ``"never"``, or a duration such as ``"P1Y"``; in between weights drift with
        returns.
    name : str
        Name of the result.

    Returns
    -------
    TimeSeries
        Weights are scaled to one over the assets that have a return in a period; a period in which
        none has, or market values are missing, is missing.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> r = SeriesTable.from_pandas(pd.DataFrame({"A": [0.1, 0.0], "B": [0.0, 0.1]}, months), measure="return")
    >>> portfolio(r).to_pandas().tolist(), portfolio(r, rebalance="never").to_pandas().round(4).tolist()
    ([0.05, 0.05], [0.05, 0.0476])
    """
    table = returns_in(x, "portfolio")
    if table.metadata[0].measure == "log_return":
        raise UnitError("Log returns do not add across assets; bring them to simple ones with to_simple.")
    currencies = sorted({a.currency for a in table.metadata if a.currency})
    if len(currencies) > 1:
        raise CurrencyError(
            f"The assets are in {' and '.join(currencies)}; bring their prices to one currency with to_currency."
        )
    targets = _targets(table, weights)
    rebalanced = _rebalancing(table, rebalance)
    values = _held(table.block, targets, rebalanced)
    missing = int((~np.isfinite(table.block)).sum())
    description = (
        weights if isinstance(weights, str) else "market values" if isinstance(weights, SeriesTable) else "given"
    )
    metadata = table.metadata[0].changed(name=name, title=name, address="", source="")
    metadata = metadata.stepped(
        "portfolio",
        of=len(table.names),
        weights=description,
        rebalance=rebalance,
        returns_missing=missing or None,
    )
    return TimeSeries.from_arrays(values, table.index, metadata)


def _targets(table: SeriesTable, weights: str | Mapping[str, float] | SeriesTable) -> Floats:
    """Wanted weights of every period, before they are scaled."""
    if isinstance(weights, SeriesTable):
        absent = [n for n in table.names if n not in weights.names]
        if absent:
            raise AlignmentError(f"No market value of {listed(absent)}.")
        refuse_no_values("portfolio", weights)
        values = weights.values[table.names]
        ordinals = weights.frequency.ordinals_of(values.index)
        place = np.searchsorted(ordinals, table.ordinals) - 1
        if table.frequency != weights.frequency:
            raise AlignmentError(
                f"Market values are {weights.frequency.name}, returns {table.frequency.name}; bring both to one."
            )
        age = table.ordinals - ordinals[np.maximum(place, 0)]
        fresh = (place >= 0) & (age <= _OLDEST.get(table.frequency.code, 1))
        return np.where(fresh[:, None], values.to_numpy()[np.maximum(place, 0)], np.nan)
    if weights == "equal":
        return np.ones(table.block.shape)
    if isinstance(weights, str):
        raise UnitError(f"weights='{weights}' is not known; it is equal, a mapping or market values.")
    unknown = [n for n in weights if n not in table.names]
    if unknown:
        raise AlignmentError(f"weights names '{unknown[0]}', which is not one of {choices(table.names)}.")
    shares = np.array([float(weights.get(n, 0.0)) for n in table.names])
    return np.broadcast_to(shares, table.block.shape)


def _rebalancing(table: SeriesTable, rebalance: str) -> Bools:
    """Rows at whose start the portfolio is rebalanced."""
    if rebalance == "every period":
        return np.ones(len(table.index), dtype=bool)
    rebalanced = np.zeros(len(table.index), dtype=bool)
    if len(rebalanced):
        rebalanced[0] = True
    if rebalance == "never":
        return rebalanced
    months = months_in(rebalance)
    if not months:
        raise UnitError(f"rebalance='{rebalance}' is not known; it is 'every period', 'never', 'P3M', 'P1Y' …")
    since = table.frequency.starts(table.ordinals).astype("datetime64[M]").astype(np.int64) // months
    return np.asarray(rebalanced | np.append(False, np.diff(since) != 0)[: len(rebalanced)])


def _held(block: Floats, targets: Floats, rebalanced: Bools) -> Floats:
    """Returns of what is held, weights drifting between the days they are set."""
    portfolio_return = np.full(len(block), np.nan)
    held = np.zeros(block.shape[1])
    for row, values in enumerate(block):
        there = np.isfinite(values)
        if rebalanced[row] or not held.any():
            held = np.where(np.isfinite(targets[row]), targets[row], 0.0)
        share = np.where(there, held, 0.0)
        total = share.sum()
        if total == 0:
            continue
        portfolio_return[row] = float((share * np.where(there, values, 0.0)).sum() / total)
        held = np.where(there, held * (1.0 + np.where(there, values, 0.0)), held)
    return portfolio_return
