"""Betas and costs of equity against the practice world's truth and closed forms."""

import re
import unittest
from dataclasses import replace
from functools import partial

import numpy as np
import pandas as pd
import scipy.stats

import ultrum as ul
from tests.support import Scratch, months
from ultrum.core.regression.inference import mixture_quantile
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
        self.x = pd.DataFrame(rng.normal(0.006, 0.045, (240, 2)), months(240), columns=["market", "size"])
        self.y = pd.DataFrame({"A": 0.8 * self.x["market"] + rng.normal(0, 0.05, 240)})
        self.bill = ul.TimeSeries.from_pandas(pd.Series(0.0025, months(240), name="bill"), measure="return")
        self.market = ul.TimeSeries.from_pandas(self.x["market"], measure="return", excess_of="bill")

    def test_one_factor_by_hand(self):
        table = ul.regress(self.y, self.x[["market"]])
        got = ul.cost_of_equity(table, premia={"market": self.market}, risk_free=self.bill)
        beta, se = table.coefficients.loc["A", "market"], table.standard_errors.loc["A", "market"]
        lam = ul.premium(self.market)
        self.assertAlmostEqual(lam.value, 12 * self.x["market"].mean(), 13)
        rate = 1.0025**12 - 1
        self.assertAlmostEqual(got.value["A"], rate + beta * lam.value, 14)
        variance = (beta * lam.standard_error) ** 2 + (lam.value * se) ** 2 + (se * lam.standard_error) ** 2
        self.assertAlmostEqual(got.standard_error["A"], variance**0.5, 14)
        self.assertAlmostEqual(got.parts.loc["A", "contribution"].sum(), got.value["A"], 14)
        self.assertEqual(got.df["A"], 238)
        with self.assertWarnsRegex(ul.DataWarning, r"Negative annual premium: market \(-2\.00 %\)"):
            ul.cost_of_equity(table, premia={"market": -0.02}, risk_free=self.bill)

    def test_given_premia_and_two_factors(self):
        table = ul.regress(self.y, self.x)
        got = ul.cost_of_equity(table, premia={"market": 0.05, "size": 0.02}, risk_free=0.03)
        b = table.coefficients.loc["A", ["market", "size"]].to_numpy()
        self.assertAlmostEqual(got.value["A"], 0.03 + b @ [0.05, 0.02], 14)
        V = table.covariance[0][1:, 1:]
        self.assertAlmostEqual(got.standard_error["A"] ** 2, np.array([0.05, 0.02]) @ V @ [0.05, 0.02], 16)

    def test_noise_gives_no_false_error(self):
        table = ul.regress(self.y * 0 + np.random.default_rng(0).normal(0, 1, (240, 1)), self.x[["market"]])
        noisy = ul.Premium(0.001, 0.5, 200, "bill")
        got = ul.cost_of_equity(table, premia={"market": noisy}, risk_free=self.bill)
        b, v = table.coefficients.loc["A", "market"], table.covariance[0][1, 1]
        self.assertLess(b**2, v)  # where β²Vλ + λ²Vβ − VβVλ is negative
        self.assertAlmostEqual(got.standard_error["A"], ((b**2 + v) * 0.25 + 0.001**2 * v) ** 0.5, 14)
        self.assertTrue(got.shares.loc["A"].between(0, 1).all())

    def test_refusals(self):
        table = ul.regress(self.y, self.x[["market"]])
        with self.refused(UnitError, "'bill'", "'bond'"):
            ul.cost_of_equity(
                table, premia={"market": self.market}, risk_free=self.bill.with_metadata(name="bond")
            )
        with self.refused(EstimationError, "No premium for market"):
            ul.cost_of_equity(table, premia={}, risk_free=0.03)
        with self.refused(UnitError, "300 % per year", "0.03"):
            ul.cost_of_equity(table, premia={"market": 0.05}, risk_free=3.0)
        with self.refused(UnitError, "500 % per year"):
            ul.cost_of_equity(table, premia={"market": 5.0}, risk_free=0.03)
        with self.refused(UnitError, "not an excess return"):
            ul.premium(self.market.with_metadata(excess_of=""))


