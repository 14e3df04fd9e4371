"""The output of ``look``: a series, every series of a table, or prices as returns."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Final

from ultrum.cli.estimate_output import print_workings, workings_answer
from ultrum.cli.options import PictureStyle
from ultrum.cli.terminal_output import echo
from ultrum.core.presentation import decimals, percent, quantity, significant
from ultrum.errors import name_list

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

    from ultrum.core.series.time_series import SeriesTable, TimeSeries
    from ultrum.desk.addresses_and_local_tables import LocalTables
    from ultrum.desk.desk import Desk
    from ultrum.sources.table.reading_result import Reading


def show_series(series: TimeSeries, facts: dict[str, str], rows: int) -> None:
    """Facts, a small chart, both ends, a summary and the provenance of one series."""
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
    pairs = values_by_period(series)
    shown = pairs if len(pairs) <= 2 * rows else [*pairs[:rows], ("…", float("nan")), *pairs[-rows:]]
    frame = pd.DataFrame(shown, columns=["period", series.name])
    frame[series.name] = ["…" if p == "…" else number(v) for p, v in shown]
    terminal_output.table(frame)


def show_table(
    name: str, series: Sequence[TimeSeries], names: Sequence[str], reading: Reading | None, rows: int
) -> None:
    """The decisions of the reader, every series with its ends and gaps, and the last rows."""
    import pandas as pd

    from ultrum.cli import terminal_output

    if reading is not None:
        rejected = len(reading.rejected)
        echo(f"{name}: {len(series)} series, {quantity(len(reading.records), 'row')}, {rejected} rejected")
        if reading.lines:
            echo(reading.account_in_words)
        decisions = [vars(d) for d in reading.decisions]
        headings = {"what": "setting", "chosen": "value", "certainty": "confidence"}
        shown = pd.DataFrame(decisions)[list(headings)].replace({"certainty": {"sure": "certain"}})
        terminal_output.table(shown.rename(columns=headings))
    else:
        echo(f"{name}: {len(series)} series")
    if series:
        terminal_output.table(pd.DataFrame(summary_rows(series, names)))
    if rows and series:
        side = pd.concat([s.values for s in series], axis=1, keys=names).sort_index().tail(rows)
        side.index = pd.Index([_label(p) for p in side.index], name="period")
        terminal_output.table(side.map(number).reset_index())
    show_rejections(reading)


def show_rejections(reading: Reading | None) -> None:
    """A warning for each row or cell that was not used."""
    from ultrum.cli import terminal_output

    for row in reading.faults if reading is not None else ():
        terminal_output.warn(f"line {row.line}: {row.reason} ('{row.text[:60]}')")


def summary_rows(series: Sequence[TimeSeries], names: Sequence[str]) -> list[dict[str, object]]:
    """One row per series: frequency, unit, first and last period, values, gaps."""
    return [
        {
            "series": name,
            "frequency": s.metadata.frequency.name,
            "unit": s.metadata.currency or s.metadata.unit,
            "first": _label(s.index[0]) if len(s) else "",
            "last": _label(s.index[-1]) if len(s) else "",
            "values": int(s.values.notna().sum()),
            "gaps": gaps(s),
        }
        for name, s in zip(names, series, strict=True)
    ]


def values_by_period(series: TimeSeries) -> list[tuple[str, float]]:
    """Periods by name with their values."""
    return [(_label(i), float(v)) for i, v in series.values.items()]


def _label(period: object) -> str:
    from ultrum.core.time.period_labels_and_relative_dates import period_label

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
        parts.append(f"{len(missing)} missing ({name_list(missing)})")
    if series.metadata.frequency.code in "BD":
        return "; ".join([*parts, *_gaps_of_days(inside.index)])
    steps = np.diff(series.ordinals)
    skipped = 0 if series.metadata.frequency.is_dated else int((steps - 1).sum())
    if skipped:
        parts.append(f"{quantity(skipped, 'period')} without a row")
    return "; ".join(parts) or "none"


def _gaps_of_days(index: pd.Index) -> list[str]:
    """Runs of trading days without rows, and the holidays outside them."""
    from ultrum.core.time.frequency import calendar_days
    from ultrum.core.time.index_frequency_and_gaps import gap_table

    gap_rows = gap_table(calendar_days(index))
    gaps = [f"{row.first} to {row.last} ({row.weekdays} weekdays)" for row in gap_rows.itertuples()]
    words = [f"without rows: {name_list(gaps)}"] if gaps else []
    holidays = gap_rows.attrs["holidays"]
    if holidays:
        words.append(f"{holidays} single weekdays without rows, treated as holidays")
    return words or ["none"]


def number(value: float) -> str:
    """A number with eight digits, large ones without decimals."""
    if value != value:  # noqa: PLR0124 - NaN differs from itself
        return "missing"
    value += 0.0  # no minus before zero
    return f"{value:,.0f}" if abs(value) >= 1e6 else f"{value:.8g}"


# The output of ``look --returns``: prices as returns, of one asset or a whole table

_SHOWN: Final = (
    "mean",
    "mean_log",
    "geometric",
    "volatility",
    "worst",
    "worst_period",
    "max_drawdown",
    "positive",
    "periods",
)
_PRICED: Final = ("price", "index", "return", "log_return")
_OTHER_BARS: Final = frozenset(("open", "high", "low"))
_LINES: Final = 6  # that a picture can tell apart
_HEADINGS: Final = {
    "mean_log": "mean of logs",
    "geometric": "geometric mean",
    "worst": "minimum",
    "worst_period": "date",
    "max_drawdown": "max drawdown",
    "positive": "positive",
}
_PERCENT: Final = ("mean", "mean_log", "geometric", "volatility", "worst", "max_drawdown", "positive")


def show_returns(
    returns_table: SeriesTable,
    figure: str | None,
    picture: Path | None,
    as_json: bool,
    workings: bool,
    style: PictureStyle,
) -> None:
    """Print risk and return, for one asset also the calendar returns and the distribution; draw one figure."""
    from ultrum.cli import terminal_output
    from ultrum.core.statistics.risk_return_and_drawdowns import risk_return

    risk = risk_return(returns_table)
    if picture:
        _draw(returns_table, figure, picture, style)
    steps = risk.workings() if workings else None
    _warn_of_price_returns(returns_table)
    if as_json:
        more = {} if steps is None else {"workings": workings_answer(steps)}
        table = risk.table.reset_index(names="asset")
        table.insert(1, "income", [m.income for m in returns_table.metadata])
        rows = table.to_dict("records")
        terminal_output.as_json({"basis": risk.basis, "assets": rows, **more})
        return
    echo(risk.in_percent)
    shown = [c for c in risk.table if c in _SHOWN]
    terminal_output.table(_in_percent(risk.table[shown], "asset"))
    if len(returns_table.names) == 1:
        _show_one(returns_table.only())
    if steps is not None:
        print_workings(steps)


def _warn_of_price_returns(table: SeriesTable) -> None:
    from ultrum.cli import terminal_output

    bare = [m.name for m in table.metadata if m.income == "price"]
    if bare:
        which = "these are" if len(bare) == len(table.names) else f"{name_list(bare)}:"
        terminal_output.warn(
            f"{which} price returns; 'ultrum estimate --dividends FILE' or a study adds dividends"
        )


def _show_one(one: TimeSeries) -> None:
    """Distribution, drawdowns and calendar returns of one asset."""
    from ultrum.cli import terminal_output
    from ultrum.core.presentation import p_equals
    from ultrum.core.statistics.distribution_and_momentum import calendar_returns, distribution
    from ultrum.core.statistics.risk_return_and_drawdowns import drawdowns

    spread = distribution(one)
    echo(
        f"Jarque–Bera {significant(spread.jarque_bera, 4)} ({p_equals(spread.p_value)}); kurtosis "
        f"{decimals(spread.kurtosis, 1)} (normal: 3); excess kurtosis {decimals(spread.kurtosis - 3, 1)}"
    )
    columns = {"count": "periods", "expected": "expected under normality"}
    counts = spread.table[list(columns)].rename(columns=columns)
    places = {"periods": 0, columns["expected"]: 2}
    terminal_output.table(terminal_output.align_decimals(counts, "|z| (SDs from mean)", **places))
    falls = drawdowns(one, limit=3).table.drop(columns="series")
    falls["depth"] = [percent(depth, 1) for depth in falls["depth"]]
    headings = {
        "recovery_date": "recovered",
        "depth": "drawdown, %",
        "periods_to_trough": "periods to trough",
        "periods_to_recovery": "periods to recovery",
    }
    terminal_output.table(falls.fillna("").rename(columns=headings))
    if one.metadata.frequency.code in "MQ" or one.metadata.frequency.is_dated:
        table = calendar_returns(one).table
        partial = table.attrs["partial_years"]
        years = [f"{year}*" if year in partial else str(year) for year in table.index]
        grid = (100 * table.rename(columns={"year": "annual"})).set_axis(years).round(1) + 0.0
        terminal_output.table(terminal_output.align_decimals(grid, "year", **dict.fromkeys(map(str, grid), 1)))
        if partial:
            echo("* incomplete year")


def returns_at(
    desk: Desk | LocalTables, address: str, frequency: str, bounds: tuple[str, str] = ("", ""), log: bool = False
) -> SeriesTable:
    """Returns of the price at an address, or of every asset in a table of prices, within a span."""
    from ultrum.core.returns.price_log_and_excess_returns import returns, to_log, to_simple
    from ultrum.core.transform.aggregation import to_frequency
    from ultrum.desk.addresses_and_local_tables import DataSpan

    table = _prices(desk, address)
    if all(a.is_return for a in table.metadata):
        returns_table = to_frequency(to_simple(table), frequency)
    else:
        returns_table = returns(table, frequency=frequency)
    if log:
        returns_table = to_log(returns_table)
    span = DataSpan.of(*bounds).from_latest(*[returns_table[n] for n in returns_table.names])
    return returns_table.sample(span.start or None, span.end or None)


def _prices(desk: Desk | LocalTables, address: str) -> SeriesTable:
    """The price at an address, or every price of a table; for OHLC bars the close alone."""
    from ultrum.cli import terminal_output
    from ultrum.core.series.time_series import SeriesTable
    from ultrum.errors import UnitError

    if "#" in address:
        series_list = [desk.fetch(address)]
    else:
        reading = desk.table(address)
        close = reading.fields.get("close")
        series_list = [close[n] for n in close.names] if close else list(reading.series.values())
    lower = {s.name.lower() for s in series_list}
    bars = _OTHER_BARS if lower >= {"open", "high", "low"} else frozenset()
    prices = [s for s in series_list if s.metadata.measure in _PRICED and s.name.lower() not in bars]
    if not prices:  # the option states what they are; numbers at or below zero are none
        levels = [s for s in series_list if not s.metadata.measure and s.metadata.unit != "decimal"]
        levels = [s for s in levels if s.name.lower() not in bars and s.values.min() > 0]
        prices = [s.with_metadata(measure="price") for s in levels]
        series_list = [s for s in series_list if s.name not in {p.name for p in prices}] + prices
    others = [s.name for s in series_list if s not in prices]
    if not prices:
        raise UnitError(
            f"Nothing states that {name_list(others)} is a price. For a local file add --read measure=price; "
            "for a source, measure = 'price' in the settings of the table."
        )
    if others:
        terminal_output.warn(f"{name_list(others)}: not prices at the close", "left out")
    return SeriesTable.of(prices)


def _draw(returns_table: SeriesTable, figure: str | None, picture: Path, style: PictureStyle) -> None:
    from ultrum.core.statistics.benchmark_and_correlation import correlations
    from ultrum.core.statistics.distribution_and_momentum import calendar_returns, distribution
    from ultrum.core.statistics.risk_return_and_drawdowns import drawdowns, risk_return
    from ultrum.report import figures

    chosen = figure or ("grid" if len(returns_table.names) == 1 else "risk")
    drawn: dict[str, Callable[[], Axes]] = {
        "grid": lambda: figures.calendar_heat(calendar_returns(returns_table[returns_table.names[0]])),
        "histogram": lambda: figures.histogram(distribution(returns_table[returns_table.names[0]])),
        "growth": lambda: _growth(returns_table),
        "drawdown": lambda: figures.drawdown(drawdowns(returns_table[returns_table.names[0]])),
        "risk": lambda: figures.risk_against_return(risk_return(returns_table)),
        "correlations": lambda: figures.correlation_grid(correlations(returns_table)),
    }
    style.write(drawn[chosen], picture)


def _growth(returns_table: SeriesTable) -> Axes:
    """Cumulative wealth of all assets, or of the first few, which the title states."""
    from ultrum.report import figures

    names = returns_table.names
    title = (
        f"Cumulative wealth of 1: the first {_LINES} of {quantity(len(names), 'asset')}"
        if len(names) > _LINES
        else ""
    )
    return figures.growth_of_one(returns_table.select(names[:_LINES]), title=title)


def _in_percent(table: pd.DataFrame, label: str) -> pd.DataFrame:
    shown = table.copy()
    for column in (c for c in _PERCENT if c in table):
        shown[column] = [percent(value + 0.0, 1) for value in shown[column].astype(float)]
    return shown.reset_index(names=label).rename(columns=_HEADINGS)
