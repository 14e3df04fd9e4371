"""Small awkward tables in the shapes real ones have, with what they must be read to; and broken ones."""

import datetime as dt
import gzip
import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pandas as pd
import xlsxwriter

NAN = np.nan


def workbook(sheets):
    """Bytes of a workbook; dates are written as dates."""
    packed = io.BytesIO()
    with xlsxwriter.Workbook(packed, {"in_memory": True}) as book:
        form = book.add_format({"num_format": "yyyy-mm-dd"})
        for name, rows in sheets.items():
            page = book.add_worksheet(name)
            for i, row in enumerate(rows):
                for j, cell in enumerate(row):
                    if isinstance(cell, dt.date):
                        page.write_datetime(i, j, dt.datetime(cell.year, cell.month, cell.day), form)
                    elif cell is not None:
                        page.write(i, j, cell)
    return packed.getvalue()


def parquet(frame):
    packed = io.BytesIO()
    frame.to_parquet(packed)
    return packed.getvalue()


def zipped(**files):
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        for name, text in files.items():
            archive.writestr(name.replace("__", "."), text)
    return packed.getvalue()


JAN = [dt.date(2024, 1, d) for d in (2, 3, 4)]
MONTHS = "Jan,Feb,Mar,Apr,May,Jun,Jul,Aug,Sep,Oct,Nov,Dec"
PAGE = ("<!doctype html><html><body><table><tr><td>menu</td><td>links</td></tr></table><h2>{}</h2>"
        "<table><tr><th>Day</th><th>Rate</th></tr><tr><td>2 Jan 2024</td><td>1.5</td></tr>"
        "<tr><td>3 Jan 2024</td><td>1.75</td></tr></table></body></html>\n")  # fmt: skip
ROWS = "\n".join(f"{y}," + ",".join(f"{y - 2000}.{m:02d}" for m in range(1, 13)) + ",9" for y in (2001, 2002))

