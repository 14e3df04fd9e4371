"""Number formats, and words of dates, in many languages.

The table of words is loaded when a cell has words that English does not explain.
"""

from __future__ import annotations

import contextlib
import itertools
import json
import re
import unicodedata
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache, lru_cache
from pathlib import Path
from typing import Final

import numpy as np

from ultrum.core.array_types import Array, Floats
from ultrum.core.currency.exchange_rates import ISO_4217, is_currency
from ultrum.errors import TableError

MISSING: Final = frozenset(
    [
        "",
        "n/a",
        "na",
        "n.a.",
        "n.a",
        "nan",
        "null",
        "none",
        "nil",
        "missing",
        "not available",
        ".",
        "..",
        "...",
        "…",
        "-",
        "--",
        "---",
        "–",
        "—",
        ":",
        "*",
        "#n/a",
        "#n/a n/a",
        "#na",
        "#value!",
        "#ref!",
        "#div/0!",
        "#num!",
        "x",
        "?",
        "<na>",
        "nd",
        "n.d.",
        "(na)",
        "(n/a)",
        "c",
        "confidential",
    ]
)
_REPEATS: Final = 3  # of a number far outside the others, from which it can be a code
SENTINELS: Final = (
    -99.99,
    -99.0,
    -999.0,
    -999.99,
    -9999.0,
    -9999.99,
    -99999.0,
    9999.0,
    99999.0,
    999999.0,
    1e20,
    1e30,
)
_DIGITS: Final = frozenset("0123456789.-")
_PLAIN_NUMBER: Final = re.compile(r"-?\d+(\.\d*)?(e[-+]?\d+)?")
_SPACES: Final = re.compile(r"[\s\u00a0\u2007\u2009\u202f]")
_GROUP: Final = r"[1-9]\d{0,2}(?:%s\d{2,3})*%s\d{3}"
SUPERSCRIPTS: Final = "⁰¹²³⁴⁵⁶⁷⁸⁹ᵃᵇᶜᵈᵉᶠᵖʳ"
_FLAG_LETTERS: Final = "bcdefinprsuz"  # of observation statuses, as statistical offices print them
# Words of dates

_MARKS: Final = (
    rf"(?P<flag> ?[*†‡§#]+| ?[{SUPERSCRIPTS}]+| ?\([a-zA-Z\d]\)| ?\[[a-zA-Z\d]{{1,2}}\]"
    rf"| ?[{_FLAG_LETTERS}]|[PERB]| [PERBF])?"
)
_SCALES: Final = {"k": 1e3, "mn": 1e6, "mio": 1e6, "m": 1e6, "bn": 1e9, "b": 1e9}
_SIGN_OF_CURRENCY: Final = r"(?:[A-Z]{0,2}[€$£¥₤₩₹₽₺₴₪₫฿]|zł|Kč|Ft|лв)"
_BODY: Final = (
    r"(?:(?P<before>\([a-z]\)|[*†‡]) ?)?(?P<sign>[-+])?"
    rf"(?:(?P<pre>{_SIGN_OF_CURRENCY} ?|[A-Z]{{3}} ?)(?P<sign2>[-+])?)?(?P<number>%s)"
    r"(?P<scale>(?:[kKMB]| ?bn| ?mn| ?mio)(?![A-Za-z]))?(?P<percent> ?%%| ?pct| ?per ?cent)?"
    r"(?P<points> ?bps?(?![A-Za-z]))?(?P<minus>-)?"
    rf"(?P<post> ?{_SIGN_OF_CURRENCY}| ?[A-Z]{{3}})?" + _MARKS
)


def _numeral(decimal: str, groups: Sequence[str]) -> str:
    mark = re.escape(decimal)
    grouped = [_GROUP % (re.escape(g), re.escape(g)) for g in groups]
    whole = "|".join([*grouped, r"\d+"])
    return rf"(?:(?:{whole})(?:{mark}\d*)?|{mark}\d+)(?:[eE][-+]?\d+)?"


