"""The command that looks: what a series is, shaped on the way, printed and drawn."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ultrum.cli.options import (
    AT,
    FREQUENCY,
    HERE,
    JSON,
    OFFLINE,
    PERIOD,
    PRACTICE,
    SOURCES,
    VAULT,
    desk_of,
)

if TYPE_CHECKING:
    import pandas as pd

    from ultrum.core.series import TimeSeries
    from ultrum.desk import Desk


@click.command()
@click.argument("address")
@click.option("--rows", type=click.IntRange(1, 500), default=5, help="Rows shown at each end.")
@click.option("--picture", type=HERE, help="Draw the series into this PNG file.")
@click.option("--csv", "csv_file", type=HERE, help="Write the series to this CSV file.")
@click.option(
    "--start", default="", callback=PERIOD, help="First period, or words such as 'last 10 years'."
)
@click.option("--end", default="", callback=PERIOD, help="Last period.")
@click.option(
    "--frequency", default="", callback=FREQUENCY, help="Bring it to this lower frequency."
)
@click.option(
    "--step",
    "steps",
    multiple=True,
    metavar="STEP",
    help="Shape it: growth=P1Y, roll=12,how=deviation, deflate=ADDRESS; may be repeated.",
)
@click.option(
    "--beside",
    multiple=True,
    metavar="ADDRESS",
    help="Another series, taken through the same steps and drawn beside it.",
)
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
    help="Show prices as returns of this frequency; ADDRESS may be a whole table of prices.",
)
@click.option(
    "--figure",
    default=None,
    type=click.Choice(["grid", "histogram", "growth", "drawdown", "risk", "correlations"]),
    help="With --returns: what --picture draws.",
)
@click.option("--revised", is_flag=True, help="What was revised between the last two vintages.")
@SOURCES
@PRACTICE
@VAULT
@OFFLINE
@AT
@JSON
def look(
    address: str, rows: int, picture: Path | None, csv_file: Path | None, start: str, end: str,
    frequency: str, steps: tuple[str, ...], beside: tuple[str, ...], spells: str, revised: bool,
    returns_of: str, figure: str | None, as_json: bool, **where: Any,
) -> None:  # fmt: skip
    """Show what the series at ADDRESS is, or what a file of tables holds.

    Facts, a small picture, first and last values, gaps, spells. ADDRESS may be a local file. Steps are those
    of a study: to_frequency, disaggregate, growth, difference, rebase, deflate, standardise, roll,
    innovations, spread, cumulate, lag, fill, splice, to_currency, per_period.
    """
    from ultrum.cli import show
    from ultrum.cli.returns_view import returns_at, show_returns

    if ":" not in address and Path(address).is_file():
        _look_at_file(address, as_json)
        return
    said = _parsed(steps)
    with desk_of(**where) as desk:
        if revised:
            table = desk.revisions(address)
            show.as_json(table.to_dict("records")) if as_json else show.table(table)
            return
        if returns_of:
            made = returns_at(desk, address, returns_of)
        else:
            description = desk.describe(address)
            series, *others = _shaped(desk, (address, *beside), (start, end, frequency), said)
    if returns_of:
        show_returns(made, figure, picture, as_json)
        return
    found = _spells_of(series, spells)
    if csv_file:
        from ultrum.present.export import to_csv

        to_csv(series.to_frame(), csv_file)
    if picture:
        from ultrum.present import figures

        figures.to_png(figures.through_time(series, *others, shade=found), picture)
    facts = {**description.facts, **_after_steps(series, said)}
    if as_json:
        listed = {} if found is None else {"spells": found.to_dict("records")}
        show.as_json({"facts": facts, "values": dict(_labelled(series)), **listed})
        return
    _look(series, facts, rows)
    if found is not None:
        _show_spells(found)


def _show_spells(found: pd.DataFrame) -> None:
    from ultrum.cli import show

    level = _number(found.attrs["level"])
    click.echo(f"{len(found)} spells {found.attrs['condition']} (level {level})")
    if len(found):
        show.table(found)


def _parsed(steps: Sequence[str]) -> list[dict[str, Any]]:
    """Steps as data; a wrong one is a fault of the asker."""
    from ultrum.core.steps import parse_step
    from ultrum.errors import UnitError

    try:
        return [parse_step(step) for step in steps]
    except UnitError as error:
        raise click.UsageError(str(error)) from None


def _shaped(
    desk: Desk, addresses: Sequence[str], span: tuple[str, str, str], steps: list[dict[str, Any]]
) -> list[TimeSeries]:
    from ultrum.core.steps import apply_steps

    start, end, frequency = span
    return [
        apply_steps(
            desk.fetch(a, start=start, end=end, frequency=frequency or None), steps, desk.fetch
        )
        for a in addresses
    ]


def _spells_of(series: TimeSeries, condition: str) -> pd.DataFrame | None:
    from ultrum.core.transform.spells import spells

    return spells(series, condition) if condition else None


def _after_steps(series: TimeSeries, steps: list[dict[str, Any]]) -> dict[str, str]:
    """Facts that steps have changed."""
    if not steps:
        return {}
    from ultrum.core.labels import period_label

    about, known = series.about, series.values.dropna().index
    ends = [period_label(known[k]) for k in (0, -1)] if len(known) else ["—", "—"]
    return {
        "steps": "; ".join(str(step) for step in about.trail[-len(steps) :]),
        "frequency": about.frequency.name,
        "measure": about.measure or "unknown",
        "unit": about.currency or about.unit or "unknown",
        "timing": about.timing or "unknown",
        "base period": about.base_period or "—",
        "first": ends[0],
        "last": ends[1],
        "values": f"{len(known)} of {len(series)} periods",
    }


def _look_at_file(name: str, as_json: bool) -> None:
    """What the reader makes of a local file."""
    import pandas as pd

    from ultrum.cli import show
    from ultrum.core.labels import period_label
    from ultrum.sources.table import read_series

    reading = read_series(name)
    rows = [
        {"series": key, "frequency": s.about.frequency.name, "unit": s.about.currency or s.about.unit,
         "first": period_label(s.index[0]), "last": period_label(s.index[-1]),
         "values": int(s.values.notna().sum()), "gaps": _gaps(s)}
        for key, s in reading.series.items()
    ]  # fmt: skip
    decisions = [vars(d) for d in reading.decisions]
    rejected = [vars(r) for r in reading.rejected]
    if as_json:
        show.as_json({"series": rows, "decisions": decisions, "rejected": rejected})
        return
    click.echo(f"{name}: {len(rows)} series, {len(reading.records)} rows, {len(rejected)} rejected")
    show.table(pd.DataFrame(decisions)[["what", "chosen", "certainty"]])
    if rows:
        show.table(pd.DataFrame(rows))
    for row in reading.rejected:
        show.warn(f"line {row.line}: {row.reason} ('{row.text[:60]}')")


def _labelled(series: TimeSeries) -> list[tuple[str, float]]:
    from ultrum.core.labels import period_label

    return [(period_label(i), float(v)) for i, v in series.values.items()]


def _look(series: TimeSeries, facts: dict[str, str], rows: int) -> None:
    """Facts, a picture, both ends, a summary and the trail of one series."""
    import pandas as pd

    from ultrum.cli import show

    values = series.values
    for name, text in facts.items():
        show.fact(name, text)
    known = values.dropna()
    if len(known):
        spread = f"{_number(known.min())} to {_number(known.max())}, mean {_number(round(known.mean(), 6))}"
        show.fact("range", spread)
        show.fact("gaps", _gaps(series))
        click.echo()
        click.echo(show.sparkline(values.to_numpy()))
    pairs = _labelled(series)
    shown = (
        pairs if len(pairs) <= 2 * rows else [*pairs[:rows], ("…", float("nan")), *pairs[-rows:]]
    )
    frame = pd.DataFrame(shown, columns=["period", series.name])
    frame[series.name] = ["…" if p == "…" else _number(v) for p, v in shown]
    show.table(frame)


def _gaps(series: TimeSeries) -> str:
    """Missing periods between the first and the last value."""
    import numpy as np

    from ultrum.core.labels import period_label

    known = series.values.dropna()
    if not len(known):
        return "no values"
    inside = series.values.loc[known.index[0] : known.index[-1]]
    missing = [period_label(p) for p in inside.index[inside.isna()]]
    parts = []
    if missing:
        listed = ", ".join(missing[:5]) + (" …" if len(missing) > 5 else "")
        parts.append(f"{len(missing)} missing ({listed})")
    if series.about.frequency.code in "BD":
        return "; ".join([*parts, *_gaps_of_days(inside.index)])
    steps = np.diff(series.ordinals)
    skipped = 0 if series.about.frequency.is_dated else int((steps - 1).sum())
    if skipped:
        parts.append(f"{skipped} periods without a row")
    return "; ".join(parts) or "none"


def _gaps_of_days(index: pd.Index) -> list[str]:
    """Stretches of trading days without rows, and the holidays beside them."""
    from ultrum.core.frequency import calendar_days
    from ultrum.core.gaps import gap_table

    found = gap_table(calendar_days(index))
    listed = [f"{row.first} to {row.last} ({row.weekdays} weekdays)" for row in found.itertuples()]
    more = f" … and {len(listed) - 5} more" if len(listed) > 5 else ""
    words = [f"without rows: {', '.join(listed[:5])}{more}"] if listed else []
    holidays = found.attrs["holidays"]
    if holidays:
        words.append(f"{holidays} single weekdays without rows, taken as holidays")
    return words or ["none"]


def _number(value: float) -> str:
    if value != value:  # noqa: PLR0124 - NaN differs from itself
        return "missing"
    return f"{value:,.0f}" if abs(value) >= 1e6 else f"{value:.8g}"
