"""Matching by date: the last value on or before a date, or the first on or after it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Ints
from ultrum.core.presentation import quantity
from ultrum.core.series.time_series import SeriesLike, SeriesTable, TimeSeries
from ultrum.core.time.frequency import months_in
from ultrum.core.time.period_labels_and_relative_dates import days_in
from ultrum.errors import AlignmentError, FrequencyError, choices

DatesLike = Sequence[object] | np.ndarray | pd.Index | pd.Series | pd.DataFrame
_DAYS: Final = {"D": 1, "W": 7}
_PER_DAY: Final = {"s": 86_400, "ms": 86_400_000, "us": 86_400_000_000, "ns": 86_400_000_000_000}


@validate_arguments
def match_dates(
    left: DatesLike,
    right: SeriesLike | pd.Series | pd.DataFrame,
    *,
    direction: Literal["before", "after"] = "before",
    max_age: str | None = "P5D",
    key: str | None = None,
    date: str = "date",
) -> pd.DataFrame:
    """As-of (nearest-date) join: the last value on or before each date, or the first on or after it.

    Parameters
    ----------
    left : dates, or DataFrame with a column of dates
        Dates to match, or a table with a column of dates. A Series with dates as labels is matched by its labels,
        one with integer labels by its values.
    right : TimeSeries, SeriesTable, Series or DataFrame
        Values by date; a DataFrame can have its dates in a column named as in ``left``. A period value is dated
        at its last day.
    direction : {"before", "after"}
        Direction of the search; both include the day itself.
    max_age : str or None
        Maximum age, an ISO 8601 duration in days, weeks, months or years; None for no limit.
    key : str, optional
        Column that must be equal in both tables, such as ``asset``.
    date : str
        Name of the column of dates.

    Returns
    -------
    DataFrame
        ``left`` with the columns of ``right`` (``value`` for a single series), ``matched`` (the date of the
        value) and ``age`` in days; missing where no value is recent enough. Its order is kept.

    Raises
    ------
    AlignmentError
        If dates are missing, or the right table has a date twice.
    ArgumentError
        If ``direction`` is not known.

    Examples
    --------
    >>> prices = pd.Series([10.0, 11.0], pd.to_datetime(["2024-03-28", "2024-04-02"]))
    >>> match_dates(["2024-03-31"], prices)[["value", "age"]].values.tolist()
    [[10.0, 3.0]]
    >>> match_dates(["2024-03-31"], prices, direction="after")[["value", "age"]].values.tolist()
    [[11.0, 2.0]]
    """
    return _match_places(left, right, max_age, key, date, forward=direction == "after")


def _match_places(
    left: object, right: object, max_age: str | None, by: str | None, on: str, *, forward: bool
) -> pd.DataFrame:
    wanted, frame = _dates_of(left, on, by)
    right_dates, values = _values_of(right, on, by)
    days, right_days = _whole_days(wanted, on), _whole_days(right_dates, on)
    groups, own_groups = _codes(frame, values, by)
    place = _places(days, right_days, groups, own_groups, forward)
    safe = np.maximum(place, 0)
    matched = right_days[safe] if len(right_days) else np.zeros(len(days), dtype=np.int64)
    age = matched - days if forward else days - matched
    fresh = (place >= 0) & (age <= _limit(max_age, days, forward))
    result = frame.copy()
    whole = bool(fresh.all())
    for name in values:
        if name not in (on, by):
            column = values[name].to_numpy()
            taken = column[safe] if len(column) else np.full(len(days), np.nan)
            if not whole and taken.dtype.kind == "f":
                taken[~fresh] = np.nan
            result[name] = taken
            if not whole and taken.dtype.kind != "f":
                result[name] = result[name].where(fresh)
    ages = age.astype(np.float64)
    if not whole:
        matched[~fresh], ages[~fresh] = np.iinfo(np.int64).min, np.nan
    matched *= np.where(matched == np.iinfo(np.int64).min, 1, _PER_DAY["s"]) if not whole else _PER_DAY["s"]
    result["matched"] = matched.view("datetime64[s]")
    result["age"] = ages
    return result


def _dates_of(left: Any, on: str, by: str | None) -> tuple[object, pd.DataFrame]:
    if isinstance(left, pd.DataFrame):
        absent = [c for c in (on, by) if c and c not in left]
        if absent:
            raise AlignmentError(f"The left table has no column '{absent[0]}'; it has: {choices(left.columns)}.")
        return left[on], left
    if by:
        raise AlignmentError(f"key='{by}' needs a table as the left argument.")
    # a column of a table holds its dates and has row numbers as labels
    dated = isinstance(left, pd.Series) and not pd.api.types.is_integer_dtype(left.index)
    labels = left.index if dated else left
    dates = pd.DatetimeIndex(days_in(labels, on).astype("datetime64[s]"))
    return dates, pd.DataFrame({on: dates})


def _values_of(right: Any, on: str, by: str | None) -> tuple[object, pd.DataFrame]:
    """Dates and columns of the right table, sorted by time."""
    if isinstance(right, TimeSeries | SeriesTable):
        frequency = right.metadata.frequency if isinstance(right, TimeSeries) else right.frequency
        dates = frequency.ends(frequency.ordinals_of(right.index))
        frame = right.values.to_frame("value") if isinstance(right, TimeSeries) else right.values
        kept = frame.notna().any(axis=1).to_numpy()
        return dates[kept], frame.reset_index(drop=True)[kept]
    if isinstance(right, pd.Series):
        valid = right.dropna().sort_index()
        return valid.index, valid.rename("value").to_frame().reset_index(drop=True)
    if on not in right:
        if by:
            raise AlignmentError(f"The right table has no column '{on}'; it has: {choices(right.columns)}.")
        ordered = right.sort_index()
        return ordered.index, ordered.reset_index(drop=True)
    absent = [by] if by and by not in right else []
    if absent:
        raise AlignmentError(f"The right table has no column '{by}'; it has: {choices(right.columns)}.")
    return right[on], right


def _whole_days(dates: object, on: str) -> Ints:
    stamps = np.asarray(dates)
    if stamps.dtype.kind != "M":
        stamps = days_in(dates, on)
    if len(stamps) and stamps.view(np.int64).min() == np.iinfo(np.int64).min:
        raise AlignmentError(f"Column '{on}' has {quantity(int(np.isnat(stamps).sum()), 'row')} without a date.")
    unit = np.datetime_data(stamps.dtype)[0]
    if unit in _PER_DAY:
        return np.asarray(stamps.view(np.int64) // _PER_DAY[unit])
    return np.asarray(stamps.astype("datetime64[D]").astype(np.int64))


def _codes(left: pd.DataFrame, right: pd.DataFrame, by: str | None) -> tuple[Ints | None, Ints | None]:
    """Integer codes of the groups; −1 on the left where the right table lacks the group."""
    if by is None:
        return None, None
    absent = [what for what, side in (("left", left), ("right", right)) if by not in side]
    if absent:
        raise AlignmentError(f"key='{by}' is not a column on the {' and on the '.join(absent)}.")
    right_codes, names = pd.factorize(right[by])
    return np.asarray(pd.Index(names).get_indexer(left[by]), dtype=np.int64), np.asarray(
        right_codes, dtype=np.int64
    )


def _places(days: Ints, right_days: Ints, groups: Ints | None, right_groups: Ints | None, forward: bool) -> Ints:
    """Row of the right table for each row of the left, −1 where there is none."""
    if not len(right_days):
        return np.full(len(days), -1)
    if groups is None and _sort_order(right_days) is None and _sort_order(days) is None:
        return _merge_search(days, right_days, forward)
    if groups is None or right_groups is None:
        order, keys, wanted = _sort_order(right_days), right_days, days
    else:
        low, wide = (
            int(min(right_days.min(), days.min())),
            int(max(right_days.max(), days.max()) - min(right_days.min(), days.min()) + 2),
        )
        keys, wanted = right_groups * wide + right_days - low, groups * wide + days - low
        order = _sort_order(keys)
    keys = keys if order is None else keys[order]
    _refuse_twice(keys, right_days if order is None else right_days[order])
    place = np.searchsorted(keys, wanted) if forward else np.searchsorted(keys, wanted, side="right") - 1
    inside = (place >= 0) & (place < len(keys))
    place = np.minimum(np.maximum(place, 0), len(keys) - 1)
    right_row = place if order is None else order[place]
    if groups is not None and right_groups is not None:
        inside &= (groups >= 0) & (right_groups[right_row] == groups)
    return np.where(inside, right_row, -1)


def _merge_search(days: Ints, right_days: Ints, forward: bool) -> Ints:
    """Equal to a search for every date; one pass where both tables are sorted."""
    _refuse_twice(right_days, right_days)
    edges = np.searchsorted(days, right_days, side="right" if forward else "left")
    counts = np.diff(np.concatenate([[0], edges, [len(days)]]))
    place = np.repeat(np.arange(len(right_days) + 1) - (not forward), counts)
    return np.where(place < len(right_days), place, -1) if forward else place


def _refuse_twice(keys: Ints, days: Ints) -> None:
    twice = np.flatnonzero(keys[1:] == keys[:-1])
    if len(twice):
        day = np.datetime64(int(days[twice[0]]), "D")
        raise AlignmentError(f"The right table has {day} twice. Keep one row of each.")


def _sort_order(keys: Ints) -> Ints | None:
    """The sort order of keys, or None where they are sorted."""
    return None if bool((keys[1:] >= keys[:-1]).all()) else np.argsort(keys, kind="stable")


def _limit(max_age: str | None, days: Ints, forward: bool) -> int | Ints:
    """Maximum age in days; months and years are counted from each date."""
    if max_age is None:
        return np.iinfo(np.int64).max
    text = str(max_age).upper()
    if text[:1] == "P" and text[-1:] in _DAYS and text[1:-1].isdigit():
        return int(text[1:-1]) * _DAYS[text[-1]]
    months = months_in(text)
    if not months:
        raise FrequencyError(f"max_age='{max_age}' is not a duration. Write P5D, P2W, P3M or P1Y.")
    from ultrum.core.transform.rolling_statistics import months_before

    dates = days.astype("datetime64[D]")
    moved = months_before(dates, -months if forward else months).astype(np.int64)
    return np.asarray(np.abs(days - moved))
