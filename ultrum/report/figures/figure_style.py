"""The style of every figure, label placement, and figures as files of reproducible bytes."""

from __future__ import annotations

import functools
import io
import os
import zlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, ParamSpec, TypeVar, cast

import numpy as np

from ultrum.core.array_types import Array
from ultrum.errors import UltrumError

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


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


def house_style(draw: Callable[P, R]) -> Callable[P, R]:
    """Draw in the package's style without changing the user's settings."""

    @functools.wraps(draw)
    def _drawn(*args: P.args, **kwargs: P.kwargs) -> R:
        import matplotlib as mpl

        with mpl.rc_context(rc=STYLE):
            drawn = draw(*args, **kwargs)
            _shorten(drawn)
            return drawn

    return _drawn


def _shorten(drawn: object) -> None:
    """Names too long for the figure end in an ellipsis."""
    from matplotlib.axes import Axes

    figure = figure_of(drawn) if isinstance(drawn, Axes) else None
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


def figure_of(ax: Axes) -> Figure:
    """The figure of some axes."""
    return cast("Figure", ax.get_figure())


def axes_for(ax: Axes | None, height: float = 5.4) -> Axes:
    """The given axes, or those of a new figure outside pyplot."""
    if ax is not None:
        return ax
    from matplotlib.figure import Figure

    figure = Figure(figsize=(9.0, height), layout="constrained")
    drawn: Axes = figure.subplots(subplot_kw={"axes_class": _shown_axes()})
    return drawn


@functools.cache
def _shown_axes() -> type[Axes]:
    """Axes that a notebook displays as their figure, since it is outside pyplot."""
    import io

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
    """Caption with source, sample and notes in small print, wrapped to the width of the axes."""
    import textwrap

    figure = figure_of(ax)
    if figure is not None:
        caption = "; ".join(part for part in (f"Source: {source}" if source else "", *parts) if part)
        text = textwrap.fill(caption, int(15.5 * figure.get_figwidth()))
        figure.supxlabel(text, x=0.01, ha="left", fontsize=8, color=STONE)


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
    points = ax.transData.transform(np.column_stack([x, y]))
    dots: list[Box] = [(px - 5, py - 5, px + 5, py + 5) for px, py in points]
    labels: list[Box] = []
    for place in np.argsort(-points[:, 1]):
        label = ax.annotate(
            names[place],
            (x[place], y[place]),
            xytext=(7, 0),
            textcoords="offset points",
            fontsize=8.5,
        )
        size = label.get_window_extent(renderer)
        others = [*labels, *(dot for k, dot in enumerate(dots) if k != place)]
        box = _free_box(points[place], size.width, size.height, others)
        labels.append(box)
        shift = (np.array(box[:2]) - points[place]) * 72.0 / figure.dpi
        label.set_position((float(shift[0]), float(shift[1])))
        _tie(ax, points[place], box)


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


# Figures as files: the same data give the same bytes

RunFacts = Mapping[str, str]
_LEAST_DPI, _MOST_DPI = 20, 2_400
_PNG_DPI: Final = 140


def to_svg(ax: Axes, metadata: RunFacts | None = None) -> str:
    """The axes' figure as SVG text without a time stamp, so the same data give the same bytes.

    Parameters
    ----------
    ax : Axes
        Axes of the figure.
    metadata : mapping, optional
        ``study``, ``run`` and ``data_until``, written into the metadata of the file.

    Returns
    -------
    str
        SVG text.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> fit = betas.fit("BRTW")
    >>> ul.figures.to_svg(ul.figures.line_of_fit(fit))[:4]
    '<svg'
    """
    from matplotlib.backends.backend_svg import FigureCanvasSVG

    packed = io.StringIO()
    parts = [p for p in (_title(metadata), _description(metadata)) if p]
    facts = {"Description": ", ".join(parts)}  # a title would pop up over the picture in a page
    with _canvas_of(ax) as figure:
        canvas: Any = FigureCanvasSVG(figure)
        canvas.print_svg(packed, metadata={"Date": None, "Creator": None, **_metadata_facts(facts)})
    text = packed.getvalue()
    return text[text.index("<svg") :]


def to_png(ax: Axes, path: str | os.PathLike[str], metadata: RunFacts | None = None) -> None:
    """The axes' figure as a PNG file; ``metadata`` (study, run, data_until) is stored in it.

    Parameters
    ----------
    ax : Axes
        Axes of the figure.
    path : str or path
        File to write.
    metadata : mapping, optional
        ``study``, ``run`` and ``data_until``, written into the metadata of the file.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> fit = betas.fit("BRTW")
    >>> import tempfile
    >>> from pathlib import Path
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     file = Path(folder) / "fit.png"
    ...     ul.figures.to_png(ul.figures.line_of_fit(fit), file)
    ...     file.read_bytes()[1:4]
    b'PNG'
    """
    Path(path).write_bytes(png_bytes(ax, metadata))


