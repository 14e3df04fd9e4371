"""A user's own files as a study: the roles of their columns, and the checks of a study against its files."""

from __future__ import annotations

import math
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, Final

import pandas as pd

from ultrum.core.series.metadata import plain_heading
from ultrum.core.time.frequency import Frequency
from ultrum.desk.desk import Desk
from ultrum.desk.settings import SnapshotSettings, SourceSettings
from ultrum.errors import StudyError, UltrumError, name_list, one_of
from ultrum.sources.database import Query
from ultrum.sources.download_and_limits import Address
from ultrum.sources.table.factor_columns import FactorTable, factor_returns, factor_table
from ultrum.sources.table.file_patterns import files_of, is_pattern
from ultrum.sources.table.price_and_event_columns import PriceTable, event_columns, price_table
from ultrum.sources.table.reading_result import Decision, Reading
from ultrum.study.schema import Study, all_series
from ultrum.study.sections import EventsSection
from ultrum.study.validation import EVENTS, Fault, Lines, Place, addresses, in_study_words

_ALL: Final = "all"
_EVENTS: Final = {"dividends": "amount", "splits": "ratio", "final_payments": "amount"}


@dataclass(frozen=True)
class FileChoices:
    """Choices of a user: addresses of files, and settings not inferred from their columns.

    Attributes
    ----------
    prices : sequence of str
        Addresses of tables of prices or returns.
    factors : str
        Address of a table of factor returns, or of index levels.
    market : str
        Heading of the market; inferred if empty.
    more_factors : sequence of str
        Further columns to regress on; ``all`` for every one.
    risk_free : str, float or None
        Heading of the risk-free return, or an annual rate; inferred if None.
    rate_address : str
        Address of the risk-free return in a file of its own.
    assets : sequence of str
        Assets to use; all if empty.
    total_return : sequence of str
        Factors that are total returns, whatever their heading.
    factor_units : {"percent", "decimal"}, optional
        Of the factors, and of the risk-free rate's own file if that states none.
    price_column : str
    frequency : str
        Frequency of the regressions; by default monthly, or that of the factors if it is lower.
    start, end : str
        First and last period.
    errors : str
    events : mapping of str to str
        Addresses of ``dividends``, ``splits`` and ``final_payments``.
    event_headings : mapping of str to mapping of str to str
        Headings of ``asset``, ``date``, ``amount`` or ``ratio`` in these tables, where they are unusual.
    window : str or int or None
        Of rolling betas.
    premium : float or None
        Annual market risk premium; its historical mean if None.
    cost : bool
        Whether to compute a cost of equity.
    title : str
    """

    prices: Sequence[str]
    factors: str
    market: str = ""
    more_factors: Sequence[str] = ()
    risk_free: str | float | None = None
    rate_address: str = ""
    assets: Sequence[str] = ()
    total_return: Sequence[str] = ()
    factor_units: str | None = None
    price_column: str = ""
    frequency: str = ""
    start: str = ""
    end: str = ""
    errors: str = "hac"
    events: Mapping[str, str] = field(default_factory=dict)
    event_headings: Mapping[str, dict[str, str]] = field(default_factory=dict)
    window: str | int | None = None
    premium: float | None = None
    cost: bool = False
    title: str = ""


@dataclass(frozen=True)
class FileStudy:
    """A study of files, and the decisions about their columns, by address."""

    study: Study
    prices: tuple[PriceTable, ...]
    factors: FactorTable
    decisions: tuple[tuple[str, Decision], ...]


