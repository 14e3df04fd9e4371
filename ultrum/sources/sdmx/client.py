"""The SDMX source: what to ask a service for, and how to read its answers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

from ultrum.core.series import TimeSeries
from ultrum.errors import SourceError
from ultrum.sources.delivery import Address, Delivery
from ultrum.sources.sdmx.facts import to_series
from ultrum.sources.sdmx.observations import RawSeries, decode
from ultrum.sources.sdmx.structure import Flow, Structure, read_flows, read_structure

Obtain = Callable[[str, str], Delivery]
_CSV: Final = "application/vnd.sdmx.data+csv;version=1.0.0"
_JSON: Final = "application/vnd.sdmx.data+json;version=1.0.0"
ACCEPT: Final = {"csv": f"{_CSV}, {_JSON};q=0.8", "json": f"{_JSON}, {_CSV};q=0.8"}
STRUCTURE: Final = "application/vnd.sdmx.structure+json;version=1.0.0"


@dataclass(frozen=True)
class Listing:
    """One catalogue entry: an address and what is known of it."""

    address: str
    title: str
    frequency: str
    labels: tuple[str, ...]
    flow: str


@dataclass(frozen=True)
class SdmxSource:
    """A statistics service.

    Parameters
    ----------
    name : str
        Its name in addresses.
    obtain : callable
        Takes a path below the service's entry point and the media types wanted, and gives the
        delivery: from the network, or from the vault.
    format : {"csv", "json"}
        Data format to prefer; the answer's own type decides how it is read.
    """

    name: str
    obtain: Obtain
    format: str = "csv"

    def series(self, path: str) -> TimeSeries:
        """The one series at ``FLOW/KEY``."""
        found = self.all_series(path)
        address = str(Address(self.name, path))
        if len(found) != 1:
            keys = ", ".join(s.about.address for s in found[:5])
            raise SourceError(
                f"{address} names {len(found)} series ({keys} …); name one, without wildcards."
            )
        return found[0]

    def all_series(self, path: str) -> list[TimeSeries]:
        """Every series at ``FLOW/KEY``, whose key may have wildcards."""
        flow, _, key = path.partition("/")
        structure = self.structure(flow)
        _check_key(self.name, path, key, structure)
        raw = self._data(f"data/{flow}/{key or 'all'}", structure, f"{self.name}:{path}")
        return [to_series(r, structure, f"{self.name}:{flow}/{r.key}") for r in raw]

    def listings(self) -> list[Listing]:
        """Every series of the service."""
        found = []
        for flow in self.flows():
            structure = self.structure(flow.id)
            path = f"data/{flow.id}/all?detail=serieskeysonly"
            for raw in self._data(path, structure, f"{self.name}:{flow.id}"):
                labels = tuple(structure.labels(raw.key))
                title = raw.attributes.get("TITLE") or ", ".join(labels[1:])
                address = f"{self.name}:{flow.id}/{raw.key}"
                found.append(Listing(address, title, labels[0], labels, flow.title))
        return found

    def flows(self) -> list[Flow]:
        """Dataflows of the service."""
        return read_flows(self.obtain("dataflow/all/all/latest", STRUCTURE).body, self.name)

    def structure(self, flow: str) -> Structure:
        """Dimensions and codes of a flow."""
        known = {f.id: f for f in self.flows()}
        if flow not in known:
            raise SourceError(
                f"{self.name} has no flow '{flow}'; it has: {', '.join(sorted(known)) or 'none'}."
            )
        path = f"datastructure/{known[flow].structure}?references=children"
        return read_structure(self.obtain(path, STRUCTURE).body, f"{self.name}:{flow}")

    def _data(self, path: str, structure: Structure, where: str) -> list[RawSeries]:
        answer = self.obtain(path, ACCEPT[self.format])
        found = decode(answer.body, answer.content_type, structure.dimensions, where)
        if not found:
            raise SourceError(
                f"{where}: the answer is empty. Check the key; 'find' lists what there is."
            )
        return found


def _check_key(name: str, path: str, key: str, structure: Structure) -> None:
    parts = key.split(".")
    if key and len(parts) != len(structure.dimensions):
        raise SourceError(
            f"{name}:{path}: the key has {len(parts)} parts, the flow {len(structure.dimensions)} "
            f"dimensions: {'.'.join(structure.dimensions)}."
        )
    for part, dimension in zip(parts if key else [], structure.dimensions, strict=False):
        known = structure.codes.get(dimension, {})
        wrong = [code for code in part.split("+") if code and known and code not in known]
        if wrong:
            raise SourceError(
                f"{name}:{path}: {dimension} has no code {', '.join(wrong)}; "
                f"it has: {', '.join(sorted(known))}."
            )
