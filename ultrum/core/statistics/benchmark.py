"""Comparison of an asset with its benchmark."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.rounding import without_rounding
from ultrum.core.series.series_or_table import refuse_no_values
from ultrum.core.series.time_series import TimeSeries
from ultrum.core.statistics.horizons import months_of, row_at
from ultrum.core.statistics.return_samples import Described, per_year, simple_block
from ultrum.core.time.date_parser import day_in
from ultrum.core.time.durations import periods_in
from ultrum.core.time.gaps import positions_of
from ultrum.core.time.period_labels import period_label, span_of
from ultrum.core.transform.window_bounds import months_before, row_before
from ultrum.errors import AlignmentError, CurrencyError, FrequencyError, UnitError, listed

_A_RETURN: Final = np.array(0.01)  # beside which differences of returns are rounding


@dataclass(frozen=True, eq=False, repr=False)
class Relative(Described):
    """An asset compared with its benchmark.

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


@checked
def compare_to_benchmark(
    x: TimeSeries, benchmark: TimeSeries, horizons: Sequence[str] = ("P1M", "P3M", "P1Y", "P3Y"), *,
    on: str | None = None, periods_per_year: float | None = None,
) -> Relative:  # fmt: skip
    """Growth of an asset and its benchmark over the same spans, and how closely it tracks.

    Parameters
    ----------
    x, benchmark : TimeSeries
        Both prices or indices, or both returns, of one frequency and currency.
    horizons : sequence of str
        Durations; those longer than the data, or with a missing return inside, are left out.
    on : str
        Day or period at which the spans end; by default the last that both have. One without trading takes
        the last before it, at most five weekdays.
    periods_per_year : float, optional
        For the annual tracking error; by default as the data have.

    Returns
    -------
    Relative
        ``ahead`` is the difference of the two growths.

    Raises
    ------
    AlignmentError
        If the benchmark ends before the asset (set ``on`` to compare up to its end), or they share nothing.
    UnitError
        If one is prices and the other returns, or one includes dividends and the other does not.

    Examples
    --------
    >>> days = pd.period_range("2024-01", periods=3, freq="M")
    >>> a = TimeSeries.from_pandas(pd.Series([100.0, 110, 121], days), name="A", measure="price")
    >>> b = TimeSeries.from_pandas(pd.Series([50.0, 50, 60], days), name="B", measure="price")
    >>> compare_to_benchmark(a, b, ["P1M", "P2M"]).table["ahead"].round(3).tolist()
    [-0.1, 0.01]
    """
    _check_pair(x, benchmark)
    refuse_no_values("compare_to_benchmark", x, benchmark)
    levels = pd.concat([_level(x), _level(benchmark)], axis=1, keys=["asset", "benchmark"])
    ends = [level.dropna().index[-1] for _, level in levels.items()]
    if not on and ends[1] < ends[0]:
        raise AlignmentError(
            f"{benchmark.name} ends at {period_label(ends[1])}, before {x.name} "
            f"({period_label(ends[0])}). Fetch it again, or "
            f"set on='{period_label(ends[1])}'."
        )
    both = levels.dropna()
    if len(both) < 3:
        raise AlignmentError(
            f"{x.name} ({span_of(x.index)}) and {benchmark.name} ({span_of(benchmark.index)}) share too little."
        )
    holes = pd.concat([_holes(x), _holes(benchmark)], axis=1).ffill().fillna(0.0).sum(axis=1)
    rows, end, torn = _spans(both, x, horizons, on or "", holes)
    active = _active(x, benchmark)
    active = TimeSeries(active.values.loc[:end], active.metadata)  # nothing of after the day
    years = float(per_year(active.as_table(), periods_per_year)[0])
    active_returns = active.values.dropna().to_numpy()
    spread = float(without_rounding(active_returns.std(ddof=1), _A_RETURN))
    ratio = float(active_returns.mean() / spread) if spread > 0 else np.nan
    error = np.sqrt(years * (1 + ratio**2 / 2) / len(active_returns))
    basis = (
        f"{x.metadata.heading} against {benchmark.metadata.heading} up to {period_label(end)}; "
        f"tracking error {100 * spread * np.sqrt(years):.4g} % "
        f"a year, information ratio {ratio * np.sqrt(years):.3g} (error {error:.2g}), {len(active_returns)} "
        f"{x.metadata.frequency.noun}s; decimals"
        + (f"; {listed(torn)} left out, returns are missing inside" if torn else "")
    )
    return Relative(
        rows,
        basis,
        active,
        spread * float(np.sqrt(years)),
        ratio * float(np.sqrt(years)),
        float(error),
    )


