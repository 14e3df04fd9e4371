"""Cumulating: changes, flows or returns added up to a level."""

from __future__ import annotations

import numpy as np

from ultrum.core.arguments import checked
from ultrum.core.array_types import Bools, Floats
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.gaps import positions_of
from ultrum.core.time.period_labels import period_label
from ultrum.errors import UnitError


@on_block
@checked
def cumulate(x: SeriesTable, *, initial: float | None = None) -> SeriesTable:
    """Running totals of flows, or the growth of an amount at the returns of each period.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Flows give a running sum, returns and log returns the growth of an amount.
    initial : float, optional
        The sum before the first flow, by default 0; the amount before the first return, by default 1.

    Returns
    -------
    SeriesTable
        Totals, or the amount.

    Raises
    ------
    UnitError
        If values are missing inside, since nothing can be added across a gap, or the measure is none
        of these.

    Examples
    --------
    >>> import ultrum as ul
    >>> import pandas as pd
    >>> r = pd.Series([0.1, -0.1], pd.period_range("2024-01", periods=2, freq="M"))
    >>> cumulate(ul.TimeSeries.from_pandas(r, measure="return")).to_pandas().round(4).tolist()
    [1.1, 0.99]
    """
    kinds = {a.measure for a in x.metadata}
    if len(kinds) > 1 or not kinds <= {"flow", "return", "log_return"}:
        raise UnitError(f"cumulate takes flows or returns, not {', '.join(sorted(kinds))}.")
    kind = kinds.pop()
    block = x.block
    inside = np.isfinite(block)
    _refuse_gaps(x, inside)
    first = (0.0 if kind == "flow" else 1.0) if initial is None else initial
    cumulated = _cumulated(np.where(inside, block, 0.0), kind, first)
    facts = {"measure": "stock" if kind == "flow" else "index", "timing": "end"}
    if kind != "flow":
        facts["unit"] = "index"
    metadata_list = [a.stepped("cumulated", facts, start=f"{first:g}") for a in x.metadata]
    return SeriesTable.from_arrays(np.where(inside, cumulated, np.nan), x.index, metadata_list)


def _cumulated(clean: Floats, kind: str, first: float) -> Floats:
    if kind == "flow":
        return np.asarray(first + np.cumsum(clean, axis=0))
    if kind == "return":
        return np.asarray(first * np.cumprod(1.0 + clean, axis=0))
    return np.asarray(first * np.exp(np.cumsum(clean, axis=0)))


def _refuse_rates(metadata: Metadata, done: str) -> None:
    if metadata.measure in ("rate", "return", "log_return", "score"):
        raise UnitError(
            f"{metadata.name} is a {metadata.measure}, not a level, and cannot be {done}. "
            "Returns become a level with cumulate."
        )


def _refuse_gaps(x: SeriesTable, inside: Bools) -> None:
    for column, name in enumerate(x.names):
        rows = np.flatnonzero(inside[:, column])
        if not len(rows):
            continue
        holes = np.flatnonzero(~inside[rows[0] : rows[-1] + 1, column])
        steps = np.diff(positions_of(x.frequency, x.index)[rows])
        skipped = np.flatnonzero(steps != 1)
        if len(holes) or len(skipped):
            place = (
                f"from {period_label(x.index[rows[0] + holes[0]])} on"
                if len(holes)
                else f"after {period_label(x.index[rows[skipped[0]]])}"
            )
            raise UnitError(
                f"{name}: values are missing {place}; nothing can be cumulated across a gap. Fill it, or take a "
                "sample without it."
            )
