"""Breakpoints of characteristics with the groups between them, and holdings of portfolios through time."""

from __future__ import annotations

import functools
import itertools
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Final, TypeVar

import numpy as np

from ultrum.core.array_types import Array, Bools, Floats, Ints
from ultrum.core.executors import Workspace, each_block
from ultrum.errors import EstimationError, count_parts

T = TypeVar("T")
_MOST_GROUPS: Final = 1_000


@dataclass(frozen=True)
class Groups:
    """How one characteristic divides the assets.

    Attributes
    ----------
    name : str
        The characteristic.
    points : tuple of float
        Increasing fractions between 0 and 1, or values.
    are_values : bool
        Whether the points are values of the characteristic rather than fractions of the assets.
    """

    name: str
    points: tuple[float, ...]
    are_values: bool = False

    @classmethod
    def of(cls, name: str, given: int | Sequence[float], *, are_values: bool = False) -> Groups:
        """Groups from a number of equal ones, or from breakpoints.

        Examples
        --------
        >>> Groups.of("size", 4).points
        (0.25, 0.5, 0.75)
        """
        if isinstance(given, int):
            if given < 2:
                raise EstimationError(
                    f"groups: {name} has {given}.", fix="Use 2 or more groups, or breakpoints.", setting="groups"
                )
            if given > _MOST_GROUPS:
                raise EstimationError(f"groups: {name} has {given:,}; at most {_MOST_GROUPS:,} are possible.")
            return cls(name, tuple(k / given for k in range(1, given)))
        if any(isinstance(point, str) for point in given):
            raise EstimationError(f"Breakpoints of {name} are numbers; they are {list(given)}.")
        points = tuple(float(point) for point in given)
        if not points or any(not low < high for low, high in itertools.pairwise(points)):
            raise EstimationError(f"Breakpoints of {name} must increase; they are {list(points)}.")
        if not are_values and not (points[0] > 0.0 and points[-1] < 1.0):
            raise EstimationError(
                f"groups: fractions of {name} must lie between 0 and 1; they are {list(points)}.",
                fix="Use fractions such as (0.3, 0.7), a number of groups, or cutoffs= for values.",
                setting="groups",
            )
        return cls(name, points, are_values)

    @property
    def count(self) -> int:
        """Number of groups."""
        return len(self.points) + 1

    def breakpoints(self, values: Floats, inside: Bools, workspace: Workspace) -> Floats:
        """Breakpoints of each row, shape (R, k), for the values (R, N) of some assets; missing if there are none.

        Quantiles interpolate linearly between order statistics (type 7 of Hyndman and Fan 1996).
        """
        points = np.array(self.points)
        if self.are_values:
            return np.broadcast_to(points, (len(values), len(points)))
        ordered = workspace.copy("ordered", values)
        np.copyto(ordered, np.nan, where=~inside)
        ordered.sort(axis=1)  # missing ones last
        counts = np.array([np.count_nonzero(row) for row in inside])
        return quantiles(ordered, counts, points)


def quantiles(ordered: Floats, counts: Ints, fractions: Floats) -> Floats:
    """Quantiles of the first values of each row, which increase, linear between order statistics.

    Examples
    --------
    >>> quantiles(np.array([[1.0, 2.0, 3.0, 4.0, 10.0]]), np.array([5]), np.array([0.5, 0.875])).tolist()
    [[3.0, 7.0]]
    """
    last = np.maximum(counts - 1, 0)[:, None]
    place = np.round(fractions * last, 9)  # 0.3 × 10 is the third step, not just above it
    low = np.floor(place).astype(np.int64)
    below, above = (np.take_along_axis(ordered, at, axis=1) for at in (low, np.minimum(low + 1, last)))
    return np.where(counts[:, None] > 0, below + (place - low) * (above - below), np.nan)


def portfolio_count(groups: Sequence[Groups]) -> int:
    """Number of portfolios of all groups together."""
    return functools.reduce(lambda product, one: product * one.count, groups, 1)


