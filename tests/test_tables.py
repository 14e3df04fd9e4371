"""Awkward tables read to the right series, broken ones refused with place and mend."""

import gzip
import io
import zipfile

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

import ultrum as ul
from tests.support import OnPractice, Scratch
from ultrum.errors import TableError
from ultrum.practice import store
from ultrum.sources.table import TableOptions, read_table
from ultrum.sources.table.quick import read_quick

GOOD = {  # name: (text, keywords, series, first period, values)
    "plain": ("date,cpi\n2024-01,100.5\n2024-02,101\n", {}, "cpi", "2024-01", [100.5, 101]),
    "semicolons and decimal commas": ("Monat;Wert\n01/2024;1,5\n02/2024;-2,25\n", {}, "Wert", "2024-01",
                                      [1.5, -2.25]),
    "prose above, note below": ("Made by clerks, in a hurry.\n\ndate,x\n2024-01,1\n2024-02,2\n\nEnd.\n", {},
                                "x", "2024-01", [1, 2]),
    "newest first": ("date,x\n2024-03,3\n2024-02,2\n2024-01,1\n", {}, "x", "2024-01", [1, 2, 3]),
    "percent signs": ("date,x\n2024-01,1.5%\n2024-02,-2%\n", {}, "x", "2024-01", [0.015, -0.02]),
    "percent in the prose": ("Returns in percent\ndate,x\n2024-01,7\n2024-02,n/a\n", {}, "x", "2024-01",
                             [0.07, np.nan]),
    "percent, but said to be decimal": ("in percent\ndate,x\n2024-01,7\n2024-02,8\n", {"units": "decimal"},
                                        "x", "2024-01", [7, 8]),
    "quarters": ("when|gdp\n2023 Q4|5\n2024 Q1|6\n", {}, "gdp", "2023-Q4", [5, 6]),
    "years": ("year\tpeople\n2022\t5100\n2023\t5200\n", {}, "people", "2022", [5100, 5200]),
    "thousands": ('date,x\n2024-01,"1,234.5"\n2024-02,"12,345"\n', {}, "x", "2024-01", [1234.5, 12345]),
    "dotted dates": ("Tag;x\n30.01.2024;1\n31.01.2024;2\n", {}, "x", "2024-01-30", [1, 2]),
    "compact dates": ("d,x\n20240130,1\n20240131,2\n", {}, "x", "2024-01-30", [1, 2]),
    "days beyond twelve settle the order": ("d,x\n12/01/2024,1\n15/01/2024,2\n", {}, "x", "2024-01-12",
                                            [1, 2]),
    "order given": ("d,x\n01/02/2024,1\n02/02/2024,2\n", {"dates": "15/03/2024"}, "x", "2024-02-01", [1, 2]),
    "no header, names given": ("2024-01,1\n2024-02,2\n", {"columns": ["date", "x"]}, "x", "2024-01", [1, 2]),
    "a recap above": ("half;x\n2023 H1;9\n2023 H2;9\n\nmonth;x\n01/2024;1\n02/2024;2\n03/2024;3\n", {}, "x",
                      "2024-01", [1, 2, 3]),
    "negatives in brackets": ("d,x\n2024-01,(5.5)\n2024-02,6\n", {}, "x", "2024-01", [-5.5, 6]),
    "named months": ("d,x\n30-Jan-2024,1\n31-Jan-2024,2\n", {}, "x", "2024-01-30", [1, 2]),
    "byte order mark": ("\ufeffdate,x\n2024-01,1\n2024-02,2\n", {}, "x", "2024-01", [1, 2]),
}  # fmt: skip

