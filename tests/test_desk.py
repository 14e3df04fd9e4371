"""The desk: searching, browsing, describing, pulling sets, snapshots, local files and databases."""

import contextlib
import itertools
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
import tracemalloc
from datetime import UTC, date, datetime, timedelta, timezone
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import OnPractice, Scratch, months
from ultrum.core.time.period_labels_and_relative_dates import resolve_span
from ultrum.core.transform.steps import apply_steps
from ultrum.desk.batch_and_series_sets import Member, PullResult, SeriesSet
from ultrum.desk.settings import load_settings
from ultrum.errors import FrequencyError, SourceError, UltrumError, UnitError, VaultError
from ultrum.practice import statistics_service
from ultrum.report import table_files
from ultrum.sources.database import refuse_writing
from ultrum.sources.table.reader import read_table
from ultrum.vault.search_index import Entry, Listings
from ultrum.vault.store import Vault

CPI = "observatory:PRICES/M.QM.CPI"
PULLER = """
import sys, ultrum as ul
url, vault = sys.argv[1:3]
names = ("observatory", "exchange", "college", "harbour", "council", "archive")
places = {n: f"{url}/{'sdmx' if n == 'observatory' else n}" for n in names}
keys = ["PRICES/M..CPI", "WAGES/M.QM.TOTAL", "WAGES/M.QS.TOTAL", "OUTPUT/Q..GDP", "FX/B.QSR.QML", "FX/B.QML.QTV",
        "RATES/M.QM.POLICY", "RATES/M.QM.GOV_10Y", "LABOUR/M.QM.UNEMP"]
print("ready", flush=True)
with ul.Desk(vault, sources=ul.practice.sources_at(places)) as desk:
    print(desk.pull([f"observatory:{k}" for k in keys]).status["status"].tolist(), flush=True)
"""


class Finding(OnPractice):
    def test_words_may_be_misspelt_begun_or_in_any_order(self):
        desk = self.desk()
        for words, first in {"yield miravel 10": "observatory:RATES/M.QM.GOV_10Y",
                             "unemploymnt tolvane": "observatory:LABOUR/M.QT.UNEMP",
                             "sorrin wag": "observatory:WAGES/M.QS.TOTAL",
                             "brightwater": "exchange:prices.csv#BRTW.close",
                             "freight rate": "harbour:freight"}.items():  # fmt: skip
            with self.subTest(words):
                self.assertEqual(desk.search(words)["address"].iloc[0], first)
        self.assertTrue(desk.search("submarines").empty)
        offline = self.desk(offline=True)
        self.assertEqual(len(offline.search("consumer prices")), len(desk.search("consumer prices")))

    def test_filters_and_groups_of_places(self):
        desk = self.desk(groups={"northern seas": ["QM", "QS"]})
        found = desk.search("", region="northern seas", topic="prices")
        self.assertEqual(set(found["region"]), {"QM", "QS"})
        self.assertEqual(
            desk.search("bank", currency="QSR")["address"].tolist(), ["exchange:prices.csv#SNST.close"]
        )
        self.assertEqual(set(desk.search("", measure="quote")["flow"]), {"Exchange rates"})
        self.assertEqual(
            desk.search("", frequency="quarter", source="observatory")["region"].tolist(), ["QM", "QS", "QT"]
        )

    def test_the_catalogue_can_be_walked(self):
        desk = self.desk()
        self.assertIn("Economy", desk.browse()["name"].tolist())
        self.assertEqual(desk.browse("economy")["name"].tolist(), ["Prices and wages", "Activity"])
        leaf = desk.browse("Economy", "Prices and wages", "Wages")
        self.assertEqual(leaf["address"].tolist(), [f"observatory:WAGES/M.{a}.TOTAL" for a in ("QM", "QS", "QT")])
        self.assertEqual(desk.browse("QT", hierarchy="region")["series"].sum(), 6)
        with self.refused(SourceError, "Nothing is below"):
            desk.browse("Tides")

    def test_a_large_catalogue_answers_at_once(self):
        listings = Listings(self.folder / "l.sqlite")
        listings.replace("s", [Entry("s", f"s:F/M.{i}", f"Tide tables, harbour number {i}, quay {i % 97}")
                               for i in range(20_000)], "2025")  # fmt: skip
        listings.replace("t", [Entry("t", "t:X", "Whelk landings")], "2025")
        self.assertEqual(listings.search("harbor 1234 quay")[0].address, "s:F/M.1234")
        self.assertEqual(listings.search("whelks")[0].address, "t:X")
        listings.replace("t", [], "2026")
        self.assertEqual((listings.count(), listings.search("whelk")), (20_000, []))

    def test_describe_tells_what_a_series_is(self):
        facts = self.desk().describe("observatory:OUTPUT/Q.QM.GDP").facts
        for name, text in {"measure": "flow", "unit": "QML", "multiplier": "10^6, applied", "first": "2004-Q1",
                           "values": "84 of 84 periods", "release lag": "P3M"}.items():  # fmt: skip
            self.assertEqual(facts[name], text)
        self.assertIn("provisional", facts["notes"])

    def test_times_told_are_of_the_series_itself_whatever_else_was_fetched(self):
        desk, hours = self.desk(), iter(range(24))
        with mock.patch(
            "ultrum.vault.journal_and_payload_files.now", lambda: f"2030-01-01T{next(hours):02d}:30:00.000000Z"
        ):
            desk.fetch("exchange:indices.csv#QLX-ALL")
            desk.fetch(CPI)
            desk.table("exchange:dividends.csv", records_only=True)
            told = [desk.describe(a) for a in ("exchange:indices.csv#QLX-ALL", CPI)]
        data = next(r for r in desk.used if r.path.startswith("data/PRICES"))
        self.assertEqual(told[0].updated, "2030-01-01 00:30 UTC")
        self.assertEqual(told[1].updated, f"{data.retrieved[:16].replace('T', ' ')} UTC")

    def test_instants_are_understood_in_any_zone(self):
        desk = self.desk()
        desk.fetch(CPI)
        now = datetime.now(UTC) + timedelta(seconds=1)
        for ahead, there in ((-3, True), (3, True)):
            local = now.astimezone(timezone(timedelta(hours=ahead))).isoformat()
            self.assertEqual(len(desk.at(local).fetch(CPI)) > 0, there)
        early = (now - timedelta(minutes=5)).astimezone(timezone(timedelta(hours=3))).isoformat()
        with self.refused(VaultError, "holds no"):
            desk.at(early).fetch(CPI)
        with self.refused(FrequencyError, "not an instant"):
            desk.at("2024-03-31Tnoon")