def file_study(desk: Desk, choices: FileChoices) -> FileStudy:
    """The study for given files, from the headings of their columns.

    Raises
    ------
    TableError
        If the columns are ambiguous.
    StudyError
        If the files do not contain what is requested.
    """
    readings = [desk.table(address) for address in choices.prices]
    prices = tuple(price_table(reading, choices.price_column) for reading in readings)
    factor_reading = desk.table(choices.factors, units=choices.factor_units)
    column = choices.risk_free if isinstance(choices.risk_free, str) else ""
    annual = isinstance(choices.risk_free, float | int) or bool(choices.rate_address)
    factors = factor_table(factor_reading, choices.market, column, choices.total_return, annual)
    names = [name for table in prices for name in table.prices.names]
    among, about_events = _events_among(choices, readings, prices)
    unusual = choices.event_headings
    events = {
        k: _events(desk, a, _EVENTS[k], names, unusual.get(k, {}))
        for k, a in (among | dict(choices.events)).items()
    }
    content = {
        "study": _study_section(choices, factors, names),
        "sources": _source_section(desk, choices),
        "panel": _panel_section(choices, prices, factors, names) | events,
        "models": [_model_section(choices, factors)],
        **_further(choices, factors, names),
    }
    decisions = [
        *(
            (address, d)
            for address, reading, table in zip(choices.prices, readings, prices, strict=True)
            for d in (*table.decisions, *_worth_knowing(reading))
        ),
        *((choices.prices[0], d) for d in about_events),
        *((choices.factors, d) for d in (*factors.decisions, *_worth_knowing(factor_reading))),
    ]
    return FileStudy(Study.of(**content), prices, factors, tuple(decisions))


def _events_among(
    choices: FileChoices, readings: Sequence[Reading], prices: Sequence[PriceTable]
) -> tuple[dict[str, str], list[Decision]]:
    """Addresses of the dividends and splits among the rows of a price file, and decisions about them."""
    if len(readings) != 1 or not readings[0].events:
        return {}, []
    reading, table = readings[0], prices[0]
    held = {kind: events for kind, events in reading.events.items() if kind not in choices.events}
    if table.includes_dividends:
        unused = [
            Decision(k, f"{len(e)} not used", certainty=f"'{table.column}' includes them")
            for k, e in held.items()
        ]
        return {}, unused
    _refuse_other_currency(table, held)
    addresses = {kind: f"{choices.prices[0]}#{kind}" for kind in held}
    raw = _is_before_splits(table, held["splits"]) if "splits" in held else True
    if raw:
        return addresses, [Decision(k, f"{len(e)} from the price file") for k, e in held.items()]
    del addresses["splits"]
    taken = [Decision(k, f"{len(held[k])} from the price file") for k in addresses]
    why = "the prices do not jump: they are adjusted already"
    return addresses, [*taken, Decision("splits", f"{len(held['splits'])} not used", certainty=why)]


def _refuse_other_currency(table: PriceTable, events: Mapping[str, pd.DataFrame]) -> None:
    """Refuse dividends whose row states another currency than that of the prices."""
    own = table.prices.metadata[0].currency
    stated = {str(c) for e in events.values() if "currency" in e for c in e["currency"]} - {"", own}
    if own and stated:
        raise StudyError(
            f"The prices are in {own}, and dividends among them in {name_list(sorted(stated))}. Pass a table of "
            f"the dividends in {own}."
        )


def _is_before_splits(table: PriceTable, splits: pd.DataFrame) -> bool:
    """Whether prices are as they were before later splits: they jump at each by its ratio.

    Raises
    ------
    StudyError
        If they jump at some splits only.
    """
    close = table.prices.only().values.dropna()
    if isinstance(close.index, pd.PeriodIndex):
        close.index = close.index.start_time
    jumps = []
    for day, ratio in zip(pd.DatetimeIndex(splits["date"]), splits["ratio"], strict=True):
        before, after = close[close.index < day], close[close.index >= day]
        if len(before) and len(after):
            move = math.log(after.iloc[0] / before.iloc[-1])
            jumps.append(abs(move + math.log(ratio)) < abs(move))
    if any(jumps) and not all(jumps):
        raise StudyError(
            "The prices are adjusted for some of the splits in their file, but not for others. Correct them, "
            "or pass a table of the splits."
        )
    return all(jumps)


