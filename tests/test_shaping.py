"""Shaping against closed forms and slow, obvious loops."""

import itertools

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

import ultrum as ul
from tests.support import Scratch, daily, months, series
from ultrum.errors import AlignmentError, EstimationError, FrequencyError, UnitError

SEEDS = st.integers(0, 10**6)
AGGREGATE = {"flow": np.ones(3), "index": np.ones(3) / 3, "stock": np.array([0, 0, 1.0])}


def walk(count, seed=0, start=100.0):
    return start + np.cumsum(np.random.default_rng(seed).normal(0, 1, count))


def quarterly(low, measure, **facts):
    timing = {"index": "average"}.get(measure, "")
    unit = "index" if measure == "index" else "count"
    return series(low, freq="Q", measure=measure, timing=timing, unit=unit, name="low", **facts)


class Higher(Scratch):
    @settings(max_examples=25, deadline=None)
    @given(st.sampled_from(sorted(AGGREGATE)), st.booleans(), SEEDS)
    def test_denton_is_the_closed_form_and_exact(self, measure, with_indicator, seed):
        rng = np.random.default_rng(seed)
        count = int(rng.integers(2, 12))
        z = rng.uniform(50, 150, 3 * count) if with_indicator else np.ones(3 * count)
        low = rng.uniform(100, 400, count)
        indicator = series(z, measure="index", timing="average", name="z") if with_indicator else None
        got = ul.disaggregate(quarterly(low, measure), "M", how="denton", indicator=indicator)
        C = np.kron(np.eye(count), AGGREGATE[measure])
        D = np.diff(np.eye(3 * count), axis=0) @ np.diag(1 / z)
        system = np.block([[D.T @ D, C.T], [C, np.zeros((count, count))]])
        want = np.linalg.solve(system, np.r_[np.zeros(3 * count), low])[: 3 * count]
        np.testing.assert_allclose(got.values.to_numpy(), want, rtol=1e-9)
        np.testing.assert_allclose(C @ got.values.to_numpy(), low, rtol=1e-12)

    @settings(max_examples=10, deadline=None)
    @given(st.sampled_from(sorted(AGGREGATE)), SEEDS)
    def test_chow_lin_is_generalised_least_squares_at_the_likeliest_rho(self, measure, seed):
        rng = np.random.default_rng(seed)
        n, h = 20, 60
        z = walk(h, seed)
        noise = np.zeros(h)
        for t in range(1, h):
            noise[t] = 0.7 * noise[t - 1] + rng.normal()
        C = np.kron(np.eye(n), AGGREGATE[measure])
        low = C @ (3 + 2 * z + noise)
        indicator = series(z, measure="index", timing="average", name="z")
        got = ul.disaggregate(quarterly(low, measure), "M", how="chow-lin", indicator=indicator)
        X = np.column_stack([np.ones(h), z])

        def at(rho):
            V = rho ** np.abs(np.subtract.outer(np.arange(h), np.arange(h))) / (1 - rho**2)
            W = np.linalg.inv(C @ V @ C.T)
            bread = np.linalg.inv(X.T @ C.T @ W @ C @ X)
            b = bread @ X.T @ C.T @ W @ low
            e = low - C @ X @ b
            height = -n / 2 * np.log(e @ W @ e / n) - 0.5 * np.linalg.slogdet(C @ V @ C.T)[1]
            return V, W, bread, b, e, height

        V, W, bread, b, e, height = at(got.rho)
        L = V @ C.T @ W
        np.testing.assert_allclose(got.values.to_numpy(), X @ b + L @ e, rtol=1e-9)
        np.testing.assert_allclose(C @ got.values.to_numpy(), low, rtol=1e-12)
        spread = X - L @ C @ X
        cov = (e @ W @ e / (n - 2)) * (V - L @ C @ V + spread @ bread @ spread.T)
        np.testing.assert_allclose(
            got.standard_errors, np.sqrt(np.maximum(np.diag(cov), 0)), rtol=1e-6, atol=1e-6
        )
        self.assertGreaterEqual(height, max(at(r)[-1] for r in np.linspace(-0.95, 0.99, 60)) - 1e-8)

    def test_hold_and_linear_do_what_the_measure_allows(self):
        for measure, want in {"flow": [2.0] * 3 + [4.0] * 3, "stock": [6.0] * 3 + [12.0] * 3}.items():
            held = ul.disaggregate(quarterly([6.0, 12.0], measure), "M", how="hold")
            self.assertEqual(held.values.tolist(), want)
        line = ul.disaggregate(quarterly([6.0, 12.0], "stock"), "M", how="linear")
        self.assertEqual(line.values.tolist(), [6.0, 8.0, 10.0, 12.0])
        self.assertEqual(str(line.index[0]), "2010-03")
        year = ul.disaggregate(series([366.0], start="2024", freq="Y", measure="flow"), "D", how="hold")
        self.assertEqual((len(year), year.values.iloc[0]), (366, 1.0))

    def test_a_gap_stays_a_gap_and_nonsense_is_refused(self):
        torn = ul.disaggregate(quarterly([1.0, np.nan, 3.0], "stock"), "M", how="hold")
        self.assertEqual(torn.values.isna().sum(), 3)
        flow = quarterly([1.0, 2.0], "flow")
        with self.refused(UnitError, "lines between totals", "hold"):
            ul.disaggregate(flow, "M", how="linear")
        with self.refused(FrequencyError, "to_frequency"):
            ul.disaggregate(flow, "A", how="hold")
        with self.refused(FrequencyError, "do not nest"):
            ul.disaggregate(flow, "W", how="hold")
        with self.refused(AlignmentError, "no value at 2010-06"):
            short = series(np.ones(5), measure="index", timing="average")
            ul.disaggregate(flow, "M", how="denton", indicator=short)
        with self.refused(EstimationError, "too few"):
            ul.disaggregate(flow, "M", how="chow-lin")
        with self.refused(UnitError, "returns", "how='hold'"):
            ul.disaggregate(quarterly([0.1], "return"), "M", how="linear")
        held = ul.disaggregate(quarterly([0.1], "return"), "M", how="hold").to_pandas()
        np.testing.assert_allclose(held, 1.1 ** (1 / 3) - 1, rtol=1e-14)