def instants(index):
    return index.tz_convert("UTC") if getattr(index, "tz", None) else index.astype(str)


class Exports(Scratch):
    def test_every_export_reads_back_to_the_same_series(self):
        rng = np.random.default_rng(4)
        indices = {
            "minutes": pd.date_range("2024-03-30 22:31", periods=400, freq="min", tz="Europe/Paris"),  # clocks change
            "hours": pd.date_range("2024-10-26 20:00", periods=30, freq="h", tz="America/New_York"),
            "days": pd.bdate_range("2024-01-01", periods=40),
            "weeks": pd.period_range("2020-01-03", periods=30, freq="W-FRI"),
            "months": pd.period_range("2020-01", periods=30, freq="M"),
            "quarters": pd.period_range("2010Q1", periods=20, freq="Q"),
            "years": pd.period_range("1990", periods=12, freq="Y"),
        }  # fmt: skip
        fields = [("KEL.Close", {"measure": "price", "currency": "QML"}), ("KEL.Volume", {"measure": "flow"}),
                  ("TUN.Close", {"measure": "price", "currency": "QSR"}), ("cpi", {"measure": "index", "base_period": "2015"}),
                  ("bill", {"measure": "rate"})]  # fmt: skip
        for (word, index), (gap, count) in itertools.product(indices.items(), ((False, 1), (True, 5))):
            every = []
            for name, facts in fields[:count]:
                values = pd.Series(np.round(rng.uniform(1, 90, len(index)), 4), index)
                values.iloc[3:5] = np.nan if gap else values.iloc[3:5]
                code = {"minutes": "N", "hours": "H"}.get(word)
                every.append(ul.TimeSeries.from_pandas(values.rename(name), frequency=code, **facts))
            for shape, ending in itertools.product(("wide", "long"), ("csv", "parquet", "xlsx")):
                plan = SeriesSet.of(["h:x"] * count, shape=shape)
                result = PullResult(plan, every, pd.DataFrame(), {}, [])
                path = self.folder / f"t.{ending}"
                getattr(table_files, f"to_{ending}")(result.to_frame(), path)
                with self.subTest(word, gap=gap, count=count, shape=shape, ending=ending):
                    back = ul.read_series(path).series
                    self.assertEqual(list(back), [s.name for s in every])
                    for one in every:
                        got = back[one.name]
                        want = one.values.dropna()
                        self.assertEqual(got.metadata.frequency.code, one.metadata.frequency.code)
                        np.testing.assert_array_equal(got.values.dropna(), want)
                        self.assertTrue(instants(got.values.dropna().index).equals(instants(want.index)))
                        self.assertEqual(got.metadata.currency, one.metadata.currency)


