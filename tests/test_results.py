"""Results speak for themselves: they fit the screen, say their sample, and keep their facts."""

import contextlib
import io
import itertools
from unittest import mock

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

import ultrum as ul
from tests.support import Scratch, daily, series
from ultrum.practice import statistics_service


class Speaking(Scratch):
    def setUp(self):
        super().setUp()
        self.panel = ul.practice.panel()
        self.table = ul.factor_betas(self.panel)
        self.cost = ul.cost_of_equity(
            ul.factor_betas(self.panel, ["market"]), premia={"market": 0.05}, risk_free=self.panel.rate
        )

    def test_every_result_fits_a_hundred_columns_and_makes_html(self):
        reading = ul.read_series(statistics_service.DATA / "college" / "factors_monthly.zip")
        fit = self.table.fit("BRTW")
        results = (self.panel, self.table, fit, self.cost, reading, ul.break_test(fit),
                   self.panel.rate, self.panel.excess)  # fmt: skip
        for result in results:
            with self.subTest(type(result).__name__):
                self.assertLessEqual(max(map(len, repr(result).splitlines())), 100)
                self.assertRegex(result._repr_html_(), r"<table|<svg|<img|<pre")
                self.assertGreater(len(result.to_frame()), 0)

    def test_long_work_is_counted_on_a_terminal_only(self):
        class Terminal(io.StringIO):
            def isatty(self):
                return True

        for stream, shown in ((Terminal(), "rolling_regress, blocks: 2 of 2"), (io.StringIO(), "")):
            clock = itertools.count(0, 3)  # seconds
            frame = pd.DataFrame(np.random.default_rng(0).normal(size=(40, 1500)))
            with mock.patch("sys.stderr", stream), mock.patch("time.monotonic", lambda c=clock: next(c)):
                ul.rolling_regress(frame, frame[[0]] + 1.0, window=20)
            said = stream.getvalue()
            self.assertEqual((shown in said, said.rstrip(" \r")[-7:]), (True, " 2 of 2"[-7:] if shown else ""))

    def test_a_series_cannot_be_written_into(self):
        wrapped = series([1.0, 2.0])
        held = wrapped.values
        with contextlib.suppress(ValueError):
            held.iloc[0] = 9.0
        self.assertEqual(wrapped.to_pandas().tolist(), [1.0, 2.0])


class Trails(Scratch):
    def test_every_step_from_the_bytes_to_the_excess_return_is_said(self):
        text = "Prices in miral\ndate;BRTW\n" + "".join(
            f"{d:%d.%m.%Y};{10 + i}\n" for i, d in enumerate(pd.bdate_range("2024-01-01", "2024-04-30"))
        )
        close = ul.read_series(self.file("p.txt", text), measure="price", currency="QML").series["BRTW"]
        bill = series([0.002] * 6, "2024-01", name="bill", measure="return")
        steps = [s.action for s in ul.excess(ul.returns(close, frequency="M"), bill).metadata.trail]
        self.assertEqual(steps, ["read", "adjust prices", "to frequency", "returns", "excess"])

    def test_percent_turned_to_decimals_is_on_the_trail(self):
        reading = ul.read_series(self.file("x.csv", "date,x\n2024-01,5%\n2024-02,6%\n"))
        metadata = reading.series["x"].metadata
        self.assertEqual([s.action for s in metadata.trail], ["read", "percent to decimals"])
        self.assertEqual(metadata.unit, "decimal")


class Invariances(Scratch):
    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 10**6), st.sampled_from(["M", "Q", "A", "W"]))
    def test_what_conversion_must_keep(self, seed, target):
        rng = np.random.default_rng(seed)
        days = pd.bdate_range("2020-01-01", "2022-12-30")
        values = np.round(rng.normal(0, 1, len(days)), 6)
        frame = pd.Series(values, days)
        flow = ul.TimeSeries.from_pandas(frame, measure="flow", unit="count")
        kept = ul.to_frequency(flow, target).to_pandas()
        until = (days >= kept.index[0].start_time) & (days <= kept.index[-1].end_time)
        self.assertAlmostEqual(kept.sum(), values[until].sum(), 9)
        price = ul.TimeSeries.from_pandas(frame, measure="price")
        ends = ul.to_frequency(price, target).to_pandas()
        for period in ends.index:
            self.assertEqual(ends[period], frame[: period.end_time].iloc[-1])
        simple = ul.TimeSeries.from_pandas(frame / 100, measure="return")
        grown = ul.to_frequency(simple, target).to_pandas()
        self.assertAlmostEqual((1 + grown).prod(), (1 + frame[until] / 100).prod(), 10)

    def test_gaps_in_daily_flows_follow_require(self):
        values = np.ones(23)
        values[:6] = np.nan
        x = daily(values, measure="flow")
        self.assertTrue(np.isnan(ul.to_frequency(x, "M").values.iloc[0]))
        self.assertEqual(ul.to_frequency(x, "M", require=0.7).values.iloc[0], 17.0)
