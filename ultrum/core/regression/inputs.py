"""Inputs of a regression, checked and aligned."""

from __future__ import annotations

import re
from collections.abc import Hashable, Iterable
from dataclasses import dataclass
from datetime import date
from functools import cached_property
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import refuse_large
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.presentation import quantity
from ultrum.core.series.input_checks import check_size, returns_of, warn_of_currencies
from ultrum.core.series.labelled_data import numbers_held
from ultrum.core.series.metadata import ZERO_COST, Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.index_frequency_and_gaps import infer_frequency
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import AlignmentError, EstimationError, FrequencyError, UnitError

CONSTANT: Final = "constant"
_SMALL: Final = 1 << 20  # bytes, which are copied in no time
_ISO: Final = re.compile(r"\d{4}(-\d{2}(-\d{2}.*)?|-?[QSW]\d{1,2})?$")

Names = tuple[Hashable, ...]


@dataclass(frozen=True, eq=False)
class Observations:
    """Numbers of shape (T, N) with labels of rows and columns; pandas objects are built when they are read."""

    values: Floats
    index: pd.Index
    names: Names

    @property
    def labels(self) -> pd.Index:
        """The names of the columns as an index."""
        return pd.Index(self.names, tupleize_cols=False)

    @cached_property
    def frame(self) -> pd.DataFrame:
        """The same as a DataFrame."""
        return pd.DataFrame(self.values, self.index, self.labels, copy=False)

    def take(self, rows: Ints | Bools | slice) -> Observations:
        """Some rows."""
        index = self.index if isinstance(rows, slice) and rows == slice(None) else self.index[rows]
        return Observations(self.values[rows], index, self.names)

    def with_index(self, index: pd.Index) -> Observations:
        """The same numbers with other labels of rows."""
        return Observations(self.values, index, self.names)

    def check_finite(self, stem: str) -> Floats:
        """The numbers; infinite ones are refused."""
        infinite = np.isinf(self.values)
        if infinite.any():
            row, column = np.argwhere(infinite)[0]
            raise EstimationError(
                f"{stem}: {self.names[column]} is infinite at {period_label(self.index[row])}. "
                "Mark it as missing (NaN), or correct it."
            )
        return self.values


def observations_of(data: object, stem: str) -> tuple[Observations, bool]:
    """Input as labelled numbers, and whether it was a single series; labels are dates in their own time zone."""
    if isinstance(data, SeriesTable):
        return Observations(data.block, data.index, tuple(data.names)), False
    if isinstance(data, TimeSeries):
        return Observations(data.array[:, None], data.index, (data.name,)), True
    if isinstance(data, pd.Series):
        name = data.name if data.name is not None else f"{stem}1"
        return Observations(_numbers(data, stem)[:, None], _calendar_dates(data.index), (name,)), True
    if isinstance(data, pd.DataFrame):
        return Observations(_numbers(data, stem), _calendar_dates(data.index), tuple(data.columns)), False
    refuse_large("This estimate", data)
    _refuse_complex([np.asarray(data).dtype], stem)
    try:
        block = np.array(data, dtype=np.float64)
    except (TypeError, ValueError) as error:
        raise EstimationError(f"{stem} is not an array of numbers: {error}.") from error
    if block.ndim not in (1, 2):
        raise EstimationError(
            f"{stem} has {block.ndim} dimensions; expected a 1-D or 2-D array (observations × variables)."
        )
    single = block.ndim == 1
    block = block[:, None] if single else block
    names = tuple(f"{stem}{i + 1}" for i in range(block.shape[1]))
    return Observations(block, pd.RangeIndex(len(block)), names), single


def _numbers(data: pd.Series | pd.DataFrame, stem: str) -> Floats:
    """The values as floats that later changes of the data do not reach."""
    values = data.to_numpy()
    if values.dtype == np.float64:
        return values.copy() if values.nbytes < _SMALL else numbers_held(data, values)
    _refuse_complex(pd.DataFrame(data).dtypes, stem)
    try:
        return data.to_numpy(dtype=np.float64, na_value=np.nan)
    except (TypeError, ValueError) as error:
        raise EstimationError(f"{stem} contains a value that is not a number: {error}.") from error


def _calendar_dates(index: pd.Index) -> pd.Index:
    """Time stamps at one clock time of a time zone are dates of that zone."""
    if not isinstance(index, pd.DatetimeIndex) or index.tz is None or not len(index):
        return index
    local = index.tz_localize(None)
    if (local != local.normalize()).any() and len(local.normalize().unique()) < len(local):
        return index  # intraday
    return local.normalize()


