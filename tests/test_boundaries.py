"""Conventions and boundaries, each against a number worked out by hand or by an independent function."""

import contextlib
import dataclasses
import importlib
import inspect
import pkgutil
import tempfile
import unittest
from datetime import date
from pathlib import Path

import numpy as np
import pandas as pd
import scipy.stats

import ultrum as ul
from tests.support import daily, months, series
from ultrum.core.pricing.factor_betas_and_shrinkage import BLUME_1971
from ultrum.core.regression.engine.covariance_and_bootstrap import block_length, stationary_rows
from ultrum.core.regression.unit_roots_and_design_warnings import dickey_fuller
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_labels_and_relative_dates import resolve_day, start_of_last
from ultrum.errors import FrequencyError, UltrumError
from ultrum.sources.sdmx.queries import covers
from ultrum.sources.table.ambiguous_dates import refuse_day_month_swap


def data_classes():
    """Every data class of the core, with its module."""
    for found in pkgutil.walk_packages(ul.__path__, "ultrum."):
        if found.name.startswith("ultrum.core"):
            module = importlib.import_module(found.name)
            for _, kind in inspect.getmembers(module, inspect.isclass):
                if kind.__module__ == found.name and dataclasses.is_dataclass(kind):
                    yield kind


class Results(unittest.TestCase):
    def test_results_are_frozen_and_compared_by_identity(self):
        kinds = list(data_classes())
        self.assertGreater(len(kinds), 60)
        for kind in kinds:
            with self.subTest(kind.__name__):
                made = kind.__dataclass_params__
                self.assertEqual(made.frozen, kind.__name__ != "ColumnEstimates")
                if hasattr(kind, "to_frame") and kind.__name__ not in ("TestResult", "BreakTest"):
                    self.assertFalse(made.eq)  # arrays have no single truth value
                    self.assertNotIn("object at 0x", kind.__repr__.__doc__ or "")
                    self.assertNotEqual(kind.__repr__.__qualname__.split(".")[-2:], ["__create_fn__", "<locals>"])

    def test_betas_know_the_last_row_they_use(self):
        panel = ul.practice.panel()
        for made in (ul.dimson_beta(panel), ul.downside_beta(panel)):
            self.assertEqual(made.end, panel.assets.index[-1])


class Prices(unittest.TestCase):
    def kinds(self, values):
        return ul.flag_price_errors(daily(values, name="p", measure="price").as_table())["looks_like"].tolist()

    def test_a_split_of_each_ratio_a_tick_and_a_jump_are_told_apart(self):
        for ratio in (2, 3, 4, 5, 10, 20):
            self.assertEqual(self.kinds([100, 101, 101 / ratio, 102 / ratio]), [f"a split of {ratio:g} to 1"])
            self.assertEqual(self.kinds([100, 101, 101 * ratio, 102 * ratio]), [f"a split of 1 to {ratio:g}"])
        self.assertEqual(self.kinds([100, 101, 160, 101, 102]), ["a bad tick"])
        self.assertEqual(self.kinds([100, 100, 320]), ["a jump"])
        self.assertEqual(self.kinds([100, 100, 28]), ["a jump"])

    def test_the_first_and_last_day_of_a_listing_count_as_untraded_if_they_are(self):
        nan = float("nan")
        days = pd.bdate_range("2024-01-01", periods=6)
        close = ul.SeriesTable.from_pandas(pd.DataFrame({"a": [nan, 5, 6, 6, 7, nan]}, days), measure="price")
        volume = ul.SeriesTable.from_pandas(pd.DataFrame({"a": [0.0, 0, 8, 7, 0, 0]}, days), measure="flow")
        self.assertEqual(ul.zero_volume_share(close, volume)["a"], 0.5)


