"""Mutation testing: changes the package in one place at a time and sees whether a test fails.

    python tools/mutate.py --map            run all tests once and record which lines each executes
    python tools/mutate.py --count 300      try 300 random mutants, each against the tests that execute its line
    python tools/mutate.py --truths         change each public function, and see that its test in tests/truths.toml fails

Mutants come from cosmic-ray's operators, over core, sources, vault and study. The tests that execute a line try
them, without what the package itself has put on record, each worker in a copy of the checkout. What survives is written to
.mutation/survivors.json with its change. It needs ``pip install -e '.[mutation]'`` and takes hours; CI never runs it.
"""

from __future__ import annotations

import argparse
import ast
import difflib
import functools
import itertools
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import Queue
from typing import Any

ROOT = Path(__file__).parent.parent
PLACE = ROOT / ".mutation"
FOLDERS = ("core", "sources", "vault", "study")
RECORD = "tests.test_recorded."  # numbers that the package gave itself: no truth
TIMEOUT = 300  # seconds for the tests of one mutant; a mutant that hangs is caught
BUDGET = 150.0  # seconds of the tests that execute a line, the fastest first
PLAUSIBLE = (  # noqa: SIM905 - slips that a person makes; a power for a sum fails at once and proves little
    "ReplaceBinaryOperator_Add_Sub ReplaceBinaryOperator_Sub_Add ReplaceBinaryOperator_Mul_Div "
    "ReplaceBinaryOperator_Div_Mul ReplaceBinaryOperator_Pow_Mul ReplaceBinaryOperator_FloorDiv_Div "
    "ReplaceBinaryOperator_BitAnd_BitOr ReplaceComparisonOperator_Lt_LtE ReplaceComparisonOperator_LtE_Lt "
    "ReplaceComparisonOperator_Gt_GtE ReplaceComparisonOperator_GtE_Gt ReplaceComparisonOperator_Eq_NotEq "
    "ReplaceComparisonOperator_NotEq_Eq ReplaceComparisonOperator_Is_IsNot ReplaceUnaryOperator_USub_UAdd "
    "ReplaceUnaryOperator_Delete_Not ReplaceUnaryOperator_Delete_Invert NumberReplacer ReplaceAndWithOr "
    "ReplaceOrWithAnd ReplaceTrueWithFalse ReplaceFalseWithTrue ReplaceContinueWithBreak "
    "ReplaceBreakWithContinue ZeroIterationForLoop"
).split()


def recorded() -> tuple[dict[str, dict[str, list[str]]], dict[str, float]]:
    """Tests by file and line, and the seconds of each test, from the last ``--map``."""
    lines: dict[str, dict[str, list[str]]] = json.loads((PLACE / "lines.json").read_text())
    seconds: dict[str, float] = json.loads((PLACE / "seconds.json").read_text())
    return lines, seconds


def record() -> None:
    """Run every test module under coverage, two at a time, a context for each test."""
    import coverage

    PLACE.mkdir(exist_ok=True)
    settings = PLACE / "coveragerc"
    settings.write_text(
        f"[run]\nsource = ultrum\nparallel = true\nconcurrency = thread\ndata_file = {PLACE / 'coverage'}\n"
    )
    found = (ROOT / "tests").rglob("test_*.py")
    names = [".".join(p.relative_to(ROOT).with_suffix("").parts) for p in found]

    def _run(name: str) -> None:
        words = ["-m", "coverage", "run", f"--rcfile={settings}", __file__, "--timed", name]
        done = subprocess.run(
            [sys.executable, *words], cwd=ROOT, capture_output=True, check=False,
            env={**os.environ, "CI": "1", "PYTHONDONTWRITEBYTECODE": "", "PYTHONPATH": str(ROOT)},
        )  # fmt: skip
        print(f"{'recorded' if done.returncode == 0 else 'FAILED'} {name}", flush=True)

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(pool.map(_run, names))
    whole = coverage.Coverage(data_file=str(PLACE / "coverage"), config_file=str(settings))
    whole.combine()
    data = whole.get_data()
    lines = {
        str(Path(file).relative_to(ROOT)): {
            str(line): sorted(c for c in contexts if c)
            for line, contexts in data.contexts_by_lineno(file).items()
        }
        for file in data.measured_files()
    }
    (PLACE / "lines.json").write_text(json.dumps(lines))
    times: dict[str, float] = {}
    for file in PLACE.glob("seconds-*.json"):
        times |= json.loads(file.read_text())
        file.unlink()
    (PLACE / "seconds.json").write_text(json.dumps(times, indent=0))


