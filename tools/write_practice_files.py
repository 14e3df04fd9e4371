"""Writes the files that the practice world ships with, from its seed: ``python -m tools.write_practice_files``."""

from __future__ import annotations

import io
import zipfile
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Final

import numpy as np
import orjson
import pandas as pd

from ultrum.core.array_types import Bools, Dates, Floats
from ultrum.practice import simulated_world as s
from ultrum.practice.simulated_exchange import closes, final_payments, simulate_forecasts, splits
from ultrum.practice.simulated_world import (
    AREAS,
    FACTORS,
    FIRST_DAY,
    LAST_DAY,
    World,
    remembering,
    simulate,
    trading_mask,
)
from ultrum.practice.statistics_service import DATA

_CENTS = ("open", "high", "low", "close")

# The economies of the world

YIELDS_FROM: Final = {"P2Y": "2006-01", "P20Y": "2008-06"}
# The three economies next to their markets: wages, output, unemployment, people, outlook, rents

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
        """Business cycle of each economy by month, with mean zero and standard deviation near one."""
        count = len(self.world.months)
        shared = np.random.default_rng([self.world.seed, 18]).standard_normal((count + 60, 4))
        slow = remembering(shared * 0.11, 1.72, -0.74)[60:]
        return np.asarray(0.7 * slow[:, :1] + 0.7 * slow[:, 1:])

    @cached_property
    def wages(self) -> Floats:
        """Average hourly pay, in each economy's own currency."""
        goods = self.world.prices_of_goods / self.world.prices_of_goods[0]
        years = np.arange(len(self.world.months))[:, None] / 12.0
        real = np.exp(years * np.array(list(_REAL.values())) + 0.006 * np.cumsum(self.cycle, axis=0) / 12)
        noise = 1 + 0.002 * np.random.default_rng([self.world.seed, 19]).standard_normal(goods.shape)
        return np.asarray(np.array(list(_WAGE.values())) * _lag(goods, 3) * real * noise)

    @cached_property
    def unemployment(self) -> Floats:
        """Unemployment rate, percent; for Tolvane also before its redefinition."""
        rest = _lag(-self.cycle, 4)
        noise = 0.08 * np.random.default_rng([self.world.seed, 20]).standard_normal(rest.shape)
        level = np.array(list(_JOBLESS.values())) * np.exp(0.16 * rest) + noise
        level[self.world.months >= pd.Period(REDEFINED, "M"), 2] += REDEFINED_BY
        return np.asarray(np.maximum(level, 0.5))

    @cached_property
    def industry(self) -> Floats:
        """Industrial output, 2015 = 100, not seasonally adjusted."""
        count = len(self.world.months)
        season = 0.03 * np.sin(2 * np.pi * (np.arange(count) - 2) / 12)[:, None]
        noise = 0.01 * np.random.default_rng([self.world.seed, 21]).standard_normal((count, 3))
        trend = np.arange(count)[:, None] / 12 * np.array([0.012, 0.018, 0.022])
        level = np.exp(trend + 0.03 * self.cycle + season + noise)
        return np.asarray(100 * level / level[132:144].mean(axis=0))

    @cached_property
    def quarters(self) -> pd.PeriodIndex:
        """Quarters of the simulation."""
        return pd.period_range(FIRST_DAY, LAST_DAY, freq="Q")

    @cached_property
    def output(self) -> Floats:
        """Nominal output of each quarter, millions of each currency."""
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
        """Credit spread of Miravel's companies over government, percent per year."""
        market = self.world.monthly_factors[:, 0]
        fear = remembering(-market * 9 - 0.12 * np.diff(self.cycle[:, 0], prepend=0), 0.9)
        return np.asarray(np.exp(0.45 + 0.42 * fear))

    @cached_property
    def outlook(self) -> Floats:
        """Balance of harbour masters who expect better less those who expect worse months, percent."""
        ahead = np.concatenate([self.cycle[2:, 0], self.cycle[-2:, 0]])
        noise = 5 * np.random.default_rng([self.world.seed, 22]).standard_normal(len(ahead))
        return np.asarray(np.clip(18 * ahead + noise, -95, 95))


def _lag(block: Floats, rows: int) -> Floats:
    return np.vstack([np.repeat(block[:1], rows, axis=0), block[:-rows]])


