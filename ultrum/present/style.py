"""One quiet style for every figure: readable on a screen and in a journal column, safe in any ink."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

if TYPE_CHECKING:
    from matplotlib.axes import Axes

INK, TIDE, LANTERN, STONE, MIST = "#1d2a33", "#0b6477", "#c46a10", "#6b7780", "#dfe5e8"
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
    "svg.hashsalt": "ultrum",
}


def axes_for(ax: Axes | None, height: float = 5.4) -> Axes:
    """The axes given, or those of a new figure of its own, outside pyplot's memory."""
    if ax is not None:
        return ax
    from matplotlib.figure import Figure

    return Figure(figsize=(9.0, height), layout="constrained").subplots()


def foot(ax: Axes, text: str) -> None:
    """Source and sample, small, under the axes."""
    figure = ax.get_figure()
    if figure is not None:
        figure.supxlabel(text, x=0.01, ha="left", fontsize=8, color=STONE)
