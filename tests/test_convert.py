"""Conversion to a lower frequency against slow, obvious loops."""

from typing import get_args

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

import ultrum as ul
from tests.support import Scratch, daily, series
from ultrum.core.transform.aggregation import How
from ultrum.errors import FrequencyError, UnitError


def slow(values, frequency, how, require=1.0):
    """Period by period, with plain pandas selection."""
    out = {}
    for period, part in values.groupby(values.index.asfreq(frequency)):
        expected = 3 if frequency.startswith("Q") else 12
        present = part.dropna()
        enough = len(present) >= require * expected and len(present)
        simple = {
            "sum": present.sum, "mean": present.mean, "high": present.max, "low": present.min, "median": present.median,
            "compound": lambda p=present: (1 + p).prod() - 1, "log sum": present.sum,
        }  # fmt: skip
        if how == "first":
            out[period] = part.iloc[0]
        elif how == "last":
            out[period] = part.iloc[-1] if len(part) == expected else np.nan
        else:
            out[period] = simple[how]() if enough else np.nan
    return pd.Series(out)


class Lower(Scratch):
    @settings(max_examples=60, deadline=None)
    @given(st.sampled_from(get_args(How)), st.sampled_from([1.0, 0.5]), st.integers(0, 10**6))
    def test_monthly_to_quarters_as_a_loop_would(self, how, require, seed):
        rng = np.random.default_rng(seed)
        values = rng.normal(0.01, 0.05, 30)
        values[rng.random(30) < 0.15] = np.nan
        measure = {"compound": "return", "log sum": "log_return", "sum": "flow"}.get(how, "score")
        x = series(values, measure=measure)
        got = ul.to_frequency(x, "Q", how=how, require=require).to_pandas()
        want = slow(x.to_pandas(), "Q-DEC", how, require)
        np.testing.assert_allclose(got.to_numpy(), want.to_numpy(), rtol=1e-12, atol=1e-15)

    def test_default_follows_the_measure(self):
        ones = np.arange(1.0, 7.0)
        wanted = {"flow": [6, 15], "price": [3, 6], "score": [2, 5]}
        for measure, answer in wanted.items():
            self.assertEqual(ul.to_frequency(series(ones, measure=measure), "Q").values.tolist(), answer)
        for timing, answer in {"end": [3, 6], "average": [2, 5], "start": [1, 4]}.items():
            rate = series(ones, measure="rate", timing=timing)
            self.assertEqual(ul.to_frequency(rate, "Q").values.tolist(), answer)

    def test_unfinished_last_period_is_left_out_and_said(self):
        x = ul.to_frequency(series(np.ones(8), measure="flow"), "Q")
        self.assertEqual(x.values.tolist(), [3.0, 3.0])
        self.assertIn("2010-Q3", str(x.metadata.trail[-1]))
        until_friday = daily(np.ones(20), "2024-01-01", measure="price")  # ends 26 January
        self.assertEqual(len(ul.to_frequency(until_friday, "M")), 0)
        self.assertEqual(len(ul.to_frequency(until_friday, "M", through="2024-01-31")), 1)
        self.assertEqual(len(ul.to_frequency(daily(np.ones(23), measure="price"), "M")), 1)

    def test_stale_after_nothing_is_the_price_of_the_last_day_alone(self):
        days = pd.bdate_range("2024-01-01", "2024-03-29")
        prices = pd.Series(np.arange(len(days)) + 1.0, days)
        prices["2024-02-29"] = np.nan
        x = ul.TimeSeries.from_pandas(prices, measure="price", frequency="B")
        got = ul.to_frequency(x, "M", stale_after=0).values
        self.assertEqual(got.isna().tolist(), [False, True, False])
        self.assertEqual(ul.to_frequency(x, "M", stale_after=1).values["2024-02"], prices["2024-02-28"])

    def test_stale_prices_are_missing_and_told(self):
        values = np.arange(1.0, 88.0)  # January to April 2024
        values[16:23] = np.nan  # the last seven weekdays of January
        values[39:44] = np.nan  # the last five of February
        x = ul.to_frequency(daily(values, measure="price").as_table(), "M")
        self.assertTrue(np.isnan(x.block[0, 0]))
        self.assertEqual(x.block[1, 0], 39.0)
        self.assertEqual(list(x.causes["series"].values()), ["stale price"])
        self.assertEqual(ul.to_frequency(x["series"], "Q").values.tolist(), [x.block[2, 0]])

    def test_excess_returns_compound_with_their_rate(self):
        f, rf = np.array([0.05, -0.03, 0.02]), np.array([0.004, 0.003, 0.005])
        bill = series(rf, name="bill", measure="return")
        excess = series(f, measure="return", excess_of="bill")
        want = np.prod(1 + f + rf) - np.prod(1 + rf)
        self.assertAlmostEqual(ul.to_frequency(excess, "Q", risk_free=bill).values.iloc[0], want, 15)
        with self.refused(UnitError, "bill", "risk_free"):
            ul.to_frequency(excess, "Q")
        with self.refused(UnitError, "covers" if False else "no value at"):
            ul.to_frequency(excess, "Q", risk_free=bill.sample("2010-02"))

    def test_refusals_name_the_mend(self):
        with self.refused(FrequencyError, "disaggregate"):
            ul.to_frequency(series([1, 2], measure="flow"), "B")
        with self.refused(FrequencyError, "do not nest"):
            ul.to_frequency(series([1, 2], freq="W", measure="flow"), "M")
        with self.refused(UnitError, "sum of index", "mean"):
            ul.to_frequency(series([1, 2, 3], measure="index"), "Q", how="sum")
        with self.refused(UnitError, "how='last', 'mean' or 'sum'"):
            ul.to_frequency(series([1, 2, 3]), "Q")
        with self.refused(FrequencyError, "The row labels are numbers"):
            ul.to_frequency(pd.Series([1.0, 2.0]), "Q")


