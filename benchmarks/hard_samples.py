"""Rejection rates and coverage in hard samples: persistence, few clusters, weak betas, many tests

2,000 samples a cell, 500 where a rank test or a bootstrap of 100 assets is in it. Every cell has a seed of its own.
"""

import time
import warnings
from functools import partial

import numpy as np
import pandas as pd
import scipy.special as sp

import ultrum as ul
from benchmarks.evidence import ar, panel_of
from ultrum.core.pricing.alpha_and_multiple_tests import alpha_t_and_draws, step_down
from ultrum.core.pricing.two_pass_standard_errors import equal_betas_test, misspecification_robust, robust_sets
from ultrum.core.regression.engine.covariance_and_bootstrap import (
    cluster_covariance,
    covariance,
    degrees_of_freedom,
    jackknife_covariance,
)
from ultrum.core.regression.engine.least_squares import least_squares
from ultrum.core.regression.panel_regression import _bootstrap_t
from ultrum.core.regression.predictive_regression import correct_bias, hodrick_1b, ivx_wald

SAMPLES, FEW = 2000, 500
KINDS = ("hac", "hac-fixed-b", "ewc", "ewc-prewhitened")


def long_run(rows, rho, seed):
    """Rejections of true hypotheses by each kind of errors: constant, slope."""
    rng, out = np.random.default_rng(seed), []
    lags = np.array(np.floor(4 * (rows / 100) ** (2 / 9)))
    for _ in range(SAMPLES):
        x, e = ar(rng, rows, 1, rho), ar(rng, rows, 1, rho)
        s = least_squares(np.column_stack([np.ones(rows), x]), e, ["a", "b"], True, None)
        for kind in KINDS:
            V = covariance(kind, s.influence, s.residuals, s.leverage, np.arange(rows), None)[0]
            df = degrees_of_freedom(kind, np.array(rows), 2, lags)
            out.append(2 * sp.stdtr(df, -abs(s.coefficients[:, 0]) / np.sqrt(np.diag(V))) < 0.05)
    return 100 * np.mean(np.reshape(out, (SAMPLES, len(KINDS), 2)), axis=0)


def few_clusters(groups, unequal, treated, seed):
    """Rejections for a treatment of whole clusters and for a factor: CR1, CR3, wild bootstrap."""
    rng, out = np.random.default_rng(seed), []
    for _ in range(SAMPLES):
        sizes = np.round(np.linspace(4, 28, groups)).astype(int) if unequal else np.full(groups, 16)
        rng.shuffle(sizes)
        codes = np.repeat(np.arange(groups), sizes)
        rows = len(codes)
        treat = np.zeros(groups)
        treat[rng.permutation(groups)[:treated]] = 1
        factor = rng.standard_normal(groups)[codes] + rng.standard_normal(rows)
        X = np.column_stack([np.ones(rows), treat[codes], factor])
        y = 0.5 * rng.standard_normal(groups)[codes] + rng.standard_normal(rows)
        s = least_squares(X, y[:, None], ["a", "b", "c"], True, None)
        row = []
        for V in (
            cluster_covariance(s.influence, s.residuals, codes[:, None])[0],
            jackknife_covariance(X, s.influence, s.residuals, codes[:, None])[0],
        ):
            t = s.coefficients[1:, 0] / np.sqrt(np.diag(V))[1:]
            row += list(2 * sp.stdtr(groups - 1, -abs(t)) < 0.05)
        for which in (1, 2):
            t, drawn = _bootstrap_t(X, y, codes, which, 0.0, 399, int(rng.integers(1 << 30)))
            row.append((1 + np.sum(abs(drawn) >= abs(t))) / 400 <= 0.05)
        out.append(row)
    return 100 * np.mean(out, axis=0)


def predicted(rng, rows, rho, correlation):
    """Unpredictable returns, and a predictor whose shocks are correlated with them."""
    e = rng.standard_normal((rows + 101, 2))
    v = correlation * e[:, 0] + np.sqrt(1 - correlation**2) * e[:, 1]
    x = np.zeros(rows + 101)
    for t in range(1, rows + 101):
        x[t] = rho * x[t - 1] + v[t]
    return e[101:, 0], x[100:]


def prediction(rows, rho, correlation, seed):
    """Rejections: IVX, bias-corrected, 1B at 1 and 12 periods, 1B at 12 on a binary condition."""
    rng, out = np.random.default_rng(seed), []
    for _ in range(SAMPLES):
        y, x = predicted(rng, rows, rho, correlation)
        binary = (x[:-1] > np.quantile(x[:-1], 0.8)).astype(float)
        out.append([
            sp.chdtrc(1, ivx_wald(y, x[:, None])[2]) < 0.05, correct_bias(y, x)[0].p_value < 0.05,
            hodrick_1b(y, x[:-1], 1).p_value < 0.05, hodrick_1b(y, x[:-1], 12).p_value < 0.05,
            hodrick_1b(y, binary, 12).p_value < 0.05,
        ])  # fmt: skip
    return 100 * np.mean(out, axis=0)


