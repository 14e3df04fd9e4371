"""Runs the example of every docstring in the package: ``python tests/docstrings.py``."""

import doctest
import importlib
import pkgutil
import sys

import ultrum


def main() -> int:
    failed = tried = 0
    for found in pkgutil.walk_packages(ultrum.__path__, "ultrum."):
        result = doctest.testmod(importlib.import_module(found.name))
        failed, tried = failed + result.failed, tried + result.attempted
    print(f"docstring examples: {tried - failed} passed, {failed} failed")
    return 1 if failed or tried < 50 else 0


if __name__ == "__main__":
    sys.exit(main())
