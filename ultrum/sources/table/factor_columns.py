"""Factor columns of a table: the market, the risk-free return, and the kind of each return."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from ultrum.core.series.metadata import (
    RISK_FREE_HEADINGS,
    RISK_FREE_RATE,
    ZERO_COST,
    Metadata,
    is_excess_heading,
    plain_heading,
)
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.errors import TableError, name_list, one_of
from ultrum.sources.table.price_and_event_columns import price_table, returns_by_size, simple_returns, was_log
from ultrum.sources.table.reading_result import Decision, Reading

_MARKET: Final = (
    "mkt rf",
    "market",
    "mkt",
    "mktrf",
    "market rf",
    "rm rf",
    "rmrf",
    "rm",
    "market return",
    "market excess return",
    "market excess",
    "excess market",
    "excess market return",
    "market premium",
    "market index",
    "index",
    "mkt excess",
)
_LARGEST_RATE: Final = 0.25  # a year; more must be a yield a year, not a return a period


@dataclass(frozen=True)
class FactorTable:
    """Factor returns, and the kind of each.

    Attributes
    ----------
    factors : SeriesTable
        Returns in decimals; ``excess_of`` is set for those in excess of the risk-free return.
    market : str
        Name of the market factor.
    risk_free : TimeSeries or None
        The column of risk-free returns.
    units : str
        ``"percent"`` or ``"decimal"``, as in the file; empty for prices.
    decisions : tuple of Decision
    """

    factors: SeriesTable
    market: str
    risk_free: TimeSeries | None
    units: str
    decisions: tuple[Decision, ...]

    @property
    def total_return_factors(self) -> list[str]:
        """Names of factors that are not excess returns."""
        return [a.name for a in self.factors.metadata if not a.excess_of]


def factor_table(
    reading: Reading,
    market: str = "",
    risk_free: str = "",
    total_return: Sequence[str] = (),
    annual_rate: bool = False,
) -> FactorTable:
    r"""The factors of a table of returns, or the market of a file of index levels.

    Parameters
    ----------
    reading : Reading
    market, risk_free : str
        Headings; recognised by their words if empty.
    total_return : sequence of str
        Columns that are total returns, whatever their heading.
    annual_rate : bool
        Whether an annual rate is given in place of the column of the risk-free return.

    Raises
    ------
    TableError
        If the market is ambiguous, or the risk-free column contains annual yields.

    Examples
    --------
    >>> from ultrum.sources.table.reader import read_table
    >>> from ultrum.sources.table.reading_result import TableOptions
    >>> text = b"month,market,size,RF\n2024-01,-0.5,1.2,0.4\n2024-02,2.5,-0.7,0.4\n2024-03,1.1,-0.2,0.4\n"
    >>> found = factor_table(read_table(text, "factors.csv", TableOptions(units="percent"), "2024-06-01"))
    >>> found.market, found.risk_free.name, found.total_return_factors
    ('market', 'RF', [])
    """
    names = list(reading.series)
    rate_name = _column(reading, names, risk_free, RISK_FREE_HEADINGS, "risk-free")
    others = [n for n in names if n != rate_name]
    market_name = _column(reading, others, market, _MARKET, "market")
    returns = factor_returns(reading)
    if returns.levels:
        if risk_free:
            raise TableError(
                f"{reading.name} contains prices or levels, so '{rate_name}' cannot be a risk-free return. Take "
                "it from a file of returns, or set an annual rate.",
                setting="risk_free",
            )
        return _of_levels(reading, returns, market)
    market_name = market_name or _only(reading, others)
    _refuse_annual(reading, "" if annual_rate else rate_name, market_name)
    rate = returns.table[rate_name] if rate_name else None
    if rate is not None and not annual_rate:
        check_rate(reading.name, rate)
    total = [_column(reading, others, name, (), "total return") for name in total_return]
    factors, notes = _with_excess(returns.table.select(others), market_name, rate, total)
    for metadata in factors.metadata:
        if metadata.excess_of:
            check_total(reading.name, metadata)
    if annual_rate and rate is not None:
        notes[-1] = Decision("risk-free return", f"'{rate_name}' not used", certainty="another rate is given")
        rate = None
    return FactorTable(factors, market_name, rate, returns.units, (*returns.decisions, *notes))


@dataclass(frozen=True)
class FactorReturns:
    """Columns of a factor file: returns in decimals, or prices and index levels.

    Attributes
    ----------
    table : SeriesTable
    units : str
        ``"percent"`` or ``"decimal"``, as in the file; empty for levels.
    levels : bool
        Whether the columns are prices or index levels, not returns.
    decisions : tuple of Decision
    """

    table: SeriesTable
    units: str
    levels: bool
    decisions: tuple[Decision, ...]


def factor_returns(reading: Reading, names: Sequence[str] = ()) -> FactorReturns:
    """Columns of a factor file as returns in decimals, or as levels.

    Parameters
    ----------
    reading : Reading
    names : sequence of str
        Columns to use; all if empty.

    Raises
    ------
    TableError
        If returns can be percent or decimals.
    """
    series = reading.series
    if not series:
        raise TableError(f"{reading.name} has no factors: no column has numbers by date.")
    wanted = {n: s for n, s in series.items() if not names or n in names}
    if _holds_levels(wanted):
        prices = price_table(reading)
        return FactorReturns(prices.prices, "", True, prices.decisions)
    table = SeriesTable.of(wanted.values())
    if all(a.unit == "decimal" for a in table.metadata):
        percent = any(d.what.startswith("units") and "percent" in d.chosen for d in reading.decisions)
        made, units, decisions = simple_returns(table), "percent" if percent else "decimal", list[Decision]()
    else:
        made, decisions = returns_by_size(reading.name, table)
        units = "percent" if decisions[0].chosen == "percent" else "decimal"
    logs = [m.name for m in made.metadata if was_log(m)]
    if logs:
        decisions.append(Decision("returns", f"simple, from log returns: {name_list(logs)}", "", "stated"))
    return FactorReturns(made, units, False, tuple(decisions))


def check_total(name: str, factor: Metadata) -> None:
    """Refuse a factor that states log returns and is taken as an excess return.

    A difference of log returns is no difference of simple returns, and does not convert to one.
    """
    if was_log(factor):
        raise TableError(
            f"{name}: '{factor.name}' has log returns and is taken as an excess or zero-cost return; a "
            "difference of log returns does not convert to one of simple returns. Use a file of simple returns.",
            fix="If it is a total return, name it in total_return.",
            setting="total_return_factors",
        )


def _holds_levels(series: dict[str, TimeSeries]) -> bool:
    """Whether columns are prices or index levels: never at or below zero, and labelled as such or large.

    A unit given for the whole file makes them no returns: above 1 in decimals, they are levels.
    """
    for one in series.values():
        values = one.values.to_numpy(dtype=np.float64)
        values = values[np.isfinite(values)]
        if len(values) and values.min() <= 0:
            return False
    if all(np.nanmedian(s.values.to_numpy(dtype=np.float64)) > 1 for s in series.values()):
        return True
    stated = [one.metadata for one in series.values()]
    return any(m.measure in ("price", "index") for m in stated) and all(m.unit != "decimal" for m in stated)


def _of_levels(reading: Reading, returns: FactorReturns, market: str) -> FactorTable:
    """The market of a file of index levels, whose returns are total returns."""
    names = returns.table.names
    given = [n for n in names if market and plain_heading(n) == plain_heading(market)]
    if market and not given and len(names) > 1:
        raise TableError(f"{reading.name} has no index '{market}'; {one_of(market, names)}")
    name = given[0] if given else _only(reading, names)
    text = f"'{name}', index levels converted to returns"
    note = Decision("market", text, certainty="no returns in the file")
    return FactorTable(returns.table, name, None, "", (*returns.decisions, note))


def _column(reading: Reading, columns: Sequence[str], given: str, words: tuple[str, ...], role: str) -> str:
    """The given column, or the one with a usual heading for the role; empty if there is none."""
    if given:
        same = [n for n in columns if n == given] or [
            n for n in columns if plain_heading(n) == plain_heading(given)
        ]
        if len(same) != 1:
            raise TableError(f"{reading.name} has no column '{given}'; {one_of(given, columns)}")
        return same[0]
    named = [n for n in columns if plain_heading(n) in words]
    if len(named) > 1:
        raise TableError(
            f"{reading.name}: {' and '.join(repr(n) for n in named)} can each be the {role} column.",
            setting="market" if role == "market" else "risk_free",
        )
    return named[0] if named else ""


def _only(reading: Reading, names: list[str]) -> str:
    """The only column; several need a heading that states the market."""
    if len(names) == 1:
        return names[0]
    columns = name_list(f"'{n}'" for n in names)
    raise TableError(f"{reading.name}: the market could be any of {columns}.", setting="market")


def _refuse_annual(reading: Reading, rate: str, market: str) -> None:
    """Refuse rates that the file states per annum in place of returns of each period."""
    for name in filter(None, (rate, market)):
        series = reading.series[name]
        if series.metadata.measure == "rate" and series.metadata.unit == "decimal":
            mean = float(np.nanmean(series.values.to_numpy(dtype=np.float64)))
            to_rate = (
                f"Set risk_free to an annual number, such as {mean:.4f}, or convert it with yield_to_return."
            )
            raise TableError(
                f"{reading.name}: '{name}' is stated to be per annum, so it is not a return of each period; its "
                f"mean is {100 * mean:.2f} %.",
                fix=to_rate if name == rate else "Use a file of returns of each period.",
                setting="annual_rate" if name == rate else "",
            )


def check_rate(name: str, rate: TimeSeries) -> None:
    """Refuse an annual yield in place of a return per period."""
    mean = float(np.nanmean(rate.values.to_numpy(dtype=np.float64))) * rate.periods_per_year
    if abs(mean) > _LARGEST_RATE:
        raise TableError(
            f"{name}: '{rate.name}' has a mean of {100 * mean:,.0f} % per year; this looks like an annual "
            "yield, or like percent read as decimals.",
            fix="Set the units, or set the risk-free rate to an annual number.",
            setting="rate_size",
        )


def _with_excess(
    table: SeriesTable, market: str, rate: TimeSeries | None, total: Sequence[str]
) -> tuple[SeriesTable, list[Decision]]:
    """Factors with the rate they are in excess of; the market by its heading, the others as zero-investment
    returns.
    """
    named = is_excess_heading(market)
    over = rate.name if rate is not None else (RISK_FREE_RATE if named else "")
    if market in total:
        over = ""
    reason = (
        "given"
        if market in total
        else "from the heading"
        if named
        else "assumed: the file has a risk-free return"
        if over
        else "the file has no risk-free return"
    )
    text = f"'{market}', {f'in excess of {over}' if over else 'a total return'}"
    notes = [Decision("market", text, "a total return" if over else "", reason)]
    series_list = [
        table[n].with_metadata(excess_of="" if n in total else over if n == market else ZERO_COST)
        for n in table.names
    ]
    if rate is not None:
        notes.append(Decision("risk-free return", f"'{rate.name}', each {rate.metadata.frequency.noun}"))
    return SeriesTable.of(series_list), notes
