"""`read_series`: any delimited table to series, with a report of what was decided.

Each decision is made from the whole column, told with its alternatives, and can be given instead;
a tie is an error that shows both readings.
"""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.types import Bools, Floats
from ultrum.errors import TableError
from ultrum.sources.http import HttpClient
from ultrum.sources.table.assemble import assemble
from ultrum.sources.table.cells import (
    MISSING,
    date_style,
    decimal_mark,
    is_number,
    to_numbers,
)
from ultrum.sources.table.layout import Layout, Rejected, find_table
from ultrum.sources.table.plain import read_plain
from ultrum.sources.table.result import Decision, Reading, TableOptions
from ultrum.sources.table.unpack import decode, read_file, unpack

UNITS: Final = ("percent", "decimal")
_PERCENT: Final = re.compile(r"\b(in percent|per cent|percent per|in %)", re.IGNORECASE)


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
    return read_table(read_file(Path(source)), Path(source).name, options)


def read_table(body: bytes, name: str, options: TableOptions | None = None) -> Reading:
    """Read the bytes of a table; see :func:`read_series`."""
    options = options or TableOptions()
    if options.units not in (None, *UNITS):
        raise TableError(f"units='{options.units}' is not known; it is one of {', '.join(UNITS)}.")
    inner, name = unpack(body, name, options.member)
    quick = None if _needs_care(options) else read_plain(inner)
    if quick is not None:
        said = Decision("layout", "plain table with a header, ISO dates", line=1)
        return assemble(name, quick, "D", [said, *_unit_decision(options, "", False)], (), options)
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
        *_text_columns(cells, numeric),
        *[Decision("set aside", text, certainty="other block") for text in layout.aside],
        *_unit_decision(options, layout.preamble, bool(signs)),
    ]
    every = (*layout.rejected, *rejected)
    return assemble(name, typed, style.frequency, decisions, every, options)


def _text_columns(cells: pd.DataFrame, numeric: list[str]) -> list[Decision]:
    """Columns that give no series, with the first cell that is no number."""
    found = []
    for column in [c for c in cells.columns[1:] if c not in numeric]:
        said = [c for c in cells[column] if c.lower() not in MISSING and not is_number(c)]
        why = f"text, such as '{said[0][:40]}'" if said else "no value at all"
        found.append(Decision(f"column '{column}'", f"kept as a record: {why}"))
    return found


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
