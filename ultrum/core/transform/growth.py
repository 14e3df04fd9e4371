"""Change from an earlier period: growth rates, simple or logarithmic."""

from __future__ import annotations

import numpy as np

from ultrum.core.descriptor import Descriptor
from ultrum.core.frequency import periods_in
from ultrum.core.series import SeriesTable, on_block
from ultrum.core.types import Floats, Ints
from ultrum.errors import UnitError


@on_block
def growth(
    x: SeriesTable, *, over: str = "P1Y", kind: str = "simple", annualised: bool = False
) -> SeriesTable:
    """Growth of each series over a calendar span.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Levels: prices, indices, stocks or flows.
    over : str
        ISO 8601 duration, such as ``"P1Y"`` or ``"P3M"``.
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
    >>> from ultrum.core.series import TimeSeries
    >>> cpi = pd.Series([100.0, 101.0, 103.02], pd.period_range("2024-01", periods=3, freq="M"))
    >>> cpi = TimeSeries.wrap(cpi, name="cpi", measure="index", timing="average")
    >>> growth(cpi, over="P1M").to_pandas().round(4).tolist()
    [0.01, 0.02]
    """
    if kind not in ("simple", "log"):
        raise UnitError(f"kind='{kind}' is not known; it is simple or log.")
    for about in x.about:
        _check_level(about, x[about.name].values.to_numpy())
    lag = periods_in(over, x.frequency)
    grown, rows = _growth(x.block, x.ordinals, lag, kind)
    if annualised:
        grown = _annualise(grown, x.frequency.periods_per_year / lag, kind)
    facts = {"measure": "rate", "unit": "decimal", "currency": "", "base_period": ""}
    said = annualised or None
    abouts = [a.stepped("growth", facts, over=over, kind=kind, annualised=said) for a in x.about]
    return SeriesTable.build(grown, x.index[rows], abouts)


def _growth(block: Floats, ordinals: Ints, lag: int, kind: str) -> tuple[Floats, Ints]:
    """Growth on every row that is at least ``lag`` periods after the first."""
    rows = np.flatnonzero(ordinals >= ordinals[0] + lag) if len(ordinals) else ordinals
    earlier = np.searchsorted(ordinals, ordinals[rows] - lag)
    there = ordinals[np.minimum(earlier, len(ordinals) - 1)] == ordinals[rows] - lag
    ratio = np.where(there[:, None], block[rows] / block[earlier], np.nan)
    return (np.log(ratio) if kind == "log" else ratio - 1.0), rows


def _annualise(grown: Floats, times: float, kind: str) -> Floats:
    return grown * times if kind == "log" else np.expm1(times * np.log1p(grown))


def _check_level(about: Descriptor, values: Floats) -> None:
    if about.measure in ("rate", "return", "log_return"):
        raise UnitError(
            f"{about.name} is a {about.measure} already; growth needs a level. "
            "Use difference for the change of a rate."
        )
    if np.nanmin(values, initial=np.inf) <= 0:
        raise UnitError(
            f"{about.name} has values that are zero or negative; its growth means nothing. "
            "Use difference."
        )
