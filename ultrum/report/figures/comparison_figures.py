"""Figures that compare: squared Sharpe ratios of models, forecast errors of betas, costs of equity by method."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import scipy.special

from ultrum.core.model_comparison.beta_forecasts import BetaForecasts
from ultrum.core.model_comparison.compare_costs import CostsSideBySide
from ultrum.core.model_comparison.compare_models import ModelComparison
from ultrum.core.presentation import decimals, percent, quantity
from ultrum.report.figures.figure_style import (
    INK,
    LANTERN,
    MIST,
    STONE,
    TIDE,
    axes_for,
    figure_function,
    foot,
    heading,
    legend_above,
    points,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes


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
