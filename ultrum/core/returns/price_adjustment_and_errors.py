"""Prices adjusted for dividends, splits and final payments; price errors and days without trade.

The adjustment follows the holder of one share: a split multiplies the shares, a dividend buys more at the close
of the ex-date. The value of this holding is comparable over time.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Mapping
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Dates, Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.series.input_checks import asset_codes, on_block
from ultrum.core.series.metadata import Metadata, step_of
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.period_labels_and_relative_dates import days_in, period_label, span_of
from ultrum.core.transform.rolling_statistics import months_before
from ultrum.errors import AlignmentError, CurrencyError, FrequencyError, UnitError, choices, name_list, warn_user

_EARLIEST_PAYMENT: Final = 1  # periods before the last price that a final payment may be dated


@on_block(plain="price")
@validate_arguments
def adjust_prices(
    prices: SeriesTable,
    dividends: pd.DataFrame | None = None,
    splits: pd.DataFrame | None = None,
    *,
    final_payments: pd.DataFrame | None = None,
) -> SeriesTable:
    """Prices adjusted backwards for dividends and splits; the last price is unchanged.

    Parameters
    ----------
    prices : TimeSeries or SeriesTable
        Unadjusted daily closing prices.
    dividends : DataFrame, optional
        Columns ``asset date amount`` and, if needed, ``currency``; the date is the ex-date, the amount is per
        share held on that day. Amounts that fall on one close are added and reinvested there, at the first close
        on or after the date.
    splits : DataFrame, optional
        Columns ``asset date ratio``: new shares per old share, from that day.
    final_payments : DataFrame, optional
        Columns ``asset date amount`` and, if needed, ``currency``: the payment to holders at delisting, 0 for
        none. It is the price of the first trading day after the last price, whatever day it is paid (Shumway
        1997).

    Returns
    -------
    TimeSeries or SeriesTable
        ``income`` is ``total`` if dividends were given, else ``price``.

    Raises
    ------
    CurrencyError
        If a dividend or final payment is in another currency than its price.
    UnitError
        If dividends are given with prices that already include them.

    Examples
    --------
    >>> import pandas as pd
    >>> from ultrum.core.series.time_series import TimeSeries
    >>> close = pd.Series([30.0, 10.0], pd.bdate_range("2024-01-01", periods=2))
    >>> close = TimeSeries.from_pandas(close, name="LTSM", measure="price", currency="QML")
    >>> split = pd.DataFrame({"asset": ["LTSM"], "date": ["2024-01-02"], "ratio": [3.0]})
    >>> adjust_prices(close, splits=split).to_pandas().tolist()
    [10.0, 10.0]
    """
    check_measures(prices)
    if dividends is not None:
        _refuse_double_count(prices, dividends)
    if dividends is not None or splits is not None:
        check_positive(prices)
    prices = with_final_payments(prices, final_payments)
    if dividends is None and splits is None:
        none_set = "final payments" if final_payments is not None else "nothing"
        step = step_of("adjust prices", with_=none_set)
        unchanged = tuple(a.with_step(step, income=a.income or "price") for a in prices.metadata)
        return prices.copy_with(metadata=unchanged)
    growth, paid = np.ones(prices.block.shape), np.zeros(prices.block.shape)
    ratios, late_splits = _events(prices, splits, "ratio")
    amounts, late_dividends = _events(prices, dividends, "amount")
    for column, row, ratio in ratios:
        growth[row, column] *= ratio
    for column, row, amount in amounts:
        paid[row, column] += amount  # two amounts of one day are not reinvested in each other
    rows, columns = np.nonzero(paid)
    _refuse_dividends_of_nothing(prices, rows, columns)
    growth[rows, columns] *= 1.0 + paid[rows, columns] / prices.block[rows, columns]
    shares = np.cumprod(growth, axis=0)
    income = "total" if dividends is not None else prices.metadata[0].income or "price"
    adjusted = [
        word
        for word, table in (("dividends", dividends), ("splits", splits), ("final payments", final_payments))
        if table is not None
    ]
    outside = late_splits + late_dividends
    metadata_list = [
        a.add_step(
            "adjust prices",
            {"income": income},
            with_=", ".join(adjusted) or "nothing",
            events_outside_the_prices=outside.get(a.name),
        )
        for a in prices.metadata
    ]
    return SeriesTable.from_arrays(
        prices.block * shares / shares[-1:], prices.index, metadata_list, prices.causes
    )


def _refuse_double_count(prices: SeriesTable, dividends: pd.DataFrame) -> None:
    """Dividends added to prices that already include them would be counted twice."""
    paid = set(asset_codes(dividends["asset"])) if "asset" in dividends else set()
    twice = [a.name for a in prices.metadata if a.income == "total" and a.name in paid]
    if twice:
        raise UnitError(
            f"{name_list(twice)}: these adjusted prices already include dividends.",
            fix="Remove the dividends, or use unadjusted closing prices.",
            setting="income",
        )


def _refuse_dividends_of_nothing(prices: SeriesTable, rows: Ints, columns: Ints) -> None:
    """A dividend that falls on a final payment of 0 has no price at which to reinvest it."""
    nothing = np.flatnonzero(prices.block[rows, columns] == 0)
    if len(nothing):
        raise UnitError(
            f"adjust_prices: {prices.names[columns[nothing[0]]]} pays a dividend after its last price, but its "
            "final payment is 0. Add the dividend to its final payment."
        )


def events_not_used(metadata_list: Iterable[Metadata]) -> dict[str, int]:
    """Dividends and splits outside the prices of each asset, which were not used."""
    return {
        a.name: int(value)
        for a in metadata_list
        for step in a.trail
        for key, value in step.settings
        if key == "events_outside_the_prices"
    }


def check_measures(prices: SeriesTable) -> None:
    """Refuse series whose measure is not price."""
    for metadata in prices.metadata:
        if metadata.measure not in ("price", "index"):
            raise UnitError(
                f"{metadata.name} is {metadata.measure_in_words}; "
                "returns need prices or index levels (measure='price')."
            )


def check_positive(prices: SeriesTable, worthless: Collection[str] = ()) -> None:
    """Refuse prices that are not positive, among those that are used; ``worthless`` assets can end at 0."""
    if not len(prices.index):
        return
    lowest = np.fmin.reduce(prices.block, axis=0)
    for place in np.flatnonzero([name in worthless for name in prices.names]):
        values = prices.block[:, place]
        valid = values[np.isfinite(values)]
        nothing_left = len(valid) > 0 and valid[-1] == 0
        before = np.trim_zeros(valid, "b") if nothing_left else valid  # carried to its period's end
        lowest[place] = before.min() if len(before) else np.nan
    wrong = np.flatnonzero(lowest <= 0)
    if len(wrong):
        column = int(wrong[0])
        raise UnitError(
            f"{prices.names[column]} has a price of {lowest[column]:g}; a price must be positive. "
            f"{_guess(prices.block[:, column])}"
        )


def _guess(values: Floats) -> str:
    """Advice for values that cannot be prices."""
    valid = values[np.isfinite(values)]
    if np.median(np.abs(valid)) < 0.5 and (valid < 0).mean() > 0.2:
        return "These look like returns already: set measure='return'."
    return "Mark the wrong values as missing."


def _events(
    prices: SeriesTable, table: pd.DataFrame | None, field: str
) -> tuple[list[tuple[int, int, float]], Counter[str]]:
    """Column, row and value of each event, at the first priced row on or after its date.

    Events before an asset's first price or after its last have no effect; they are counted.
    """
    outside: Counter[str] = Counter()
    if table is None or not len(table):
        return [], outside
    dated = events_of(table, field)
    warn_of_unknown_assets({field: dated}, prices.names)
    dated = dated[dated["asset"].isin(prices.names)]
    _check_event_currency(prices, dated, "dividend")
    days = calendar_days(prices.index)
    column_of = {name: column for column, name in enumerate(prices.names)}
    events: list[tuple[int, int, float]] = []
    for asset, of_asset in dated.groupby("asset", sort=False):
        column = column_of[str(asset)]
        priced = np.flatnonzero(np.isfinite(prices.block[:, column]))
        places = np.searchsorted(days[priced], of_asset["date"].to_numpy().astype(days.dtype))
        inside = (places > 0) & (places < len(priced))
        rows = priced[places[inside]].tolist()
        events += [(column, row, value) for row, value in zip(rows, of_asset[field][inside], strict=True)]
        if not inside.all():
            outside[str(asset)] = int((~inside).sum())
    return events, outside


def warn_of_unknown_assets(tables: Mapping[str, pd.DataFrame | None], names: Collection[str]) -> None:
    """Warn of tables of events, by their column of values, none of whose assets has prices."""
    for field, table in tables.items():
        assets = (
            [] if table is None or "asset" not in table else list(asset_codes(table["asset"]).dropna().unique())
        )
        if assets and not set(assets) & set(names):
            warn_user(
                f"No event of the table with the column '{field}' is used: none of its "
                f"{quantity(len(assets), 'asset')} has prices ({name_list(assets[:3])}; prices of "
                f"{name_list(list(names)[:3])}). Check the codes."
            )


def events_of(table: pd.DataFrame, value: str, *, zero: bool = False) -> pd.DataFrame:
    """A table of events with dates and numbers; refused if one is wrong, missing or duplicated."""
    needed = ["asset", "date", value]
    absent = [c for c in needed if c not in table]
    if absent:
        raise UnitError(
            f"A table of events needs the columns {', '.join(needed)}; it has {choices(table.columns)}."
        )
    days = days_in(table["date"], f"{value}, its date")
    numbers = pd.to_numeric(table[value], errors="coerce").astype(np.float64)
    events = table.assign(asset=asset_codes(table["asset"]), date=days.astype("datetime64[s]"))
    events[value] = numbers.to_numpy()
    large_enough = events[value] >= 0 if zero else events[value] > 0
    wrong = np.flatnonzero(~(large_enough & np.isfinite(events[value])))
    if len(wrong):
        raise UnitError(
            f"{_event(events, wrong[0])}: {value} is {table[value].iloc[wrong[0]]}; a number "
            f"{'of 0 or more' if zero else 'above 0'} is expected."
        )
    twice = np.flatnonzero(events.duplicated(needed))
    if len(twice):
        raise UnitError(
            f"{_event(events, twice[0])}: the same {value} occurs twice. Remove one; if both were paid, use "
            "their sum."
        )
    return events


def _event(events: pd.DataFrame, row: int) -> str:
    return f"{events['asset'].iloc[row]}, {str(events['date'].iloc[row])[:10]}"


def _check_event_currency(prices: SeriesTable, events: pd.DataFrame, what: str) -> None:
    if "currency" not in events:
        return
    currencies = {a.name: a.currency for a in prices.metadata}
    for asset, currency in zip(events["asset"], events["currency"], strict=True):
        if currencies[asset] and currency and currencies[asset] != currency:
            raise CurrencyError(
                f"{asset}: prices are in {currencies[asset]}, a {what} in {currency}. "
                "Convert one with to_currency first."
            )


def with_final_payments(prices: SeriesTable, payments: pd.DataFrame | None) -> SeriesTable:
    """Insert each final payment as the price of the first trading day after the last price of its asset.

    After the last row of the table it is the next weekday.
    """
    if payments is None or not len(payments):
        return prices
    dated = events_of(payments, "amount", zero=True)
    dated = dated[dated["asset"].isin(prices.names)]
    twice = np.flatnonzero(dated.duplicated("asset"))
    if len(twice):
        raise UnitError(
            f"{_event(dated, twice[0])}: a second final payment. Add both up on the day of the first."
        )
    _check_event_currency(prices, dated, "final payment")
    frame, metadata_list = prices.values.copy(), list(prices.metadata)
    for asset, day, amount in zip(dated["asset"], dated["date"], dated["amount"], strict=True):
        column = prices.names.index(asset)
        last = frame[asset].last_valid_index()
        if last is None:
            continue
        frame.loc[_day_after(prices, last), asset] = float(amount)
        late = int((pd.Timestamp(day) - _day_of(prices.frequency, last)).days)
        if late < -_EARLIEST_PAYMENT * 366.0 / prices.frequency.periods_per_year - 7:
            raise UnitError(
                f"{asset}: a final payment on {str(day)[:10]}, but prices go on to {period_label(last)}. "
                "Correct its date, or mark the later prices as missing."
            )
        metadata_list[column] = metadata_list[column].add_step("final payment", days_after_last_price=late)
    return SeriesTable(frame.sort_index(), tuple(metadata_list), prices.causes)


def _day_after(prices: SeriesTable, last: pd.Timestamp | pd.Period) -> object:
    """Label of the row after a given one; the next weekday or period at the end of the table."""
    place = int(prices.index.get_indexer(pd.Index([last]))[0]) + 1
    if place < len(prices.index):
        return prices.index[place]
    if isinstance(last, pd.Period):
        return last + 1
    return pd.Timestamp(np.busday_offset(np.datetime64(last, "D"), 1, roll="backward"))


def _day_of(frequency: Frequency, label: object) -> pd.Timestamp:
    """Last day of a period, or the day itself."""
    return pd.Timestamp(frequency.ends(frequency.ordinals_of(pd.Index([label])))[0])


def payment_delays(metadata_list: Iterable[Metadata]) -> dict[str, int]:
    """Days from the last price of each delisted asset to its final payment."""
    return {
        a.name: int(dict(step.settings)["days_after_last_price"])
        for a in metadata_list
        for step in a.trail
        if step.action == "final payment"
    }


# Dividend yields from payments, splits and prices


@validate_arguments
def dividend_yield(
    prices: SeriesTable, dividends: pd.DataFrame, splits: pd.DataFrame | None = None
) -> SeriesTable:
    """Dividends of the past year over the price of each day.

    Parameters
    ----------
    prices : SeriesTable
        Unadjusted daily closing prices.
    dividends, splits : DataFrame
        As for :func:`ultrum.adjust_prices`; a dividend before a split is per old share and is divided by the
        split ratio.

    Returns
    -------
    SeriesTable
        Decimals; missing in the first year of an asset's prices.

    Examples
    --------
    >>> days = pd.bdate_range("2023-01-02", "2024-02-01")
    >>> close = SeriesTable.from_pandas(pd.DataFrame({"A": np.full(len(days), 20.0)}, days), measure="price")
    >>> paid = pd.DataFrame({"asset": ["A"], "date": ["2023-06-01"], "amount": [1.0]})
    >>> dividend_yield(close, paid).to_pandas()["A"].iloc[-1].item()
    0.05
    """
    check_measures(prices)
    if not prices.frequency.is_dated:
        raise FrequencyError(
            f"{prices.names[0]} is {prices.frequency.name}; a dividend yield needs daily prices."
        )
    paid_by = dict(iter(events_of(dividends, "amount").groupby("asset")))
    split_by = {} if splits is None else dict(iter(events_of(splits, "ratio").groupby("asset")))
    days = pd.DatetimeIndex(prices.index).to_numpy().astype("datetime64[D]")
    back = months_before(days, 12)
    block = np.full(prices.block.shape, np.nan)
    for column, name in enumerate(prices.names):
        valid = np.flatnonzero(np.isfinite(prices.block[:, column]))
        if not len(valid):
            continue
        when, paid = _events_of(paid_by.get(name), "amount")
        split = _events_of(split_by.get(name), "ratio")
        amounts = paid / _later_splits(split, when, days[-1])
        order = np.argsort(when, kind="stable")
        total = np.append(0.0, np.cumsum(amounts[order]))
        ends = np.searchsorted(when[order], days, side="right")
        starts = np.searchsorted(when[order], back, side="right")
        per_old = 1.0 / _later_splits(split, days, days[-1])
        whole = back >= days[valid[0]]
        block[:, column] = np.where(
            whole, (total[ends] - total[starts]) / (prices.block[:, column] * per_old), np.nan
        )
    facts = {"measure": "rate", "unit": "decimal", "currency": "", "timing": "end", "income": ""}
    metadata_list = [a.add_step("dividend yield", facts, over="P1Y") for a in prices.metadata]
    return SeriesTable.from_arrays(block, prices.index, metadata_list)


def _events_of(events: pd.DataFrame | None, value: str) -> tuple[Dates, Floats]:
    """Days and values of one asset's events."""
    if events is None:
        return np.empty(0, dtype="datetime64[D]"), np.empty(0)
    return events["date"].to_numpy().astype("datetime64[D]"), events[value].to_numpy()


