"""A series keeps its facts, and refuses what does not fit."""

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import Scratch, daily, months, series
from ultrum.errors import AlignmentError, CurrencyError, FrequencyError, UltrumError, UnitError

# What a result may still be called, written down from what the words mean and not from the code.
BECOMES = {  # measure: a + b, a - b, a + 1, a * 2, a * -1
    "price": "price, unknown, unknown, price, unknown",
    "index": "unknown, unknown, unknown, index, unknown",
    "stock": "stock, stock, unknown, stock, stock",
    "flow": "flow, flow, unknown, flow, flow",
    "rate": "rate, rate, rate, unknown, unknown",
    "return": "unknown, zero cost return, unknown, unknown, unknown",
    "log_return": "unknown, zero cost log_return, unknown, unknown, unknown",
    "quote": "unknown, unknown, unknown, unknown, unknown",
    "score": "score, score, score, score, score",
}


class Results(Scratch):
    def test_the_measure_of_a_result(self):
        for measure, wanted in BECOMES.items():
            facts = {"currency": "QML"} if measure in ("price", "flow") else {}
            a, b = (series([1.0, 2, 4], name=n, measure=measure, **facts) for n in "ab")
            results = (a + b, a - b, a + 1, a * 2, -a)
            for result, words in zip(results, wanted.split(", "), strict=True):
                with self.subTest(measure, result=result.metadata.heading):
                    facts = result.metadata
                    shown = f"{facts.excess_of} {facts.measure or 'unknown'}".strip()
                    self.assertEqual(shown, words)
                    self.assertEqual(
                        facts.unit == "decimal", facts.measure in ("rate", "return", "log_return", "score")
                    )
                    self.assertNotEqual(facts.heading, "a")
            self.assertEqual((a * 2).metadata.currency, "")
            self.assertEqual([(a + 0).metadata, (a * 1).metadata, (a / 1).metadata], [a.metadata] * 3)

    def test_facts_that_only_one_series_has_are_gone(self):
        here = {
            "region": "Q1",
            "base_period": "2015",
            "seasonal_adjustment": "S",
            "source": "A",
            "title": "Prices here",
        }
        there = here | {"region": "Q2", "source": "B", "title": "Prices there"}
        a, b = (series([1.0, 2], name=n, measure="flow", **f) for n, f in (("a", here), ("b", there)))
        total = (a + b).metadata
        self.assertEqual(
            (total.region, total.source, total.base_period, total.seasonal_adjustment), ("", "", "", "S")
        )
        self.assertEqual((total.name, total.heading), ("a_plus_b", "Prices here plus Prices there"))
        index = series([50.0, 60], name="cpi", measure="index", base_period="2015")
        self.assertEqual((index / 2).metadata.base_period, "")
        bond, bill = (
            series([0.04, 0.05], name=n, measure="rate", maturity=m) for n, m in (("y", "P10Y"), ("b", "P3M"))
        )
        self.assertEqual((bond - bill).metadata.maturity, "")
        self.assertEqual(ul.spread(bond, bill, name="term spread").metadata.heading, "term spread")

    def test_positions_that_cost_nothing_stay_so_in_any_size(self):
        a, b = (series([0.01, -0.02], name=n, measure="return", excess_of="bill") for n in "ab")
        for result in (a * 1.5, -a, a + b, 0.5 * a + 0.5 * b):
            self.assertEqual((result.metadata.measure, result.metadata.excess_of), ("return", "bill"))
        self.assertEqual((a - b).metadata.excess_of, "zero cost")
        self.assertEqual((a * 100).metadata.measure, "")  # percent
        with self.refused(UnitError, "unknown measure", "returns"):
            ul.risk_return(1 + a)

    def test_what_a_step_makes_has_its_own_title(self):
        x = series(np.arange(40.0) + 100, name="cpi", measure="index", title="Prices")
        headings = [r.metadata.heading for r in (ul.growth(x, over="P1Y"), ul.rolling(x, 12), ul.lag(x, 1))]
        self.assertEqual(
            headings, ["Prices, growth over P1Y", "Prices, rolling mean over 12", "Prices, lagged by 1"]
        )
        returns = series(np.full(40, 0.01) + np.arange(40) / 1e4, measure="return")
        self.assertEqual({ul.rolling(returns, 12, how=h).metadata.measure for h in ("mean", "std")}, {""})


