"""Sorted portfolios: speed beside careful pandas and polars versions, in memory and on disk

Both others sort a long table in memory: quantiles by month, a comparison with each breakpoint, and weighted means by month and
portfolio. Portfolios are formed every month. Ultrum's time includes turnover, numbers of assets, mean characteristics and the log of assets
left out, which the others do not compute.
"""

import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq

import ultrum as ul
from benchmarks.demo import turns

STOCKS, MONTHS = 3_000, 600


def data():
    rng = np.random.default_rng(0)
    index = pd.period_range("1974-01", periods=MONTHS, freq="M")
    names = [f"S{k:04d}" for k in range(STOCKS)]
    shape = (MONTHS, STOCKS)
    gone = rng.random(shape) < 0.05
    returns = pd.DataFrame(np.where(gone, np.nan, np.maximum(rng.normal(0.01, 0.1, shape), -0.9)), index, names)
    score = pd.DataFrame(rng.normal(size=shape), index, names)
    value = pd.DataFrame(np.exp(rng.normal(size=shape)), index, names)
    return returns, score, value


def long_table(returns, score, value):
    """A row per month and stock, with the return of the month after."""
    columns = {"r": returns.shift(-1), "score": score, "value": value}
    table = pd.DataFrame({name: frame.to_numpy().ravel() for name, frame in columns.items()})
    table["month"] = np.repeat(np.arange(MONTHS), STOCKS)
    return table[table["month"] < MONTHS - 1]


def by_pandas(table, sorts, weighted):
    code = np.zeros(len(table), dtype=np.int64)
    for name, count in sorts:
        points = table.groupby("month")[name].quantile([k / count for k in range(1, count)]).unstack()
        limits = points.to_numpy()[table["month"].to_numpy()]
        code = code * count + (table[name].to_numpy()[:, None] > limits).sum(axis=1)
    part = table.assign(code=code).dropna(subset=["r"])
    weight = part["value"] if weighted else pd.Series(1.0, part.index)
    sums = part.assign(w=weight, wr=weight * part["r"]).groupby(["month", "code"])[["w", "wr"]].sum()
    return (sums["wr"] / sums["w"]).unstack().to_numpy()


def by_polars(table, sorts, weighted):
    import polars as pl

    code = pl.lit(0)
    for name, count in sorts:
        place = pl.lit(0)
        for k in range(1, count):
            place = place + (pl.col(name) > pl.col(name).quantile(k / count, "linear").over("month")).cast(
                pl.Int32
            )
        code = code * count + place
    weight = pl.col("value") if weighted else pl.lit(1.0)
    sums = (
        table.with_columns(code=code)
        .filter(pl.col("r").is_not_nan())
        .group_by("month", "code")
        .agg(w=(weight if weighted else pl.col("r") * 0 + 1).sum(), wr=(weight * pl.col("r")).sum())
        .sort("month", "code")
    )
    return (sums["wr"] / sums["w"]).to_numpy().reshape(MONTHS - 1, -1)


def speed():
    import polars as pl

    returns, score, value = data()
    table = long_table(returns, score, value)
    frame = pl.from_pandas(table)
    assets = ul.SeriesTable.from_pandas(returns, measure="return")
    scores, values = (ul.SeriesTable.from_pandas(one, measure="stock") for one in (score, value))
    lines = [
        "| work | Ultrum, s | pandas, s | ratio | polars, s | ratio | largest difference |",
        "|---|---:|---:|---:|---:|---:|---:|",
    ]
    for words, sorts, weighted in (
        ("single sort, ten portfolios, equal weights", [("score", 10)], False),
        ("double sort, 5 × 5, value weights", [("value", 5), ("score", 5)], True),
    ):
        inputs = {name: {"score": scores, "value": values}[name] for name, _ in sorts}
        options = {"groups": dict(sorts), "weights": values if weighted else "equal"}
        (a, b, c), (ours, theirs, others) = turns(
            3,
            lambda inputs=inputs, options=options: ul.sort_portfolios(assets, inputs, **options),
            lambda sorts=sorts, weighted=weighted: by_pandas(table, sorts, weighted),
            lambda sorts=sorts, weighted=weighted: by_polars(frame, sorts, weighted),
        )
        gap = max(np.abs(ours.returns.block - other).max() for other in (theirs, others))
        lines.append(
            f"| {words}, {STOCKS:,} × {MONTHS} | {a:.2f} | {b:.2f} | {a / b:.2f} | {c:.2f} | {a / c:.2f} | {gap:.1e} |"
        )
    return lines


