"""Terminal output: tables on stdout, progress and warnings on stderr, verbosity and exit codes.

Tracebacks are not shown; set ULTRUM_DEBUG=1 to see them.
"""

from __future__ import annotations

import contextlib
import itertools
import json
import logging
import os
import re
import shlex
import shutil
import sys
import textwrap
import time
import warnings
from collections.abc import Callable, Collection, Hashable, Iterator, Mapping, Sequence
from contextvars import ContextVar
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Final, Literal

import click

from ultrum.errors import (
    COUNTS_SHOWN,
    DataWarning,
    PartialReadingWarning,
    StudyError,
    UltrumError,
    WithFix,
    options_in_text,
    printable,
)

if TYPE_CHECKING:
    import pandas as pd
    from rich.table import Table

LOGGER: Final = logging.getLogger("ultrum.cli")
LOGGER.propagate = False


# Ends the progress line of this command; threads that fetch in parallel see it too.
PROGRESS_END: Final = ContextVar[Callable[[], None]]("end of the progress line")


def end_progress() -> None:
    """Remove the progress line before other output; the next report shows it again."""
    end = PROGRESS_END.get(None)
    if end is not None:
        end()


def echo(text: object = "", err: bool = False) -> None:
    """Print a text; external text cannot control the terminal."""
    end_progress()
    click.echo(printable(str(text)), err=err)


def configure(quiet: bool, verbose: bool, log: Path | None) -> None:
    """Apply the global options: the verbosity on the terminal, and a log file."""
    library = logging.getLogger("ultrum")
    for handler in list(LOGGER.handlers):
        LOGGER.removeHandler(handler)
        library.removeHandler(handler)
        handler.close()
    LOGGER.addHandler(_LogFile(log) if log is not None else logging.NullHandler())
    if log is not None:
        library.addHandler(LOGGER.handlers[0])
        library.setLevel(logging.INFO)
    LOGGER.setLevel(logging.ERROR if quiet else logging.DEBUG if verbose else logging.INFO)


def is_quiet() -> bool:
    """Whether only results and errors are printed."""
    return LOGGER.level >= logging.ERROR


def is_verbose() -> bool:
    """Whether each step is printed."""
    return LOGGER.level == logging.DEBUG


def log(text: str) -> None:
    """A dated line in the log, if there is one; messages contain no secrets, so neither does the log."""
    for handler in LOGGER.handlers:  # whatever the level of the terminal
        handler.handle(logging.makeLogRecord({"msg": text}))


class _OneLine(logging.Formatter):
    """Every record on one line; texts of servers and files cannot begin another or control a terminal."""

    def format(self, record: logging.LogRecord) -> str:
        """The line of a record."""
        return " ".join(printable(super().format(record)).split())


class _LogFile(logging.FileHandler):
    """Lines with their instant in UTC; a file that cannot be written is reported once."""

    def __init__(self, file: Path) -> None:
        super().__init__(file, encoding="utf-8", delay=True)
        formatter = _OneLine("%(asctime)s %(message)s", "%Y-%m-%dT%H:%M:%SZ")
        formatter.converter = time.gmtime
        self.setFormatter(formatter)
        self.file = file

    def emit(self, record: logging.LogRecord) -> None:
        """Write one line."""
        try:
            super().emit(record)
        except OSError as error:
            LOGGER.removeHandler(self)
            logging.getLogger("ultrum").removeHandler(self)
            text = f"warning: the log {self.file} cannot be written: {error.strerror}"
            click.echo(printable(text), err=True)


# Terminal output: aligned tables on stdout, progress and warnings on stderr

_UNLIMITED: Final = 100_000
_LONGEST_WORD: Final = 16  # longer words may be broken
_WHOLE_COLUMNS: Final = ("address", "file")
_SHORT_ADDRESS: Final = 22  # characters that an address has at least on a line
_NARROW_TITLE: Final = 20  # a column of titles that would be narrower is set below the addresses
_FIGURE: Final = re.compile(r"(?:< )?[<-]*\d[\d.,]*(e[+-]?\d+)?([ \n]\(.*\))?")


