"""Rolling and wide regressions against one regression after another, and under strain."""

import warnings
from concurrent.futures import ProcessPoolExecutor
from fractions import Fraction
from unittest import mock

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import Scratch, months
from tests.test_regression import slow_covariance
from ultrum.core.regression.engine import rolling_windows
from ultrum.errors import EstimationError

KINDS = ("classical", "hc0", "hc1", "hc2", "hc3", "hac")


def world(T=90, N=6, K=2, seed=3):
    rng = np.random.default_rng(seed)
    X = pd.DataFrame(rng.normal(0.004, 0.04, (T, K)), months(T), [f"f{k}" for k in range(K)])
    Y = X.to_numpy() @ rng.normal(0.8, 0.4, (K, N)) + rng.standard_t(4, (T, N)) * 0.05
    Y[rng.random((T, N)) < 0.1] = np.nan
    X.iloc[[17, 44], 0] = np.nan
    return pd.DataFrame(Y, X.index, [f"a{i}" for i in range(N)]), X


def alone(y, X, kind, weights=None):
    """One window by normal equations about its own means, in long doubles, and its covariance."""
    used = np.isfinite(y) & np.isfinite(X).all(axis=1)
    x, v = X[used].astype(np.longdouble), y[used].astype(np.longdouble)
    centre = x.mean(axis=0)
    A = np.column_stack([np.ones(len(x)), x - centre]).astype(float)
    w = np.ones(len(A)) if weights is None else (weights / weights.mean())[used]
    A, v = A * np.sqrt(w)[:, None], ((v - v.mean()) * np.sqrt(w)).astype(float)
    b = np.linalg.lstsq(A, v, rcond=None)[0]
    lags = int(4 * (len(v) / 100) ** (2 / 9))
    V = slow_covariance(A, v, kind, np.flatnonzero(used), lags)
    T = np.eye(len(b))
    T[0, 1:] = -centre.astype(float)
    return T @ b + np.r_[float(y[used].astype(np.longdouble).mean()), np.zeros(len(b) - 1)], np.sqrt(
        np.diag(T @ V @ T.T)
    )


