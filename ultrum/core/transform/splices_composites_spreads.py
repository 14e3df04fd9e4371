"""Spliced series, composite indices, and spreads such as the term spread."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats
from ultrum.core.series.metadata import Metadata, check_same, hindsight_of
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.period_labels_and_relative_dates import period_label, span_of
from ultrum.core.transform.lags_fills_innovations_spells import spells
from ultrum.core.transform.rolling_statistics import standardise
from ultrum.errors import AlignmentError, UnitError, choices, one_of

LINKS: Final = ("level", "ratio", "difference")


@dataclass(frozen=True, eq=False, repr=False)
class SplicedSeries(TimeSeries):
    """A series spliced from several, with the origin of each value.

    Attributes
    ----------
    origin : Series, shape (T,)
        Name of the part each value came from.
    overlap : DataFrame
        One row for each period that two parts share: ``period part other value other_value gap``, the values
        after linking and the gap between them, relative (level and ratio) or in units.
    """

    origin: pd.Series = field(default_factory=lambda: pd.Series(dtype=object))
    overlap: pd.DataFrame = field(default_factory=pd.DataFrame)


@validate_arguments
def splice(
    *parts: TimeSeries, link: str = "level", prefer: str = "last", tolerance: float = 0.01, name: str = ""
) -> SplicedSeries:
    """Splice (chain-link) several histories into one series.

    Parameters
    ----------
    *parts : TimeSeries
        Parts of one frequency, measure, unit and currency, in order of time.
    link : {"level", "ratio", "difference"}
        ``"level"`` uses the values unchanged. ``"ratio"`` multiplies each less preferred part so that the means
        of the overlap agree; ``"difference"`` adds.
    prefer : {"last", "first"}
        Which part is preferred for values and level where several overlap.
    tolerance : float
        Maximum gap in an overlap: relative to the preferred value for level and ratio, in units of the series for
        difference.
    name : str
        By default that of the preferred part.

    Returns
    -------
    SplicedSeries
        The spliced series, with its links.

    Raises
    ------
    AlignmentError
        If an overlap differs by more than the tolerance; or if there is no overlap to link over.

    Examples
    --------
    >>> old = pd.Series([1.0, 2, 3], pd.period_range("2024-01", periods=3, freq="M"))
    >>> new = pd.Series([30.0, 40], pd.period_range("2024-03", periods=2, freq="M"))
    >>> old = TimeSeries.from_pandas(old, name="old", measure="index", timing="average")
    >>> new = TimeSeries.from_pandas(new, name="new", measure="index", timing="average")
    >>> splice(old, new, link="ratio").to_pandas().tolist()
    [10.0, 20.0, 30.0, 40.0]
    """
    if len(parts) < 2:
        raise AlignmentError("A splice needs at least two parts.")
    for word, choice, options in (("link", link, LINKS), ("prefer", prefer, ("last", "first"))):
        if choice not in options:
            raise UnitError(f"{word}='{choice}' is not known; {one_of(choice, options)}")
    for part in parts[1:]:
        check_same(_comparable(parts[0], link), _comparable(part, link), "spliced with")
    ranked = parts[::-1] if prefer == "last" else parts
    joined = ranked[0].values.dropna()
    origin = pd.Series(ranked[0].name, index=joined.index, dtype=object)
    overlaps = []
    factors = {}
    for part in ranked[1:]:
        values, factor, overlap = _link_part(part, joined, ranked[0], link, tolerance)
        more = values[~values.index.isin(joined.index)]
        joined = pd.concat([joined, more]).sort_index()
        origin = pd.concat([origin, pd.Series(part.name, index=more.index, dtype=object)])
        overlaps.append(overlap)
        factors[part.name] = factor
    metadata = ranked[0].metadata.add_step(
        "spliced",
        {"name": name or ranked[0].name, "hindsight": hindsight_of(p.metadata for p in parts)},
        link=link,
        prefer=prefer,
        parts=_parts_in_words(parts, factors),
        overlap=sum(len(o) for o in overlaps) or "none, not compared",
    )
    every = metadata.frequency.ordinals_of(joined.index)
    index = joined.index if metadata.frequency.is_dated else _whole(metadata, every)
    return SplicedSeries(
        joined.reindex(index).to_numpy(dtype=np.float64),
        index,
        metadata,
        origin.reindex(index),
        pd.concat(overlaps, ignore_index=True),
    )


def _comparable(series: TimeSeries, link: str) -> Metadata:
    """Metadata that parts must share; a link by level must also share the base."""
    metadata = series.metadata
    if link == "level" and metadata.measure == "index" and metadata.base_period:
        return metadata.replace(unit=f"index, {metadata.base_period} = 100")
    return metadata


def _link_part(
    part: TimeSeries, joined: pd.Series, chosen: TimeSeries, link: str, tolerance: float
) -> tuple[pd.Series, float, pd.DataFrame]:
    """Values of a part at the level of the spliced series, the factor or shift, and the overlap."""
    valid = part.values.dropna()
    shared = valid.index.intersection(joined.index)
    if not len(shared) and link != "level":
        raise AlignmentError(
            f"{part.name} ({span_of(valid.index)}) and {chosen.name} ({span_of(joined.index)}) do not overlap, "
            f"so no {link} can be estimated. Use link='level' to join them unchanged."
        )
    mine, theirs = valid.reindex(shared).to_numpy(), joined.reindex(shared).to_numpy()
    factor = {"level": 0.0, "difference": 0.0, "ratio": 1.0}[link]
    if link == "ratio":
        factor = float(theirs.mean() / mine.mean()) if mine.mean() else np.nan
        if not np.isfinite(factor) or factor <= 0:
            raise UnitError(f"{part.name} and {chosen.name} have no positive ratio. Use link='difference'.")
        values = valid * factor
    else:
        factor = float((theirs - mine).mean()) if link == "difference" else 0.0
        values = valid + factor
    gaps = _gaps(values.reindex(shared).to_numpy(), theirs, link)
    _refuse_disagreement(part, chosen, shared, values, theirs, gaps, link, tolerance)
    overlap = pd.DataFrame(
        {
            "period": [period_label(p) for p in shared],
            "part": part.name,
            "other": chosen.name,
            "value": values.reindex(shared).to_numpy(),
            "other_value": theirs,
            "gap": gaps,
        }
    )
    return values, factor, overlap


def _gaps(mine: Floats, theirs: Floats, link: str) -> Floats:
    if link == "difference":
        return mine - theirs
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(mine == theirs, 0.0, (mine - theirs) / np.abs(theirs))


def _refuse_disagreement(
    part: TimeSeries,
    chosen: TimeSeries,
    shared: pd.Index,
    values: pd.Series,
    theirs: Floats,
    gaps: Floats,
    link: str,
    tolerance: float,
) -> None:
    wrong = np.abs(gaps) > tolerance
    if not wrong.any():
        return
    worst = int(np.argmax(np.abs(gaps)))
    amount = f"{gaps[worst]:+.4g}" if link == "difference" else f"{100 * gaps[worst]:+.2f} %"
    limit = f"{tolerance:g}" if link == "difference" else f"{100 * tolerance:g} %"
    fixes = {"level": "link='ratio' or 'difference'", "ratio": "link='difference'"}.get(link, "other parts")
    raise AlignmentError(
        f"{part.name} and {chosen.name} disagree beyond {limit} in {int(wrong.sum())} of {len(shared)} shared "
        f"periods, most in {period_label(shared[worst])}: {values[shared[worst]]:.6g} against "
        f"{theirs[worst]:.6g} ({amount}). Check both; use {fixes}, or a wider tolerance."
    )


def _parts_in_words(parts: tuple[TimeSeries, ...], factors: dict[str, float]) -> str:
    words = []
    for part in parts:
        linked = f" linked by {factors[part.name]:.6g}" if factors.get(part.name) else ""
        source = f" at {part.metadata.address}" if part.metadata.address else ""
        words.append(f"{part.name}{source} {span_of(part.values.dropna().index)}{linked}")
    return "; ".join(words)


def _whole(metadata: Metadata, ordinals: np.ndarray) -> pd.Index:
    if not len(ordinals):
        return metadata.frequency.index(ordinals)
    return metadata.frequency.index(np.arange(ordinals.min(), ordinals.max() + 1))


# Composites: several indicators in one, standardised, oriented and weighted


@dataclass(frozen=True, eq=False, repr=False)
class Composite(TimeSeries):
    """A composite index and its parts.

    Attributes
    ----------
    contributions : DataFrame, shape (T, N)
        Contribution of each part to the index; they sum to it.
    available : Series of int, shape (T,)
        Number of parts with a value.
    percentile : Series, shape (T,)
        Percentile of each value among all values of the index, in percent, with hindsight.
    """

    contributions: pd.DataFrame = field(default_factory=pd.DataFrame)
    available: pd.Series = field(default_factory=lambda: pd.Series(dtype=int))
    percentile: pd.Series = field(default_factory=lambda: pd.Series(dtype=float))

    def extremes(self, percentile: float = 90.0, *, min_length: int = 1) -> pd.DataFrame:
        """Episodes above a percentile, or below the symmetric one, with their ``side``.

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


