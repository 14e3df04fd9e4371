"""Long tables written block by block; a file appears whole or not at all."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from contextlib import ExitStack
from types import TracebackType
from typing import Any, Final

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq

from ultrum.core.series.time_series import SeriesTable
from ultrum.errors import TableError, reason
from ultrum.file_access import path_of, replaced_whole
from ultrum.large.file_marks import MARK

_ROWS: Final = 250_000  # of a row group, so that a few assets are read without the rest


class LongWriter:
    """Writes tables of one schema one after another, to a name next to the file until all is there."""

    def __init__(self, path: str | os.PathLike[str], value: str, frequency: str) -> None:
        self.path = path_of(path)
        self._facts = {"value": value, "frequency": frequency}
        self._stack = ExitStack()
        self._arriving = self.path
        self._writer: pq.ParquetWriter | None = None

    def __enter__(self) -> LongWriter:
        self._arriving = self._stack.enter_context(replaced_whole(self.path))
        return self

    def write(self, table: pa.Table, facts: Mapping[str, Any] | None = None) -> None:
        """Add rows; the facts of the first stand for all."""
        try:
            if self._writer is None:
                mark = {MARK: json.dumps({**self._facts, "facts": dict(facts or {})}).encode()}
                schema = table.schema.with_metadata(mark)
                words = [f.name for f in schema if not pa.types.is_floating(f.type)]
                self._writer = pq.ParquetWriter(self._arriving, schema, use_dictionary=words)
            self._writer.write_table(table.cast(self._writer.schema), row_group_size=_ROWS)
        except OSError as error:
            raise TableError(f"{self.path} cannot be written: {reason(error)}.") from error

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._writer is not None:
            self._writer.close()
        elif error is None:
            error = TableError(f"Nothing to write to {self.path}: no asset has a row.")
            self._stack.__exit__(type(error), error, None)
            raise error
        self._stack.__exit__(kind, error, trace)


def ends_of(index: pd.Index) -> Any:
    """Last day of each period, as Parquet has dates."""
    ends = index.to_timestamp(how="end") if isinstance(index, pd.PeriodIndex) else index
    return ends.to_numpy().astype("datetime64[D]")


def names_at(names: list[str], places: Any) -> pa.Array:
    """Names of many rows from a few, each kept once."""
    return pa.DictionaryArray.from_arrays(pa.array(places.astype(np.int32)), pa.array(names, pa.string()))


def rows_of(table: SeriesTable, value: str) -> pa.Table:
    """Rows of a wide table, asset by asset, without those that have no value."""
    block = table.block.T
    assets, rows = np.nonzero(np.isfinite(block))
    columns = {
        "asset": names_at(table.names, assets),
        "date": pa.array(ends_of(table.index)[rows]),
        value: pa.array(block[assets, rows]),
    }
    return pa.table(columns)
