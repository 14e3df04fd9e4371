"""Regressions against exact arithmetic, certified figures and loops written from the papers."""

import unittest
from fractions import Fraction

import numpy as np
import pandas as pd
import scipy.stats

import ultrum as ul
from tests.support import Scratch, months, series
from ultrum.errors import AlignmentError, EstimationError, UnitError

NORRIS = """0.1 0.2|338.8 337.4|118.1 118.2|888.0 884.6|9.2 10.1|228.1 226.5|668.5 666.3|998.5 996.3
449.1 448.6|778.9 777.0|559.2 558.2|0.3 0.4|0.1 0.6|778.1 775.5|668.8 666.9|339.3 338.0|448.9 447.5
10.8 11.6|557.7 556.0|228.3 228.1|998.0 995.8|888.8 887.6|119.6 120.2|0.3 0.3|0.6 0.3|557.6 556.8
339.3 339.1|888.0 887.2|998.5 999.0|778.9 779.0|10.2 11.1|117.6 118.3|228.9 229.2|668.4 669.1
449.2 448.9|0.2 0.5"""
NOINT1 = "|".join(f"{130 + i} {60 + i}" for i in range(11))
LONGLEY = """60323 83.0 234289 2356 1590 107608 1947|61122 88.5 259426 2325 1456 108632 1948
60171 88.2 258054 3682 1616 109773 1949|61187 89.5 284599 3351 1650 110929 1950
63221 96.2 328975 2099 3099 112075 1951|63639 98.1 346999 1932 3594 113270 1952
64989 99.0 365385 1870 3547 115094 1953|63761 100.0 363112 3578 3350 116219 1954
66019 101.2 397469 2904 3048 117388 1955|67857 104.6 419180 2822 2857 118734 1956
68169 108.4 442769 2936 2798 120445 1957|66513 110.8 444546 4681 2637 121950 1958
68655 112.6 482704 3813 2552 123366 1959|69564 114.2 502601 3931 2514 125368 1960
69331 115.7 518173 4806 2572 127852 1961|70551 116.9 554894 4007 2827 130081 1962"""
CERTIFIED = {  # coefficient, standard error
    "Norris": [(-0.262323073774029, 0.232818234301152), (1.00211681802045, 0.429796848199937e-3)],
    "NoInt1": [(2.07438016528926, 0.165289256198347e-1)],
    "Longley": [
        (-3482258.63459582, 890420.383607373), (15.0618722713733, 84.9149257747669),
        (-0.358191792925910e-1, 0.334910077722432e-1), (-2.02022980381683, 0.488399681651699),
        (-1.03322686717359, 0.214274163161675), (-0.511041056535807e-1, 0.226073200069370),
        (1829.15146461355, 455.478499142212)],
}  # fmt: skip
DIGITS = {"Norris": 9, "NoInt1": 9, "Longley": 8}


def exact(text, constant):
    """Coefficients and standard errors of published data by rational arithmetic."""
    rows = [[Fraction(c) for c in row.split()] for row in text.replace("\n", "|").split("|")]
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
                normal[j] = [
                    a - normal[j][i] * b for a, b in zip(normal[j], normal[i], strict=True)
                ]
    beta = [row[-1] for row in normal]
    rss = sum(
        (v - sum(b * c for b, c in zip(beta, r, strict=True))) ** 2
        for r, v in zip(X, y, strict=True)
    )
    variances = [normal[i][p + i] * rss / (len(y) - p) for i in range(p)]
    return [(float(b), float(v) ** 0.5) for b, v in zip(beta, variances, strict=True)]


def digits(got, want):
    return 15.0 if got == want else -np.log10(abs(got - want) / abs(want))


