"""Many stocks of the Lantern Sea by the month, with filings, listings and delistings, and known true premia."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.array_types import Bools, Dates, Floats, Ints
from ultrum.core.portfolios.characteristics import PointInTimeAccounts, book_to_market, point_in_time_accounts
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency

SEED: Final = 20061
FIRST_MONTH: Final = "2005-01"
PREMIA: Final = {
    "market": 0.06,
    "size": -0.03,
    "value": 0.04,
}  # per year; size and value for a score higher by one
_VOLATILITIES: Final = {"market": 0.16, "size": 0.06, "value": 0.07}
_BILL: Final = 0.0015  # per month
_OWN: Final = (0.05, 0.10)  # idiosyncratic volatility per month, smallest and largest
_LATE_SHARE, _RESTATED_SHARE = 0.06, 0.08
_LISTED_LATER, _DELISTING = 0.2, 0.002  # share of the stocks; probability per month
_LAST_PAYMENT: Final = (-0.35, 0.35)  # of a failure and of a takeover, as likely as each other
_CURRENCY: Final = "QML"


@dataclass(frozen=True)
class Stocks:
    """A simulated cross-section of stocks.

    Attributes
    ----------
    returns, prices, shares, market_values : SeriesTable, shape (T, N)
        Monthly returns without those of delistings, and values at the end of each month.
    filings : DataFrame
        Book values: ``asset period released value``, with late ones and restatements.
    members : DataFrame
        ``asset entry exit``: first and last day of listing.
    delisting_returns : DataFrame
        ``asset date return`` of the month after the last price.
    market, risk_free : TimeSeries
        Excess return of the market, and the bill.
    expected : SeriesTable, shape (T, N)
        True expected return of each month, given what is known at its start.
    premia : Series
        True annual premia of the market, and of a score of size and of book-to-market that is higher by one.

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.stocks(count=60, months=72)
    >>> world.returns.to_pandas().shape
    (72, 60)
    """

    returns: SeriesTable
    prices: SeriesTable
    shares: SeriesTable
    market_values: SeriesTable
    filings: pd.DataFrame
    members: pd.DataFrame
    delisting_returns: pd.DataFrame
    market: TimeSeries
    risk_free: TimeSeries
    expected: SeriesTable
    premia: pd.Series

    @cached_property
    def accounts(self) -> PointInTimeAccounts:
        """Book values known at the end of each month."""
        return point_in_time_accounts(self.filings, self.returns, currency=_CURRENCY)

    @cached_property
    def book_to_market(self) -> SeriesTable:
        """Book-to-market ratios known at the end of each month."""
        return book_to_market(self.accounts, self.market_values)


@dataclass(frozen=True)
class _Filings:
    """Simulated filings by year and stock (Y, N): ends of fiscal periods, days of release, restatements."""

    ends: Dates
    released: Dates
    restated: Dates
    changes: Floats


def simulate_stocks(count: int, months: int, seed: int) -> Stocks:
    """Simulate stocks month by month; expected returns follow scores of what is known at the start of each.

    Examples
    --------
    >>> simulate_stocks(30, 60, 1).premia["value"].item()
    0.04
    """
    rng = np.random.default_rng([seed, 61])
    index = pd.period_range(FIRST_MONTH, periods=months, freq="M")
    days = index.to_timestamp(how="end").to_numpy().astype("datetime64[D]")
    listed, gone, payment = _lives(rng, count, months)
    filings = _filings(rng, count, months, days)
    factors = _factor_returns(rng, months)
    beta = np.clip(rng.normal(1.0, 0.25, count), 0.3, 1.8)
    own = rng.uniform(*_OWN, count)
    shares = np.exp(rng.normal(3.0, 1.0, count)).round(1) + 1.0
    value = np.exp(rng.normal(6.0, 1.5, count))
    book = value * np.exp(rng.normal(-0.4, 0.5, count))
    reported = np.full((len(filings.ends), count), np.nan)
    r, expected, prices = np.full((3, months, count), np.nan)
    for t in range(months):
        for year in np.flatnonzero(
            (filings.ends[:, 0] > (days[t - 1] if t else days[0] - 40)) & (filings.ends[:, 0] <= days[t])
        ):
            book = book * np.exp(rng.normal(0.03, 0.18, count)) * 0.9 + 0.1 * value
            negative = rng.random(count) < 0.01
            reported[year] = np.where(negative, -0.05 * book, book)
        there = (t >= listed) & (t < gone)
        if t:
            known = _book_at(filings, reported, days[t - 1])
            alive = there & np.isfinite(prices[t - 1])
            size = _score(np.where(alive, np.log(value), np.nan))
            ratio = _score(np.where(alive & (known > 0.0), known / value, np.nan))
            exposure = np.column_stack([beta, size, ratio])
            mean = _BILL + exposure @ (np.array(list(PREMIA.values())) / 12.0)
            shock = own * rng.standard_t(6, count) * np.sqrt(4.0 / 6.0)
            drawn = np.maximum(_BILL + exposure @ factors[t] + shock, -0.95)
            expected[t] = np.where(alive | ((t == gone) & np.isfinite(prices[t - 1])), mean, np.nan)
            r[t] = np.where(alive, drawn, np.nan)
            value = np.where(alive, value * (1.0 + drawn), value)
        prices[t] = np.where(there, value / shares, np.nan)
    names = [f"LS{k:04d}" for k in range(1, count + 1)]
    return _world(
        names, index, days, r, prices, shares, expected, factors, filings, reported, listed, gone, payment
    )


def _lives(rng: np.random.Generator, count: int, months: int) -> tuple[Ints, Ints, Floats]:
    """First month of each stock, the month of its delisting (``months`` for none), and what that one pays."""
    listed = np.where(rng.random(count) < _LISTED_LATER, rng.integers(1, max(months - 24, 2), count), 0)
    lasts = rng.geometric(_DELISTING, count) + 12
    gone = np.minimum(listed + lasts, months)
    return listed, gone, np.where(rng.random(count) < 0.5, *_LAST_PAYMENT)


def _filings(rng: np.random.Generator, count: int, months: int, days: Dates) -> _Filings:
    """Fiscal years to December, released 40 to 120 days later, on weekends too; some late, some restated."""
    first = int(str(days[0])[:4])
    years = np.arange(first - 1, first + months // 12 + 1)
    ends = np.array([f"{year}-12-31" for year in years], dtype="datetime64[D]")[:, None]
    shape = (len(years), count)
    wait = rng.integers(40, 121, shape) + np.where(
        rng.random(shape) < _LATE_SHARE, rng.integers(90, 240, shape), 0
    )
    released: Dates = np.asarray(ends + wait.astype("timedelta64[D]"))
    again = rng.random(shape) < _RESTATED_SHARE
    restated = np.where(
        again, released + rng.integers(30, 150, shape).astype("timedelta64[D]"), np.datetime64("NaT")
    )
    return _Filings(np.broadcast_to(ends, shape), released, restated, np.exp(rng.normal(0.0, 0.1, shape)))


def _factor_returns(rng: np.random.Generator, months: int) -> Floats:
    """Excess returns of the market, and of the scores of size and value, (T, 3)."""
    mean, volatility = (np.array(list(one.values())) for one in (PREMIA, _VOLATILITIES))
    return np.asarray(mean / 12.0 + volatility / np.sqrt(12.0) * rng.normal(size=(months, 3)))


def _book_at(filings: _Filings, reported: Floats, day: np.datetime64) -> Floats:
    """Book value of the newest fiscal year released by a day, restated if known, at most 18 months old."""
    known = np.full(reported.shape[1], np.nan)
    oldest = (day.astype("datetime64[M]") - np.timedelta64(18, "M") + np.timedelta64(1, "M")).astype(
        "datetime64[D]"
    )
    for year in range(len(reported)):
        there = (filings.released[year] <= day) & np.isfinite(reported[year])
        again = ~np.isnat(filings.restated[year]) & (filings.restated[year] <= day)
        value = np.where(again, reported[year] * filings.changes[year], reported[year])
        known = np.where(there, value, known)
    newest = np.where(filings.released <= day, filings.ends, np.datetime64("1900-01-01")).max(axis=0)
    return np.where(newest + 1 >= oldest, known, np.nan)


def _score(values: Floats) -> Floats:
    """Normal score of the rank among the values there; zero for a missing one."""
    there = np.isfinite(values)
    ranks = np.empty(there.sum())
    ranks[np.argsort(values[there], kind="stable")] = np.arange(1, len(ranks) + 1)
    scores = np.zeros(len(values))
    scores[there] = scipy.special.ndtri((ranks - 0.5) / len(ranks)) if len(ranks) else ranks
    return scores


def _world(
    names: list[str],
    index: pd.PeriodIndex,
    days: Dates,
    r: Floats,
    prices: Floats,
    shares: Floats,
    expected: Floats,
    factors: Floats,
    filings: _Filings,
    reported: Floats,
    listed: Ints,
    gone: Ints,
    payment: Floats,
) -> Stocks:
    """Tables and records of a simulation."""
    facts = Metadata(frequency=Frequency.parse("M"), currency=_CURRENCY)
    as_return = facts.replace(measure="return", income="total").for_each(names)
    level = facts.replace(measure="stock", unit="currency").for_each(names)
    price = facts.replace(measure="price", unit="currency").for_each(names)
    count = facts.replace(measure="stock", unit="count", currency="").for_each(names)
    rate = facts.replace(name="bill", measure="return")
    excess = facts.replace(name="market", measure="return", excess_of="bill", income="total")
    months = len(index)
    ends = gone < months
    rows = np.where(ends, gone, months - 1)
    return Stocks(
        returns=SeriesTable.from_arrays(r, index, as_return),
        prices=SeriesTable.from_arrays(prices, index, price),
        shares=SeriesTable.from_arrays(np.where(np.isfinite(prices), shares, np.nan), index, count),
        market_values=SeriesTable.from_arrays(prices * shares, index, level),
        filings=_records(names, filings, reported, days[-1]),
        members=pd.DataFrame(
            {
                "asset": names,
                "entry": days.astype("datetime64[M]").astype("datetime64[D]")[listed].astype(str),
                "exit": np.where(ends, days[np.maximum(rows - 1, 0)].astype(str), ""),
            }
        ),
        delisting_returns=pd.DataFrame(
            {
                "asset": np.array(names)[ends],
                "date": days[rows[ends]].astype(str),
                "return": payment[ends],
            }
        ),
        market=TimeSeries.from_arrays(factors[:, 0], index, excess),
        risk_free=TimeSeries.from_arrays(np.full(months, _BILL), index, rate),
        expected=SeriesTable.from_arrays(_with_delisting(expected, gone), index, as_return),
        premia=pd.Series(PREMIA, name="premium"),
    )


def _with_delisting(expected: Floats, gone: Ints) -> Floats:
    """Expected returns; the mean payment of a delisting is zero in its month."""
    row = np.arange(len(expected))[:, None]
    return np.where(row == gone, 0.5 * sum(_LAST_PAYMENT), expected)


def _records(names: list[str], filings: _Filings, reported: Floats, last: np.datetime64) -> pd.DataFrame:
    """Filings and restatements until the last day."""
    parts = []
    for days, values in ((filings.released, reported), (filings.restated, reported * filings.changes)):
        there: Bools = np.isfinite(values) & ~np.isnat(days) & (days <= last)
        columns = np.nonzero(there)[1]
        parts.append(
            pd.DataFrame(
                {
                    "asset": np.array(names, dtype=object)[columns],
                    "period": filings.ends[there].astype(str),
                    "released": days[there].astype(str),
                    "value": values[there].round(3),
                }
            )
        )
    return pd.concat(parts).sort_values(["asset", "released", "period"], ignore_index=True)
