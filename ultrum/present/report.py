"""The report page: one self-contained HTML file that a regulator or referee could be handed.

It only arranges what a study gave; every number in it stands in a CSV beside it too.
"""

from __future__ import annotations

import importlib.metadata
import platform
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pandas as pd

from ultrum.core.labels import period_label
from ultrum.core.pricing.cost_result import RISK_FREE
from ultrum.core.regression.results import CONSTANT, BetaTable
from ultrum.present import figures
from ultrum.present.export import to_csv, whole_folder

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_PACKAGES = ("ultrum", "numpy", "scipy", "pandas", "pyarrow", "matplotlib")


def write_results(result: Any, folder: Path) -> dict[str, Path]:
    """Write report, tables and figures of a study; paths by name.

    Parameters
    ----------
    result : StudyResult
    folder : path
        Made or replaced whole; nothing half-written is ever seen.
    """
    drawn = dict(_figures(result))
    with whole_folder(folder) as work:
        (work / "tables").mkdir()
        if "csv" in result.study.report.export:
            for name, table in tables(result).items():
                to_csv(table, work / "tables" / f"{name}.csv")
        (work / "figures").mkdir()
        for name, ax in drawn.items():
            figures.to_png(ax, work / "figures" / f"{name}.png")
        (work / "report.html").write_text(_page(result, drawn), encoding="utf-8")
    return {
        "report": folder / "report.html",
        "tables": folder / "tables",
        "figures": folder / "figures",
    }


def tables(result: Any) -> dict[str, pd.DataFrame]:
    """Every table of a study, by the name of its file."""
    made = {
        f"betas_{_slug(name)}": t.to_frame().rename_axis("asset")
        for name, t in result.models.items()
    }
    cost = result.cost.to_frame().rename_axis("asset")
    if result.real_cost is not None:
        cost["real_cost_of_equity"] = result.real_cost
    return {
        **made,
        "cost_of_equity": cost,
        "build_up": result.cost.parts,
        "checks": result.checks,
        "coverage": result.panel.coverage,
        "ledger": result.panel.ledger,
        "excess_returns": result.panel.excess.to_frame(),
        "factors": result.panel.factors.join(result.panel.risk_free),
        "deliveries": deliveries(result),
        "warnings": pd.DataFrame([vars(w) for w in result.warnings], columns=["subject", "text"]),
    }


def deliveries(result: Any) -> pd.DataFrame:
    """What was taken from the sources: path, time of retrieval, size, checksum."""
    columns = ["source", "path", "retrieved", "size", "checksum"]
    rows = [[getattr(r, c) for c in columns] for r in result.deliveries]
    return pd.DataFrame(rows, columns=columns)


def _figures(result: Any) -> Iterator[tuple[str, Axes]]:
    """The figures a study asks for, by name."""
    wanted, level = result.study.report.figures, result.study.report.level
    panel = result.study.panel
    source = ", ".join(dict.fromkeys([panel.assets, panel.factors]))
    company, said = result.company, {"level": level, "source": source}
    draw: dict[str, Callable[[], Axes]] = {
        "betas": lambda: figures.betas(result.betas, highlight=company, **said),
        "line of fit": lambda: figures.line_of_fit(result.betas.fit(company), **said),
        "build-up": lambda: figures.build_up(result.cost, company, **said),
    }
    for name in wanted:
        yield _slug(name), draw[name]()


