"""Figures as files: the same data give the same bytes."""

from __future__ import annotations

import io
import os
import zlib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

from ultrum.errors import UltrumError
from ultrum.report.figures.figure_style import STYLE, figure_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

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
        with mpl.rc_context(rc=getattr(figure, "style", STYLE)):
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