GOOD = {  # name: (source, keywords, series, first period, values)
    "plain": ("date,cpi\n2024-01,100.5\n2024-02,101\n", {}, "cpi", "2024-01", [100.5, 101]),
    "semicolons and decimal commas": ("Monat;Wert\n01/2024;1,5\n02/2024;-2,25\n", {}, "Wert", "2024-01",
                                      [1.5, -2.25]),
    "prose above, note below": ("Made by clerks, in a hurry.\n\ndate,x\n2024-01,1\n2024-02,2\n\nEnd.\n", {},
                                "x", "2024-01", [1, 2]),
    "newest first": ("date,x\n2024-03,3\n2024-02,2\n2024-01,1\n", {}, "x", "2024-01", [1, 2, 3]),
    "newest first, several a day": ("date,id,p\n2024-02,A,2\n2024-02,B,4\n2024-01,A,1\n2024-01,B,3\n", {}, "B.p", "2024-01", [3, 4]),
    "pairs of currencies": ("date,pair,rate\n2024-01,QML/QSR,1.5\n2024-01,QSR/QTV,2\n2024-02,QML/QSR,1.6\n"
                            "2024-02,QSR/QTV,3\n", {}, "QSR/QTV.rate", "2024-01", [2, 3]),
    "percent signs": ("date,x\n2024-01,1.5%\n2024-02,-2%\n", {}, "x", "2024-01", [0.015, -0.02]),
    "percent in the prose": ("Returns in percent\ndate,x\n2024-01,7\n2024-02,n/a\n", {}, "x", "2024-01",
                             [0.07, NAN]),
    "percent, but said to be decimal": ("in percent\ndate,x\n2024-01,7\n2024-02,8\n", {"units": "decimal"},
                                        "x", "2024-01", [7, 8]),
    "percent in one heading only": ("d,Yield (%),CPI (2015=100)\n2024-01,4.5,101\n2024-02,5,102\n", {},
                                    "Yield (%)", "2024-01", [0.045, 0.05]),
    "a row of units": ("month,cpi,jobless\n,2015=100,%\n2024-01,101.5,4.5\n2024-02,101.7,5\n", {}, "jobless",
                       "2024-01", [0.045, 0.05]),
    "volumes of nine digits": ("date,volume\n2024-01,123456789\n2024-02,223456789\n", {}, "volume", "2024-01",
                               [123456789, 223456789]),
    "quarters": ("when|gdp\n2023 Q4|5\n2024 Q1|6\n", {}, "gdp", "2023-Q4", [5, 6]),
    "quarters, number first": ("when,gdp\n4Q2023,5\n1Q2024,6\n", {}, "gdp", "2023-Q4", [5, 6]),
    "years": ("year\tpeople\n2022\t5100\n2023\t5200\n", {}, "people", "2022", [5100, 5200]),
    "fiscal years": ("y,x\n2021/22,1\n2022/23,2\n", {"dates": "year ends June"}, "x", "2022", [1, 2]),
    "weeks next to their year": ("year,week,x\n2024,1,1\n2024,2,2\n2024,3,9\n", {}, "x", "2024-W01", [1, 2, 9]),
    "weeks of the standard": ("week,x\n2024-W01,1\n2024-W02,2\n", {}, "x", "2024-W01", [1, 2]),
    "weeks ending on Fridays": ("week ending,x\n2024-01-05,1\n2024-01-12,2\n2024-01-19,3\n", {}, "x", "2024-W01",
                                [1, 2, 3]),
    "thousands": ('date,x\n2024-01,"1,234.5"\n2024-02,"12,345"\n', {}, "x", "2024-01", [1234.5, 12345]),
    "thousands by apostrophes": ("d;x\n2024-01;1'234.5\n2024-02;12'345.5\n", {}, "x", "2024-01", [1234.5, 12345.5]),
    "thousands by narrow spaces": ("d;x\n2024-01;1\u202f234,5\n2024-02;12\u00a0345,5\n", {}, "x", "2024-01",
                                   [1234.5, 12345.5]),
    "points in a table parted by commas": ("d,x\n2024-01-02,141.234\n2024-01-03,142.345\n", {}, "x", "2024-01-02",
                                           [141.234, 142.345]),
    "dotted dates": ("Tag;x\n30.01.2024;1\n31.01.2024;2\n", {}, "x", "2024-01-30", [1, 2]),
    "compact dates": ("d,x\n20240130,1\n20240131,2\n", {}, "x", "2024-01-30", [1, 2]),
    "two-digit years": ("d,x\n15/03/24,1\n18/03/24,2\n", {}, "x", "2024-03-15", [1, 2]),
    "two-digit years of the last century": ("d,x\n15/03/71,1\n16/03/71,2\n", {}, "x", "1971-03-15", [1, 2]),
    "days beyond twelve settle the order": ("d,x\n12/01/2024,1\n15/01/2024,2\n", {}, "x", "2024-01-12",
                                            [1, 2]),
    "order given": ("d,x\n01/02/2024,1\n02/02/2024,2\n", {"dates": "15/03/2024"}, "x", "2024-02-01", [1, 2]),
    "four styles of dates in one column": ("d,x\n2024-01-15,1\n16/01/2024,2\n17 Jan 2024,3\n18.01.2024,4\n", {},
                                           "x", "2024-01-15", [1, 2, 3, 4]),
    "named months": ("d,x\n30-Jan-2024,1\n31-Jan-2024,2\n", {}, "x", "2024-01-30", [1, 2]),
    "months named in German": ("Monat;Wert\nJanuar 2024;1,5\nFebruar 2024;2,5\nMärz 2024;3,5\n", {}, "Wert",
                               "2024-01", [1.5, 2.5, 3.5]),
    "dates with a comma inside": ('when,x\n"March 15, 2024",1\n"March 18, 2024",2\n', {}, "x", "2024-03-15",
                                  [1, 2]),
    "epoch seconds": ("timestamp,x\n1704067200,1\n1704153600,2\n1704240000,3\n", {}, "x", "2024-01-01", [1, 2, 3]),
    "day numbers": ("date,x\n45292,1\n45293,2\n45294,3\n", {}, "x", "2024-01-01", [1, 2, 3]),
    "days that carry a time": ("d,x\n2024-01-02 16:00,1\n2024-01-03 16:00,2\n2024-01-04 16:00,3\n", {}, "x",
                               "2024-01-02", [1, 2, 3]),
    "year and month apart": ("year,month,value\n2023,11,1\n2023,12,2\n2024,1,3\n", {}, "value", "2023-11",
                             [1, 2, 3]),
    "year and period code": ("id,year,period,value\nA,2023,M11,1\nA,2023,M12,2\nA,2023,M13,1.5\nA,2024,M01,3\n", {},
                             "A", "2023-11", [1, 2, 3]),
    "years down, months across": (f"Rents\n\nYear,{MONTHS},Mean\n{ROWS}\n", {}, "Rents", "2001-01",
                                  [y + m / 100 for y in (1, 2) for m in range(1, 13)]),
    "dates across": ("code,name,2019,2020,2021\nQM,Miravel,10,11,12\nQS,Sorrin,20,21,n/a\n", {}, "QS", "2019",
                     [20, 21, NAN]),
    "a heading of two rows": (",Miravel,,Sorrin,\nmonth,pay,cpi,pay,cpi\n2024-01,1,2,3,4\n2024-02,5,6,7,8\n", {},
                              "Sorrin.pay", "2024-01", [3, 7]),
    "no header, names given": ("2024-01,1\n2024-02,2\n", {"columns": ["date", "x"]}, "x", "2024-01", [1, 2]),
    "bars without header": ("20240102;1.1;1.3;1.0;1.2;500\n20240103;1.2;1.4;1.1;1.3;400\n"
                            "20240104;1.3;1.3;0.9;1.0;300\n", {}, "low", "2024-01-02", [1.0, 1.1, 0.9]),
    "bars with open interest": ("20240102,1,3,0.5,2,50,7\n20240103,2,4,1,3,40,8\n20240104,3,3,1,2,30,9\n", {},
                                "open interest", "2024-01-02", [7, 8, 9]),
    "a recap above": ("half;x\n2023 H1;9\n2023 H2;9\n\nmonth;x\n01/2024;1\n02/2024;2\n03/2024;3\n", {}, "x",
                      "2024-01", [1, 2, 3]),
    "an annual block below": ("m,x\n202311,1\n202312,2\n202401,3\n\nAnnual\ny,x\n2022,5\n2023,6\n", {}, "x",
                              "2023-11", [1, 2, 3]),
    "the annual block asked for": ("m,x\n202311,1\n202312,2\n202401,3\n\nAnnual\ny,x\n2022,5\n2023,6\n",
                                   {"block": 2}, "x", "2022", [5, 6]),
    "two tables of one frequency": ("Pay\nmonth,pay\n2024-01,1\n2024-02,2\n\nCPI\nmonth,cpi\n2024-01,3\n2024-02,4\n",
                                    {}, "cpi", "2024-01", [3, 4]),
    "a header repeated": ("date,x\n2024-01,1\n2024-02,2\ndate,x\n2024-03,3\n", {}, "x", "2024-01", [1, 2, 3]),
    "rows repeated": ("d,x\n2024-01,1\n2024-01,1\n2024-02,2\n", {}, "x", "2024-01", [1, 2]),
    "a total below": ("d,x\n2024-01,1\n2024-02,2\n2024-03,3\nTotal,6\n", {}, "x", "2024-01", [1, 2, 3]),
    "footnotes on dates": ("d,x\n2024-01,1\n2024-02*,2\n\n* provisional\n", {}, "x", "2024-01", [1, 2]),
    "marks next to numbers": ("d;x\n2024-01;12.5\n2024-02;12.7p\n2024-03;12.9e\n", {}, "x", "2024-01",
                             [12.5, 12.7, 12.9]),
    "negatives in parentheses and behind": ("d,x\n2024-01,(5.5)\n2024-02,6.5-\n2024-03,−7\n", {}, "x", "2024-01",
                                         [-5.5, -6.5, -7]),
    "missing as the prose says": ("Missing data are -99.99 or -999.\n\nd,x\n2024-01,1\n2024-02,-99.99\n2024-03,2\n", {},
                                  "x", "2024-01", [1, NAN, 2]),
    "missing as given": ("d,x\n2024-01,1\n2024-02,-999\n2024-03,2\n", {"missing": ["-999"]}, "x", "2024-01",
                         [1, NAN, 2]),
    "currency next to the numbers": ("d;price\n2024-01;QML 12.50\n2024-02;QML 13.50\n", {}, "price", "2024-01",
                                    [12.5, 13.5]),
    "columns parted by spaces": ("          Mkt     SMB\n202401   1.50   -0.25\n202402  -0.70    0.15\n", {}, "SMB",
                                 "2024-01", [-0.25, 0.15]),
    "long, codes with leading zeros": ("region,date,value\n01,2024,5\n02,2024,6\n01,2025,7\n02,2025,8\n", {}, "02",
                                       "2024", [6, 8]),
    "long, told apart by two columns": ("d,area,item,value\n2024-01,A,x,1\n2024-01,A,y,2\n2024-01,B,x,3\n"
                                        "2024-02,A,x,4\n2024-02,A,y,5\n2024-02,B,x,6\n", {}, "A.y", "2024-01", [2, 5]),
    "a definition that changes": ("d,x\n2023-11,1\n2023-12,2\nNew definition from here on\n2024-01,3\n2024-02,4\n", {},
                                  "x from 2024-01", "2024-01", [3, 4]),
    "a definition said to change": ("d,x\n2024-01,1\n2024-02,2\n2024-03,3\n", {"breaks": ["2024-02"]},
                                    "x from 2024-02", "2024-02", [2, 3]),
    "a cell of two lines": ('d,x,note\n2024-01,1,"two\nlines"\n2024-02,2,ok\n', {}, "x", "2024-01", [1, 2]),
    "byte order mark": ("\ufeffdate,x\n2024-01,1\n2024-02,2\n", {}, "x", "2024-01", [1, 2]),
    "UTF-16": ("d,x\n2024-01,1\n2024-02,2\n".encode("utf-16"), {}, "x", "2024-01", [1, 2]),
    "Windows text": ("Monat;Löhne\n2024-01;1\n2024-02;2\n".encode("cp1252"), {}, "Löhne", "2024-01", [1, 2]),
    "gzip": (gzip.compress(b"d,x\n2024-01,1\n2024-02,2\n"), {}, "x", "2024-01", [1, 2]),
    "zip with litter": (zipped(a__csv="d,x\n2024-01,1\n2024-02,2\n", __DS_Store="x"), {}, "x", "2024-01", [1, 2]),
    "a workbook with a sheet of notes": (workbook({"Notes": [["By clerks"]], "Spot 2024": [
        ["Rates"], [], ["Day", "QSR/QML"], [JAN[0], 1.42], [JAN[1], 1.43], [JAN[2], None]]}), {}, "QSR/QML",
        "2024-01-02", [1.42, 1.43, NAN]),
    "a workbook with years across": (workbook({"A": [["Area", "Unit", 2019, 2020], ["Miravel", "QML mn", 1, 2],
                                                     ["Sorrin", "QSR mn", 4, 5]]}), {}, "Sorrin", "2019", [4e6, 5e6]),
    "one of two sheets": (workbook({"A": [["d", "x"], *[[d, 1] for d in JAN]], "B": [["d", "x"], *[[d, 2] for d in JAN]]}),
                          {"sheet": "B"}, "x", "2024-01-02", [2, 2, 2]),
    "a table in a page": (PAGE.format("Rates").encode(), {}, "Rate", "2024-01-02", [1.5, 1.75]),
    "a table of a page by its headings": (PAGE.format("x").encode(), {"headings": ["rate"]}, "Rate", "2024-01-02",
                                          [1.5, 1.75]),
    "JSON, a series in each object": (json.dumps([{"name": n, "unit": "index", "values": {"2024-01": k, "2024-02": k + 1}}
                                                  for k, n in enumerate(("cpi", "ppi"))]), {}, "ppi", "2024-01", [1, 2]),
    "JSON records": (json.dumps({"meta": {"n": 2}, "obs": [{"date": "2024-01-31", "v": {"x": 1.5}},
                                                          {"date": "2024-02-29", "v": {"x": None}}]}).encode(), {},
                     "v.x", "2024-01", [1.5, NAN]),
    "JSON columns": (b'{"date":["2024-01","2024-02"],"x":[1,2]}', {}, "x", "2024-01", [1, 2]),
    "JSON dates to values": (b'{"2024-01":1,"2024-02":2}', {}, "value", "2024-01", [1, 2]),
    "JSON lines": (b'{"date":"2024-01","x":1}\n{"date":"2024-02","x":2}\n', {}, "x", "2024-01", [1, 2]),
    "Parquet": (parquet(pd.DataFrame({"date": pd.to_datetime(["2024-01-31", "2024-02-29", "2024-03-31"]),
                                      "x": [1, 2, 3]})), {}, "x", "2024-01", [1, 2, 3]),
}  # fmt: skip

