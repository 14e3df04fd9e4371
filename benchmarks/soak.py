"""Long trials that continuous integration has no time for: ``python -m benchmarks.soak WHAT [HOW MUCH]``.

``fuzz MINUTES``    damaged inputs for everything that reads from outside, each target in its turn
``tables COUNT``    tables of known truth in random layouts, read back or refused; what is refused, by reason
``locales COUNT``   tables in the languages of the world, with units, currencies and the class of each line; resumable
``vault MINUTES``   ten processes at one vault, and then the catalogue made anew
``kills COUNT``     a pull killed at random moments, the vault verified after each; two pulls at once
``flips COUNT``     single bits of a vault flipped; each is noticed by verify, or changes no answer, and is repaired
``keys``            every key of a study and a cell of every file: a run with stored results equals a fresh one
``disk``            a vault on a file system of 1 MB, filled up (needs the right to mount one)
``lowest``          the tests on the lowest versions that the bounds allow, in an environment of its own
"""

import os
import re
import subprocess
import sys
import tempfile
import time
import tomllib
import unittest
from pathlib import Path

ROOT = Path(__file__).parent.parent
SLICE = 500
MOST_MEMORY = 4 << 30  # bytes of a process that reads damaged inputs


def fuzz(minutes):
    """Every target in turn, a slice of a minute at a time, each slice in a process with bounded memory."""
    from tests.fuzzing import TARGETS

    end, start, faults, seen = (time.monotonic() + 60 * minutes, int(time.time()), 0, dict.fromkeys(TARGETS, 0))
    while time.monotonic() < end:
        for target in TARGETS:
            seconds = min(60.0, 60 * minutes / len(TARGETS))
            code = f"from benchmarks.soak import fuzz_slice; fuzz_slice({target!r}, {start}, {seconds})"
            done = subprocess.run([sys.executable, "-c", code], cwd=ROOT, capture_output=True, text=True)
            lines = done.stdout.splitlines()
            found = [line for line in lines if line.startswith("FAULT")]
            if done.returncode or not lines:
                found.append(f"FAULT {target}: the process died after {start}: {done.stderr[-300:]}")
            else:
                seen[target] += int(lines[-1])
                start += int(lines[-1])
            faults += len(found)
            print("\n".join([*found, f"{target}: {seen[target]:,} trials"]), flush=True)
    print(f"{sum(seen.values()):,} trials in {minutes} minutes, {faults} faults")
    return faults


def fuzz_slice(target, start, seconds):
    """Trials of one target from a number on; faults, and at last how many trials there were."""
    import resource

    from tests.fuzzing import trial

    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    end, number = time.monotonic() + seconds, start
    while time.monotonic() < end:
        try:
            trial(target, number)
        except BaseException as fault:
            print(f"FAULT {target} {number}: {type(fault).__name__} {str(fault)[:200]}", flush=True)
        number += 1
    print(number - start)


def tables(kind, count, start=1_000_000):
    """Tables of known truth from a number on; every wrong one, and how many are refused.

    Each line of progress has the number to start from, so that a run can be resumed.
    """
    from concurrent.futures import ProcessPoolExecutor

    most = wrong = refused = 0
    with ProcessPoolExecutor() as pool:
        slices = range(start, start + count, SLICE)
        for first, (lines, no) in zip(slices, pool.map(tables_slice, [kind] * len(slices), slices), strict=True):
            wrong += len(lines)
            refused += len(no)
            most += SLICE
            print(
                "\n".join(
                    [*lines, *[f"refused {r}" for r in no[:3]], f"to resume: {kind} {count} {first + SLICE}"]
                )
            )
    print(f"{most:,} {kind}, {wrong} read wrong, {refused} refused ({100 * refused / most:.1f} %)")
    return wrong


