"""Data messages to series: SDMX-CSV 1.0 and SDMX-JSON 1.0 give the same raw series."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import orjson
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from ultrum.core.types import Floats
from ultrum.errors import SourceError

_CONSTANT = ("UNIT_MEASURE", "UNIT_MULT", "BASE_PER")
_OBSERVATION_ONLY = ("DATAFLOW", "TIME_PERIOD", "OBS_VALUE", "OBS_STATUS", "ACTION")


@dataclass(frozen=True)
class RawSeries:
    """One series as it was sent: period names, values, and attributes by id."""

    key: str
    periods: Sequence[str]
    values: Floats
    attributes: Mapping[str, str]


def decode(
    body: bytes, content_type: str, dimensions: Sequence[str], where: str
) -> list[RawSeries]:
    """Series of a data message.

    Raises
    ------
    SourceError
        If the message is neither format, or is cut short; ``where`` names it.
    """
    start = body[:64].lstrip()
    if start.startswith((b"<html", b"<!DOCTYPE", b"<!doctype")):
        raise SourceError(f"{where}: a web page came instead of data. Check the source's address.")
    try:
        if "json" in content_type or start.startswith(b"{"):
            return _from_json(orjson.loads(body), where)
        return _from_csv(body, dimensions, where)
    except (ValueError, LookupError, TypeError, AttributeError) as error:
        raise SourceError(
            f"{where}: the answer ({content_type or 'no type'}, {len(body):,} bytes) is no whole "
            f"SDMX data message: {error}. Try again; if it stays, the service is at fault."
        ) from None


def _from_csv(body: bytes, dimensions: Sequence[str], where: str) -> list[RawSeries]:
    header = body.split(b"\n", 1)[0].decode("utf-8-sig").strip().replace('"', "").split(",")
    absent = [c for c in (*dimensions, "TIME_PERIOD", "OBS_VALUE") if c not in header]
    if absent:
        raise SourceError(
            f"{where}: column {', '.join(absent)} is not in the answer; it has {', '.join(header)}."
        )
    types = {name: pa.float64() if name == "OBS_VALUE" else pa.string() for name in header}
    options = pyarrow.csv.ConvertOptions(column_types=types, strings_can_be_null=False)
    table = pyarrow.csv.read_csv(io.BytesIO(body), convert_options=options)
    keys = pc.binary_join_element_wise(*[table[d] for d in dimensions], ".").to_pandas()
    _refuse_changing(table, keys, where)
    attributes = [h for h in header if h not in (*dimensions, *_OBSERVATION_ONLY)]
    periods = table["TIME_PERIOD"].to_pandas().to_numpy(dtype=object)
    values = table["OBS_VALUE"].to_numpy()
    return [
        RawSeries(
            str(key),
            periods[rows][periods[rows] != ""],
            values[rows][periods[rows] != ""],
            {
                a: str(table[a][int(rows[0])].as_py())
                for a in attributes
                if table[a][int(rows[0])].as_py()
            },
        )
        for key, rows in _groups(keys)
    ]


def _refuse_changing(table: pa.Table, keys: pd.Series, where: str) -> None:
    """A unit that changes inside a series would give quietly wrong numbers."""
    for name in _CONSTANT:
        if name not in table.column_names:
            continue
        pairs = pd.DataFrame({"key": keys, "said": table[name].to_pandas()}).drop_duplicates()
        torn = pairs[pairs["key"].duplicated()]
        if len(torn):
            raise SourceError(
                f"{where}: {name} changes inside the series {torn['key'].iloc[0]}; fetch its parts by "
                "their periods."
            )


def _groups(keys: pd.Series) -> list[tuple[str, Any]]:
    """Rows of each key, in order of appearance."""
    codes, names = pd.factorize(keys)
    order = np.argsort(codes, kind="stable")
    edges = np.searchsorted(codes[order], np.arange(len(names) + 1))
    return [(str(n), order[edges[i] : edges[i + 1]]) for i, n in enumerate(names)]


def _from_json(message: Mapping[str, Any], where: str) -> list[RawSeries]:
    if message.get("errors"):
        said = "; ".join(str(e.get("title", e)) for e in message["errors"])
        raise SourceError(f"{where}: {said}. Check the key; 'find' lists what there is.")
    data = message["data"]
    structure = data["structure"]
    dimensions = sorted(structure["dimensions"]["series"], key=lambda d: d.get("keyPosition", 0))
    order = [structure["dimensions"]["series"].index(d) for d in dimensions]
    periods = [
        v.get("id", v.get("name")) for v in structure["dimensions"]["observation"][0]["values"]
    ]
    listed = structure.get("attributes", {}).get("series", [])
    found = []
    for dataset in data["dataSets"]:
        for positions, body in dataset.get("series", {}).items():
            places = [int(p) for p in positions.split(":")]
            key = ".".join(
                structure["dimensions"]["series"][i]["values"][places[i]]["id"] for i in order
            )
            rows = body.get("observations", {})
            values = [row[0] if row else None for row in rows.values()]
            found.append(
                RawSeries(
                    key,
                    [periods[int(i)] for i in rows],
                    np.array(values, dtype=np.float64),
                    _attributes(listed, body.get("attributes", [])),
                )
            )
    return found


def _attributes(
    listed: Sequence[Mapping[str, Any]], places: Sequence[int | None]
) -> dict[str, str]:
    """Attribute values by id; a coded value is named by its code."""
    named = {}
    for attribute, place in zip(listed, places, strict=False):
        if place is not None:
            value = attribute["values"][place]
            named[attribute["id"]] = str(value.get("id", value.get("name")))
    return named
