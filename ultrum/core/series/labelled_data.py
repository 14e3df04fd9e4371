"""Numbers with an index of time and metadata: what a series and a table have in common.

The numbers are one array, read-only; pandas objects are made of it when they are asked for, without a copy.
"""

from __future__ import annotations

import dataclasses
import inspect
from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from numbers import Real
from typing import Any, ClassVar, Final, Literal, Self, TypeVar, cast

import numpy as np
import numpy.typing as npt
import pandas as pd

from ultrum.core.array_types import Floats, Ints
from ultrum.core.series.metadata import ZERO_COST, Metadata, check_same, hindsight_of
from ultrum.core.series.row_order import refuse_disorder
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_labels_and_relative_dates import rows_between
from ultrum.errors import ArgumentError

Labelled = tuple[pd.Series, Metadata]
Operator = Literal["plus", "less", "plus number", "times", "times negative"]
OPERATORS: Final[tuple[Operator, ...]] = ("plus", "less", "plus number", "times", "times negative")
SAME: Final = "same"
UNKNOWN: Final = ""
RULES: Final = {  # by the measure of the operands, which is the same for both: the result for each operator
    "price": (SAME, UNKNOWN, UNKNOWN, SAME, UNKNOWN),
    "index": (UNKNOWN, UNKNOWN, UNKNOWN, SAME, UNKNOWN),
    "stock": (SAME, SAME, UNKNOWN, SAME, SAME),
    "flow": (SAME, SAME, UNKNOWN, SAME, SAME),
    "rate": (SAME, SAME, SAME, UNKNOWN, UNKNOWN),
    "return": (UNKNOWN, ZERO_COST, UNKNOWN, UNKNOWN, UNKNOWN),
    "log_return": (UNKNOWN, ZERO_COST, UNKNOWN, UNKNOWN, UNKNOWN),
    "quote": (UNKNOWN,) * 5,
    "score": (SAME,) * 5,
    "": (UNKNOWN,) * 5,
}
SHARED: Final = (  # facts of two series that the result keeps if both have them
    *("timing", "seasonal_adjustment", "region", "source", "base_period", "release_lag", "income"),
    *("quoted", "maturity", "day_count", "decimals"),
)
_OF_LEVEL: Final = ("base_period", "decimals", "day_count", "quoted")  # that no longer hold for another scale
_LARGEST_LEVERAGE: Final = 10.0  # of an excess return; more is a change of unit, such as decimals to percent
_NOTHING: Final = Metadata()


def combine(left: Labelled, right: Labelled, word: Literal["plus", "less"], operation: np.ufunc) -> Labelled:
    """Two series of one measure on their common periods."""
    (values, metadata), (others, other) = left, right
    check_same(metadata, other, word)
    a, b = values.align(others, join="inner")
    alone = len(values) + len(others) - 2 * len(a)
    kept = {fact: getattr(metadata, fact) for fact in SHARED if getattr(metadata, fact) == getattr(other, fact)}
    facts = {fact: kept.get(fact, getattr(_NOTHING, fact)) for fact in SHARED}
    facts |= _measure_after(metadata, word) | {
        "name": f"{metadata.name}_{word}_{other.name}",
        "title": f"{metadata.heading} {word} {other.heading}",
        "address": "",
        "hindsight": hindsight_of((metadata, other)),
        "notes": tuple(dict.fromkeys((*metadata.notes, *other.notes))),
    }
    if facts["base_period"] and facts["measure"] != "index":
        facts["base_period"] = ""
    combined = metadata.add_step(word, facts, series=other.name, rows_in_one_only=alone or None)
    return operation(a, b).rename(combined.name), combined