class Time(unittest.TestCase):
    def test_lengths_count_back_from_the_last_day(self):
        for text, want in {"last 2 years": "2022-04-01", "last 3 quarters": "2023-07-01", "last 5 months": "2023-11-01",
                           "last 2 weeks": "2024-03-18", "last 4 days": "2024-03-28"}.items():  # fmt: skip
            self.assertEqual(start_of_last(text, date(2024, 3, 31)), want)

    def test_the_unfinished_period_alone_is_left_out(self):
        days = pd.bdate_range("2024-01-01", "2024-05-20")
        x = ul.TimeSeries.from_pandas(pd.Series(range(len(days)), days, dtype=float), measure="price", name="p")
        self.assertEqual(
            [str(p) for p in ul.to_frequency(x, "M").index], ["2024-01", "2024-02", "2024-03", "2024-04"]
        )

    def test_what_is_observed_decides_how_it_is_converted(self):
        for facts, want in (({"timing": "total"}, 6.0), ({"timing": "average"}, 2.0), ({"timing": "end"}, 3.0),
                            ({"measure": "flow"}, 6.0), ({"measure": "rate", "timing": "average"}, 2.0)):  # fmt: skip
            self.assertEqual(ul.to_frequency(series([1, 2, 3], **facts), "Q").values.tolist(), [want])

    def test_medians_skip_what_is_missing(self):
        x = series([1, np.nan, 3, np.nan, 5, np.nan, *[np.nan] * 3], measure="rate")
        got = ul.to_frequency(x, "Q", how="median", require=0.3).values
        np.testing.assert_array_equal(got, [2, 5, np.nan])


class Statistics(unittest.TestCase):
    def test_the_error_of_a_ratio_of_skewed_returns(self):
        r = np.random.default_rng(3).exponential(0.05, 400) - 0.045
        rate = series(np.zeros(400), start="1980-01", name="bill", measure="return")
        x = series(r, start="1980-01", name="x", measure="return", income="total")
        row = ul.risk_return(x, risk_free=rate).table.loc["x"]
        ratio, skew, kurt = (r.mean() / r.std(ddof=1), scipy.stats.skew(r), scipy.stats.kurtosis(r, fisher=False))
        want = np.sqrt(12 * (1 + ratio**2 / 2 - skew * ratio + (kurt - 3) / 4 * ratio**2) / 400)
        self.assertAlmostEqual(row["sharpe_se"], want, 12)
        self.assertAlmostEqual(row["sharpe_ratio"], np.sqrt(12) * ratio, 12)

    def test_p_values_of_unit_roots_on_both_sides_of_the_joint(self):
        below = {False: (2.1659, 1.4412, 0.038269), True: (3.2512, 1.6047, 0.049588)}
        above = {False: (1.7339, 0.93202, -0.12745, -0.010368), True: (2.5261, 0.61654, -0.37956, -0.060285)}
        sides = set()
        for seed in range(60):
            walk = np.cumsum(np.random.default_rng(seed).normal(size=120))
            for trend, joint in ((False, -1.61), (True, -2.89)):
                found = dickey_fuller(walk, trend)
                low = found.statistic <= joint
                near = abs(found.statistic - joint) < 1
                weights = (below if low else above)[trend]
                self.assertAlmostEqual(
                    found.p_value, scipy.stats.norm.cdf(np.polyval(weights[::-1], found.statistic)), 9
                )
                sides |= {(trend, low)} if near else set()
        self.assertEqual(len(sides), 4)

    def test_blocks_run_on_and_begin_anywhere(self):
        rows = stationary_rows(10, 300, 1e15, 1)
        self.assertTrue((np.diff(rows, axis=1) % 10 == 1).all())
        self.assertEqual(set(rows[:, 0]), set(range(10)))
        apart = stationary_rows(50, 300, 1.0, 1)
        self.assertLess((np.diff(apart, axis=1) % 50 == 1).mean(), 0.05)

    def test_a_blend_weighs_the_influence_of_both_means(self):
        market = series(
            np.random.default_rng(1).normal(0.005, 0.04, 240), name="m", measure="return", excess_of="bill"
        )
        one, two, both = (ul.premium(market, mean=m, **k) for m, k in (
            ("arithmetic", {}), ("geometric", {}), ("blume", {"horizon": 5.0})))  # fmt: skip
        rows = len(market.values.dropna())
        share = (rows - 60) / (rows - 1)
        self.assertAlmostEqual(both.value, share * one.value + (1 - share) * two.value, 14)
        np.testing.assert_allclose(
            both.influence, share * one.influence + (1 - share) * two.influence, atol=1e-15
        )

    def test_weights_of_two_lags_are_those_of_fowler_and_rorke(self):
        panel = ul.practice.panel()
        made = ul.dimson_beta(panel, factor_lags=2, factor_leads=2, how="fowler-rorke")
        market = panel.factors["market"]
        one, two = (market.corr(market.shift(k)) for k in (1, 2))
        near, far = (1 + 2 * one + two, 1 + one + two) / (1 + 2 * one + 2 * two)
        np.testing.assert_allclose(made.beta, made.parts @ [far, near, 1, near, far], rtol=1e-12)
        with self.assertRaises(UltrumError):
            ul.dimson_beta(panel, factor_lags=-1, factor_leads=2)

    def test_a_moving_beta_a_still_one_and_the_rows_two_panels_lost(self):
        rng = np.random.default_rng(5)
        market, index = rng.normal(0.005, 0.05, 240), months(240)
        still = dict.fromkeys("bcdefgh", market)
        frame = pd.DataFrame({"a": (1 + np.cumsum(rng.normal(0, 0.1, 240))) * market, **still}, index)
        frame += rng.normal(0, 0.02, frame.shape)
        facts = {"measure": "return", "currency": "QML", "income": "total"}
        assets, bill = (ul.SeriesTable.from_pandas(frame, **facts), series(np.zeros(240), name="bill", **facts))
        factor = series(np.where(np.arange(240) < 3, np.nan, market), name="m", excess_of="bill", **facts)
        panel = ul.align(assets=assets, factors=[factor], risk_free=bill)
        p_values = ul.kalman_beta(panel, "m").p_value
        self.assertTrue(0 <= p_values["a"] < 0.001 < p_values["b":].min(), p_values)
        self.assertEqual(p_values.max(), 1.0)  # no likelihood is gained by a beta that moves
        late = panel.factors.copy()
        late.iloc[:2] = np.nan
        dropped = ul.regress(panel.excess, late).dropped
        self.assertEqual(dropped["missing m"].tolist(), [5] * 8)

    def test_lags_reach_as_far_as_the_sample_lets_them(self):
        noise = np.random.default_rng(7).normal(size=400)
        change = noise.copy()
        for row in range(14, 400):
            change[row] += 0.8 * change[row - 14]
        self.assertEqual(dickey_fuller(np.cumsum(change)).lags, 14)
        self.assertEqual(len(ul.innovations(series(noise[:9], measure="rate"))), 9)

    def test_a_period_and_its_last_day_are_the_same_end(self):
        level = series(np.cumprod(1 + np.random.default_rng(1).normal(0, 0.01, 40)), measure="index")
        other = level.with_metadata(name="b") * 2.0
        tables = [
            ul.compare_to_benchmark(level, other, horizons=["P1Y"], on=on).table
            for on in ("2012-06", "2012-06-30", "2012-Q2")
        ]
        for table in tables[1:]:
            pd.testing.assert_frame_equal(table, tables[0])


