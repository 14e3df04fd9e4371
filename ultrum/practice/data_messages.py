"""Data messages of the observatory: SDMX-CSV, SDMX-JSON and SDMX-ML, with headers and errors."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Final

import lxml.etree
import pandas as pd

from ultrum.practice.simulated_world import AGENCY, SERIES_ATTRIBUTES, STATUSES, TOPICS, VERSION, Flow, catalogue

Series = tuple[str, pd.DataFrame]
PREPARED: Final = "2025-01-06T09:00:00Z"
SENDER: Final = "Lantern Sea Observatory"
NS: Final = {
    "mes": "http://www.sdmx.org/resources/sdmxml/schemas/v2_1/message",
    "com": "http://www.sdmx.org/resources/sdmxml/schemas/v2_1/common",
    "str": "http://www.sdmx.org/resources/sdmxml/schemas/v2_1/structure",
    "gen": "http://www.sdmx.org/resources/sdmxml/schemas/v2_1/data/generic",
    "ss": "http://www.sdmx.org/resources/sdmxml/schemas/v2_1/data/structurespecific",
    "xsi": "http://www.w3.org/2001/XMLSchema-instance",
}
LANGUAGE: Final = "{http://www.w3.org/XML/1998/namespace}lang"


@dataclass(frozen=True)
class Content:
    """Content of a structure message.

    Attributes
    ----------
    flows, definitions : sequence of Flow
        Dataflows to list; flows whose data structures are given with code lists and concepts.
    topics : bool
        Whether to include the category scheme and the categorisations.
    available : mapping, optional
        Codes with data of each dimension of ``constrained``.
    """

    flows: Sequence[Flow] = ()
    definitions: Sequence[Flow] = ()
    topics: bool = False
    constrained: Flow | None = None
    available: dict[str, list[str]] = field(default_factory=dict)


def urn(kind: str, package: str, name: str, inside: str = "") -> str:
    """Identifier of a structure, as the standard writes it."""
    tail = f".{inside}" if inside else ""
    return f"urn:sdmx:org.sdmx.infomodel.{package}.{kind}={AGENCY}:{name}({VERSION}){tail}"


def categorisations() -> list[tuple[str, str, str]]:
    """Scheme, category (with its parents) and flow of every categorisation."""
    from ultrum.practice.simulated_world import FLOWS

    parents = {child: f"{top}.{child}" for top, (_, inside) in TOPICS.items() for child in inside}
    return [("TOPICS", parents[f.topic], f.id) for f in FLOWS.values() if f.topic]


def concept_names(flows: Sequence[Flow]) -> dict[str, str]:
    """Names of the concepts that data structures use."""
    from ultrum.practice.simulated_world import SERIES_ATTRIBUTES

    named = {name: title for flow in flows for name, (title, _) in flow.dimensions.items()}
    others = {a: a.replace("_", " ").capitalize() for a in SERIES_ATTRIBUTES}
    return {**named, "TIME_PERIOD": "Period", "OBS_VALUE": "Value", "OBS_STATUS": "Status", **others}


def facts_of(flow: Flow, key: str) -> dict[str, str]:
    """Attributes of one series."""
    return catalogue()[flow.id, key]


def status_codes() -> dict[str, str]:
    """Codes of the observation status."""
    return dict(STATUSES)


def header(root: object, structure: Flow | None = None, **attributes: str) -> object:
    """Header of an SDMX-ML message, with the structure of its data."""
    head = add(root, "mes:Header")
    add(head, "mes:ID", "QLO-1")
    add(head, "mes:Test", "false")
    add(head, "mes:Prepared", PREPARED)
    sender = add(head, "mes:Sender", id=AGENCY)
    add(sender, "com:Name", SENDER, **{LANGUAGE: "en"})
    if structure is not None:
        follows = add(
            head, "mes:Structure", structureID=structure.id, dimensionAtObservation="TIME_PERIOD", **attributes
        )
        outer = add(follows, "com:Structure")
        add(outer, "Ref", agencyID=AGENCY, id=structure.id, version=VERSION, **{"class": "DataStructure"})
    return head


def add(parent: object, tag: str, text: str | None = None, **attributes: str) -> Any:
    """A child element in the standard's name spaces."""
    element = lxml.etree.SubElement(parent, expand_name(tag), {expand_name(k): v for k, v in attributes.items()})
    if text is not None:
        element.text = text
    return element


def expand_name(tag: str) -> str:
    """A name with its name space, of ``prefix:name``."""
    prefix, _, name = tag.rpartition(":")
    return f"{{{NS[prefix]}}}{name}" if prefix in NS else tag


