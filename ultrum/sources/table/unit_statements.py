"""Statements in the words of a file: units, currency, seasonal adjustment, base period and maturity.

A statement is a word for percent, basis points, a currency or a multiple, in a line such as ``Unit: %``, in a
title such as "Output, millions of QML", or in a column of units. Each one reaches the unit of a column or the
list of what was not used.
"""

from __future__ import annotations

import json
import re
import textwrap
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cache, lru_cache
from pathlib import Path
from typing import Final, Literal

import numpy as np

from ultrum.core.array_types import Array
from ultrum.core.currency.exchange_rates import ISO_4217, is_currency
from ultrum.sources.table.dates_in_words import base_periods
from ultrum.sources.table.header_line import CLAUSE

Kind = Literal[
    "percent",
    "basis points",
    "currency",
    "multiple",
    "other unit",
    "seasonal adjustment",
    "base period",
    "maturity",
    "timing",
    "income",
    "log returns",
    "excess return",
    "cumulation",
    "annual rate",
    "quotation",
    "moving base",
    "change over a period",
    "price basis",
    "costs or hedging",
]
_OF_UNITS: Final = ("percent", "basis points", "currency", "multiple", "other unit")
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
    12: r"trillions?\.?|兆|조|万亿|萬億",
    3: r"thousands?\.?|thous\.?|tsd\.?|milliers?|miles|migliaia|tusen\w*|t[yi]s\.?|тыс\.?|千|천|k(?=[€£]|XXX)",
    5: r"lakhs?",
    6: r"millions?\.?|mill\.?|mn\.?|mio\.?|miljo\w+|mln\.?|млн\.?|百万|百萬|백만|m(?=[€£]|XXX)",
    7: r"crores?|千万|千萬|천만",
    9: r"billions?\.?|bn\.?|mrd\.?|miljard\w*|mld\.?|mds?\.?|mia\.|млрд\.?|十億|十亿|십억",
    8: r"億|亿|억",
    4: r"万|萬|만",
}
SCALE: Final = "|".join(f"(?P<e{power}>{words})" for power, words in _SCALES.items())
_SIGNS: Final = (
    "€ EUR £ GBP zł PLN Kč CZK Ft HUF лв BGN ₽ RUB ₹ INR ₺ TRY TL TRY ₴ UAH ₪ ILS ₫ VND ₩ KRW 원 KRW ฿ THB "
    "₸ KZT ₼ AZN ₾ GEL 円 JPY 元 XXX kr XXX Rs XXX"
)
SIGNS: Final = dict(zip(_SIGNS.split()[::2], _SIGNS.split()[1::2], strict=True))
_CODE: Final = rf"(?:[A-Z]{{3}}|GBp|ZAc|{'|'.join(SIGNS)})"
_SCALED_MONEY: Final = rf"(?:(?i:{SCALE})\s*(?:of|de|di|in|d')?\s*)?(?P<code>{_CODE})"
CURRENCY_NAMES: Final = Path(__file__).with_name("currency_names.json")
UNKNOWN_CURRENCY: Final = "XXX"  # of ISO 4217: a currency that is stated, but could be several
_FURTHER_NAMES: Final = {
    "USD": "долл._сша us$ u.s.$ us-$ u.s._dollar u.s._dollars american_dollars",
    "CAD": "c$ ca$ cdn$",
    "AUD": "a$ au$",
    "NZD": "nz$",
    "HKD": "hk$",
    "SGD": "s$ sg$",
    "TWD": "nt$",
    "BRL": "r$ reais",
    "RUB": "руб рубль рубли рублей рублях",
    "MXN": "mx$ mex$",
    "GBP": "sterling pound_sterling pounds_sterling",
    "JPY": "yen",
    "CNY": "renminbi rmb yuan",
    "GBX": "pence pence_sterling new_pence british_pence",
    "USX": "us_cents us_cent u.s._cents us-cents us-cent",
    "EUX": "eurocents eurocent euro_cents euro_cent euro-cent euro-cents",
    UNKNOWN_CURRENCY: "$ dollar dollars pounds francs pesos kronor kroner rupees 달러 रुपये",
}
_IN_HUNDREDTHS: Final = {"GBX": "GBP", "GBp": "GBP", "USX": "USD", "ZAC": "ZAR", "ZAc": "ZAR", "EUX": "EUR"}
_IN_A_CURRENCY: Final = re.compile(r"(?:,|\s(?:in|en|em|i|v|w|au|på)|)\s+[(\[]?(?:[A-Z]{3}|GBp|ZAc)[)\]]?\s*$")
_BARE_CURRENCY: Final = re.compile(r"(\w*[^\W\d_]{2}.*) ([A-Z]{3}|GBp|ZAc)\s*")
_EXCHANGE: Final = re.compile(
    r"exchange|forex|\bfx\b|wechsel|devisen|sorten|change|cambi|koers|kurz|курс|валют", re.IGNORECASE
)
_NAME_PART: Final = re.compile(r"(?:[^\W\d_]+(?:[.'’-](?=[^\W\d_$]))*)*(?:[^\W\d_]|\$)")
_WITHOUT_SPACES: Final = re.compile(r"[\u0900-\u0eff\u3040-\u30ff\u4e00-\u9fff\uac00-\ud7af]")
_LABELLED: Final = re.compile(r"(?P<label>[^\W\d_][^:=,;\n]{0,40}?)\s*[:：=]\s*(?P<value>[^\n]+?)\s*[.;]?")
_LABEL_OF_CURRENCY: Final = (
    r"currency|ccy|währung|devise|monnaie|moneda|divisa|valuta|moeda|munt|valuutta|waluta|měna|mena|валюта"
    r"|νόμισμα|para birimi|通貨|货币|통화"
)
CURRENCY_LABELS: Final = re.compile(_LABEL_OF_CURRENCY, re.IGNORECASE)
LABELS: Final = re.compile(  # of a line whose value stands in the next cell
    r"units?|unit[ _]of[ _]measure|unit_measure|einheit|unité|unidad|unità|unidade|eenheid|enhet|enhed|yksikkö"
    r"|jednostka|jednotka|enota|jedinica|mértékegység|unitate|единица|одиниця|мерна единица|μονάδα|birim|単位"
    rf"|单位|단위|{_LABEL_OF_CURRENCY}",
    re.IGNORECASE,
)
MULTIPLIER: Final = re.compile(
    r"unit[ _]?mult(?:iplier)?|multiplier|magnitude|scale|power[ _]?code", re.IGNORECASE
)
SETTLED: Final = ("unit", "units", "definition", "base", "basis", "base_period", "method")
_SPANISH: Final = re.compile(
    r"\b(?:unidad\w*|en|de|del|moneda|divisa)\b", re.IGNORECASE
)  # where miles are thousands
_OTHER_LABEL: Final = re.compile(r"(base|quote|from|to|counter)\b", re.IGNORECASE)
_BEFORE: Final = (
    r"(?i:\b(?:in|en|em|i|v|w|u|na|im|au|på|as|σε|в|у|з|от)\s+|[(（,;:：–—]\s*|\b(?:units?|are|is)\s+)"
)
_END: Final = r"(?=\s*(?:$|[)）.。,;:：–—]|unless|except|sofern|sauf|salvo))"
_AFTER: Final = (
    r"(?=\s*(?:$|[)）.。,;:：–—]|p\.?\s?a\b|per\b|pro\b|par\b|por\b|a year|a month|change|growth|points?"
    r"|of\b|van\b|der\b|des\b|du\b|del?\b|d[ao]\b|av\b|af\b"
    r"|unless|except|sofern|sauf|salvo))"
)
NOT_MONEY: Final = re.compile(
    r"\b(volume|vol|shares|units|number|counts?|quantity|trades|contracts|open interest|persons?|population"
    r"|births|stück\w*|volumen|anzahl|nombre|volym|antal|wolumen|liczba|объем|количество|出来高|成交量)\b",
    re.IGNORECASE,
)


