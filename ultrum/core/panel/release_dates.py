"""Release dates and vintages: a value is available from its release, not from the period it describes."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Bools, Dates, Floats, Ints
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.frequency import Frequency, months_in, periods_in
from ultrum.core.time.period_labels_and_relative_dates import days_in, span_of
from ultrum.core.transform.rolling_statistics import months_before
from ultrum.errors import AlignmentError, FrequencyError, name_list

HINDSIGHT: Final = "hindsight"
RELEASE_LAG: Final = "release lag"
KnownBy = str | pd.Series | pd.DataFrame
_CARRIED: Final = 2  # own periods for which a value stands after it became known


def rule_for(name: str, known_by: KnownBy | Mapping[str, KnownBy] | None) -> KnownBy:
    """The rule of ``known_by`` for a series.

    Raises
    ------
    AlignmentError
        If there is none.
    """
    rule = known_by.get(name) if isinstance(known_by, Mapping) else known_by
    if rule is None or (isinstance(rule, str) and not rule):
        raise AlignmentError(f"known_by has no entry for {name}. Add a duration such as 'P1M'.")
    return rule


def releases(series: TimeSeries, rule: KnownBy) -> pd.DataFrame:
    """Every value with its period and the day it became known, sorted by that day.

    Parameters
    ----------
    series : TimeSeries
    rule : str, Series or DataFrame
        A duration after the period's end, ``"release lag"`` (that of the series), ``"hindsight"``, release dates
        by period, or vintages with the columns ``period released value``; vintages replace the values of the
        series, so no revision is used before it was published.

    Returns
    -------
    DataFrame
        Columns ``ordinal`` (of the period), ``day`` and ``value``.
    """
    frequency = series.metadata.frequency
    if isinstance(rule, pd.DataFrame):
        return _of_vintages(series.name, rule, frequency)
    valid = series.values.dropna()
    ordinals = frequency.ordinals_of(valid.index)
    ends = frequency.ends(ordinals)
    days = _release_days(series.name, rule, ordinals, frequency) if isinstance(rule, pd.Series) else ends
    if isinstance(rule, str) and rule != HINDSIGHT:
        days = _later(ends, series.metadata.release_lag if rule == RELEASE_LAG else rule, series.name, frequency)
    if isinstance(rule, pd.Series):
        _refuse_early(series.name, frequency, ordinals, days)
    table = pd.DataFrame({"ordinal": ordinals, "day": days.astype("datetime64[s]"), "value": valid.to_numpy()})
    return table.sort_values(["day", "ordinal"], kind="stable", ignore_index=True)


def latest_release(series: TimeSeries, rule: KnownBy, target: Frequency, ordinals: Ints) -> tuple[Floats, Bools]:
    """Value of the latest period known by the end of each target period, and whether it is carried forward.

    A value is carried forward until a newer one is known, at most two of its own periods after it became known.
    """
    table = releases(series, rule)
    days, periods, values = _columns(table)
    ends = target.ends(ordinals)
    newest = np.maximum.accumulate(periods) if len(periods) else periods
    kept = periods >= newest  # a late revision of an older period does not replace a newer one
    days, periods, values = days[kept], periods[kept], values[kept]
    place = np.searchsorted(days, ends, side="right") - 1
    safe = np.maximum(place, 0)
    frequency = series.metadata.frequency
    if not len(days):
        return np.full(len(ordinals), np.nan), np.zeros(len(ordinals), dtype=bool)
    until = frequency.ends(frequency.ordinals(days) + _CARRIED)
    least = target.ends(target.ordinals(days))
    fresh = (place >= 0) & (ends <= np.maximum(until, least)[safe])
    carried = np.append(False, fresh[1:] & (place[1:] == place[:-1]))[: len(ordinals)]
    return np.where(fresh, values[safe], np.nan), carried


def in_release_period(series: TimeSeries, rule: KnownBy, target: Frequency, ordinals: Ints) -> Floats:
    """First value released within each target period; missing where there is none.

    If several periods were released in one, the latest counts.
    """
    table = releases(series, rule).drop_duplicates("ordinal", keep="first")
    days, periods, values = _columns(table)
    latest = np.full(len(ordinals), np.nan)
    order = np.argsort(periods, kind="stable")
    at = target.ordinals(days[order]) - ordinals[0] if len(ordinals) else np.empty(0, dtype=np.int64)
    inside = (at >= 0) & (at < len(ordinals))
    latest[at[inside]] = values[order][inside]
    return latest


def release_span(series: TimeSeries, rule: KnownBy, target: Frequency) -> tuple[int, int]:
    """Ordinals of the first and last target period with a release."""
    days = _columns(releases(series, rule))[0]
    if not len(days):
        return 0, -1
    first, last = target.ordinals(np.array([days.min(), days.max()]))
    return int(first), int(last)


def _columns(table: pd.DataFrame) -> tuple[Dates, Ints, Floats]:
    days = table["day"].to_numpy().astype("datetime64[D]")
    return (days, table["ordinal"].to_numpy(dtype=np.int64), table["value"].to_numpy(dtype=np.float64))


def _of_vintages(name: str, table: pd.DataFrame, frequency: Frequency) -> pd.DataFrame:
    absent = [c for c in ("period", "released", "value") if c not in table]
    if absent:
        raise AlignmentError(
            f"Vintages of {name} need the columns period, released and value; {name_list(absent)} is not there."
        )
    days = days_in(table["released"], f"released, of {name}", missing=True)
    vintages = pd.DataFrame(
        {
            "ordinal": _ordinals(table["period"], frequency),
            "day": days.astype("datetime64[s]"),
            "value": table["value"].to_numpy(dtype=np.float64),
        }
    )
    vintages = vintages.dropna().sort_values(["day", "ordinal"], kind="stable", ignore_index=True)
    days, ordinals = vintages["day"].to_numpy().astype("datetime64[D]"), vintages["ordinal"].to_numpy()
    _refuse_early(name, frequency, ordinals, days)
    return vintages


def _refuse_early(name: str, frequency: Frequency, ordinals: Ints, days: Dates) -> None:
    """Refuse values that were released before their period ended."""
    early = np.flatnonzero(days < frequency.ends(ordinals))
    if len(early):
        first = int(early[0])
        raise AlignmentError(
            f"{name}: the value of {frequency.labels(ordinals[first : first + 1])[0]} has the release date "
            f"{days[first]}, before its period ended. Correct the date, or remove the row if it is a forecast."
        )


def _ordinals(periods: pd.Series, frequency: Frequency) -> Ints:
    values = periods.array
    if isinstance(values, pd.arrays.PeriodArray):
        return frequency.ordinals_of(pd.PeriodIndex(values))
    if pd.api.types.is_datetime64_any_dtype(periods.dtype):
        return frequency.ordinals(periods.to_numpy())
    return np.array([frequency.ordinal_of_name(str(p)) for p in periods], dtype=np.int64)


def _release_days(name: str, rule: pd.Series, ordinals: Ints, frequency: Frequency) -> Dates:
    """Release day of each period, from dates by period."""
    if isinstance(rule.index, pd.PeriodIndex):
        released = frequency.ordinals_of(rule.index)
    else:
        released = _ordinals(pd.Series(rule.index), frequency)
    days = days_in(rule.to_numpy(), f"release dates of {name}", missing=True)
    released, days = _whole_periods(name, rule.index, released, days)
    place = pd.Index(released).get_indexer(pd.Index(ordinals))
    if (place < 0).any():
        first = frequency.labels(ordinals[np.flatnonzero(place < 0)[:1]])[0]
        raise AlignmentError(
            f"{name}: no release date for {first}; the dates run {span_of(rule.index)}. Add it, or use a lag."
        )
    return np.asarray(days[place])


def _whole_periods(name: str, index: pd.Index, released: Ints, days: Dates) -> tuple[Ints, Dates]:
    """Release days of whole periods, from dates by shorter ones: a quarter is known with its last month."""
    if not pd.Index(released).has_duplicates:
        return released, days
    if index.has_duplicates:
        twice = index[index.duplicated()][0]
        raise AlignmentError(f"{name}: two release dates for {twice}. Keep one of them.")
    by_period = pd.Series(days).groupby(released)
    whole = by_period.count() == by_period.size().max()  # a quarter with two months is not yet known
    latest = by_period.max()[whole]
    return latest.index.to_numpy(dtype=np.int64), latest.to_numpy().astype("datetime64[D]")


def _later(ends: Dates, lag: str, name: str, frequency: Frequency) -> Dates:
    """Date at a duration after each period's end; month ends map to month ends."""
    months = months_in(lag)
    if months:
        moved = months_before(ends + np.timedelta64(1, "D"), -months) - np.timedelta64(1, "D")
        return np.asarray(moved)
    text = lag.upper()
    if text[:1] == "P" and text[-1:] in "DW" and text[1:-1].isdigit():
        return np.asarray(ends + np.timedelta64(int(text[1:-1]) * (7 if text[-1] == "W" else 1), "D"))
    try:
        periods_in(lag, frequency)
    except FrequencyError as error:
        raise AlignmentError(f"known_by of {name}: {error}") from error
    raise AlignmentError(f"known_by of {name}: '{lag}' is not a duration. Write P1M, P45D or P2W.")


def describe_rule(rule: object) -> str:
    """A rule in words, for the provenance."""
    if isinstance(rule, pd.DataFrame):
        return "vintages"
    return "release dates" if isinstance(rule, pd.Series) else str(rule)
