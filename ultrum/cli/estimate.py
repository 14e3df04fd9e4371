"""The ``estimate`` command: betas from files of prices and factors."""

from __future__ import annotations

import math
import os
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import click

from ultrum.cli.local_files import READ, LocalFiles, local_files, refuse_inputs, vault_for
from ultrum.cli.options import (
    AT,
    BIND,
    CREDENTIALS,
    FREQUENCY,
    JSON,
    OFFLINE,
    OUTPUT,
    PRACTICE,
    SOURCES,
    VAULT,
    desk_of,
)
from ultrum.cli.pictures import PictureStyle, picture_options
from ultrum.cli.verbosity import echo

if TYPE_CHECKING:
    import pandas as pd

    from ultrum.core.regression.results import BetaTable
    from ultrum.core.workings.steps_table import Workings
    from ultrum.study import StudyResult
    from ultrum.study.file_study import FileChoices, FileStudy

_ERRORS: Final = ("hac", "classical", "hc0", "hc1", "hc2", "hc3")
_LARGEST_SHARE: Final = 0.5  # a rate or premium above this must be percent
_ENDS_SHOWN: Final = 8
_LEVEL: Final = 0.95
_WITH_INTERVALS: Final = 2  # terms up to which a table of assets has room for intervals
_CHOICES: Final = (
    "assets", "market", "more_factors", "risk_free", "frequency", "total_return", "factor_units", "price_column",
    "span", "errors", "window",
)  # fmt: skip
_OWN: Final = ("file:", "here:")  # addresses of the user's own files
_EXAMPLES: Final = "\b\n" + "\n".join(
    (
        "ultrum estimate KELP.csv --factors factors.csv",
        "ultrum estimate prices.csv --factors factors.csv --factor SMB --rolling P5Y --asset KELP",
        "ultrum estimate KELP.csv --factors factors.csv --cost --premium 5% --save kelp.toml",
    )
)


class RateOrColumn(click.ParamType[str | float]):
    """A heading, or a rate a year: 0.03 or 3%."""

    name = "column or rate"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> str | float:
        """The rate in decimals, or the heading."""
        match = re.fullmatch(r"\s*(-?[\d.]+)\s*(%?)\s*", str(value))
        if not match:
            return str(value)
        try:
            rate = float(match[1]) / (100.0 if match[2] else 1.0)
        except ValueError:
            self.fail(f"'{value}' is not a number.", param, ctx)
        if abs(rate) > _LARGEST_SHARE:
            self.fail(
                f"{value} is {100 * rate:,.0f} % a year; write {match[1]}% for percent.", param, ctx
            )
        return rate


class Share(RateOrColumn):
    """A rate a year: 0.05 or 5%."""

    name = "rate"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """The rate in decimals."""
        rate = super().convert(value, param, ctx)
        if isinstance(rate, str):
            self.fail(f"'{value}' is not a rate; write 0.05 or 5%.", param, ctx)
        return rate


def _window(_context: click.Context, _option: click.Parameter, text: str) -> str | int | None:
    """A window: a duration, or a number of periods."""
    from ultrum.core.time.durations import parse_duration
    from ultrum.errors import FrequencyError

    if not text:
        return None
    if text.isdigit():
        return int(text)
    try:
        parse_duration(text)
    except FrequencyError as error:
        raise click.BadParameter(str(error)) from error
    return text


@click.command(epilog=_EXAMPLES)
@click.argument("prices", nargs=-1, required=True)
@click.option(
    "--factors", required=True, help="File of factor returns, or of an index: FILE or address."
)
@click.option("--asset", "assets", multiple=True, help="Only this asset; may be repeated.")
@click.option(
    "--market", default="", metavar="COLUMN", help="The market's column of the factor file."
)
@click.option(
    "--factor", "more_factors", multiple=True, metavar="COLUMN",
    help="Regress on this column as well; may be repeated; 'all' for every column.",
)  # fmt: skip
@click.option(
    "--risk-free", type=RateOrColumn(), metavar="COLUMN|RATE",
    help="Column of risk-free returns, or a rate a year: 0.03 or 3%.",
)  # fmt: skip
@click.option(
    "--total-return", multiple=True, metavar="COLUMN",
    help="This factor is a total return, not in excess of the risk-free rate.",
)  # fmt: skip
@click.option("--factor-units", type=click.Choice(("percent", "decimal")), help="Of the factors.")
@click.option("--price-column", default="", metavar="COLUMN", help="The price's column of PRICES.")
@click.option(
    "--frequency", default="", callback=FREQUENCY, help="M, W, D or Q; monthly by default."
)
@click.option(
    "--span", nargs=2, default=("", ""), metavar="FIRST LAST", help="First and last period."
)
@click.option("--errors", default="hac", show_default=True, type=click.Choice(_ERRORS, case_sensitive=False),
              help="Kind of standard errors; hac is Newey and West's.")  # fmt: skip
