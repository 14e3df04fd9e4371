"""What single cells mean: every way to write a date or a number, by closed form and by property."""

import datetime as dt
import re
import unittest

import numpy as np
import pandas as pd
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import ROOT, Scratch
from ultrum.errors import TableError
from ultrum.sources.table import date_formats
from ultrum.sources.table.ambiguous_dates import by_places, read_dates
from ultrum.sources.table.cell_grid import column_array
from ultrum.sources.table.date_formats import STYLES, fitting, looks_like_date, styles_of
from ultrum.sources.table.number_formats_and_date_words import (
    decimal_mark,
    months_by_language,
    read_numbers,
    sentinel_in,
)

MONTHS = (ROOT / "tests" / "data" / "months.txt").read_text(encoding="utf-8")  # a line a language

IDES = dt.datetime(2024, 3, 15)
STARTS = {
    "D": IDES,
    "M": dt.datetime(2024, 3, 1),
    "Q": None,
    "S": dt.datetime(2024, 1, 1),
    "A": None,
    "W": dt.datetime(2024, 3, 11),
}


def moment(cell, given=None):
    return read_dates(column_array([cell]), given, "here").moments[0].astype("datetime64[s]").item()


class Dates(Scratch):
    def test_every_style_reads_its_own_example(self):
        for style in STYLES:
            if style.weak:
                continue
            with self.subTest(style.name):
                got = moment(style.name, style.name)
                want = STARTS[style.frequency]
                if style.name == "20240315093000":
                    want = dt.datetime(2024, 3, 15, 9, 30)
                if want is not None:
                    self.assertEqual(got, want)
                self.assertIn(got.year, (2023, 2024))

    def test_a_day_may_carry_a_time_and_a_zone(self):
        for text, want in {"2024-03-15 09:30": (9, 30), "2024-03-15T09:30:15Z": (9, 30), "15/03/2024 9:30 PM": (21, 30),
                           "20240315 0930": (9, 30), "15.03.2024 12:05 am": (0, 5)}.items():  # fmt: skip
            with self.subTest(text):
                got = moment(text)
                self.assertEqual((got.date(), (got.hour, got.minute)), (IDES.date(), want))
        read = read_dates(column_array(["2024-03-15T09:30:00+05:30"]), None, "here")
        self.assertEqual((read.offsets[0], read.moments[0].item().hour), (19_800, 9))

    def test_what_is_written_like_a_date(self):
        cells = (
            "2024-13-45",
            "99/99/2024",
            "20240131",
            "31.31.2024",
            "Jan 2024",
            "12345678",
            "99999999",
            "1.5",
            "abcd",
            "x" * 41,
        )
        self.assertEqual([looks_like_date(cell) for cell in cells], [True] * 5 + [False] * 5)

    def test_what_is_no_date(self):
        for text in (
            "2024-13-01",
            "31/02/2024",
            "2024-Q5",
            "2024-W54",
            "99/99/9999",
            "Total",
            "12",
            "1,234.5",
            "",
            "May",
        ):
            self.assertEqual(fitting([text]), [], text)
        self.assertTrue(looks_like_date("2024-02-30"))
        for words in MONTHS.splitlines():
            held = [months_by_language(w) for w in words.split()]
            orders = [[months.get(language) for months in held] for language in held[0]]
            self.assertIn(list(range(1, 13)), orders, words)

    def test_a_tie_shows_both_readings_and_a_word_settles_it(self):
        cells = column_array(["03/04/2024", "05/06/2024"])
        with self.refused(TableError, "2024-04-03 (dates='15/03/2024')", "2024-03-04 (dates='03/15/2024')"):
            read_dates(cells, None, "here")
        self.assertEqual(str(read_dates(cells, "03/15/2024", "here").moments[0])[:10], "2024-03-04")
        with self.refused(TableError, "'spring' is not an example"):
            read_dates(cells, "spring", "here")

    def test_ties_with_the_same_reading_are_no_ties(self):
        self.assertEqual(moment("04/04/2024").day, 4)

    @settings(max_examples=80, deadline=None)
    @given(st.lists(st.datetimes(dt.datetime(1650, 1, 1), dt.datetime(2190, 1, 1)), min_size=1, max_size=30),
           st.sampled_from([("%Y-%m-%d", "YYYY-MM-DD"), ("%d.%m.%Y", "DD.MM.YYYY"), ("%m/%d/%Y", "MM/DD/YYYY"),
                            ("%Y%m%d", "YYYYMMDD"), ("%Y-%m-%d %H:%M:%S", "YYYY-MM-DD"), ("%d/%m/%Y %H%M", "DD/MM/YYYY")]))  # fmt: skip
    def test_digits_by_their_places_are_what_the_calendar_says(self, moments, form):
        written, template = form
        texts = [m.strftime(written) for m in moments]
        got = by_places(pa.array(texts), template, texts[0])
        want = [dt.datetime.strptime(t, written) for t in texts]
        self.assertEqual(got.astype("datetime64[s]").tolist(), want)

    @settings(max_examples=300, deadline=None)
    @given(st.sampled_from([s.name for s in STYLES if not s.weak]), st.data())
    def test_styles_found_by_shape_are_those_found_one_by_one(self, name, data):
        letters = [data.draw(st.sampled_from("0123456789")) if c.isdigit() else c for c in name]
        swap = data.draw(st.integers(0, len(letters)))
        cell = (
            "".join(letters[:swap])
            + data.draw(st.sampled_from(["", "-", "/", "3", "Q", " 09:30"]))
            + "".join(letters[swap:])
        )
        fits = [s for s in STYLES if not s.weak and s.matches(cell)]
        written = [s for s in fits if s.pattern.fullmatch(cell)]  # the others fit as the words of a date
        want = {s.name for s in written or fits} - {"2023/24"}
        self.assertEqual(set(styles_of(cell)) - {"2023/24"}, want if len(cell) >= 4 else set())

    def test_common_shapes_have_the_styles_that_their_patterns_fit(self):
        shapes = [re.sub(r"\d", "0", style.name) for style in STYLES]
        for shape in {
            *shapes,
            "0.00",
            "-0.0000",
            "000,000",
            "0,000.00",
            "0000-00-00T00:00:00Z",
            "Close",
            "0/0/0000",
        }:
            if len(shape) >= 4:
                by_pattern = date_formats.styles_fitting(shape) if "0" in shape else ()
                self.assertEqual(date_formats.styles_of_shape(shape), by_pattern, shape)
        for word in ("January", "first quarter", "Close", "Samstag", "II. Quartal"):
            self.assertEqual(date_formats.styles_fitting(word), (), word)

    def test_the_day_after_the_last_of_each_month_is_none(self):
        ends = [day + dt.timedelta(days=1) for day in pd.date_range("2023-01-31", periods=12, freq="ME")]
        texts = [f"2023-{month:02d}-{(end - dt.timedelta(days=1)).day + 1}" for month, end in enumerate(ends, 1)]
        self.assertTrue(np.isnat(by_places(pa.array(texts), "YYYY-MM-DD", "2023-01-31")).all())

    def test_digits_that_are_no_day_give_none(self):
        got = by_places(
            pa.array(["2024-02-29", "2023-02-29", "2024-04-31", "2024-00-10", "20x4-01-01"]),
            "YYYY-MM-DD",
            "2024-02-29",
        )
        self.assertEqual(np.isnat(got).tolist(), [False, True, True, True, True])
        self.assertIsNone(by_places(pa.array(["2024-02-29", "2024/02/28"]), "YYYY-MM-DD", "2024-02-29"))
        self.assertIsNone(by_places(pa.array(["2024-02-29", "2024-2-28"]), "YYYY-MM-DD", "2024-02-29"))


