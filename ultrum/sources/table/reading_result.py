"""The result of reading a table and its options, with the account of the lines of the file.

Lines that look like rows and belong to no table that is read are never skipped in silence: many of one form are
another table, or the file is refused.
"""

from __future__ import annotations

import functools
import itertools
import re
import zoneinfo
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Any, Final, Literal, get_args, overload

import pandas as pd

from ultrum.core.currency.exchange_rates import is_currency
from ultrum.core.presentation import TextInNotebooks, quantity
from ultrum.core.series.metadata import Metadata, plain_heading
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import parse_duration
from ultrum.errors import AlignmentError, PartialReadingWarning, TableError, one_of, warn_user
from ultrum.sources.download_and_limits import charset_of
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import Grid, Row, content_width, is_date, is_empty, is_rule, is_value
from ultrum.sources.table.dates_in_words import year_end_in
from ultrum.sources.table.number_formats_and_date_words import is_blank
from ultrum.sources.table.table_detection import A_TOTAL, Block, Rejected
from ultrum.sources.table.unit_statements import percent_words, statements_in

LineClass = Literal[
    "title",
    "unit",
    "currency",
    "header",
    "row",
    "event row",
    "subtotal",
    "rejected",
    "date",
    "note",
    "other table",
    "other sheet",
    "not used",
]
ORDER: Final[Sequence[LineClass]] = get_args(LineClass)
_RUN: Final = 10  # lines of one form that are a table, and not remarks
_SHARE: Final = 0.1  # of the rows that are read


@dataclass(frozen=True)
class LineRange:
    """Lines of one class, one after the other.

    Attributes
    ----------
    what : str
        Class of the lines.
    first, last : int
        Lines of the file or rows of the sheet, from 1.
    lines : int
        Number of lines that are not blank.
    place : str
        Sheet or table of a page, if the file has several.
    """

    what: LineClass
    first: int
    last: int
    lines: int
    place: str = ""


@dataclass(frozen=True)
class CellsOfColumn:
    """What the cells of a column are.

    Attributes
    ----------
    column : str
        Heading.
    what : {"date", "value", "name", "unit", "status", "text"}
        Dates, values of series, names of series, units of rows, statuses of values, or other text.
    used, missing, rejected : int
        Cells that are used; cells that are empty or have a code for a missing value; other cells.
    """

    column: str
    what: Literal["date", "value", "name", "unit", "status", "text"]
    used: int
    missing: int
    rejected: int


def account_of(grid: Grid, read: Sequence[Block], aside: Sequence[Block]) -> tuple[LineRange, ...]:
    """Classes of the lines of a grid, as ranges.

    Parameters
    ----------
    grid : Grid
        Cells as the file has them.
    read, aside : sequence of Block
        Tables that are read, and others that were detected.

    Raises
    ------
    TableError
        If many lines have the form of the rows and are not among them.
    """
    classes = _classes(grid, read, aside)
    _refuse_lost_rows(grid, classes, read)
    return _ranges(grid, classes)


def other_sheet(grid: Grid) -> LineRange:
    """All lines of a sheet that is not read."""
    lines = [line for row, line in zip(grid.rows, grid.lines, strict=False) if content_width(row)]
    return LineRange("other sheet", lines[0] if lines else 0, lines[-1] if lines else 0, len(lines), grid.name)


def summary_of(account: Sequence[LineRange]) -> str:
    """The account in one line.

    Examples
    --------
    >>> summary_of([LineRange("header", 1, 1, 1), LineRange("row", 2, 1041, 1040)])
    '1,041 lines: 1 header, 1,040 rows'
    """
    if not account:
        return ""
    counts: Counter[str] = Counter()
    for item in account:
        counts[item.what] += item.lines
    plural = {
        "row": "rows",
        "event row": "event rows",
        "note": "notes",
        "unit": "units",
        "subtotal": "subtotals",
        "date": "dates",
    }
    parts = [
        f"{counts[what]:,} {plural.get(what, what) if counts[what] > 1 else what}"
        for what in ORDER
        if counts[what]
    ]
    return f"{quantity(sum(counts.values()), 'line')}: {', '.join(parts)}"


