"""The practice world: what is shipped is what the seed gives, and it looks like markets."""

import json
import unittest

import numpy as np
import pandas as pd

import ultrum as ul
from tools import write_practice_files
from ultrum.practice import simulated_world as setting
from ultrum.practice import statistics_service
from ultrum.practice.simulated_world import simulate, trading_days


def kurtosis(x):
    return np.mean((x - x.mean()) ** 4) / np.var(x) ** 2


def memory(x, lag):
    return np.corrcoef(x[lag:], x[:-lag])[0, 1]


class Shipped(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.world = simulate()

    def test_bars_come_from_the_seed(self):
        made, shipped = write_practice_files.daily_bars(self.world), statistics_service.bars()
        self.assertEqual(len(made), len(shipped))
        for column in ("close", "high", "volume"):
            apart = np.abs(made[column].to_numpy() - shipped[column].to_numpy())
            self.assertLessEqual(apart.max(), 100 if column == "volume" else 0.0101, column)
            self.assertGreater((apart < 1e-9).mean(), 0.9999, column)

    def test_statistics_and_factors_come_from_the_seed(self):
        made, shipped = write_practice_files.published_observations(self.world), statistics_service.observations()
        self.assertEqual(made["key"].tolist(), shipped["key"].tolist())
        np.testing.assert_allclose(made["value"], shipped["value"], rtol=1e-5, atol=0.1001)
        self.assertEqual(made["status"].tolist(), shipped["status"].tolist())
        for name, content in write_practice_files.files(self.world).items():
            self.assertEqual((statistics_service.DATA / name).read_bytes(), content, name)

    def test_other_seeds_give_other_worlds_with_the_same_truth(self):
        other = simulate(7)
        self.assertFalse(np.allclose(other.factors, self.world.factors))
        worlds = [simulate(seed) for seed in range(100, 140)]
        monthly = np.concatenate([w.monthly_factors for w in worlds])
        np.testing.assert_allclose(12 * monthly.mean(axis=0), setting.PREMIA, atol=0.016)
        np.testing.assert_allclose(monthly.std(axis=0) * 12**0.5, setting.VOLATILITIES, rtol=0.06)
        self.assertLess(np.abs(np.corrcoef(monthly.T) - setting.CORRELATIONS).max(), 0.06)


class LooksLikeMarkets(unittest.TestCase):
    def test_tails_are_fat_and_volatility_clusters(self):
        world = simulate()
        market = world.factors[:, 0]
        self.assertGreater(kurtosis(market), 4.5)
        self.assertGreater(memory(np.abs(market), 20), 0.1)
        self.assertLess(abs(memory(market, 1)), 0.05)
        own = world.total[:, setting.CODES.index("BRTW")]
        self.assertGreater(kurtosis(own), 4)
        self.assertGreater(memory(np.abs(own), 20), 0.05)
        wealth = np.cumprod(1 + market + world.daily_bill)
        self.assertTrue(-0.65 < (wealth / np.maximum.accumulate(wealth) - 1).min() < -0.3)

    def test_bars_are_possible(self):
        bars = statistics_service.bars()
        self.assertTrue((bars["high"] >= bars[["open", "close"]].max(axis=1)).all())
        self.assertTrue((bars["low"] <= bars[["open", "close"]].min(axis=1)).all())
        self.assertTrue((bars["low"] > 0).all())
        self.assertTrue(bars["date"].isin(pd.DatetimeIndex(trading_days())).all())

    def test_every_awkwardness_is_there(self):
        bars = statistics_service.bars()
        spans = bars.groupby("asset", observed=True)["date"].agg(["min", "max"])
        self.assertEqual((spans["min"] > "2004-01-02").sum(), 2)
        self.assertEqual(spans.index[spans["max"] < "2024-12-31"].tolist(), ["ORSL"])
        idle = bars[bars["asset"] == "NTSH"]["volume"] == 0
        self.assertTrue(0.1 < idle.mean() < 0.3)
        self.assertEqual(bars[bars["currency"] != "QML"]["asset"].unique().tolist(), ["SNST"])
        split = bars[bars["asset"] == "LTSM"].set_index("date")["close"].pct_change()
        self.assertLess(split["2014-05-19"], -0.6)
        self.assertEqual(statistics_service.table("dividends")["kind"].value_counts()["special"], 1)
        self.assertEqual(
            set(pd.to_datetime(statistics_service.table("accounts")["date"]).dt.strftime("%m-%d")), {"01-01"}
        )
        self.assertIn("QLX-ALL-TR", statistics_service.table("indices").columns)
        observed = statistics_service.observations().pivot(index="period", columns="key", values="value")
        slope = observed["M.QM.GOV_10Y"] - observed["M.QM.GOV_3M"]
        below = (slope.dropna().rolling(6).mean() < 0).astype(int)
        self.assertEqual(int((below.diff() == 1).sum()), 2)
        self.assertEqual(observed["M.QM.GOV_20Y"].first_valid_index(), "2008-06")
        around = observed["B.QSR.QML"] * observed["B.QML.QTV"] * observed["B.QTV.QSR"]
        self.assertLess((around.dropna() - 1).abs().max(), 2e-3)

    def test_releases_end_in_the_published_value_and_know_their_days(self):
        releases = statistics_service.vintages()
        last = releases.sort_values("release").groupby(["key", "period"])["value"].last()
        own = statistics_service.observations().query("flow == 'OUTPUT'").set_index(["key", "period"])["value"]
        np.testing.assert_allclose(last, own.reindex(last.index))
        first = releases[releases["release"] == 1].set_index(["key", "period"])
        error = np.log(first["value"] / own.reindex(first.index))
        self.assertTrue(0.003 < error.std() < 0.012)
        self.assertTrue((pd.to_datetime(first["released"]) > "2004-03-01").all())

    def test_the_map_has_every_region_and_no_gaps(self):
        for level, count in (("provinces", 12), ("districts", 60)):
            features = json.loads((statistics_service.DATA / "council" / f"{level}.geojson").read_bytes())[
                "features"
            ]
            self.assertEqual(len({f["properties"]["code"] for f in features}), count)
            for feature in features:
                (ring,) = feature["geometry"]["coordinates"]
                self.assertEqual(ring[0], ring[-1])
                x, y = np.transpose(ring)
                self.assertGreater(np.sum(x[:-1] * y[1:] - x[1:] * y[:-1]), 0, "counter-clockwise")

    def test_truth_tells_the_one_factor_betas(self):
        truth = ul.practice.truth()
        world = [simulate(seed) for seed in range(200, 230)]
        f = np.concatenate([w.factors for w in world])
        r = np.concatenate([w.total - w.daily_bill[:, None] for w in world])
        apart = (f[:, :1] * (r - r.mean(0))).mean(0) / f[:, 0].var() - truth.one_factor
        self.assertLess(apart[list(truth.regular)].abs().max(), 0.03)
