"""Figures. Each takes a result or series and gives Matplotlib axes, to be changed at will."""

from ultrum.present.figures.estimates import betas, build_up, line_of_fit
from ultrum.present.figures.files import to_png, to_svg
from ultrum.present.figures.lines import bars, small_multiples, through_time
from ultrum.present.figures.maps import regions

__all__ = [
    "bars", "betas", "build_up", "line_of_fit", "regions", "small_multiples", "through_time", "to_png",
    "to_svg",
]  # fmt: skip
