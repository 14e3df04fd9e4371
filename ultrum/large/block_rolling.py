"""Rolling regressions of every asset of a long table."""

from __future__ import annotations

from concurrent.futures import Executor
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import pandas as pd
import pyarrow as pa

from ultrum.core.array_types import Floats, Ints
from ultrum.core.regression import inputs
from ultrum.core.regression.fit import CONSTANT
from ultrum.core.regression.rolling_regression import RollingPlan, on_calendar
from ultrum.core.regression.rolling_result import STATUS
from ultrum.core.time.frequency import Frequency
from ultrum.large.asset_index import Block
from ultrum.large.block_scheduler import To, through_blocks, wanted
from ultrum.large.block_writer import LongWriter, ends_of, names_at
from ultrum.large.calendar_index import Places, check_periods
from ultrum.large.long_table import LongTable

_BLOCK: Final = 512  # assets; fixed, as is the next: results depend neither on memory nor on who works
_GROUP: Final = 128  # assets that begin at about the same time, and are laid on the calendar together
_PER_ROW: Final = 40  # bytes that a row of a block takes while it is read
_COPIES: Final = 8  # arrays of a group's size that the kernels hold


def rolling_regress(
    table: LongTable,
    *,
    X: Any,
    window: int | str,
    min_obs: int | None,
    errors: str,
    lags: int | None,
    half_life: float | None,
    step: int | str,
    constant: bool,
    executor: Executor | None,
    to: To,
) -> LongTable:
    """Write a row for each asset and each window in which it has data."""
    path = wanted(to, "rolling_regress")
    inputs.check_excess(table.nothing(), X)
    right, _ = inputs.frame_of(X, "x")
    left, right, _ = inputs.matched(pd.DataFrame(index=table.calendar), right)
    design = inputs.with_constant(right) if constant else right
    left, design = on_calendar(left, design)
    plan = RollingPlan.of(design, window, min_obs, errors, lags, half_life, step, constant)
    job = _Rolling(plan, Places.of(design.index, Frequency.parse(table.frequency)), ends_of(plan.ends))
    columns = len(design) * 8 * (_GROUP * _COPIES + plan.X.shape[1] ** 2)
    results = len(plan.starts) * _BLOCK * 8 * (2 * plan.X.shape[1] + 5)
    blocks = table.blocks(_BLOCK)
    needs = max(b.count for b in blocks) * _PER_ROW + columns + 2 * results
    parts = through_blocks(table, job, blocks, needs, executor)
    first = next((t for t in plan.terms if t != CONSTANT), plan.terms[0])
    frequency = step if isinstance(step, str) else table.frequency
    with LongWriter(path, first, frequency) as writer:
        for rows in parts:
            writer.write(rows)
    return table.beside(path, first)


@dataclass(frozen=True)
class _Rolling:
    """Does one block; can be pickled."""

    plan: RollingPlan
    places: Places
    ends: Any

    def __call__(self, block: Block) -> pa.Table:
        days, values, bounds = block.rows()
        rows = self.places.rows(days)
        check_periods(block, days, rows, bounds, whole=False)
        first, last = _spans(rows, bounds)
        alive = np.flatnonzero(last >= 0)
        order = alive[np.argsort(first[alive], kind="stable")]
        parts = []
        for low in range(0, len(order), _GROUP):
            some = order[low : low + _GROUP]
            plan, start, window = self.plan.within(int(first[some].min()), int(last[some].max()) + 1)
            Y = np.full((len(some), len(plan.X)), np.nan)  # by asset, where its rows follow each other
            for row, k in zip(Y, some, strict=True):
                _lay(row, rows[bounds[k] : bounds[k + 1]] - start, values[bounds[k] : bounds[k + 1]])
            parts.append(_Found.of(plan, Y.T, some, window))
        return self._table(block.names, parts)

    def _table(self, names: list[str], parts: list[_Found]) -> pa.Table:
        """Rows of all groups, by asset and date."""
        assets = _joined([part.assets for part in parts])
        windows = _joined([part.windows for part in parts])
        order = np.lexsort((windows, assets))
        columns = {
            "asset": names_at(names, assets[order]),
            "date": pa.array(self.ends[windows[order]]),
        }
        for name in _names_of(self.plan):
            column = _joined([part.columns[name] for part in parts])[order]
            words = name == "status"
            columns[name] = names_at(list(STATUS), column) if words else pa.array(column)
        return pa.table(columns)


@dataclass(frozen=True)
class _Found:
    """Estimates of a group in rows."""

    assets: Ints
    windows: Ints
    columns: dict[str, Any]

    @classmethod
    def of(cls, plan: RollingPlan, Y: Floats, assets: Ints, window: int) -> _Found:
        """Those of windows with data; ``window`` is the number of the plan's first."""
        estimates = plan.estimates(Y)
        which, where = np.nonzero(estimates.nobs.T > 0)
        columns: dict[str, Any] = {}
        for k, term in enumerate(plan.terms):
            columns[term] = estimates.coefficients[where, k, which]
            columns[f"{term}_error"] = estimates.standard_errors[where, k, which]
        columns |= {"rows": estimates.nobs[where, which], "sigma": estimates.sigma[where, which]}
        columns |= {"r2": estimates.r2[where, which], "status": estimates.status[where, which]}
        return cls(assets[which], where + window, columns)


def _lay(line: Floats, rows: Ints, values: Floats) -> None:
    """Put values at their rows; those that are outside are left out."""
    if rows.min() >= 0 and rows[-1] < len(line) and rows[-1] - rows[0] + 1 == len(rows):
        line[rows[0] : rows[-1] + 1] = values  # every one after the other, since each has its own
        return
    inside = (rows >= 0) & (rows < len(line))
    line[rows[inside]] = values[inside]


def _joined(parts: list[Any]) -> Any:
    return np.concatenate(parts) if parts else np.zeros(0, np.int64)


def _names_of(plan: RollingPlan) -> list[str]:
    terms = [name for t in plan.terms for name in (t, f"{t}_error")]
    return [*terms, "rows", "sigma", "r2", "status"]


def _spans(rows: Ints, bounds: Ints) -> tuple[Ints, Ints]:
    """First and last row of the calendar that each asset has; −1 for the last where it has none."""
    assets = len(bounds) - 1
    first, last = np.zeros(assets, np.int64), np.full(assets, -1)
    for k in range(assets):
        places = rows[bounds[k] : bounds[k + 1]]
        valid = places[places >= 0]
        if len(valid):
            first[k], last[k] = valid[0], valid[-1]
    return first, last
