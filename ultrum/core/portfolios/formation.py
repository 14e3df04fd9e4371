"""Formation of portfolios: rows of the calendar, assets that can be sorted, their portfolios and weights."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Bools, Dates, Floats, Ints
from ultrum.core.executors import Workspace
from ultrum.core.portfolios.breakpoints_and_holdings import (
    ROWS_AT_ONCE,
    Assignments,
    Groups,
    Storage,
    as_slice,
    assign,
    bins_of,
    cap_weights,
    inverse,
    of_its_portfolio,
    over_blocks,
    portfolio_count,
    sums_by_portfolio,
)
from ultrum.core.presentation import quantity
from ultrum.core.series.input_checks import asset_codes, check_one_currency, refuse_no_values
from ultrum.core.series.metadata import hindsight_of
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.statistics.risk_return_and_drawdowns import returns_in
from ultrum.core.time.frequency import Frequency, periods_in
from ultrum.core.time.period_labels_and_relative_dates import days_in
from ultrum.errors import AlignmentError, EstimationError, UnitError, choices, name_list, one_of

Characteristics = Mapping[str, SeriesTable | pd.DataFrame]
Tables = SeriesTable | pd.DataFrame

_MOST_SORTS: Final = 3
_NOT_A_MEMBER, _EXCLUDED, _NO_PRICE, _LOW_PRICE, _NO_WEIGHT, _SMALL, _NO_POINTS = (
    "not in the universe",
    "excluded",
    "no price",
    "price below the minimum",
    "no market value",
    "fewer assets in the portfolio than min_assets",
    "no asset sets a breakpoint",
)


class Reasons:
    """Why assets are left out: the place of a reason for each formation and asset, 0 where it is used."""

    def __init__(self, shape: tuple[int, int], words: Iterable[str], storage: Storage) -> None:
        self.places = storage.new(shape, np.int16)
        self.words = list(dict.fromkeys(["", *words]))

    def leave_out(self, where: Bools, reason: str, part: slice) -> None:
        """Give a reason to assets of some formations that have none yet."""
        if where.any():
            places = self.places[part]
            places[where & (places == 0)] = self.words.index(reason)

    def counts(self) -> dict[str, int]:
        """Number of assets by reason."""
        numbers = np.zeros(len(self.words), dtype=np.int64)
        for first in range(0, len(self.places), ROWS_AT_ONCE):
            places = self.places[first : first + ROWS_AT_ONCE]
            numbers += np.bincount(places[places != 0], minlength=len(self.words))
        numbers[0] = self.places.size - numbers.sum()
        return {word: int(number) for word, number in zip(self.words, numbers, strict=True) if number}


@dataclass(frozen=True)
class Rules:
    """Rules of a sort, as :func:`ultrum.sort_portfolios` has them.

    Attributes
    ----------
    formation : str
    hold_for : int, str or None
    weights : SeriesTable, DataFrame or None
        Market values; None for equal weights.
    cap : float, optional
    universe : DataFrame, optional
    exclude : mapping, optional
    breakpoints_from : sequence of str or table, optional
    prices, min_price : table and float, optional
    delisting_returns : DataFrame, optional
    min_assets : int
    dependent : bool
    """

    formation: str = ""
    hold_for: int | str | None = None
    weights: Tables | None = None
    cap: float | None = None
    universe: pd.DataFrame | None = None
    exclude: Mapping[str, Sequence[str]] | None = None
    breakpoints_from: Sequence[str] | Tables | None = None
    prices: Tables | None = None
    min_price: float | None = None
    delisting_returns: pd.DataFrame | None = None
    min_assets: int = 1
    dependent: bool = False

    def __post_init__(self) -> None:
        if self.cap is not None and not 0.0 < self.cap <= 1.0:
            raise EstimationError(f"sort_portfolios: cap={self.cap:g} is not a weight between 0 and 1.")
        if self.min_assets < 1:
            raise EstimationError(f"sort_portfolios: min_assets={self.min_assets}; use 1 or more.")
        if (self.prices is None) != (self.min_price is None):
            given, absent = ("min_price", "prices") if self.prices is None else ("prices", "min_price")
            raise EstimationError(f"sort_portfolios: {given} has no effect without {absent}=. Set both or none.")


@dataclass(frozen=True)
class Formations:
    """Every formation of a sort.

    Attributes
    ----------
    index : Index
        Labels of all rows.
    returns : ndarray, shape (T, N)
        With delisting returns, of which ``delisted`` is the number.
    delisted : int
    assigned : Assignments
        Portfolios and weights of all assets.
    points : list of ndarray, shape (F, parents, breakpoints)
        Breakpoints of each characteristic.
    averages : list of ndarray, shape (F, P)
        Mean of each characteristic.
    reasons : Reasons
        Why assets are left out.
    """

    index: pd.Index
    returns: Floats
    delisted: int
    assigned: Assignments
    points: list[Floats]
    averages: list[Floats]
    reasons: Reasons


def form_portfolios(
    table: SeriesTable, characteristics: Characteristics, plan: Sequence[Groups], rules: Rules, storage: Storage
) -> Formations:
    """Assign the assets of every formation to portfolios.

    Raises
    ------
    EstimationError
        If no portfolio can be formed before the last return.
    """
    count = portfolio_count(plan)
    if count > len(table.names):
        raise EstimationError(
            f"sort_portfolios: {count:,} portfolios of {quantity(len(table.names), 'asset')}.",
            fix="Use fewer groups.",
            setting="groups",
        )
    calendar = Calendar.of(table)
    market = None if rules.weights is None else _table_of("weights", rules.weights, table, money=True)
    returns, delisted = _with_delistings(calendar.lay(table), table, calendar, rules.delisting_returns, storage)
    tables = [_table_of(name, given, table) for name, given in characteristics.items()]
    measured = [calendar.lay(one, table.names) for one in tables]
    rows, last = _schedule(calendar, table.frequency, rules.formation, rules.hold_for)
    inputs = Inputs(measured, None if market is None else calendar.lay(market, table.names))
    screens = Screens.of(calendar, table, rules)
    words = (*screens.words, *(f"no {name}" for name in characteristics), _NO_WEIGHT, _NO_POINTS, _SMALL)
    reasons = Reasons((len(rows), len(table.names)), words, storage)
    subset = _setting_breakpoints(rules.breakpoints_from, calendar, table)
    assigned, points, averages = _form(inputs, screens, reasons, subset, plan, rows, last, rules, storage)
    formed = rows[assigned.formed]
    if not len(formed) or formed[0] == len(returns) - 1:
        counts = "; ".join(f"{word}: {number:,}" for word, number in reasons.counts().items() if word)
        raise EstimationError(
            f"sort_portfolios: no portfolio can be formed at {quantity(len(rows), 'formation')}. "
            f"Assets left out: {counts or 'none'}."
        )
    index = calendar.index(table)
    return Formations(index, returns, delisted, assigned, points, averages, reasons)


def total_returns(returns: SeriesTable | pd.DataFrame) -> SeriesTable:
    """Simple total returns in one currency."""
    table = returns_in(returns, "sort_portfolios")
    if table.metadata[0].measure == "log_return":
        raise UnitError("sort_portfolios: log returns do not add across assets. Convert them with to_simple.")
    excess = [m.name for m in table.metadata if m.excess_of]
    if excess:
        raise UnitError(
            f"sort_portfolios: {excess[0]} is an excess return; holdings grow by total returns. Sort total "
            "returns, and take excess(portfolios.returns, risk_free) afterwards."
        )
    check_one_currency(table.metadata, "sort_portfolios")
    refuse_no_values("sort_portfolios", table)
    return table


def groups_of(
    characteristics: Characteristics,
    groups: int | Sequence[float] | Mapping[str, int | Sequence[float]],
    cutoffs: Mapping[str, Sequence[float]] | None,
) -> list[Groups]:
    """The groups of each characteristic."""
    if not 1 <= len(characteristics) <= _MOST_SORTS:
        raise EstimationError(
            f"sort_portfolios: {quantity(len(characteristics), 'characteristic')}; sort by one to {_MOST_SORTS}."
        )
    cutoffs = cutoffs or {}
    given = groups if isinstance(groups, Mapping) else {}
    for option, names in (("groups", given), ("cutoffs", cutoffs)):
        for name in names:
            if name not in characteristics:
                raise EstimationError(f"{option}: no characteristic '{name}'; {one_of(name, characteristics)}")
    both = [name for name in cutoffs if name in given]
    if both:
        raise EstimationError(f"{both[0]} has both groups and cutoffs. Keep one of them.")
    lacking = [name for name in characteristics if name not in given and name not in cutoffs]
    if lacking and isinstance(groups, Mapping):
        raise EstimationError(f"groups: {name_list(lacking)} has neither groups nor cutoffs.")
    plan = []
    for name in characteristics:
        if name in cutoffs:
            plan.append(Groups.of(name, cutoffs[name], are_values=True))
        else:
            each = given[name] if isinstance(groups, Mapping) else groups
            plan.append(Groups.of(name, each))
    return plan


@dataclass(frozen=True)
class Calendar:
    """Rows of a sort: every period from the first to the last return, or the dates of dated returns."""

    frequency: Frequency
    ordinals: Ints

    @classmethod
    def of(cls, table: SeriesTable) -> Calendar:
        """The calendar of some returns."""
        ordinals = table.ordinals
        if table.frequency.is_dated or not len(ordinals):
            return cls(table.frequency, ordinals)
        return cls(table.frequency, np.arange(ordinals[0], ordinals[-1] + 1))

    def lay(self, table: SeriesTable, names: Sequence[str] | None = None) -> Floats:
        """Values of a table on these rows, with its columns in an order; missing where it has none."""
        wanted = list(table.names if names is None else names)
        if wanted == table.names and np.array_equal(table.ordinals, self.ordinals):
            return table.block
        place = {name: column for column, name in enumerate(table.names)}
        columns = np.array([place.get(name, -1) for name in wanted])
        rows = np.searchsorted(table.ordinals, self.ordinals)
        inside = np.minimum(rows, max(len(table.ordinals) - 1, 0))
        there = (
            table.ordinals[inside] == self.ordinals if len(table.ordinals) else np.zeros(len(self.ordinals), bool)
        )
        values = table.block[np.ix_(inside, np.maximum(columns, 0))]
        return np.where(there[:, None] & (columns >= 0), values, np.nan)

    def index(self, table: SeriesTable) -> pd.Index:
        """Labels of the rows."""
        return table.index if len(table.index) == len(self.ordinals) else self.frequency.index(self.ordinals)

    @property
    def last_days(self) -> Dates:
        """The last day of each row's period."""
        return self.frequency.ends(self.ordinals)


