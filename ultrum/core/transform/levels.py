"""Levels made comparable: rebased, deflated, cumulated, lagged, filled, one less another."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.series.labels import period_label, span_of
from ultrum.core.series.metadata import Metadata, check_same
from ultrum.core.series.series_or_table import on_block
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.durations import periods_in
from ultrum.core.time.frequency import Frequency, parse_period
from ultrum.core.time.gaps import positions_of
from ultrum.errors import AlignmentError, CurrencyError, FrequencyError, UnitError


@on_block
@checked
def rebase(x: SeriesTable, to: str = "first", *, value: float = 100.0) -> SeriesTable:
    """Levels on a common base.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Prices, indices, stocks, flows or quotes.
    to : str
        Period at which each becomes ``value``: one of its own, a longer one whose average is meant
        (``"2015"``), or ``"first"``, the first at which all have a value.
    value : float

    Raises
    ------
    AlignmentError
        If a series has no value in that period, or only part of it.
    UnitError
        If a series is a rate or a return.

    Examples
    --------
    >>> import pandas as pd
    >>> cpi = pd.Series([80.0, 100.0], pd.period_range("2024-01", periods=2, freq="M"))
    >>> cpi = TimeSeries.from_pandas(cpi, measure="index", timing="average")
    >>> rebase(cpi, "2024-01").to_pandas().tolist()
    [100.0, 125.0]
    """
    for metadata in x.metadata:
        _refuse_rates(metadata, "rebased")
    rows, label = _base_rows(x, to)
    base = x.block[rows]
    lacking = [n for n, part in zip(x.names, base.T, strict=True) if not np.isfinite(part).all()]
    if lacking:
        own = x[lacking[0]].values.dropna().index
        raise AlignmentError(
            f"{lacking[0]} has no value in every period of {label}; it has {span_of(own)}. Rebase to a "
            "period that all series have, or to 'first'."
        )
    level = base.mean(axis=0)
    if (level <= 0).any():
        raise UnitError(f"{x.names[int(np.argmax(level <= 0))]} is not positive in {label}.")
    facts = {"measure": "index", "unit": "index", "currency": "", "base_period": label}
    metadata_list = [a.stepped("rebased", facts, to=label, value=f"{value:g}") for a in x.metadata]
    return SeriesTable.from_arrays(x.block * (value / level), x.index, metadata_list)


@on_block
@checked
def deflate(x: SeriesTable, prices: TimeSeries, *, base: str = "last") -> SeriesTable:
    """Money amounts at the prices of one period, or returns after inflation.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Amounts or prices in a currency, indices of them, or simple returns.
    prices : TimeSeries
        A price index of the same frequency.
    base : str
        Period whose prices are used, as for :func:`rebase`, or ``"last"`` common one.

    Returns
    -------
    TimeSeries or SeriesTable
        On the periods both have; a return is (1+r)/(1+π) − 1.

    Raises
    ------
    UnitError
        If ``prices`` is no index, or ``x`` a rate or of another region.
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
            f"{x.names[0]} ({span_of(x.index)}) and {prices.name} ({span_of(prices.index)}) share no period."
        )
    common = prices.values.reindex(index)
    if all(a.is_return for a in x.metadata):
        inflation = _inflation(prices).reindex(index).to_numpy()
        block = (1.0 + x.values.reindex(index).to_numpy()) / (1.0 + inflation[:, None]) - 1.0
        metadata_list = [
            a.stepped("deflated", by=prices.name, rows_without_prices=lost) for a in x.metadata
        ]
        return SeriesTable.from_arrays(block, index, metadata_list)
    wanted = period_label(index[-1]) if base == "last" else base
    at = TimeSeries(common, prices.metadata)
    price_level = rebase(at, wanted, value=1.0).values.to_numpy()
    block = x.values.reindex(index).to_numpy() / price_level[:, None]
    metadata_list = [
        a.stepped(
            "deflated",
            {"base_period": f"prices of {wanted}"},
            by=prices.name,
            base=wanted,
            rows_without_prices=lost,
        )
        for a in x.metadata
    ]
    return SeriesTable.from_arrays(block, index, metadata_list)


