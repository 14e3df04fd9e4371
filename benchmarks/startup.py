"""Start-up: importing beside importing pandas, and the help of the command beside bare Python

Each number is the least CPU time of twelve processes that do nothing else.
"""

import resource
import subprocess
import sys

CASES = {
    "bare Python": "pass",
    "import pandas": "import pandas",
    "import ultrum": "import ultrum",
    "import ultrum, and regress": "import ultrum as ul; ul.regress",
    "ultrum --help": "import sys; sys.argv = ['ultrum', '--help']; from ultrum.cli import main; main()",
}


def cpu(code):
    """CPU seconds of one process."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run([sys.executable, "-c", code], capture_output=True, check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def run():
    took = {name: min(cpu(code) for _ in range(12)) for name, code in CASES.items()}
    bare, pandas = took["bare Python"], took["import pandas"]
    wanted = {
        "import ultrum": f"{took['import ultrum'] / pandas:.2f} times pandas (1.15 at most)",
        "import ultrum, and regress": f"{took['import ultrum, and regress'] / pandas:.2f} times pandas",
        "ultrum --help": f"{took['ultrum --help'] - bare:.3f} s over bare Python (0.15 at most)",
    }
    lines = ["| what | CPU, s | |", "|---|---:|---|"]
    return "\n".join(
        [*lines, *(f"| {name} | {t:.3f} | {wanted.get(name, '')} |" for name, t in took.items())]
    )
