"""The commands as a user runs them: results, files, messages and exit codes."""

import contextlib
import filecmp
import html.parser
import io
import json
import multiprocessing
import os
import pty
import re
import shlex
import signal
import subprocess
import sys
import unittest
import warnings
from concurrent.futures import ProcessPoolExecutor
from unittest import mock

import nbclient
import nbformat
import numpy as np
import pandas as pd

import ultrum as ul
from tests.programs import run_program
from tests.support import ROOT, OnPractice, Scratch, command, new_process
from ultrum.cli import terminal_output
from ultrum.cli.terminal_output import run_safely
from ultrum.practice import demo_study


class Page(html.parser.HTMLParser):
    """Collects what matters of the report: tags, addresses, figures without words."""

    def __init__(self, text):
        super().__init__()
        self.tags, self.addresses, self.silent, self.ids = [], [], 0, []
        self.feed(text)

    def handle_starttag(self, tag, attributes):
        said = dict(attributes)
        self.tags.append(tag)
        self.silent += tag == "figure" and not said.get("aria-label")
        self.addresses += [v for k, v in attributes if k in ("src", "href", "xlink:href") and v[0] != "#"]


class Demo(Scratch):
    def test_a_warning_that_several_stages_give_is_shown_once(self):
        def app(**_):
            for stage in ("joint alpha: a, exact", "joint alpha: b, exact"):
                warnings.warn_explicit("60 of 236 rows", ul.DataWarning, stage, 0)

        with contextlib.redirect_stderr(io.StringIO()) as heard:
            self.assertEqual(run_safely(app), 0)
        self.assertEqual(heard.getvalue(), "warning: 60 of 236 rows\n")

    def test_the_whole_job_and_again_offline_byte_for_byte(self):
        done = new_process("demo", "--out", "d", cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertRegex(done.stdout, r"Cost of equity of BRTW: \d+\.\d\d % per year, 95 % interval")
        self.assertIn("d/results/report.html", done.stdout)
        self.assertIn("warning: NTSH", done.stderr)
        (self.folder / "d" / "results").rename(self.folder / "first")
        for _ in range(2):
            again = command("demo", "--out", "d", "--offline", cwd=self.folder)
            self.assertEqual(again.returncode, 0, again.stderr)
            for part in ("tables", "figures"):
                names = sorted(os.listdir(self.folder / "first" / part))
                self.assertGreater(len(names), 2)
                same = filecmp.cmpfiles(self.folder / "first" / part, self.folder / "d" / "results" / part,
                                        names, shallow=False)  # fmt: skip
                self.assertEqual(same, (names, [], []))
        self.assertEqual((self.folder / "first" / "report.html").read_bytes(),
                         (self.folder / "d" / "results" / "report.html").read_bytes())  # fmt: skip
        answer = re.search(r"(\d+\.\d\d) % per year", done.stdout)[1]
        self.report((self.folder / "first" / "report.html").read_text(), answer)

    def report(self, text, answer):
        """One file that needs nothing else, says the answer, and speaks its figures."""
        page = Page(text)
        self.assertEqual(page.addresses, [])
        self.assertNotIn("<script", text)
        self.assertNotRegex(text, r"url\((?!#)")
        self.assertEqual((page.tags.count("figure"), page.silent), (3, 0))
        self.assertEqual(page.tags.count("table"), page.tags.count("caption"))
        for words in (
            f'<b class="value">{answer} %</b>',
            "Real terms are without inflation of",
            "SHA-256",
            "missing values by cause",
            "Marrowgate Tugs",
            "Chow",
            "Newey–West",
            "Aroian",
            "Risk-free rate and additional premia are taken as known",
        ):
            self.assertIn(words, text)
        self.assertNotRegex(re.sub(r"<svg.*?</svg>", "", text, flags=re.S), r"\bnan\b")


class Commands(OnPractice):
    def setUp(self):
        super().setUp()
        sources = "".join(
            f'[sources.{name}]\nkind = "{"sdmx" if name == "observatory" else "table"}"\nurl = "{url}"\n'
            for name, url in self.service.places.items()
        )
        self.file("ultrum.toml", sources)

    def ultrum(self, *words):
        return command(*words, cwd=self.folder, ULTRUM_VAULT=str(self.folder / "vault"))

    def test_find(self):
        done = self.ultrum("find", "consumer", "--json")
        found = [row["address"] for row in json.loads(done.stdout)]
        self.assertEqual(found, [f"observatory:PRICES/M.{a}.CPI" for a in ("QM", "QS", "QT")])
        self.assertIn("observatory:PRICES/M.QM.CPI", self.ultrum("find", "consumer").stdout)
        for words, said in ((["unicorns"], "'unicorns'"), (["jobless", "consumer"], "No listing contains all"),
                            (["jobless", "--region", "QQ"], "none of them matches region = QQ")):  # fmt: skip
            nothing = self.ultrum("find", *words)
            self.assertEqual((nothing.returncode, nothing.stdout), (3, ""))
            self.assertIn(said, nothing.stderr)
        found = json.loads(self.ultrum("find", "inflation", "miravel", "--json").stdout)
        self.assertIn("observatory:PRICES/M.QM.CPI", [row["address"] for row in found])

    def test_pull_in_part_and_to_csv(self):
        done = self.ultrum("pull", "observatory:PRICES/M..CPI", "observatory:PRICES/M.XX.CPI", "--csv", "p.csv")
        self.assertEqual(done.returncode, 1)
        self.assertIn("REF_AREA has no code XX", done.stderr)
        lines = (self.folder / "p.csv").read_text().splitlines()
        self.assertEqual(lines[0].count("Consumer prices, all items"), 3)
        self.assertEqual((lines[1][:7], len(lines)), ("2004-01", 253))

    def test_a_file_read_in_part(self):
        self.file("odd.csv", "date,rate\n2024-01-31,1\n2024-02-30,2\n2024-03-31,4\n2024-04-30,5\n2024-05-31,6\n")
        done = self.ultrum("pull", "odd.csv", "--json")
        self.assertEqual((done.returncode, json.loads(done.stdout)[0]["status"]), (1, "read in part"))
        self.assertIn("line 3", done.stderr)
        self.assertIn("2024-02-30", done.stderr)

    def test_the_unit_of_one_column(self):
        self.file("odd.csv", "date,all paid,rate\n2024-01,5%,1\n2024-02,6,2\n2024-03,7%,4\n2024-04,8,4\n")
        self.assertIn("--read 'units.all paid=percent'", self.ultrum("look", "odd.csv").stderr)
        done = self.ultrum("pull", "odd.csv", "--read", "units.all paid=percent", "--csv", "out.csv")
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertEqual((self.folder / "out.csv").read_text().splitlines()[2], "2024-02,0.06,2.0")

    def test_find_walks_and_filters(self):
        done = self.ultrum("find", "--walk", "Economy", "Prices and wages", "--json")
        self.assertEqual([r["name"] for r in json.loads(done.stdout)], ["Consumer prices", "Wages"])
        done = self.ultrum("find", "--region", "QT", "--frequency", "quarter", "--json")
        self.assertEqual([r["address"] for r in json.loads(done.stdout)], ["observatory:OUTPUT/Q.QT.GDP"])
        self.assertEqual(self.ultrum("find", "--walk", "Tides").returncode, 3)
        few = self.ultrum("find", "--limit", "2", "--csv", "f.csv")
        self.assertEqual(len((self.folder / "f.csv").read_text().splitlines()), 3)
        self.assertIn("the first 2", few.stderr)

    def test_pull_a_saved_set_to_every_file_and_take_it_up_again(self):
        wanted = ["observatory:PRICES/M.QM.CPI", "observatory:OUTPUT/Q.QM.GDP"]
        done = self.ultrum("pull", *wanted, "--save", "set.toml", "--frequency", "Q", "--span", "2010,2012", "--common",
                           "--xlsx", "p.xlsx", "--parquet", "p.parquet", "--csv", "p.csv", "--json")  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual([r["status"] for r in json.loads(done.stdout)], ["new", "new"])
        kept = pd.read_parquet(self.folder / "p.parquet")
        self.assertEqual((kept.shape, kept.iloc[0, 0]), ((12, 3), "2010-Q1"))
        csv = pd.read_csv(self.folder / "p.csv")
        np.testing.assert_allclose(csv.iloc[:, 1:].to_numpy(), kept.iloc[:, 1:].to_numpy())
        sheet = ul.read_series(self.folder / "p.xlsx").series
        self.assertEqual(sum(len(s) for s in sheet.values()), 24)
        again = self.ultrum("pull", "set.toml", "--resume", "--json")
        self.assertEqual([r["status"] for r in json.loads(again.stdout)], ["not requested", "not requested"])

    def test_every_option_works_on_local_files_or_is_refused(self):
        days = pd.bdate_range("2022-01-03", "2024-03-29")
        for k, name in enumerate(("AA", "BB")):
            rows = "".join(f"{d.date()},{i % 7 + k + 1},{100 + i + k}\n" for i, d in enumerate(days))
            self.file(f"{name}.csv", f"date,volume,close\n{rows}")
        whole = json.loads(
            self.ultrum("look", "AA.csv", "--json", "--start", "last 3 months", "--frequency", "M").stdout
        )
        self.assertEqual([list(v) for v in whole["values"].values()], [["2024-01", "2024-02", "2024-03"]] * 2)
        one = self.ultrum("look", "AA.csv#close", "--step", "growth", "--start", "2024-03-28", "--json", "--csv", "o.txt",
                          "--compare-with", "BB.csv#close", "--picture", "o.png", "--spells", "below zero")  # fmt: skip
        self.assertEqual(one.returncode, 0, one.stderr)
        self.assertEqual(list(json.loads(one.stdout)["values"]), ["2024-03-28", "2024-03-29"])
        self.assertEqual(
            (self.folder / "o.txt").read_text().splitlines()[0],
            'date,"close, AA [decimal]","close, BB [decimal]"',
        )
        self.assertTrue((self.folder / "o.png").is_file())
        many = json.loads(self.ultrum("look", "{asset}.csv", "--json").stdout)
        self.assertEqual(
            [r["series"] for r in many["series"]], ["AA.volume", "AA.close", "BB.volume", "BB.close"]
        )
        risk = json.loads(self.ultrum("look", "AA.csv", "--returns", "M", "--start", "2023-10", "--json").stdout)
        self.assertEqual([(a["asset"], a["periods"]) for a in risk["assets"]], [("close", 6)])
        done = self.ultrum("pull", "AA.csv", "BB.csv#close", "--csv", "p.csv", "--vault", "v")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(len(pd.read_csv(self.folder / "p.csv").columns), 4)
        name = done.stdout.split("#")[0].split()[-1]
        self.assertEqual(self.ultrum("vault", "export", name, "back.csv", "--vault", "v").returncode, 0)
        self.assertEqual((self.folder / "back.csv").read_bytes(), (self.folder / "AA.csv").read_bytes())
        for words in (["--offline"], ["--revised"]):  # of a file that no 'pull' has stored
            done = self.ultrum("look", "BB.csv", *words, "--vault", "none")
            self.assertEqual((done.returncode, done.stdout), (3, ""), words)
        for words in (["--figure", "grid"], ["--spells", "below zero"], ["--read", "unit"],
                      ["--returns", "M", "--step", "lag"]):  # fmt: skip
            done = self.ultrum("look", "AA.csv", *words)
            self.assertEqual((done.returncode, done.stdout), (2, ""), words)
        self.assertEqual(self.ultrum("look", "none.csv").returncode, 2)

    def test_look_at_a_file_at_revisions_and_at_the_past(self):
        self.file("dues.csv", "Dues, in percent\nday;north\n15/03/2024;1,5\n18/03/2024;x\n19/03/2024;2\n")
        told = json.loads(self.ultrum("look", "dues.csv", "--json").stdout)
        self.assertEqual((told["series"][0]["unit"], told["series"][0]["values"]), ("decimal", 2))
        self.assertIn("percent", {d["chosen"] for d in told["decisions"]})
        self.assertIn("north", self.ultrum("look", "dues.csv").stdout)
        cpi = "observatory:PRICES/M.QM.CPI"
        self.assertEqual(self.ultrum("look", cpi).returncode, 0)
        self.assertEqual(self.ultrum("look", cpi, "--revised").returncode, 3)
        self.service.add_fault("revised", "PRICES", times=-1)
        self.addCleanup(self.service.clear_faults)
        self.assertEqual(self.ultrum("look", cpi).returncode, 0)
        rows = json.loads(self.ultrum("look", cpi, "--revised", "--json").stdout)
        self.assertEqual({r["kind"] for r in rows}, {"revised"})
        before = self.ultrum("look", cpi, "--at", "2001-01-01")
        self.assertEqual((before.returncode, before.stdout), (3, ""))

    def test_the_vault_is_looked_after(self):
        self.ultrum("pull", "observatory:PRICES/M.QM.CPI", "college:factors_monthly.zip#bill")
        self.assertIn("all intact", self.ultrum("vault", "verify").stdout)
        listed = json.loads(self.ultrum("vault", "list", "college", "--json").stdout)
        self.assertEqual([d["address"] for d in listed["downloads"]], ["college:factors_monthly.zip"])
        self.assertIn("downloads in v.zip", self.ultrum("vault", "pack", "v.zip").stdout)
        self.assertIn("0 downloads imported", self.ultrum("vault", "unpack", "v.zip").stdout)
        self.assertEqual(self.ultrum("vault", "forget", "college").returncode, 130)  # nobody said yes
        self.assertIn("1 removed", self.ultrum("vault", "forget", "college", "--yes").stdout)
        self.assertEqual(json.loads(self.ultrum("vault", "list", "college", "--json").stdout)["downloads"], [])
        self.file("bad.zip", "x")
        self.assertEqual(self.ultrum("vault", "unpack", "bad.zip").returncode, 3)

    def test_completion_for_each_shell(self):
        for shell in ("bash", "zsh", "fish"):
            self.assertIn("_ULTRUM_COMPLETE", self.ultrum("--completion", shell).stdout)

    def test_look(self):
        done = self.ultrum("look", "observatory:RATES/M.QM.POLICY", "--picture", "p.png", "--csv", "r.csv")
        self.assertEqual(len((self.folder / "r.csv").read_text().splitlines()), 253)
        for words in ("Policy rate, Miravel", "percent to decimals", "252 of 252", "2024-12"):
            self.assertIn(words, done.stdout)
        self.assertEqual((self.folder / "p.png").read_bytes()[:4], b"\x89PNG")
        told = json.loads(self.ultrum("look", "college:factors_monthly.zip#momentum", "--json").stdout)
        self.assertIsNone(told["values"]["2004-01"])

    def test_look_takes_the_steps_of_a_study(self):
        cpi = "observatory:PRICES/M.QM.CPI"
        done = self.ultrum("look", cpi, "--step", "growth=P1Y", "--step", "to_frequency=Q,how=last", "--spells",
                           "above 4 %", "--compare-with", "observatory:PRICES/M.QS.CPI", "--picture", "p.png", "--json")  # fmt: skip
        told = json.loads(done.stdout)
        desk = self.desk()
        want = ul.to_frequency(ul.growth(desk.fetch(cpi), over="P1Y"), "Q", how="last").values
        self.assertEqual(list(told["values"].values()), want.tolist())
        self.assertEqual(told["facts"]["frequency"], "quarterly")
        self.assertEqual(
            len(told["spells"]), len(ul.spells(ul.TimeSeries.from_pandas(want, measure="rate"), "above 4 %"))
        )
        self.assertEqual((self.folder / "p.png").read_bytes()[:4], b"\x89PNG")
        real = self.ultrum("look", "observatory:WAGES/M.QM.TOTAL", "--step", f"deflate={cpi}")
        self.assertIn("deflated (by M_QM_CPI", real.stdout)
        for option, said, word in (
            ("--step", "roling=12", "did you mean 'rolling'"),
            ("--step", "rolling=12,hw=mean", "did you mean 'how'"),
            ("--at", "2024-13-45", "'2024-13-45' is not a period"),
            ("--frequency", "monthly", "'monthly' is not a frequency"),
        ):
            wrong = self.ultrum("look", cpi, option, said)
            self.assertEqual(wrong.returncode, 2)
            self.assertIn(word, wrong.stderr)
        self.assertEqual(self.ultrum("look", cpi, "--step", "spread=observatory:PRICES/M.QS.CPI").returncode, 3)

    def test_look_shows_prices_as_returns(self):
        one = self.ultrum("look", "exchange:prices.csv#BRTW.close", "--returns", "M", "--picture", "g.png")
        for words in (
            "price returns",
            "Jarque",
            "2004*",
            "2017",
            "* incomplete year",
            "|z| (SDs from mean)",
            "geometric mean",
            "max drawdown",
            "periods to recovery",
        ):
            self.assertIn(words, one.stdout + one.stderr)
        self.assertEqual((self.folder / "g.png").read_bytes()[:4], b"\x89PNG")
        every = self.ultrum(
            "look",
            "exchange:prices.csv",
            "--returns",
            "M",
            "--json",
            "--figure",
            "correlations",
            "--picture",
            "c.png",
        )
        rows = {r["asset"]: r for r in json.loads(every.stdout)["assets"]}
        self.assertEqual(len(rows), 24)
        close = self.desk().table("exchange:prices.csv").fields["close"].select(["EBMK"])
        self.assertAlmostEqual(
            rows["EBMK"]["mean"], ul.risk_return(ul.returns(close, frequency="M")).table.loc["EBMK", "mean"], 12
        )
        self.assertIn(
            "LTSM, 2014-05-19: -66 % in a day, a split of 3 to 1. 'ultrum estimate --splits", every.stderr
        )
        mixed = self.ultrum("estimate", "exchange:prices.csv", "--factors", "college:factors_monthly.zip",
                            "--price-column", "close")  # fmt: skip
        self.assertIn("a split of 3 to 1. Set --splits FILE", mixed.stderr)
        self.assertIn("LMPB in QML, SNST in QSR. Choose assets of one currency with --asset", mixed.stderr)
        self.assertNotIn("Traceback", every.stderr)
        stated = self.ultrum("look", "exchange:indices.csv", "--returns", "M", "--json")
        self.assertEqual({a["income"] for a in json.loads(stated.stdout)["assets"]}, {"price"})
        self.assertIn("these are price returns", stated.stderr)
        self.file("s.csv", "date,a\n" + "".join(f"2020-{m:02d},{m - 3}\n" for m in range(1, 13)))
        wrong = self.ultrum("look", "s.csv", "--returns", "M")
        self.assertEqual(wrong.returncode, 3)
        self.assertIn("measure = 'price'", wrong.stderr)

    def test_run_writes_beside_and_check_downloads_nothing(self):
        text = demo_study().read_text()
        for name, url in self.service.places.items():
            text = re.sub(rf'(\[sources.{name}\].*?url = )"[^"]*"', rf'\1"{url}"', text, flags=re.S)
        self.file("job.toml", text)
        self.assertEqual(self.ultrum("run", "job.toml", "--check").stdout, "job.toml: valid.\n")
        self.assertFalse((self.folder / "vault").exists())
        done = self.ultrum("run", "job.toml", "--json")
        told = json.loads(done.stdout)
        self.assertEqual(told["rows"], 251)
        self.assertTrue((self.folder / "job-results" / "tables" / "missing_log.csv").exists())

    def test_bad_input_is_one_message_and_a_code(self):
        self.file("bad.toml", demo_study().read_text().replace("[panel]", "[panle]"))
        self.file("down.toml", demo_study().read_text().replace("8765", "9"))
        self.file("mine.txt", "keep me")
        for words, code, said in (
            (["run", "bad.toml"], 2, "no key 'panle'"),
            (["run", "absent.toml"], 2, "cannot be read"),
            (["run", "down.toml"], 3, "could not be downloaded"),
            (["look", "observatory:PRICES/M.QM"], 3, "2 parts"),
            (["look", "nonsense"], 2, "neither a file nor an address"),
            (["look", "observatory:RATES/M.QM.POLICY", "--rows", "0"], 2, "--rows"),
            (["find", "--sources", "mine.txt"], 2, "not TOML"),
            (["find", "--sources", "absent.toml"], 2, "--practice"),
            (["demo", "--out", ".", "--offline"], 3, "holds no"),
            (["tides"], 2, "tides"),
        ):
            with self.subTest(words):
                done = self.ultrum(*words)
                self.assertEqual(done.returncode, code, done.stderr)
                self.assertIn(said, done.stderr)
                self.assertNotIn("Traceback", done.stderr)
                self.assertEqual(done.stdout, "")
        self.assertFalse((self.folder / "down-results").exists())

    def test_no_line_ends_in_an_unexpected_fault(self):
        days = "".join(f"2020-01-{d:02},{d},{d / 8}\n" for d in range(1, 29))
        self.file("p.csv", f"Date,Open,Close\n{days}")
        self.file("types.toml", '[sources.x]\nkind = "table"\nurl = [1, 2]\n')
        self.file("nul.toml", "\0")
        self.file("empty", "")
        self.file("junk.zip", "PK\3\4junk")
        self.file("d/run.json", '{"x": [[[1]]]}')
        for line in (ROOT / "tests" / "data" / "bad_lines.txt").read_text().splitlines():
            with self.subTest(line):
                done = self.ultrum(*shlex.split(line))
                self.assertIn(done.returncode, (2, 3), done.stderr)
                self.assertNotRegex(done.stderr, r"Traceback|unexpected fault|Errno|\.\.$")
                self.assertEqual(done.stdout, "")
        self.assertEqual((self.folder / "p.csv").read_text(), f"Date,Open,Close\n{days}")

    def test_a_folder_of_others_is_never_replaced(self):
        (self.folder / "theirs").mkdir()
        self.file("theirs/thesis.txt", "years of work")
        text = demo_study().read_text()
        for name, url in self.service.places.items():
            text = re.sub(rf'(\[sources.{name}\].*?url = )"[^"]*"', rf'\1"{url}"', text, flags=re.S)
        self.file("job.toml", text)
        done = self.ultrum("run", "job.toml", "--out", "theirs")
        self.assertEqual(done.returncode, 3)
        self.assertIn("did not write", done.stderr)
        self.assertEqual(os.listdir(self.folder / "theirs"), ["thesis.txt"])

    def test_numbers_are_whole_in_a_table_wider_than_the_terminal(self):
        names = [f"index {k}" for k in range(14)]
        row = ",".join(str(123456.78 + k) for k in range(14))
        self.file("wide.csv", f"month,{','.join(names)}\n2024-01,{row}\n2024-02,{row}\n")
        shown = self.ultrum("look", "wide.csv").stdout
        for k, name in enumerate(names):
            self.assertRegex(shown, rf"(?m)\b{name}\b")
            self.assertEqual(len(re.findall(rf"\b{123456.78 + k}\b", shown)), 2)

    def test_no_output_runs_into_the_progress_line(self):
        self.file("a.csv", "month,index\n2024-01,100\n2024-02,101\n")
        master, terminal = pty.openpty()
        process = subprocess.Popen(
            [sys.executable, "-c", "from ultrum.cli import main; main()", "look", "a.csv", "--vault", "v"],
            stdin=terminal, stdout=terminal, stderr=terminal, cwd=self.folder, env={**os.environ, "TERM": "xterm"})  # fmt: skip
        os.close(terminal)
        shown = b""
        with contextlib.suppress(OSError):  # raised when the other side is closed
            while part := os.read(master, 65536):
                shown += part
        os.close(master)
        self.assertEqual(process.wait(10), 0)
        before = shown.partition(b"a.csv: 1 series")[0]
        self.assertIn(b"file: a.csv", before)
        self.assertTrue(before.endswith(b"\x1b[2K"), before[-80:])  # the line is erased

    def test_practice_serves_until_stopped(self):
        process = subprocess.Popen(
            [sys.executable, "-c", "from ultrum.cli import main; main()", "practice", "--port", "0"],
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)  # fmt: skip
        self.assertIn("http://127.0.0.1:", process.stdout.readline())
        process.send_signal(signal.SIGINT)
        self.assertIn(process.wait(10), (0, 130))
        process.stdout.close()
        process.stderr.close()


def python_blocks(name):
    """Python of a page that is in blocks, in order."""
    return re.findall(r"```python\n(.*?)```", (ROOT / name).read_text(), re.S)


class Pages(Scratch):
    def each_prints(self, programs, words):
        """Every program runs in a new process and a folder of its own, and prints its word."""
        self.assertEqual(set(programs), set(words))
        context = multiprocessing.get_context("forkserver")
        context.set_forkserver_preload(["tests.preload"])
        with ProcessPoolExecutor(os.cpu_count(), context, max_tasks_per_child=1) as pool:
            runs = {}
            for name, code in programs.items():
                (self.folder / name).mkdir()
                runs[name] = pool.submit(run_program, self.folder / name, code)
            for name, run in runs.items():
                with self.subTest(name):
                    self.assertIn(words[name], run.result())

    def test_the_readme_prints_what_it_says(self):
        files = re.search(r"hide-cell\]\n(.*?)```", (ROOT / "docs/tutorial/first_beta.md").read_text(), re.S)
        page = (ROOT / "README.md").read_text(encoding="utf-8")
        printed = re.search(r"```text\n(.*?)```", page, re.S)
        blocks = python_blocks("README.md")
        self.each_prints({"readme": files[1] + blocks[0] + blocks[1]}, {"readme": printed[1]})
        self.assertTrue((self.folder / "readme" / "kelp.png").exists())
        self.assertIn("size & ", (self.folder / "readme" / "kelp.tex").read_text())

    def test_the_notebook_runs_and_shows_itself(self):
        book = nbformat.read(ROOT / "examples" / "first_hour.ipynb", 4)
        place = {"metadata": {"path": str(self.folder)}}
        nbclient.NotebookClient(book, timeout=120, resources=place).execute()
        shown = {c.source.split("\n")[-1]: c.outputs[0].data for c in book.cells if c.get("outputs")}
        self.assertEqual(len(shown), 11)
        for line, data in shown.items():
            drawn = line.startswith("ul.figures")
            self.assertIn("image/png" if drawn else "text/html", data, line)
        self.assertTrue(shown['ul.figures.cost_components(cost, "BRTW")']["image/png"].startswith("iVBORw0KGgo"))
        beta = ul.factor_betas(ul.practice.panel(), ["market"]).coefficients.loc["BRTW", "market"]
        self.assertIn(f"<td>{beta:.4g}</td>", shown["betas"]["text/html"])
        self.assertIn("&lt; 0.001", shown["betas"]["text/html"])

    def test_every_example_runs(self):
        words = json.loads(
            (ROOT / "tests" / "data" / "examples.json").read_text(encoding="utf-8")
        )  # each prints it
        self.each_prints({p.name: p.read_text() for p in (ROOT / "examples").glob("*.py")}, words)
        self.assertTrue((self.folder / "first_beta.py" / "first_beta.png").exists())


class Tables(unittest.TestCase):
    def test_tables_of_addresses_fit_and_break_no_word(self):
        frame = pd.DataFrame({
            "address": ["file:tmp/work/prices_of_the_harbour.csv#Close", "observatory:PRICES/M.QM.CPI"],
            "title": ["Consumer prices, all items, Miravel", "policy rate (percent)"], "frequency": ["business-daily"] * 2,
            "status": ["same", "new"], "first": ["2019-01-01"] * 2, "last": ["2021-06-30"] * 2, "values": [652, 4],
        })  # fmt: skip
        for width in (80, 100, 140):
            size = os.terminal_size((width, 40))
            out = io.StringIO()
            out.isatty = lambda: True
            with mock.patch("shutil.get_terminal_size", return_value=size), contextlib.redirect_stdout(out):
                terminal_output.table(frame)
            lines = re.sub(r"\x1b\[[\d;]*m", "", out.getvalue()).splitlines()
            with self.subTest(width):
                self.assertLessEqual(max(map(len, lines)), max(width, 88))
                for text in frame.drop(columns="address").astype(str).to_numpy().ravel():
                    for word in text.split():
                        self.assertTrue(any(word in line for line in lines), word)
                self.assertIn("M.QM.CPI", out.getvalue())
