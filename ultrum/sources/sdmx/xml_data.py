"""SDMX-ML 2.1, generic and structure-specific, parsed as a stream so that memory stays bounded."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Final, Protocol

import lxml.etree
import numpy as np

from ultrum.core.array_types import Floats
from ultrum.sources.sdmx.csv_and_json_data import RawSeries

_TIME, _VALUE = "TIME_PERIOD", "OBS_VALUE"
_TAGS: Final = ("{*}Series", "{*}Group", "{*}DataSet")
_SERIES: Final = re.compile(rb"<(\w+:)?Series[ >]")


class Element(Protocol):
    """An XML element, as lxml provides it."""

    tag: str
    text: str | None

    @property
    def attrib(self) -> Mapping[str, str]:
        """Attributes by name."""

    def get(self, key: str, default: str | None = None) -> str | None:
        """Value of an attribute."""

    def keys(self) -> list[str]:
        """Names of the attributes."""

    def values(self) -> list[str]:
        """Values of the attributes."""

    def find(self, path: str) -> Element | None:
        """First child at a path."""

    def findall(self, path: str) -> list[Element]:
        """Every child at a path."""

    def findtext(self, path: str) -> str | None:
        """Text of the first child at a path."""

    def iter(self, tag: str) -> Iterator[Element]:
        """Descendants with a tag."""

    def iterchildren(self, tag: str) -> Iterator[Element]:
        """Children with a tag."""

    def getparent(self) -> Element | None:
        """The parent."""

    def getprevious(self) -> Element | None:
        """The sibling before."""

    def remove(self, element: Element) -> None:
        """Remove a child."""

    def clear(self, keep_tail: bool = False) -> None:
        """Remove content and attributes."""

    def __iter__(self) -> Iterator[Element]: ...


def from_xml(body: bytes, dimensions: Sequence[str]) -> list[RawSeries]:
    """Series of an SDMX-ML 2.1 data message."""
    refuse_entities(body)
    return _Reader(dimensions).read(body)


def refuse_entities(body: bytes) -> None:
    """Messages of the standard declare no entities; a message with entities is refused as an attack."""
    if b"<!ENTITY" in body or b"<!DOCTYPE" in body[:65_536]:
        raise ValueError("it declares entities or a document type, which SDMX messages do not")


def elements(body: bytes, tags: Sequence[str]) -> Iterator[tuple[str, Element]]:
    """Finished elements of a message, without entities, network access or deep nesting."""
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
    """Collects observations into series as elements end.

    Observations of one series nearly always have the same attributes in the same order, so their values are
    stored as rows under one heading and transposed at the end of the series.
    """

    def __init__(self, dimensions: Sequence[str]) -> None:
        self.dimensions = dimensions
        self.headings: list[list[str]] = []
        self.rows: list[list[list[str]]] = []
        self.done: list[RawSeries] = []
        self.groups: list[tuple[dict[str, str], dict[str, str]]] = []
        self.flat: dict[str, list[dict[str, str]]] = {}
        self.whole = 0  # series of finished data sets
        self._labels: list[str] = []

    def read(self, body: bytes) -> list[RawSeries]:
        """Every series of a message; observations are read with their series."""
        held = _SERIES.search(body, 0, 1 << 20) is not None
        for _, element in elements(body, _TAGS if held else (*_TAGS, "{*}Obs")):
            kind = element.tag.rpartition("}")[2]
            if kind == "Obs":
                self._observation(element)
            elif kind == "Series":
                self._series(element)
            elif kind == "Group":
                self._group(element)
                continue
            else:
                self._of_dataset(element)
                continue
            element.clear()
            before, parent = element.getprevious(), element.getparent()
            if before is not None and parent is not None and before.tag == element.tag:
                parent.remove(before)
        return self._all_series()

    def _series(self, element: Element) -> None:
        """The end of a series, with its observations."""
        attributes = {k: v for k, v in element.attrib.items() if not k.startswith("{")}
        attributes = attributes or _generic_series(element)
        heading: list[str] = []
        append: Callable[[list[str]], None] | None = None
        for child in element.iterchildren("{*}Obs"):
            names = child.keys()
            if append is None or names != heading or not names:
                self._observation(child)
                heading, append = names, self.rows[-1].append
            else:  # as before, nearly always
                append(child.values())
        key = ".".join(attributes.pop(d, "") for d in self.dimensions)
        self._finish(key, attributes, self._taken())

    def _observation(self, element: Element) -> None:
        """Attributes of an observation, or the children of a generic one."""
        names, row = element.keys(), element.values()
        if not names:
            observation = _generic_observation(element)
            names, row = list(observation), list(observation.values())
        if not self.headings or names != self.headings[-1]:
            self.headings.append(names)
            self.rows.append([])
        self.rows[-1].append(row)

    def _taken(self) -> dict[str, Sequence[str]]:
        """Columns of the observations since the last series, by name."""
        headings, rows = self.headings, self.rows
        self.headings, self.rows = [], []
        if len(headings) == 1:
            return dict(zip(headings[0], map(list, zip(*rows[0], strict=True)), strict=True))
        names = list(dict.fromkeys(n for h in headings for n in h))
        records = [dict(zip(h, r, strict=True)) for h, rs in zip(headings, rows, strict=True) for r in rs]
        return {n: [r.get(n, "") for r in records] for n in names}

    def _finish(self, key: str, attributes: dict[str, str], columns: dict[str, Sequence[str]]) -> None:
        """One series from its attributes and the columns of its observations."""
        labels = list(columns.pop(_TIME, []))
        if columns and not labels:
            raise ValueError("an observation has no period")
        if labels == self._labels:
            labels = self._labels  # series that share their periods share the list of them
        self._labels = labels
        values = _numbers(columns.pop(_VALUE, [""] * len(labels)))
        varying = {}
        for name, texts in columns.items():
            if len(set(texts)) == 1:
                attributes[name] = texts[0]
            else:
                varying[name] = texts
        self.done.append(RawSeries(key, labels, np.arange(len(labels)), values, attributes, varying))

    def _group(self, element: Element) -> None:
        attributes = {k: v for k, v in element.attrib.items() if not k.startswith("{")}
        if not any(d in attributes for d in self.dimensions):
            attributes = _values(element.find("{*}GroupKey")) | _values(element.find("{*}Attributes"))
        where = {d: attributes.pop(d) for d in self.dimensions if d in attributes}
        self.groups.append((where, attributes))

    def _of_dataset(self, element: Element) -> None:
        """The end of a data set, whose attributes and groups hold for its own series alone."""
        common = {k: v for k, v in element.attrib.items() if k.isupper() and k != "REPORTING_YEAR"}
        attributes = element.find("{*}Attributes")
        if attributes is not None:
            common.update(_values(attributes))
        if _action(element).lower() == "delete":
            self.done, self.rows, self.headings = self.done[: self.whole], [], []
        if self.rows:
            self._read_keys(common)
        self.done[self.whole :] = [self._complete(raw, common) for raw in self.done[self.whole :]]
        self.whole, self.groups = len(self.done), []

    def _all_series(self) -> list[RawSeries]:
        """Every series, those of observations with full keys last."""
        if self.rows:
            self._read_keys({})
        for key, records in self.flat.items():
            names = list(dict.fromkeys(n for r in records for n in r))
            self._finish(key, {}, {n: [r.get(n, "") for r in records] for n in names})
        return self.done

    def _read_keys(self, common: Mapping[str, str]) -> None:
        """Observations that each have a full key, with the attributes of their data set and groups."""
        columns = self._taken()
        names = list(columns)
        for row in zip(*columns.values(), strict=True):
            values = dict(zip(names, row, strict=True))
            codes = {d: values.pop(d, "") for d in self.dimensions}
            facts = {k: v for k, v in self._facts_of(codes, common).items() if not values.get(k)}
            self.flat.setdefault(".".join(codes.values()), []).append({**values, **facts})

    def _facts_of(self, codes: Mapping[str, str], common: Mapping[str, str]) -> dict[str, str]:
        """Attributes of the data set and of its groups for one key."""
        facts = dict(common)
        for where, attributes in self.groups:
            if all(codes.get(d) == c for d, c in where.items()):
                facts.update(attributes)
        return facts

    def _complete(self, raw: RawSeries, common: Mapping[str, str]) -> RawSeries:
        codes = dict(zip(self.dimensions, raw.key.split("."), strict=False))
        facts = self._facts_of(codes, common)
        if not facts:
            return raw
        attributes = {**facts, **raw.attributes}
        return RawSeries(raw.key, raw.labels, raw.places, raw.values, attributes, raw.varying)


def _action(dataset: Element) -> str:
    """Action of a data set, from its attribute in any namespace."""
    return next((str(v) for k, v in dataset.attrib.items() if k.rpartition("}")[2] == "action"), "")


def _numbers(texts: Sequence[str]) -> Floats:
    """Numbers from texts, NaN for empty ones."""
    if "" not in texts:
        return np.fromiter(map(float, texts), np.float64, len(texts))
    return np.array([float(t) if t else np.nan for t in texts])


def _generic_observation(element: Element) -> dict[str, str]:
    """Key, period, value and attributes of an observation in the generic format."""
    observation: dict[str, str] = {}
    for child in element:
        kind = child.tag.rpartition("}")[2]
        if kind == "ObsDimension":
            observation[_TIME] = child.get("value") or ""
        elif kind == "ObsValue":
            observation[_VALUE] = child.get("value") or ""
        else:
            observation.update(_values(child))
    return observation


def _generic_series(element: Element) -> dict[str, str]:
    return _values(element.find("{*}SeriesKey")) | _values(element.find("{*}Attributes"))


def _values(element: Element | None) -> dict[str, str]:
    """``Value`` children by their id."""
    if element is None:
        return {}
    return {str(v.get("id")): str(v.get("value")) for v in element if v.tag is not lxml.etree.Comment}
