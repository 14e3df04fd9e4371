"""How often intervals hold the truth, over 500 reseeded worlds, and the shipped world beside its truth

Each world is simulated by its own seed, its daily prices become monthly total returns, and everything is estimated as a
user would; the truth is `ul.practice.truth()`.
"""

import sys

import numpy as np
import pandas as pd

import ultrum as ul
from ultrum.practice.setting import BREAK_DAY, BROKEN, THIN

WORLDS = 500
KINDS = ("hac", "classical", "hc1", "hc3")


class Tally:
    """Shares covered, by what and world."""

    def __init__(self):
        self.shares = {}

    def add(self, what, inside):
        self.shares.setdefault(what, []).append(float(np.mean(inside)))

    def lines(self):
        for what, shares in self.shares.items():
            spread = np.std(shares, ddof=1) / len(shares) ** 0.5
            yield f"| {what} | {100 * np.mean(shares):.2f} | {100 * spread:.2f} |"


def between(ends, true):
    return (ends["low"] <= true) & (true <= ends["high"])


def histories(panel):
    return {str(f): ul.TimeSeries(panel.factors[f], panel.about[str(f)]) for f in panel.factors}


def true_costs(truth, rate):
    return rate + truth.loadings @ truth.premia


def one_world(seed, truth, tally):
    panel = ul.practice.panel(seed)
    regular = list(truth.regular)
    true = truth.one_factor[regular]
    for kind in KINDS:
        table = ul.factor_betas(panel, ["market"], errors=kind)
        tally.add(
            f"market beta, {kind} errors", between(table.interval("market").loc[regular], true)
        )
    four = ul.factor_betas(panel)
    for factor in panel.factors:
        ends = four.interval(str(factor)).loc[regular]
        tally.add(
            f"{factor} loading of four factors", between(ends, truth.loadings.loc[regular, factor])
        )
    table, lagged = ul.factor_betas(panel, ["market"]), ul.lagged_beta(panel)
    tally.add(
        "thin trader, plain beta",
        between(table.interval("market").loc[[THIN]], truth.one_factor[THIN]),
    )
    reach = 1.97 * lagged.standard_error[THIN]
    tally.add("thin trader, lagged beta", abs(lagged.beta[THIN] - truth.one_factor[THIN]) <= reach)
    found = ul.break_test(four.fit(BROKEN), how="sup-f", draws=99)
    day = pd.Period(BREAK_DAY, "M")
    tally.add("break of the broken beta found at 5 %", found.p_value < 0.05)
    tally.add("date of the break", found.between[0] <= day <= found.between[1])
    premia = {name: ul.premium(history) for name, history in histories(panel).items()}
    for name, made in premia.items():
        reach = 1.97 * made.standard_error
        tally.add("premium of a factor", abs(made.value - truth.premia[name]) <= reach)
    cost = ul.cost_of_equity(four, premia=premia, risk_free=panel.rate)
    tally.add(
        "cost of equity, four factors",
        between(cost.interval().loc[regular], true_costs(truth, cost.risk_free)[regular]),
    )


def shipped(truth):
    """Estimate beside truth for every company of the shipped world."""
    panel = ul.practice.panel()
    one, four = ul.factor_betas(panel, ["market"]), ul.factor_betas(panel)
    cost = ul.cost_of_equity(four, premia=histories(panel), risk_free=panel.rate)
    ends, width, true = one.interval("market"), cost.interval(), true_costs(truth, cost.risk_free)
    lines = [
        "| company | true beta | beta | 95 % | true cost, % | cost, % | 95 % |",
        "|---|---:|---:|---|---:|---:|---|",
    ]
    for a in one.assets:
        lines.append(
            f"| {a} | {truth.one_factor[a]:.2f} | {one.coefficients.loc[a, 'market']:.2f} | "
            f"{ends.loc[a, 'low']:.2f} to {ends.loc[a, 'high']:.2f} | {100 * true[a]:.1f} | {100 * cost.value[a]:.1f} | "
            f"{100 * width.loc[a, 'low']:.1f} to {100 * width.loc[a, 'high']:.1f} |"
        )
    return "\n".join(lines)


def run():
    truth, tally = ul.practice.truth(), Tally()
    for seed in range(1, WORLDS + 1):
        one_world(seed, truth, tally)
        if seed % 50 == 0:
            print(f"{seed} of {WORLDS} worlds", file=sys.stderr)
    head = "| 95 % interval of | covers, % | its standard error, % |\n|---|---:|---:|"
    return (
        "\n".join([head, *tally.lines()])
        + f"\n\nThe shipped world beside its truth:\n\n{shipped(truth)}\n\n{REASONS}"
    )


REASONS = ""
