"""Lags, fills, innovations, and spells of a condition."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import refuse_idle_options, validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.deprecated_names import RenamedColumns
from ultrum.core.presentation import quantity
from ultrum.core.regression.engine.least_squares import coefficients
from ultrum.core.series.input_checks import on_block, series_in
from ultrum.core.series.metadata import hindsight_of
from ultrum.core.series.time_series import SeriesLike, SeriesTable, TimeSeries
from ultrum.core.time.frequency import periods_in
from ultrum.core.time.index_frequency_and_gaps import positions_of
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import EstimationError, FrequencyError, UnitError


@on_block(plain="")
@validate_arguments
def lag(x: SeriesTable, over: str | int = 1) -> SeriesTable:
    """Lags: values dated at later periods; no value is lost.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        The series to lag.
    over : str or int
        Number of periods, or a duration such as ``"P3M"``.

    Returns
    -------
    SeriesTable
        Data dated at the later periods.

    Examples
    --------
    >>> import ultrum as ul
    >>> import pandas as pd
    >>> x = pd.Series([1.0, 2.0], pd.period_range("2024-01", periods=2, freq="M"))
    >>> lag(ul.TimeSeries.from_pandas(x, measure="score")).to_pandas().index[-1]
    Period('2024-03', 'M')
    """
    count = int(over) if str(over).isdigit() else periods_in(str(over), x.frequency)
    if count < 1:
        raise FrequencyError(
            f"lag: over={count} would use contemporaneous or future values (look-ahead). Set over to 1 or more."
        )
    if x.frequency.code in "HN":
        raise FrequencyError("Intraday series are not lagged by periods; convert them to days.")
    index = x.frequency.index(x.ordinals + count)
    return SeriesTable.from_arrays(x.block.copy(), index, [a.add_step("lagged", by=over) for a in x.metadata])


@on_block()
@validate_arguments
def fill(
    x: SeriesTable, how: Literal["forward", "backward", "none"] = "forward", *, limit: int | None = None
) -> SeriesTable:
    """Forward fill (ffill) or backward fill (bfill) of missing values; the provenance counts them.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        The series to lag.
    how : {"forward", "backward", "none"}
        With ``"none"`` unlisted periods are only inserted, as missing.
    limit : int, optional
        Maximum number of consecutive periods to fill.

    Returns
    -------
    SeriesTable
        Data with fewer gaps.

    Raises
    ------
    UnitError
        If a flow or a return would be repeated, which would count it twice.

    Examples
    --------
    >>> import ultrum as ul
    >>> import numpy as np, pandas as pd
    >>> x = pd.Series([1.0, np.nan, np.nan], pd.period_range("2024-01", periods=3, freq="M"))
    >>> filled = fill(ul.TimeSeries.from_pandas(x, measure="rate", timing="end"), limit=1)
    >>> filled.to_pandas().tolist(), str(filled.metadata.trail[-1])
    ([1.0, 1.0, nan], 'filled (how forward, limit 1, values 1)')
    """
    for metadata in x.metadata:
        if how != "none" and (metadata.measure == "flow" or metadata.is_return):
            raise UnitError(
                f"{metadata.name} holds {metadata.measure.replace('_', ' ')}s; repeating a value would count it "
                "twice. Set how= to another method."
            )
    frame = x.values
    if not x.frequency.is_dated and len(x.index):
        every = np.arange(x.ordinals[0], x.ordinals[-1] + 1)
        frame = frame.reindex(x.frequency.index(every))
    if how == "none":
        refuse_idle_options("how='none'", limit=limit)
    filled = {"forward": frame.ffill, "backward": frame.bfill}
    filled_frame = filled[how](limit=limit) if how in filled else frame
    counts = (frame.isna() & filled_frame.notna()).sum().to_numpy()
    metadata_list = [
        a.add_step(
            "filled",
            {"hindsight": hindsight_of([a], "filled backwards" if how == "backward" and c else "")},
            how=how,
            limit=limit,
            values=int(c),
        )
        for a, c in zip(x.metadata, counts, strict=True)
    ]
    return SeriesTable.from_arrays(
        np.array(filled_frame.to_numpy(dtype=np.float64)), filled_frame.index, metadata_list
    )


# Innovations: the part of a series that its own past does not predict

_FIRST_EXPANDING: Final = 60  # values of the first expanding estimate


@on_block()
@validate_arguments
def innovations(
    x: SeriesTable,
    *,
    most_lags: int | None = None,
    criterion: Literal["bic", "aic"] = "bic",
    sample: Literal["all", "expanding"] = "all",
    min_obs: int | None = None,
) -> SeriesTable:
    """AR(p) innovations (shocks, the unexpected component), with the order by an information criterion.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Rates, growth rates, scores; a trending level has no meaningful innovations.
    most_lags : int, optional
        Maximum number of lags; by default floor(12·(T/100)^(1/4)) (Schwert 1989), and at most a quarter of the
        values. For an expanding sample T is ``min_obs``: no past value may depend on the length of the sample.
    criterion : {"bic", "aic"}
        T·log(RSS/T) plus log(T) or 2 per coefficient, on a common sample (Schwarz 1978; Akaike 1974).
    sample : {"all", "expanding"}
        ``"all"`` estimates once on the full sample, with hindsight. ``"expanding"`` forecasts each period from an
        autoregression selected and estimated on the earlier periods.
    min_obs : int, optional
        Observations of the first expanding estimate, by default 60.

    Returns
    -------
    TimeSeries or SeriesTable
        Missing at periods with a missing lag.

    Raises
    ------
    UnitError
        If ``x`` is a price, index, stock or quote.
    EstimationError
        If there are too few values.

    Examples
    --------
    >>> import numpy as np, pandas as pd
    >>> noise = np.random.default_rng(0).normal(size=200)
    >>> x = pd.Series(noise, pd.period_range("2004-01", periods=200, freq="M"))
    >>> made = innovations(TimeSeries.from_pandas(x, measure="rate"))
    >>> dict(made.metadata.trail[-1].settings)["lags"]
    '0'
    """
    if sample == "all":
        refuse_idle_options("sample='all'", min_obs=min_obs)
    least = _FIRST_EXPANDING if min_obs is None else min_obs
    parts = []
    for name in x.names:
        metadata = x[name].metadata
        if metadata.measure in ("price", "index", "stock", "quote"):
            raise UnitError(f"{name} is a level ({metadata.measure}). Use its growth first.")
        values, lags = _of_one(x[name], most_lags, criterion, sample, least)
        whole = "autoregression of the whole sample" if sample == "all" else ""
        facts = {"hindsight": hindsight_of([metadata], whole)}
        metadata_after = metadata.add_step("innovations", facts, lags=lags, criterion=criterion, sample=sample)
        parts.append(TimeSeries.from_arrays(values, x.index, metadata_after))
    return SeriesTable.of(parts)


def _of_one(
    series: TimeSeries, most_lags: int | None, criterion: str, sample: str, min_obs: int
) -> tuple[Floats, int | str]:
    values, rows = _on_calendar(series)
    count = int(np.isfinite(values).sum())
    first = count if sample == "all" else min_obs
    most = min(int(12 * (first / 100) ** 0.25), first // 4) if most_lags is None else most_lags
    if count < 2 * (most + 2):
        raise EstimationError(
            f"{series.name} has {quantity(count, 'value')}, too few for an autoregression of up to {most} lags."
        )
    lagged = _lag_matrix(values, most)
    if sample == "all":
        order = _order(values, lagged, most, criterion)
        residuals = np.full(len(values), np.nan)
        used = np.isfinite(values) & np.isfinite(lagged[:, : order + 1]).all(axis=1)
        design = lagged[used, : order + 1]
        residuals[used] = values[used] - design @ coefficients(design, values[used])
        return residuals[rows], order
    residuals = _expanding(values, lagged, most, criterion, min_obs)[rows]
    if not np.isfinite(residuals).any():
        raise EstimationError(
            f"{series.name} has {quantity(count, 'value')}; no forecast has min_obs={min_obs} before it."
        )
    return residuals, "chosen again each period"


def _on_calendar(series: TimeSeries) -> tuple[Floats, Ints]:
    """Values on every period from first to last, and the positions of the listed ones."""
    if not len(series):
        return series.values.to_numpy(dtype=np.float64), np.arange(0)
    positions = positions_of(series.metadata.frequency, series.index)
    rows = positions - positions[0]
    values = np.full(int(rows[-1]) + 1, np.nan)
    values[rows] = series.values.to_numpy()
    return values, rows


def _lag_matrix(values: Floats, most: int) -> Floats:
    """A constant and the lags of each period, missing before the first observation."""
    columns = np.full((len(values), most + 1), np.nan)
    columns[:, 0] = 1.0
    for lag in range(1, most + 1):
        columns[lag:, lag] = values[:-lag]
    return columns


def _order(values: Floats, lagged: Floats, most: int, criterion: str) -> int:
    """Order with the smallest criterion, with all orders on a common sample."""
    used = np.isfinite(values) & np.isfinite(lagged).all(axis=1)
    y, x = values[used], lagged[used]
    count = len(y)
    if count < most + 3:
        raise EstimationError(f"Only {quantity(count, 'period')} with all {most} lags. Use fewer lags.")
    q = np.linalg.qr(x)[0]  # the first columns of Q span the first columns of X
    left = float(y @ y) - np.cumsum((q.T @ y) ** 2)
    spread = np.maximum(left, np.finfo(float).tiny) / count
    price = np.log(count) if criterion == "bic" else 2.0
    return int(np.argmin(count * np.log(spread) + price * np.arange(1, most + 2)))


def _expanding(values: Floats, lagged: Floats, most: int, criterion: str, min_obs: int) -> Floats:
    residuals = np.full(len(values), np.nan)
    counts = np.cumsum(np.isfinite(values))
    for row in range(1, len(values)):
        if counts[row - 1] < max(min_obs, 2 * (most + 2)) or not np.isfinite(values[row]):
            continue
        order = _order(values[:row], lagged[:row], most, criterion)
        past = np.isfinite(values[:row]) & np.isfinite(lagged[:row, : order + 1]).all(axis=1)
        now = lagged[row, : order + 1]
        if np.isfinite(now).all():
            fitted = coefficients(lagged[:row, : order + 1][past], values[:row][past])
            residuals[row] = values[row] - now @ fitted
    return residuals


# Spells

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
