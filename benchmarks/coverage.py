"""How often intervals hold the truth, over 500 reseeded worlds, and the shipped world compared with its truth

Each world is simulated by its own seed, its daily prices become monthly total returns, and everything is estimated as a
user would; the truth is `ul.practice.truth()`.
"""

import sys

import numpy as np
import pandas as pd

import ultrum as ul
from tools.write_practice_files import carry_closes
from ultrum.practice import simulated_exchange
from ultrum.practice.simulated_world import BREAK_DAY, BROKEN, CODES, THIN, simulate, trading_mask

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
    return {str(f): ul.TimeSeries(panel.factors[f], panel.metadata[str(f)]) for f in panel.factors}


def true_costs(truth, rate):
    return rate + truth.loadings @ truth.premia


def thin_panel(seed, frequency):
    """The thin trader with the stale prices that are posted, and the market, weekly or monthly."""
    world = simulate(seed)
    close, dividends = simulated_exchange.closes(world)
    column, days = CODES.index(THIN), pd.DatetimeIndex(world.days)
    was_traded = np.ones(close.shape, dtype=bool)
    was_traded[:, column] = trading_mask(seed, len(close))
    posted = pd.Series(carry_closes(close, was_traded)[:, column], days, name=THIN)
    prices = ul.TimeSeries.from_pandas(posted, measure="price", currency="QML", frequency="B")
    bill = pd.Series(world.daily_bill, days, name="bill")
    bill = ul.TimeSeries.from_pandas(bill, measure="return", frequency="B")
    market = pd.Series(world.factors[:, 0], days, name="market")
    market = ul.TimeSeries.from_pandas(market, measure="return", excess_of="bill", frequency="B")
    returns = ul.returns(prices, frequency=frequency, dividends=dividends[dividends["asset"] == THIN])
    return ul.align(assets=returns, factors=ul.to_frequency(market, frequency, risk_free=bill),
                    risk_free=ul.to_frequency(bill, frequency), frequency=frequency)  # fmt: skip


def one_world(seed, truth, tally):
    panel = ul.practice.panel(seed)
    regular = list(truth.regular)
    true = truth.one_factor[regular]
    for kind in KINDS:
        table = ul.factor_betas(panel, ["market"], errors=kind)
        tally.add(f"market beta, {kind} errors", between(table.interval("market").loc[regular], true))
    four = ul.factor_betas(panel)
    for factor in panel.factors:
        ends = four.interval(str(factor)).loc[regular]
        tally.add(f"{factor} loading of four factors", between(ends, truth.loadings.loc[regular, factor]))
    for frequency in ("W", "M"):
        stale = thin_panel(seed, frequency)
        plain, lagged = ul.factor_betas(stale, ["market"]), ul.dimson_beta(stale)
        what = f"thin trader, {'weekly' if frequency == 'W' else 'monthly'} returns"
        tally.add(f"{what}, plain beta", between(plain.interval("market"), truth.one_factor[THIN]))
        reach = 1.97 * lagged.standard_error[THIN]
        tally.add(f"{what}, lagged beta", abs(lagged.beta[THIN] - truth.one_factor[THIN]) <= reach)
    found = ul.break_test(four.fit(BROKEN), how="sup-f", draws=99)
    day = pd.Period(BREAK_DAY, "M")
    tally.add("break of the broken beta found at 5 %", found.p_value < 0.05)
    tally.add("date of the break", found.between[0] <= day <= found.between[1])
    if found.p_value < 0.05:
        tally.add("date of the break, where one is found", found.between[0] <= day <= found.between[1])
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
    """Estimate and truth for every company of the shipped world."""
    panel = ul.practice.panel()
    one, four = ul.factor_betas(panel, ["market"]), ul.factor_betas(panel)
    cost = ul.cost_of_equity(four, premia=histories(panel), risk_free=panel.rate)
    ends, width, true = one.interval("market"), cost.interval(), true_costs(truth, cost.risk_free)
    lines = [
        "| company | true beta | beta | 95 % | true cost, % | cost, % | 95 % |",
        "|---|---:|---:|---|---:|---:|---|",
    ]
    return "\n".join([*lines, *(row_of(a, truth, one, ends, true, cost, width) for a in one.assets)])


def row_of(a, truth, one, ends, true, cost, width):
    return (
        f"| {a} | {truth.one_factor[a]:.2f} | {one.coefficients.loc[a, 'market']:.2f} | "
        f"{ends.loc[a, 'low']:.2f} to {ends.loc[a, 'high']:.2f} | {100 * true[a]:.1f} | {100 * cost.value[a]:.1f} | "
        f"{100 * width.loc[a, 'low']:.1f} to {100 * width.loc[a, 'high']:.1f} |"
    )


def run():
    truth, tally = ul.practice.truth(), Tally()
    for seed in range(1, WORLDS + 1):
        one_world(seed, truth, tally)
        if seed % 50 == 0:
            print(f"{seed} of {WORLDS} worlds", file=sys.stderr)
    head = "| 95 % interval of | covers, % | its standard error, % |\n|---|---:|---:|"
    return (
        "\n".join([head, *tally.lines()])
        + f"\n\nThe shipped world compared with its truth:\n\n{shipped(truth)}\n\n{REASONS}"
    )


REASONS = """What is not between 93 and 97 % has its reason. The plain beta of the thin trader is too low, the more so the shorter
the period: a price that was not traded today tells today's market tomorrow; the lagged beta mends it. A break is found in
about four worlds of five, since the jump is half hidden by the company's own noise; the interval of its date holds whether it
is found or not, and is wide. Loadings with Newey–West errors cover a little less than 95 % in 250 months of returns whose
volatility moves; HC3 errors are nearer."""