@click.option("--dividends", default="", help="File of dividends; not with adjusted prices.")
@click.option("--splits", default="", help="File of splits.")
@click.option("--rolling", "window", default="", callback=_window, metavar="WINDOW",
              help="Also betas of moving windows: P5Y, or a number of periods.")  # fmt: skip
@click.option("--cost", is_flag=True, help="Also the cost of equity.")
@click.option(
    "--premium",
    type=Share(),
    metavar="RATE",
    help="Premium of the market a year; else its history.",
)
@click.option("--picture", type=OUTPUT, help="Draw the result into this PNG file.")
@click.option("--csv", "csv_file", type=OUTPUT, help="Write the coefficients to this CSV file.")
@click.option(
    "--workings",
    is_flag=True,
    help="Also the steps from the rows to the numbers of the first asset.",
)
@click.option(
    "--workings-file", type=OUTPUT, help="Write these steps as live formulas into this XLSX file."
)
@click.option("--save", "saved", type=OUTPUT, help="Write the study that repeats this.")
@READ
@SOURCES
@CREDENTIALS
@BIND
@PRACTICE
@VAULT
@OFFLINE
@AT
@JSON
@picture_options
def estimate(
    prices: tuple[str, ...], factors: str, dividends: str, splits: str, premium: float | None, cost: bool,
    picture: Path | None, csv_file: Path | None, saved: Path | None, reading: tuple[str, ...], as_json: bool,
    vault: Path | None, workings: bool, workings_file: Path | None, style: PictureStyle, **given: Any,
) -> None:  # fmt: skip
    """Estimate betas of the assets in the files PRICES on the market in a factor file.

    PRICES are local files, or addresses of sources: a file of one asset with its closes, a table with a column
    for each asset, or rows by asset. The headings tell what each column is; what was decided is printed.
    --factors may be a file of index levels. Without a risk-free rate the betas are those of the market model.
    """
    if premium is not None and not cost:
        raise click.UsageError("--premium needs --cost.")
    choices = {name: given.pop(name) for name in _CHOICES}
    texts = tuple(t for t in (*prices, factors, dividends, splits) if t)
    files = local_files(texts, reading)
    refuse_inputs([picture, csv_file, saved, workings_file], texts)
    if workings_file is not None and workings_file.suffix.lower() != ".xlsx":
        raise click.UsageError(f"--workings-file {workings_file} must end in .xlsx.")
    if saved is not None and saved.exists():
        raise click.UsageError(f"{saved} is there already; choose another name.")
    wanted = _choices(
        files, prices, factors, {"dividends": dividends, "splits": splits}, cost, premium, choices
    )
    with (
        vault_for(vault, files, texts) as place,
        desk_of(vault=place, files=files, keep_readings=True, **given) as desk,
    ):
        from ultrum.study.file_study import file_study
        from ultrum.study.run import run_on

        study = file_study(desk, wanted)
        result = run_on(study.study, desk, lambda _: None, keep=False)
    if picture is not None:
        _draw(result, picture, style)
    if csv_file is not None:
        _write(result, csv_file)
    if saved is not None:
        _save(study, files, saved)
    steps = _workings(result) if workings or workings_file is not None else {}
    if workings_file is not None:
        from ultrum.report.export import save

        save(steps, workings_file)
    if as_json:
        _print_json(study, result, steps if workings else {})
        return
    _print(study, result, saved)
    for one in steps.values() if workings else ():
        print_workings(one)


def _workings(result: StudyResult) -> dict[str, Workings]:
    """The steps of the regression, and of the cost of equity where there is one."""
    steps = {"regression": result.betas.workings(result.company)}
    if result.cost is not None:
        steps["cost of equity"] = result.cost.workings(result.company)
    return steps


def print_workings(workings: Workings) -> None:
    """Print steps as a table."""
    from ultrum.cli import terminal_output

    table = workings.to_frame()[["step", "name", "formula", "value"]]
    table["value"] = [f"{value:.10g}" for value in table["value"]]
    terminal_output.table(table, workings.title)
    if workings.note:
        echo(workings.note)


def _choices(
    files: LocalFiles, prices: Sequence[str], factors: str, events: Mapping[str, str], cost: bool,
    premium: float | None, given: Mapping[str, Any],
) -> FileChoices:  # fmt: skip
    """What was chosen on the command line, with addresses in place of files."""
    from ultrum.study.file_study import FileChoices

    start, end = given["span"]
    others = {k: v for k, v in given.items() if k != "span"}
    return FileChoices(
        prices=[files.address(p) for p in prices], factors=files.address(factors),
        events={k: files.address(v) for k, v in events.items() if v},
        cost=cost, premium=premium, start=start, end=end, **others,
    )  # fmt: skip


