"""Runs every benchmark, or the named ones, and prints what was measured.

``python -m benchmarks``, ``python -m benchmarks coverage``, ``python -m benchmarks --write`` (which
also puts the results into docs/benchmarks.md).
"""

import importlib
import os
import platform
import sys
from datetime import date
from pathlib import Path

import numpy as np

CASES = (
    "speed",
    "regressions",
    "accuracy",
    "demo",
    "getting",
    "shaping",
    "panels",
    "estimating",
    "evidence",
    "gates",
    "inference",
    "hard_samples",
    "coverage",
    "growth",
    "scale",
    "sorting",
    "comparing",
    "large",
)
PAGE = Path(__file__).parent.parent / "docs" / "benchmarks.md"


def machine() -> str:
    versions = f"Python {platform.python_version()}, NumPy {np.__version__}"
    return f"{platform.machine()}, {os.cpu_count()} cores, {versions}"


def main(words: list[str]) -> int:
    wanted = [w for w in words if not w.startswith("-")] or list(CASES)
    unknown = [w for w in wanted if w not in CASES]
    if unknown:
        print(f"no benchmark {', '.join(unknown)}; there are: {', '.join(CASES)}", file=sys.stderr)
        return 2
    parts = [f"# Benchmarks\n\nMade by `python -m benchmarks --write` on {date.today()}: {machine()}.\n"]
    for name in wanted:
        print(f"{name} …", file=sys.stderr, flush=True)
        case = importlib.import_module(f"benchmarks.{name}")
        text = f"## {case.__doc__.strip().splitlines()[0]}\n\n{case.run()}\n"
        print(text, flush=True)
        parts.append(text)
    if "--write" in words:
        PAGE.write_text("\n".join(parts))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