_FRENCH = "an;janv.;févr.;mars;avr.;mai;juin;juil.;août;sept.;oct.;nov.;déc.;moyenne\n"


def shown_in_percent():
    """A workbook whose cells have a percent format under a heading with a percent sign."""
    packed = io.BytesIO()
    with xlsxwriter.Workbook(packed, {"in_memory": True}) as book:
        page, percent = book.add_worksheet("Yields"), book.add_format({"num_format": "0.00%"})
        page.write_row(0, 0, ["Month", "Yield (%)"])
        for i, value in enumerate((0.5, 0.25, 0.125), 1):
            page.write(i, 0, f"2020-0{i}")
            page.write_number(i, 1, value, percent)
    return packed.getvalue()


def without_results():
    """A workbook with formulas that were never computed."""
    packed = io.BytesIO()
    with xlsxwriter.Workbook(packed, {"in_memory": True}) as book:
        page = book.add_worksheet("Sums")
        page.write_row(0, 0, ["Month", "x"])
        for i in (1, 2, 3):
            page.write(i, 0, f"2020-0{i}")
            page.write_formula(i, 1, "=1+1", None, "")
    return packed.getvalue()


def feather():
    packed = io.BytesIO()
    pd.DataFrame({"date": pd.date_range("2020-01-01", periods=3, freq="MS"), "x": [1.0, 2.0, 3.0]}).to_feather(
        packed
    )
    return packed.getvalue()


