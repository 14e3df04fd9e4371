"""Writes the pages that are generated from the program: the commands, their JSON, and the study file's schema.

Run ``python -m tools.write_references`` after a command, its JSON or a section of the study file has changed. A test
fails while a page is out of date.
"""

import json
import re
from collections.abc import Iterator
from pathlib import Path
from types import NoneType, UnionType
from typing import Any, Final, Union, get_args, get_origin, get_type_hints

import click
from typing_extensions import is_typeddict

import ultrum as ul
from tools import json_answers
from tools.json_answers import ANSWERS, answers_schema
from ultrum.cli import app

DOCS = Path(__file__).resolve().parent.parent / "docs"
_ENDINGS: Final = "0 done; 1 partly done, failures listed; 2 usage error, nothing attempted; 3 failed."
_PREFACE: Final = (
    "Made from the commands themselves, as `ultrum COMMAND --help` is.",
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
    return [s for s in vars(json_answers).values() if is_typeddict(s)]


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


def pages():
    """Text of every such page, by its name."""
    schemas = {"study.schema.json": ul.Study.model_json_schema(), "answers.schema.json": answers_schema()}
    texts = {n: json.dumps(s, indent=1, ensure_ascii=False) + "\n" for n, s in schemas.items()}
    return texts | {"commands.md": commands_page(app)}


if __name__ == "__main__":
    for name, text in pages().items():
        (DOCS / name).write_text(text, encoding="utf-8")
        print(DOCS / name)
