"""Figures of series through time: one scale or two, episodes, bars, small multiples, coverage."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Array
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import last_day, parse_period
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.core.transform.growth_rebasing_deflating import rebase as rebased
from ultrum.desk.column_names import unique_headings
from ultrum.errors import UnitError, name_list
from ultrum.report.figures.figure_style import (
    DASHES,
    INK,
    LANTERN,
    LINES,
    MIST,
    MOST_NAMES,
    SHADES,
    STONE,
    TIDE,
    axes_for,
    columns_that_fit,
    figure_function,
    foot,
    heading,
    legend_above,
    new_figure,
    points,
    title_above,
    wrap_to_width,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes


MOST_POINTS: Final = 6000  # of one line; beyond, the extremes of each stretch are drawn
_FEWEST_STEPS: Final = 12  # values of a rate before its shape is judged


def thin_points(days: Array, values: Array, most: int = MOST_POINTS) -> tuple[Array, Array]:
    """Points of a long line: the minimum and maximum of each group, in order of time."""
    if len(values) <= most:
        return days, values
    width = -(-2 * len(values) // most)
    whole = len(values) // width * width
    parts = values[:whole].reshape(-1, width)
    gaps = np.isnan(parts).all(axis=1)
    low = np.argmin(np.where(np.isnan(parts), np.inf, parts), axis=1)
    high = np.argmax(np.where(np.isnan(parts), -np.inf, parts), axis=1)
    pairs = np.sort(np.column_stack([low, high]), axis=1) + np.arange(0, whole, width)[:, None]
    kept = np.unique(np.append(pairs.ravel(), np.arange(whole, len(values))))
    thin = values[kept].copy()
    thin[np.isin(kept, pairs[gaps].ravel())] = np.nan
    return days[kept], thin


def moves_in_steps(line: TimeSeries) -> bool:
    """Whether a rate is set and then constant, such as that of a central bank."""
    values = line.values.dropna().to_numpy()
    if line.metadata.measure != "rate" or len(values) < _FEWEST_STEPS:
        return False
    return bool((np.diff(values) == 0).mean() > 0.5)


def moments_of(index: pd.Index) -> Any:
    """Positions in time: the middle of periods, or the dates themselves."""
    periods: object = index
    if not hasattr(periods, "to_timestamp"):
        return index
    start = periods.to_timestamp(how="start")
    return start + (periods.to_timestamp(how="end") - start) / 2


def reading_of(metadata: Metadata) -> tuple[float, str]:
    """Display units of a series: a multiplier and the unit after it."""
    return scale_factor(metadata), unit_in_words(metadata)


def scale_factor(metadata: Metadata) -> float:
    """Display multiplier of values: 100 for percent."""
    return 100.0 if metadata.in_percent else 1.0


def _change_in_words(metadata: Metadata) -> str:
    """Span of a growth rate, in words."""
    settings = next(dict(s.settings) for s in reversed(metadata.trail) if s.action == "growth")
    over = settings.get("over", "")
    words = {"P1Y": "over a year", "P6M": "over half a year", "P3M": "over a quarter", "P1M": "over a month"}
    annual = ", annualised" if "annualised" in settings else ""
    return f"change {words.get(over, f'over {over}')}{annual}" if over else "change"


def unit_in_words(metadata: Metadata) -> str:
    """The axis label: the display unit and the measure."""
    actions = [step.action for step in metadata.trail]
    if metadata.measure == "score":
        composed = {"standardised", "composite"} & set(actions)
        return "standard deviations" if composed else "score"
    if metadata.unit == "decimal" and "growth" in actions and not metadata.is_return:
        return f"%, {_change_in_words(metadata)}"
    if metadata.unit == "decimal":
        yearly = metadata.measure == "rate" and metadata.quoted and "growth" not in actions
        return f"% per {metadata.frequency.noun}" if metadata.is_return else "% per year" if yearly else "%"
    if metadata.measure == "index" or metadata.unit == "index":
        return f"index, {metadata.base_period} = 100" if metadata.base_period else "index"
    if metadata.measure == "quote":
        base, _, quote = metadata.unit.partition("/")
        return f"{quote} for one {base}" if quote else "exchange rate"
    words = [metadata.measure, metadata.currency or metadata.unit]
    return ", ".join(w for w in words if w) or "value"  # a multiplier is in the values already


# Figures of series through time: one scale or two, spells and episodes, bars, small multiples

_LARGE: Final = 1e5  # numbers that are labelled in thousands or millions
_BARS: Final = ("open", "high", "low", "close")
Episodes = Mapping[str, tuple[str, str]]


@figure_function
def through_time(
    *series: TimeSeries,
    rebase: str = "",
    shade: pd.DataFrame | Sequence[pd.DataFrame] | None = None,
    episodes: Episodes | None = None,
    reference: Mapping[str, float] | None = None,
    title: str = "",
    ax: Axes | None = None,
) -> Axes:
    """Series as lines, with gaps at missing periods.

    Parameters
    ----------
    *series : TimeSeries
        Series of one unit, or of two: the second then has its own scale on the right, in its colour.
    rebase : str
        Rebase all to 100 in this period (``"first"``: the first common one).
    shade : DataFrame, or several
        Episodes (from :func:`ultrum.spells`), shaded behind the lines.
    episodes : mapping of str to (str, str)
        Named spans of time, shaded and labelled.
    reference : mapping of str to float
        A reference level for a series, by its name; in its own unit, decimals for rates.
    title : str
        Title; by default generated from the data.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes of the left scale; the right one is ``ax.right_scale`` if there is one.

    Raises
    ------
    UnitError
        If the series have more than two units; use :func:`small_multiples`.

    Examples
    --------
    >>> import ultrum as ul
    >>> through_time(ul.practice.panel().rate).get_ylabel()
    '% per month'
    """
    if not series:
        raise UnitError("There is nothing to draw. Pass at least one series.")
    lines = [rebased(s, _common_base(series, rebase)) for s in series] if rebase else list(series)
    units = list(dict.fromkeys(unit_in_words(s.metadata) for s in lines))
    if len(units) > 2:
        raise UnitError(
            f"{len(units)} units ({'; '.join(units)}) cannot share a figure. Rebase the series, or draw "
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
        _name_scale(
            scale,
            unit,
            [k for k, line in enumerate(lines) if unit_in_words(line.metadata) == unit],
            lines,
            shared=len(units) == 1,
        )
    rows = _legend(ax, lines) if len(lines) > 1 else 0
    headed = title or (lines[0].metadata.heading if len(lines) == 1 else "")
    if headed:
        heading(ax, headed, legend_rows=rows)
    foot(ax, _foot(lines))
    return ax


@figure_function
def bars(
    table: SeriesTable, *, bands: SeriesTable | None = None, title: str = "", ax: Axes | None = None
) -> Axes:
    """OHLC bars from low to high with ticks at open and close, and a rolling mean with its band.

    Parameters
    ----------
    table : SeriesTable
        With ``open``, ``high``, ``low`` and ``close``; beyond 400 bars, ranges and closes only.
    bands : SeriesTable, optional
        ``middle``, ``low`` and ``high``, from :func:`ultrum.bands`.
    title : str
        Title; by default generated from the data.
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
        ax.fill_between(edge, bands["low"].values, bands["high"].values, color=MIST, linewidth=0, label="band")
        ax.plot(edge, bands["middle"].values, color=LANTERN, linewidth=1.6, label="rolling mean")
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
    heading(ax, title or _without_field(metadata), legend_rows=legend_above(ax, *ax.get_legend_handles_labels()))
    foot(ax, metadata.address, f"{table.frequency.name}, {span_of(table.index)}, {len(days)} bars")
    return ax


