"""Answers that are known by hand or by a slow computation, for small functions that many others use."""

import contextlib
import inspect
from datetime import UTC, datetime
from unittest import mock

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import Scratch
from ultrum.core.returns.yields import accrual_rate
from ultrum.core.transform.rolling_statistics import row_before
from ultrum.core.workings import workings_of
from ultrum.errors import AlignmentError, ArgumentError, EstimationError, SourceError, TableError, UltrumError
from ultrum.sources.credentials import Credentials
from ultrum.sources.sdmx.queries import MEANINGS
from ultrum.sources.table.ambiguous_dates import letters_of, read_dates
from ultrum.sources.table.factor_columns import factor_table
from ultrum.study.bundles_and_changes import columns_of, differing_columns
from ultrum.study.result_checks import search_in_words
from ultrum.vault.store import Vault


def months(count, start="2010-01"):
    return pd.period_range(start, periods=count, freq="M")


def series(values, index=None, name="x", **facts):
    values = np.asarray(values, dtype=float)
    return ul.TimeSeries.from_pandas(
        pd.Series(values, months(len(values)) if index is None else index), name=name, **facts
    )


class Regressions(Scratch):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(7)
        self.x = pd.Series(rng.normal(size=40), months(40), name="x")
        self.y = (0.5 * self.x + rng.normal(size=40)).rename("y")

    def test_the_largest_chow_statistic_is_that_of_the_regressions_of_both_parts(self):
        def rss(rows):
            A = np.column_stack([np.ones(len(rows)), self.x.iloc[rows]])
            return np.sum((self.y.iloc[rows] - A @ np.linalg.lstsq(A, self.y.iloc[rows], rcond=None)[0]) ** 2)

        every = np.arange(40)
        parts = {cut: rss(every[:cut]) + rss(every[cut:]) for cut in range(6, 35)}
        by_hand = max((rss(every) - both) / 2 / (both / (40 - 4)) for both in parts.values())
        found = ul.break_test(ul.regress(self.y, self.x, errors="classical"), how="sup-f", trim=0.15, draws=19)
        self.assertAlmostEqual(found.statistic, by_hand, 9)

    def test_a_prediction_without_a_constant_is_the_product_alone(self):
        fit = ul.regress(self.y, self.x, constant=False)
        slope = float(self.x @ self.y / (self.x @ self.x))
        self.assertAlmostEqual(fit.predict(pd.DataFrame({"x": [2.0]})).iloc[0], 2 * slope, 12)

    def test_a_level_of_confidence_is_between_zero_and_one(self):
        fit = ul.regress(self.y, self.x)
        for level in (0.0, 1.0, -0.5, 1.5):
            with self.assertRaises(ArgumentError):
                fit.interval(level)

    def test_white_needs_twice_as_many_rows_as_products(self):
        rng = np.random.default_rng(0)
        X = pd.DataFrame(
            rng.normal(size=(18, 3)), months(18), list("abc")
        )  # 10 columns with squares and products
        y = pd.Series(rng.normal(size=18), months(18))
        self.assertFalse(any("white" in str(n).lower() for n in ul.diagnose(ul.regress(y, X)).to_frame().index))
        self.assertTrue(
            any("white" in str(n).lower() for n in ul.diagnose(ul.regress(self.y, self.x)).to_frame().index)
        )

    def test_draws_are_999_where_nothing_else_is_documented(self):
        for name in dir(ul):
            function = inspect.unwrap(getattr(ul, name))
            parameter = (
                inspect.signature(function).parameters.get("draws") if inspect.isfunction(function) else None
            )
            if parameter is not None:
                self.assertIn(parameter.default, (None, 999), name)

    def test_two_windows_and_windows_of_a_duration_are_those_of_their_rows(self):
        two = ul.rolling_regress(self.y, self.x, window=39)
        self.assertEqual(list(two.nobs.ravel()), [39, 39])
        days = pd.bdate_range("2024-01-01", periods=60)
        y, x = (pd.Series(s.to_numpy()[np.arange(60) % 40], days, name=s.name) for s in (self.y, self.x))
        quarter = ul.rolling_regress(y, x, window="P1M", min_obs=3)
        begins = days.searchsorted(quarter.ends - pd.DateOffset(months=1), side="right")
        self.assertEqual(quarter.nobs.ravel().tolist(), (days.searchsorted(quarter.ends) + 1 - begins).tolist())
        self.assertEqual(str(quarter.ends[0])[:10], "2024-01-31")

    def test_persistent_products_are_warned_of_among_many_assets(self):
        trend = pd.Series(np.repeat([1.0, -1.0], 60) + np.tile([0.1, -0.1], 60), months(120), name="x")
        noise = np.random.default_rng(1).normal(0, 0.1, (120, 30))
        wave = pd.DataFrame(
            np.repeat([1, -1, 1, -1, 1], 24)[:, None] + noise, months(120), [f"a{k}" for k in range(30)]
        )
        with self.assertWarnsRegex(UserWarning, "Autocorrelated scores: .* and 25 more"):
            ul.regress(wave, trend)


