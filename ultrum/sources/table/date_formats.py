"""Date formats: the pattern of each, and the instant of a text.

A style is named by an example, the ides of March 2024 or the period that contains them, so that a user can set
it: ``dates="15/03/2024"``.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta, timezone
from functools import cached_property, lru_cache
from typing import Final

from ultrum.sources.table.number_formats_and_date_words import month_in_words, plain_date

_ENGLISH: Final = (
    *("january", "february", "march", "april", "may", "june", "july", "august", "september", "october"),
    *("november", "december"),
)
_MONTH_OF: Final = {n: k for k, name in enumerate(_ENGLISH, 1) for n in (name, name[:3])} | {"sept": 9}
NTHS: Final = {"fir": 1, "ers": 1, "sec": 2, "zwe": 2, "thi": 3, "dri": 3, "fou": 4, "vie": 4}
_ROMAN: Final = {"I": 1, "II": 2, "III": 3, "IV": 4}
LETTERS: Final = "[^\\W\\d_]"
_NAME: Final = rf"(?P<b>{LETTERS}{{3,12}})\.?"
_DAY, _MONTH = r"(?P<d>0?[1-9]|[12]\d|3[01])", r"(?P<m>0?[1-9]|1[0-2])"
_YEAR, _SHORT = r"(?P<y>(?:1[6-9]|20|21)\d\d)", r"'?(?P<s>\d\d)"
_WEEKDAY: Final = rf"(?:{LETTERS}{{2,10}}\.?,? )?"
_TIME: Final = (
    r"(?:(?:[T;]| +|, *)(?P<H>[01]?\d|2[0-4]):?(?P<M>[0-5]\d)(?::?(?P<S>[0-5]\d|60)(?:[.,]\d+)?)?"
    r" ?(?P<p>[AaPp]\.?[Mm]\.?)? ?(?P<z>Z|UTC|GMT|[+-]\d\d:?(?:\d\d)?)?)?"
)
QUARTER_WORD: Final = "quarter|qtr\\.?|quartal|trimestre|trim\\.?|kwartaal|kvartal"
NTH: Final = (
    r"(?:(?P<q>[1-4])(?:st|nd|rd|th|\.|er|e|º|ª|o)?"
    r"|(?P<nth>first|second|third|fourth|erstes|zweites|drittes|viertes))"
)
MONTHS_OF_QUARTER: Final = (
    rf"(?P<quarter>jan{LETTERS}*\.? ?[-–/] ?mar{LETTERS}*|apr{LETTERS}*\.? ?[-–/] ?june?|"
    rf"july?\.? ?[-–/] ?sept?{LETTERS}*|oct{LETTERS}*\.? ?[-–/] ?dec{LETTERS}*)\.?"
)
_DAYS_TO_1904: Final = 1462
PIVOT: Final = 70  # two-digit years from 70 on are of the last century


@dataclass(frozen=True)
class DateStyle:
    """One way to write a date.

    Attributes
    ----------
    name : str
        An example, which is its name.
    regex : str
        Pattern of a cell of the style.
    frequency : str
        SDMX code of the content: D for a day, optionally with a time.
    template : str
        Positions of year, month and day in cells of equal length, for the fast parser.
    weak : bool
        Bare numbers, which are ambiguous; accepted only with a matching header.
    """

    name: str
    regex: str
    frequency: str
    template: str = ""
    weak: bool = False

    @cached_property
    def pattern(self) -> re.Pattern[str]:
        """The regular expression, compiled on first use, since compiling all of them is slow."""
        return re.compile(self.regex, re.IGNORECASE)

    @cached_property
    def loose(self) -> re.Pattern[str]:
        """The pattern with any digit in place of each."""
        any_digit = _DIGITS.sub(lambda m: m[0] if m[0][0] == "{" else r"\d", self.regex)
        return re.compile(any_digit, re.IGNORECASE)

    @property
    def has_short_year(self) -> bool:
        """Whether years are written with two digits."""
        return "s" in self.pattern.groupindex

    def matches(self, cell: str) -> bool:
        """Whether a cell is written this way."""
        return self.moment(cell) is not None

    def moment(self, cell: str) -> datetime | None:
        """The first instant of a cell's period, or None.

        Examples
        --------
        >>> words = ["first quarter 2024", "zweites Quartal 2024", "3rd quarter 2024", "fourth quarter 2024"]
        >>> [str(BY_NAME["1st quarter 2024"].moment(w))[:7] for w in words]
        ['2024-01', '2024-04', '2024-07', '2024-10']
        >>> [str(BY_NAME["2024 III"].moment(f"2024 {q}"))[:7] for q in ("I", "II", "III", "IV")]
        ['2024-01', '2024-04', '2024-07', '2024-10']
        """
        return _moment(self, cell)


@lru_cache(maxsize=65_536)  # of cells; bounds what a long session holds
def _moment(style: DateStyle, cell: str) -> datetime | None:
    match = style.pattern.fullmatch(cell)
    try:
        if match:
            return _built(match.groupdict())
    except (ValueError, OverflowError):
        pass
    plain = plain_date(cell)
    return _moment(style, plain) if plain and plain != cell else None


def _built(parts: dict[str, str | None]) -> datetime:
    """Instant from the parts of a pattern."""
    if parts.get("e"):
        seconds = float(parts["e"] or 0) / (1000.0 if len(str(parts["e"])) > 11 else 1.0)
        return datetime(1970, 1, 1, tzinfo=UTC) + timedelta(seconds=seconds)
    if parts.get("ms"):
        return datetime(1970, 1, 1, tzinfo=UTC) + timedelta(milliseconds=float(parts["ms"] or 0))
    if parts.get("n"):
        return serial_moment(float(str(parts["n"]).replace(",", ".")))
    if parts.get("n04"):
        return serial_moment(float(str(parts["n04"]).replace(",", ".")) + _DAYS_TO_1904)
    year = _year(parts)
    if parts.get("w"):
        day = date.fromisocalendar(year, int(parts["w"] or 1), 1)
        return datetime(day.year, day.month, day.day)
    month, day_of = _month_of(parts), int(parts.get("d") or 1)
    moment = datetime(year, month, day_of)
    return _with_time(moment, parts) if parts.get("H") else moment


def _year(parts: dict[str, str | None]) -> int:
    if parts.get("y"):
        return int(parts["y"] or 0)
    short = int(parts["s"] or 0)
    return short + (1900 if short >= PIVOT else 2000)


def _month_of(parts: dict[str, str | None]) -> int:
    if parts.get("m"):
        return int(parts["m"] or 0)
    if parts.get("b"):
        return month_of_name(str(parts["b"]))
    if parts.get("nth"):
        return 3 * NTHS[str(parts["nth"]).lower()[:3]] - 2
    if parts.get("quarter"):
        return month_of_name(str(parts["quarter"])[:3])
    if parts.get("q"):
        word = str(parts["q"]).upper()
        return 3 * (_ROMAN.get(word) or int(word)) - 2
    return 6 * int(parts["h"] or 1) - 5 if parts.get("h") else 1


def _with_time(moment: datetime, parts: dict[str, str | None]) -> datetime:
    hour = int(parts["H"] or 0)
    half = str(parts.get("p") or "").lower().replace(".", "")
    if half:
        if not 1 <= hour <= 12:
            raise ValueError("hour")
        hour = hour % 12 + (12 if half == "pm" else 0)
    timed = moment + timedelta(hours=hour, minutes=int(parts.get("M") or 0), seconds=int(parts.get("S") or 0))
    zone = parts.get("z")
    return timed.replace(tzinfo=_zone(zone)) if zone else timed


def _zone(text: str) -> timezone:
    if text[0] not in "+-":
        return UTC
    digits = text[1:].replace(":", "").ljust(4, "0")
    offset = timedelta(hours=int(digits[:2]), minutes=int(digits[2:]))
    return timezone(-offset if text[0] == "-" else offset)


def month_of_name(word: str) -> int:
    """Number of a month by its name in English, or in a language that alone has the word.

    Examples
    --------
    >>> month_of_name("März"), month_of_name("september")
    (3, 9)
    """
    number = _MONTH_OF.get(word.lower().rstrip(".")) or month_in_words(word)
    if not number:
        raise ValueError(word)
    return number


def serial_moment(days: float) -> datetime:
    """Instant of a spreadsheet's day number, counted from the end of 1899."""
    return datetime(1899, 12, 30) + timedelta(seconds=round(days * 86_400))


