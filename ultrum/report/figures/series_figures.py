"""Figures of series through time: one scale or two, spells and episodes, bars, small multiples."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import last_day, parse_period
from ultrum.core.time.period_labels import span_of
from ultrum.core.transform.rebasing import rebase as rebased
from ultrum.errors import UnitError, listed
from ultrum.report.figure_style import (
    DASHES,
    INK,
    LANTERN,
    LINES,
    MIST,
    SHADES,
    STONE,
    TIDE,
    axes_for,
    foot,
    styled,
)
from ultrum.report.figures.series_reading import (
    MOST_POINTS,
    moments_of,
    moves_in_steps,
    scale_factor,
    thinned,
    unit_in_words,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_LARGE: Final = 1e5  # numbers that are labelled in thousands or millions
_BARS: Final = ("open", "high", "low", "close")
Episodes = Mapping[str, tuple[str, str]]


@styled
@checked
def through_time(
    *series: TimeSeries,
    rebase: str = "",
    shade: pd.DataFrame | Sequence[pd.DataFrame] | None = None,
    episodes: Episodes | None = None,
    reference: Mapping[str, float] | None = None,
    title: str = "",
    ax: Axes | None = None,
) -> Axes:
    """Series as lines, missing periods left open.

    Parameters
    ----------
    *series : TimeSeries
        Of one unit, or of two: the second then has a scale of its own on the right, in its colour.
    rebase : str
        Bring all to 100 in this period (``"first"``: the first that all have).
    shade : DataFrame, or several
        Spells (as :func:`ultrum.spells` finds them), shaded behind the lines.
    episodes : mapping of str to (str, str)
        Named stretches of time, shaded and named.
    reference : mapping of str to float
        A level line for a series, by its name; in its own unit, decimals for rates.
    title : str
        Title; made from the data where it is empty.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Those of the left scale; the right one is ``ax.right_scale`` where there is one.

    Raises
    ------
    UnitError
        If the series have more than two units; draw them with :func:`small_multiples`.

    Examples
    --------
    >>> import ultrum as ul
    >>> through_time(ul.practice.panel().rate).get_ylabel()
    '% a month'
    """
    if not series:
        raise UnitError("Nothing to draw; give at least one series.")
    lines = [rebased(s, _common_base(series, rebase)) for s in series] if rebase else list(series)
    units = list(dict.fromkeys(unit_in_words(s.metadata) for s in lines))
    if len(units) > 2:
        raise UnitError(
            f"{len(units)} units ({'; '.join(units)}) do not share a picture; rebase them, or draw "
            "small_multiples."
        )
    ax = axes_for(ax)
    scales = {units[0]: ax}
    if len(units) == 2:
        scales[units[1]] = _right_of(ax)
    _shade(ax, shade, episodes)
    for number, line in enumerate(lines):
        colour, dash = LINES[number % len(LINES)], DASHES[number % len(DASHES)]
        scale = scales[unit_in_words(line.metadata)]
        _draw_line(scale, line, colour, dash)
        for name, level in (reference or {}).items():
            if name in (line.name, series[number].name):
                _reference(scale, level * scale_factor(line.metadata), colour, dash)
    _draw_zero(ax, [line for line in lines if unit_in_words(line.metadata) == units[0]])
    for unit, scale in scales.items():
        _name_scale(scale, unit, [k for k, line in enumerate(lines) if unit_in_words(line.metadata) == unit],
                    lines, shared=len(units) == 1)  # fmt: skip
    rows = _legend(ax, lines) if len(lines) > 1 else 0
    headed = title or (lines[0].metadata.heading if len(lines) == 1 else "")
    if headed:
        ax.set_title(headed, pad=12 + 16 * rows)
    foot(ax, _foot(lines))
    return ax


@styled
@checked
def bars(
    table: SeriesTable, *, bands: SeriesTable | None = None, title: str = "", ax: Axes | None = None
) -> Axes:
    """Bars from low to high with ticks at open and close, and a moving mean with its band.

    Parameters
    ----------
    table : SeriesTable
        With ``open``, ``high``, ``low`` and ``close``; beyond 400 bars, ranges and closes.
    bands : SeriesTable, optional
        ``middle``, ``low`` and ``high``, as :func:`ultrum.bands` makes them.
    title : str
        Title; made from the data where it is empty.
    ax : Axes, optional
        Axes to draw on; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> days = pd.bdate_range("2024-01-01", periods=60)
    >>> values = pd.Series(range(60), days, dtype=float)
    >>> price = ul.TimeSeries.from_pandas(values, measure="price", currency="QML")
    >>> bars(ul.to_bars(price, "W")).get_ylabel()
    'price, QML'
    """
    absent = [f for f in _BARS if f not in table.names]
    if absent:
        raise UnitError(
            f"Bars need {', '.join(_BARS)}; {', '.join(absent)} is not here: {', '.join(table.names)}."
        )
    ax = axes_for(ax)
    days = moments_of(table.index)
    o, h, low, c = (table[f].values.to_numpy() for f in _BARS)
    if bands is not None:
        edge = moments_of(bands.index)
        ax.fill_between(edge, bands["low"].values, bands["high"].values, color=MIST, linewidth=0,
                        label="band")  # fmt: skip
        ax.plot(edge, bands["middle"].values, color=LANTERN, linewidth=1.6, label="moving mean")
    up = c >= o
    if len(days) > 400:
        ax.fill_between(days, low, h, color=TIDE, alpha=0.25, linewidth=0, label="low to high")
        ax.plot(days, c, color=TIDE, linewidth=1.0, label="close")
    else:
        half = 0.36 * (days[-1] - days[0]) / max(len(days) - 1, 1)
        for mask, colour, word in ((up, TIDE, "rose"), (~up, STONE, "fell")):
            at = days[mask]
            ax.vlines(at, low[mask], h[mask], color=colour, linewidth=1.3, label=word)
            ax.hlines(o[mask], at - half, at, color=colour, linewidth=1.3)
            ax.hlines(c[mask], at, at + half, color=colour, linewidth=1.3)
    metadata = table["close"].metadata
    ax.set_ylabel(unit_in_words(metadata))
    ax.set_title(title or _without_field(metadata), pad=30)
    handles = ax.get_legend_handles_labels()
    ax.legend(*handles, loc="lower left", bbox_to_anchor=(0, 1.0), ncols=4, borderaxespad=0.2)
    foot(ax, metadata.address, f"{table.frequency.name}, {span_of(table.index)}, {len(days)} bars")
    return ax


@styled
@checked
def small_multiples(
    series: Sequence[TimeSeries] | SeriesTable, *, columns: int = 3, shade: pd.DataFrame | None = None,
    title: str = "",
) -> list[Axes]:  # fmt: skip
    """Each series in a small picture of its own, all over the same time.

    Parameters
    ----------
    series : sequence of TimeSeries, or SeriesTable
        Series to draw, at most 80.
    columns : int
        Pictures side by side.
    shade : DataFrame, optional
        Spells shaded in every picture.
    title : str
        Title; made from the data where it is empty.

    Returns
    -------
    list of Axes
        Axes of each picture.

    Examples
    --------
    >>> import ultrum as ul
    >>> rate = ul.practice.panel().rate
    >>> len(small_multiples([rate, ul.rolling(rate, 12).with_metadata(name="mean")]))
    2
    """
    from matplotlib.dates import AutoDateLocator
    from matplotlib.figure import Figure
    from matplotlib.ticker import EngFormatter

    locator: Any = AutoDateLocator
    lines = [series[n] for n in series.names] if isinstance(series, SeriesTable) else list(series)
    if not lines:
        raise UnitError("Nothing to draw; give at least one series.")
    wide = min(columns, len(lines))
    tall = -(-len(lines) // wide)
    figure = Figure(figsize=(max(9.0, 3.2 * wide), 0.8 + 2.1 * tall), layout="constrained")
    grid = figure.subplots(tall, wide, squeeze=False, sharex=True)
    axes = list(grid.flat)
    for number, (ax, line) in enumerate(zip(axes, lines, strict=False)):
        _shade(ax, shade, None)
        _draw_line(ax, line, TIDE, "solid", width=1.1)
        ax.set_title(_wrapped(line.metadata.heading, 34), fontsize=9.5, pad=4)
        ax.set_ylabel(unit_in_words(line.metadata), fontsize=8)
        ax.tick_params(labelsize=8, labelbottom=number + wide >= len(lines))
        ax.xaxis.set_major_locator(locator(minticks=2, maxticks=4))  # narrow pictures
        if max(map(abs, ax.get_ylim())) >= _LARGE:
            ax.yaxis.set_major_formatter(EngFormatter(sep=""))
        if ax.get_ylim()[0] < 0 < ax.get_ylim()[1]:
            ax.axhline(0, color=STONE, linewidth=0.7)
    for ax in axes[len(lines) :]:
        ax.set_visible(False)
    if title:
        figure.suptitle(title, x=0.01, ha="left", fontweight="bold", fontsize=12.5)
    foot(axes[0], _foot(lines))
    return axes[: len(lines)]


def _draw_line(ax: Axes, line: TimeSeries, colour: str, dash: Any, width: float = 1.7) -> None:
    days, values = thinned(moments_of(line.index), line.values.to_numpy() * scale_factor(line.metadata))
    style = "steps-post" if moves_in_steps(line) else "default"
    ax.plot(days, values, color=colour, linestyle=dash, linewidth=width, drawstyle=style)
    valid = np.isfinite(values)
    alone = valid & ~np.append(False, valid[:-1]) & ~np.append(valid[1:], False)
    if alone.any() and len(values) <= MOST_POINTS:
        ax.plot(days[alone], values[alone], ".", color=colour, markersize=3)


def _draw_zero(ax: Axes, lines: Sequence[TimeSeries]) -> None:
    """The level zero, where growth or returns lie on both sides of it."""
    for line in lines:
        grown = any(step.action in ("growth", "difference") for step in line.metadata.trail)
        values = line.values.dropna()
        if (grown or line.metadata.is_return) and len(values) and values.min() < 0 < values.max():
            ax.axhline(0, color=STONE, linewidth=0.8, zorder=1)
            return


def _name_scale(scale: Axes, unit: str, places: list[int], lines: Sequence[TimeSeries], *, shared: bool) -> None:
    """Unit on an axis; of two scales each is named after its line, in its colour."""
    alone = not shared and len(places) == 1
    colour = LINES[places[0] % len(LINES)] if alone else INK
    name = f"{lines[places[0]].metadata.heading},\n" if alone else ""
    scale.set_ylabel(f"{name}{unit}", color=colour)
    scale.tick_params(axis="y", labelcolor=colour)
    if places[0]:
        scale.grid(visible=False)


def _common_base(series: Sequence[TimeSeries], wanted: str) -> str:
    """The period all are rebased to; ``first`` is the first that every one has."""
    if wanted != "first":
        return wanted
    firsts: list[str] = []
    for line in series:
        frequency = line.metadata.frequency
        firsts += frequency.labels(frequency.ordinals_of(line.values.dropna().index[:1]))
    days = [parse_period(label)[1] for label in firsts]
    return firsts[int(np.argmax(days))]


def _right_of(ax: Axes) -> Axes:
    right: Any = ax.twinx()
    right.spines["right"].set_visible(True)
    right.spines["right"].set_color(MIST)
    ax.right_scale = right  # type: ignore[attr-defined]
    return right  # type: ignore[no-any-return]


def _shade(ax: Axes, shade: Any, episodes: Episodes | None) -> None:
    tables = [] if shade is None else [shade] if isinstance(shade, pd.DataFrame) else list(shade)
    for number, table in enumerate(tables):
        for row in table.itertuples():
            ax.axvspan(
                edge_of(row.start),
                edge_of(row.end, end=True),
                color=SHADES[number % 4],
                linewidth=0,
                zorder=0,
            )
    for number, (name, (start, end)) in enumerate((episodes or {}).items()):
        left, right = edge_of(start), edge_of(end, end=True)
        ax.axvspan(left, right, color=SHADES[(number + len(tables)) % 4], linewidth=0, zorder=0)
        ax.text(left + (right - left) / 2, 0.985, name, transform=ax.get_xaxis_transform(), ha="center", va="top",
                fontsize=8.5, color=STONE, rotation=90 if len(name) > 14 else 0)  # fmt: skip


def edge_of(label: Any, end: bool = False) -> Any:
    """First or last moment of a period by its name."""
    if not end:
        return pd.Timestamp(parse_period(str(label))[1])
    return pd.Timestamp(last_day(str(label))) + pd.Timedelta(days=1)


def _reference(ax: Axes, level: float, colour: str, dash: Any) -> None:
    ax.axhline(level, color=colour, linewidth=0.9, linestyle=(0, (2, 2)), alpha=0.8)


def _legend(ax: Axes, lines: Sequence[TimeSeries]) -> int:
    """Name the lines above the axes; how many rows of text that takes."""
    from matplotlib.lines import Line2D

    handles = [
        Line2D([], [], color=LINES[k % len(LINES)], linestyle=DASHES[k % len(DASHES)], linewidth=2)
        for k in range(len(lines))
    ]
    names = [_wrapped(line.metadata.heading, 44) for line in lines]
    columns = 2 if max(map(len, names)) > 26 else min(3, len(names))
    ax.legend(handles, names, loc="lower left", bbox_to_anchor=(0, 1.0), ncols=columns, borderaxespad=0.2,
              fontsize=9.5, handlelength=2.2)  # fmt: skip
    down = -(-len(names) // columns)  # a legend is filled column by column
    deepest = (max(n.count("\n") + 1 for n in names[row::down]) for row in range(down))
    return sum(deepest)


def _wrapped(text: str, width: int) -> str:
    import textwrap

    return "\n".join(textwrap.wrap(text, width)) or text


def _without_field(metadata: Metadata) -> str:
    """What bars are of; where only the field is known, how long they are."""
    owner = metadata.heading.removesuffix("close").rstrip(" .,")
    return owner or f"{metadata.frequency.name} bars".capitalize()


def _foot(lines: Sequence[TimeSeries]) -> str:
    sources = list(dict.fromkeys(a for line in lines if (a := line.metadata.address or line.metadata.name)))
    names = list(dict.fromkeys(line.metadata.frequency.name for line in lines))
    firsts = [line.values.dropna().index for line in lines]
    spans = list(dict.fromkeys(span_of(index) for index in firsts))
    span = spans[0] if len(spans) == 1 else " / ".join(spans[:2]) + (" …" if len(spans) > 2 else "")
    return f"{listed(sources, 3)}; {', '.join(names)}, {span}"