def assign(
    values: Sequence[Floats],
    usable: Bools,
    subset: Bools | None,
    groups: Sequence[Groups],
    dependent: bool,
    workspace: Workspace | None = None,
) -> tuple[Ints, list[Floats]]:
    """The portfolio of each asset at some formations, −1 for none, and the breakpoints of each characteristic.

    An asset on a breakpoint is in the lower group. With dependent sorts the breakpoints of a characteristic are
    those within each group of the characteristics before it.

    Parameters
    ----------
    values : sequence of ndarray, shape (R, N)
        Characteristics, a row for each formation.
    usable : ndarray, shape (R, N)
        Assets to assign.
    subset : ndarray, shape (R, N), optional
        Assets whose values set the breakpoints; all by default.
    groups : sequence of Groups
    dependent : bool
    workspace : Workspace, optional

    Returns
    -------
    ndarray, shape (R, N), and list of ndarray, shape (R, parents, breakpoints)

    Examples
    --------
    >>> size = np.array([[1.0, 2.0, 3.0, 4.0]])
    >>> code, points = assign([size], np.ones((1, 4), dtype=bool), None, [Groups.of("size", 2)], False)
    >>> code.tolist(), points[0].tolist()
    ([[0, 0, 1, 1]], [[[2.5]]])
    """
    workspace = workspace or Workspace()
    kind = np.dtype(np.int16 if portfolio_count(groups) < 1 << 15 else np.int32)
    code = np.where(usable, kind.type(0), kind.type(-1))
    points: list[Floats] = []
    parents = 1
    for value, each in zip(values, groups, strict=True):
        rows = []
        group = np.zeros(value.shape, dtype=np.int8 if each.count <= 128 else np.int16)
        out = code < 0
        for parent in range(parents if dependent else 1):
            inside = (code == parent) if dependent else usable
            breaks = each.breakpoints(value, inside if subset is None else inside & subset, workspace)
            rows.append(breaks)
            for k in range(breaks.shape[1]):
                above = value > breaks[:, k : k + 1]  # a missing value is not; its asset is in no group
                group += (inside & above if dependent else above).view(np.int8)  # of one byte, as a mask is
            none = np.asarray(np.isnan(breaks).any(axis=1))
            if none.any():
                out |= inside & none[:, None]
        points.append(np.stack(rows, axis=1))
        code *= kind.type(each.count)
        code += group
        code[out] = -1
        parents *= each.count
    return code, points


# Holdings

_MANY_CELLS: Final = 1 << 18
_TOTAL_LOSS: Final = -1.0 + 1e-12  # a return that is −100 % but for rounding
ROWS_AT_ONCE: Final = 64  # formations or periods, so that their assets stay in the cache


class Storage:
    """Where arrays of all periods and assets are: in memory, unless a subclass puts them elsewhere.

    Attributes
    ----------
    most_blocks : int, optional
        Maximum number of blocks of rows in progress; by default one more than there are cores.
    """

    most_blocks: int | None = None

    def new(self, shape: tuple[int, int], kind: type) -> Array:
        """An array of a shape and kind, with any content."""
        return np.empty(shape, dtype=kind)

    def release(self) -> None:
        """Called after each block of rows, which is not needed soon."""


def over_blocks(job: Callable[[int], T], rows: int, cells: int, storage: Storage) -> Iterator[T]:
    """Results of a job for the first row of each block, in order; on all cores where the data are large."""
    starts = range(0, rows, ROWS_AT_ONCE)
    for result in map(job, starts) if cells < _MANY_CELLS else each_block(job, starts, most=storage.most_blocks):
        yield result
        storage.release()


@dataclass(frozen=True)
class Assignments:
    """Assets that were assigned to portfolios.

    Attributes
    ----------
    rows, last : ndarray of int, shape (F,)
        Row of each formation, and the last row of its holding period.
    codes : ndarray of int, shape (F, N)
        Portfolio of each asset, −1 for none.
    sizes : ndarray of int, shape (F, P)
        Number of assets in each portfolio.
    amounts : ndarray, shape (R, N), optional
        Market values; the weights in a portfolio are in proportion to them, or equal without them.
    amount_rows : ndarray of int, shape (F,)
        Row of the market values of each formation.
    """

    rows: Ints
    last: Ints
    codes: Ints
    sizes: Ints
    amounts: Floats | None
    amount_rows: Ints

    @property
    def formed(self) -> Bools:
        """Whether any asset is in a portfolio, (F,)."""
        return np.asarray((self.sizes > 0).any(axis=1))

    def since(self, start: int) -> Assignments:
        """The same with rows counted from a later one."""
        return replace(self, rows=self.rows - start, last=self.last - start)

    def held_in(self, row: int) -> Assignments:
        """Formations whose portfolios are held in a period."""
        part = (self.rows < row) & (row <= self.last)
        held = replace(self, rows=self.rows[part], last=self.last[part], amount_rows=self.amount_rows[part])
        return replace(held, codes=self.codes[part], sizes=self.sizes[part])

    @property
    def are_single(self) -> bool:
        """Whether each is held for one period."""
        return bool((self.last <= self.rows + 1).all())