def root_of(tag: str, **spaces: str) -> object:
    """Root element of a message."""
    return lxml.etree.Element(expand_name(tag), nsmap={**NS, **spaces})


def written(root: object) -> bytes:
    """A message as bytes."""
    return bytes(lxml.etree.tostring(root, xml_declaration=True, encoding="UTF-8"))


def error_json(code: int, title: str) -> dict[str, object]:
    """SDMX-JSON message that carries an error of the standard."""
    return {"meta": meta(), "errors": [{"code": code, "title": title}]}


def error_xml(code: int, title: str) -> bytes:
    """SDMX-ML message that carries an error of the standard."""
    root = root_of("mes:Error")
    message = add(root, "mes:ErrorMessage", code=str(code))
    add(message, "com:Text", title, **{LANGUAGE: "en"})
    return written(root)


def meta() -> dict[str, object]:
    """Header of an SDMX-JSON message."""
    sender = {"id": AGENCY, "name": SENDER}
    return {"id": "QLO-1", "test": False, "prepared": PREPARED, "sender": sender}


def number(value: float) -> str:
    """A number as text that parses to the same number."""
    return repr(float(value))


# Data in SDMX-JSON 1.0 and 2.0, series by series

_STATUS = list(status_codes())


def data_json(
    flow: Flow, series: Sequence[Series], with_data: bool = True, version: str = "1.0.0"
) -> dict[str, object]:
    """A data message; the two versions differ in the position of structures and values."""
    periods = sorted({p for _, rows in series for p in rows["period"]}) if with_data else []
    place = {period: str(i) for i, period in enumerate(periods)}
    values = {a: sorted({facts_of(flow, key).get(a, "") for key, _ in series} - {""}) for a in SERIES_ATTRIBUTES}
    body = {}
    for key, rows in series:
        facts = facts_of(flow, key)
        entry: dict[str, object] = {
            "attributes": [values[a].index(facts[a]) if facts.get(a) else None for a in SERIES_ATTRIBUTES]
        }
        if with_data:
            entry["observations"] = {
                place[p]: [float(v) if v == v else None, _STATUS.index(s)]  # noqa: PLR0124
                for p, v, s in zip(rows["period"], rows["value"], rows["status"], strict=True)
            }
        body[_positions(flow, key)] = entry
    structure = _structure(flow, periods, values, version)
    dataset: dict[str, object] = {"action": "Information", "series": body}
    dataset["links"] = [_link(flow)]
    if version == "1.0.0":
        return {"meta": meta(), "data": {"dataSets": [dataset], "structure": structure}}
    dataset["structure"] = 0
    return {"meta": meta(), "data": {"dataSets": [dataset], "structures": [structure]}}


def _link(flow: Flow) -> dict[str, str]:
    return {"rel": "DataStructure", "urn": urn("DataStructure", "datastructure", flow.id)}


def _positions(flow: Flow, key: str) -> str:
    pairs = zip(key.split("."), flow.dimensions.values(), strict=True)
    return ":".join(str(list(codes).index(code)) for code, (_, codes) in pairs)


def _structure(
    flow: Flow, periods: Sequence[str], values: dict[str, list[str]], version: str
) -> dict[str, object]:
    dimensions = [
        {"id": name, "name": title, "keyPosition": i, "values": [{"id": c, "name": n} for c, n in codes.items()]}
        for i, (name, (title, codes)) in enumerate(flow.dimensions.items())
    ]
    entries = [{"id": p, "name": p} if version == "1.0.0" else {"value": p} for p in periods]
    time = {"id": "TIME_PERIOD", "name": "Period", "keyPosition": len(dimensions), "values": entries}
    attributes = [_attribute(flow, a, values_there, version) for a, values_there in values.items()]
    related: dict[str, object] = {"primaryMeasure": "OBS_VALUE"} if version == "1.0.0" else {"observation": {}}
    status = {
        "id": "OBS_STATUS",
        "name": "Status",
        "relationship": related,
        "values": [{"id": c, "name": n} for c, n in status_codes().items()],
    }
    along = [time] if periods or version == "1.0.0" else []
    structure: dict[str, object] = {
        "name": flow.title,
        "dimensions": {"dataSet": [], "series": dimensions, "observation": along},
        "attributes": {"dataSet": [], "series": attributes, "observation": [status]},
    }
    if version != "1.0.0":
        structure["measures"] = {"observation": [{"id": "OBS_VALUE", "name": "Value"}]}
        structure["links"] = [_link(flow)]
    return structure


