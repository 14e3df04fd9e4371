"""Runs benchmarks and prints what they measure.

``python -m benchmarks`` runs all, ``python -m benchmarks speed growth`` those named, ``python -m benchmarks times`` or
``simulations`` all of one page; ``--write`` writes each page whose benchmarks all ran, docs/benchmarks.md or docs/simulations.md.
"""

import importlib
import os
import platform
import sys
import traceback
from datetime import date
from pathlib import Path

import numpy as np

DOCS = Path(__file__).parent.parent / "docs"
PAGES = {
    "times": (
        "benchmarks.md",
        "Benchmarks",
        "how fast each part is next to the plain way of doing it, how much memory it takes, and how both grow",
        (
            "speed",
            "regressions",
            "demo",
            "getting",
            "shaping",
            "panels",
            "estimating",
            "sorting",
            "growth",
            "scale",
            "large",
        ),
    ),
    "simulations": (
        "simulations.md",
        "Simulations",
        "how often tests reject and intervals hold the truth in samples where the truth is known",
        ("accuracy", "evidence", "gates", "inference", "hard_samples", "coverage", "sorted_factors", "comparing"),
    ),
}
CASES = tuple(case for *_, cases in PAGES.values() for case in cases)


def machine() -> str:
    versions = f"Python {platform.python_version()}, NumPy {np.__version__}"
    return f"{platform.machine()}, {os.cpu_count()} cores, {versions}"


def section(name: str) -> str:
    """One benchmark's heading, explanation, measurements and notes."""
    print(f"{name} …", file=sys.stderr, flush=True)
    case = importlib.import_module(f"benchmarks.{name}")
    title, _, explanation = case.__doc__.strip().partition("\n")
    parts = [f"## {title}", explanation.strip(), case.run(), getattr(case, "NOTES", "").strip()]
    text = "\n\n".join(part for part in parts if part) + "\n"
    print(text, flush=True)
    return text


def main(words: list[str]) -> int:
    wanted = [w for w in words if not w.startswith("-")] or list(PAGES)
    names = [name for word in wanted for name in (PAGES[word][-1] if word in PAGES else [word])]
    unknown = [name for name in names if name not in CASES]
    if unknown:
        print(f"no benchmark {', '.join(unknown)}; there are: {', '.join((*PAGES, *CASES))}", file=sys.stderr)
        return 2
    sections, failed = {}, []
    for name in names:
        try:
            sections[name] = section(name)
        except Exception:  # the others take half an hour, and are measured all the same
            traceback.print_exc()
            failed.append(name)
    for file, title, purpose, cases in PAGES.values() if "--write" in words else ():
        if all(case in sections for case in cases):
            made = f"Written by `python -m benchmarks` in one run that ended on {date.today()}: {machine()}."
            head = f"# {title}\n\nAfter this page you know {purpose}. {made}\n"
            (DOCS / file).write_text("\n".join([head, *(sections[case] for case in cases)]))
    if failed:
        print(f"failed: {', '.join(failed)}", file=sys.stderr)
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
