"""Raw series of SDMX, and SDMX-CSV and SDMX-JSON data as such series."""

from __future__ import annotations

import csv
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Final

import numpy as np
import orjson
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from ultrum.core.array_types import Array, Floats, Ints
from ultrum.core.currency.exchange_rates import is_currency
from ultrum.core.time.frequency import Frequency, parse_period
from ultrum.core.time.index_frequency_and_gaps import intraday_frequency
from ultrum.errors import FrequencyError, choices, name_list


@dataclass(frozen=True)
class RawSeries:
    """One series as received.

    Attributes
    ----------
    key : str
        Codes of the dimensions, in order, joined by points.
    labels : sequence of str
        Names of periods, shared by the series of a message.
    places : ndarray of int, shape (T,)
        Index of the label of each observation.
    values : ndarray, shape (T,)
        NaN where no value was received.
    attributes : mapping of str to str
        Attributes of the whole series, by id.
    varying : mapping of str to sequence of str
        Attributes of the observations, by id, each of length T.
    """

    key: str
    labels: Sequence[str]
    places: Ints
    values: Floats
    attributes: Mapping[str, str]
    varying: Mapping[str, Sequence[str]] = field(default_factory=dict)

    @property
    def periods(self) -> list[str]:
        """Name of each observation's period."""
        return [self.labels[i] for i in self.places]


# Period codes of observations, and the frequency they show

_HALF: Final = re.compile(r"(\d{4})-?[HBS]([12])")
_RANGE: Final = re.compile(r"(\d{4}-\d\d-\d\d)(?:T[\d:.]+)?(?:Z|[+-]\d\d:\d\d)?/(P\w+)")
_DAY_OF_YEAR: Final = re.compile(r"(\d{4})-?D(\d{3})")
_SPANS: Final = {"P1Y": "A", "P12M": "A", "P6M": "S", "P3M": "Q", "P1M": "M", "P7D": "W", "P1W": "W", "P1D": "D"}
_DIGIT: Final = re.compile(r"\d")
_ORDER: Final = "NHDWMQSA"


def plain_label(label: str) -> str:
    """A period as ``2024``, ``2024-S1``, ``2024-Q1``, ``2024-03``, ``2024-W05`` or a day.

    Time ranges (``2024-01-01/P3M``), half-years of older services (``2024-H1``, ``2024-B1``) and days of the
    reporting year (``2024-D032``) are rewritten; other texts are unchanged.

    Examples
    --------
    >>> plain_label("2024-04-01/P3M"), plain_label("2024-B2"), plain_label("2024-03")
    ('2024-Q2', '2024-S2', '2024-03')
    """
    text = label.strip()
    if half := _HALF.fullmatch(text):
        return f"{half[1]}-S{half[2]}"
    if span := _RANGE.fullmatch(text):
        return _of_range(span[1], span[2], text)
    if day := _DAY_OF_YEAR.fullmatch(text):
        return str(np.datetime64(f"{day[1]}-01-01") + np.timedelta64(int(day[2]) - 1, "D"))
    return text


def _of_range(start: str, duration: str, text: str) -> str:
    """The period with a first day and a duration."""
    if duration not in _SPANS:
        raise FrequencyError(f"'{text}' lasts {duration}, which is not a calendar period.")
    frequency = Frequency(_SPANS[duration])
    ordinals = frequency.ordinals([start])
    if str(frequency.starts(ordinals)[0]) != start and frequency.code != "W":
        raise FrequencyError(f"'{text}' does not begin on the first day of a {frequency.noun}.")
    return frequency.labels(ordinals)[0]


def frequency_of(code: str, labels: Sequence[str]) -> Frequency:
    """Frequency of a series from its code and the names of its periods, which must agree.

    Raises
    ------
    FrequencyError
        If a period is longer than the code states, such as a year in a monthly series.
    """
    shapes = {_DIGIT.sub("0", label): label for label in labels}
    shown = {parse_period(label)[0]: label for label in shapes.values()}
    if not code:
        return Frequency(parse_period(labels[0])[0])
    if code in ("H", "B") and set(shown) == {"S"}:  # half-yearly in the code lists of older services
        return Frequency("S")
    frequency = Frequency.parse(code)
    day_code = "D" if frequency.code == "B" else frequency.code
    for kind, label in shown.items():
        if _ORDER.index(kind) > _ORDER.index(day_code):
            raise FrequencyError(f"the frequency is {frequency.name}, but '{label}' is a {Frequency(kind).noun}.")
    return frequency


def stamps_of(labels: Sequence[str]) -> pd.DatetimeIndex:
    """Instants of intraday observations in UTC; times without a time zone are read as UTC.

    Raises
    ------
    FrequencyError
        If a text is not an instant.
    """
    try:
        return pd.DatetimeIndex(pd.to_datetime(list(labels), utc=True, format="ISO8601"), name="time")
    except ValueError:
        raise FrequencyError(f"'{labels[0]}' and others are not instants such as 2024-03-15T09:30:00Z.") from None


