"""A commented study file to start from: for a user's own files, or for the practice data."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final

from ultrum.desk.desk import Desk
from ultrum.errors import StudyError, one_of
from ultrum.file_access import path_of
from ultrum.sources.table.price_and_event_columns import account_columns
from ultrum.study.own_files import FileChoices, FileStudy, file_study
from ultrum.study.schema import Study

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