_NUMBERED = "".join(f"{2019 + i // 12};{i % 12 + 1};{i}\n" for i in range(24))
GOOD |= {
    "months numbered under a foreign heading": (
        f"Rok;Miesiąc;Cena\n{_NUMBERED}",
        {},
        "Cena",
        "2019-01",
        list(range(24)),
    ),
    "months numbered under an unknown heading": (f"A;B;C\n{_NUMBERED}", {}, "C", "2019-01", list(range(24))),
    "quarters numbered under a foreign heading": (
        "Vuosi;Neljännes;Hinta\n" + "".join(f"{2019 + i // 4};{i % 4 + 1};{i}\n" for i in range(8)),
        {},
        "Hinta",
        "2019-Q1",
        list(range(8)),
    ),
    "half-years numbered": ("Year,Half,x\n2019,1,5\n2019,2,6\n2020,1,7\n", {}, "x", "2019-S1", [5, 6, 7]),
    "quarters written like months": (
        "Quarter,x\n1/2019,5\n2/2019,6\n3/2019,7\n4/2019,8\n",
        {},
        "x",
        "2019-Q1",
        [5, 6, 7, 8],
    ),
    "fiscal years over the turn of the century": (
        "Fiscal year,x\n" + "".join(f"{y}-{(y + 1) % 100:02d},{y}\n" for y in range(1997, 2004)),
        {"dates": "year ends June"},
        "x",
        "1998",
        list(range(1997, 2004)),
    ),
    "quarters by their last month": (
        "q,x\nMar-qtr 2004,1\nJun-qtr 2004,2\nSep-qtr 2004,3\n",
        {},
        "x",
        "2004-Q1",
        [1, 2, 3],
    ),
    "a total in German": ("d;x\n2019-01;1\n2019-02;2\nSumme;3\n", {}, "x", "2019-01", [1, 2]),
    "months of another language across": (
        "an;janv.;févr.;mars;avr.;mai;juin;juil.;août;sept.;oct.;nov.;déc.\n2019;1;2;3;4;5;6;7;8;9;10;11;12\n"
        "2020;13;14;15;16;17;18;19;20;21;22;23;24\n",
        {},
        "t.txt",
        "2019-01",
        list(range(1, 25)),
    ),
    "a mean of the year to the right": (
        _FRENCH + "".join(f"{y};" + ";".join(map(str, range(1, 13))) + ";9\n" for y in (2019, 2020)),
        {},
        "t.txt",
        "2019-01",
        [*range(1, 13), *range(1, 13)],
    ),
    "quarters in words across": (
        "Rok;I kw.;II kw.;III kw.;IV kw.;średnia\n2019;1;2;3;4;9\n2020;5;6;7;8;9\n",
        {},
        "t.txt",
        "2019-Q1",
        list(range(1, 9)),
    ),
    "a percent format and a percent sign": (shown_in_percent(), {}, "Yield (%)", "2020-01", [0.5, 0.25, 0.125]),
    "a Feather file": (feather(), {}, "x", "2020-01", [1, 2, 3]),
    "an archive with a read-me": (
        zipped(**{"readme.txt": "Cite the college.\n", "data.csv": "date,x\n2020-01,1\n2020-02,2\n"}),
        {},
        "x",
        "2020-01",
        [1, 2],
    ),
    **{
        f"the encoding {code}": (
            f"{date};{close}\n2020-01;1\n2020-02;2\n".encode(code),
            {},
            close,
            "2020-01",
            [1, 2],
        )
        for code, date, close in (
            ("cp1251", "Дата", "Цена"),
            ("cp932", "日付", "終値"),
            ("gb18030", "日期", "收盘价"),
            ("big5", "日期", "收盤價"),
            ("cp949", "날짜", "종가"),
            ("cp1253", "Ημερομηνία", "Τιμή"),
            ("cp1252", "Date", "Clôture"),
        )
    },
    "date columns under two header rows": (
        "Alpha;;Beta;\nDate;Close;Date;Close\n"
        + "".join(f"2020-0{m};{m};2019-0{m};{m * 10}\n" for m in range(1, 6)),
        {},
        "Beta",
        "2019-01",
        [10, 20, 30, 40, 50],
    ),
}