class OtherBetas(Scratch):
    def setUp(self):
        super().setUp()
        self.panel = ul.practice.panel()
        self.table = ul.factor_betas(self.panel, ["market"])

    def test_vasicek_is_the_posterior_of_a_normal_prior(self):
        made = ul.shrink_betas(self.table)
        b, s = self.table.coefficients["market"], self.table.standard_errors["market"]
        prior = b.var() - (s**2).mean()
        self.assertGreater(prior, 0)
        want = (b / s**2 + b.mean() / prior) / (1 / s**2 + 1 / prior)
        np.testing.assert_allclose(made.coefficients["market"], want, rtol=1e-12)
        spreads = np.linspace(1e-4, 1.5, 4000)[:, None] ** 2  # by brute force over the true spread
        total = s.to_numpy() ** 2 + spreads
        centre = (b.to_numpy() / total).sum(1) / (1 / total).sum(1)
        density = spreads[:, 0] ** 0.35 * np.exp(  # in the deviation: flat to the power 1.7
            -0.5 * (np.log(total).sum(1) + np.log((1 / total).sum(1)))
            - 0.5 * ((b.to_numpy() - centre[:, None]) ** 2 / total).sum(1)
        )
        pull = s.to_numpy() ** 2 / total
        mean = (1 - pull) * b.to_numpy() + pull * centre[:, None]
        square = s.to_numpy() ** 2 * (1 - pull) + pull**2 / (1 / total).sum(1)[:, None]
        square += (mean - want.to_numpy()) ** 2
        error = np.sqrt(density @ square / density.sum())
        np.testing.assert_allclose(made.standard_errors["market"], error, rtol=0.01)
        alike = self.table.with_coefficients(self.table.coefficients * 0 + 1.0)
        self.assertGreater(ul.shrink_betas(alike).standard_errors["market"].min(), 0.01)
        np.testing.assert_allclose(made.coefficients["constant"], self.table.coefficients["constant"])

    def test_blume_from_two_periods_and_from_a_line(self):
        early = ul.factor_betas(self.panel.sample(end="2013-12"), ["market"])
        late = ul.factor_betas(self.panel.sample("2014-01"), ["market"])
        both = early.coefficients["market"].to_frame("x").join(late.coefficients["market"]).dropna()
        slope, at = np.polyfit(both["x"], both["market"], 1)
        made = ul.shrink_betas(late, how="blume", earlier=early).coefficients["market"]
        np.testing.assert_allclose(made, at + slope * late.coefficients["market"], rtol=1e-9)
        said = ul.shrink_betas(late, how="blume", line=(0.343, 0.677)).coefficients["market"]
        np.testing.assert_allclose(said, 0.343 + 0.677 * late.coefficients["market"])
        with self.refused(ul.UltrumError, "earlier beta table"):
            ul.shrink_betas(late, how="blume")

    def test_lagged_beta_and_its_joint_error(self):
        made = ul.dimson_beta(self.panel, errors="classical")
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
        weighed = ul.dimson_beta(self.panel, how="fowler-rorke", errors="classical")
        self.assertAlmostEqual(weighed.beta["NTSH"], w @ b, 10)
        true = ul.practice.truth().one_factor["NTSH"]  # the thin trader
        hac = ul.dimson_beta(self.panel)
        self.assertLess(abs(hac.beta["NTSH"] - true), 2 * hac.standard_error["NTSH"])
        with self.refused(ul.UltrumError, "factor_lags equal to factor_leads"):
            ul.dimson_beta(self.panel, factor_lags=1, factor_leads=0, how="fowler-rorke")

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
        with self.refused(ul.UltrumError, "Divide percent by 100"):
            ul.unlever(1.0, 0.5, 25)
        with self.refused(ul.UltrumError, "negative"):
            ul.relever(1.0, -0.5)


class OnlyFactor(Scratch):
    def test_an_only_factor_is_taken_and_of_several_one_is_named(self):
        panel = ul.practice.panel()
        panel = replace(panel, assets=panel.assets[["BRTW", "MRWG"]])
        other = {"market": "index"}
        one = replace(panel, factors=panel.factors[["market"]].rename(columns=other), metadata={
            other.get(n, n): m.replace(name=other.get(n, n)) for n, m in panel.metadata.items()})  # fmt: skip
        two = replace(panel, factors=panel.factors[["size", "value"]])
        functions = {
            "dimson_beta": lambda p, **f: ul.dimson_beta(p, **f).beta["BRTW"],
            "downside_beta": lambda p, **f: ul.downside_beta(p, **f).beta["BRTW"],
            "up_down_betas": lambda p, **f: ul.up_down_betas(p, **f).to_frame().loc["BRTW", "up"],
            "kalman_beta": lambda p, **f: ul.kalman_beta(p, **f).beta["BRTW"].iloc[-1],
            "time_varying_betas": lambda p, **f: ul.time_varying_betas(p, "BRTW", **f).paths["constant"].iloc[0, 0],
        }  # fmt: skip
        for name, function in functions.items():
            with self.subTest(name):
                self.assertEqual(function(one), function(panel, factor="market"))
                with self.assertRaises(EstimationError) as caught:
                    function(two)
                self.assertEqual(caught.exception.recommended, {"factor": ("size",)})
                function(two, factor=caught.exception.recommended["factor"][0])

    def test_shanken_errors_where_a_period_has_no_return_at_all(self):
        panel = ul.practice.panel().sample("2010-01", "2019-12")
        whole = replace(panel, assets=panel.assets.dropna(axis=1))
        late = whole.assets.copy()
        late.iloc[0] = np.nan
        first, rest = replace(whole, assets=late), whole.sample("2010-02", "2019-12")
        got, want = (ul.two_pass(p, ["market"], errors="shanken") for p in (first, rest))
        np.testing.assert_allclose(got.covariance, want.covariance, rtol=1e-12)
        holed = whole.assets.copy()
        holed.iloc[5, 2] = np.nan
        name = holed.columns[2]
        with self.assertRaisesRegex(EstimationError, f"every return, and {name} lacks 1 period.*'bootstrap'"):
            ul.two_pass(replace(whole, assets=holed), ["market"], errors="shanken")


