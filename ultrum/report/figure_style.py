"""The style of every figure: readable on a screen and in a journal column, colour-blind safe."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Final, ParamSpec, TypeVar

if TYPE_CHECKING:
    from matplotlib.axes import Axes

P = ParamSpec("P")
R = TypeVar("R")
INK, TIDE, LANTERN, STONE, MIST = "#1d2a33", "#0b6477", "#c46a10", "#6b7780", "#dfe5e8"
PLUM, MOSS, SKY = "#7b3f72", "#5d7a1f", "#4f93c4"
LINES: Final = (TIDE, LANTERN, PLUM, MOSS, SKY, STONE)  # distinct in grey and for the colour-blind
DASHES: Final = ("solid", "solid", "solid", (0, (5, 2)), (0, (1, 1.4)), (0, (6, 2, 1, 2)))
_LONGEST: Final = 40  # letters of a name on an axis
MOST_NAMES: Final = 80  # that can be read in one figure
SHADES: Final = ("#f3e3cf", "#d9e8ec", "#e6dbe5", "#e3e9d2")
STYLE: Final[Any] = {
    "figure.figsize": (9.0, 5.4),
    "figure.dpi": 120,
    "figure.facecolor": "white",
    "font.family": "sans-serif",
    "font.sans-serif": ["DejaVu Sans"],
    "font.size": 10.5,
    "text.color": INK,
    "axes.edgecolor": STONE,
    "axes.labelcolor": INK,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.titlesize": 12.5,
    "axes.titleweight": "bold",
    "axes.titlelocation": "left",
    "axes.titlepad": 12.0,
    "axes.grid": True,
    "axes.axisbelow": True,
    "grid.color": MIST,
    "grid.linewidth": 0.8,
    "xtick.color": STONE,
    "ytick.color": STONE,
    "xtick.labelcolor": INK,
    "ytick.labelcolor": INK,
    "legend.frameon": False,
    "svg.fonttype": "path",
    "text.parse_math": False,  # a name with two dollars in it is a name
    "svg.hashsalt": "ultrum",
}


def styled(draw: Callable[P, R]) -> Callable[P, R]:
    """Draw under the house style, leaving the user's own settings alone."""

    @functools.wraps(draw)
    def _drawn(*args: P.args, **kwargs: P.kwargs) -> R:
        import matplotlib as mpl

        with mpl.rc_context(rc=STYLE):
            drawn = draw(*args, **kwargs)
            _shorten(drawn)
            return drawn

    return _drawn


def _shorten(drawn: Any) -> None:
    """Names so long that they would leave no room for the figure end in dots."""
    from matplotlib.axes import Axes

    figure: Any = drawn.get_figure() if isinstance(drawn, Axes) else None
    for ax in figure.axes if figure is not None else ():
        for axis in (ax.xaxis, ax.yaxis):
            texts = [label.get_text() for label in axis.get_ticklabels()]
            if max(map(len, texts), default=0) > _LONGEST:
                axis.set_ticklabels([_short(text) for text in texts])
        legend = ax.get_legend()
        for text in [*ax.texts, *(legend.get_texts() if legend else [])]:
            if len(text.get_text()) > 2 * _LONGEST:
                text.set_text(_short(text.get_text()))


def _short(text: str) -> str:
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"


def axes_for(ax: Axes | None, height: float = 5.4) -> Axes:
    """The axes given, or those of a new figure of its own, outside pyplot's memory."""
    if ax is not None:
        return ax
    from matplotlib.figure import Figure

    figure = Figure(figsize=(9.0, height), layout="constrained")
    drawn: Axes = figure.subplots(subplot_kw={"axes_class": _shown_axes()})
    return drawn


@functools.cache
def _shown_axes() -> type[Axes]:
    """Axes that a notebook shows as the picture they belong to, since no window and no pyplot holds it."""
    import io

    from matplotlib.axes import Axes

    class ShownAxes(Axes):
        """Axes with a picture of their own."""

        def _repr_png_(self) -> bytes:
            packed = io.BytesIO()
            figure: Any = self.get_figure()
            figure.savefig(packed, format="png", metadata={"Software": None})
            return packed.getvalue()

    return ShownAxes


def foot(ax: Axes, *parts: str, source: str = "") -> None:
    """Source, sample and further notes, small, under the axes; as many lines as the width asks for."""
    import textwrap

    figure: Any = ax.get_figure()
    if figure is not None:
        caption = "; ".join(part for part in (f"Source: {source}" if source else "", *parts) if part)
        text = textwrap.fill(caption, int(15.5 * figure.get_figwidth()))
        figure.supxlabel(text, x=0.01, ha="left", fontsize=8, color=STONE)