def _table_of(
    name: str, given: SeriesTable | pd.DataFrame, returns: SeriesTable, *, money: bool = False
) -> SeriesTable:
    """A table in the frequency of the returns that takes nothing from later periods."""
    table = SeriesTable.from_pandas(given) if isinstance(given, pd.DataFrame) else given
    if table.frequency != returns.frequency:  # the anchor too: years to June are other periods
        raise AlignmentError(
            f"sort_portfolios: {name} is {table.frequency.name} ({table.frequency}), the returns are "
            f"{returns.frequency.name} ({returns.frequency}).",
            fix="Convert it with to_frequency; for filings use point_in_time_accounts.",
        )
    later = hindsight_of(table.metadata)
    if later:
        raise UnitError(
            f"sort_portfolios: {name} is {later}, so portfolios would be formed with hindsight. Use values "
            "known at each date."
        )
    if not set(table.names) & set(returns.names):
        raise AlignmentError(
            f"sort_portfolios: {name} has none of the assets of the returns; it has {choices(table.names)}."
        )
    if money:
        check_one_currency(
            table.metadata, "sort_portfolios weights", "Convert the market values with to_currency."
        )
    return table


def _with_delistings(
    block: Floats, table: SeriesTable, calendar: Calendar, given: pd.DataFrame | None, storage: Storage
) -> tuple[Floats, int]:
    """Returns with those of delistings, and how many there are."""
    if given is None:
        return block, 0
    _need_columns("delisting_returns", given, ("asset", "date", "return"))
    place = {name: column for column, name in enumerate(table.names)}
    names = asset_codes(given["asset"])
    unknown = [name for name in names if name not in place]
    if unknown:
        raise AlignmentError(
            f"delisting_returns: '{unknown[0]}' has no returns; {one_of(unknown[0], table.names)}"
        )
    columns = np.array([place[name] for name in names], dtype=np.int64)
    if len(set(columns.tolist())) < len(columns):
        raise AlignmentError("delisting_returns: an asset occurs twice. Keep one row per asset.")
    values = pd.to_numeric(given["return"], errors="coerce").to_numpy(dtype=np.float64)
    if not (np.isfinite(values) & (values >= -1.0)).all():
        raise UnitError("delisting_returns: a return is missing or below -100 %. Use decimals.")
    ordinals = calendar.frequency.ordinals(days_in(given["date"], "date"))
    rows = np.searchsorted(calendar.ordinals, ordinals)
    outside = (rows >= len(calendar.ordinals)) | (
        calendar.ordinals[np.minimum(rows, len(calendar.ordinals) - 1)] != ordinals
    )
    if outside.any():
        late = given.loc[outside, "asset"].iloc[0]
        raise AlignmentError(f"delisting_returns: the date of {late} is outside the returns.")
    changed, traded = storage.new((len(block), len(table.names)), float), np.zeros(len(rows), dtype=bool)
    for first in range(0, len(block), ROWS_AT_ONCE):
        part = block[first : first + ROWS_AT_ONCE]
        changed[first : first + len(part)] = part
        after = np.arange(first, first + len(part))[:, None] > rows
        traded |= (np.isfinite(part[:, columns]) & after).any(axis=0)
        storage.release()
    later = np.flatnonzero(traded)
    if len(later):
        first = given["asset"].iloc[later[0]]
        raise AlignmentError(f"delisting_returns: {first} has returns after its delisting. Correct the date.")
    before = np.where(np.isfinite(block[rows, columns]), block[rows, columns], 0.0)
    changed[rows, columns] = (1.0 + before) * (1.0 + values) - 1.0
    return changed, len(columns)


