"""What several tests share: the practice service, a scratch folder, the command line, slow loops."""

import contextlib
import io
import json
import os
import re
import subprocess
import sys
import tempfile
import unittest
import warnings
from pathlib import Path
from unittest import mock

import jsonschema
import numpy as np
import pandas as pd
from hypothesis import settings

import ultrum as ul
from tests.advice import follow, recommended_options
from tools.json_answers import ANSWERS, answers_schema
from ultrum.cli import main

settings.register_profile("repeatable", derandomize=True)
if os.environ.get("CI"):
    settings.load_profile("repeatable")
ROOT = Path(__file__).parent.parent
PASSING = re.compile(
    r"127\.0\.0\.1:\d+|\d{4}-\d\d-\d\dT[\d:]+\.\d+Z|0x[0-9a-f]{6,}"
)  # ports, instants, addresses


class Scratch(unittest.TestCase):
    """A test with a folder of its own."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.messages = []

    def file(self, name, content):
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
        return path

    def refused(self, kind, *words):
        """Context that expects an error whose message holds every word, and is the one on record."""
        return _Refused(self, kind, words)

    def on_record(self, error):
        """Compare a message with the next of this test that is on record."""
        _, module, name = self.id().split(".", 2) if ".properties." not in self.id() else self.id().rsplit(".", 2)
        said = str(error).replace(str(self.folder), "FOLDER").replace(str(ROOT), "ROOT")
        self.messages.append(without_causes(error, said))
        compare_with_record(self, module, {name: self.messages})


def _lasting(text):
    """A message without what differs between machines and days."""
    now = pd.Timestamp.now("UTC")
    text = PASSING.sub("…", text)
    for passing, word in (
        (str(Path.home()), "HOME"),
        (str(now.date()), "TODAY"),
        (str(pd.Timestamp.now().date()), "TODAY"),
    ):
        text = text.replace(passing, word)
    return text


def compare_with_record(case, module, messages):
    """Compare messages with those in tests/data/messages; ULTRUM_RECORD=1 writes them, ULTRUM_TRUTH=1 passes over."""
    if os.environ.get("ULTRUM_TRUTH"):
        return
    place = Path(__file__).parent / "data" / "messages" / f"{module}.json"
    kept = json.loads(place.read_text(encoding="utf-8")) if place.exists() else {}
    said = {name: [_lasting(text) for text in texts] for name, texts in messages.items()}
    if os.environ.get("ULTRUM_RECORD"):
        kept |= said
        place.write_text(json.dumps(kept, indent=0, ensure_ascii=False, sort_keys=True) + "\n")
    want = {name: kept.get(name, [])[: len(texts)] for name, texts in said.items()}
    case.assertEqual(said, want, "If it is meant: ULTRUM_RECORD=1 python -m tests, and read what git shows.")


class _Refused:
    def __init__(self, case, kind, words):
        self.case, self.kind, self.words = case, kind, words

    def __enter__(self):
        return self

    def __exit__(self, kind, error, _):
        self.case.assertIsNotNone(error, f"{self.kind.__name__} was not raised")
        self.case.assertIsInstance(error, self.kind, f"{type(error).__name__}: {error}")
        for word in self.words:
            self.case.assertIn(word, str(error))
        self.case.on_record(error)
        self._follow_advice(error)
        return True

    def _follow_advice(self, error):
        """What the message recommends leads somewhere else: to a result, or to another refusal."""
        if not isinstance(error, ul.UltrumError):
            return
        here = Path.cwd()
        with contextlib.chdir(self.case.folder if here == ROOT else here):  # advice may write files
            for keyword, value, again in follow(error):
                said = str(again)
                self.case.assertNotEqual(said, str(error), f"{keyword}={value!r} changes nothing")


def without_causes(error, text=""):
    """The message of an error, without what libraries word."""
    text, cause = text or str(error), error.__cause__
    while cause is not None:
        for part in filter(None, (str(cause), *str(cause).splitlines())):
            text = text.replace(part.rstrip("."), "…")
        cause = cause.__cause__ or cause.__context__
    return text


class OnPractice(Scratch):
    """A test with the practice service running."""

    @classmethod
    def setUpClass(cls):
        serving = ul.practice.serve()
        cls.service = serving.__enter__()
        cls.addClassCleanup(serving.__exit__, None, None, None)

    def desk(self, **more):
        said = ul.practice.sources_at(self.service.places)
        for name, facts in more.pop("formats", {}).items():
            said[name]["format"] = facts
        desk = ul.Desk(self.folder / "vault", sources=said, **more)
        self.addCleanup(desk.__exit__)
        return desk


def command(*words, cwd, **environment):
    """Run ``ultrum`` in this process; what a shell would see. Its JSON must fit the published schemas.

    Options that an error recommends are followed, and must lead to a result or to another error.
    """
    words = [str(word) for word in words]
    done = _run(words, cwd, environment)
    if done.returncode in (2, 3):
        for option in recommended_options(words, done.stderr):
            again = _run([*words, *option], cwd, environment)
            if again.stderr == done.stderr:
                raise AssertionError(f"{option} changes nothing: {done.stderr}")
    check_json(words, done.stdout)
    return done


def _run(words, cwd, environment):
    out, err = io.StringIO(), io.StringIO()
    with (
        mock.patch.dict(os.environ, {"NO_COLOR": "1", "COLUMNS": "100", **environment}),
        mock.patch.object(sys, "argv", ["ultrum", *words]),
        mock.patch.object(sys, "stdin", io.StringIO()),
        contextlib.chdir(cwd),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
        warnings.catch_warnings(),
    ):
        warnings.resetwarnings()  # as in a new process: each warning is shown again
        try:
            main()
        except SystemExit as ending:
            code = ending.code
    return subprocess.CompletedProcess(words, code, out.getvalue(), err.getvalue())


def new_process(*words, cwd):
    """Run ``ultrum`` in a process of its own, with its start-up."""
    words = [str(word) for word in words]
    return subprocess.run(
        [sys.executable, "-c", "from ultrum.cli import main; main()", *words],
        capture_output=True, text=True, cwd=cwd, timeout=120, check=False,
        env={**os.environ, "NO_COLOR": "1", "COLUMNS": "100"},
    )  # fmt: skip


def check_json(words, text):
    """The JSON of a command fits the schema of that command."""
    if "--json" in words and text:
        name = next(n for n in ANSWERS if n in " ".join(words))
        jsonschema.validate(json.loads(text), closed(answers_schema(), name))


def closed(schema, command):
    """The published shape of one command, in which no other key is allowed."""
    for part in schema["$defs"].values():
        part["additionalProperties"] = False
    return {**schema["properties"][command], "$defs": schema["$defs"]}


def months(count, start="2010-01"):
    return pd.period_range(start, periods=count, freq="M")


def series(values, start="2010-01", freq="M", **facts):
    index = pd.period_range(start, periods=len(values), freq=freq)
    return ul.TimeSeries.from_pandas(pd.Series(np.asarray(values, float), index), **facts)


def daily(values, start="2024-01-01", **facts):
    index = pd.bdate_range(start, periods=len(values))
    return ul.TimeSeries.from_pandas(pd.Series(np.asarray(values, float), index), **facts)
