"""A long Parquet data set, one row per asset and date, read in fixed blocks within a memory limit."""

from __future__ import annotations

import itertools
import math
import mmap
import os
import tempfile
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, ClassVar, Final, TypeVar

import numpy as np
import pandas as pd

from ultrum.core.arguments import LargeData
from ultrum.core.array_types import DAY, Array, Bools, Ints
from ultrum.core.executors import Progress, cores, each_block
from ultrum.core.portfolios.breakpoints_and_holdings import Storage
from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.frequency import Frequency
from ultrum.errors import ArgumentError, TableError, choices, name_list
from ultrum.large.long_files import (
    DEFAULT,
    EPOCH,
    Block,
    Index,
    LongWriter,
    Place,
    Sorting,
    at_once,
    bytes_of,
    common_facts,
    facts_from,
    facts_in,
    reporting,
    rows_of,
)


@dataclass(frozen=True)
class Layout:
    """Placement of the rows of a block on a calendar, as a wide table."""

    index: pd.Index
    frequency: Frequency
    facts: dict[str, Any]
    places: Places

    @classmethod
    def of(cls, index: pd.Index, frequency: Frequency, facts: dict[str, object]) -> Layout:
        """The placement on a calendar."""
        return cls(index, frequency, facts, Places.of(index, frequency))

    def table(self, block: Block) -> SeriesTable:
        """A block as a wide table.

        Raises
        ------
        TableError
            If two rows of an asset are in one period.
        """
        days, values, bounds = block.rows()
        rows = self.places.rows(days)
        check_periods(block, days, rows, bounds, whole=True)
        wide = np.full((len(self.index), len(block.names)), np.nan, order="F")
        for k, (low, high) in enumerate(itertools.pairwise(bounds)):
            wide[rows[low:high], k] = values[low:high]
        metadata_list = [Metadata(name=n, frequency=self.frequency, **self.facts) for n in block.names]
        return SeriesTable.from_arrays(wide, self.index, metadata_list)


def check_periods(block: Block, days: Ints, rows: Ints, bounds: Ints, *, whole: bool) -> None:
    """Each row is the only one of its asset in its period, and the ``whole`` calendar has a period for each."""
    wrong: Bools = np.zeros(len(rows), bool)
    np.equal(rows[1:], rows[:-1], out=wrong[1:])
    wrong[bounds[:-1][bounds[:-1] < len(rows)]] = False
    if wrong.any():
        wrong &= rows >= 0
    if whole:
        wrong |= rows < 0
    if wrong.any():
        row = int(np.argmax(wrong))
        asset = block.names[int(np.searchsorted(bounds, row, side="right")) - 1]
        raise TableError(
            f"{asset}, {EPOCH + int(days[row]) * DAY}: a second row in one period, or a day outside the "
            "calendar. Set frequency= to the frequency of the data; returns and align convert it."
        )


@dataclass(frozen=True)
class Places:
    """Row of a calendar for each day, by a lookup table."""

    first: int
    table: Ints

    @classmethod
    def of(cls, index: pd.Index, frequency: Frequency) -> Places:
        """Row of every day from the first to the last of a calendar; −1 for a day in none of its periods."""
        starts = index.to_timestamp(how="start") if isinstance(index, pd.PeriodIndex) else index
        ends = index.to_timestamp(how="end") if isinstance(index, pd.PeriodIndex) else index
        low = int((starts[0].to_datetime64().astype("datetime64[D]") - EPOCH).astype(int))
        high = int((ends[-1].to_datetime64().astype("datetime64[D]") - EPOCH).astype(int))
        days = EPOCH + np.arange(low, high + 1) * DAY
        ordinals = frequency.ordinals_of(index)
        wanted = frequency.ordinals(days)
        rows = np.searchsorted(ordinals, wanted)
        good = (rows < len(ordinals)) & (ordinals[np.minimum(rows, len(ordinals) - 1)] == wanted)
        if frequency.is_dated:
            good &= np.isin(days, index.to_numpy().astype("datetime64[D]"))
        return cls(low, np.where(good, rows, -1))

    def rows(self, days: Ints) -> Ints:
        """Row of each day; −1 where the calendar has none."""
        places = days - self.first
        if not len(places) or (places.min() >= 0 and places.max() < len(self.table)):
            return np.asarray(self.table[places])
        inside = (places >= 0) & (places < len(self.table))
        return np.asarray(np.where(inside, self.table[np.where(inside, places, 0)], -1))


