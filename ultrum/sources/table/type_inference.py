"""Typed cells of a table: dates, numbers with units, statuses, and the columns that name the rows."""

from __future__ import annotations

import functools
import itertools
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Array, Bools, Dates, Floats
from ultrum.core.presentation import quantity
from ultrum.errors import TableError, choices
from ultrum.sources.table.ambiguous_dates import ReadDates, cell_text, read_dates
from ultrum.sources.table.cell_grid import Row, column_array, identifier_column, is_date
from ultrum.sources.table.composite_dates import date_cells, zone_of_headings
from ultrum.sources.table.header_line import Heading, clauses_of_columns, mark_of
from ultrum.sources.table.number_formats_and_date_words import (
    ReadNumbers,
    decimal_mark,
    is_blank,
    is_missing,
    is_number_text,
    read_numbers,
    sentinel_in,
)
from ultrum.sources.table.reading_result import Decision, TableOptions
from ultrum.sources.table.table_detection import (
    A_TOTAL,
    NO_DAY,
    OTHER_FREQUENCY,
    Block,
    EventRow,
    Rejected,
    event_tables,
)
from ultrum.sources.table.unit_columns import multiplier_column, unit_column, units_by_row
from ultrum.sources.table.unit_statements import (
    SETTLED,
    Statement,
    bare_currencies,
    in_currency_codes,
    percent_words,
    statements_in,
)
from ultrum.sources.table.units import UnitFinding, can_have, unit_of

# Type inference: dates, numbers and texts from a block of cells, with every decision reported

_FLAGS: Final = {
    "p": "provisional",
    "r": "revised",
    "e": "estimated",
    "b": "break",
    "f": "forecast",
    "d": "definition differs",
    "c": "confidential",
    "u": "low reliability",
    "i": "imputed",
    "n": "not significant",
    "s": "estimated by the source",
}
_STATUS: Final = re.compile(
    r"(?i:(?:.* )?(?:obs[_ ])?(?:status|flags?|quality|qualité|qualifier|statut|estado|stato))"
)
_MOST_STATUSES: Final = 12
_MARKS: Final = "marks next to numbers"
_NORMAL: Final = ("", "a", "-", "normal", "final")
NO_NUMBER: Final = "is not a number; this cell is not used"
_CODED: Final = re.compile(r"\d{1,6}[A-Za-z]\d{0,4}")
_SCALED: Final = re.compile(r"\d+([kKB]|M)")
_LONGEST_TENOR: Final = 60  # months; more of a column of 3M, 6M, 12M are millions
_MOST_ODD: Final = 0.1  # share of cells that are not numbers in a column of numbers
_ODD_TEXTS: Final = 3  # different ones, however often each stands
_MISSING_PROSE: Final = re.compile(r"[^.\n]*\bmissing\b[^\n]*", re.IGNORECASE)
_NEW: Final = r"new (?:definition|base|series|method|unit)"
_BREAK_PROSE: Final = re.compile(rf"\b({_NEW}|redefin|rebas|break in|definition chang|from here)", re.IGNORECASE)


@dataclass(frozen=True)
class Typed:
    """Typed rows of one block.

    Attributes
    ----------
    dates : ReadDates
    columns : mapping of str to array
        Numbers as floats, everything else as objects.
    units : mapping of str to UnitFinding
        Units of the numeric columns; percent is not yet divided by 100.
    texts : mapping of str to mapping of str to str
        Title, source and notes of each column by its heading.
    statuses : mapping of str to array of str
        Quality flags next to the numbers of a column; empty where a number has none.
    breaks : list of int
        Rows at which a definition changes; ``decisions`` has the reason.
    unit_column : str
        Column of units that differ between rows; empty if there is none.
    events : mapping of str to DataFrame
        Dividends and splits that stand among the rows.
    after_gaps : array of datetime64
        Earlier of the two dates beside each row that was not used, in rows that are in order.
    status_of : mapping of str to sequence of str
        Columns of statuses, each with the columns of numbers that it is of.
    timezone : str
        Time zone that the heading of the dates states.
    """

    dates: ReadDates
    columns: dict[str, Array]
    units: dict[str, UnitFinding]
    decisions: list[Decision]
    rejected: list[Rejected]
    texts: dict[str, dict[str, str]] = field(default_factory=dict)
    breaks: list[int] = field(default_factory=list)
    statuses: dict[str, Array] = field(default_factory=dict)
    unit_column: str = ""
    events: Mapping[str, pd.DataFrame] = field(default_factory=dict)
    after_gaps: Dates | None = None
    status_of: Mapping[str, Sequence[str]] = field(default_factory=dict)
    timezone: str = ""

    @functools.cached_property
    def numeric(self) -> list[str]:
        """Names of the columns of numbers."""
        return [n for n in self.columns if n in self.units]

    def frame(self) -> pd.DataFrame:
        """Rows with their dates first."""
        days = self.dates.moments
        shown = days if self.dates.has_times else days.astype("datetime64[D]").astype("datetime64[s]")
        marks = {f"{n} status": c for n, c in self.statuses.items()}
        columns = {_beside(n): in_currency_codes(n, c) for n, c in self.columns.items()}
        return pd.DataFrame({"date": shown, **columns, **marks})


