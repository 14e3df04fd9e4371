"""Units and currency: statements about them, and whether a column is in percent.

A statement is a word for percent, basis points, a currency or a multiple, in a line such as ``Unit: %``, in a
title such as "Output, millions of QML", or in a column of units. Each one reaches the unit of a column or the
list of what was not used.

Every column gets a unit and a reason; numbers of a column without any sign of a unit are unchanged, and this is
reported.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from typing import Any, Final, Literal

import numpy as np

from ultrum.core.currency.exchange_rates import ISO_4217, is_currency, pair_in
from ultrum.core.displayed_numbers import quantity
from ultrum.errors import TableError
from ultrum.sources.table.column_words import role_of
from ultrum.sources.table.number_formats import ReadNumbers

Kind = Literal["percent", "basis points", "currency", "multiple"]
# names of percent in CLDR (unit concentr-percent), as stems; percentage points are percent of the same base
PERCENT_WORD: Final = (
    r"per ?cent(?:age)?|percents|pct|prozent\w*|pour ?cent(?:age)?s?|por ?cien(?:to)?|per ?cento|porcentajes?"
    r"|porcentual|percentual[ei]?|percentagem|por cento|percentuale|proc[eē]nt\w*|pros[eé]nt\w*|protsen\w*"
    r"|percent(?:o|á|ách|uálne|u[ae]l)|odstot\w*|postot\w*|процен\w*|відсот\w*|százalék\w*|yüzde\w*"
    r"|τοις εκατό|ποσοστ\w*|faoin gcéad|パーセント|百分比|百分率|퍼센트|백분율|بالمائة|بالمئة|אחוז\w*"
    r"|प्रतिशत|persen|peratus|phần trăm|เปอร์เซ็นต์|ร้อยละ|درصد"
)
_PERCENT: Final = rf"(?:[%％]|(?<![^\W\d_])(?:{PERCENT_WORD})(?![^\W\d_]))"
_POINTS: Final = (
    r"(?<![^\W\d_])(?:basis ?points?|bps?|basispunkt\w*|points? de base|puntos? básicos?)(?![^\W\d_])"
)
_SCALES: Final = {  # words for thousand, million and billion, as statistical releases print them
    3: r"thousands?|thous\.?|tausend|tsd\.?|milliers?|miles|migliaia|tusen\w*|tys\.?|tis\.?|тыс\.?|千",
    6: r"millions?|mill\.?|mn\.?|mio\.?|millionen|millones|milhões|milioni|miljo\w+|mln\.?|млн\.?|百万",
    9: r"billions?|bn\.?|mrd\.?|milliarden|milliards?|miliardi|miljard\w*|mld\.?|млрд\.?|十億|十亿",
}
_SCALE: Final = "|".join(f"(?P<e{power}>{words})" for power, words in _SCALES.items())
SIGNS: Final = {
    "€": "EUR",
    "£": "GBP",
    "zł": "PLN",
    "Kč": "CZK",
    "Ft": "HUF",
    "лв": "BGN",
    "₽": "RUB",
    "₹": "INR",
    "₺": "TRY",
    "₴": "UAH",
    "₪": "ILS",
    "₫": "VND",
    "₩": "KRW",
    "฿": "THB",
    "₸": "KZT",
    "₼": "AZN",
    "₾": "GEL",
}
_CODE: Final = rf"(?:[A-Z]{{3}}|{'|'.join(SIGNS)})"
_SCALED_MONEY: Final = rf"(?:(?:{_SCALE})\s*(?:of|de|di|in|d')?\s*)?(?P<code>{_CODE})"
_LABELLED: Final = re.compile(r"(?P<label>[^\W\d_][^:=,;\n]{0,40}?)\s*[:：=]\s*(?P<value>[^\n]+?)\s*[.;]?")
LABELS: Final = re.compile(  # of a line whose value stands in the next cell
    r"units?|unit[ _]of[ _]measure|unit_measure|einheit|unité|unidad|unità|unidade|eenheid|enhet|enhed|yksikkö"
    r"|jednostka|jednotka|enota|jedinica|mértékegység|unitate|единица|одиниця|мерна единица|μονάδα|birim|単位"
    r"|单位|단위|currency|währung|devise|monnaie|moneda|divisa|valuta|moeda|munt|valuutta|waluta|měna|mena|валюта"
    r"|νόμισμα|para birimi|通貨|货币|통화",
    re.IGNORECASE,
)
_CLAUSE: Final = re.compile(r"(?<=[;.])\s+")
_OTHER_LABEL: Final = re.compile(r"(base|quote|from|to|counter)\b", re.IGNORECASE)
_BEFORE: Final = (
    r"(?:\b(?:in|en|em|i|v|w|u|na|im|au|på|as|σε|в|у|з|от)\s+|[(（,;:：–—]\s*|\b(?:units?|are|is)\s+)"
)
_END: Final = r"(?=\s*(?:$|[)）.。,;:：–—]))"
_AFTER: Final = (
    r"(?=\s*(?:$|[)）.。,;:：–—]|p\.?\s?a\b|per\b|pro\b|par\b|por\b|a year|a month|change|growth|points?"
    r"|unless|except|sofern|sauf|salvo))"
)
NOT_MONEY: Final = re.compile(
    r"\b(volume|vol|shares|units|number|count|trades|contracts|open interest|persons?|population|births|stück\w*"
    r"|volumen|anzahl|nombre|volym|antal|wolumen|liczba|объем|количество|出来高|成交量)\b",
    re.IGNORECASE,
)


@cache  # long patterns take milliseconds to compile, and most files need none
def _value_patterns() -> Sequence[tuple[Kind, re.Pattern[str]]]:
    return (
        ("percent", re.compile(rf"(?:in |en |em )?{_PERCENT}(?:[ ,;].*)?", re.IGNORECASE)),
        ("basis points", re.compile(_POINTS, re.IGNORECASE)),
        ("currency", re.compile(rf"(?:in |en |em )?{_SCALED_MONEY}")),
        ("currency", re.compile(rf"(?P<code>{_CODE})[ ,]+(?:{_SCALE})")),
        ("multiple", re.compile(rf"(?:in |en |em |w )?(?:{_SCALE})", re.IGNORECASE)),
    )


@cache
def _title_patterns() -> Sequence[tuple[Kind, re.Pattern[str]]]:
    return (
        ("percent", re.compile(rf"{_BEFORE}{_PERCENT}{_AFTER}|^{_PERCENT}{_AFTER}", re.IGNORECASE)),
        ("basis points", re.compile(rf"{_BEFORE}{_POINTS}", re.IGNORECASE)),
        ("currency", re.compile(rf"{_BEFORE}{_SCALED_MONEY}(?:{_END}|(?=\s*(?:/|per\b)))")),
        ("currency", re.compile(rf"(?:^|{_BEFORE})(?P<code>{_CODE})[ ,]+(?:{_SCALE}){_END}")),
        ("multiple", re.compile(rf"{_BEFORE}(?:{_SCALE}){_AFTER}", re.IGNORECASE)),
    )


@cache
def any_percent_word() -> re.Pattern[str]:
    """Pattern of a percent sign or a word for percent."""
    return re.compile(_PERCENT, re.IGNORECASE)


@dataclass(frozen=True)
class Statement:
    """A statement about units in the words of a file.

    Attributes
    ----------
    kind : {"percent", "basis points", "currency", "multiple"}
    value : str
        Code of a currency.
    power : int
        Power of ten of a multiple.
    text : str
        Words of the file.
    line : int
        Line of the words above the table, from 1; 0 below it.
    labelled : bool
        Whether a label introduces it, as in ``Unit: %``.
    column : str
        Column of units that states it.
    """

    kind: Kind
    text: str
    line: int = 0
    value: str = ""
    power: int = 0
    labelled: bool = False
    column: str = ""

    def __str__(self) -> str:
        where = self.column or (f"line {self.line}" if self.line else "below the table")
        return f"'{self.text[:60]}', {where}"


def clauses_of_columns(text: str, names: Sequence[str]) -> tuple[str, dict[str, str]]:
    """The words of a table without the clauses about single columns, and these clauses by column.

    Each clause stays on its line.

    Examples
    --------
    >>> clauses_of_columns("Returns in percent; RF is in percent per annum.", ["Mkt", "RF"])
    ('Returns in percent;', {'RF': 'RF is in percent per annum.'})
    """
    words = [n for n in names if len(n) > 1 and n in text]
    if not words:
        return text, {}
    one = "|".join(map(re.escape, sorted(words, key=len, reverse=True)))
    begins = re.compile(rf"(?:and |the |column )?['\"]?({one})['\"]?\s*(?:(?:is|are|in)\b|[:=])")
    rest: list[str] = []
    own: dict[str, str] = {}
    for number, line in enumerate(text.split("\n")):
        kept = []
        for clause in _CLAUSE.split(line):
            match = begins.match(clause.strip())
            if match is None:
                kept.append(clause)
            else:
                before = own.get(match[1], "\n" * number)
                own[match[1]] = f"{before} {clause}" if match[1] in own else before + clause
        rest.append(" ".join(kept))
    return "\n".join(rest), own


def statements_in(above: str, below: str) -> tuple[Statement, ...]:
    """Statements in the words above and below a table."""
    stated: list[Statement] = []
    for number, line in enumerate(above.split("\n"), 1):
        stated += _of_line(line.strip(), number)
    for line in below.split("\n"):
        stated += _of_line(line.strip(), 0)
    return tuple(dict.fromkeys(stated))


def percent_words(above: str, below: str) -> Iterator[Statement]:
    """Every word for percent that does not follow a number, whether or not it states a unit."""
    lines = [*enumerate(above.split("\n"), 1), *((0, line) for line in below.split("\n"))]
    for number, line in lines:
        match = next((m for m in any_percent_word().finditer(line) if not _after_number(line, m.start())), None)
        if match:
            yield Statement("percent", line.strip(), number)


def statement_of(text: str) -> Statement | None:
    """The statement that a whole text makes, such as a cell of a column of units."""
    bare = text.strip().strip("()[]").strip()
    for kind, pattern in _value_patterns():
        match = pattern.fullmatch(bare)
        made = _statement(kind, match, text, 0) if match else None
        if made is not None:
            return made
    return None


def _of_line(line: str, number: int) -> Iterator[Statement]:
    if not line:
        return
    labelled = _LABELLED.fullmatch(line)
    label, value = (labelled["label"], labelled["value"]) if labelled else ("", "")
    if not labelled and ", " in line:
        label, value = line.split(", ", 1)
        label = label if LABELS.fullmatch(label.strip().rstrip(":")) else ""
    stated = statement_of(value) if label else None
    if stated is not None and _OTHER_LABEL.match(label):
        return
    if stated is not None:
        yield Statement(stated.kind, line, number, stated.value, stated.power, labelled=True)
        return
    for kind, pattern in _title_patterns():
        for match in pattern.finditer(line):
            start = match.start() + len(match[0]) - len(match[0].lstrip())
            made = None if _after_number(line, start) else _statement(kind, match, line, number)
            if made is not None:
                yield made


def _statement(kind: Kind, match: re.Match[str], text: str, line: int) -> Statement | None:
    groups = match.groupdict()
    power = next((int(k[1:]) for k, v in groups.items() if v and k.startswith("e")), 0)
    code = SIGNS.get(groups.get("code") or "", groups.get("code") or "")
    if kind == "currency" and not (code in ISO_4217 or (is_currency(code) and not code.startswith("X"))):
        return None  # codes from XA are left to users too, and are mostly words: XLS, XML
    return Statement(kind, text.strip(), line, code, power)


def _after_number(line: str, start: int) -> bool:
    """Whether a word follows a number: "2 percent" is about the 2 alone."""
    return bool(re.search(r"\d\s*$", line[:start]))


_ANNUAL: Final = re.compile(
    r"\b(per annum|p\. ?a\b|annuali[sz]ed|pro jahr|par an|al año|all'anno|ao ano|per jaar)|\bpa\b", re.IGNORECASE
)


def is_annual(*texts: str) -> bool:
    """Whether words state a rate per annum, which is not a return of the period."""
    return any(_ANNUAL.search(text) for text in texts)


def of_kind(stated: Iterable[Statement], kind: Kind) -> list[Statement]:
    """Statements of one kind."""
    return [s for s in stated if s.kind == kind]


# Units of columns: percent or decimals, index, price, currency

PERCENT, DECIMAL = "percent", "decimal"
_LARGEST_RATE: Final = 0.5  # a year or a month; more looks like percent
GIVEN: Final = (PERCENT, DECIMAL, "index", "count", "currency", "as written")
_WORD: Final = PERCENT_WORD
_IN_WORDS: Final = {"multiple": "a multiple", "currency": "a currency", "basis points": "basis points"}
_NEVER_PERCENT: Final = ("price", "flow", "index", "stock")
_BASE: Final = re.compile(r"\b((?:19|20)\d\d(?:[-/ ]?(?:Q[1-4]|\d\d))?) ?= ?100\b")
_PAIR: Final = re.compile(r"\b([A-Z]{3}) ?(?:/|per) ?(?:one )?([A-Z]{3})\b")
_AFTER_UNIT: Final = r"(?=\s*(?:$|[)\],;]|mn|bn|million|billion|thousand|th\b|per|an? ))"
_CURRENCY_CODE: Final = re.compile(r"[(\[,;:]\s*([A-Z]{3})" + _AFTER_UNIT)
_CODE_ALONE: Final = re.compile(r"(?:^|[(\[,;:]\s*)([A-Z]{3})" + _AFTER_UNIT)
_SIGNS: Final = {**SIGNS, "¥": "JPY"}
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

_MEASURE_OF: Final = {  # by the role of a column in a price table
    **dict.fromkeys(("open", "high", "low", "close", "adjusted close", "average", "previous close"), "price"),
    **dict.fromkeys(("volume", "turnover"), "flow"),
}


@cache
def _percent_in_prose() -> re.Pattern[str]:
    return re.compile(
        r"(\b(?:are|is|all|figures?|values?|returns?|numbers?|rates?|yields?)\b[^.\n]{0,60}\b)?"
        rf"(\b(?:in|en|em|as) (?:{_WORD})\b|\bper cent\b"
        rf"|\b(?:{_WORD}) (?:per|p\.?a|pro|par|change|growth|points?)\b|(?<=[,;:(] )(?:{_WORD})(?=[.;,)]|\s*$)"
        rf"|\((?:{_WORD})\)|\bunits?: ?(?:{_WORD}|%)|\bin %|\(%\)|, %|% per)",
        re.IGNORECASE | re.MULTILINE,
    )


@cache
def _percent_of_all() -> re.Pattern[str]:
    return re.compile(
        rf"\b(?:all|figures?|values?|data|numbers?|entries|units?)\b[^.\n]{{0,40}}(?<![^\W\d_])(?:{_WORD})"
        rf"(?![^\W\d_])|(?:^|[.;:] ?)in (?:{_WORD})[.;]?\s*(?:$|\n)",
        re.IGNORECASE | re.MULTILINE,
    )


@dataclass(frozen=True)
class UnitFinding:
    """Findings on one column: metadata and the reason."""

    percent: bool
    facts: Mapping[str, object] = field(default_factory=dict)
    chosen: str = "as written"
    alternatives: str = PERCENT
    certainty: str = "not stated"
    line: int = 0
    factor: float = 1.0  # of the values, for stated multiples and basis points
    used: tuple[Statement, ...] = ()


def unit_of(
    name: str,
    title: str,
    subtitle: str,
    numbers: ReadNumbers,
    preamble: str,
    given: str | None,
    where: str,
    footer: str = "",
    stated: Sequence[Statement] = (),
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
    stated : sequence of Statement
        Statements in the words around the table.
    """
    finding = _unit_of_column(name, title, subtitle, numbers, preamble, given, where, footer, stated)
    if finding.percent and given is None:
        percent = of_kind(stated, "percent")
        rate = is_annual(name, title, subtitle, *(s.text for s in percent)) and _is_open(finding)
        facts = {**finding.facts, "measure": "rate"} if rate else finding.facts
        return replace(finding, facts=facts, used=tuple(percent))
    if given is not None:
        return replace(finding, used=tuple(stated))
    heading = (*statements_in(f"{name}\n{title}", ""), *filter(None, (statement_of(subtitle),)))
    return _with_statements(finding, name, heading, stated, where)


