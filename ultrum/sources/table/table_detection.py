"""Tables within a grid of cells: their rows, the events among them, and what stands around them.

A block is a run of rows with dates of one frequency. The rows above it are its heading; it can be interrupted by
a repeated header, prose, or a row that is rejected and reported.
"""

from __future__ import annotations

import functools
import itertools
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.array_types import Dates, Floats
from ultrum.core.presentation import quantity
from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import (
    Grid,
    Row,
    content_width,
    is_empty,
    is_value,
    is_word,
    shown_rows,
    without_rules,
)
from ultrum.sources.table.date_formats import fitting, looks_like_date
from ultrum.sources.table.date_layouts import (
    dates_across,
    parts_by_date_column,
    parts_down,
    prose_above,
    prose_below,
    with_every_period,
    without_empty_rows,
    without_other_columns,
)
from ultrum.sources.table.header_line import (
    Heading,
    LayoutOptions,
    date_column_of,
    find_heading,
    is_bad_period,
    looks_like_data,
)
from ultrum.sources.table.unit_statements import currency_and_power, without_currency

_DIVIDEND: Final = (
    r"(?:cash |special |final |interim |ordinary )?(?:dividend\w*|utdelning|udbytte|utbytte|osinko|dywidend\w*"
    r"|osalék|temettü|дивиденд\w*|μέρισμα|配当金?|股息|배당금?)"
)
_SPLIT: Final = (
    r"(?:reverse )?(?:stock |share |aktien|aktie|aktsia)?split\w*|frazionamento|desdobramento|desdoblamiento"
    r"|fractionnement|podział akcji|сплит|дробление|株式分割|拆分|액면분할"
)
_NUMBER: Final = r"[+]?\d[\d'’  ]*(?:[.,]\d+)?"
_RATIO: Final = r"(?P<new>\d+(?:\.\d+)?) ?(?::|/|-?for-?| for | zu | pour | per ) ?(?P<old>\d+(?:\.\d+)?)"
_CODE: Final = r"(?:[A-Z]{{3}}|GBp|ZAc|[$€£])"
_MONEY: Final = rf"(?P<before{{0}}>{_CODE} ?)?(?P<amount{{0}}>{_NUMBER})(?P<after{{0}}> ?{_CODE})?"
_ANY: Final = re.compile(rf"{_DIVIDEND}|{_SPLIT}", re.IGNORECASE)
_OF_DIVIDEND: Final = re.compile(
    rf"(?i:{_DIVIDEND})[ :]*(?:of )?{_MONEY.format(1)}|{_MONEY.format(2)} *(?i:{_DIVIDEND})"
)
_OF_SPLIT: Final = re.compile(
    rf"(?i:{_SPLIT})[ :]*{_RATIO}|{_RATIO.replace('new', 'n2').replace('old', 'o2')} *(?i:{_SPLIT})"
)
_SHARE_OF_ROWS: Final = 0.5  # more rows of events than prices are a table of events

_DIVIDEND_HEADING: Final = re.compile(r"(?:cash |gross )?dividends?(?: amount| per share)?|dps", re.IGNORECASE)
_SPLIT_HEADING: Final = re.compile(r"(?:stock |share )?splits?(?: ratio| factor| coefficient)?", re.IGNORECASE)
_SHARE_OF_BLANKS: Final = 0.8  # days without an event in a column of events

Kind = Literal["dividends", "splits"]


@dataclass(frozen=True)
class EventRow:
    """A dividend or split in the row of a price table.

    Attributes
    ----------
    kind : {"dividends", "splits"}
    number : float
        Amount per share, or new shares per old share.
    currency : str
        Code, if the row states one.
    """

    kind: Kind
    number: float
    currency: str = ""


