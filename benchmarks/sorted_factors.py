"""Sorted factors and monotonicity tests: coverage of true premia, size of the tests

Coverage: the share of practice worlds in which the 95 % interval of a sorted factor holds the mean of what its stocks were expected to
earn. Size: monotonicity tests of portfolios with equal means, 5 % tests; the second test rejects only where every step is significant, so
that equal means are far inside its null.
"""

import os
import sys

import numpy as np
import pandas as pd

import ultrum as ul

WORLDS = int(os.environ.get("ULTRUM_BENCHMARK_WORLDS", "400"))


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
    return "\n\n".join("\n".join(part()) for part in (size, coverage))
