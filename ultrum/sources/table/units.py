"""Units of columns: percent or decimals, index, price, currency.

Every column gets a unit and a reason; numbers of a column without any sign of a unit are unchanged, and this is
reported.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from pathlib import Path
from typing import Final

import numpy as np

from ultrum.core.arguments import LARGEST_RATE
from ultrum.core.currency.exchange_rates import is_currency, pair_in
from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import RISK_FREE_HEADINGS, is_excess_heading, plain_heading
from ultrum.errors import TableError, name_list
from ultrum.sources.table.dates_in_words import base_periods, tenor_of
from ultrum.sources.table.number_formats_and_date_words import ReadNumbers
from ultrum.sources.table.unit_statements import (
    NOT_MONEY,
    PERCENT_WORD,
    SIGNS,
    UNKNOWN_CURRENCY,
    Kind,
    Statement,
    any_percent_word,
    currency_and_power,
    is_annual,
    multiple_in_words,
    of_kind,
    statement_of,
    statements_in,
    with_currency_codes,
    without_currency,
)

_WORDS: Final = Path(__file__).with_name("column_words.json")


@cache
def _roles() -> Mapping[str, str]:
    table = json.loads(_WORDS.read_text(encoding="utf-8"))
    return {word: role for role, words in table.items() for word in words}


def role_of(heading: str) -> str:
    """What a column of a price table has, by its heading; empty if the words are not known.

    Examples
    --------
    >>> role_of("Schlusskurs"), role_of("出来高"), role_of("Adj Close"), role_of("KELP")
    ('close', 'volume', 'adjusted close', '')
    >>> role_of("Schlusskurs in Euro"), role_of("Cours (CHF)")
    ('close', 'close')
    """
    roles = _roles()
    return roles.get(plain_heading(heading)) or roles.get(plain_heading(without_currency(heading)), "")


# Units of columns: percent or decimals, index, price, currency

PERCENT, DECIMAL = "percent", "decimal"
_SHARE: Final = re.compile(r"decimal|ratio|fraction", re.IGNORECASE)
GIVEN: Final = (PERCENT, DECIMAL, "index", "count", "currency", "as written")
_WORD: Final = PERCENT_WORD
_IN_WORDS: Final = {"multiple": "a multiple", "currency": "a currency", "basis points": "basis points"}
_NEVER_PERCENT: Final = ("price", "flow", "index", "stock")
_PAIR: Final = re.compile(r"\b([A-Z]{3}) ?(?:/|per) ?(?:one )?([A-Z]{3})\b")
_AFTER_UNIT: Final = r"(?=\s*(?:$|[)\],;]|mn|bn|million|billion|thousand|th\b|per|an? ))"
_CURRENCY_CODE: Final = re.compile(r"[(\[,;:]\s*([A-Z]{3})" + _AFTER_UNIT)
_CODE_ALONE: Final = re.compile(r"(?:^|[(\[,;:]\s*)([A-Z]{3})" + _AFTER_UNIT)
_SIGNS: Final = {**SIGNS, "¥": "JPY"}
_IN_DECIMALS: Final = re.compile(
    r"(?:^|[(,;:]\s*)(?:in |as )?(?:decimals?|decimal fractions?|fractions?)\s*(?:$|[),;])", re.IGNORECASE
)
_NO_CURRENCY: Final = frozenset(  # words of three capitals that headings put in brackets
    [
        *("NSA", "SAA", "YOY", "QOQ", "MOM", "AVG", "EOP", "SUM", "MIN", "MAX", "CPI", "PPI", "GDP"),
        *("GNP", "ALL", "TOT", "NET", "END", "MTD", "YTD", "PCT", "IDX", "VOL"),
    ]
)
_MEASURES: Final = (
    (re.compile(r"\b(open interest)\b", re.IGNORECASE), "stock"),
    (
        re.compile(r"\w\s+(?:index|indices)\b(?! (?:close|open|high|low|returns?|growth|change))", re.IGNORECASE),
        "index",
    ),
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
    in_cells = statement_of(numbers.currency) if numbers.currency else None
    beside = (statement_of(subtitle), in_cells if in_cells and in_cells.value == UNKNOWN_CURRENCY else None)
    heading = (*statements_in(f"{name}\n{title}", ""), *filter(None, beside))
    if finding.percent and given is None:
        percent = of_kind(stated, "percent")
        rate = is_annual(name, title, subtitle, *(s.text for s in percent)) and _is_open(finding)
        facts = {**finding.facts, "measure": "rate"} if rate else finding.facts
        finding = replace(finding, facts=facts, used=tuple(percent))
    elif given is not None:
        finding = replace(finding, used=tuple(s for s in stated if s.is_of_units))
    else:
        finding = _with_statements(finding, name, heading, stated, where)
    return _with_descriptions(finding, name, heading, stated)


def can_have(given: str, name: str, title: str, unit_cell: str) -> bool:
    """Whether a column can have a unit given for all columns: amounts are no shares, and counts no money."""
    if given in (PERCENT, DECIMAL):
        if unit_cell and not _SHARE.search(unit_cell) and not any_percent_word().search(unit_cell):
            return False
        return not any(s.kind in ("currency", "multiple") for s in statements_in(f"{name}\n{title}", ""))
    return not currency_and_power(given)[0] or not (NOT_MONEY.search(name) or role_of(name) == "volume")


def _with_descriptions(
    finding: UnitFinding, name: str, heading: Sequence[Statement], stated: Sequence[Statement]
) -> UnitFinding:
    """The unit with what heading or file state beside it: base period, maturity, timing and others."""
    facts, used = dict(finding.facts), list(finding.used)
    adjustment = _single(heading, stated, "seasonal adjustment")
    if adjustment is not None:
        facts["seasonal_adjustment"] = adjustment.value
        used += [s for s in of_kind(stated, "seasonal adjustment") if s.value == adjustment.value]
    base = _single(heading, stated, "base period")
    is_index = facts.get("measure", "") in ("", "index", "price") and facts.get("unit", "index") == "index"
    stated_as_index = base is not None and (facts.get("unit") == "index" or base_periods(base.text))
    if base is not None and is_index and stated_as_index and not finding.percent:
        facts |= {"base_period": base.value, "measure": "index", "unit": "index"}
        used += [s for s in of_kind(stated, "base period") if s.value == base.value]
    maturity = _single(heading, stated, "maturity")
    years = maturity.value if maturity is not None else tenor_of(name)
    if years and facts.get("measure") == "rate":
        facts["maturity"] = years
        used += [s for s in of_kind(stated, "maturity") if s.value == years]
    is_share = finding.percent or facts.get("unit") == DECIMAL
    facts, words, taken = described_facts(facts, name, is_share, heading, stated)
    used += taken
    changed = facts.get("base_period") != finding.facts.get("base_period") and finding.certainty == "not stated"
    finding = replace(finding, facts=facts, used=tuple(dict.fromkeys(used)))
    if changed:
        finding = replace(finding, chosen=_words(facts), certainty="stated", alternatives="")
    chosen = finding.chosen if "measure" in facts else finding.chosen.removeprefix("flow, ")
    return replace(finding, chosen=", ".join([chosen, *words])) if words else finding


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
    if len({currency_and_power(sign)[0] or sign for sign in numbers.currencies}) > 1:
        raise TableError(
            f"{where}: '{name}' has amounts in {name_list(numbers.currencies)}. Split the column, or leave the "
            f"currencies out with units={{'{name}': 'as written'}}."
        )
    in_cells = _cell_signs(numbers, facts, f"{where}: ", name, count)
    if in_cells is not None:
        return in_cells
    in_heading = _share_in_heading(name, title, subtitle, facts, of_kind(stated, "percent"), where)
    if in_heading is not None:
        return in_heading
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


def _share_in_heading(
    name: str, title: str, subtitle: str, facts: Mapping[str, object], percent: Sequence[Statement], where: str
) -> UnitFinding | None:
    """Percent or decimals by the words of the heading, which the file must not contradict."""
    facts = {**facts, "unit": DECIMAL}
    if _IN_DECIMALS.search(f"{name} {title}") or _IN_DECIMALS.fullmatch(subtitle.strip()):
        if percent:
            raise TableError(
                f"{where}: {percent[0]} states percent, and the heading of '{name}' decimals: they contradict "
                f"each other. Set units={{'{name}': 'decimal'}} or units={{'{name}': 'percent'}}."
            )
        return UnitFinding(False, facts, DECIMAL, PERCENT, "from the heading")
    if any_percent_word().search(f"{subtitle}\n{name} {title}"):
        return UnitFinding(True, facts, PERCENT, DECIMAL, "from the heading")
    return None


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
            raise TableError(
                f"{where}{signs}, and the others have none. Set units={{'{name}': 'percent'}} or "
                f"units={{'{name}': 'decimal'}}."
            )
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
    if money is not None and money.value == UNKNOWN_CURRENCY and "currency" not in facts:
        words.append("no single currency named")
    elif money is not None and "currency" not in facts:
        of_returns = _OF_RETURNS.search(money.text) is not None and not money.power
        facts |= {"currency": money.value} if of_returns else {"unit": "currency", "currency": money.value}
        words.append(f"{'returns in ' if of_returns else ''}{money.value}")
    power = multiple.power if multiple is not None else 0
    if power:
        facts["scale"] = power
        words.append(f"multiplied by {multiple_in_words(power)}")
    if not words:
        return finding
    used = tuple(s for s in (money, multiple) if s is not None)
    used += tuple(s for s in of_kind(stated, "multiple") if s.power == power and s.text == used[0].text)
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
    own = finding.facts.get("currency")
    near = _single(heading, (), "currency")
    if NOT_MONEY.search(name):
        return near
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
    return bool(len(valid)) and float(np.median(np.abs(valid))) > LARGEST_RATE


def _as_option(given: str, facts: Mapping[str, object], where: str) -> UnitFinding:
    codes = re.fullmatch(r"([A-Z]{3})(?:/([A-Z]{3}))?", given)
    currency, power = currency_and_power(given)
    if power:
        found = {**facts, "unit": "currency", "currency": currency, "scale": power}
        return UnitFinding(
            False, found, f"{currency}, multiplied by {multiple_in_words(power)}", "", "given", factor=10.0**power
        )
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


_OF_RETURNS: Final = re.compile(r"\breturns? in [A-Z]{3}\b")
_ADJUSTED: Final = re.compile(
    r"\badj(?:usted)?\.?[ _-]?(?:close|closing|price)|\b(?:close|price)s?[ _-]?\(?adj", re.IGNORECASE
)


def _facts(name: str, text: str, subtitle: str, numbers: ReadNumbers) -> dict[str, object]:
    """Measure, currency, pair and base period as stated in words."""
    facts: dict[str, object] = {}
    text, subtitle = with_currency_codes(text), with_currency_codes(subtitle)
    pair = _pair(text)
    if pair:
        return {"measure": "quote", "unit": "/".join(pair)}
    bases = base_periods(text)
    if bases:
        return {"measure": "index", "unit": "index", "base_period": bases[0]}
    measure = _measure_in(subtitle) or _measure_in(text) or _MEASURE_OF.get(role_of(name), "")
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


def _measure_in(text: str) -> str:
    return next((m for pattern, m in _MEASURES if pattern.search(text)), "")


def _pair(text: str) -> tuple[str, str] | None:
    """Base and quote currency of a heading: "QSR/QML" and "QML per QSR" both are QML per unit of QSR."""
    match = _PAIR.search(text)
    if match and is_currency(match[1]) and is_currency(match[2]):
        return (match[2], match[1]) if "per" in match[0] else (match[1], match[2])
    words = text.split()
    return pair_in(text) or next((p for w in words if len(w) >= 6 and (p := pair_in(w))), None)


def _currency(text: str, subtitle: str, numbers: ReadNumbers) -> str:
    sign = _SIGNS.get(numbers.currency) or currency_and_power(numbers.currency)[0]
    if sign:
        return sign
    codes = [c for c in (*_CODE_ALONE.findall(subtitle), *_CURRENCY_CODE.findall(text)) if c not in _NO_CURRENCY]
    return next((c for c in codes if is_currency(c)), "")


def _words(facts: Mapping[str, object]) -> str:
    unit = facts.get("unit", "")
    parts = [
        facts.get("measure", ""),
        unit if unit not in ("currency", facts.get("measure")) else "",
        facts.get("currency", ""),
    ]
    if "base_period" in facts:
        parts.append(f"{facts['base_period']} = 100")
    return ", ".join(str(p) for p in parts if p)


def described_facts(
    facts: Mapping[str, object],
    name: str,
    is_share: bool,
    heading: Sequence[Statement],
    stated: Sequence[Statement],
) -> tuple[dict[str, object], list[str], list[Statement]]:
    """Facts of a column with the timing, income and kind of return that are stated, new ones in words, and the
    statements used.

    Amounts that cumulate, or are at annual rates, are no flows, which would be summed. In a title that names a
    price and a total return index, a heading with "price" is of the first.
    """
    found, words, used = dict(facts), list[str](), list[Statement]()
    if is_share and found.get("measure") == "flow":
        del found["measure"]  # a share of exports is not summed
    measure = str(found.get("measure", ""))
    may_be_return = measure == "return" or (not measure and (is_share or "unit" not in facts))
    of_return = measure == "return" or (
        not measure and is_share and plain_heading(name) not in RISK_FREE_HEADINGS
    )
    takes: dict[Kind, bool] = {
        "timing": measure not in ("flow", "return", "log_return") and not of_return,
        "income": measure in ("price", "index", "return") or of_return,
        "log returns": may_be_return,
        "excess return": is_excess_heading(name),
        "annual rate": measure == "rate",
        "quotation": measure == "rate" or may_be_return,
    }
    for kind in _DESCRIBED:
        near, far = of_kind(heading, kind), of_kind(stated, kind)
        one = near[0] if near else far[0] if len({x.value for x in far}) == 1 else None
        if one is None or (not near and one.value == "total" and "price" in plain_heading(name).split()):
            continue
        if takes.get(kind, False) and (kind != "quotation" or measure == "rate" or one.value == "continuous"):
            used += [x for x in far if x.value == one.value]
            if kind in ("timing", "income"):
                found[kind] = one.value
                words.append(_TAKEN[one.value if kind == "timing" else f"{one.value} income"])
            elif kind == "quotation" and measure == "rate":
                found["quoted"] = one.value
                words.append(f"{one.value} quotation")
            elif kind in ("log returns", "quotation"):
                found["measure"] = "log_return"
                words.append("log returns")
        elif (kind in ("cumulation", "annual rate") and measure == "flow") or (kind, measure) == _CHAINED:
            del found["measure"]
            words.append(_TAKEN[kind])
            used += far
    return found, words, used


_DESCRIBED: Final[tuple[Kind, ...]] = (
    "timing",
    "income",
    "log returns",
    "excess return",
    "cumulation",
    "annual rate",
    "quotation",
    "moving base",
)
_CHAINED: Final = ("moving base", "index")
_TAKEN: Final = {
    "end": "end of period",
    "average": "average of the period",
    "total income": "with dividends",
    "price income": "without dividends",
    "cumulation": "cumulated, no flow",
    "annual rate": "at annual rates, no flow",
    "moving base": "relative to an earlier period, no level",
}
