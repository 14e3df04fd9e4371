"""The output of ``estimate``: tables of betas, costs, decisions and workings, or JSON."""

from __future__ import annotations

import math
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Final

from ultrum.cli.terminal_output import echo
from ultrum.core.presentation import decimals, p_in_words, percent
from ultrum.errors import name_list

if TYPE_CHECKING:
    import pandas as pd

    from ultrum.core.regression.beta_table import BetaTable
    from ultrum.core.workings import Workings
    from ultrum.study.own_files import FileStudy
    from ultrum.study.run import StudyResult

_ENDS_SHOWN: Final = 8
_MOST_LINES: Final = 40  # assets, above which their distribution is shown
_QUANTILES: Final = {
    "minimum": 0.0,
    "5 %": 0.05,
    "25 %": 0.25,
    "median": 0.5,
    "75 %": 0.75,
    "95 %": 0.95,
    "maximum": 1.0,
}
_SIGNIFICANT: Final = 0.05
_LEVEL: Final = 0.95
_WITH_INTERVALS: Final = 2  # terms up to which a table of assets has room for intervals
_OWN: Final = ("file:", "here:")  # addresses of the user's own files


def print_workings(workings: Workings) -> None:
    """Print the steps of a calculation as a table."""
    from ultrum.cli import terminal_output

    table = workings.to_frame()[["step", "name", "formula", "value"]]
    table["value"] = [f"{value:.10g}" for value in table["value"]]
    terminal_output.table(table, workings.title)
    if workings.note:
        echo(workings.note)


def print_estimate(study: FileStudy, result: StudyResult, saved: Path | None) -> None:
    """Print betas, observations dropped, costs, decisions and warnings."""
    from ultrum.cli import terminal_output

    betas, kind = result.betas, _kind(study, result)
    echo(kind)
    if len(betas.assets) == 1:
        fit = betas.fit(result.company)
        terminal_output.table(terminal_output.align_decimals(fit.to_frame(), "term", p=3, t=2))
        echo(fit.basis)
    else:
        few = len(betas.assets) <= _MOST_LINES
        terminal_output.table(_asset_rows(betas) if few else _spread_of_betas(betas))
        if few and len(betas.coefficients.columns) > _WITH_INTERVALS:
            terminal_output.table(_p_value_rows(betas), "p values")
        echo(_observation_summary(betas))
    unfinished = _unfinished_periods(result)
    if unfinished:
        named = len(unfinished) > 1
        parts = [f"{text}, {name_list(assets)}" if named else text for text, assets in unfinished.items()]
        echo(f"unfinished periods not used: {'; '.join(parts)}")
    if result.rolling is not None:
        terminal_output.table(_rolling_rows(result))
        echo(result.rolling.basis)
    if result.cost is not None:
        terminal_output.table(_cost_rows(result))
    terminal_output.table(decision_rows(study))
    for warning in result.warnings:
        terminal_output.warn(f"{warning.subject}: {warning.text}")
    if saved is not None:
        echo(f"{saved} repeats this: ultrum run {saved}")


def _kind(study: FileStudy, result: StudyResult) -> str:
    """The dependent variables, the regressors, and the rate that returns are in excess of."""
    noun = result.panel.frequency.name.capitalize()
    names = ", ".join(map(str, result.study.model.factors))
    if not result.panel.has_risk_free:
        return f"{noun} total returns on {names}: market model, without a risk-free rate"
    rate = study.study.panel.risk_free
    over = f"{100 * rate:g} % per year" if isinstance(rate, float) else str(result.panel.risk_free.name)
    return f"{noun} returns in excess of {over} on {names}"