class Wrapping(Scratch):
    def test_pandas_in_pandas_out(self):
        values = pd.Series([1.0, np.nan, 3.0], months(3), name="cpi")
        wrapped = ul.TimeSeries.from_pandas(values, measure="index", timing="average")
        pd.testing.assert_series_equal(wrapped.to_pandas(), values, check_index=True, check_names=False)
        self.assertEqual(wrapped.name, "cpi")

    def test_descending_is_turned_and_percent_divided_exactly(self):
        rate = pd.Series([3.25, 0.07], pd.PeriodIndex(["2024-02", "2024-01"], freq="M"))
        wrapped = ul.TimeSeries.from_pandas(rate, measure="rate", percent=True)
        self.assertEqual(wrapped.to_pandas().tolist(), [0.07 / 100, 3.25 / 100])
        self.assertEqual(wrapped.metadata.unit, "decimal")

    def test_frequency_is_read_off_dates(self):
        for code, index in {
            "B": pd.bdate_range("2024-01-01", periods=30),
            "D": pd.date_range("2024-01-01", periods=30),
            "W": pd.date_range("2024-01-07", periods=9, freq="7D"),
            "M": pd.date_range("2024-01-31", periods=9, freq="ME"),
            "Q": pd.period_range("2024Q1", periods=4, freq="Q"),
        }.items():
            wrapped = ul.TimeSeries.from_pandas(pd.Series(1.0, index))
            self.assertEqual(str(wrapped.metadata.frequency), code)

    def test_dates_written_as_numbers_or_texts(self):
        for labels, want in {
            (192607, 192608): ["1926-07", "1926-08"],
            (2001.0, 2002.0): ["2001", "2002"],
            ("20240229", "20240301"): ["2024-02-29", "2024-03-01"],
            ("2001-Q4", "2002-Q1"): ["2001Q4", "2002Q1"],
        }.items():
            read = ul.SeriesTable.from_pandas(pd.DataFrame({"A": [0.1, 0.2]}, list(labels)), measure="return")
            self.assertEqual([str(label)[:10] for label in read.index], want)
            self.assertEqual(read["A"].values.tolist(), [0.1, 0.2])

    def test_refusals(self):
        twice = pd.Series([1.0, 2.0, 3.0], pd.to_datetime(["2024-01-02", "2024-01-02", "2024-01-03"]))
        with self.refused(FrequencyError, "1 duplicate daily period", "2024-01-02"):
            ul.TimeSeries.from_pandas(twice, frequency="D")
        rows = pd.DataFrame({"A": np.arange(3000.0)})
        for part in (
            rows.iloc[2000:2100],
            rows[rows["A"] % 7 == 0].iloc[290:300],
        ):  # rows 2000 and on are no years
            with self.refused(FrequencyError, "The row labels are numbers"):
                ul.SeriesTable.from_pandas(part)
        self.assertEqual(
            str(ul.SeriesTable.from_pandas(rows.iloc[2000:2002].set_axis(["2000", "2001"])).index[0]), "2000"
        )
        for labels in (range(2), [200112, 200113], [20240229, 20240230], [2024.5, 2025.0]):
            with self.refused(FrequencyError, "The row labels are numbers"):
                ul.TimeSeries.from_pandas(pd.Series([1.0, 2.0], labels), frequency="M")
        with self.refused(FrequencyError, "Row 2 of 2 has no date"):
            ul.TimeSeries.from_pandas(
                pd.Series([1.0, 2.0], pd.DatetimeIndex(["2024-01-31", None])), frequency="M"
            )
        with self.refused(UnitError, "percent", "100"):
            series([1.0], unit="percent")
        with self.refused(UnitError, "measure 'cost'"):
            series([1.0], measure="cost")

    def test_values_cannot_be_changed_behind_its_back(self):
        source = pd.Series([1.0, 2.0], months(2))
        wrapped = ul.TimeSeries.from_pandas(source)
        source.iloc[0] = 99.0
        copy = wrapped.to_pandas()
        copy.iloc[1] = 99.0
        self.assertEqual(wrapped.values.tolist(), [1.0, 2.0])


