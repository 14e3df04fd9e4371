"""Premia, pooled regressions and rolling betas against slow computations from the papers."""

from dataclasses import replace

import numpy as np
import pandas as pd
import scipy.optimize
import scipy.stats

import ultrum as ul
from tests.support import Scratch, months
from ultrum.errors import EstimationError


def made_panel(T=120, N=8, K=2, seed=1, gaps=0.0, conditions=None):
    rng = np.random.default_rng(seed)
    f = pd.DataFrame(rng.normal(0.006, 0.04, (T, K)), months(T), ["market", "size"][:K])
    y = 0.002 + f.to_numpy() @ rng.normal(0.9, 0.4, (K, N)) + rng.normal(0, 0.03, (T, N))
    y[rng.random((T, N)) < gaps] = np.nan
    bill = ul.TimeSeries.from_pandas(pd.Series(0.002, months(T)), name="bill", measure="return")
    factors = ul.SeriesTable.from_pandas(f, measure="return", excess_of="bill")
    more = {} if conditions is None else {"conditions": conditions, "known_by": "P1M"}
    assets = pd.DataFrame(y + 0.002, f.index, [f"a{i}" for i in range(N)])
    return ul.align(assets=assets, factors=factors, risk_free=bill, **more)


def ols(X, y):
    return np.linalg.lstsq(X, y, rcond=None)[0]


class TwoPass(Scratch):
    def test_balanced_with_shanken_errors_by_hand(self):
        panel = made_panel()
        got = ul.two_pass(panel)
        R, F = panel.excess.values.to_numpy(), panel.factors.to_numpy()
        T = len(R)
        B = ols(np.column_stack([np.ones(T), F]), R)[1:].T
        X = np.column_stack([np.ones(8), B])
        G = np.array([ols(X, r) for r in R])
        g = G.mean(axis=0)
        np.testing.assert_allclose(got.premia, g, rtol=1e-9)
        V = np.cov(G.T) / T
        S = np.zeros((3, 3))
        S[1:, 1:] = np.cov(F.T) / T
        c = g[1:] @ np.linalg.inv(np.cov(F.T)) @ g[1:]
        np.testing.assert_allclose(got.covariance, (1 + c) * (V - S) + S, rtol=1e-8)
        np.testing.assert_allclose(got.errors["fama_macbeth"], np.sqrt(np.diag(V)), rtol=1e-9)
        L, total = int(4 * (T / 100) ** (2 / 9)), np.zeros((3, 3))
        for t in range(T):
            for s in range(T):
                if abs(t - s) <= L:
                    total += (1 - abs(t - s) / (L + 1)) * np.outer(G[t] - g, G[s] - g)
        np.testing.assert_allclose(
            got.errors["newey_west"], np.sqrt(np.diag(total) / T**2 * T / (T - 1)), rtol=1e-9
        )
        realised, predicted = R.mean(axis=0), X @ g
        np.testing.assert_allclose(got.pricing["error"], realised - predicted, atol=1e-12)
        self.assertAlmostEqual(got.r2, 1 - np.var(realised - predicted) / np.var(realised), 9)
        for kind, gls in ((None, "ols"), ("misspecification", "ols"), ("misspecification", "gls")):
            told = ul.two_pass(panel, errors=kind, weighting=gls)
            error = 100 * np.sqrt((told.pricing["error"] ** 2).mean())
            self.assertIn(f"root mean square pricing error {error:.3f} %", told.basis)
        table = ul.factor_betas(panel, errors="classical")
        noise = np.zeros((3, 3))
        noise[1:, 1:] = table.covariance[:, 1:, 1:].sum(axis=0)
        np.testing.assert_allclose(got.bias, -np.linalg.inv(X.T @ X) @ noise @ g, rtol=1e-8)

    def test_rolling_betas_and_characteristics_look_back_only(self):
        panel = made_panel(gaps=0.1)
        chars = pd.DataFrame(np.random.default_rng(3).normal(size=(120, 8)), months(120), panel.assets.columns)
        got = ul.two_pass(panel, ["market"], beta_sample="rolling", window=36, characteristics={"book": chars})
        t = 70
        beta = ul.rolling_regress(panel.excess, panel.factors[["market"]], window=36).frame().iloc[t - 1 - 35]
        X = np.column_stack([np.ones(8), beta, chars.iloc[t - 1]])
        r = panel.excess.values.iloc[t].to_numpy()
        used = np.isfinite(r) & np.isfinite(X).all(axis=1)
        np.testing.assert_allclose(got.slopes.loc[months(120)[t]], ols(X[used], r[used]), rtol=1e-9)
        spoiled = chars.copy()
        spoiled.iloc[-1] = 1e6  # no later return is explained by it
        again = ul.two_pass(
            panel, ["market"], beta_sample="rolling", window=36, characteristics={"book": spoiled}
        )
        pd.testing.assert_frame_equal(got.slopes, again.slopes)
        self.assertEqual(got.kind, "newey_west")

    def test_gaps_bring_the_bootstrap_whose_betas_are_right(self):
        from ultrum.core.pricing.two_pass_standard_errors import bootstrap_covariance, redrawn_betas
        from ultrum.core.regression.engine.covariance_and_bootstrap import row_counts, stationary_rows

        panel = made_panel(gaps=0.15)
        rows = stationary_rows(120, 5, 4.0, 9)
        R, F = panel.excess.block, panel.factors.to_numpy()
        got = redrawn_betas(R, F, row_counts(rows, 120))
        for d in range(5):
            y, X = R[rows[d], 2], np.column_stack([np.ones(120), F[rows[d]]])
            used = np.isfinite(y)
            np.testing.assert_allclose(got[d, 2], ols(X[used], y[used])[1:], rtol=1e-9)
        self.assertEqual(ul.two_pass(panel, draws=49).kind, "bootstrap")
        long = made_panel(T=600, N=25)  # where both are known, they agree
        want = ul.two_pass(long).errors["shanken"]
        again = np.sqrt(
            np.diag(
                bootstrap_covariance(
                    long.excess.block, long.factors.to_numpy(), [], long.assets.index.asi8, True, 600, 4
                )
            )
        )
        np.testing.assert_allclose(again, want, rtol=0.12)
        with self.refused(EstimationError, "No period has more assets"):
            ul.two_pass(made_panel(N=3))


