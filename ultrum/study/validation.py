"""Validation of a study file: every error with its line, the closest valid word, and the fix."""

from __future__ import annotations

import contextlib
import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, Final

from pydantic import BaseModel, ValidationError
from pydantic_core import ErrorDetails

from ultrum.core.arguments import LARGEST_RATE
from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import Metadata
from ultrum.errors import DataWarning, SourceError, UltrumError, name_list, one_of, options_in_text
from ultrum.sources.download_and_limits import Address
from ultrum.sources.table.reading_result import TableOptions

Fault = tuple[int, str]
Place = tuple[str, ...]
Describe = Callable[[object, tuple[object, ...], ErrorDetails], str]


def _blank(string: re.Match[str]) -> str:
    """As many empty lines as a multi-line string has."""
    return '""' + "\n" * string[0].count("\n")


class Lines:
    """Finds the line of a key in the text of a TOML file."""

    def __init__(self, text: str) -> None:
        self.known: dict[Place, int] = {}
        table: Place = ()
        counts: dict[Place, int] = {}
        outside = re.sub(r"(\"{3}|'{3}).*?\1", _blank, text, flags=re.DOTALL)
        for number, line in enumerate(outside.splitlines(), start=1):
            head = re.match(r"\s*\[(\[)?\s*([^\]]+?)\s*\]", line)
            key = re.match(r"\s*(\"?[\w .-]+\"?)\s*=", line)
            if head:
                table = tuple(p.strip().strip('"') for p in head[2].split("."))
                if head[1]:
                    counts[table] = counts.get(table, -1) + 1
                    table = (*table, str(counts[table]))
                self.known.setdefault(table, number)
            elif key:
                parts = tuple(part.strip().strip('"') for part in key[1].split("."))
                self.known.setdefault((*table, *parts), number)

    def of(self, place: tuple[object, ...]) -> int:
        """Line of a path, or of the closest part of it in the text."""
        parts = tuple(str(p) for p in place)
        for length in range(len(parts), 0, -1):
            if parts[:length] in self.known:
                return self.known[parts[:length]]
        return 1


def shape_faults(model: type[BaseModel], content: Mapping[str, object], lines: Lines) -> list[Fault]:
    """Schema errors: unknown keys, missing ones, wrong types of values."""
    try:
        model.model_validate(content)
    except ValidationError as error:
        return [_fault_in_words(model, e, lines) for e in _of_what_was_meant(error.errors())]
    return []


def _of_what_was_meant(errors: Sequence[ErrorDetails]) -> list[ErrorDetails]:
    """Errors without those about the other accepted forms of a value, at the paths of the file.

    For a key that accepts a word or a table, a wrong table keeps only the errors of a table, a wrong word only
    those of a word.
    """
    meant: dict[tuple[object, ...], list[ErrorDetails]] = {}
    for error in errors:
        form = next((k for k, part in enumerate(error["loc"]) if _is_form(part)), None)
        value = error["loc"] if form is None else error["loc"][:form]
        shown: ErrorDetails = {**error, "loc": tuple(p for p in error["loc"] if not _is_form(p))}
        meant.setdefault((*value, form is None), []).append(shown)
    return [e for (*_, plain), group in meant.items() for e in (group if plain else _nearest(group))]


def _nearest(group: list[ErrorDetails]) -> list[ErrorDetails]:
    """Of several errors about one value, those of its own form."""
    inside = [e for e in group if len(e["loc"]) > min(len(g["loc"]) for g in group)]
    of_kind = [e for e in group if e["type"] in _KIND_OF_ERROR.get(type(e["input"]), ())]
    if of_kind:
        return of_kind[:1]
    words = [e for e in group if e["type"] == "literal_error"]
    return inside or words[:1] or [e for e in group if e["type"] != "model_type"][:1] or group[:1]


