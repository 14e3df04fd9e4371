"""Imports point one way, and importing Ultrum is light."""

import ast
import functools
import inspect
import re
import shutil
import subprocess
import sys
import tempfile
import tomllib
import unittest
from collections import Counter
from pathlib import Path

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import ROOT

LAYERS = ["errors", "file_access", "core", "sources", "large", "vault", "desk", "study", "report", "cli"]
BELOW = {layer: set(LAYERS[:place]) for place, layer in enumerate(LAYERS)}
BELOW["core"] = {"errors"}
BELOW["large"] = {"errors", "file_access", "core"}
BELOW["practice"] = {"errors", "core"}
BELOW["cli"].add("practice")
NUMBERS = "numpy pandas scipy"
NETWORK = "httpx tenacity asyncio ultrum.sources.http_client"
STORE = "sqlite3 filelock ultrum.vault.store ultrum.desk.desk"
LOADED = {  # what must not be loaded by a command; by import alone where there is none
    "": f"{NUMBERS} {NETWORK} {STORE} matplotlib click pydantic lxml",
    "--help": f"{NUMBERS} {NETWORK} {STORE} matplotlib pydantic rich lxml",
    "look KELP.csv": f"scipy {NETWORK} {STORE} matplotlib pydantic lxml pyarrow.parquet",
    "estimate KELP.csv --factors factors.csv": f"{NETWORK} matplotlib ultrum.core.pricing.two_pass",
    "run --check market_model.toml": f"scipy {NETWORK} matplotlib ultrum.report",
}
NEVER_IN_CORE = {"matplotlib", "httpx", "click", "rich", "sqlite3", "pathlib"}


@functools.cache
def nodes_of(path):
    """Import statements of a file, anywhere in it."""
    tree = ast.parse(path.read_text())
    return [node for node in ast.walk(tree) if isinstance(node, ast.Import | ast.ImportFrom)]


def imports(path):
    for node in nodes_of(path):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.level == 0:
            yield node.module
        elif isinstance(node, ast.ImportFrom):
            yield f"relative import in {path}"


def imported(path):
    """Modules of the package that a file imports, anywhere in it; also as ``from package import module``."""
    for node in nodes_of(path):
        if isinstance(node, ast.ImportFrom):
            yield from (node.module, *(f"{node.module}.{alias.name}" for alias in node.names))
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def loaded_by(words, folder):
    """Names of the modules that a command has loaded when it ends."""
    run = (
        f"sys.argv = {['ultrum', *words.split()]!r}\nfrom ultrum.cli import main\nmain()"
        if words
        else "import ultrum"
    )
    code = f"import atexit, sys\natexit.register(lambda: sys.stderr.write('\\n' + ' '.join(sys.modules)))\n{run}"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=folder, check=False)
    assert done.returncode == 0, done.stderr[:300]
    return set(done.stderr.rpartition("\n")[2].split())


class Layers(unittest.TestCase):
    def test_imports_point_one_way(self):
        wrong = []
        for path in (ROOT / "ultrum").rglob("*.py"):
            layer = path.relative_to(ROOT / "ultrum").parts[0].removesuffix(".py")
            if layer == "__init__":
                continue
            for name in imports(path):
                parts = name.split(".")
                if parts[0] == "ultrum" and (len(parts) < 2 or parts[1] not in BELOW[layer] | {layer}):
                    wrong.append(f"{path.name} imports {name}")
                if layer == "core" and parts[0] in NEVER_IN_CORE:
                    wrong.append(f"core: {path.name} imports {name}")
        self.assertEqual(wrong, [])

    def test_no_module_imports_itself_through_others_and_each_name_is_used_once(self):
        files = [p for p in (ROOT / "ultrum").rglob("*.py") if p.name != "__init__.py"]
        module = {".".join(p.relative_to(ROOT).with_suffix("").parts): p for p in files}
        needs = {name: {m for m in imported(path) if m in module} for name, path in module.items()}
        free = set()
        while ready := {name for name in module if name not in free and needs[name] <= free}:
            free |= ready
        self.assertEqual(sorted(set(module) - free), [], "these import each other in a circle")
        twice = [n for n, k in Counter(p.stem for p in files).items() if k > 1]
        self.assertEqual(twice, [])

    def test_names_that_benchmarks_take_exist(self):
        """Benchmarks run by hand; a name that has moved is found here, in programs within texts too."""
        taken = re.compile(r"^ *from (ultrum[\w.]*) import (?:\(([^)]*)\)|([^\n(]+))", re.M)
        missing, found = [], 0
        for file in (ROOT / "benchmarks").glob("*.py"):
            for module, several, line in taken.findall(file.read_text()):
                for name in filter(
                    None, (word.split(" as ")[0].strip() for word in (several or line).split(","))
                ):
                    found += 1
                    if not hasattr(__import__(module, fromlist=[name]), name):
                        missing.append(f"{file.name}: {module}.{name}")
        self.assertEqual(missing, [])
        self.assertGreater(found, 50)

    def test_what_is_loaded(self):
        """Modules that an import or a command must not load, by what a user runs."""
        with tempfile.TemporaryDirectory() as folder:
            days = pd.bdate_range("2020-01-01", periods=300)
            prices = pd.Series(100 * 1.001 ** np.arange(300), days, name="Close")
            prices.to_csv(Path(folder, "KELP.csv"), index_label="Date")
            months = pd.DataFrame(
                {"market": np.arange(14) % 3 / 100.0, "RF": 0.001},
                pd.period_range("2020-01", periods=14, freq="M"),
            )
            months.to_csv(Path(folder, "factors.csv"), index_label="Date")
            shutil.copytree(ROOT / "ultrum" / "practice" / "studies", folder, dirs_exist_ok=True)
            for words, heavy in LOADED.items():
                loaded = loaded_by(words, folder)
                self.assertGreater(len(loaded), 50, words)
                self.assertEqual([m for m in heavy.split() if m in loaded], [], words)

    def test_every_public_function_has_a_test_that_knows_its_answer(self):
        truths = tomllib.loads((ROOT / "tests" / "truths.toml").read_text())
        functions = [n for n in ul.__all__ if inspect.isfunction(getattr(ul, n))]
        self.assertEqual(sorted(truths), sorted(functions))
        tests = {test for test, _ in truths.values()}
        loaded = unittest.defaultTestLoader.loadTestsFromNames([f"tests.{test}" for test in sorted(tests)])
        self.assertEqual([str(t) for t in loaded if "FailedTest" in str(t)], [])

    def test_every_public_name_can_be_had(self):
        import ultrum as ul

        listed = (ROOT / "docs" / "reference.md").read_text().split()
        for name in ul.__all__:
            self.assertIsNotNone(getattr(ul, name).__doc__, name)
            self.assertTrue(name in listed or name in ("figures", "practice"), f"docs/reference.md lacks {name}")
        self.assertEqual([f for f in ul.figures.__all__ if f not in listed], [])
        with self.assertRaises(AttributeError):
            ul.no_such_name  # noqa: B018