_PLAIN: Final = re.compile(r"-?[0-9]{1,15}(?:\.[0-9]{1,15})?")  # what most cells are
_READERS: Final = {
    ".": re.compile(_BODY % _numeral(".", (",", " ", "'", "’"))),
    ",": re.compile(_BODY % _numeral(",", (".", " ", "'", "’"))),
}
_IN_PARENTHESES: Final = re.compile(r"\(([^()]*\d[^()]*)\)( ?(?:%|bps?|pct))")
_PERCENT: Final = ("%", "pct", "per cent", "percent")


@dataclass(frozen=True)
class ReadNumbers:
    """Numbers of a column, NaN where missing and infinite where a cell is not a number.

    ``percent`` counts cells with a percent sign, ``points`` those in basis points,
    ``marks`` has the quality flags next to numbers by row,
    ``currencies`` the signs and codes of currencies next to them.
    """

    values: Floats
    percent: int = 0
    marks: Mapping[int, str] = field(default_factory=dict)
    currencies: tuple[str, ...] = ()
    points: int = 0

    @property
    def currency(self) -> str:
        """The single sign or code of a currency next to the numbers; empty if there is none or several."""
        return self.currencies[0] if len(self.currencies) == 1 else ""

    @property
    def flags(self) -> Counter[str]:
        """Count of each mark next to a number."""
        return Counter(self.marks.values())


def tidy(cell: str) -> str:
    """A cell with plain spaces and minus signs; accounting parentheses become a minus."""
    text = _SPACES.sub(" ", cell).strip().replace("−", "-").replace("‑", "-").removeprefix("'")
    if text.startswith("(") and text.endswith(")") and re.search(r"\d", text):
        return f"-{text[1:-1].strip()}"
    if text[:1] == "(" and (match := _IN_PARENTHESES.fullmatch(text)):
        return f"-{match[1].strip()}{match[2]}"
    return text


@lru_cache(maxsize=65_536)  # of cells; bounds what a long session holds
def is_missing(cell: str) -> bool:
    """Whether a cell is a common code for a missing value."""
    return cell.strip().lower() in MISSING


@lru_cache(maxsize=65_536)  # of cells; bounds what a long session holds
def is_number(cell: str) -> bool:
    """Whether a cell can be a number, with either decimal mark."""
    if _PLAIN.fullmatch(cell):
        return True
    text = tidy(cell)
    return len(text) < 60 and any(_parts(text, mark) is not None for mark in _READERS)


def is_number_text(cell: object) -> bool:
    """Whether a cell of any kind is a number."""
    if isinstance(cell, str):
        return is_number(cell)
    return isinstance(cell, int | float) and not isinstance(cell, bool) and cell == cell  # noqa: PLR0124


def is_blank(cell: object, missing: frozenset[str] = frozenset()) -> bool:
    """Whether a cell of any kind is empty or a missing-value code."""
    if isinstance(cell, str):
        return is_missing(cell) or cell.strip().lower() in missing
    return cell is None or (isinstance(cell, float) and cell != cell)  # noqa: PLR0124


def decimal_mark(cells: Iterable[str], given: str | None, where: str) -> str:
    """The decimal mark that fits every number.

    Raises
    ------
    TableError
        If both marks fit and the values would differ.
    """
    if given:
        if given not in _READERS:
            raise TableError(f"decimal='{given}' is not known; it is '.' or ','.")
        return given
    texts = [tidy(c) for c in cells]
    fits = {mark: [bool(r.fullmatch(t)) for t in texts] for mark, r in _READERS.items()}
    point, comma = sum(fits["."]), sum(fits[","])
    if point != comma:
        return "." if point > comma else ","
    torn = next((t for t in texts if _value(t, ".") != _value(t, ",")), None)
    if torn is None:
        return "."
    raise TableError(
        f"{where}: '{torn}' can have a decimal point or a decimal comma. Set decimal='.' or decimal=','."
    )


