"""Data on disk: the same numbers as in memory, whoever works, within the memory allowed."""

import contextlib
import os
import subprocess
import sys
import time
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from functools import partial

import fsspec
import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
from distributed import Client, LocalCluster

import ultrum as ul
from benchmarks import market
from tests.support import Scratch
from ultrum.core.executors import each_block
from ultrum.errors import DataWarning, EstimationError, TableError, UltrumError

DAYS = pd.bdate_range("2012-01-02", "2016-12-30")


def prices(assets=600, seed=4):
    """Daily prices of assets that come and go, with a few holes, one split left out and one bad tick."""
    rng = np.random.default_rng(seed)
    market = rng.normal(0.0004, 0.01, len(DAYS))
    moves = market[:, None] * rng.normal(1, 0.3, assets) + rng.normal(0, 0.01, (len(DAYS), assets))
    close = 20 * np.exp(np.cumsum(moves, axis=0))
    rows = np.arange(len(DAYS))[:, None]
    born, died = rng.integers(0, 500, assets), rng.integers(700, len(DAYS) + 200, assets)
    close[(rows < born) | (rows > died)] = np.nan
    close[rng.random(close.shape) < 0.01] = np.nan
    close[600:, 3] /= 2
    names = [f"S{i:04d}" for i in range(assets)]
    facts = {"measure": "price", "currency": "QML"}
    table = ul.SeriesTable.from_pandas(pd.DataFrame(close, DAYS, names), **facts)
    return table, pd.Series(market, DAYS)


def parts():
    table, market = prices()
    months = pd.period_range("2012-01", "2016-12", freq="M")
    facts = {"measure": "return", "excess_of": "bill", "currency": "QML"}
    bill = ul.TimeSeries.from_pandas(pd.Series(0.001, months), name="bill", measure="return", currency="QML")
    F = ul.TimeSeries.from_pandas(
        np.exp(market.groupby(market.index.to_period("M")).sum()) - 1, name="market", **facts
    )
    size = F.to_pandas() * 0.3 + np.random.default_rng(1).normal(0, 0.02, len(F))
    size = ul.TimeSeries.from_pandas(size, name="size", **facts)
    events = {
        "dividends": pd.DataFrame({"asset": ["S0001", "S0590"], "date": "2013-05-06", "amount": [1.0, 0.5]}),
        "splits": pd.DataFrame({"asset": ["S0300"], "date": ["2013-09-02"], "ratio": [3.0]}),
    }  # fmt: skip
    return table, [F, size], bill, events