def releases(numbers: Floats, frequency: str, ends: Dates, seed: int) -> pd.DataFrame:
    """Every release of a series: columns ``place release released value``.

    The first is one month (two for quarters) after its period and has an error; each revision halves the error,
    and the last is exact.
    """
    rng = np.random.default_rng([seed, 23])
    error = rng.standard_normal(len(numbers)) * _FIRST_ERROR[frequency]
    rows = []
    for release in range(REVISIONS + 1):
        share = 0.0 if release == REVISIONS else 0.5**release
        value = numbers * (1 + share * error)
        days = ends + np.timedelta64(45 + 31 * release * (3 if frequency == "Q" else 1), "D")
        rows.append(
            pd.DataFrame(
                {"place": np.arange(len(numbers)), "release": release + 1, "released": days, "value": value}
            )
        )
    return pd.concat(rows, ignore_index=True)


# The exchange


def companies() -> pd.DataFrame:
    """The list of companies."""
    rows = [(c.listed, c.code, c.name, c.industry, c.currency) for c in s.COMPANIES]
    return pd.DataFrame(rows, columns=["listed", "asset", "name", "industry", "currency"])


def daily_bars(world: World) -> pd.DataFrame:
    """Daily bars in long form: date, asset, currency, open, high, low, close, volume."""
    close, _ = closes(world)
    rng = np.random.default_rng([world.seed, 11])
    alive = np.isfinite(close)
    was_traded = np.ones(close.shape, dtype=bool)
    was_traded[:, s.CODES.index(s.THIN)] = trading_mask(world.seed, len(close))
    close = carry_closes(close, was_traded)
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


def carry_closes(close: Floats, was_traded: Bools) -> Floats:
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


# The observatory


def published_observations(world: World) -> pd.DataFrame:
    """Columns ``flow key period value status``, in the order of the catalogue."""
    months = [str(p) for p in world.months]
    days = [str(d) for d in world.days]
    across = world.rates
    values: dict[tuple[str, str], tuple[list[str], Floats]] = {}
    for column, area in enumerate(AREAS):
        values["PRICES", f"M.{area}.CPI"] = (months, np.round(world.prices_of_goods[:, column], 2))
    values["RATES", "M.QM.POLICY"] = (months, np.round(100 * world.policy, 2))
    for column, maturity in enumerate(s.MATURITIES):
        start = months.index(YIELDS_FROM.get(maturity, months[0]))
        yields = np.round(100 * world.yields[start:, column], 2)
        values["RATES", f"M.QM.GOV_{maturity[1:]}"] = (months[start:], yields)
    values["FX", "B.QSR.QML"] = (days, np.round(across[:, 0], 5))
    values["FX", "B.QML.QTV"] = (days, np.round(across[:, 1], 5))
    values["FX", "B.QTV.QSR"] = (days, np.round(1.0 / (across[:, 0] * across[:, 1]), 5))
    values |= _economic_values(Economy(world), months)
    parts = [
        pd.DataFrame({"flow": flow, "key": key, "period": periods, "value": numbers})
        for (flow, key), (periods, numbers) in values.items()
    ]
    return _with_statuses(pd.concat(parts, ignore_index=True))


def _economic_values(economy: Economy, months: list[str]) -> dict[tuple[str, str], tuple[list[str], Floats]]:
    quarters = [f"{p.year}-Q{p.quarter}" for p in economy.quarters]
    years = [str(2004 + i) for i in range(len(economy.people))]
    series: dict[tuple[str, str], tuple[list[str], Floats]] = {
        ("RATES", "M.QM.SPREAD"): (months, np.round(economy.spread, 2)),
        ("OUTLOOK", "M.QM.NEXT"): (months, np.round(economy.outlook, 1)),
    }
    for column, area in enumerate(AREAS):
        series |= {
            ("WAGES", f"M.{area}.TOTAL"): (months, np.round(economy.wages[:, column], 2)),
            ("LABOUR", f"M.{area}.UNEMP"): (months, np.round(economy.unemployment[:, column], 1)),
            ("OUTPUT", f"Q.{area}.GDP"): (quarters, np.round(economy.output[:, column], 1)),
            ("OUTPUT", f"M.{area}.INDUSTRY"): (months, np.round(economy.industry[:, column], 1)),
            ("PEOPLE", f"A.{area}.T"): (years, np.round(economy.people[:, column], 1)),
        }
    return series


