"""Betas and costs of equity against the practice world's truth and closed forms."""

import unittest

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import Scratch, months
from ultrum.errors import EstimationError, UnitError


class Truth(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.panel, cls.truth = ul.practice.panel(), ul.practice.truth()
        cls.table = ul.factor_betas(cls.panel, ["market"])

    def test_true_betas_lie_inside_the_intervals(self):
        true = self.truth.one_factor[list(self.truth.regular)]
        interval = self.table.interval("market").loc[true.index]
        inside = (interval["low"] <= true) & (true <= interval["high"])
        self.assertEqual(len(true), 20)
        self.assertGreaterEqual(int(inside.sum()), 16)

    def test_intervals_are_no_wider_than_they_must_be(self):
        errors = self.table.standard_errors.loc[list(self.truth.regular), "market"]
        self.assertLess(errors.max(), 0.25)

    def test_all_loadings_are_found(self):
        table = ul.factor_betas(self.panel)
        true = self.truth.loadings.loc[list(self.truth.regular)]
        apart = (table.coefficients.loc[true.index, true.columns] - true).abs()
        inside = apart <= 2 * table.standard_errors.loc[true.index, true.columns]
        self.assertGreaterEqual(inside.to_numpy().mean(), 0.85)

    def test_the_broken_beta_breaks_and_few_others_do(self):
        p = {a: ul.break_test(self.table.fit(a)).p_value for a in self.table.assets}
        self.assertLess(p["MRWG"], 0.01)
        self.assertLessEqual(sum(v < 0.01 for a, v in p.items() if a in self.truth.regular), 2)

    def test_unknown_factor(self):
        with self.assertRaisesRegex(EstimationError, "tides.*market"):
            ul.factor_betas(self.panel, ["tides"])


class Cost(Scratch):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(8)
        self.x = pd.DataFrame(
            rng.normal(0.006, 0.045, (240, 2)), months(240), columns=["market", "size"]
        )
        self.y = pd.DataFrame({"A": 0.8 * self.x["market"] + rng.normal(0, 0.05, 240)})
        self.bill = ul.TimeSeries.wrap(
            pd.Series(0.0025, months(240), name="bill"), measure="return"
        )
        self.market = ul.TimeSeries.wrap(self.x["market"], measure="return", excess_of="bill")

    def test_one_factor_by_hand(self):
        table = ul.regress(self.y, self.x[["market"]])
        got = ul.cost_of_equity(table, premia={"market": self.market}, risk_free=self.bill)
        beta, se = table.coefficients.loc["A", "market"], table.standard_errors.loc["A", "market"]
        lam = ul.premium(self.market)
        self.assertAlmostEqual(lam.value, 12 * self.x["market"].mean(), 13)
        rate = 1.0025**12 - 1
        self.assertAlmostEqual(got.value["A"], rate + beta * lam.value, 14)
        variance = (
            (beta * lam.standard_error) ** 2
            + (lam.value * se) ** 2
            - (se * lam.standard_error) ** 2
        )
        self.assertAlmostEqual(got.standard_error["A"], variance**0.5, 14)
        self.assertAlmostEqual(got.parts.loc["A", "contribution"].sum(), got.value["A"], 14)
        self.assertEqual(got.df["A"], 238)

    def test_the_variance_is_unbiased(self):
        """Goodman's formula averages to the true variance of a product over many draws."""
        rng = np.random.default_rng(21)
        beta, lam = rng.normal(0.8, 0.3, 400_000), rng.normal(0.05, 0.04, 400_000)
        estimate = (beta * 0.04) ** 2 + (lam * 0.3) ** 2 - (0.3 * 0.04) ** 2
        true = (0.8 * 0.04) ** 2 + (0.05 * 0.3) ** 2 + (0.3 * 0.04) ** 2
        self.assertAlmostEqual(estimate.mean() / true, 1.0, 2)

    def test_given_premia_and_two_factors(self):
        table = ul.regress(self.y, self.x)
        got = ul.cost_of_equity(table, premia={"market": 0.05, "size": 0.02}, risk_free=0.03)
        b = table.coefficients.loc["A", ["market", "size"]].to_numpy()
        self.assertAlmostEqual(got.value["A"], 0.03 + b @ [0.05, 0.02], 14)
        V = table.covariance[0][1:, 1:]
        self.assertAlmostEqual(
            got.standard_error["A"] ** 2, np.array([0.05, 0.02]) @ V @ [0.05, 0.02], 16
        )

    def test_noise_gives_no_false_error(self):
        table = ul.regress(
            self.y * 0 + np.random.default_rng(0).normal(0, 1, (240, 1)), self.x[["market"]]
        )
        noisy = ul.Premium(0.001, 0.5, 200, "bill")
        got = ul.cost_of_equity(table, premia={"market": noisy}, risk_free=self.bill)
        if table.coefficients.loc["A", "market"] ** 2 < table.covariance[0][1, 1]:
            self.assertTrue(np.isnan(got.standard_error["A"]))
            self.assertIn("no standard error", got.notes["A"])
        else:
            self.fail("the draw must have a beta smaller than its error")

    def test_refusals(self):
        table = ul.regress(self.y, self.x[["market"]])
        with self.refused(UnitError, "'bill'", "'bond'"):
            ul.cost_of_equity(
                table, premia={"market": self.market}, risk_free=self.bill.described(name="bond")
            )
        with self.refused(EstimationError, "No premium for market"):
            ul.cost_of_equity(table, premia={}, risk_free=0.03)
        with self.refused(UnitError, "300 % a year", "0.03"):
            ul.cost_of_equity(table, premia={"market": 0.05}, risk_free=3.0)
        with self.refused(UnitError, "500 % a year"):
            ul.cost_of_equity(table, premia={"market": 5.0}, risk_free=0.03)
        with self.refused(UnitError, "over a rate"):
            ul.premium(self.market.described(excess_of=""))
