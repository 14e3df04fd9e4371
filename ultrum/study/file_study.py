"""A study of ordinary files: its sections, from the columns that the files have."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, Final

from ultrum.core.time.frequency import Frequency
from ultrum.desk import Desk
from ultrum.desk.settings import SnapshotSettings, SourceSettings
from ultrum.errors import StudyError, one_of
from ultrum.sources.database import Query
from ultrum.sources.download import Address
from ultrum.sources.table import Reading
from ultrum.sources.table.event_columns import event_columns
from ultrum.sources.table.factor_columns import FactorTable, factor_table
from ultrum.sources.table.price_columns import PriceTable, plain_heading, price_table
from ultrum.sources.table.reading_result import Decision
from ultrum.study.schema import Study

_ALL: Final = "all"
_EVENTS: Final = {"dividends": "amount", "splits": "ratio", "final_payments": "amount"}


@dataclass(frozen=True)
class FileChoices:
    """What a user names: addresses of files, and choices that are not left to their columns.

    Attributes
    ----------
    prices : sequence of str
        Addresses of tables of prices or returns.
    factors : str
        Address of a table of factor returns, or of index levels.
    market : str
        Heading of the market; found where it is empty.
    more_factors : sequence of str
        Further columns to regress on; ``all`` for every one.
    risk_free : str, float or None
        Heading of the risk-free return, or a rate a year; found where it is None.
    assets : sequence of str
        Assets to keep; all where it is empty.
    total_return : sequence of str
        Factors that are not in excess of the risk-free return, whatever their heading.
    factor_units : {"percent", "decimal"}, optional
    price_column : str
    frequency : str
        Of the regressions; monthly, or that of the factors where it is lower, where it is empty.
    start, end : str
        First and last period.
    errors : str
    events : mapping of str to str
        Addresses of ``dividends``, ``splits`` and ``final_payments``.
    window : str or int or None
        Of rolling betas.
    premium : float or None
        Of the market, a year; its history where it is None.
    cost : bool
        Whether a cost of equity is wanted.
    title : str
    """

    prices: Sequence[str]
    factors: str
    market: str = ""
    more_factors: Sequence[str] = ()
    risk_free: str | float | None = None
    assets: Sequence[str] = ()
    total_return: Sequence[str] = ()
    factor_units: str | None = None
    price_column: str = ""
    frequency: str = ""
    start: str = ""
    end: str = ""
    errors: str = "hac"
    events: Mapping[str, str] = field(default_factory=dict)
    window: str | int | None = None
    premium: float | None = None
    cost: bool = False
    title: str = ""


@dataclass(frozen=True)
class FileStudy:
    """A study of files, and what was decided about their columns, by address."""

    study: Study
    prices: tuple[PriceTable, ...]
    factors: FactorTable
    decisions: tuple[tuple[str, Decision], ...]


def file_study(desk: Desk, choices: FileChoices) -> FileStudy:
    """The study that files give, by the headings of their columns.

    Raises
    ------
    TableError
        If the columns do not tell what they are.
    StudyError
        If what is asked for is not in them.
    """
    readings = [desk.table(address) for address in choices.prices]
    prices = tuple(price_table(reading, choices.price_column) for reading in readings)
    factor_reading = desk.table(choices.factors, units=choices.factor_units)
    column = choices.risk_free if isinstance(choices.risk_free, str) else ""
    factors = factor_table(factor_reading, choices.market, column, choices.total_return)
    names = [name for table in prices for name in table.prices.names]
    events = {key: _events(desk, address, _EVENTS[key], names) for key, address in choices.events.items()}
    content = {
        "study": _study_section(choices, factors, names),
        "sources": _sources(desk, choices),
        "panel": _panel_section(choices, prices, factors, names) | events,
        "models": [_model(choices, factors)],
        **_further(choices, factors, names),
    }
    decisions = [
        *(
            (address, d)
            for address, reading, table in zip(choices.prices, readings, prices, strict=True)
            for d in (*table.decisions, *_worth_knowing(reading))
        ),
        *((choices.factors, d) for d in (*factors.decisions, *_worth_knowing(factor_reading))),
    ]
    return FileStudy(Study.of(**content), prices, factors, tuple(decisions))


def _worth_knowing(reading: Reading) -> list[Decision]:
    """Decisions of the reader that a person should see: those that were not sure, and units."""
    quiet = ("as written", "price", "flow")
    return [
        d for d in reading.decisions if (d.certainty != "sure" and d.chosen not in quiet) or d.what == "set aside"
    ]


def _study_section(choices: FileChoices, factors: FactorTable, names: Sequence[str]) -> dict[str, Any]:
    asset = _asset(choices, names)
    title = choices.title or f"{asset} on {factors.market}"
    span = [choices.start or "earliest", choices.end or "latest"]
    section = {"title": title, "frequency": _frequency(choices, factors), "span": span}
    return section if choices.cost else {**section, "asset": asset}


def _asset(choices: FileChoices, names: Sequence[str]) -> str:
    """The asset asked about: the first that is chosen, or the first there is."""
    for name in choices.assets:
        if name not in names:
            raise StudyError(f"No asset '{name}'; {one_of(name, names)}")
    return choices.assets[0] if choices.assets else names[0]


def _frequency(choices: FileChoices, factors: FactorTable) -> str:
    """The frequency chosen, or monthly, or that of the factors where it is lower."""
    own = factors.factors.frequency
    wanted = Frequency.parse(choices.frequency) if choices.frequency else Frequency("M")
    if choices.frequency and wanted.code == "D" and own.is_dated:
        return str(own)
    if wanted < own and not (wanted.is_dated and own.is_dated):
        if choices.frequency:
            raise StudyError(
                f"The factors are {own.name}; the frequency can be {own.name} or lower, not {wanted.name}."
            )
        return str(own)
    return str(wanted)


def _sources(desk: Desk, choices: FileChoices) -> dict[str, Any]:
    """Settings of the sources that the addresses name, without what is at its default."""
    names = {Address.parse(a).source for a in (*choices.prices, choices.factors, *choices.events.values())}
    sections = {}
    for name in sorted(names):
        settings = desk.sources[name]
        sections[name] = {"kind": settings.kind, "url": settings.url, **_further_settings(settings)}
    return sections


def _further_settings(settings: SourceSettings) -> dict[str, Any]:
    """Settings of a source beyond its address that a study can hold; credentials by their name alone."""
    parts: dict[str, Any] = {
        "credentials": settings.credentials if isinstance(settings.credentials, str) else "",
        "tables": {path: dict(options) for path, options in settings.tables.items() if options},
        "snapshots": {name: _stated(s) for name, s in settings.snapshots.items()},
        "queries": {name: _stated(q) for name, q in settings.queries.items()},
    }
    if settings.kind == "sdmx":
        parts |= {"format": settings.format, "rest": settings.rest}
    return {name: part for name, part in parts.items() if part}


def _stated(settings: SnapshotSettings | Query) -> dict[str, Any]:
    """Fields that are not at their default, which is empty."""
    return {name: value for name, value in asdict(settings).items() if value}


def _panel_section(
    choices: FileChoices,
    prices: Sequence[PriceTable],
    factors: FactorTable,
    names: Sequence[str],
) -> dict[str, Any]:
    """Addresses and columns of the panel."""
    column = choices.price_column or (prices[0].column if len(prices) == 1 else "")
    section: dict[str, Any] = {
        "assets": list(choices.prices) if len(choices.prices) > 1 else choices.prices[0],
        "factors": choices.factors,
    }
    if column:
        section["price_column"] = column
    if factors.units:
        section["factor_units"] = factors.units
    if 0 < len(choices.assets) < len(names):
        section["only"] = list(choices.assets)
    if isinstance(choices.risk_free, float | int):
        section["risk_free"] = float(choices.risk_free)
    elif factors.risk_free is not None:
        section["risk_free"] = f"{choices.factors}#{factors.risk_free.name}"
    without_rate = factors.total_return_factors
    total = [f for f in _chosen_factors(choices, factors) if f in without_rate]
    if total and factors.units:
        section["total_return_factors"] = total
    if section.get("risk_free") is None and factors.market not in without_rate:
        raise StudyError(
            f"'{factors.market}' is in excess of a risk-free rate, and {choices.factors} has no column of one.",
            setting="risk_free",
        )
    return section


def _chosen_factors(choices: FileChoices, factors: FactorTable) -> list[str]:
    """The market, and the further factors chosen."""
    names = factors.factors.names
    if list(choices.more_factors) == [_ALL]:
        return [factors.market, *(n for n in names if n != factors.market)]
    chosen = [factors.market]
    for wanted in choices.more_factors:
        same = [n for n in names if n == wanted] or [
            n for n in names if plain_heading(n) == plain_heading(wanted)
        ]
        if len(same) != 1:
            raise StudyError(f"{choices.factors} has no factor '{wanted}'; {one_of(wanted, names)}")
        chosen += [n for n in same if n not in chosen]
    return chosen


def _model(choices: FileChoices, factors: FactorTable) -> dict[str, Any]:
    return {
        "name": "first",
        "factors": _chosen_factors(choices, factors),
        "errors": choices.errors.lower(),
    }


def _events(desk: Desk, address: str, number: str, names: Sequence[str]) -> dict[str, str]:
    """The section of a table of events, with the headings of its columns."""
    table = desk.table(address, records_only=True).records
    roles = ["asset", "date", number]
    renamed = event_columns(table, address, roles, {}, names)
    headings = dict(zip(map(str, renamed.columns), map(str, table.columns), strict=False))
    return {"table": address, **{r: headings[r] for r in roles if r in headings}}


def _further(choices: FileChoices, factors: FactorTable, names: Sequence[str]) -> dict[str, Any]:
    """Sections that only some ask for: rolling betas, a cost of equity."""
    sections: dict[str, Any] = {}
    if choices.window is not None:
        sections["tests"] = {"rolling_window": choices.window}
    if choices.cost:
        premium = {} if choices.premium is None else {factors.market: choices.premium}
        sections["cost_of_equity"] = {
            "company": _asset(choices, names), "model": "first", "premium": premium,
        }  # fmt: skip
    return sections
