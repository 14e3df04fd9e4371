"""Descriptions of returns against slow, obvious computations; matching against pandas' own."""

import itertools

import numpy as np
import pandas as pd
import scipy.stats
from hypothesis import given, settings
from hypothesis import strategies as st

import ultrum as ul
from tests.support import Scratch, daily, months, series
from ultrum.errors import AlignmentError, CurrencyError, EstimationError, FrequencyError, UnitError

SEEDS = st.integers(0, 10**6)


def returns(count=60, seed=1, name="A", **facts):
    values = np.random.default_rng(seed).normal(0.01, 0.05, count)
    return series(values, measure="return", name=name, **facts)


def table(count=60, names="ABC", holes=False):
    block = np.random.default_rng(9).normal(0.01, 0.05, (count, len(names)))
    if holes:
        block[:10, 1] = np.nan
    return ul.SeriesTable.from_pandas(pd.DataFrame(block, months(count), list(names)), measure="return")


class Risk(Scratch):
    def test_moments_and_extremes(self):
        x = returns()
        v = x.values.to_numpy()
        row = ul.risk_return(x).table.loc["A"]
        level = np.cumprod(1 + v)
        want = {
            "mean": 12 * v.mean(), "geometric": level[-1] ** (12 / 60) - 1, "volatility": np.sqrt(12) * v.std(ddof=1),
            "variance": 12 * v.var(ddof=1), "std": v.std(ddof=1), "skewness": scipy.stats.skew(v),
            "kurtosis": scipy.stats.kurtosis(v, fisher=False), "worst": v.min(), "positive": (v > 0).mean(),
            "max_drawdown": min(level[t] / max(1.0, level[: t + 1].max()) - 1 for t in range(60)),
        }  # fmt: skip
        for name, value in want.items():
            self.assertAlmostEqual(row[name], value, 12, name)
        self.assertEqual(row["worst_period"], str(x.index[int(np.argmin(v))]))
        logs = ul.risk_return(ul.to_log(x)).table.loc["A"]
        self.assertAlmostEqual(logs["geometric"], row["geometric"], 12)
        self.assertAlmostEqual(logs["mean"], np.expm1(12 * np.log1p(v).mean()), 12)

    def test_excess_per_risk_and_its_error(self):
        x, bill = returns(600), series(np.full(600, 0.002), measure="return", name="bill")
        row = ul.risk_return(x, risk_free=bill).table.loc["A"]
        e = x.values - 0.002
        s = e.mean() / e.std(ddof=1)
        self.assertAlmostEqual(row["sharpe_ratio"], np.sqrt(12) * s, 12)
        rng = np.random.default_rng(0)
        draws = [(d := rng.choice(e.to_numpy(), 600)).mean() / d.std(ddof=1) for _ in range(2000)]
        self.assertAlmostEqual(row["sharpe_se"] / (np.sqrt(12) * np.std(draws)), 1.0, delta=0.06)
        self.assertTrue(np.isnan(ul.risk_return(x).table.loc["A", "sharpe_ratio"]))

    def test_a_year_of_business_days_is_what_there_was(self):
        days = pd.bdate_range("2020-01-01", "2023-12-31").delete(slice(0, 1000, 20))
        x = ul.TimeSeries.from_pandas(
            pd.Series(np.tile([0.01, -0.01], len(days))[: len(days)], days), measure="return", frequency="B"
        )
        row = ul.risk_return(x).table.iloc[0]
        years = (days[-1] - days[0]).days / 365.25
        self.assertAlmostEqual(row["volatility"] / row["std"], np.sqrt((len(days) - 1) / years), 10)

    def test_portfolios_by_hand(self):
        x = table(6, holes=False)
        block = x.block
        np.testing.assert_allclose(ul.portfolio(x).values, block.mean(axis=1))
        held = np.cumprod(1 + block, axis=0).sum(axis=1)
        drift = held / np.append(3.0, held[:-1]) - 1
        np.testing.assert_allclose(ul.portfolio(x, rebalance="never").values, drift, rtol=1e-12)
        given_ = ul.portfolio(x, weights={"A": 3, "B": 1}).values
        np.testing.assert_allclose(given_, 0.75 * block[:, 0] + 0.25 * block[:, 1])
        worth = pd.DataFrame(np.arange(1.0, 19).reshape(6, 3), x.index, x.names)
        sized = ul.portfolio(x, weights=ul.SeriesTable.from_pandas(worth, measure="stock")).values
        self.assertTrue(np.isnan(sized.iloc[0]))  # nobody knew a market value before
        np.testing.assert_allclose(sized.iloc[3], worth.iloc[2] @ block[3] / worth.iloc[2].sum())
        with self.refused(AlignmentError, "'Z'"):
            ul.portfolio(x, weights={"Z": 1})
        with self.refused(UnitError, "do not add"):
            ul.portfolio(ul.to_log(x))

    def test_drawdowns_from_peak_to_recovery(self):
        p = series([100, 90, 95, 110, 55, 60], measure="price", unit="QML", name="P")
        found = ul.drawdowns(p)
        got = found.table[["peak", "trough", "recovery_date", "periods_to_trough"]].to_numpy().tolist()
        self.assertEqual(got, [["2010-04", "2010-05", "", 1], ["2010-01", "2010-02", "2010-04", 1]])
        r = ul.drawdowns(ul.returns(p)).drawdown_series.to_numpy()
        np.testing.assert_allclose(r, found.drawdown_series.to_numpy()[1:], atol=1e-14)


