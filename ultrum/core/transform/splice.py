"""Splicing: partial histories of one indicator joined after their overlap is compared."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats
from ultrum.core.series.metadata import Metadata, check_same
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.time.period_labels import period_label, span_of
from ultrum.errors import AlignmentError, UnitError, one_of

LINKS: Final = ("level", "ratio", "difference")


@dataclass(frozen=True, eq=False, repr=False)
class SplicedSeries(TimeSeries):
    """A series made of several, with the origin of each value.

    Attributes
    ----------
    origin : Series, shape (T,)
        Name of the part each value came from.
    overlap : DataFrame
        A row for each period that two parts share: ``period part other value other_value gap``, the
        values after linking and the gap between them, relative (level and ratio) or in units.
    """

    origin: pd.Series = field(default_factory=lambda: pd.Series(dtype=object))
    overlap: pd.DataFrame = field(default_factory=pd.DataFrame)


@checked
def splice(
    *parts: TimeSeries,
    link: str = "level",
    prefer: str = "last",
    tolerance: float = 0.01,
    name: str = "",
) -> SplicedSeries:
    """Make one series of several.

    Parameters
    ----------
    *parts : TimeSeries
        Of one frequency, measure, unit and currency; in order of time.
    link : {"level", "ratio", "difference"}
        ``"level"`` takes the values as they are. ``"ratio"`` multiplies each less preferred part so that
        the means of its overlap with what is there agree; ``"difference"`` adds.
    prefer : {"last", "first"}
        Which part's values stand, and whose level holds, where several have one.
    tolerance : float
        Greatest gap in an overlap: relative to the preferred value for level and ratio, in units of the
        series for difference.
    name : str
        By default that of the preferred part.

    Returns
    -------
    SplicedSeries
        The joined series, with its links.

    Raises
    ------
    AlignmentError
        If an overlap disagrees beyond the tolerance, saying where; or if there is none to link over.

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
        values, factor, overlap = _linked(part, joined, ranked[0], link, tolerance)
        more = values[~values.index.isin(joined.index)]
        joined = pd.concat([joined, more]).sort_index()
        origin = pd.concat([origin, pd.Series(part.name, index=more.index, dtype=object)])
        overlaps.append(overlap)
        factors[part.name] = factor
    metadata = ranked[0].metadata.stepped(
        "spliced", {"name": name or ranked[0].name}, link=link, prefer=prefer,
        parts=_parts_in_words(parts, factors),
        overlap=sum(len(o) for o in overlaps) or "none, not compared",
    )  # fmt: skip
    every = metadata.frequency.ordinals_of(joined.index)
    index = joined.index if metadata.frequency.is_dated else _whole(metadata, every)
    return SplicedSeries(
        joined.reindex(index).rename(metadata.name),
        metadata,
        origin.reindex(index),
        pd.concat(overlaps, ignore_index=True),
    )


def _comparable(series: TimeSeries, link: str) -> Metadata:
    """Facts that parts must share; a link by level must also share the base."""
    metadata = series.metadata
    if link == "level" and metadata.measure == "index" and metadata.base_period:
        return metadata.changed(unit=f"index, {metadata.base_period} = 100")
    return metadata


def _linked(
    part: TimeSeries, joined: pd.Series, chosen: TimeSeries, link: str, tolerance: float
) -> tuple[pd.Series, float, pd.DataFrame]:
    """Values of a part on the level of what is there, the factor or shift, and the overlap."""
    valid = part.values.dropna()
    shared = valid.index.intersection(joined.index)
    if not len(shared) and link != "level":
        raise AlignmentError(
            f"{part.name} ({span_of(valid.index)}) and {chosen.name} ({span_of(joined.index)}) do not overlap, "
            "so "
            f"there is nothing to find a {link} from; link='level' joins them as they are."
        )
    mine, theirs = valid.reindex(shared).to_numpy(), joined.reindex(shared).to_numpy()
    factor = {"level": 0.0, "difference": 0.0, "ratio": 1.0}[link]
    if link == "ratio":
        factor = float(theirs.mean() / mine.mean()) if mine.mean() else np.nan
        if not np.isfinite(factor) or factor <= 0:
            raise UnitError(f"{part.name} and {chosen.name} have no positive ratio; link='difference'.")
        values = valid * factor
    else:
        factor = float((theirs - mine).mean()) if link == "difference" else 0.0
        values = valid + factor
    gaps = _gaps(values.reindex(shared).to_numpy(), theirs, link)
    _refuse_disagreement(part, chosen, shared, values, theirs, gaps, link, tolerance)
    overlap = pd.DataFrame({
        "period": [period_label(p) for p in shared], "part": part.name, "other": chosen.name,
        "value": values.reindex(shared).to_numpy(), "other_value": theirs, "gap": gaps,
    })  # fmt: skip
    return values, factor, overlap


def _gaps(mine: Floats, theirs: Floats, link: str) -> Floats:
    if link == "difference":
        return mine - theirs
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(mine == theirs, 0.0, (mine - theirs) / np.abs(theirs))


def _refuse_disagreement(
    part: TimeSeries, chosen: TimeSeries, shared: pd.Index, values: pd.Series, theirs: Floats,
    gaps: Floats, link: str, tolerance: float,
) -> None:  # fmt: skip
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
        f"{theirs[worst]:.6g} ({amount}). Look at both, take {fixes}, or a wider tolerance."
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