def _classes(grid: Grid, read: Sequence[Block], aside: Sequence[Block]) -> list[LineClass | None]:
    """Class of each row of the grid; None of a blank one."""
    classes: list[LineClass | None] = [None] * len(grid.rows)
    if read[0].across:
        return _classes_across(grid, read)
    places = defaultdict(list)
    for place, line in enumerate(grid.lines):
        places[line].append(place)

    def mark(lines: Iterable[int], what: LineClass) -> None:
        """Set the class of lines that have none yet."""
        for place in itertools.chain.from_iterable(places[line] for line in lines):
            if classes[place] is None and content_width(grid.rows[place]):
                classes[place] = what

    for block in read:
        mark(block.events, "event row")
        mark(block.lines, "row")
        mark((r.line for r in block.rejected if r.reason == A_TOTAL), "subtotal")
        mark((r.line for r in block.rejected), "rejected")
    for block, what in (*((b, "header") for b in read), *((b, "other table") for b in aside)):
        if what == "other table":
            mark(block.lines, "other table")
            mark((r.line for r in block.rejected), "other table")
        mark(block.header_lines, "header" if what == "header" else "other table")
    first = min(b.lines[0] for b in read)
    for place, row in enumerate(grid.rows):
        if classes[place] is None and content_width(row):
            classes[place] = _class_outside(row, grid.lines[place] < first, read)
    return classes


def _classes_across(grid: Grid, read: Sequence[Block]) -> list[LineClass | None]:
    """Classes where dates run across: each row with a name and values is a series."""
    dates, names = read[0].across, {n for b in read for n in b.heading.names}
    classes: list[LineClass | None] = []
    for row, line in zip(grid.rows, grid.lines, strict=False):
        width = content_width(row)
        if not width:
            classes.append(None)
        elif line == dates:
            classes.append("header")
        elif line < dates:
            classes.append("header" if sum(map(is_date, row)) > 1 else _class_of_words(row, True))
        elif width > 1 and any(is_value(c) for c in row[1:]):
            classes.append("row" if _is_named(row, names) else "not used")
        else:
            classes.append(_class_of_words(row, False))
    return classes


def _is_named(row: Row, names: set[str]) -> bool:
    texts = [cell_text(c) for c in row[:4] if not is_empty(c)]
    return any(t in names or any(t and t in n for n in names) for t in texts)


def _class_outside(row: Row, above: bool, read: Sequence[Block]) -> LineClass:
    """Class of a line outside the rows and headers."""
    if any(b.heading.names_again(row) for b in read) or (above and is_rule(row)):
        return "header"
    filled = [c for c in row if not is_empty(c)]
    dates = sum(map(is_date, filled))
    if dates == len(filled):
        return "header" if above else "date" if len(filled) == 1 else "not used"
    if looks_like_row(row) and not is_rule(row):
        return "not used"
    return _class_of_words(row, above)


def _class_of_words(row: Row, above: bool) -> LineClass:
    """Class of a line of words: a statement of a unit or currency, a title above the rows, or a note."""
    words = ", ".join(cell_text(c) for c in row if not is_empty(c))
    kinds = {s.kind for s in (*statements_in(words, ""), *percent_words(words, "")) if s.is_of_units}
    if kinds:
        return "currency" if kinds == {"currency"} else "unit"
    return "title" if above else "note"


def looks_like_row(row: Row) -> bool:
    """Whether a line has the form of a row: two cells or more, at least half of them numbers or dates."""
    filled = [c for c in row if not is_blank(c)]
    numbers = sum(is_value(c) or is_date(c) for c in filled)
    return len(filled) > 1 and any(map(is_value, filled)) and 2 * numbers >= len(filled)