def _beside(name: str) -> str:
    return "date (column)" if name == "date" else name


def type_cells(block: Block, options: TableOptions) -> Typed:
    """Read the cells of a block.

    Raises
    ------
    TableError
        If dates, the decimal mark or the missing-value codes are ambiguous.
    """
    where = block.place
    joined = date_cells(block, options.date_form)
    dates = read_dates(joined.cells, options.date_form, where, options.first_year)
    marks = frozenset(str(m).strip().lower() for m in options.missing or ())
    names = [n for k, n in enumerate(block.heading.names) if n and k not in joined.used]
    events = {k: block.events[line] for k, line in enumerate(block.lines) if line in block.events}
    rows = (
        [_date_alone(r, joined.used) if k in events else r for k, r in enumerate(block.rows)]
        if events
        else block.rows
    )
    across = list(zip(*rows, strict=True))
    cells = {n: column_array(across[block.place_of[n]]) for n in names}
    given, multiplier = options.codes_in(names), multiplier_column(cells)
    numeric = [n for n in names if n not in (given, multiplier) and _is_numeric(cells[n], marks)]
    keys = {n: np.delete(c, joined.aside) for n, c in cells.items()}
    code = None if given else identifier_column(keys, numeric, np.delete(dates.moments, joined.aside))
    numeric = [n for n in numeric if n != code]
    decimal = _decimal([cells[n] for n in numeric], options, where, marks, block.grid.how)
    numbers = {n: read_numbers(cells[n], decimal, marks) for n in numeric}
    stated = set[float]() if options.missing is not None else _missing_marks(block.preamble)
    numbers = {n: _drop_missing_marks(r, stated) for n, r in numbers.items()}
    if options.missing is None:
        _refuse_sentinels(numbers, where)
    bad, rejected = _bad_rows(block, joined.cells, dates, numbers, cells)
    numbers = {n: replace(r, values=_finite(r.values)) for n, r in numbers.items()}
    numbers, status_of = _with_status_columns(names, cells, numbers)
    bad[list(joined.aside)] = True
    bad[list(events)] = True
    units, numbers, stated_units, column_of_units = _units_of_columns(block, cells, numbers, options)
    kept = ~bad
    columns: dict[str, Array] = {
        n: numbers[n].values[kept] if n in numbers else _texts(cells[n][kept]) for n in names
    }
    changes, why = _changes(block, columns, dates, kept)
    decisions = [
        *[Decision(what, chosen) for what, chosen in (*block.grid.decisions, *block.decisions)],
        *_block_decisions(block, joined.how, dates),
        *_number_decisions(cells, numbers, numeric, decimal, stated),
        *_text_columns({n: c for n, c in cells.items() if n not in status_of}, numeric),
        *[Decision(f"column '{n}'", f"status of {choices(of)}") for n, of in status_of.items()],
        *_statements_without_use(block, stated_units, units),
        *why,
        *_event_decisions(events),
    ]
    flags = {n: _statuses(r)[kept] for n, r in numbers.items() if r.marks}
    return Typed(
        _mask_dates(dates, kept),
        columns,
        units,
        decisions,
        [*block.rejected, *rejected],
        _texts_of_columns(block.heading),
        changes,
        flags,
        column_of_units,
        event_tables(events, dates.moments),
        _dates_before_gaps(block, [*block.rejected, *rejected], dates.moments, kept),
        status_of,
        zone_of_headings(block.heading.names, joined.used) if dates.has_times else "",
    )


