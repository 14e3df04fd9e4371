"""Large delimited texts and Parquet files, read by columns.

A sample is read by the careful reader; if it is one plain block, the rest is converted with the decisions of the
sample. A file that does not fit these decisions goes to the careful reader, so both give the same numbers.
"""

from __future__ import annotations

import io
import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from ultrum.core.array_types import Array, Dates
from ultrum.core.presentation import quantity
from ultrum.errors import TableError, choices, reason
from ultrum.sources.download_and_limits import current
from ultrum.sources.table.ambiguous_dates import (
    ReadDates,
    by_places,
    letters_of,
    read_dates,
    refuse_day_month_swap,
    seconds_of,
    with_centuries,
)
from ultrum.sources.table.cell_grid import CodedTexts, key_columns
from ultrum.sources.table.composite_dates import date_cells, name_bars, side_by_side
from ultrum.sources.table.date_formats import BY_NAME, FISCAL_YEARS
from ultrum.sources.table.file_formats_and_limits import text_grid
from ultrum.sources.table.header_line import DATE_WORDS, LayoutOptions, units_from_names
from ultrum.sources.table.number_formats_and_date_words import MISSING, ReadNumbers, sentinel_in
from ultrum.sources.table.reading_result import Decision, LineRange, TableOptions, account_of
from ultrum.sources.table.table_detection import Block, Rejected, find_blocks
from ultrum.sources.table.type_inference import NO_NUMBER, Typed, type_cells, with_statuses
from ultrum.sources.table.unit_columns import (
    MULTIPLIER,
    multiplier_column,
    states_units,
    unit_certainty,
    unit_column,
    units_by_row,
)
from ultrum.sources.table.units import unit_of
from ultrum.sources.table.unpacking import decode, kind_of, shown_encoding

SAMPLE: Final = 12 * 1024
_LINES: Final = 12  # of a sample at least, however long they are
_LONGEST: Final = 4 * 1024 * 1024  # bytes of them
LARGE: Final = 48 * 1024  # bytes from which the sample is a small part of the file
_MOST_DISTINCT: Final = 100_000
_PLAIN: Final = re.compile(r"[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?|[-+]?(\d+,?\d*|,\d+)")
_GROUPED: Final = re.compile(r"-?(?:[1-9]\d{0,2}(?:,\d{3})+|\d+)(?:\.\d*)?")
_LOWER: Final = sorted(MISSING)
_MARKS: Final = [*_LOWER, *[m.upper() for m in _LOWER], "NaN", "Null", "None", "N.A.", "Missing"]


@dataclass(frozen=True)
class QuickRows:
    """Typed rows of a plain text, and the account of its lines."""

    columns: Typed
    account: tuple[LineRange, ...]


def read_quick(
    body: bytes, name: str, options: TableOptions, beside: tuple[tuple[str, str], ...] = ()
) -> QuickRows | None:
    """Typed rows of a large plain text, or None if it needs the careful reader.

    ``beside`` has the texts of an archive next to the table.
    """
    if len(body) < LARGE or kind_of(body) != "text" or options.missing is not None:
        return None
    if options.dates is not None:
        return None  # the careful reader knows all forms
    try:
        text, encoding = decode(_sample(body), name, options.encoding)
        block = _sample_block(text, name, options, encoding, beside)
        columns = type_cells(block, options) if block is not None else None
    except TableError:
        return None
    grouped = _columns_with_groups(block, columns) if block is not None and columns is not None else None
    if block is None or columns is None or grouped is None:
        return None
    whole = _whole(body, block, columns, encoding, options, grouped)
    if whole is None or _needs_codes(whole, options):
        return None
    account = account_of(block.grid, [block], [])
    last = block.lines[0] + len(whole.dates.moments) - 1
    rows = last - block.lines[0] + 1
    return QuickRows(whole, tuple(replace(r, last=last, lines=rows) if r.what == "row" else r for r in account))


def _needs_codes(whole: Typed, options: TableOptions) -> bool:
    """Whether a column of integers can identify the assets, whose text only the careful reader keeps."""
    if options.asset_column is not None:
        return options.asset_column in whole.units
    if not any(_may_be_codes(whole.columns[n]) for n in whole.numeric):
        return False
    texts = {n: c for n, c in whole.columns.items() if n not in whole.units}
    return key_columns(texts, whole.dates.moments) is None


