"""Terminal output: aligned tables on stdout, progress and warnings on stderr."""

from __future__ import annotations

import contextlib
import json
import re
import shutil
import sys
import textwrap
from collections.abc import Callable, Iterator
from typing import Any, Final

import click
import pandas as pd

from ultrum.cli.verbosity import PROGRESS_END, echo, end_progress, is_quiet, is_verbose, log
from ultrum.errors import printable

_UNLIMITED: Final = 100_000
_WHOLE_COLUMNS: Final = ("address", "file")  # never cut, so that they can be copied
_FIGURE: Final = re.compile(r"[<-]*\d[\d.,]*(e[+-]?\d+)?( \(.*\))?")


def table(frame: pd.DataFrame, title: str = "") -> None:
    """Print a table; text wraps to fit the terminal, numbers and addresses are never cut."""
    from rich import box
    from rich.cells import cell_len
    from rich.console import Console
    from rich.measure import Measurement
    from rich.table import Table

    shown = Table(box=box.SIMPLE_HEAD, title=title or None, title_justify="left", pad_edge=False)
    for column in frame:
        number = _looks_numeric(frame[column])
        whole = number or column in _WHOLE_COLUMNS
        widths = [cell_len(_cell(value)) for value in frame[column]] if whole else []
        shown.add_column(
            printable(str(column)),
            justify="right" if number else "left",
            no_wrap=whole,
            overflow="fold",
            min_width=max(widths, default=None),
        )
    for row in frame.itertuples(index=False):
        shown.add_row(*[_cell(value) for value in row])
    end_progress()
    width = shutil.get_terminal_size().columns if sys.stdout.isatty() else 100
    console = Console(width=width, highlight=False, markup=False)
    least = Measurement.get(console, console.options.update(max_width=_UNLIMITED), shown).minimum
    console.width = max(width, least)  # the terminal wraps a line that is still too long
    console.print(shown)


def fixed(frame: pd.DataFrame, label: str, **places: int) -> pd.DataFrame:
    """Numbers as text with equal decimals a column, four by default, so that they align."""
    shown = frame.rename_axis(label).reset_index()
    for column in frame:
        digits = places.get(str(column), 4)
        smallest = 10.0**-digits
        shown[column] = [
            "—"
            if value != value  # noqa: PLR0124 - NaN differs from itself
            else f"<{smallest:g}"
            if column == "p" and value < smallest
            else f"{value:.{digits}f}"
            for value in frame[column]
        ]
    return shown.rename(columns={c: str(c).replace("_", " ") for c in shown})


def fact(name: str, text: str) -> None:
    """One fact, its name in a column of its own; long text wraps next to it on a terminal."""
    width = shutil.get_terminal_size().columns if sys.stdout.isatty() else 100
    lines = textwrap.wrap(printable(text), max(width - 22, 30), break_long_words=False) or [""]
    echo(f"{name:20s}  {lines[0]}")
    for line in lines[1:]:
        echo(f"{'':20s}  {line}")


def sparkline(values: Any, width: int = 72, rows: int = 4) -> str:
    """A series as a few lines of blocks, lowest value at the bottom; gaps stay open.

    Each column shows the mean of its stretch of observations.
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


def as_json(value: Any) -> None:
    """Machine-readable output; missing numbers are null."""
    echo(json.dumps(_plain(value), indent=2, ensure_ascii=False, allow_nan=False))


@contextlib.contextmanager
def progress() -> Iterator[Callable[[str], None]]:
    """A function that reports progress: on a terminal, as lines if requested, and to the log."""
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
    if pd.api.types.is_numeric_dtype(column):
        return True
    return bool(len(column)) and all(_is_figure(str(v)) for v in column)


def _is_figure(text: str) -> bool:
    """Whether a cell is a number, alone or with its error, or is missing or left out."""
    return text in ("…", "—", "missing") or bool(_FIGURE.fullmatch(text))


def _cell(value: Any) -> str:
    if isinstance(value, float):
        return "—" if value != value else f"{value:,.6g}"  # noqa: PLR0124 - NaN differs from itself
    return printable(str(value))


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(k): _plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    if hasattr(value, "item"):
        return _plain(value.item())
    if isinstance(value, float) and (value != value or value in (float("inf"), float("-inf"))):  # noqa: PLR0124
        return None
    return value if isinstance(value, str | int | float | bool | None) else str(value)
