"""Sorted portfolios: speed beside careful pandas and polars versions, coverage of true premia, size of the tests

Both others sort a long table in memory: quantiles by month, a comparison with each breakpoint, and weighted means by month and
portfolio. Portfolios are formed every month. Coverage: the share of practice worlds in which the 95 % interval of a sorted factor holds
the mean of what its stocks were expected to earn. Size: monotonicity tests of portfolios with equal means, 5 % tests.
"""

import os
import sys

import numpy as np
import pandas as pd

import ultrum as ul
from benchmarks.demo import turns

WORLDS = int(os.environ.get("ULTRUM_BENCHMARK_WORLDS", "400"))
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


def coverage():
    """Share of worlds whose intervals hold the truth, for factors of size and value."""
    inside, gaps = {"size": 0, "value": 0}, {"size": [], "value": []}
    for seed in range(WORLDS):
        world = ul.practice.stocks(count=120, months=120, seed=seed)
        made = ul.sort_portfolios(world.returns, {"size": world.market_values, "value": world.book_to_market},
                                  groups={"size": 2, "value": (0.3, 0.7)}, universe=world.members,
                                  delisting_returns=world.delisting_returns)  # fmt: skip
        expected = np.nan_to_num(world.expected.to_pandas().reindex(made.returns.index).to_numpy())
        weights = np.array([made.weights(str(t)).to_numpy() for t in made.returns.index])
        truths = np.einsum("tnp,tn->tp", weights, expected)
        for name, formula in (("size", "size low - size high"), ("value", "value high - value low")):
            factor = ul.factor_from_portfolios(made, formula)
            whole = np.isfinite(factor.to_pandas().to_numpy())
            side = np.array(
                [[f"{name} {k}" in p for p in made.names] for k in (made.groups[name], 1)], dtype=float
            )
            side /= side.sum(axis=1, keepdims=True)
            truth = truths[whole] @ ((side[0] - side[1]) * (1.0 if name == "value" else -1.0))
            premium = ul.premium(factor, errors="classical")
            low, high = (premium.value + s * 1.98 * premium.standard_error for s in (-1, 1))
            inside[name] += low <= 12 * truth.mean() <= high
            gaps[name].append(premium.value - 12 * truth.mean())
        print(f"\r{seed + 1} of {WORLDS}", end="", file=sys.stderr)
    error = np.sqrt(0.95 * 0.05 / WORLDS)
    lines = [
        "| factor | worlds | covered, % | ± | mean of estimate less truth, % per year | its t |",
        "|---|---:|---:|---:|---:|---:|",
    ]
    for name, count in inside.items():
        mean = np.mean(gaps[name])
        t = mean / (np.std(gaps[name], ddof=1) / np.sqrt(WORLDS))
        lines.append(
            f"| {name} | {WORLDS:,} | {100 * count / WORLDS:.1f} | {100 * error:.1f} | {100 * mean:.2f} | {t:.1f} |"
        )
    return lines


def size():
    """Rejections at 5 % where all means are equal."""
    rng = np.random.default_rng(1)
    lines = [
        "| portfolios | months | against no pattern, % | all steps rise, % | ± |",
        "|---:|---:|---:|---:|---:|",
    ]
    for count in (5, 10):
        for months in (120, 240, 600):
            index = pd.period_range("1970-01", periods=months, freq="M")
            rejected = np.zeros(2)
            for seed in range(WORLDS):
                r = rng.normal(0.005, 0.045, (months, 1)) + 0.02 * rng.standard_t(5, (months, count))
                frame = pd.DataFrame(r, index, [f"p{k}" for k in range(count)])
                tests = ul.monotonicity_tests(frame, draws=399, seed=seed)
                rejected += [tests.p_value <= 0.05, tests.all_steps_p <= 0.05]
            a, b = 100 * rejected / WORLDS
            lines.append(
                f"| {count} | {months} | {a:.1f} | {b:.1f} | {100 * np.sqrt(0.05 * 0.95 / WORLDS):.1f} |"
            )
    return lines


def run():
    return "\n\n".join("\n".join(part()) for part in (speed, size, coverage))