def value(text, decimal="."):
    return read_numbers(column_array([text]), decimal, frozenset()).values[0]


class Numbers(Scratch):
    def test_ways_to_write_a_number(self):
        for text, want in {"1234.5": 1234.5, "1,234.5": 1234.5, "12,34,567": 1234567, "-.5": -0.5, "+7": 7, "(8.25)": -8.25,
                           "9-": -9, "−3": -3, "1e3": 1000, "1.5E-2": 0.015, "QML 12.50": 12.5, "12.50 QML": 12.5, "€5": 5,
                           "45%": 45, "7.5 pct": 7.5, "3.2k": 3200, "1.5bn": 1.5e9, "2mn": 2e6, "2mio": 2e6, "2M": 2e6, "2B": 2e9, "2K": 2000, "2 M": None, "12.7p": 12.7, "4*": 4,
                           "5 (r)": 5, "1.5¹": 1.5, "1.2 p": 1.2, "(p) 3": 3, "A1B": None, "QX7": None, "QXA7": None, "EUR7": 7,
                           "USD 5": 5, "ABC 5": None, "12 bp": 12, "twelve": None, "1.2.3": None, "--5": None, "0,5": None, "1 234": 1234,
                           "-(5)": None, "1,23": None, "007": 7}.items():  # fmt: skip
            with self.subTest(text):
                got = value(text)
                self.assertTrue(np.isinf(got) if want is None else got == want, f"{text}: {got}")
        for text, want in {"1.234,5": 1234.5, "0,5": 0.5, "1 234,5": 1234.5, "1'234,5": 1234.5}.items():
            self.assertEqual(value(text, ","), want)

    def test_marks_of_missing_values(self):
        for text in ("", "n/a", "NA", "..", "-", "–", "#N/A", "nan", "NULL", ":", "x"):
            self.assertTrue(np.isnan(value(text)), text)
        known = read_numbers(column_array(["1", "-999", "gone"]), ".", frozenset(["-999", "gone"]))
        np.testing.assert_array_equal(known.values, [1, np.nan, np.nan])

    def test_the_decimal_mark_that_explains_every_number(self):
        self.assertEqual(decimal_mark(["1.5", "2,345.5"], None, "here"), ".")
        self.assertEqual(decimal_mark(["1,5", "1.234"], None, "here"), ",")
        self.assertEqual(decimal_mark(["15", "0.123"], None, "here"), ".")
        with self.refused(TableError, "here", "'1,234'"):
            decimal_mark(["1,234", "5"], None, "here")
        with self.refused(TableError, "decimal=';'"):
            decimal_mark(["1"], ";", "here")

    def test_numbers_that_must_mark_missing_values(self):
        for values, found in (([1, 2, -999], -999), ([-0.3, 0.2, -99.99], -99.99), ([50, 60, 9999], 9999),
                              ([-80, -99], None), ([5000, 9999], None), ([1, 2], None), ([-999], None), ([], None)):  # fmt: skip
            self.assertEqual(sentinel_in(np.array(values, float)), found, values)

    @settings(max_examples=200, deadline=None)
    @given(st.floats(-1e12, 1e12, allow_nan=False), st.sampled_from(".,"), st.sampled_from(["", "'", " "]))
    def test_a_number_written_in_a_dialect_reads_back(self, number, decimal, group):
        text = f"{number:,.3f}".replace(",", "_").replace(".", decimal).replace("_", group)
        self.assertEqual(value(text, decimal), float(f"{number:.3f}"))


class Frames(unittest.TestCase):
    def test_columns_of_numbers_and_of_anything(self):
        self.assertEqual(column_array([1, 2.5]).dtype, np.float64)
        self.assertEqual(column_array([1, None, "x"]).dtype, object)
        stamps = column_array([pd.Timestamp("2024-03-15").to_pydatetime(), dt.date(2024, 3, 16)])
        self.assertEqual(
            [str(m)[:10] for m in read_dates(stamps, None, "x").moments], ["2024-03-15", "2024-03-16"]
        )