def table(frame: pd.DataFrame, title: str = "") -> None:
    """Print a table that fits the terminal; numbers and words are never cut, addresses only after their marks."""
    from rich.console import Console
    from rich.measure import Measurement

    width = shutil.get_terminal_size().columns if sys.stdout.isatty() else 100
    console = Console(width=width, highlight=False, markup=False)

    def _width_of(cells: pd.DataFrame) -> int:
        return Measurement.get(
            console, console.options.update(max_width=_UNLIMITED), _laid_out(cells, "")
        ).maximum

    cells = frame.astype(object)
    for column in frame:
        cells[column] = [_cell(value) for value in frame[column]]
    titles: list[str] | None = None
    if {"address", "title"} <= set(cells) and _width_of(cells) > width:  # the address often ends with the title
        pairs = zip(cells["address"], cells["title"], strict=True)
        cells["title"] = titles = ["" if a.endswith(f"#{t}") else t for a, t in pairs]
        if not any(titles):
            cells, frame, titles = cells.drop(columns="title"), frame.drop(columns="title"), None
    words = [c for c in frame if not _looks_numeric(frame[c])]
    prose = [c for c in words if c not in _WHOLE_COLUMNS]
    widths = _widths_to_save({c: list(cells[c]) for c in prose}, _width_of(cells) - width)
    for column, most in widths.items():
        cells[column] = [
            "\n".join(textwrap.wrap(text, most, break_on_hyphens=False)) or text for text in cells[column]
        ]
    below = titles is not None and widths.get("title", _NARROW_TITLE) < _NARROW_TITLE
    rest = cells.drop(columns="title") if below else cells
    for column in (c for c in words if c in _WHOLE_COLUMNS):
        excess = _width_of(rest) - width
        if excess > 0:
            longest = max(map(len, rest[column]), default=0)
            rest[column] = [_fold(text, max(_SHORT_ADDRESS, longest - excess)) for text in rest[column]]
    if titles is not None and (below or _width_of(rest) > width):
        rest = _with_titles_below(rest, titles)
    end_progress()
    console.width = max(width, _width_of(rest))  # the terminal wraps a line that is still too long
    console.print(_laid_out(rest, title, numeric=set(frame) - set(words)))


def _with_titles_below(cells: pd.DataFrame, titles: Sequence[str]) -> pd.DataFrame:
    """Cells with each title on the lines below its address."""
    most = max(_SHORT_ADDRESS, *(len(line) for text in cells["address"] for line in text.split("\n")))
    wrapped = [textwrap.wrap(title, most, break_on_hyphens=False) for title in titles]
    cells["address"] = ["\n".join([a, *lines]) for a, lines in zip(cells["address"], wrapped, strict=True)]
    return cells.drop(columns="title", errors="ignore").rename(columns={"address": "address, title"})


def _laid_out(cells: pd.DataFrame, title: str, numeric: Collection[object] = ()) -> Table:
    """A table of texts whose lines are not wrapped again."""
    from rich import box
    from rich.table import Table

    shown = Table(box=box.SIMPLE_HEAD, title=title or None, title_justify="left", pad_edge=False)
    for column in cells:
        heading = printable(str(column))
        justify: Literal["left", "right"] = "right" if column in numeric else "left"
        shown.add_column(heading, justify=justify, no_wrap=True, overflow="fold")
    for row in cells.itertuples(index=False):
        shown.add_row(*row)
    return shown


def _widths_to_save(columns: Mapping[Hashable, list[str]], excess: int) -> dict[Hashable, int]:
    """Widths of columns of words that together save ``excess`` characters: the widest give way first.

    A column is not narrower than its heading and its longest word; those that keep their width are left out.
    """
    longest = {name: max(map(len, texts), default=0) for name, texts in columns.items()}
    words = {n: max((len(w) for t in texts for w in t.split()), default=1) for n, texts in columns.items()}
    least = {name: max(min(size, _LONGEST_WORD), len(str(name))) for name, size in words.items()}
    for most in range(max(longest.values(), default=0), 0, -1):
        widths = {name: min(longest[name], max(least[name], most)) for name in columns}
        if sum(longest.values()) - sum(widths.values()) >= excess:
            return {name: width for name, width in widths.items() if width < longest[name]}
    return least


def _fold(address: str, most: int) -> str:
    """An address on lines of at most so many characters, broken after its marks."""
    lines = [""]
    coarse = re.findall(r"[^/#?&:, ]*[/#?&:, ]?", address)
    fine = (re.findall(r"[^._-]*[._-]?", part) if len(part) > most else [part] for part in coarse)
    for part in itertools.chain.from_iterable(fine):
        if lines[-1] and len(lines[-1]) + len(part) > most:
            lines.append("")
        lines[-1] += part
    return "\n".join(line for line in lines if line)


def align_decimals(frame: pd.DataFrame, label: str, **places: int) -> pd.DataFrame:
    """Numbers as text with equal decimals per column, four by default, for alignment."""
    shown = frame.rename_axis(label).reset_index()
    for column in frame:
        digits = places.get(str(column), 4)
        smallest = 10.0**-digits
        shown[column] = [
            "—"
            if value != value  # noqa: PLR0124 - NaN differs from itself
            else f"< {smallest:g}"
            if column == "p" and value < smallest
            else f"{value:.{digits}f}"
            for value in frame[column]
        ]
    return shown.rename(columns={c: str(c).replace("_", " ") for c in shown})


