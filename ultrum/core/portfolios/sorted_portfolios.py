"""Sorted portfolios: formed on characteristics known at formation, held until the next one."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt
import pandas as pd

from ultrum.core.arguments import accepts_large, validate_arguments
from ultrum.core.array_types import Floats, Ints
from ultrum.core.portfolios.breakpoints_and_holdings import (
    Assignments,
    Cohort,
    Groups,
    History,
    Storage,
    dense,
    history,
    hold,
    portfolio_count,
)
from ultrum.core.portfolios.formation import (
    Characteristics,
    Formations,
    Rules,
    form_portfolios,
    groups_of,
    total_returns,
)
from ultrum.core.presentation import TableInNotebooks, quantity
from ultrum.core.series.input_checks import asset_codes
from ultrum.core.series.metadata import Metadata, hindsight_of
from ultrum.core.series.time_series import SeriesTable
from ultrum.errors import AlignmentError, name_list, warn_user


@dataclass(frozen=True, eq=False, repr=False)
class SortedPortfolios(TableInNotebooks):
    """Portfolios sorted on characteristics.

    Attributes
    ----------
    returns : SeriesTable, shape (T, P)
        Total returns of each portfolio, in decimals per period.
    counts, turnover : DataFrame, shape (T, P)
        Assets with a return, and half the sum of absolute changes in weights at the start of the period.
    breakpoints : DataFrame
        By formation: a column for each characteristic and breakpoint, and for each group that a dependent sort
        divides.
    averages : DataFrame
        Mean characteristic of the assets of each portfolio by formation (columns: characteristic, portfolio).
    groups : mapping of str to int
        Number of groups of each characteristic; group 1 has the lowest values.
    formations : Index
        The periods at whose end portfolios are formed.
    sold : DataFrame
        Assets sold for want of a return: ``period portfolio asset``.
    basis : str
        The rules, and what was left out.

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.stocks(60, 72)
    >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=3)
    >>> sorted_.returns.names
    ['value 1', 'value 2', 'value 3']
    """

    returns: SeriesTable
    counts: pd.DataFrame
    turnover: pd.DataFrame
    breakpoints: pd.DataFrame
    averages: pd.DataFrame
    groups: Mapping[str, int]
    formations: pd.Index
    basis: str
    _reasons: tuple[npt.NDArray[np.int16], list[str]]
    _asset_returns: Floats
    _sold: Ints
    _assigned: Assignments
    _assets: tuple[str, ...]
    _rebalance: bool

    @property
    def names(self) -> list[str]:
        """Names of the portfolios: the characteristics with their groups."""
        return self.returns.names

    @property
    def in_percent(self) -> str:
        """The basis where numbers are shown in percent."""
        return self.basis.replace("decimals per", "percent per")

    @functools.cached_property
    def membership(self) -> pd.DataFrame:
        """The portfolio of each asset by formation, shape (F, N); empty where it is left out."""
        words = np.array([*self.names, ""], dtype=object)
        return pd.DataFrame(words[self._assigned.codes], self.formations, list(self._assets), dtype=object)

    @functools.cached_property
    def left_out(self) -> pd.DataFrame:
        """Every asset that a formation leaves out, with the reason: ``formation asset reason``."""
        places, words = self._reasons
        rows, columns = np.nonzero(places)
        facts = {
            "formation": self.formations[rows],
            "asset": np.array(self._assets, dtype=object)[columns],
            "reason": np.array(words, dtype=object)[places[rows, columns]],
        }
        return pd.DataFrame(facts).astype({"asset": "category", "reason": "category"})

    @functools.cached_property
    def sold(self) -> pd.DataFrame:
        """Assets sold for want of a return: ``period portfolio asset``."""
        row, portfolio, asset = self._sold.T
        facts = {
            "period": self.returns.index[row],
            "portfolio": pd.Index(self.names, dtype="str")[portfolio],
            "asset": pd.Index(self._assets, dtype="str")[asset],
        }
        return pd.DataFrame(facts)

    def weights(self, period: str = "") -> pd.DataFrame:
        """Weights at the start of a period, shape (N, P); zero for assets that a portfolio does not hold.

        Parameters
        ----------
        period : str
            Such as ``"2020-07"``; the portfolios were formed at the end of an earlier period. By default the
            weights of the latest formation.

        Returns
        -------
        DataFrame, shape (N, P)
            Those of each portfolio sum to one.

        Raises
        ------
        AlignmentError
            If nothing is held in the period.

        Examples
        --------
        >>> import ultrum as ul
        >>> world = ul.practice.stocks(60, 72)
        >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=3)
        >>> sorted_.weights("2010-07").sum().round(12).tolist()
        [1.0, 1.0, 1.0]
        """
        if not period:
            last = Cohort.of(self._assigned, -1)
            values = dense([last], len(self.names), len(self._assets))
            return pd.DataFrame(values.T, list(self._assets), self.names)
        frequency = self.returns.frequency
        place = self.returns.ordinals - frequency.ordinal_of_name(period)
        row = int(np.argmin(np.abs(place))) if len(place) else -1
        if row < 0 or place[row] != 0:
            raise AlignmentError(f"weights: no period {period}; the portfolios are held {self._span()}.")
        needed = self._assigned.held_in(row)
        for held in hold(self._asset_returns, needed, len(self.names), rebalance=self._rebalance):
            if held.row == row:
                values = dense(held.layers, len(self.names), len(self._assets))
                return pd.DataFrame(values.T, list(self._assets), self.names)
        raise AlignmentError(f"weights: nothing is held in {period}; the portfolios are held {self._span()}.")

    def to_pandas(self) -> pd.DataFrame:
        """Returns of the portfolios, a column each.

        Returns
        -------
        DataFrame, shape (T, P)
            Decimals per period.
        """
        return self.returns.to_pandas()

    def to_frame(self) -> pd.DataFrame:
        """By portfolio: mean and standard deviation per period, assets, turnover and mean characteristics.

        Returns
        -------
        DataFrame, shape (P, ...)
            A row per portfolio.
        """
        block = self.returns.to_pandas()
        facts = {
            "mean": block.mean(),
            "std": block.std(),
            "assets": self.counts.mean(),
            "turnover": self.turnover.mean(),
        }
        for name in self.groups:
            facts[name] = pd.DataFrame(self.averages[name]).mean()
        return pd.DataFrame(facts).reindex(self.names)

    def _span(self) -> str:
        held = self.counts.index[self.counts.sum(axis=1) > 0]
        return f"{held[0]} to {held[-1]}" if len(held) else "in no period"


@accepts_large("returns")
@validate_arguments
def sort_portfolios(
    returns: SeriesTable | pd.DataFrame,
    characteristics: Characteristics,
    *,
    groups: int | Sequence[float] | Mapping[str, int | Sequence[float]] = 5,
    cutoffs: Mapping[str, Sequence[float]] | None = None,
    order: Literal["independent", "dependent"] = "independent",
    formation: str = "",
    hold_for: int | str | None = None,
    weights: Literal["equal"] | SeriesTable | pd.DataFrame = "equal",
    cap: float | None = None,
    rebalance: bool = False,
    universe: pd.DataFrame | None = None,
    exclude: Mapping[str, Sequence[str]] | None = None,
    breakpoints_from: Sequence[str] | SeriesTable | pd.DataFrame | None = None,
    prices: SeriesTable | pd.DataFrame | None = None,
    min_price: float | None = None,
    delisting_returns: pd.DataFrame | None = None,
    min_assets: int = 1,
) -> SortedPortfolios:
    """Sorted portfolios: assets are ranked by a characteristic at each formation and held until the next.

    The portfolio of period t depends on characteristics, market values, prices and members known at the end of
    the formation period before t, so no return is known when its portfolio is formed.

    Parameters
    ----------
    returns : SeriesTable, LongTable or DataFrame, shape (T, N)
        Simple total returns, in decimals. With a long table, characteristics, weights and prices can be
        columns of its files.
    characteristics : mapping of str to SeriesTable or DataFrame
        One to three characteristics by name, in the frequency of the returns. A value of period t is one that is
        known at the end of t; :func:`point_in_time_accounts` makes such values from filings.
    groups : int, sequence of float, or mapping of names to either
        Number of groups of equal size, or fractions such as ``(0.3, 0.7)``.
    cutoffs : mapping of str to sequence of float, optional
        Breakpoints as values of a characteristic, in place of quantiles.
    order : {"independent", "dependent"}
        Dependent sorts divide each group of the characteristics before.
    formation : str
        When portfolios are formed: at the end of each period of this frequency, such as ``"A-JUN"``, the end of
        June; by default every period of the returns.
    hold_for : int or str, optional
        Holding period, in periods or as a duration; by default until the next formation. Longer holdings overlap:
        the portfolio is the average over the formations held.
    weights : "equal", SeriesTable or DataFrame
        Equal, or market values at the formation (value-weighted).
    cap : float, optional
        Maximum weight of an asset in its portfolio at formation.
    rebalance : bool
        Return to the weights at formation in each period; by default weights drift.
    universe : DataFrame, optional
        Members: ``asset``, ``entry`` and ``exit`` (first and last day as a member, empty for none). A survivor is
        not a member before its entry.
    exclude : mapping of str to sequence of str, optional
        Assets that are left out, by reason.
    breakpoints_from : sequence of str, SeriesTable or DataFrame, optional
        Assets whose values set the breakpoints: names, or a table of ones and zeros by period.
    prices, min_price : table and float, optional
        Assets below a price at formation are left out.
    delisting_returns : DataFrame, optional
        ``asset date return``: compounded with the return of that period, or its return if it has none.
    min_assets : int
        A portfolio with fewer assets at formation is not formed.

    Returns
    -------
    SortedPortfolios
        Returns, weights, turnover, breakpoints, and every asset left out.

    Raises
    ------
    EstimationError
        If no formation has assets in every group, or the rules contradict each other.
    AlignmentError
        If frequencies or names do not match.
    UnitError
        If the returns are excess or log returns, or a characteristic takes values from later periods.

    Notes
    -----
    An asset on a breakpoint is in the lower group. An asset without a return in a period is sold at its start,
    and what it was worth goes to the other assets of its portfolio; it comes back at the next formation.

    References
    ----------
    Fama, E. F., and K. R. French (1993), Common risk factors in the returns on stocks and bonds. Journal of
    Financial Economics 33, 3–56. Jegadeesh, N., and S. Titman (1993), Returns to buying winners and selling
    losers. Journal of Finance 48, 65–91.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> r = pd.DataFrame({"A": [0.0, 0.10, 0.0], "B": [0.0, 0.02, 0.1], "C": [0.0, -0.06, 0.2]}, months)
    >>> size = pd.DataFrame({"A": [1.0, 1.0, 1.0], "B": [2.0, 2.0, 9.0], "C": [9.0, 9.0, 2.0]}, months)
    >>> made = sort_portfolios(r, {"size": size}, groups=2)
    >>> made.to_pandas().round(3).values.tolist()
    [[0.06, -0.06], [0.05, 0.2]]
    """
    table = total_returns(returns)
    plan = groups_of(characteristics, groups, cutoffs)
    rules = Rules(
        formation,
        hold_for,
        None if isinstance(weights, str) else weights,
        cap,
        universe,
        exclude,
        breakpoints_from,
        prices,
        min_price,
        delisting_returns,
        min_assets,
        order == "dependent",
    )
    return sort_by_rules(table, characteristics, plan, rules, rebalance, Storage())


def sort_by_rules(
    table: SeriesTable,
    characteristics: Characteristics,
    plan: Sequence[Groups],
    rules: Rules,
    rebalance: bool,
    storage: Storage,
) -> SortedPortfolios:
    """A sort of total returns with its arrays in memory or elsewhere."""
    formations = form_portfolios(table, characteristics, plan, rules, storage)
    _warn_of_empty(plan, formations, rules.min_assets)
    count = portfolio_count(plan)
    held = history(formations.returns, formations.assigned, count, rebalance=rebalance, storage=storage)
    words = _words(plan, rules, rebalance, table, formations, len(held.lost), characteristics)
    return _result(table, plan, formations, held, rebalance, words)


def _warn_of_empty(plan: Sequence[Groups], made: Formations, min_assets: int) -> None:
    """Warn of portfolios that no formation fills."""
    never = np.flatnonzero(np.isnan(made.averages[0]).all(axis=0))
    if len(never):
        names = _portfolio_names(plan)
        few = f", and min_assets is {min_assets}" if min_assets > 1 else ""
        warn_user(
            f"sort_portfolios: no formation has assets in {name_list([names[k] for k in never])} (equal values "
            f"are in one group{few}).",
            fix="Use fewer groups, or another characteristic.",
        )


def _result(
    table: SeriesTable, plan: Sequence[Groups], made: Formations, held: History, rebalance: bool, basis: str
) -> SortedPortfolios:
    """Labelled returns, weights and records of a sort."""
    names = _portfolio_names(plan)
    rows = made.assigned.rows
    start = int(rows[made.assigned.formed][0]) + 1
    index, formations = made.index[start:], made.index[rows]
    averages = {
        one.name: pd.DataFrame(values, formations, names) for one, values in zip(plan, made.averages, strict=True)
    }
    returns = np.ascontiguousarray(held.returns[start:])
    return SortedPortfolios(
        returns=SeriesTable.from_arrays(returns, index, _metadata(table, names, plan, held)),
        counts=pd.DataFrame(held.counts[start:], index, names),
        turnover=pd.DataFrame(held.turnover[start:], index, names),
        breakpoints=_breakpoint_table(made.points, plan, formations),
        averages=pd.concat(averages, axis=1),
        groups={one.name: one.count for one in plan},
        formations=formations,
        basis=basis,
        _reasons=(made.reasons.places, made.reasons.words),
        _asset_returns=made.returns[start:],
        _sold=held.lost - np.array([start, 0, 0]),
        _assigned=made.assigned.since(start),
        _assets=tuple(table.names),
        _rebalance=rebalance,
    )


def _portfolio_names(plan: Sequence[Groups]) -> list[str]:
    """``size 1 value 2``: the first characteristic varies slowest."""
    numbers = itertools.product(*(range(1, one.count + 1) for one in plan))
    return [" ".join(f"{one.name} {k}" for one, k in zip(plan, each, strict=True)) for each in numbers]


def _breakpoint_table(points: Sequence[Floats], plan: Sequence[Groups], formations: pd.Index) -> pd.DataFrame:
    """Breakpoints by formation."""
    columns: dict[tuple[str, str, str], Floats] = {}
    for place, one in enumerate(plan):
        block = points[place]
        parents = _portfolio_names(plan[:place]) if block.shape[1] > 1 else [""]
        for parent, name in enumerate(parents):
            for k, point in enumerate(one.points):
                label = f"{point:g}" if one.are_values else f"{100 * point:g} %"
                columns[one.name, name, label] = block[:, parent, k]
    names = ["characteristic", "within", "breakpoint"]
    return pd.DataFrame(
        np.column_stack(list(columns.values())), formations, pd.MultiIndex.from_tuples(list(columns), names=names)
    )


def _metadata(table: SeriesTable, names: Sequence[str], plan: Sequence[Groups], held: History) -> list[Metadata]:
    """Metadata of the portfolios."""
    incomes, trails = {m.income for m in table.metadata}, {m.trail for m in table.metadata}
    base = table.metadata[0].replace(
        title="",
        address="",
        source="",
        region="",
        notes=(),
        trail=trails.pop() if len(trails) == 1 else (),
        income=incomes.pop() if len(incomes) == 1 else "",
    )
    base = base.add_step(
        "sorted",
        {"hindsight": hindsight_of(table.metadata)},
        of=len(table.names),
        by=", ".join(one.name for one in plan),
        sold=len(held.lost) or None,
    )
    return [base.replace(name=name) for name in names]


def _words(
    plan: Sequence[Groups],
    rules: Rules,
    rebalance: bool,
    table: SeriesTable,
    made: Formations,
    sold: int,
    characteristics: Characteristics,
) -> str:
    """The rules of a sort and its counts."""
    sorts = " × ".join(f"{one.name} ({one.count})" for one in plan)
    every = f"at the end of each {rules.formation} period" if rules.formation else f"every {table.frequency.noun}"
    kind = "equal-weighted" if rules.weights is None else "value-weighted"
    order = f", {'dependent' if rules.dependent else 'independent'} sorts" if len(plan) > 1 else ""
    held = f", held for {rules.hold_for}" if rules.hold_for is not None else ""
    cap = f", at most {100 * rules.cap:g} % each" if rules.cap else ""
    counts = made.reasons.counts()
    listed = ", ".join(f"{word} {number:,}" for word, number in counts.items() if word)
    parts = [
        f"Sorted on {sorts}{order}; group 1 has the lowest values",
        f"formed {every}{held}; {kind}{cap}, {'rebalanced every period' if rebalance else 'buy and hold'}",
        f"{made.assigned.codes.size:,} asset formations at {quantity(len(made.assigned.rows), 'date')}: "
        f"{counts.get('', 0):,} used{'; left out: ' + listed if listed else ''}",
    ]
    empty = np.isnan(made.averages[0][made.assigned.formed])
    if empty.any():
        parts.append(f"portfolios without assets: {int(empty.sum()):,} of {empty.size:,}")
    if sold:
        parts.append(f"sold for want of a return: {sold:,}")
    if made.delisted:
        parts.append(f"{quantity(made.delisted, 'delisting return')} used")
    parts += _not_used(table, rules, characteristics)
    return "; ".join(parts) + "; decimals per period."


def _not_used(table: SeriesTable, rules: Rules, characteristics: Characteristics) -> list[str]:
    """What the inputs state of assets that have no returns, in words."""
    names = set(table.names)
    inputs = {**characteristics, "weights": rules.weights, "prices": rules.prices}
    listed = {
        name: list(given.names if isinstance(given, SeriesTable) else given.columns)
        for name, given in inputs.items()
        if given is not None
    }
    if rules.universe is not None:
        listed["universe"] = list(asset_codes(rules.universe["asset"]).unique())
    more = {name: [str(one) for one in given if str(one) not in names] for name, given in listed.items()}
    return [
        f"not used: {name} of {quantity(len(given), 'asset')} without returns ({name_list(given[:3])})"
        for name, given in more.items()
        if given
    ]
