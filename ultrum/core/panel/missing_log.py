"""The log of missing data: the span of each series, and the cause of every missing value."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Bools, Ints
from ultrum.core.series.time_series import Causes
from ultrum.core.time.period_labels import period_label

EARLY, LATE, GAP = "before its first value", "after its last value", "gap"
_KINDS: Final = [EARLY, LATE, GAP]


@dataclass(frozen=True)
class Presence:
    """Mask of values by series and period; ``present`` is (series, period)."""

    names: Sequence[str]
    index: pd.Index
    ordinals: Ints
    present: Bools
    first: Ints
    last: Ints

    @classmethod
    def of(cls, names: Sequence[str], index: pd.Index, ordinals: Ints, present: Bools) -> Presence:
        """From a mask of shape (period, series)."""
        across = np.ascontiguousarray(present.T)
        periods = across.shape[1]
        if not periods:
            none = np.zeros(len(names), dtype=np.int64)
            return cls(names, index, ordinals, across, none, none - 1)
        there = across.any(axis=1)
        first = np.where(there, across.argmax(axis=1), periods)
        last = np.where(there, periods - 1 - across[:, ::-1].argmax(axis=1), -1)
        return cls(names, index, ordinals, across, first, last)


@dataclass(frozen=True)
class MissingData:
    """Missing values before rows are dropped, for the coverage, the log and the dropped rows of any span.

    Attributes
    ----------
    seen : Presence
        Series: the assets first, then the series that every row needs.
    causes : mapping of str to mapping of int to str
    carried : mapping of str to ndarray of int
        Ordinals of the periods with a carried-forward value of a conditioning variable.
    needed : int
        Number of series, counted from the last, that every row needs.
    kept : ndarray of bool, shape (periods,)
    """

    seen: Presence
    causes: Causes
    carried: Mapping[str, Ints]
    needed: int
    kept: Bools

    def within(self, first: int, last: int) -> MissingData:
        """The same for the periods between two ordinals, both included."""
        inside = (self.seen.ordinals >= first) & (self.seen.ordinals <= last)
        seen = Presence.of(
            self.seen.names, self.seen.index[inside], self.seen.ordinals[inside], self.seen.present[:, inside].T
        )
        return replace(self, seen=seen, kept=self.kept[inside])

    def coverage(self) -> pd.DataFrame:
        """See :func:`coverage_of`."""
        needed = ~self.seen.present[len(self.seen.names) - self.needed :]
        alone = needed.sum(axis=0) == 1
        names = self.seen.names[len(self.seen.names) - self.needed :]
        costs = {n: int((row & alone).sum()) for n, row in zip(names, needed, strict=True)}
        ordinals = self.seen.ordinals
        filled = {n: int(np.isin(c, ordinals).sum()) for n, c in self.carried.items()}
        return coverage_of(self.seen, self.causes, filled, costs)

    def missing_log(self) -> pd.DataFrame:
        """See :func:`missing_log_of`."""
        return missing_log_of(self.seen, self.causes)

    def dropped(self) -> dict[str, dict[str, int]]:
        """Observations of each asset in dropped periods, by the series that these lack."""
        out = ~self.kept
        if not out.any():
            return {}
        assets = len(self.seen.names) - self.needed
        names = self.seen.names[assets:]
        counted = counts_by_cause(~self.seen.present[assets:, out].T, names, self.seen.present[:assets, out].T)
        by_series: dict[str, dict[str, int]] = {}
        for cause, counts in counted.items():
            for place in np.flatnonzero(counts):
                by_series.setdefault(str(self.seen.names[int(place)]), {})[cause] = int(counts[place])
        return by_series


def counts_by_cause(missing: Bools, names: Sequence[str], present: Bools) -> dict[str, Ints]:
    """Observations dropped because a row lacks some series, by cause such as ``missing size``.

    Parameters
    ----------
    missing : ndarray of bool, shape (R, K)
        Needed series that each row lacks.
    names : sequence of str, length K
    present : ndarray of bool, shape (R, N)
        Assets with a value in each row.

    Returns
    -------
    mapping of str to ndarray of int, shape (N,)

    Examples
    --------
    >>> missing = np.array([[True, True, True, True, True], [False, True, False, False, False]])
    >>> counts = counts_by_cause(missing, list("abcde"), np.ones((2, 1), bool))
    >>> {cause: count.tolist() for cause, count in counts.items()}
    {'missing b': [1], 'missing a and b and c and 2 more': [1]}
    """
    by_series: dict[str, Ints] = {}
    patterns, which = np.unique(missing, axis=0, return_inverse=True)
    for number, pattern in enumerate(patterns):
        if pattern.any():
            lacking = [str(name) for name, absent in zip(names, pattern, strict=True) if absent]
            shown = lacking[:3] + ([f"{len(lacking) - 3} more"] if len(lacking) > 3 else [])
            cause = f"missing {' and '.join(shown)}"  # commas are between the causes
            rows = which.ravel() == number
            counts = present[rows].sum(axis=0).astype(np.int64)
            by_series[cause] = by_series.get(cause, 0) + counts
    return by_series


def coverage_of(
    seen: Presence, causes: Causes, filled: Mapping[str, int], costs: Mapping[str, int]
) -> pd.DataFrame:
    """First, last, rows present, gaps between them, values carried forward, stale periods, rows that it alone
    drops.
    """
    counts = seen.present.sum(axis=1)
    labels = np.array([*[period_label(period) for period in seen.index], ""], dtype=object)
    nothing = len(seen.index)
    table = pd.DataFrame(
        {
            "first": labels[np.minimum(seen.first, nothing)],
            "last": labels[np.where(seen.last < 0, nothing, seen.last)],
            "rows": counts,
            "gaps": np.where(counts > 0, seen.last - seen.first + 1 - counts, 0),
        },
        index=pd.Index(seen.names, name="series"),
    )
    for column, counts_of in (("filled", filled), ("stale", _stale(seen, causes)), ("costs", costs)):
        counted = np.zeros(len(seen.names), dtype=np.int64)
        if counts_of:
            counted[table.index.get_indexer(pd.Index(list(counts_of)))] = list(counts_of.values())
        table[column] = counted
    return table


def missing_log_of(seen: Presence, causes: Causes) -> pd.DataFrame:
    """Every missing value with its period, series and cause, by series."""
    column, row = np.divmod(np.flatnonzero(~seen.present), max(len(seen.index), 1))
    kind = np.where(row < seen.first[column], 0, np.where(row > seen.last[column], 1, 2))
    missing = pd.DataFrame(
        {
            "period": seen.index.take(row),
            "series": _label_codes(column, list(seen.names)),
            "cause": _label_codes(kind, _KINDS),
        }
    )
    return _with_causes(missing, causes, seen, column, row, kind == _KINDS.index(GAP))


def _stale(seen: Presence, causes: Causes) -> dict[str, int]:
    """Number of missing periods of each series with a known cause."""
    row_of = {int(o): k for k, o in enumerate(seen.ordinals)}
    place = {name: k for k, name in enumerate(seen.names)} if causes else {}
    return {
        name: sum(1 for p in reasons if p in row_of and not seen.present[place[name], row_of[p]])
        for name, reasons in causes.items()
        if name in place
    }


def _label_codes(codes: Ints, words: list[str]) -> object:
    """Texts by number, each stored once."""
    if len(set(words)) < len(words):
        return np.array(words, dtype=object)[codes]
    return pd.Categorical.from_codes(codes, categories=pd.Index(words))


def _with_causes(
    missing: pd.DataFrame, causes: Causes, seen: Presence, column: Ints, row: Ints, gaps: Bools
) -> pd.DataFrame:
    """Assign known causes to gaps."""
    reasons = sorted({reason for by_period in causes.values() for reason in by_period.values()})
    if not reasons:
        return missing
    cause = missing["cause"].cat.add_categories(reasons)
    place = {name: k for k, name in enumerate(seen.names)}
    edges = np.searchsorted(column, np.arange(len(seen.names) + 1))
    for name, by_period in causes.items():
        if name not in place:
            continue
        rows = slice(edges[place[name]], edges[place[name] + 1])
        for at in np.flatnonzero(gaps[rows]) + rows.start:
            reason = by_period.get(int(seen.ordinals[row[at]]))
            if reason:
                cause.iat[at] = reason
    return missing.assign(cause=cause)
