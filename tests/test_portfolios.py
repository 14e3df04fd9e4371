"""Sorted portfolios against a world on paper, a slow computation with dictionaries, and the practice world's truth."""

import dataclasses
import itertools
import json
import statistics
import tempfile
import unittest
from unittest import mock

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import Scratch, command, months
from ultrum.core.portfolios import breakpoints_and_holdings, formation
from ultrum.core.portfolios.factors_from_sorts import formula_weights
from ultrum.core.series.metadata import Step
from ultrum.errors import AlignmentError, ArgumentError, EstimationError, UnitError
from ultrum.large import block_estimates
from ultrum.practice import simulated_exchange


def frame(rows, start="2024-01", **columns):
    return pd.DataFrame(columns, months(rows, start))


def quantile(values, fraction):
    """Linear between order statistics."""
    ordered = sorted(values)
    place = fraction * (len(ordered) - 1)
    low = int(place + 1e-9)
    high = min(low + 1, len(ordered) - 1)
    return ordered[low] + (place - low) * (ordered[high] - ordered[low])


def slow_sort(returns, by, fractions, *, market=None, dependent=False, hold=1, every=1, rebalance=False):
    """Returns of portfolios by period and portfolio, with dictionaries and no arrays."""
    r, names = returns.to_numpy(), list(returns)
    cohorts, made = [], {}
    for t in range(len(r)):
        active = [c for c in cohorts if c["first"] <= t <= c["last"]]
        earned = {}
        for cohort in active:
            for label, before in cohort["held"].items():
                begin = cohort["begin"][label]
                wealth = {a: begin[a] for a in before} if rebalance else before
                alive = {a: w for a, w in wealth.items() if np.isfinite(r[t, names.index(a)])}
                total = sum(alive.values())
                if total:
                    gain = sum(w * r[t, names.index(a)] for a, w in alive.items()) / total
                    earned.setdefault(label, []).append(gain)
                cohort["held"][label] = {a: w * (1 + r[t, names.index(a)]) for a, w in alive.items()}
        for label, gains in earned.items():
            made[t, label] = sum(gains) / len(gains)
        if (t + 1) % every == 0 and t + 1 < len(r):
            usable = [a for a in names if all(np.isfinite(by[k][a].iloc[t]) for k in by)
                      and (market is None or market[a].iloc[t] > 0)]  # fmt: skip
            groups = dict.fromkeys(usable, ())
            for k in by:
                parents = {g: [a for a in usable if groups[a] == g] for g in set(groups.values())}
                after = {}
                for inside in parents.values():
                    values = [by[k][a].iloc[t] for a in (inside if dependent else usable)]
                    points = [quantile(values, f) for f in fractions[k]]
                    for a in inside:
                        after[a] = (*groups[a], 1 + sum(by[k][a].iloc[t] > point for point in points))
                groups = after
            held = {}
            for a, group in groups.items():
                label = " ".join(f"{k} {g}" for k, g in zip(by, group, strict=True))
                held.setdefault(label, {})[a] = 1.0 if market is None else market[a].iloc[t]
            held = {g: {a: w / sum(ws.values()) for a, w in ws.items()} for g, ws in held.items()}
            cohorts.append(
                {"first": t + 1, "last": t + hold, "held": held, "begin": {g: dict(w) for g, w in held.items()}}
            )
    return made


