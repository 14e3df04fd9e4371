"""Time series with metadata, and tables of them.

`TimeSeries` is a pandas Series with a `Metadata`; `SeriesTable` is a block of many series of one frequency.
"""

from __future__ import annotations

import functools
import html
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ParamSpec, TypeVar, overload

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats, Ints
from ultrum.core.series.labelled_data import (
    LabelledData,
    Word,
    columns_of,
    combine,
    number_in,
    numbers_held,
    store,
)
from ultrum.core.series.metadata import Metadata, check_facts
from ultrum.core.series.row_order import (
    bounds_of,
    dates_or_periods,
    glimpse,
    headline,
    in_order,
    index_like,
    numbers_in,
    refuse_duplicates,
    refuse_one_name_twice,
    with_weekends,
)
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.index_frequency_and_gaps import infer_frequency, observations_per_year
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import AlignmentError, ArgumentError, FrequencyError, name_list, one_of

Causes = Mapping[str, Mapping[int, str]]
P = ParamSpec("P")


@dataclass(frozen=True, eq=False, repr=False, init=False)
class TimeSeries(LabelledData):
    """A time series with metadata; immutable.

    Create one with :meth:`from_pandas`; :meth:`to_pandas` returns the values.

    Examples
    --------
    >>> import pandas as pd
    >>> prices = pd.Series([100.0, 102.0], pd.period_range("2024-01", periods=2, freq="M"))
    >>> cpi = TimeSeries.from_pandas(prices, name="cpi", measure="index", timing="average")
    >>> cpi.metadata.frequency
    Frequency('M')
    """

    array: Floats
    index: pd.Index
    metadata: Metadata

    def __init__(self, values: pd.Series, metadata: Metadata) -> None:
        numbers = values.to_numpy(dtype=np.float64, na_value=np.nan)
        store(self, array=numbers_held(values, numbers), index=values.index, metadata=metadata)

    @classmethod
    @validate_arguments
    def from_pandas(cls, values: pd.Series, *, percent: bool = False, **facts: object) -> TimeSeries:
        """Create a series from a pandas Series.

        Parameters
        ----------
        values : Series, shape (T,)
            Indexed by periods or dates, in any order, without duplicates.
        percent : bool
            Whether the numbers are in percent; they are divided by 100.
        **facts
            Fields of :class:`Metadata`. The name defaults to that of ``values``; the frequency is inferred from
            the index.

        Examples
        --------
        >>> import pandas as pd
        >>> from ultrum import TimeSeries
        >>> months = pd.period_range("2024-01", periods=3, freq="M")
        >>> cpi = pd.Series([100.0, 100.4, 100.9], months, name="cpi")
        >>> TimeSeries.from_pandas(cpi, measure="index", timing="average").metadata.measure
        'index'
        """
        facts.setdefault("name", str(values.name) if values.name is not None else "series")
        table = SeriesTable.from_pandas(values.to_frame(facts["name"]), percent=percent, **facts)
        return table.only()

    @classmethod
    def from_arrays(cls, values: Floats, index: pd.Index, metadata: Metadata) -> TimeSeries:
        """Create a series from an array and a sorted index; the array is not copied.

        Parameters
        ----------
        values : ndarray, shape (T,)
            Values in decimals.
        index : Index, shape (T,)
            Sorted periods or dates.
        metadata : Metadata
            Facts of the series.
        """
        return store(object.__new__(cls), array=values, index=index, metadata=metadata)

    @functools.cached_property
    def values(self) -> pd.Series:
        """The numbers by date or period; not to be changed."""
        return pd.Series(self.array, index=self.index, name=self.name, copy=False)

    @property
    def frequency(self) -> Frequency:
        """The frequency of the series."""
        return self.metadata.frequency

    @property
    def name(self) -> str:
        """Short name."""
        return self.metadata.name

    @property
    def _label(self) -> str:
        return self.metadata.name

    @property
    def _plain_class(self) -> type[TimeSeries]:
        return TimeSeries

    @property
    def periods_per_year(self) -> float:
        """Periods per year; for dated data the observations over the span of the series."""
        return float(self.as_table().periods_per_year[0])

    def to_pandas(self) -> pd.Series:
        """A pandas copy, named as the series.

        Returns
        -------
        Series
            Values by date or period.

        Examples
        --------
        >>> import pandas as pd
        >>> from ultrum import TimeSeries
        >>> months = pd.period_range("2024-01", periods=3, freq="M")
        >>> x = TimeSeries.from_pandas(pd.Series([1.0, 2.0, 3.0], months), name="x")
        >>> x.to_pandas().sum()
        np.float64(6.0)
        """
        return self.values.copy()

    def to_frame(self) -> pd.DataFrame:
        """One column, named as the series.

        Returns
        -------
        DataFrame
            Values, one column.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.practice.panel().factor_table["size"].tail(2).to_frame().round(4)
                   size
        period
        2024-11  0.0088
        2024-12  0.0153
        """
        return self.values.to_frame()

    def as_table(self) -> SeriesTable:
        """Table with this single series.

        Returns
        -------
        SeriesTable
            Table of one column.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.practice.panel().factor_table["size"].as_table().names
        ['size']
        """
        return SeriesTable.from_arrays(self.array[:, None], self.index, (self.metadata,))

    def __len__(self) -> int:
        return len(self.array)

    def __iter__(self) -> Iterator[float]:
        return iter(self.array.tolist())

    def __getitem__(self, period: str | slice) -> float | TimeSeries:
        """The value of a period, such as ``series["2024-03"]``; a slice of periods is a sample."""
        if isinstance(period, slice):
            return self.sample(period.start, period.stop)
        rows = self.sample(period, period) if isinstance(period, str) else ()
        if len(rows) != 1:
            shown = repr(period) if isinstance(period, str | int) else f"a {type(period).__name__}"
            raise ArgumentError(f"{shown} is not one row of {self.name}. Use sample(), or to_pandas()[...].")
        return next(iter(rows))

    def _metadata_after(self, change: Callable[[Metadata], Metadata]) -> Metadata:
        return change(self.metadata)

    def _combine(self, other: object, word: Word, operation: np.ufunc) -> TimeSeries:
        if isinstance(other, SeriesTable):
            raise ArgumentError(f"{self.name} is combined with a table. Put the table first, or choose a series.")
        if isinstance(other, TimeSeries):
            pair = (self.values, self.metadata), (other.values, other.metadata)
            return TimeSeries(*combine(*pair, word, operation))
        return self._with_number(number_in(other, self.name), word, operation)

    def __repr__(self) -> str:
        return f"{headline(self.metadata, self.index)}\n{glimpse(self.values)}"

    def _repr_html_(self) -> str:
        return f"<p>{html.escape(headline(self.metadata, self.index))}</p>" + str(
            self.to_frame().tail(8).to_html()
        )


