"""Answers that are known by hand or by a slow computation, for small functions that many others use."""

import inspect

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import Scratch
from ultrum.core.returns.yields import accrual_rate
from ultrum.errors import EstimationError, UltrumError


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
            with self.assertRaises(EstimationError):
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

    def test_a_benchmark_against_itself_has_no_ratio(self):
        x = series([0.01, -0.02, 0.03, 0.01], measure="return")
        self.assertTrue(np.isnan(ul.compare_to_benchmark(x, x.with_metadata(name="y")).information_ratio))

    def test_a_correlation_of_three_pairs_at_a_high_level(self):
        frame = pd.DataFrame(
            {"a": 1e9 + np.array([0.0, 1, 2, 5]), "b": [1e9, 1e9 + 1, 1e9 + 3, np.nan]}, months(4)
        )
        found = ul.correlations(ul.SeriesTable.from_pandas(frame, measure="score")).table.loc["a", "b"]
        self.assertAlmostEqual(found, np.corrcoef([0, 1, 2], [0, 1, 3])[0, 1], 9)

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
