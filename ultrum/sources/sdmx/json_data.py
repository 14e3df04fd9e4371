"""SDMX-JSON 1.0 and 2.0: observations by series, or flat."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import orjson

from ultrum.core.array_types import Ints
from ultrum.sources.sdmx.raw_series import RawSeries

Part = Mapping[str, Any]


def from_json(body: bytes, dimensions: Sequence[str]) -> list[RawSeries]:
    """Series of an SDMX-JSON data message."""
    message = orjson.loads(body)
    data = message.get("data", message)  # drafts had no envelope
    structures = data.get("structures") or [data["structure"]]
    series_list: list[RawSeries] = []
    for dataset in data["dataSets"]:
        if str(dataset.get("action", "")).lower() == "delete":
            continue
        structure = structures[dataset.get("structure", 0)]
        if "series" in dataset:
            series_list += _by_series(dataset, structure, dimensions)
        elif dataset.get("observations"):
            series_list += _flat(dataset, structure, dimensions)
    return series_list


def _by_series(dataset: Part, structure: Part, dimensions: Sequence[str]) -> list[RawSeries]:
    parts = structure["dimensions"]
    fixed = {d["id"]: _code(d["values"][0]) for d in parts.get("dataSet", []) if d.get("values")}
    along = parts["series"]
    periods = [_code(v) for v in parts["observation"][0].get("values", [])]
    attributes = structure.get("attributes", {})
    common = _attribute_values(attributes.get("dataSet", []), dataset.get("attributes", []))
    listed, observed = attributes.get("series", []), attributes.get("observation", [])
    series_list, places_of = [], _Places()
    for positions, body in dataset["series"].items():
        places = [int(p) for p in positions.split(":")] if positions else []
        codes = {**fixed, **{d["id"]: _code(d["values"][p]) for d, p in zip(along, places, strict=True)}}
        facts = {
            **common,
            **_group_attributes(dataset, structure, codes),
            **_attribute_values(listed, body.get("attributes", [])),
        }
        rows = body.get("observations") or {}
        series_list.append(_raw(codes, dimensions, periods, rows, facts, observed, structure, places_of))
    return series_list


class _Places:
    """Positions of periods, parsed once for series that share them."""

    def __init__(self) -> None:
        self.keys: list[str] = []
        self.at = np.empty(0, dtype=np.int64)

    def of(self, rows: Mapping[str, Any]) -> Ints:
        """Positions of the observations of one series."""
        keys = list(rows)
        if keys != self.keys:
            self.keys, self.at = keys, np.fromiter(map(int, keys), np.int64, len(keys))
        return self.at


def _raw(
    codes: Mapping[str, str],
    dimensions: Sequence[str],
    periods: Sequence[str],
    rows: Mapping[str, Any],
    attributes: Mapping[str, str],
    observed: Sequence[Part],
    structure: Part,
    places: _Places,
) -> RawSeries:
    """One series of its observations ``{place: [value, attribute places …]}``."""
    width = max(len(structure.get("measures", {}).get("observation", [])), 1)
    observations = rows.values()
    values = np.array([row[0] if row else None for row in observations], dtype=np.float64)
    fixed, varying = dict(attributes), {}
    for k, attribute in enumerate(observed, start=width):
        cells = [row[k] if len(row) > k else None for row in observations]
        distinct = {p: _value(attribute, p) for p in set(map(_hashable, cells))}
        if len(distinct) == 1:
            text = next(iter(distinct.values()))
            fixed.update({attribute["id"]: text} if text else {})
        elif distinct:
            varying[attribute["id"]] = [distinct[_hashable(p)] for p in cells]
    key = ".".join(codes[d] for d in dimensions)
    return RawSeries(key, periods, places.of(rows), values, fixed, varying)


def _hashable(place: Any) -> object:
    """A position as it is; a value of several parts as text."""
    return place if isinstance(place, int | float | str | None) else str(place)


def _flat(dataset: Part, structure: Part, dimensions: Sequence[str]) -> list[RawSeries]:
    """Observations keyed by the positions of all dimensions."""
    parts = structure["dimensions"]
    fixed = {d["id"]: _code(d["values"][0]) for d in parts.get("dataSet", []) if d.get("values")}
    along = parts["observation"]
    time = next(i for i, d in enumerate(along) if d["id"] not in dimensions)
    others = [i for i in range(len(along)) if i != time]
    groups: dict[tuple[int, ...], dict[str, object]] = {}
    for positions, row in dataset["observations"].items():
        places = [int(p) for p in positions.split(":")]
        groups.setdefault(tuple(places[i] for i in others), {})[str(places[time])] = row
    attributes = structure.get("attributes", {})
    common = _attribute_values(attributes.get("dataSet", []), dataset.get("attributes", []))
    periods = [_code(v) for v in along[time].get("values", [])]
    series_list = []
    for places_of, rows in groups.items():
        codes = dict(fixed)
        for i, place in zip(others, places_of, strict=True):
            codes[along[i]["id"]] = _code(along[i]["values"][place])
        facts = {**common, **_group_attributes(dataset, structure, codes)}
        series_list.append(
            _raw(codes, dimensions, periods, rows, facts, attributes.get("observation", []), structure, _Places())
        )
    return series_list


def _group_attributes(dataset: Part, structure: Part, codes: Mapping[str, str]) -> dict[str, str]:
    """Attributes that SDMX-JSON 2.0 attaches to some of the dimensions."""
    listed = structure.get("attributes", {}).get("dimensionGroup", [])
    groups = dataset.get("dimensionGroupAttributes") or {}
    if not listed or not groups:
        return {}
    parts = structure["dimensions"]
    order = [*parts.get("dataSet", []), *parts.get("series", []), *parts.get("observation", [])]
    attributes: dict[str, str] = {}
    for pattern, places in groups.items():
        if _matches(pattern.split(":"), order, codes):
            attributes.update(_attribute_values(listed, places))
    return attributes


def _matches(pattern: Sequence[str], order: Sequence[Part], codes: Mapping[str, str]) -> bool:
    return all(
        place in ("", "~") or d["id"] not in codes or _code(d["values"][int(place)]) == codes[d["id"]]
        for place, d in zip(pattern, order, strict=False)
    )


def _attribute_values(listed: Sequence[Part], places: Sequence[object]) -> dict[str, str]:
    """Attribute values by id."""
    names = {}
    for attribute, place in zip(listed, places, strict=False):
        text = _value(attribute, place)
        if text:
            names[str(attribute["id"])] = text
    return names


def _value(attribute: Part, place: object) -> str:
    """The value of an attribute: at a position of its code list, or the value itself."""
    if place is None:
        return ""
    values = attribute.get("values") or []
    if isinstance(place, int) and not isinstance(place, bool) and values:
        return _code(values[place])
    value = place[0] if isinstance(place, list) and place else place
    return str(next(iter(value.values()), "")) if isinstance(value, dict) else str(value)


def _code(value: object) -> str:
    """Code of a value, or its name if it has no code."""
    if not isinstance(value, dict):
        return str(value)
    for key in ("id", "value", "name"):
        if value.get(key) is not None:
            return str(value[key])
    return str(next(iter(value.get("names", {}).values()), ""))
