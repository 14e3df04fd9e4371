"""Exit codes: 0 done, 1 partly done, 2 usage error, 3 failed.

Nobody is shown a traceback; set ULTRUM_DEBUG=1 to see one.
"""

from __future__ import annotations

import os
import re
import sys
import warnings
from collections.abc import Callable
from contextvars import ContextVar
from functools import partial
from typing import Any, Final

import click

from ultrum.cli.verbosity import log
from ultrum.errors import StudyError, UltrumError, options_in_text, printable

DONE, IN_PART, ASKED_WRONGLY, NOTHING, STOPPED = 0, 1, 2, 3, 130


FAILED: Final[ContextVar[click.Command | None]] = ContextVar("failed", default=None)
_FIXES: Final = {
    "price_column": "Name it with --price-column COLUMN.",
    "market": "Name it with --market COLUMN.",
    "risk_free": "Set --risk-free to the heading of its column, or to a rate a year such as 3%.",
    "units": "Set --factor-units percent or decimal; for prices, --read units=percent.",
    "rate_size": "Set --factor-units, or --risk-free to a rate a year such as 3%.",
    "total_return_factors": "For a total return add --total-return COLUMN.",
    "how": "Add --read measure=return for returns in a file; else --step to_frequency=Q,how=last (or mean, sum).",
    "income": "Leave out --dividends, or name the closing price with --price-column.",
}


class Application(click.Group):
    """The group of commands; it notes which one failed, so that the message can name its options."""

    def invoke(self, ctx: click.Context) -> Any:
        """Run a command, and note it where it fails."""
        try:
            return super().invoke(ctx)
        except UltrumError:
            FAILED.set(self.commands.get(ctx.invoked_subcommand or ""))
            raise


class PartlyDoneError(Exception):
    """Raised at the end of a command that did only part of what was asked."""


def guarded(app: Callable[..., Any]) -> int:
    """Run the command line and turn every ending into an exit code and one message."""
    with warnings.catch_warnings():
        warnings.showwarning = partial(_show_warning, set())  # for the command alone
        return _ended(app)


def _ended(app: Callable[..., Any]) -> int:  # noqa: PLR0911 - one return per ending
    try:
        app(standalone_mode=False)
    except click.exceptions.Exit as ending:
        return int(ending.exit_code)
    except (click.Abort, KeyboardInterrupt):
        return _say("stopped.", STOPPED)
    except click.ClickException as error:
        context = getattr(error, "ctx", None)
        if context is not None:
            hint = f"Try '{context.command_path} --help' for help."
            click.echo(f"{context.get_usage()}\n{hint}\n", err=True)
        click.echo(printable(f"Error: {error.format_message()}"), err=True)
        return ASKED_WRONGLY
    except PartlyDoneError:
        return IN_PART
    except StudyError as error:
        return _say(_on_the_command_line(error), ASKED_WRONGLY)
    except UltrumError as error:
        return _say(_on_the_command_line(error), NOTHING)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return DONE
    except Exception as error:
        if os.environ.get("ULTRUM_DEBUG"):
            raise
        return _say(_unexpected(error), NOTHING)
    return DONE


def _on_the_command_line(error: UltrumError) -> str:
    """The message with options in place of keywords, where the command has them."""
    command = FAILED.get()
    options = {o for p in command.params for o in p.opts} if command else set()
    fixes = {setting: fix for setting, fix in _FIXES.items() if _option_in(fix) in options}
    text = error.with_fix(fixes)
    if "--read" in options:
        from ultrum.core.series.metadata import Metadata
        from ultrum.sources.table import TableOptions

        names = (*TableOptions.__dataclass_fields__, *Metadata.__dataclass_fields__)
        text = options_in_text(text, names, lambda name, value: f"--read {name}={value}")
        text = re.sub(r"(?<![\w:])file:(?=[^/\s])", "", text)  # the source of local files
    return text


def _option_in(fix: str) -> str:
    """The option that a fix names."""
    return next(word.strip(".,:") for word in fix.split() if word.startswith("--"))


def _unexpected(error: Exception) -> str:
    if isinstance(error, OSError) and error.filename is not None:
        return f"{error.filename}: {error.strerror}."
    text = f"an unexpected fault, {type(error).__name__}: {error}. "
    return f"{text}Set ULTRUM_DEBUG=1 to see where, and please report it."


def _show_warning(shown: set[str], message: Any, category: type[Warning], *_: Any) -> None:
    """Warnings of data as one plain line, once however many stages give it; those of libraries are not shown."""
    from ultrum.errors import DataWarning

    text = str(message)
    if issubclass(category, DataWarning) and text not in shown:
        from ultrum.cli import terminal_output

        shown.add(text)
        terminal_output.warn(text)


def _say(text: str, code: int) -> int:
    log(f"error: {text}")
    click.echo(printable(f"ultrum: {text}"), err=True)
    return code