def _with_statuses(frame: pd.DataFrame) -> pd.DataFrame:
    """Provisional ends, a gap in one series, and a break in another."""
    status = np.full(len(frame), "A", dtype=object)
    key, period = frame["key"].to_numpy(), frame["period"].to_numpy()
    latest = {"OUTPUT": ("2024-10", "2024-Q4"), "WAGES": ("2024-12", "")}
    for flow, (month, quarter) in latest.items():
        of_flow = (frame["flow"] == flow).to_numpy()
        quarterly = np.array(["Q" in p for p in period])
        status[of_flow & ((quarterly & (period >= quarter)) | (~quarterly & (period >= month)))] = "P"
    status[(key == "M.QT.UNEMP") & (period == REDEFINED)] = "B"
    gap = (key == "M.QS.TOTAL") & np.isin(period, ["2011-04", "2011-05"])
    status[gap] = "M"
    return frame.assign(value=frame["value"].mask(gap), status=status)


def published_vintages(world: World) -> pd.DataFrame:
    """Every release of output and industry: ``flow key period release released value``."""
    economy = Economy(world)
    months = [str(p) for p in world.months]
    quarters = [f"{p.year}-Q{p.quarter}" for p in economy.quarters]
    parts = []
    for column, area in enumerate(AREAS):
        for name, periods, numbers, ends in (
            (f"Q.{area}.GDP", quarters, economy.output[:, column], economy.quarters),
            (f"M.{area}.INDUSTRY", months, economy.industry[:, column], world.months),
        ):
            days = ends.to_timestamp(how="end").to_numpy().astype("datetime64[D]")
            rows = releases(np.round(numbers, 1), name[0], days, world.seed + column)
            rows["value"] = np.round(rows["value"], 1)
            rows["period"] = np.array(periods)[rows.pop("place")]
            parts.append(rows.assign(flow="OUTPUT", key=name))
    columns = ["flow", "key", "period", "release", "released", "value"]
    return pd.concat(parts, ignore_index=True)[columns]


# The college, the council and the harbour

NAME, DAILY_NAME = "factors_monthly.txt", "factors_daily.txt"


_PROSE = """\
Harbour College of Miravel, Department of Exchange and Tides
Factor returns of the Lantern Sea, compiled from all shares posted on the exchange.

All figures are in percent per month. The first column is the return on the one-month bill; the
market is already in excess of it. Size, value and momentum are long-short portfolios.
Missing figures are marked n/a.

Half-year recap (sums of the months, for the notice board)
half-year;bill;market;size;value;momentum
"""


def monthly_text(world: World) -> str:
    """The file's text: prose, a half-year recap, then the months."""
    columns = np.column_stack([world.bill, world.monthly_factors]) * 100.0
    columns[:3, 4] = np.nan  # momentum needs a past
    columns[97, 3] = np.nan
    months = [f"{p.month:02d}/{p.year}" for p in world.months]
    lines = [_PROSE + _recap(world.months, columns)]
    lines.append("\nMonthly factors\nmonth;bill;" + ";".join(FACTORS) + "\n")
    lines += [_line(m, row) for m, row in zip(months, columns, strict=True)]
    lines.append("\nCompiled by the college's own clerks. Errors are corrected in the next issue.\n")
    return "".join(lines)


def monthly_zip(world: World) -> bytes:
    """The same text as the college publishes it."""
    return _zip(NAME, monthly_text(world))


def daily_zip(world: World) -> bytes:
    """Daily factors: prose, then days written 15.03.2011, in percent."""
    columns = np.column_stack([world.daily_bill, world.factors]) * 100.0
    days = [f"{d.day:02d}.{d.month:02d}.{d.year}" for d in pd.DatetimeIndex(world.days)]
    lines = [
        _PROSE.partition("Half-year")[0].replace("per month", "per day"),
        "day;bill;" + ";".join(FACTORS) + "\n",
    ]
    lines += [_line(d, row) for d, row in zip(days, columns, strict=True)]
    return _zip(DAILY_NAME, "".join(lines))


def _zip(name: str, text: str) -> bytes:
    """An archive with a fixed date, for reproducible bytes."""
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        entry = zipfile.ZipInfo(name, (2025, 1, 6, 9, 0, 0))
        entry.compress_type = zipfile.ZIP_DEFLATED
        archive.writestr(entry, text)
    return packed.getvalue()


def _recap(months: pd.PeriodIndex, columns: Floats) -> str:
    halves = [f"{p.year} H{1 if p.month < 7 else 2}" for p in months]
    sums = pd.DataFrame(columns).groupby(halves, sort=False).sum(min_count=6)
    return "".join(_line(str(h), row) for h, row in zip(sums.index, sums.to_numpy(), strict=True))


def _line(label: str, row: Floats) -> str:
    cells = ["n/a" if np.isnan(v) else f"{v:.4f}" if i == 0 else f"{v:.3f}" for i, v in enumerate(row)]
    return ";".join([label, *cells]) + "\n"