@figure_function
def small_multiples(
    series: Sequence[TimeSeries] | SeriesTable,
    *,
    columns: int = 3,
    shade: pd.DataFrame | None = None,
    title: str = "",
) -> list[Axes]:
    """Each series in its own small panel, over the same span.

    Parameters
    ----------
    series : sequence of TimeSeries, or SeriesTable
        Series to draw, at most 80.
    columns : int
        Figures side by side.
    shade : DataFrame, optional
        Episodes shaded in every panel.
    title : str
        Title; by default generated from the data.

    Returns
    -------
    list of Axes
        Axes of each panel.

    Examples
    --------
    >>> import ultrum as ul
    >>> rate = ul.practice.panel().rate
    >>> len(small_multiples([rate, ul.rolling(rate, 12).with_metadata(name="mean")]))
    2
    """
    from matplotlib.dates import AutoDateLocator
    from matplotlib.ticker import EngFormatter

    locator: Any = AutoDateLocator
    lines = [series[n] for n in series.names] if isinstance(series, SeriesTable) else list(series)
    if not lines:
        raise UnitError("There is nothing to draw. Pass at least one series.")
    wide = min(columns, len(lines), columns_that_fit(2.2) or columns)
    tall = -(-len(lines) // wide)
    figure = new_figure(0.8, width=max(9.0, 3.2 * wide), per_row=2.1, rows=tall)
    grid = figure.subplots(tall, wide, squeeze=False, sharex=True)
    axes = list(grid.flat)
    for number, (ax, line) in enumerate(zip(axes, lines, strict=False)):
        _shade(ax, shade, None)
        _draw_line(ax, line, TIDE, "solid", width=1.1)
        title_of = wrap_to_width(ax, line.metadata.heading, points(10.5), 0.9 / wide)
        ax.set_title(title_of, fontsize=points(9.5), pad=4)
        ax.set_ylabel(unit_in_words(line.metadata), fontsize=points(8))
        ax.tick_params(labelsize=points(8), labelbottom=number + wide >= len(lines))
        ax.xaxis.set_major_locator(locator(minticks=2, maxticks=4))  # narrow pictures
        if max(map(abs, ax.get_ylim())) >= _LARGE:
            ax.yaxis.set_major_formatter(EngFormatter(sep=""))
        if ax.get_ylim()[0] < 0 < ax.get_ylim()[1]:
            ax.axhline(0, color=STONE, linewidth=0.7)
    for ax in axes[len(lines) :]:
        ax.set_visible(False)
    if title:
        title_above(figure, title)
    foot(axes[0], _foot(lines))
    return axes[: len(lines)]


def _draw_line(ax: Axes, line: TimeSeries, colour: str, dash: object, width: float = 1.7) -> None:
    days, values = thin_points(moments_of(line.index), line.values.to_numpy() * scale_factor(line.metadata))
    style = "steps-post" if moves_in_steps(line) else "default"
    ax.plot(days, values, color=colour, linestyle=dash, linewidth=width, drawstyle=style)
    valid = np.isfinite(values)
    alone = valid & ~np.append(False, valid[:-1]) & ~np.append(valid[1:], False)
    if alone.any() and len(values) <= MOST_POINTS:
        ax.plot(days[alone], values[alone], ".", color=colour, markersize=3)


def _draw_zero(ax: Axes, lines: Sequence[TimeSeries]) -> None:
    """A line at zero, if growth or returns lie on both sides of it."""
    for line in lines:
        grown = any(step.action in ("growth", "difference") for step in line.metadata.trail)
        values = line.values.dropna()
        if (grown or line.metadata.is_return) and len(values) and values.min() < 0 < values.max():
            ax.axhline(0, color=STONE, linewidth=0.8, zorder=1)
            return


def _name_scale(scale: Axes, unit: str, places: list[int], lines: Sequence[TimeSeries], *, shared: bool) -> None:
    """Unit on an axis; with two scales each is labelled with its line, in its colour."""
    alone = not shared and len(places) == 1
    colour = LINES[places[0] % len(LINES)] if alone else INK
    name = f"{lines[places[0]].metadata.heading},\n" if alone else ""
    scale.set_ylabel(f"{name}{unit}", color=colour)
    scale.tick_params(axis="y", labelcolor=colour)
    if places[0]:
        scale.grid(visible=False)


def _common_base(series: Sequence[TimeSeries], wanted: str) -> str:
    """The base period of all series; ``first`` is the first common one."""
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
                edge_of(row.start), edge_of(row.end, end=True), color=SHADES[number % 4], linewidth=0, zorder=0
            )
    for number, (name, (start, end)) in enumerate((episodes or {}).items()):
        left, right = edge_of(start), edge_of(end, end=True)
        ax.axvspan(left, right, color=SHADES[(number + len(tables)) % 4], linewidth=0, zorder=0)
        ax.text(
            left + (right - left) / 2,
            0.985,
            name,
            transform=ax.get_xaxis_transform(),
            ha="center",
            va="top",
            fontsize=points(8.5),
            color=STONE,
            rotation=90 if len(name) > 14 else 0,
        )


