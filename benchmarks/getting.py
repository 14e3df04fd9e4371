"""Getting data: pulls, formats, tables and search, each compared with its bare counterpart in one run

Both sides run in this process and take turns; the least of several times counts. The service runs in a
process of its own, with 25 ms added to every answer for the pulls.
"""

import datetime as dt
import io
import json
import resource
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import lxml.etree
import numpy as np
import orjson
import pandas as pd
import pyarrow
import pyarrow.csv
import python_calamine
import xlsxwriter

import ultrum as ul
from benchmarks.demo import LISTING_WORDS
from ultrum.sources.sdmx.client import decode
from ultrum.sources.sdmx.structures_and_typing import Calendar, Structure, to_parts
from ultrum.sources.table.reader import read_table
from ultrum.sources.table.reading_result import TableOptions
from ultrum.vault.search_index import Entry, Listings

SERIES, OBSERVATIONS, LISTINGS = 400, 1_000_000, 100_000
DIMENSIONS = ("FREQ", "AREA", "ITEM")
SERVER = """
import sys, threading
from ultrum import practice
from ultrum.practice import simulated_world, statistics_service
items = simulated_world.FLOWS["PRICES"].dimensions["ITEM"][1]
items.update({f"I{i:03d}": f"Item {i}" for i in range(400)})
known = simulated_world.catalogue()
known.update({("PRICES", f"M.QM.I{i:03d}"): known["PRICES", "M.QM.CPI"] for i in range(400)})
def latest():
    found = plain_rows
    return {**found, **{("PRICES", f"M.QM.I{i:03d}"): found["PRICES", "M.QM.CPI"] for i in range(400)}}
frame = statistics_service.observations()
import pandas as pd
days = pd.to_datetime(statistics_service._first_days(frame["period"].to_numpy()))
plain_rows = {k: v for k, v in frame.assign(day=days).groupby(["flow", "key"], sort=False)}
statistics_service._latest = latest
with practice.serve(delay=0.025) as running:
    print(running.url, flush=True)
    threading.Event().wait()
"""


def turns(times, *sides):
    """Least time of each side, the sides taking turns."""
    taken = [[] for _ in sides]
    for _ in range(times):
        for k, side in enumerate(sides):
            start = time.perf_counter()
            side()
            taken[k].append(time.perf_counter() - start)
    return [min(t) for t in taken]


def row(name, ours, bare, what, limit):
    return f"| {name} | {ours:.2f} | {bare:.2f} | {ours / bare:.2f} | {limit} | {what} |"


def pulls():
    """Pulls of 400 series over 8 connections, first and refreshed."""
    process = subprocess.Popen([sys.executable, "-c", SERVER], stdout=subprocess.PIPE, text=True)
    url = process.stdout.readline().strip()
    addresses = [f"observatory:PRICES/M.QM.I{i:03d}" for i in range(SERIES)]
    paths = [f"{url}/sdmx/data/{a.partition(':')[2]}" for a in addresses]
    accept = {"accept": "application/vnd.sdmx.data+csv;version=1.0.0"}
    tags = {}

    def bare(conditional):
        def one(path):
            more = {"if-none-match": tags[path]} if conditional else {}
            answer = client.get(path, headers={**accept, **more})
            tags[path] = answer.headers["etag"]
            return answer.content

        with httpx.Client(limits=httpx.Limits(max_connections=8)) as client, ThreadPoolExecutor(8) as pool:
            return list(pool.map(one, paths))

    lines = []
    try:
        with tempfile.TemporaryDirectory() as folder:
            count = 0

            def first():
                nonlocal count
                count += 1
                with ul.Desk(Path(folder, str(count)), sources=sources) as desk:
                    result = desk.pull(addresses)
                    assert len(result.series) == SERIES and not result.failed

            def again():
                with ul.Desk(Path(folder, "1"), sources=sources) as desk:
                    assert set(desk.pull(addresses).status["status"]) == {"same"}

            sources = {"observatory": {"kind": "sdmx", "url": f"{url}/sdmx"}}
            ours, theirs = turns(3, first, lambda: bare(False))
            lines.append(row(f"pull of {SERIES} series, s", ours, theirs, "httpx loop, 8 connections", 1.5))
            ours, theirs = turns(3, again, lambda: bare(True))
            lines.append(row("the same refreshed (304), s", ours, theirs, "httpx loop, 8 connections", 1.5))
    finally:
        process.kill()
        process.communicate()
    return lines


