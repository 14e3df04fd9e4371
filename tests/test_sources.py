"""The SDMX client, the HTTP policy and the desk, against services on loopback."""

import base64
import contextlib
import gzip
import http.server
import io
import logging
import os
import re
import socketserver
import threading
import time
import unittest
import zipfile
from dataclasses import replace
from unittest import mock
from urllib.parse import quote, quote_plus

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import OnPractice, Scratch, command
from ultrum.errors import DataWarning, NotFoundError, SourceError, VaultError
from ultrum.sources.credentials import CredentialStore, host_of
from ultrum.sources.download_and_limits import Address, Download, HttpPolicy
from ultrum.sources.http_client import HttpClient, _retry_after
from ultrum.sources.network_rules import network_of
from ultrum.vault.archive import pack, unpack
from ultrum.vault.store import Vault

HURRY = HttpPolicy(attempts=3, first_wait=0.01, longest_wait=0.3, largest_answer=10_000, read_timeout=2)


class Sdmx(OnPractice):
    def test_facts_come_from_attributes(self):
        metadata = self.desk().fetch("observatory:RATES/M.QM.GOV_10Y").metadata
        self.assertEqual((metadata.measure, metadata.unit, metadata.timing, metadata.quoted, metadata.maturity),
                         ("rate", "decimal", "end", "bond-equivalent", "P10Y"))  # fmt: skip
        metadata = self.desk().fetch("observatory:FX/B.QSR.QML").metadata
        self.assertEqual((metadata.measure, metadata.unit, str(metadata.frequency)), ("quote", "QSR/QML", "B"))
        cpi = self.desk().fetch("observatory:PRICES/M.QM.CPI")
        self.assertEqual((cpi.metadata.measure, cpi.metadata.base_period), ("index", "2015"))
        self.assertAlmostEqual(cpi.sample("2015-01", "2015-12").values.mean(), 100, 1)

    def test_wildcards_and_search(self):
        desk = self.desk()
        self.assertEqual(len(desk.fetch_all("observatory:PRICES/M..CPI")), 3)
        self.assertEqual(len(desk.fetch_all("observatory:RATES/M.QM.GOV_1Y+GOV_2Y")), 2)
        found = desk.search("yield miravel 10")
        self.assertEqual(found["address"].tolist(), ["observatory:RATES/M.QM.GOV_10Y"])
        self.assertEqual(len(desk.search("", source="observatory")), 31)

    def test_errors_name_what_there_is(self):
        desk = self.desk()
        for address, words in {
            "observatory:TIDES/M.QM.CPI": ["no dataflow 'TIDES'", "PRICES"],
            "observatory:PRICES/M.QM": ["2 parts", "FREQ.REF_AREA.ITEM"],
            "observatory:PRICES/M.XX.CPI": ["REF_AREA", "XX", "QM, QS, QT"],
            "observatory:RATES/M.QS.POLICY": ["nothing matches", "(100)"],
            "observatory:PEOPLE/M.QM.T": ["frequency Monthly (M)", "Annual (A)", "disaggregate"],
            "observatory:PRICES/M..CPI": ["3 series", "Write the key of one"],
            "lighthouse:x": ["no source 'lighthouse'", "college"],
            "harbour:x": ["not found"],
            "college:factors_monthly.zip": ["is a table", "factors_monthly.zip#bill"],
            "college:factors_monthly.zip#tides": ["'tides'", "market"],
            "college:../../etc/passwd": ["cannot leave"],
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

    def test_refetching_the_same_bytes_keeps_one_download(self):
        for _ in range(2):
            self.desk().fetch("observatory:PRICES/M.QM.CPI")
        records = self.desk().vault.records()
        self.assertEqual(len({(r.source, r.path) for r in records}), len(records))


class _Moody(http.server.BaseHTTPRequestHandler):
    """Answers by its path: busy for a while, truncated, endless, a page, elsewhere."""

    def do_GET(self):
        self.server.asked.append((time.monotonic(), self.path, dict(self.headers)))
        if self.path.startswith("http://"):  # as a proxy is asked
            self.do_proxied()
            return
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
        self.reply(429, Retry_After=1) if len(self.server.asked) < 2 else self.reply(200, b"patient")

    def cut(self):
        self.reply(200, b"half", Content_Length=100)

    def endless(self):
        self.reply(200, b"x" * 20_000)

    def page(self):
        self.reply(200, b"<!DOCTYPE html><title>Sorry</title>", Content_Type="text/html")

    def empty(self):
        self.reply(200, b"")

    def confirming(self):
        """Whatever tag is shown to it is the right one."""
        told = "If-None-Match" in self.headers
        self.reply(304) if told else self.reply(200, b"date,x\n2024-01,1\n2024-02,2\n", ETag='"own"')

    def marked(self):
        self.reply(
            200, b"date,x\n2024-01,1\n", Set_Cookie="who=me; Path=/", ETag='"\u00e9"', Last_Modified="place:9"
        )

    def do_proxied(self):
        self.reply(200, b"through the proxy")

    def moved(self):
        self.reply(int(self.path[-3:]), Location="/marked")

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
        held = Download(b"", etag='"abc"', last_modified="Mon, 06 Jan 2025 09:00:00 GMT")
        self.server.asked = [0, 0]
        self.client.get(f"{self.url}/busy", held=held)
        headers = self.server.asked[-1][2]
        self.assertEqual(headers["if-none-match"], '"abc"')
        self.assertEqual(headers["if-modified-since"], held.last_modified)
        with HttpClient(replace(HURRY, conditional=False)) as whole:  # as a run with --refresh
            self.server.asked = [0, 0]
            whole.get(f"{self.url}/busy", held=held)
            self.assertNotIn("if-none-match", self.server.asked[-1][2])

    def test_no_cookie_and_no_odd_validator_goes_back(self):
        held = self.client.get(f"{self.url}/marked")
        self.assertEqual((held.etag, held.last_modified), ("", ""))
        self.client.get(f"{self.url}/marked", held=held)
        self.client.get(self.url.replace("127.0.0.1", "localhost") + "/marked")
        for *_, headers in self.server.asked:
            self.assertEqual({"cookie", "Cookie", "if-none-match", "if-modified-since"} & headers.keys(), set())

    def test_every_kind_of_redirect_is_followed(self):
        for status in (301, 302, 303, 307, 308):
            self.assertTrue(self.client.get(f"{self.url}/moved/{status}").body.startswith(b"date,x"), status)

    def test_a_proxy_can_have_a_private_address(self):
        with (
            mock.patch.dict(os.environ, {"http_proxy": self.url, "no_proxy": ""}),
            mock.patch("ultrum.sources.http_client.network_of", return_value="public"),
            HttpClient(HURRY) as client,
        ):
            self.assertEqual(client.get("http://data.example/series").body, b"through the proxy")

    def test_addresses_within_addresses(self):
        for address, network in {
            "64:ff9b::7f00:1": "loopback", "64:ff9b::a00:1": "private", "64:ff9b::808:808": "public",
            "64:ff9b:1::808:808": "private", "2002:a00:1::": "private", "2002:7f00:1::": "loopback", "::7f00:1": "loopback",
            "::ffff:169.254.169.254": "link-local", "2001:0:7f00:1::": "loopback", "2606:4700::1111": "public",
        }.items():  # fmt: skip
            with self.subTest(address):
                self.assertEqual(network_of(address), network)

    def test_a_source_never_confirms_what_others_packed(self):
        with Vault(self.folder / "theirs") as vault:
            vault.record("s", "confirming", Download(b"date,x\n2024-01,9\n2024-02,9\n", etag='"own"'))
            pack(vault, self.folder / "vault.zip")
        desk = ul.Desk(self.folder / "mine", sources={"s": {"kind": "table", "url": self.url}}, policy=HURRY)
        self.addCleanup(desk.close)
        unpack(desk.vault, self.folder / "vault.zip")
        with self.assertWarnsRegex(DataWarning, "differs from what the source serves"):
            status = desk.refresh("s:confirming#x").status["status"].tolist()
        self.assertIn("revised", status[0])
        self.assertEqual(desk.fetch("s:confirming#x").values.tolist(), [1.0, 2.0])
        self.assertEqual(desk.refresh("s:confirming#x").status["status"].tolist(), ["same"])
        told = ["if-none-match" in headers for *_, headers in self.server.asked]
        self.assertEqual(told, [False, True])


def _answer(head, body=b"", status="200 OK"):
    return f"HTTP/1.1 {status}\r\nConnection: close\r\n{head}\r\n".encode() + body


def _dripped(first, piece):
    """An answer that never ends: a piece now and then."""
    yield first
    while True:
        time.sleep(0.02)
        yield piece


def _length(body):
    return f"Content-Length: {len(body)}\r\n"


_ZIPPED = gzip.compress(b"date,x\n2024-01,1\n2024-02,2\n")
_EMPTY_BLOCK = b"\x00\x00\x00\xff\xff"  # a stored block of deflate that holds nothing
HOSTILE = {  # path: (what the server sends, words of the refusal)
    "cut": (lambda: [_answer("Content-Encoding: gzip\r\n" + _length(_ZIPPED[:-6]), _ZIPPED[:-6])], ["truncated"]),
    "damaged": (lambda: [_answer("Content-Encoding: gzip\r\n" + _length(_ZIPPED), _ZIPPED[:-8] + b"\0" * 8)], ["damaged"]),
    "twice": (lambda: [_answer("Content-Encoding: gzip, gzip\r\n" + _length(b"x"), b"x")], ["only gzip"]),
    "foreign": (lambda: [_answer("Content-Encoding: br\r\n" + _length(b"x"), b"x")], ["only gzip"]),
    "bomb": (lambda: [_answer("Content-Encoding: gzip\r\n" + _length(b := gzip.compress(b"0" * 50_000_000)), b)],
             ["more than 10,000 bytes"]),
    "part": (lambda: [_answer(_length(b"half"), b"half", "206 Partial Content")], ["206"]),
    "choices": (lambda: [_answer(_length(b"x"), b"x", "300 Multiple Choices")], ["300"]),
    "nowhere": (lambda: [_answer(_length(b"x"), b"x", "302 Found")], ["without a new address"]),
    "unasked": (lambda: [_answer("", b"", "304 Not Modified")], ["304"]),
    "inside": (lambda: [_answer("Location: http://169.254.169.254/latest\r\n" + _length(b""), b"", "302 Found")],
               ["link-local", "refused"]),
    "headers": (lambda: _dripped(b"HTTP/1.1 200 OK\r\nX-Slow: ", b"x"), ["longer than 1 s"]),
    "interim": (lambda: _dripped(b"", b"HTTP/1.1 100 Continue\r\n\r\n"), ["longer than 1 s"]),
    "trailers": (lambda: _dripped(_answer("Transfer-Encoding: chunked\r\n", b"1\r\nx\r\n0\r\n"), b"a: b\r\n"),
                 ["longer than 1 s"]),
    "nothing": (lambda: _dripped(_answer("Content-Encoding: gzip\r\n", _ZIPPED[:10]), _EMPTY_BLOCK), ["longer than 1 s"]),
}  # fmt: skip
READ = {  # path: (answer, what is read)
    "polish": (_answer("Content-Type: text/csv; charset=windows-1250\r\n" + _length(b := "date,\u0141\u00f3d\u017a\n2024-01,1\n2024-02,2\n".encode("cp1250")), b),
               "\u0141\u00f3d\u017a"),
    "wrongly": (_answer("Content-Type: text/csv; charset=iso-8859-1\r\n" + _length(b := "date,L\u00f6hne\n2024-01,1\n2024-02,2\n".encode()), b),
                "L\u00f6hne"),
    "zipped": (_answer("Content-Encoding: gzip\r\n" + _length(_ZIPPED), _ZIPPED), "x"),
}  # fmt: skip


class _Raw(socketserver.BaseRequestHandler):
    """Sends the bytes of its path, right or wrong."""

    def handle(self):
        path = self.request.recv(65_536).decode().split(" ")[1].strip("/")
        parts = HOSTILE[path][0]() if path in HOSTILE else [READ[path][0]]
        with contextlib.suppress(OSError):
            for part in parts:
                self.request.sendall(part)


class HostileServers(Scratch):
    def setUp(self):
        super().setUp()
        server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), _Raw)
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        self.url = f"http://127.0.0.1:{server.server_address[1]}"

    def test_what_is_no_whole_answer_is_refused_in_time(self):
        for path, (_, words) in HOSTILE.items():
            endless = words == ["longer than 1 s"]
            policy = replace(HURRY, attempts=1, total_time=1.0 if endless else 60.0)
            begun = time.monotonic()
            with HttpClient(policy) as client, self.subTest(path), self.refused(SourceError, *words):
                client.get(f"{self.url}/{path}")
            self.assertLess(time.monotonic() - begun, 4 if endless else 60, path)

    def test_only_what_is_not_there_is_not_found(self):
        kinds = {}
        for status in (400, 403, 404, 410, 500):
            HOSTILE[f"status{status}"] = (lambda s=status: [_answer(_length(b""), b"", f"{s} X")], [])
            self.addCleanup(HOSTILE.pop, f"status{status}")
            with HttpClient(replace(HURRY, attempts=1)) as client, self.assertRaises(SourceError) as caught:
                client.get(f"{self.url}/status{status}")
            kinds[status] = isinstance(caught.exception, NotFoundError)
        self.assertEqual(kinds, {400: False, 403: False, 404: True, 410: True, 500: False})

    def test_codings_and_charsets_are_undone(self):
        for path, (_, name) in READ.items():
            self.assertEqual(list(ul.read_series(f"{self.url}/{path}").series), [name])

    def test_a_wait_that_is_no_number_is_not_one(self):
        for text in ("\u00b2", "-1", "1e9", "Mon, 99 Foo 99999 25:00:00 GMT", "9" * 400):
            self.assertIsNone(_retry_after(text))


