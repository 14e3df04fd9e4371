"""The SDMX source: requests to a service, and its data messages as series.

SDMX-CSV 1.0 and 2.0, SDMX-JSON 1.0 and 2.0, SDMX-ML 2.1 generic and structure-specific.
"""

from __future__ import annotations

import csv
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Final

import lxml.etree

from ultrum.core.series.time_series import TimeSeries
from ultrum.errors import SourceError, choices, name_list, warn_user
from ultrum.sources.download_and_limits import Address, Download
from ultrum.sources.sdmx.csv_and_json_data import RawSeries, from_csv, from_json
from ultrum.sources.sdmx.queries import EVERYTHING, REST, FlowName, Paths, Span, accept_of, message_of_fault
from ultrum.sources.sdmx.structures_and_typing import (
    Calendar,
    Category,
    Flow,
    Structure,
    read_available,
    read_categories,
    read_flows,
    read_structure,
    to_parts,
)
from ultrum.sources.sdmx.xml_data import from_xml

DAMAGED = (ValueError, LookupError, TypeError, AttributeError, ArithmeticError, RecursionError)
_PAGE = (b"<html", b"<!doctype html")


def decode(body: bytes, content_type: str, dimensions: Sequence[str], where: str) -> list[RawSeries]:
    """Series of a data message in any format.

    Parameters
    ----------
    body : bytes
        The message.
    content_type : str
        Content type stated by the service; the first bytes decide if the two differ.
    dimensions : sequence of str
        Ids of the dimensions, in the order of a key.
    where : str
        Requested name, for messages.

    Raises
    ------
    SourceError
        If the message is in no format of the standard, or is truncated.
    """
    start = body[:512].removeprefix(b"\xef\xbb\xbf").lstrip()
    if start.lower().startswith(_PAGE):
        raise SourceError(
            f"{where}: the service returned a web page instead of data. Check the address of the source."
        )
    fault = message_of_fault(body)
    if fault:
        raise SourceError(f"{where}: {fault}")
    try:
        if start.startswith(b"{"):
            return from_json(body, dimensions)
        if start.startswith(b"<"):
            return from_xml(body, dimensions)
        return from_csv(body, dimensions)
    except (*DAMAGED, csv.Error, lxml.etree.LxmlError) as error:
        raise SourceError(
            f"{where}: the answer ({content_type or 'no type'}, {len(body):,} bytes) is not a complete SDMX "
            f"data message: {error}. Try again; if the error persists, the fault is in the service."
        ) from error


# The SDMX source: requests to a service, and its responses as series

Obtain = Callable[[str, str], Download]
_STRUCTURE: Final = "application/vnd.sdmx.structure+"
STRUCTURE: Final = (
    f"{_STRUCTURE}json;version=1.0.0, {_STRUCTURE}json;version=2.0.0;q=0.9, {_STRUCTURE}xml;version=2.1;q=0.8"
)
_MOST_FLOWS_WALKED: Final = 300


@dataclass(frozen=True)
class Listing:
    """One catalogue entry: an address and its description."""

    address: str
    title: str
    frequency: str
    labels: tuple[str, ...]
    flow: str
    facts: Mapping[str, str] = field(default_factory=dict)
    unit_name: str = ""


