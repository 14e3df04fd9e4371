"""The Lantern Sea Exchange: bars, dividends, splits, accounts, analysts' forecasts, and many monthly stocks."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.array_types import Bools, Dates, Floats, Ints
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.panel.alignment import align
from ultrum.core.portfolios.characteristics import PointInTimeAccounts, book_to_market, point_in_time_accounts
from ultrum.core.returns.price_log_and_excess_returns import returns
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.errors import EstimationError
from ultrum.practice import simulated_world as s
from ultrum.practice.simulated_world import World, simulate

PAYING_MONTHS = {0: (3, 9), 1: (4, 10), 2: (5, 11)}


def closes(world: World) -> tuple[Floats, pd.DataFrame]:
    """Closing prices in each company's currency (T,N), missing when not listed; and dividends."""
    paid = _payout(world.days)
    level = np.asarray(np.cumprod((1.0 + world.total) * (1.0 - paid), axis=0), dtype=np.float64)
    for column, company in enumerate(s.COMPANIES):
        start = int(np.searchsorted(world.days, np.datetime64(company.listed)))
        level[:, column] *= company.first_price / level[start, column]
        level[:start, column] = np.nan
    abroad = s.CODES.index(s.FOREIGN)
    level[:, abroad] /= world.rates[:, 0] / world.rates[0, 0]
    dividends = _dividends(world.days, paid, level)
    level[world.days >= np.datetime64(s.SPLIT_DAY), s.CODES.index(s.SPLIT)] /= s.SPLIT_RATIO
    level[world.days > np.datetime64(s.DELISTING_DAY), s.CODES.index(s.DELISTED)] = np.nan
    return np.round(level, 2), dividends


def splits() -> pd.DataFrame:
    """The one split."""
    row = {"date": s.SPLIT_DAY, "asset": s.SPLIT, "ratio": s.SPLIT_RATIO}
    return pd.DataFrame([row])


def final_payments(close: Floats) -> pd.DataFrame:
    """Payment to holders of the delisted company."""
    column = close[:, s.CODES.index(s.DELISTED)]
    amount = round(float(column[np.isfinite(column)][-1]) * (1 + s.FINAL_PREMIUM), 2)
    row = {"date": s.FINAL_PAYMENT_DAY, "asset": s.DELISTED, "amount": amount, "currency": "QML"}
    return pd.DataFrame([row])


def _payout(days: Dates) -> Floats:
    """Dividend as a share of the price, by day (T,N)."""
    paid = np.zeros((len(days), len(s.COMPANIES)))
    years = range(int(s.FIRST_DAY[:4]), int(s.LAST_DAY[:4]) + 1)
    for column, company in enumerate(s.COMPANIES):
        for year in years:
            for month in PAYING_MONTHS[column % 3]:
                day = np.datetime64(f"{year}-{month:02d}-{12 + column % 7:02d}")
                row = int(np.searchsorted(days, day))
                paid[row, column] = company.dividend_yield / 2.0
    code, special_day, share = s.SPECIAL
    paid[np.searchsorted(days, np.datetime64(special_day)), s.CODES.index(code)] = share
    return paid


def _dividends(days: Dates, paid: Floats, level: Floats) -> pd.DataFrame:
    """Ex-date, amount per share then held, and kind."""
    rows = []
    for row, column in np.argwhere(paid > 0):
        company, day = s.COMPANIES[column], days[row]
        gone = company.code == s.DELISTED and day > np.datetime64(s.DELISTING_DAY)
        if not np.isfinite(level[row, column]) or gone:
            continue
        late = company.code == s.SPLIT and day >= np.datetime64(s.SPLIT_DAY)
        share = paid[row, column]
        amount = level[row, column] * share / (1 - share) / (s.SPLIT_RATIO if late else 1.0)
        kind = "special" if (company.code, str(day)) == s.SPECIAL[:2] else "ordinary"
        rows.append((str(day), company.code, round(float(amount), 4), company.currency, kind))
    return pd.DataFrame(rows, columns=["date", "asset", "amount", "currency", "kind"])


# A panel directly from the arrays of a world, for examples, tests and coverage studies


@lru_cache(maxsize=2)
def world_panel(seed: int | None = None) -> Panel:
    """Month-end total returns of the companies in QML, with the factors and the bill."""
    world = simulate(s.SEED if seed is None else seed)
    close, dividends = closes(world)
    home = [i for i, c in enumerate(s.COMPANIES) if c.currency == "QML"]
    frame = pd.DataFrame(close[:, home], pd.DatetimeIndex(world.days), [s.CODES[i] for i in home])
    asset_returns = returns(
        SeriesTable.from_pandas(frame, measure="price", currency="QML", frequency="B"),
        frequency="M",
        dividends=dividends[dividends["currency"] == "QML"],
        splits=splits(),
        final_payments=final_payments(close),
    )
    factors = pd.DataFrame(world.monthly_factors, world.months, list(s.FACTORS))
    bill = pd.Series(world.bill, world.months, name="bill")
    table = SeriesTable.from_pandas(factors, measure="return", excess_of="bill")
    return align(assets=asset_returns, factors=table, risk_free=TimeSeries.from_pandas(bill, measure="return"))


