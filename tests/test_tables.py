"""Awkward tables read to the right series, broken ones refused with place and mend."""

import datetime as dt
import gzip
import io
import json
import zipfile

import numpy as np
import pandas as pd
import xlsxwriter
from babel.dates import format_date
from hypothesis import given, settings
from hypothesis import strategies as st

import ultrum as ul
from tests.corpus import BROKEN, GOOD, PAGE, open_document
from tests.generated_locales import locale_differences, make_locale_case
from tests.generated_tables import differences, make_case
from tests.stated_facts import FILES, lost_facts
from tests.support import OnPractice, Scratch, months
from ultrum.errors import PartialReadingWarning, TableError
from ultrum.practice import statistics_service
from ultrum.sources.table.fast_csv import read_quick
from ultrum.sources.table.file_patterns import files_of
from ultrum.sources.table.reader import read_table
from ultrum.sources.table.reading_result import TableOptions

TERMS = (
    "<html><body><table><tr><th>Term</th><th>Rate</th></tr><tr><td>3M</td><td>{}</td></tr></table></body></html>"
)


class Corpus(Scratch):
    def test_awkward_tables(self):
        self.assertGreaterEqual(len(GOOD), 40)
        for name, (source, said, series, first, values) in GOOD.items():
            with self.subTest(name):
                reading = ul.read_series(self.file("t.txt", source), **said)
                got = reading.series[series]
                self.assertEqual(got.metadata.frequency.labels(got.ordinals[:1])[0], first)
                np.testing.assert_array_equal(got.to_pandas().to_numpy(), np.array(values, float))

    def test_broken_tables(self):
        self.assertGreaterEqual(len(BROKEN), 20)
        for name, (source, said, words) in BROKEN.items():
            with self.subTest(name), self.refused(TableError, *words):
                ul.read_series(self.file("t.txt", source), **said)

    def test_a_single_row_of_another_frequency_under_its_own_heading_is_reported(self):
        rows = "".join(f"2024{m:02d},{m}.5,1\n" for m in range(1, 7))
        for below in ("\nAnnual\ndate,a,b\n2024,5.5,2\n", "\nAnnual\ndate,a,b\n2024,5.5,2\n\nNote 3\n"):
            reading = ul.read_series("date,a,b\n" + rows + below)
            self.assertEqual([r.text for r in reading.rejected], ["2024 5.5 2"])
            self.assertEqual(reading.series["a"].values.tolist(), [m + 0.5 for m in range(1, 7)])

    def test_a_bad_row_is_rejected_and_reported(self):
        rows = "".join(f"2024-01-{d:02d},{d}\n" for d in range(1, 31))
        text = f"date,x\n{rows}2024-01-31,thirty\n".replace("2024-01-07,7", "2024-02-30,7")
        reading = ul.read_series(self.file("t.csv", text))
        self.assertEqual((len(reading.series["x"]), reading.series["x"].values.count()), (31, 29))
        self.assertTrue(np.isnan(reading.series["x"].to_pandas().iloc[-1]))
        self.assertEqual([(r.line, r.reason) for r in reading.rejected],
                         [(8, "'2024-02-30' is not a calendar day"),
                          (32, "'thirty' in 'x' is not a number; this cell is not used")])  # fmt: skip

    def test_marks_of_quality_become_the_status_of_their_observation(self):
        reading = ul.read_series("date,a,b\n2020-01,1.2 p,5\n2020-02,1.5¹,6\n2020-03,holiday,7\n")
        self.assertEqual(reading.records["a status"].tolist(), ["provisional", "¹", ""])
        self.assertEqual(reading.series["a"].metadata.notes, ("1 provisional", "1 ¹"))
        self.assertEqual([r.line for r in reading.rejected], [4])
        self.assertEqual(reading.series["b"].to_pandas().tolist(), [5, 6, 7])

    def test_pairs_of_currencies_keep_their_direction(self):
        wide = "date,{}\n2024-01-02,1.1\n2024-01-03,1.2\n"
        for heading, unit in {"EURUSD": "EUR/USD", "QML-QSR": "QML/QSR", "QML QSR": "QML/QSR", "usd/eur": "USD/EUR",
                              "QML per QSR": "QSR/QML", "FACTOR": "", "EUR/ABC": ""}.items():  # fmt: skip
            self.assertEqual(next(iter(ul.read_series(wide.format(heading)).series.values())).metadata.unit, unit)
        for head, row in (("base,quote,rate", "EUR,{}"), ("currency,base,rate", "{},EUR")):
            rows = "".join(f"2024-01-0{d},{row.format(c)},{d}\n" for d in (2, 3) for c in ("USD", "QML"))
            found = ul.read_series(f"date,{head}\n{rows}").series
            self.assertEqual({n: s.metadata.unit for n, s in found.items()},
                             {"USD.rate": "EUR/USD", "QML.rate": "EUR/QML"})  # fmt: skip

    def test_a_repeated_hour_is_told_by_order_and_a_skipped_one_is_refused(self):
        text = "time,x\n" + "".join(f"2024-10-27 {t},{i}\n" for i, t in enumerate(
            ("01:30", "02:00", "02:30", "02:00", "02:30", "03:00")))  # fmt: skip
        index = ul.read_series(text, timezone="Europe/Paris").series["x"].index
        self.assertEqual(len(index.tz_convert("UTC").unique()), 6)
        for day, words in (("2024-03-31", ["skipped 2024-03-31 02:00"]), ("2024-10-27", ["twice"])):
            with self.refused(TableError, *words):
                ul.read_series(f"time,x\n{day} 01:00,1\n{day} 02:00,2\n{day} 03:00,3\n{day} 03:30,3\n",
                               timezone="Europe/Paris")  # fmt: skip

    def test_columns_that_are_no_series_are_reported(self):
        reading = ul.read_series(self.file("t.csv", "date,x,note,void\n2024-01,1,calm,n/a\n2024-02,2,gale,\n"))
        said = {d.what: d.chosen for d in reading.decisions}
        self.assertIn("'calm'", said["column 'note'"])
        self.assertIn("no value", said["column 'void'"])
        self.assertEqual(list(reading.series), ["x"])

    def test_archives(self):
        text = b"date,x\n2024-01,1\n2024-02,2\n"
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            archive.writestr("a.csv", text)
            archive.writestr("b.csv", "hello")
        two = self.file("two.zip", packed.getvalue())
        self.assertEqual(len(ul.read_series(two, member="a.csv").series["x"]), 2)
        self.assertEqual(len(ul.read_series(self.file("a.csv.gz", gzip.compress(text))).series["x"]), 2)
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
        self.assertEqual(reading.series["B.close"].metadata.currency, "QSR")
        self.assertTrue(np.isnan(reading.series["A.close"].values.iloc[1]))
        twice = "date,asset,amount\n2024-01-05,A,1\n2024-01-05,A,2\n2024-01-06,B,3\n"
        records = ul.read_series(self.file("d.csv", twice), records_only=True)
        self.assertEqual(len(records.tables["d.csv"]), 3)


