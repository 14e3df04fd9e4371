"""SDMX structures, and raw series typed by them.

SDMX-JSON 1.0 and 2.0 and SDMX-ML 2.1 and 3.0 give the same few types.
"""

from __future__ import annotations

import functools
import itertools
import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Final, TypeVar

import lxml.etree
import numpy as np
import orjson
import pandas as pd

from ultrum.core.array_types import Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import Metadata, Step
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.frequency import Frequency, ordinals_of_labels
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import FrequencyError, PartialReadingWarning, SourceError, UnitError, warn_user
from ultrum.sources.sdmx.csv_and_json_data import (
    RawSeries,
    frequency_of,
    has_zone,
    intraday,
    is_percent,
    measure_of_unit,
    plain_label,
    unit_of_facts,
)
from ultrum.sources.sdmx.queries import message_of_fault
from ultrum.sources.sdmx.xml_data import Element, refuse_entities

T = TypeVar("T")
_REFERENCE: Final = re.compile(r"=([^:]+):([^(]+)\(([^)]+)\)(?:\.(.+))?")
_LANGUAGE: Final = "{http://www.w3.org/XML/1998/namespace}lang"
_DEEPEST: Final = 12


@dataclass(frozen=True)
class Flow:
    """A dataflow and the structure it follows (``agency/id/version``)."""

    id: str
    agency: str
    version: str
    title: str
    structure: str


@dataclass(frozen=True)
class Structure:
    """Dimensions in key order, the names of their codes, and their own names.

    ``attributes`` has the names of the codes of attributes.
    """

    dimensions: tuple[str, ...]
    codes: Mapping[str, Mapping[str, str]]
    names: Mapping[str, str] = field(default_factory=dict)
    attributes: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    def unit_name(self, facts: Mapping[str, str]) -> str:
        """Name of the unit of a series, from the code list of its dimension or attribute."""
        for place in ("UNIT_MEASURE", "UNIT"):
            if place in facts:
                listed = self.codes.get(place) or self.attributes.get(place) or {}
                return listed.get(facts[place], "")
        return ""

    def labels(self, key: str) -> list[str]:
        """Names of the codes in a key."""
        pairs = zip(self.dimensions, key.split("."), strict=False)
        return [self.codes.get(d, {}).get(code, code) for d, code in pairs]


@dataclass(frozen=True)
class Category:
    """A topic of a catalogue: its path of names from the top, and its dataflows."""

    path: tuple[str, ...]
    flows: tuple[str, ...]


def _whole(read: Callable[[bytes, str], T]) -> Callable[[bytes, str], T]:
    """Refuse a message without a required element."""

    @functools.wraps(read)
    def _read(body: bytes, where: str) -> T:
        try:
            return read(body, where)
        except (ValueError, LookupError, TypeError, AttributeError, RecursionError) as error:
            raise SourceError(
                f"{where}: the answer is not a complete structure message: {type(error).__name__} {error}. Try "
                "again; if the error persists, the fault is in the service."
            ) from error

    return _read


@_whole
def read_flows(body: bytes, where: str) -> list[Flow]:
    """Dataflows of a structure message."""
    flows = _items(body, where, "dataflows", "Dataflow")
    return [Flow(f["id"], f["agency"], f["version"], f["name"], f["structure"]) for f in flows]


@_whole
def read_structure(body: bytes, where: str) -> Structure:
    """The first data structure of a message, with the code lists and concepts of the message."""
    if _is_json(body):
        return _structure_json(_data(body, where), where)
    return _structure_xml(_tree(body, where), where)


@_whole
def read_categories(body: bytes, where: str) -> list[Category]:
    """Topics with their categorised dataflows."""
    if _is_json(body):
        data = _data(body, where)
        schemes, links = data.get("categorySchemes", []), data.get("categorisations", [])
        placed = [(str(c.get("source", "")), str(c.get("target", ""))) for c in links]
        return _categories(schemes, placed)
    tree = _tree(body, where)
    schemes = [_category_of_xml(s) for s in tree.iter("{*}CategoryScheme")]
    placed = [
        (_xml_urn(c.find("{*}Source")), _xml_urn(c.find("{*}Target"))) for c in tree.iter("{*}Categorisation")
    ]
    return _categories(schemes, placed)


