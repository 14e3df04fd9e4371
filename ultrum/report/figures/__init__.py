"""Figures. Each function takes a result or series and returns Matplotlib axes."""

from ultrum.report.figures.estimate_figures import betas, build_up, line_of_fit, time_varying_betas
from ultrum.report.figures.figure_style import to_pdf, to_png, to_svg
from ultrum.report.figures.maps import regions
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
    growth_of_one,
    histogram,
    risk_against_return,
    under_water,
)
from ultrum.report.figures.series_figures import bars, coverage_timeline, small_multiples, through_time

__all__ = [
    "against_benchmark",
    "bars",
    "beta_path",
    "betas",
    "break_path",
    "build_up",
    "calendar_heat",
    "correlation_grid",
    "coverage_timeline",
    "growth_of_one",
    "histogram",
    "line_of_fit",
    "peers",
    "predicted_against_realised",
    "regions",
    "risk_against_return",
    "sensitivity",
    "small_multiples",
    "through_time",
    "time_varying_betas",
    "to_pdf",
    "to_png",
    "to_svg",
    "under_water",
]
