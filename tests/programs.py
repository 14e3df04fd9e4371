"""Programs of the documentation, each run in a process of its own."""

import contextlib
import io
import os
import sys
import types


def run_program(folder, code):
    """What a program prints, in a process that has the libraries loaded already."""
    os.chdir(folder)
    printed = io.StringIO()
    with contextlib.redirect_stdout(printed):
        sys.modules["__main__"] = program = types.ModuleType("__main__")
        exec(compile(code, folder.name, "exec"), vars(program))
    return printed.getvalue()