class JointAlpha(Scratch):
    def test_the_statistic_by_its_formula(self):
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
        self.assertAlmostEqual(ul.joint_alpha_test(panel, names, how="robust", draws=9).statistic, grs, 9)

    def test_size_of_the_exact_test_and_what_it_refuses(self):
        rng = np.random.default_rng(7)
        bill = ul.TimeSeries.from_pandas(pd.Series(0.0, months(60)), name="bill", measure="return")
        market = pd.DataFrame({"m": np.zeros(60)}, months(60))
        assets = pd.DataFrame(np.zeros((60, 5)), months(60), columns=list("ABCDE"))
        factor = ul.SeriesTable.from_pandas(market, measure="return", excess_of="bill")
        panel, p = ul.align(assets=assets, factors=factor, risk_free=bill), []
        for _ in range(400):
            f = rng.normal(0.005, 0.04, (60, 1))
            y = f * rng.uniform(0.5, 1.5, 5) + rng.normal(0, 0.05, (60, 5))
            drawn = replace(panel, assets=assets + y, factors=market + f)
            p.append(ul.joint_alpha_test(drawn).p_value)
        self.assertAlmostEqual(np.mean(np.array(p) < 0.05), 0.05, delta=0.033)  # three standard errors
        with self.refused(ul.UltrumError, "No factor"):
            ul.joint_alpha_test(ul.practice.panel(), ["tide"])
        with self.assertWarnsRegex(
            ul.DataWarning, r"62 of 252 periods.*LMPB \(150 rows\).*251 periods .* 20 assets"
        ):
            ul.joint_alpha_test(ul.practice.panel(), ["market"])
        with self.refused(ul.UltrumError, "T > N + K", "fewer assets"):
            ul.joint_alpha_test(ul.practice.panel().sample("2012-06", "2014-05"))


