"""`read_series`: series from a table in any common format, with a report of every decision.

Each decision uses the whole column, is reported with its alternatives, and can be set; an ambiguity is an error
that shows both readings.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from typing import Final

from ultrum.core.arguments import validate_arguments
from ultrum.core.presentation import quantity
from ultrum.core.series.time_series import SeriesTable
from ultrum.errors import TableError
from ultrum.file_access import path_of
from ultrum.sources.table.ambiguous_dates import option_style
from ultrum.sources.table.cell_grid import Grid, add_day_column, without_empty_start
from ultrum.sources.table.composite_dates import name_bars, side_by_side
from ultrum.sources.table.date_layouts import with_flag_column
from ultrum.sources.table.dates_in_words import in_calendar_quarters
from ultrum.sources.table.fast_csv import read_quick
from ultrum.sources.table.file_formats_and_limits import grids_of
from ultrum.sources.table.file_patterns import (
    expand_pattern,
    figure_series,
    files_of,
    find_figure,
    is_pattern,
    read_many,
)
from ultrum.sources.table.header_line import DATE_WORDS, LayoutOptions
from ultrum.sources.table.reading_result import (
    Decision,
    LineRange,
    Reading,
    TableOptions,
    account_of,
    other_sheet,
)
from ultrum.sources.table.series_assembly import assemble
from ultrum.sources.table.table_detection import Block, find_blocks
from ultrum.sources.table.type_inference import type_cells
from ultrum.sources.table.unit_statements import statements_in
from ultrum.sources.table.unpacking import kind_of, read_file, texts_beside, unpack

_FAR_LARGER: Final = 3


@validate_arguments
def read_series(
    source: str | bytes | os.PathLike[str],
    *,
    member: str | None = None,
    sheet: str | int | None = None,
    block: str | int | None = None,
    headings: Sequence[str] | None = None,
    encoding: str | None = None,
    delimiter: str | None = None,
    header: int | None = None,
    columns: Sequence[str] | None = None,
    date_column: str | int | None = None,
    dates: str | None = None,
    first_year: int | None = None,
    frequency: str | None = None,
    timezone: str | None = None,
    decimal: str | None = None,
    units: str | Mapping[str, str] | None = None,
    missing: Sequence[str] | None = None,
    asset_column: str | None = None,
    breaks: Sequence[str] | None = None,
    figure: str | None = None,
    on: str | None = None,
    expand: Mapping[str, Sequence[str]] | None = None,
    estimated: bool = False,
    records_only: bool = False,
    **facts: object,
) -> Reading:
    r"""Read a table in any common format from a file, an http(s) address, bytes or pasted text.

    Delimited text, XLSX, XLS, ODS, web pages, JSON records and Parquet, plain or inside a zip or
    gzip; long or wide, dates down or across, months next to years, with prose around the table.

    Everything is detected. The options, which a message names where one is needed, come in groups: the table
    (``member`` to ``headings``), its cells (``encoding`` to ``columns``), its dates (``date_column`` to
    ``timezone``), its values (``decimal`` to ``breaks``), pages of today (``figure`` to ``expand``).

    Parameters
    ----------
    source : path, str or bytes
        File, address that starts with http, or the text itself if it has several lines.
    member : str, optional
        Name of the file in an archive with several.
    sheet : str or int, optional
        Sheet of a workbook, or table of a page by its caption; numbers count from 1.
    block : str or int, optional
        One of several tables in one sheet, by a part of its title or its number from 1.
    headings : sequence of str, optional
        Headings of the table to read, wherever it is on a page. A table without dates is then read as well, with
        rows named by the first heading, for the day in ``on``.
    encoding, delimiter : str, optional
        Detected from the text by default.
    header : int, optional
        Line number of the column names.
    columns : sequence of str, optional
        Names of all columns, for a table without a header.
    date_column : str or int, optional
        Column of the dates, by name or number from 1.
    dates : str, optional
        Form of the dates: any example (``"31/12/2021"``, ``"31 de dezembro de 2021"``), a pattern of strptime,
        the language of the months (``"hr"``), the end of fiscal years (``"year ends June"``), or the meaning of
        numbers: ``"serial 1900"``, ``"serial 1904"``, ``"epoch s"``, ``"epoch ms"``.
    first_year : int, optional
        Year of the earliest date, for two-digit years with two possible centuries.
    frequency : str, optional
        Inferred from the dates by default.
    timezone : str, optional
        Time zone of intraday data without one.
    decimal : {".", ","}, optional
        Decimal mark; detected from the text by default.
    units : str or mapping of column to str, optional
        ``"percent"`` is divided by 100. ``"decimal"``, ``"as written"``, or a unit. The word
        ``"percent"`` or ``"decimal"`` alone is not for columns whose headings state an amount, such as
        "Value (QML mn)", unless all do.
    missing : sequence of str, optional
        Further codes for missing values, such as ``["-999"]``.
    asset_column : str, optional
        Column that names the asset of each row, in a long table.
    breaks : sequence of str, optional
        Periods at which a definition changes; series are split there.
    figure : str, optional
        Words next to a single number on a page, which is then read instead of a table.
    on : str, optional
        Day of that number, or of a table without dates, if the page states none.
    expand : mapping of str to sequence, optional
        Values of the fields in braces of an address: ``rents/{region}.csv`` with ``expand={"region": ["01",
        "02"]}``, ``fx/{day:%Y%m}.csv`` with ``expand={"day": ("2024-01", "2024-12")}``. Not needed for local
        files.
    estimated : bool
        Whether a person read the values from a picture; the provenance records it.
    records_only : bool
        Dated records that are not series, such as dividends.
    **facts
        Fields of the metadata, such as ``measure="return"``, for every series.

    Returns
    -------
    Reading
        With ``series``, ``tables``, ``decisions`` and ``rejected``.

    Raises
    ------
    TableError
        If the table is ambiguous; the message names the option to set.

    Examples
    --------
    >>> reading = read_series("All in percent per month.\nmonth;market\n03/2011;1.5\n04/2011;n/a\n",
    ...                       measure="return")
    >>> reading.series["market"].to_pandas().tolist()
    [0.015, nan]
    """
    given = dict(locals())
    source, facts, expand = given.pop("source"), given.pop("facts"), given.pop("expand")
    options = TableOptions.of(
        **{k: list(v) if k == "columns" and v is not None else v for k, v in given.items()}, **facts
    )
    if isinstance(source, str | os.PathLike) and is_pattern(str(source)):
        places = expand_pattern(str(source), expand) if expand else files_of(str(source))
        return read_many(str(source), places, options, lambda p, o: _read(p, o, ""), lambda p: _obtain(p)[0])
    live = isinstance(source, str) and source.startswith(("http://", "https://"))
    return _read(source, options, str(date.today()) if live else "")


def _read(source: str | bytes | os.PathLike[str], options: TableOptions, day: str) -> Reading:
    body, name, kind = _obtain(source)
    return read_table(body, name, options.in_charset(kind, body), day)


def _obtain(source: str | bytes | os.PathLike[str]) -> tuple[bytes, str, str]:
    """Bytes of the input, its displayed name, and its content type."""
    if isinstance(source, bytes):
        return source, "bytes", ""
    name = str(source)
    if isinstance(source, str) and "\n" in source:
        return source.encode("utf-8"), "pasted text", ""
    if name.startswith(("http://", "https://")):
        from ultrum.sources.http_client import HttpClient

        with HttpClient() as client:
            answer = client.get(name)
        return answer.body, name.partition("?")[0].rsplit("/", 1)[-1] or name, answer.content_type
    path = path_of(source)
    return read_file(path), path.name, ""


def read_table(body: bytes, name: str, options: TableOptions | None = None, retrieved: str = "") -> Reading:
    """Read the bytes of a table downloaded on a day; see :func:`read_series`."""
    options = options or TableOptions()
    reading = _read_bytes(body, name, options, retrieved)
    if not isinstance(options.units, Mapping):
        return reading
    held = {c.column for c in reading.cells()} | set(reading.series) | set(reading.fields)
    absent = [
        Decision("not used", f"units of '{n}'", certainty="no column has this name")
        for n in options.units
        if n not in held
    ]
    return replace(reading, decisions=(*reading.decisions, *absent))


def _read_bytes(body: bytes, name: str, options: TableOptions, retrieved: str) -> Reading:
    inner, name = unpack(body, name, options.member)
    if options.figure:
        return _lone_figure(inner, name, options)
    if kind_of(inner) == "parquet":
        from ultrum.sources.table.fast_csv import read_parquet

        typed = read_parquet(inner, name, options)
        rows = len(typed.dates.moments)
        return replace(assemble(name, typed, options), lines=(LineRange("row", 1, rows, rows),))
    texts = texts_beside(body) if options.member is None else {}
    beside = tuple((n, t) for n, t in texts.items() if t)
    quick = read_quick(inner, name, options, beside)
    if quick is not None:
        reading = replace(assemble(name, quick.columns, options), lines=quick.account)
        return _merge_readings([reading], [_beside(n, t) for n, t in texts.items()]) if texts else reading
    grids = [
        replace(g, beside=beside)
        for g in grids_of(
            inner,
            name,
            encoding=options.encoding,
            delimiter=options.delimiter,
            sheet=options.sheet,
            language=options.language,
        )
    ]
    try:
        chosen, aside, account = _chosen_blocks(grids, name, options)
    except TableError:
        if not options.headings:
            raise
        grid = add_day_column(grids, options.headings, options.on or retrieved, name)
        options = replace(options, asset_column=options.asset_column or str(grid.rows[0][1]))
        chosen, aside = find_blocks(grid, LayoutOptions(date_column=1), name), []
        account = account_of(grid, chosen, [])
    aside = [*aside, *(_beside(n, t) for n, t in texts.items())]
    reading = _merge_readings([_read_block(b, name, options) for b in chosen], aside)
    return replace(reading, lines=account)


def _beside(name: str, text: str) -> Decision:
    what = "statements about units are used" if text else "not read"
    return Decision("set aside", f"'{name}' of the archive, {what}", "member=")


def _lone_figure(body: bytes, name: str, options: TableOptions) -> Reading:
    figure = find_figure(body, options.figure or "", name, options.decimal)
    day = options.on or figure.day
    if not day:
        raise TableError(
            f"{name}: '{figure.words}' has no date on the page. Set its date, such as on='2024-03-15'."
        )
    return figure_series(options.figure or "", [(day, figure)], options)


def _read_block(block: Block, name: str, options: TableOptions) -> Reading:
    named = name_bars(block, name)
    whole = side_by_side(named) or named
    reading = assemble(name, type_cells(whole, options), options)
    return _retitle(reading, block) if whole is not named else reading


def _retitle(reading: Reading, block: Block) -> Reading:
    """The only series of a table of months next to years is named by the table's title."""
    if list(reading.fields) != ["value"]:
        return reading
    title = block.title or block.grid.name
    table = reading.fields["value"]
    metadata_list = [a.replace(name=title, title=title) for a in table.metadata]
    return replace(reading, fields={title: SeriesTable.from_arrays(table.block, table.index, metadata_list)})


