"""From SDMX attributes to a descriptor: percent becomes decimals, multipliers are applied."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from ultrum.core.descriptor import Descriptor, Step
from ultrum.core.frequency import Frequency, ordinals_of_labels, parse_period
from ultrum.core.series import SeriesTable, TimeSeries
from ultrum.core.types import Floats
from ultrum.errors import SourceError
from ultrum.sources.sdmx.observations import RawSeries
from ultrum.sources.sdmx.structure import Structure

PERCENT: Final = ("PC", "PT", "PCT", "PERCENT", "PCPA", "PC_PA")
INDEX: Final = ("IX", "INDEX", "IDX")
_TIMING: Final = {"A": "average", "B": "start", "E": "end", "S": "total"}


def to_series(raw: RawSeries, structure: Structure, address: str) -> TimeSeries:
    """A typed series with its descriptor, strictly in order of time."""
    if not len(raw.periods):
        raise SourceError(
            f"{address}: the answer is empty. Check the key; 'find' lists what there is."
        )
    codes = dict(zip(structure.dimensions, raw.key.split("."), strict=False))
    frequency = _frequency(codes.get("FREQ", ""), raw.periods[0], address)
    about = _describe(raw, structure, codes, frequency, address)
    ordinals = ordinals_of_labels(raw.periods, frequency)
    order = np.argsort(ordinals, kind="stable")
    ordinals, values = ordinals[order], _in_units(raw)[order]
    twice = np.flatnonzero(np.diff(ordinals) == 0)
    if len(twice):
        label = frequency.labels(ordinals[twice[:1]])[0]
        raise SourceError(f"{address}: {len(twice)} periods appear twice, first {label}.")
    return SeriesTable.build(values[:, None], frequency.index(ordinals), [about]).only()


def _frequency(code: str, period: str, address: str) -> Frequency:
    if code:
        return Frequency.parse(code)
    return Frequency(parse_period(period)[0])


def _describe(
    raw: RawSeries, structure: Structure, codes: dict[str, str], frequency: Frequency, address: str
) -> Descriptor:
    facts = raw.attributes
    unit = facts.get("UNIT_MEASURE", "")
    measured = _measure(unit, codes)
    steps: list[Step] = [Step("received", (("from", address),))]
    if unit.upper() in PERCENT:
        steps.append(Step("percent to decimals"))
    return Descriptor(
        name=raw.key.replace(".", "_"),
        title=facts.get("TITLE") or ", ".join(structure.labels(raw.key)[1:]),
        frequency=frequency,
        scale=_scale(raw),
        timing=_TIMING.get(facts.get("COLLECTION", ""), ""),
        seasonal_adjustment=facts.get("ADJUSTMENT", ""),
        region=codes.get("REF_AREA", ""),
        source=address.partition(":")[0],
        address=address,
        base_period=facts.get("BASE_PER", ""),
        quoted=facts.get("QUOTING", ""),
        maturity=facts.get("MATURITY", ""),
        trail=tuple(steps),
        **measured,
    )


def _scale(raw: RawSeries) -> int:
    return int(raw.attributes.get("UNIT_MULT") or 0)


def _in_units(raw: RawSeries) -> Floats:
    """Values times their multiplier; percent divided by 100, which rounds once and correctly."""
    values = raw.values * 10.0 ** _scale(raw) if _scale(raw) else raw.values
    return values / 100.0 if raw.attributes.get("UNIT_MEASURE", "").upper() in PERCENT else values


def _measure(unit: str, codes: dict[str, str]) -> dict[str, Any]:
    """Measure and unit as far as the attributes tell; what they do not tell stays empty."""
    base, quote = codes.get("BASE_CURRENCY"), codes.get("QUOTE_CURRENCY")
    if base and quote:
        return {"measure": "quote", "unit": f"{base}/{quote}"}
    if unit.upper() in PERCENT:
        return {"measure": "rate", "unit": "decimal"}
    if unit.upper() in INDEX:
        return {"measure": "index", "unit": "index"}
    return {"unit": unit}
