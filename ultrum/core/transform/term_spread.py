"""Spreads: one rate less another."""

from __future__ import annotations

from ultrum.core.arguments import checked
from ultrum.core.series.metadata import check_same
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.period_labels import span_of
from ultrum.errors import AlignmentError, UnitError


@checked
def spread(long: TimeSeries, short: TimeSeries, *, name: str = "") -> TimeSeries:
    """One series less another of the same kind, such as a long rate less a short one.

    Parameters
    ----------
    long : TimeSeries
        Series to subtract from.
    short : TimeSeries
        Series to subtract.
    name : str
        Name of the result.

    Returns
    -------
    TimeSeries
        The difference.

    Raises
    ------
    UnitError, FrequencyError, CurrencyError
        If frequency, measure, unit, currency or timing differ.
    AlignmentError
        If they share no period.

    Examples
    --------
    >>> import pandas as pd
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> ten = TimeSeries.from_pandas(pd.Series([0.04, 0.03], months), name="ten", measure="rate")
    >>> bill = TimeSeries.from_pandas(pd.Series([0.03, 0.035], months), name="bill", measure="rate")
    >>> spread(ten, bill).to_pandas().round(4).tolist()
    [0.01, -0.005]
    """
    check_same(long.metadata, short.metadata, "less")
    if long.metadata.timing and short.metadata.timing and long.metadata.timing != short.metadata.timing:
        raise UnitError(
            f"{long.name} is at the {long.metadata.timing} of a {long.metadata.frequency.noun}, {short.name} at "
            f"the {short.metadata.timing}; bring both to one."
        )
    if long.metadata.measure in ("price", "index", "flow", "stock", "quote"):
        raise UnitError(
            f"{long.name} and {short.name} are {long.metadata.measure} levels; their difference compares trends. "
            "Take the spread of rates, or of growth."
        )
    difference = long - short
    if not difference.values.notna().any():
        raise AlignmentError(
            f"{long.name} ({span_of(long.index)}) and {short.name} ({span_of(short.index)}) share no period."
        )
    facts = {
        "name": name or f"{long.name}_less_{short.name}",
        "title": f"{long.metadata.heading} less {short.metadata.heading}", "maturity": "", "quoted": "",
    }  # fmt: skip
    return difference.with_metadata(**facts)