def _later_splits(splits: tuple[Dates, Floats], when: Dates, last: np.datetime64) -> Floats:
    """Product of the split ratios after each day."""
    factor = np.ones(len(when))
    for day, ratio in zip(*splits, strict=True):
        if day <= last:
            factor[when < day] *= ratio
    return factor


# Price errors and days without trade

_SPLITS: Final = (2.0, 3.0, 4.0, 5.0, 10.0, 20.0, 100.0)
_NEAR: Final = 0.06  # a day's own move compared with a split's ratio
_BIG: Final = 0.45  # log moves that are looked at: −36 % and +57 %
_AT_ONCE: Final = 64


@validate_arguments
def flag_price_errors(prices: SeriesTable) -> pd.DataFrame:
    """Dates of suspicious price moves (outliers): likely price errors or missing splits.

    Parameters
    ----------
    prices : SeriesTable
        Daily prices, adjusted for the known splits.

    Returns
    -------
    DataFrame
        ``series date change looks_like``: a price error (a move of more than −36 % or +57 % that reverses on the
        next day), a split (a permanent move near 2, 3, 4, 5, 10, 20, 100 to 1 or the reverse), or another jump
        beyond −70 % or +200 %. Smaller ratios, such as 3 to 2, cannot be distinguished from market moves.

    Examples
    --------
    >>> days = pd.bdate_range("2024-01-01", periods=4)
    >>> frame = pd.DataFrame({"A": [10.0, 10.1, 5.05, 5.1], "B": [7.0, 70.0, 7.1, 7.0]}, days)
    >>> flag_price_errors(SeriesTable.from_pandas(frame, measure="price"))["looks_like"].tolist()
    ['a split of 2 to 1', 'a bad tick']
    """
    check_measures(prices)
    rows: list[list[object]] = []
    for low in range(0, len(prices.names), _AT_ONCE):
        part = prices.block[:, low : low + _AT_ONCE]
        for column in np.flatnonzero(_jumps(part)):
            rows += _suspects(part[:, column], prices, prices.names[low + column])
    return pd.DataFrame(rows, columns=["series", "date", "change", "looks_like"])


