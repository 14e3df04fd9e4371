"""Characteristics of assets that are known at formation: from returns, market values and accounts."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import refuse_idle_options, validate_arguments
from ultrum.core.array_types import DAY, Bools, Dates, Floats, Ints
from ultrum.core.presentation import WIDTH, TextInNotebooks, quantity
from ultrum.core.series.input_checks import asset_codes, check_one_currency
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.statistics.risk_return_and_drawdowns import returns_in, simple_block
from ultrum.core.time.frequency import Frequency, months_in
from ultrum.core.time.index_frequency_and_gaps import positions_of
from ultrum.core.time.period_labels_and_relative_dates import days_in, period_ends_in
from ultrum.core.transform.rolling_statistics import months_before
from ultrum.errors import AlignmentError, EstimationError, UnitError, choices

_WINDOWS: Final = {"momentum": 12, "reversal": 1, "volatility": 12, "beta": 60}
_SHARE: Final = 2 / 3  # of the window that must have returns, for volatility and beta


@validate_arguments
def return_characteristic(
    returns: SeriesTable | pd.DataFrame,
    kind: Literal["momentum", "reversal", "volatility", "beta"],
    *,
    window: int | None = None,
    skip: int | None = None,
    market: TimeSeries | pd.Series | None = None,
    min_obs: int | None = None,
) -> SeriesTable:
    r"""A characteristic from past returns: momentum, reversal, volatility or beta.

    Its value at a period uses returns up to that period.

    Parameters
    ----------
    returns : SeriesTable or DataFrame, shape (T, N)
        Returns.
    kind : {"momentum", "reversal", "volatility", "beta"}
        Momentum: the compounded return :math:`\prod(1+r)-1` of the window without its last ``skip`` periods.
        Reversal: the compounded return of the window. Volatility: the standard deviation (n − 1). Beta: the
        least-squares slope on the market.
    window : int, optional
        Periods, the current one included: 12 for momentum and volatility, 1 for reversal, 60 for beta.
    skip : int, optional
        Periods at the end that momentum leaves out; 1 by default.
    market : TimeSeries or Series, optional
        Market returns, for beta.
    min_obs : int, optional
        Least number of returns in the window, for volatility and beta; two thirds of the window by default.
        Momentum and reversal need all.

    Returns
    -------
    SeriesTable, shape (T, N)
        Missing where returns are too few.

    References
    ----------
    Jegadeesh, N., and S. Titman (1993), Returns to buying winners and selling losers. Journal of Finance 48,
    65–91.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> r = pd.DataFrame({"A": [0.10, 0.10, 0.50]}, months)
    >>> return_characteristic(r, "momentum", window=3).to_pandas()["A"].round(2).tolist()
    [nan, nan, 0.21]
    """
    table = returns_in(returns, "return_characteristic")
    length = _WINDOWS[kind] if window is None else window
    if kind != "beta":
        refuse_idle_options(f"kind='{kind}'", market=market)
    if kind != "momentum":
        refuse_idle_options(f"kind='{kind}'", skip=skip)
    if kind in ("momentum", "reversal"):
        refuse_idle_options(f"kind='{kind}'", min_obs=min_obs)
    last = (1 if skip is None else skip) if kind == "momentum" else 0
    fewest = {"volatility": 2, "beta": 3}.get(kind, 1)
    if length - last < fewest or last < 0:
        raise EstimationError(
            f"return_characteristic: window={length}, skip={last}: {kind} needs {quantity(fewest, 'period')}."
        )
    positions = positions_of(table.frequency, table.index)
    block = _on_positions(simple_block(table), positions)
    if kind in ("momentum", "reversal"):
        values = _compound(block, length, last)
    else:
        least = max(fewest, int(np.ceil(_SHARE * length)) if min_obs is None else min_obs)
        factor = None if kind == "volatility" else _market_on(table, market)
        values = _spread_or_slope(block, factor, length, least)
    metadata = [
        one.replace(measure="score", unit="", currency="", excess_of="", income="").add_step(
            kind, window=length, skip=last or None, market=None if market is None else str(market.name)
        )
        for one in table.metadata
    ]
    return SeriesTable.from_arrays(
        values[positions - positions[0]] if len(positions) else values, table.index, metadata
    )


def _on_positions(block: Floats, positions: Ints) -> Floats:
    """Rows by period, so that an absent period is a row without values."""
    if not len(positions):
        return block
    every = np.full((int(positions[-1] - positions[0]) + 1, block.shape[1]), np.nan)
    every[positions - positions[0]] = block
    return every


def _compound(block: Floats, length: int, last: int) -> Floats:
    """Compounded returns of windows without their last rows; all must be there."""
    count, values = length - last, np.full(block.shape, np.nan)
    if len(block) >= length:
        with np.errstate(divide="ignore", invalid="ignore"):
            windows = np.lib.stride_tricks.sliding_window_view(1.0 + block[: len(block) - last], count, axis=0)
            values[length - 1 :] = windows.prod(axis=-1) - 1.0
    return values


def _market_on(table: SeriesTable, market: TimeSeries | pd.Series | None) -> Floats:
    """Market returns on the positions of a table."""
    if market is None:
        raise EstimationError("return_characteristic: beta needs market=, the returns of the market.")
    series = returns_in(market, "return_characteristic")
    if series.frequency != table.frequency:
        raise AlignmentError(
            f"return_characteristic: the market is {series.frequency.name}, the returns {table.frequency.name}."
        )
    place = pd.Index(series.ordinals).get_indexer(pd.Index(table.ordinals))
    values = np.where(place >= 0, simple_block(series)[np.maximum(place, 0), 0], np.nan)
    return _on_positions(values[:, None], positions_of(table.frequency, table.index))[:, 0]


def _spread_or_slope(block: Floats, factor: Floats | None, length: int, least: int) -> Floats:
    """Standard deviation, or slope on a factor, of every window; moments about the mean of each window."""
    values = np.full(block.shape, np.nan)
    if len(block) < least:
        return values
    y = np.vstack([np.full((length - 1, block.shape[1]), np.nan), block])
    x = None if factor is None else np.append(np.full(length - 1, np.nan), factor)
    for row in range(len(block)):
        part = y[row : row + length]
        there = np.isfinite(part)
        if x is not None:
            there &= np.isfinite(x[row : row + length])[:, None]
        count = there.sum(axis=0)
        some = np.maximum(count, 1)
        centred = np.where(there, part - np.where(there, part, 0.0).sum(axis=0) / some, 0.0)
        with np.errstate(divide="ignore", invalid="ignore"):
            if x is None:
                result = np.sqrt((centred**2).sum(axis=0) / (count - 1))
            else:
                level = np.where(there, x[row : row + length, None], 0.0)
                move = np.where(there, level - level.sum(axis=0) / some, 0.0)
                result = (centred * move).sum(axis=0) / (move**2).sum(axis=0)
        values[row] = np.where((count >= least) & np.isfinite(result), result, np.nan)
    return values


@validate_arguments
def market_value(prices: SeriesTable, shares: SeriesTable) -> SeriesTable:
    """Market value (market capitalisation): price times shares outstanding, for size sorts and value weights.

    Parameters
    ----------
    prices : SeriesTable, shape (T, N)
        Unadjusted prices at the end of each period.
    shares : SeriesTable, shape (T, N)
        Shares outstanding known at the end of each period.

    Returns
    -------
    SeriesTable
        Missing where a price or a number of shares is missing or not positive.

    Raises
    ------
    UnitError
        If the prices are adjusted: an adjusted price times shares is not a market value.
    AlignmentError
        If the frequencies differ, or an asset has no shares.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> price = SeriesTable.from_pandas(pd.DataFrame({"A": [2.0, 3.0]}, months), measure="price", currency="QML")
    >>> shares = pd.DataFrame({"A": [100.0, 100.0]}, months)
    >>> shares = SeriesTable.from_pandas(shares, measure="stock", unit="count")
    >>> market_value(price, shares).to_pandas()["A"].tolist()
    [200.0, 300.0]
    """
    other = [m for m in prices.metadata if m.measure not in ("price", "")]
    other += [m for m in shares.metadata if m.measure in ("price", "index", "return", "log_return", "rate")]
    if other:
        raise UnitError(
            f"market_value: {other[0].name} is {other[0].measure_in_words}; it takes prices, then shares."
        )
    adjusted = [m.name for m in prices.metadata if m.income == "total"]
    if adjusted:
        raise UnitError(f"market_value: the price of {adjusted[0]} is adjusted. Use unadjusted prices.")
    count = _in_step("market_value", "shares", shares, prices)
    with np.errstate(invalid="ignore"):
        values = np.where((prices.block > 0.0) & (count > 0.0), prices.block * count, np.nan)
    metadata = [
        m.replace(measure="stock", unit="currency" if m.currency else "", income="").add_step("market value")
        for m in prices.metadata
    ]
    return SeriesTable.from_arrays(values, prices.index, metadata)


def _in_step(doing: str, what: str, other: SeriesTable, table: SeriesTable) -> Floats:
    """Values of another table on the rows and columns of a table."""
    if other.frequency != table.frequency:
        raise AlignmentError(f"{doing}: {what} is {other.frequency.name}, but {table.frequency.name} is needed.")
    absent = [name for name in table.names if name not in other.names]
    if absent:
        raise AlignmentError(f"{doing}: {what} has no {absent[0]}; it has {choices(other.names)}.")
    rows = pd.Index(other.ordinals).get_indexer(pd.Index(table.ordinals))
    values = other.select(table.names).block[np.maximum(rows, 0)]
    return np.where(rows[:, None] >= 0, values, np.nan)


@validate_arguments
def combine_share_classes(market_values: SeriesTable, companies: Mapping[str, str]) -> SeriesTable:
    """Market value of companies with several share classes, at the class with the highest value at each date.

    The other classes of the company are missing there, so that a sort uses a company once.

    Parameters
    ----------
    market_values : SeriesTable, shape (T, N)
        Of each class.
    companies : mapping of str to str
        Company of each asset; an asset without one is a company of its own.

    Returns
    -------
    SeriesTable
        Of two classes with the same value the first by name is used.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=1, freq="M")
    >>> values = pd.DataFrame({"KLP.A": [70.0], "KLP.B": [30.0], "TTHL": [50.0]}, months)
    >>> values = SeriesTable.from_pandas(values, measure="stock")
    >>> combine_share_classes(values, {"KLP.A": "Kelp", "KLP.B": "Kelp"}).to_pandas().iloc[0].tolist()
    [100.0, nan, 50.0]
    """
    check_one_currency(
        market_values.metadata, "combine_share_classes", "Convert the market values with to_currency."
    )
    unknown = [name for name in companies if name not in market_values.names]
    if unknown:
        raise AlignmentError(
            f"combine_share_classes: no market value of {unknown[0]}; there are {choices(market_values.names)}."
        )
    block = market_values.block.copy()
    classes: dict[str, list[str]] = {}
    for name in sorted(companies):
        classes.setdefault(companies[name], []).append(name)
    for members in classes.values():
        columns = [market_values.names.index(name) for name in members]
        values = market_values.block[:, columns]
        total = np.where(np.isfinite(values).any(axis=1), np.nansum(values, axis=1), np.nan)
        largest = np.where(np.isfinite(values), values, -np.inf).argmax(axis=1)
        block[:, columns] = np.where(largest[:, None] == np.arange(len(columns)), total[:, None], np.nan)
    metadata = [m.add_step("share classes", companies=len(classes)) for m in market_values.metadata]
    return SeriesTable.from_arrays(block, market_values.index, metadata)


@dataclass(frozen=True, eq=False, repr=False)
class PointInTimeAccounts(TextInNotebooks):
    """Values of accounts as they were known at the end of each period.

    Attributes
    ----------
    values : SeriesTable, shape (T, N)
    age : DataFrame, shape (T, N)
        Months since the end of the fiscal period of the value.
    counts : Series
        Records used, records that never count and why, and values that are too old.
    basis : str

    Examples
    --------
    >>> import ultrum as ul
    >>> ul.practice.stocks(60, 72).accounts.counts["records"].item() > 0
    True
    """

    values: SeriesTable
    age: pd.DataFrame
    counts: pd.Series
    basis: str

    def to_pandas(self) -> pd.DataFrame:
        """The values, a column per asset.

        Returns
        -------
        DataFrame, shape (T, N)
            In the currency of the records.
        """
        return self.values.to_pandas()

    def __repr__(self) -> str:
        return f"{self.values!r}\n{textwrap.fill(self.basis, WIDTH)}"


@validate_arguments
def point_in_time_accounts(
    records: pd.DataFrame,
    at: SeriesTable,
    *,
    item: str = "value",
    lag: str | None = None,
    max_age: str = "P18M",
    currency: str | None = None,
) -> PointInTimeAccounts:
    """Values of accounts known at the end of each period: the newest fiscal period released by then.

    A restatement counts from its own release. A release on a weekend is known on that day.

    Parameters
    ----------
    records : DataFrame
        ``asset``, ``period`` (end of the fiscal period), ``released`` (day of the filing) and the item.
    at : SeriesTable
        A table with the assets and periods wanted, such as the returns.
    item : str
        Column with the values.
    lag : str, optional
        Publication lag after the fiscal period, such as ``"P6M"``, if the records have no ``released``.
    max_age : str
        Maximum time since the end of the fiscal period, in years or months.
    currency : str, optional
        Currency of the values.

    Returns
    -------
    PointInTimeAccounts
        Values by period, their age, and counts of records.

    Raises
    ------
    AlignmentError
        If a column is missing, a record occurs twice, or a release is before the end of its fiscal period.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=4, freq="M")
    >>> r = SeriesTable.from_pandas(pd.DataFrame({"A": [0.0] * 4}, months), measure="return")
    >>> book = pd.DataFrame({"asset": ["A", "A"], "period": ["2023-12-31"] * 2, "value": [10.0, 12.0],
    ...                      "released": ["2024-02-20", "2024-04-02"]})
    >>> point_in_time_accounts(book, r).to_pandas()["A"].tolist()
    [nan, 10.0, 10.0, 12.0]
    """
    longest = months_in(max_age)
    if not longest:
        raise EstimationError(
            f"point_in_time_accounts: max_age='{max_age}' is not a duration in years or months; use P18M."
        )
    clean, counts = _clean_records(records, at, item, lag)
    days = at.frequency.ends(at.ordinals)
    values, age = np.full((2, len(days), len(at.names)), np.nan)
    stale = 0
    place = {name: column for column, name in enumerate(at.names)}
    for asset, part in clean.groupby("asset", sort=False):
        column = place[str(asset)]
        newest = part["period"].cummax()
        current = part[part["period"].to_numpy() == newest.to_numpy()]
        row = np.searchsorted(current["released"].to_numpy(), days, side="right") - 1
        ends = current["period"].to_numpy()[np.maximum(row, 0)]
        fresh = months_before(days + DAY, longest) <= ends + DAY
        stale += bool(((row >= 0) & ~fresh).any())
        there = (row >= 0) & fresh
        values[:, column] = np.where(there, current[item].to_numpy()[np.maximum(row, 0)], np.nan)
        months = (days.astype("datetime64[M]") - ends.astype("datetime64[M]")).astype(np.float64)
        age[:, column] = np.where(there, months, np.nan)
    counts[f"assets with a value older than {max_age}"] = stale
    metadata = [
        m.replace(
            measure="stock", unit="currency" if currency else "", currency=currency or "", income="", excess_of=""
        ).add_step("point-in-time accounts", item=item, lag=lag, max_age=max_age)
        for m in at.metadata
    ]
    table = SeriesTable.from_arrays(values, at.index, metadata)
    listed = "; ".join(f"{name}: {number:,}" for name, number in counts.items())
    basis = f"'{item}' as known at the end of each {at.frequency.noun}, at most {max_age} old; {listed}."
    return PointInTimeAccounts(table, pd.DataFrame(age, at.index, at.names), pd.Series(counts), basis)


def _clean_records(
    records: pd.DataFrame, at: SeriesTable, item: str, lag: str | None
) -> tuple[pd.DataFrame, dict[str, int]]:
    """Records of the assets wanted, ordered by release, and counts of all."""
    needed = ["asset", "period", item] + ([] if lag else ["released"])
    absent = [name for name in needed if name not in records]
    if absent:
        fix = (
            " Set lag=, such as 'P6M', if the days of the filings are unknown." if absent == ["released"] else ""
        )
        raise AlignmentError(
            f"point_in_time_accounts: the records have no column '{absent[0]}'; they have "
            f"{choices([str(c) for c in records])}.{fix}"
        )
    if lag and "released" in records:
        raise AlignmentError("point_in_time_accounts: the records have the days of their release. Remove lag=.")
    values = pd.to_numeric(records[item], errors="coerce")
    text = values.isna() & records[item].notna() & (records[item].astype(str).str.strip() != "")
    if text.any():
        first, others = records[text].iloc[0], int(text.sum()) - 1
        raise AlignmentError(
            f"point_in_time_accounts: '{first[item]}' of {first['asset']} in '{item}' is not a number"
            f"{f', nor are {others:,} other cells' if others else ''}. Write numbers, or leave them empty."
        )
    frame = pd.DataFrame({"asset": asset_codes(records["asset"]).to_numpy(), item: values.to_numpy(np.float64)})
    frame["period"] = period_ends_in(records["period"], "period")
    if lag:
        months = months_in(lag)
        if not months:
            raise EstimationError(
                f"point_in_time_accounts: lag='{lag}' is not a duration in years or months, such as P6M."
            )
        after: Dates = np.asarray(frame["period"].to_numpy().astype("datetime64[D]") + DAY)
        frame["released"] = months_before(after, -months) - DAY
    else:
        frame["released"] = days_in(records["released"], "released")
    early = frame["released"] < frame["period"]
    if early.any():
        first = frame[early].iloc[0]
        raise AlignmentError(
            f"point_in_time_accounts: {first['asset']}, {first['period']:%Y-%m-%d}: released on "
            f"{first['released']:%Y-%m-%d}, before the fiscal period ends."
        )
    twice = frame.duplicated(["asset", "period", "released"])
    if twice.any():
        first = frame[twice].iloc[0]
        raise AlignmentError(
            f"point_in_time_accounts: {first['asset']}, {first['period']:%Y-%m-%d} occurs twice on "
            f"{first['released']:%Y-%m-%d}. Keep one record."
        )
    wanted, finite = frame["asset"].isin(at.names), np.isfinite(frame[item])
    counts = {
        "records": len(frame),
        "of other assets": int((~wanted).sum()),
        "without a value": int((wanted & ~finite).sum()),
    }
    good = frame[wanted & finite].sort_values(["asset", "released", "period"], kind="stable")
    newest = good.groupby("asset")["period"].cummax()
    counts["restatements of earlier periods, not used"] = int((good["period"] != newest).sum())
    return good, counts


@validate_arguments
def book_to_market(
    book: SeriesTable | PointInTimeAccounts,
    market_values: SeriesTable,
    *,
    market_month: int | None = None,
    nonpositive: Literal["exclude", "keep"] = "exclude",
) -> SeriesTable:
    """Book-to-market ratio, known at the end of each period.

    Parameters
    ----------
    book : SeriesTable or PointInTimeAccounts
        Book value of equity known at the end of each period.
    market_values : SeriesTable
        Market values of the same assets and frequency.
    market_month : int, optional
        Use the market value of the last such month, such as 12 for the end of December (Fama and French 1993);
        by default that of the period itself.
    nonpositive : {"exclude", "keep"}
        Companies with a zero or negative book value are missing, or have their ratio.

    Returns
    -------
    SeriesTable
        The step in the trail counts excluded values.

    References
    ----------
    Fama, E. F., and K. R. French (1993), Common risk factors in the returns on stocks and bonds. Journal of
    Financial Economics 33, 3–56.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> book = pd.DataFrame({"A": [50.0, 60.0], "B": [-1.0, 5.0]}, months)
    >>> book = SeriesTable.from_pandas(book, measure="stock")
    >>> value = pd.DataFrame({"A": [100.0, 80.0], "B": [10.0, 10.0]}, months)
    >>> value = SeriesTable.from_pandas(value, measure="stock")
    >>> book_to_market(book, value).to_pandas().values.tolist()
    [[0.5, nan], [0.75, 0.5]]
    """
    table = book.values if isinstance(book, PointInTimeAccounts) else book
    currencies = {m.currency for m in (*table.metadata, *market_values.metadata) if m.currency}
    if len(currencies) > 1:
        check_one_currency(
            (*table.metadata, *market_values.metadata), "book_to_market", "Convert one of them with to_currency."
        )
    market = _in_step("book_to_market", "market_values", market_values, table)
    if market_month is not None:
        market = (
            market[_last_month_rows(table.frequency, table.ordinals, market_month)] if len(market) else market
        )
        market = np.where(_has_month(table.frequency, table.ordinals, market_month)[:, None], market, np.nan)
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = np.where(market > 0.0, table.block / market, np.nan)
        bad = np.isfinite(ratio) & (table.block <= 0.0)
    excluded = int(bad.sum()) if nonpositive == "exclude" else 0
    values = np.where(bad, np.nan, ratio) if excluded else ratio
    metadata = [
        m.replace(measure="score", unit="", currency="").add_step(
            "book to market", market_month=market_month, book_not_positive=excluded or None
        )
        for m in table.metadata
    ]
    return SeriesTable.from_arrays(values, table.index, metadata)


def _months_of(frequency: Frequency, ordinals: Ints) -> tuple[Dates, Ints]:
    days = frequency.ends(ordinals)
    return days, np.asarray(days.astype("datetime64[M]").astype(np.int64) % 12 + 1)


def _last_month_rows(frequency: Frequency, ordinals: Ints, month: int) -> Ints:
    """Row of the last period that ends in a month, at or before each row; 0 where there is none."""
    if not 1 <= month <= 12:
        raise EstimationError(f"book_to_market: market_month={month} is not a month from 1 to 12.")
    _, months = _months_of(frequency, ordinals)
    return np.maximum.accumulate(np.where(months == month, np.arange(len(ordinals)), 0))


def _has_month(frequency: Frequency, ordinals: Ints, month: int) -> Bools:
    """Whether a period that ended in a month, not more than a year ago, is at or before each row."""
    days, months = _months_of(frequency, ordinals)
    seen = np.maximum.accumulate(np.where(months == month, np.arange(len(ordinals)), -1))
    last = days[np.maximum(seen, 0)].astype("datetime64[M]")
    return np.asarray((seen >= 0) & ((days.astype("datetime64[M]") - last).astype(np.int64) < 12))