@on_block
@checked
def cumulate(x: SeriesTable, *, start: float | None = None) -> SeriesTable:
    """Running totals of flows, or the growth of an amount at the returns of each period.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Flows (running sum from ``start``, by default 0), returns or log returns (what ``start``, by
        default 1, has grown to).

    Raises
    ------
    UnitError
        If values are missing inside, since nothing can be added across a gap, or the measure is none
        of these.

    Examples
    --------
    >>> import pandas as pd
    >>> r = pd.Series([0.1, -0.1], pd.period_range("2024-01", periods=2, freq="M"))
    >>> cumulate(TimeSeries.from_pandas(r, measure="return")).to_pandas().round(4).tolist()
    [1.1, 0.99]
    """
    kinds = {a.measure for a in x.metadata}
    if len(kinds) > 1 or not kinds <= {"flow", "return", "log_return"}:
        raise UnitError(f"cumulate takes flows or returns, not {', '.join(sorted(kinds))}.")
    kind = kinds.pop()
    block = x.block
    inside = np.isfinite(block)
    _refuse_gaps(x, inside)
    first = (0.0 if kind == "flow" else 1.0) if start is None else start
    made = _cumulated(np.where(inside, block, 0.0), kind, first)
    facts = {"measure": "stock" if kind == "flow" else "index", "timing": "end"}
    if kind != "flow":
        facts["unit"] = "index"
    metadata_list = [a.stepped("cumulated", facts, start=f"{first:g}") for a in x.metadata]
    return SeriesTable.from_arrays(np.where(inside, made, np.nan), x.index, metadata_list)


@on_block
@checked
def lag(x: SeriesTable, over: str | int = 1) -> SeriesTable:
    """Values moved to later periods, where they are the past; none is lost.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
    over : str or int
        Periods, or a duration such as ``"P3M"``.

    Examples
    --------
    >>> import pandas as pd
    >>> x = pd.Series([1.0, 2.0], pd.period_range("2024-01", periods=2, freq="M"))
    >>> lag(TimeSeries.from_pandas(x, measure="score")).to_pandas().index[-1]
    Period('2024-03', 'M')
    """
    count = int(over) if str(over).isdigit() else periods_in(str(over), x.frequency)
    if count < 1:
        raise FrequencyError(
            f"A lag of {count} periods would bring the future in; take at least 1."
        )
    if x.frequency.code in "HN":
        raise FrequencyError("Intraday series are not lagged by periods; convert them to days.")
    index = x.frequency.index(x.ordinals + count)
    return SeriesTable.from_arrays(
        x.block.copy(), index, [a.stepped("lagged", by=over) for a in x.metadata]
    )


@on_block
@checked
def fill(x: SeriesTable, how: str = "forward", *, limit: int | None = None) -> SeriesTable:
    """Missing values from the one before or after; how many is said on the trail.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
    how : {"forward", "backward", "none"}
        With ``"none"`` periods that are not listed are only put in, missing.
    limit : int, optional
        Periods filled in a row at most.

    Raises
    ------
    UnitError
        If a flow or a return would be repeated, which would count it twice.

    Examples
    --------
    >>> import numpy as np, pandas as pd
    >>> x = pd.Series([1.0, np.nan, np.nan], pd.period_range("2024-01", periods=3, freq="M"))
    >>> filled = fill(TimeSeries.from_pandas(x, measure="rate", timing="end"), limit=1)
    >>> filled.to_pandas().tolist(), str(filled.metadata.trail[-1])
    ([1.0, 1.0, nan], 'filled (how forward, limit 1, values 1)')
    """
    if how not in ("forward", "backward", "none"):
        raise UnitError(f"how='{how}' is not known; it is forward, backward or none.")
    for metadata in x.metadata:
        if how != "none" and (metadata.measure == "flow" or metadata.is_return):
            raise UnitError(
                f"{metadata.name} holds {metadata.measure.replace('_', ' ')}s; repeating one counts it twice."
            )
    frame = x.values
    if not x.frequency.is_dated and len(x.index):
        every = np.arange(x.ordinals[0], x.ordinals[-1] + 1)
        frame = frame.reindex(x.frequency.index(every))
    filled = {"forward": frame.ffill, "backward": frame.bfill}
    made = filled[how](limit=limit) if how in filled else frame
    counts = (frame.isna() & made.notna()).sum().to_numpy()
    metadata_list = [
        a.stepped("filled", how=how, limit=limit, values=int(c))
        for a, c in zip(x.metadata, counts, strict=True)
    ]
    return SeriesTable.from_arrays(
        np.array(made.to_numpy(dtype=np.float64)), made.index, metadata_list
    )


