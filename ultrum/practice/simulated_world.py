"""The Lantern Sea: its definition, true parameters, one seeded simulation, and publications of its observatory.

The definition is not random. The simulation draws around these numbers, and `truth` returns them.

Volatility follows a log-autoregression with leverage and shocks have Student's t tails, both shared by the
factors; every mean and covariance is that of `world`, so the true betas are exact.

Statistics follow one latent cycle per economy, which the harbour masters observe with noise. Output and industry
are first released as an estimate and revised twice; every release has its date.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cache, cached_property
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import DAY, Bools, Dates, Floats

SEED: Final = 20054  # of 80 looked at, one whose history is ordinary; coverage uses others
FIRST_DAY, LAST_DAY = "2004-01-01", "2024-12-31"
HOLIDAYS: Final = ("01-01", "02-02", "05-01", "06-14", "10-09", "12-25", "12-26")
FACTORS: Final = ("market", "size", "value", "momentum")
PREMIA: Final = np.array([0.060, 0.015, 0.030, 0.045])
VOLATILITIES: Final = np.array([0.160, 0.080, 0.090, 0.120])
CORRELATIONS: Final = np.array(
    [[1.00, 0.20, -0.10, -0.20], [0.20, 1.00, 0.05, 0.00], [-0.10, 0.05, 1.00, -0.25], [-0.20, 0.00, -0.25, 1.00]]
)


@dataclass(frozen=True)
class Company:
    """One listed company and its true behaviour."""

    code: str
    name: str
    industry: str
    loadings: tuple[float, float, float, float]
    own_volatility: float
    dividend_yield: float
    first_price: float
    shares: float
    leverage: float
    currency: str = "QML"
    listed: str = FIRST_DAY
    alpha: float = 0.0


TIDE, SHIP, FOOD, WORKS, BANK = (
    "tide and power",
    "shipping",
    "food and fisheries",
    "instruments and works",
    "finance",
)

COMPANIES: Final = (
    Company("BRTW", "Brightwater Tidal", TIDE, (0.62, -0.10, 0.25, 0.05), 0.21, 0.040, 34, 210, 0.9),
    Company("EBMK", "Ebbmark Power", TIDE, (0.55, -0.15, 0.30, 0.00), 0.20, 0.045, 48, 340, 1.1),
    Company("CSHW", "Causeway Heatworks", TIDE, (0.70, 0.20, 0.20, -0.05), 0.24, 0.035, 19, 95, 0.8),
    Company("SLTM", "Saltmere Water", TIDE, (0.48, -0.20, 0.15, 0.10), 0.19, 0.042, 62, 150, 1.3),
    Company("WKFN", "Wickfen Grid", TIDE, (0.58, 0.00, 0.35, 0.00), 0.21, 0.048, 27, 260, 1.2),
    Company("PLFR", "Pellan Ferries", SHIP, (1.20, 0.35, 0.20, -0.15), 0.31, 0.020, 22, 80, 0.7),
    Company("ORLK", "Oarlock Freight", SHIP, (1.35, 0.25, 0.30, -0.20), 0.33, 0.018, 57, 175, 0.6),
    Company("TTHL", "Tern and Thole Lines", SHIP, (1.25, 0.10, 0.15, 0.00), 0.30, 0.022, 88, 120, 0.5),
    Company("QLDK", "Quillon Docks", SHIP, (1.05, 0.15, 0.10, 0.05), 0.27, 0.028, 41, 140, 0.9),
    Company("MRWG", "Marrowgate Tugs", SHIP, (0.60, 0.20, 0.10, 0.00), 0.27, 0.020, 16, 60, 0.4),
    Company("SVFC", "Silverfin Canneries", FOOD, (0.75, 0.10, 0.05, 0.05), 0.24, 0.030, 30, 110, 0.4),
    Company("KLPW", "Kelpwright Foods", FOOD, (0.68, -0.10, -0.10, 0.10), 0.22, 0.027, 71, 230, 0.3),
    Company("DNMK", "Dunnock Mills", FOOD, (0.82, 0.30, 0.20, -0.05), 0.26, 0.025, 14, 70, 0.5),
    Company("ORSL", "Orrery Salt", FOOD, (0.90, 0.40, 0.10, -0.10), 0.28, 0.022, 25, 50, 0.3),
    Company("NTSH", "Netherby Smokehouse", FOOD, (0.80, 0.50, 0.15, 0.00), 0.30, 0.020, 9, 25, 0.2),
    Company("LTSM", "Lanternsmith Optics", WORKS, (1.15, -0.05, -0.35, 0.25), 0.32, 0.008, 36, 300, 0.1),
    Company("CBGI", "Cobble and Gauge", WORKS, (1.05, 0.15, -0.10, 0.10), 0.27, 0.015, 53, 130, 0.2),
    Company(
        "FTHL",
        "Fathomline Cables",
        WORKS,
        (1.25, 0.20, -0.20, 0.15),
        0.33,
        0.010,
        18,
        160,
        0.3,
        listed="2009-03-16",
    ),
    Company("RPWK", "Ropewalk Textiles", WORKS, (0.95, 0.35, 0.30, -0.10), 0.29, 0.026, 21, 65, 0.5),
    Company("BRSC", "Brinestone Ceramics", WORKS, (1.10, 0.25, 0.05, 0.00), 0.28, 0.018, 44, 90, 0.3),
    Company("HBMT", "Harbourmoot Bank", BANK, (1.30, -0.10, 0.45, -0.20), 0.26, 0.036, 39, 520, 2.0),
    Company("TDWD", "Tidewarden Assurance", BANK, (1.10, -0.05, 0.30, -0.10), 0.24, 0.034, 65, 310, 0.6),
    Company(
        "SNST", "Sorrin Strand Bank", BANK, (1.05, 0.00, 0.40, -0.10), 0.25, 0.033, 28, 400, 1.8, currency="QSR"
    ),
    Company(
        "LMPB", "Lampblack Credit", BANK, (1.40, 0.30, 0.25, -0.15), 0.34, 0.012, 20, 75, 1.5, listed="2012-06-11"
    ),
)
CODES: Final = tuple(c.code for c in COMPANIES)

BROKEN, THIN, FOREIGN, DELISTED, SPLIT = "MRWG", "NTSH", "SNST", "ORSL", "LTSM"
BREAK_DAY, LOADING_AFTER = "2014-07-01", 1.70
UNTRADED_SHARE = 0.22
DELISTING_DAY, FINAL_PAYMENT_DAY, FINAL_PREMIUM = "2017-08-11", "2017-08-18", 0.12
SPLIT_DAY, SPLIT_RATIO = "2014-05-19", 3.0
SPECIAL = ("KLPW", "2016-11-10", 0.06)
REGULAR: Final = tuple(c for c in CODES if c not in (BROKEN, THIN, FOREIGN, DELISTED))

MATURITIES: Final = {"P1M": 1, "P3M": 3, "P1Y": 12, "P2Y": 24, "P5Y": 60, "P10Y": 120, "P20Y": 240}
ECONOMIES: Final = {"QM": ("Miravel", 0.022), "QS": ("Sorrin", 0.018), "QT": ("Tolvane", 0.035)}
SHORT_RATE: Final = (
    (2004.0, 3.25),
    (2006.5, 3.00),
    (2009.2, 5.60),
    (2011.0, 2.00),
    (2013.5, 1.10),
    (2016.5, 1.25),
    (2019.4, 4.40),
    (2021.5, 1.50),
    (2025.0, 2.75),
)
LONG_RATE: Final = (
    (2004.0, 4.70),
    (2008.5, 4.60),
    (2012.0, 3.60),
    (2016.0, 3.00),
    (2019.5, 3.50),
    (2025.0, 3.90),
)


@dataclass(frozen=True)
class Truth:
    """True parameters of the practice world.

    Attributes
    ----------
    loadings : DataFrame, shape (24, 4)
        True loadings on every factor; for the company with a break those before it.
    one_factor : Series, shape (24,)
        Market beta of a regression on the market alone, implied by the loadings.
    alphas : Series, shape (24,)
        Annual, against all four factors.
    premia : Series, shape (4,)
        Expected annual factor returns.
    breaks : DataFrame
        Asset, date, and the market loading before and from it.
    regular : tuple of str
        The companies without a special feature.
    """

    loadings: pd.DataFrame
    one_factor: pd.Series
    alphas: pd.Series
    premia: pd.Series
    breaks: pd.DataFrame
    regular: tuple[str, ...]


def loading_matrix() -> Floats:
    """True loadings, shape (24, 4)."""
    return np.array([c.loadings for c in COMPANIES])


def truth() -> Truth:
    """True loadings, premia and breaks of the practice world.

    Returns
    -------
    Truth
        Parameters of the world.

    Examples
    --------
    >>> truth().one_factor.round(3)["BRTW"].item()
    0.588
    """
    on_market = CORRELATIONS[0] * VOLATILITIES / VOLATILITIES[0]
    breaks = {"asset": [BROKEN], "date": [BREAK_DAY], "after": [LOADING_AFTER]}
    before = dict(zip(CODES, loading_matrix()[:, 0], strict=True))[BROKEN]
    return Truth(
        loadings=pd.DataFrame(loading_matrix(), list(CODES), list(FACTORS)),
        one_factor=pd.Series(loading_matrix() @ on_market, list(CODES), name="one_factor"),
        alphas=pd.Series([c.alpha for c in COMPANIES], list(CODES), name="alpha"),
        premia=pd.Series(PREMIA, list(FACTORS), name="premium"),
        breaks=pd.DataFrame(breaks).assign(before=before),
        regular=REGULAR,
    )


# One seeded simulation of the Lantern Sea's markets and statistics

_PERSISTENCE, _LEVERAGE, _TAILS = 0.985, -0.55, 8.0
_MARKET_UNREST, _OWN_UNREST = 0.40, 0.28  # standard deviations of log volatility
_SHARED_VOLATILITY, _INDUSTRY_SHARE = 0.05, 0.15


@dataclass(frozen=True)
class World:
    """All data of one seed; arrays by trading day (T) or month (M) and company (N).

    ``total`` has total returns before rounding, ``factors`` daily factor returns, ``bill`` the monthly bill
    return, ``yields`` month-end yields in decimals.
    """

    seed: int
    days: Dates
    months: pd.PeriodIndex
    factors: Floats
    total: Floats
    bill: Floats
    policy: Floats
    yields: Floats
    prices_of_goods: Floats
    rates: Floats

    @cached_property
    def month_of_day(self) -> Floats:
        """Row of each day's month."""
        months = self.days.astype("datetime64[M]").astype(int)
        return np.asarray(months - months[0])

    @cached_property
    def daily_bill(self) -> Floats:
        """Bill return of each day, compounding to the month's."""
        counts = np.bincount(self.month_of_day)
        return np.asarray(np.expm1(np.log1p(self.bill) / counts)[self.month_of_day])

    @cached_property
    def monthly_factors(self) -> Floats:
        """Monthly excess returns, ∏(1+f+rf) − ∏(1+rf), shape (M, 4)."""
        first = np.flatnonzero(np.diff(self.month_of_day, prepend=-1))
        rate = self.daily_bill[:, None]
        gross = np.multiply.reduceat(1.0 + self.factors + rate, first, axis=0)
        return np.asarray(gross - np.multiply.reduceat(1.0 + rate, first, axis=0))