class OnPaper(Scratch):
    """Six stocks, value-weighted in two groups, formed at the end of January and held for two months."""

    def setUp(self):
        super().setUp()
        self.r = frame(3, A=[0, 0.10, 0.0], B=[0, 0.00, 0.10], C=[0, 0.20, -0.10],
                       D=[0, -0.10, 0.10], E=[0, 0.00, np.nan], F=[0, 0.05, 0.00])  # fmt: skip
        self.score = frame(3, A=[1.0] * 3, B=[2.0] * 3, C=[3.0] * 3, D=[4.0] * 3, E=[5.0] * 3, F=[6.0] * 3)
        self.value = frame(3, A=[10.0] * 3, B=[30.0] * 3, C=[60.0] * 3, D=[50.0] * 3, E=[25.0] * 3, F=[25.0] * 3)

    def sort(self, **options):
        given = {"groups": 2, "weights": ul.SeriesTable.from_pandas(self.value, measure="stock"), "formation": "M",
                 "hold_for": 2} | options  # fmt: skip
        return ul.sort_portfolios(self.r, {"score": self.score}, **given)

    def test_returns_weights_turnover_and_breakpoint(self):
        made = self.sort(universe=pd.DataFrame({"asset": list("ABCDEF"), "entry": "", "exit": "2024-01-31"}))
        # low: 0.1·0.10 + 0.3·0 + 0.6·0.20 = 0.13; then 11/113·0 + 30/113·0.10 + 72/113·(−0.10) = −4.2/113
        # high: −0.5·0.10 + 0.25·0 + 0.25·0.05 = −0.0375; then E is sold: 45/71.25·0.10 + 26.25/71.25·0
        np.testing.assert_allclose(made.to_pandas(), [[0.13, -0.0375], [-4.2 / 113, 4.5 / 71.25]], rtol=1e-12)
        np.testing.assert_allclose(made.weights("2024-02").to_numpy()[:, 0], [0.1, 0.3, 0.6, 0, 0, 0])
        np.testing.assert_allclose(
            made.weights("2024-03").to_numpy()[:, 1], [0, 0, 0, 45 / 71.25, 0, 26.25 / 71.25]
        )
        self.assertEqual(made.breakpoints.iloc[0].tolist(), [3.5])
        # E was 25/96.25 of the portfolio; it is sold and the others are bought
        np.testing.assert_allclose(made.turnover.iloc[1], [0.0, 25 / 96.25], atol=1e-15)
        self.assertEqual(made.turnover.iloc[0].tolist(), [0.5, 0.5])
        self.assertEqual(made.sold.astype(str).values.tolist(), [["2024-03", "score 2", "E"]])
        self.assertEqual(made.counts.to_numpy().tolist(), [[3, 3], [3, 2]])
        self.assertIn("value-weighted, buy and hold", made.basis)
        self.assertIn("equal-weighted, rebalanced every period", self.sort(weights="equal", rebalance=True).basis)
        read = ul.SeriesTable.from_pandas(self.r, measure="return").with_metadata(trail=(Step("read in part"),))
        kept = ul.sort_portfolios(read, {"score": self.score}, groups=2).returns.metadata[0].trail
        self.assertEqual([step.action for step in kept], ["read in part", "sorted"])
        self.assertEqual(made.averages.iloc[0].tolist(), [2.0, 5.0])
        self.assertEqual(set(made.left_out["reason"]), {"not in the universe"})
        self.assertEqual(len(made.left_out), 12)  # of two later formations

    def test_a_spread_before_and_after_costs(self):
        made = self.sort(universe=pd.DataFrame({"asset": list("ABCDEF"), "entry": "", "exit": "2024-01-31"}))
        gross = ul.factor_from_portfolios(made, "score high - score low").to_pandas()
        np.testing.assert_allclose(gross.iloc[0], -0.0375 - 0.13)
        net = ul.factor_from_portfolios(made, "score high - score low", trading_cost=0.01).to_pandas()
        np.testing.assert_allclose(gross - net, [0.02, 0.02 * 25 / 96.25])

    def test_rules_that_leave_assets_out(self):
        prices = frame(3, A=[0.5] * 3, B=[5.0] * 3, C=[5.0] * 3, D=[5.0] * 3, E=[5.0] * 3)
        made = self.sort(prices=ul.SeriesTable.from_pandas(prices, measure="price"), min_price=1.0,
                         exclude={"bank": ["B"]}, hold_for=None)  # fmt: skip
        first = made.left_out[made.left_out["formation"].astype(str) == "2024-01"]
        self.assertEqual(dict(zip(first["asset"], first["reason"], strict=True)),
                         {"A": "price below the minimum", "B": "excluded: bank", "F": "no price"})  # fmt: skip
        self.assertEqual(made.membership.iloc[0].tolist(), ["", "", "score 1", "score 1", "score 2", ""])
        small = self.sort(min_assets=3, groups=(0.6,))
        self.assertEqual(set(small.left_out["reason"]), {"fewer assets in the portfolio than min_assets"})
        self.assertTrue(small.to_pandas()["score 2"].isna().all())
        self.assertTrue(small.turnover["score 2"].isna().all())
        low = self.sort(min_assets=3, groups=(0.3,))
        self.assertEqual(set(low.left_out["asset"]), {"A", "B"})
        self.assertTrue(low.to_pandas()["score 1"].isna().all())

    def test_breakpoints_of_a_subset_cutoffs_caps_and_delistings(self):
        for names, point in ((["A", "B"], 1.5), (["C"], 3.0)):
            self.assertEqual(self.sort(breakpoints_from=names).breakpoints.iloc[0].tolist(), [point])
        cut = self.sort(cutoffs={"score": [2.0]}, groups={}, hold_for=None)
        self.assertEqual(
            cut.membership.iloc[0].tolist(), ["score 1"] * 2 + ["score 2"] * 4
        )  # 2 is in the lower one
        capped = self.sort(cap=0.5).weights("2024-02")
        np.testing.assert_allclose(capped["score 1"][:3], [0.125, 0.375, 0.5])
        gone = pd.DataFrame({"asset": ["E", "D"], "date": ["2024-03-04", "2024-03-05"], "return": [-0.3, -0.5]})
        held = self.sort(delisting_returns=gone, hold_for=None, weights="equal").to_pandas()["score 2"]
        np.testing.assert_allclose(held.iloc[1], (1.1 * 0.5 - 1 - 0.3 + 0.0) / 3)

    def test_market_values_and_share_classes(self):
        def table(values, **facts):
            return ul.SeriesTable.from_pandas(frame(2, **values), **facts)

        price = table({"A": [2.0, 3.0], "B": [4.0, -1.0], "C": [1.0, 5.0]}, measure="price", currency="QML")
        shares = table({"A": [10.0, 10.0], "B": [20.0, 20.0], "C": [80.0, np.nan]}, measure="stock")
        value = ul.market_value(price, shares)
        np.testing.assert_array_equal(value.to_pandas(), [[20, 80, 80], [30, np.nan, np.nan]])
        whole = ul.combine_share_classes(value, {"C": "one", "A": "one", "B": "one"}).to_pandas()
        np.testing.assert_array_equal(
            whole, [[np.nan, 180, np.nan], [30, np.nan, np.nan]]
        )  # of B and C the first
        with self.refused(UnitError, "takes prices, then shares"):
            ul.market_value(shares, price)
        with self.refused(UnitError, "adjusted"):
            ul.market_value(price.with_metadata(income="total"), shares)

    def test_facts_of_assets_without_returns_are_listed(self):
        members = pd.DataFrame({"asset": [*"ABCDEF", "GONE"], "entry": "", "exit": ""})
        made = self.sort(universe=members, prices=self.value.assign(X=1.0), min_price=0.5)
        self.assertIn("not used: prices of 1 asset without returns (X)", made.basis)
        self.assertIn("not used: universe of 1 asset without returns (GONE)", made.basis)

    def test_refusals_name_the_fix(self):
        early = pd.DataFrame({"asset": ["A"], "date": ["2024-02-03"], "return": [-0.5]})
        wrong = pd.DataFrame({"asset": ["A"], "entry": ["2024-02-01"], "exit": ["2024-01-01"]})
        years, june = (pd.period_range("2010", periods=6, freq=f"Y-{end}") for end in ("DEC", "JUN"))
        annual = pd.DataFrame(np.random.default_rng(0).normal(0, 0.1, (6, 3)), years, list("abc"))
        with self.assertRaisesRegex(AlignmentError, "A-JUN"):  # years to June overlap those to December
            ul.sort_portfolios(annual, {"c": annual.set_axis(june)}, groups=2)
        for options, words in (({"min_assets": 0}, "1 or more"), ({"delisting_returns": early}, "returns after its delisting"), ({"formation": "D"}, "more often"),
                               ({"universe": wrong}, "before it enters"), ({"prices": self.value}, "min_price")):  # fmt: skip
            with self.assertRaisesRegex(ul.UltrumError, words):
                self.sort(**options)
        with self.refused(EstimationError, "2 or more groups"):
            self.sort(groups=1)
        with self.refused(UnitError, "excess return"):
            ul.sort_portfolios(
                ul.SeriesTable.from_pandas(self.r, measure="return", excess_of="bill"), {"s": self.score}
            )
        with self.refused(AlignmentError, "quarterly"):
            ul.sort_portfolios(self.r, {"s": self.score.set_axis(pd.period_range("2024Q1", periods=3, freq="Q"))})
        late = ul.standardise(ul.SeriesTable.from_pandas(self.score.mul([1, 2, 3], axis=0), measure="index"))
        with self.refused(UnitError, "hindsight"):
            ul.sort_portfolios(self.r, {"s": late})
        made = self.sort()
        for formula, words in (("score high", "sum to 1"), ("size high - score low", "size"), ("score 3 - score low", "1 to 2"),
                               ("score high - ", "without a corner"), ("score high score low - score 1", "twice")):  # fmt: skip
            with self.assertRaisesRegex(EstimationError, words):
                ul.factor_from_portfolios(made, formula)

    def test_small_market_values_one_formation_and_a_total_loss(self):
        whole = self.sort()
        tiny = self.sort(weights=ul.SeriesTable.from_pandas(self.value * 1e-9, measure="stock"))
        np.testing.assert_allclose(tiny.to_pandas(), whole.to_pandas(), rtol=1e-12)
        self.r.index = self.score.index = self.value.index = months(3, "2024-05")
        once = self.sort(formation="A-JUN", hold_for=None)
        self.assertEqual([str(f) for f in once.formations], ["2024-06"])
        self.assertAlmostEqual(once.to_pandas().loc["2024-07", "score 1"], (30 * 0.1 + 60 * -0.1) / 100)
        self.r.loc["2024-06", ["A", "B", "C"]] = -1.0
        lost = self.sort(formation="A-MAY", hold_for=None)
        np.testing.assert_allclose(lost.to_pandas()["score 1"], [-1.0, np.nan])
        for months_held in (1, 2):  # what is bought for nothing that was left
            again = self.sort(hold_for=months_held)
            self.assertEqual(again.turnover.loc["2024-07", "score 1"], 0.5)
        self.assertAlmostEqual(lost.to_pandas().loc["2024-06", "score 2"], (50 * -0.1 + 25 * 0.05) / 100)


