"""Times of day in a time zone, including the skipped and repeated hours of daylight saving."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pandas as pd

from ultrum.core.array_types import Bools
from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import ReadDates


def in_zone(dates: ReadDates, timezone: str, where: str) -> ReadDates:
    """Dates with the offset from UTC of each time; the order of rows resolves the repeated hour of autumn.

    Raises
    ------
    TableError
        If the zone is unknown, a time was skipped by the clock change, or a repeated time is ambiguous.
    """
    local = pd.DatetimeIndex(dates.moments)
    try:
        unknown = local.tz_localize(timezone, ambiguous="NaT", nonexistent="NaT")
    except (KeyError, ValueError, TypeError, LookupError, OSError):
        raise TableError(
            f"{where}: timezone='{timezone}' is not a time zone; write it like 'Europe/Paris' or 'UTC'."
        ) from None
    open_rows = np.asarray(unknown.isna()) & ~np.asarray(local.isna())
    shifted = _localise_repeats(local, timezone, where, open_rows) if open_rows.any() else unknown
    ahead = (local - shifted.tz_convert("UTC").tz_localize(None)) / pd.Timedelta(seconds=1)
    return replace(dates, offsets=np.nan_to_num(np.asarray(ahead)).astype(np.int64))


def _localise_repeats(local: pd.DatetimeIndex, timezone: str, where: str, rows: Bools) -> pd.DatetimeIndex:
    """Localised times; the first of two equal ones is in summer time."""
    first = local[rows][0]
    try:
        local.tz_localize(timezone, ambiguous=np.zeros(len(local), dtype=bool))
    except ValueError:
        skipped = local[
            rows
            & np.asarray(
                local.tz_localize(timezone, ambiguous=np.zeros(len(local), dtype=bool), nonexistent="NaT").isna()
            )
        ][0]
        raise TableError(
            f"{where}: the clocks of {timezone} skipped {skipped} when summer time began, so the data are in "
            "another time zone. Set it, such as timezone='UTC'."
        ) from None
    try:
        return local.tz_localize(timezone, ambiguous="infer")
    except ValueError:
        raise TableError(
            f"{where}: the clocks of {timezone} showed {first} twice, and the order of the rows does not show "
            "which one is meant. Write the times with their offset from UTC (2024-10-27T02:00+02:00), or in UTC."
        ) from None