def simulate(seed: int = SEED) -> World:
    """Simulate the world of one seed.

    Examples
    --------
    >>> simulate(1).total.shape == simulate(2).total.shape
    True
    """
    streams = np.random.SeedSequence(seed).spawn(6)
    markets, companies, curve, goods, currencies, _ = (np.random.default_rng(x) for x in streams)
    days = trading_days()
    months = pd.period_range(FIRST_DAY, LAST_DAY, freq="M")
    policy, yields, bill = _rates(curve, len(months))
    factors, stress = _factors(markets, len(days))
    world = World(
        seed,
        days,
        months,
        factors,
        np.empty(0),
        bill,
        policy,
        yields,
        _prices_of_goods(goods, len(months)),
        _exchange_rates(currencies, len(days)),
    )
    return replace(world, total=_companies(companies, world, stress))


def trading_days() -> Dates:
    """Weekdays from 2004 to 2024 without the exchange's holidays."""
    every = np.arange(np.datetime64(FIRST_DAY), np.datetime64(LAST_DAY) + DAY)
    closed = np.array([str(day)[5:] in HOLIDAYS for day in every])
    return np.asarray(every[np.is_busday(every) & ~closed])


def trading_mask(seed: int, count: int) -> Bools:
    """Trading days of the thinly traded company, in runs; the first and last day always."""
    rng = np.random.default_rng([seed, 7])
    mood = remembering(rng.standard_normal(count), 0.6) * 0.8
    still = mood < np.quantile(mood, UNTRADED_SHARE)
    still[[0, -1]] = False
    return np.asarray(~still)