def _refuse_lost_rows(grid: Grid, classes: Sequence[LineClass | None], read: Sequence[Block]) -> None:
    """Refuse a file if many lines with the width of the table are not read."""
    lost: dict[int, list[int]] = defaultdict(list)
    for place, what in enumerate(classes):
        if what == "not used":
            lost[content_width(grid.rows[place])].append(place)
    rows = sum(len(b.lines) for b in read)
    widths = {content_width(b.rows[0]) for b in read}
    for width, places in lost.items():
        if len(places) <= max(1, min(_RUN, _SHARE * rows)) or (width not in widths and not read[0].across):
            continue
        first, last = grid.lines[places[0]], grid.lines[places[-1]]
        text = " ".join(cell_text(c) for c in grid.rows[places[0]])[:60]
        raise TableError(
            f"{grid.name}: {quantity(len(places), 'line')} with numbers, lines {first} to {last}, would not be "
            f"read ('{text}'). The dates of {quantity(rows, 'row')} are understood. Set dates= to the form of "
            "the dates and date_column= to their column, or choose a table with block=."
        )


def _ranges(grid: Grid, classes: Sequence[LineClass | None]) -> tuple[LineRange, ...]:
    """Neighbouring lines of one class as one range; blank lines do not part them."""
    held = [(what, grid.lines[i]) for i, what in enumerate(classes) if what is not None]
    ranges = []
    for what, members in itertools.groupby(held, key=lambda item: item[0]):
        lines = [line for _, line in members]
        ranges.append(LineRange(what, lines[0], lines[-1], len(lines)))
    return tuple(ranges)


# The result of reading a table: series, records, decisions, rejected rows; and the options

_FOUND: Final = {"address", "frequency", "name", "notes", "scale", "trail"}


@dataclass(frozen=True)
class Decision:
    """One decision of the reader: subject, choice, alternatives, confidence and location."""

    what: str
    chosen: str
    alternatives: str = ""
    certainty: str = "sure"
    line: int = 0


class SeriesByName(dict[str, TimeSeries]):
    """Series by name; several names give a :class:`ultrum.SeriesTable`, an unknown one a suggestion."""

    @overload
    def __getitem__(self, name: str) -> TimeSeries: ...
    @overload
    def __getitem__(self, name: list[str]) -> SeriesTable: ...
    def __getitem__(self, name: str | list[str]) -> TimeSeries | SeriesTable:
        if isinstance(name, list):
            return SeriesTable.of({one: self[one] for one in name})
        if name not in self:
            raise AlignmentError(f"No series '{name}' here; {one_of(name, self)}")
        return super().__getitem__(name)

    @property
    def names(self) -> list[str]:
        """Names of the series, in the order of the file."""
        return list(self)

    def to_pandas(self) -> pd.DataFrame:
        """All series side by side, as :meth:`ultrum.SeriesTable.to_pandas`."""
        return SeriesTable.of(self).to_pandas()


ASSET_HEADINGS: Final = (
    "asset",
    "ticker",
    "symbol",
    "code",
    "isin",
    "security",
    "instrument",
    "stock",
    "company",
)