def _may_be_codes(numbers: Array) -> bool:
    """Whether all numbers are integers and none is missing."""
    return bool(np.isfinite(numbers[:100]).all() and (numbers == np.floor(numbers)).all())


def _sample(body: bytes) -> bytes:
    """The first lines of a file."""
    end = body.rfind(b"\n", 0, SAMPLE) + 1
    lines = body.count(b"\n", 0, end)
    while lines < _LINES and 0 <= end < _LONGEST:
        end, lines = body.find(b"\n", end) + 1 or len(body), lines + 1
    return body[:end]


def _sample_block(
    text: str, name: str, options: TableOptions, encoding: str, beside: tuple[tuple[str, str], ...]
) -> Block | None:
    """The only plain block of the sample."""
    shown = shown_encoding(encoding, text, options.encoding)
    grid = replace(text_grid(text, name, options.delimiter, shown).check_size(name), beside=beside)
    layout = LayoutOptions(options.columns, options.header, options.date_column)
    blocks = find_blocks(grid, layout, name)
    block = blocks[0]
    if len(blocks) > 1 or block.rejected or block.prose or block.decisions or side_by_side(block):
        return None
    if len(grid.how) > 1 and grid.how != "tab":
        return None
    if block.lines != list(range(block.lines[0], block.lines[0] + len(block.lines))):
        return None
    return name_bars(block, name)


def _columns_with_groups(block: Block, columns: Typed) -> frozenset[str] | None:
    """Columns whose numbers have thousands marks, where all others of the sample are bare; else None."""
    if (
        columns.dates.style in FISCAL_YEARS
        or columns.rejected
        or columns.breaks
        or (columns.statuses and not columns.status_of)
    ):
        return None
    grouped = set()
    for name in columns.numeric:
        cells = {str(row[block.place_of[name]]) for row in block.rows}
        others = [c for c in cells if c.lower() not in MISSING and not _PLAIN.fullmatch(c)]
        if others and not all(_GROUPED.fullmatch(c) for c in others):
            return None
        if others or any(_GROUPED.fullmatch(c) and "," in c for c in cells):
            grouped.add(name)
    decimal = next(d.chosen for d in columns.decisions if d.what == "decimal mark")
    return None if grouped and decimal != "." else frozenset(grouped)


def _whole(
    body: bytes, block: Block, sample: Typed, encoding: str, options: TableOptions, grouped: frozenset[str]
) -> Typed | None:
    """The whole file, with the decisions of the sample."""
    decimal = next(d.chosen for d in sample.decisions if d.what == "decimal mark")
    names = block.heading.names
    bare = {n for n in sample.units if n not in grouped}
    types = {f"{k}": pa.float64() if n in bare else pa.string() for k, n in enumerate(names)}
    mark = {"tab": "\t"}.get(block.grid.how, block.grid.how)
    try:
        table = pyarrow.csv.read_csv(
            pa.BufferReader(body),
            read_options=pyarrow.csv.ReadOptions(
                skip_rows=block.lines[0] - 1, column_names=list(types), encoding=_codec(encoding)
            ),
            parse_options=pyarrow.csv.ParseOptions(delimiter=mark),
            convert_options=pyarrow.csv.ConvertOptions(
                column_types=types, null_values=_MARKS, strings_can_be_null=False, decimal_point=decimal
            ),
        )
    except (pa.ArrowInvalid, pa.ArrowKeyError, UnicodeDecodeError):
        return None
    if table.num_rows != _lines_from(body, block.lines[0] - 1):
        return None  # a cell with line breaks, or a quote that is never closed
    dates = _dates(table, block, sample, options.first_year)
    if dates is None:
        return None
    columns = _columns_of(table, block, sample, grouped)
    rows = table.num_rows
    del table
    pa.default_memory_pool().release_unused()
    if columns is None or any(sentinel_in(columns[n]) is not None for n in sample.numeric):
        return None
    last = block.lines[0] + rows - 1
    decisions = [
        replace(d, chosen=f"lines {block.lines[0]} to {last}") if d.what == "rows" else d
        for d in sample.decisions
    ]
    if _has_new_settings(columns, sample):
        return None
    whole = replace(sample, dates=dates, columns=columns, decisions=decisions)
    return with_statuses(_in_units_of_rows(whole) if sample.unit_column else whole)


