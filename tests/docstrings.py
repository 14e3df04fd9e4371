"""Checks every docstring: examples run, and public ones have the sections of numpydoc: ``python tests/docstrings.py``."""

import doctest
import importlib
import inspect
import pkgutil
import sys
from collections.abc import Iterator

from numpydoc.validate import validate

import ultrum

# parameters, returns and yields, with types and descriptions, in their order; summaries in one line
CODES = {"GL01", "GL02", "GL03", "GL06", "GL07", "GL08", "SS01", "SS02", "SS03", "SS04", "SS06", "PR01", "PR02", "PR03",
         "PR04", "PR07", "PR08", "PR09", "PR10", "RT01", "RT03", "RT04", "RT05", "YD01"}  # fmt: skip


def public() -> Iterator[tuple[str, object]]:
    """Each public name with what it is: functions, classes, their methods and properties."""
    for name in ultrum.__all__:
        thing = getattr(ultrum, name)
        if inspect.ismodule(thing):
            sys.modules[f"ultrum.{name}"] = thing  # as it is called, wherever it lies
            yield from ((f"ultrum.{name}.{n}", getattr(thing, n)) for n in thing.__all__)
            continue
        yield f"ultrum.{name}", thing
        for member, value in inspect.getmembers(thing) if inspect.isclass(thing) else ():
            owner = inspect.getmodule(getattr(value, "fget", value))
            ours = owner is not None and owner.__name__.startswith("ultrum")
            if ours and not member.startswith("_") and (callable(value) or isinstance(value, property)):
                yield f"ultrum.{name}.{member}", value


def faults() -> list[str]:
    """What numpydoc finds in the docstrings of public names; attributes of a class stand for its parameters."""
    found = []
    for name, thing in public():
        codes = CODES - {"PR01"} if inspect.isclass(thing) else CODES
        found += [f"{name}: {code} {text}" for code, text in validate(name)["errors"] if code in codes]
        is_function = inspect.isfunction(thing) or name.startswith("ultrum.figures.")
        if is_function and name.count(".") == 1 and ">>> " not in (inspect.getdoc(thing) or ""):
            found.append(f"{name}: no example")
    return found


def main() -> int:
    failed = tried = 0
    for found in pkgutil.walk_packages(ultrum.__path__, "ultrum."):
        module = importlib.import_module(found.name)
        result = doctest.testmod(module, optionflags=doctest.NORMALIZE_WHITESPACE)
        failed, tried = failed + result.failed, tried + result.attempted
    missing = faults()
    print(*missing, sep="\n")
    print(f"docstring examples: {tried - failed} passed, {failed} failed; faults of form: {len(missing)}")
    return 1 if failed or missing or tried < 50 else 0


if __name__ == "__main__":
    sys.exit(main())