# Analysts' forecasts

BIAS: Final = 0.08  # share by which forecasts exceed outcomes on average
LONG_RUN_GROWTH: Final = 0.025
_YEARS: Final = 5
_PAYOUT, _GROWTH = (0.6, 0.85), (0.02, 0.08)  # smallest and largest
_FADE: Final = 10  # years in which returns on equity fall to the cost of equity
_DISAGREEMENT: Final = (0.03, 0.10)
_COMMON_MISS, _OWN_MISS = (
    0.05,
    0.08,
)  # standard deviations of outcomes about the expected, of a year and a company
_FIRST_YEAR, _LAST_YEAR = 2005, 2024


@dataclass(frozen=True)
class Forecasts:
    """Analysts' forecasts of a day, past ones with what came, and the true costs of equity.

    Attributes
    ----------
    table : DataFrame
        By company: columns of :func:`ultrum.implied_cost_of_equity`.
    history : DataFrame
        ``asset period released forecast outcome`` of earnings per share.
    market_values : Series
        Millions, in QML.
    true_costs : Series
        Annual; at which unbiased forecasts are worth the price by the two-stage model.
    true_bias, long_run_growth : float

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.forecasts()
    >>> world.true_bias, world.table.columns[:3].tolist()
    (0.08, ['price', 'dividend_1', 'earnings_1'])
    """

    table: pd.DataFrame
    history: pd.DataFrame
    market_values: pd.Series
    true_costs: pd.Series
    true_bias: float
    long_run_growth: float


def simulate_forecasts(seed: int) -> Forecasts:
    """Forecasts consistent with the prices of the last day: at the true cost the two-stage model, the one of
    abnormal earnings growth, and residual income that fades over ten years give the price.

    Examples
    --------
    >>> len(simulate_forecasts(1).table) > 20
    True
    """
    rng = np.random.default_rng([seed, 71])
    world = simulate(seed)
    close = closes(world)[0][-1]
    listed = np.isfinite(close) & np.array([c.currency == "QML" for c in s.COMPANIES])
    names = [code for code, there in zip(s.CODES, listed, strict=True) if there]
    price, count = close[listed], len(names)
    rate = float((1.0 + world.bill[-1]) ** 12 - 1.0)
    cost = rate + s.loading_matrix()[listed] @ np.array(s.PREMIA)
    growth, payout = rng.uniform(*_GROWTH, count), rng.uniform(*_PAYOUT, count)
    dividend = price / _value_of_one(cost, growth)
    earnings = dividend / payout
    later = _second_earnings(price, cost, dividend, earnings)
    book = np.array([_book_value(*row) for row in zip(price, cost, earnings, later, payout, strict=True)])
    disagreement, analysts = rng.uniform(*_DISAGREEMENT, count), rng.integers(3, 19, count)
    stated = (1.0 + BIAS) * (1.0 + disagreement / np.sqrt(analysts) * rng.standard_normal(count))
    table = pd.DataFrame(
        {
            "price": price,
            "dividend_1": stated * dividend,
            "earnings_1": stated * earnings,
            "earnings_2": stated * later,
            "growth": growth,
            "growth_years": float(_YEARS),
            "payout": payout,
            "book_value": book,
            "forecast_sd": disagreement,
            "analysts": analysts,
        },
        pd.Index(names, name="asset"),
    )
    value = pd.Series(price * np.exp(rng.normal(5.0, 1.0, count)), table.index, name="market_value_m").round(1)
    costs = pd.Series(cost, table.index, name="true_cost")
    return Forecasts(table.round(4), _history(rng, names, earnings), value, costs, BIAS, LONG_RUN_GROWTH)


def _value_of_one(cost: Floats, growth: Floats) -> Floats:
    """Value of a first dividend of one that grows for five years, then for ever at the long-run rate."""
    years = np.arange(1, _YEARS + 1)[:, None]
    stage = np.sum((1.0 + growth) ** (years - 1) / (1.0 + cost) ** years, axis=0)
    after = (1.0 + growth) ** (_YEARS - 1) * (1.0 + LONG_RUN_GROWTH) / (cost - LONG_RUN_GROWTH)
    return np.asarray(stage + after / (1.0 + cost) ** _YEARS)


def _second_earnings(price: Floats, cost: Floats, dividend: Floats, earnings: Floats) -> Floats:
    """Earnings of the second year at which abnormal earnings growth gives the price.

    r²P = r(g∞P + D₁) + E₂ − E₁ − g∞E₁, the equation of the model multiplied out.
    """
    right = cost**2 * price - cost * (LONG_RUN_GROWTH * price + dividend)
    return np.asarray(right + (1.0 + LONG_RUN_GROWTH) * earnings)