class IrregularDates(Scratch):
    def test_a_policy_rate_is_filled_before_dates_are_cut_and_the_fill_is_counted(self):
        days = pd.bdate_range("2020-01-01", periods=100, name="date")
        prices = pd.Series(np.arange(100.0) + 50, days, name="Close")
        steps = {days[3]: 0.015, days[40]: 0.0125, days[90]: 0.01}
        policy = pd.Series(steps, name="rate").rename_axis("date")
        both = [
            ul.TimeSeries.from_pandas(s, frequency="B", measure=m)
            for s, m in ((prices, "price"), (policy, "rate"))
        ]
        want = policy.reindex(days).ffill().dropna()
        for shape in ("wide", "long"):
            result = PullResult(
                SeriesSet.of(["h:a"] * 2, shape=shape, dates="common", gaps="fill"), both, pd.DataFrame()
            )
            frame = result.to_frame()
            self.assertEqual(frame.attrs["dates_left_out"], 3)
            self.assertEqual(list(frame.attrs["filled"].values()), [94])
            self.assertEqual(len(frame), 97 if shape == "wide" else 194)
        with self.assertWarnsRegex(ul.DataWarning, "Only 3 of 100 dates are common.*gaps='fill'"):
            PullResult(SeriesSet.of(["h:a"] * 2, dates="common"), both, pd.DataFrame()).to_frame()
        held = ul.disaggregate(both[1], "B", how="hold")
        np.testing.assert_array_equal(held.values, want[: days[90]])
        self.assertEqual(
            (dict(held.metadata.trail[-1].settings)["values_held"], held.metadata.hindsight), ("85", "")
        )
        self.file("policy.csv", "date,policy rate (%)\n2019-12-11,2.0\n2020-02-19,1.5\n2020-05-06,1.0\n")
        self.file(
            "volume.csv", "date,Volume\n" + "".join(f"{d.date()},{k}\n" for k, d in enumerate(days) if k != 9)
        )
        self.file("close.csv", "date,Close\n" + "".join(f"{d.date()},{50 + k}\n" for k, d in enumerate(days)))
        asked = ["here:policy.csv#policy rate (%)", "here:volume.csv#Volume", "here:close.csv#Close"]
        sources = {"here": {"kind": "table", "url": str(self.folder)}}
        with ul.Desk(self.folder / "vault", sources=sources) as desk:
            monthly = desk.pull(SeriesSet.of(asked[:1], frequency="M", how="last", gaps="fill")).to_frame()
            weeks = desk.pull(SeriesSet.of(asked, gaps="fill", span=["2020-01-06", "2020-01-20"])).to_frame()
            closes = desk.pull(SeriesSet.of(asked[2:], frequency="M", how="last", gaps="fill")).to_frame()
            mean = desk.pull(SeriesSet.of(asked[:1], frequency="M", how="mean", gaps="fill")).to_frame()
        self.assertEqual(
            monthly.iloc[:, 0].tolist(), [0.02, 0.02, 0.015, 0.015, 0.015, 0.01]
        )  # the rate in force
        self.assertAlmostEqual(mean.iloc[1, 0], (0.02 * 12 + 0.015 * 8) / 20, 12)  # February, by weekdays
        self.assertEqual(
            closes.index.astype(str).tolist(), ["2020-01", "2020-02", "2020-03", "2020-04"]
        )  # May in part
        self.assertEqual(set(weeks.iloc[:, 0]), {0.02})  # of a meeting before the span
        self.assertEqual(weeks.attrs["not_filled"], ["Volume"])
        self.assertEqual(len(weeks), 11)
        with self.refused(UnitError, "count several times"):
            ul.disaggregate(both[1].with_metadata(measure="flow"), "B", how="hold")


