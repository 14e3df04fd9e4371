"""`read_series`: any delimited table to series, with a report of what was decided.

Each decision is made from the whole column, told with its alternatives, and can be given instead;
a tie is an error that shows both readings.
"""

from __future__ import annotations

import html
import os
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.descriptor import Descriptor, Step
from ultrum.core.frequency import Frequency
from ultrum.core.series import SeriesTable, TimeSeries
from ultrum.core.types import Bools, Dates, Floats
from ultrum.errors import TableError
from ultrum.sources.http import HttpClient
from ultrum.sources.table.cells import (
    MISSING,
    date_style,
    decimal_mark,
    is_number,
    to_numbers,
)
from ultrum.sources.table.layout import Layout, Rejected, find_table
from ultrum.sources.table.plain import read_plain
from ultrum.sources.table.unpack import decode, unpack

UNITS: Final = ("percent", "decimal")
_PERCENT: Final = re.compile(r"\b(in percent|per cent|percent per|in %)", re.IGNORECASE)
_MEASURES: Final = {
    **dict.fromkeys(("open", "high", "low", "close", "price"), "price"),
    "volume": "flow",
}


@dataclass(frozen=True)
class Decision:
    """One thing the reader decided: what, what was chosen, what else it could be, how sure, where."""

    what: str
    chosen: str
    alternatives: str = ""
    certainty: str = "sure"
    line: int = 0


@dataclass(frozen=True, eq=False, repr=False)
class Reading:
    """What was read from one table.

    Attributes
    ----------
    fields : mapping of str to SeriesTable
        By value column; the series of a wide table each stand under their own name.
    records : DataFrame
        All rows as they stand, dates as dates and numbers as numbers.
    decisions : tuple of Decision
    rejected : tuple of Rejected
        Rows not used, with line and reason.
    """

    name: str
    fields: Mapping[str, SeriesTable]
    records: pd.DataFrame
    decisions: tuple[Decision, ...]
    rejected: tuple[Rejected, ...] = ()

    @property
    def series(self) -> dict[str, TimeSeries]:
        """Every series by name: ``market``, or ``BRTW.close`` in a long table."""
        found = {}
        for column, table in self.fields.items():
            for name in table.names:
                found[name if name == column else f"{name}.{column}"] = table[name]
        return found

    @property
    def tables(self) -> dict[str, pd.DataFrame]:
        """The records by the table's name, if they are not series."""
        return {} if self.fields else {self.name: self.records}

    def wide(self) -> SeriesTable:
        """All series of a wide table side by side."""
        return SeriesTable.of(table.only() for table in self.fields.values())

    def to_frame(self) -> pd.DataFrame:
        """The decisions, one a row."""
        return pd.DataFrame([vars(d) for d in self.decisions])

    def __repr__(self) -> str:
        said = "\n".join(
            f"  {d.what}: {d.chosen}" + (f" ({d.certainty})" if d.certainty != "sure" else "")
            for d in self.decisions
        )
        return (
            f"{self.name}: {len(self.series)} series, {len(self.records)} rows, "
            f"{len(self.rejected)} rejected\n{said}"
        )

    def _repr_html_(self) -> str:
        return f"<pre>{html.escape(repr(self))}</pre>"


@dataclass(frozen=True)
class TableOptions:
    """Decisions that can be given instead of found; see :func:`read_series`."""

    member: str | None = None
    encoding: str | None = None
    delimiter: str | None = None
    columns: list[str] | None = None
    dates: str | None = None
    decimal: str | None = None
    units: str | None = None
    frequency: str | None = None
    asset_column: str | None = None
    records_only: bool = False
    facts: Mapping[str, Any] = field(default_factory=dict)

    @classmethod
    def of(cls, **said: Any) -> TableOptions:
        """Options by name; every other name is a fact for the descriptors."""
        known = {f.name for f in fields(cls)} - {"facts"}
        facts = {key: value for key, value in said.items() if key not in known}
        return cls(**{key: said[key] for key in known & said.keys()}, facts=facts)