def event_in(row: Row, date_column: int) -> EventRow | None:
    """The event of a row whose cells have nothing else than a date and the event.

    Examples
    --------
    >>> event_in(["2024-01-31", "0.35 Dividend", "", ""], 0)
    EventRow(kind='dividends', number=0.35, currency='')
    >>> event_in(["2024-01-31", "Split", "2:1"], 0).number, event_in(["2024-01-31", "9", "Split 2:1"], 0)
    (2.0, None)
    """
    if not any(isinstance(c, str) and c.upper() != c.lower() for c in row[date_column + 1 : date_column + 9]):
        return None
    cells = [str(c).strip() for k, c in enumerate(row) if k != date_column and not is_empty(c)]
    text = " ".join(dict.fromkeys(c for c in cells if c not in ("-", "–", "null", "n/a")))
    if len(text) > 60 or not _ANY.search(text):
        return None
    if match := _OF_SPLIT.fullmatch(text):
        new, old = (float(match[a] or match[b]) for a, b in (("new", "n2"), ("old", "o2")))
        return EventRow("splits", new / old) if old else None
    if match := _OF_DIVIDEND.fullmatch(text):
        code = next((t for g in ("before1", "after1", "before2", "after2") if (t := match[g])), "").strip()
        number = _decimal(match["amount1"] or match["amount2"])
        return EventRow("dividends", number, code if currency_and_power(code)[0] else "")
    return None


def _decimal(text: str) -> float:
    """An amount per share; its last mark is the decimal mark."""
    return float(re.sub(r"[^\d.]", "", text.replace(",", ".")))


def events_among(rows: Sequence[Row], lines: Sequence[int], date_column: int) -> dict[int, EventRow]:
    """Events by line, unless they are most of the rows."""
    events = {
        line: e for row, line in zip(rows, lines, strict=True) if (e := event_in(row, date_column)) is not None
    }
    return events if len(events) <= _SHARE_OF_ROWS * len(rows) else {}


def event_tables(events: Mapping[int, EventRow], dates: Dates) -> dict[str, pd.DataFrame]:
    """Tables of the dividends and splits, by name.

    Parameters
    ----------
    events : mapping of int to EventRow
        By row.
    dates : ndarray, shape (rows,)
        Instants of the rows.
    """
    tables: dict[str, pd.DataFrame] = {}
    for kind, number in (("dividends", "amount"), ("splits", "ratio")):
        held = [(row, e) for row, e in events.items() if e.kind == kind]
        if not held:
            continue
        days = pd.DatetimeIndex(dates[[row for row, _ in held]]).normalize()
        table = pd.DataFrame({"date": days, number: [e.number for _, e in held]})
        if any(e.currency for _, e in held):
            table["currency"] = [e.currency for _, e in held]
        tables[kind] = table
    return tables


def _plain_event(heading: str) -> str:
    return without_currency(heading.replace("_", " ").strip())


def is_event_heading(heading: str) -> bool:
    """Whether a heading is that of a column of dividends or splits."""
    plain = _plain_event(heading)
    return bool(_DIVIDEND_HEADING.fullmatch(plain) or _SPLIT_HEADING.fullmatch(plain))


def events_in_columns(
    columns: Mapping[str, Floats], dates: Dates, currencies: Mapping[str, str]
) -> dict[str, pd.DataFrame]:
    """Dividends and splits in columns of their own, which are zero or empty on most days.

    Parameters
    ----------
    columns : mapping of str to ndarray, shape (rows,)
        Columns of numbers by heading.
    dates : ndarray, shape (rows,)
        Instants of the rows.
    currencies : mapping of str to str
        Currency of each column that states one.

    Examples
    --------
    >>> days = np.arange("2024-01-01", "2024-01-11", dtype="datetime64[D]")
    >>> paid = np.array([0, 0, 0, 0.35, 0, 0, 0, 0, 0, 0])
    >>> events_in_columns({"Dividends": paid}, days, {})["dividends"]["amount"].tolist()
    [0.35]
    """
    tables: dict[str, pd.DataFrame] = {}
    for kind, number, heading, nothing in (
        ("dividends", "amount", _DIVIDEND_HEADING, (0.0,)),
        ("splits", "ratio", _SPLIT_HEADING, (0.0, 1.0)),
    ):
        named = [n for n in columns if heading.fullmatch(_plain_event(n))]
        if len(named) != 1:
            continue
        values, currency = columns[named[0]], currencies.get(named[0])
        held = np.isfinite(values) & ~np.isin(values, nothing)
        if 0 < held.sum() <= (1.0 - _SHARE_OF_BLANKS) * len(held):
            days = pd.DatetimeIndex(dates[held]).normalize()
            tables[kind] = pd.DataFrame({"date": days, number: values[held]})
            if currency:
                tables[kind]["currency"] = currency
    return tables


