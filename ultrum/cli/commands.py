"""The commands. Each parses, calls one thing in the library, and shows what came back."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from ultrum.core.series import TimeSeries
    from ultrum.desk import Desk
    from ultrum.study import StudyResult

_HERE = click.Path(path_type=Path)
_JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON instead of a table.")
_OFFLINE = click.option("--offline", is_flag=True, help="Take everything from the vault.")
_VAULT = click.option("--vault", type=_HERE, envvar="ULTRUM_VAULT", help="Folder of the vault.")
_SOURCES = click.option(
    "--sources",
    type=_HERE,
    help="TOML file with [sources.NAME] tables, such as a study; by default ultrum.toml here.",
)
_PRACTICE = click.option(
    "--practice", "on_practice", is_flag=True, help="Use the practice world instead of --sources."
)


@click.command()
@click.option(
    "--out", type=_HERE, default=Path("ultrum-demo"), help="Folder for vault and results."
)
@_OFFLINE
@_JSON
def demo(out: Path, offline: bool, as_json: bool) -> None:
    """Run the shipped study on the practice world, from live services to a report page."""
    from ultrum.practice import demo_study
    from ultrum.study import Study

    study = Study.load(demo_study())
    with _practice_service() as service:
        _run_and_show(study.with_sources_at(service.places), out / "results", out / "vault",
                      offline, as_json)  # fmt: skip


@click.command()
@click.argument("study", type=_HERE)
@click.option("--out", type=_HERE, help="Folder for the results; by default STUDY-results.")
@click.option("--check", is_flag=True, help="Only check the study; download nothing.")
@_VAULT
@_OFFLINE
@_JSON
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
@click.argument("words", nargs=-1)
@_SOURCES
@_PRACTICE
@_VAULT
@_OFFLINE
@_JSON
def find(words: tuple[str, ...], as_json: bool, **where: Any) -> None:
    """Search the sources' catalogues for series that have all WORDS."""
    from ultrum.cli import show
    from ultrum.errors import SourceError

    with _desk(**where) as desk:
        found = desk.search(" ".join(words))
    if found.empty:
        raise SourceError(f"Nothing has '{' '.join(words)}'. Try fewer or other words, or none.")
    show.as_json(found.to_dict("records")) if as_json else show.table(found)


@click.command()
@click.argument("addresses", nargs=-1, required=True)
@click.option("--csv", "csv_file", type=_HERE, help="Write the series side by side to this file.")
@_SOURCES
@_PRACTICE
@_VAULT
@_OFFLINE
@_JSON
def pull(addresses: tuple[str, ...], csv_file: Path | None, as_json: bool, **where: Any) -> None:
    """Fetch the series at ADDRESSES into the vault; a key may have wildcards."""
    import pandas as pd

    from ultrum.cli import show
    from ultrum.cli.exits import PartlyDoneError
    from ultrum.errors import SourceError, UltrumError

    taken: list[TimeSeries] = []
    failed: list[dict[str, str]] = []
    with _desk(**where) as desk:
        for address in addresses:
            try:
                found = [desk.fetch(address)] if "#" in address else desk.fetch_all(address)
            except UltrumError as error:
                failed.append({"address": address, "failed": str(error)})
                continue
            taken += found
    if not taken:
        raise SourceError("\n".join(row["failed"] for row in failed))
    if csv_file:
        _write_side_by_side(taken, csv_file)
    rows = [_facts(series) for series in taken]
    show.as_json([*rows, *failed]) if as_json else show.table(pd.DataFrame(rows))
    for row in failed:
        click.echo(f"failed: {row['failed']}", err=True)
    if failed:
        raise PartlyDoneError


@click.command()
@click.argument("address")
@click.option("--rows", type=click.IntRange(1, 500), default=5, help="Rows shown at each end.")
@click.option("--picture", type=_HERE, help="Draw the series into this PNG file.")
@_SOURCES
@_PRACTICE
@_VAULT
@_OFFLINE
@_JSON
def look(address: str, rows: int, picture: Path | None, as_json: bool, **where: Any) -> None:
    """Show what the series at ADDRESS is: facts, first and last values, gaps, trail."""
    from ultrum.cli import show

    with _desk(**where) as desk:
        series = desk.fetch(address)
    if picture:
        from ultrum.present import figures

        figures.to_png(figures.through_time(series), picture)
    if as_json:
        show.as_json({**_facts(series), "values": dict(_labelled(series))})
        return
    _look(series, rows)