class AgainstASlowComputation(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(3)
        names, index = [f"S{k}" for k in range(18)], months(30)

        def table(values, share):
            return pd.DataFrame(np.where(rng.random((30, 18)) < share, np.nan, values), index, names)

        self.r = table(rng.normal(0.01, 0.1, (30, 18)), 0.08)
        self.size = table(np.exp(rng.normal(size=(30, 18))), 0.05)
        self.value = table(rng.integers(0, 9, (30, 18)).astype(float), 0.05)  # ties
        self.by = {"size": self.size, "value": self.value}

    def market(self):
        return ul.SeriesTable.from_pandas(self.size, measure="stock")

    def test_every_rule_together(self):
        fractions = {"size": (0.5,), "value": (0.3, 0.7)}
        schedules = (
            (1, 1, False),
            (6, 1, False),
            (3, 3, True),
            (8, 3, True),
            (2, 3, False),
        )  # held, formed, rebalanced
        for dependent, weighted, (hold, every, rebalance) in itertools.product(
            (False, True), (False, True), schedules
        ):
            with self.subTest(dependent=dependent, weighted=weighted, hold=hold, every=every):
                made = ul.sort_portfolios(
                    self.r, self.by, groups=fractions, order="dependent" if dependent else "independent",
                    weights=self.market() if weighted else "equal", rebalance=rebalance, hold_for=hold,
                    formation="" if every == 1 else "Q",
                )  # fmt: skip
                slow = slow_sort(self.r, self.by, fractions, dependent=dependent, hold=hold, every=every,
                                 market=self.size if weighted else None, rebalance=rebalance)  # fmt: skip
                fast = {
                    (self.r.index.get_loc(t), p): v for (t, p), v in made.to_pandas().stack().dropna().items()
                }
                self.assertEqual(fast.keys(), slow.keys())
                for key, value in slow.items():
                    self.assertAlmostEqual(fast[key], value, 12)

    def test_turnover_is_that_of_the_weights(self):
        """An asset without a return is sold at the start of the period: what it was worth is traded."""
        for options in ({}, {"weights": self.market()}, {"formation": "Q", "hold_for": 6}):
            made, before = ul.sort_portfolios(self.r, {"size": self.size}, groups=3, **options), 0.0
            for month, turnover in made.turnover.iterrows():
                now = made.weights(str(month))
                np.testing.assert_allclose(turnover, 0.5 * (now - before).abs().sum(), atol=1e-12)
                before = now.mul(1.0 + self.r.loc[month].fillna(0.0), axis=0)
                before /= before.sum()

    def test_a_portfolio_that_lost_everything_buys_all_anew(self):
        for seed in range(30):  # weights that sum to one but for rounding
            r, score = frame(6, "2020-01", **dict.fromkeys("ABCDEF", 0.0)), np.tile(np.arange(6.0), (6, 1))
            r.iloc[2] = -1.0
            size = frame(
                6,
                "2020-01",
                **dict(zip("ABCDEF", np.exp(np.random.default_rng(seed).normal(size=6)), strict=True)),
            )
            made = ul.sort_portfolios(r, {"s": pd.DataFrame(score, r.index, r.columns)}, groups=2, weights=size)
            np.testing.assert_allclose(
                made.turnover.loc["2020-02":], [[0.5] * 2, [0.0] * 2, [0.5] * 2, [0.0] * 2, [0.0] * 2], atol=1e-12
            )

    def test_the_order_of_assets_and_rows_is_only_an_order(self):
        turned = np.random.default_rng(1).permutation(18)
        one = ul.sort_portfolios(self.r, self.by, groups=3)
        other = ul.sort_portfolios(
            self.r.iloc[::-1, turned], {k: v.iloc[::-1, turned[::-1]] for k, v in self.by.items()}, groups=3
        )
        pd.testing.assert_frame_equal(one.to_pandas(), other.to_pandas())
        pd.testing.assert_frame_equal(one.membership, other.membership[one.membership.columns])

    def test_nothing_moves_when_later_rows_go(self):
        whole = ul.sort_portfolios(self.r, self.by, groups=2, weights=self.market(), hold_for=3)
        for rows in (12, 21, 29):
            part = ul.sort_portfolios(self.r[:rows], {k: v[:rows] for k, v in self.by.items()}, groups=2, hold_for=3,
                                      weights=ul.SeriesTable.from_pandas(self.size[:rows], measure="stock"))  # fmt: skip
            np.testing.assert_array_equal(part.to_pandas(), whole.to_pandas()[: rows - 1])
            np.testing.assert_array_equal(part.turnover, whole.turnover[: rows - 1])
            np.testing.assert_array_equal(part.breakpoints, whole.breakpoints[:rows])
            self.assertTrue((part.membership == whole.membership[: len(part.membership)]).to_numpy().all())
            last = str(part.returns.index[-1])
            pd.testing.assert_frame_equal(part.weights(last), whole.weights(last))

    def test_two_hundred_groups_have_their_assets_in_order(self):
        score = pd.DataFrame([np.arange(1000.0)] * 3, months(3)).rename(columns="A{}".format)
        made = ul.sort_portfolios(score * 1e-5, {"s": score}, groups=200)
        self.assertEqual(set(made.counts.to_numpy().ravel()), {5})
        np.testing.assert_allclose(made.averages["s"].iloc[0], np.arange(2.0, 1000.0, 5.0))

    def test_two_assets_at_the_cap_leave_the_rest_to_the_others_in_proportion(self):
        flat = pd.DataFrame(0.0, months(3), list("ABCDE"))
        worth = ul.SeriesTable.from_pandas(flat.add([5.0, 4.0, 1.0, 0.5, 9.0]), measure="stock")
        score = flat.add([0.0, 0.0, 0.0, 0.0, 1.0])
        made = ul.sort_portfolios(flat, {"s": score}, cutoffs={"s": [0.5]}, groups={}, weights=worth, cap=0.35)
        np.testing.assert_allclose(made.weights()["s 1"], [0.35, 0.35, 0.2, 0.1, 0.0])

    def test_a_characteristic_of_fewer_months_and_assets_is_missing_in_the_others(self):
        short = self.size.iloc[4:-5, 3:]
        made, want = (
            ul.sort_portfolios(self.r, {"size": size}, groups=2)
            for size in (short, short.reindex(index=self.r.index, columns=self.r.columns))
        )
        pd.testing.assert_frame_equal(made.to_pandas(), want.to_pandas())
        pd.testing.assert_frame_equal(made.membership, want.membership)

    def test_portfolios_that_cannot_have_assets(self):
        with self.assertWarnsRegex(ul.DataWarning, "assets in size 2, size 3 "):
            made = ul.sort_portfolios(self.r, {"size": self.size * 0 + 1.0}, groups=3)
        self.assertIn("portfolios without assets: 60 of 90;", made.basis)
        for groups, words in ((19, "19 portfolios of 18 assets"), (10**7, "at most 1,000")):
            with self.assertRaisesRegex(EstimationError, words):
                ul.sort_portfolios(self.r, self.by if groups < 19 else {"size": self.size}, groups=groups)

    def test_every_asset_is_used_or_left_out_with_a_reason(self):
        made = ul.sort_portfolios(self.r, self.by, groups=3, min_assets=2)
        used = int((made.membership != "").to_numpy().sum())
        self.assertEqual(used + len(made.left_out), len(made.formations) * 18)
        self.assertTrue((made.left_out["reason"].astype(str) != "").all())
        np.testing.assert_allclose(made.weights("2011-03").sum(), (made.counts.loc["2011-03"] > 0).astype(float))

    def test_data_on_disk_give_the_same_bits(self):
        stacked = pd.concat({"r": self.r.stack(), "size": self.size.stack(), "value": self.value.stack()}, axis=1)
        rows = stacked.rename_axis(["date", "asset"]).reset_index().sort_values(["asset", "date"])
        rows["date"] = rows["date"].dt.to_timestamp()
        with tempfile.TemporaryDirectory() as folder:
            rows.to_parquet(f"{folder}/long.parquet", index=False)
            table = ul.LongTable(f"{folder}/long.parquet", value="r", frequency="M", facts={"measure": "return"})
            names, gone = sorted(self.r), pd.DataFrame({"asset": [self.r.columns[3]], "return": [-0.4]})
            left = self.r[gone["asset"][0]].last_valid_index()
            members = pd.DataFrame({"asset": names[2:], "entry": "2010-05-01", "exit": ""})
            rules = {"groups": {"size": 2, "value": 3}, "universe": members, "min_assets": 2,
                     "exclude": {"a wish": [names[5]]}, "delisting_returns": gone.assign(date=left.end_time.date())}  # fmt: skip
            for times, holding in itertools.product((5, 10**9), ({"hold_for": 2}, {})):  # in memory, and not
                columns = {"size": "size", "value": self.value if times == 5 else "value"}
                with (
                    mock.patch.object(block_estimates, "_ARRAYS_OF_SORT", times),
                    mock.patch.object(breakpoints_and_holdings, "_MANY_CELLS", 1 if times == 5 else 10**9),
                    mock.patch.object(formation, "ROWS_AT_ONCE", 8),
                    mock.patch.object(breakpoints_and_holdings, "ROWS_AT_ONCE", 8),
                ):
                    made = ul.sort_portfolios(table, columns, weights="size", **rules, **holding)
                want = ul.sort_portfolios(self.r[names], self.by, weights=self.market(), **rules, **holding)
                self.assertEqual(made.basis, want.basis)
                for part in (
                    "returns",
                    "counts",
                    "turnover",
                    "breakpoints",
                    "averages",
                    "membership",
                    "left_out",
                ):
                    got, other = (getattr(one, part) for one in (made, want))
                    if part == "returns":
                        got, other = got.to_pandas(), other.to_pandas()
                    pd.testing.assert_frame_equal(got, other, check_exact=True)
                pd.testing.assert_frame_equal(made.weights("2011-03"), want.weights("2011-03"), check_exact=True)
                base = made._asset_returns
                while isinstance(base.base, np.ndarray):
                    base = base.base
                self.assertEqual(isinstance(base.base, memoryview), times != 5)
            for odd in ({"cap": "x"}, {"universe": 3}, {"exclude": 5}, {"min_assets": 1.5}, {"hold_for": [1]},
                        {"min_price": "x"}, {"formation": None}, {"rebalance": "no"}):  # fmt: skip
                said = []
                for returns, size in ((table, "size"), (self.r, self.size)):
                    with self.assertRaises(ArgumentError) as caught:
                        ul.sort_portfolios(returns, {"size": size}, **odd)
                    said.append(str(caught.exception))
                self.assertEqual(*said)
            with self.assertRaisesRegex(ul.UltrumError, "max_memory"):
                ul.sort_portfolios(dataclasses.replace(table, max_memory=1_000_000), {"size": "size"})

    def test_an_absent_month_is_a_month_without_returns(self):
        gap = [k for k in range(30) if k != 11]
        one = ul.sort_portfolios(self.r.iloc[gap], self.by, groups=2).to_pandas()
        empty = self.r.copy()
        empty.iloc[11] = np.nan
        np.testing.assert_array_equal(one, ul.sort_portfolios(empty, self.by, groups=2).to_pandas())

    def test_corners_of_a_formula(self):
        made = ul.sort_portfolios(self.r, self.by, groups={"size": 2, "value": (0.3, 0.7)})
        self.assertEqual(
            formula_weights(made.groups, "value high - value low").tolist(), [-0.5, 0, 0.5, -0.5, 0, 0.5]
        )
        self.assertEqual(
            formula_weights(made.groups, "size low − size 2").round(12).tolist(),
            [round(1 / 3, 12)] * 3 + [round(-1 / 3, 12)] * 3,
        )
        self.assertEqual(
            formula_weights(made.groups, "1/2 * size 1 value 3 + 0.5*size high value high - value 2").tolist(),
            [0, -0.5, 0.5] * 2,
        )

    def test_momentum_reversal_volatility_and_beta(self):
        market = self.r.mean(axis=1).rename("m")
        momentum = ul.return_characteristic(self.r, "momentum", window=6).to_pandas()
        spread = ul.return_characteristic(self.r, "volatility", window=6, min_obs=4).to_pandas()
        beta = ul.return_characteristic(self.r, "beta", window=6, min_obs=4, market=market).to_pandas()
        self.assertTrue(
            (ul.return_characteristic(self.r, "reversal").to_pandas() - self.r).abs().max().max() < 1e-15
        )
        for name in self.r:
            for t in range(30):
                x = [self.r[name].iloc[k] for k in range(max(t - 5, 0), t + 1)]
                whole = t >= 5 and np.isfinite(x[:-1]).all()
                want = np.prod([1 + v for v in x[:-1]]) - 1 if whole else np.nan
                np.testing.assert_allclose(momentum[name].iloc[t], want, rtol=1e-12)
                pairs = [(v, market.iloc[max(t - 5, 0) + k]) for k, v in enumerate(x) if np.isfinite(v)]
                enough = len(pairs) >= 4
                np.testing.assert_allclose(
                    spread[name].iloc[t], statistics.stdev(v for v, _ in pairs) if enough else np.nan, rtol=1e-9
                )
                slope = (
                    statistics.linear_regression([m for _, m in pairs], [v for v, _ in pairs]).slope
                    if enough
                    else np.nan
                )
                np.testing.assert_allclose(beta[name].iloc[t], slope, rtol=1e-9)


class Statistics(unittest.TestCase):
    def test_monotonicity_by_a_loop_over_draws(self):
        from ultrum.core.regression.engine.covariance_and_bootstrap import stationary_rows

        rng = np.random.default_rng(2)
        moves = rng.normal(0.002, 0.03, (60, 4))
        data = pd.DataFrame(moves + np.array([0, 0.004, 0.006, 0.012]), months(60), list("abcd"))
        found = ul.monotonicity_tests(data, draws=99, block=3.0, seed=5)
        steps = np.diff(data.to_numpy(), axis=1)
        smallest = steps.mean(axis=0).min()
        above = sum(
            (steps[rows].mean(axis=0) - steps.mean(axis=0)).min() >= smallest
            for rows in stationary_rows(60, 99, 3.0, 5)
        )
        self.assertEqual(found.p_value, (1 + above) / 100)
        exact = np.std([steps[rows].mean(axis=0) for rows in stationary_rows(60, 40_000, 3.0, 1)], axis=0)
        np.testing.assert_allclose(found.steps["standard_error"], exact, rtol=0.02)
        self.assertEqual(found.all_steps_p, found.steps["p"].max())
        drawn, mean, spread = (
            [steps[rows] for rows in stationary_rows(60, 99, 3.0, 5)],
            steps.mean(axis=0),
            steps.std(axis=0),
        )
        t = np.array([(one.mean(axis=0) - mean) / (exact * one.std(axis=0) / spread) for one in drawn])
        np.testing.assert_allclose(
            found.steps["p"], (1 + (t >= mean / exact).sum(axis=0)) / 100, atol=0.011
        )  # of the errors
        falling = ul.monotonicity_tests(data[list("dcba")], direction="falling", draws=99, block=3.0, seed=5)
        np.testing.assert_allclose(falling.steps["step"], -found.steps["step"].to_numpy()[::-1])
        turned = data.assign(c=data["b"] - 0.02 + rng.normal(0, 0.001, 60))
        self.assertGreater(ul.monotonicity_tests(turned, draws=99).all_steps_p, 0.9)

    def test_errors_of_mimicking_premia_are_those_of_leaving_out_one_period(self):
        rng = np.random.default_rng(4)
        R = pd.DataFrame(
            rng.normal(0.01, 0.05, (150, 3)) + 0.02 * rng.normal(size=(150, 1)), months(150), list("abc")
        )
        f = pd.Series(R.to_numpy() @ [0.5, -0.2, 0.1] + rng.normal(0, 0.02, 150), months(150), name="f")
        assets = ul.SeriesTable.from_pandas(R, measure="return", excess_of="bill")

        def premium(rows):
            A = np.column_stack([np.ones(len(rows)), R.to_numpy()[rows]])
            return (
                12 * np.linalg.lstsq(A, f.to_numpy()[rows], rcond=None)[0][1:] @ R.to_numpy()[rows].mean(axis=0)
            )

        found = ul.mimicking_portfolios(ul.TimeSeries.from_pandas(f), assets, lags=0)
        every = np.arange(150)
        without = np.array([premium(np.delete(every, k)) for k in every])
        self.assertAlmostEqual(found.premia["f"].value, premium(every), 12)
        jackknife = np.sqrt(149 / 150 * ((without - without.mean()) ** 2).sum())
        self.assertAlmostEqual(found.premia["f"].standard_error / jackknife, 1.0, 1)
        alone = -(without - without.mean()) * 149 / 150
        self.assertGreater(np.corrcoef(found.premia["f"].influence, alone)[0, 1], 0.999)

    def test_a_factor_of_the_portfolios_themselves_has_no_joint_test(self):
        world = ul.practice.stocks(count=60, months=96)
        made = ul.sort_portfolios(world.returns, {"P+L": world.book_to_market}, groups=3)
        own = ul.factor_from_portfolios(made, "P+L high - P+L low", name="own")
        np.testing.assert_array_equal(own.to_pandas(), made.to_pandas()["P+L 3"] - made.to_pandas()["P+L 1"])
        self.assertIn("left out", str(own.metadata.trail[-1]))
        both = ul.SeriesTable.of([world.market, own])
        models = {"CAPM": ["market"], "own": ["market", "own"]}
        table = ul.portfolio_table(
            made, both, world.risk_free, models=models, spread="P+L 3 - P+L 2", trading_cost=0.01
        )
        self.assertEqual((list(table.joint), list(table.untested)), (["CAPM"], ["own"]))
        self.assertIn("combination", repr(table))
        exact = ul.portfolio_table(made, own, world.risk_free, spread="P+L high - P+L low").to_frame()
        self.assertTrue(np.isnan(exact.loc["P+L high - P+L low", ("own", "t")]))
        net = ul.factor_from_portfolios(made, "P+L 3 - P+L 2", trading_cost=0.01).to_pandas()
        self.assertAlmostEqual(table.to_frame().loc["P+L 3 - P+L 2", ("mean", "value")], net.mean(), 12)

    def test_the_table_is_that_of_single_regressions(self):
        world = ul.practice.stocks(count=80, months=120)
        made = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=3)
        table = ul.portfolio_table(made, world.market, world.risk_free, spread="value high - value low")
        spread = made.to_pandas()["value 3"] - made.to_pandas()["value 1"]
        fit = ul.regress(spread, world.market.to_pandas())
        row = table.to_frame().loc["value high - value low"]
        np.testing.assert_allclose(
            [row["market", "alpha"], row["market", "market"]], fit.coefficients, rtol=1e-10
        )
        self.assertAlmostEqual(row["mean", "value"], spread.mean(), 12)
        panel = ul.align(assets=made.returns, factors=world.market, risk_free=world.risk_free)
        self.assertEqual(table.joint["market"].statistic, ul.joint_alpha_test(panel).statistic)


