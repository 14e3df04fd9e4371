"""Write words of the Unicode CLDR for the reader: `date_words.json` and `currency_names.json` in `ultrum/sources/table`.

The first has names of months, weekdays and quarters, the second names of currencies. Reading all languages from Babel
takes seconds, so the package has tables of the words.
"""

from __future__ import annotations

import json
import re
import unicodedata
from collections import defaultdict
from pathlib import Path

from babel import Locale

from ultrum.sources.table.number_formats_and_date_words import TOKEN, WORDS, compact, plain_text
from ultrum.sources.table.unit_statements import CURRENCY_NAMES, SCALE

_CODES = (
    "en de fr es it pt nl sv da nb nn fi is pl cs sk sl hr sr bs hu ro bg ru uk be mk el tr et lv lt sq ca eu gl "
    "cy ga mt lb af sw ja zh ko ar he fa ur hi bn ta th vi id ms fil kk az ka hy mn uz"
)
LANGUAGES = _CODES.split()
_FURTHER = {
    "mrz": ("de", 3),
    "maerz": ("de", 3),
    "jän": ("de", 1),
    "jänner": ("de", 1),
    "sept": ("en", 9),
    "set": ("es", 9),
}
_ALSO = {  # words before or after the day in running text
    **dict.fromkeys(("of", "the", "st", "nd", "rd", "th"), ("en",)),
    "den": ("de", "da", "sv", "nb"),
    "le": ("fr",),
    "er": ("fr",),
    "el": ("es", "ca"),
    "il": ("it",),
}
_CURRENCIES = (
    "USD EUR GBP JPY CHF CAD AUD NZD SEK NOK DKK ISK CNY HKD TWD SGD KRW INR BRL MXN ZAR PLN CZK HUF RON RUB TRY "
    "ILS THB IDR MYR PHP CLP COP DEM FRF ITL"
)
_OTHER_MEANINGS = {"real", "reali", "lei", "leu", "sol", "soli"}  # names of currencies that are also common words
_MULTIPLES = {3: "thousand", 5: "lakh", 6: "million", 7: "crore", 9: "billion", 12: "trillion"}
_NO_MULTIPLES = {"mille", "мил", "бил", "мян", "сая"}  # other words too
# of fewer than five Latin letters; "bill" and "min" are other words
_SHORT_MULTIPLES = {"ezer", "ribu", "juta", "milj", "hilj"}
FIELDS = ("year", "quarter", "month", "week", "day")
_CONTEXTS = ("format", "stand-alone")
_SKELETONS = ("yMMMM", "yMMMd", "yMMMMd", "yMMM", "yQQQ", "yQQQQ", "yMMMEd", "yMMMMEEEEd")


def words_of(code: str) -> dict[str, list]:
    """Words of dates in one language."""
    locale = Locale.parse(code)
    months = [_forms(locale.months, ("wide", "abbreviated"), n) for n in range(1, 13)]
    endings = _endings(locale)
    quarters = [_forms(locale.quarters, ("wide", "abbreviated"), n) for n in range(1, 5)]
    days = [f for n in range(7) for f in _forms(locale.days, ("wide", "abbreviated", "short"), n)]
    inflected = [[f"{f}{e}" for f in forms for e in endings] for forms in months]
    return {
        "months": months,
        "inflected": inflected,
        "quarters": quarters,
        "days": days,
        "others": _literals(locale),
    }


def fields_of(code: str) -> dict[str, set[str]]:
    """Words for year, quarter, month, week and day, as in the heading of a column."""
    data = Locale.parse(code)._data  # Babel has no public access to the names of units
    words: dict[str, set[str]] = {}
    for name in FIELDS:
        texts = [*data["unit_display_names"][f"duration-{name}"].values()]
        for width in data["unit_patterns"][f"duration-{name}"].values():
            texts += [p for key, p in width.items() if key in ("one", "few", "other") and isinstance(p, str)]
        held = data["date_fields"][name]
        both = [set(_words_in(held[when].get("one", ""))) for when in ("future", "past")]
        words[name] = {w for t in texts for w in [plain_text(t.replace("{0}", " "))] if " " not in w} | (
            both[0] & both[1]
        )
    return {name: {w for w in held if len(w) > 1 or not w.isascii()} for name, held in words.items()}