def remembering(shocks: Floats, *memory: float) -> Floats:
    """Autoregression of the shocks, along the first axis; coefficients by lag."""
    path: list[Floats] = []
    for shock in shocks:
        lagged = [slope * path[-lag] for lag, slope in enumerate(memory, 1) if lag <= len(path)]
        path.append(shock + sum(reversed(lagged)))
    return np.array(path)


def _volatility(shocks: Floats, unrest: float) -> Floats:
    """Volatility paths with mean square one, each known the day before."""
    paths = remembering(shocks, _PERSISTENCE)
    paths *= np.sqrt(1 - _PERSISTENCE**2) * unrest
    lagged = np.vstack([np.zeros_like(paths[:1]), paths[:-1]])
    return np.asarray(np.exp(lagged - unrest**2))


def _tails(rng: np.random.Generator, shape: tuple[int, ...]) -> Floats:
    """Scale that converts normal shocks into Student's t with variance one."""
    return np.asarray(np.sqrt((_TAILS - 2.0) / rng.chisquare(_TAILS, shape)))


def _factors(rng: np.random.Generator, count: int) -> tuple[Floats, Floats]:
    """Daily factor returns (T,4) and the shocks to their common volatility (T,)."""
    year = count / 21.0
    normal = rng.standard_normal((count, 4)) @ np.linalg.cholesky(CORRELATIONS).T
    fresh = rng.standard_normal(count)
    stress = _LEVERAGE * normal[:, 0] + np.sqrt(1 - _LEVERAGE**2) * fresh
    scale = _volatility(stress[:, None], _MARKET_UNREST) * _tails(rng, (count, 1))
    returns = PREMIA / year + VOLATILITIES / np.sqrt(year) * scale * normal
    return np.asarray(returns), stress


