"""Errors and tests for few clusters, persistence, weak betas and many tests, against slow computations."""

import unittest
import warnings
from functools import partial

import numpy as np
import pandas as pd
import scipy.stats
from scipy.signal import lfilter

import ultrum as ul
from tests.support import months
from tests.test_premia import made_panel
from ultrum.core.pricing.alpha_and_multiple_tests import alpha_t_and_draws, step_down
from ultrum.core.pricing.two_pass_standard_errors import equal_betas_test, misspecification_robust, robust_sets
from ultrum.core.regression.engine.newey_west_and_fixed_b import fixed_b_degrees
from ultrum.core.regression.predictive_regression import correct_bias, hodrick_1b, ivx_wald, out_of_sample
from ultrum.errors import AlignmentError, DataWarning, EstimationError, UnitError


def data(T=72, seed=4):
    rng = np.random.default_rng(seed)
    x = pd.DataFrame(rng.normal(size=(T, 2)).cumsum(axis=0), months(T), ["one", "two"])
    y = 0.5 * x["one"] + pd.Series(rng.normal(size=T).cumsum(), x.index)
    return y.rename("y"), x


def ols(X, y):
    return np.linalg.lstsq(X, y, rcond=None)[0]


class LongRun(unittest.TestCase):
    def slow(self, y, x, prewhiten=False, positions=None):
        X = np.column_stack([np.ones(len(y)), x])
        e = y - X @ ols(X, y)
        positions = np.arange(len(y)) if positions is None else positions
        s = np.zeros((positions[-1] + 1, 3))  # of each coefficient
        s[positions] = X @ np.linalg.inv(X.T @ X) * e.to_numpy()[:, None]
        count, rows = int(0.4 * len(y) ** (2 / 3)), len(s)
        u, rho = s, np.zeros(3)
        if prewhiten:

            def first(a):
                r = a[:-1] @ a[1:] / (a[:-1] @ a[:-1])
                return np.clip(r + (1 + 3 * r) / len(a), -0.97, 0.97)

            weights = (X @ np.linalg.inv(X.T @ X)).T
            rho = np.array(
                [max(first(a), first(w) * first(e.to_numpy())) for a, w in zip(s.T, weights, strict=True)]
            )
            u = s[1:] - rho * s[:-1]
        total = np.zeros((3, 3))
        for j in range(1, count + 1):
            wave = np.cos(np.pi * j * (np.arange(len(u)) + 0.5) / len(u)) * np.sqrt(2 / len(u))
            total += np.outer(wave @ u, wave @ u) * rows / count
        total = total / (1 - rho)[:, None] / (1 - rho) * len(y) / (len(y) - 3)
        return np.sqrt(np.diag(total)), count

    def test_cosine_errors_are_those_by_hand_in_any_order_and_over_gaps(self):
        y, x = data()
        for prewhiten in (False, True):
            error, count = self.slow(y, x, prewhiten)
            mixed = np.random.default_rng(0).permutation(len(y))
            fit = ul.regress(y.iloc[mixed], x, errors="ewc", prewhiten=prewhiten)
            np.testing.assert_allclose(fit.standard_errors, error, rtol=1e-9)
            self.assertEqual(fit.df, count)
        kept = np.r_[0:20, 33:72]
        error, _ = self.slow(y.iloc[kept], x.iloc[kept], positions=kept)
        fit = ul.regress(y.iloc[kept], x.iloc[kept], errors="EWC")
        np.testing.assert_allclose(fit.standard_errors, error, rtol=1e-9)
        joint = fit.test(["one", "two"])
        b, V = fit.coefficients[1:], fit.covariance.iloc[1:, 1:]
        hotelling = b @ np.linalg.solve(V, b) * (fit.df - 1) / (2 * fit.df)
        self.assertAlmostEqual(joint.statistic, hotelling)
        self.assertEqual(joint.df, (2, fit.df - 1))

    def test_persistent_slopes_are_named_and_the_fix_has_the_right_size(self):
        rng, rejected, heard = np.random.default_rng(6), [], {}
        for root in (0.9, 0.0):
            heard[root] = 0
            for _ in range(60):
                e = lfilter([1.0], [1.0, -root], rng.standard_normal((3, 200)), axis=1)[:, 80:]
                y, x = pd.Series(e[0], months(120), name="y"), pd.DataFrame(e[1:].T, months(120), ["one", "two"])
                with warnings.catch_warnings(record=True) as caught:
                    warnings.simplefilter("always")
                    fit = ul.regress(y, x["one"], errors="hac")
                words = [str(w.message) for w in caught if "Autocorrelated scores: one in y" in str(w.message)]
                heard[root] += len(words)
                if root and words:
                    self.assertIn("errors='ewc-prewhitened'", words[0])
                    rejected += [
                        [
                            f.p_values["one"] < 0.05
                            for f in (fit, ul.regress(y, x["one"], errors="ewc-prewhitened"))
                        ]
                    ]
        self.assertGreater(heard[0.9], 54)
        self.assertLess(heard[0.0], 4)
        rates = np.mean(rejected, axis=0)
        self.assertTrue(rates[0] > 0.2 > rates[1], rates)
        pair = pd.DataFrame({"y": y, "z": y.iloc[:100]})
        weights = pd.Series(rng.uniform(0.1, 5.0, 120), pair.index)
        for name, rows in (("y", 120), ("z", 100)):
            for options, root in (
                ({}, np.ones(rows)),
                ({"weights": weights}, np.sqrt(weights.to_numpy()[:rows])),
            ):
                X = np.column_stack([np.ones(rows), x.iloc[:rows]]) * root[:, None]
                left = pair[name].to_numpy()[:rows] * root
                s = np.linalg.pinv(X) * (left - X @ ols(X, left))
                r = np.sum(s[:, 1:] * s[:, :-1], axis=1) / np.sum(s[:, :-1] ** 2, axis=1)
                scores = ul.regress(pair, x, **options).score_autocorrelation
                np.testing.assert_allclose(scores.loc[name], r + (1 + 3 * r) / (rows - 1))

    def test_rolling_windows_give_what_each_gives_alone(self):
        y, x = data()
        y[30] = np.nan
        for errors in ("ewc", "ewc-prewhitened", "hac-fixed-b"):
            rolled = ul.rolling_regress(y, x, window=48, errors=errors)
            for end in (50, 71):
                some = slice(end - 47, end + 1)
                alone = ul.regress(y.iloc[some], x.iloc[some], errors=errors)
                got = rolled.interval("y", "two").loc[y.index[end]]
                wanted = alone.interval().loc["two"]
                np.testing.assert_allclose(got[["low", "high"]], wanted, rtol=1e-7)

    def test_fixed_b_has_the_published_critical_values(self):
        for lags, rows, value in ((9, 100, 2.2606), (24, 250, 2.2606), (49, 100, 3.4822)):
            df = fixed_b_degrees(np.array([lags]), np.array([rows]))[0]
            self.assertAlmostEqual(scipy.stats.t.ppf(0.975, df), value, places=3)
        y, x = data()
        one, other = (ul.regress(y, x, errors=e, lags=9) for e in ("hac", "hac-fixed-b"))
        np.testing.assert_allclose(one.standard_errors, other.standard_errors)
        self.assertTrue((other.p_values > one.p_values).all())
        with self.assertRaisesRegex(EstimationError, "prewhiten=True has no effect"):
            ul.regress(y, x, prewhiten=True)

    def test_diagnose_recommends_by_persistence(self):
        rng = np.random.default_rng(0)
        shocks, x = rng.normal(size=(2, 400))
        for rho, wanted in ((0.0, "hac"), (0.5, "ewc"), (0.9, "ewc-prewhitened")):
            e = shocks.copy()
            for t in range(1, 400):
                e[t] += rho * e[t - 1]
            y = pd.Series(e, months(400))
            found = ul.diagnose(ul.regress(y, pd.Series(x, y.index, name="x")), draws=19)
            self.assertEqual(found.recommended, wanted)
            self.assertIn(f"errors='{wanted}'", repr(found))
        short = ul.regress(y.iloc[:40].sample(40, random_state=1), pd.Series(x, y.index))
        self.assertIn(ul.diagnose(short, draws=19).recommended, ("ewc", "ewc-prewhitened"))