def _executed_by(name: str) -> None:
    """Attribute the lines that run from now on to a test or a module of tests."""
    import coverage

    recording = coverage.Coverage.current()
    if recording is not None:
        recording.switch_context(name)


class _Timed(unittest.TextTestResult):
    """Adds the seconds each test takes, its share of the set-up of its class included in the first."""

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.seconds: dict[str, float] = {}
        self._last = time.perf_counter()

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802 - of unittest
        super().startTest(test)
        _executed_by(test.id())

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802 - of unittest
        super().stopTest(test)
        # what a class sets up may be for any of the module's tests
        _executed_by(type(test).__module__)
        now = time.perf_counter()
        self.seconds[test.id()] = now - self._last
        self._last = now


def timed(name: str) -> bool:
    """Run one test module and write the seconds of its tests."""
    sys.path.insert(0, str(ROOT))
    runner = unittest.TextTestRunner(resultclass=_Timed)
    tests = unittest.defaultTestLoader.loadTestsFromName(name)
    _executed_by(name)
    result = runner.run(tests)
    assert isinstance(result, _Timed)
    seconds = result.seconds | {name: sum(result.seconds.values())}
    (PLACE / f"seconds-{name}.json").write_text(json.dumps(seconds))
    return result.wasSuccessful()


def mutants(seed: int) -> Iterator[tuple[Path, Any, int, int]]:
    """Random places: file, operator, occurrence and line, without end."""
    from cosmic_ray.commands import init
    from cosmic_ray.work_db import WorkDB, use_db

    files = [p for f in FOLDERS for p in sorted((ROOT / "ultrum" / f).rglob("*.py"))]
    with use_db(":memory:", WorkDB.Mode.create) as items_of:
        init(files, items_of, {})
        every = [m for item in items_of.work_items for m in item.mutations]
    items = [m for m in every if m.operator_name.removeprefix("core/") in PLAUSIBLE]
    random.Random(seed).shuffle(items)
    for one in items:
        line = Path(one.module_path).read_text().splitlines()[one.start_pos[0] - 1]
        if not line.lstrip().startswith("@dataclass"):  # frozen, repr and eq are not behaviour
            yield Path(one.module_path), one.operator_name, one.occurrence, one.start_pos[0]


def changed(file: Path, operator: str, occurrence: int) -> str | None:
    """The file's text with one change; None where nothing changes but a docstring or an annotation."""
    from cosmic_ray.mutating import mutate_code
    from cosmic_ray.plugins import get_operator

    text = file.read_text()
    made = mutate_code(text, get_operator(operator)(), occurrence)
    return None if made is None or made == text else str(made)


def tests_of(
    lines: dict[str, dict[str, list[str]]], seconds: dict[str, float], file: str, line: int
) -> list[str]:
    """Tests that execute a line, the fastest first, as many as take BUDGET seconds.

    A line outside functions runs when it is imported, for whichever test comes first; its tests are those of all
    functions of the file. A module stands for its tests where what it sets up for them executes the line.
    """
    whole, inside = lines.get(file, {}), _lines_in_functions(ROOT / file)
    own = set(whole.get(str(line), [])) if line in inside else set()
    if not own:
        own = {test for at, tests in whole.items() if int(at) in inside for test in tests}
    modules = {name for name in own if _is_module(name)}
    names = [n for n in own if n in modules or not any(n.startswith(f"{m}.") for m in modules)]
    fast_first = sorted(
        (name for name in names if not name.startswith(RECORD)), key=lambda name: (seconds.get(name, 1.0), name)
    )
    spent = itertools.accumulate(seconds.get(name, 1.0) for name in fast_first)
    return [name for name, total in zip(fast_first, spent, strict=True) if total <= BUDGET]


@functools.cache
def _lines_in_functions(file: Path) -> frozenset[int]:
    """Lines of the bodies of functions."""
    functions = (ast.FunctionDef, ast.AsyncFunctionDef)
    bodies = [n.body for n in ast.walk(ast.parse(file.read_text())) if isinstance(n, functions)]
    return frozenset(line for body in bodies for line in range(body[0].lineno, (body[-1].end_lineno or 0) + 1))


