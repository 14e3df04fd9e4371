"""Regressions against exact arithmetic, certified figures and loops written from the papers."""

import itertools
import json
import unittest
import warnings
from fractions import Fraction

import numpy as np
import pandas as pd
import scipy.stats

import ultrum as ul
from tests.support import ROOT, Scratch, months, series
from ultrum.core.regression.structural_breaks import chow_tests
from ultrum.errors import AlignmentError, ArgumentError, DataWarning, EstimationError, UnitError
from ultrum.study.result_checks import standing_out

CERTIFIED = json.loads(
    (ROOT / "tests" / "data" / "certified.json").read_text()
)  # rows, coefficients and their errors


def exact(cells, constant):
    """Coefficients and standard errors of published data by rational arithmetic."""
    rows = [[Fraction(c) for c in row] for row in cells]
    y = [row[0] for row in rows]
    X = [([Fraction(1)] if constant else []) + row[1:] for row in rows]
    p = len(X[0])
    normal = [[sum(r[i] * r[j] for r in X) for j in range(p)] + [Fraction(int(i == k)) for k in range(p)]
              + [sum(r[i] * v for r, v in zip(X, y, strict=True))] for i in range(p)]  # fmt: skip
    for i in range(p):  # Gauss and Jordan
        pivot = normal[i][i]
        normal[i] = [v / pivot for v in normal[i]]
        for j in range(p):
            if j != i:
                normal[j] = [a - normal[j][i] * b for a, b in zip(normal[j], normal[i], strict=True)]
    beta = [row[-1] for row in normal]
    rss = sum((v - sum(b * c for b, c in zip(beta, r, strict=True))) ** 2 for r, v in zip(X, y, strict=True))
    variances = [normal[i][p + i] * rss / (len(y) - p) for i in range(p)]
    return [(float(b), float(v) ** 0.5) for b, v in zip(beta, variances, strict=True)]


def digits(got, want):
    if want == 0:  # below 1e-8 where the certified error is zero
        return 15.0 if abs(got) < 1e-8 else 0.0
    return 15.0 if got == want else -np.log10(abs(got - want) / abs(want))


class Certified(unittest.TestCase):
    def test_published_problems(self):
        for name, problem in CERTIFIED.items():
            data = np.array(problem["rows"], float)
            constant = name != "NoInt1"
            with warnings.catch_warnings():
                warnings.simplefilter("ignore", ul.DataWarning)  # near copies and trends, as they must be
                fit = ul.regress(data[:, 0], data[:, 1:], errors="classical", constant=constant)
            got = list(zip(fit.coefficients, fit.standard_errors, strict=True))
            for truth in (exact(problem["rows"], constant), problem["certified"]):
                for pair, sure in zip(got, truth, strict=True):
                    for value, want in zip(pair, sure, strict=True):
                        self.assertGreaterEqual(digits(value, want), 12, name)

    def test_r2_is_uncentred_without_a_constant(self):
        data = np.array(CERTIFIED["NoInt1"]["rows"], float)
        fit = ul.regress(data[:, 0], data[:, 1], errors="classical", constant=False)
        self.assertAlmostEqual(fit.r2, 0.999365492298663, 12)
        self.assertAlmostEqual(fit.sigma, 3.56753034006338, 11)


def slow_covariance(X, y, kind, moments=None, lags=None):
    """Covariances written out sum by sum from the papers."""
    T, p = X.shape
    bread = np.linalg.inv(X.T @ X)
    e = y - X @ (bread @ X.T @ y)
    if kind == "classical":
        return bread * (e @ e) / (T - p)
    meat = np.zeros((p, p))
    if kind == "hac":
        for t in range(T):
            for s in range(T):
                apart = abs(int(moments[t]) - int(moments[s]))
                if apart <= lags:
                    meat += (1 - apart / (lags + 1)) * e[t] * e[s] * np.outer(X[t], X[s])
        return bread @ meat @ bread * T / (T - p)
    for t in range(T):
        h = X[t] @ bread @ X[t]
        scale = {"hc0": 1, "hc1": T / (T - p), "hc2": 1 / (1 - h), "hc3": 1 / (1 - h) ** 2}[kind]
        meat += scale * e[t] ** 2 * np.outer(X[t], X[t])
    return bread @ meat @ bread


