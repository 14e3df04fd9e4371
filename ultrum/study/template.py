"""A commented study file to start from: for a user's own files, or for the practice data."""

from __future__ import annotations

import math
import os
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Final

import pandas as pd

from ultrum.core.series.excess_headings import plain_heading
from ultrum.core.time.frequency import Frequency
from ultrum.desk.desk import Desk
from ultrum.desk.settings import SnapshotSettings, SourceSettings
from ultrum.errors import StudyError, name_list, one_of
from ultrum.file_access import path_of
from ultrum.sources.database import Query
from ultrum.sources.download import Address
from ultrum.sources.table.factor_columns import FactorTable, factor_table
from ultrum.sources.table.price_and_event_columns import PriceTable, account_columns, event_columns, price_table
from ultrum.sources.table.reading_result import Decision, Reading
from ultrum.study.schema import Study

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


# A commented study file to begin with: of a user's own files, or of the practice world

SOURCE: Final = "here"
_HEAD: Final = """# {title}
# Every key is explained in docs/study.md. A line that begins with # and a key is an alternative.

[study]
title = {title}
frequency = {frequency}{others}
{currency}
span = ["earliest", "latest"]        # or ["2010-01", "2023-12"]

"""
_REPORT: Final = """[report]
figures = {figures}
export = ["csv", "xlsx"]
"""
_PRACTICE: Final = """[sources.observatory]                # statistics, over SDMX
kind = "sdmx"
url = "http://127.0.0.1:8765/sdmx"   # the practice world: run `ultrum practice` next to it

[sources.exchange]                   # files: prices, dividends, splits
kind = "table"
url = "http://127.0.0.1:8765/exchange/"

[sources.college]                    # factor returns
kind = "table"
url = "http://127.0.0.1:8765/college/"

[panel]
assets = "exchange:prices.csv"
companies = "exchange:companies.csv"
dividends = "exchange:dividends.csv"
splits = "exchange:splits.csv"
final_payments = "exchange:final_payments.csv"
exchange_rates = ["observatory:FX/B.QSR.QML"]
factors = "college:factors_monthly.zip"
risk_free = "college:factors_monthly.zip#bill"

"""
_FREQUENCIES: Final = {"D": 0, "B": 0, "W": 1, "M": 2, "Q": 3, "A": 4}


@dataclass(frozen=True)
class FurtherFiles:
    """Files next to prices and factors, by address.

    Attributes
    ----------
    inflation : str
        Address of a price index, with its column.
    accounts : str
        Table of accounts: asset, date, debt, equity, tax.
    """

    inflation: str = ""
    accounts: str = ""


def practice_study(
    path: str | os.PathLike[str],
    asset: str,
    factors: Sequence[str] = ("market",),
    frequency: str = "M",
    title: str = "",
) -> Path:
    """Write a study of the practice data.

    Raises
    ------
    StudyError
        If the file exists, or the choices do not give a valid study.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     Study.load(practice_study(Path(folder, "mine.toml"), "EBMK", ["market", "value"])).models[0].factors
    ['market', 'value']
    """
    name = title or f"Cost of equity of {asset}"
    currency = 'currency = "QML"                     # prices in others are converted to it'
    head = _head(name, frequency, '         # of the panel: "M", "Q", "W"', currency)
    first = factors[0] if factors else "market"
    premium = f"# premium = {{ {_quote(first)} = 0.055 }}       # by default the mean of each factor's history"
    text = "".join(
        (
            head,
            _PRACTICE,
            _model(factors, []),
            f'[cost_of_equity]\ncompany = {_quote(asset)}\nmodel = "first"\n{premium}\n\n',
            _REPORT.format(figures=_toml_list(["components", "line of fit", "betas"])),
        )
    )
    return _written(path, text)


def write_file_study(
    path: str | os.PathLike[str], desk: Desk, choices: FileChoices, further: FurtherFiles | None = None
) -> tuple[Path, FileStudy]:
    """Write a study of files, with the roles of their columns and valid alternatives.

    Parameters
    ----------
    path : path
    desk : Desk
        The study's source ``here`` is its own folder.
    choices : FileChoices
        It includes a cost of equity if the files have a risk-free return.
    further : FurtherFiles, optional

    Returns
    -------
    path, FileStudy

    Raises
    ------
    StudyError
        If the file exists, or the files do not give a valid study.
    """
    draft = file_study(desk, replace(choices, cost=False))
    priced = draft.study.panel.risk_free is not None
    further = further or FurtherFiles()
    if (further.inflation or further.accounts) and not priced:
        raise StudyError("Inflation and accounts are used by a cost of equity, which needs a risk-free rate.")
    study, asset = draft.study, draft.study.study.asset
    title = choices.title or (f"Cost of equity of {asset}" if priced else f"Beta of {asset}")
    factor_frequency = draft.factors.factors.frequency.code
    lower = [f for f, rank in _FREQUENCIES.items() if rank >= max(_FREQUENCIES.get(factor_frequency, 0), 1)]
    alternatives = ", ".join(_quote(f) for f in lower if f not in (study.study.frequency, "A"))
    others = f"                      # or {alternatives}" if alternatives else ""
    currency = '# currency = "..."                   # of the prices, by its three letters'
    head = _head(title, study.study.frequency, others, currency)
    if not priced:
        head = head.replace("\nspan =", f"\nasset = {_quote(asset)}\nspan =")
    panel = study.model_dump(mode="json", exclude_defaults=True)["panel"]
    panel.pop("only", None)  # the others are peers
    used = list(study.model.factors)
    unused = [f for f in draft.factors.factors.names if f not in used]
    parts = [
        head,
        _sources(study),
        _inflation_series(further),
        _panel(draft, panel),
        _model(used, unused),
        *([_cost(desk, draft, further, asset)] if priced else []),
        _REPORT.format(figures=_toml_list([*(["components"] if priced else []), "line of fit", "betas"])),
    ]
    return _written(path, "".join(parts)), draft


