"""The header of a table, its column of dates, and clauses and footnotes about single columns."""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Final

from ultrum.core.currency.exchange_rates import is_currency
from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import Grid, Row, content_width, is_date, is_empty, is_value, shape_of
from ultrum.sources.table.date_formats import BARE, BY_NAME, DateStyle, looks_like_date
from ultrum.sources.table.number_formats_and_date_words import field_of, is_blank, is_date_heading

UNIT_WORDS: Final = re.compile(
    r"\(?\s*(in )?(%|per ?cent(age points?| per (annum|year|month)| change)?|"
    r"% ?(p\.?a\.?|a year|a month)|pct|index|points?|"
    r"count|number|persons?|(thousand|million|billion|mn|bn|th)s?( .{0,20})?|[A-Z]{3}( .{0,20})?|"
    r"\d{4} ?= ?100|index,? \d{4} ?= ?100|ratio|decimal|units?|tonnes|none|-)\s*\)?",
    re.IGNORECASE,
)
DATE_WORDS: Final = frozenset(
    [
        *(
            "date",
            "day",
            "period",
            "time",
            "month",
            "quarter",
            "year",
            "week",
            "when",
            "observation_date",
            "obs_date",
            "ref_date",
            "reference_date",
            "reference_period",
            "ref_period",
            "as_of",
            "asof",
            "trade_date",
            "trading_day",
            "t",
            "ts",
            "epoch",
            "unix_time",
            "unixtime",
            "time_ms",
        ),
        *("timestamp", "datetime", "date_time", "time_period", "datum", "tag", "monat", "jahr"),
        *("fecha", "mes", "data", "mois", "année"),
    ]
)
PUBLICATION_WORDS: Final = re.compile(
    r"publi|releas|updat|modif|creat|retriev|download|loaded|insert|revis|vintage|fetched|issued|entered|valid_|expir"
)
_UNIT_IN_BRACKETS: Final = re.compile(r"(.*\S) ?\[([^\[\]]+)\]")
_UNIT_LABELS: Final = ("unit", "units", "unit of measure", "einheit", "unité", "measure")
_CODE_LABELS: Final = ("code", "id", "key", "series", "series id", "series code", "mnemonic", "symbol", "ticker")
_LABEL: Final = re.compile(r"\s*([^\W\d_][^:]{0,40}): *\S")
_SOURCE_LABELS: Final = ("source", "sources", "quelle", "fuente", "fonte", "źródło", "källa", "bron", "kilde")
_NOTE_LABELS: Final = (
    *("last update", "last updated", "updated", "release date", "next release", "note", "notes", "status"),
    *("description of change", "stand", "dernière mise à jour", "actualización"),
)
_MOST_ROWS: Final = 8


@dataclass(frozen=True)
class Heading:
    """Names of a table's columns.

    Attributes
    ----------
    names : list of str
        One for each column; empty for a column without name and values.
    titles, units, sources, notes : list of str
        Further text of the heading for each column.
    first_row : int
        Index of its first row in the grid; −1 if the names were given or generated.
    line : int
        Line of the names; 0 if they were given.
    """

    names: list[str]
    titles: list[str] = field(default_factory=list)
    units: list[str] = field(default_factory=list)
    sources: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    first_row: int = -1
    line: int = 0

    def names_again(self, row: Row) -> bool:
        """Whether a row repeats the names, as on printed pages."""
        texts = [cell_text(c) for c in row]
        return texts[: len(self.names)] == self.names[: len(texts)] and len(texts) > 1

    def under(self, title: str, date_column: int) -> Heading:
        """The heading with a title in front of each name; a single name is replaced by the title."""
        alone = len(self.names) - 1 == 1
        names = [
            n if k == date_column or not n else title if alone else f"{title}.{n}"
            for k, n in enumerate(self.names)
        ]
        return replace(self, names=names)

    @property
    def missing(self) -> bool:
        """Whether there is none."""
        return not self.names


