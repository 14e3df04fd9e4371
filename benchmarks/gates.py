"""Simulation evidence on tests and intervals: rejection rates and coverage against limits, with Monte Carlo errors

Each cell has a seed of its own. A group of cells is summarised by its worst cell; the number after ± is the Monte
Carlo standard error of that cell.
"""

from __future__ import annotations

import itertools
import sys
from dataclasses import dataclass, field

import numpy as np
import scipy.signal

from ultrum.core.pricing.alpha_and_multiple_tests import _wild_bootstrap, alpha_t_and_draws, step_down
from ultrum.core.pricing.cost_of_equity_result import CostEstimates


@dataclass
class Gates:
    """Cells of simulations, and those outside their limits."""

    lines: list[str] = field(default_factory=list)
    outside: list[str] = field(default_factory=list)

    def add(self, what, cells, samples, low=None, high=None, *, percent=True):
        """One line: the smallest and largest of some cells, {name: share}, with the limits."""
        unit = 100.0 if percent else 1.0
        ends = [min(cells.items(), key=lambda c: c[1]), max(cells.items(), key=lambda c: c[1])]
        shown = [
            f"{unit * share:.1f} ± {unit * np.sqrt(share * (1 - share) / samples):.1f} ({name})"
            if percent
            else f"{share:.2f} ({name})"
            for name, share in dict(ends).items()
        ]
        inside = (low is None or unit * ends[0][1] >= low) and (high is None or unit * ends[1][1] <= high)
        limits = " to ".join(f"{end:g}" for end in (low, high) if end is not None)
        limits = limits if low is not None and high is not None else f"{'≥' if high is None else '≤'} {limits}"
        limits = "" if low is None and high is None else limits
        if not inside:
            self.outside.append(what)
        verdict = ("inside" if inside else "OUTSIDE") if limits else ""
        line = f"| {what} | {len(cells)} | {' to '.join(shown)} | {limits} | {verdict} |"
        self.lines.append(line)
        print(line, file=sys.stderr, flush=True)


HEAD = "| cells | number | smallest and largest, % ± Monte Carlo error | limits | |\n|---|---:|---|---|---|"


def cost_intervals(beta, beta_error, premium, premium_error, samples, seed):
    """Coverage of the interval of a cost, and its median width over that of the delta method; K from ``beta``."""
    rng = np.random.default_rng(seed)
    K = len(beta)
    truth, inside, ratios = beta @ premium, 0, []
    for _ in range(samples):
        b = beta + beta_error * rng.standard_normal(K)
        lam = premium + premium_error * rng.standard_normal(K)
        V, S = np.eye(K) * beta_error**2, np.eye(K) * premium_error**2
        estimates = CostEstimates(b[None], V[None], np.array([np.inf]), lam, S, np.inf, 0.0, 0.0)
        low, high = estimates.quantiles([0.025, 0.975])[:, 0]
        inside += low <= truth <= high
        ratios.append((high - low) / (2 * 1.959964 * np.sqrt(b @ S @ b + lam @ V @ lam)))
    return inside / samples, float(np.median(ratios))


def cost_of_equity(gates, samples=1000):
    covers, widths = {}, {}
    grid = itertools.product(
        (0, 0.2, 0.6, 1.0, 1.5), (0.05, 0.13, 0.3), (-0.02, 0.0, 0.025, 0.06), (0.0, 0.012, 0.05)
    )
    for seed, (beta, error, premium, spread) in enumerate(grid):
        name = f"β {beta} ± {error}, λ {premium} ± {spread}"
        if premium == 0 and spread == 0:
            continue  # nothing is uncertain
        share, ratio = cost_intervals(np.array([beta]), error, np.array([premium]), spread, samples, seed)
        covers[name] = share
        if beta >= 0.5 and error <= 0.15:
            widths[name] = ratio
    gates.add("cost of equity, one factor, 95 % interval covers", covers, samples, 92.5)
    gates.add(
        "cost of equity, one factor, median width over the delta method's",
        widths,
        samples,
        None,
        1.15,
        percent=False,
    )
    covers, widths = {}, {}
    pairs = (((1.0, 0.0), 0.1), ((0.6, 0.3), 0.15), ((0.0, 0.2), 0.3), ((1.4, -0.4), 0.2))
    for seed, ((beta, error), premium, spread) in enumerate(
        itertools.product(pairs, ((0.05, 0.02), (0.0, 0.03), (-0.02, 0.01)), (0.01, 0.03, 0.05))
    ):
        name = f"β {beta} ± {error}, λ {premium} ± {spread}"
        share, ratio = cost_intervals(np.array(beta), error, np.array(premium), spread, samples, 500 + seed)
        covers[name] = share
        if beta[0] >= 0.5 and error <= 0.15:
            widths[name] = ratio
    gates.add("cost of equity, two factors, 95 % interval covers", covers, samples, 92.5)
    gates.add(
        "cost of equity, two factors, median width over the delta method's",
        widths,
        samples,
        None,
        1.15,
        percent=False,
    )


