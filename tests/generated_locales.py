"""Tables in the languages of the world, with the truth of every number, unit, currency and line."""

import io
import math
import random
from dataclasses import dataclass, field

import numpy as np
import pandas as pd
import xlsxwriter
from babel import Locale, dates, numbers

LOCALES = ["bg", "bs", "ca", "cs", "cy", "da", "de", "el", "en", "en_GB", "es", "et", "eu", "fi", "fr", "ga", "gl", "hr", "hu", "id", "is", "it", "lt", "lv", "mk", "ms", "mt", "nb", "nl", "pl", "pt", "pt_BR", "ro", "ru", "sk", "sl", "sq", "sr", "sv", "sw", "tr", "uk", "vi", "az"]  # fmt: skip
LEGACY = {"cs": "cp1250", "sk": "cp1250", "pl": "cp1250", "hu": "cp1250", "hr": "cp1250", "sl": "cp1250", "ru": "cp1251",
          "uk": "cp1251", "bg": "cp1251", "el": "cp1253", "tr": "cp1254", "lt": "cp1257", "lv": "cp1257",
          "et": "cp1257", "ja": "shift_jis", "zh": "gb18030", "ko": "euc_kr", "he": "cp1255", "th": "cp874"}  # fmt: skip
PERCENT = {"de": "Prozent", "fr": "pour cent", "es": "por ciento", "it": "per cento", "nl": "procent", "sv": "procent",
           "da": "procent", "nb": "prosent", "fi": "prosenttia", "pl": "procent", "cs": "procent", "pt": "por cento",
           "tr": "yüzde", "hu": "százalék", "ro": "procente"}  # fmt: skip
UNIT = {"de": "Einheit", "fr": "Unité", "es": "Unidad", "it": "Unità", "nl": "Eenheid", "sv": "Enhet", "pl": "Jednostka",
        "cs": "Jednotka", "fi": "Yksikkö", "pt": "Unidade", "tr": "Birim", "ja": "単位", "zh": "单位", "ko": "단위"}  # fmt: skip
MISSING = ("", "", "..", "n/a", "-", "–", ":", "NaN", "x")
DATE = {"de": "Datum", "fr": "Date", "es": "Fecha", "it": "Data", "nl": "Datum", "sv": "Datum", "da": "Dato", "nb": "Dato",
        "fi": "Päivä", "pl": "Data", "cs": "Datum", "pt": "Data", "tr": "Tarih", "hu": "Dátum", "ro": "Data",
        "ru": "Дата", "uk": "Дата", "el": "Ημερομηνία"}  # fmt: skip
SCALES = {"million": 1e6, "thousand": 1e3}
CURRENCIES = ("EUR", "GBP", "PLN", "CZK", "SEK", "JPY")
NAMES = ("Alna", "Brisk", "Corlo", "Dunem", "Ferro", "Galm")
PATTERNS = {"M": ("LLLL y", "MMM y", "LLL yy", "MM/y", "y-MM", "MMMM y", "yMM", "y'M'MM"),
            "B": ("short4", "medium", "long", "d. MMMM y", "dd MMM y", "y-MM-dd", "dd.MM.y", "EEE d MMM y"),
            "Q": ("QQQ y", "QQQQ y", "y QQQ", "y'Q'Q", "Q/y"), "A": ("y",)}  # fmt: skip


@dataclass
class LocaleCase:
    """A file and what is true of it.

    ``truth`` has for each series the values by day or period start; ``classes`` the class of each line.
    """

    body: bytes
    frequency: str
    truth: dict
    units: str
    currency: str
    events: dict
    classes: dict
    how: str
    options: dict = field(default_factory=dict)