@dataclass
class SdmxSource:
    """A statistics service.

    Parameters
    ----------
    name : str
        Its name in addresses.
    obtain : callable
        Function that downloads a path below the service's entry point in given media types, from the network or
        from the vault.
    format : {"csv", "csv2", "json", "json2", "xml", "xml generic"}
        Preferred data format; the response's own bytes decide how it is read.
    rest : {"", "2.1", "3.0"}
        Version of the query paths; if empty, 2.1 is tried first and 3.0 if that is not known.
    """

    name: str
    obtain: Obtain
    format: str = "csv"
    rest: str = ""
    _structures: dict[str, tuple[FlowName, Structure]] = field(default_factory=dict)
    _flows: list[Flow] | None = None
    _calendar: Calendar = field(default_factory=Calendar)

    def series(self, path: str, span: Span = EVERYTHING, part: str = "") -> TimeSeries:
        """The single series at ``FLOW/KEY``, or one part of it if its definition changes."""
        candidates = self.all_series(path, span)
        address = str(Address(self.name, path))
        if part:
            candidates = [s for s in candidates if s.metadata.address == f"{address}#{part}"]
            if not candidates:
                raise SourceError(f"{address}#{part}: there is no such part. Leave out '#' to see the parts.")
        if len(candidates) == 1:
            return candidates[0]
        keys = name_list([s.metadata.address for s in candidates])
        if candidates and all(s.metadata.address.partition("#")[0] == address for s in candidates):
            raise SourceError(
                f"{address} changes its definition and is split into {len(candidates)} parts. Add one of these "
                f"to the address: {keys}."
            )
        raise SourceError(
            f"{address} names {len(candidates)} series ({keys}). Write the key of one of them, without wildcards."
        )

    def all_series(self, path: str, span: Span = EVERYTHING) -> list[TimeSeries]:
        """Every series at ``FLOW/KEY``; the key can have wildcards."""
        flow, _, key = path.partition("/")
        structure = self._structure(flow)[1]
        where = f"{self.name}:{path}"
        try:
            raw = self._data(self.data_path(path, span), structure, where)
        except SourceError:
            self._refuse_other_frequency(where, flow, key, structure)
            raise
        return self._type_series(raw, flow, structure)

    def read(self, flow: str, body: bytes) -> list[TimeSeries]:
        """Every series of a data message of a dataflow."""
        structure = self.structure(flow)
        raw = decode(body, "", structure.dimensions, f"{self.name}:{flow}")
        return self._type_series(raw, flow, structure)

    def _type_series(self, raw: Sequence[RawSeries], flow: str, structure: Structure) -> list[TimeSeries]:
        """Every readable series; a warning lists the others, and an error is raised if there is none."""
        typed: list[TimeSeries] = []
        faults: list[SourceError] = []
        for one in raw:
            address = f"{self.name}:{flow}/{one.key}"
            try:
                typed += to_parts(one, structure, address, self._calendar)
            except SourceError as error:
                faults.append(error)
        if faults and not typed:
            raise faults[0]
        if faults:
            warn_user(f"{len(faults)} of {len(raw)} series were not used: " + " ".join(map(str, faults[:5])))
        return typed

    def data_path(self, path: str, span: Span = EVERYTHING) -> str:
        """Path of the data of ``FLOW/KEY`` below the entry point."""
        flow, _, key = path.partition("/")
        name, structure = self._structure(flow)
        _check_key(self.name, path, key, structure)
        return self._paths.data(name, key, span, dimensions=structure.dimensions)

    def _refuse_other_frequency(self, where: str, flow: str, key: str, structure: Structure) -> None:
        """List the available frequencies, if the requested one is missing."""
        parts = key.split(".")
        if "FREQ" not in structure.dimensions or len(parts) != len(structure.dimensions):
            return
        place = structure.dimensions.index("FREQ")
        wanted = parts[place]
        other = ".".join("" if i == place else p for i, p in enumerate(parts))
        try:
            frequencies = self.available(flow, other).get("FREQ", [])
        except SourceError:
            return
        if not wanted or not frequencies or set(wanted.split("+")) & set(frequencies):
            return
        named = structure.codes.get("FREQ", {})
        listed = ", ".join(f"{named.get(c, c)} ({c})" for c in frequencies)
        name = f"{named[wanted]} ({wanted})" if wanted in named else wanted
        raise SourceError(
            f"{where}: no series of frequency {name}; the source has: {listed}.",
            fix="Use one of them, then convert with to_frequency (lower) or disaggregate (higher).",
            setting="available_frequency",
        )

    def listings(self) -> list[Listing]:
        """Every series of the service; for a dataflow that cannot be listed, the dataflow itself."""
        all_listings = []
        for number, flow in enumerate(self.flows()):
            try:
                if number >= _MOST_FLOWS_WALKED:
                    raise SourceError("listed whole, its series are found by its address")
                all_listings += self._listings_of(flow)
            except SourceError:
                all_listings.append(Listing(f"{self.name}:{flow.id}", flow.title, "", (flow.title,), flow.title))
        return all_listings

    def _listings_of(self, flow: Flow) -> list[Listing]:
        name, structure = self._structure(flow.id)
        path = self._paths.data(name, "all", detail="serieskeysonly")
        listings = []
        for raw in self._data(path, structure, f"{self.name}:{flow.id}"):
            labels = tuple(structure.labels(raw.key))
            title = raw.attributes.get("TITLE") or ", ".join(labels[1:])
            address = f"{self.name}:{flow.id}/{raw.key}"
            codes = dict(zip(structure.dimensions, raw.key.split("."), strict=False))
            facts = {**codes, **raw.attributes}
            unit = structure.unit_name(facts)
            listings.append(Listing(address, title, labels[0], labels, flow.title, facts, unit))
        return listings

    def flows(self) -> list[Flow]:
        """Dataflows of the service."""
        if self._flows is None:
            self._flows = self._first_flows()
        return self._flows

    def _first_flows(self) -> list[Flow]:
        """Dataflows by the paths of the given version, or of the first version that the service supports."""
        versions = (self.rest,) if self.rest else REST
        fault: SourceError | None = None
        for version in versions:
            try:
                flows = read_flows(self.obtain(Paths(version).flows(), STRUCTURE).body, self.name)
            except SourceError as error:
                fault = fault or error
                continue
            self.rest = version
            return flows
        raise fault or SourceError(f"{self.name} lists no flows.")

    def structure(self, flow: str) -> Structure:
        """Dimensions and codes of a dataflow."""
        return self._structure(flow)[1]

    def categories(self) -> list[Category]:
        """Topics of the service; none if it has no categories."""
        self.flows()
        try:
            return read_categories(self.obtain(self._paths.categories(), STRUCTURE).body, self.name)
        except SourceError:
            return []

    def available(self, flow: str, key: str = "") -> dict[str, list[str]]:
        """Codes of each dimension for which the dataflow has data."""
        name, _ = self._structure(flow)
        body = self.obtain(self._paths.available(name, key), STRUCTURE).body
        return read_available(body, f"{self.name}:{flow}")

    @property
    def _paths(self) -> Paths:
        return Paths(self.rest or REST[0])

    def _structure(self, flow: str) -> tuple[FlowName, Structure]:
        if flow not in self._structures:
            wanted = FlowName.parse(flow)
            structure = self._flow(wanted)
            if structure is None:
                alike = [f"{f.agency},{f.id},{f.version}" for f in self.flows() if f.id == wanted.id]
                flow_names = choices(alike or sorted(f.id for f in self.flows())) or "none"
                raise SourceError(f"{self.name} has no dataflow '{flow}'. It has: {flow_names}.")
            path = self._paths.structure(structure.structure)
            structures = read_structure(self.obtain(path, STRUCTURE).body, f"{self.name}:{flow}")
            agencies = {f.agency for f in self.flows() if f.id == structure.id}
            alone = wanted.agency == "all" and len(agencies) == 1 and self.rest == "2.1"
            name = wanted if alone else FlowName(structure.id, structure.agency, structure.version)
            self._structures[flow] = (name, structures)
        return self._structures[flow]

    def _flow(self, wanted: FlowName) -> Flow | None:
        """The dataflow of a name; a version that is not listed is requested by its own path."""
        flows = [f for f in self.flows() if f.id == wanted.id and wanted.agency in ("all", f.agency)]
        if flows and wanted.version not in ("latest", *(f.version for f in flows)):
            path = self._paths.flow(replace(wanted, agency=flows[0].agency))
            flows = read_flows(self.obtain(path, STRUCTURE).body, self.name)
        return next((f for f in flows if wanted.version in ("latest", f.version)), None)

    def _data(self, path: str, structure: Structure, where: str) -> list[RawSeries]:
        answer = self.obtain(path, accept_of(self.format))
        raw_series = decode(answer.body, answer.content_type, structure.dimensions, where)
        if not raw_series:
            raise SourceError(
                f"{where}: the answer is empty. Check the key; 'ultrum find' lists what the source has."
            )
        return raw_series


def _check_key(name: str, path: str, key: str, structure: Structure) -> None:
    if key in ("", "all"):
        return
    parts = key.split(".")
    if len(parts) != len(structure.dimensions):
        raise SourceError(
            f"{name}:{path}: the key has {len(parts)} parts, but the dataflow has {len(structure.dimensions)} "
            f"dimensions: {'.'.join(structure.dimensions)}."
        )
    for part, dimension in zip(parts, structure.dimensions, strict=True):
        codes = structure.codes.get(dimension, {})
        wrong = [code for code in part.split("+") if code and codes and code not in codes]
        if wrong:
            raise SourceError(
                f"{name}:{path}: {dimension} has no code {name_list(wrong)}; it has: {choices(sorted(codes))}."
            )
