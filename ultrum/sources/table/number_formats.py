"""Number formats: decimal and thousands marks, signs, units, flags, missing values."""

from __future__ import annotations

import contextlib
import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
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
    ``currency`` the sign or code next to them.
    """

    values: Floats
    percent: int = 0
    marks: Mapping[int, str] = field(default_factory=dict)
    currency: str = ""
    points: int = 0

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
    currencies: Counter[str] = Counter()
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
            currencies.update([parts[3]] if parts[3] else [])
    single = next(iter(currencies)) if len(currencies) == 1 else ""
    return ReadNumbers(values, percent, flags, single, points)


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
