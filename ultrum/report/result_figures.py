"""The figures a study asks for, each with its own words and alternative text."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any

from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.regression.results import CONSTANT
from ultrum.core.series.time_series import SeriesTable
from ultrum.report import figures
from ultrum.report.result_tables import slug

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def drawn_figures(result: Any) -> Iterator[tuple[str, Axes]]:
    """Each figure asked for, by the name of its file, with the study's own title where it says one."""
    draw = _drawers(result)
    for name in result.study.report.figures:
        ax = draw[name]()
        said = result.study.report.titles.get(name)
        if said:
            _reword(ax, {"title": said} if isinstance(said, str) else said.model_dump())
        yield slug(name), ax


def _reword(ax: Axes, said: dict[str, Any]) -> None:
    """The study's own title, names of the axes and of the lines in place of the figure's."""
    if said.get("title"):
        ax.set_title(said["title"], loc="left", fontweight="bold", fontsize=12.5)
    if said.get("x"):
        ax.set_xlabel(said["x"])
    if said.get("y"):
        ax.set_ylabel(said["y"])
    legend = ax.get_legend()
    for text in legend.get_texts() if legend is not None else []:
        text.set_text(said.get("legend", {}).get(text.get_text(), text.get_text()))


def _drawers(result: Any) -> dict[str, Callable[[], Axes]]:
    level, panel, company = result.study.report.level, result.study.panel, result.company
    source = ", ".join(dict.fromkeys([panel.assets, panel.factors]))
    factor = first_factor(result)
    said = {"level": level, "source": source}
    return {
        "betas": lambda: figures.betas(result.betas, highlight=company, **said),
        "line of fit": lambda: figures.line_of_fit(result.betas.fit(company), **said),
        "build-up": lambda: figures.build_up(result.cost, company, **said),
        "rolling beta": lambda: figures.beta_path(
            result.rolling, company, whole=float(result.betas.coefficients.loc[company, factor]), **said
        ),
        "wandering beta": lambda: figures.beta_path(result.wandering, company, **said),
        "break": lambda: figures.break_path(result.break_found, source=source),
        "predicted against realised": lambda: figures.predicted_against_realised(
            result.two_pass, source=source
        ),
        "peers": lambda: figures.peers(result.peers, source=source),
        "sensitivity": lambda: figures.sensitivity(result.sensitivity, source=source),
        "risk and return": lambda: _risk_and_return(result),
        "growth of one": lambda: figures.growth_of_one(result.returns.select([company])),
    }  # fmt: skip


def first_factor(result: Any) -> str:
    """The factor whose beta is shown."""
    return next(str(t) for t in result.betas.coefficients if t != CONSTANT)


def total_returns(panel: Panel) -> SeriesTable:
    """Total returns of the panel's assets."""
    return SeriesTable(panel.assets, tuple(panel.about[str(n)] for n in panel.assets))


def _risk_and_return(result: Any) -> Axes:
    from ultrum.core.statistics.risk_return import risk_return

    return figures.risk_against_return(
        risk_return(total_returns(result.panel), risk_free=result.panel.rate)
    )


def figure_words(name: str, result: Any) -> str:
    """What a figure shows, for those who cannot see it."""
    company, made = result.company, result.sensitivity
    if name == "predicted_against_realised":
        r2 = f"R² of means {result.two_pass.r2:.2f}"
        return f"Mean excess return of each company against what its exposures predict; {r2}."
    if name == "peers":
        return f"Betas of the peers as measured and without debt, and {result.peers.beta:.2f} for {company}."
    if name == "sensitivity":
        low, high = made.table["beta"].min(), made.table["beta"].max()
        return (
            f"Betas of {company} under every combination of choices, from {low:.2f} to {high:.2f}."
        )
    words = {
        "rolling_beta": f"Beta of {company} in moving windows with its band, beside that of the whole sample.",
        "wandering_beta": f"Beta of {company} as a random walk with its band.",
        "break": f"F of a break of the regression of {company} at each date, with its 5 % bound.",
        "risk_and_return": "Mean return of each company against its volatility.",
        "growth_of_one": f"What one unit in {company} has grown to, dividends reinvested.",
    }
    return words.get(name, name.replace("_", " "))