class Changes(Scratch):
    def test_daily_growth_over_a_year_takes_the_same_day_or_the_last_before(self):
        days = pd.bdate_range("2022-01-03", "2024-03-29").delete(200)
        level = pd.Series(walk(len(days), 3), days)
        x = ul.TimeSeries.from_pandas(level, measure="price", unit="QML", frequency="B")
        got = ul.growth(x, over="P1Y").values
        for day in got.index[::7]:
            before = level[: day - pd.DateOffset(years=1)].iloc[-1]
            self.assertAlmostEqual(got[day], level[day] / before - 1, places=14)
        self.assertEqual(str(ul.difference(x).values.index[0])[:10], "2022-01-04")

    def test_differences_and_lags_keep_their_periods(self):
        x = series([1.0, 3.0, 6.0], measure="stock", unit="count")
        change = ul.difference(x)
        self.assertEqual((change.values.tolist(), change.metadata.measure), ([2.0, 3.0], "flow"))
        late = ul.lag(x, "P2M")
        self.assertEqual((late.values.tolist(), str(late.index[0])), (x.values.tolist(), "2010-03"))
        with self.refused(FrequencyError, "future"):
            ul.lag(x, 0)
        with self.refused(UnitError, "already changes"):
            ul.difference(series([0.1], measure="return"))

    def test_annualised_growth_of_a_quarter(self):
        x = series([100.0, 102.0], freq="Q", measure="index", timing="average")
        self.assertAlmostEqual(ul.growth(x, over="P3M", annualised=True).values.iloc[0], 1.02**4 - 1, 14)
        with self.refused(UnitError, "zero or negative"):
            ul.growth(series([1.0, -1.0], measure="flow"), over="P1M", kind="log")

    def test_growth_and_order_of_conversion(self):
        x = series(np.exp(walk(48, 5, 0.0) / 50), measure="price", unit="QML")
        ends_first = ul.growth(ul.to_frequency(x, "Q"), over="P3M").values
        by_compounding = ul.to_frequency(ul.returns(x), "Q").values
        shared = ends_first.index.intersection(by_compounding.dropna().index)
        np.testing.assert_allclose(ends_first[shared], by_compounding[shared], rtol=1e-12)


