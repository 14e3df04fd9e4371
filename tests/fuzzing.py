"""Damaged inputs for everything that reads from outside; one trial is named by its target and a number.

A trial passes if it ends in an answer or in a refusal in words, soon. ``python -m benchmarks.soak fuzz`` runs
them for as long as one likes; a trial that failed is run again with ``trial(target, number)``.
"""

import itertools
import json
import random
import signal
import warnings
from contextlib import contextmanager

import numpy as np
import pandas as pd

import ultrum as ul
from tests.corpus import BROKEN, GOOD, PAGE
from tests.support import ROOT
from ultrum.errors import UltrumError
from ultrum.practice import data_messages, structure_messages
from ultrum.practice.simulated_world import FLOWS
from ultrum.sources.download_and_limits import Address
from ultrum.sources.sdmx import structures_and_typing
from ultrum.sources.sdmx.client import decode
from ultrum.sources.table.reader import read_table
from ultrum.sources.table.reading_result import TableOptions

PATIENCE = 20  # seconds of processor time for one input of a few kilobytes: another program may hold the machine
TOKENS = [b"\x00", b"\xff\xfe", b"\n" * 50, b";" * 200, b'"', b"'", b"1e999", b"-", b"NaN", b"2024-13-45", b"31/02/2024",
          b"\xc3\x28", "٣".encode(), b"1,234,567.89.0", b"99999999999999999999", b"%", b"<table>", b"</Series>", b"{", b"[" * 80,
          b"\\u0000", b"=1+1", b"0x10", b"true", b"null", b"1970", b"12", b"\r", b"\t", b"#", b"[sources.x]\n", b"x = 1\n"]  # fmt: skip


def tables():
    made = [said[0] for said in (*GOOD.values(), *BROKEN.values()) if isinstance(said[0], str | bytes)]
    made += [path.read_bytes() for path in (ROOT / "tests" / "data").glob("*.xls")]
    return [m.encode() if isinstance(m, str) else m for m in (*made, PAGE)]


def damaged_data():
    flow = FLOWS["PRICES"]
    rows = pd.DataFrame(
        {"period": ["2020-01", "2020-02", "2020-03"], "value": [1.5, np.nan, -3e-7], "status": list("APM")}
    )
    series = [("M.QM.CPI", rows), ("M.QT.CPI", rows)]
    return [
        data_messages.data_csv(flow, series), data_messages.data_csv(flow, series, version="2.0.0"),
        json.dumps(data_messages.data_json(flow, series)).encode(),
        json.dumps(data_messages.data_json(flow, series, version="2.0.0")).encode(),
        data_messages.data_xml(flow, series), data_messages.data_xml(flow, series, generic=True),
    ]  # fmt: skip


def damaged_structures():
    content = data_messages.Content(flows=list(FLOWS.values())[:2])
    return [
        structure_messages.structures_xml(content),
        json.dumps(structure_messages.structures_json(content)).encode(),
    ]


def studies():
    folder = ROOT / "ultrum" / "practice"
    return [p.read_bytes() for p in (folder / "demo.toml", *sorted((folder / "studies").glob("*.toml")))]


def read_a_table(body):
    read_table(body, "fuzz", TableOptions())


def read_data(body):
    decode(body, "", list(FLOWS["PRICES"].dimensions), "s:PRICES")


def read_structures(body):
    for reader in (
        structures_and_typing.read_flows,
        structures_and_typing.read_structure,
        structures_and_typing.read_categories,
        structures_and_typing.read_available,
    ):
        try:
            reader(body, "s:PRICES")
        except UltrumError:
            continue


def read_a_study(body):
    ul.Study.parse(body.decode("utf-8", "replace"), "s.toml")


def read_an_address(body):
    text = body.decode("utf-8", "replace")
    made = Address.parse(text)
    assert Address.parse(str(made)) == made, "an address is not what it prints as"


def read_rates(body):
    """Quotes between a few currencies, drawn by the bytes: there and back is one, and a path its product."""
    draw = random.Random(body)
    days = pd.bdate_range("2024-01-01", periods=5)
    names = ["QML", "QSR", "QTV", "QXA", "QXB"]
    quotes = []
    for _ in range(draw.randrange(1, 7)):
        base, quote = draw.choice(names), draw.choice(names)
        value = draw.choice(
            [1e-12, 0.3, 1.0, 7.0, 1e9, 0.0, -1.0, float("inf")] if draw.random() < 0.2 else [0.3, 1.7]
        )
        series = pd.Series([value * (1 + draw.random() / 9) for _ in days], days)
        quotes.append(
            ul.TimeSeries.from_pandas(series, name=f"{base}{quote}", measure="quote", unit=f"{quote}/{base}")
        )
    table = ul.ExchangeRates(quotes)
    one, two = draw.choice(names), draw.choice(names)
    rate = float(table.rate(one, two))
    assert abs(rate * float(table.rate(two, one)) - 1) < 1e-12, "there and back is not one"
    path = table.path(one, two)
    product = np.prod([float(table.rate(a, b)) for a, b in itertools.pairwise(path)])
    assert abs(product / rate - 1) < 1e-12, "a path is not the product of its steps"