# Detection of tables in a grid: the direction of dates, the first and last row, and the heading

_TOO_MANY_BAD: Final = 0.1
_MOST_FOOTER: Final = 30  # lines
OTHER_FREQUENCY: Final = "a period of another frequency"
NO_DAY: Final = "is not a calendar day"
_FEW_STRAYS: Final = 3  # rows of another frequency without a heading of their own
A_TOTAL: Final = "a total or average, not a period"
_TOTAL_WORD: Final = (
    r"(?:(?:grand )?(?:total|sum|average|mean|avg|gesamt|median)s?|summe|insgesamt|durchschnitt|mittel(?:wert)?"
    r"|ensemble|somme|moyenne|totale?|totaal|suma|media|promedio|média|summa|medel|razem|średnia|ogółem|celkem|průměr"
    r"|итого|всего|среднее|合計|小計|平均|合计|总计):?"
)
_PERIOD: Final = r"(?:[^\W\d_]{0,12}[ .:])?(?:[^\W\d_])?\d[\w ./-]{0,12}"
_TOTAL: Final = re.compile(rf"{_TOTAL_WORD}(?: {_PERIOD})?|{_PERIOD} {_TOTAL_WORD}", re.IGNORECASE)


@dataclass(frozen=True)
class Rejected:
    """A row that was not used, and why."""

    line: int
    text: str
    reason: str


@dataclass(frozen=True)
class Block:
    """One table: its heading, its rows, and the unused parts around it.

    Attributes
    ----------
    date_column : int
        Column of the dates.
    prose : list of (int, str)
        Lines of text between the rows, with the index of the row after them.
    title : str
        Line of prose directly above the heading.
    across : int
        Line of the dates, if they run across; 0 if they run down.
    header_lines : list of int
        Lines of the heading, blank ones included.
    part : int
        Number of its date column, if several stand side by side.
    events : mapping of int to EventRow
        Dividends and splits among the rows, by line.
    """

    grid: Grid
    date_column: int
    heading: Heading
    rows: list[Row]
    lines: list[int]
    rejected: list[Rejected]
    prose: list[tuple[int, str]]
    preamble: str
    title: str
    family: str
    repeated_headers: int = 0
    decisions: list[tuple[str, str]] = field(default_factory=list)
    footer: str = ""
    across: int = 0
    header_lines: Sequence[int] = ()
    part: int = 0
    events: Mapping[int, EventRow] = field(default_factory=dict)

    @functools.cached_property
    def place_of(self) -> dict[str, int]:
        """Column of each name of the heading."""
        return {name: place for place, name in reversed(list(enumerate(self.heading.names)))}

    @property
    def place(self) -> str:
        """Location, in words."""
        return f"{self.grid.name}, line {self.lines[0]}"


def find_blocks(grid: Grid, layout: LayoutOptions, where: str) -> list[Block]:
    """Every table in a grid, largest first.

    Raises
    ------
    TableError
        If there is none, or one without a heading.
    """
    grid = with_every_period(without_rules(grid))
    parts = parts_by_date_column(grid) if layout.columns is None and layout.date_column is None else [grid]
    if len(parts) > 1:
        return _blocks_of_parts(parts, layout, where)
    return _blocks_of(grid, layout, where)


def _blocks_of_parts(parts: Sequence[Grid], layout: LayoutOptions, where: str) -> list[Block]:
    """The main table of each date column, with the title of its columns where names repeat."""
    mains = [_blocks_of(part, layout, where)[0] for part in parts]
    counts = Counter(n for b in mains for k, n in enumerate(b.heading.names) if k != b.date_column)
    if max(counts.values(), default=0) > 1 and all(b.title for b in mains):
        mains = [replace(b, heading=b.heading.under(b.title, b.date_column)) for b in mains]
    decision = ("layout", f"{len(parts)} date columns, each for the columns to its right")
    return [replace(b, part=k, decisions=[decision, *b.decisions]) for k, b in enumerate(mains, 1)]


