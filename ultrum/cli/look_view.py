"""The output of ``look``: one series with its metadata, or every series of a table with its decisions."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from ultrum.cli.verbosity import echo
from ultrum.core.displayed_numbers import counted
from ultrum.errors import listed

if TYPE_CHECKING:
    import pandas as pd

    from ultrum.core.series.time_series import TimeSeries
    from ultrum.sources.table import Reading


def show_series(series: TimeSeries, facts: dict[str, str], rows: int) -> None:
    """Facts, a small picture, both ends, a summary and the trail of one series."""
    import pandas as pd

    from ultrum.cli import terminal_output

    values = series.values
    for name, text in facts.items():
        terminal_output.fact(name, text)
    valid = values.dropna()
    if len(valid):
        spread = f"{number(valid.min())} to {number(valid.max())}, mean {number(round(valid.mean(), 6))}"
        terminal_output.fact("range", spread)
        terminal_output.fact("gaps", gaps(series))
        echo()
        echo(terminal_output.sparkline(values.to_numpy()))
    pairs = labelled(series)
    shown = pairs if len(pairs) <= 2 * rows else [*pairs[:rows], ("…", float("nan")), *pairs[-rows:]]
    frame = pd.DataFrame(shown, columns=["period", series.name])
    frame[series.name] = ["…" if p == "…" else number(v) for p, v in shown]
    terminal_output.table(frame)


def show_table(
    name: str,
    series: Sequence[TimeSeries],
    names: Sequence[str],
    reading: Reading | None,
    rows: int,
) -> None:
    """What the reader decided, every series with its ends and gaps, and the last rows side by side."""
    import pandas as pd

    from ultrum.cli import terminal_output

    if reading is not None:
        rejected = len(reading.rejected)
        echo(f"{name}: {len(series)} series, {counted(len(reading.records), 'row')}, {rejected} rejected")
        decisions = [vars(d) for d in reading.decisions]
        terminal_output.table(pd.DataFrame(decisions)[["what", "chosen", "certainty"]])
    else:
        echo(f"{name}: {len(series)} series")
    if series:
        terminal_output.table(pd.DataFrame(summary_rows(series, names)))
    if rows and series:
        side = pd.concat([s.values for s in series], axis=1, keys=names).sort_index().tail(rows)
        side.index = pd.Index([_label(p) for p in side.index], name="period")
        terminal_output.table(side.map(number).reset_index())
    show_rejected(reading)


def show_rejected(reading: Reading | None) -> None:
    """A warning for each row or cell that was left out."""
    from ultrum.cli import terminal_output

    for row in reading.rejected if reading is not None else ():
        terminal_output.warn(f"line {row.line}: {row.reason} ('{row.text[:60]}')")


def summary_rows(series: Sequence[TimeSeries], names: Sequence[str]) -> list[dict[str, Any]]:
    """A row for each series: frequency, unit, first and last period, values, gaps."""
    return [
        {"series": name, "frequency": s.metadata.frequency.name, "unit": s.metadata.currency or s.metadata.unit,
         "first": _label(s.index[0]) if len(s) else "", "last": _label(s.index[-1]) if len(s) else "",
         "values": int(s.values.notna().sum()), "gaps": gaps(s)}
        for name, s in zip(names, series, strict=True)
    ]  # fmt: skip


def labelled(series: TimeSeries) -> list[tuple[str, float]]:
    """Periods by name with their values."""
    return [(_label(i), float(v)) for i, v in series.values.items()]


def _label(period: Any) -> str:
    from ultrum.core.time.period_labels import period_label

    return period_label(period)


def gaps(series: TimeSeries) -> str:
    """Missing periods between the first and the last value."""
    import numpy as np

    valid = series.values.dropna()
    if not len(valid):
        return "no values"
    inside = series.values.loc[valid.index[0] : valid.index[-1]]
    missing = [_label(p) for p in inside.index[inside.isna()]]
    parts = []
    if missing:
        parts.append(f"{len(missing)} missing ({listed(missing)})")
    if series.metadata.frequency.code in "BD":
        return "; ".join([*parts, *_gaps_of_days(inside.index)])
    steps = np.diff(series.ordinals)
    skipped = 0 if series.metadata.frequency.is_dated else int((steps - 1).sum())
    if skipped:
        parts.append(f"{counted(skipped, 'period')} without a row")
    return "; ".join(parts) or "none"


def _gaps_of_days(index: pd.Index) -> list[str]:
    """Stretches of trading days without rows, and the holidays next to them."""
    from ultrum.core.time.frequency import calendar_days
    from ultrum.core.time.gaps import gap_table

    gap_rows = gap_table(calendar_days(index))
    gaps = [f"{row.first} to {row.last} ({row.weekdays} weekdays)" for row in gap_rows.itertuples()]
    words = [f"without rows: {listed(gaps)}"] if gaps else []
    holidays = gap_rows.attrs["holidays"]
    if holidays:
        words.append(f"{holidays} single weekdays without rows, taken as holidays")
    return words or ["none"]


def number(value: float) -> str:
    """A number with eight digits, large ones without decimals."""
    if value != value:  # noqa: PLR0124 - NaN differs from itself
        return "missing"
    value += 0.0  # no minus before zero
    return f"{value:,.0f}" if abs(value) >= 1e6 else f"{value:.8g}"