class Agreement(Scratch):
    def near(self, got, wanted, errors, factor=1.0):
        self.assertLessEqual(np.max(np.abs(got - wanted) / errors), 1e-9 * factor)

    def test_every_window_and_kind_equals_a_loop(self):
        Y, X = world()
        for kind in KINDS:
            with mock.patch.object(rolling_windows, "_IN_CACHE", 4):  # of the six; their numbers of lags differ
                made = ul.rolling_regress(Y, X, window=36, errors=kind)
            self.assertEqual(made.coefficients.shape, (55, 6, 3))
            for w in range(0, 55, 3):
                for i in range(6):
                    b, se = alone(Y.to_numpy()[w : w + 36, i], X.to_numpy()[w : w + 36], kind)
                    self.near(made.coefficients[w, i], b, se)
                    self.near(made.standard_errors[w, i], se, se)

    def test_scores_of_many_samples_are_those_of_each(self):
        Y, X = world(N=30)
        Y.iloc[11:, 3] = np.nan  # too few pairs of consecutive months
        X.iloc[:, 1] = 1000.0 + X.iloc[:, 1].cumsum()
        found = ul.regress(Y, X, errors="hc1").score_autocorrelation
        self.assertTrue(found.iloc[3].isna().all())
        for name in Y.columns.drop("a3"):
            rows = np.column_stack([np.ones(len(X)), X])
            used = np.isfinite(Y[name].to_numpy()) & np.isfinite(rows).all(axis=1)
            A, y = rows[used], Y[name].to_numpy()[used]
            scores = np.full((3, len(X)), np.nan)
            scores[:, used] = np.linalg.pinv(A) * (y - A @ np.linalg.lstsq(A, y, rcond=None)[0])
            pairs = used[:-1] & used[1:]
            now, then = scores[:, :-1][:, pairs], scores[:, 1:][:, pairs]
            rho = (now * then).sum(axis=1) / (now**2).sum(axis=1)
            np.testing.assert_allclose(found.loc[name], rho + (1 + 3 * rho) / pairs.sum(), rtol=1e-6, atol=1e-8)

    def test_expanding_durations_decay_and_steps(self):
        Y, X = world()
        whole = ul.regress(Y, X, errors="hac")
        grown = ul.rolling_regress(Y, X, window="expanding", errors="hac", min_obs=40)
        np.testing.assert_allclose(grown.coefficients[-1], whole.coefficients, rtol=1e-9)
        np.testing.assert_allclose(grown.standard_errors[-1], whole.standard_errors, rtol=1e-9)
        self.assertEqual(len(grown.ends), 51)
        plain = ul.rolling_regress(Y, X, window=36)
        spans = ul.rolling_regress(Y, X, window="P3Y", step=6)
        np.testing.assert_allclose(spans.coefficients, plain.coefficients[::6], rtol=1e-11)
        self.assertEqual(spans.ends[-1], Y.index[-1])
        for kind in ("classical", "hc3", "hac"):  # windows far apart are summed in stretches
            every = ul.rolling_regress(Y, X, window=36, errors=kind)
            years = ul.rolling_regress(Y, X, window=36, errors=kind, step="A")
            last = [k for k, end in enumerate(every.ends) if end.month == 12 or k == len(every.ends) - 1]
            self.assertEqual(list(years.ends), list(every.ends[last]))
            self.near(years.coefficients, every.coefficients[last], every.standard_errors[last])
            self.near(years.standard_errors, every.standard_errors[last], every.standard_errors[last])
        fading = ul.rolling_regress(Y, X, window=36, half_life=12, errors="hc1")
        weights = 0.5 ** (np.arange(35, -1, -1) / 12)
        b, se = alone(Y.to_numpy()[-36:, 2], X.to_numpy()[-36:], "hc1", weights)
        self.near(fading.coefficients[-1, 2], b, se)
        self.near(fading.standard_errors[-1, 2], se, se)

    def test_windows_are_spans_of_the_calendar(self):
        Y, X = world()
        holed = Y.drop(Y.index[40:52])
        made = ul.rolling_regress(holed, X, window=36)
        self.assertEqual(list(made.ends), list(Y.index[35:]))
        early = made.frame("nobs").loc["2013-12"]  # ends in the hole of a year
        self.assertTrue((early <= 26).all())
        self.assertIn("too few observations", made.frame("status").to_numpy())
        b, se = alone(holed["a1"].reindex(Y.index).to_numpy()[10:46], X.to_numpy()[10:46], "classical")
        self.near(made.coefficients[10, 1], b, se)

    def test_who_works_does_not_matter(self):
        rng = np.random.default_rng(5)
        X = rng.normal(size=(40, 2))
        Y = rng.normal(size=(40, 2300))
        Y[rng.random(Y.shape) < 0.1] = np.nan
        here = ul.rolling_regress(Y, X, window=30, errors="hac")
        with ProcessPoolExecutor(2) as workers:
            there = ul.rolling_regress(Y, X, window=30, errors="hac", executor=workers)
        np.testing.assert_array_equal(here.coefficients, there.coefficients)
        np.testing.assert_array_equal(here.standard_errors, there.standard_errors)

    def test_many_samples_at_once_equal_each_alone(self):
        Y, X = world(T=80, N=60)
        X = X.drop(X.index[30:33])  # lags must count the calendar
        for kind in KINDS:
            table = ul.regress(Y, X, errors=kind)
            for name in ("a0", "a7", "a59"):
                one = ul.regress(Y[name], X, errors=kind)
                self.near(table.coefficients.loc[name], one.coefficients, one.standard_errors)
                off = table.covariance[table.assets.index(name)] / one.covariance.to_numpy() - 1
                self.assertLess(np.abs(off).max(), 1e-7)
                self.assertEqual((table.nobs[name], table.first[name]), (one.nobs, one.sample[0]))
                self.assertAlmostEqual(table.fit(name).r2, one.r2, 11)
                self.assertEqual(table.fit(name).dropped, one.dropped)


