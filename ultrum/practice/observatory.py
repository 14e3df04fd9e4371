"""What the Lantern Sea Observatory publishes: flows, dimensions, codes, and the observations."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.types import Floats
from ultrum.practice import setting as s
from ultrum.practice.simulate import World

AGENCY: Final = "QLO"
VERSION: Final = "1.0"
SERIES_ATTRIBUTES: Final = (
    "TITLE", "UNIT_MEASURE", "UNIT_MULT", "DECIMALS", "COLLECTION", "ADJUSTMENT", "BASE_PER",
    "QUOTING", "MATURITY",
)  # fmt: skip

AREAS: Final = {code: name for code, (name, _) in s.ECONOMIES.items()}
CURRENCIES: Final = {"QML": "Miral of Miravel", "QSR": "Sorr of Sorrin", "QTV": "Tolva of Tolvane"}
FREQUENCIES: Final = {"M": "Monthly", "B": "Daily, business week"}


@dataclass(frozen=True)
class Flow:
    """One dataflow: its title, its dimensions in order, and the codes of each."""

    id: str
    title: str
    dimensions: dict[str, tuple[str, dict[str, str]]]


def _instrument_codes() -> dict[str, str]:
    lengths = {"M": "month", "Y": "year"}
    named = {"POLICY": "Policy rate, set by the monetary board"}
    for maturity in s.MATURITIES:
        count, unit = maturity[1:-1], maturity[-1]
        plural = "" if count == "1" else "s"
        named[f"GOV_{maturity[1:]}"] = f"Government yield, {count} {lengths[unit]}{plural}"
    return named


FLOWS: Final = {
    "PRICES": Flow("PRICES", "Consumer prices", {
        "FREQ": ("Frequency", FREQUENCIES), "REF_AREA": ("Economy", AREAS),
        "ITEM": ("Item", {"CPI": "Consumer prices, all items"})}),
    "RATES": Flow("RATES", "Interest rates", {
        "FREQ": ("Frequency", FREQUENCIES), "REF_AREA": ("Economy", AREAS),
        "INSTRUMENT": ("Instrument", _instrument_codes())}),
    "FX": Flow("FX", "Exchange rates", {
        "FREQ": ("Frequency", FREQUENCIES), "BASE_CURRENCY": ("Base currency", CURRENCIES),
        "QUOTE_CURRENCY": ("Quote currency", CURRENCIES)}),
}  # fmt: skip


def catalogue() -> dict[tuple[str, str], dict[str, str]]:
    """Attributes of every series, by flow and key."""
    found = {}
    for area, name in AREAS.items():
        found["PRICES", f"M.{area}.CPI"] = _attributes(
            f"Consumer prices, all items, {name}", "IX", 2, "A", BASE_PER="2015"
        )
    found["RATES", "M.QM.POLICY"] = _attributes("Policy rate, Miravel", "PC", 2, "E")
    for maturity in s.MATURITIES:
        label = FLOWS["RATES"].dimensions["INSTRUMENT"][1][f"GOV_{maturity[1:]}"]
        quoting = "simple" if maturity in ("P1M", "P3M") else "bond-equivalent"
        found["RATES", f"M.QM.GOV_{maturity[1:]}"] = _attributes(
            f"{label}, Miravel", "PC", 2, "E", QUOTING=quoting, MATURITY=maturity
        )
    for base, quote in (("QSR", "QML"), ("QML", "QTV"), ("QTV", "QSR")):
        found["FX", f"B.{base}.{quote}"] = _attributes(f"{quote} for one {base}", quote, 5, "E")
    return found


def observations(world: World) -> pd.DataFrame:
    """Columns ``flow key period value``, in the order of the catalogue."""
    months = [str(p) for p in world.months]
    days = [str(d) for d in world.days]
    across = world.rates
    values: dict[tuple[str, str], tuple[list[str], Floats]] = {}
    for column, area in enumerate(AREAS):
        values["PRICES", f"M.{area}.CPI"] = (months, np.round(world.prices_of_goods[:, column], 2))
    values["RATES", "M.QM.POLICY"] = (months, np.round(100 * world.policy, 2))
    for column, maturity in enumerate(s.MATURITIES):
        start = months.index(s.YIELDS_FROM.get(maturity, months[0]))
        yields = np.round(100 * world.yields[start:, column], 2)
        values["RATES", f"M.QM.GOV_{maturity[1:]}"] = (months[start:], yields)
    values["FX", "B.QSR.QML"] = (days, np.round(across[:, 0], 5))
    values["FX", "B.QML.QTV"] = (days, np.round(across[:, 1], 5))
    values["FX", "B.QTV.QSR"] = (days, np.round(1.0 / (across[:, 0] * across[:, 1]), 5))
    parts = [
        pd.DataFrame({"flow": flow, "key": key, "period": periods, "value": numbers})
        for (flow, key), (periods, numbers) in values.items()
    ]
    return pd.concat(parts, ignore_index=True)


def _attributes(
    title: str, unit: str, decimals: int, collection: str, **more: str
) -> dict[str, str]:
    plain = {
        "TITLE": title,
        "UNIT_MEASURE": unit,
        "UNIT_MULT": "0",
        "DECIMALS": str(decimals),
        "COLLECTION": collection,
        "ADJUSTMENT": "N",
    }
    return {**plain, **more}
