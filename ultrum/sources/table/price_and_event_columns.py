"""Columns of prices, dividends, splits and company accounts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import PurePosixPath
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import LOG_TO_SIMPLE, Metadata, plain_heading
from ultrum.core.series.time_series import SeriesTable
from ultrum.errors import TableError, choices, name_list, one_of
from ultrum.sources.table.reading_result import ASSET_HEADINGS, Decision, Reading
from ultrum.sources.table.table_detection import is_event_heading
from ultrum.sources.table.unit_statements import CURRENCY_LABELS, currency_and_power
from ultrum.sources.table.units import UnitFinding, role_of

_WORDS: Final = {
    "debt": ("net debt", "debt", "total debt", "borrowings", "net borrowings", "interest bearing debt"),
    "equity": (
        "market value",
        "market cap",
        "market capitalisation",
        "market capitalization",
        "equity value",
        "equity",
    ),
    "tax": ("tax rate", "tax", "effective tax rate", "corporate tax rate"),
}


def account_columns(headings: Sequence[str], where: str) -> dict[str, str]:
    """Headings of debt, equity and tax, recognised by their words; units after the words are ignored.

    Raises
    ------
    TableError
        If one is absent or ambiguous.

    Examples
    --------
    >>> account_columns(["Symbol", "Net Debt (m)", "Market Cap", "Tax Rate"], "accounts.csv")
    {'debt': 'Net Debt (m)', 'equity': 'Market Cap', 'tax': 'Tax Rate'}
    """
    heading_of_role: dict[str, str] = {}
    for role, words in _WORDS.items():
        named = [h for h in headings if _begins(plain_heading(h), words)]
        if len(named) != 1:
            what = " and ".join(named) if named else "no column"
            raise TableError(f"{where}: {what} for the {role} of the peers. Its columns are {choices(headings)}.")
        heading_of_role[role] = named[0]
    return heading_of_role


def _begins(heading: str, words: Sequence[str]) -> bool:
    """Whether a heading consists of some words, optionally with a unit."""
    return any(heading == w or (heading.startswith(f"{w} ") and len(heading) <= len(w) + 4) for w in words)


# Event columns of a table: asset, date and amount of dividends, splits or payments

_DATE: Final = (
    "date",
    "ex date",
    "exdate",
    "ex dividend date",
    "exdividend date",
    "ex day",
    "effective date",
    "period end",
    "pay date",
    "payment date",
)
_AMOUNT: Final = (
    "amount",
    "dividend",
    "dividends",
    "dividend amount",
    "cash amount",
    "cash dividend",
    "gross dividend",
    "payment",
    "final payment",
    "value",
    "dividend per share",
    "amount per share",
)
_RATIO: Final = ("ratio", "split", "splits", "stock splits", "split ratio", "factor", "split factor")
_RELEASES: Final = {
    "period": (
        "period",
        "time period",
        "reference period",
        "ref period",
        "quarter",
        "month",
        "observation period",
    ),
    "released": (
        "released",
        "release date",
        "published",
        "publication date",
        "release",
        "vintage",
        "vintage date",
    ),
    "value": ("value", "obs value", "figure", "estimate", "amount"),
}
WORDS: Final = {"asset": ASSET_HEADINGS, "date": _DATE, "amount": _AMOUNT, "ratio": _RATIO}


def stated_currencies(units: Mapping[str, UnitFinding]) -> dict[str, str]:
    """The currency of each column that states one."""
    return {name: str(u.facts["currency"]) for name, u in units.items() if u.facts.get("currency")}


def in_units_of_prices(
    events: Mapping[str, pd.DataFrame], units: Mapping[str, UnitFinding]
) -> dict[str, pd.DataFrame]:
    """Tables of the events beside prices, with amounts scaled as the prices are.

    An amount with a currency of its own is scaled by that alone: 5 GBp are 0.05 GBP.
    """
    factors = {u.factor for u in units.values() if u.facts.get("measure") == "price"}
    of_prices = factors.pop() if len(factors) == 1 else 1.0
    tables = dict(events)
    for kind, table in events.items():
        if "amount" not in table:
            continue
        stated = table["currency"].tolist() if "currency" in table else [""] * len(table)
        found = [currency_and_power(text) for text in stated]
        scale = [10.0**power if code else of_prices for code, power in found]
        tables[kind] = table.assign(amount=table["amount"] * scale)
        if "currency" in table:
            tables[kind]["currency"] = [code or text for (code, _), text in zip(found, stated, strict=True)]
    return tables


def event_columns(
    table: pd.DataFrame,
    where: str,
    wanted: Sequence[str],
    given: dict[str, str],
    assets: Sequence[str],
    currencies: Mapping[str, str] | None = None,
) -> pd.DataFrame:
    """A table of events with its columns under standard names.

    Parameters
    ----------
    table : DataFrame
        Records, one per event.
    where : str
        Address or file, for messages.
    wanted : sequence of str
        ``asset``, ``date`` and ``amount``, or ``ratio`` for splits.
    given : dict of str to str
        Headings by their standard names, for unusual headings.
    assets : sequence of str
        Assets with prices. A table without a column of assets belongs to the only asset.
    currencies : mapping of str to str, optional
        Currency of each column that states one; that of the amounts is a column ``currency``.

    Raises
    ------
    TableError
        If a column is absent or ambiguous.

    Examples
    --------
    >>> records = pd.DataFrame({"Ticker": ["KELP"], "Ex-Date": ["2024-05-10"], "Dividends": [1.5]})
    >>> event_columns(records, "dividends.csv", ["asset", "date", "amount"], {}, ["KELP"]).columns.tolist()
    ['asset', 'date', 'amount']
    """
    names: dict[str, str] = {}
    for role in wanted:
        column = _column(table, where, role, given.get(role, ""), set(names))
        if column:
            names[column] = role
    if "amount" in wanted and "currency" not in table:
        names |= {c: "currency" for c in map(str, table.columns) if CURRENCY_LABELS.fullmatch(c.strip())}
    unused = [c for c in names.values() if c in table and c not in names]
    renamed = table.drop(columns=unused).rename(columns=names)
    if "asset" in wanted and "asset" not in renamed:
        if len(assets) != 1:
            raise TableError(f"{where} has no column of assets, and there are {len(assets)}; {_headings(table)}")
        renamed = renamed.assign(asset=assets[0])
    amount = next((c for c, role in names.items() if role == "amount"), "")
    if currencies and amount in currencies and "currency" not in renamed:
        renamed = renamed.assign(currency=currencies[amount])
    return renamed


def _column(table: pd.DataFrame, where: str, role: str, given: str, taken: set[str]) -> str:
    """The column of a role: the given one, or the one with a usual heading."""
    headings = [str(c) for c in table.columns if str(c) not in taken]
    if given:
        if given not in headings:
            raise TableError(f"{where} has no column '{given}'; {one_of(given, headings)}")
        return given
    if role in headings:
        return role
    words = WORDS[role]
    named = [c for c in headings if plain_heading(c) in words]
    if len(named) == 1 or (named and role == "date"):
        return min(named, key=lambda c: words.index(plain_heading(c)))
    if role == "asset" and not named:
        return ""
    if role == "date":
        dated = [c for c in headings if pd.api.types.is_datetime64_any_dtype(table[c])]
        named = dated[:1]
    if role in ("amount", "ratio") and not named:
        named = [c for c in headings if pd.api.types.is_numeric_dtype(table[c])]
    if len(named) == 1:
        return named[0]
    count = "no column" if not named else f"{len(named)} columns ({', '.join(named)})"
    raise TableError(f"{where} has {count} for the {role}; {_headings(table)}")


def _headings(table: pd.DataFrame) -> str:
    return f"its columns are {', '.join(map(str, table.columns))}. Name the column of each."


def release_column(headings: Sequence[str], where: str, role: str, given: str = "") -> str:
    """Heading of the period, the release date or the value in a table of releases.

    Parameters
    ----------
    headings : sequence of str
    where : str
        Address or file, for messages.
    role : {"period", "released", "value"}
    given : str
        A given heading.

    Raises
    ------
    TableError
        If it is absent.

    Examples
    --------
    >>> release_column(["Quarter", "Published", "GDP"], "gdp.csv", "released")
    'Published'
    >>> release_column(["Quarter", "date", "GDP"], "gdp.csv", "released")
    'date'
    """
    named = [h for h in headings if plain_heading(h) in _RELEASES[role]]
    wanted = given or (named[0] if named else "")
    if wanted in headings:
        return wanted
    if role == "released" and not given and "date" in headings:
        return "date"  # the reader's own name of the column of dates
    missing = f"'{wanted}'" if wanted else f"for the {role}"
    raise TableError(f"{where} has no column {missing}; its columns are {choices(headings)}.")


# Price columns of a table: the price, its assets, and whether it includes dividends

_VALUE: Final = ("value", "level", "index", "index level")  # also names an asset can have
_TOTAL: Final = {"measure": "price", "income": "total"}
_PERCENT_FROM: Final = 0.3  # median size of returns from which they must be percent
_DECIMAL_TO: Final = 0.1  # and up to which they must be decimals
_LARGEST_RETURN: Final = 20.0  # median size from which values that are hardly ever negative are levels
_LARGEST_ASSET_RETURN: Final = 1.0  # the same for assets, whose file has no risk-free return
_FEWEST_LOSSES: Final = 0.1  # share of returns at or below zero, under which values of that size are levels


@dataclass(frozen=True)
class PriceTable:
    """Prices, or returns, by asset.

    Attributes
    ----------
    prices : SeriesTable
        One column per asset.
    volumes : SeriesTable or None
    column : str
        Heading of the price column; empty if each column is an asset.
    decisions : tuple of Decision
    """

    prices: SeriesTable
    volumes: SeriesTable | None
    column: str
    decisions: tuple[Decision, ...]

    @property
    def holds_returns(self) -> bool:
        """Whether the values are returns, not prices."""
        return all(a.is_return for a in self.prices.metadata)

    @property
    def includes_dividends(self) -> bool:
        """Whether every price includes dividends."""
        return all(a.income == "total" or a.is_return for a in self.prices.metadata)


def price_table(reading: Reading, price_column: str = "", volume_column: str = "", asset: str = "") -> PriceTable:
    r"""The prices of a table: one asset with several columns, one column per asset, or rows by asset.

    Parameters
    ----------
    reading : Reading
    price_column, volume_column : str
        Headings; recognised by their words if empty. An adjusted price is preferred to a close.
    asset : str
        Name of the asset of a table with one asset; by default the name of the file.

    Raises
    ------
    TableError
        If no column or several can be the price.

    Examples
    --------
    >>> import pandas as pd
    >>> from ultrum.sources.table.reader import read_table
    >>> from ultrum.sources.table.reading_result import TableOptions
    >>> text = b"Date,Open,Close,Adj Close,Volume\n2024-01-02,9,10,8,100\n2024-01-03,10,11,9,100\n"
    >>> found = price_table(read_table(text, "KELP.csv", TableOptions(), "2024-02-01"))
    >>> found.prices.names, found.column, found.includes_dividends
    (['KELP'], 'Adj Close', True)
    """
    if not reading.fields:
        raise TableError(f"{reading.name} has no prices: no column has numbers by date.")
    if any(table.names != [column] for column, table in reading.fields.items()):
        column = _chosen(reading, price_column)
        return _price_table(reading, reading.fields[column], column, volume_column)
    column = _match(reading, price_column) if price_column else _price_heading(reading)
    if column and not price_column:
        _check_one_asset(reading, column)
    if price_column or column:
        column = column or _chosen(reading, price_column)
        name = asset or PurePosixPath(reading.name).name.split(".")[0]
        prices = _rename(reading.fields[column], name)
        return _price_table(reading, prices, column, volume_column, name)
    return _wide(reading)


def _rename(table: SeriesTable, name: str) -> SeriesTable:
    """A table of one series under another name."""
    return table.only().with_metadata(name=name).as_table()


def _price_heading(reading: Reading) -> str:
    """The column with a heading of a price, an adjusted one preferred; empty if there is none."""
    adjusted = [c for c, t in reading.fields.items() if t.metadata[0].income == "total"]
    values = [c for c in reading.fields if plain_heading(c) in _VALUE]
    for role, first in (("adjusted close", adjusted), ("close", []), ("", values)):
        named = [c for c in reading.fields if role and role_of(c) == role]
        candidates = list(dict.fromkeys([*first, *named]))
        if len(candidates) > 1:
            raise _ambiguous(reading, candidates)
        if candidates:
            return candidates[0]
    return ""


def _ambiguous(reading: Reading, columns: Sequence[str]) -> TableError:
    """Refuse several columns that can be the price."""
    names = name_list(f"'{c}'" for c in columns)
    return TableError(f"{reading.name}: the price could be any of {names}.", setting="price_column")


def _check_one_asset(reading: Reading, column: str) -> None:
    """Refuse a column such as 'Index' next to columns that can be further assets."""
    if plain_heading(column) not in _VALUE:
        return
    others = [
        c
        for c, t in reading.fields.items()
        if c != column and not role_of(c) and t.metadata[0].measure in ("", "price")
    ]
    if others:
        names = name_list(f"'{c}'" for c in others)
        raise TableError(
            f"{reading.name}: '{column}' could be the price of one asset, or an asset like {names}.",
            fix=f"Name the price column, or, if '{column}' is an asset, rename its heading.",
            setting="price_column",
        )


def _match(reading: Reading, heading: str) -> str:
    """The column with a heading, ignoring case and signs; empty if there is none."""
    if heading in reading.fields:
        return heading
    same = [c for c in reading.fields if plain_heading(c) == plain_heading(heading)]
    return same[0] if len(same) == 1 else ""


def _chosen(reading: Reading, price_column: str) -> str:
    """The price column of a table with rows by asset."""
    if price_column:
        column = _match(reading, price_column)
        if not column:
            hint = one_of(price_column, reading.fields)
            raise TableError(f"{reading.name} has no column '{price_column}'; {hint}", setting="price_column")
        return column
    priced = [c for c, t in reading.fields.items() if t.metadata[0].measure in ("price", "index")]
    options = [c for c in [_price_heading(reading)] if c] or priced or list(reading.fields)
    if len(options) > 1:
        raise _ambiguous(reading, options)
    return options[0]


def _price_table(
    reading: Reading, prices: SeriesTable, column: str, volume_column: str, asset: str = ""
) -> PriceTable:
    """The prices of one column with their measure, the volumes, and the decisions."""
    volume = _match(reading, volume_column) if volume_column else _volume_heading(reading)
    volumes = reading.fields[volume] if volume else None
    if volumes is not None and asset:
        volumes = _rename(volumes, asset)
    if volumes is not None and volumes.names != prices.names:
        volumes = None
    if role_of(column) == "adjusted close":
        prices = prices.with_metadata(**_TOTAL)
    prices, decisions = _with_measure(reading.name, prices)
    includes = prices.metadata[0].income == "total"
    notes = [Decision("price column", f"'{column}'{', which includes dividends' if includes else ''}")]
    if volume and volumes is not None:
        idle = int(((volumes.block == 0.0) & np.isfinite(prices.block)).sum())
        unused = f"; {quantity(idle, 'price')} of days without trade in the file not used" if idle else ""
        notes.append(Decision("volume column", f"'{volume}'{unused}"))
    others = [c for c in reading.fields if c not in (column, volume if volumes is not None else "")]
    others = [c for c in others if not (reading.events and is_event_heading(c))]
    if others:
        notes.append(Decision("columns not used", ", ".join(others)))
    if asset:
        notes.insert(0, Decision("asset", asset, certainty="from the name of the file"))
    return PriceTable(prices, volumes, column, (*notes, *decisions))


def _volume_heading(reading: Reading) -> str:
    return next((c for c in reading.fields if role_of(c) == "volume"), "")


def _wide(reading: Reading) -> PriceTable:
    """A table with one column per asset; columns that are not prices are not used and reported."""
    other = ("flow", "rate", "stock", "quote", "score")
    columns = {c: t for c, t in reading.fields.items() if t.metadata[0].measure not in other}
    if not columns:
        raise TableError(
            f"{reading.name}: none of {name_list(reading.fields)} is a price. If one is, read the "
            "table with measure=price."
        )
    table = SeriesTable.of([t[n] for t in columns.values() for n in t.names])
    prices, decisions = _with_measure(reading.name, table)
    left_out = [c for c in reading.fields if c not in columns]
    what = "returns" if prices.metadata[0].is_return else "prices"
    notes = [Decision("shape", f"a column of {what} for each of {quantity(len(columns), 'asset')}")]
    if left_out:
        notes.append(Decision("columns not used", ", ".join(left_out)))
    return PriceTable(prices, None, "", (*notes, *decisions))


def _with_measure(name: str, table: SeriesTable) -> tuple[SeriesTable, list[Decision]]:
    """The table with its measure; values at or below zero mean returns, not prices."""
    if any(a.measure for a in table.metadata):
        measures = {a.measure for a in table.metadata if a.measure}
        if len(measures) > 1:
            raise TableError(f"{name} mixes {' and '.join(sorted(measures))}. Use one file for each kind.")
        return table.with_metadata(measure=measures.pop()), []
    values = table.block[np.isfinite(table.block)]
    if not len(values) or values.min() > 0:
        return table.with_metadata(measure="price"), [
            Decision("measure", "prices", "returns", "all values are above zero")
        ]
    if table.metadata[0].unit == "decimal":
        return table.with_metadata(measure="return"), [
            Decision("measure", "returns", "", "some values are below zero")
        ]
    _check_not_levels(name, table, _LARGEST_ASSET_RETURN)
    return returns_by_size(name, table)


def _check_not_levels(name: str, table: SeriesTable, largest: float = _LARGEST_RETURN) -> None:
    """Refuse prices with a few values at or below zero, and levels in a table of returns."""
    columns = sorted(
        zip(table.names, table.block.T, strict=True), key=lambda c: -int((c[1] <= 0).sum())
    )  # the odd value first
    for column, values in columns:
        finite = values[np.isfinite(values)]
        if not len(finite) or np.median(np.abs(finite)) < largest:
            continue
        losses = int((finite <= 0).sum())
        if losses < _FEWEST_LOSSES * len(finite):
            raise TableError(
                f"{name}: '{column}' has {losses} of {len(finite)} values at or below zero and a median of "
                f"{np.median(finite):.4g}, so it looks like prices or levels, not returns.",
                fix="Correct these values, or put levels and returns in separate files.",
            )


def returns_by_size(name: str, table: SeriesTable) -> tuple[SeriesTable, list[Decision]]:
    """Returns in decimals: percent and decimals differ in size; ambiguous sizes are refused.

    Raises
    ------
    TableError
        If they are ambiguous, if only some columns state their units, or if they look like levels.
    """
    _check_not_levels(name, table)
    stated = [a.name for a in table.metadata if a.unit == "decimal"]
    if stated and (silent := [n for n in table.names if n not in stated]):
        raise TableError(
            f"{name}: the units of '{stated[0]}' are stated, but those of '{silent[0]}' are not.",
            fix="Read the file with units='percent' or units='decimal'.",
            setting="units",
        )
    sizes = [float(np.median(np.abs(c[np.isfinite(c)]))) for c in table.block.T if np.isfinite(c).any()]
    size = max(sizes, default=0.0)
    if _DECIMAL_TO < size < _PERCENT_FROM:
        raise TableError(
            f"{name}: returns with a median absolute value of {size:.3g} could be percent or decimals.",
            fix="Read the file with units='percent' or units='decimal'.",
            setting="units",
        )
    percent = size >= _PERCENT_FROM
    chosen = "percent" if percent else "decimals"
    decision = Decision("units", chosen, "decimals" if percent else "percent", f"median size {size:.3g}")
    scaled = SeriesTable.from_arrays(table.block / 100.0 if percent else table.block, table.index, table.metadata)
    return simple_returns(scaled.with_metadata(unit="decimal")), [decision]


def simple_returns(table: SeriesTable) -> SeriesTable:
    """Columns of returns as simple ones; those that the file states to be log returns are converted."""
    if not any(m.measure == "log_return" for m in table.metadata):
        return table.with_metadata(measure="return")
    from ultrum.core.returns.price_log_and_excess_returns import to_simple  # files of prices do not need it

    stated = [m if m.measure == "log_return" else m.replace(measure="return") for m in table.metadata]
    return to_simple(SeriesTable.from_arrays(table.block, table.index, stated))


def was_log(metadata: Metadata) -> bool:
    """Whether simple returns were converted from log returns."""
    return any(step.action == LOG_TO_SIMPLE for step in metadata.trail)