def find_heading(
    grid: Grid,
    above: int,
    first: int,
    width: int,
    column: int,
    given: list[str] | None,
    line: int | None,
    where: str,
) -> Heading:
    """Heading of the table with first row ``first`` and dates in column ``column``.

    Without a heading the names are empty; OHLC bars can still be identified by their values.
    """
    if given is not None:
        if len(given) != width:
            raise TableError(f"{where}: {len(given)} column names for {width} columns.")
        return Heading(list(given))
    if line is not None:
        if line not in grid.lines[:first]:
            raise TableError(
                f"{where}: header={line} is not a line above the table. Set header= to the line of the headings."
            )
        rows = [grid.lines.index(line)]
    else:
        rows = _heading_rows(grid, above, first, width, column)
    if not rows:
        return Heading([])
    return _name_columns(grid, rows, width, first, where)


def _heading_rows(grid: Grid, above: int, first: int, width: int, column: int) -> list[int]:
    """Indices of the rows of the heading, top first."""
    rows: list[int] = []
    for i in range(first - 1, max(above, first - 40) - 1, -1):
        row = grid.rows[i]
        if content_width(row) == 0:
            if rows or first - i > 3:
                break
            continue
        if not rows and (is_bad_period(row, column) or _names_dates_alone(row)):
            continue  # reported among the rejected rows; or a label of the dates below the names
        if not _could_name(row, width, column, bool(rows)) or len(rows) >= _MOST_ROWS:
            break
        if rows and len(row) < width and len(row) <= len(grid.rows[rows[-1]]) - 1:
            break  # a title with a comma in it
        rows.insert(0, i)
    return rows


def _names_dates_alone(row: Row) -> bool:
    return content_width(row) == 1 and len(row) > 1 and cell_text(row[0]).lower() in DATE_WORDS


def is_bad_period(row: Row, column: int) -> bool:
    """Whether a row begins like an invalid date, with values next to it."""
    if len(row) <= column or not looks_like_date(cell_text(row[column])) or is_date(row[column]):
        return False
    others = [c for k, c in enumerate(row) if k != column and not is_empty(c)]
    return bool(others) and all(is_value(c) for c in others)


