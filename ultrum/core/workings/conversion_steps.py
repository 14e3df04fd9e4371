"""Workings of a frequency conversion: how one period follows from the observations in it."""

from __future__ import annotations

from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_labels import period_label
from ultrum.core.transform.aggregation import default_method, to_frequency
from ultrum.core.workings.steps_table import Workings, workings_of
from ultrum.errors import FrequencyError

_FORMULAS: Final = {
    "sum": ("sum of the period", "sum(x)"),
    "log sum": ("sum of the log returns of the period", "sum(x)"),
    "mean": ("mean of the period", "sum(x) / n"),
    "last": ("last of the period", "last(x)"),
    "first": ("first of the period", "first(x)"),
    "compound": ("compounded return of the period", "product(growth) - 1"),
}


@checked
def conversion_workings(x: TimeSeries, frequency: str | Frequency, period: str | None = None) -> Workings:
    """How one period of a lower frequency follows from the observations in it.

    Parameters
    ----------
    x : TimeSeries
        Data to work on; the result has the same form.
    frequency : str or Frequency
        The lower frequency.
    period : str, optional
        A period of it, such as ``"2024-Q1"``; by default the last that is whole.

    Returns
    -------
    Workings
        Steps to the value of the period.

    Raises
    ------
    FrequencyError
        If the period has no value, or the method has no workings.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> r = TimeSeries.from_pandas(pd.Series([0.01, 0.02, -0.01], months), name="BRTW", measure="return")
    >>> round(conversion_workings(r, "Q").result, 8)
    0.019898
    """
    target = Frequency.parse(frequency)
    method = default_method(x.metadata)
    if method not in _FORMULAS or (x.metadata.excess_of and method == "compound"):
        raise FrequencyError(f"{x.name} is converted by '{method}', which has no workings.")
    converted = to_frequency(x, target)
    valid = converted.values.dropna()
    if not len(valid):
        raise FrequencyError(f"{x.name} has no whole {target.noun}.")
    ordinals = target.ordinals_of(valid.index)
    wanted = ordinals[-1] if period is None else target.ordinal_named(period)
    if wanted not in ordinals:
        raise FrequencyError(f"{x.name} has no value in {period}; its periods are {period_label(valid.index[0])} "
                             f"to {period_label(valid.index[-1])}.")  # fmt: skip
    place = int(np.flatnonzero(ordinals == wanted)[0])
    source = x.metadata.frequency
    ends = source.ends(source.ordinals_of(x.index))
    inside = x.values[(target.ordinals(ends) == wanted)].dropna()
    label, formula = _FORMULAS[method]
    lines: list[tuple[str, str, str | float]] = [("n", "number of observations", "count(x)")]
    columns = [("growth", "one plus the return", "1 + x")] if method == "compound" else []
    return workings_of(
        f"{x.name} in {period_label(valid.index[place])}, {method} of {source.name} observations",
        pd.DataFrame({"x": inside.to_numpy(dtype=float)}, index=inside.index), {"x": x.name},
        [*lines, ("result", label, formula)], columns, expected=float(valid.iloc[place]),
    )  # fmt: skip
