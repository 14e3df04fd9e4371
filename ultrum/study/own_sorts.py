"""Sorted portfolios of the user's own file: the roles of its columns, the sort, and its table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from ultrum.core.portfolios.factors_from_sorts import factor_from_portfolios
from ultrum.core.portfolios.portfolio_table_and_monotonicity import PortfolioTable, portfolio_table
from ultrum.core.portfolios.sorted_portfolios import SortedPortfolios, sort_portfolios
from ultrum.core.returns.price_log_and_excess_returns import excess, returns
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.desk.desk import Desk
from ultrum.errors import TableError, one_of
from ultrum.sources.table.factor_columns import FactorTable
from ultrum.sources.table.reading_result import Decision, Reading
from ultrum.study.sections import SortSection


@dataclass(frozen=True)
class SortChoices:
    """What a sort of a file uses.

    Attributes
    ----------
    by : mapping of str to int or tuple of float
        Columns to sort on, with the number of groups or the fractions between them.
    returns, weights : str
        Columns of returns or prices, and of market values; recognised or equal if empty.
    formation, hold_for : str
    order : {"independent", "dependent"}
    cap : float, optional
    min_assets : int
    rebalance : bool
    """

    by: Mapping[str, int | tuple[float, ...]]
    returns: str = ""
    weights: str = ""
    formation: str = ""
    hold_for: str = ""
    order: Literal["independent", "dependent"] = "independent"
    cap: float | None = None
    min_assets: int = 1
    rebalance: bool = False


def sort_file(reading: Reading, choices: SortChoices) -> tuple[SortedPortfolios, list[Decision]]:
    """Portfolios sorted from a table with a row per asset and date, and the decisions about its columns.

    Raises
    ------
    TableError
        If a column does not exist, or no column has returns or prices.
    """
    fields = dict(reading.fields)
    if all(_is_alone(name, table) for name, table in fields.items()):
        raise TableError(
            f"{reading.name} has a series per column; a sort needs a row per asset and date, with a column that "
            "names the asset."
        )
    values, decision = _returns(reading, fields, choices.returns)
    characteristics = {name: _column(reading, fields, name) for name in choices.by}
    weights: SeriesTable | Literal["equal"] = "equal"
    if choices.weights:
        weights = _column(reading, fields, choices.weights)
    portfolios = sort_portfolios(
        values,
        characteristics,
        groups=dict(choices.by),
        order=choices.order,
        formation=choices.formation,
        hold_for=choices.hold_for or None,
        weights=weights,
        cap=choices.cap,
        min_assets=choices.min_assets,
        rebalance=choices.rebalance,
    )
    used = {decision.chosen.split("'")[1], choices.weights, *choices.by}
    idle = [name for name in (*fields, *reading.events) if name not in used]
    unused = [Decision("not used", f"column '{name}'") for name in idle]
    stated = [one for one in reading.decisions if one.certainty != "sure"]
    return portfolios, [decision, *unused, *stated]


def _column(reading: Reading, fields: Mapping[str, SeriesTable], name: str) -> SeriesTable:
    """A column of numbers by its heading."""
    if name not in fields:
        raise TableError(f"{reading.name} has no column of numbers '{name}'; {one_of(name, fields)}")
    return fields[name]


def _is_alone(name: str, table: SeriesTable) -> bool:
    """Whether a column is a series of its own, rather than one of many assets."""
    return len(table.names) < 2 or not name or table.names == [name]


def _returns(reading: Reading, fields: Mapping[str, SeriesTable], given: str) -> tuple[SeriesTable, Decision]:
    """The returns of a file, or those of its prices."""
    if given:
        table = _column(reading, fields, given)
        if table.metadata[0].measure in ("price", "index"):
            return returns(table), Decision("returns", f"'{given}', prices converted to returns")
        return table.with_metadata(measure="return"), Decision("returns", f"'{given}'", certainty="given")
    for measure, words in (("return", ""), ("price", ", prices converted to returns")):
        having = [name for name, table in fields.items() if table.metadata[0].measure == measure]
        if len(having) > 1:
            raise TableError(
                f"{reading.name}: {' and '.join(map(repr, having))} can each be the column of {measure}s.",
                fix="Set returns= to one of them.",
                setting="returns",
            )
        if having:
            table = _column(reading, fields, having[0])
            return (table if measure == "return" else returns(table)), Decision(
                "returns", f"'{having[0]}'{words}", certainty="from the heading"
            )
    raise TableError(
        f"{reading.name} has no column with returns or prices in its heading; there are "
        f"{', '.join(map(repr, fields))}.",
        fix="Set returns= to the column.",
        setting="returns",
    )


def factor_of_sort(section: SortSection, desk: Desk, name: str) -> TimeSeries:
    """The factor of a study that is made of sorted portfolios."""
    choices = SortChoices(
        {column: groups if isinstance(groups, int) else tuple(groups) for column, groups in section.by.items()},
        section.returns,
        section.weights,
        section.formation,
        "" if section.hold_for is None else str(section.hold_for),
        section.order,
        section.cap,
        section.min_assets,
        section.rebalance,
    )
    portfolios, _ = sort_file(desk.table(section.table), choices)
    return factor_from_portfolios(portfolios, section.formula, name=name, trading_cost=section.trading_cost)


def table_of_sort(
    portfolios: SortedPortfolios, factors: FactorTable, more: Sequence[str], spreads: Sequence[str], errors: str
) -> PortfolioTable:
    """Mean excess returns, alphas and exposures on the market and more factors of a file.

    Raises
    ------
    TableError
        If the factor file has no risk-free return, or lacks a factor.
    """
    rate = factors.risk_free
    if rate is None:
        raise TableError("The factor file has no risk-free return, which the portfolios are in excess of.")
    names = list(dict.fromkeys([factors.market, *more]))
    for name in names:
        if name not in factors.factors.names:
            raise TableError(f"The factor file has no column '{name}'; {one_of(name, factors.factors.names)}")
    each = [factors.factors[name] for name in names]
    net = [one if one.metadata.excess_of else excess(one, rate) for one in each]
    table = SeriesTable.of(dict(zip(names, net, strict=True)))
    return portfolio_table(portfolios, table, rate, spread=list(spreads), errors=errors)