def persistent(rng, rows, columns, rho):
    """Series of unit variance with the autocorrelation rho, from a common and an own part."""
    shocks = np.sqrt(0.3) * rng.standard_normal((rows + 60, 1)) + np.sqrt(0.7) * rng.standard_normal(
        (rows + 60, columns)
    )
    return scipy.signal.lfilter([1.0], [1.0, -rho], shocks * np.sqrt(1.0 - rho**2), axis=0)[60:]


def step_down_rejects(rows, rho, alpha_t, short, seed, samples, assets=50):
    """Share of panels in which the first asset, or with ``alpha_t=0`` any asset, has an adjusted p of at most 5 %."""
    rng, rejected = np.random.default_rng(seed), 0
    for sample in range(samples):
        f = rng.normal(0.005, 0.04, (rows, 1))
        e = 0.06 * persistent(rng, rows, assets, rho)
        Y = f * rng.normal(1.0, 0.3, assets) + e
        Y[:, 0] += alpha_t * 0.06 / np.sqrt(rows) * np.sqrt((1 + rho) / (1 - rho))
        if short:
            Y[:-short, 1:4] = np.nan
        _, t, drawn = alpha_t_and_draws(Y, f, np.arange(rows), 499, sample)
        p = step_down(np.abs(t), np.abs(drawn))[0]
        rejected += (p[0] if alpha_t else p.min()) <= 0.05
    return rejected / samples


def step_down_alphas(gates, samples=1000):
    sizes = (60, 90, 150, 240, 360)
    for rho, low, high in ((0.0, 1, 7), (0.3, None, 8)):
        cells = {f"T {T}": step_down_rejects(T, rho, 0.0, 0, 40 + T, samples) for T in sizes}
        gates.add(f"step-down alphas, N = 50, AR({rho:g}), any false rejection", cells, samples, low, high)
        cells = {f"T {T}": step_down_rejects(T, rho, 4.0, 0, 41 + T, samples // 2) for T in sizes}
        gates.add(f"step-down alphas, N = 50, AR({rho:g}), power at t = 4", cells, samples // 2, 70)
        cells = {f"T {T}": step_down_rejects(T, rho, 4.0, 24, 42 + T, samples // 2) for T in (150, 360)}
        gates.add(f"step-down alphas, three of 50 with 24 rows, AR({rho:g}), power at t = 4", cells, samples // 2)


def joint_alpha_rejects(rows, assets, kind, seed, samples):
    """Share of panels without alphas in which the robust joint test rejects at 5 %."""
    rng, rejected = np.random.default_rng(seed), 0
    for sample in range(samples):
        f = rng.normal(0.005, 0.04, (rows, 1))
        e = rng.standard_t(6, (rows, assets)) if kind == "t(6)" else rng.standard_normal((rows, assets))
        e += 0.5 * rng.standard_normal((rows, 1))
        if kind == "variance moves with the factor":
            e *= 0.5 + np.abs(f) / 0.04
        y = f * rng.normal(0.9, 0.4, assets) + 0.05 * e
        rejected += _wild_bootstrap(y, f, 499, sample)[2] <= 0.05
    return rejected / samples


def joint_alphas(gates, samples=1000):
    for kind in ("normal", "t(6)", "variance moves with the factor"):
        cells = {}
        for assets, rows in itertools.product((25, 50, 100), (60, 90, 120, 160, 240)):
            cells[f"N {assets}, T {rows}"] = joint_alpha_rejects(rows, assets, kind, assets + rows, samples)
        gates.add(f"joint alpha test, robust, {kind}", cells, samples, 2.5, 7.5)


GROUPS = {"cost": cost_of_equity, "step_down": step_down_alphas, "joint": joint_alphas}


def run(*names):
    gates = Gates()
    for name in names or GROUPS:
        GROUPS[name](gates)
    return "\n".join([HEAD, *gates.lines])


if __name__ == "__main__":
    print(run(*sys.argv[1:]))
