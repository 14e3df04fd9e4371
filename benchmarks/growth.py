"""Growth of time and memory of the most used functions with assets, dates, factors, columns, rows and records

Each function works on data of one size and of eight times that size, with everything else held; the exponent is the
logarithm of the ratio of times (or of the most memory that NumPy and Python allocate) to base eight. One is linear; below
one, a fixed cost is a part of the smaller. Work in less than a millisecond shows little about growth.
"""

import contextlib
import sys
import tempfile
import time
import tracemalloc
from pathlib import Path

import numpy as np
import pandas as pd

import ultrum as ul
from benchmarks.demo import LISTING_WORDS
from ultrum.core.time.frequency import Frequency
from ultrum.sources.download_and_limits import Download
from ultrum.vault.search_index import Entry, Listings
from ultrum.vault.store import Vault

FIGURE = Path(__file__).parent.parent / "docs" / "screenshots" / "growth.png"
FACTOR = 8
OF_FACTORS = (
    "align",
    "regress",
    "factor_betas",
    "rolling_regress",
    "two_pass",
    "cost_of_equity",
    "BetaTable.to_frame",
)
BASE = {"assets": 250, "dates": 240, "factors": 3}


def least(work, repeats):
    taken = []
    for _ in range(repeats):
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    return min(taken)


def most(work):
    tracemalloc.start()
    work()
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    return peak


def point(work, repeats=3):
    """Least time and most memory of some work, after one run that loads what it needs."""
    work()
    return least(work, repeats), most(work)


class Market:
    """Assets, factors and a risk-free rate of a size; monthly returns, and the prices they come from."""

    def __init__(self, **sizes):
        size = {**BASE, **sizes}
        T, N, K = size["dates"], size["assets"], size["factors"]
        rng = np.random.default_rng(0)
        self.months = Frequency("M").index(np.arange(T) - 1200)
        F = rng.normal(0.005, 0.04, (T, K))
        Y = F @ rng.normal(0.5, 0.3, (K, N)) + rng.normal(0, 0.08, (T, N))
        Y[rng.random((T, N)) < 0.02] = np.nan
        names = [f"a{i}" for i in range(N)]
        self.frame = pd.DataFrame(np.clip(Y, -0.9, None), self.months, names)
        self.table = ul.SeriesTable.from_pandas(self.frame, measure="return", excess_of="bill")
        factors = pd.DataFrame(F, self.months, [f"f{k}" for k in range(K)])
        self.factors = ul.SeriesTable.from_pandas(factors, measure="return", excess_of="bill")
        self.bill = ul.TimeSeries.from_pandas(pd.Series(0.002, self.months), name="bill", measure="return")
        self.returns = ul.SeriesTable.from_pandas(self.frame.fillna(0.0) + 0.002, measure="return")
        self.prices = ul.SeriesTable.from_pandas((1 + self.frame.fillna(0)).cumprod() * 100, measure="price")
        self.scores = ul.SeriesTable.from_pandas(self.frame, measure="score")
        self.chars = {"size": pd.DataFrame(rng.normal(size=(T, N)), self.months, names)}

    def panel(self):
        return ul.align(assets=self.returns, factors=self.factors, risk_free=self.bill)


def functions(m):
    """Work by name on a market."""
    panel, betas = m.panel(), ul.regress(m.table, m.factors)
    premia = dict.fromkeys(m.factors.names, 0.05)
    return {
        "SeriesTable.from_pandas": lambda: ul.SeriesTable.from_pandas(m.frame, measure="return"),
        "returns": lambda: ul.returns(m.prices),
        "to_frequency": lambda: ul.to_frequency(m.prices, "Q"),
        "excess": lambda: ul.excess(m.returns, m.bill),
        "growth": lambda: ul.growth(m.prices),
        "rolling": lambda: ul.rolling(m.prices, 12, how="mean"),
        "lag": lambda: ul.lag(m.prices, "P1M"),
        "standardise": lambda: ul.standardise(m.prices, window="expanding"),
        "rebase": lambda: ul.rebase(m.prices),
        "fill": lambda: ul.fill(m.scores, how="forward"),
        "align": m.panel,
        "regress": lambda: ul.regress(m.table, m.factors),
        "factor_betas": lambda: ul.factor_betas(panel),
        "rolling_regress": lambda: ul.rolling_regress(m.table, m.factors, window=60, errors="classical"),
        "shrink_betas": lambda: ul.shrink_betas(betas),
        "two_pass": lambda: ul.two_pass(panel, m.factors.names, errors="fama_macbeth"),
        "two_pass, characteristics": lambda: ul.two_pass(panel, [], characteristics=m.chars),
        "risk_return": lambda: ul.risk_return(m.returns),
        "drawdowns": lambda: ul.drawdowns(m.returns),
        "momentum": lambda: ul.momentum(m.returns),
        "cost_of_equity": lambda: ul.cost_of_equity(betas, premia=premia, risk_free=0.03, draws=0),
        "BetaTable.to_frame": betas.to_frame,
        "SeriesTable to csv": lambda: ul.save(m.prices, Path(PLACE.name, "prices.csv")),
    }


PLACE = tempfile.TemporaryDirectory()


def over_market():
    small = {dimension: functions(Market(**{dimension: size})) for dimension, size in BASE.items()}
    for dimension, size in BASE.items():
        large = functions(Market(**{dimension: FACTOR * size if dimension != "factors" else 24}))
        ratio = FACTOR
        for name, work in small[dimension].items():
            if dimension == "factors" and name not in OF_FACTORS:
                continue
            yield name, dimension, work, large[name], ratio