def bins_of(codes: Ints, count: int, workspace: Workspace) -> Ints:
    """A bin for each portfolio of each row, (R, N); the first of a row is for assets in none."""
    bins = workspace.integers("bins", codes.shape)
    return np.add(codes, 1 + (count + 1) * np.arange(len(codes))[:, None], out=bins)


def sums_by_portfolio(bins: Ints, values: Floats | None, count: int) -> Floats:
    """Sums of values, or numbers of assets, in each portfolio of each row, shape (R, P)."""
    rows = len(bins)
    sums = np.bincount(bins.ravel(), None if values is None else values.ravel(), rows * (count + 1))
    return np.asarray(sums.reshape(rows, count + 1)[:, 1:])


def as_slice(places: Ints) -> slice | Ints:
    """Places in a row as a slice, which takes a view; others as they are."""
    first, last = int(places[0]), int(places[-1])
    return slice(first, last + 1) if last - first + 1 == len(places) else places


def of_its_portfolio(amounts: Floats, bins: Ints, out: Floats) -> Floats:
    """The amount (R, P) of the portfolio of each asset, (R, N); zero for an asset in none."""
    padded = np.zeros((len(amounts), amounts.shape[1] + 1))
    padded[:, 1:] = amounts
    return np.take(padded.ravel(), bins, out=out, mode="clip")  # the only mode that does not copy; bins fit


@dataclass(frozen=True)
class Cohort:
    """Members of one formation: columns of the assets, their portfolios, and their weights at formation, (M,)."""

    formed: int
    last: int
    members: Ints
    portfolios: Ints
    weights: Floats

    @classmethod
    def of(cls, made: Assignments, number: int) -> Cohort:
        """The cohort of a formation."""
        code = made.codes[number]
        members = np.flatnonzero(code >= 0)
        portfolios = code[members]
        row, last = int(made.rows[number]), int(made.last[number])
        if made.amounts is None:
            return cls(row, last, members, portfolios, 1.0 / made.sizes[number, portfolios])
        amounts = made.amounts[made.amount_rows[number], members]
        totals = np.bincount(portfolios, amounts, made.sizes.shape[1])
        return cls(row, last, members, portfolios, amounts / totals[portfolios])


@dataclass(frozen=True)
class Layer:
    """What the cohort of one formation holds: assets (M,), their portfolios, and weights within them."""

    members: Ints
    portfolios: Ints
    weights: Floats


@dataclass(frozen=True)
class Held:
    """What portfolios hold in one period.

    Attributes
    ----------
    row : int
    layers : list of Layer
        Weights at the start of the period, over the assets with a return, in parts of one over the number of
        cohorts.
    returns, turnover : ndarray, shape (P,)
    counts : ndarray, shape (P,)
        Assets with a return.
    lost : ndarray, shape (L, 2)
        Portfolios and columns of assets that are sold for want of a return.
    """

    row: int
    layers: list[Layer]
    returns: Floats
    turnover: Floats
    counts: Ints
    lost: Ints


def dense(layers: Sequence[Layer | Cohort], count: int, assets: int) -> Floats:
    """Weights of all assets, shape (P, N)."""
    total = np.zeros(count * assets)
    for layer in layers:
        total += np.bincount(layer.portfolios * assets + layer.members, layer.weights, count * assets)
    return total.reshape(count, assets)


def hold(returns: Floats, assigned: Assignments, count: int, *, rebalance: bool = False) -> Iterator[Held]:
    """What each portfolio holds and earns, period by period.

    Weights drift with returns until the next formation (buy and hold). An asset without a return is sold at the
    start of the period, and what it was worth goes to the others in proportion. Cohorts that overlap are averaged
    in each period (Jegadeesh and Titman 1993). Turnover is half the sum of the absolute changes in weights.

    Parameters
    ----------
    returns : ndarray, shape (T, N)
        Simple returns.
    assigned : Assignments
    count : int
        Number of portfolios P.
    rebalance : bool
        Return to the weights at formation in each period.
    """
    before: list[Layer] = []
    wealth: dict[int, Floats] = {}  # of each cohort, by the row of its formation
    waiting, active = deque(range(len(assigned.rows))), list[Cohort]()
    for row in range(int(assigned.rows[0]) + 1 if waiting else len(returns), len(returns)):
        while waiting and assigned.rows[waiting[0]] < row:
            active.append(Cohort.of(assigned, waiting.popleft()))
        active = [cohort for cohort in active if cohort.last >= row]
        wealth = {one.formed: wealth.get(one.formed, one.weights) for one in active}
        if rebalance:
            wealth = {one.formed: one.weights * (wealth[one.formed] > 0.0) for one in active}
        layers, gains, invested, lost = _layers(returns[row], active, wealth, count)
        cohorts_of = (invested > 0.0).sum(axis=0)
        layers, numbers = _average(layers, cohorts_of, returns.shape[1])
        earned = np.zeros(count)
        for layer, gain in zip(layers, gains, strict=True):
            earned += np.bincount(layer.portfolios, layer.weights * gain, count)
        held = np.where(cohorts_of > 0, earned, np.nan)
        yield Held(row, layers, held, _turnover(before, layers, count, returns.shape[1]), numbers, lost)
        growth = np.where(earned > _TOTAL_LOSS, 1.0 + earned, np.inf)  # else nothing is left
        before = [
            Layer(one.members, one.portfolios, one.weights * (1.0 + gain) / growth[one.portfolios])
            for one, gain in zip(layers, gains, strict=True)
        ]


