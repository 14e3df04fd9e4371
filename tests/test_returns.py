"""Returns followed share by share, and checked against the world they were simulated from."""

import warnings

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import Scratch, daily, series
from ultrum.errors import CurrencyError, UnitError
from ultrum.practice import simulated_exchange
from ultrum.practice import simulated_world as setting
from ultrum.practice.simulated_world import simulate


def holder(closes, dividends, splits):
    """Wealth of somebody who starts with one share and follows it by hand, day by day."""
    shares, wealth = 1.0, []
    for day, close in closes.items():
        shares *= splits.get(day, 1.0)
        shares += shares * dividends.get(day, 0.0) / close
        wealth.append(shares * close)
    return pd.Series(wealth, closes.index)


class TotalReturns(Scratch):
    def test_dividends_and_a_split_by_hand(self):
        rng = np.random.default_rng(5)
        close = daily(30 * np.exp(np.cumsum(rng.normal(0, 0.02, 66))), name="A", measure="price",
                      currency="QML")  # fmt: skip
        days = close.index
        halved = close.to_pandas()
        halved[days >= days[30]] /= 2
        close = ul.TimeSeries.from_pandas(halved, name="A", measure="price", currency="QML", frequency="B")
        paid, split = {days[10]: 0.8, days[30]: 0.5}, {days[30]: 2.0}
        dividends = pd.DataFrame({"asset": "A", "date": list(paid), "amount": list(paid.values())})
        splits = pd.DataFrame({"asset": "A", "date": list(split), "ratio": list(split.values())})
        wealth = holder(halved, paid, split)
        got = ul.returns(close, dividends=dividends, splits=splits).to_pandas()
        np.testing.assert_allclose(got, wealth.pct_change().dropna(), rtol=1e-11)
        adjusted = ul.adjust_prices(close, dividends, splits)
        self.assertAlmostEqual(adjusted.values.iloc[-1], halved.iloc[-1], 12)
        self.assertEqual(adjusted.metadata.income, "total")
        month_ends = wealth.groupby(wealth.index.to_period("M")).last()
        monthly = ul.returns(close, frequency="M", dividends=dividends, splits=splits).to_pandas()
        np.testing.assert_allclose(monthly, month_ends.pct_change()[1:-1], rtol=1e-11)  # April has begun only

    def test_codes_of_events_may_be_numbers_in_memory_and_on_disk(self):
        """A dividend of a fifth of a constant price; a table of other assets is named, not passed over."""
        days = pd.bdate_range("2024-01-01", periods=600)
        frame = pd.DataFrame(10.0, days, ["10001", "7"])
        memory = ul.SeriesTable.from_pandas(frame, measure="price", currency="QML")
        disk = ul.LongTable.write(memory, self.folder / "p.parquet", "close")
        for number, code in enumerate((7, 7.0, "7", "8")):
            paid = pd.DataFrame({"asset": [code], "date": [days[300]], "amount": [2.0]})
            with warnings.catch_warnings(record=True) as said:
                made = ul.returns(memory, dividends=paid)
                read = ul.returns(disk, dividends=paid, to=self.folder / f"{number}.parquet").read(["7"])
            want = [0.2 if code != "8" else 0.0, 0.0]
            self.assertEqual([made["7"].to_pandas().sum().round(12), made["10001"].to_pandas().sum()], want)
            self.assertEqual(read["7"].to_pandas().sum().round(12), want[0])
            self.assertEqual(sum("has prices (8; prices of" in str(w.message) for w in said), 2 * (code == "8"))

    def test_codes_of_events_are_texts_under_every_heading_of_assets(self):
        codes = [*map(str, range(9, 39)), "A1"]
        for heading in ("asset", "Ticker", "ISIN"):
            rows = "".join(f"{code},2024-01-{day:02d},1.5\n" for day, code in enumerate(codes, 1))
            records = ul.read_series(f"{heading},Ex-Date,Dividends\n{rows}", records_only=True).records
            self.assertEqual(records[heading].tolist(), codes)

    def test_every_company_of_the_world_as_a_holder_earned_it(self):
        world = simulate()
        closes, dividends = simulated_exchange.closes(world)
        splits = simulated_exchange.splits()
        days = pd.DatetimeIndex(world.days)
        frame = pd.DataFrame(closes, days, list(setting.CODES))
        table = ul.SeriesTable.from_pandas(frame, measure="price", frequency="B")
        got = ul.returns(table, dividends=dividends, splits=splits, check=False).values
        adjusted = ul.adjust_prices(table, dividends, splits).values
        for code in setting.CODES:
            close = frame[code].dropna()
            paid = dividends[dividends["asset"] == code]
            parted = splits[splits["asset"] == code]
            paid = dict(zip(pd.to_datetime(paid["date"]), paid["amount"], strict=True))
            wealth = holder(close, paid, dict(zip(pd.to_datetime(parted["date"]), parted["ratio"], strict=True)))
            want = wealth.pct_change().reindex(got.index)
            both = want.notna() & got[code].notna()
            self.assertGreater(both.sum(), 1000)
            np.testing.assert_allclose(1 + got[code][both], 1 + want[both], rtol=1e-12)
            np.testing.assert_allclose(
                1 + adjusted[code].pct_change(fill_method=None)[both[both].index], 1 + want[both], rtol=1e-12
            )

    def test_the_world_gives_back_the_returns_it_was_made_from(self):
        world = simulate()
        close, dividends = simulated_exchange.closes(world)
        code = setting.CODES.index("LTSM")  # the one with a split
        price = ul.TimeSeries.from_pandas(
            pd.Series(close[:, code], pd.DatetimeIndex(world.days), name="LTSM"), measure="price",
            currency="QML", frequency="B")  # fmt: skip
        got = ul.returns(price, frequency="M", dividends=dividends, splits=simulated_exchange.splits())
        first = np.flatnonzero(np.diff(world.month_of_day, prepend=-1))
        true = np.multiply.reduceat(1 + world.total[:, code], first) - 1
        np.testing.assert_allclose(got.to_pandas(), true[1:], atol=0.01 / close[:, code].min() * 1.5)

    def test_no_return_across_a_gap_and_late_dividends_are_counted(self):
        x = series([100, np.nan, 121, 133.1], measure="price", currency="QML", name="A")
        got = ul.returns(x).to_pandas()
        self.assertEqual(got.isna().tolist(), [True, True, False])
        late = pd.DataFrame({"asset": ["A"], "date": ["2030-01-01"], "amount": [1.0]})
        close = daily([10, 11, 12], name="A", measure="price")
        trail = str(ul.returns(close, dividends=late).metadata.trail)
        self.assertIn("('events_outside_the_prices', '1')", trail)

    def test_a_delisted_share_earns_its_final_payment(self):
        values = np.r_[np.full(23, 10.0), np.full(5, 12.0), np.full(24, np.nan)]
        close = daily(values, name="A", measure="price")
        bystander = daily(np.ones(52), name="B", measure="price")
        table = ul.SeriesTable.of([close, bystander])
        paid = pd.DataFrame({"asset": ["A"], "date": ["2024-02-09"], "amount": [15.0]})
        got = ul.returns(table, frequency="M", final_payments=paid)["A"].to_pandas()
        self.assertAlmostEqual(got["2024-02"], 0.5, 12)
        self.assertTrue(np.isnan(ul.returns(table, frequency="M")["A"].to_pandas()["2024-02"]))

    def test_what_is_no_return_is_refused_by_every_function_in_the_same_words(self):
        rng = np.random.default_rng(5)
        right = rng.normal(0.01, 0.05, 60)
        takes = {
            "risk_return": ul.risk_return, "drawdowns": ul.drawdowns, "distribution": ul.distribution,
            "calendar_returns": ul.calendar_returns, "forward_returns": lambda x: ul.forward_returns(x, ["2010-05"]),
            "momentum": lambda x: ul.momentum(x.as_table()), "portfolio": lambda x: ul.portfolio(x.as_table()),
            "compare_to_benchmark": lambda x: ul.compare_to_benchmark(x, series(right, name="b", measure=x.metadata.measure)),
            "regress": lambda x: ul.regress(x, series(right[::-1].copy(), name="x", measure="return")),
            "to_frequency": lambda x: ul.to_frequency(x, "A"), "cumulate": ul.cumulate, "to_log": ul.to_log,
            "disaggregate": lambda x: ul.disaggregate(x, "D", how="hold"),
            "excess": lambda x: ul.excess(x, series([0.002] * 60, name="bill", measure="return")),
            "predictive_regression": lambda x: ul.predictive_regression(x, series(right.cumsum(), name="x")),
            "align": lambda x: ul.align(assets=x.as_table(), risk_free=0.02, factors=series(
                right, name="f", measure="return", excess_of="bill")),
        }  # fmt: skip
        cases = {
            "percent taken for decimals": 100 * right, "look like prices": 40 + 100 * np.cumprod(1 + right), "these look like prices": 0.6 * np.cumprod(1 + right / 9),
            "more than the whole investment": np.where(np.arange(60) == 7, -1.3, right),
            "looks like a yield": 0.05 + 0.01 * np.sin(np.arange(60) / 20),
        }  # fmt: skip
        for name, function in takes.items():
            function(series(right, name="A", measure="return"))
            for words, values in cases.items():
                with self.subTest(name, words=words), self.assertRaisesRegex(UnitError, f"{name}: 'A'.*{words}"):
                    function(series(values, name="A", measure="return"))
        with self.assertWarnsRegex(ul.DataWarning, "36 % per year"):
            ul.excess(series(right, measure="return"), series([0.03] * 60, name="bill", measure="return"))
        ul.risk_return(series(rng.normal(0.02, 0.3, 60), measure="return"))  # a wild one, and no percent

    def test_means_of_log_returns_are_shown_as_they_are_and_as_growth(self):
        logs = series([0.01, -0.02, 0.03], name="A", measure="log_return")
        row = ul.risk_return(logs).table.loc["A"]
        self.assertAlmostEqual(row["mean_log"], 12 * 0.02 / 3, 12)
        self.assertAlmostEqual(row["mean"], np.exp(12 * 0.02 / 3) - 1, 12)
        self.assertNotIn("mean_log", ul.risk_return(series([0.01, -0.02], name="A", measure="return")).table)

    def test_currencies_are_never_mixed(self):
        here = series([0.1, 0.2], name="A", measure="return", currency="QML")
        there = series([0.1, 0.2], name="B", measure="return", currency="QSR")
        bill = series([0.01, 0.01], name="bill", measure="return", currency="QSR")
        with self.assertRaisesRegex(CurrencyError, "A is in QML, bill in QSR"):
            ul.excess(ul.SeriesTable.of([there, here]), bill)
        self.assertEqual(ul.excess(there, bill).values.round(9).tolist(), [0.09, 0.19])
        with self.assertRaisesRegex(CurrencyError, "A in QML, B in QSR"):
            ul.portfolio(ul.SeriesTable.of([here, there]))
        net = series([0.1, 0.2], name="C", measure="return", excess_of="bill")
        with self.assertRaisesRegex(UnitError, "C is an excess return and B a total return"):
            ul.portfolio(ul.SeriesTable.of([there, net]))

    def test_a_payment_on_a_day_without_trading_costs_nobody_a_return(self):
        close = daily([10.0, 10, 10, 10, 10, np.nan, np.nan, np.nan], name="A", measure="price", currency="QML")
        other = daily(np.arange(1.0, 9), name="B", measure="price", currency="QML")
        table = ul.SeriesTable.of([close, other])
        paid = pd.DataFrame({"asset": ["A"], "date": ["2024-01-06"], "amount": [12.0]})  # a Saturday
        got = ul.returns(table, final_payments=paid).to_pandas()
        np.testing.assert_allclose(got["B"], 1 / np.arange(1, 8))
        self.assertAlmostEqual(got.loc["2024-01-08", "A"], 0.2)
        with self.assertRaisesRegex(CurrencyError, "final payment in QSR"):
            ul.returns(table, final_payments=paid.assign(currency="QSR"))

    def test_log_and_simple_agree(self):
        x = series([100, 110, 99], measure="price")
        log, simple = ul.returns(x, kind="log"), ul.returns(x)
        np.testing.assert_allclose(np.expm1(log.to_pandas()), simple.to_pandas(), rtol=1e-14)
        self.assertEqual(log.metadata.measure, "log_return")

    def test_refusals(self):
        paid = pd.DataFrame({"asset": ["A"], "date": ["2024-01-02"], "amount": [1.0],
                             "currency": ["QSR"]})  # fmt: skip
        close = daily([10, 11, 12], name="A", measure="price", currency="QML")
        with self.refused(CurrencyError, "A", "QSR"):
            ul.returns(close, dividends=paid)
        for table, words in (
            (pd.DataFrame({"ticker": ["A"]}), ["asset, date, ratio", "ticker"]),
            (pd.DataFrame({"asset": ["A"], "date": ["2024-01-02"], "ratio": [0.0]}), ["A, 2024-01-02", "0.0"]),
        ):
            with self.refused(UnitError, *words):
                ul.returns(close, splits=table)
        with self.refused(UnitError, "-11"):
            ul.returns(daily([10, -11, 12], measure="price"))
        with self.refused(UnitError, "prices"):
            ul.returns(series([0.1, 0.2], measure="return"))