class Errors(Scratch):
    def setUp(self):
        rng = np.random.default_rng(11)
        self.X = pd.DataFrame(rng.standard_t(5, (90, 2)) * 0.04, months(90), columns=["market", "size"])
        shocks = rng.normal(0, 0.05, (90, 3)) * (1 + 20 * self.X[["market"]].abs().to_numpy())
        self.Y = pd.DataFrame(0.9 * self.X[["market"]].to_numpy() + shocks, months(90), list("abc"))
        self.Y.iloc[[0, 1, 20, 21, 22, 55], 1] = np.nan
        self.Y.iloc[70:, 2] = np.nan
        self.X.iloc[40, 0] = np.nan

    def test_every_kind_agrees_with_a_loop_also_with_gaps(self):
        for kind in ("classical", "hc0", "hc1", "hc2", "hc3", "hac"):
            table = ul.regress(self.Y, self.X, errors=kind)
            for i, name in enumerate(self.Y):
                used = self.Y[name].notna() & self.X.notna().all(axis=1)
                X = np.column_stack([np.ones(used.sum()), self.X[used]])
                moments = np.flatnonzero(used)
                lags = int(4 * (len(X) / 100) ** (2 / 9))
                want = slow_covariance(X, self.Y[name][used].to_numpy(), kind, moments, lags)
                error = np.sqrt(np.diag(want))
                off = np.abs(np.sqrt(np.diag(table.covariance[i])) - error)
                self.assertTrue((off <= 1e-9 * error).all(), (kind, name))
                self.assertEqual(table.nobs[name], used.sum())

    def test_one_of_many_is_the_same_as_alone(self):
        table = ul.regress(self.Y, self.X)
        for name in self.Y:
            alone, part = ul.regress(self.Y[name], self.X), table.fit(name)
            pd.testing.assert_frame_equal(alone.to_frame(), part.to_frame(), rtol=1e-12)
            self.assertEqual(alone.dropped, part.dropped)
        b = self.Y["b"]
        holes = int(b.loc[b.first_valid_index() : b.last_valid_index()].isna().sum())
        self.assertEqual((holes, int(b.isna().sum())), (4, 6))  # two are before the first value
        self.assertEqual(table.fit("b").dropped, {"missing dependent variable": holes, "missing market": 1})
        self.assertIn(
            "5 observations dropped: 4 missing dependent variable, 1 missing market",
            " ".join(str(table.fit("b")).split()),
        )
        self.assertEqual(table.observations_dropped["b"], 5)

    def test_p_values_intervals_and_joint_tests(self):
        fit = ul.regress(self.Y["a"], self.X, errors="hc3")
        t = fit.t_values["size"]
        self.assertAlmostEqual(fit.p_values["size"], 2 * scipy.stats.t.sf(abs(t), fit.df), 13)
        self.assertAlmostEqual(fit.test("size").statistic, t**2, 9)
        self.assertAlmostEqual(fit.test("size").p_value, fit.p_values["size"], 12)
        low, high = fit.interval(0.9).loc["market"]
        reach = scipy.stats.t.ppf(0.95, fit.df) * fit.standard_errors["market"]
        self.assertAlmostEqual(high - low, 2 * reach, 13)
        R = np.array([[0, 1, 0], [0, 1, 1]])
        gap = R @ fit.coefficients - [1, 1]
        want = gap @ np.linalg.inv(R @ fit.covariance.to_numpy() @ R.T) @ gap / 2
        self.assertAlmostEqual(fit.test(R, [1, 1]).statistic, want, 9)
        predicted = fit.predict(self.X.dropna())
        np.testing.assert_allclose(predicted, fit.fitted, rtol=1e-12)

    def test_scaling_a_factor_scales_only_its_beta(self):
        plain = ul.regress(self.Y["a"], self.X)
        scaled = ul.regress(self.Y["a"], self.X.assign(size=self.X["size"] * 1e9))
        np.testing.assert_allclose(scaled.t_values, plain.t_values, rtol=1e-9)
        shifted = ul.regress(self.Y["a"], self.X + 1.0)
        np.testing.assert_allclose(shifted.standard_errors["market"], plain.standard_errors["market"], 1e-9)

    def test_nearly_dependent_columns_keep_their_digits(self):
        x = np.linspace(0, 1, 40)
        wiggle = np.cos(np.arange(40.0))
        X = np.column_stack([x, x + 1e-6 * wiggle])
        fit = ul.regress(1 + 2 * X[:, 0] + 3 * X[:, 1], X, errors="classical")
        np.testing.assert_allclose(fit.coefficients, [1, 2, 3], atol=1e-7)
        self.assertGreater(fit.condition_number, 1e5)