def _layers(
    values: Floats, active: Sequence[Cohort], wealth: dict[int, Floats], count: int
) -> tuple[list[Layer], list[Floats], Floats, Ints]:
    """Weights of each cohort in one period, the returns of its assets, its wealth in each portfolio, and assets
    without a return; wealth grows.
    """
    layers, gains, lost = [], [], [np.empty((0, 2), dtype=np.int64)]
    invested = np.zeros((len(active), count))
    for number, cohort in enumerate(active):
        before, gain = wealth[cohort.formed], values[cohort.members]
        missing = ~np.isfinite(gain)
        gone = missing & (before > 0.0)
        if gone.any():
            lost.append(np.column_stack([cohort.portfolios[gone], cohort.members[gone]]))
        if missing.any():
            before, gain = np.where(missing, 0.0, before), np.where(missing, 0.0, gain)
        invested[number] = np.bincount(cohort.portfolios, before, count)
        share = before / np.where(invested[number] > 0.0, invested[number], 1.0)[cohort.portfolios]
        wealth[cohort.formed] = before * (1.0 + gain)
        layers.append(Layer(cohort.members, cohort.portfolios, share))
        gains.append(gain)
    return layers, gains, invested, np.concatenate(lost)


def _average(layers: list[Layer], cohorts_of: Ints, assets: int) -> tuple[list[Layer], Ints]:
    """Weights of cohorts as parts of the average of those with assets, and the assets of each portfolio."""
    count = len(cohorts_of)
    if len(layers) == 1:
        return layers, np.bincount(layers[0].portfolios[layers[0].weights > 0.0], minlength=count)
    parts = 1.0 / np.maximum(cohorts_of, 1)
    layers = [Layer(one.members, one.portfolios, one.weights * parts[one.portfolios]) for one in layers]
    return layers, (dense(layers, count, assets) > 0.0).sum(axis=1)


def _turnover(before: Sequence[Layer], now: Sequence[Layer], count: int, assets: int) -> Floats:
    """Half the sum of the absolute changes in weights of each portfolio."""
    if len(before) != 1 or len(now) != 1:
        return np.asarray(0.5 * np.abs(dense(now, count, assets) - dense(before, count, assets)).sum(axis=1))
    (old,), (new,) = before, now
    place, weight = np.full(assets, -1), np.zeros(assets)
    place[old.members], weight[old.members] = old.portfolios, old.weights
    same = place[new.members] == new.portfolios
    kept = np.where(same, weight[new.members], 0.0)
    changes = np.bincount(new.portfolios, np.abs(new.weights - kept), count)
    weight[new.members[same]] = 0.0  # what is left was sold
    return np.asarray(0.5 * (changes + np.bincount(old.portfolios, weight[old.members], count)))


@dataclass(frozen=True)
class History:
    """All periods: ``returns turnover counts`` (T, P), and ``lost`` with rows, portfolios and columns."""

    returns: Floats
    turnover: Floats
    counts: Ints
    lost: Ints


def history(
    returns: Floats, assigned: Assignments, count: int, *, rebalance: bool = False, storage: Storage | None = None
) -> History:
    """Returns, turnover and numbers of assets of all periods."""
    storage = storage or Storage()
    if assigned.are_single:
        return _single_periods(returns, assigned, count, storage)
    shape = (len(returns), count)
    earned, turnover = np.full((2, *shape), np.nan)
    numbers = np.zeros(shape, dtype=np.int64)
    lost = [np.empty((0, 3), dtype=np.int64)]
    periods = hold(np.ascontiguousarray(returns), assigned, count, rebalance=rebalance)
    for held in count_parts(periods, "periods held", len(returns)):
        row = held.row
        earned[row], numbers[row] = held.returns, held.counts
        turnover[row] = np.where(held.counts > 0, held.turnover, np.nan)
        if len(held.lost):
            lost.append(np.column_stack([np.full(len(held.lost), row), held.lost]))
        if row % ROWS_AT_ONCE == 0:
            storage.release()
    return History(earned, turnover, numbers, np.concatenate(lost))


