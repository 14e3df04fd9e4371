"""The encoding of a text that is not UTF-8, by the words that it then has.

In a wrong encoding a text has no known words for dates, months and prices. Windows-1252 is the first choice where
no encoding has more of them than another.
"""

from __future__ import annotations

import re
from typing import Final

from ultrum.sources.table.column_words import role_of
from ultrum.sources.table.date_words import field_of, is_date_heading, months_by_language, worded_date
from ultrum.sources.table.statements import any_percent_word

ENCODINGS: Final = (
    *("cp1252", "cp1251", "cp1250", "cp1253", "cp1254", "cp1257", "cp932", "gb18030", "cp949", "big5", "koi8_r"),
    *("cp1255", "cp1256", "iso8859_2", "iso8859_5", "euc_jp"),
)
_SAMPLE: Final = 32 * 1024
_LINES: Final = 60
_WORD: Final = re.compile(r"[^\W\d_]{2,}")


def encodings_by_words(body: bytes) -> list[str]:
    """Encodings to try, the one with most known words first.

    Examples
    --------
    >>> encodings_by_words("Дата;Цена".encode("cp1251"))[0], encodings_by_words("Größe;Maß".encode("cp1252"))[0]
    ('cp1251', 'cp1252')
    """
    lines = [line for line in body[:_SAMPLE].splitlines() if not line.isascii()][:_LINES]
    counts = {code: sum(_known_words(line, code) for line in lines) for code in ENCODINGS}
    best = max(ENCODINGS, key=lambda code: counts[code])
    return [best, "cp1252"] if counts[best] > counts["cp1252"] else ["cp1252"]


def shown_encoding(encoding: str, text: str, given: str | None) -> str:
    """The encoding for a report: the default is an assumption where no known word has a letter outside ASCII."""
    if given or encoding != "cp1252":
        return encoding
    lines = [line for line in text[:_SAMPLE].splitlines() if not line.isascii()][:_LINES]
    known = any(_known_words(line.encode("cp1252", "replace"), "cp1252") > 0 for line in lines)
    return encoding if known else f"{encoding}, assumed: set encoding= if names are not spelled correctly"


def _known_words(line: bytes, code: str) -> int:
    """Number of known words of a line with letters outside ASCII; -1 if it is no text in the encoding."""
    try:
        text = line.decode(code)
    except (UnicodeDecodeError, LookupError):
        return -1
    cells = [c for part in re.split(r"[;,|\t]", text) if not (c := part.strip().strip('"')).isascii()]
    named = sum(bool(role_of(c) or is_date_heading(c) or field_of(c)) for c in cells)
    dates = sum(worded_date(c) is not None for c in cells)
    words = [w for w in _WORD.findall(text) if not w.isascii()]
    return 2 * (named + dates) + sum(
        bool(months_by_language(w) or any_percent_word().fullmatch(w)) for w in words
    )
