"""One seeded simulation of the Lantern Sea's markets and statistics.

Volatility follows a log-autoregression with leverage and shocks have Student's tails, both shared
by the factors; every mean and covariance stays as `world` defines it, so the true betas are exact.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd

from ultrum.core.array_types import DAY, Bools, Dates, Floats
from ultrum.practice import world as s

_PERSISTENCE, _LEVERAGE, _TAILS = 0.985, -0.55, 8.0
_MARKET_UNREST, _OWN_UNREST = 0.40, 0.28  # standard deviations of log volatility
_SHARED_VOLATILITY, _INDUSTRY_SHARE = 0.05, 0.15


@dataclass(frozen=True)
class World:
    """Everything one seed gives; arrays by trading day (T) or month (M) and company (N).

    ``total`` holds total returns before rounding, ``factors`` daily factor returns, ``bill`` the
    monthly bill return, ``yields`` month-end yields in decimals.
    """

    seed: int
    days: Dates
    months: pd.PeriodIndex
    factors: Floats
    total: Floats
    bill: Floats
    policy: Floats
    yields: Floats
    prices_of_goods: Floats
    rates: Floats

    @cached_property
    def month_of_day(self) -> Floats:
        """Row of each day's month."""
        months = self.days.astype("datetime64[M]").astype(int)
        return np.asarray(months - months[0])

    @cached_property
    def daily_bill(self) -> Floats:
        """Bill return of each day, compounding to the month's."""
        counts = np.bincount(self.month_of_day)
        return np.asarray(np.expm1(np.log1p(self.bill) / counts)[self.month_of_day])

    @cached_property
    def monthly_factors(self) -> Floats:
        """Monthly excess returns, ∏(1+f+rf) − ∏(1+rf), shape (M, 4)."""
        first = np.flatnonzero(np.diff(self.month_of_day, prepend=-1))
        rate = self.daily_bill[:, None]
        gross = np.multiply.reduceat(1.0 + self.factors + rate, first, axis=0)
        return np.asarray(gross - np.multiply.reduceat(1.0 + rate, first, axis=0))


def simulate(seed: int = s.SEED) -> World:
    """Draw the world of one seed.

    Examples
    --------
    >>> simulate(1).total.shape == simulate(2).total.shape
    True
    """
    streams = np.random.SeedSequence(seed).spawn(6)
    markets, own, curve, goods, currencies, _ = (np.random.default_rng(x) for x in streams)
    days = trading_days()
    months = pd.period_range(s.FIRST_DAY, s.LAST_DAY, freq="M")
    policy, yields, bill = _rates(curve, len(months))
    factors, stress = _factors(markets, len(days))
    world = World(
        seed,
        days,
        months,
        factors,
        np.empty(0),
        bill,
        policy,
        yields,
        _prices_of_goods(goods, len(months)),
        _exchange_rates(currencies, len(days)),
    )
    return replace(world, total=_companies(own, world, stress))


def trading_days() -> Dates:
    """Weekdays from 2004 to 2024 without the exchange's holidays."""
    every = np.arange(np.datetime64(s.FIRST_DAY), np.datetime64(s.LAST_DAY) + DAY)
    closed = np.array([str(day)[5:] in s.HOLIDAYS for day in every])
    return np.asarray(every[np.is_busday(every) & ~closed])


def traded(seed: int, count: int) -> Bools:
    """Days on which the thin trader was traded, in spells; the first and last always."""
    rng = np.random.default_rng([seed, 7])
    mood = remembering(rng.standard_normal(count), 0.6) * 0.8
    still = mood < np.quantile(mood, s.UNTRADED_SHARE)
    still[[0, -1]] = False
    return np.asarray(~still)


def remembering(shocks: Floats, *memory: float) -> Floats:
    """Autoregression of the shocks, along the first axis."""
    import scipy.signal  # slow to import, and only a simulation needs it

    return np.asarray(scipy.signal.lfilter([1.0], [1.0, *(-m for m in memory)], shocks, axis=0))


def _volatility(shocks: Floats, unrest: float) -> Floats:
    """Volatility paths with mean square one, each known the day before."""
    paths = remembering(shocks, _PERSISTENCE)
    paths *= np.sqrt(1 - _PERSISTENCE**2) * unrest
    lagged = np.vstack([np.zeros_like(paths[:1]), paths[:-1]])
    return np.asarray(np.exp(lagged - unrest**2))


def _tails(rng: np.random.Generator, shape: tuple[int, ...]) -> Floats:
    """Scale that turns normal shocks into Student's with variance one."""
    return np.asarray(np.sqrt((_TAILS - 2.0) / rng.chisquare(_TAILS, shape)))


