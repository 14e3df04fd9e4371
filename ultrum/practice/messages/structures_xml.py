"""Structures in SDMX-ML 2.1, and the schema of a flow's own data format."""

from __future__ import annotations

from typing import Any

from ultrum.practice.messages.data_xml import space_of
from ultrum.practice.messages.message_headers import (
    LANGUAGE,
    NS,
    Content,
    add,
    concept_names,
    header,
    placed,
    root_of,
    status_codes,
    written,
)
from ultrum.practice.observatory import AGENCY, SERIES_ATTRIBUTES, TOPICS, VERSION, Flow


def structures_xml(content: Content) -> bytes:
    """A structure message."""
    root = root_of("mes:Structure")
    header(root)
    body = add(root, "mes:Structures")
    if content.flows:
        _flows(body, content)
    if content.topics:
        _topics(body)
    if content.definitions:
        _code_lists(body, content)
        scheme = _kept(add(body, "str:Concepts"), "str:ConceptScheme", "CONCEPTS", "Concepts")
        for name, title in concept_names(content.definitions).items():
            _titled(scheme, "str:Concept", name, title)
        outer = add(body, "str:DataStructures")
        for flow in content.definitions:
            _definition(outer, flow)
    if content.constrained is not None:
        _constraint(body, content.constrained, content.available)
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
{_required(flow)}
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


def _required(flow: Flow) -> str:
    lines = [f'      <xs:attribute name="{d}" use="required"><xs:simpleType><xs:restriction base="xs:string">'
             + "".join(f'<xs:enumeration value="{c}"/>' for c in codes)
             + "</xs:restriction></xs:simpleType></xs:attribute>"
             for d, (_, codes) in flow.dimensions.items()]  # fmt: skip
    lines += [f'      <xs:attribute name="{a}" type="xs:string" use="optional"/>' for a in SERIES_ATTRIBUTES]
    return "\n".join(lines)


def _titled(parent: Any, tag: str, name: str, title: str, **more: str) -> Any:
    element = add(parent, tag, id=name, **more)
    add(element, "com:Name", title, **{LANGUAGE: "en"})
    return element


def _kept(parent: Any, tag: str, name: str, title: str, **more: str) -> Any:
    """An item that an agency keeps under a version."""
    return _titled(parent, tag, name, title, agencyID=AGENCY, version=VERSION, **more)


def _ref(parent: Any, tag: str, name: str, kind: str, package: str, **more: str) -> None:
    outer = add(parent, tag)
    add(outer, "Ref", id=name, **{"class": kind, "package": package}, **more)


def _owned(name: str = "") -> dict[str, str]:
    if not name:
        return {"agencyID": AGENCY, "version": VERSION}
    return {"agencyID": AGENCY, "maintainableParentID": name, "maintainableParentVersion": VERSION}


def _flows(body: Any, content: Content) -> None:
    outer = add(body, "str:Dataflows")
    for flow in content.flows:
        element = _kept(outer, "str:Dataflow", flow.id, flow.title)
        _ref(element, "str:Structure", flow.id, "DataStructure", "datastructure", **_owned())


def _topics(body: Any) -> None:
    scheme = _kept(add(body, "str:CategorySchemes"), "str:CategoryScheme", "TOPICS", "Topics")
    for top, (title, inside) in TOPICS.items():
        parent = _titled(scheme, "str:Category", top, title)
        for name, children in inside.items():
            _titled(parent, "str:Category", name, children)
    outer = add(body, "str:Categorisations")
    for owner, category, flow in placed():
        element = _kept(outer, "str:Categorisation", f"IN_{flow}", f"{flow} in its topic")
        _ref(element, "str:Source", flow, "Dataflow", "datastructure", **_owned())
        _ref(element, "str:Target", category, "Category", "categoryscheme", **_owned(owner))


def _code_lists(body: Any, content: Content) -> None:
    outer = add(body, "str:Codelists")
    lists = {f"CL_{n}": v for flow in content.definitions for n, v in flow.dimensions.items()}
    lists["CL_OBS_STATUS"] = ("Status", status_codes())
    for name, (title, codes) in lists.items():
        element = _kept(outer, "str:Codelist", name, title)
        for code, label in codes.items():
            _titled(element, "str:Code", code, label)


def _concept(element: Any, name: str) -> None:
    _ref(element, "str:ConceptIdentity", name, "Concept", "conceptscheme", **_owned("CONCEPTS"))


def _definition(outer: Any, flow: Flow) -> None:
    parts = add(_kept(outer, "str:DataStructure", flow.id, flow.title), "str:DataStructureComponents")
    listed = add(parts, "str:DimensionList", id="DimensionDescriptor")
    for i, name in enumerate(flow.dimensions, start=1):
        dimension = add(listed, "str:Dimension", id=name, position=str(i))
        _concept(dimension, name)
        represented = add(dimension, "str:LocalRepresentation")
        _ref(represented, "str:Enumeration", f"CL_{name}", "Codelist", "codelist", **_owned())
    time = add(listed, "str:TimeDimension", id="TIME_PERIOD", position=str(len(flow.dimensions) + 1))
    _concept(time, "TIME_PERIOD")
    add(add(time, "str:LocalRepresentation"), "str:TextFormat", textType="ObservationalTimePeriod")
    with_metadata = add(parts, "str:AttributeList", id="AttributeDescriptor")
    for name in (*SERIES_ATTRIBUTES, "OBS_STATUS"):
        _attribute(with_metadata, flow, name)
    measured = add(parts, "str:MeasureList", id="MeasureDescriptor")
    _concept(add(measured, "str:PrimaryMeasure", id="OBS_VALUE"), "OBS_VALUE")


def _attribute(parent: Any, flow: Flow, name: str) -> None:
    attribute = add(parent, "str:Attribute", id=name, assignmentStatus="Conditional")
    _concept(attribute, name)
    if name == "OBS_STATUS":
        represented = add(attribute, "str:LocalRepresentation")
        _ref(represented, "str:Enumeration", "CL_OBS_STATUS", "Codelist", "codelist", **_owned())
    relation = add(attribute, "str:AttributeRelationship")
    if name == "OBS_STATUS":
        add(add(relation, "str:PrimaryMeasure"), "Ref", id="OBS_VALUE")
        return
    for dimension in flow.dimensions:
        add(add(relation, "str:Dimension"), "Ref", id=dimension)


def _constraint(body: Any, flow: Flow, available: dict[str, list[str]]) -> None:
    outer = add(body, "str:Constraints")
    element = _kept(outer, "str:ContentConstraint", f"CR_{flow.id}", f"What {flow.title} has", type="Actual")
    attached = add(element, "str:ConstraintAttachment")
    _ref(attached, "str:Dataflow", flow.id, "Dataflow", "datastructure", **_owned())
    region = add(element, "str:CubeRegion", include="true")
    for name, codes in available.items():
        part = add(region, "com:KeyValue", id=name)
        for code in codes:
            add(part, "com:Value", code)
