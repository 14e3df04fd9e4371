"""Lining up: what is kept, what is lost and why, and what is refused."""

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

import ultrum as ul
from tests.support import Scratch, months, series
from ultrum.errors import AlignmentError, ArgumentError, CurrencyError, UnitError

RNG = np.random.default_rng(3)


def returns(values, name="A", start="2010-01", **facts):
    return series(values, start, name=name, measure="return", **facts)


def parts(count=12):
    market = returns(RNG.normal(0.005, 0.04, count), "market", excess_of="bill")
    bill = returns(np.full(count, 0.002), "bill")
    return {"assets": returns(RNG.normal(0, 0.06, count)).as_table(), "factors": market, "risk_free": bill}


class Aligning(Scratch):
    def test_the_log_tells_every_missing_value_and_its_cause(self):
        values = RNG.normal(0, 0.05, 12)
        values[[0, 1, 5, 11]] = np.nan
        said = parts() | {"assets": returns(values).as_table()}
        said["factors"] = said["factors"].sample("2010-02")
        panel = ul.align(**said)
        self.assertEqual(len(panel.assets), 11)
        missing_log = {(str(r.period), r.series): r.cause for r in panel.missing_log.itertuples()}
        self.assertEqual(missing_log, {
            ("2010-01", "A"): "before its first value", ("2010-02", "A"): "before its first value",
            ("2010-06", "A"): "gap", ("2010-12", "A"): "after its last value",
            ("2010-01", "market"): "before its first value"})  # fmt: skip
        self.assertEqual(panel.coverage.loc["A", ["first", "last", "rows", "gaps"]].tolist(),
                         ["2010-03", "2010-11", 8, 1])  # fmt: skip
        self.assertEqual(len(ul.align(**said, rows="any").assets), 12)

    def test_stale_prices_reach_coverage_and_the_log(self):
        days = pd.bdate_range("2010-01-01", "2010-12-31")
        close = pd.Series(10.0 + np.arange(len(days)) / 100, days, name="A")
        close["2010-05-10":"2010-05-31"] = np.nan
        prices = ul.TimeSeries.from_pandas(close, measure="price").as_table()
        panel = ul.align(**parts() | {"assets": ul.returns(prices, frequency="M")})
        self.assertEqual(panel.coverage.loc["A", "stale"], 2)
        causes = panel.missing_log[panel.missing_log["cause"] == "stale price"]["period"].astype(str).tolist()
        self.assertEqual(causes, ["2010-05", "2010-06"])

    def test_sizes_that_are_accepted_are_accepted_for_conditions_too(self):
        rng = np.random.default_rng(4)
        days = pd.bdate_range("2010-01-01", "2012-12-31")
        wild = ul.TimeSeries.from_pandas(
            pd.Series(rng.normal(0, 1, len(days)), days), name="wild", measure="return"
        )
        noise = [series(v, name=n, measure="return", **f) for v, n, f in (
            (rng.normal(0, 0.05, 36), "A", {}), (rng.normal(0, 0.05, 36), "f", {"excess_of": "bill"}),
            ([0.002] * 36, "bill", {}))]  # fmt: skip
        panel = ul.align(assets=noise[0].as_table(), factors=noise[1], risk_free=noise[2], conditions=[wild],
                         known_by="P1D", check_units=False)  # fmt: skip
        by_month = (1 + wild.values).groupby(days.to_period("M")).prod() - 1
        # April is known in May.
        self.assertAlmostEqual(panel.conditions["wild"]["2010-05"], by_month["2010-03"], 9)

    def test_conditions_are_what_was_known_before(self):
        wages = series(np.arange(12.0), name="wages", measure="rate", timing="average")
        said = parts() | {"conditions": wages.as_table()}
        hindsight = ul.align(**said, known_by="hindsight").conditions["wages"]
        self.assertEqual(hindsight["2010-05"], 3.0)  # described April, is in May
        self.assertEqual(ul.align(**said, known_by="P2M").conditions["wages"]["2010-05"], 1.0)
        with self.refused(AlignmentError, "wages", "known_by"):
            ul.align(**said)

    def test_macro_factors_stand_where_they_were_released(self):
        macro = series(np.arange(12.0), name="surprise", measure="score")
        said = parts()
        said["factors"] = ul.SeriesTable.of([said["factors"], macro])
        panel = ul.align(**said, known_by={"surprise": "P1M"})
        self.assertEqual(panel.factors["surprise"]["2010-05"], 3.0)

    def test_daily_series_come_down_and_excess_compounds(self):
        days = pd.bdate_range("2010-01-01", "2010-12-31")
        f, rf = RNG.normal(0, 0.01, len(days)), np.full(len(days), 1e-4)
        bill = ul.TimeSeries.from_pandas(pd.Series(rf, days, name="bill"), measure="return")
        market = ul.TimeSeries.from_pandas(pd.Series(f, days, name="market"), measure="return", excess_of="bill")
        panel = ul.align(assets=parts()["assets"], factors=market, risk_free=bill)
        inside = days.to_period("M") == pd.Period("2010-03")
        want = np.prod(1 + f[inside] + rf[inside]) - np.prod(1 + rf[inside])
        self.assertAlmostEqual(panel.factors["market"]["2010-03"], want, 14)

    def test_a_gap_of_every_series_has_its_weekdays_in_the_log(self):
        days = pd.bdate_range("2024-01-01", "2024-06-28")
        days = days[(days < "2024-03-04") | (days > "2024-03-29")]
        rng = np.random.default_rng(4)

        def made(name, spread=0.01, **facts):
            values = pd.Series(rng.normal(0, spread, len(days)), days, name=name)
            return ul.TimeSeries.from_pandas(values, measure="return", frequency="B", **facts)

        panel = ul.align(assets=made("a").as_table(), factors=made("f", excess_of="bill"), risk_free=made("bill", 1e-5),
                         frequency="B", rows="any")  # fmt: skip
        gone = pd.bdate_range("2024-03-04", "2024-03-29")
        log = panel.missing_log
        self.assertEqual(
            log[log["series"] == "a"]["period"].astype(str).str[:10].tolist(), [str(d)[:10] for d in gone]
        )

    def test_excess_wide_long_and_sample(self):
        panel = ul.align(**parts())
        np.testing.assert_allclose(panel.excess.block[:, 0], panel.assets["A"] - 0.002)
        self.assertEqual(panel.wide().shape, (12, 3))
        self.assertEqual(list(panel.long().columns), ["period", "asset", "excess_return", "market"])
        self.assertEqual(len(panel.sample("2010-03", "2010-05").factors), 3)

    def test_the_fixes_for_plain_tables_of_returns_lead_to_the_right_beta(self):
        months, rng = pd.period_range("2005-01", periods=120, freq="M"), np.random.default_rng(2)
        factor = pd.Series(rng.normal(0.006, 0.04, 120), months, name="market")
        stock = pd.Series(0.9 * factor + rng.normal(0, 0.02, 120) + 0.002, months, name="A")
        right = np.polyfit(factor, stock - 0.002, 1)[0]
        rate = pd.Series(0.002, months, name="bill")
        options, followed = {}, []
        for _ in range(4):
            try:
                panel = ul.align(assets=stock, factors=factor.to_frame(), risk_free=rate, **options)
            except ul.UltrumError as error:
                name, values = next(iter(error.recommended.items()))
                options[name] = values[0]
                followed.append(name)
        self.assertEqual(followed, ["measure", "excess_of"])
        self.assertAlmostEqual(ul.factor_betas(panel).coefficients.loc["A", "market"], right, 10)
        headed = ul.align(assets=stock, factors=factor.rename("Mkt-RF"), risk_free=rate, measure="return")
        self.assertEqual(headed.metadata["Mkt-RF"].excess_of, "bill")
        with self.assertWarnsRegex(ul.DataWarning, "market: the measure is not declared"):
            ul.align(assets=stock, factors=factor, risk_free=rate, known_by="P1M")
        text = "month;Mkt-RF;SMB;RF\n" + "".join(f"{m};0.01;{k / 1000};0.002\n" for k, m in enumerate(months))
        series = ul.read_series(text, measure="return").series
        self.assertEqual([s.metadata.excess_of for s in series.values()], ["RF", "", ""])

    def test_what_is_stated_for_a_panel_holds_for_what_is_made_of_it(self):
        months, rng = pd.period_range("2010-01", periods=60, freq="M"), np.random.default_rng(3)
        factor = pd.Series(rng.normal(0, 0.9, 60), months, name="f")
        wild = pd.Series(2 * factor + rng.normal(0, 0.5, 60), months, name="a")
        given = {"assets": wild, "factors": factor, "risk_free": 0.0, "measure": "return", "excess_of": "bill"}
        with self.assertRaises(UnitError) as caught:
            ul.align(**given)
        fix = {n: v[0] for n, v in caught.exception.recommended.items() if n == "check_units"}
        panel = ul.align(**given, **fix)
        right = np.polyfit(factor, wild, 1)[0]
        self.assertAlmostEqual(ul.factor_betas(panel).coefficients.loc["a", "f"], right, 10)
        ul.rolling_regress(panel.excess, panel.factor_table, window=24)
        with self.assertRaisesRegex(UnitError, "excess_of='zero cost' is not used"):
            declared = ul.TimeSeries.from_pandas(factor / 20, measure="return", excess_of="bill")
            ul.align(
                **given | {"assets": wild / 20, "factors": declared, "excess_of": "zero cost", "measure": None}
            )
        late = returns(rng.normal(0, 0.03, 12), "late").with_metadata(hindsight="filled backwards")
        for role, one in (("assets", late.as_table()), ("risk_free", returns(np.full(12, 0.002), "late").with_metadata(
                hindsight="filled backwards"))):  # fmt: skip
            with (
                self.subTest(role),
                self.assertRaisesRegex(AlignmentError, "late has look-ahead bias: filled backwards"),
            ):
                ul.align(**parts() | {role: one})
        ul.align(**parts() | {"assets": late.as_table(), "known_by": {"late": "hindsight"}})

    def test_refusals(self):
        said = parts()
        percent = returns(100 * RNG.normal(0, 0.04, 12), "market", excess_of="bill")
        with self.refused(UnitError, "market", "units='percent'", "% per month"):
            ul.align(**said | {"factors": percent})
        with self.refused(UnitError, "risk-free", "percent"):
            ul.align(**said | {"risk_free": returns(np.full(12, 0.25), "bill")})
        with self.refused(UnitError, "not an excess return", "zero cost"):
            ul.align(**said | {"factors": said["factors"].with_metadata(excess_of="")})
        with self.refused(UnitError, "total"):
            ul.align(**said | {"assets": said["assets"].with_metadata(excess_of="bill")})
        with self.refused(UnitError, "yield_to_return"):
            ul.align(**said | {"risk_free": series([0.03] * 12, measure="rate", timing="end")})
        with self.refused(CurrencyError, "QML", "QSR"):
            ul.align(**said | {"assets": said["assets"].with_metadata(currency="QML"),
                               "risk_free": said["risk_free"].with_metadata(currency="QSR")})  # fmt: skip
        far = returns(np.full(3, 0.01), "market", "2020-01", excess_of="bill")
        with self.refused(AlignmentError, "2020-01", "2010-01"):
            ul.align(**said | {"factors": far})

    def test_a_span_outside_is_refused(self):
        with self.refused(AlignmentError, "2010-01 to 2010-12", "2030-01"):
            ul.align(**parts()).sample("2030-01", "2031-01")
        with self.refused(AlignmentError, "before it starts"):
            ul.align(**parts(), start="2010-06", end="2010-03")
        self.assertEqual(len(ul.align(**parts(), start="2010-03", end="2010-06").assets), 4)
        with self.refused(ArgumentError, "rows='some'"):
            ul.align(**parts(), rows="some")

    def test_plain_pandas_is_taken_for_returns(self):
        frame = pd.DataFrame({"A": RNG.normal(0, 0.05, 12)}, months(12))
        said = parts() | {"assets": frame}
        self.assertEqual(ul.align(**said).assets.shape, (12, 1))


