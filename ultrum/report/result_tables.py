"""The tables of a study, by file name."""

from __future__ import annotations

from collections.abc import Iterable

import pandas as pd

from ultrum.core.regression.fit import Fit
from ultrum.study.study_result import StudyResult


def tables(result: StudyResult) -> dict[str, pd.DataFrame]:
    """Tables of a study's result, those it asks for and those on its inputs."""
    files = files_of("betas", result.models)
    beta_tables = {files[name]: t.to_frame().rename_axis("asset") for name, t in result.models.items()}
    return {
        **beta_tables,
        **_cost_tables(result),
        **_asked_for(result),
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
    """The cost of equity, its build-up and the shares of its variance, where the study asks for one."""
    section = result.study.cost_of_equity
    if result.cost is None or section is None:
        return {}
    cost = result.cost.to_frame().rename_axis("asset")
    if result.real_cost is not None:
        cost["real_cost_of_equity"] = result.real_cost
    if result.abroad is not None and section.in_currency is not None:
        cost[f"cost_in_{section.in_currency.code}"] = result.abroad.value
    shares = result.cost.shares.rename_axis("asset")
    return {"cost_of_equity": cost, "build_up": result.cost.parts, "variance_shares": shares}


def _asked_for(result: StudyResult) -> dict[str, pd.DataFrame]:
    """Tables of what the study asks for in addition to its regressions."""
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
    return requested


def company_fits(result: StudyResult) -> dict[str, Fit]:
    """The company's regressions by model; those of adjusted betas only where no other model has their factors."""
    plain = [tuple(t.coefficients) for t in result.models.values() if t.unadjusted is None]
    return {
        name: table.fit(result.company)
        for name, table in result.models.items()
        if result.company in table.assets and (table.unadjusted is None or tuple(table.coefficients) not in plain)
    }


def joint_alphas(result: StudyResult) -> pd.DataFrame:
    """Joint tests of alphas: one row a model and kind."""
    rows = {
        name: {"statistic": t.statistic, "df": f"{t.df[0]}, {t.df[1]}", "p": t.p_value, "rows": t.rows,
               "basis": t.basis}
        for name, t in result.joint_alpha.items()
    }  # fmt: skip
    return pd.DataFrame.from_dict(rows, orient="index").rename_axis("test")


def downloads(result: StudyResult) -> pd.DataFrame:
    """What was taken from the sources: path, time of retrieval, size, checksum."""
    columns = ["source", "path", "retrieved", "size", "checksum"]
    rows = [[getattr(r, c) for c in columns] for r in result.downloads]
    return pd.DataFrame(rows, columns=columns)


def stages(result: StudyResult) -> pd.DataFrame:
    """What was done, and what each stage rests on."""
    rows = [
        {"stage": s.name, "needs": "; ".join(s.needs), "gives": s.state,
         "takes": "; ".join(f"{r.source}:{r.path}" for r in s.downloads)}
        for s in result.stages.values()
    ]  # fmt: skip
    return pd.DataFrame(rows, columns=["stage", "needs", "gives", "takes"])


def slug(name: str) -> str:
    """A name that is safe in a file on every system."""
    return "".join(c if c.isalnum() else "_" for c in name.lower()).strip("_")[:60] or "table"


def files_of(stem: str, names: Iterable[str]) -> dict[str, str]:
    """A file name for each name, none twice: those alike are numbered."""
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
