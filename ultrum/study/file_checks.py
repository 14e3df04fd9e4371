"""Checks of a study against its local files: missing files, columns, assets and factors."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ultrum.desk.desk import Desk
from ultrum.errors import StudyError, UltrumError, one_of
from ultrum.sources.download import Address
from ultrum.sources.table.factor_columns import factor_returns
from ultrum.sources.table.file_patterns import files_of, is_pattern
from ultrum.sources.table.price_and_event_columns import event_columns, price_table
from ultrum.sources.table.reading_result import Reading
from ultrum.study.schema import Study, all_series
from ultrum.study.sections import EventsSection
from ultrum.study.validation import EVENTS, Fault, Lines, Place, addresses, in_study_words


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