def tables_slice(kind, start):
    """Five hundred tables: those read wrong, and those refused."""
    import warnings

    import ultrum as ul
    from tests.generated_locales import locale_differences, make_locale_case
    from tests.generated_tables import differences, make_case
    from ultrum.errors import TableError

    make, compare = {"tables": (make_case, differences), "locales": (make_locale_case, locale_differences)}[kind]
    warnings.simplefilter("ignore")
    wrong, refused = [], []
    for seed in range(start, start + SLICE):
        case = make(seed)
        try:
            found = compare(case, ul.read_series(case.body, **getattr(case, "options", {})))
            wrong += [f"WRONG {seed}: {found[0]} ({case.how})"] if found else []
        except TableError as error:
            refused.append(f"{seed}: {str(error)[:120]} ({case.how})")
        except Exception as error:
            wrong.append(f"WRONG {seed}: {error!r} ({case.how})")
    return wrong, refused


def tests(*names, **environment):
    """Run some of the tests with settings of their own; how many failed."""
    os.environ.update({k: str(v) for k, v in environment.items()})
    suite = unittest.defaultTestLoader.loadTestsFromNames(names)
    result = unittest.TextTestRunner(verbosity=1).run(suite)
    return len(result.failures) + len(result.errors)


def disk():
    """Fill a small file system with downloads; all that were recorded are whole, before and after."""
    from ultrum.errors import VaultError
    from ultrum.sources.download_and_limits import Download
    from ultrum.vault.store import Vault

    with tempfile.TemporaryDirectory() as folder:
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", folder], check=True)
        try:
            vault, kept, refused = Vault(folder), [], 0
            for n in range(400):
                try:
                    kept.append(vault.record("s", f"p{n}", Download(f"{n} ".encode() * (n * 37 % 4000))).checksum)
                except VaultError:
                    refused += 1
            vault.close()
            with Vault(folder) as again:
                lost = set(kept) - {r.checksum for r in again.records()}
                faults = again.verify()
        finally:
            subprocess.run(["umount", folder], check=True)
    print(
        f"{len(kept)} downloads kept, {refused} refused for want of room, {len(lost)} lost, {len(faults)} damaged"
    )
    return len(lost) + len(faults) + (not refused)


def lowest():
    """The whole of the tests on the lowest versions of the dependencies."""
    said = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    extras = said["optional-dependencies"]
    own = [
        *said["dependencies"],
        *(d for name in ("practice", "postgres", "interactive", "cluster") for d in extras[name]),
    ]
    pins = [re.sub(r">=", "==", d) for d in own]
    with tempfile.TemporaryDirectory() as folder:
        python = str(Path(folder, "bin", "python"))
        subprocess.run([sys.executable, "-m", "venv", folder], check=True)
        subprocess.run([python, "-m", "pip", "install", "-q", *pins, "-e", f"{ROOT}[test]"], check=True)
        done = subprocess.run([python, "-m", "unittest", "-q"], cwd=ROOT, check=False)
    return done.returncode


def main(words):
    start = time.monotonic()
    what, much = words[0] if words else "", float(words[1]) if len(words) > 1 else 0
    if what == "fuzz":
        faults = fuzz(much or 60)
    elif what == "tables":
        faults = tables("tables", int(much or 100_000), *map(int, words[2:3]))
    elif what == "locales":
        faults = tables("locales", int(much or 20_000), *map(int, words[2:3]))
    elif what == "vault":
        name = "tests.test_vault.HostileWorld.test_ten_processes_at_once"
        faults = tests(name, ULTRUM_VAULT_SECONDS=60 * (much or 10))
    elif what == "kills":
        faults = tests(
            "tests.test_desk.Pulling.test_killed_while_pulling_and_two_at_once", ULTRUM_KILLS=int(much or 200)
        )
    elif what == "flips":
        name = "tests.test_vault.HostileWorld.test_flipped_bits_are_noticed_and_mended"
        faults = tests(name, ULTRUM_FLIPS=int(much or 1000))
    elif what == "keys":
        faults = tests("tests.test_stages.Kept", ULTRUM_KEYS=1000)
    elif what in ("disk", "lowest"):
        faults = {"disk": disk, "lowest": lowest}[what]()
    else:
        print(__doc__)
        return 2
    print(f"{what}: {'nothing wrong' if not faults else f'{faults} FAULTS'} in {time.monotonic() - start:,.0f} s")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