_KIND_OF_ERROR: Final[Mapping[type, tuple[str, ...]]] = {
    str: ("value_error",),
    float: ("int_type", "int_from_float"),
    int: ("float_type",),
}


def _is_form(part: object) -> bool:
    """Whether a part of a path is an internal label of a form, which the file does not show."""
    return isinstance(part, str) and (
        part in ("str", "float", "int", "[key]")
        or part.endswith(("Section", "Words"))
        or part.startswith(("literal[", "function-", "constrained-", "tuple[", "dict["))
    )


def _fault_in_words(model: type[BaseModel], error: ErrorDetails, lines: Lines) -> Fault:
    """An error in words, by its kind."""
    place = tuple(error["loc"])
    describe: Describe = _DESCRIPTIONS.get(error["type"], _plainly)
    return lines.of(place), describe(model, place, error)


def _section(place: tuple[object, ...]) -> str:
    return ".".join(str(p) for p in place if not isinstance(p, int))


def _unknown_key(model: object, place: tuple[object, ...], _: object) -> str:
    keys, key = _valid_keys(model, place[:-1]), str(place[-1])
    return f"[{_section(place[:-1]) or 'the file'}] has no key '{key}'; {one_of(key, keys)}"


def _missing(_: object, place: tuple[object, ...], error: object) -> str:
    where = _section(place[:-1])
    if isinstance(place[-1], int):
        return f"[{where}] has too few values; value {place[-1] + 1} is missing."
    return f"[{where}] lacks '{place[-1]}'." if where else f"the section [{place[-1]}] is missing."


def _no_table(_: object, place: tuple[object, ...], error: object) -> str:
    return f"[{'.'.join(map(str, place))}] must be a table of keys; got a value."


def _wrong_value(model: object, place: tuple[object, ...], error: ErrorDetails) -> str:
    text = str(error["ctx"]["error"])
    text = text if text.endswith(("?", ".")) else f"{text}."
    if text[:1].isupper():
        return text
    if isinstance(error["input"], str | int | float):
        return _plainly(model, place, error, text)
    return f"[{'.'.join(map(str, place))}]: {text}"


def _wrong_word(model: object, place: tuple[object, ...], error: ErrorDetails) -> str:
    expected = error["ctx"]["expected"]
    options = [option for option in re.findall(r"'([^']*)'", expected) if option]
    return _plainly(model, place, error, one_of(error["input"], options))


def _plainly(_: object, place: tuple[object, ...], error: ErrorDetails, reason: str = "") -> str:
    key, where = (str(place[-1]), _section(place[:-1])) if place else ("the file", "")
    if place and isinstance(place[-1], int):
        key = f"value {place[-1] + 1}"
    return f"[{where or 'the file'}] {key} = {error['input']!r}: {reason or error['msg'].lower() + '.'}"


def _not_whole(model: object, place: tuple[object, ...], error: ErrorDetails) -> str:
    value = error["input"]
    fix = (
        f"write {int(value)}."
        if isinstance(value, float) and value.is_integer()
        else "it must be a whole number."
    )
    return _plainly(model, place, error, fix)


def _kind(words: str) -> Describe:
    """An error of a value with the wrong type."""
    return lambda model, place, error: _plainly(model, place, error, f"it must be {words}.")


_DESCRIPTIONS: Final[Mapping[str, Describe]] = {
    "extra_forbidden": _unknown_key,
    "missing": _missing,
    "model_type": _no_table,
    "value_error": _wrong_value,
    "literal_error": _wrong_word,
    "int_type": _not_whole,
    "int_from_float": _not_whole,
    "float_type": _kind("a number, such as 0.05"),
    "string_type": _kind("a text in quotes"),
    "bool_type": _kind("true or false"),
    "list_type": _kind("a list in square brackets"),
    "tuple_type": _kind("a list in square brackets"),
    "dict_type": _kind("a table of keys"),
}