def _worth_knowing(reading: Reading) -> list[Decision]:
    """Decisions of the reader to show: uncertain ones, and units."""
    quiet = ("as written", "price", "flow")
    return [
        d for d in reading.decisions if (d.certainty != "sure" and d.chosen not in quiet) or d.what == "set aside"
    ]


def _study_section(choices: FileChoices, factors: FactorTable, names: Sequence[str]) -> Mapping[str, object]:
    asset = _asset(choices, names)
    title = choices.title or f"{asset} on {', '.join(_chosen_factors(choices, factors))}"
    span = [choices.start or "earliest", choices.end or "latest"]
    section = {"title": title, "frequency": _frequency(choices, factors), "span": span}
    return section if choices.cost else {**section, "asset": asset}


def _asset(choices: FileChoices, names: Sequence[str]) -> str:
    """The asset of the study: the first of the given ones, or the first in the files."""
    for name in choices.assets:
        if name not in names:
            raise StudyError(f"No asset '{name}'; {one_of(name, names)}")
    return choices.assets[0] if choices.assets else names[0]


def _frequency(choices: FileChoices, factors: FactorTable) -> str:
    """The given frequency, or monthly, or that of the factors if it is lower."""
    factor_frequency = factors.factors.frequency
    wanted = Frequency.parse(choices.frequency) if choices.frequency else Frequency("M")
    if choices.frequency and wanted.code == "D" and factor_frequency.is_dated:
        return str(factor_frequency)
    if wanted < factor_frequency and not (wanted.is_dated and factor_frequency.is_dated):
        if choices.frequency:
            raise StudyError(
                f"The factors are {factor_frequency.name}; the frequency can be {factor_frequency.name} or "
                f"lower, not {wanted.name}."
            )
        return str(factor_frequency)
    return str(wanted)


def _source_section(desk: Desk, choices: FileChoices) -> Mapping[str, object]:
    """Settings of the sources in the addresses, without default values."""
    files = (*choices.prices, choices.factors, *choices.events.values(), choices.rate_address)
    names = {Address.parse(a).source for a in files if a}
    sections = {}
    for name in sorted(names):
        settings = desk.sources[name]
        sections[name] = {"kind": settings.kind, "url": settings.url, **_further_settings(settings)}
    return sections


def _further_settings(settings: SourceSettings) -> Mapping[str, object]:
    """Settings of a source beyond its address that a study can contain; credentials by name alone."""
    parts: dict[str, object] = {
        "credentials": settings.credentials if isinstance(settings.credentials, str) else "",
        "tables": {path: dict(options) for path, options in settings.tables.items() if options},
        "snapshots": {name: _non_defaults(s) for name, s in settings.snapshots.items()},
        "queries": {name: _non_defaults(q) for name, q in settings.queries.items()},
    }
    if settings.kind == "sdmx":
        parts |= {"format": settings.format, "rest": settings.rest}
    return {name: part for name, part in parts.items() if part}


def _non_defaults(settings: SnapshotSettings | Query) -> dict[str, object]:
    """Fields with other values than the default, which is empty."""
    return {name: value for name, value in asdict(settings).items() if value}


def _panel_section(
    choices: FileChoices, prices: Sequence[PriceTable], factors: FactorTable, names: Sequence[str]
) -> dict[str, object]:
    """Addresses and columns of the panel."""
    column = choices.price_column or (prices[0].column if len(prices) == 1 else "")
    section: dict[str, object] = {
        "assets": list(choices.prices) if len(choices.prices) > 1 else choices.prices[0],
        "factors": choices.factors,
    }
    if column:
        section["price_column"] = column
    units = factors.units or choices.factor_units or ""  # of levels: those of the rate's file
    if units:
        section["factor_units"] = units
    if 0 < len(choices.assets) < len(names):
        section["only"] = list(choices.assets)
    if choices.rate_address:
        section["risk_free"] = choices.rate_address
    elif isinstance(choices.risk_free, float | int):
        section["risk_free"] = float(choices.risk_free)
    elif factors.risk_free is not None:
        section["risk_free"] = f"{choices.factors}#{factors.risk_free.name}"
    without_rate = factors.total_return_factors
    total = [f for f in _chosen_factors(choices, factors) if f in without_rate]
    if total and factors.units:
        section["total_return_factors"] = total
    if section.get("risk_free") is None and factors.market not in without_rate:
        raise StudyError(
            f"'{factors.market}' is an excess return, and {choices.factors} has no risk-free column.",
            setting="risk_free",
        )
    return section