@cache  # long patterns take milliseconds to compile, and most files need none
def _value_patterns() -> Sequence[tuple[Kind, re.Pattern[str]]]:
    return (
        ("percent", re.compile(rf"(?:in |en |em )?{_PERCENT}(?:[ ,;].*)?", re.IGNORECASE)),
        ("basis points", re.compile(_POINTS, re.IGNORECASE)),
        ("currency", re.compile(rf"(?i:in |en |em )?{_SCALED_MONEY}")),
        ("currency", re.compile(rf"(?P<code>{_CODE})[ ,]*(?i:{SCALE})")),
        ("multiple", re.compile(rf"(?:in |en |em |w )?(?:{SCALE})", re.IGNORECASE)),
    )


@cache
def _title_patterns() -> Sequence[tuple[Kind, re.Pattern[str]]]:
    return (
        ("percent", re.compile(rf"{_BEFORE}{_PERCENT}{_AFTER}|(?:^|[.!]\s+){_PERCENT}{_AFTER}", re.IGNORECASE)),
        ("basis points", re.compile(rf"{_BEFORE}{_POINTS}", re.IGNORECASE)),
        ("currency", re.compile(rf"{_BEFORE}{_SCALED_MONEY}(?:{_END}|(?=\s*(?:/|per\b)))")),
        ("currency", re.compile(rf"(?:^|{_BEFORE})(?P<code>{_CODE})[ ,]*(?i:{SCALE}){_END}")),
        ("multiple", re.compile(rf"{_BEFORE}(?:{SCALE}){_AFTER}", re.IGNORECASE)),
    )