def _single_periods(returns: Floats, assigned: Assignments, count: int, storage: Storage) -> History:
    """The same where portfolios are formed again for each period, many periods at a time."""
    shape = (len(returns), count)
    earned, turnover = np.full((2, *shape), np.nan)
    numbers = np.zeros(shape, dtype=np.int64)
    held = np.flatnonzero((assigned.rows < len(returns) - 1) & (assigned.last > assigned.rows))
    workspace = Workspace()

    def _block(first: int) -> Ints:
        """Fill in the periods of a block; rows, portfolios and columns of assets without a return."""
        early = min(first, 1)  # the period before is computed again for what it leaves
        part = held[first - early : first + ROWS_AT_ONCE]
        rows = assigned.rows[part] + 1
        code = assigned.codes[as_slice(part)]
        drifted = workspace.copy("drifted", returns[as_slice(rows)])
        work = workspace.floats("work", code.shape)
        missing = np.flatnonzero(~np.isfinite(drifted))
        drifted.ravel()[missing] = 0.0
        gone = missing[code.ravel()[missing] >= 0]  # sold for want of a return
        row, asset = np.divmod(gone, code.shape[1])
        portfolio = code.ravel()[gone]
        sold = np.bincount(row * count + portfolio, minlength=len(code) * count)
        counts = assigned.sizes[part] - sold.reshape(-1, count)
        bins = bins_of(code, count, workspace)
        if assigned.amounts is None:
            share = of_its_portfolio(inverse(counts), bins, workspace.floats("share", code.shape))
            share.ravel()[gone] = 0.0
        else:
            share = workspace.copy("share", assigned.amounts[as_slice(assigned.amount_rows[part])])
            share.ravel()[np.flatnonzero(code < 0)] = 0.0  # where market values may be missing
            share.ravel()[gone] = 0.0
            share *= of_its_portfolio(inverse(sums_by_portfolio(bins, share, count)), bins, work)
        mean = sums_by_portfolio(bins, np.multiply(share, drifted, out=work), count)
        drifted += 1.0
        drifted *= share
        wealth = np.where(mean > _TOTAL_LOSS, 1.0 + mean, 0.0)  # of one at the start
        drifted *= of_its_portfolio(inverse(wealth), bins, work)
        drifted[:-1][np.diff(rows) != 1] = 0.0  # the next period holds nothing of these
        share[1:] -= np.multiply(drifted[:-1], code[1:] == code[:-1], out=work[:-1])
        bought = sums_by_portfolio(bins, np.maximum(share, 0.0, out=share), count)
        whole = (counts > 0).astype(float)
        whole[1:] -= (whole * (wealth > 0.0))[:-1] * (np.diff(rows) == 1)[:, None]
        own = rows[early:]
        earned[own] = np.where(counts > 0, mean, np.nan)[early:]
        # half the sum of absolute changes, as all changes sum to that of the whole
        turnover[own] = np.where(counts > 0, bought - 0.5 * whole, np.nan)[early:]
        numbers[own] = counts[early:]
        new = slice(int(np.searchsorted(row, early)), None)
        return np.column_stack([rows[row], portfolio, asset])[new]

    lost = [np.empty((0, 3), dtype=np.int64)]
    lost += over_blocks(_block, len(held), returns.size, storage)
    return History(earned, turnover, numbers, np.concatenate(lost))


def inverse(amounts: Floats | Ints) -> Floats:
    """One over each amount; zero where none is left."""
    return np.divide(1.0, amounts, out=np.zeros(amounts.shape), where=amounts > 0.0)


def cap_weights(amounts: Floats, cap: float) -> Floats:
    """Weights in proportion to amounts, none above a cap; what is cut goes to the others in proportion.

    If even equal weights are above the cap, they are equal.

    Examples
    --------
    >>> cap_weights(np.array([6.0, 3.0, 1.0]), 0.5).tolist()
    [0.5, 0.375, 0.125]
    """
    weights: Floats = np.asarray(amounts / amounts.sum())
    if cap * len(weights) <= 1.0:
        return np.full(len(weights), 1.0 / len(weights))
    at_cap = np.zeros(len(weights), dtype=bool)
    while (weights > cap * (1.0 + 1e-12)).any():
        at_cap |= weights > cap
        rest = amounts[~at_cap].sum()
        weights = np.where(at_cap, cap, amounts * (1.0 - cap * at_cap.sum()) / rest)
    return weights
