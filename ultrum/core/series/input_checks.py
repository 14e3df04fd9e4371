"""Checks of inputs: series or tables, the same kind out; and whether numbers are returns.

Every function that takes returns asks here, so that the words and the limits are the same everywhere.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable, Mapping
from typing import Concatenate, Final, ParamSpec, TypeVar, cast

import numpy as np
import pandas as pd

from ultrum.core.arguments import refuse_large
from ultrum.core.array_types import Floats
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesLike, SeriesTable, TimeSeries
from ultrum.errors import AlignmentError, CurrencyError, EstimationError, UnitError, name_list, warn_user

P = ParamSpec("P")
L = TypeVar("L", TimeSeries, SeriesTable, pd.Series, pd.DataFrame)


def refuse_no_values(doing: str, *series: SeriesLike) -> None:
    """Refuse series without a value."""
    for x in series:
        table = x.as_table() if isinstance(x, TimeSeries) else x
        if np.isnan(np.fmax.reduce(table.block, axis=None, initial=np.nan)):
            raise AlignmentError(
                f"{doing}: {name_list(table.names)} {'have' if len(table) > 1 else 'has'} no values."
            )


def check_numeric(frame: pd.DataFrame, columns: Iterable[str], doing: str) -> None:
    """Refuse columns that hold text; a column that is absent is passed over.

    Raises
    ------
    EstimationError
        The first such column is named.

    Examples
    --------
    >>> check_numeric(pd.DataFrame({"price": [1.0], "note": ["late"]}), ["price"], "a cost")
    """
    text = [c for c in columns if c in frame and frame[c].dtype.kind not in "fiu"]
    if text:
        raise EstimationError(f"{doing}: the column {text[0]} holds text; numbers are expected.")


def asset_codes(column: pd.Series) -> pd.Series:
    """Names of assets as text; whole numbers, which are codes, without a decimal point.

    Examples
    --------
    >>> asset_codes(pd.Series([10001.0, 7.0])).tolist()
    ['10001', '7']
    """
    if pd.api.types.is_float_dtype(column):
        numbers = column.to_numpy(dtype=np.float64, na_value=np.nan)
        if not np.isinf(numbers).any() and (np.isnan(numbers) | (numbers == np.floor(numbers))).all():
            column = column.astype("Int64")
    return column.astype(str)


def series_in(x: TimeSeries | pd.Series, measure: str = "") -> TimeSeries:
    """A series; a plain one of pandas has the measure that the function needs.

    Examples
    --------
    >>> months = pd.period_range("2024-01", periods=2, freq="M")
    >>> series_in(pd.Series([0.1, 0.2], months, name="BRTW"), "return").metadata.measure
    'return'
    """
    return TimeSeries.from_pandas(x, measure=measure) if isinstance(x, pd.Series) else x


def on_block(
    plain: str | None = None,
) -> Callable[[Callable[Concatenate[SeriesTable, P], SeriesTable]], Callable[Concatenate[L, P], L]]:
    """Let a function written for a table accept and return a single series, and plain pandas data.

    Parameters
    ----------
    plain : str, optional
        The measure that plain data have, empty for any. By default plain data are refused: the function needs
        metadata, or marks in them that later rows were used.
    """

    def _decorate(function: Callable[Concatenate[SeriesTable, P], SeriesTable]) -> Callable[Concatenate[L, P], L]:
        @functools.wraps(function)
        def _either(x: object, *args: P.args, **kwargs: P.kwargs) -> object:
            if isinstance(x, TimeSeries):
                return function(x.as_table(), *args, **kwargs).only()
            if isinstance(x, SeriesTable):
                return function(x, *args, **kwargs)
            refuse_large(function.__name__, x)
            if isinstance(x, Mapping) and x and all(isinstance(s, TimeSeries) for s in x.values()):
                return function(SeriesTable.of(x), *args, **kwargs)
            if isinstance(x, pd.Series | pd.DataFrame) and plain is not None:
                return _of_plain(x, lambda table: function(table, *args, **kwargs), plain)
            raise UnitError(
                f"{function.__name__} needs metadata, but got a {type(x).__name__}. Use "
                "TimeSeries.from_pandas(x, measure=...) or SeriesTable.from_pandas(x, measure=...)."
            )

        return cast("Callable[Concatenate[L, P], L]", _either)

    return _decorate


def _of_plain(
    x: pd.Series | pd.DataFrame, function: Callable[[SeriesTable], SeriesTable], measure: str
) -> pd.Series | pd.DataFrame:
    """The result for plain pandas data, as plain data with its names."""
    if isinstance(x, pd.Series):
        only = function(series_in(x, measure).as_table()).only().to_pandas()
        only.name = x.name
        return only
    return function(SeriesTable.from_pandas(x, measure=measure)).to_pandas().set_axis(x.columns, axis=1)


# Whether numbers are returns

_FEWEST: Final = 3  # values from which their size is judged
_FEWEST_LEVELS: Final = 12  # positive values from which a persistent series looks like a level
_PERSISTENT: Final = 0.9  # first-order autocorrelation
_LARGEST_TYPICAL: Final = {
    "N": 0.2,
    "H": 0.2,
    "D": 0.2,
    "B": 0.2,
    "W": 0.3,
    "A": 1.0,
}  # median absolute return; percent is far above
_LARGEST: Final = 0.5
_HIGH_RATE, _IMPOSSIBLE_RATE = 0.15, 0.5  # per year
_ROUNDING: Final = 1e-9
ACCEPTED: Final = "units not checked"  # step of a series whose user states that its size is right
_DECLARE: Final = "Read the file with units='percent', or a DataFrame with from_pandas(data, percent=True)."
_CONVERT: Final = "Convert prices with to_currency before making returns."
_UNLESS: Final = "; set check_units=False if they are decimals"


def not_returns(metadata: Metadata, doing: str) -> UnitError:
    """The refusal of a series that is not declared as returns, with the fix for what it is."""
    finding = f"{metadata.name} is {metadata.measure_in_words}; {doing} takes returns."
    if metadata.measure == "rate":
        return UnitError(finding, fix="Convert a yield with yield_to_return.", setting="annual_rate")
    if metadata.measure:
        return UnitError(finding, fix="Use returns(prices).", setting="prices")
    fix = "If they are returns, set measure='return' where it is read or made; of prices take returns(prices)."
    return UnitError(finding, fix=fix, setting="measure")


def check_returns(table: SeriesTable, doing: str) -> None:
    """Refuse what is not returns by declaration or by size.

    Parameters
    ----------
    table : SeriesTable
    doing : str
        Name of the function, for messages.

    Raises
    ------
    UnitError
        If a series is not declared as returns, or looks like percent, prices or a yield, or has a simple return
        below −100 %.

    Examples
    --------
    >>> import pandas as pd
    >>> months = pd.period_range("2024-01", periods=4, freq="M")
    >>> table = SeriesTable.from_pandas(pd.DataFrame({"BRTW": [1.2, -3.4, 2.2, 0.9]}, months), measure="return")
    >>> check_returns(table, "risk_return")
    Traceback (most recent call last):
    ...
    ultrum.errors.UnitError: risk_return: 'BRTW' has typical returns of 170 % per month: these look like percent \
