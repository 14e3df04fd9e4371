"""The ``look`` command: a series or a table, transformed, printed and drawn."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Final, cast

import click
from click.core import ParameterSource

from ultrum.cli.options import (
    AT,
    FREQUENCY,
    FROM_SOURCES,
    JSON,
    OUTPUT,
    PERIOD,
    PICTURE,
    READ,
    LocalFiles,
    LookChoices,
    PictureStyle,
    local_files,
    picture_options,
    refuse_inputs,
    refuse_together,
    tables_of,
)
from ultrum.cli.terminal_output import echo
from ultrum.core.presentation import quantity

_UNITS_OF_A_PICTURE: Final = 2
ENVIRONMENT: Final = ParameterSource.ENVIRONMENT

if TYPE_CHECKING:
    import pandas as pd

    from ultrum.core.series.time_series import TimeSeries
    from ultrum.core.transform.aggregation import How
    from ultrum.desk.addresses_and_local_tables import DataSpan, LocalTables
    from ultrum.desk.desk import Desk
    from ultrum.sources.download_and_limits import Address
    from ultrum.sources.table.reading_result import Reading


@click.command()
@click.argument("address")
@click.option("--rows", type=click.IntRange(1, 500), default=5, help="Rows shown at each end.")
@click.option("--picture", type=PICTURE, help="Draw the series to this file: PNG, SVG or PDF.")
@click.option("--csv", "csv_file", type=OUTPUT, help="Write the series to this CSV file.")
@click.option("--page", type=OUTPUT, help="Write an interactive chart of the series: FILE.html.")
@click.option("--start", default="", callback=PERIOD, help="First period, or words such as 'last 10 years'.")
@click.option("--end", default="", callback=PERIOD, help="Last period.")
@click.option("--frequency", default="", callback=FREQUENCY, help="Convert it to this lower frequency.")
@click.option("--how", default=None, help="With --frequency: last, mean, sum …; by default by the measure.")
@click.option(
    "--step",
    "steps",
    multiple=True,
    metavar="STEP",
    help="Transform it: growth=P1Y, rolling=12,how=std, deflate=ADDRESS; may be repeated.",
)
@click.option(
    "--compare-with",
    "compared",
    multiple=True,
    metavar="ADDRESS",
    help="Another series, taken through the same steps and drawn in the same figure.",
)
@click.option("--beside", multiple=True, hidden=True, deprecated="use --compare-with")
@click.option(
    "--spells",
    default="",
    metavar="CONDITION",
    help="List and shade spells: 'below zero', 'above its 90th percentile'.",
)
@click.option(
    "--returns",
    "returns_of",
    default="",
    metavar="FREQUENCY",
    callback=FREQUENCY,
    help="Show prices as returns of this frequency; ADDRESS may be a table of prices.",
)
@click.option("--log", is_flag=True, help="With --returns: log returns.")
@click.option(
    "--figure",
    default=None,
    type=click.Choice(["grid", "histogram", "growth", "drawdown", "risk", "correlations"]),
    help="With --returns: what --picture draws.",
)
@click.option(
    "--workings",
    is_flag=True,
    help="With --returns: the calculation of one asset's volatility; with --frequency: that of the last period.",
)
@click.option("--revised", is_flag=True, help="Show the revisions between the last two vintages.")
@READ
@FROM_SOURCES
@AT
@JSON
@picture_options
def look(
    address: str,
    rows: int,
    picture: Path | None,
    csv_file: Path | None,
    start: str,
    end: str,
    frequency: str,
    how: How | None,
    steps: tuple[str, ...],
    compared: tuple[str, ...],
    beside: tuple[str, ...],
    spells: str,
    revised: bool,
    returns_of: str,
    log: bool,
    figure: str | None,
    workings: bool,
    page: Path | None,
    style: PictureStyle,
    reading: tuple[str, ...],
    as_json: bool,
    vault: Path | None,
    **where: object,
) -> None:
    """Describe the series at ADDRESS, or every series of a table.

    ADDRESS can be a local file, a column of it (prices.csv#close) or a pattern of files (prices/{asset}.csv);
    every option works on all of them. The output has facts, a small chart, first and last values, gaps and
    episodes. Steps are those of a study: to_frequency, disaggregate, growth, difference, rebase, deflate,
    standardise, rolling, innovations, spread, cumulate, lag, fill, splice, to_currency, yield_to_return.
    """
    from ultrum.cli import terminal_output
    from ultrum.cli.look_output import returns_at, show_returns

    compared += beside
    asked = LookChoices(
        rows, picture, csv_file, (start, end, frequency), how, _parse_steps(steps), spells, as_json, page, style
    )
    refuse_together(returns_of, revised, figure, picture, asked, compared)
    if how and not frequency:
        raise click.UsageError("--how needs --frequency.")
    if log and not returns_of:
        raise click.UsageError("--log needs --returns.")
    if workings and not (returns_of or frequency):
        raise click.UsageError("--workings needs --returns or --frequency.")
    if workings and as_json and not returns_of:
        raise click.UsageError("--workings with --json needs --returns.")
    texts = (address, *compared)
    from_vault = bool(revised or where.get("at") or where.get("offline"))
    files = local_files(texts, reading, absolute=from_vault)  # as 'ultrum pull' names them
    refuse_inputs([csv_file, picture, page], texts)
    if files:
        vault = _vault_of_files(vault, from_vault)
    kept = revised or bool(asked.steps and _names_other_series(asked.steps))
    with tables_of(vault, files, texts, kept=kept, **where) as desk:
        if revised:
            table = cast("Desk", desk).revisions(files.address(address))
            terminal_output.as_json(table.to_dict("records")) if as_json else terminal_output.table(table)
            return
        if returns_of:
            return_table = returns_at(desk, files.address(address), returns_of, asked.span[:2], log)
        else:
            _look(desk, files, texts, asked)
            if workings:
                _show_conversion(desk, files.address(address), frequency, how)
    if returns_of:
        _write([return_table[n] for n in return_table.names] if csv_file else [], asked)
        show_returns(return_table, figure, picture, as_json, workings, style)


def _vault_of_files(vault: Path | None, from_vault: bool) -> Path | None:
    """The vault for local files: none where a file is only looked at, unless --vault is on the line."""
    if from_vault:
        from ultrum.desk.settings import default_vault

        return vault or default_vault()
    return None if click.get_current_context().get_parameter_source("vault") is ENVIRONMENT else vault


def _look(desk: Desk | LocalTables, files: LocalFiles, texts: Sequence[str], asked: LookChoices) -> None:
    """One series with its facts, or every series of a table."""
    from ultrum.cli import look_output

    address = files.address(texts[0])
    addressed, reading = _series_at(desk, address, asked)
    others = [one for t in texts[1:] for one in _series_at(desk, files.address(t), asked)[0]]
    whole = reading is not None and "#" not in texts[0]
    if len(addressed) == 1 and not whole:
        facts = _facts(addressed[0][1])
        if reading is None:
            facts = cast("Desk", desk).describe(addressed[0][0]).facts
        series = addressed[0][1]
        _look_at_one(series, [s for _, s in others], {**facts, **_after_steps(series, asked.steps)}, asked)
        if not asked.as_json:
            look_output.show_rejections(reading)
        return
    if asked.spells and len(addressed) != 1:
        raise click.UsageError(
            f"--spells needs one series. Choose one of {len(addressed)}: {texts[0].partition('#')[0]}#"
            f"{addressed[0][1].name if addressed else 'column'}."
        )
    _look_at_many(texts[0], [s for _, s in addressed], [s for _, s in others], reading, asked)


def _series_at(
    desk: Desk | LocalTables, address: str, asked: LookChoices
) -> tuple[list[tuple[str, TimeSeries]], Reading | None]:
    """Series of an address after their steps, with their own addresses, and the decisions of the reader.

    A series of a table that cannot be transformed is omitted with a warning.
    """
    from ultrum.cli import terminal_output
    from ultrum.core.transform.steps import apply_steps
    from ultrum.desk.addresses_and_local_tables import DataSpan
    from ultrum.errors import UltrumError
    from ultrum.sources.download_and_limits import Address

    start, end, frequency = asked.span
    wanted, span = Address.parse(address), DataSpan.of(start, end)
    conversion = {"frequency": frequency} | ({"how": asked.how} if asked.how else {})
    steps = [*([{"to_frequency": conversion}] if frequency else []), *asked.steps]
    reading, series_there = _read(desk, wanted, span, whole=bool(steps))
    data_span = span.from_latest(*series_there)
    shaped: list[tuple[str, TimeSeries]] = []
    faults: list[UltrumError] = []
    for one in series_there:
        try:
            stepped = apply_steps(one, steps, desk.fetch, start=data_span.start, end=data_span.end)
            shaped.append((one.metadata.address or address, stepped))
        except UltrumError as error:
            faults.append(error)
    if faults and not shaped:
        raise faults[0]
    for fault in faults:
        terminal_output.warn(terminal_output.with_options(fault, look), "left out")
    final = span.from_latest(*[s for _, s in shaped])
    return [(a, final.cut(s)) for a, s in shaped], reading


def _read(
    desk: Desk | LocalTables, wanted: Address, span: DataSpan, *, whole: bool
) -> tuple[Reading | None, list[TimeSeries]]:
    """The decisions of the reader of a table, and every series of an address, before the span is cut."""
    from ultrum.desk.addresses_and_local_tables import LocalTables

    if not isinstance(desk, LocalTables):
        settings = desk.repository.settings_of(wanted)
        if settings.kind == "sdmx" or wanted.path in settings.snapshots:
            return None, desk.repository.series_within(str(wanted), span, whole=whole)
    from ultrum.desk.addresses_and_local_tables import column_of

    reading = desk.table(f"{wanted.source}:{wanted.path}")
    return reading, [column_of(reading, wanted)] if wanted.field else list(reading.series.values())


def _names_other_series(steps: Sequence[dict[str, object]]) -> bool:
    from ultrum.core.transform.steps import names_other_series

    return names_other_series(steps)


def _write_page(series_list: Sequence[TimeSeries], asked: LookChoices) -> None:
    """The interactive chart of the series, if requested."""
    if asked.page is None:
        return
    from ultrum.report.interactive_page import series_page

    asked.page.write_text(series_page(series_list, asked.style.title), encoding="utf-8")


def _show_conversion(desk: Desk | LocalTables, address: str, frequency: str, how: How | None) -> None:
    """Calculation of the last complete period of a lower frequency."""
    from ultrum.cli.estimate_output import print_workings
    from ultrum.core.workings_of_results import conversion_workings

    print_workings(conversion_workings(desk.fetch(address), frequency, how=how))


def _look_at_one(
    series: TimeSeries, others: Sequence[TimeSeries], facts: dict[str, str], asked: LookChoices
) -> None:
    from ultrum.cli import look_output, terminal_output

    spell_table = _spells_of(series, asked.spells)
    _write([series, *others] if asked.csv_file else [], asked)
    _write_page([series, *others], asked)
    _draw([series, *others], spell_table, asked)
    if asked.as_json:
        listed = {} if spell_table is None else {"spells": spell_table.to_dict("records")}
        terminal_output.as_json({"facts": facts, "values": dict(look_output.values_by_period(series)), **listed})
        return
    look_output.show_series(series, facts, asked.rows)
    if spell_table is not None:
        _show_spells(spell_table)


def _draw(lines: Sequence[TimeSeries], spells: pd.DataFrame | None, asked: LookChoices) -> None:
    """One picture of the series; those of more than two units get a panel each."""
    if not asked.picture:
        return
    from ultrum.report import figures
    from ultrum.report.figures.series_figures import unit_in_words

    units = {unit_in_words(s.metadata) for s in lines}
    if len(units) <= _UNITS_OF_A_PICTURE:
        asked.style.write(
            lambda: figures.through_time(*lines, shade=spells, title=asked.style.title), asked.picture
        )
    else:
        asked.style.write(lambda: figures.small_multiples(lines, title=asked.style.title)[0], asked.picture)


def _look_at_many(
    name: str,
    series_list: Sequence[TimeSeries],
    others: Sequence[TimeSeries],
    reading: Reading | None,
    asked: LookChoices,
) -> None:
    """Every series of a table: written, drawn, printed."""
    from ultrum.cli import look_output, terminal_output
    from ultrum.desk.column_names import unique_headings

    every = [*series_list, *others]
    spells = _spells_of(series_list[0], asked.spells) if asked.spells else None
    names = unique_headings(every, [s.name for s in every])
    _write(every, asked)
    _write_page(every, asked)
    _draw(every, spells, asked)
    if asked.as_json:
        terminal_output.as_json(
            {
                "series": look_output.summary_rows(every, names),
                "values": {n: dict(look_output.values_by_period(s)) for n, s in zip(names, every, strict=True)},
                "decisions": [vars(d) for d in reading.decisions] if reading else [],
                "rejected": [vars(r) for r in reading.rejected] if reading else [],
                "account": [vars(r) for r in reading.lines] if reading else [],
                "columns": [vars(c) for c in reading.cells()] if reading else [],
                **({} if spells is None else {"spells": spells.to_dict("records")}),
            }
        )
        return
    look_output.show_table(name, every, names, reading, asked.rows)
    if spells is not None:
        _show_spells(spells)


def _write(series: Sequence[TimeSeries], asked: LookChoices) -> None:
    """All series as columns of the requested CSV file."""
    if not asked.csv_file or not series:
        return
    import pandas as pd

    from ultrum.desk.column_names import unique_headings, unit_in_brackets
    from ultrum.report.table_files import to_csv

    names = unique_headings(series, [f"{s.name}{unit_in_brackets(s)}" for s in series])
    to_csv(pd.concat([s.values for s in series], axis=1, keys=names).sort_index(), asked.csv_file)


def _facts(series: TimeSeries) -> dict[str, str]:
    """Facts of a series of a table."""
    from ultrum.desk.describe_and_revisions import Description

    return Description(series, "", "").facts


def _show_spells(spell_table: pd.DataFrame) -> None:
    from ultrum.cli import look_output, terminal_output

    level = look_output.number(spell_table.attrs["level"])
    echo(f"{quantity(len(spell_table), 'episode')} {spell_table.attrs['condition']} (threshold {level})")
    if len(spell_table):
        terminal_output.table(spell_table)


def _parse_steps(steps: Sequence[str]) -> list[dict[str, object]]:
    """Steps as data; an invalid one is a usage error."""
    from ultrum.core.transform.steps import parse_step
    from ultrum.errors import UnitError

    try:
        return [parse_step(step) for step in steps]
    except UnitError as error:
        raise click.UsageError(str(error)) from error


def _spells_of(series: TimeSeries, condition: str) -> pd.DataFrame | None:
    from ultrum.core.transform.lags_fills_innovations_spells import spells

    return spells(series, condition) if condition else None


def _after_steps(series: TimeSeries, steps: list[dict[str, object]]) -> dict[str, str]:
    """Metadata changed by steps."""
    if not steps:
        return {}
    from ultrum.core.time.period_labels_and_relative_dates import period_label

    metadata, valid = series.metadata, series.values.dropna().index
    ends = [period_label(valid[k]) for k in (0, -1)] if len(valid) else ["—", "—"]
    return {
        "steps": "; ".join(str(step) for step in metadata.trail[-len(steps) :]),
        "frequency": metadata.frequency.name,
        "measure": metadata.measure or "unknown",
        "unit": metadata.currency or metadata.unit or "unknown",
        "timing": metadata.timing or "unknown",
        "base period": metadata.base_period or "—",
        "first": ends[0],
        "last": ends[1],
        "values": f"{len(valid)} of {quantity(len(series), 'period')}",
    }
