"""A panel directly from the arrays of a world, for examples, tests and coverage studies."""

from __future__ import annotations

from functools import lru_cache

import pandas as pd

from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.panel.alignment import align
from ultrum.core.returns.price_returns import returns
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.practice import exchange
from ultrum.practice import world as s
from ultrum.practice.simulate import simulate


@lru_cache(maxsize=2)
def world_panel(seed: int | None = None) -> Panel:
    """Month-end total returns of the companies in QML, with the factors and the bill."""
    world = simulate(s.SEED if seed is None else seed)
    close, dividends = exchange.closes(world)
    home = [i for i, c in enumerate(s.COMPANIES) if c.currency == "QML"]
    frame = pd.DataFrame(close[:, home], pd.DatetimeIndex(world.days), [s.CODES[i] for i in home])
    asset_returns = returns(
        SeriesTable.from_pandas(frame, measure="price", currency="QML", frequency="B"),
        frequency="M",
        dividends=dividends[dividends["currency"] == "QML"],
        splits=exchange.splits(),
        final_payments=exchange.final_payments(close),
    )
    factors = pd.DataFrame(world.monthly_factors, world.months, list(s.FACTORS))
    bill = pd.Series(world.bill, world.months, name="bill")
    table = SeriesTable.from_pandas(factors, measure="return", excess_of="bill")
    return align(
        assets=asset_returns,
        factors=table,
        risk_free=TimeSeries.from_pandas(bill, measure="return"),
    )