def with_number(metadata: Metadata, word: Literal["plus", "less", "times"], number: float) -> Metadata:
    """Metadata after a number is added, subtracted or multiplied.

    Examples
    --------
    >>> rate = Metadata(name="bill", measure="rate")
    >>> with_number(rate, "plus", 0.01).measure, with_number(rate, "times", 100.0).measure
    ('rate', '')
    """
    if number == (1.0 if word == "times" else 0.0):
        return metadata
    setting = "factor" if word == "times" else "value"
    shown = f"{metadata.heading} {word} {number:g}"
    facts: dict[str, Any] = {"title": shown, "address": ""} | {f: getattr(_NOTHING, f) for f in _OF_LEVEL}
    operator: Operator = "plus number" if word != "times" else "times" if number > 0 else "times negative"
    if word == "times" and metadata.is_return and metadata.excess_of and abs(number) <= _LARGEST_LEVERAGE:
        facts |= {"excess_of": metadata.excess_of}  # a position of another size, which costs nothing either
    else:
        facts |= _measure_after(metadata, operator)
        if word == "times" and facts["measure"] in ("price", "stock", "flow"):
            facts |= {"unit": "", "currency": "", "scale": 0}
    return metadata.add_step(word, facts, **{setting: number})


def _measure_after(metadata: Metadata, operator: Operator) -> dict[str, Any]:
    """Measure, unit, currency and excess of a result."""
    rule = RULES[metadata.measure][OPERATORS.index(operator)]
    if operator == "plus" and metadata.is_return and metadata.excess_of:
        rule = SAME  # two positions that cost nothing
    if rule == SAME:
        return {"measure": metadata.measure}
    if rule == ZERO_COST:
        return {"measure": metadata.measure, "excess_of": ZERO_COST, "income": ""}
    gone = {"measure": "", "unit": "", "excess_of": "", "income": "", "timing": "", "maturity": ""}
    return gone | {"currency": metadata.currency if metadata.measure == "price" and operator == "less" else ""}


def number_in(given: object, name: str) -> float:
    """A number; refuses other types."""
    if not isinstance(given, Real):
        raise ArgumentError(
            f"{name} is combined with a {type(given).__name__}; use a number or, with + and −, a TimeSeries. To "
            "multiply two series: a.to_pandas() * b.to_pandas()."
        )
    return float(given)


def divisor_in(given: object, name: str) -> float:
    """A number to divide by; refuses zero."""
    divisor = number_in(given, name)
    if divisor == 0:
        raise ArgumentError(f"{name} is divided by zero. Use another divisor.")
    return divisor


# Numbers with an index of time and metadata: what a series and a table have in common

Word = Literal["plus", "less"]
_COPIES_BEFORE_WRITING = int(pd.__version__.partition(".")[0]) >= 3
_ARITHMETIC = {np.add: "__add__", np.subtract: "__sub__", np.multiply: "__mul__", np.true_divide: "__truediv__"}