def _in_units_of_rows(whole: Typed) -> Typed:
    """Bare numbers in the unit of their own row, and the number of rows of each unit in the decision."""
    numbers = {n: ReadNumbers(whole.columns[n]) for n in whole.numeric}
    by_row = unit_column(whole.columns, whole.numeric)
    units, scaled = units_by_row(by_row, whole.units, numbers)
    why = unit_certainty(by_row.name)
    chosen = next((u.chosen for u in units.values() if u.certainty == why), "")
    decisions = [replace(d, chosen=chosen) if d.certainty == why else d for d in whole.decisions]
    columns = {**whole.columns, **{n: read.values for n, read in scaled.items()}}
    return replace(whole, columns=columns, units=units, decisions=decisions)


def _has_new_settings(columns: Mapping[str, Array], sample: Typed) -> bool:
    """Whether a column of units, definitions or the like has words that the sample does not have."""
    return any(
        len(pd.unique(columns[n])) > len(pd.unique(sample.columns[n]))
        for n in columns
        if n not in sample.units and states_units(n)
    )


def _lines_from(body: bytes, skipped: int) -> int:
    """Lines of a text after the first ones, without trailing empty lines."""
    end = len(body) - len(tail := body[-1000:]) + len(tail.rstrip())
    return body.count(b"\n", 0, end) + 1 - skipped


def _codec(encoding: str) -> str:
    return "utf8" if encoding.startswith("utf-8") else encoding


def _columns_of(table: pa.Table, block: Block, sample: Typed, grouped: frozenset[str]) -> dict[str, Array] | None:
    """Numbers and texts by column; None if a number with thousands marks is not one."""
    columns = {}
    for name in sample.columns:
        cells = table.column(block.place_of[name])
        read = _without_groups(cells) if name in grouped else _column(cells)
        if read is None:
            return None
        columns[name] = read
    return columns


def _without_groups(cells: pa.ChunkedArray) -> Array | None:
    """Numbers with commas between thousands; None if a cell is neither one nor missing."""
    missing = pc.or_kleene(pc.is_null(cells), pc.is_in(cells, pa.array(["", *_MARKS])))
    if not pc.all(pc.or_kleene(missing, pc.match_substring_regex(cells, f"^(?:{_GROUPED.pattern})$"))).as_py():
        return None
    bare = pc.if_else(missing, None, pc.replace_substring(cells, ",", ""))
    return np.asarray(bare.cast(pa.float64()).to_numpy())


def _column(column: pa.ChunkedArray) -> Array:
    if pa.types.is_floating(column.type):
        return np.asarray(column.to_numpy())
    coded = column.combine_chunks().dictionary_encode()  # equal cells share one text
    return CodedTexts.of(coded.dictionary.to_pylist(), coded.indices.to_numpy().astype(np.int64))


def _dates(table: pa.Table, block: Block, sample: Typed, first_year: int | None) -> ReadDates | None:
    """Dates of the whole file in the style of the sample."""
    joined = date_cells(block)
    style = BY_NAME.get(sample.dates.style)
    if style is None or len(joined.used) > 2 or (joined.how and "time" not in joined.how):
        return None
    cells = table[f"{joined.used[0]}"].combine_chunks()
    moments = _by_places(cells, style.template, str(joined.cells[0])) if not joined.how else None
    if moments is None and joined.how:
        moments = _day_and_clock(table, joined.used, style.template)
    if moments is None and not joined.how:
        moments = _by_distinct(cells, sample.dates.style)
    if moments is None or np.isnat(moments).any():
        return None
    if style.has_short_year:
        moments = with_centuries(moments, first_year, block.place)
    if style.frequency == "D":
        refuse_day_month_swap(moments, block.place)
    return replace(sample.dates, moments=moments)


def _by_places(cells: pa.Array, template: str, first: str) -> Dates | None:
    """Dates by the places of their digits; dates that stand in many rows are read once."""
    coded = cells.dictionary_encode()
    if 4 * len(coded.dictionary) > len(cells):
        return by_places(cells, template, first)
    moments = by_places(coded.dictionary, template, first)
    return None if moments is None else np.asarray(moments[coded.indices.to_numpy()])


