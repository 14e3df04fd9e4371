"""Long Parquet files: memory and progress, sorting, the index of each asset's rows, metadata, writing."""

from __future__ import annotations

import json
import os
import re
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, Final

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.fs as pafs
import pyarrow.parquet as pq

from ultrum.core.array_types import DAY, Array, Bools, Dates, Floats, Ints
from ultrum.core.executors import Progress
from ultrum.core.series.metadata import Metadata, Step
from ultrum.core.series.time_series import SeriesTable
from ultrum.errors import TableError, UltrumError, reason
from ultrum.file_access import path_of, write_whole

Address = str | os.PathLike[str]

_UNITS: Final = {"": 1, "KB": 10**3, "MB": 10**6, "GB": 10**9, "KIB": 2**10, "MIB": 2**20, "GIB": 2**30}
DEFAULT: Final = "1 GB"
BASE: Final = 300_000_000  # what the packages themselves hold, and small things
_LEAST: Final = 400_000_000


def bytes_of(max_memory: int | str) -> int:
    """Bytes of a number or of a text such as ``"2 GB"``.

    Raises
    ------
    UltrumError
        If it cannot be parsed, or is less than the program itself needs.

    Examples
    --------
    >>> bytes_of("1.5 GB")
    1500000000
    """
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([A-Za-z]*)\s*", str(max_memory))
    if not match or match[2].upper() not in _UNITS:
        raise UltrumError(
            f"max_memory='{max_memory}' is not a size. Set a number of bytes, or a text such as '2 GB'."
        )
    size = int(float(match[1]) * _UNITS[match[2].upper()])
    if size < _LEAST:
        raise UltrumError(f"max_memory={size:,} bytes is too small; at least {_LEAST:,} are needed.")
    return size


def at_once(max_memory: int, block: int, workers: int) -> int:
    """Maximum number of blocks in progress or waiting.

    Raises
    ------
    UltrumError
        If no block fits.
    """
    most = (max_memory - BASE) // max(block, 1)
    if most < 1:
        raise UltrumError(
            f"One block needs about {block:,} bytes in addition to the {BASE:,} of the program; "
            f"max_memory={max_memory:,} is too small."
        )
    return int(min(most, workers + 1))


# Progress reports of long work


@contextmanager
def reporting(progress: Progress | None) -> Iterator[Progress]:
    """A progress function: the caller's, or a line on the terminal if there is one."""
    if progress is not None or not sys.stderr.isatty():
        yield progress or (lambda _: None)
        return
    from rich.console import Console

    with Console(stderr=True).status("starting") as status:
        yield status.update


# Parquet files by path, or by the address of any filesystem that Arrow or fsspec opens


@dataclass(frozen=True)
class Place:
    """A file or folder: the filesystem of its address, and the path in it.

    Examples
    --------
    >>> import fsspec
    >>> fsspec.filesystem("memory").pipe("/prices/a.parquet", b"PAR1")
    >>> [file.address for file in Place.of("memory://prices").parquet_files()]
    ['memory://prices/a.parquet']
    """

    address: str
    system: pafs.FileSystem
    path: str

    @classmethod
    def of(cls, address: Address) -> Place:
        """The place of a path, or of an address such as ``s3://bucket/prices.parquet``."""
        text = os.fspath(address)
        if "://" not in text:
            return cls(text, pafs.LocalFileSystem(), str(path_of(address)))
        try:
            return cls(text, *pafs.FileSystem.from_uri(text))
        except pa.ArrowInvalid:  # not one of Arrow's own
            return cls(text, *_of_fsspec(text))

    @property
    def is_local(self) -> bool:
        """Whether it is on this machine, where a file can be replaced whole."""
        return "://" not in self.address

    def parquet_files(self) -> list[Place]:
        """The Parquet file of that name, or the Parquet files of the folder."""
        info = self.system.get_file_info(self.path)
        if info.type == pafs.FileType.File:
            return [self]
        found = []
        if info.type == pafs.FileType.Directory:
            inside = self.system.get_file_info(pafs.FileSelector(self.path))
            found = sorted(i.base_name for i in inside if i.is_file and i.base_name.endswith(".parquet"))
        if not found:
            raise TableError(f"There is no Parquet file at {self.address}.")
        return [self.child(name) for name in found]

    def child(self, name: str) -> Place:
        """A file of this folder."""
        return Place(f"{self.address.rstrip('/')}/{name}", self.system, f"{self.path.rstrip('/')}/{name}")

    def stamp(self) -> tuple[int, int]:
        """Size and time of the last change."""
        info = self.system.get_file_info(self.path)
        return info.size or 0, info.mtime_ns or 0

    @contextmanager
    def open(self, dictionary: Sequence[str] = ()) -> Iterator[pq.ParquetFile]:
        """The file opened as Parquet."""
        with (
            self.system.open_input_file(self.path) as source,
            pq.ParquetFile(source, read_dictionary=list(dictionary)) as file,
        ):
            yield file

    def schema(self) -> pa.Schema:
        """Names, types and metadata of its columns."""
        try:
            with self.open() as file:
                return file.schema_arrow
        except (OSError, pa.ArrowInvalid) as error:
            raise TableError(f"{self.address} is not a readable Parquet file: {reason(error)}.") from error

    @contextmanager
    def arriving(self) -> Iterator[Place]:
        """A place whose file replaces this one only when the block ends without an error."""
        if self.is_local:
            with write_whole(Path(self.path)) as path:
                yield Place(str(path), self.system, str(path))
            return
        part = Place(f"{self.address}.arriving", self.system, f"{self.path}.arriving")
        try:
            yield part
            self.system.move(part.path, self.path)
        except BaseException:
            if self.system.get_file_info(part.path).type == pafs.FileType.File:
                self.system.delete_file(part.path)
            raise