ON_DISK = """
import sys, time
start = time.perf_counter()
{work}
seconds = time.perf_counter() - start
memory = next(line.split()[1] for line in open("/proc/self/status") if line.startswith("VmHWM"))
print(seconds, int(memory) / 1e6, means)
"""
OURS = """
import ultrum as ul
table = ul.LongTable("{file}", "r", frequency="B", max_memory="{memory}", facts={{"measure": "return"}})
made = ul.sort_portfolios(table, {{"size": "value", "score": "score"}}, groups={{"size": 2, "score": (0.3, 0.7)}}, weights="value")
means = made.to_pandas().mean().mean()
"""
THEIRS = """
import polars as pl
value, score = pl.col("value"), pl.col("score")
above = lambda column, q: (column > column.quantile(q, "linear").over("date")).cast(pl.Int32)
made = (
    pl.scan_parquet("{file}").sort("asset", "date")
    .with_columns(code=3 * above(value, 0.5) + above(score, 0.3) + above(score, 0.7), r=pl.col("r").shift(-1).over("asset"))
    .filter(pl.col("r").is_not_null()).group_by("date", "code")
    .agg(r=(value * pl.col("r")).sum() / value.sum()).collect(engine="streaming")
)
means = made.group_by("code").agg(pl.col("r").mean())["r"].mean()
"""


def on_disk(assets=5_000, days=4_000):
    """A double sort of a long Parquet file, each side in a process of its own."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder, "long.parquet")
        write(file, assets, days)
        lines = ["| work | side | s | peak memory, GB |", "|---|---|---:|---:|"]
        what = f"2 × 3 portfolios, value weights, formed daily, {assets * days / 1e6:.0f} million rows on disk"
        found = []
        for side, work in (
            ("Ultrum, `max_memory` of 700 MB", OURS.format(file=file, memory="700 MB")),
            ("Ultrum, `max_memory` of 4 GB", OURS.format(file=file, memory="4 GB")),
            ("polars, streaming", THEIRS.format(file=file)),
        ):
            code = ON_DISK.format(work=work)
            done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
            seconds, memory, mean = map(float, done.stdout.split())
            found.append(mean)
            lines.append(f"| {what} | {side} | {seconds:.1f} | {memory:.2f} |")
    return [*lines, "", f"Largest difference of the mean return: {max(found) - min(found):.1e}."]


def write(file, assets, days):
    """A long table, a row per asset and day."""
    rng = np.random.default_rng(0)
    dates = pd.bdate_range("2001-01-01", periods=days)
    with pq.ParquetWriter(file, pa.schema({"asset": pa.string(), "date": pa.date32(), "r": pa.float64(),
                                           "value": pa.float64(), "score": pa.float64()})) as writer:  # fmt: skip
        for first in range(0, assets, 100):
            rows = 100 * days
            columns = {
                "asset": np.repeat([f"S{first + k:05d}" for k in range(100)], days),
                "date": np.tile(dates.date, 100),
                "r": np.maximum(rng.normal(0.0005, 0.02, rows), -0.9),
                "value": np.exp(rng.normal(size=rows)),
                "score": rng.normal(size=rows),
            }
            writer.write_table(pa.table(columns, schema=writer.schema))


def run():
    return "\n\n".join("\n".join(part()) for part in (speed, on_disk))