def priced(rng, rows, factors, useless, error, common, assets=25):
    """Returns of 25 assets on real factors, and useless factors beside them."""
    f, e = rng.standard_normal((rows, factors)) * 0.045, rng.standard_normal((rows, assets)) * 0.04
    noise = rng.standard_normal((rows, useless)) * 0.045
    if common:
        s = np.exp(0.4 * rng.standard_normal(rows))[:, None]
        s /= np.sqrt(np.mean(s**2))
        f, e, noise = f * s, e * s, noise * s
    B = 1 + 0.3 * rng.standard_normal((assets, factors))
    premia = np.full(factors, 0.006)
    R = 0.002 + B @ premia + error * rng.standard_normal(assets) + f @ B.T + e
    return R, np.column_stack([f + premia, noise])


def weak_betas(rows, common, seed):
    """t of a useless factor by OLS and GLS; warnings, false warnings; coverage; sets without zero."""
    rng, t_out, warned, sets = np.random.default_rng(seed), [], [], []
    for sample in range(SAMPLES):
        R, F = priced(rng, rows, 1, 1, 0.004, common)
        row = []
        for gls in (False, True):
            made = misspecification_robust(R, F, gls, 0)
            t = made.premia[-1] / np.sqrt(made.covariance[-1, -1])
            row.append(2 * sp.stdtr(rows - 1, -abs(t)) < 0.05)
        t_out.append(row)
        strong, G = priced(rng, rows, 2, 0, 0.0, common)
        right, H = priced(rng, rows, 1, 1, 0.0, common)
        sets.append([
            any(a <= 0.006 <= b for a, b in robust_sets(strong, G, 0.95)[0]),
            not any(a <= 0 <= b for a, b in robust_sets(right, H, 0.95)[-1]),
        ])  # fmt: skip
        if sample < FEW:
            warned.append([equal_betas_test(R, F).p_value > 0.02, equal_betas_test(strong, G).p_value > 0.02])
    return 100 * np.concatenate([np.mean(o, axis=0) for o in (t_out, warned, sets)])


def family(rows, seed):
    """Samples of 100 assets without alphas in which the step-down test rejects one."""
    rng, out = np.random.default_rng(seed), []
    for sample in range(FEW):
        f = 0.04 * rng.standard_normal((rows, 1))
        shared = np.sqrt(0.3) * rng.standard_normal((rows, 1))
        e = 0.08 * (shared + np.sqrt(0.7) * rng.standard_normal((rows, 100)))
        Y = f * rng.uniform(0.5, 1.5, 100) + e
        _, t, drawn = alpha_t_and_draws(Y, f, np.arange(rows), 199, sample)
        out.append(step_down(np.abs(t), np.abs(drawn))[0].min() <= 0.05)
    return 100 * np.mean(out)


def best(work, times=3):
    """Shortest of a few runs, seconds."""
    taken = []
    for _ in range(times):
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    return min(taken)


def speed():
    """Each method beside its plain counterpart, both sides in this process."""
    rng = np.random.default_rng(1)
    f = 0.045 * rng.standard_normal((360, 3))
    Y = f @ rng.uniform(0.2, 1.2, (3, 400)) + 0.08 * rng.standard_normal((360, 400))
    groups = np.repeat(np.arange(36), 10)
    panel = panel_of(Y[:, :40], f[:, :1])
    index = panel.assets.index
    fit = ul.factor_betas(panel).fit("a0")
    labels = pd.Series(groups, index)
    state = pd.Series(rng.standard_normal(360), index, name="state")
    pairs = {
        "regress, ewc / hac": [partial(ul.regress, Y, f, errors=e) for e in ("ewc", "hac")],
        "regress, ewc-prewhitened / hac": [
            partial(ul.regress, Y, f, errors=e) for e in ("ewc-prewhitened", "hac")
        ],
        "rolling, ewc / hac": [
            partial(ul.rolling_regress, Y, f, window=60, errors=e) for e in ("ewc", "hac")
        ],
        "regress, cr3 / clustered": [
            partial(ul.regress, Y, f, clusters=groups, errors=e) for e in ("cr3", "hac")
        ],
        "two_pass, misspecification / shanken": [
            partial(ul.two_pass, panel, errors=e) for e in ("misspecification", "shanken")
        ],
        "instrumented_premia / two_pass": [
            partial(ul.instrumented_premia, panel), partial(ul.two_pass, panel),
        ],
        "predictive_regression / regress": [
            partial(ul.predictive_regression, panel.factors["f1"], state), partial(ul.regress, panel.factors["f1"], state),
        ],
    }  # fmt: skip
    lines = ["", "| method / plain counterpart | seconds | plain | ratio |", "|---|---:|---:|---:|"]
    for name, (method, plain) in pairs.items():
        a, b = best(method), best(plain)
        lines.append(f"| {name} | {a:.4f} | {b:.4f} | {a / b:.1f} |")
    wild = best(lambda: ul.wild_cluster_test(fit, labels, "f1", draws=9999))
    steps = best(lambda: ul.step_down_alphas(panel, draws=499), 1)
    return [
        *lines,
        "",
        f"Draws a second: wild cluster bootstrap {9999 / wild:,.0f}; step-down of 40 alphas {499 / steps:,.0f}.",
    ]


