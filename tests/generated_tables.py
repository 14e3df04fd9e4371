"""Tables of known truth in random layouts, and what a reader must make of them: the truth, or a refusal."""

import gzip
import io
import json
import math
import random
from dataclasses import dataclass

import numpy as np
import pandas as pd
import xlsxwriter

from ultrum.core.time.frequency import Frequency

MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
WORDS = ("output", "prices", "wages", "exports", "freight", "rents", "alpha", "SMB", "HML", "market")
CODES = (("A12", "DE01", "B7"), ("1001", "1002", "2003"), ("007", "12", "0345"), ("QX7", "QX8", "A1B"),
         ("BRTW", "AURL", "KELP"), ("3M", "6M", "12M"), ("Brightwater Tidal", "Aurelia", "Kelp & Sons"))  # fmt: skip
STYLES = {
    "A": ["{y}", "FY{y}", "{y} (AB)"],
    "S": ["{y}-S{h}", "H{h} {y}", "{y}H{h}"],
    "Q": ["{y}-Q{q}", "Q{q} {y}", "{y}Q0{q}", "{y}:{q}", "{yy}Q{q}", "T{q} {y}", "{q}. Quartal {y}", "{nth} quarter {y}",
          "{first}-{last} {y}", "{q}Q{y}", "{y} {roman}", "{y}/{q}"],
    "M": ["{y}-{m:02d}", "{y}M{m:02d}", "{b} {y}", "{b}-{yy}", "{m:02d}/{y}", "{y}{m:02d}", "{y}-{m:02d}-01", "{long} {y}",
          "{y}-{m}", "{end}"],
    "W": ["{y}-W{w:02d}", "Week {w} {y}", "{day}"],
    "B": ["{day}", "{d:02d}/{m:02d}/{y}", "{m:02d}/{d:02d}/{y}", "{d:02d}.{m:02d}.{y}", "{y}{m:02d}{d:02d}", "{d} {b} {y}",
          "{b} {d}, {y}", "{d:02d}-{b}-{yy}", "{y}/{m:02d}/{d:02d}", "{day}T00:00:00"],
}  # fmt: skip


@dataclass
class Case:
    """A table and its truth: by name of a series the value of each period, by its SDMX name."""

    body: bytes
    frequency: Frequency
    truth: dict
    odd: int
    how: str


