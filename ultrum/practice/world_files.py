"""Files of the practice world: the exchange, the college, the council and the harbour."""

from __future__ import annotations

import hashlib
import io
import zipfile
from functools import cache
from pathlib import Path
from typing import Final

import numpy as np
import orjson
import pandas as pd

from ultrum.core.array_types import Dates, Floats
from ultrum.practice import exchange, observatory
from ultrum.practice.simulated_world import FACTORS, Economy, World, simulate

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


# The regional council of Miravel: rents of twelve provinces, births of firms in sixty districts, their map

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


# What the harbour puts out by hand: berths in two overlapping files, a page of today, five-minute quotes

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


def page_of_today(freight_rates: pd.Series, day: np.datetime64) -> str:
    """The page that shows only the current rate; its position on the page changes from day to day."""
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


# The shipped world on disk, written once from its seed

DATA = Path(__file__).parent / "data"
_CENTS = ("open", "high", "low", "close")


def write(folder: Path = DATA, world: World | None = None) -> None:
    """Write every file of the world to a folder: ``python -m ultrum.practice.world_files``."""
    world = world or simulate()
    folder.mkdir(parents=True, exist_ok=True)
    close, _ = exchange.closes(world)
    _pack(exchange.bars(world)).to_parquet(folder / "bars.parquet", compression="zstd", index=False)
    observatory.observations(world).to_parquet(folder / "observatory.parquet", compression="zstd", index=False)
    for name, table in small_tables(world, close).items():
        table.to_csv(folder / f"{name}.csv", index=False, lineterminator="\n")
    observatory.vintages(world).to_parquet(folder / "vintages.parquet", compression="zstd", index=False)
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
        "companies": exchange.companies(),
        "dividends": exchange.closes(world)[1],
        "splits": exchange.splits(),
        "final_payments": exchange.final_payments(close),
        "accounts": exchange.accounts(close, world.days),
        "indices": exchange.indices(world, close),
    }


@cache
def bars() -> pd.DataFrame:
    """Daily bars of all companies, in long form."""
    frame = pd.read_parquet(DATA / "bars.parquet")
    for column in _CENTS:
        frame[column] = frame[column] / 100.0
    frame["volume"] *= 100
    return frame


@cache
def observations() -> pd.DataFrame:
    """Columns ``flow key period value status``."""
    return pd.read_parquet(DATA / "observatory.parquet")


@cache
def vintages() -> pd.DataFrame:
    """Every release: ``flow key period release released value``."""
    return pd.read_parquet(DATA / "vintages.parquet")


def today_page(day: np.datetime64) -> str:
    """The page of one day's freight rate."""
    rates = table("freight").set_index("date")["rate"]
    return page_of_today(rates.set_axis(pd.DatetimeIndex(rates.index)), day)


@cache
def table(name: str) -> pd.DataFrame:
    """One of the exchange's small files."""
    return pd.read_csv(DATA / f"{name}.csv")


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
