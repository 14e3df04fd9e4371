"""The shipped demo from start to end, and what starting costs

Fresh processes; CPU seconds are user and system time of the process and its children.
"""

import os
import subprocess
import sys
import tempfile
import time


def spent(code, cwd):
    """Least wall and CPU seconds of three fresh runs."""
    runs = []
    for _ in range(3):
        before, start = os.times(), time.perf_counter()
        subprocess.run([sys.executable, "-c", code], cwd=cwd, check=True, capture_output=True)
        after = os.times()
        cpu = (
            after.children_user
            + after.children_system
            - before.children_user
            - before.children_system
        )
        runs.append((time.perf_counter() - start, cpu))
    return min(r[0] for r in runs), min(r[1] for r in runs)


def run():
    cli = "import sys; sys.argv[1:] = {}\nfrom ultrum.cli import main; main()"
    ask = "try:\n " + cli.format(["--help"]).replace("\n", "\n ") + "\nexcept SystemExit: pass"
    cases = {
        "bare Python": "pass",
        "ultrum --help": ask,
        "import ultrum": "import ultrum",
        "import pandas": "import pandas",
        "ultrum demo": cli.format(["demo"]),
        "ultrum demo --offline": cli.format(["demo", "--offline"]),
    }
    with tempfile.TemporaryDirectory() as folder:
        took = {name: spent(code, folder) for name, code in cases.items()}
    bare, pandas = took["bare Python"][1], took["import pandas"][1]
    said = {
        "ultrum --help": f"{took['ultrum --help'][1] - bare:.2f} s over bare Python (0.15 at most)",
        "import ultrum": f"{took['import ultrum'][1] / pandas:.2f} times pandas (1.15 at most)",
    }
    lines = ["| what | wall, s | CPU, s | |", "|---|---:|---:|---|"]
    lines += [f"| {n} | {w:.2f} | {c:.2f} | {said.get(n, '')} |" for n, (w, c) in took.items()]
    return "\n".join(lines)
