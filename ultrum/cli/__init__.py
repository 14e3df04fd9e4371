"""The command line: parse, call, show. Heavy imports wait until a command needs them."""

from __future__ import annotations

import sys

import click

from ultrum.cli.commands import demo, find, look, practice, pull, run
from ultrum.cli.exits import guarded

_EPILOG = "Start with: ultrum demo"


@click.group(epilog=_EPILOG, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="ultrum")
def app() -> None:
    """From downloaded series to betas and costs of equity, every step checked and traced."""


for command in (demo, find, pull, look, run, practice):
    app.add_command(command)


def main() -> None:
    """Entry point of the command ``ultrum``."""
    sys.exit(guarded(app))
