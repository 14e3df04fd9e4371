"""Programs and test modules, each run in a fork of a process that has the libraries loaded (tests/preload.py)."""

import contextlib
import io
import os
import sys
import types
import unittest


def run_program(folder, code):
    """What a program prints, in this process."""
    os.chdir(folder)
    printed = io.StringIO()
    with contextlib.redirect_stdout(printed):
        sys.modules["__main__"] = program = types.ModuleType("__main__")
        exec(compile(code, folder.name, "exec"), vars(program))
    return printed.getvalue()


def run_modules(names, said, core):
    """Run the tests of some modules in this process, on one core if it is given, and write into a file."""
    with said.open("w") as file:
        os.dup2(file.fileno(), 1)
        os.dup2(file.fileno(), 2)
    if core is not None and sys.platform == "linux":
        cores = sorted(os.sched_getaffinity(0))
        os.sched_setaffinity(0, {cores[core % len(cores)]})
    unittest.main(module=None, argv=["python -m tests", *(f"tests.{name}" for name in names)])
