"""Comparison of models and of estimates: against slow computations from the papers, closed forms and known
truths."""

import itertools

import numpy as np
import pandas as pd
import scipy.special
import scipy.stats

import ultrum as ul
from tests.support import Scratch

MONTHS = pd.period_range("2004-01", periods=180, freq="M")


def table(values, names, **facts):
    frame = pd.DataFrame(values, MONTHS[: len(values)], list(names))
    return ul.SeriesTable.from_pandas(frame, measure="return", currency="QML", **facts)


def residuals(y, x):
    return y - x @ np.linalg.lstsq(x, y, rcond=None)[0]


def jackknife_error(statistic, *blocks):
    """Standard error of a statistic of rows by leaving each out."""
    count = len(blocks[0])
    left = np.array([statistic(*(np.delete(b, k, axis=0) for b in blocks)) for k in range(count)])
    return np.sqrt((count - 1) * np.mean((left - left.mean(axis=0)) ** 2, axis=0))


class World(Scratch):
    @classmethod
    def setUpClass(cls):
        rng = np.random.default_rng(5)
        cls.f = rng.normal([0.006, 0.003, 0.004], [0.04, 0.02, 0.03], (180, 3)) @ [
            [1, 0.2, 0],
            [0, 1, 0.1],
            [0, 0, 1],
        ]
        loads = rng.normal([[1.0], [0.3], [0.2]], 0.4, (3, 6))
        cls.y = cls.f @ loads + rng.normal(0.001, 0.03, (180, 6))
        cls.factors = table(cls.f, ["m", "s", "v"], excess_of="bill")
        cls.assets = table(cls.y, "abcdef", excess_of="bill")
        cls.bill = ul.TimeSeries.from_pandas(
            pd.Series(0.002, MONTHS, name="bill"), measure="return", currency="QML"
        )
        whole = table(cls.y + 0.002, "abcdef")
        cls.panel = ul.align(assets=whole, factors=cls.factors, risk_free=cls.bill)


class Spanning(World):
    def test_total_returns_by_determinants(self):
        f, y = self.f[:, :2] + 0.002, self.y[:, :3] + 0.002
        ones = np.ones((180, 1))
        designs = np.hstack([ones, f]), f, f[:, 1:] - f[:, :1]
        free = [
            np.linalg.det((e := residuals(t, x)).T @ e)
            for x, t in zip(designs, (y, y, y - f[:, :1]), strict=True)
        ]
        want = {"spanning": (180 - 5) / 3 * (np.sqrt(free[2] / free[0]) - 1), "alphas": (180 - 5) / 3 * (free[1] / free[0] - 1),
                "betas": (180 - 4) / 3 * (free[2] / free[1] - 1)}  # fmt: skip
        made = ul.spanning_test(table(y, "abc"), table(f, "ms"))
        np.testing.assert_allclose(made.tests["statistic"], pd.Series(want), rtol=1e-8)
        np.testing.assert_allclose(made.p_value, scipy.stats.f.sf(want["spanning"], 6, 350), rtol=1e-8)
        slopes = np.linalg.lstsq(designs[0], y, rcond=None)[0]
        r2 = 1 - residuals(y, designs[0]).var(axis=0) / y.var(axis=0)
        np.testing.assert_allclose(
            made.assets.to_numpy(float), np.column_stack([slopes[0], slopes[1:].sum(axis=0), r2]), rtol=1e-7
        )
        one = ul.spanning_test(table(y[:, :1], "a"), table(f, "ms"))
        fit = ul.regress(pd.Series(y[:, 0]), pd.DataFrame(f, columns=["m", "s"]), errors="classical")
        by_wald = fit.test([[1, 0, 0], [0, 1, 1]], [0, 1])
        np.testing.assert_allclose([one.statistic, one.p_value], [by_wald.statistic, by_wald.p_value], rtol=1e-8)

    def test_excess_returns_are_tested_for_alphas_alone(self):
        made = ul.spanning_test(self.assets, self.factors)
        grs = ul.joint_alpha_test(self.panel, how="exact")
        np.testing.assert_allclose([made.statistic, made.p_value], [grs.statistic, grs.p_value], rtol=1e-8)
        with self.refused(ul.UltrumError, "excess"):
            ul.spanning_test(table(self.y, "abcdef"), self.factors)
        with self.refused(ul.UltrumError, "among"):
            ul.spanning_test(self.factors, self.factors)
        m = self.factors.select(["m"])
        others = {
            "log returns": {"measure": "log_return"},
            "several currencies": {"currency": "QSR"},
            "different rates": {"excess_of": "bond"},
        }
        for word, facts in others.items():
            with self.refused(ul.UltrumError, word):
                ul.spanning_test(self.assets.with_metadata(**facts), m)
        with self.refused(ul.UltrumError, "copy"):
            ul.spanning_test(table(np.column_stack([self.y, 2 * self.y[:, 0]]), "abcdefg", excess_of="bill"), m)

    def test_absent_periods_are_counted(self):
        gap = np.r_[:40, 52:180]
        part = ul.SeriesTable.from_pandas(
            self.assets.to_pandas().iloc[gap], measure="return", excess_of="bill", currency="QML"
        )
        made = ul.spanning_test(part, self.factors)
        self.assertEqual(made.nobs, 168)
        self.assertIn("12 incomplete periods dropped", made.basis)

    def test_the_bootstrap_by_refitting_every_draw(self):
        y, f = self.y[:, :2] + 0.002, self.f[:, :2] + 0.002
        full, apart, shifted = np.column_stack([np.ones(180), f]), f[:, 1:] - f[:, :1], y - f[:, :1]

        def ratio(sample):
            e, r = residuals(sample, full), residuals(sample, apart)
            return np.linalg.det(r.T @ r) / np.linalg.det(e.T @ e)

        null = residuals(shifted, apart)
        hat = np.sum(np.linalg.qr(apart)[0] ** 2, axis=1)
        scaled = null / np.sqrt(1 - hat)[:, None]
        signs = np.random.default_rng(3).choice([-1.0, 1.0], (99, 180))
        drawn = np.array([ratio(scaled * sign[:, None]) for sign in signs])
        made = ul.spanning_test(table(y, "ab"), table(f, "ms"), how="robust", draws=99, seed=3)
        self.assertAlmostEqual(made.p_value, (1 + np.sum(drawn >= ratio(shifted))) / 100, 12)

    def test_each_factor_on_the_others_by_least_squares(self):
        made = ul.factor_spanning_regressions(self.factors, errors="classical")
        x = np.column_stack([np.ones(180), self.f[:, 1:]])
        e = residuals(self.f[:, 0], x)
        alpha = np.linalg.lstsq(x, self.f[:, 0], rcond=None)[0][0]
        error = np.sqrt(e @ e / 177 * np.linalg.inv(x.T @ x)[0, 0])
        np.testing.assert_allclose(
            made.loc["m", ["alpha", "standard_error"]].astype(float), [alpha, error], rtol=1e-8
        )
        self.assertEqual(int(made["nobs"].min()), 180)
        with self.refused(ul.UltrumError, "combination"):
            ul.factor_spanning_regressions(
                table(np.column_stack([self.f, self.f.sum(axis=1)]), "msvx", excess_of="bill")
            )


