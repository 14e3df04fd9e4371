"""Units of columns: percent or decimals, index, price, currency.

Every column gets a unit and a reason; numbers of a column without any sign of a unit are unchanged, and this is
reported.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Final

import numpy as np

from ultrum.core.currency.exchange_rates import is_currency, pair_in
from ultrum.core.displayed_numbers import quantity
from ultrum.errors import TableError
from ultrum.sources.table.number_formats import ReadNumbers

PERCENT, DECIMAL = "percent", "decimal"
_LARGEST_RATE: Final = 0.5  # a year or a month; more looks like percent
GIVEN: Final = (PERCENT, DECIMAL, "index", "count", "currency", "as written")
_WORD: Final = (  # in the languages tables come in; percentage points are percent of the same base
    r"per ?cent(?:age)?|percents|pct|prozent|pour ?cent(?:age)?s?|por ?cien(?:to)?|per ?cento|procent(?:en)?"
    r"|prosent|porcentajes?|porcentual|percentual[ei]?|percentagem|por cento|процент\w*"
)
_PERCENT_SIGN: Final = re.compile(rf"%|(?<![^\W\d_])(?:{_WORD})(?![^\W\d_])", re.IGNORECASE)
_PROSE_PERCENT: Final = re.compile(
    r"(\b(?:are|is|all|figures?|values?|returns?|numbers?|rates?|yields?)\b[^.\n]{0,60}\b)?"
    rf"(\b(?:in|en|em|as) (?:{_WORD})\b|\bper cent\b|\b(?:{_WORD}) (?:per|p\.?a|pro|par|change|growth|points?)\b"
    rf"|(?<=[,;:(] )(?:{_WORD})(?=[.;,)]|\s*$)|\((?:{_WORD})\)|\bunits?: ?(?:{_WORD}|%)|\bin %|\(%\)|, %|% per)",
    re.IGNORECASE | re.MULTILINE,
)
_OF_ALL: Final = re.compile(
    rf"\b(?:all|figures?|values?|data|numbers?|entries|units?)\b[^.\n]{{0,40}}(?<![^\W\d_])(?:{_WORD})(?![^\W\d_])"
    rf"|(?:^|[.;:] ?)in (?:{_WORD})[.;]?\s*(?:$|\n)",
    re.IGNORECASE | re.MULTILINE,
)
_NEVER_PERCENT: Final = ("price", "flow", "index", "stock")
_BASE: Final = re.compile(r"\b((?:19|20)\d\d(?:[-/ ]?(?:Q[1-4]|\d\d))?) ?= ?100\b")
_PAIR: Final = re.compile(r"\b([A-Z]{3}) ?(?:/|per) ?(?:one )?([A-Z]{3})\b")
_AFTER: Final = r"(?=\s*(?:$|[)\],;]|mn|bn|million|billion|thousand|th\b|per|an? ))"
_CODE: Final = re.compile(r"[(\[,;:]\s*([A-Z]{3})" + _AFTER)
_CODE_ALONE: Final = re.compile(r"(?:^|[(\[,;:]\s*)([A-Z]{3})" + _AFTER)
_SIGNS: Final = {"€": "EUR", "£": "GBP", "¥": "JPY"}
_NO_CURRENCY: Final = frozenset(  # words of three capitals that headings put in brackets
    [
        *(
            "NSA",
            "SAA",
            "YOY",
            "QOQ",
            "MOM",
            "AVG",
            "EOP",
            "SUM",
            "MIN",
            "MAX",
            "CPI",
            "PPI",
            "GDP",
        ),
        *("GNP", "ALL", "TOT", "NET", "END", "MTD", "YTD", "PCT", "IDX", "VOL"),
    ]
)
_MEASURES: Final = (
    (re.compile(r"\b(open interest)\b", re.IGNORECASE), "stock"),
    (re.compile(r"\b(open|high|low|close|closing|price|settle|last|bid|ask|nav)\b", re.IGNORECASE), "price"),
    (re.compile(r"\b(volume|turnover|sales|exports|imports|births)\b", re.IGNORECASE), "flow"),
    (re.compile(r"\b(excess )?returns?\b", re.IGNORECASE), "return"),
    (re.compile(r"\b(yield|interest|rate|inflation|unemployment)\b", re.IGNORECASE), "rate"),
    (re.compile(r"\bindex\b", re.IGNORECASE), "index"),
)


@dataclass(frozen=True)
class UnitFinding:
    """Findings on one column: metadata and the reason."""

    percent: bool
    facts: Mapping[str, object] = field(default_factory=dict)
    chosen: str = "as written"
    alternatives: str = PERCENT
    certainty: str = "there is no sign of another"
    line: int = 0


def unit_of(
    name: str,
    title: str,
    subtitle: str,
    numbers: ReadNumbers,
    preamble: str,
    given: str | None,
    where: str,
    footer: str = "",
) -> UnitFinding:
    """The unit of one column.

    Parameters
    ----------
    name, title, subtitle : str
        Name of the column, further text of its heading, and the cell under its name.
    numbers : ReadNumbers
        Its numbers, with the adjacent percent signs and currencies.
    preamble : str
        Prose above the table.
    footer : str
        Prose below it.
    given : str, optional
        Given unit.
    where : str
        File and table, for messages.
    """
    facts = _facts(f"{name} {title} {subtitle}", subtitle, numbers)
    if given is not None:
        return _as_option(given, facts, where)
    count = int(np.isfinite(numbers.values).sum())
    if numbers.percent:
        if numbers.percent < count:
            signs = f"{numbers.percent} of the {quantity(count, 'number')} in '{name}' have a percent sign"
            raise TableError(
                f"{where}: {signs}, and the others have none. Set units='percent' or units='decimal'."
            )
        return UnitFinding(True, {**facts, "unit": DECIMAL}, PERCENT, "", "percent signs in the cells")
    if _PERCENT_SIGN.search(subtitle) or _PERCENT_SIGN.search(f"{name} {title}"):
        return UnitFinding(True, {**facts, "unit": DECIMAL}, PERCENT, DECIMAL, "from the heading")
    prose, below = _percent_in(preamble), _percent_in(footer)
    other = facts.get("currency") or facts.get("base_period") or facts.get("measure") == "index"
    of_all = _OF_ALL.search(f"{preamble}\n{footer}") or facts.get("measure") not in _NEVER_PERCENT
    if (prose or below) and not other and of_all:
        line = preamble[: prose.end()].count("\n") + 1 if prose else 0
        why = f"from line {line}" if prose else f"'{footer[:60].strip()}' below the table"
        return UnitFinding(True, {**facts, "unit": DECIMAL}, PERCENT, DECIMAL, why, line)
    if facts.get("measure") in ("rate", "return") and _too_large(numbers):
        facts = {}  # 1.5 can be one and a half percent, or a price that is called a rate: there is no sign
    words = _words(facts)
    if words:
        return UnitFinding(False, facts, words, "", "from the heading")
    return UnitFinding(False, facts)


def _percent_in(prose: str) -> re.Match[str] | None:
    """Where prose states that the numbers are percent; "2 percent per year" refers to the 2 alone."""
    for match in _PROSE_PERCENT.finditer(prose):
        sign = re.search(rf"%|(?:{_WORD})", match[0], re.IGNORECASE)
        before = prose[: match.start() + (sign.start() if sign else 0)]
        if not re.search(r"\d\s*$", before):
            return match
    return None


def _too_large(numbers: ReadNumbers) -> bool:
    """Whether numbers are too large for a rate in decimals."""
    valid = numbers.values[np.isfinite(numbers.values)]
    return bool(len(valid)) and float(np.median(np.abs(valid))) > _LARGEST_RATE


def _as_option(given: str, facts: Mapping[str, object], where: str) -> UnitFinding:
    codes = re.fullmatch(r"([A-Z]{3})(?:/([A-Z]{3}))?", given)
    if given not in GIVEN and not (codes and all(is_currency(c) for c in codes.groups() if c)):
        raise TableError(
            f"{where}: units='{given}' is not known; it is one of {', '.join(GIVEN)}, a currency's code or a "
            "pair of them."
        )
    if given == PERCENT:
        return UnitFinding(True, {**facts, "unit": DECIMAL}, PERCENT, "", "given")
    if given == "as written":
        return UnitFinding(False, facts, given, "", "given")
    if codes and codes[2]:
        return UnitFinding(False, {"measure": "quote", "unit": given}, given, "", "given")
    if codes:
        return UnitFinding(False, {**facts, "unit": "currency", "currency": given}, given, "", "given")
    return UnitFinding(False, {**facts, "unit": given}, given, "", "given")


_ADJUSTED: Final = re.compile(
    r"\badj(?:usted)?\.?[ _-]?(?:close|closing|price)|\b(?:close|price)s?[ _-]?\(?adj",
    re.IGNORECASE,
)


def _facts(text: str, subtitle: str, numbers: ReadNumbers) -> dict[str, object]:
    """Measure, currency, pair and base period as stated in words."""
    facts: dict[str, object] = {}
    pair = _pair(text)
    if pair:
        return {"measure": "quote", "unit": "/".join(pair)}
    base_period = _BASE.search(text)
    if base_period:
        return {"measure": "index", "unit": "index", "base_period": base_period[1]}
    measure = next((m for pattern, m in _MEASURES if pattern.search(text)), "")
    if measure:
        facts["measure"] = measure
    currency = _currency(text, subtitle, numbers)
    if currency and measure not in ("rate", "return"):
        facts["currency"] = currency
        facts["unit"] = "currency"
    if measure == "index":
        facts["unit"] = "index"
    if _ADJUSTED.search(text):
        facts |= {"measure": measure or "price", "income": "total"}
    return facts


def _pair(text: str) -> tuple[str, str] | None:
    """Base and quote currency of a heading: "QSR/QML" and "QML per QSR" both are QML per unit of QSR."""
    match = _PAIR.search(text)
    if match and is_currency(match[1]) and is_currency(match[2]):
        return (match[2], match[1]) if "per" in match[0] else (match[1], match[2])
    words = text.split()
    return pair_in(text) or next((p for w in words if len(w) >= 6 and (p := pair_in(w))), None)


def _currency(text: str, subtitle: str, numbers: ReadNumbers) -> str:
    sign = _SIGNS.get(numbers.currency, numbers.currency)
    if is_currency(sign):
        return sign
    codes = [c for c in (*_CODE_ALONE.findall(subtitle), *_CODE.findall(text)) if c not in _NO_CURRENCY]
    return next((c for c in codes if is_currency(c)), "")


def _words(facts: Mapping[str, Any]) -> str:
    unit = facts.get("unit", "")
    parts = [
        facts.get("measure", ""),
        unit if unit not in ("currency", facts.get("measure")) else "",
        facts.get("currency", ""),
    ]
    if "base_period" in facts:
        parts.append(f"{facts['base_period']} = 100")
    return ", ".join(p for p in parts if p)
