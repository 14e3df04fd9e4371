"""Let functions written for tables accept one series, or several in a mapping."""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping
from typing import Concatenate, ParamSpec, TypeVar, cast

import numpy as np
import pandas as pd

from ultrum.core.arguments import refuse_large
from ultrum.core.series.time_series import SeriesLike, SeriesTable, TimeSeries
from ultrum.errors import AlignmentError, UnitError, name_list

P = ParamSpec("P")
L = TypeVar("L", TimeSeries, SeriesTable, pd.Series, pd.DataFrame)


def refuse_no_values(doing: str, *series: SeriesLike) -> None:
    """Refuse series without a value."""
    for x in series:
        table = x.as_table() if isinstance(x, TimeSeries) else x
        if not np.isfinite(table.block).any():
            raise AlignmentError(
                f"{doing}: {name_list(table.names)} {'have' if len(table) > 1 else 'has'} no values."
            )


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