class Refusals(Scratch):
    def test_dependent_columns_are_named(self):
        x = pd.DataFrame(np.random.default_rng(1).normal(size=(30, 2)), columns=["market", "size"])
        y = pd.Series(np.arange(30.0))
        with self.refused(EstimationError, "both", "market", "size"):
            ul.regress(y, x.assign(both=x["market"] + x["size"]))
        with self.refused(EstimationError, "flat", "constant"):
            ul.regress(y, x.assign(flat=3.0))
        with self.refused(EstimationError, "none", "zero"):
            ul.regress(y, x.assign(none=0.0))

    def test_too_few_rows_no_common_rows_unknown_words(self):
        with self.refused(EstimationError, "2 complete observations", "2 coefficients"):
            ul.regress([1.0, 2.0], [[1.0], [3.0]])
        with self.refused(AlignmentError, "no label in common"):
            ul.regress(pd.Series([1.0, 2], months(2)), pd.DataFrame({"m": [1.0, 2]}, months(2, "2020-01")))
        with self.refused(EstimationError, "errors='robust'", "hc3"):
            ul.regress([1.0, 2, 3], [1.0, 2, 4], errors="robust")
        fit = ul.regress([1.0, 2, 3, 5], [1.0, 2, 4, 4], errors="classical")
        with self.refused(EstimationError, "No coefficient beta", "x1"):
            fit.test("beta")

    def test_what_is_no_data(self):
        with self.refused(EstimationError, "y is not an array of numbers"):
            ul.regress("abc", [[1.0]])
        with self.refused(AlignmentError, "5 observations", "6"):
            ul.regress(np.zeros(5), np.zeros((6, 1)))
        with self.refused(AlignmentError, "two columns named 'a'"):
            ul.regress(pd.DataFrame(np.eye(5)[:, :2], columns=["a", "a"]), np.arange(5.0))
        with self.refused(ArgumentError, "lags is -1"):
            ul.regress([1.0, 2, 4, 3], [1.0, 2, 3, 5], lags=-1)

    def test_one_short_sample_does_not_stop_the_others(self):
        Y = pd.DataFrame({"late": np.r_[np.full(28, np.nan), 1.0, 2.0], "whole": np.arange(30.0) ** 2})
        table = ul.regress(Y, np.arange(30.0))
        self.assertTrue(np.isnan(table.coefficients.loc["late"]).all())
        self.assertEqual((table.nobs["late"], table.nobs["whole"]), (0, 30))
        self.assertEqual(table.dropped.loc["late"].sum(), 2)  # of its own history
        alone = ul.regress(Y["whole"], np.arange(30.0))
        np.testing.assert_array_equal(table.coefficients.loc["whole"], alone.coefficients)
        with self.refused(EstimationError, "late", "too few observations"):
            table.fit("late")
        cost = ul.cost_of_equity(table, premia={"x1": 0.05}, risk_free=0.03)
        self.assertEqual(list(cost.notes), ["late"])

    def test_excess_on_total_returns_is_refused(self):
        y = series(np.arange(5.0) / 100, measure="return", excess_of="bill", name="A")
        x = series(np.arange(5.0) ** 2 / 100, measure="return", name="market")
        with self.refused(UnitError, "market", "excess"):
            ul.regress(y, x)


