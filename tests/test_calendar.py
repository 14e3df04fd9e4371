"""Dates as they come: time zones, weekends, gaps, unfinished periods, observations a year."""

import warnings

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import Scratch, daily, months, series
from ultrum.core.time.index_frequency_and_gaps import gap_lengths, gap_table, infer_frequency
from ultrum.errors import AlignmentError, UnitError

DAYS = pd.bdate_range("2010-01-04", "2020-12-31")


def trading_returns(days, seed=0):
    return pd.Series(np.random.default_rng(seed).normal(4e-4, 0.01, len(days)), days, name="market")


class Frequencies(Scratch):
    def test_dates_show_their_frequency_or_stay_dates(self):
        for dates, code in (
            (pd.date_range("2020-01-31", periods=30, freq="BME"), "M"),
            (pd.date_range("2020-01-01", periods=30, freq="MS"), "M"),
            (pd.date_range("2020-01-01", periods=30, freq="MS") + pd.Timedelta(days=14), "M"),
            (pd.date_range("2020-01-31", periods=20, freq="BQE"), "Q"),
            (pd.date_range("2020-01-31", periods=20, freq="QE-JAN"), "Q-JAN"),
            (pd.date_range("2020-06-30", periods=20, freq="YE-JUN"), "A-JUN"),
            (pd.date_range("2020-01-01", periods=20, freq="YS"), "A"),
            (pd.date_range("2020-03-28", periods=20, freq="91D"), "D"),  # Saturdays near quarters' ends
            (DAYS.tz_localize("Asia/Tokyo"), "B"),
            (DAYS.append(pd.DatetimeIndex(["2020-12-26"])).sort_values(), "D"),
        ):
            self.assertEqual(str(infer_frequency(dates)), code, dates[:3])

    def test_accounts_on_saturdays_meet_the_price_of_their_day(self):
        saturdays = pd.date_range("2020-03-28", periods=8, freq="91D")
        debt = ul.TimeSeries.from_pandas(pd.Series(np.arange(8.0), saturdays), measure="stock", name="debt")
        self.assertEqual(debt.index.tolist(), saturdays.tolist())
        price = daily(np.arange(600.0), "2020-01-01", measure="price", name="close")
        met = ul.match_dates(debt.index, price, max_age="P3D")
        self.assertEqual(met["matched"].dt.dayofweek.unique().tolist(), [4])
        self.assertEqual(met["age"].unique().tolist(), [1.0])

    def test_daily_and_business_daily_series_stand_side_by_side(self):
        x = trading_returns(DAYS)
        stray = pd.concat([x, pd.Series([0.01], [pd.Timestamp("2015-05-02")])]).rename("stray")
        both = ul.SeriesTable.of({
            "plain": ul.TimeSeries.from_pandas(x, measure="return"),
            "stray": ul.TimeSeries.from_pandas(stray, measure="return"),
        })  # fmt: skip
        self.assertEqual((both.frequency.code, len(both.index)), ("D", len(x) + 1))
        self.assertEqual(both["stray"].values.loc["2015-05-02"], 0.01)


