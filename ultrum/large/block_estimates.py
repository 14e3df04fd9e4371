"""Returns, rolling regressions, betas and premia of data on disk, block by block."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, fields, replace
from typing import Final, Generic, Literal, TypeVar

import numpy as np
import pandas as pd
import pyarrow as pa

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import DAY, Array, Dates, Floats, Ints
from ultrum.core.portfolios.breakpoints_and_holdings import ROWS_AT_ONCE, Storage
from ultrum.core.portfolios.formation import Rules, groups_of, total_returns
from ultrum.core.portfolios.sorted_portfolios import SortedPortfolios, sort_by_rules
from ultrum.core.presentation import quantity
from ultrum.core.pricing.cross_sections import Blocks, Exposure, Work, sections_of
from ultrum.core.pricing.factor_betas_and_shrinkage import chosen_factors
from ultrum.core.pricing.factor_betas_and_shrinkage import factor_betas as betas_in_memory
from ultrum.core.pricing.two_pass import characteristic, moving_betas, with_errors, without_test
from ultrum.core.pricing.two_pass_result import Slopes, TwoPass, TwoPassPlan, two_pass_of
from ultrum.core.pricing.two_pass_standard_errors import shanken
from ultrum.core.regression import inputs
from ultrum.core.regression.beta_table import BetaTable, ColumnEstimates
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.inputs import CONSTANT, Observations, observations_of, with_constant
from ultrum.core.regression.regress import Rule, estimate_columns, rule_of
from ultrum.core.regression.rolling_regression import STATUS, RollingPlan, on_calendar
from ultrum.core.regression.unit_roots_and_design_warnings import warn_of_copies
from ultrum.core.returns.price_adjustment_and_errors import events_not_used, warn_of_unknown_assets
from ultrum.core.returns.price_log_and_excess_returns import Events, returns_and_suspects, warn_of_suspects
from ultrum.core.series.input_checks import asset_codes
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.index_frequency_and_gaps import (
    LONGEST_CLOSURE,
    LONGEST_HOLIDAY,
    SHARED_BY,
    missing_weekdays,
)
from ultrum.core.time.period_labels_and_relative_dates import days_in
from ultrum.errors import EstimationError, TableError, warn_user
from ultrum.large.long_files import BASE, Block, LongWriter, bytes_of, ends_of, facts_of, names_at, rows_of
from ultrum.large.long_panel import LongPanel
from ultrum.large.long_table import (
    WIDE_BLOCK,
    DiskStorage,
    Layout,
    LongTable,
    Places,
    To,
    check_periods,
    require_output,
    through_blocks,
    wide_needs,
)

T = TypeVar("T")


@dataclass(frozen=True, eq=False, repr=False)
class LongBetas(BetaTable):
    """As :class:`ultrum.BetaTable`; the returns stay on disk and are read asset by asset on request."""

    edges: pd.DataFrame = field(default_factory=pd.DataFrame)
    panel: LongPanel | None = None
    lags_setting: int | str | None = None

    @property
    def residuals(self) -> pd.DataFrame:
        """Too many to hold.

        Raises
        ------
        EstimationError
            Always; the message names the method for a single asset.
        """
        raise EstimationError(
            f"Residuals of {len(self.assets):,} assets are not stored. Use fit(asset).residuals for one asset."
        )

    def fit(self, asset: Hashable) -> Fit:
        """Regression of one asset, identical to :func:`ultrum.regress` on that asset alone."""
        if self.panel is None or asset not in self.names:
            raise EstimationError(f"No asset '{asset}'; there are {len(self.assets):,}.")
        factors = [str(t) for t in self.regressors.names[1:]]
        panel = self.panel.read([str(asset)])
        return betas_in_memory(panel, factors, errors=self.errors, lags=self.lags_setting).fit(asset)

    def _edge(self, which: int) -> pd.Series:
        return self.edges["first" if which == 0 else "last"]


def factor_betas(
    panel: LongPanel, *, factors: Sequence[str] | None, errors: str, lags: int | str | None
) -> LongBetas:
    """Regress the assets of each block and combine the tables."""
    names = chosen_factors(panel, factors)
    design = with_constant(observations_of(panel.factors[names], "x")[0])
    rule = rule_of(errors, lags, None, None, design.index)
    job = _Betas(_layout(panel), design, rule)
    blocks = panel.excess.blocks(WIDE_BLOCK)
    parts = list(through_blocks(panel.excess, job, blocks, wide_needs(panel.excess)))
    warn_of_copies(design)
    losses = pd.concat([p.dropped for p in parts]).fillna(0).astype(np.int64)
    return LongBetas(
        estimates=ColumnEstimates.join([p.estimates for p in parts]),
        names=tuple(name for part in parts for name in part.names),
        terms=design.names,
        observed=parts[0].observed,
        regressors=design,
        losses={str(cause): losses[cause].to_numpy() for cause in losses},
        errors=rule.errors,
        edges=pd.concat([p.edges for p in parts]),
        panel=panel,
        lags_setting=lags,
    )


@dataclass(frozen=True)
class _Betas:
    """Processes one block; can be pickled."""

    layout: Layout
    design: Observations
    rule: Rule

    def __call__(self, block: Block) -> LongBetas:
        left, _ = observations_of(self.layout.table(block), "y")
        table = estimate_columns(left, self.design, self.rule, part=True)
        facts = {f.name: getattr(table, f.name) for f in fields(table)}
        facts["observed"] = Observations(left.values[:, :0], left.index, left.names[:0])
        return LongBetas(**facts, edges=pd.DataFrame({"first": table.first, "last": table.last}))


def two_pass(
    panel: LongPanel,
    *,
    factors: Sequence[str] | None,
    characteristics: Mapping[str, pd.DataFrame] | None,
    beta_sample: str,
    window: int,
    constant: bool,
    lags: int | None,
    errors: str | None,
    weighting: str,
    **_draws: int,
) -> TwoPass:
    """Sum the moments of every block's cross-sections, with the standard errors that the panel allows."""
    if weighting != "ols" or errors == "misspecification":
        raise EstimationError(
            "errors='misspecification' and weighting='gls' need a panel in memory. Read some assets with "
            "panel.read([...])."
        )
    plan = TwoPassPlan.of(panel, factors, characteristics, beta_sample, window, constant, lags)
    given = dict(characteristics or {})
    table = None
    if plan.whole_sample:
        table = factor_betas(panel, factors=plan.factors, errors="classical", lags=None)
    sections = sections_of(_OnDisk(panel, plan, table, given), constant)
    slopes = Slopes.of(sections, plan, panel.risk_free.index)
    covariances = slopes.plain(plan)
    kind = "newey_west"
    whole = len(panel.risk_free) * len(panel.asset_names)
    F = panel.factors[plan.factors].to_numpy(dtype=np.float64)
    if table is not None and not given and panel.excess.rows == whole and np.isfinite(F).all():
        kind = "shanken"
        covariances[kind] = shanken(covariances["fama_macbeth"], slopes.mean, F[slopes.kept], constant)
    estimate = two_pass_of(panel, plan, sections, slopes, covariances, kind, table)
    estimate = without_test(estimate, "data on disk") if plan.factors else estimate
    return estimate if errors is None else with_errors(estimate, errors, covariances)