class Reports(Scratch):
    def test_every_series_gets_a_unit(self):
        text = ("month,cpi,jobless,pay,tea,QSR/QML,QTV per QML\n,2015=100,%,QML,tonnes,,\n"
                "2024-01,101.5,4.5,2100,7,1.4,8\n2024-02,101.7,4.6,2110,8,1.5,9\n")  # fmt: skip
        series = ul.read_series(text).series
        found = {n: (s.metadata.measure, s.metadata.unit, s.metadata.currency) for n, s in series.items()}
        self.assertEqual(found, {
            "cpi": ("index", "index", ""), "jobless": ("", "decimal", ""),
            "pay": ("", "currency", "QML"), "tea": ("", "", ""), "QSR/QML": ("quote", "QSR/QML", ""),
            "QTV per QML": ("quote", "QML/QTV", "")})  # fmt: skip
        self.assertEqual(series["cpi"].metadata.base_period, "2015")
        for heading, unit, want in (
            ("pay (QML),tea", "percent", [2100, 0.07]),
            ("pay (%),tea", "decimal", [2100, 7]),
            ("pay (QML),tea (QSR mn)", "percent", [21, 0.07]),
        ):
            one_word = ul.read_series(f"m,{heading}\n2024-01,2100,7\n2024-02,2110,8\n", units=unit).series
            self.assertEqual(
                [s.values.iloc[0] for s in one_word.values()], want
            )  # not of an amount beside others
        with self.refused(TableError, "name comes from the table"):
            ul.read_series(text, name="pay")
        given = ul.read_series(text, units={"tea": "QSR", "jobless": "as written"}).series
        self.assertEqual(given["tea"].metadata.currency, "QSR")
        self.assertEqual(given["jobless"].values.iloc[0], 4.5)

    def test_rows_of_whole_years_among_their_parts_are_set_aside(self):
        quarters, months = (
            ["Q1", "Q2", "Q3", "Q4"],
            [f"{day:%b}" for day in pd.date_range("2021", periods=12, freq="MS")],
        )
        for heading, parts, whole in (
            ("Year,Quarter,x", quarters, "Annual"), ("Year,Quarter,x", [1, 2, 3, 4], "Total"), ("Year,Period,x", quarters, ""),
            ("Jahr,Quartal,x", [f"{k}. Quartal" for k in (1, 2, 3, 4)], "Jahr"), ("Year,Period,x", quarters, "202{year}"),
            ("Year,Month,x", months, "Annual average"), ("Year,Quarter,x", quarters, "all"),
        ):  # fmt: skip
            rows = [
                f"202{year},{part},{10 * k}".replace("{year}", year)
                for year in "12"
                for k, part in enumerate([*parts, whole])
            ]
            reading = ul.read_series("\n".join([heading, *rows]))
            (made,) = reading.series.values()
            want = [{4: "Q", 12: "M"}[len(parts)], *[10.0 * k for k in range(len(parts))] * 2]
            self.assertEqual([str(made.frequency), *made.values], want)
            self.assertIn(
                "2 rows of whole years not used", next(d.chosen for d in reading.decisions if d.what == "dates")
            )

        for codes, frequency in ({"M12": 7, "M13": 50}, "M"), ({"A01": 7}, "A"), ({"M13": 7}, "A"):
            rows = [f"202{year},{code},{value}" for year in "12" for code, value in codes.items()]
            (made,) = ul.read_series("\n".join(["year,period,x", *rows])).series.values()
            self.assertEqual([str(made.frequency), *made.values], [frequency, 7.0, 7.0])  # never January
        with self.refused(TableError, "'Setp' under 'month' is neither a month nor a quarter (1 such cell)"):
            ul.read_series("Year,Month,x\n" + "".join(f"2021,{'Setp' if m == 'Sep' else m},1\n" for m in months))

    def test_a_rate_of_which_nothing_says_percent_or_decimal_gets_no_unit(self):
        for text, unit in (("m,Rate\n2024-01,1.5\n2024-02,1.6\n", ""), ("m,Rate\n2024-01,0.015\n2024-02,0.016\n", "decimal"),
                           ("m,Rate\n2024-01,1.5 %\n2024-02,-1.6 %\n", "decimal")):  # fmt: skip
            metadata = ul.read_series(text).series["Rate"].metadata
            self.assertEqual((metadata.unit, metadata.measure), (unit, "rate" if unit else ""))

    def test_decisions_say_what_was_chosen_where_and_how_surely(self):
        text = (
            "Half\nh,x\n2023 H1,9\n2023 H2,9\n\nAll figures in percent\nm,x\n2024-03,3\n2024-02,..\n2024-01,1\n"
        )
        told = {d.what: d for d in ul.read_series(text).decisions}
        self.assertEqual((told["header"].chosen, told["rows"].chosen), ("line 7", "lines 8 to 10"))
        self.assertEqual((told["units"].chosen, told["units"].line), ("percent", 6))
        self.assertIn("marked ..", told["missing"].chosen)
        self.assertIn("newest first", told["order"].chosen)
        self.assertIn("2 rows from line 3", told["set aside"].chosen)
        self.assertEqual(told["delimiter"].chosen, ",")

    def test_dated_records_are_kept_as_tables(self):
        text = "date,holder,shares\n2024-01-05,Ann,5\n2024-01-05,Ann,6\n2024-02-05,Bo,5\n"
        with self.assertRaises(TableError) as refused:
            ul.read_series(text)
        self.assertEqual(refused.exception.recommended["records_only"], (True,))
        reading = ul.read_series(text, records_only=True)
        self.assertEqual(reading.tables["pasted text"]["shares"].tolist(), [5, 6, 5])

    def test_intraday_with_a_zone(self):
        text = "t;x\n2024-11-04 09:00;1\n2024-11-04 09:05;2\n2024-11-04 09:10;3\n"
        series = ul.read_series(text, timezone="Etc/GMT-2").series["x"]
        self.assertEqual(str(series.metadata.frequency), "5N")
        self.assertEqual(series.index[0].tz_convert("UTC").isoformat(), "2024-11-04T07:00:00+00:00")
        zoned = text.replace(";1", "+02:00;1").replace(";2", "+02:00;2").replace(";3", "+02:00;3")
        own = ul.read_series(zoned).series["x"].index
        self.assertEqual(own.tolist(), series.index.tolist())

    def test_values_read_off_a_picture_are_marked(self):
        series = ul.read_series("d,x\n2024-01,1\n2024-02,2\n", estimated=True).series["x"]
        self.assertIn("estimated", str(series.metadata.trail[-1]))

    def test_a_lone_figure_is_found_by_its_words(self):
        page = ("<html><body><p>Ships: 12</p><p>Freight rate today: QML 1.250,5 for a ton, as of {}.</p>"
                "</body></html>\n")  # fmt: skip
        made = ul.read_series(page.format("5 March 2024"), figure="freight rate today", decimal=",")
        series = made.series["freight rate today"]
        self.assertEqual((series.values.iloc[0], series.metadata.currency, str(series.index[0])[:10]),
                         (1250.5, "QML", "2024-03-05"))  # fmt: skip
        for text, words in ((page.format("no day"), ["on='2024-03-15'"]),
                            (page.replace("today", "tomorrow"), ["does not contain the words"]),
                            (page.replace("Ships: 12", "Freight rate today: 7"),
                             ["different numbers"])):  # fmt: skip
            with self.refused(TableError, *words):
                ul.read_series(text, figure="Freight rate today", decimal=",")

    def test_files_under_a_pattern(self):
        for code, value in (("01", 1.5), ("12", 2.5)):
            self.file(f"rents-{code}.csv", f"d,rent\n2024-01,{value}\n2024-02,{value + 1}\n")
        pattern = str(self.folder / "rents-{region}.csv")
        self.assertEqual(list(ul.read_series(pattern).series), ["01", "12"])
        self.assertEqual(list(ul.read_series(pattern, expand={"region": ["12"]}).series), ["12"])
        self.file("rents/east-2023.csv", "d,rent\n2023-01,4\n2023-02,5\n")
        self.file("rents/west-2024.csv", "d,rent\n2024-01,6\n2024-02,7\n")
        both = ul.read_series(str(self.folder / "rents" / "{side}-{year}.csv")).series
        self.assertEqual(
            {n: s.values.tolist() for n, s in both.items()}, {"east.2023": [4, 5], "west.2024": [6, 7]}
        )
        named = [fields for _, fields in files_of(str(self.folder / "rents" / "{side}-{year}.csv"))]
        self.assertEqual(named, [{"side": "east", "year": "2023"}, {"side": "west", "year": "2024"}])
        with self.refused(TableError, "rents-13.csv cannot be read"):
            ul.read_series(pattern, expand={"region": ["13"]})

    def test_dated_copies_of_a_page_become_a_history(self):
        self.file("page-20240105.html", PAGE.format("x"))
        self.file("page-20240106.html", PAGE.format("x").replace("1.75", "1.8").replace("2 Jan", "4 Jan"))
        series = ul.read_series(str(self.folder / "page-{date:%Y%m%d}.html")).series["Rate"]
        self.assertEqual(series.to_pandas().tolist(), [1.5, 1.8, 1.5])
        for day, rate in (("0105", 7), ("0106", 8)):
            self.file(f"rate-2024{day}.txt", f"Today's rate: {rate} miral\n")
        series = ul.read_series(str(self.folder / "rate-{date:%Y%m%d}.txt"), figure="rate").series["rate"]
        self.assertEqual(series.to_pandas().tolist(), [7, 8])

    def test_a_day_without_a_file_is_a_gap_and_units_of_copies_agree(self):
        for day in ("02", "03", "05"):
            self.file(f"c-2024-01-{day}.html", TERMS.format(f"{int(day)}.5%"))
        pattern = str(self.folder / "c-{day:%Y-%m-%d}.html")
        read = {"headings": ["Term", "Rate"], "expand": {"day": ("2024-01-02", "2024-01-08", "B")}}
        reading = ul.read_series(pattern, **read)
        self.assertEqual(reading.series["3M.Rate"].to_pandas().tolist(), [0.025, 0.035, 0.055])
        said = {d.what: d.chosen for d in reading.decisions}
        self.assertEqual(said["files missing"], "2 dates without a file: 2024-01-04, 2024-01-08")
        self.file("c-2024-01-04.html", TERMS.format("4.5"))
        with self.refused(TableError, "'3M' is in", "units='percent'"):
            ul.read_series(pattern, **read)
        with self.refused(TableError, "no dates", "on='2024-03-15'"):
            ul.read_series(str(self.folder / "c-2024-01-02.html"), headings=["Term", "Rate"])
        with self.refused(TableError, "no such file"):
            ul.read_series(pattern, expand={"day": ["2025-01-02"]})


