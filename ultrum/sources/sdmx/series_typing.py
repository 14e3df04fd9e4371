"""Typed series from raw ones: percent to decimals, multipliers applied, breaks split."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import Metadata, Step
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.frequency import Frequency, ordinals_of_labels
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import FrequencyError, PartialReadingWarning, SourceError, UnitError, warn_user
from ultrum.sources.sdmx.raw_series import (
    RawSeries,
    frequency_of,
    has_zone,
    intraday,
    is_percent,
    measure_of_unit,
    plain_label,
    unit_of_facts,
)
from ultrum.sources.sdmx.structures import Structure

MISSING: Final = ("M", "L", "O", "H", "Q")  # observation statuses of the standard's code list
_NAMES: Final = {
    "P": "provisional",
    "E": "estimated",
    "I": "imputed",
    "F": "forecast",
    "B": "break",
    "U": "low reliability",
    "S": "strike",
    "D": "definition differs",
}
BREAK: Final = "B"
_SPLITTING: Final = ("UNIT_MEASURE", "UNIT_MULT", "BASE_PER")
_TIMING: Final = {"A": "average", "B": "start", "E": "end", "S": "total"}
_AREA: Final = ("REF_AREA", "AREA", "GEO", "COUNTRY", "LOCATION", "REGION")


class Calendar:
    """Parsed periods: cached ordinals of the last labels, and cached index of the last periods."""

    def __init__(self) -> None:
        self._labels: tuple[Sequence[str], str, Frequency, Ints] | None = None
        self._index: tuple[Frequency, Ints, pd.Index] | None = None

    def periods(self, raw: RawSeries, code: str) -> tuple[Frequency, Ints]:
        """Frequency of a series and the ordinals of its observations.

        Raises
        ------
        FrequencyError
            If a period is invalid, or longer than the frequency.
        """
        kept = self._labels
        if kept is None or kept[1] != code or (kept[0] is not raw.labels and kept[0] != raw.labels):
            try:
                kept = self._labels = raw.labels, code, *_read_periods(raw.labels, code)
            except FrequencyError:  # labels of other series of the message may be at fault
                used, places = np.unique(raw.places, return_inverse=True)
                frequency, read = _read_periods([raw.labels[int(i)] for i in used], code)
                return frequency, read[places]
        return kept[2], kept[3][raw.places]

    def index(self, frequency: Frequency, ordinals: Ints) -> pd.Index:
        """Index of ordinals; the last one created if it is the same."""
        kept = self._index
        if kept is None or kept[0] != frequency or not np.array_equal(kept[1], ordinals):
            kept = self._index = frequency, ordinals, _index(frequency, ordinals)
        return kept[2]


def _read_periods(labels: Sequence[str], code: str) -> tuple[Frequency, Ints]:
    """Frequency and ordinals of all periods of a message."""
    if code in ("H", "N") and any("T" in label for label in labels):
        frequency, stamps = intraday(labels)
        return frequency, np.asarray(stamps.as_unit("s").asi8, dtype=np.int64)
    plain = [plain_label(label) for label in labels]
    frequency = frequency_of(code, plain)
    return frequency, ordinals_of_labels(np.asarray(plain, dtype=np.str_), frequency)


def _index(frequency: Frequency, ordinals: Ints) -> pd.Index:
    """Periods, or instants in UTC of intraday observations, whose ordinals are seconds."""
    if frequency.code in "HN":
        return pd.DatetimeIndex(ordinals.astype("datetime64[s]"), name="time").tz_localize("UTC")
    return frequency.index(ordinals)


def to_parts(
    raw: RawSeries, structure: Structure, address: str, calendar: Calendar | None = None
) -> list[TimeSeries]:
    """Typed series, strictly increasing in time; several if a definition or unit changes.

    Parameters
    ----------
    raw : RawSeries
    structure : Structure
    address : str
    calendar : Calendar, optional
        Cache shared by series with the same periods.

    Raises
    ------
    SourceError
        If there are no observations, periods repeat, or a period cannot be parsed.
    """
    if not len(raw.places):
        raise SourceError(f"{address} has no observations in this span. Widen the span.")
    calendar = calendar or Calendar()
    codes = dict(zip(structure.dimensions, raw.key.split("."), strict=False))
    try:
        frequency, ordinals = calendar.periods(raw, codes.get("FREQ") or raw.attributes.get("FREQ", ""))
    except FrequencyError as error:
        raise SourceError(f"{address}: {error}") from error
    values, varying = raw.values, dict(raw.varying)
    steps = np.diff(ordinals)
    if (steps <= 0).any():
        order = np.argsort(ordinals, kind="stable")
        ordinals, values = ordinals[order], values[order]
        varying = {name: [column[i] for i in order] for name, column in varying.items()}
        _refuse_repeats(ordinals, frequency, address)
    whole = raw.attributes.get("OBS_STATUS", "A")
    if whole != "A":
        varying["OBS_STATUS"] = [whole] * len(values)
    values = _finite(values, ordinals, frequency, address)
    pieces = _pieces(varying, len(values))
    parts = []
    for number, (inside, attributes) in enumerate(pieces, start=1):
        facts_there = {**codes, **raw.attributes, **attributes}  # a service may put a unit in its key
        metadata = _describe(raw, facts_there, structure, frequency, address)
        statuses = list(varying["OBS_STATUS"][inside]) if "OBS_STATUS" in varying else []
        index = calendar.index(frequency, ordinals[inside])
        numbers = _in_units(values[inside], facts_there, structure.unit_name(facts_there), statuses)
        metadata = _with_statuses(metadata, statuses, index)
        if frequency.code in "HN" and not has_zone([raw.labels[raw.places[0]]]):
            metadata = metadata.replace(notes=(*metadata.notes, "times without a time zone are read as UTC"))
        if len(pieces) > 1:
            label = period_label(index[0])
            facts = {"name": f"{metadata.name}_{number}", "address": f"{address}#{number}"}
            metadata = metadata.add_step("split where the definition changes", facts, at=label)
        parts.append(TimeSeries.from_arrays(numbers, index, metadata))
    return parts


def _refuse_repeats(ordinals: Ints, frequency: Frequency, address: str) -> None:
    twice = np.flatnonzero(np.diff(ordinals) == 0)
    if len(twice):
        label = period_label(_index(frequency, ordinals[twice[:1]])[0])
        raise SourceError(f"{address}: {quantity(len(twice), 'duplicate period')}, first {label}.")


def _finite(values: Floats, ordinals: Ints, frequency: Frequency, address: str) -> Floats:
    """Values without infinite ones, which are reported and become missing."""
    infinite = np.flatnonzero(np.isinf(values))
    if not len(infinite):
        return values
    label = period_label(_index(frequency, ordinals[infinite[:1]])[0])
    warn_user(
        f"{address} is read in part; observations not used: {len(infinite)}, the first in {label}: its value is "
        "infinite. They are missing; report it to the source.",
        PartialReadingWarning,
    )
    return np.where(np.isinf(values), np.nan, values)


def _pieces(varying: Mapping[str, Sequence[str]], count: int) -> list[tuple[slice, dict[str, str]]]:
    """Runs of observations with one definition, and the attributes of each."""
    cuts = {i for i, s in enumerate(varying.get("OBS_STATUS", [])) if s == BREAK and i}
    changing = {name: varying[name] for name in _SPLITTING if name in varying}
    for values in changing.values():
        cuts |= {i for i in range(1, count) if values[i] != values[i - 1]}
    edges = itertools.pairwise([0, *sorted(cuts), count])
    return [(slice(low, high), {name: values[low] for name, values in changing.items()}) for low, high in edges]


def _describe(
    raw: RawSeries, facts: Mapping[str, str], structure: Structure, frequency: Frequency, address: str
) -> Metadata:
    unit, name = unit_of_facts(facts), structure.unit_name(facts)
    timing = _TIMING.get(facts.get("COLLECTION", ""), "")
    steps: list[Step] = [Step("received", (("from", address),))]
    if is_percent(unit, name):
        steps.append(Step("percent to decimals"))
    area = next((facts[a] for a in _AREA if a in facts), "")
    decimals = facts.get("DECIMALS", "")
    try:
        return Metadata(
            name=raw.key.replace(".", "_"),
            title=facts.get("TITLE") or ", ".join(structure.labels(raw.key)[1:]),
            frequency=frequency,
            scale=_scale(facts),
            timing=timing,
            seasonal_adjustment=facts.get("ADJUSTMENT", ""),
            region=area,
            source=address.partition(":")[0],
            address=address,
            base_period=facts.get("BASE_PER", ""),
            release_lag=facts.get("RELEASE_LAG", ""),
            quoted=facts.get("QUOTING", ""),
            maturity=facts.get("MATURITY", ""),
            decimals=int(decimals) if decimals.isdigit() else None,
            trail=tuple(steps),
            **_measure(facts, name, timing),
        )
    except UnitError as error:
        raise SourceError(f"{address}: {error}") from error


def _scale(facts: Mapping[str, str]) -> int:
    multiplier = facts.get("UNIT_MULT") or "0"
    return int(multiplier) if re.fullmatch(r"-?\d{1,2}", multiplier) else 0


def _in_units(values: Floats, facts: Mapping[str, str], name: str, statuses: Sequence[str]) -> Floats:
    """Values times their multiplier; percent divided by 100, with a single correct rounding."""
    scale = _scale(facts)
    scaled = values * 10.0**scale if scale else values.copy()
    if is_percent(unit_of_facts(facts), name):
        scaled = scaled / 100.0
    if statuses:
        scaled[np.isin(np.array(statuses), MISSING)] = np.nan
    return scaled


def _measure(facts: Mapping[str, str], name: str, timing: str) -> dict[str, Any]:
    """Measure and unit as determined by key and attributes; otherwise empty."""
    base = facts.get("BASE_CURRENCY") or facts.get("CURRENCY")
    quote = facts.get("QUOTE_CURRENCY") or facts.get("CURRENCY_DENOM")
    if base and quote:  # CURRENCY of the standard is what is paid for one CURRENCY_DENOM
        pair = f"{base}/{quote}" if "QUOTE_CURRENCY" in facts else f"{quote}/{base}"
        return {"measure": "quote", "unit": pair}
    return measure_of_unit(unit_of_facts(facts), name, timing)


def _with_statuses(metadata: Metadata, statuses: Sequence[str], index: pd.Index) -> Metadata:
    """Counts of observation statuses, for the provenance and the notes."""
    if not statuses:
        return metadata
    counts = Counter(_NAMES[s] for s in statuses if s in _NAMES)
    lost = sum(s in MISSING for s in statuses)
    notes = []
    for name, count in counts.items():
        first = next(i for i, s in enumerate(statuses) if _NAMES.get(s) == name)
        notes.append(f"{count} {name}, first {period_label(index[first])}")
    if lost:
        notes.append(f"{lost} marked missing")
    if not notes:
        return metadata
    return metadata.add_step("statuses", {"notes": (*metadata.notes, *notes)}, found="; ".join(notes))