BROKEN = {  # name: (text, words of the message)
    "no table": ("Only prose here.\nNothing else.\n", ["no rows", "right file"]),
    "empty": ("", ["no rows"]),
    "no header": ("2024-01,1\n2024-02,2\n", ["no header", "line 1", "columns=[...]"]),
    "day and month tied": ("d,x\n01/02/2024,1\n03/02/2024,2\n", ["'01/02/2024'", "2024-02-01", "2024-01-02"]),
    "decimal mark tied": ("d;x\n2024-01;1,234\n2024-02;2,345\n", ["'1,234'", "decimal=','"]),
    "periods twice": ("d,x\n2024-01,1\n2024-01,2\n2024-02,3\n", ["appear twice", "2024-01"]),
    "a column twice": ("d,x,x\n2024-01,1,2\n", ["'x' twice"]),
    "ragged": ("d,x\n2024-01,1\n2024-02,2,9\n2024-03,3\n2024-04,4\n", ["line 3", "3 cells, not 2"]),
    "asset changes currency": ("date,asset,currency,close\n2024-01,A,QML,1\n2024-02,A,QSR,2\n"
                               "2024-01,B,QML,1\n2024-02,B,QML,2\n", ["A", "currency"]),
}  # fmt: skip


class Corpus(Scratch):
    def test_awkward_tables(self):
        for name, (text, said, series, first, values) in GOOD.items():
            with self.subTest(name):
                reading = ul.read_series(self.file("t.txt", text), **said)
                got = reading.series[series]
                self.assertEqual(got.about.frequency.labels(got.ordinals[:1])[0], first)
                np.testing.assert_array_equal(got.to_pandas().to_numpy(), np.array(values, float))

    def test_broken_tables(self):
        for name, (text, words) in BROKEN.items():
            with self.subTest(name), self.refused(TableError, *words):
                ul.read_series(self.file("t.txt", text))

    def test_a_bad_row_is_rejected_and_reported(self):
        rows = "".join(f"2024-01-{d:02d},{d}\n" for d in range(1, 31))
        text = f"date,x\n{rows}2024-01-31,thirty\n".replace("2024-01-07,7", "2024-02-30,7")
        reading = ul.read_series(self.file("t.csv", text))
        self.assertEqual(len(reading.series["x"]), 29)
        self.assertEqual([(r.line, r.reason) for r in reading.rejected],
                         [(8, "'2024-02-30' is no day of the calendar"),
                          (32, "'thirty' in 'x' is no number")])  # fmt: skip

    def test_columns_that_are_no_series_are_reported(self):
        reading = ul.read_series(
            self.file("t.csv", "date,x,note,void\n2024-01,1,calm,n/a\n2024-02,2,gale,\n")
        )
        said = {d.what: d.chosen for d in reading.decisions}
        self.assertIn("'calm'", said["column 'note'"])
        self.assertIn("no value", said["column 'void'"])
        self.assertEqual(list(reading.series), ["x"])

    def test_archives(self):
        text = b"date,x\n2024-01,1\n2024-02,2\n"
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            archive.writestr("a.csv", text)
            archive.writestr("notes.txt", "hello")
        two = self.file("two.zip", packed.getvalue())
        self.assertEqual(len(ul.read_series(two, member="a.csv").series["x"]), 2)
        self.assertEqual(
            len(ul.read_series(self.file("a.csv.gz", gzip.compress(text))).series["x"]), 2
        )
        for broken, words in ((two, ["2 files", "a.csv", "member="]),
                              (self.file("cut.zip", packed.getvalue()[:80]), ["damaged"]),
                              (self.file("cut.gz", gzip.compress(text)[:20]), ["damaged"]),
                              (self.folder / "absent.csv", ["cannot be read"])):  # fmt: skip
            with self.refused(TableError, *words):
                ul.read_series(broken)

    def test_long_tables_and_dated_records(self):
        text = "date,asset,currency,close\n2024-01,A,QML,1\n2024-01,B,QSR,2\n2024-02,B,QSR,3\n"
        reading = ul.read_series(self.file("t.csv", text))
        self.assertEqual(sorted(reading.series), ["A.close", "B.close"])
        self.assertEqual(reading.series["B.close"].about.currency, "QSR")
        self.assertTrue(np.isnan(reading.series["A.close"].values.iloc[1]))
        twice = "date,asset,amount\n2024-01-05,A,1\n2024-01-05,A,2\n2024-01-06,B,3\n"
        records = ul.read_series(self.file("d.csv", twice), records_only=True)
        self.assertEqual(len(records.tables["d.csv"]), 3)


