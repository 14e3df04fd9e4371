"""Data in SDMX-JSON 1.0 and 2.0, series by series."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ultrum.practice.messages.message_headers import Series, facts_of, meta, status_codes, urn
from ultrum.practice.observatory import SERIES_ATTRIBUTES, Flow

_STATUS = list(status_codes())


def data_json(
    flow: Flow, series: Sequence[Series], with_data: bool = True, version: str = "1.0.0"
) -> dict[str, Any]:
    """A data message; the two versions differ in where structures and values stand."""
    periods = sorted({p for _, rows in series for p in rows["period"]}) if with_data else []
    place = {period: str(i) for i, period in enumerate(periods)}
    values = {a: sorted({facts_of(flow, key).get(a, "") for key, _ in series} - {""}) for a in SERIES_ATTRIBUTES}
    body = {}
    for key, rows in series:
        facts = facts_of(flow, key)
        entry: dict[str, Any] = {
            "attributes": [values[a].index(facts[a]) if facts.get(a) else None for a in SERIES_ATTRIBUTES]
        }
        if with_data:
            entry["observations"] = {
                place[p]: [float(v) if v == v else None, _STATUS.index(s)]  # noqa: PLR0124
                for p, v, s in zip(rows["period"], rows["value"], rows["status"], strict=True)
            }
        body[_positions(flow, key)] = entry
    structure = _structure(flow, periods, values, version)
    dataset: dict[str, Any] = {"action": "Information", "series": body}
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


def _structure(flow: Flow, periods: Sequence[str], values: dict[str, list[str]], version: str) -> dict[str, Any]:
    dimensions = [
        {"id": name, "name": title, "keyPosition": i,
         "values": [{"id": c, "name": n} for c, n in codes.items()]}
        for i, (name, (title, codes)) in enumerate(flow.dimensions.items())
    ]  # fmt: skip
    entries = [{"id": p, "name": p} if version == "1.0.0" else {"value": p} for p in periods]
    time = {
        "id": "TIME_PERIOD",
        "name": "Period",
        "keyPosition": len(dimensions),
        "values": entries,
    }
    attributes = [_attribute(flow, a, values_there, version) for a, values_there in values.items()]
    related: dict[str, Any] = {"primaryMeasure": "OBS_VALUE"} if version == "1.0.0" else {"observation": {}}
    status = {
        "id": "OBS_STATUS",
        "name": "Status",
        "relationship": related,
        "values": [{"id": c, "name": n} for c, n in status_codes().items()],
    }
    along = [time] if periods or version == "1.0.0" else []
    structure: dict[str, Any] = {
        "name": flow.title,
        "dimensions": {"dataSet": [], "series": dimensions, "observation": along},
        "attributes": {"dataSet": [], "series": attributes, "observation": [status]},
    }
    if version != "1.0.0":
        structure["measures"] = {"observation": [{"id": "OBS_VALUE", "name": "Value"}]}
        structure["links"] = [_link(flow)]
    return structure


def _attribute(flow: Flow, name: str, values: Sequence[str], version: str) -> dict[str, Any]:
    entry: dict[str, Any] = {
        "id": name,
        "name": name.replace("_", " ").capitalize(),
        "relationship": {"dimensions": list(flow.dimensions)},
    }
    entries = [{"name": v} if version == "1.0.0" else {"value": v} for v in values]
    if entries or version == "1.0.0":
        entry["values"] = entries
    return entry