class Premia(Scratch):
    def panel(self, bill, periods=240):
        rng = np.random.default_rng(3)
        f = pd.Series(rng.normal(0.02, 0.03, periods), months(periods), name="f")
        noise = rng.normal(0, 0.02, (periods, 8))
        excess = pd.DataFrame(np.outer(f, np.linspace(0.5, 2, 8)) + noise, months(periods), list("ABCDEFGH"))
        rate = series(np.full(periods, bill), name="bill", measure="return")
        factor = ul.TimeSeries.from_pandas(f, measure="return", excess_of="bill")
        return ul.align(
            assets=ul.SeriesTable.from_pandas(excess + bill, measure="return"), factors=factor, risk_free=rate
        )

    def test_premia_of_excess_returns_do_not_depend_on_the_rate(self):
        one, other = (ul.two_pass(self.panel(bill), errors="misspecification") for bill in (0.0, 0.01))
        np.testing.assert_allclose(one.standard_errors, other.standard_errors, rtol=1e-9)
        np.testing.assert_allclose(one.premia, other.premia, rtol=1e-9)

    def test_twenty_periods_are_enough_to_step_down(self):
        self.assertEqual(len(ul.step_down_alphas(self.panel(0.0, 20), draws=49, min_obs=10)), 8)
        with self.assertRaisesRegex(EstimationError, "19 periods"):
            ul.step_down_alphas(self.panel(0.0, 19), draws=49, min_obs=10)

    def test_the_asset_that_costs_most_periods_is_named(self):
        panel = self.panel(0.0, 60)
        short = panel.excess.to_pandas()
        short.iloc[:52, 2] = short.iloc[58:, 3] = np.nan
        table = ul.SeriesTable.from_pandas(short, measure="return")
        bill = series(np.zeros(60), name="bill", measure="return")
        with self.assertRaisesRegex(
            EstimationError, r"C \(8 rows\) cause most of the drops; without it 58 periods"
        ):
            ul.joint_alpha_test(ul.align(assets=table, factors=panel.factor_table["f"], risk_free=bill))

    def test_rows_below_are_the_periods_in_which_the_factor_falls(self):
        panel = self.panel(0.0)
        below = int((panel.factors["f"] < 0).sum())
        level = panel.factors["f"].where(np.arange(240) % 2 == 0, 0.0)
        even = ul.TimeSeries.from_pandas(level, measure="return", excess_of="bill")
        bill = series(np.zeros(240), name="bill", measure="return")
        assets = ul.SeriesTable.from_pandas(panel.assets, measure="return")
        counts = ul.downside_beta(ul.align(assets=assets, factors=even, risk_free=bill)).nobs
        self.assertEqual(int(counts.iloc[0]), int((level < 0).sum()))
        self.assertLess(int(counts.iloc[0]), below)

    def test_the_smallest_of_three_p_values(self):
        self.assertIn("14 % of the time", search_in_words(["a", "b", "c"], "BRTW"))  # 1 - 0.95 ** 3

    def test_instruments_need_more_assets_than_twice_the_terms(self):
        panel = self.panel(0.0)
        bill = series(np.zeros(240), name="bill", measure="return")
        factor = panel.factor_table["f"]
        for count, enough in ((4, False), (5, True)):
            assets = ul.SeriesTable.from_pandas(panel.assets.iloc[:, :count], measure="return")
            made = ul.align(assets=assets, factors=factor, risk_free=bill)
            with contextlib.nullcontext() if enough else self.assertRaisesRegex(EstimationError, "0 periods"):
                self.assertEqual(len(ul.instrumented_premia(made).coefficients), 2)

    def test_a_strong_premium_leaves_zero_outside(self):
        sets = ul.two_pass(self.panel(0.0), constant=False).robust_sets()
        self.assertEqual(sets.loc["f", "reading"], "zero is outside")
        self.assertTrue(sets.loc["f", "low"] < 0.02 < sets.loc["f", "high"])

    def test_a_constant_factor_is_refused(self):
        panel = self.panel(0.0)
        level = ul.TimeSeries.from_pandas(
            panel.factors["f"] * 0 + 0.01, name="g", measure="return", excess_of="bill"
        )
        bill = series(np.zeros(240), name="bill", measure="return")
        assets = ul.SeriesTable.from_pandas(panel.assets, measure="return")
        with self.assertRaisesRegex(UltrumError, "constant|a combination of"):
            ul.joint_alpha_test(ul.align(assets=assets, factors=level, risk_free=bill))

    def test_an_add_on_in_percent_is_refused_with_its_size(self):
        betas = ul.factor_betas(self.panel(0.0))
        with self.assertRaisesRegex(UltrumError, "60 % per year"):
            ul.cost_of_equity(betas, premia={"f": 0.05}, risk_free=0.03, add_ons={"size": (0.6, "small")})

    def test_a_beta_that_follows_a_condition_is_forecast_without_error(self):
        rng = np.random.default_rng(5)
        z = pd.Series(rng.normal(size=120), months(120))
        f = pd.Series(rng.normal(0, 0.04, 120), months(120), name="f")
        y = (0.5 + 0.3 * z.shift(1).fillna(0.0)) * f + rng.normal(0, 1e-6, 120)
        zero = series(np.zeros(120), name="bill", measure="return")
        panel = ul.align(
            assets=ul.SeriesTable.from_pandas(y.to_frame("a"), measure="return"),
            factors=ul.TimeSeries.from_pandas(f, measure="return", excess_of="bill"), risk_free=zero,
            conditions=ul.TimeSeries.from_pandas(z, name="z", measure="score"), known_by="P0D")  # fmt: skip
        errors = ul.time_varying_betas(panel, "a", window=36).to_frame()
        self.assertLess(float(errors.loc["conditional"].iloc[0]), 1e-3 * float(errors.iloc[0].iloc[0]) + 1e-8)


