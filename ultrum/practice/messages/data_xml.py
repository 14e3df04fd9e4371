"""Data in SDMX-ML 2.1, generic and structure-specific."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ultrum.practice.messages.message_headers import (
    NS,
    Series,
    add,
    facts_of,
    header,
    named,
    number,
    root_of,
    urn,
    written,
)
from ultrum.practice.observatory import SERIES_ATTRIBUTES, Flow


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
    dataset.set(named("xsi:type"), "own:DataSetType")
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


def _pairs(parent: Any, pairs: dict[str, str]) -> None:
    for name, value in pairs.items():
        add(parent, "gen:Value", id=name, value=value)


def _observations(rows: Any, with_data: bool) -> list[tuple[str, float, str]]:
    if not with_data:
        return []
    return list(zip(rows["period"], rows["value"].astype(float), rows["status"], strict=True))