class PerYear(Scratch):
    def test_one_number_of_periods_a_year_for_the_package(self):
        """Observations over the own span: premium, risk and the cost of equity agree, in any time zone."""
        rng = np.random.default_rng(1)
        days = DAYS[rng.random(len(DAYS)) > 0.04]
        plain = trading_returns(days)
        want = (len(days) - 1) / ((days[-1] - days[0]).days / 365.25)
        stray = pd.concat([plain, pd.Series([plain.mean()], [pd.Timestamp("2015-05-02")])])
        for values in (plain, plain.tz_localize("Asia/Tokyo"), plain.tz_localize("America/Lima"), stray):
            x = ul.TimeSeries.from_pandas(values, measure="return", excess_of="bill", name="market")
            own = (len(values) - 1) / ((days[-1] - days[0]).days / 365.25)
            self.assertAlmostEqual(x.periods_per_year, own, 9)
            self.assertAlmostEqual(ul.premium(x).value, own * values.mean(), 12)
            mean = ul.risk_return(x).table["mean"].iloc[0]
            self.assertAlmostEqual(mean, own * values.mean(), 12)
        self.assertLess(abs(want - own), 0.2)
        self.assertEqual(series(np.ones(5), freq="W", measure="flow").periods_per_year, 365.25 / 7)

    def test_a_gap_is_neither_time_nor_observations(self):
        x = trading_returns(DAYS)
        torn = ul.TimeSeries.from_pandas(x.drop(DAYS[300:430]), measure="return")
        whole = ul.TimeSeries.from_pandas(x, measure="return")
        self.assertAlmostEqual(torn.periods_per_year, whole.periods_per_year, 0)

    def test_a_year_of_daily_accrual_compounds_to_the_yield(self):
        rng = np.random.default_rng(2)
        days = pd.bdate_range("2018-12-31", "2021-12-31")
        days = days[(rng.random(len(days)) > 0.04) | np.isin(days.strftime("%m-%d"), ["12-31"])]
        for quoted, want in (
            ("effective", 0.05), ("continuous", np.expm1(0.05)), ("bond-equivalent", 0.050625),
        ):  # fmt: skip
            y = ul.TimeSeries.from_pandas(
                pd.Series(0.05, days), measure="rate", timing="end", quoted=quoted, name="bill"
            )
            earned = ul.yield_to_return(y).to_pandas()
            for year in (2019, 2020, 2021):
                own = earned[(earned.index.year == year)]
                self.assertAlmostEqual((1 + own).prod() - 1, want, 12)
            self.assertEqual(earned.index.tolist(), days[1:].tolist())

    def test_the_rate_of_a_daily_series_averages_a_month(self):
        y = pd.Series(0.04, pd.bdate_range("2022-12-30", "2024-12-31"), name="bill")
        earned = ul.yield_to_return(
            ul.TimeSeries.from_pandas(y, measure="rate", timing="end", quoted="effective")
        )
        table = ul.factor_betas(ul.practice.panel(), ["market"])
        for end in ("2024-06-03", "2024-06-06"):  # a Monday earns three days
            cost = ul.cost_of_equity(table, premia={"market": 0.05}, risk_free=earned, on=end)
            self.assertAlmostEqual(cost.risk_free, 0.04, 2)


class Gaps(Scratch):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(3)
        self.days = pd.bdate_range("2023-01-02", periods=320)
        self.close = 50 * np.exp(np.cumsum(rng.normal(0, 0.01, (320, 4)), axis=0))
        self.kept = np.ones(320, dtype=bool)

    def prices(self, columns=1):
        frame = pd.DataFrame(self.close[:, :columns], self.days, list("abcd")[:columns])
        return ul.SeriesTable.from_pandas(frame[self.kept], measure="price")

    def test_a_return_across_weeks_without_rows_is_missing_and_across_a_holiday_it_is_not(self):
        self.kept[100:115] = False  # three weeks
        self.kept[[30, 200, 201]] = False
        made = ul.returns(self.prices(), check=False).to_pandas()["a"]
        self.assertEqual(made.index[made.isna()].tolist(), [self.days[115]])
        across = self.close[31, 0] / self.close[29, 0] - 1
        self.assertAlmostEqual(made[self.days[31]], across, 12)
        found = gap_table(self.days[self.kept].to_numpy().astype("datetime64[D]"))
        ends = [str(self.days[100].date()), str(self.days[114].date()), 15]
        self.assertEqual(found.to_numpy().tolist(), [ends])  # a Monday to a Friday
        self.assertEqual(found.attrs["holidays"], 3)
        monthly = ul.to_frequency(ul.TimeSeries.from_pandas(made, measure="return"), "M").to_pandas()
        missing = set(self.days[100:116].to_period("M"))
        self.assertEqual(set(monthly.index[monthly.isna()]), missing)

    def test_changes_windows_and_spells_end_at_a_gap(self):
        self.kept[100:115] = False
        x = self.prices()["a"].with_metadata(measure="stock")
        values = x.to_pandas()
        changes = ul.difference(x).to_pandas()
        self.assertEqual(changes.index[changes.isna()].tolist(), [self.days[115]])
        np.testing.assert_allclose(changes.dropna(), values.diff().drop(self.days[115]).dropna(), rtol=1e-14)
        level = ul.TimeSeries.from_pandas(values, measure="price")
        mean = ul.rolling(level, 10, min_obs=5).to_pandas()
        self.assertTrue(mean.iloc[100:104].isna().all())  # windows span the weekdays without rows
        self.assertAlmostEqual(mean.iloc[104], values.iloc[100:105].mean(), 12)
        rate = series([0.01, 0.03, 0.02], measure="rate")
        with self.refused(UnitError, "is in decimals", "Write 1.5 % for 0.015"):
            ul.spells(rate, "above 1.5")
        found = ul.spells(level, "above 0")
        self.assertEqual(found["length"].tolist(), [100, 205])

    def test_a_closure_that_three_assets_share_is_none_unless_it_is_long(self):
        for length, columns, gaps in ((8, 1, 1), (8, 2, 1), (8, 3, 0), (11, 3, 1), (5, 1, 0), (6, 1, 1)):
            self.kept[:] = True
            self.kept[60 : 60 + length] = False
            made = ul.returns(self.prices(columns), check=False).to_pandas()
            self.assertEqual(int(made.isna().any(axis=1).sum()), gaps, (length, columns))
        calendar = self.days[self.kept]
        made = ul.returns(self.prices(), trading_days=calendar, check=False).to_pandas()
        self.assertFalse(made.isna().any().any())
        made = ul.returns(self.prices(), trading_days=self.days, check=False).to_pandas()
        self.assertEqual(int(made["a"].isna().sum()), 1)
        sparse = np.arange("2020-03-28", "2024-01-01", 91, dtype="datetime64[D]")
        self.assertFalse(gap_lengths(sparse).any())