def _check_pair(x: TimeSeries, benchmark: TimeSeries) -> None:
    a, b = x.metadata, benchmark.metadata
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
    if not x.metadata.is_return:
        return x.values
    simple = pd.Series(simple_block(x.as_table())[:, 0], x.index)
    return (1.0 + simple.fillna(0.0)).cumprod().where(simple.notna())


def _holes(x: TimeSeries) -> pd.Series:
    """Missing returns up to each period, those of periods that are not listed too; prices need none."""
    if not x.metadata.is_return:
        return pd.Series(0.0, x.index)
    frequency, ordinals = x.metadata.frequency, x.ordinals
    whole = x.index if frequency.is_dated else frequency.index(np.arange(ordinals[0], ordinals[-1] + 1))
    return x.values.reindex(whole).isna().cumsum().astype(np.float64)


def _active(x: TimeSeries, benchmark: TimeSeries) -> TimeSeries:
    """Return less the benchmark's; of prices over the same two days, or two neighbouring periods."""
    frequency = x.metadata.frequency
    both = pd.concat([x.values, benchmark.values], axis=1, keys=["x", "benchmark"]).dropna()
    if not x.metadata.is_return:
        apart = np.diff(positions_of(frequency, both.index)) != 1
        both = both.pct_change().iloc[1:][~apart]
    alone = len(x.values.dropna()) + len(benchmark.values.dropna()) - 2 * len(both)
    metadata = x.metadata.changed(name=f"{x.name}_less_{benchmark.name}", measure="return", unit="decimal",
                            timing="total", income="", excess_of="zero cost")  # fmt: skip
    alone -= 0 if x.metadata.is_return else 2  # the first price of each has no return
    return TimeSeries(
        (both["x"] - both["benchmark"]).rename(metadata.name),
        metadata.stepped("compare_to_benchmark", benchmark=benchmark.name, rows_in_one_only=alone or None),
    )


def _spans(
    both: pd.DataFrame, x: TimeSeries, horizons: Sequence[str], on: str, holes: pd.Series
) -> tuple[pd.DataFrame, Any, list[str]]:
    """Growth over each horizon, the end of all, and the horizons inside which returns are missing."""
    frequency = x.metadata.frequency
    ordinals = frequency.ordinals_of(both.index)
    days = frequency.ends(ordinals)
    asked = day_in(on, "on") if on and len(on) > 7 else None
    last = len(both) - 1
    if asked is not None:
        last = int(row_before(days, np.array([asked]))[0])
    elif on:
        last = int(row_at(ordinals, np.array([frequency.ordinal_named(on, last=True)]))[0])
    if last < 0:
        raise AlignmentError(
            f"Neither {on} nor the five weekdays before it have both values; they run {span_of(both.index)}."
        )
    rows, torn = {}, []
    spans = holes.reindex(both.index)
    for horizon in horizons:
        if frequency.is_dated:
            start = int(row_before(days, months_before(days[last : last + 1], months_of(horizon)))[0])
        else:
            count = periods_in(horizon, frequency)
            if count < 1:
                raise FrequencyError(f"The horizon {horizon} has no period.")
            start = int(row_at(ordinals, ordinals[last : last + 1] - count)[0])
        if start >= 0 and spans.iloc[start] != spans.iloc[last]:
            torn.append(horizon)
        elif start >= 0:
            grown = both.iloc[last] / both.iloc[start] - 1.0
            rows[horizon] = {
                "start": period_label(both.index[start]), "end": period_label(both.index[last]),
                "asset": grown["asset"], "benchmark": grown["benchmark"],
                "ahead": grown["asset"] - grown["benchmark"],
            }  # fmt: skip
    if not rows:
        raise AlignmentError(
            f"No horizon of {', '.join(horizons)} fits into {span_of(both.index)}"
            + (" without missing returns." if torn else ".")
        )
    return pd.DataFrame(rows).T.infer_objects(), both.index[last], torn
