"""Runs all test modules by unittest, one process more at once than there are cores.

``python -m tests``; the longest modules first and in processes of their own, so that no core waits at the end;
the others in a few processes. Each is a fork of one that has the libraries loaded. ``python -m unittest`` runs
the same tests in one process.
"""

import multiprocessing
import os
import re
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.programs import run_modules

ROOT = Path(__file__).parent.parent
LONGEST = ("test_command_line", "test_studies", "test_study", "test_large", "test_stages", "test_tables", "test_desk",
           "test_sources", "test_hostile", "test_portfolios", "test_pricing", "test_figures", "test_invariance",
           "properties.test_layouts", "properties.test_odd_arguments", "test_vault")  # fmt: skip
# many reports are drawn: a second process for each would take its core from other tests
DRAWING = ("test_command_line", "test_studies")
TOGETHER = 6  # short modules in one process


def run(names):
    """Some modules in one process: how many tests ran, whether all passed, and what was written."""
    core = DRAWING.index(names[0]) if names[0] in DRAWING else None
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["tests.preload"])
    with tempfile.TemporaryDirectory() as folder:
        said = Path(folder, "said.txt")
        process = context.Process(target=run_modules, args=(names, said, core))
        process.start()
        process.join()
        text = said.read_text(errors="replace") if said.exists() else ""
    own = list(re.finditer(r"^Ran (\d+) tests? in ([\d.]+)s$", text, re.M))
    ran = own[-1] if own else None  # programs of the guide may run tests of their own before
    passed = process.exitcode == 0 and ran is not None
    print(
        f"{'ok    ' if passed else 'FAILED'} {', '.join(names)}: {ran[0] if ran else 'did not run'}", flush=True
    )
    return int(ran[1]) if ran else 0, passed, text


def main():
    """Run all; the exit code is 1 if any failed."""
    os.chdir(ROOT)
    found = (ROOT / "tests").rglob("test_*.py")
    names = sorted(".".join(p.relative_to(ROOT / "tests").with_suffix("").parts) for p in found)
    short = [name for name in names if name not in LONGEST]
    groups = [[name] for name in LONGEST] + [short[k : k + TOGETHER] for k in range(0, len(short), TOGETHER)]
    with ThreadPoolExecutor((os.cpu_count() or 1) + 1) as pool:  # some wait for locks and services
        results = list(pool.map(run, groups))
    for _, passed, said in results:
        if not passed:
            print(said)
    failed = sum(not passed for _, passed, _ in results)
    print(f"{sum(count for count, _, _ in results)} tests in {len(names)} modules; {failed} processes failed")
    return int(failed > 0)


if __name__ == "__main__":
    sys.exit(main())
