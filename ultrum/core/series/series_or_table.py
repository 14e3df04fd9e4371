"""Let functions written for tables accept one series, or several in a mapping."""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping
from typing import Concatenate, ParamSpec, cast

import numpy as np

from ultrum.core.arguments import refuse_large
from ultrum.core.series.time_series import S, SeriesLike, SeriesTable, TimeSeries
from ultrum.errors import AlignmentError, UnitError, name_list

P = ParamSpec("P")


def refuse_no_values(doing: str, *series: SeriesLike) -> None:
    """Refuse series without a value."""
    for x in series:
        table = x.as_table() if isinstance(x, TimeSeries) else x
        if not np.isfinite(table.block).any():
            raise AlignmentError(
                f"{doing}: {name_list(table.names)} {'have' if len(table) > 1 else 'has'} no values."
            )


def on_block(
    function: Callable[Concatenate[SeriesTable, P], SeriesTable],
) -> Callable[Concatenate[S, P], S]:
    """Let a function written for a table accept and return a single series."""

    @functools.wraps(function)
    def _either(x: S, *args: P.args, **kwargs: P.kwargs) -> S:
        if isinstance(x, TimeSeries):
            return function(x.as_table(), *args, **kwargs).only()
        refuse_large(function.__name__, x)
        if isinstance(x, Mapping) and x and all(isinstance(s, TimeSeries) for s in x.values()):
            return function(SeriesTable.of(x), *args, **kwargs)
        if not isinstance(x, SeriesTable):
            raise UnitError(
                f"{function.__name__} needs metadata, but got a {type(x).__name__}. Use "
                "TimeSeries.from_pandas(x, measure=...) or SeriesTable.from_pandas(x, measure=...)."
            )
        return function(x, *args, **kwargs)

    return cast("Callable[Concatenate[S, P], S]", _either)
