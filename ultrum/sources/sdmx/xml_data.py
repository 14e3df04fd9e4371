"""SDMX-ML 2.1, generic and structure-specific, read as it comes so that memory stays bounded."""

from __future__ import annotations

import io
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Final

import lxml.etree
import numpy as np

from ultrum.sources.sdmx.raw import RawSeries

_TIME, _VALUE = "TIME_PERIOD", "OBS_VALUE"
_TAGS: Final = ("{*}Obs", "{*}Series", "{*}Group", "{*}DataSet")
_SCHEMA_INSTANCE: Final = "{http://www.w3.org/2001/XMLSchema-instance}"


def from_xml(body: bytes, dimensions: Sequence[str]) -> list[RawSeries]:
    """Series of an SDMX-ML 2.1 data message."""
    refuse_entities(body)
    reader = _Reader(dimensions)
    for _, element in elements(body, _TAGS):
        reader.take(element)
    return reader.found()


def refuse_entities(body: bytes) -> None:
    """Messages of the standard declare no entities; those that do mean no good."""
    if b"<!ENTITY" in body or b"<!DOCTYPE" in body[:65_536]:
        raise ValueError("it declares entities or a document type, which no SDMX message does")


def elements(body: bytes, tags: Sequence[str]) -> Iterator[tuple[str, Any]]:
    """Finished elements of a message, without entities, network or documents of great depth."""
    return iter(
        lxml.etree.iterparse(
            io.BytesIO(body),
            events=("end",),
            tag=list(tags),
            resolve_entities=False,
            no_network=True,
            load_dtd=False,
            huge_tree=False,
            remove_comments=True,
        )
    )


class _Reader:
    """Gathers observations into series as elements end."""

    def __init__(self, dimensions: Sequence[str]) -> None:
        self.dimensions = dimensions
        self.periods: list[str] = []
        self.values: list[float] = []
        self.notes: dict[int, dict[str, str]] = {}
        self.done: dict[str, list[RawSeries]] = {}
        self.groups: list[tuple[dict[str, str], dict[str, str]]] = []
        self.flat: dict[str, list[tuple[str, float, dict[str, str]]]] = {}
        self.common: dict[str, str] = {}

    def take(self, element: Any) -> None:
        """Take one finished element, and free it."""
        kind = element.tag.rpartition("}")[2]
        if kind == "Obs":
            self._observation(element)
        elif kind == "Series":
            self._series(element)
        elif kind == "Group":
            self._group(element)
        else:
            self.common = {k: v for k, v in element.attrib.items() if k.isupper() and k[0] != "{"}
            self._of_dataset(element)
            return
        element.clear()
        before = element.getprevious()
        if before is not None and before.tag == element.tag:
            element.getparent().remove(before)

    def _observation(self, element: Any) -> None:
        said = element.attrib
        if said:
            period, value = said.get(_TIME), said.get(_VALUE)
            plain = 1 + (value is not None)
            own = said.items() if len(said) > plain else ()
            notes = {str(k): str(v) for k, v in own if k not in (_TIME, _VALUE)}
        else:
            period, value, notes, key = _generic_observation(element)
            if key:
                self._add_flat({**key, **notes}, period, value)
                return
        if period is None:
            raise ValueError("an observation has no period")
        if notes and any(d in notes for d in self.dimensions):
            self._add_flat(notes, period, value)
            return
        if notes:
            self.notes[len(self.values)] = notes
        self.periods.append(period)
        self.values.append(float(value) if value not in (None, "") else np.nan)

    def _add_flat(self, said: Mapping[str, str], period: str | None, value: str | None) -> None:
        """An observation that carries its whole key."""
        codes = {d: said.get(d, "") for d in self.dimensions}
        where = said.get(_TIME) or period or ""
        notes = {k: v for k, v in said.items() if k not in codes and k != _TIME}
        number = float(value) if value not in (None, "") else np.nan
        self.flat.setdefault(".".join(codes.values()), []).append((where, number, notes))

    def _series(self, element: Any) -> None:
        attributes = {k: v for k, v in element.attrib.items() if not k.startswith("{")}
        if not attributes:
            attributes = _generic_series(element)
        key = ".".join(attributes.pop(d, "") for d in self.dimensions)
        self._finish(key, attributes)

    def _finish(self, key: str, attributes: dict[str, str]) -> None:
        count = len(self.values)
        names = sorted({n for said in self.notes.values() for n in said})
        varying: dict[str, Sequence[str]] = {}
        for name in names:
            texts = [self.notes.get(i, {}).get(name, "") for i in range(count)]
            if len(set(texts)) == 1:
                attributes[name] = texts[0]
            else:
                varying[name] = texts
        raw = RawSeries(
            key, self.periods, np.arange(count), np.array(self.values), attributes, varying
        )
        self.done.setdefault(key, []).append(raw)
        self.periods, self.values, self.notes = [], [], {}

    def _group(self, element: Any) -> None:
        said = {k: v for k, v in element.attrib.items() if not k.startswith("{")}
        if not any(d in said for d in self.dimensions):
            said = _values(element.find("{*}GroupKey")) | _values(element.find("{*}Attributes"))
        where = {d: said.pop(d) for d in self.dimensions if d in said}
        self.groups.append((where, said))

    def _of_dataset(self, element: Any) -> None:
        own = element.find("{*}Attributes")
        if own is not None:
            self.common.update(_values(own))

    def found(self) -> list[RawSeries]:
        """Every series, with what its groups and the data set say."""
        for key, rows in self.flat.items():
            self.periods, self.values = [r[0] for r in rows], [r[1] for r in rows]
            self.notes = {i: r[2] for i, r in enumerate(rows) if r[2]}
            self._finish(key, {})
        return [self._completed(raw) for parts in self.done.values() for raw in parts]

    def _completed(self, raw: RawSeries) -> RawSeries:
        codes = dict(zip(self.dimensions, raw.key.split("."), strict=False))
        said: dict[str, str] = {
            k: v for k, v in self.common.items() if k not in ("REPORTING_YEAR",)
        }
        for where, attributes in self.groups:
            if all(codes.get(d) == c for d, c in where.items()):
                said.update(attributes)
        if not said:
            return raw
        return RawSeries(
            raw.key, raw.labels, raw.places, raw.values, {**said, **raw.attributes}, raw.varying
        )


def _generic_observation(
    element: Any,
) -> tuple[str | None, str | None, dict[str, str], dict[str, str]]:
    """Period, value, attributes and key of an observation in the generic format."""
    period = value = None
    notes: dict[str, str] = {}
    key: dict[str, str] = {}
    for child in element:
        kind = child.tag.rpartition("}")[2]
        if kind == "ObsDimension":
            period = child.get("value")
        elif kind == "ObsValue":
            value = child.get("value")
        elif kind == "ObsKey":
            key = _values(child)
        elif kind == "Attributes":
            notes = _values(child)
    return period, value, notes, key


def _generic_series(element: Any) -> dict[str, str]:
    return _values(element.find("{*}SeriesKey")) | _values(element.find("{*}Attributes"))


def _values(element: Any) -> dict[str, str]:
    """``Value`` children by their id."""
    if element is None:
        return {}
    return {
        str(v.get("id")): str(v.get("value")) for v in element if v.tag is not lxml.etree.Comment
    }