def _unit_of_column(
    name: str,
    title: str,
    subtitle: str,
    numbers: ReadNumbers,
    preamble: str,
    given: str | None,
    where: str,
    footer: str,
    stated: Sequence[Statement],
) -> UnitFinding:
    """Percent or not, and what the heading states."""
    facts = _facts(name, f"{name} {title} {subtitle}", subtitle, numbers)
    if given is not None:
        return _as_option(given, facts, where)
    count = int(np.isfinite(numbers.values).sum())
    in_cells = _cell_signs(numbers, facts, f"{where}: ", name, count)
    if in_cells is not None:
        return in_cells
    if any_percent_word().search(f"{subtitle}\n{name} {title}"):
        return UnitFinding(True, {**facts, "unit": DECIMAL}, PERCENT, DECIMAL, "from the heading")
    prose, below = _percent_in(preamble), _percent_in(footer)
    percent = of_kind(stated, "percent")
    other = facts.get("currency") or facts.get("base_period") or facts.get("measure") == "index"
    of_all = (
        any(s.labelled for s in percent)
        or _percent_of_all().search(f"{preamble}\n{footer}")
        or facts.get("measure") not in _NEVER_PERCENT
    )
    if percent and not other and not any(s.labelled for s in percent):
        _refuse_mixture(name, facts, percent, stated, where)
    if (prose or below or percent) and not other and of_all:
        line = preamble[: prose.end()].count("\n") + 1 if prose else percent[0].line if percent else 0
        why = f"from line {line}" if line else f"'{footer[:60].strip()}' below the table"
        return UnitFinding(True, {**facts, "unit": DECIMAL}, PERCENT, DECIMAL, why, line)
    if facts.get("measure") in ("rate", "return") and _too_large(numbers):
        facts = {}  # 1.5 can be one and a half percent, or a price that is called a rate: there is no sign
    words = _words(facts)
    if words:
        return UnitFinding(False, facts, words, "", "from the heading")
    return UnitFinding(False, facts)