BROKEN = {  # name: (source, keywords, words of the message)
    "no table": ("Only prose here.\nNothing else.\n", {}, ["no rows", "right file"]),
    "empty": (b"", {}, ["no rows"]),
    "bytes of a picture": (bytes(range(256)) * 20, {}, ["not text", "encoding"]),
    "no header": ("2024-01,1\n2024-02,2\n", {}, ["no header", "line 1", "columns=[...]"]),
    "no header, four columns that are no bars": ("2024-01,1,2,3,4\n2024-02,5,6,7,8\n2024-03,9,8,7,6\n", {},
                                                 ["no header", "5 columns"]),
    "names for too few columns": ("2024-01,1,2\n2024-02,2,3\n", {"columns": ["d", "x"]}, ["2 column names for 3"]),
    "day and month tied": ("d,x\n01/02/2024,1\n03/02/2024,2\n", {}, ["'01/02/2024'", "2024-02-01", "2024-01-02"]),
    "decimal mark tied": ("d;x\n2024-01;1,234\n2024-02;2,345\n", {}, ["'1,234'", "decimal=','"]),
    "periods twice": ("d,x\n2024-01,1\n2024-01,2\n2024-02,3\n", {}, ["1 duplicate period", "2024-01"]),
    "a column twice": ("d,x,x\n2024-01,1,2\n", {}, ["'x' twice"]),
    "ragged": ("d,x\n2024-01,1\n2024-02,2,9\n2024-03,3\n2024-04,4\n", {}, ["line 3", "3 cells, not 2"]),
    "asset changes currency": ("date,asset,currency,close\n2024-01,A,QML,1\n2024-02,A,QSR,2\n"
                               "2024-01,B,QML,1\n2024-02,B,QML,2\n", {}, ["A", "currency"]),
    "a mark for missing, unsaid": ("d,x\n2024-01,1\n2024-02,-999\n2024-03,2\n", {}, ["-999", "'x'", "missing="]),
    "some percent signs": ("d,x\n2024-01,1%\n2024-02,2\n2024-03,3\n", {}, ["1 of the 3", "'x'", "units="]),
    "intraday without a zone": ("d,x\n2024-01-02 16:00,1\n2024-01-02 16:05,2\n2024-01-02 16:10,3\n", {},
                                ["time zone", "timezone="]),
    "no such sheet": (workbook({"Spot 2024": [["d", "x"], [JAN[0], 1], [JAN[1], 2]]}), {"sheet": "Sheet1"},
                      ["Sheet 'Sheet1' is not in", "it has: 'Spot 2024'"]),
    "two sheets alike": (workbook({n: [["d", "x"], *[[d, 1] for d in JAN]] for n in "AB"}), {},
                         ["'A' (3 rows), 'B' (3 rows)", "sheet="]),
    "a workbook cut short": (workbook({"A": [["d", "x"]]})[:900], {}, ["damaged"]),
    "a page without a table": (b"<html><body><p>hello</p></body></html>", {}, ["without a table"]),
    "no table with such headings": (PAGE.format("x").encode(), {"headings": ["tides"]}, ["tides"]),
    "broken JSON": (b'{"date": [1, 2', {}, ["not JSON"]),
    "JSON without records": (b'{"a": {"b": 1}}', {}, ["not JSON of a known form"]),
    "a style of dates unknown": ("d,x\n2024-01,1\n2024-02,2\n", {"dates": "15th"}, ["'15th' is not an example"]),
    "dates in no style": ("date,x\n1/2/3/4,1\n2/3/4/5,2\n", {}, ["no rows of a date"]),
    "a damaged Parquet file": (b"PAR1" + b"x" * 50, {}, ["damaged Parquet"]),
    "a unit that is none": ("d,x\n2024-01,1\n2024-02,2\n", {"units": "bananas"}, ["units='bananas'"]),
}  # fmt: skip