def _texts_of_columns(heading: Heading) -> dict[str, dict[str, str]]:
    """Title, source and notes of each column, where the heading has them."""
    texts: dict[str, dict[str, str]] = {n: {} for n in heading.names}
    for what, row in (("title", heading.titles), ("source", heading.sources), ("notes", heading.notes)):
        for name, text in zip(heading.names, row, strict=False):
            if text:
                texts[name][what] = text
    return texts


def _units_of_columns(
    block: Block, cells: Mapping[str, Array], numbers: Mapping[str, ReadNumbers], options: TableOptions
) -> tuple[dict[str, UnitFinding], dict[str, ReadNumbers], tuple[Statement, ...], str]:
    """Unit of each column of numbers, the numbers, all statements, and the column of units that differ by row."""
    words, own = _words_by_column(block, list(numbers))
    beside = [
        replace(s, column=f"'{name}' of the archive")
        for name, text in block.grid.beside
        for s in statements_in(text, "")
    ]
    stated = (*statements_in(words.preamble, words.footer), *beside)
    by_row = unit_column(cells, list(numbers))
    if by_row.of_all is not None:
        stated = (*stated, by_row.of_all)
    stated_of = {n: statements_in(b.preamble, b.footer) for n, b in own.items()}
    given = _given_units(own, words, list(numbers), options)
    bare = bare_currencies(numbers, f"{block.preamble} {block.title} {' '.join(numbers)}")
    units = {
        n: _unit(own.get(n, words), n, read, given[n], stated_of.get(n, stated), bare.get(n, ""))
        for n, read in numbers.items()
    }
    every = (*stated, *itertools.chain.from_iterable(stated_of.values()))
    if not by_row.differs:
        return units, dict(numbers), every, ""
    return *units_by_row(by_row, units, numbers), every, by_row.name


def _dates_before_gaps(block: Block, rejected: Sequence[Rejected], moments: Dates, kept: Bools) -> Dates | None:
    """The earlier date beside each row that was not used; None if there is no such row."""
    lines = np.asarray(block.lines)[kept]
    absent = [r.line for r in rejected if r.reason not in (A_TOTAL, OTHER_FREQUENCY)]
    place = np.searchsorted(lines, [line for line in absent if line not in set(lines.tolist())])
    place = place[(place > 0) & (place < len(lines))]
    used = moments[kept]
    return np.unique(np.minimum(used[place - 1], used[place])) if len(place) else None


def _date_alone(row: Row, used: Sequence[int]) -> Row:
    """The row of an event without the cells of the event."""
    return [c if k in used else "" for k, c in enumerate(row)]


def _event_decisions(events: Mapping[int, EventRow]) -> list[Decision]:
    counts = Counter(e.kind for e in events.values())
    return [
        Decision(kind, f"{quantity(n, 'row')} among the prices; reading.events has them")
        for kind, n in counts.items()
    ]


def _mask_dates(dates: ReadDates, kept: Bools) -> ReadDates:
    offsets = dates.offsets[kept] if dates.offsets is not None else None
    return replace(dates, moments=dates.moments[kept], offsets=offsets)


def _texts(cells: Array) -> Array:
    texts = np.empty(len(cells), dtype=object)
    texts[:] = [cell_text(c) for c in cells]
    return texts


def _is_numeric(column: Array, marks: frozenset[str]) -> bool:
    """Whether most non-empty cells are numbers, so that the others can be omitted one by one."""
    if column.dtype.kind == "f":
        return bool(np.isfinite(column).any())
    filled = [c for c in column if not is_blank(c, marks)]
    odd = [c for c in filled if not is_number_text(c)]
    if len(odd) >= len(filled) - len(odd) or _are_codes(filled):
        return False
    few = len(odd) <= max(1, _MOST_ODD * len(filled))
    return few or len(set(map(cell_text, odd))) <= _ODD_TEXTS


def _are_codes(cells: Sequence[object]) -> bool:
    """Integers with leading zeros are codes, whose zeros must stay; so are 3M, 6M and 1E5, 2E5."""
    if not all(isinstance(c, str) for c in cells):
        return False
    texts = [str(c).strip() for c in cells]
    if all(t.isdigit() for t in texts):
        return any(len(t) > 1 and t.startswith("0") for t in texts)
    if not all(_CODED.fullmatch(t) for t in texts):
        return False
    scaled = all(_SCALED.fullmatch(t) for t in texts)
    months = all(t.endswith("M") for t in texts) and max(int(t[:-1]) for t in texts) <= _LONGEST_TENOR
    return months or not scaled


