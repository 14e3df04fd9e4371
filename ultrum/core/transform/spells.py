"""Episodes (spells): runs of consecutive periods in which a condition holds."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar, Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats
from ultrum.core.deprecated_names import RenamedColumns
from ultrum.core.series.series_or_table import series_in
from ultrum.core.series.time_series import SeriesLike, TimeSeries
from ultrum.core.time.index_frequency_and_gaps import positions_of
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import UnitError

_WORDS: Final = re.compile(
    r"(?P<side>below|above|at most|at least)\s+(?:(?P<zero>zero)|its\s+(?P<rank>\d+(?:\.\d+)?)(?:st|nd|rd|th)"
    r"\s+percentile|its\s+(?P<middle>mean|median)|(?P<number>[-+−]?\d*\.?\d+(?:e[-+]?\d+)?)\s*(?P<percent>%)?)",
    re.IGNORECASE,
)
_COLUMNS: Final = ["start", "end", "length", "extreme_distance", "extreme_date", "open"]


class _SpellTable(RenamedColumns):
    old_names: ClassVar = {"depth": "extreme_distance", "deepest": "extreme_date"}


@dataclass(frozen=True)
class Condition:
    """A side and a level, such as below 0.0."""

    side: str
    level: float
    words: str

    def holds(self, values: Floats) -> Bools:
        """Where values meet the condition; never where they are missing."""
        with np.errstate(invalid="ignore"):
            return {
                "below": values < self.level,
                "above": values > self.level,
                "at most": values <= self.level,
                "at least": values >= self.level,
            }[self.side]

    @property
    def downward(self) -> bool:
        """Whether low values meet the condition."""
        return self.side in ("below", "at most")


def condition_of(text: str, series: TimeSeries) -> Condition:
    """Parse a condition such as ``below zero`` or ``above its 90th percentile``.

    Raises
    ------
    UnitError
        If the text is not a condition.

    Examples
    --------
    >>> x = TimeSeries.from_pandas(pd.Series([0.0, 1, 2], pd.period_range("2024-01", periods=3, freq="M")))
    >>> condition_of("above its median", x).level
    1.0
    """
    match = _WORDS.fullmatch(text.strip())
    if not match:
        raise UnitError(
            f"'{text}' is not a condition. Write 'below zero', 'above 2 %', 'at least 1.5', "
            "'above its 90th percentile', 'below its mean' or 'below its median'."
        )
    values = series.values.dropna().to_numpy()
    if not len(values):
        raise UnitError(f"{series.name} has no values, so the condition cannot be evaluated.")
    side = match["side"].lower()
    if match["zero"]:
        level = 0.0
    elif match["rank"]:
        level = float(np.percentile(values, _rank(match["rank"])))
    elif match["middle"]:
        level = float(np.mean(values) if match["middle"].lower() == "mean" else np.median(values))
    else:
        level = float(match["number"].replace("−", "-"))
        if match["percent"]:
            if series.metadata.unit != "decimal":
                raise UnitError(
                    f"{series.name} is in {series.metadata.unit or 'no known unit'}; a condition in percent "
                    "needs a rate, a return or a score."
                )
            level /= 100.0
    if not np.isfinite(level):
        raise UnitError(f"'{text}' compares with {level}. Write a finite number.")
    if match["number"] and not match["percent"]:
        _refuse_percent(series, values, level, match["number"])
    return Condition(side, level, text.strip())


def _refuse_percent(series: TimeSeries, values: Floats, level: float, number: str) -> None:
    """Refuse a level that no value of a series in decimals reaches, but that is among them as percent."""
    if series.metadata.unit != "decimal" or not len(values):
        return
    low, high = float(values.min()), float(values.max())
    if not low <= level <= high and low <= level / 100.0 <= high and level:
        raise UnitError(
            f"{series.name} is in decimals, {low:.4g} to {high:.4g}, so {number} is outside. Write {number} % "
            f"for {level / 100.0:g}."
        )


@validate_arguments
def spells(x: SeriesLike | pd.Series, condition: str, *, min_length: int = 1) -> pd.DataFrame:
    """Episodes: runs of consecutive periods in which a condition holds.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        The series.
    condition : str
        ``below`` or ``above``, ``at most`` or ``at least``, and a level: ``zero``, a number, a number with ``%``,
        or ``its mean``, ``its median``, ``its 90th percentile``, each over the full sample.
    min_length : int
        Shorter episodes are omitted.

    Returns
    -------
    DataFrame
        One row per spell: ``start end length extreme_distance extreme_date open``. The extreme distance is the
        largest from the threshold, in the unit of the series; ``open`` marks an episode that lasts until the end
        of the data. A missing value ends an episode. For a table, with the column ``series`` first.

    Examples
    --------
    >>> x = pd.Series([1.0, -1, -2, 1], pd.period_range("2024-01", periods=4, freq="M"))
    >>> found = spells(TimeSeries.from_pandas(x, measure="rate"), "below zero")
    >>> found[["start", "end", "length"]].values.tolist()
    [['2024-02', '2024-03', 2]]
    """
    x = series_in(x) if isinstance(x, pd.Series) else x
    if not isinstance(x, TimeSeries):
        parts = [spells(x[n], condition, min_length=min_length).assign(series=n) for n in x.names]
        return _SpellTable(pd.concat(parts, ignore_index=True)[["series", *_COLUMNS]])
    parsed = condition_of(condition, x)
    values = x.values.to_numpy(dtype=np.float64)
    rows = [
        _row(x, values, first, last, parsed)
        for first, last in _stretches(parsed.holds(values), x)
        if last - first + 1 >= min_length
    ]
    table = _SpellTable(pd.DataFrame(rows, columns=_COLUMNS))
    table.attrs.update(condition=parsed.words, level=parsed.level, series=x.name)
    return table


def _rank(text: str) -> float:
    rank = float(text)
    if not 0 <= rank <= 100:
        raise UnitError(f"A percentile is between 0 and 100, not at {text}.")
    return rank


def _stretches(holds: Bools, x: TimeSeries) -> list[tuple[int, int]]:
    """First and last rows; unlisted periods end an episode."""
    rows = np.flatnonzero(holds)
    if not len(rows):
        return []
    torn = np.diff(rows) != 1
    torn |= np.diff(positions_of(x.metadata.frequency, x.index)[rows]) != 1
    edges = np.flatnonzero(torn)
    firsts, lasts = rows[np.append(0, edges + 1)], rows[np.append(edges, len(rows) - 1)]
    return list(zip(firsts.tolist(), lasts.tolist(), strict=True))


def _row(x: TimeSeries, values: Floats, first: int, last: int, condition: Condition) -> list[object]:
    inside = values[first : last + 1]
    at = int(np.argmin(inside) if condition.downward else np.argmax(inside))
    last_valid = np.flatnonzero(np.isfinite(values))[-1]
    labels = [period_label(x.index[row]) for row in (first, last, first + at)]
    depth = abs(float(inside[at]) - condition.level)
    return [labels[0], labels[1], last - first + 1, depth, labels[2], bool(last == last_valid)]
