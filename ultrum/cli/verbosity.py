"""Verbosity: results only, every step, or a log file as well, by the standard logging module."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from contextvars import ContextVar
from pathlib import Path
from typing import Final

import click

from ultrum.errors import printable

LOGGER: Final = logging.getLogger("ultrum.cli")
LOGGER.propagate = False


# Ends the progress line of this command; threads that fetch in parallel see it too.
PROGRESS_END: Final = ContextVar[Callable[[], None]]("end of the progress line")


def end_progress() -> None:
    """Remove the progress line, which output would run into; the next report brings it back."""
    end = PROGRESS_END.get(None)
    if end is not None:
        end()


def echo(text: object = "", err: bool = False) -> None:
    """Print a text; what comes from outside cannot steer the terminal."""
    end_progress()
    click.echo(printable(str(text)), err=err)


def configure(quiet: bool, verbose: bool, log: Path | None) -> None:
    """Apply the options before the command: the level of the terminal, and a log file."""
    for handler in list(LOGGER.handlers):
        LOGGER.removeHandler(handler)
        handler.close()
    LOGGER.addHandler(_LogFile(log) if log is not None else logging.NullHandler())
    LOGGER.setLevel(logging.ERROR if quiet else logging.DEBUG if verbose else logging.INFO)


def is_quiet() -> bool:
    """Whether only results and errors are printed."""
    return LOGGER.level >= logging.ERROR


def is_verbose() -> bool:
    """Whether each step is printed."""
    return LOGGER.level == logging.DEBUG


def log(text: str) -> None:
    """A dated line in the log, if there is one; messages hold no secret, so neither does the log."""
    for handler in LOGGER.handlers:  # whatever the level of the terminal
        handler.handle(logging.makeLogRecord({"msg": " ".join(printable(text).split())}))


class _LogFile(logging.FileHandler):
    """Lines with their instant in UTC; a file that cannot be written is reported once."""

    def __init__(self, file: Path) -> None:
        super().__init__(file, encoding="utf-8", delay=True)
        formatter = logging.Formatter("%(asctime)s %(message)s", "%Y-%m-%dT%H:%M:%SZ")
        formatter.converter = time.gmtime
        self.setFormatter(formatter)
        self.file = file

    def emit(self, record: logging.LogRecord) -> None:
        """Write one line."""
        try:
            super().emit(record)
        except OSError as error:
            LOGGER.removeHandler(self)
            text = f"warning: the log {self.file} cannot be written: {error.strerror}"
            click.echo(printable(text), err=True)