def _chosen_blocks(
    grids: list[Grid], name: str, options: TableOptions
) -> tuple[list[Block], list[Decision], tuple[LineRange, ...]]:
    """Blocks to read, decisions about the others, and the account of the lines."""
    style = option_style(options.date_form) if options.date_form else None
    layout = LayoutOptions(
        options.columns, options.header, options.date_column, style is not None and style.weak, style
    )
    grids = [in_calendar_quarters(with_flag_column(without_empty_start(g)), options.year_end) for g in grids]
    by_grid: dict[int, list[Block]] = {}
    fault: TableError | None = None
    for number, grid in enumerate(grids):
        try:
            blocks = _with_headings(_find_blocks(grid, layout, _place(grid, name)), options.headings)
            if blocks:
                by_grid[number] = blocks
        except TableError as error:
            fault = fault or error
    if not by_grid:
        if options.headings:
            raise TableError(f"{name}: no table has the headings {', '.join(options.headings)}.")
        raise fault or TableError(f"{name}: no table was found.")
    number, aside = _chosen_grid(grids, by_grid, name)
    blocks = _number_blocks(by_grid[number], options.block, name)
    main = blocks[0].family
    read = sorted((b for b in blocks if b.family == main or b.part), key=lambda b: (b.lines[0], b.part))
    aside += [
        Decision(
            "set aside",
            f"{quantity(len(b.rows), 'row')} from line {b.lines[0]}, not used: another frequency ({b.family})",
            f"block='{b.title[:40]}'" if b.title else "",
            "other block",
            b.lines[0],
        )
        for b in blocks
        if b.family != main and not b.part
    ]
    others = [b for b in by_grid[number] if not any(b is r for r in read)]
    account = account_of(grids[number], read, others)
    aside += [_not_used(r) for r in account if r.what == "not used"]
    aside += _statements_elsewhere(read, others)
    sheets = [other_sheet(g) for n, g in enumerate(grids) if n != number]
    return read, aside, (*account, *(s for s in sheets if s.lines))


