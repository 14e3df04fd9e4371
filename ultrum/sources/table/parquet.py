"""Parquet files: columns with types."""

from __future__ import annotations

import io

import numpy as np
import pyarrow as pa
import pyarrow.parquet

from ultrum.core.array_types import Array
from ultrum.errors import TableError, choices, reason
from ultrum.sources.limits import current
from ultrum.sources.table.ambiguous_dates import read_dates
from ultrum.sources.table.header_line import DATE_WORDS
from ultrum.sources.table.number_formats import ReadNumbers
from ultrum.sources.table.percent_or_decimal import unit_of
from ultrum.sources.table.reading_result import Decision, TableOptions
from ultrum.sources.table.table_detection import Rejected
from ultrum.sources.table.type_inference import Typed


def read_parquet(body: bytes, name: str, options: TableOptions) -> Typed:
    """Typed rows of a Parquet or Feather file."""
    try:
        frame = _table(body, name).to_pandas()
    except (pa.ArrowException, OSError, ValueError, LookupError, TypeError) as error:
        raise TableError(f"{name} is a damaged {_format_of(body)} file: {reason(error)}.") from error
    if frame.index.name is not None:
        frame = frame.reset_index()
    names = [str(c) for c in frame]
    frame.columns = names
    dated = _date_column(names, frame, options, name)
    column = frame[dated]
    offsets = None
    if getattr(column.dtype, "tz", None) is not None:
        local = column.dt.tz_localize(None)
        offsets = ((local - column.dt.tz_convert("UTC").dt.tz_localize(None)).dt.total_seconds()).to_numpy()
        column = local
    cells: Array = column.to_numpy() if column.dtype.kind == "M" else column.to_numpy(dtype=object)
    dates = read_dates(cells, options.date_form, f"{name}, column '{dated}'", options.first_year)
    if offsets is not None:
        dates = type(dates)(dates.moments, dates.frequency, dates.style, offsets.astype(np.int64))
    columns: dict[str, Array] = {}
    units = {}
    rejected: list[Rejected] = []
    for other in [n for n in names if n != dated]:
        values = frame[other]
        if values.dtype.kind in "fiu":
            numbers = values.to_numpy(dtype=np.float64)
            infinite = np.isinf(numbers)
            rejected += [
                Rejected(int(row) + 1, str(numbers[row]), f"{numbers[row]} in '{other}' is not finite")
                for row in np.flatnonzero(infinite)
            ]
            columns[other] = np.where(infinite, np.nan, numbers)
            read = ReadNumbers(columns[other])
            units[other] = unit_of(other, "", "", read, "", options.unit(other), name)
        else:
            columns[other] = np.array([_text(v) for v in values], dtype=object)
    decisions = [Decision("format", _format_of(body)), Decision("dates", f"column '{dated}'")]
    return Typed(dates, columns, units, decisions, sorted(rejected, key=lambda r: r.line))


def _format_of(body: bytes) -> str:
    return "Feather" if body[:6] == b"ARROW1" else "Parquet"


def _table(body: bytes, name: str) -> pa.Table:
    """The table of a Parquet or Feather (Arrow IPC) file, within the limits."""
    if body[:6] != b"ARROW1":
        file = pyarrow.parquet.ParquetFile(io.BytesIO(body))
        current().check_shape(file.metadata.num_rows, file.metadata.num_columns, name)
        return file.read()
    with pa.ipc.open_file(pa.BufferReader(body)) as opened:
        rows = 0
        batches = []
        for k in range(opened.num_record_batches):
            batches.append(opened.get_batch(k))
            rows += batches[-1].num_rows
            current().check_shape(rows, len(opened.schema), name)
        return pa.Table.from_batches(batches, opened.schema)


def _text(value: object) -> str:
    return "" if value is None or value != value else str(value)  # noqa: PLR0124 - NaN differs from itself


def _date_column(names: list[str], frame: object, options: TableOptions, where: str) -> str:
    """The column of dates: as given, by type, or by name."""
    given = options.date_column
    if isinstance(given, int):
        given = names[given - 1] if 1 <= given <= len(names) else None
    if isinstance(given, str):
        if given not in names:
            raise TableError(f"{where}: there is no column '{given}'; it has: {choices(names)}.")
        return given
    kinds = [n for n in names if frame[n].dtype.kind == "M"]  # type: ignore[index]
    named = [n for n in names if n.lower() in DATE_WORDS]
    for candidate in (*kinds, *named):
        return candidate
    raise TableError(f"{where}: no column has dates; it has: {choices(names)}. Set date_column= to one of them.")
