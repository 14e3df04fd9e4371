"""Numbers against slow, independent computations, where a slip would otherwise pass unseen."""

import inspect
import itertools
import threading
import warnings
from dataclasses import replace
from unittest import mock

import numpy as np
import pandas as pd
import scipy.stats

import ultrum as ul
from tests.support import OnPractice, Scratch, daily, months, series
from ultrum.core.regression.engine import rolling_windows
from ultrum.core.regression.engine.newey_west_and_fixed_b import lag_rule
from ultrum.core.regression.unit_roots_and_design_warnings import dickey_fuller
from ultrum.errors import EstimationError
from ultrum.sources.download_and_limits import Limits, current

QUIET = warnings.catch_warnings


def random_panel(T=90, N=4, K=2, seed=1, dropped=()):
    """Assets on K factors; some periods are dropped for lack of the last factor."""
    rng = np.random.default_rng(seed)
    index = months(T)
    f = 0.005 + rng.normal(0, 0.04, (T, K))
    r = f @ rng.normal(0.8, 0.3, (K, N)) + rng.normal(0, 0.05, (T, N)) + 0.002
    factors = pd.DataFrame(f, index, [f"f{k}" for k in range(K)])
    factors.iloc[list(dropped), -1] = np.nan
    facts = {"measure": "return", "excess_of": "bill"}
    return ul.align(
        assets=ul.SeriesTable.from_pandas(pd.DataFrame(r, index, list("abcdefgh")[:N]), measure="return"),
        factors=ul.SeriesTable.from_pandas(factors, **facts),
        risk_free=series(np.full(T, 0.001), name="bill", measure="return"))  # fmt: skip


def bartlett(scores, when, lags):
    """Σ over all pairs of rows, weighted by how many periods they are apart."""
    total = np.zeros((scores.shape[1],) * 2)
    for i, j in itertools.product(range(len(when)), repeat=2):
        total += max(1 - abs(when[i] - when[j]) / (lags + 1), 0) * np.outer(scores[i], scores[j])
    return total