def _factors(rng: np.random.Generator, count: int) -> tuple[Floats, Floats]:
    """Daily factor returns (T,4) and the shocks to their common volatility (T,)."""
    year = count / 21.0
    normal = rng.standard_normal((count, 4)) @ np.linalg.cholesky(s.CORRELATIONS).T
    fresh = rng.standard_normal(count)
    stress = _LEVERAGE * normal[:, 0] + np.sqrt(1 - _LEVERAGE**2) * fresh
    scale = _volatility(stress[:, None], _MARKET_UNREST) * _tails(rng, (count, 1))
    returns = s.PREMIA / year + s.VOLATILITIES / np.sqrt(year) * scale * normal
    return np.asarray(returns), stress


def _companies(rng: np.random.Generator, world: World, stress: Floats) -> Floats:
    """Daily total returns in QML (T,N): bill, alpha, loadings and a shock of its own."""
    count, year = len(world.days), len(world.days) / 21.0
    industries = sorted({c.industry for c in s.COMPANIES})
    member = np.array([industries.index(c.industry) for c in s.COMPANIES])
    shared = rng.standard_normal((count, len(industries)))[:, member]
    alone = rng.standard_normal((count, len(s.COMPANIES)))
    normal = np.sqrt(_INDUSTRY_SHARE) * shared + np.sqrt(1 - _INDUSTRY_SHARE) * alone
    fresh = rng.standard_normal(normal.shape)
    worry = _SHARED_VOLATILITY * stress[:, None] + np.sqrt(1 - _SHARED_VOLATILITY**2) * fresh
    scale = _volatility(worry, _OWN_UNREST) * _tails(rng, normal.shape)
    sizes = np.array([c.own_volatility for c in s.COMPANIES]) / np.sqrt(year)
    alphas = np.array([c.alpha for c in s.COMPANIES]) / year
    common = np.einsum("tk,tnk->tn", world.factors, _loadings(world.days))
    total = world.daily_bill[:, None] + alphas + common + sizes * scale * normal
    return np.asarray(np.maximum(total, -0.6))


def _loadings(days: Dates) -> Floats:
    """Loadings by day (T,N,4), with the broken beta's break."""
    loadings = np.repeat(s.loading_matrix()[None], len(days), axis=0)
    loadings[days >= np.datetime64(s.BREAK_DAY), s.CODES.index(s.BROKEN), 0] = s.LOADING_AFTER
    return loadings


def _autoregression(rng: np.random.Generator, count: int, memory: float, size: float) -> Floats:
    shocks = rng.standard_normal(count) * size * np.sqrt(1 - memory**2)
    return remembering(shocks, memory)


def _rates(rng: np.random.Generator, count: int) -> tuple[Floats, Floats, Floats]:
    """Policy rate and yields at month ends, and the bill return each month earned, decimals."""
    when = 2004.0 + (np.arange(count + 1) + 0.0) / 12.0  # one month end before the first
    short = np.interp(when, *np.transpose(s.SHORT_RATE))
    short = np.maximum(short + _autoregression(rng, count + 1, 0.9, 0.15), 0.1)
    long = np.interp(when, *np.transpose(s.LONG_RATE))
    long = long + _autoregression(rng, count + 1, 0.95, 0.25)
    months = np.array(list(s.MATURITIES.values()))
    pull = (1 - np.exp(-months / 40.0)) / (months / 40.0)
    yields = long[:, None] + (short - long)[:, None] * pull + 0.15 * np.log1p(months / 60.0)
    yields = np.round(np.maximum(yields, 0.05), 2) / 100.0
    policy = np.round(4.0 * short) / 4.0 / 100.0
    return policy[1:], yields[1:], yields[:-1, 0] / 12.0


def _prices_of_goods(rng: np.random.Generator, count: int) -> Floats:
    """Consumer price indices (M,3), 2015 = 100."""
    season = 0.0015 * np.sin(2 * np.pi * np.arange(count) / 12.0)
    columns = []
    for _, inflation in s.ECONOMIES.values():
        monthly = inflation / 12.0 + _autoregression(rng, count, 0.7, 0.0016)
        level = np.exp(np.cumsum(monthly) + season)
        columns.append(100.0 * level / level[132:144].mean())
    return np.column_stack(columns)


def _exchange_rates(rng: np.random.Generator, count: int) -> Floats:
    """QML for one QSR, and QTV for one QML, by trading day (T,2)."""
    steps = rng.standard_normal((count, 2)) * _tails(rng, (count, 1)) * 0.085 / np.sqrt(251)
    return np.asarray(np.array([1.42, 8.35]) * np.exp(np.cumsum(steps, axis=0)))