@dataclass(frozen=True, eq=False, repr=False)
class Reading(TextInNotebooks):
    """The content of one table.

    Attributes
    ----------
    fields : mapping of str to SeriesTable
        By value column; the series of a wide table have their own names.
    decisions : tuple of Decision
    rejected : tuple of Rejected
        Rows not used, with line and reason.
    lines : tuple of LineRange
        Class of each line that is not blank; see :attr:`account`.
    events : mapping of str to DataFrame
        ``dividends`` (``date``, ``amount``) and ``splits`` (``date``, ``ratio``) that stand among the rows.
    currencies : mapping of str to str
        Currency of each column of numbers that states one.
    cells : callable
        What the cells of each column are; see :attr:`account_of_columns`.
    """

    name: str
    fields: Mapping[str, SeriesTable]
    decisions: tuple[Decision, ...]
    rejected: tuple[Rejected, ...] = ()
    rows: Callable[[], pd.DataFrame] = pd.DataFrame
    lines: tuple[LineRange, ...] = ()
    events: Mapping[str, pd.DataFrame] = field(default_factory=dict)
    currencies: Mapping[str, str] = field(default_factory=dict)
    cells: Callable[[], tuple[CellsOfColumn, ...]] = tuple

    @functools.cached_property
    def records(self) -> pd.DataFrame:
        """All rows unchanged, with typed dates and numbers."""
        return self.rows()

    @functools.cached_property
    def series(self) -> SeriesByName:
        """Every series by name: ``market``, or ``BRTW.close`` in a long table; a list of names gives a table."""
        by_name = SeriesByName()
        for column, table in self.fields.items():
            alone = column == "" or table.names == [column]
            for name in table.names:
                by_name[name if alone or not column else f"{name}.{column}"] = table[name]
        return by_name

    @property
    def tables(self) -> dict[str, pd.DataFrame]:
        """The records by the table's name, if they are not series."""
        return {} if self.fields else {self.name: self.records}

    def events_alone(self, kind: str) -> Reading:
        """The dividends or splits among the rows as a table of records of their own."""
        table = self.events[kind]
        return replace(self, name=f"{self.name}#{kind}", fields={}, rows=lambda: table, events={})

    def wide(self) -> SeriesTable:
        r"""All series of a wide table as columns.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.read_series("date,a,b\n2024-01,1,2\n2024-02,3,4\n").wide().names
        ['a', 'b']
        """
        return SeriesTable.of(self.series.values())

    def to_frame(self) -> pd.DataFrame:
        r"""The decisions, one per row.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.read_series("date,a,b\n2024-01,1,2\n2024-02,3,4\n").to_frame()[["what", "chosen"]].head(2)
                what chosen
        0   encoding  UTF-8
        1  delimiter      ,
        """
        return pd.DataFrame([vars(d) for d in self.decisions])

    @property
    def account(self) -> pd.DataFrame:
        r"""The class of every line that is not blank: title, header, row, note, rejected and so on.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.read_series("Prices\ndate;a\n2024-01;1\n2024-02;2\nSource: made up.\n").account
             class  first  last  lines place
        0    title      1     1      1
        1   header      2     2      1
        2      row      3     4      2
        3     note      5     5      1
        """
        columns = ["class", "first", "last", "lines", "place"]
        return pd.DataFrame([(r.what, r.first, r.last, r.lines, r.place) for r in self.lines], columns=columns)

    @property
    def account_of_columns(self) -> pd.DataFrame:
        r"""What the cells of each column are: dates, values, names, units, statuses or text.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.read_series("date;a;Status\n2024-01;1;p\n2024-02;n/a;\n").account_of_columns
           column    what  used  missing  rejected
        0    date    date     2        0         0
        1       a   value     1        1         0
        2  Status  status     1        1         0
        """
        names = ["column", "what", "used", "missing", "rejected"]
        return pd.DataFrame(
            [(c.column, c.what, c.used, c.missing, c.rejected) for c in self.cells()], columns=names
        )

    @property
    def account_in_words(self) -> str:
        """The account in one line: ``1,043 lines: 1 header, 1,040 rows, 2 notes``."""
        return summary_of(self.lines)

    @property
    def faults(self) -> list[Rejected]:
        """Rejected rows and cells, and lines with numbers below the header that no table takes."""
        start = min((r.first for r in self.lines if r.what == "row"), default=0)
        lost = [r for r in self.lines if r.what == "not used" and r.first > start]
        outside = [
            Rejected(r.first, quantity(r.lines, "line"), "numbers outside the rows of the table") for r in lost
        ]
        return sorted([*(r for r in self.rejected if r.reason != A_TOTAL), *outside], key=lambda r: r.line)

    def warn_of_faults(self) -> Reading:
        """The reading itself; warns if some rows, cells or lines were not used."""
        if self.faults:
            first = self.faults[0]
            warn_user(
                f"{self.name} is read in part; rows and cells not used: {len(self.faults)}, the first in line "
                f"{first.line}: {first.reason}. Correct the file; 'ultrum look' and reading.rejected list all.",
                PartialReadingWarning,
            )
        return self

    def __repr__(self) -> str:
        decisions = "\n".join(
            f"  {d.what}: {d.chosen}" + (f" ({d.certainty})" if d.certainty != "sure" else "")
            for d in self.decisions
        )
        return (
            f"{self.name}: {len(self.series)} series, {quantity(len(self.records), 'row')}, "
            f"{len(self.rejected)} rejected\n{decisions}"
        )


