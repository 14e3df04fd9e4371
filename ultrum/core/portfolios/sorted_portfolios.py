"""Sorted portfolios: formed on characteristics known at formation, held until the next one."""

from __future__ import annotations

import functools
import itertools
import textwrap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import numpy.typing as npt
import pandas as pd

from ultrum.core.arguments import refuse_idle_options, validate_arguments
from ultrum.core.array_types import Bools, Dates, Floats, Ints
from ultrum.core.portfolios.breakpoints import Groups, assign, portfolio_count
from ultrum.core.portfolios.holdings import Cohort, History, capped_weights, dense, history, hold
from ultrum.core.presentation import WIDTH, TextInNotebooks, quantity, table_text
from ultrum.core.series.metadata import Metadata, hindsight_of
from ultrum.core.series.return_checks import check_one_currency
from ultrum.core.series.series_or_table import refuse_no_values
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.statistics.risk_return_and_drawdowns import returns_in
from ultrum.core.time.frequency import Frequency, periods_in
from ultrum.core.time.period_labels_and_relative_dates import days_in
from ultrum.errors import AlignmentError, EstimationError, UnitError, choices, name_list, one_of

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
Characteristics = Mapping[str, SeriesTable | pd.DataFrame]


class Reasons:
    """Why assets are left out: the place of a reason for each row and asset, 0 where it is used."""

    def __init__(self, shape: tuple[int, int]) -> None:
        self.places = np.zeros(shape, dtype=np.int8)
        self.words = [""]

    def leave_out(self, where: Bools, reason: str, rows: int | slice = slice(None)) -> None:
        """Give a reason to assets that have none yet."""
        if reason not in self.words:
            self.words.append(reason)
        part = self.places[rows]
        part[where & (part == 0)] = self.words.index(reason)

    def counts(self, rows: Ints) -> dict[str, int]:
        """Number of assets by reason at some rows."""
        numbers = np.bincount(self.places[rows].ravel(), minlength=len(self.words))
        return {word: int(number) for word, number in zip(self.words, numbers, strict=True) if number}


