"""Speed of common work compared with what a user would pick instead, both sides in one run

Both sides get the same data, take turns and give the same numbers, which is checked; the least of several times counts.
The estimator of a general statistics library is written in NumPy as those libraries compute it, with labelled results.
The kernel of rolling regressions keeps plain running sums and is compiled with numba; it is not safe, as it loses digits.
Commands are fresh processes, their times are wall seconds.
"""

import contextlib
import io
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numba
import numpy as np
import pandas as pd
import polars as pl
import pyarrow
import pyarrow.csv

import ultrum as ul
from benchmarks.demo import CLI, own_files, practice, turns

REGRESSION = "one regression, 252 × 3 factors, Newey–West, ms"


def market(T, N, K, gaps=0.0, seed=0):
    rng = np.random.default_rng(seed)
    F = rng.normal(0.005, 0.04, (T, K))
    Y = F @ rng.normal(0.5, 0.5, (K, N)) + rng.normal(0, 0.06, (T, N))
    Y[rng.random((T, N)) < gaps] = np.nan
    index = pd.period_range("1960-01", periods=T, freq="M")
    return pd.DataFrame(Y, index, [f"a{i}" for i in range(N)]), pd.DataFrame(
        F, index, [f"f{k}" for k in range(K)]
    )


# Regressions


def general_estimator(y, X, lags=4):
    """Least squares by the pseudo-inverse with Newey–West errors, and labelled results, as a general library does it."""
    design = pd.concat([pd.Series(1.0, X.index, name="const"), X], axis=1)
    both = pd.concat([y.rename("y"), design], axis=1)
    assert not both.isna().to_numpy().any() and both.index.is_unique
    A, b = design.to_numpy(), y.to_numpy()
    pinv = np.linalg.pinv(A)
    beta = pinv @ b
    bread = pinv @ pinv.T
    np.linalg.matrix_rank(A)
    fitted = A @ beta
    residuals = b - fitted
    scores = A * residuals[:, None]
    meat = scores.T @ scores
    for lag in range(1, lags + 1):
        cross = scores[lag:].T @ scores[:-lag]
        meat += (1 - lag / (lags + 1)) * (cross + cross.T)
    V = bread @ meat @ bread * len(b) / (len(b) - A.shape[1])
    names = design.columns
    return (
        pd.Series(beta, names),
        pd.DataFrame(V, names, names),
        pd.Series(np.sqrt(np.diag(V)), names),
        pd.Series(fitted, y.index),
        pd.Series(residuals, y.index),
    )


def regressions():
    Y, X = market(252, 24, 3)
    (ours, theirs), (fit, other) = turns(
        60, lambda: ul.regress(Y["a0"], X), lambda: general_estimator(Y["a0"], X)
    )
    np.testing.assert_allclose(fit.coefficients, other[0], rtol=1e-9)
    np.testing.assert_allclose(fit.standard_errors, other[2], rtol=1e-9)
    yield REGRESSION, 1e3 * ours, 1e3 * theirs, "a general statistics library", "0.8 ms"
    (ours, theirs), _ = turns(20, lambda: ul.regress(Y, X), lambda: [general_estimator(Y[name], X) for name in Y])
    yield "24 regressions at once, ms", 1e3 * ours, 1e3 * theirs, "the same, 24 times", "1.5 ms"