def _words_in(text: str) -> list[str]:
    return TOKEN.findall(plain_text(text.replace("{0}", " ")))


def _forms(names: dict, widths: tuple[str, ...], number: int) -> list[str]:
    forms = [
        plain_text(names[context][width][number])
        for context in _CONTEXTS
        for width in widths
        if width in names[context]
    ]
    return list(dict.fromkeys(f for f in forms if not f.isdigit()))


def _endings(locale: Locale) -> list[str]:
    """Endings that follow the name of a month without a space, as in Basque."""
    patterns = [locale.date_formats[n].pattern for n in ("full", "long", "medium")]
    found = [e for p in patterns for e in re.findall(r"[ML]{3,4}'([^\W\d_]+)'", p)]
    return list(dict.fromkeys(found))


def _literals(locale: Locale) -> list[str]:
    """Words between the parts of a date, such as "de" in Portuguese."""
    patterns = [locale.date_formats[n].pattern for n in ("full", "long", "medium")]
    patterns += [str(locale.datetime_skeletons[s]) for s in _SKELETONS if s in locale.datetime_skeletons]
    words: list[str] = []
    for pattern in patterns:
        quoted = re.findall(r"'([^']+)'", pattern)
        bare = re.sub(r"'[^']*'|[A-Za-z]+", " ", pattern)
        for text in (*quoted, bare):
            words += re.findall(r"[^\W\d_]+", plain_text(text))
    return sorted(set(words))


def text_of_words() -> str:
    """The content of the file."""
    months: dict[str, dict[str, int]] = defaultdict(dict)
    quarters: dict[str, dict[str, int]] = defaultdict(dict)
    shorter: list[tuple[str, str, int]] = []
    shared: set[tuple[str, str]] = set()
    others: dict[str, set[str]] = defaultdict(set, {word: set(codes) for word, codes in _ALSO.items()})
    fields: dict[str, set[str]] = defaultdict(set)
    for code in LANGUAGES:
        words = words_of(code)
        for name, held in fields_of(code).items():
            fields[name] |= held
        for number, forms in enumerate(words["months"], 1):
            for form in _written([*forms, *words["inflected"][number - 1]]):
                if months[form].setdefault(code, number) != number:
                    shared.add((form, code))
            for word in (t for f in forms for t in TOKEN.findall(f)[:-1]):
                others[word].add(code)  # the preposition, as in "de gener"
            shorter += [(form, code, number) for form in _shorter(forms, words["months"])]
        for number, forms in enumerate(words["quarters"], 1):
            for form in forms:
                quarters[compact(form)][code] = number
        for word in {t for day in words["days"] for t in TOKEN.findall(day)} | set(words["others"]):
            others[word].add(code)
    months = _without(shared, months)
    taken = set(months)
    for form, code, number in shorter:
        if form not in taken:
            months[form][code] = number
    for form, (code, number) in _FURTHER.items():
        months[form][code] = number
    lines = [f" {json.dumps(w, ensure_ascii=False)}: {json.dumps(held)}" for w, held in sorted(months.items())]
    of_quarters = [f" {json.dumps(w, ensure_ascii=False)}: {json.dumps(q)}" for w, q in sorted(quarters.items())]
    twice = {w for n in FIELDS for m in FIELDS if n != m for w in fields[n] & fields[m]}
    of_fields = json.dumps({n: sorted(fields[n] - twice) for n in FIELDS}, ensure_ascii=False)
    rest = json.dumps(
        {w: sorted(held) for w, held in sorted(others.items()) if not w.isdigit()}, ensure_ascii=False
    )
    return (
        '{"months": {\n' + ",\n".join(lines) + '\n},\n"quarters": {\n' + ",\n".join(of_quarters)
        + f'\n}},\n"fields": {of_fields},\n"others": {rest}}}\n'
    )  # fmt: skip


