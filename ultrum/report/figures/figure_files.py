"""Figures as files: the same data give the same bytes."""

from __future__ import annotations

import io
import os
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from ultrum.report.figure_style import STYLE

if TYPE_CHECKING:
    from matplotlib.axes import Axes

RunFacts = Mapping[str, str]


def to_svg(ax: Axes, metadata: RunFacts | None = None) -> str:
    """The axes' figure as SVG text without a clock, so that the same data give the same bytes."""
    packed = io.StringIO()
    parts = [p for p in (_title(metadata), _description(metadata)) if p]
    facts = {"Description": ", ".join(parts)}  # a title would pop up over the picture in a page
    _save(ax, packed, "svg", {"Date": None, "Creator": None, **_known(facts)})
    text = packed.getvalue()
    return text[text.index("<svg") :]


def to_png(ax: Axes, path: str | os.PathLike[str], metadata: RunFacts | None = None) -> None:
    """The axes' figure as a PNG file; ``metadata`` (study, run, data_until) goes into its metadata."""
    facts = {"Title": _title(metadata), "Description": _description(metadata)}
    figure: Any = ax.get_figure()
    figure.savefig(path, format="png", dpi=140, metadata={"Software": None, **_known(facts)})


def to_pdf(ax: Axes, path: str | os.PathLike[str], metadata: RunFacts | None = None) -> None:
    """The axes' figure as a PDF file; ``metadata`` goes into its metadata."""
    facts = {"Title": _title(metadata), "Subject": _description(metadata)}
    clock = {"CreationDate": None, "Producer": None, "Creator": None}
    _save(ax, path, "pdf", {**clock, **_known(facts)})


def _save(ax: Axes, place: Any, form: str, metadata: Mapping[str, Any]) -> None:
    import matplotlib as mpl

    figure: Any = ax.get_figure()
    with mpl.rc_context(rc=STYLE):
        figure.savefig(place, format=form, metadata=dict(metadata))


def _title(metadata: RunFacts | None) -> str:
    return (metadata or {}).get("study", "")


def _description(metadata: RunFacts | None) -> str:
    rest = {k: v for k, v in (metadata or {}).items() if k != "study"}
    return ", ".join(f"{name.replace('_', ' ')} {value}" for name, value in rest.items())


def _known(facts: Mapping[str, str]) -> dict[str, str]:
    return {name: text for name, text in facts.items() if text}
