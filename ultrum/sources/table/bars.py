"""Price bars (OHLC) without a header, identified by high ≥ open, close ≥ low."""

from __future__ import annotations

from dataclasses import replace
from typing import Final

import numpy as np

from ultrum.core.array_types import Floats
from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import column_array
from ultrum.sources.table.composite_dates import date_cells
from ultrum.sources.table.header_line import Heading
from ultrum.sources.table.number_formats import read_numbers
from ultrum.sources.table.table_detection import Block

NAMES: Final = ("open", "high", "low", "close", "volume", "open interest")


def name_bars(block: Block, where: str) -> Block:
    """The block, with names if it has none and its columns are unambiguously bars.

    Raises
    ------
    TableError
        If it has no heading, and its columns are ambiguous.
    """
    if not block.heading.missing:
        return block
    width = len(block.rows[0])
    bare = replace(block, heading=Heading([f"{k}" for k in range(width)]))
    dated = date_cells(bare).used
    values = [k for k in range(width) if k not in dated]
    if not _are_bars(block, values):
        first = " ".join(cell_text(c) for c in block.rows[0])
        raise TableError(
            f"{where}: the table that starts on line {block.lines[0]} has no header; its first row is "
            f"'{first}'. Set the names of its {width} columns with columns=[...]; if it continues the table "
            "above at another frequency, set another column of dates with date_column=..."
        )
    names = ["date", *["time"] * (len(dated) - 1), *NAMES[: len(values)]]
    bar_names = (
        "columns",
        f"bars without a header: {', '.join(NAMES[: len(values)])}; high is highest, low lowest",
    )
    return replace(block, heading=Heading(names), decisions=[*block.decisions, bar_names])


def _are_bars(block: Block, values: list[int]) -> bool:
    """Whether four to six columns of numbers are open, high, low, close, volume, open interest."""
    if not 4 <= len(values) <= 6 or values != list(range(values[0], values[0] + len(values))):
        return False
    columns = []
    for mark in (".", ","):
        read = [read_numbers(column_array([r[k] for r in block.rows]), mark, frozenset()) for k in values]
        columns = [r.values for r in read]
        if not any(np.isinf(c).any() for c in columns):
            break
    return not any(np.isinf(c).any() for c in columns) and has_bar_order(columns)


def has_bar_order(columns: list[Floats]) -> bool:
    """Whether second and third columns bound the first and fourth, and some bar has a range."""
    opens, high, low, close = columns[:4]
    complete = np.isfinite(opens) & np.isfinite(high) & np.isfinite(low) & np.isfinite(close)
    if complete.sum() < 3:
        return False
    o, h, lo, c = opens[complete], high[complete], low[complete], close[complete]
    bounded = bool((h >= np.maximum(o, c)).all() and (lo <= np.minimum(o, c)).all())
    ranged = bool((h > lo).mean() > 0.2)
    sizes = [col[np.isfinite(col)] for col in columns[4:]]
    counts = all(len(s) == 0 or ((s >= 0).all() and np.median(s) > 0) or (s == 0).all() for s in sizes)
    return bounded and ranged and counts