class Levels(Scratch):
    def test_rebasing_to_a_year_uses_its_whole_average(self):
        x = series(np.arange(1.0, 25.0), measure="index", timing="average")
        got = ul.rebase(x, "2010")
        self.assertAlmostEqual(got.values[:12].mean(), 100.0, places=12)
        self.assertEqual(got.metadata.base_period, "2010")
        for to, said in {"2012": "no period of 2012", "2011-13": "not a period"}.items():
            with self.refused(ul.UltrumError, said):
                ul.rebase(x, to)
        with self.refused(AlignmentError, "only 6 of its 12 months"):
            ul.rebase(series(np.ones(6), measure="index", timing="average"), "2010")
        with self.refused(UnitError, "cumulate"):
            ul.rebase(series([0.1], measure="return"))

    def test_deflating_amounts_and_returns(self):
        cpi = series([100.0, 102.0, 104.04], measure="index", timing="average", name="cpi", region="QM")
        pay = series([50.0, 51.0, 52.02], measure="flow", unit="currency", currency="QML", region="QM")
        np.testing.assert_allclose(ul.deflate(pay, cpi, base="2010-01").values, 50.0, rtol=1e-14)
        np.testing.assert_allclose(ul.deflate(pay, cpi).values, 52.02, rtol=1e-14)
        earned = ul.deflate(series([0.0, 0.05, 0.02], measure="return"), cpi).values
        np.testing.assert_allclose(earned[1:], [1.05 / 1.02 - 1, 0.0], atol=1e-14)
        short = ul.deflate(pay, cpi.sample("2010-02"))
        self.assertIn("rows_without_prices 1", str(short.metadata.trail[-1]))
        with self.refused(UnitError, "the same region"):
            ul.deflate(pay, cpi.with_metadata(region="QS"))
        with self.refused(UnitError, "needs a price index"):
            ul.deflate(pay, series([0.1] * 3, measure="rate"))

    def test_cumulating_undoes_returns_and_refuses_gaps(self):
        prices = series(walk(20, 2), measure="price", unit="QML", name="p")
        made = ul.cumulate(ul.returns(prices), initial=prices.values.iloc[0])
        np.testing.assert_allclose(made.values, prices.values[1:], rtol=1e-13)
        with self.refused(UnitError, "across a gap", "2010-02"):
            ul.cumulate(series([0.1, np.nan, 0.1], measure="return"))

    def test_filling_is_limited_and_counted(self):
        x = series([1, np.nan, np.nan, np.nan, 5], measure="rate", timing="end")
        got = ul.fill(x, limit=2)
        np.testing.assert_array_equal(got.values, [1, 1, 1, np.nan, 5])
        self.assertIn("values 2", str(got.metadata.trail[-1]))
        hidden = ul.TimeSeries.from_pandas(x.to_pandas().dropna(), measure="rate", timing="end")
        self.assertEqual(ul.fill(hidden, "none").values.isna().sum(), 3)
        with self.refused(UnitError, "count it twice"):
            ul.fill(series([1.0, np.nan], measure="flow"))

    def test_spread_is_of_like_with_like(self):
        ten, bill = (
            series([0.04, v], measure="rate", timing="end", name=n) for n, v in (("ten", 0.03), ("bill", 0.035))
        )
        np.testing.assert_allclose(ul.spread(ten, bill).values, [0.0, -0.005], atol=1e-15)
        with self.refused(UnitError, "at the end"):
            ul.spread(ten, bill.with_metadata(timing="average"))
        with self.refused(UnitError, "compares trends"):
            ul.spread(*[series([1.0], measure="index", timing="average", name=n) for n in "ab"])
        with self.refused(FrequencyError, "to_frequency"):
            ul.spread(ten, series([0.1], freq="Q", measure="rate", timing="end"))