def write(
    ax: Axes, path: str | os.PathLike[str], *, dpi: int = _PNG_DPI, metadata: RunFacts | None = None
) -> Path:
    """Write the axes' figure as PNG, SVG or PDF, by the ending of the path.

    Parameters
    ----------
    ax : Axes
        Axes of the figure.
    path : str or path
        File to write: ``.png``, ``.svg`` or ``.pdf``.
    dpi : int
        Resolution of a PNG file in dots per inch; journals often ask for 300. SVG and PDF have none.
    metadata : mapping, optional
        ``study``, ``run`` and ``data_until``, written into the metadata of the file.

    Returns
    -------
    Path
        The file.

    Raises
    ------
    UltrumError
        If the path has another ending, or the resolution is outside 20 to 2,400.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     ul.figures.write(fit.plot(), Path(folder) / "fit.pdf").read_bytes()[:5]
    b'%PDF-'
    """
    if not _LEAST_DPI <= dpi <= _MOST_DPI:
        raise UltrumError(f"dpi={dpi}: a resolution is {_LEAST_DPI} to {_MOST_DPI:,} dots per inch.")
    target = Path(path)
    kind = target.suffix.lower()
    if kind == ".svg":
        target.write_text(to_svg(ax, metadata), encoding="utf-8")
    elif kind in (".pdf", ".png"):
        target.write_bytes(pdf_bytes(ax, metadata) if kind == ".pdf" else png_bytes(ax, metadata, dpi))
    else:
        raise UltrumError(f"'{target.name}' ends in none of .png, .svg, .pdf.")
    return target


def png_bytes(ax: Axes, metadata: RunFacts | None = None, dpi: int = _PNG_DPI) -> bytes:
    """The axes' figure as the bytes of a PNG file."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    facts = {"Title": _title(metadata), "Description": _description(metadata)}
    packed = io.BytesIO()
    with _canvas_of(ax) as figure:
        before = figure.get_dpi()
        figure.set_dpi(dpi)
        canvas: Any = FigureCanvasAgg(figure)
        canvas.print_png(packed, metadata={"Software": None, **_metadata_facts(facts)})
        figure.set_dpi(before)
    return packed.getvalue()


def to_pdf(ax: Axes, path: str | os.PathLike[str], metadata: RunFacts | None = None) -> None:
    """The axes' figure as a PDF file; ``metadata`` is stored in it.

    Parameters
    ----------
    ax : Axes
        Axes of the figure.
    path : str or path
        File to write.
    metadata : mapping, optional
        ``study``, ``run`` and ``data_until``, written into the metadata of the file.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> fit = betas.fit("BRTW")
    >>> import tempfile
    >>> from pathlib import Path
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     file = Path(folder) / "fit.pdf"
    ...     ul.figures.to_pdf(ul.figures.line_of_fit(fit), file)
    ...     file.read_bytes()[:5]
    b'%PDF-'
    """
    Path(path).write_bytes(pdf_bytes(ax, metadata))


def pdf_bytes(ax: Axes, metadata: RunFacts | None = None) -> bytes:
    """The axes' figure as the bytes of a PDF file."""
    from matplotlib.backends.backend_pdf import FigureCanvasPdf

    facts = {"Title": _title(metadata), "Subject": _description(metadata)}
    clock = {"CreationDate": None, "Producer": None, "Creator": None}
    packed = io.BytesIO()
    with _canvas_of(ax) as figure:
        canvas: Any = FigureCanvasPdf(figure)
        canvas.print_pdf(packed, metadata={**clock, **_metadata_facts(facts)})
    return packed.getvalue()


def rename_png(body: bytes, old: bytes, new: bytes) -> bytes:
    """A PNG file with other words of equal length in its metadata, and matching checksums."""
    place, parts = 8, [body[:8]]
    while place < len(body):
        size = int.from_bytes(body[place : place + 4], "big")
        kind, content = body[place + 4 : place + 8], body[place + 8 : place + 8 + size]
        if kind == b"tEXt" and old in content:
            content = content.replace(old, new)
        checksum = zlib.crc32(kind + content).to_bytes(4, "big")
        parts += [len(content).to_bytes(4, "big"), kind, content, checksum]
        place += size + 12
    return b"".join(parts)


@contextmanager
def _canvas_of(ax: Axes) -> Iterator[Figure]:
    """The axes' figure in the package's style; its canvas and resolution are restored.

    A canvas draws once. The figure's own method to save draws twice, the first time for the layout.
    """
    import matplotlib as mpl

    figure = figure_of(ax)
    canvas, dpi = figure.canvas, figure.get_dpi()
    try:
        with mpl.rc_context(rc=STYLE):
            yield figure
    finally:
        figure.set_dpi(dpi)
        figure.set_canvas(canvas)


def _title(metadata: RunFacts | None) -> str:
    return (metadata or {}).get("study", "")


def _description(metadata: RunFacts | None) -> str:
    rest = {k: v for k, v in (metadata or {}).items() if k != "study"}
    return ", ".join(f"{name.replace('_', ' ')} {value}" for name, value in rest.items())


def _metadata_facts(facts: Mapping[str, str]) -> dict[str, str]:
    return {name: text for name, text in facts.items() if text}