def _print(study: FileStudy, result: StudyResult, saved: Path | None) -> None:
    from ultrum.cli import terminal_output

    betas, kind = result.betas, _kind(study, result)
    echo(kind)
    if len(betas.assets) == 1:
        fit = betas.fit(result.company)
        terminal_output.table(terminal_output.fixed(fit.to_frame(), "term", p=3, t=2))
        echo(fit.basis)
    else:
        terminal_output.table(_asset_rows(betas))
        echo(_dropped(betas))
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
    """What was regressed on what, and over what the returns are."""
    noun = result.panel.frequency.name.capitalize()
    names = ", ".join(map(str, result.study.model.factors))
    if not result.panel.has_risk_free:
        return f"{noun} total returns on {names}: market model, without a risk-free rate"
    rate = study.study.panel.risk_free
    over = (
        f"{100 * rate:g} % a year" if isinstance(rate, float) else str(result.panel.risk_free.name)
    )
    return f"{noun} returns in excess of {over} on {names}"


def _asset_rows(betas: BetaTable) -> pd.DataFrame:
    """A row for each asset: constant, and each beta with its error and interval."""
    import pandas as pd

    rows = pd.DataFrame({"asset": betas.assets})
    for term in betas.coefficients:
        values, errors = betas.coefficients[term], betas.standard_errors[term]
        rows[str(term)] = [
            "—" if math.isnan(v) else f"{v:.4f} ({e:.4f})"
            for v, e in zip(values, errors, strict=True)
        ]
        if term != "constant" and len(betas.coefficients.columns) <= _WITH_INTERVALS:
            bounds = betas.interval(str(term), _LEVEL)
            rows[f"{term}, 95 %"] = [
                "—" if math.isnan(low) else f"{low:.2f} to {high:.2f}"
                for low, high in zip(bounds["low"], bounds["high"], strict=True)
            ]
    rows["R²"] = [f"{v:.3f}" for v in betas.r2]
    rows["rows"] = [int(n) for n in betas.nobs]
    rows["dropped"] = [int(n) for n in betas.observations_dropped]
    return rows


def _dropped(betas: BetaTable) -> str:
    """Errors of the table, and why observations were dropped, over all assets."""
    from ultrum.core.regression.engine.covariance import errors_in_words
    from ultrum.core.regression.results import dropped_in_words

    counts = {str(cause): int(total) for cause, total in betas.dropped.sum().items()}
    return f"{errors_in_words(betas.errors)} in brackets; {dropped_in_words(counts)}"


def _rolling_rows(result: StudyResult) -> pd.DataFrame:
    """The last moving windows of one asset, or the last window of each."""
    import pandas as pd

    from ultrum.core.time.period_labels import period_label

    rolling = result.rolling
    if rolling is None:
        return pd.DataFrame()
    if len(rolling.assets) == 1:
        bounds = rolling.interval(rolling.assets[0])
        beta = rolling.frame("coefficients")[rolling.assets[0]]
        table = pd.DataFrame({"beta": beta, "low": bounds["low"], "high": bounds["high"]})
        table.insert(0, "window to", [period_label(end) for end in table.index])
        shown = table.tail(_ENDS_SHOWN)
    else:
        beta = rolling.frame("coefficients").iloc[-1]
        error = rolling.frame("standard_errors").iloc[-1]
        shown = pd.DataFrame(
            {"asset": rolling.assets, "beta": beta.to_numpy(), "standard error": error.to_numpy()}
        )
        shown.insert(1, "window to", period_label(rolling.ends[-1]))
    for column in shown.select_dtypes("float").columns:
        shown[column] = [f"{v:.4f}" for v in shown[column]]
    return shown


def _cost_rows(result: StudyResult) -> pd.DataFrame:
    """Cost of equity of each asset, percent a year."""
    import pandas as pd

    cost = result.cost
    if cost is None:
        return pd.DataFrame()
    bounds = cost.interval(_LEVEL)
    columns = {
        "cost of equity, % a year": cost.value, "standard error": cost.standard_error, "low": bounds["low"],
        "high": bounds["high"],
    }  # fmt: skip
    rows = {name: [f"{100 * v:.2f}" for v in values] for name, values in columns.items()}
    return pd.DataFrame({"asset": [str(a) for a in cost.value.index], **rows})


def decision_rows(study: FileStudy) -> pd.DataFrame:
    """What was decided about the files, a row a decision."""
    import pandas as pd

    rows = [
        {"file": address.partition(":")[2] if address.startswith(_OWN) else address,
         "decided": d.what, "chosen": d.chosen, "because": "" if d.certainty == "sure" else d.certainty}
        for address, d in study.decisions
    ]  # fmt: skip
    return pd.DataFrame(rows).drop_duplicates()


