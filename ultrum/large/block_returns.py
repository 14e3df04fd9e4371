"""Returns of the prices of a long table."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import pandas as pd
import pyarrow as pa

from ultrum.core.array_types import DAY, Dates
from ultrum.core.displayed_numbers import counted
from ultrum.core.returns.price_adjustment import unused_events
from ultrum.core.returns.price_returns import Events, returns_and_suspects, warn_of_suspects
from ultrum.core.time.date_parser import days_in
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.gaps import LONGEST_CLOSURE, LONGEST_HOLIDAY, SHARED_BY, missing_weekdays
from ultrum.errors import warn_user
from ultrum.large.asset_index import Block
from ultrum.large.block_scheduler import WIDE_BLOCK, To, through_blocks, wanted, wide_needs
from ultrum.large.block_writer import LongWriter, rows_of
from ultrum.large.calendar_index import Layout
from ultrum.large.file_marks import facts_of
from ultrum.large.long_table import LongTable

_VALUE: Final = "return"


def returns(
    table: LongTable,
    *,
    frequency: str | Frequency | None,
    kind: str,
    dividends: pd.DataFrame | None,
    splits: pd.DataFrame | None,
    final_payments: pd.DataFrame | None,
    stale_after: int,
    trading_days: Any,
    check: bool,
    to: To,
) -> LongTable:
    """Write the returns of every asset, those that exist; suspect days are reported at the end."""
    path = wanted(to, "returns")
    events = Events(dividends, splits, final_payments)
    blocks = [(b, _of_assets(events, b.names)) for b in table.blocks(WIDE_BLOCK)]
    target = Frequency.parse(frequency or table.frequency)
    market = _market_days(table, trading_days)
    job = _Returns(table.layout, target if frequency else None, kind, stale_after, check, market)
    suspects: list[pd.DataFrame] = []
    outside: dict[str, int] = {}
    with LongWriter(path, _VALUE, str(target)) as writer:
        for rows, facts, suspect_days, unused in through_blocks(table, job, blocks, wide_needs(table)):
            writer.write(rows, facts)
            suspects.append(suspect_days)
            outside |= unused
    _warn_of_unused(outside)
    warn_of_suspects(pd.concat(suspects, ignore_index=True))
    return table.beside(path)


@dataclass(frozen=True)
class _Returns:
    """Does one block; can be pickled."""

    layout: Layout
    frequency: Frequency | None
    kind: str
    stale_after: int
    check: bool
    trading_days: Dates | None

    def __call__(
        self, given: tuple[Block, Events]
    ) -> tuple[pa.Table, dict[str, object], pd.DataFrame, dict[str, int]]:
        block, events = given
        prices = self.layout.table(block)
        block_result, suspects = returns_and_suspects(
            prices,
            self.frequency,
            self.kind,
            events,
            self.stale_after,
            self.check,
            self.trading_days,
        )
        unused = unused_events(block_result.metadata)
        return rows_of(block_result, _VALUE), facts_of(block_result.metadata[0]), suspects, unused


def _market_days(table: LongTable, given: Any) -> Dates | None:
    """Trading days of the whole table, so that a gap does not depend on which assets share a block."""
    if given is not None:
        return days_in(given, "trading_days")
    if Frequency.parse(table.frequency).code not in "BD":
        return None
    days = calendar_days(table.calendar)
    limit = LONGEST_CLOSURE if len(table.assets) >= SHARED_BY else LONGEST_HOLIDAY
    holes = np.flatnonzero(missing_weekdays(days) > limit)
    inside = [np.arange(days[row] + DAY, days[row + 1]) for row in holes]
    every = np.concatenate([days, *(part[np.is_busday(part)] for part in inside)])
    return np.asarray(np.sort(every))


def _warn_of_unused(counts: Mapping[str, int]) -> None:
    """A file has no trail for each asset, so unused events are reported here."""
    if counts:
        first = next(iter(counts))
        warn_user(
            f"Dividends or splits outside the prices of their asset, not used: {sum(counts.values()):,}, of "
            f"{counted(len(counts), 'asset')}, {first} among them."
        )


def _of_assets(events: Events, names: list[str]) -> Events:
    """What happened to some assets, so that no worker is sent the rest."""
    tables = (events.dividends, events.splits, events.final_payments)
    return Events(*(_some(t, names) for t in tables))


def _some(table: pd.DataFrame | None, names: list[str]) -> pd.DataFrame | None:
    return table if table is None or "asset" not in table else table[table["asset"].isin(names)]
