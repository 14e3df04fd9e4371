"""Growth rates and differences, rebasing, deflating to real values, cumulation to levels."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.series.input_checks import check_size, on_block, returns_of
from ultrum.core.series.metadata import Metadata, hindsight_of
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency, months_in, parse_period, periods_in
from ultrum.core.time.index_frequency_and_gaps import positions_of
from ultrum.core.time.period_labels_and_relative_dates import period_label, span_of
from ultrum.core.transform.rolling_statistics import months_before, row_before
from ultrum.errors import AlignmentError, CurrencyError, FrequencyError, UnitError, choices, name_list


@on_block(plain="")
@validate_arguments
def growth(
    x: SeriesTable, *, over: str = "P1Y", kind: Literal["simple", "log"] = "simple", annualised: bool = False
) -> SeriesTable:
    """Growth rates, year-on-year or period-on-period, simple or logarithmic, annualised or not.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Levels: prices, indices, stocks or flows.
    over : str
        ISO 8601 duration, such as ``"P1Y"`` or ``"P3M"``. For daily data the earlier value is the last on or
        before the same day, at most five weekdays old.
    kind : {"simple", "log"}
        x/x₋ − 1, or log(x/x₋).
    annualised : bool
        Annualise the growth rate: (1+g)^(P/n) − 1, or g·P/n for logs.

    Returns
    -------
    TimeSeries or SeriesTable
        Decimals; missing where either end is missing. The first periods, which have no earlier value, are
        omitted.

    Raises
    ------
    UnitError
        If ``x`` is already a rate or a return, or has values that are not positive.

    Examples
    --------
    >>> import pandas as pd
    >>> from ultrum.core.series.time_series import TimeSeries
    >>> cpi = pd.Series([100.0, 101.0, 103.02], pd.period_range("2024-01", periods=3, freq="M"))
    >>> cpi = TimeSeries.from_pandas(cpi, name="cpi", measure="index", timing="average")
    >>> growth(cpi, over="P1M").to_pandas().round(4).tolist()
    [0.01, 0.02]
    """
    for metadata in x.metadata:
        _check_level(metadata, x[metadata.name].values.to_numpy())
    rows, earlier, there = _earlier(x, over)
    ratio = np.where(there[:, None], x.block[rows] / x.block[earlier], np.nan)
    grown = np.log(ratio) if kind == "log" else ratio - 1.0
    if annualised:
        months = months_in(over)
        lag = months / 12 if months else periods_in(over, x.frequency) / x.frequency.periods_per_year
        grown = _annualise(grown, 1.0 / lag, kind)
    facts = {"measure": "rate", "unit": "decimal", "currency": "", "base_period": ""}
    noted = annualised or None
    metadata_list = [a.add_step("growth", facts, over=over, kind=kind, annualised=noted) for a in x.metadata]
    return SeriesTable.from_arrays(grown, x.index[rows], metadata_list)


@on_block(plain="")
@validate_arguments
def difference(x: SeriesTable, *, over: str | None = None) -> SeriesTable:
    """Differences over a calendar span, in the unit of the series.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Rates, indices, stocks, scores; not returns.
    over : str, optional
        ISO 8601 duration; by default one period.

    Returns
    -------
    TimeSeries or SeriesTable
        Missing where either end is. The change of a stock is a flow; that of a rate stays a rate.

    Raises
    ------
    UnitError
        If ``x`` contains returns, which are already changes. Use cumulate first for levels.

    Examples
    --------
    >>> import pandas as pd
    >>> from ultrum.core.series.time_series import TimeSeries
    >>> rate = pd.Series([0.02, 0.025], pd.period_range("2024-01", periods=2, freq="M"))
    >>> difference(TimeSeries.from_pandas(rate, measure="rate", timing="end")).to_pandas().round(4).tolist()
    [0.005]
    """
    for metadata in x.metadata:
        if metadata.is_return:
            raise UnitError(
                f"{metadata.name} contains returns, which are already changes. Use cumulate first for levels."
            )
    rows, earlier, there = _earlier(x, over)
    differences = np.where(there[:, None], x.block[rows] - x.block[earlier], np.nan)
    metadata_list = []
    for metadata in x.metadata:
        measure = {"stock": "flow", "rate": "rate", "flow": "flow"}.get(metadata.measure, "")
        timing = "total" if metadata.measure == "stock" else metadata.timing
        facts = {"measure": measure, "timing": timing}
        metadata_list.append(metadata.add_step("difference", facts, over=over or f"1 {x.frequency.noun}"))
    return SeriesTable.from_arrays(differences, x.index[rows], metadata_list)


def _earlier(x: SeriesTable, over: str | None) -> tuple[Ints, Ints, Bools]:
    """Rows with an earlier value, the row of that value, and whether it exists."""
    ordinals = x.ordinals
    if not len(ordinals):
        return ordinals, ordinals, ordinals.astype(bool)
    if x.frequency.is_dated and (over is None or months_in(over)):
        return _earlier_day(x, months_in(over) if over else 0)
    lag = 1 if over is None else periods_in(over, x.frequency)
    rows = np.flatnonzero(ordinals >= ordinals[0] + lag)
    if not len(rows):
        raise AlignmentError(_too_short(x, over or "one period"))
    earlier = np.searchsorted(ordinals, ordinals[rows] - lag)
    return rows, earlier, ordinals[earlier] == ordinals[rows] - lag


def _too_short(x: SeriesTable, over: str) -> str:
    return f"{name_list(x.names)} ({span_of(x.index)}): no value has one {over} before it."


def _earlier_day(x: SeriesTable, months: int) -> tuple[Ints, Ints, Bools]:
    """For dated series: the previous observation, or the last on or before the same day some months earlier."""
    if not months:
        rows = np.arange(1, len(x.index))
        return rows, rows - 1, np.diff(positions_of(x.frequency, x.index)) == 1
    days = x.frequency.starts(x.ordinals)
    back = months_before(days, months)
    rows = np.flatnonzero(back >= days[0])
    if not len(rows):
        raise AlignmentError(_too_short(x, quantity(months, "month")))
    place = row_before(days, back[rows])
    return rows, np.maximum(place, 0), place >= 0


def _annualise(grown: Floats, times: float, kind: str) -> Floats:
    return grown * times if kind == "log" else np.expm1(times * np.log1p(grown))


def _check_level(metadata: Metadata, values: Floats) -> None:
    if metadata.measure in ("rate", "return", "log_return"):
        raise UnitError(
            f"{metadata.name} is {metadata.measure_in_words} already; growth needs a level. "
            "Use difference for the change of a rate."
        )
    if np.nanmin(values, initial=np.inf) <= 0:
        raise UnitError(
            f"{metadata.name} has values that are zero or negative; its growth is not meaningful. Use difference."
        )


# Cumulating: changes, flows or returns added up to a level


@on_block()
@validate_arguments
def cumulate(x: SeriesTable, *, initial: float | None = None) -> SeriesTable:
    """Cumulation: running totals of flows, or the value of an amount invested at the returns.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Flows give a running sum, returns and log returns the value of an investment.
    initial : float, optional
        The sum before the first flow, by default 0; the amount invested, by default 1.

    Returns
    -------
    SeriesTable
        Totals, or the value of the investment.

    Raises
    ------
    UnitError
        If values are missing inside, since nothing can be added across a gap, or the measure is another one.

    Examples
    --------
    >>> import ultrum as ul
    >>> import pandas as pd
    >>> r = pd.Series([0.1, -0.1], pd.period_range("2024-01", periods=2, freq="M"))
    >>> cumulate(ul.TimeSeries.from_pandas(r, measure="return")).to_pandas().round(4).tolist()
    [1.1, 0.99]
    """
    kinds = {a.measure for a in x.metadata}
    if len(kinds) > 1 or not kinds <= {"flow", "return", "log_return"}:
        raise UnitError(f"cumulate needs flows or returns, not {', '.join(sorted(kinds))}.")
    check_size(returns_of(x), "cumulate")
    kind = kinds.pop()
    block = x.block
    inside = np.isfinite(block)
    _refuse_gaps(x, inside)
    first = (0.0 if kind == "flow" else 1.0) if initial is None else initial
    cumulated = _cumulate_values(np.where(inside, block, 0.0), kind, first)
    facts = {"measure": "stock" if kind == "flow" else "index", "timing": "end"}
    if kind != "flow":
        facts["unit"] = "index"
    metadata_list = [a.add_step("cumulated", facts, start=f"{first:g}") for a in x.metadata]
    return SeriesTable.from_arrays(np.where(inside, cumulated, np.nan), x.index, metadata_list)


def _cumulate_values(clean: Floats, kind: str, first: float) -> Floats:
    if kind == "flow":
        return np.asarray(first + np.cumsum(clean, axis=0))
    if kind == "return":
        return np.asarray(first * np.cumprod(1.0 + clean, axis=0))
    return np.asarray(first * np.exp(np.cumsum(clean, axis=0)))


def _refuse_rates(metadata: Metadata, done: str) -> None:
    if metadata.measure in ("rate", "return", "log_return", "score"):
        raise UnitError(
            f"{metadata.name} is {metadata.measure_in_words}, not a level, and cannot be {done}. "
            "Returns become a level with cumulate."
        )


def _refuse_gaps(x: SeriesTable, inside: Bools) -> None:
    for column, name in enumerate(x.names):
        rows = np.flatnonzero(inside[:, column])
        if not len(rows):
            continue
        holes = np.flatnonzero(~inside[rows[0] : rows[-1] + 1, column])
        steps = np.diff(positions_of(x.frequency, x.index)[rows])
        skipped = np.flatnonzero(steps != 1)
        if len(holes) or len(skipped):
            place = (
                f"from {period_label(x.index[rows[0] + holes[0]])} on"
                if len(holes)
                else f"after {period_label(x.index[rows[skipped[0]]])}"
            )
            raise UnitError(
                f"{name}: values are missing {place}; nothing can be cumulated across a gap. Fill it, or use a "
                "sample without it."
            )


# Rebasing: index levels relative to a base period


@on_block(plain="")
@validate_arguments
def rebase(x: SeriesTable, base: str = "first", *, value: float = 100.0) -> SeriesTable:
    """Rebased indices: levels relative to a base period.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Prices, indices, stocks, flows or quotes.
    base : str
        Period at which each series equals ``value``: one of its own, a longer one whose average is used
        (``"2015"``), or ``"first"``, the first common one.
    value : float
        Level in the base period.

    Returns
    -------
    SeriesTable
        Levels, with their base in the metadata.

    Raises
    ------
    AlignmentError
        If a series has no value in that period, or covers only part of it.
    UnitError
        If a series is a rate or a return.

    Examples
    --------
    >>> import ultrum as ul
    >>> import pandas as pd
    >>> cpi = pd.Series([80.0, 100.0], pd.period_range("2024-01", periods=2, freq="M"))
    >>> cpi = ul.TimeSeries.from_pandas(cpi, measure="index", timing="average")
    >>> rebase(cpi, "2024-01").to_pandas().tolist()
    [100.0, 125.0]
    """
    for metadata in x.metadata:
        _refuse_rates(metadata, "rebased")
    rows, label = _base_rows(x, base)
    base_values = x.block[rows]
    lacking = [n for n, part in zip(x.names, base_values.T, strict=True) if not np.isfinite(part).all()]
    if lacking:
        valid = x[lacking[0]].values.dropna().index
        raise AlignmentError(
            f"{lacking[0]} has no value in every period of {label}; it has {span_of(valid)}. Rebase to a "
            "period that all series have, or to 'first'."
        )
    level = base_values.mean(axis=0)
    if (level <= 0).any():
        raise UnitError(f"{x.names[int(np.argmax(level <= 0))]} is not positive in {label}.")
    facts = {"measure": "index", "unit": "index", "currency": "", "base_period": label}
    metadata_list = [a.add_step("rebased", facts, to=label, value=f"{value:g}") for a in x.metadata]
    return SeriesTable.from_arrays(x.block * (value / level), x.index, metadata_list)


def _base_rows(x: SeriesTable, to: str) -> tuple[Bools | Ints, str]:
    """Rows of the base period and its name."""
    if to == "first":
        whole = np.flatnonzero(np.isfinite(x.block).all(axis=1))
        if not len(whole):
            raise AlignmentError(f"{choices(x.names)} have no period in common with values for all.")
        return whole[:1], period_label(x.index[whole[0]])
    code, _ = parse_period(to)
    frequency = Frequency(code) if code != "D" else x.frequency
    if not x.frequency < frequency:
        frequency = x.frequency
    asked = frequency.ordinal_of_name(to)
    in_period = frequency.ordinals(x.frequency.ends(x.ordinals)) == asked
    expected = 1
    if not x.frequency.is_dated and frequency != x.frequency:
        ends = frequency.ends(np.array([asked]))
        expected = int(
            x.frequency.ordinals(ends)[0] - x.frequency.ordinals(frequency.starts(np.array([asked])))[0] + 1
        )
    if in_period.sum() < expected:
        rows = (
            f"only {int(in_period.sum())} of its {expected} {x.frequency.noun}s"
            if in_period.any()
            else "no period"
        )
        raise AlignmentError(f"{name_list(x.names)} ({span_of(x.index)}): {rows} of {to}. Choose another base.")
    return in_period, to


# Deflating: nominal values at the prices of a base period


@on_block()
@validate_arguments
def deflate(x: SeriesTable, prices: TimeSeries, *, base: str = "last") -> SeriesTable:
    """Real (constant-price) values, or real returns.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Amounts or prices in a currency, indices of them, or simple returns.
    prices : TimeSeries
        A price index of the same frequency.
    base : str
        Base period of the prices, as for :func:`rebase`, or ``"last"`` for the last common one.

    Returns
    -------
    TimeSeries or SeriesTable
        Over the common periods; a real return is (1+r)/(1+π) − 1.

    Raises
    ------
    UnitError
        If ``prices`` is not an index, or ``x`` is a rate or of another region.
    FrequencyError
        If the frequencies differ.

    Examples
    --------
    >>> import pandas as pd
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> pay = TimeSeries.from_pandas(pd.Series([100.0, 110.0], months), measure="flow", currency="QML")
    >>> cpi = TimeSeries.from_pandas(pd.Series([100.0, 110.0], months), measure="index", timing="average")
    >>> deflate(pay, cpi, base="2024-01").to_pandas().round(9).tolist()
    [100.0, 100.0]
    """
    for metadata in x.metadata:
        _check_deflating(metadata, prices.metadata)
    index = x.index.intersection(prices.values.dropna().index)
    lost = len(x.index) - len(index) or None
    if not len(index):
        raise AlignmentError(
            f"{x.names[0]} ({span_of(x.index)}) and {prices.name} ({span_of(prices.index)}) have no period in "
            "common."
        )
    common = prices.values.reindex(index)
    if all(a.is_return for a in x.metadata):
        inflation = _inflation(prices).reindex(index).to_numpy()
        block = (1.0 + x.values.reindex(index).to_numpy()) / (1.0 + inflation[:, None]) - 1.0
        metadata_list = [
            a.add_step(
                "deflated",
                {"hindsight": hindsight_of([a, prices.metadata])},
                by=prices.name,
                rows_without_prices=lost,
            )
            for a in x.metadata
        ]
        return SeriesTable.from_arrays(block, index, metadata_list)
    wanted = period_label(index[-1]) if base == "last" else base
    at = TimeSeries(common, prices.metadata)
    price_level = rebase(at, wanted, value=1.0).values.to_numpy()
    block = x.values.reindex(index).to_numpy() / price_level[:, None]
    metadata_list = [
        a.add_step(
            "deflated",
            {"base_period": f"prices of {wanted}", "hindsight": hindsight_of([a, prices.metadata])},
            by=prices.name,
            base=wanted,
            rows_without_prices=lost,
        )
        for a in x.metadata
    ]
    return SeriesTable.from_arrays(block, index, metadata_list)


def _check_deflating(metadata: Metadata, prices: Metadata) -> None:
    if prices.measure not in ("index", "price"):
        raise UnitError(
            f"{prices.name} is {prices.measure_in_words}; deflate needs a price index. Cumulate inflation rates "
            "into an index first."
        )
    if prices.frequency != metadata.frequency:
        raise FrequencyError(
            f"{metadata.name} is {metadata.frequency.name}, {prices.name} {prices.frequency.name}: bring both to "
            "one frequency with to_frequency first."
        )
    if metadata.measure in ("rate", "log_return", "score", "quote"):
        raise UnitError(
            f"{metadata.name} is {metadata.measure_in_words}; only amounts, prices, indices and simple "
            "returns deflate. A real rate is a rate less expected inflation."
        )
    if metadata.region and prices.region and metadata.region != prices.region:
        raise UnitError(
            f"{metadata.name} is of {metadata.region}, the prices {prices.name} of {prices.region}. "
            "Use the price index of the same region."
        )
    if metadata.currency and prices.currency and metadata.currency != prices.currency:
        raise CurrencyError(
            f"{metadata.name} is in {metadata.currency}, the prices {prices.name} in {prices.currency}."
        )


def _inflation(prices: TimeSeries) -> pd.Series:
    ordinals = prices.ordinals
    values = prices.values.to_numpy()
    change = np.full(len(values), np.nan)
    change[1:] = np.where(np.diff(ordinals) == 1, values[1:] / values[:-1] - 1.0, np.nan)
    return pd.Series(change, prices.index)