def _cell_signs(
    numbers: ReadNumbers, facts: Mapping[str, object], where: str, name: str, count: int
) -> UnitFinding | None:
    """Percent or basis points by the signs in the cells, which all must have."""
    for marked, sign, chosen, factor in (
        (numbers.points, "'bp'", "basis points", 1e-4),
        (numbers.percent, "a percent sign", PERCENT, 1.0),
    ):
        if 0 < marked < count:
            signs = f"{marked} of the {quantity(count, 'number')} in '{name}' have {sign}"
            raise TableError(f"{where}{signs}, and the others have none. Set units='percent' or units='decimal'.")
        if marked:
            certainty = "bp in the cells" if factor < 1.0 else "percent signs in the cells"
            found = {**facts, "unit": DECIMAL}
            return UnitFinding(factor == 1.0, found, chosen, "", certainty, factor=factor)
    return None


def _refuse_mixture(
    name: str, facts: Mapping[str, object], percent: Sequence[Statement], stated: Sequence[Statement], where: str
) -> None:
    """Refuse a file that states percent and another unit, for a column whose heading does not decide."""
    others = [s for s in stated if s.kind in ("multiple", "currency", "basis points")]
    if others and not facts.get("measure"):
        raise TableError(
            f"{where}: {percent[0]} states percent and {_IN_WORDS[others[0].kind]}, and '{name}' can be either. "
            f"Set units= for each column, such as units={{'{name}': 'as written'}}."
        )


