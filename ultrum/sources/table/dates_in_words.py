"""Dates in words of other languages and quarters of fiscal years, in plain form; base periods of indices."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Final

from ultrum.errors import TableError
from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.cell_grid import Grid, Row, content_width
from ultrum.sources.table.date_formats import looks_like_date, month_of_name, styles_of
from ultrum.sources.table.number_formats_and_date_words import (
    ENGLISH,
    WordedDate,
    date_in_words,
    is_date_in_words,
    may_hold_words,
    months_by_language,
    plain_text,
)

_COLUMNS, _ROWS = 12, 300  # searched for words of dates
_HEADER_ROWS: Final = 60
_BARE_NAMES: Final = 6  # months without a year in one row or column, from which they are dates
Months = Mapping[str, Mapping[str, int]]


def with_plain_dates(grid: Grid, language: str | None = None) -> Grid:
    """The grid with dates in words, and rows or columns of names of months, in plain form.

    Parameters
    ----------
    grid : Grid
        Cells of a file.
    language : str, optional
        Code of the language of the months, where two languages disagree.

    Raises
    ------
    TableError
        If months of the file differ between languages that have all its words.
    """
    columns, rows = _places(grid)
    if not columns and not rows:
        return grid
    cells = [*_cells_of(grid, columns, rows)]
    worded = {c: w for c in dict.fromkeys(cells) if (w := date_in_words(c) or _bare(c)) is not None}
    chosen = _language({c: w.months for c, w in worded.items() if w.months}, language, grid.name)
    plain = {c: w.plain(chosen) for c, w in worded.items() if not w.months or chosen in w.months}
    if not plain:
        return grid
    return _replace_dates(grid, columns, rows, plain, chosen)


def _places(grid: Grid) -> tuple[list[int], list[int]]:
    """Columns and rows with dates in words, or with names of several months."""
    sample = grid.rows[:_ROWS]
    columns = [
        c for c in range(_COLUMNS) if _has_words([r[c] for r in sample if len(r) > c and isinstance(r[c], str)])
    ]
    rows = [
        i
        for i, row in enumerate(grid.rows[:_HEADER_ROWS])
        if _has_words([c for c in row[1:] if isinstance(c, str)])
    ]
    return columns, rows


def _has_words(cells: Sequence[str]) -> bool:
    bare: set[str] = set()
    for cell in dict.fromkeys(cells):
        if may_hold_words(cell):
            if not styles_of(cell, worded=False) and is_date_in_words(cell):
                return True
            if _bare(cell):
                bare.add(plain_text(cell))
        elif (
            (2 <= len(cell) <= 24 and cell[:1].isalnum() and not cell.isascii())
            or cell.isalpha()
            or cell[-1:] == "."
        ):
            bare.add(plain_text(cell))
    if len(bare) < _BARE_NAMES:
        return False
    return _counts(bare)


def _counts(bare: Iterable[str]) -> bool:
    """Whether texts name six months or all quarters in one language other than English."""
    counts: dict[str, set[int]] = defaultdict(set)
    for text in bare:
        for language, number in months_by_language(text).items():
            counts[language].add(number)
    best = max(map(len, counts.values()), default=0)
    return best >= _BARE_NAMES and len(counts.get("en", ())) < best


def _bare(cell: str) -> WordedDate | None:
    months = months_by_language(cell) if 2 <= len(cell) <= 24 else {}
    return WordedDate("{}", months) if months else None


def _cells_of(grid: Grid, columns: Sequence[int], rows: Sequence[int]) -> Iterable[str]:
    for row in grid.rows:
        yield from (row[c] for c in columns if len(row) > c and isinstance(row[c], str))
    for i in rows:
        yield from (c for c in grid.rows[i] if isinstance(c, str))


def _language(months: Months, given: str | None, where: str) -> str:
    """The language that has all words, or most; two that give different months are refused."""
    if not months:
        return ""
    counts: dict[str, int] = defaultdict(int)
    for held in months.values():
        for language in held:
            counts[language] += 1
    best = [lang for lang, n in counts.items() if n == max(counts.values())]
    if given is not None:
        if given not in counts:
            raise TableError(f"{where}: no month is a word of the language '{given}'. Write dates= without it.")
        return given
    first = best[0]
    for cell, held in months.items():
        other = next((lang for lang in best if lang in held and held[lang] != held.get(first)), None)
        if other is not None and first in held:
            raise TableError(
                f"{where}: '{cell}' is {ENGLISH[held[first] - 1]} in the language '{first}' and "
                f"{ENGLISH[held[other] - 1]} in '{other}'. Set dates='{first}' or dates='{other}'."
            )
    return first


def _replace_dates(
    grid: Grid, columns: Sequence[int], rows: Sequence[int], plain: Mapping[str, str], language: str
) -> Grid:
    inside, across = set(columns), set(rows)
    changed: list[Row] = []
    for i, row in enumerate(grid.rows):
        if i in across:
            changed.append([plain.get(c, c) if isinstance(c, str) else c for c in row])
        elif any(isinstance(row[c], str) and row[c] in plain for c in inside if len(row) > c):
            changed.append(
                [plain.get(x, x) if k in inside and isinstance(x, str) else x for k, x in enumerate(row)]
            )
        else:
            changed.append(row)
    words = (("date words", f"language '{language}'"),) if language else ()
    return replace(grid, rows=changed, decisions=(*grid.decisions, *words))


# Quarters and half-years of fiscal years, such as FY04 Q1, as those of the calendar

_SAMPLE: Final = 60
_FEWEST_YEARS: Final = 2
_LONGEST_HEADING: Final = 60
_YEAR: Final = r"FY ?'?(?:(?:19|20)?\d\d[/-])?(?P<{}>(?:19|20)?\d\d)"
_SPAN: Final = r"(?:FY ?)?(?:19|20)\d\d[/-](?P<{}>\d\d(?:\d\d)?)"
_PART: Final = r"(?P<{}>[QH][1-4]|[1-4][QH])"
_LABEL: Final = re.compile(
    f"(?:{_YEAR.format('a')}|{_SPAN.format('b')})[ ,:-]*{_PART.format('k')}"
    f"|{_PART.format('l')}[ ,:-]*(?:{_YEAR.format('c')}|{_SPAN.format('d')})",
    re.IGNORECASE,
)
_YEAR_LABEL: Final = re.compile(
    r"FY ?'?(?:(?:19|20)?\d\d[/-])?(?P<a>(?:19|20)?\d\d)|(?P<s>(?:18|19|20)\d\d)[/-](?P<b>\d\d(?:\d\d)?)",
    re.IGNORECASE,
)
_MONTH: Final = r"(?:\d{1,2}(?:st|nd|rd|th)? )?(?:of )?([a-z]{3,9})"
_YEAR_END: Final = re.compile(
    rf"\b(?:years?|FY)[- ]?(?:ends?|ending|ended|to)\b:? (?:in |on |at )?(?:the end of )?{_MONTH}"
    rf"|(?:to|through|until|–|-) ?{_MONTH} (?:fiscal|financial)? ?years?\b|\b([a-z]{{3,9}}) year[- ]?end\b"
    rf"|years?,? (?:from |of )?\(?[a-z]{{3,9}}(?: to |[-–/]){_MONTH}\b",
    re.IGNORECASE,
)
_OF_FISCAL_YEARS: Final = re.compile(r"\b(?:fiscal|financial)\b|\bFY (?:ends?|ending)\b", re.IGNORECASE)
_HALVES_AND_QUARTERS: Final = {"Q": 3, "H": 6}
_PIVOT: Final = 70  # two digits from here on are of the twentieth century


def year_end_in(text: str) -> int | None:
    """Month in which the fiscal year ends, by the words of a text.

    Examples
    --------
    >>> year_end_in("year ends June"), year_end_in("Financial year ending 31 March"), year_end_in("FY04")
    (6, 3, None)
    """
    for match in _YEAR_END.finditer(text):
        for word in filter(None, match.groups()):
            try:
                return month_of_name(word)
            except ValueError:
                continue
    return None


def is_fiscal_label(text: str) -> bool:
    """Whether a text is a quarter or half of a fiscal year."""
    return _LABEL.fullmatch(text) is not None


def in_calendar_quarters(grid: Grid, year_end: int | None) -> Grid:
    """The grid with fiscal years by the year in which they end, and their quarters as those of the calendar.

    Parameters
    ----------
    grid : Grid
        Cells of a file.
    year_end : int, optional
        Month in which the fiscal year ends; by default the one that the file states.

    Raises
    ------
    TableError
        If no month is stated, or the quarters are none of the calendar.
    """
    quarters = _columns_of(grid, is_fiscal_label, 1)
    years, across = _columns_of(grid, _is_fiscal_year, _FEWEST_YEARS), _rows_across(grid)
    if not quarters and not years and not across:
        return grid
    words = " ".join(_words_of(r, quarters | years) for r in grid.rows)
    end = year_end or year_end_in(f"{words} {grid.above} {grid.below}")
    if end is None:
        kind = "quarters of fiscal years" if quarters else "fiscal years"
        raise TableError(
            f"{grid.name}: {kind} need the month in which the year ends. Set dates='year ends "
            "June', with the month of these data."
        )
    rows: list[Row] = [
        [
            _calendar_label(c, end, grid.name)
            if k in quarters
            else _year_label(c)
            if k in years or i in across
            else c
            for k, c in enumerate(row)
        ]
        for i, row in enumerate(grid.rows)
    ]
    which = "quarters are those of the calendar" if quarters else "each is named by the year in which it ends"
    decision = ("fiscal years", f"end in {ENGLISH[end - 1]}; {which}")
    return replace(grid, rows=rows, decisions=(*grid.decisions, decision))


def _is_fiscal_year(cell: str) -> bool:
    return _fiscal_year(cell) is not None


def _rows_across(grid: Grid) -> set[int]:
    """Rows above the values whose dates are all fiscal years."""
    across = set()
    for i, row in enumerate(grid.rows[:_SAMPLE]):
        cells = [c.strip() for c in row[1:] if isinstance(c, str)]
        dated = [c for c in cells if _is_fiscal_year(c) or looks_like_date(c)]
        if len(dated) >= _FEWEST_YEARS and len(set(dated)) == len(dated) and all(map(_is_fiscal_year, dated)):
            across.add(i)
    return across


def _columns_of(grid: Grid, is_label: Callable[[str], bool], fewest: int) -> set[int]:
    """The first columns with labels of a kind; a cell with digits that is none speaks against them."""
    sample = grid.rows[:_SAMPLE]
    likely = {k for r in sample for k, c in enumerate(r[:4]) if isinstance(c, str) and is_label(c.strip())}
    columns = set()
    for k in likely:
        cells = {c.strip() for row in grid.rows if len(row) > k and isinstance(c := row[k], str)}
        dated = [c for c in cells if looks_like_date(c) or is_label(c)]
        if len(dated) >= fewest and all(map(is_label, dated)):
            columns.add(k)
    return columns


def _words_of(row: Row, columns: set[int]) -> str:
    """Words of a line of prose, or of the headings of some columns."""
    if content_width(row) == 1:
        return cell_text(row[0])
    heads = [cell_text(row[k]) for k in columns if len(row) > k]
    heads = [h for h in heads if not any(map(str.isdigit, h[:4])) and len(h) < _LONGEST_HEADING]
    others = [cell_text(c) for k, c in enumerate(row) if k not in columns]  # of a title with a comma in it
    return " ".join([*heads, *(text for text in others if _OF_FISCAL_YEARS.search(text))])


def _fiscal_year(cell: str) -> int | None:
    """Number of the calendar year in which a fiscal year ends; None for another text."""
    match = _YEAR_LABEL.fullmatch(cell)
    if match is None:
        return None
    end = int(match["a"] or match["b"])
    if match["s"] and (int(match["s"]) + 1) % 100 != end % 100:
        return None
    if match["s"]:
        return int(match["s"]) + 1
    return end if end > 99 else end + (1900 if end >= _PIVOT else 2000)


def _year_label(cell: object) -> object:
    year = _fiscal_year(cell.strip()) if isinstance(cell, str) else None
    return cell if year is None else f"FY{year}"


def _calendar_label(cell: object, end: int, where: str) -> object:
    match = _LABEL.fullmatch(cell.strip()) if isinstance(cell, str) else None
    if match is None:
        return cell
    year = int(next(match[g] for g in "abcd" if match[g]))
    year += 0 if year > 99 else 1900 if year >= _PIVOT else 2000
    kind, digit = sorted((match["k"] or match["l"]).upper(), key=str.isdigit)
    months, number = _HALVES_AND_QUARTERS[kind], int(digit)
    if number * months > 12:
        return cell
    last = 12 * (year - 1) + end + number * months - 1  # months since January of year 0
    if end % months:
        raise TableError(
            f"{where}: '{cell}' ends in month {last % 12 + 1}, which ends no calendar "
            f"{'quarter' if months == 3 else 'half-year'}. Write the last day of each period in the file."
        )
    label = "Q" if kind == "Q" else "S"
    return f"{last // 12}-{label}{last % 12 // months + 1}"


# Base periods of indices

_CALENDAR_YEAR: Final = r"(?:19|20)\d\d"
_PERIOD: Final = (  # a year, half-years and the like of it, or several years: 1982-84, 2010-2014
    rf"(?<![\d-])({_CALENDAR_YEAR}(?:[-/ ]?Q[1-4]| ?[-–/] ?(?:{_CALENDAR_YEAR}|\d\d))?)(?!\d)"
)
_HUNDRED: Final = r"100(?:[.,]0+)?(?![.,]?\d)"
_BASE_100: Final = re.compile(
    rf"(\w+\.? )?{_PERIOD} ?(?:=|\(=) ?{_HUNDRED}|(?<!\d){_HUNDRED} ?= ?(\w+\.? )?{_PERIOD}"
    rf"|\b(?:base|basis|indeks|index)\w* ?[:=]? ?{_HUNDRED} ?(?:[=:] ?|(?:en|in|im|nel|em|i) )?"
    rf"(?:(?:l')?année |anno |año |ano )?(\w+\.? )?{_PERIOD}",
    re.IGNORECASE,
)
_BASE_YEAR: Final = re.compile(
    r"\b(?:(?:base|basis|reference)[- ](?:year|period)|basisjahr|basisår|basjaar|rok bazowy"
    r"|(?:année|an|año|anno|ano)(?: de| di)?[ -]base|base|basis)\b"
    rf" ?[:=]? ?(?:(?:en|in|im|nel|em) )?(\w+\.? )?{_PERIOD}(?! ?= ?(?!100\b)\d)",
    re.IGNORECASE,
)
_SHORT: Final = 4  # letters
_SHORT_NAMES: Final = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec", "mai")
_INDEX_WORD: Final = re.compile(
    r"ind(?:ex|ice|eks)|índice|\b(?:HI)?CPI\b|\bIPCH?\b|\bHICP\b|\bVPI\b", re.IGNORECASE
)


def tenor_of(heading: str) -> str:
    """Maturity that a whole heading is, such as 3M or 10Y; empty for others.

    >>> tenor_of("10Y"), tenor_of("KELP")
    ('P10Y', '')
    """
    match = re.fullmatch(r"(\d{1,3}) ?([DWMY])", heading.strip())
    return f"P{match[1]}{match[2]}" if match else ""


def base_periods(text: str, *, of_an_index: bool = True) -> list[str]:
    """Base periods that a text states: 2015 = 100, 1982-84 = 100, base 100 en 2015, December 2015 = 100.

    A base year without a hundred may be that of constant prices: ``of_an_index`` asks for the name of an index.

    Examples
    --------
    >>> base_periods("CPI, 1982-84=100"), base_periods("indice, base décembre 2015 = 100")
    (['1982-84'], ['2015-12'])
    """
    patterns = [_BASE_100, *([_BASE_YEAR] if not of_an_index or _INDEX_WORD.search(text) else [])]
    periods: dict[str, None] = {}
    for match in (m for pattern in patterns for m in pattern.finditer(text)):
        *words, period = filter(None, match.groups())
        month = _month(words[0]) if words else 0
        periods.setdefault(f"{period}-{month:02d}" if month and len(period) == len("2015") else period)
    named = [p for p in periods if len(p) > len("2015")]
    return [p for p in periods if p in named or not any(p in one for one in named)]


def _month(word: str) -> int:
    """Number of the month that a word names, 0 if none; short words of other languages are no months: avg."""
    name = word.strip(" .").lower()
    if len(name) < _SHORT and name not in _SHORT_NAMES:
        return 0
    try:
        return month_of_name(name)
    except ValueError:
        return 0
