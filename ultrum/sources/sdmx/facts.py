"""From a raw series to typed ones: percent becomes decimals, multipliers are applied, breaks split."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.descriptor import Descriptor, Step
from ultrum.core.frequency import Frequency, ordinals_of_labels, parse_period
from ultrum.core.labels import period_label
from ultrum.core.series import TimeSeries
from ultrum.core.types import Floats, Ints
from ultrum.errors import FrequencyError, SourceError, UnitError
from ultrum.sources.sdmx.raw import RawSeries
from ultrum.sources.sdmx.structure import Structure

PERCENT: Final = ("PC", "PT", "PCT", "PERCENT", "PCPA", "PC_PA", "PCCH")
INDEX: Final = ("IX", "INDEX", "IDX")
COUNT: Final = ("PN", "PS", "PERS", "NO", "NUMBER", "COUNT", "UNITS", "PER")
MISSING: Final = ("M", "L", "O", "H", "Q")  # observation statuses of the standard's code list
_NAMES: Final = {"P": "provisional", "E": "estimated", "I": "imputed", "F": "forecast", "B": "break",
                 "U": "low reliability", "S": "strike", "D": "definition differs"}  # fmt: skip
BREAK: Final = "B"
_SPLITTING: Final = ("UNIT_MEASURE", "UNIT_MULT", "BASE_PER")
_TIMING: Final = {"A": "average", "B": "start", "E": "end", "S": "total"}
_AREA: Final = ("REF_AREA", "AREA", "GEO", "COUNTRY", "LOCATION", "REGION")


class Calendar:
    """Periods read once: the ordinals of labels seen last, and the index of periods seen last."""

    def __init__(self) -> None:
        self._labels: tuple[Sequence[str], Frequency, Ints] | None = None
        self._index: tuple[Frequency, Ints, pd.Index] | None = None

    def ordinals(self, raw: RawSeries, frequency: Frequency) -> Ints:
        """Ordinals of the observations of a series."""
        known = self._labels
        if (
            known is None
            or known[1] != frequency
            or (known[0] is not raw.labels and known[0] != raw.labels)
        ):
            read = ordinals_of_labels(np.asarray(raw.labels, dtype=np.str_), frequency)
            known = self._labels = raw.labels, frequency, read
        return known[2][raw.places]

    def index(self, frequency: Frequency, ordinals: Ints) -> pd.Index:
        """Index of ordinals; the one made last where it is the same."""
        known = self._index
        if known is None or known[0] != frequency or not np.array_equal(known[1], ordinals):
            known = self._index = frequency, ordinals, frequency.index(ordinals)
        return known[2]


def to_parts(
    raw: RawSeries, structure: Structure, address: str, calendar: Calendar | None = None
) -> list[TimeSeries]:
    """Typed series, strictly in order of time; several where a definition or unit changes inside.

    Parameters
    ----------
    raw : RawSeries
    structure : Structure
    address : str
    calendar : Calendar, optional
        Shared by series that have the same periods, which are then read once.

    Raises
    ------
    SourceError
        If nothing came, periods repeat, or a period is no period.
    """
    if not len(raw.places):
        raise SourceError(
            f"{address}: the answer is empty. Check the key; 'find' lists what there is."
        )
    calendar = calendar or Calendar()
    codes = dict(zip(structure.dimensions, raw.key.split("."), strict=False))
    try:
        frequency = _frequency(codes, raw)
        ordinals = calendar.ordinals(raw, frequency)
    except FrequencyError as error:
        raise SourceError(f"{address}: {error}") from None
    values, varying = raw.values, dict(raw.varying)
    steps = np.diff(ordinals)
    if (steps <= 0).any():
        order = np.argsort(ordinals, kind="stable")
        ordinals, values = ordinals[order], values[order]
        varying = {name: [said[i] for i in order] for name, said in varying.items()}
        _refuse_repeats(ordinals, frequency, address)
    whole = raw.attributes.get("OBS_STATUS", "A")
    if whole != "A":
        varying["OBS_STATUS"] = [whole] * len(values)
    pieces = _pieces(varying, len(values))
    parts = []
    for number, (inside, attributes) in enumerate(pieces, start=1):
        own = {**codes, **raw.attributes, **attributes}  # a service may say a unit in its key
        about = _describe(raw, own, structure, frequency, address)
        statuses = list(varying["OBS_STATUS"][inside]) if "OBS_STATUS" in varying else []
        numbers = _in_units(values[inside], own, statuses)
        about = _with_statuses(about, statuses, frequency, ordinals[inside])
        if len(pieces) > 1:
            label = frequency.labels(ordinals[inside][:1])[0]
            facts = {"name": f"{about.name}_{number}", "address": f"{address}#{number}"}
            about = about.stepped("split where the definition changes", facts, at=label)
        parts.append(TimeSeries.build(numbers, calendar.index(frequency, ordinals[inside]), about))
    return parts


def _refuse_repeats(ordinals: Ints, frequency: Frequency, address: str) -> None:
    twice = np.flatnonzero(np.diff(ordinals) == 0)
    if len(twice):
        label = frequency.labels(ordinals[twice[:1]])[0]
        raise SourceError(f"{address}: {len(twice)} periods appear twice, first {label}.")


def _pieces(varying: Mapping[str, Sequence[str]], count: int) -> list[tuple[slice, dict[str, str]]]:
    """Stretches of observations with one definition, and the attributes of each."""
    cuts = {i for i, s in enumerate(varying.get("OBS_STATUS", [])) if s == BREAK and i}
    changing = {name: varying[name] for name in _SPLITTING if name in varying}
    for said in changing.values():
        cuts |= {i for i in range(1, count) if said[i] != said[i - 1]}
    edges = itertools.pairwise([0, *sorted(cuts), count])
    return [
        (slice(low, high), {name: said[low] for name, said in changing.items()})
        for low, high in edges
    ]


def _frequency(codes: Mapping[str, str], raw: RawSeries) -> Frequency:
    said = codes.get("FREQ") or raw.attributes.get("FREQ", "")
    if said:
        return Frequency.parse(said)
    return Frequency(parse_period(raw.labels[int(raw.places[0])])[0])


def _describe(
    raw: RawSeries,
    facts: Mapping[str, str],
    structure: Structure,
    frequency: Frequency,
    address: str,
) -> Descriptor:
    unit = _unit(facts)
    timing = _TIMING.get(facts.get("COLLECTION", ""), "")
    steps: list[Step] = [Step("received", (("from", address),))]
    if unit.upper() in PERCENT:
        steps.append(Step("percent to decimals"))
    area = next((facts[a] for a in _AREA if a in facts), "")
    decimals = facts.get("DECIMALS", "")
    try:
        return Descriptor(
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
            **_measure(unit, facts, timing),
        )
    except UnitError as error:
        raise SourceError(f"{address}: {error}") from None


def _unit(facts: Mapping[str, str]) -> str:
    return facts.get("UNIT_MEASURE") or facts.get("UNIT", "")


def _scale(facts: Mapping[str, str]) -> int:
    said = facts.get("UNIT_MULT") or "0"
    return int(said) if re.fullmatch(r"-?\d{1,2}", said) else 0


def _in_units(values: Floats, facts: Mapping[str, str], statuses: Sequence[str]) -> Floats:
    """Values times their multiplier; percent divided by 100, which rounds once and correctly."""
    scale = _scale(facts)
    found = values * 10.0**scale if scale else values.copy()
    if _unit(facts).upper() in PERCENT:
        found = found / 100.0
    if statuses:
        found[np.isin(np.array(statuses), MISSING)] = np.nan
    return found


def _measure(unit: str, facts: Mapping[str, str], timing: str) -> dict[str, Any]:
    """Measure and unit as far as key and attributes tell; what they do not tell stays empty."""
    base = facts.get("BASE_CURRENCY") or facts.get("CURRENCY")
    quote = facts.get("QUOTE_CURRENCY") or facts.get("CURRENCY_DENOM")
    if base and quote:  # CURRENCY of the standard is what is paid for one CURRENCY_DENOM
        pair = f"{base}/{quote}" if "QUOTE_CURRENCY" in facts else f"{quote}/{base}"
        return {"measure": "quote", "unit": pair}
    if unit.upper() in PERCENT:
        return {"measure": "rate", "unit": "decimal"}
    if unit.upper() in INDEX or re.match(r"(IX|INDEX|I\d\d)\b", unit.upper()):
        return {"measure": "index", "unit": "index"}
    counted = {"total": "flow", "end": "stock", "start": "stock"}.get(timing, "")
    if unit.upper() in COUNT:
        return {"measure": counted, "unit": "count"}
    if re.fullmatch(r"[A-Z]{3}", unit):
        return {"measure": counted, "unit": "currency", "currency": unit}
    return {"unit": unit}


def _with_statuses(
    about: Descriptor, statuses: Sequence[str], frequency: Frequency, ordinals: Ints
) -> Descriptor:
    """What the statuses of observations say, on the trail and in the notes."""
    if not statuses:
        return about
    counts = Counter(_NAMES[s] for s in statuses if s in _NAMES)
    lost = sum(s in MISSING for s in statuses)
    notes = []
    for name, count in counts.items():
        first = next(i for i, s in enumerate(statuses) if _NAMES.get(s) == name)
        notes.append(
            f"{count} {name}, first {period_label(frequency.index(ordinals[first : first + 1])[0])}"
        )
    if lost:
        notes.append(f"{lost} marked missing")
    if not notes:
        return about
    return about.stepped("statuses", {"notes": (*about.notes, *notes)}, found="; ".join(notes))
