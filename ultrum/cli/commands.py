"""The commands that run whole jobs: the demo, a study, the practice services."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ultrum.cli.options import HERE, JSON, OFFLINE, VAULT

if TYPE_CHECKING:
    from ultrum.study import StudyResult


@click.command()
@click.option("--out", type=HERE, default=Path("ultrum-demo"), help="Folder for vault and results.")
@OFFLINE
@JSON
def demo(out: Path, offline: bool, as_json: bool) -> None:
    """Run the shipped study on the practice world, from live services to a report page."""
    from ultrum.practice import demo_study
    from ultrum.study import Study

    study = Study.load(demo_study())
    with practice_service() as service:
        _run_and_show(study.with_sources_at(service.places), out / "results", out / "vault",
                      offline, as_json)  # fmt: skip


@click.command()
@click.argument("study", type=HERE)
@click.option("--out", type=HERE, help="Folder for the results; by default STUDY-results.")
@click.option("--check", is_flag=True, help="Only check the study; download nothing.")
@VAULT
@OFFLINE
@JSON
def run(
    study: Path, out: Path | None, check: bool, vault: Path | None, offline: bool, as_json: bool
) -> None:
    """Run the study file STUDY and write its report and tables."""
    from ultrum.study import Study

    plan = Study.load(study)
    if check:
        click.echo(f"{study}: valid.")
        return
    _run_and_show(plan, out or Path(f"{study.stem}-results"), vault, offline, as_json)


@click.command()
@click.option("--port", default=8765, show_default=True, help="Port on 127.0.0.1 to listen on.")
@click.option("--delay", default=0.0, help="Seconds every answer takes longer.")
@click.option("--today", default="", help="Day that the page of today shows.")
@click.option(
    "--misbehave",
    multiple=True,
    help="Answer badly: slow, busy, unavailable, cut, mistyped, moved, locked or revised, for every "
    "request, or KIND:TEXT for those whose path holds TEXT.",
)
def practice(port: int, delay: float, today: str, misbehave: tuple[str, ...]) -> None:
    """Serve the practice world on loopback until stopped with Ctrl-C."""
    import threading

    said = {"delay": delay, **({"today": today} if today else {})}
    with practice_service(port, **said) as service:
        for word in misbehave:
            kind, _, path = word.partition(":")
            service.misbehave(kind, path, times=-1)
        for name, place in service.places.items():
            click.echo(f"{name:12s} {place}")
        click.echo("Serving until Ctrl-C.", err=True)
        with contextlib.suppress(KeyboardInterrupt):
            threading.Event().wait()


def practice_service(port: int = 0, **said: Any) -> Any:
    """The practice services, imported when they are wanted."""
    from ultrum.practice import serve

    return serve(port, **said)


def _run_and_show(study: Any, out: Path, vault: Path | None, offline: bool, as_json: bool) -> None:
    from ultrum.cli import show
    from ultrum.present.result_files import write_results
    from ultrum.study import run_study

    with show.progress() as tell:
        result = run_study(study, vault=vault, offline=offline, progress=tell)
        tell("writing the report")
        places = write_results(result, out)
    summary = _summary(result)
    if as_json:
        show.as_json({**summary, "places": places})
        return
    _print_summary(result, summary, places)


def _summary(result: StudyResult) -> dict[str, Any]:
    """The answer and the numbers behind it, in decimals."""
    fit, company = result.betas.fit(result.company), result.company
    bounds = result.cost.interval(result.study.report.level).loc[company]
    return {
        "title": result.study.study.title,
        "company": company,
        "cost_of_equity": result.cost.value[company],
        "low": bounds["low"],
        "high": bounds["high"],
        "level": result.study.report.level,
        "standard_error": result.cost.standard_error[company],
        "risk_free": result.cost.risk_free,
        "coefficients": fit.coefficients.to_dict(),
        "standard_errors": fit.standard_errors.to_dict(),
        "rows": fit.nobs,
        "lost": dict(fit.lost),
        "warnings": [vars(w) for w in result.warnings],
        "run": result.run,
    }


def _print_summary(result: StudyResult, summary: dict[str, Any], places: dict[str, Path]) -> None:
    from ultrum.cli import show

    percent = {k: f"{100 * summary[k]:.2f}" for k in ("cost_of_equity", "low", "high")}
    click.echo(summary["title"])
    click.echo(
        f"Cost of equity of {summary['company']}: {percent['cost_of_equity']} % a year, "
        f"{100 * summary['level']:g} % interval {percent['low']} to {percent['high']} %"
    )
    fit = result.betas.fit(result.company)
    show.table(show.fixed(fit.to_frame(), "term", p=3, t=2))
    click.echo(fit.basis)
    for warning in result.warnings:
        show.warn(f"{warning.subject}: {warning.text}")
    for name, place in places.items():
        click.echo(f"{name:8s} {place}")
