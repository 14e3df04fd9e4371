"""The Lantern Sea Exchange: bars, dividends, splits, accounts and indices; a panel of its companies."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import pandas as pd

from ultrum.core.array_types import Dates, Floats
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.panel.alignment import align
from ultrum.core.returns.price_log_and_excess_returns import returns
from ultrum.core.series.time_series import SeriesTable, TimeSeries
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