class Clusters(unittest.TestCase):
    def setUp(self):
        self.y, self.x = data()
        self.groups = pd.Series(np.repeat(np.arange(9), 8)[::-1], self.y.index)

    def test_cr3_refits_without_each_cluster(self):
        with self.assertWarnsRegex(DataWarning, "9 clusters"):
            ul.regress(self.y, self.x, clusters=self.groups)
        with warnings.catch_warnings():
            warnings.simplefilter("error")  # which advises what is done here
            fit = ul.regress(self.y, self.x, clusters=self.groups, errors="cr3")
        X = np.column_stack([np.ones(len(self.y)), self.x])
        b = ols(X, self.y)
        moves = [ols(X[keep], self.y[keep]) - b for keep in ((self.groups != g).to_numpy() for g in range(9))]
        np.testing.assert_allclose(fit.covariance, 8 / 9 * np.array(moves).T @ moves, rtol=1e-8)
        self.assertEqual((fit.df, fit.errors), (8, "cr3"))
        with self.assertRaisesRegex(EstimationError, "clusters="):
            ul.regress(self.y, self.x, errors="cr3")

    def test_the_wild_bootstrap_by_loops(self):
        fit = ul.regress(self.y, self.x)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            jackknifed = ul.regress(self.y, self.x, clusters=self.groups, errors="cr3")
        test = ul.wild_cluster_test(fit, self.groups.sample(frac=1, random_state=1), "two", 0.1,
                                    draws=99, seed=3)  # fmt: skip
        wanted = (fit.coefficients["two"] - 0.1) / jackknifed.standard_errors["two"]
        self.assertAlmostEqual(test.statistic, wanted)
        X = np.column_stack([np.ones(len(self.y)), self.x])
        under = self.y - 0.1 * self.x["two"]
        fitted = X[:, :2] @ ols(X[:, :2], under)
        left = (under - fitted).to_numpy()
        signs = np.array([-1.5, -1, -0.5, 0.5, 1, 1.5])[np.random.default_rng(3).integers(0, 6, (99, 9))]
        codes = pd.factorize(self.groups)[0]
        larger = 0
        for draw in np.sign(signs) * np.sqrt(abs(signs)):
            again = pd.Series(fitted + left * draw[codes], self.y.index)
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                made = ul.regress(again, self.x, clusters=self.groups, errors="cr3")
            larger += abs(made.t_values["two"]) >= abs(test.statistic) - 1e-9
        self.assertAlmostEqual(test.p_value, (1 + larger) / 100)

    def test_names_of_clusters_do_not_matter_and_two_kinds_are_refused(self):
        fit = ul.regress(self.y, self.x)
        by_number, by_name = (
            ul.wild_cluster_test(fit, g, "one", draws=199) for g in (self.groups, (self.groups + 8).astype(str))
        )
        self.assertEqual(by_number.p_value, by_name.p_value)
        with self.assertRaisesRegex(EstimationError, "one-way"):
            ul.wild_cluster_test(fit, pd.DataFrame({"a": self.groups, "b": self.groups}), "one")
        with self.assertRaisesRegex(AlignmentError, "repeat"):
            ul.wild_cluster_test(fit, pd.concat([self.groups, self.groups]), "one")

    def test_two_treated_clusters_are_warned_of(self):
        x = self.x.assign(treated=(self.groups < 2).astype(float))
        with self.assertWarnsRegex(DataWarning, "treated differs in 2 of 9 clusters"):
            ul.wild_cluster_test(ul.regress(self.y, x), self.groups, "treated", draws=99)


