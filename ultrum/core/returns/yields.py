"""Yields to period returns, by quoting rule."""

from __future__ import annotations

from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import LARGEST_RATE, validate_arguments
from ultrum.core.array_types import DAY, YEAR, Dates, Floats
from ultrum.core.series.input_checks import on_block
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.index_frequency_and_gaps import gap_lengths
from ultrum.core.transform.aggregation import to_frequency
from ultrum.errors import FrequencyError, UnitError

QUOTINGS: Final = ("effective", "simple", "bond-equivalent", "discount", "continuous")


@on_block(plain="rate")
@validate_arguments
def yield_to_return(
    yields: SeriesTable, frequency: str | Frequency | None = None, *, quoted: str | None = None
) -> SeriesTable:
    """Risk-free return of each period, from the yield at the end of the previous period.

    Parameters
    ----------
    yields : TimeSeries or SeriesTable
        Annual yields in decimals, at period ends.
    frequency : str or Frequency, optional
        Frequency of the returns; by default that of the yields.
    quoted : {"effective", "simple", "bond-equivalent", "discount", "continuous"}, optional
        Quoting rule of the yield; by default that of the metadata.

    Returns
    -------
    TimeSeries or SeriesTable
        Simple returns, dated one period after the yield. For daily yields each return is dated at the next
        observation and accrues over the calendar days in between; there is none across a gap.

    Notes
    -----
    effective (1+y)^(1/P) − 1; simple y/P; bond-equivalent (1+y/2)^(2/P) − 1; continuous exp(y/P) − 1; discount:
    the price 1 − y·d/360 of a bill with d days to maturity earns (1/price)^(days in period/d) − 1. Daily accrual
    replaces 1/P by the share of the calendar year between two observations, actual days over 365 or 366, so that
    a year compounds to the yield.

    Examples
    --------
    >>> import pandas as pd, ultrum as ul
    >>> y = pd.Series([0.06, 0.06], pd.period_range("2024-01", periods=2, freq="M"))
    >>> y = ul.TimeSeries.from_pandas(y, name="bill", measure="rate", timing="end", quoted="simple")
    >>> yield_to_return(y).to_pandas().round(4).to_dict()
    {Period('2024-02', 'M'): 0.005, Period('2024-03', 'M'): 0.005}
    """
    target = Frequency.parse(frequency or yields.frequency)
    if target < yields.frequency:
        raise FrequencyError(
            f"{yields.names[0]} is {yields.frequency.name}; it cannot give {target.name} returns. Use a lower "
            "frequency."
        )
    at_ends = to_frequency(yields, target, how="last") if target != yields.frequency else yields
    dated = target.code in "BD"
    years = _years_between(at_ends) if dated else np.array(1.0 / target.periods_per_year)
    block = np.empty((len(at_ends.index) - dated, len(at_ends.metadata)))
    for i, metadata in enumerate(at_ends.metadata):
        rule = quoted or metadata.quoted
        _check_yield(metadata, rule, target)
        yield_rates = at_ends.block[: len(block), i]
        block[:, i] = _earnings_of(yield_rates, rule, years, metadata.maturity)
    facts = {"measure": "return", "timing": "total", "quoted": "", "maturity": "", "frequency": target}
    metadata_list = [a.add_step("per period", facts, quoted=quoted or a.quoted) for a in at_ends.metadata]
    index = at_ends.index[1:] if dated else target.index(at_ends.ordinals + 1)
    return SeriesTable.from_arrays(block, index, metadata_list)


def _years_between(x: SeriesTable) -> Floats:
    """Share of the calendar year between each observation and the next; missing across a gap."""
    days = calendar_days(x.index)
    holes = gap_lengths(days, x.block) > 0
    return np.where(holes, np.nan, np.diff(_moments(days)))


def _moments(days: Dates) -> Floats:
    """Dates in calendar years, each day 1/365 or 1/366 of its year."""
    first = days.astype("datetime64[Y]")
    start, end = first.astype("datetime64[D]"), (first + YEAR).astype("datetime64[D]")
    whole = (end - start).astype(np.int64)
    return np.asarray(first.astype(np.int64) + ((days - start).astype(np.int64) + 1) / whole)