_MONTHS = "2024-01,1.5\n2024-02,2\n2024-03,2.5\n"
_PERCENT = (0.015, {"unit": "decimal"})
_MONEY = (1.5, {"unit": "currency", "currency": "QML"})
STATED = {  # words above, heading, words below; the first value and the facts
    "a labelled unit": ("Einheit: %", "Monat,Quote", "", _PERCENT),
    "a labelled unit below": ("", "Date,Value", "Unité : pourcentage", _PERCENT),
    "percent in the title": ("Räntor i procent", "Månad,Ränta", "", _PERCENT),
    "percent with a remark": ("Jobless (percent; not adjusted)", "Date,Value", "", _PERCENT),
    "percent in Cyrillic": ("Безработица, в процентах", "Месяц,Значение", "", _PERCENT),
    "percent in Japanese": ("失業率（単位：％）", "年月,値", "", _PERCENT),
    "percent per annum": (
        "Bill, percent per annum",
        "Date,Bill",
        "",
        (0.015, {"unit": "decimal", "measure": "rate"}),
    ),
    "basis points": ("Unit: bp", "Date,Spread", "", (0.00015, {"unit": "decimal"})),
    "basis points in the heading": ("", "Date,Spread (basis points)", "", (0.00015, {"unit": "decimal"})),
    "a labelled currency": ("Währung: QML", "Datum,Schluss", "", _MONEY),
    "a currency in the title": ("KELP share price in QML", "Date,Close", "", _MONEY),
    "millions of a currency": (
        "Output, millions of QML",
        "Date,Output",
        "",
        (1.5e6, {"currency": "QML", "scale": 6}),
    ),
    "thousands in the heading": ("", "Date,Employed (thousands)", "", (1500.0, {"scale": 3, "currency": ""})),
    "a volume is not money": ("Currency: QML", "Date,Volume", "", (1.5, {"currency": ""})),
    "letters that are no currency": ("List (XLS)", "Date,Value", "", (1.5, {"currency": "", "unit": ""})),
    "a number of percent": ("Growth rose by 2 percent", "Date,Value", "", (1.5, {"unit": ""})),
}


