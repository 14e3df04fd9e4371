"""A series that knows what it is, and a table of such series.

`TimeSeries` is a pandas Series with a `Descriptor`; `SeriesTable` is many of one frequency as a
block. Functions are written once, for the block; `on_block` lets them take either.
"""

from __future__ import annotations

import functools
import html
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from numbers import Real
from typing import Any, Concatenate, ParamSpec, TypeVar, cast, overload

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.descriptor import Descriptor, check_facts, check_same
from ultrum.core.frequency import Frequency, calendar_days
from ultrum.core.gaps import observations_per_year
from ultrum.core.labels import infer_frequency, span_of
from ultrum.core.layout import bounds_of, laid_out, numbers_in
from ultrum.core.streamed import refuse_streamed
from ultrum.core.types import Dates, Floats, Ints
from ultrum.errors import AlignmentError, ArgumentError, FrequencyError, UnitError

Causes = Mapping[str, Mapping[int, str]]
P = ParamSpec("P")


@dataclass(frozen=True, eq=False, repr=False)
class TimeSeries:
    """Values through time with their descriptor; immutable.

    Use :meth:`wrap` to make one from pandas and :meth:`to_pandas` to leave.

    Examples
    --------
    >>> import pandas as pd
    >>> prices = pd.Series([100.0, 102.0], pd.period_range("2024-01", periods=2, freq="M"))
    >>> cpi = TimeSeries.wrap(prices, name="cpi", measure="index", timing="average")
    >>> cpi.about.frequency
    Frequency('M')
    """

    values: pd.Series
    about: Descriptor

    def __post_init__(self) -> None:
        _refuse_disorder(self.values.index, self.about.name)

    @classmethod
    @checked
    def wrap(cls, values: pd.Series, *, percent: bool = False, **facts: Any) -> TimeSeries:
        """Make a series from a pandas Series.

        Parameters
        ----------
        values : Series, shape (T,)
            Indexed by periods or dates, in any order, without duplicates.
        percent : bool
            Whether the numbers are in percent; they are divided by 100.
        **facts
            Fields of :class:`Descriptor`. The name defaults to that of ``values`` and the
            frequency is read off the index.
        """
        facts.setdefault("name", str(values.name) if values.name is not None else "series")
        table = SeriesTable.wrap(values.to_frame(facts["name"]), percent=percent, **facts)
        return table.only()

    @classmethod
    def build(cls, values: Floats, index: pd.Index, about: Descriptor) -> TimeSeries:
        """Make a series from an array and an index already in order; the array becomes its own."""
        values.flags.writeable = False
        return cls(pd.Series(values, index=index, name=about.name, copy=False), about)

    @property
    def index(self) -> pd.Index:
        """Periods or dates."""
        return self.values.index

    @property
    def ordinals(self) -> Ints:
        """Integers of the periods, for arithmetic on time."""
        return self.about.frequency.ordinals_of(self.index)

    @property
    def name(self) -> str:
        """Short name."""
        return self.about.name

    @property
    def periods_per_year(self) -> float:
        """Periods in a year; of dated data the observations over the span of the series."""
        return float(self.as_table().periods_per_year[0])

    def to_pandas(self) -> pd.Series:
        """Plain pandas copy, named as the series."""
        return self.values.copy()

    def to_frame(self) -> pd.DataFrame:
        """One column, named as the series."""
        return self.values.to_frame()

    def as_table(self) -> SeriesTable:
        """Table with this one series."""
        return SeriesTable(self.values.to_frame(self.name), (self.about,))

    def sample(self, start: str | None = None, end: str | None = None) -> TimeSeries:
        """Part from ``start`` to ``end``, both included, as pandas reads dates."""
        return TimeSeries(self.values.loc[start:end], self.about)

    def described(self, **facts: Any) -> TimeSeries:
        """Same values with other facts, such as ``excess_of="bill"``."""
        about = self.about.changed(**facts)
        return TimeSeries(self.values.rename(about.name), about)

    def __len__(self) -> int:
        return len(self.values)

    def __add__(self, other: TimeSeries | float) -> TimeSeries:
        return _combine(self, other, "plus", np.add)

    def __sub__(self, other: TimeSeries | float) -> TimeSeries:
        return _combine(self, other, "less", np.subtract)

    __radd__ = __add__

    def __rsub__(self, other: float) -> TimeSeries:
        return -self + other

    def __mul__(self, factor: float) -> TimeSeries:
        return _scale(self, _number(factor, self.name))

    __rmul__ = __mul__

    def __truediv__(self, divisor: float) -> TimeSeries:
        return _scale(self, 1.0 / _number(divisor, self.name))

    def __neg__(self) -> TimeSeries:
        return _scale(self, -1.0)

    def __repr__(self) -> str:
        return f"{_headline(self.about, self.index)}\n{_glimpse(self.values)}"

    def _repr_html_(self) -> str:
        return f"<p>{html.escape(_headline(self.about, self.index))}</p>" + str(
            self.to_frame().tail(8).to_html()
        )