class Arithmetic(Scratch):
    def test_sum_and_trail(self):
        total = series([1, 2, 3], measure="flow") + series([10, 20], "2010-02", measure="flow")
        self.assertEqual(total.to_pandas().tolist(), [12.0, 23.0])
        self.assertIn("rows_in_one_only 1", str(total.metadata.trail[-1]))
        self.assertEqual((-(total * 2) / 4).values.tolist(), [-6.0, -11.5])

    def test_clashes_are_refused(self):
        price = series([1, 2], measure="price", currency="QML")
        with self.refused(CurrencyError, "QSR", "to_currency"):
            price - price.with_metadata(currency="QSR")
        with self.refused(FrequencyError, "to_frequency"):
            price + daily([1, 2], measure="price", currency="QML")
        monthly = series([0.01, 0.02], measure="return")
        with self.refused(UnitError, "yield_to_return"):
            monthly - series([0.05, 0.05], measure="rate", timing="end")
        with self.refused(UnitError, "excess_of"):
            monthly - monthly.with_metadata(excess_of="bill")

    def test_tables(self):
        table = ul.SeriesTable.of([series([1, 2], name="a"), series([5, 6], "2010-02", name="b")])
        self.assertEqual(table.values.shape, (3, 2))
        self.assertEqual(table["b"].to_pandas().dropna().tolist(), [5.0, 6.0])
        with self.refused(AlignmentError, "'c'", "a, b"):
            table["c"]
        with self.refused(FrequencyError, "b"):
            ul.SeriesTable.of([series([1.0], name="a"), series([1.0], freq="Q", name="b")])
        self.assertLessEqual(max(map(len, repr(table).splitlines())), 100)