def wide_file(columns, rows):
    frame = pd.DataFrame(np.random.default_rng(0).normal(100, 5, (rows, columns)).round(2))
    frame.index = pd.bdate_range("1950-01-02", periods=rows).strftime("%Y-%m-%d")
    frame.columns = [f"s{i}" for i in range(columns)]
    path = Path(PLACE.name, f"wide-{columns}-{rows}.csv")
    frame.rename_axis("date").to_csv(path)
    return lambda: ul.read_series(path).series


def page(tables):
    rows = "".join(f"<tr><td>2020-{m:02d}</td><td>{m}.5</td></tr>" for m in range(1, 7))
    parts = (f"<h2>T{k}</h2><table><tr><th>date</th><th>s{k}</th></tr>{rows}</table>" for k in range(tables))
    path = Path(PLACE.name, f"{tables}.html")
    path.write_text(f"<html><body>{''.join(parts)}</body></html>")
    return lambda: ul.read_series(path, sheet="T3")


def over_files():
    yield "read_series", "columns of a file", wide_file(1_000, 60), wide_file(8_000, 60), FACTOR
    yield "read_series", "rows of a file", wide_file(5, 2_000), wide_file(5, 16_000), FACTOR
    yield "read_series", "tables of a page", page(60), page(480), FACTOR


def listings(count):
    rng = np.random.default_rng(0)
    entries = [Entry("s", f"s:F{i % 40}/M.{i}", f"{' '.join(rng.choice(LISTING_WORDS, 3))} number {i}", "Monthly", f"Flow {i % 40}",
                     "Economy", f"Q{i % 26}", "index", "QML") for i in range(count)]  # fmt: skip
    index = Listings(Path(PLACE.name, f"l{count}.sqlite"))
    index.replace("s", entries, "2025")
    return lambda: index.search("freight harbour")


def vault(count):
    """A vault with as many records of small files; the time to record them all, to find each as of a day, and to verify."""
    names = [f"M.{number}" for number in range(count)]

    def fill():
        with tempfile.TemporaryDirectory() as folder, contextlib.closing(Vault(folder)) as place:
            for number, name in enumerate(names):
                place.record("s", name, Download(b"2024-01,%d\n" % number, "text/csv"))

    place = Vault(Path(PLACE.name, f"vault{count}"))
    for number, name in enumerate(names):
        place.record("s", name, Download(b"2024-01,%d\n" % number, "text/csv"))
    return fill, lambda: [place.latest("s", name, "2030-01-01") for name in names], place.verify, place.records


def over_records():
    yield "find", "listings", listings(5_000), listings(40_000), FACTOR
    for name, small, large in zip(
        ("record all", "latest at, of all", "verify", "records"), vault(150), vault(1_200), strict=True
    ):
        yield f"vault, {name}", "records", small, large, FACTOR


NOTES = """
Time of `rolling_regress` grows with the square of the number of factors, as the products of factors do. Single exponents between 0.9 and 1.2
differ by as much from run to run.
"""


def run():
    lines = ["| function | with | time, s | 8 times as much | exponent | memory, MB | 8 times as much | exponent |",
             "|---|---|---:|---:|---:|---:|---:|---:|"]  # fmt: skip
    steep, exponents = [], {}
    for cases in (over_market, over_files, over_records):
        for name, dimension, small, large, ratio in cases():
            (a, m), (b, n) = point(small), point(large)
            power, memory = np.log(b / a) / np.log(ratio), np.log(n / m) / np.log(ratio)
            lines.append(
                f"| {name} | {dimension} | {a:.4f} | {b:.4f} | {power:.2f} | {m / 1e6:.2f} | {n / 1e6:.2f} | {memory:.2f} |"
            )
            print(lines[-1], file=sys.stderr, flush=True)
            exponents[name, dimension] = power
            if max(power, memory) > 1.1:
                steep.append(f"{name} with {dimension}")
    draw(exponents)
    return "\n".join([*lines, "", f"Above 1.1: {', '.join(steep) or 'none'}. ![growth](screenshots/growth.png)"])


def draw(exponents):
    """A dot for each exponent of time: functions below each other, a mark for each dimension."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib import pyplot as plt

    names = list(dict.fromkeys(name for name, _ in exponents))
    figure, ax = plt.subplots(figsize=(12.8, 8), layout="constrained")
    marks = {"assets": ("o", "#1f5f8b"), "dates": ("s", "#c46a1b"), "factors": ("^", "#5b8c3e")}
    for dimension, (mark, colour) in marks.items():
        points = [(power, names.index(name)) for (name, of), power in exponents.items() if of == dimension]
        ax.scatter(*zip(*points, strict=True), marker=mark, c=colour, s=42, label=f"with {dimension}", zorder=3)
    others = [(power, names.index(name)) for (name, of), power in exponents.items() if of not in marks]
    ax.scatter(
        *zip(*others, strict=True),
        marker="D",
        c="#555555",
        s=36,
        label="with columns, rows, tables or records",
        zorder=3,
    )
    ax.axvline(1.0, color="black", linewidth=0.8)
    ax.set_yticks(range(len(names)), names)
    ax.invert_yaxis()
    ax.grid(axis="x", alpha=0.3)
    ax.set_xlabel(
        "exponent of time between a size and eight times that size; 1 is linear growth, 0 a cost that does not grow"
    )
    ax.legend(frameon=False, loc="lower right")
    ax.set_title("Growth of time with the size of the data", loc="left")
    figure.savefig(FIGURE, dpi=100)
    plt.close(figure)


if __name__ == "__main__":
    run()