@lru_cache(maxsize=65_536)  # of cells; bounds what a long session holds
def _parts(text: str, decimal: str) -> tuple[float, str, str, str] | None:
    """Value, percent sign, flag and currency of one cell."""
    match = _READERS[decimal].fullmatch(text)
    if not match:
        return None
    if not all(_is_currency(match[place], match["number"]) for place in ("pre", "post")):
        return None
    digits = match["number"]
    exponent = re.search(r"[eE][-+]?\d+$", digits)
    plain = digits[: exponent.start()] if exponent else digits
    plain = re.sub(r"[ '’]|" + ("," if decimal == "." else r"\."), "", plain).replace(",", ".")
    value = float(plain + (exponent[0] if exponent else "")) * _SCALES.get(
        (match["scale"] or "").strip().lower(), 1.0
    )
    minus = [match["sign"], match["sign2"], match["minus"]].count("-")
    if minus > 1:
        return None
    flag = (match["flag"] or match["before"] or "").strip(" ()[]").lower()
    currency = (match["pre"] or match["post"] or "").strip()
    sign = "points" if match["points"] else "percent" if match["percent"] else ""
    return (-value if minus else value), sign, flag, currency


def _is_currency(symbol: str | None, number: str) -> bool:
    """Whether the text next to a number is the sign or code of a currency.

    A code of three letters without a space can be part of a name (QXA12); it counts only if it is a currency of
    ISO 4217 or the number has a decimal mark.
    """
    code = (symbol or "").strip()
    if not re.fullmatch(r"[A-Z]{3}", code):
        return True
    apart = str(symbol) != code or bool(re.search(r"[.,]", number))
    return is_currency(code) if apart else code in ISO_4217


def _value(text: str, decimal: str) -> float | None:
    parts = _parts(text, decimal)
    return parts[0] if parts else None


def read_numbers(cells: Array, decimal: str, missing: frozenset[str]) -> ReadNumbers:
    """Numbers of a column of text, or a workbook's own numbers; ``missing`` has further missing-value codes."""
    read = _numbers_of(cells, decimal, missing)
    marks = [float(m) for m in missing if _PLAIN_NUMBER.fullmatch(m)]
    return replace(read, values=np.where(np.isin(read.values, marks), np.nan, read.values)) if marks else read


def _numbers_of(cells: Array, decimal: str, missing: frozenset[str]) -> ReadNumbers:
    if cells.dtype.kind in "fiu":
        return ReadNumbers(cells.astype(np.float64))
    if all(type(c) is float for c in cells):
        return ReadNumbers(np.array(cells, dtype=np.float64))
    if decimal == "." and all(type(c) is str for c in cells) and set("".join(cells)) <= _DIGITS:
        with contextlib.suppress(ValueError):  # an empty cell or a stray mark: one by one
            return ReadNumbers(np.array(list(cells), dtype=np.str_).astype(np.float64))
    values = np.empty(len(cells))
    flags: dict[int, str] = {}
    currencies: dict[str, None] = {}
    percent = points = 0
    for i, cell in enumerate(cells):
        if is_blank(cell, missing):
            values[i] = np.nan
            continue
        if not isinstance(cell, str):
            values[i] = float(cell) if is_number_text(cell) else np.inf
            continue
        parts = _parts(tidy(cell), decimal)
        values[i] = np.inf if parts is None else parts[0]
        if parts is not None:
            percent += parts[1] == "percent"
            points += parts[1] == "points"
            if parts[2]:
                flags[i] = parts[2]
            currencies |= {parts[3]: None} if parts[3] else {}
    return ReadNumbers(values, percent, flags, tuple(currencies), points)


def sentinel_in(values: Floats) -> float | None:
    """A number far from all others, which can be a missing-value code: −999 and the like, or one that repeats."""
    valid = values[np.isfinite(values)]
    if not len(valid):
        return None
    for sentinel in (float(valid.min()), float(valid.max())):
        others = valid[valid != sentinel]
        if not len(others):
            continue
        if sentinel not in SENTINELS:
            repeats = len(valid) - len(others) >= _REPEATS
            if repeats and abs(sentinel) >= 10 * np.abs(others).max() and np.abs(others).max() > 0:
                return sentinel
            continue
        alone = others.min() > sentinel / 2 if sentinel < 0 else 10 * np.abs(others).max() < sentinel
        if alone:
            return sentinel
    return None