class Premia(Scratch):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(3)
        self.f = pd.DataFrame(rng.normal(0.006, 0.045, (240, 2)), months(240), columns=["market", "size"])
        self.f["size"] += 0.4 * self.f["market"]
        self.rate = ul.TimeSeries.from_pandas(
            pd.Series(rng.uniform(0.001, 0.004, 240), months(240)), name="bill", measure="return"
        )
        self.market, self.size = (
            ul.TimeSeries.from_pandas(self.f[n], measure="return", excess_of="bill") for n in ("market", "size")
        )

    def test_geometric_and_blended_means_and_their_errors(self):
        f, r = self.f["market"].to_numpy(), self.rate.values.to_numpy()
        got = ul.premium(self.market, mean="geometric", risk_free=self.rate, errors="hc0")
        grown = np.prod(1 + f + r) ** (12 / 240) - np.prod(1 + r) ** (12 / 240)
        self.assertAlmostEqual(got.value, grown, 13)
        rows = np.random.default_rng(1).integers(0, 240, (4000, 240))
        again = [np.prod(1 + f[i] + r[i]) ** 0.05 - np.prod(1 + r[i]) ** 0.05 for i in rows]
        self.assertAlmostEqual(got.standard_error / np.std(again), 1.0, 1)
        holes = self.rate.to_pandas()
        holes.iloc[[3, 9]] = np.nan
        with self.refused(EstimationError, f"no value at {holes.index[3]}"):
            ul.premium(
                self.market, mean="blume", horizon=5, risk_free=ul.TimeSeries.from_pandas(holes, measure="return")
            )
        blend = ul.premium(self.market, mean="blume", horizon=5, risk_free=self.rate)
        plain = ul.premium(self.market)
        self.assertAlmostEqual(blend.value, (180 * plain.value + 59 * grown) / 239, 12)
        with self.refused(EstimationError, "got None"):
            ul.premium(self.market, mean="blume")

    def test_joint_variance_equals_that_of_the_sum_of_histories(self):
        y = pd.DataFrame({"A": self.f @ [0.8, 0.5] + np.random.default_rng(2).normal(0, 1e-9, 240)}, months(240))
        table = ul.regress(y, self.f)
        cost = ul.cost_of_equity(table, premia={"market": self.market, "size": self.size}, risk_free=0.03)
        both = ul.TimeSeries.from_pandas((self.f @ [0.8, 0.5]).rename("both"), measure="return", excess_of="bill")
        self.assertAlmostEqual(cost.standard_error["A"], ul.premium(both).standard_error, 4)
        self.assertAlmostEqual(cost.parts.loc["A", "variance_share"].sum(), 1.0, 12)
        self.assertAlmostEqual(cost.shares.loc["A"].sum(), 1.0, 12)
        self.assertGreater(cost.shares.loc["A", "premium"], 0.99)

    def test_intervals_are_quantiles_of_the_product_of_both_estimates(self):
        rng = np.random.default_rng(11)
        y = pd.DataFrame(
            {"A": 0.1 * self.f["market"] + rng.normal(0, 0.15, 240), "B": rng.normal(0, 0.1, 240)}, months(240)
        )
        for names, df in ((["market"], 30.0), (["market", "size"], 40.0), (["market"], np.inf)):
            table = ul.regress(y, self.f[names])
            premia = {n: ul.Premium(v, 0.05, df) for n, v in zip(names, (0.01, 0.03), strict=False)}
            cost = ul.cost_of_equity(table, premia=premia, risk_free=0.02, risk_free_error=0.002)
            b, V = table.coefficients[names].to_numpy(), table.covariance[:, 1:, 1:]
            lam, S, draws = np.array([0.01, 0.03])[: len(names)], 0.0025 * np.eye(len(names)), 1_000_000
            spread = np.sqrt(df / rng.chisquare(df, (draws, 1))) if np.isfinite(df) else 1.0
            prices = lam + spread * rng.normal(0, 0.05, (draws, len(names)))
            for k in range(2):
                scale = np.sqrt(table.df.iloc[k] / rng.chisquare(table.df.iloc[k], (draws, 1)))
                betas = b[k] + scale * rng.multivariate_normal(np.zeros(len(names)), V[k], draws)
                drawn = 0.02 + rng.normal(0, 0.002, draws) + (betas * prices).sum(axis=1)
                want = np.quantile(drawn, [0.025, 0.05, 0.95, 0.975])
                wide, narrow = cost.interval().iloc[k], cost.interval(0.9).iloc[k]
                got = [wide["low"], narrow["low"], narrow["high"], wide["high"]]
                np.testing.assert_allclose(got, want, atol=0.01 * (want[3] - want[0]))
                variance = b[k] @ S @ b[k] + lam @ V[k] @ lam + np.trace(V[k] @ S) + 0.002**2
                self.assertAlmostEqual(cost.standard_error.iloc[k], np.sqrt(variance), 15)
            self.assertTrue(((cost.shares >= 0) & (cost.shares <= 1)).all(axis=None))
            self.assertTrue(cost.parts["variance_share"].between(0, 1).all())
        known = ul.cost_of_equity(table, premia={"market": 0.05}, risk_free=0.02)
        reach = 0.05 * table.standard_errors["market"] * scipy.stats.t.ppf(0.975, table.df)
        np.testing.assert_allclose(known.interval()["high"], known.value + reach, rtol=1e-12)
        self.assertEqual(known.taken_as_known, ("premium of market", "risk-free rate"))
        self.assertIn("taken as known: premium of market, risk-free rate", str(known))

    def test_two_pass_premia_bring_their_covariance(self):
        panel = ul.practice.panel()
        made = ul.two_pass(panel, ["market", "value"], draws=199)
        table = ul.factor_betas(panel, ["market", "value"])
        cost = ul.cost_of_equity(table, premia=made, risk_free=panel.rate)
        b, lam = (table.coefficients.loc["BRTW", ["market", "value"]].to_numpy(), 12 * made.premia[1:].to_numpy())
        V, S = table.covariance[0][1:, 1:], 144 * made.covariance.to_numpy()[1:, 1:]
        want = b @ S @ b + lam @ V @ lam + np.trace(V @ S)
        self.assertAlmostEqual(cost.standard_error["BRTW"] ** 2, want, 12)
        self.assertAlmostEqual(cost.value["BRTW"], cost.risk_free + b @ lam, 12)

    def test_bootstrap_redraws_betas_and_premia_from_the_same_rows(self):
        y = pd.DataFrame(
            {"A": 0.9 * self.f["market"] + np.random.default_rng(5).normal(0, 0.05, 240)}, months(240)
        )
        y.iloc[[3, 9], 0] = np.nan
        table = ul.regress(y, self.f[["market"]])
        cost = ul.cost_of_equity(table, premia={"market": self.market}, risk_free=0.03, draws=4000, seed=7)
        self.assertEqual(cost.draws.shape, (4000, 1))
        self.assertAlmostEqual(cost.draws.mean(), cost.value["A"], 2)
        self.assertAlmostEqual(cost.draws.std() / cost.standard_error["A"], 1.0, delta=0.12)
        ends = cost.interval(method="bootstrap").loc["A"]
        np.testing.assert_allclose(ends, np.quantile(cost.draws[:, 0], [0.025, 0.975]))
        from ultrum.core.regression.engine.covariance_and_bootstrap import (
            drawn_coefficients,
            row_counts,
            stationary_rows,
        )

        rows = stationary_rows(240, 3, 5.0, 1)
        X = table.design.to_numpy()
        got = drawn_coefficients(X, y.to_numpy(), row_counts(rows, 240), True)
        for d in range(3):
            kept = rows[d][np.isfinite(y["A"].to_numpy()[rows[d]])]
            want = np.linalg.lstsq(X[kept], y["A"].to_numpy()[kept], rcond=None)[0]
            self.assertAlmostEqual(got[1, 0, d], want[1], 10)

    def test_block_length_grows_with_persistence(self):
        from ultrum.core.regression.engine.covariance_and_bootstrap import block_length, stationary_rows

        rng = np.random.default_rng(0)
        noise = rng.normal(size=(2000, 1))
        slow = noise.copy()
        for t in range(1, 2000):
            slow[t] += 0.8 * slow[t - 1]
        self.assertLess(block_length(noise), 4)
        self.assertGreater(block_length(slow), 15)
        rows = stationary_rows(500, 200, 8.0, 3)
        runs = 1 / np.mean(np.diff(rows, axis=1) % 500 != 1)
        self.assertAlmostEqual(runs, 8.0, delta=0.5)

    def test_rates_add_ons_currencies_and_estimators(self):
        panel = ul.practice.panel()
        table = ul.factor_betas(panel, ["market"])
        bond = ul.TimeSeries.from_pandas(pd.Series([0.04, 0.06], months(2, "2024-10")), name="bond", measure="rate",
                                  quoted="bond-equivalent", maturity="P10Y")  # fmt: skip
        given = {"market": ul.Premium(0.05, 0.02, 100, excess_of="bond")}
        cost = ul.cost_of_equity(
            table, premia=given, risk_free=bond, add_ons={"water licence": (0.004, "order 12 of 2023")}
        )
        self.assertAlmostEqual(cost.risk_free, 1.03**2 - 1, 14)
        early = ul.cost_of_equity(table, premia=given, risk_free=bond, on="2024-10")
        self.assertAlmostEqual(early.risk_free, 1.02**2 - 1, 14)
        self.assertAlmostEqual(cost.parts.loc[("BRTW", "water licence"), "contribution"], 0.004)
        self.assertIn("order 12 of 2023", repr(cost))
        self.assertTrue(cost.basis["market"].startswith("5.00 % per year"))
        self.assertEqual(cost.basis["water licence"], "0.40 %, order 12 of 2023")
        there = cost.in_currency("QSR", inflation=(0.02, 0.03))
        self.assertAlmostEqual(there.value["BRTW"], (1 + cost.value["BRTW"]) * 1.03 / 1.02 - 1, 14)
        self.assertAlmostEqual(there.parts.loc["BRTW", "contribution"].sum(), there.value["BRTW"], 13)
        parity = cost.in_currency("QSR", forward=(1.5, 1.53))
        self.assertAlmostEqual(parity.standard_error["BRTW"], cost.standard_error["BRTW"] * 1.02, 14)
        side = ul.cost_comparison({"plain": table, "lagged": ul.dimson_beta(panel)}, premia=given, risk_free=0.03)
        lagged = ul.dimson_beta(panel)
        self.assertAlmostEqual(side.loc[("NTSH", "lagged"), "cost"], 0.03 + 0.05 * lagged.beta["NTSH"], 12)
        with self.refused(EstimationError, "needs a number and its reason"):
            ul.cost_of_equity(table, premia=given, risk_free=bond, add_ons={"size": (0.01, " ")})
        with self.refused(EstimationError, "name of another part"):
            ul.cost_of_equity(table, premia=given, risk_free=bond, add_ons={"market": (0.01, "why")})
        with self.refused(EstimationError, "either inflation"):
            cost.in_currency("QSR")