def _is_module(name: str) -> bool:
    """Whether a name is that of a module of tests rather than of a test."""
    return (ROOT / Path(*name.split("."))).with_suffix(".py").exists()


def tried(copy: Path, file: str, text: str, tests: list[str]) -> bool:
    """Whether some test fails on the change; words and numbers on record count for nothing."""
    if not tests:
        return False
    target, original = copy / file, (ROOT / file).read_text()
    target.write_text(text)
    words = [sys.executable, "-m", "unittest", "-f", *tests]
    settings = {
        **os.environ,
        "CI": "1",
        "ULTRUM_TRUTH": "1",
        "PYTHONDONTWRITEBYTECODE": "",
        "PYTHONPATH": str(copy),
    }
    try:
        done = subprocess.run(words, cwd=copy, capture_output=True, timeout=TIMEOUT, check=False, env=settings)
        return done.returncode != 0
    except subprocess.TimeoutExpired:
        return True
    finally:
        target.write_text(original)


# One change in each public function, against the test that knows its answer

SWAPS = {ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.Pow: ast.Mult, ast.Lt: ast.Gt,
         ast.LtE: ast.Gt, ast.Gt: ast.Lt, ast.GtE: ast.Lt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.And: ast.Or,
         ast.Or: ast.And}  # fmt: skip
DRAWS = 3  # changes of a function tried at most, as one may change nothing


def _places(tree: ast.Module, name: str, lines: set[int]) -> list[ast.AST]:
    """Operators and numbers on executed lines of a function and of the functions of its file that it calls."""
    functions = {n.name: n for n in ast.walk(tree) if isinstance(n, ast.FunctionDef)}
    reached, queue = set(), [name]
    while queue:
        each = queue.pop()
        if each in functions and each not in reached:
            reached.add(each)
            queue += [n.id for n in ast.walk(functions[each]) if isinstance(n, ast.Name)]
    found = []
    for function in sorted(reached):
        for node in (n for statement in functions[function].body for n in ast.walk(statement)):
            operator = getattr(node, "op", None) or (getattr(node, "ops", None) or [None])[0]
            number = isinstance(node, ast.Constant) and type(node.value) in (int, float)
            if getattr(node, "lineno", 0) in lines and (number or type(operator) in SWAPS):
                found.append(node)
    return found


def _change(node: Any) -> str:
    """Change a node in place; the change in words."""
    before = ast.unparse(node)
    if isinstance(node, ast.Constant):
        node.value += 1
    elif isinstance(node, ast.Compare):
        node.ops[0] = SWAPS[type(node.ops[0])]()
    else:
        node.op = SWAPS[type(node.op)]()
    return f"{before} -> {ast.unparse(node)}"


def _executed(copy: Path, file: str, test: str) -> set[int] | None:
    """Lines of a file that a test executes; None if the test does not pass."""
    import coverage

    words = ["-m", "coverage", "run", f"--include={file}", "--data-file=truth.coverage", "-m", "unittest", test]
    settings = {**os.environ, "CI": "1", "PYTHONPATH": str(copy)}
    done = subprocess.run([sys.executable, *words], cwd=copy, capture_output=True, check=False, env=settings)
    data = coverage.CoverageData(str(copy / "truth.coverage"))
    data.read()
    executed = {line for each in data.measured_files() for line in data.lines(each) or ()}
    return executed if done.returncode == 0 else None


def _try_truth(copy: Path, name: str, test: str, seed: int) -> tuple[str, str, str]:
    """Change a function until its test fails: its name, the last change, and whether the test failed."""
    import inspect

    import ultrum as ul

    function = inspect.unwrap(getattr(ul, name))
    file = str(Path(inspect.getsourcefile(function) or "").relative_to(ROOT))
    lines = _executed(copy, file, f"tests.{test}")
    if lines is None:
        return name, "", "does not pass unchanged"
    text, draws = (ROOT / file).read_text(), random.Random(f"{seed} {name}")
    count = len(_places(ast.parse(text), function.__name__, lines))
    change = ""
    for attempt, number in enumerate(draws.sample(range(count), min(count, DRAWS)), 1):
        tree = ast.parse(text)
        node = _places(tree, function.__name__, lines)[number]
        change = f"{file}:{getattr(node, 'lineno', 0)}: {_change(node)}"
        (copy / file).write_text(ast.unparse(tree))
        words = [sys.executable, "-m", "unittest", f"tests.{test}"]
        settings = {**os.environ, "CI": "1", "PYTHONDONTWRITEBYTECODE": "1", "PYTHONPATH": str(copy)}
        try:
            done = subprocess.run(
                words, cwd=copy, capture_output=True, timeout=TIMEOUT, check=False, env=settings
            )
            failed = done.returncode != 0
        except subprocess.TimeoutExpired:
            failed = True
        (copy / file).write_text(text)
        if failed:
            return name, change, f"killed by change {attempt}"
    return name, change, "SURVIVED" if count else "nothing to change"


