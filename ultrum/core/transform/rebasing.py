"""Rebasing: index levels relative to a base period."""

from __future__ import annotations

import numpy as np

from ultrum.core.arguments import checked
from ultrum.core.array_types import Bools, Ints
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.frequency import Frequency, parse_period
from ultrum.core.time.period_labels import period_label, span_of
from ultrum.core.transform.cumulating import _refuse_rates
from ultrum.errors import AlignmentError, UnitError, choices, listed


@on_block
@checked
def rebase(x: SeriesTable, base: str = "first", *, value: float = 100.0) -> SeriesTable:
    """Levels on a common base.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Prices, indices, stocks, flows or quotes.
    base : str
        Period at which each becomes ``value``: one of its own, a longer one whose average is meant
        (``"2015"``), or ``"first"``, the first at which all have a value.
    value : float
        Level in the base period.

    Returns
    -------
    SeriesTable
        Levels, with their base in the metadata.

    Raises
    ------
    AlignmentError
        If a series has no value in that period, or only part of it.
    UnitError
        If a series is a rate or a return.

    Examples
    --------
    >>> import ultrum as ul
    >>> import pandas as pd
    >>> cpi = pd.Series([80.0, 100.0], pd.period_range("2024-01", periods=2, freq="M"))
    >>> cpi = ul.TimeSeries.from_pandas(cpi, measure="index", timing="average")
    >>> rebase(cpi, "2024-01").to_pandas().tolist()
    [100.0, 125.0]
    """
    for metadata in x.metadata:
        _refuse_rates(metadata, "rebased")
    rows, label = _base_rows(x, base)
    base_values = x.block[rows]
    lacking = [n for n, part in zip(x.names, base_values.T, strict=True) if not np.isfinite(part).all()]
    if lacking:
        valid = x[lacking[0]].values.dropna().index
        raise AlignmentError(
            f"{lacking[0]} has no value in every period of {label}; it has {span_of(valid)}. Rebase to a "
            "period that all series have, or to 'first'."
        )
    level = base_values.mean(axis=0)
    if (level <= 0).any():
        raise UnitError(f"{x.names[int(np.argmax(level <= 0))]} is not positive in {label}.")
    facts = {"measure": "index", "unit": "index", "currency": "", "base_period": label}
    metadata_list = [a.stepped("rebased", facts, to=label, value=f"{value:g}") for a in x.metadata]
    return SeriesTable.from_arrays(x.block * (value / level), x.index, metadata_list)


def _base_rows(x: SeriesTable, to: str) -> tuple[Bools | Ints, str]:
    """Rows of the base period and its name."""
    if to == "first":
        whole = np.flatnonzero(np.isfinite(x.block).all(axis=1))
        if not len(whole):
            raise AlignmentError(f"{choices(x.names)} share no period with values for all.")
        return whole[:1], period_label(x.index[whole[0]])
    code, _ = parse_period(to)
    frequency = Frequency(code) if code != "D" else x.frequency
    if not x.frequency < frequency:
        frequency = x.frequency
    asked = frequency.ordinal_named(to)
    in_period = frequency.ordinals(x.frequency.ends(x.ordinals)) == asked
    expected = 1
    if not x.frequency.is_dated and frequency != x.frequency:
        ends = frequency.ends(np.array([asked]))
        expected = int(
            x.frequency.ordinals(ends)[0]
            - x.frequency.ordinals(frequency.starts(np.array([asked])))[0] + 1
        )  # fmt: skip
    if in_period.sum() < expected:
        rows = (
            f"only {int(in_period.sum())} of its {expected} {x.frequency.noun}s"
            if in_period.any()
            else "no period"
        )
        raise AlignmentError(f"{listed(x.names)} ({span_of(x.index)}): {rows} of {to}; choose another base.")
    return in_period, to