@dataclass(frozen=True)
class _OnDisk(Blocks):
    """Returns and exposures of a panel on disk, read again for each task."""

    panel: LongPanel
    plan: TwoPassPlan
    table: BetaTable | None
    characteristics: Mapping[str, pd.DataFrame]

    def each(self, work: Work[T]) -> Iterable[T]:
        """Workers of the data set."""
        excess, names = self.panel.excess, self.plan.factors
        moving = self.panel.factor_table.select(names) if names and self.table is None else None
        job = _Section(_layout(self.panel), moving, self.plan.window, work)
        blocks = [self._worker_input(block) for block in excess.blocks(WIDE_BLOCK)]
        return through_blocks(excess, job, blocks, 2 * wide_needs(excess))

    def _worker_input(self, block: Block) -> _Given:
        """The parts of a block that a worker needs."""
        betas = np.empty((len(block.names), 0))
        if self.table is not None:
            betas = self.table.coefficients.loc[block.names, self.plan.factors].to_numpy()
        index = self.panel.risk_free.index
        characteristics = [characteristic(index, block.names, n, f) for n, f in self.characteristics.items()]
        return _Given(block, [*(Exposure(b) for b in betas.T), *characteristics])


@dataclass(frozen=True)
class _Given:
    """A block and the known exposures of it."""

    block: Block
    exposures: list[Exposure]