def _cell(value, high, low=0.0):
    return f"{value:.1f}" if low <= value <= high else f"**{value:.1f}**"


def run():
    warnings.simplefilter("ignore")
    lines = ["Made by `python -m benchmarks hard_samples`. Percent; bold is outside its range.", "",
             "| persistence (constant, slope) | " + " | ".join(KINDS) + " | range of ewc, prewhitened |",
             "|---|---:|---:|---:|---:|---|"]  # fmt: skip
    for seed, (rows, rho, wanted) in enumerate([
        (600, 0.9, "≤ 13 and 9.5, ≤ 7.5"), (600, 0.5, "4 to 6.5"), (60, 0.5, "≤ 8.5"), (60, 0.9, ""), (240, 0.0, ""),
    ]):  # fmt: skip
        rates = long_run(rows, rho, seed)
        cells = " | ".join(f"{a:.1f}, {b:.1f}" for a, b in rates)
        lines.append(f"| T = {rows}, AR({rho}) | {cells} | {wanted} |")
    lines += ["", "| few clusters (treatment, factor) | CR1 | CR3, 3.5 to 7.5 | wild, 3.5 to 7.5 |",
              "|---|---:|---:|---:|"]  # fmt: skip
    for seed, (groups, unequal, treated) in enumerate(
        [(8, False, 4), (8, True, 4), (12, False, 6), (12, True, 6), (12, False, 2)], 20
    ):
        r = few_clusters(groups, unequal, treated, seed)
        gate = (7.5, 3.5) if treated > 2 else (100, 0)
        cells = [f"{r[0]:.1f}, {r[1]:.1f}"] + [f"{_cell(r[k], *gate)}, {_cell(r[k + 1], *gate)}" for k in (2, 4)]
        sizes = "sizes 1:7" if unequal else "equal sizes"
        lines.append(f"| {groups} clusters, {sizes}, {treated} treated | {' | '.join(cells)} |")
    lines += ["", "| prediction | IVX, 3 to 7 | corrected | 1B, H = 1 | 1B, H = 12 | 1B, H = 12, binary |",
              "|---|---:|---:|---:|---:|---:|"]  # fmt: skip
    seed = 40
    for rho, correlations in ((0.95, (0.0, -0.9, -0.95)), (0.98, (-0.9, -0.95)), (1.0, (-0.9, -0.95))):
        for correlation in correlations:
            for rows in (120, 240):
                seed += 1
                r = prediction(rows, rho, correlation, seed)
                tight = rho == 0.95
                binary = (6.5, 3.5) if correlation == 0 else (8.5, 0)
                cells = [_cell(r[0], 7, 3), _cell(r[1], 8.5 if tight else 100), f"{r[2]:.1f}", f"{r[3]:.1f}",
                         _cell(r[4], *(binary if tight else (100, 0)))]  # fmt: skip
                lines.append(f"| ρ = {rho}, correlation {correlation}, T = {rows} | {' | '.join(cells)} |")
    lines += ["", "| weak betas, N = 25 | useless factor, OLS and GLS t, ≤ 7 (10) | warned, ≥ 95 | falsely warned, ≤ 5 | "
              "strong covered, 92 to 97.5 | set without zero, ≤ 7.5 |", "|---|---:|---:|---:|---:|---:|"]  # fmt: skip
    for common in (False, True):
        for rows in (240, 600, 1200):
            seed += 1
            r = weak_betas(rows, common, seed)
            most = 10 if common else 7
            cells = [f"{_cell(r[0], most)}, {_cell(r[1], most)}", _cell(r[2], 100, 95), _cell(r[3], 5),
                     _cell(r[4], 97.5, 92), _cell(r[5], 7.5)]  # fmt: skip
            words = "common volatility" if common else "equal spread"
            lines.append(f"| T = {rows}, {words} | {' | '.join(cells)} |")
    lines += ["", "| step-down test of 100 alphas | any false rejection | at most |", "|---|---:|---:|"]
    for rows, most in ((240, 6.0), (60, 6.5)):
        seed += 1
        lines.append(f"| T = {rows} | {_cell(family(rows, seed), most)} | {most} |")
    return "\n".join([*lines, *speed()])
