"""Changes between two runs of a study."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import pandas as pd

from ultrum.study.provenance import stage_of, stage_trail

_ROUNDING = 1e-12  # relative; two machines may differ by as much


@dataclass(frozen=True, repr=False)
class Changes:
    """What differs between two runs of a study.

    Attributes
    ----------
    revised : list of str
        Downloads whose bytes are others.
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
        words = [f"revised: {', '.join(self.revised) or 'no download'}"]
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
        under = {d.name for d in stage_trail(stages, stage_of(name)).downloads()}
        why = [r for r in revised if r.removesuffix(" (new)") in under]
        rows.append({"number": name, "before": was, "after": value, "change": value - was,
                     "because": ", ".join(why) or "the study or the program changed"})  # fmt: skip
    moved = pd.DataFrame(
        rows, columns=["number", "before", "after", "change", "because"]
    ).set_index("number")
    size = moved["change"].abs() / moved["before"].abs().clip(lower=1e-12)
    moved = moved.loc[size.sort_values(ascending=False, kind="stable").index]
    return Changes(revised, done, moved, since)


def _bytes_of(run: Mapping[str, Any]) -> dict[str, str]:
    return {f"{d['source']}:{d['path']}": d["checksum"] for s in run["stages"] for d in s["takes"]}