WORDS: Final = Path(__file__).with_name("date_words.json")
ENGLISH: Final = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
TOKEN: Final = re.compile(r"\d+|[^\W\d_][^\d\s.,،、;:/\\()'’\-–_]*")
_YEAR: Final = re.compile(r"(?<!\d)(?:1[6-9]|20|21)\d\d(?!\d)")
_EAST_ASIAN: Final = re.compile(
    r"(\d{4}) ?[年년] ?(?:(\d{1,2}) ?[月월] ?(?:(\d{1,2}) ?[日일号](?:.曜日|星期.|周.| ?.요일| ?\(.\))?)?)?"
)
_DIGITS_ONLY: Final = re.compile(r"[\d/.\-: ]+")
_EAST_ASIAN_QUARTER: Final = re.compile(
    r"(\d{4}) ?[年년]? ?[第제]? ?([1-4一二三四]) ?(?:四半期|季度|季|/4 ?분기|분기|/4半期)"
)
_EAST_ASIAN_MONTH: Final = re.compile(r"(1[0-2]|[1-9]) ?[月월]")
_VIETNAMESE: Final = re.compile(
    r"(?:(?:thứ (?:[^\W\d_]+|\d)|chủ nhật|cn|th \d),? )?(?:ngày )?(?:(\d{1,2})\.? )?"
    r"(?:tháng|thg) ?(\d{1,2})(?:,| năm)? ?(\d{4})"
)
_VIETNAMESE_SHORT: Final = re.compile(r"(?:tháng|thg) ?(1[0-2]|0?[1-9]) (\d\d)")
_VIETNAMESE_MONTH: Final = re.compile(r"(?:tháng|thg) ?(1[0-2]|0?[1-9])")
_FULL_DATE: Final = re.compile(r"\d{1,4}[/.-]\d{1,2}[/.-]\d{1,4}")
_IN_BRACKETS: Final = re.compile(r"\((e|a)\)")  # endings of Basque
_BETWEEN_CELLS: Final = re.compile(r"[\t;|]")  # part the cells of a text
_WORD: Final = re.compile(  # superscripts are word characters, and no letters
    r"[^\W\d_¹²³]{2}|[^\x00-\u024f]|\b[^\W\d_¹²³][1-4]\b|\b[1-4][^\W\d_¹²³]\b|\b[Ii] [^\W\d_]\b"
    r"|(?:(?:19|20)\d\d)[^\W\d_][1-4]\b"
)
_GLUED: Final = re.compile(r"\d(?!(?:st|nd|rd|th|er|re|e|ème|º|ª)\b)[^\W\d_]|[^\W\d_]\d(?!\d{3})")
_ORDINAL: Final = re.compile(r"(?<=\d)°")  # a degree sign for the ordinal sign, which becomes an o
_DATE: Final = frozenset(  # CLDR has no word for a date
    [
        *("date", "datum", "fecha", "data", "dato", "päivämäärä", "pvm", "dagsetning", "dátum", "dată", "дата"),
        *("датум", "ημερομηνία", "tarih", "kuupäev", "datums", "dato", "dáta", "dyddiad", "tanggal", "tarikh"),
        *("日付", "日期", "年月日", "날짜", "일자", "تاريخ", "التاريخ", "תאריך", "तारीख", "दिनांक", "วันที่", "ngày"),
        *(
            "período",
            "periodo",
            "période",
            "periode",
            "periodas",
            "období",
            "obdobie",
            "okres",
            "период",
            "період",
        ),
        *("zeitraum", "zeit", "temps", "tiempo", "tempo", "aika", "tid", "tijd", "期間", "기간", "ora", "termin"),
    ]
)
_NUMERALS: Final = {"一": 1, "二": 2, "三": 3, "四": 4}
_LONGEST, _MOST_TOKENS, _MOST_NUMBERS = 48, 9, 3


@dataclass(frozen=True)
class _Words:
    """Words of dates in all languages."""

    months: dict[str, dict[str, int]]
    quarters: dict[str, dict[str, int]]
    fields: dict[str, frozenset[str]]
    others: dict[str, list[str]]


@cache
def _words() -> _Words:
    table = json.loads(WORDS.read_text(encoding="utf-8"))
    fields = {name: frozenset(words) for name, words in table["fields"].items()}
    return _Words(table["months"], table["quarters"], fields, table["others"])


@dataclass(frozen=True)
class WordedDate:
    """A date in words: plain text with a place for the month, and the number of the month by language."""

    form: str
    months: Mapping[str, int]

    def plain(self, language: str) -> str:
        """The date in plain form, with the month that the language has for its word."""
        return self.form.format(ENGLISH[self.months[language] - 1]) if self.months else self.form