@dataclass(frozen=True, eq=False, repr=False)
class SortedPortfolios(TextInNotebooks):
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
    >>> world = ul.practice.stocks()
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
    sold: pd.DataFrame
    basis: str
    _codes: Ints
    _reasons: tuple[npt.NDArray[np.int8], list[str]]
    _asset_returns: Floats
    _cohorts: tuple[Cohort, ...]
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
        return pd.DataFrame(words[self._codes], self.formations, list(self._assets), dtype=object)

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
        >>> world = ul.practice.stocks()
        >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=3)
        >>> sorted_.weights("2020-07").sum().round(12).tolist()
        [1.0, 1.0, 1.0]
        """
        if not period:
            latest, values = self._cohorts[-1], np.zeros((len(self._assets), len(self.names)))
            values[latest.members, latest.portfolios] = latest.weights
            return pd.DataFrame(values, list(self._assets), self.names)
        frequency = self.returns.frequency
        place = self.returns.ordinals - frequency.ordinal_of_name(period)
        row = int(np.argmin(np.abs(place))) if len(place) else -1
        if row < 0 or place[row] != 0:
            raise AlignmentError(f"weights: no period {period}; the portfolios are held {self._span()}.")
        needed = [
            Cohort(c.formed, c.last, c.members, c.portfolios, c.weights)
            for c in self._cohorts
            if c.formed < row <= c.last
        ]
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

    def __repr__(self) -> str:
        return f"{table_text(self.to_frame(), '{:.4f}')}\n{textwrap.fill(self.basis, WIDTH)}"


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
    returns : SeriesTable or DataFrame, shape (T, N)
        Simple total returns, in decimals.
    characteristics : mapping of str to SeriesTable or DataFrame
        One to three characteristics by name, in the frequency of the returns. A value of period t is one that is
        known at the end of t; :func:`known_accounts` makes such values from filings.
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
    table = _total_returns(returns)
    plan = _groups(characteristics, groups, cutoffs)
    calendar = _Calendar.of(table)
    market = _table_of("weights", weights, table, money=True) if not isinstance(weights, str) else None
    if cap is not None and not 0.0 < cap <= 1.0:
        raise EstimationError(f"sort_portfolios: cap={cap:g} is not a weight between 0 and 1.")
    if (prices is None) != (min_price is None):
        refuse_idle_options("without prices= and min_price= together", prices=prices, min_price=min_price)
    block = calendar.lay(table)
    block, delisted = _with_delistings(block, table, calendar, delisting_returns)
    tables = [_table_of(name, given, table) for name, given in characteristics.items()]
    measured = [calendar.lay(one, table.names) for one in tables]
    formed, last = _schedule(calendar, table.frequency, formation, hold_for)
    usable, why = _eligible(
        calendar, table, measured, list(characteristics), market, universe, exclude, prices, min_price
    )
    subset = _setting_breakpoints(breakpoints_from, calendar, table)
    amounts = calendar.lay(market, table.names) if market is not None else None
    names = _portfolio_names(plan)
    cohorts, codes, points, averages = _form(
        measured, usable, why, subset, plan, order == "dependent", formed, last, amounts, cap, min_assets
    )
    if not cohorts or cohorts[0].formed == len(block) - 1:
        counts = "; ".join(f"{word}: {number:,}" for word, number in why.counts(formed).items() if word)
        raise EstimationError(
            f"sort_portfolios: no portfolio can be formed at {quantity(len(formed), 'formation')}. "
            f"Assets left out: {counts or 'none'}."
        )
    held = history(block, cohorts, len(names), rebalance=rebalance)
    rows = slice(cohorts[0].formed + 1, None)
    metadata = _metadata(table, names, plan, held)
    index = calendar.index(table)
    result_index = index[rows]
    formations = index[formed]
    labels = np.array([*names, ""], dtype=object)
    sold = held.lost
    return SortedPortfolios(
        returns=SeriesTable.from_arrays(np.ascontiguousarray(held.returns[rows]), result_index, metadata),
        counts=pd.DataFrame(held.counts[rows], result_index, names),
        turnover=pd.DataFrame(held.turnover[rows], result_index, names),
        breakpoints=_breakpoint_table(points, plan, order == "dependent", formations),
        averages=pd.concat(
            {
                name: pd.DataFrame(values, formations, names)
                for name, values in zip(characteristics, averages, strict=True)
            },
            axis=1,
        ),
        groups={one.name: one.count for one in plan},
        formations=formations,
        sold=pd.DataFrame(
            {
                "period": index[sold[:, 0]],
                "portfolio": labels[sold[:, 1]],
                "asset": np.array(table.names, dtype=object)[sold[:, 2]],
            }
        ),
        basis=_basis(
            plan,
            order,
            formation,
            table,
            market,
            cap,
            rebalance,
            why.counts(formed),
            len(formed),
            sold,
            delisted,
            characteristics,
            hold_for,
        ),
        _codes=codes,
        _reasons=(why.places[formed], why.words),
        _asset_returns=block[rows],
        _cohorts=tuple(
            Cohort(
                c.formed - cohorts[0].formed - 1,
                c.last - cohorts[0].formed - 1,
                c.members,
                c.portfolios,
                c.weights,
            )
            for c in cohorts
        ),
        _assets=tuple(table.names),
        _rebalance=rebalance,
    )


def _total_returns(returns: SeriesTable | pd.DataFrame) -> SeriesTable:
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


def _groups(
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
class _Calendar:
    """Rows of a sort: every period from the first to the last return, or the dates of dated returns."""

    frequency: Frequency
    ordinals: Ints

    @classmethod
    def of(cls, table: SeriesTable) -> _Calendar:
        ordinals = table.ordinals
        if table.frequency.is_dated or not len(ordinals):
            return cls(table.frequency, ordinals)
        return cls(table.frequency, np.arange(ordinals[0], ordinals[-1] + 1))

    def lay(self, table: SeriesTable, names: Sequence[str] | None = None) -> Floats:
        """Values of a table on these rows, with its columns in an order; missing where it has none."""
        wanted = list(table.names if names is None else names)
        if wanted == table.names and np.array_equal(table.ordinals, self.ordinals):
            return np.ascontiguousarray(table.block)  # by row, as formations take it
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
    if table.frequency.code != returns.frequency.code or table.frequency.multiple != returns.frequency.multiple:
        raise AlignmentError(
            f"sort_portfolios: {name} is {table.frequency.name}, the returns are {returns.frequency.name}.",
            fix="Make values known at the end of each period: known_accounts for filings, to_frequency else.",
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
    block: Floats, table: SeriesTable, calendar: _Calendar, given: pd.DataFrame | None
) -> tuple[Floats, int]:
    """Returns with those of delistings, and how many there are."""
    if given is None:
        return block, 0
    _need_columns("delisting_returns", given, ("asset", "date", "return"))
    place = {name: column for column, name in enumerate(table.names)}
    unknown = [str(name) for name in given["asset"] if str(name) not in place]
    if unknown:
        raise AlignmentError(
            f"delisting_returns: '{unknown[0]}' has no returns; {one_of(unknown[0], table.names)}"
        )
    columns = np.array([place[str(name)] for name in given["asset"]], dtype=np.int64)
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
    changed = block.copy()
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
    calendar: _Calendar, frequency: Frequency, formation: str, hold_for: int | str | None
) -> tuple[Ints, Ints]:
    """Rows of the formations, and the last row of each holding period."""
    ordinals = calendar.ordinals
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


def _eligible(
    calendar: _Calendar,
    table: SeriesTable,
    measured: Sequence[Floats],
    names: Sequence[str],
    market: SeriesTable | None,
    universe: pd.DataFrame | None,
    exclude: Mapping[str, Sequence[str]] | None,
    prices: SeriesTable | pd.DataFrame | None,
    min_price: float | None,
) -> tuple[Bools, Reasons]:
    """Which assets can be sorted at the end of each row, and the reason for each of the others."""
    shape = (len(calendar.ordinals), len(table.names))
    why = Reasons(shape)
    if universe is not None:
        why.leave_out(~_members(universe, calendar.last_days, table.names), _NOT_A_MEMBER)
    for reason, assets in (exclude or {}).items():
        if isinstance(assets, str) or not isinstance(assets, Sequence):
            raise EstimationError(f"exclude: '{reason}' takes a list of assets, such as ['BRTW'].")
        unknown = [name for name in assets if name not in table.names]
        if unknown:
            raise AlignmentError(f"exclude: '{unknown[0]}' has no returns; {one_of(unknown[0], table.names)}")
        why.leave_out(np.broadcast_to(np.isin(table.names, list(assets)), shape), f"{_EXCLUDED}: {reason}")
    if prices is not None and min_price is not None:
        levels = calendar.lay(_table_of("prices", prices, table), table.names)
        why.leave_out(~np.isfinite(levels), _NO_PRICE)
        why.leave_out(levels < min_price, _LOW_PRICE)
    for name, values in zip(names, measured, strict=True):
        why.leave_out(~np.isfinite(values), f"no {name}")
    if market is not None:
        amounts = calendar.lay(market, table.names)
        why.leave_out(~(np.isfinite(amounts) & (amounts > 0.0)), _NO_WEIGHT)
    return why.places == 0, why


def _members(universe: pd.DataFrame, days: Dates, names: Sequence[str]) -> Bools:
    """Whether each asset is a member on each day."""
    _need_columns("universe", universe, ("asset", "entry", "exit"))
    place = {name: column for column, name in enumerate(names)}
    inside = np.zeros((len(days), len(names)), dtype=bool)
    entry, leave = (
        np.asarray(
            days_in(universe[side].mask(universe[side].astype(str).str.strip() == "", None), side, missing=True)
        )
        for side in ("entry", "exit")
    )
    for asset, first, last in zip(universe["asset"].astype(str), entry, leave, strict=True):
        if asset in place:
            since = np.isnat(first) | (days >= first)
            inside[:, place[asset]] |= since & (np.isnat(last) | (days <= last))
    return inside


def _setting_breakpoints(
    given: Sequence[str] | SeriesTable | pd.DataFrame | None, calendar: _Calendar, table: SeriesTable
) -> Bools | None:
    """Assets whose values set the breakpoints, by row; None for all."""
    shape = (len(calendar.ordinals), len(table.names))
    if given is None:
        return None
    if isinstance(given, SeriesTable | pd.DataFrame):
        return np.asarray(calendar.lay(_table_of("breakpoints_from", given, table), table.names) > 0.0)
    unknown = [name for name in given if name not in table.names]
    if unknown:
        raise AlignmentError(
            f"breakpoints_from: '{unknown[0]}' has no returns; {one_of(unknown[0], table.names)}"
        )
    return np.broadcast_to(np.isin(table.names, list(given)), shape)


def _form(
    measured: Sequence[Floats],
    usable: Bools,
    why: Reasons,
    subset: Bools | None,
    plan: Sequence[Groups],
    dependent: bool,
    formed: Ints,
    last: Ints,
    amounts: Floats | None,
    cap: float | None,
    min_assets: int,
) -> tuple[list[Cohort], Ints, list[list[Floats]], list[Floats]]:
    """The cohort of each formation, codes (F, N), breakpoints by formation, and mean characteristics (F, P)."""
    count = portfolio_count(plan)
    codes = np.full((len(formed), usable.shape[1]), -1, dtype=np.int64)
    averages = [np.full((len(formed), count), np.nan) for _ in plan]
    cohorts, points = [], []
    for number, (row, end) in enumerate(zip(formed.tolist(), last.tolist(), strict=True)):
        values = [one[row] for one in measured]
        code, breaks = assign(values, usable[row], None if subset is None else subset[row], plan, dependent)
        why.leave_out(usable[row] & (code < 0), _NO_POINTS, row)
        sizes = np.bincount(code[code >= 0], minlength=count)
        small = (code >= 0) & (sizes[np.maximum(code, 0)] < min_assets)
        why.leave_out(small, _SMALL, row)
        code[small] = -1
        points.append(breaks)
        codes[number] = code
        members = np.flatnonzero(code >= 0)
        if not len(members):
            continue
        portfolios = code[members]
        sizes = np.bincount(portfolios, minlength=count)
        for average, value in zip(averages, values, strict=True):
            sums = np.bincount(portfolios, value[members], count)
            average[number] = np.where(sizes > 0, sums / np.maximum(sizes, 1), np.nan)
        weight = _weights(portfolios, None if amounts is None else amounts[row, members], count, cap)
        cohorts.append(Cohort(row, end, members, portfolios, weight))
    return cohorts, codes, points, averages


def _weights(portfolios: Ints, amounts: Floats | None, count: int, cap: float | None) -> Floats:
    """Weights within each portfolio."""
    values = np.ones(len(portfolios)) if amounts is None else amounts
    weights = np.asarray(values / np.bincount(portfolios, values, count)[portfolios])
    if cap is None or not (weights > cap).any():
        return weights
    for portfolio in np.unique(portfolios[weights > cap]):
        inside = portfolios == portfolio
        weights[inside] = capped_weights(values[inside], cap)
    return weights


def _portfolio_names(plan: Sequence[Groups]) -> list[str]:
    """``size 1 value 2``: the first characteristic varies slowest."""
    numbers = itertools.product(*(range(1, one.count + 1) for one in plan))
    return [" ".join(f"{one.name} {k}" for one, k in zip(plan, each, strict=True)) for each in numbers]


def _breakpoint_table(
    points: Sequence[list[Floats]], plan: Sequence[Groups], dependent: bool, formations: pd.Index
) -> pd.DataFrame:
    """Breakpoints by formation."""
    columns: dict[tuple[str, str, str], Floats] = {}
    for place, one in enumerate(plan):
        block = np.array([each[place] for each in points])
        parents = _portfolio_names(plan[:place]) if dependent and place else [""]
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
    incomes = {m.income for m in table.metadata}
    base = table.metadata[0].replace(
        title="",
        address="",
        source="",
        region="",
        notes=(),
        trail=(),
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


def _basis(
    plan: Sequence[Groups],
    order: str,
    formation: str,
    table: SeriesTable,
    market: SeriesTable | None,
    cap: float | None,
    rebalance: bool,
    counts: Mapping[str, int],
    formations: int,
    sold: Ints,
    delisted: int,
    characteristics: Characteristics,
    hold_for: int | str | None,
) -> str:
    """The rules of a sort and its counts, in words."""
    sorts = " × ".join(f"{one.name} ({one.count})" for one in plan)
    every = f"at the end of each {formation} period" if formation else f"every {table.frequency.noun}"
    kind = "equal-weighted" if market is None else "value-weighted"
    parts = [
        f"Sorted on {sorts}{', ' + order + ' sorts' if len(plan) > 1 else ''}; group 1 has the lowest values",
        f"formed {every}{f', held for {hold_for}' if hold_for is not None else ''}; {kind}"
        f"{f', at most {100 * cap:g} % each' if cap else ''}, "
        f"{'rebalanced every period' if rebalance else 'buy and hold'}",
    ]
    listed = ", ".join(f"{word} {number:,}" for word, number in counts.items() if word)
    parts.append(
        f"{sum(counts.values()):,} asset formations at {quantity(formations, 'date')}: {counts.get('', 0):,} used"
        f"{'; left out: ' + listed if listed else ''}"
    )
    if len(sold):
        parts.append(f"sold for want of a return: {len(sold):,}")
    if delisted:
        parts.append(f"{quantity(delisted, 'delisting return')} used")
    names = set(table.names)
    for name, given in characteristics.items():
        more = [
            str(n)
            for n in (given.names if isinstance(given, SeriesTable) else given.columns)
            if str(n) not in names
        ]
        if more:
            parts.append(
                f"not used: {name} of {quantity(len(more), 'asset')} without returns ({name_list(more[:3])})"
            )
    return "; ".join(parts) + "; decimals per period."
