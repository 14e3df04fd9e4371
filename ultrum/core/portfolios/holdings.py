"""Holdings of portfolios through time: weights that drift, returns, turnover, and assets without a return."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from ultrum.core.array_types import Floats, Ints
from ultrum.errors import count_parts


@dataclass
class Cohort:
    """Assets that were assigned to portfolios at one formation.

    Attributes
    ----------
    formed, last : int
        Row of the formation, and the last row of the holding period.
    members, portfolios : ndarray, shape (M,)
        Columns of the assets, and their portfolios.
    weights : ndarray, shape (M,)
        Weights at formation, which sum to one in each portfolio.
    """

    formed: int
    last: int
    members: Ints
    portfolios: Ints
    weights: Floats
    wealth: Floats = field(init=False)

    def __post_init__(self) -> None:
        self.wealth = self.weights.copy()


@dataclass
class Held:
    """What portfolios hold in one period.

    Attributes
    ----------
    row : int
    weights : ndarray, shape (P, N)
        At the start of the period, over the assets with a return.
    returns, turnover : ndarray, shape (P,)
    counts : ndarray, shape (P,)
        Assets with a return.
    lost : ndarray, shape (L, 2)
        Portfolios and columns of assets that are sold for want of a return.
    """

    row: int
    weights: Floats
    returns: Floats
    turnover: Floats
    counts: Ints
    lost: Ints


def hold(returns: Floats, cohorts: Sequence[Cohort], count: int, *, rebalance: bool = False) -> Iterator[Held]:
    """What each portfolio holds and earns, period by period.

    Weights drift with returns until the next formation (buy and hold). An asset without a return is sold at the
    start of the period, and what it was worth goes to the others in proportion. Cohorts that overlap are averaged
    in each period (Jegadeesh and Titman 1993). Turnover is half the sum of the absolute changes in weights.

    Parameters
    ----------
    returns : ndarray, shape (T, N)
        Simple returns.
    cohorts : sequence of Cohort
        In the order of their formation.
    count : int
        Number of portfolios P.
    rebalance : bool
        Return to the weights at formation in each period.
    """
    assets = returns.shape[1]
    before = np.zeros((count, assets))
    waiting, active = list(cohorts), list[Cohort]()
    for row in range(cohorts[0].formed + 1 if cohorts else len(returns), len(returns)):
        while waiting and waiting[0].formed < row:
            active.append(waiting.pop(0))
        active = [cohort for cohort in active if cohort.last >= row]
        values = returns[row]
        held = _period(values, active, count, rebalance)
        held.row = row
        held.turnover = 0.5 * np.abs(held.weights - before).sum(axis=1)
        yield held
        grown = held.weights * (1.0 + np.where(np.isfinite(values), values, 0.0))
        growth = 1.0 + np.where(np.isfinite(held.returns), held.returns, 0.0)
        before = np.divide(grown, growth[:, None], out=np.zeros_like(grown), where=growth[:, None] > 0.0)


def _period(values: Floats, active: Sequence[Cohort], count: int, rebalance: bool) -> Held:
    """One period of all cohorts; their wealth grows."""
    assets = len(values)
    total = np.zeros(count * assets)
    earned, cohorts_of, numbers = np.zeros(count), np.zeros(count), np.zeros(count, dtype=np.int64)
    lost = []
    for cohort in active:
        if rebalance:
            cohort.wealth = np.where(cohort.wealth > 0.0, cohort.weights, 0.0)
        r = values[cohort.members]
        there = np.isfinite(r) & (cohort.wealth > 0.0)
        gone = ~there & (cohort.wealth > 0.0)
        if gone.any():
            lost.append(np.column_stack([cohort.portfolios[gone], cohort.members[gone]]))
        wealth = np.where(there, cohort.wealth, 0.0)
        invested = np.bincount(cohort.portfolios, wealth, count)
        some = invested > 0.0
        share = wealth / np.where(some, invested, 1.0)[cohort.portfolios]
        total += np.bincount(cohort.portfolios * assets + cohort.members, share, count * assets)
        gain = np.where(there, r, 0.0)
        earned += np.bincount(cohort.portfolios, share * gain, count)
        cohorts_of += some
        numbers += np.bincount(cohort.portfolios[there], minlength=count)
        cohort.wealth = wealth * (1.0 + gain)
    average = np.where(cohorts_of > 0.0, cohorts_of, np.nan)
    weights = total.reshape(count, assets) / np.where(cohorts_of > 0.0, cohorts_of, 1.0)[:, None]
    numbers = (weights > 0.0).sum(axis=1) if len(active) > 1 else numbers
    nothing = np.empty((0, 2), dtype=np.int64)
    return Held(-1, weights, earned / average, np.zeros(count), numbers, np.concatenate([nothing, *lost]))


@dataclass(frozen=True)
class History:
    """All periods: ``returns turnover counts`` (T, P), and ``lost`` with rows, portfolios and columns."""

    returns: Floats
    turnover: Floats
    counts: Ints
    lost: Ints


def history(returns: Floats, cohorts: Sequence[Cohort], count: int, *, rebalance: bool = False) -> History:
    """Returns, turnover and numbers of assets of all periods."""
    shape = (len(returns), count)
    earned, turnover = np.full((2, *shape), np.nan)
    numbers = np.zeros(shape, dtype=np.int64)
    lost = [np.empty((0, 3), dtype=np.int64)]
    periods = hold(returns, cohorts, count, rebalance=rebalance)
    for held in count_parts(periods, "periods held", len(returns)):
        row = held.row
        earned[row], numbers[row] = held.returns, held.counts
        turnover[row] = np.where(held.counts > 0, held.turnover, np.nan)
        if len(held.lost):
            lost.append(np.column_stack([np.full(len(held.lost), row), held.lost]))
    return History(earned, turnover, numbers, np.concatenate(lost))


def capped_weights(amounts: Floats, cap: float) -> Floats:
    """Weights in proportion to amounts, none above a cap; what is cut goes to the others in proportion.

    If even equal weights are above the cap, they are equal.

    Examples
    --------
    >>> capped_weights(np.array([6.0, 3.0, 1.0]), 0.5).tolist()
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
