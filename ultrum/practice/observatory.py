"""Publications of the Lantern Sea Observatory: dataflows, dimensions, codes, topics and observations."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.practice import simulated_world as s
from ultrum.practice.simulated_world import REDEFINED, Economy, World, releases

AGENCY: Final = "QLO"
VERSION: Final = "1.0"
SERIES_ATTRIBUTES: Final = (
    "TITLE",
    "UNIT_MEASURE",
    "UNIT_MULT",
    "DECIMALS",
    "COLLECTION",
    "ADJUSTMENT",
    "BASE_PER",
    "QUOTING",
    "MATURITY",
    "RELEASE_LAG",
)
STATUSES: Final = {
    "A": "Normal value",
    "B": "Time series break",
    "M": "Missing value; cannot exist",
    "P": "Provisional value",
}
AREAS: Final = {code: name for code, (name, _) in s.ECONOMIES.items()}
CURRENCIES: Final = {"QML": "Miral of Miravel", "QSR": "Sorr of Sorrin", "QTV": "Tolva of Tolvane"}
FREQUENCIES: Final = {"A": "Annual", "Q": "Quarterly", "M": "Monthly", "B": "Daily, business week"}
_OWN_CURRENCY: Final = dict(zip(AREAS, CURRENCIES, strict=True))


@dataclass(frozen=True)
class Flow:
    """One dataflow: its title, its dimensions in order, and the codes of each."""

    id: str
    title: str
    dimensions: dict[str, tuple[str, dict[str, str]]]
    topic: str = ""


def _instrument_codes() -> dict[str, str]:
    lengths = {"M": "month", "Y": "year"}
    named = {"POLICY": "Policy rate, set by the monetary board"}
    for maturity in s.MATURITIES:
        count, unit = maturity[1:-1], maturity[-1]
        plural = "" if count == "1" else "s"
        named[f"GOV_{maturity[1:]}"] = f"Government yield, {count} {lengths[unit]}{plural}"
    return {**named, "SPREAD": "Credit spread of companies over government"}


def _flow(name: str, title: str, topic: str, last: tuple[str, str, dict[str, str]]) -> Flow:
    """A dataflow by frequency, economy and one more dimension."""
    own_name, own_title, codes = last
    return Flow(
        name,
        title,
        {"FREQ": ("Frequency", FREQUENCIES), "REF_AREA": ("Economy", AREAS), own_name: (own_title, codes)},
        topic,
    )


FLOWS: Final = {
    "PRICES": _flow(
        "PRICES", "Consumer prices", "PRICES_WAGES", ("ITEM", "Item", {"CPI": "Consumer prices, all items"})
    ),
    "RATES": _flow("RATES", "Interest rates", "MONEY", ("INSTRUMENT", "Instrument", _instrument_codes())),
    "FX": Flow(
        "FX",
        "Exchange rates",
        {
            "FREQ": ("Frequency", FREQUENCIES),
            "BASE_CURRENCY": ("Base currency", CURRENCIES),
            "QUOTE_CURRENCY": ("Quote currency", CURRENCIES),
        },
        "MONEY",
    ),
    "WAGES": _flow("WAGES", "Wages", "PRICES_WAGES", ("COVER", "Coverage", {"TOTAL": "All branches"})),
    "LABOUR": _flow(
        "LABOUR",
        "Labour market",
        "LABOUR",
        ("INDICATOR", "Indicator", {"UNEMP": "Unemployed, share of the labour force"}),
    ),
    "OUTPUT": _flow(
        "OUTPUT",
        "Output",
        "ACTIVITY",
        (
            "INDICATOR",
            "Indicator",
            {"GDP": "Gross domestic product, prices of the day", "INDUSTRY": "Industrial output"},
        ),
    ),
    "PEOPLE": _flow("PEOPLE", "Population", "LABOUR", ("SEX", "Sex", {"T": "Women and men"})),
    "OUTLOOK": _flow(
        "OUTLOOK",
        "Harbour masters' outlook",
        "ACTIVITY",
        ("QUESTION", "Question", {"NEXT": "Business in the months ahead"}),
    ),
}
TOPICS: Final = {
    "ECONOMY": ("Economy", {"ACTIVITY": "Activity", "PRICES_WAGES": "Prices and wages"}),
    "MARKETS": ("Markets", {"MONEY": "Money and exchange"}),
    "SOCIETY": ("Society", {"LABOUR": "People and work"}),
}


@cache
def catalogue() -> dict[tuple[str, str], dict[str, str]]:
    """Attributes of every series, by flow and key."""
    flows = {}
    for area, name in AREAS.items():
        flows["PRICES", f"M.{area}.CPI"] = _attributes(
            f"Consumer prices, all items, {name}", "IX", 2, "A", BASE_PER="2015", RELEASE_LAG="P1M"
        )
    flows["RATES", "M.QM.POLICY"] = _attributes("Policy rate, Miravel", "PC", 2, "E")
    for maturity in s.MATURITIES:
        label = FLOWS["RATES"].dimensions["INSTRUMENT"][1][f"GOV_{maturity[1:]}"]
        quoting = "simple" if maturity in ("P1M", "P3M") else "bond-equivalent"
        flows["RATES", f"M.QM.GOV_{maturity[1:]}"] = _attributes(
            f"{label}, Miravel", "PC", 2, "E", QUOTING=quoting, MATURITY=maturity
        )
    for base, quote in (("QSR", "QML"), ("QML", "QTV"), ("QTV", "QSR")):
        flows["FX", f"B.{base}.{quote}"] = _attributes(f"{quote} for one {base}", quote, 5, "E")
    flows["RATES", "M.QM.SPREAD"] = _attributes("Credit spread of companies, Miravel", "PC", 2, "A")
    for area, name in AREAS.items():
        flows |= _of_economy(area, name)
    flows["OUTLOOK", "M.QM.NEXT"] = _attributes(
        "Harbour masters' outlook, balance, Miravel", "PT", 1, "A", RELEASE_LAG="P1M"
    )
    return flows


def _of_economy(area: str, name: str) -> dict[tuple[str, str], dict[str, str]]:
    currency = _OWN_CURRENCY[area]
    return {
        ("WAGES", f"M.{area}.TOTAL"): _attributes(
            f"Pay for an hour, {name}", currency, 2, "A", RELEASE_LAG="P2M"
        ),
        ("LABOUR", f"M.{area}.UNEMP"): _attributes(f"Unemployment, {name}", "PC", 1, "A", RELEASE_LAG="P1M"),
        ("OUTPUT", f"Q.{area}.GDP"): _attributes(
            f"Gross domestic product, {name}", currency, 1, "S", UNIT_MULT="6", RELEASE_LAG="P3M"
        ),
        ("OUTPUT", f"M.{area}.INDUSTRY"): _attributes(
            f"Industrial output, {name}", "IX", 1, "A", BASE_PER="2015", RELEASE_LAG="P2M"
        ),
        ("PEOPLE", f"A.{area}.T"): _attributes(f"Population, {name}", "PN", 1, "E", UNIT_MULT="3"),
    }


def observations(world: World) -> pd.DataFrame:
    """Columns ``flow key period value status``, in the order of the catalogue."""
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


def vintages(world: World) -> pd.DataFrame:
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


def _attributes(title: str, unit: str, decimals: int, collection: str, **more: str) -> dict[str, str]:
    plain = {
        "TITLE": title,
        "UNIT_MEASURE": unit,
        "UNIT_MULT": "0",
        "DECIMALS": str(decimals),
        "COLLECTION": collection,
        "ADJUSTMENT": "N",
    }
    return {**plain, **more}
