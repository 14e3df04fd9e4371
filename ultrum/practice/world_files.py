"""The files that the practice world ships with, written from its seed by tools/write_practice_files.py."""

from __future__ import annotations

import hashlib
from functools import cache
from pathlib import Path

import numpy as np
import pandas as pd

DATA = Path(__file__).parent / "data"
_CENTS = ("open", "high", "low", "close")


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
    """The page that shows only the freight rate of one day; its position on the page changes from day to day."""
    listed = table("freight").set_index("date")["rate"]
    rates = listed.set_axis(pd.DatetimeIndex(listed.index))[: pd.Timestamp(day)]
    rate, stamp = rates.iloc[-1], rates.index[-1]
    notes = ["Tug 4 is in dock.", "Fog signals are tested at noon.", "The north quay is dredged."]
    shift = int(hashlib.sha256(str(stamp).encode()).hexdigest(), 16) % 4
    filler = "".join(f"<p>{n}</p>" for n in notes[:shift])
    return (
        "<!doctype html><html><head><title>Freight today</title></head><body><h1>Harbour of Miravel</h1>"
        f"{filler}<table><tr><th>Berth</th><th>Ship</th></tr><tr><td>12</td><td>Whelk</td></tr></table>"
        f"<p>Freight rate today: QML {rate:,.1f} for a ton, as of {stamp:%d %B %Y}.</p></body></html>\n"
    )


@cache
def table(name: str) -> pd.DataFrame:
    """One of the exchange's small files."""
    return pd.read_csv(DATA / f"{name}.csv")