class SharpeRatios(World):
    def test_errors_by_formula_and_by_leaving_out(self):
        made = ul.sharpe_ratio_tests(self.factors, "m", lags=0, draws=49).ratios / np.sqrt(12)
        r = self.f[:, 0]
        s, n = r.mean() / r.std(), len(r)
        skewness, kurtosis = scipy.stats.skew(r), scipy.stats.kurtosis(r, fisher=False)
        mertens = np.sqrt((1 - skewness * s + s**2 * (kurtosis - 1) / 4) / n)
        np.testing.assert_allclose(made.loc["m", "moments"], mertens, rtol=1e-8)
        np.testing.assert_allclose(made.loc["m", "normal"], np.sqrt((1 + s**2 / 2) / n), rtol=1e-8)
        by_rows = jackknife_error(lambda b: b.mean(axis=0) / b.std(axis=0), self.f)
        np.testing.assert_allclose(made["hac"], by_rows, rtol=0.02)

    def test_the_difference_and_its_bootstrap_by_loops(self):
        rng = np.random.default_rng(2)
        made = ul.sharpe_ratio_tests(self.factors, "m", lags=2, block=4, draws=99, seed=2)
        self.assertIn(
            "annual by √12; HAC with 2 lags; bootstrap in circular blocks of 4 periods, 99 draws, seed 2",
            made.basis,
        )
        pair = self.f[:, [1, 0]]

        def difference(r):
            s = r.mean(axis=0) / r.std(axis=0)
            return s[0] - s[1]

        def influence(r):  # gradient of s in means and second moments (Ledoit and Wolf 2008)
            m, g = r.mean(axis=0), np.mean(r**2, axis=0)
            v = g - m**2
            moments = np.column_stack([r - m, r**2 - g])
            return moments @ np.array(
                [g[0] / v[0] ** 1.5, -g[1] / v[1] ** 1.5, -m[0] / v[0] ** 1.5 / 2, m[1] / v[1] ** 1.5 / 2]
            )

        d = influence(pair)
        long_run = d @ d + 2 * sum((1 - k / 3) * (d[k:] @ d[:-k]) for k in (1, 2))
        error = np.sqrt(long_run * 180 / 179) / 180
        t = difference(pair) / error
        row = made.differences.loc["s"]
        np.testing.assert_allclose(
            row[["difference", "t"]].astype(float), [np.sqrt(12) * difference(pair), t], rtol=1e-7
        )
        starts = rng.integers(0, 180, (99, 45))
        drawn = []
        for first in starts:
            part = pair[((first[:, None] + np.arange(4)) % 180).ravel()]
            sums = influence(part).reshape(45, 4).sum(axis=1)
            drawn.append((difference(part) - difference(pair)) / (np.sqrt(sums @ sums) / 180))
        self.assertAlmostEqual(row["p"], (1 + np.sum(np.abs(drawn) >= abs(t))) / 100, 12)

    def test_what_has_no_ratio_is_refused(self):
        double = table(np.column_stack([self.f[:, 0], 2 * self.f[:, 0]]), "mx", excess_of="bill")
        for returns, word in ((double, "multiple"), (table(self.f, "msv"), "total")):
            with self.refused(ul.UltrumError, word):
                ul.sharpe_ratio_tests(returns, "m")