class Statements(Scratch):
    def test_what_a_file_states_about_units_reaches_the_series(self):
        for name, (above, heading, below, (first, facts)) in STATED.items():
            text = "\n".join(filter(None, (above, heading, _MONTHS.strip(), below)))
            with self.subTest(name):
                got = next(iter(ul.read_series(self.file("t.csv", text)).series.values()))
                self.assertAlmostEqual(got.to_pandas().iloc[0], first, 15)
                self.assertEqual({k: getattr(got.metadata, k) for k in facts}, facts)

    def test_a_column_of_units_holds_row_by_row(self):
        rows = [
            (n, u, v) for n, u, v in (("rate", "Percent", 4.5), ("cpi", "Index", 101), ("gdp", "QML million", 10))
        ]
        text = "date,item,unit,value\n" + "".join(f"2024-0{m},{n},{u},{v}\n" for n, u, v in rows for m in (1, 2))
        series = ul.read_series(text).series
        self.assertEqual([series[n].values.iloc[0] for n in ("rate", "cpi", "gdp")], [0.045, 101, 10e6])
        self.assertEqual([series[n].metadata.unit for n in ("rate", "cpi", "gdp")], ["decimal", "", "currency"])
        alone = ul.read_series("date,value,unit\n" + "".join(f"2024-0{m},0.25,percent\n" for m in (1, 2, 3)))
        self.assertEqual(next(iter(alone.series.values())).values.iloc[0], 0.0025)

    def test_series_by_name_in_json_and_times_of_day_in_a_workbook(self):
        body = b'{"A":[{"day":"2024-01","v":1},{"day":"2024-02","v":2}],"B":[{"day":"2024-01","v":3},{"day":"2024-02","v":4}]}'
        named = {n: s.values.tolist() for n, s in ul.read_series(body).series.items()}
        self.assertEqual(named, {"A.v": [1, 2], "B.v": [3, 4]})
        book = xlsxwriter.Workbook(self.folder / "times.xlsx")
        sheet, day, clock = (
            book.add_worksheet(),
            *(book.add_format({"num_format": f}) for f in ("yyyy-mm-dd", "[h]:mm")),
        )
        sheet.write_row(0, 0, ["date", "time", "close"])
        for k in range(4):
            sheet.write_datetime(k + 1, 0, dt.datetime(2024, 1, k + 2), day)
            sheet.write_datetime(k + 1, 1, dt.timedelta(hours=9 + k, minutes=30), clock)
            sheet.write_number(k + 1, 2, 10 + k)
        book.close()
        records = ul.read_series(self.folder / "times.xlsx").records
        self.assertEqual(
            [str(t) for t in records["date"]], [f"2024-01-0{k + 2} {9 + k:02d}:30:00" for k in range(4)]
        )

    def test_units_in_the_number_formats_of_a_workbook(self):
        formats = {  # what the sheet shows for 1.5, the number and the currency that it means
            '#,##0.00 "€"': (1.5, "EUR"), "[$£-809]#,##0.00": (1.5, "GBP"), "[$$-1009]0.00;[Red]-0.00": (1.5, "CAD"),
            "0.00%": (1.5, ""), '0.00" %"': (0.015, ""), '0.00" bp"': (0.00015, ""), "$0.00": (1.5, ""), '0.00"GBX"': (0.015, "GBP"),
            "0.00_);(0.00)": (1.5, ""), r"0.0\x": (1.5, ""),
        }  # fmt: skip
        with xlsxwriter.Workbook(self.folder / "formats.xlsx") as book:
            sheet = book.add_worksheet()
            sheet.write_row(0, 0, ["month", *(f"c{k}" for k in range(len(formats)))])
            for row in range(1, 5):
                sheet.write(row, 0, f"2024-0{row}")
                for k, code in enumerate(formats, 1):
                    sheet.write_number(row, k, 1.5, book.add_format({"num_format": code}))
        series = ul.read_series(self.folder / "formats.xlsx").series
        found = {code: series[f"c{k}"] for k, code in enumerate(formats)}
        for code, (number, currency) in formats.items():
            with self.subTest(code):
                self.assertEqual((found[code].values.iloc[0], found[code].metadata.currency), (number, currency))

    def test_units_in_the_cells_of_an_open_document(self):
        """As the standard writes them: by type of value, by currency, by the style of a cell or of its column."""
        number = '<number:number-style style:name="N%d"><number:number/><number:text>%s</number:text></number:number-style>'
        style = '<style:style style:name="ce%d" style:family="table-cell" style:data-style-name="N%d"/>'
        styles = number % (1, " %") + number % (2, " bp") + style % (1, 1) + style % (2, 2)
        columns = '<table:table-column table:number-columns-repeated="5"/><table:table-column table:default-cell-style-name="ce2"/>'
        plain = 'office:value-type="float"'
        months = [
            [dt.date(2024, m, 28), (1.5, 'office:value-type="percentage"'), (1.5, 'office:value-type="currency" office:currency="CHF"'),
             (1.5, f'{plain} table:style-name="ce1"'), (1.5, plain), (1.5, plain)]
            for m in range(1, 5)
        ]  # fmt: skip
        head = ["month", "share (%)", "close", "growth", "plain", "spread"]
        series = ul.read_series(open_document([head, *months], styles, columns)).series
        found = {name: (series[name].values.iloc[0], series[name].metadata.currency) for name in series.names}
        want = {
            "share (%)": (1.5, ""),
            "close": (1.5, "CHF"),
            "growth": (0.015, ""),
            "plain": (1.5, ""),
            "spread": (0.00015, ""),
        }
        self.assertEqual(found, want)
        months[1][1] = (None, 'table:formula="of:=[.C3]"')  # as a program writes it that does not compute
        with self.refused(TableError, "row 3, column 2", "without a stored result"):
            ul.read_series(open_document([head, *months]))

    def test_a_heading_states_the_time_zone(self):
        hours = pd.date_range("2024-07-02 09:00", periods=1_900, freq="h")
        for count in (5, 1_900):  # a few rows, and a file of which a sample decides
            rows = "".join(f"{t:%Y-%m-%d %H:%M},{100 + t.hour}.5\n" for t in hours[:count])
            for zone, ahead in (("UTC", "+00:00"), ("Europe/Paris", "+02:00")):
                index = ul.read_series(f"Time ({zone}),bid\n{rows}".encode()).series["bid"].index
                self.assertEqual((len(index), index[0].isoformat()), (count, f"2024-07-02T09:00:00{ahead}"))
        with self.refused(TableError, "no time zone is stated"):
            ul.read_series("Time,bid\n2024-07-02 09:00,1\n2024-07-02 10:00,2\n2024-07-02 11:00,3\n")

    def test_facts_of_json_and_signs_in_cells(self):
        months = [{"date": f"2024-0{m}", "value": 5.0 + m} for m in (1, 2, 3)]
        text = json.dumps({"series": "jobless", "units": "Percent", "observations": months})
        self.assertEqual(ul.read_series(text.encode()).series["value"].values.iloc[0], 0.06)
        cells = "".join(f"2024-0{m},{{}}\n" for m in (1, 2, 3))
        self.assertEqual(
            ul.read_series("Date,S\n" + cells.format("145 bp", "150 bp", "1 bp")).series["S"].values.iloc[0],
            0.0145,
        )
        price = ul.read_series("Date,P\n" + cells.format("40.20 zł", "41 zł", "42 zł")).series["P"]
        self.assertEqual((price.values.iloc[0], price.metadata.currency), (40.2, "PLN"))

    def test_what_is_not_a_finite_number_is_rejected_in_every_format_and_at_every_door(self):
        frame = pd.DataFrame({"date": pd.date_range("2024-01-01", periods=3, freq="MS"), "v": [1, np.inf, 3]})
        frame.to_parquet(self.folder / "v.parquet", index=False)
        self.file("v.csv", "date,v\n2024-01,1\n2024-02,inf\n2024-03,3\n")
        desk = ul.Desk(self.folder / "vault", sources={"here": {"kind": "table", "url": str(self.folder)}})
        self.addCleanup(desk.__exit__)
        for name, line in (("v.parquet", 2), ("v.csv", 3)):
            reading = ul.read_series(self.folder / name)
            np.testing.assert_array_equal(reading.series["v"].to_pandas(), [1, np.nan, 3])
            self.assertEqual([r.line for r in reading.rejected], [line])
            with self.assertWarnsRegex(PartialReadingWarning, f"in part.*line {line}"):
                desk.fetch(f"here:{name}#v")

    def test_what_contradicts_is_refused_and_what_no_column_takes_is_listed(self):
        for above, words in (
            ("Currency: QML\nValuta: QSR", ["two currencies"]),
            (
                "Persons in thousands, rate in percent",
                ["percent and a multiple", "units={'Value': 'as written'}"],
            ),
        ):
            with self.refused(TableError, *words):
                ul.read_series(f"{above}\nDate,Value\n{_MONTHS}")
        text = f"Persons in thousands, rate in percent\nDate,Value\n{_MONTHS}"
        kept = ul.read_series(text, units={"Value": "as written"}).series["Value"]
        self.assertEqual(kept.values.iloc[0], 1.5, "the recommended fix reads it")
        told = ul.read_series(f"The rate rose by half a percent\nDate,Value\n{_MONTHS}").decisions
        self.assertEqual([d.line for d in told if d.what == "not used"], [1])