class Peers(Scratch):
    def test_weights_errors_and_places_by_hand(self):
        table = ul.factor_betas(ul.practice.panel(), ["market"])
        names = ["EBMK", "CSHW", "SLTM", "WKFN"]
        debt = pd.Series([1.1, 0.8, 1.3, 1.2], names)
        got = ul.peer_beta(table, names, debt_to_equity=debt, tax=0.24, how="precision", debt_beta=0.1,
                           target_debt_to_equity=0.9, target_tax=0.2)  # fmt: skip
        b, s = table.coefficients.loc[names, "market"], table.standard_errors.loc[names, "market"]
        share = 0.76 * debt
        bare, error = (b + 0.1 * share) / (1 + share), s / (1 + share)
        w = (1 / error**2) / (1 / error**2).sum()
        self.assertAlmostEqual(got.asset_beta, w @ bare, 12)
        self.assertAlmostEqual(got.beta, (w @ bare) * 1.72 - 0.1 * 0.72, 12)
        e = table.residuals[names].to_numpy()[1:]
        tied = np.corrcoef(e.T) * np.outer(error, error)
        common = w @ tied @ w - w**2 @ np.diag(tied)
        apart = np.sum(w**2 * (bare - w @ bare) ** 2 / (1 - w))
        self.assertAlmostEqual(got.standard_error, 1.72 * np.sqrt(max(apart + common, w @ tied @ w)), 10)
        self.assertAlmostEqual(got.spread**2, max(0, np.var(bare, ddof=1) - np.mean(error**2)), 12)
        reach = got.standard_error * scipy.stats.t.ppf(0.975, 3)
        np.testing.assert_allclose(got.interval(), [got.beta - reach, got.beta + reach])
        wide = ul.peer_beta(table.with_coefficients(table.coefficients * [1, 0] + [0, 1] * np.arange(23)[:, None]),
                            names, debt_to_equity=0.0, how="mean")  # fmt: skip
        self.assertGreater(wide.standard_error, 0.5)  # betas from 1 to 4
        alone = ul.peer_beta(table, names[:1], debt_to_equity=0.0)
        self.assertAlmostEqual(alone.standard_error, s.iloc[0], 12)
        self.assertIn("how peers differ is unknown", alone.basis)
        self.assertIn(f"beta {alone.beta:.3f} (standard error {alone.standard_error:.3f})", alone._repr_html_())
        self.assertEqual(got.peers["rank"].to_dict(), bare.rank().astype(int).to_dict())
        middle = ul.peer_beta(table, names, debt_to_equity=debt, how="median")
        self.assertAlmostEqual(middle.asset_beta, np.median(b / (1 + debt)), 12)
        whole = ul.industry_betas(table, dict.fromkeys(names, "power"), debt_to_equity=debt)
        self.assertAlmostEqual(whole.loc["power", "beta"], middle.asset_beta, 12)
        with self.refused(EstimationError, "WKFN", "D/E"):
            ul.peer_beta(table, names, debt_to_equity=debt[:3])
        with self.refused(EstimationError, "needs values"):
            ul.peer_beta(table, names, debt_to_equity=debt, how="value")


