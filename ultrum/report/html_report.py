"""The HTML report: one self-contained page.

It only arranges the results of a study; every number in it is also in a CSV file.
"""

from __future__ import annotations

import contextlib
import importlib.metadata
import importlib.util
import platform
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import cast

import pandas as pd

from ultrum.core.presentation import capitalise, p_in_words
from ultrum.core.pricing.alpha_and_multiple_tests import adjust_p_values
from ultrum.core.pricing.cost_of_equity_result import CostOfEquity
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import errors_in_words
from ultrum.core.regression.inference import detectable_multiple
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.core.workings import Workings
from ultrum.errors import EstimationError, name_list, warn_user
from ultrum.report.model_tables import model_table
from ultrum.report.result_tables_and_figures import (
    company_fits,
    downloads,
    figure_words,
    first_factor,
    joint_alphas,
)
from ultrum.study.provenance import answer_of, run_facts, trail_of
from ultrum.study.result_checks import search_in_words
from ultrum.study.run import StudyResult

_LISTED = 6  # companies, and causes, that a sentence names
_MANY, _LEVEL = 3, 0.05  # fewest companies for a sentence about many tests; of each test
_IN_PLACE = ("betas", "line_of_fit", "components")  # figures that are next to their own tables
_PACKAGES = ("ultrum", "numpy", "scipy", "pandas", "pyarrow", "matplotlib")


def page(result: StudyResult, drawn: Mapping[str, str], explored: Mapping[str, str] | None) -> str:
    """The report page as text; ``drawn`` are the figures by name, as SVG, ``explored`` is the interactive
    chart.
    """
    import jinja2

    loader = jinja2.FileSystemLoader(Path(__file__).parent)
    environment = jinja2.Environment(loader=loader, autoescape=True, trim_blocks=True, lstrip_blocks=True)
    environment.filters.update(
        percent=_percent,
        number=_number,
        period=period_label,
        p=lambda value: p_in_words(value) or "—",
        headed=capitalise,
    )
    facts = run_facts(result)
    return environment.get_template("report.html.j2").render(
        result=result,
        answer=_answer(result),
        components=_component_rows(result),
        models=[_model_rows(name, table, result) for name, table in result.models.items()],
        coverage=_coverage_rows(result),
        downloads=downloads(result).to_dict("records"),
        figures=drawn,
        css=(Path(__file__).parent / "report.css").read_text(encoding="utf-8"),
        versions=_versions(explored),
        explorer=explored,
        add_ons=list(result.study.cost_of_equity.add_ons) if result.study.cost_of_equity else [],
        rate_words=_rate_words(result),
        method=_method(result),
        side_by_side=_side_by_side(result),
        joint_alphas=joint_alphas(result).reset_index().to_dict("records") if result.joint_alpha else [],
        two_pass=_two_pass(result),
        two_pass_identified="" if result.two_pass is None else result.two_pass.identification_in_words(),
        all_workings=_workings(result),
        own_choice=_base_case_note(result),
        search=search_in_words(result.specifications, result.company),
        more_figures={n: figure_words(n, result) for n in drawn if n not in _IN_PLACE},
        trail=repr(trail_of(facts, answer_of(facts))),
    )


def wants_lines(result: StudyResult) -> bool:
    """Whether the page has an interactive chart: the study requests it and bokeh is installed."""
    if not result.study.report.interactive:
        return False
    if importlib.util.find_spec("bokeh") is None:
        warn_user(
            "interactive = true needs bokeh, so the page has no interactive chart. Install it: pip install "
            "bokeh, or remove interactive = true."
        )
        return False
    return True


def _rate_words(result: StudyResult) -> str:
    if result.study.cost_of_equity is None:
        return ""
    source = result.study.cost_of_equity.risk_free
    if source is None and isinstance(result.study.panel.risk_free, float | int):
        source = result.study.panel.risk_free
    if isinstance(source, float | int):
        return f"{_percent(source)} %, set in the study"
    day = result.study.cost_of_equity.on or "the end of the sample"
    return f"the last of {source or result.study.panel.risk_free} up to {day}, as an annual rate"


def _method(result: StudyResult) -> str:
    """Methods of this study, in sentences."""
    asked, noun = result.study.panel, result.panel.frequency.noun
    paid = "dividends reinvested at the close of the ex-date" if asked.dividends else ""
    undone = "splits undone" if asked.splits else ""
    kind = "Total returns" if paid else "Price returns, which exclude dividends,"
    lines = [", ".join(part for part in (f"{kind} from prices as quoted", paid, undone) if part)]
    if not result.panel.frequency.is_dated:
        lines[0] += f"; a price more than five weekdays old at the end of a {noun} counts as missing"
    lines.append("Excess returns are simple returns less the risk-free return of the same period")
    lines.append("Ordinary least squares, each company on its own observations")
    if result.betas.unadjusted is not None:
        lines.append(
            "The betas of the cost of equity are Vasicek-adjusted (1973): shrunk to the mean of the other "
            "companies"
        )
    if result.peers is not None:
        lines.append("The peer beta is reported with the cost of equity and is not used in it")
    if result.cost is not None:
        lines.append(
            "The variance of the cost of equity combines those of the betas and of the premia, "
            "β'V(λ)β + λ'V(β)λ + tr V(β)V(λ) (Aroian 1947); the interval has the quantiles of the distribution "
            f"of their product. {_parts_without_error(result.cost)}"
        )
    return ". ".join(lines) + "."