class Break(Scratch):
    def test_chow_by_its_formula(self):
        rng = np.random.default_rng(2)
        x = rng.normal(size=60)
        y = pd.Series(np.where(np.arange(60) < 25, 0.5, 1.2) * x + rng.normal(size=60), months(60))
        X = pd.DataFrame({"market": x}, months(60))
        got = ul.break_test(ul.regress(y, X, errors="classical"), at=pd.Period("2012-02", "M"))

        def rss(rows):
            A = np.column_stack([np.ones(60), x])[rows]
            return np.linalg.lstsq(A, y.to_numpy()[rows], rcond=None)[1][0]

        apart = rss(slice(0, 25)) + rss(slice(25, 60))
        self.assertAlmostEqual(got.statistic, (rss(slice(0, 60)) - apart) / 2 / (apart / 56), 9)
        self.assertEqual(got.df, (2, 56))
        with self.refused(EstimationError, "further inside"):
            ul.break_test(ul.regress(y, X), at=pd.Period("2010-02", "M"))

    def test_robust_forms_by_slow_sums_with_the_null_imposed(self):
        """Chow's W = d'V⁻¹d and RESET's score test, in White's and Newey and West's errors, with a gap."""
        rng = np.random.default_rng(3)
        kept = np.delete(np.arange(80), [20, 21, 50])
        x = rng.normal(size=77)
        y = pd.Series(0.5 * x + np.abs(x) * rng.normal(size=77), months(80)[kept])
        X = pd.DataFrame({"market": x}, y.index)
        A, cut = np.column_stack([np.ones(77), x]), 30
        for errors, lags in (("HC1", None), ("hac", 3)):
            fit = ul.regress(y, X, errors=errors, lags=lags)
            e, fitted = fit.residuals.to_numpy(), fit.fitted.to_numpy()

            def products(scores, when, lags=lags):
                """Sum over all pairs of rows as near as the lags reach."""
                total = np.zeros((scores.shape[1], scores.shape[1]))
                for i, j in itertools.product(range(len(when)), repeat=2):
                    weight = 1 - abs(when[i] - when[j]) / ((lags or 0) + 1)
                    total += max(weight, 0) * np.outer(scores[i], scores[j])
                return total

            V, d = np.zeros((2, 2)), np.zeros(2)
            for part, sign in ((slice(0, cut), 1), (slice(cut, 77), -1)):
                inverse = np.linalg.inv(A[part].T @ A[part])
                d += sign * inverse @ A[part].T @ y.to_numpy()[part]
                V += inverse @ products(A[part] * e[part, None], kept[part]) @ inverse
            want = d @ np.linalg.solve(V, d) / 2 * 73 / 77
            got = ul.break_test(fit, at=y.index[cut])
            self.assertAlmostEqual(got.statistic, want, 9)
            self.assertAlmostEqual(got.p_value, scipy.stats.f.sf(want, 2, 73), 9)
            powers = np.column_stack([fitted**2, fitted**3])
            apart = powers - A @ np.linalg.lstsq(A, powers, rcond=None)[0]
            s = apart * e[:, None]
            want = s.sum(0) @ np.linalg.solve(products(s, kept), s.sum(0)) / 2 * 73 / 77
            found = ul.diagnose(fit)["reset"]
            self.assertAlmostEqual(found.statistic, want, 7)

    def test_all_assets_at_once_are_the_single_tests(self):
        table = ul.factor_betas(ul.practice.panel())
        short = table.response.copy()
        short.iloc[7:, 2] = np.nan  # two parts would have too few rows
        for one in (table, ul.regress(short, table.design.iloc[:, 1:])):
            found = chow_tests(one)
            for asset in one.assets:
                if one.nobs[asset] < 12:
                    self.assertTrue(np.isnan(found.loc[asset, "p_value"]))
                    continue
                alone = ul.break_test(one.fit(asset))
                self.assertAlmostEqual(found.loc[asset, "statistic"], alone.statistic, 9)
                self.assertAlmostEqual(found.loc[asset, "p_value"], alone.p_value, 12)
                self.assertEqual(found.loc[asset, "note"], alone.note)

    def test_warnings_among_many_companies_are_seldom_for_nothing(self):
        p = pd.Series({"a": 0.001, "b": 0.013, "c": 0.014, "d": 0.04, "e": 0.9, "f": np.nan})
        self.assertEqual(standing_out(p, 0.05).tolist(), [True, True, True, True, False, False])
        self.assertEqual(standing_out(p, 0.01).tolist(), [True, False, False, False, False, False])
        rng = np.random.default_rng(0)
        alarms = [standing_out(pd.Series(rng.uniform(size=300)), 0.05).any() for _ in range(400)]
        self.assertLess(abs(np.mean(alarms) - 0.05), 0.033)  # three errors of a share of 400


