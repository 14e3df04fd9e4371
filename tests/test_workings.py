"""Workings: each number follows from the inputs, in Python and as formulas of a spreadsheet."""

import re
import shutil
import subprocess
import unittest
import zipfile

import numpy as np
import pandas as pd
import python_calamine

import ultrum as ul
from tests.support import Scratch, command, series
from ultrum.core.workings import workings_of
from ultrum.errors import EstimationError, FrequencyError, UltrumError

FORMULA = re.compile(r'<c r="([A-Z]+)(\d+)"[^>]*><f>(.*?)</f>')


def all_workings():
    panel = ul.practice.panel()
    betas = ul.factor_betas(panel, ["market"])
    several = ul.factor_betas(panel, ["market", "size", "value"])
    rows = pd.Series(np.arange(1.0, len(panel.assets) + 1), panel.assets.index)
    weighted = ul.regress(panel.excess["BRTW"], panel.factor_table.select(["market"]), weights=rows)
    bare = ul.regress(panel.excess["BRTW"], panel.factor_table.select(["market"]), constant=False)
    cost = ul.cost_of_equity(
        betas,
        premia={"market": ul.Premium(0.05, 0.012)},
        risk_free=0.03,
        add_ons={"licence": (0.0035, "it ends")},
    )
    returns = ul.SeriesTable.from_pandas(panel.assets[["BRTW"]], measure="return")
    made = {
        "beta": (betas.workings("BRTW"), betas.coefficients.loc["BRTW", "market"]),
        "several": (several.workings("BRTW"), several.coefficients.loc["BRTW", "constant"]),
        "weighted": (weighted.workings(), weighted.coefficients["constant"]),
        "no constant": (bare.workings(), bare.coefficients["market"]),
        "risk": (ul.risk_return(returns).workings(), ul.risk_return(returns).table.loc["BRTW", "volatility"]),
        "cost": (cost.workings("BRTW"), cost.value["BRTW"]),
        "quarter": (ul.conversion_workings(panel.rate, "Q", "2010-Q2"),
                    ul.to_frequency(panel.rate, "Q").values["2010Q2"]),
    }  # fmt: skip
    return made, betas.fit("BRTW"), several.fit("BRTW"), cost