class Pulling(OnPractice):
    def setUp(self):
        super().setUp()
        self.addCleanup(self.service.clear_faults)
        self.addCleanup(self.service.set_today, "2024-12-31")

    def test_one_failing_series_never_stops_the_rest(self):
        result = self.desk().pull([CPI, "observatory:PRICES/M.XX.CPI", "lighthouse:x", "observatory:LABOUR/M.QT.UNEMP",
                                   "college:factors_monthly.zip#bill"])  # fmt: skip
        self.assertEqual(result.status["status"].tolist(), ["new", "failed", "failed", "new", "new", "new"])
        self.assertEqual(set(result.failed), {"observatory:PRICES/M.XX.CPI", "lighthouse:x"})
        self.assertEqual(len(result.series), 4)

    def test_columns_of_a_file_are_parsed_once_whatever_their_number(self):
        rows = "".join(
            f"2024-{m:02d}," + ",".join(str(m + k / 100) for k in range(30)) + "\n" for m in range(1, 13)
        )
        self.file("many.csv", "month," + ",".join(f"C{k}" for k in range(30)) + "\n" + rows)
        wanted = [f"file:many.csv#C{k}" for k in range(30)]
        with (ul.Desk(self.folder / "v", sources={"file": {"kind": "table", "url": str(self.folder)}}) as desk,
              mock.patch("ultrum.desk.repository.read_table", wraps=read_table) as parse):  # fmt: skip
            result = desk.pull(wanted)
        self.assertEqual(parse.call_count, 1)
        self.assertEqual([float(np.asarray(s)[1]) for s in result.series], [2 + k / 100 for k in range(30)])
        self.assertEqual([s.metadata.address for s in result.series], wanted)

    def test_statuses_of_a_refresh(self):
        desk = self.desk()
        plan = SeriesSet.of([CPI, "harbour:freight", "observatory:WAGES/M.QM.TOTAL"])
        self.service.set_today("2024-12-30")
        self.assertEqual(desk.pull(plan).status["status"].tolist(), ["new", "new", "new"])
        self.service.set_today("2024-12-31")
        self.service.add_fault("revised", "WAGES", times=-1)
        said = desk.refresh(plan).status["status"].tolist()
        self.assertEqual(said, ["same", "longer (+1)", "revised (12 values)"])
        self.assertEqual(self.desk(offline=True).pull(plan).status["status"].tolist(), ["not requested"] * 3)

    def test_a_series_plain_and_transformed_are_one_request(self):
        both = [
            Member(address=CPI, name="plain"),
            Member(address=CPI, name="grown", steps=[{"growth": {"over": "P1Y"}}]),
        ]
        plans = [
            SeriesSet(series=members, span=("2010-01", "2015-06")) for members in (both, both[::-1], *zip(both))
        ]
        answers = []
        for number in range(5):  # in parallel, whichever comes first
            for plan in plans:
                with ul.Desk(
                    self.folder / f"v{number}{plans.index(plan)}",
                    sources=ul.practice.sources_at(self.service.places),
                ) as desk:
                    answers += desk.pull(plan).series
        for plan in plans:
            with ul.Desk(
                self.folder / f"v0{plans.index(plan)}",
                sources=ul.practice.sources_at(self.service.places),
                offline=True,
            ) as desk:
                answers += desk.pull(plan).series
        whole = self.desk().fetch(CPI).to_pandas()
        wanted = {"plain": whole["2010-01":"2015-06"], "grown": whole.pct_change(12)["2010-01":"2015-06"]}
        self.assertEqual(len(answers), 6 * 6)
        for series in answers:
            self.assertEqual(len(series), 66)
            np.testing.assert_allclose(series.to_pandas(), wanted[series.name], rtol=1e-12)

    def test_a_pull_that_failed_in_part_is_taken_up(self):
        desk, plan = self.desk(), SeriesSet.of([CPI, "observatory:WAGES/M.QM.TOTAL"])
        self.service.add_fault("mistyped", "WAGES", times=-1)
        self.assertEqual(desk.pull(plan).status["status"].tolist(), ["new", "failed"])
        self.service.clear_faults()
        self.service.faults.requests.clear()
        again = self.desk().pull(plan, resume=True)
        self.assertEqual(again.status["status"].tolist(), ["not requested", "new"])
        self.assertFalse([p for p, _ in self.service.faults.requests if "data/PRICES" in p])

    def test_shape_frequency_span_and_steps(self):
        plan = SeriesSet(title="q", span=["2010", "2012"], frequency="Q", dates="common", series=[
            Member(address=CPI, name="prices", steps=[{"growth": {"over": "P3M"}}, {"to_frequency": {"frequency": "Q", "how": "last"}}]),
            Member(address="observatory:OUTPUT/Q.QM.GDP")])  # fmt: skip
        plan.save(self.folder / "s.toml")
        self.assertEqual(SeriesSet.load(self.folder / "s.toml"), plan)
        result = self.desk().pull(plan)
        frame = result.to_frame()
        self.assertEqual(frame.columns.tolist(), ["prices", "Gross domestic product, Miravel [QML]"])
        self.assertEqual((str(frame.index[0]), str(frame.index[-1])), ("2010Q1", "2012Q4"))
        cpi = self.desk().fetch(CPI, start="2009-12", end="2012-12").to_pandas()
        self.assertAlmostEqual(frame.iloc[0, 0], cpi["2010-03"] / cpi["2009-12"] - 1, 12)
        long = result.to_frame() if plan.shape == "long" else self.desk().pull(
            plan.model_copy(update={"shape": "long"})).to_frame()  # fmt: skip
        self.assertEqual(sorted(set(long["address"])), ["observatory:OUTPUT/Q.QM.GDP", CPI][::1])

    def test_series_alike_in_title_and_unit_keep_a_heading_each(self):
        self.file("s/p.csv", "date,open,close\n2024-01-02,1,2\n2024-01-03,3,4\n")
        self.file("s/i.csv", "month,index\n" + "".join(f"{m},{100 + i}\n" for i, m in enumerate(months(40))))
        for k in range(20):
            self.file(f"s/r/{k:02d}.csv", f"month,rent\n2024-01,{k}\n2024-02,{k}\n")
        place = {"s": {"kind": "table", "url": str(self.folder / "s")}}
        with ul.Desk(self.folder / "v", sources=place) as desk:
            many = desk.pull([f"s:r/{k:02d}.csv" for k in range(20)]).to_frame()
            self.assertEqual(
                (many.shape[1], many.columns.is_unique, many.iloc[0].tolist()), (20, True, list(range(20)))
            )
            grown = SeriesSet(span=["last 12 months"], series=[Member(address="s:i.csv"), *[
                Member(address="s:i.csv", steps=[{"growth": over}]) for over in ("P1Y", "P1M")],
                Member(address="s:i.csv", name="level")])  # fmt: skip
            frame = desk.pull(grown).to_frame()
            self.assertEqual((frame.shape, frame.columns[-1]), ((12, 4), "level"))
            self.assertFalse(frame.isna().any().any(), "growth lost the year before the span")
            common = desk.pull(
                grown.model_copy(update={"shape": "long", "dates": "common", "span": ["earliest"]})
            ).to_frame()
            self.assertEqual(common.groupby("title").size().tolist(), [28] * 4)
            self.assertEqual(common.attrs["dates_left_out"], 12)
            mean = SeriesSet(frequency="Q", how="mean", series=[Member(address="s:i.csv")])
            self.assertEqual(desk.pull(mean).to_frame().iloc[0, 0], 101)
            self.assertEqual(desk.search("05")["address"].tolist(), ["s:r/05.csv"])

    def test_responses_beyond_the_bound_are_read_from_the_vault_again(self):
        for name in "abc":
            self.file(f"s/{name}.csv", f"month,{name}\n2024-01,1\n2024-02,2\n")
        place = {"s": {"kind": "table", "url": str(self.folder / "s")}}
        size = (self.folder / "s" / "a.csv").stat().st_size
        with (ul.Desk(self.folder / "v", sources=place) as desk,
              mock.patch("ultrum.desk.downloads._CACHE_BYTES", 2 * size)):  # fmt: skip
            first = [desk.table(f"s:{name}.csv").series[name].values.tolist() for name in "abc"]
            with mock.patch.object(desk.vault, "payload", wraps=desk.vault.payload) as read:
                again = [desk.table(f"s:{name}.csv").series[name].values.tolist() for name in "cba"]
        self.assertEqual((again, read.call_count), (first, 1))

    def test_a_failed_address_is_asked_for_once(self):
        desk = self.desk()
        self.service.add_fault("mistyped", "data/WAGES", times=-1)
        self.addCleanup(self.service.clear_faults)
        self.service.faults.requests.clear()
        result = desk.pull([CPI, "observatory:WAGES/M.QM.TOTAL"])
        self.assertEqual(result.status["status"].tolist(), ["new", "failed"])
        self.assertEqual(len([p for p, _ in self.service.faults.requests if "data/WAGES" in p]), 1)

    def test_faults_of_a_set_are_all_told(self):
        self.file("s.toml", 'dates = "some"\ngaps = "guess"\n[[series]]\nadress = "a:b"\n')
        with self.refused(SourceError, "4 faults", "dates", "gaps", "series.0.address", "series.0.adress"):
            SeriesSet.load(self.folder / "s.toml")
        self.file("t.toml", '[[series]]\naddress = "a:b"\nsteps = [{ grwth = {} }]\n')
        with self.refused(SourceError, "No step 'grwth'", "growth"):
            SeriesSet.load(self.folder / "t.toml")
        cpi = self.desk().fetch(CPI)
        with self.refused(UnitError, "did you mean 'growth'"):
            apply_steps(cpi, [{"grwth": {}}])

    def test_codes_and_dates_are_expanded(self):
        over = {"region": ["01", "12"]}
        result = self.desk().pull(SeriesSet(series=[Member(address="council:rents/{region}.csv", expand=over)]))
        self.assertEqual(
            result.status["address"].tolist(), ["council:rents/{region}.csv#01", "council:rents/{region}.csv#12"]
        )
        self.assertEqual({s.metadata.currency for s in result.series}, {"QML"})
        self.assertEqual(str(result.series[0].index[-1]), "2024-09")

    def test_a_higher_frequency_is_refused_naming_what_there_is(self):
        for address, words in {"observatory:PEOPLE/D.QM.T": ["no series of frequency", "Annual (A)"],
                               "observatory:PEOPLE/M.QM.T": ["Monthly (M)", "Annual (A)", "disaggregate"]}.items():  # fmt: skip
            with self.subTest(address), self.refused(SourceError, *words):
                self.desk().fetch(address)
        with self.refused(FrequencyError, "annual", "disaggregate"):
            self.desk().fetch("observatory:PEOPLE/A.QM.T", frequency="M")

    def test_killed_while_pulling_and_two_at_once(self):
        tries = int(os.environ.get("ULTRUM_KILLS", "5"))
        vault = self.folder / "vault"
        rng = np.random.default_rng(tries)
        for _ in range(tries):
            process = self.puller(vault)
            time.sleep(float(rng.uniform(0.0, 1.4)))
            process.send_signal(signal.SIGKILL)
            process.communicate()
            with Vault(vault) as kept:
                self.assertEqual(kept.verify(), [])
        both = [self.puller(vault) for _ in range(2)]
        said = [
            json.loads(p.communicate(timeout=60)[0].decode().splitlines()[-1].replace("'", '"')) for p in both
        ]
        self.assertEqual([len(s) for s in said], [13, 13])
        with Vault(vault) as kept:
            self.assertEqual(kept.verify(), [])
            addresses = [(r.source, r.path, r.checksum) for r in kept.records()]
            self.assertEqual(len(addresses), len(set(addresses)))

    def puller(self, vault):
        process = subprocess.Popen(
            [sys.executable, "-c", PULLER, self.service.url, str(vault)], stdout=subprocess.PIPE
        )
        process.stdout.readline()
        return process


