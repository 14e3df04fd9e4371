"""Assets against one another: momentum, a benchmark, correlation."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Final

import numpy as np
import pandas as pd
import scipy.stats

from ultrum.core.describe.common import Described, per_year, returns_in, simple_block
from ultrum.core.frequency import months_in, periods_in
from ultrum.core.series import SeriesTable, TimeSeries, period_label, span_of
from ultrum.core.transform.windows import months_before
from ultrum.core.types import Floats, Ints
from ultrum.errors import AlignmentError, CurrencyError, FrequencyError, UnitError

_OLD: Final = 5  # weekdays that a snapshot may lie after the last value


@dataclass(frozen=True, eq=False, repr=False)
class Momentum(Described):
    """Past returns of assets and their ranks.

    Attributes
    ----------
    table : DataFrame
        The last period: each horizon, ``average`` and ``rank`` (1 the highest).
    returns : dict of str to DataFrame
        Return over each horizon, shape (T, N).
    average, ranks : DataFrame, shape (T, N)
    """

    returns: dict[str, pd.DataFrame]
    average: pd.DataFrame
    ranks: pd.DataFrame


@dataclass(frozen=True, eq=False, repr=False)
class Relative(Described):
    """An asset beside its benchmark.

    Attributes
    ----------
    table : DataFrame
        By horizon: ``start end asset benchmark ahead``.
    active : TimeSeries
        Return less the benchmark's, each period.
    tracking_error, information_ratio, information_error : float
        A year.
    """

    active: TimeSeries
    tracking_error: float
    information_ratio: float
    information_error: float


@dataclass(frozen=True, eq=False, repr=False)
class Correlations(Described):
    """Correlations with the number of pairs they rest on.

    Attributes
    ----------
    counts, p_values : DataFrame, shape (N, N)
    rolling : DataFrame
        With a window: a column ``A / B`` for each pair.
    warnings : tuple of str
    """

    counts: pd.DataFrame
    p_values: pd.DataFrame
    rolling: pd.DataFrame = field(default_factory=pd.DataFrame)
    warnings: tuple[str, ...] = ()


def momentum(
    x: SeriesTable | pd.DataFrame,
    horizons: Sequence[str] = ("P3M", "P6M", "P12M"),
    *,
    skip: str = "",
) -> Momentum:
    """Compounded past returns over calendar horizons, averaged and ranked.

    Parameters
    ----------
    x : SeriesTable or DataFrame
        Returns, of months or longer; or prices of any frequency, whose calendar is then used.
    horizons : sequence of str
        Durations.
    skip : str
        What is left out at the end, such as ``"P1M"``; the horizon is counted back from the period itself.

    Returns
    -------
    Momentum
        Missing where a horizon is not whole. Ties share the better rank.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> r = SeriesTable.wrap(pd.DataFrame({"A": [0.1, 0.1, 0.1], "B": [0.0, 0.0, 0.3]}, months), measure="return")
    >>> momentum(r, ["P3M"]).table["rank"].to_dict()
    {'A': 1.0, 'B': 2.0}
    """
    table = x if isinstance(x, SeriesTable) else SeriesTable.wrap(x, measure="return")
    priced = all(a.measure in ("price", "index") for a in table.about)
    if not priced:
        table = returns_in(table, "momentum")
    made = {h: _past(table, h, skip, priced) for h in horizons}
    blocks = np.stack([frame.to_numpy() for frame in made.values()])
    average = pd.DataFrame(blocks.mean(axis=0), index=table.index, columns=table.names)
    ranks = average.rank(axis=1, ascending=False, method="min")
    whole = np.flatnonzero(average.notna().any(axis=1))
    if not len(whole):
        raise AlignmentError(
            f"No period has {', '.join(horizons)} behind it; the series run {span_of(table.index)}."
        )
    last = table.index[whole[-1]]
    shown = pd.DataFrame({h: frame.loc[last] for h, frame in made.items()})
    shown = shown.assign(average=average.loc[last], rank=ranks.loc[last]).sort_values("rank")
    skipped = f", the last {skip} left out" if skip else ""
    return Momentum(
        shown, f"past returns at {period_label(last)}{skipped}; decimals", made, average, ranks
    )


def relative(
    x: TimeSeries, benchmark: TimeSeries, horizons: Sequence[str] = ("P1M", "P3M", "P1Y", "P3Y"), *,
    on: str = "", periods_per_year: float | None = None,
) -> Relative:  # fmt: skip
    """Growth of an asset and its benchmark over the same spans, and how closely it tracks.

    Parameters
    ----------
    x, benchmark : TimeSeries
        Both prices or indices, or both returns, of one frequency and currency.
    horizons : sequence of str
        Durations; those longer than the data are left out.
    on : str
        Day or period at which the spans end; by default the last that both have. One without trading takes
        the last before it, at most five weekdays.
    periods_per_year : float, optional

    Returns
    -------
    Relative
        ``ahead`` is the difference of the two growths.

    Raises
    ------
    AlignmentError
        If the benchmark ends before the asset (say ``on`` to compare up to its end), or they share nothing.
    UnitError
        If one is prices and the other returns, or one includes dividends and the other does not.

    Examples
    --------
    >>> days = pd.period_range("2024-01", periods=3, freq="M")
    >>> a = TimeSeries.wrap(pd.Series([100.0, 110, 121], days), name="A", measure="price")
    >>> b = TimeSeries.wrap(pd.Series([50.0, 50, 60], days), name="B", measure="price")
    >>> relative(a, b, ["P1M", "P2M"]).table["ahead"].round(3).tolist()
    [-0.1, 0.01]
    """
    _check_pair(x, benchmark)
    levels = pd.concat([_level(x), _level(benchmark)], axis=1, keys=["asset", "benchmark"])
    ends = [level.dropna().index[-1] for _, level in levels.items()]
    if not on and ends[1] < ends[0]:
        raise AlignmentError(
            f"{benchmark.name} ends at {period_label(ends[1])}, before {x.name} "
            f"({period_label(ends[0])}). Fetch it anew, or "
            f"say on='{period_label(ends[1])}'."
        )
    both = levels.dropna()
    if len(both) < 3:
        raise AlignmentError(
            f"{x.name} ({span_of(x.index)}) and {benchmark.name} ({span_of(benchmark.index)}) share too little."
        )
    rows, end = _spans(both, x, horizons, on)
    active = _active(x, benchmark)
    years = per_year(active.as_table(), periods_per_year)
    known = active.values.dropna().to_numpy()
    spread = float(known.std(ddof=1))
    ratio = float(known.mean() / spread) if spread > 1e-14 else np.nan
    error = np.sqrt(years * (1 + ratio**2 / 2) / len(known))
    basis = (
        f"{x.about.heading} against {benchmark.about.heading} up to {period_label(end)}; "
        f"tracking error {spread * np.sqrt(years):.4g} "
        f"a year, information ratio {ratio * np.sqrt(years):.3g} (error {error:.2g}), {len(known)} "
        f"{x.about.frequency.noun}s; decimals"
    )
    return Relative(
        rows,
        basis,
        active,
        spread * float(np.sqrt(years)),
        ratio * float(np.sqrt(years)),
        float(error),
    )


def correlations(
    x: SeriesTable | pd.DataFrame, *, rows: str = "pairwise", window: int | None = None
) -> Correlations:
    """Correlations of series, each with its number of pairs and a p value.

    Parameters
    ----------
    x : SeriesTable or DataFrame
        Returns, rates, growth or scores. Levels are taken too, with a warning, since two trends correlate
        whatever they are.
    rows : {"pairwise", "complete"}
        Every pair over the periods both have, or all over those that every series has.
    window : int, optional
        Periods of a rolling correlation of every pair.

    Returns
    -------
    Correlations
        p values are of Student's t with n − 2 degrees, for independent periods.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=4, freq="M")
    >>> frame = pd.DataFrame({"A": [1.0, 2, 3, 4], "B": [2.0, 4, 6, 8]}, months)
    >>> correlations(SeriesTable.wrap(frame, measure="score")).table.loc["A", "B"].round(6).item()
    1.0
    """
    table = x if isinstance(x, SeriesTable) else SeriesTable.wrap(x, measure="return")
    if rows not in ("pairwise", "complete"):
        raise UnitError(f"rows='{rows}' is not known; it is pairwise or complete.")
    frame = table.values.dropna() if rows == "complete" else table.values
    if len(frame) < 3:
        raise AlignmentError(f"Only {len(frame)} periods have every series; take rows='pairwise'.")
    matrix, counts = _pairwise(frame.to_numpy(dtype=np.float64))
    with np.errstate(divide="ignore", invalid="ignore"):
        t = matrix * np.sqrt((counts - 2) / (1 - matrix**2))
    p = np.where(counts > 2, 2 * scipy.stats.t.sf(np.abs(t), np.maximum(counts - 2, 1)), np.nan)
    np.fill_diagonal(p, np.nan)
    levels = [a.name for a in table.about if a.measure in ("price", "index", "stock", "quote")]
    warnings: tuple[str, ...] = ()
    if levels:
        warnings = (
            f"{', '.join(levels[:5])} are levels; two that trend correlate whatever they are. "
            "Take growth(x) first.",
        )
    rolled = _rolling(frame, window) if window else pd.DataFrame()
    basis = "; ".join([f"{table.frequency.name}, {span_of(frame.index)}, {rows} rows", *warnings])
    return Correlations(
        _square(matrix, table.names),
        basis,
        _square(counts, table.names),
        _square(p, table.names),
        rolled,
        warnings,
    )


def _square(block: Any, names: list[str]) -> pd.DataFrame:
    return pd.DataFrame(block, index=names, columns=names)


def _past(table: SeriesTable, horizon: str, skip: str, priced: bool) -> pd.DataFrame:
    """Compounded return of the horizon that ends at each row, the skipped end left out."""
    ordinals = table.ordinals
    if table.frequency.is_dated:
        if not priced:
            raise FrequencyError(
                "Momentum over calendar horizons takes daily prices, not daily returns."
            )
        days = table.frequency.starts(ordinals)
        start = _row_before(days, months_before(days, _months(horizon)))
        end = (
            _row_before(days, months_before(days, _months(skip))) if skip else np.arange(len(days))
        )
    else:
        width = periods_in(horizon, table.frequency)
        ago = periods_in(skip, table.frequency) if skip else 0
        if ago >= width:
            raise FrequencyError(f"skip={skip} leaves nothing of {horizon}.")
        start, end = _row_at(ordinals, ordinals - width), _row_at(ordinals, ordinals - ago)
    if priced:
        levels = table.block
        there = (start >= 0) & (end >= 0)
        made = np.where(there[:, None], levels[end] / levels[start] - 1.0, np.nan)
        return pd.DataFrame(made, index=table.index, columns=table.names)
    return pd.DataFrame(_compounded(table, width, ago), index=table.index, columns=table.names)


def _months(duration: str) -> int:
    months = months_in(duration)
    if not months:
        raise FrequencyError(f"'{duration}' is no whole number of months; write P3M or P1Y.")
    return months


def _compounded(table: SeriesTable, width: int, ago: int) -> Floats:
    """∏(1+r) − 1 over the rows from t − width + 1 to t − ago, by the calendar."""
    growth = 1.0 + simple_block(table)
    first, last = table.ordinals[0], table.ordinals[-1]
    every = np.full((int(last - first) + 1, growth.shape[1]), np.nan)
    every[table.ordinals - first] = growth
    made = np.full(every.shape, np.nan)
    if len(every) >= width:
        views = np.lib.stride_tricks.sliding_window_view(every, width, axis=0)[:, :, : width - ago]
        made[width - 1 :] = np.prod(views, axis=-1) - 1.0
    return np.asarray(made[table.ordinals - first])


def _row_at(ordinals: Ints, wanted: Ints) -> Ints:
    place = np.searchsorted(ordinals, wanted)
    safe = np.minimum(place, len(ordinals) - 1)
    return np.where(ordinals[safe] == wanted, safe, -1)


def _row_before(days: Any, wanted: Any) -> Ints:
    place = np.searchsorted(days, wanted, side="right") - 1
    fresh = (
        np.busday_count(days[np.maximum(place, 0)], np.maximum(wanted, days[np.maximum(place, 0)]))
        <= _OLD
    )
    return np.where((place >= 0) & fresh, place, -1)


def _check_pair(x: TimeSeries, benchmark: TimeSeries) -> None:
    a, b = x.about, benchmark.about
    if a.frequency != b.frequency:
        raise FrequencyError(
            f"{a.name} is {a.frequency.name}, {b.name} {b.frequency.name}: bring both to one with to_frequency."
        )
    if a.is_return != b.is_return:
        raise UnitError(
            f"{a.name} is a {a.measure}, {b.name} a {b.measure}; compare prices with prices, "
            "returns with returns."
        )
    if a.currency and b.currency and a.currency != b.currency:
        raise CurrencyError(
            f"{a.name} is in {a.currency}, {b.name} in {b.currency}: convert one with to_currency first."
        )
    if a.income and b.income and a.income != b.income:
        raise UnitError(
            f"{a.name} is a {a.income} return, {b.name} a {b.income} return: one leaves "
            "dividends out. Take the total-return index."
        )


def _level(x: TimeSeries) -> pd.Series:
    if not x.about.is_return:
        return x.values
    simple = pd.Series(simple_block(x.as_table())[:, 0], x.index)
    return (1.0 + simple.fillna(0.0)).cumprod().where(simple.notna())


def _active(x: TimeSeries, benchmark: TimeSeries) -> TimeSeries:
    parts = []
    for one in (x, benchmark):
        values = one.values.dropna() if not one.about.is_return else one.values
        parts.append(values.pct_change().iloc[1:] if not one.about.is_return else values)
    a, b = parts[0].align(parts[1], join="inner")
    about = x.about.changed(name=f"{x.name}_less_{benchmark.name}", measure="return", unit="decimal",
                            timing="total", income="", excess_of="zero cost")  # fmt: skip
    return TimeSeries(
        (a - b).rename(about.name), about.stepped("relative", benchmark=benchmark.name)
    )


def _spans(
    both: pd.DataFrame, x: TimeSeries, horizons: Sequence[str], on: str
) -> tuple[pd.DataFrame, Any]:
    frequency = x.about.frequency
    ordinals = frequency.ordinals_of(both.index)
    days = frequency.ends(ordinals)
    asked = np.datetime64(pd.Timestamp(on), "D") if on and len(on) > 7 else None
    last = len(both) - 1
    if asked is not None:
        last = int(_row_before(days, np.array([asked]))[0])
    elif on:
        last = int(_row_at(ordinals, frequency.ordinals([pd.Period(on).end_time]))[0])
    if last < 0:
        raise AlignmentError(
            f"Neither {on} nor the five weekdays before it have both values; they run {span_of(both.index)}."
        )
    rows = {}
    for horizon in horizons:
        if frequency.is_dated:
            start = int(
                _row_before(days, months_before(days[last : last + 1], _months(horizon)))[0]
            )
        else:
            start = int(
                _row_at(ordinals, ordinals[last : last + 1] - periods_in(horizon, frequency))[0]
            )
        if start >= 0:
            grown = both.iloc[last] / both.iloc[start] - 1.0
            rows[horizon] = {
                "start": period_label(both.index[start]), "end": period_label(both.index[last]),
                "asset": grown["asset"], "benchmark": grown["benchmark"],
                "ahead": grown["asset"] - grown["benchmark"],
            }  # fmt: skip
    if not rows:
        raise AlignmentError(
            f"No horizon of {', '.join(horizons)} fits into {span_of(both.index)}."
        )
    return pd.DataFrame(rows).T.infer_objects(), both.index[last]


def _pairwise(block: Floats) -> tuple[Floats, Ints]:
    """Correlations over the rows each pair has, centred for each pair, and their number."""
    count = block.shape[1]
    matrix, counts = np.full((count, count), np.nan), np.zeros((count, count), dtype=np.int64)
    valid = np.isfinite(block)
    for i in range(count):
        for j in range(i, count):
            both = valid[:, i] & valid[:, j]
            counts[i, j] = counts[j, i] = int(both.sum())
            if counts[i, j] < 3:
                continue
            a, b = block[both, i], block[both, j]
            a, b = a - a.mean(), b - b.mean()
            size = float(np.sqrt((a @ a) * (b @ b)))
            if size > 0:
                matrix[i, j] = matrix[j, i] = float(np.clip(a @ b / size, -1.0, 1.0))
    return matrix, counts


def _rolling(frame: pd.DataFrame, window: int) -> pd.DataFrame:
    """Correlation of every pair over moving windows, each from its own rows."""
    if window < 3 or len(frame) < window:
        raise UnitError(
            f"A window of {window} does not fit {len(frame)} periods, or is below three."
        )
    views = np.lib.stride_tricks.sliding_window_view(
        frame.to_numpy(dtype=np.float64), window, axis=0
    )
    off = views - views.mean(axis=-1, keepdims=True)
    size = np.sqrt((off**2).sum(axis=-1))
    made = {}
    names = [str(c) for c in frame]
    for i in range(len(names)):
        for j in range(i + 1, len(names)):
            with np.errstate(divide="ignore", invalid="ignore"):
                made[f"{names[i]} / {names[j]}"] = (off[:, i] * off[:, j]).sum(axis=-1) / (
                    size[:, i] * size[:, j]
                )
    return pd.DataFrame(made, index=frame.index[window - 1 :])
