"""Figures into files: the same data give the same bytes."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING, Any

from ultrum.present.style import STYLE

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def to_svg(ax: Axes) -> str:
    """The axes' figure as SVG text without a clock, so that the same data give the same bytes."""
    import matplotlib as mpl

    packed = io.StringIO()
    figure: Any = ax.get_figure()
    with mpl.rc_context(rc=STYLE):
        figure.savefig(packed, format="svg", metadata={"Date": None, "Creator": None})
    text = packed.getvalue()
    return text[text.index("<svg") :]


def to_png(ax: Axes, path: Any) -> None:
    """The axes' figure as a PNG file."""
    figure: Any = ax.get_figure()
    figure.savefig(path, format="png", dpi=140, metadata={"Software": None})