class Certified(unittest.TestCase):
    def test_published_problems(self):
        for name, text in {"Norris": NORRIS, "NoInt1": NOINT1, "Longley": LONGLEY}.items():
            data = np.array([r.split() for r in text.replace("\n", "|").split("|")], float)
            constant = name != "NoInt1"
            fit = ul.regress(data[:, 0], data[:, 1:], errors="classical", constant=constant)
            got = list(zip(fit.coefficients, fit.standard_errors, strict=True))
            for truth in (exact(text, constant), CERTIFIED[name]):
                for pair, sure in zip(got, truth, strict=True):
                    for value, want in zip(pair, sure, strict=True):
                        self.assertGreaterEqual(digits(value, want), DIGITS[name], name)

    def test_r2_is_uncentred_without_a_constant(self):
        data = np.array([r.split() for r in NOINT1.split("|")], float)
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
        self.X = pd.DataFrame(
            rng.standard_t(5, (90, 2)) * 0.04, months(90), columns=["market", "size"]
        )
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
            self.assertEqual(alone.lost, part.lost)
        self.assertEqual(table.fit("b").lost, {"missing left-hand side": 6, "missing factor": 1})

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
        np.testing.assert_allclose(
            shifted.standard_errors["market"], plain.standard_errors["market"], 1e-9
        )

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
        with self.refused(EstimationError, "2 complete rows", "2 coefficients"):
            ul.regress([1.0, 2.0], [[1.0], [3.0]])
        with self.refused(AlignmentError, "share no label"):
            ul.regress(
                pd.Series([1.0, 2], months(2)), pd.DataFrame({"m": [1.0, 2]}, months(2, "2020-01"))
            )
        with self.refused(EstimationError, "errors='robust'", "hac"):
            ul.regress([1.0, 2, 3], [1.0, 2, 4], errors="robust")
        fit = ul.regress([1.0, 2, 3, 5], [1.0, 2, 4, 4], errors="classical")
        with self.refused(EstimationError, "No coefficient beta", "x1"):
            fit.test("beta")

    def test_what_is_no_data(self):
        with self.refused(EstimationError, "y is no array of numbers"):
            ul.regress("abc", [[1.0]])
        with self.refused(AlignmentError, "5 rows", "6"):
            ul.regress(np.zeros(5), np.zeros((6, 1)))
        with self.refused(AlignmentError, "two columns named 'a'"):
            ul.regress(pd.DataFrame(np.eye(5)[:, :2], columns=["a", "a"]), np.arange(5.0))
        with self.refused(EstimationError, "lags=-1"):
            ul.regress([1.0, 2, 4, 3], [1.0, 2, 3, 5], lags=-1)

    def test_one_short_sample_does_not_stop_the_others(self):
        Y = pd.DataFrame(
            {"late": np.r_[np.full(28, np.nan), 1.0, 2.0], "whole": np.arange(30.0) ** 2}
        )
        table = ul.regress(Y, np.arange(30.0))
        self.assertTrue(np.isnan(table.coefficients.loc["late"]).all())
        self.assertEqual((table.nobs["late"], table.nobs["whole"]), (0, 30))
        self.assertEqual(table.lost.loc["late"].sum(), 30)
        alone = ul.regress(Y["whole"], np.arange(30.0))
        np.testing.assert_array_equal(table.coefficients.loc["whole"], alone.coefficients)
        with self.refused(EstimationError, "late", "too few rows"):
            table.fit("late")
        cost = ul.cost_of_equity(table, premia={"x1": 0.05}, risk_free=0.03)
        self.assertEqual(list(cost.notes), ["late"])

    def test_excess_on_total_returns_is_refused(self):
        y = series(np.arange(5.0), measure="return", excess_of="bill", name="A")
        x = series(np.arange(5.0) ** 2, measure="return", name="market")
        with self.refused(UnitError, "market", "excess"):
            ul.regress(y, x)


class Break(Scratch):
    def test_chow_by_its_formula(self):
        rng = np.random.default_rng(2)
        x = rng.normal(size=60)
        y = pd.Series(np.where(np.arange(60) < 25, 0.5, 1.2) * x + rng.normal(size=60), months(60))
        X = pd.DataFrame({"market": x}, months(60))
        got = ul.break_test(ul.regress(y, X), at=pd.Period("2012-02", "M"))

        def rss(rows):
            A = np.column_stack([np.ones(60), x])[rows]
            return np.linalg.lstsq(A, y.to_numpy()[rows], rcond=None)[1][0]

        apart = rss(slice(0, 25)) + rss(slice(25, 60))
        self.assertAlmostEqual(got.statistic, (rss(slice(0, 60)) - apart) / 2 / (apart / 56), 9)
        self.assertEqual(got.df, (2, 56))
        with self.refused(EstimationError, "further inside"):
            ul.break_test(ul.regress(y, X), at=pd.Period("2010-02", "M"))