class Regressions(Scratch):
    def test_adjusted_r2_and_the_lags_of_the_rule(self):
        rng = np.random.default_rng(0)
        x = rng.normal(size=(30, 3))
        y = x @ [1.0, 0.5, 0.0] + rng.normal(size=30)
        fit = ul.regress(y, x)
        spread = fit.residuals.to_numpy() @ fit.residuals / 26 / y.var(ddof=1)
        self.assertAlmostEqual(fit.r2_adjusted, 1 - spread, 12)
        flat = ul.regress(y, x, constant=False)
        spread = flat.residuals.to_numpy() @ flat.residuals / 27 / (y @ y / 30)
        self.assertAlmostEqual(flat.r2_adjusted, 1 - spread, 12)
        rule = {T: lag_rule(T) for T in (25, 60, 100, 252, 500, 1000, 2500)}
        self.assertEqual(rule, {25: 2, 60: 3, 100: 4, 252: 4, 500: 5, 1000: 6, 2500: 8})
        for T in range(10, 3000):  # the integer n with n^9 100^2 <= 4^9 T^2 < (n + 1)^9 100^2
            n = lag_rule(T)
            self.assertTrue(n**9 * 100**2 <= 4**9 * T**2 < (n + 1) ** 9 * 100**2, T)
        self.assertEqual(rolling_windows.lag_rules(np.array(list(rule))).tolist(), list(rule.values()))

    def test_kinds_of_errors_lags_and_draws_have_one_meaning_everywhere(self):
        panel = random_panel()
        upper = ul.factor_betas(panel, errors="HC3").standard_errors
        pd.testing.assert_frame_equal(upper, ul.factor_betas(panel, errors="hc3").standard_errors)
        for call in (
            lambda: ul.factor_betas(panel, errors="hc1", lags=3),
            lambda: ul.rolling_regress(panel.excess, panel.factor_table, errors="classical", lags=2),
            lambda: ul.premium(panel.factor_table["f0"], errors="HC0", lags=1),
            lambda: ul.regress(panel.excess, panel.factor_table, clusters=np.arange(90) % 9, lags=1),
        ):
            with self.refused(EstimationError, "lags", "Remove lags"):
                call()
        for name in ul.__all__:
            if inspect.isfunction(getattr(ul, name)):
                given = inspect.signature(getattr(ul, name)).parameters
                for argument, default in (("errors", "hac"), ("draws", 999)):
                    if argument in given and given[argument].default is not inspect.Parameter.empty:
                        own = name == "two_pass" and argument == "errors"  # those the betas allow
                        self.assertEqual(given[argument].default, None if own else default, name)

    def test_the_lags_of_a_unit_root_test_have_the_least_bic(self):
        rng = np.random.default_rng(11)
        change = rng.normal(size=203)
        for t in range(3, 203):
            change[t] += 0.5 * change[t - 1] - 0.3 * change[t - 2] + 0.2 * change[t - 3]
        y = np.cumsum(change)
        d = np.diff(y)
        most = int(12 * 2.03**0.25)

        def fit(lags, first):
            X = [y[first:-1], *(d[first - k : len(d) - k] for k in range(1, lags + 1)), np.ones(202 - first)]
            X = np.column_stack(X)
            b, rss = np.linalg.lstsq(X, d[first:], rcond=None)[:2]
            return X, b, float(rss[0]), len(d) - first

        bic = []
        for lags in range(most + 1):
            X, _, rss, n = fit(lags, most)
            bic.append(n * np.log(rss / n) + np.log(n) * X.shape[1])
        best = int(np.argmin(bic))
        X, b, rss, n = fit(best, best)
        t = b[0] / np.sqrt(rss / (n - X.shape[1]) * np.linalg.inv(X.T @ X)[0, 0])
        got = dickey_fuller(y)
        self.assertEqual(got.lags, best)
        self.assertAlmostEqual(got.statistic, t, 9)

    def test_weighted_rows_of_an_ill_conditioned_design(self):
        rng = np.random.default_rng(12)
        x = 1.0 + 1e-6 * rng.normal(size=50)
        y = 2.0 * x + 1e-6 * rng.normal(size=50)
        w = rng.random(50) + 0.5
        fit = ul.regress(y, np.column_stack([x, x**2]), weights=w, constant=False, errors="classical")
        A = np.column_stack([x, x**2]).astype(np.longdouble) * np.sqrt(w)[:, None]
        target = y.astype(np.longdouble) * np.sqrt(w)
        gram, right = A.T @ A, A.T @ target
        det = gram[0, 0] * gram[1, 1] - gram[0, 1] ** 2
        want = (gram[1, 1] * right[0] - gram[0, 1] * right[1]) / det
        self.assertAlmostEqual(fit.coefficients.iloc[0] / float(want), 1.0, 4)

    def test_near_exact_fits_go_to_qr(self):
        """Where rounding is all that a moment kernel would leave of the residuals."""
        rng = np.random.default_rng(1)
        x = rng.normal(size=(80, 2))
        y = x @ [1.0, 2.0] + 1e-11 * rng.normal(size=80)
        table = pd.DataFrame({f"a{k}": y for k in range(40)})
        for k in range(40):
            table.iloc[k, k] = np.nan  # samples of their own
        with mock.patch.object(rolling_windows, "_by_qr", wraps=rolling_windows._by_qr) as careful:
            made = ul.regress(table, x, errors="classical")
        self.assertEqual(careful.call_count, 40)
        want = [np.sqrt(np.sum(ul.regress(table[c], x).residuals ** 2) / 76) for c in table]
        np.testing.assert_allclose(made.sigma, want, rtol=1e-3)

    def test_sigma_of_decaying_windows_with_missing_rows(self):
        rng = np.random.default_rng(2)
        x = pd.DataFrame(rng.normal(size=(60, 1)), months(60), ["f"])
        y = pd.DataFrame({"y": x["f"] + rng.normal(size=60), "z": x["f"]}, months(60))
        y.iloc[[3, 20, 41, 59], 0] = np.nan
        rolled = ul.rolling_regress(y, x, window=60, half_life=12)
        weights = pd.Series(0.5 ** (np.arange(59, -1, -1) / 12), months(60))
        fit = ul.regress(y["y"], x, weights=weights)
        self.assertAlmostEqual(rolled.sigma[0, 0], fit.sigma, 12)
        np.testing.assert_allclose(rolled.standard_errors[0, 0], fit.standard_errors, rtol=1e-9)

    def test_rolling_windows_of_timestamps_skip_absent_months(self):
        rng = np.random.default_rng(3)
        kept = np.delete(np.arange(60), [10, 11, 25, 40])
        stamps = months(60).to_timestamp(how="end").normalize()[kept]
        x, y = rng.normal(size=(2, 56))
        rolled = ul.rolling_regress(pd.Series(y, stamps), pd.Series(x, stamps), window=12, min_obs=8)
        self.assertEqual(len(rolled.ends), 49)
        for end in (11, 25, 30, 59):
            inside = (kept > end - 12) & (kept <= end)
            b = np.polyfit(x[inside], y[inside], 1)[0]
            self.assertAlmostEqual(rolled.coefficients[end - 11, 0, 1], b, 10)

    def test_leads_and_lags_are_those_of_the_calendar(self):
        panel = random_panel(T=80, dropped=(20, 21, 50))
        made = ul.dimson_beta(panel, "f0", factor_lags=1, factor_leads=1)
        factor, kept = panel.factors["f0"], panel.factors.index
        whole = factor.reindex(months(80))
        design = pd.DataFrame({"lag": whole.shift(1), "own": whole, "lead": whole.shift(-1)}).loc[kept]
        slow = ul.regress(panel.excess, design)
        np.testing.assert_allclose(made.beta, slow.coefficients[["lag", "own", "lead"]].sum(axis=1), rtol=1e-10)
        self.assertEqual(int(slow.nobs.iloc[0]), 80 - 3 - 4 - 2)

    def test_conditional_beta_by_its_regression(self):
        panel = random_panel(T=80, K=1)
        rng = np.random.default_rng(5)
        state = pd.DataFrame({"state": rng.normal(size=80)}, panel.factors.index)
        panel = replace(panel, conditions=state)
        made = ul.conditional_beta(panel, factor="f0")
        z = (state["state"] - state["state"].mean()) / state["state"].std()
        f, y = panel.factors["f0"], panel.excess.values["a"]
        A = np.column_stack([np.ones(80), z, f, f * z])
        slow = {len(c): np.linalg.lstsq(A[:, c], y, rcond=None)[0] for c in ([0, 2, 3], [0, 1, 2, 3])}
        own = made.table.coefficients.loc["a"]
        want = slow[len(own)]
        self.assertAlmostEqual(own["f0"], want[-2], 10)
        self.assertAlmostEqual(own["f0 × state"], want[-1], 10)
        np.testing.assert_allclose(made.beta["a"], want[-2] + want[-1] * z, rtol=1e-9)


