"""Growth rates, simple or logarithmic, and differences."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ultrum.core.arguments import checked
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.displayed_numbers import counted
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.durations import months_in, periods_in
from ultrum.core.time.gaps import positions_of
from ultrum.core.time.period_labels import span_of
from ultrum.core.transform.window_bounds import months_before, row_before
from ultrum.errors import AlignmentError, UnitError, listed


@on_block
@checked
def growth(
    x: SeriesTable,
    *,
    over: str = "P1Y",
    kind: Literal["simple", "log"] = "simple",
    annualised: bool = False,
) -> SeriesTable:
    """Growth of each series over a calendar span.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Levels: prices, indices, stocks or flows.
    over : str
        ISO 8601 duration, such as ``"P1Y"`` or ``"P3M"``. Of daily data the earlier value is the last on
        or before the same day, at most five weekdays old.
    kind : {"simple", "log"}
        x/x₋ − 1, or log(x/x₋).
    annualised : bool
        Raise the growth to a yearly rate: (1+g)^(P/n) − 1, or g·P/n for logs.

    Returns
    -------
    TimeSeries or SeriesTable
        Decimals; missing where either end is missing. The first periods, which have nothing to
        grow from, are left out.

    Raises
    ------
    UnitError
        If ``x`` is a rate or a return already, or holds values that are not positive.

    Examples
    --------
    >>> import pandas as pd
    >>> from ultrum.core.series.time_series import TimeSeries
    >>> cpi = pd.Series([100.0, 101.0, 103.02], pd.period_range("2024-01", periods=3, freq="M"))
    >>> cpi = TimeSeries.from_pandas(cpi, name="cpi", measure="index", timing="average")
    >>> growth(cpi, over="P1M").to_pandas().round(4).tolist()
    [0.01, 0.02]
    """
    for metadata in x.metadata:
        _check_level(metadata, x[metadata.name].values.to_numpy())
    rows, earlier, there = _earlier(x, over)
    ratio = np.where(there[:, None], x.block[rows] / x.block[earlier], np.nan)
    grown = np.log(ratio) if kind == "log" else ratio - 1.0
    if annualised:
        months = months_in(over)
        lag = months / 12 if months else periods_in(over, x.frequency) / x.frequency.periods_per_year
        grown = _annualise(grown, 1.0 / lag, kind)
    facts = {"measure": "rate", "unit": "decimal", "currency": "", "base_period": ""}
    noted = annualised or None
    metadata_list = [a.stepped("growth", facts, over=over, kind=kind, annualised=noted) for a in x.metadata]
    return SeriesTable.from_arrays(grown, x.index[rows], metadata_list)


@on_block
@checked
def difference(x: SeriesTable, *, over: str | None = None) -> SeriesTable:
    """Change of each series over a calendar span, in its own unit.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Rates, indices, stocks, scores; not returns.
    over : str, optional
        ISO 8601 duration; by default one period.

    Returns
    -------
    TimeSeries or SeriesTable
        Missing where either end is. The change of a stock is a flow; that of a rate stays a rate.

    Raises
    ------
    UnitError
        If ``x`` holds returns, which are changes already.

    Examples
    --------
    >>> import pandas as pd
    >>> from ultrum.core.series.time_series import TimeSeries
    >>> rate = pd.Series([0.02, 0.025], pd.period_range("2024-01", periods=2, freq="M"))
    >>> difference(TimeSeries.from_pandas(rate, measure="rate", timing="end")).to_pandas().round(4).tolist()
    [0.005]
    """
    for metadata in x.metadata:
        if metadata.is_return:
            raise UnitError(f"{metadata.name} holds returns, which are changes already.")
    rows, earlier, there = _earlier(x, over)
    differences = np.where(there[:, None], x.block[rows] - x.block[earlier], np.nan)
    metadata_list = []
    for metadata in x.metadata:
        measure = {"stock": "flow", "rate": "rate", "flow": "flow"}.get(metadata.measure, "")
        timing = "total" if metadata.measure == "stock" else metadata.timing
        facts = {"measure": measure, "timing": timing}
        metadata_list.append(metadata.stepped("difference", facts, over=over or f"1 {x.frequency.noun}"))
    return SeriesTable.from_arrays(differences, x.index[rows], metadata_list)


def _earlier(x: SeriesTable, over: str | None) -> tuple[Ints, Ints, Bools]:
    """Rows that have something to change from, the row of that, and whether it is there."""
    ordinals = x.ordinals
    if not len(ordinals):
        return ordinals, ordinals, ordinals.astype(bool)
    if x.frequency.is_dated and (over is None or months_in(over)):
        return _earlier_day(x, months_in(over) if over else 0)
    lag = 1 if over is None else periods_in(over, x.frequency)
    rows = np.flatnonzero(ordinals >= ordinals[0] + lag)
    if not len(rows):
        raise AlignmentError(_too_short(x, over or "one period"))
    earlier = np.searchsorted(ordinals, ordinals[rows] - lag)
    return rows, earlier, ordinals[earlier] == ordinals[rows] - lag


def _too_short(x: SeriesTable, over: str) -> str:
    return f"{listed(x.names)} ({span_of(x.index)}): no value has one {over} before it."


def _earlier_day(x: SeriesTable, months: int) -> tuple[Ints, Ints, Bools]:
    """For dated series: the observation before, or the last on or before the same day months ago."""
    if not months:
        rows = np.arange(1, len(x.index))
        return rows, rows - 1, np.diff(positions_of(x.frequency, x.index)) == 1
    days = x.frequency.starts(x.ordinals)
    back = months_before(days, months)
    rows = np.flatnonzero(back >= days[0])
    if not len(rows):
        raise AlignmentError(_too_short(x, counted(months, "month")))
    place = row_before(days, back[rows])
    return rows, np.maximum(place, 0), place >= 0


def _annualise(grown: Floats, times: float, kind: str) -> Floats:
    return grown * times if kind == "log" else np.expm1(times * np.log1p(grown))


def _check_level(metadata: Metadata, values: Floats) -> None:
    if metadata.measure in ("rate", "return", "log_return"):
        raise UnitError(
            f"{metadata.name} is a {metadata.measure} already; growth needs a level. "
            "Use difference for the change of a rate."
        )
    if np.nanmin(values, initial=np.inf) <= 0:
        raise UnitError(
            f"{metadata.name} has values that are zero or negative; its growth is not meaningful. Use difference."
        )