PROVINCES: Final = (
    "Northquay",
    "Lanternhead",
    "Saltmarsh",
    "Eelmouth",
    "Highfen",
    "Orchard Down",
    "Millrace",
    "Stonecross",
    "Gull Reach",
    "Far Dunes",
    "Weirside",
    "Southbar",
)


DISTRICTS_EACH: Final = 5


_COLUMNS: Final = 4


def codes() -> list[str]:
    """Codes of the provinces, with their leading zeros."""
    return [f"{i + 1:02d}" for i in range(len(PROVINCES))]


def districts() -> list[tuple[str, str]]:
    """Code and name of every district."""
    return [
        (f"{code}{k + 1:02d}", f"{name} {['North', 'East', 'South', 'West', 'Centre'][k]}")
        for code, name in zip(codes(), PROVINCES, strict=True)
        for k in range(DISTRICTS_EACH)
    ]


def rents(world: World) -> Floats:
    """Rent per square metre and month by province (M,12), miral."""
    rng = np.random.default_rng([world.seed, 41])
    goods = world.prices_of_goods[:, :1] / world.prices_of_goods[0, 0]
    start = 6.0 + 9.0 * rng.random(len(PROVINCES))
    drift = np.cumsum(0.0012 + 0.004 * rng.standard_normal((len(goods), len(PROVINCES))), axis=0)
    return np.asarray(start * goods * np.exp(drift))


def rents_file(world: World, code: str) -> str | None:
    """One province's file: years down, months across, with an incomplete last year; None if there is none."""
    if code not in codes():
        return None
    column = rents(world)[:, codes().index(code)]
    months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
    lines = [
        f"Rent for a square metre, {PROVINCES[codes().index(code)]}, QML a month",
        "",
        ",".join(["Year", *months, "Mean"]),
    ]
    for row, year in enumerate(range(2004, 2025)):
        cells = [f"{v:.2f}" for v in column[12 * row : 12 * row + 12]]
        if year == 2024:
            cells[9:] = ["", "", ""]
        numbers = [float(c) for c in cells if c]
        lines.append(",".join([str(year), *cells, f"{np.mean(numbers):.2f}"]))
    return "\n".join([*lines, "", "Source: the council's own survey. The last quarter is not in yet."]) + "\n"


def births(world: World) -> pd.DataFrame:
    """Firms founded by district and year: columns ``district name year births``."""
    rng = np.random.default_rng([world.seed, 42])
    mood = Economy(world).cycle[:, 0].reshape(-1, 12).mean(axis=1)
    size = 40 + 400 * rng.random(len(districts()))
    rows = []
    for k, (code, name) in enumerate(districts()):
        counts = rng.poisson(size[k] * np.exp(0.12 * mood + 0.005 * np.arange(len(mood))))
        rows += [(code, name, 2004 + y, int(c)) for y, c in enumerate(counts)]
    return pd.DataFrame(rows, columns=["district", "name", "year", "births"])


def births_file(world: World) -> str:
    """Years across, districts down; the last years of one district are missing."""
    table = births(world).pivot(index=["district", "name"], columns="year", values="births").astype(object)
    table.iloc[17, -3:] = "n/a"
    lines = [",".join(["code", "name", *map(str, table.columns)])]
    lines += [
        ",".join([code, name, *map(str, row)])
        for (code, name), row in zip(table.index, table.to_numpy(), strict=True)
    ]
    return "Firms founded in the year, by district\n" + "\n".join(lines) + "\n"


def shapes(level: str) -> dict[str, object]:
    """GeoJSON (RFC 7946) of the provinces or the districts."""
    features = []
    for k, (code, name) in enumerate(zip(codes(), PROVINCES, strict=True)):
        x, y = k % _COLUMNS, k // _COLUMNS
        if level == "provinces":
            features.append(_feature(code, name, _ring(x, y, 1.0)))
            continue
        of_province = districts()[DISTRICTS_EACH * k : DISTRICTS_EACH * (k + 1)]
        for i, (district, title) in enumerate(of_province):
            features.append(_feature(district, title, _ring(x + i / DISTRICTS_EACH, y, 1 / DISTRICTS_EACH)))
    return {"type": "FeatureCollection", "features": features}