def unpacked(folder):
    """Name and bytes of every file below a folder, and of every file in an archive among them."""
    waiting = [(str(p), p.read_bytes()) for p in folder.rglob("*") if p.is_file()]
    while waiting:
        name, body = waiting.pop()
        yield name, body
        if zipfile.is_zipfile(io.BytesIO(body)):
            with zipfile.ZipFile(io.BytesIO(body)) as archive:
                waiting += [(f"{name}/{n}", archive.read(n)) for n in archive.namelist()]


class Credentials(OnPractice):
    """A key goes to its own host, and is never written anywhere."""

    KEY = "lantern-key"

    def setUp(self):
        super().setUp()
        self.addCleanup(self.service.clear_faults)
        self.service.faults.requests.clear()

    def locked_desk(self, **credentials):
        said = {"college": {"kind": "table", "url": self.service.places["college"], "credentials": credentials}}
        desk = ul.Desk(self.folder / "vault", sources=said, policy=HURRY)
        self.addCleanup(desk.close)
        return desk

    def everything_written(self):
        return b"".join(p.read_bytes() for p in self.folder.rglob("*") if p.is_file())

    def test_every_kind_opens_the_door_and_leaves_no_trace(self):
        self.service.add_fault("locked", "/college", times=-1)
        with mock.patch.dict(os.environ, {"HARBOUR_KEY": self.KEY}):
            for said in ({"kind": "bearer"}, {"kind": "header", "name": "x-api-key"},
                         {"kind": "password", "user": "clerk"}):  # fmt: skip
                desk = self.locked_desk(variable="HARBOUR_KEY", **said)
                self.assertGreater(len(desk.table("college:factors_monthly.zip").series), 4)
                desk.vault.forget(desk.vault.records())
        self.assertNotIn(self.KEY.encode(), self.everything_written())

    def test_the_log_tells_requests_and_retries_and_no_key(self):
        self.service.add_fault("busy", "/college", times=1, seconds=0.01)
        with mock.patch.dict(os.environ, {"HARBOUR_KEY": self.KEY}), self.assertLogs("ultrum", "INFO") as told:
            desk = self.locked_desk(kind="query", name="api_key", variable="HARBOUR_KEY")
            desk.table("college:factors_monthly.zip")
        place = f"{self.service.places['college']}/factors_monthly.zip"
        size = len(desk.download("college", "factors_monthly.zip").body)
        lines = [record.getMessage() for record in told.records]
        self.assertIn("answered", lines[0])
        self.assertTrue(lines[1].startswith(f"{place}: {size:,} bytes in "), lines)
        self.assertNotIn(self.KEY, "".join(lines))

    def test_a_key_does_not_follow_a_redirect_to_another_host(self):
        other = self.service.url.replace("127.0.0.1", "localhost")
        self.service.add_fault("moved", "/college", to=f"{other}/elsewhere")
        with mock.patch.dict(os.environ, {"HARBOUR_KEY": self.KEY}):
            desk = self.locked_desk(kind="header", name="x-api-key", variable="HARBOUR_KEY")
            desk.table("college:factors_monthly.zip")
        hosts = [(h["host"].split(":")[0], self.KEY in str(h)) for _, h in self.service.faults.requests]
        self.assertEqual(hosts, [("127.0.0.1", True), ("localhost", False)])

    def test_a_key_in_the_query_is_struck_out_of_messages(self):
        with mock.patch.dict(os.environ, {"HARBOUR_KEY": self.KEY}):
            desk = self.locked_desk(kind="query", name="api_key", variable="HARBOUR_KEY")
            with self.assertRaises(SourceError) as caught:
                desk.table("college:absent.csv")
            self.service.add_fault("moved", "/college", times=-1, to=f"http://127.0.0.1:9/{self.KEY}")
            with self.assertRaises(SourceError) as redirected:
                desk.table("college:factors_daily.zip")
        for error in (caught, redirected):
            self.assertNotIn(self.KEY, str(error.exception))
        self.assertNotIn(self.KEY.encode(), self.everything_written())

    def test_a_key_is_in_nothing_that_a_whole_run_writes(self):
        key = "lantern+key/1 %"
        pair = base64.b64encode(f"clerk:{key}".encode()).decode()
        forms = {key, quote(key), quote(key, safe=""), quote_plus(key), pair}
        kinds = {"sdmx": 'kind = "query", name = "api_key"', "exchange": 'kind = "bearer"',
                 "college": 'kind = "password", user = "clerk"'}  # fmt: skip
        text = ul.practice.demo_study().read_text().replace("http://127.0.0.1:8765", self.service.url)
        keys = ""
        for path, kind in kinds.items():
            said = f'\ncredentials = "{path}_key"'
            hosts = f'hosts = ["{host_of(self.service.url)}"]'
            keys += f'[{path}_key]\n{kind.replace(", ", chr(10))}\nvariable = "HARBOUR_KEY"\n{hosts}\n'
            text = re.sub(rf'url = ".*/{path}/?"', lambda url, said=said: url[0] + said, text)
        study, own = self.file("s.toml", text), self.file("keys.toml", keys)
        there = self.service.url.replace("127.0.0.1", "localhost")
        self.service.add_fault("moved", "/exchange/dividends", to=f"{there}/elsewhere")
        self.service.add_fault("busy", "/sdmx", seconds=0.01)
        said = [
            command("-v", "--log", "l.txt", "run", study, "--vault", "v", "--bundle", "b.zip", "--credentials", own,
                    cwd=self.folder, HARBOUR_KEY=key),
            command("trail", "s-results", cwd=self.folder),
        ]  # fmt: skip
        self.assertEqual([d.returncode for d in said], [0, 0], said[0].stderr)
        log = (self.folder / "l.txt").read_text()
        self.assertRegex(log, r"Z http\S+: [\d,]+ bytes in .* s\n")
        self.assertIn("stage 'prices' computed in ", log)
        for path in kinds:
            self.service.add_fault("unavailable", f"/{path}", times=-1, seconds=0.01)
            said.append(
                command(
                    "run", study, "--vault", f"v{path}", "--credentials", own, cwd=self.folder, HARBOUR_KEY=key
                )
            )
            self.assertIn("could not be downloaded", said[-1].stderr)
        shown = [h.get("authorization", "") for _, h in self.service.faults.requests]
        self.assertTrue({f"Bearer {key}", f"Basic {pair}"} & set(shown))
        written = [("said", b"".join(d.stdout.encode() + d.stderr.encode() for d in said))]
        written += list(unpacked(self.folder))
        self.assertGreater(len(written), 30)
        for name, body in written:
            for form in forms:
                self.assertNotIn(form.encode(), body, name)

    def test_a_study_names_a_credential_and_its_user_decides_which_host_sees_it(self):
        text = ul.practice.demo_study().read_text().replace("http://127.0.0.1:8765", self.service.url)
        named = self.file("s.toml", re.sub(r'url = ".*/college/?"', lambda u: u[0] + '\ncredentials = "k"', text))
        own = self.file(
            "keys.toml", '[k]\nkind = "bearer"\nvariable = "HARBOUR_KEY"\nhosts = ["harbour.example"]\n'
        )
        host = host_of(self.service.url)

        def run(*words):
            self.service.faults.requests.clear()
            done = command("run", *words, "--vault", "v", cwd=self.folder, HARBOUR_KEY=self.KEY,
                           XDG_CONFIG_HOME=str(self.folder / "config"))  # fmt: skip
            shown = [p for p, h in self.service.faults.requests if self.KEY in str(h)]
            return done, shown

        for words, line in (([named], "is not defined"), ([named, "--credentials", own], f"--bind k={host}")):
            done, shown = run(*words)
            self.assertEqual((done.returncode, shown), (3, []), done.stderr)
            self.assertIn(line, done.stderr)
        done, shown = run(named, "--credentials", own, "--bind", f"k={host}")
        self.assertEqual((done.returncode, {p.split("/")[1] for p in shown}), (0, {"college"}), done.stderr)
        inline = self.file(
            "i.toml",
            named.read_text().replace(
                'credentials = "k"', 'credentials = { kind = "bearer", variable = "HOME" }'
            ),
        )
        done, shown = run(inline)
        self.assertEqual((done.returncode, shown), (2, []))
        self.assertIn("must be the name of a credential", done.stderr)
        beside = self.file("ultrum.toml", '[sources.h]\nkind = "table"\nurl = "https://harbour.example"\n'
                           'credentials = { kind = "bearer", variable = "HOME" }\n')  # fmt: skip
        with self.refused(SourceError, "only your own settings can define", 'hosts = ["harbour.example"]'):
            ul.Desk(self.folder / "v", sources=beside)

    def test_an_answer_is_remembered_and_a_refusal_sends_nothing(self):
        own = self.file("keys.toml", '[k]\nkind = "bearer"\nvariable = "HARBOUR_KEY"\n')
        asked = []

        def ask(name, host, answer=True):
            asked.append((name, host))
            return answer

        with mock.patch.dict(os.environ, {"XDG_CONFIG_HOME": str(self.folder / "config")}):
            with self.refused(SourceError, "--bind k=a.example"):
                CredentialStore.load(own, ask=lambda n, h: ask(n, h, False)).for_host(
                    "k", "https://a.example/x", "s"
                )
            self.assertEqual(
                CredentialStore.load(own, ask=ask).for_host("k", "https://a.example/x", "s").kind, "bearer"
            )
            self.assertEqual(
                CredentialStore.load(own).for_host("k", "https://A.example:443/y", "s").kind, "bearer"
            )
            for other in (
                "http://a.example:81/",
                "https://b.example",
                "https://a.example.b.example",
                "https://x@b.example",
            ):
                with self.refused(SourceError, "not bound"):
                    CredentialStore.load(own).for_host("k", other, "s")
        self.assertEqual(asked, [("k", "a.example")] * 2)

    def test_a_key_is_not_in_the_log_of_the_http_library(self):
        with (
            mock.patch.dict(os.environ, {"HARBOUR_KEY": "lantern+key/1 %"}),
            self.assertLogs(level="DEBUG") as logs,
        ):
            desk = self.locked_desk(kind="query", name="api_key", variable="HARBOUR_KEY")
            self.service.add_fault("moved", "/college", to=f"{self.service.url}/elsewhere")
            desk.table("college:factors_monthly.zip")
        self.assertIn("api_key=•••", "".join(logs.output))
        for form in ("lantern+key", "lantern%2Bkey"):
            self.assertNotIn(form, "".join(logs.output))
        self.assertEqual(logging.getLogger("httpx").filters, [])

    def test_secrets_in_settings_and_keys_that_are_not_there_are_refused(self):
        for said, words in (({"kind": "bearer", "token": "abc"}, ["credentials.token", "secret in a file"]),
                            ({"kind": "bearer"}, ["both a variable and a keyring"]),
                            ({"kind": "stamp", "variable": "X"}, ["bearer, header, query, password"]),
                            ({"kind": "header", "variable": "X"}, ["need a name"])):  # fmt: skip
            with self.subTest(said), self.refused(SourceError, *words):
                self.locked_desk(**said)
        with (mock.patch.dict(os.environ, {"HARBOUR_KEY": "schl\u00fcssel"}),
              self.refused(SourceError, "an HTTP header cannot carry")):  # fmt: skip
            self.locked_desk(kind="bearer", variable="HARBOUR_KEY").table("college:x.csv")
        with self.refused(SourceError, "NO_SUCH_KEY is not set"):
            self.locked_desk(kind="bearer", variable="NO_SUCH_KEY").table("college:x.csv")

    def test_a_key_comes_from_the_keyring(self):
        self.service.add_fault("locked", "/college", times=-1)
        desk = self.locked_desk(kind="bearer", keyring="ultrum/clerk")
        with mock.patch("keyring.get_password", return_value=self.KEY) as asked:
            self.assertGreater(len(desk.table("college:factors_monthly.zip").series), 4)
        asked.assert_called_with("ultrum", "clerk")
        with (mock.patch("keyring.get_password", return_value=None),
              self.refused(SourceError, "no entry 'ultrum/clerk'")):  # fmt: skip
            self.locked_desk(kind="bearer", keyring="ultrum/clerk").table("college:factors_daily.zip")