class Industries(Scratch):
    def test_quantiles_of_mixtures_have_their_probability(self):
        rng = np.random.default_rng(2)
        for skewed in (1.0, 0.05):
            centre, sd = rng.normal(1, 0.3, (40, 200)), rng.uniform(1e-4, 0.3, (40, 200))
            weights = rng.dirichlet(np.full(200, skewed))
            for share in (0.001, 0.025, 0.5, 0.99):
                at = mixture_quantile(share, centre, sd, np.full(40, np.inf), weights)
                below = scipy.stats.norm.cdf((at[:, None] - centre) / sd) @ weights
                np.testing.assert_allclose(below, share, atol=1e-11)
        # a row that needs many steps, next to one that needs few
        centre = np.array([np.linspace(-1, 1, 200), np.repeat([0.0, 1e3], 100)])
        sd = np.array([np.full(200, 0.5), np.full(200, 1e-3)])
        for share in (0.2, 0.7):
            at = mixture_quantile(share, centre, sd, np.full(2, np.inf))
            below = scipy.stats.norm.cdf((at[:, None] - centre) / sd).mean(axis=1)
            np.testing.assert_allclose(below, share, atol=1e-8)

    def table(self, beta, error):
        """Betas with given estimates and errors."""
        rng = np.random.default_rng(1)
        f = pd.DataFrame({"market": rng.normal(0, 0.04, 60)}, months(60))
        y = pd.DataFrame(
            rng.normal(0, 0.04, (60, len(beta))), months(60), [f"F{k:02d}" for k in range(len(beta))]
        )
        table = ul.regress(y, f)
        covariance = np.zeros((len(beta), 2, 2))
        covariance[:, 1, 1] = error**2
        return table.with_coefficients(table.coefficients.assign(market=beta), covariance)

    def test_posteriors_are_those_of_a_sampler(self):
        rng = np.random.default_rng(3)
        group = np.repeat([0, 1, 2], [4, 6, 3])
        error = rng.uniform(0.08, 0.25, 13)
        beta = np.array([0.6, 1.0, 1.5])[group] + rng.normal(0, 0.2, 13) + error * rng.normal(size=13)
        table = self.table(beta, error)
        names = dict(zip(table.assets, np.array(["power", "rail", "ships"])[group], strict=True))
        got = ul.hierarchical_betas(table, names)
        # every quantity drawn in turn given the others; deviations on a fine grid of their own
        grid, v = np.linspace(1e-3, 3.0, 1500), error**2
        tau, omega, true, mu, kept = 0.2, 0.3, beta.copy(), np.array([0.6, 1.0, 1.5]), []
        for step in range(8_000):
            precision = 1 / v + 1 / tau**2
            true = (beta / v + mu[group] / tau**2) / precision + rng.normal(size=13) / np.sqrt(precision)
            counts, centre = np.bincount(group), rng.normal(mu.mean(), omega / np.sqrt(3))
            precision = counts / tau**2 + 1 / omega**2
            mu = (np.bincount(group, true) / tau**2 + centre / omega**2) / precision + rng.normal(
                size=3
            ) / np.sqrt(precision)
            logs = -13 * np.log(grid) - np.sum((true - mu[group]) ** 2) / 2 / grid**2 - 0.3 * np.log(grid)
            tau = rng.choice(grid, p=np.exp(logs - logs.max()) / np.exp(logs - logs.max()).sum())
            logs = -3 * np.log(grid) - np.sum((mu - centre) ** 2) / 2 / grid**2
            omega = rng.choice(grid, p=np.exp(logs - logs.max()) / np.exp(logs - logs.max()).sum())
            if step > 500:
                kept.append(np.concatenate([true, mu, mu + tau * rng.normal(size=3), [tau, omega]]))
        drawn = np.array(kept)
        np.testing.assert_allclose(got.firms["shrunk"], drawn[:, :13].mean(axis=0), atol=0.012)
        np.testing.assert_allclose(got.firms["shrunk_se"], drawn[:, :13].std(axis=0), atol=0.012)
        np.testing.assert_allclose(got.industries["mean"].iloc[:3], drawn[:, 13:16].mean(axis=0), atol=0.015)
        for ends, part in ((("low", "high"), drawn[:, 13:16]), (("new_low", "new_high"), drawn[:, 16:19])):
            want = np.quantile(part, [0.025, 0.975], axis=0).T
            np.testing.assert_allclose(
                got.industries.loc[["power", "rail", "ships"], list(ends)], want, atol=0.07
            )
        self.assertAlmostEqual(got.between_firms, drawn[:, -2].mean(), delta=0.02)
        self.assertEqual(got.industries.loc["any", "n"], 0)
        self.assertIn(
            "in 3 industries, 0 left out, 1 without a beta",
            ul.hierarchical_betas(table, {**names, "X": "rail"}).basis,
        )
        with self.refused(EstimationError, "named 'any'"):
            ul.hierarchical_betas(table, dict.fromkeys(names, "any"))
        with self.refused(EstimationError, "shrunk already"):
            ul.hierarchical_betas(ul.shrink_betas(table), names)
        twice = pd.concat([pd.Series(names), pd.Series({"F00": "rail"})])
        for work in (ul.hierarchical_betas, partial(ul.industry_betas, debt_to_equity=0.5)):
            with self.refused(EstimationError, "F00: more than one industry"):
                work(table, twice)
        with self.refused(EstimationError, "4 assets with a beta and an industry"):
            ul.hierarchical_betas(table, dict.fromkeys(table.assets[:4], "power"))