def read_series(
    source: str | os.PathLike[str],
    *,
    member: str | None = None,
    encoding: str | None = None,
    delimiter: str | None = None,
    columns: Sequence[str] | None = None,
    dates: str | None = None,
    decimal: str | None = None,
    units: str | None = None,
    frequency: str | None = None,
    asset_column: str | None = None,
    records_only: bool = False,
    **facts: Any,
) -> Reading:
    r"""Read a delimited table, plain or inside a zip or gzip, from a file or an http(s) address.

    Parameters
    ----------
    source : path or str
        File, or address that starts with http.
    member : str, optional
        Name of the file inside an archive that holds several.
    encoding, delimiter, decimal : str, optional
        Found from the text if not given.
    columns : sequence of str, optional
        Names of all columns, if the table has no header.
    dates : str, optional
        Style of the dates, written as an example: ``"15/03/2024"`` or ``"03/15/2024"``.
    units : {"percent", "decimal"}, optional
        Percent is divided by 100. Found from percent signs or the prose above the table.
    frequency : str, optional
        Read off the dates if not given.
    asset_column : str, optional
        Column that names the asset of each row, in a long table.
    records_only : bool
        Dated records that are not series, such as dividends.
    **facts
        Fields of the descriptor, such as ``measure="return"``, for every series.

    Returns
    -------
    Reading
        With ``series``, ``decisions`` and ``rejected``.

    Raises
    ------
    TableError
        If the table cannot be read without guessing; the message says what to give.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> folder = tempfile.TemporaryDirectory()
    >>> file = pathlib.Path(folder.name, "factors.txt")
    >>> _ = file.write_text("All in percent per month.\nmonth;market\n03/2011;1.5\n04/2011;n/a\n")
    >>> reading = read_series(file, measure="return")
    >>> reading.series["market"].to_pandas().tolist()
    [0.015, nan]
    """
    options = TableOptions(
        member,
        encoding,
        delimiter,
        list(columns) if columns is not None else None,
        dates,
        decimal,
        units,
        frequency,
        asset_column,
        records_only,
        facts,
    )
    name = str(source)
    if name.startswith(("http://", "https://")):
        with HttpClient() as client:
            return read_table(client.get(name).body, name.rsplit("/", 1)[-1], options)
    try:
        body = Path(source).read_bytes()
    except OSError as error:
        raise TableError(f"{name} cannot be read: {error.strerror}.") from None
    return read_table(body, Path(source).name, options)


def read_table(body: bytes, name: str, options: TableOptions | None = None) -> Reading:
    """Read the bytes of a table; see :func:`read_series`."""
    options = options or TableOptions()
    if options.units not in (None, *UNITS):
        raise TableError(f"units='{options.units}' is not known; it is one of {', '.join(UNITS)}.")
    inner, name = unpack(body, name, options.member)
    quick = None if _needs_care(options) else read_plain(inner)
    if quick is not None:
        said = Decision("layout", "plain table with a header, ISO dates", line=1)
        return _assemble(name, quick, "D", [said, *_unit_decision(options, "", False)], (), options)
    text, encoding = decode(inner, name, options.encoding)
    layout = find_table(text, name, options.delimiter, options.columns)
    return _from_layout(name, layout, encoding, options)


def _needs_care(options: TableOptions) -> bool:
    given = (options.encoding, options.delimiter, options.columns, options.dates, options.decimal)
    return any(g is not None for g in given)