def read_what_was_written(body):
    """A table of known numbers in one of many styles: what is read is what was written."""
    draw = random.Random(body)
    periods = draw.choice([
        pd.period_range("2019-11", periods=draw.randrange(3, 30), freq="M"),
        pd.period_range("2019-12-20", periods=draw.randrange(15, 60), freq="D"),
    ])  # fmt: skip
    daily = periods.freqstr == "D"
    style = draw.choice(
        ["%Y-%m-%d", "%d/%m/%Y", "%d.%m.%Y", "%Y%m%d", "%d-%b-%Y"]
        if daily
        else ["%Y-%m", "%b %Y", "%m/%Y", "%YM%m", "%B %Y"]
    )
    mark, decimal = draw.choice([(",", "."), (";", ","), ("\t", "."), ("|", ","), (";", ".")])
    places = draw.randrange(0, 7)
    values = np.round(
        np.random.default_rng(draw.randrange(1 << 30)).normal(50, 40, (len(periods), draw.randrange(1, 4))),
        places,
    )
    names = [f"series {k}" for k in range(values.shape[1])]
    cells = [[f"{v:.{places}f}".replace(".", decimal) for v in row] for row in values]
    if draw.random() < 0.4:
        cells[draw.randrange(len(cells))][0] = draw.choice(["", "n/a", "..", "-"])
    lines = [
        mark.join(["date", *names]),
        *(mark.join([p.strftime(style), *row]) for p, row in zip(periods, cells, strict=True)),
    ]
    if draw.random() < 0.3:
        lines[1:] = lines[:0:-1]
    text = "Made by clerks\n\n" * (draw.random() < 0.3) + draw.choice(["\n", "\r\n"]).join(lines)
    made = ul.read_series(text.encode(draw.choice(["utf-8", "utf-8-sig", "utf-16"])), units="as written")
    for k, name in enumerate(names):
        got = made.series[name].values
        for period, cell in zip(periods, (row[k] for row in cells), strict=True):
            try:
                want = float(cell.replace(decimal, "."))
            except ValueError:
                want = np.nan
            label = period if isinstance(got.index, pd.PeriodIndex) else period.to_timestamp()
            found = got.get(label, np.nan)
            assert found == want or (found != found and want != want), f"{name} {label}: {found}, not {want}"


TARGETS = {
    "tables": (read_a_table, tables),
    "data messages": (read_data, damaged_data),
    "structure messages": (read_structures, damaged_structures),
    "studies": (read_a_study, studies),
    "addresses": (
        read_an_address,
        lambda: [b"exchange:prices.csv#close", b"observatory:PRICES/M.QM+QT.CPI", b"a:b"],
    ),
    "rates": (read_rates, lambda: [b"rates"]),
    "styles": (read_what_was_written, lambda: [b"styles"]),
}
_KEPT = {}


def mutated(seeds, number):
    """One of the seeds, damaged in a few places; the same for the same number."""
    draw = random.Random(number)
    body = bytearray(draw.choice(seeds))
    for _ in range(draw.choice([0, 1, 1, 2, 3, 6])):
        at, size = draw.randrange(len(body) + 1), min(len(body), int(draw.expovariate(0.1)) + 1)
        what = draw.randrange(7)
        if what == 0 and body:
            body[min(at, len(body) - 1)] = draw.randrange(256)
        elif what == 1:
            del body[at : at + size]
        elif what == 2:
            body[at:at] = body[at : at + size] * draw.choice([1, 2, 30])
        elif what == 3:
            body[at:at] = draw.choice(TOKENS)
        elif what == 4:
            del body[draw.randrange(len(body) + 1) if draw.random() < 0.3 else len(body) :]
        elif what == 5:
            lines = bytes(body).split(b"\n")
            draw.shuffle(lines) if draw.random() < 0.2 else lines.insert(
                draw.randrange(len(lines) + 1), draw.choice(lines)
            )
            body = bytearray(b"\n".join(lines))
        else:
            other = draw.choice(seeds)
            body[at:at] = other[: draw.randrange(len(other) + 1)]
    return bytes(body[:2_000_000])


def trial(target, number):
    """Run one trial; whether it was answered, or the fault as an exception."""
    read, seeds = TARGETS[target]
    if target not in _KEPT:
        _KEPT[target] = seeds()
    body = mutated(_KEPT[target], number)
    if target in ("rates", "styles"):
        body = str(number).encode()
    with warnings.catch_warnings(), patience():
        warnings.simplefilter("ignore")
        try:
            read(body)
        except UltrumError as error:
            assert str(error).strip(), "a refusal without words"
            return False
    return True


@contextmanager
def patience():
    def _late(*_):
        raise TimeoutError(f"more than {PATIENCE} seconds of processor time")

    before = signal.signal(signal.SIGPROF, _late)
    signal.setitimer(signal.ITIMER_PROF, PATIENCE)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)
        signal.signal(signal.SIGPROF, before)