def _jumps(block: Floats) -> Floats:
    """Columns with some day beyond the limit; gaps are checked one by one."""
    if len(block) < 2:
        return np.zeros(block.shape[1], dtype=bool)
    ratio = block[1:] / block[:-1]
    with np.errstate(invalid="ignore"):
        jumps = (ratio > np.exp(_BIG)) | (ratio < np.exp(-_BIG))
    return np.asarray(jumps.any(axis=0) | np.isnan(block).any(axis=0))


def _suspects(values: Floats, prices: SeriesTable, name: str) -> list[list[object]]:
    valid: Ints = np.flatnonzero(np.isfinite(values))
    moves = np.diff(np.log(values[valid]))
    rows: list[list[object]] = []
    taken_back = -1
    for at in np.flatnonzero(np.abs(moves) > _BIG):
        if at == taken_back:
            continue
        kind = _kind(moves, int(at))
        if kind:
            rows.append([name, period_label(prices.index[valid[at + 1]]), float(np.expm1(moves[at])), kind])
        if kind == "a bad tick":
            taken_back = int(at) + 1
    return rows


def _kind(moves: Floats, at: int) -> str:
    """What a large move looks like; empty where it can be a market move."""
    after = moves[at + 1] if at + 1 < len(moves) else 0.0
    if abs(moves[at] + after) < 0.25 * abs(moves[at]):
        return "a bad tick"
    for ratio in _SPLITS:
        if abs(abs(moves[at]) - np.log(ratio)) < _NEAR:
            return f"a split of {ratio:g} to 1" if moves[at] < 0 else f"a split of 1 to {ratio:g}"
    return "a jump" if moves[at] < np.log(0.3) or moves[at] > np.log(3.0) else ""


