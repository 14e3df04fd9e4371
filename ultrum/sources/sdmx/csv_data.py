"""SDMX-CSV 1.0 and 2.0: one row an observation, one column a dimension, measure or attribute."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping, Sequence
from typing import Any, Final

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.csv

from ultrum.core.types import Array, Ints
from ultrum.sources.sdmx.raw import RawSeries

_ABOUT_THE_ROW: Final = ("DATAFLOW", "STRUCTURE", "STRUCTURE_ID", "STRUCTURE_NAME", "ACTION")
_TIME, _VALUE = "TIME_PERIOD", "OBS_VALUE"
_MISSING: Final = ["", "NaN", "NA", "nan", "-"]


def from_csv(body: bytes, dimensions: Sequence[str]) -> list[RawSeries]:
    """Series of an SDMX-CSV message; cells may be codes, or codes with their names behind a colon."""
    line = body.split(b"\n", 1)[0].decode("utf-8-sig").strip().replace('"', "")
    mark = ";" if line.count(";") > line.count(",") else ","
    header = [_id(name) for name in line.split(mark)]
    absent = [c for c in (*dimensions, _TIME, _VALUE) if c not in header]
    if absent:
        raise ValueError(f"column {', '.join(absent)} is not in it; it has {', '.join(header)}")
    coded = pa.dictionary(pa.int32(), pa.string())
    needed = [name for name in header if name not in _ABOUT_THE_ROW]
    types = {name: pa.float64() if name == _VALUE else coded for name in needed}
    table = pyarrow.csv.read_csv(
        io.BytesIO(body),
        read_options=pyarrow.csv.ReadOptions(skip_rows=1, column_names=header),
        parse_options=pyarrow.csv.ParseOptions(
            delimiter=mark, newlines_in_values=_has_breaks(body)
        ),
        convert_options=pyarrow.csv.ConvertOptions(
            column_types=types,
            include_columns=needed,
            strings_can_be_null=False,
            null_values=_MISSING,
        ),
    ).unify_dictionaries()
    return _series(table, needed, dimensions)


def _id(name: str) -> str:
    """The id of a column that may be headed ``FREQ: Frequency`` or ``FREQ[;]``."""
    return re.split(r"[:\[]", name.strip(), maxsplit=1)[0].strip()


def _has_breaks(body: bytes) -> bool:
    """Whether quoted cells may hold line breaks; looking for them costs time."""
    return b'"' in body and body.count(b'"') > 2 * body.count(b"\n", 0, 2)


def _coded(column: Any) -> tuple[Ints, list[str]]:
    """Places and texts of a dictionary column; names behind codes are cut off."""
    whole = column.combine_chunks()
    chunk = whole.chunk(0) if isinstance(whole, pa.ChunkedArray) else whole
    texts = [str(t).split(": ", 1)[0] for t in chunk.dictionary.to_pylist()]
    return chunk.indices.to_numpy(zero_copy_only=False).astype(np.int64), texts


def _series(table: pa.Table, header: Sequence[str], dimensions: Sequence[str]) -> list[RawSeries]:
    if not table.num_rows:
        return []
    code = np.zeros(table.num_rows, dtype=np.int64)
    columns = {d: _coded(table[d]) for d in dimensions}
    for places, texts in columns.values():
        code = code * max(len(texts), 1) + places
    periods, labels = _coded(table[_TIME])
    values = table[_VALUE].to_numpy()
    others = {h: _coded(table[h]) for h in header if h not in (*dimensions, _TIME, _VALUE)}
    said = np.array([t != "" for t in labels])[periods]
    found = []
    for rows in _groups(code):
        key = ".".join(columns[d][1][columns[d][0][rows[0]]] for d in dimensions)
        kept = rows if said[rows].all() else rows[said[rows]]
        fixed, varying = _attributes(others, rows, kept)
        found.append(RawSeries(key, labels, periods[kept], values[kept], fixed, varying))
    return found


def _groups(code: Ints) -> list[Array]:
    """Rows of each series, in order of appearance."""
    edges = np.flatnonzero(np.diff(code)) + 1
    runs = np.split(np.arange(len(code)), edges)
    heads = code[np.r_[0, edges]]
    if len(np.unique(heads)) == len(heads):
        return runs
    codes, _ = pd.factorize(code)
    order = np.argsort(codes, kind="stable")
    return np.split(order, np.flatnonzero(np.diff(codes[order])) + 1)


def _attributes(
    others: Mapping[str, tuple[Ints, list[str]]], rows: Array, kept: Array
) -> tuple[dict[str, str], dict[str, list[str]]]:
    """Attributes that are the same in all rows, and those that are not."""
    fixed: dict[str, str] = {}
    varying: dict[str, list[str]] = {}
    for name, (places, texts) in others.items():
        own = places[rows]
        if (own == own[0]).all():
            if texts[own[0]]:
                fixed[name] = texts[own[0]]
        else:
            varying[name] = [texts[i] for i in places[kept]]
    return fixed, varying