def _companies(rng: np.random.Generator, world: World, stress: Floats) -> Floats:
    """Daily total returns in QML (T,N): bill, alpha, loadings and an idiosyncratic shock."""
    count, year = len(world.days), len(world.days) / 21.0
    industries = sorted({c.industry for c in COMPANIES})
    member = np.array([industries.index(c.industry) for c in COMPANIES])
    shared = rng.standard_normal((count, len(industries)))[:, member]
    alone = rng.standard_normal((count, len(COMPANIES)))
    normal = np.sqrt(_INDUSTRY_SHARE) * shared + np.sqrt(1 - _INDUSTRY_SHARE) * alone
    fresh = rng.standard_normal(normal.shape)
    worry = _SHARED_VOLATILITY * stress[:, None] + np.sqrt(1 - _SHARED_VOLATILITY**2) * fresh
    scale = _volatility(worry, _OWN_UNREST) * _tails(rng, normal.shape)
    sizes = np.array([c.own_volatility for c in COMPANIES]) / np.sqrt(year)
    alphas = np.array([c.alpha for c in COMPANIES]) / year
    common = np.einsum("tk,tnk->tn", world.factors, _loadings(world.days))
    total = world.daily_bill[:, None] + alphas + common + sizes * scale * normal
    return np.asarray(np.maximum(total, -0.6))


def _loadings(days: Dates) -> Floats:
    """Loadings by day (T,N,4), with the broken beta's break."""
    loadings = np.repeat(loading_matrix()[None], len(days), axis=0)
    loadings[days >= np.datetime64(BREAK_DAY), CODES.index(BROKEN), 0] = LOADING_AFTER
    return loadings


def _autoregression(rng: np.random.Generator, count: int, memory: float, size: float) -> Floats:
    shocks = rng.standard_normal(count) * size * np.sqrt(1 - memory**2)
    return remembering(shocks, memory)


def _rates(rng: np.random.Generator, count: int) -> tuple[Floats, Floats, Floats]:
    """Policy rate and yields at month ends, and the bill return of each month, decimals."""
    when = 2004.0 + (np.arange(count + 1) + 0.0) / 12.0  # one month end before the first
    short = np.interp(when, *np.transpose(SHORT_RATE))
    short = np.maximum(short + _autoregression(rng, count + 1, 0.9, 0.15), 0.1)
    long = np.interp(when, *np.transpose(LONG_RATE))
    long = long + _autoregression(rng, count + 1, 0.95, 0.25)
    months = np.array(list(MATURITIES.values()))
    pull = (1 - np.exp(-months / 40.0)) / (months / 40.0)
    yields = long[:, None] + (short - long)[:, None] * pull + 0.15 * np.log1p(months / 60.0)
    yields = np.round(np.maximum(yields, 0.05), 2) / 100.0
    policy = np.round(4.0 * short) / 4.0 / 100.0
    return policy[1:], yields[1:], yields[:-1, 0] / 12.0


def _prices_of_goods(rng: np.random.Generator, count: int) -> Floats:
    """Consumer price indices (M,3), 2015 = 100."""
    season = 0.0015 * np.sin(2 * np.pi * np.arange(count) / 12.0)
    columns = []
    for _, inflation in ECONOMIES.values():
        monthly = inflation / 12.0 + _autoregression(rng, count, 0.7, 0.0016)
        level = np.exp(np.cumsum(monthly) + season)
        columns.append(100.0 * level / level[132:144].mean())
    return np.column_stack(columns)


def _exchange_rates(rng: np.random.Generator, count: int) -> Floats:
    """QML for one QSR, and QTV for one QML, by trading day (T,2)."""
    steps = rng.standard_normal((count, 2)) * _tails(rng, (count, 1)) * 0.085 / np.sqrt(251)
    return np.asarray(np.array([1.42, 8.35]) * np.exp(np.cumsum(steps, axis=0)))


# Publications of the observatory

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
AREAS: Final = {code: name for code, (name, _) in ECONOMIES.items()}
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
    for maturity in MATURITIES:
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
    for maturity in MATURITIES:
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
