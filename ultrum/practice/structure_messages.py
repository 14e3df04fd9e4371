"""Structure messages of the observatory: SDMX-JSON and SDMX-ML."""

from __future__ import annotations

from ultrum.practice.data_messages import (
    LANGUAGE,
    NS,
    Content,
    add,
    categorisations,
    concept_names,
    header,
    meta,
    root_of,
    space_of,
    status_codes,
    urn,
    written,
)
from ultrum.practice.simulated_world import AGENCY, SERIES_ATTRIBUTES, TOPICS, VERSION, Flow


def structures_json(content: Content, version: str = "1.0.0") -> dict[str, object]:
    """A structure message."""
    data: dict[str, object] = {}
    if content.flows:
        data["dataflows"] = [
            {**_names(f.id, f.title), "structure": urn("DataStructure", "datastructure", f.id)}
            for f in content.flows
        ]
    if content.definitions:
        data["dataStructures"] = [_json_definition(f, version) for f in content.definitions]
        data["codelists"] = _json_code_lists(content)
        data["conceptSchemes"] = [_concepts(content)]
    if content.topics:
        data["categorySchemes"] = [_json_topics()]
        data["categorisations"] = _categorisations()
    if content.constrained is not None:
        data["contentConstraints" if version == "1.0.0" else "dataConstraints"] = [
            _json_constraint(content, version)
        ]
    return {"meta": meta(), "data": data}


def _names(name: str, title: str) -> dict[str, object]:
    return {"id": name, "version": VERSION, "agencyID": AGENCY, "name": title, "names": {"en": title}}


def _item(name: str, title: str) -> dict[str, object]:
    return {"id": name, "name": title, "names": {"en": title}}


def _json_code_lists(content: Content) -> list[dict[str, object]]:
    lists = {}
    for flow in content.definitions:
        for name, (title, codes) in flow.dimensions.items():
            lists[f"CL_{name}"] = {
                **_names(f"CL_{name}", title),
                "codes": [_item(c, n) for c, n in codes.items()],
            }
    status = [_item(c, n) for c, n in status_codes().items()]
    lists["CL_OBS_STATUS"] = {**_names("CL_OBS_STATUS", "Status"), "codes": status}
    return list(lists.values())


def _concepts(content: Content) -> dict[str, object]:
    named = concept_names(content.definitions)
    return {**_names("CONCEPTS", "Concepts"), "concepts": [_item(n, t) for n, t in named.items()]}


def _json_definition(flow: Flow, version: str) -> dict[str, object]:
    concept = urn("Concept", "conceptscheme", "CONCEPTS")
    dimensions: list[dict[str, object]] = [
        {
            "id": name,
            "position": i,
            "conceptIdentity": f"{concept}.{name}",
            "localRepresentation": {"enumeration": urn("Codelist", "codelist", f"CL_{name}")},
        }
        for i, name in enumerate(flow.dimensions)
    ]
    text = {"dataType" if version != "1.0.0" else "textType": "ObservationalTimePeriod"}
    time: dict[str, object] = {
        "id": "TIME_PERIOD",
        "conceptIdentity": f"{concept}.TIME_PERIOD",
        "localRepresentation": {"format" if version != "1.0.0" else "textFormat": text},
    }
    lists: dict[str, object] = {"id": "DimensionDescriptor", "dimensions": dimensions}
    value = {"id": "OBS_VALUE", "conceptIdentity": f"{concept}.OBS_VALUE"}
    attributes = [_json_attribute(flow, concept, a, version) for a in (*SERIES_ATTRIBUTES, "OBS_STATUS")]
    if version == "1.0.0":
        for dimension in dimensions:
            dimension["type"] = "Dimension"
        time |= {"position": len(dimensions), "type": "TimeDimension"}
        lists["timeDimensions"] = [time]
        measures: dict[str, object] = {"id": "MeasureDescriptor", "primaryMeasure": value}
    else:
        lists["timeDimension"] = time
        measures = {"id": "MeasureDescriptor", "measures": [value]}
    parts = {
        "dimensionList": lists,
        "measureList": measures,
        "attributeList": {"id": "AttributeDescriptor", "attributes": attributes},
    }
    return {**_names(flow.id, flow.title), "dataStructureComponents": parts}


def _json_attribute(flow: Flow, concept: str, name: str, version: str) -> dict[str, object]:
    of_series = name in SERIES_ATTRIBUTES
    entry: dict[str, object] = {"id": name, "conceptIdentity": f"{concept}.{name}"}
    if not of_series:
        listed = urn("Codelist", "codelist", "CL_OBS_STATUS")
        entry["localRepresentation"] = {"enumeration": listed}
    if version == "1.0.0":
        entry["assignmentStatus"] = "Conditional"
        whole: dict[str, object] = {"primaryMeasure": "OBS_VALUE"}
    else:
        entry["usage"] = "optional"
        whole = {"observation": {}}
    entry["attributeRelationship"] = {"dimensions": list(flow.dimensions)} if of_series else whole
    return entry


