"""Validation of a study file: every fault with its line and the nearest valid word."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Final

from pydantic import BaseModel, ValidationError

from ultrum.errors import one_of

Fault = tuple[int, str]
Place = tuple[str, ...]
Describe = Callable[[Any, tuple[Any, ...], Any], str]


def _blank(string: re.Match[str]) -> str:
    """As many empty lines as a string over several lines takes."""
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

    def of(self, place: tuple[Any, ...]) -> int:
        """Line of a place, or of the nearest part of it that is in the text."""
        parts = tuple(str(p) for p in place)
        for length in range(len(parts), 0, -1):
            if parts[:length] in self.known:
                return self.known[parts[:length]]
        return 1


def shape_faults(model: type[BaseModel], content: Mapping[str, Any], lines: Lines) -> list[Fault]:
    """Faults against the schema: unknown keys, absent ones, wrong kinds of values."""
    try:
        model.model_validate(content)
    except ValidationError as error:
        return [_worded(model, e, lines) for e in _of_what_was_meant(error.errors())]
    return []


def _of_what_was_meant(errors: Sequence[Any]) -> list[Any]:
    """Errors without those about the other forms that a value could have had, and places as the file has them.

    Of a key that takes a word or a table, a wrong table keeps only the errors of a table, a wrong word only
    those of a word.
    """
    meant: dict[tuple[Any, ...], list[Any]] = {}
    for error in errors:
        form = next((k for k, part in enumerate(error["loc"]) if _is_form(part)), None)
        value = error["loc"] if form is None else error["loc"][:form]
        shown = {**error, "loc": tuple(p for p in error["loc"] if not _is_form(p))}
        meant.setdefault((*value, form is None), []).append(shown)
    return [e for (*_, plain), group in meant.items() for e in (group if plain else _nearest(group))]


def _nearest(group: list[Any]) -> list[Any]:
    """Of errors about one value, those of the form it has."""
    inside = [e for e in group if len(e["loc"]) > min(len(g["loc"]) for g in group)]
    of_kind = [e for e in group if e["type"] in _KIND_OF_ERROR.get(type(e["input"]), ())]
    if of_kind:
        return of_kind[:1]
    words = [e for e in group if e["type"] == "literal_error"]
    return inside or words[:1] or [e for e in group if e["type"] != "model_type"][:1] or group[:1]


_KIND_OF_ERROR: Final[Mapping[type, tuple[str, ...]]] = {
    str: ("value_error",), float: ("int_type", "int_from_float"), int: ("float_type",),
}  # fmt: skip


def _is_form(part: Any) -> bool:
    """Whether a part of a place names a form that a value can have, which the file does not show."""
    return isinstance(part, str) and (
        part in ("str", "float", "int", "[key]")
        or part.endswith(("Section", "Words"))
        or part.startswith(("literal[", "function-", "constrained-", "tuple[", "dict["))
    )


def _worded(model: type[BaseModel], error: Any, lines: Lines) -> Fault:
    """A fault in words, by its kind."""
    place = tuple(error["loc"])
    describe: Describe = _DESCRIPTIONS.get(error["type"], _plainly)
    return lines.of(place), describe(model, place, error)


def _section(place: tuple[Any, ...]) -> str:
    return ".".join(str(p) for p in place if not isinstance(p, int))


def _unknown_key(model: Any, place: tuple[Any, ...], _: Any) -> str:
    keys, key = _known_keys(model, place[:-1]), str(place[-1])
    return f"[{_section(place[:-1]) or 'the file'}] has no key '{key}'; {one_of(key, keys)}"


def _missing(_: Any, place: tuple[Any, ...], error: Any) -> str:
    where = _section(place[:-1])
    if isinstance(place[-1], int):
        return f"[{where}] has too few values; value {place[-1] + 1} is missing."
    return f"[{where}] lacks '{place[-1]}'." if where else f"the section [{place[-1]}] is missing."


def _no_table(_: Any, place: tuple[Any, ...], error: Any) -> str:
    return f"[{'.'.join(map(str, place))}] must be a table of keys, not a value."


def _wrong_value(model: Any, place: tuple[Any, ...], error: Any) -> str:
    text = str(error["ctx"]["error"])
    text = text if text.endswith(("?", ".")) else f"{text}."
    if text[:1].isupper():
        return text
    if isinstance(error["input"], str | int | float):
        return _plainly(model, place, error, text)
    return f"[{'.'.join(map(str, place))}]: {text}"


def _wrong_word(model: Any, place: tuple[Any, ...], error: Any) -> str:
    expected = error["ctx"]["expected"]
    options = [option for option in re.findall(r"'([^']*)'", expected) if option]
    return _plainly(model, place, error, one_of(error["input"], options))


def _plainly(_: Any, place: tuple[Any, ...], error: Any, reason: str = "") -> str:
    key, where = (str(place[-1]), _section(place[:-1])) if place else ("the file", "")
    return f"[{where or 'the file'}] {key} = {error['input']!r}: {reason or error['msg'].lower() + '.'}"


def _not_whole(model: Any, place: tuple[Any, ...], error: Any) -> str:
    value = error["input"]
    fix = (
        f"write {int(value)}."
        if isinstance(value, float) and value.is_integer()
        else "it must be a whole number."
    )
    return _plainly(model, place, error, fix)


def _kind(words: str) -> Describe:
    """A fault of a value that has another type than the key takes."""
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
    "list_type": _kind("a list in brackets"),
    "dict_type": _kind("a table of keys"),
}


def _known_keys(model: Any, place: tuple[Any, ...]) -> list[str]:
    """Keys that the section at a place may have."""
    for part in place:
        if isinstance(part, int) or part not in getattr(model, "model_fields", {}):
            continue
        sections = _sections_in(model.model_fields[part].annotation)
        model = sections[0] if sections else model
    return list(model.model_fields)


def _sections_in(annotation: Any) -> list[Any]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [m for a in getattr(annotation, "__args__", ()) for m in _sections_in(a)]