class Snapshots(OnPractice):
    def setUp(self):
        super().setUp()
        self.addCleanup(self.service.set_today, "2024-12-31")

    def test_a_page_of_today_becomes_a_series(self):
        rates = statistics_service.table("freight").set_index("date")["rate"]
        days = ["2024-12-02", "2024-12-03", "2024-12-05"]
        for day in days:
            self.service.set_today(day)
            series = self.desk().fetch("harbour:freight")
        self.assertEqual(series.to_pandas().tolist(), rates[days].tolist())
        self.assertEqual([str(t.date()) for t in series.index], days)
        self.assertEqual((series.metadata.currency, str(series.metadata.frequency)), ("QML", "D"))

    def test_two_pulls_in_one_grain_are_one_observation(self):
        folder = self.folder / "pages"
        folder.mkdir()
        said = {
            "kind": "table",
            "url": str(folder),
            "snapshots": {"tide": {"path": "now.txt", "figure": "Tide", "grain": "P1D"}},
        }
        for height in (4.5, 4.7):
            (folder / "now.txt").write_text(f"Tide {height} m\n")
            with ul.Desk(self.folder / "v", sources={"quay": said}) as desk:
                series = desk.fetch("quay:tide")
        self.assertEqual((series.to_pandas().tolist(), len(series)), ([4.7], 1))
        self.assertIn("revised 1", str(series.metadata.trail[-1]))
        with self.refused(SourceError, "not a grain"):
            ul.Desk(self.folder / "v", sources={"q": {**said, "snapshots": {"tide": {
                "path": "now.txt", "figure": "Tide", "grain": "daily"}}}}).fetch("q:tide")  # fmt: skip