def _from_layout(name: str, layout: Layout, encoding: str, options: TableOptions) -> Reading:
    """Type the cells of a table that was found in a text."""
    cells = pd.DataFrame(layout.rows, columns=[layout.header[0] or "date", *layout.header[1:]])
    labels = cells.iloc[:, 0].tolist()
    style = date_style(labels, options.dates, f"{name}, line {layout.lines[0]}")
    days = style.read(cells.iloc[:, 0])
    numeric = [c for c in cells.columns[1:] if _is_numeric(cells[c])]
    decimal = _decimal(cells[numeric], layout, options, name)
    values = {c: to_numbers(cells[c].to_numpy(), decimal) for c in numeric}
    bad, rejected = _bad_rows(cells, days, values, layout)
    typed = cells.assign(**values)[~bad]
    typed = pd.concat([days[~bad].rename("date"), typed.iloc[:, 1:]], axis=1)
    signs = bool(numeric) and cells[numeric].apply(lambda c: c.str.endswith("%").any()).any()
    decisions = [
        Decision("encoding", encoding),
        Decision("delimiter", {"\t": "tab"}.get(layout.delimiter, layout.delimiter)),
        Decision("header", f"line {layout.header_line}", line=layout.header_line),
        Decision("rows", f"lines {layout.lines[0]} to {layout.lines[-1]}", line=layout.lines[0]),
        Decision("dates", f"written like {style.name}", line=layout.lines[0]),
        Decision("decimal mark", decimal),
        *[Decision("set aside", text, certainty="other block") for text in layout.aside],
        *_unit_decision(options, layout.preamble, bool(signs)),
    ]
    every = (*layout.rejected, *rejected)
    return _assemble(name, typed, style.frequency, decisions, every, options)


def _is_numeric(column: pd.Series) -> bool:
    """Whether nine in ten of the cells that say something are numbers."""
    counts = column.value_counts()
    said = [(c, n) for c, n in counts.items() if str(c).lower() not in MISSING]
    numbers = sum(n for c, n in said if is_number(str(c)))
    return bool(said) and numbers >= 0.9 * sum(n for _, n in said)


def _decimal(cells: pd.DataFrame, layout: Layout, options: TableOptions, name: str) -> str:
    every = {str(c) for column in cells for c in cells[column].unique()}
    said = {c for c in every if c.lower() not in MISSING and is_number(c)}
    return decimal_mark(sorted(said), options.decimal, f"{name}, from line {layout.lines[0]}")


def _bad_rows(
    cells: pd.DataFrame, days: pd.Series, values: Mapping[str, Floats], layout: Layout
) -> tuple[Bools, list[Rejected]]:
    """Rows whose date or numbers cannot be read."""
    bad = days.isna().to_numpy().copy()
    labels = cells.iloc[:, 0].tolist()
    reasons = {int(i): f"'{labels[i]}' is no day of the calendar" for i in np.flatnonzero(bad)}
    for column, numbers in values.items():
        for row in np.flatnonzero(np.isinf(numbers)):
            text = cells[column].tolist()[row]
            reasons.setdefault(int(row), f"'{text}' in '{column}' is no number")
            bad[row] = True
    rejected = [
        Rejected(layout.lines[i], layout.delimiter.join(layout.rows[i]), reason)
        for i, reason in sorted(reasons.items())
    ]
    return bad, rejected


def _unit_decision(options: TableOptions, preamble: str, signs: bool) -> list[Decision]:
    if options.units:
        return [Decision("units", options.units, certainty="given")]
    if signs:
        return [Decision("units", "percent", certainty="percent signs in the cells")]
    found = _PERCENT.search(preamble)
    if found:
        line = preamble[: found.start()].count("\n") + 1
        return [Decision("units", "percent", "decimal", f"line {line} says so", line)]
    return [Decision("units", "as written", "percent", "nothing says otherwise")]


def _assemble(
    name: str,
    records: pd.DataFrame,
    code: str,
    decisions: list[Decision],
    rejected: Sequence[Rejected],
    options: TableOptions,
) -> Reading:
    """Series out of typed rows, wide or long."""
    percent = any(d.what == "units" and d.chosen == "percent" for d in decisions)
    numeric = [c for c in records.columns[1:] if pd.api.types.is_numeric_dtype(records[c])]
    if percent:
        records = records.assign(**{c: records[c] / 100.0 for c in numeric})
    if options.records_only:
        return Reading(name, {}, records.reset_index(drop=True), tuple(decisions), tuple(rejected))
    asset = options.asset_column or _asset_column(records, numeric)
    days = records["date"].to_numpy().astype("datetime64[D]")
    frequency = Frequency.parse(options.frequency or _finer(code, days))
    fields = (
        _long_fields(name, records, asset, numeric, days, frequency, options.facts)
        if asset
        else _wide_fields(name, records, numeric, days, frequency, options.facts)
    )
    shape = f"long, one asset a row, named by '{asset}'" if asset else "wide, one series a column"
    decisions = [*decisions, Decision("shape", shape), Decision("frequency", frequency.name)]
    return Reading(name, fields, records.reset_index(drop=True), tuple(decisions), tuple(rejected))