@_whole
def read_available(body: bytes, where: str) -> dict[str, list[str]]:
    """Codes with data, by dimension."""
    codes: dict[str, list[str]] = {}
    if _is_json(body):
        data = _data(body, where)
        for constraint in [*data.get("contentConstraints", []), *data.get("dataConstraints", [])]:
            for region in constraint.get("cubeRegions", []):
                for part in region.get("keyValues", region.get("memberSelection", [])):
                    values = part.get("values", [])
                    codes[part["id"]] = [v["value"] if isinstance(v, dict) else str(v) for v in values]
        return codes
    for part in _tree(body, where).iter("{*}KeyValue"):
        codes[str(part.get("id"))] = [str(v.text) for v in part.findall("{*}Value")]
    return codes


def reference(urn: str) -> str:
    """``agency/id/version`` of a structure's urn."""
    match = _REFERENCE.search(urn)
    return "/".join(match.groups()[:3]) if match else ""


def _is_json(body: bytes) -> bool:
    return body[:64].removeprefix(b"\xef\xbb\xbf").lstrip().startswith(b"{")


def _data(body: bytes, where: str) -> Mapping[str, Any]:
    fault = message_of_fault(body)
    if fault:
        raise SourceError(f"{where}: {fault}")
    try:
        message = orjson.loads(body)
        data = message["data"]
        return dict(data)
    except (orjson.JSONDecodeError, KeyError, TypeError, ValueError) as error:
        raise SourceError(f"{where}: the answer is not an SDMX-JSON structure message: {error}.") from error


def _tree(body: bytes, where: str) -> Element:
    """A structure message in SDMX-ML, without entities or network."""
    fault = message_of_fault(body)
    if fault:
        raise SourceError(f"{where}: {fault}")
    parser = lxml.etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True
    )
    try:
        refuse_entities(body)
        root: Element = lxml.etree.fromstring(body, parser)
    except (lxml.etree.LxmlError, ValueError) as error:
        raise SourceError(f"{where}: the answer is not a structure message: {error}.") from error
    if not str(root.tag).endswith("}Structure"):
        raise SourceError(f"{where}: a '{root.tag}' was returned instead of a structure message.")
    return root


def _name(item: Mapping[str, Any]) -> str:
    names = item.get("names") or {}
    return str(names.get("en") or item.get("name") or next(iter(names.values()), item["id"]))


def _xml_name(element: Element) -> str:
    names = element.findall("{*}Name")
    best = next((n for n in names if n.get(_LANGUAGE) == "en"), names[0] if names else None)
    return str(best.text) if best is not None and best.text else str(element.get("id"))


def _xml_reference(element: Element | None) -> str:
    """``agency/id/version`` of a referenced element, by Ref, URN or its own text."""
    if element is None:
        return ""
    ref = element.find("{*}Ref")
    if ref is None:
        return reference(_xml_urn(element))
    parent = ref.get("maintainableParentID")
    version = ref.get("maintainableParentVersion") or ref.get("version") or "1.0"
    return f"{ref.get('agencyID')}/{parent or ref.get('id')}/{version}"


def _xml_urn(element: Element | None) -> str:
    """URN of a reference, built from its Ref if it has none."""
    if element is None:
        return ""
    urn = element.findtext("{*}URN")
    if urn:
        return str(urn)
    ref = element.find("{*}Ref")
    if ref is None:
        return str(element.text or "").strip()
    owner = ref.get("maintainableParentID")
    tail = f".{ref.get('id')}" if owner else ""
    version = ref.get("maintainableParentVersion") or ref.get("version") or "1.0"
    return f"={ref.get('agencyID')}:{owner or ref.get('id')}({version}){tail}"


def _items(body: bytes, where: str, key: str, tag: str) -> list[dict[str, str]]:
    """Dataflows of either format."""
    if _is_json(body):
        return [
            {
                "id": f["id"],
                "agency": f.get("agencyID", ""),
                "version": f.get("version", "1.0"),
                "name": _name(f),
                "structure": reference(f.get("structure", "")),
            }
            for f in _data(body, where).get(key, [])
        ]
    return [
        {
            "id": str(e.get("id")),
            "agency": str(e.get("agencyID") or ""),
            "version": str(e.get("version") or "1.0"),
            "name": _xml_name(e),
            "structure": _xml_reference(e.find("{*}Structure")),
        }
        for e in _tree(body, where).iter("{*}" + tag)
    ]