def edge_of(label: object, end: bool = False) -> Any:
    """First or last moment of a period with this name."""
    if not end:
        return pd.Timestamp(parse_period(str(label))[1])
    return pd.Timestamp(last_day(str(label))) + pd.Timedelta(days=1)


def _reference(ax: Axes, level: float, colour: str, dash: object) -> None:
    ax.axhline(level, color=colour, linewidth=0.9, linestyle=(0, (2, 2)), alpha=0.8)


def _legend(ax: Axes, lines: Sequence[TimeSeries]) -> int:
    """Legend of the lines above the axes; returns its number of rows of text."""
    from matplotlib.lines import Line2D

    handles = [
        Line2D([], [], color=LINES[k % len(LINES)], linestyle=DASHES[k % len(DASHES)], linewidth=2)
        for k in range(len(lines))
    ]
    names = [
        wrap_to_width(ax, name, points(9.5), 0.4)
        for name in unique_headings(lines, [line.metadata.heading for line in lines])
    ]
    return legend_above(ax, handles, names)


def _without_field(metadata: Metadata) -> str:
    """Subject of the bars; if only the field is known, their length."""
    owner = metadata.heading.removesuffix("close").rstrip(" .,")
    return owner or f"{metadata.frequency.name} bars".capitalize()


def _foot(lines: Sequence[TimeSeries]) -> str:
    sources = list(dict.fromkeys(a for line in lines if (a := line.metadata.address or line.metadata.name)))
    names = list(dict.fromkeys(line.metadata.frequency.name for line in lines))
    firsts = [line.values.dropna().index for line in lines]
    spans = list(dict.fromkeys(span_of(index) for index in firsts))
    span = spans[0] if len(spans) == 1 else " / ".join(spans[:2]) + (" …" if len(spans) > 2 else "")
    return f"{name_list(sources, 3)}; {', '.join(names)}, {span}"


