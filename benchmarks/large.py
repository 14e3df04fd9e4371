"""A market's whole history on disk: 30,000 assets over 12,600 days, compared with pyarrow reading the file

Betas on three factors with errors, windows of 252 days, at month ends, written as Parquet; the memory allowed is 2 GB. The
file is made first, which takes a minute and 1.3 GB of disk. Reading is every row group's three columns, one after another; both are the better of two.
"""

import tempfile
import time
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from pathlib import Path

import pyarrow.parquet as pq

import ultrum as ul
from benchmarks import market

ASSETS, DAYS = 30_000, 12_600


def read(path):
    """Seconds that reading alone takes."""
    start = time.perf_counter()
    with pq.ParquetFile(path) as file:
        for group in range(file.metadata.num_row_groups):
            file.read_row_group(group)
    return time.perf_counter() - start


def betas(path, to, executor=None):
    """Seconds from a path to a file of betas, and those of them after the first look at the file."""
    start = time.perf_counter()
    table = ul.LongTable(path, "excess_return", frequency="B", max_memory="2 GB", executor=executor)
    rows = table.rows
    opened = time.perf_counter()
    made = ul.rolling_regress(table, market.factors(DAYS), window=252, step="M", to=to)
    return time.perf_counter() - start, time.perf_counter() - opened, rows, made.rows


def peak():
    """Megabytes that this process has held at most."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) / 1024 for line in lines if line.startswith("VmHWM"))


def run(assets=ASSETS):
    with tempfile.TemporaryDirectory() as folder:
        path, to = Path(folder, "market.parquet"), Path(folder, "betas.parquet")
        market.write(path, assets, DAYS)
        size = path.stat().st_size / 1e9
        with ProcessPoolExecutor(1) as fresh:  # a process whose memory is its own
            lines, own = fresh.submit(measured, path, to).result()
        rows, made = own
        lines.append(f"\n{rows:,} rows, {size:.2f} GB; {made:,} rows of betas.")
        return "\n".join(lines)


def measured(path, to):
    alone = min(read(path) for _ in range(2))
    whole, _, rows, made = min(betas(path, to) for _ in range(2))
    held = peak()
    lines = [
        "| what | seconds | times reading | wanted | |",
        "|---|---:|---:|---|---|",
        f"| pyarrow reads the file | {alone:.1f} | 1 | | |",
        f"| betas, by threads of the process | {whole:.1f} | {whole / alone:.1f} | 5 (aim, at most) | "
        f"peak {held:,.0f} MB of 2,000 |",
    ]
    for kind in (ThreadPoolExecutor, ProcessPoolExecutor):
        took = []
        for workers in (1, 2):
            with kind(workers) as executor:
                took.append(betas(path, to, executor)[1])
        word = {ThreadPoolExecutor: "threads", ProcessPoolExecutor: "processes"}[kind]
        wanted = "1.7 (least)" if kind is ProcessPoolExecutor else ""
        lines.append(
            f"| the blocks, by two {word} | {took[1]:.1f} | {took[1] / alone:.1f} | {wanted} | "
            f"{took[0] / took[1]:.2f} times faster than one |"
        )
    return lines, (rows, made)