STYLES: Final = (
    DateStyle("2024-03-15", rf"{_YEAR}-{_MONTH}-{_DAY}{_TIME}", "D", "YYYY-MM-DD"),
    DateStyle("2024/03/15", rf"{_YEAR}/{_MONTH}/{_DAY}{_TIME}", "D", "YYYY/MM/DD"),
    DateStyle("2024.03.15", rf"{_YEAR}\. ?{_MONTH}\. ?{_DAY}\.?{_TIME}", "D", "YYYY.MM.DD"),
    DateStyle("20240315", rf"{_YEAR}(?P<m>0[1-9]|1[0-2])(?P<d>0[1-9]|[12]\d|3[01]){_TIME}", "D", "YYYYMMDD"),
    DateStyle(
        "20240315093000",
        rf"{_YEAR}(?P<m>0[1-9]|1[0-2])(?P<d>0[1-9]|[12]\d|3[01])"
        r"(?P<H>[01]\d|2[0-3])(?P<M>[0-5]\d)(?P<S>[0-5]\d)",
        "D",
        "YYYYMMDDhhmmss",
    ),
    DateStyle("15/03/2024", rf"{_DAY}/{_MONTH}/{_YEAR}{_TIME}", "D", "DD/MM/YYYY"),
    DateStyle("03/15/2024", rf"{_MONTH}/{_DAY}/{_YEAR}{_TIME}", "D", "MM/DD/YYYY"),
    DateStyle("15-03-2024", rf"{_DAY}-{_MONTH}-{_YEAR}{_TIME}", "D", "DD-MM-YYYY"),
    DateStyle("03-15-2024", rf"{_MONTH}-{_DAY}-{_YEAR}{_TIME}", "D", "MM-DD-YYYY"),
    DateStyle("15.03.2024", rf"{_DAY}\. ?{_MONTH}\. ?{_YEAR}\.?{_TIME}", "D", "DD.MM.YYYY"),
    DateStyle("15/03/24", rf"{_DAY}/{_MONTH}/{_SHORT}{_TIME}", "D"),
    DateStyle("03/15/24", rf"{_MONTH}/{_DAY}/{_SHORT}{_TIME}", "D"),
    DateStyle("15-03-24", rf"{_DAY}-{_MONTH}-{_SHORT}{_TIME}", "D"),
    DateStyle("03-15-24", rf"{_MONTH}-{_DAY}-{_SHORT}{_TIME}", "D"),
    DateStyle("15.03.24", rf"{_DAY}\.{_MONTH}\.{_SHORT}{_TIME}", "D"),
    DateStyle("24-03-15", rf"{_SHORT}-(?P<m>0[1-9]|1[0-2])-(?P<d>0[1-9]|[12]\d|3[01]){_TIME}", "D"),
    DateStyle("24/03/15", rf"{_SHORT}/(?P<m>0[1-9]|1[0-2])/(?P<d>0[1-9]|[12]\d|3[01]){_TIME}", "D"),
    DateStyle("15 March 2024", rf"{_WEEKDAY}{_DAY}\.?[-/ ]?{_NAME},?[-/ ]?{_YEAR}{_TIME}", "D"),
    DateStyle("15-Mar-24", rf"{_WEEKDAY}{_DAY}[-/ ]?{_NAME}[-/ ]?{_SHORT}{_TIME}", "D"),
    DateStyle("March 15, 2024", rf"{_WEEKDAY}{_NAME} ?{_DAY}(?:st|nd|rd|th)?,? ?{_YEAR}{_TIME}", "D"),
    DateStyle("2024-Mar-15", rf"{_YEAR}[-/ ]?{_NAME}[-/ ]?{_DAY}{_TIME}", "D"),
    DateStyle("2024-03", rf"{_YEAR}[-/](?P<m>0[1-9]|1[0-2])", "M", "YYYY-MM"),
    DateStyle("2024-3", rf"{_YEAR}[-/:]{_MONTH}", "M"),
    DateStyle("2024.03", rf"{_YEAR}\.(?P<m>0[1-9]|1[0-2])", "M"),
    DateStyle("2024M03", rf"{_YEAR}[- :]?M{_MONTH}", "M"),
    DateStyle("2024:03", rf"{_YEAR}:(?P<m>0[1-9]|1[0-2])", "M"),
    DateStyle("03/2024", rf"{_MONTH}[/-]{_YEAR}", "M"),
    DateStyle("03.2024", rf"(?P<m>0[1-9]|1[0-2])\.{_YEAR}", "M"),
    DateStyle("M03 2024", rf"M{_MONTH}[-/ ]?{_YEAR}", "M"),
    DateStyle("202403", rf"{_YEAR}(?P<m>0[1-9]|1[0-2])", "M"),
    DateStyle("March 2024", rf"{_NAME}[-/, ]*{_YEAR}", "M"),
    DateStyle("Mar-24", rf"{_NAME}[-/ ]{_SHORT}", "M"),
    DateStyle("2024 March", rf"{_YEAR}[-/ ]*{_NAME}", "M"),
    DateStyle("2024 H1", rf"{_YEAR}[- /:]?[HS](?P<h>[12])", "S"),
    DateStyle("H1 2024", rf"[HS](?P<h>[12])[- /]?{_YEAR}", "S"),
    DateStyle("2024-Q1", rf"{_YEAR}[-/:.]? ?Q0?(?P<q>[1-4])", "Q"),
    DateStyle("2024:1", rf"{_YEAR}[-:/](?P<q>[1-4])", "Q"),
    DateStyle("2024.1", rf"{_YEAR}\.(?P<q>[1-4])", "Q"),
    DateStyle("24Q1", rf"{_SHORT}[- /:]?Q(?P<q>[1-4])", "Q"),
    DateStyle("2024 T1", rf"{_YEAR}[-/:.]? ?T(?P<q>[1-4])", "Q"),
    DateStyle("T1 2024", rf"T(?P<q>[1-4])[-/ ]*{_YEAR}", "Q"),
    DateStyle("1st quarter 2024", rf"(?:the )?{NTH} ?(?:{QUARTER_WORD})(?: of|,)? ?[-/]?{_YEAR}", "Q"),
    DateStyle("2024 1st quarter", rf"{_YEAR}[-:,/]? ?{NTH} ?(?:{QUARTER_WORD})", "Q"),
    DateStyle("quarter 1 2024", rf"(?:{QUARTER_WORD}) ?(?P<q>[1-4]),? ?[-/]?{_YEAR}", "Q"),
    DateStyle("2024 quarter 1", rf"{_YEAR}[-:,/]? ?(?:{QUARTER_WORD}) ?(?P<q>[1-4])", "Q"),
    DateStyle("Jan-Mar 2024", rf"{MONTHS_OF_QUARTER},? ?{_YEAR}", "Q"),
    DateStyle("2024 Jan-Mar", rf"{_YEAR}[-:,/]? ?{MONTHS_OF_QUARTER}", "Q"),
    DateStyle(
        "Mar-qtr 2024", rf"(?P<b>mar|june?|sept?|dec){LETTERS}*\.?[- ]?(?:qtr\.?|quarter),?[- ]?{_YEAR}", "Q"
    ),
    DateStyle("Q1 2024", rf"Q0?(?P<q>[1-4])[-/ ]*{_YEAR}", "Q"),
    DateStyle("Q1 24", rf"Q(?P<q>[1-4])[-/ ]*{_SHORT}", "Q"),
    DateStyle("1Q2024", rf"(?P<q>[1-4])Q[-/ ]?{_YEAR}", "Q"),
    DateStyle("1Q24", rf"(?P<q>[1-4])Q[-/ ]?{_SHORT}", "Q"),
    DateStyle("2024 III", rf"{_YEAR}[-/ ](?P<q>I{{1,3}}|IV)", "Q"),
    DateStyle("III 2024", rf"(?P<q>I{{1,3}}|IV)[-/ ]{_YEAR}", "Q"),
    DateStyle("2024-W11", rf"{_YEAR}[- ]?W(?P<w>[0-5]?\d)", "W"),
    DateStyle("W11 2024", rf"W(?P<w>[0-5]?\d)[-/ ]{_YEAR}", "W"),
    DateStyle("week 11 2024", rf"(?:week|wk|woche|kw|semaine|semana) ?(?P<w>[0-5]?\d),?[-/ ]{_YEAR}", "W"),
    DateStyle("2024 week 11", rf"{_YEAR}[-:,/]? ?(?:week|wk|woche|kw|semaine|semana) ?(?P<w>[0-5]?\d)", "W"),
    DateStyle("2024", rf"{_YEAR}", "A"),
    DateStyle("FY2024", rf"FY ?{_YEAR}", "A"),
    DateStyle("AB (2024)", rf"[A-Za-z]{{1,6}}(?:(?:1[89]|20)\d\d)? ?[(\[]{_YEAR}[)\]]", "A"),
    DateStyle("2024 (AB)", rf"{_YEAR} ?[(\[](?:[A-Za-z]{{2,6}}|[A-Z]{{2}}(?P=y))[)\]]", "A"),
    DateStyle("2023/24", r"(?P<y>(?:1[89]|20)\d\d)[/-](?P<c>\d\d)", "A"),
    DateStyle("2023/2024", r"(?P<y>(?:1[89]|20)\d\d)[/-](?P<c>(?:1[89]|20)\d\d)", "A"),
    DateStyle("epoch seconds", r"(?P<e>-?\d{8,10}(?:\.\d+)?|\d{12,13})", "D", weak=True),
    DateStyle("day number", r"(?P<n>[1-7]\d{4}(?:[.,]\d+)?)", "D", weak=True),
)
_GIVEN_STYLES: Final = (  # bare numbers of any size, for a user who states what they are
    DateStyle("serial 1900", r"(?P<n>\d+(?:[.,]\d+)?)", "D", weak=True),
    DateStyle("serial 1904", r"(?P<n04>\d+(?:[.,]\d+)?)", "D", weak=True),
    DateStyle("epoch s", r"(?P<e>-?\d{1,11}(?:\.\d+)?)", "D", weak=True),
    DateStyle("epoch ms", r"(?P<ms>-?\d+)", "D", weak=True),
)
BY_NAME: Final = {style.name: style for style in (*STYLES, *_GIVEN_STYLES)}
_DIRECTIVES: Final = {  # of strptime
    "d": _DAY,
    "m": _MONTH,
    "Y": _YEAR,
    "y": r"(?P<s>\d\d)",
    "b": rf"(?P<b>{LETTERS}+)\.?",
    "B": rf"(?P<b>{LETTERS}+)\.?",
    "a": rf"{LETTERS}+\.?",
    "A": rf"{LETTERS}+",
    "H": r"(?P<H>[01]?\d|2[0-4])",
    "M": r"(?P<M>[0-5]?\d)",
    "S": r"(?P<S>[0-5]?\d)",
    "p": r"(?P<p>[AaPp]\.?[Mm]\.?)",
    "V": r"(?P<w>[0-5]?\d)",
    "G": _YEAR,
    "q": r"(?P<q>[1-4])",
    "%": "%",
}
FISCAL_YEARS: Final = ("FY2024", "2023/24", "2023/2024")
BARE: Final = ("2024", "202403", "20240315", "2024.03", "2024.1")  # may be plain numbers
_LAST_RESORT: Final = ("24-03-15", "24/03/15", "2024-3")  # only where no commoner style fits
_DIGIT: Final = re.compile(r"\d")
_DIGITS: Final = re.compile(r"\{[^}]*\}|\[(?=[-\d]*\d)[-\d]+\]|\d")
FOOTNOTE: Final = re.compile(
    r"(?<=[\dA-Za-z]) ?(?:\*+|[†‡§]|(?<!\b10)[⁰¹²³⁴-⁹]+|\((?:[a-z]|\d)\)|\[(?:[a-z]|\d{1,2})\])$"
)
MARKS: Final = frozenset("*†‡§)]⁰¹²³⁴⁵⁶⁷⁸⁹pref")  # that a cell may end with
MARKED_PERIOD: Final = re.compile(r"(\d{4}(?:-\d\d|-?[QqMm]\d{1,2})?|[A-Za-z]{3,9}\.? \d{4}) ?[pref]")