class Pricing(Scratch):
    def test_premia_errors_count_periods_that_were_dropped(self):
        panel = random_panel(T=90, N=8, dropped=(10, 11, 12, 40, 70))
        made = ul.two_pass(panel, ["f0"], lags=3, draws=49)
        slopes = made.slopes.to_numpy()
        when = panel.assets.index.asi8
        scores = (slopes - slopes.mean(axis=0)) / 85
        want = np.sqrt(np.diag(bartlett(scores, when, 3)) * 85 / 84)
        np.testing.assert_allclose(made.errors["newey_west"], want, rtol=1e-9)

    def test_a_row_that_two_series_lack_is_the_cost_of_neither_alone(self):
        whole = random_panel(T=40, N=3, K=2)
        f = whole.factors.copy()
        f.iloc[[5, 6, 7], 0], f.iloc[[7, 20], 1] = np.nan, np.nan
        factors = ul.SeriesTable.from_pandas(f, measure="return", excess_of="bill")
        r = whole.assets.copy()
        r.loc["2010-07"] = np.nan
        assets = ul.SeriesTable.from_pandas(r, measure="return")
        panel = ul.align(assets=assets, factors=factors, risk_free=whole.rate)
        self.assertEqual(panel.coverage["costs"].to_dict(),
                         {"a": 0, "b": 0, "c": 0, "f0": 2, "f1": 1, "bill": 0})  # fmt: skip
        self.assertEqual(panel.coverage["gaps"].to_dict(),
                         {"a": 1, "b": 1, "c": 1, "f0": 3, "f1": 2, "bill": 0})  # fmt: skip
        dropped = ul.factor_betas(panel, ["f1"]).dropped.loc["b"]
        self.assertEqual(dropped[["missing f0", "missing f1", "missing f0 and f1"]].tolist(), [1, 1, 1])

    def test_windows_of_rolling_premia_are_sixty_periods(self):
        panel = random_panel(T=90, N=8, K=1)
        got, want = (ul.two_pass(panel, beta_sample="rolling", **more) for more in ({}, {"window": 60}))
        self.assertEqual(got.premia.tolist(), want.premia.tolist())
        self.assertEqual(len(got.slopes), 30)
        betas = ul.regress(panel.excess.values.iloc[:60], panel.factors.iloc[:60]).coefficients["f0"]
        first = ul.regress(panel.excess.values.iloc[60].to_numpy(), betas.to_numpy()).coefficients
        np.testing.assert_allclose(got.slopes.iloc[0], first, rtol=1e-9)

    def test_characteristics_are_those_of_the_row_before_in_any_order(self):
        panel = random_panel(T=40, N=8, K=1, dropped=(20,))
        size = pd.DataFrame(np.random.default_rng(4).normal(size=(40, 8)), months(40), list("abcdefgh"))
        want = ul.two_pass(panel, [], characteristics={"size": size})
        mixed = size.sample(frac=1.0, random_state=1)[list("hgfedcba")]
        got = ul.two_pass(panel, [], characteristics={"size": mixed})
        np.testing.assert_allclose(got.slopes, want.slopes, rtol=1e-12)
        self.assertEqual(len(want.slopes), 38)  # neither the first month nor the dropped one
        y = panel.excess.values.loc["2011-10"].to_numpy()  # the month after the one that was dropped
        first = ul.regress(y, size.loc["2011-09"].to_numpy()).coefficients
        np.testing.assert_allclose(want.slopes.loc["2011-10"], first, rtol=1e-9)
        with self.refused(EstimationError, "size", "2010-03", "twice"):
            ul.two_pass(panel, [], characteristics={"size": pd.concat([size, size.iloc[2:3]])})

    def test_a_factor_value_that_is_missing_leaves_its_period_out(self):
        panel = random_panel(T=90, N=8)
        factors = panel.factors.copy()
        factors.iloc[33, 0] = np.nan
        holed = replace(panel, factors=factors)
        with QUIET():
            warnings.simplefilter("ignore")
            got = ul.two_pass(holed, draws=99)
            whole = {n: getattr(panel, n).drop(panel.assets.index[33])
                     for n in ("assets", "factors", "risk_free", "conditions")}  # fmt: skip
            want = ul.two_pass(replace(panel, **whole), draws=99)
        self.assertEqual(got.kind, "shanken")
        np.testing.assert_allclose(got.to_frame(), want.to_frame(), rtol=1e-9)
        self.assertIn("premium", repr(got))
        nothing = replace(got, covariance=got.covariance * np.nan, errors=got.errors * np.nan)
        self.assertIn("premium", repr(nothing))
        cost = ul.cost_of_equity(ul.factor_betas(panel), premia=nothing, risk_free=0.02)
        self.assertIn("a premium has none", cost.notes["a"])

    def test_the_bootstrap_of_the_joint_test_counts_draws_that_reach_the_statistic(self):
        panel = random_panel(T=80, N=3, K=1, seed=7, dropped=())
        null = panel.assets - ul.factor_betas(panel).coefficients["constant"]
        p = [ul.joint_alpha_test(replace(panel, assets=null + shift), how="bootstrap", draws=99).p_value
             for shift in (0.0, 0.03)]  # fmt: skip
        self.assertEqual(p[0], 1.0)  # no draw without alphas is nearer to none than zero alphas
        self.assertEqual(p[1], 0.01)
        holed = random_panel(T=80, N=3, K=2, dropped=(9, 10, 30))
        got = ul.joint_alpha_test(holed, ["f0"], how="bootstrap", draws=19, lags=2)
        y, f = holed.excess.values.to_numpy(), holed.factors["f0"].to_numpy()
        A = np.column_stack([np.ones(77), f])
        weights = np.linalg.pinv(A)
        alphas = weights[0] @ y
        scores = (y - A @ (weights @ y)) * weights[0][:, None]
        V = bartlett(scores, holed.assets.index.asi8, 2)
        self.assertAlmostEqual(got.statistic, alphas @ np.linalg.solve(V, alphas) / 3, 9)

    def test_degrees_of_freedom_of_a_cost_are_the_fewest(self):
        panel = random_panel(T=90, N=3, K=1)
        betas = ul.factor_betas(panel)
        for rows, df in ((90, 88), (40, 39)):
            history = panel.factor_table["f0"]
            history = ul.TimeSeries(history.values.iloc[-rows:], history.metadata)
            with QUIET():
                warnings.simplefilter("ignore")
                cost = ul.cost_of_equity(betas, premia={"f0": history}, risk_free=0.02)
            self.assertEqual(cost.df.tolist(), [df] * 3)
            reach = scipy.stats.t.ppf(0.975, df) * cost.standard_error
            np.testing.assert_allclose(cost.interval(method="t")["high"], cost.value + reach, rtol=1e-12)

    def test_betas_at_a_higher_frequency_than_the_risk_free_rate(self):
        rng = np.random.default_rng(8)
        days = pd.bdate_range("2016-01-01", "2020-12-31")
        market = rng.normal(3e-4, 0.01, len(days))
        frame = pd.DataFrame({n: b * market + rng.normal(0, 0.01, len(days)) for n, b in zip(
            "abcde", (0.5, 0.8, 1.0, 1.2, 1.5), strict=True)}, days)  # fmt: skip
        assets = ul.SeriesTable.from_pandas(frame, measure="return")
        index = ul.TimeSeries.from_pandas(pd.Series(market, days, name="index"), measure="return")
        bill = series(np.full(62, 0.004), "2015-12", name="bill", measure="return")
        made = ul.beta_sensitivity(assets, index, "a", risk_free=bill, frequencies=["B"], windows=["P2Y"])
        ends = days.to_series()
        rate = 1.004 ** (ends.diff().dt.days / days.days_in_month) - 1
        rate[ends.dt.month.diff() != 0] = np.nan  # across two months: by hand
        for place in np.flatnonzero(rate.isna())[1:]:
            last, first = ends.iloc[place - 1], ends.iloc[place]
            left = last.days_in_month - last.day
            rate.iloc[place] = 1.004 ** (left / last.days_in_month + first.day / first.days_in_month) - 1
        part = slice("2019-01-01", None)
        y, x = (v.sub(rate.to_numpy(), axis=0)[part] for v in (frame["a"], index.values))
        plain = made.table[(made.table["estimator"] == "ols") & (made.table["adjustment"] == "none")]
        self.assertAlmostEqual(plain["beta"].iloc[0], ul.regress(y, x).coefficients.iloc[1], 10)