def _finer(code: str, days: Dates) -> str:
    """Daily dates without weekends are business days."""
    return "B" if code == "D" and bool(np.is_busday(days).all()) else code


def _asset_column(records: pd.DataFrame, numeric: list[str]) -> str:
    """The text column that tells rows of the same date apart, if dates repeat."""
    if records["date"].is_unique:
        return ""
    for column in records.columns[1:]:
        if column not in numeric and not records.duplicated(["date", column]).any():
            return str(column)
    return ""


def _wide_fields(
    name: str,
    records: pd.DataFrame,
    numeric: list[str],
    days: Dates,
    frequency: Frequency,
    facts: Mapping[str, Any],
) -> dict[str, SeriesTable]:
    ordinals = frequency.ordinals(days)
    order = np.argsort(ordinals, kind="stable")
    twice = np.flatnonzero(np.diff(ordinals[order]) == 0)
    if len(twice):
        label = frequency.labels(ordinals[order][twice[:1]])[0]
        raise TableError(
            f"{name}: {len(twice)} {frequency.name} periods appear twice, first {label}. Remove one "
            "of each, or say which column names the asset: asset_column=..."
        )
    index = frequency.index(ordinals[order])
    return {
        column: SeriesTable.build(
            records[column].to_numpy(dtype=np.float64)[order][:, None],
            index,
            [_about(name, column, column, frequency, facts)],
        )
        for column in numeric
    }


def _long_fields(
    name: str,
    records: pd.DataFrame,
    asset: str,
    numeric: list[str],
    days: Dates,
    frequency: Frequency,
    facts: Mapping[str, Any],
) -> dict[str, SeriesTable]:
    ordinals, rows = np.unique(frequency.ordinals(days), return_inverse=True)
    columns, names = pd.factorize(records[asset])
    filled = np.zeros((len(ordinals), len(names)), dtype=bool)
    filled[rows, columns] = True
    if filled.sum() < len(records):
        raise TableError(
            f"{name}: {len(records) - int(filled.sum())} rows repeat the date and '{asset}' of another. "
            "Keep one of each."
        )
    currencies = _currencies(name, records, asset)
    index = frequency.index(ordinals)
    fields = {}
    for column in numeric:
        block = np.full(filled.shape, np.nan)
        block[rows, columns] = records[column].to_numpy(dtype=np.float64)
        priced = {"measure": _MEASURES[column]} if column in _MEASURES else {}
        abouts = [
            _about(name, str(n), f"{n}.{column}", frequency,
                   {**priced, "currency": currencies.get(n, ""), **facts} if priced.get("measure")
                   == "price" else {**priced, **facts})
            for n in names
        ]  # fmt: skip
        fields[column] = SeriesTable.build(block, index, abouts)
    return fields


def _currencies(name: str, records: pd.DataFrame, asset: str) -> dict[Any, str]:
    """Currency of each asset, from a column of that name."""
    if "currency" not in records:
        return {}
    pairs = records[[asset, "currency"]].drop_duplicates()
    torn = pairs[pairs[asset].duplicated()][asset].tolist()
    if torn:
        raise TableError(f"{name}: {torn[0]} changes its currency inside the table; part it there.")
    return dict(zip(pairs[asset], pairs["currency"], strict=True))


def _about(
    table: str, name: str, field_name: str, frequency: Frequency, facts: Mapping[str, Any]
) -> Descriptor:
    step = Step("read", (("from", f"{table}#{field_name}"),))
    return Descriptor(name=name, frequency=frequency, trail=(step,), **facts)
