"""Figures. Each takes a result or series and gives Matplotlib axes, to be changed at will."""

from ultrum.present.figures.coverage import coverage_timeline
from ultrum.present.figures.estimates import betas, build_up, line_of_fit
from ultrum.present.figures.files import to_pdf, to_png, to_svg
from ultrum.present.figures.lines import bars, small_multiples, through_time
from ultrum.present.figures.looking import (
    against_benchmark,
    calendar_heat,
    correlation_grid,
    growth_of_one,
    histogram,
    risk_against_return,
    under_water,
)
from ultrum.present.figures.maps import regions
from ultrum.present.figures.pricing import (
    beta_path,
    break_path,
    peers,
    predicted_against_realised,
    sensitivity,
)

__all__ = [
    "against_benchmark", "bars", "beta_path", "betas", "break_path", "build_up", "calendar_heat",
    "correlation_grid", "coverage_timeline", "growth_of_one", "histogram", "line_of_fit", "peers",
    "predicted_against_realised", "regions", "risk_against_return", "sensitivity", "small_multiples",
    "through_time", "to_pdf", "to_png", "to_svg", "under_water",
]  # fmt: skip