class Steps(Scratch):
    @classmethod
    def setUpClass(cls):
        cls.made, cls.fit, cls.several, cls.cost = all_workings()

    def test_every_number_recomputes_and_the_last_is_the_printed_one(self):
        for name, (workings, number) in self.made.items():
            with self.subTest(name):
                self.assertAlmostEqual(workings.result, number, 12)
                again = workings.recompute()
                for step in workings.steps:
                    self.assertAlmostEqual(again[step.name], step.value, 12, step.label)

    def test_the_steps_are_those_of_the_textbook(self):
        beta, fit = self.made["beta"][0], self.fit
        y, x = fit.response.to_numpy(), fit.design["market"].to_numpy()
        self.assertAlmostEqual(beta["covariance"], np.cov(y, x)[0, 1], 15)
        self.assertAlmostEqual(beta["variance"], x.var(ddof=1), 15)
        self.assertAlmostEqual(beta["alpha"], fit.coefficients["constant"], 12)
        self.assertAlmostEqual(beta["sigma"], fit.sigma, 12)
        self.assertAlmostEqual(beta["r2"], fit.r2, 12)
        classical = ul.regress(fit.response, fit.design[["market"]], errors="classical")
        self.assertAlmostEqual(beta["classical"], classical.standard_errors["market"], 12)
        several = self.made["several"][0]
        for number, term in enumerate(self.several.coefficients.index):
            self.assertAlmostEqual(several[f"beta{number}"], self.several.coefficients[term], 11)
        self.assertAlmostEqual(self.made["cost"][0]["own_error"], self.cost.standard_error["BRTW"], 12)
        risk = self.made["risk"][0]
        values = ul.practice.panel().assets["BRTW"].dropna()
        self.assertAlmostEqual(risk["squares"], ((values - values.mean()) ** 2).sum(), 12)
        self.assertEqual(risk["n"], len(values))

    def test_each_kind_of_conversion(self):
        month = {"measure": "index", "timing": "average"}, {"measure": "flow"}, {"measure": "price"}, {"measure": "return"}  # fmt: skip
        values = [0.5, 0.25, 0.125]
        wanted = (sum(values) / 3, sum(values), 0.125, 1.5 * 1.25 * 1.125 - 1)
        for facts, number in zip(month, wanted, strict=True):
            with self.subTest(facts):
                self.assertAlmostEqual(ul.conversion_workings(series(values, **facts), "Q").result, number, 15)
        log = ul.conversion_workings(series(values, measure="log_return"), "Q", "2010-Q1")
        self.assertAlmostEqual(log.result, sum(values), 15)

    def test_what_has_no_workings_is_refused(self):
        with self.refused(FrequencyError, "no value in 2011-Q1"):
            ul.conversion_workings(series([1.0, 2.0, 3.0], measure="flow"), "Q", "2011-Q1")
        with self.refused(FrequencyError, "has no workings"):
            ul.conversion_workings(series([0.1] * 3, measure="return", excess_of="bill"), "Q")
        with self.refused(EstimationError, "did you mean 'BRTW'"):
            self.cost.workings("BRTV")
        with self.refused(EstimationError, "the steps lead to 2"):
            workings_of("x", pd.DataFrame(), {}, [("a", "a", 1.0), ("b", "b", "a + 1")], expected=3.0)
        with self.refused(UltrumError, "must end in .xlsx"):
            ul.save({"a": pd.DataFrame({"x": [1]})}, self.folder / "a.csv")

    def written(self):
        path = self.folder / "workings.xlsx"
        ul.save({name: workings for name, (workings, _) in self.made.items()}, path)
        return path

    def test_the_sheet_holds_formulas_and_no_numbers_where_they_follow(self):
        with zipfile.ZipFile(self.written()) as book:
            texts = [book.read(f"xl/worksheets/sheet{k + 1}.xml").decode() for k in range(len(self.made))]
        for (name, (workings, _)), text in zip(self.made.items(), texts, strict=True):
            formulas = [m for m in FORMULA.findall(text) if m[0] == "C"]
            self.assertEqual(len(formulas), sum(bool(s.formula) for s in workings.steps), name)
            of_rows = len(FORMULA.findall(text)) - len(formulas)
            derived = sum(bool(c.formula) for c in workings.columns)
            self.assertEqual(of_rows, derived * len(workings.rows), name)

    @unittest.skipUnless(shutil.which("soffice"), "LibreOffice is not installed")
    def test_an_office_program_recalculates_to_the_printed_numbers(self):
        emptied = self.folder / "emptied.xlsx"
        with zipfile.ZipFile(self.written()) as book, zipfile.ZipFile(emptied, "w") as without:
            for name in book.namelist():  # the numbers that were stored with the formulas are taken out
                without.writestr(name, re.sub(rb"(</f>)<v>[^<]*</v>", rb"\1", book.read(name)))
        out = self.folder / "out"
        subprocess.run(["soffice", "--headless", f"-env:UserInstallation=file://{self.folder}/profile", "--convert-to",
                        "xlsx:Calc MS Excel 2007 XML", "--outdir", out, emptied],
                       check=True, capture_output=True, timeout=180)  # fmt: skip
        book = python_calamine.CalamineWorkbook.from_path(out / "emptied.xlsx")
        for name, (workings, _) in self.made.items():
            rows = book.get_sheet_by_name(name).to_python(skip_empty_area=False)
            for step, row in zip(workings.steps, rows[2:], strict=False):
                self.assertAlmostEqual(row[2] / step.value, 1.0, 12, f"{name}: {step.label}")

    def test_tables_as_sheets(self):
        path = self.folder / "tables.xlsx"
        ul.save({"betas": ul.factor_betas(ul.practice.panel(), ["market"]), "cost": self.cost}, path)
        book = python_calamine.CalamineWorkbook.from_path(path)
        self.assertEqual(book.sheet_names, ["betas", "cost"])
        row = next(r for r in book.get_sheet_by_name("cost").to_python() if r[0] == "BRTW")
        self.assertAlmostEqual(row[1], self.cost.value["BRTW"], 15)

    def test_on_the_command_line(self):
        days = pd.bdate_range("2015-01-01", "2020-12-31")
        rng = np.random.default_rng(2)
        prices = pd.DataFrame({n: 100 * np.exp(np.cumsum(rng.normal(0, 0.01, len(days)))) for n in ("KELP", "index")}, days)  # fmt: skip
        for name in prices:
            prices[name].rename("Close").rename_axis("Date").to_csv(self.folder / f"{name}.csv")
        done = command("estimate", "KELP.csv", "--factors", "index.csv", "--workings", "--workings-file", "w.xlsx",
                       cwd=self.folder)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("covariance over variance", done.stdout)
        self.assertTrue(zipfile.is_zipfile(self.folder / "w.xlsx"))
        looked = command("look", "KELP.csv#Close", "--returns", "M", "--workings", "--json", cwd=self.folder)
        self.assertIn("annualised volatility", looked.stdout)
        self.assertIn("needs --returns", command("look", "KELP.csv", "--workings", cwd=self.folder).stderr)


if __name__ == "__main__":
    unittest.main()