@lru_cache(maxsize=65_536)  # of cells; bounds what a long session holds
def styles_of(cell: str, worded: bool = True) -> tuple[str, ...]:
    """Names of the styles that fit a cell, without bare numbers of days and seconds.

    Parameters
    ----------
    cell : str
        Text of a cell.
    worded : bool
        Whether dates in words of any language count.
    """
    if len(cell) > 48 or len(cell) < 4 or not _DIGIT.search(cell):
        return ()
    fits = _plain_styles(cell) if len(cell) <= 40 else ()
    if fits or not worded:
        return fits
    plain = plain_date(cell)
    return _plain_styles(plain) if plain else ()


def _plain_styles(cell: str) -> tuple[str, ...]:
    return tuple(s.name for s in _candidates(_DIGIT.sub("0", cell)) if s.matches(cell) and _sensible(s, cell))


# Styles of the shapes that most files have. Without the table the first cell compiles the pattern of every style.
_COMMON_SHAPES: Final[dict[str, tuple[str, ...]]] = {
    "0000-00-00": ("2024-03-15",),
    "0000-00-00 00:00:00": ("2024-03-15",),
    "0000-00-00 00:00": ("2024-03-15",),
    "0000-00-00T00:00:00": ("2024-03-15",),
    "0000-00-00T00:00:00Z": ("2024-03-15",),
    "00/00/0000": ("15/03/2024", "03/15/2024"),
    "0/0/0000": ("15/03/2024", "03/15/2024"),
    "0/00/0000": ("15/03/2024", "03/15/2024"),
    "00/0/0000": ("15/03/2024", "03/15/2024"),
    "00-00-0000": ("15-03-2024", "03-15-2024"),
    "00.00.0000": ("15.03.2024",),
    "0000/00/00": ("2024/03/15",),
    "0000-00": ("2024-03", "2024-3", "2023/24"),
    "00/0000": ("03/2024",),
    "000000": ("202403",),
    "00000000": ("20240315",),
    "0000": ("2024",),
    "0000.00": ("2024.03",),
    "0000.0": ("2024.1",),
    "00.0000": ("03.2024",),
    **dict.fromkeys(("0000000", "0000000000", "0,000.00"), ()),
}
_DECIMAL: Final = re.compile(
    r"-?0{1,7}[.,]0+|-?0{1,3}(?:,0{3}){2,}(?:\.0+)?"
)  # shapes of numbers that are no dates, but for those above


