"""Forward returns: what followed when a condition held."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Bools, Floats
from ultrum.core.displayed_numbers import counted
from ultrum.core.regression.engine.predictive_arrays import hodrick_1b
from ultrum.core.rounding import varies
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.statistics.calendar_returns import _on_calendar
from ultrum.core.statistics.return_samples import Described, returns_in, simple_block
from ultrum.core.time.durations import periods_in
from ultrum.core.time.gaps import positions_of
from ultrum.core.time.period_labels import span_of
from ultrum.errors import AlignmentError, EstimationError


@dataclass(frozen=True, eq=False, repr=False)
class ForwardReturns(Described):
    """Mean returns over horizons after a condition, against all dates."""


@checked
def forward_returns(
    x: TimeSeries,
    condition: pd.DataFrame | pd.Series | Sequence[Any],
    horizons: Sequence[str | int] = (1, 3, 6, 12),
) -> ForwardReturns:
    """Mean return over horizons that begin the period after a condition held.

    Parameters
    ----------
    x : TimeSeries
        Returns.
    condition : DataFrame, Series or sequence
        Spells as :func:`ultrum.spells` finds them (every period of a spell counts), a boolean Series, or
        periods.
    horizons : sequence of int or str
        Periods, or durations such as ``"P1Y"``.

    Returns
    -------
    ForwardReturns
        A row a horizon: ``after`` (mean compounded return), ``count``, ``all_dates``, ``difference``, its
        ``error`` and ``t``, ``p``. Horizons overlap, so these three are of the summed returns by 1B of Hodrick
        (1992), which regresses each period's return on the last h conditions.

    Raises
    ------
    AlignmentError
        If the condition never holds where a horizon is whole.
    EstimationError
        If the returns do not vary, or a horizon has no period.

    Examples
    --------
    >>> r = pd.Series([0.0, 0.1, 0.0, 0.1, 0.0, 0.1], pd.period_range("2024-01", periods=6, freq="M"))
    >>> made = forward_returns(TimeSeries.from_pandas(r, measure="return"), ["2024-01", "2024-03"], horizons=[1])
    >>> round(made.table.loc[1, "after"], 3).item()
    0.1
    """
    returns = _on_calendar(returns_in(x, "forward_returns").only())
    values = simple_block(returns.as_table())[:, 0]
    if not varies(values):
        raise EstimationError(f"{x.name} does not vary; there is nothing to compare.")
    holds = _holds(returns, condition)
    rows = {}
    for horizon in horizons:
        count = int(horizon) if str(horizon).isdigit() else periods_in(str(horizon), returns.metadata.frequency)
        if count < 1:
            raise EstimationError(f"horizons={list(horizons)}: a horizon is one period or more.")
        rows[horizon] = _after(values, _to_come(values, returns, count), holds, count, x.name)
    basis = (
        f"{x.metadata.heading}, {returns.metadata.frequency.name}, {span_of(returns.values.dropna().index)}; "
        "the condition holds in "
        f"{int(holds.sum())} of {counted(len(holds), 'period')}; errors 1B (Hodrick 1992); decimals"
    )
    return ForwardReturns(pd.DataFrame(rows).T.rename_axis("horizon"), basis)


def _holds(returns: TimeSeries, condition: Any) -> Bools:
    ordinals = returns.ordinals
    frequency = returns.metadata.frequency
    if isinstance(condition, pd.DataFrame):
        if not {"start", "end"} <= set(condition):
            raise AlignmentError(
                "A condition in a DataFrame needs the columns start and end, as spells has them; it has "
                f"{', '.join(map(str, condition))}."
            )
        held = np.zeros(len(ordinals), dtype=bool)
        for start, end in zip(condition["start"], condition["end"], strict=True):
            first, last = (frequency.ordinal_named(str(label)) for label in (start, end))
            held |= (ordinals >= first) & (ordinals <= last)
        return held
    if isinstance(condition, pd.Series):
        dates = condition[condition.fillna(False).astype(bool)].index
        return np.isin(ordinals, frequency.ordinals_of(dates))
    wanted = [frequency.ordinal_named(str(label)) for label in condition]
    return np.isin(ordinals, wanted)


def _to_come(values: Floats, returns: TimeSeries, count: int) -> Floats:
    """Compounded return of the next periods; missing where one is, or where the series ends."""
    forward = np.full(len(values), np.nan)
    ordinals = positions_of(returns.metadata.frequency, returns.index)
    for row in range(len(values) - count):
        if ordinals[row + count] - ordinals[row] == count:
            forward[row] = np.prod(1.0 + values[row + 1 : row + 1 + count]) - 1.0
    return forward


def _after(values: Floats, to_come: Floats, holds: Bools, count: int, name: str) -> dict[str, float]:
    whole = np.isfinite(to_come)
    if not (whole & holds).any() or (whole & ~holds).sum() < 2:
        raise AlignmentError(
            f"{name}: over {counted(count, 'period')} the condition holds at {int((whole & holds).sum())} "
            f"of {counted(int(whole.sum()), 'date')} with a "
            "whole horizon; there is nothing to compare."
        )
    slope = hodrick_1b(values[1:], holds[:-1].astype(float), count)
    after, others = float(to_come[whole & holds].mean()), float(to_come[whole & ~holds].mean())
    return {
        "after": after, "count": int((whole & holds).sum()), "all_dates": float(to_come[whole].mean()),
        "difference": after - others, "error": slope.error, "t": slope.t,
        "p": slope.p_value,
    }  # fmt: skip
