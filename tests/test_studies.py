"""Whole studies: every section, what is done again, where numbers come from, bundles, faults."""

import dataclasses
import json
import os
import pickle
import sqlite3
import subprocess
import sys
import warnings
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
import pyarrow.parquet as pq
import python_calamine
from PIL import Image

import ultrum as ul
from tests.support import ROOT, OnPractice, Scratch, command, months
from tools import write_references
from ultrum.errors import StudyError, UltrumError
from ultrum.practice import demo_study
from ultrum.report import html_report, result_files
from ultrum.report.result_files import write_results
from ultrum.report.table_files import CsvForm, csv_with_metadata
from ultrum.study.bundles_and_changes import bundle, changes, unbundle
from ultrum.study.provenance import run_facts
from ultrum.study.result_checks import specification_of
from ultrum.study.sections import TwoPassSection

STUDIES = ROOT / "ultrum" / "practice" / "studies"
SMALL = (STUDIES / "market_model.toml").read_text()
SOURCES = (STUDIES / "sources.toml").read_text()


class Whole(OnPractice):
    def setUp(self):
        super().setUp()
        warnings.simplefilter("ignore", ul.DataWarning)

    def load(self, name):
        return ul.Study.load(STUDIES / f"{name}.toml").with_sources_at(self.service.places)

    def run_it(self, study, **said):
        return ul.run_study(study, vault=self.folder / "vault", **said)

    def test_every_section_every_export_and_nothing_done_twice(self):
        study = self.load("allowed_return")
        result = self.run_it(study)
        self.assertEqual(
            set(type(study).model_fields) - set(study.model_fields_set), set(), "a section is not used"
        )
        self.assertAlmostEqual(result.cost.parts.loc[("BRTW", "licence risk"), "contribution"], 0.0035)
        self.assertEqual(len(result.joint_alpha), 6)  # not of the adjusted model, nor of macro factors
        self.assertIn("TIDES", result.betas.assets)
        market = result.stages["factors"]
        self.assertFalse(market.reused)
        whole = ul.premium(
            ul.TimeSeries.from_pandas(ul.practice.panel().factors["market"], measure="return", excess_of="bill"),
            mean="blume", horizon=5, risk_free=ul.practice.panel().rate)  # fmt: skip
        self.assertAlmostEqual(result.cost.parts.loc[("BRTW", "market"), "premium"], whole.value, 4)
        found = write_results(result, self.folder / "out")
        self.assertEqual(set(found), {"report", "tables", "figures", "workbook", "database", "run"})
        self.exports(result)
        numbers = json.loads(found["run"].read_text())["numbers"]
        told = {n.split(".")[1]: v for n, v in numbers.items() if n.startswith("diagnosis.")}
        self.assertEqual(told, {f.key: f.p_value for f in result.diagnosis.findings if f.p_value == f.p_value})
        page = found["report"].read_text()
        for words in ("Model comparison", "Joint test of zero alphas (GRS)", "Regression diagnostics", "Factor risk premia",
                      "Peers", "Sensitivity of beta to specification", "the licence ends in 2031", "└ "):  # fmt: skip
            self.assertIn(words, page)
        self.lines_to_explore(page, result)
        self.assertEqual(page.count("<figure role"), page.count('role="img" aria-label='))
        again = self.run_it(study)
        self.assertTrue(all(s.reused for s in again.stages.values()))
        self.assertEqual(again.cost.value["BRTW"], result.cost.value["BRTW"])
        packed = bundle(result, self.folder / "vault", self.folder / "b.zip")
        self.what_a_bundle_holds(packed)

    def test_only_what_has_changed_is_drawn_and_written(self):
        study, out = (ul.Study.load(demo_study()).with_sources_at(self.service.places), self.folder / "out")
        few = ["components", "betas"]
        study = study.model_copy(update={"report": study.report.model_copy(update={"figures": few})})

        def drawn(plan):
            result = self.run_it(plan)
            alone = mock.patch.object(result_files, "_WORTH_A_PROCESS", 99)
            with (
                alone,
                mock.patch.object(result_files, "drawn_figure", side_effect=result_files.drawn_figure) as draw,
            ):
                write_results(result, out)
            return [c.args[1] for c in draw.call_args_list], result

        first, result = drawn(study)
        self.assertEqual(first, list(study.report.figures))
        pictures = {p.name: p.read_bytes() for p in (out / "figures").iterdir()}
        unsent = mock.Mock(**{"dumps.side_effect": TypeError("cannot pickle")})
        for program, sent in ((sys.executable, pickle), ("/bin/false", pickle), (sys.executable, unsent)):
            with (  # a second process draws a half, fails, or cannot be sent the result
                mock.patch.object(sys, "executable", program),
                mock.patch.object(result_files, "pickle", sent),
                mock.patch.object(result_files, "_core_is_free", return_value=True),
                mock.patch.object(result_files, "_WORTH_A_PROCESS", 2),
                mock.patch.object(subprocess, "Popen", side_effect=subprocess.Popen) as started,
            ):
                write_results(dataclasses.replace(result, store=None), self.folder / "beside")
            started.assert_called_once()
            self.assertEqual(
                {p.name: p.read_bytes() for p in (self.folder / "beside" / "figures").iterdir()}, pictures
            )
        whole = {p: p.stat().st_ino for p in out.rglob("*") if p.is_file()}
        self.assertEqual(drawn(study)[0], [])
        self.assertEqual({p: p.stat().st_ino for p in out.rglob("*") if p.is_file()}, whole)
        page = out / "report.html"
        page.write_text(page.read_text().replace("Cost", "Price"))
        self.assertEqual(drawn(study)[0], [])
        self.assertNotIn("Price of equity", page.read_text())
        premium = study.cost_of_equity.model_copy(update={"premium": {"market": 0.02}})
        changed, other = drawn(study.model_copy(update={"cost_of_equity": premium}))
        self.assertEqual(changed, ["components"])
        self.assertNotEqual(other.run, result.run)
        for file in (out / "figures").iterdir():
            self.assertIn(other.run, file.read_bytes().decode("latin-1"), file.name)
            self.assertNotIn(result.run, file.read_bytes().decode("latin-1"))
        with Image.open(out / "figures" / "betas.png") as picture:
            picture.verify()
        self.assertIsNone(pickle.loads(pickle.dumps(result)).store)

    def lines_to_explore(self, page, result):
        said = page.split('id="explorer-lines">')[1].split("</script>")[0]
        lines = {(d["group"], d["name"]): d for d in json.loads(said)}
        own = lines["Series of the study", "inflation"]
        np.testing.assert_array_equal(own["y"], 100 * result.series["inflation"].values.dropna())
        self.assertEqual((own["unit"], own["period"][-1]), ("%, change over a year", "2024-12"))
        growth = lines["Cumulative wealth", "BRTW"]["y"]
        known = result.returns["BRTW"].values.dropna()
        np.testing.assert_allclose(growth, (1 + known).cumprod(), rtol=1e-12)
        with mock.patch("importlib.util.find_spec", return_value=None), self.assertWarns(ul.DataWarning):
            self.assertFalse(html_report.wants_lines(result))
        plain = html_report.page(result, {}, None)
        self.assertFalse("<script" in plain)
        self.assertIn("<h2>Checks</h2>", plain)

    def exports(self, result):
        out = self.folder / "out"
        self.assertEqual({p.suffix for p in (out / "figures").iterdir()}, {".png", ".svg", ".pdf"})
        book = python_calamine.CalamineWorkbook.from_path(out / "results.xlsx")
        self.assertEqual(book.sheet_names[:3], ["notes", "cost_of_equity", "components"])
        row = next(r for r in book.get_sheet_by_name("cost_of_equity").to_python() if r[0] == "BRTW")
        self.assertAlmostEqual(row[1], result.cost.value["BRTW"], 15)  # a workbook has 16 digits
        with sqlite3.connect(out / "results.sqlite") as base:
            value = base.execute("select cost_of_equity from cost_of_equity where asset = 'BRTW'").fetchone()[0]
            self.assertEqual(value, result.cost.value["BRTW"])
            self.assertEqual(base.execute("select run from metadata").fetchone()[0], result.run)
        with mock.patch.object(result_files, "write_database", side_effect=UltrumError("disk")), self.assertRaises(
            result_files.PartlyWrittenError) as caught:  # fmt: skip
            result_files.write_results(result, self.folder / "again")
        self.assertEqual(sorted(caught.exception.places), ["figures", "report", "run", "tables", "workbook"])
        result_files.write_database(
            {"t": pd.DataFrame({"x": [1], "X": [2], "x_2": [3]})}, self.folder / "c.sqlite", {"run": "1"}
        )
        with sqlite3.connect(self.folder / "c.sqlite") as base:
            self.assertEqual([c[0] for c in base.execute("select * from t").description], ["x", "X_2", "x_2_2"])
        table = pd.read_parquet(out / "tables" / "excess_returns.parquet")
        np.testing.assert_array_equal(table["BRTW"], result.panel.excess.values["BRTW"])
        said = json.loads((out / "tables" / "cost_of_equity.csv-metadata.json").read_text())
        columns = [c["name"] for c in said["tableSchema"]["columns"]]
        self.assertEqual(columns, list(pd.read_csv(out / "tables" / "cost_of_equity.csv").columns))
        self.assertEqual((said["dc:identifier"], said["dc:date"]), (result.run, "2024-12"))
        latex, markdown = ((out / "tables" / n).read_text() for n in ("models_of_brtw.tex", "two_pass.md"))
        self.assertIn(r"\toprule", latex)
        self.assertIn("|---|", markdown)
        told = pq.read_schema(out / "tables" / "excess_returns.parquet").metadata[b"run"].decode()
        drawn = [(out / "figures" / f"rolling_beta.{e}").read_bytes() for e in ("png", "svg", "pdf")]
        for text in (told, latex, markdown, *(d.decode("latin-1") for d in drawn)):
            self.assertIn(result.run, text)  # every file names its run
        self.assertIn("five years up to then", drawn[1].decode())  # text is in a comment next to its outline

    def same_bytes(self, one, two):
        names = sorted(str(p.relative_to(one)) for p in one.rglob("*") if p.is_file())
        self.assertEqual(names, sorted(str(p.relative_to(two)) for p in two.rglob("*") if p.is_file()))
        for name in names:
            self.assertEqual((one / name).read_bytes(), (two / name).read_bytes(), name)

    def what_a_bundle_holds(self, packed):
        with zipfile.ZipFile(packed) as archive:
            pinned = dict(line.split("==") for line in archive.read("requirements.txt").decode().split())
            self.assertEqual(pinned["numpy"], np.__version__)
            self.assertLessEqual({"ultrum", "pandas", "pydantic-core", "httpcore"}, set(pinned))
            self.assertNotIn("hypothesis", pinned)  # of the tests
            self.assertIn("pip install -r requirements.txt", archive.read("README.md").decode())
        _, vault = unbundle(packed, self.folder / "elsewhere")
        with self.refused(StudyError, "exists already"):
            bundle(None, vault, packed)
        with self.refused(StudyError, "not a bundle"):
            unbundle(self.file("x.zip", b"PK no"), self.folder / "y")

    def test_specifications_are_counted_and_a_run_that_rests_on_kept_stages_repeats_elsewhere(self):
        first = ul.Study.load(demo_study()).with_sources_at(self.service.places)
        text = demo_study().read_text().replace('["betas", "line of fit", "components"]', '["betas"]')
        every = 'export = ["csv", "xlsx", "parquet", "latex", "markdown", "sql", "svg", "pdf"]'
        renamed = text.replace("Allowed", "Fair")
        white = text.replace('"hac"', '"hc3"').replace('export = ["csv"]', every)
        self.assertEqual(len(self.run_it(first).specifications), 1)
        for changed, count in ((renamed, 1), (white, 2), (text, 2)):
            study = ul.Study.parse(changed).with_sources_at(self.service.places)
            result = self.run_it(study if changed is not white else study.for_assets(["MRWG"]))
            self.assertEqual(len(result.specifications), count)
        result = self.run_it(ul.Study.parse(white).with_sources_at(self.service.places))
        self.assertEqual(sum(not s.reused for s in result.stages.values()), 3)
        page = write_results(result, self.folder / "here")["report"].read_text()
        self.assertIn("BRTW have been estimated under 2 specifications with this vault", page)
        packed = bundle(result, self.folder / "vault", self.folder / "counted.zip")
        study, vault = unbundle(packed, self.folder / "there")
        closed = study.with_sources_at(dict.fromkeys(study.sources, "http://127.0.0.1:9"))
        write_results(ul.run_study(closed, vault=vault, offline=True), self.folder / "again")
        self.same_bytes(self.folder / "again", self.folder / "here")
        self.assertEqual(self.run_it(study, keep=False, offline=True).specifications, ())
        self.assertEqual(*(specification_of(ul.Study.parse(text.replace('["market"]', factors)))
                           for factors in ('["market", "size"]', '["size", "market"]')))  # fmt: skip
        spelled = text + '\n[tests]\nbreaks = "chow"\n'  # as it is without a word
        self.assertEqual(*(specification_of(ul.Study.parse(t)) for t in (text, spelled)))
        with zipfile.ZipFile(packed) as archive:
            parts = {name: archive.read(name) for name in archive.namelist()}
        for strange in ("7", "null", '[7, "../x"]', '{"a": 1}'):
            run = json.dumps(json.loads(parts["run.json"]) | {"specifications": json.loads(strange)})
            with zipfile.ZipFile(self.folder / "strange.zip", "w") as archive:
                for name, body in {**parts, "run.json": run}.items():
                    archive.writestr(name, body)
            _, vault = unbundle(self.folder / "strange.zip", self.folder / strange[0])
            self.assertEqual(list((vault / "specifications").glob("*")), [])

    def test_a_revised_series_redoes_only_what_depends_on_it(self):
        study = self.load("macro_quarters")
        before = self.run_it(study)
        for name, stage in before.stages.items():  # each rests on what the service's structures said
            paths = [d.path for d in stage.downloads if d.source == "observatory"]
            for flow in {p.split("/")[1] for p in paths if p.startswith("data/")}:
                self.assertTrue(any(p.startswith("dataflow") for p in paths), name)
                self.assertTrue(any(f"/{flow}/" in p for p in paths if p.startswith("datastr")), name)
        self.service.add_fault("revised", "PRICES/M.QM.CPI", times=-1)
        try:
            after = self.run_it(study)
        finally:
            self.service.clear_faults()
        again = {n for n, s in after.stages.items() if not s.reused}
        self.assertEqual(again, {"series: prices", "factors", "panel", "model: market", "model: market and economy",
                                 "checks", "cost of equity"} & again)  # fmt: skip
        self.assertIn("series: prices", again)
        self.assertTrue({"series: output", "prices", "returns"}.isdisjoint(again))
        moved = changes(run_facts(before), run_facts(after))
        self.assertEqual(moved.revised, ["observatory:data/PRICES/M.QM.CPI"])
        own = moved.moved.loc["models.market and economy.SHIPS.prices"]
        self.assertEqual(own["because"], "observatory:data/PRICES/M.QM.CPI")
        self.assertNotIn("models.market.SHIPS.market", moved.moved.index)
        self.assertIn("numbers changed", repr(moved))

    def test_the_cells_of_a_revised_message_are_named_in_every_format(self):
        path, structure = "data/PRICES/M.QM.CPI", "datastructure/QLO/PRICES/1.0?references=children"
        for words in ("csv", "json", "xml"):
            with self.subTest(words):
                bodies, values = {}, []
                for word in ("before", "after"):
                    desk = self.desk(formats={"observatory": words})
                    desk.refresh(["observatory:PRICES/M.QM.CPI"])
                    values.append(desk.fetch("observatory:PRICES/M.QM.CPI").values)
                    for p in (path, structure):
                        bodies[p + word] = desk.download("observatory", p).body
                    self.service.add_fault("revised", "PRICES/M.QM.CPI", times=-1)
                self.service.clear_faults()
                records = [
                    {"numbers": {}, "study": {"sources": {"observatory": {"kind": "sdmx"}}}, "stages": [
                        {"name": "p", "gives": word, "settings": {}, "takes": [
                            {"source": "observatory", "path": p, "checksum": p + word} for p in (path, structure)]}]}
                    for word in ("before", "after")
                ]  # fmt: skip
                cells = changes(*records, bytes_of=bodies.get).cells
                moved = (values[1] != values[0]).pipe(lambda m: m[m].index)
                row = cells[cells["download"] == f"observatory:{path}"].iloc[0]
                self.assertEqual((row["cells"], row["first"], row["last"]),
                                 (len(moved), str(moved[0]), str(moved[-1])))  # fmt: skip
                self.assertEqual(row["column"], "M.QM.CPI" if words != "csv" else row["column"])

    def test_changes_name_keys_numbers_that_come_and_go_and_renamed_models(self):
        study = ul.Study.load(demo_study()).with_sources_at(self.service.places)
        first = run_facts(self.run_it(study))
        cost = study.cost_of_equity.model_copy(update={"premium": {"market": 0.03}, "model": "capm"})
        models = [
            m.model_copy(update={"name": "capm"}) if m.name == study.model.name else m for m in study.models
        ]
        more = TwoPassSection(factors=["market"], draws=49)
        changed = study.model_copy(update={"cost_of_equity": cost, "models": models, "two_pass": more})
        second = run_facts(self.run_it(changed))
        found = changes(first, second)
        keys = found.settings
        self.assertEqual(keys.loc["[cost_of_equity.premium] market"].tolist(), ['"history"', "0.03"])
        self.assertEqual(found.renamed, {study.model.name: "capm"})
        self.assertIn("two_pass.market", found.added.index)
        self.assertEqual(len(found.removed), 0)
        self.assertEqual(found.moved.index[0], f"cost_of_equity.{study.asset}")
        row = found.moved.iloc[0]
        self.assertIn("[cost_of_equity.premium] market", row["because"])
        error = first["numbers"][f"cost_of_equity_error.{study.asset}"]
        self.assertAlmostEqual(row["in_errors"], (row["after"] - row["before"]) / error)
        others = found.moved.loc[[n for n in found.moved.index if n.startswith("cost_of_equity.")][1:]]
        theirs = [study.asset in name.split(".") for name in found.moved.index[1:] if "error" not in name]
        of_company = [
            k for k, own in enumerate(theirs) if own and not found.moved.index[k + 1].startswith("premium")
        ]
        self.assertLess(max(of_company), theirs.index(False, min(of_company)))
        sizes = others["in_errors"].abs().tolist()
        self.assertEqual(sizes, sorted(sizes, reverse=True))
        self.assertIn(f"renamed: {study.model.name} to capm", repr(found))
        back = changes(second, first)
        self.assertEqual(set(back.removed.index), set(found.added.index))
        self.assertEqual(repr(changes(second, second)), "Nothing has changed since the last run.")

    def test_a_refresh_asks_without_conditions_and_another_run_with_them(self):
        study = ul.Study.load(demo_study()).with_sources_at(self.service.places)
        self.run_it(study)
        asked = {}
        for refresh in (False, True):
            self.service.faults.requests.clear()
            ul.run_study(study, vault=self.folder / "vault", refresh=refresh)
            asked[refresh] = ["if-none-match" in headers for _, headers in self.service.faults.requests]
        self.assertEqual((any(asked[True]), all(asked[False]), len(asked[True]) > 3), (False, True, True))

    def test_how_a_source_is_read_is_an_input_too(self):
        rng, index = np.random.default_rng(3), months(60)
        market = rng.normal(0.01, 0.04, 60)
        assets = pd.DataFrame({"A": 1.2 * market + rng.normal(0, 0.02, 60)}, index)
        factors = pd.DataFrame({"Mkt": 100 * market, "RF": 0.2}, index)
        for name, frame in (("assets.csv", assets), ("factors.csv", factors)):
            self.file(name, frame.round(4).rename_axis("month").to_csv())
        runs = []
        for units in ("percent", "decimal"):
            text = f"""
                [study]
                title = "two readings"
                [sources.here]
                kind = "table"
                url = "."
                tables."assets.csv" = {{ measure = "return", units = "{units}" }}
                tables."factors.csv" = {{ measure = "return", units = "percent" }}
                [panel]
                assets = "here:assets.csv"
                factors = "here:factors.csv"
                risk_free = "here:factors.csv#RF"
                [[models]]
                name = "one"
                factors = ["Mkt"]"""
            runs.append(self.run_it(ul.Study.load(self.file("s.toml", text))))
        wrong, right = (run.betas.coefficients.loc["A", "Mkt"] for run in runs)
        self.assertAlmostEqual(right, np.polyfit(market.round(6), assets["A"].round(4), 1)[0], 3)
        self.assertAlmostEqual(wrong, right / 100, 3)
        before, after = map(run_facts, runs)
        self.assertNotEqual(before["run"], after["run"])
        because = changes(before, after).moved["because"]
        self.assertEqual(set(because), {"[sources.here.tables.assets.csv] units"})

    def test_causes_are_the_keys_of_the_stage_and_no_others(self):
        study = ul.Study.load(demo_study()).with_sources_at(self.service.places)
        tests = study.tests.model_copy(update={"rolling_window": 120})
        pair = [*study.models, study.model.model_copy(update={"name": "other"})]
        study = study.model_copy(update={"tests": tests, "models": pair})
        one = run_facts(self.run_it(study))
        keys = {m.name: f"[models.{m.name}] factors" for m in study.models}
        models = [m.model_copy(update={"factors": [*m.factors[:1], "size", "momentum"]}) for m in study.models]
        title = study.study.model_copy(update={"title": "another"})
        report = study.report.model_copy(update={"level": 0.9})
        two = run_facts(
            self.run_it(study.model_copy(update={"models": models, "study": title, "report": report}))
        )
        because = changes(one, two).moved["because"]
        own, other = keys
        for number, cause in (("rolling.BRTW", keys[own]), ("cost_of_equity.BRTW", keys[own]),
                              ("cost_of_equity_low.BRTW", f"{keys[own]}, [report] level"),
                              (f"models.{other}.BRTW.market", keys[other])):  # fmt: skip
            self.assertEqual(because[number], cause)
        level = run_facts(self.run_it(study.model_copy(update={"report": report})))
        self.assertEqual(set(changes(one, level).moved["because"]), {"[report] level"})

    def test_the_trail_leads_to_the_bytes_and_says_how_to_make_them_again(self):
        result = self.run_it(self.load("market_model"))
        write_results(result, self.folder / "out")
        for source in (result, self.folder / "out"):
            found = ul.trail(source, "models.market.SVFC.market")
            self.assertAlmostEqual(found.value, result.betas.coefficients.loc["SVFC", "market"])
            taken = {d.name: d.gives for d in found.downloads()}
            record = next(r for r in result.downloads if r.path == "prices.csv")
            self.assertEqual(taken["exchange:prices.csv"], record.checksum)
            self.assertIn(f"--at {max(r.retrieved for r in result.downloads)}"[:20], found.command)
            beta = result.betas.coefficients.loc["SVFC", "market"]
            self.assertEqual(ul.trail(source, f"{beta:.7f}").name, "models.market.SVFC.market")
            cost = ul.trail(source, f"{100 * result.cost.value['SVFC']:.6f} %")
            self.assertEqual(cost.name, "cost_of_equity.SVFC")
            with self.refused(StudyError, "numbers print as 0"):
                ul.trail(source, "0")
        then = self.run_it(self.load("market_model"), at=max(r.retrieved for r in result.downloads))
        self.assertEqual(then.cost.value["SVFC"], result.cost.value["SVFC"])
        with self.refused(StudyError, "nearest", "cost_of_equity.SVFC"):
            ul.trail(result, "cost_of_equity.SVFX")

    def test_what_others_have_put_beside_the_vault_is_never_used(self):
        study = self.load("market_model")
        first = self.run_it(study)
        stages, mark = self.folder / "vault" / "stages", self.folder / "mark"
        for file in stages.glob("*.arrow"):  # code in place of data, under the names of the stages
            file.write_bytes(b"cposix\nsystem\n(S'touch " + str(mark).encode() + b"'\ntR.")
            file.with_suffix(".pickle").write_bytes(file.read_bytes())
        again = self.run_it(study)
        self.assertFalse(mark.exists() or any(s.reused for s in again.stages.values()))
        self.assertEqual(again.cost.value["SVFC"], first.cost.value["SVFC"])
        for file in stages.glob("*.arrow"):  # one flipped bit
            body = bytearray(file.read_bytes())
            body[len(body) // 2] ^= 4
            file.write_bytes(body)
        again = self.run_it(study)
        self.assertFalse(any(s.reused for s in again.stages.values()))
        entries = sorted(stages.glob("*.json"))
        texts = [e.read_text() for e in entries]
        for entry, text in zip(entries, [*texts[1:], texts[0]], strict=True):  # signed, but of another stage
            entry.write_text(text)
        again = self.run_it(study)
        self.assertFalse(any(s.reused for s in again.stages.values()))
        self.assertEqual(again.cost.value["SVFC"], first.cost.value["SVFC"])
        self.assertTrue(all(s.reused for s in self.run_it(study).stages.values()))

    def test_the_commands(self):
        text = (SOURCES.replace("http://127.0.0.1:8765", "URL")
                + SMALL.replace('inherits = "sources.toml", ', ""))  # fmt: skip
        lines = SMALL.replace('inherits = "sources.toml", ', "").split("\n\n")
        text = lines[0] + "\n\n" + SOURCES + "\n" + "\n\n".join(lines[1:])
        for name, place in self.service.places.items():
            tail = "sdmx" if name == "observatory" else f"{name}/"
            text = text.replace(f"http://127.0.0.1:8765/{tail}", place)
        self.file("s.toml", text)
        words = ("-v", "--log", "log.txt", "run", "s.toml", "--vault", "v", "--bundle", "s.zip", "--only", "EBMK")
        done = command(*words, cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("cost of equity", done.stderr)
        self.assertRegex((self.folder / "log.txt").read_text(), r"\d{4}-\d\d-\d\dT[\d:]+Z cost of equity\n")
        self.assertNotIn("PLFR", (self.folder / "s-results" / "tables" / "cost_of_equity.csv").read_text())
        taken = command("run", "s.toml", "--vault", "v", "--bundle", "s.zip", cwd=self.folder)
        self.assertEqual((taken.returncode, taken.stdout), (2, ""))  # said before anything is done
        again = command("run", "s.toml", "--vault", "v", "--only", "EBMK", cwd=self.folder)
        self.assertIn("Nothing has changed since the last run.", again.stdout)
        more = command("-q", "run", "s.toml", "--vault", "v", "--recompute", "--json", cwd=self.folder)
        self.assertEqual((more.stderr, json.loads(more.stdout)["revised"]), ("", []))
        shown = command("trail", "s-results", cwd=self.folder)
        self.assertIn("exchange:prices.csv", shown.stdout)
        self.assertEqual(command("trail", "s-results", "x", cwd=self.folder).returncode, 2)
        self.assertIn("Use one of them",
                      command("run", "s.toml", "--refresh", "--offline", cwd=self.folder).stderr)  # fmt: skip
        whole = command("run", "s.zip", cwd=self.folder)
        self.assertEqual(whole.returncode, 0, whole.stderr)
        self.assertIn("Nothing has changed since the run in the bundle.", whole.stdout)
        self.assertTrue((self.folder / "s-bundle" / "results" / "report.html").exists())
        made = command("new", "mine.toml", "--asset", 'A"B', "--factor", "market", cwd=self.folder)
        self.assertEqual(made.returncode, 0, made.stderr)
        self.assertEqual(ul.Study.load(self.folder / "mine.toml").cost_of_equity.company, 'A"B')
        self.assertIn("already", command("new", "mine.toml", "--asset", "A", cwd=self.folder).stderr)


def plain_schema(part):
    """A JSON Schema without the words that change nothing."""
    if isinstance(part, list):
        return [plain_schema(p) for p in part]
    if not isinstance(part, dict):
        return part
    idle = {"propertyNames"} | ({"type", "enum"} if "const" in part else set())
    kept = {k: plain_schema(v) for k, v in part.items() if k not in idle}
    if len(kept.get("allOf", [])) == 1:
        kept |= kept.pop("allOf")[0]
    return {k: v for k, v in kept.items() if (k, v) != ("additionalProperties", True)}


class Files(Scratch):
    def test_python_first_and_back(self):
        for path in [*STUDIES.glob("[am]*.toml")]:
            study = ul.Study.load(path)
            self.assertEqual(ul.Study.load(study.save(self.folder / path.name)), study)
        sections = ul.Study.load(STUDIES / "market_model.toml").model_dump(exclude_defaults=True)
        self.assertEqual(ul.Study.of(**sections).cost_of_equity.company, "SVFC")
        with self.refused(StudyError, "no model 'markt'", "did you mean 'market'"):
            ul.Study.of(**{**sections, "cost_of_equity": {"company": "SVFC", "model": "markt"}})

    def test_inheritance_stays_in_the_folder(self):
        self.file("base.toml", SOURCES)
        self.file("own.toml", SMALL.replace("sources.toml", "base.toml"))
        self.assertEqual(len(ul.Study.load(self.folder / "own.toml").sources), 4)
        self.file("circle.toml", SMALL.replace("sources.toml", "circle.toml"))
        with self.refused(StudyError, "more than 8 studies"):
            ul.Study.load(self.folder / "circle.toml")
        (self.folder / "inner").mkdir()
        (self.folder / "inner" / "s.toml").write_text(SMALL.replace("sources.toml", "../base.toml"))
        with self.refused(StudyError, "outside the folder", "--anywhere"):
            ul.Study.load(self.folder / "inner" / "s.toml")
        self.assertEqual(len(ul.Study.load(self.folder / "inner" / "s.toml", anywhere=True).sources), 4)

    def test_names_that_differ_by_case_are_refused_before_anything_is_computed(self):
        self.file("sources.toml", SOURCES)
        one = '{ name = "market", factors = ["market"] }'
        text = SMALL.replace(one, f"{one}, {one.replace('market', 'Market', 1)}")
        with self.refused(StudyError, "'market' and 'Market' differ only by case"):
            ul.Study.load(self.file("s.toml", text))

    def test_sources_on_this_machine_stay_in_the_folder(self):
        (self.folder / "inner" / "data").mkdir(parents=True)
        (self.folder / "inner" / "out").symlink_to(self.folder)
        for url, inside in {
            "data": True, "sqlite:///data/prices.db": True, "../data": False, "/etc": False, "out": False,
            "sqlite:///../prices.db": False, "sqlite:////etc/prices.db": False, "file:///../../etc": False,
            "ftp://harbour.example/x": False, "FILE:///etc": False,
        }.items():  # fmt: skip
            kind = "database" if "sqlite" in url else "table"
            text = SOURCES.replace(
                'kind = "table"\nurl = "http://127.0.0.1:8765/exchange/"', f'kind = "{kind}"\nurl = "{url}"'
            )
            self.assertNotEqual(text, SOURCES)
            self.file("inner/sources.toml", text)
            path = self.file("inner/s.toml", SMALL)
            with self.subTest(url):
                if inside:
                    place = ul.Study.load(path).sources["exchange"].url
                    self.assertIn(str(self.folder.resolve() / "inner" / "data"), place)
                else:
                    with self.refused(StudyError, "'exchange' reads", "--anywhere"):
                        ul.Study.load(path)
                    self.assertTrue(ul.Study.load(path, anywhere=True))

    def test_pages_made_from_the_program_are_those_in_the_docs(self):
        for name, text in write_references.pages().items():
            said = (ROOT / "docs" / name).read_text()
            same = said == text
            if name.endswith(".json"):  # versions of what writes it add what goes without saying
                same = plain_schema(json.loads(said)) == plain_schema(json.loads(text))
            self.assertTrue(same, f"docs/{name}: run python -m tools.write_references")
        for name in ("find", "run", "vault verify"):
            self.assertIn(f"## ultrum {name}\n", said)

    def test_twenty_faulty_studies(self):
        text = (STUDIES / "allowed_return.toml").read_text()
        faults = json.loads((ROOT / "tests" / "data" / "faulty_studies.json").read_text(encoding="utf-8"))
        self.assertGreaterEqual(len(faults), 20)
        (self.folder / "sources.toml").write_text(SOURCES)
        for fault in faults:
            old, new, words = fault.values()
            with self.subTest(new or old):
                self.assertIn(old, text)
                broken = text.replace(old, new, 1)
                with self.assertRaises(StudyError) as caught:
                    ul.Study.parse(broken, "s.toml", self.folder)
                said = str(caught.exception)
                for word in words:
                    self.assertIn(word, said)
                self.assertRegex(said, r"has [12] faults?; nothing was run.\n  line \d+: ")
                line = int(said.split("line ")[1].split(":", maxsplit=1)[0])
                self.assertNotRegex(said, r"\[key\]|Section|Words|union|dict\[")  # names of the program
                near = "\n".join(broken.splitlines()[max(0, line - 8) : line + 8])
                self.assertTrue(any(w in near for w in (new[:12] or "[series.spread]").split("\n")), (line, said))

    def test_csv_in_another_form(self):
        table = pd.DataFrame(
            {"x": [1.5, -2.0], "=y": ["=1+1", "a;b"]}, pd.period_range("2024Q1", periods=2, freq="Q")
        )
        csv_with_metadata(table, self.folder / "t.csv", CsvForm(";", ",", "year and period"))
        self.assertEqual(
            (self.folder / "t.csv").read_text(), "year;quarter;x;'=y\n2024;1;1,5;'=1+1\n2024;2;-2,0;\"a;b\"\n"
        )
        said = json.loads((self.folder / "t.csv-metadata.json").read_text())
        self.assertEqual(said["tableSchema"]["columns"][2]["datatype"]["format"], {"decimalChar": ","})
        csv_with_metadata(table, self.folder / "i.csv", CsvForm(dates="iso"))
        self.assertTrue((self.folder / "i.csv").read_text().startswith("date,x,'=y\n2024-03-31,1.5"))
        self.assertFalse(os.path.exists(Path(self.folder) / "results.xlsx"))
