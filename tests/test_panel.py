"""Lining up: what is kept, what is lost and why, and what is refused."""

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import Scratch, months, series
from ultrum.errors import AlignmentError, CurrencyError, UnitError

RNG = np.random.default_rng(3)


def returns(values, name="A", start="2010-01", **facts):
    return series(values, start, name=name, measure="return", **facts)


def parts(count=12):
    market = returns(RNG.normal(0.005, 0.04, count), "market", excess_of="bill")
    bill = returns(np.full(count, 0.002), "bill")
    return {
        "assets": returns(RNG.normal(0, 0.06, count)).as_table(),
        "factors": market,
        "risk_free": bill,
    }


class Aligning(Scratch):
    def test_ledger_tells_every_missing_value_and_its_cause(self):
        values = RNG.normal(0, 0.05, 12)
        values[[0, 1, 5, 11]] = np.nan
        said = parts() | {"assets": returns(values).as_table()}
        said["factors"] = said["factors"].sample("2010-02")
        panel = ul.align(**said)
        self.assertEqual(len(panel.assets), 11)
        ledger = {(str(r.period), r.series): r.cause for r in panel.ledger.itertuples()}
        self.assertEqual(ledger, {
            ("2010-01", "A"): "before its first value", ("2010-02", "A"): "before its first value",
            ("2010-06", "A"): "gap", ("2010-12", "A"): "after its last value",
            ("2010-01", "market"): "before its first value"})  # fmt: skip
        self.assertEqual(panel.coverage.loc["A", ["first", "last", "rows", "gaps"]].tolist(),
                         ["2010-03", "2010-11", 8, 1])  # fmt: skip
        self.assertEqual(len(ul.align(**said, rows="any").assets), 12)

    def test_stale_prices_reach_coverage_and_ledger(self):
        days = pd.bdate_range("2010-01-01", "2010-12-31")
        close = pd.Series(10.0 + np.arange(len(days)) / 100, days, name="A")
        close["2010-05-10":"2010-05-31"] = np.nan
        prices = ul.TimeSeries.wrap(close, measure="price").as_table()
        panel = ul.align(**parts() | {"assets": ul.returns(prices, frequency="M")})
        self.assertEqual(panel.coverage.loc["A", "stale"], 2)
        causes = panel.ledger[panel.ledger["cause"] == "stale price"]["period"].astype(str).tolist()
        self.assertEqual(causes, ["2010-05", "2010-06"])

    def test_conditions_are_what_was_known_before(self):
        wages = series(np.arange(12.0), name="wages", measure="rate", timing="average")
        said = parts() | {"conditions": wages.as_table()}
        hindsight = ul.align(**said, known_by="hindsight").conditions["wages"]
        self.assertEqual(hindsight["2010-05"], 3.0)  # described April, stands in May
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
        bill = ul.TimeSeries.wrap(pd.Series(rf, days, name="bill"), measure="return")
        market = ul.TimeSeries.wrap(
            pd.Series(f, days, name="market"), measure="return", excess_of="bill"
        )
        panel = ul.align(assets=parts()["assets"], factors=market, risk_free=bill)
        inside = days.to_period("M") == pd.Period("2010-03")
        want = np.prod(1 + f[inside] + rf[inside]) - np.prod(1 + rf[inside])
        self.assertAlmostEqual(panel.factors["market"]["2010-03"], want, 14)

    def test_excess_wide_long_and_sample(self):
        panel = ul.align(**parts())
        np.testing.assert_allclose(panel.excess.block[:, 0], panel.assets["A"] - 0.002)
        self.assertEqual(panel.wide().shape, (12, 3))
        self.assertEqual(list(panel.long().columns), ["period", "asset", "excess_return", "market"])
        self.assertEqual(len(panel.sample("2010-03", "2010-05").factors), 3)

    def test_refusals(self):
        said = parts()
        percent = returns(100 * RNG.normal(0, 0.04, 12), "market", excess_of="bill")
        with self.refused(UnitError, "market", "units='percent'", "% a period"):
            ul.align(**said | {"factors": percent})
        with self.refused(UnitError, "risk-free", "percent"):
            ul.align(**said | {"risk_free": returns(np.full(12, 0.25), "bill")})
        with self.refused(UnitError, "not in excess", "zero cost"):
            ul.align(**said | {"factors": said["factors"].described(excess_of="")})
        with self.refused(UnitError, "total"):
            ul.align(**said | {"assets": said["assets"].described(excess_of="bill")})
        with self.refused(UnitError, "per_period"):
            ul.align(**said | {"risk_free": series([0.03] * 12, measure="rate", timing="end")})
        with self.refused(CurrencyError, "QML", "QSR"):
            ul.align(**said | {"assets": said["assets"].described(currency="QML"),
                               "risk_free": said["risk_free"].described(currency="QSR")})  # fmt: skip
        far = returns(np.full(3, 0.01), "market", "2020-01", excess_of="bill")
        with self.refused(AlignmentError, "2020-01", "2010-01"):
            ul.align(**said | {"factors": far})

    def test_a_span_outside_is_refused(self):
        with self.refused(AlignmentError, "2010-01 to 2010-12", "2030-01"):
            ul.align(**parts()).sample("2030-01", "2031-01")
        with self.refused(AlignmentError, "before it starts"):
            ul.align(**parts(), start="2010-06", end="2010-03")
        self.assertEqual(len(ul.align(**parts(), start="2010-03", end="2010-06").assets), 4)
        with self.refused(AlignmentError, "rows='some'"):
            ul.align(**parts(), rows="some")

    def test_plain_pandas_is_taken_for_returns(self):
        frame = pd.DataFrame({"A": RNG.normal(0, 0.05, 12)}, months(12))
        said = parts() | {"assets": frame}
        self.assertEqual(ul.align(**said).assets.shape, (12, 1))
