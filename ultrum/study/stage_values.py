"""Results of stages as data: an Arrow file with a JSON description, which holds no code.

Only dataclasses of this package, arrays, tables, labels and plain values are written, and reading makes nothing
else. The Arrow file has one row: each column is one array, and the schema's metadata describe the rest.
"""

from __future__ import annotations

import dataclasses
import datetime as dt
import importlib
import json
import math
import re
from collections.abc import Callable, Hashable, Mapping
from typing import Any, Final

import numpy as np
import pandas as pd
import pyarrow as pa

from ultrum.core.array_types import Array

_DESCRIPTION: Final = b"ultrum"
_PACKAGE: Final = "ultrum."
_TYPE_CODE: Final = re.compile(r"[<|>=]?[a-zA-Z]\d{0,3}(?:\[\d{0,3}[a-zA-Z]{1,2}\])?")
_TYPE_NAME: Final = re.compile(r"[<|>=]?[\w+:/, -]{1,60}(?:\[[\w+:/,. -]{1,60}\])?")
_PLAIN_KINDS: Final = "biuf"
_DATED_KINDS: Final = "mM"
Node = Any  # what JSON can hold


class NotStorableError(TypeError):
    """A value is of a type that is not stored."""


def to_bytes(value: object) -> bytes:
    """A value as the bytes of an Arrow file.

    Raises
    ------
    NotStorableError
        If some part of it is of another type.

    Examples
    --------
    >>> frame = pd.DataFrame({"a": [1.0, 2.0]}, index=pd.period_range("2024-01", periods=2, freq="M"))
    >>> from_bytes(to_bytes((frame, "words")))[0]["a"].tolist()
    [1.0, 2.0]
    """
    writer = _Writer()
    node = writer.node(value)
    columns = [_as_one_row(a) for a in writer.arrays]
    names = [f"array {k}" for k in range(len(columns))]
    text = json.dumps(node, allow_nan=False)
    schema = pa.schema(
        [pa.field(n, c.type) for n, c in zip(names, columns, strict=True)], metadata={_DESCRIPTION: text}
    )
    sink = pa.BufferOutputStream()
    with pa.ipc.new_file(sink, schema) as file:
        if columns:
            file.write_batch(pa.record_batch(columns, schema=schema))
    return bytes(sink.getvalue())


def _as_one_row(values: Array) -> pa.LargeListArray:
    return pa.LargeListArray.from_arrays(pa.array([0, len(values)], pa.int64()), pa.array(values))


def from_bytes(body: bytes) -> Any:
    """The value of an Arrow file from :func:`to_bytes`.

    Raises
    ------
    NotStorableError
        If the bytes are none, or describe a type that is not stored.
    """
    try:
        with pa.ipc.open_file(pa.BufferReader(body)) as file:
            text = (file.schema.metadata or {})[_DESCRIPTION]
            batch = file.get_batch(0) if file.num_record_batches else None
            if batch is not None:
                batch.validate(full=True)  # Arrow trusts the offsets of a file, which a flipped bit moves
            columns = batch.columns if batch is not None else []
            arrays = [c.values.to_numpy(zero_copy_only=False) for c in columns]
        return _Reader(arrays).value(json.loads(text))
    except (pa.ArrowException, OSError, LookupError, ValueError, AttributeError, TypeError) as error:
        raise NotStorableError(f"no stored result: {error}") from error