@validate_arguments
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
    """Composite index: the weighted average of z-scores.

    Parameters
    ----------
    parts : sequence of TimeSeries, or SeriesTable
        Of one frequency.
    orient : mapping, optional
        −1 for a part that falls when the index should rise; 1 otherwise.
    weights : mapping, optional
        Weights by name; by default equal. Scaled to sum to one over the parts available in each period.
    at_least : int, optional
        Minimum number of parts per period; by default all.
    window : str or int
        Sample of the standardisation, as for :func:`standardise`.
    name, title : str
        Name of the result.

    Returns
    -------
    Composite
        From the first to the last period with enough parts.

    Raises
    ------
    AlignmentError
        If no period has enough parts.
    UnitError
        If a name in ``orient`` or ``weights`` is not a part, or a part is a trending level: use the growth of
        prices, indices and stocks.

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
                f"{metadata.name} is a level ({metadata.measure}), whose mean is not meaningful. Use its growth "
                "first."
            )
    signs = np.array([float((orient or {}).get(n, 1)) for n in table.names])
    if not np.isin(signs, (-1.0, 1.0)).all():
        raise UnitError("orient must be 1 or −1 for each part. Use weights= for other weights.")
    shares = np.array([float((weights or {}).get(n, 1.0 if weights is None else 0.0)) for n in table.names])
    if (shares < 0).any() or not shares.sum() > 0:
        raise UnitError("weights must not be negative, and their sum must be positive.")
    scores = standardise(table, window=window)
    block = scores.block * signs
    block[:, shares == 0] = np.nan
    added, count = _part_contributions(block, shares)
    needed = int((shares > 0).sum()) if at_least is None else at_least
    enough = np.flatnonzero(count >= max(needed, 1))
    if not len(enough):
        raise AlignmentError(
            f"No period has {needed} of {', '.join(table.names)}; at most {int(count.max(initial=0))} at once."
        )
    rows = slice(int(enough[0]), int(enough[-1]) + 1)
    gauge = np.where(count >= max(needed, 1), np.nansum(added, axis=1), np.nan)[rows]
    return _gauge(table, scores, gauge, added[rows], count[rows], rows, name, title, needed, window)


def _part_contributions(block: Floats, shares: Floats) -> tuple[Floats, np.ndarray]:
    """Contribution of each part, with its weight scaled to the available parts."""
    there = np.isfinite(block)
    weight = there @ shares
    scaled = shares / np.where(weight > 0, weight, 1.0)[:, None]
    return block * scaled, there.sum(axis=1)


def _gauge(
    table: SeriesTable,
    scores: SeriesTable,
    gauge: Floats,
    added: Floats,
    count: np.ndarray,
    rows: slice,
    name: str,
    title: str,
    needed: int,
    over: str | int,
) -> Composite:
    metadata = scores.metadata[0].replace(
        name=name,
        hindsight=hindsight_of(scores.metadata),
        title=title or f"Composite of {', '.join(table.names)}",
        region="",
        source="",
        address="",
        seasonal_adjustment="",
        release_lag="",
        timing="average",
        notes=(),
        trail=(),
        maturity="",
        quoted="",
        decimals=None,
    )
    for part in table.metadata:
        steps = "; ".join(str(step) for step in part.trail)
        metadata = metadata.add_step("part", name=part.name, at=part.address or None, made=steps or None)
    metadata = metadata.add_step("composite", of=", ".join(table.names), at_least=needed, over=over)
    index = table.index[rows]
    values = pd.Series(gauge, index=index, name=name)
    return Composite(
        np.asarray(values, dtype=np.float64),
        index,
        metadata,
        pd.DataFrame(added, index=index, columns=table.names),
        pd.Series(count, index=index, name="available"),
        (100.0 * values.rank(pct=True, method="max")).rename("percentile"),
    )


def _check_names(table: SeriesTable, given: Mapping[str, float] | None, word: str) -> None:
    unknown = [n for n in given or {} if n not in table.names]
    if unknown:
        raise UnitError(f"{word} names '{unknown[0]}', which is not one of the parts: {choices(table.names)}.")


# Spreads: one rate less another


@validate_arguments
def spread(long: TimeSeries, short: TimeSeries, *, name: str = "") -> TimeSeries:
    """Term spread, credit spread or another rate differential.

    Parameters
    ----------
    long : TimeSeries
        Series to subtract from.
    short : TimeSeries
        Series to subtract.
    name : str
        Name of the result.

    Returns
    -------
    TimeSeries
        The difference.

    Raises
    ------
    UnitError, FrequencyError, CurrencyError
        If frequency, measure, unit, currency or timing differ.
    AlignmentError
        If they have no common period.

    Examples
    --------
    >>> import pandas as pd
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> ten = TimeSeries.from_pandas(pd.Series([0.04, 0.03], months), name="ten", measure="rate")
    >>> bill = TimeSeries.from_pandas(pd.Series([0.03, 0.035], months), name="bill", measure="rate")
    >>> spread(ten, bill).to_pandas().round(4).tolist()
    [0.01, -0.005]
    """
    check_same(long.metadata, short.metadata, "less")
    if long.metadata.timing and short.metadata.timing and long.metadata.timing != short.metadata.timing:
        raise UnitError(
            f"{long.name} is at the {long.metadata.timing} of a {long.metadata.frequency.noun}, {short.name} at "
            f"the {short.metadata.timing}. Convert both to one."
        )
    if long.metadata.measure in ("price", "index", "flow", "stock", "quote"):
        raise UnitError(
            f"{long.name} and {short.name} are {long.metadata.measure} levels; their difference compares "
            "trends. Use the spread of rates, or of growth."
        )
    difference = long - short
    if not difference.values.notna().any():
        raise AlignmentError(
            f"{long.name} ({span_of(long.index)}) and {short.name} ({span_of(short.index)}) have no period in "
            "common."
        )
    return difference.with_metadata(name=name, title="") if name else difference
