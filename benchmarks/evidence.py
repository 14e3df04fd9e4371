"""Simulation evidence: rejection rates of 5 % tests and coverage of 95 % intervals, 2,000 samples a cell

Every cell has a seed of its own. Cells with a range must lie in it; the others are harsher and published as
measured, with a word of advice below.
"""

import sys

import numpy as np
import pandas as pd
import scipy.signal
import scipy.special
import scipy.stats

import ultrum as ul
from ultrum.core.pricing.alpha_and_multiple_tests import _exact
from ultrum.core.regression.engine.rolling_windows import Recipe, Rows, estimate

SAMPLES = 2000


def months(count):
    return pd.period_range("1970-01", periods=count, freq="M")


def panel_of(returns, factors):
    """A panel of excess returns and factors, both (T, N)."""
    index = months(len(returns))
    bill = ul.TimeSeries.from_pandas(pd.Series(0.0, index), name="bill", measure="return")
    f = pd.DataFrame(factors, index, [f"f{k + 1}" for k in range(factors.shape[1])])
    assets = pd.DataFrame(returns, index, [f"a{i}" for i in range(returns.shape[1])])
    return ul.align(
        assets=assets, factors=ul.SeriesTable.from_pandas(f, measure="return", excess_of="bill"), risk_free=bill
    )


def ar(rng, rows, columns, rho):
    """Autoregressive series of unit variance, each column its own."""
    shocks = rng.standard_normal((rows + 100, columns)) * np.sqrt(1 - rho**2)
    made = np.zeros_like(shocks)
    for t in range(1, len(shocks)):
        made[t] = rho * made[t - 1] + shocks[t]
    return made[100:]


def hac_rates(rows, rho, spread_by_x, seed):
    """The same with a regressor of its own in each sample."""
    rng = np.random.default_rng(seed)
    rejected = []
    limit = scipy.special.stdtrit(rows - 2, 0.975)
    for _ in range(SAMPLES):
        x, e = ar_pair(rng, rows, rho)
        e = e * np.sqrt(0.5 + 0.5 * x**2) if spread_by_x else e
        found = estimate(
            Rows(e[:, None], np.column_stack([np.ones(rows), x]), True), np.array([0]), np.array([rows]),
            Recipe("hac", None, 3),
        )  # fmt: skip
        rejected.append(np.abs(found.coefficients[0, :, 0]) > limit * found.standard_errors[0, :, 0])
    return list(np.mean(rejected, axis=0))


def automatic_rates(rows, rho, seed):
    """The same with the plug-in bandwidth."""
    rng = np.random.default_rng(seed)
    rejected = []
    for _ in range(SAMPLES):
        x, e = ar_pair(rng, rows, rho)
        rejected.append(ul.regress(e, x, lags="automatic").p_values.to_numpy() < 0.05)
    return list(np.mean(rejected, axis=0))


def ar_pair(rng, rows, rho):
    shocks = rng.standard_normal((2, rows + 100)) * np.sqrt(1 - rho**2)
    return scipy.signal.lfilter([1.0], [1.0, -rho], shocks, axis=1)[:, 100:]


def joint_alpha_rates(rows, assets, count, seed, tails=None):
    """Rejection rate of the exact test of zero alphas."""
    rng = np.random.default_rng(seed)
    rejected = 0
    for _ in range(SAMPLES):
        f = rng.normal(0.005, 0.04, (rows, count))
        e = rng.standard_normal((rows, assets)) if tails is None else rng.standard_t(tails, (rows, assets))
        y = f @ rng.normal(0.9, 0.4, (count, assets)) + 0.05 * e
        p = scipy.stats.f.sf(_exact(y, f)[1], assets, rows - assets - count)
        rejected += p < 0.05
    return rejected / SAMPLES


def one_alpha_rate(rows, seed):
    """A single classical t test of alpha."""
    rng = np.random.default_rng(seed)
    f = rng.normal(0.005, 0.04, rows)
    y = pd.DataFrame(0.9 * f[:, None] + rng.normal(0, 0.05, (rows, SAMPLES)))
    return float((ul.regress(y, f, errors="classical").p_values["constant"] < 0.05).mean())


def shanken_coverage(rows, assets, count, spread, residual, seed, constant=True):
    """Share of samples whose interval holds the true premium, over all factors."""
    rng = np.random.default_rng(seed)
    premia = np.array([0.005, 0.002, 0.003])[:count]
    inside = []
    betas = rng.normal(0, spread, (count, assets))
    betas[0] += 1.0
    for _ in range(SAMPLES):
        f = premia + rng.normal(0, 0.04, (rows, count))
        y = f @ betas + rng.normal(0, residual, (rows, assets))
        ends = ul.two_pass(panel_of(y, f), constant=constant).interval()
        true = np.r_[[0.0] if constant else [], premia]
        inside.append((ends["low"].to_numpy() <= true) & (true <= ends["high"].to_numpy()))
    return np.mean(inside, axis=0)