# A long Parquet data set, one row an asset and date, read asset by asset in fixed blocks


@dataclass(frozen=True, repr=False)
class LongTable(LargeData):
    """A long Parquet data set larger than memory, with one value per asset and date.

    Functions that accept a table (``returns``, ``align``, ``rolling_regress``, ``factor_betas``, ``two_pass``)
    accept it too, read it in blocks of 256 or 512 assets, and write Parquet.

    Parameters
    ----------
    path : path or address
        A Parquet file, or a folder of them, sorted by asset and date; :meth:`sort` sorts files. An address such
        as ``s3://bucket/prices`` is opened by Arrow, or by the package fsspec and its filesystems.
    value, asset, date : str
        Columns. Dates are days or instants; a day stands for the period that contains it.
    frequency : str
        Frequency of the data; files written by this package store it and all that follows.
    facts : mapping
        Metadata of the values, as fields of :class:`ultrum.Metadata`: measure, currency, excess_of ...
    max_memory : int or str
        Memory limit of the process, in bytes or as text such as ``"2 GB"``.
    progress : callable, optional
        Called for every block; by default a line on the terminal.
    executor : concurrent.futures.Executor, optional
        Executor for the blocks; by default a pool of threads of this process, one per core. The results are
        bit-identical for all executors. Processes and clusters need access to the files.
    workers : int, optional
        Number of blocks in progress at one time; by default the number of cores of this machine.

    Raises
    ------
    TableError
        If the file, a column or the order of rows is wrong.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> excess = ul.practice.panel().excess
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     table = LongTable.write(excess, f"{folder}/excess.parquet")
    ...     len(table.assets), table.rows
    (23, 5522)
    """

    kind_in_words: ClassVar[str] = "a LongTable"
    path: str | os.PathLike[str]
    value: str = ""
    asset: str = "asset"
    date: str = "date"
    frequency: str = ""
    facts: dict[str, Any] = field(default_factory=dict)
    max_memory: int | str = DEFAULT
    progress: Progress | None = None
    executor: Executor | None = None
    workers: int | None = None

    def __post_init__(self) -> None:
        bytes_of(self.max_memory)
        if self.workers is not None and self.workers < 1:
            raise ArgumentError(f"workers is {self.workers}; it must be 1 or more.")
        schema = self._files[0].schema()
        stored = facts_in(schema)
        for name in ("value", "frequency"):
            if not getattr(self, name):
                object.__setattr__(self, name, stored.get(name, ""))
        object.__setattr__(self, "facts", {**facts_from(stored.get("facts", {})), **self.facts})
        if not self.value or not self.frequency:
            raise TableError(
                f"{self.path} does not state its value column and frequency. Set both, such as value='price', "
                "frequency='B'."
            )
        self._check_facts()
        for column in (self.asset, self.date, self.value):
            if column not in schema.names:
                raise TableError(f"{self.path} has no column '{column}'; it has: {choices(schema.names)}.")

    def _check_facts(self) -> None:
        try:
            Metadata(frequency=Frequency.parse(self.frequency), **self.facts)
        except TypeError:
            names = [name for name in Metadata.__dataclass_fields__ if name not in ("name", "frequency")]
            wrong = ", ".join(name for name in self.facts if name not in names)
            raise TableError(
                f"{self.path}: facts has an unknown key '{wrong}'; the keys are: {', '.join(names)}."
            ) from None

    @cached_property
    def _files(self) -> list[Place]:
        return Place.of(self.path).parquet_files()

    @cached_property
    def _index(self) -> Index:
        return Index.of(self._files, self.asset, self.date)

    @property
    def assets(self) -> list[str]:
        """Names of the assets, in the order of the rows."""
        return self._index.names

    @property
    def rows(self) -> int:
        """Number of rows of the data set."""
        return int(self._index.bounds[-1])

    @cached_property
    def calendar(self) -> pd.Index:
        """Every period with a row of some asset."""
        frequency = Frequency.parse(self.frequency)
        return frequency.index(np.unique(frequency.ordinals(EPOCH + self._index.days * DAY)))

    def column(self, value: str) -> LongTable:
        """The same rows with another column as their value.

        Parameters
        ----------
        value : str
            Name of the other column.

        Returns
        -------
        LongTable
            The data set with the other values.
        """
        return replace(self, value=value)

    def beside(self, path: str | os.PathLike[str], value: str = "") -> LongTable:
        """A new data set derived from this one, with the same limits.

        Parameters
        ----------
        path : str or path
            File of the new data set.
        value : str
            Column of its values; by default the same.

        Returns
        -------
        LongTable
            The new data set.
        """
        return LongTable(
            path,
            value,
            max_memory=self.max_memory,
            progress=self.progress,
            executor=self.executor,
            workers=self.workers,
        )

    def nothing(self) -> SeriesTable:
        """An empty table with the same metadata, for checks.

        Returns
        -------
        SeriesTable
            A table without rows.
        """
        metadata = Metadata(name=self.assets[0], frequency=Frequency.parse(self.frequency), **self.facts)
        return SeriesTable.from_arrays(np.empty((0, 1)), self.calendar[:0], [metadata])

    def blocks(self, size: int) -> list[Block]:
        """The table in blocks with a number of assets.

        Parameters
        ----------
        size : int
            Assets a block.

        Returns
        -------
        list of Block
            Blocks, in the order of the file.
        """
        index = self._index
        cuts = range(0, len(index.names), size)
        return [
            Block(
                index.row_groups, self.date, self.value, index.names[k : k + size], index.bounds[k : k + size + 1]
            )
            for k in cuts
        ]

    @cached_property
    def layout(self) -> Layout:
        """Rows placed on the full calendar."""
        return Layout.of(self.calendar, Frequency.parse(self.frequency), self.facts)

    def read(self, assets: list[str]) -> SeriesTable:
        """Some assets as a table in memory.

        Parameters
        ----------
        assets : sequence of str
            Names of the assets, in the given order.

        Returns
        -------
        SeriesTable
            Series, one per asset.

        Raises
        ------
        TableError
            If one is not there.
        """
        rows = {name: k for k, name in enumerate(self.assets)}
        absent = [a for a in assets if a not in rows]
        if absent:
            raise TableError(f"{self.path} has no asset {name_list(absent)}.")
        index = self._index
        parts = [
            self.layout.table(Block(index.row_groups, self.date, self.value, [a], index.bounds[k : k + 2]))
            for a, k in ((a, rows[a]) for a in assets)
        ]
        return SeriesTable.from_arrays(
            np.hstack([p.block for p in parts]), self.calendar, [p.metadata[0] for p in parts]
        )

    def to_frame(self) -> pd.DataFrame:
        """The full data set in memory, with every column, in file order.

        Returns
        -------
        DataFrame
            Every row of the file.
        """
        frame = pd.concat([_whole_file(place) for place in self._files], ignore_index=True)
        return frame.assign(**{self.date: pd.to_datetime(frame[self.date])})

    @classmethod
    def write(cls, table: SeriesTable, path: str | os.PathLike[str], value: str = "value") -> LongTable:
        """Write a table in memory as a long one; missing values are omitted.

        Parameters
        ----------
        table : SeriesTable
            Series to write, one per asset.
        path : str or path
            Parquet file to write.
        value : str
            Name of the column of values.
        """
        with LongWriter(path, value, str(table.frequency)) as writer:
            writer.write(rows_of(table, value), common_facts(table))
        return cls(path)

    @classmethod
    def sort(
        cls,
        source: str | os.PathLike[str],
        path: str | os.PathLike[str],
        *,
        max_memory: int | str = DEFAULT,
        progress: Progress | None = None,
        asset: str = "asset",
        date: str = "date",
        **options: Any,
    ) -> LongTable:
        """Sort Parquet files by asset and date into a new one; needs disk space for two more copies.

        Parameters
        ----------
        source, path : path
            The unsorted file or folder of files, and the new file.
        max_memory : int or str
            Memory to use, in bytes or such as ``"1 GB"``.
        progress : callable, optional
            Called with the finished and the total amount of work.
        asset, date : str
            Names of the columns of assets and of dates.
        **options
            As for the table itself, which is opened afterwards.

        Raises
        ------
        TableError
            If an asset has two rows on one date; nothing is written then.
        """
        files = Place.of(source).parquet_files()
        facts = facts_in(files[0].schema())
        options = {"value": facts.get("value", ""), "frequency": facts.get("frequency", ""), **options}
        with reporting(progress) as tell, LongWriter(path, options["value"], options["frequency"]) as writer:
            Sorting(files, asset, date, bytes_of(max_memory), tell).write(writer)
        return cls(path, asset=asset, date=date, max_memory=max_memory, progress=progress, **options)

    def __repr__(self) -> str:
        days = EPOCH + self._index.days * DAY
        return (
            f"Long table {self.path}: {self.rows:,} rows of {quantity(len(self.assets), 'asset')}, {self.value} "
            f"({Frequency.parse(self.frequency).name}), {days[0]} to {days[-1]}"
        )