def _in_order(data: Observations) -> Observations:
    """Rows in order of time; labels that are not times, such as names, keep their order."""
    index = data.index
    if index.is_monotonic_increasing:
        return data
    timed = isinstance(index, pd.DatetimeIndex | pd.PeriodIndex) or index.dtype.kind in "iuf"
    if not timed and len(index):
        timed = bool(pd.Series(index).map(_is_dated).all())
    return data.take(np.asarray(index.argsort(), dtype=np.int64)) if timed else data


def _is_dated(label: object) -> bool:
    """Whether a label is a date or period, or text for one."""
    return isinstance(label, date) or (isinstance(label, str) and bool(_ISO.match(label)))


def match_rows(left: Observations, right: Observations) -> tuple[Observations, Observations, int]:
    """Both on the rows of the factors in order of time, and the number of rows of y without factors."""
    for name, data in (("y", left), ("X", right)):
        if not data.index.is_unique:
            raise AlignmentError(f"Row labels of {name} repeat. Keep one row of each.")
        if len(set(data.names)) < len(data.names):
            twice = next(n for k, n in enumerate(data.names) if n in data.names[:k])
            raise AlignmentError(f"{name} has two columns named '{twice}'. Rename one.")
        if not len(data.index):
            raise AlignmentError(f"{name} has no observations, so nothing can be estimated.")
    if left.index.equals(right.index):
        return _in_order(left), _in_order(right), 0
    rows = len(left.index)
    if isinstance(left.index, pd.RangeIndex) and isinstance(right.index, pd.RangeIndex):
        raise AlignmentError(
            f"y has {quantity(rows, 'observation')}, X has {len(right.index)}, and there are no labels to match "
            "them by. Pass pandas objects with a common index, or arrays of one length."
        )
    if rows == len(right.index) and isinstance(right.index, pd.RangeIndex):
        right = right.with_index(left.index)  # a plain array stands row by row
        return _in_order(left), _in_order(right), 0
    left, right = _on_one_index(left, right)
    shared = left.index.intersection(right.index)
    if not len(shared):
        raise AlignmentError(
            f"y ({left.index[0]} to {left.index[-1]}) and X ({right.index[0]} to {right.index[-1]}) have no "
            "label in common. Convert both to one frequency and span."
        )
    left, right = (d.take(d.index.get_indexer(shared)).with_index(shared) for d in (left, right))
    return _in_order(left), _in_order(right), rows - len(shared)


def _on_one_index(left: Observations, right: Observations) -> tuple[Observations, Observations]:
    """Match periods with dates that mark periods: the factors take the labels of y for the same periods."""
    if {type(d.index) for d in (left, right)} != {pd.PeriodIndex, pd.DatetimeIndex}:
        return left, right
    try:
        left_frequency, right_frequency = infer_frequency(left.index), infer_frequency(right.index)
    except FrequencyError:
        return left, right
    if left_frequency != right_frequency or left_frequency.is_dated:
        return left, right
    label_of = pd.Series(left.index, left_frequency.ordinals_of(left.index))
    ordinals = left_frequency.ordinals_of(right.index)
    shared = np.isin(ordinals, label_of.index)
    return left, right.take(shared).with_index(pd.Index(label_of.reindex(ordinals[shared])))


def with_constant(right: Observations) -> Observations:
    """The regressors with a constant first."""
    if CONSTANT in right.names:
        raise EstimationError("X has a column 'constant' already; drop it or set constant=False.")
    design = np.column_stack([np.ones(len(right.index)), right.values])
    return Observations(design, right.index, (CONSTANT, *right.names))


def spread_rows(block: Floats, places: Ints, rows: int) -> Floats:
    """Rows placed on a calendar; the others are missing."""
    spread = np.full((rows, block.shape[1]), np.nan)
    spread[places] = block
    return spread


def numbers_of(frame: pd.DataFrame, stem: str) -> Floats:
    """The values of a frame as floats; infinite ones are refused."""
    return Observations(_numbers(frame, stem), frame.index, tuple(frame.columns)).check_finite(stem)


def _refuse_complex(kinds: Iterable[np.dtype[np.generic]], stem: str) -> None:
    if any(kind.kind == "c" for kind in kinds):
        raise EstimationError(f"{stem} contains complex numbers. Use real numbers.")


