"""The account of what is missing: where each series begins and ends, and why a value is not there."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ultrum.core.series import Causes, period_label
from ultrum.core.types import Bools, Ints

EARLY, LATE, GAP = "before its first value", "after its last value", "gap"


def _edges(present: Bools) -> tuple[int, int]:
    rows = np.flatnonzero(present)
    return (int(rows[0]), int(rows[-1])) if len(rows) else (len(present), -1)


def coverage_of(frame: pd.DataFrame, ordinals: Ints, causes: Causes) -> pd.DataFrame:
    """First, last, rows present, gaps between them, values filled and periods found stale."""
    rows = []
    for name in frame:
        present = frame[name].notna().to_numpy()
        first, last = _edges(present)
        stale = sum(int(p in causes.get(str(name), {})) for p in ordinals[~present])
        labels = [period_label(frame.index[i]) if present.any() else "" for i in (first, last)]
        gaps = max(last - first + 1, 0) - int(present.sum())
        rows.append([*labels, int(present.sum()), gaps, 0, stale])
    columns = ["first", "last", "rows", "gaps", "filled", "stale"]
    return pd.DataFrame(rows, index=pd.Index(frame.columns, name="series"), columns=columns)


def ledger_of(frame: pd.DataFrame, ordinals: Ints, causes: Causes) -> pd.DataFrame:
    """Every missing value with its period, series and cause."""
    found = []
    for name in frame:
        present = frame[name].notna().to_numpy()
        first, last = _edges(present)
        for row in np.flatnonzero(~present):
            cause = EARLY if row < first else LATE if row > last else GAP
            known = causes.get(str(name), {}).get(int(ordinals[row]))
            found.append(
                (frame.index[int(row)], str(name), known if known and cause == GAP else cause)
            )
    return pd.DataFrame(found, columns=["period", "series", "cause"])
