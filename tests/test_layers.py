"""Imports point one way, and importing Ultrum is light."""

import ast
import subprocess
import sys
import unittest
from collections import Counter

from tests.support import ROOT

LAYERS = [
    "errors",
    "file_access",
    "core",
    "sources",
    "large",
    "vault",
    "desk",
    "study",
    "report",
    "workflow",
    "cli",
]
BELOW = {layer: set(LAYERS[:place]) for place, layer in enumerate(LAYERS)}
BELOW["core"] = {"errors"}
BELOW["large"] = {"errors", "file_access", "core"}
BELOW["practice"] = {"errors", "core"}
BELOW["cli"].add("practice")
NEVER_IN_CORE = {"matplotlib", "httpx", "click", "rich", "sqlite3", "pathlib"}


def imports(path):
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.level == 0:
            yield node.module
        elif isinstance(node, ast.ImportFrom):
            yield f"relative import in {path}"


def imported(path):
    """Modules of the package that a file imports, anywhere in it; also as ``from package import module``."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom):
            yield from (node.module, *(f"{node.module}.{alias.name}" for alias in node.names))
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def clean_python(code):
    return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)


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

    def test_importing_ultrum_is_light(self):
        code = "import sys, ultrum; print([m for m in sys.modules])"
        loaded = clean_python(code).stdout
        for heavy in ("matplotlib", "httpx", "scipy.stats", "pandas", "numpy", "click"):
            self.assertNotIn(f"'{heavy}'", loaded)

    def test_help_imports_nothing_heavy(self):
        code = (
            "import sys; sys.argv = ['ultrum', '--help']\nfrom ultrum.cli import main\n"
            "try: main()\nexcept SystemExit: pass\nprint(list(sys.modules))"
        )
        said = clean_python(code).stdout
        self.assertIn("demo", said)
        for heavy in ("numpy", "pandas", "httpx", "pydantic", "rich", "asyncio"):
            self.assertNotIn(f"'{heavy}'", said)

    def test_every_public_name_can_be_had(self):
        import ultrum as ul

        listed = (ROOT / "docs" / "reference.md").read_text().split()
        for name in ul.__all__:
            self.assertIsNotNone(getattr(ul, name).__doc__, name)
            self.assertTrue(name in listed or name in ("figures", "practice"), f"docs/reference.md lacks {name}")
        self.assertEqual([f for f in ul.figures.__all__ if f not in listed], [])
        with self.assertRaises(AttributeError):
            ul.no_such_name  # noqa: B018
