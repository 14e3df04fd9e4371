"""Tests and intervals against limits: rejection rates and coverage with Monte Carlo errors

Each cell has a seed of its own. A group of cells is summarised by its worst cell; the number after ± is the Monte
Carlo standard error of that cell.
"""

from __future__ import annotations

import itertools
import sys
from dataclasses import dataclass, field

import numpy as np
import scipy.signal
import scipy.special

from ultrum.core.pricing.alpha_and_multiple_tests import _wild_bootstrap, alpha_t_and_draws, step_down
from ultrum.core.pricing.cost_of_equity_result import CostEstimates
from ultrum.core.pricing.factor_betas_and_shrinkage import _Posterior
from ultrum.core.pricing.peers_and_leverage import _errors_of_mean
from ultrum.core.pricing.two_pass_standard_errors import equal_betas_test
from ultrum.core.regression.engine.newey_west_and_fixed_b import (
    cosine_count,
    cosine_covariance,
    score_autocorrelation,
)
from ultrum.core.regression.inference import mixture_quantile
from ultrum.core.regression.predictive_regression import ivx_wald


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


def draws_of(rng, kind):
    """Draws of unit variance: normal, or Student's t(4)."""
    if kind == "t(4)":
        return lambda *shape: rng.standard_t(4, shape) / np.sqrt(2.0)
    return lambda *shape: rng.standard_normal(shape)


def common_volatility(rng, rows):
    """A persistent volatility around one, shared by all returns."""
    logs = scipy.signal.lfilter([1.0], [1.0, -0.9], 0.2 * rng.standard_normal(rows + 50))[50:]
    return np.exp(logs - np.var(logs))[:, None]


def weak_factor_warned(rows, assets, kind, strong, seed, samples):
    """Share of panels in which the test of equal betas does not reject at 2 %, as the warning has it.

    A useless factor is noise beside returns with a market factor; a strong one has betas of 1 ± 0.45.
    """
    rng, warned = np.random.default_rng(seed), 0
    noise = draws_of(rng, kind)
    for _ in range(samples):
        spread = common_volatility(rng, rows) if kind == "common volatility" else 1.0
        market = 0.045 * noise(rows, 1) * spread
        R = market * rng.normal(1.0, 0.45, assets) + 0.08 * noise(rows, assets) * spread
        F = market if strong else 0.045 * noise(rows, 1) * spread
        warned += equal_betas_test(R, F).p_value > 0.02
    return warned / samples


def weak_factors(gates, samples=1000):
    kinds = ("normal", "t(4)", "common volatility")
    for kind in kinds:
        grid = itertools.product((10, 25, 60, 100), (60, 150, 600))
        cells = {f"N {N}, T {T}": weak_factor_warned(T, N, kind, False, N + T, samples) for N, T in grid}
        gates.add(f"test of equal betas, useless factor, {kind}: warned of", cells, samples, 94)
        grid = itertools.product((25, 60, 100), (120, 240, 600))
        cells = {f"N {N}, T {T}": weak_factor_warned(T, N, kind, True, N + T, samples) for N, T in grid}
        gates.add(f"test of equal betas, strong factor, {kind}: warned of", cells, samples, None, 2)
        cells = {f"T {T}": weak_factor_warned(T, 10, kind, True, T, samples) for T in (120, 240, 600)}
        gates.add(f"test of equal betas, strong factor, N = 10, {kind}: warned of", cells, samples)


def weak_instruments(gates, samples=300):
    """The warning of instrumented premia: useless and strong factors, with three omitted factors and without."""
    for omitted in (0, 3):
        useless, strong = {}, {}
        for assets, rows in itertools.product((25, 100, 400), (120, 300)):
            for which, found in ((False, useless), (True, strong)):
                rng, warned = np.random.default_rng(assets + rows), 0
                for _ in range(samples):
                    f = 0.045 * rng.standard_normal((rows, 1))
                    others = 0.03 * rng.standard_normal((rows, omitted)) @ rng.normal(0, 0.5, (omitted, assets))
                    market = f if which else 0.045 * rng.standard_normal((rows, 1))
                    R = (
                        market * rng.normal(1.0, 0.45, assets)
                        + others
                        + 0.08 * rng.standard_normal((rows, assets))
                    )
                    warned += equal_betas_test(R, f).p_value > 0.02
                found[f"N {assets}, T {rows}"] = warned / samples
        words = "three omitted factors" if omitted else "no omitted factor"
        gates.add(f"instrumented premia, useless factor, {words}: warned of", useless, samples, 94)
        gates.add(f"instrumented premia, strong factor, {words}: warned of", strong, samples, None, 5)


def ivx_rejects(rows, count, root, correlation, moving, seed, samples):
    """Share of samples without predictability in which the joint IVX test rejects at 5 %."""
    rng, rejected = np.random.default_rng(seed), 0
    for _ in range(samples):
        e = rng.standard_normal((rows + 201, count))
        u = correlation * e[:, 0] + np.sqrt(1.0 - correlation**2) * rng.standard_normal(rows + 201)
        x = scipy.signal.lfilter([1.0], [1.0, -root], e, axis=0)
        if moving:
            state = np.concatenate([[0.0], x[:-1, 0]]) * np.sqrt(1.0 - root**2)
            u = u * np.sqrt(0.3 + 0.7 * state**2)
        wald = ivx_wald(u[201:], x[200:])[2]
        rejected += scipy.special.chdtrc(count, wald) < 0.05
    return rejected / samples


