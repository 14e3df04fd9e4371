"""Samples of returns: input as returns, periods a year, and the common form of results."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.core.series.text_tables import TableInNotebooks
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.errors import UnitError


@dataclass(frozen=True, eq=False, repr=False)
class Described(TableInNotebooks):
    """A table with a sentence on its basis.

    Attributes
    ----------
    table : DataFrame
    basis : str
        Sample, frequency, conventions.
    """

    table: pd.DataFrame
    basis: str

    @property
    def in_percent(self) -> str:
        """The sentence where the numbers are shown in percent."""
        return self.basis.replace("decimals", "percent")

    def to_frame(self) -> pd.DataFrame:
        """The table."""
        return self.table.copy()

    def __repr__(self) -> str:
        with pd.option_context("display.width", 100, "display.max_columns", 20):
            text = self.table.to_string(max_rows=40, float_format=lambda v: f"{v:.4g}", line_width=100)
        return f"{text}\n{self.basis}"


def returns_in(x: Any, doing: str) -> SeriesTable:
    """A table of simple or log returns; prices are refused with the fix."""
    table = x.as_table() if isinstance(x, TimeSeries) else x
    if isinstance(table, pd.DataFrame | pd.Series):
        frame = table.to_frame() if isinstance(table, pd.Series) else table
        table = SeriesTable.from_pandas(frame, measure="return")
    if not isinstance(table, SeriesTable):
        raise UnitError(f"{doing} takes returns, not a {type(x).__name__}.")
    for metadata in table.metadata:
        if not metadata.is_return:
            raise UnitError(
                f"{metadata.name} is a {metadata.measure or 'series of unknown measure'}; {doing} takes returns. "
                "Make them with returns(prices)."
            )
    kinds = {a.measure for a in table.metadata}
    if len(kinds) > 1:
        raise UnitError(f"{doing}: simple and log returns are mixed; bring all to one with to_simple.")
    return table


def simple_block(x: SeriesTable) -> Floats:
    """Returns as simple ones."""
    return np.asarray(np.expm1(x.block) if x.metadata[0].measure == "log_return" else x.block)


def per_year(x: SeriesTable, given: float | None) -> Floats:
    """Periods a year of each series: as given, or counted by :attr:`SeriesTable.periods_per_year`."""
    if given is None:
        return x.periods_per_year
    if not (np.isfinite(given) and given > 0):
        raise UnitError(f"periods_per_year={given}: a positive number is expected.")
    return np.full(len(x), float(given))