def _of_fsspec(address: str) -> tuple[pafs.FileSystem, str]:
    """The filesystem and path of an address by the package fsspec."""
    try:
        import fsspec
    except ImportError:
        raise TableError(f"{address} needs the package fsspec: pip install fsspec.") from None
    try:
        system, path = fsspec.core.url_to_fs(address)
    except (ValueError, ImportError) as error:
        raise TableError(f"{address} cannot be opened: {reason(error)}.") from None
    return pafs.PyFileSystem(pafs.FSSpecHandler(system)), str(path)


# Long Parquet files: sorting beyond memory, the index of each asset's rows, metadata, and writing

_COPIES: Final = 5  # of a part, while it is sorted
_MOST_PARTS: Final = 500  # files open at one time


@dataclass(frozen=True)
class Sorting:
    """Rows are first divided into parts by ranges of assets that fit into memory; then each part is sorted."""

    files: list[Place]
    asset: str
    date: str
    max_memory: int
    tell: Progress

    def write(self, writer: LongWriter) -> None:
        """Write all rows, with every column, sorted."""
        counts, size = self._count_rows()
        bounds = _ranges(counts, (self.max_memory - BASE) // (_COPIES * size))
        beside = Path(writer.place.path).parent if writer.place.is_local else None
        with tempfile.TemporaryDirectory(prefix=".sorting-", dir=beside) as folder:
            parts = self._partition(bounds, Path(folder))
            for number, part in enumerate(parts, 1):
                self.tell(f"sorting part {number} of {len(parts)}")
                self._sort_part(part, writer)

    def _tables(self, columns: list[str] | None = None) -> Iterator[pa.Table]:
        for place in self.files:
            with place.open([self.asset]) as file:
                for number in range(file.metadata.num_row_groups):
                    yield file.read_row_group(number, columns=columns)

    def _count_rows(self) -> tuple[Counter[str], int]:
        """Rows of each asset, and bytes of a row."""
        counts: Counter[str] = Counter()
        for table in self._tables([self.asset]):
            for pair in pc.value_counts(table[self.asset].cast(pa.string())).to_pylist():
                counts[pair["values"]] += pair["counts"]
        if not counts or None in counts:
            raise TableError("The table is empty, or a row has no asset. Every row needs an asset.")
        first = next(t for t in self._tables() if t.num_rows)
        return counts, max(1, first.nbytes // first.num_rows) + 16

    def _partition(self, bounds: list[str], folder: Path) -> list[Path]:
        """Write every row to the part of its asset, in input order."""
        paths = [folder / f"{k}.parquet" for k in range(len(bounds))]
        schema = pa.unify_schemas([place.schema() for place in self.files]).remove_metadata()
        with ExitStack() as open_files:
            writers = [open_files.enter_context(pq.ParquetWriter(p, schema)) for p in paths]
            for number, table in enumerate(self._tables(), 1):
                self.tell(f"dealing out row group {number}")
                named = table.set_column(
                    table.schema.get_field_index(self.asset), self.asset, table[self.asset].cast(pa.string())
                )
                place = np.searchsorted(bounds, named[self.asset].to_numpy().astype(str), side="right") - 1
                for k in np.unique(place):
                    writers[k].write_table(named.filter(pa.array(place == k)).cast(schema))
        return paths

    def _sort_part(self, part: Path, writer: LongWriter) -> None:
        table = pq.read_table(part)
        keys = pa.table({"asset": table[self.asset].cast(pa.string()), "date": table[self.date]})
        order = pc.sort_indices(keys, sort_keys=[("asset", "ascending"), ("date", "ascending")])
        table = table.take(order)
        self._refuse_twice(table)
        writer.write(table)

    def _refuse_twice(self, table: pa.Table) -> None:
        assets, dates = (table[c].combine_chunks() for c in (self.asset, self.date))
        same = pc.and_(pc.equal(assets[1:], assets[:-1]), pc.equal(dates[1:], dates[:-1]))
        if pc.any(same).as_py():
            row = same.index(True).as_py()
            raise TableError(
                f"{assets[row]} has two rows at {dates[row]}. Keep one of them. Nothing was written."
            )


def _ranges(counts: Counter[str], most: int) -> list[str]:
    """First asset of each part, so that a part has a bounded number of rows, or one asset."""
    bounds: list[str] = []
    held = most + 1
    for name in sorted(counts):
        if held + counts[name] > most:
            bounds.append(name)
            held = 0
        held += counts[name]
    if len(bounds) > _MOST_PARTS:
        raise UltrumError(
            f"The rows would be split into {len(bounds):,} parts, more than {_MOST_PARTS} files. Allow more "
            "memory, such as max_memory='4 GB'."
        )
    return bounds


# Files of a long data set: start of each asset, metadata, and writing block by block

EPOCH: Final = np.datetime64("1970-01-01", "D")


@dataclass(frozen=True)
class RowGroups:
    """Row groups of files in order: path, number in the file, first row and number of rows."""

    paths: list[str]
    groups: Ints
    firsts: Ints
    counts: Ints
    stamps: dict[str, tuple[int, int]]

    def check_same(self, path: str) -> None:
        """Refuse a file that changed after it was opened."""
        if Place.of(path).stamp() != self.stamps[path]:
            raise TableError(f"{path} has changed since it was opened. Open it again.")

    def spanning(self, low: int, high: int) -> Iterator[tuple[str, list[int], int]]:
        """Files and row groups that contain the rows from ``low`` to before ``high``, and their first row."""
        stops = self.firsts + self.counts
        some = np.flatnonzero((stops > low) & (self.firsts < high))
        for path in dict.fromkeys(self.paths[k] for k in some):
            rows_of_file = [k for k in some if self.paths[k] == path]
            yield (path, [int(self.groups[k]) for k in rows_of_file], int(self.firsts[rows_of_file[0]]))


@dataclass(frozen=True)
class Block:
    """Some assets of a table: names, bounds of their rows, and how to read them."""

    row_groups: RowGroups
    date: str
    value: str
    names: list[str]
    bounds: Ints  # (n + 1,), rows of the data set

    @property
    def count(self) -> int:
        """Rows of all its assets."""
        return int(self.bounds[-1] - self.bounds[0])

    def rows(self) -> tuple[Ints, Floats, Ints]:
        """Days since 1970 and values of all rows, and the bounds of each asset in them."""
        low, high = int(self.bounds[0]), int(self.bounds[-1])
        days, values = np.empty(high - low, np.int64), np.empty(high - low)
        for path, groups, first in self.row_groups.spanning(low, high):
            self.row_groups.check_same(path)
            with Place.of(path).open() as file:
                table = file.read_row_groups(groups, columns=[self.date, self.value], use_threads=False)
            start, stop = max(first, low), min(first + table.num_rows, high)
            some = table.slice(start - first, stop - start)
            days[start - low : stop - low] = days_of(some[self.date])
            values[start - low : stop - low] = numbers_of(some[self.value])
        return days, values, self.bounds - low


@dataclass(frozen=True)
class Index:
    """Start of each asset, and the days of the data; found in one pass that also checks the order."""

    names: list[str]
    bounds: Ints
    days: Ints
    row_groups: RowGroups

    @classmethod
    def of(cls, files: list[Place], asset: str, date: str) -> Index:
        """Read the assets and dates of every row group."""
        names: list[str] = []
        starts: list[int] = []
        paths: list[str] = []
        places: list[tuple[int, int, int]] = []
        seen, last_day, row = np.zeros(0, bool), -(10**9), 0
        low = 0
        for place in files:
            with place.open([asset]) as file:
                for number in range(file.metadata.num_row_groups):
                    table = file.read_row_group(number, columns=[asset, date])
                    if not table.num_rows:
                        continue
                    codes, firsts = _runs(table[asset])
                    days = days_of(table[date])
                    goes_on = bool(names) and codes[0] == names[-1]
                    _check_order(place.address, days, firsts, last_day if goes_on else None, row)
                    names += codes[goes_on:]
                    starts += [row + int(f) for f in firsts[goes_on:]]
                    seen, low = _mark_days(seen, low, days)
                    last_day = int(days[-1])
                    paths.append(place.address)
                    places.append((number, row, table.num_rows))
                    row += table.num_rows
        if not names:
            raise TableError(f"{files[0].address} has no row.")
        _check_once(names, files[0].address)
        numbers = np.array(places, dtype=np.int64).reshape(-1, 3)
        stamps = {place.address: place.stamp() for place in files}
        row_groups = RowGroups(paths, numbers[:, 0], numbers[:, 1], numbers[:, 2], stamps)
        return cls(names, np.array([*starts, row], dtype=np.int64), np.flatnonzero(seen) + low, row_groups)


def _mark_days(seen: Bools, low: int, days: Ints) -> tuple[Bools, int]:
    """The days found so far, extended by more days."""
    first, last = int(days.min()), int(days.max())
    if not len(seen):
        low, seen = first, np.zeros(last - first + 1, bool)
    if first < low:
        seen, low = np.concatenate([np.zeros(low - first, bool), seen]), first
    if last >= low + len(seen):
        seen = np.concatenate([seen, np.zeros(last - low - len(seen) + 1, bool)])
    seen[days - low] = True
    return seen, low


def _runs(column: pa.ChunkedArray) -> tuple[list[str], Ints]:
    """Names of the runs of equal assets, and their starts."""
    if column.null_count:
        raise TableError("A row has no asset. Every row needs an asset.")
    whole = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    coded = whole if pa.types.is_dictionary(whole.type) else whole.dictionary_encode()
    codes = coded.indices.to_numpy(zero_copy_only=False)
    firsts = np.append(0, np.flatnonzero(codes[1:] != codes[:-1]) + 1)
    labels = coded.dictionary.to_pylist()
    return [str(labels[c]) for c in codes[firsts]], firsts.astype(np.int64)


def _check_order(path: str, days: Ints, firsts: Ints, before: int | None, row: int) -> None:
    """Refuse dates of an asset that are not increasing."""
    wrong: Bools = np.zeros(len(days), bool)
    np.less_equal(days[1:], days[:-1], out=wrong[1:])
    wrong[firsts] = False
    wrong[0] = before is not None and days[0] <= before
    if wrong.any():
        place = int(np.argmax(wrong))
        raise TableError(
            f"{path}, row {row + place}: {EPOCH + int(days[place]) * DAY} is not after the date of the row "
            "before it. Sort the rows by asset and date, with one row per date: LongTable.sort."
        )


def _check_once(names: list[str], path: str) -> None:
    if len(set(names)) == len(names):
        return
    met: set[str] = set()
    twice = next(n for n in names if n in met or met.add(n))  # type: ignore[func-returns-value]
    raise TableError(
        f"{path}: the rows of {twice} are not contiguous. Sort the rows by asset and date: LongTable.sort."
    )


def days_of(column: pa.ChunkedArray) -> Ints:
    """Days since 1970 of a column of dates or instants."""
    if column.null_count:
        raise TableError("A row has no date. Every row needs a date.")
    try:
        return np.asarray(column.cast(pa.date32()).cast(pa.int32()).to_numpy())
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        raise TableError(f"Dates are {column.type}; they must be days or instants.") from None


def numbers_of(column: pa.ChunkedArray) -> Floats:
    """Values as floats, missing ones as NaN."""
    try:
        return np.asarray(column.cast(pa.float64()).to_numpy())
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        raise TableError(f"Values are {column.type}; they must be numbers.") from None


# Metadata that a long Parquet file stores about its values

MARK: Final = b"ultrum long table"
_SHARED: Final = ("measure", "unit", "currency", "timing", "income", "excess_of")
_OF_ONE: Final = ("suspect_days", "events_outside_the_prices", "carried")  # settings of one asset alone


def facts_of(metadata: Metadata) -> dict[str, object]:
    """Metadata shared by every asset of a table, for the file."""
    facts = {n: getattr(metadata, n) for n in _SHARED if getattr(metadata, n)}
    trail = [[step.action, [pair for pair in step.settings if pair[0] not in _OF_ONE]] for step in metadata.trail]
    return {**facts, "trail": trail}


def common_facts(table: SeriesTable) -> dict[str, object]:
    """Metadata of every asset; they must be identical, since the file stores them once."""
    first = table.metadata[0]
    for other in table.metadata:
        for name in _SHARED:
            if getattr(other, name) != getattr(first, name):
                raise TableError(
                    f"{first.name} has {name} '{getattr(first, name)}', {other.name} '{getattr(other, name)}'; a "
                    "long table has one for all assets. Convert them first, or write two tables."
                )
    return facts_of(first)


def facts_from(stored: Mapping[str, Any]) -> dict[str, object]:
    """Metadata as stored in a file."""
    steps = (Step(action, tuple((k, v) for k, v in rest)) for action, rest in stored.get("trail", []))
    return {**stored, "trail": tuple(steps)} if stored else {}


def facts_in(schema: pa.Schema) -> dict[str, Any]:
    """The metadata of a file written by this package."""
    stored = (schema.metadata or {}).get(MARK)
    return dict(json.loads(stored)) if stored else {}


# Long tables written block by block; a file appears whole or not at all

_ROWS: Final = 250_000  # of a row group, so that a few assets are read without the rest


class LongWriter:
    """Writes tables of one schema in sequence, to a temporary name until all are complete."""

    def __init__(self, path: Address | Place, value: str, frequency: str) -> None:
        self.place = path if isinstance(path, Place) else Place.of(path)
        self._facts = {"value": value, "frequency": frequency}
        self._stack = ExitStack()
        self._arriving = self.place
        self._writer: pq.ParquetWriter | None = None

    def __enter__(self) -> LongWriter:
        self._arriving = self._stack.enter_context(self.place.arriving())
        return self

    def write(self, table: pa.Table, facts: Mapping[str, object] | None = None) -> None:
        """Add rows; the metadata of the first apply to all."""
        try:
            if self._writer is None:
                mark = {MARK: json.dumps({**self._facts, "facts": dict(facts or {})}).encode()}
                schema = table.schema.with_metadata(mark)
                words = [f.name for f in schema if not pa.types.is_floating(f.type)]
                self._writer = pq.ParquetWriter(
                    self._arriving.path, schema, use_dictionary=words, filesystem=self._arriving.system
                )
            self._writer.write_table(table.cast(self._writer.schema), row_group_size=_ROWS)
        except OSError as error:
            raise TableError(f"{self.place.address} cannot be written: {reason(error)}.") from error

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._writer is not None:
            self._writer.close()
        elif error is None:
            error = TableError(f"No asset has a row, so nothing was written to {self.place.address}.")
            self._stack.__exit__(type(error), error, None)
            raise error
        self._stack.__exit__(kind, error, trace)


def ends_of(index: pd.Index) -> Dates:
    """Last day of each period."""
    ends = index.to_timestamp(how="end") if isinstance(index, pd.PeriodIndex) else index
    return ends.to_numpy().astype("datetime64[D]")


def names_at(names: list[str], places: Array) -> pa.Array:
    """Names of many rows from a few, each stored once."""
    return pa.DictionaryArray.from_arrays(pa.array(places.astype(np.int32)), pa.array(names, pa.string()))


def rows_of(table: SeriesTable, value: str) -> pa.Table:
    """Rows of a wide table, asset by asset, without missing values."""
    block = table.block.T
    assets, rows = np.nonzero(np.isfinite(block))
    columns = {
        "asset": names_at(table.names, assets),
        "date": pa.array(ends_of(table.index)[rows]),
        value: pa.array(block[assets, rows]),
    }
    return pa.table(columns)
