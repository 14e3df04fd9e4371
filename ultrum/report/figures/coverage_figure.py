"""Coverage of a panel: each series from its first value to its last, and its gaps."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.time.period_labels import span_of
from ultrum.report.figure_style import (
    LANTERN,
    MIST,
    MOST_NAMES,
    STONE,
    TIDE,
    axes_for,
    foot,
    styled,
)
from ultrum.report.figures.series_figures import edge_of
from ultrum.report.figures.series_reading import moments_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@styled
@checked
def coverage_timeline(panel: Panel, *, ax: Axes | None = None) -> Axes:
    """From when to when each series of a panel has values, with its gaps, and the rows that are whole.

    Parameters
    ----------
    panel : Panel
        Result of :func:`ultrum.align`.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> len(coverage_timeline(panel).get_yticks()) == len(panel.coverage)
    True
    """
    table = _most_lacking(panel.coverage)
    ax = axes_for(ax, height=max(3.0, 1.4 + 0.2 * len(table)))
    gone = panel.missing_log[panel.missing_log["cause"].astype(str).isin(("gap", "stale price"))]
    for row, name in enumerate(table.index[::-1]):
        _draw_coverage(
            ax,
            row,
            table.loc[name],
            gone[gone["series"] == name]["period"],
            _role_colour(panel, name),
        )
    ends = [str(panel.assets.index[k]) for k in (0, -1)]
    ax.axvspan(edge_of(ends[0]), edge_of(ends[1], end=True), color=MIST, alpha=0.5, zorder=0)
    ax.set_yticks(range(len(table)), [str(n) for n in table.index[::-1]])
    ax.tick_params(axis="y", length=0, labelsize=8)
    ax.grid(visible=False, axis="y")
    ax.set_ylim(-0.8, len(table) - 0.2)
    ax.set_title(f"What the panel covers: {len(panel.assets)} whole {panel.frequency.noun}s")
    dear = table["costs"].idxmax() if table["costs"].max() > 0 else ""
    cost = f"; {dear} alone costs {table['costs'].max()} rows" if dear else ""
    left = len(panel.coverage) - len(table)
    others = f"{left} series that lack less are left out" if left else ""
    sample = f"{panel.frequency.name}, {span_of(panel.assets.index)} (shaded){cost}"
    foot(ax, sample, "white marks are gaps", others)
    return ax


def _most_lacking(coverage: pd.DataFrame) -> pd.DataFrame:
    """The series that can be read, those with the fewest rows first chosen."""
    if len(coverage) <= MOST_NAMES:
        return coverage
    chosen = coverage["rows"].nsmallest(MOST_NAMES, keep="first").index
    return coverage[coverage.index.isin(chosen)]


def _role_colour(panel: Panel, name: Any) -> str:
    if name in panel.conditions:
        return LANTERN
    return STONE if name == panel.risk_free.name else TIDE


def _draw_coverage(ax: Axes, row: int, facts: Any, gaps: Any, colour: str) -> None:
    """A bar from first to last value, with a white mark for each gap."""
    if not facts["rows"]:
        return
    ends = edge_of(facts["first"]), edge_of(facts["last"], end=True)
    ax.hlines(row, *ends, color=colour, linewidth=4.5, alpha=0.85)
    if len(gaps):
        days = moments_of(pd.PeriodIndex(gaps))
        ax.plot(days, np.full(len(gaps), row), "|", color="white", markersize=8, markeredgewidth=2)