def _blocks_of(grid: Grid, layout: LayoutOptions, where: str) -> list[Block]:
    column, count = date_column_of(grid, layout)
    across = dates_across(grid)
    if across is not None and (across[1] > count or parts_down(grid, across[0])):
        turned = replace(grid, rows=list(grid.rows[across[0] :]), lines=grid.lines[across[0] :])
        turned, aside = without_other_columns(turned)
        blocks = find_blocks(without_empty_rows(turned).transpose(), layout, where)
        decision = ("layout", f"dates run across, along line {grid.lines[across[0]]}")
        above, below = prose_above(grid, across[0]), prose_below(grid, across[0])
        return [
            replace(
                b,
                decisions=[decision, *aside, *b.decisions],
                preamble=f"{above}\n{b.preamble}",
                footer=f"{b.footer}\n{below}",
                across=grid.lines[across[0]],
            )
            for b in blocks
        ]
    if not count:
        raise TableError(
            f"{where}: no rows of a date and values were found in {quantity(len(grid.rows), 'line')}; "
            f"{shown_rows(grid)}"
        )
    return _blocks_at(grid, column, layout, where)


@dataclass
class _Run:
    """Rows of one block during detection."""

    family: str
    width: int
    at: list[int] = field(default_factory=list)
    even: bool = False
    headed: bool = False  # a heading stands above


def _blocks_at(grid: Grid, column: int, layout: LayoutOptions, where: str) -> list[Block]:
    """Blocks of rows whose dates are in one column."""
    native = {datetime: "D", date: "D"}
    families = [
        (len(row) > column and native.get(type(row[column]))) or _family(row, column, layout) for row in grid.rows
    ]
    runs = _runs(grid, _of_one_style(grid, column, families, layout), column)
    if not runs:
        raise TableError(f"{where}: no rows of a date and values were found; {shown_rows(grid)}")
    return _join_blocks([_block(grid, column, runs, k, layout, where) for k in range(len(runs))])


def _of_one_style(grid: Grid, column: int, families: list[str], layout: LayoutOptions) -> list[str]:
    """Frequencies of the rows by the one style that fits all dates of the column, if there is one.

    A fiscal year such as 2000-01 is then no month among 1998-99 and 1999-00.
    """
    if len(set(families) - {""}) < 2 or layout.style is not None:
        return families
    texts = [cell_text(grid.rows[i][column]) for i, family in enumerate(families) if family]
    fits = fitting(list(dict.fromkeys(t for t in texts if t)))
    return [fits[0].frequency if family and fits else family for family in families]


def _family(row: Row, column: int, layout: LayoutOptions) -> str:
    """Frequency code of the date in a row with other cells."""
    if len(row) <= column or len(row) < 2:
        return ""
    cell = row[column]
    shape = layout.shape(cell)
    if not shape and layout.weak_dates and is_value(cell):
        return "D"
    if not shape or (all(is_empty(c) for i, c in enumerate(row) if i != column) and len(row) < 2):
        return ""
    return layout.frequency(shape)


def _runs(grid: Grid, families: Sequence[str], column: int) -> list[_Run]:
    """Rows in runs of one frequency, split at headings between them."""
    runs: list[_Run] = []
    broken = True
    start = 0
    for family, members in itertools.groupby(families):
        stop = start + sum(1 for _ in members)
        if not family:
            broken = broken or any(_is_heading(row, column) for row in grid.rows[start:stop])
        elif broken or not runs or runs[-1].family != family:
            runs.append(_Run(family, 0, list(range(start, stop)), headed=broken))
            broken = False
        else:
            runs[-1].at.extend(range(start, stop))
        start = stop
    for run in runs:
        widths = Counter(map(len, map(grid.rows.__getitem__, run.at)))
        run.width, run.even = widths.most_common(1)[0][0], len(widths) == 1
    return _without_strays(runs)


