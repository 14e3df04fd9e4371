"""SDMX-CSV 1.0 and 2.0: one row per observation, one column per dimension, measure or attribute."""

from __future__ import annotations

import csv
import re
from collections.abc import Sequence
from typing import Final

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from ultrum.core.array_types import Array, Ints
from ultrum.errors import choices, name_list
from ultrum.sources.sdmx.raw_series import RawSeries

_ABOUT_THE_ROW: Final = ("DATAFLOW", "STRUCTURE", "STRUCTURE_ID", "STRUCTURE_NAME", "ACTION")
_TIME, _VALUE = "TIME_PERIOD", "OBS_VALUE"
_MANY: Final = 1 << 20  # bytes from which several threads pay
_FEW: Final = 1 << 17  # bytes up to which plain rows are quicker than columns
_MISSING: Final = ["", "NaN", "NA", "nan", "-"]
_DELETES: Final = re.compile(rb"(?:^|[\n,;\"])(?:D|Delete)[\",;]", re.IGNORECASE)
_NUMBER: Final = re.compile(r"[-+0-9.eE ]*").fullmatch


def from_csv(body: bytes, dimensions: Sequence[str]) -> list[RawSeries]:
    """Series of an SDMX-CSV message; cells are codes, or codes with their names after a colon."""
    line = body[: body.find(b"\n")].decode("utf-8-sig").strip().replace('"', "")
    mark = ";" if line.count(";") > line.count(",") else ","
    header = [_id(name) for name in line.split(mark)]
    absent = [c for c in (*dimensions, _TIME, _VALUE) if c not in header]
    if absent:
        raise ValueError(f"it has no column {name_list(absent)}; its columns are {choices(header)}")
    deletes = "ACTION" in header and bool(_DELETES.search(body))
    if not deletes and len(body) <= _FEW and (alone := _one_series(body, mark, header, dimensions)):
        return [alone]
    kinds = {_VALUE: pa.float64(), _TIME: pa.dictionary(pa.int32(), pa.string())}
    needed = [n for n in header if n not in _ABOUT_THE_ROW or (n == "ACTION" and deletes)]
    types = {name: kinds.get(name, pa.string()) for name in needed}
    table = pyarrow.csv.read_csv(
        pa.BufferReader(body),
        read_options=pyarrow.csv.ReadOptions(skip_rows=1, column_names=header, use_threads=len(body) > _MANY),
        parse_options=pyarrow.csv.ParseOptions(
            delimiter=mark,
            newlines_in_values=b'"' in body,  # looking for them costs time
        ),
        convert_options=pyarrow.csv.ConvertOptions(
            column_types=types, include_columns=needed, strings_can_be_null=False, null_values=_MISSING
        ),
    ).unify_dictionaries()
    if deletes:
        table = _delete_rows(table, dimensions)
        needed.remove("ACTION")
    return _series(table, needed, dimensions)


def _delete_rows(table: pa.Table, dimensions: Sequence[str]) -> pa.Table:
    """The remaining rows: each row with action D deletes the observations above it that match it.

    An empty cell in such a row matches every code or period (SDMX-CSV 2.0).
    """
    names = [*dimensions, _TIME]
    rows = pd.DataFrame({n: table[n].cast(pa.string()).to_pylist() for n in names})
    action = [str(a).strip().upper() for a in table["ACTION"].to_pylist()]
    kept = np.ones(len(rows), dtype=bool)
    for place in [i for i, a in enumerate(action) if a in ("D", "DELETE")]:
        kept[place] = False
        meant = np.ones(place, dtype=bool)
        for name in names:
            text = rows[name].iat[place]
            if text:
                meant &= (rows[name].iloc[:place] == text).to_numpy()
        kept[:place] &= ~meant
    return table.filter(pa.array(kept)).drop_columns(["ACTION"])