# Days without trade: prices masked, and their share


@validate_arguments
def mask_untraded(prices: SeriesTable, volume: SeriesTable) -> SeriesTable:
    """Prices on days with trading; carried-forward quotes become missing.

    A file that repeats the last price on days without trading makes an old price look recent. With these days
    missing, the stale-price rule of :func:`returns` uses the true age.

    Parameters
    ----------
    prices, volume : SeriesTable
        Daily closing prices and volumes of the same assets, shape (T, N).

    Returns
    -------
    SeriesTable
        Prices with gaps on days without trading.

    Examples
    --------
    >>> days = pd.bdate_range("2024-01-01", periods=3)
    >>> close = SeriesTable.from_pandas(pd.DataFrame({"NTSH": [5.0, 5, 6]}, days), measure="price")
    >>> volume = SeriesTable.from_pandas(pd.DataFrame({"NTSH": [9.0, 0, 8]}, days), measure="flow")
    >>> mask_untraded(close, volume)["NTSH"].to_pandas().tolist()
    [5.0, nan, 6.0]
    """
    idle = _volume_like(prices, volume) == 0
    carried = np.sum(idle & np.isfinite(prices.block), axis=0)
    metadata_list = [
        a.add_step("traded days only", untraded=int(n)) if n else a
        for a, n in zip(prices.metadata, carried, strict=True)
    ]
    return SeriesTable.from_arrays(
        np.where(idle, np.nan, prices.block), prices.index, metadata_list, prices.causes
    )