class Settings(Scratch):
    def test_a_settings_file_beside_the_work(self):
        self.file("cpi.csv", "date,cpi\n2024-01,100\n2024-02,101\n")
        self.file("ultrum.toml", '[groups]\nnorth = ["QM"]\n[sources.mine]\nkind = "table"\nurl = "."\n'
                  'credentials = "none here"\n[sources.mine.tables."cpi.csv"]\nmeasure = "index"\n')  # fmt: skip
        with ul.Desk(self.folder / "v", sources=self.folder / "ultrum.toml") as desk:
            self.assertEqual(desk.fetch("mine:cpi.csv#cpi").metadata.measure, "index")
            self.assertEqual(desk.groups, {"north": ["QM"]})
        for text, words in (('[sources.x]\nkind = "table"\n', ["needs a kind", "url"]),
                            ('[sources.x]\nkind = "table"\nurl = "."\nurls = "."\n', ["did you mean 'url'"]),
                            ('[sources.x]\nkind = "sdmx"\nurl = "."\nformat = "word"\n', ["format 'word'", "csv"]),
                            ("[groups]\n", ["no [sources.NAME]"]), ("[[[", ["not TOML"])):  # fmt: skip
            self.file("bad.toml", text)
            with self.subTest(text), self.refused(SourceError, *words):
                ul.Desk(self.folder / "v", sources=self.folder / "bad.toml")
        with self.refused(SourceError, "cannot be read"):
            load_settings(self.folder / "absent.toml")

    def test_dates_in_words(self):
        today = date(2024, 12, 31)
        for span, want in ((["last 25 years"], ("1999-12-31", "")), (["the last 30 months", "yesterday"],
                           ("2022-06-30", "2024-12-30")), (["2010", "2010-Q2"], ("2010-01-01", "2010-06-30")),
                           (["earliest", "latest"], ("", ""))):  # fmt: skip
            self.assertEqual(resolve_span(span, today), want)
        with self.refused(FrequencyError, "ends (2009-12-31) before"):
            resolve_span(["2010", "2009"], today)


def prices():
    bars = statistics_service.bars()
    return bars[bars["asset"].isin(["BRTW", "EBMK"])][["date", "asset", "close", "volume"]]


