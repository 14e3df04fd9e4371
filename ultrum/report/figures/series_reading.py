"""How a series is drawn and read: its moments, unit and shape, and the points that a line needs."""

from __future__ import annotations

from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import TimeSeries

MOST_POINTS: Final = 6000  # of one line; beyond, the extremes of each stretch are drawn
_FEWEST_STEPS: Final = 12  # values of a rate before its shape is judged


def thinned(days: Any, values: Any, most: int = MOST_POINTS) -> tuple[Any, Any]:
    """Points of a long line: the lowest and highest of each stretch, in order of time."""
    if len(values) <= most:
        return days, values
    width = -(-2 * len(values) // most)
    whole = len(values) // width * width
    parts = values[:whole].reshape(-1, width)
    gaps = np.isnan(parts).all(axis=1)
    low = np.argmin(np.where(np.isnan(parts), np.inf, parts), axis=1)
    high = np.argmax(np.where(np.isnan(parts), -np.inf, parts), axis=1)
    pairs = np.sort(np.column_stack([low, high]), axis=1) + np.arange(0, whole, width)[:, None]
    kept = np.unique(np.append(pairs.ravel(), np.arange(whole, len(values))))
    thin = values[kept].copy()
    thin[np.isin(kept, pairs[gaps].ravel())] = np.nan
    return days[kept], thin


def moves_in_steps(line: TimeSeries) -> bool:
    """Whether a rate is one that is set and then stays, such as that of a central bank."""
    values = line.values.dropna().to_numpy()
    if line.metadata.measure != "rate" or len(values) < _FEWEST_STEPS:
        return False
    return bool((np.diff(values) == 0).mean() > 0.5)


def moments_of(index: pd.Index) -> Any:
    """Moments at which values stand: the middle of periods, or the dates themselves."""
    periods: Any = index
    if not hasattr(periods, "to_timestamp"):
        return index
    start = periods.to_timestamp(how="start")
    return start + (periods.to_timestamp(how="end") - start) / 2


def reading_of(metadata: Metadata) -> tuple[float, str]:
    """How people read a series: what its values are multiplied by, and the unit they then have."""
    return scale_factor(metadata), unit_in_words(metadata)


def scale_factor(metadata: Metadata) -> float:
    """What values are multiplied by for people: 100 where they read percent."""
    return 100.0 if metadata.in_percent else 1.0


def _change_in_words(metadata: Metadata) -> str:
    """Over what a growth rate compares."""
    settings = next(dict(s.settings) for s in reversed(metadata.trail) if s.action == "growth")
    over = settings.get("over", "")
    words = {
        "P1Y": "over a year",
        "P6M": "over half a year",
        "P3M": "over a quarter",
        "P1M": "over a month",
    }
    annual = ", annualised" if "annualised" in settings else ""
    return f"change {words.get(over, f'over {over}')}{annual}" if over else "change"


def unit_in_words(metadata: Metadata) -> str:
    """The axis label: the unit people read, and what the number is."""
    actions = [step.action for step in metadata.trail]
    if metadata.measure == "score":
        composed = {"standardised", "composite"} & set(actions)
        return "standard deviations" if composed else "score"
    if metadata.unit == "decimal" and "growth" in actions and not metadata.is_return:
        return f"%, {_change_in_words(metadata)}"
    if metadata.unit == "decimal":
        yearly = metadata.measure == "rate" and metadata.quoted and "growth" not in actions
        return f"% a {metadata.frequency.noun}" if metadata.is_return else "% a year" if yearly else "%"
    if metadata.measure == "index" or metadata.unit == "index":
        return f"index, {metadata.base_period} = 100" if metadata.base_period else "index"
    if metadata.measure == "quote":
        base, _, quote = metadata.unit.partition("/")
        return f"{quote} for one {base}" if quote else "exchange rate"
    words = [metadata.measure, metadata.currency or metadata.unit]
    return ", ".join(w for w in words if w) or "value"  # a multiplier is in the values already