taken for decimals. Read the file with units='percent', or a DataFrame with from_pandas(data, percent=True).
    """
    for metadata in table.metadata:
        if not metadata.is_return:
            raise not_returns(metadata, doing)
    check_size(table, doing)


def check_size(table: SeriesTable, doing: str, *, optional: bool = False) -> None:
    """Refuse returns whose size or sign no return has; ``optional`` if the function has ``check_units``."""
    block = table.block
    if not block.size:
        return
    limit = _LARGEST_TYPICAL.get(table.frequency.code, _LARGEST)
    lowest = np.fmin.reduce(block, axis=0)
    highest = np.fmax(np.fmax.reduce(block, axis=0), -lowest)
    for column in np.flatnonzero(highest > limit).tolist():
        _check_typical(table, column, limit, doing, optional)
    _check_losses(table, lowest, doing)
    for column in np.flatnonzero(lowest > 0.0).tolist():
        _check_level(table, column, doing, optional)


def returns_of(table: SeriesTable) -> SeriesTable:
    """The series of a table that are declared as returns."""
    names = [m.name for m in table.metadata if m.is_return]
    return table if len(names) == len(table.metadata) else table.select(names)


def check_one_currency(metadata: Iterable[Metadata], doing: str, fix: str = _CONVERT) -> None:
    """Refuse to add up returns or amounts in several currencies."""
    listed = _currencies_in(metadata)
    if listed:
        raise CurrencyError(f"{doing}: the series are in several currencies ({listed}).", fix=fix)


def warn_of_currencies(metadata: Iterable[Metadata], doing: str) -> None:
    """Warn where returns in several currencies are compared, so that exchange rates are part of the result."""
    listed = _currencies_in(m for m in metadata if m.is_return or m.measure in ("price", "index"))
    if listed:
        warn_user(f"{doing}: the series are in several currencies ({listed}).", fix=_CONVERT)


def _currencies_in(metadata: Iterable[Metadata]) -> str:
    """The first series of each currency; empty if there is one currency at most."""
    currencies: dict[str, str] = {}
    for one in metadata:
        if one.currency:
            currencies.setdefault(one.currency, one.name)
    return ", ".join(f"{name} in {currency}" for currency, name in currencies.items()) * (len(currencies) > 1)


def _is_accepted(metadata: Metadata) -> bool:
    """Whether a panel was made with ``check_units=False``, which holds for what is made of it."""
    return any(step.action == ACCEPTED for step in metadata.trail)


def _finite(table: SeriesTable, column: int) -> Floats:
    values = table.block[:, column]
    return np.asarray(values[np.isfinite(values)])


def _check_typical(table: SeriesTable, column: int, limit: float, doing: str, optional: bool) -> None:
    """Refuse returns of which half are larger than any market moves in such a period."""
    values = _finite(table, column)
    moved = np.abs(values[values != 0.0])
    if len(moved) < _FEWEST or (typical := float(np.median(moved))) <= limit:
        return
    if _is_accepted(table.metadata[column]):
        return
    name = table.names[column]
    if values.min() > 0.0:
        raise UnitError(
            f"{doing}: '{name}' is declared as returns, but all its values are above zero, up to "
            f"{values.max():,.6g}: these look like prices.",
            fix="Use returns(prices).",
            setting="prices",
        )
    raise UnitError(
        f"{doing}: '{name}' has typical returns of {100 * typical:,.0f} % per {table.frequency.noun}: these look "
        "like percent taken for decimals.",
        fix=_DECLARE[:-1] + (_UNLESS if optional else "") + ".",
        setting="units",
    )


def _check_losses(table: SeriesTable, lowest: Floats, doing: str) -> None:
    """Refuse simple returns of an asset below −100 %; a difference of two returns may be."""
    for column in np.flatnonzero(lowest < -1.0 - _ROUNDING).tolist():
        metadata = table.metadata[column]
        if metadata.measure == "return" and not metadata.excess_of and not _is_accepted(metadata):
            row = int(np.nanargmin(table.block[:, column]))
            raise UnitError(
                f"{doing}: '{metadata.name}' has a return of {100 * lowest[column]:,.1f} % at "
                f"{table.index[row]}, more than the whole investment. Correct the value, or mark it as missing."
            )


def _check_level(table: SeriesTable, column: int, doing: str, optional: bool) -> None:
    """Refuse positive and persistent values that are too high for interest."""
    values = _finite(table, column)
    yearly = float(values.mean()) * table.frequency.periods_per_year if len(values) else 0.0
    if len(values) < _FEWEST_LEVELS or yearly <= _HIGH_RATE or np.ptp(values) == 0.0:
        return
    persistence = float(np.corrcoef(values[1:], values[:-1])[0, 1])
    if persistence > _PERSISTENT and not _is_accepted(table.metadata[column]):
        raise UnitError(
            f"{doing}: '{table.names[column]}' is declared as returns, but is never negative and moves little, "
            f"near {values.mean():.4g}: it looks like a yield or a price.",
            fix="Convert a yield with yield_to_return, and prices with returns(prices)"
            f"{_UNLESS if optional else ''}.",
            setting="annual_rate",
        )


def check_rate_size(rate: SeriesTable, doing: str, *, optional: bool = False) -> None:
    """Warn of a risk-free return that is high for a year, and refuse one that cannot be."""
    for column, name in enumerate(rate.names):
        values = _finite(rate, column)
        mean = float(np.mean(np.abs(values))) if len(values) else 0.0
        yearly = mean * rate.frequency.periods_per_year
        if yearly <= _HIGH_RATE or _is_accepted(rate.metadata[column]):
            continue
        finding = (
            f"{doing}: the risk-free return '{name}' has a mean of {100 * mean:.3g} % per {rate.frequency.noun}, "
            f"{100 * yearly:,.0f} % per year"
        )
        if yearly > _IMPOSSIBLE_RATE:
            raise UnitError(
                f"{finding}: these look like percent taken for decimals, or a yield per year.",
                fix="Read the file with units='percent', or convert a yield with yield_to_return"
                f"{_UNLESS if optional else ''}.",
                setting="units",
            )
        warn_user(
            f"{finding}. If it is a yield per year, convert it with yield_to_return; if it is in percent, read "
            "it with units='percent'."
        )
