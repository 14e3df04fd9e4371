"""Reductions of the rows of each period: sums, products, medians, single rows, and their age.

The reductions read the block as it is in memory, some columns at a time, so that a wide table is
read once and little more than the result is allocated.
"""

from __future__ import annotations

from typing import Final

import numpy as np

from ultrum.core.array_types import DAY, Bools, Dates, Floats, Ints
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_groups import Grouping

_NARROW: Final = 64  # columns up to which a copy by columns is quicker than a walk by rows
_AT_ONCE: Final = 64  # columns reduced at a time, which bounds the memory


def reduce_block(
    block: Floats, columns: Ints, grouping: Grouping, take: np.ufunc, neutral: float
) -> tuple[Floats, Ints]:
    """A reduction of every period and column over its valid values, and how many those are.

    Parameters
    ----------
    block : ndarray, shape (T, N)
        Read as it is in memory: by columns where these are whole, else by rows.
    columns : ndarray of int, shape (M,)
        The columns wanted.
    grouping : Grouping
        G periods.
    take : ufunc
        ``np.add``, ``np.multiply``, ``np.maximum`` or ``np.minimum``.
    neutral : float
        What stands for a missing value where values are left.

    Returns
    -------
    results, counts : ndarray, shape (G, M)
    """
    if not len(grouping.first):
        return np.empty((0, len(columns))), np.empty((0, len(columns)), dtype=np.int64)
    if block.flags.c_contiguous and len(columns) > _NARROW:
        return _by_rows(_columns(block, columns), grouping, take, neutral)
    results = np.empty((len(columns), len(grouping.first)))
    counts = np.empty(results.shape, dtype=np.int64)
    for low in range(0, len(columns), _AT_ONCE):
        inside = slice(low, low + _AT_ONCE)
        part = _columns(block, columns[inside])
        results[inside], counts[inside] = _by_columns(part, grouping, take, neutral)
    return results.T, counts.T


def _columns(block: Floats, columns: Ints) -> Floats:
    """Some columns, without a copy where they lie evenly spaced."""
    steps = np.diff(columns)
    if len(columns) == 1 or (len(columns) and steps[0] > 0 and (steps == steps[0]).all()):
        step = int(steps[0]) if len(steps) else 1
        return block[:, columns[0] : columns[-1] + 1 : step]
    return block.T[columns].T if block.flags.f_contiguous else block.take(columns, axis=1)


def _by_columns(part: Floats, grouping: Grouping, take: np.ufunc, neutral: float) -> tuple[Floats, Ints]:
    """Reductions and counts of shape (M, G), a column's rows after one another."""
    across = part.T
    if across.strides[1] != across.itemsize:
        across = np.ascontiguousarray(across)
    reduced = take.reduceat(across, grouping.first, axis=1)
    counts = np.empty(reduced.shape, dtype=np.int64)
    counts[:] = grouping.size
    torn = np.flatnonzero(~np.isfinite(reduced).all(axis=1))
    if len(torn):
        valid = np.isfinite(across[torn])
        filled = np.where(valid, across[torn], neutral)
        reduced[torn] = take.reduceat(filled, grouping.first, axis=1)
        counts[torn] = np.add.reduceat(valid.astype(np.int32), grouping.first, axis=1)
    return reduced, counts


def _by_rows(part: Floats, grouping: Grouping, take: np.ufunc, neutral: float) -> tuple[Floats, Ints]:
    """Reductions and counts of shape (G, M), a period's rows at a time."""
    reduced = np.empty((len(grouping.first), part.shape[1]))
    counts = np.empty(reduced.shape, dtype=np.int64)
    counts[:] = grouping.size[:, None]
    for g, (low, size) in enumerate(zip(grouping.first, grouping.size, strict=True)):
        rows = part[low : low + size]
        take.reduce(rows, axis=0, out=reduced[g])
        torn = np.flatnonzero(~np.isfinite(reduced[g]))
        if len(torn):
            holed = rows.take(torn, axis=1)
            valid = np.isfinite(holed)
            reduced[g, torn] = take.reduce(np.where(valid, holed, neutral), axis=0)
            counts[g, torn] = valid.sum(axis=0)
    return reduced, counts


def median_block(block: Floats, columns: Ints, grouping: Grouping) -> tuple[Floats, Ints]:
    """Medians of valid values and counts."""
    results, counts = reduce_block(block, columns, grouping, np.add, 0.0)
    for g, (low, size) in enumerate(zip(grouping.first, grouping.size, strict=True)):
        part = block[low : low + size][:, columns]
        seen = counts[g] > 0
        results[g, seen] = np.nanmedian(part[:, seen], axis=0)
    return results, counts


def take_rows(block: Floats, rows: Ints, columns: Ints) -> Floats:
    """Some rows of some columns, in the order in which the block lies."""
    if len(columns) == block.shape[1] and block.flags.c_contiguous:
        return block[rows]
    return block[np.ix_(rows, columns)]


def earlier_rows(x: SeriesTable, columns: Ints, last: Floats, grouping: Grouping) -> tuple[Ints, Ints, Ints]:
    """Where the last row of a period has no value but an earlier one has: period, column's place, row.

    Periods before a series begins, or after it ends, are passed over unread.
    """
    begins, ends = (bound[columns] for bound in x.bounds)
    holed = ~np.isfinite(last)
    holed &= (grouping.last[:, None] > begins) & (grouping.first[:, None] <= ends)
    block, pieces = x.block, [np.empty((3, 0), dtype=np.int64)]
    for g in np.flatnonzero(holed.any(axis=1)):
        places = np.flatnonzero(holed[g])
        low, size = grouping.first[g], grouping.size[g]
        valid = np.isfinite(block[low : low + size].take(columns[places], axis=1))
        there = np.flatnonzero(valid.any(axis=0))
        back = np.argmax(valid[::-1, there], axis=0)
        pieces.append(np.stack([np.full(len(there), g), places[there], low + size - 1 - back]))
    period, place, row = np.concatenate(pieces, axis=1)
    return period, place, row


def weekdays_after(days: Dates, ends: Dates) -> Ints:
    """Weekdays after each day up to and including its period's end."""
    return np.asarray(np.busday_count(days + DAY, ends + DAY), dtype=np.int64)


def too_old(
    x: SeriesTable,
    grouping: Grouping,
    target: Frequency,
    rows: Ints,
    ordinals: Ints,
    stale_after: int,
) -> Bools:
    """Whether rows are too long before their period's end to stand for it."""
    if target.code in "HN":
        return np.zeros(len(rows), dtype=bool)
    ends = target.ends(ordinals)
    if x.frequency.is_dated or x.frequency.code == "W":
        return weekdays_after(grouping.days[rows], ends) > stale_after
    return np.asarray(grouping.days[rows] != ends)


def too_late(x: SeriesTable, grouping: Grouping, target: Frequency, stale_after: int) -> Bools:
    """Periods whose first row is too long after their start to stand for it."""
    if target.code in "HN":
        return np.zeros(len(grouping.ordinals), dtype=bool)
    starts = target.starts(grouping.ordinals)
    if x.frequency.is_dated or x.frequency.code == "W":
        return np.asarray(np.busday_count(starts, grouping.days[grouping.first]) > stale_after)
    return np.asarray(x.frequency.starts(x.ordinals[grouping.first]) != starts)
