"""Returns from prices, dividends, splits and final payments.

The holder of one share is followed: a split multiplies the shares, a dividend buys more at the
close of the ex-date. The value of that holding is a price that can be compared with any other day.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Dates, Floats
from ultrum.core.displayed_numbers import counted
from ultrum.core.large_data import accepts_large
from ultrum.core.returns.price_adjustment import (
    adjust_prices,
    check_measures,
    check_positive,
    payment_delays,
)
from ultrum.core.returns.price_errors import flag_price_errors
from ultrum.core.series.metadata import step_of
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.date_parser import days_in
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.gaps import gap_lengths
from ultrum.core.transform.aggregation import STALE_AFTER, to_frequency
from ultrum.errors import UnitError, one_of, warn_user

_LARGE: Final = 1.45  # a return that makes its days worth a look: +45 %, or −31 %
_NO_SUSPECTS: Final = pd.DataFrame(columns=["series", "date", "change", "looks_like"])


@accepts_large("prices")
@on_block
@checked
def returns(
    prices: SeriesTable,
    *,
    frequency: str | Frequency | None = None,
    kind: Literal["simple", "log"] = "simple",
    dividends: pd.DataFrame | None = None,
    splits: pd.DataFrame | None = None,
    final_payments: pd.DataFrame | None = None,
    stale_after: int = STALE_AFTER,
    trading_days: Sequence[Any] | pd.Index | None = None,
    check: bool = True,
    to: str | None = None,
) -> SeriesTable:
    """Returns between consecutive period ends.

    Parameters
    ----------
    prices : TimeSeries, SeriesTable or LongTable
        Closing prices as they were, not adjusted.
    frequency : str or Frequency, optional
        Lower frequency wanted, such as ``"M"``; by default that of the prices.
    kind : {"simple", "log"}
        P/P₋ − 1, or log(P/P₋).
    dividends, splits, final_payments : DataFrame, optional
        As for :func:`adjust_prices`.
    stale_after : int
        A period-end price older than this many weekdays is missing.
    trading_days : dates, optional
        Calendar of the market. A daily return over a day of it without a row is missing. Without it a
        stretch of more than five weekdays without rows is a gap, and one of up to ten where three assets
        share it is a closure.
    check : bool
        Warn of days that look like splits left out or bad ticks, as :func:`flag_price_errors` finds them.
    to : path, optional
        Where the returns of a :class:`ultrum.LongTable` go, and only of one.

    Returns
    -------
    TimeSeries, SeriesTable or LongTable
        A return needs two consecutive valid period ends; across a gap there is none. The first
        period has none and is left out.

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
    """What happened to shares, as :func:`adjust_prices` takes it."""

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
    """Returns as :func:`returns` gives them, and the suspect days behind them."""
    if kind not in ("simple", "log"):
        raise UnitError(f"kind='{kind}' is not known; {one_of(kind, ('simple', 'log'))}")
    check_measures(prices)
    paid = events.final_payments
    daily = adjust_prices(prices, events.dividends, events.splits, final_payments=paid)
    held = daily
    if frequency is not None:
        held = _held_to_period_end(held, Frequency.parse(frequency))
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
            measure=measure, unit="decimal", timing="total",
        )
        for a in held.metadata
    ]  # fmt: skip
    causes = {
        name: {late: cause for period, cause in reasons.items() for late in (period, period + 1)}
        for name, reasons in held.causes.items()
    }
    return SeriesTable.from_arrays(block, held.index[1:], metadata_list, causes), suspects


def warn_of_suspects(suspects: pd.DataFrame) -> None:
    """Warn of suspect days, naming the first."""
    if not len(suspects):
        return
    first = suspects.iloc[0]
    more = f", and {len(suspects) - 1:,} more" if len(suspects) > 1 else ""
    warn_user(
        f"{first['series']}, {first['date']}: {100 * first['change']:+.0f} % in a day, "
        f"{first['looks_like']}{more}. "
        "See flag_price_errors; give the splits, mark bad ticks as missing, or set check=False.")  # fmt: skip


def _ratios(held: SeriesTable, trading_days: Dates | None) -> Floats:
    """Each row over the one before, missing where they are not consecutive periods."""
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
            f"{held.names[lost[0]]} ends with a return of −100 %, which has no logarithm; take kind='simple'."
        )


def warn_of_late_payments(adjusted: SeriesTable) -> None:
    """Warn of final payments that came more than a period after the last price."""
    period = 366.0 / adjusted.frequency.periods_per_year
    late = {name: days for name, days in payment_delays(adjusted.metadata).items() if days > period}
    if not late:
        return
    name, days = max(late.items(), key=lambda item: item[1])
    more = f", and {len(late) - 1:,} more" if len(late) > 1 else ""
    warn_user(
        f"{name}: its final payment came {counted(days, 'day')} after its last price{more}; it is in the period "
        "after the last price, and the wait for it is not in the return.")  # fmt: skip


def _suspects_behind(ratio: Floats, daily: SeriesTable) -> pd.DataFrame:
    """Suspect days of the series whose returns are so large that they may come of one."""
    if daily.frequency.code not in "BD" or not len(ratio):
        return _NO_SUSPECTS
    low, high = np.fmin.reduce(ratio, axis=0), np.fmax.reduce(ratio, axis=0)
    columns = np.flatnonzero((high > _LARGE) | (low < 1.0 / _LARGE))
    if not len(columns):
        return _NO_SUSPECTS
    some = SeriesTable(daily.values.iloc[:, columns], tuple(daily.metadata[k] for k in columns))
    return flag_price_errors(some)


def _held_to_period_end(held: SeriesTable, target: Frequency) -> SeriesTable:
    """Carry each final payment to the end of its period, so that its return is whole."""
    delisted = [name for name in payment_delays(held.metadata) if held.frequency.is_dated]
    if not delisted:
        return held
    frame, periods = held.values.copy(), target.ordinals_of(held.index)
    for asset in delisted:
        row = int(np.flatnonzero(frame[asset].notna())[-1])
        same = (periods == periods[row]) & (np.arange(len(frame)) >= row)
        frame.loc[same, asset] = frame[asset].iloc[row]
    return SeriesTable(frame, held.metadata, held.causes)