class OnFiles(Scratch):
    """One command from a long table to a factor."""

    def table(self):
        rng = np.random.default_rng(0)
        rows = [{"month": str(month), "stock": f"S{k}", "return": rng.normal(0.01, 0.05), "market_value": 10.0 + k,
                 "book_to_market": 0.1 * ((3 * k + t // 9) % 12), "note": "x"}
                for t, month in enumerate(months(48)) for k in range(12)]  # fmt: skip
        made = pd.DataFrame(rows)
        made.to_csv(self.folder / "stocks.csv", index=False)
        factors = pd.DataFrame({"month": months(48).astype(str), "mkt-rf": rng.normal(0.5, 4, 48), "rf": 0.2})
        factors.round(3).to_csv(self.folder / "factors.csv", index=False)
        return made

    def test_a_file_gives_what_tables_give(self):
        made = self.table()
        wide = {name: made.pivot(index="month", columns="stock", values=name) for name in made.columns[2:5]}
        want = ul.sort_portfolios(wide["return"], {"book_to_market": wide["book_to_market"]}, groups=(0.3, 0.7),
                                  weights=ul.SeriesTable.from_pandas(wide["market_value"]), formation="Q")  # fmt: skip
        words = (
            "sort",
            "stocks.csv",
            "--by",
            "book_to_market=0.3,0.7",
            "--weights",
            "market_value",
            "--formation",
            "Q",
        )
        done = command(
            *words,
            "--factors",
            "factors.csv",
            "--csv",
            "made.csv",
            "--picture",
            "m.png",
            "--json",
            cwd=self.folder,
        )
        answer = json.loads(done.stdout)
        np.testing.assert_allclose([one["mean"] for one in answer["portfolios"]], want.to_pandas().mean())
        spread = want.to_pandas()["book_to_market 3"] - want.to_pandas()["book_to_market 1"]
        self.assertAlmostEqual(answer["spreads"][0]["mean"], spread.mean(), 14)
        back = ul.read_series(self.folder / "made.csv").series["book_to_market high - book_to_market low"]
        np.testing.assert_allclose(np.asarray(back), spread)
        rate = ul.read_series(self.folder / "factors.csv", units="percent").series
        row = ul.regress(spread, rate["mkt-rf"].to_pandas())
        got = answer["models"][0]["coefficients"]["book_to_market high - book_to_market low"]
        np.testing.assert_allclose(list(got.values()), row.coefficients, rtol=1e-9)
        self.assertTrue((self.folder / "m.png").stat().st_size > 10_000)
        text = command(*words, "--factors", "factors.csv", "--trading-cost", "0.01", cwd=self.folder).stdout
        self.assertIn("after costs of 1.00 % per trade", text)
        costly = command(*words, "--factors", "factors.csv", "--trading-cost", "0.01", "--json", cwd=self.folder)
        models = json.loads(costly.stdout)["models"][0]["coefficients"]
        mean = want.turnover.mean()[["book_to_market 1", "book_to_market 3"]].sum() * 0.02
        alpha = {name: one["constant"] for name, one in models.items()}
        spread_alpha = alpha["book_to_market high - book_to_market low"]
        self.assertAlmostEqual(got["constant"] - spread_alpha, mean, 4)  # the cost hardly moves with the market
        self.assertIn("GRS test", text)

    def test_members_delistings_prices_and_breakpoints_of_a_file(self):
        """Codes are numbers, in few rows too, and one word for units is that of the returns."""
        made = self.table()
        made["stock"] = made["stock"].str[1:]
        made = made[(made["stock"] != "3") | (made["month"] <= made["month"].unique()[25])].copy()
        made["price"], made["main"] = made["market_value"], made["stock"].astype(int) % 2
        made.assign(**{"return": 100.0 * made["return"]}).to_csv(self.folder / "stocks.csv", index=False)
        first, later = made["month"].unique()[[0, 14]]
        members = pd.DataFrame(
            {"asset": [str(k) for k in range(12)], "entry": [f"{first}-01", f"{later}-01"] * 6, "exit": ""}
        )
        gone = pd.DataFrame({"asset": ["3"], "date": [f"{made['month'].unique()[25]}-28"], "return": [-0.4]})
        members.to_csv(self.folder / "members.csv", index=False)
        gone.assign(**{"return": [-40.0], "why": "debts"}).to_csv(self.folder / "gone.csv", index=False)
        wide = {name: made.pivot(index="month", columns="stock", values=name) for name in made.columns[2:]}
        want = ul.sort_portfolios(wide["return"], {"book_to_market": wide["book_to_market"]}, groups=2, universe=members,
                                  delisting_returns=gone, prices=ul.SeriesTable.from_pandas(wide["price"], measure="price"),
                                  min_price=12.0, breakpoints_from=[str(k) for k in range(1, 12, 2)])  # fmt: skip
        words = "--by book_to_market=2 --members members.csv --delistings gone.csv --prices price --min-price 12 --breakpoints-from main"
        words += " --returns return --read units=percent --json"
        done = command("sort", "stocks.csv", *words.split(), cwd=self.folder)
        answer = json.loads(done.stdout)
        np.testing.assert_allclose([one["mean"] for one in answer["portfolios"]], want.to_pandas().mean())
        told = {(one["address"], one["what"], one["chosen"]) for one in answer["decisions"]}
        self.assertLessEqual({("gone.csv", "units", "percent"), ("gone.csv", "not used", "column 'why'")}, told)
        averages = [one["characteristics"]["book_to_market"] for one in answer["portfolios"]]
        np.testing.assert_allclose(averages, want.averages["book_to_market"].mean())
        self.assertEqual(sum(answer["left_out"].values()), len(want.left_out))
        refused = command("sort", "stocks.csv", "--by", "book_to_market", "--prices", "price", cwd=self.folder)
        self.assertIn("--min-price", refused.stderr)

    def test_a_study_regresses_on_a_factor_of_its_own_sort(self):
        made = self.table()
        wide = {name: made.pivot(index="month", columns="stock", values=name) for name in made.columns[2:5]}
        wide["return"].iloc[:, :2].to_csv(self.folder / "assets.csv")
        portfolios = ul.sort_portfolios(
            wide["return"], {"book_to_market": wide["book_to_market"]}, groups=3, hold_for=6
        )
        factor = ul.factor_from_portfolios(
            portfolios, "book_to_market high - book_to_market 2", trading_cost=0.002
        )
        text = """[study]
            title = "Value"
            [sources.here]
            kind = "table"
            url = "."
            tables = { "assets.csv" = { measure = "return" } }
            [series.value.sort]
            table = "here:stocks.csv"
            by = { book_to_market = 3 }
            formula = "book_to_market high - book_to_market 2"
            hold_for = 6
            trading_cost = 0.002
            [panel]
            assets = "here:assets.csv"
            factors = "here:factors.csv"
            factor_units = "percent"
            risk_free = "here:factors.csv#rf"
            [[models]]
            name = "one"
            factors = ["value"]
            [[models]]
            name = "market"
            factors = ["mkt-rf"]
            """
        result = ul.run_study(ul.Study.load(self.file("s.toml", text)), vault=self.folder / "vault")
        want = ul.regress(wide["return"].set_axis(months(48))["S1"] - 0.002, factor.to_pandas())
        got = result.models["one"].coefficients.loc["S1"]
        told = {one.what: one.chosen for one in result.decisions if one.what == "factor value"}
        self.assertIn("column 'market_value'", told["factor value"])
        notes = [one.text for one in result.warnings if one.subject == "value"]
        self.assertIn("576 asset formations at 48 dates: 576 used", notes[0])
        np.testing.assert_allclose(got, want.coefficients, rtol=1e-9)
        made, market = result.sorts["value"], result.panel.factors["mkt-rf"]
        np.testing.assert_allclose(made.portfolios["mean"], portfolios.to_pandas().mean())
        one = ul.regress(portfolios.to_pandas()["book_to_market 1"].reindex(market.index) - 0.002, market)
        np.testing.assert_allclose(
            made.estimates.loc["book_to_market 1", "alpha, market"], one.coefficients["constant"], rtol=1e-9
        )
        spread = ul.regress(factor.to_pandas().reindex(market.index), market)
        np.testing.assert_allclose(made.estimates["t, market"].iloc[-1], spread.t_values["constant"], rtol=1e-9)
        for change, word in (
            ('table = "here', 'table = "there'),
            ("hold_for = 6", "hold_for = 0"),
            ("book_to_market = 3", "x = 1.5"),
            ("high - ", "hgh - "),
            ("hold_for = 6", 'formation = "monthly-ish"'),
        ):
            with self.assertRaises(ul.UltrumError, msg=word):
                ul.Study.load(self.file("s.toml", text.replace(change, word)))

    def test_what_is_not_a_table_of_assets_is_refused_with_an_option(self):
        prices = self.table().rename(columns={"return": "close"})
        prices.assign(close=prices["close"] + 10).to_csv(self.folder / "prices.csv", index=False)
        for words, message in ((("stocks.csv", "--by", "bok"), "'bok'"), (("stocks.csv", "--by", "book_to_market=1"), "--by COLUMN=5"),
                               (("factors.csv", "--by", "rf"), "a row per asset"), (("stocks.csv", "--by", "x=a"), "COLUMN=0.3,0.7"),
                               (("stocks.csv", "--by", "market_value", "--factor", "size"), "needs --factors")):  # fmt: skip
            done = command("sort", *words, cwd=self.folder)
            self.assertIn(message, done.stderr, words)
            self.assertIn(done.returncode, (2, 3))
        done = command("sort", "prices.csv", "--by", "market_value=2", "--json", cwd=self.folder)
        lines = (self.folder / "stocks.csv").read_text().splitlines()
        (self.folder / "stocks.csv").write_text("\n".join([*lines, lines[-1]]) + "\n")
        again = command("sort", "stocks.csv", "--by", "market_value=2", cwd=self.folder).stdout
        self.assertIn("1 repeated row removed", again)
        self.assertIn("column 'note'", again)
        self.assertIn(
            "prices converted to returns; dividends are not included",
            json.loads(done.stdout)["decisions"][0]["chosen"],
        )


class Accounts(Scratch):
    def test_filings_are_known_as_the_simulation_knew_them(self):
        known = []
        simulated = simulated_exchange._book_at

        def remembering(filings, reported, day):
            known.append((day, simulated(filings, reported, day)))
            return known[-1][1]

        with mock.patch.object(simulated_exchange, "_book_at", remembering):
            world = ul.practice.stocks(count=60, months=96)
        values = world.accounts.to_pandas()
        for day, want in known:
            np.testing.assert_allclose(values.loc[str(day)[:7]], np.round(want, 3), rtol=1e-12)
        counts = world.accounts.counts
        self.assertEqual(counts["records"], len(world.filings))

    def test_restatements_late_filings_and_age_on_paper(self):
        at = ul.SeriesTable.from_pandas(frame(20, "2023-12", A=[0.0] * 20), measure="return")
        records = pd.DataFrame({
            "asset": "A", "period": ["2022-12-31", "2023-12-31", "2023-12-31", "2022-12-31"],
            "released": ["2023-03-01", "2024-03-31", "2024-05-11", "2024-06-01"], "value": [1.0, 2.0, 3.0, 9.0],
        })  # fmt: skip
        found = ul.point_in_time_accounts(records, at, max_age="P15M")
        # 2022 is 15 months old in March 2024, when 2023 arrives on a Sunday; a restatement of 2022 never counts
        self.assertEqual(
            found.to_pandas()["A"].fillna(0).tolist(),
            [1, 1, 1, 2, 2, 3, 3, 3, 3, 3, 3, 3, 3, 3, 3, 3, 0, 0, 0, 0],
        )
        self.assertEqual(found.counts["restatements of earlier periods, not used"], 1)
        for shorter in (
            records["period"].str[:7],
            records["period"].str[:4],
            records["period"].str[:4].astype(int),
        ):
            again = ul.point_in_time_accounts(
                records.assign(period=shorter), at, max_age="P15M"
            )  # months and years
            pd.testing.assert_frame_equal(again.to_pandas(), found.to_pandas())
        self.assertEqual(found.age["A"].iloc[3], 3)
        lagged = ul.point_in_time_accounts(records.iloc[:2].drop(columns="released"), at, lag="P6M").to_pandas()[
            "A"
        ]
        self.assertEqual([lagged["2024-05"], lagged["2024-06"]], [1.0, 2.0])
        with self.refused(AlignmentError, "before the fiscal period ends"):
            ul.point_in_time_accounts(records.assign(released="2022-01-01"), at)
        with self.refused(AlignmentError, "'n/a' of A in 'value' is not a number"):
            ul.point_in_time_accounts(records.assign(value=["1", "n/a", None, "4"]), at)
        with self.refused(AlignmentError, "occurs twice"):
            ul.point_in_time_accounts(pd.concat([records, records[:1]]), at)
        december = ul.book_to_market(found, ul.SeriesTable.from_pandas(frame(20, "2023-12", A=np.arange(1.0, 21)), measure="stock"),
                                     market_month=12).to_pandas()["A"]  # fmt: skip
        self.assertEqual([december["2024-03"], december["2024-11"], december["2024-12"]], [2.0, 3.0, 3.0 / 13])


class Truth(Scratch):
    def test_stocks_that_move_with_the_college(self):
        world, published = (
            ul.practice.stocks(20, 24, college_factors=True),
            ul.practice.panel().factors.loc["2005":"2006"],
        )
        np.testing.assert_array_equal(world.market.to_pandas(), published["market"])
        np.testing.assert_allclose(
            world.factors.to_pandas() * [-2.0, 2.1], published[["size", "value"]], atol=1e-15
        )
        truth = ul.practice.truth().premia
        self.assertEqual(world.premia["size"] * -2.0, truth["size"])
        moved = world.returns.to_pandas() - ul.practice.stocks(20, 24).returns.to_pandas()
        self.assertGreater(
            moved.mean(axis=1).corr(published["market"] - ul.practice.stocks(20, 24).market.to_pandas()), 0.7
        )
        with self.refused(EstimationError, "end in 2024-12", "months=240"):
            ul.practice.stocks(20, 260, college_factors=True)

    def test_sorted_factors_earn_what_their_stocks_were_expected_to(self):
        scores = []
        for seed in range(10):
            world = ul.practice.stocks(count=80, months=84, seed=seed)
            made = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=3, delisting_returns=world.delisting_returns,
                                      universe=world.members)  # fmt: skip
            spread = ul.factor_from_portfolios(made, "value high - value low").to_pandas().dropna()
            expected = world.expected.to_pandas().fillna(0.0)
            truth = [
                float((w["value 3"] - w["value 1"]) @ expected.loc[t])
                for t in spread.index
                for w in [made.weights(str(t))]
            ]
            gap = spread.to_numpy() - truth
            scores.append(gap.mean() / (gap.std(ddof=1) / np.sqrt(len(gap))))
            self.assertGreater(np.mean(truth), 0.004)
        self.assertLess(abs(np.mean(scores)) * np.sqrt(10), 3.0)
        self.assertTrue(0.4 < np.std(scores) < 1.7)