def _is_open(finding: UnitFinding) -> bool:
    """Whether the measure is not stated, or is a return, which a rate per annum is not."""
    return finding.facts.get("measure", "") in ("", "return")


def _with_statements(
    finding: UnitFinding, name: str, heading: Sequence[Statement], stated: Sequence[Statement], where: str
) -> UnitFinding:
    """The unit with the currency, the multiple or the basis points that heading or file state."""
    if finding.factor != 1.0:
        return finding
    measure = finding.facts.get("measure", "")
    points = of_kind(heading, "basis points") or (
        of_kind(stated, "basis points") if measure in ("", "rate") else []
    )
    if points and "currency" not in finding.facts:
        facts = {**finding.facts, "unit": DECIMAL}
        return replace(
            finding,
            facts=facts,
            chosen="basis points",
            alternatives="as written",
            certainty="stated",
            factor=1e-4,
            used=tuple(points),
        )
    if measure in ("rate", "return", "index", "quote") or "base_period" in finding.facts:
        pair = str(finding.facts.get("unit", "")) if measure == "quote" else ""
        return replace(finding, used=tuple(s for s in of_kind(stated, "currency") if s.value in pair))
    money = _currency_statement(finding, name, heading, stated, where)
    multiple = money if money and money.power else _single(heading, stated, "multiple")
    facts, words = dict(finding.facts), []
    if money is not None and "currency" not in facts:
        facts |= {"unit": "currency", "currency": money.value}
        words.append(money.value)
    power = multiple.power if multiple is not None else 0
    if power:
        facts["scale"] = power
        words.append(f"multiplied by {10**power:,}")
    if not words:
        return finding
    used = tuple(s for s in (money, multiple) if s is not None)
    chosen = ", ".join([*filter(None, [_words(finding.facts)]), *words])
    return replace(
        finding,
        facts=facts,
        chosen=chosen,
        factor=10.0**power,
        used=used,
        line=used[0].line,
        alternatives="as written",
        certainty="stated",
    )