def _whole_file(place: Place) -> pd.DataFrame:
    with place.open() as file:
        frame: pd.DataFrame = file.read().to_pandas()
    return frame


# Scheduling of blocks over workers, within a memory limit

B = TypeVar("B")
T = TypeVar("T")
WIDE_BLOCK: Final = 256  # assets laid on a calendar together; fixed, so that results depend on nothing else
_COPIES: Final = 12  # wide tables that lowering a frequency and lining up hold of a block
To = str | os.PathLike[str] | None


def through_blocks(
    table: LongTable, job: Callable[[B], T], blocks: Sequence[B], needs: int, executor: Executor | None = None
) -> Iterator[T]:
    """Results of a job for each block, in order; ``needs`` is the maximum number of bytes per block."""
    executor = executor or table.executor
    most = at_once(bytes_of(table.max_memory), needs, table.workers or cores())
    with reporting(table.progress) as tell:
        label = f"{table.path}, {quantity(len(blocks), 'block')}"
        tell(label)
        yield from each_block(job, blocks, executor, most, lambda text: tell(f"{label}: {text}"))


def wide_needs(table: LongTable) -> int:
    """Maximum number of bytes of a block on the full calendar."""
    return len(table.calendar) * min(WIDE_BLOCK, len(table.assets)) * 8 * _COPIES