@cache
def any_percent_word() -> re.Pattern[str]:
    """Pattern of a percent sign or a word for percent."""
    return re.compile(_PERCENT, re.IGNORECASE)


_ADJUSTMENTS: Final = {  # words for seasonally adjusted and unadjusted data, by the code in the metadata
    "N": r"(?:not|non)[ -]season(?:ally)?[ -]adjusted|season(?:ally)? unadjusted|\(NSA\)|[,;] ?NSA\b"
    r"|nicht saisonbereinigt|donn[ée]es brutes|non corrig\w+ des variations saisonni[èe]res"
    r"|sin desestacionalizar|non destagionalizzat\w+|sem ajust\w+ sazonal|niet gecorrigeerd voor seizoen\w*"
    r"|ej säsongsrensa\w*|niewyrównan\w+ sezonowo",
    "Y": r"(?:seasonally and (?:calendar|working[- ]day)|(?:calendar|working[- ]day) and seasonally)[ -]adjusted"
    r"|kalender- und saisonbereinigt|saison- und kalenderbereinigt|\(CVS[- ]CJO\)|données CVS[- ]CJO",
    "W": r"(?:working|trading)[- ]day[ -]adjusted|kalenderbereinigt",
    "S": r"season(?:ally)?[ -]adjusted|\(SAA?R?\)|saisonbereinigt|corrig\w+ des variations saisonni[èe]res"
    r"|\(CVS\)|données CVS|desestacionalizad\w+|ajustad\w+ estacionalmente|destagionalizzat\w+"
    r"|dessazonalizad\w+|ajust\w+ sazonal\w*|sei[sz]oen[s]?gecorrigeerd|säsongs?rensa\w+|sesongjuster\w+"
    r"|sæsonkorrigere\w+|kausitasoit\w+|wyrównan\w+ sezonowo|odsezonowan\w+|sezónně očištěn\w+|季節調整済\w*"
    r"|季节调整|계절조정",
}
_PART: Final = r"(?:period|month|quarter|year|week)"
_DESCRIPTIONS: Final[tuple[tuple[Kind, str, str], ...]] = (  # kind, value in the metadata, words
    (
        "timing",
        "end",
        rf"end[- ]of[- ](?:the[- ])?{_PART}|(?<!fiscal )(?<!financial )\b{_PART}[- ]end\b"
        r"|(?:perioden|monats|jahres)end\w*"
        r"|fin de (?:la )?(?:période|mois)|(?:fin|final) del? (?:per[ií]odo|mes)"
        r"|fine (?:periodo|mese)|fim de período",
    ),
    (
        "timing",
        "average",
        r"\b(?:period|daily|weekly|monthly|quarterly|annual|yearly) averages?\b"
        r"(?! (?:volume|turnover|trad\w+|returns?|value|equal))"
        rf"|\baverages? (?:of|over) (?:daily|weekly|the {_PART})\b|\(average\)"
        r"|(?:perioden|monats|jahres)durchschnitt\w*"
        r"|moyennes? (?:mensuelles?|annuelles?|de la période)"
        r"|(?:promedios?|medi[ae]s?) (?:mensual|mensil|anual)\w*",
    ),
    ("income", "total", r"total[- ]returns?\b|dividends? reinvested|performance[- ]?index"),
    ("income", "price", r"\bprice[- ]return|\bex(?:cluding)?[- ]dividends?|kursindex"),
    ("log returns", "", r"\blog(?:arithmic)?[- ]?returns?\b|log-?renditen|rendements? logarithm\w*"),
    ("quotation", "continuous", r"continuously[- ]compounded|stetig\w* (?:verzins\w*|rendite\w*)"),
    ("quotation", "bond-equivalent", r"\bbond[- ]equivalent|\bsemi-?annual(?:ly)?[- ]compound\w*"),
    ("quotation", "discount", r"\bbank[- ]discount|\bdiscount (?:basis|yields?)\b"),
    ("quotation", "effective", r"\beffective annual\b|\bannually[- ]compounded|\bannual compounding"),
    ("quotation", "simple", r"\bsimple (?:interest|yields?)\b"),
    ("excess return", "", r"\bexcess returns?\b|in excess of (?:the |a )?\w+|en excès d\w+|überrendite\w*"),
    (
        "cumulation",
        "",
        r"\bcumulative (?:from|since|over)|\b(?:year[- ]to[- ]date|YTD)\b(?!(?:\W+\w+){0,2}\W*\d[\d.,]* ?%)"
        r"|kumuliert\w*"
        r"|since the (?:start|beginning) of the year|cumulée?s? depuis|acumulad\w+ (?:en|del|desde) ",
    ),
    (
        "annual rate",
        "",
        r"\bannual(?:i[sz]ed)? rates?\b|\(SAAR\)|hochgerechnet\w*"
        r"|\bannuali[sz]ed\b(?! (?:returns?|volatil|standard|st|risk|performance|rate))",
    ),
    (
        "moving base",
        "",
        r"\b(?:previous|preceding|prior|corresponding)\b[^.;()]{0,40}= ?100\b"
        r"|\bvor(?:jahr|monat|quartal)\w* ?= ?100\b|\bpr[ée]c[ée]dente? ?= ?100\b|\banterior ?= ?100\b",
    ),
    (
        "change over a period",
        "",
        rf"\b(?:change|growth|increase)\b[^.;]{{0,40}}\b{_PART}\b[^.;]{{0,10}}\b(?:before|earlier|ago)\b"
        rf"|\b{_PART}[- ](?:on|over)[- ]{_PART}\b|\bgegenüber (?:dem )?(?:vorjahr|vormonat|vorquartal)"
        r"|glissement annuel|variation (?:sur un an|annuelle)|(?:tasa|variación) (?:inter)?anual"
        r"|variazione tendenziale",
    ),
    (
        "price basis",
        "",
        r"\b(?:constant|fixed|current|nominal|(?:19|20)\d\d)(?: (?:19|20)\d\d)? prices\b"
        r"|\bchain(?:ed|[- ]linked)\b|\bin real terms\b|\binflation[- ]adjusted\b|preisbereinigt"
        r"|prix (?:constants|courants)|precios (?:constantes|corrientes)|prezzi (?:costanti|correnti)",
    ),
    (
        "costs or hedging",
        "",
        r"\b(?:net|gross|before|after) (?:of )?(?:fees|costs|withholding tax\w*)"
        r"|\b(?:currency[- ])?(?:un)?hedged\b",
    ),
)
_TENORS: Final = {
    word: number
    for number, words in enumerate(
        ("one 1", "two 2", "three 3", "four 4", "five 5", "six 6", "seven 7", "eight 8", "nine 9", "ten 10"), 1
    )
    for word in words.split()
} | {"twelve": 12, "twenty": 20, "thirty": 30}
_TENOR: Final = re.compile(
    rf"\b({'|'.join(_TENORS)}|1[1-9]|[2-9]\d|1\d\d)[- ](day|week|month|year)s?\b", re.IGNORECASE
)
_OF_DEBT: Final = re.compile(
    r"\b(?:bills?|bonds?|notes?|treasur\w+|yields?|rates?|swaps?|deposits?|mortgages?|paper|loans?|money)\b",
    re.IGNORECASE,
)