def _rows(head, labels, first=1):
    """A table of a column of dates and one of whole numbers."""
    return f"{head}\n" + "".join(f"{label},{first + i}\n" for i, label in enumerate(labels))


_QUARTERS = [(y, q) for y in (2019, 2020) for q in (1, 2, 3, 4)]
for _style in (
    "{y}:{q}",
    "{s}Q{q}",
    "{y}Q0{q}",
    "T{q} {y}",
    "{q}. Quartal {y}",
    "{n} quarter {y}",
    "{y}/{q}",
    "{y},{r}",
):
    _labels = [_style.format(y=y, s=y % 100, q=q, n=("1st", "2nd", "3rd", "4th")[q - 1], r=("I", "II", "III", "IV")[q - 1])
               for y, q in _QUARTERS]  # fmt: skip
    _head = "year,quarter,x" if "," in _style else "when,x"
    GOOD[f"quarters like {_labels[0]}"] = (_rows(_head, _labels), {}, "x", "2019-Q1", list(range(1, 9)))
_DOWN = "\n".join(f"{q},{100 + q},{104 + q}" for q in (1, 2, 3, 4))
GOOD |= {
    "months of a quarter": (_rows("when,x", ["Jan-Mar 2020", "Apr-Jun 2020"]), {}, "x", "2020-Q1", [1, 2]),
    "weeks by name": (_rows("when,x", ["Week 1 2020", "Week 2 2020"]), {}, "x", "2020-W01", [1, 2]),
    "half-years": (_rows("when,x", ["H1 2020", "H2 2020"]), {}, "x", "2020-S1", [1, 2]),
    "a year in parentheses": (_rows("when,x", ["AY (2019)", "AY (2020)"]), {}, "x", "2019", [1, 2]),
    "short years of the sixties": (_rows("when,x", [f"15/03/{y}" for y in range(60, 70)]), {"dates": "15/03/24",
                                   "frequency": "A"}, "x", "1960", list(range(1, 11))),
    "short years through a century": (_rows("when,x", [f"Dec-{y % 100:02d}" for y in range(1921, 2021)]),
                                      {"frequency": "A"}, "x", "1921", list(range(1, 101))),
    "short years, the first given": (_rows("when,x", [f"Dec-{y}" for y in range(25, 31)]), {"frequency": "A",
                                     "first_year": 1925}, "x", "1925", list(range(1, 7))),
    "a title with a comma": ("Wages, percent change\ndate,a,b\n2024-01,1,2\n2024-02,3,4\n", {}, "a", "2024-01",
                             [0.01, 0.03]),
    "a first date that cannot be": ("date,x\n2024-13,9\n2024-01,1\n2024-02,2\n2024-03,3\n", {}, "x", "2024-01",
                                    [1, 2, 3]),
    "codes like numbers": ("date,id,p\n" + "".join(f"2024-0{m},{c},{m}\n" for c in ("1001", "1002") for m in (1, 2)), {},
                           "1002.p", "2024-01", [1, 2]),
    "codes of digits and letters": ("date,id,p\n" + "".join(f"2024-0{m},{c},{m}\n" for c in ("A12", "1E5") for m in (1, 2)),
                                    {}, "1E5.p", "2024-01", [1, 2]),
    "footnotes raised": (PAGE.format("x").replace("1.5<", "1.5<sup>1</sup><").encode(), {}, "Rate", "2024-01-02",
                         [1.5, 1.75]),
    "quarters down, years across": (f"Quarter,2019,2020\n{_DOWN}\n", {}, "t.txt", "2019-Q1", list(range(101, 109))),
    "a year over its quarters": (",2019,,,,2020,,,\n,Q1,Q2,Q3,Q4,Q1,Q2,Q3,Q4\npay,1,2,3,4,5,6,7,8\n", {}, "pay", "2019-Q1",
                                 list(range(1, 9))),
    "a year next to its first quarter": ("year,part,x\n" + "".join(f"{y if q == 1 else ''},Q{q},{q}\n" for y, q in _QUARTERS),
                                        {}, "x", "2019-Q1", [1, 2, 3, 4] * 2),
    "three rows of heading": (",Miravel,,Sorrin,\n,pay,cpi,pay,cpi\nYear,mn QML,index,mn QSR,index\n2019,1,2,3,4\n"
                              "2020,5,6,7,8\n", {}, "Sorrin.pay", "2019", [3e6, 7e6]),
    "years across, then words": ("Area,2019,2020,Note\nMiravel,1,2,revised\nSorrin,3,4,\n", {}, "Sorrin", "2019", [3, 4]),
    "three years across, then words": ("Area,2019,2020,2021,Note\nMiravel,1,2,3,revised\nSorrin,4,5,6,\n", {}, "Sorrin", "2019",
                                       [4, 5, 6]),
    "spaces behind the commas of the header": ("date, x\n2024-01,1\n2024-02,2\n", {}, "x", "2024-01", [1, 2]),
    "adjusted prices": ("Date,Adjusted\n2024-01-02,5\n2024-01-03,6\n2024-01-04,7\n", {}, "Adjusted", "2024-01-02", [5, 6, 7]),
    "codes with leading zeros under any heading": ("k,date,value\n01,2024,5\n02,2024,6\n01,2025,7\n02,2025,8\n", {}, "02",
                                                   "2024", [6, 8]),
    "a heading over all columns of a page": (PAGE.format("x").replace("<tr><th>Day", "<tr><th colspan=2>Rates</th></tr><tr><th>Day")
                                             .encode(), {}, "Rate", "2024-01-02", [1.5, 1.75]),
    "the column named date of two": ("entered,date,x\n2024-05-01,2024-01-01,1\n2024-05-02,2024-02-01,2\n2024-05-03,2024-03-01,3\n", {}, "x",
                                     "2024-01", [1, 2, 3]),
    "quarters in words": (_rows("when,x", [f"{n} quarter 2019" for n in ("first", "second", "third", "fourth")]), {}, "x", "2019-Q1",
                          [1, 2, 3, 4]),
    "a column without a name": ("date,,x\n2024-01,5,1\n2024-02,6,2\n", {}, "column 2", "2024-01", [5, 6]),
    "words in a row above": ("Source:,,,,,,Harbour office\ndate,a,b,c,d,e,f\n2024-01,1,2,3,4,5,6\n2024-02,1,2,3,4,5,7\n", {}, "f",
                             "2024-01", [6, 7]),
    "places and indicators, years across": ("Area,Item,2019,2020\nMiravel,pay,1,2\nMiravel,cpi,3,4\nSorrin,pay,5,6\n", {},
                                            "Sorrin.pay", "2019", [5, 6]),
    "day numbers among dates": (workbook({"A": [["d", "x"], [JAN[0], 1], [45294, 2], [JAN[2], 3]]}), {}, "x",
                                "2024-01-02", [1, 2, 3]),
    "three fields of dates": (json.dumps([{"published": "2024-03-01", "period": f"2024-0{m}", "updated": "2024-04-01", "x": m}
                                          for m in (1, 2)]).encode(), {}, "x", "2024-01", [1, 2]),
    "percent below the table": ("date,Rate\n2024-01,1\n2024-02,2\n\nAll figures in percent.\n", {}, "Rate", "2024-01",
                                [0.01, 0.02]),
    "percent in another language": ("Angaben in Prozent\ndate;Satz\n2024-01;1\n2024-02;2\n", {}, "Satz", "2024-01",
                                    [0.01, 0.02]),
    "percent of something else": ("Prices rose by 2 percent per year.\ndate;Level\n2024-01;1\n2024-02;2\n", {}, "Level",
                                  "2024-01", [1, 2]),
    "an asset column of numbers": ("date,id,p\n2024-01,1,5\n2024-01,2,6\n", {"asset_column": "id"}, "2.p", "2024-01", [6]),
}  # fmt: skip
_SWAPPED = [dt.date(2024, m, d) for m in (1, 2) for d in range(1, 29) if dt.date(2024, m, d).weekday() < 5]
BROKEN |= {
    "formulas without results": (without_results(), {}, ["cell B2", "without a stored result"]),
    "a code that repeats": (
        "d,x\n" + "".join(f"2020-{m:02d},{99 if m % 4 == 0 else 1.5 + m / 10}\n" for m in range(1, 13)), {},
        ["99 occurs 3 times in 'x'", "missing=['99']"],
    ),

    "short years of two centuries": (_rows("when,x", [f"Dec-{y}" for y in range(25, 31)]), {}, ["1925", "first_year=2025"]),
    "quarters or months": (_rows("when,x", [f"2020/{q}" for q in (1, 2, 3, 4)]), {}, ["2020-02-01", "2020-04-01"]),
    "days and months exchanged": (_rows("when,x", [d.replace(month=d.day, day=d.month) if d.day <= 12 else d
                                                   for d in _SWAPPED]), {}, ["swapped in", "first 2024-02-01"]),
    "a pair that cannot be": ("d,x\n2024-01,1\n2024-02,2\n", {"units": "EUR/ABC"}, ["units='EUR/ABC'"]),
    "what was seen": ("a;b\nc;1\n", {}, ["'a | b'", "date_column="]),
}  # fmt: skip


