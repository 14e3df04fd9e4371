"""Betas and costs of equity against the practice world's truth and closed forms."""

import unittest

import numpy as np
import pandas as pd
import scipy.stats

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
            self.assertIn("error by bootstrap", got.notes["A"])
            # of a product of two noises: β²Vλ + λ²Vβ + VβVλ about what was estimated
            b, v = table.coefficients.loc["A", "market"], table.covariance[0][1, 1]
            want = (b**2 + v) * 0.25 + 0.001**2 * v
            self.assertAlmostEqual(got.standard_error["A"] / want**0.5, 1, 1)
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


class OtherBetas(Scratch):
    def setUp(self):
        super().setUp()
        self.panel = ul.practice.panel()
        self.table = ul.factor_betas(self.panel, ["market"])

    def test_vasicek_is_the_posterior_of_a_normal_prior(self):
        made = ul.adjust_betas(self.table)
        b, s = self.table.coefficients["market"], self.table.standard_errors["market"]
        prior = b.var() - (s**2).mean()
        self.assertGreater(prior, 0)
        want = (b / s**2 + b.mean() / prior) / (1 / s**2 + 1 / prior)
        np.testing.assert_allclose(made.coefficients["market"], want, rtol=1e-12)
        np.testing.assert_allclose(
            made.standard_errors["market"], (1 / s**2 + 1 / prior) ** -0.5, rtol=1e-12
        )
        np.testing.assert_allclose(
            made.coefficients["constant"], self.table.coefficients["constant"]
        )

    def test_blume_from_two_periods_and_from_a_line(self):
        early = ul.factor_betas(self.panel.sample(end="2013-12"), ["market"])
        late = ul.factor_betas(self.panel.sample("2014-01"), ["market"])
        both = early.coefficients["market"].to_frame("x").join(late.coefficients["market"]).dropna()
        slope, at = np.polyfit(both["x"], both["market"], 1)
        made = ul.adjust_betas(late, how="blume", earlier=early).coefficients["market"]
        np.testing.assert_allclose(made, at + slope * late.coefficients["market"], rtol=1e-9)
        said = ul.adjust_betas(late, how="blume", line=(0.343, 0.677)).coefficients["market"]
        np.testing.assert_allclose(said, 0.343 + 0.677 * late.coefficients["market"])
        with self.refused(ul.UltrumError, "earlier table"):
            ul.adjust_betas(late, how="blume")

    def test_lagged_beta_and_its_joint_error(self):
        made = ul.lagged_beta(self.panel, errors="classical")
        x, y = self.panel.factors["market"], self.panel.excess.values["NTSH"]
        design = pd.concat([x.shift(1), x, x.shift(-1)], axis=1).iloc[1:-1]
        X = np.column_stack([np.ones(len(design)), design])
        kept = y.iloc[1:-1].notna().to_numpy()
        X, v = X[kept], y.iloc[1:-1].to_numpy()[kept]
        b, rss = np.linalg.lstsq(X, v, rcond=None)[:2]
        V = rss[0] / (len(v) - 4) * np.linalg.inv(X.T @ X)
        w = np.array([0, 1.0, 1, 1])
        self.assertAlmostEqual(made.beta["NTSH"], w @ b, 10)
        self.assertAlmostEqual(made.standard_error["NTSH"], np.sqrt(w @ V @ w), 10)
        rho = x.autocorr(1)
        w[[1, 3]] = (1 + rho) / (1 + 2 * rho)
        weighed = ul.lagged_beta(self.panel, weights="fowler-rorke", errors="classical")
        self.assertAlmostEqual(weighed.beta["NTSH"], w @ b, 10)
        true = ul.practice.truth().one_factor["NTSH"]  # the thin trader
        hac = ul.lagged_beta(self.panel)
        self.assertLess(abs(hac.beta["NTSH"] - true), 2 * hac.standard_error["NTSH"])
        with self.refused(ul.UltrumError, "as many leads as lags"):
            ul.lagged_beta(self.panel, lags=1, leads=0, weights="fowler-rorke")

    def test_downside_beta_by_its_formula(self):
        made = ul.downside_beta(self.panel)
        x, y = self.panel.factors["market"], self.panel.excess.values["EBMK"]
        kept = y.notna() & (x < 0)
        beta = (y[kept] * x[kept]).sum() / (x[kept] ** 2).sum()
        self.assertAlmostEqual(made.beta["EBMK"], beta, 12)
        spread = np.sqrt((((y - beta * x) * x)[kept] ** 2).sum()) / (x[kept] ** 2).sum()
        self.assertAlmostEqual(made.standard_error["EBMK"], spread, 12)

    def test_leverage_is_undone_and_percent_refused(self):
        b = pd.Series([0.8, 1.4])
        again = ul.relever(ul.unlever(b, 0.7, 0.25, debt_beta=0.1), 0.7, 0.25, debt_beta=0.1)
        np.testing.assert_allclose(again, b, rtol=1e-15)
        with self.refused(ul.UltrumError, "divide percent by 100"):
            ul.unlever(1.0, 0.5, 25)
        with self.refused(ul.UltrumError, "below zero"):
            ul.relever(1.0, -0.5)