def intraday(labels: Sequence[str]) -> tuple[Frequency, pd.DatetimeIndex]:
    """Frequency from the most common step, and the instants."""
    stamps = stamps_of(labels)
    moments = np.asarray(stamps.tz_localize(None).to_numpy().astype("datetime64[s]"))
    return intraday_frequency(np.sort(moments)), stamps


def has_zone(labels: Sequence[str]) -> bool:
    """Whether the first instant has an offset from UTC."""
    return bool(re.search(r"(Z|[+-]\d\d:?\d\d)$", labels[0].strip())) if len(labels) else True


# Unit codes: percent, index, count or currency. The catalogue and the data use the same rules

_PERCENT_CODES: Final = re.compile(
    r"PC|PT|PCT|PERCENT|PCPA|PC_PA|PCCH|PP|(?:PC|PCT|PT|PCH|PERCENT|PER_CENT)_\w+|\w+_(?:PC|PCT|PT)"
)
_PERCENT_WORDS: Final = re.compile(r"\bper ?cent(age)?\b|\bpercent(age)?\b|\bpct\b|%", re.IGNORECASE)
_INDEX_CODES: Final = re.compile(r"IX|INDEX|IDX|(?:IX|INDEX|I\d\d)\b.*")
_INDEX_WORDS: Final = re.compile(r"\bindex\b|= ?100\b", re.IGNORECASE)
_COUNTS: Final = ("PN", "PS", "PERS", "NO", "NUMBER", "COUNT", "UNITS", "PER")


def unit_of_facts(facts: Mapping[str, str]) -> str:
    """Code of the unit among the attributes of a series."""
    return facts.get("UNIT_MEASURE") or facts.get("UNIT", "")


def is_percent(unit: str, name: str = "") -> bool:
    """Whether a unit, by its code or its name, is percent or percentage points.

    Examples
    --------
    >>> is_percent("PCT"), is_percent("367", "Per cent per annum"), is_percent("Percentage points")
    (True, True, True)
    >>> is_percent("QML")
    False
    """
    if is_index(unit, name):
        return False
    return bool(_PERCENT_CODES.fullmatch(unit.upper())) or any(
        _PERCENT_WORDS.search(text.replace("_", " ")) for text in (unit, name)
    )


def is_index(unit: str, name: str = "") -> bool:
    """Whether a unit is an index."""
    return bool(_INDEX_CODES.fullmatch(unit.upper())) or bool(_INDEX_WORDS.search(name))


def measure_of_unit(unit: str, name: str, timing: str) -> dict[str, str]:
    """Measure, unit and currency as far as a unit's code and name determine them.

    Parameters
    ----------
    unit, name : str
        Code of the unit and its name in the code list, if known.
    timing : str
        Timing of the series within its period: ``total``, ``average``, ``start`` or ``end``.
    """
    counted = {"total": "flow", "end": "stock", "start": "stock"}.get(timing, "")
    if is_percent(unit, name):
        return {"measure": "rate", "unit": "decimal"}
    if is_index(unit, name):
        return {"measure": "index", "unit": "index"}
    if unit.upper() in _COUNTS:
        return {"measure": counted, "unit": "count"}
    if is_currency(unit):
        return {"measure": counted, "unit": "currency", "currency": unit}
    return {"unit": unit}


# SDMX-CSV

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


# SDMX-JSON


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


Part = Mapping[str, Any]


def from_json(body: bytes, dimensions: Sequence[str]) -> list[RawSeries]:
    """Series of an SDMX-JSON data message."""
    message = orjson.loads(body)
    data = message.get("data", message)  # drafts had no envelope
    structures = data.get("structures") or [data["structure"]]
    series_list: list[RawSeries] = []
    for dataset in data["dataSets"]:
        if str(dataset.get("action", "")).lower() == "delete":
            continue
        structure = structures[dataset.get("structure", 0)]
        if "series" in dataset:
            series_list += _by_series(dataset, structure, dimensions)
        elif dataset.get("observations"):
            series_list += _flat(dataset, structure, dimensions)
    return series_list


def _by_series(dataset: Part, structure: Part, dimensions: Sequence[str]) -> list[RawSeries]:
    parts = structure["dimensions"]
    fixed = {d["id"]: _json_code(d["values"][0]) for d in parts.get("dataSet", []) if d.get("values")}
    along = parts["series"]
    periods = [_json_code(v) for v in parts["observation"][0].get("values", [])]
    attributes = structure.get("attributes", {})
    common = _attribute_values(attributes.get("dataSet", []), dataset.get("attributes", []))
    listed, observed = attributes.get("series", []), attributes.get("observation", [])
    series_list, places_of = [], _Places()
    for positions, body in dataset["series"].items():
        places = [int(p) for p in positions.split(":")] if positions else []
        codes = {**fixed, **{d["id"]: _json_code(d["values"][p]) for d, p in zip(along, places, strict=True)}}
        facts = {
            **common,
            **_group_attributes(dataset, structure, codes),
            **_attribute_values(listed, body.get("attributes", [])),
        }
        rows = body.get("observations") or {}
        series_list.append(_raw(codes, dimensions, periods, rows, facts, observed, structure, places_of))
    return series_list