class Strain(Scratch):
    def windows_without(self, bad, T=140, w=36):
        return [i for i in range(T - w + 1) if not i <= bad < i + w]

    def test_a_bad_tick_spoils_no_window_without_it(self):
        Y, X = world(T=140)
        clean = ul.rolling_regress(Y, X, window=36, errors="hac")
        for size in (1e6, 1e8):
            y, x = Y.copy(), X.copy()
            y.iloc[50, 1], x.iloc[20, 1] = size, -size
            made = ul.rolling_regress(y, x, window=36, errors="hac")
            fine = [i for i in self.windows_without(50) if i in self.windows_without(20)]
            self.assertGreater(len(fine), 10)
            for got, want in (
                (made.coefficients, clean.coefficients),
                (made.standard_errors, clean.standard_errors),
            ):
                off = np.abs(got[fine] - want[fine]) / clean.standard_errors[fine]
                self.assertLess(off.max(), 1e-9)

    def test_a_high_level_with_little_noise(self):
        rng = np.random.default_rng(8)
        x = 1e8 + 1e-2 * rng.normal(size=(70, 1))
        y = 1e8 + 1e-2 * rng.normal(size=(70, 2)) + 0.5 * (x - 1e8)
        y[9, 1] = np.nan

        def exact(w, i):
            """Slope and its error by rational arithmetic on the doubles as they are."""
            keep = np.isfinite(y[w : w + 40, i])
            a = [Fraction(float(v)) for v in x[w : w + 40, 0][keep]]
            b = [Fraction(float(v)) for v in y[w : w + 40, i][keep]]
            n = len(a)
            ma, mb = sum(a) / n, sum(b) / n
            sxx = sum((v - ma) ** 2 for v in a)
            slope = sum((v - ma) * (u - mb) for v, u in zip(a, b, strict=True)) / sxx
            rss = sum((u - mb - slope * (v - ma)) ** 2 for v, u in zip(a, b, strict=True))
            return float(slope), float(rss / (n - 2) / sxx) ** 0.5

        with warnings.catch_warnings():
            warnings.simplefilter("ignore", ul.DataWarning)
            made = ul.rolling_regress(y, x, window=40, errors="classical")
            alone = ul.regress(y[30:70, 1], x[30:70], errors="classical")
        for w in (0, 8, 30):
            for i in (0, 1):
                slope, error = exact(w, i)
                self.assertLess(abs(made.coefficients[w, i, 1] - slope), 1e-9 * error)
                self.assertLess(abs(made.standard_errors[w, i, 1] - error), 1e-9 * error)
        slope, error = exact(30, 1)
        self.assertLess(abs(alone.coefficients.iloc[1] - slope), 1e-9 * error)

    def test_constant_windows_near_copies_and_few_rows(self):
        Y, X = world(K=1)
        Y["flat"], Y["none"] = 0.01, np.nan
        Y["few"] = Y["a0"].where(np.arange(90) >= 88)
        x = X.assign(still=np.r_[np.zeros(50), np.linspace(0, 1, 40) ** 2])
        made = ul.rolling_regress(Y, x, window=36, min_obs=4)
        words = made.frame("status")
        self.assertTrue((words.loc[:"2014-02", "a0"] == "collinear").all())
        self.assertTrue(np.isnan(made.coefficients[0]).all())
        self.assertTrue((words.loc["2015-06":, "a0"] == "estimated").all())
        self.assertTrue((words["none"] == "too few observations").all())
        self.assertTrue((words["few"] == "too few observations").all())
        flat = made.frame("coefficients", "f0").loc["2015-06":, "flat"]
        self.assertLess(flat.abs().max(), 1e-15)
        copy = X.assign(copy=X["f0"] + 1e-7 * np.sin(np.arange(90)))
        with warnings.catch_warnings(record=True) as said:
            warnings.simplefilter("always")
            fit = ul.regress(Y["a1"], copy, errors="classical")
        self.assertIn("near-collinear", str(said[0].message))
        self.assertRegex(str(said[0].message), r"f0|copy")
        self.assertGreater(fit.condition_number, 1e6)
        rolled = ul.rolling_regress(Y[["a1"]], copy, window=36)
        b, se = alone(Y["a1"].to_numpy()[-36:], copy.to_numpy()[-36:], "classical")
        off = np.abs(rolled.coefficients[-1, 0] - b) / se
        self.assertLess(off.max(), 1e-9 * 1e7)
        exactly = pd.Series([1.0, 2, 4], months(3))
        with self.refused(EstimationError, "3 complete observations", "3 coefficients"):
            ul.regress(exactly, pd.DataFrame({"a": [1.0, 0, 2], "b": [0.0, 1, 5]}, months(3)))
        with self.refused(EstimationError, "complete observations"):
            ul.regress(Y["none"], X)

    def test_what_is_refused(self):
        Y, X = world()
        with self.refused(EstimationError, "window of 91", "90 observations"):
            ul.rolling_regress(Y, X, window=91)
        with self.refused(EstimationError, "min_obs=3", "at least 4"):
            ul.rolling_regress(Y, X, min_obs=3)
        with self.refused(EstimationError, "too short for 3"):
            ul.rolling_regress(Y, X, window=3)
        with self.refused(EstimationError, "got 0"):
            ul.rolling_regress(Y, X, half_life=0)
        with self.refused(EstimationError, "No term 'size'", "f1"):
            ul.rolling_regress(Y, X).frame("coefficients", "size")