class Moving(Scratch):
    @settings(max_examples=30, deadline=None)
    @given(
        st.sampled_from(["mean", "std", "sum", "high", "low", "median"]), st.integers(2, 9), st.booleans(), SEEDS
    )
    def test_windows_as_a_loop_would(self, how, window, holes, seed):
        rng = np.random.default_rng(seed)
        values = rng.normal(size=(40, 2))
        if holes:
            values[rng.random(values.shape) < 0.2] = np.nan
        frame = pd.DataFrame(values, months(40), columns=["a", "b"])
        got = ul.rolling(ul.SeriesTable.from_pandas(frame, measure="score"), window, how=how, min_obs=2).values
        for t, name in itertools.product(range(40), "ab"):
            part = frame[name].iloc[max(0, t - window + 1) : t + 1].dropna()
            slow = {
                "mean": part.mean,
                "std": part.std,
                "sum": part.sum,
                "high": part.max,
                "low": part.min,
                "median": part.median,
            }
            want = slow[how]() if len(part) >= 2 else np.nan
            np.testing.assert_allclose(got[name].iloc[t], want, rtol=1e-12, atol=1e-13)

    def test_bands_are_so_many_deviations_from_the_mean(self):
        x = walk(50, 3)
        got = ul.bands(series(x, measure="price"), 20, width=1.5).values.iloc[-1]
        middle, reach = x[30:].mean(), 1.5 * x[30:].std(ddof=1)
        np.testing.assert_allclose(got[["low", "middle", "high"]], [middle - reach, middle, middle + reach])

    def test_one_bad_tick_spoils_only_its_own_windows(self):
        x = walk(300, 4)
        spoilt = x.copy()
        spoilt[100] = 1e12
        clean, bad = (ul.rolling(series(v, measure="score"), 12, how="std").values for v in (x, spoilt))
        away = np.r_[0:100, 112:300]
        np.testing.assert_array_equal(clean.to_numpy()[away], bad.to_numpy()[away])

    def test_calendar_spans_of_daily_data_and_gaps(self):
        days = pd.bdate_range("2024-01-01", "2024-06-28")
        x = ul.TimeSeries.from_pandas(pd.Series(walk(len(days)), days), measure="score")
        got = ul.rolling(x, "P1M", min_obs=1).values
        day = pd.Timestamp("2024-05-15")
        want = x.to_pandas().loc[pd.Timestamp("2024-04-16") : day].mean()
        self.assertAlmostEqual(got[day], want, places=12)

    def test_exponential_weights(self):
        x = series([1.0, np.nan, 4.0], measure="score")
        keep = 1 - 2 / 4
        want = (4 + keep**2 * 1) / (1 + keep**2)
        self.assertAlmostEqual(ul.rolling(x, 3, how="exponential", min_obs=1).values.iloc[-1], want, places=14)

    @settings(max_examples=20, deadline=None)
    @given(st.sampled_from(["expanding", "24"]), SEEDS)
    def test_scores_know_no_future(self, over, seed):
        values = walk(60, seed)
        changed = values.copy()
        changed[40:] = 1e3 * np.random.default_rng(seed).normal(size=20)
        a, b = (
            ul.standardise(series(v, measure="rate"), window=over, min_obs=8).values for v in (values, changed)
        )
        np.testing.assert_array_equal(a[:40], b[:40])
        part = values[:31] if over == "expanding" else values[7:31]
        rounding = 1e-14 * np.abs(part).max() / part.std(ddof=1)  # of the levels whose difference is the score
        want = (part[-1] - part.mean()) / part.std(ddof=1)
        np.testing.assert_allclose(a.iloc[30], want, rtol=1e-10, atol=rounding)

    def test_what_does_not_vary_has_no_score(self):
        with self.refused(UnitError, "constant"):
            ul.standardise(series(np.full(30, 0.1), measure="rate"))

    def test_innovations_are_the_residuals_of_the_best_autoregression(self):
        rng = np.random.default_rng(8)
        values = np.zeros(300)
        for t in range(2, 300):
            values[t] = 0.5 * values[t - 1] - 0.4 * values[t - 2] + rng.normal()
        made = ul.innovations(series(values, measure="rate"), most_lags=6)
        self.assertEqual(dict(made.metadata.trail[-1].settings)["lags"], "2")
        X = np.column_stack([np.ones(298), values[1:-1], values[:-2]])
        b = np.linalg.lstsq(X, values[2:], rcond=None)[0]
        np.testing.assert_allclose(made.values[2:], values[2:] - X @ b, atol=1e-10)
        known = ul.innovations(series(values, measure="rate"), most_lags=3, sample="expanding")
        cut = ul.innovations(series(values[:200], measure="rate"), most_lags=3, sample="expanding")
        np.testing.assert_array_equal(known.values[:200], cut.values)
        with self.refused(UnitError, "growth first"):
            ul.innovations(series(values + 100, measure="price"))


class Spells(Scratch):
    @settings(max_examples=40, deadline=None)
    @given(st.lists(st.sampled_from([-2.0, -1.0, 0.0, 1.0, np.nan]), min_size=3, max_size=40))
    def test_spells_as_a_loop_would_find_them(self, values):
        if not np.isfinite(values).any():
            return
        found = ul.spells(series(values, measure="rate"), "below zero")
        want, at = [], 0
        for holds, part in itertools.groupby(values, lambda v: v < 0):
            run = list(part)
            if holds:
                want.append((str(months(99)[at]), len(run), -min(run)))
            at += len(run)
        self.assertEqual(
            list(found[["start", "length", "extreme_distance"]].itertuples(index=False, name=None)), want
        )

    def test_conditions_in_words(self):
        x = series(np.arange(100.0) / 1000, measure="rate")
        for words, first in {
            "above its 90th percentile": 90,
            "at least 5 %": 50,
            "above its mean": 50,
            "above .0985": 99,
        }.items():
            got = ul.spells(x, words).iloc[0]
            self.assertEqual((got["start"], got["open"]), (str(months(100)[first]), True), words)
        with self.refused(UnitError, "is not a condition", "percentile"):
            ul.spells(x, "rather low")
        with self.refused(UnitError, "in percent"):
            ul.spells(series([1.0], measure="price", unit="QML"), "below 2 %")