def require_output(to: To, function: str) -> str | os.PathLike[str]:
    """The path of the results, which is required."""
    if to is None:
        raise TableError(
            f"{function} of a LongTable writes its results to disk. Set the path, such as to='results.parquet'."
        )
    return to


# Arrays of all periods and assets


class DiskStorage(Storage):
    """Arrays in temporary files without names, whose space is free again when the arrays are."""

    def __init__(self, most_blocks: int) -> None:
        self._maps: list[mmap.mmap] = []
        self.most_blocks = most_blocks

    def new(self, shape: tuple[int, int], kind: type) -> Array:
        """An array of a shape and kind, with any content.

        Raises
        ------
        TableError
            If the disk has not enough space.
        """
        count, size = math.prod(shape), max(1, math.prod(shape) * np.dtype(kind).itemsize)
        with tempfile.TemporaryFile(prefix="ultrum-") as file:
            try:
                reserve = getattr(os, "posix_fallocate", None)  # a full disk is found now, not when it is written
                file.truncate(size) if reserve is None else reserve(file.fileno(), 0, size)
                space = mmap.mmap(file.fileno(), size)
            except OSError as error:
                raise TableError(
                    f"sort_portfolios: {size / 1e9:.1f} GB do not fit into the temporary folder "
                    f"{tempfile.gettempdir()}: {error.strerror}.",
                    fix="Set the environment variable TMPDIR to a folder with more space.",
                ) from error
        self._maps.append(space)
        return np.frombuffer(space, kind, count).reshape(shape)

    def release(self) -> None:
        """Give back the memory of all pages, which are on disk."""
        for space in self._maps if hasattr(mmap, "MADV_DONTNEED") else ():
            space.madvise(mmap.MADV_DONTNEED)