class Pooled(Scratch):
    def test_two_way_effects_and_clusters_equal_dummies(self):
        panel = made_panel(T=30, N=6, gaps=0.1)
        rng = np.random.default_rng(2)
        size = pd.DataFrame(rng.normal(size=(30, 6)), panel.assets.index, panel.assets.columns)
        got = ul.panel_regress(panel, characteristics={"size": size}, effects=("asset", "period"))
        y, x = panel.excess.block.ravel(), size.to_numpy().ravel()
        used = np.isfinite(y)
        a, t = np.tile(np.arange(6), 30)[used], np.repeat(np.arange(30), 6)[used]
        D = np.column_stack([np.eye(6)[a], np.eye(30)[t][:, 1:]])
        xr, yr = x[used] - D @ ols(D, x[used]), y[used] - D @ ols(D, y[used])
        beta = xr @ yr / (xr @ xr)
        e, n = yr - beta * xr, used.sum()
        self.assertAlmostEqual(got.coefficients["size"], beta, 10)

        def part(codes):
            G = len(np.unique(codes))
            return (
                sum((xr[codes == g] @ e[codes == g]) ** 2 for g in np.unique(codes))
                * G
                / (G - 1)
                * (n - 1)
                / (n - 1)
            )

        V = (part(a) + part(t) - part(a * 100 + t)) / (xr @ xr) ** 2
        self.assertAlmostEqual(got.standard_errors["size"], np.sqrt(V), 9)
        self.assertEqual((got.df, got.nobs), (5, n))
        self.assertAlmostEqual(got.sigma, np.sqrt(e @ e / (n - 36)), 9)
        with self.refused(EstimationError, "market", "collinear with the period fixed effects"):
            ul.panel_regress(panel, ["market"], effects="period")
        with self.assertWarnsRegex(ul.DataWarning, "Only 23 clusters"):
            fit = ul.panel_regress(ul.practice.panel(), ["market", "size"])
        self.assertEqual(fit.test("size"), fit.test(["size"]))
        with self.refused(EstimationError, "No coefficient 'sizes'"):
            fit.test("sizes")
        one = replace(panel, assets=panel.assets[["a0"]])
        with self.refused(EstimationError, "at least 2 clusters"):
            ul.panel_regress(one, ["market"], clusters="asset")