def _decimal(
    columns: Sequence[Array], options: TableOptions, where: str, marks: frozenset[str], parted_by: str
) -> str:
    texts = {c for column in columns if column.dtype.kind == "O" for c in column if isinstance(c, str)}
    numbers = sorted(c for c in texts if not is_blank(c, marks) and is_number_text(c))
    if parted_by == "," and not options.decimal and not any("," in c for c in numbers):
        return "."  # where commas part the cells, they part no decimals
    return decimal_mark(numbers, options.decimal, where)


def _missing_marks(preamble: str) -> set[float]:
    """Missing-value codes stated in the prose above."""
    marks_there: set[float] = set()
    for sentence in _MISSING_PROSE.findall(preamble):
        marks_there |= {float(n) for n in re.findall(r"-?\d+(?:\.\d+)?", sentence) if abs(float(n)) >= 9}
    return marks_there


def _drop_missing_marks(read: ReadNumbers, stated: set[float]) -> ReadNumbers:
    if not stated:
        return read
    return replace(read, values=np.where(np.isin(read.values, list(stated)), np.nan, read.values))


def _refuse_sentinels(numbers: Mapping[str, ReadNumbers], where: str) -> None:
    for name, read in numbers.items():
        sentinel = sentinel_in(read.values)
        if sentinel is not None:
            count = int((read.values == sentinel).sum())
            raise TableError(
                f"{where}: {sentinel:g} occurs {quantity(count, 'time')} in '{name}', far from all other "
                f"numbers, so it may be a code for missing values. Set missing=['{sentinel:g}'], or missing=[] "
                "if it is a number."
            )


def _bad_rows(
    block: Block, labels: Array, dates: ReadDates, numbers: Mapping[str, ReadNumbers], cells: Mapping[str, Array]
) -> tuple[Bools, list[Rejected]]:
    """Rows with an invalid date; cells that are not numbers are reported, and their rows are kept."""
    bad: Bools = np.isnat(dates.moments)
    reasons = {int(i): f"'{cell_text(labels[i])}' {NO_DAY}" for i in np.flatnonzero(bad)}
    if len(reasons) > max(1, 0.1 * len(bad)):
        first, reason = min(reasons.items())
        raise TableError(
            f"{block.grid.name}, line {block.lines[first]}: {len(reasons)} of {len(bad)} rows cannot be "
            f"read, the first because {reason}."
        )
    rejected = [
        Rejected(block.lines[i], " ".join(cell_text(c) for c in block.rows[i]), reason)
        for i, reason in sorted(reasons.items())
    ]
    odd = [
        Rejected(
            block.lines[row],
            cell_text(cells[name][row]),
            f"'{cell_text(cells[name][row])}' in '{name}' {NO_NUMBER}",
        )
        for name, read in numbers.items()
        for row in np.flatnonzero(np.isinf(read.values))
        if not bad[row]
    ]
    return bad, [*rejected, *sorted(odd, key=lambda r: r.line)]


def _words_by_column(block: Block, numeric: Sequence[str]) -> tuple[Block, dict[str, Block]]:
    """The block with the words that hold for all columns, and for some columns one with their own words."""
    marks = _footnote_marks(block, numeric)
    preamble, above = clauses_of_columns(block.preamble, numeric, marks)
    footer, below = clauses_of_columns(block.footer, numeric, marks)
    own: dict[str, Block] = {}
    for n in (*above, *below):
        mine = above.get(n, ""), below.get(n, "")
        stated = statements_in(*mine)
        if any(s.is_of_units for s in stated):  # in place of what holds for all columns
            own[n] = replace(block, preamble=mine[0], footer=mine[1])
        elif stated:
            own[n] = replace(block, preamble=_join_lines(preamble, mine[0]), footer=_join_lines(footer, mine[1]))
    return (replace(block, preamble=preamble, footer=footer) if own else block), own


def _join_lines(text: str, other: str) -> str:
    """Two texts with each line behind that of the same number."""
    pairs = itertools.zip_longest(text.split("\n"), other.split("\n"), fillvalue="")
    return "\n".join(" ".join(filter(None, pair)) for pair in pairs)


