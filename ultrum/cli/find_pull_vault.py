"""Commands that get data: find, pull, vault."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ultrum.cli.options import (
    AT,
    FREQUENCY,
    FROM_SOURCES,
    HERE,
    INSTANT,
    JSON,
    OUTPUT,
    READ,
    VAULT,
    desk_of,
    local_files,
    refuse_inputs,
)
from ultrum.cli.terminal_output import echo
from ultrum.core.presentation import quantity

if TYPE_CHECKING:
    from ultrum.desk.batch_and_series_sets import PullResult, SeriesSet
    from ultrum.vault.store import Vault


@click.command()
@click.argument("words", nargs=-1)
@click.option("--region", default="", help="Code of a region, or the name of a group of regions.")
@click.option("--topic", default="", help="Part of the name of a topic.")
@click.option("--frequency", default="", help="Part of a frequency's name, such as month.")
@click.option("--measure", default="", help="price, index, rate, quote, flow or stock.")
@click.option("--currency", default="", help="Currency code.")
@click.option("--source", default="", help="Name of a source.")
@click.option("--walk", is_flag=True, help="Browse the catalogue level by level: WORDS are the levels so far.")
@click.option(
    "--by",
    default="topic",
    type=click.Choice(["topic", "region", "source"]),
    help="Order of the levels of --walk.",
)
@click.option("--limit", default=40, show_default=True, type=click.IntRange(1, 10_000), help="Most rows.")
@click.option("--refresh", is_flag=True, help="Download the sources' catalogues again.")
@click.option("--csv", "csv_file", type=OUTPUT, help="Write the results to this CSV file.")
@FROM_SOURCES
@JSON
def find(
    words: tuple[str, ...],
    walk: bool,
    by: str,
    limit: int,
    refresh: bool,
    csv_file: Path | None,
    as_json: bool,
    **options: Any,
) -> None:
    """Search all catalogues for series with WORDS, or browse them with --walk.

    Words can be misspelt or abbreviated to their beginning. Example: ultrum find unemploymnt tolvane --practice
    """
    from ultrum.cli import terminal_output
    from ultrum.errors import SourceError

    filters = {k: options.pop(k) for k in ("region", "topic", "frequency", "measure", "currency", "source")}
    given = {k: v for k, v in filters.items() if v}
    with desk_of(**options) as desk:
        if refresh:
            desk.listings(refresh=True)
        listings = (
            desk.browse(*words, hierarchy=by, **given)
            if walk
            else desk.search(" ".join(words), limit=limit, **given)
        )
        if listings.empty and not walk:
            raise SourceError(f"{desk.why_nothing(' '.join(words), **given)} Or walk: find --walk.")
    if listings.empty:
        raise SourceError(f"Nothing is below '{' '.join(words)}'. Walk from the top: find --walk.")
    if csv_file:
        from ultrum.report.table_files import to_csv

        to_csv(listings, csv_file)
    if as_json:
        terminal_output.as_json(listings.to_dict("records"))
        return
    shown = [c for c in ("name", "kind", "series", "address", "title", "frequency", "topic") if c in listings]
    terminal_output.table(listings[shown])
    if not walk and len(listings) == limit:
        echo(f"the first {limit}; narrow the search, or raise --limit", err=True)


@click.command()
@click.argument("what", nargs=-1, required=True)
@click.option("--csv", "csv_file", type=OUTPUT, help="Write the series to this CSV file.")
@click.option("--xlsx", "xlsx_file", type=OUTPUT, help="Write the series to this workbook.")
@click.option("--parquet", "parquet_file", type=OUTPUT, help="Write the series to this Parquet file.")
@click.option("--save", type=OUTPUT, help="Save the addresses as a named set in this TOML file.")
@click.option("--span", default="", help="First and last period, 2010,2020-06, or 'last 25 years'.")
@click.option("--frequency", default="", callback=FREQUENCY, help="Convert all series to this lower frequency.")
@click.option("--how", default=None, help="With --frequency: last, mean, sum …; by default by the measure.")
@click.option(
    "--gaps",
    default=None,
    metavar="RULE",
    help="fill: each value stays until the next; 'fill 5' at most 5 dates.",
)
@click.option("--common", is_flag=True, help="Keep only dates that all series have.")
@click.option("--long", "is_long", is_flag=True, help="One row for each series and period.")
@click.option("--resume", is_flag=True, help="Resume a pull that was interrupted or partly failed.")
@READ
@FROM_SOURCES
@AT
@JSON
def pull(
    what: tuple[str, ...],
    csv_file: Path | None,
    xlsx_file: Path | None,
    parquet_file: Path | None,
    save: Path | None,
    resume: bool,
    reading: tuple[str, ...],
    as_json: bool,
    **options: Any,
) -> None:
    """Fetch the series at the addresses WHAT, or of a saved set (a .toml file), into the vault.

    A key can have wildcards. WHAT can be local files, columns of them (prices.csv#close) and patterns of files.
    Example: ultrum pull observatory:PRICES/M..CPI --practice --csv prices.csv
    """
    from ultrum.cli import terminal_output
    from ultrum.cli.terminal_output import PartlyDoneError
    from ultrum.errors import SourceError

    shaped = next((n for n in ("gaps", "common", "is_long") if options[n]), "")
    if shaped and not (csv_file or xlsx_file or parquet_file or save):
        raise click.UsageError(f"--{shaped.removeprefix('is_')} needs --csv, --xlsx, --parquet or --save.")
    plan = _set_of(what, {k: options.pop(k) for k in ("span", "frequency", "how", "gaps", "common", "is_long")})
    if save and reading:
        raise click.UsageError(
            "A saved set does not keep --read. Save it without --read, and give --read with each pull of the set."
        )
    if plan.how and not plan.frequency:
        raise click.UsageError("--how needs --frequency.")
    inputs = [*(m.address for m in plan.series), *(w for w in what if w.endswith(".toml"))]
    refuse_inputs([csv_file, xlsx_file, parquet_file], inputs)
    if save:
        _save(plan, save)
    files = local_files([m.address for m in plan.series], reading, absolute=True)
    members = [m.model_copy(update={"address": files.address(m.address)}) for m in plan.series]
    plan = plan.model_copy(update={"series": members})
    with desk_of(files=files, **options) as desk:
        result = desk.pull(plan, resume=resume)
    if not result.series:
        reasons = [terminal_output.with_options(error, pull) for error in result.errors.values()]
        raise SourceError("\n".join(reasons))
    _write(result, csv_file, xlsx_file, parquet_file)
    rows = result.status.to_dict("records")
    if as_json:
        terminal_output.as_json(rows)
    else:
        taken = result.status[result.status["status"] != "failed"]
        terminal_output.table(taken[["address", "title", "frequency", "status", "first", "last", "values"]])
    for address, error in result.errors.items():
        reason = terminal_output.with_options(error, pull)
        terminal_output.warn(reason if address in reason else f"{address}: {reason}", "failed")
    if result.failed:
        raise PartlyDoneError


def _set_of(what: tuple[str, ...], options: dict[str, Any]) -> SeriesSet:
    """A saved set, or one from addresses and options."""
    from ultrum.desk.batch_and_series_sets import SeriesSet

    span = [p.strip() for p in options["span"].split(",")] if options["span"] else None
    given: dict[str, object] = {
        "span": span,
        "frequency": options["frequency"] or None,
        "how": options["how"],
        "gaps": options["gaps"],
        "dates": "common" if options["common"] else None,
        "shape": "long" if options["is_long"] else None,
    }
    given = {k: v for k, v in given.items() if v}
    from ultrum.errors import ArgumentError, SourceError

    try:
        if len(what) == 1 and what[0].endswith(".toml"):
            return SeriesSet(**{**SeriesSet.load(what[0]).model_dump(), **given})
        return SeriesSet.of(list(what), **given)
    except (ArgumentError, SourceError) as error:
        raise click.UsageError(str(error)) from error


def _save(plan: SeriesSet, file: Path) -> None:
    """Save a set; an older set is overwritten, other files are not."""
    from ultrum.desk.batch_and_series_sets import SeriesSet
    from ultrum.errors import SourceError

    if file.exists():
        try:
            SeriesSet.load(file)
        except SourceError:
            raise click.UsageError(
                f"{file} exists and is not a saved set. Use another file for --save."
            ) from None
    plan.save(file)


def _write(result: PullResult, csv_file: Path | None, xlsx_file: Path | None, parquet_file: Path | None) -> None:
    """Write the pulled table to every requested file."""
    from ultrum.errors import name_list
    from ultrum.report import table_files

    files = (
        (csv_file, table_files.to_csv),
        (xlsx_file, table_files.to_xlsx),
        (parquet_file, table_files.to_parquet),
    )
    for file, write in files:
        if file:
            frame = result.to_frame()
            write(frame, file)
            filled = frame.attrs.get("filled", {})
            for name, count in filled.items():
                echo(f"{name}: {quantity(count, 'value')} filled from the date before", err=True)
            if frame.attrs.get("not_filled"):
                named = name_list(frame.attrs["not_filled"])
                echo(f"{named}: gaps not filled, since a repeated flow or return would count twice", err=True)
            if frame.attrs.get("dates_left_out"):
                echo(
                    f"{frame.attrs['dates_left_out']} dates are not written, since some series lack them",
                    err=True,
                )


@click.group()
def vault() -> None:
    """Manage the vault: list, verify, forget, pack, unpack."""


@vault.command("list")
@click.argument("words", nargs=-1)
@VAULT
@JSON
def list_vault(words: tuple[str, ...], vault: Path | None, as_json: bool) -> None:
    """List downloads whose source or path contains all WORDS."""
    import pandas as pd

    from ultrum.cli import terminal_output

    with _vault(vault) as kept:
        records = [r for r in kept.records() if all(w in f"{r.source}:{r.path}" for w in words)]
        size = kept.size()
    rows = [
        {
            "address": f"{r.source}:{r.path}",
            "retrieved": r.retrieved[:19],
            "bytes": r.size,
            "checksum": r.checksum[:12],
            "imported": r.imported,
        }
        for r in records
    ]
    if as_json:
        terminal_output.as_json({"downloads": rows, "size": size})
        return
    if rows:
        table = pd.DataFrame(rows)
        imported = table["imported"].map({True: "yes", False: ""})
        terminal_output.table(
            table.assign(imported=imported) if imported.any() else table.drop(columns="imported")
        )
    echo(f"{size['downloads']} downloads of {size['addresses']} addresses, {size['bytes']:,} bytes")


@vault.command()
@VAULT
def verify(vault: Path | None) -> None:
    """Verify the checksum of every payload and name damaged ones."""
    from ultrum.errors import VaultError

    with _vault(vault) as kept:
        faults, count = kept.verify(), kept.size()["downloads"]
    if faults:
        raise VaultError("\n".join(faults))
    echo(f"{quantity(count, 'download')}, all intact.")


@vault.command()
@click.argument("words", nargs=-1, required=True)
@click.option("--yes", is_flag=True, help="Do not ask.")
@VAULT
def forget(words: tuple[str, ...], yes: bool, vault: Path | None) -> None:
    """Permanently remove the downloads whose source or path contains all WORDS."""
    with _vault(vault) as kept:
        records = [r for r in kept.records() if all(w in f"{r.source}:{r.path}" for w in words)]
        if not records:
            echo("nothing fits; nothing was removed")
            return
        for record in records[:20]:
            echo(record.name)
        if len(records) > 20:
            echo(f"… and {len(records) - 20} more")
        if not yes:
            click.confirm(f"Remove {quantity(len(records), 'download')} for good?", abort=True)
        echo(f"{len(records)} removed, {kept.forget(records):,} bytes freed")


@vault.command("pack")
@click.argument("file", type=OUTPUT)
@VAULT
def pack_vault(file: Path, vault: Path | None) -> None:
    """Write the whole vault to the archive FILE, for another machine."""
    from ultrum.vault.archive import pack

    with _vault(vault) as kept:
        echo(f"{quantity(pack(kept, file), 'download')} in {file}")


@vault.command("unpack")
@click.argument("file", type=HERE)
@VAULT
def unpack_vault(file: Path, vault: Path | None) -> None:
    """Import the downloads of the archive FILE."""
    from ultrum.vault.archive import unpack

    with _vault(vault, create=True) as kept:
        new, already = unpack(kept, file)
    echo(f"{quantity(new, 'download')} imported, {already} were already in the vault")


@vault.command("export")
@click.argument("address")
@click.argument("file", type=OUTPUT)
@click.option("--at", default="", callback=INSTANT, help="Point-in-time: the download of this day or instant.")
@click.option("--force", is_flag=True, help="Replace FILE if it is there.")
@VAULT
def export_from_vault(address: str, file: Path, at: str, force: bool, vault: Path | None) -> None:
    """Write the file at ADDRESS to FILE, byte for byte as downloaded.

    ADDRESS is one that ``vault list`` prints. Example: ultrum vault export exchange:prices.csv prices.csv
    """
    from datetime import date

    from ultrum.core.time.period_labels_and_relative_dates import resolve_instant
    from ultrum.errors import UltrumError, VaultError
    from ultrum.sources.download_and_limits import Address

    if file.exists() and not force:
        raise click.UsageError(f"{file} exists already; choose another name, or add --force.")
    wanted = Address.parse(address)
    moment = resolve_instant(at, date.today()) if at else ""
    with _vault(vault) as kept:
        record = kept.latest(wanted.source, wanted.path, moment)
        if record is None:
            when = f" as of {at}" if at else ""
            raise VaultError(f"The vault holds no {wanted.source}:{wanted.path}{when}; see: ultrum vault list.")
        body = kept.payload(record)
    try:
        file.write_bytes(body)
    except OSError as error:
        raise UltrumError(f"{file} cannot be written: {error.strerror}.") from error
    echo(f"{file}: {len(body):,} bytes of {record.name}, taken {record.retrieved[:19]}")


def _vault(place: Path | None, *, create: bool = False) -> Vault:
    """The vault in a folder, which must exist unless it can be created."""
    from ultrum.desk.settings import default_vault
    from ultrum.vault.store import Vault

    folder = place or default_vault()
    kept = ("journal.jsonl", "catalogue.sqlite", "payloads")
    if not create and not any((folder / name).exists() for name in kept):
        raise click.UsageError(f"{folder} is not a vault. Check its name, or pull data into it first.")
    return Vault(folder)