class Shape(Scratch):
    def test_distribution_counts_everything_and_fits_a_normal(self):
        v = np.random.default_rng(2).standard_t(3, 500) / 50
        x = series(v, measure="return", name="A")
        for bins in ("auto", 12, 0.01, [-1.0, 0.0, 1.0]):
            made = ul.distribution(x, bins=bins)
            self.assertEqual(made.histogram["count"].sum(), 500)
            width = made.histogram["high"] - made.histogram["low"]
            self.assertAlmostEqual((made.histogram["density"] * width).sum(), 1.0, 12)
        reference = scipy.stats.jarque_bera(v)
        self.assertAlmostEqual(made.jarque_bera, reference.statistic, 9)
        self.assertAlmostEqual(made.p_value, reference.pvalue, 12)
        self.assertAlmostEqual(made.table["observed"].iloc[:3].sum(), 1.0, 12)
        off = np.abs(v - v.mean()) / v.std(ddof=1)
        for reach in (2, 3, 4):
            row = made.table.loc[f"> {reach}"]
            self.assertEqual(row["count"], (off > reach).sum())
            self.assertAlmostEqual(row["expected"], 1000 * scipy.stats.norm.sf(reach), 9)
        self.assertGreater(made.table.loc["> 3", "ratio"], 1.0)
        self.assertLess(made.table.loc["0.5 to 2", "ratio"], 1.0)
        with self.refused(UnitError, "do not cover the values"):
            ul.distribution(x, bins=[0.0, 0.1])
        with self.refused(EstimationError, "at least 8"):
            ul.distribution(returns(5))
        with self.refused(UnitError, "growth"):
            ul.distribution(series(np.arange(9.0), measure="price", unit="QML"))

    def test_the_grid_compounds_each_year(self):
        x = returns(30)
        grid = ul.calendar_returns(x)
        self.assertAlmostEqual(grid.table.loc[2011, "Mar"], x.values["2011-03"], 15)
        self.assertAlmostEqual(grid.table.loc[2011, "year"], np.prod(1 + x.values["2011"]) - 1, 14)
        self.assertEqual(grid.table.attrs["partial_years"], [2012])
        march = grid.table["Mar"].dropna()
        self.assertAlmostEqual(grid.summary.loc["positive", "Mar"], (march > 0).mean())
        with self.refused(FrequencyError, "months or quarters"):
            ul.calendar_returns(series([0.1], freq="Y", measure="return"))
        with self.refused(UnitError, "returns"):
            ul.calendar_returns(series([1.0], measure="price", unit="QML"))

    def test_returns_after_a_condition_by_a_loop(self):
        x, cue = returns(200, 4), returns(200, 5, "cue")
        held = cue.values > 0.06
        got = ul.forward_returns(x, held, [3]).table.loc[3]
        come = np.array([np.prod(1 + x.values.iloc[t + 1 : t + 4]) - 1 for t in range(197)])
        self.assertAlmostEqual(got["after"], come[held[:197]].mean(), 13)
        self.assertAlmostEqual(got["difference"], come[held[:197]].mean() - come[~held[:197]].mean(), 12)
        r, c = x.values.to_numpy()[1:], held.to_numpy(float)[:-1]
        off = c - c.mean()
        sums = np.array([off[max(0, s - 2) : s + 1].sum() for s in range(199)])
        error = np.sqrt(np.sum((r - r.mean()) ** 2 * sums**2)) / (off @ off)
        self.assertAlmostEqual(got["error"], error, 13)
        self.assertAlmostEqual(got["t"], r @ sums / (off @ off) / error, 10)
        spelled = ul.forward_returns(x, ul.spells(cue, "above 0.06"), ["P3M"]).table.iloc[0]
        self.assertAlmostEqual(spelled["after"], got["after"], 14)
        with self.refused(AlignmentError, "no conditional mean"):
            ul.forward_returns(x, ["2030-01"], [3])


