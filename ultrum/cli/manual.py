"""The manual page and docs/commands.md, generated from the commands."""

from __future__ import annotations

import re
from collections.abc import Iterator
from types import NoneType, UnionType
from typing import Any, Final, Union, get_args, get_origin, get_type_hints

import click
from typing_extensions import is_typeddict

from ultrum.cli import json_schema
from ultrum.cli.json_schema import ANSWERS

_ENDINGS: Final = "0 done; 1 partly done, failures listed; 2 usage error, nothing attempted; 3 failed."
_PREFACE: Final = (
    "Made from the commands themselves, as `ultrum COMMAND --help` and `ultrum --man` are.",
    "",
    f"Exit codes: {_ENDINGS}",
    "Results go to standard output, progress, warnings and errors to standard error, so that a pipe or a file",
    "gets results only.",
    "",
)
_STABLE: Final = (
    "Keys may be added; none is renamed, removed or given another meaning within a major version. Rates, returns",
    "and shares are decimals, periods are SDMX names, instants are UTC, and a number that is missing is null.",
    "The same as a JSON Schema: [answers.schema.json](answers.schema.json).",
)


def manual(app: click.Command, version: str) -> str:
    """The page as ``man`` reads it: ``ultrum --man > ultrum.1; man ./ultrum.1``."""
    from docutils.core import publish_string

    lines = ["======", "ultrum", "======", "", ":Manual section: 1", ":Manual group: User Commands"]
    lines += [f":Subtitle: {_plain(_first(app))}", f":Version: {_plain(version)}", ""]
    lines += [*_section("SYNOPSIS", "="), "``ultrum [options] command [arguments]``", ""]
    lines += [*_section("OPTIONS", "="), *_definitions(app, "ultrum"), *_section("COMMANDS", "=")]
    for name, command in _commands(app, "ultrum"):
        lines += [*_section(name, "-"), *(_plain(p) for p in _paragraphs(command.help or "")), ""]
        lines += _definitions(command, name)
        examples = (command.epilog or "").replace("\b", "").strip().splitlines()
        lines += ["::", "", *(f"    {line.strip()}" for line in examples), ""] if examples else []
    lines += [*_section("EXIT STATUS", "="), _plain(_ENDINGS)]
    settings = {"output_encoding": "unicode", "report_level": 3, "datestamp": None}
    return str(publish_string("\n".join(lines), writer_name="manpage", settings_overrides=settings))


def _section(title: str, under: str) -> list[str]:
    return [_plain(title), under * (2 * len(title)), ""]


def _definitions(command: click.Command, path: str) -> list[str]:
    """Options as a definition list of reStructuredText."""
    context = click.Context(command, info_name=path)
    records = [r for p in command.get_params(context) if (r := p.get_help_record(context))]
    return [line for name, text in records for line in (_plain(name), f"    {_plain(text)}", "")]


def _plain(text: str) -> str:
    """Text in which reStructuredText finds no markup."""
    return re.sub(r"([\\*`|_<>:\-])", r"\\\1", re.sub(r"\s+", " ", text).strip())


def commands_page(app: click.Command) -> str:
    """The page in Markdown: every command with its options, examples and what it prints with ``--json``."""
    lines = ["# Commands", "", *_PREFACE, *_option_rows(app, "ultrum")]
    for name, command in _commands(app, "ultrum"):
        taken = [p.human_readable_name for p in command.params if isinstance(p, click.Argument)]
        usage = " ".join([name, *taken, "[options]"])
        lines += ["", f"## {name}", "", f"`{usage}`", "", *_paragraphs(command.help or ""), ""]
        lines += _option_rows(command, name)
        examples = (command.epilog or "").replace("\b", "").strip()
        lines += ["", "```sh", examples, "```"] if examples else []
        answer = ANSWERS.get(name.removeprefix("ultrum "))
        lines += ["", f"With `--json`: {_shape_in_words(answer)}"] if answer else []
    lines += ["", "## JSON", "", *_STABLE, ""]
    for shape in _shapes():
        lines += [f"**{shape.__name__}**: {_plain_words(shape.__doc__)}", "", *_keys(shape), ""]
    return "\n".join(lines).rstrip() + "\n"


def _shape_in_words(answer: Any) -> str:
    """A shape in words: a list of these or an object, or one of several."""
    if get_origin(answer) is UnionType:
        return ", or ".join(_shape_in_words(a) for a in get_args(answer))
    if get_origin(answer) is list:
        return f"a list of **{get_args(answer)[0].__name__}**"
    return f"**{answer.__name__}**"


def _shapes() -> list[Any]:
    """Every shape, in the order it is written down."""
    return [s for s in vars(json_schema).values() if is_typeddict(s)]


def _keys(shape: Any) -> list[str]:
    """Keys of a shape as a list; optional ones are marked."""
    kinds = get_type_hints(shape)
    return [f"- `{key}` {_kind(kinds[key])}{'' if key in shape.__required_keys__ else ', if there is any'}"
            for key in shape.__annotations__]  # fmt: skip


def _kind(kind: Any) -> str:
    if get_origin(kind) in (UnionType, Union):
        return " or ".join(_kind(k) for k in get_args(kind))
    if get_origin(kind) is list:
        return f"list of {_kind(get_args(kind)[0])}"
    if get_origin(kind) is dict:
        return f"object of {_kind(get_args(kind)[1])} by name"
    names = {
        str: "text",
        int: "whole number",
        float: "number",
        bool: "true or false",
        NoneType: "null",
        Any: "data",
    }
    return names.get(kind) or f"**{kind.__name__}**"


def _option_rows(command: click.Command, path: str) -> list[str]:
    """A table of the options, in words that do not hang on the version of click."""
    options = [p for p in command.params if isinstance(p, click.Option) and not p.hidden]
    cells = [(f"`{_cell(' '.join([', '.join(o.opts), *_value(o)]))}`", _cell(o.help or "")) for o in options]
    if not cells:
        return []
    return ["| option | what it does |", "|---|---|", *(f"| {a} | {b} |" for a, b in cells)]


def _value(option: click.Option) -> list[str]:
    """What an option takes."""
    if option.is_flag:
        return []
    kind = option.type
    if isinstance(kind, click.Choice):
        return ["/".join(map(str, kind.choices))]
    return [option.metavar or kind.name.split()[0].upper()]


def _paragraphs(text: str) -> list[str]:
    """Help text with its paragraphs apart, each on one line."""
    parts = [re.sub(r"\s+", " ", part).strip() for part in text.replace("\b", "").split("\n\n")]
    return "\n\n".join(p for p in parts if p).split("\n")


def _plain_words(text: str | None) -> str:
    return re.sub(r"\s+", " ", text or "").replace("``", "`").strip()


def _cell(text: str) -> str:
    return re.sub(r"\s+", " ", text).replace("|", "\\|").strip()


def _commands(app: click.Command, path: str) -> Iterator[tuple[str, click.Command]]:
    """Every command below a group, with its whole name."""
    if not isinstance(app, click.Group):
        return
    for name, command in sorted(app.commands.items()):
        if isinstance(command, click.Group):
            yield from _commands(command, f"{path} {name}")
        else:
            yield f"{path} {name}", command


def _first(command: click.Command) -> str:
    return re.sub(r"\s+", " ", command.help or "").strip().split(". ")[0].rstrip(".")
