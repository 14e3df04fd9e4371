"""Options of pictures: title, label of the axis, size."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, TypeVar

import click

if TYPE_CHECKING:
    from matplotlib.axes import Axes

F = TypeVar("F", bound=Callable[..., Any])
_DPI: Final = 140
_SMALLEST, _LARGEST = 200, 8_000  # pixels a side


@dataclass(frozen=True)
class PictureStyle:
    """What a picture is called, and how large it is.

    Attributes
    ----------
    title, label : str
        Of the picture and of its upright axis; the figure's own where they are empty.
    size : (int, int) or None
        Width and height in pixels.
    """

    title: str = ""
    label: str = ""
    size: tuple[int, int] | None = None

    def __bool__(self) -> bool:
        return bool(self.title or self.label or self.size)

    def write(self, ax: Axes, path: Path) -> None:
        """Draw the axes' figure into a PNG file."""
        from ultrum.report import figures

        figure: Any = ax.get_figure()
        if self.title and ax.get_title(loc="left") != self.title:
            ax.set_title(self.title, loc="left", fontweight="bold", fontsize=12.5)
        if self.label:
            ax.set_ylabel(self.label)
        if self.size:
            figure.set_size_inches(*(side / _DPI for side in self.size))
        figures.to_png(ax, path)


def _size(_context: click.Context, _option: click.Parameter, text: str) -> tuple[int, int] | None:
    """Width and height of a picture."""
    if not text:
        return None
    match = re.fullmatch(r"(\d{2,5})[x×](\d{2,5})", text)
    sides = (int(match[1]), int(match[2])) if match else (0, 0)
    if not all(_SMALLEST <= side <= _LARGEST for side in sides):
        raise click.BadParameter(
            f"'{text}' is not a size; write 1280x800, sides from {_SMALLEST} to {_LARGEST} pixels."
        )
    return sides


def picture_options(command: F) -> F:
    """The options --title, --label and --size, given to a command as one ``style``."""

    def _gathered(*args: Any, title: str, label: str, size: tuple[int, int] | None, **given: Any) -> Any:
        style = PictureStyle(title, label, size)
        if style and not (given.get("picture") or given.get("page")):
            raise click.UsageError("--title, --label and --size need --picture.")
        return command(*args, style=style, **given)

    wrapped: Any = _gathered
    wrapped.__name__, wrapped.__doc__ = command.__name__, command.__doc__
    for option in (
        click.option(
            "--size",
            default="",
            callback=_size,
            metavar="WIDTHxHEIGHT",
            help="Of the picture, in pixels.",
        ),
        click.option("--label", default="", help="Label of the upright axis of the picture."),
        click.option("--title", default="", help="Title of the picture."),
    ):
        wrapped = option(wrapped)
    wrapped.__click_params__ = [
        *getattr(command, "__click_params__", []),
        *wrapped.__click_params__,
    ]
    return wrapped  # type: ignore[no-any-return]