class JointAlpha(Scratch):
    def test_exact_and_robust_by_their_formulas(self):
        panel = ul.practice.panel()
        names = ["market", "size"]
        y = panel.excess.values
        rows = y.notna().all(axis=1) & panel.factors[names].notna().all(axis=1)
        Y, F = y[rows].to_numpy(), panel.factors.loc[rows, names].to_numpy()
        T, N, K = len(Y), Y.shape[1], 2
        X = np.column_stack([np.ones(T), F])
        B = np.linalg.lstsq(X, Y, rcond=None)[0]
        E = Y - X @ B
        mean = F.mean(axis=0)
        omega = np.cov(F.T, bias=True)
        grs = (
            (T - N - K)
            / N
            * (B[0] @ np.linalg.inv(E.T @ E / T) @ B[0])
            / (1 + mean @ np.linalg.inv(omega) @ mean)
        )
        got = ul.joint_alpha_test(panel, names)
        self.assertAlmostEqual(got.statistic, grs, 9)
        self.assertEqual((got.df, got.rows), ((N, T - N - K), T))
        self.assertAlmostEqual(got.p_value, scipy.stats.f.sf(grs, N, T - N - K), 12)
        a = np.linalg.inv(X.T @ X)[0] @ X.T
        V = (E * a[:, None]).T @ (E * a[:, None])
        robust = ul.joint_alpha_test(panel, names, how="robust").statistic
        self.assertAlmostEqual(robust, (T - N - K) / (N * T) * (B[0] @ np.linalg.inv(V) @ B[0]), 9)

    def test_size_of_the_exact_test_and_what_it_refuses(self):
        rng = np.random.default_rng(7)
        p = []
        for _ in range(400):
            f = pd.DataFrame(rng.normal(0.005, 0.04, (60, 1)), months(60), columns=["m"])
            y = f.to_numpy() * rng.uniform(0.5, 1.5, 5) + rng.normal(0, 0.05, (60, 5))
            bill = ul.TimeSeries.wrap(pd.Series(0.0, months(60)), name="bill", measure="return")
            market = ul.SeriesTable.wrap(f, measure="return", excess_of="bill")
            assets = pd.DataFrame(y, months(60), columns=list("ABCDE"))
            p.append(
                ul.joint_alpha_test(ul.align(assets=assets, factors=market, risk_free=bill)).p_value
            )
        self.assertAlmostEqual(
            np.mean(np.array(p) < 0.05), 0.05, delta=0.033
        )  # three standard errors
        with self.refused(ul.UltrumError, "No factor"):
            ul.joint_alpha_test(ul.practice.panel(), ["tide"])
        with self.refused(ul.UltrumError, "need more than", "leave those out"):
            ul.joint_alpha_test(ul.practice.panel().sample("2012-06", "2014-05"))
