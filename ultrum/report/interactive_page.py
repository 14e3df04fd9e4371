"""The interactive chart of a report: every line, with zoom, pan and exact values.

It is drawn by the optional package bokeh, whose script is embedded, so that the page works without a network.
Without the package, or without scripts, only this chart is missing.
"""

from __future__ import annotations

import importlib.util
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, cast

import numpy as np
import pandas as pd

from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.core.transform.growth_rebasing_deflating import cumulate
from ultrum.desk.column_names import unique_headings
from ultrum.errors import UltrumError
from ultrum.report.figures.figure_style import INK, LANTERN, MIST, STONE, TIDE
from ultrum.report.figures.series_figures import reading_of
from ultrum.study.run import StudyResult

if TYPE_CHECKING:
    from bokeh.plotting import figure

_MOST_POINTS: Final = 400_000  # of all lines together: about 10 MB of page


@dataclass(frozen=True)
class Line:
    """A selectable line: its group, name, unit and values by period."""

    group: str
    name: str
    unit: str
    values: pd.Series


def explorer(result: StudyResult) -> dict[str, str] | None:
    """Data and scripts of the chart, for the page; None without bokeh.

    Returns
    -------
    dict of str to str, or None
        ``script`` (bokeh's own), ``item`` (the chart), ``lines`` (JSON) and ``version``.
    """
    return _explorer_parts(list(lines_of(result)))