class Moving(Scratch):
    def test_up_and_down_by_hand(self):
        panel = made_panel(K=1)
        got = ul.up_down_betas(panel, errors="classical")
        f, y = panel.factors["market"].to_numpy(), panel.excess.block[:, 3]
        X = np.column_stack([np.ones(120), np.maximum(f, 0), np.minimum(f, 0)])
        b = ols(X, y)
        V = np.linalg.inv(X.T @ X) * np.sum((y - X @ b) ** 2) / 117
        self.assertAlmostEqual(got.up["a3"], b[1], 10)
        t = (b[1] - b[2]) / np.sqrt(V[1, 1] + V[2, 2] - 2 * V[1, 2])
        self.assertAlmostEqual(got.p_value["a3"], 2 * scipy.stats.t.sf(abs(t), 117), 9)

    def test_conditional_beta_uses_what_was_known_before(self):
        z = pd.Series(np.random.default_rng(4).normal(0.03, 0.01, 120), months(120), name="spread")
        panel = made_panel(K=1, conditions=ul.TimeSeries.from_pandas(z, measure="rate"))
        got = ul.conditional_beta(panel, errors="classical")
        known = panel.conditions["spread"]
        self.assertEqual(known.iloc[5], z[known.index[5] - 2])  # published a month later, stands the month after
        s = (known - known.mean()) / known.std()
        f, y = panel.factors["market"], panel.excess.values["a1"]
        X = np.column_stack([np.ones(len(f)), f, f * s])
        b = ols(X, y)
        V = np.linalg.inv(X.T @ X) * np.sum((y - X @ b) ** 2) / (len(y) - 3)
        np.testing.assert_allclose(got.beta["a1"], b[1] + b[2] * s, rtol=1e-9)
        w = np.array([0, 1, s.iloc[7]])
        self.assertAlmostEqual(got.standard_error["a1"].iloc[7], np.sqrt(w @ V @ w), 10)
        self.assertAlmostEqual(got.p_value["a1"], got.table.p_values.loc["a1", "market × spread"], 9)
        with self.refused(EstimationError, "No condition strain", "spread"):
            ul.conditional_beta(panel, ["strain"])

    def filtered_panel(self):
        rng = np.random.default_rng(7)
        panel = made_panel(K=1, N=2, gaps=0.08)
        path = 0.6 + rng.normal(0, 0.15, 120).cumsum()
        moved = panel.assets.assign(a0=0.002 + path * panel.factors["market"] + rng.normal(0, 0.02, 120))
        moved.iloc[[3, 50], 0] = np.nan
        return ul.align(assets=moved, factors=panel.factor_table, risk_free=panel.rate)

    def test_filtered_beta_averages_best_linear_predictions_over_ratios(self):
        """Against matrices of all rows, at every ratio of the grid, weighted by likelihood and prior."""
        panel = self.filtered_panel()
        got = ul.kalman_beta(panel)
        f, y = panel.factors["market"].to_numpy(), panel.excess.values["a0"].to_numpy()
        used = np.isfinite(y)
        rows = used.sum()
        L = np.tril(np.ones((120, 120)))
        L[:, 0] = 0  # the walk starts at the unknown first beta
        X = np.column_stack([np.ones(rows), f[used]])

        def parts(q):
            walk = q * L @ L.T
            V = np.eye(rows) + (f[:, None] * walk * f)[np.ix_(used, used)]
            Vi = np.linalg.inv(V)
            C = np.linalg.inv(X.T @ Vi @ X)
            b = C @ X.T @ Vi @ y[used]
            e = y[used] - X @ b
            s2 = e @ Vi @ e / (rows - 2)
            like = -0.5 * ((rows - 2) * np.log(s2) + np.linalg.slogdet(V)[1] - np.linalg.slogdet(C)[1])
            cross = (walk * f)[:, used]
            slant = np.column_stack([np.zeros(120), np.ones(120)]) - cross @ Vi @ X
            spread = np.diag(walk - cross @ Vi @ cross.T)
            spread = s2 * (spread + np.einsum("ti,ij,tj->t", slant, C, slant))
            return like, b[1] + cross @ Vi @ e, spread, s2

        steps = np.concatenate([[0.0], np.geomspace(0.004, 4.0, 32)])
        unit = np.sqrt(np.mean(f[used][:24] ** 2))
        found = [parts((step / unit) ** 2) for step in steps]
        likes, smooth, spread = (np.array([p[k] for p in found]) for k in range(3))
        edges = np.concatenate([[0.0], (steps[1:] + steps[:-1]) / 2, [np.inf]])
        prior = np.diff(np.arctan(edges * f[used].std() / unit / 0.09))
        weight = prior * np.exp(likes - likes.max())
        weight /= weight.sum()
        beta = weight @ smooth
        error = np.sqrt(weight @ spread + weight @ (smooth - beta) ** 2)
        np.testing.assert_allclose(got.beta["a0"], beta, rtol=1e-7)
        np.testing.assert_allclose(got.standard_error["a0"], error, rtol=1e-6)
        best = scipy.optimize.minimize_scalar(lambda g: -parts(10**g)[0], bounds=(-3, 4), method="bounded",
                                              options={"xatol": 1e-7})  # fmt: skip
        movement = np.sqrt(10**best.x * parts(10**best.x)[3])
        self.assertAlmostEqual(got.state_sd["a0"], movement, 4)
        self.assertLess(got.p_value["a0"], 0.01)
        short = panel.assets.assign(late=panel.assets["a0"].where(np.arange(120) >= 100))
        late = ul.kalman_beta(ul.align(assets=short, factors=panel.factor_table, risk_free=panel.rate))
        self.assertTrue(late.beta["late"].isna().all())
        pd.testing.assert_series_equal(late.beta["a0"], got.beta["a0"])
        self.assertIn("1 asset left out, with fewer than 24 rows", late.basis)

    def test_known_beta_is_that_of_the_data_up_to_its_date_and_missing_months_count(self):
        panel = self.filtered_panel()
        known = ul.kalman_beta(panel).filtered
        for end in (40, 77, 119):
            cut = panel.sample(None, str(panel.assets.index[end]))
            then = ul.kalman_beta(cut)
            pd.testing.assert_frame_equal(then.filtered, known.iloc[: end + 1], rtol=1e-9)
            last = cut.excess.values["a0"].last_valid_index()
            self.assertAlmostEqual(then.filtered.loc[last, "a0"], then.beta.loc[last, "a0"], 9)
        kept = np.ones(120, dtype=bool)
        kept[30:60:2] = False
        absent = replace(panel, assets=panel.assets[kept], factors=panel.factors[kept],
                         risk_free=panel.risk_free[kept], conditions=panel.conditions[kept])  # fmt: skip
        empty = replace(panel, assets=panel.assets.where(np.column_stack([kept, kept])))
        pd.testing.assert_frame_equal(ul.kalman_beta(absent).beta, ul.kalman_beta(empty).beta[kept], rtol=1e-9)