def fact(name: str, text: str) -> None:
    """One fact with its name in its own column; long text wraps on a terminal."""
    width = shutil.get_terminal_size().columns if sys.stdout.isatty() else 100
    lines = textwrap.wrap(printable(text), max(width - 22, 30), break_long_words=False) or [""]
    echo(f"{name:20s}  {lines[0]}")
    for line in lines[1:]:
        echo(f"{'':20s}  {line}")


def sparkline(values: object, width: int = 72, rows: int = 4) -> str:
    """A series as a few lines of blocks, lowest value at the bottom; gaps stay empty.

    Each column shows the mean of a group of observations.
    """
    import numpy as np

    numbers = np.asarray(values, dtype=float)
    parts = np.array_split(numbers, min(width, len(numbers)))
    means = np.array([np.nanmean(p) if np.isfinite(p).any() else np.nan for p in parts])
    low, high = np.nanmin(means), np.nanmax(means)
    scaled = (means - low) / (high - low) if high > low else np.where(np.isfinite(means), 0.5, np.nan)
    eighths = np.where(np.isfinite(scaled), 1 + scaled * (8 * rows - 1), 0).round().astype(int)
    blocks = " ▁▂▃▄▅▆▇█"
    lines = ["".join(blocks[int(min(max(e - 8 * r, 0), 8))] for e in eighths) for r in range(rows - 1, -1, -1)]
    return "\n".join(lines)


def warn(text: str, word: str = "warning") -> None:
    """A warning, or another kind of message, on stderr; wrapped between words on a terminal."""
    log(f"{word}: {text}")
    if is_quiet():
        return
    line = printable(f"{word}: {text}")
    if sys.stderr.isatty():
        width = shutil.get_terminal_size().columns
        line = textwrap.fill(line, width, subsequent_indent=" " * 9, break_long_words=False)
    end_progress()
    click.echo(line, err=True)


def as_json(value: object) -> None:
    """Machine-readable output; missing numbers are null."""
    echo(json.dumps(_plain(value), indent=2, ensure_ascii=False, allow_nan=False))


@contextlib.contextmanager
def progress() -> Iterator[Callable[[str], None]]:
    """A progress function: on a terminal, as lines if requested, and to the log."""
    if is_verbose():
        yield _report
        return
    if is_quiet() or not sys.stderr.isatty():
        yield log
        return
    from rich.console import Console

    with Console(stderr=True).status("starting") as status:

        def _shown(text: str) -> None:
            log(text)
            status.update(printable(text).replace("[", "\\["))
            status.start()  # an output may have ended it

        token = PROGRESS_END.set(status.stop)
        try:
            yield _shown
        finally:
            PROGRESS_END.reset(token)


def _report(text: str) -> None:
    log(text)
    echo(text, err=True)


def _looks_numeric(column: pd.Series) -> bool:
    from pandas.api.types import is_numeric_dtype

    if is_numeric_dtype(column):
        return True
    return bool(len(column)) and all(_is_figure(str(v)) for v in column)


def _is_figure(text: str) -> bool:
    """Whether a cell is a number, alone or with its standard error, or a missing value."""
    return text in ("…", "—", "missing") or bool(_FIGURE.fullmatch(text))


def _cell(value: object) -> str:
    if isinstance(value, float):
        return "—" if value != value else f"{value:,.6g}"  # noqa: PLR0124 - NaN differs from itself
    return printable(str(value))


