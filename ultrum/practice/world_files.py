"""The shipped world on disk, written once from its seed."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np
import orjson
import pandas as pd

from ultrum.practice import college, council, exchange, harbour, observatory
from ultrum.practice.simulate import World, simulate

DATA = Path(__file__).parent / "data"
_CENTS = ("open", "high", "low", "close")


def write(folder: Path = DATA, world: World | None = None) -> None:
    """Write every file of the world into a folder: ``python -m ultrum.practice.world_files``."""
    world = world or simulate()
    folder.mkdir(parents=True, exist_ok=True)
    close, _ = exchange.closes(world)
    _packed(exchange.bars(world)).to_parquet(folder / "bars.parquet", compression="zstd", index=False)
    observatory.observations(world).to_parquet(folder / "observatory.parquet", compression="zstd", index=False)
    for name, table in small_tables(world, close).items():
        table.to_csv(folder / f"{name}.csv", index=False, lineterminator="\n")
    observatory.vintages(world).to_parquet(folder / "vintages.parquet", compression="zstd", index=False)
    for name, content in files(world).items():
        (folder / name).parent.mkdir(exist_ok=True)
        (folder / name).write_bytes(content)


def files(world: World) -> dict[str, bytes]:
    """Files that are served as they stand, by their path."""
    rents = {c: council.rents_file(world, c) or "" for c in council.codes()}
    freight = harbour.freight(world).rename_axis("date").rename("rate")
    return {
        "college/factors_monthly.zip": college.monthly_zip(world),
        "college/factors_daily.zip": college.daily_zip(world),
        f"quotes_{harbour.QUOTED_MONTH}.csv": harbour.quotes(world).encode(),
        "harbour/berths_to_2014.txt": harbour.berths_old(world).encode(),
        "harbour/berths_from_2014.csv": harbour.berths_new(world).encode(),
        "freight.csv": freight.to_csv(lineterminator="\n").encode(),
        "council/births.csv": council.births_file(world).encode(),
        **{f"council/rents/{c}.csv": text.encode() for c, text in rents.items()},
        **{
            f"council/{level}.geojson": orjson.dumps(council.shapes(level))
            for level in ("provinces", "districts")
        },
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
    return harbour.today_page(rates.set_axis(pd.DatetimeIndex(rates.index)), day)


@cache
def table(name: str) -> pd.DataFrame:
    """One of the exchange's small files."""
    return pd.read_csv(DATA / f"{name}.csv")


def _packed(frame: pd.DataFrame) -> pd.DataFrame:
    """Prices as whole cents and volumes as hundreds, which compress well."""
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