def open_document(rows, styles="", columns=""):
    """Bytes of an OpenDocument spreadsheet with one sheet; dates are given as text of ISO dates, a cell of another type as a pair."""
    cells = []
    for row in rows:
        inside = ""
        for cell in row:
            if isinstance(cell, tuple):
                inside += f"<table:table-cell {cell[1]}" + (f' office:value="{cell[0]}"/>' if cell[0] else "/>")
            elif isinstance(cell, float):
                inside += f'<table:table-cell office:value-type="float" office:value="{cell}"><text:p>{cell}</text:p></table:table-cell>'
            elif isinstance(cell, dt.date):
                inside += f'<table:table-cell office:value-type="date" office:date-value="{cell}"><text:p>{cell}</text:p></table:table-cell>'
            else:
                inside += (
                    f'<table:table-cell office:value-type="string"><text:p>{cell}</text:p></table:table-cell>'
                )
        cells.append(f"<table:table-row>{inside}</table:table-row>")
    names = "urn:oasis:names:tc:opendocument:xmlns:"
    content = (f'<?xml version="1.0"?><office:document-content xmlns:office="{names}office:1.0" xmlns:table="{names}table:1.0" '
               f'xmlns:text="{names}text:1.0" xmlns:style="{names}style:1.0" xmlns:number="{names}datastyle:1.0"><office:automatic-styles>'
               f'{styles}</office:automatic-styles><office:body><office:spreadsheet><table:table table:name="Rates">{columns}{"".join(cells)}'
               "</table:table></office:spreadsheet></office:body></office:document-content>")  # fmt: skip
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("content.xml", content)
        archive.writestr("META-INF/manifest.xml", "<m/>")
    return packed.getvalue()


GOOD["an OpenDocument sheet"] = (open_document([["Day", "Rate"], [JAN[0], 1.5], [JAN[1], 1.75], [JAN[2], 2.0]]), {}, "Rate",
                                 "2024-01-02", [1.5, 1.75, 2])  # fmt: skip
GOOD["an old workbook"] = ((Path(__file__).parent / "data" / "rates.xls").read_bytes(), {}, "QSR/QML", "2024-01-02",
                           [1.42, 1.43, 1.44])  # fmt: skip
