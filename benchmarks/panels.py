"""Daily prices of 5,000 assets to a monthly panel with its log of missing data, and matching, compared with pandas in one run

Both sides start from the same wide frame of prices and give the same returns, which is checked. The pandas side
resamples, takes changes, joins factors, drops incomplete rows and lists what is missing.
"""

import numpy as np
import pandas as pd

import ultrum as ul
from benchmarks.shaping import peak, turns

ASSETS, YEARS, FACTORS, ROWS = 5000, 30, 5, 1_000_000


def world():
    """Daily prices, some listed late and some gone early, and monthly factors."""
    rng = np.random.default_rng(1)
    days = pd.bdate_range("1994-01-03", f"{1993 + YEARS}-12-31")
    block = 100 * np.exp(np.cumsum(rng.normal(0, 0.01, (len(days), ASSETS)), axis=0))
    for column in range(0, ASSETS, 4):
        block[: rng.integers(0, len(days) // 2), column] = np.nan
    starts = np.flatnonzero(np.diff(days.month, prepend=0))  # listings end with a month, where both rules agree
    for column in range(1, ASSETS, 10):
        block[rng.choice(starts[len(starts) // 2 :]) :, column] = np.nan
    months = pd.period_range(days[0], days[-1], freq="M")
    factors = pd.DataFrame(rng.normal(0, 0.03, (len(months), FACTORS)), months, [f"f{k}" for k in range(FACTORS)])
    return pd.DataFrame(block, days, [f"a{k}" for k in range(ASSETS)]), factors


def panel():
    prices, factors = world()
    table = ul.SeriesTable.from_pandas(prices, measure="price", currency="QML")
    loadings = ul.SeriesTable.from_pandas(factors, measure="return", excess_of="bill")
    bill = ul.TimeSeries.from_pandas(pd.Series(0.002, factors.index), name="bill", measure="return")

    def ours():
        return ul.align(assets=ul.returns(table, frequency="M"), factors=loadings, risk_free=bill)

    def theirs():
        ends = prices.resample("ME").last()
        ends.index = ends.index.to_period("M")
        changes = ends.pct_change(fill_method=None).iloc[1:]
        joined = changes.join(factors, how="outer").join(bill.to_pandas(), how="outer")
        whole = joined[joined[[*factors, "bill"]].notna().all(axis=1)]
        missing = joined.isna().stack()
        return whole, missing[missing].reset_index()

    (a, b), (mine, other) = turns(4, ours, theirs)
    whole = other[0].reindex(mine.assets.index)
    np.testing.assert_allclose(mine.assets, whole[mine.assets.columns], rtol=1e-9)
    memory = peak(ours, prices.to_numpy().nbytes)
    return [
        f"| {ASSETS:,} assets, {YEARS} years of days to a monthly panel, s | {a:.2f} | {b:.2f} | {b / a:.1f} | 5 (least) | {memory:.2f} |"
    ]


def matching():
    rng = np.random.default_rng(2)
    left = pd.DataFrame(
        {"date": pd.Timestamp("2000-01-01") + pd.to_timedelta(np.sort(rng.integers(0, 9000, ROWS)), "D")}
    )
    days = pd.Timestamp("2000-01-01") + pd.to_timedelta(np.unique(rng.integers(0, 9000, 6000)), "D")
    right = pd.DataFrame({"date": days, "value": rng.normal(size=len(days))})
    (a, b), (mine, other) = turns(
        5, lambda: ul.match_dates(left, right, max_age="P5D"),
        lambda: pd.merge_asof(left, right, on="date", tolerance=pd.Timedelta(5, "D")),
    )  # fmt: skip
    np.testing.assert_array_equal(mine["value"], other["value"])
    return [f"| match_dates of {ROWS:,} rows, s | {a:.3f} | {b:.3f} | {b / a:.1f} | 0.5 (least) | |"]


def run():
    head = "| what | Ultrum | pandas | times faster | aim | peak memory over input |\n|---|---|---|---|---|---|"
    return "\n".join([head, *panel(), *matching()])