@dataclasses.dataclass(frozen=True, eq=False, repr=False, init=False)
class LabelledData(ABC):
    """Base of :class:`TimeSeries` and :class:`SeriesTable`: views, samples, arithmetic and comparison."""

    array: Floats
    index: pd.Index
    _cached: ClassVar[tuple[str, ...]] = ("values", "bounds", "_columns")

    @property
    @abstractmethod
    def frequency(self) -> Frequency:
        """The frequency of the rows."""

    @property
    @abstractmethod
    def _label(self) -> str:
        """Name of the data in messages."""

    @property
    @abstractmethod
    def _plain_class(self) -> type[LabelledData]:
        """The class of data without further results."""

    @abstractmethod
    def _metadata_after(self, change: Callable[[Metadata], Metadata]) -> object:
        """The metadata of every series after a change."""

    @abstractmethod
    def _combine(self, other: object, word: Word, operation: np.ufunc) -> Self:
        """Sum or difference with other data, or with a number."""

    @abstractmethod
    def to_pandas(self) -> pd.Series | pd.DataFrame:
        """A pandas copy."""

    def copy_with(self, **fields: object) -> Self:
        """The same data with some other fields.

        Parameters
        ----------
        **fields
            ``array``, ``index``, ``metadata``, and for tables ``causes`` and ``dropped``.

        Returns
        -------
        TimeSeries or SeriesTable
            An array is not copied, and becomes read-only. Results such as a splice give a plain series.
        """
        new = object.__new__(self._plain_class)
        for field in dataclasses.fields(new):
            value = fields[field.name] if field.name in fields else getattr(self, field.name)
            object.__setattr__(new, field.name, value)
        new.__post_init__()
        return cast("Self", new)

    def __post_init__(self) -> None:
        if self.array.flags.writeable:
            self.array.flags.writeable = False
        refuse_disorder(self.index, self._label)

    @property
    def ordinals(self) -> Ints:
        """Integer ordinals of the periods, for arithmetic on time."""
        return self.frequency.ordinals_of(self.index)

    def sample(self, start: str | None = None, end: str | None = None) -> Self:
        """Subsample from ``start`` to ``end``, both included.

        Parameters
        ----------
        start : str, optional
            First date or period, included; by default from the beginning.
        end : str, optional
            Last date or period, included; by default to the end.

        Returns
        -------
        TimeSeries or SeriesTable
            The part.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.factor_table["market"].sample("2024-11").to_pandas().round(4)
        period
        2024-11    0.0247
        2024-12    0.0347
        Freq: M, Name: market, dtype: float64
        """
        return self._rows(rows_between(self.index, self.frequency, start, end))

    def head(self, rows: int = 5) -> Self:
        """The first rows.

        Parameters
        ----------
        rows : int
            Number of rows.

        Returns
        -------
        TimeSeries or SeriesTable
            The part.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.practice.panel().factor_table.head(2).to_frame().shape
        (2, 4)
        """
        return self._rows(slice(None, rows))

    def tail(self, rows: int = 5) -> Self:
        """The last rows.

        Parameters
        ----------
        rows : int
            Number of rows.

        Returns
        -------
        TimeSeries or SeriesTable
            The part.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.practice.panel().factor_table["market"].tail(2).to_pandas().round(4).tolist()
        [0.0247, 0.0347]
        """
        return self._rows(slice(max(len(self.index) - rows, 0), None))

    def describe(self) -> pd.DataFrame:
        """Count, mean, standard deviation, extremes and quartiles of the values that are there.

        Returns
        -------
        DataFrame
            One column per series.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.practice.panel().factor_table.describe().loc["count"].tolist()
        [252.0, 252.0, 252.0, 252.0]
        """
        return pd.DataFrame(self.to_pandas()).describe()

    def _rows(self, rows: slice) -> Self:
        return self.copy_with(array=self.array[rows], index=self.index[rows])

    def with_metadata(self, **facts: object) -> Self:
        """Same values with other metadata, such as ``excess_of="bill"``; those of a table for every series.

        Parameters
        ----------
        **facts
            Facts by name.

        Returns
        -------
        TimeSeries or SeriesTable
            Data with the changed metadata.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.factor_table["market"].with_metadata(title="Market").metadata.title
        'Market'
        """
        return self.copy_with(metadata=self._metadata_after(lambda m: m.replace(**facts)))

    def __add__(self, other: object) -> Self:
        return self._combine(other, "plus", np.add)

    def __sub__(self, other: object) -> Self:
        return self._combine(other, "less", np.subtract)

    __radd__ = __add__

    def __rsub__(self, other: float) -> Self:
        return -self + other

    def __mul__(self, factor: float) -> Self:
        return self._times(number_in(factor, self._label))

    __rmul__ = __mul__

    def __truediv__(self, divisor: float) -> Self:
        return self._times(1.0 / divisor_in(divisor, self._label))

    def __neg__(self) -> Self:
        return self._times(-1.0)

    def _times(self, factor: float) -> Self:
        metadata = self._metadata_after(lambda m: with_number(m, "times", factor))
        return self.copy_with(array=self.array * factor, metadata=metadata)

    def _with_number(self, value: float, word: Word, operation: np.ufunc) -> Self:
        metadata = self._metadata_after(lambda m: with_number(m, word, value))
        return self.copy_with(array=operation(self.array, value), metadata=metadata)

    def __eq__(self, other: object) -> Any:
        """Elementwise for a number; otherwise whether it is the same object."""
        return self._compare(other, "eq") if _is_number(other) else self is other

    def __ne__(self, other: object) -> Any:
        return self._compare(other, "ne") if _is_number(other) else self is not other

    __hash__ = object.__hash__

    def __lt__(self, other: object) -> pd.Series | pd.DataFrame:
        return self._compare(other, "lt")

    def __le__(self, other: object) -> pd.Series | pd.DataFrame:
        return self._compare(other, "le")

    def __gt__(self, other: object) -> pd.Series | pd.DataFrame:
        return self._compare(other, "gt")

    def __ge__(self, other: object) -> pd.Series | pd.DataFrame:
        return self._compare(other, "ge")

    def _compare(self, other: object, comparison: str) -> pd.Series | pd.DataFrame:
        given = other.to_pandas() if isinstance(other, LabelledData) else number_in(other, self._label)
        return cast("pd.Series | pd.DataFrame", getattr(self.to_pandas(), comparison)(given))

    def __array__(self, dtype: npt.DTypeLike | None = None, copy: bool | None = None) -> Floats:
        """The numbers without their index; pandas, which would lose it too, is refused."""
        caller = inspect.currentframe()
        caller = caller.f_back if caller is not None else None
        if caller is not None and str(caller.f_globals.get("__name__", "")).partition(".")[0] == "pandas":
            raise ArgumentError(f"pandas would lose the dates of {self._label}. Use .to_pandas().")
        return np.array(self.array, dtype=dtype, copy=copy)

    def __array_ufunc__(self, ufunc: np.ufunc, method: str, *inputs: object, **options: object) -> object:
        """Arithmetic with a number keeps metadata; other functions give pandas data, and reductions numbers."""
        if method == "__call__" and ufunc in _ARITHMETIC and len(inputs) == 2 and inputs[1] is self:
            reverse = _ARITHMETIC[ufunc].replace("__", "__r", 1)
            return getattr(self, reverse)(inputs[0]) if hasattr(self, reverse) else NotImplemented
        convert = _pandas_of if method == "__call__" else _array_of
        return getattr(ufunc, method)(*map(convert, inputs), **options)

    def __getstate__(self) -> dict[str, object]:
        """Fields without the pandas views, which are made again."""
        return {name: value for name, value in vars(self).items() if name not in self._cached}