class Series(Scratch):
    def test_a_composite_of_one_part_is_its_score(self):
        a, b = (
            series([1.0, 2.0, 3.0, 6.0], name="a", measure="score"),
            series([np.nan, 5.0, 1.0, 3.0], name="b", measure="score"),
        )
        made = ul.composite([a, b], at_least=1)
        self.assertAlmostEqual(float(np.asarray(made)[0]), (1.0 - 3.0) / np.std([1, 2, 3, 6], ddof=1), 9)

    def test_rates_accrued_over_their_own_months_are_the_rates(self):
        rate = series([0.001, 0.002, 0.003], name="bill", measure="return")
        np.testing.assert_allclose(
            np.asarray(accrual_rate(rate, rate.index, rate.metadata.frequency)), [0.001, 0.002, 0.003]
        )

    def test_a_window_of_three_days_has_three_days(self):
        days = pd.bdate_range("2024-01-02", periods=8)
        made = ul.rolling(series(np.arange(8.0) ** 2, days, measure="score"), 3, how="sum", min_obs=1)
        self.assertEqual(np.asarray(made).tolist(), [0, 1, 5, 14, 29, 50, 77, 110])

    def test_growth_over_a_month_begins_after_a_month(self):
        days = pd.bdate_range("2024-01-02", periods=40)
        made = ul.growth(series(np.arange(1.0, 41.0), days, measure="price"), over="P1M").to_pandas().dropna()
        self.assertEqual(str(made.index[0])[:10], "2024-02-02")
        self.assertAlmostEqual(made.iloc[0], 24 / 1 - 1)

    def test_lengths_of_a_drawdown_count_periods(self):
        falls = ul.drawdowns(series([100, 80, 60, 90, 110.0, 100], measure="price")).table
        self.assertEqual(falls[["periods_to_trough", "periods_to_recovery"]].iloc[0].tolist(), [2, 2])
        self.assertEqual(
            falls[["peak", "trough", "recovery_date"]].iloc[0].tolist(), ["2010-01", "2010-03", "2010-05"]
        )

    def test_an_hour_that_began_before_the_data_is_left_out(self):
        minutes = pd.date_range("2024-03-15 09:30", "2024-03-15 11:59", freq="min", tz="UTC")
        made = ul.to_frequency(series(np.ones(len(minutes)), minutes, measure="flow", frequency="N"), "H")
        self.assertEqual(np.asarray(made).tolist(), [60.0, 60.0])

    def test_a_year_with_one_month_is_in_part(self):
        made = ul.calendar_returns(series(np.full(13, 0.01), months(13, "2010-12"), measure="return"))
        self.assertEqual(list(made.table.attrs["partial_years"]), [2010])

    def test_workings_of_several_assets_need_one(self):
        two = ul.risk_return(pd.DataFrame({"a": [0.01, 0.02, -0.01], "b": [0.0, 0.01, 0.02]}, months(3)))
        with self.assertRaisesRegex(EstimationError, "Set asset="):
            two.workings()

    def test_the_first_step_that_lacks_its_input_is_named(self):
        with self.assertRaisesRegex(EstimationError, r"a = b \+ 1 uses"):
            workings_of("x", pd.DataFrame(), {}, [("a", "a", "b + 1"), ("c", "c", "d + 1")])

    def test_a_vault_is_flushed_to_disk_when_it_closes(self):
        vault = Vault(self.folder / "vault")
        with mock.patch("ultrum.vault.journal_and_payload_files.os.fsync") as flush:
            vault.close()
        self.assertTrue(flush.called)

    def test_a_benchmark_against_itself_has_no_ratio(self):
        x = series([0.01, -0.02, 0.03, 0.01], measure="return")
        self.assertTrue(np.isnan(ul.compare_to_benchmark(x, x.with_metadata(name="y")).information_ratio))

    def test_a_correlation_of_three_pairs_at_a_high_level(self):
        frame = pd.DataFrame(
            {"a": 1e9 + np.array([0.0, 1, 2, 5]), "b": [1e9, 1e9 + 1, 1e9 + 3, np.nan]}, months(4)
        )
        found = ul.correlations(ul.SeriesTable.from_pandas(frame, measure="score")).table.loc["a", "b"]
        self.assertAlmostEqual(found, np.corrcoef([0, 1, 2], [0, 1, 3])[0, 1], 9)

    def test_a_correlation_of_three_common_rows_far_from_the_others(self):
        rows = {"a": [3e9, 3e9, 3e9, 1, 2, 4.0], "b": [np.nan, np.nan, np.nan, 2, 1, 7.0]}
        table = ul.SeriesTable.from_pandas(pd.DataFrame(rows, months(6)), measure="score")
        found = ul.correlations(table).table.loc["a", "b"]
        self.assertAlmostEqual(found, np.corrcoef([1, 2, 4], [2, 1, 7])[0, 1], 12)

    def test_dates_in_milliseconds_are_those_days(self):
        days = pd.DatetimeIndex(["2024-03-14", "2024-03-15"]).as_unit("ms")
        matched = ul.match_dates(
            pd.DataFrame({"date": days}), pd.Series([1.0, 2.0], days.as_unit("s")), max_age="P0D"
        )
        self.assertEqual(matched["value"].tolist(), [1.0, 2.0])
        wanted = np.array(["2024-01-01", "2024-02-01"], "datetime64[D]")
        self.assertEqual(row_before(np.array(["2024-02-01"], "datetime64[D]"), wanted).tolist(), [-1, 0])

    def test_six_values_are_all_shown(self):
        self.assertNotIn("...", repr(series(np.arange(6.0))))
        self.assertIn("...", repr(series(np.arange(7.0))))

    def test_one_absent_month_is_named(self):
        gap = pd.Series([0.01, 0.02, 0.03], pd.PeriodIndex(["2010-01", "2010-02", "2010-04"], freq="M"))
        with self.assertRaisesRegex(UltrumError, "after 2010-02"):
            ul.cumulate(ul.TimeSeries.from_pandas(gap, measure="return"))
        with self.assertRaisesRegex(UltrumError, "the sum of return values"):
            ul.rolling(series([0.01, 0.02, 0.03], measure="return"), 2, how="sum")

    def test_returns_after_spells_of_their_two_dates_alone(self):
        returns = series([0.01, 0.02, 0.04, 0.08], measure="return")
        spells = pd.DataFrame({"start": ["2010-02"], "end": ["2010-02"]})
        after = ul.forward_returns(returns, condition=spells, horizons=("P1M",)).to_frame()
        self.assertAlmostEqual(float(after.loc["P1M", "after"]), 0.04)

    def test_extremes_lie_above_the_ninetieth_percentile(self):
        made = ul.composite([series(np.arange(100.0), name="a", measure="score")]).extremes()
        self.assertEqual(made["length"].tolist(), [10, 10])

    def test_an_hour_that_begins_late_is_left_out_at_the_start_alone(self):
        minutes = pd.date_range("2024-03-15 09:30", "2024-03-15 11:59", freq="min", tz="UTC")
        values = series(
            np.r_[np.ones(30), np.full(60, 2.0), np.full(60, 3.0)], minutes, measure="flow", frequency="N"
        )
        self.assertEqual(np.asarray(ul.to_frequency(values, "H")).tolist(), [120.0, 180.0])

    def test_the_first_of_several_release_dates_is_named(self):
        gdp = series([1.0, 2.0, 3.0], pd.period_range("2020Q1", periods=3, freq="Q"), name="gdp", measure="flow")
        index = pd.PeriodIndex(["2020Q1", "2020Q1", "2020Q2", "2020Q2", "2020Q3"], freq="Q")
        days = pd.Series(
            pd.to_datetime(["2020-05-01", "2020-05-02", "2020-08-01", "2020-08-02", "2020-11-01"]), index
        )
        assets = series([0.01, 0.02, 0.03], gdp.index, name="a", measure="return")
        with self.assertRaisesRegex(AlignmentError, "two release dates for 2020Q1"):
            ul.align(assets=assets, factors=gdp, frequency="Q", known_by={"gdp": days})

    def test_the_ends_of_differing_rows_are_the_first_and_the_last(self):
        old, new = (pd.Series([1.0, 2.0, 3.0, x], [f"row {k}" for k in (2, 9, 10, 11)]) for x in (4.0, 6.0))
        (found,) = differing_columns({"a": old}, {"a": new.replace(2.0, 2.5)})
        rows = columns_of(
            b"date,note\n2024-01-01,a\n2024-01-02,b\n",
            "s:path.csv",
            {"study": {"sources": {"s": {"kind": "table"}}}},
            {}.get,
        )
        self.assertEqual(list(rows["note"].index), ["row 1", "row 2"])
        self.assertEqual(found, ("a", 2, "row 9", "row 11", "row 11", "4", "6"))

    def test_a_fact_that_no_series_has_is_refused(self):
        with self.assertRaisesRegex(UltrumError, "'curency'"):
            series([1.0], name="x").with_metadata(curency="QML")

    def test_labels_that_are_numbers_of_rows_are_named(self):
        with self.assertRaisesRegex(UltrumError, "10 to 12"):
            ul.TimeSeries.from_pandas(pd.Series([1.0, 2.0, 4.0], [10, 11, 12]))

    def test_the_first_repeated_payment_is_named(self):
        prices = ul.SeriesTable.from_pandas(
            pd.DataFrame({"A": [1.0, 2, 3], "B": [1.0, 2, 3]}, months(3)), measure="price"
        )
        paid = pd.DataFrame({"asset": ["A", "A", "B", "B"], "date": ["2010-02-01"] * 4, "amount": [0.1] * 4})
        with self.assertRaisesRegex(UltrumError, "^A.*the same amount occurs twice|: A.*the same amount"):
            ul.returns(prices, dividends=paid)