def _need_columns(option: str, frame: pd.DataFrame, columns: Sequence[str]) -> None:
    absent = [name for name in columns if name not in frame]
    if absent:
        raise AlignmentError(
            f"{option} needs the columns {', '.join(columns)}; '{absent[0]}' is missing. It has: "
            f"{choices([str(c) for c in frame])}."
        )


def _schedule(
    calendar: Calendar, frequency: Frequency, formation: str, hold_for: int | str | None
) -> tuple[Ints, Ints]:
    """Rows of the formations, and the last row of each holding period."""
    ordinals = calendar.ordinals
    if formation and Frequency.parse(formation) < frequency:
        raise EstimationError(
            f"sort_portfolios: formation='{formation}' is more often than the {frequency.name} returns. "
            "Use returns of that frequency, or leave formation out."
        )
    if formation:
        periods = Frequency.parse(formation).ordinals(calendar.last_days)
        following = Frequency.parse(formation).ordinals(frequency.ends(ordinals[-1:] + 1))
        ends = np.append(periods[1:], following) != periods
        if frequency.is_dated:  # the last date may not be the last of its period
            ends[-1] = False
        formed = np.flatnonzero(ends)
    else:
        formed = np.arange(len(ordinals))
    if not len(formed) or formed[0] == len(ordinals) - 1:
        raise EstimationError(
            "sort_portfolios: no formation lies before the last return. Use more periods, or another formation=."
        )
    if hold_for is None:
        return formed, np.append(formed[1:], len(ordinals) - 1)
    length = int(hold_for) if str(hold_for).isdigit() else periods_in(str(hold_for), frequency)
    if length < 1:
        raise EstimationError(f"sort_portfolios: hold_for={hold_for} is less than one period.")
    return formed, np.minimum(formed + length, len(ordinals) - 1)


