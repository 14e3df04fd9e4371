"""JSON to grids: lists of records, columns, rows under names, values by date, several series."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from typing import Any, Final

from ultrum.errors import TableError
from ultrum.sources.limits import current
from ultrum.sources.table.cell_grid import Grid, Row
from ultrum.sources.table.date_formats import style_of
from ultrum.sources.table.unpacking import decode

_NESTING: Final = 6
_NOT_FINITE: Final = re.compile(r"NaN|Infinity|\d[eE]\+?\d{3}|\d{300}")


def json_grids(body: bytes, name: str) -> list[Grid]:
    """Records of a JSON text: a list of objects, columns, rows under column names, or values by date."""
    import orjson

    text, _ = decode(body, name, None)
    try:
        value = orjson.loads(text)
    except orjson.JSONDecodeError as error:
        value = _with_infinite(text) if _NOT_FINITE.search(text) else None
        value = _json_lines(text) if value is None else value
        if value is None:
            raise TableError(f"{name} is not JSON: {error}.") from error
    tables = list(_tables_in(value, 0))
    facts = "\n".join(_scalars(value))
    if not tables:
        raise TableError(
            f"{name} is not JSON of a known form. Known forms: a list of objects, lists by column name, or "
            "values by date."
        )
    alone = len(tables) == 1
    return [
        Grid(
            name if alone else where,
            rows,
            list(range(1, len(rows) + 1)),
            "JSON",
            (("records", where),),
            above=facts,
        )
        for rows, where in tables
    ]


def _with_infinite(text: str) -> object:
    """A JSON text with numbers too large for a double, or with NaN and Infinity; each is then a rejected cell."""
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return None


def _json_lines(text: str) -> list[object] | None:
    import orjson

    try:
        rows = [orjson.loads(line) for line in text.splitlines() if line.strip()]
    except orjson.JSONDecodeError:
        return None
    return rows if len(rows) > 1 else None


def _tables_in(document: object, depth: int, path: str = "the whole") -> Iterator[tuple[list[Row], str]]:
    """Every table within a JSON value, and its path."""
    rows = _as_rows(document)
    if rows is not None:
        yield rows, path
    elif depth <= _NESTING:
        inside = (
            document.items()
            if isinstance(document, dict)
            else enumerate(document)
            if isinstance(document, list)
            else ()
        )
        for key, value in inside:
            yield from _tables_in(value, depth + 1, str(key))


def _scalars(document: object, depth: int = 0) -> Iterator[str]:
    """Scalars next to the tables of a JSON value, as lines such as ``units: Percent``."""
    if not isinstance(document, dict) or depth > _NESTING:
        return
    for key, value in document.items():
        if isinstance(value, dict):
            yield from _scalars(value, depth + 1)
        elif isinstance(value, str) and not style_of(str(key)):
            yield f"{key}: {value}"


def _as_rows(value: object) -> list[Row] | None:
    several = _several_series(value)
    if several is not None:
        return several
    if isinstance(value, list) and value and all(isinstance(r, dict) for r in value):
        flat = [_flat(r) for r in value]
        names = list(dict.fromkeys(k for r in flat for k in r))
        current().check_shape(len(flat), len(names), "A list of records")
        rows: list[Row] = [[r.get(n) for n in names] for r in flat]
        return [names, *rows] if len(names) > 1 else None
    if isinstance(value, dict) and value:
        return _mapping_rows(value)
    if isinstance(value, list) and value and all(isinstance(r, list) and len(r) > 1 for r in value):
        plain = all(not isinstance(c, list | dict) for r in value for c in r)
        if not plain or not any(style_of(str(r[0])) for r in value):
            return None
        bare = all(len(r) == 2 and style_of(str(r[0])) for r in value)
        return [["date", "value"], *value] if bare else list(value)
    return None


def _several_series(document: object) -> list[Row] | None:
    """Series with an object or a name each, as rows keyed by name."""
    if isinstance(document, dict):
        named = [({"series": key}, value) for key, value in document.items()]
    elif isinstance(document, list) and all(isinstance(one, dict) for one in document):
        named = []
        for one in document:
            nested = [v for v in one.values() if isinstance(v, list | dict)]
            if len(nested) != 1:
                return None
            named.append(({k: v for k, v in one.items() if not isinstance(v, list | dict)}, nested[0]))
    else:
        return None
    parts = [(facts, _plain_rows(value)) for facts, value in named]
    if len(parts) < 2 or any(rows is None for _, rows in parts):
        return None
    records = [
        facts | dict(zip(map(str, rows[0]), row, strict=True))
        for facts, rows in parts
        if rows is not None
        for row in rows[1:]
    ]
    names = list(dict.fromkeys(k for r in records for k in r))
    current().check_shape(len(records), len(names), "A list of records")
    return [names, *[[r.get(n) for n in names] for r in records]]


def _plain_rows(value: object) -> list[Row] | None:
    """Rows of one series, with their names first, for a list or mapping with dates."""
    if isinstance(value, dict) and value and all(style_of(str(k)) for k in value):
        plain = not any(isinstance(v, list | dict) for v in value.values())
        return [["date", "value"], *[[k, v] for k, v in value.items()]] if plain else None
    if not isinstance(value, list) or not value:
        return None
    if all(isinstance(r, list) and len(r) == 2 and style_of(str(r[0])) for r in value):
        return [["date", "value"], *value]
    flat = all(isinstance(r, dict) and not any(isinstance(v, list | dict) for v in r.values()) for r in value)
    if not flat or not any(style_of(str(v)) for v in value[0].values()):
        return None
    names = list(dict.fromkeys(k for r in value for k in r))
    return [names, *[[r.get(n) for n in names] for r in value]]


def _mapping_rows(value: Mapping[str, Any]) -> list[Row] | None:
    head = next(
        (value[k] for k in ("columns", "header", "fields", "names") if isinstance(value.get(k), list)),
        None,
    )
    body = next((value[k] for k in ("data", "rows", "values") if isinstance(value.get(k), list)), None)
    if head and body and all(isinstance(r, list) for r in body):
        names = [h.get("name", h.get("id", "")) if isinstance(h, dict) else str(h) for h in head]
        return [names, *body]
    lists = {k: v for k, v in value.items() if isinstance(v, list)}
    lengths = {len(v) for v in lists.values()}
    if (
        len(lists) > 1
        and len(lengths) == 1
        and not any(isinstance(c, list | dict) for v in lists.values() for c in v)
    ):
        return [list(lists), *map(list, zip(*lists.values(), strict=True))]
    if len(value) > 1 and all(style_of(str(k)) for k in value):
        if all(isinstance(v, dict) for v in value.values()):
            return _as_rows([{"date": k, **v} for k, v in value.items()])
        if not any(isinstance(v, list | dict) for v in value.values()):
            return [["date", "value"], *[[k, v] for k, v in value.items()]]
    return None


def _flat(record: Mapping[str, object], above: str = "", depth: int = 0) -> dict[str, object]:
    """Nested objects, flattened with names joined by points."""
    flat: dict[str, object] = {}
    for key, value in record.items():
        name = f"{above}{key}"
        if isinstance(value, dict) and depth < _NESTING:
            flat.update(_flat(value, f"{name}.", depth + 1))
        elif isinstance(value, bool) or not isinstance(value, list | dict):
            flat[name] = str(value).lower() if isinstance(value, bool) else value
    return flat