def _volume_like(prices: SeriesTable, volume: SeriesTable) -> Floats:
    """Volumes on the dates and for the assets of the prices; refused if they have none in common."""
    check_measures(prices)
    shares = volume.values.reindex(index=prices.index, columns=prices.names).to_numpy()
    if prices.block.size and not np.isfinite(shares).any():
        raise AlignmentError(
            f"No price date of {name_list(prices.names)} has a volume; the volumes are of "
            f"{name_list(volume.names)}, {span_of(volume.index)}."
        )
    return np.asarray(shares)


@validate_arguments
def zero_volume_share(prices: SeriesTable, volume: SeriesTable) -> pd.Series:
    """Share of days without trading of each asset, from its first to its last price.

    Parameters
    ----------
    prices, volume : SeriesTable
        Daily closing prices and volumes of the same assets, shape (T, N).

    Returns
    -------
    Series, shape (N,)
        A day has no trading when its volume is zero or its price is missing.

    Examples
    --------
    >>> days = pd.bdate_range("2024-01-01", periods=4)
    >>> close = SeriesTable.from_pandas(pd.DataFrame({"NTSH": [5.0, 5, 6, 6]}, days), measure="price")
    >>> volume = SeriesTable.from_pandas(pd.DataFrame({"NTSH": [9.0, 0, 8, 7]}, days), measure="flow")
    >>> zero_volume_share(close, volume).to_dict()
    {'NTSH': 0.25}
    """
    priced = np.isfinite(prices.block)
    listed = (np.cumsum(priced, axis=0) > 0) & (np.cumsum(priced[::-1], axis=0)[::-1] > 0)
    still = listed & (~priced | (_volume_like(prices, volume) == 0))
    return pd.Series(still.sum(axis=0) / np.maximum(listed.sum(axis=0), 1), index=prices.names)
