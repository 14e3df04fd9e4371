"""Parts that messages of every format share: identifiers, headers, errors."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Final

import lxml.etree
import pandas as pd

from ultrum.practice.observatory import AGENCY, STATUSES, TOPICS, VERSION, Flow, catalogue

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
    """What a structure message holds.

    Attributes
    ----------
    flows, definitions : sequence of Flow
        Dataflows to list; flows whose data structures are given with code lists and concepts.
    topics : bool
        Whether the category scheme and the categorisations are in it.
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


def placed() -> list[tuple[str, str, str]]:
    """Scheme, category (with its parents) and flow of every categorisation."""
    from ultrum.practice.observatory import FLOWS

    parents = {child: f"{top}.{child}" for top, (_, inside) in TOPICS.items() for child in inside}
    return [("TOPICS", parents[f.topic], f.id) for f in FLOWS.values() if f.topic]


def concept_names(flows: Sequence[Flow]) -> dict[str, str]:
    """Names of the concepts that data structures use."""
    from ultrum.practice.observatory import SERIES_ATTRIBUTES

    named = {name: title for flow in flows for name, (title, _) in flow.dimensions.items()}
    others = {a: a.replace("_", " ").capitalize() for a in SERIES_ATTRIBUTES}
    return {
        **named,
        "TIME_PERIOD": "Period",
        "OBS_VALUE": "Value",
        "OBS_STATUS": "Status",
        **others,
    }


def facts_of(flow: Flow, key: str) -> dict[str, str]:
    """Attributes of one series."""
    return catalogue()[flow.id, key]


def status_codes() -> dict[str, str]:
    """Codes of the observation status."""
    return dict(STATUSES)


def header(root: Any, structure: Flow | None = None, **attributes: str) -> Any:
    """Header of an SDMX-ML message, with the structure its data follow."""
    head = add(root, "mes:Header")
    add(head, "mes:ID", "QLO-1")
    add(head, "mes:Test", "false")
    add(head, "mes:Prepared", PREPARED)
    sender = add(head, "mes:Sender", id=AGENCY)
    add(sender, "com:Name", SENDER, **{LANGUAGE: "en"})
    if structure is not None:
        follows = add(
            head,
            "mes:Structure",
            structureID=structure.id,
            dimensionAtObservation="TIME_PERIOD",
            **attributes,
        )
        outer = add(follows, "com:Structure")
        add(
            outer,
            "Ref",
            agencyID=AGENCY,
            id=structure.id,
            version=VERSION,
            **{"class": "DataStructure"},
        )
    return head


def add(parent: Any, tag: str, text: str | None = None, **attributes: str) -> Any:
    """A child element in the standard's name spaces."""
    element = lxml.etree.SubElement(parent, named(tag), {named(k): v for k, v in attributes.items()})
    if text is not None:
        element.text = text
    return element


def named(tag: str) -> str:
    """A name with its name space, of ``prefix:name``."""
    prefix, _, name = tag.rpartition(":")
    return f"{{{NS[prefix]}}}{name}" if prefix in NS else tag


def root_of(tag: str, **spaces: str) -> Any:
    """Root element of a message."""
    return lxml.etree.Element(named(tag), nsmap={**NS, **spaces})


def written(root: Any) -> bytes:
    """A message as bytes."""
    return bytes(lxml.etree.tostring(root, xml_declaration=True, encoding="UTF-8"))


def error_json(code: int, title: str) -> dict[str, Any]:
    """SDMX-JSON message that carries an error of the standard."""
    return {"meta": meta(), "errors": [{"code": code, "title": title}]}


def error_xml(code: int, title: str) -> bytes:
    """SDMX-ML message that carries an error of the standard."""
    root = root_of("mes:Error")
    message = add(root, "mes:ErrorMessage", code=str(code))
    add(message, "com:Text", title, **{LANGUAGE: "en"})
    return written(root)


def meta() -> dict[str, Any]:
    """Header of an SDMX-JSON message."""
    sender = {"id": AGENCY, "name": SENDER}
    return {"id": "QLO-1", "test": False, "prepared": PREPARED, "sender": sender}


def number(value: float) -> str:
    """A number as text that gives the same number back."""
    return repr(float(value))