# Coverage of a panel: each series from its first value to its last, and its gaps


@figure_function
def coverage_timeline(panel: Panel, *, ax: Axes | None = None) -> Axes:
    """Coverage of a panel: the span and gaps of each series, and the complete rows.

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
    ax = axes_for(ax, 1.4, per_row=0.2, rows=max(8, len(table)))
    gone = panel.missing_log[panel.missing_log["cause"].astype(str).isin(("gap", "stale price"))]
    for row, name in enumerate(table.index[::-1]):
        _draw_coverage(
            ax, row, table.loc[name], gone[gone["series"] == name]["period"], _role_colour(panel, name)
        )
    ends = [str(panel.assets.index[k]) for k in (0, -1)]
    ax.axvspan(edge_of(ends[0]), edge_of(ends[1], end=True), color=MIST, alpha=0.5, zorder=0)
    ax.set_yticks(range(len(table)), [str(n) for n in table.index[::-1]])
    ax.tick_params(axis="y", length=0, labelsize=points(8))
    ax.grid(visible=False, axis="y")
    ax.set_ylim(-0.8, len(table) - 0.2)
    ax.set_title(f"Panel coverage: {len(panel.assets)} complete {panel.frequency.noun}s")
    dear = table["costs"].idxmax() if table["costs"].max() > 0 else ""
    cost = f"; {dear} alone drops {table['costs'].max()} rows" if dear else ""
    left = len(panel.coverage) - len(table)
    others = f"{left} series that lack fewer are not listed" if left else ""
    sample = f"{panel.frequency.name}, {span_of(panel.assets.index)} (shaded){cost}"
    foot(ax, sample, "white marks are gaps", others)
    return ax


def _most_lacking(coverage: pd.DataFrame) -> pd.DataFrame:
    """The series with readable labels, those with the fewest rows first."""
    if len(coverage) <= MOST_NAMES:
        return coverage
    chosen = coverage["rows"].nsmallest(MOST_NAMES, keep="first").index
    return coverage[coverage.index.isin(chosen)]


def _role_colour(panel: Panel, name: object) -> str:
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
