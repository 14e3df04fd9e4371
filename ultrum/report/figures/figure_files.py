"""Figures as files: the same data give the same bytes."""

from __future__ import annotations

import io
import os
import zlib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

from ultrum.report.figure_style import STYLE

if TYPE_CHECKING:
    from matplotlib.axes import Axes

RunFacts = Mapping[str, str]
_PNG_DPI: Final = 140


def to_svg(ax: Axes, metadata: RunFacts | None = None) -> str:
    """The axes' figure as SVG text without a clock, so that the same data give the same bytes.

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
        canvas.print_svg(packed, metadata={"Date": None, "Creator": None, **_known(facts)})
    text = packed.getvalue()
    return text[text.index("<svg") :]


def to_png(ax: Axes, path: str | os.PathLike[str], metadata: RunFacts | None = None) -> None:
    """The axes' figure as a PNG file; ``metadata`` (study, run, data_until) goes into its metadata.

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


def png_bytes(ax: Axes, metadata: RunFacts | None = None) -> bytes:
    """The axes' figure as the bytes of a PNG file."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    facts = {"Title": _title(metadata), "Description": _description(metadata)}
    packed = io.BytesIO()
    with _canvas_of(ax) as figure:
        before = figure.get_dpi()
        figure.set_dpi(_PNG_DPI)
        canvas: Any = FigureCanvasAgg(figure)
        canvas.print_png(packed, metadata={"Software": None, **_known(facts)})
        figure.set_dpi(before)
    return packed.getvalue()


def to_pdf(ax: Axes, path: str | os.PathLike[str], metadata: RunFacts | None = None) -> None:
    """The axes' figure as a PDF file; ``metadata`` goes into its metadata.

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
        canvas.print_pdf(packed, metadata={**clock, **_known(facts)})
    return packed.getvalue()


def renamed_png(body: bytes, old: bytes, new: bytes) -> bytes:
    """A PNG file with other words of the same length in its metadata, and the checksums that fit them."""
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
def _canvas_of(ax: Axes) -> Iterator[Any]:
    """The axes' figure under the house style; it gets its canvas and resolution back.

    A canvas draws once. The figure's own method to save draws twice, the first time for a layout.
    """
    import matplotlib as mpl

    figure: Any = ax.get_figure()
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


def _known(facts: Mapping[str, str]) -> dict[str, str]:
    return {name: text for name, text in facts.items() if text}
