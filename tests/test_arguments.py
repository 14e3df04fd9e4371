"""What people give by mistake: another kind of thing, a name or a payment twice, a day with two readings."""

import inspect
import unittest

import numpy as np
import pandas as pd

import ultrum as ul
from tests.properties.calls import ALONE, DAYS, MONTHS, Things, calls, levels
from tests.support import Scratch
from ultrum.errors import AlignmentError, ArgumentError, UnitError


def prices(names, index, **facts):
    return ul.SeriesTable.from_pandas(levels(names, index), measure="price", currency="QML", **facts)


class Kinds(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.things = Things()
        cls.calls = calls(cls.things)

    def test_every_public_function_has_its_row_and_takes_what_is_right(self):
        public = {n for n in ul.__all__ if n.islower() and inspect.isfunction(getattr(ul, n))}
        self.assertEqual(set(self.calls) | ALONE, public)
        for name, (given, named) in self.calls.items():
            with self.subTest(name):
                getattr(ul, name)(*given, **named)

    def test_what_is_said(self):
        t = self.things
        for call, said in {
            lambda: ul.factor_betas(t.assets.to_pandas()): "factor_betas: panel takes a Panel; it was given a "
            "DataFrame. align(assets=..., factors=..., risk_free=...) makes one.",
            lambda: ul.excess(t.assets, t.assets): "excess: risk_free takes a TimeSeries or a Series; it was given a "
            "SeriesTable. TimeSeries.from_pandas(series, measure=...) or table['name'] makes one.",
            lambda: ul.momentum(t.assets, "P3M"): "momentum: horizons takes a list; it was given the text "
            "'P3M'.",
            lambda: ul.composite([1.0]): "composite: parts takes a list of TimeSeries or a SeriesTable; it "
            "was given a list of float. SeriesTable.from_pandas(frame, measure=...) or "
            "TimeSeries.from_pandas(series, measure=...) or table['name'] makes one.",
            lambda: ul.figures.betas(t.panel): "betas: table takes a BetaTable; it was given a Panel. "
            "factor_betas(panel) makes one.",
            lambda: ul.TimeSeries.from_pandas([1.0]): "TimeSeries.from_pandas: values takes a Series; it was "
            "given a list of float.",
            lambda: ul.splice(t.cpi, 3): "splice: parts takes any number of TimeSeries; it was given a tuple of "
            "TimeSeries. TimeSeries.from_pandas(series, measure=...) or table['name'] makes one.",
        }.items():  # fmt: skip
            with self.subTest(said), self.assertRaises(ArgumentError) as found:
                call()
            self.assertEqual(str(found.exception), said)
        self.assertIsInstance(found.exception, TypeError)

    def test_numbers_of_every_library_are_numbers(self):
        t = self.things
        self.assertEqual(ul.rolling(t.assets, np.int32(12)).to_pandas().shape, (96, 6))
        by_peer = pd.Series({"a": 0.5, "b": 1.0})
        self.assertEqual(
            ul.peer_beta(t.betas, np.array(["a", "b"]), debt_to_equity=by_peer).beta,
            ul.peer_beta(t.betas, ["a", "b"], debt_to_equity={"b": 1.0, "a": np.float32(0.5)}).beta,
        )
        table = ul.SeriesTable.of([t.quote])
        pd.testing.assert_frame_equal(
            ul.to_currency(t.prices, "VTC", table).to_pandas(),
            ul.to_currency(t.prices, "VTC", t.quote).to_pandas(),
        )


class Twice(Scratch):
    """Names, payments and days that could be read in two ways."""

    def test_a_name_for_two_things(self):
        t = Things()
        said = {"assets": t.assets, "factors": t.market, "risk_free": t.bill}
        for argument, value, words in (
            ("factors", t.market.with_metadata(name="a"), ("'a'", "an asset", "a factor")),
            ("risk_free", t.bill.with_metadata(name="market"), ("'market'", "a factor", "the risk-free rate")),
            ("conditions", t.yields.with_metadata(name="a"), ("an asset", "a condition")),
        ):
            with self.refused(AlignmentError, *words):
                ul.align(**{**said, argument: value}, known_by="P1M")
        with self.refused(AlignmentError, "Two series are named 'a'"):
            ul.SeriesTable.from_pandas(pd.DataFrame(np.ones((96, 2)), MONTHS, ["a", "a"]))

    def test_events(self):
        daily = prices("abc", DAYS)
        paid = pd.DataFrame({"asset": ["a", "b"], "date": ["2005-06-01", "2005-06-01"], "amount": [1.0, 2.0]})
        for changed, kind, words in (
            (pd.concat([paid, paid.iloc[:1]]), UnitError, ("a, 2005-06-01", "twice")),
            (paid.assign(date="03/04/2005"), AlignmentError, ("'03/04/2005'", "row 1 of 2", "2024-03-31")),
            (paid.assign(date=[None, "2005-06-01"]), AlignmentError, ("row 1 of 2", "not a date")),
            (paid.assign(amount=["1.0", "one"]), UnitError, ("b, 2005-06-01", "one", "above 0")),
            (paid.assign(amount=[np.inf, 1.0]), UnitError, ("a, 2005-06-01", "inf")),
            (paid.drop(columns="date"), UnitError, ("asset, date, amount",)),
        ):
            for function in (ul.adjust_prices, ul.dividend_yield):
                with self.refused(kind, *words):
                    function(daily, changed)
        with self.refused(UnitError, "a, 2005-07-01", "second final payment"):
            ul.adjust_prices(daily, final_payments=pd.concat([paid, paid.assign(date="2005-07-01")]))
        both = pd.concat([paid, paid.iloc[:1].assign(amount=0.5)])  # an ordinary and a special dividend
        once = paid.assign(amount=[1.5, 2.0], date=pd.to_datetime(paid["date"]).dt.date)
        growth = [ul.adjust_prices(daily, table).to_pandas()["a"] for table in (both, once)]
        ratios = [(g / g.shift(1)).loc["2005-06-01"] for g in growth]
        self.assertAlmostEqual(ratios[0], ratios[1], 14)  # amounts of one day add up

    def test_days_with_two_readings_are_refused_everywhere(self):
        t = Things()
        table = ul.ExchangeRates([t.quote])
        bought = t.bought.assign(date="03/04/2005")
        for call in (
            lambda: ul.match_dates(["03/04/2005"], t.daily),
            lambda: table.rate("QML", "VTC", on="03/04/2005"),
            lambda: table.amount([1.0], "QML", "VTC", on=["03/04/2005"]),
            lambda: ul.positions(bought, t.daily),
        ):
            with self.refused(AlignmentError, "'03/04/2005'", "2024-03-31"):
                call()
        with self.refused(AlignmentError, "'2005-02-01 or so'"):
            ul.match_dates(["2005-02-01 or so"], t.daily)
        texts = ["2005-02-01", "20050201T093000", "2005-02-01T23:30:00-05:00"]  # each its own day's text
        same = ul.match_dates(texts, t.daily)["a"]
        self.assertEqual(same.nunique(), 1)
        self.assertEqual(same[0], t.daily.to_pandas().loc["2005-02-01", "a"])

    def test_words_among_numbers_and_facts_that_are_none(self):
        frame = pd.DataFrame({"a": ["1", "2"], "b": ["3", "n/a"]}, MONTHS[:2])
        with self.refused(UnitError, "b, 2005-02", "'n/a'", "read_series"):
            ul.SeriesTable.from_pandas(frame)
        with self.refused(ArgumentError, "'meassure'", "did you mean 'measure'?"):
            ul.TimeSeries.from_pandas(pd.Series([1.0], MONTHS[:1]), meassure="price")
        with self.refused(ArgumentError, "'colour'", "timing"):
            Things().cpi.with_metadata(colour="green")

    def test_prices_that_are_none_and_volumes_of_others(self):
        t = Things()
        for function in (ul.flag_price_errors, lambda x: ul.mask_untraded(x, t.daily)):
            with self.refused(UnitError, "a is a return"):
                function(t.assets)
        others = prices("xyz", DAYS).with_metadata(measure="flow", currency="")
        with self.refused(AlignmentError, "No price date of a, b, c", "x, y, z"):
            ul.mask_untraded(t.daily, others)

    def test_arithmetic_with_numbers_on_either_side(self):
        series = Things().cpi
        values = series.to_pandas()
        for made, wanted in (
            (0.5 * series, 0.5 * values), (1 + series, 1 + values), (200.0 - series, 200.0 - values),
            (series / np.int64(4), values / 4),
        ):  # fmt: skip
            pd.testing.assert_series_equal(made.to_pandas(), wanted)
        for call in (lambda: series * series, lambda: series + values, lambda: series - "1"):
            with self.refused(ArgumentError, "cpi", "use a number"):
                call()
