"""Figures. Each function takes a result or series and returns Matplotlib axes."""

from typing import Final

from ultrum.core.deprecated_names import warn_of_name
from ultrum.report.figures.estimate_figures import (
    betas,
    cost_components,
    line_of_fit,
    loadings,
    time_varying_betas,
)
from ultrum.report.figures.figure_files import to_pdf, to_png, to_svg, write
from ultrum.report.figures.figure_style import print_layout
from ultrum.report.figures.maps import regions
from ultrum.report.figures.portfolio_and_comparison_figures import (
    beta_forecast_errors,
    costs_side_by_side,
    cumulative_spread,
    double_sort,
    exposures,
    portfolio_means,
    squared_sharpe_ratios,
)
from ultrum.report.figures.pricing_figures import (
    beta_path,
    break_path,
    peers,
    predicted_against_realised,
    sensitivity,
)
from ultrum.report.figures.return_figures import (
    against_benchmark,
    calendar_heat,
    correlation_grid,
    drawdown,
    growth_of_one,
    histogram,
    risk_against_return,
)
from ultrum.report.figures.series_figures import bars, coverage_timeline, small_multiples, through_time

__all__ = [
    "against_benchmark",
    "bars",
    "beta_forecast_errors",
    "beta_path",
    "betas",
    "break_path",
    "calendar_heat",
    "correlation_grid",
    "cost_components",
    "costs_side_by_side",
    "coverage_timeline",
    "cumulative_spread",
    "double_sort",
    "drawdown",
    "exposures",
    "growth_of_one",
    "histogram",
    "line_of_fit",
    "loadings",
    "peers",
    "portfolio_means",
    "predicted_against_realised",
    "print_layout",
    "regions",
    "risk_against_return",
    "sensitivity",
    "small_multiples",
    "squared_sharpe_ratios",
    "through_time",
    "time_varying_betas",
    "to_pdf",
    "to_png",
    "to_svg",
    "write",
]

_EARLIER: Final = {"build_up": "cost_components", "under_water": "drawdown"}


def __getattr__(name: str) -> object:
    """A figure by its earlier name, with a warning."""
    if name not in _EARLIER:
        raise AttributeError(f"module '{__name__}' has no attribute '{name}'")
    warn_of_name(f"figures.{name}", f"figures.{_EARLIER[name]}")
    return globals()[_EARLIER[name]]