def _parts_without_error(cost: CostOfEquity) -> str:
    """What is taken as known, in a sentence."""
    known = [*cost.taken_as_known, "additional premia"]
    return (
        f"{capitalise(' and '.join([', '.join(known[:-1])] * bool(known[:-1]) + known[-1:]))} are taken as known"
    )


def _side_by_side(result: StudyResult) -> str:
    """The company's regressions by every model, as in a paper."""
    fits = company_fits(result)
    if len(fits) < 2:
        return ""
    adjusted = any(t.unadjusted is not None for t in result.models.values())
    remark = " Betas as estimated, before any adjustment." if adjusted else ""
    kind = "Excess" if result.panel.has_risk_free else "Total"
    title = f"{kind} returns of {result.company} by every model.{remark}"
    return model_table(fits, title=title).to_html()


def _base_case_note(result: StudyResult) -> str:
    """Why the beta of the base case is not that of the page, where they differ."""
    if result.sensitivity is None:
        return ""
    page = float(result.betas.fit(result.company).coefficients[first_factor(result)])
    if f"{page:.2f}" == f"{float(result.sensitivity.base_case['beta']):.2f}":
        return ""
    return (
        f"The beta of this page is {page:.2f}: it is estimated on the whole sample of the study with the factors "
        "of its model; the base case regresses the returns of its window on its market alone."
    )


def _workings(result: StudyResult) -> list[Workings]:
    """Step-by-step calculations of the company's regression and of its cost of equity."""
    shown = []
    with contextlib.suppress(EstimationError):  # a regression whose steps lose too many digits
        shown.append(result.betas.fit(result.company).workings())
    if result.cost is not None:
        shown.append(result.cost.workings(result.company))
    return shown


def _two_pass(result: StudyResult) -> str:
    return "" if result.two_pass is None else model_table({"premia": result.two_pass}).to_html()


def _answer(result: StudyResult) -> dict[str, object]:
    level, company = result.study.report.level, result.company
    fit = result.betas.fit(company)
    factor = first_factor(result)
    if result.cost is None:
        value, bounds = fit.coefficients[factor], fit.interval(level).loc[factor]
    else:
        value, bounds = result.cost.value[company], result.cost.interval(level).loc[company]
    real = result.real_cost
    return {
        "value": value,
        "factor": factor,
        "low": bounds["low"],
        "high": bounds["high"],
        "level": level,
        "real": None if real is None else real[company],
        "inflation": result.inflation,
        "alpha": fit.coefficients[CONSTANT],
        "alpha_p": fit.p_values[CONSTANT],
        "fit": fit,
        "premium_share": None if result.cost is None else result.cost.shares.loc[company, "premium"],
        "own_warnings": [w for w in result.warnings if w.subject == company],
    }


def _component_rows(result: StudyResult) -> list[dict[str, object]]:
    if result.cost is None:
        return []
    parts = result.cost.parts.loc[result.company]
    return [{"part": name, **row} for name, row in parts.iterrows()]


def _model_rows(name: str, table: BetaTable, result: StudyResult) -> dict[str, object]:
    """One model's regression table, formatted."""
    factors = [str(t) for t in table.coefficients if t != CONSTANT]
    columns = _Columns.of(table, factors, result)
    rows = [_asset_row(columns, asset, result) for asset in table.assets]
    return {
        "name": name,
        "factors": factors,
        "errors": errors_in_words(table.errors),
        "adjusted": table.unadjusted is not None,
        "priced": table is result.betas and result.cost is not None,
        "rows": rows,
        "lags": _range_of(table.lags),
        "many": _alphas_in_words(columns),
        "dropped": _losses_in_words(columns.dropped),
    }


def _losses_in_words(dropped: pd.DataFrame) -> str:
    """Observations dropped by company and cause, with equal companies together; empty if there are none.

    Examples
    --------
    >>> dropped = pd.DataFrame({"missing size": [2, 2, 0, 0], "missing value": [0, 0, 0, 1]}, list("ABCD"))
    >>> _losses_in_words(dropped)
    'Dropped: 2 missing size (A, B); 1 missing value (D).'
    >>> _losses_in_words(pd.DataFrame({"missing size": range(1, 9)}, list("ABCDEFGH"))).partition("(F)")[2]
    '; other causes (2 more).'
    """
    companies: dict[str, list[str]] = {}
    for asset, counts in dropped.iterrows():
        causes = ", ".join(f"{count:.0f} {cause}" for cause, count in counts.items() if count)
        companies.setdefault(causes, []).append(str(asset))
    lost = {causes: names for causes, names in companies.items() if causes}
    if not lost:
        return ""
    often = sorted(lost.items(), key=lambda item: -len(item[1]))
    among = [
        f"{causes} ({', '.join(names) if len(names) <= _LISTED else f'{len(names)} companies'})"
        for causes, names in often[:_LISTED]
    ]
    others = sum(len(names) for _, names in often[_LISTED:])
    more = [f"other causes ({others} more)"] if others else []
    return f"Dropped: {'; '.join([*among, *more])}."