def _without_strays(runs: list[_Run]) -> list[_Run]:
    """Single rows of another frequency within a run are errors of the run, not blocks."""
    largest = max((len(r.at) for r in runs), default=0)
    kept: list[_Run] = []
    for run in runs:
        few = len(run.at) <= (1 if run.headed else _FEW_STRAYS)
        if few and largest > 3 and kept and kept[-1].family != run.family:
            continue
        if kept and kept[-1].family == run.family and run.at[0] - kept[-1].at[-1] <= 2 and len(runs) > 1:
            between_is_stray = run.at[0] - kept[-1].at[-1] == 2
            if between_is_stray:
                kept[-1].at.extend(run.at)
                kept[-1].even = kept[-1].even and run.even and kept[-1].width == run.width
                continue
        kept.append(run)
    return kept


def _is_heading(row: Row, column: int) -> bool:
    """Whether a row without a date is a heading."""
    words = sum(is_word(c) for c in row)
    return words >= 2 and words >= 0.5 * content_width(row)


def _block(grid: Grid, column: int, runs: list[_Run], which: int, layout: LayoutOptions, where: str) -> Block:
    run = runs[which]
    above = runs[which - 1].at[-1] + 1 if which else 0
    below = runs[which + 1].at[0] if which + 1 < len(runs) else len(grid.rows)
    at = run.at if run.even else [i for i in run.at if _fits(grid.rows[i], run.width, column)]
    heading = find_heading(grid, above, at[0], run.width, column, layout.columns, layout.header, where)
    rejected, prose = _between(grid, run, at, below, column, heading)
    start = heading.first_row + 1 if heading.first_row >= 0 else above
    rejected = [*_rejections_above(grid, start, at[0], column), *rejected]
    faults = [r for r in rejected if r.reason not in (A_TOTAL, OTHER_FREQUENCY)]
    dated = all(r.reason.endswith(NO_DAY) for r in faults)
    if len(faults) > max(_TOO_MANY_BAD * len(at), 1 if dated or len(at) >= 5 else 0.5):
        first = faults[0]
        raise TableError(
            f"{where}: {quantity(len(faults), 'row')} between the first and last date cannot be read, first line "
            f"{first.line}: {first.reason} ('{first.text[:60]}'). Fix them, or choose a block with block=."
        )
    preamble, title = _words_above(grid, above, heading.first_row if heading.first_row >= 0 else at[0])
    rows = [grid.rows[i] if run.even else _cut(grid.rows[i], run.width) for i in at]
    lines = [grid.lines[i] for i in at]
    return Block(
        grid,
        column,
        heading,
        rows,
        lines,
        rejected,
        prose,
        f"{preamble}\n{grid.above}",
        title,
        run.family,
        footer=f"{_words_below(grid, at[-1] + 1, below, column)}\n{grid.below}",
        events=events_among(rows, lines, column),
        header_lines=grid.lines[heading.first_row : at[0]] if heading.first_row >= 0 else (),
    )


def _rejections_above(grid: Grid, start: int, first: int, column: int) -> list[Rejected]:
    """Rows between the heading and the first date whose own date is invalid."""
    return [
        Rejected(
            grid.lines[i],
            " ".join(cell_text(c) for c in grid.rows[i]),
            f"'{cell_text(grid.rows[i][column])}' {NO_DAY}",
        )
        for i in range(max(start, 0), first)
        if is_bad_period(grid.rows[i], column)
    ]


def _cut(row: Row, width: int) -> Row:
    return row if len(row) == width else [*row[:width], *[""] * (width - len(row))]


def _fits(row: Row, width: int, column: int) -> bool:
    """Whether a row has the block's number of cells; empty cells can follow, and an event can have fewer."""
    if 1 < len(row) < width:
        return event_in(row, column) is not None
    return len(row) == width or (len(row) > width and content_width(row) <= width)