def _asset_rows(betas: BetaTable) -> pd.DataFrame:
    """One row per asset: each coefficient with its standard error, beside it or, of several factors, below it."""
    import pandas as pd

    rows = pd.DataFrame({"asset": betas.assets})
    one_factor = len(betas.coefficients.columns) <= _WITH_INTERVALS
    gap = " " if one_factor else "\n"
    for term in betas.coefficients:
        values, errors = betas.coefficients[term], betas.standard_errors[term]
        rows[str(term)] = [
            "—" if math.isnan(v) else f"{decimals(v, 4)}{gap}({decimals(e, 4)})"
            for v, e in zip(values, errors, strict=True)
        ]
        if term != "constant" and one_factor:
            bounds = betas.interval(str(term), _LEVEL)
            rows[f"{term}, 95 %"] = [
                "—" if math.isnan(low) else f"{decimals(low)} to {decimals(high)}"
                for low, high in zip(bounds["low"], bounds["high"], strict=True)
            ]
            rows["p"] = [p_in_words(p) for p in betas.p_values[term]]
    rows["R²"] = [decimals(v, 3) for v in betas.r2]
    rows["rows"] = [int(n) for n in betas.nobs]
    rows["dropped"] = [int(n) for n in betas.observations_dropped]
    return rows


def _p_value_rows(betas: BetaTable) -> pd.DataFrame:
    """The p value of each coefficient, a row for each asset."""
    import pandas as pd

    columns = {str(t): [p_in_words(p) for p in betas.p_values[t]] for t in betas.coefficients}
    return pd.DataFrame({"asset": betas.assets, **columns})


def _spread_of_betas(betas: BetaTable) -> pd.DataFrame:
    """The distribution of each coefficient over many assets, with the assets at the ends."""
    table = _spread(betas.coefficients)
    small = [int((betas.p_values[term] < _SIGNIFICANT).sum()) for term in betas.coefficients]
    counts = betas.coefficients.notna().sum().tolist()
    table.loc[len(table)] = ["p < 5 %", *(f"{s} of {n}" for s, n in zip(small, counts, strict=True))]
    return table


def _spread(numbers: pd.DataFrame) -> pd.DataFrame:
    """Quantiles of each column over many assets, the assets at the ends, and how many have a value."""
    import pandas as pd

    rows: dict[str, dict[str, str]] = {}
    for column in numbers:
        values = numbers[column].dropna()
        ends = (str(values.idxmin()), str(values.idxmax())) if len(values) else ("—", "—")
        rows[str(column)] = {
            **{word: decimals(float(values.quantile(share)), 4) for word, share in _QUANTILES.items()},
            "lowest": ends[0],
            "highest": ends[1],
            "estimated": f"{len(values)} of {len(numbers)}",
        }
    table = pd.DataFrame(rows).rename_axis("over the assets").reset_index()
    return table


def _observation_summary(betas: BetaTable) -> str:
    """Standard errors of the table, and why observations were dropped, over all assets."""
    from ultrum.core.presentation import capitalise
    from ultrum.core.regression.engine.covariance_and_bootstrap import errors_in_words
    from ultrum.core.regression.fit import loss_summary

    counts = {str(cause): int(total) for cause, total in betas.dropped.sum().items()}
    return f"{capitalise(errors_in_words(betas.errors))} in parentheses; {loss_summary(counts)}"


def _unfinished_periods(result: StudyResult) -> dict[str, list[str]]:
    """Periods that the prices cover in part, each with the assets that it is left out for."""
    by_text: dict[str, list[str]] = {}
    for asset in result.betas.assets:
        for step in result.panel.metadata[asset].trail:
            text = dict(step.settings).get("unfinished_left_out")
            if text:
                by_text.setdefault(text, []).append(asset)
    return by_text


def _rolling_rows(result: StudyResult) -> pd.DataFrame:
    """The last rolling windows of one asset, or the last window of each asset."""
    import pandas as pd

    from ultrum.core.time.period_labels_and_relative_dates import period_label

    rolling = result.rolling
    if rolling is None:
        return pd.DataFrame()
    if len(rolling.assets) == 1:
        bounds = rolling.interval(rolling.assets[0])
        beta = rolling.frame("coefficients")[rolling.assets[0]]
        table = pd.DataFrame({"beta": beta, "low": bounds["low"], "high": bounds["high"]})
        table.insert(0, "window end", [period_label(end) for end in table.index])
        shown = table.tail(_ENDS_SHOWN)
    elif len(rolling.assets) > _MOST_LINES:
        last = rolling.frame("coefficients").iloc[[-1]].T
        return _spread(last.set_axis([f"beta, window to {period_label(rolling.ends[-1])}"], axis=1))
    else:
        beta = rolling.frame("coefficients").iloc[-1]
        error = rolling.frame("standard_errors").iloc[-1]
        shown = pd.DataFrame(
            {"asset": rolling.assets, "beta": beta.to_numpy(), "standard error": error.to_numpy()}
        )
        shown.insert(1, "window end", period_label(rolling.ends[-1]))
    for column in shown.select_dtypes("float").columns:
        shown[column] = [decimals(v, 4) for v in shown[column]]
    return shown


