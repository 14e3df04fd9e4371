"""Unique column names of series in a table."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from typing import Final

from ultrum.core.series.time_series import TimeSeries
from ultrum.sources.download_and_limits import Address

Parts = Callable[[TimeSeries], str]


def heading(series: TimeSeries) -> str:
    """Title, unit and currency of a series."""
    return f"{series.metadata.heading}{unit_in_brackets(series)}"


def unit_in_brackets(series: TimeSeries) -> str:
    """The currency or unit as headings have it, `` [QML]``; the reader takes it off the name again."""
    metadata = series.metadata
    index = f"index {metadata.base_period}=100" if metadata.base_period else "index"
    unit = metadata.currency or (index if metadata.unit == "index" else metadata.unit)
    return f" [{unit}]" if unit else ""


def unique_headings(series: Sequence[TimeSeries], names: Sequence[str] = ()) -> list[str]:
    """A heading for each series; equal ones get a distinguishing part.

    Parameters
    ----------
    series : sequence of TimeSeries
    names : sequence of str
        Given names; an empty one is replaced by a heading.

    Returns
    -------
    list of str
        Unique, in the order of the series. Added as needed: name, column or part of the address, last step,
        address; finally a number.

    Examples
    --------
    >>> import pandas as pd
    >>> x = TimeSeries.from_pandas(pd.Series([1.0], pd.period_range("2024", periods=1, freq="Y")), title="Price")
    >>> unique_headings([x.with_metadata(name="open"), x.with_metadata(name="close")])
    ['Price, open', 'Price, close']
    """
    headings = [name or heading(one) for one, name in zip(series, [*names, *[""] * len(series)], strict=False)]
    for part in _PARTS:
        counts = Counter(headings)
        shared = {h for h, count in counts.items() if count > 1}
        if not shared:
            return headings
        headings = _add_distinction(series, headings, shared, part)
    return _number_repeats(headings)


def _add_distinction(
    series: Sequence[TimeSeries], headings: Sequence[str], shared: set[str], part: Parts
) -> list[str]:
    """Headings with a part added where the series with an equal heading differ in it."""
    texts = [part(one) for one in series]
    differ = {h: len({t for t, m in zip(texts, headings, strict=True) if m == h}) > 1 for h in shared}
    return [_distinct(h, t) if differ.get(h) and t else h for h, t in zip(headings, texts, strict=True)]


def _distinct(heading_text: str, part: str) -> str:
    """A heading with a part; ``KEL.Close`` in place of ``KEL, KEL.Close``, before the unit."""
    name, bracket, unit = heading_text.partition(" [")
    if part.startswith(f"{name}."):
        return f"{part}{bracket}{unit}"
    return f"{name}, {part}{bracket}{unit}"


def _number_repeats(headings: Sequence[str]) -> list[str]:
    """Equal headings, numbered without a clash."""
    taken: set[str] = set()
    numbered = []
    for text in headings:
        number, heading_text = 1, text
        while heading_text in taken:
            number += 1
            heading_text = f"{text} ({number})"
        taken.add(heading_text)
        numbered.append(heading_text)
    return numbered


def _place(series: TimeSeries) -> str:
    """Column of a table or part of a series, from its address."""
    address = series.metadata.address
    return Address.parse(address).field if ":" in address else ""


def _file(series: TimeSeries) -> str:
    """Name of the file a series is from, without its ending."""
    address = series.metadata.address
    path = Address.parse(address).path if ":" in address else ""
    return path.rsplit("/", 1)[-1].rsplit(".", 1)[0]


def _step(series: TimeSeries) -> str:
    steps = [s for s in series.metadata.trail if s.action not in ("read", "received")]
    return str(steps[-1]) if steps else ""


_PARTS: Final[tuple[Parts, ...]] = (
    lambda s: s.metadata.name,
    _place,
    _file,
    _step,
    lambda s: s.metadata.address,
    lambda s: s.metadata.frequency.name,
)
