"""The ``new`` command: a study file to start from, for a user's own files or for the practice data."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any, Final

import click

from ultrum.cli.estimate import RateOrColumn
from ultrum.cli.options import FREQUENCY, HERE, READ, SOURCE, local_files
from ultrum.cli.terminal_output import echo

_EXAMPLES: Final = "\b\n" + "\n".join(
    (
        "ultrum new kelp.toml KELP.csv --factors factors.csv",
        "ultrum new shares.toml prices.csv --factors factors.csv --asset KELP --dividends dividends.csv",
        "ultrum new mine.toml --asset EBMK --factor market --factor value",
    )
)


@click.command(epilog=_EXAMPLES)
@click.argument("study", type=HERE)
@click.argument("prices", nargs=-1)
@click.option("--factors", default="", help="File of factor returns, or of an index.")
@click.option("--asset", default="", help="The asset to report on; by default the first.")
@click.option("--market", default="", metavar="COLUMN", help="The market's column of the factor file.")
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
@click.option("--price-column", default="", metavar="COLUMN", help="The price's column of PRICES.")
@click.option("--dividends", default="", help="File of dividends; not with adjusted prices.")
@click.option("--splits", default="", help="File of splits.")
@click.option("--final-payments", default="", help="File of final payments at delisting.")
@click.option(
    "--inflation", default="", metavar="FILE", help="Price index, for the cost in real terms: FILE#COLUMN."
)
@click.option(
    "--accounts", default="", metavar="FILE", help="File of debt, equity and tax of the companies, for peers."
)
@click.option("--frequency", default="", callback=FREQUENCY, help="M, W, D or Q; monthly by default.")
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
    from ultrum.study.template import SOURCE as HERE_SOURCE
    from ultrum.study.template import FileChoices, FurtherFiles, price_index, write_file_study

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