ACCOUNTED = {
    "dates across, a unit above": (
        "Harbour office\nRents, percent\n;2020-01;2020-02;2020-03\nNorth;1;2;3\nSouth;4;5;6\nSource: Office\n",
        ["title", "unit", "header", "row", "row", "note"],
        ["North", "South"],
    ),  # text, classes of its lines that are not blank, series
    "titles, a sum and notes": (
        "Office of Weights\nEinheit: %\nMonth;North\n2020-01;1,5\n2020-02;1,6\nSumme;3,1\n\nNote: early\n",
        ["title", "unit", "header", "row", "row", "subtotal", "note"],
        ["North"],
    ),
    "names over units, a bad cell": (
        "date,a,b\n,kg,%\n2020-01,1,2\n2020-02,x?,3\n2020-03,1,4\n2020-04,1,4\n2020-05,2,4\n",
        ["header", "header", "row", "row", "row", "row", "row"],
        ["a", "b"],
    ),
    "a second table without dates": (
        "date;a\n2020-01;1\n2020-02;2\n2020-03;3\n\nRegion;Heads\n1;50\n",
        ["header", "row", "row", "row", "note", "not used"],
        ["a"],
    ),
    "a table of another frequency": (
        "date;a\n2020-01;1\n2020-02;2\n2020-03;3\n\nyear;a\n2018;5\n2019;6\n",
        ["header", "row", "row", "row", "other table", "other table", "other table"],
        ["a"],
    ),
    "dates across": (
        "Wages\nseries,2020-01,2020-02,2020-03\nA,1,2,3\nB,4,5,6\nSource: made up\n",
        ["title", "header", "row", "row", "note"],
        ["A", "B"],
    ),
    "two date columns": (
        "Date;A;Date;B\n" + "".join(f"2020-0{m};{m};2019-0{m};{m * 10}\n" for m in range(1, 6)),
        ["header", *["row"] * 5],
        ["A", "B"],
    ),
}


