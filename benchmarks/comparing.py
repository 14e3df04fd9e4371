"""Comparing models and estimates: size of the tests, coverage of hierarchical costs, recovery of implied costs

5 % tests in simulated worlds where the null is true. Spanning: one to 25 test assets on two benchmark assets, residual variance constant
or moving with the benchmark. Sharpe ratios: two equal ones, fat tails or volatility clusters. Confidence set: share of worlds whose 90 % set
holds the best of five forecasts. Hierarchical costs: 95 % intervals for 60 companies and 60 new ones in six industries, three factors; width
as a multiple of that with the variances known. Standard errors of simulation are in parentheses.
"""

import os

import numpy as np
import pandas as pd

import ultrum as ul

WORLDS = int(os.environ.get("ULTRUM_BENCHMARK_WORLDS", "400"))
SPANNING = ((1, 240), (10, 240), (25, 240), (1, 600), (10, 600), (25, 600))


def share(hits):
    p = float(np.mean(hits))
    return f"{100 * p:.1f} ({100 * np.sqrt(p * (1 - p) / len(hits)):.1f})"


def tables(values, names, **facts):
    months = pd.period_range("1970-01", periods=len(values), freq="M")
    return ul.SeriesTable.from_pandas(pd.DataFrame(values, months, names), measure="return", **facts)


def spanning(rng, count, rows, moving, total):
    f = rng.normal(0.006, 0.045, (rows, 2))
    loads = rng.normal(1.0, 0.3, (2, count))
    if total:
        loads[1] = 1.0 - loads[0]
    size = 0.025 * (1.0 + np.abs(f[:, :1] - 0.006) / 0.045) if moving else 0.045
    y = f @ loads + size * rng.normal(size=(rows, count))
    facts = {} if total else {"excess_of": "bill"}
    return ul.spanning_test(tables(y, [f"a{k}" for k in range(count)], **facts), tables(f, ["m", "s"], **facts), how="robust",
                            draws=199, seed=int(rng.integers(1 << 30))).p_value  # fmt: skip


def sharpe(rng, rows, clusters):
    common = rng.normal(size=(rows, 1))
    shocks = 0.6 * common + 0.8 * rng.standard_t(5, (rows, 2)) * np.sqrt(0.6)
    if clusters:
        level = np.zeros(rows)
        for t in range(1, rows):
            level[t] = 0.95 * level[t - 1] + 0.3 * rng.normal()
        shocks = shocks * np.exp(level - level.mean())[:, None] ** 0.5
    return ul.sharpe_ratio_tests(tables(0.01 + 0.05 * shocks, ["a", "b"], excess_of="bill"), "a", draws=199,
                                 seed=int(rng.integers(1 << 30))).differences["p"].iloc[0]  # fmt: skip


def best_in_set(rng, rows):
    losses = rng.normal([1.0, 1.02, 1.05, 1.1, 1.2], 0.5, (rows, 5)) + 0.3 * rng.normal(size=(rows, 1))
    frame = pd.DataFrame(losses, columns=list("abcde"))
    return "a" in ul.model_confidence_set(frame, draws=199, seed=int(rng.integers(1 << 30))).included


def hierarchical(rng, tau):
    from ultrum.core.pricing import hierarchical_costs as h

    count, lam = 60, np.array([0.06, 0.03, 0.03])
    codes, z = rng.integers(0, 6, count), rng.normal(size=(count, 2))
    middle = np.array([1.0, 0.2, 0.1]) + rng.normal(0, 0.2, (6, 3))[codes] + z @ rng.normal(0, 0.1, (2, 3))
    beta, new = (middle + rng.normal(0, tau, (count, 3)) for _ in range(2))
    corr = np.array([[1, 0.3, 0], [0.3, 1, -0.2], [0, -0.2, 1]])
    V = rng.uniform(0.1, 0.4, (count, 1, 1)) ** 2 * corr
    b = beta + np.einsum("nkl,nl->nk", np.linalg.cholesky(V), rng.normal(size=(count, 3)))
    sample = h._Sample(
        pd.RangeIndex(count), b, V, codes, list("abcdef"), z, ["x", "y"], np.zeros(2), np.ones(2), ""
    )
    drawn = h._gibbs(sample, 999, int(rng.integers(1 << 30)))
    low, high = np.quantile(drawn.own @ lam, [0.025, 0.975], axis=0)
    fresh = np.quantile(h._new_draws(drawn, codes, z, rng) @ lam, [0.025, 0.975], axis=0)
    known = 3.92 * np.sqrt(variance_of_known(V, codes, z, tau**2 * np.eye(3), 0.04 * np.eye(3), lam))
    inside = (low <= beta @ lam) & (beta @ lam <= high)
    return (
        inside.mean(),
        ((fresh[0] <= new @ lam) & (new @ lam <= fresh[1])).mean(),
        np.median((high - low) / known),
    )


