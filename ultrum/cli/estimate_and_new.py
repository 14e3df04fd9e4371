"""The commands ``estimate``, betas from files of prices and factors, and ``new``, a study of such files."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import click

from ultrum.cli.estimate_output import print_estimate, print_estimate_json, print_workings
from ultrum.cli.options import (
    AT,
    FREQUENCY,
    FROM_SOURCES,
    HERE,
    JSON,
    OUTPUT,
    PICTURE,
    READ,
    SOURCE,
    LocalFiles,
    PictureStyle,
    desk_of,
    local_files,
    picture_options,
    refuse_inputs,
    together,
    vault_for,
)
from ultrum.cli.terminal_output import echo

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ultrum.core.workings import Workings
    from ultrum.study.own_files import FileChoices, FileStudy
    from ultrum.study.run import StudyResult


_ERRORS: Final = ("hac", "hac-fixed-b", "ewc", "ewc-prewhitened", "classical", "hc0", "hc1", "hc2", "hc3")
_CHOICES: Final = (
    "assets",
    "market",
    "more_factors",
    "risk_free",
    "frequency",
    "total_return",
    "factor_units",
    "price_column",
    "span",
    "errors",
    "window",
)
_EXAMPLES: Final = "\b\n" + "\n".join(
    (
        "ultrum estimate KELP.csv --factors factors.csv",
        "ultrum estimate prices.csv --factors factors.csv --factor size --rolling P5Y --asset KELP",
        "ultrum estimate KELP.csv --factors factors.csv --cost --premium 5% --save cost.toml",
    )
)


class RateOrColumn(click.ParamType[str | float]):
    """A heading, or an annual rate: 0.03 or 3%."""

    name = "column or rate"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> str | float:
        """The rate in decimals, or the heading."""
        match = re.fullmatch(r"\s*(-?[\d.]+)\s*(%?)\s*", str(value))
        if not match:
            return str(value)
        try:
            rate = float(match[1]) / (100.0 if match[2] else 1.0)
        except ValueError:
            self.fail(f"'{value}' is not a number.", param, ctx)
        from ultrum.core.arguments import LARGEST_RATE

        if abs(rate) > LARGEST_RATE:
            self.fail(f"{value} is {100 * rate:,.0f} % per year; write {match[1]}% for percent.", param, ctx)
        return rate


class Share(RateOrColumn):
    """An annual rate: 0.05 or 5%."""

    name = "rate"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """The rate in decimals."""
        rate = super().convert(value, param, ctx)
        if isinstance(rate, str):
            self.fail(f"'{value}' is not a rate; write 0.05 or 5%.", param, ctx)
        return rate


def _window(_context: click.Context, _option: click.Parameter, text: str) -> str | int | None:
    """A window: a duration, or a number of periods."""
    from ultrum.core.time.frequency import parse_duration
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


_OF_FILES: Final = together(  # options of both commands
    click.option("--market", default="", metavar="COLUMN", help="The market's column of the factor file."),
    click.option("--price-column", default="", metavar="COLUMN", help="The price's column of PRICES."),
    click.option("--frequency", default="", callback=FREQUENCY, help="M, W, D or Q; monthly by default."),
    click.option("--dividends", default="", help="File of dividends; not with adjusted prices."),
    click.option("--splits", default="", help="File of splits."),
    click.option("--final-payments", default="", help="File of what delisted assets paid at the end."),
)


@click.command(epilog=_EXAMPLES)
@click.argument("prices", nargs=-1, required=True)
@click.option("--factors", required=True, help="File of factor returns, or of an index: FILE or address.")
@click.option("--asset", "assets", multiple=True, help="Use only this asset; may be repeated.")
@_OF_FILES
@click.option(
    "--factor",
    "more_factors",
    multiple=True,
    metavar="COLUMN",
    help="Regress on this column as well; may be repeated; 'all' for every column.",
)
@click.option(
    "--risk-free",
    type=RateOrColumn(),
    metavar="COLUMN|RATE|FILE",
    help="Column of risk-free returns, an annual rate (0.03 or 3%), or a file of them: FILE#COLUMN.",
)
@click.option(
    "--total-return",
    multiple=True,
    metavar="COLUMN",
    help="This factor is a total return, not in excess of the risk-free rate.",
)
@click.option(
    "--factor-units",
    type=click.Choice(("percent", "decimal")),
    help="Of the factors, and of a risk-free file without a unit.",
)
@click.option("--span", nargs=2, default=("", ""), metavar="FIRST LAST", help="First and last period.")
@click.option(
    "--errors",
    default="hac",
    show_default=True,
    type=click.Choice(_ERRORS, case_sensitive=False),
    help="Kind of standard errors; hac is Newey–West.",
)
@click.option(
    "--event-column",
    "event_columns",
    multiple=True,
    metavar="TABLE.ROLE=HEADING",
    help="An unusual heading: dividends.date=Ex-Tag; roles are asset, date, amount and ratio.",
)
@click.option(
    "--rolling",
    "window",
    default="",
    callback=_window,
    metavar="WINDOW",
    help="Also estimate rolling-window betas: P5Y, or a number of periods.",
)
@click.option("--cost", is_flag=True, help="Also the cost of equity.")
@click.option(
    "--premium",
    type=Share(),
    metavar="RATE",
    help="Annual market risk premium; by default the historical mean of the factor.",
)
@click.option("--picture", type=PICTURE, help="Draw the result to this file: PNG, SVG or PDF.")
@click.option(
    "--csv", "csv_file", type=OUTPUT, help="Write the coefficients to this CSV file, rolling betas beside it."
)
@click.option(
    "--workings",
    is_flag=True,
    help="Also print the steps from the observations to the estimates of the first asset.",
)
@click.option("--workings-file", type=OUTPUT, help="Write these steps as live formulas into this XLSX file.")
@click.option("--save", "saved", type=OUTPUT, help="Write a study file that repeats this estimate.")
@READ
@FROM_SOURCES
@AT
@JSON
@picture_options
def estimate(
    prices: tuple[str, ...],
    factors: str,
    dividends: str,
    splits: str,
    final_payments: str,
    event_columns: tuple[str, ...],
    premium: float | None,
    cost: bool,
    picture: Path | None,
    csv_file: Path | None,
    saved: Path | None,
    reading: tuple[str, ...],
    as_json: bool,
    vault: Path | None,
    workings: bool,
    workings_file: Path | None,
    style: PictureStyle,
    **given: Any,
) -> None:
    """Estimate betas of the assets in the files PRICES on the market in a factor file.

    PRICES are local files, or addresses of sources: a file of one asset with its closing prices, a table with one
    column per asset, or rows by asset. The role of each column follows from its heading; decisions are printed.
    --factors can be a file of index levels. Without a risk-free rate the model is the market model on total
    returns.
    """
    if premium is not None and not cost:
        raise click.UsageError("--premium needs --cost.")
    choices = {name: given.pop(name) for name in _CHOICES}
    rate_file = choices["risk_free"] if _is_place(choices["risk_free"]) else ""
    events = {"dividends": dividends, "splits": splits, "final_payments": final_payments}
    texts = tuple(t for t in (*prices, factors, *events.values(), rate_file) if t)
    files = local_files(texts, reading)
    beside = _rolling_file(csv_file) if csv_file is not None and choices["window"] is not None else None
    refuse_inputs([picture, csv_file, beside, saved, workings_file], texts)
    if workings_file is not None and workings_file.suffix.lower() != ".xlsx":
        raise click.UsageError(f"--workings-file {workings_file} must end in .xlsx.")
    if saved is not None and saved.exists():
        raise click.UsageError(f"{saved} exists already; choose another name.")
    headings = _headings_of(event_columns, events)
    for table, roles in headings.items():
        _set_date_column(files, events[table], roles)
    choices |= {"event_headings": headings}
    if rate_file:
        choices |= {"risk_free": None, "rate_address": files.address(rate_file)}
    wanted = _choices(files, prices, factors, events, cost, premium, choices)
    with (
        vault_for(vault, files, texts) as place,
        desk_of(vault=place, files=files, keep_readings=True, **given) as desk,
    ):
        from ultrum.study.own_files import file_study
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
        from ultrum.report.table_files import save

        save(steps, workings_file)
    if as_json:
        print_estimate_json(study, result, steps if workings else {})
        return
    print_estimate(study, result, saved)
    for one in steps.values() if workings else ():
        print_workings(one)


def _is_place(text: object) -> bool:
    """Whether a text is a file or an address, not a heading."""
    if not isinstance(text, str):
        return False
    return Path(text.partition("#")[0]).is_file() or re.fullmatch(r"[\w-]+:\S+", text) is not None


def _headings_of(given: Sequence[str], events: Mapping[str, str]) -> dict[str, dict[str, str]]:
    """Headings by table and role, from texts such as ``dividends.date=Ex-Tag``."""
    headings: dict[str, dict[str, str]] = {}
    for text in given:
        match = re.fullmatch(r"(dividends|splits|final_payments)\.(asset|date|amount|ratio)=(.+)", text)
        if match is None:
            raise click.UsageError(
                f"--event-column {text}: write TABLE.ROLE=HEADING, with dividends, splits or final_payments and "
                "asset, date, amount or ratio."
            )
        if not events[match[1]]:
            raise click.UsageError(f"--event-column {text} needs --{match[1].replace('_', '-')}.")
        headings.setdefault(match[1], {})[match[2]] = match[3]
    return headings


def _set_date_column(files: LocalFiles, text: str, roles: dict[str, str]) -> None:
    """Read the dates of a local table of events from the given column; records then have it as ``date``."""
    path = files.address(text).partition(":")[2].partition("#")[0]
    tables = files.settings.get("tables", {})
    if "date" in roles and path in tables:
        tables[path] = {**tables[path], "date_column": roles.pop("date")}


def _workings(result: StudyResult) -> dict[str, Workings]:
    """Calculation of the regression, and of the cost of equity if there is one."""
    steps = {"regression": result.betas.workings(result.company)}
    if result.cost is not None:
        steps["cost of equity"] = result.cost.workings(result.company)
    return steps


def _choices(
    files: LocalFiles,
    prices: Sequence[str],
    factors: str,
    events: Mapping[str, str],
    cost: bool,
    premium: float | None,
    given: Mapping[str, Any],
) -> FileChoices:
    """Choices on the command line, with addresses in place of files."""
    from ultrum.study.own_files import FileChoices

    start, end = given["span"]
    others = {k: v for k, v in given.items() if k != "span"}
    return FileChoices(
        prices=[files.address(p) for p in prices],
        factors=files.address(factors),
        events={k: files.address(v) for k, v in events.items() if v},
        cost=cost,
        premium=premium,
        start=start,
        end=end,
        **others,
    )


def _draw(result: StudyResult, picture: Path, style: PictureStyle) -> None:
    """Rolling betas if requested, otherwise the regression line of one asset or the betas of several."""
    from ultrum.report import figures

    betas, company = result.betas, result.company
    factor = result.study.model.factors[0]

    def _drawn() -> Axes:
        if result.rolling is not None:
            whole = float(betas.fit(company).coefficients[factor])
            return figures.beta_path(result.rolling, company, whole=whole)
        if len(betas.assets) == 1:
            return figures.line_of_fit(betas.fit(company))
        if len(result.study.model.factors) == 1:
            return figures.betas(betas)
        return figures.loadings(betas)[0]

    style.write(_drawn, picture)


def _write(result: StudyResult, csv_file: Path) -> None:
    """The coefficients of every asset; rolling betas by window in a second file, ``NAME-rolling.csv``."""
    from ultrum.report.table_files import save

    save(result.betas.to_frame().rename_axis("asset"), csv_file)
    if result.rolling is not None:
        save(result.rolling.frame().rename_axis("window_to"), _rolling_file(csv_file))


def _rolling_file(csv_file: Path) -> Path:
    """The file of rolling betas, beside that of the coefficients."""
    return csv_file.with_name(f"{csv_file.stem}-rolling{csv_file.suffix}")


def _save(study: FileStudy, files: LocalFiles, saved: Path) -> None:
    """Write the study with file paths relative to its own folder."""
    from ultrum.cli.options import SOURCE

    content = study.study.model_dump(mode="json", exclude_defaults=True)
    if SOURCE in content["sources"]:
        root = Path(content["sources"][SOURCE]["url"])
        folder = saved.absolute().parent.resolve()
        moved = {path: Path(os.path.relpath(root / path, folder)).as_posix() for path in files.settings["tables"]}
        outside = [new for new in moved.values() if new.startswith("..")]
        if outside:
            raise click.UsageError(
                f"--save {saved}: a study reads the files of its own folder, and {outside[0]} is outside it."
            )
        content = _replace_addresses(
            content, {f"{SOURCE}:{old}": f"{SOURCE}:{new}" for old, new in moved.items()}
        )
        source = content["sources"][SOURCE]
        source["url"] = "."
        if "tables" in source:
            source["tables"] = {moved[path]: options for path, options in source["tables"].items()}
    from ultrum.study.schema import Study

    Study.of(**content).save(saved)


def _replace_addresses(value: object, moved: Mapping[str, str]) -> Any:
    """Plain data with addresses replaced, including those with a column."""
    if isinstance(value, dict):
        return {k: _replace_addresses(v, moved) for k, v in value.items()}
    if isinstance(value, list):
        return [_replace_addresses(v, moved) for v in value]
    if isinstance(value, str):
        place, mark, column = value.partition("#")
        return moved[place] + mark + column if place in moved else value
    return value


# The ``new`` command: a study file to start from, for a user's own files or for the practice data

_EXAMPLES_OF_NEW: Final = "\b\n" + "\n".join(
    (
        "ultrum new kelp.toml KELP.csv --factors factors.csv",
        "ultrum new shares.toml prices.csv --factors factors.csv --asset KELP --dividends dividends.csv",
        "ultrum new mine.toml --asset EBMK --factor market --factor value",
    )
)


@click.command(epilog=_EXAMPLES_OF_NEW)
@click.argument("study", type=HERE)
@click.argument("prices", nargs=-1)
@click.option("--factors", default="", help="File of factor returns, or of an index.")
@click.option("--asset", default="", help="The asset to report on; by default the first.")
@_OF_FILES
@click.option(
    "--factor",
    "more_factors",
    multiple=True,
    metavar="COLUMN",
    help="Regress on this column as well; may be repeated.",
)
@click.option(
    "--risk-free",
    type=RateOrColumn(),
    metavar="COLUMN|RATE",
    help="Column of risk-free returns, or an annual rate: 0.03 or 3%.",
)
@click.option(
    "--inflation", default="", metavar="FILE", help="Price index, for the cost in real terms: FILE#COLUMN."
)
@click.option(
    "--accounts", default="", metavar="FILE", help="File of debt, equity and tax of the companies, for peers."
)
@click.option("--title", default="", help="Title of the study.")
@READ
def new(
    study: Path,
    prices: tuple[str, ...],
    factors: str,
    asset: str,
    more_factors: tuple[str, ...],
    frequency: str,
    title: str,
    reading: tuple[str, ...],
    dividends: str,
    splits: str,
    final_payments: str,
    inflation: str,
    accounts: str,
    **choices: object,
) -> None:
    """Write the commented study file STUDY: for your own files PRICES, or for the practice data.

    The files are read, and the study states the roles of their columns: the price, the units, the market, the
    risk-free return, the columns of dividends. The files must be in the folder of STUDY or below it.
    """
    events = {"dividends": dividends, "splits": splits, "final_payments": final_payments}
    if not prices:
        given = {"--factors": factors, "--inflation": inflation, "--accounts": accounts, **choices, **events}
        named = [name for name, value in given.items() if value]
        if named:
            option = named[0] if named[0].startswith("--") else f"--{named[0].replace('_', '-')}"
            raise click.UsageError(_without_prices(study, option))
        if not asset:
            raise click.UsageError("Name your files of prices, or use --asset for the practice data.")
        from ultrum.study.template import practice_study

        practice_study(study, asset, list(more_factors) or ["market"], frequency or "M", title)
        echo(f"{study} written. Run 'ultrum practice' in another terminal, then: ultrum run {study}")
        return
    if not factors:
        raise click.UsageError("Add --factors FILE: factor returns, or an index.")
    files = {"factors": factors, **events, "inflation": inflation, "accounts": accounts}
    chosen = {
        "assets": [asset] if asset else [],
        "more_factors": more_factors,
        "frequency": frequency,
        "title": title,
        **choices,
    }
    _write_file_study(study, prices, {k: v for k, v in files.items() if v}, reading, chosen)


def _without_prices(study: Path, option: str) -> str:
    """The refusal for a command with files but without prices."""
    if study.suffix.lower() != ".toml":
        return (
            f"Write the name of the study file first: ultrum new study.toml {study} {option} ...; "
            f"{study} was taken for its name."
        )
    return f"{option} is for your own files. Name the files of prices too: ultrum new {study} PRICES ..."


def _write_file_study(
    study: Path, prices: tuple[str, ...], files: dict[str, str], reading: tuple[str, ...], chosen: dict[str, Any]
) -> None:
    """Write the study of a user's own files, and print the decisions about them."""
    import tempfile

    from ultrum.cli import terminal_output
    from ultrum.cli.estimate_output import decision_rows
    from ultrum.desk.desk import Desk
    from ultrum.study.own_files import FileChoices
    from ultrum.study.template import SOURCE as HERE_SOURCE
    from ultrum.study.template import FurtherFiles, price_index, write_file_study

    texts = (*prices, *files.values())
    local = local_files(texts, reading)
    folder = study.absolute().parent.resolve()
    addresses, tables = {}, {}
    root = Path(local.settings["url"]) if local else folder
    for text in texts:
        address = local.address(text)
        if not address.startswith(f"{SOURCE}:"):
            raise click.UsageError(f"{text} is not a file here. For services, edit the sources of the study.")
        path, mark, column = address.removeprefix(f"{SOURCE}:").partition("#")
        inside = Path(os.path.relpath(root / path, folder)).as_posix()
        if inside.startswith(".."):
            raise click.UsageError(
                f"{text}: a study reads the files of its own folder, {folder}, and this is outside it."
            )
        addresses[text] = f"{HERE_SOURCE}:{inside}{mark}{column}"
        options = local.settings["tables"].get(path)
        if options:
            tables[inside] = options
    sources = {HERE_SOURCE: {"kind": "table", "url": str(folder), "tables": tables}}
    events = {k: addresses[v] for k, v in files.items() if k in ("dividends", "splits", "final_payments")}
    choices = FileChoices(
        prices=[addresses[p] for p in prices], factors=addresses[files["factors"]], events=events, **chosen
    )
    with tempfile.TemporaryDirectory() as passing, Desk(passing, sources=sources, keep_readings=True) as desk:
        inflation = price_index(desk, addresses[files["inflation"]]) if "inflation" in files else ""
        further = FurtherFiles(inflation, addresses.get(files.get("accounts", ""), ""))
        _, draft = write_file_study(study, desk, choices, further)
    terminal_output.table(decision_rows(draft))
    echo(f"{study} written; next: ultrum run {study}")
