"""Analysts' forecasts for the listed companies of the Lantern Sea, with a known bias and known costs of
equity.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.practice import simulated_world as s
from ultrum.practice.exchange import closes
from ultrum.practice.simulated_world import simulate

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