def text_of_currencies() -> str:
    """The content of the file of currency names: in lower case, by code."""
    names: dict[str, set[str]] = {code: set() for code in _CURRENCIES.split()}
    for language in LANGUAGES:
        locale = Locale.parse(language)
        plural = locale._data["currency_names_plural"]
        for code in names:
            forms = [locale.currencies.get(code, ""), *(plural[code].values() if code in plural else ())]
            names[code] |= {form.lower().strip() for form in forms} - {"", code.lower()} - _OTHER_MEANINGS
    names |= multiples()
    lines = [f' "{code}": {json.dumps(sorted(held), ensure_ascii=False)}' for code, held in names.items()]
    return "{\n" + ",\n".join(lines) + "\n}\n"


def multiples() -> dict[str, set[str]]:
    """Words for multiples, by their English word; those that mean two numbers, or that are other words, are left out."""
    in_code = re.compile(SCALE, re.IGNORECASE)
    powers: dict[str, set[int]] = defaultdict(set)
    for language in LANGUAGES:
        for forms in Locale.parse(language).compact_decimal_formats.values():
            for one, pattern in ((one, p) for held in forms.values() for one, p in held.items()):
                zeros, word = (
                    re.fullmatch(r"[^0]*(0+)[^0]*", pattern.pattern),
                    re.sub(r"[0'¤.]", "", pattern.pattern),
                )
                if zeros and word.strip() and " " not in (plain := word.replace("\xa0", " ").strip()):
                    powers[plain.lower()].add(len(one) - len(zeros[1]))
    words: dict[str, set[str]] = {word: set() for word in _MULTIPLES.values()}
    for word, held in powers.items():
        long = len(word) > 4 or word in _SHORT_MULTIPLES or (len(word) > 2 and not word.isascii())
        if (
            len(held) == 1
            and long
            and word not in _NO_MULTIPLES
            and word[0] < "\u3000"
            and not in_code.fullmatch(word)
        ):
            words.get(_MULTIPLES.get(held.pop(), ""), set()).add(word)
    return words


def _without(shared: set[tuple[str, str]], months: dict[str, dict[str, int]]) -> defaultdict[str, dict[str, int]]:
    """Months without the words that two months of a language share, such as the second word in Irish."""
    kept = {f: {c: n for c, n in held.items() if (f, c) not in shared} for f, held in months.items()}
    return defaultdict(dict, {form: held for form, held in kept.items() if held})


def _written(forms: list[str]) -> set[str]:
    """Forms of a month without its preposition, and names of two words whole."""
    named = [tokens for f in forms if (tokens := TOKEN.findall(f)) and not f[-1].isdigit()]
    last = {tokens[-1] for tokens in named} | {" ".join(t) for t in named if len(t) == 2 and not t[0].isdigit()}
    return {word for word in last if len(word) > 1}


def _shorter(forms: list[str], all_months: list[list[str]]) -> set[str]:
    """Forms without accents, or cut to three or four letters, that no other month of the language begins with."""
    mine = _written(forms)
    others = {word for month in all_months if month is not forms for word in _written(month)}
    cut = {w[:n] for w in mine for n in (3, 4) if len(w) > n and w.isalpha()}
    plain = {_without_accents(w) for w in mine | cut}
    return {s for s in cut | plain if not any(o.startswith(s) for o in others)}


def _without_accents(word: str) -> str:
    if not any("a" <= c <= "z" for c in word):
        return word  # marks of other scripts are letters
    return "".join(c for c in unicodedata.normalize("NFD", word) if not unicodedata.combining(c))


if __name__ == "__main__":
    for path, content in ((WORDS, text_of_words()), (CURRENCY_NAMES, text_of_currencies())):
        Path(path).write_text(content, encoding="utf-8")
        print(path)