@dataclass(frozen=True)
class TableOptions:
    """Options that replace detection; see :func:`read_series`."""

    member: str | None = None
    sheet: str | int | None = None
    block: str | int | None = None
    headings: Sequence[str] | None = None
    encoding: str | None = None
    delimiter: str | None = None
    header: int | None = None
    columns: list[str] | None = None
    date_column: str | int | None = None
    dates: str | None = None
    first_year: int | None = None
    decimal: str | None = None
    units: str | Mapping[str, str] | None = None
    missing: Sequence[str] | None = None
    frequency: str | None = None
    timezone: str | None = None
    asset_column: str | None = None
    breaks: Sequence[str] | None = None
    figure: str | None = None
    on: str | None = None
    estimated: bool = False
    records_only: bool = False
    facts: Mapping[str, Any] = field(default_factory=dict)

    @classmethod
    def of(cls, **given: Any) -> TableOptions:
        """Options by name; every other name is a field of the metadata."""
        names = {f.name for f in fields(cls)} - {"facts"}
        facts = {key: value for key, value in given.items() if key not in names}
        _check_facts(facts)
        options = cls(**{key: given[key] for key in names & given.keys()}, facts=facts)
        options.check()
        return options

    def in_charset(self, content_type: str, body: bytes) -> TableOptions:
        """Options with the encoding that the server states, unless one is given."""
        if self.encoding is not None or not content_type:
            return self
        return replace(self, encoding=charset_of(content_type, body))

    def check(self) -> None:
        """Refuse unknown words."""
        for name in ("columns", "headings", "missing", "breaks"):
            if isinstance(getattr(self, name), str):
                raise TableError(f"{name} must be a list of texts. Put the text in square brackets: [...].")
        if self.delimiter is not None and len(self.delimiter) != 1 and self.delimiter not in ("  ", "spaces"):
            raise TableError(
                f"delimiter='{self.delimiter}' is not a delimiter. Set one character, two spaces or 'spaces'."
            )
        for name in ("header", "first_year"):
            value = getattr(self, name)
            if value is not None and not isinstance(value, int):
                raise TableError(f"{name}='{value}' is not an integer.")
        if self.timezone:
            try:
                zoneinfo.ZoneInfo(self.timezone)
            except (ValueError, OSError, LookupError):
                raise TableError(
                    f"timezone='{self.timezone}' is not a time zone; write it like 'Europe/Paris' or 'UTC'."
                ) from None

    @property
    def language(self) -> str | None:
        """The language of the months, if ``dates`` has its code."""
        return self.dates if self.dates and re.fullmatch(r"[a-z]{2,3}", self.dates) else None

    @property
    def date_form(self) -> str | None:
        """The form of the dates, if ``dates`` has one."""
        return None if self.language or self.year_end else self.dates

    @property
    def year_end(self) -> int | None:
        """The month in which fiscal years end, if ``dates`` names it."""
        return year_end_in(self.dates or "")

    def codes_in(self, names: Sequence[str]) -> str | None:
        """The column whose numbers are codes of assets: the given one, or the one of assets among records."""
        if self.asset_column or not self.records_only:
            return self.asset_column
        named = [name for name in names if plain_heading(name) in ASSET_HEADINGS]
        first = [name for name in named if plain_heading(name) == "asset"] or named
        return first[0] if len(first) == 1 else None

    def unit(self, column: str) -> str | None:
        """The given unit of a column."""
        if isinstance(self.units, Mapping):
            return self.units.get(column)
        return self.units


def _check_facts(facts: Mapping[str, Any]) -> None:
    """Refuse unknown metadata, which would be written to every provenance."""
    names = {f.name for f in (*fields(TableOptions), *fields(Metadata))} - {"facts"}
    for name in facts.keys() - names:
        raise TableError(
            f"'{name}' is not an option of a table or a field of the metadata; {one_of(name, names)}"
        )
    for name in _FOUND & facts.keys():
        raise TableError(f"{name} comes from the table and cannot be set. Remove it.")
    for name, value in facts.items():
        if not isinstance(value, str):
            raise TableError(f"{name}={value!r} is not a text.")
    currency, lag = facts.get("currency", ""), facts.get("release_lag", "")
    if currency and not is_currency(currency):
        raise TableError(f"currency='{currency}' is not a code of ISO 4217, such as EUR.")
    if lag:
        parse_duration(lag)