MODELS = {"one": ["m"], "two": ["s", "v"], "all": ["m", "s", "v"]}
ONE_WINDOW = {
    "windows": ["P3Y"],
    "frequencies": ["M"],
    "adjustments": ["none", "blume"],
    "estimators": ["ols"],
    "draws": 49,
}


class Models(World):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.made = ul.compare_models(cls.panel, MODELS, how="exact")

    @staticmethod
    def squared_sharpe(f):
        v = np.cov(f.T, ddof=0).reshape(f.shape[1], f.shape[1])
        return f.mean(axis=0) @ np.linalg.solve(v, f.mean(axis=0))

    @staticmethod
    def r2(y, f, gls):
        mean = y.mean(axis=0)
        root = np.linalg.inv(np.linalg.cholesky(np.cov(y.T, ddof=0))) if gls else np.eye(len(mean))
        betas = np.linalg.lstsq(np.column_stack([np.ones(len(f)), f]), y, rcond=None)[0][1:].T
        left = [
            residuals(root @ mean, root @ x)
            for x in (np.column_stack([np.ones(len(mean)), betas]), np.ones((len(mean), 1)))
        ]
        return 1 - left[0] @ left[0] / (left[1] @ left[1])

    def test_squared_sharpe_ratios_and_their_differences(self):
        m, two = self.f[:, :1], self.f[:, 1:]
        row = self.made.models.loc["two"]
        theta = self.squared_sharpe(two)
        np.testing.assert_allclose(row["squared_sharpe"], theta, rtol=1e-9)
        # T·θ̂²(T−K)/(K·T) is a noncentral F; the adjusted value solves for the mean
        mean_of_f = scipy.stats.ncf.mean(2, 178, 180 * row["adjusted"])
        np.testing.assert_allclose(mean_of_f * 2 / 178, theta, rtol=1e-6)
        pair = self.made.pairs.loc[("one", "two", "squared Sharpe ratio")]
        error = jackknife_error(lambda a, b: self.squared_sharpe(a) - self.squared_sharpe(b), m, two)
        np.testing.assert_allclose(pair["standard_error"], error, rtol=0.05)
        np.testing.assert_allclose(
            pair["p_value"], 2 * scipy.stats.norm.sf(abs(pair["difference"] / pair["standard_error"])), rtol=1e-8
        )
        self.assertEqual(pair["test"], "normal")

    def test_nested_models_by_the_alphas_of_the_further_factors(self):
        pair = self.made.pairs.loc[("one", "all", "squared Sharpe ratio")]
        want = ul.spanning_test(self.factors.select(["s", "v"]), self.factors.select(["m"]))
        np.testing.assert_allclose(pair["p_value"], want.p_value, rtol=1e-9)
        alphas = ul.joint_alpha_test(self.panel, ["m"])
        np.testing.assert_allclose(self.made.models.loc["one", "alphas_p"], alphas.p_value, rtol=1e-8)

    def test_r2_of_cross_sections(self):
        for gls, name in ((False, "ols_r2"), (True, "gls_r2")):
            want = self.r2(self.y, self.f[:, 1:], gls)
            error = jackknife_error(
                lambda y, f, g=gls: self.r2(y, f[:, :1], g) - self.r2(y, f[:, 1:], g), self.y, self.f
            )
            np.testing.assert_allclose(self.made.models.loc["two", name], want, rtol=1e-8)
            pair = self.made.pairs.loc[("one", "two", name.upper().replace("_R2", " R²"))]
            np.testing.assert_allclose(pair["standard_error"], error, rtol=0.15)

    def test_prices_of_covariance_by_leaving_out(self):
        def prices(y, f):
            c = np.column_stack([np.ones(6), (y - y.mean(axis=0)).T @ (f - f.mean(axis=0)) / len(y)])
            return np.linalg.lstsq(c, y.mean(axis=0), rcond=None)[0]

        count = 180
        left = np.array(
            [prices(np.delete(self.y, k, axis=0), np.delete(self.f, k, axis=0)) for k in range(count)]
        )
        spread = (count - 1) * np.cov(left.T, ddof=0)
        at = prices(self.y, self.f)[2:]
        wald = at @ np.linalg.solve(spread[2:, 2:], at)
        made = self.made.pairs.loc[("one", "all", "OLS R²")]
        self.assertAlmostEqual(made["p_value"], scipy.stats.chi2.sf(wald, 2), 1)

    def test_the_best_of_several_by_the_mixture_in_closed_form(self):
        models = {"m": ["m"], "s": ["s"], "v": ["v"]}
        made = ul.compare_models(self.panel, models, how="exact")

        def gaps(f):
            return np.array([self.squared_sharpe(f[:, [0]]) - self.squared_sharpe(f[:, [k]]) for k in (1, 2)])

        count = 180
        left = np.array([gaps(np.delete(self.f, k, axis=0)) for k in range(count)])
        spread = (count - 1) * np.cov(left.T, ddof=0)
        d, inverse = gaps(self.f), np.linalg.inv(spread)
        grid = [np.zeros(2), np.maximum(d, 0) * (d.min() >= 0)]
        grid += [np.eye(2)[k] * max(0.0, (inverse @ d)[k] / inverse[k, k]) for k in (0, 1)]
        distance = 0.0 if d.min() >= 0 else min((d - g) @ inverse @ (d - g) for g in grid)
        rho = spread[0, 1] / np.sqrt(spread[0, 0] * spread[1, 1])
        two = (np.pi - np.arccos(-rho)) / (2 * np.pi)
        want = (
            1.0
            if distance == 0
            else 0.5 * scipy.stats.chi2.sf(distance, 1) + two * scipy.stats.chi2.sf(distance, 2)
        )
        self.assertAlmostEqual(made.models.loc["m", "best_p"], want, 1)

    def test_words_say_who_is_preferred_and_where_tests_disagree(self):
        from ultrum.core.model_comparison.compare_models import _agreement

        self.assertIn("disagree", _agreement(["a", "b", ""]))
        self.assertIn("GLS R² cannot tell", _agreement(["a", "a", ""]))
        for models, word in (
            ({"a": ["m"]}, "one model"),
            ({"a": ["m"], "b": ["m"]}, "same factors"),
            ({"a": ["x"], "b": ["m"]}, "'x'"),
        ):
            with self.refused(ul.UltrumError, word):
                ul.compare_models(self.panel, models)