def _page(result: Any, drawn: dict[str, Axes]) -> str:
    import jinja2

    loader = jinja2.FileSystemLoader(Path(__file__).parent)
    environment = jinja2.Environment(
        loader=loader, autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters.update(percent=_percent, number=_number, period=period_label, p=_p_value)
    return environment.get_template("report.html.j2").render(
        result=result,
        answer=_answer(result),
        build_up=_build_up_rows(result),
        models=[_model_rows(name, table, result) for name, table in result.models.items()],
        coverage=_coverage_rows(result),
        deliveries=deliveries(result).to_dict("records"),
        figures={name: figures.to_svg(ax) for name, ax in drawn.items()},
        css=(Path(__file__).parent / "report.css").read_text(encoding="utf-8"),
        versions=_versions(),
    )


def _answer(result: Any) -> dict[str, Any]:
    level, company = result.study.report.level, result.company
    bounds = result.cost.interval(level).loc[company]
    fit = result.betas.fit(company)
    real = result.real_cost
    return {
        "value": result.cost.value[company],
        "low": bounds["low"],
        "high": bounds["high"],
        "level": level,
        "real": None if real is None else real[company],
        "inflation": result.inflation,
        "alpha": fit.coefficients[CONSTANT],
        "alpha_p": fit.p_values[CONSTANT],
        "fit": fit,
        "premium_share": _premium_share(result, company),
        "own_warnings": [w for w in result.warnings if w.subject == company],
    }


def _premium_share(result: Any, company: str) -> float:
    """Share of the variance that the premia bring, of what premia and betas bring."""
    parts = result.cost.parts.loc[company].drop(index=RISK_FREE)
    premia = ((parts["beta"] * parts["premium_error"]) ** 2).sum()
    betas = ((parts["premium"] * parts["beta_error"]) ** 2).sum()
    return float(premia / (premia + betas)) if premia + betas else 0.0


def _build_up_rows(result: Any) -> list[dict[str, Any]]:
    parts = result.cost.parts.loc[result.company]
    return [{"part": name, **row} for name, row in parts.iterrows()]


def _model_rows(name: str, table: BetaTable, result: Any) -> dict[str, Any]:
    """One model's regression table, ready to print."""
    factors = [t for t in table.coefficients if t != CONSTANT]
    rows = [_asset_row(table, asset, factors, result) for asset in table.assets]
    return {
        "name": name,
        "factors": factors,
        "errors": table.errors,
        "rows": rows,
        "lags": _range_of(table.lags),
    }


def _asset_row(table: BetaTable, asset: str, factors: list[Any], result: Any) -> dict[str, Any]:
    errors, level = table.standard_errors.loc[asset], result.study.report.level
    return {
        "asset": asset,
        "name": result.names.get(asset, ""),
        "chosen": asset == result.company,
        "flag": any(w.subject == asset for w in result.warnings),
        "alpha": table.coefficients.loc[asset, CONSTANT],
        "alpha_error": errors[CONSTANT],
        "alpha_p": table.p_values.loc[asset, CONSTANT],
        "betas": [
            (table.coefficients.loc[asset, f], errors[f], table.interval(f, level).loc[asset])
            for f in factors
        ],
        "r2": table.r2[asset],
        "rows": table.nobs[asset],
        "lost": int(table.lost.sum(axis=1)[asset]),
        "first": period_label(table.first[asset]),
        "last": period_label(table.last[asset]),
        "cost": result.cost.value[asset],
    }


def _coverage_rows(result: Any) -> list[dict[str, Any]]:
    """Coverage of each series with its lost rows by cause."""
    causes = result.panel.ledger.groupby(["series", "cause"], sort=False).size()
    rows = []
    for name, row in result.panel.coverage.iterrows():
        own = causes[name] if name in causes.index.get_level_values(0) else {}
        lost = ", ".join(f"{count} {cause}" for cause, count in own.items())
        rows.append({"series": name, "lost": lost or "none", **row.to_dict()})
    return rows


def _range_of(lags: pd.Series) -> str:
    known = sorted({int(v) for v in lags.dropna()})
    return f"{known[0]} to {known[-1]}" if len(known) > 1 else "".join(map(str, known))


def _versions() -> list[tuple[str, str]]:
    found = [("Python", platform.python_version())]
    return found + [(name, importlib.metadata.version(name)) for name in _PACKAGES]


def _percent(value: float, digits: int = 2) -> str:
    return "—" if pd.isna(value) else f"{100 * value:.{digits}f}".replace("-", "−")


def _number(value: float, digits: int = 2) -> str:
    return "—" if pd.isna(value) else f"{value:.{digits}f}".replace("-", "−")


def _p_value(value: float) -> str:
    return "—" if pd.isna(value) else "< 0.001" if value < 0.001 else f"{value:.3f}"


def _slug(name: str) -> str:
    return "".join(c if c.isalnum() else "_" for c in name.lower()).strip("_")