@dataclass(frozen=True)
class Screens:
    """Rules that leave assets out, whatever their characteristics.

    Attributes
    ----------
    days : ndarray of datetime64, shape (T,)
        The last day of each row.
    members : tuple of ndarray, optional
        Column, entry and exit of each membership.
    excluded : dict of str to ndarray of bool, shape (N,)
        By reason.
    prices : ndarray, shape (T, N), optional
    min_price : float
    """

    days: Dates
    members: tuple[Ints, Dates, Dates] | None
    excluded: dict[str, Bools]
    prices: Floats | None
    min_price: float

    @classmethod
    def of(cls, calendar: Calendar, table: SeriesTable, rules: Rules) -> Screens:
        """The screens among some rules."""
        given = (rules.exclude or {}).items()
        excluded = {f"{_EXCLUDED}: {reason}": _exclusion(reason, assets, table) for reason, assets in given}
        members = None if rules.universe is None else _members(rules.universe, table.names)
        priced = None if rules.prices is None else _table_of("prices", rules.prices, table)
        prices = None if priced is None else calendar.lay(priced, table.names)
        return cls(calendar.last_days, members, excluded, prices, rules.min_price or 0.0)

    @property
    def words(self) -> tuple[str, ...]:
        """The reasons, in the order in which they are looked at."""
        return (_NOT_A_MEMBER, *self.excluded, _NO_PRICE, _LOW_PRICE)

    def apply(self, why: Reasons, part: slice, taken: slice | Ints) -> None:
        """Give reasons to the assets of some formations, at some rows."""
        shape = why.places[part].shape
        why.places[part] = 0
        if self.members is not None:
            why.leave_out(~_are_members(self.members, self.days[taken], shape[1]), _NOT_A_MEMBER, part)
        for reason, columns in self.excluded.items():
            why.leave_out(np.broadcast_to(columns, shape), reason, part)
        if self.prices is not None:
            prices = self.prices[taken]
            why.leave_out(~np.isfinite(prices), _NO_PRICE, part)
            why.leave_out(prices < self.min_price, _LOW_PRICE, part)