def _attribute(flow: Flow, name: str, values: Sequence[str], version: str) -> dict[str, object]:
    entry: dict[str, object] = {
        "id": name,
        "name": name.replace("_", " ").capitalize(),
        "relationship": {"dimensions": list(flow.dimensions)},
    }
    entries = [{"name": v} if version == "1.0.0" else {"value": v} for v in values]
    if entries or version == "1.0.0":
        entry["values"] = entries
    return entry


# Data in SDMX-CSV 1.0 and 2.0


def data_csv(flow: Flow, series: Sequence[Series], with_data: bool = True, version: str = "1.0.0") -> bytes:
    """One row per observation, or one per series without data."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    leading = ["DATAFLOW"] if version == "1.0.0" else ["STRUCTURE", "STRUCTURE_ID", "ACTION"]
    name = f"{AGENCY}:{flow.id}({VERSION})"
    leading_cells = [name] if version == "1.0.0" else ["dataflow", name, "I"]
    writer.writerow([*leading, *flow.dimensions, "TIME_PERIOD", "OBS_VALUE", *SERIES_ATTRIBUTES, "OBS_STATUS"])
    for key, rows in series:
        head = [*leading_cells, *key.split(".")]
        facts = [facts_of(flow, key).get(a, "") for a in SERIES_ATTRIBUTES]
        if not with_data:
            writer.writerow([*head, "", "", *facts, ""])
            continue
        for period, value, status in zip(rows["period"], rows["value"], rows["status"], strict=True):
            shown = "" if value != value else number(value)  # noqa: PLR0124 - NaN differs from itself
            writer.writerow([*head, period, shown, *facts, status])
    return text.getvalue().encode()


# Data in SDMX-ML 2.1, generic and structure-specific


def data_xml(flow: Flow, series: Sequence[Series], with_data: bool = True, generic: bool = False) -> bytes:
    """A data message, series by series."""
    return _generic(flow, series, with_data) if generic else _specific(flow, series, with_data)


def space_of(flow: Flow) -> str:
    """Name space of a flow's own elements in the structure-specific format."""
    return f"{urn('DataStructure', 'datastructure', flow.id)}:ObsLevelDim:TIME_PERIOD"


def _specific(flow: Flow, series: Sequence[Series], with_data: bool) -> bytes:
    root = root_of("mes:StructureSpecificData", own=space_of(flow))
    header(root, flow, namespace=space_of(flow))
    dataset = add(root, "mes:DataSet")
    dataset.set(f"{{{NS['ss']}}}structureRef", flow.id)
    dataset.set(f"{{{NS['ss']}}}dataScope", "DataStructure")
    dataset.set(f"{{{NS['ss']}}}action", "Information")
    dataset.set(expand_name("xsi:type"), "own:DataSetType")
    for key, rows in series:
        codes = dict(zip(flow.dimensions, key.split("."), strict=True))
        facts = {k: v for k, v in facts_of(flow, key).items() if k in SERIES_ATTRIBUTES}
        element = add(dataset, "Series", **codes, **facts)
        for period, value, status in _observations(rows, with_data):
            attributes = {
                "TIME_PERIOD": period,
                **({"OBS_VALUE": number(value)} if value == value else {}),  # noqa: PLR0124
            }
            add(element, "Obs", **attributes, OBS_STATUS=status)
    return written(root)


def _generic(flow: Flow, series: Sequence[Series], with_data: bool) -> bytes:
    root = root_of("mes:GenericData")
    header(root, flow)
    dataset = add(root, "mes:DataSet", structureRef=flow.id, action="Information")
    for key, rows in series:
        element = add(dataset, "gen:Series")
        codes = dict(zip(flow.dimensions, key.split("."), strict=True))
        _pairs(add(element, "gen:SeriesKey"), codes)
        _pairs(add(element, "gen:Attributes"), facts_of(flow, key))
        for period, value, status in _observations(rows, with_data):
            observation = add(element, "gen:Obs")
            add(observation, "gen:ObsDimension", value=period)
            if value == value:  # noqa: PLR0124 - NaN differs from itself
                add(observation, "gen:ObsValue", value=number(value))
            _pairs(add(observation, "gen:Attributes"), {"OBS_STATUS": status})
    return written(root)


def _pairs(parent: object, pairs: dict[str, str]) -> None:
    for name, value in pairs.items():
        add(parent, "gen:Value", id=name, value=value)


def _observations(rows: pd.DataFrame, with_data: bool) -> list[tuple[str, float, str]]:
    if not with_data:
        return []
    return list(zip(rows["period"], rows["value"].astype(float), rows["status"], strict=True))
