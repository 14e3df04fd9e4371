"""The manual page, made from the commands themselves."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Final

import click

_ENDINGS: Final = (
    "0 done; 1 done in part, failures listed; 2 asked wrongly, nothing tried; 3 tried, nothing had."
)


def manual(app: click.Command, version: str) -> str:
    """The page in roff, as ``man`` reads it: ``ultrum --man > ultrum.1; man ./ultrum.1``."""
    lines = [
        f'.TH ULTRUM 1 "" "ultrum {_roff(version)}" "User Commands"',
        *(".SH NAME", r"ultrum \- " + _roff(_first(app))),
        *(".SH SYNOPSIS", ".B ultrum", "[options] command [arguments]"),
        *(".SH OPTIONS", *_options(app, "ultrum"), ".SH COMMANDS"),
    ]
    for name, command in _commands(app, "ultrum"):
        lines += [f".SS {_roff(name)}", _roff(re.sub(r"\s+", " ", command.help or "").strip())]
        lines += _options(command, name)
        examples = (command.epilog or "").replace("\b", "").strip().splitlines()
        lines += [".nf", *map(_roff, examples), ".fi"]
    return "\n".join([*lines, ".SH EXIT STATUS", _roff(_ENDINGS)]) + "\n"


def _commands(app: click.Command, path: str) -> Iterator[tuple[str, click.Command]]:
    """Every command below a group, with its whole name."""
    if not isinstance(app, click.Group):
        return
    for name, command in sorted(app.commands.items()):
        if isinstance(command, click.Group):
            yield from _commands(command, f"{path} {name}")
        else:
            yield f"{path} {name}", command


def _options(command: click.Command, path: str) -> list[str]:
    context = click.Context(command, info_name=path)
    records = [p.get_help_record(context) for p in command.get_params(context)]
    return [line for r in records if r for line in (".TP", f".B {_roff(r[0])}", _roff(r[1]))]


def _first(command: click.Command) -> str:
    return re.sub(r"\s+", " ", command.help or "").strip().split(". ")[0].rstrip(".")


def _roff(text: str) -> str:
    """Text in which nothing is taken for a request."""
    escaped = text.replace("\\", r"\e").replace("-", r"\-")
    return rf"\&{escaped}" if escaped.startswith((".", "'")) else escaped