class Databases(Scratch):
    def check(self, url, **more):
        """The same series out of a table and out of a query."""
        said = {"kind": "database", "url": url, "queries": {
            "late": {"sql": "SELECT date, asset, close FROM prices WHERE date >= '2024-01-01' ORDER BY date DESC",
                     "date": "date", "key": "asset"}}, **more}  # fmt: skip
        with ul.Desk(self.folder / "v", sources={"book": said}) as desk:
            whole = desk.fetch("book:prices#BRTW.close").to_pandas()
            want = prices().query("asset == 'BRTW'").set_index("date")["close"]
            np.testing.assert_array_equal(whole.to_numpy(), want.to_numpy())
            late = desk.fetch("book:late#EBMK.close").to_pandas()
            self.assertEqual(str(late.index[0].date()), "2024-01-02")
            with self.refused(SourceError, "no table 'tides'", "prices"):
                desk.table("book:tides")
        with ul.Desk(self.folder / "v", sources={"book": said}, offline=True) as desk:
            self.assertEqual(len(desk.fetch("book:late#BRTW.close")), len(late))

    def test_sqlite(self):
        file = self.folder / "book.sqlite"
        with sqlite3.connect(file) as book:
            prices().assign(date=lambda f: f["date"].dt.strftime("%Y-%m-%d")).to_sql("prices", book, index=False)
        self.check(f"sqlite:///{file}")
        with self.refused(SourceError, "rejected", "nothing"):
            ul.Desk(self.folder / "v", sources={"b": {"kind": "database", "url": f"sqlite:///{file}",
                    "queries": {"q": {"sql": "SELECT nothing FROM prices"}}}}).table("b:q")  # fmt: skip

    def test_an_answer_is_bounded_in_bytes(self):
        path = self.folder / "wide.sqlite"
        with contextlib.closing(sqlite3.connect(path)) as base:
            base.execute("CREATE TABLE t (day TEXT, x REAL, note TEXT)")
            rows = ((f"{1900 + k // 12}-{k % 12 + 1:02d}-01", float(k), "n" * 100_000) for k in range(1200))
            base.executemany("INSERT INTO t VALUES (?, ?, ?)", rows)
            base.commit()
        with ul.limits(answer_bytes=5_000_000):
            desk = ul.Desk(self.folder / "v", sources={"s": {"kind": "database", "url": f"sqlite:///{path}"}})
            self.addCleanup(desk.close)
            tracemalloc.start()
            with self.assertRaisesRegex(
                UltrumError, "s:t: the answer has at least 1[0-9],[0-9]{3},[0-9]{3} bytes"
            ):
                desk.table("s:t")
            self.assertLess(tracemalloc.get_traced_memory()[1], 30_000_000)
            tracemalloc.stop()

    def test_a_query_only_reads(self):
        file = self.folder / "book.sqlite"
        with sqlite3.connect(file) as book:
            book.execute("CREATE TABLE t (d TEXT, v REAL)")
            book.execute("INSERT INTO t VALUES ('2024-01', 1), ('2024-02', 2)")
        book.close()
        before = file.read_bytes()
        slow = (
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT count(*) AS d, 1 AS v FROM n"
        )
        for sql, words in {
            f"VACUUM INTO '{self.folder}/copy.sqlite'": ["begins with VACUUM"],
            f"ATTACH '{self.folder}/other.sqlite' AS o": ["begins with ATTACH"],
            "DELETE FROM t": ["begins with DELETE"],
            "PRAGMA journal_mode = DELETE": ["begins with PRAGMA"],
            "SELECT 1; DELETE FROM t": ["several statements"],
            "SELECT ';' FROM t; -- a\nDROP TABLE t": ["several statements"],
            "WITH x AS (SELECT 1) DELETE FROM t": ["rejected"],
            "SELECT load_extension('x') FROM t": ["rejected"],
            "SELECT writefile('x', 'y') FROM t": ["rejected"],
            "SELECT * FROM pragma_database_list": ["rejected"],
            "SELECT 'open": ["unclosed quote"],
            slow: ["interrupted"],
        }.items():  # fmt: skip
            said = {"kind": "database", "url": f"sqlite:///{file}", "queries": {"q": {"sql": sql}}}
            with (
                self.subTest(sql),
                ul.limits(seconds=1),
                ul.Desk(self.folder / "v", sources={"b": said}) as desk,
                self.refused(SourceError, *words),
            ):
                desk.table("b:q")
        self.assertEqual(
            (file.read_bytes(), sorted(p.name for p in self.folder.iterdir())), (before, ["book.sqlite", "v"])
        )
        for url in ("sqlite:///absent.sqlite", "sqlite://", f"sqlite:///file:{file}?mode=rwc&uri=true"):
            with (
                self.refused(SourceError),
                ul.Desk(self.folder / "v", sources={"b": {"kind": "database", "url": url}}) as desk,
            ):
                desk.table("b:t")
        for sql in (
            "SELECT d, v FROM t;",
            "-- ours\nSELECT d, ';' AS s, v FROM t /* ; */",
            "VALUES ('2024-01', 1), ('2024-02', 2)",
        ):
            said = {"kind": "database", "url": f"sqlite:///{file}", "queries": {"q": {"sql": sql}}}
            with ul.Desk(self.folder / "v", sources={"b": said}) as desk:
                self.assertEqual(len(desk.table("b:q", records_only=True, date_column=1).records), 2)

    def test_functions_that_reach_beyond_tables_are_refused_before_postgresql_is_asked(self):
        for call in (
            "lo_create(0)",
            "dblink('x')",
            "pg_read_file('x')",
            "PG_LS_DIR('.')",
            "set_config('a', 'b', true)",
        ):
            with self.refused(SourceError, f"calls {call.partition('(')[0].lower()}"):
                refuse_writing(f"SELECT {call}, date FROM prices", "q", dialect="postgresql")
        refuse_writing("SELECT lo_date, 'lo_create(0)' FROM prices", "q", dialect="sqlite")

    def test_postgresql(self):
        tools = _postgres_tools()
        if tools is None:
            print("\nSKIPPED ALOUD: no PostgreSQL server is installed; its tests did not run.", file=sys.stderr)
            self.skipTest("PostgreSQL is not installed")
        import psycopg

        url, password = _start_postgres(self, tools)
        os.environ["BOOK_PASSWORD"] = password
        self.addCleanup(os.environ.pop, "BOOK_PASSWORD")
        with psycopg.connect(url.replace("://", f"://clerk:{password}@")) as link:
            link.execute("CREATE TABLE prices (date date, asset text, close numeric, volume bigint)")
            link.execute("CREATE FUNCTION written() RETURNS int LANGUAGE sql AS 'DELETE FROM prices; SELECT 1'")
            rows = prices().itertuples(index=False)
            with link.cursor() as cursor, cursor.copy("COPY prices FROM STDIN") as copy:
                for row in rows:
                    copy.write_row((row.date.date(), row.asset, row.close, row.volume))
        address = url.replace("postgresql://", "postgresql+psycopg://clerk@")
        credentials = {"kind": "password", "user": "clerk", "variable": "BOOK_PASSWORD"}
        self.check(address, credentials=credentials)
        for sql, words in {"SELECT lo_create(0), date FROM prices": ["calls lo_create"], "SELECT written(), date FROM prices": ["read-only transaction"], "WITH x AS (DELETE FROM prices RETURNING *) SELECT * FROM x": ["rejected"],
                           "COPY prices TO '/tmp/p'": ["begins with COPY"], "SELECT pg_sleep(9), date FROM prices": ["timeout"],
                           "SELECT 1; DELETE FROM prices": ["several statements"]}.items():  # fmt: skip
            said = {
                "kind": "database",
                "url": address,
                "credentials": credentials,
                "queries": {"q": {"sql": sql}},
            }
            with (
                ul.limits(seconds=1),
                ul.Desk(self.folder / "w", sources={"b": said}) as desk,
                self.refused(SourceError, *words),
            ):
                desk.table("b:q")
        os.environ["BOOK_PASSWORD"] = "wrong-word"
        with self.assertRaises(SourceError) as caught:
            ul.Desk(self.folder / "w", sources={"book": {"kind": "database", "url": address,
                    "credentials": credentials}}).table("book:prices")  # fmt: skip
        self.assertNotIn("wrong-word", str(caught.exception))
        with self.refused(SourceError, "contains a password"):
            ul.Desk(self.folder / "w", sources={"b": {"kind": "database", "url": address.replace(
                "clerk@", "clerk:secret@")}}).table("b:prices")  # fmt: skip