class Account(Scratch):
    def test_each_line_has_one_class(self):
        for name, (text, classes, series) in ACCOUNTED.items():
            with self.subTest(name):
                reading = ul.read_series(text)
                spelled = [c for c, n in reading.account[["class", "lines"]].to_numpy() for _ in range(n)]
                self.assertEqual(spelled, classes)
                self.assertEqual(list(reading.series), series)
                self.assertEqual(reading.account["lines"].sum(), sum(bool(x.strip()) for x in text.split("\n")))

    def test_the_quick_reader_counts_the_same_lines(self):
        rows = "".join(
            f"{d.date()},{i},{i + 1}\n" for i, d in enumerate(pd.date_range("2000-01-01", periods=4_000))
        )
        reading = ul.read_series(f"Prices of the Lantern Sea\ndate,a,b\n{rows}")
        self.assertEqual(reading.account_in_words, "4,002 lines: 1 title, 1 header, 4,000 rows")

    def test_rows_without_a_date_that_is_understood_are_refused(self):
        rows = [f"{i % 28 + 1}te Woche {i};{i}.5;{1600 + i}" for i in range(60)]
        with self.refused(TableError, "'Datum' is headed as the dates", "dates="):
            ul.read_series("Datum;Preis;Menge\n" + "\n".join(rows))
        lost = [*(f"2020-0{m};{m}" for m in range(1, 8)), "", *(f"Woche {m};{m}" for m in range(1, 30))]
        with self.refused(TableError, "29 lines with numbers, lines 10 to 38", "dates="):
            ul.read_series("Datum;Preis\n" + "\n".join(lost))
        with self.refused(TableError, "'key' differs in every row", "date_column='key'"):
            ul.read_series("key;year;a\n" + "".join(f"k{i}x;{1990 + i % 7};{i}.5\n" for i in range(20)))

    def test_a_partial_reading_is_reported_at_the_command_line(self):
        text, *_ = ACCOUNTED["a second table without dates"]
        self.assertEqual([f.line for f in ul.read_series(text).faults], [7])
        self.assertEqual(ul.read_series(ACCOUNTED["titles, a sum and notes"][0]).faults, [])


HABITS = ("long", "full", "medium", "d MMM y", "MMMM y", "LLLL y", "QQQQ y")