def _cost_rows(result: StudyResult) -> pd.DataFrame:
    """Cost of equity of each asset, percent per year."""
    import pandas as pd

    cost = result.cost
    if cost is None:
        return pd.DataFrame()
    bounds = cost.interval(_LEVEL)
    columns = {
        "cost of equity, % per year": cost.value,
        "standard error": cost.standard_error,
        "low": bounds["low"],
        "high": bounds["high"],
    }
    if len(cost.value) > _MOST_LINES:
        return _spread(100.0 * pd.DataFrame({"cost of equity, % per year": cost.value}))
    rows = {name: [percent(v) for v in values] for name, values in columns.items()}
    return pd.DataFrame({"asset": [str(a) for a in cost.value.index], **rows})


def decision_rows(study: FileStudy) -> pd.DataFrame:
    """Decisions about the files, one row per decision."""
    import pandas as pd

    rows = [
        {
            "file": address.partition(":")[2] if address.startswith(_OWN) else address,
            "setting": d.what,
            "value": d.chosen,
            "basis": "" if d.certainty == "sure" else d.certainty,
        }
        for address, d in study.decisions
    ]
    return pd.DataFrame(rows).drop_duplicates()


def workings_answer(workings: Workings) -> dict[str, object]:
    """Steps as plain data."""
    return {"title": workings.title, "steps": workings.to_frame().to_dict("records")}


def print_estimate_json(study: FileStudy, result: StudyResult, steps: Mapping[str, Workings]) -> None:
    """Print the regressions, decisions and warnings as JSON."""
    from ultrum.cli import terminal_output
    from ultrum.core.time.period_labels_and_relative_dates import period_label

    betas = result.betas
    answer: dict[str, object] = {
        "basis": _kind(study, result),
        "assets": [_asset_answer(betas, asset) for asset in betas.assets],
        "decisions": [{"address": address, **vars(d)} for address, d in study.decisions],
        "unfinished": _unfinished_periods(result),
        "warnings": [vars(w) for w in result.warnings],
    }
    if steps:
        answer["workings"] = [workings_answer(one) for one in steps.values()]
    if result.rolling is not None:
        frame = result.rolling.frame("coefficients")
        answer["rolling"] = {
            str(asset): {period_label(end): value for end, value in frame[asset].items()} for asset in frame
        }
    if result.cost is not None:
        bounds = result.cost.interval(_LEVEL)
        answer["costs_of_equity"] = [
            {
                "asset": str(a),
                "cost_of_equity": result.cost.value[a],
                "standard_error": result.cost.standard_error[a],
                "low": bounds.loc[a, "low"],
                "high": bounds.loc[a, "high"],
            }
            for a in result.cost.value.index
        ]
    terminal_output.as_json(answer)


def _asset_answer(betas: BetaTable, asset: str) -> dict[str, object]:
    """The regression of one asset, in decimals."""
    from ultrum.core.time.period_labels_and_relative_dates import period_label

    fit = betas.fit(asset)
    table = fit.to_frame()
    return {
        "asset": asset,
        "terms": [{"term": str(term), **{str(k): v for k, v in row.items()}} for term, row in table.iterrows()],
        "r2": fit.r2,
        "rows": fit.nobs,
        "first": period_label(fit.sample[0]),
        "last": period_label(fit.sample[1]),
        "dropped": dict(fit.dropped),
    }
