"""Figures of sorted portfolios, and of models and estimates compared."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.model_comparison.beta_forecasts import BetaForecasts
from ultrum.core.model_comparison.compare_costs import CostsSideBySide
from ultrum.core.model_comparison.compare_models import ModelComparison
from ultrum.core.portfolios.factors_from_sorts import factor_from_portfolios
from ultrum.core.portfolios.portfolio_table_and_monotonicity import PortfolioTable, mean_returns
from ultrum.core.portfolios.sorted_portfolios import SortedPortfolios
from ultrum.core.presentation import decimals, p_equals, percent, quantity, true_minus
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import EstimationError, one_of
from ultrum.report.figures.figure_style import (
    INK,
    LANTERN,
    MIST,
    STONE,
    TIDE,
    axes_for,
    figure_function,
    figure_of,
    foot,
    heading,
    legend_above,
    new_figure,
    points,
    title_above,
)
from ultrum.report.figures.series_figures import moments_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@figure_function
def portfolio_means(
    table: PortfolioTable, *, model: str = "", level: float = 0.95, source: str = "", ax: Axes | None = None
) -> Axes:
    """Mean excess returns and alphas of portfolios and spreads, with confidence intervals.

    Parameters
    ----------
    table : PortfolioTable
        Result of :func:`ultrum.portfolio_table`.
    model : str
        Model of the alphas; by default the first.
    level : float
        Confidence level of the intervals.
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
    >>> world = ul.practice.stocks(60, 72)
    >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=5)
    >>> ax = portfolio_means(ul.portfolio_table(sorted_, world.market, world.risk_free))
    >>> ax.get_ylabel()
    '% per month, with 95 % interval'
    """
    name = _model_of(table, model)
    ax = axes_for(ax, 5.2)
    sides = (
        ("mean excess return", table.means, TIDE, -0.12, "o"),
        (f"alpha, {name}", table.models[name], LANTERN, 0.12, "s"),
    )
    for words, fit, colour, shift, mark in sides:
        _draw_constants(ax, fit, level, colour, shift, mark, words)
    labels = [str(label) for label in table.means.coefficients.index]
    ax.axhline(0.0, color=INK, linewidth=0.8)
    slanted = max(map(len, labels)) * len(labels) > 90
    ax.set_xticks(range(len(labels)), labels, rotation=35 if slanted else 0, ha="right" if slanted else "center")
    ax.set_ylabel(f"% per {table.noun}, with {percent(level, 0)} % interval")
    test = table.joint.get(name)
    ax.set_title("Portfolios" if test is None else f"Portfolios: joint test of alphas {p_equals(test.p_value)}")
    ax.legend(frameon=False, loc="upper left")
    foot(ax, table.in_percent, source=source)
    return ax


def _model_of(table: PortfolioTable, model: str) -> str:
    if model and model not in table.models:
        raise EstimationError(f"No model '{model}'; {one_of(model, table.models)}")
    return model or next(iter(table.models))


def _draw_constants(
    ax: Axes, fit: BetaTable, level: float, colour: str, shift: float, mark: str, words: str
) -> None:
    """Constants of regressions with intervals, beside the places of the portfolios."""
    centre = 100 * fit.coefficients[CONSTANT].to_numpy()
    reach = 100 * fit.interval(CONSTANT, level).to_numpy()
    at = np.arange(len(centre)) + shift
    ax.vlines(at, reach[:, 0], reach[:, 1], color=colour, linewidth=1.6)
    ax.plot(at, centre, mark, color=colour, markersize=6, label=words)


@figure_function
def double_sort(portfolios: SortedPortfolios, *, rest: int = 1, source: str = "", ax: Axes | None = None) -> Axes:
    """Mean returns of a double sort as a coloured grid, with the average number of assets.

    Parameters
    ----------
    portfolios : SortedPortfolios
        Of two characteristics; of three, those in one group of the third.
    rest : int
        Group of the third characteristic.
    source : str
        Source of the data, stated in the caption.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Raises
    ------
    EstimationError
        If the portfolios are sorted on one characteristic.

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.stocks(60, 72)
    >>> by = {"size": world.market_values, "value": world.book_to_market}
    >>> double_sort(ul.sort_portfolios(world.returns, by, groups=3)).get_xlabel()
    'value, from low to high'
    """
    from matplotlib.colors import LinearSegmentedColormap

    names = list(portfolios.groups)
    if len(names) < 2:
        raise EstimationError(
            "double_sort: the portfolios are sorted on one characteristic. Draw portfolio_means."
        )
    shape = tuple(portfolios.groups.values())
    means, counts = (
        frame.mean().to_numpy().reshape(*shape[:2], -1)[:, :, rest - 1 if len(names) > 2 else 0]
        for frame in (100 * portfolios.to_pandas(), portfolios.counts)
    )
    ax = axes_for(ax, 5.6)
    colours = LinearSegmentedColormap.from_list("low to high", ["#f4f1ea", LANTERN])
    painted = ax.imshow(means, cmap=colours, aspect="auto", origin="lower")
    scale = figure_of(ax).colorbar(painted, ax=ax, fraction=0.03, pad=0.02)
    scale.outline.set_visible(False)
    scale.ax.tick_params(length=0, labelsize=points(8.5))
    scale.set_label("mean return, % per period")
    for row, column in np.ndindex(*means.shape):
        text = f"{true_minus(decimals(float(means[row, column])))}\n{counts[row, column]:.0f} assets"
        ax.text(column, row, text, ha="center", va="center", fontsize=points(9.5), color=INK)
    for axis, name, count in ((ax.yaxis, names[0], shape[0]), (ax.xaxis, names[1], shape[1])):
        axis.set_ticks(range(count), [f"{name} {k}" for k in range(1, count + 1)])
        axis.set_label_text(f"{name}, from low to high")
    ax.tick_params(length=0)
    ax.grid(visible=False)
    third = f", {names[2]} {rest}" if len(names) > 2 else ""
    ax.set_title(f"Mean returns of portfolios sorted on {names[0]} and {names[1]}{third}")
    foot(ax, span_of(portfolios.returns.index), portfolios.in_percent, source=source)
    return ax


@figure_function
def cumulative_spread(
    portfolios: SortedPortfolios, formula: str, *, trading_cost: float = 0.0, source: str = ""
) -> list[Axes]:
    """A spread between sorted portfolios, cumulated, above its decline from the maximum.

    Parameters
    ----------
    portfolios : SortedPortfolios
        Result of :func:`ultrum.sort_portfolios`.
    formula : str
        Spread, as for :func:`ultrum.factor_from_portfolios`.
    trading_cost : float
        With a cost of trading, as a share of the amount, the spread net of it is drawn too.
    source : str
        Source of the data, stated in the caption.

    Returns
    -------
    list of Axes
        Axes of the cumulated spread and of its decline.

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.stocks(60, 72)
    >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=5)
    >>> [ax.get_ylabel() for ax in cumulative_spread(sorted_, "value high - value low")]
    ['Sum of spreads, %', 'Decline, %']
    """
    figure = new_figure(5.8)
    above, below = figure.subplots(2, 1, sharex=True, height_ratios=(3, 1))
    gross = factor_from_portfolios(portfolios, formula).to_pandas()
    lines = [("before costs", gross, TIDE)]
    if trading_cost:
        net = factor_from_portfolios(portfolios, formula, trading_cost=trading_cost).to_pandas()
        lines.append((f"after costs of {percent(trading_cost)} % per trade", net, LANTERN))
    for words, series, colour in lines:
        total = 100 * series.fillna(0.0).cumsum()
        above.plot(moments_of(total.index), total, color=colour, linewidth=1.6, label=words)
    final = 100 * lines[-1][1].fillna(0.0).cumsum()
    fall = final - np.maximum.accumulate(np.maximum(final, 0.0))
    below.fill_between(moments_of(fall.index), fall, 0.0, color=lines[-1][2], alpha=0.45, linewidth=0)
    above.axhline(0.0, color=MIST, linewidth=0.8)
    above.set_ylabel("Sum of spreads, %")
    below.set_ylabel("Decline, %")
    below.set_ylim(top=0.0)
    if len(lines) > 1:
        above.legend(frameon=False, loc="upper left")
    mean = mean_returns(gross.to_frame())
    value, t = float(mean.coefficients[CONSTANT].iloc[0]), float(mean.t_values[CONSTANT].iloc[0])
    words = f"{true_minus(percent(value))} % per {portfolios.returns.frequency.noun}, t {true_minus(decimals(t))}"
    title_above(figure, f"{formula}: {words}")
    about = f"{span_of(gross.index)}; sum, not compounded: a zero-cost position of constant size"
    foot(below, about, portfolios.in_percent, source=source)
    return [above, below]


@figure_function
def exposures(table: PortfolioTable, *, model: str = "", source: str = "", ax: Axes | None = None) -> Axes:
    """Exposures of portfolios to the factors of a model, as bars side by side.

    Parameters
    ----------
    table : PortfolioTable
        Result of :func:`ultrum.portfolio_table`.
    model : str
        Model; by default the first.
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
    >>> world = ul.practice.stocks(60, 72)
    >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=5)
    >>> exposures(ul.portfolio_table(sorted_, world.market, world.risk_free)).get_ylabel()
    'Exposure'
    """
    name = _model_of(table, model)
    slopes: pd.DataFrame = table.models[name].coefficients.drop(columns=CONSTANT)
    ax = axes_for(ax, 5.0)
    wide = 0.8 / len(slopes.columns)
    colours = [TIDE, LANTERN, "#5b8c3e", "#7a5a8c", "#555555"]
    for k, factor in enumerate(slopes):
        at = np.arange(len(slopes)) + (k - (len(slopes.columns) - 1) / 2) * wide
        ax.bar(at, slopes[factor], width=0.92 * wide, color=colours[k % len(colours)], label=str(factor))
    labels = [str(label) for label in slopes.index]
    slanted = max(map(len, labels)) * len(labels) > 90
    ax.set_xticks(range(len(labels)), labels, rotation=35 if slanted else 0, ha="right" if slanted else "center")
    ax.axhline(0.0, color=INK, linewidth=0.8)
    ax.set_ylabel("Exposure")
    ax.set_title(f"Exposures of the portfolios under {name}")
    ax.legend(frameon=False, ncols=min(4, len(slopes.columns)))
    foot(ax, table.basis, source=source)
    return ax


# Models and estimates compared


@figure_function
def squared_sharpe_ratios(
    comparison: ModelComparison, *, level: float = 0.95, source: str = "", ax: Axes | None = None
) -> Axes:
    """Squared Sharpe ratio of each model, before and after the correction of its bias, with intervals.

    Parameters
    ----------
    comparison : ModelComparison
        Result of :func:`ultrum.compare_models`.
    level : float
        Confidence level of the intervals.
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
    >>> models = {"CAPM": ["market"], "two factors": ["market", "momentum"]}
    >>> made = ul.compare_models(ul.practice.panel(), models, draws=99)
    >>> [t.get_text() for t in squared_sharpe_ratios(made).get_yticklabels()]
    ['CAPM', 'two factors']
    """
    table = comparison.models.sort_values("adjusted", kind="stable")
    ax = axes_for(ax, 2.6, per_row=0.55, rows=len(table))
    rows = np.arange(len(table))
    reach = float(scipy.special.ndtri(0.5 + level / 2.0)) * table["standard_error"]
    ax.hlines(rows, table["adjusted"] - reach, table["adjusted"] + reach, color=TIDE, linewidth=1.6)
    ax.scatter(table["adjusted"], rows, s=46, color=TIDE, zorder=3, label="adjusted for bias")
    ax.scatter(table["squared_sharpe"], rows, s=38, color=LANTERN, zorder=3, marker="D", label="in the sample")
    ax.axvline(0.0, color=INK, linewidth=0.8)
    ax.set_yticks(rows, [str(name) for name in table.index])
    ax.tick_params(axis="y", length=0)
    ax.grid(visible=False, axis="y")
    ax.set_ylim(-0.6, len(table) - 0.4)
    ax.set_xlabel("squared Sharpe ratio per period")
    words = [
        f"{row.first} and {row.second}: {row.agreement}"
        for row in comparison.preferences.reset_index().itertuples()
    ]
    heading(
        ax,
        "Squared Sharpe ratios of factor models",
        legend_rows=legend_above(ax, *ax.get_legend_handles_labels()),
    )
    bars = f"bars: {100 * level:g} % intervals, asymptotic"
    foot(ax, *(words if len(words) < 4 else []), bars, f"{quantity(comparison.nobs, 'period')}", source=source)
    return ax


@figure_function
def beta_forecast_errors(
    forecasts: BetaForecasts, *, limit: int = 24, source: str = "", ax: Axes | None = None
) -> Axes:
    """Mean squared forecast error of each way to estimate beta; the base case and the best set are marked.

    Parameters
    ----------
    forecasts : BetaForecasts
        Result of :func:`ultrum.evaluate_betas`.
    limit : int
        Choices shown, those with the smallest errors and the base case.
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
    >>> panel = ul.practice.panel()
    >>> returns = ul.SeriesTable.from_pandas(panel.assets, measure="return")
    >>> whole = (panel.factors["market"] + panel.risk_free).rename("index")
    >>> made = ul.evaluate_betas(returns, ul.TimeSeries.from_pandas(whole, measure="return"),
    ...                          risk_free=panel.rate, windows=["P5Y"], frequencies=["M"], draws=99)
    >>> beta_forecast_errors(made).get_xlabel()
    'mean squared forecast error of beta'
    """
    table = forecasts.table
    kept = (np.arange(len(table)) < limit) | (table.index == forecasts.base_case)
    shown = table[kept].iloc[::-1]
    ax = axes_for(ax, 2.2, per_row=0.26, rows=len(shown))
    rows = np.arange(len(shown))
    inside = shown["included"].to_numpy(dtype=bool) if "included" in shown else np.ones(len(shown), dtype=bool)
    base = np.asarray(shown.index == forecasts.base_case)
    ax.hlines(rows, 0.0, shown["mse"], color=MIST, linewidth=3)
    parts = (
        (inside & ~base, TIDE, "o", 40, "in the set of the best"),
        (~inside & ~base, STONE, "s", 26, "worse than the best"),
    )
    for mask, colour, mark, size, words in parts:
        if mask.any():
            ax.scatter(shown["mse"][mask], rows[mask], s=size, color=colour, marker=mark, zorder=3, label=words)
    ax.scatter(shown["mse"][base], rows[base], s=60, color=LANTERN, marker="D", zorder=4, label="base case")
    ax.set_yticks(rows, [str(name) for name in shown.index], fontsize=points(8.5))
    ax.tick_params(axis="y", length=0)
    ax.grid(visible=False, axis="y")
    ax.set_ylim(-0.7, len(shown) - 0.3)
    ax.set_xlim(left=min(0.0, 1.1 * float(shown["mse"].min())))
    ax.set_xlabel("mean squared forecast error of beta")
    heading(
        ax, "Which estimate forecasts beta best", legend_rows=legend_above(ax, *ax.get_legend_handles_labels())
    )
    left = (
        f"{len(table) - len(shown)} choices with larger errors are not shown" if len(shown) < len(table) else ""
    )
    foot(ax, "choice: window, frequency, adjustment, estimator", left, forecasts.basis, source=source)
    return ax


@figure_function
def costs_side_by_side(costs: CostsSideBySide, *, source: str = "", ax: Axes | None = None) -> Axes:
    """Costs of equity of a company by several methods, with intervals.

    Parameters
    ----------
    costs : CostsSideBySide
        Result of :func:`ultrum.compare_costs`.
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
    >>> plain = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> costs = {name: ul.cost_of_equity(betas, premia={"market": 0.05}, risk_free=0.03)
    ...          for name, betas in {"CAPM": plain, "shrunk": ul.shrink_betas(plain)}.items()}
    >>> costs_side_by_side(ul.compare_costs(costs, "BRTW")).get_xlabel()
    'cost of equity, % per year'
    """
    table = 100.0 * costs.table[["cost", "low", "high"]].iloc[::-1]
    ax = axes_for(ax, 2.6, per_row=0.55, rows=len(table))
    rows = np.arange(len(table))
    first = rows == len(table) - 1
    ax.hlines(rows, table["low"], table["high"], color=TIDE, linewidth=1.8)
    ax.scatter(table["cost"][~first], rows[~first], s=46, color=TIDE, zorder=3)
    ax.scatter(table["cost"][first], rows[first], s=60, color=LANTERN, marker="D", zorder=4)
    ax.axvline(float(table["cost"].iloc[-1]), color=LANTERN, linewidth=1.0, linestyle=(0, (5, 3)))
    for row, cost, low in zip(rows, table["cost"], table["low"], strict=True):
        words = f"{decimals(cost)} %{'' if np.isfinite(low) else ' (no interval)'}"
        ax.annotate(
            words,
            (cost, row),
            (0, 8),
            textcoords="offset points",
            ha="center",
            fontsize=points(9),
            bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.0},
            zorder=5,
        )
    ax.set_yticks(rows, [str(name) for name in table.index])
    ax.tick_params(axis="y", length=0)
    ax.grid(visible=False, axis="y")
    ax.set_ylim(-0.6, len(table) - 0.2)
    ax.set_xlabel("cost of equity, % per year")
    spread = float(costs.table["cost"].max() - costs.table["cost"].min())
    ax.set_title(f"Cost of equity of {costs.asset}: methods differ by up to {percent(spread)} percentage points")
    foot(ax, "bars: intervals of each method", *(w.rstrip(".") for w in costs.in_words()), source=source)
    return ax