class ForecastTests(Scratch):
    def test_diebold_mariano_by_its_formula(self):
        rng = np.random.default_rng(0)
        a, b = pd.Series(rng.normal(1, 0.3, 40)), pd.Series(rng.normal(1, 0.3, 40))
        d = (a - b).to_numpy()
        e = d - d.mean()
        variance = (e @ e + 2 * (e[1:] @ e[:-1])) / 40
        t = np.sqrt((41 - 4 + 2 / 40) / 40) * d.mean() / np.sqrt(variance / 40)
        made = ul.diebold_mariano_test(a, b, horizon=2)
        np.testing.assert_allclose(
            [made.statistic, made.p_value], [t, 2 * scipy.stats.t.sf(abs(t), 39)], rtol=1e-9
        )
        with self.refused(ul.UltrumError, "do not vary"):
            ul.diebold_mariano_test(a, a)

    def test_mincer_zarnowitz_by_the_jackknife_over_clusters(self):
        rng = np.random.default_rng(1)
        f = pd.Series(rng.normal(size=60))
        dates = pd.Series(np.arange(60) // 5)
        y = 0.1 + 0.8 * f + pd.Series(rng.normal(size=60) * 0.3)
        made = ul.mincer_zarnowitz_test(y, f, clusters=dates)
        x = np.column_stack([np.ones(60), f])
        full = np.linalg.lstsq(x, y, rcond=None)[0]
        left = np.array([np.linalg.lstsq(x[dates != g], y[dates != g], rcond=None)[0] for g in range(12)])
        spread = 11 / 12 * (left - full).T @ (left - full)
        gap = full - [0, 1]
        wald = gap @ np.linalg.solve(spread, gap) / 2
        np.testing.assert_allclose(made.statistic, wald, rtol=1e-7)

    def test_the_confidence_set_by_loops(self):
        rng = np.random.default_rng(3)
        L = pd.DataFrame(rng.normal([1, 1.1, 1.6, 1.2], 0.6, (50, 4)), columns=list("abcd"))
        made = ul.model_confidence_set(L, block=1.0, draws=99, seed=4)
        generator = np.random.default_rng(4)  # blocks of one period: every row is drawn anew
        generator.random((99, 50))
        rows = generator.integers(0, 50, (99, 50))
        left, p_values, largest = list("abcd"), {}, 0.0
        while len(left) > 1:
            part = L[left].to_numpy()
            off = part.mean(axis=0) - part.mean()
            moves = [part[r].mean(axis=0) - part[r].mean() - off for r in rows]
            error = np.sqrt(np.mean(np.square(moves), axis=0))
            worst = int(np.argmax(off / error))
            reached = np.sum(np.max(moves / error, axis=1) >= (off / error)[worst])
            largest = max(largest, (1 + reached) / 100)
            p_values[left.pop(worst)] = largest
        for name, p in p_values.items():
            self.assertAlmostEqual(made.table.loc[name, "p_value"], p, 12)
        self.assertEqual(made.table["p_value"].max(), 1.0)
        with self.refused(ul.UltrumError, "same losses"):
            ul.model_confidence_set(L.assign(e=L["a"]))


class BetaForecasts(World):
    def setUp(self):
        super().setUp()
        self.whole = table(self.y + 0.002, "abcdef")
        self.market = table(self.f[:, :1] + 0.002, "m")["m"]

    def test_forecasts_outcomes_and_errors_by_hand(self):
        made = ul.evaluate_betas(self.whole, self.market, risk_free=self.bill, **ONE_WINDOW)
        x, y = self.f[:, 0], self.y
        squared, hedged, noise, forecasts = [], [], [], []
        for end in range(168, 35, -12):

            def slope(rows, k):
                return ul.regress(y[rows, k], x[rows]).coefficients.iloc[1]

            now, later = slice(end - 36, end), slice(end, end + 12)
            for k in range(6):
                b, fit = slope(now, k), ul.regress(pd.Series(y[later, k]), x[later])
                forecasts.append(b)
                squared.append((b - fit.coefficients.iloc[1]) ** 2)
                noise.append(fit.standard_errors.iloc[1] ** 2)
                left = y[later, k] - b * x[later]
                hedged.append(np.sum((left - left.mean()) ** 2))
        row = made.table.loc["P3Y, M, none, ols"]
        np.testing.assert_allclose(row["mse"], np.mean(squared) - np.mean(noise), rtol=1e-7)
        np.testing.assert_allclose(
            row["hedging_volatility"], np.sqrt(12 * np.sum(hedged) / (11 * len(hedged))), rtol=1e-7
        )
        blume = made.forecasts["P3Y, M, blume, ols"]
        np.testing.assert_allclose(sorted(blume), np.sort(0.343 + 0.677 * np.array(forecasts)), rtol=1e-7)
        mean = made.forecasts[["P3Y, M, none, ols", "P3Y, M, blume, ols"]].mean(axis=1)
        np.testing.assert_allclose(made.forecasts["mean of all"], mean)

    def test_a_forecast_knows_nothing_of_later_rows(self):
        made = ul.evaluate_betas(self.whole, self.market, risk_free=self.bill, **ONE_WINDOW).forecasts
        early = ul.evaluate_betas(
            self.whole.sample(None, "2017-12"),
            self.market.sample(None, "2017-12"),
            risk_free=self.bill,
            **ONE_WINDOW,
        ).forecasts
        both = made.index.intersection(early.index)
        self.assertEqual(len(both), len(early))
        pd.testing.assert_frame_equal(made.loc[both], early.loc[both], rtol=1e-9)

    def test_a_choice_without_forecasts_is_named(self):
        with self.refused(ul.UltrumError, "P12Y, M, none, ols"):
            ul.evaluate_betas(
                self.whole, self.market, risk_free=self.bill, **ONE_WINDOW | {"windows": ["P3Y", "P12Y"]}
            )


class ImpliedCosts(Scratch):
    def cost(self, model, columns, **options):
        made = ul.implied_cost_of_equity(pd.DataFrame(columns, ["A"]), model=model, **options)
        return float(made.value["A"])

    def test_each_model_is_worth_the_price(self):
        r = self.cost(
            "two-stage",
            {"price": 40.0, "dividend_1": 2.0, "growth": 0.08, "growth_years": 4.0},
            long_run_growth=0.03,
        )
        paid = [2.0 * 1.08 ** min(t, 3) * 1.03 ** max(t - 3, 0) / (1 + r) ** (t + 1) for t in range(4000)]
        self.assertAlmostEqual(sum(paid), 40.0, 8)
        h = self.cost(
            "H-model",
            {"price": 40.0, "dividend_0": 2.0, "growth": 0.08, "growth_years": 6.0},
            long_run_growth=0.03,
        )
        self.assertAlmostEqual(h, 2.0 / 40.0 * (1.03 + 3 * 0.05) + 0.03, 10)
        aeg = self.cost("abnormal earnings growth", {"price": 40.0, "earnings_1": 3.0, "earnings_2": 3.3, "dividend_1": 1.5},
                        long_run_growth=0.03)  # fmt: skip
        a = 0.5 * (0.03 + 1.5 / 40)
        self.assertAlmostEqual(aeg, a + np.sqrt(a**2 + 3.0 / 40 * (0.1 - 0.03)), 10)
        book, paid_out = (
            {"price": 40.0, "book_value": 30.0, "payout": 0.4, "earnings_1": 4.0, "earnings_2": 4.4},
            0.4,
        )
        r = self.cost("residual income", book, persistence=0.5)
        b1 = 30 + 4 * (1 - paid_out)
        first, second = 4 - 30 * r, 4.4 - b1 * r
        later = sum(second * 0.5**k / (1 + r) ** (2 + k) for k in range(1, 200))
        self.assertAlmostEqual(30 + first / (1 + r) + second / (1 + r) ** 2 + later, 40.0, 8)
        r = self.cost("residual income", book, fade_years=1)
        b2 = b1 + 4.4 * 0.6
        fade = (4.4 / b1 - r) / 2 * b2
        self.assertAlmostEqual(
            30 + first_of(30, 4, r) + (4.4 - b1 * r) / (1 + r) ** 2 + fade / (1 + r) ** 3, 40.0, 8
        )
        early = {"price": 40.0, "dividend_1": 2.0, "growth": 0.03, "years_to_first": 0.5}
        r = self.cost("constant growth", early)
        self.assertAlmostEqual(sum(2.0 * 1.03**t / (1 + r) ** (t + 0.5) for t in range(4000)), 40.0, 7)

    def test_the_truth_is_recovered_when_forecasts_are_right(self):
        world = ul.practice.forecasts()
        table = world.table
        bias = table["dividend_1"] * 0.0
        for model, options in (("two-stage", {"long_run_growth": 0.025}), ("abnormal earnings growth", {"long_run_growth": 0.025}),
                               ("residual income", {"fade_years": 10})):  # fmt: skip
            made = ul.implied_cost_of_equity(table, model=model, bias=bias + world.true_bias, **options)
            self.assertLess(abs((made.value - world.true_costs).mean()), 0.001)
            self.assertLess((made.value - world.true_costs).std(), 0.004)
        raw = ul.implied_cost_of_equity(table, long_run_growth=0.025)
        self.assertGreater(
            (raw.value - world.true_costs).mean(), 0.003
        )  # an optimistic forecast implies a high cost
        bias = ul.forecast_bias(world.history)
        self.assertLess(abs(bias["bias"]["all"] - world.true_bias), 2.5 * bias["standard_error"]["all"])

    def test_no_root_and_several_are_not_a_cost(self):
        rows = pd.DataFrame(
            {"price": [40.0, 40.0, -1.0], "dividend_1": [-1.0, np.nan, 1.0], "growth": 0.02}, list("abc")
        )
        with self.assertWarnsRegex(ul.DataWarning, "no cost for a, b, c"):
            made = ul.implied_cost_of_equity(rows, model="constant growth")
        self.assertEqual(made.value.isna().sum(), 3)
        self.assertEqual(["worth less" in made.table["note"]["a"], "missing" in made.table["note"]["b"], "price" in made.table["note"]["c"]],
                         [True] * 3)  # fmt: skip
        # dividends and the last book value: 1.5x − x² is 0.54 at x = 1/(1 + r) = 0.6 and 0.9
        two = pd.DataFrame(
            {"price": 0.54, "book_value": 1.0, "payout": 1.0, "earnings_1": 1.5, "earnings_2": -2.0}, ["a"]
        )
        with self.assertWarnsRegex(ul.DataWarning, "2 rates solve"):
            made = ul.implied_cost_of_equity(two, model="residual income")
        self.assertEqual((made.table["roots"]["a"], made.value.isna().all()), (2, True))

    def test_a_root_on_the_grid_of_the_search_is_one_root(self):
        for rate in 1e-6 + (1.0 - 1e-6) * np.linspace(0.0, 1.0, 400)[[60, 100, 200]] ** 2:
            self.assertAlmostEqual(
                self.cost("constant growth", {"price": 1.0, "dividend_1": rate, "growth": 0.0}), rate, 12
            )

    def test_uncertainty_of_a_closed_form(self):
        rows = pd.DataFrame(
            {
                "price": 40.0,
                "dividend_1": 2.0,
                "growth": 0.03,
                "forecast_sd": 0.2,
                "analysts": 4,
                "growth_sd": 0.01,
            },
            ["a"],
        )
        made = ul.implied_cost_of_equity(rows, model="constant growth", bias=0.25, bias_error=0.05, draws=20000)
        level, parts = 2.0 / 1.25 / 40, np.array([0.1, 0.0, 0.0, 0.05 / 1.25])
        want = np.array([level * parts[0], 0.01 / 2, 0.0, level * parts[3]])
        self.assertAlmostEqual(made.value["a"], level + 0.03, 10)
        np.testing.assert_allclose(made.standard_error["a"], np.sqrt(want @ want), rtol=0.03)
        np.testing.assert_allclose(made.shares.loc["a"], want**2 / (want @ want), rtol=1e-3, atol=1e-9)
        low, high = made.interval(0.9).loc["a"]
        self.assertTrue(low < made.value["a"] < high)

    def test_bias_and_market_by_hand(self):
        past = pd.DataFrame({"asset": list("abab") * 2, "period": np.repeat([1, 2, 3, 4], 2),
                             "forecast": [1.2, 11.0, 1.0, 9.5, 1.3, 10.0, np.nan, 12.0],
                             "outcome": [1.0, 10.0, 1.0, 10.0, 1.0, 10.0, 1.0, 10.0]})  # fmt: skip
        made = ul.forecast_bias(past).loc["all"]
        told = np.array([1.2 + 1.1, 1.0 + 0.95, 1.3 + 1.0, 1.2])
        came = np.array([2.0, 2.0, 2.0, 1.0])
        bias = told.sum() / came.sum() - 1
        score = (told - (1 + bias) * came) / came.sum()
        np.testing.assert_allclose(
            made[["bias", "standard_error", "n", "left_out"]], [bias, np.sqrt(score @ score * 4 / 3), 7, 1]
        )
        stocks = pd.DataFrame(
            {"price": [50.0, 20.0, 10.0], "dividend_1": [2.0, 1.0, 1.0], "growth": 0.03}, list("abc")
        )
        costs = ul.implied_cost_of_equity(stocks, model="constant growth")
        premium = ul.implied_premium(costs, pd.Series({"a": 300.0, "b": 100.0, "d": 100.0}), 0.03)
        self.assertAlmostEqual(premium.value, 0.75 * 0.07 + 0.25 * 0.08 - 0.03, 10)
        self.assertIn("80 % of market value, without d", premium.basis)

    def test_what_is_paid_is_no_forecast_and_a_missing_spread_gives_no_error(self):
        paid = pd.DataFrame(
            {"price": [40.0], "dividend_0": [2.0], "growth": [0.08], "growth_years": [6.0], "forecast_sd": [0.2]},
            ["a"],
        )
        made = ul.implied_cost_of_equity(paid, model="H-model", long_run_growth=0.03, long_run_growth_error=0.01)
        self.assertEqual(made.slopes.loc["a", ["forecasts", "bias"]].tolist(), [0.0, 0.0])
        self.assertIn("columns not used: forecast_sd", made.basis)
        slope = 1.0 - 2.0 / 40.0 * 2.0  # of D₀/P·(1 + g∞ + 3(g − g∞)) + g∞
        np.testing.assert_allclose(made.standard_error["a"], 0.01 * slope, rtol=0.05)
        with self.refused(ul.UltrumError, "not a forecast"):
            ul.implied_cost_of_equity(paid, model="H-model", long_run_growth=0.03, bias=0.1)
        rows = pd.DataFrame(
            {"price": [40.0, 40.0], "dividend_1": 2.0, "growth": 0.03, "forecast_sd": [0.2, np.nan]}, ["a", "b"]
        )
        made = ul.implied_cost_of_equity(rows, model="constant growth")
        self.assertEqual((made.value["b"], np.isnan(made.standard_error["b"])), (made.value["a"], True))
        self.assertIn("forecast_sd or growth_sd is missing", made.table["note"]["b"])
        bare = ul.implied_cost_of_equity(rows.drop(columns="forecast_sd"), model="constant growth")
        self.assertTrue(bare.standard_error.isna().all())
        with self.refused(ul.UltrumError, "decimals"):
            ul.implied_cost_of_equity(rows.assign(growth=1.5), model="constant growth")  # 1.5 %

    def test_an_option_of_another_model_is_refused(self):
        rows = pd.DataFrame(
            {"price": [40.0], "dividend_1": [2.0], "growth": [0.03], "growth_years": [5.0]}, ["a"]
        )
        cases = [({"model": "constant growth", "long_run_growth": 0.02}, "no effect"), ({"model": "two-stage"}, "long_run_growth"),
                 ({"model": "two-stage", "long_run_growth": 0.02, "fade_years": 3}, "fade_years"),
                 ({"model": "residual income"}, "book_value"), ({"model": "two-stage", "long_run_growth": 2.5}, "decimals")]  # fmt: skip
        for options, word in cases:
            with self.refused(ul.UltrumError, word):
                ul.implied_cost_of_equity(rows, **options)


def first_of(book, earnings, r):
    return (earnings - book * r) / (1 + r)


class HierarchicalCosts(Scratch):
    def test_one_factor_by_a_grid_of_both_deviations(self):
        panel = ul.practice.panel()
        betas = ul.factor_betas(panel, ["market"])
        groups = {a: "abc"[k % 3] for k, a in enumerate(betas.assets)}
        made = ul.hierarchical_cost_of_equity(betas, groups, premia={"market": 0.05}, risk_free=0.0, draws=3000)
        b, se = betas.coefficients["market"].to_numpy(), betas.standard_errors["market"].to_numpy()
        codes = np.array(["abc".index(groups[a]) for a in betas.assets])
        size = max(np.sqrt(np.mean(se**2)), b.std())
        steps = np.linspace(0.01, 1.5, 70)
        weights, means = [], []
        for tau, omega in itertools.product(steps, steps):
            v = np.diag(se**2 + tau**2) + omega**2 * (codes[:, None] == codes)
            inverse = np.linalg.inv(v)
            total = inverse.sum()
            mu = inverse.sum(axis=0) @ b / total
            log = -0.5 * (np.linalg.slogdet(v)[1] + np.log(total) + (b - mu) @ inverse @ (b - mu))
            prior = (1 + (tau / size) ** 2 / 2) ** -1.5 * (1 + (omega / size) ** 2 / 2) ** -1.5
            weights.append(log + np.log(prior))
            means.append(b - se**2 * (inverse @ (b - mu)))
        weights = np.exp(np.array(weights) - max(weights))
        want = 0.05 * (weights / weights.sum()) @ np.array(means)
        np.testing.assert_allclose(made.companies["cost"], want, atol=0.0006)
        np.testing.assert_allclose(made.companies[["own", "industry_weight", "all"]].sum(axis=1), 1.0)

    def test_known_truths_are_covered_for_firms_and_new_ones(self):
        inside, fresh, count = 0, 0, 0
        index = pd.period_range("2010-01", periods=60, freq="M")
        for world in range(3):
            rng = np.random.default_rng(world)
            names = [f"C{k:02d}" for k in range(40)]
            industry = pd.Series(rng.integers(0, 5, 60), [*names, *(f"N{k}" for k in range(20))]).map(
                "abcde".__getitem__
            )
            size = pd.Series(rng.normal(size=60), industry.index)
            centre = pd.Series(rng.normal(1.0, 0.2, 5), list("abcde"))
            beta = industry.map(centre) + 0.15 * size + rng.normal(0, 0.2, 60)
            f = rng.normal(0.005, 0.04, (60, 1))
            y = pd.DataFrame(f * beta[names].to_numpy() + rng.normal(0, 0.07, (60, 40)), index, names)
            betas = ul.regress(y, pd.DataFrame(f, index, ["market"]), errors="classical")
            new = pd.DataFrame({"industry": industry, "size": size}).iloc[40:]
            made = ul.hierarchical_cost_of_equity(betas, industry[names], premia={"market": 0.05}, risk_free=0.02,
                                                  characteristics=size.to_frame("size"), unlisted=new, seed=world)  # fmt: skip
            for part, labels in ((made.companies, names), (made.unlisted, new.index)):
                truth = 0.02 + 0.05 * beta[labels]
                hit = int(((part["low"] <= truth) & (truth <= part["high"])).sum())
                inside, fresh = (inside + hit, fresh) if labels is names else (inside, fresh + hit)
            count += 1
        self.assertGreater(inside / (40 * count), 0.91)
        self.assertGreater(fresh / (20 * count), 0.87)

    def test_who_is_left_out_is_named(self):
        betas = ul.factor_betas(ul.practice.panel(), ["market"])
        groups = dict.fromkeys(betas.assets[2:], "sea")
        made = ul.hierarchical_cost_of_equity(betas, groups, premia={"market": 0.05}, risk_free=0.02, draws=49)
        self.assertIn("without BRTW, EBMK", made.basis)
        early = ul.hierarchical_cost_of_equity(
            betas, groups, premia={"market": 0.05}, risk_free=ul.practice.panel().rate, on="2010-06", draws=49
        )
        self.assertEqual(early.risk_free, ul.cost_of_equity(
            betas, premia={"market": 0.05}, risk_free=ul.practice.panel().rate, on="2010-06").risk_free)  # fmt: skip
        self.assertEqual(len(made.companies), len(groups))
        with self.refused(ul.UltrumError, "at least 5"):
            ul.hierarchical_cost_of_equity(betas, {"BRTW": "sea"}, premia={"market": 0.05}, risk_free=0.02)


class CostsSideBySide(Scratch):
    def test_parts_of_a_difference_by_hand(self):
        panel = ul.practice.panel()
        one, two = ul.factor_betas(panel, ["market"]), ul.factor_betas(panel, ["market", "value"])
        stocks = pd.DataFrame({"price": [50.0], "dividend_1": [2.0], "growth": [0.03]}, ["BRTW"])
        costs = {
            "CAPM": ul.cost_of_equity(one, premia={"market": 0.05}, risk_free=0.03, draws=0),
            "two": ul.cost_of_equity(two, premia={"market": 0.06, "value": 0.02}, risk_free=0.025, draws=0,
                                     add_ons={"size": (0.004, "small")}),
            "implied": ul.implied_cost_of_equity(stocks, model="constant growth"),
        }  # fmt: skip
        made = ul.compare_costs(costs, "BRTW")
        b0, b1 = one.coefficients.loc["BRTW", "market"], two.coefficients.loc["BRTW", "market"]
        want = {"risk-free rate": -0.005, "market beta": (b1 - b0) * 0.055, "market premium": 0.01 * (b0 + b1) / 2,
                "value": 0.02 * two.coefficients.loc["BRTW", "value"], "size": 0.004}  # fmt: skip
        got = made.differences.loc["two", "difference"]
        self.assertEqual(set(got.index), set(want))
        np.testing.assert_allclose(got[list(want)], list(want.values()), atol=1e-12)
        np.testing.assert_allclose(
            made.table["cost"], [0.03 + 0.05 * b0, 0.03 + 0.05 * b0 + got.sum(), 0.07], atol=1e-9
        )
        turned = ul.compare_costs(dict(reversed(costs.items())), "BRTW").in_words()[1]
        self.assertIn(f"a premium of market of {100 * 0.04 / b0:.2f} % in CAPM", turned)
        closing = made.in_words()[1]  # the premium it names makes the costs equal
        self.assertIn(f"a premium of market of {100 * 0.04 / b0:.2f} %", closing)
        self.assertIn(f"forecasts {100 * (0.04 - 0.05 * b0) / 0.04:.0f} % lower", closing)
        with self.refused(ul.UltrumError, "no EBMK"):
            ul.compare_costs(costs, "EBMK")