class Factors(Scratch):
    def test_currency_factor_is_what_foreign_bills_earned(self):
        here = ul.TimeSeries.from_pandas(
            pd.Series([0.002, 0.003, 0.001], months(3)), name="bill", measure="return", currency="QML"
        )
        there = ul.TimeSeries.from_pandas(
            pd.Series(0.004, months(3)), name="sorr bill", measure="return", currency="QSR"
        )
        quote = ul.TimeSeries.from_pandas(
            pd.Series([0.5, 0.48, 0.5], months(3)), measure="quote", unit="QML/QSR", timing="end"
        )
        got = ul.currency_factor(there, here, quote)  # quoted the other way round
        np.testing.assert_allclose(
            got.values[1:], [1.004 * 0.5 / 0.48 - 1.003, 1.004 * 0.48 / 0.5 - 1.001], rtol=1e-12
        )
        self.assertEqual((got.name, got.metadata.excess_of), ("QSR", "bill"))
        cash = ul.currency_factor("QSR", here, quote)
        np.testing.assert_allclose(cash.values[1:], [0.5 / 0.48 - 1.003, 0.48 / 0.5 - 1.001], rtol=1e-12)
        with self.refused(ul.UltrumError, "two different currencies"):
            ul.currency_factor(here, here, quote)

    def test_bootstrap_of_joint_alphas(self):
        panel = ul.practice.panel().sample("2012-07", "2017-07")
        names = ["market", "value"]
        got = ul.joint_alpha_test(panel, names, how="bootstrap", draws=99, lags=2)
        Y, F = panel.excess.block, panel.factors[names].to_numpy()
        X = np.column_stack([np.ones(len(F)), F])
        A = np.linalg.pinv(X)
        e = Y - X @ (A @ Y)
        s = e * A[0][:, None]
        V = s.T @ s + sum((1 - k / 3) * (s[k:].T @ s[:-k] + s[:-k].T @ s[k:]) for k in (1, 2))
        a = (A @ Y)[0]
        self.assertAlmostEqual(got.statistic, a @ np.linalg.solve(V, a) / 23, 8)
        self.assertTrue(0.01 <= got.p_value <= 1)
        self.assertIn("Wald/N", repr(got))

    def test_a_fit_read_aloud(self):
        panel = ul.practice.panel()
        fit = ul.factor_betas(panel).fit("BRTW")
        text = fit.in_words()
        low, high = fit.interval().loc["market"]
        self.assertIn(f"CI {low:.2f} to {high:.2f}", text)
        self.assertIn("size is 1 % higher, BRTW is 0.40 % lower", text)
        self.assertEqual(len(text.splitlines()), 9)
        rng = np.random.default_rng(0)
        x = pd.Series(rng.normal(0, 0.1, 12), name="x")
        noisy = ul.regress(pd.Series(rng.normal(0, 1, 12)), x)
        self.assertIn("which includes 0 and 1", noisy.in_words())