def series_page(series: Sequence[TimeSeries], title: str = "") -> str:
    """A page that shows series as interactive lines, on one or two scales.

    Parameters
    ----------
    series : sequence of TimeSeries
        Series of any frequency and unit.
    title : str
        By default the names of the first series.

    Returns
    -------
    str
        HTML that needs no network.

    Raises
    ------
    UltrumError
        If bokeh is not installed, or no series has a value.
    """
    import jinja2

    valid = [one for one in series if one.values.notna().any()]
    if not valid:
        raise UltrumError("None of the series has a value, so there is nothing to draw.")
    named = unique_headings(valid, [one.name for one in valid])
    explored = _explorer_parts([_as_read("Series", n, one) for n, one in zip(named, valid, strict=True)])
    if explored is None:
        raise UltrumError("An interactive chart needs the package bokeh: pip install bokeh.")
    folder = Path(__file__).parent
    environment = jinja2.Environment(
        loader=jinja2.FileSystemLoader(folder), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    explored["second"] = "1" if len(valid) == 2 else ""
    rows = [{**_facts(one), "name": name} for name, one in zip(named, valid, strict=True)]
    names = ", ".join(named[:3])
    return environment.get_template("series_page.html.j2").render(
        title=title or names + (" …" if len(valid) > 3 else ""),
        span=f"{min(r['first'] for r in rows)} to {max(r['last'] for r in rows)}",
        rows=rows,
        explorer=explored,
        css=(folder / "report.css").read_text(encoding="utf-8"),
    )


def _facts(series: TimeSeries) -> dict[str, str]:
    """Facts of a series, for the table of the page."""
    values, metadata = series.values.dropna(), series.metadata
    return {
        "frequency": metadata.frequency.name,
        "unit": reading_of(metadata)[1],
        "first": period_label(values.index[0]),
        "last": period_label(values.index[-1]),
        "values": f"{len(values):,}",
        "source": metadata.address or metadata.source,
    }


def _explorer_parts(every: list[Line]) -> dict[str, str] | None:
    """The chart of some lines, with its script; None without bokeh."""
    if importlib.util.find_spec("bokeh") is None:
        return None
    import bokeh
    from bokeh.embed import json_item
    from bokeh.resources import Resources

    lines = _within(every, _MOST_POINTS)
    item = _renumber(json_item(_picture(), cast(Any, "explorer-picture")))
    return {
        "script": Resources(mode="inline", components=["bokeh"]).js_raw[0],
        "item": _inert(item),
        "lines": _inert(_data(lines)),
        "behaviour": (Path(__file__).parent / "explorer.js").read_text(encoding="utf-8"),
        "left_out": "" if len(lines) == len(every) else str(len(every) - len(lines)),
        "version": str(bokeh.__version__),
    }


def lines_of(result: StudyResult) -> Iterator[Line]:
    """Every line of a study, the company's first."""
    company = result.company
    yield from _about(result, f"About {company}")
    yield from _grown("Cumulative wealth", result.returns)
    if result.rolling is not None:
        betas = result.rolling.frame()
        for asset in betas:
            yield Line("Beta in rolling windows", str(asset), "beta", betas[asset])
    for name in map(str, result.panel.factors):
        yield _as_read("Factors", name, result.panel.factor_table[name])
    for name, series in result.series.items():
        yield _as_read("Series of the study", name, series)


def _about(result: StudyResult, group: str) -> Iterator[Line]:
    """The time-varying betas of the company in the report's figures."""
    wanted, level = set(result.study.report.figures), result.study.report.level
    bands: dict[str, pd.DataFrame] = {}
    if result.rolling is not None and result.company in result.rolling.assets:
        bands["beta in rolling windows"] = result.rolling.interval(result.company, level=level)
    if "state-space beta" in wanted:
        bands["state-space beta"] = result.state_space_beta.interval(result.company, level)
    for name, band in bands.items():
        yield Line(group, name, "beta", band["estimate"])
        yield Line(group, f"{name}, lower bound", "beta", band["low"])
        yield Line(group, f"{name}, upper bound", "beta", band["high"])
    if "break" in wanted:
        yield Line(group, "F of a break at each date", "F", result.company_break.path)


def _grown(group: str, table: SeriesTable) -> Iterator[Line]:
    """Cumulative wealth of 1 invested, for every asset without gaps in its returns."""
    for name in table.names:
        asset_returns = table[name]
        valid = asset_returns.values.loc[
            asset_returns.values.first_valid_index() : asset_returns.values.last_valid_index()
        ]
        if len(valid) and valid.notna().all():
            yield Line(group, name, "growth of one", cumulate(TimeSeries(valid, asset_returns.metadata)).values)


def _as_read(group: str, name: str, series: TimeSeries) -> Line:
    """A series in display units."""
    factor, unit = reading_of(series.metadata)
    return Line(group, name, unit, factor * series.values)


def _within(lines: list[Line], most: int) -> list[Line]:
    """As many lines as a page can hold."""
    sizes = np.cumsum([len(line.values) for line in lines])
    return [line for line, size in zip(lines, sizes, strict=True) if size <= most]


def _picture() -> figure:
    """An empty chart with a scale on the left for the first line and one on the right for the second."""
    from bokeh.models import DataRange1d, LinearAxis
    from bokeh.plotting import figure

    drawn: Any = figure(
        x_axis_type="datetime",
        height=430,
        sizing_mode="stretch_width",
        toolbar_location="above",
        tools="pan,xwheel_zoom,box_zoom,reset",
        outline_line_color=None,
        name="explorer",
    )
    drawn.toolbar.logo = None
    drawn.extra_y_ranges = {"second": DataRange1d(name="second range")}
    drawn.add_layout(LinearAxis(y_range_name="second", name="second axis"), "right")
    drawn.yaxis[0].name = "first axis"
    drawn.y_range.renderers = [_line_of(drawn, "first", TIDE, "default")]
    drawn.extra_y_ranges["second"].renderers = [_line_of(drawn, "second", LANTERN, "second")]
    for axis in (*drawn.xaxis, *drawn.yaxis):
        axis.update(
            axis_line_color=STONE,
            major_tick_line_color=STONE,
            minor_tick_line_color=None,
            major_label_text_color=INK,
            axis_label_text_font_style="normal",
        )
    drawn.grid.grid_line_color = MIST
    return cast("figure", drawn)


def _line_of(drawn: Any, place: str, colour: str, scale: str) -> object:
    """A line without points yet, with value and period at the pointer."""
    from bokeh.models import ColumnDataSource, HoverTool

    source = ColumnDataSource({"x": [], "y": [], "period": [], "exact": []}, name=f"{place} source")
    line = drawn.line("x", "y", source=source, color=colour, line_width=1.8, y_range_name=scale)
    tooltip = f'<b style="color:{colour}">@exact</b> @period'
    drawn.add_tools(HoverTool(renderers=[line], mode="vline", line_policy="nearest", tooltips=tooltip))
    return line


def _data(lines: list[Line]) -> list[dict[str, Any]]:
    """Each line as JSON: instants in milliseconds, values in full precision, labels of periods."""
    rows = []
    for line in lines:
        valid = line.values.dropna() if line.values.isna().all() else line.values
        index = valid.index
        ends = index.to_timestamp(how="end") if isinstance(index, pd.PeriodIndex) else index
        rows.append(
            {
                "group": line.group,
                "name": line.name,
                "unit": line.unit,
                "x": (ends.to_numpy().astype("datetime64[ms]").astype(np.int64)).tolist(),
                "y": [None if pd.isna(v) else float(v) for v in valid],
                "period": [period_label(p) for p in index],
            }
        )
    return rows


def _renumber(item: object) -> object:
    """The chart with its ids numbered from 1, so the bytes are reproducible."""
    numbers: dict[str, str] = {}

    def _walk(part: object) -> object:
        if isinstance(part, dict):
            return {k: _number(v) if k in ("id", "root_id") else _walk(v) for k, v in part.items()}
        return [_walk(p) for p in part] if isinstance(part, list | tuple) else part

    def _number(name: object) -> object:
        return numbers.setdefault(name, f"p{len(numbers) + 1}") if isinstance(name, str) else name

    return _walk(item)


def _inert(data: object) -> str:
    """JSON that cannot close the enclosing script element."""
    text = json.dumps(data, separators=(",", ":"), ensure_ascii=False)
    return text.replace("<", "\\u003c").replace("\u2028", "\\u2028").replace("\u2029", "\\u2029")