@click.command()
@click.option("--port", default=8765, show_default=True, help="Port on 127.0.0.1 to listen on.")
def practice(port: int) -> None:
    """Serve the practice world on loopback until stopped with Ctrl-C."""
    import threading

    with _practice_service(port) as service:
        for name, place in service.places.items():
            click.echo(f"{name:12s} {place}")
        click.echo("Serving until Ctrl-C.", err=True)
        with contextlib.suppress(KeyboardInterrupt):
            threading.Event().wait()


def _practice_service(port: int = 0) -> Any:
    from ultrum.practice import serve

    return serve(port)


@contextlib.contextmanager
def _desk(
    sources: Path | None, on_practice: bool, vault: Path | None, offline: bool
) -> Iterator[Desk]:
    """A desk on the sources named, or on the practice world, with progress on stderr."""
    from ultrum.cli import show
    from ultrum.desk import Desk

    with contextlib.ExitStack() as stack:
        tell = stack.enter_context(show.progress())
        if on_practice:
            from ultrum.practice import sources_at

            service = stack.enter_context(_practice_service())
            said, vault = sources_at(service.places), vault or Path("ultrum-demo/vault")
        else:
            said = _sources_from(sources)
        yield stack.enter_context(Desk(vault, sources=said, offline=offline, progress=tell))


def _sources_from(file: Path | None) -> dict[str, Any]:
    """The [sources] of a TOML file."""
    import tomllib

    place = file or Path("ultrum.toml")
    try:
        said = tomllib.loads(place.read_text(encoding="utf-8")).get("sources", {})
    except OSError as error:
        raise click.UsageError(
            f"No sources: {place} cannot be read ({error.strerror}). Name a file with --sources, or "
            "try the practice world with --practice."
        ) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise click.UsageError(f"{place} is not TOML: {error}.") from None
    if not said:
        raise click.UsageError(f"{place} has no [sources.NAME] table.")
    return dict(said)


def _run_and_show(study: Any, out: Path, vault: Path | None, offline: bool, as_json: bool) -> None:
    from ultrum.cli import show
    from ultrum.present.report import write_results
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


def _facts(series: TimeSeries) -> dict[str, Any]:
    from ultrum.core.series import period_label

    about = series.about
    return {
        "address": about.address or about.name,
        "title": about.title,
        "frequency": about.frequency.name,
        "first": period_label(series.index[0]),
        "last": period_label(series.index[-1]),
        "values": int(series.values.notna().sum()),
    }


def _labelled(series: TimeSeries) -> list[tuple[str, float]]:
    from ultrum.core.series import period_label

    return [(period_label(i), float(v)) for i, v in series.values.items()]


def _look(series: TimeSeries, rows: int) -> None:
    """Facts, both ends, a summary and the trail of one series."""
    import pandas as pd

    from ultrum.cli import show

    about, values = series.about, series.values
    said: list[tuple[str, str]] = [
        ("title", about.heading),
        ("address", about.address),
        ("frequency", about.frequency.name),
        ("measure", f"{about.measure or 'not said'}, {about.unit or 'unit not said'}"),
        ("timing", about.timing or "not said"),
        ("values", f"{values.notna().sum()} of {len(values)} periods"),
        ("mean", f"{values.mean():.6g}"),
        ("lowest", f"{values.min():.6g}"),
        ("highest", f"{values.max():.6g}"),
        ("trail", "; ".join(map(str, about.trail))),
    ]
    for name, text in said:
        click.echo(f"{name:10s} {text}")
    pairs = _labelled(series)
    shown = (
        pairs if len(pairs) <= 2 * rows else [*pairs[:rows], ("…", float("nan")), *pairs[-rows:]]
    )
    frame = pd.DataFrame(shown, columns=["period", about.name])
    frame[about.name] = ["…" if p == "…" else _number(v) for p, v in shown]
    show.table(frame)


def _number(value: float) -> str:
    return "missing" if value != value else f"{value:.8g}"  # noqa: PLR0124 - NaN differs from itself


def _write_side_by_side(series: list[TimeSeries], file: Path) -> None:
    from ultrum.core.series import SeriesTable
    from ultrum.present.export import to_csv

    named = [s.described(name=s.about.address or s.name) for s in series]
    to_csv(SeriesTable.of(named).to_frame(), file)