@numba.njit(fastmath={"reassoc", "contract", "arcp", "nsz"})  # not nnan: gaps are NaN
def running_sums(Y, X, window, least):  # noqa: PLR0912 - one loop, compiled
    """Betas and classical errors in rolling windows from sums that add the newest row and subtract the oldest."""
    N, T = Y.shape
    p = X.shape[1]
    betas, errors = np.full((N, T - window + 1, p), np.nan), np.full((N, T - window + 1, p), np.nan)
    G, L, g, z, column = np.zeros((p, p)), np.zeros((p, p)), np.zeros(p), np.zeros(p), np.zeros(p)
    for i in range(N):
        G[:], g[:], s, n = 0.0, 0.0, 0.0, 0
        for t in range(T):
            for row, sign in ((t, 1), (t - window, -1)):
                if row >= 0 and Y[i, row] == Y[i, row]:
                    y = Y[i, row]
                    n += sign
                    s += sign * y * y
                    for a in range(p):
                        x = sign * X[row, a]
                        g[a] += x * y
                        for b in range(a + 1):
                            G[a, b] += x * X[row, b]
            if t < window - 1 or n < least:
                continue
            rss = s
            for a in range(p):
                for b in range(a + 1):
                    v = G[a, b]
                    for c in range(b):
                        v -= L[a, c] * L[b, c]
                    L[a, b] = np.sqrt(v) if a == b else v / L[b, b]
                v = g[a]
                for c in range(a):
                    v -= L[a, c] * z[c]
                z[a] = v / L[a, a]
                rss -= z[a] * z[a]
            sigma2 = rss / (n - p)
            for a in range(p):  # a column of the inverse of L
                v, d = 0.0, 0.0
                for c in range(a, p):
                    u = 1.0 if c == a else 0.0
                    for e in range(a, c):
                        u -= L[c, e] * column[e]
                    column[c] = u / L[c, c]
                    v += column[c] * z[c]
                    d += column[c] * column[c]
                betas[i, t - window + 1, a] = v
                errors[i, t - window + 1, a] = np.sqrt(sigma2 * d)
    return betas, errors


def rolling():
    Y, X = market(720, 2000, 4, 0.1)
    A = np.column_stack([np.ones(len(X)), X])
    block = np.ascontiguousarray(Y.to_numpy().T)
    least = 40
    running_sums(block[:2], A, 60, least)
    kernel = lambda: running_sums(block, A, 60, least)  # noqa: E731
    plain = lambda: ul.rolling_regress(Y, X, window=60, errors="classical", min_obs=least)  # noqa: E731
    (ours, theirs), (made, other) = turns(5, plain, kernel)
    np.testing.assert_allclose(made.coefficients, other[0].swapaxes(0, 1), rtol=1e-6, atol=1e-8)
    np.testing.assert_allclose(made.standard_errors, other[1].swapaxes(0, 1), rtol=1e-6, atol=1e-8)
    name = "rolling betas, 2,000 × 720, 4 factors, window 60, gaps, s"
    yield name, ours, theirs, "a compiled kernel with running sums", "ratio 1.0"
    (robust, classical), _ = turns(3, lambda: ul.rolling_regress(Y, X, window=60, min_obs=least), plain)
    yield "the same, Newey–West, s", robust, classical, "the same, classical", "ratio 2.0"


# Prices, flows and statistics