def _json_topics() -> dict[str, object]:
    categories = [
        {**_item(top, title), "categories": [_item(c, n) for c, n in inside.items()]}
        for top, (title, inside) in TOPICS.items()
    ]
    return {**_names("TOPICS", "Topics"), "categories": categories}


def _categorisations() -> list[dict[str, object]]:
    return [
        {
            **_names(f"IN_{flow}", f"{flow} in its topic"),
            "source": urn("Dataflow", "datastructure", flow),
            "target": urn("Category", "categoryscheme", scheme, category),
        }
        for scheme, category, flow in categorisations()
    ]


def _json_constraint(content: Content, version: str) -> dict[str, object]:
    flow = content.constrained
    assert flow is not None  # noqa: S101 - asked only where it is there
    if version == "1.0.0":
        region: dict[str, object] = {
            "isIncluded": True,
            "keyValues": [{"id": d, "values": v} for d, v in content.available.items()],
        }
        kind = {"type": "Actual"}
    else:
        members = [{"id": d, "values": [{"value": x} for x in v]} for d, v in content.available.items()]
        region, kind = {"include": True, "keyValues": members}, {"role": "Actual"}
    attached = {"dataflows": [urn("Dataflow", "datastructure", flow.id)]}
    return {
        **_names(f"CR_{flow.id}", f"What {flow.title} has"),
        **kind,
        "constraintAttachment": attached,
        "cubeRegions": [region],
    }


# Structures in SDMX-ML 2.1, and the schema of a flow's own data format


def structures_xml(content: Content) -> bytes:
    """A structure message."""
    root = root_of("mes:Structure")
    header(root)
    body = add(root, "mes:Structures")
    if content.flows:
        _flows(body, content)
    if content.topics:
        _xml_topics(body)
    if content.definitions:
        _xml_code_lists(body, content)
        scheme = _add_item(add(body, "str:Concepts"), "str:ConceptScheme", "CONCEPTS", "Concepts")
        for name, title in concept_names(content.definitions).items():
            _add_title(scheme, "str:Concept", name, title)
        outer = add(body, "str:DataStructures")
        for flow in content.definitions:
            _xml_definition(outer, flow)
    if content.constrained is not None:
        _xml_constraint(body, content.constrained, content.available)
    return written(root)


def specific_schema(flow: Flow) -> bytes:
    """XML Schema of the structure-specific messages of a flow."""
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:ss="{NS["ss"]}"
    targetNamespace="{space_of(flow)}" xmlns:own="{space_of(flow)}" attributeFormDefault="unqualified">
  <xs:import namespace="{NS["ss"]}"/>
  <xs:complexType name="DataSetType">
    <xs:complexContent><xs:restriction base="ss:DataSetType"><xs:sequence>
      <xs:element name="Series" type="own:SeriesType" form="unqualified" maxOccurs="unbounded"/>
    </xs:sequence></xs:restriction></xs:complexContent>
  </xs:complexType>
  <xs:complexType name="SeriesType">
    <xs:complexContent><xs:restriction base="ss:SeriesType"><xs:sequence>
      <xs:element name="Obs" type="own:ObsType" form="unqualified" minOccurs="0" maxOccurs="unbounded"/>
    </xs:sequence>
{_requirement(flow)}
    </xs:restriction></xs:complexContent>
  </xs:complexType>
  <xs:complexType name="ObsType">
    <xs:complexContent><xs:restriction base="ss:ObsType">
      <xs:attribute name="OBS_VALUE" type="xs:double" use="optional"/>
      <xs:attribute name="OBS_STATUS" type="xs:string" use="optional"/>
    </xs:restriction></xs:complexContent>
  </xs:complexType>