class Unfinished(Scratch):
    def test_a_first_period_that_is_not_whole_is_left_out_and_named(self):
        r = daily(np.full(270, 0.001), "2015-03-23", measure="return")
        quarters = ul.to_frequency(r, "Q")
        self.assertEqual(str(quarters.index[0]), "2015Q2")
        self.assertIn("2015-Q1 (data begin 2015-03-23)", str(quarters.metadata.trail[-1]))
        self.assertEqual(str(ul.to_frequency(r, "Q", since="2015-01-01").index[0]), "2015Q1")
        for option in ("since", "through"):
            with self.refused(AlignmentError, option, "'soon'"):
                ul.to_frequency(r, "Q", **{option: "soon"})
        from_new_year = daily(np.full(270, 0.001), "2015-01-02", measure="return")
        self.assertEqual(str(ul.to_frequency(from_new_year, "Q").index[0]), "2015Q1")
        price = daily(np.arange(1.0, 271), "2015-03-23", measure="price")
        ends = ul.to_frequency(price, "Q").to_pandas()  # an end of a quarter is one all the same
        self.assertEqual((str(ends.index[0]), ends.iloc[0]), ("2015Q1", 7.0))
        bars = ul.to_bars(price, "Q")
        self.assertEqual((str(bars.index[0]), bars.block[0].tolist()), ("2015Q2", [8.0, 72.0, 8.0, 72.0]))
        quarters = ul.to_frequency(ul.to_bars(price, "M"), "Q")
        self.assertEqual(str(quarters.index[0]), "2015Q2")
        highs = ul.to_frequency(price, "Q", how="high")
        self.assertEqual(str(highs.index[0]), "2015Q2")
        months_of = series([1.0, 2, 3, 4, 5], "2015-02", measure="flow")
        self.assertEqual(ul.to_frequency(months_of, "Q").to_pandas().to_dict(),
                         {pd.Period("2015Q2"): 12.0})  # fmt: skip
        for first, month in (("2024-01-29", "2024-02"), ("2024-02-05", "2024-03")):
            weeks = series(np.arange(20.0), first, freq="W", measure="score")  # the week to 4 February
            self.assertEqual(str(ul.to_frequency(weeks, "M", how="mean").index[0]), month)
        firsts = ul.to_frequency(series([1.0, 2, 3, 4, 5], "2015-02", measure="score"), "Q", how="first")
        self.assertEqual(firsts.to_pandas().tolist(), [3.0])

    def test_daily_values_known_the_next_day_enter_the_next_month(self):
        m = months(24, "2020-01")
        rng = np.random.default_rng(0)
        bill = series(np.full(24, 0.001), "2020-01", name="bill", measure="return")
        market = series(rng.normal(0, 0.04, 24), "2020-01", name="market", measure="return", excess_of="bill")
        assets = ul.SeriesTable.from_pandas(pd.DataFrame({"a": rng.normal(0, 0.05, 24)}, m), measure="return")
        days = pd.bdate_range("2019-12-02", "2021-12-31")
        state = ul.TimeSeries.from_pandas(pd.Series(np.arange(len(days)) / 1e3, days), name="state",
                                          measure="rate", timing="end")  # fmt: skip
        panel = ul.align(assets=assets, factors=market, risk_free=bill, conditions=state, known_by="P1D")
        for month in ("2020-01", "2020-06"):
            before = (pd.Period(month) - 1).end_time.normalize() - pd.Timedelta(days=1)
            self.assertEqual(panel.conditions.loc[month, "state"], state.values.loc[:before].iloc[-1])