class Options(Scratch):
    """Weights, clusters, bandwidths and influence, each by its formula."""

    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(4)
        self.X = pd.DataFrame(rng.normal(0, 0.04, (80, 2)), months(80), columns=["market", "size"])
        noise = rng.normal(0, 0.05, 80)
        noise[1:] += 0.5 * noise[:-1]
        self.y = (0.9 * self.X["market"] + noise).rename("A")
        self.A = np.column_stack([np.ones(80), self.X])

    def test_weights(self):
        w = np.random.default_rng(1).uniform(0.2, 3, 80)
        fit = ul.regress(self.y, self.X, weights=pd.Series(w, self.y.index), errors="hc1")
        W = np.diag(w / w.mean())
        bread = np.linalg.inv(self.A.T @ W @ self.A)
        b = bread @ self.A.T @ W @ self.y
        e = self.y.to_numpy() - self.A @ b
        meat = (self.A * (np.diag(W) * e)[:, None]).T @ (self.A * (np.diag(W) * e)[:, None])
        np.testing.assert_allclose(fit.coefficients, b, rtol=1e-10)
        np.testing.assert_allclose(fit.covariance, bread @ meat @ bread * 80 / 77, rtol=1e-9)
        self.assertAlmostEqual(fit.sigma, np.sqrt(np.sum(np.diag(W) * e**2) / 77), 12)
        with self.refused(EstimationError, "weight at 2010-01", "positive"):
            ul.regress(self.y, self.X, weights=np.r_[-1.0, w[1:]])

    def test_clusters_in_one_way_and_two(self):
        one, two = np.arange(80) // 10, np.arange(80) % 7
        bread = np.linalg.inv(self.A.T @ self.A)
        e = self.y.to_numpy() - self.A @ (bread @ self.A.T @ self.y)

        def part(codes):
            meat = np.zeros((3, 3))
            for g in set(codes):
                s = sum(self.A[t] * e[t] for t in range(80) if codes[t] == g)
                meat += np.outer(s, s)
            G = len(set(codes))
            return bread @ meat @ bread * G / (G - 1) * 79 / 77

        fit = ul.regress(self.y, self.X, clusters=one)
        np.testing.assert_allclose(fit.covariance, part(list(one)), rtol=1e-9)
        self.assertEqual((fit.df, fit.errors), (7, "clustered"))
        both = part(list(one)) + part(list(two)) - part(list(zip(one, two, strict=True)))
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", ul.DataWarning)
            fit = ul.regress(self.y, self.X, clusters=pd.DataFrame({"a": one, "b": two}, self.y.index))
        values, vectors = np.linalg.eigh(both)
        np.testing.assert_allclose(fit.covariance, (vectors * np.maximum(values, 0)) @ vectors.T, rtol=1e-8)
        self.assertEqual(fit.df, 6)

    def test_automatic_lags_by_the_plug_in(self):
        fit = ul.regress(self.y, self.X[["market"]], lags="automatic")
        e = fit.residuals.to_numpy()
        h = e * self.X["market"].to_numpy()
        n = int(4 * 0.8 ** (2 / 9))
        s = [sum(h[t] * h[t - j] for t in range(j, 80)) for j in range(n + 1)]
        s0, s1 = s[0] + 2 * sum(s[1:]), 2 * sum(j * s[j] for j in range(1, n + 1))
        self.assertEqual(fit.lags, int(1.1447 * ((s1 / s0) ** 2 * 80) ** (1 / 3)))
        both = ul.regress(self.y, self.X, lags="automatic")
        e = both.residuals.to_numpy()
        h = e * (self.X / np.sqrt((self.X**2).mean())).sum(axis=1).to_numpy()
        s = [sum(h[t] * h[t - j] for t in range(j, 80)) for j in range(n + 1)]
        s0, s1 = s[0] + 2 * sum(s[1:]), 2 * sum(j * s[j] for j in range(1, n + 1))
        self.assertEqual(both.lags, int(1.1447 * ((s1 / s0) ** 2 * 80) ** (1 / 3)))
        with self.refused(EstimationError, "lags='many'", "automatic"):
            ul.regress(self.y, self.X, lags="many")

    def test_influence_equals_leaving_each_row_out(self):
        fit = ul.regress(self.y, self.X, errors="classical")
        table = fit.influence()
        for row in (3, 40):
            kept = np.arange(80) != row
            out = ul.regress(self.y[kept], self.X[kept], errors="classical")
            apart = self.A @ (fit.coefficients - out.coefficients).to_numpy()
            self.assertAlmostEqual(table["cooks_distance"].iloc[row], apart @ apart / (3 * fit.sigma**2), 10)
            h = table["leverage"].iloc[row]
            self.assertAlmostEqual(table["dffits"].iloc[row], apart[row] / (out.sigma * np.sqrt(h)), 10)