def _between(
    grid: Grid, run: _Run, at: list[int], below: int, column: int, heading: Heading
) -> tuple[list[Rejected], list[tuple[int, str]]]:
    """Other rows within the block's span: rejected ones, and lines of prose."""
    inside = set(at)
    rejected: list[Rejected] = []
    prose: list[tuple[int, str]] = []
    last = at[-1]
    whole = last - at[0] + 1 == len(at)  # nothing stands between the rows
    ended = False
    for i in range(last + 1 if whole else at[0], below):
        row = grid.rows[i]
        if i in inside:
            continue
        texts = [cell_text(c) for c in row if not is_empty(c)]
        if i > last and (ended or not texts or not _may_be_data(row, texts)):
            ended = True  # a single row of another frequency may follow, which is not a block
            family = _family(row, column, LayoutOptions())
            if family not in ("", run.family) and any(map(is_value, row[column + 1 :])):
                rejected.append(Rejected(grid.lines[i], " ".join(texts), OTHER_FREQUENCY))
            continue
        if not texts or heading.names_again(row):
            continue
        text = " ".join(texts)
        if not any(is_value(c) for c in row[column + 1 :]) and len(texts) == 1:
            prose.append((sum(k < i for k in at), text))
            continue
        if _TOTAL.fullmatch(texts[0]):
            rejected.append(Rejected(grid.lines[i], text, A_TOTAL))
            continue
        if len(row) > column and _family(row, column, LayoutOptions()) not in ("", run.family):
            rejected.append(Rejected(grid.lines[i], text, OTHER_FREQUENCY))
            continue
        count = len(row)
        label = cell_text(row[column]) if count > column else ""
        fault = NO_DAY if looks_like_date(label) else "is not understood as a date"
        reason = f"{quantity(count, 'cell')}, not {run.width}" if count != run.width else f"'{label}' {fault}"
        rejected.append(Rejected(grid.lines[i], text, reason))
    return rejected, prose


def _may_be_data(row: Row, texts: Sequence[str]) -> bool:
    """Whether a row under a table can belong to it: it has numbers, or begins with a date."""
    return any(is_value(c) for c in row) or looks_like_date(re.split(r"[\s,;|]", texts[0])[0])


def _words_above(grid: Grid, above: int, first: int) -> tuple[str, str]:
    """All text above a heading, and its last line, which can be the block's title."""
    lines = []
    for row in grid.rows[:first]:
        texts = [cell_text(c) for c in row if not is_empty(c)]
        lines.append("" if looks_like_data(row, 0) else _mark_of_prose(grid).join(texts))
    filled_lines = [line for line in lines[above:] if line]
    return "\n".join(lines), filled_lines[-1] if filled_lines else ""


def _mark_of_prose(grid: Grid) -> str:
    """What stands between cells of prose: words, where spaces divide them."""
    return " " if grid.how == "spaces" else ", "


def _words_below(grid: Grid, start: int, stop: int, column: int) -> str:
    """Prose below a table, up to the next one."""
    lines = []
    for row in grid.rows[start:stop]:
        words = [cell_text(c) for c in row if not is_empty(c)]
        if words and not looks_like_data(row, column):
            lines.append(_mark_of_prose(grid).join(words))
        if len(lines) >= _MOST_FOOTER:
            break
    return "\n".join(lines)


def _join_blocks(blocks: list[Block]) -> list[Block]:
    """All blocks, largest first, with blocks that continue under a repeated heading joined."""
    done: list[Block] = []
    for block in blocks:
        same = next((k for k, b in enumerate(done) if _continues(b, block)), None)
        if same is None:
            done.append(block)
            continue
        first = done[same]
        done[same] = replace(
            first,
            rows=[*first.rows, *block.rows],
            lines=[*first.lines, *block.lines],
            rejected=[*first.rejected, *block.rejected],
            prose=[*first.prose, *[(len(first.rows) + k, text) for k, text in block.prose]],
            repeated_headers=first.repeated_headers + (block.heading.first_row >= 0),
            header_lines=[*first.header_lines, *block.header_lines],
            events={**first.events, **block.events},
        )
    return sorted(done, key=lambda b: -len(b.rows))


def _continues(first: Block, then: Block) -> bool:
    """Whether a block has the same columns as one before it, and other periods."""
    if first.family != then.family or len(first.rows[0]) != len(then.rows[0]):
        return False
    if then.heading.first_row >= 0 and first.heading.names != then.heading.names:
        return False
    if len(first.rows[0]) > 2 and any(is_word(c) for c in first.rows[0][1:]):
        return True
    seen = {cell_text(r[first.date_column]) for r in first.rows}
    return not any(cell_text(r[then.date_column]) in seen for r in then.rows)