def _alphas_in_words(columns: _Columns) -> str:
    """Number of significant alphas, individually and adjusted for multiple testing, and the minimum detectable
    alpha.
    """
    alone, among = columns.p_values[CONSTANT].dropna(), columns.holm.dropna()
    if len(alone) < _MANY:
        return ""
    few = float(columns.errors[CONSTANT].median()) * detectable_multiple(float(columns.table.df.median()))
    stand_out = list(map(str, among.index[among < _LEVEL]))
    left = f"{len(stand_out)} ({name_list(stand_out)})" if stand_out else "none"
    return (
        f"Alphas with p below 5 %: {int((alone < _LEVEL).sum())} of {len(alone)}, where about "
        f"{_LEVEL * len(alone):.1f} are expected by chance; adjusted for their number (Holm 1979): {left}. The "
        f"median company would have a minimum detectable alpha of {_percent(few)} % per period (80 % power)."
    )


@dataclass(frozen=True)
class _Columns:
    """Data of the rows of a model's table, computed once."""

    table: BetaTable
    factors: list[str]
    errors: pd.DataFrame
    p_values: pd.DataFrame
    intervals: dict[object, pd.DataFrame]
    first: pd.Series
    last: pd.Series
    dropped: pd.DataFrame
    warned: set[str]
    holm: pd.Series

    @classmethod
    def of(cls, table: BetaTable, factors: list[str], result: StudyResult) -> _Columns:
        """Of one model."""
        level = result.study.report.level
        return cls(
            table,
            factors,
            table.standard_errors,
            table.p_values,
            {f: table.interval(f, level) for f in factors},
            table.first,
            table.last,
            table.dropped,
            {w.subject for w in result.warnings},
            adjust_p_values(table.p_values[CONSTANT])["p_adjusted"].reindex(table.assets),
        )


def _asset_row(columns: _Columns, asset: str, result: StudyResult) -> dict[str, object]:
    table = columns.table
    coefficients, errors = table.coefficients.loc[asset], columns.errors.loc[asset]
    return {
        "asset": asset,
        "name": result.names.get(asset, ""),
        "chosen": asset == result.company,
        "flag": asset in columns.warned,
        "alpha": coefficients[CONSTANT],
        "alpha_error": errors[CONSTANT],
        "alpha_p": columns.p_values.loc[asset, CONSTANT],
        "alpha_holm": columns.holm[asset],
        "betas": [(coefficients[f], errors[f], columns.intervals[f].loc[asset]) for f in columns.factors],
        "r2": table.r2[asset],
        "rows": table.nobs[asset],
        "dropped": f"{columns.dropped.loc[asset].sum():.0f}",
        "first": period_label(columns.first[asset]),
        "last": period_label(columns.last[asset]),
        "cost": result.cost.value[asset] if result.cost and table is result.betas else None,
    }


def _coverage_rows(result: StudyResult) -> list[dict[str, object]]:
    """Coverage of each series with its missing values by cause."""
    causes = result.panel.missing_log.groupby(["series", "cause"], sort=False, observed=True).size()
    missing: dict[str, list[str]] = {}
    for place, count in causes.items():
        name, cause = cast(tuple[str, str], place)
        missing.setdefault(name, []).append(f"{count} {cause}")
    rows = result.panel.coverage.rename_axis("series").reset_index().to_dict("records")
    return [
        {**{str(k): v for k, v in row.items()}, "missing": ", ".join(missing.get(row["series"], ["none"]))}
        for row in rows
    ]


def _range_of(lags: pd.Series) -> str:
    lag_values = sorted({int(v) for v in lags.dropna()})
    return f"{lag_values[0]} to {lag_values[-1]}" if len(lag_values) > 1 else "".join(map(str, lag_values))


def _versions(explored: Mapping[str, str] | None) -> list[tuple[str, str]]:
    versions = [("Python", platform.python_version())]
    versions += [(name, importlib.metadata.version(name)) for name in _PACKAGES]
    return versions + ([("bokeh", explored["version"])] if explored else [])


def _percent(value: float, digits: int = 2) -> str:
    return _number(100 * value, digits)


def _number(value: float, digits: int = 2) -> str:
    """Fixed digits with a typographic minus; what rounds to zero has no sign."""
    return "—" if pd.isna(value) else f"{value:z.{digits}f}".replace("-", "−")