class Together(Scratch):
    @settings(max_examples=30, deadline=None)
    @given(st.integers(3, 27), st.integers(0, 2), st.sampled_from(["level", "ratio", "difference"]), SEEDS)
    def test_a_series_cut_in_two_is_given_back(self, cut, shared, link, seed):
        x = series(walk(30, seed), measure="index", timing="average", name="x")
        shared = max(shared, 0 if link == "level" else 1)
        old, new = x.sample(end=str(x.index[cut + shared - 1])), x.sample(str(x.index[cut]))
        moved = {"level": old, "ratio": old * 2.5, "difference": old + 7.0}[link]
        moved = moved.with_metadata(name="old", measure="index", timing="average")
        back = ul.splice(moved, new.with_metadata(name="new"), link=link)
        np.testing.assert_allclose(back.values, x.values, rtol=1e-12)
        self.assertEqual(back.origin.tolist(), ["old"] * cut + ["new"] * (30 - cut))
        self.assertEqual(len(back.overlap), shared)

    def test_disagreeing_overlap_is_refused_where_it_is_worst(self):
        old = series([1.0, 2, 3, 4], measure="rate", timing="end", name="old", title="Old")
        new = series([2.0, 3.3, 4, 5], start="2010-02", measure="rate", timing="end", name="new", title="New")
        with self.refused(AlignmentError, "1 of 3 shared", "2010-03", "3 against 3.3", "-9.09 %"):
            ul.splice(old, new)
        kept = ul.splice(old, new, prefer="first", tolerance=0.1)
        self.assertEqual((kept.values.tolist(), kept.metadata.title), ([1, 2, 3, 4, 5], "Old"))
        self.assertEqual(ul.splice(old, new, tolerance=0.1).metadata.title, "New")
        apart = series([9.0], start="2011-01", measure="rate", timing="end", name="far")
        with self.refused(AlignmentError, "do not overlap"):
            ul.splice(old, apart, link="ratio")
        self.assertIn("not compared", str(ul.splice(old, apart).metadata.trail[-1]))
        with self.refused(UnitError, "unit"):
            ul.splice(
                *[
                    series([1.0], measure="index", timing="average", base_period=b, name=b)
                    for b in ("2010", "2015")
                ]
            )

    def test_a_gauge_is_the_mean_of_oriented_scores_that_are_there(self):
        a, b, c = (walk(40, s) for s in (1, 2, 3))
        c[30:] = np.nan
        parts = [series(v, measure="rate", name=n) for v, n in ((a, "a"), (b, "b"), (c, "c"))]
        got = ul.composite(parts, orient={"b": -1}, weights={"a": 2, "b": 1, "c": 1}, at_least=2)
        z = [(v - np.nanmean(v)) / np.nanstd(v, ddof=1) for v in (a, -b, c)]
        np.testing.assert_allclose(got.values.iloc[10], (2 * z[0][10] + z[1][10] + z[2][10]) / 4, rtol=1e-12)
        np.testing.assert_allclose(got.values.iloc[35], (2 * z[0][35] + z[1][35]) / 3, rtol=1e-12)
        self.assertEqual((len(got), got.available.iloc[-1]), (40, 2))
        self.assertEqual(len(ul.composite(parts)), 30)
        self.assertEqual(got.percentile.max(), 100.0)
        self.assertEqual(set(got.extremes()["side"]), {"high", "low"})
        self.assertEqual([s.action for s in got.metadata.trail], ["part"] * 3 + ["composite"])
        with self.refused(UnitError, "'d', which is not one"):
            ul.composite(parts, orient={"d": -1})
        with self.refused(UnitError, "growth first"):
            ul.composite([series(walk(9), measure="index", timing="average")])

    def test_tables_are_shaped_at_once_as_one_by_one(self):
        table = ul.SeriesTable.of(
            series(walk(60, s), measure="index", timing="average", name=f"s{s}") for s in (1, 2)
        )
        doings = {
            "growth": lambda x: ul.growth(x), "rebase": lambda x: ul.rebase(x, "2011"), "rolling": lambda x: ul.rolling(x, 6),
            "standardise": lambda x: ul.standardise(x, window="expanding"), "lag": ul.lag, "difference": ul.difference,
            "denton": lambda x: ul.disaggregate(ul.to_frequency(x, "Q"), "M", how="denton"),
        }  # fmt: skip
        for name, do in doings.items():
            with self.subTest(name):
                for one in table.names:
                    pd.testing.assert_series_equal(do(table)[one].values, do(table[one]).values)
        self.assertEqual(ul.bands(daily(walk(30), measure="score"), 20).names, ["middle", "low", "high"])
