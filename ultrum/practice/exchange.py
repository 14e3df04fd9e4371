"""The Lantern Sea Exchange: bars, dividends, splits, accounts and indices; a panel of its companies."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import pandas as pd

from ultrum.core.array_types import Bools, Dates, Floats
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.panel.alignment import align
from ultrum.core.returns.price_log_and_excess_returns import returns
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.practice import simulated_world as s
from ultrum.practice.simulated_world import World, simulate, trading_mask

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


def companies() -> pd.DataFrame:
    """The list of companies."""
    rows = [(c.listed, c.code, c.name, c.industry, c.currency) for c in s.COMPANIES]
    return pd.DataFrame(rows, columns=["listed", "asset", "name", "industry", "currency"])


def bars(world: World) -> pd.DataFrame:
    """Daily bars in long form: date, asset, currency, open, high, low, close, volume."""
    close, _ = closes(world)
    rng = np.random.default_rng([world.seed, 11])
    alive = np.isfinite(close)
    was_traded = np.ones(close.shape, dtype=bool)
    was_traded[:, s.CODES.index(s.THIN)] = trading_mask(world.seed, len(close))
    close = _carry_closes(close, was_traded)
    parts = _opens_highs_lows(rng, close, was_traded)
    volume = _volumes(rng, world, was_traded)
    rows, columns = np.nonzero(alive)
    frame = {
        "date": world.days[rows],
        "asset": np.array(s.CODES)[columns],
        "currency": np.array([c.currency for c in s.COMPANIES])[columns],
    }
    fields = {**parts, "close": close, "volume": volume}
    return pd.DataFrame({**frame, **{k: v[rows, columns] for k, v in fields.items()}})


def accounts(close: Floats, days: Dates) -> pd.DataFrame:
    """Annual accounts, dated on the first of January, when the exchange is closed."""
    rng = np.random.default_rng([s.SEED, 13])
    rows = []
    for year in range(2005, 2025):
        before = int(np.searchsorted(days, np.datetime64(f"{year}-01-01"))) - 1
        for column, company in enumerate(s.COMPANIES):
            price = close[before, column]
            if np.isfinite(price):
                shares = company.shares * (s.SPLIT_RATIO if _is_split(company.code, year) else 1.0)
                value = round(price * shares, 1)
                debt = round(value * company.leverage * float(np.exp(rng.normal(0, 0.15))), 1)
                rows.append((f"{year}-01-01", company.code, company.currency, debt, value, 0.24))
    columns = ["date", "asset", "currency", "net_debt_m", "market_value_m", "tax_rate"]
    return pd.DataFrame(rows, columns=columns)


def indices(world: World, close: Floats) -> pd.DataFrame:
    """All-share price index, its total-return twin, and the tide-and-power price index."""
    whole = world.factors[:, 0] + world.daily_bill
    income = 0.028 / 251.0
    tide = [i for i, c in enumerate(s.COMPANIES) if c.industry == s.TIDE]
    sector = np.nanmean(close[1:, tide] / close[:-1, tide], axis=1)
    levels = {
        "QLX-ALL": 1000.0 * np.cumprod(1.0 + whole - income),
        "QLX-ALL-TR": 1000.0 * np.cumprod(1.0 + whole),
        "QLX-TIDE": 1000.0 * np.cumprod(np.r_[1.0, sector]),
    }
    return pd.DataFrame({"date": world.days, **{k: np.round(v, 2) for k, v in levels.items()}})


def _is_split(code: str, year: int) -> bool:
    return code == s.SPLIT and year > int(s.SPLIT_DAY[:4])


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


def _carry_closes(close: Floats, was_traded: Bools) -> Floats:
    """Closes, with the last traded price carried forward over days without trading."""
    seen = np.where(was_traded, np.arange(len(close))[:, None], 0)
    return np.asarray(np.take_along_axis(close, np.maximum.accumulate(seen, axis=0), axis=0))


def _opens_highs_lows(rng: np.random.Generator, close: Floats, was_traded: Bools) -> dict[str, Floats]:
    before = np.vstack([close[:1], close[:-1]])
    move = np.log(close / before)
    noise = rng.standard_normal((3, *close.shape)) * 0.006
    start = np.round(before * np.exp(0.35 * np.clip(move, -0.2, 0.2) + 0.5 * noise[0]), 2)
    opens = np.where(was_traded & np.isfinite(before), start, close)
    reach = np.where(was_traded, np.abs(noise[1:]) + 0.15 * np.abs(np.nan_to_num(move)), 0.0)
    high = np.round(np.fmax(opens, close) * np.exp(np.minimum(reach[0], 0.3)), 2)
    low = np.round(np.fmin(opens, close) * np.exp(-np.minimum(reach[1], 0.3)), 2)
    return {
        "open": opens,
        "high": np.fmax(high, np.fmax(opens, close)),
        "low": np.fmin(np.maximum(low, 0.01), np.fmin(opens, close)),
    }


def _volumes(rng: np.random.Generator, world: World, was_traded: Bools) -> Floats:
    """Shares traded, in hundreds, with more on volatile days."""
    size = np.array([c.shares for c in s.COMPANIES]) * 900.0
    restless = 12.0 * np.abs(world.total) + 0.45 * rng.standard_normal(world.total.shape)
    volume = np.maximum(np.round(size * np.exp(restless) / 100.0), 1.0) * 100.0
    return np.where(was_traded, volume, 0.0)


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