class _Writer:
    """Turns values into nodes of JSON and a list of arrays; what occurs twice is written once."""

    def __init__(self) -> None:
        self.arrays: list[Array] = []
        self._seen: dict[int, tuple[int, object]] = {}
        self._write = self._writers()

    def node(self, value: object) -> Node:
        """What stands for a value in the description."""
        if value is None or type(value) in (bool, int, str):
            return value
        if type(value) is float:
            return value if math.isfinite(value) else {"float": str(value)}
        for kind, write in self._write:
            if isinstance(value, kind):
                return write(value)
        if dataclasses.is_dataclass(value) and not isinstance(value, type):
            return self._once(value, self._instance)
        raise NotStorableError(f"{type(value).__module__}.{type(value).__qualname__} is not stored")

    def _writers(self) -> tuple[tuple[type, Callable[[Any], Node]], ...]:
        return (
            (np.generic, lambda v: {"scalar": self._array(np.asarray(v).reshape(1)), "type": v.dtype.str}),
            (np.ndarray, lambda v: self._once(v, self._ndarray)),
            (tuple, lambda v: {"tuple": [self.node(x) for x in v]}),
            (list, lambda v: [self.node(x) for x in v]),
            (dict, lambda v: {"dict": [[self.node(k), self.node(x)] for k, x in v.items()]}),
            (frozenset, lambda v: {"frozenset": [self.node(x) for x in sorted(v, key=repr)]}),
            (bytes, lambda v: {"bytes": self._array(np.frombuffer(v, dtype=np.uint8))}),
            (pd.Period, lambda v: {"period": v.ordinal, "freq": v.freqstr}),
            (type(pd.NaT), lambda v: {"NaT": True}),
            (pd.Timestamp, _timestamp_node),
            (pd.Timedelta, lambda v: {"timedelta": v.value}),
            (dt.datetime, lambda v: {"datetime": v.isoformat()}),
            (dt.date, lambda v: {"date": v.isoformat()}),
            (pd.DataFrame, lambda v: self._once(v, self._frame)),
            (pd.Series, lambda v: self._once(v, self._series)),
            (pd.Index, lambda v: self._once(v, self._index)),
            (pd.api.extensions.ExtensionArray, self._extension),
        )

    def _once(self, value: object, write: Callable[[Any], Node]) -> Node:
        if id(value) in self._seen:
            return {"again": self._seen[id(value)][0]}
        node = write(value)
        number = len(self._seen)
        self._seen[id(value)] = number, value  # the reference keeps its identity
        return {"part": number, "is": node}

    def _array(self, values: Array) -> int:
        self.arrays.append(np.ascontiguousarray(values).ravel())
        return len(self.arrays) - 1

    def _ndarray(self, values: Array) -> Node:
        shape = list(values.shape)
        if values.dtype.kind in _PLAIN_KINDS:
            return {"array": self._array(values), "shape": shape, "type": values.dtype.str}
        if values.dtype.kind in _DATED_KINDS:
            whole = np.ascontiguousarray(values).view(np.int64)
            return {"array": self._array(whole), "shape": shape, "type": values.dtype.str}
        if values.dtype.kind in "OU":
            return {
                "objects": [self.node(x) for x in values.ravel().tolist()],
                "shape": shape,
                "type": values.dtype.str,
            }
        raise NotStorableError(f"an array of {values.dtype} is not stored")

    def _extension(self, values: Any) -> Node:
        if isinstance(values, pd.arrays.PeriodArray):
            return {"periods": self._array(np.asarray(values.view("i8"))), "type": str(values.dtype)}
        if isinstance(values, pd.arrays.DatetimeArray):
            return {"instants": self._array(np.asarray(values.view("i8"))), "type": str(values.dtype)}
        if isinstance(values, pd.Categorical):
            codes = self._array(np.asarray(values.codes))
            return {"codes": codes, "categories": self.node(values.categories), "ordered": bool(values.ordered)}
        if isinstance(values.dtype, pd.StringDtype):
            texts = [None if pd.isna(x) else str(x) for x in values]
            return {"texts": texts, "type": str(values.dtype)}
        missing = np.asarray(pd.isna(values))
        numpy_type = getattr(values.dtype, "numpy_dtype", None)
        if numpy_type is None or numpy_type.kind not in _PLAIN_KINDS:
            raise NotStorableError(f"an array of {values.dtype} is not stored")
        whole = values.to_numpy(dtype=numpy_type, na_value=numpy_type.type(0))
        return {"nullable": self._array(whole), "missing": self._array(missing), "type": str(values.dtype)}

    def _values(self, values: Any) -> Node:
        """The array of an index or column."""
        if isinstance(values, pd.arrays.NumpyExtensionArray):
            values = values.to_numpy()
        return self._ndarray(values) if isinstance(values, np.ndarray) else self._extension(values)

    def _index(self, index: pd.Index) -> Node:
        if isinstance(index, pd.RangeIndex):
            return {"range": [index.start, index.stop, index.step], "name": self.node(index.name)}
        if isinstance(index, pd.MultiIndex):
            return {
                "levels": [self.node(x) for x in index.levels],
                "codes": [self._array(np.asarray(c)) for c in index.codes],
                "names": [self.node(n) for n in index.names],
            }
        node = {"index": self._values(index.array), "name": self.node(index.name)}
        if isinstance(index, pd.DatetimeIndex) and index.freq is not None:
            node["freq"] = index.freqstr
        return node

    def _series(self, series: pd.Series) -> Node:
        return {
            "column": self._values(series.array),
            "rows": self.node(series.index),
            "name": self.node(series.name),
        }

    def _frame(self, frame: pd.DataFrame) -> Node:
        kinds = set(frame.dtypes)
        node: dict[str, Node] = {"columns": self.node(frame.columns), "rows": self.node(frame.index)}
        if type(frame) is not pd.DataFrame:
            node["class"] = _name_of(type(frame))
        if len(kinds) == 1 and isinstance(kind := next(iter(kinds)), np.dtype) and kind.kind in _PLAIN_KINDS:
            node["frame"] = self._ndarray(frame.to_numpy())
        else:
            node["frame by column"] = [self._values(frame.iloc[:, k].array) for k in range(frame.shape[1])]
        return node

    def _instance(self, value: Any) -> Node:
        held = vars(value)
        fields = {f.name: self.node(held[f.name]) for f in dataclasses.fields(value) if f.name in held}
        return {"class": _name_of(type(value)), "fields": fields}