def variance_of_known(V, codes, z, T, omega, lam):
    """Posterior variance along the premia where the variances are known and all means are estimated."""
    design = np.column_stack([np.ones(len(z)), z, codes[:, None] == np.arange(6)])
    terms = design.shape[1]
    weight = np.linalg.inv(V + T)
    gram = np.einsum("np,nkl,nq->pkql", design, weight, design)
    for place in range(3, terms):
        gram[place, :, place, :] += np.linalg.inv(omega)
    spread = np.linalg.inv(gram.reshape(3 * terms, -1)).reshape(terms, 3, terms, 3)
    of_mean = np.einsum("np,pkql,nq->nkl", design, spread, design)
    pull = V @ weight  # weight of what peers imply
    own = np.linalg.inv(np.linalg.inv(V) + np.linalg.inv(T))
    return np.einsum("k,nkl,l->n", lam, own + pull @ of_mean @ pull.swapaxes(1, 2), lam)


def implied():
    world = ul.practice.forecasts()
    rows = []
    for model, options in (("two-stage", {"long_run_growth": 0.025}), ("abnormal earnings growth", {"long_run_growth": 0.025}),
                           ("residual income", {"fade_years": 10})):  # fmt: skip
        for words, bias in (("as published", 0.0), ("bias removed", world.true_bias)):
            off = 100 * (
                ul.implied_cost_of_equity(world.table, model=model, bias=bias, **options).value - world.true_costs
            )
            rows.append(f"| {model}, {words} | {off.mean():+.2f} | {off.std():.2f} |")
    return rows


def run() -> str:
    rng = np.random.default_rng(2026)
    lines = ["| spanning, robust | constant variance, % | moving variance, % |", "|---|---|---|"]
    for total in (False, True):
        for count, rows in SPANNING:
            shares = [
                share([spanning(rng, count, rows, m, total) <= 0.05 for _ in range(WORLDS)])
                for m in (False, True)
            ]
            kind = "total" if total else "excess"
            lines.append(f"| {kind} returns, N = {count}, T = {rows} | {' | '.join(shares)} |")
    lines += ["", "| Sharpe ratios, bootstrap | fat tails, % | with volatility clusters, % |", "|---|---|---|"]
    for rows in (120, 240, 600):
        shares = [share([sharpe(rng, rows, c) <= 0.05 for _ in range(WORLDS)]) for c in (False, True)]
        lines.append(f"| T = {rows} | {' | '.join(shares)} |")
    lines += ["", "| 90 % confidence set holds the best | % |", "|---|---|"]
    lines += [f"| {n} forecasts | {share([best_in_set(rng, n) for _ in range(WORLDS)])} |" for n in (15, 60, 240)]
    lines += ["", "| hierarchical costs | companies, % | new companies, % | width |", "|---|---|---|---|"]
    for tau in (0.1, 0.25, 0.4):
        made = np.array([hierarchical(rng, tau) for _ in range(max(20, WORLDS // 10))])
        spread = 100 * made.std(axis=0, ddof=1) / np.sqrt(len(made))
        means = 100 * made.mean(axis=0)
        cells = [f"{means[k]:.1f} ({spread[k]:.1f})" for k in (0, 1)]
        lines.append(f"| true loadings differ by {tau} | {' | '.join(cells)} | {means[2] / 100:.2f} |")
    lines += [
        "",
        "| implied cost, practice world | mean error, points | standard deviation |",
        "|---|---|---|",
        *implied(),
    ]
    return "\n".join(lines)