def _statements_elsewhere(read: Sequence[Block], others: Sequence[Block]) -> list[Decision]:
    """Statements about units at the tables that are not read, as their last may be that of the whole file."""
    own = {s.text for b in read for s in statements_in(b.preamble, b.footer)}
    found = [(s, b) for b in others for s in statements_in(b.preamble, b.footer) if s.text not in own]
    return [
        Decision(
            "not used",
            f"{s.named} in {s}",
            "units=" * s.is_of_units,
            f"at the table from line {b.lines[0]}",
            b.lines[0],
        )
        for s, b in found
    ]


def _not_used(lines: LineRange) -> Decision:
    where = f"line {lines.first}" if lines.first == lines.last else f"lines {lines.first} to {lines.last}"
    chosen = f"{where}: numbers outside the rows of the table"
    return Decision("not used", chosen, "block=", "no date that is understood", lines.first)


def _find_blocks(grid: Grid, layout: LayoutOptions, where: str) -> list[Block]:
    """Blocks of a grid; bare numbers are dates only if the heading confirms it."""
    try:
        return find_blocks(grid, layout, where)
    except TableError:
        if layout.weak_dates or not _heads_dates(grid):
            raise
    return find_blocks(grid, replace(layout, weak_dates=True), where)


def _heads_dates(grid: Grid) -> bool:
    """Whether some row begins with a word for dates."""
    return any(row and str(row[0]).strip().lower() in DATE_WORDS for row in grid.rows[:100])


