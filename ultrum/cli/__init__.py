"""The command line: parse, call, print. Heavy imports wait until a command needs them."""

from __future__ import annotations

import gc
import sys
from pathlib import Path

import click

from ultrum.cli.estimate_and_new import estimate, new
from ultrum.cli.find_pull_vault import find, pull, vault
from ultrum.cli.look import look
from ultrum.cli.run_trail_demo import demo, practice, run, trail
from ultrum.cli.sort import sort
from ultrum.cli.terminal_output import Application, configure, run_safely

_EPILOG = "Start with: ultrum demo"


@click.group(cls=Application, epilog=_EPILOG, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="ultrum")
@click.option(
    "--completion",
    type=click.Choice(["bash", "zsh", "fish"]),
    is_eager=True,
    expose_value=False,
    callback=lambda context, _, shell: _completion(context, shell),
    help="Print the lines that your shell needs for completion.",
)
@click.option("-q", "--quiet", is_flag=True, help="Print only results and errors: no progress, no warnings.")
@click.option("-v", "--verbose", is_flag=True, help="Print each step on stderr, even where it is not a terminal.")
@click.option("--log", "log_file", type=click.Path(path_type=Path), help="Also write a dated log to this file.")
def app(quiet: bool, verbose: bool, log_file: Path | None) -> None:
    """Factor regressions: download, align, estimate, report."""
    configure(quiet, verbose, log_file)


def _completion(context: click.Context, shell: str | None) -> None:
    """Print the shell's own completion script."""
    if not shell:
        return
    from click.shell_completion import get_completion_class

    completion = get_completion_class(shell)
    if completion is not None:
        click.echo(completion(app, {}, "ultrum", "_ULTRUM_COMPLETE").source())
    context.exit()


for command in (demo, find, pull, look, estimate, sort, new, run, trail, vault, practice):
    app.add_command(command)


def main() -> None:
    """Entry point of the command ``ultrum``."""
    gc.set_threshold(500_000)  # imports create many objects and no garbage
    sys.exit(run_safely(app))
