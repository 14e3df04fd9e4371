"""The style of every figure, label placement, and figures as files of reproducible bytes."""

from __future__ import annotations

import functools
import io
import textwrap
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Final, Literal, ParamSpec, TypeVar, cast

import numpy as np

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Array
from ultrum.errors import UltrumError, one_of

if TYPE_CHECKING:
    from matplotlib.artist import Artist
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from matplotlib.font_manager import FontProperties


P = ParamSpec("P")
R = TypeVar("R")
INK, TIDE, LANTERN, STONE, MIST = "#1d2a33", "#0b6477", "#c46a10", "#6b7780", "#dfe5e8"
PLUM, MOSS, SKY = "#7b3f72", "#5d7a1f", "#4f93c4"
# Distinct for the colour-blind; in grey print two lines of like brightness differ in their dashes.
LINES: Final = (TIDE, LANTERN, PLUM, MOSS, SKY, STONE)
DASHES: Final = ("solid", "solid", (0, (5, 2)), (0, (1, 1.4)), (0, (10, 3)), (0, (6, 2, 1, 2)))
_TEXT_SIZE: Final = 10.5  # points of normal text in a figure of the usual size
_LEAST_TEXT, _MOST_TEXT = 7.0, 20.0
_WIDTH: Final = 9.0
_WIDTHS: Final = {"column": 3.5, "page": 7.0}  # inches
_WIDTH_LIMITS: Final = (2.5, 20.0)
_LONGEST: Final = 40  # letters of a name on an axis
MOST_NAMES: Final = 80  # that can be read in one figure
SHADES: Final = ("#f3e3cf", "#d9e8ec", "#e6dbe5", "#e3e9d2")
STYLE: Final[Any] = {
    "figure.figsize": (_WIDTH, 5.4),
    "figure.dpi": 120,
    "figure.facecolor": "white",
    "font.family": "sans-serif",
    "font.sans-serif": ["DejaVu Sans"],
    "font.size": _TEXT_SIZE,
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


@dataclass(frozen=True)
class _Layout:
    """Width of new figures in inches (0: each figure's own), the size of normal text in points, and its font."""

    width: float = 0.0
    text_size: float = _TEXT_SIZE
    font: str = ""


_LAYOUT: Final[ContextVar[_Layout]] = ContextVar("layout of figures", default=_Layout())  # noqa: B039 (frozen)


@contextmanager
def print_layout(
    width: Literal["column", "page"] | float = "column", *, font: str = "", text_size: float = 8.0
) -> Iterator[None]:
    """Draw figures at the size of print, inside a ``with`` block.

    Parameters
    ----------
    width : {"column", "page"} or float
        Width in inches: 3.5 for one column of a journal, 7 for a page, or a number from 2.5 to 20.
    font : str
        An installed font, such as ``"DejaVu Serif"``; by default that of the package.
    text_size : float
        Size of normal text in points, 7 to 20. Small print is never below 7 points.

    Yields
    ------
    None
        Figures that the block draws have this size and font.

    Raises
    ------
    UltrumError
        If the width or size is outside its limits, or the font is not installed.

    Examples
    --------
    >>> import ultrum as ul
    >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
    >>> with ul.figures.print_layout("column", font="DejaVu Serif"):
    ...     ax = fit.plot()
    >>> float(ax.get_figure().get_figwidth())
    3.5
    """
    inches = _WIDTHS.get(width, width) if isinstance(width, str) else width
    if isinstance(inches, str) or not _WIDTH_LIMITS[0] <= inches <= _WIDTH_LIMITS[1]:
        raise UltrumError(
            f"width={width!r}: write 'column' (3.5 inches), 'page' (7 inches), or a number of inches from "
            f"{_WIDTH_LIMITS[0]:g} to {_WIDTH_LIMITS[1]:g}."
        )
    if not _LEAST_TEXT <= text_size <= _MOST_TEXT:
        raise UltrumError(f"text_size={text_size:g}: texts have {_LEAST_TEXT:g} to {_MOST_TEXT:g} points.")
    before = _LAYOUT.set(_Layout(float(inches), text_size, _check_font(font)))
    try:
        yield
    finally:
        _LAYOUT.reset(before)


def _check_font(name: str) -> str:
    """The font, if Matplotlib finds it; a missing one would be replaced without a word."""
    from matplotlib import font_manager

    if name:
        try:
            font_manager.findfont(name, fallback_to_default=False)
        except ValueError as error:
            installed = sorted(set(font_manager.get_font_names()))
            raise UltrumError(f"The font '{name}' is not installed; {one_of(name, installed)}") from error
    return name


def _settings_of(layout: _Layout) -> dict[str, object]:
    small = layout.text_size / _TEXT_SIZE
    sizes = {"font.size": layout.text_size, "axes.titlesize": 12.5 * small, "axes.titlepad": 12.0 * small}
    fonts = {"font.sans-serif": [layout.font, *STYLE["font.sans-serif"]]} if layout.font else {}
    return {**STYLE, **sizes, **fonts}


def points(size: float) -> float:
    """Points of a text with ``size`` points in a figure of the usual size: fewer in print, at least 7."""
    return max(_LEAST_TEXT, size * _LAYOUT.get().text_size / _TEXT_SIZE)


def figure_function(draw: Callable[P, R]) -> Callable[P, R]:
    """A figure: its arguments are checked, and it is drawn in the package's style, not the user's settings."""
    checked = validate_arguments(draw)

    @functools.wraps(draw)
    def _drawn(*args: P.args, **kwargs: P.kwargs) -> R:
        import matplotlib as mpl

        with mpl.rc_context(rc=STYLE | _settings_of(_LAYOUT.get())):
            drawn = checked(*args, **kwargs)
            _fit_texts(drawn)
            return drawn

    return _drawn


def _fit_texts(drawn: object) -> None:
    """Titles and labels of axes in lines that fit; names too long for the figure end in an ellipsis."""
    from matplotlib.axes import Axes

    panels = [ax for ax in (drawn if isinstance(drawn, list) else [drawn]) if isinstance(ax, Axes)]
    if panels and hasattr(figure_of(panels[0]), "style"):  # in a user's figure other axes are the user's
        panels = figure_of(panels[0]).axes
    for ax in panels:
        _wrap_labels(ax)
        for axis in (ax.xaxis, ax.yaxis):
            texts = [label.get_text() for label in axis.get_ticklabels()]
            if max(map(len, texts), default=0) > _LONGEST:
                axis.set_ticklabels([_short(text) for text in texts])
        legend = ax.get_legend()
        for text in [*ax.texts, *(legend.get_texts() if legend else [])]:
            if len(text.get_text()) > 2 * _LONGEST:
                text.set_text(_short(text.get_text()))


def _wrap_labels(ax: Axes) -> None:
    """Title and labels of the axes in lines no longer than its panel."""
    from matplotlib.text import Text

    place = ax.get_subplotspec()
    rows, columns = place.get_gridspec().get_geometry() if place is not None else (1, 1)
    wide, tall = 72 * figure_of(ax).get_size_inches() / (columns, rows)
    limits = {ax.get_title("left"): wide - 60, ax.get_xlabel(): wide - 60, ax.get_ylabel(): 0.78 * tall}
    for text in ax.findobj(lambda artist: isinstance(artist, Text) and artist.get_text() in limits):
        words = cast("Text", text).get_text()
        if words:
            cast("Text", text).set_text(wrap_text(words, cast("Text", text).get_fontproperties(), limits[words]))


def wrap_text(text: str, font: FontProperties, width: float) -> str:
    """Text in lines of at most so many points, by the width of its letters in a font."""
    from matplotlib.textpath import text_to_path

    lines = []
    for line in text.split("\n"):
        measured = text_to_path.get_text_width_height_descent(line, font, ismath=False)[0] if line else 0.0
        lines.append(
            textwrap.fill(line, max(8, int(0.94 * len(line) * width / measured))) if measured > width else line
        )
    return "\n".join(lines)


def _short(text: str) -> str:
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"


def figure_of(ax: Axes) -> Figure:
    """The figure of some axes."""
    return cast("Figure", ax.get_figure())


def new_figure(height: float, *, width: float = _WIDTH, per_row: float = 0.0, rows: int = 0) -> Figure:
    """A figure outside pyplot, which keeps the style it is drawn in.

    ``height`` follows the width of a print layout; ``per_row`` follows its text, so that rows stay legible.
    """
    layout = _LAYOUT.get()
    inches = layout.width or width
    height *= (inches / width) ** 0.6  # narrow figures are less flat
    height += rows * per_row * layout.text_size / _TEXT_SIZE
    figure = _figure_class()(figsize=(inches, height), layout="constrained")
    figure.style = _settings_of(layout)  # type: ignore[attr-defined]
    return figure


def axes_for(ax: Axes | None, height: float = 5.4, *, per_row: float = 0.0, rows: int = 0) -> Axes:
    """The given axes, or those of a new figure."""
    if ax is not None:
        return ax
    figure = new_figure(height, per_row=per_row, rows=rows)
    drawn: Axes = figure.subplots(subplot_kw={"axes_class": _shown_axes()})
    return drawn


@functools.cache
def _figure_class() -> type[Figure]:
    """Figures that remember their style: axes make new texts when a file is written."""
    from matplotlib.figure import Figure

    class StyledFigure(Figure):
        """A figure and its style."""

        style: object = STYLE

    return StyledFigure


@functools.cache
def _shown_axes() -> type[Axes]:
    """Axes that a notebook displays as their figure, since it is outside pyplot."""
    from matplotlib.axes import Axes

    class ShownAxes(Axes):
        """Axes of a new figure."""

        def _repr_png_(self) -> bytes:
            packed = io.BytesIO()
            figure = figure_of(self)
            figure.savefig(packed, format="png", metadata={"Software": None})
            return packed.getvalue()

    return ShownAxes


def foot(ax: Axes, *parts: str, source: str = "") -> None:
    """Caption with source, sample and notes in small print, wrapped to the width of the figure."""
    figure = figure_of(ax)
    if figure is not None:
        caption = "; ".join(part for part in (f"Source: {source}" if source else "", *parts) if part)
        text = wrap_to_width(ax, caption, points(8))
        figure.supxlabel(text, x=0.01, ha="left", fontsize=points(8), color=STONE)


def wrap_to_width(ax: Axes, text: str, size: float, share: float = 0.95) -> str:
    """Text in lines that fit into a share of the figure's width at a size in points."""
    from matplotlib.font_manager import FontProperties

    return wrap_text(text, FontProperties(size=size), 72 * share * figure_of(ax).get_figwidth())


def heading(ax: Axes, title: str, subtitle: str = "", *, legend_rows: int = 0) -> None:
    """Title over the axes, with a line of results below it, and room for the rows of a legend."""
    size = points(9.5)
    pad = points(12) + 1.6 * legend_rows * size
    if subtitle:
        below = wrap_to_width(ax, subtitle, size, 0.8)
        text = ax.annotate(below, (0, 1), xytext=(0, points(7)), xycoords="axes fraction", fontsize=size)
        text.set_anncoords("offset points")
        pad += 1.35 * size * (below.count("\n") + 1)
    ax.set_title(title, pad=pad)


def title_above(figure: Figure, title: str) -> None:
    """Title over several panels."""
    from matplotlib.font_manager import FontProperties

    font = FontProperties(size=points(12.5), weight="bold")
    text = wrap_text(title, font, 70 * figure.get_figwidth())
    figure.suptitle(text, x=0.01, ha="left", fontproperties=font)


def room_for_texts(share: float) -> float:
    """Share of a figure's width that the same texts need in the present layout."""
    layout = _LAYOUT.get()
    return share * points(_TEXT_SIZE) / _TEXT_SIZE * _WIDTH / (layout.width or _WIDTH)


def replace_title(ax: Axes, title: str) -> None:
    """Another title in the place of the figure's own, in lines that fit."""
    from matplotlib.text import Text

    figure, shown = figure_of(ax), ax.get_title("left")
    if figure.get_suptitle():
        title_above(figure, title)
        return
    if not shown:
        ax.set_title(title)
    for text in ax.findobj(Text):
        if text not in ax.texts and text.get_text() == shown != "":
            text.set_text(title)
    _wrap_labels(ax)


def columns_that_fit(inches: float) -> int:
    """Panels of a width side by side in a print layout; 0 for figures of the usual size."""
    width = _LAYOUT.get().width
    return max(1, int(width / inches)) if width else 0


def legend_above(ax: Axes, handles: Sequence[Artist], names: Sequence[str]) -> int:
    """Legend above the axes in as many columns as fit; returns its number of rows of text."""
    from matplotlib.font_manager import FontProperties
    from matplotlib.textpath import text_to_path

    size = points(9.5)
    font = FontProperties(size=size)
    texts = [line for name in names for line in name.split("\n")]
    longest = max(text_to_path.get_text_width_height_descent(text, font, ismath=False)[0] for text in texts)
    width = 72 * 0.86 * figure_of(ax).get_figwidth()
    columns = int(np.clip(width // (longest + 5 * size), 1, len(names)))  # a line and the space between columns
    corner, shape = (0.0, 1.0), {"borderaxespad": 0.2, "fontsize": size, "handlelength": 2.2}
    ax.legend(handles, names, loc="lower left", bbox_to_anchor=corner, ncols=columns, **shape)
    down = -(-len(names) // columns)  # a legend is filled column by column
    return sum(max(n.count("\n") + 1 for n in names[row::down]) for row in range(down))


# Label placement: names next to points, moved until none overlap

Box = tuple[float, float, float, float]


def names_apart(ax: Axes, x: Array, y: Array, names: list[str]) -> None:
    """Label each point without overlaps; distant labels get a thin line.

    Parameters
    ----------
    ax : Axes
        With its limits set.
    x, y : ndarray, shape (N,)
    names : list of str
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    figure = figure_of(ax)
    canvas: Any = FigureCanvasAgg(figure)
    renderer = canvas.get_renderer()
    figure.draw_without_rendering()
    positions = ax.transData.transform(np.column_stack([x, y]))
    dots: list[Box] = [(px - 5, py - 5, px + 5, py + 5) for px, py in positions]
    labels: list[Box] = []
    for place in np.argsort(-positions[:, 1]):
        label = ax.annotate(
            names[place], (x[place], y[place]), xytext=(7, 0), textcoords="offset points", fontsize=points(8.5)
        )
        size = label.get_window_extent(renderer)
        others = [*labels, *(dot for k, dot in enumerate(dots) if k != place)]
        box = _free_box(positions[place], size.width, size.height, others)
        labels.append(box)
        shift = (np.array(box[:2]) - positions[place]) * 72.0 / figure.dpi
        label.set_position((float(shift[0]), float(shift[1])))
        _tie(ax, positions[place], box)


def _free_box(point: object, wide: float, tall: float, others: list[Box]) -> Box:
    """The closest free position of a label; the first one tried if none is free."""
    tried = [_box(point, wide, tall, dx, dy) for dx, dy in _offsets(wide, tall)]
    return next((b for b in tried if not any(_over(b, other) for other in others)), tried[0])


def _box(point: Any, wide: float, tall: float, dx: float, dy: float) -> Box:
    left, low = float(point[0] + dx), float(point[1] + dy)
    return left, low, left + wide, low + tall


def _offsets(wide: float, tall: float) -> list[tuple[float, float]]:
    """Positions to try, closest first: right, left, above, below, then rings farther away."""
    near = [(8.0, -tall / 2), (-wide - 8, -tall / 2), (-wide / 2, 8.0), (-wide / 2, -tall - 8)]
    rings = [
        (r * np.cos(a) - wide / 2, r * np.sin(a) - tall / 2)
        for r in np.arange(0.5 * wide + 12, 0.5 * wide + 140, 9.0)
        for a in np.linspace(0, 2 * np.pi, 20, endpoint=False)
    ]
    return near + rings


def _over(a: Box, b: Box) -> bool:
    return a[0] < b[2] and b[0] < a[2] and a[1] < b[3] and b[1] < a[3]


def _tie(ax: Axes, point: Array, box: Box) -> None:
    """A thin line from a point to a distant label."""
    nearest = np.clip(point, box[:2], box[2:])
    if np.hypot(*(nearest - point)) < 14:
        return
    ends = ax.transData.inverted().transform([point, nearest])
    ax.plot(ends[:, 0], ends[:, 1], color=STONE, linewidth=0.5, zorder=1)