class Growth(Scratch):
    def test_over_a_year_with_a_gap(self):
        level = 100 * 1.01 ** np.arange(30)
        level[5] = np.nan
        grown = ul.growth(series(level, measure="index"), over="P1Y").to_pandas()
        self.assertEqual(len(grown), 18)
        self.assertTrue(np.isnan(grown["2011-06"]))
        np.testing.assert_allclose(grown.dropna(), 1.01**12 - 1, rtol=1e-12)

    def test_annualised_and_log(self):
        x = series([100.0, 101.0], measure="price")
        self.assertAlmostEqual(ul.growth(x, over="P1M", annualised=True).values.iloc[0], 1.01**12 - 1, 12)
        self.assertAlmostEqual(ul.growth(x, over="P1M", kind="log").values.iloc[0], np.log(1.01), 14)

    def test_refusals(self):
        with self.refused(UnitError, "negative"):
            ul.growth(series([1, -1, 2], measure="flow"), over="P1M")
        with self.refused(UnitError, "level"):
            ul.growth(series([0.1, 0.2], measure="rate"), over="P1M")


class Currency(Scratch):
    def test_either_direction_and_the_age_limit(self):
        price = daily([10, 11, 12, 13, 14, 15, 16, 17], measure="price", currency="QSR")
        quote = daily([2, 4], measure="quote", unit="QSR/QML", name="pair")
        straight = ul.to_currency(price, "QML", quote).to_pandas().tolist()
        self.assertEqual(straight[:7], [20, 44, 48, 52, 56, 60, 64])
        self.assertTrue(np.isnan(straight[7]))  # the last quote is six weekdays old
        turned = ul.to_currency(price, "QML", daily([0.5, 0.25], measure="quote", unit="QML/QSR"))
        self.assertEqual(turned.to_pandas().tolist()[:7], straight[:7])
        self.assertEqual(turned.metadata.currency, "QML")

    def test_wrong_pair_and_returns_are_refused(self):
        quote = daily([2, 2], measure="quote", unit="QTV/QML", name="pair")
        with self.refused(ul.UltrumError, "No quote of QSR", "QML, QTV"):
            ul.to_currency(daily([1, 2], measure="price", currency="QSR"), "QML", quote)
        with self.refused(ul.UltrumError, "in excess of bill", "Convert the returns first"):
            excess = daily([0.1, 0.2], measure="return", currency="QTV", excess_of="bill")
            ul.to_currency(excess, "QML", quote)