@dataclass(frozen=True, eq=False, repr=False, init=False)
class SeriesTable(LabelledData):
    """Many series of one frequency: T rows, N columns, N metadata.

    ``causes`` has the known causes of missing values: by series, period ordinals and a text such as ``stale
    price``. ``dropped`` counts observations that a panel dropped, by series and cause.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> panel.factor_table.names
    ['market', 'size', 'value', 'momentum']
    >>> panel.factor_table["market"].metadata.unit
    'decimal'
    """

    array: Floats
    index: pd.Index
    metadata: tuple[Metadata, ...]
    causes: Causes
    dropped: Mapping[str, Mapping[str, int]]

    def __init__(self, values: pd.DataFrame, metadata: Sequence[Metadata], causes: Causes | None = None) -> None:
        numbers = values.to_numpy(dtype=np.float64, na_value=np.nan)
        store(
            self,
            array=numbers_held(values, numbers),
            index=values.index,
            metadata=tuple(metadata),
            causes=causes or {},
            dropped={},
        )

    @classmethod
    @validate_arguments
    def from_pandas(cls, values: pd.DataFrame, *, percent: bool = False, **facts: Any) -> SeriesTable:
        """Create a table from a pandas DataFrame; ``facts`` apply to every column.

        Parameters
        ----------
        values : DataFrame, shape (T, N)
            Values by date or period: an index of pandas, ISO texts, or numbers such as 20240331, 202403 and 2024.
        percent : bool
            Whether values are in percent; they are divided by 100.
        **facts
            Metadata of every series, such as ``measure="return"``.

        Examples
        --------
        >>> import pandas as pd
        >>> from ultrum import SeriesTable
        >>> months = pd.period_range("2024-01", periods=3, freq="M")
        >>> frame = pd.DataFrame({"A": [0.01, 0.02, -0.01], "B": [0.0, 0.03, 0.01]}, months)
        >>> SeriesTable.from_pandas(frame, measure="return").names
        ['A', 'B']
        """
        check_facts(facts)
        given = facts.pop("frequency", None)
        ordered = in_order(values.set_axis(dates_or_periods(values.index)))
        frequency = Frequency.parse(given) if given else infer_frequency(ordered.index)
        frequency = with_weekends(frequency, ordered.index)
        ordinals = frequency.ordinals_of(ordered.index)
        refuse_duplicates(ordinals, frequency, str(next(iter(values.columns), "")))
        numbers = numbers_in(ordered)
        facts.pop("name", None)
        names = [str(n) for n in values.columns.to_numpy()]
        refuse_one_name_twice(names)
        metadata = Metadata(frequency=frequency, **facts).for_each(names)
        index = index_like(ordered.index, ordinals, frequency)
        numbers = numbers / 100.0 if percent else numbers_held(ordered, numbers)
        return cls.from_arrays(numbers, index, metadata)

    @classmethod
    def from_arrays(
        cls, block: Floats, index: pd.Index, metadata: Sequence[Metadata], causes: Causes | None = None
    ) -> SeriesTable:
        """Create a table from an array, a sorted index and metadata.

        The array is not copied and becomes read-only.

        Parameters
        ----------
        block : ndarray, shape (T, N)
            Values; the array is not copied.
        index : Index, shape (T,)
            Sorted periods or dates.
        metadata : sequence of Metadata, length N
            Metadata of each series.
        causes : Causes, optional
            Causes of missing values.
        """
        fields = {"metadata": tuple(metadata), "causes": causes or {}, "dropped": {}}
        return store(object.__new__(cls), array=block, index=index, **fields)

    @functools.cached_property
    def values(self) -> pd.DataFrame:
        """The numbers by date or period, one column per series; not to be changed."""
        return pd.DataFrame(self.array, index=self.index, columns=self.names, copy=False)

    @classmethod
    def of(cls, series: Iterable[TimeSeries] | Mapping[str, TimeSeries]) -> SeriesTable:
        """Combine series of one frequency as columns, on the union of their periods.

        Parameters
        ----------
        series : iterable of TimeSeries, or mapping of names to TimeSeries
            The keys of a mapping become the names.

        Examples
        --------
        >>> import pandas as pd
        >>> from ultrum import SeriesTable
        >>> months = pd.period_range("2024-01", periods=3, freq="M")
        >>> frame = pd.DataFrame({"A": [0.01, 0.02, -0.01], "B": [0.0, 0.03, 0.01]}, months)
        >>> table = SeriesTable.from_pandas(frame, measure="return")
        >>> SeriesTable.of([table["B"], table["A"]]).names
        ['B', 'A']
        """
        members = _members(series)
        if not members:
            raise AlignmentError("No series to put side by side.")
        refuse_one_name_twice([m.name for m in members])
        members = _on_same_days(members)
        wrong = [m.name for m in members if m.metadata.frequency != members[0].metadata.frequency]
        if wrong:
            raise FrequencyError(
                f"{name_list(wrong)}: another frequency than {members[0].name} "
                f"({members[0].metadata.frequency.name}). Convert them to one with to_frequency."
            )
        frame = pd.concat([m.values for m in members], axis=1, keys=[m.name for m in members])
        return cls(frame.sort_index(), tuple(m.metadata for m in members))

    @property
    def _label(self) -> str:
        return name_list(m.name for m in self.metadata)

    @property
    def _plain_class(self) -> type[SeriesTable]:
        return SeriesTable

    @property
    def names(self) -> list[str]:
        """Names of the series, in column order."""
        return list(self._names)

    @functools.cached_property
    def _names(self) -> tuple[str, ...]:
        return tuple(a.name for a in self.metadata)

    @property
    def frequency(self) -> Frequency:
        """The common frequency of all series."""
        return self.metadata[0].frequency

    @property
    def periods_per_year(self) -> Floats:
        """Periods per year for each series, shape (N,); for dated data the observations over its own span."""
        if not self.frequency.is_dated:
            return np.full(len(self.metadata), self.frequency.periods_per_year)
        days = calendar_days(self.index)
        return observations_per_year(self.frequency, days, *self.bounds, self.block)

    @property
    def block(self) -> Floats:
        """Values as an array of shape (T, N)."""
        return self.array

    @functools.cached_property
    def bounds(self) -> tuple[Ints, Ints]:
        """First and last row with a value of each series; T and −1 where it has none."""
        return bounds_of(self.block)

    @functools.cached_property
    def _columns(self) -> dict[str, int]:
        """Column of each name."""
        return {name: column for column, name in enumerate(self.names)}

    @overload
    def __getitem__(self, name: str) -> TimeSeries: ...
    @overload
    def __getitem__(self, name: list[str]) -> SeriesTable: ...
    def __getitem__(self, name: str | list[str]) -> TimeSeries | SeriesTable:
        if isinstance(name, list | tuple | pd.Index):
            return self.select(name)
        column = self._column(name)
        return TimeSeries.from_arrays(self.array[:, column], self.index, self.metadata[column])

    def _column(self, name: str) -> int:
        column = self._columns.get(name)
        if column is None:
            raise AlignmentError(f"No series '{name}' here; {one_of(name, self.names)}")
        return column

    def __contains__(self, name: object) -> bool:
        return name in self._columns

    def __iter__(self) -> Iterator[str]:
        return iter(self.names)

    def __len__(self) -> int:
        """Number of series, as for any mapping; the number of rows is ``len(table.index)``."""
        return len(self.metadata)

    def keys(self) -> list[str]:
        """Names of the series, in column order.

        Returns
        -------
        list of str
            Names.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.practice.panel().factor_table.keys()
        ['market', 'size', 'value', 'momentum']
        """
        return self.names

    def items(self) -> Iterator[tuple[str, TimeSeries]]:
        """Each name with its series.

        Returns
        -------
        iterator of tuple[str, TimeSeries]
            Pairs of name and series.

        Examples
        --------
        >>> import ultrum as ul
        >>> [(name, len(one)) for name, one in ul.practice.panel().factor_table.items()][:2]
        [('market', 252), ('size', 252)]
        """
        return ((name, self[name]) for name in self.names)

    def only(self) -> TimeSeries:
        """The only series of the table.

        Returns
        -------
        TimeSeries
            The series.

        Raises
        ------
        AlignmentError
            If the table has no series or several.

        Examples
        --------
        >>> import ultrum as ul
        >>> table = ul.practice.panel().factor_table
        >>> table.select(["size"]).only().name
        'size'
        """
        if len(self) != 1:
            raise AlignmentError(
                f"The table has {len(self)} series ({name_list(self.names)}), not one. Choose one with "
                "table['name']."
            )
        return self[self.names[0]]

    def select(self, names: Iterable[str]) -> SeriesTable:
        """Table of some of the series, in the given order.

        Parameters
        ----------
        names : iterable of str
            Names of the series, in the given order.

        Returns
        -------
        SeriesTable
            The series chosen.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.factor_table.select(["size", "market"]).names
        ['size', 'market']
        """
        chosen = list(names)
        refuse_one_name_twice(chosen)
        where = [self._column(name) for name in chosen]
        causes = {name: self.causes[name] for name in chosen if name in self.causes}
        dropped = {name: self.dropped[name] for name in chosen if name in self.dropped}
        metadata = tuple(self.metadata[k] for k in where)
        array = columns_of(self.array, where)
        return self.copy_with(array=array, metadata=metadata, causes=causes, dropped=dropped)

    def _rows(self, rows: slice) -> SeriesTable:
        return self.copy_with(array=self.array[rows], index=self.index[rows], dropped={})

    def _metadata_after(self, change: Callable[[Metadata], Metadata]) -> tuple[Metadata, ...]:
        return tuple(change(m) for m in self.metadata)

    def _combine(self, other: object, word: Word, operation: np.ufunc) -> SeriesTable:
        """Every series with a number, with one series, or with that of the same name of another table."""
        if isinstance(other, SeriesTable):
            alone = [n for n in dict.fromkeys([*self.names, *other.names]) if n not in self or n not in other]
            if alone:
                raise AlignmentError(
                    f"{name_list(alone)}: only in one of two tables. Choose the same series of both."
                )
        elif not isinstance(other, TimeSeries):
            return self._with_number(number_in(other, self._label), word, operation)
        others = (other[name] if isinstance(other, SeriesTable) else other for name in self.names)
        pairs = zip(self.names, others, strict=True)
        return SeriesTable.of([self[n]._combine(o, word, operation).with_metadata(name=n) for n, o in pairs])

    def to_pandas(self) -> pd.DataFrame:
        """Plain pandas copy.

        Returns
        -------
        DataFrame
            Values, one column per series.

        Examples
        --------
        >>> import ultrum as ul
        >>> table = ul.practice.panel().factor_table
        >>> table.to_pandas().shape
        (252, 4)
        """
        return self.values.copy()

    to_frame = to_pandas

    def __repr__(self) -> str:
        shown = self.values.iloc[:, :6]
        more = f"\n… and {len(self.names) - 6} more series" if len(self.names) > 6 else ""
        head = f"{len(self.names)} {self.frequency.name} series, {span_of(self.index)}"
        return f"{head}\n{glimpse(shown)}{more}"

    def _repr_html_(self) -> str:
        return str(self.values.tail(8).to_html())


SeriesLike = TimeSeries | SeriesTable
S = TypeVar("S", TimeSeries, SeriesTable)


def _members(series: Iterable[TimeSeries] | Mapping[str, TimeSeries]) -> list[TimeSeries]:
    """A list of series; the keys of a mapping become the names."""
    if not isinstance(series, Mapping | SeriesTable):
        return list(series)
    if isinstance(series, SeriesTable):
        return [series[name] for name in series.names]
    return [s if s.name == name else s.with_metadata(name=name) for name, s in series.items()]


def _on_same_days(members: list[TimeSeries]) -> list[TimeSeries]:
    """Business-daily series combined with daily ones become daily."""
    if {m.metadata.frequency.code for m in members} != {"B", "D"}:
        return members
    return [m.with_metadata(frequency=Frequency("D")) for m in members]