class Diagnosis(Scratch):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(12)
        self.X = pd.DataFrame(rng.normal(0, 0.04, (100, 2)), months(100), columns=["market", "size"])
        self.y = (self.X @ [1.0, 0.3] + rng.standard_t(5, 100) * 0.03).rename("A")
        self.fit = ul.regress(self.y, self.X)
        self.A = np.column_stack([np.ones(100), self.X])
        self.e = self.fit.residuals.to_numpy()

    def r2(self, y, X):
        e = y - X @ np.linalg.lstsq(X, y, rcond=None)[0]
        return 1 - e @ e / ((y - y.mean()) @ (y - y.mean()))

    def test_every_statistic_by_its_formula(self):
        found = ul.diagnose(self.fit, lags=3)
        lagged = np.column_stack([np.r_[np.zeros(k), self.e[:-k]] for k in (1, 2, 3)])
        want = 100 * self.r2(self.e, np.column_stack([self.A, lagged]))
        self.assertAlmostEqual(found["breusch_godfrey"].statistic, want, 8)
        want = 100 * self.r2(self.e**2, self.A)
        self.assertAlmostEqual(found["breusch_pagan"].statistic, want, 8)
        a, b = self.X["market"], self.X["size"]
        want = 100 * self.r2(self.e**2, np.column_stack([self.A, a * a, a * b, b * b]))
        self.assertAlmostEqual(found["white"].statistic, want, 8)
        jb = scipy.stats.jarque_bera(self.e)
        self.assertAlmostEqual(found["jarque_bera"].statistic, jb.statistic, 9)
        self.reset_by_its_formula()
        want = 1 / (1 - self.r2(a.to_numpy(), np.column_stack([np.ones(100), b])))
        self.assertAlmostEqual(found["vif"].statistic, want, 10)

    def test_fits_without_residuals_and_dates_without_an_estimate_are_refused(self):
        made = self.X @ [2.0, -1.0] + 0.01
        with self.assertWarnsRegex(DataWarning, "y1, y3: perfect fit"):
            table = ul.regress(pd.DataFrame({"y1": made, "y2": self.y, "y3": 0.5}), self.X)
        for name in ("y1", "y3"):
            for how in ("chow", "sup-f", "cusum"):
                with self.refused(EstimationError, f"{name}: perfect fit"):
                    ul.break_test(table.fit(name), how=how)
            with self.refused(EstimationError, "no residuals to test"):
                ul.diagnose(table.fit(name))
        self.assertEqual(chow_tests(table)["statistic"].isna().tolist(), [True, False, True])
        far = self.y.where(
            np.arange(100) > 0, 1e12
        ).to_frame()  # in a row without factors, so not among those used
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            ul.regress(far, self.X.iloc[1:].reindex(self.X.index))
        crisis = self.X.assign(crisis=0.0)
        crisis.iloc[40:60, 2] = 1.0  # constant before 40 and from 60 on
        fit = ul.regress(self.y, crisis)
        found = ul.break_test(fit, how="sup-f", draws=99)
        self.assertEqual(list(found.path.index), list(self.X.index[41:60]))
        self.assertIn("; 52 dates left out", found.note)
        with self.refused(EstimationError, "at 2012-12 one subsample", "Choose another date"):
            ul.break_test(fit, at=self.X.index[35])
        zero = self.y.where(np.arange(100) % 7 > 0, 0.0).to_frame()  # the dummy leaves no residuals to its rows
        dummy = pd.DataFrame({"day": (np.arange(100) % 7 == 0).astype(float)}, self.X.index)
        for how in ("chow", "sup-f"):
            with self.refused(EstimationError, "A: the coefficients before or after a date have no robust"):
                ul.break_test(ul.regress(zero["A"], dummy), how=how)
        self.assertIn("no robust covariance", chow_tests(ul.regress(zero, dummy))["note"]["A"])
        for cut, errors in itertools.product(range(30, 42), ("classical", "hac")):  # exact on both sides
            moved = self.X["market"] * np.where(np.arange(100) < cut, 1.0, 3.0)
            found = ul.break_test(ul.regress(moved, self.X["market"], errors=errors), how="sup-f", draws=99)
            self.assertEqual((found.at, found.p_value), (self.X.index[cut], 0.01))

    def reset_by_its_formula(self):
        """F of squares and cubes of the fitted values, with weights and without a constant too."""
        weights = pd.Series(np.linspace(0.5, 1.5, 100), months(100))
        for options in ({}, {"weights": weights}, {"constant": False}):
            fit = ul.regress(self.y, self.X + 0.02, errors="classical", **options)
            root = np.sqrt(options.get("weights", weights * 0 + 1)).to_numpy()
            fitted, A = fit.fitted.to_numpy(), fit.design.to_numpy()
            more = np.column_stack([A, fitted**2, fitted**3]) * root[:, None]
            y = self.y.to_numpy() * root
            e, rest = (y - M @ np.linalg.lstsq(M, y, rcond=None)[0] for M in (A * root[:, None], more))
            below = 100 - more.shape[1]
            want = (e @ e - rest @ rest) / 2 / (rest @ rest / below)
            found = ul.diagnose(fit)["reset"]
            self.assertAlmostEqual(found.statistic, want, 6)

    def test_largest_f_and_recursive_residuals(self):
        test = ul.break_test(self.fit, how="sup-f", draws=99)
        slow = {}
        for cut in range(15, 86):
            slow[self.X.index[cut]] = ul.break_test(self.fit, at=self.X.index[cut]).statistic
        np.testing.assert_allclose(test.path, pd.Series(slow), rtol=1e-9)
        k = self.A.shape[1]
        self.assertEqual(test.df, (k, 100 - 2 * k))
        jump = np.where(np.arange(100) < 60, 0.0, 1.5) * self.X["market"]
        found = ul.break_test(ul.regress(self.y + jump, self.X), how="sup-f", draws=99)
        self.assertLessEqual(found.between[0], self.X.index[60])
        self.assertGreaterEqual(found.between[1], self.X.index[60])
        fit = ul.regress(self.y + jump, self.X)

        def rss(cut):
            parts = [(self.A[p], fit.response.to_numpy()[p]) for p in (slice(None, cut), slice(cut, None))]
            return sum(np.linalg.lstsq(A, v, rcond=None)[1][0] for A, v in parts)

        cuts = np.arange(15, 86)
        made = np.array([rss(c) for c in cuts])
        best = cuts[made.argmin()]
        A, v = self.A, fit.response.to_numpy()
        b1, b2 = (np.linalg.lstsq(A[p], v[p], rcond=None)[0] for p in (slice(None, best), slice(best, None)))
        e = np.r_[v[:best] - A[:best] @ b1, v[best:] - A[best:] @ b2]
        m = (A @ (b2 - b1)) ** 2
        inside = cuts[(made - made.min()) / (np.mean(m * e**2) / np.mean(m)) <= -2 * np.log(1 - np.sqrt(0.95))]
        self.assertEqual(found.between, (self.X.index[inside.min()], self.X.index[inside.max()]))
        drift = ul.break_test(self.fit, how="cusum")
        w = []
        for t in range(3, 100):
            b = np.linalg.lstsq(self.A[:t], self.y[:t], rcond=None)[0]
            V = np.linalg.inv(self.A[:t].T @ self.A[:t])
            w.append((self.y.iloc[t] - self.A[t] @ b) / np.sqrt(1 + self.A[t] @ V @ self.A[t]))
        np.testing.assert_allclose(drift.path, np.cumsum(w) / self.fit.sigma, rtol=1e-8)
        # a sum that touches the published 5 % line crosses with a chance of 5 %
        from ultrum.core.regression.structural_breaks import _crossing

        self.assertAlmostEqual(_crossing(0.948), 0.05, 3)

    def test_p_values_are_honest_where_nothing_is_wrong(self):
        rng = np.random.default_rng(6)
        wrong = {}
        for _ in range(200):
            x = pd.DataFrame({"market": rng.normal(size=80)}, months(80))
            y = x["market"] + rng.normal(size=80)
            for f in ul.diagnose(ul.regress(y, x), draws=99).findings:
                if np.isfinite(f.p_value):
                    wrong.setdefault(f.key, []).append(f.p_value < 0.05)
        for test, shares in wrong.items():
            self.assertLess(np.mean(shares), 0.12, test)
        self.assertEqual(len(wrong), 8)

    def test_levels_on_levels_warn_and_a_trend_does_not(self):
        rng = np.random.default_rng(2)
        walks = pd.DataFrame(rng.normal(size=(150, 2)).cumsum(axis=0), months(150), columns=["a", "b"])
        with self.assertWarnsRegex(
            ul.DataWarning,
            r"spurious regression.* in a \(ADF p = 0\.\d\d\) and b \(p = 0\.\d\d\)\. Use growth rates or first",
        ):
            fit = ul.regress(walks["a"], walks[["b"]])
        self.assertGreater(ul.diagnose(fit, draws=49)["adf:b"].p_value, 0.05)
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            ul.regress(walks["a"].diff().dropna(), walks[["b"]].diff().dropna())
            ul.regress(np.arange(50.0) + rng.normal(size=50), np.arange(50.0))

    def test_unit_root_by_regression_and_its_p_value(self):
        from ultrum.core.regression.unit_roots_and_design_warnings import _p_value, dickey_fuller

        v = np.random.default_rng(3).normal(size=120).cumsum()
        got = dickey_fuller(v)
        d = np.diff(v)
        k = got.lags
        X = np.column_stack([v[k:-1], *(d[k - j : len(d) - j] for j in range(1, k + 1)), np.ones(len(d) - k)])
        fit = ul.regress(d[k:], X, constant=False, errors="classical")
        self.assertAlmostEqual(got.statistic, fit.t_values.iloc[0], 9)
        for t, p in ((-3.43, 0.01), (-2.86, 0.05), (-2.57, 0.10)):  # asymptotic critical values
            self.assertAlmostEqual(_p_value(t, "constant"), p, 2)
