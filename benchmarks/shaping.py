"""Frequency conversion of wide daily frames and of minute bars, compared with pandas resample in one run

Both sides get the same frame and give the same numbers, which is checked. Memory is what the conversion
allocates at its peak in addition to its input, as tracemalloc counts it.
"""

import time
import tracemalloc

import numpy as np
import pandas as pd

import ultrum as ul
from benchmarks.demo import turns
from ultrum.report import figures

SERIES, YEARS, PAIRS = 2000, 40, 20
FIELDS = {"open": "first", "high": "max", "low": "min", "close": "last"}


def peak(side, size):
    """Most memory allocated while a side runs, over the size of its input."""
    tracemalloc.start()
    side()
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    return most / size


def wide():
    """A frame of daily prices, most of it complete, some listed late."""
    rng = np.random.default_rng(1)
    days = pd.bdate_range("1984-01-02", periods=YEARS * 261)
    block = 100 + rng.normal(size=(len(days), SERIES)).cumsum(axis=0) * 0.01
    for column in range(0, SERIES, 10):
        block[: rng.integers(0, len(days) // 2), column] = np.nan
    return pd.DataFrame(block, days, [f"s{i}" for i in range(SERIES)])


def conversions():
    frame = wide()
    table = ul.SeriesTable.from_pandas(frame, measure="score")
    lines = []
    for how, limit in (("last", 8), ("mean", 3), ("sum", 3)):

        def ours(how=how):
            return ul.to_frequency(table, "M", how=how, require=0.01, stale_after=31)

        def theirs(how=how):
            sampled = frame.resample("ME")
            return sampled.sum(min_count=1) if how == "sum" else getattr(sampled, how)()

        (a, b), (mine, other) = turns(3, ours, theirs)
        count = len(mine.index)
        np.testing.assert_allclose(mine.block, other.to_numpy()[:count], rtol=1e-9)
        memory = peak(ours, frame.to_numpy().nbytes)
        lines.append(
            f"| {how}, {SERIES:,} daily series of {YEARS} years, s | {a:.3f} | {b:.3f} | {b / a:.1f} | {limit} | {memory:.2f} |"
        )
    return lines


def bars():
    """A year of minute bars of pairs, to days and months."""
    rng = np.random.default_rng(2)
    moments = pd.date_range("2023-01-02", "2023-12-30", freq="min", tz="UTC", inclusive="left")
    moments = moments[moments.dayofweek < 5]
    columns = {}
    for pair in range(PAIRS):
        close = 1 + rng.normal(size=len(moments)).cumsum() * 1e-5
        columns[f"p{pair}.open"] = np.r_[1.0, close[:-1]]
        columns[f"p{pair}.high"] = np.maximum(columns[f"p{pair}.open"], close) + 1e-5
        columns[f"p{pair}.low"] = np.minimum(columns[f"p{pair}.open"], close) - 1e-5
        columns[f"p{pair}.close"] = close
    frame = pd.DataFrame(np.column_stack(list(columns.values())), moments, list(columns))
    table = ul.SeriesTable.from_pandas(frame, measure="quote", frequency="N")
    wanted = {name: FIELDS[name.rpartition(".")[2]] for name in frame}
    lines = []
    for target, alias in (("B", "D"), ("M", "ME")):
        (a, b), (mine, other) = turns(
            3, lambda t=target: ul.to_frequency(table, t), lambda x=alias: frame.resample(x).agg(wanted)
        )
        kept = other.dropna().to_numpy()[: len(mine.index)]
        np.testing.assert_array_equal(mine.block, kept)
        lines.append(
            f"| minute bars of {PAIRS} pairs, a year, to {target}, s | {a:.3f} | {b:.3f} | {b / a:.1f} | 5 | |"
        )
    return lines


def picture():
    """CPU time to draw a million points."""
    moments = pd.date_range("2020-01-01", periods=1_000_000, freq="min", tz="UTC")
    values = np.random.default_rng(3).normal(size=len(moments)).cumsum()
    series = ul.TimeSeries.from_pandas(pd.Series(values, moments), measure="score", frequency="N", name="x")
    figures.to_svg(figures.through_time(series.sample(end="2020-01-02")))  # Matplotlib's own start
    start = time.process_time()
    figures.to_png(figures.through_time(series), "/dev/null")
    return [
        f"| a million points drawn into a PNG, s of CPU | {time.process_time() - start:.2f} | | | 1 (most) | |"
    ]


def run():
    head = "| what | Ultrum | pandas | times faster | aim | peak memory over input |\n|---|---|---|---|---|---|"
    return "\n".join([head, *conversions(), *bars(), *picture()])
