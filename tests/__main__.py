"""Runs every test module by unittest in a process of its own, as many at once as there are cores.

``python -m tests``; the longest first, so that no core waits at the end. ``python -m unittest`` runs the
same tests in one process.
"""

import os
import re
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parent.parent
LONGEST = ("test_command_line", "test_studies", "test_study", "test_large", "test_tables", "test_vault",
           "properties.test_layouts", "test_recorded")  # fmt: skip


def run(name):
    """One module: how many tests ran, whether all passed, and what was written."""
    done = subprocess.run([sys.executable, "-m", "unittest", f"tests.{name}"], cwd=ROOT, text=True,
                          stdout=subprocess.PIPE, stderr=subprocess.STDOUT, check=False)  # fmt: skip
    own = list(re.finditer(r"^Ran (\d+) tests? in ([\d.]+)s$", done.stdout, re.M))
    ran = own[-1] if own else None  # programs of the guide may run tests of their own before
    passed = done.returncode == 0 and ran is not None
    print(
        f"{'ok    ' if passed else 'FAILED'} {name}: {ran[0] if ran else 'did not run'}", flush=True
    )
    return int(ran[1]) if ran else 0, passed, done.stdout


def main():
    """Run all; the exit code is 1 if any failed."""
    found = (ROOT / "tests").rglob("test_*.py")
    names = sorted(".".join(p.relative_to(ROOT / "tests").with_suffix("").parts) for p in found)
    names.sort(key=lambda name: LONGEST.index(name) if name in LONGEST else len(LONGEST))
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        results = list(pool.map(run, names))
    for _, passed, said in results:
        if not passed:
            print(said)
    failed = sum(not passed for _, passed, _ in results)
    print(
        f"{sum(count for count, _, _ in results)} tests in {len(names)} modules; {failed} modules failed"
    )
    return int(failed > 0)


if __name__ == "__main__":
    sys.exit(main())