def _currency_statement(
    finding: UnitFinding, name: str, heading: Sequence[Statement], stated: Sequence[Statement], where: str
) -> Statement | None:
    """The currency that heading or file state for a column; contradictions are refused."""
    if NOT_MONEY.search(name):
        return None
    own = finding.facts.get("currency")
    near = _single(heading, (), "currency")
    labelled = [s for s in of_kind(stated, "currency") if s.labelled]
    codes = dict.fromkeys(s.value for s in labelled)
    if len(codes) > 1 and not own and near is None:
        raise TableError(
            f"{where}: {labelled[0]} and {labelled[-1]} state two currencies. Set units= for each column."
        )
    far = labelled[0] if labelled else _single((), stated, "currency")
    if near is not None or own is None:
        return near or far
    return far if far is not None and far.value == own else None


def _single(heading: Sequence[Statement], stated: Sequence[Statement], kind: Kind) -> Statement | None:
    """The statement of a kind: that of the heading, or the only one of the file."""
    near = of_kind(heading, kind)
    if near:
        return near[0]
    far = of_kind(stated, kind)
    return far[0] if len({(s.value, s.power) for s in far}) == 1 else None


def _percent_in(prose: str) -> re.Match[str] | None:
    """Where prose states that the numbers are percent; "2 percent per year" refers to the 2 alone."""
    for match in _percent_in_prose().finditer(prose) if prose.strip() else ():
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


def _facts(name: str, text: str, subtitle: str, numbers: ReadNumbers) -> dict[str, object]:
    """Measure, currency, pair and base period as stated in words."""
    facts: dict[str, object] = {}
    pair = _pair(text)
    if pair:
        return {"measure": "quote", "unit": "/".join(pair)}
    base_period = _BASE.search(text)
    if base_period:
        return {"measure": "index", "unit": "index", "base_period": base_period[1]}
    measure = next((m for pattern, m in _MEASURES if pattern.search(text)), "") or _MEASURE_OF.get(
        role_of(name), ""
    )
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
    codes = [c for c in (*_CODE_ALONE.findall(subtitle), *_CURRENCY_CODE.findall(text)) if c not in _NO_CURRENCY]
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