def _footnote_marks(block: Block, names: Sequence[str]) -> dict[str, list[str]]:
    """Columns by the mark of a footnote in their heading."""
    marks: dict[str, list[str]] = {}
    inside = set(block.header_lines)
    rows = [row for row, line in zip(block.grid.rows, block.grid.lines, strict=False) if line in inside]
    for name, row in itertools.product(names, rows):
        place = block.place_of[name] - (len(block.heading.names) - len(row) == 1)
        mark = mark_of(str(row[place])) if 0 <= place < len(row) and isinstance(row[place], str) else ""
        if mark:
            marks.setdefault(mark, []).append(name)
    return marks


def _given_units(
    own: Mapping[str, Block], words: Block, names: Sequence[str], options: TableOptions
) -> dict[str, str | None]:
    """The given unit of each column: one word is the unit of those columns alone that can have it."""
    given = {name: options.unit(name) for name in names}
    if not isinstance(options.units, str):
        return given
    other = {n for n in names if not can_have(options.units, n, *_heading_of(own.get(n, words), n))}
    return given if len(other) == len(names) else {n: None if n in other else u for n, u in given.items()}


def _heading_of(block: Block, name: str) -> tuple[str, str]:
    """Title of a column, and the cell under its name."""
    heading, place = block.heading, block.place_of[name]
    title = heading.titles[place] if heading.titles else block.title if name == "value" else ""
    return title, heading.units[place] if heading.units else ""


def _unit(
    block: Block, name: str, read: ReadNumbers, given: str | None, stated: Sequence[Statement], bare: str
) -> UnitFinding:
    title, unit_cell = _heading_of(block, name)
    return unit_of(name, title + bare, unit_cell, read, block.preamble, given, block.place, block.footer, stated)


def _statements_without_use(
    block: Block, stated: Sequence[Statement], units: Mapping[str, UnitFinding]
) -> list[Decision]:
    """Statements about units that no column takes, and words for percent that state none."""
    used = {s for u in units.values() for s in u.used}
    lines = {u.line for u in units.values() if u.percent}
    unused = [s for s in stated if s not in used]
    seen = {s.line for s in (*used, *unused)} | lines
    if not any(u.percent for u in units.values()):
        unused += [s for s in percent_words(block.preamble, block.footer) if s.line not in seen or not s.line]
    return [
        Decision("not used", f"{s.named} in {s}", "units=" * s.is_of_units, "no column takes it", s.line)
        for s in dict.fromkeys(unused)
    ]


def _changes(
    block: Block, columns: Mapping[str, Array], dates: ReadDates, kept: Bools
) -> tuple[list[int], list[Decision]]:
    """Rows at which a definition or unit changes, by a column that marks it or a line between rows."""
    place = np.cumsum(kept) - 1
    changes: dict[int, str] = {}
    for index, text in block.prose:
        if _BREAK_PROSE.search(text) and 0 < index < len(kept):
            changes[int(place[index])] = f"'{text[:60]}'"
    for name, cells in columns.items():
        if name.lower() in SETTLED and cells.dtype.kind == "O":
            turns = [i for i in range(1, len(cells)) if cells[i] != cells[i - 1]]
            if 0 < len(turns) <= 4 and _advance(dates.moments[kept], turns):
                changes.update({i: f"'{name}' changes to '{cells[i]}'" for i in turns})
    decisions = [Decision("break", f"split at row {i + 1}: {why}", "one series") for i, why in changes.items()]
    return sorted(changes), decisions


def _advance(moments: Dates, turns: Sequence[int]) -> bool:
    """Whether time goes on at every turn; where it starts again, another series begins."""
    steps = np.diff(moments.astype(np.int64))
    rising = bool(steps.sum() > 0)
    return all((steps[i - 1] > 0) if rising else (steps[i - 1] < 0) for i in turns)


def _block_decisions(block: Block, how: str, dates: ReadDates) -> list[Decision]:
    heading, first = block.heading, block.lines[0]
    named = f"line {heading.line}" if heading.line else "names given" if heading.first_row < 0 else "none"
    decisions = [
        Decision("header", named, line=heading.line),
        Decision("rows", f"lines {first} to {block.lines[-1]}", line=first),
        Decision("dates", f"written like {dates.style}" + (f", {how}" if how else ""), line=first),
    ]
    if block.repeated_headers:
        decisions.append(Decision("repeated headers", f"{block.repeated_headers} left out"))
    return decisions


