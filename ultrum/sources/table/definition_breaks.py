"""Series split where a definition changes, stated or detected."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from ultrum.core.array_types import Array
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.frequency import Frequency, parse_period


def split_at_breaks(
    fields: dict[str, SeriesTable],
    detected: set[int],
    declared: Sequence[str],
    frequency: Frequency,
) -> dict[str, SeriesTable]:
    """Series in parts, each named by its start.

    Parameters
    ----------
    fields : mapping of str to SeriesTable
    detected : set of int
        Ordinals of the periods at which the table marks a change.
    declared : sequence of str
        Given periods.
    frequency : Frequency
    """
    cuts = sorted(detected | _declarations(declared, frequency))
    if not cuts:
        return fields
    parted: dict[str, SeriesTable] = {}
    for column, table in fields.items():
        edges = [-(2**62), *cuts, 2**62]
        for low, high in itertools.pairwise(edges):
            inside = (table.ordinals >= low) & (table.ordinals < high)
            if inside.any():
                parted.update(_part(column, table, inside, frequency))
    return parted


def _declarations(periods: Sequence[str], frequency: Frequency) -> set[int]:
    days = [parse_period(text)[1] for text in periods]
    return {int(o) for o in frequency.ordinals(np.array(days))} if days else set()


def _part(column: str, table: SeriesTable, inside: Array, frequency: Frequency) -> dict[str, SeriesTable]:
    index = table.index[inside]
    label = frequency.labels(table.ordinals[inside][:1])[0]
    named = f"{column} from {label}"
    metadata_list = [
        a.add_step(
            "split where the definition changes",
            {"name": named if a.name == column else a.name},
            at=label,
        )
        for a in table.metadata
    ]
    return {named: SeriesTable.from_arrays(table.block[inside].copy(), index, metadata_list)}