def _is_number(value: object) -> bool:
    return isinstance(value, Real) and not isinstance(value, bool | np.bool_)


def _pandas_of(value: object) -> object:
    return value.to_pandas() if isinstance(value, LabelledData) else value


def _array_of(value: object) -> object:
    return value.array if isinstance(value, LabelledData) else value


class _Held:
    """Memory of a pandas object, which numbers made of this keep alive."""

    def __init__(self, owner: object, numbers: Floats) -> None:
        self.owner, self.__array_interface__ = owner, numbers.__array_interface__


def numbers_held(values: pd.Series | pd.DataFrame, numbers: Floats) -> Floats:
    """Numbers of pandas data that keep a shallow copy of it alive, so that pandas copies before it writes.

    Before pandas 3 the numbers are copied. Memory that pandas itself shares, such as the array of
    ``DataFrame(array, copy=False)``, is shared here too.
    """
    column = values.iloc[:, 0] if isinstance(values, pd.DataFrame) and values.shape[1] else values
    if not _COPIES_BEFORE_WRITING:
        return np.array(numbers, order="K")
    if column.ndim > 1 or column.dtype != np.float64 or not np.may_share_memory(numbers, column.to_numpy()):
        return numbers
    return np.asarray(_Held(values.copy(deep=False), numbers))


D = TypeVar("D", bound=LabelledData)


def store(data: D, **fields: object) -> D:
    """Fields of a series or table, with the array read-only and its rows in order."""
    for name, value in fields.items():
        object.__setattr__(data, name, value)
    data.__post_init__()
    return data


def columns_of(block: Floats, where: Sequence[int]) -> Floats:
    """Some columns: all in order are the block itself, neighbours a view of it."""
    low = where[0] if where else 0
    if list(where) == list(range(low, low + len(where))):
        return block[:, low : low + len(where)]
    return block[:, list(where)] if block.flags.c_contiguous else block.T[list(where)].T