def _exclusion(reason: str, assets: Sequence[str], table: SeriesTable) -> Bools:
    """Which assets are left out for a reason of the user."""
    if isinstance(assets, str) or not isinstance(assets, Sequence):
        raise EstimationError(f"exclude: '{reason}' takes a list of assets, such as ['BRTW'].")
    named = [str(name) for name in assets]
    unknown = [name for name in named if name not in table.names]
    if unknown:
        raise AlignmentError(f"exclude: '{unknown[0]}' has no returns; {one_of(unknown[0], table.names)}")
    return np.isin(table.names, named)


def _members(universe: pd.DataFrame, names: Sequence[str]) -> tuple[Ints, Dates, Dates]:
    """Column, entry and exit of each membership, by column; a day is missing where it has no bound."""
    _need_columns("universe", universe, ("asset", "entry", "exit"))
    place = {name: column for column, name in enumerate(names)}
    entry, leave = (
        np.asarray(
            days_in(universe[side].mask(universe[side].astype(str).str.strip() == "", None), side, missing=True)
        )
        for side in ("entry", "exit")
    )
    assets = asset_codes(universe["asset"])
    wrong = np.flatnonzero(entry > leave)  # false where one is missing
    if len(wrong):
        first = wrong[0]
        raise AlignmentError(
            f"universe: {assets.iloc[first]} leaves on {leave[first]}, before it enters on {entry[first]}."
        )
    columns = np.array([place.get(asset, -1) for asset in assets], dtype=np.int64)
    order = np.argsort(columns, kind="stable")[(columns < 0).sum() :]
    return columns[order], entry[order], leave[order]


def _are_members(members: tuple[Ints, Dates, Dates], days: Dates, count: int) -> Bools:
    """Whether each asset is a member on each day, (R, N)."""
    columns, entry, leave = members
    inside = np.zeros((count, len(days)), dtype=bool)
    if not len(columns):
        return inside.T
    within = (np.isnat(entry)[:, None] | (days >= entry[:, None])) & (
        np.isnat(leave)[:, None] | (days <= leave[:, None])
    )
    first = np.flatnonzero(np.diff(columns, prepend=-1))
    inside[columns[first]] = np.logical_or.reduceat(within, first)  # an asset may come back
    return inside.T


def _setting_breakpoints(
    given: Sequence[str] | SeriesTable | pd.DataFrame | None, calendar: Calendar, table: SeriesTable
) -> Bools | None:
    """Assets whose values set the breakpoints, by row; None for all."""
    shape = (len(calendar.ordinals), len(table.names))
    if given is None:
        return None
    if isinstance(given, SeriesTable | pd.DataFrame):
        return np.asarray(calendar.lay(_table_of("breakpoints_from", given, table), table.names) > 0.0)
    named = [str(name) for name in given]
    unknown = [name for name in named if name not in table.names]
    if unknown:
        raise AlignmentError(
            f"breakpoints_from: '{unknown[0]}' has no returns; {one_of(unknown[0], table.names)}"
        )
    return np.broadcast_to(np.isin(table.names, named), shape)