def _structure_json(data: Mapping[str, Any], where: str) -> Structure:
    definitions = data.get("dataStructures", [])
    if not definitions:
        raise SourceError(f"{where}: the answer holds no data structure.")
    listed = definitions[0]["dataStructureComponents"]["dimensionList"]["dimensions"]
    ordered = sorted(listed, key=lambda d: int(d.get("position", 0)))
    lists = {c["id"]: {x["id"]: _name(x) for x in c.get("codes", [])} for c in data.get("codelists", [])}
    concepts = {c["id"]: _name(c) for s in data.get("conceptSchemes", []) for c in s.get("concepts", [])}
    codes, names = {}, {}
    for dimension in ordered:
        target = dimension.get("localRepresentation", {}).get("enumeration", "")
        match = _REFERENCE.search(target)
        codes[dimension["id"]] = lists.get(match[2], {}) if match else {}
        concept = _REFERENCE.search(dimension.get("conceptIdentity", ""))
        names[dimension["id"]] = concepts.get(concept[4] or "", dimension["id"]) if concept else dimension["id"]
    given = definitions[0]["dataStructureComponents"].get("attributeList", {}).get("attributes", [])
    attributes = {}
    for attribute in given:
        target = (attribute.get("localRepresentation") or {}).get("enumeration", "")
        if match := _REFERENCE.search(target):
            attributes[attribute["id"]] = lists.get(match[2], {})
    return Structure(tuple(d["id"] for d in ordered), codes, names, attributes)


def _structure_xml(root: Element, where: str) -> Structure:
    definition = next(root.iter("{*}DataStructure"), None)
    if definition is None:
        raise SourceError(f"{where}: the answer holds no data structure.")
    listed = [e for e in definition.iter("{*}Dimension") if e.get("id")]
    ordered = sorted(listed, key=lambda e: int(e.get("position") or 0))
    lists = {
        str(c.get("id")): {str(x.get("id")): _xml_name(x) for x in c.findall("{*}Code")}
        for c in root.iter("{*}Codelist")
    }
    concepts = {str(c.get("id")): _xml_name(c) for c in root.iter("{*}Concept")}
    codes, names = {}, {}
    for element in ordered:
        identifier = str(element.get("id"))
        target = _xml_reference(element.find("{*}LocalRepresentation/{*}Enumeration"))
        codes[identifier] = lists.get(target.split("/")[1], {}) if target else {}
        identity = element.find("{*}ConceptIdentity")
        ref = identity.find("{*}Ref") if identity is not None else None
        concept = ref.get("id") if ref is not None else _xml_urn(identity).rpartition(".")[2]
        names[identifier] = concepts.get(str(concept), identifier)
    attributes = {}
    for element in definition.iter("{*}Attribute"):
        target = _xml_reference(element.find("{*}LocalRepresentation/{*}Enumeration"))
        if element.get("id") and target:
            attributes[str(element.get("id"))] = lists.get(target.split("/")[1], {})
    return Structure(tuple(str(e.get("id")) for e in ordered), codes, names, attributes)


def _category_of_xml(element: Element) -> dict[str, object]:
    inside = [_category_of_xml(c) for c in element.findall("{*}Category")]
    return {"id": str(element.get("id")), "name": _xml_name(element), "categories": inside}


def _categories(schemes: Sequence[Mapping[str, object]], placed: Sequence[tuple[str, str]]) -> list[Category]:
    """Every category that has dataflows, or subcategories."""
    flows: dict[tuple[str, str], list[str]] = {}
    for source, target in placed:
        flow, category = _REFERENCE.search(source), _REFERENCE.search(target)
        if flow and category:
            flows.setdefault((category[2], category[4] or ""), []).append(flow[2])
    categories: list[Category] = []
    for scheme in schemes:
        _walk(scheme, (_name(scheme),), "", str(scheme["id"]), flows, categories, 0)
    return categories


def _walk(
    item: Mapping[str, Any],
    path: tuple[str, ...],
    dotted: str,
    scheme: str,
    flows: Mapping[tuple[str, str], list[str]],
    categories: list[Category],
    depth: int,
) -> None:
    for child in item.get("categories", []) if depth < _DEEPEST else []:
        identifier = f"{dotted}.{child['id']}" if dotted else str(child["id"])
        inside = flows.get((scheme, identifier)) or flows.get((scheme, str(child["id"]))) or []
        categories.append(Category((*path, _name(child)), tuple(inside)))
        _walk(child, (*path, _name(child)), identifier, scheme, flows, categories, depth + 1)


# Typed series

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
