"""The tables and figures of a study, with file names, captions and alternative text."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from importlib.metadata import version
from typing import TYPE_CHECKING, Final, TypeVar

import pandas as pd

from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import decimals
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.series.time_series import SeriesTable
from ultrum.errors import StudyError
from ultrum.report import figures
from ultrum.study.pricing_stages import Comparisons
from ultrum.study.run import StudyResult
from ultrum.study.sections import Figure, FigureWords
from ultrum.study.stages import code_of_parts, digest

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def tables(result: StudyResult) -> dict[str, pd.DataFrame]:
    """Tables of a study's results and of its inputs."""
    files = files_of("betas", result.models)
    beta_tables = {files[name]: t.to_frame().rename_axis("asset") for name, t in result.models.items()}
    return {
        **beta_tables,
        **_cost_tables(result),
        **_optional_tables(result),
        "checks": result.checks,
        "coverage": result.panel.coverage,
        "missing_log": result.panel.missing_log,
        "excess_returns": result.panel.excess.to_frame(),
        "factors": result.panel.factors.join(result.panel.risk_free),
        **({"conditions": result.panel.conditions} if result.panel.conditions.shape[1] else {}),
        "downloads": downloads(result),
        "stages": stages(result),
        "warnings": pd.DataFrame([vars(w) for w in result.warnings], columns=["subject", "text"]),
    }


def _cost_tables(result: StudyResult) -> dict[str, pd.DataFrame]:
    """The cost of equity, its components and its variance decomposition, if the study has one."""
    section = result.study.cost_of_equity
    if result.cost is None or section is None:
        return {}
    cost = result.cost.to_frame().rename_axis("asset")
    if result.real_cost is not None:
        cost["real_cost_of_equity"] = result.real_cost
    if result.abroad is not None and section.in_currency is not None:
        cost[f"cost_in_{section.in_currency.code}"] = result.abroad.value
    shares = result.cost.shares.rename_axis("asset")
    return {"cost_of_equity": cost, "components": result.cost.parts, "variance_shares": shares}


def _optional_tables(result: StudyResult) -> dict[str, pd.DataFrame]:
    """Tables of the optional parts of a study."""
    requested: dict[str, pd.DataFrame] = {}
    if result.joint_alpha:
        requested["joint_alpha"] = joint_alphas(result)
    if result.diagnosis is not None:
        requested["diagnosis"] = result.diagnosis.to_frame()
    if result.rolling is not None:
        requested["rolling_betas"] = result.rolling.frame().rename_axis("end")
    if result.two_pass is not None:
        requested["two_pass"] = result.two_pass.to_frame().rename_axis("exposure")
        requested["pricing_errors"] = result.two_pass.pricing.rename_axis("asset")
    if result.peers is not None:
        requested["peers"] = result.peers.to_frame().rename_axis("asset")
    if result.sensitivity is not None:
        requested["sensitivity"] = result.sensitivity.to_frame()
    for name, file in files_of("portfolios", result.sorts).items():
        made = result.sorts[name]
        requested[file] = made.portfolios.join(made.estimates.drop(columns="mean", errors="ignore"), how="outer")
    return {**requested, **_comparison_tables(result.comparisons)}


def _comparison_tables(made: Comparisons) -> dict[str, pd.DataFrame]:
    """Tables of the sections that compare."""
    tables: dict[str, pd.DataFrame] = {}
    if made.models is not None:
        tables |= {"model_comparison": made.models.models, "model_pairs": made.models.pairs}
    if made.betas is not None:
        tables["beta_forecasts"] = made.betas.table
    if made.hierarchical is not None:
        tables["hierarchical_costs"] = made.hierarchical.companies.rename_axis("asset")
        tables["hierarchical_industries"] = made.hierarchical.industries
    if made.implied is not None:
        tables["implied_costs"] = made.implied.to_frame()
    if made.costs is not None:
        tables |= {"costs_side_by_side": made.costs.table, "cost_differences": made.costs.differences}
    return tables


def company_fits(result: StudyResult) -> dict[str, Fit]:
    """The company's regressions by model; those of adjusted betas only if no other model has their factors."""
    plain = [tuple(t.coefficients) for t in result.models.values() if t.unadjusted is None]
    return {
        name: table.fit(result.company)
        for name, table in result.models.items()
        if result.company in table.assets and (table.unadjusted is None or tuple(table.coefficients) not in plain)
    }


