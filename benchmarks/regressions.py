"""Market regressions of all companies at once, against a loop of numpy.linalg.lstsq

Both sides get the same arrays with the same gaps, and give coefficients, Newey-West errors and R².
"""

import time

import numpy as np
import pandas as pd

import ultrum as ul

REPEATS = 9


def loop(Y, X):
    """One asset after another, the way a careful script does it."""
    coefficients, errors, r2 = [], [], []
    for y in Y.T:
        used = np.isfinite(y)
        A, b, place = X[used], y[used], np.flatnonzero(used)
        beta = np.linalg.lstsq(A, b, rcond=None)[0]
        e = b - A @ beta
        bread = np.linalg.inv(A.T @ A)
        scores = np.zeros((place[-1] - place[0] + 1, A.shape[1]))
        scores[place - place[0]] = A * e[:, None]
        meat = scores.T @ scores
        lags = int(4 * (len(b) / 100) ** (2 / 9))
        for lag in range(1, lags + 1):
            cross = scores[lag:].T @ scores[:-lag]
            meat += (1 - lag / (lags + 1)) * (cross + cross.T)
        V = bread @ meat @ bread * len(b) / (len(b) - A.shape[1])
        coefficients.append(beta)
        errors.append(np.sqrt(np.diag(V)))
        r2.append(1 - e @ e / np.sum((b - b.mean()) ** 2))
    return np.array(coefficients), np.array(errors), np.array(r2)


def best(function):
    times = []
    for _ in range(REPEATS):
        start = time.perf_counter()
        result = function()
        times.append(time.perf_counter() - start)
    return min(times), result


def compare(Y, X):
    """Times of both sides, and how far apart their answers are in standard errors."""
    design = np.column_stack([np.ones(len(X)), X])
    slow, (beta, error, _) = best(lambda: loop(Y.to_numpy(), design))
    quick, table = best(lambda: ul.regress(Y, X))
    apart = np.abs(table.coefficients.to_numpy() - beta) / error
    return slow, quick, max(apart.max(), np.abs(table.standard_errors.to_numpy() / error - 1).max())


def wide(panel, copies):
    """Many assets with the companies' factors and gaps of their own."""
    rng = np.random.default_rng(0)
    Y = np.tile(panel.excess.block, copies) + rng.normal(0, 0.05, (len(panel.assets), 23 * copies))
    Y[: rng.integers(1, 60), ::7] = np.nan
    return pd.DataFrame(Y, panel.assets.index, [f"a{i}" for i in range(Y.shape[1])])


def run():
    panel = ul.practice.panel()
    X = panel.factors[["market"]]
    lines = ["| assets | rows | loop, ms | Ultrum, ms | loop / Ultrum | largest difference, errors |",
             "|---:|---:|---:|---:|---:|---:|"]  # fmt: skip
    for Y in (panel.excess.to_frame(), wide(panel, 20), wide(panel, 200)):
        slow, quick, apart = compare(Y, X)
        row = (
            Y.shape[1],
            len(Y),
            f"{1e3 * slow:.1f}",
            f"{1e3 * quick:.1f}",
            f"{slow / quick:.2f}",
            f"{apart:.1e}",
        )
        lines.append("| " + " | ".join(map(str, row)) + " |")
    return "\n".join(lines)
