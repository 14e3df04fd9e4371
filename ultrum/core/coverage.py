"""The account of what is missing: where each series begins and ends, and why a value is not there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pandas as pd

from ultrum.core.series import Causes, period_label
from ultrum.core.types import Bools, Ints

EARLY, LATE, GAP = "before its first value", "after its last value", "gap"


def coverage_of(
    names: Sequence[str],
    index: pd.Index,
    present: Bools,
    ordinals: Ints,
    causes: Causes,
    filled: Mapping[str, int] | None = None,
    costs: Mapping[str, int] | None = None,
) -> pd.DataFrame:
    """First, last, rows present, gaps between them, values carried, periods found stale, rows it alone costs."""
    first, last = _edges(present)
    counts = present.sum(axis=0)
    labels = [period_label(period) for period in index]
    there = counts > 0
    row_of = {int(o): k for k, o in enumerate(ordinals)}
    stale = [
        sum(1 for p in causes.get(name, ()) if p in row_of and not present[row_of[p], column])
        for column, name in enumerate(names)
    ]
    return pd.DataFrame(
        {
            "first": [labels[f] if t else "" for f, t in zip(first, there, strict=True)],
            "last": [labels[f] if t else "" for f, t in zip(last, there, strict=True)],
            "rows": counts,
            "gaps": np.where(there, last - first + 1 - counts, 0),
            "filled": [(filled or {}).get(name, 0) for name in names],
            "stale": stale,
            "costs": [(costs or {}).get(name, 0) for name in names],
        },
        index=pd.Index(names, name="series"),
    )


def ledger_of(
    names: Sequence[str], index: pd.Index, present: Bools, ordinals: Ints, causes: Causes
) -> pd.DataFrame:
    """Every missing value with its period, series and cause, series by series."""
    first, last = _edges(present)
    column, row = np.nonzero(~present.T)
    kind = np.where(row < first[column], 0, np.where(row > last[column], 1, 2))
    found = pd.DataFrame({
        "period": index.take(row),
        "series": _labelled(column, list(names)),
        "cause": _labelled(kind, [EARLY, LATE, GAP]),
    })  # fmt: skip
    return _with_causes(found, causes, names, column, row, ordinals)


def _labelled(codes: Ints, words: list[str]) -> Any:
    """Words by their number, each kept once in memory."""
    if len(set(words)) < len(words):
        return np.array(words, dtype=object)[codes]
    return pd.Categorical.from_codes(codes, categories=pd.Index(words))


def _with_causes(
    found: pd.DataFrame,
    causes: Causes,
    names: Sequence[str],
    column: Ints,
    row: Ints,
    ordinals: Ints,
) -> pd.DataFrame:
    """Gaps whose reason is known say it."""
    reasons = sorted({reason for known in causes.values() for reason in known.values()})
    if not reasons:
        return found
    cause = found["cause"].cat.add_categories(reasons)
    place = {str(name): k for k, name in enumerate(names)}
    gaps = (found["cause"] == GAP).to_numpy()
    edges = np.searchsorted(column, np.arange(len(names) + 1))
    for name, known in causes.items():
        if name not in place:
            continue
        own = slice(edges[place[name]], edges[place[name] + 1])
        for at in np.flatnonzero(gaps[own]) + own.start:
            reason = known.get(int(ordinals[row[at]]))
            if reason:
                cause.iat[at] = reason
    return found.assign(cause=cause)


def _edges(present: Bools) -> tuple[Ints, Ints]:
    """First and last row with a value of each column; T and −1 where there is none."""
    if not len(present):
        return np.zeros(present.shape[1], dtype=np.int64), np.full(present.shape[1], -1)
    there = present.any(axis=0)
    first = np.where(there, present.argmax(axis=0), len(present))
    last = np.where(there, len(present) - 1 - present[::-1].argmax(axis=0), -1)
    return first, last