class Large(Scratch):
    def setUp(self):
        super().setUp()
        self.table, self.factors, self.bill, self.events = parts()
        self.prices = ul.LongTable.write(self.table, self.path("prices.parquet"), "close")

    def path(self, name):
        return self.folder / name

    def on_disk(self, **said):
        with self.assertWarnsRegex(DataWarning, "S0003.*a split of 2 to 1"):
            made = ul.returns(self.prices, frequency="M", **self.events, to=self.path("returns.parquet"))
        return ul.align(assets=made, factors=self.factors, risk_free=self.bill, to=self.path("panel"), **said)

    def in_memory(self, **said):
        with self.assertWarns(DataWarning):
            made = ul.returns(self.table, frequency="M", **self.events)
        return ul.align(assets=made, factors=self.factors, risk_free=self.bill, **said)

    def test_prices_to_premia_as_in_memory(self):
        disk, panel = self.on_disk(), self.in_memory()
        pd.testing.assert_frame_equal(disk.read(panel.asset_names).assets, panel.assets, check_freq=False)
        pd.testing.assert_frame_equal(disk.coverage.drop(columns="stale"), panel.coverage.drop(columns="stale"))
        missing_log = pd.read_parquet(disk.missing_log)
        missing = panel.missing_log[panel.missing_log["series"].str.startswith("S")]
        self.assertEqual(len(missing_log), len(missing))
        for errors in ("hac", "hc3"):
            got, want = (ul.factor_betas(p, errors=errors) for p in (disk, panel))
            pd.testing.assert_frame_equal(got.to_frame(), want.to_frame(), rtol=1e-9)
            self.assertEqual(repr(got.fit("S0301")), repr(want.fit("S0301")))
        for said in ({}, {"beta_sample": "rolling", "window": 24}, {"factors": ["market"], "constant": False}):
            got, want = ul.two_pass(disk, **said), ul.two_pass(panel, **said, draws=20)
            np.testing.assert_allclose(got.premia, want.premia, rtol=1e-9)
            np.testing.assert_allclose(got.errors["newey_west"], want.errors["newey_west"], rtol=1e-9)
            pd.testing.assert_frame_equal(got.pricing, want.pricing, rtol=1e-8, check_dtype=False)
        self.assertIn("estimation error in the betas ignored", ul.two_pass(disk).basis)
        self.assertEqual(ul.two_pass(disk, errors="fama_macbeth").kind, "fama_macbeth")
        for asked in ({"errors": "misspecification"}, {"weighting": "gls"}):
            with self.assertRaisesRegex(EstimationError, "panel in memory"):
                ul.two_pass(disk, **asked)

    def test_daily_returns_lined_up_by_month_with_conditions(self):
        table, _ = prices(300, seed=9)
        daily = ul.returns(table, check=False)
        disk = ul.LongTable.write(daily, self.path("d.parquet"))
        months = pd.period_range("2011-06", "2016-12", freq="M")
        spread = ul.TimeSeries.from_pandas(
            pd.Series(np.sin(np.arange(len(months))), months), name="spread", measure="rate", timing="average"
        )
        said = {"factors": self.factors, "risk_free": self.bill, "conditions": spread, "known_by": "P1M", "rows": "any",
                "start": "2012-06", "end": "2016-06"}  # fmt: skip
        got, want = ul.align(assets=disk, to=self.path("p"), **said), ul.align(assets=daily, **said)
        pd.testing.assert_frame_equal(got.conditions, want.conditions)
        pd.testing.assert_frame_equal(
            got.read(want.asset_names).assets, want.assets, check_freq=False, rtol=1e-12
        )
        own = want.coverage.loc[want.asset_names]
        pd.testing.assert_frame_equal(got.coverage.loc[want.asset_names], own)
        with self.refused(UltrumError, "set their publication lag"):
            ul.align(assets=disk, to=self.path("p"), **{**said, "known_by": None})

    def test_dividends_that_find_no_price_are_told(self):
        late = pd.DataFrame(
            {"asset": ["S0001", "S0599"], "date": ["1999-01-04", "2031-01-06"], "amount": [1.0, 1.0]}
        )
        with self.assertWarnsRegex(DataWarning, "not used: 2, of 2 assets, S0001 among them"):
            ul.returns(self.prices, dividends=late, check=False, to=self.path("r.parquet"))

    def daily(self):
        """Daily returns on disk, and a daily factor."""
        table, factor = prices()
        daily = ul.returns(table, check=False)
        disk = ul.LongTable.write(daily, self.path("daily.parquet"))
        return daily, disk, factor.rename("market").drop(factor.index[[70, 400, 900]])

    def test_rolling_windows_are_those_in_memory(self):
        daily, disk, factor = self.daily()
        for errors in ("classical", "hac"):
            said = {"window": 120, "step": "M", "errors": errors}
            got = ul.rolling_regress(disk, factor, **said, to=self.path("betas.parquet"))
            want = ul.rolling_regress(daily, factor, **said).to_frame().reset_index()
            want = want[want["rows"] > 0].sort_values(["asset", "end"], ignore_index=True)
            frame = got.to_frame()
            self.assertEqual(frame["status"].astype(str).tolist(), want["status"].astype(str).tolist())
            for column in ("constant", "market", "market_error", "rows", "sigma", "r2"):
                np.testing.assert_allclose(frame[column], want[column], rtol=1e-9, atol=1e-15)
        self.assertEqual((got.value, got.frequency), ("market", "M"))
        self.assertEqual(len(got.column("r2").read(["S0001"]).index), len(got.calendar))

    def test_every_executor_gives_the_same_bits(self):
        _, disk, factor = self.daily()
        found = []
        with ThreadPoolExecutor(1) as one, ProcessPoolExecutor(2) as processes:
            for number, executor in enumerate((None, one, processes)):
                path = self.path(f"{number}.parquet")
                ul.rolling_regress(disk, factor, window=60, step=5, errors="hac", to=path, executor=executor)
                found.append(path.read_bytes())
        self.assertEqual([f == found[0] for f in found], [True] * 3)

    def test_addresses_of_other_filesystems_are_read_and_written(self):
        options = {"frequency": "M", **self.events, "check": False}
        here = ul.returns(self.prices, **options, to=self.path("here.parquet"))
        far = ul.returns(ul.LongTable.write(self.table, "memory://market/prices.parquet", "close"), **options,
                         to="memory://market/monthly.parquet")  # fmt: skip
        stored = fsspec.filesystem("memory")
        self.assertEqual(stored.cat("/market/monthly.parquet"), self.path("here.parquet").read_bytes())
        self.assertEqual([p for p in stored.find("/market") if "arriving" in p], [])
        panels = [ul.align(assets=table, factors=self.factors, risk_free=self.bill, to=to)
                  for table, to in ((here, self.path("panel")), (far, "memory://market/panel"))]  # fmt: skip
        self.assertEqual(*(ul.factor_betas(panel).to_frame().to_csv() for panel in panels))
        self.assertEqual(ul.LongTable(self.path("prices.parquet").as_uri()).rows, self.prices.rows)
        sorted_again = ul.LongTable.sort("memory://market/prices.parquet", "memory://market/sorted.parquet")
        self.assertEqual((sorted_again.rows, sorted_again.assets), (self.prices.rows, self.prices.assets))
        for absent in ("memory://market/none.parquet", "nosuch://market/prices.parquet"):
            with self.assertRaisesRegex(TableError, absent):
                ul.LongTable(absent)

    def test_a_whole_panel_is_the_same_bits_by_processes(self):
        made = []
        with ProcessPoolExecutor(2) as processes:
            for executor in (None, processes):
                name = type(executor).__name__
                table = ul.LongTable(self.path("prices.parquet"), executor=executor)
                monthly = ul.returns(
                    table, frequency="M", **self.events, check=False, to=self.path(f"{name}.parquet")
                )
                panel = ul.align(assets=monthly, factors=self.factors, risk_free=self.bill, to=self.path(name))
                premia = ul.two_pass(panel, beta_sample="rolling", window=24)
                self.assertIs(panel.excess.executor, executor)
                made.append([self.path(f"{name}.parquet").read_bytes(), panel.missing_log.read_bytes(),
                             ul.factor_betas(panel).to_frame().to_csv(), premia.to_frame().to_csv()])  # fmt: skip
        self.assertEqual(*made)

    def test_a_block_whose_worker_dies_is_done_again(self):
        mark, told = self.path("died.txt"), []
        with ProcessPoolExecutor(2) as workers:
            job = partial(squared_once_alive, mark)
            self.assertEqual(list(each_block(job, range(9), workers, 3, told.append)), [n * n for n in range(9)])
        self.assertTrue(mark.exists(), "no worker died")
        self.assertGreaterEqual(len(told), 9)

    def test_a_cluster_that_loses_a_worker_and_gains_one_gives_the_same_bits(self):
        rng, mark, told = np.random.default_rng(0), self.path("died.txt"), []
        blocks = [(number, rng.normal(size=(120, 20))) for number in range(12)]
        alone = [betas_once_alive(self.path("none.txt"), block, mortal=False) for block in blocks]
        with (
            LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as machines,
            Client(machines.scheduler_address) as client,
            contextlib.ExitStack() as until_the_end,
        ):

            def names():
                return {worker["name"] for worker in client.scheduler_info(n_workers=-1)["workers"].values()}

            def grow(text):
                told.append(text)
                if len(told) == 6:
                    late = [sys.executable, "-m", "distributed.cli.dask_worker", machines.scheduler_address]
                    late += ["--name=late", "--nthreads=1", "--no-nanny", "--no-dashboard"]
                    until_the_end.callback(subprocess.Popen(late, stderr=subprocess.DEVNULL).kill)
                    deadline = time.monotonic() + 120
                    while "late" not in names() and time.monotonic() < deadline:
                        time.sleep(0.1)

            work = partial(betas_once_alive, mark)
            found = list(each_block(work, blocks, client.get_executor(pure=False), 3, grow))
            self.assertIn("late", names())
        self.assertTrue(mark.exists(), "no worker died")
        self.assertEqual([f.tobytes() for f in found], [a.tobytes() for a in alone])

    def test_faults_of_the_work_are_not_tried_again(self):
        tried = []
        with self.assertRaises(ZeroDivisionError), ThreadPoolExecutor(1) as one:
            list(each_block(lambda n: tried.append(n) or 1 / (n - 1), range(3), one))
        self.assertEqual(tried.count(1), 1)

    def test_memory_is_bounded_whatever_the_size(self):
        small, large = (self.peak(assets) for assets in (1024, 3072))
        self.assertLess(large, 500e6)
        self.assertLess(large, 1.2 * small)

    def peak(self, assets):
        """Bytes that a process of its own holds at most."""
        market.write(self.path("m.parquet"), assets, 2600, alive=1.0)
        code = f"""
import ultrum as ul
from benchmarks import market
table = ul.LongTable({str(self.path("m.parquet"))!r}, "excess_return", frequency="B", max_memory="500 MB")
ul.rolling_regress(table, market.factors(2600), window=252, step="Q", to={str(self.path("b.parquet"))!r})
print(next(line.split()[1] for line in open("/proc/self/status") if line.startswith("VmHWM")))
"""
        said = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        return int(said.stdout) * 1024

    def test_sorted_once_on_disk(self):
        frame = self.prices.to_frame()
        mixed = frame.sample(frac=1.0, random_state=1).assign(volume=np.arange(len(frame)))
        folder = self.path("mixed")
        folder.mkdir()
        for number, part in enumerate(np.array_split(np.arange(len(mixed)), 3)):
            mixed.iloc[part].to_parquet(folder / f"{number}.parquet", row_group_size=50_000)
        said = {"value": "close", "frequency": "B", "facts": {"measure": "price", "currency": "QML"}}
        with self.refused(TableError, "0.parquet, row", "Sort the rows by asset and date", "LongTable.sort"):
            _ = ul.LongTable(folder, **said).assets
        told = []
        made = ul.LongTable.sort(
            folder, self.path("s.parquet"), max_memory=420_000_000, progress=told.append, **said
        )
        pd.testing.assert_frame_equal(
            made.read(made.assets).to_pandas(), self.table.to_pandas().dropna(how="all"), check_freq=False
        )
        self.assertIn("volume", made.to_frame())
        self.assertIn("sorting part 2 of 2", told)
        twice = pd.concat([frame, frame.iloc[[5]]])
        twice.to_parquet(self.path("twice.parquet"))
        with self.refused(TableError, "S0000 has two rows", "Nothing was written"):
            ul.LongTable.sort(self.path("twice.parquet"), self.path("no.parquet"), **said)
        self.assertEqual([p.name for p in self.folder.glob("*no.parquet*")], [])

    def test_what_is_refused(self):
        said = {"value": "v", "frequency": "M"}

        def table(name, **columns):
            pq.write_table(pa.table(columns), self.path(name))
            return ul.LongTable(self.path(name), **said)

        days = pa.array(pd.to_datetime(["2020-01-01", "2020-01-20"]).date)
        later = pa.array(pd.to_datetime(["2020-01-01", "2020-01-20", "2020-02-03", "2020-03-02"]).date)
        same = table("a.parquet", asset=["A", "A", "B", "B"], date=later, v=np.arange(4.0))
        x = pd.Series(np.arange(3.0), pd.period_range("2020-01", periods=3, freq="M"))
        for work in (
            lambda: same.read(["A"]),
            lambda: ul.rolling_regress(same, x, window=3, to=self.path("x.parquet")),
        ):
            with self.refused(TableError, "A, 2020-01-20", "a second row in one period"):
                work()
        for columns, words in (
            ({"asset": ["A", None], "date": days, "v": [1.0, 2.0]}, "no asset"),
            ({"asset": ["A", "A"], "date": ["x", "y"], "v": [1.0, 2.0]}, "Dates are string"),
            ({"asset": ["A", "A"], "date": days, "v": ["1", "b"]}, "must be numbers"),
            ({"asset": ["A", "A"], "date": days[::-1], "v": [1.0, 2.0]}, "is not after"),
            ({"asset": ["A"], "day": days[:1], "v": [1.0]}, "no column 'date'"),
            ({"asset": pa.array([], pa.string()), "date": days[:0], "v": pa.array([], pa.float64())}, "no row"),
        ):  # fmt: skip
            with self.refused(TableError, words):
                table("b.parquet", **columns).read(["A"])
        firsts = pa.array(pd.date_range("2020-01-01", periods=30, freq="MS").date)
        noise = np.random.default_rng(1).normal(size=30)
        table("p.parquet", asset=["P"] * 30, date=firsts, v=4 * noise)
        percent = ul.LongTable(self.path("p.parquet"), **said, facts={"measure": "return"})
        monthly = pd.Series(noise / 100, pd.period_range("2020-01", periods=30, freq="M"))
        with self.refused(UltrumError, "'P' has typical returns", "percent taken for decimals"):
            ul.rolling_regress(percent, monthly, window=12, to=self.path("x.parquet"))
        self.file("c.parquet", "no parquet at all")
        with self.refused(TableError, "c.parquet is not a readable Parquet file"):
            ul.LongTable(self.path("c.parquet"), **said)
        for bad, words in (("1 XB", "is not a size"), ("3 MB", "too small"), (-1, "is not a size")):
            with self.refused(UltrumError, "max_memory", words):
                ul.LongTable(self.path("a.parquet"), **said, max_memory=bad)
        mixed = ul.SeriesTable.of([self.table["S0001"], self.table["S0002"].with_metadata(currency="QSR")])
        with self.refused(TableError, "S0001 has currency 'QML', S0002 'QSR'", "one for all"):
            ul.LongTable.write(mixed, self.path("m.parquet"))
        with self.refused(TableError, "unknown key 'mesure'", "measure"):
            ul.LongTable(self.path("a.parquet"), **said, facts={"mesure": "price"})
        opened = ul.LongTable.write(self.table, self.path("again.parquet"), "close")
        self.assertEqual(len(opened.assets), 600)
        few = self.table.select(["S0001", "S0002"])
        ul.LongTable.write(few, self.path("again.parquet"), "close")
        with self.refused(TableError, "has changed since it was opened"):
            opened.read(["S0003"])
        with self.refused(TableError, "Set the path, such as to="):
            ul.returns(self.prices)
        with self.refused(TableError, "to= applies to data on disk", "in memory"):
            ul.returns(self.table, to="x.parquet")
        with self.refused(TableError, "factor_betas takes a LongPanel"):
            ul.factor_betas(self.prices)
        with self.refused(TableError, "growth works in memory", ".read("):
            ul.growth(self.prices)
        with self.refused(EstimationError, "fit(asset).residuals"):
            _ = ul.factor_betas(self.on_disk()).residuals


def squared_once_alive(mark, number):
    """A square, unless this is the first worker to come to 4: it dies."""
    if number == 4 and not mark.exists():
        mark.write_text("died")
        os._exit(1)
    return number * number


def betas_once_alive(mark, block, mortal=True):
    """Rolling betas of a block, unless this is the first worker to come to the fourth: it dies."""
    number, returns = block
    if mortal:
        squared_once_alive(mark, number)
    return ul.rolling_regress(returns, returns[:, :1] + 1.0, window=24).coefficients
