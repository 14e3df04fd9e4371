"""External sort of Parquet files by asset and date."""

from __future__ import annotations

import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from ultrum.core.executors import Progress
from ultrum.errors import TableError, UltrumError
from ultrum.large.long_files import LongWriter
from ultrum.large.memory_and_progress import BASE

_COPIES: Final = 5  # of a part, while it is sorted
_MOST_PARTS: Final = 500  # files open at one time


@dataclass(frozen=True)
class Sorting:
    """Rows are first divided into parts by ranges of assets that fit into memory; then each part is sorted."""

    files: list[Path]
    asset: str
    date: str
    max_memory: int
    tell: Progress

    def write(self, writer: LongWriter) -> None:
        """Write all rows, with every column, sorted."""
        counts, size = self._count_rows()
        bounds = _ranges(counts, (self.max_memory - BASE) // (_COPIES * size))
        with tempfile.TemporaryDirectory(prefix=".sorting-", dir=writer.path.parent) as folder:
            parts = self._partition(bounds, Path(folder))
            for number, part in enumerate(parts, 1):
                self.tell(f"sorting part {number} of {len(parts)}")
                self._sort_part(part, writer)

    def _tables(self, columns: list[str] | None = None) -> Iterator[pa.Table]:
        for path in self.files:
            with pq.ParquetFile(path, read_dictionary=[self.asset]) as file:
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
        schema = pa.unify_schemas([pq.read_schema(f) for f in self.files]).remove_metadata()
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