@checked
def spread(long: TimeSeries, short: TimeSeries, *, name: str = "") -> TimeSeries:
    """One series less another of the same kind, such as a long rate less a short one.

    Raises
    ------
    UnitError, FrequencyError, CurrencyError
        If frequency, measure, unit, currency or timing differ.
    AlignmentError
        If they share no period.

    Examples
    --------
    >>> import pandas as pd
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> ten = TimeSeries.from_pandas(pd.Series([0.04, 0.03], months), name="ten", measure="rate")
    >>> bill = TimeSeries.from_pandas(pd.Series([0.03, 0.035], months), name="bill", measure="rate")
    >>> spread(ten, bill).to_pandas().round(4).tolist()
    [0.01, -0.005]
    """
    check_same(long.metadata, short.metadata, "less")
    if (
        long.metadata.timing
        and short.metadata.timing
        and long.metadata.timing != short.metadata.timing
    ):
        raise UnitError(
            f"{long.name} is at the {long.metadata.timing} of a {long.metadata.frequency.noun}, {short.name} at "
            f"the {short.metadata.timing}; bring both to one."
        )
    if long.metadata.measure in ("price", "index", "flow", "stock", "quote"):
        raise UnitError(
            f"{long.name} and {short.name} are {long.metadata.measure} levels; their difference compares trends. "
            "Take the spread of rates, or of growth."
        )
    made = long - short
    if not made.values.notna().any():
        raise AlignmentError(
            f"{long.name} ({span_of(long.index)}) and {short.name} ({span_of(short.index)}) share no period."
        )
    facts = {
        "name": name or f"{long.name}_less_{short.name}",
        "title": f"{long.metadata.heading} less {short.metadata.heading}", "maturity": "", "quoted": "",
    }  # fmt: skip
    return made.with_metadata(**facts)


def _cumulated(clean: Floats, kind: str, first: float) -> Floats:
    if kind == "flow":
        return np.asarray(first + np.cumsum(clean, axis=0))
    if kind == "return":
        return np.asarray(first * np.cumprod(1.0 + clean, axis=0))
    return np.asarray(first * np.exp(np.cumsum(clean, axis=0)))


def _refuse_rates(metadata: Metadata, done: str) -> None:
    if metadata.measure in ("rate", "return", "log_return", "score"):
        raise UnitError(
            f"{metadata.name} is a {metadata.measure}, no level, and cannot be {done}. "
            "Returns become a level with cumulate."
        )


def _base_rows(x: SeriesTable, to: str) -> tuple[Bools | Ints, str]:
    """Rows of the base period and its name."""
    if to == "first":
        whole = np.flatnonzero(np.isfinite(x.block).all(axis=1))
        if not len(whole):
            raise AlignmentError(f"{', '.join(x.names)} share no period with values for all.")
        return whole[:1], period_label(x.index[whole[0]])
    code, day = parse_period(to)
    frequency = Frequency(code) if code != "D" else x.frequency
    if not (frequency == x.frequency or x.frequency < frequency):
        frequency = x.frequency
    asked = frequency.ordinals([day])[0]
    own = frequency.ordinals(x.frequency.ends(x.ordinals)) == asked
    expected = 1
    if not x.frequency.is_dated and frequency != x.frequency:
        ends = frequency.ends(np.array([asked]))
        expected = int(
            x.frequency.ordinals(ends)[0]
            - x.frequency.ordinals(frequency.starts(np.array([asked])))[0] + 1
        )  # fmt: skip
    if own.sum() < expected:
        found = (
            f"only {int(own.sum())} of its {expected} {x.frequency.noun}s"
            if own.any()
            else "no period"
        )
        raise AlignmentError(
            f"{', '.join(x.names[:5])} ({span_of(x.index)}) hold {found} of {to}; choose another base."
        )
    return own, to


def _check_deflating(metadata: Metadata, prices: Metadata) -> None:
    if prices.measure not in ("index", "price"):
        raise UnitError(
            f"{prices.name} is a {prices.measure or 'series of unknown measure'}; deflating needs a price "
            "index. Cumulate inflation rates into one first."
        )
    if prices.frequency != metadata.frequency:
        raise FrequencyError(
            f"{metadata.name} is {metadata.frequency.name}, {prices.name} {prices.frequency.name}: bring both to "
            "one frequency with to_frequency first."
        )
    if metadata.measure in ("rate", "log_return", "score", "quote"):
        raise UnitError(
            f"{metadata.name} is a {metadata.measure}; only amounts, prices, indices and simple returns deflate. "
            "A real rate is a rate less expected inflation."
        )
    if metadata.region and prices.region and metadata.region != prices.region:
        raise UnitError(
            f"{metadata.name} is of {metadata.region}, the prices {prices.name} of {prices.region}. "
            "Take the price index of its own region."
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


def _refuse_gaps(x: SeriesTable, inside: Bools) -> None:
    for column, name in enumerate(x.names):
        rows = np.flatnonzero(inside[:, column])
        if not len(rows):
            continue
        holes = np.flatnonzero(~inside[rows[0] : rows[-1] + 1, column])
        steps = np.diff(positions_of(x.frequency, x.index)[rows])
        skipped = np.flatnonzero(steps != 1)
        if len(holes) or len(skipped):
            at = rows[0] + holes[0] if len(holes) else rows[skipped[0]]
            raise UnitError(
                f"{name}: values are missing from {period_label(x.index[at])} on; nothing can be cumulated "
                "across a gap. Fill it, or take a sample without it."
            )
