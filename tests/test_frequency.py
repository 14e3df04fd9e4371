"""Period arithmetic against pandas and against day-by-day loops."""

import unittest

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

import ultrum as ul
from tests.support import Scratch
from ultrum.core.time.frequency import Frequency, ordinals_of_labels, parse_duration, parse_period, periods_in
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import FrequencyError

CODES = ("A", "Q", "M", "W", "A-MAR", "Q-JAN", "W-FRI", "W-WED", "S", "S-FEB", "B", "D")
DAYS = np.arange(np.datetime64("1965-12-20"), np.datetime64("1974-02-01"))


class Words(Scratch):
    def test_other_notations_are_answered_with_the_code_or_the_duration(self):
        for word, code in {"ME": "M", "QE-DEC": "Q", "YE-MAR": "A-MAR", "QE-JAN": "Q-JAN", "QS-FEB": "Q-JAN", "monthly": "M", "3M": "Q", "12M": "A", "5min": "5N",
                           "60M": "P60M", "8Q": "P24M"}.items():  # fmt: skip
            with self.refused(FrequencyError, f"'{code}'."):
                Frequency.parse(word)
        for word, duration in {"60M": "P60M", "5 years": "P5Y", "12ME": "P12M"}.items():
            with self.refused(FrequencyError, f"Write {duration}."):
                parse_duration(word)
        with self.refused(FrequencyError, "Write P1Y, P3M, P2W or P10D."):  # not sixty months
            parse_duration("60min")
        quarters = {code: ul.TimeSeries.from_pandas(pd.Series(range(48), pd.date_range("2020-01", periods=48, freq="MS")),
                                                    measure="flow", frequency="M") for code in ("QE-JAN", "QS-FEB")}  # fmt: skip
        for theirs, months in quarters.items():  # the advice gives the quarters of the other notation
            ours = ul.to_frequency(months, "Q-JAN").values
            want = months.values.set_axis(months.index.to_timestamp()).resample(theirs).sum()
            self.assertTrue(set(ours) <= set(want) and len(ours) >= len(want) - 2)


class Ordinals(unittest.TestCase):
    def test_each_day_lies_in_its_period_and_periods_are_consecutive(self):
        for code in CODES:
            frequency = Frequency.parse(code)
            days = DAYS[np.is_busday(DAYS)] if code == "B" else DAYS
            ordinals = frequency.ordinals(days)
            self.assertTrue((np.diff(ordinals) >= 0).all() and np.diff(ordinals).max() == 1, code)
            self.assertTrue((frequency.starts(ordinals) <= days).all(), code)
            self.assertTrue((frequency.ends(ordinals) >= days).all(), code)
            turns = np.flatnonzero(np.diff(ordinals)) + 1
            self.assertTrue((frequency.starts(ordinals[turns]) == days[turns]).all(), code)

    def test_pandas_puts_days_in_the_same_periods(self):
        pandas_codes = {"A": "Y-DEC", "A-MAR": "Y-MAR", "Q-JAN": "Q-JAN", "W": "W-SUN", "W-FRI": "W-FRI"}
        for code, other in pandas_codes.items():
            frequency = Frequency.parse(code)
            theirs = pd.PeriodIndex(pd.DatetimeIndex(DAYS), freq=other)
            ours = frequency.index(frequency.ordinals(DAYS))
            self.assertTrue((ours == theirs).all(), code)
            self.assertTrue((frequency.ordinals_of(theirs) == frequency.ordinals(DAYS)).all(), code)

    @settings(max_examples=60, deadline=None)
    @given(st.sampled_from([*CODES, "M-25", "W-MON", "W-SAT", "Q-AUG"]), st.integers(-900, 3000))
    def test_labels_come_back(self, code, ordinal):
        frequency = Frequency.parse(code)
        label = frequency.labels(np.array([ordinal]))
        self.assertEqual(ordinals_of_labels(label, frequency).tolist(), [ordinal])

    def test_fiscal_periods_are_named_as_they_are_labelled(self):
        for code, pandas_code, base in (
            ("Q-JAN", "Q-JAN", "2011-Q3"),
            ("A-JUN", "Y-JUN", "2014"),
            ("W-FRI", "W-FRI", "2010-W05"),
        ):
            index = pd.period_range("2009-11-01", periods=40, freq=pandas_code)
            values = pd.DataFrame({"a": np.arange(40.0) % 7, "b": np.arange(40.0) % 5}, index) / 100
            table = ul.SeriesTable.from_pandas(values, measure="return")
            market = ul.TimeSeries.from_pandas(values["a"].rename("m"), measure="return", excess_of="r")
            bill = ul.TimeSeries.from_pandas(values["b"].rename("r") * 0, measure="return")
            first, last = (period_label(index[k]) for k in (12, 20))
            panel = ul.align(assets=table, factors=market, risk_free=bill, frequency=code, start=first, end=last)
            self.assertEqual([period_label(panel.assets.index[k]) for k in (0, -1)], [first, last])
            part = ul.align(assets=table, factors=market, risk_free=bill, frequency=code).sample(first, last)
            self.assertEqual(part.coverage["first"].tolist(), panel.coverage["first"].tolist())
            self.assertEqual(part.coverage["last"].tolist(), panel.coverage["last"].tolist())
            level = ul.TimeSeries.from_pandas(
                pd.Series(np.arange(1.0, 41.0), index), measure="index", timing="end"
            )
            rebased = ul.rebase(level, base=base).values
            self.assertEqual([period_label(p) for p in index[rebased == 100.0]], [base])
            after = ul.forward_returns(table["a"], [first], [1]).table
            self.assertAlmostEqual(after.loc[1, "after"], values["a"].iloc[13])

    def test_containment(self):
        inside = {("Q", "M"): True, ("M", "W"): False, ("A", "Q"): True, ("Q", "Q-JAN"): False,
                  ("A-MAR", "Q"): True, ("M", "B"): True, ("W", "D"): True, ("M", "Q"): False}  # fmt: skip
        for (outer, inner), answer in inside.items():
            self.assertIs(Frequency.parse(outer).contains(Frequency.parse(inner)), answer, (outer, inner))

    def test_durations(self):
        self.assertEqual(periods_in("P1Y", Frequency.parse("M")), 12)
        self.assertEqual(periods_in("P2W", Frequency.parse("D")), 14)
        for duration, code in (("P1M", "Q"), ("P1M", "B"), ("1Y", "M"), ("P1Y", "W")):
            with self.assertRaises(FrequencyError):
                periods_in(duration, Frequency.parse(code))

    def test_nonsense_is_refused(self):
        for text in ("monthly", "3M", "M-FRI", "", "W-DEC"):
            with self.assertRaises(FrequencyError, msg=text):
                Frequency.parse(text)
        for text in ("2024-Q5", "2024-13", "24-01-01", "2024-02-30", "2024-W60", ""):
            with self.assertRaises(FrequencyError, msg=text):
                parse_period(text)
