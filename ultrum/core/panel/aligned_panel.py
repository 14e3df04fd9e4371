"""The panel, and its log of missing data."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Bools, Ints
from ultrum.core.presentation import quantity, table_html
from ultrum.core.series.metadata import Metadata, step_of
from ultrum.core.series.time_series import Causes, SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_labels_and_relative_dates import period_label, rows_between, span_of
from ultrum.errors import AlignmentError

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


# The panel: aligned assets, factors and conditioning variables, with the log of missing data

_ROWS: Final = ("complete", "any")
NO_RATE: Final = "none"  # name of the risk-free rate of a panel without one


@dataclass(frozen=True, eq=False, repr=False)
class Panel:
    """Aligned panel of returns, factors and conditioning variables.

    Attributes
    ----------
    assets : DataFrame, shape (T, N)
        Total returns, in decimals; single assets can be missing.
    factors, conditions : DataFrame, shape (T, K) and (T, M)
    risk_free : Series, shape (T,)
        Risk-free return of each period; zeros named ``none`` in a panel without a risk-free rate.
    coverage : DataFrame
        By series: first, last, rows, gaps, filled (periods in which a carried-forward value of a conditioning
        variable is used), stale, and costs: the number of rows that this series alone keeps out of a complete
        panel.
    missing_log : DataFrame
        Columns ``period series cause``: every missing value and its cause.
    metadata : mapping of str to Metadata
    frequency : Frequency
    currency : str
    warnings : tuple of str
    missing : MissingData or None
        Missing values before rows were dropped; :meth:`sample` counts them again.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> print(panel)
    Panel: 252 monthly rows, 2004-01 to 2024-12, QML
    23 assets, factors market, size, value, momentum, conditions none; risk-free bill
    missing values, most first: LMPB 102, ORSL 89, FTHL 63, BRTW 1, EBMK 1
    >>> panel.sample("2024").assets.shape
    (12, 23)
    """

    assets: pd.DataFrame
    factors: pd.DataFrame
    conditions: pd.DataFrame
    risk_free: pd.Series
    coverage: pd.DataFrame
    missing_log: pd.DataFrame
    metadata: Mapping[str, Metadata]
    frequency: Frequency
    currency: str
    warnings: tuple[str, ...] = ()
    missing: MissingData | None = None

    @property
    def excess(self) -> SeriesTable:
        """Asset returns less the risk-free return of the same period; total returns without a risk-free rate."""
        block = self.assets.to_numpy() - self.risk_free.to_numpy()[:, None]
        metadata_list = [self.metadata[str(n)] for n in self.assets]
        if self.has_risk_free:
            rate = str(self.risk_free.name)
            step = step_of("excess", of=rate)
            metadata_list = [metadata.with_step(step, excess_of=rate) for metadata in metadata_list]
        table = SeriesTable.from_arrays(block, self.assets.index, metadata_list)
        dropped = {} if self.missing is None else self.missing.dropped()
        return table.copy_with(dropped=dropped)

    @property
    def has_risk_free(self) -> bool:
        """Whether returns are in excess of a risk-free rate; without one, betas are those of the market model."""
        return str(self.risk_free.name) != NO_RATE

    def check_excess(self, purpose: str) -> None:
        """Raise an error if a purpose needs excess returns and the panel has no risk-free rate.

        Parameters
        ----------
        purpose : str
            The purpose, for the message.
        """
        if not self.has_risk_free:
            raise AlignmentError(
                f"{purpose} needs excess returns, and the panel has no risk-free rate. Set risk_free in align."
            )

    @property
    def factor_table(self) -> SeriesTable:
        """The factors with metadata."""
        return SeriesTable(self.factors, tuple(self.metadata[str(n)] for n in self.factors))

    @property
    def rate(self) -> TimeSeries:
        """The risk-free return with metadata."""
        return TimeSeries(self.risk_free, self.metadata[str(self.risk_free.name)])

    @property
    def asset_names(self) -> list[str]:
        """Names of the assets."""
        return [str(name) for name in self.assets]

    def wide(self) -> pd.DataFrame:
        """One row per period; two column levels for assets, factors, conditioning variables and risk-free return.

        Returns
        -------
        DataFrame
            Rows by period.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.wide().iloc[:2, :3].round(4)
                  asset
                   BRTW    EBMK    CSHW
        period
        2004-01     NaN     NaN     NaN
        2004-02 -0.0642 -0.0705 -0.0042
        """
        parts = {
            "asset": self.assets,
            "factor": self.factors,
            "condition": self.conditions,
            "risk-free": self.risk_free.to_frame(),
        }
        return pd.concat({k: v for k, v in parts.items() if v.shape[1]}, axis=1)

    def long(self) -> pd.DataFrame:
        """One row per period and asset with a return: excess return, factors, conditioning variables.

        Returns
        -------
        DataFrame
            Rows by period and asset.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.long().head(2)
            period asset  excess_return    market      size     value  momentum
        1  2004-02  BRTW      -0.066903 -0.031743  0.020195 -0.003489  0.020469
        2  2004-03  BRTW       0.180184  0.073776  0.018839 -0.018346 -0.034507
        """
        excess = self.excess.to_frame().rename_axis("period").reset_index()
        frame = excess.melt("period", var_name="asset", value_name="excess_return").dropna()
        right = self.factors.join(self.conditions).rename_axis("period")
        return frame.merge(right, left_on="period", right_index=True, how="left")

    def sample(self, start: str | None = None, end: str | None = None) -> Panel:
        """Subsample from ``start`` to ``end``, both included.

        Parameters
        ----------
        start : str, optional
            First date or period, included; by default from the beginning.
        end : str, optional
            Last date or period, included; by default to the end.

        Returns
        -------
        Panel
            The subsample, with its own log of missing data.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.sample("2010-01", "2014-12").assets.shape
        (60, 23)
        """
        rows = rows_between(self.risk_free.index, self.frequency, start, end)
        rate = self.risk_free.iloc[rows]
        if not len(rate):
            raise AlignmentError(
                f"The panel runs {span_of(self.assets.index)}; it has no period from {start or 'its start'} to "
                f"{end or 'its end'}."
            )
        missing, coverage = self.missing, self.coverage
        missing_log = self.missing_log[self.missing_log["period"].isin(rate.index)]
        if missing is not None:
            whole = missing.seen.ordinals
            low, high = int(whole[0]), int(whole[-1])
            if start is not None:
                low = self.frequency.ordinal_of_name(str(start)[:10])
            if end is not None:
                high = self.frequency.ordinal_of_name(str(end)[:10], last=True)
            missing = missing.within(low, high)
            coverage, missing_log = missing.coverage(), missing.missing_log()
        return replace(
            self,
            assets=self.assets.iloc[rows],
            factors=self.factors.iloc[rows],
            conditions=self.conditions.iloc[rows],
            risk_free=rate,
            coverage=coverage,
            missing_log=missing_log,
            missing=missing,
        )

    def to_frame(self) -> pd.DataFrame:
        """Same as :meth:`wide`.

        Returns
        -------
        DataFrame
            Rows by period.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.to_frame()[[("asset", "BRTW"), ("factor", "market")]].tail(2).round(4)
                  asset  factor
                   BRTW  market
        period
        2024-11  0.0504  0.0247
        2024-12 -0.0005  0.0347
        """
        return self.wide()

    def __repr__(self) -> str:
        span = span_of(self.assets.index)
        counts = (
            f"{quantity(self.assets.shape[1], 'asset')}, factors {', '.join(map(str, self.factors)) or 'none'}, "
            f"conditions {', '.join(map(str, self.conditions)) or 'none'}"
        )
        worst = self.missing_log["series"].value_counts().head(5)
        lost = ", ".join(f"{name} {count}" for name, count in worst.items())
        return (
            f"Panel: {len(self.assets)} {self.frequency.name} rows, {span}"
            f"{', ' + self.currency if self.currency else ''}\n"
            f"{counts}; risk-free {self.risk_free.name}\nmissing values, most first: {lost or 'none'}"
            + "".join(f"\nwarning: {text}" for text in self.warnings)
        )

    def _repr_html_(self) -> str:
        return table_html(self.coverage, repr(self))