def cost_coverage(rows, window, rho, seed, count=5):
    """Share of samples whose interval holds the true cost of equity: premia from all rows, beta from the last."""
    rng = np.random.default_rng(seed)
    premia = np.array([0.06, 0.02, 0.03, 0.04, 0.01])[:count]
    beta = np.array([0.9, 0.3, 0.2, -0.1, 0.25])[:count]
    true = 0.03 + beta @ premia
    inside, drawn = [], []
    index = months(rows)
    for k in range(SAMPLES):
        f = premia / 12 + 0.04 * ar(rng, rows, count, rho)
        y = f @ beta + rng.normal(0, 0.06, rows)
        X = pd.DataFrame(f, index, [f"f{i}" for i in range(count)])
        table = ul.regress(pd.DataFrame({"A": y[-window:]}, index[-window:]), X.iloc[-window:])
        history = {n: ul.TimeSeries.from_pandas(X[n], measure="return", excess_of="bill") for n in X}
        more = {"draws": 499, "seed": k} if k < 400 else {}
        cost = ul.cost_of_equity(table, premia=history, risk_free=0.03, **more)
        low, high = cost.interval().loc["A"]
        inside.append(low <= true <= high)
        if more:
            low, high = cost.interval(method="bootstrap").loc["A"]
            drawn.append(low <= true <= high)
    return np.mean(inside), np.mean(drawn)


class Page:
    """Rows of the table, and whether each is where it must."""

    def __init__(self):
        self.lines, self.outside = [], []

    def add(self, what, share, low=None, high=None):
        percent = 100 * float(share)
        span = "" if low is None else f"{low:g} to {high:g}"
        verdict = "" if low is None else ("inside" if low <= percent <= high else "OUTSIDE")
        if verdict == "OUTSIDE":
            self.outside.append(what)
        self.lines.append(f"| {what} | {percent:.1f} | {span} | {verdict} |")
        print(self.lines[-1], file=sys.stderr)


def run():
    page = Page()
    page.add("t test of one alpha, classical, T = 60", one_alpha_rate(60, 1), 3.5, 6.5)
    page.add("joint alpha, exact, N = 10, T = 120, K = 1", joint_alpha_rates(120, 10, 1, 2), 3.5, 6.5)
    page.add("joint alpha, exact, N = 25, T = 120, K = 3", joint_alpha_rates(120, 25, 3, 3), 3.5, 6.5)
    page.add("joint alpha, exact, Student's t(4) errors, N = 10, T = 120", joint_alpha_rates(120, 10, 1, 15, 4))
    a, b = hac_rates(600, 0.0, False, 20)
    page.add("Newey–West, T = 600, iid, constant", a, 4, 7)
    page.add("Newey–West, T = 600, iid, slope", b, 4, 7)
    page.add("Newey–West, T = 600, spread moves with x, slope", hac_rates(600, 0.0, True, 21)[1], 5, 8)
    a, b = hac_rates(600, 0.3, False, 22)
    page.add("Newey–West, T = 600, AR(0.3), constant", a, 5, 9)
    page.add("Newey–West, T = 600, AR(0.3), slope", b, 4, 7.5)
    for rho, rows in ((0.5, 600), (0.9, 600), (0.0, 60), (0.3, 60)):
        a, b = hac_rates(rows, rho, False, int(1000 * rho) + rows)
        page.add(f"Newey–West, T = {rows}, AR({rho:g}), constant", a)
        page.add(f"Newey–West, T = {rows}, AR({rho:g}), slope", b)
    for rho in (0.5, 0.9):
        a, b = automatic_rates(600, rho, int(1000 * rho) + 1)
        page.add(f"Newey–West with automatic lags, T = 600, AR({rho:g}), constant", a)
        page.add(f"Newey–West with automatic lags, T = 600, AR({rho:g}), slope", b)
    head = "| 5 % test | rejected, % | must lie in | |\n|---|---:|---:|---|"
    tests = "\n".join([head, *page.lines])
    page.lines = []
    for name, share in zip(
        ("constant", "f1", "f2", "f3"), shanken_coverage(600, 25, 3, 0.4, 0.02, 30), strict=True
    ):
        page.add(f"Shanken, 25 portfolios, T = 600, K = 3, {name}", share, 93, 97)
    for name, share in zip(("constant", "f1"), shanken_coverage(240, 24, 1, 0.3, 0.08, 31), strict=True):
        page.add(f"Shanken, 24 single stocks, residual 8 % per month, T = 240, {name}", share)
    for rho, low, high in ((0.0, 92.5, 97), (0.1, 92.5, 97), (0.3, None, None)):
        share, drawn = cost_coverage(240, 60, rho, 40 + int(10 * rho))
        page.add(f"cost of equity, five factors, T = 240, window 60, factors AR({rho:g})", share, low, high)
        page.add("  the same by bootstrap (400 samples of 499 draws)", drawn)
    head = "| 95 % interval | covers, % | must lie in | |\n|---|---:|---:|---|"
    covers = "\n".join([head, *page.lines])
    return f"{tests}\n\n{covers}\n\n{ADVICE}"


ADVICE = """Advice. Newey–West errors with the default lags reject too often where both errors and factor are strongly
autocorrelated. Automatic lags bring AR(0.9) from 34 and 21 % down to 18 and 12 %, still too often, and do nothing for AR(0.5):
differences or innovations are the better question there. With 60 rows classical errors (first line) are nearer their nominal
size than Newey–West. The interval of premia held for two dozen single stocks too, where it is wide rather than wrong; and that
of costs of equity held in every cell, factors with AR(0.3) included."""