class Files(Scratch):
    def read(self, text):
        path = self.folder / "file.csv"
        path.write_text(text, encoding="utf-8")
        return ul.read_series(path)

    def test_texts_of_unequal_length_have_no_places(self):
        import pyarrow as pa

        for cells in (["ab", "c", "def"], ["", "", ""], ["ab", "c"]):
            self.assertIsNone(letters_of(pa.array(cells)))
        self.assertEqual(letters_of(pa.array(["ab", "cd"])).tolist(), [[97, 99], [98, 100]])
        cells = np.array([datetime(2024, 3, d, 23, tzinfo=UTC) for d in (1, 2)], dtype=object)
        self.assertEqual(read_dates(cells, None, "x").offsets.tolist(), [0, 0])

    def test_two_digits_of_a_year_beside_a_month_in_words(self):
        for cells, want in (
            (("tammi 19", "helmi 19", "maalis 19"), ["2019-01", "2019-02", "2019-03"]),
            (("05 sty 19", "06 sty 19", "09 lut 19"), ["2019-01-05", "2019-01-06", "2019-02-09"]),
        ):
            made = self.read("date;taux\n" + "".join(f"{c};{k},5\n" for k, c in enumerate(cells))).series["taux"]
            self.assertEqual([str(label)[:10] for label in made.to_pandas().index], want)

    def test_years_over_months_end_where_the_line_of_years_ends(self):
        head = ",".join(["name", "2019", *[""] * 3]) + "\n,Jan,Feb,Mar,Apr,May,Jun\n"
        made = self.read(head + "cpi,1,2,3,4,5,6\nppi,2,3,4,5,6,7\n").series["cpi"].to_pandas()
        self.assertEqual([str(label) for label in made.index], [f"2019-0{m}" for m in range(1, 7)])

    def test_a_market_is_the_column_of_that_name_in_any_case(self):
        rows = "".join(f"2020-{m:02d},{m / 100},{-m / 100},0.001\n" for m in range(1, 13))
        reading = ul.read_series(self.file("f.csv", f"month,Wide,Small,rf\n{rows}"))
        self.assertEqual(factor_table(reading, market="wide").market, "Wide")

    def test_factors_that_state_log_returns_become_simple(self):
        text = "Log returns in percent\nmonth,{},RF\n2020-01,10.0,0.1\n2020-02,-5.0,0.1\n2020-03,2.0,0.1\n"
        made = factor_table(ul.read_series(text.format("Market").encode()), total_return=["Market"])
        simple = np.exp([0.10, -0.05, 0.02]) - 1.0
        np.testing.assert_allclose(made.factors.to_pandas()["Market"], simple, rtol=1e-13)
        np.testing.assert_allclose(made.risk_free.to_pandas(), np.exp(0.001) - 1.0, rtol=1e-12)
        for market in ("Market", "Mkt-RF"):  # excess returns, by the rate in the file and by the heading
            with self.refused(TableError, f"'{market}' has log returns", "total_return"):
                factor_table(ul.read_series(text.format(market).encode()))

    def test_the_first_eight_cells_of_a_file_without_dates_are_shown(self):
        with self.assertRaisesRegex(UltrumError, r"'1 \| 2 \| 3 \| 4 \| 5 \| 6 \| 7 \| 8'"):
            self.read("a,b,c,d,e,f,g,h,i\n1,2,3,4,5,6,7,8,9\n")

    def test_an_unknown_setting_of_credentials_is_named(self):
        with self.assertRaisesRegex(SourceError, "'colour' is not known"):
            Credentials.of({"kind": "bearer", "colour": "blue"}, "harbour")
        self.assertIn("Request fewer series", MEANINGS[413])

    def test_quarters_in_roman_numerals(self):
        rows = "".join(f"{year} {quarter},{year - 2000 + k / 10}\n" for year in (2020, 2021)
                       for k, quarter in enumerate(("I", "II", "III", "IV"), 1))  # fmt: skip
        made = self.read(f"quarter,gdp\n{rows}").series["gdp"].to_pandas()
        self.assertEqual([str(p) for p in made.index[:4]], ["2020Q1", "2020Q2", "2020Q3", "2020Q4"])
        self.assertEqual(made.iloc[:4].tolist(), [20.1, 20.2, 20.3, 20.4])

    def test_months_in_french(self):
        made = (
            self.read("mois;prix\njanvier 2020;1,5\nfévrier 2020;2,5\nmars 2020;3,5\navril 2020;4\n")
            .series["prix"]
            .to_pandas()
        )
        self.assertEqual([str(p) for p in made.index], ["2020-01", "2020-02", "2020-03", "2020-04"])
        self.assertEqual(made.tolist(), [1.5, 2.5, 3.5, 4.0])

    def test_a_stated_adjustment_is_used(self):
        reading = self.read(
            "Unemployment rate, seasonally adjusted\n\nmonth,rate\n"
            + "".join(f"2020-{m:02d},{m}.5\n" for m in range(1, 13))
        )
        self.assertTrue(reading.series["rate"].metadata.seasonal_adjustment)
        self.assertFalse([d for d in reading.decisions if d.what == "not used" and "seasonally" in str(d.chosen)])

    def test_a_heading_over_two_columns_is_that_of_both(self):
        rows = "".join(f"<tr><td>2020-{m:02d}</td><td>{m}.5</td><td>{m}.25</td></tr>" for m in range(1, 7))
        for head in (
            "<th>month</th><th colspan=2>Index</th></tr><tr><th></th>",
            "<th rowspan=2>month</th><th colspan=2>Index</th></tr><tr>",
        ):
            path = self.file("p.html", f"<table><tr>{head}<th>cpi</th><th>ppi</th></tr>{rows}</table>")
            made = ul.read_series(path).series
            self.assertEqual(list(made), ["cpi", "ppi"])
            self.assertEqual([made[name].metadata.measure for name in made], ["index", "index"])
            self.assertEqual([float(np.asarray(made[name])[2]) for name in made], [3.5, 3.25])
        with self.assertRaisesRegex(UltrumError, "'Rate' twice"):  # units below names that repeat
            self.read("month,Rate,Rate\n,%,bp\n" + "".join(f"2020-{m:02d},{m},{m}\n" for m in range(1, 7)))
