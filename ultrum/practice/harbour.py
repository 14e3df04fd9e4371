"""What the harbour puts out by hand: berths in two overlapping files, a page of today, five-minute quotes."""

from __future__ import annotations

import hashlib

import numpy as np
import pandas as pd

from ultrum.core.array_types import Dates, Floats
from ultrum.practice.economy import Economy
from ultrum.practice.simulate import World

QUOTED_MONTH = "2024-11"


def berths(world: World) -> pd.Series:
    """Share of berths taken in each week ending on Friday, percent."""
    fridays = pd.date_range(str(world.days[0]), str(world.days[-1]), freq="W-FRI")
    months = (fridays.year - 2004) * 12 + fridays.month - 1
    rng = np.random.default_rng([world.seed, 31])
    mood = Economy(world).cycle[np.minimum(np.asarray(months), len(world.months) - 1), 0]
    level = 68 + 7 * mood + 2.2 * rng.standard_normal(len(fridays))
    return pd.Series(np.round(np.clip(level, 20, 99), 1), fridays)


def berths_old(world: World) -> str:
    """The older file: to 2014, days written 05/03/2010, decimal commas, oldest first."""
    part = berths(world)[:"2014-06-30"]
    rows = [f"{d:%d/%m/%Y};{v:.1f}".replace(".", ",") for d, v in part.items()]
    head = "Harbour office of Miravel - berths taken, weeks ending on Friday\nin percent of all berths\n\n"
    return head + "week ending;berths taken\n" + "\n".join(rows) + "\n"


def berths_new(world: World) -> str:
    """The newer file: from 2014, days written 2014-01-03, points, newest first."""
    part = berths(world)["2014-01-01":].iloc[::-1]
    rows = [f"{d:%Y-%m-%d},{v:.1f}" for d, v in part.items()]
    return "week_ending,berths_taken_pct\n" + "\n".join(rows) + "\n"


def freight(world: World) -> pd.Series:
    """Freight rate of each trading day, miral for a ton."""
    rng = np.random.default_rng([world.seed, 32])
    steps = 0.018 * rng.standard_normal(len(world.days)) + 0.0001
    return pd.Series(np.round(240 * np.exp(np.cumsum(steps) * 0.6), 1), pd.DatetimeIndex(world.days))


def today_page(freight_rates: pd.Series, day: np.datetime64) -> str:
    """The page that shows only the present rate; where it stands on the page shifts from day to day."""
    rates = freight_rates[: pd.Timestamp(day)]
    rate, stamp = rates.iloc[-1], rates.index[-1]
    notes = ["Tug 4 is in dock.", "Fog signals are tested at noon.", "The north quay is dredged."]
    shift = int(hashlib.sha256(str(stamp).encode()).hexdigest(), 16) % 4
    filler = "".join(f"<p>{n}</p>" for n in notes[:shift])
    return (
        "<!doctype html><html><head><title>Freight today</title></head><body><h1>Harbour of Miravel</h1>"
        f"{filler}<table><tr><th>Berth</th><th>Ship</th></tr><tr><td>12</td><td>Whelk</td></tr></table>"
        f"<p>Freight rate today: QML {rate:,.1f} for a ton, as of {stamp:%d %B %Y}.</p></body></html>\n"
    )


def quotes(world: World) -> str:
    """A month of five-minute quotes of one sorr in miral: no header, compact stamps, clock of Miravel."""
    days = world.days[world.days.astype("datetime64[M]") == np.datetime64(QUOTED_MONTH)]
    rng = np.random.default_rng([world.seed, 33])
    lines = []
    for day in days:
        close = world.rates[int(np.searchsorted(world.days, day)), 0]
        lines += _day_of_quotes(day, close, rng)
    return "\n".join(lines) + "\n"


def _day_of_quotes(day: np.datetime64, close: float, rng: np.random.Generator) -> list[str]:
    """Ninety-six bars from nine to five that end at the day's close."""
    steps = rng.standard_normal(97) * 0.0005
    path: Floats = close * np.exp(np.cumsum(steps) - np.sum(steps))
    spread = np.abs(rng.standard_normal((96, 2))) * 0.0003 * close
    high = np.maximum(path[:-1], path[1:]) + spread[:, 0]
    low = np.minimum(path[:-1], path[1:]) - spread[:, 1]
    volume = rng.integers(5, 400, 96)
    opening = day.astype("datetime64[m]") + np.timedelta64(9 * 60, "m")
    stamps: Dates = opening + np.timedelta64(5, "m") * np.arange(96)
    return [
        f"{str(t).replace('-', '').replace('T', ' ').replace(':', '')}00;{a:.5f};{h:.5f};{lo:.5f};{b:.5f};{v}"
        for t, a, h, lo, b, v in zip(stamps, path[:-1], high, low, path[1:], volume, strict=True)
    ]
