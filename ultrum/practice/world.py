"""The Lantern Sea as it is defined: companies, factors, economies, and the true parameters.

Nothing here is random. The simulation draws around these numbers, and `truth` returns them.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats

SEED: Final = 20054  # of 80 looked at, one whose history is ordinary; coverage uses others
FIRST_DAY, LAST_DAY = "2004-01-01", "2024-12-31"
HOLIDAYS: Final = ("01-01", "02-02", "05-01", "06-14", "10-09", "12-25", "12-26")
FACTORS: Final = ("market", "size", "value", "momentum")
PREMIA: Final = np.array([0.060, 0.015, 0.030, 0.045])
VOLATILITIES: Final = np.array([0.160, 0.080, 0.090, 0.120])
CORRELATIONS: Final = np.array(
    [
        [1.00, 0.20, -0.10, -0.20],
        [0.20, 1.00, 0.05, 0.00],
        [-0.10, 0.05, 1.00, -0.25],
        [-0.20, 0.00, -0.25, 1.00],
    ]
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
    "tide and power", "shipping", "food and fisheries", "instruments and works", "finance",
)  # fmt: skip

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
    Company("FTHL", "Fathomline Cables", WORKS, (1.25, 0.20, -0.20, 0.15), 0.33, 0.010, 18, 160, 0.3,
            listed="2009-03-16"),
    Company("RPWK", "Ropewalk Textiles", WORKS, (0.95, 0.35, 0.30, -0.10), 0.29, 0.026, 21, 65, 0.5),
    Company("BRSC", "Brinestone Ceramics", WORKS, (1.10, 0.25, 0.05, 0.00), 0.28, 0.018, 44, 90, 0.3),
    Company("HBMT", "Harbourmoot Bank", BANK, (1.30, -0.10, 0.45, -0.20), 0.26, 0.036, 39, 520, 2.0),
    Company("TDWD", "Tidewarden Assurance", BANK, (1.10, -0.05, 0.30, -0.10), 0.24, 0.034, 65, 310, 0.6),
    Company("SNST", "Sorrin Strand Bank", BANK, (1.05, 0.00, 0.40, -0.10), 0.25, 0.033, 28, 400, 1.8,
            currency="QSR"),
    Company("LMPB", "Lampblack Credit", BANK, (1.40, 0.30, 0.25, -0.15), 0.34, 0.012, 20, 75, 1.5,
            listed="2012-06-11"),
)  # fmt: skip
CODES: Final = tuple(c.code for c in COMPANIES)

BROKEN, THIN, FOREIGN, DELISTED, SPLIT = "MRWG", "NTSH", "SNST", "ORSL", "LTSM"
BREAK_DAY, LOADING_AFTER = "2014-07-01", 1.70
UNTRADED_SHARE = 0.22
DELISTING_DAY, FINAL_PAYMENT_DAY, FINAL_PREMIUM = "2017-08-11", "2017-08-18", 0.12
SPLIT_DAY, SPLIT_RATIO = "2014-05-19", 3.0
SPECIAL = ("KLPW", "2016-11-10", 0.06)
REGULAR: Final = tuple(c for c in CODES if c not in (BROKEN, THIN, FOREIGN, DELISTED))

MATURITIES: Final = {"P1M": 1, "P3M": 3, "P1Y": 12, "P2Y": 24, "P5Y": 60, "P10Y": 120, "P20Y": 240}
YIELDS_FROM: Final = {"P2Y": "2006-01", "P20Y": "2008-06"}
ECONOMIES: Final = {"QM": ("Miravel", 0.022), "QS": ("Sorrin", 0.018), "QT": ("Tolvane", 0.035)}
SHORT_RATE: Final = (
    (2004.0, 3.25), (2006.5, 3.00), (2009.2, 5.60), (2011.0, 2.00), (2013.5, 1.10),
    (2016.5, 1.25), (2019.4, 4.40), (2021.5, 1.50), (2025.0, 2.75),
)  # fmt: skip
LONG_RATE: Final = (
    (2004.0, 4.70), (2008.5, 4.60), (2012.0, 3.60), (2016.0, 3.00), (2019.5, 3.50), (2025.0, 3.90),
)  # fmt: skip


@dataclass(frozen=True)
class Truth:
    """What the practice world was made from.

    Attributes
    ----------
    loadings : DataFrame, shape (24, 4)
        True loadings on every factor; those of a broken beta are the ones before its break.
    one_factor : Series, shape (24,)
        Market beta of the regression on the market alone that the loadings imply.
    alphas : Series, shape (24,)
        Annual, against all four factors.
    premia : Series, shape (4,)
        Expected annual factor returns.
    breaks : DataFrame
        Asset, date, and the market loading before and from it.
    regular : tuple of str
        The companies without a peculiarity.
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
        Numbers that the world was made with.

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
