"""Composites: several indicators in one, standardised, oriented and weighted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.transform.spells import spells
from ultrum.core.transform.standardise import standardise
from ultrum.errors import AlignmentError, UnitError, choices


@dataclass(frozen=True, eq=False, repr=False)
class Composite(TimeSeries):
    """A gauge and what it is made of.

    Attributes
    ----------
    contributions : DataFrame, shape (T, N)
        What each part adds to the gauge; they sum to it.
    available : Series of int, shape (T,)
        Parts that have a value.
    percentile : Series, shape (T,)
        Share of all values of the gauge that are no higher, in percent, with hindsight.
    """

    contributions: pd.DataFrame = field(default_factory=pd.DataFrame)
    available: pd.Series = field(default_factory=lambda: pd.Series(dtype=int))
    percentile: pd.Series = field(default_factory=lambda: pd.Series(dtype=float))

    def extremes(self, percentile: float = 90.0, *, min_length: int = 1) -> pd.DataFrame:
        """Spells above a percentile, or below the one as far from the other end, with their ``side``.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> parts = [panel.factor_table[n] for n in ("size", "value")]
        >>> scores = [x.with_metadata(measure="score", excess_of="") for x in parts]
        >>> ul.composite(scores).extremes(2)[["start", "end", "length", "side"]].head(2)
             start      end  length  side
        0  2004-01  2006-02      26  high
        1  2004-01  2004-04       4   low
        """
        high = spells(self, f"above its {percentile:g}th percentile", min_length=min_length)
        low = spells(self, f"below its {100 - percentile:g}th percentile", min_length=min_length)
        both = pd.concat([high.assign(side="high"), low.assign(side="low")], ignore_index=True)
        both.attrs = {}
        return both.sort_values("start", ignore_index=True)


@checked
def composite(
    parts: Sequence[TimeSeries] | SeriesTable,
    *,
    orient: Mapping[str, int] | None = None,
    weights: Mapping[str, float] | None = None,
    at_least: int | None = None,
    window: str | int = "all",
    name: str = "composite",
    title: str = "",
) -> Composite:
    """Average standard scores of several indicators.

    Parameters
    ----------
    parts : sequence of TimeSeries, or SeriesTable
        Of one frequency.
    orient : mapping, optional
        −1 for a part that falls when the gauge should rise; 1 otherwise.
    weights : mapping, optional
        By name; by default equal. Scaled to sum to one over the parts available in each period.
    at_least : int, optional
        Parts that a period must have; by default all.
    window : str or int
        What each is standardised over, as for :func:`standardise`.
    name, title : str
        Name of the result.

    Returns
    -------
    Composite
        From the first to the last period that has enough parts.

    Raises
    ------
    AlignmentError
        If no period has enough parts.
    UnitError
        If a name in ``orient`` or ``weights`` is not one of the parts, or a level is trending: prices,
        indices and stocks are to be taken as growth first.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> jobs = TimeSeries.from_pandas(pd.Series([1.0, 2, 3], months), name="jobless", measure="rate")
    >>> mood = TimeSeries.from_pandas(pd.Series([3.0, 2, 1], months), name="mood", measure="score")
    >>> composite([jobs, mood], orient={"mood": -1}).to_pandas().tolist()
    [-1.0, 0.0, 1.0]
    """
    table = parts if isinstance(parts, SeriesTable) else SeriesTable.of(parts)
    _check_names(table, orient, "orient")
    _check_names(table, weights, "weights")
    for metadata in table.metadata:
        if metadata.measure in ("price", "index", "stock", "quote"):
            raise UnitError(
                f"{metadata.name} is a level ({metadata.measure}), whose mean is not meaningful; "
                "take its growth first."
            )
    signs = np.array([float((orient or {}).get(n, 1)) for n in table.names])
    if not np.isin(signs, (-1.0, 1.0)).all():
        raise UnitError("orient is 1 or −1 for each part; set how much it counts with weights.")
    shares = np.array([float((weights or {}).get(n, 1.0 if weights is None else 0.0)) for n in table.names])
    if (shares < 0).any() or not shares.sum() > 0:
        raise UnitError("weights must not be negative, and their sum must be positive.")
    scores = standardise(table, window=window)
    block = scores.block * signs
    block[:, shares == 0] = np.nan
    added, count = _added(block, shares)
    needed = int((shares > 0).sum()) if at_least is None else at_least
    enough = np.flatnonzero(count >= max(needed, 1))
    if not len(enough):
        raise AlignmentError(
            f"No period has {needed} of {', '.join(table.names)}; at most {int(count.max(initial=0))} at once."
        )
    rows = slice(int(enough[0]), int(enough[-1]) + 1)
    gauge = np.where(count >= max(needed, 1), np.nansum(added, axis=1), np.nan)[rows]
    return _gauge(table, scores, gauge, added[rows], count[rows], rows, name, title, needed, window)


def _added(block: Floats, shares: Floats) -> tuple[Floats, np.ndarray]:
    """What each part adds, its weight scaled to the parts that are there."""
    there = np.isfinite(block)
    weight = there @ shares
    scaled = shares / np.where(weight > 0, weight, 1.0)[:, None]
    return block * scaled, there.sum(axis=1)


def _gauge(
    table: SeriesTable, scores: SeriesTable, gauge: Floats, added: Floats, count: np.ndarray,
    rows: slice, name: str, title: str, needed: int, over: str | int,
) -> Composite:  # fmt: skip
    metadata = scores.metadata[0].changed(
        name=name, title=title or f"Composite of {', '.join(table.names)}", region="", source="", address="",
        seasonal_adjustment="", release_lag="", timing="average", notes=(), trail=(), maturity="", quoted="",
        decimals=None,
    )  # fmt: skip
    for part in table.metadata:
        steps = "; ".join(str(step) for step in part.trail)
        metadata = metadata.stepped("part", name=part.name, at=part.address or None, made=steps or None)
    metadata = metadata.stepped("composite", of=", ".join(table.names), at_least=needed, over=over)
    index = table.index[rows]
    values = pd.Series(gauge, index=index, name=name)
    return Composite(
        values,
        metadata,
        pd.DataFrame(added, index=index, columns=table.names),
        pd.Series(count, index=index, name="available"),
        (100.0 * values.rank(pct=True, method="max")).rename("percentile"),
    )


def _check_names(table: SeriesTable, given: Mapping[str, float] | None, word: str) -> None:
    unknown = [n for n in given or {} if n not in table.names]
    if unknown:
        raise UnitError(f"{word} names '{unknown[0]}', which is not one of the parts: {choices(table.names)}.")
