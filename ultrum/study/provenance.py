"""From any number of a study to the bytes it rests on, and what changed between two runs."""

from __future__ import annotations

import difflib
import os
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import pandas as pd

from ultrum.core.arguments import checked
from ultrum.errors import StudyError, reason
from ultrum.file_access import json_of, path_of
from ultrum.report.run_file import FORM, Trail, run_facts, stage_of, stage_trail, trail_of
from ultrum.study.study_result import StudyResult


@checked
def trail(result: StudyResult | str | os.PathLike[str], number: str) -> Trail:
    """From a number of a study to the bytes that were downloaded.

    Parameters
    ----------
    result : StudyResult, or path
        A result, or the folder (or ``run.json``) that a run has written.
    number : str
        Such as ``cost_of_equity.BRTW``, ``models.one factor.BRTW.market`` or ``series.inflation``.

    Raises
    ------
    StudyError
        If the run has no such number; the nearest are named.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> study = ul.Study.load(ul.practice.demo_study())
    >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
    ...     made = ul.run_study(study.with_sources_at(service.places), vault=folder)
    >>> found = trail(made, "cost_of_equity.BRTW")
    >>> [part.name for part in found.parts[0].parts][:3]
    ['panel', 'factors', 'model: one factor']
    """
    facts = run_facts(result) if isinstance(result, StudyResult) else read_run(result)
    numbers = facts["numbers"]
    if number not in numbers:
        near = difflib.get_close_matches(number, list(numbers), 3)
        hint = f"the nearest are: {', '.join(near)}" if near else f"such as {next(iter(numbers))}"
        raise StudyError(f"The run has no number '{number}'; {hint}.")
    return trail_of(facts, number)


def read_run(path: str | os.PathLike[str]) -> dict[str, Any]:
    """What a run has written of itself."""
    file = path_of(path)
    file = file / "run.json" if file.is_dir() else file
    try:
        return run_from(file.read_text(encoding="utf-8"), str(file))
    except (OSError, UnicodeDecodeError) as error:
        raise StudyError(f"{file} is not what a run has written: {reason(error)}.") from None


def run_from(text: str, place: str) -> dict[str, Any]:
    """What a run has written of itself, from its text; ``place`` is named where it is none."""
    try:
        found = json_of(text)
    except ValueError as error:
        raise StudyError(f"{place} is not what a run has written: {reason(error)}.") from None
    if not isinstance(found, dict) or found.get("form") != FORM:
        raise StudyError(f"{place} is not what a run has written.")
    return found


_ROUNDING = 1e-12  # relative; two machines may differ by as much


@dataclass(frozen=True, repr=False)
class Changes:
    """What differs between two runs of a study.

    Attributes
    ----------
    revised : list of str
        Deliveries whose bytes are others.
    done_again : list of str
        Stages that gave something else.
    moved : DataFrame
        Numbers that moved: ``before after change because``.
    since : str
        What the run is compared with, in words.
    """

    revised: list[str]
    done_again: list[str]
    moved: pd.DataFrame
    since: str = "the last run"

    def to_frame(self) -> pd.DataFrame:
        """The numbers that moved."""
        return self.moved

    def __repr__(self) -> str:
        if not self.revised and not len(self.moved):
            return f"Nothing has changed since {self.since}."
        words = [f"revised: {', '.join(self.revised) or 'no delivery'}"]
        words.append(f"done again: {', '.join(self.done_again) or 'nothing'}")
        if len(self.moved):
            shown = self.moved.head(12).to_string(float_format="{:.6g}".format, max_colwidth=60)
            words.append(f"{len(self.moved)} numbers moved, largest first:\n{shown}")
        return "\n".join(words)


def changes(
    before: Mapping[str, Any], after: Mapping[str, Any], since: str = "the last run"
) -> Changes:
    """Compare two runs, each as :func:`read_run` gives it.

    Examples
    --------
    >>> run = {"numbers": {"risk_free": 0.03}, "stages": []}
    >>> changes(run, run)
    Nothing has changed since the last run.
    """
    old, new = _bytes_of(before), _bytes_of(after)
    revised = [name for name, checksum in new.items() if name in old and old[name] != checksum]
    revised += [f"{name} (new)" for name in new if name not in old]
    states = {s["name"]: s["gives"] for s in before["stages"]}
    done = [s["name"] for s in after["stages"] if states.get(s["name"]) != s["gives"]]
    stages = {s["name"]: s for s in after["stages"]}
    rows = []
    for name, value in after["numbers"].items():
        was = before["numbers"].get(name)
        if was is None or abs(value - was) <= _ROUNDING * max(abs(was), abs(value)):
            continue
        under = {d.name for d in stage_trail(stages, stage_of(name)).deliveries()}
        why = [r for r in revised if r.removesuffix(" (new)") in under]
        rows.append({"number": name, "before": was, "after": value, "change": value - was,
                     "because": ", ".join(why) or "the study or the program says otherwise"})  # fmt: skip
    moved = pd.DataFrame(
        rows, columns=["number", "before", "after", "change", "because"]
    ).set_index("number")
    size = moved["change"].abs() / moved["before"].abs().clip(lower=1e-12)
    moved = moved.loc[size.sort_values(ascending=False, kind="stable").index]
    return Changes(revised, done, moved, since)


def _bytes_of(run: Mapping[str, Any]) -> dict[str, str]:
    return {f"{d['source']}:{d['path']}": d["checksum"] for s in run["stages"] for d in s["takes"]}
