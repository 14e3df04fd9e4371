"""Frequencies and durations in other notations, for messages that name the code of the standard."""

from __future__ import annotations

import re
from typing import Final

DAYS: Final = ("MON", "TUE", "WED", "THU", "FRI", "SAT", "SUN")
MONTHS: Final = ("JAN", "FEB", "MAR", "APR", "MAY", "JUN", "JUL", "AUG", "SEP", "OCT", "NOV", "DEC")
MONTHS_IN: Final = {"A": 12, "S": 6, "Q": 3, "M": 1}
_WORDS: Final = {  # the code and its words in other notations
    "A": ("Y", "YE", "YS", "AE", "AS", "BYE", "BA", "ANNUAL", "ANNUALLY", "YEAR", "YEARLY"),
    "S": ("SEMIANNUAL", "SEMI-ANNUAL", "HALF-YEAR", "HALF-YEARLY"),
    "Q": ("QE", "QS", "BQ", "BQE", "QUARTER", "QUARTERLY"),
    "M": ("ME", "MS", "BM", "BME", "BMS", "MO", "MONTH", "MONTHLY"),
    "W": ("WEEK", "WEEKLY"),
    "B": ("C", "BUSINESS", "BUSINESS-DAILY", "WEEKDAY", "WEEKDAYS"),
    "D": ("DAY", "DAILY"),
    "H": ("HOUR", "HOURLY"),
    "N": ("T", "MIN", "MINUTE", "MINUTELY"),
}
_OF_MONTHS: Final = {12: "A", 6: "S", 3: "Q"}
_STARTS: Final = ("YS", "AS", "QS")  # name the month in which a period begins, not that in which it ends
_COUNTED: Final = re.compile(r"(\d*)\s*([A-Z][A-Z-]*?)(-[A-Z]{3})?")


def code_of_word(text: str) -> str:
    """The code of a frequency in another notation, such as ``ME``, ``monthly`` or ``5min``; empty for none.

    Examples
    --------
    >>> [code_of_word(word) for word in ("ME", "5min", "QE-JAN", "YS-APR", "3M", "fortnight")]
    ['M', '5N', 'Q-JAN', 'A-MAR', 'Q', '']
    """
    match = _COUNTED.fullmatch(text.strip().upper())
    if match is None:
        return ""
    count, word, anchor = int(match[1] or 1), match[2], (match[3] or "")[1:]
    code = next((c for c, words in _WORDS.items() if word == c or word in words), "")
    if count > 1 and code not in ("H", "N", ""):
        return _OF_MONTHS.get(count * MONTHS_IN[code], "") if code in MONTHS_IN else ""
    if anchor in MONTHS and word in _STARTS:
        anchor = MONTHS[MONTHS.index(anchor) - 1]
    anchors = DAYS if code == "W" else MONTHS if code in ("A", "S", "Q") else ()
    if anchor and anchor not in anchors:
        return ""
    kept = f"-{anchor}" if anchor not in ("", "DEC") else ""
    return f"{count if count > 1 else ''}{code}{kept}" if code else ""


def duration_like(text: str) -> str:
    """The duration that a text in another notation means, such as ``60M`` or ``5 years``, as advice.

    Examples
    --------
    >>> duration_like("5 years"), duration_like("60min")
    ('Write P5Y.', 'Write P1Y, P3M, P2W or P10D.')
    """
    match = re.fullmatch(r"\s*(\d{1,6})\s*([A-Z]+?)S?\s*", text.upper())
    code = code_of_word(match[2]) if match is not None else ""
    if match is None or code not in ("A", "M", "W", "D"):
        return "Write P1Y, P3M, P2W or P10D."
    return f"Write P{match[1]}{code.replace('A', 'Y')}."