def _valid_keys(model: Any, place: tuple[Any, ...]) -> list[str]:
    """Valid keys of the section at a path."""
    for part in place:
        if isinstance(part, int) or part not in getattr(model, "model_fields", {}):
            continue
        sections = _sections_in(model.model_fields[part].annotation)
        model = sections[0] if sections else model
    return list(model.model_fields)


def _sections_in(annotation: object) -> list[object]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [m for a in getattr(annotation, "__args__", ()) for m in _sections_in(a)]


# Meaning of a study file: names that refer to nothing, values that no key takes, sections that need others

_COMPARED: Final = {
    "window": "windows",
    "frequency": "frequencies",
    "market": "",
    "adjustment": "adjustments",
    "estimator": "estimators",
}
EVENTS: Final = ("dividends", "splits", "final_payments")


def meaning_faults(content: Mapping[str, object], lines: Lines) -> list[Fault]:
    """Errors of meaning: unknown references, invalid frequencies or addresses."""
    return [(lines.of(place), text) for find in _FINDERS for place, text in find(content)]


def _time_faults(content: Mapping[str, object]) -> Iterator[tuple[Place, str]]:
    if part(content, "panel").get("conditions") and not part(content, "study").get("known_by"):
        text = "conditions need [study] known_by. Set a duration such as 'P1M', 'release dates', or 'hindsight'."
        yield ("panel", "conditions"), text


def _sensitivity_faults(content: Mapping[str, object]) -> Iterator[tuple[Place, str]]:
    """The base case: its choices, and values that are among those compared."""
    section = part(content, "sensitivity")
    for choice, value in part(section, "chosen").items():
        if choice not in _COMPARED:
            yield ("sensitivity", "chosen"), f"no choice '{choice}'; {one_of(choice, _COMPARED)}"
        options = _as_list(section.get(_COMPARED.get(choice, "")))
        if options and value not in options:
            yield ("sensitivity", "chosen"), f"{choice} = '{value}'; {one_of(value, options)}"


def _case_faults(content: Mapping[str, object]) -> Iterator[tuple[Place, str]]:
    """Names that differ only by case, which are the same in databases and on many disks."""
    for section, entries in content.items():
        lower: dict[str, str] = {}
        names = (
            [str(n) for n in entries]
            if isinstance(entries, Mapping)
            else [str(e["name"]) for e in entries if isinstance(e, Mapping) and "name" in e]
            if isinstance(entries, list)
            else []
        )
        for name in names:
            first = lower.setdefault(name.casefold(), name)
            if first != name:
                yield ((section,), f"[{section}] '{first}' and '{name}' differ only by case. Rename one.")


def _address_faults(content: Mapping[str, object]) -> Iterator[tuple[Place, str]]:
    sources = part(content, "sources")
    for place, address in addresses(content):
        try:
            name = Address.parse(str(address)).source
        except SourceError as error:
            yield place, str(error)
            continue
        if name not in sources:
            yield place, f"'{address}': no source '{name}'; {one_of(name, sources)}"


def _series_faults(content: Mapping[str, object]) -> Iterator[tuple[Place, str]]:
    series = series_names(content)
    for name in _as_list(part(content, "panel").get("conditions")):
        if name not in series:
            yield ("panel", "conditions"), f"no series '{name}'; {one_of(name, series)}"
    for own_name, section in part(content, "series").items():
        parts = _as_list(part(section, "composite").get("parts")) if isinstance(section, dict) else []
        for name in parts:
            if name not in series:
                yield (("series", own_name, "composite"), f"no series '{name}'; {one_of(name, series)}")
    twice = [n for n, count in Counter(series).items() if count > 1]
    for name in twice:
        yield ("sets",), f"two series are named '{name}'. Rename one."
    wrong = part(content, "cost_of_equity").get("inflation")
    if wrong and wrong not in series:
        yield ("cost_of_equity", "inflation"), f"no series '{wrong}'; {one_of(wrong, series)}"


