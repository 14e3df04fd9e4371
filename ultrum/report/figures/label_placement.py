"""Label placement: names next to points, moved until none overlap."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ultrum.report.figure_style import STONE

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Box = tuple[float, float, float, float]


def names_apart(ax: Axes, x: Any, y: Any, names: list[str]) -> None:
    """Write each name next to its point, none over another name or a point; far ones get a thin line.

    Parameters
    ----------
    ax : Axes
        With its limits set.
    x, y : ndarray, shape (N,)
    names : list of str
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    figure: Any = ax.get_figure()
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


def _free_box(point: Any, wide: float, tall: float, others: list[Box]) -> Box:
    """The nearest place for a name that is free; the first tried where none is."""
    tried = [_box(point, wide, tall, dx, dy) for dx, dy in _offsets(wide, tall)]
    return next((b for b in tried if not any(_over(b, other) for other in others)), tried[0])


def _box(point: Any, wide: float, tall: float, dx: float, dy: float) -> Box:
    left, low = float(point[0] + dx), float(point[1] + dy)
    return left, low, left + wide, low + tall


def _offsets(wide: float, tall: float) -> list[tuple[float, float]]:
    """Places to try, nearest first: right, left, above, below, then rings farther out."""
    near = [(8.0, -tall / 2), (-wide - 8, -tall / 2), (-wide / 2, 8.0), (-wide / 2, -tall - 8)]
    rings = [
        (r * np.cos(a) - wide / 2, r * np.sin(a) - tall / 2)
        for r in np.arange(0.5 * wide + 12, 0.5 * wide + 140, 9.0)
        for a in np.linspace(0, 2 * np.pi, 20, endpoint=False)
    ]
    return near + rings


def _over(a: Box, b: Box) -> bool:
    return a[0] < b[2] and b[0] < a[2] and a[1] < b[3] and b[1] < a[3]


def _tie(ax: Axes, point: Any, box: Box) -> None:
    """A thin line from a point to a name that is far from it."""
    nearest = np.clip(point, box[:2], box[2:])
    if np.hypot(*(nearest - point)) < 14:
        return
    ends = ax.transData.inverted().transform([point, nearest])
    ax.plot(ends[:, 0], ends[:, 1], color=STONE, linewidth=0.5, zorder=1)
