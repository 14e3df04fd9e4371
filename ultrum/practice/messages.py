"""The observatory's answers in the standard's formats: SDMX-CSV 1.0 and SDMX-JSON 1.0."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from typing import Any

import pandas as pd

from ultrum.practice.observatory import AGENCY, FLOWS, SERIES_ATTRIBUTES, VERSION, Flow, catalogue

Series = tuple[str, pd.DataFrame]
_PREPARED = "2025-01-06T09:00:00Z"


def urn(kind: str, package: str, name: str) -> str:
    """Identifier of a structure, as the standard writes it."""
    return f"urn:sdmx:org.sdmx.infomodel.{package}.{kind}={AGENCY}:{name}({VERSION})"


def data_csv(flow: Flow, series: Sequence[Series], with_data: bool = True) -> bytes:
    """SDMX-CSV 1.0: one row per observation, or one per series without data."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(
        ["DATAFLOW", *flow.dimensions, "TIME_PERIOD", "OBS_VALUE", *SERIES_ATTRIBUTES, "OBS_STATUS"]
    )
    known = catalogue()
    for key, rows in series:
        head = [f"{AGENCY}:{flow.id}({VERSION})", *key.split(".")]
        facts = [known[flow.id, key].get(a, "") for a in SERIES_ATTRIBUTES]
        if not with_data:
            writer.writerow([*head, "", "", *facts, ""])
            continue
        for period, value in zip(rows["period"], rows["value"], strict=True):
            writer.writerow([*head, period, repr(float(value)), *facts, "A"])
    return text.getvalue().encode()


def data_json(flow: Flow, series: Sequence[Series], with_data: bool = True) -> dict[str, Any]:
    """SDMX-JSON 1.0 data message, series by series."""
    periods = sorted({p for _, rows in series for p in rows["period"]}) if with_data else []
    place = {period: str(i) for i, period in enumerate(periods)}
    known = catalogue()
    attribute_values = {
        a: sorted({known[flow.id, key].get(a, "") for key, _ in series} - {""})
        for a in SERIES_ATTRIBUTES
    }
    body = {}
    for key, rows in series:
        facts = known[flow.id, key]
        entry: dict[str, Any] = {
            "attributes": [
                attribute_values[a].index(facts[a]) if facts.get(a) else None
                for a in SERIES_ATTRIBUTES
            ]
        }
        if with_data:
            entry["observations"] = {
                place[p]: [float(v), 0] for p, v in zip(rows["period"], rows["value"], strict=True)
            }
        body[_positions(flow, key)] = entry
    return {
        "meta": _meta(),
        "data": {
            "dataSets": [
                {"action": "Information", "links": [_structure_link(flow)], "series": body}
            ],
            "structure": _data_structure(flow, periods, attribute_values),
        },
    }


def flows_json(flows: Sequence[Flow]) -> dict[str, Any]:
    """SDMX-JSON 1.0 structure message with dataflows."""
    listed = [
        {**_named(flow.id, flow.title), "structure": urn("DataStructure", "datastructure", flow.id)}
        for flow in flows
    ]
    return {"meta": _meta(), "data": {"dataflows": listed}}


def structures_json(flows: Sequence[Flow]) -> dict[str, Any]:
    """SDMX-JSON 1.0 structure message with data structures, code lists and concepts."""
    lists, concepts = {}, {}
    for flow in flows:
        for name, (title, codes) in flow.dimensions.items():
            concepts[name] = {"id": name, "name": title, "names": {"en": title}}
            lists[f"CL_{name}"] = {
                **_named(f"CL_{name}", title),
                "codes": [{"id": c, "name": n, "names": {"en": n}} for c, n in codes.items()],
            }
    scheme = {**_named("CONCEPTS", "Concepts"), "concepts": list(concepts.values())}
    return {
        "meta": _meta(),
        "data": {
            "dataStructures": [_data_structure_definition(flow) for flow in flows],
            "codelists": list(lists.values()),
            "conceptSchemes": [scheme],
        },
    }


def error_json(code: int, title: str) -> dict[str, Any]:
    """SDMX-JSON message that carries an error of the standard."""
    return {"meta": _meta(), "errors": [{"code": code, "title": title}]}


def _meta() -> dict[str, Any]:
    sender = {"id": AGENCY, "name": "Lantern Sea Observatory"}
    return {"id": "QLO-1", "test": False, "prepared": _PREPARED, "sender": sender}


def _named(name: str, title: str) -> dict[str, Any]:
    return {
        "id": name,
        "version": VERSION,
        "agencyID": AGENCY,
        "name": title,
        "names": {"en": title},
    }


def _structure_link(flow: Flow) -> dict[str, str]:
    return {"rel": "DataStructure", "urn": urn("DataStructure", "datastructure", flow.id)}


def _positions(flow: Flow, key: str) -> str:
    places = []
    for code, (_, codes) in zip(key.split("."), flow.dimensions.values(), strict=True):
        places.append(str(list(codes).index(code)))
    return ":".join(places)


def _data_structure(
    flow: Flow, periods: Sequence[str], attribute_values: dict[str, list[str]]
) -> dict[str, Any]:
    dimensions = [
        {"id": name, "name": title, "keyPosition": i,
         "values": [{"id": c, "name": n} for c, n in codes.items()]}
        for i, (name, (title, codes)) in enumerate(flow.dimensions.items())
    ]  # fmt: skip
    time = {
        "id": "TIME_PERIOD",
        "name": "Period",
        "keyPosition": len(dimensions),
        "values": [{"id": p, "name": p} for p in periods],
    }
    attributes = [
        {
            "id": a,
            "name": a.replace("_", " ").capitalize(),
            "relationship": {"dimensions": list(flow.dimensions)},
            "values": [{"name": v} for v in values],
        }
        for a, values in attribute_values.items()
    ]
    status = {
        "id": "OBS_STATUS",
        "name": "Status",
        "relationship": {"primaryMeasure": "OBS_VALUE"},
        "values": [{"id": "A", "name": "Normal value"}],
    }
    return {
        "name": flow.title,
        "dimensions": {"dataSet": [], "series": dimensions, "observation": [time]},
        "attributes": {"dataSet": [], "series": attributes, "observation": [status]},
    }


def _data_structure_definition(flow: Flow) -> dict[str, Any]:
    concept = urn("Concept", "conceptscheme", "CONCEPTS")
    dimensions = [
        {"id": name, "position": i, "type": "Dimension", "conceptIdentity": f"{concept}.{name}",
         "localRepresentation": {"enumeration": urn("Codelist", "codelist", f"CL_{name}")}}
        for i, name in enumerate(flow.dimensions)
    ]  # fmt: skip
    time = {
        "id": "TIME_PERIOD",
        "position": len(dimensions),
        "type": "TimeDimension",
        "conceptIdentity": f"{concept}.TIME_PERIOD",
        "localRepresentation": {"textFormat": {"textType": "ObservationalTimePeriod"}},
    }
    value = {"id": "OBS_VALUE", "conceptIdentity": f"{concept}.OBS_VALUE"}
    return {
        **_named(flow.id, flow.title),
        "dataStructureComponents": {
            "dimensionList": {
                "id": "DimensionDescriptor",
                "dimensions": dimensions,
                "timeDimensions": [time],
            },
            "measureList": {"id": "MeasureDescriptor", "primaryMeasure": value},
        },
    }


def flow_named(name: str) -> Flow | None:
    """Flow of a reference such as ``PRICES`` or ``QLO,PRICES,1.0``."""
    parts = name.split(",")
    return FLOWS.get(parts[1] if len(parts) > 1 else parts[0])
