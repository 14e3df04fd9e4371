"""Exit codes: 0 done, 1 partly done, 2 usage error, 3 failed.

Nobody is shown a traceback; set ULTRUM_DEBUG=1 to see one.
"""

from __future__ import annotations

import os
import sys
import warnings
from collections.abc import Callable
from typing import Any

import click

from ultrum.cli.verbosity import log
from ultrum.errors import StudyError, UltrumError, printable

DONE, IN_PART, ASKED_WRONGLY, NOTHING, STOPPED = 0, 1, 2, 3, 130


class PartlyDoneError(Exception):
    """Raised at the end of a command that did only part of what was asked."""


def guarded(app: Callable[..., Any]) -> int:
    """Run the command line and turn every ending into an exit code and one message."""
    with warnings.catch_warnings():
        warnings.showwarning = _show_warning  # type: ignore[assignment]  # for the command alone
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
        return _say(str(error), ASKED_WRONGLY)
    except UltrumError as error:
        return _say(str(error), NOTHING)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return DONE
    except Exception as error:
        if os.environ.get("ULTRUM_DEBUG"):
            raise
        return _say(_unexpected(error), NOTHING)
    return DONE


def _unexpected(error: Exception) -> str:
    if isinstance(error, OSError) and error.filename is not None:
        return f"{error.filename}: {error.strerror}."
    text = f"an unexpected fault, {type(error).__name__}: {error}. "
    return f"{text}Set ULTRUM_DEBUG=1 to see where, and please report it."


def _show_warning(message: Any, category: type[Warning], *_: Any) -> None:
    """Warnings of data as one plain line; those of libraries are not for the user."""
    from ultrum.errors import DataWarning

    if issubclass(category, DataWarning):
        from ultrum.cli import terminal_output

        terminal_output.warn(str(message))


def _say(text: str, code: int) -> int:
    log(f"error: {text}")
    click.echo(printable(f"ultrum: {text}"), err=True)
    return code