def try_truths(workers: int, seed: int) -> int:
    """Every function of tests/truths.toml; prints each change, and the share whose test fails."""
    import tomllib

    sys.path.insert(0, str(ROOT))
    truths = tomllib.loads((ROOT / "tests" / "truths.toml").read_text())
    copies: Queue[Path] = Queue()
    with tempfile.TemporaryDirectory() as place:
        for number in range(workers):
            ignored = shutil.ignore_patterns(".git", ".venv*", ".mutation", "site", "ultrum-demo")
            copies.put(Path(shutil.copytree(ROOT, Path(place) / str(number), ignore=ignored)))

        def _one(row: tuple[str, list[str]]) -> tuple[str, str, str]:
            copy = copies.get()
            try:
                outcome = _try_truth(copy, row[0], row[1][0], seed)
            finally:
                copies.put(copy)
            print(*outcome, sep="; ", flush=True)
            return outcome

        with ThreadPoolExecutor(workers) as pool:
            outcomes = list(pool.map(_one, truths.items()))
    killed = sum(outcome[2].startswith("killed") for outcome in outcomes)
    print(f"{killed} of {len(outcomes)} functions: their test fails on a change")
    return int(killed < len(outcomes))


def main() -> int:
    """Record, or try mutants and print the share that is killed."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--map", action="store_true", help="record which lines each test executes")
    parser.add_argument("--timed", metavar="MODULE", help="run one test module and note its times")
    parser.add_argument("--workers", type=int, default=os.cpu_count() or 1, help="mutants at once")
    parser.add_argument("--count", type=int, default=300, help="mutants to try")
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument(
        "--truths", action="store_true", help="one mutant of each public function, against its test"
    )
    given = parser.parse_args()
    if given.timed:
        return int(not timed(given.timed))
    if given.truths:
        return try_truths(given.workers, given.seed)
    if given.map:
        record()
        return 0
    lines, seconds = recorded()
    copies: Queue[Path] = Queue()
    with tempfile.TemporaryDirectory() as place:
        for number in range(given.workers):
            copy = Path(place) / str(number)
            ignored = shutil.ignore_patterns(".git", ".venv*", ".mutation", "site", "ultrum-demo")
            shutil.copytree(ROOT, copy, ignore=ignored)
            copies.put(copy)

        def _one(mutant: tuple[Path, str, int, int]) -> dict[str, Any] | None:
            path, operator, occurrence, line = mutant
            file = str(path.relative_to(ROOT))
            text = changed(path, operator, occurrence)
            if text is None:
                return None
            tests = tests_of(lines, seconds, file, line)
            copy = copies.get()
            try:
                killed = tried(copy, file, text, tests)
            finally:
                copies.put(copy)
            delta = difflib.unified_diff(path.read_text().splitlines(), text.splitlines(), lineterm="", n=1)
            print(f"{'killed  ' if killed else 'SURVIVED'} {file}:{line} {operator}", flush=True)
            return {"file": file, "line": line, "operator": operator, "killed": killed, "tests": len(tests),
                    "change": "\n".join(list(delta)[2:])}  # fmt: skip

        chosen = [m for m, _ in zip(mutants(given.seed), range(given.count), strict=False)]
        with ThreadPoolExecutor(given.workers) as pool:
            results, survivors = [], []
            for result in filter(None, pool.map(_one, chosen)):
                results.append(result)
                if not result["killed"]:  # written as they come: a run may be stopped
                    survivors.append(result)
                    (PLACE / "survivors.json").write_text(json.dumps(survivors, indent=1))
    share = 1 - len(survivors) / max(len(results), 1)
    print(f"{len(results)} mutants, {len(results) - len(survivors)} killed, {100 * share:.0f} %")
    return 0


if __name__ == "__main__":
    sys.exit(main())