class Against(Scratch):
    def test_momentum_by_a_loop_with_a_skipped_month(self):
        x = table(24, "ABCD")
        got = ul.momentum(x, ["P3M", "P12M"], skip="P1M")
        t = 20
        want = {h: (1 + x.values.iloc[t - h + 1 : t]).prod() - 1 for h in (3, 12)}
        for h, frame in zip((3, 12), got.returns.values(), strict=True):
            np.testing.assert_allclose(frame.iloc[t], want[h], rtol=1e-12)
        np.testing.assert_allclose(got.average.iloc[t], (want[3] + want[12]) / 2, rtol=1e-12)
        order = got.average.iloc[t].sort_values(ascending=False).index
        self.assertEqual(got.ranks.iloc[t][order].tolist(), [1, 2, 3, 4])
        days = pd.bdate_range("2023-01-02", "2024-03-29")
        prices = ul.SeriesTable.from_pandas(
            pd.DataFrame({"A": np.arange(1.0, len(days) + 1)}, days), measure="price"
        )
        past = ul.momentum(prices, ["P3M"]).returns["P3M"]["A"]
        base = prices.values["A"][: pd.Timestamp("2023-12-29")].iloc[-1]
        self.assertAlmostEqual(past["2024-03-29"], prices.values["A"]["2024-03-29"] / base - 1, 13)

    def test_relative_on_a_day_without_trading(self):
        days = pd.bdate_range("2023-01-02", "2024-03-28")
        rng = np.random.default_rng(3)
        a, b = (ul.TimeSeries.from_pandas(pd.Series(np.exp(np.cumsum(rng.normal(0, 0.01, len(days)))), days), name=n, measure="price",
                                   currency="QML", frequency="B") for n in "ab")  # fmt: skip
        got = ul.compare_to_benchmark(a, b, ["P3M", "P1Y"], on="2024-03-30")  # a Saturday
        row = got.table.loc["P3M"]
        self.assertEqual((row["start"], row["end"]), ("2023-12-28", "2024-03-28"))
        self.assertAlmostEqual(row["asset"], a.values["2024-03-28"] / a.values["2023-12-28"] - 1, 13)
        active = a.values.pct_change() - b.values.pct_change()
        years = (len(active) - 2) / ((days[-1] - days[1]).days / 365.25)
        self.assertAlmostEqual(got.tracking_error, active.std() * np.sqrt(years), 12)
        self.assertNotIn("rows_in_one_only", str(got.active.metadata.trail[-1]))
        fewer = ul.TimeSeries.from_pandas(
            b.values.drop(days[[50, 51]]), measure="price", currency="QML", frequency="B"
        )
        self.assertIn("rows_in_one_only 2", str(ul.compare_to_benchmark(a, fewer).active.metadata.trail[-1]))
        with self.refused(AlignmentError, "ends at 2024-02-29", "on='2024-02-29'"):
            ul.compare_to_benchmark(a, b.sample(end="2024-02-29"))
        with self.refused(UnitError, "total-return"):
            ul.compare_to_benchmark(a.with_metadata(income="total"), b.with_metadata(income="price"))
        with self.refused(CurrencyError, "QSR"):
            ul.compare_to_benchmark(a, b.with_metadata(currency="QSR"))

    def test_nothing_is_compared_across_a_gap(self):
        price = series([100.0, 110, np.nan, 132, 145.2], name="A", measure="price")
        index = series([50.0, 50, 55, 55, 60.5], name="I", measure="price")
        made = ul.compare_to_benchmark(price, index, ["P1M", "P4M"])
        np.testing.assert_allclose(made.active.values, [0.1, 0.0], atol=1e-12)  # not over the two months
        self.assertAlmostEqual(made.table.loc["P4M", "active_return"], 0.452 - 0.21, 12)
        own = series([0.1, 0.1, np.nan, 0.1, 0.1], name="A", measure="return")
        base = series([0.0, 0.0, 0.1, 0.0, 0.1], name="I", measure="return")
        torn = ul.compare_to_benchmark(own, base, ["P1M", "P3M"])
        self.assertEqual((list(torn.table.index), "P3M omitted" in torn.basis), (["P1M"], True))
        fall = ul.drawdowns(series([-0.1, np.nan, 0.2], name="A", measure="return"))
        self.assertIn("1 missing return skipped", fall.basis)
        excess = series([0.1, 0.2, 0.1], name="A", measure="return", excess_of="bill")
        self.assertIn("excess returns, compounded", ul.risk_return(excess).basis)

    def test_correlations_pairwise_complete_and_rolling(self):
        x = table(holes=True)
        pairs, whole = ul.correlations(x), ul.correlations(x, deletion="listwise")
        np.testing.assert_allclose(pairs.table, x.values.corr(), rtol=1e-12)
        np.testing.assert_allclose(whole.table, x.values.dropna().corr(), rtol=1e-12)
        self.assertEqual((pairs.counts.loc["A", "B"], pairs.counts.loc["A", "C"]), (50, 60))
        self.assertAlmostEqual(
            pairs.p_values.loc["A", "C"], scipy.stats.pearsonr(x.values["A"], x.values["C"]).pvalue, 12
        )
        rolled = ul.correlations(x, window=24).rolling["A / C"]
        np.testing.assert_allclose(rolled, x.values["A"].rolling(24).corr(x.values["C"]).dropna(), rtol=1e-9)
        self.assertIn("growth", ul.correlations(ul.cumulate(table())).warnings[0])

    def test_correlations_keep_their_digits_at_high_and_moving_levels(self):
        rng = np.random.default_rng(4)
        block = rng.normal(size=(60, 4))
        block[:, 1] += 1e9  # a high level
        block[:30, 2] += 1e8  # a level that has moved where the others are missing
        block[:30, 0], block[::2, 3], block[1, 3] = np.nan, 5.0, np.nan
        frame = pd.DataFrame(block, months(60), columns=list("ABCD")).assign(E=7.0, F=np.nan)
        got = ul.correlations(ul.SeriesTable.from_pandas(frame, measure="score")).table
        for i, j in itertools.combinations("ABCD", 2):
            both = frame[[i, j]].dropna().to_numpy()
            exact = both.astype(np.longdouble) - both.astype(np.longdouble).mean(axis=0)
            want = (exact[:, 0] @ exact[:, 1]) / np.sqrt(
                (exact[:, 0] @ exact[:, 0]) * (exact[:, 1] @ exact[:, 1])
            )
            self.assertAlmostEqual(got.loc[i, j], float(want), 9, f"{i} {j}")
        self.assertTrue(got.loc["A", ["E", "F"]].isna().all())

    def test_holdings_simple_and_money_weighted(self):
        days = pd.bdate_range("2022-01-03", "2024-01-03")
        close = ul.SeriesTable.from_pandas(
            pd.DataFrame({"A": np.linspace(10, 20, len(days)), "B": 50.0}, days), measure="price", currency="QML"
        )
        bought = pd.DataFrame(
            {
                "asset": ["A", "A", "B"],
                "date": ["2022-01-03", "2023-01-07", "2022-06-01"],
                "units": [10, 5, 2],
                "price": [np.nan, 16.0, np.nan],
            }
        )
        got = ul.positions(bought, close)
        self.assertAlmostEqual(got.table.loc[0, "gain"], 100.0, 12)
        self.assertAlmostEqual(got.table.loc[1, "cost"], 80.0, 12)  # a Saturday, and a price of its own
        day = pd.Timestamp("2024-01-03")
        for row in got.table.itertuples():
            years = (day - row.date).days / 365.25
            self.assertAlmostEqual(row.growth, row.value / row.cost - 1, 12)
            self.assertAlmostEqual(row.yearly, (row.value / row.cost) ** (1 / years) - 1, 12)
        flows = [(r.cost, (day - r.date).days / 365.25) for r in got.table.itertuples()]
        self.assertAlmostEqual(sum(c * (1 + got.total["yearly"]) ** t for c, t in flows), got.total["value"], 8)
        self.assertAlmostEqual(got.by_asset.loc["B", "yearly"], 0.0, 12)
        split = pd.DataFrame({"asset": ["A"], "date": ["2023-07-03"], "ratio": [2.0]})
        halved = close.values.copy()
        halved.loc["2023-07-03":, "A"] /= 2
        again = ul.positions(
            bought, ul.SeriesTable.from_pandas(halved, measure="price", currency="QML"), splits=split
        )
        np.testing.assert_allclose(again.table["value"], got.table["value"], rtol=1e-12)
        with self.refused(CurrencyError, "Set rates="):
            ul.positions(bought, close, currency="QSR")
        with self.refused(AlignmentError, "No price of Z"):
            ul.positions(bought.assign(asset="Z"), close)


