"""Figures of estimates: betas, a regression line, components of a cost of equity, time-varying betas."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.core.presentation import capitalise, decimals, percent, true_minus
from ultrum.core.pricing.cost_of_equity_result import RISK_FREE, CostOfEquity
from ultrum.core.pricing.time_varying_betas import TimeVaryingBetas
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import errors_in_words
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.inference import t_quantile
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.time.index_frequency_and_gaps import infer_frequency
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import FrequencyError, UltrumError, name_list, one_of
from ultrum.report.figures.figure_style import (
    INK,
    LANTERN,
    MIST,
    MOST_NAMES,
    STONE,
    TIDE,
    axes_for,
    columns_that_fit,
    figure_function,
    foot,
    heading,
    new_figure,
    points,
    room_for_texts,
    title_above,
)
from ultrum.report.figures.series_figures import moments_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@figure_function
def betas(
    table: BetaTable,
    *,
    term: str | None = None,
    level: float = 0.95,
    highlight: str | None = None,
    source: str = "",
    ax: Axes | None = None,
) -> Axes:
    """One coefficient of every asset with its confidence interval, sorted.

    Parameters
    ----------
    table : BetaTable
        With more than 80 assets only the highlighted one is labelled.
    term : str, optional
        Coefficient to show; by default the first factor.
    level : float
        Confidence level of the intervals.
    highlight : str, optional
        Asset shown in another colour.
    source : str
        Source of the data, stated in the caption.
    ax : Axes, optional
        Axes to draw on; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> betas(table, highlight="BRTW").get_xlabel()
    'market beta, with 95 % interval'
    """
    term = term or _factors_of(table)[0]
    order = table.coefficients[term].sort_values().index
    ax = axes_for(ax, 1.3, per_row=0.24, rows=_rows_for(len(order)))
    _draw_intervals(ax, table, term, order, level, highlight)
    ax.set_title(f"{capitalise(term)} betas of {len(order)} assets")
    foot(ax, _span_of(table), errors_in_words(table.errors), source=source)
    return ax


@figure_function
def loadings(
    table: BetaTable, *, level: float = 0.95, highlight: str | None = None, source: str = ""
) -> list[Axes]:
    """The loadings of every asset on every factor with their confidence intervals, a panel for each factor.

    Parameters
    ----------
    table : BetaTable
        With more than 80 assets only the highlighted one is labelled.
    level : float
        Confidence level of the intervals.
    highlight : str, optional
        Asset shown in another colour.
    source : str
        Source of the data, stated in the caption.

    Returns
    -------
    list of Axes
        Axes of each panel; the assets are in the order of the first factor's loadings.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = ul.factor_betas(ul.practice.panel(), ["market", "size"])
    >>> [ax.get_xlabel() for ax in loadings(table)]
    ['market beta, with 95 % interval', 'size beta, with 95 % interval']
    """
    factors = _factors_of(table)
    order = table.coefficients[factors[0]].sort_values().index
    width = max(9.0, 3.0 * len(factors))
    figure = new_figure(1.3, width=width, per_row=0.24, rows=_rows_for(len(order)))
    panels = list(figure.subplots(1, len(factors), squeeze=False).ravel())
    for ax, term in zip(panels, factors, strict=True):
        _draw_intervals(ax, table, term, order, level, highlight)
    for ax in panels[1:]:
        ax.set_yticklabels([])
    title_above(figure, f"Loadings of {len(order)} assets on {name_list(factors)}")
    foot(panels[0], _span_of(table), errors_in_words(table.errors), source=source)
    return panels


def _factors_of(table: BetaTable) -> list[str]:
    return [str(t) for t in table.coefficients if t != CONSTANT]


def _span_of(table: BetaTable) -> str:
    return f"{period_label(table.first.dropna().min())} to {period_label(table.last.dropna().max())}"


def _rows_for(assets: int) -> int:
    return max(7, assets) if assets <= MOST_NAMES else 24


def _draw_intervals(
    ax: Axes, table: BetaTable, term: str, order: pd.Index, level: float, highlight: str | None
) -> None:
    """Intervals of one coefficient, a row for each asset; the dashed line is at one for the first factor."""
    centre = table.coefficients.loc[order, term].to_numpy()
    reach = table.interval(term, level).loc[order]
    few = len(order) <= MOST_NAMES
    rows = np.arange(len(order))
    colours = [LANTERN if asset == highlight else TIDE for asset in order]
    named = rows if few else np.flatnonzero(order == highlight)  # more cannot be read
    if not few:
        ax.hlines(rows, reach["low"], reach["high"], colors=TIDE, linewidth=0.5, alpha=0.2)
        ax.scatter(centre, rows, c=TIDE, s=2)
    ends, point_colours = reach.iloc[named], [colours[k] for k in named]
    ax.hlines(named, ends["low"], ends["high"], colors=point_colours, linewidth=2, zorder=3)
    ax.scatter(centre[named], named, c=point_colours, s=26, zorder=3)
    ax.set_yticks(named, [str(a) for a in order[named]])
    ax.tick_params(axis="y", length=0, labelsize=points(9))
    ax.grid(visible=False, axis="y")
    ax.set_ylim(-0.8, len(order) - 0.2)
    for tick, asset in zip(ax.get_yticklabels(), order[named], strict=True):
        tick.set_color(LANTERN if asset == highlight else INK)
    average = 1.0 if term == _factors_of(table)[0] else 0.0
    ax.axvline(average, color=STONE, linewidth=1, linestyle=(0, (4, 3)))
    ax.set_xlabel(f"{term} beta, with {100 * level:g} % interval")


@figure_function
def line_of_fit(
    fit: Fit, *, factor: str | None = None, level: float = 0.95, source: str = "", ax: Axes | None = None
) -> Axes:
    """Returns of one asset against one factor, with the fitted line and its band.

    Parameters
    ----------
    fit : Fit
        Estimated regression.
    factor : str, optional
        Factor on the horizontal axis; by default the first. The other factors are held at their means.
    level : float
        Confidence level of the intervals drawn.
    source : str
        Source of the data, stated in the caption.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
    >>> line_of_fit(fit).get_ylabel()
    'BRTW, excess return, % per month'
    """
    factor = factor or next(str(t) for t in fit.coefficients.index if t != CONSTANT)
    x, y = 100 * fit.design[factor].to_numpy(), 100 * fit.response.to_numpy()
    ax = axes_for(ax)
    ax.axhline(0, color=STONE, linewidth=0.8)
    ax.axvline(0, color=STONE, linewidth=0.8)
    ax.scatter(x, y, s=16, color=TIDE, alpha=0.55, linewidths=0)
    reach = np.linspace(x.min(), x.max(), 100)
    line, band = _line_and_band(fit, factor, reach, level)
    ax.fill_between(reach, line - band, line + band, color=LANTERN, alpha=0.18, linewidth=0)
    ax.plot(reach, line, color=LANTERN, linewidth=2)
    noun = _noun(fit.response.index)
    ax.set_xlabel(f"{factor}, {fit.kinds.get(factor, 'return')}, % per {noun}")
    ax.set_ylabel(f"{fit.name}, {fit.kinds.get(fit.name, 'return')}, % per {noun}")
    heading(ax, f"{fit.name} against {factor}", _fit_words(fit, factor, noun))
    span = f"{period_label(fit.sample[0])} to {period_label(fit.sample[1])}, {fit.nobs} {noun}s"
    foot(ax, span, errors_in_words(fit.errors), source=source)
    return ax


@figure_function
def cost_components(
    cost: CostOfEquity, asset: str, *, level: float = 0.95, source: str = "", ax: Axes | None = None
) -> Axes:
    """Components of the cost of equity: the risk-free rate, each premium, and the total with its interval.

    Parameters
    ----------
    cost : CostOfEquity
        Result of :func:`ultrum.cost_of_equity`.
    asset : str
        Name of the asset.
    level : float
        Confidence level of the intervals drawn.
    source : str
        Source of the data, stated in the caption.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> cost = ul.cost_of_equity(table, premia={"market": 0.05}, risk_free=0.03)
    >>> cost_components(cost, "BRTW").get_xlabel()
    '% per year'
    """
    if asset not in cost.value.index:
        raise UltrumError(f"No cost of equity of '{asset}'; {one_of(asset, cost.value.index)}")
    parts = cost.parts.loc[asset]
    steps = 100 * parts["contribution"].to_numpy()
    starts = np.concatenate([[0.0], np.cumsum(steps)[:-1]])
    total = 100 * float(cost.value[asset])
    low, high = (100 * float(cost.interval(level)[side][asset]) for side in ("low", "high"))
    ax = axes_for(ax, 1.9, per_row=0.62, rows=len(parts))
    rows = np.arange(len(parts), -1, -1)
    colours = [STONE if p == RISK_FREE else TIDE for p in parts.index]
    ax.barh(rows[:-1], steps, left=starts, color=colours, height=0.56)
    ax.barh(rows[-1], total, color=LANTERN, height=0.56)
    ax.hlines(rows[-1], low, high, color=INK, linewidth=2)
    ax.vlines([low, high], -0.12, 0.12, color=INK, linewidth=2)
    ends = np.append(np.maximum(starts, starts + steps), max(total, high))
    words = [decimals(s, signed=True) if i else decimals(s) for i, s in enumerate(steps)]
    between = "\n" if room_for_texts(1.0) > 1.3 else "  "
    words.append(f"{decimals(total)}{between}({decimals(low)} to {decimals(high)})")
    words = [true_minus(word) for word in words]
    for row, end, word in zip(rows, ends, words, strict=True):
        ax.text(float(end + 0.012 * ends.max()), float(row), word, va="center", fontsize=points(10))
    ax.set_yticks(rows, [*_part_labels(parts), f"cost of equity\nwith {100 * level:g} % interval"])
    ax.tick_params(axis="y", length=0)
    ax.grid(visible=False, axis="y")
    ax.set_xlim(min(0.0, low * 1.1), (1 + room_for_texts(0.4)) * float(ends.max()))
    ax.set_xlabel("% per year")
    ax.set_title(f"Cost of equity of {asset}")
    foot(ax, cost.sample[asset], errors_in_words(cost.errors), source=source)
    return ax


def _line_and_band(fit: Fit, factor: str, reach: Floats, level: float) -> tuple[Floats, Floats]:
    """Fitted line over one factor, with the others at their means, and half the width of its band; percent."""
    rows = np.tile(fit.design.to_numpy().mean(axis=0), (len(reach), 1))
    rows[:, list(fit.design.columns).index(factor)] = reach / 100
    line = rows @ fit.coefficients.to_numpy()
    error = np.sqrt(np.einsum("ij,jk,ik->i", rows, fit.covariance.to_numpy(), rows))
    return 100 * line, 100 * error * t_quantile(level, fit.df)


def _fit_words(fit: Fit, factor: str, noun: str) -> str:
    beta, error = fit.coefficients[factor], fit.standard_errors[factor]
    words = [f"beta {decimals(beta)} (standard error {decimals(error)})"]
    if CONSTANT in fit.coefficients.index:
        alpha, alpha_error = 100 * fit.coefficients[CONSTANT], 100 * fit.standard_errors[CONSTANT]
        words.append(f"alpha {decimals(alpha)} % per {noun} ({decimals(alpha_error)})")
    return true_minus("; ".join([*words, f"R² {decimals(fit.r2)}"]))


def _noun(index: pd.Index) -> str:
    """Noun for one period of an index."""
    try:
        return infer_frequency(index).noun
    except FrequencyError:
        return "period"


def _part_labels(parts: Any) -> list[str]:
    labels = []
    for name, part in parts.iterrows():
        if np.isnan(part["beta"]):  # the rate, add-ons, another currency
            labels.append(str(name))
        else:
            labels.append(f"{name}: beta {decimals(part['beta'])}\n× premium {percent(part['premium'])} %")
    return labels


# Betas of one asset by several estimators, side by side


@figure_function
def time_varying_betas(result: TimeVaryingBetas, *, source: str = "") -> list[Axes]:
    """Betas of one asset by each estimator, one panel each on a common scale, with their forecast errors.

    Parameters
    ----------
    result : TimeVaryingBetas
        Result of :func:`ultrum.time_varying_betas`.
    source : str
        Source of the data, stated in the caption.

    Returns
    -------
    list of Axes
        Axes of each panel.

    Examples
    --------
    >>> import ultrum as ul
    >>> made = ul.time_varying_betas(ul.practice.panel(), "MRWG")
    >>> time_varying_betas(made)[0].get_title(loc="left")
    'constant: forecast error 8.97 %'
    """
    columns = min(2, columns_that_fit(2.4) or 2)
    tall, errors = -(-len(result.paths) // columns), result.forecasts["rmse"].to_dict()
    figure = new_figure(0.8 + 2.9 * tall, width=9.6)
    grid = figure.subplots(tall, columns, sharex=True, sharey=True, squeeze=False).ravel()
    bounds = pd.concat(list(result.paths.values()))
    low, high = float(bounds["low"].quantile(0.02)), float(bounds["high"].quantile(0.98))
    for ax, (name, path) in zip(grid, result.paths.items(), strict=False):
        days = moments_of(path.index)
        ax.fill_between(days, path["low"], path["high"], color=MIST)
        ax.plot(days, path["estimate"], color=TIDE)
        ax.set_title(f"{name}: forecast error {percent(errors[name])} %", fontsize=points(11))
        ax.set_ylim(low - 0.1 * (high - low), high + 0.1 * (high - low))
    for ax in grid[len(result.paths) :]:
        ax.set_axis_off()
    for ax in grid[::columns]:
        ax.set_ylabel(f"{result.factor} beta")
    title_above(figure, f"Beta of {result.asset} by estimator, with 95 % bands")
    foot(grid[0], result.basis, source=source)
    return list(grid[: len(result.paths)])