</xs:schema>
""".encode()


def _requirement(flow: Flow) -> str:
    lines = [
        f'      <xs:attribute name="{d}" use="required"><xs:simpleType><xs:restriction base="xs:string">'
        + "".join(f'<xs:enumeration value="{c}"/>' for c in codes)
        + "</xs:restriction></xs:simpleType></xs:attribute>"
        for d, (_, codes) in flow.dimensions.items()
    ]
    lines += [f'      <xs:attribute name="{a}" type="xs:string" use="optional"/>' for a in SERIES_ATTRIBUTES]
    return "\n".join(lines)


def _add_title(parent: object, tag: str, name: str, title: str, **more: str) -> object:
    element = add(parent, tag, id=name, **more)
    add(element, "com:Name", title, **{LANGUAGE: "en"})
    return element


def _add_item(parent: object, tag: str, name: str, title: str, **more: str) -> object:
    """An item that an agency maintains in versions."""
    return _add_title(parent, tag, name, title, agencyID=AGENCY, version=VERSION, **more)


def _ref(parent: object, tag: str, name: str, kind: str, package: str, **more: str) -> None:
    outer = add(parent, tag)
    add(outer, "Ref", id=name, **{"class": kind, "package": package}, **more)


def _owner(name: str = "") -> dict[str, str]:
    if not name:
        return {"agencyID": AGENCY, "version": VERSION}
    return {"agencyID": AGENCY, "maintainableParentID": name, "maintainableParentVersion": VERSION}


def _flows(body: object, content: Content) -> None:
    outer = add(body, "str:Dataflows")
    for flow in content.flows:
        element = _add_item(outer, "str:Dataflow", flow.id, flow.title)
        _ref(element, "str:Structure", flow.id, "DataStructure", "datastructure", **_owner())


def _xml_topics(body: object) -> None:
    scheme = _add_item(add(body, "str:CategorySchemes"), "str:CategoryScheme", "TOPICS", "Topics")
    for top, (title, inside) in TOPICS.items():
        parent = _add_title(scheme, "str:Category", top, title)
        for name, children in inside.items():
            _add_title(parent, "str:Category", name, children)
    outer = add(body, "str:Categorisations")
    for owner, category, flow in categorisations():
        element = _add_item(outer, "str:Categorisation", f"IN_{flow}", f"{flow} in its topic")
        _ref(element, "str:Source", flow, "Dataflow", "datastructure", **_owner())
        _ref(element, "str:Target", category, "Category", "categoryscheme", **_owner(owner))


def _xml_code_lists(body: object, content: Content) -> None:
    outer = add(body, "str:Codelists")
    lists = {f"CL_{n}": v for flow in content.definitions for n, v in flow.dimensions.items()}
    lists["CL_OBS_STATUS"] = ("Status", status_codes())
    for name, (title, codes) in lists.items():
        element = _add_item(outer, "str:Codelist", name, title)
        for code, label in codes.items():
            _add_title(element, "str:Code", code, label)


def _concept(element: object, name: str) -> None:
    _ref(element, "str:ConceptIdentity", name, "Concept", "conceptscheme", **_owner("CONCEPTS"))


def _xml_definition(outer: object, flow: Flow) -> None:
    parts = add(_add_item(outer, "str:DataStructure", flow.id, flow.title), "str:DataStructureComponents")
    listed = add(parts, "str:DimensionList", id="DimensionDescriptor")
    for i, name in enumerate(flow.dimensions, start=1):
        dimension = add(listed, "str:Dimension", id=name, position=str(i))
        _concept(dimension, name)
        represented = add(dimension, "str:LocalRepresentation")
        _ref(represented, "str:Enumeration", f"CL_{name}", "Codelist", "codelist", **_owner())
    time = add(listed, "str:TimeDimension", id="TIME_PERIOD", position=str(len(flow.dimensions) + 1))
    _concept(time, "TIME_PERIOD")
    add(add(time, "str:LocalRepresentation"), "str:TextFormat", textType="ObservationalTimePeriod")
    with_metadata = add(parts, "str:AttributeList", id="AttributeDescriptor")
    for name in (*SERIES_ATTRIBUTES, "OBS_STATUS"):
        _xml_attribute(with_metadata, flow, name)
    measured = add(parts, "str:MeasureList", id="MeasureDescriptor")
    _concept(add(measured, "str:PrimaryMeasure", id="OBS_VALUE"), "OBS_VALUE")


def _xml_attribute(parent: object, flow: Flow, name: str) -> None:
    attribute = add(parent, "str:Attribute", id=name, assignmentStatus="Conditional")
    _concept(attribute, name)
    if name == "OBS_STATUS":
        represented = add(attribute, "str:LocalRepresentation")
        _ref(represented, "str:Enumeration", "CL_OBS_STATUS", "Codelist", "codelist", **_owner())
    relation = add(attribute, "str:AttributeRelationship")
    if name == "OBS_STATUS":
        add(add(relation, "str:PrimaryMeasure"), "Ref", id="OBS_VALUE")
        return
    for dimension in flow.dimensions:
        add(add(relation, "str:Dimension"), "Ref", id=dimension)


def _xml_constraint(body: object, flow: Flow, available: dict[str, list[str]]) -> None:
    outer = add(body, "str:Constraints")
    element = _add_item(outer, "str:ContentConstraint", f"CR_{flow.id}", f"What {flow.title} has", type="Actual")
    attached = add(element, "str:ConstraintAttachment")
    _ref(attached, "str:Dataflow", flow.id, "Dataflow", "datastructure", **_owner())
    region = add(element, "str:CubeRegion", include="true")
    for name, codes in available.items():
        part = add(region, "com:KeyValue", id=name)
        for code in codes:
            add(part, "com:Value", code)