class Matching(Scratch):
    @settings(max_examples=40, deadline=None)
    @given(SEEDS, st.booleans(), st.booleans())
    def test_as_pandas_own_match_with_a_limit(self, seed, grouped, forward):
        rng = np.random.default_rng(seed)

        def stamps(n):
            return pd.Timestamp("2020-01-01") + pd.to_timedelta(rng.integers(0, 400, n), "D")

        left = pd.DataFrame({"date": stamps(60), "asset": rng.choice(list("ABZ"), 60)})
        right = pd.DataFrame(
            {"date": stamps(40), "asset": rng.choice(list("AB"), 40), "debt": rng.normal(size=40)}
        )
        right = right.drop_duplicates(["date", "asset"] if grouped else ["date"])
        by = "asset" if grouped else None
        direction = "after" if forward else "before"
        columns = ["date", "asset", "debt"] if grouped else ["date", "debt"]
        got = ul.match_dates(left, right[columns], direction=direction, max_age="P9D", key=by)
        want = pd.merge_asof(left.reset_index().sort_values("date"), right[columns].sort_values("date"), on="date", by=by,
                             direction="forward" if forward else "backward", tolerance=pd.Timedelta(9, "D"))  # fmt: skip
        np.testing.assert_array_equal(got["debt"], want.sort_values("index")["debt"])
        known = got.dropna()
        self.assertTrue(((known["date"] - known["matched"]).dt.days.abs() == known["age"]).all())

    def test_periods_stand_at_their_ends_and_twice_is_refused(self):
        accounts = series([1.0, 2.0], freq="Q", measure="stock", unit="count")
        got = ul.match_dates(["2010-06-29", "2010-07-02"], accounts, max_age="P3M")
        self.assertEqual(got["value"].tolist(), [1.0, 2.0])
        self.assertEqual(got["age"].tolist(), [90.0, 2.0])
        twice = pd.DataFrame({"date": ["2024-01-01"] * 2, "v": [1, 2]})
        with self.refused(AlignmentError, "2024-01-01 twice"):
            ul.match_dates(["2024-01-02"], twice)
        with self.refused(AlignmentError, "no column 'asset'"):
            ul.match_dates(pd.DataFrame({"date": ["2024-01-02"]}), twice, key="asset")


