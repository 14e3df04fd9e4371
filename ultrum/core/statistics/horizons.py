"""Calendar horizons: the row where each begins."""

from __future__ import annotations

import numpy as np

from ultrum.core.array_types import Ints
from ultrum.core.time.durations import months_in
from ultrum.errors import FrequencyError


def months_of(duration: str) -> int:
    """Months in a duration, refused where it has none."""
    months = months_in(duration)
    if not months:
        raise FrequencyError(f"'{duration}' is not a whole number of months; write P3M or P1Y.")
    return months


def row_at(ordinals: Ints, wanted: Ints) -> Ints:
    """Row of each period, −1 where it is not listed."""
    place = np.searchsorted(ordinals, wanted)
    safe = np.minimum(place, len(ordinals) - 1)
    return np.where(ordinals[safe] == wanted, safe, -1)