class Misbehaviour(OnPractice):
    """Each way a service goes wrong has its outcome and its message."""

    def setUp(self):
        super().setUp()
        self.addCleanup(self.service.clear_faults)

    def cpi(self, **policy):
        desk = self.desk(policy=HttpPolicy(**{**vars(HURRY), "largest_answer": 10**7, **policy}))
        return desk, desk.fetch("observatory:PRICES/M.QM.CPI")

    def test_what_passes_is_waited_for(self):
        for kind in ("busy", "unavailable", "cut", "slow", "moved"):
            with self.subTest(kind):
                self.service.add_fault(kind, "PRICES/M", seconds=0.05)
                _, series = self.cpi()
                self.assertEqual(len(series), 252)

    def test_what_stays_is_told(self):
        for kind, said, words in (("busy", {"seconds": 0.01}, ["3 tries", "429"]),
                                  ("busy", {"seconds": 3600}, ["wait 3,600 seconds"]),
                                  ("unavailable", {"seconds": 0.01}, ["503"]), ("cut", {}, ["3 tries"]),
                                  ("slow", {"seconds": 1}, ["3 tries", "timed out"]),
                                  ("mistyped", {}, ["web page"]),
                                  ("locked", {}, ["401", "credentials"])):  # fmt: skip
            self.service.clear_faults()
            self.service.add_fault(kind, "PRICES/M", times=-1, **said)
            with self.subTest(kind), self.refused(SourceError, "PRICES/M.QM.CPI", *words):
                self.cpi(read_timeout=0.3)
        kept = {r.path for r in self.desk().vault.records()}
        self.assertFalse([p for p in kept if "PRICES/M" in p])

    def test_a_busy_service_is_left_alone_as_long_as_it_says(self):
        self.service.add_fault("busy", "PRICES/M", seconds=0.8)
        start = time.monotonic()
        self.cpi(longest_wait=2)
        self.assertGreaterEqual(time.monotonic() - start, 0.79)

    def test_revised_data_are_a_new_vintage_and_the_old_one_stays(self):
        desk, before = self.cpi()
        self.service.add_fault("revised", "PRICES", times=-1)
        changed = desk.refresh("observatory:PRICES/M.QM.CPI")
        self.assertEqual(changed.status["status"].tolist(), ["revised (12 values)"])
        table = desk.revisions("observatory:PRICES/M.QM.CPI")
        self.assertEqual(set(table["kind"]), {"revised"})
        np.testing.assert_allclose(table["after"] / table["before"], 1.004, atol=1e-4)
        first = desk.vault.vintages("observatory", "data/PRICES/M.QM.CPI")[0].retrieved
        pd.testing.assert_series_equal(desk.at(first).fetch("observatory:PRICES/M.QM.CPI").to_pandas(),
                                       before.to_pandas())  # fmt: skip


class Folders(Scratch):
    def test_a_local_folder_is_a_source(self):
        self.file("cpi.csv", "date,cpi\n2024-01,100\n2024-02,101\n")
        desk = ul.Desk(self.folder / "v", sources={"mine": {"kind": "table", "url": str(self.folder)}})
        cpi = desk.fetch("mine:cpi.csv#cpi", measure="index", timing="average")
        np.testing.assert_array_equal(cpi.to_pandas(), [100, 101])
        self.assertEqual(cpi.metadata.address, "mine:cpi.csv#cpi")
        with self.refused(SourceError, "cannot be read"):
            desk.fetch("mine:absent.csv#x")


class Addresses(unittest.TestCase):
    def test_parts(self):
        for text in ("o:FLOW/M.QM.CPI", "c:a/b.zip#bill"):
            self.assertEqual(str(Address.parse(text)), text)
