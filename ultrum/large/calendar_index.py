"""Calendar index: rows of a block as a wide table, or a few columns at a time."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from ultrum.core.array_types import DAY, Bools, Ints
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.frequency import Frequency
from ultrum.errors import TableError
from ultrum.large.asset_index import EPOCH, Block


@dataclass(frozen=True)
class Layout:
    """How rows of a block are laid on the calendar as a wide table, anywhere."""

    index: pd.Index
    frequency: Frequency
    facts: dict[str, Any]
    places: Places

    @classmethod
    def of(cls, index: pd.Index, frequency: Frequency, facts: dict[str, Any]) -> Layout:
        """The layout on a calendar."""
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
    """Each row has a period of its own, and, where the ``whole`` calendar is theirs, each has one."""
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
            "calendar. Set the frequency that the data have; returns and align lower it."
        )


@dataclass(frozen=True)
class Places:
    """Rows of a calendar by day, looked up in one step."""

    first: int
    table: Ints

    @classmethod
    def of(cls, index: pd.Index, frequency: Frequency) -> Places:
        """Of every day from the first to the last of a calendar; −1 where it is in none of its periods."""
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