class _Places:
    """Positions of periods, parsed once for series that share them."""

    def __init__(self) -> None:
        self.keys: list[str] = []
        self.at = np.empty(0, dtype=np.int64)

    def of(self, rows: Mapping[str, Any]) -> Ints:
        """Positions of the observations of one series."""
        keys = list(rows)
        if keys != self.keys:
            self.keys, self.at = keys, np.fromiter(map(int, keys), np.int64, len(keys))
        return self.at


def _raw(
    codes: Mapping[str, str],
    dimensions: Sequence[str],
    periods: Sequence[str],
    rows: Mapping[str, Any],
    attributes: Mapping[str, str],
    observed: Sequence[Part],
    structure: Part,
    places: _Places,
) -> RawSeries:
    """One series of its observations ``{place: [value, attribute places …]}``."""
    width = max(len(structure.get("measures", {}).get("observation", [])), 1)
    observations = rows.values()
    values = np.array([row[0] if row else None for row in observations], dtype=np.float64)
    fixed, varying = dict(attributes), {}
    for k, attribute in enumerate(observed, start=width):
        cells = [row[k] if len(row) > k else None for row in observations]
        distinct = {p: _value(attribute, p) for p in set(map(_hashable, cells))}
        if len(distinct) == 1:
            text = next(iter(distinct.values()))
            fixed.update({attribute["id"]: text} if text else {})
        elif distinct:
            varying[attribute["id"]] = [distinct[_hashable(p)] for p in cells]
    key = ".".join(codes[d] for d in dimensions)
    return RawSeries(key, periods, places.of(rows), values, fixed, varying)


def _hashable(place: Any) -> object:
    """A position as it is; a value of several parts as text."""
    return place if isinstance(place, int | float | str | None) else str(place)


def _flat(dataset: Part, structure: Part, dimensions: Sequence[str]) -> list[RawSeries]:
    """Observations keyed by the positions of all dimensions."""
    parts = structure["dimensions"]
    fixed = {d["id"]: _json_code(d["values"][0]) for d in parts.get("dataSet", []) if d.get("values")}
    along = parts["observation"]
    time = next(i for i, d in enumerate(along) if d["id"] not in dimensions)
    others = [i for i in range(len(along)) if i != time]
    groups: dict[tuple[int, ...], dict[str, object]] = {}
    for positions, row in dataset["observations"].items():
        places = [int(p) for p in positions.split(":")]
        groups.setdefault(tuple(places[i] for i in others), {})[str(places[time])] = row
    attributes = structure.get("attributes", {})
    common = _attribute_values(attributes.get("dataSet", []), dataset.get("attributes", []))
    periods = [_json_code(v) for v in along[time].get("values", [])]
    series_list = []
    for places_of, rows in groups.items():
        codes = dict(fixed)
        for i, place in zip(others, places_of, strict=True):
            codes[along[i]["id"]] = _json_code(along[i]["values"][place])
        facts = {**common, **_group_attributes(dataset, structure, codes)}
        series_list.append(
            _raw(codes, dimensions, periods, rows, facts, attributes.get("observation", []), structure, _Places())
        )
    return series_list


def _group_attributes(dataset: Part, structure: Part, codes: Mapping[str, str]) -> dict[str, str]:
    """Attributes that SDMX-JSON 2.0 attaches to some of the dimensions."""
    listed = structure.get("attributes", {}).get("dimensionGroup", [])
    groups = dataset.get("dimensionGroupAttributes") or {}
    if not listed or not groups:
        return {}
    parts = structure["dimensions"]
    order = [*parts.get("dataSet", []), *parts.get("series", []), *parts.get("observation", [])]
    attributes: dict[str, str] = {}
    for pattern, places in groups.items():
        if _matches(pattern.split(":"), order, codes):
            attributes.update(_attribute_values(listed, places))
    return attributes


def _matches(pattern: Sequence[str], order: Sequence[Part], codes: Mapping[str, str]) -> bool:
    return all(
        place in ("", "~") or d["id"] not in codes or _json_code(d["values"][int(place)]) == codes[d["id"]]
        for place, d in zip(pattern, order, strict=False)
    )


def _attribute_values(listed: Sequence[Part], places: Sequence[object]) -> dict[str, str]:
    """Attribute values by id."""
    names = {}
    for attribute, place in zip(listed, places, strict=False):
        text = _value(attribute, place)
        if text:
            names[str(attribute["id"])] = text
    return names


def _value(attribute: Part, place: object) -> str:
    """The value of an attribute: at a position of its code list, or the value itself."""
    if place is None:
        return ""
    values = attribute.get("values") or []
    if isinstance(place, int) and not isinstance(place, bool) and values:
        return _json_code(values[place])
    value = place[0] if isinstance(place, list) and place else place
    return str(next(iter(value.values()), "")) if isinstance(value, dict) else str(value)


def _json_code(value: object) -> str:
    """Code of a value, or its name if it has no code."""
    if not isinstance(value, dict):
        return str(value)
    for key in ("id", "value", "name"):
        if value.get(key) is not None:
            return str(value[key])
    return str(next(iter(value.get("names", {}).values()), ""))
