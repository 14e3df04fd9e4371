"""What is shipped: the same bytes each time, only what belongs, nothing that calls out by itself."""

import hashlib
import os
import shutil
import subprocess
import sys
import tarfile
import zipfile
from unittest import mock

import ultrum as ul
from tests.support import ROOT, Scratch
from ultrum.core.transform.steps import apply_steps
from ultrum.errors import SourceError
from ultrum.sources.credentials import Credentials


class Extensions(Scratch):
    def test_a_kind_of_source_and_a_step_of_the_user(self):
        def logbook(url, path, credentials):
            return f"month,{path}\n2024-01,{len(url)}\n2024-02,3\n".encode()

        def shares_of(x, by=2):
            return x / by

        ul.add_source_kind("logbook", logbook)
        for name in ("table", "two words"):
            with self.assertRaisesRegex(SourceError, f"'{name}' is built in, or is not a single word"):
                ul.add_source_kind(name, logbook)
        ul.add_step(shares_of, main="by")
        with ul.Desk(self.folder / "vault", sources={"pier": {"kind": "logbook", "url": "west"}}) as desk:
            plain = desk.fetch("pier:height#height")
            self.assertEqual(plain.values.tolist(), [4.0, 3.0])
        cut = apply_steps(plain, [{"shares_of": 4}])
        self.assertEqual(cut.values.tolist(), [1.0, 0.75])


class Package(Scratch):
    def build(self, number):
        """Wheel and source archive of a copy of the project, as another machine would have it."""
        source, out = self.folder / f"source{number}", self.folder / f"out{number}"
        litter = shutil.ignore_patterns("__pycache__", ".*", "*.egg-info", "dist", "screenshots", "*-results")
        shutil.copytree(ROOT, source, ignore=litter)
        for path in source.rglob("*.py"):
            os.utime(path, (1_000_000_000 + number, 1_000_000_000 + number))
        command = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(out), str(source)]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stdout[-800:] + done.stderr[-800:])
        return sorted(out.iterdir())

    def test_built_twice_it_is_the_same_bytes_and_holds_what_it_should(self):
        first, second = self.build(1), self.build(2)
        self.assertEqual(len(first), 2)
        for one, two in zip(first, second, strict=True):
            digests = {hashlib.sha256(path.read_bytes()).hexdigest() for path in (one, two)}
            self.assertEqual(len(digests), 1, one.name)
        wheel = next(p for p in first if p.suffix == ".whl")
        names = set(zipfile.ZipFile(wheel).namelist())
        ours = {
            str(p.relative_to(ROOT)) for p in (ROOT / "ultrum").rglob("*")
            if p.is_file() and "__pycache__" not in p.parts
        }  # fmt: skip
        self.assertEqual({n for n in names if n.startswith("ultrum/")}, ours)
        self.assertEqual({n.split("/")[0] for n in names}, {"ultrum", "ultrum-0.1.0.dist-info"})
        self.assertIn("ultrum/py.typed", names)
        with tarfile.open(next(p for p in first if p.suffix == ".gz")) as archive:
            held = {n.split("/")[1] for n in archive.getnames() if n.count("/")}
        self.assertLessEqual({"ultrum", "tests", "docs", "pyproject.toml", "README.md"}, held)

    def test_optional_packages_are_named_where_they_are_missing(self):
        desk = {
            "sources": {"d": {"kind": "database", "url": "sqlite:///x.db", "queries": {"q": {"sql": "SELECT 1"}}}}
        }
        for package, work in {
            "sqlalchemy": lambda: ul.Desk(self.folder / "vault", **desk).table("d:q"),
            "keyring": lambda: Credentials("bearer", keyring="service/user").secret("d"),
        }.items():
            names = [n for n in sys.modules if n.partition(".")[0] == package]
            with (
                self.subTest(package),
                mock.patch.dict(sys.modules, {**dict.fromkeys(names), package: None}),
                self.assertRaisesRegex(
                    SourceError, f"needs the package .*not installed.*pip install .*{package}"
                ),
            ):
                work()
        code = "import sys; sys.modules['uvicorn'] = None; import ultrum as ul; ul.practice.serve().__enter__()"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
        self.assertRegex(done.stderr, "SourceError: .*needs the package .*not installed.*pip install .*uvicorn")

    def test_nothing_calls_out_on_import(self):
        code = """
import socket
def refused(*_, **__): raise AssertionError("a connection was opened")
socket.socket.connect = socket.create_connection = socket.getaddrinfo = refused
import ultrum as ul
for name in ul.__all__: getattr(ul, name)
import ultrum.cli, ultrum.practice.service, ultrum.report.html_report, ultrum.large
"""
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
