"""Every command in a fresh process, compared with importing pandas

CPU seconds are user and system time of the process and its children. Prices are ten years of days, newest first,
with adjusted closes; factors are months in percent with prose around them. The shipped study uses every section and
takes its data from the practice services in another process.
"""

import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pandas as pd

import ultrum.practice

CLI = "import sys; sys.argv[1:] = {}\nfrom ultrum.cli import main; main()"
SHIPPED = "allowed_return.toml"
LISTING_WORDS = [
    "tide",
    "freight",
    "harbour",
    "wages",
    "prices",
    "yield",
    "output",
    "credit",
    "rents",
    "births",
    "timber",
    "whelk",
    "quay",
    "salt",
]


def turns(times, *sides):
    """Least time of each side, the sides taking turns, and what each gave last."""
    taken, given = [[] for _ in sides], [None] * len(sides)
    for _ in range(times):
        for k, side in enumerate(sides):
            start = time.perf_counter()
            given[k] = side()
            taken[k].append(time.perf_counter() - start)
    return [min(t) for t in taken], given


@contextlib.contextmanager
def practice():
    """The practice services in a process of their own."""
    words = [sys.executable, "-c", CLI.format(["practice"])]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as service:
        service.stdout.readline()  # its address, once it answers
        try:
            yield
        finally:
            service.terminate()


def own_files(folder):
    """A file of prices as quote sites have them, and a file of factors as colleges have them."""
    rng = np.random.default_rng(0)
    days = pd.bdate_range("2015-01-01", "2024-12-31")
    market = rng.normal(0.0004, 0.01, len(days))
    close = 100 * np.exp(np.cumsum(1.2 * market + rng.normal(0, 0.012, len(days))))
    bars = {"Open": close, "High": 1.01 * close, "Low": 0.99 * close, "Close": close, "Adj Close": 0.9 * close}
    frame = pd.DataFrame(bars, days).round(4).assign(Volume=[f"{1_000_000 + k:,}" for k in range(len(days))])
    frame.iloc[::-1].rename_axis("Date").to_csv(folder / "KELP.csv", date_format="%m/%d/%Y")
    months = 100 * (np.exp(pd.Series(market, days).groupby(days.to_period("M")).sum()) - 1)
    factors = pd.DataFrame({"Mkt-RF": months - 0.15, "RF": 0.15}).round(2)
    text = factors.set_index(factors.index.strftime("%Y%m")).to_csv(index_label="")
    (folder / "factors.csv").write_text(f"Returns in percent a month.\n\n{text}\nMade by hand.\n")


def spent(code, cwd, times=3):
    """Least wall and CPU seconds of some fresh runs."""
    runs = []
    for _ in range(times):
        before, start = os.times(), time.perf_counter()
        subprocess.run([sys.executable, "-c", code], cwd=cwd, check=True, capture_output=True)
        after = os.times()
        cpu = after.children_user + after.children_system - before.children_user - before.children_system
        runs.append((time.perf_counter() - start, cpu))
    return min(r[0] for r in runs), min(r[1] for r in runs)


def run():
    ask = "try:\n " + CLI.format(["--help"]).replace("\n", "\n ") + "\nexcept SystemExit: pass"
    cases = {
        "bare Python": "pass",
        "ultrum --help": ask,
        "import ultrum": "import ultrum",
        "import pandas": "import pandas",
        **{
            f"ultrum {' '.join(words)}": CLI.format(words)
            for words in (
                ["look", "KELP.csv"],
                ["look", "KELP.csv#Close", "--returns", "M"],
                ["estimate", "KELP.csv", "--factors", "factors.csv"],
                ["find", "unemployment", "--practice"],
                ["pull", "observatory:PRICES/M.QM.CPI", "--practice"],
                ["run", "kelp.toml", "--check"],
                ["run", "kelp.toml"],
                ["trail", "kelp-results"],
                ["vault", "list"],
                ["demo"],
                ["demo", "--offline"],
            )
        },
    }
    first = {"ultrum new kelp.toml KELP.csv --factors factors.csv":
             CLI.format(["new", "kelp.toml", "KELP.csv", "--factors", "factors.csv"]),
             "ultrum run kelp.toml, the first time": CLI.format(["run", "kelp.toml"]),
             f"ultrum run {SHIPPED}, the first time": CLI.format(["run", SHIPPED])}  # fmt: skip
    cases[f"ultrum run {SHIPPED}"] = CLI.format(["run", SHIPPED])
    with tempfile.TemporaryDirectory() as folder, practice():
        os.environ["ULTRUM_VAULT"] = str(Path(folder, "vault"))
        # modules are compiled once, as where they are installed
        os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
        own_files(Path(folder))
        studies = Path(ultrum.practice.__file__).parent / "studies"
        shutil.copytree(studies, folder, dirs_exist_ok=True)
        took = {name: spent(code, folder, 1) for name, code in first.items()}
        took = {name: spent(code, folder) for name, code in cases.items()} | took
    bare, pandas = took["bare Python"][1], took["import pandas"][1]
    said = {n: f"{c / pandas:.1f} times pandas" for n, (_, c) in took.items() if n.startswith("ultrum")}
    said |= {
        "ultrum --help": f"{took['ultrum --help'][1] - bare:.2f} s over bare Python (0.15 at most)",
        "import ultrum": f"{took['import ultrum'][1] / pandas:.2f} times pandas (1.15 at most)",
        "ultrum estimate KELP.csv --factors factors.csv": "3 s at most",
    }
    lines = ["| what | wall, s | CPU, s | |", "|---|---:|---:|---|"]
    lines += [f"| {n} | {w:.2f} | {c:.2f} | {said.get(n, '')} |" for n, (w, c) in took.items()]
    return "\n".join(lines)