class _Maker:
    """One random table; every choice is drawn once and then applied."""

    def __init__(self, seed):
        self.rng = rng = random.Random(seed)
        self.how = []
        self.code = rng.choice("ASQQMMMMWBBBB")
        self.frequency = Frequency(self.code)
        self.orders = self.periods()
        self.layout = self.draw("layout", ["wide"] * 5 + ["long"] * 3 + ["across"] * 2 + ["years"] * 2)
        if self.layout == "years" and self.code not in "QM":
            self.layout = "wide"
        self.names = self.draw("codes", CODES)[: rng.randint(2, 3)] if self.layout == "long" else tuple(
            rng.sample(WORDS, rng.randint(1, 4)))  # fmt: skip
        self.percent = self.draw(
            "percent", ["", "", "", "title", "cells", "footer", "heading"][: 7 - (self.layout == "years")]
        )
        self.decimal = self.draw("decimal", [".", ".", ","])
        self.kind = self.draw("kind", [",", ",", ";", "\t", "|", "xlsx", "html", "json"])
        if self.kind == "," and self.decimal == ",":
            self.kind = ";"
        if self.kind in ("xlsx", "json"):
            self.decimal = "."
        self.missing = self.draw("missing", ["", "", "n/a", "..", "-"])
        self.style = self.draw("style", STYLES[self.code])
        self.flagged = self.kind not in ("json", "xlsx") and rng.random() < 0.25
        self.odd = rng.random() < 0.15 and len(self.orders) > 11
        self.digits = rng.choice([0, 1, 2, 4])
        self.thousands = self.draw("thousands", ["", "", "'", " "]) if self.kind not in ("json", "xlsx") else ""
        self.values = {n: self.column() for n in self.names}
        self.count_odd = 0

    def draw(self, what, choices):
        chosen = self.rng.choice(choices)
        self.how.append(f"{what}={chosen}")
        return chosen

    def periods(self):
        """Ordinals in a row, perhaps with a few absent."""
        rng, frequency = self.rng, self.frequency
        count = {"A": rng.randint(4, 40), "S": rng.randint(6, 30), "Q": rng.randint(9, 60), "M": rng.randint(7, 90),
                 "W": rng.randint(6, 60), "B": rng.randint(30, 120)}[self.code]  # fmt: skip
        first = int(frequency.ordinals([f"{rng.randint(1972, 2012)}-{rng.randint(1, 12):02d}-15"])[0])
        every = np.arange(first, first + count)
        self.gapped = rng.random() < 0.2 and count > 12
        return np.delete(every, rng.sample(range(2, count - 2), 2)) if self.gapped else every

    def column(self):
        scale = self.rng.choice([0.05, 1.0, 100.0, 20_000.0]) if not self.percent else 3.0
        values = [
            round(self.rng.gauss(1.0, 0.5) * scale, self.digits or (2 if scale < 10 else 0)) for _ in self.orders
        ]
        if self.rng.random() < 0.4 and len(values) > 5:
            values[self.rng.randrange(1, len(values) - 1)] = math.nan
        return values

    def label(self, ordinal):
        frequency = self.frequency
        start, end = (f(np.array([ordinal]))[0] for f in (frequency.starts, frequency.ends))
        day = pd.Timestamp(end if self.code == "W" else start)
        iso = pd.Timestamp(end if self.code == "W" else start).isocalendar()
        return self.style.format(
            y=iso[0] if "{w" in self.style else day.year, yy=f"{day.year % 100:02d}", m=day.month, d=day.day, w=iso[1],
            q=day.quarter, h=1 + (day.month > 6), b=MONTHS[day.month - 1], long=day.strftime("%B"), day=str(day.date()),
            nth=("1st", "2nd", "3rd", "4th")[day.quarter - 1], roman=("I", "II", "III", "IV")[day.quarter - 1],
            first=MONTHS[3 * day.quarter - 3], last=MONTHS[3 * day.quarter - 1], end=str(pd.Timestamp(end).date()))  # fmt: skip

    def cell(self, name, i):
        value = self.values[name][i]
        if math.isnan(value):
            return self.missing if self.kind not in ("json", "xlsx") else None
        if self.odd and i == 5 and name == self.names[0]:
            self.values[name][i] = math.nan
            self.count_odd += 1
            return "holiday"
        if self.kind in ("json", "xlsx") and self.percent != "cells":
            return value
        text = f"{value:,.{self.digits or (0 if value == int(value) else 2)}f}"
        text = text.replace(",", "\0").replace(".", self.decimal).replace("\0", self.thousands)
        text += "%" if self.percent == "cells" else ""
        if self.flagged and self.rng.random() < 0.1:
            text += self.rng.choice([" p", "*", " (r)", "¹", "e"]) if not text.endswith("%") else "*"
        return text

    def rows(self):
        """Heading rows and rows of the table, dates down."""
        heads = [f"{n} (%)" if self.percent == "heading" else n for n in self.names]
        if self.layout == "long":
            value = "value (%)" if self.percent == "heading" else "value"
            body = [[self.label(o), n, self.cell(n, i)] for i, o in enumerate(self.orders) for n in self.names]
            if self.rng.random() < 0.5:  # by asset
                body.sort(key=lambda r: self.names.index(r[1]))
            return [["date", "id", value]], body
        body = [[self.label(o), *[self.cell(n, i) for n in self.names]] for i, o in enumerate(self.orders)]
        top = [["date", *heads]]
        if len(self.names) > 1 and not self.percent and self.rng.random() < 0.2:
            top.insert(0, ["", *["Miravel" if k < 2 else "Sorrin" for k in range(len(self.names))]])
        return top, body

    def by_years(self):
        """Years down and parts across, parts down and years across, or years merged over their parts."""
        name, month = self.names[0], self.code == "M"
        self.names = (name,)
        parts = MONTHS if month else ["Q1", "Q2", "Q3", "Q4"]
        n, first = len(parts), int(self.orders[0])
        first = -(-first // len(parts)) * len(parts)
        years = max(2, min(6, len(self.orders) // n))
        self.orders = np.arange(first, first + years * n)
        self.gapped = False
        self.values = {name: self.column()}
        cells = {i: self.cell(name, i) for i in range(len(self.orders))}
        year = [str(1970 + (first + k * n) // n) for k in range(years)]
        shape = self.draw("shape", ["down", "turned", "merged", "under", "over"])
        if shape == "down":
            return [["year", *parts]], [[y, *[cells[k * n + j] for j in range(n)]] for k, y in enumerate(year)]
        if shape == "turned":
            return [["", *year]], [[p, *[cells[k * n + j] for k in range(years)]] for j, p in enumerate(parts)]
        if shape == "merged":
            return [["year", "part", name]], [[y if j == 0 else "", p, cells[k * n + j]]
                                              for k, y in enumerate(year) for j, p in enumerate(parts)]  # fmt: skip
        if shape == "under":
            rows = [
                r
                for k, y in enumerate(year)
                for r in ([y, ""], *[[p, cells[k * n + j]] for j, p in enumerate(parts)])
            ]
            return [["period", name]], rows
        top = [
            ["", *[y if j == 0 else "" for y in year for j in range(n)]],
            ["", *[p for _ in year for p in parts]],
        ]
        return top, [[name, *[cells[i] for i in range(len(self.orders))]]]

    def make(self):
        top, body = self.by_years() if self.layout == "years" else self.rows()
        if self.layout in ("wide", "long"):
            order = self.draw("order", ["up", "up", "down"] + (["mixed"] if "{yy}" not in self.style else []))
            body = (
                body[::-1] if order == "down" else self.rng.sample(body, len(body)) if order == "mixed" else body
            )
        if self.layout == "across":
            width = len(body[0])
            turned = [[top[-1][k], *[r[k] for r in body]] for k in range(width)]
            top, body = [["", *turned[0][1:]]], turned[1:]
        title = ["Prices, wages and output of Miravel", "All figures in percent."][self.percent == "title"]
        above = [[title]] if self.percent == "title" or self.rng.random() < 0.4 else []
        below = [["Source: Observatory. In percent."]] if self.percent == "footer" else []
        if not below and self.rng.random() < 0.2:
            below = [["Source: Observatory of the Lantern Sea."]]
        return self.written(above, top, body, below)

    def written(self, above, top, body, below):
        if self.kind == "json":
            heads = [" ".join(str(c) for c in col if c) or "key" for col in zip(*top, strict=True)]
            plain = self.layout in ("wide", "long") and self.percent in ("", "heading", "cells") and len(top) == 1
            if plain:
                return json.dumps([dict(zip(heads, r, strict=True)) for r in body]).encode()
            self.kind = ","
        rows = [*above, *([[""]] if above and self.rng.random() < 0.5 else []), *top, *body, *below]
        if self.kind == "xlsx":
            return self.workbook(rows)
        if self.kind == "html":
            cells = ["".join(f"<td>{'' if c is None else c}</td>" for c in r) for r in [*top, *body]]
            cells = [c.replace("¹", "<sup>1</sup>") for c in cells]
            notes = ["".join(f"<p>{r[0]}</p>" for r in part) for part in (above, below)]
            table = "".join(f"<tr>{c}</tr>" for c in cells)
            caption = f"<caption>{above[0][0]}</caption>" if above else ""
            foot = "".join(f"<tr><td colspan='{len(top[0])}'>{r[0]}</td></tr>" for r in below)
            return f"<html><body>{notes[0]}<table>{caption}{table}{foot}</table></body></html>".encode()
        text = "\n".join(self.kind.join(self.quoted(c) for c in r) for r in rows) + "\n"
        if self.rng.random() < 0.2:
            text = text.replace("\n", "\r\n")
        encoding = self.draw("encoding", ["utf-8", "utf-8", "utf-8-sig", "utf-16", "latin-1"])
        body = text.encode(encoding)
        return gzip.compress(body) if self.rng.random() < 0.1 else body

    def quoted(self, cell):
        text = "" if cell is None else str(cell)
        return f'"{text}"' if self.kind in text and not text.startswith("Prices, wages") else text

    def workbook(self, rows):
        held = io.BytesIO()
        book = xlsxwriter.Workbook(held, {"in_memory": True})
        sheet, dated = book.add_worksheet(), book.add_format({"num_format": "yyyy-mm-dd"})
        native = self.style in ("{day}", "{y}-{m:02d}-01", "{end}") and self.layout in ("wide", "long")
        for r, row in enumerate(rows):
            for c, cell in enumerate(row):
                if native and c == 0 and isinstance(cell, str) and cell[:4].isdigit():
                    sheet.write_datetime(r, c, pd.Timestamp(cell).to_pydatetime(), dated)
                elif cell is not None:
                    sheet.write(r, c, cell)
        book.close()
        return held.getvalue()


def make_case(seed):
    """A random table with its truth."""
    maker = _Maker(seed)
    body = maker.make()
    labels = maker.frequency.labels(maker.orders)
    divisor = 100.0 if maker.percent else 1.0
    truth = {
        name: {p: v / divisor for p, v in zip(labels, values, strict=True) if not math.isnan(v)}
        for name, values in maker.values.items()
    }
    return Case(body, maker.frequency, truth, maker.count_odd, "; ".join(maker.how))


def differences(case, reading):
    """What a reading says that the truth does not; empty if it is the truth."""
    found = []
    if len(reading.series) != len(case.truth):
        return [f"{len(reading.series)} series ({list(reading.series)}), not {len(case.truth)}"]
    odd = [r for r in reading.rejected if "holiday" in r.text]
    if len(odd) != case.odd:
        found.append(f"{len(odd)} odd cells reported, not {case.odd}")
    for name, wanted in case.truth.items():
        series = [s for key, s in reading.series.items() if name in key] if len(case.truth) > 1 else list(
            reading.series.values())  # fmt: skip
        if len(series) != 1:
            found.append(f"'{name}' names {len(series)} of {list(reading.series)}")
            continue
        own = series[0].metadata.frequency
        if own.code != case.frequency.code and {own.code, case.frequency.code} != {"B", "D"}:
            found.append(f"{name}: {own}, not {case.frequency}")
            continue
        known = series[0].values.dropna()
        got = dict(zip(own.labels(own.ordinals_of(known.index)), known.tolist(), strict=True))
        if set(got) != set(wanted):
            found.append(f"{name}: periods {sorted(set(got) ^ set(wanted))[:4]}")
        elif any(not math.isclose(got[p], wanted[p], rel_tol=1e-12, abs_tol=1e-15) for p in wanted):
            found.append(f"{name}: {[(p, got[p], wanted[p]) for p in wanted if got[p] != wanted[p]][:2]}")
    return found