class RiskFree(Scratch):
    def test_quoting_rules_by_their_formulas(self):
        y, per_year = 0.06, 12
        price = 1 - y * (365.25 / 12) / 360
        wanted = {
            "effective": 1.06 ** (1 / 12) - 1,
            "simple": 0.005,
            "bond-equivalent": 1.03 ** (2 / per_year) - 1,
            "continuous": np.exp(0.005) - 1,
            "discount": 1 / price - 1,
        }
        for rule, answer in wanted.items():
            rate = series([y, y], measure="rate", timing="end", quoted=rule, maturity="P1M")
            got = ul.yield_to_return(rate)
            self.assertAlmostEqual(got.values.iloc[0], answer, 15, rule)
            self.assertEqual(str(got.index[0]), "2010-02")  # known in January, earned in February

    def test_yields_that_cannot_be_a_risk_free_return(self):
        bond = series([0.04], measure="rate", timing="end", quoted="effective", maturity="P10Y")
        with self.refused(UnitError, "P10Y", "longer"):
            ul.yield_to_return(bond)
        with self.refused(UnitError, "quoting rule"):
            ul.yield_to_return(series([0.04], measure="rate", timing="end"))

    def test_excess(self):
        r, bill = series([0.02, 0.03], measure="return"), series([0.001, 0.002], measure="return")
        bill = bill.with_metadata(name="bill")
        once = ul.excess(r, bill)
        np.testing.assert_allclose(once.to_pandas(), [0.019, 0.028])
        logged = ul.excess(r.with_metadata(measure="log_return"), bill).to_pandas()
        np.testing.assert_allclose(logged, [0.02 - np.log(1.001), 0.03 - np.log(1.002)])
        with self.refused(UnitError, "twice"):
            ul.excess(once, bill)
        with self.refused(UnitError, "yield_to_return"):
            ul.excess(r, bill.with_metadata(measure="rate"))