def _model_faults(content: Mapping[str, object]) -> Iterator[tuple[Place, str]]:
    models = [m for m in _as_list(content.get("models")) if isinstance(m, dict)]
    names = [str(m.get("name", "")) for m in models]
    for name, count in Counter(names).items():
        if count > 1:
            yield (("models", str(names.index(name)), "name"), f"{quantity(count, 'model')} are named '{name}'.")
    used = [f for m in models for f in _as_list(m.get("factors"))]
    cost = part(content, "cost_of_equity")
    for factor in part(cost, "premium"):
        if factor not in used:
            yield (("cost_of_equity", "premium"), f"no model has the factor '{factor}'; {one_of(factor, used)}")
    for factor in _as_list(part(content, "panel").get("total_return_factors")):
        if factor not in used:
            yield ("panel",), f"no model has the factor '{factor}'; {one_of(factor, used)}"
    for factor in _as_list(part(content, "two_pass").get("factors")):
        if factor not in used:
            yield (("two_pass", "factors"), f"no model has the factor '{factor}'; {one_of(factor, used)}")
    if cost.get("model") and cost["model"] not in names:
        yield (("cost_of_equity", "model"), f"no model '{cost['model']}'; {one_of(cost['model'], names)}")


def _premium_faults(content: Mapping[str, object]) -> Iterator[tuple[Place, str]]:
    """Premia: the source of each, and settings without effect."""
    place, premia = ("cost_of_equity", "premium"), part(part(content, "cost_of_equity"), "premium")
    implied = [factor for factor, given in premia.items() if given == "implied"]
    if len(implied) > 1:
        yield place, f"{name_list(implied)} are 'implied', which is the premium of the market alone. Keep one."
    for factor, given in premia.items():
        setting = f"the premium of '{factor}'"
        if given == "two-pass" and "two_pass" not in content:
            yield place, f"{setting} is 'two-pass'. Add a section [two_pass]."
        if given == "implied" and "implied_cost" not in content:
            yield place, f"{setting} is 'implied'. Add a section [implied_cost]."
        if not isinstance(given, dict):
            continue
        blended = given.get("mean") in ("blume", "blend")
        if blended and "horizon" not in given:
            yield place, f"{setting} has mean = 'blume'. Set its horizon in years."
        if "value" in given and ("mean" in given or "horizon" in given):
            yield place, f"{setting} has a value and a mean. Keep one of them."
        elif "horizon" in given and not blended:
            yield place, f"{setting} has a horizon, which only mean = 'blume' uses. Remove it."
    crossed = part(content, "two_pass")
    if "window" in crossed and crossed.get("beta_sample") != "rolling":
        text = "window only has an effect with beta_sample = 'rolling'. Set that, or remove window."
        yield ("two_pass", "window"), text


