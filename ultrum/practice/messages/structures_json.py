"""Structures in SDMX-JSON 1.0 and 2.0: flows, data structures, code lists, topics, what is available."""

from __future__ import annotations

from typing import Any

from ultrum.practice.messages.message_headers import (
    Content,
    concept_names,
    meta,
    placed,
    status_codes,
    urn,
)
from ultrum.practice.observatory import AGENCY, SERIES_ATTRIBUTES, TOPICS, VERSION, Flow


def structures_json(content: Content, version: str = "1.0.0") -> dict[str, Any]:
    """A structure message."""
    data: dict[str, Any] = {}
    if content.flows:
        data["dataflows"] = [
            {**_named(f.id, f.title), "structure": urn("DataStructure", "datastructure", f.id)}
            for f in content.flows
        ]
    if content.definitions:
        data["dataStructures"] = [_definition(f, version) for f in content.definitions]
        data["codelists"] = _code_lists(content)
        data["conceptSchemes"] = [_concepts(content)]
    if content.topics:
        data["categorySchemes"] = [_topics()]
        data["categorisations"] = _categorisations()
    if content.constrained is not None:
        data["contentConstraints" if version == "1.0.0" else "dataConstraints"] = [_constraint(content, version)]
    return {"meta": meta(), "data": data}


def _named(name: str, title: str) -> dict[str, Any]:
    return {
        "id": name,
        "version": VERSION,
        "agencyID": AGENCY,
        "name": title,
        "names": {"en": title},
    }


def _item(name: str, title: str) -> dict[str, Any]:
    return {"id": name, "name": title, "names": {"en": title}}


def _code_lists(content: Content) -> list[dict[str, Any]]:
    lists = {}
    for flow in content.definitions:
        for name, (title, codes) in flow.dimensions.items():
            lists[f"CL_{name}"] = {
                **_named(f"CL_{name}", title), "codes": [_item(c, n) for c, n in codes.items()]
            }  # fmt: skip
    status = [_item(c, n) for c, n in status_codes().items()]
    lists["CL_OBS_STATUS"] = {**_named("CL_OBS_STATUS", "Status"), "codes": status}
    return list(lists.values())


def _concepts(content: Content) -> dict[str, Any]:
    named = concept_names(content.definitions)
    return {**_named("CONCEPTS", "Concepts"), "concepts": [_item(n, t) for n, t in named.items()]}


def _definition(flow: Flow, version: str) -> dict[str, Any]:
    concept = urn("Concept", "conceptscheme", "CONCEPTS")
    dimensions: list[dict[str, Any]] = [
        {"id": name, "position": i, "conceptIdentity": f"{concept}.{name}",
         "localRepresentation": {"enumeration": urn("Codelist", "codelist", f"CL_{name}")}}
        for i, name in enumerate(flow.dimensions)
    ]  # fmt: skip
    text = {"dataType" if version != "1.0.0" else "textType": "ObservationalTimePeriod"}
    time: dict[str, Any] = {
        "id": "TIME_PERIOD",
        "conceptIdentity": f"{concept}.TIME_PERIOD",
        "localRepresentation": {"format" if version != "1.0.0" else "textFormat": text},
    }
    lists: dict[str, Any] = {"id": "DimensionDescriptor", "dimensions": dimensions}
    value = {"id": "OBS_VALUE", "conceptIdentity": f"{concept}.OBS_VALUE"}
    attributes = [_attribute(flow, concept, a, version) for a in (*SERIES_ATTRIBUTES, "OBS_STATUS")]
    if version == "1.0.0":
        for dimension in dimensions:
            dimension["type"] = "Dimension"
        time |= {"position": len(dimensions), "type": "TimeDimension"}
        lists["timeDimensions"] = [time]
        measures: dict[str, Any] = {"id": "MeasureDescriptor", "primaryMeasure": value}
    else:
        lists["timeDimension"] = time
        measures = {"id": "MeasureDescriptor", "measures": [value]}
    parts = {
        "dimensionList": lists,
        "measureList": measures,
        "attributeList": {"id": "AttributeDescriptor", "attributes": attributes},
    }
    return {**_named(flow.id, flow.title), "dataStructureComponents": parts}


def _attribute(flow: Flow, concept: str, name: str, version: str) -> dict[str, Any]:
    of_series = name in SERIES_ATTRIBUTES
    entry: dict[str, Any] = {"id": name, "conceptIdentity": f"{concept}.{name}"}
    if not of_series:
        listed = urn("Codelist", "codelist", "CL_OBS_STATUS")
        entry["localRepresentation"] = {"enumeration": listed}
    if version == "1.0.0":
        entry["assignmentStatus"] = "Conditional"
        whole: dict[str, Any] = {"primaryMeasure": "OBS_VALUE"}
    else:
        entry["usage"] = "optional"
        whole = {"observation": {}}
    entry["attributeRelationship"] = {"dimensions": list(flow.dimensions)} if of_series else whole
    return entry


def _topics() -> dict[str, Any]:
    categories = [
        {**_item(top, title), "categories": [_item(c, n) for c, n in inside.items()]}
        for top, (title, inside) in TOPICS.items()
    ]
    return {**_named("TOPICS", "Topics"), "categories": categories}


def _categorisations() -> list[dict[str, Any]]:
    return [
        {**_named(f"IN_{flow}", f"{flow} in its topic"), "source": urn("Dataflow", "datastructure", flow),
         "target": urn("Category", "categoryscheme", scheme, category)}
        for scheme, category, flow in placed()
    ]  # fmt: skip


def _constraint(content: Content, version: str) -> dict[str, Any]:
    flow = content.constrained
    assert flow is not None  # noqa: S101 - asked only where it is there
    if version == "1.0.0":
        region: dict[str, Any] = {
            "isIncluded": True, "keyValues": [{"id": d, "values": v} for d, v in content.available.items()]
        }  # fmt: skip
        kind = {"type": "Actual"}
    else:
        members = [{"id": d, "values": [{"value": x} for x in v]} for d, v in content.available.items()]
        region, kind = {"include": True, "keyValues": members}, {"role": "Actual"}
    attached = {"dataflows": [urn("Dataflow", "datastructure", flow.id)]}
    return {**_named(f"CR_{flow.id}", f"What {flow.title} has"), **kind, "constraintAttachment": attached,
            "cubeRegions": [region]}  # fmt: skip