def plain_text(text: str) -> str:
    """Lower case, ASCII digits, and no point after an abbreviation."""
    folded = unicodedata.normalize("NFKC", text).replace("İ", "i").lower()
    folded = _ORDINAL.sub("o", folded)
    digits = "".join(str(unicodedata.digit(c)) if c.isdigit() and not c.isascii() else c for c in folded)
    return " ".join(digits.replace("\u200f", "").replace("\u200e", "").split()).strip(". ")


def compact(text: str) -> str:
    """A text without spaces, points and hyphens."""
    return re.sub(r"[\s.\-–]", "", text)


def plain_date(cell: str) -> str:
    """A date in words in plain form; empty if it is none, or its month differs between languages.

    Examples
    --------
    >>> plain_date("31 de dezembro de 2021"), plain_date("2021年3月"), plain_date("III kwartał 2021")
    ('31 Dec 2021', '2021-03', '2021-Q3')
    """
    worded = date_in_words(cell)
    if worded is None or len(set(worded.months.values())) > 1:
        return ""
    return worded.plain(next(iter(worded.months), ""))


def month_in_words(word: str) -> int:
    """Number of a month by its name; 0 if it is none, or differs between languages.

    Examples
    --------
    >>> month_in_words("März"), month_in_words("janv."), month_in_words("lip")
    (3, 1, 0)
    """
    numbers = set(months_by_language(word).values())
    return next(iter(numbers)) if len(numbers) == 1 else 0


def quarter_in_words(text: str) -> int:
    """Number of a quarter by its name in any language; 0 if it is none.

    Examples
    --------
    >>> quarter_in_words("III kwartał"), quarter_in_words("4-й кв."), quarter_in_words("Q")
    (3, 4, 0)
    """
    numbers = set(_words().quarters.get(compact(plain_text(text)), {}).values())
    return next(iter(numbers)) if len(numbers) == 1 else 0


def field_of(heading: str) -> str:
    """What a heading names in any language: year, quarter, month, week or day; empty if none of them.

    Examples
    --------
    >>> field_of("Miesiąc"), field_of("Neljännes"), field_of("Cena")
    ('month', 'quarter', '')
    """
    text = plain_text(heading)
    return next((name for name, words in _words().fields.items() if text in words), "")


def is_date_heading(heading: str) -> bool:
    """Whether a heading is a word for the date in one of the common languages."""
    return plain_text(heading) in _DATE


def months_by_language(word: str) -> Mapping[str, int]:
    """Number of a month in each language that has the word."""
    text = plain_text(word)
    if match := _EAST_ASIAN_MONTH.fullmatch(text):
        return {"ja": int(match[1])}
    if match := _VIETNAMESE_MONTH.fullmatch(text):
        return {"vi": int(match[1])}
    return _words().months.get(text, {})


def may_hold_words(cell: str) -> bool:
    """Whether a text has a number and a word, and is short enough for a date."""
    if not 4 <= len(cell) <= _LONGEST or not any(map(str.isdigit, cell)) or _BETWEEN_CELLS.search(cell):
        return False
    return bool(_WORD.search(cell))


@lru_cache(maxsize=65_536)
def date_in_words(cell: str) -> WordedDate | None:
    """A date in words of any language, or None."""
    if not may_hold_words(cell):
        return None
    text = plain_text(_IN_BRACKETS.sub(r" \1 ", cell)) if "(" in cell else plain_text(cell)
    numeric = _numeric(text)
    if numeric:
        return WordedDate(numeric, {})
    tokens = TOKEN.findall(text)
    if not 1 <= sum(map(str.isdigit, tokens)) <= _MOST_NUMBERS or not 1 < len(tokens) <= _MOST_TOKENS:
        return None
    if _GLUED.search(text):
        return _quarter(text)
    return _month_and_year(tokens) or _quarter(text)


