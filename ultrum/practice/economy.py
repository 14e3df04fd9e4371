"""The three economies next to their markets: wages, output, unemployment, people, outlook, rents.

Statistics follow one hidden cycle per economy, which is also what the harbour masters feel. Output and
industry are released first as a guess and revised twice; every release keeps its day.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Dates, Floats
from ultrum.practice import world as s
from ultrum.practice.simulate import World, remembering

REDEFINED: Final = "2014-01"  # Tolvane changes its definition of unemployment here
REDEFINED_BY: Final = 1.9  # percentage points
_WAGE: Final = {"QM": 21.4, "QS": 148.0, "QT": 96.0}  # an hour, in each currency, at the start
_REAL: Final = {"QM": 0.011, "QS": 0.014, "QT": 0.006}
_OUTPUT: Final = {"QM": 41_000.0, "QS": 182_000.0, "QT": 96_000.0}  # millions a quarter
_PEOPLE: Final = {"QM": 2_910.0, "QS": 1_740.0, "QT": 1_120.0}  # thousands
_JOBLESS: Final = {"QM": 5.6, "QS": 4.4, "QT": 8.2}
REVISIONS: Final = 2
_FIRST_ERROR: Final = {"Q": 0.005, "M": 0.008}  # standard deviation of the first release's error


@dataclass(frozen=True)
class Economy:
    """Statistics of the three economies; months (M,3), quarters (Q,3), years (Y,3)."""

    world: World

    @cached_property
    def cycle(self) -> Floats:
        """State of business of each economy by month, with mean zero and deviation near one."""
        count = len(self.world.months)
        shared = np.random.default_rng([self.world.seed, 18]).standard_normal((count + 60, 4))
        slow = remembering(shared * 0.11, 1.72, -0.74)[60:]
        return np.asarray(0.7 * slow[:, :1] + 0.7 * slow[:, 1:])

    @cached_property
    def wages(self) -> Floats:
        """Average pay for an hour, in each economy's own currency."""
        goods = self.world.prices_of_goods / self.world.prices_of_goods[0]
        years = np.arange(len(self.world.months))[:, None] / 12.0
        real = np.exp(years * np.array(list(_REAL.values())) + 0.006 * np.cumsum(self.cycle, axis=0) / 12)
        noise = 1 + 0.002 * np.random.default_rng([self.world.seed, 19]).standard_normal(goods.shape)
        return np.asarray(np.array(list(_WAGE.values())) * _lagged(goods, 3) * real * noise)

    @cached_property
    def unemployment(self) -> Floats:
        """Share of the labour force without work, percent; Tolvane's before its redefinition too."""
        rest = _lagged(-self.cycle, 4)
        noise = 0.08 * np.random.default_rng([self.world.seed, 20]).standard_normal(rest.shape)
        level = np.array(list(_JOBLESS.values())) * np.exp(0.16 * rest) + noise
        level[self.world.months >= pd.Period(REDEFINED, "M"), 2] += REDEFINED_BY
        return np.asarray(np.maximum(level, 0.5))

    @cached_property
    def industry(self) -> Floats:
        """Industrial output, 2015 = 100, not adjusted for the season."""
        count = len(self.world.months)
        season = 0.03 * np.sin(2 * np.pi * (np.arange(count) - 2) / 12)[:, None]
        noise = 0.01 * np.random.default_rng([self.world.seed, 21]).standard_normal((count, 3))
        trend = np.arange(count)[:, None] / 12 * np.array([0.012, 0.018, 0.022])
        level = np.exp(trend + 0.03 * self.cycle + season + noise)
        return np.asarray(100 * level / level[132:144].mean(axis=0))

    @cached_property
    def quarters(self) -> pd.PeriodIndex:
        """Quarters of the span."""
        return pd.period_range(s.FIRST_DAY, s.LAST_DAY, freq="Q")

    @cached_property
    def output(self) -> Floats:
        """Output of each quarter at the prices of the day, millions of each currency."""
        goods = self.world.prices_of_goods[2::3] / self.world.prices_of_goods[0]
        mood = self.cycle.reshape(-1, 3, 3).mean(axis=1)
        count = len(self.quarters)
        season = 1 + 0.02 * np.cos(2 * np.pi * np.arange(count) / 4)[:, None]
        growth = np.exp(np.arange(count)[:, None] / 4 * np.array([0.016, 0.019, 0.024]) + 0.02 * mood)
        return np.asarray(np.array(list(_OUTPUT.values())) * goods * growth * season)

    @cached_property
    def people(self) -> Floats:
        """Population at the end of each year, thousands."""
        years = np.arange(len(self.quarters) // 4)[:, None]
        return np.asarray(np.array(list(_PEOPLE.values())) * np.exp(years * np.array([0.004, 0.002, 0.009])))

    @cached_property
    def spread(self) -> Floats:
        """Credit spread of Miravel's companies over government, percent a year."""
        market = self.world.monthly_factors[:, 0]
        fear = remembering(-market * 9 - 0.12 * np.diff(self.cycle[:, 0], prepend=0), 0.9)
        return np.asarray(np.exp(0.45 + 0.42 * fear))

    @cached_property
    def outlook(self) -> Floats:
        """Harbour masters who see better months ahead less those who see worse, percent."""
        ahead = np.concatenate([self.cycle[2:, 0], self.cycle[-2:, 0]])
        noise = 5 * np.random.default_rng([self.world.seed, 22]).standard_normal(len(ahead))
        return np.asarray(np.clip(18 * ahead + noise, -95, 95))


def _lagged(block: Floats, rows: int) -> Floats:
    return np.vstack([np.repeat(block[:1], rows, axis=0), block[:-rows]])


def releases(numbers: Floats, frequency: str, ends: Dates, seed: int) -> pd.DataFrame:
    """Every release of a series: columns ``place release released value``.

    The first stands one month (two for quarters) after its period and errs; each revision halves the
    error, and the last is the number itself.
    """
    rng = np.random.default_rng([seed, 23])
    error = rng.standard_normal(len(numbers)) * _FIRST_ERROR[frequency]
    rows = []
    for release in range(REVISIONS + 1):
        share = 0.0 if release == REVISIONS else 0.5**release
        value = numbers * (1 + share * error)
        days = ends + np.timedelta64(45 + 31 * release * (3 if frequency == "Q" else 1), "D")
        rows.append(pd.DataFrame({"place": np.arange(len(numbers)), "release": release + 1,
                                  "released": days, "value": value}))  # fmt: skip
    return pd.concat(rows, ignore_index=True)
