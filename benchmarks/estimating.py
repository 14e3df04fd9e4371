"""Estimation compared with loops of numpy.linalg.lstsq on the same arrays, in one run

The loops do what a careful script does: one regression after another on the rows each has, with the same errors. A loop
over all rolling windows takes minutes, so a part of its windows drawn by a seed is timed and scaled up; everything else
is timed whole. Best of several runs on both sides.
"""

import time

import numpy as np
import pandas as pd

import ultrum as ul

SAMPLED = 20_000


def best(function, repeats=5):
    times, result = [], None
    for _ in range(repeats):
        start = time.perf_counter()
        result = function()
        times.append(time.perf_counter() - start)
    return min(times), result


def months(count):
    return pd.period_range("1960-01", periods=count, freq="M")


def market(T, N, K, gaps, seed=0):
    rng = np.random.default_rng(seed)
    F = rng.normal(0.005, 0.04, (T, K))
    Y = F @ rng.normal(0.5, 0.5, (K, N)) + rng.normal(0, 0.08, (T, N))
    Y[rng.random((T, N)) < gaps] = np.nan
    return Y, F


def one_window(y, X, hac):
    used = np.isfinite(y)
    A, b = X[used], y[used]
    beta = np.linalg.lstsq(A, b, rcond=None)[0]
    e = b - A @ beta
    bread = np.linalg.inv(A.T @ A)
    if not hac:
        return beta, np.sqrt(np.diag(bread) * (e @ e) / (len(b) - A.shape[1]))
    scores = np.zeros((len(y), A.shape[1]))
    scores[used] = A * e[:, None]
    meat = scores.T @ scores
    lags = int(4 * (len(b) / 100) ** (2 / 9))
    for lag in range(1, lags + 1):
        cross = scores[lag:].T @ scores[:-lag]
        meat += (1 - lag / (lags + 1)) * (cross + cross.T)
    V = bread @ meat @ bread * len(b) / (len(b) - A.shape[1])
    return beta, np.sqrt(np.diag(V))


def rolling(hac):
    """2,000 assets, 720 months, 4 factors, windows of 60."""
    Y, F = market(720, 2000, 4, 0.1)
    X = np.column_stack([np.ones(720), F])
    rng = np.random.default_rng(1)
    pairs = np.column_stack([rng.integers(0, 661, SAMPLED), rng.integers(0, 2000, SAMPLED)])
    start = time.perf_counter()
    answers = [one_window(Y[w : w + 60, i], X[w : w + 60], hac) for w, i in pairs]
    slow = (time.perf_counter() - start) / SAMPLED * 661 * 2000
    frame = pd.DataFrame(Y, months(720))
    factors = pd.DataFrame(F, months(720))
    quick, made = best(
        lambda: ul.rolling_regress(frame, factors, window=60, errors="hac" if hac else "classical")
    )
    apart = max(
        max(np.max(np.abs(made.coefficients[w, i] - b) / s), np.max(np.abs(made.standard_errors[w, i] / s - 1)))
        for (w, i), (b, s) in zip(pairs, answers, strict=True)
    )
    return slow, quick, f"largest difference {apart:.0e} errors"


def full_sample():
    """20,000 assets, 600 months, 5 factors: gaps and HC1 errors, against one lstsq of the complete block."""
    complete, F = market(600, 20_000, 5, 0.0)
    Y = complete.copy()
    Y[np.random.default_rng(2).random(Y.shape) < 0.1] = np.nan
    X = np.column_stack([np.ones(600), F])
    slow, _ = best(lambda: np.linalg.lstsq(X, complete, rcond=None))
    frame, factors = pd.DataFrame(Y, months(600)), pd.DataFrame(F, months(600))
    quick, table = best(lambda: ul.regress(frame, factors, errors="hc1"))
    beta, error = slow_hc1(Y[:, 7], X)
    apart = max(np.max(np.abs(table.coefficients.to_numpy()[7] - beta) / error),
                np.max(np.abs(table.standard_errors.to_numpy()[7] / error - 1)))  # fmt: skip
    return slow, quick, f"largest difference {apart:.0e} errors"


