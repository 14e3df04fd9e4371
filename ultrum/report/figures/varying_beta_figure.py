"""Betas of one asset by several estimators, side by side."""

from __future__ import annotations

from typing import TYPE_CHECKING

import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.displayed_numbers import percent
from ultrum.core.pricing.time_varying_betas import TimeVaryingBetas
from ultrum.report.figure_style import MIST, TIDE, foot, styled
from ultrum.report.figures.series_reading import moments_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@styled
@checked
def time_varying_betas(result: TimeVaryingBetas, *, source: str = "") -> list[Axes]:
    """Betas of one asset by each estimator, a picture each on one scale, with the errors of their forecasts.

    Parameters
    ----------
    result : TimeVaryingBetas
        Result of :func:`ultrum.time_varying_betas`.
    source : str
        Source of the data, named below the figure.

    Returns
    -------
    list of Axes
        Axes of each picture.

    Examples
    --------
    >>> import ultrum as ul
    >>> made = ul.time_varying_betas(ul.practice.panel(), "MRWG")
    >>> time_varying_betas(made)[0].get_title(loc="left")
    'constant: forecast error 8.97 %'
    """
    from matplotlib.figure import Figure

    tall, errors = -(-len(result.paths) // 2), result.forecasts["rmse"].to_dict()
    figure = Figure(figsize=(9.6, 0.8 + 2.9 * tall), layout="constrained")
    grid = figure.subplots(tall, 2, sharex=True, sharey=True, squeeze=False).ravel()
    bounds = pd.concat(list(result.paths.values()))
    low, high = float(bounds["low"].quantile(0.02)), float(bounds["high"].quantile(0.98))
    for ax, (name, path) in zip(grid, result.paths.items(), strict=False):
        days = moments_of(path.index)
        ax.fill_between(days, path["low"], path["high"], color=MIST)
        ax.plot(days, path["estimate"], color=TIDE)
        ax.set_title(f"{name}: forecast error {percent(errors[name])} %", fontsize=11)
        ax.set_ylim(low - 0.1 * (high - low), high + 0.1 * (high - low))
    for ax in grid[len(result.paths) :]:
        ax.set_axis_off()
    for ax in grid[::2]:
        ax.set_ylabel(f"{result.factor} beta")
    figure.suptitle(
        f"Beta of {result.asset} by estimator, with 95 % bands",
        x=0.01,
        ha="left",
        fontweight="bold",
    )
    foot(grid[0], result.basis, source=source)
    return list(grid[: len(result.paths)])
