"""Verbosity: results only, every step, or a log file as well."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import click

from ultrum.errors import printable


@dataclass
class Hearing:
    """Options before the command."""

    quiet: bool = False
    verbose: bool = False
    log: Path | None = None


wanted = Hearing()


def echo(text: object = "", err: bool = False) -> None:
    """Print a text; what comes from outside cannot steer the terminal."""
    click.echo(printable(str(text)), err=err)


def hear(quiet: bool, verbose: bool, log: Path | None) -> None:
    """Apply the options."""
    wanted.quiet, wanted.verbose, wanted.log = quiet, verbose, log


def log(text: str) -> None:
    """A dated line in the log, if there is one; messages hold no secret, so neither does the log."""
    if wanted.log is None:
        return
    stamp = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    try:
        with wanted.log.open("a", encoding="utf-8") as file:
            file.write(f"{stamp} {' '.join(printable(text).split())}\n")
    except OSError as error:
        place, wanted.log = wanted.log, None
        click.echo(f"warning: the log {place} cannot be written: {error.strerror}", err=True)