@cache
def _currency_names() -> tuple[Mapping[str, str], Mapping[str, int], Mapping[str, str]]:
    """Code of each name, or English word of a multiple; the most parts of a name by first word; names in one."""
    names = {n: code for code, held in json.loads(CURRENCY_NAMES.read_text("utf-8")).items() for n in held}
    for code, further in _FURTHER_NAMES.items():
        names |= {name.replace("_", " "): code for name in further.split()}
    longest: dict[str, int] = {}
    for name in names:
        parts = _NAME_PART.findall(name)
        if parts:
            longest[parts[0]] = max(longest.get(parts[0], 0), len(parts))
    joined = {n: c for n, c in sorted(names.items(), key=lambda item: -len(item[0])) if _WITHOUT_SPACES.search(n)}
    return names, longest, joined


@lru_cache(maxsize=4096)  # the heading of a column is asked for its unit, measure and currency
def with_currency_codes(text: str) -> str:
    """The text with codes in place of the names of currencies; :data:`UNKNOWN_CURRENCY` for one of several.

    Examples
    --------
    >>> with_currency_codes("Prices in US dollars"), with_currency_codes("Kurs (Schweizer Franken)")
    ('Prices in USD', 'Kurs (CHF)')
    >>> with_currency_codes("Billions of dollars"), with_currency_codes("Close, pence")
    ('Billions of XXX', 'Close, GBX')
    """
    names, longest, joined = _currency_names()
    if _WITHOUT_SPACES.search(text):
        for name, code in joined.items():
            text = text.replace(name, code)
    parts = list(_NAME_PART.finditer(text))
    whole, done = [], 0
    for place, part in enumerate(parts):
        if part.start() < done:
            continue
        for count in range(min(longest.get(part[0].lower(), 0), len(parts) - place), 0, -1):
            end = parts[place + count - 1].end()
            named = " ".join(text[part.start() : end].lower().split())
            if named in names:
                whole += [text[done : part.start()], names[named]]
                done = end
                break
    return "".join([*whole, text[done:]])