def _chosen_factors(choices: FileChoices, factors: FactorTable) -> list[str]:
    """The market, and the other chosen factors."""
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


def _model_section(choices: FileChoices, factors: FactorTable) -> dict[str, object]:
    return {"name": "first", "factors": _chosen_factors(choices, factors), "errors": choices.errors.lower()}


def _events(desk: Desk, address: str, number: str, names: Sequence[str], given: dict[str, str]) -> dict[str, str]:
    """The section of a table of events, with the headings of its columns."""
    table = desk.table(address, records_only=True).records
    roles = ["asset", "date", number]
    renamed = event_columns(table, address, roles, given, names)
    headings = dict(zip(map(str, renamed.columns), map(str, table.columns), strict=False))
    return {"table": address, **{r: headings[r] for r in roles if r in headings}}


def _further(choices: FileChoices, factors: FactorTable, names: Sequence[str]) -> dict[str, object]:
    """Optional sections: rolling betas, a cost of equity."""
    sections: dict[str, object] = {}
    if choices.window is not None:
        sections["tests"] = {"rolling_window": choices.window}
    if choices.cost:
        premium = {} if choices.premium is None else {factors.market: choices.premium}
        sections["cost_of_equity"] = {"company": _asset(choices, names), "model": "first", "premium": premium}
    return sections


# Checks of a study against its local files


def check_files(plan: Study, text: str = "", name: str = "The study") -> None:
    """Check everything that is known without the network: every local file, and its columns and names.

    Parameters
    ----------
    plan : Study
    text : str
        Text of the study file, for the line numbers of errors.
    name : str

    Raises
    ------
    StudyError
        With every error and its line.

    Examples
    --------
    >>> from ultrum.practice import demo_study
    >>> check_files(Study.load(demo_study()))  # its sources are services, so there is no file to check
    """
    lines = Lines(text)
    faults: list[Fault] = sorted({(lines.of(place), fault) for place, fault in _faults(plan)})
    if faults:
        listed = "\n".join(f"  line {line}: {fault}" for line, fault in faults)
        noun = "fault" if len(faults) == 1 else "faults"
        raise StudyError(f"{name} has {len(faults)} {noun} in its files:\n{listed}")


def _faults(plan: Study) -> Iterator[tuple[Place, str]]:
    local = {n: s for n, s in plan.sources.items() if s.kind == "table" and "://" not in s.url}
    sources = {n: s.model_dump(exclude_defaults=True) for n, s in local.items()}
    content = plan.model_dump(mode="json", exclude_defaults=True)
    missing: set[str] = set()
    for place, text in addresses(content):
        address = Address.parse(str(text))
        if address.source in local and not _is_there(Path(local[address.source].url), address.path):
            missing.add(f"{address.source}:{address.path}")
            yield (place, f"'{text}': there is no file {Path(local[address.source].url) / address.path}.")
    if not sources:
        return
    with tempfile.TemporaryDirectory() as folder, Desk(folder, sources=sources, keep_readings=True) as desk:
        yield from _Files(plan, desk, missing).faults()


def _is_there(root: Path, path: str) -> bool:
    """Whether a file, or a file of a pattern, exists."""
    if not is_pattern(path):
        return (root / path).is_file()
    try:
        return bool(files_of(str(root / path)))
    except UltrumError:
        return False