@dataclass(frozen=True)
class _Section(Generic[T]):
    """Processes one block; can be pickled."""

    layout: Layout
    moving: SeriesTable | None
    window: int
    work: Work[T]

    def __call__(self, given: _Given) -> T:
        excess = self.layout.table(given.block)
        betas = [] if self.moving is None else moving_betas(excess, self.moving, self.window)
        return self.work(excess.block, [*betas, *given.exposures])


def _layout(panel: LongPanel) -> Layout:
    return Layout.of(panel.risk_free.index, panel.frequency, panel.excess.facts)


# Returns of the prices of a long table

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
    trading_days: object,
    check: bool,
    to: To,
) -> LongTable:
    """Write the existing returns of every asset; suspicious days are reported at the end."""
    path = require_output(to, "returns")
    events = Events(dividends, splits, final_payments)
    warn_of_unknown_assets({"amount": dividends, "ratio": splits}, table.assets)
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
    _warn_of_idle_events(outside)
    warn_of_suspects(pd.concat(suspects, ignore_index=True))
    return table.beside(path)


@dataclass(frozen=True)
class _Returns:
    """Processes one block; can be pickled."""

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
            prices, self.frequency, self.kind, events, self.stale_after, self.check, self.trading_days
        )
        unused = events_not_used(block_result.metadata)
        return rows_of(block_result, _VALUE), facts_of(block_result.metadata[0]), suspects, unused


def _market_days(table: LongTable, given: object) -> Dates | None:
    """Trading days of the whole table, so that gaps do not depend on the assets of a block."""
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


def _warn_of_idle_events(counts: Mapping[str, int]) -> None:
    """A file has no provenance for each asset, so unused events are reported here."""
    if counts:
        first = next(iter(counts))
        warn_user(
            f"Dividends or splits outside the prices of their asset, not used: {sum(counts.values()):,}, of "
            f"{quantity(len(counts), 'asset')}, {first} among them."
        )


def _of_assets(events: Events, names: list[str]) -> Events:
    """Corporate events of some assets; a worker receives only those."""
    tables = (events.dividends, events.splits, events.final_payments)
    return Events(*(_some(t, names) for t in tables))


def _some(table: pd.DataFrame | None, names: list[str]) -> pd.DataFrame | None:
    return table if table is None or "asset" not in table else table[asset_codes(table["asset"]).isin(names)]


# Rolling regressions of every asset of a long table

_BLOCK: Final = 512  # assets; fixed, as is the next: results depend neither on memory nor on who works
_GROUP: Final = 128  # assets that begin at about the same time, and are laid on the calendar together
_PER_ROW: Final = 40  # bytes that a row of a block takes while it is read
_COPIES: Final = 8  # arrays of a group's size that the kernels hold