class Thresholds(unittest.TestCase):
    """The least that is accepted is accepted, and the most that is refused is refused."""

    def jump(self, absent, assets=1):
        """Whether there is a return across so many weekdays without rows, in so many assets."""
        days = pd.bdate_range("2024-01-01", periods=60 + absent)
        frame = pd.DataFrame(100.0, days.delete(range(30, 30 + absent)), list("abcd")[:assets])
        made = ul.returns(ul.SeriesTable.from_pandas(frame, measure="price")).to_pandas()
        return bool(made.iloc[:, 0].loc[days[30 + absent]] == 0.0)

    def test_gaps_of_one_series_and_of_several(self):
        self.assertEqual([self.jump(n) for n in (5, 6)], [True, False])
        self.assertEqual([self.jump(10, assets) for assets in (2, 3)], [False, True])
        self.assertEqual([self.jump(n, 3) for n in (10, 11)], [True, False])

    def test_splits_and_jumps_from_a_size_on(self):
        kinds = Prices().kinds
        for size, want in ((0.46, ["a bad tick"]), (0.44, [])):
            self.assertEqual(kinds([100, 100 * np.exp(size), 100]), want)
        for near, want in ((0.05, ["a split of 2 to 1"]), (0.07, [])):
            self.assertEqual(kinds([100, 100, 50 * np.exp(near)]), want)
            self.assertEqual(kinds([100, 100, 50 * np.exp(-near)]), want)

    def test_days_and_months_exchanged_by_order_and_by_weekends(self):
        days = pd.bdate_range("2024-01-01", "2024-12-31")
        late = [d for d in days if d.day > 12][:25]
        early = [d.replace(month=d.day, day=d.month) for d in days[::-1] if d.day <= 12 and d.day != d.month]
        mixed = np.random.default_rng(1).permutation
        march = pd.to_datetime(["2024-11-03", "2024-12-03", "2024-03-13", "2024-03-14"])  # 11 to 14 March
        for moments, refused in (
            (march, True), (march[1:], False), (mixed([*early[:20], *late]), True), (mixed([*early[:19], *late]), False),
            (mixed([*early[:30], *late[:20]]), True), (mixed([*early[:30], *late[:19]]), False), (mixed(days), False),
        ):  # fmt: skip
            with (
                self.subTest(len(moments)),
                self.assertRaises(UltrumError) if refused else contextlib.nullcontext(),
            ):
                refuse_day_month_swap(np.array(moments, "datetime64[D]"), "here")