class Sensitivity(Scratch):
    def test_every_cell_is_the_regression_it_says(self):
        panel = ul.practice.panel()
        returns = ul.SeriesTable.from_pandas(panel.assets, measure="return")
        whole = (panel.factors["market"] + panel.risk_free).rename("index")
        market = ul.TimeSeries.from_pandas(whole, measure="return")
        got = ul.beta_sensitivity(
            returns, market, "BRTW", risk_free=panel.rate, windows=["P3Y", "P30Y"], frequencies=["M", "Q"],
            chosen={"frequency": "Q"}, published=0.9, end="2020-06", errors="classical",
        )  # fmt: skip
        self.assertEqual(len(got.table), 2 * 2 * 3 * 2)
        self.assertTrue(got.table.query("window == 'P30Y'")["note"].str.contains("do not cover P30Y").all())
        cell = got.table.set_index(["window", "frequency", "adjustment", "estimator"])
        part = panel.sample("2017-07", "2020-06")
        plain = ul.factor_betas(part, ["market"], errors="classical")
        self.assertAlmostEqual(
            cell.loc[("P3Y", "M", "none", "ols"), "beta"], plain.coefficients.loc["BRTW", "market"], 10
        )
        self.assertAlmostEqual(cell.loc[("P3Y", "M", "vasicek", "ols"), "beta"],
                               ul.shrink_betas(plain).coefficients.loc["BRTW", "market"], 10)  # fmt: skip
        self.assertAlmostEqual(cell.loc[("P3Y", "M", "blume", "ols"), "beta"],
                               0.343 + 0.677 * plain.coefficients.loc["BRTW", "market"], 10)  # fmt: skip
        self.assertEqual(cell.loc[("P3Y", "Q", "none", "ols"), "rows"], 12)
        self.assertEqual(got.base_case["frequency"], "Q")
        self.assertIn("published 0.90", repr(got))
        with self.refused(EstimationError, "No specification has market='ALL'", "index"):
            ul.beta_sensitivity(returns, market, "BRTW", risk_free=panel.rate, chosen={"market": "ALL"})
        with self.assertRaisesRegex(ul.UltrumError, "lags"):
            ul.beta_sensitivity(returns, market, "BRTW", risk_free=panel.rate, errors="classical", lags=3)
        with self.refused(EstimationError, "adjustment 'bayes'"):
            ul.beta_sensitivity(returns, market, "BRTW", risk_free=panel.rate, adjustments=["bayes"])


class Tables(Scratch):
    def test_cells_notes_and_escapes(self):
        panel = ul.practice.panel()
        one, four = (ul.factor_betas(panel, ["market"]).fit("BRTW"), ul.factor_betas(panel).fit("BRTW"))
        table = ul.model_table({"one|_<b>": one, "four & all": four}, stars=True, names={"market": "market_β"})
        text = table.to_text()
        beta, error = one.coefficients["market"], one.standard_errors["market"]
        self.assertIn(f"{beta:.3f}***", text)
        self.assertIn(f"({error:.3f})", text)
        self.assertIn("Newey–West (HAC) (4 lags)", text)
        self.assertIn("2004-02 to 2024-12", text)
        self.assertIn("one\\|\\_&lt;b>", table.to_markdown())
        self.assertIn("one|_&lt;b&gt;", table.to_html())
        latex = table.to_latex()
        self.assertIn(r"four \& all", latex)
        self.assertIn(r"market\_$\beta$", latex)
        self.assertIn("$^{***}$", latex)
        self.assertNotRegex(latex, r"[βα−²]")
        floating = four.to_latex(caption="Betas of 5 % & more", label="tab:four betas", below="t")
        begun, ended = (re.findall(rf"\\{word}\{{(\w+)\}}", floating) for word in ("begin", "end"))
        self.assertEqual(begun, ["table", "threeparttable", "tabular", "tablenotes"])
        self.assertEqual(ended, ["tabular", "tablenotes", "threeparttable", "table"])
        self.assertIn("\\caption{Betas of 5 \\% \\& more}\n\\label{tab:four-betas}\n", floating)
        self.assertIn("\\item t values in parentheses", floating)
        self.assertEqual(floating.count("{tabular}{lr}"), 1)
        lines = [line for line in floating.splitlines() if line.endswith("\\\\")]
        self.assertEqual({line.count("&") - line.count("\\&") for line in lines}, {1})
        for result, words in (
            (four, "momentum & "),
            (ul.factor_betas(panel), "BRTW & "),
            (ul.risk_return(panel.assets), "sharpe"),
        ):
            ul.save(result, self.folder / "t.tex")
            self.assertIn(words, (self.folder / "t.tex").read_text(encoding="utf-8"))
        self.assertEqual(one.plot().get_xlabel(), "market, excess return, % per month")
        t = ul.model_table([one], below="t").to_frame()
        self.assertIn(f"({one.t_values['market']:.2f})", t["(1)"].to_list())
        wide = ul.model_table(ul.factor_betas(panel, ["market"]))
        self.assertEqual(wide.head, ["constant", "market", "R²", "rows"])
        self.assertEqual(len(wide.body), 46)
        self.assertIn("percent per period", ul.model_table(ul.two_pass(panel, ["market"], draws=49)).to_text())
        with self.refused(ul.UltrumError, "below='z'"):
            ul.model_table([one], below="z")