def _place(grid: Grid, name: str) -> str:
    return name if grid.name == name else f"{name}, '{grid.name}'"


def _with_headings(blocks: list[Block], headings: Sequence[str] | None) -> list[Block]:
    if not headings:
        return blocks
    wanted = [h.lower() for h in headings]
    return [b for b in blocks if all(any(w in n.lower() for n in b.heading.names) for w in wanted)]


def _chosen_grid(grids: list[Grid], by_grid: dict[int, list[Block]], name: str) -> tuple[int, list[Decision]]:
    """The sheet or table with by far the most rows, or an error that lists similar ones."""
    sizes = {number: sum(len(b.rows) for b in blocks) for number, blocks in by_grid.items()}
    ranked = sorted(sizes, key=lambda n: -sizes[n])
    if len(ranked) == 1:
        return ranked[0], []
    if sizes[ranked[0]] < _FAR_LARGER * sizes[ranked[1]]:
        listed = ", ".join(f"'{grids[n].name}' ({quantity(sizes[n], 'row')})" for n in sorted(ranked))
        raise TableError(
            f"{name} contains several tables: {listed}. Choose one, such as sheet='{grids[ranked[0]].name}'."
        )
    aside = [
        Decision("set aside", f"'{grids[n].name}', {quantity(sizes[n], 'row')}", certainty="other sheet")
        for n in ranked[1:]
    ]
    return ranked[0], aside


def _number_blocks(blocks: list[Block], wanted: str | int | None, name: str) -> list[Block]:
    """Blocks, largest first, or the requested one."""
    if wanted is None:
        return blocks
    in_order = sorted(blocks, key=lambda b: b.lines[0])
    if isinstance(wanted, int):
        if not 1 <= wanted <= len(in_order):
            raise TableError(f"{name} has {len(in_order)} blocks; there is no block {wanted}.")
        return [in_order[wanted - 1]]
    same = [b for b in in_order if str(wanted).lower() in b.title.lower()]
    if len(same) != 1:
        listed = ", ".join(f"'{b.title}'" for b in in_order)
        raise TableError(
            f"{name}: {quantity(len(same), 'block')} with the title '{wanted}'; there are: {listed}."
        )
    return same


def _merge_readings(readings: list[Reading], aside: list[Decision]) -> Reading:
    """Several blocks of one frequency as one reading; repeated names get the number of their block."""
    first = readings[0]
    fields, decisions, rejected = (dict(first.fields), [*first.decisions, *aside], list(first.rejected))
    for number, other in enumerate(readings[1:], start=2):
        for column, table in other.fields.items():
            named = column if column not in fields else f"{column} ({number})"
            fields[named] = table if named == column else _rename_column(table, column, named)
        taken = {(d.what, d.chosen) for d in decisions}
        decisions += [
            replace(d, what=f"{d.what}, table {number}")
            for d in other.decisions
            if (d.what, d.chosen) not in taken
        ]
        rejected += other.rejected
    return replace(first, fields=fields, decisions=tuple(decisions), rejected=tuple(rejected))


def _rename_column(table: SeriesTable, column: str, named: str) -> SeriesTable:
    metadata_list = [a.replace(name=named) if a.name == column else a for a in table.metadata]
    return SeriesTable.from_arrays(table.block, table.index, metadata_list)