def _head(title: str, frequency: str, others: str, currency: str) -> str:
    return _HEAD.format(
        title=_quote(title), frequency=_quote(frequency), others=others, currency=currency
    ).replace(f"# {_quote(title)}", f"# {' '.join(title.split())}", 1)


def _sources(study: Study) -> str:
    """The folder of the files, and the given reading options."""
    lines = []
    for name, source in study.sources.items():
        lines += [f"[sources.{name}]", f"kind = {_quote(source.kind)}"]
        url = "." if name == SOURCE else source.url
        lines += [f"url = {_quote(url)}", ""]
        for path, options in source.tables.items():
            lines.append(f"[sources.{name}.tables.{_quote(path)}]")
            lines += [f"{key} = {_value(value)}" for key, value in options.items()] + [""]
    return "\n".join(lines) + "\n"


def _inflation_series(further: FurtherFiles) -> str:
    if not further.inflation:
        return ""
    steps = '[{ growth = { over = "P1Y" } }]'
    return f"[series.inflation]\naddress = {_quote(further.inflation)}\nsteps = {steps}\n\n"


def _panel(draft: FileStudy, panel: Mapping[str, object]) -> str:
    """The panel, each key with its reason, and other columns that can be the price."""
    reasons = _reasons(draft)
    lines = ["[panel]"]
    for key, value in panel.items():
        text = f"{key} = {_value(value)}"
        lines.append(f"{text:36s} # {reasons[key]}" if key in reasons else text)
        if key == "price_column":
            closes = [c for c in _columns(draft) if c.lower() == "close" and c != value]
            lines += [f"# price_column = {_quote(c)}           # without dividends" for c in closes]
    return "\n".join(lines) + "\n\n"


def _columns(draft: FileStudy) -> list[str]:
    """Unused columns of the first price file."""
    for _, decision in draft.decisions:
        if decision.what == "columns not used":
            return decision.chosen.split(", ")
    return []


def _reasons(draft: FileStudy) -> dict[str, str]:
    """Reasons for the keys of the panel."""
    reasons = {}
    if all(p.includes_dividends and not p.holds_returns for p in draft.prices):
        reasons["price_column"] = "includes dividends"
    for _, decision in draft.decisions:
        if decision.what == "units" and decision.chosen in ("percent", "decimals"):
            reasons["factor_units"] = decision.certainty
    return reasons


def _model(used: Sequence[str], unused: Sequence[str]) -> str:
    more = f"\n# factors = {_toml_list([*used, *unused])}" if unused else ""
    return (
        f'[[models]]                           # as many as you like, each with a name\nname = "first"\n'
        f"factors = {_toml_list(used)}{more}\n\n"
    )


def _cost(desk: Desk, draft: FileStudy, further: FurtherFiles, asset: str) -> str:
    """The cost of equity, with its alternatives, and the peers if there are accounts."""
    market = draft.factors.market
    lines = [
        "[cost_of_equity]",
        f"company = {_quote(asset)}",
        'model = "first"',
        f"# premium = {{ {_quote(market)} = 0.055 }}   # annual; by default the mean of the factor's history",
    ]
    if further.inflation:
        lines.append('inflation = "inflation"              # for the cost in real terms')
    lines.append("")
    if further.accounts:
        table = desk.table(further.accounts, records_only=True).records
        columns = account_columns([str(c) for c in table.columns], further.accounts)
        names = [n for p in draft.prices for n in p.prices.names if n != asset]
        if not names:
            raise StudyError(f"Peers of {asset} need prices of other companies.")
        lines += [
            "[cost_of_equity.peers]",
            f"accounts = {_quote(further.accounts)}",
            f"companies = {_toml_list(names)}",
            *(f"{role} = {_quote(column)}" for role, column in columns.items()),
            "",
        ]
    return "\n".join(lines) + "\n"


def _written(path: str | os.PathLike[str], text: str) -> Path:
    """Write a study after checking it; an existing file is not overwritten."""
    target = path_of(path)
    if target.exists():
        raise StudyError(f"{target} exists already; choose another name.")
    Study.parse(text, target.name, target.absolute().parent)
    try:
        target.write_text(text, encoding="utf-8")
    except OSError as error:
        raise StudyError(f"{target} cannot be written: {error.strerror}.") from error
    return target


def price_index(desk: Desk, address: str) -> str:
    """The address of a price index, with its column if the file has a single one.

    Raises
    ------
    StudyError
        If the file has several columns and none is given.
    """
    if "#" in address:
        return address
    names = list(desk.table(address).series)
    if len(names) != 1:
        raise StudyError(f"{address}: set the column of the price index; {one_of('', names)}")
    return f"{address}#{names[0]}"


def _value(value: object) -> str:
    """A TOML value."""
    if isinstance(value, str):
        return _quote(value)
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, list):
        return _toml_list(value)
    if isinstance(value, dict):
        inside = ", ".join(f"{key} = {_value(v)}" for key, v in value.items())
        return f"{{ {inside} }}"
    return repr(value)


def _toml_list(values: Sequence[str]) -> str:
    return "[" + ", ".join(_value(v) for v in values) + "]"


def _quote(text: str) -> str:
    """A TOML string."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return '"' + "".join(c if c.isprintable() else " " for c in escaped) + '"'