def currency_and_power(text: str) -> tuple[str, int]:
    """Code of the currency that a whole text names, and the power of ten of its unit; no code if it names none.

    Examples
    --------
    >>> currency_and_power("EUR"), currency_and_power("GBp"), currency_and_power("US cents")
    (('EUR', 0), ('GBP', -2), ('USD', -2))
    >>> currency_and_power("shells"), currency_and_power("dollars")
    (('', 0), ('', 0))
    """
    code = with_currency_codes(text.strip())
    if code in _IN_HUNDREDTHS:
        return _IN_HUNDREDTHS[code], -2
    code = SIGNS.get(code, code)
    return (code, 0) if is_currency(code) else ("", 0)


def bare_currencies(headings: Iterable[str], around: str) -> dict[str, str]:
    """The code with which a heading ends without a word, such as "Close EUR", in parentheses, by heading.

    None where they end with different codes, which then are names, nor beside words about exchange rates.

    Examples
    --------
    >>> bare_currencies(["Close EUR", "Volume"], ""), bare_currencies(["Close EUR", "Close JPY"], "")
    ({'Close EUR': ' (EUR)'}, {})
    """
    ends = {name: _BARE_CURRENCY.fullmatch(with_currency_codes(name)) for name in headings}
    codes = {n: m[2] for n, m in ends.items() if m and not any(map(is_currency, m[1].split()))}  # else a pair
    alone = len(set(codes.values())) == 1 and not _EXCHANGE.search(around)
    known = currency_and_power(next(iter(codes.values()), ""))[0] not in ("", "ALL")
    return {name: f" ({code})" for name, code in codes.items()} if alone and known else {}


def without_currency(heading: str) -> str:
    """A heading without the currency at its end.

    Examples
    --------
    >>> without_currency("Schlusskurs in Euro"), without_currency("Dividends (GBp)"), without_currency("Close")
    ('Schlusskurs', 'Dividends', 'Close')
    """
    return _IN_A_CURRENCY.sub("", with_currency_codes(heading)) if " " in heading else heading


def in_currency_codes(heading: str, cells: Array) -> Array:
    """A column of currencies with codes in place of names and of hundredths, by which amounts are divided."""
    if cells.dtype.kind != "O" or not CURRENCY_LABELS.fullmatch(heading.strip()):
        return cells
    codes = {c: currency_and_power(c)[0] or c for c in set(cells.tolist()) if isinstance(c, str)}
    return np.array([codes.get(c, c) for c in cells.tolist()], dtype=object)


