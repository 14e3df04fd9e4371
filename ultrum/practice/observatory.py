"""Publications of the Lantern Sea Observatory: dataflows, dimensions, codes, topics and observations."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Final

from ultrum.practice import simulated_world as s

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