def _day_and_clock(table: pa.Table, used: tuple[int, ...], template: str) -> Dates | None:
    day = by_places(table[f"{used[0]}"].combine_chunks(), template, "")
    clock = letters_of(table[f"{used[1]}"].combine_chunks())
    if day is None or clock is None:
        return None
    colons = clock.shape[0] in (5, 8)
    form = {4: "hhmm", 5: "hh:mm", 6: "hhmmss", 8: "hh:mm:ss"}.get(clock.shape[0])
    if form is None:
        return None
    seconds = seconds_of(clock, form, 0) if colons or form in ("hhmm", "hhmmss") else None
    return None if seconds is None else day + seconds


def _by_distinct(cells: object, style: str) -> Dates | None:
    """Each distinct text parsed once."""
    coded = pc.dictionary_encode(cells)
    if len(coded.dictionary) > _MOST_DISTINCT:
        return None
    read = [BY_NAME[style].moment(str(t).strip()) for t in coded.dictionary.to_pylist()]
    if any(m is None or m.tzinfo is not None for m in read):
        return None
    return np.asarray(np.array(read, "datetime64[s]")[coded.indices.to_numpy()])


# Parquet files: columns with types


def read_parquet(body: bytes, name: str, options: TableOptions) -> Typed:
    """Typed rows of a Parquet or Feather file."""
    try:
        frame = _table(body, name).to_pandas()
    except (pa.ArrowException, OSError, ValueError, LookupError, TypeError) as error:
        raise TableError(f"{name} is a damaged {_format_of(body)} file: {reason(error)}.") from error
    if frame.index.name is not None:
        frame = frame.reset_index()
    names, stated_units = units_from_names([str(c) for c in frame], [""] * frame.shape[1])
    unit_cells = dict(zip(names, stated_units, strict=True))
    twice = [n for n, count in Counter(names).items() if count > 1]
    if twice:
        raise TableError(
            f"{name}: column '{twice[0]}' is there {quantity(names.count(twice[0]), 'time')}. Rename one."
        )
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
    numbers_by_name: dict[str, ReadNumbers] = {}
    rejected: list[Rejected] = []
    multiplier = multiplier_column({n: frame[n].to_numpy(dtype=object) for n in names if MULTIPLIER.fullmatch(n)})
    for other in [n for n in names if n != dated]:
        values = frame[other]
        if values.dtype.kind in "fiu" and other != multiplier:
            numbers = values.to_numpy(dtype=np.float64)
            infinite = np.isinf(numbers)
            rejected += [
                Rejected(int(row) + 1, str(numbers[row]), f"'{numbers[row]}' in '{other}' {NO_NUMBER}")
                for row in np.flatnonzero(infinite)
            ]
            columns[other] = np.where(infinite, np.nan, numbers)
            numbers_by_name[other] = ReadNumbers(columns[other])
        else:
            columns[other] = np.array([_text(v) for v in values], dtype=object)
    by_row = unit_column(columns, list(numbers_by_name))
    stated = () if by_row.of_all is None else (by_row.of_all,)
    units = {
        n: unit_of(n, "", unit_cells[n], read, "", options.unit(n), name, stated=stated)
        for n, read in numbers_by_name.items()
    }
    decisions = [Decision("format", _format_of(body)), Decision("dates", f"column '{dated}'")]
    rejected.sort(key=lambda r: r.line)
    if not by_row.differs:
        return Typed(dates, columns, units, decisions, rejected)
    units, scaled = units_by_row(by_row, units, numbers_by_name)
    columns |= {n: read.values for n, read in scaled.items()}
    return Typed(dates, columns, units, decisions, rejected, unit_column=by_row.name)


def _format_of(body: bytes) -> str:
    return "Feather" if body[:6] == b"ARROW1" else "Parquet"


def _table(body: bytes, name: str) -> pa.Table:
    """The table of a Parquet or Feather (Arrow IPC) file, within the limits."""
    if body[:6] != b"ARROW1":
        from pyarrow.parquet import ParquetFile

        file = ParquetFile(io.BytesIO(body))
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