def check_excess(y: object, X: object) -> None:
    """Refuse an excess return on a factor that is not in excess, and the reverse."""
    if not isinstance(y, TimeSeries | SeriesTable) or not isinstance(X, TimeSeries | SeriesTable):
        return
    check_declared_returns(y)
    check_declared_returns(X)
    warn_of_currencies([*metadata_of(y), *metadata_of(X)], "regress")
    right = [d for d in metadata_of(X) if d.is_return]
    kinds = {bool(d.excess_of): d for d in right}
    for mine in metadata_of(y) if right else ():
        factor = kinds.get(not mine.excess_of)
        if factor is not None and mine.is_return:
            plain, other = (factor, mine) if mine.excess_of else (mine, factor)
            raise UnitError(
                f"{other.name} is in excess of {other.excess_of}, {plain.name} is not in "
                f"excess of anything. Apply excess({plain.name}, risk_free) first."
            )


def check_declared_returns(data: TimeSeries | SeriesTable, doing: str = "regress") -> None:
    """Refuse columns declared as returns whose size or sign no return has."""
    table = data.as_table() if isinstance(data, TimeSeries) else data
    check_size(returns_of(table), doing)


def kinds_of(*data: object) -> dict[str, str]:
    """Kind of return of labelled series, by name: excess return or return."""
    every = [metadata for part in data for metadata in metadata_of(part) if metadata.is_return]
    in_excess = {m.name: m.excess_of not in ("", ZERO_COST) for m in every}
    return {name: "excess return" if excess else "return" for name, excess in in_excess.items()}


def metadata_of(data: object) -> tuple[Metadata, ...]:
    """Descriptors of labelled series; empty for plain data."""
    if isinstance(data, SeriesTable):
        return data.metadata
    return (data.metadata,) if isinstance(data, TimeSeries) else ()


def labels_of(clusters: object, index: pd.Index) -> pd.DataFrame:
    """Cluster labels by row, in one column or two."""
    frame = _by_row(clusters, index, "clusters")
    if frame.shape[1] not in (1, 2):
        raise EstimationError(f"clusters has {quantity(frame.shape[1], 'column')}; it must have one or two.")
    if frame.isna().to_numpy().any():
        row = frame.index[frame.isna().any(axis=1)][0]
        raise EstimationError(f"clusters has no label at {row}. Every observation needs one.")
    return frame


def weights_of(weights: object, index: pd.Index) -> Floats:
    """Positive weights by row."""
    frame = _by_row(weights, index, "weights")
    if frame.shape[1] != 1:
        raise EstimationError(
            f"weights has {quantity(frame.shape[1], 'column')}; it must have one: a weight per observation."
        )
    values = numbers_of(frame, "weights")[:, 0]
    wrong = ~(np.isfinite(values) & (values > 0))
    if wrong.any():
        row = int(np.argmax(wrong))
        raise EstimationError(f"The weight at {frame.index[row]} is {values[row]:g}; weights must be positive.")
    return values


def _by_row(given: object, index: pd.Index, what: str) -> pd.DataFrame:
    """Labels or weights as a frame on the rows of y, matched by label or, for arrays, by position."""
    if isinstance(given, TimeSeries):
        given = given.values
    if isinstance(given, pd.Series | pd.DataFrame):
        frame = given.to_frame(what) if isinstance(given, pd.Series) else given
        if not frame.index.is_unique:
            raise AlignmentError(f"Row labels of {what} repeat. Keep one row of each.")
        if not frame.index.equals(index):
            absent = index.difference(frame.index)
            if len(absent):
                raise AlignmentError(f"{what} lacks {quantity(len(absent), 'row')} of y, {absent[0]} among them.")
            frame = frame.reindex(index)
        return frame
    block = np.asarray(given)
    if block.ndim == 0:
        raise AlignmentError(f"{what} is a {type(given).__name__}. Use one entry for each observation of y.")
    if len(block) != len(index):
        raise AlignmentError(f"{what} has {len(block)} entries, y has {quantity(len(index), 'row')}.")
    return pd.DataFrame(block if block.ndim == 2 else block[:, None], index)


def same_rows(used: Bools) -> list[Ints]:
    """Columns grouped by the observations they use."""
    packed = np.packbits(used, axis=0).T
    groups: dict[bytes, list[int]] = {}
    for column, key in enumerate(packed):
        groups.setdefault(key.tobytes(), []).append(column)
    return [np.asarray(columns, dtype=np.int64) for columns in groups.values()]