def rolling_regress(
    table: LongTable,
    *,
    X: object,
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
    """Write one row for each asset and each window with data."""
    path = require_output(to, "rolling_regress")
    empty = table.nothing()
    inputs.check_excess(empty, X)
    right, _ = inputs.observations_of(X, "x")
    calendar = Observations(np.empty((len(table.calendar), 0)), table.calendar, ())
    left, right, _ = inputs.match_rows(calendar, right)
    design = inputs.with_constant(right) if constant else right
    left, design = on_calendar(left, design)
    plan = RollingPlan.of(design, window, min_obs, errors, lags, half_life, step, constant)
    places = Places.of(design.index, Frequency.parse(table.frequency))
    job = _Rolling(plan, places, ends_of(plan.ends), design.index, empty.metadata[0])
    columns = len(design.index) * 8 * (_GROUP * _COPIES + plan.X.shape[1] ** 2)
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
    """Processes one block; can be pickled."""

    plan: RollingPlan
    places: Places
    ends: Dates
    index: pd.Index
    metadata: Metadata

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
            metadata = [replace(self.metadata, name=block.names[k]) for k in some]
            shown = self.index[start : start + len(plan.X)]
            inputs.check_declared_returns(SeriesTable.from_arrays(Y.T, shown, metadata))
            parts.append(_Found.of(plan, Y.T, some, window))
        return self._table(block.names, parts)

    def _table(self, names: list[str], parts: list[_Found]) -> pa.Table:
        """Rows of all groups, sorted by asset and date."""
        assets = _join_parts([part.assets for part in parts])
        windows = _join_parts([part.windows for part in parts])
        order = np.lexsort((windows, assets))
        columns = {"asset": names_at(names, assets[order]), "date": pa.array(self.ends[windows[order]])}
        for name in _names_of(self.plan):
            column = _join_parts([part.columns[name] for part in parts])[order]
            words = name == "status"
            columns[name] = names_at(list(STATUS), column) if words else pa.array(column)
        return pa.table(columns)


@dataclass(frozen=True)
class _Found:
    """Estimates of a group, as rows."""

    assets: Ints
    windows: Ints
    columns: dict[str, Array]

    @classmethod
    def of(cls, plan: RollingPlan, Y: Floats, assets: Ints, window: int) -> _Found:
        """Rows of windows with data; ``window`` is its number in the plan."""
        estimates = plan.estimates(Y)
        which, where = np.nonzero(estimates.nobs.T > 0)
        columns: dict[str, Array] = {}
        for k, term in enumerate(plan.terms):
            columns[term] = estimates.coefficients[where, k, which]
            columns[f"{term}_error"] = estimates.standard_errors[where, k, which]
        columns |= {"rows": estimates.nobs[where, which], "sigma": estimates.sigma[where, which]}
        columns |= {"r2": estimates.r2[where, which], "status": estimates.status[where, which]}
        return cls(assets[which], where + window, columns)


def _lay(line: Floats, rows: Ints, values: Floats) -> None:
    """Place values at their rows; those outside are omitted."""
    if rows.min() >= 0 and rows[-1] < len(line) and rows[-1] - rows[0] + 1 == len(rows):
        line[rows[0] : rows[-1] + 1] = values  # every one after the other, since each has its own
        return
    inside = (rows >= 0) & (rows < len(line))
    line[rows[inside]] = values[inside]


def _join_parts(parts: list[Array]) -> Array:
    return np.concatenate(parts) if parts else np.zeros(0, np.int64)


def _names_of(plan: RollingPlan) -> list[str]:
    terms = [name for t in plan.terms for name in (t, f"{t}_error")]
    return [*terms, "rows", "sigma", "r2", "status"]


def _spans(rows: Ints, bounds: Ints) -> tuple[Ints, Ints]:
    """First and last calendar row of each asset; −1 as the last for an asset without rows."""
    assets = len(bounds) - 1
    first, last = np.zeros(assets, np.int64), np.full(assets, -1)
    for k in range(assets):
        places = rows[bounds[k] : bounds[k + 1]]
        valid = places[places >= 0]
        if len(valid):
            first[k], last[k] = valid[0], valid[-1]
    return first, last


@validate_arguments
def sort_portfolios(
    table: LongTable,
    *,
    characteristics: Mapping[str, str | SeriesTable | pd.DataFrame],
    groups: int | Sequence[float] | Mapping[str, int | Sequence[float]],
    cutoffs: Mapping[str, Sequence[float]] | None,
    order: Literal["independent", "dependent"],
    formation: str,
    hold_for: int | str | None,
    weights: str | SeriesTable | pd.DataFrame,
    cap: float | None,
    rebalance: bool,
    universe: pd.DataFrame | None,
    exclude: Mapping[str, Sequence[str]] | None,
    breakpoints_from: Sequence[str] | SeriesTable | pd.DataFrame | None,
    prices: str | SeriesTable | pd.DataFrame | None,
    min_price: float | None,
    delisting_returns: pd.DataFrame | None,
    min_assets: int,
) -> SortedPortfolios:
    """Portfolios of returns on disk; characteristics, weights and prices can be columns of the same files.

    Every column that the sort uses is read once, in blocks of assets. A formation compares all assets, so the
    columns are laid out by period: in memory where that is allowed, otherwise in temporary files.
    """
    storage = _storage_for(table, [*characteristics.values(), weights, prices, breakpoints_from])

    def _whole(one: str | SeriesTable | pd.DataFrame) -> SeriesTable | pd.DataFrame:
        return _laid_out(table, one, storage) if isinstance(one, str) else one

    measured = {name: _whole(one) for name, one in characteristics.items()}
    return sort_by_rules(
        total_returns(_laid_out(table, table.value, storage)),
        measured,
        groups_of(measured, groups, cutoffs),
        Rules(
            formation,
            hold_for,
            None if isinstance(weights, str) and weights == "equal" else _whole(weights),
            cap,
            universe,
            exclude,
            breakpoints_from,
            None if prices is None else _whole(prices),
            min_price,
            delisting_returns,
            min_assets,
            order == "dependent",
        ),
        rebalance,
        storage,
    )


_ARRAYS_OF_SORT: Final = 5  # returns, a copy of them by row, masks, and portfolios
_ARRAYS_OF_ROWS: Final = 16  # of a block of rows


def _storage_for(table: LongTable, given: Sequence[object]) -> Storage:
    """Memory if all periods and assets fit into it, else disk.

    Raises
    ------
    TableError
        If a block of assets or of rows, and the tables given in memory, need more.
    """
    columns = sum(isinstance(one, str) and one != "equal" for one in given)
    tables = sum(isinstance(one, SeriesTable | pd.DataFrame) for one in given)
    assets, allowed = len(table.assets), bytes_of(table.max_memory) - BASE
    cells = 8 * len(table.calendar) * assets
    if cells * (2 * (columns + tables) + _ARRAYS_OF_SORT) + wide_needs(table) <= allowed:
        return Storage()
    rows, given_tables = 8 * ROWS_AT_ONCE * assets * (_ARRAYS_OF_ROWS + columns), 2 * tables * cells
    needs = max(wide_needs(table), rows) + given_tables
    if needs > allowed:
        raise TableError(
            f"sort_portfolios: {len(table.calendar):,} periods of {assets:,} assets need {needs / 1e9:.1f} GB "
            f"beside the program, more than max_memory={table.max_memory} leaves.",
            fix="Set a larger max_memory, or give columns of the files in place of tables in memory.",
        )
    return DiskStorage((allowed - given_tables) // rows)


def _laid_out(table: LongTable, value: str, storage: Storage) -> SeriesTable:
    """A column of all assets by period, read in blocks."""
    facts = table.facts if value == table.value else {}
    column = replace(table, value=value, facts=facts)
    block, at, metadata = storage.new((len(table.calendar), len(table.assets)), float), 0, list[Metadata]()
    for part in through_blocks(column, column.layout.table, column.blocks(WIDE_BLOCK), wide_needs(column)):
        block[:, at : at + len(part.names)] = part.block
        at += len(part.names)
        metadata += part.metadata
        storage.release()
    return SeriesTable.from_arrays(block, table.calendar, metadata)