class KnownThen(Scratch):
    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 10**6), st.sampled_from(["M", "Q"]))
    def test_no_value_enters_before_its_release(self, seed, frequency):
        rng = np.random.default_rng(seed)
        said = parts(36)
        count = 36 if frequency == "M" else 12
        wages = series(np.arange(1.0, count + 1), freq=frequency, name="wages", measure="rate", timing="average")
        ends = wages.index.to_timestamp(how="end").normalize()
        released = pd.Series(ends + pd.to_timedelta(rng.integers(0, 80, count), "D"), wages.index)
        row = ul.align(**said, conditions=wages, known_by=released, rows="any").conditions["wages"]
        for period, value in row.dropna().items():
            before = period.start_time
            known = wages.values[(released < before).to_numpy()]
            self.assertEqual(value, known.max(), period)  # values grow with time: the latest period known
        first = row.first_valid_index()
        self.assertIsNotNone(first)

    def test_vintages_give_first_releases_and_then_revisions(self):
        vintages = pd.DataFrame({
            "period": ["2010-01", "2010-01", "2010-02", "2010-03", "2010-02"],
            "released": ["2010-02-20", "2010-04-10", "2010-03-20", "2010-05-03", "2010-05-20"],
            "value": [1.0, 1.5, 2.0, 3.0, 2.5],
        })  # fmt: skip
        final = series([1.5, 2.5, 3.0], name="output", measure="rate", timing="average")
        panel = ul.align(**parts(), conditions=final, known_by=vintages, rows="any")
        self.assertEqual(panel.conditions["output"]["2010-03":"2010-06"].tolist(), [1.0, 2.0, 2.0, 3.0])
        factor = final.with_metadata(name="output", measure="score")
        said = parts()
        said["factors"] = ul.SeriesTable.of([said["factors"], factor.with_metadata(unit="decimal")])
        got = ul.align(**said, known_by={"output": vintages}, rows="any").factors["output"]
        self.assertEqual(got["2010-02":"2010-05"].tolist()[:2], [1.0, 2.0])
        self.assertTrue(np.isnan(got["2010-04"]))
        self.assertEqual(got["2010-05"], 3.0)

    def test_a_quarterly_condition_is_carried_counted_and_grows_stale(self):
        output = series([1.0, 2.0], freq="Q", name="output", measure="rate", timing="average")
        panel = ul.align(**parts(24), conditions=[output], known_by="P1M", rows="any")
        got = panel.conditions["output"]
        self.assertEqual(got["2010-05":"2010-10"].tolist(), [1, 1, 1, 2, 2, 2])
        self.assertTrue(got["2011-06":].isna().all())
        self.assertGreater(panel.coverage.loc["output", "filled"], 3)

    def test_what_each_series_costs(self):
        said = parts(12)
        late = series(np.arange(9.0), start="2010-04", name="late", measure="rate", timing="average")
        panel = ul.align(**said, conditions=late, known_by="hindsight")
        self.assertEqual(panel.coverage.loc["late", "costs"], 4)
        self.assertEqual(panel.coverage.loc["market", "costs"], 0)
        self.assertEqual(len(panel.assets) + panel.coverage["costs"].sum(), 12)

    def test_assets_in_another_currency_and_income_that_differs(self):
        days = pd.bdate_range("2009-12-01", "2011-01-03")
        quote = ul.TimeSeries.from_pandas(
            pd.Series(np.linspace(2, 3, len(days)), days), measure="quote", unit="QSR/QML", name="q"
        )
        said = parts()
        abroad = said["assets"].with_metadata(currency="QSR")
        with self.refused(CurrencyError, "ExchangeRates"):
            ul.align(**said | {"assets": abroad}, currency="QML")
        panel = ul.align(**said | {"assets": abroad}, currency="QML", rates=ul.ExchangeRates([quote]))
        moved = quote.values["2010-03-31"] / quote.values["2010-02-26"]
        self.assertAlmostEqual(panel.assets["A"]["2010-03"], (1 + abroad.values["A"]["2010-03"]) * moved - 1, 14)
        both = ul.SeriesTable.of(
            [returns(RNG.normal(0, 0.05, 12), n, income=i) for n, i in (("a", "total"), ("b", "price"))]
        )
        self.assertIn("b are price returns", ul.align(**said | {"assets": both}).warnings[0])

    def test_prices_said_to_be_returns(self):
        frame = pd.DataFrame({"A": RNG.uniform(40, 60, 12)}, months(12))
        with self.refused(UnitError, "look like prices"):
            ul.align(**parts() | {"assets": frame})

    def test_a_panel_of_everything_as_a_slow_loop_builds_it(self):
        world, rng = ul.practice.panel(), np.random.default_rng(4)
        firms = list(world.assets)

        def condition(name, count, freq):
            return series(
                rng.normal(size=count), "2004-01", freq=freq, name=name, measure="rate", timing="average"
            )

        conditions = [condition(n, c, f) for n, c, f in (("pay", 252, "M"), ("output", 84, "Q"), ("slow", 21, "Y"), ("fast", 252, "M"),
                                                         ("dated", 252, "M"), ("revised", 84, "Q"))]  # fmt: skip
        ends = {c.name: c.index.to_timestamp(how="end").normalize() for c in conditions}
        dates = pd.Series(ends["dated"] + pd.to_timedelta(rng.integers(5, 70, 252), "D"), conditions[4].index)
        first = pd.DataFrame(
            {
                "period": conditions[5].index,
                "released": ends["revised"] + pd.Timedelta(40, "D"),
                "value": conditions[5].values.to_numpy(),
            }
        )
        later = first.assign(released=first["released"] + pd.Timedelta(50, "D"), value=first["value"] + 1)
        vintages = pd.concat([first, later])
        known_by = {
            "pay": "P2M",
            "output": "P45D",
            "slow": "P1M",
            "fast": "hindsight",
            "dated": dates,
            "revised": vintages,
        }
        day = pd.Timedelta(1, "D")
        releases = {  # what was known, when: (day, period, value)
            "pay": zip(ends["pay"] + day + pd.DateOffset(months=2) - day, ends["pay"], conditions[0].values, strict=True),
            "output": zip(ends["output"] + pd.Timedelta(45, "D"), ends["output"], conditions[1].values, strict=True),
            "slow": zip(ends["slow"] + day + pd.DateOffset(months=1) - day, ends["slow"], conditions[2].values, strict=True),
            "fast": zip(ends["fast"], ends["fast"], conditions[3].values, strict=True),
            "dated": zip(dates, ends["dated"], conditions[4].values, strict=True),
            "revised": zip(vintages["released"], vintages["period"].dt.end_time, vintages["value"], strict=True),
        }  # fmt: skip
        releases = {name: sorted(rows) for name, rows in releases.items()}
        days = pd.bdate_range("2003-12-01", "2025-01-03")
        quote = ul.TimeSeries.from_pandas(
            pd.Series(2 + rng.random(len(days)), days), measure="quote", unit="QSR/QML", name="q"
        )
        abroad = ul.TimeSeries(
            world.assets["EBMK"].rename("FAR"), world.metadata["EBMK"].replace(name="FAR", currency="QSR")
        )
        assets = ul.SeriesTable.of([*(ul.TimeSeries(world.assets[n], world.metadata[n]) for n in firms), abroad])
        panel = ul.align(assets=assets, factors=world.factor_table, risk_free=world.rate, conditions=conditions, known_by=known_by,
                         currency="QML", rates=ul.ExchangeRates([quote]))  # fmt: skip
        self.assertEqual((panel.assets.shape[1], panel.factors.shape[1], panel.conditions.shape[1]), (24, 4, 6))
        lost = []
        for period in world.assets.index:
            row = {}
            for name, rows in releases.items():
                known = [(p, d, v) for d, p, v in rows if d < period.start_time]
                if known:
                    row[name] = max(known)[2]
            if len(row) < 6:
                lost.append(period)
                self.assertNotIn(period, panel.assets.index)
                continue
            self.assertEqual(panel.conditions.loc[period].to_dict(), row, period)
            ratio = quote.values[: period.end_time].iloc[-1] / quote.values[: (period - 1).end_time].iloc[-1]
            self.assertAlmostEqual(
                panel.assets.loc[period, "FAR"], (1 + world.assets.loc[period, "EBMK"]) * ratio - 1, 13
            )
        self.assertEqual(len(panel.assets), len(world.assets) - len(lost))
        missing = panel.missing_log.groupby("series", observed=True).size()
        holes = world.assets.isna().sum()
        self.assertEqual(
            {k: int(v) for k, v in missing.items() if k in firms}, {k: int(v) for k, v in holes.items() if v}
        )
        needed = panel.missing_log[panel.missing_log["series"].astype(str).isin(releases)]
        self.assertEqual(set(needed["period"]), set(lost))
