"""Names of months, quarters and half-years in headings of rows and columns."""

from __future__ import annotations

import re
from typing import Final

from ultrum.sources.table.ambiguous_dates import cell_text
from ultrum.sources.table.date_formats import (
    MONTHS_OF_QUARTER,
    NTH,
    NTHS,
    QUARTER_WORD,
    month_of_name,
    style_of,
)
from ultrum.sources.table.date_words import quarter_in_words

ROMAN: Final = {"I": 1, "II": 2, "III": 3, "IV": 4}
YEAR: Final = re.compile(r"(1[6-9]|20|21)\d\d")
_MONTH: Final = re.compile(r"M?(0?[1-9]|1[0-2])", re.IGNORECASE)
_QUARTER: Final = re.compile(
    rf"[QT]0?(?P<a>[1-4])|(?P<b>[1-4])[QT]|(?:{QUARTER_WORD}) ?(?P<c>[1-4])|(?P<roman>I{{1,3}}|IV)"
    rf"|{NTH} ?(?:{QUARTER_WORD})|(?P<roman2>I{{1,3}}|IV)\.? ?(?:{QUARTER_WORD})",
    re.IGNORECASE,
)
_SPAN: Final = re.compile(MONTHS_OF_QUARTER, re.IGNORECASE)
_HALF: Final = re.compile(r"[HS]([12])|([12])[HS]|([12])(?:st|nd) half(?:[- ]year)?", re.IGNORECASE)


def part_of_year(cell: object) -> tuple[str, int] | None:
    """Kind (M, Q or S) and number of the part of a year in a cell, or None.

    Examples
    --------
    >>> part_of_year("Sep."), part_of_year("3rd quarter"), part_of_year("H2"), part_of_year("2024")
    (('M', 9), ('Q', 3), ('S', 2), None)
    """
    text = cell_text(cell).strip().rstrip(".:")
    if not text or len(text) > 24:
        return None
    if match := _MONTH.fullmatch(text):
        return "M", int(match[1])
    if match := _QUARTER.fullmatch(text):
        return "Q", _number(match.groupdict())
    if match := _SPAN.fullmatch(text):
        return "Q", (month_of_name(match["quarter"][:3]) + 2) // 3
    if match := _HALF.fullmatch(text):
        return "S", int(match[1] or match[2] or match[3])
    return _part_in_words(text)


def _part_in_words(text: str) -> tuple[str, int] | None:
    """A quarter or month by its name in any language."""
    quarter = quarter_in_words(text) if not text.isascii() or " " in text or "." in text else 0
    if quarter:
        return "Q", quarter
    return ("M", month_of_name(text)) if is_month_name(text) and not style_of(text) else None


def _number(parts: dict[str, str | None]) -> int:
    """Number of a quarter from the matching group of the pattern."""
    for group in ("a", "b", "c", "q"):
        if parts.get(group):
            return int(str(parts[group]))
    roman = parts.get("roman") or parts.get("roman2")
    return ROMAN[roman.upper()] if roman else NTHS[str(parts["nth"]).lower()[:3]]


def is_month_name(text: str) -> bool:
    """Whether a text is the name of a month in one of several languages, full or abbreviated."""
    if not text[:1].isalpha() or len(text) > 12 or not all(c.isalpha() or c == "." for c in text):
        return False
    try:
        month_of_name(text)
    except ValueError:
        return False
    return True


def label_part(year: str, part: tuple[str, int]) -> str:
    """SDMX-like name of a part of a year.

    Examples
    --------
    >>> label_part("2024", ("Q", 3)), label_part("2024", ("M", 3))
    ('2024-Q3', '2024-03')
    """
    kind, number = part
    return f"{year}-{number:02d}" if kind == "M" else f"{year}-{kind}{number}"