class Intraday(Scratch):
    def quotes(self, zone="Europe/Paris", days=4, **facts):
        moments = pd.date_range("2024-03-28", periods=days * 288, freq="5min", tz=zone)
        values = 100 + np.cumsum(np.random.default_rng(3).normal(size=len(moments)))
        facts = {"measure": "quote", "unit": "QML/QSR", "name": "pair", "frequency": "5N", **facts}
        return ul.TimeSeries.from_pandas(pd.Series(values, moments), **facts)

    def test_days_end_at_the_close_where_the_clock_stands(self):
        x = self.quotes(days=6)
        got = ul.to_frequency(x, "B", session_close="17:00", timezone="America/New_York").values
        local = x.to_pandas().tz_convert("America/New_York")
        for day in got.index:
            part = local[: day.tz_localize("America/New_York") + pd.Timedelta(hours=17)]
            self.assertEqual(got[day], part.iloc[-1])
        self.assertEqual(str(got.index[-1])[:10], "2024-04-02")  # the session of the 3rd has not closed

    def test_hours_across_the_change_of_the_clock(self):
        x = self.quotes()
        got = ul.to_frequency(x, "H", how="mean").values
        want = x.to_pandas().tz_convert("UTC").resample("1h").mean().tz_convert("Europe/Paris")
        np.testing.assert_allclose(got.to_numpy(), want.to_numpy(), rtol=1e-13)
        self.assertEqual(list(got.index), list(want.index))

    def test_bars_become_longer_bars(self):
        x = self.quotes()
        minutes = ul.to_bars(x, "15N")
        for frame in (ul.to_frequency(minutes, "D").to_pandas(), ul.to_bars(x, "D").to_pandas()):
            want = x.to_pandas().resample("D").ohlc()
            np.testing.assert_array_equal(frame.to_numpy(), want.to_numpy()[: len(frame)])
        low = series([3.0, 1.0, 2.0], measure="flow", name="low")  # one column so named is no bar
        self.assertEqual(ul.to_frequency(low, "Q").values.tolist(), [6.0])

    def test_odd_clocks_and_multiples_are_refused(self):
        for more, word in (({"session_close": "25:00"}, "clock time"), ({"timezone": "Mars/Base"}, "timezone")):
            with self.refused(FrequencyError, word):
                ul.to_frequency(self.quotes(), "D", **more)
        with self.refused(FrequencyError, "do not nest"):
            ul.to_frequency(self.quotes(), "7N")


class CalendarDaily(Scratch):
    def test_a_month_of_calendar_days_is_finished_with_its_last_day(self):
        for end, months in (("2024-03-29", 2), ("2024-03-31", 3)):  # a Friday, and the Sunday after it
            days = pd.date_range("2024-01-01", end)
            x = ul.TimeSeries.from_pandas(pd.Series(1.0, days), measure="flow", unit="count", frequency="D")
            self.assertEqual(len(ul.to_frequency(x, "M")), months)
            weekdays = ul.TimeSeries.from_pandas(
                x.to_pandas()[days.day_of_week < 5], measure="flow", unit="count", frequency="B"
            )
            self.assertEqual(len(ul.to_frequency(weekdays, "M")), 3)


class Weekly(Scratch):
    def test_weeks_fall_in_the_month_they_end_in(self):
        x = series(np.arange(20.0), start="2024-01-01", freq="W-FRI", measure="rate", timing="average")
        got = ul.to_frequency(x, "M").values
        ends = x.to_pandas().groupby(x.index.end_time.strftime("%Y-%m")).mean()
        np.testing.assert_allclose(got, ends[: len(got)])
        self.assertEqual(len(got), 4)  # May is not finished
        with self.refused(FrequencyError, "weeks do not nest", "next or previous"):
            ul.to_frequency(x.with_metadata(measure="flow", timing="total"), "M")

    def test_weeks_years_and_quarters_end_where_one_says(self):
        x = daily(np.arange(600.0), start="2022-01-03", measure="price", unit="QML")
        for target, alias in (("W-WED", "W-WED"), ("A-MAR", "Y-MAR"), ("Q-JAN", "Q-JAN")):
            got = ul.to_frequency(x, target).values
            want = x.to_pandas().groupby(x.index.to_period(alias)).last()
            np.testing.assert_array_equal(got, want[got.index])
            self.assertGreater(len(got), 0)
