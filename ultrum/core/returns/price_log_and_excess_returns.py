"""Returns from prices, log returns and excess returns.

The adjustment follows the holder of one share: a split multiplies the shares, a dividend buys more at the close
of the ex-date. The value of this holding is comparable over time.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import accepts_large, validate_arguments
from ultrum.core.array_types import Dates, Floats
from ultrum.core.presentation import quantity
from ultrum.core.returns.price_adjustment_and_errors import (
    adjust_prices,
    check_measures,
    check_positive,
    flag_price_errors,
    payment_delays,
)
from ultrum.core.series.input_checks import check_rate_size, check_size, on_block, returns_of, series_in
from ultrum.core.series.metadata import LOG_TO_SIMPLE, check_same, hindsight_of, step_of
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.index_frequency_and_gaps import gap_lengths
from ultrum.core.time.period_labels_and_relative_dates import days_in
from ultrum.core.transform.aggregation import STALE_AFTER, to_frequency
from ultrum.errors import CurrencyError, UnitError, one_of, warn_user

_LARGE: Final = 1.45  # a return that makes its days worth a look: +45 %, or −31 %
_NO_SUSPECTS: Final = pd.DataFrame(columns=["series", "date", "change", "looks_like"])


@accepts_large("prices")
@on_block(plain="price")
@validate_arguments
def returns(
    prices: SeriesTable,
    *,
    frequency: str | Frequency | None = None,
    kind: Literal["simple", "log"] = "simple",
    dividends: pd.DataFrame | None = None,
    splits: pd.DataFrame | None = None,
    final_payments: pd.DataFrame | None = None,
    stale_after: int = STALE_AFTER,
    trading_days: Sequence[object] | pd.Index | None = None,
    check: bool = True,
    to: str | None = None,
) -> SeriesTable:
    """Returns between consecutive period ends, simple or log.

    Parameters
    ----------
    prices : TimeSeries, SeriesTable or LongTable
        Unadjusted closing prices.
    frequency : str or Frequency, optional
        Frequency of the returns, such as ``"M"``; by default that of the prices.
    kind : {"simple", "log"}
        P/P₋ − 1, or log(P/P₋).
    dividends, splits, final_payments : DataFrame, optional
        As for :func:`adjust_prices`.
    stale_after : int
        A period-end price older than this many weekdays is stale and counts as missing.
    trading_days : dates, optional
        Trading days of the market. A daily return over a trading day without a row is missing. Without a
        calendar, more than five weekdays without rows are a gap; up to ten are a market closure if three assets
        share them.
    check : bool
        Warn of days that look like missing splits or price errors, as found by :func:`flag_price_errors`.
    to : path, optional
        Path of the returns of a :class:`ultrum.LongTable`; not used otherwise.

    Returns
    -------
    TimeSeries, SeriesTable or LongTable
        A return needs two consecutive valid period ends; there is none across a gap. The first period has no
        return and is omitted.

    Examples
    --------
    >>> import ultrum as ul
    >>> import pandas as pd
    >>> close = pd.Series([100.0, 110.0, 99.0], pd.period_range("2024-01", periods=3, freq="M"))
    >>> close = ul.TimeSeries.from_pandas(close, name="BRTW", measure="price", currency="QML")
    >>> returns(close).to_pandas().round(3).tolist()
    [0.1, -0.1]
    """
    result, suspects = returns_and_suspects(
        prices,
        frequency,
        kind,
        Events(dividends, splits, final_payments),
        stale_after,
        check,
        None if trading_days is None else days_in(trading_days, "trading_days"),
    )
    warn_of_late_payments(result)
    warn_of_suspects(suspects)
    return result


@dataclass(frozen=True)
class Events:
    """Corporate events, as for :func:`adjust_prices`."""

    dividends: pd.DataFrame | None = None
    splits: pd.DataFrame | None = None
    final_payments: pd.DataFrame | None = None


def returns_and_suspects(
    prices: SeriesTable,
    frequency: str | Frequency | None,
    kind: str,
    events: Events,
    stale_after: int,
    check: bool,
    trading_days: Dates | None = None,
) -> tuple[SeriesTable, pd.DataFrame]:
    """The returns, and the suspicious days in their prices."""
    if kind not in ("simple", "log"):
        raise UnitError(f"kind='{kind}' is not known; {one_of(kind, ('simple', 'log'))}")
    check_measures(prices)
    paid = events.final_payments
    daily = adjust_prices(prices, events.dividends, events.splits, final_payments=paid)
    held = daily
    if frequency is not None:
        held = _carry_to_period_end(held, Frequency.parse(frequency))
        held = to_frequency(held, frequency, how="last", stale_after=stale_after)
    delisted = set(payment_delays(held.metadata))
    check_positive(held, delisted)
    block = _ratios(held, trading_days)
    suspects = _suspects_behind(block, daily) if check else _NO_SUSPECTS
    if kind == "log":
        _refuse_total_loss(block, held)
        np.log(block, out=block)
    else:
        block -= 1.0
    measure = "return" if kind == "simple" else "log_return"
    counts = {str(k): int(v) for k, v in suspects["series"].value_counts().items()}
    usual = step_of("returns", kind=kind)
    metadata_list = [
        a.with_step(
            step_of("returns", kind=kind, suspect_days=counts[a.name]) if a.name in counts else usual,
            measure=measure,
            unit="decimal",
            timing="total",
        )
        for a in held.metadata
    ]
    causes = {
        name: {late: cause for period, cause in reasons.items() for late in (period, period + 1)}
        for name, reasons in held.causes.items()
    }
    return SeriesTable.from_arrays(block, held.index[1:], metadata_list, causes), suspects


def warn_of_suspects(suspects: pd.DataFrame) -> None:
    """Warn of suspicious days; the first is named."""
    if not len(suspects):
        return
    first = suspects.iloc[0]
    more = f", and {len(suspects) - 1:,} more" if len(suspects) > 1 else ""
    warn_user(
        f"{first['series']}, {first['date']}: {100 * first['change']:+.0f} % in a day, "
        f"{first['looks_like']}{more}.",
        fix="See flag_price_errors. Pass the splits, mark wrong prices as missing, or set check=False.",
        setting="splits",
    )


def _ratios(held: SeriesTable, trading_days: Dates | None) -> Floats:
    """Each row over the previous one, missing where they are not consecutive periods."""
    block = held.block
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = block[1:] / block[:-1]
    if not held.frequency.is_dated:
        apart = np.diff(held.ordinals) != 1
    elif held.frequency.code in "HN":
        return ratio
    else:
        days = calendar_days(held.index)
        apart = gap_lengths(days, block, trading_days) > 0
    ratio[apart] = np.nan
    return ratio


def _refuse_total_loss(ratio: Floats, held: SeriesTable) -> None:
    lost = np.flatnonzero((ratio == 0).any(axis=0))
    if len(lost):
        raise UnitError(
            f"{held.names[lost[0]]} ends with a return of −100 %, which has no logarithm. Use kind='simple'."
        )


def warn_of_late_payments(adjusted: SeriesTable) -> None:
    """Warn of final payments more than a period after the last price."""
    period = 366.0 / adjusted.frequency.periods_per_year
    late = {name: days for name, days in payment_delays(adjusted.metadata).items() if days > period}
    if not late:
        return
    name, days = max(late.items(), key=lambda item: item[1])
    more = f", and {len(late) - 1:,} more" if len(late) > 1 else ""
    warn_user(
        f"{name}: its final payment came {quantity(days, 'day')} after its last price{more}; it counts in the "
        "period after the last price; the return excludes the waiting time."
    )


def _suspects_behind(ratio: Floats, daily: SeriesTable) -> pd.DataFrame:
    """Suspicious days of the series with returns large enough to be caused by one."""
    if daily.frequency.code not in "BD" or not len(ratio):
        return _NO_SUSPECTS
    low, high = np.fmin.reduce(ratio, axis=0), np.fmax.reduce(ratio, axis=0)
    columns = np.flatnonzero((high > _LARGE) | (low < 1.0 / _LARGE))
    if not len(columns):
        return _NO_SUSPECTS
    some = SeriesTable(daily.values.iloc[:, columns], tuple(daily.metadata[k] for k in columns))
    return flag_price_errors(some)


def _carry_to_period_end(held: SeriesTable, target: Frequency) -> SeriesTable:
    """Move each final payment to the end of its period, so that its return is complete."""
    delisted = [name for name in payment_delays(held.metadata) if held.frequency.is_dated]
    if not delisted:
        return held
    frame, periods = held.values.copy(), target.ordinals_of(held.index)
    for asset in delisted:
        row = int(np.flatnonzero(frame[asset].notna())[-1])
        same = (periods == periods[row]) & (np.arange(len(frame)) >= row)
        frame.loc[same, asset] = frame[asset].iloc[row]
    return SeriesTable(frame, held.metadata, held.causes)


# Simple returns to log returns and back


@on_block(plain="log_return")
@validate_arguments
def to_simple(x: SeriesTable) -> SeriesTable:
    """Simple returns exp(r) − 1 from log returns; simple returns are unchanged.

    Parameters
    ----------
    x : SeriesTable or TimeSeries
        Returns, decimal.

    Returns
    -------
    SeriesTable
        Simple returns, decimal.

    Examples
    --------
    >>> import numpy as np
    >>> import pandas as pd
    >>> import ultrum as ul
    >>> r = pd.Series([np.log(1.1)], pd.period_range("2024-01", periods=1, freq="M"))
    >>> to_simple(ul.TimeSeries.from_pandas(r, measure="log_return")).to_pandas().round(12).tolist()
    [0.1]
    """
    return _of_kind(x, "log_return", "return", np.expm1)


@on_block(plain="return")
@validate_arguments
def to_log(x: SeriesTable) -> SeriesTable:
    """Log returns log(1 + r) from simple returns; log returns are unchanged.

    Parameters
    ----------
    x : SeriesTable or TimeSeries
        Returns, decimal.

    Returns
    -------
    SeriesTable
        Log returns, decimal.

    Raises
    ------
    UnitError
        If a return is −100 % or less, which has no logarithm; or for an excess return, since a log excess return
        is log(1+r) − log(1+rf).

    Examples
    --------
    >>> import pandas as pd
    >>> import ultrum as ul
    >>> r = pd.Series([0.1], pd.period_range("2024-01", periods=1, freq="M"))
    >>> to_log(ul.TimeSeries.from_pandas(r, measure="return")).to_pandas().round(4).tolist()
    [0.0953]
    """
    check_size(returns_of(x), "to_log")
    for column, metadata in enumerate(x.metadata):
        if metadata.measure == "return" and np.nanmin(x.block[:, column], initial=0.0) <= -1.0:
            raise UnitError(
                f"{metadata.name} has a return of −100 % or less, which has no logarithm. Use simple returns."
            )
    return _of_kind(x, "return", "log_return", np.log1p)


def _of_kind(x: SeriesTable, source: str, target: str, turn: np.ufunc) -> SeriesTable:
    block, metadata_list = x.block.copy(), list(x.metadata)
    for column, metadata in enumerate(x.metadata):
        if metadata.measure == target:
            continue
        if metadata.measure != source:
            raise UnitError(f"{metadata.name} is {metadata.measure_in_words}, not a return.")
        if metadata.excess_of:
            raise UnitError(
                f"{metadata.name} is in excess of {metadata.excess_of}. Convert the returns first, then "
                "subtract with excess."
            )
        block[:, column] = turn(block[:, column])
        metadata_list[column] = metadata.add_step(
            "simple to log" if target == "log_return" else LOG_TO_SIMPLE, {"measure": target}
        )
    return SeriesTable.from_arrays(block, x.index, metadata_list)


# Excess returns: returns less the risk-free return


@on_block(plain="return")
@validate_arguments
def excess(x: SeriesTable, risk_free: TimeSeries | pd.Series) -> SeriesTable:
    """Excess returns: returns less the risk-free return of the same period.

    Dates are never shifted: a yield is refused; convert it with :func:`yield_to_return` first.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Returns, simple or logarithmic.
    risk_free : TimeSeries
        Simple risk-free return of each period.

    Returns
    -------
    SeriesTable
        Excess returns, decimal per period.

    Raises
    ------
    UnitError
        If ``risk_free`` is a yield, or ``x`` is already an excess return.
    CurrencyError
        If both have currencies that differ.

    Examples
    --------
    >>> import pandas as pd
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> r = TimeSeries.from_pandas(pd.Series([0.02, 0.01], months), measure="return")
    >>> bill = TimeSeries.from_pandas(pd.Series([0.002, 0.002], months), name="bill", measure="return")
    >>> excess(r, bill).to_pandas().round(3).tolist()
    [0.018, 0.008]
    """
    risk_free = series_in(risk_free, "return")
    _check_risk_free(risk_free, x)
    rate = risk_free.values.reindex(x.index).to_numpy(dtype=np.float64)
    check_size(returns_of(x), "excess")
    block = x.block.copy()
    for i, metadata in enumerate(x.metadata):
        if not metadata.is_return:
            raise UnitError(f"{metadata.name} is {metadata.measure_in_words}, not a return.")
        if metadata.excess_of:
            raise UnitError(
                f"{metadata.name} is already in excess of {metadata.excess_of}; "
                f"subtracting {risk_free.name} would subtract it twice. Remove this call."
            )
        block[:, i] -= np.log1p(rate) if metadata.measure == "log_return" else rate
    metadata_list = [
        a.add_step(
            "excess",
            {"excess_of": risk_free.name, "hindsight": hindsight_of([a, risk_free.metadata])},
            of=risk_free.name,
        )
        for a in x.metadata
    ]
    return SeriesTable.from_arrays(block, x.index, metadata_list)


def _check_risk_free(risk_free: TimeSeries, x: SeriesTable) -> None:
    metadata = risk_free.metadata
    if metadata.measure != "return":
        raise UnitError(
            f"{metadata.name} is {metadata.measure_in_words}, not a return per period. "
            "Convert a yield with yield_to_return first."
        )
    check_rate_size(risk_free.as_table(), "excess")
    mine = x.metadata[0].replace(measure="return", currency=metadata.currency, excess_of="")
    check_same(mine, metadata.replace(excess_of=""), "less")
    abroad = [a for a in x.metadata if a.currency and metadata.currency and a.currency != metadata.currency]
    if abroad:
        raise CurrencyError(
            f"{abroad[0].name} is in {abroad[0].currency}, {metadata.name} in {metadata.currency}; use the "
            "risk-free return of its own currency, or convert it with to_currency first."
        )