@dataclass(frozen=True, eq=False, repr=False)
class SeriesTable:
    """Many series of one frequency as a block of T rows and N columns, with N descriptors.

    ``causes`` says why values are missing where that is known: for each series, period ordinals
    and the reason, such as ``stale price``. ``dropped`` counts observations of each series that a panel
    left out, by cause; estimates report them.
    """

    values: pd.DataFrame
    about: tuple[Descriptor, ...]
    causes: Causes = field(default_factory=dict)
    dropped: Mapping[str, Mapping[str, int]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        _refuse_disorder(self.values.index, ", ".join(a.name for a in self.about[:3]))

    @classmethod
    @checked
    def wrap(cls, values: pd.DataFrame, *, percent: bool = False, **facts: Any) -> SeriesTable:
        """Make a table from a pandas DataFrame; ``facts`` hold for every column."""
        check_facts(facts)
        given = facts.pop("frequency", None)
        frequency = Frequency.parse(given) if given else infer_frequency(values.index)
        ordered = _in_order(values)
        frequency = _with_weekends(frequency, ordered.index)
        ordinals = frequency.ordinals_of(ordered.index)
        _refuse_duplicates(ordinals, frequency, str(next(iter(values.columns), "")))
        block, bounds = laid_out(numbers_in(ordered))
        if percent:
            block /= 100.0
        facts.pop("name", None)
        names = [str(n) for n in values.columns]
        _refuse_one_name_twice(names)
        abouts = tuple(Descriptor(name=n, frequency=frequency, **facts) for n in names)
        made = cls.build(block, _index_like(ordered.index, ordinals, frequency), abouts)
        made.__dict__["bounds"] = bounds  # what bounds would find, known from the copying
        return made

    @classmethod
    def build(
        cls,
        block: Floats,
        index: pd.Index,
        about: Sequence[Descriptor],
        causes: Causes | None = None,
    ) -> SeriesTable:
        """Make a table from an array, an index already in order, and descriptors.

        The array becomes the table's own and read-only.
        """
        block.flags.writeable = False
        frame = pd.DataFrame(block, index=index, columns=[a.name for a in about], copy=False)
        return cls(frame, tuple(about), causes or {})

    @classmethod
    def of(cls, series: Iterable[TimeSeries] | Mapping[str, TimeSeries]) -> SeriesTable:
        """Put series of one frequency side by side, on the union of their periods.

        Parameters
        ----------
        series : iterable of TimeSeries, or mapping of names to TimeSeries
            The keys of a mapping become the names.
        """
        members = _members(series)
        if not members:
            raise AlignmentError("No series to put side by side.")
        _refuse_one_name_twice([m.name for m in members])
        members = _on_same_days(members)
        wrong = [m.name for m in members if m.about.frequency != members[0].about.frequency]
        if wrong:
            raise FrequencyError(
                f"{', '.join(wrong)}: another frequency than {members[0].name} "
                f"({members[0].about.frequency.name}). Convert them to one with to_frequency."
            )
        frame = pd.concat([m.values for m in members], axis=1, keys=[m.name for m in members])
        return cls(frame.sort_index(), tuple(m.about for m in members))

    @property
    def names(self) -> list[str]:
        """Names of the series, in column order."""
        return [a.name for a in self.about]

    @property
    def frequency(self) -> Frequency:
        """The one frequency of all."""
        return self.about[0].frequency

    @property
    def index(self) -> pd.Index:
        """Periods or dates."""
        return self.values.index

    @property
    def ordinals(self) -> Ints:
        """Integers of the periods, for arithmetic on time."""
        return self.frequency.ordinals_of(self.index)

    @property
    def periods_per_year(self) -> Floats:
        """Periods in a year for each series, shape (N,); of dated data the observations over its own span."""
        if not self.frequency.is_dated:
            return np.full(len(self.about), self.frequency.periods_per_year)
        present = np.isfinite(self.block)
        return observations_per_year(
            self.frequency, calendar_days(self.index), *self.bounds, present
        )

    @property
    def block(self) -> Floats:
        """Values as an array of shape (T, N)."""
        return np.asarray(self.values.to_numpy(dtype=np.float64))

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
        if not isinstance(name, str):
            return self.select(name)
        column = self._column(name)
        return TimeSeries(self.values.iloc[:, column], self.about[column])

    def _column(self, name: str) -> int:
        column = self._columns.get(name)
        if column is None:
            raise AlignmentError(
                f"No series '{name}' here; there are: {', '.join(self.names[:30])}."
            )
        return column

    def __contains__(self, name: object) -> bool:
        return name in self._columns

    def __iter__(self) -> Iterator[str]:
        return iter(self.names)

    def __len__(self) -> int:
        """Number of series, as of any mapping; the number of rows is ``len(table.index)``."""
        return len(self.about)

    def keys(self) -> list[str]:
        """Names of the series, in column order."""
        return self.names

    def items(self) -> Iterator[tuple[str, TimeSeries]]:
        """Each name with its series."""
        return ((name, self[name]) for name in self.names)

    def only(self) -> TimeSeries:
        """The single series of a table of one.

        Raises
        ------
        AlignmentError
            If the table has none or several.
        """
        if len(self) != 1:
            raise AlignmentError(
                f"The table has {len(self)} series ({', '.join(self.names[:5])}), not one; "
                "choose one with table['name']."
            )
        return self[self.names[0]]

    def select(self, names: Iterable[str]) -> SeriesTable:
        """Table of some of the series, in the order given."""
        chosen = list(names)
        _refuse_one_name_twice(chosen)
        where = [self._column(name) for name in chosen]
        causes = {name: self.causes[name] for name in chosen if name in self.causes}
        dropped = {name: self.dropped[name] for name in chosen if name in self.dropped}
        abouts = tuple(self.about[k] for k in where)
        return SeriesTable(self.values.iloc[:, where], abouts, causes, dropped)

    def sample(self, start: str | None = None, end: str | None = None) -> SeriesTable:
        """Part from ``start`` to ``end``, both included."""
        return SeriesTable(self.values.loc[start:end], self.about, self.causes)

    def described(self, **facts: Any) -> SeriesTable:
        """Same values with other facts for every series."""
        abouts = tuple(a.changed(**facts) for a in self.about)
        return SeriesTable(self.values, abouts, self.causes)

    def to_pandas(self) -> pd.DataFrame:
        """Plain pandas copy."""
        return self.values.copy()

    to_frame = to_pandas

    def __repr__(self) -> str:
        shown = self.values.iloc[:, :6]
        more = f"\n… and {len(self.names) - 6} more series" if len(self.names) > 6 else ""
        head = f"{len(self.names)} {self.frequency.name} series, {span_of(self.index)}"
        return f"{head}\n{_glimpse(shown)}{more}"

    def _repr_html_(self) -> str:
        return str(self.values.tail(8).to_html())


SeriesLike = TimeSeries | SeriesTable


def refuse_no_values(doing: str, *series: SeriesLike) -> None:
    """Refuse series without a value, where an answer needs one of each."""
    for x in series:
        table = x.as_table() if isinstance(x, TimeSeries) else x
        if not np.isfinite(table.block).any():
            names = ", ".join(table.names[:5])
            raise AlignmentError(
                f"{doing}: {names} {'have' if len(table) > 1 else 'has'} no values."
            )


S = TypeVar("S", TimeSeries, SeriesTable)


def on_block(
    function: Callable[Concatenate[SeriesTable, P], SeriesTable],
) -> Callable[Concatenate[S, P], S]:
    """Let a function written for a table take one series too, and give one back."""

    @functools.wraps(function)
    def _either(x: S, *args: P.args, **kwargs: P.kwargs) -> S:
        if isinstance(x, TimeSeries):
            return function(x.as_table(), *args, **kwargs).only()
        refuse_streamed(function.__name__, x)
        if isinstance(x, Mapping) and x and all(isinstance(s, TimeSeries) for s in x.values()):
            return function(SeriesTable.of(x), *args, **kwargs)
        if not isinstance(x, SeriesTable):
            raise UnitError(
                f"{function.__name__} was given a plain {type(x).__name__}; say what it is with "
                "TimeSeries.wrap(x, measure=...) or SeriesTable.wrap(x, measure=...)."
            )
        return function(x, *args, **kwargs)

    return cast("Callable[Concatenate[S, P], S]", _either)


def _members(series: Iterable[TimeSeries] | Mapping[str, TimeSeries]) -> list[TimeSeries]:
    """Series in a list; those of a mapping take its keys as names."""
    if isinstance(series, SeriesTable):
        return [series[name] for name in series.names]
    if not isinstance(series, Mapping):
        return list(series)
    return [s if s.name == name else s.described(name=name) for name, s in series.items()]


def _on_same_days(members: list[TimeSeries]) -> list[TimeSeries]:
    """Business-daily series beside daily ones become daily, so that they stand side by side."""
    if {m.about.frequency.code for m in members} != {"B", "D"}:
        return members
    return [m.described(frequency=Frequency("D")) for m in members]


def _index_like(index: pd.Index, ordinals: Ints, frequency: Frequency) -> pd.Index:
    if frequency.code in "HN":
        if getattr(index, "tz", None) is None:
            raise FrequencyError("Intraday data need a time zone: index.tz_localize('Europe/…').")
        return index
    if frequency.is_dated:  # a row keeps its date
        return pd.DatetimeIndex(frequency_days(index).astype("datetime64[s]"), name="date")
    return frequency.index(ordinals)


def _refuse_disorder(index: pd.Index, name: str) -> None:
    """Rows of a series are in order of time, each once; everything below relies on it."""
    if index.is_monotonic_increasing and index.is_unique:
        return
    wrong = "twice" if not index.is_unique else "out of order"
    raise FrequencyError(f"{name} has rows {wrong}. Make it with wrap, which checks and sorts.")


def _in_order(values: pd.DataFrame) -> pd.DataFrame:
    """Rows in order of time."""
    try:
        return values if values.index.is_monotonic_increasing else values.sort_index()
    except TypeError as error:
        raise FrequencyError(
            f"The row labels cannot be put in order ({error}); use dates or periods of one kind."
        ) from error


def _with_weekends(frequency: Frequency, index: pd.Index) -> Frequency:
    """Business-daily data with rows on weekends are daily, so that each row keeps its date."""
    if frequency.code != "B" or isinstance(index, pd.PeriodIndex) or not len(index):
        return frequency
    return frequency if np.is_busday(frequency_days(index)).all() else Frequency("D")


def frequency_days(index: pd.Index) -> Dates:
    """Calendar dates of labels that are dates or texts of dates."""
    try:
        return calendar_days(index)
    except (TypeError, ValueError) as error:
        raise FrequencyError(
            f"The row label '{index[0]}' is not a date; use dates such as 2024-03-31 or periods."
        ) from error


def _refuse_one_name_twice(names: list[str]) -> None:
    twice = [n for n, c in Counter(names).items() if c > 1]
    if twice:
        raise AlignmentError(f"Two series are named '{twice[0]}'; rename one of them.")


def _refuse_duplicates(ordinals: Ints, frequency: Frequency, name: str) -> None:
    twice = np.flatnonzero(np.diff(ordinals) == 0)
    if len(twice) and frequency.code not in "HN":
        label = frequency.labels(ordinals[twice[:1]])[0]
        raise FrequencyError(
            f"{name}: {len(twice)} {frequency.name} periods appear twice, first {label}. "
            "Keep one of each, or say the true frequency."
        )


def _combine(
    left: TimeSeries, right: TimeSeries | float, word: str, operation: Callable[..., Any]
) -> TimeSeries:
    if not isinstance(right, TimeSeries):
        value = _number(right, left.name)
        return TimeSeries(operation(left.values, value), left.about.stepped(word, value=value))
    check_same(left.about, right.about, word)
    a, b = left.values.align(right.values, join="inner")
    lost = len(left) + len(right) - 2 * len(a)
    about = left.about.stepped(word, series=right.name, rows_in_one_only=lost or None)
    return TimeSeries(operation(a, b).rename(about.name), about)


def _number(given: Any, name: str) -> float:
    if not isinstance(given, Real):
        raise ArgumentError(
            f"{name} is combined with a {type(given).__name__}; it takes a number, and plus and minus a "
            "TimeSeries. Two series as numbers: a.to_pandas() * b.to_pandas()."
        )
    return float(given)


def _scale(series: TimeSeries, factor: float) -> TimeSeries:
    return TimeSeries(series.values * factor, series.about.stepped("times", factor=factor))


def _headline(about: Descriptor, index: pd.Index) -> str:
    unit = " ".join(word for word in (about.measure, about.unit, about.currency) if word)
    facts = [about.heading, about.frequency.name, unit, span_of(index), f"{len(index)} values"]
    return ", ".join(fact for fact in facts if fact)


def _glimpse(values: pd.Series | pd.DataFrame) -> str:
    """First and last three rows, 100 columns wide at most."""
    with pd.option_context("display.width", 100, "display.max_rows", 6, "display.min_rows", 6):
        text = repr(values.to_frame() if isinstance(values, pd.Series) else values)
    return "\n".join(line for line in text.splitlines() if not line.startswith("["))