def joint_alphas(result: StudyResult) -> pd.DataFrame:
    """Joint tests of alphas: one row per model and kind."""
    rows = {
        name: {
            "statistic": t.statistic,
            "df": f"{t.df[0]}, {t.df[1]}",
            "p": t.p_value,
            "rows": t.rows,
            "basis": t.basis,
        }
        for name, t in result.joint_alpha.items()
    }
    return pd.DataFrame.from_dict(rows, orient="index").rename_axis("test")


def downloads(result: StudyResult) -> pd.DataFrame:
    """Downloads used: path, time of retrieval, size, checksum."""
    columns = ["source", "path", "retrieved", "size", "checksum"]
    rows = [[getattr(r, c) for c in columns] for r in result.downloads]
    return pd.DataFrame(rows, columns=columns)


def stages(result: StudyResult) -> pd.DataFrame:
    """Stages, and the inputs of each."""
    rows = [
        {
            "stage": s.name,
            "needs": "; ".join(s.needs),
            "gives": s.state,
            "takes": "; ".join(f"{r.source}:{r.path}" for r in s.downloads),
        }
        for s in result.stages.values()
    ]
    return pd.DataFrame(rows, columns=["stage", "needs", "gives", "takes"])


def slug(name: str) -> str:
    """A name that is safe for files on every system."""
    return "".join(c if c.isalnum() else "_" for c in name.lower()).strip("_")[:60] or "table"


def files_of(stem: str, names: Iterable[str]) -> dict[str, str]:
    """A unique file name for each name; equal ones are numbered."""
    files: dict[str, str] = {}
    taken: set[str] = set()
    for name in names:
        plain = file = f"{stem}_{slug(name)}"
        number = 1
        while file in taken:
            number += 1
            file = f"{plain}_{number}"
        taken.add(file)
        files[name] = file
    return files


# The figures of a study, with their captions and alternative text

T = TypeVar("T")


_STAGES: Final[Mapping[str, tuple[str, ...]]] = {
    "betas": ("model",),
    "line of fit": ("model",),
    "components": ("cost of equity",),
    "rolling beta": ("model", "rolling betas"),
    "state-space beta": ("model", "panel"),
    "break": ("model",),
    "predicted against realised": ("two-pass",),
    "peers": ("peers",),
    "sensitivity": ("sensitivity", "beta forecasts"),
    "risk and return": ("panel",),
    "growth of one": ("returns",),
    "model comparison": ("model comparison",),
    "beta forecasts": ("beta forecasts",),
    "costs side by side": ("cost of equity", "hierarchical costs", "implied costs", "model comparison"),
}


def figure_names(result: StudyResult) -> list[Figure]:
    """Names of the requested figures that the result can give."""
    # the components are among the figures drawn by default
    return [n for n in result.study.report.figures if n != "components" or result.cost is not None]


def drawn_figure(result: StudyResult, name: Figure) -> Axes:
    """A figure, with the study's own title if it has one."""
    ax = _drawers(result)[name]()
    titles = result.study.report.titles.get(name)
    if titles:
        _reword(ax, FigureWords(title=titles) if isinstance(titles, str) else titles)
    return ax


def figure_key(result: StudyResult, name: Figure) -> str:
    """Dependencies of a figure: its settings, the results of its stages and the program's code."""
    report, states = result.study.report, {n: s.state for n, s in result.stages.items()}
    model = f"model: {result.study.model.name}"
    needs = [model if stage == "model" else stage for stage in _STAGES[name]]
    titles = report.model_dump(mode="json")["titles"].get(name)
    panel = [result.study.price_addresses, result.study.panel.factors, result.company]
    return digest(
        [
            "figure",
            code_of_parts("report", "core"),
            version("matplotlib"),
            name,
            report.level,
            titles,
            panel,
            sorted(report.export),
            [states.get(n) for n in needs],
        ]
    )


def _reword(ax: Axes, words: FigureWords) -> None:
    """Texts of the study that replace those of the figure: title, axis labels, names of lines."""
    if words.title:
        ax.set_title(words.title, loc="left", fontweight="bold", fontsize=12.5)
    if words.x:
        ax.set_xlabel(words.x)
    if words.y:
        ax.set_ylabel(words.y)
    legend = ax.get_legend()
    for text in legend.get_texts() if legend is not None else []:
        text.set_text(words.legend.get(text.get_text(), text.get_text()))