def accrual_rate(risk_free: TimeSeries | float, index: pd.Index, target: Frequency) -> TimeSeries:
    """Risk-free returns for the periods of an index, at the constant rate that compounds to the given returns.

    Parameters
    ----------
    risk_free : TimeSeries or float
        Returns per period of a lower frequency, or an effective annual rate.
    index : Index, shape (T,)
        Target periods or trading days; each return accrues over the calendar days since the previous one.
    target : Frequency

    Examples
    --------
    >>> days = pd.to_datetime(["2023-12-31", "2024-06-30", "2024-12-31"])
    >>> (1 + accrual_rate(0.05, days, Frequency("D")).to_pandas().iloc[1:]).prod().round(12).item()
    1.05
    """
    ends = target.ends(target.ordinals_of(index))
    before = np.concatenate([ends[:1] - DAY, ends[:-1]])
    if not target.is_dated:
        before = target.starts(target.ordinals_of(index)) - DAY
    if not isinstance(risk_free, TimeSeries):
        growth = np.log1p(risk_free) * (_moments(ends) - _moments(before))
        metadata = Metadata(name="risk_free", frequency=target, measure="return", timing="total")
        return TimeSeries.from_arrays(np.expm1(growth), index, metadata)
    source = risk_free.metadata.frequency
    ordinals = source.ordinals_of(risk_free.index)
    whole = np.arange(ordinals[0], ordinals[-1] + 1)
    rates = np.full(len(whole), np.nan)
    rates[ordinals - ordinals[0]] = np.log1p(risk_free.values.to_numpy(dtype=np.float64))
    lengths = (source.ends(whole) - source.starts(whole)).astype(np.int64) + 1
    daily = np.repeat(rates / lengths, lengths)  # growth of each day of the calendar
    days = np.concatenate([[0.0], np.cumsum(np.nan_to_num(daily))])
    holes = np.concatenate([[0], np.cumsum(np.isnan(daily))])
    origin = source.starts(whole[:1])[0]
    low, high = ((d - origin).astype(np.int64) + 1 for d in (before, ends))
    inside = (low >= 0) & (high < len(days))
    low, high = np.clip(low, 0, len(days) - 1), np.clip(high, 0, len(days) - 1)
    inside &= holes[high] == holes[low]
    growth = np.where(inside, days[high] - days[low], np.nan)
    metadata = risk_free.metadata.add_step("accrued", {"frequency": target}, from_=source.name, to=target.name)
    return TimeSeries.from_arrays(np.expm1(growth), index, metadata)


def check_annual_rate(rate: float) -> float:
    """An annual risk-free rate in decimals; a number that must be percent is refused."""
    if not np.isfinite(rate):
        raise UnitError(f"The risk-free rate is {rate}. Use a number in decimals, 0.03 for 3 %.")
    if abs(rate) > LARGEST_RATE:
        raise UnitError(f"A risk-free rate of {100 * rate:,.0f} % per year: decimals are expected, 0.03 for 3 %.")
    return float(rate)


def annual_yield(y: float, metadata: Metadata) -> float:
    """Effective annual rate of a yield, by its quoting rule and maturity.

    Examples
    --------
    >>> import pandas as pd, ultrum as ul
    >>> y = pd.Series([0.06], pd.period_range("2024-01", periods=1, freq="M"))
    >>> y = ul.TimeSeries.from_pandas(y, measure="rate", quoted="bond-equivalent")
    >>> round(annual_yield(0.06, y.metadata), 4)
    0.0609
    """
    rule = metadata.quoted or "effective"
    _check_rule(metadata, rule)
    if rule == "simple" and metadata.maturity and (years := _years(metadata.maturity)) < 1.0:
        return float((1.0 + y * years) ** (1.0 / years) - 1.0)
    return float(_earnings_of(np.asarray(y, dtype=np.float64), rule, np.array(1.0), metadata.maturity))


def _check_yield(metadata: Metadata, rule: str, target: Frequency) -> None:
    if metadata.measure != "rate":
        raise UnitError(
            f"{metadata.name} is {metadata.measure_in_words}; yield_to_return needs a yield (measure='rate')."
        )
    _check_rule(metadata, rule)
    if metadata.maturity and _years(metadata.maturity) > 1.0 / target.periods_per_year + 1e-9:
        raise UnitError(
            f"{metadata.name} matures in {metadata.maturity}, longer than a {target.name} period: holding it is "
            "not free of risk. Use a shorter bill, or a lower frequency."
        )


def _check_rule(metadata: Metadata, rule: str) -> None:
    if rule not in QUOTINGS:
        raise UnitError(
            f"{metadata.name}: quoted='{rule}' is not a quoting rule; it is one of {', '.join(QUOTINGS)}."
        )


def _years(maturity: str) -> float:
    count, unit = float(maturity[1:-1]), maturity[-1]
    return count / {"Y": 1.0, "M": 12.0, "W": 365.25 / 7, "D": 365.25}[unit]


def _earnings_of(y: Floats, rule: str, years: Floats, maturity: str) -> Floats:
    """Return of a yield over a number of years, by its quoting rule."""
    if rule == "effective":
        return np.asarray(np.expm1(np.log1p(y) * years))
    if rule == "bond-equivalent":
        return np.asarray(np.expm1(2.0 * years * np.log1p(y / 2.0)))
    if rule == "continuous":
        return np.asarray(np.expm1(y * years))
    if rule == "simple":
        return np.asarray(y * years)
    days = _years(maturity or "P3M") * 365.25
    price = 1.0 - y * days / 360.0
    return np.asarray(np.expm1(-np.log(price) * 365.25 * years / days))