def _one_series(body: bytes, mark: str, header: Sequence[str], dimensions: Sequence[str]) -> RawSeries | None:
    """A short message of one series whose rows differ in period and value only; otherwise None.

    The constant text before the period and after the value is removed as text, which is much faster than
    splitting it into cells.
    """
    text = body.decode("utf-8-sig").replace("\r\n", "\n").rstrip("\n")
    rows = text[text.find("\n") + 1 :]
    first = rows.split("\n", 1)[0]
    cells = next(csv.reader([first], delimiter=mark), [])
    at = header.index(_TIME)
    before = "".join(f"{c}{mark}" for c in cells[:at])
    if len(cells) != len(header) or header[at + 1 : at + 2] != [_VALUE] or '"' in before:
        return None
    behind = first[len(before) + len(cells[at]) + 1 + len(cells[at + 1]) :]
    inner = rows.removeprefix(before).removesuffix(behind).replace(f"{behind}\n{before}", "\n")
    pairs = [line.split(mark) for line in inner.split("\n")]
    if any(len(pair) != 2 for pair in pairs):
        return None
    labels, values = map(list, zip(*pairs, strict=True))
    plain = "".join([v for v in values if v not in _MISSING])
    if "" in labels or not _NUMBER(plain) or any('"' in t for t in labels):
        return None
    codes = {n: _code(c) for n, c in zip(header, cells, strict=True) if n not in _ABOUT_THE_ROW}
    key = ".".join(codes[d] for d in dimensions)
    numbers = np.array([np.nan if v in _MISSING else float(v) for v in values])
    attributes = {n: c for n, c in codes.items() if c and n not in (*dimensions, _TIME, _VALUE)}
    return RawSeries(key, labels, np.arange(len(labels)), numbers, attributes)


def _id(name: str) -> str:
    """The id of a column that may be headed ``FREQ: Frequency`` or ``FREQ[;]``."""
    return re.split(r"[:\[]", name.strip(), maxsplit=1)[0].strip()


def _dictionary_codes(column: pa.ChunkedArray) -> tuple[Ints, list[str]]:
    """Positions and texts of a dictionary column."""
    chunk = column.chunk(0) if column.num_chunks == 1 else column.combine_chunks()
    chunk = chunk.chunk(0) if isinstance(chunk, pa.ChunkedArray) else chunk
    return chunk.indices.to_numpy(zero_copy_only=False), [_code(t) for t in chunk.dictionary.to_pylist()]


def _code(text: str) -> str:
    """A code without its name."""
    return text.split(": ", 1)[0] if ": " in text else text


def _turns(column: pa.ChunkedArray) -> Ints:
    """Rows in which a column differs from the row before."""
    changed = pc.not_equal(column.slice(1), column.slice(0, len(column) - 1))
    return np.flatnonzero(changed.to_numpy()) + 1


def _series(table: pa.Table, header: Sequence[str], dimensions: Sequence[str]) -> list[RawSeries]:
    if not table.num_rows:
        return []
    turns = {h: _turns(table[h]) for h in header if h not in (_TIME, _VALUE)}
    edges = np.unique(np.concatenate([[0], *[turns[d] for d in dimensions]]))
    keys = [_join(parts) for parts in zip(*[table[d].take(edges).to_pylist() for d in dimensions], strict=True)]
    groups = _groups(edges, keys, table.num_rows)
    periods, labels = _dictionary_codes(table[_TIME])
    values = table[_VALUE].to_numpy()
    labelled = np.array([t != "" for t in labels])[periods]
    whole = bool(labelled.all())
    others = {h: turns[h] for h in turns if h not in dimensions}
    heads = {h: table[h].take([int(g[0]) for g in groups.values()]).to_pylist() for h in others}
    series_list = []
    for place, (key, rows) in enumerate(groups.items()):
        kept = rows if whole else rows[labelled[rows]]
        torn = [h for h, at in others.items() if _inside(at, rows)]
        fixed = {h: _code(heads[h][place]) for h in others if h not in torn and heads[h][place]}
        varying = {h: [_code(t) for t in table[h].take(kept).to_pylist()] for h in torn}
        series_list.append(RawSeries(key, labels, periods[kept], values[kept], fixed, varying))
    return series_list


def _join(parts: Sequence[str]) -> str:
    return ".".join(_code(p) for p in parts)


def _groups(edges: Ints, keys: Sequence[str], count: int) -> dict[str, Array]:
    """Rows of each series, in order of appearance; most series are one run."""
    groups: dict[str, Array] = {}
    for key, start, stop in zip(keys, edges, [*edges[1:], count], strict=True):
        rows = np.arange(start, stop)
        groups[key] = np.concatenate([groups[key], rows]) if key in groups else rows
    return groups


def _inside(turns: Ints, rows: Array) -> bool:
    """Whether a column changes within a series, and not only at its start."""
    if len(rows) < 2:
        return False
    if rows[-1] - rows[0] + 1 > len(rows):
        return bool(len(turns))  # rows that lie apart may differ wherever the column turns
    return bool(np.searchsorted(turns, rows[0] + 1) < np.searchsorted(turns, rows[-1] + 1))