class Words(Scratch):
    def test_dates_in_words_of_many_languages_are_right_or_refused(self):
        languages = [
            "de",
            "fr",
            "pt",
            "fi",
            "is",
            "pl",
            "hr",
            "bg",
            "el",
            "tr",
            "lv",
            "hu",
            "ca",
            "eu",
            "ga",
            "vi",
            "ja",
            "ko",
        ]
        right = 0
        for language in languages:
            for habit in HABITS:
                step = 3 if habit[0] == "Q" else 1
                months = [dt.date(2015 + i * step // 12, i * step % 12 + 1, 1) for i in range(24)]
                days = [m.replace(day=3 + i) for i, m in enumerate(months)] if habit[0] in "lfmd" else months
                cells = [format_date(d, habit, locale=language) for d in days]
                text = "when\tx\n" + "".join(f"{c}\t{i}.5\n" for i, c in enumerate(cells))
                with self.subTest(language=language, habit=habit, first=cells[0]):
                    try:
                        reading = ul.read_series(text)
                    except TableError:
                        continue
                    got = next(iter(reading.series.values())).to_pandas()
                    starts = [getattr(p, "start_time", p).date() for p in got.index]
                    self.assertEqual(starts, days)
                    self.assertEqual(got.tolist(), [i + 0.5 for i in range(24)])
                    right += 1
        self.assertGreaterEqual(right / (len(languages) * len(HABITS)), 0.95)

    def test_a_month_of_two_languages_is_settled_by_the_file_or_asked_for(self):
        croatian = ["sij", "velj", "ožu", "tra", "svi", "lip", "srp", "kol", "ruj", "lis", "stu", "pro"]
        rows = "".join(f"15 {m} 2020;{i}\n" for i, m in enumerate(croatian, 1))
        got = ul.read_series(f"dan;x\n{rows}").series["x"].to_pandas()
        self.assertEqual([p.month for p in got.index], list(range(1, 13)))
        two = "d;x\n15 lip 2020;1\n15 lis 2020;2\n"
        with self.refused(TableError, "Jul in the language 'pl' and Jun in 'hr'", "dates='hr'"):
            ul.read_series(two)
        self.assertEqual(
            [p.month for p in ul.read_series(two, dates="hr").series["x"].to_pandas().index], [6, 10]
        )

    def test_the_form_of_dates_can_be_any_example_or_pattern(self):
        for cells, form, first in (
            (["03/04/2024", "04/04/2024"], "31/12/2021", "2024-04-03"),
            (["03/04/2024", "03/05/2024"], "12/31/2021", "2024-03-04"),
            (["3|4|24", "4|4|24"], "%d|%m|%y", "2024-04-03"),
            (["45000", "45001"], "serial 1900", "2023-03-15"),
            (["43538", "43539"], "serial 1904", "2023-03-15"),
            (["86400000", "172800000"], "epoch ms", "1970-01-02"),
            (["86400", "172800"], "epoch s", "1970-01-02"),
        ):
            with self.subTest(form):
                text = "d;x\n" + "".join(f"{c};{i}.5\n" for i, c in enumerate(cells))
                got = ul.read_series(text, dates=form).series["x"].to_pandas()
                self.assertEqual((str(got.index[0])[:10], len(got)), (first, 2))
        with self.refused(TableError, "has two readings"):
            ul.read_series("d;x\n03/04/2024;1\n04/04/2024;2\n", dates="01/02/2024")


class Facts(Scratch):
    def test_every_statement_ends_where_it_must(self):
        self.assertGreaterEqual(len(FILES), 60)
        for file in FILES:
            with self.subTest(file["about"]):
                self.assertEqual(lost_facts(file), [])

    """What a file states reaches the number, the account or a refusal."""

    def test_no_return_spans_a_row_that_is_not_used(self):
        days = pd.bdate_range("2024-01-01", periods=20)
        rows = [f"{d.date()},{100 + i}" for i, d in enumerate(days)]
        rows[9] = "2024-01-32,109"
        for lines in (rows, rows[::-1]):
            prices = ul.read_series("date,close\n" + "\n".join(lines) + "\n").series["close"]
            returns = ul.returns(prices).to_pandas()
            self.assertEqual(returns[returns.isna()].index.tolist(), list(days[9:11]))
            self.assertEqual(len(returns), 19)

    def test_fiscal_quarters_are_those_of_the_calendar(self):
        rows = "".join(f"FY{y:02d} Q{q};{y + q}\n" for y in (4, 5) for q in (1, 2, 3, 4))
        with self.refused(TableError, "the month in which the year ends", "dates='year ends June'"):
            ul.read_series(f"period;x\n{rows}")
        for text, options, first in (
            (f"period;x\n{rows}", {"dates": "year ends June"}, "2003Q3"),
            (f"Financial year ending 31 March\nperiod;x\n{rows}", {}, "2003Q2"),
        ):
            reading = ul.read_series(text, **options)
            self.assertEqual(str(reading.series["x"].index[0]), first)
            end = next(one.chosen for one in reading.decisions if one.what == "fiscal years")
            self.assertIn(f"end in {'Jun' if options else 'Mar'}; quarters are those of the calendar", end)
        with self.refused(TableError, "ends no calendar quarter"):
            ul.read_series(f"period;x\n{rows}", dates="year ends May")

    def test_a_column_of_statuses_marks_the_numbers_to_its_left(self):
        reading = ul.read_series("date,x,x flag,y,y flag\n2024-01,7,A,1,\n2024-02,8,A,2,p\n2024-03,9,E,3,r\n")
        notes = {n: s.metadata.notes for n, s in reading.series.items()}
        self.assertEqual(notes, {"x": ("1 estimated",), "y": ("1 provisional", "1 revised")})
        kinds = dict(zip(reading.account_of_columns["column"], reading.account_of_columns["what"], strict=True))
        self.assertEqual(
            kinds, {"date": "date", "x": "value", "x flag": "status", "y": "value", "y flag": "status"}
        )

    def test_rows_of_a_large_file_have_the_unit_of_their_row(self):
        days = pd.bdate_range("2000-01-03", periods=1500)
        values = {
            "rate": 2.0 + np.arange(1500) / 1000,
            "level": 90.0 + np.arange(1500),
            "ships": 3.0 + np.arange(1500) / 8,
        }
        unit = {"rate": ("percent", 0.01), "level": ("index", 1.0), "ships": ("thousand", 1000.0)}
        for rows in (1500, 60):  # by columns, and by cells
            lines = [
                f"{d:%Y-%m-%d},{n},{v[k]:.3f},{unit[n][0]}\n"
                for k, d in enumerate(days[:rows])
                for n, v in values.items()
            ]
            got = ul.read_series(self.file("units.csv", "date,series,value,unit\n" + "".join(lines)))
            for name, truth in values.items():
                np.testing.assert_allclose(got.series[name].values, truth[:rows] * unit[name][1], rtol=1e-12)
            chosen = next(d.chosen for d in got.decisions if d.what == "units")
            self.assertEqual(
                chosen, f"percent in {rows:,} rows, none in {rows:,} rows, multiplied by 1,000 in {rows:,} rows"
            )

    def test_what_only_later_rows_of_a_large_file_state(self):
        months = [f"{y}-{m:02d}" for y in range(1900, 2020) for m in range(1, 13)]
        lines = [f"{month},{asset},{k % 7 + 1}.5" for asset in "ABCDEFGH" for k, month in enumerate(months)]
        flags = ["A"] * len(lines)
        flags[9] = flags[-5] = flags[-9] = "p"
        reading = ul.read_series(
            self.file(
                "s.csv", "date,id,value,status\n" + "\n".join(map(",".join, zip(lines, flags, strict=True)))
            )
        )
        notes = {n: s.metadata.notes for n, s in reading.series.items() if s.metadata.notes}
        self.assertEqual(notes, {"A": ("1 provisional",), "H": ("2 provisional",)})
        units = ["Percent" if line.split(",")[1] < "E" else "Index" for line in lines]
        reading = ul.read_series(
            self.file("u.csv", "date,id,value,unit\n" + "\n".join(map(",".join, zip(lines, units, strict=True))))
        )
        self.assertEqual([s.values.iloc[0] for s in reading.series.values()], [0.015] * 4 + [1.5] * 4)

    def test_flags_in_an_extra_cell_are_statuses_and_numbers_there_are_refused(self):
        rows = "2020-01,7,1,r\n2020-02,8,2\n2020-03,9,3,p\n"
        reading = ul.read_series(f"date,a,x\n{rows}")
        self.assertEqual([s.values.tolist() for s in reading.series.values()], [[7, 8, 9], [1, 2, 3]])
        self.assertEqual(reading.series["a"].metadata.notes, ("1 revised", "1 provisional"))
        with self.assertRaises(TableError):
            ul.read_series(f"date,a,b\n{rows.replace('r', '5')}")

    def test_the_cells_of_a_column_add_up(self):
        text = "month;v\n" + "".join(
            f"2024-{m:02d};{c}\n" for m, c in enumerate(["1", "", "n/a", "odd", *"234567"], 1)
        )
        cells = ul.read_series(text).account_of_columns.set_index("column").loc["v"]
        self.assertEqual(cells[["used", "missing", "rejected"]].tolist(), [7, 2, 1])

    def test_a_month_that_is_not_understood_is_placed_or_refused(self):
        row = "2020;" + ";".join(f"{m}.5" for m in range(1, 13))
        rows = f"{row}\n{row.replace('2020', '2021')}\n"
        known = ul.read_series(f"Year;Jan;Feb;Mar;Apr;Zzz;Jun;Jul;Aug;Sep;Oct;Nov;Dec\n{rows}")
        self.assertEqual(next(iter(known.series.values())).to_pandas()["2020-05"], 5.5)
        with self.refused(TableError, "can be another or a mean of the year"):
            ul.read_series(f"Year;Jan;Feb;Mar;Apr;May;Jun;Jul;Aug;Sep;Oct;Nov;Zzz\n{rows}")
        with self.refused(TableError, "stands between the months 'Mar' and 'Apr'"):
            ul.read_series(f"Year;Jan;Feb;Mar;Zzz;Apr;May;Jun;Jul;Aug;Sep;Oct;Nov\n{rows}")

    def test_infinite_numbers_of_json_are_rejected_cells(self):
        text = '[{"date": "2020-01", "x": 1}, {"date": "2020-02", "x": 1e999}, {"date": "2020-03", "x": 3}]'
        reading = ul.read_series(self.file("t.json", text))
        self.assertEqual([r.line for r in reading.rejected], [3])
        self.assertEqual(reading.series["x"].values.count(), 2)


class Generated(Scratch):
    def test_generated_tables_are_read_as_they_are_or_refused(self):
        refused = []
        for seed in range(150):
            case = make_case(seed)
            try:
                reading = ul.read_series(case.body)
            except TableError as error:
                refused.append(f"{seed} ({case.how}): {error}")
                continue
            self.assertEqual(differences(case, reading), [], f"{seed}: {case.how}")
        self.assertLessEqual(len(refused), 3, "\n".join(refused[:20]))  # 2 %; a reader of nothing fails

    def test_files_in_forty_languages_are_read_with_every_fact_or_refused(self):
        refused = []
        for seed in range(200):
            case = make_locale_case(seed)
            try:
                reading = ul.read_series(case.body, **case.options)
            except TableError as error:
                refused.append(f"{seed} ({case.how}): {error}")
                continue
            self.assertEqual(locale_differences(case, reading), [], f"{seed}: {case.how}")
        self.assertLessEqual(len(refused), 10, "\n".join(refused[:20]))

    @settings(max_examples=6, deadline=None)
    @given(st.integers(0, 9999), st.sampled_from(["%Y-%m-%d", "%d.%m.%Y", "%Y%m%d", "%m/%d/%Y"]),
           st.sampled_from([",", ";", "\t"]))  # fmt: skip
    def test_the_quick_way_and_the_careful_way_agree_on_large_files(self, seed, form, mark):
        rng = np.random.default_rng(seed)
        days = pd.bdate_range("1985-01-01", periods=2600)
        frame = pd.DataFrame(np.round(rng.normal(5, 90, (2600, 3)), 3), columns=list("abc"))
        frame = frame.mask(rng.random(frame.shape) < 0.01).assign(day=days.strftime(form))[["day", "a", "b", "c"]]
        body = frame.to_csv(index=False, sep=mark, na_rep="n/a").encode()
        quick = read_quick(body, "t", TableOptions())
        self.assertIsNotNone(quick)
        careful = read_table(body, "t", TableOptions(missing=[])).series
        for name, series in read_table(body, "t").series.items():
            pd.testing.assert_series_equal(series.to_pandas(), careful[name].to_pandas())
            np.testing.assert_array_equal(series.to_pandas().to_numpy(), frame[name].to_numpy())

    def test_no_row_of_a_large_file_goes_with_a_quote_left_open(self):
        days = pd.date_range("1950-01-01", periods=20_000).strftime("%Y-%m-%d")
        lines = [f"{day},{k}.5,{k}.25\n" for k, day in enumerate(days)]
        for at in (0, 5_000, 19_999):
            broken = lines.copy()
            broken[at] = broken[at].replace(",", ',"', 1)
            read = read_table(("date,a,b\n" + "".join(broken)).encode(), "prices.csv")
            count = len(read.series["a"].values)
            self.assertEqual((count + len(read.rejected), len(read.rejected)), (20_000, count < 20_000))
            kept = [k for k in range(20_000) if k != at or count == 20_000]
            np.testing.assert_array_equal(read.series["a"].values, np.array(kept) + 0.5)

    def test_lines_longer_than_the_sample_are_read_the_quick_way_too(self):
        rng = np.random.default_rng(3)
        frame = pd.DataFrame(
            rng.normal(50, 9, (40, 2500)).round(4), columns=[f"COMPANY {k:04d}" for k in range(2500)]
        )
        body = frame.assign(month=months(40).astype(str)).set_index("month").to_csv().encode()
        self.assertIsNotNone(read_quick(body, "wide.csv", TableOptions()))
        read = read_table(body, "wide.csv").wide().to_pandas()
        np.testing.assert_array_equal(read.to_numpy(), frame.to_numpy())
        self.assertEqual((list(read), str(read.index[0])), (list(frame), "2010-01"))


class PracticeFiles(OnPractice):
    def test_the_college_file(self):
        reading = ul.read_series(statistics_service.DATA / "college" / "factors_monthly.zip", measure="return")
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
        frame = statistics_service.table("indices")
        body = frame.assign(copy=frame["QLX-ALL"]).to_csv(index=False).encode()
        self.assertIsNone(read_quick(body[:1000], "i.csv", TableOptions()))
        self.assertIsNotNone(read_quick(body, "i.csv", TableOptions()))
        quick = read_table(body, "i.csv").series
        careful = read_table(body, "i.csv", TableOptions(missing=[])).series
        for name, series in careful.items():
            pd.testing.assert_series_equal(quick[name].to_pandas(), series.to_pandas())

    def test_prices_over_http(self):
        reading = ul.read_series(f"{self.service.url}/exchange/prices.csv")
        bars = statistics_service.bars()
        self.assertEqual(len(reading.series), 120)
        self.assertEqual(sum(s.values.notna().sum() for s in reading.series.values()), 5 * len(bars))
        one = bars[bars["asset"] == "SNST"]["close"].to_numpy()
        np.testing.assert_array_equal(reading.series["SNST.close"].to_pandas().dropna(), one)