def _number_decisions(
    cells: Mapping[str, Array],
    numbers: Mapping[str, ReadNumbers],
    numeric: Sequence[str],
    decimal: str,
    stated: set[float],
) -> list[Decision]:
    decisions = [Decision("decimal mark", decimal)]
    marks = sorted(
        {
            cell.strip()
            for n in numeric
            if cells[n].dtype.kind == "O"
            for cell in {c for c in cells[n] if isinstance(c, str)}
            if cell.strip() and is_missing(cell)
        }
    )
    if marks or stated:
        decisions.append(
            Decision("missing", "marked " + ", ".join([*marks, *[f"{s:g}" for s in sorted(stated)]]))
        )
    return [*decisions, *_marks_decision(sum((r.flags for r in numbers.values()), start=Counter()))]


def _marks_decision(flags: Counter[str]) -> list[Decision]:
    listed = ", ".join(f"{count} '{mark}' ({_FLAGS.get(mark, 'mark')})" for mark, count in flags.items())
    return [Decision(_MARKS, listed)] if flags else []


def _finite(values: Floats) -> Floats:
    """Numbers, with NaN for other cells."""
    return np.where(np.isinf(values), np.nan, values)


def _statuses(read: ReadNumbers) -> Array:
    """The flag next to each number, in words."""
    texts = np.full(len(read.values), "", dtype=object)
    for row, mark in read.marks.items():
        texts[row] = _FLAGS.get(mark, mark)
    return texts


def _with_status_columns(
    names: Sequence[str], cells: Mapping[str, Array], numbers: Mapping[str, ReadNumbers]
) -> tuple[dict[str, ReadNumbers], dict[str, list[str]]]:
    """Numbers with the marks of the status columns to their right, and the columns that each one is of."""
    read = dict(numbers)
    status_of: dict[str, list[str]] = {}
    left: list[str] = []
    for name in names:
        if name in numbers:
            left.append(name)
        elif _STATUS.fullmatch(name.strip()) and cells[name].dtype.kind == "O":
            marks = _status_marks(cells[name])
            if marks is None:
                continue
            status_of[name] = left or list(numbers)
            left = []
            for n in status_of[name]:
                mine = {i: m for i, m in marks.items() if i not in read[n].marks}
                read[n] = replace(read[n], marks={**mine, **read[n].marks})
    return read, status_of


def _status_marks(cells: Array) -> dict[int, str] | None:
    """The status of each row that has one other than normal; None if they are too many kinds for statuses."""
    codes, kinds = pd.factorize(cells)
    plain = ["" if kind is None else cell_text(kind).strip().lower() for kind in kinds.tolist()]
    odd = np.array([text not in _NORMAL for text in plain], dtype=bool)
    if len({text for text, is_odd in zip(plain, odd.tolist(), strict=True) if is_odd}) > _MOST_STATUSES:
        return None
    rows = np.flatnonzero((codes >= 0) & odd[codes]) if len(odd) else ()
    return {int(row): plain[codes[row]] for row in rows}


def with_statuses(typed: Typed) -> Typed | None:
    """Typed rows of a whole file with the marks of its columns of statuses, whose sample may have had none.

    None if a column that the sample took for statuses has too many kinds.
    """
    if not typed.status_of:
        return typed
    statuses: dict[str, Array] = {}
    flags: Counter[str] = Counter()
    for name, of in typed.status_of.items():
        marks = _status_marks(typed.columns[name])
        if marks is None:
            return None
        for column in of if marks else ():
            words = np.full(len(typed.columns[column]), "", dtype=object)
            words[list(marks)] = [_FLAGS.get(m, m) for m in marks.values()]
            statuses[column] = words
            flags.update(marks.values())
    others = [d for d in typed.decisions if d.what != _MARKS]
    return replace(typed, statuses=statuses, decisions=[*others, *_marks_decision(flags)])


def _text_columns(cells: Mapping[str, Array], numeric: Sequence[str]) -> list[Decision]:
    """Columns without series, with the first cell that is not a number."""
    text_columns = []
    numbers = set(numeric)
    for name in [n for n in cells if n not in numbers]:
        words = [c for c in cells[name] if not is_blank(c) and not is_number_text(c)]
        words = words or [c for c in cells[name] if not is_blank(c)]
        kind = "dates" if words and is_date(words[0]) else "text"
        why = f"{kind}, such as '{cell_text(words[0])[:40]}'" if words else "no value at all"
        text_columns.append(Decision(f"column '{name}'", f"kept as a record: {why}"))
    return text_columns