def daily(series, days, seed=1):
    rng = np.random.default_rng(seed)
    index = pd.bdate_range("2000-01-03", periods=days)
    block = 100 * np.exp(np.cumsum(rng.normal(0, 0.01, (days, series)), axis=0))
    for column in range(0, series, 10):
        block[: rng.integers(0, days // 2), column] = np.nan
    return pd.DataFrame(block, index, [f"s{i}" for i in range(series)])


def prices():
    frame = daily(3000, 5040)
    wide = pl.from_pandas(frame.rename_axis("date").reset_index()).with_columns(pl.col("date").cast(pl.Date))

    def ours():
        return ul.returns(ul.SeriesTable.from_pandas(frame, measure="price"), frequency="M")

    def polars():
        monthly = wide.group_by_dynamic("date", every="1mo").agg(pl.exclude("date").last())
        return monthly.with_columns(pl.exclude("date").pct_change())

    (a, b, c), (mine, other, third) = turns(
        5, ours, polars, lambda: frame.resample("ME").last().pct_change(fill_method=None)
    )
    kept = third.set_axis(third.index.to_period("M")).reindex(mine.index)
    np.testing.assert_allclose(np.asarray(mine), kept.to_numpy(), rtol=1e-9)
    assert len(other) == len(third)
    name = "daily prices to monthly returns, 3,000 × 5,040, wrapped, s"
    yield name, a, b, f"polars (pandas {c:.2f} s)", "ratio 1.0"


def flows():
    frame = daily(2000, 10_080).pct_change(fill_method=None).fillna(0.0).abs()
    (a, b), (mine, other) = turns(
        3,
        lambda: ul.to_frequency(ul.SeriesTable.from_pandas(frame, measure="flow"), "M", require=0.01),
        lambda: frame.resample("ME").sum(min_count=1),
    )
    kept = other.set_axis(other.index.to_period("M")).reindex(mine.index)
    np.testing.assert_allclose(np.asarray(mine), kept.to_numpy(), rtol=1e-9)
    yield "daily flows to months, 2,000 × 10,080, wrapped, s", a, b, "pandas", "ratio 0.5"


def statistics():
    rng = np.random.default_rng(0)
    index = pd.period_range("2000-01", periods=240, freq="M")
    names = [f"a{i}" for i in range(4000)]
    table = ul.SeriesTable.from_pandas(
        pd.DataFrame(rng.normal(0.01, 0.06, (240, 4000)), index, names), measure="return"
    )
    x = np.asarray(table)

    def arrays():
        level = np.cumprod(1 + x, axis=0)
        return x.mean(axis=0), x.std(axis=0, ddof=1), (level / np.maximum.accumulate(level, axis=0)).min(axis=0)

    (a, b), _ = turns(5, lambda: ul.risk_return(table), arrays)
    yield (
        "risk_return of 4,000 assets × 240 months, s",
        a,
        b,
        "array code of mean, volatility and drawdown",
        "0.1 s",
    )
    some = table.select(names[:2000])
    y = np.asarray(some)

    def depths():
        level = np.cumprod(1 + y, axis=0)
        return level / np.maximum.accumulate(level, axis=0) - 1

    (a, b), _ = turns(5, lambda: ul.drawdowns(some), depths)
    yield "drawdowns of 2,000 assets, s", a, b, "array code of the depth alone", "0.1 s"


# Text


def files(folder):
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(100, 5, (3600, 500)).round(3), pd.bdate_range("2010-01-04", periods=3600))
    frame.columns = [f"s{i}" for i in range(500)]
    frame.rename_axis("date").to_csv(folder / "wide.csv")
    days = pd.bdate_range("2018-01-01", periods=2000).strftime("%Y-%m-%d")
    codes = [f"QX{i:04d}A" for i in range(500)]
    long = pd.DataFrame({"date": np.repeat(days, 500), "code": np.tile(codes, 2000),
                         "close": np.exp(rng.normal(4, 0.3, 1_000_000)).round(4)})  # fmt: skip
    long.to_csv(folder / "long.csv", index=False)


def text(folder):
    files(folder)
    wide, long = folder / "wide.csv", folder / "long.csv"
    (a, b, c, d), (mine, *_) = turns(
        5,
        lambda: ul.read_series(wide).series,
        lambda: pyarrow.csv.read_csv(wide),
        lambda: pd.read_csv(wide, index_col=0, parse_dates=True),
        lambda: pl.read_csv(wide, try_parse_dates=True),
    )
    assert len(mine.names) == 500
    name = f"wide CSV, {wide.stat().st_size / 1e6:.0f} MB, 500 columns, s"
    yield name, a, b, f"Arrow's own parse (pandas {c:.2f}, polars {d:.2f} s)", "ratio 1.5"
    (a, b, c), (mine, other, _) = turns(
        4,
        lambda: ul.read_series(long).series,
        lambda: pd.read_csv(long, parse_dates=["date"]).pivot(index="date", columns="code", values="close"),
        lambda: pl.read_csv(long, try_parse_dates=True).pivot(on="code", index="date", values="close"),
    )
    np.testing.assert_allclose(
        np.column_stack([np.asarray(mine[f"{code}.close"]) for code in other]), other.to_numpy()
    )
    name = "long CSV, a million rows, letter-digit codes, s"
    fastest = "pandas" if b < c else "polars"
    yield name, a, min(b, c), f"{fastest}, read and pivot (pandas {b:.2f}, polars {c:.2f} s)", "ratio 1.0"


def page(count):
    rows = "".join(f"<tr><td>2020-{m:02d}</td><td>{m}.5</td></tr>" for m in range(1, 7))
    tables = (f"<h2>Table {k}</h2><table><tr><th>date</th><th>s{k}</th></tr>{rows}</table>" for k in range(count))
    return f"<html><body>{''.join(tables)}</body></html>"


def pages(folder):
    """A page of many small tables, from which one is chosen; four times as many tables against as many."""
    for count in (250, 1000):
        (folder / f"{count}.html").write_text(page(count))
    many, few = (lambda n=n: ul.read_series(folder / f"{n}.html", sheet="Table 3") for n in (1000, 250))
    (a, b), _ = turns(3, many, few)
    yield "a page of 1,000 small tables, s", a, b, "a page of 250", "ratio 4 (linear)"


# Commands

SCRIPT = """
import numpy as np, pandas as pd
prices = pd.read_csv("KELP.csv", parse_dates=["Date"], thousands=",").set_index("Date").sort_index()["Adj Close"]
factors = pd.read_csv("factors.csv", skiprows=2, skipfooter=2, engine="python", index_col=0)
factors.index = pd.to_datetime(factors.index.astype(str), format="%Y%m").to_period("M")
monthly = prices.resample("ME").last().pct_change().to_period("M")
both = pd.concat([monthly, factors / 100], axis=1, join="inner").dropna()
A = np.column_stack([np.ones(len(both)), both["Mkt-RF"]])
print(np.linalg.lstsq(A, both["Adj Close"] - both["RF"], rcond=None)[0])
"""


def process(code, folder):
    subprocess.run([sys.executable, "-c", code], cwd=folder, check=True, capture_output=True)


def commands(folder):
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    own_files(folder)
    closes = daily(1, 3400)
    closes.rename_axis("date").round(4).to_csv(folder / "closes.csv")
    look = CLI.format(["look", "closes.csv"])
    (a, b), _ = turns(5, lambda: process(look, folder), lambda: process("import pandas", folder))
    yield "ultrum look FILE, 3,400 rows, s", a, b, "import pandas", "ratio 1.3"
    estimate = CLI.format(["estimate", "KELP.csv", "--factors", "factors.csv"])
    (a, b), _ = turns(5, lambda: process(estimate, folder), lambda: process(SCRIPT, folder))
    yield "ultrum estimate, two files, s", a, b, "a script: import pandas, read, fit", "ratio 1.5"


def study(folder):
    import shutil

    studies = Path(ul.practice.__file__).parent / "studies"
    with practice():
        taken = []
        for number in range(2):
            place = folder / str(number)
            shutil.copytree(studies, place)
            os.environ["ULTRUM_VAULT"] = str(place / "vault")
            start = time.perf_counter()
            process(CLI.format(["run", "allowed_return.toml"]), place)
            taken.append(time.perf_counter() - start)
    yield "the shipped study, first run, s", min(taken), float("nan"), "", "8 s"


NOTES = """
Where a goal is missed, a profile shows the reason:

- *One regression*: what is left is about forty calls of NumPy of 5 to 20 µs: QR 70, singular values 25, the inverse and its products 35,
  Newey–West 70, checks 150, the collector of objects the rest.
- *Rolling Newey–West*: products of residuals with all lags (240 a window and asset) and their product with those of regressors (7,200
  operations, at 30 GFlop/s) are two thirds of the time. A kernel compiled with numba that fuses both took twice as long, so there is no
  extra `fast`. Moments that are updated from window to window would have 315 numbers each and be bound by memory.
- *Prices and flows*: Ultrum passes over the block five times (infinite values, first and last value, gaps, the last of each month, the
  result), polars once, with two threads.
- *Text*: the sample that decides about the file takes 0.1 s for 500 columns; a long file becomes codes, which one scatter places, and its
  checks (repeated rows, frequency, swapped days and months) take as long as the parse.
- *Commands*: most of the time imports pandas; patterns of regular expressions, classes of data, reading and printing take the rest.
  `estimate` needs the study's schema and Student's t of SciPy.
- *The study*: half of its time draws fourteen figures in three formats; where a core is free, a second process loads its libraries
  meanwhile and draws nine of them.

Ratios differ between runs on a shared machine by up to a third.
"""

CASES = {c.__name__: c for c in (regressions, rolling, prices, flows, statistics, text, pages, commands, study)}


def run(names=tuple(CASES)):
    lines = ["| work | Ultrum | instead | ratio | goal | instead of Ultrum |", "|---|---:|---:|---:|---|---|"]
    with tempfile.TemporaryDirectory() as place, contextlib.redirect_stderr(io.StringIO()):
        for name in names:
            folder = Path(place, name)
            folder.mkdir()
            case = CASES[name]
            for what, ours, theirs, instead, goal in case(folder) if case.__code__.co_argcount else case():
                times = " | ".join("" if np.isnan(v) else f"{v:.2f}" for v in (ours, theirs, ours / theirs))
                lines.append(f"| {what} | {times} | {goal} | {instead} |")
                print(lines[-1], flush=True)
    return "\n".join(lines)


if __name__ == "__main__":
    run(sys.argv[1:] or tuple(CASES))