@lru_cache(maxsize=65_536)
def _candidates(shape: str) -> tuple[DateStyle, ...]:
    """Styles that can fit a cell of this shape, in which every digit is written as 0."""
    if "0" not in shape:  # every date has a digit
        return ()
    if shape in _COMMON_SHAPES:
        return tuple(BY_NAME[name] for name in _COMMON_SHAPES[shape])
    return () if _DECIMAL.fullmatch(shape) else styles_fitting(shape)


def styles_fitting(shape: str) -> tuple[DateStyle, ...]:
    """The same, by the pattern of each style.

    Examples
    --------
    >>> [style.name for style in styles_fitting("00/00/0000")]
    ['15/03/2024', '03/15/2024']
    """
    return tuple(s for s in STYLES if not s.weak and s.loose.fullmatch(shape))


def style_of_pattern(pattern: str) -> DateStyle | None:
    """The style of a pattern of strptime, with ``%q`` for the quarter; None if a directive is not known.

    Examples
    --------
    >>> style_of_pattern("%d|%m|%Y").moment("15|03|2024").isoformat()
    '2024-03-15T00:00:00'
    """
    parts = re.split(r"%(.)", pattern)
    if not all(letter in _DIRECTIVES for letter in parts[1::2]):
        return None
    regex = "".join(_DIRECTIVES[t] if k % 2 else re.escape(t) for k, t in enumerate(parts))
    held = set(parts[1::2])
    levels = (("d", "D"), ("V", "W"), ("m", "M"), ("b", "M"), ("B", "M"), ("q", "Q"))
    frequency = next((f for letter, f in levels if letter in held), "A")
    missing_minute = "H" in held and "M" not in held
    return DateStyle(pattern, regex + ("(?P<M>)?(?P<S>)?" if missing_minute else ""), frequency)


