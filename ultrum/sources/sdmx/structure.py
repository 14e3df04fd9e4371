"""Structure messages: which flows a service has, their dimensions, and the names of the codes."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import orjson

from ultrum.errors import SourceError

_REFERENCE: Final = re.compile(r"=([^:]+):([^(]+)\(([^)]+)\)")


@dataclass(frozen=True)
class Flow:
    """A dataflow and the structure it follows."""

    id: str
    agency: str
    version: str
    title: str
    structure: str


@dataclass(frozen=True)
class Structure:
    """Dimensions in key order, each with the names of its codes."""

    dimensions: tuple[str, ...]
    codes: Mapping[str, Mapping[str, str]]

    def labels(self, key: str) -> list[str]:
        """Names of the codes in a key."""
        pairs = zip(self.dimensions, key.split("."), strict=False)
        return [self.codes.get(d, {}).get(code, code) for d, code in pairs]


def read_flows(body: bytes, where: str) -> list[Flow]:
    """Dataflows of a structure message in SDMX-JSON 1.0."""
    data = _data(body, where)
    return [
        Flow(
            f["id"],
            f.get("agencyID", ""),
            f.get("version", "1.0"),
            _name(f),
            reference(f.get("structure", "")),
        )
        for f in data.get("dataflows", [])
    ]


def read_structure(body: bytes, where: str) -> Structure:
    """The first data structure of a message, with the code lists that came with it."""
    data = _data(body, where)
    definitions = data.get("dataStructures", [])
    if not definitions:
        raise SourceError(f"{where}: the answer holds no data structure.")
    listed = definitions[0]["dataStructureComponents"]["dimensionList"]["dimensions"]
    ordered = sorted(listed, key=lambda d: int(d.get("position", 0)))
    lists = {
        c["id"]: {x["id"]: _name(x) for x in c.get("codes", [])} for c in data.get("codelists", [])
    }
    codes = {}
    for dimension in ordered:
        target = dimension.get("localRepresentation", {}).get("enumeration", "")
        found = _REFERENCE.search(target)
        codes[dimension["id"]] = lists.get(found[2], {}) if found else {}
    return Structure(tuple(d["id"] for d in ordered), codes)


def reference(urn: str) -> str:
    """``agency/id/version`` of a structure's urn."""
    found = _REFERENCE.search(urn)
    return "/".join(found.groups()) if found else ""


def _name(item: Mapping[str, Any]) -> str:
    return str(item.get("name") or next(iter(item.get("names", {}).values()), item["id"]))


def _data(body: bytes, where: str) -> Mapping[str, Any]:
    try:
        message = orjson.loads(body)
        data = message["data"]
    except (orjson.JSONDecodeError, KeyError, TypeError) as error:
        raise SourceError(
            f"{where}: the answer is no SDMX-JSON structure message: {error}."
        ) from None
    return dict(data)