class Prediction(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(6)
        self.r, shocks = rng.normal(size=(2, 120))
        self.x = np.zeros((121, 2))
        for t in range(120):
            pull = np.array([0.9, 0.5]) * self.x[t]
            self.x[t + 1] = pull + np.array([shocks[t] - self.r[t], rng.normal()])

    def test_1b_and_forward_returns(self):
        x, H = self.x[:-1, 0], 6
        off = x - x.mean()
        C = np.array([off[max(0, s - H + 1) : s + 1].sum() for s in range(120)])
        slope = hodrick_1b(self.r, x, H)
        self.assertAlmostEqual(slope.value, self.r @ C / (off @ off))
        self.assertAlmostEqual(slope.error, np.sqrt(((self.r - self.r.mean()) ** 2) @ C**2) / (off @ off))
        index = months(121)
        returns = pd.Series(np.append(0.0, self.r / 100), index)
        holds = pd.Series(self.x[:, 0] > 0, index)
        made = ul.forward_returns(ul.TimeSeries.from_pandas(returns, measure="return"), holds, [H])
        binary = hodrick_1b(self.r / 100, holds.to_numpy()[:-1].astype(float), H)
        self.assertAlmostEqual(made.table.loc[H, "t"], binary.value / binary.error)

    def test_ivx_by_the_paper(self):
        n, K = 120, 2
        past = self.x[:-1]
        X = np.column_stack([np.ones(n), past])
        e = self.r - X @ ols(X, self.r)
        u = np.column_stack([
            self.x[1:, k] - X[:, [0, k + 1]] @ ols(X[:, [0, k + 1]], self.x[1:, k]) for k in range(K)
        ])  # fmt: skip
        M = int(n ** (1 / 3))
        Lu, Le = np.zeros((K, K)), np.zeros(K)
        for h in range(1, M + 1):
            for t in range(h, n):
                Lu += (1 - h / (M + 1)) * np.outer(u[t], u[t - h]) / n
                Le += (1 - h / (M + 1)) * u[t] * e[t - h] / n
        long, cross = u.T @ u / n + Lu + Lu.T, u.T @ e / n + Le
        fm = e @ e / n - cross @ np.linalg.inv(long) @ cross
        z = np.zeros((n, K))
        for t in range(1, n):
            z[t] = (1 - 1 / n**0.95) * z[t - 1] + past[t] - past[t - 1]
        A = (self.r - self.r.mean()) @ z @ np.linalg.inv((past - past.mean(axis=0)).T @ z)
        middle = n * np.outer(z.mean(axis=0), z.mean(axis=0)) * (e @ e / n - fm)
        for t in range(n):
            moved = z[t] - z.mean(axis=0)
            middle += np.outer(moved, moved) * (self.r[t] - self.r.mean()) ** 2
        inverse = np.linalg.inv(z.T @ (past - past.mean(axis=0)))
        wanted = A @ np.linalg.inv(inverse @ middle @ inverse.T) @ A
        self.assertAlmostEqual(ivx_wald(self.r, self.x)[2], wanted)

    def test_units_of_predictors_do_not_matter_and_the_warning_follows_the_root(self):
        index = months(121)
        y, x = pd.Series(np.r_[np.nan, self.r], index, name="y"), pd.DataFrame(self.x, index, ["one", "two"])
        plain = ul.predictive_regression(y, x)
        moved = ul.predictive_regression(y, 1e-9 * x + 1e-3)
        per_unit = ["slope", "error", "corrected", "corrected_error"]
        np.testing.assert_allclose(moved.table[per_unit], plain.table[per_unit] * 1e9, rtol=1e-6)
        for column in ("p", "corrected_p", "ivx_p"):
            np.testing.assert_allclose(moved.table[column], plain.table[column], rtol=1e-6)
        warned, rng = {}, np.random.default_rng(8)
        for root, steps in ((0.95, (1,)), (0.995, (1,)), (0.995, (12,))):
            heard = []
            for _ in range(40):
                e = rng.standard_normal(700)
                state = pd.Series(lfilter([1.0], [1.0, -root], e)[100:], months(600), name="state")
                with warnings.catch_warnings(record=True) as caught:
                    warnings.simplefilter("always")
                    ul.predictive_regression(
                        pd.Series(-e[100:] + rng.standard_normal(600), months(600)), state, steps
                    )
                heard += [str(w.message) for w in caught]
            warned[root, steps] = heard
        self.assertLess(len(warned[0.95, (1,)]), 8)
        self.assertGreater(len(warned[0.995, (1,)]), 35)
        self.assertTrue(all(text.endswith("Use ivx_p.") for text in warned[0.995, (1,)]))
        self.assertIn("Add 1 to horizons", warned[0.995, (12,)][0])

    def test_bias_correction_and_forecasts(self):
        x = self.x[:, 0]
        X = np.column_stack([np.ones(120), x[:-1]])
        rho = ols(X, x[1:])[1]
        rho = rho + (1 + 3 * rho) / 120 + 3 * (1 + 3 * rho) / 120**2
        wide = np.column_stack([X, x[1:] - rho * x[:-1]])
        slope, root = correct_bias(self.r, x)
        self.assertAlmostEqual(root, rho)
        self.assertAlmostEqual(slope.value, ols(wide, self.r)[1])
        forecasts = [(X[t] @ ols(X[:t], self.r[:t]), self.r[:t].mean()) for t in range(40, 120)]
        model, plain = np.array(forecasts).T
        errors = (self.r[40:] - model) ** 2, (self.r[40:] - plain) ** 2
        made = out_of_sample(self.r, x[:-1, None], 40)
        self.assertAlmostEqual(made.r2, 1 - errors[0].sum() / errors[1].sum())
        gain = errors[1] - errors[0] + (plain - model) ** 2
        t = gain.mean() / gain.std(ddof=1) * np.sqrt(80)
        self.assertAlmostEqual(made.p_value, scipy.stats.norm.sf(t))
        index = pd.period_range("2010-01", periods=len(x), freq="M")
        told = ul.predictive_regression(pd.Series(np.append(np.nan, self.r), index), pd.Series(x, index))
        row = told.table.iloc[0]
        self.assertAlmostEqual(row["slope"], ols(X, self.r)[1])
        self.assertAlmostEqual(row["corrected"], ols(wide, self.r)[1])
        self.assertAlmostEqual(told.forecasts.r2, made.r2)
        self.assertEqual((row["rows"], told.forecasts.count), (120, 80))

    def test_odd_inputs_are_refused_or_counted(self):
        index = months(120)
        y, x = pd.Series(self.r, index, name="y"), pd.Series(self.x[1:, 0], index, name="x")
        late = pd.Series((np.arange(120) > 80).astype(float), index, name="late")
        self.assertTrue(np.isfinite(ul.predictive_regression(y, late).forecasts.r2))
        for given, words in ((pd.DataFrame({"x": x, "z": 2 * x}), "combination"), (x * 0, "x is constant")):
            with self.assertRaisesRegex(EstimationError, words):
                ul.predictive_regression(y, given)
        with self.assertRaisesRegex(EstimationError, "y is constant"):
            ul.predictive_regression(y * 0, x)
        prices = ul.TimeSeries.from_pandas(100 + y, measure="price", unit="QML")
        with self.assertRaisesRegex(UnitError, "holds levels"):
            ul.predictive_regression(prices, x)
        self.assertIn("79 of 120 returns", ul.predictive_regression(y, x.iloc[40:]).basis)

    def test_a_persistent_predictor_is_warned_of_and_gaps_part_the_data(self):
        rng = np.random.default_rng(1)
        r = rng.normal(size=240)
        level = pd.Series(-r.cumsum(), months(240), name="level")
        with self.assertWarnsRegex(DataWarning, "level is near a unit root"):
            ul.predictive_regression(pd.Series(r, level.index), level)
        state = pd.Series(rng.normal(size=240), level.index, name="state")
        y = pd.Series(r, level.index).drop(level.index[100])
        with self.assertWarnsRegex(DataWarning, "99 returns outside"):
            made = ul.predictive_regression(y, state)
        self.assertEqual(made.table["rows"].tolist(), [138])


class ManyTests(unittest.TestCase):
    def test_adjusted_p_values_by_their_definitions(self):
        p = pd.Series({"a": 0.011, "b": 0.5, "c": 0.02, "d": 0.001, "e": np.nan})
        holm = ul.adjust_p_values(p)["p_adjusted"]
        self.assertEqual(holm.fillna(9).round(3).to_dict(), {"d": 0.004, "a": 0.033, "c": 0.04, "b": 0.5, "e": 9})
        bh = ul.adjust_p_values(p, "bh")["p_adjusted"]
        self.assertEqual(bh.dropna().round(4).to_dict(), {"d": 0.004, "a": 0.022, "c": 0.0267, "b": 0.5})
        ratio = ul.adjust_p_values(p, "by")["p_adjusted"] / bh
        np.testing.assert_allclose(ratio[["d", "a", "c"]], 1 + 1 / 2 + 1 / 3 + 1 / 4)
        with self.assertRaisesRegex(EstimationError, "between 0 and 1"):
            ul.adjust_p_values(pd.Series([0.5, 1.5]))

    def test_step_down_by_loops(self):
        rng = np.random.default_rng(2)
        t, drawn = np.array([1.0, 3.0, 2.0]), abs(rng.normal(size=(199, 3)))
        wanted, worst = {}, 0.0
        left = [1, 2, 0]
        for k in list(left):
            worst = max(worst, (1 + (drawn[:, left].max(axis=1) >= t[k]).sum()) / 200)
            wanted[k] = worst
            left.remove(k)
        np.testing.assert_allclose(step_down(t, drawn)[0], [wanted[k] for k in range(3)])

    def test_adjusted_p_of_alphas_are_the_step_down_of_their_own_draws(self):
        panel = made_panel(T=120, N=6, K=1)
        table = ul.step_down_alphas(panel, draws=1999, seed=5)
        fits = ul.regress(panel.excess, panel.factor_table, errors="hc0")
        order = table.index
        self.assertEqual(order[0], abs(fits.t_values["constant"]).idxmax())
        np.testing.assert_allclose(table["alpha"], fits.coefficients.loc[order, "constant"])
        np.testing.assert_allclose(table["t"], fits.t_values.loc[order, "constant"])
        self.assertTrue((table["p_adjusted"].diff().dropna() >= 0).all())
        self.assertTrue((table["p_adjusted"] >= table["p"]).all())
        normal = 2 * scipy.stats.norm.sf(abs(table["t"]))
        np.testing.assert_allclose(table["p"], normal, atol=0.12)
        self.assertGreater(np.corrcoef(table["p"], normal)[0, 1], 0.95)

    def test_drawn_t_by_regressions_on_drawn_rows(self):
        rng = np.random.default_rng(12)
        F, Y = rng.normal(0.01, 0.05, (90, 2)), rng.normal(0, 0.06, (90, 4))
        Y[:30, 1], Y[40:44, 2], Y[:-30, 3] = np.nan, np.nan, np.nan  # the last is drawn from its own span
        positions = np.r_[np.arange(50), np.arange(53, 93)]  # three periods without rows
        alphas, t, drawn = alpha_t_and_draws(Y, F, positions, 9, 5)

        def by_rows(rows, asset):
            rows = rows[np.isfinite(Y[rows, asset])]
            X = np.column_stack([np.ones(len(rows)), F[rows]])
            H = np.linalg.pinv(X)
            residuals = Y[rows, asset] - X @ (H @ Y[rows, asset])
            return H[0] @ Y[rows, asset], np.sqrt(np.sum((H[0] * residuals) ** 2))

        for asset, (low, high) in enumerate([(0, 90), (0, 90), (0, 90), (60, 90)]):
            value, error = by_rows(np.arange(90), asset)
            self.assertAlmostEqual(alphas[asset], value, 14)
            self.assertAlmostEqual(t[asset], value / error, 10)
            span = positions[high - 1] - positions[low] + 1
            length = int(np.ceil(2.5 * span ** (1 / 3)))
            starts = np.random.default_rng([5, low, high - 1]).integers(0, span, (9, -(-span // length)))
            for draw in range(9):
                periods = [(s + k) % span + positions[low] for s in starts[draw] for k in range(length)][:span]
                rows = np.array([np.flatnonzero(positions == p)[0] for p in periods if p in positions])
                again, spread = by_rows(rows, asset)
                self.assertAlmostEqual(drawn[draw, asset], (again - value) / spread, 8)

    def test_a_short_asset_moves_no_other_p_and_units_none(self):
        panel = made_panel(T=120, N=8, K=1)
        tiny = ul.SeriesTable.from_pandas(1e-9 * panel.factors, measure="return", excess_of="bill")
        short = panel.assets.assign(young=panel.assets["a1"].where(np.arange(120) >= 114))
        with_young, levels = (
            ul.align(
                assets=ul.SeriesTable.from_pandas(assets, measure="return"),
                factors=factors,
                risk_free=panel.rate,
                rows="any",
            )
            for assets, factors in ((short, panel.factor_table), (panel.assets, tiny))
        )
        plain = ul.step_down_alphas(panel, draws=99)
        with self.assertWarnsRegex(DataWarning, r"fewer than 24 observations: young \(6\)"):
            got = ul.step_down_alphas(with_young, draws=99)
        pd.testing.assert_frame_equal(got.iloc[:-1], pd.DataFrame(plain))
        self.assertTrue(got.loc["young", ["p", "p_adjusted"]].isna().all())
        pd.testing.assert_frame_equal(ul.step_down_alphas(levels, draws=99), plain)

    def test_a_real_alpha_stands_out_among_noise(self):
        panel = made_panel(T=240, N=12, K=1)
        better = panel.assets.assign(a3=panel.assets["a3"] + 0.02)
        moved = ul.align(assets=ul.SeriesTable.from_pandas(better, measure="return"),
                         factors=panel.factor_table, risk_free=panel.rate)  # fmt: skip
        table = ul.step_down_alphas(moved, draws=199)
        self.assertEqual(table.index[0], "a3")
        self.assertLess(table["p_adjusted"].iloc[0], 0.02)
        fit = ul.regress(moved.excess, moved.factor_table, errors="hc0").fit("a3")
        self.assertAlmostEqual(table.loc["a3", "t"], fit.t_values["constant"])
        empty = ul.align(assets=ul.SeriesTable.from_pandas(better.assign(a5=np.nan), measure="return"),
                         factors=panel.factor_table, risk_free=panel.rate, rows="any")  # fmt: skip
        table = ul.step_down_alphas(empty, draws=49)
        self.assertEqual((len(table), table.index[-1]), (12, "a5"))


class WeakBetas(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(8)
        self.F = rng.normal(0.006, 0.045, (180, 2))
        self.B = 1 + rng.normal(0, 0.4, (12, 2))
        self.R = 0.002 + self.F @ self.B.T + rng.normal(0, 0.04, (180, 12))
        self.priced, self.R = self.R, self.R + rng.normal(0, 0.004, 12)

    def estimate(self, weights, gls):
        w = weights / weights.sum()
        mean, f = w @ self.R, self.F - w @ self.F
        off = self.R - mean
        beta = np.linalg.solve((f * w[:, None]).T @ f, (f * w[:, None]).T @ off).T
        X = np.column_stack([np.ones(12), beta])
        W = np.linalg.inv((off * w[:, None]).T @ off) if gls else np.eye(12)
        g = np.linalg.solve(X.T @ W @ X, X.T @ W @ mean)
        e, one = mean - X @ g, np.ones(12)
        e0 = mean - (one @ W @ mean) / (one @ W @ one)
        return np.append(g, 1 - (e @ W @ e) / (e0 @ W @ e0))

    def test_robust_errors_are_those_of_the_infinitesimal_jackknife(self):
        for gls in (False, True):
            moves = []
            for t in range(180):
                step = np.zeros(180)
                step[t] = 1e-4
                ends = (self.estimate(1 + s * step, gls) for s in (1, -1))
                moves.append(np.subtract(*ends) / 2e-4)
            wanted = np.sqrt(np.sum(np.square(moves), axis=0))
            made = misspecification_robust(self.R, self.F, gls, 0)
            got = np.sqrt(np.diag(made.covariance) * 177 / 180)
            np.testing.assert_allclose([*got, made.r2_error], wanted, rtol=1e-4)
            np.testing.assert_allclose([*made.premia, made.r2], self.estimate(np.ones(180), gls))
            places = np.arange(180) + (np.arange(180) >= 70)  # a period without a row
            lagged = np.sum(np.square(moves), axis=0)
            for s in range(180):
                for t in range(s):
                    weight = max(0.0, 1 - (places[s] - places[t]) / 3)
                    lagged = lagged + 2 * weight * moves[s] * moves[t]
            made = misspecification_robust(self.R, self.F, gls, 2, places)
            got = np.sqrt(np.diag(made.covariance) * 177 / 180)
            np.testing.assert_allclose([*got, made.r2_error], np.sqrt(lagged), rtol=1e-4)

    def test_lags_of_a_two_pass_count_periods(self):
        panel = made_panel(T=120, N=8, K=1)
        index = panel.assets.index.delete(50)
        part = ul.align(assets=ul.SeriesTable.from_pandas(panel.assets.loc[index], measure="return"), risk_free=panel.rate,
                        factors=panel.factor_table)  # fmt: skip
        made = ul.two_pass(part, errors="misspecification", lags=3)
        data = made.balanced
        places = np.array([p.ordinal for p in data.index])
        wanted = misspecification_robust(data.returns, data.factors, False, 3, places)
        np.testing.assert_allclose(made.covariance, wanted.covariance)
        self.assertEqual((len(data.index), places[-1] - places[0]), (119, 119))

    def test_equal_betas_by_loops_with_gaps(self):
        R, f = self.R.copy(), self.F[:, 0]
        R[:40, 2], R[100:120, 5], R[:-20, 7] = np.nan, np.nan, np.nan  # the last has too few rows
        b, v, scores = [], [], []
        for i in (k for k in range(12) if k != 7):
            rows = np.isfinite(R[:, i])
            fit = ul.regress(pd.Series(R[rows, i]), pd.Series(f[rows], name="f"), errors="hc3")
            b, v = [*b, fit.coefficients["f"]], [*v, fit.standard_errors["f"] ** 2]
            X = np.column_stack([np.ones(rows.sum()), f[rows]])
            H, full = X @ np.linalg.inv(X.T @ X), np.zeros(180)
            full[rows] = H[:, 1] * (R[rows, i] - X @ (H.T @ R[rows, i])) / (1 - np.sum(H * X, axis=1))
            scores.append(full)
        b, v, z = np.array(b), np.array(v), np.array(scores) / np.sqrt(v)[:, None]
        for constant in (True, False):
            q = (1 / np.sqrt(v) / np.sqrt((1 / v).sum()))[:, None]
            P = np.eye(11) - q @ q.T * constant
            C, gap = P @ z @ z.T @ P, b - constant * (b / v).sum() / (1 / v).sum()
            g, h = np.trace(C @ C) / np.trace(C), np.trace(C) ** 2 / np.trace(C @ C)
            got = equal_betas_test(R, f[:, None], constant)
            self.assertAlmostEqual(got.statistic / (np.sum(gap**2 / v) / g), 1, 9)
            self.assertAlmostEqual(got.df / h, 1, 9)
            self.assertAlmostEqual(got.p_value, scipy.stats.chi2.sf(np.sum(gap**2 / v) / g, h), 12)

    def test_a_weak_combination_is_found_and_more_assets_than_periods_are_no_obstacle(self):
        useless = np.column_stack([self.F, np.random.default_rng(3).normal(size=180)])
        weak = equal_betas_test(self.R, useless)
        self.assertGreater(weak.p_value, 0.02)
        self.assertEqual(np.abs(weak.weakest).argmax(), 2)
        self.assertLess(equal_betas_test(self.R, self.F).p_value, 1e-6)
        rescaled = equal_betas_test(self.R, useless * [1e7, 1e-9, 1] + [9e7, 0, 5])
        self.assertAlmostEqual(rescaled.p_value, weak.p_value, 9)
        wide = np.random.default_rng(4).normal(0, 0.04, (60, 90)) + self.F[:60, :1] * np.linspace(0.2, 1.8, 90)
        self.assertLess(equal_betas_test(wide, self.F[:60, :1]).p_value, 1e-6)
        self.assertGreater(equal_betas_test(wide, useless[:60, 2:]).p_value, 0.02)
        same = self.F[:, :1] + np.random.default_rng(5).normal(0, 0.04, (180, 12))  # betas of one
        self.assertGreater(equal_betas_test(same, self.F[:, :1]).p_value, 0.02)
        self.assertLess(equal_betas_test(same, self.F[:, :1], constant=False).p_value, 1e-6)

    def test_the_robust_joint_test_by_regressions_on_signed_residuals(self):
        for T, N in ((60, 5), (20, 30)):
            panel = made_panel(T=T, N=N, K=1)
            y, f = panel.excess.to_pandas().to_numpy(), panel.factors.to_numpy()
            X = np.column_stack([np.ones(T), f])

            def statistic(y, X=X, f=f, T=T, N=N):
                alphas = np.linalg.lstsq(X, y, rcond=None)[0]
                S = (y - X @ alphas).T @ (y - X @ alphas) / T
                if N >= T:
                    variance = T / (T - 2) * np.diag(S) * np.linalg.inv(X.T @ X)[0, 0]
                    return np.sum(alphas[0] ** 2 / variance)  # of classical t
                return (
                    (T - N - 1) / N * (alphas[0] @ np.linalg.solve(S, alphas[0])) / (1 + f.mean() ** 2 / f.var())
                )

            b = np.linalg.lstsq(f, y, rcond=None)[0]
            u = (y - f @ b) / np.sqrt(1 - f**2 / np.sum(f**2))
            signs = np.random.default_rng(7).choice([-1.0, 1.0], (199, T))
            drawn = [statistic(f @ b + s[:, None] * u) for s in signs]
            got = ul.joint_alpha_test(panel, how="robust", draws=199, seed=7)
            self.assertAlmostEqual(got.statistic, statistic(y), 9)
            self.assertAlmostEqual(got.p_value, (1 + np.sum(np.array(drawn) >= statistic(y))) / 200, 12)
        self.assertIn("Sum of squared t statistics", got.basis)
        self.assertRegex(str(got), "Σt² = ")
        with self.assertRaisesRegex(EstimationError, "how='robust' works with fewer"):
            ul.joint_alpha_test(panel)

    def test_what_is_fitted_exactly_has_no_p_value(self):
        panel = made_panel(T=120, N=6, K=1)
        f = panel.factors["market"]
        for exact in (0 * f, 0 * f + 0.01, 2 * f, 2 * f + 1e-13 * panel.assets["a1"]):
            fit = ul.regress(exact.rename("y"), f)
            result = ul.wild_cluster_test(fit, np.arange(120) // 10, "market")
            self.assertTrue(np.isnan([result.statistic, result.p_value]).all())
            assets = panel.assets.assign(exact=exact + panel.risk_free)
            with_exact = ul.align(assets=ul.SeriesTable.from_pandas(assets, measure="return"),
                                  factors=panel.factor_table, risk_free=panel.rate)  # fmt: skip
            self.assertTrue(np.isnan(ul.kalman_beta(with_exact).p_value["exact"]))
            self.assertTrue(np.isnan(ul.up_down_betas(with_exact).to_frame().loc["exact", "p"]))
            self.assertTrue(ul.step_down_alphas(with_exact, draws=19).loc["exact", ["t", "p"]].isna().all())
            with self.assertRaisesRegex(EstimationError, "exact: a copy or a combination"):
                ul.joint_alpha_test(with_exact)

    def test_a_factor_and_cash_may_be_assets_of_two_passes(self):
        panel = made_panel(T=120, N=6, K=1)
        f = panel.factors["market"]
        for name, extra in (("market itself", f), ("cash", 0 * f)):
            assets = panel.assets.assign(**{name: extra + panel.risk_free})
            more = ul.align(assets=ul.SeriesTable.from_pandas(assets, measure="return"),
                            factors=panel.factor_table, risk_free=panel.rate)  # fmt: skip
            made = ul.two_pass(more)
            y = more.excess.to_pandas().to_numpy()
            betas = ols(np.column_stack([np.ones(120), f]), y)[1]
            want = ols(np.column_stack([np.ones(7), betas]), y.mean(axis=0))
            np.testing.assert_allclose(made.premia, want, rtol=1e-9)
            self.assertIn("6 assets", made.identification.note)  # a perfect fit has no error to test
        with self.assertRaisesRegex(EstimationError, "cash: a copy or a combination"):
            ul.two_pass(more, weighting="gls")

    def test_copies_are_refused_by_name(self):
        panel = made_panel(T=120, N=6, K=1)
        copied = panel.assets.assign(copy=panel.assets["a1"], mix=panel.assets[["a2", "a3"]].mean(axis=1))
        panel = ul.align(assets=ul.SeriesTable.from_pandas(copied, measure="return"),
                         factors=panel.factor_table, risk_free=panel.rate)  # fmt: skip
        tries = [partial(ul.two_pass, errors=e) for e in (None, "hac", "shanken", "misspecification")]
        tries += [partial(ul.joint_alpha_test, how=h) for h in ("exact", "robust", "bootstrap")]
        for work in (*tries, partial(ul.two_pass, weighting="gls")):
            with self.assertRaisesRegex(EstimationError, "a copy or a combination of other assets or factors"):
                work(panel)

    def test_robust_sets_are_where_the_statistic_is_small(self):
        level, T, q = 0.9, 180, 11
        F = self.F[:, :1]
        apart, f = self.priced[:, 1:] - self.priced[:, :1], F - F.mean()
        off = apart - apart.mean(axis=0)
        b = (f.T @ off / (f.T @ f))[0]
        S = (off - f * b).T @ (off - f * b) / T
        V = float(f[:, 0] @ f[:, 0]) / T
        free = T - 11 - 1
        critical = scipy.stats.f.ppf(level, q, free) * q / free
        mu = np.linspace(-0.08, 0.08, 4001)
        a = apart.mean(axis=0) - mu[:, None] * b
        statistic = np.einsum("mi,ij,mj->m", a, np.linalg.inv(S), a) / (1 + mu**2 / V)
        inside = [
            m for m in np.linspace(-0.05, 0.06, 1101)
            if (statistic + (mu - m) ** 2 / V).min() <= critical
        ]  # fmt: skip
        ((low, high),) = robust_sets(self.priced, F, level)[0]
        self.assertAlmostEqual(low, min(inside), delta=2e-4)
        self.assertAlmostEqual(high, max(inside), delta=2e-4)

    def test_forecasts_of_moving_betas_by_loops(self):
        panel = made_panel(T=90, N=3, K=1)
        made = ul.time_varying_betas(panel, "a1", window=48)
        y, f = panel.excess["a1"].to_pandas().to_numpy(), panel.factors["market"].to_numpy()

        def beta(low, high):
            return ols(np.column_stack([np.ones(high - low), f[low:high]]), y[low:high])[1]

        errors = {
            "constant": [y[t] - beta(0, t) * f[t] for t in range(48, 90)],
            "rolling": [y[t] - beta(t - 48, t) * f[t] for t in range(48, 90)],
        }
        known = ul.kalman_beta(panel).filtered["a1"].to_numpy()
        errors["state space"] = [y[t] - known[t - 1] * f[t] for t in range(48, 90)]
        for name, values in errors.items():
            self.assertAlmostEqual(made.forecasts.loc[name, "rmse"], np.sqrt(np.mean(np.square(values))))
        self.assertEqual(made.forecasts["rows"].tolist(), [42] * 3)

    def test_instrumented_premia_by_loops(self):
        panel = made_panel(T=96, N=14, K=1, gaps=0.03)
        y, f = panel.excess.to_pandas().to_numpy(), panel.factors.to_numpy()
        odd = np.array([m.month % 2 == 1 for m in panel.assets.index])
        odd = odd if (panel.assets.index[odd].astype("int64") % 2 == 1).all() else ~odd

        def beta(rows, asset):
            some = rows & np.isfinite(y[:, asset])
            return ols(np.column_stack([np.ones(some.sum()), f[some]]), y[some, asset])[1]

        halves = {o: np.array([beta(odd == o, a) for a in range(14)]) for o in (True, False)}
        G, g = np.zeros((96, 2, 2)), np.zeros((96, 2))
        for t in range(96):
            there = np.isfinite(y[t])
            X, Z = (np.column_stack([np.ones(there.sum()), halves[o][there]]) for o in (odd[t], ~odd[t]))
            G[t], g[t] = Z.T @ X / there.sum(), Z.T @ y[t, there] / there.sum()
        value = np.linalg.solve(G.mean(axis=0), g.mean(axis=0))
        made = ul.instrumented_premia(panel)
        np.testing.assert_allclose(made.coefficients, value, rtol=1e-9)
        u = np.linalg.solve(G.mean(axis=0), (g - G @ value).T)
        np.testing.assert_allclose(made.covariance, np.cov(u) / 96, rtol=1e-9)
        noise = ul.SeriesTable.from_pandas(
            pd.DataFrame({"noise": np.random.default_rng(2).normal(0, 0.04, 96)}, panel.assets.index),
            measure="return", excess_of="bill")  # fmt: skip
        weak = ul.align(assets=ul.SeriesTable.from_pandas(panel.assets, measure="return"), factors=noise,
                        risk_free=panel.rate)  # fmt: skip
        with self.assertWarnsRegex(DataWarning, "Weak instruments for noise"):
            ul.instrumented_premia(weak)

    def test_a_useless_factor_is_warned_of_and_its_set_is_unbounded(self):
        panel = made_panel(T=180, N=10, K=2)
        noise = pd.Series(np.random.default_rng(5).normal(0, 0.04, 180), panel.assets.index, name="noise")
        factors = ul.SeriesTable.from_pandas(
            panel.factors.assign(noise=noise), measure="return", excess_of="bill"
        )
        weak = ul.align(assets=ul.SeriesTable.from_pandas(panel.assets, measure="return"),
                        factors=factors, risk_free=panel.rate)  # fmt: skip
        with self.assertWarnsRegex(DataWarning, "betas on noise hardly differ"):
            made = ul.two_pass(weak, errors="misspecification")
        sets = made.robust_sets()
        self.assertEqual(sets.loc["noise", "reading"], "not identified")
        self.assertEqual(made.kind, "misspecification")
        with self.assertRaisesRegex(EstimationError, "Use one of"):
            ul.two_pass(panel, errors="bootstrap")
        gls = ul.two_pass(panel, weighting="gls")
        np.testing.assert_allclose(gls.slopes.mean(), gls.premia)
        with self.assertRaisesRegex(EstimationError, "balanced panel"):
            ul.two_pass(made_panel(gaps=0.02), errors="misspecification")
        assets = panel.assets.copy()
        assets.iloc[90, 1:] = np.nan  # one asset is left in a row that the others lack
        holed = ul.align(assets=ul.SeriesTable.from_pandas(assets, measure="return"), factors=panel.factor_table,
                         risk_free=panel.rate, rows="any")  # fmt: skip
        with self.assertRaisesRegex(EstimationError, "a1, a2"):
            ul.two_pass(holed, weighting="gls")
        many = ul.two_pass(made_panel(T=40, N=60, K=1))
        self.assertEqual(many.identification.hypothesis, "a combination of betas is equal across assets")
        for other in ({"beta_sample": "rolling", "window": 40}, {"characteristics": {"size": panel.assets}}):
            self.assertIn("identification not tested", ul.two_pass(panel, **other).basis)