FACTS = st.fixed_dictionaries({
    "mark": st.sampled_from(";\t|,"), "decimal": st.sampled_from(".,"),
    "dates": st.sampled_from(["%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%Y%m%d", "%m/%d/%Y"]),
    "missing": st.sampled_from(["", "n/a", "-", ".."]), "prose": st.booleans(),
    "backwards": st.booleans(), "rows": st.integers(2, 40), "seed": st.integers(0, 9999)})  # fmt: skip


class Dialects(Scratch):
    @settings(max_examples=150, deadline=None)
    @given(FACTS)
    def test_a_known_table_in_any_dialect_comes_back_equal_or_is_refused(self, d):
        rng = np.random.default_rng(d["seed"])
        days = pd.bdate_range("2023-11-01", periods=d["rows"])
        values = np.round(rng.normal(0, 100, (d["rows"], 2)), int(rng.integers(0, 5)))
        values[rng.random(values.shape) < 0.1] = np.nan
        cells = [[d["missing"] if np.isnan(v) else repr(float(v)).replace(".", d["decimal"]) for v in row]
                 for row in values]  # fmt: skip
        lines = [d["mark"].join([f'"{c}"' if d["mark"] in c else c for c in [day.strftime(d["dates"]), *row]])
                 for day, row in zip(days, cells, strict=True)]  # fmt: skip
        lines = lines[::-1] if d["backwards"] else lines
        text = ["Figures of the harbour, kindly collected.", ""] * d["prose"]
        text += [d["mark"].join(["day", "alpha", "beta"]), *lines]
        try:
            reading = read_table("\n".join(text).encode(), "t", TableOptions())
        except TableError:
            return
        for i, name in enumerate(("alpha", "beta")):
            if np.isnan(values[:, i]).all():
                continue
            got = reading.series[name].to_pandas()
            np.testing.assert_array_equal(got.to_numpy(), values[:, i])
            self.assertEqual([str(t.date()) for t in got.index], [str(t.date()) for t in days])


class PracticeFiles(OnPractice):
    def test_the_college_file(self):
        reading = ul.read_series(store.DATA / "college" / "factors_monthly.zip", measure="return")
        chosen = {d.what: d.chosen for d in reading.decisions}
        self.assertEqual(chosen["units"], "percent")
        self.assertEqual(chosen["dates"], "written like 03/2024")
        self.assertIn("42 rows", chosen["set aside"])
        panel = ul.practice.panel()
        for name in ("market", "size", "value", "momentum"):
            got = reading.series[name].to_pandas()
            np.testing.assert_allclose(got.dropna(), panel.factors[name][got.notna()], atol=5.1e-6)
        self.assertEqual(int(reading.series["momentum"].values.isna().sum()), 3)

    def test_the_quick_way_and_the_careful_way_agree(self):
        frame = store.table("indices")
        body = frame.assign(copy=frame["QLX-ALL"]).to_csv(index=False).encode()
        self.assertIsNone(read_quick(body[:1000], "i.csv", TableOptions()))
        self.assertIsNotNone(read_quick(body, "i.csv", TableOptions()))
        quick = read_table(body, "i.csv").series
        careful = read_table(body, "i.csv", TableOptions(missing=[])).series
        for name, series in careful.items():
            pd.testing.assert_series_equal(quick[name].to_pandas(), series.to_pandas())

    def test_prices_over_http(self):
        reading = ul.read_series(f"{self.service.url}/exchange/prices.csv")
        bars = store.bars()
        self.assertEqual(len(reading.series), 120)
        self.assertEqual(
            sum(s.values.notna().sum() for s in reading.series.values()), 5 * len(bars)
        )
        one = bars[bars["asset"] == "SNST"]["close"].to_numpy()
        np.testing.assert_array_equal(reading.series["SNST.close"].to_pandas().dropna(), one)