class Intraday(unittest.TestCase):
    def stamps(self, start, count):
        index = pd.date_range(start, periods=count, freq="5min", tz="UTC")
        return ul.TimeSeries.from_pandas(
            pd.Series(np.arange(count, dtype=float), index), measure="price", frequency="5N"
        )

    def test_hours_that_are_not_whole_are_left_out_at_both_ends(self):
        got = ul.to_frequency(self.stamps("2024-01-02 09:00", 30), "H", how="first").values
        self.assertEqual((len(got), got.tolist()), (2, [0, 12]))
        got = ul.to_frequency(self.stamps("2024-01-02 09:10", 34), "H", how="last").values
        self.assertEqual(got.dropna().tolist(), [9, 21, 33])

    def test_a_first_day_that_begins_late_is_left_out(self):
        for late, want, start in ((12, [np.nan, 8, 8, 8, 8], "2024-03-04"), (9, [8] * 5, "2024-03-04"),
                                  (12, [np.nan, 8, 8, 8, 8], "2024-01-01")):  # fmt: skip
            days = pd.bdate_range(start, periods=5)
            hours = [d + pd.Timedelta(hours=h) for k, d in enumerate(days) for h in range(9 if k else late, 17)]
            traded = pd.Series(1.0, pd.DatetimeIndex(hours).tz_localize("UTC"))
            got = ul.to_frequency(
                ul.TimeSeries.from_pandas(traded, measure="flow", unit="count", frequency="H"), "B"
            )
            np.testing.assert_array_equal(got.values.reindex(days).to_numpy(), want)

    def test_two_days_are_whole_when_they_end_alike_and_a_session_closes_within_the_day(self):
        stamps = [f"2024-01-0{d} {h}:00" for d in (2, 3) for h in (9, 10, 11)]
        x = ul.TimeSeries.from_pandas(pd.Series(range(6), pd.DatetimeIndex(stamps, tz="UTC"), dtype=float),
                               measure="price", frequency="H")  # fmt: skip
        self.assertEqual(ul.to_frequency(x, "D").values.tolist(), [2, 5])
        for close in ("00:30", "23:59"):
            ul.to_frequency(x, "D", session_close=close)
        for close in ("24:00", "12:60", "-1:30", "noon"):
            with self.assertRaises(FrequencyError):
                ul.to_frequency(x, "D", session_close=close)

    def test_weekdays_without_rows_make_the_months_they_lie_in_partial(self):
        days = pd.bdate_range("2024-01-01", "2024-04-30")
        absent = (days >= "2024-02-05") & (days <= "2024-03-08")
        x = ul.TimeSeries.from_pandas(pd.Series(1.0, days[~absent]), measure="flow", name="x")
        got = ul.to_frequency(x, "M").values
        self.assertEqual(got.isna().tolist(), [False, True, True, False])
        part = ul.to_frequency(x, "M", require=0.7).values  # 15 of 21 weekdays of March are there
        self.assertEqual(part.tolist()[2], 15.0)
        least = ul.to_frequency(x, "M", require=2 / 21).values  # two of the 21 of February
        self.assertEqual(least.tolist()[1], 2.0)