class Descriptions(Scratch):
    def test_relative_on_a_day_knows_nothing_of_later_days(self):
        rng = np.random.default_rng(9)
        a, b = (daily(50 * np.exp(np.cumsum(rng.normal(0, 0.01, 500))), "2022-01-03", measure="price", name=n)
                for n in "ab")  # fmt: skip
        on = "2023-03-01"
        early = [ul.TimeSeries(x.values.loc[:on], x.metadata) for x in (a, b)]
        got, want = ul.compare_to_benchmark(a, b, on=on), ul.compare_to_benchmark(*early)
        self.assertEqual(
            (got.tracking_error, got.information_ratio), (want.tracking_error, want.information_ratio)
        )
        self.assertEqual(got.basis, want.basis)

    def test_log_returns_are_described_as_log_returns(self):
        r = np.log1p(np.random.default_rng(1).normal(0.01, 0.1, 60))
        row = ul.risk_return(series(r, measure="log_return", name="a")).table.loc["a"]
        self.assertAlmostEqual(row["worst"], r.min(), 14)
        self.assertAlmostEqual(row["mean"], np.expm1(12 * r.mean()), 12)
        levels = np.exp(np.r_[0, np.cumsum(r)])
        self.assertAlmostEqual(row["max_drawdown"], (levels / np.maximum.accumulate(levels) - 1).min(), 12)

    def test_dividend_yields_take_the_year_up_to_each_day(self):
        rng = np.random.default_rng(2)
        close = daily(20 + rng.random(700), "2020-01-01", measure="price", name="a").as_table()
        paid = pd.DataFrame({"asset": "a", "date": rng.choice(close.index[10:690], 9, replace=False),
                             "amount": rng.random(9)})  # fmt: skip
        got = ul.dividend_yield(close, paid).to_pandas()["a"]
        for day in close.index[[300, 400, 555, 699]]:
            year = (paid["date"] > day - pd.DateOffset(years=1)) & (paid["date"] <= day)
            self.assertAlmostEqual(got[day], paid["amount"][year].sum() / close["a"].values[day], 12)
        exact = paid.iloc[:1].assign(date=close.index[100])
        got = ul.dividend_yield(close, exact).to_pandas()["a"]
        after = close.index[100] + pd.DateOffset(years=1)
        self.assertEqual(got[after], 0.0)  # a dividend of a year ago is of the year before
        self.assertGreater(got[after - pd.Timedelta(days=1)], 0.0)

    def test_a_wrong_price_on_the_first_day_and_amounts_on_one_day(self):
        close = daily([700.0, 7.0, 7.1, 7.0], measure="price", name="a").as_table()
        found = ul.flag_price_errors(close)
        self.assertEqual(found[["series", "date", "looks_like"]].values.tolist(),
                         [["a", "2024-01-02", "a split of 100 to 1"]])  # fmt: skip
        quote = daily([2.0, 4.0, 8.0], measure="quote", unit="QSR/QML", name="fx")
        rates = ul.ExchangeRates([quote])
        got = rates.amount([1.0, 10.0], "QSR", "QML", on=["2024-01-02"])
        self.assertEqual(got.tolist(), [4.0, 40.0])

    def test_months_without_a_change_are_not_above_zero(self):
        x = series([0.01, 0.0, -0.01, 0.02] * 6, measure="return", name="a")
        months_above = ul.calendar_returns(x).summary.loc["positive"]
        self.assertEqual(months_above[["Jan", "Feb", "Mar", "Apr"]].tolist(), [1.0, 0.0, 0.0, 1.0])

    def test_small_p_values_are_never_written_as_zero(self):
        rng = np.random.default_rng(3)
        x = pd.Series(rng.normal(size=200), months(200), name="f")
        fit = ul.regress(x * 2 + 0.1 * rng.normal(size=200), x)
        tests = [fit, fit.test("f"), ul.diagnose(fit), ul.break_test(fit, draws=49)]
        for result in tests:
            self.assertNotRegex(repr(result), r"p = 0\.0+\b|\b0\.0000?\s*$")
        self.assertIn("< 0.001", repr(fit))
        found = ul.diagnose(fit)
        count = sum(f.distribution != "Dickey–Fuller" and not np.isnan(f.p_value) for f in found.findings)
        self.assertAlmostEqual(found.expected_rejections, 0.05 * count, 12)
        self.assertIn(f"of {count} tests", repr(found))

    def test_nested_limits_end_in_any_order(self):
        with ul.limits(rows=5):
            with ul.limits(rows=9), ul.limits(rows=5):
                pass
            with self.refused(ul.UltrumError, "the limit is 5"):
                ul.read_series("date,a\n" + "".join(f"2024-0{m},1\n" for m in range(1, 8)))
        outer, inner = ul.limits(rows=5), ul.limits(rows=6)
        for block in (outer, inner):
            block.__enter__()
        for block in (outer, inner):
            block.__exit__(None, None, None)
        self.assertEqual(current(), Limits())

    def test_limits_hold_for_the_thread_and_for_what_it_fetches_in_parallel(self):
        rows, elsewhere = "month,a\n2024-01,1\n2024-02,2\n2024-03,3\n", []
        self.file("s/a.csv", rows)
        self.file("s/b.csv", rows)
        place = {"s": {"kind": "table", "url": str(self.folder / "s")}}
        with ul.Desk(self.folder / "v", sources=place) as desk, ul.limits(rows=2):
            other = threading.Thread(target=lambda: elsewhere.append(ul.read_series(rows)))
            other.start()
            other.join()
            status = desk.pull(["s:a.csv", "s:b.csv"]).status["status"].tolist()
        self.assertEqual((len(elsewhere), status), (1, ["failed", "failed"]))


class Services(OnPractice):
    def test_flows_of_an_agency_and_version_and_search_from_another_thread(self):
        desk = self.desk()
        plain = desk.fetch("observatory:PRICES/M.QM.CPI")
        named = desk.fetch("observatory:QLO,PRICES,1.0/M.QM.CPI")
        pd.testing.assert_series_equal(named.values, plain.values, check_names=False)
        with self.refused(ul.UltrumError, "no dataflow 'QSO,PRICES'"):
            desk.fetch("observatory:QSO,PRICES/M.QM.CPI")
        found, failed = [], []

        def search():
            try:
                found.append([row["address"] for row in desk.search("consumer").to_dict("records")])
            except Exception as error:
                failed.append(error)

        for _ in range(2):
            thread = threading.Thread(target=search)
            thread.start()
            thread.join()
        self.assertEqual(failed, [])
        search()
        self.assertEqual(found[0], found[2])
        self.assertIn("observatory:PRICES/M.QM.CPI", found[0])