class Delisting(Scratch):
    def test_the_return_stands_in_the_period_after_the_last_price_whenever_it_is_paid(self):
        days = pd.bdate_range("2023-12-01", "2024-08-30")
        frame = pd.DataFrame({"A": 50.0, "B": 20.0}, days)
        paid = pd.DataFrame({"asset": ["A"], "date": ["2024-04-29"], "amount": [5.0]})
        for last, month in (("2024-03-15", "2024-03"), ("2024-03-29", "2024-04")):
            close = frame.copy()
            close.loc[close.index > last, "A"] = np.nan
            table = ul.SeriesTable.from_pandas(close, measure="price")
            with self.assertWarnsRegex(
                ul.DataWarning, f"A: its final payment came {45 if '15' in last else 31} days"
            ):
                made = ul.returns(table, frequency="M", final_payments=paid, check=False).to_pandas()
            self.assertAlmostEqual(made.loc[month, "A"], -0.9, 12)
            self.assertEqual(made["A"].dropna().index[-1], pd.Period(month))
            self.assertFalse(made["B"].isna().any())
        lost = paid.assign(amount=0.0, date="2024-03-29")
        daily_returns = ul.returns(table, final_payments=lost, check=False).to_pandas()["A"]
        self.assertEqual(daily_returns.dropna().iloc[-1], -1.0)
        with self.refused(UnitError, "−100 %"):
            ul.returns(table, final_payments=lost, kind="log", check=False)
        after = pd.DataFrame({"asset": ["A"], "date": ["2024-04-01"], "amount": [2.0]})
        with self.refused(UnitError, "A", "after its last price", "Add the dividend to its final payment"):
            ul.returns(table, dividends=after, final_payments=lost, check=False)
        holed = ul.SeriesTable(close.assign(A=close["A"].where(close.index != days[20], 0.0)), table.metadata)
        for payment in (paid, lost):  # a price of 0 in between is wrong whatever is paid at the end
            with self.refused(UnitError, "A has a price of 0"):
                ul.returns(holed, final_payments=payment, check=False)
        with self.refused(UnitError, "A", "prices go on"):
            ul.returns(table, final_payments=paid.assign(date="2024-01-15"), check=False)

    def test_prices_that_include_dividends_take_none(self):
        close = pd.DataFrame({"A": 50.0}, pd.bdate_range("2024-01-01", periods=9))
        adjusted = ul.SeriesTable.from_pandas(close, measure="price", income="total")
        paid = pd.DataFrame({"asset": ["A"], "date": ["2024-01-04"], "amount": [1.0]})
        with self.refused(UnitError, "A", "already include dividends"):
            ul.returns(adjusted, dividends=paid)
        self.assertEqual(ul.returns(adjusted).metadata[0].income, "total")
        text = "Date,Close,Adj Close\n" + "".join(f"2024-01-0{d},5{d},4{d}\n" for d in range(1, 6))
        found = {name: s.metadata.income for name, s in ul.read_series(text).series.items()}
        self.assertEqual(found, {"Close": "", "Adj Close": "total"})


class Mappings(Scratch):
    def test_a_table_is_a_mapping_of_names_to_series(self):
        wide = pd.DataFrame(np.ones((3, 2000)), months(3), [f"S{i}" for i in range(2000)])
        table = ul.SeriesTable.from_pandas(wide, measure="return")
        self.assertIn("S7", table)
        self.assertNotIn("T7", table)
        self.assertEqual((len(table), list(table)[:2]), (2000, ["S0", "S1"]))
        self.assertEqual(table[["S5", "S3"]].names, ["S5", "S3"])
        self.assertEqual(dict(table.items())["S9"].name, "S9")
        with self.refused(AlignmentError, "2000 series", "table['name']"):
            table.only()
        again = ul.SeriesTable.of({"x": table["S1"], "y": table["S2"]})
        self.assertEqual(again.names, ["x", "y"])
        close = {n: daily([10.0, 11, 12], measure="price", name=n) for n in "pq"}
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            self.assertEqual(ul.returns(close).names, ["p", "q"])