class Prices(Scratch):
    def test_suspect_days_are_named_and_warned_of(self):
        rng = np.random.default_rng(6)
        block = 50 * np.exp(np.cumsum(rng.normal(0, 0.02, (250, 4)), axis=0))
        block[100:, 0] /= 2  # a split left out
        block[60, 1] *= 10  # a tick
        block[70:, 2] *= 0.62  # a bad day of the market
        block[150:, 3] *= 0.2
        block[149, 3] = np.nan
        frame = pd.DataFrame(block, pd.bdate_range("2023-01-02", periods=250), list("ABCD"))
        prices = ul.SeriesTable.from_pandas(frame, measure="price")
        found = ul.flag_price_errors(prices).set_index("series")
        self.assertEqual(
            found["looks_like"].to_dict(), {"A": "a split of 2 to 1", "B": "a bad tick", "D": "a split of 5 to 1"}
        )
        self.assertEqual(found.loc["A", "date"], str(frame.index[100])[:10])
        with self.assertWarnsRegex(ul.DataWarning, "A, 2023-05-22.*1 more"):
            made = ul.returns(prices)
        self.assertIn("suspect_days 1", str(made["A"].metadata.trail[-1]))
        with self.refused(UnitError, "look like returns already"):
            ul.returns(daily(rng.normal(0, 0.01, 50), measure="price"))

    def test_prices_of_days_without_trade_are_masked_and_counted(self):
        days = pd.bdate_range("2024-01-01", periods=60)
        prices = pd.DataFrame({"A": np.arange(60.0) + 10, "B": 5.0}, days)
        traded = pd.DataFrame({"A": 100.0, "B": 50.0}, days)
        traded.iloc[[3, 4, 30], 0] = 0.0
        table = ul.SeriesTable.from_pandas(prices, measure="price", frequency="B")
        volume = ul.SeriesTable.from_pandas(traded, measure="flow", unit="count", frequency="B")
        got = ul.mask_untraded(table, volume).values
        np.testing.assert_array_equal(got.to_numpy(), prices.where(traded > 0).to_numpy())
        share = ul.zero_volume_share(table, volume)
        self.assertEqual(share.to_dict(), {"A": 3 / 60, "B": 0.0})

    def test_dividend_yield_with_a_split(self):
        days = pd.bdate_range("2022-01-03", "2024-01-03")
        close = pd.DataFrame({"A": np.where(days < pd.Timestamp("2023-09-01"), 40.0, 20.0)}, days)
        paid = pd.DataFrame({"asset": "A", "date": ["2023-03-01", "2023-10-02"], "amount": [1.0, 0.5]})
        split = pd.DataFrame({"asset": ["A"], "date": ["2023-09-01"], "ratio": [2.0]})
        got = ul.dividend_yield(ul.SeriesTable.from_pandas(close, measure="price"), paid, split).values["A"]
        self.assertTrue(np.isnan(got["2022-12-30"]))
        self.assertAlmostEqual(got["2023-06-30"], 1 / 40, 14)
        self.assertAlmostEqual(got["2023-12-29"], (1.0 / 2 + 0.5) / 20, 14)

    def test_simple_and_log_are_turned_and_never_mixed(self):
        x = returns()
        np.testing.assert_allclose(ul.to_simple(ul.to_log(x)).values, x.values, rtol=1e-13)
        with self.refused(UnitError, "no logarithm"):
            ul.to_log(series([-1.0], measure="return"))
        with self.refused(UnitError, "subtract with excess"):
            ul.to_log(x.with_metadata(excess_of="bill"))

    def test_months_that_end_on_another_day(self):
        days = pd.bdate_range("2024-01-01", "2024-06-28")
        x = ul.TimeSeries.from_pandas(
            pd.Series(np.arange(101.0, len(days) + 101), days), measure="price", unit="QML"
        )
        got = ul.returns(x, frequency="M-25").values
        want = [x.values[: f"2024-{m:02d}-25"].iloc[-1] for m in range(1, 7)]
        np.testing.assert_allclose(got, np.diff(want) / want[:-1], rtol=1e-14)
        self.assertEqual([str(p) for p in got.index], [f"2024-{m:02d}" for m in range(2, 7)])