def _book_value(price: float, cost: float, first: float, second: float, payout: float) -> float:
    """The book value at which residual income, which fades over ten years, gives the price; by halving."""
    low, high = 0.02 * price, 20.0 * price
    for _ in range(80):
        book = middle = np.sqrt(low * high)
        total, on_equity = middle, 0.0
        for year in range(1, _FADE + 3):
            income = (
                (first, second)[year - 1] if year < 3 else _return_on_equity(cost, on_equity, year - 2) * book
            )
            total += (income - cost * book) / (1.0 + cost) ** year
            on_equity = income / book if year < 3 else on_equity
            book += (1.0 - payout) * income
        low, high = (middle, high) if total < price else (low, middle)
    return float(middle)


def _return_on_equity(cost: float, last: float, year: int) -> float:
    """Return on equity some years after the last forecast: a line down to the cost, reached in the year after."""
    return cost + (last - cost) * (1.0 - year / (_FADE + 1.0))


def _history(rng: np.random.Generator, names: list[str], earnings: Floats) -> pd.DataFrame:
    """Forecasts of each year and outcomes, which miss in common and each alone."""
    years = np.arange(_FIRST_YEAR, _LAST_YEAR + 1)
    expected = earnings * 1.04 ** (years[:, None] - _LAST_YEAR - 1)
    miss = _COMMON_MISS * rng.standard_normal((len(years), 1)) + _OWN_MISS * rng.standard_normal(expected.shape)
    stated = (1.0 + BIAS) * expected * (1.0 + 0.02 * rng.standard_normal(expected.shape))
    return pd.DataFrame(
        {
            "asset": np.tile(names, len(years)),
            "period": np.repeat(years, len(names)),
            "released": np.repeat([f"{year + 1}-03-15" for year in years], len(names)),
            "forecast": stated.ravel().round(4),
            "outcome": (expected * (1.0 + miss)).ravel().round(4),
        }
    )


# Many stocks by the month

SEED: Final = 20061
FIRST_MONTH: Final = "2005-01"
PREMIA: Final = {
    "market": 0.06,
    "size": -0.03,
    "value": 0.04,
}  # per year; size and value for a score higher by one
_VOLATILITIES: Final = {"market": 0.16, "size": 0.06, "value": 0.07}
_SCORES: Final = {"market": 1.0, "size": -2.0, "value": 2.1}  # mean score of the long side less the short one
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
    factors : SeriesTable, shape (T, 2)
        True factors: what a stock earns in a month for a score of size, or of book-to-market, that is higher by
        one.
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
    factors: SeriesTable
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


def simulate_stocks(count: int, months: int, seed: int, college: bool = False) -> Stocks:
    """Simulate stocks month by month; expected returns follow scores of what is known at the start of each.

    With ``college`` the factors are those that the college publishes, otherwise they are drawn.

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
    factors, premia = _factor_returns(rng, months), pd.Series(PREMIA, name="premium")
    if college:
        factors, premia = _college_factors(index)
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
            mean = _BILL + exposure @ (premia.to_numpy() / 12.0)
            shock = own * rng.standard_t(6, count) * np.sqrt(4.0 / 6.0)
            drawn = np.maximum(_BILL + exposure @ factors[t] + shock, -0.95)
            expected[t] = np.where(alive | ((t == gone) & np.isfinite(prices[t - 1])), mean, np.nan)
            r[t] = np.where(alive, drawn, np.nan)
            value = np.where(alive, value * (1.0 + drawn), value)
        prices[t] = np.where(there, value / shares, np.nan)
    names = [f"LS{k:04d}" for k in range(1, count + 1)]
    return _world(
        names, index, days, r, prices, shares, expected, factors, premia, filings, reported, listed, gone, payment
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


def _college_factors(index: pd.PeriodIndex) -> tuple[Floats, pd.Series]:
    """What a score earns in a month when the college's factors are as published, (T, 3), and a year's premia."""
    published = world_panel().factors[list(_SCORES)].reindex(index)
    if published.isna().to_numpy().any():
        raise EstimationError(
            f"stocks: the college's factors end in {world_panel().factors.index[-1]}.",
            fix="Use months=240 or fewer.",
            setting="months",
        )
    scores = pd.Series(_SCORES)
    premia = pd.Series(s.PREMIA, list(s.FACTORS), name="premium")[list(_SCORES)]
    return (published / scores).to_numpy(), premia / scores


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
    premia: pd.Series,
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
            {"asset": np.array(names)[ends], "date": days[rows[ends]].astype(str), "return": payment[ends]}
        ),
        market=TimeSeries.from_arrays(factors[:, 0], index, excess),
        risk_free=TimeSeries.from_arrays(np.full(months, _BILL), index, rate),
        factors=SeriesTable.from_arrays(
            factors[:, 1:], index, facts.replace(measure="return", income="total").for_each(["size", "value"])
        ),
        expected=SeriesTable.from_arrays(_with_delisting(expected, gone), index, as_return),
        premia=premia,
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