def messages():
    """A million observations in CSV, JSON and both kinds of XML."""
    rng = np.random.default_rng(1)
    per = 1000
    periods = [str(p) for p in pd.period_range("1940-01", periods=per, freq="M")]
    keys = [f"M.A{i:03d}.X" for i in range(OBSERVATIONS // per)]
    values = np.round(rng.normal(100, 5, (len(keys), per)), 3)
    text = io.StringIO()
    text.write("DATAFLOW,FREQ,AREA,ITEM,TIME_PERIOD,OBS_VALUE,UNIT_MEASURE,OBS_STATUS\n")
    for key, line in zip(keys, values, strict=True):
        head = f"A:F(1.0),{key.replace('.', ',')},"
        text.write("".join(f"{head}{p},{v},IX,A\n" for p, v in zip(periods, line, strict=True)))
    csv = text.getvalue().encode()
    dimensions = [{"id": "FREQ", "keyPosition": 0, "values": [{"id": "M", "name": "Monthly"}]},
                  {"id": "AREA", "keyPosition": 1, "values": [{"id": k.split(".")[1], "name": k} for k in keys]},
                  {"id": "ITEM", "keyPosition": 2, "values": [{"id": "X", "name": "X"}]}]  # fmt: skip
    observed = [{"id": "TIME_PERIOD", "keyPosition": 3, "values": [{"id": p, "name": p} for p in periods]}]
    status = {"id": "OBS_STATUS", "values": [{"id": "A", "name": "Normal"}]}
    series = {f"0:{i}:0": {"attributes": [], "observations": {str(j): [float(v), 0] for j, v in enumerate(line)}}
              for i, line in enumerate(values)}  # fmt: skip
    structure = {"dimensions": {"series": dimensions, "observation": observed},
                 "attributes": {"series": [], "observation": [status]}}  # fmt: skip
    js = orjson.dumps({"data": {"dataSets": [{"series": series}], "structure": structure}})
    space = "http://www.sdmx.org/resources/sdmxml/schemas/v2_1"
    parts = [f'<m:StructureSpecificData xmlns:m="{space}/message"><m:DataSet>']
    for key, line in zip(keys, values, strict=True):
        freq, area, item = key.split(".")
        parts.append(f'<Series FREQ="{freq}" AREA="{area}" ITEM="{item}" UNIT_MEASURE="IX">')
        parts += [
            f'<Obs TIME_PERIOD="{p}" OBS_VALUE="{v}" OBS_STATUS="A"/>' for p, v in zip(periods, line, strict=True)
        ]
        parts.append("</Series>")
    xml = "".join([*parts, "</m:DataSet></m:StructureSpecificData>"]).encode()

    def bare_xml():
        for _, element in lxml.etree.iterparse(io.BytesIO(xml), events=("end",), tag="Obs"):
            element.clear()
            before = element.getprevious()
            if before is not None:
                element.getparent().remove(before)

    known = Structure(DIMENSIONS, {})

    def read(body):
        shared = Calendar()
        raws = decode(body, "", DIMENSIONS, "s:F")
        found = [p for r in raws for p in to_parts(r, known, "s:F/X", shared)]
        assert sum(len(p) for p in found) == OBSERVATIONS
        return found

    lines = []
    for name, body, bare, what, limit in (
        (
            "SDMX-CSV, a million observations, s",
            csv,
            lambda: pyarrow.csv.read_csv(pyarrow.BufferReader(csv)),
            "pyarrow read",
            3,
        ),
        ("SDMX-JSON, a million observations, s", js, lambda: orjson.loads(js), "orjson parse", 4),
        ("SDMX-ML, a million observations, s", xml, bare_xml, "iterative XML parse", 2),
    ):
        ours, theirs = turns(3, lambda b=body: read(b), bare)
        lines.append(row(name, ours, theirs, what, limit))
    return lines


def minute_bars():
    rng = np.random.default_rng(0)
    moments = pd.date_range("2020-01-01", periods=OBSERVATIONS, freq="min")
    close = np.round(100 + np.cumsum(rng.normal(0, 0.01, OBSERVATIONS)), 4)
    opened = np.r_[100, close[:-1]]
    frame = pd.DataFrame({"t": moments.strftime("%Y%m%d %H%M%S"), "o": opened,
                          "h": np.round(np.maximum(opened, close) + 0.01, 4),
                          "l": np.round(np.minimum(opened, close) - 0.01, 4), "c": close,
                          "v": rng.integers(1, 999, OBSERVATIONS)})  # fmt: skip
    body = frame.to_csv(index=False, header=False, sep=";").encode()
    options = pyarrow.csv.ParseOptions(delimiter=";")
    names = pyarrow.csv.ReadOptions(autogenerate_column_names=True)
    ours, theirs = turns(
        5,
        lambda: read_table(body, "bars.csv", TableOptions(timezone="UTC")).series,
        lambda: pyarrow.csv.read_csv(pyarrow.BufferReader(body), parse_options=options, read_options=names),
    )
    return row("a million minute bars, no header, s", ours, theirs, "pyarrow read", 3)


def workbook():
    rng = np.random.default_rng(0)
    packed = io.BytesIO()
    with xlsxwriter.Workbook(packed) as book:
        page, form = book.add_worksheet("data"), book.add_format({"num_format": "yyyy-mm-dd"})
        page.write_row(0, 0, ["date", "a", "b", "c", "d"])
        for i in range(40_000):
            page.write_datetime(i + 1, 0, dt.datetime(1900, 1, 2) + dt.timedelta(days=i), form)
            page.write_row(i + 1, 1, list(rng.normal(size=4)))
    body = packed.getvalue()
    ours, theirs = turns(
        7,
        lambda: read_table(body, "b.xlsx").series,
        lambda: (
            python_calamine.CalamineWorkbook.from_filelike(io.BytesIO(body)).get_sheet_by_index(0).to_python()
        ),
    )
    return row("workbook of 40,000 rows, s", ours, theirs, "python-calamine", 1.5)


def search():
    """Milliseconds of searches in a catalogue of 100,000 listings, once opened."""
    rng = np.random.default_rng(0)
    entries = [
        Entry("s", f"s:F{i % 40}/M.{i}", " ".join(rng.choice(LISTING_WORDS, 4)) + f" number {i}", "Monthly", f"Flow {i % 40}",
              "Economy > Trade", f"Q{i % 26}", "index", "QML")
        for i in range(LISTINGS)
    ]  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        listings = Listings(Path(folder, "l.sqlite"))
        listings.replace("s", entries, "2025")
        took = []
        for asked in (
            "freight harbour",
            "number 12345",
            "whelk quay tide salt",
            "harbor fraight",
            "number 9",
            "mon out",
        ):
            start = time.perf_counter()
            assert listings.search(asked)
            took.append(1e3 * (time.perf_counter() - start))
        listings.close()
    return (
        f"Search in {LISTINGS:,} listings: {min(took):.1f} to {max(took):.1f} ms over six searches (limit 50 ms)."
    )


def run():
    lines = ["| what | Ultrum | bare | ratio | limit | bare side |", "|---|---:|---:|---:|---:|---|"]
    lines += [*pulls(), *messages(), minute_bars(), workbook()]
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return "\n".join([*lines, "", search(), "", f"Peak memory of the whole run: {peak:,.0f} MB."])


if __name__ == "__main__":
    print(run())
    print(json.dumps({"done": True}), file=sys.stderr)