def styles_of_shape(cell: str) -> tuple[DateStyle, ...]:
    """Styles that can fit a cell of this shape for any digits."""
    return _candidates(_DIGIT.sub("0", cell))


def _sensible(style: DateStyle, cell: str) -> bool:
    """Whether fiscal years are consecutive: 2023/24."""
    if style.name not in FISCAL_YEARS[1:]:
        return True
    return (int(cell[:4]) + 1) % 100 == int(cell[-2:])


def looks_like_date(cell: str) -> bool:
    """Whether a cell is written like a date, valid or not."""
    if not 4 <= len(cell) <= 40:
        return False
    shaped = _candidates(_DIGIT.sub("0", cell))
    return any(s.name not in BARE or s.pattern.fullmatch(cell) for s in shaped)


_FEWEST_YEARS: Final = 2


def style_of(cell: str) -> str:
    """Name of the first style that fits a cell, or None."""
    fits = styles_of(cell)
    return fits[0] if fits else ""


def fitting(cells: Sequence[str], styles: Mapping[str, tuple[str, ...]] | None = None) -> list[DateStyle]:
    """Styles that fit every cell, most common first; ``known`` can have the styles of each cell."""
    fits: list[DateStyle] | None = None
    for names in dict.fromkeys(styles[c] if styles is not None else styles_of(c) for c in cells):
        fits = [BY_NAME[n] for n in names] if fits is None else [s for s in fits if s.name in names]
        if not fits:
            return []
    fitting_names = {s.name for s in fits or []}
    if fitting_names == {"2024-3", "2024:1"}:
        return [BY_NAME["2024:1"]] if _count_quarters(cells) else list(fits or [])
    if "2023/24" in fitting_names and len(set(cells)) > _FEWEST_YEARS:  # as months they would lie 13 months apart
        return [BY_NAME["2023/24"]]
    plain = [s for s in fits or [] if s.name not in _LAST_RESORT]
    return plain or fits or []


def _count_quarters(cells: Sequence[str]) -> bool:
    """Whether years with one digit after them count 1, 2, 3, 4 in each year: quarters, not months."""
    parts: dict[str, set[str]] = {}
    for cell in cells:
        parts.setdefault(cell[:4], set()).add(cell[-1])
    years = sorted(parts)
    every = set().union(*parts.values()) == set("1234")
    return every and len(years) > 1 and (len(years) > 2 or min(map(len, parts.values())) > 1)


def weak_fitting(cells: Sequence[str]) -> list[DateStyle]:
    """Styles of bare numbers that fit every cell."""
    return [s for s in STYLES if s.weak and all(s.matches(c) for c in cells)]
