"""Index of a long Parquet data set: where each asset begins and ends."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Final

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from ultrum.core.array_types import DAY, Bools, Floats, Ints
from ultrum.errors import TableError
from ultrum.file_access import path_of

EPOCH: Final = np.datetime64("1970-01-01", "D")


@dataclass(frozen=True)
class RowGroups:
    """Row groups of files, in order: path, number in the file, first row and rows of each."""

    paths: list[str]
    groups: Ints
    firsts: Ints
    counts: Ints
    stamps: dict[str, tuple[int, int]]

    def check_same(self, path: str) -> None:
        """Refuse a file that is another one than that which was looked at."""
        if _stamp(path) != self.stamps[path]:
            raise TableError(f"{path} has changed since it was opened; open it again.")

    def spanning(self, low: int, high: int) -> Iterator[tuple[str, list[int], int]]:
        """Files and row groups that hold the rows from ``low`` to before ``high``, and their first row."""
        stops = self.firsts + self.counts
        some = np.flatnonzero((stops > low) & (self.firsts < high))
        for path in dict.fromkeys(self.paths[k] for k in some):
            rows_of_file = [k for k in some if self.paths[k] == path]
            yield (
                path,
                [int(self.groups[k]) for k in rows_of_file],
                int(self.firsts[rows_of_file[0]]),
            )


@dataclass(frozen=True)
class Block:
    """Some assets of a table: their names, where the rows of each begin and end, and how to read them."""

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
            with pq.ParquetFile(path) as file:
                table = file.read_row_groups(groups, columns=[self.date, self.value], use_threads=False)
            start, stop = max(first, low), min(first + table.num_rows, high)
            some = table.slice(start - first, stop - start)
            days[start - low : stop - low] = days_of(some[self.date])
            values[start - low : stop - low] = numbers_of(some[self.value])
        return days, values, self.bounds - low


@dataclass(frozen=True)
class Index:
    """Where each asset begins, and the days there are; taken in one pass that also checks the order."""

    names: list[str]
    bounds: Ints
    days: Ints
    row_groups: RowGroups

    @classmethod
    def of(cls, files: list[Path], asset: str, date: str) -> Index:
        """Look at assets and dates of every row group."""
        names: list[str] = []
        starts: list[int] = []
        paths: list[str] = []
        places: list[tuple[int, int, int]] = []
        seen, last_day, row = np.zeros(0, bool), -(10**9), 0
        low = 0
        for path in files:
            with pq.ParquetFile(path, read_dictionary=[asset]) as file:
                for number in range(file.metadata.num_row_groups):
                    table = file.read_row_group(number, columns=[asset, date])
                    if not table.num_rows:
                        continue
                    codes, firsts = _runs(table[asset])
                    days = days_of(table[date])
                    goes_on = bool(names) and codes[0] == names[-1]
                    _check_order(path, days, firsts, last_day if goes_on else None, row)
                    names += codes[goes_on:]
                    starts += [row + int(f) for f in firsts[goes_on:]]
                    seen, low = _marked(seen, low, days)
                    last_day = int(days[-1])
                    paths.append(str(path))
                    places.append((number, row, table.num_rows))
                    row += table.num_rows
        if not names:
            raise TableError(f"{files[0]} has no row.")
        _check_once(names, files[0])
        numbers = np.array(places, dtype=np.int64).reshape(-1, 3)
        stamps = {str(path): _stamp(path) for path in files}
        row_groups = RowGroups(paths, numbers[:, 0], numbers[:, 1], numbers[:, 2], stamps)
        return cls(names, np.array([*starts, row], dtype=np.int64), np.flatnonzero(seen) + low, row_groups)


def _stamp(path: str | Path) -> tuple[int, int]:
    status = path_of(path).stat()
    return status.st_size, status.st_mtime_ns


def _marked(seen: Any, low: int, days: Ints) -> tuple[Any, int]:
    """The days seen so far, and the first of them, with more days."""
    first, last = int(days.min()), int(days.max())
    if not len(seen):
        low, seen = first, np.zeros(last - first + 1, bool)
    if first < low:
        seen, low = np.concatenate([np.zeros(low - first, bool), seen]), first
    if last >= low + len(seen):
        seen = np.concatenate([seen, np.zeros(last - low - len(seen) + 1, bool)])
    seen[days - low] = True
    return seen, low


def _runs(column: Any) -> tuple[list[str], Ints]:
    """Names of the runs of equal assets, and where each begins."""
    if column.null_count:
        raise TableError("A row has no asset; every row needs one.")
    whole = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    coded = whole if pa.types.is_dictionary(whole.type) else whole.dictionary_encode()
    codes = coded.indices.to_numpy(zero_copy_only=False)
    firsts = np.append(0, np.flatnonzero(codes[1:] != codes[:-1]) + 1)
    labels = coded.dictionary.to_pylist()
    return [str(labels[c]) for c in codes[firsts]], firsts.astype(np.int64)


def _check_order(path: Path, days: Ints, firsts: Ints, before: int | None, row: int) -> None:
    """Dates of an asset must follow each other."""
    wrong: Bools = np.zeros(len(days), bool)
    np.less_equal(days[1:], days[:-1], out=wrong[1:])
    wrong[firsts] = False
    wrong[0] = before is not None and days[0] <= before
    if wrong.any():
        place = int(np.argmax(wrong))
        raise TableError(
            f"{path}, row {row + place}: {EPOCH + int(days[place]) * DAY} does not come after the date before "
            "it. Rows must be sorted by asset and date, one a date; LongTable.sort does it."
        )


def _check_once(names: list[str], path: Path) -> None:
    if len(set(names)) == len(names):
        return
    met: set[str] = set()
    twice = next(n for n in names if n in met or met.add(n))  # type: ignore[func-returns-value]
    raise TableError(
        f"{path}: the rows of {twice} are not contiguous. Rows must be sorted by asset and date; "
        "LongTable.sort does it."
    )


def days_of(column: Any) -> Ints:
    """Days since 1970 of a column of dates or instants."""
    if column.null_count:
        raise TableError("A row has no date; every row needs one.")
    try:
        return np.asarray(column.cast(pa.date32()).cast(pa.int32()).to_numpy())
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        raise TableError(f"Dates are {column.type}; they must be days or instants.") from None


def numbers_of(column: Any) -> Floats:
    """Values as floats, missing ones as NaN."""
    try:
        return np.asarray(column.cast(pa.float64()).to_numpy())
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        raise TableError(f"Values are {column.type}; they must be numbers.") from None
