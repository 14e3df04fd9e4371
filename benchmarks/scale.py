"""Large jobs: 3,000 companies in a study, a set of 10,000 series, a vault of many records

Each case runs in a process of its own, so that its memory is its own: the peak is the most that the process held. A study and
a set are run on a quarter of the size too; the exponent compares the two. The vault is filled by ``Vault.record``, one small file
a record, for as many records as ``ULTRUM_BENCHMARK_RECORDS`` gives (20,000 by default).
"""

import contextlib
import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pandas as pd

import ultrum as ul
from ultrum.report.result_files import write_results
from ultrum.sources.download_and_limits import Download
from ultrum.vault.store import Vault

SIZES = {"study": (750, 3_000), "set": (2_500, 10_000), "vault": (5_000, 20_000)}
STUDY = """[study]
title = "Companies on the market"
asset = "C0000"
[sources.file]
kind = "table"
url = "."
[panel]
assets = "file:prices.csv"
factors = "file:factors.csv"
factor_units = "percent"
risk_free = "file:factors.csv#rf"
[[models]]
name = "one factor"
factors = ["market"]
"""


@contextlib.contextmanager
def timing(times, name):
    start = time.perf_counter()
    yield
    times[name] = time.perf_counter() - start


def files(folder, companies, months=240):
    """Monthly prices of companies, and a market with a risk-free return."""
    rng = np.random.default_rng(0)
    index = pd.period_range("2000-01", periods=months + 1, freq="M").strftime("%Y-%m")
    market = rng.normal(0.6, 4.0, months + 1)
    returns = rng.uniform(0.4, 1.6, companies) * market[:, None] + rng.normal(0.2, 7.0, (months + 1, companies))
    prices = 100 * np.cumprod(1 + np.clip(returns, -50, 80) / 100, axis=0)
    names = [f"C{k:04d}" for k in range(companies)]
    pd.DataFrame(prices.round(3), index, names).rename_axis("month").to_csv(folder / "prices.csv")
    factors = pd.DataFrame({"market": market.round(4), "rf": 0.2}, index)
    factors.rename_axis("month").to_csv(folder / "factors.csv")
    return names


def study(folder, companies):
    """First and unchanged runs of a study of all companies, without and with its report."""
    files(folder, companies)
    (folder / "study.toml").write_text(STUDY)
    times = {}
    for name in ("first run", "unchanged run"):
        with timing(times, name):
            result = ul.run_study(folder / "study.toml", vault=folder / "vault")
    assert len(result.models["one factor"].nobs) == companies
    with timing(times, "write"):
        write_results(result, folder / "results")
    return times


def series_set(folder, count):
    """Pull a set of columns of one file, and pull it again."""
    names = files(folder, count, 60)
    sources = {"file": {"kind": "table", "url": str(folder)}}
    what = ul.SeriesSet.of([f"file:prices.csv#{name}" for name in names])
    times = {}
    for name in ("pull", "pull again"):
        with timing(times, name), ul.Desk(folder / "vault", sources=sources) as desk:
            assert len(desk.pull(what).series) == count
    return times


def vault(folder, records):
    """Record, open, find each of a sample as of an instant, list and verify."""
    times = {}
    with timing(times, "record"), Vault(folder / "vault") as place:
        for number in range(records):
            place.record("s", f"M.{number}", Download(b"2024-01,%d\n" % number, "text/csv"))
    sample = np.random.default_rng(0).integers(0, records, 1_000)
    with timing(times, "open"):
        place = Vault(folder / "vault")
    with place:
        with timing(times, "1,000 looked up as of a day"):
            assert all(place.latest("s", f"M.{number}", "2030-01-01") for number in sample)
        with timing(times, "list"):
            assert len(place.records()) == records
        with timing(times, "verify"):
            assert not place.verify()
    return times


CASES = {"study": study, "set": series_set, "vault": vault}


def measure(name, size):
    """One case in its own process: seconds by step, and the most memory in MB."""
    words = [sys.executable, "-W", "ignore", "-m", "benchmarks.scale", name, str(size)]
    done = subprocess.run(words, capture_output=True, text=True, check=True, cwd=Path(__file__).parent.parent)
    return json.loads(done.stdout.splitlines()[-1])


NOTES = """
A vault of 1,000,000 records, one file a record, took 2,272 s to record on 2026-12-01 (2.3 ms each), 1.5 s to open, 0.2 s for 1,000 look-ups as
of a day, 22 s to list and 302 s to verify, at 1.8 GB: linear from 20,000 on.
"""


def run():
    sizes = SIZES | {"vault": (0, int(os.environ.get("ULTRUM_BENCHMARK_RECORDS", SIZES["vault"][1])))}
    sizes["vault"] = (sizes["vault"][1] // 4, sizes["vault"][1])
    lines = ["| case | size | step | time, s | exponent from a quarter of the size | peak of the process, MB |",
             "|---|---:|---|---:|---:|---:|"]  # fmt: skip
    for name, (small, large) in sizes.items():
        less, more = measure(name, small), measure(name, large)
        for step, seconds in more["times"].items():
            power = np.log(seconds / less["times"][step]) / np.log(large / small)
            lines.append(f"| {name} | {large:,} | {step} | {seconds:.2f} | {power:.2f} | {more['memory']:.0f} |")
            print(lines[-1], file=sys.stderr, flush=True)
    return "\n".join(lines)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as place:
        measured = CASES[sys.argv[1]](Path(place), int(sys.argv[2]))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e3
    print(json.dumps({"times": measured, "memory": memory}))