def _could_name(row: Row, width: int, column: int, more: bool) -> bool:
    """Whether a row can be a heading: as long as the table, and without data."""
    if looks_like_data(row, column):
        return False
    texts = [c for c in row if not is_empty(c)]
    labels = [m[1] for c in texts if (m := _LABEL.match(str(c)))]
    if len(labels) == len(texts) and len(set(labels)) == len(labels) and not is_empty(row[0]):
        return False  # facts about the table: "Exchange: QLX", "Currency: QML"
    if more:  # a row of groups, codes or titles over the names
        return content_width(row) <= width and len(row) >= width - 1 and len(texts) >= 2
    return content_width(row) <= width and len(row) >= width - 1 and len(texts) >= max(1, (width - 1) // 2)


def looks_like_data(row: Row, column: int) -> bool:
    """Whether a row contains a date, or only numbers."""
    if len(row) > column and is_date(row[column]):
        return True
    if len(row) > column and not is_empty(row[column]) and not is_value(row[column]):
        return False
    values = [c for i, c in enumerate(row) if i != column and not is_blank(c)]
    return bool(values) and all(is_value(c) or is_date(c) for c in values)


def _name_columns(grid: Grid, rows: list[int], width: int, first: int, where: str) -> Heading:
    """Names from the rows of the heading."""
    padded = {i: _pad(grid.rows[i], width) for i in rows}
    units_row = _units_row(padded, rows)
    naming = [i for i in rows if i != units_row]
    chosen = _unique_row(padded, naming)
    if chosen is not None:
        names = padded[chosen]
        others = [padded[i] for i in naming if i != chosen and padded[i] != names]
    else:
        chosen = naming[-1]
        names = _join_names([_spread_right(padded[i]) for i in naming[:-1]] + [padded[chosen]])
        others = []
    names = _without_empty(names, grid, first, width)
    twice = [n for n, count in Counter(n for n in names if n).items() if count > 1]
    if twice:
        raise TableError(
            f"{where}: the header on line {grid.lines[chosen]} has column '{twice[0]}' twice; set columns=[...]."
        )
    sources = [r for r in others if r[0].lower() in _SOURCE_LABELS]
    notes = [r for r in others if r[0].lower() in _NOTE_LABELS]
    titles = _texts([r for r in others if r not in sources and r not in notes], width)
    units = padded[units_row] if units_row is not None else [""] * width
    names, units = units_from_names(names, units)
    dated = [[r[0], *(f"{r[0]}: {t}" if t else "" for t in r[1:])] for r in notes]
    return Heading(
        names, titles, units, _texts(sources, width), _texts(dated, width), rows[0], grid.lines[chosen]
    )


def units_from_names(names: list[str], units: Sequence[str]) -> tuple[list[str], list[str]]:
    """Names without a unit in square brackets, ``KELP [QML]``, and the units with it."""
    parted = [_UNIT_IN_BRACKETS.fullmatch(n) for n in names]
    stated = [
        m if m is not None and not u and _is_unit(m[2]) else None for m, u in zip(parted, units, strict=True)
    ]
    bare = [m[1] if m is not None else n for m, n in zip(stated, names, strict=True)]
    if len({n for n in bare if n}) < len([n for n in bare if n]):
        return names, list(units)  # only the unit distinguishes two columns
    return bare, [m[2] if m is not None else u for m, u in zip(stated, units, strict=True)]


def _texts(rows: Sequence[Sequence[str]], width: int) -> list[str]:
    """Texts of some rows of the heading, by column."""
    return [" ".join(dict.fromkeys(t for r in rows if (t := r[k]))) for k in range(width)]


def _pad(row: Row, width: int) -> list[str]:
    """Texts of a row of the heading; one cell fewer means that the date column has no name."""
    texts = [" ".join(cell_text(c).split()) for c in row]
    if len(texts) == width - 1 and texts and texts[0].lower() not in DATE_WORDS:
        texts = ["", *texts]
    return [*texts, *[""] * (width - len(texts))][:width]


def _units_row(padded: dict[int, list[str]], rows: Sequence[int]) -> int | None:
    """The row of units, if another row has the names."""
    dated = [i for i in rows if _heads_dates(padded[i][0])]
    under = [i for i in rows if dated and i > dated[-1] and not padded[i][0] and any(padded[i])]
    if len(under) == 1:
        above = [text for text in padded[dated[-1]][1:] if text]
        names = len(set(above)) < len(above) and not any(map(_is_unit, padded[under[0]][1:]))  # below groups
        return None if names else under[0]
    for i in reversed(rows):
        others = [padded[k] for k in rows if k != i]
        if (
            others
            and _gives_units(padded[i])
            and (padded[i][0].lower() not in DATE_WORDS or any(not _gives_units(o) for o in others))
        ):
            return i
    return None


def _heads_dates(text: str) -> bool:
    """Whether a heading is a word for dates or periods in some language."""
    return text.lower() in DATE_WORDS or is_date_heading(text) or bool(text and field_of(text))


def _gives_units(texts: Sequence[str]) -> bool:
    """Whether every cell next to the first is a unit, or the first announces units."""
    if texts[0].lower() in _UNIT_LABELS:
        return True
    given = [t for t in texts[1:] if t]
    return bool(given) and all(_is_unit(t) for t in given)


def _is_unit(text: str) -> bool:
    """Whether a text is a unit; three capitals are one only if they are a currency."""
    if not UNIT_WORDS.fullmatch(text):
        return False
    code = re.fullmatch(r"\(?([A-Za-z]{3})( .*)?\)?", text)
    return code is None or is_currency(code[1]) or code[1].lower() in ("pct", "bn", "mio")


def _unique_row(padded: dict[int, list[str]], naming: Sequence[int]) -> int | None:
    """The row with complete and distinct names: the lowest, unless a higher one has codes."""
    whole = [i for i in naming if _complete(padded[i])]
    if not whole:
        return None
    dated = [i for i in whole if _heads_dates(padded[i][0])]
    if len(dated) == 1:
        return dated[0]
    codes = [i for i in whole if padded[i][0].lower() in _CODE_LABELS]
    return codes[0] if codes else whole[-1]


def _complete(texts: Sequence[str]) -> bool:
    filled = [t for t in texts[1:] if t]
    return len(filled) == len(set(filled)) and len(filled) >= max(1, 0.8 * (len(texts) - 1))


def _spread_right(texts: Sequence[str]) -> list[str]:
    """Names of groups, repeated over the columns they span."""
    spread, last = [], ""
    for k, text in enumerate(texts):
        last = text or last if k else ""
        spread.append(last if k else text)
    return spread


def _join_names(rows: Sequence[Sequence[str]]) -> list[str]:
    """Names of several rows, joined by points."""
    return [".".join(dict.fromkeys(t for t in parts if t)) for parts in zip(*rows, strict=True)]


def _without_empty(names: list[str], grid: Grid, first: int, width: int) -> list[str]:
    """Columns without a name are omitted if they are empty, otherwise refused."""
    kept = list(names)
    for k in range(1, width):
        if kept[k]:
            continue
        cells: list[object] = [row[k] for row in grid.rows[first : first + 2000] if len(row) > k]
        if any(not is_empty(c) for c in cells):
            kept[k] = f"column {k + 1}"
    return kept


# The date column of a table, found by its cells and its heading

_DEEPEST_DATE_COLUMN: Final = 12
_SAMPLE: Final = 300


@dataclass(frozen=True)
class LayoutOptions:
    """Options on the layout; ``style`` is the given form of the dates."""

    columns: list[str] | None = None
    header: int | None = None
    date_column: str | int | None = None
    weak_dates: bool = False
    style: DateStyle | None = None

    def shape(self, cell: object) -> str:
        """Name of the style of a date; empty if the cell is none."""
        if self.style is not None and not self.style.weak and not isinstance(cell, date):
            return self.style.name if self.style.matches(cell_text(cell)) else ""
        return shape_of(cell)

    def frequency(self, shape: str) -> str:
        """Frequency code of a style of dates."""
        if shape == "date":
            return "D"
        return (
            self.style.frequency
            if self.style is not None and shape == self.style.name
            else BY_NAME[shape].frequency
        )


def date_column_of(grid: Grid, layout: LayoutOptions) -> tuple[int, int]:
    """Column with the most dates next to values, and their number; bare numbers count less."""
    width = min(max(map(len, grid.rows), default=0), _DEEPEST_DATE_COLUMN)
    if isinstance(layout.date_column, int):
        return layout.date_column - 1, len(grid.rows)
    rows = _sample(grid.rows)
    ranks = _ranks(grid, width)
    best, most, score = 0, 0, 0.0
    for column in range(width):
        dated = [(layout.shape(r[column]), r) for r in rows if len(r) > column]
        better = [(s, r) for s, r in dated if s and _has_more(r, column)]
        weight = sum((0.6 if s in BARE else 1.0) * (1.0 if _has_value(r, column) else 0.5) for s, r in better)
        weight *= 0.98**column * ranks[column]
        if weight > score * 1.05:
            best, most, score = column, len(better), weight
    if not most and layout.weak_dates:
        return 0, sum(1 for r in rows if r and is_value(r[0]))
    named = _option_date_column(grid, layout)
    if named is not None:
        return named, len(rows)
    if most and layout.columns is None:
        _refuse_other_date_column(grid, best, width)
    return best, most


def _refuse_other_date_column(grid: Grid, best: int, width: int) -> None:
    """Refuse bare numbers as dates if another column is headed as the dates and is not understood."""
    first = next((i for i, r in enumerate(grid.rows[:200]) if len(r) > best and shape_of(r[best])), 0)
    if not first or shape_of(grid.rows[first][best]) not in BARE:
        return
    head = [cell_text(c) for c in grid.rows[first - 1]][:width]
    dated = [k for k, name in enumerate(head) if k != best and is_date_heading(name)]
    if not dated or len(head) <= best or is_date_heading(head[best]) or field_of(head[best]):
        return
    cell = cell_text(grid.rows[first][dated[0]]) if len(grid.rows[first]) > dated[0] else ""
    if cell:
        raise TableError(
            f"{grid.name}: column '{head[dated[0]]}' is headed as the dates, and '{cell}' is not understood. Set "
            f"dates= to the form of its cells, such as '%d.%m.%Y', or date_column='{head[best]}'."
        )


def _ranks(grid: Grid, width: int) -> list[float]:
    """Fit of the heading of each column to dates of observations; dates of publication do not fit."""
    first = next((i for i, r in enumerate(grid.rows[:200]) if any(shape_of(c) for c in r[:width])), 0)
    head = [cell_text(c).lower() for c in grid.rows[first - 1]] if first else []
    named = [*head, *[""] * width][:width]
    return [
        0.5 if PUBLICATION_WORDS.search(n) else 1.3 if n.rpartition(".")[2] in DATE_WORDS else 1.0 for n in named
    ]


def _sample(rows: Sequence[Row]) -> Sequence[Row]:
    """All rows of a small grid; for a large one the first rows and a spread sample."""
    if len(rows) <= 2 * _SAMPLE:
        return rows
    return [*rows[:_SAMPLE], *rows[_SAMPLE :: max(1, (len(rows) - _SAMPLE) // _SAMPLE)]]


def _option_date_column(grid: Grid, layout: LayoutOptions) -> int | None:
    """Column with the given heading of the dates."""
    if not isinstance(layout.date_column, str):
        return None
    for row in grid.rows[:200]:
        texts = [cell_text(c) for c in row]
        if layout.date_column in texts:
            return texts.index(layout.date_column)
    raise TableError(f"{grid.name}: there is no column '{layout.date_column}'.")


def _has_more(row: Row, column: int) -> bool:
    return any(not is_empty(c) for i, c in enumerate(row) if i != column)


def _has_value(row: Row, column: int) -> bool:
    return any(is_value(c) or is_empty(c) for i, c in enumerate(row) if i != column)


# Clauses and footnotes about single columns

CLAUSE: Final = re.compile(r"(?<=[;.])\s+")


def clauses_of_columns(
    text: str, names: Sequence[str], marks: Mapping[str, Sequence[str]] | None = None
) -> tuple[str, dict[str, str]]:
    """The words of a table without the clauses about single columns, and these clauses by column.

    Each clause stays on its line. A footnote belongs to the columns whose heading has its mark: ``marks``.

    Examples
    --------
    >>> clauses_of_columns("Returns in percent; RF is in percent per annum.", ["Mkt", "RF"])
    ('Returns in percent;', {'RF': 'RF is in percent per annum.'})
    """
    words = [n for n in names if len(n) > 1 and n in text]
    if not words and not marks:
        return text, {}
    one = "|".join(map(re.escape, sorted(words, key=len, reverse=True))) or r"(?!)"
    begins = re.compile(rf"(?:and |the |column )?['\"]?({one})['\"]?\s*(?:(?:is|are|in)\b|[:=])")
    rest: list[str] = []
    own: dict[str, str] = {}
    for number, line in enumerate(text.split("\n")):
        note = _FOOTNOTE.match(line) if marks else None
        if note and marks and mark_of(note[1]) in marks:
            rest.append("")
            for name in marks[mark_of(note[1])]:
                before = own.get(name, "\n" * number)
                own[name] = f"{before} {line[note.end() :]}" if name in own else before + line[note.end() :]
            continue
        kept = []
        for clause in CLAUSE.split(line):
            match = begins.match(clause.strip())
            if match is None:
                kept.append(clause)
            else:
                before = own.get(match[1], "\n" * number)
                own[match[1]] = f"{before} {clause}" if match[1] in own else before + clause
        rest.append(" ".join(kept))
    return "\n".join(rest), own


_MARK: Final = r"\*+|[†‡§]|[⁰¹²³⁴-⁹]+|\(?(?:[a-z]|\d)\)|\[(?:[a-z]|\d{1,2})\]"
_FOOTNOTE: Final = re.compile(rf"\s*({_MARK})[\s:.]*(?=\S)")
_MARKED: Final = re.compile(rf"(?<=\S) ?({_MARK})\s*$")


def mark_of(text: str) -> str:
    """The mark of a footnote, or the one at the end of a heading; empty if it has none.

    Examples
    --------
    >>> mark_of("1)"), mark_of("Vacancy ¹"), mark_of("Vacancy*"), mark_of("Vacancy")
    ('1', '1', '*', '')
    """
    match = _MARKED.search(f"x {text}")
    return unicodedata.normalize("NFKC", match[1]).strip("()[] ") if match else ""