def _drawers(result: StudyResult) -> dict[str, Callable[[], Axes]]:
    level, panel, company = result.study.report.level, result.study.panel, result.company
    source = ", ".join(dict.fromkeys([*result.study.price_addresses, panel.factors]))
    betas, fit = result.betas, result.betas.fit(company)
    return {
        "betas": lambda: figures.betas(betas, highlight=company, level=level, source=source),
        "line of fit": lambda: figures.line_of_fit(fit, level=level, source=source),
        "components": lambda: figures.cost_components(
            _require(result.cost, "[cost_of_equity]"), company, level=level, source=source
        ),
        "rolling beta": lambda: figures.beta_path(
            _require(result.rolling, "rolling betas"),
            company,
            whole=float(fit.coefficients[first_factor(result)]),
            level=level,
            source=source,
        ),
        "state-space beta": lambda: figures.beta_path(
            result.state_space_beta, company, level=level, source=source
        ),
        "break": lambda: figures.break_path(result.company_break, source=source),
        "predicted against realised": lambda: figures.predicted_against_realised(
            _require(result.two_pass, "[two_pass]"), source=source
        ),
        "peers": lambda: figures.peers(_require(result.peers, "[cost_of_equity.peers]"), source=source),
        "sensitivity": lambda: figures.sensitivity(
            _require(result.sensitivity, "[sensitivity]"), forecasts=result.comparisons.betas, source=source
        ),
        "model comparison": lambda: figures.squared_sharpe_ratios(
            _require(result.comparisons.models, "[model_comparison]"), level=level, source=panel.factors
        ),
        "beta forecasts": lambda: figures.beta_forecast_errors(
            _require(result.comparisons.betas, "[beta_forecasts]"), source=source
        ),
        "costs side by side": lambda: figures.costs_side_by_side(
            _require(result.comparisons.costs, "[cost_of_equity.hierarchical] or [implied_cost]"), source=source
        ),
        "risk and return": lambda: _risk_and_return(result),
        "growth of one": lambda: figures.growth_of_one(result.returns.select([company])),
    }


def _require(part: T | None, section: str) -> T:
    """A part of a result that a figure needs.

    Raises
    ------
    StudyError
        If the study has no such section.
    """
    if part is None:
        raise StudyError(f"A figure of the report needs {section}. Add the section, or remove the figure.")
    return part


def first_factor(result: StudyResult) -> str:
    """The factor whose beta is shown."""
    return next(str(t) for t in result.betas.coefficients if t != CONSTANT)


def total_returns(panel: Panel) -> SeriesTable:
    """Total returns of the panel's assets."""
    return SeriesTable(panel.assets, tuple(panel.metadata[str(n)] for n in panel.assets))


def _risk_and_return(result: StudyResult) -> Axes:
    from ultrum.core.statistics.risk_return_and_drawdowns import risk_return

    return figures.risk_against_return(risk_return(total_returns(result.panel), risk_free=result.panel.rate))


def figure_words(name: str, result: StudyResult) -> str:
    """Alternative text of a figure."""
    company = result.company
    if name == "predicted_against_realised" and result.two_pass is not None:
        r2 = f"cross-sectional R² {decimals(result.two_pass.r2)}"
        return f"Realised against predicted mean excess return of each company; {r2}."
    if name == "peers" and result.peers is not None:
        beta = decimals(result.peers.beta)
        return f"Levered and unlevered betas of the peers, and {beta} for {company}."
    if name == "sensitivity" and result.sensitivity is not None:
        betas = result.sensitivity.table["beta"]
        low, high = betas.min(), betas.max()
        return f"Betas of {company} under every combination of choices, from {decimals(low)} to {decimals(high)}."
    costs = result.comparisons.costs
    if name == "costs_side_by_side" and costs is not None:
        return f"Cost of equity of {company} by {len(costs.table)} methods. {' '.join(costs.in_words())}"
    words = {
        "model_comparison": "Squared Sharpe ratio of each model with its interval.",
        "beta_forecasts": f"Forecast error of each way to estimate beta. {result.comparisons.best_forecast()}",
        "rolling_beta": f"Beta of {company} in rolling windows with its band, next to that of the whole sample.",
        "state_space_beta": f"Beta of {company} as a random walk with its band.",
        "break": f"F statistic of a break in the regression of {company} by date, with its 5 % critical value.",
        "risk_and_return": "Mean return of each company against its volatility.",
        "growth_of_one": f"Cumulative wealth of 1 invested in {company}, dividends reinvested.",
    }
    return words.get(name, name.replace("_", " "))