def predictive(gates, samples=2000):
    for count, low, high in ((1, 2.5, 7), (2, 2.5, 7), (4, 3, 9)):
        for moving in (False, True):
            grid = itertools.product((120, 240, 600), (0.95, 0.99), (-0.9, -0.5))
            cells = {
                f"T {T}, ρ {root}, corr {corr}": ivx_rejects(T, count, root, corr, moving, T + count, samples)
                for T, root, corr in grid
            }
            what = "variance moves with the predictor" if moving else "constant variance"
            gates.add(f"IVX-Wald, {count} predictors, {what}", cells, samples, low, high)


def industries_cover(groups, firms, within, between, seed, samples):
    """Coverage of industry means, firms, new firms and plain means of peers; width for firms over τ and ω known."""
    rng, hits, ratios = np.random.default_rng(seed), [], []
    codes = np.repeat(np.arange(groups), firms)
    for _ in range(samples):
        mu = 1.0 + between * rng.standard_normal(groups)
        true = mu[codes] + within * rng.standard_normal(len(codes))
        new = mu + within * rng.standard_normal(groups)
        v = rng.uniform(0.08, 0.2, len(codes)) ** 2
        b = true + np.sqrt(v) * rng.standard_normal(len(codes))
        posterior = _Posterior.of(b, v, codes)
        firm, _ = posterior.of_firms(b, v, codes)
        mean, unseen = posterior.of_industries()
        bounds = []
        for means, variances in ((mean[0][:-1], mean[1][:-1]), firm, (unseen[0][:-1], unseen[1][:-1])):
            sd, normal = np.sqrt(variances), np.full(len(means), np.inf)
            bounds.append([mixture_quantile(q, means, sd, normal, posterior.weights) for q in (0.025, 0.975)])
        inside = [
            np.mean((low <= truth) & (truth <= high))
            for (low, high), truth in zip(bounds, (mu, true, new), strict=True)
        ]
        first = codes == 0
        weights = np.full(firms, 1.0 / firms)
        estimation, between = _errors_of_mean(b[first], weights, np.diag(v[first]))
        reach = max(1.959964 * estimation, scipy.special.stdtrit(firms - 1, 0.975) * between)
        inside.append(abs(b[first].mean() - mu[0]) <= reach)
        hits.append(inside)
        pull = v / (v + within**2)
        of_mean = 1.0 / (np.bincount(codes, 1.0 / (v + within**2)) + 1.0 / between**2)
        known = 2 * 1.959964 * np.sqrt(v * (1 - pull) + pull**2 * of_mean[codes])
        ratios.append(np.median(bounds[1][1] - bounds[1][0]) / np.median(known))
    return *np.mean(hits, axis=0), float(np.median(ratios))


def industries(gates, samples=150):
    found = {}
    for seed, (groups, firms, within) in enumerate(itertools.product((5, 15), (6, 20), (0.02, 0.1, 0.25, 0.5))):
        found[f"{groups} industries of {firms}, τ {within}"] = industries_cover(
            groups, firms, within, 0.25, seed, samples
        )
    mean, firm, new, plain, width = ({name: row[k] for name, row in found.items()} for k in range(5))
    spread = {name: share for name, share in firm.items() if "τ 0.02" not in name}
    count = samples * 5
    gates.add("industry means, two-level Bayes, 95 % interval covers", mean, count, 92, 98.5)
    gates.add("mean of peers, t with n − 1 degrees of freedom, covers", plain, samples, 92, 98.5)
    gates.add("firms, two-level Bayes, covers", firm, count * 6, 93)
    gates.add("firms, τ from 0.1, covers", spread, count * 6, 93, 97.5)
    gates.add("firms not in the sample, covers", new, count, 90)
    gates.add("firms, median width over that with τ and ω known", width, samples, None, 1.3, percent=False)


def persistent_scores(gates, samples=2000):
    """How often the warning of autocorrelated scores is given, and rejections with prewhitened errors."""
    for root, low, high in ((0.9, 95, None), (0.0, None, 5)):
        fires, rejects = {}, {}
        for rows in (60, 120, 300):
            rng, fired, rejected = np.random.default_rng(rows), 0, 0
            for _ in range(samples):
                e = scipy.signal.lfilter([1.0], [1.0, -root], rng.standard_normal((2, rows + 100)), axis=1)[
                    :, 100:
                ]
                X = np.column_stack([np.ones(rows), e[0]])
                pull = np.linalg.pinv(X)
                b = pull @ e[1]
                residuals = (e[1] - X @ b)[:, None]
                fired += score_autocorrelation(pull, residuals, np.arange(rows))[1, 0] > 0.3
                variance = cosine_covariance(pull, residuals, np.arange(rows), True)[0, 1, 1]
                rejected += 2 * scipy.special.stdtr(cosine_count(rows), -abs(b[1]) / np.sqrt(variance)) < 0.05
            fires[f"T {rows}"], rejects[f"T {rows}"] = fired / samples, rejected / samples
        gates.add(f"autocorrelated scores warned of, AR({root:g})", fires, samples, low, high)
        some = {name: share for name, share in rejects.items() if name != "T 60"}
        gates.add(f"prewhitened cosine errors, AR({root:g}), T = 60: rejects", {"T 60": rejects["T 60"]}, samples)
        gates.add(f"prewhitened cosine errors, AR({root:g}), T from 120: rejects", some, samples, None, 10.5)


GROUPS = {
    "industries": industries,
    "persistent": persistent_scores,
    "cost": cost_of_equity,
    "step_down": step_down_alphas,
    "joint": joint_alphas,
    "weak": weak_factors,
    "instruments": weak_instruments,
    "ivx": predictive,
}


def run(*names):
    gates = Gates()
    for name in names or GROUPS:
        GROUPS[name](gates)
    return "\n".join([HEAD, *gates.lines])


if __name__ == "__main__":
    print(run(*sys.argv[1:]))