def slow_hc1(y, X):
    used = np.isfinite(y)
    A, b = X[used], y[used]
    beta = np.linalg.lstsq(A, b, rcond=None)[0]
    bread = np.linalg.inv(A.T @ A)
    scores = A * (b - A @ beta)[:, None]
    V = bread @ (scores.T @ scores) @ bread * len(b) / (len(b) - A.shape[1])
    return beta, np.sqrt(np.diag(V))


def cross_sections():
    """600 months, 3,000 assets, 6 characteristics: the premia of each."""
    T, N, K = 600, 3000, 6
    rng = np.random.default_rng(3)
    chars = {f"c{k}": pd.DataFrame(rng.standard_normal((T, N)), months(T)) for k in range(K)}
    y = rng.normal(0, 0.08, (T, N)) + 0.002 * sum(c.to_numpy() for c in chars.values())
    y[rng.random((T, N)) < 0.05] = np.nan
    bill = ul.TimeSeries.from_pandas(pd.Series(0.0, months(T)), name="bill", measure="return")
    factor = ul.TimeSeries.from_pandas(
        pd.Series(rng.normal(0, 0.05, T), months(T)), name="f", measure="return", excess_of="bill"
    )
    assets = pd.DataFrame(y, months(T), [f"a{i}" for i in range(N)])
    panel = ul.align(assets=assets, factors=factor, risk_free=bill)
    chars = {n: c.set_axis(assets.columns, axis=1) for n, c in chars.items()}
    blocks = [c.to_numpy() for c in chars.values()]

    def loop():
        slopes = []
        for t in range(1, T):
            X = np.column_stack([np.ones(N), *(b[t - 1] for b in blocks)])
            used = np.isfinite(y[t])
            slopes.append(np.linalg.lstsq(X[used], y[t][used], rcond=None)[0])
        return np.array(slopes)

    slow, slopes = best(loop, 3)
    quick, made = best(lambda: ul.two_pass(panel, [], characteristics=chars), 3)
    return slow, quick, f"largest difference {np.max(np.abs(made.slopes.to_numpy() - slopes)):.0e}"


def cost_draws():
    """10,000 block-bootstrap draws of a five-factor cost of equity, T = 240, against 10,000 bare lstsq calls."""
    Y, F = market(240, 1, 5, 0.0, seed=4)
    X = np.column_stack([np.ones(240), F])
    index = months(240)
    names = [f"f{k}" for k in range(5)]
    factors = pd.DataFrame(F, index, names)
    table = ul.regress(pd.DataFrame(Y, index, ["A"]), factors)
    history = {n: ul.TimeSeries.from_pandas(factors[n], measure="return", excess_of="bill") for n in names}
    premia = {n: ul.premium(h) for n, h in history.items()}

    def loop():
        for _ in range(10_000):
            np.linalg.lstsq(X, Y[:, 0], rcond=None)

    slow, _ = best(loop, 3)
    quick, cost = best(lambda: ul.cost_of_equity(table, premia=premia, risk_free=0.03, draws=10_000), 3)
    ratio = cost.draws.std() / cost.standard_error["A"]
    return slow, quick, f"deviation of the draws over the delta error {ratio:.2f}"


def run():
    rows = [
        ("rolling, 2,000 × 720, 4 factors, window 60, classical", rolling(False), "150 (least), 400 (aim)"),
        ("rolling, the same, Newey–West", rolling(True), "40 (least), 100 (aim)"),
        ("full sample, 20,000 × 600, 5 factors, HC1, compared with one lstsq", full_sample(), "0.5 (least)"),
        ("two-pass, 600 × 3,000, 6 characteristics", cross_sections(), "2.5 (least)"),
        ("10,000 draws of a five-factor cost of equity", cost_draws(), "1 (least)"),
    ]
    lines = ["| what | NumPy, s | Ultrum, s | times faster | wanted | |", "|---|---:|---:|---:|---|---|"]
    for name, (slow, quick, note), wanted in rows:
        lines.append(f"| {name} | {slow:.2f} | {quick:.2f} | {slow / quick:.1f} | {wanted} | {note} |")
    return "\n".join(lines)