def _need_faults(content: Mapping[str, object]) -> Iterator[tuple[Place, str]]:
    """Requirements of one section on another."""
    cost, panel = part(content, "cost_of_equity"), part(content, "panel")
    adjusted = [m.get("name") for m in _as_list(content.get("models")) if isinstance(m, dict) and m.get("adjust")]
    if cost.get("draws") and cost.get("model") in adjusted:
        text = f"draws needs unadjusted betas, but the model '{cost['model']}' has adjust. Remove one of them."
        yield ("cost_of_equity", "draws"), text
    for name, section in part(content, "portfolios").items():
        if not isinstance(section, dict):
            continue
        place, portfolio_text = ("portfolios", name), f"the portfolio '{name}'"
        if section.get("industry") and not panel.get("companies"):
            yield (place, f"{portfolio_text} needs industries. Set [panel] companies to their table.")
        if bool(section.get("industry")) == bool(section.get("assets")):
            yield place, f"{portfolio_text} needs either assets or an industry."
    needed = {
        "predicted against realised": "two_pass",
        "sensitivity": "sensitivity",
        "model comparison": "model_comparison",
        "beta forecasts": "beta_forecasts",
    }
    if "hierarchical" in cost and not panel.get("companies"):
        text = "[cost_of_equity.hierarchical] needs industries. Set [panel] companies to their table."
        yield ("cost_of_equity", "hierarchical"), text
    models = _as_list(content.get("models"))
    names = [str(m.get("name")) for m in models if isinstance(m, dict)]
    for name in _as_list(part(content, "model_comparison").get("models")):
        if name not in names:
            yield ("model_comparison", "models"), f"no model '{name}'; {one_of(str(name), names)}"
    implied = part(content, "implied_cost")
    growth_needed = implied.get("model", "two-stage") in ("two-stage", "H-model", "abnormal earnings growth")
    if implied and growth_needed != ("long_run_growth" in implied):
        text = "needs long_run_growth, such as 0.025" if growth_needed else "takes no long_run_growth"
        yield ("implied_cost", "long_run_growth"), f"model = '{implied.get('model', 'two-stage')}' {text}."
    for figure in _as_list(part(content, "report").get("figures")):
        if figure in needed and needed[figure] not in content:
            yield (("report", "figures"), f"the figure '{figure}' needs a section [{needed[figure]}].")
        if figure == "peers" and "peers" not in cost:
            yield (("report", "figures"), "the figure 'peers' needs a section [cost_of_equity.peers].")


def _rate_faults(content: Mapping[str, object]) -> Iterator[tuple[Place, str]]:
    """The risk-free rate: required by a cost of equity, and in decimals if it is a number."""
    panel = part(content, "panel")
    if "cost_of_equity" in content and panel.get("risk_free") is None:
        text = "[cost_of_equity] needs [panel] risk_free, an address or an annual rate such as 0.03."
        yield ("cost_of_equity",), text
    rate = panel.get("risk_free")
    if isinstance(rate, int | float) and not isinstance(rate, bool) and abs(rate) > LARGEST_RATE:
        yield (
            ("panel", "risk_free"),
            f"risk_free = {rate:g} is {100 * rate:,.0f} % per year; write 0.03 for 3 %.",
        )


_FINDERS = (
    _sensitivity_faults,
    _rate_faults,
    _time_faults,
    _case_faults,
    _address_faults,
    _series_faults,
    _model_faults,
    _need_faults,
    _premium_faults,
)


def series_names(content: Mapping[str, object]) -> list[str]:
    """Names of every series of a study, including those of its sets."""
    sets = [part(s, "series") for s in part(content, "sets").values() if isinstance(s, dict)]
    return [*part(content, "series"), *(name for members in sets for name in members)]


_ADDRESSES: Final[tuple[Place, ...]] = (
    ("cost_of_equity", "risk_free"),
    ("cost_of_equity", "peers", "accounts"),
    ("cost_of_equity", "hierarchical", "accounts"),
    ("sensitivity", "markets"),
    ("sensitivity", "risk_free"),
    ("beta_forecasts", "market"),
    ("beta_forecasts", "risk_free"),
    ("implied_cost", "forecasts"),
    ("implied_cost", "history"),
)


def addresses(content: Mapping[str, object]) -> Iterator[tuple[Place, object]]:
    """Every address in the study, with its path."""
    for name, series in part(content, "series").items():
        if isinstance(series, dict) and series.get("address"):
            yield ("series", name, "address"), series["address"]
        table = part(series, "sort").get("table") if isinstance(series, dict) else None
        if table and isinstance(series, dict):
            yield ("series", name, "sort", "table"), table
            more = part(series, "sort")
            yield from ((("series", name, "sort", k), more[k]) for k in ("members", "delistings") if more.get(k))
        for address in _as_list(series.get("rates")) if isinstance(series, dict) else []:
            yield ("series", name, "rates"), address
    for name, members in part(content, "sets").items():
        for member, address in part(members, "series").items() if isinstance(members, dict) else ():
            yield ("sets", name, "series", member), address
    yield from _panel_addresses(part(content, "panel"))
    for place in _ADDRESSES:
        section = content
        for name in place[:-1]:
            section = part(section, name)
        given = section.get(place[-1])
        for address in given if isinstance(given, list) else [given]:
            if address and isinstance(address, str):
                yield place, address