def _ring(x: float, y: float, width: float) -> list[list[float]]:
    """A strip of land with a wavy shore, counter-clockwise; neighbours share their borders."""
    west = [_coast_point(x, y + t) for t in np.linspace(0, 1, 9)]
    east = [_coast_point(x + width, y + t) for t in np.linspace(0, 1, 9)]
    south = [_coast_point(x + width * t, y) for t in np.linspace(0, 1, 5)]
    north = [_coast_point(x + width * t, y + 1) for t in np.linspace(0, 1, 5)]
    return [*south, *east[1:], *north[::-1][1:], *west[::-1][1:]]


def _coast_point(x: float, y: float) -> list[float]:
    bend_x = 0.06 * np.sin(2.1 * y + 0.8 * x)
    bend_y = 0.05 * np.sin(1.7 * x - 0.5 * y)
    return [round(float(4.0 + 0.5 * (x + bend_x)), 5), round(float(52.0 + 0.4 * (y + bend_y)), 5)]


def _feature(code: str, name: str, ring: list[list[float]]) -> dict[str, object]:
    geometry = {"type": "Polygon", "coordinates": [ring]}
    return {"type": "Feature", "id": code, "properties": {"code": code, "name": name}, "geometry": geometry}


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
    """Freight rate of each trading day, miral per ton."""
    rng = np.random.default_rng([world.seed, 32])
    steps = 0.018 * rng.standard_normal(len(world.days)) + 0.0001
    return pd.Series(np.round(240 * np.exp(np.cumsum(steps) * 0.6), 1), pd.DatetimeIndex(world.days))


def quotes(world: World) -> str:
    """A month of five-minute quotes of one sorr in miral: no header, compact time stamps, clock of Miravel."""
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


def write(folder: Path = DATA, world: World | None = None) -> None:
    """Write every file of the world to a folder: ``python -m tools.write_practice_files``."""
    world = world or simulate()
    folder.mkdir(parents=True, exist_ok=True)
    close, _ = closes(world)
    _pack(daily_bars(world)).to_parquet(folder / "bars.parquet", compression="zstd", index=False)
    published_observations(world).to_parquet(folder / "observatory.parquet", compression="zstd", index=False)
    for name, table in small_tables(world, close).items():
        table.to_csv(folder / f"{name}.csv", index=False, lineterminator="\n")
    published_vintages(world).to_parquet(folder / "vintages.parquet", compression="zstd", index=False)
    for name, content in files(world).items():
        (folder / name).parent.mkdir(exist_ok=True)
        (folder / name).write_bytes(content)


def files(world: World) -> dict[str, bytes]:
    """Files served unchanged, by their path."""
    rents = {c: rents_file(world, c) or "" for c in codes()}
    freight_rates = freight(world).rename_axis("date").rename("rate")
    return {
        "college/factors_monthly.zip": monthly_zip(world),
        "college/factors_daily.zip": daily_zip(world),
        f"quotes_{QUOTED_MONTH}.csv": quotes(world).encode(),
        "harbour/berths_to_2014.txt": berths_old(world).encode(),
        "harbour/berths_from_2014.csv": berths_new(world).encode(),
        "freight.csv": freight_rates.to_csv(lineterminator="\n").encode(),
        "council/births.csv": births_file(world).encode(),
        **{f"council/rents/{c}.csv": text.encode() for c, text in rents.items()},
        **{f"council/{level}.geojson": orjson.dumps(shapes(level)) for level in ("provinces", "districts")},
    }


def small_tables(world: World, close: np.ndarray) -> dict[str, pd.DataFrame]:
    """The exchange's files other than the bars."""
    return {
        "companies": companies(),
        "dividends": closes(world)[1],
        "splits": splits(),
        "final_payments": final_payments(close),
        "accounts": accounts(close, world.days),
        "indices": indices(world, close),
        **forecast_tables(world.seed),
    }


def forecast_tables(seed: int) -> dict[str, pd.DataFrame]:
    """Analysts' forecasts of the last day, and past ones with what came."""
    world = simulate_forecasts(seed)
    table = world.table.reset_index()
    table.insert(0, "date", LAST_DAY)
    table.insert(2, "market_value_m", world.market_values.to_numpy())
    return {"forecasts": table, "past_forecasts": world.history}


def _pack(frame: pd.DataFrame) -> pd.DataFrame:
    """Prices as integer cents and volumes as hundreds, which compress well."""
    packed = frame.copy()
    for column in _CENTS:
        packed[column] = np.round(packed[column] * 100.0).astype(np.int32)
    packed["volume"] = (packed["volume"] / 100.0).astype(np.int32)
    packed["date"] = packed["date"].astype("datetime64[s]")
    for column in ("asset", "currency"):
        packed[column] = packed[column].astype("category")
    return packed


if __name__ == "__main__":
    write()
