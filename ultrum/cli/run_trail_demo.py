"""Commands that run whole jobs: the demo, a study, the practice services."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import click

from ultrum.cli.options import AT, BIND, CREDENTIALS, FOLDER, HERE, JSON, OFFLINE, OUTPUT, PERIOD, VAULT, store_of
from ultrum.cli.terminal_output import echo
from ultrum.core.presentation import decimals, percent

if TYPE_CHECKING:
    from ultrum.core.pricing.cost_of_equity_result import CostOfEquity
    from ultrum.practice.service import Service
    from ultrum.sources.credentials import CredentialStore
    from ultrum.study.provenance import RunRecord
    from ultrum.study.run import StudyResult
    from ultrum.study.schema import Study


_RUN_SO: Final = "\b\n" + "\n".join(
    (
        "ultrum run allowed.toml",
        "ultrum run allowed.toml --only BRTW --only EBMK",
        "ultrum run allowed.toml --at 2024-03-31 --out march",
    )
)
_TRAIL_SO: Final = "\b\n" + "\n".join(
    ("ultrum trail allowed-results", 'ultrum trail allowed-results "models.one factor.BRTW.market"')
)


@click.command()
@click.option("--out", type=FOLDER, default=Path("ultrum-demo"), help="Folder for vault and results.")
@OFFLINE
@JSON
def demo(out: Path, offline: bool, as_json: bool) -> None:
    """Run the shipped study on the practice data, from local services to a report page."""
    from ultrum.practice import demo_study
    from ultrum.study.schema import Study

    study = Study.load(demo_study())
    with practice_service() as service:
        _run_and_show(study.with_sources_at(service.places), out / "results", out / "vault", offline, as_json)


@click.command(epilog=_RUN_SO)
@click.argument("study", type=HERE)
@click.option("--out", type=FOLDER, help="Folder for the results; by default STUDY-results.")
@click.option("--check", is_flag=True, help="Check the study and its local files; download and run nothing.")
@click.option("--only", multiple=True, metavar="ASSET", help="Use only these assets, to try out a study.")
@click.option("--bundle", type=OUTPUT, help="Also pack the study, its downloads and the run into this archive.")
@click.option("--anywhere", is_flag=True, help="Allow the study to read files outside its own folder.")
@click.option(
    "--refresh", is_flag=True, help="Download everything again, even where the source reports no change."
)
@click.option("--recompute", is_flag=True, help="Compute every stage again; use no stored stages.")
@CREDENTIALS
@BIND
@VAULT
@OFFLINE
@AT
@JSON
def run(
    study: Path,
    out: Path | None,
    check: bool,
    only: tuple[str, ...],
    bundle: Path | None,
    anywhere: bool,
    refresh: bool,
    recompute: bool,
    credentials_file: Path | None,
    bind: tuple[str, ...],
    vault: Path | None,
    offline: bool,
    at: str,
    as_json: bool,
) -> None:
    """Run the study file STUDY, or a bundle, and write its report and tables.

    Only what has changed since the last run is computed again, and the changes are printed. With --at the run
    uses the data as downloaded up to that day (point-in-time).
    """
    from ultrum.study.schema import Study

    if study.suffix == ".zip":
        from ultrum.study.bundles_and_changes import run_of, unbundle

        theirs = run_of(study)
        place = out or Path(f"{study.stem}-bundle")
        plan, vault = unbundle(study, place)
        _run_and_show(plan, place / "results", vault, True, as_json, before=(theirs, "the run in the bundle"))
        return
    plan = Study.load(study, anywhere=anywhere)
    if check:
        from ultrum.study.own_files import check_files

        check_files(plan, study.read_text(encoding="utf-8"), str(study))
        echo(f"{study}: valid.")
        return
    if bundle is not None:
        from ultrum.study.bundles_and_changes import free_name

        free_name(bundle)
    plan = plan.for_assets(only) if only else plan
    place = out or Path(f"{study.stem}-results")
    _run_and_show(
        plan,
        place,
        vault,
        offline,
        as_json,
        at or None,
        not recompute,
        bundle,
        refresh=refresh,
        store=store_of(credentials_file, bind),
    )


@click.command(epilog=_TRAIL_SO)
@click.argument("results", type=HERE)
@click.argument("number", default="")
@JSON
def trail(results: Path, number: str, as_json: bool) -> None:
    """Show the provenance of NUMBER: stages, downloads, checksums, and how to reproduce it.

    RESULTS is the folder of a run. NUMBER is a name, or a printed value such as 6.22. Without it the answer of
    the run is shown.
    """
    from ultrum.cli import terminal_output
    from ultrum.study.provenance import answer_of, read_run
    from ultrum.study.provenance import trail as trail_of

    number_trail = trail_of(results, number or answer_of(read_run(results)))
    if as_json:
        terminal_output.as_json(number_trail.to_dict())
        return
    for line in number_trail.lines():
        echo(line)


@click.command()
@click.option(
    "--port",
    type=click.IntRange(0, 65_535),
    default=8765,
    show_default=True,
    help="Port on 127.0.0.1 to listen on.",
)
@click.option("--delay", type=click.FloatRange(0, 600), default=0.0, help="Delay of every answer, in seconds.")
@click.option("--today", default="", callback=PERIOD, help="Date shown by the page of today's rate.")
@click.option(
    "--fault",
    multiple=True,
    help="Simulate a fault: slow, busy, unavailable, cut, mistyped, moved, locked or revised, for every "
    "request, or KIND:TEXT for those whose path holds TEXT.",
)
def practice(port: int, delay: float, today: str, fault: tuple[str, ...]) -> None:
    """Serve the practice data on loopback until Ctrl-C."""
    import signal
    import threading

    if math.isnan(delay):  # no range refuses it
        raise click.BadParameter("'nan' is not a number of seconds.", param_hint="--delay")
    signal.signal(signal.SIGINT, signal.default_int_handler)  # a shell's background jobs ignore it
    with practice_service(port, delay=delay, today=today) as service:
        for word in fault:
            kind, _, path = word.partition(":")
            service.add_fault(kind, path, times=-1)
        for name, place in service.places.items():
            echo(f"{name:12s} {place}")
        echo("Serving until Ctrl-C.", err=True)
        with contextlib.suppress(KeyboardInterrupt):
            threading.Event().wait()


def practice_service(port: int = 0, *, delay: float = 0.0, today: str = "") -> Service:
    """The practice services, imported on use."""
    from ultrum.practice import serve

    return serve(port, delay=delay, today=today) if today else serve(port, delay=delay)


def _run_and_show(
    study: Study,
    out: Path,
    vault: Path | None,
    offline: bool,
    as_json: bool,
    at: str | None = None,
    keep: bool = True,
    packed: Path | None = None,
    before: tuple[RunRecord, str] | None = None,
    refresh: bool = False,
    store: CredentialStore | None = None,
) -> None:
    from ultrum.cli import terminal_output
    from ultrum.cli.terminal_output import PartlyDoneError
    from ultrum.report.result_files import PartlyWrittenError, process_for, write_results
    from ultrum.study.bundles_and_changes import changes
    from ultrum.study.provenance import run_facts
    from ultrum.study.run import run as run_of_study

    before = before or _last_run(out)
    with terminal_output.progress() as tell, process_for(study, out) as process:
        result = run_of_study(
            study,
            vault=vault,
            offline=offline,
            at=at,
            keep=keep,
            refresh=refresh,
            progress=tell,
            credentials=store,
        )
        tell("writing the report")
        failed = ""
        try:
            places = write_results(result, out, process)
        except PartlyWrittenError as error:
            places, failed = error.places, str(error)
        if packed is not None:
            from ultrum.desk.settings import default_vault
            from ultrum.study.bundles_and_changes import bundle

            places["bundle"] = bundle(result, vault or default_vault(), packed)
    moved = None if before is None else changes(before[0], run_facts(result), before[1], _bytes_in(vault))
    summary = _summary(result)
    if as_json:
        more = (
            {}
            if moved is None
            else {
                "revised": moved.revised,
                "cells_revised": moved.cells.to_dict("records"),
                "settings_changed": list(moved.settings.index),
                "numbers_moved": len(moved.moved),
                "numbers_added": len(moved.added),
                "numbers_removed": len(moved.removed),
            }
        )
        terminal_output.as_json({**summary, **more, "places": places})
    else:
        _print_summary(result, summary, places)
        if moved is not None:
            echo(repr(moved))
    if failed:
        terminal_output.warn(failed, "failed")
        raise PartlyDoneError


def _bytes_in(vault: Path | None) -> Callable[[str], bytes | None]:
    """Bytes of downloads by checksum, from a vault."""
    from ultrum.desk.settings import default_vault
    from ultrum.errors import VaultError
    from ultrum.vault.journal_and_payload_files import Payloads

    payloads = Payloads(Path(vault or default_vault()) / "payloads")

    def _find(checksum: str) -> bytes | None:
        try:
            return payloads.read(checksum, checksum)
        except VaultError:
            return None

    return _find


def _last_run(out: Path) -> tuple[RunRecord, str] | None:
    """The record and the label of the last run in a folder, if there is one."""
    from ultrum.errors import StudyError
    from ultrum.study.provenance import read_run

    try:
        return read_run(out), "the last run"
    except StudyError:
        return None


def _summary(result: StudyResult) -> dict[str, object]:
    """The answer and the numbers behind it, in decimals."""
    betas, company = result.betas, result.company
    fit = betas.fit(company)
    cost = {} if result.cost is None else _cost_of(result.cost, company, result.study.report.level)
    return {
        "title": result.study.study.title,
        "company": company,
        **cost,
        "coefficients": betas.coefficients.loc[company].to_dict(),
        "standard_errors": betas.standard_errors.loc[company].to_dict(),
        "rows": fit.nobs,
        "dropped": dict(fit.dropped),
        "warnings": [vars(w) for w in result.warnings],
        "run": result.run,
        "specifications": len(result.specifications),
    }


def _cost_of(cost: CostOfEquity, company: str, level: float) -> dict[str, object]:
    """The cost of equity of a company, in decimals."""
    bounds = cost.interval(level).loc[company]
    return {
        "cost_of_equity": cost.value[company],
        "low": bounds["low"],
        "high": bounds["high"],
        "level": level,
        "standard_error": cost.standard_error[company],
        "risk_free": cost.risk_free,
    }


def _betas_in_words(summary: dict[str, Any]) -> str:
    """Betas with standard errors in parentheses."""
    errors = summary["standard_errors"]
    betas = {t: v for t, v in summary["coefficients"].items() if t != "constant"}
    return ", ".join(f"{t} {decimals(v, 4)} ({decimals(errors[t], 4)})" for t, v in betas.items())


def _print_summary(result: StudyResult, summary: dict[str, Any], places: dict[str, Path]) -> None:
    from ultrum.cli import terminal_output
    from ultrum.study.result_checks import search_in_words

    echo(summary["title"])
    if "cost_of_equity" in summary:
        value, low, high = (percent(summary[k]) for k in ("cost_of_equity", "low", "high"))
        echo(
            f"Cost of equity of {summary['company']}: {value} % per year, "
            f"{100 * summary['level']:g} % interval {low} to {high} %"
        )
    fit = result.betas.fit(result.company)
    terminal_output.table(terminal_output.align_decimals(fit.to_frame(), "term", p=3, t=2))
    echo(fit.basis)
    if result.betas.unadjusted is not None:
        echo(f"Vasicek-adjusted (shrunk to the cross-sectional mean): {_betas_in_words(summary)}")
    for warning in result.warnings:
        terminal_output.warn(f"{warning.subject}: {warning.text}")
    if len(result.specifications) > 1:
        echo(search_in_words(result.specifications, result.company))
    for name, place in places.items():
        echo(f"{name:8s} {place}")