def _panel_addresses(panel: Mapping[str, object]) -> Iterator[tuple[Place, object]]:
    """Addresses of the panel: of one table, of several, or of the table of a section."""
    for key in ("assets", "companies", *EVENTS, "factors", "risk_free", "exchange_rates"):
        given = panel.get(key)
        if isinstance(given, dict):
            given = given.get("table")
        for address in given if isinstance(given, list) else [given]:
            if address and isinstance(address, str):
                yield ("panel", key), address


def part(content: Mapping[str, object], key: str) -> dict[str, object]:
    """A table of the file, empty if it is missing or not a table."""
    table = content.get(key)
    return table if isinstance(table, dict) else {}


def _as_list(value: object) -> list[Any]:
    return value if isinstance(value, list) else []


# Fixes in the words of a study file: what a message of the library advises, as keys of a section

_FIXES: Final = {
    "price_column": "Set [panel] price_column.",
    "market": "Add it to the factors of [[models]].",
    "risk_free": "Set [panel] risk_free: the address of a column of returns, or an annual rate such as 0.03.",
    "annual_rate": "Set [panel] risk_free to an annual rate, or to a series with the step yield_to_return.",
    "rate_size": "Set [panel] factor_units, or risk_free to an annual rate such as 0.03.",
    "units": 'Set [panel] factor_units; for other tables, units in [sources.NAME.tables."FILE"].',
    "disaggregate": "Use the step disaggregate = { frequency = 'M', how = 'hold' }, or how = 'denton'.",
    "available_frequency": "Use one of them; a step to_frequency or disaggregate converts it.",
    "measure_or_how": "Add how to its step: { to_frequency = { frequency = 'Q', how = 'last' } }, or mean or "
    "sum; for returns, measure = 'return' to its table.",
    "how": "Add how to its step: { to_frequency = { frequency = 'Q', how = 'last' } }, or mean or sum.",
    "hindsight": "Set window = 'expanding' in its composite or step standardise, or sample = 'expanding' in its "
    "step innovations; or accept it with known_by = { NAME = 'hindsight' }.",
    "name_of_two": "Rename the column in one of the files, or the series in the study.",
    "currency": "Set [panel] exchange_rates.",
    "persistent": "Set errors = 'ewc-prewhitened' in its [[models]].",
    "weak_factor": "Drop the factor from [two_pass] factors.",
    "splits": "Set [panel] splits, or correct the prices that are wrong.",
    "total_return_factors": "If it is a total return, add it to [panel] total_return_factors.",
}


def warning_in_study_words(warning: DataWarning) -> DataWarning:
    """A warning whose fix is a key of the study."""
    fix = _FIXES.get(warning.setting)
    return type(warning)(warning.finding, fix=fix, setting=warning.setting) if fix else warning


_NAMES: Final = (*TableOptions.__dataclass_fields__, *Metadata.__dataclass_fields__)
_WHERE: Final = ' Such a key is set in [sources.NAME.tables."FILE"].'


def _as_key(name: str, value: str) -> str:
    """A recommended option as a key of the study; one of a column is a dotted key."""
    option, _, column = name.partition(".")
    return f"{option}.'{column}' = '{value}'" if column else f"{option} = '{value}'"


@contextlib.contextmanager
def in_study_words() -> Iterator[None]:
    """Errors raised within it name the key of the study that fixes them."""
    try:
        yield
    except UltrumError as error:
        text = error.with_fix(_FIXES)
        changed = options_in_text(text, _NAMES, _as_key)
        if changed != text:
            changed += _WHERE
        if changed == str(error):
            raise
        error.args = (changed,)
        raise