@dataclass(frozen=True)
class Statement:
    """A statement about units in the words of a file.

    Attributes
    ----------
    kind : str
    value : str
        Code of a currency, base period, maturity, or code of seasonal adjustment.
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

    @property
    def is_of_units(self) -> bool:
        """Whether the numbers depend on it."""
        return self.kind in _OF_UNITS

    @property
    def named(self) -> str:
        """The kind, with the base period or maturity."""
        if self.kind == "other unit":
            return "unit"
        return f"{self.kind} {self.value}" if self.kind in ("base period", "maturity") else self.kind

    @property
    def unit_in_words(self) -> str:
        """Unit of the numbers: QML, percent, multiplied by 1,000."""
        name = self.value or ("" if self.power else self.kind)
        return f"{name} multiplied by {multiple_in_words(self.power)}".strip() if self.power else name

    def __str__(self) -> str:
        where = self.column or (f"line {self.line}" if self.line else "below the table")
        return f"'{textwrap.shorten(self.text, 40, placeholder=' …')}', {where}"


def multiple_in_words(power: int) -> str:
    """A power of ten in digits.

    Examples
    --------
    >>> multiple_in_words(6), multiple_in_words(-2)
    ('1,000,000', '0.01')
    """
    return f"{10**power:,}" if power >= 0 else f"{10.0**power:g}"


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
    bare = with_currency_codes(text).strip().strip("()[]").strip()
    for kind, pattern in _value_patterns():
        match = pattern.fullmatch(bare)
        made = _statement(kind, match, text, 0) if match else None
        if made is not None:
            return made
    return None


def _of_line(written: str, number: int) -> Iterator[Statement]:
    if not written:
        return
    line = with_currency_codes(written)
    labelled = _LABELLED.fullmatch(line)
    label, value = (labelled["label"], labelled["value"]) if labelled else ("", "")
    if not labelled and ", " in line:
        label, value = line.split(", ", 1)
        label = label if LABELS.fullmatch(label.strip().rstrip(":")) else ""
    stated = _whole_statement(label, value if label else line)
    if stated is not None and _OTHER_LABEL.match(label):
        return
    if stated is not None:
        yield Statement(stated.kind, written, number, stated.value, stated.power, labelled=bool(label))
        return
    of_units = False
    for kind, pattern in _title_patterns():
        for match in pattern.finditer(line):
            start = match.start() + len(match[0]) - len(match[0].lstrip(" \t,;(["))
            made = None if _after_number(line, start) else _statement(kind, match, written, number)
            if made is not None:
                of_units = True
                yield made
    others = list(_descriptions(written, number))
    yield from others
    if not of_units and not others and LABELS.fullmatch(label.strip()):
        yield Statement("other unit", written, number, labelled=True)


def _whole_statement(label: str, text: str) -> Statement | None:
    """The statement of a whole text; without a label only an amount in words, as a code can be a title."""
    stated = statement_of(text)
    if stated is None or label:
        return stated
    return stated if stated.kind in ("currency", "multiple") and stated.power else None


def _descriptions(line: str, number: int) -> Iterator[Statement]:
    """Statements on which no unit depends: seasonal adjustment, base period, maturity, timing and others."""
    rest = line
    for code, pattern in _adjustment_patterns():
        rest, count = pattern.subn(" ", rest)
        if count:
            yield Statement("seasonal adjustment", line, number, code)
    for kind, value, pattern in _description_patterns():
        if pattern.search(line):
            yield Statement(kind, line, number, value)
    for clause in CLAUSE.split(line):
        for period in base_periods(clause, of_an_index=False):
            yield Statement("base period", clause, number, period)
        for match in _TENOR.finditer(clause) if _OF_DEBT.search(clause) else ():
            count = _TENORS.get(match[1].lower()) or int(match[1])
            yield Statement("maturity", clause, number, f"P{count}{match[2][0].upper()}")


@cache
def _adjustment_patterns() -> Sequence[tuple[str, re.Pattern[str]]]:
    return [(code, re.compile(words, re.IGNORECASE)) for code, words in _ADJUSTMENTS.items()]


@cache
def _description_patterns() -> Sequence[tuple[Kind, str, re.Pattern[str]]]:
    return [(kind, value, re.compile(words, re.IGNORECASE)) for kind, value, words in _DESCRIPTIONS]


def _statement(kind: Kind, match: re.Match[str], text: str, line: int) -> Statement | None:
    groups = match.groupdict()
    power = next((int(k[1:]) for k, v in groups.items() if v and k.startswith("e")), 0)
    code = SIGNS.get(groups.get("code") or "", groups.get("code") or "")
    if kind == "multiple" and (groups.get("e3") or "").lower() == "miles" and not _SPANISH.search(text):
        return None
    if code in _IN_HUNDREDTHS:
        code, power = _IN_HUNDREDTHS[code], power - 2
    known = code in ISO_4217 or (is_currency(code) and not code.startswith("X"))
    if kind == "currency" and not known and code != UNKNOWN_CURRENCY:
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
