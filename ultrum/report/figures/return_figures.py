"""Figures of returns: risk, distribution, calendar, wealth, drawdown, correlation, benchmark."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.core.presentation import decimals, percent, quantity, significant
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.statistics.benchmark_and_correlation import Correlations, Relative
from ultrum.core.statistics.distribution_and_momentum import CalendarReturns, Distribution
from ultrum.core.statistics.risk_return_and_drawdowns import Drawdowns, RiskReturn
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.core.transform.growth_rebasing_deflating import cumulate
from ultrum.errors import UnitError
from ultrum.report.figures.figure_style import (
    DASHES,
    INK,
    LANTERN,
    LINES,
    MOST_NAMES,
    STONE,
    TIDE,
    axes_for,
    figure_function,
    figure_of,
    foot,
    heading,
    legend_above,
    names_apart,
    points,
    room_for_texts,
)
from ultrum.report.figures.series_figures import moments_of, reading_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_BELOW_TO_ABOVE: Final = ("#8c510a", "#d8a04d", "#f3e0c2", "#f7f7f5", "#c4dfe6", "#5aa3b5", "#0b5566")


@figure_function
def risk_against_return(result: RiskReturn, *, ax: Axes | None = None) -> Axes:
    """Mean return of each asset against its volatility; up to 80 are labelled without overlaps.

    Parameters
    ----------
    result : RiskReturn
        Result of :func:`ultrum.risk_return`.
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
    >>> ax = risk_against_return(ul.risk_return(panel.assets))
    >>> len(ax.texts) == panel.assets.shape[1]
    True
    """
    table = result.table.dropna(subset=["mean", "volatility"])
    x, y = 100 * table["volatility"].astype(float), 100 * table["mean"].astype(float)
    ax = axes_for(ax, 6.0)
    ax.axhline(0, color=STONE, linewidth=0.8)
    few = len(table) <= MOST_NAMES
    ax.scatter(x, y, s=26 if few else 6, color=TIDE, alpha=None if few else 0.5, zorder=3)
    ax.margins(0.09)
    ax.set_xlabel("Annualised volatility, %")
    ax.set_ylabel("Annualised mean return, %")
    ax.set_title(f"Risk and return of {quantity(len(table), 'asset')}")
    foot(ax, result.in_percent, "" if few else "names omitted: too many to read")
    if few:
        names_apart(ax, x.to_numpy(), y.to_numpy(), [str(n) for n in table.index])
    return ax


@figure_function
def histogram(result: Distribution, *, ax: Axes | None = None) -> Axes:
    """Histogram with the normal of the same mean and standard deviation; a Q–Q plot in the corner.

    Parameters
    ----------
    result : Distribution
        Result of :func:`ultrum.distribution`.
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
    >>> histogram(ul.distribution(panel.excess["BRTW"])).get_ylabel()
    'share of periods, %'
    """
    ax = axes_for(ax)
    h = result.histogram
    widths = h["high"] - h["low"]
    factor, unit = reading_of(result.metadata)
    ax.bar(
        factor * h["low"],
        100 * h["share"],
        width=factor * widths,
        align="edge",
        color=TIDE,
        alpha=0.75,
        edgecolor="white",
        linewidth=0.6,
        label="observed",
    )
    grid = np.linspace(h["low"].iloc[0], h["high"].iloc[-1], 300)
    spread = result.deviation * np.sqrt(2 * np.pi)
    normal = np.exp(-0.5 * ((grid - result.mean) / result.deviation) ** 2) / spread * float(widths.median())
    ax.plot(factor * grid, 100 * normal, color=LANTERN, linewidth=2, label="normal")
    kind = {"return": "simple return, ", "log_return": "log return, "}.get(result.metadata.measure, "")
    ax.set_xlabel(f"{result.name}, {kind}{unit}")
    ax.set_ylabel("share of periods, %")
    ax.set_ylim(0, 1.45 * 100 * max(float(h["share"].max()), float(normal.max())))
    tails = result.table.loc["> 2":]
    counts = ", ".join(str(count) for count in tails["count"])
    expected = ", ".join(
        decimals(count, 0) if count >= 10 else significant(count, 2) for count in tails["expected"]
    )
    subtitle = f"|z| > 2, 3, 4: {counts}; expected under normality: {expected}"
    heading(ax, f"Distribution of {result.name}", subtitle)
    ax.legend(loc="upper left")
    _quantiles(ax.inset_axes((0.70, 0.60, 0.28, 0.36)), result)
    foot(ax, result.in_percent)
    return ax


@figure_function
def calendar_heat(result: CalendarReturns, *, ax: Axes | None = None) -> Axes:
    """The grid of returns by year and month, coloured around zero, with every value printed.

    Parameters
    ----------
    result : CalendarReturns
        Result of :func:`ultrum.calendar_returns`.
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
    >>> ax = calendar_heat(ul.calendar_returns(panel.excess["BRTW"]))
    >>> ax.get_xticklabels()[0].get_text()
    'Jan'
    """
    from matplotlib.colors import LinearSegmentedColormap, TwoSlopeNorm

    shown = pd.concat([result.table, result.summary.loc[["mean", "positive"]]])
    values = 100 * shown.to_numpy(dtype=float)
    body = values[: len(result.table), :-1]
    reach = max(float(np.nanpercentile(np.abs(body), 95)), 1e-9)
    yearly = np.abs(values[: len(result.table), -1])
    yearly_reach = max(float(np.nanpercentile(yearly, 95)), 1e-9) if np.isfinite(yearly).any() else reach
    colours = LinearSegmentedColormap.from_list("around zero", _BELOW_TO_ABOVE)
    ax = axes_for(ax, 1.7, per_row=0.27, rows=len(shown))
    is_narrow = room_for_texts(1.0) > 1.3  # a cell has no room for a decimal
    painted = values.copy()
    painted[-1] = np.nan
    painted[: len(result.table) + 1, -1] *= reach / yearly_reach  # years have a scale of their own
    ax.imshow(painted, cmap=colours, norm=TwoSlopeNorm(0, -reach, reach), aspect="auto")
    for (row, column), value in np.ndenumerate(values):
        if np.isfinite(value):
            dark = abs(painted[row, column]) > 0.72 * reach if np.isfinite(painted[row, column]) else False
            text = decimals(value, 0 if row == len(values) - 1 or is_narrow else 1)
            ax.text(
                column, row, text, ha="center", va="center", fontsize=points(8), color="white" if dark else INK
            )
    months = [name[:1] if is_narrow and name != "year" else name for name in map(str, shown.columns)]
    ax.set_xticks(range(len(shown.columns)), months)
    partial = result.table.attrs.get("partial_years", [])
    years = [f"{year} *" if year in partial else str(year) for year in result.table.index]
    ax.set_yticks(range(len(shown)), [*years, "mean", "positive, %"])
    ax.tick_params(length=0, labelsize=points(8.5), top=True, labeltop=True, bottom=False, labelbottom=False)
    ax.grid(visible=False)
    ax.axhline(len(result.table) - 0.5, color="white", linewidth=3)
    ax.axvline(len(shown.columns) - 1.5, color="white", linewidth=3)
    for side in ax.spines.values():
        side.set_visible(False)
    ax.set_title(f"{result.name}, returns in %", pad=22)
    note = "* incomplete year, not in the mean of years" if partial else ""
    foot(ax, result.in_percent, "colours of months and of years have scales of their own", note)
    return ax


@figure_function
def growth_of_one(
    x: SeriesTable | TimeSeries, *, title: str = "", source: str = "", ax: Axes | None = None
) -> Axes:
    """Cumulative wealth of 1 invested, on a log scale; each line starts at one, a period before its first return.

    Parameters
    ----------
    x : TimeSeries or SeriesTable
        Returns of at most six assets.
    title, source : str
        Title; by default generated from the data.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Raises
    ------
    UnitError
        If there are more lines than can be distinguished.

    Examples
    --------
    >>> import ultrum as ul
    >>> growth_of_one(ul.portfolio(ul.practice.panel().assets)).get_yscale()
    'log'
    """
    table = x.as_table() if isinstance(x, TimeSeries) else x
    if len(table.names) > len(LINES):
        raise UnitError(
            f"{quantity(len(table.names), 'line')} cannot be distinguished. Draw at most {len(LINES)}."
        )
    ax = axes_for(ax)
    for number, name in enumerate(table.names):
        asset_returns = table[name]
        valid = asset_returns.values.dropna()
        grown = cumulate(TimeSeries(valid, asset_returns.metadata)).values
        frequency = asset_returns.metadata.frequency
        first = frequency.index(frequency.ordinals_of(grown.index[:1]) - 1)
        moments = [*moments_of(first), *moments_of(grown.index)] if len(grown) else []
        ax.plot(
            moments,
            [1.0, *grown] if len(grown) else [],
            color=LINES[number],
            linestyle=DASHES[number],
            linewidth=1.7,
            label=asset_returns.metadata.heading,
        )
    ax.set_yscale("log")
    ax.yaxis.set_major_formatter(_plain_number)
    ax.yaxis.set_minor_formatter(_plain_number)
    ax.tick_params(axis="y", which="minor", labelsize=points(8))
    ax.set_ylabel("Cumulative wealth of 1 invested, log scale")
    alone = f" in {table.metadata[0].heading}" if len(table.names) == 1 else ""
    lines = legend_above(ax, *ax.get_legend_handles_labels()) if len(table.names) > 1 else 0
    heading(ax, title or f"Cumulative wealth of 1{alone}", legend_rows=lines)
    foot(ax, f"{table.frequency.name}, {span_of(table.index)}; returns compounded", source=source)
    return ax


@figure_function
def drawdown(result: Drawdowns, *, name: str = "", ax: Axes | None = None) -> Axes:
    """Drawdown: decline from the running maximum.

    Parameters
    ----------
    result : Drawdowns
        Result of :func:`ultrum.drawdowns`.
    name : str
        Name of the asset; required if there are several.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> drawdown(ul.drawdowns(ul.portfolio(ul.practice.panel().assets))).get_ylabel()
    'Drawdown from running maximum, %'
    """
    name = name or str(result.drawdown_series.columns[0])
    values = 100 * result.drawdown_series[name]
    ax = axes_for(ax, 4.2)
    ax.fill_between(moments_of(values.index), values, 0, color=TIDE, alpha=0.45, linewidth=0)
    ax.plot(moments_of(values.index), values, color=TIDE, linewidth=1.0)
    ax.set_ylim(top=0)
    ax.set_ylabel("Drawdown from running maximum, %")
    worst = result.table[result.table["series"] == name].head(1)
    subtitle = (
        "" if worst.empty else f": {percent(worst['depth'].iloc[0], 0)} % at worst, {worst['trough'].iloc[0]}"
    )
    ax.set_title(f"Drawdowns of {name}{subtitle}")
    foot(ax, result.in_percent)
    return ax


@figure_function
def correlation_grid(result: Correlations, *, ax: Axes | None = None) -> Axes:
    """Correlations as a coloured grid; those not significant at the 5 % level are pale.

    Parameters
    ----------
    result : Correlations
        Result of :func:`ultrum.correlations`.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> ax = correlation_grid(ul.correlations(ul.practice.panel().factor_table))
    >>> ax.get_title("left")
    'Correlations of 4 series'
    """
    from matplotlib.colors import LinearSegmentedColormap

    matrix = result.table.to_numpy(dtype=float)
    count = len(matrix)
    ax = axes_for(ax, 1.6, per_row=0.36, rows=min(max(count, 7), 26))
    colours = LinearSegmentedColormap.from_list("around zero", _BELOW_TO_ABOVE)
    painted = ax.imshow(matrix, cmap=colours, vmin=-1, vmax=1, aspect="auto")
    figure = figure_of(ax)
    scale = figure.colorbar(painted, ax=ax, fraction=0.03, pad=0.02, ticks=[-1, -0.5, 0, 0.5, 1])
    scale.outline.set_visible(False)
    scale.ax.tick_params(length=0, labelsize=points(8.5))
    names = [str(n) for n in result.table.index]
    if count <= 26:
        _write_correlations(ax, matrix, result.p_values.to_numpy(dtype=float))
    shown = range(count) if count <= MOST_NAMES else ()
    slanted = max(map(len, names)) > 5
    shown_names = [names[k] for k in shown]
    ax.set_xticks(shown, shown_names, rotation=45 if slanted else 0, ha="right" if slanted else "center")
    ax.set_yticks(shown, shown_names)
    ax.tick_params(length=0, labelsize=points(8.5))
    ax.grid(visible=False)
    for side in ax.spines.values():
        side.set_visible(False)
    ax.set_title(f"Correlations of {count} series")
    pairs = np.unique(result.counts.to_numpy()[~np.eye(count, dtype=bool)])
    span = f"{pairs[0]}" if len(pairs) == 1 else f"{pairs[0]} to {pairs[-1]}"
    grey = "grey numbers: not different from zero at 5 %" if count <= 26 else ""
    foot(ax, result.basis, f"{span} observations per pair", grey)
    return ax


@figure_function
def against_benchmark(result: Relative, *, ax: Axes | None = None) -> Axes:
    """Cumulative active return of an asset over its benchmark, compounded, and by horizon.

    Parameters
    ----------
    result : Relative
        Result of :func:`ultrum.compare_to_benchmark`.
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
    >>> market = ul.portfolio(panel.assets, name="all")
    >>> brightwater = ul.SeriesTable(panel.assets, tuple(panel.metadata[n] for n in panel.assets))["BRTW"]
    >>> against_benchmark(ul.compare_to_benchmark(brightwater, market)).get_ylabel()
    'Cumulative active return, %'
    """
    active = result.active.values.dropna()
    ahead = 100 * (cumulate(TimeSeries(active, result.active.metadata)).values - 1.0)
    ax = axes_for(ax)
    days = moments_of(ahead.index)
    ax.axhline(0, color=STONE, linewidth=0.8)
    ax.fill_between(days, ahead, 0, where=(ahead >= 0).to_numpy(), color=TIDE, alpha=0.35, linewidth=0)
    ax.fill_between(days, ahead, 0, where=(ahead < 0).to_numpy(), color=LANTERN, alpha=0.35, linewidth=0)
    ax.plot(days, ahead, color=INK, linewidth=1.2)
    ax.set_ylabel("Cumulative active return, %")
    words = "; ".join(
        f"{h} {percent(row['active_return'], 1, signed=True)}" for h, row in result.table.iterrows()
    )
    title = result.active.name.replace("_less_", " against ")
    heading(ax, title, f"active return over {words} (% points)")
    foot(ax, result.in_percent)
    return ax


def _write_correlations(ax: Axes, matrix: Floats, p_values: Floats) -> None:
    size = 8 if len(matrix) < 16 else 6.2
    for (row, column), value in np.ndenumerate(matrix):
        if np.isfinite(value):
            weak = row != column and not p_values[row, column] < 0.05
            colour = STONE if weak else "white" if abs(value) > 0.7 else INK
            ax.text(column, row, decimals(value), ha="center", va="center", fontsize=size, color=colour)


def _quantiles(ax: Axes, result: Distribution) -> None:
    """Observed quantiles against those of the normal (Q–Q plot)."""
    import scipy.special

    count = len(result.values)
    ranks = (np.arange(1, count + 1) - 0.5) / count
    theory = scipy.special.ndtri(ranks)
    sample_quantiles = (np.sort(result.values) - result.mean) / result.deviation
    reach = max(float(np.abs(sample_quantiles).max()), 3.0)
    ax.plot([-reach, reach], [-reach, reach], color=LANTERN, linewidth=1)
    ax.plot(theory, sample_quantiles, ".", color=TIDE, markersize=2.5)
    ax.set_title(
        "Normal Q–Q plot" if room_for_texts(1.0) < 1.3 else "Q–Q", fontsize=points(8), fontweight="normal", pad=3
    )
    ax.tick_params(labelsize=points(7))


def _plain_number(value: float, _: object) -> str:
    return f"{value:,g}"