def _plain(value: object) -> object:
    if isinstance(value, dict):
        return {str(k): _plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    if hasattr(value, "item"):
        return _plain(value.item())
    if isinstance(value, float) and (value != value or value in (float("inf"), float("-inf"))):  # noqa: PLR0124
        return None
    return value if isinstance(value, str | int | float | bool | None) else str(value)


# Exit codes: 0 done, 1 partly done, 2 usage error, 3 failed

DONE, IN_PART, ASKED_WRONGLY, NOTHING, STOPPED = 0, 1, 2, 3, 130


FAILED: Final[ContextVar[click.Command | None]] = ContextVar("failed", default=None)
_FIXES: Final = {
    "returns": "Add --returns COLUMN.",
    "groups": "Write --by COLUMN=5 for five groups, or --by COLUMN=0.3,0.7.",
    "price_column": "Add --price-column COLUMN.",
    "market": "Name it with --market COLUMN.",
    "risk_free": "Set --risk-free to the heading of its column, or to an annual rate such as 3%.",
    "units": "Set --factor-units percent or decimal; for prices, --read units=percent.",
    "annual_rate": "Set --risk-free to an annual rate, such as that mean.",
    "rate_size": "Set --factor-units, or --risk-free to an annual rate such as 3%.",
    "total_return_factors": "For a total return add --total-return COLUMN.",
    "how": "Add --how last, mean or sum.",
    "measure_or_how": "Add --read measure=return for returns in a file; else add --how last, mean or sum.",
    "disaggregate": "Use --step disaggregate=FREQUENCY,how=hold (or linear, denton) in place of --frequency.",
    "available_frequency": "Use one of them; --frequency converts it to a lower one.",
    "income": "Remove --dividends, or set --price-column to the closing price.",
    "currency": "Choose assets of one currency with --asset; a study converts with [panel] exchange_rates.",
    "name_of_two": "Rename the column in one of the files, or the file that names an asset.",
    "persistent": "Set --errors ewc-prewhitened.",
    "splits": "Set --splits FILE, or correct the prices that are wrong.",
}
_FIXES_OF_OTHERS: Final = {  # where the command does not have the option
    "units": "Add --read units=percent.",
    "splits": "'ultrum estimate --splits FILE' uses splits; correct the prices that are wrong.",
}


class Application(click.Group):
    """The group of commands; it records which one failed, so that the message can use its options."""

    def invoke(self, ctx: click.Context) -> object:
        """Run a command, and record it if it fails."""
        try:
            return super().invoke(ctx)
        except UltrumError:
            FAILED.set(self.commands.get(ctx.invoked_subcommand or ""))
            raise


class PartlyDoneError(Exception):
    """Raised at the end of a command that was only partly successful."""


def run_safely(app: Callable[..., object]) -> int:
    """Run the command line and convert every ending into an exit code and one message."""
    shown: dict[str, type[Warning]] = {}
    with warnings.catch_warnings():
        warnings.showwarning = partial(_show_warning, shown)  # for the command alone
        token = COUNTS_SHOWN.set(False)
        code = _exit_code_of(app)
        COUNTS_SHOWN.reset(token)
    in_part = any(issubclass(category, PartialReadingWarning) for category in shown.values())
    return IN_PART if code == DONE and in_part else code


def _exit_code_of(app: Callable[..., object]) -> int:  # noqa: PLR0911 - one return per ending
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
        return _say(with_options(error, FAILED.get()), ASKED_WRONGLY)
    except UltrumError as error:
        return _say(with_options(error, FAILED.get()), NOTHING)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return DONE
    except Exception as error:
        if os.environ.get("ULTRUM_DEBUG"):
            raise
        return _say(_describe_crash(error), NOTHING)
    return DONE


def with_options(message: WithFix, command: click.Command | None) -> str:
    """The message with options in place of keywords, if the command has them."""
    options = {o for p in command.params for o in p.opts} if command else set()
    fixes = {setting: fix for setting, fix in _FIXES.items() if _options_in(fix) <= options}
    text = message.with_fix({**_FIXES_OF_OTHERS, **fixes})
    if "--read" in options:
        from ultrum.core.series.metadata import Metadata
        from ultrum.sources.table.reading_result import TableOptions

        names = (*TableOptions.__dataclass_fields__, *Metadata.__dataclass_fields__)
        text = options_in_text(text, names, _read_option)
        text = re.sub(r"(?<![\w:])file:(?=[^/\s])", "", text)  # the source of local files
    return text


def _read_option(name: str, value: str) -> str:
    text = f"{name}={value}"
    return f"--read {shlex.quote(text) if ' ' in text else text}"


def _options_in(fix: str) -> set[str]:
    """The options in a fix."""
    return {word.strip(".,:;") for word in fix.split() if word.startswith("--")}


def _describe_crash(error: Exception) -> str:
    if isinstance(error, OSError) and error.filename is not None:
        return f"{error.filename}: {error.strerror}."
    text = f"an unexpected error, {type(error).__name__}: {error}. "
    return f"{text}Set ULTRUM_DEBUG=1 to see where it occurred, and please report it."


def _show_warning(shown: dict[str, type[Warning]], message: object, category: type[Warning], *_: object) -> None:
    """Data warnings as one plain line, once even if several stages give it; those of libraries are not shown."""
    if not isinstance(message, DataWarning):
        return
    context = click.get_current_context(silent=True)
    text = with_options(message, context.command if context else None)
    if text not in shown:
        shown[text] = category
        warn(text)


def _say(text: str, code: int) -> int:
    log(f"error: {text}")
    click.echo(printable(f"ultrum: {text}"), err=True)
    return code