def _timestamp_node(moment: pd.Timestamp) -> Node:
    return {"timestamp": moment.isoformat(), "unit": moment.unit, "zone": str(moment.tz) if moment.tz else ""}


def _name_of(kind: type) -> str:
    name = f"{kind.__module__}:{kind.__qualname__}"
    if not name.startswith(_PACKAGE):
        raise NotStorableError(f"{name} is not stored")
    return name


def _class_of(name: str) -> type:
    """A dataclass or table class of this package by name."""
    module, _, path = str(name).partition(":")
    if not module.startswith(_PACKAGE) or not path.isidentifier():
        raise NotStorableError(f"{name} is not stored")
    try:
        found = getattr(importlib.import_module(module), path)
    except (ImportError, AttributeError) as error:
        raise NotStorableError(f"{name} does not exist") from error
    if not isinstance(found, type) or not (dataclasses.is_dataclass(found) or issubclass(found, pd.DataFrame)):
        raise NotStorableError(f"{name} is not stored")
    return found


class _Reader:
    """Makes values of nodes and arrays."""

    def __init__(self, arrays: list[Array]) -> None:
        self._arrays = arrays
        self._parts: dict[int, object] = {}
        self._read = self._readers()

    def value(self, node: Node) -> Node:
        """The value that a part of the description stands for."""
        if not isinstance(node, dict):
            return [self.value(x) for x in node] if isinstance(node, list) else node
        if "again" in node:
            return self._parts[node["again"]]
        if "part" in node:
            self._parts[node["part"]] = made = self.value(node["is"])
            return made
        for key, read in self._read.items():
            if key in node:
                return read(node)
        raise NotStorableError(f"unknown part {list(node)}")

    def _readers(self) -> Mapping[str, Callable[[Node], object]]:
        return {
            "float": lambda n: float(n["float"]),
            "scalar": lambda n: self._array_of_type(n["scalar"], n["type"])[0],
            "array": lambda n: self._array_of_type(n["array"], n["type"]).reshape(n["shape"]),
            "objects": self._objects,
            "tuple": lambda n: tuple(self.value(x) for x in n["tuple"]),
            "dict": lambda n: {self.value(k): self.value(v) for k, v in n["dict"]},
            "frozenset": lambda n: frozenset(self.value(x) for x in n["frozenset"]),
            "bytes": lambda n: self._arrays[n["bytes"]].astype(np.uint8).tobytes(),
            "period": lambda n: pd.Period(ordinal=n["period"], freq=n["freq"]),
            "NaT": lambda _: pd.NaT,
            "timestamp": _timestamp,
            "timedelta": lambda n: pd.Timedelta(n["timedelta"]),
            "datetime": lambda n: dt.datetime.fromisoformat(n["datetime"]),
            "date": lambda n: dt.date.fromisoformat(n["date"]),
            "frame": self._frame,
            "frame by column": self._frame,
            "column": lambda n: self._series(n["column"], self.value(n["rows"]), self.value(n["name"])),
            "range": lambda n: pd.RangeIndex(
                start=n["range"][0], stop=n["range"][1], step=n["range"][2], name=self.value(n["name"])
            ),
            "levels": self._multi_index,
            "index": self._index,
            "fields": self._instance,
            **dict.fromkeys(("periods", "instants", "codes", "texts", "nullable"), self._column),
        }

    def _array_of_type(self, number: int, kind: str) -> Array:
        values, dtype = self._arrays[number], _numpy_type(kind)
        if dtype.kind in _DATED_KINDS:
            return np.array(values, dtype=np.int64).view(dtype)
        return np.array(values, dtype=dtype)

    def _objects(self, node: Node) -> Array:
        made = np.empty(len(node["objects"]), dtype=object)
        made[:] = [self.value(x) for x in node["objects"]]
        return made.astype(_numpy_type(node["type"])).reshape(node["shape"])

    def _column(self, node: Node) -> Node:
        if "periods" in node:
            return pd.arrays.PeriodArray(self._array_of_type(node["periods"], "<i8"), dtype=_dtype(node))
        if "instants" in node:
            naive = self._array_of_type(node["instants"], "<i8")
            dtype = _dtype(node)
            unit = dtype.unit if isinstance(dtype, pd.DatetimeTZDtype) else np.datetime_data(dtype)[0]
            index = pd.DatetimeIndex(naive.view(f"M8[{unit}]"))
            return (index.tz_localize("UTC").tz_convert(dtype.tz) if hasattr(dtype, "tz") else index).array
        if "codes" in node:
            codes = self._array_of_type(node["codes"], "<i8")
            return pd.Categorical.from_codes(codes, self.value(node["categories"]), ordered=node["ordered"])
        if "texts" in node:
            return pd.array(node["texts"], dtype=_dtype(node))
        if "nullable" in node:
            dtype = _dtype(node)
            values = pd.array(self._array_of_type(node["nullable"], dtype.numpy_dtype.str), dtype=dtype)
            values[self._array_of_type(node["missing"], "|b1")] = pd.NA
            return values
        return self.value(node)

    def _series(self, column: Node, rows: pd.Index, name: Hashable) -> pd.Series:
        values = self._column(column)
        made: pd.Series = pd.Series(values, index=rows, name=name, dtype=values.dtype)
        return made  # texts stay objects if they were

    def _index(self, node: Node) -> pd.Index:
        values = self._column(node["index"])
        plain = values.dtype if isinstance(values, np.ndarray) else None
        index = pd.Index(values, name=self.value(node["name"]), dtype=plain)
        if "freq" in node and isinstance(index, pd.DatetimeIndex):
            index.freq = node["freq"]
        return index

    def _multi_index(self, node: Node) -> pd.MultiIndex:
        return pd.MultiIndex(
            levels=[self.value(x) for x in node["levels"]],
            codes=[self._array_of_type(c, "<i8").tolist() for c in node["codes"]],
            names=[self.value(n) for n in node["names"]],
        )

    def _frame(self, node: Node) -> pd.DataFrame:
        columns, rows = self.value(node["columns"]), self.value(node["rows"])
        if "frame" in node:
            made = pd.DataFrame(self.value(node["frame"]), index=rows, columns=columns)
        else:
            parts = {k: self._series(c, rows, None) for k, c in enumerate(node["frame by column"])}
            made = pd.DataFrame(parts, index=rows)
            made.columns = columns
        return made if "class" not in node else _class_of(node["class"])(made)

    def _instance(self, node: Node) -> object:
        kind = _class_of(node["class"])
        names = {f.name for f in dataclasses.fields(kind)}
        if not names >= node["fields"].keys():
            raise NotStorableError(f"{node['class']} has other fields now")
        made: object = object.__new__(kind)
        for name, held in node["fields"].items():
            object.__setattr__(made, name, self.value(held))
        return made


def _dtype(node: Node) -> Node:
    if not _TYPE_NAME.fullmatch(str(node["type"])):
        raise NotStorableError(f"{node['type']} is not a type")
    return pd.api.types.pandas_dtype(node["type"])


def _numpy_type(text: object) -> np.dtype[Any]:
    """A type by its code; NumPy would also take lists of types and expressions."""
    if not _TYPE_CODE.fullmatch(str(text)):
        raise NotStorableError(f"{text} is not a type")
    return np.dtype(str(text))


def _timestamp(node: Node) -> object:
    moment = pd.Timestamp(node["timestamp"]).as_unit(node["unit"])
    return moment.tz_convert(node["zone"]) if node["zone"] else moment
