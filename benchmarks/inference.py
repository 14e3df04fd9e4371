"""Bands of rolling betas, intervals of shrunk betas, and sizes of tests of form and breaks, 2,000 samples a cell

Every cell has a seed of its own. Cells with a range must lie in it; the others are published as measured.
"""

import numpy as np
import pandas as pd
import scipy.special

import ultrum as ul
from benchmarks.evidence import panel_of
from ultrum.core.pricing.factor_betas_and_shrinkage import _posterior_error
from ultrum.core.regression.engine.newey_west_and_fixed_b import lag_rule
from ultrum.core.regression.structural_breaks import break_f_path, robust_f_of_terms

SAMPLES, BATCH, ROWS = 2000, 200, 120


def moving_beta(step, residual, seed):
    """Coverage of 95 % bands over all rows and at the last, factor's deviation 4.5 % per month."""
    rng = np.random.default_rng(seed)
    every, last = [], []
    for _ in range(SAMPLES // BATCH):
        f = rng.normal(0.005, 0.045, ROWS)
        moves = rng.normal(0, 1, (ROWS, BATCH)) * step
        moves[0] = 0.0
        beta = 1.0 + np.cumsum(moves, axis=0)
        y = 0.001 + beta * f[:, None] + rng.normal(0, residual, (ROWS, BATCH))
        made = ul.kalman_beta(panel_of(y, f[:, None]), "f1")
        reach = scipy.special.stdtrit(ROWS - 2, 0.975) * made.standard_error.to_numpy()
        inside = np.abs(made.beta.to_numpy() - beta) <= reach
        every.append(inside.mean())
        last.append(inside[-1].mean())
    return 100 * np.mean(every), 100 * np.mean(last)


def shrunk_betas(assets, spread, low, high, seed):
    """Coverage of 95 % intervals of Vasicek's betas, errors of single betas between ``low`` and ``high``."""
    rng = np.random.default_rng(seed)
    inside = []
    for _ in range(SAMPLES if assets < 200 else SAMPLES // 4):
        own = rng.uniform(low, high, assets) ** 2
        true = 1.0 + spread * rng.normal(size=assets)
        beta = true + np.sqrt(own) * rng.normal(size=assets)
        prior = max(0.0, beta.var(ddof=1) - own.mean())
        weight = prior / (prior + own)
        shrunk = weight * beta + (1 - weight) * beta.mean()
        error = _posterior_error(beta, own, beta, own, shrunk)
        inside.append(np.mean(np.abs(shrunk - true) <= 1.98 * error))
    return 100 * np.mean(inside)


def tests_of_form_and_breaks(rows, unequal, rho, errors, seed):
    """Rejections of RESET and of Chow's test at the middle where the line is straight and stays."""
    rng = np.random.default_rng(seed)
    reset, chow = 0, []
    lags = lag_rule(rows) if errors == "hac" else None
    places = np.arange(rows)
    for _ in range(SAMPLES // BATCH):
        x = rng.normal(size=rows)
        e = rng.normal(size=(rows, BATCH))
        for t in range(1, rows):
            e[t] += rho * e[t - 1]
        e *= np.abs(x)[:, None] if unequal else 1.0
        X = np.column_stack([np.ones(rows), x])
        Y = x[:, None] + e
        f = break_f_path(X, Y, np.array([rows // 2]), places, lags)[0]
        chow.append(scipy.special.fdtrc(2, rows - 4, f) < 0.05)
        residuals = Y - X @ np.linalg.lstsq(X, Y, rcond=None)[0]
        for own, fitted in zip(residuals.T, (Y - residuals).T, strict=True):
            z = (fitted - fitted.mean()) / fitted.std()
            score = robust_f_of_terms(X, np.column_stack([z**2, z**3]), own, places, lags)
            reset += scipy.special.fdtrc(2, rows - 4, score) < 0.05
    return 100 * reset / SAMPLES, 100 * np.mean(chow)


def _verdict(value, low, high):
    return "inside" if low <= value <= high else "**outside**"


def run():
    lines = ["Made by `python -m benchmarks inference`.", "",
             "| beta as a random walk, T = 120 | all rows, % | last, % | must lie in | |",
             "|---|---:|---:|---|---|"]  # fmt: skip
    for seed, (step, residual, low, high) in enumerate([
        (0.0, 0.06, 94, 100), (0.04, 0.06, 92, 99), (0.06, 0.06, 92, 99), (0.08, 0.06, 92, 99),
        (0.16, 0.06, 90, 100), (0.16, 0.1, 90, 100),
    ]):  # fmt: skip
        every, last = moving_beta(step, residual, seed)
        verdict = _verdict(min(every, last), low, high) if max(every, last) <= high else "**outside**"
        lines.append(f"| step {step}, residual {100 * residual:.0f} % per month | {every:.1f} | {last:.1f} | "
                     f"{low} to {high} | {verdict} |")  # fmt: skip
    lines += ["", "| Vasicek's betas, errors 0.10 to 0.20 | covers, % | must lie in | |", "|---|---:|---|---|"]
    seed = 20
    for spread, low, high in ((0.0, 95, 100), (0.1, 93, 98), (0.3, 93, 98)):
        for assets in (10, 20, 50, 200, 500):
            seed += 1
            value = shrunk_betas(assets, spread, 0.1, 0.2, seed)
            lines.append(f"| spread {spread}, N = {assets} | {value:.1f} | {low} to {high} | "
                         f"{_verdict(value, low, high)} |")  # fmt: skip
    lines += ["", "| 5 % tests, null imposed | RESET rejects, % | Chow rejects, % |", "|---|---:|---:|"]
    for rows in (60, 120, 240):
        for unequal, rho, errors, words in (
            (False, 0.0, "hc1", "White, equal spread"), (True, 0.0, "hc1", "White, spread moves with x"),
            (True, 0.0, "hac", "Newey–West, spread moves with x"), (False, 0.3, "hac", "Newey–West, AR(0.3)"),
        ):  # fmt: skip
            seed += 1
            reset, chow = tests_of_form_and_breaks(rows, unequal, rho, errors, seed)
            lines.append(f"| {words}, T = {rows} | {reset:.1f} | {chow:.1f} |")
    return "\n".join(lines)


if __name__ == "__main__":
    pd.set_option("display.width", 100)
    print(run())