@dataclass(frozen=True)
class Inputs:
    """Characteristics, and market values if portfolios are value-weighted, of shape (T, N)."""

    measured: Sequence[Floats]
    amounts: Floats | None

    def at(self, taken: slice | Ints, workspace: Workspace) -> tuple[list[Floats], Floats | None]:
        """The values of some rows, each row in one piece."""
        values = [workspace.copy(f"value {k}", one[taken]) for k, one in enumerate(self.measured)]
        if self.amounts is None:
            return values, None
        for one, value in zip(self.measured, values, strict=True):
            if one is self.amounts:
                return values, value
        return values, workspace.copy("amounts", self.amounts[taken])


def _form(
    inputs: Inputs,
    screens: Screens,
    why: Reasons,
    subset: Bools | None,
    plan: Sequence[Groups],
    formed: Ints,
    last: Ints,
    rules: Rules,
    storage: Storage,
) -> tuple[Assignments, list[Floats], list[Floats]]:
    """Portfolios and weights, breakpoints, and mean characteristics (F, P), by blocks of formations."""
    count, shape = portfolio_count(plan), why.places.shape
    codes = storage.new(shape, np.int16 if count < 1 << 15 else np.int32)
    limited = None if rules.cap is None else storage.new(shape, float)
    assigned = np.zeros((len(formed), count), dtype=np.int64)
    workspace = Workspace()
    averages = [np.full((len(formed), count), np.nan) for _ in plan]

    def _block(first: int) -> list[Floats]:
        """Fill in a block of formations; its breakpoints."""
        part = slice(first, first + ROWS_AT_ONCE)
        taken = as_slice(formed[part])
        screens.apply(why, part, taken)
        values, worth = inputs.at(taken, workspace)
        for one, value in zip(plan, values, strict=True):
            why.leave_out(~np.isfinite(value), f"no {one.name}", part)
        if worth is not None:
            why.leave_out(~(np.isfinite(worth) & (worth > 0.0)), _NO_WEIGHT, part)
        there = why.places[part] == 0
        chosen = None if subset is None else subset[taken]
        code, breaks = assign(values, there, chosen, plan, rules.dependent, workspace)
        why.leave_out(there & (code < 0), _NO_POINTS, part)
        bins = bins_of(code, count, workspace)
        sizes = sums_by_portfolio(bins, None, count)
        if ((sizes > 0) & (sizes < rules.min_assets)).any():
            in_portfolio = of_its_portfolio(sizes, bins, workspace.floats("amounts of portfolios", code.shape))
            small = (code >= 0) & (in_portfolio < rules.min_assets)
            why.leave_out(small, _SMALL, part)
            code[small] = -1
            bins = bins_of(code, count, workspace)
            sizes = sums_by_portfolio(bins, None, count)
        totals = sizes if worth is None else sums_by_portfolio(bins, worth, count)
        for average, value in zip(averages, values, strict=True):
            sums = totals if value is worth else sums_by_portfolio(bins, value, count)
            average[part] = np.where(sizes > 0, sums / np.maximum(sizes, 1), np.nan)
        codes[part], assigned[part] = code, sizes
        if limited is not None and rules.cap is not None:
            weights = of_its_portfolio(inverse(totals), bins, limited[part])
            if worth is not None:
                weights *= worth
            weights[code < 0] = 0.0  # where market values may be missing
            _limit(code, weights, rules.cap)
        return breaks

    points = list(over_blocks(_block, len(formed), codes.size, storage))
    joined = [np.concatenate(one) for one in zip(*points, strict=True)]
    amounts, amount_rows = (inputs.amounts, formed) if limited is None else (limited, np.arange(len(formed)))
    return Assignments(formed, last, codes, assigned, amounts, amount_rows), joined, averages


def _limit(code: Ints, weights: Floats, cap: float) -> None:
    """Limit the weights within each portfolio, (R, N), in place."""
    for row in np.flatnonzero((weights > cap).any(axis=1)):
        for portfolio in np.unique(code[row, weights[row] > cap]):
            inside = code[row] == portfolio
            weights[row, inside] = cap_weights(weights[row, inside], cap)