def _numeric(text: str) -> str:
    """Plain form of the dates that name their parts by signs or numbers."""
    if _DIGITS_ONLY.fullmatch(text):
        return text  # the cell had digits of another script, or marks of direction
    if match := _EAST_ASIAN.fullmatch(text):
        return _joined(*match.groups())
    if match := _EAST_ASIAN_QUARTER.fullmatch(text):
        return f"{match[1]}-Q{_NUMERALS.get(match[2]) or match[2]}"
    if vietnamese := _vietnamese(text):
        return vietnamese
    full = _FULL_DATE.match(text)
    if full and all(word in _words().others for word in TOKEN.findall(text[full.end() :])):
        return full[0]  # as in 1.03.2007 г.
    return ""


def _vietnamese(text: str) -> str:
    """Months by number after the word for month; empty for another text."""
    if match := _VIETNAMESE.fullmatch(text):
        day, month, year = match.groups()
        return _joined(year, month, day)
    match = _VIETNAMESE_SHORT.fullmatch(text)
    return f"{ENGLISH[int(match[1]) - 1]}-{match[2]}" if match else ""


def _joined(year: str, *parts: str | None) -> str:
    return "-".join([year, *(f"{int(p):02d}" for p in parts if p)])


def _quarter(text: str) -> WordedDate | None:
    years = _YEAR.findall(text)
    if len(years) != 1 or len(text.split()) > _MOST_TOKENS:
        return None
    words = _words()
    tokens = [t.strip(".") for t in re.split(r"[\s,]+", _YEAR.sub(" ", text)) if t.strip(".")]
    optional = [k for k, t in enumerate(tokens) if t in words.others]
    left_out = (set(c) for n in range(len(optional) + 1) for c in itertools.combinations(optional, n))
    phrases = (compact("".join(t for k, t in enumerate(tokens) if k not in out)) for out in left_out)
    held = next((words.quarters[p] for p in phrases if p in words.quarters), None)
    if not held or len(set(held.values())) != 1:
        return None
    return WordedDate(f"{years[0]}-Q{next(iter(held.values()))}", {})


def _month_and_year(tokens: Sequence[str]) -> WordedDate | None:
    """A month by name with a year and maybe a day; every other word must be a word of dates in its language."""
    words = _words()
    tokens = _with_whole_names(tokens, words.months)
    months: list[tuple[int, Mapping[str, int]]] = []
    around: list[set[str]] = []
    for place, token in enumerate(tokens):
        if token.isdigit():
            continue
        joined = len(token) > 3 and not token.isascii()  # Hebrew writes the preposition as the first letter
        held = words.months.get(token) or words.months.get(token[1:] if joined else "")
        if held and not months:
            months.append((place, held))
        elif token in words.others:
            around.append(set(words.others[token]))
        else:
            return None
    if not months:
        return None
    place, numbers = months[0]
    languages = set(numbers).intersection(*around)
    form = _form(tokens, place) if languages else ""
    return WordedDate(form, {code: n for code, n in numbers.items() if code in languages}) if form else None


def _with_whole_names(tokens: Sequence[str], months: Mapping[str, object]) -> list[str]:
    """Tokens, with two that are the name of a month as one."""
    whole: list[str] = []
    for token in tokens:
        if whole and f"{whole[-1]} {token}" in months:
            whole[-1] = f"{whole[-1]} {token}"
        else:
            whole.append(token)
    return whole


def _form(tokens: Sequence[str], month: int) -> str:
    """A pattern of day, month and year in the usual order, with a placeholder for the month."""
    numbers = [(place, t) for place, t in enumerate(tokens) if t.isdigit()]
    years = [t for _, t in numbers if _YEAR.fullmatch(t)]
    short = [t for _, t in numbers if len(t) <= 2]
    if len(years) == 1 and len(numbers) == 1:
        return f"{{}} {years[0]}"
    if len(years) == 1 and len(numbers) == 2 and short and 1 <= int(short[0]) <= 31:
        return f"{int(short[0])} {{}} {years[0]}"
    if years or len(short) != len(numbers) or len(numbers[-1][1]) != 2 or numbers[-1][0] < month:
        return ""
    if len(numbers) == 1:
        return f"{{}}-{short[0]}"
    return f"{int(short[0])}-{{}}-{short[1]}" if len(numbers) == 2 and numbers[0][0] < month else ""


def is_date_in_words(cell: str) -> bool:
    """Whether a cell is a date in words of some language."""
    return date_in_words(cell) is not None
