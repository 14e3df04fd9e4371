"""The figures of a study, with their captions and alternative text."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib.metadata import version
from typing import TYPE_CHECKING, Any, Final, TypeVar

from ultrum.core.displayed_numbers import decimals
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.regression.fit import CONSTANT
from ultrum.core.series.time_series import SeriesTable
from ultrum.errors import StudyError
from ultrum.report import figures
from ultrum.study.sections import Figure
from ultrum.study.stages import code_of_parts, digest
from ultrum.study.study_result import StudyResult

if TYPE_CHECKING:
    from matplotlib.axes import Axes

T = TypeVar("T")


_STAGES: Final[Mapping[str, tuple[str, ...]]] = {
    "betas": ("model",), "line of fit": ("model",), "build-up": ("cost of equity",), "rolling beta": ("model",
    "rolling betas"), "state-space beta": ("model", "panel"), "break": ("model",),
    "predicted against realised": ("two-pass",), "peers": ("peers",), "sensitivity": ("sensitivity",),
    "risk and return": ("panel",), "growth of one": ("returns",),
}  # fmt: skip


def figure_names(result: StudyResult) -> list[Figure]:
    """Names of the figures asked for that the result can give."""
    # the build-up is among the figures drawn by default
    return [n for n in result.study.report.figures if n != "build-up" or result.cost is not None]


def drawn_figure(result: StudyResult, name: Figure) -> Axes:
    """A figure, with the study's own title where it has one."""
    ax = _drawers(result)[name]()
    titles = result.study.report.titles.get(name)
    if titles:
        _reword(ax, {"title": titles} if isinstance(titles, str) else titles.model_dump())
    return ax


def figure_key(result: StudyResult, name: Figure) -> str:
    """What a figure depends on: its settings, the results of its stages and the program's code."""
    report, states = result.study.report, {n: s.state for n, s in result.stages.items()}
    model = f"model: {result.study.model.name}"
    needs = [model if stage == "model" else stage for stage in _STAGES[name]]
    titles = report.model_dump(mode="json")["titles"].get(name)
    panel = [result.study.price_addresses, result.study.panel.factors, result.company]
    return digest(
        ["figure", code_of_parts("report", "core"), version("matplotlib"), name, report.level, titles, panel,
         sorted(report.export), [states.get(n) for n in needs]]
    )  # fmt: skip


def _reword(ax: Axes, titles: dict[str, Any]) -> None:
    """The study's own title, names of the axes and of the lines in place of the figure's."""
    if titles.get("title"):
        ax.set_title(titles["title"], loc="left", fontweight="bold", fontsize=12.5)
    if titles.get("x"):
        ax.set_xlabel(titles["x"])
    if titles.get("y"):
        ax.set_ylabel(titles["y"])
    legend = ax.get_legend()
    for text in legend.get_texts() if legend is not None else []:
        text.set_text(titles.get("legend", {}).get(text.get_text(), text.get_text()))


def _drawers(result: StudyResult) -> dict[str, Callable[[], Axes]]:
    level, panel, company = result.study.report.level, result.study.panel, result.company
    source = ", ".join(dict.fromkeys([*result.study.price_addresses, panel.factors]))
    betas, fit = result.betas, result.betas.fit(company)
    return {
        "betas": lambda: figures.betas(betas, highlight=company, level=level, source=source),
        "line of fit": lambda: figures.line_of_fit(fit, level=level, source=source),
        "build-up": lambda: figures.build_up(
            _given(result.cost, "[cost_of_equity]"), company, level=level, source=source
        ),
        "rolling beta": lambda: figures.beta_path(
            _given(result.rolling, "rolling betas"), company,
            whole=float(fit.coefficients[first_factor(result)]), level=level, source=source,
        ),
        "state-space beta": lambda: figures.beta_path(
            result.state_space_beta, company, level=level, source=source
        ),
        "break": lambda: figures.break_path(result.break_found, source=source),
        "predicted against realised": lambda: figures.predicted_against_realised(
            _given(result.two_pass, "[two_pass]"), source=source
        ),
        "peers": lambda: figures.peers(_given(result.peers, "[cost_of_equity.peers]"), source=source),
        "sensitivity": lambda: figures.sensitivity(
            _given(result.sensitivity, "[sensitivity]"), source=source
        ),
        "risk and return": lambda: _risk_and_return(result),
        "growth of one": lambda: figures.growth_of_one(result.returns.select([company])),
    }  # fmt: skip


def _given(part: T | None, section: str) -> T:
    """A part of a result that a figure needs.

    Raises
    ------
    StudyError
        If the study has no such section.
    """
    if part is None:
        raise StudyError(f"A figure of the report needs {section}, which the study does not have.")
    return part


def first_factor(result: StudyResult) -> str:
    """The factor whose beta is shown."""
    return next(str(t) for t in result.betas.coefficients if t != CONSTANT)


def total_returns(panel: Panel) -> SeriesTable:
    """Total returns of the panel's assets."""
    return SeriesTable(panel.assets, tuple(panel.metadata[str(n)] for n in panel.assets))


def _risk_and_return(result: StudyResult) -> Axes:
    from ultrum.core.statistics.risk_return import risk_return

    return figures.risk_against_return(risk_return(total_returns(result.panel), risk_free=result.panel.rate))


def figure_words(name: str, result: StudyResult) -> str:
    """What a figure shows, for those who cannot see it."""
    company = result.company
    if name == "predicted_against_realised" and result.two_pass is not None:
        r2 = f"R² of means {decimals(result.two_pass.r2)}"
        return f"Mean excess return of each company against what its exposures predict; {r2}."
    if name == "peers" and result.peers is not None:
        beta = decimals(result.peers.beta)
        return f"Betas of the peers as measured and without debt, and {beta} for {company}."
    if name == "sensitivity" and result.sensitivity is not None:
        betas = result.sensitivity.table["beta"]
        low, high = betas.min(), betas.max()
        return f"Betas of {company} under every combination of choices, from {decimals(low)} to {decimals(high)}."
    words = {
        "rolling_beta": f"Beta of {company} in moving windows with its band, next to that of the whole sample.",
        "state_space_beta": f"Beta of {company} as a random walk with its band.",
        "break": f"F of a break of the regression of {company} at each date, with its 5 % bound.",
        "risk_and_return": "Mean return of each company against its volatility.",
        "growth_of_one": f"What one unit in {company} has grown to, dividends reinvested.",
    }
    return words.get(name, name.replace("_", " "))