class _File:
    """One random file; what is drawn is noted in ``how``."""

    def __init__(self, seed):
        self.rng, self.how = random.Random(seed), []
        rng = self.rng
        self.locale = Locale.parse(self.draw("locale", LOCALES))
        self.layout = self.draw(
            "layout", ["wide"] * 4 + ["long"] * 2 + ["paired", "grid", "prices", "fiscal", "half"]
        )
        code = {"grid": "M", "prices": "B", "fiscal": "A", "half": "S"}.get(self.layout)
        self.code = code or self.draw("frequency", "MMMBBBQ")
        self.pattern = self.draw("pattern", PATTERNS.get(self.code, ("y",)))
        self.kind = self.draw("kind", [";", ";", ";", "\t", ",", "xlsx"])
        self.names = rng.sample(NAMES, 1 if self.layout in ("grid", "prices") else rng.randint(1, 4))
        if self.layout == "paired":
            self.names = (self.names * 2)[:2] if len(set(self.names)) > 1 else list(NAMES[:2])
        self.unit = (
            self.draw("unit", ["", "", "percent", "percent", "million"]) if self.layout != "prices" else ""
        )
        self.place = self.draw("place", ["title", "note", "heading", "unit row", "cells"]) if self.unit else ""
        if self.unit == "million" and self.place == "cells":
            self.place = "title"
        if self.layout == "grid" and self.place in ("heading", "unit row"):
            self.place = "title"
        if self.layout == "long" and self.place == "unit row":
            self.place = "unit column"
        self.currency = rng.choice(CURRENCIES) if self.unit in SCALES or rng.random() < 0.4 else ""
        if self.unit in ("percent", "points"):
            self.currency = ""
        self.currency_place = ""
        if self.currency and not self.unit:
            self.currency_place = self.draw("currency", ["title", "heading", "label", "unit row", "note"])
            if self.currency_place == "unit row" and self.layout in ("long", "grid", "prices"):
                self.currency_place = "column" if self.layout == "long" else "title"
            if self.currency_place == "heading" and self.layout in ("grid", "prices"):
                self.currency_place = "title"
        self.missing = self.draw("missing", MISSING)
        noted = "note" in (self.place, self.currency_place)  # is a note of the last table alone
        self.below = not noted and self.layout in ("wide", "long") and self.code == "M" and rng.random() < 0.15
        self.shifted = rng.random() < 0.08
        self.ruled = self.layout == "wide" and rng.random() < 0.08
        self.bad = self.layout == "wide" and rng.random() < 0.1
        self.minus = self.draw("minus", ["-", "-", "-", "\u2212", "()"])
        self.status = self.layout == "wide" and len(self.names) == 1 and rng.random() < 0.2
        self.halves = self.draw("halves", ["H{h} {y}", "{y} H{h}", "{y}H{h}", "{y}-S{h}", "{y} S{h}"])
        self.years = self.draw("years", ["{y}/{s:02d}", "{y}-{s:02d}", "FY{z}", "{y}/{z}"])
        unstated = self.layout == "fiscal" and rng.random() < 0.5
        self.options = {"dates": f"year ends {rng.choice(['March', 'June', 'September'])}"} if unstated else {}
        self.lines, self.classes = [], []

    def draw(self, what, choices):
        chosen = self.rng.choice(choices)
        self.how.append(f"{what}={chosen}")
        return chosen

    def days(self, count):
        first = pd.Timestamp(self.rng.randint(1985, 2015), self.rng.randint(1, 12), 1)
        step = {"M": "MS", "B": "B", "Q": "QS", "A": "YS", "S": "6MS"}[self.code]
        if self.code in "SA":
            first = first.replace(month=1)
        return pd.date_range(first, periods=count, freq=step)

    def label(self, day):
        if self.code == "A":
            return self.years.format(y=day.year, z=day.year + 1, s=(day.year + 1) % 100)
        if self.code == "S":
            return self.halves.format(h=1 + day.month // 7, y=day.year)
        if self.pattern == "short4":
            pattern = dates.get_date_format("short", self.locale).pattern
            pattern = pattern.replace("yyyy", "y").replace("yy", "y")
            return dates.format_date(day.date(), pattern, self.locale)
        if self.pattern in ("medium", "long"):
            return dates.format_date(day.date(), self.pattern, self.locale)
        return dates.format_date(day.date(), self.pattern, self.locale)

    def number(self, value):
        if self.kind == "xlsx":
            return value
        text = numbers.format_decimal(abs(value), "#,##0.00##" if self.grouped else "0.00##", self.locale)
        if value < 0 and self.minus == "()":
            return f"({text})"
        return (self.minus if value < 0 else "") + text

    def cell(self, value):
        if math.isnan(value):
            return self.missing if self.kind != "xlsx" or self.missing in ("..", "n/a") else ""
        if self.place == "cells" and self.unit == "points":
            return numbers.format_decimal(value, "0.00", self.locale) + self.rng.choice([" bp", "bp"])
        if self.place == "cells":
            return numbers.format_decimal(value, "0.00", self.locale) + self.rng.choice(["%", " %"])
        return self.number(value)

    def column(self, count):
        if self.unit in ("percent", "points"):
            return [round(self.rng.gauss(3, 1.5), 2) for _ in range(count)]
        level, made = self.rng.choice([40.0, 900.0, 20_000.0]), []
        for _ in range(count):
            level *= 1 + self.rng.gauss(0, 0.01)
            made.append(round(level, 2))
        return made

    def unit_words(self):
        if self.unit == "percent":
            return self.rng.choice(["%", PERCENT.get(self.locale.language, "%"), "percent"])
        if self.unit == "points":
            return self.rng.choice(["basis points", "bp", "bps"])
        return self.rng.choice([f"{self.currency} {self.unit}", f"{self.unit}s of {self.currency}"])

    def words(self):
        """The unit, or the currency alone."""
        return self.unit_words() if self.unit else self.currency

    def line(self, cells, what):
        self.lines.append(cells)
        self.classes.append(what)

    def above(self):
        title = self.rng.choice(["Harbour statistics of Miravel", "Table 4. Lantern Sea"])
        if self.unit and self.place == "title":
            title += self.rng.choice([f" ({self.unit_words()})", f", {self.unit_words()}"])
            self.line([title], "title")
        elif self.currency_place == "title":
            self.line([f"{title} ({self.currency})"], "title")
        elif self.rng.random() < 0.5:
            self.line([title], "title")
        if self.layout == "fiscal" and not self.options:
            self.line(
                [self.rng.choice(["Financial years ended 31 March", "Fiscal year ending 30 June"])], "title"
            )
        if "label" in (self.place, self.currency_place):
            self.line([f"{UNIT.get(self.locale.language, 'Unit')}: {self.words()}"], "title")
        if self.lines and self.rng.random() < 0.4:
            self.lines.append([])
            self.classes.append(None)

    def heading(self, name):
        return f"{name} ({self.words()})" if "heading" in (self.place, self.currency_place) else name

    def date_word(self):
        return self.rng.choice([DATE.get(self.locale.language, "date"), "Date"])

    def make(self):
        self.grouped = self.kind != "," and self.rng.random() < 0.5
        mark = numbers.get_decimal_symbol(self.locale)
        if self.kind == "," and mark == ",":
            self.kind = ";"
        self.above()
        getattr(self, f"_{self.layout}")()
        if "note" in (self.place, self.currency_place):
            self.line([f"Unit: {self.words()}"], "note")
        elif self.rng.random() < 0.4:
            self.line([self.rng.choice(["Source: harbour office.", "Last updated: 14 March 2025"])], "note")
        return self.written()

    def _table(self, heads, rows, unit_row=None):
        self.line(heads, "header")
        if "unit row" in (self.place, self.currency_place):
            self.line(unit_row or ["", *[self.words() for _ in heads[1:]]], "header")
        if self.ruled:
            self.line(["---" for _ in heads], "header")
        if self.bad:
            k = len(rows) // 2
            rows[k] = (["31.02.2O13", *rows[k][0][1:]], "rejected")
        for row, what in rows:
            self.line(row, what)
        if self.below:
            self.lines.append([])
            self.classes.append(None)
            self.line(["Annual averages"], "note")
            self.line([self.date_word(), *[f"Mean {h}" for h in heads[1:]]], "other table")
            for year in range(1990, 1990 + self.rng.randint(3, 12)):
                self.line(
                    [str(year), *[self.number(round(self.rng.gauss(3, 1), 2)) for _ in heads[1:]]], "other table"
                )

    def _wide(self):
        count = self.rng.randint(14, 70)
        index = self.days(count)
        self.truth = {n: dict(zip(index, self.column(count), strict=True)) for n in self.names}
        if self.rng.random() < 0.3:
            self.truth[self.names[0]][index[4]] = math.nan
        rows = [([self.label(d), *[self.cell(self.truth[n][d]) for n in self.names]], "row") for d in index]
        heads = [self.date_word(), *[self.heading(n) for n in self.names]]
        if self.bad:
            for n in self.names:
                self.truth[n][index[count // 2]] = math.nan
        if self.status:
            rows = [([*r, self.rng.choice(["A", "A", "A", "E", "P"])], w) for r, w in rows]
            heads.append("Status")
        self._table(heads, rows, ["", *[self.words() for _ in self.names], *[""] * self.status])

    def _long(self):
        count = self.rng.randint(12, 40)
        index = self.days(count)
        self.names = self.names if len(self.names) > 1 else list(NAMES[:2])
        self.truth = {n: dict(zip(index, self.column(count), strict=True)) for n in self.names}
        words = self.words() if self.place == "unit column" or self.currency_place == "column" else ""
        rows = [([self.label(d), n, self.cell(self.truth[n][d]), *([words] if words else [])], "row")
                for d in index for n in self.names]  # fmt: skip
        heads = [
            self.date_word(),
            "Series",
            self.heading("Value"),
            *(
                [self.rng.choice(["Unit", UNIT.get(self.locale.language, "Unit")]) if self.unit else "Currency"]
                if words
                else []
            ),
        ]
        self._table(heads, rows)

    def _paired(self):
        counts = [self.rng.randint(14, 40) for _ in self.names]
        starts = [self.days(c) for c in counts]
        self.truth = {
            n: dict(zip(i, self.column(len(i)), strict=True)) for n, i in zip(self.names, starts, strict=True)
        }
        rows = []
        for k in range(max(counts)):
            row = []
            for n, i in zip(self.names, starts, strict=True):
                row += [self.label(i[k]), self.cell(self.truth[n][i[k]])] if k < len(i) else ["", ""]
            rows.append((row, "row"))
        word = self.date_word()
        self._table([c for n in self.names for c in (word, self.heading(n))], rows,
                    [c for _ in self.names for c in ("", self.words())])  # fmt: skip

    def _grid(self):
        years = self.rng.randint(3, 12)
        first = self.rng.randint(1980, 2010)
        values = self.column(12 * years)
        index = pd.date_range(f"{first}-01-01", periods=12 * years, freq="MS")
        self.truth = {"": dict(zip(index, values, strict=True))}
        width = self.rng.choice(["wide", "abbreviated"])
        months = dates.get_month_names(width, "stand-alone", self.locale)
        average = self.rng.random() < 0.5
        rows = []
        for k in range(years):
            part = values[12 * k : 12 * k + 12]
            mean = [self.cell(round(float(np.mean(part)), 2))] if average else []
            rows.append(([str(first + k), *map(self.cell, part), *mean], "row"))
        self._table(["Year", *[months[m] for m in range(1, 13)], *(["Average"] if average else [])], rows)

    def _prices(self):
        count = self.rng.randint(60, 140)
        index = self.days(count)
        close = self.column(count)
        self.truth = {"Close": dict(zip(index, close, strict=True))}
        rows = []
        self.dividends = {}
        for k, (d, v) in enumerate(zip(index, close, strict=True)):
            rows.append(
                ([self.label(d), self.number(round(v * 0.99, 2)), self.number(v), str(1000 + 7 * k)], "row")
            )
            if k in (20, 40) and self.rng.random() < 0.7:
                self.dividends[d] = round(v * 0.01, 2)
                rows.append(([self.label(d), f"{self.number(self.dividends[d])} Dividend", "", ""], "event row"))
        self._table([self.date_word(), "Open", "Close", "Volume"], rows)

    def _fiscal(self):
        self._periods(self.rng.randint(6, 30))

    def _half(self):
        self._periods(self.rng.randint(8, 30))

    def _periods(self, count):
        index = self.days(count)
        self.truth = {n: dict(zip(index, self.column(count), strict=True)) for n in self.names}
        rows = [([self.label(d), *[self.cell(self.truth[n][d]) for n in self.names]], "row") for d in index]
        self._table(["Period", *[self.heading(n) for n in self.names]], rows)

    def written(self):
        if self.shifted:
            self.lines = [["", *row] if row else row for row in self.lines]
        if self.kind == "xlsx":
            held = io.BytesIO()
            with xlsxwriter.Workbook(held, {"in_memory": True}) as book:
                sheet = book.add_worksheet()
                for r, row in enumerate(self.lines):
                    for c, cell in enumerate(row):
                        sheet.write(r, c, cell)
            return held.getvalue()
        text = "\n".join(self.kind.join(self.quoted(c) for c in row) for row in self.lines) + "\n"
        encoding = self.draw(
            "encoding", ["utf-8", "utf-8-sig", "utf-16", LEGACY.get(self.locale.language, "cp1252")]
        )
        try:
            return text.encode(encoding)
        except UnicodeEncodeError:
            return text.encode()

    def quoted(self, cell):
        text = str(cell)
        return f'"{text}"' if self.kind in text else text


def make_locale_case(seed):
    """A random file with its truth."""
    file = _File(seed)
    body = file.make()
    divisor, factor = {"percent": 100.0, "points": 10_000.0}.get(file.unit, 1.0), SCALES.get(file.unit, 1.0)
    truth = {n: {d: v / divisor * factor for d, v in values.items() if not math.isnan(v)}
             for n, values in file.truth.items()}  # fmt: skip
    return LocaleCase(
        body, file.code, truth, {"percent": "decimal", "points": "decimal"}.get(file.unit, ""), file.currency, getattr(file, "dividends", {}),
        {k + 1: c for k, c in enumerate(file.classes) if c}, "; ".join(file.how), file.options,
    )  # fmt: skip


def locale_differences(case, reading):
    """What a reading has that is not true of the file; empty if all agrees."""
    found = _in_series(case, reading)
    if case.events:
        table = reading.events.get("dividends")
        got = {} if table is None else dict(zip(pd.DatetimeIndex(table["date"]), table["amount"], strict=True))
        if got.keys() != case.events.keys() or any(abs(got[d] - v) > 1e-9 for d, v in case.events.items()):
            found.append(f"dividends {got}, not {case.events}")
    classes = {}
    for row in reading.account.itertuples():
        classes |= dict.fromkeys(range(row.first, row.last + 1), row.what if hasattr(row, "what") else row[1])
    for line, wanted in case.classes.items():
        got = classes.get(line)
        if got != wanted and not (wanted in ("title", "note", "header") and got in ("unit", "currency")):
            found.append(f"line {line} is '{got}', not '{wanted}'")
            break
    return found


def _in_series(case, reading):
    found, series = [], dict(reading.series)
    if "Close" in case.truth:
        series = {n: s for n, s in series.items() if n.endswith("Close")}
    if len(series) != len(case.truth):
        return [f"{len(series)} series ({list(series)}), not {len(case.truth)}"]
    for name, wanted in case.truth.items():
        mine = (
            [s for n, s in series.items() if n.startswith(name) or name in n] if name else list(series.values())
        )
        if len(mine) != 1:
            return [f"'{name}' is the name of {len(mine)} of {list(series)}"]
        values, facts = mine[0].values.dropna(), mine[0].metadata
        days = values.index.to_timestamp() if isinstance(values.index, pd.PeriodIndex) else values.index
        if case.frequency == "A":  # a fiscal year is named by the year in which it ends
            days = days - pd.DateOffset(years=1)
        got = dict(zip(days, values.tolist(), strict=True))
        if got.keys() != wanted.keys():
            odd = sorted(set(got) ^ set(wanted))[:3]
            found.append(f"'{name}': {len(got)} periods, not {len(wanted)}: {odd}")
        elif any(not math.isclose(got[d], v, rel_tol=1e-12, abs_tol=1e-13) for d, v in wanted.items()):
            found.append(
                f"'{name}': {[(d, got[d], v) for d, v in wanted.items() if not math.isclose(got[d], v)][:2]}"
            )
        if facts.currency != case.currency:
            found.append(f"'{name}': currency '{facts.currency}', not '{case.currency}'")
        if case.units and facts.unit != case.units:
            found.append(f"'{name}': unit '{facts.unit}', not '{case.units}'")
    return found