def workings_answer(workings: Workings) -> dict[str, Any]:
    """Steps as plain data."""
    return {"title": workings.title, "steps": workings.to_frame().to_dict("records")}


def _print_json(study: FileStudy, result: StudyResult, steps: Mapping[str, Workings]) -> None:
    from ultrum.cli import terminal_output
    from ultrum.core.time.period_labels import period_label

    betas = result.betas
    answer: dict[str, Any] = {
        "basis": _kind(study, result),
        "assets": [_asset_answer(betas, asset) for asset in betas.assets],
        "decisions": [{"address": address, **vars(d)} for address, d in study.decisions],
        "warnings": [vars(w) for w in result.warnings],
    }
    if steps:
        answer["workings"] = [workings_answer(one) for one in steps.values()]
    if result.rolling is not None:
        frame = result.rolling.frame("coefficients")
        answer["rolling"] = {
            str(asset): {period_label(end): value for end, value in frame[asset].items()}
            for asset in frame
        }
    if result.cost is not None:
        bounds = result.cost.interval(_LEVEL)
        answer["costs_of_equity"] = [
            {"asset": str(a), "cost_of_equity": result.cost.value[a],
             "standard_error": result.cost.standard_error[a],
             "low": bounds.loc[a, "low"], "high": bounds.loc[a, "high"]}
            for a in result.cost.value.index
        ]  # fmt: skip
    terminal_output.as_json(answer)


def _asset_answer(betas: BetaTable, asset: str) -> dict[str, Any]:
    """The regression of one asset, in decimals."""
    from ultrum.core.time.period_labels import period_label

    fit = betas.fit(asset)
    table = fit.to_frame()
    return {
        "asset": asset,
        "terms": [{"term": str(term), **{str(k): v for k, v in row.items()}} for term, row in table.iterrows()],
        "r2": fit.r2, "rows": fit.nobs, "first": period_label(fit.sample[0]), "last": period_label(fit.sample[1]),
        "dropped": dict(fit.dropped),
    }  # fmt: skip


def _draw(result: StudyResult, picture: Path, style: PictureStyle) -> None:
    """Moving betas where they are asked for, else the line of fit of one asset or the betas of several."""
    from ultrum.report import figures

    betas, company = result.betas, result.company
    factor = result.study.model.factors[0]
    if result.rolling is not None:
        whole = float(betas.fit(company).coefficients[factor])
        ax = figures.beta_path(result.rolling, company, whole=whole)
    elif len(betas.assets) == 1:
        ax = figures.line_of_fit(betas.fit(company))
    else:
        ax = figures.betas(betas)
    style.write(ax, picture)


def _write(result: StudyResult, csv_file: Path) -> None:
    """The coefficients of every asset, or with moving windows the betas by window."""
    from ultrum.report.export import save

    table = result.betas.to_frame() if result.rolling is None else result.rolling.frame()
    save(table.rename_axis("asset" if result.rolling is None else "window_to"), csv_file)


def _save(study: FileStudy, files: LocalFiles, saved: Path) -> None:
    """Write the study with its files meant from its own folder."""
    from ultrum.cli.local_files import SOURCE

    content = study.study.model_dump(mode="json", exclude_defaults=True)
    if SOURCE in content["sources"]:
        root = Path(content["sources"][SOURCE]["url"])
        folder = saved.absolute().parent.resolve()
        moved = {
            path: Path(os.path.relpath(root / path, folder)).as_posix()
            for path in files.settings["tables"]
        }
        outside = [new for new in moved.values() if new.startswith("..")]
        if outside:
            raise click.UsageError(
                f"--save {saved}: a study reads the files of its own folder, and {outside[0]} is outside it."
            )
        content = _readdressed(
            content, {f"{SOURCE}:{old}": f"{SOURCE}:{new}" for old, new in moved.items()}
        )
        source = content["sources"][SOURCE]
        source["url"] = "."
        if "tables" in source:
            source["tables"] = {moved[path]: options for path, options in source["tables"].items()}
    from ultrum.study import Study

    Study.of(**content).save(saved)


def _readdressed(value: Any, moved: Mapping[str, str]) -> Any:
    """Plain data with addresses replaced, those with a column too."""
    if isinstance(value, dict):
        return {k: _readdressed(v, moved) for k, v in value.items()}
    if isinstance(value, list):
        return [_readdressed(v, moved) for v in value]
    if isinstance(value, str):
        place, mark, column = value.partition("#")
        return moved[place] + mark + column if place in moved else value
    return value