def _postgres_tools():
    found = [
        p for p in sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True) if (p / "initdb").exists()
    ]
    found += [Path(w).parent for w in [shutil.which("initdb")] if w]
    return found[0] if found else None


def _start_postgres(case, tools):
    """A server on loopback with one user, stopped and removed when the test ends."""
    folder = case.folder / "pg"
    folder.mkdir()
    os.chmod(case.folder, 0o755)
    word = case.folder / "word"
    word.write_text("harbour-word")
    as_user = []
    if os.geteuid() == 0:
        subprocess.run(["chown", "-R", "postgres", str(folder), str(word)], check=True)
        as_user = ["setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"]
    run = {"capture_output": True, "cwd": "/"}
    subprocess.run([*as_user, tools / "initdb", "-D", folder, "-U", "clerk", "-A", "scram-sha-256",
                    f"--pwfile={word}", "-N"], check=True, **run)  # fmt: skip
    import socket

    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    options = f"-p {port} -c listen_addresses=127.0.0.1 -c fsync=off -k {folder}"
    subprocess.run(
        [*as_user, tools / "pg_ctl", "-D", folder, "-o", options, "-w", "-l", folder / "log", "start"],
        check=True,
        **run,
    )
    case.addCleanup(subprocess.run, [*as_user, tools / "pg_ctl", "-D", folder, "-m", "immediate", "stop"], **run)
    return f"postgresql://127.0.0.1:{port}/postgres", "harbour-word"


class VaultErrors(OnPractice):
    def test_offline_and_the_past_know_only_what_is_kept(self):
        desk = self.desk()
        desk.fetch_all("observatory:PRICES/M..CPI")
        offline = self.desk(offline=True)
        pd.testing.assert_series_equal(offline.fetch(CPI).to_pandas(), desk.fetch(CPI).to_pandas())
        with self.refused(VaultError, "WAGES", "without offline"):
            offline.fetch("observatory:WAGES/M.QM.TOTAL")
        with self.refused(VaultError, "of 2001-01-01"):
            desk.at("2001-01-01").fetch(CPI)
        with self.refused(VaultError, "has 1 vintage"):
            desk.revisions(CPI)
