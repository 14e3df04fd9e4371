"""How often the 95 % interval holds the true one-factor beta, over 500 reseeded worlds

Each world is simulated by its own seed, its daily prices become monthly total returns, and the
twenty regular companies are regressed on the market; the truth is `ul.practice.truth()`.
"""

import sys

import numpy as np

import ultrum as ul

WORLDS = 500
KINDS = ("hac", "classical", "hc1", "hc3")


def run():
    truth = ul.practice.truth()
    true = truth.one_factor[list(truth.regular)]
    inside = {kind: [] for kind in KINDS}
    for seed in range(1, WORLDS + 1):
        panel = ul.practice.panel(seed)
        for kind in KINDS:
            interval = (
                ul.factor_betas(panel, ["market"], errors=kind).interval("market").loc[true.index]
            )
            inside[kind].append(((interval["low"] <= true) & (true <= interval["high"])).mean())
        if seed % 50 == 0:
            print(f"{seed} of {WORLDS} worlds", file=sys.stderr)
    lines = [
        "| errors | coverage, % | its standard error, % | least in one world of 20, % |",
        "|---|---:|---:|---:|",
    ]
    for kind, shares in inside.items():
        spread = np.std(shares, ddof=1) / WORLDS**0.5
        lines.append(
            f"| {kind} | {100 * np.mean(shares):.2f} | {100 * spread:.2f} | {100 * min(shares):.0f} |"
        )
    return "\n".join(lines)