class _Files:
    """The local files of a study, read once."""

    def __init__(self, plan: Study, desk: Desk, missing: set[str]) -> None:
        self._plan, self._desk, self._missing = plan, desk, missing

    def faults(self) -> Iterator[tuple[Place, str]]:
        """Errors of every existing file."""
        yield from self._columns()
        yield from self._assets()
        yield from self._factors()

    def _reading(self, address: str, **options: Any) -> Reading | None:
        """The table at an address, or None if it is not local or missing."""
        table = address.partition("#")[0]
        if table in self._missing or Address.parse(address).source not in self._desk.sources:
            return None
        return self._desk.table(table, **options)

    def _columns(self) -> Iterator[tuple[Place, str]]:
        """Addresses of columns that their file does not have."""
        content = self._plan.model_dump(mode="json", exclude_defaults=True)
        for place, text in addresses(content):
            column = str(text).partition("#")[2]
            if not column:
                continue
            try:
                with in_study_words():
                    reading = self._reading(str(text))
            except UltrumError as error:
                yield place, str(error)
                continue
            if reading is not None and column not in reading.series:
                yield place, f"'{text}': no column '{column}'; {one_of(column, reading.series)}"

    def _assets(self) -> Iterator[tuple[Place, str]]:
        """Assets in the study that the price files or their event tables do not have."""
        plan, names = self._plan, list[str]()
        for address in plan.price_addresses:
            try:
                with in_study_words():
                    reading = self._reading(address)
                    if reading is None:
                        return  # the others may be among those of a service
                    table = price_table(reading, plan.panel.price_column, plan.panel.volume_column)
            except UltrumError as error:
                yield ("panel", "assets"), str(error)
                return
            names += table.prices.names
        for place, wanted in self._asset_names():
            if wanted and wanted not in [*names, *plan.portfolios]:
                yield place, f"no asset '{wanted}'; {one_of(wanted, names)}"
        for key in EVENTS:
            yield from self._events(key, names)

    def _asset_names(self) -> Iterator[tuple[Place, str]]:
        """Assets by the keys that list them."""
        plan = self._plan
        yield ("study", "asset"), plan.study.asset
        for name in plan.panel.only:
            yield ("panel", "only"), name
        for folio, section in plan.portfolios.items():
            for name in section.assets:
                yield ("portfolios", folio, "assets"), name
        if plan.cost_of_equity is not None:
            yield ("cost_of_equity", "company"), plan.cost_of_equity.company
            for name in plan.cost_of_equity.peers.companies if plan.cost_of_equity.peers else ():
                yield ("cost_of_equity", "peers", "companies"), name

    def _events(self, key: str, names: list[str]) -> Iterator[tuple[Place, str]]:
        """Missing columns of a table of events."""
        given = getattr(self._plan.panel, key)
        section = EventsSection(table=given) if isinstance(given, str) and given else given
        if not isinstance(section, EventsSection):
            return
        roles = ["asset", "date", "ratio" if key == "splits" else "amount"]
        try:
            with in_study_words():
                reading = self._reading(section.table, records_only=True)
                if reading is not None:
                    event_columns(
                        reading.records, section.table, roles, section.model_dump(exclude={"table"}), names
                    )
        except UltrumError as error:
            yield ("panel", key), str(error)

    def _factors(self) -> Iterator[tuple[Place, str]]:
        """Factors of models that are neither columns of the factor file nor series of the study."""
        plan, series = self._plan, all_series(self._plan)
        try:
            with in_study_words():
                reading = self._reading(plan.panel.factors, units=plan.panel.factor_units)
                if reading is None:
                    return
                columns = factor_returns(reading).table.names
        except UltrumError as error:
            yield ("panel", "factors"), str(error)
            return
        for number, model in enumerate(plan.models):
            for factor in model.factors:
                if factor not in [*columns, *series]:
                    place = ("models", str(number), "factors")
                    yield (place, f"{plan.panel.factors} has no factor '{factor}'; {one_of(factor, columns)}")