class Trails(unittest.TestCase):
    def test_a_cross_rate_tells_the_days_that_only_some_quotes_have(self):
        def rate(pair, count):
            return daily(np.linspace(1, 2, count), name=pair, measure="quote", unit=pair)

        quotes = ul.ExchangeRates([rate("QML/QSR", 6), rate("QSR/QTV", 5)])
        self.assertIn("days_in_some_only 1", str(quotes.series("QML", "QTV").metadata.trail[-1]))
        same = ul.ExchangeRates([rate("QML/QSR", 5), rate("QSR/QTV", 5)])
        self.assertNotIn("days_in_some_only", str(same.series("QML", "QTV").metadata.trail[-1]))


class Paths(unittest.TestCase):
    def test_a_path_of_either_version_covers_its_keys(self):
        for path, want in {"data/PRICES/M..CPI": True, "data/dataflow/QLO/PRICES/1.0/M..CPI": True,
                           "data/dataflow/QLO/WAGES/1.0/M..CPI": False, "data/PRICES/all": True, "data/PRICES/Q..CPI": False,
                           "structure/PRICES/M..CPI": False}.items():  # fmt: skip
            self.assertEqual(covers(path, "PRICES/M.QM.CPI"), want, path)


class Conventions(unittest.TestCase):
    """Numbers that a slip in a constant, a sign or a bound would change."""

    def test_words_for_days_and_periods_a_year(self):
        day = date(2024, 5, 6)
        self.assertEqual([resolve_day(w, day) for w in ("today", "yesterday")], ["2024-05-06", "2024-05-05"])
        per_year = {code: Frequency.parse(code).periods_per_year for code in "ASQMD"}
        self.assertEqual(per_year, {"A": 1.0, "S": 2.0, "Q": 4.0, "M": 12.0, "D": 365.25})
        self.assertAlmostEqual(Frequency.parse("W").periods_per_year, 365.25 / 7)

    def test_the_block_length_is_that_of_patton_politis_and_white(self):
        rng = np.random.default_rng(4)
        x = np.zeros(600)
        for t in range(1, 600):
            x[t] = 0.6 * x[t - 1] + rng.normal()
        n, d = len(x), x - x.mean()
        k_n = max(5, int(np.ceil(np.sqrt(np.log10(n)))))
        top = int(np.ceil(np.sqrt(n))) + k_n
        r = np.array([d[k:] @ d[: n - k] / n for k in range(top + k_n + 1)])
        quiet = np.abs(r[1:] / r[0]) < 2 * np.sqrt(np.log10(n) / n)
        m = next(k for k in range(len(quiet)) if quiet[k : k + k_n].all())
        width = min(2 * max(m, 1), top)
        k = np.arange(1, width + 1)
        weights = np.clip(2 * (1 - k / width), 0, 1)
        slope, level = (2 * (weights * k * r[1 : width + 1]).sum(), r[0] + 2 * (weights * r[1 : width + 1]).sum())
        self.assertAlmostEqual(block_length(x[:, None]), (slope**2 / level**2 * n) ** (1 / 3), 9)

    def test_degrees_of_freedom_of_one_beta_and_the_default_level(self):
        panel = ul.practice.panel()
        beta = ul.dimson_beta(panel)
        cost = ul.cost_of_equity(beta, premia={"market": 0.05}, risk_free=0.03)
        self.assertEqual(cost.df["BRTW"], beta.nobs["BRTW"] - 2)
        own = dataclasses.replace(panel, assets=panel.assets[["BRTW"]])
        path = ul.kalman_beta(own, "market")
        pd.testing.assert_frame_equal(path.interval("BRTW"), path.interval("BRTW", 0.95))

    def test_blume_is_that_of_1971_and_scores_wait_for_two_years(self):
        table = ul.factor_betas(ul.practice.panel(), ["market"])
        self.assertEqual(BLUME_1971, (0.343, 0.677))
        shrunk = ul.shrink_betas(table, how="blume", line=BLUME_1971)
        wanted = 0.343 + 0.677 * table.coefficients["market"]
        pd.testing.assert_series_equal(shrunk.coefficients["market"], wanted)
        scores = ul.standardise(series(np.arange(40.0) ** 2, measure="rate"), window="expanding").values
        self.assertEqual(scores.first_valid_index(), pd.Period("2011-12"))

    def test_an_asset_lost_by_another_series_counts_its_own_rows(self):
        rng = np.random.default_rng(6)
        index = months(40)
        assets = pd.DataFrame(rng.normal(0, 0.05, (40, 2)), index, columns=["a", "b"])
        factor, bill = pd.Series(rng.normal(0, 0.04, 40), index), pd.Series(0.002, index)
        assets.iloc[3, 1], factor.iloc[3] = np.nan, np.nan
        panel = ul.align(
            assets=ul.SeriesTable.from_pandas(assets, measure="return"),
            factors=ul.TimeSeries.from_pandas(factor.rename("f"), measure="return", excess_of="bill"),
            risk_free=ul.TimeSeries.from_pandas(bill.rename("bill"), measure="return"),
        )
        self.assertEqual(ul.factor_betas(panel).observations_dropped.to_dict(), {"a": 1, "b": 0})

    def test_moving_correlations_need_two_thirds_of_their_window(self):
        rng = np.random.default_rng(7)
        frame = pd.DataFrame(rng.normal(size=(30, 2)), months(30), columns=["x", "y"])
        frame.iloc[4:9, 1] = np.nan  # seven of the first twelve are left
        rolled = ul.correlations(ul.SeriesTable.from_pandas(frame, measure="return"), window=12, deletion="pairwise").rolling  # fmt: skip
        column = rolled.iloc[:, 0]
        self.assertTrue(column.loc["2010-12":"2011-04"].isna().all())
        pair = frame.loc["2010-06":"2011-05"].dropna()
        self.assertAlmostEqual(column.loc["2011-05"], pair.corr().iloc[0, 1])

    def test_weekly_maturities_and_purchases_on_the_day(self):
        y = series([0.06], start="2024-12", measure="rate", quoted="simple", maturity="P13W")
        years = 13 / (365.25 / 7)
        table = ul.factor_betas(ul.practice.panel(), ["market"])
        cost = ul.cost_of_equity(table, premia={"market": 0.05}, risk_free=y)
        self.assertAlmostEqual(cost.risk_free, (1 + 0.06 * years) ** (1 / years) - 1, 12)
        prices = daily([10.0, 11.0], name="a", measure="price", currency="QML").as_table()
        bought = pd.DataFrame({"asset": ["a"], "date": ["2024-01-02"], "units": [2.0]})
        self.assertEqual(ul.positions(bought, prices, on="2024-01-02").table["value"].iloc[0], 22.0)

    def test_what_cannot_be_a_base_a_rate_or_a_date(self):
        with self.assertRaisesRegex(UltrumError, "zero is not positive in 2010-01"):
            ul.rebase(series([0.0, 1.0], measure="index", name="zero"), base="2010-01")
        index = months(12)
        parts = {
            "assets": ul.SeriesTable.from_pandas(pd.DataFrame({"a": 0.01}, index), measure="return"),
            "factors": ul.TimeSeries.from_pandas(
                pd.Series(0.01, index, name="f"), measure="return", excess_of="r"
            ),
        }
        with self.assertRaisesRegex(UltrumError, "risk-free return 'r' has a mean of 6 % per month"):
            ul.align(
                **parts, risk_free=ul.TimeSeries.from_pandas(pd.Series(0.06, index, name="r"), measure="return")
            )
        half = ul.risk_return(series([0.1, 0.2, 0.0], measure="return"), periods_per_year=0.5)
        self.assertAlmostEqual(half.table["mean"].iloc[0], 0.05)

    def test_a_pair_of_currencies_given_for_a_table_scales_nothing(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "fx.csv")
            path.write_text("date,rate\n2024-01-02,2.5\n2024-01-03,2.6\n")
            quote = ul.read_series(path, units="QML/QSR").series["rate"]
            self.assertEqual(quote.values.tolist(), [2.5, 2.6])
            path.write_text("date,x\n" + "".join(f"1900-02-{d},1\n" for d in (26, 27, 28, 29)))
            reading = ul.read_series(path)  # 1900 was no leap year
            self.assertEqual([row.text for row in reading.rejected], ["1900-02-29 1"])