class PandasHabits(Scratch):
    def setUp(self):
        super().setUp()
        self.frame = pd.DataFrame({"a": [0.01, np.nan, 0.03, -0.02], "b": [0.0, 0.01, 0.0, 0.04]}, months(4))
        self.table = ul.SeriesTable.from_pandas(self.frame, measure="return")

    def test_changes_of_the_input_never_reach_a_result(self):
        for frame in (
            self.frame.copy(),
            self.frame.astype({"a": object}),
            self.frame[["b"]],
            self.frame["b"].copy(),
        ):
            kind = ul.TimeSeries if isinstance(frame, pd.Series) else ul.SeriesTable
            wrapped, want = kind.from_pandas(frame, measure="return"), frame.to_numpy(dtype=float).copy()
            part = wrapped.sample("2010-02")
            frame.iloc[1:] = 9.0
            frame.iloc[0] = 5.0
            np.testing.assert_array_equal(np.asarray(wrapped), want)
            np.testing.assert_array_equal(np.asarray(part), want[1:])
        frame = pd.DataFrame(np.arange(2e6).reshape(-1, 100), pd.bdate_range("1950-01-02", periods=20_000))
        wrapped = ul.SeriesTable.from_pandas(frame)
        shares = np.shares_memory(wrapped.array, frame.to_numpy())
        self.assertEqual(shares, int(pd.__version__.split(".")[0]) >= 3)  # no copy until somebody writes
        frame.iloc[0, 0] = -1.0
        self.assertEqual((wrapped.array[0, 0], wrapped["0"].values.iloc[0]), (0.0, 0.0))
        with self.assertRaises(ValueError):
            wrapped.array[0, 0] = 1.0

    def test_numpy_iteration_and_comparison_give_numbers(self):
        a, b = self.table["a"], self.table["b"]
        self.assertEqual((np.mean(b), np.sum(b), np.max(b), len(b)), (0.0125, 0.05, 0.04, 4))
        self.assertTrue(np.isnan(np.mean(a)))
        self.assertEqual(list(b), [0.0, 0.01, 0.0, 0.04])
        pd.testing.assert_series_equal(a > 0, self.frame["a"] > 0, check_names=False)
        pd.testing.assert_frame_equal(self.table <= 0.01, self.frame <= 0.01, check_names=False)
        self.assertEqual((b == 0.0).tolist(), [True, False, True, False])
        self.assertTrue(a != b and b in [b])
        pd.testing.assert_series_equal(np.log(1 + b), np.log1p(self.frame["b"]), check_names=False)
        self.assertEqual((b["2010-04"], b["2010-02":"2010-03"].values.tolist()), (0.04, [0.01, 0.0]))
        self.assertEqual((self.table.head(1).array.shape, b.tail(1).values.tolist()), ((1, 2), [0.04]))
        self.assertEqual(self.table.describe().loc["count"].tolist(), [3.0, 4.0])

    def test_tables_are_added_column_by_column(self):
        double = np.float64(2) * self.table
        np.testing.assert_array_equal(double.array, 2 * self.frame)
        self.assertEqual({m.measure for m in double.metadata}, {""})  # as for one series
        less = self.table - self.table["b"]
        np.testing.assert_array_equal(less["a"].values, self.frame["a"] - self.frame["b"])
        self.assertEqual(less["a"].metadata.measure, "return")
        self.assertEqual((self.table - self.table).array[0].tolist(), [0.0, 0.0])
        for work in (
            lambda: self.table - self.table[["a"]],
            lambda: self.table["a"] - self.table,
            lambda: self.table * self.table,
        ):
            with self.refused(UltrumError):
                work()

    def test_a_sample_has_both_its_ends(self):
        months = pd.Series(np.arange(36.0), pd.period_range("2010-01", periods=36, freq="M"))
        days = pd.Series(np.arange(90.0), pd.bdate_range("2024-01-01", periods=90))
        for values, start, end in ((months, "2010-03", "2011-02"), (months, "2011", "2011"), (months, None, "2010-05"),
                                   (days, "2024-02-01", "2024-03-15"), (days, "2024-02", None)):  # fmt: skip
            want = values.loc[start:end]
            for x in (
                ul.TimeSeries.from_pandas(values, name="a"),
                ul.SeriesTable.from_pandas(values.to_frame("a")),
            ):
                got = x.sample(start, end)
                self.assertEqual(got.values.to_numpy().ravel().tolist(), want.tolist(), (start, end))
                self.assertEqual(
                    [str(got.index[k])[:10] for k in (0, -1)], [str(want.index[k])[:10] for k in (0, -1)]
                )

    def test_first_and_last_rows_are_those_of_the_part(self):
        prices = pd.DataFrame(
            {"a": [np.nan, 1.0, 2.0, 3.0], "b": [1.0, 2.0, 3.0, np.nan]}, pd.bdate_range("2024-01-01", periods=4)
        )
        whole = ul.adjust_prices(ul.SeriesTable.from_pandas(prices, measure="price", frequency="B"))
        for part, want in ((whole, ([1, 0], [3, 2])), (whole.sample("2024-01-03"), ([0, 0], [1, 0])),
                           (whole[["b"]], ([0], [2])), (whole.tail(1)[["b"]], ([1], [-1]))):  # fmt: skip
            self.assertEqual(tuple(bound.tolist() for bound in part.bounds), want)

    def test_what_would_lose_dates_or_names_is_refused(self):
        reading = ul.read_series("date,market,size\n2024-01,1,2\n2024-02,3,4\n")
        self.assertEqual(reading.series[["size", "market"]].names, ["size", "market"])
        self.assertEqual((reading.series.names, reading.series.to_pandas().to_numpy().tolist()),
                         (["market", "size"], [[1.0, 2.0], [3.0, 4.0]]))  # fmt: skip
        for work, words in (
            (lambda: pd.Series(self.table["a"]), "pandas would lose the dates of a. Use .to_pandas()"),
            (lambda: pd.DataFrame(self.table), "pandas would lose the dates"),
            (lambda: reading.series["markt"], "did you mean 'market'?"),
            (lambda: self.table[0], "No series '0' here"),
            (lambda: self.table["a"][0], "0 is not one row of a"),
            (lambda: self.table["a"]["2010"], "'2010' is not one row of a"),
            (lambda: self.table["a"] > "x", "use a number"),
        ):
            with self.refused(UltrumError, words):
                work()

    def test_plain_data_give_what_labelled_data_give(self):
        for work, measure in (
            (lambda x: ul.rolling(x, 2, min_obs=1), ""), (ul.lag, ""), (ul.difference, ""),
            (lambda x: ul.to_frequency(x, "Q", how="last"), ""), (ul.to_log, "return"),
            (lambda x: ul.rebase(x, "2010-01"), ""),
        ):  # fmt: skip
            plain = self.frame + 1.0 if measure == "" else self.frame
            want = work(ul.SeriesTable.from_pandas(plain, measure=measure)).to_pandas()
            pd.testing.assert_frame_equal(work(plain), want)
            pd.testing.assert_series_equal(work(plain["b"]), want["b"])
        for work in (ul.drawdowns, ul.calendar_returns, ul.risk_return):
            pd.testing.assert_frame_equal(work(self.frame["b"]).to_frame(), work(self.table["b"]).to_frame())
        with self.refused(UltrumError, "standardise needs metadata"):  # it marks that later rows are used
            ul.standardise(self.frame)
