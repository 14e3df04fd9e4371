"""Series from typed rows: keys, frequency, breaks of definition and time zones."""

from __future__ import annotations

import functools
import itertools
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.array_types import Array, Dates, Floats, Ints
from ultrum.core.currency.exchange_rates import pair_in
from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import Metadata, Step, excess_of_heading
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.frequency import Frequency, parse_period
from ultrum.core.time.index_frequency_and_gaps import distinct, infer_frequency, intraday_frequency
from ultrum.errors import FrequencyError, TableError
from ultrum.sources.table.ambiguous_dates import ReadDates
from ultrum.sources.table.cell_grid import CodedTexts, codes_of, first_rows, key_columns, rows_repeat
from ultrum.sources.table.composite_dates import in_zone
from ultrum.sources.table.number_formats_and_date_words import is_number_text
from ultrum.sources.table.price_and_event_columns import in_units_of_prices, stated_currencies
from ultrum.sources.table.reading_result import CellsOfColumn, Decision, Reading, TableOptions
from ultrum.sources.table.table_detection import events_in_columns
from ultrum.sources.table.type_inference import NO_NUMBER, Typed
from ultrum.sources.table.unit_statements import LABELS, NOT_MONEY, currency_and_power, statement_of
from ultrum.sources.table.units import UnitFinding, role_of


def split_at_breaks(
    fields: dict[str, SeriesTable], detected: set[int], declared: Sequence[str], frequency: Frequency
) -> dict[str, SeriesTable]:
    """Series in parts, each named by its start.

    Parameters
    ----------
    fields : mapping of str to SeriesTable
    detected : set of int
        Ordinals of the periods at which the table marks a change.
    declared : sequence of str
        Given periods.
    frequency : Frequency
    """
    cuts = sorted(detected | _declarations(declared, frequency))
    if not cuts:
        return fields
    parted: dict[str, SeriesTable] = {}
    for column, table in fields.items():
        edges = [-(2**62), *cuts, 2**62]
        for low, high in itertools.pairwise(edges):
            inside = (table.ordinals >= low) & (table.ordinals < high)
            if inside.any():
                parted.update(_part(column, table, inside, frequency))
    return parted


def _declarations(periods: Sequence[str], frequency: Frequency) -> set[int]:
    days = [parse_period(text)[1] for text in periods]
    return {int(o) for o in frequency.ordinals(np.array(days))} if days else set()


def _part(column: str, table: SeriesTable, inside: Array, frequency: Frequency) -> dict[str, SeriesTable]:
    index = table.index[inside]
    label = frequency.labels(table.ordinals[inside][:1])[0]
    named = f"{column} from {label}"
    metadata_list = [
        a.add_step(
            "split where the definition changes", {"name": named if a.name == column else a.name}, at=label
        )
        for a in table.metadata
    ]
    return {named: SeriesTable.from_arrays(table.block[inside].copy(), index, metadata_list)}


# Series from typed rows, wide or long, with their frequency and units

_UNITS_OF_ROWS: Final = {"percent": {"unit": "decimal"}, "basis points": {"unit": "decimal"}}
_VALUE_NAMES: Final = ("value", "obs_value", "observation", "values", "val", "wert", "valeur", "amount")
_FEW_ROWS: Final = 10
_BASE_WORDS: Final = ("base", "base_currency", "base currency", "from", "from_currency", "of")
_QUOTE_WORDS: Final = (
    "quote",
    "quote_currency",
    "quote currency",
    "to",
    "to_currency",
    "counter",
    "currency",
    "in",
    "terms",
)


@dataclass(frozen=True)
class _Rows:
    """Typed rows ready for series: their periods, frequency and index."""

    ordinals: Ints
    frequency: Frequency
    index_of: Any
    certainty: str
    timed: str = ""


def assemble(name: str, columns: Typed, options: TableOptions) -> Reading:
    """Series from typed rows, wide or long.

    Raises
    ------
    TableError
        If periods repeat without a key column, or intraday data have no time zone.
    """
    options = replace(options, timezone=options.timezone or columns.timezone or None)
    if options.timezone and columns.dates.has_times and columns.dates.offsets is None:
        columns = replace(columns, dates=in_zone(columns.dates, options.timezone, name))
    columns, twice = _without_copies(columns)
    decisions = [*columns.decisions, *twice, *_unit_decisions(columns)]
    columns = _in_decimals(columns)
    plain = Reading(
        name,
        {},
        tuple(decisions),
        tuple(columns.rejected),
        columns.frame,
        events=_events(columns),
        currencies=stated_currencies(columns.units),
        cells=functools.partial(_cells, columns, ()),
    )
    if options.records_only:
        return plain
    if not columns.numeric and not plain.events:
        raise TableError(_no_numbers(name, columns))
    keys = _key_columns(columns, options)
    if keys is None:
        raise TableError(_dates_repeat(name, columns))
    labels = _join_keys(columns, keys)
    rows = _rows(columns, labels, options, name)
    if rows is None:
        raise TableError(
            f"{name}: the dates have no frequency. Set frequency=, such as frequency='D', or records_only=True "
            "to read the rows as they are."
        )
    fields = (
        _wide(name, columns, rows, options)
        if labels is None
        else _long(name, columns, keys, labels, rows, options)
    )
    if not keys:
        fields = _name_only_asset(fields, columns)
    shape = f"long, named by {' and '.join(repr(k) for k in keys)}" if keys else "wide, one series a column"
    order = _order(columns.dates.moments) if not keys else ""
    taken = [
        Decision("shape", shape),
        *([Decision("order", order)] if order else []),
        Decision("frequency", rows.frequency.name + rows.timed, certainty=rows.certainty),
    ]
    changes = {int(rows.ordinals[b]) for b in columns.breaks}
    parted = split_at_breaks(fields, changes, options.breaks or (), rows.frequency)
    return replace(
        plain, fields=parted, decisions=(*decisions, *taken), cells=functools.partial(_cells, columns, keys)
    )


def _cells(columns: Typed, keys: Sequence[str]) -> tuple[CellsOfColumn, ...]:
    """The account of the cells of the rows that are used."""
    rows = len(columns.dates.moments)
    counts = [CellsOfColumn("date", "date", rows, 0, 0)]
    for name, values in columns.columns.items():
        odd = sum(r.reason.endswith(f"in '{name}' {NO_NUMBER}") for r in columns.rejected)
        if name in columns.units:
            used = int(np.isfinite(values).sum())
            counts.append(CellsOfColumn(name, "value", used, rows - used - odd, odd))
            continue
        used = sum(bool(str(c).strip()) for c in values.tolist())
        what: Literal["name", "unit", "status", "text"] = (
            "name"
            if name in keys
            else "unit"
            if LABELS.fullmatch(name)
            else "status"
            if name in columns.status_of
            else "text"
        )
        counts.append(CellsOfColumn(name, what, used, rows - used, 0))
    return tuple(counts)


def _no_numbers(name: str, columns: Typed) -> str:
    first = {
        n: next((str(c) for c in cells if not is_number_text(c)), "") for n, cells in columns.columns.items()
    }
    shown = "; ".join(f"'{n}' has '{text[:30]}'" for n, text in list(first.items())[:4])
    return (
        f"{name}: no column has numbers: {shown}. Set delimiter= or decimal= if the cells are not split "
        "correctly, block= to the title of another table, or records_only=True to read the rows as they are."
    )


def _events(columns: Typed) -> Mapping[str, pd.DataFrame]:
    """Dividends and splits among the rows, and in columns if each date stands once."""
    events = dict(columns.events)
    if not pd.Series(columns.dates.instants).duplicated().any():
        values, stated = {n: columns.columns[n] for n in columns.numeric}, stated_currencies(columns.units)
        events = events_in_columns(values, columns.dates.moments, stated) | events
    return in_units_of_prices(events, columns.units)


def _dates_repeat(name: str, columns: Typed) -> str:
    days = pd.Series(columns.dates.moments)
    twice = days[days.duplicated()]
    words = any(n not in columns.units for n in columns.columns)
    return (
        f"{name}: {quantity(len(twice), 'duplicate period')}, first {str(twice.iloc[0])[:10]}. Remove one of "
        "each, or set asset_column= to the column of assets"
        + (", or records_only=True to read the rows as they are." if words else ".")
    )


def _without_copies(typed_columns: Typed) -> tuple[Typed, list[Decision]]:
    """Identical repeated rows, removed and counted."""
    instants = typed_columns.dates.instants
    steps = np.diff(instants.astype(np.int64))
    if (steps > 0).all() or (steps < 0).all():
        return typed_columns, []
    texts = {n: c for n, c in typed_columns.columns.items() if n not in typed_columns.units}
    if not rows_repeat([codes_of(values) for values in (instants, *texts.values())]):
        return typed_columns, []
    repeated = typed_columns.frame().assign(**{"": instants}).duplicated().to_numpy()
    if not repeated.any():
        return typed_columns, []
    kept = ~repeated
    offsets = typed_columns.dates.offsets[kept] if typed_columns.dates.offsets is not None else None
    dates = replace(typed_columns.dates, moments=typed_columns.dates.moments[kept], offsets=offsets)
    place = np.cumsum(kept) - 1
    columns = {n: c[kept] for n, c in typed_columns.columns.items()}
    statuses = {n: c[kept] for n, c in typed_columns.statuses.items()}
    decision = Decision(
        "duplicates", f"{quantity(int(repeated.sum()), 'repeated row')} removed; one of each kept"
    )
    return replace(
        typed_columns,
        dates=dates,
        columns=columns,
        statuses=statuses,
        breaks=[int(place[b]) for b in typed_columns.breaks],
    ), [decision]


def _unit_decisions(columns: Typed) -> list[Decision]:
    """One decision if all columns agree, otherwise one for each."""
    units = [(n, columns.units[n]) for n in columns.numeric]
    chosen = {(u.chosen, u.certainty) for _, u in units}
    if len(chosen) == 1:
        return [_unit_decision("units", units[0][1])]
    return [_unit_decision(f"units of '{n}'", u) for n, u in units]


def _unit_decision(what: str, unit: UnitFinding) -> Decision:
    return Decision(what, unit.chosen, unit.alternatives, unit.certainty, unit.line)


def _in_decimals(typed_columns: Typed) -> Typed:
    columns = {
        n: _in_units(c, typed_columns.units[n]) if n in typed_columns.units else c
        for n, c in typed_columns.columns.items()
    }
    return replace(typed_columns, columns=columns)


def _in_units(values: Array, unit: UnitFinding) -> Array:
    """Values without percent, basis points or multiples; a division rounds once."""
    if unit.percent:
        return np.asarray(values / 100.0)
    if unit.factor < 1.0:
        return np.asarray(values / round(1.0 / unit.factor))
    return np.asarray(values * unit.factor) if unit.factor > 1.0 else values


def _key_columns(columns: Typed, options: TableOptions) -> list[str] | None:
    """Columns that distinguish rows of one date: none needed, some, or None if there are none."""
    if options.asset_column:
        if options.asset_column not in columns.columns:
            names = ", ".join(columns.columns)
            raise TableError(f"asset_column='{options.asset_column}' is not a column; there are: {names}.")
        return [options.asset_column]
    texts = {n: c for n, c in columns.columns.items() if n not in columns.units}
    return key_columns(texts, columns.dates.instants)


def _join_keys(columns: Typed, keys: Sequence[str]) -> Array | None:
    if not keys:
        return None
    if len(keys) > 1:
        parts = [columns.columns[key].astype(str).astype(object) for key in keys]
        return np.asarray(functools.reduce(lambda left, right: left + "." + right, parts), dtype=object)
    cells = columns.columns[keys[0]]
    codes = codes_of(cells)
    return CodedTexts.of([str(cells[row]) if row >= 0 else "" for row in first_rows(codes).tolist()], codes)


def _rows(columns: Typed, labels: Array | None, options: TableOptions, name: str) -> _Rows | None:
    """Periods of the rows; None if the dates have no frequency."""
    dates = columns.dates
    if options.frequency:
        frequency = Frequency.parse(options.frequency)
        certainty = "given"
    else:
        guess = _frequency(dates, labels)
        if guess is None:
            return None
        frequency, certainty = guess
    if frequency.code in "HN":
        stamps = _stamps(dates, options, name)
        return _Rows(stamps.asi8, frequency, lambda o: _stamp_index(o, stamps), certainty)
    timed = ", the time of day left out" if dates.has_times else ""
    days = dates.moments.astype("datetime64[D]")
    ordinals = frequency.ordinals(days)
    if not options.frequency and not _are_distinct(ordinals, labels):
        frequency = Frequency("B" if bool(np.is_busday(days).all()) else "D")
        ordinals, certainty = frequency.ordinals(days), "several dates fall in one longer period"
    return _Rows(ordinals, frequency, frequency.index, certainty, timed)


def _are_distinct(ordinals: Ints, labels: Array | None) -> bool:
    return not rows_repeat([codes_of(v) for v in (ordinals, labels) if v is not None])


def _frequency(dates: ReadDates, labels: Array | None) -> tuple[Frequency, str] | None:
    """Frequency inferred from the dates."""
    if dates.frequency != "D":
        return Frequency(dates.frequency), "sure"
    moments = dates.moments
    if dates.has_times:
        longest = moments if labels is None else moments[labels == pd.Series(labels).mode()[0]]
        if len(distinct(longest.astype("datetime64[D]"))) < len(longest):
            return intraday_frequency(longest), "read off the smallest step"
    days = distinct(moments.astype("datetime64[D]"))
    daily = Frequency("B" if bool(np.is_busday(days).all()) else "D")
    if len(days) < 2:
        return daily, "a single date"
    try:
        shown = infer_frequency(pd.DatetimeIndex(days))
    except FrequencyError:
        return (daily, "irregular dates; read as days") if labels is None else None
    if shown.code == "W":
        ends = set(((days.astype(np.int64) + 3) % 7).tolist())
        shown = Frequency("W", 1, int(next(iter(ends)))) if len(ends) == 1 else shown
    return shown, "sure" if len(days) > 2 or shown.code in "BD" else "read off two dates"


def _stamps(dates: ReadDates, options: TableOptions, name: str) -> pd.DatetimeIndex:
    """Instants with their time zone: the cells' own, or the given one."""
    naive = pd.DatetimeIndex(dates.moments)
    if dates.offsets is not None:
        utc = (naive - pd.to_timedelta(dates.offsets, unit="s")).tz_localize("UTC")
        return utc.tz_convert(options.timezone) if options.timezone else utc
    if options.timezone:
        return naive.tz_localize(options.timezone)
    raise TableError(
        f"{name}: there are several observations per day and no time zone is stated. Set timezone='UTC', "
        "timezone='Europe/Paris' or another."
    )


def _stamp_index(ordinals: Ints, stamps: pd.DatetimeIndex) -> pd.DatetimeIndex:
    unit: object = stamps.unit
    return (
        pd.DatetimeIndex(ordinals.view(f"datetime64[{unit}]"), name="time")
        .tz_localize("UTC")
        .tz_convert(stamps.tz)
    )


def _order(moments: Dates) -> str:
    steps = np.diff(moments.astype("datetime64[s]").astype(np.int64))
    if not len(steps) or (steps >= 0).all():
        return ""
    return "newest first, turned round" if (steps <= 0).all() else "mixed, sorted by date"


_NAMED_BY: Final = ("series", "asset", "ticker", "symbol", "security", "instrument", "id", "isin")


def _name_only_asset(fields: dict[str, SeriesTable], columns: Typed) -> dict[str, SeriesTable]:
    """The only series of a column called value, by the name that stands in every row beside it."""
    if list(fields) != ["value"]:
        return fields
    named = (c for n, c in columns.columns.items() if n.strip().lower() in _NAMED_BY and c.dtype.kind == "O")
    names = next((set(c.tolist()) for c in named), set())
    only = str(next(iter(names))).strip() if len(names) == 1 else ""
    if not only:
        return fields
    table = fields["value"]
    return {
        only: SeriesTable.from_arrays(table.block, table.index, [m.replace(name=only) for m in table.metadata])
    }


def _wide(name: str, columns: Typed, rows: _Rows, options: TableOptions) -> dict[str, SeriesTable]:
    order = np.argsort(rows.ordinals, kind="stable")
    ordered = rows.ordinals[order]
    twice = np.flatnonzero(np.diff(ordered) == 0)
    if len(twice):
        label = str(rows.index_of(ordered[twice[:1]])[0])
        raise TableError(
            f"{name}: {quantity(len(twice), f'duplicate {rows.frequency.name} period')}, first {label}. Remove "
            "one of each, or set asset_column= to the column of assets."
        )
    straight = bool((order == np.arange(len(order))).all())
    gaps = _gaps(columns, rows, ordered)
    place = np.searchsorted(ordered, gaps)
    index = rows.index_of(np.insert(ordered, place, gaps))
    notes = {column: _notes(columns, column).get("") for column in columns.numeric}

    def values_of(column: str) -> Floats:
        """Values in order of time, with the missing days of rows that are not used."""
        values = columns.columns[column] if straight else columns.columns[column][order]
        return np.array(np.insert(values, place, np.nan) if len(gaps) else values)

    return {
        column: SeriesTable.from_arrays(
            values_of(column)[:, None],
            index,
            [_about(name, column, column, rows.frequency, columns, column, options, notes[column])],
        )
        for column in columns.numeric
    }


def _gaps(columns: Typed, rows: _Rows, ordered: Ints) -> Ints:
    """Missing days where a row of daily data was not used, so that no return spans it."""
    if (
        columns.after_gaps is None
        or rows.frequency.code not in "BD"
        or _order(columns.dates.moments)[:5] == "mixed"
    ):
        return ordered[:0]
    earlier = rows.frequency.ordinals(columns.after_gaps.astype("datetime64[D]"))
    return np.setdiff1d(earlier + 1, ordered)


def _long(
    name: str, typed_columns: Typed, keys: Sequence[str], labels: Array, rows: _Rows, options: TableOptions
) -> dict[str, SeriesTable]:
    place, ordinals = pd.factorize(rows.ordinals, sort=True)
    columns = pd.factorize(codes_of(labels))[0]
    names = labels[first_rows(columns)]
    _refuse_names_used_once(name, keys, len(names), len(columns), len(ordinals))
    filled = np.zeros((len(ordinals), len(names)), dtype=bool)
    filled[place, columns] = True
    if filled.sum() < len(columns):
        raise TableError(
            f"{name}: {quantity(len(columns) - int(filled.sum()), 'row')} with the date and "
            f"{' and '.join(repr(k) for k in keys)} of another. Keep one of each."
        )
    stated = {fact: _fact_values(name, typed_columns, labels, fact) for fact in ("currency", "title", "name")}
    stated["unit"] = _fact_values(name, typed_columns, labels, typed_columns.unit_column)
    pairs = _pairs_of(typed_columns, keys, labels, names)
    index, fields = rows.index_of(ordinals), {}
    alone = len(typed_columns.numeric) == 1 and typed_columns.numeric[0].lower() in _VALUE_NAMES
    for column in typed_columns.numeric:
        block = np.full(filled.shape, np.nan)
        block[place, columns] = typed_columns.columns[column]
        notes = _notes(typed_columns, column, labels)
        metadata_list = [
            _of_member(
                _about(
                    name, str(n), f"{n}.{column}", rows.frequency, typed_columns, column, options, notes.get(n)
                ),
                n,
                stated,
                pairs.get(str(n)),
                is_count=bool(NOT_MONEY.search(column)) or role_of(column) == "volume",
            )
            for n in names
        ]
        fields["" if alone else column] = SeriesTable.from_arrays(block, index, metadata_list)
    return fields


def _refuse_names_used_once(name: str, keys: Sequence[str], names: int, rows: int, periods: int) -> None:
    """Refuse a column that would make a series of every row, such as dates that are not understood."""
    if names == rows > _FEW_ROWS and periods > 1:
        named = " and ".join(repr(k) for k in keys)
        raise TableError(
            f"{name}: {named} differs in every row, so each of {rows} series would have one value. If it has the "
            f"dates, set date_column='{keys[0]}' and dates= to their form."
        )


def _pairs_of(columns: Typed, keys: Sequence[str], labels: Array, names: Array) -> dict[str, str]:
    """Base and quote currency of each name, if it is a pair or two columns have the two currencies."""
    texts = {n.lower(): c for n, c in columns.columns.items() if n not in columns.units}
    base = next((texts[w] for w in _BASE_WORDS if w in texts), None)
    quote = next((texts[w] for w in _QUOTE_WORDS if w in texts), None)
    if base is None or quote is None:
        single_key = names if len(keys) == 1 else ()
        return {str(n): "/".join(p) for n in single_key if (p := pair_in(str(n)))}
    pairs: dict[str, set[str]] = {}
    for label, one, other in zip(labels, base, quote, strict=True):
        pairs.setdefault(str(label), set()).add(f"{one}/{other}")
    single = {name: next(iter(held)) for name, held in pairs.items() if len(held) == 1}
    return {name: text for name, text in single.items() if pair_in(text)}


def _of_member(
    metadata: Metadata,
    name: object,
    stated: Mapping[str, Mapping[object, str]],
    pair: str | None,
    *,
    is_count: bool,
) -> Metadata:
    """Metadata from the table's other columns for one asset or pair of currencies; counts have no currency."""
    facts: dict[str, object] = {}
    if pair and metadata.measure in ("", "quote", "rate", "price"):
        return metadata.replace(measure="quote", unit=pair, currency="", timing="")
    currency = stated["currency"].get(name, "")
    if currency and metadata.measure == "price" and metadata.unit in ("", "currency"):
        facts["currency"] = currency_and_power(currency)[0] or currency
    unit = statement_of(stated["unit"].get(name, ""))
    if unit is not None and not metadata.unit and not (is_count and unit.kind == "currency"):
        facts |= _UNITS_OF_ROWS.get(unit.kind) or {}
        facts |= {"unit": "currency", "currency": unit.value} if unit.kind == "currency" else {}
        scaled = Step("scaled", (("by", f"{10.0**unit.power:g}"),))
        facts |= {"scale": unit.power, "trail": (*metadata.trail, scaled)} if unit.power else {}
    title = stated["title"].get(name) or stated["name"].get(name)
    if title and not metadata.title:
        facts["title"] = title
    return metadata.replace(**facts) if facts else metadata


def _fact_values(name: str, columns: Typed, labels: Array | None, fact: str) -> dict[object, str]:
    """The value of a column for each asset."""
    if fact not in columns.columns or fact in columns.units or labels is None:
        return {}
    pairs = pd.DataFrame({"key": labels, "value": columns.columns[fact]}).drop_duplicates()
    torn = pairs[pairs["key"].duplicated()]["key"].tolist()
    if torn and fact == "currency":
        raise TableError(f"{name}: {torn[0]} changes its currency within the table. Split the table there.")
    return {} if torn else dict(zip(pairs["key"], pairs["value"], strict=True))


def _notes(columns: Typed, column: str, labels: Array | None = None) -> dict[object, tuple[str, ...]]:
    """How often each status stands in a column, by the name of the row."""
    if column not in columns.statuses:
        return {}
    marks = columns.statuses[column]
    marked = np.flatnonzero(marks != "")
    counts: dict[object, Counter[str]] = {}
    for row in marked.tolist():
        counts.setdefault("" if labels is None else labels[row], Counter())[marks[row]] += 1
    return {
        label: tuple(f"{count} {mark}" for mark, count in of_label.items()) for label, of_label in counts.items()
    }


def _about(
    table: str,
    name: str,
    field_name: str,
    frequency: Frequency,
    columns: Typed,
    column: str,
    options: TableOptions,
    notes: tuple[str, ...] | None,
) -> Metadata:
    unit = columns.units[column]
    texts = columns.texts.get(column, {})
    steps = [Step("read", (("from", f"{table}#{field_name}"),))]
    if unit.percent:
        steps.append(Step("percent to decimals"))
    if unit.factor != 1.0:
        steps.append(Step("scaled", (("by", f"{unit.factor:g}"),)))
    if notes:
        steps.append(Step("marks", (("found", ", ".join(notes)),)))
    if options.estimated:
        steps.append(Step("estimated", (("by", "eye"),)))
    facts: dict[str, Any] = {
        "title": texts.get("title", ""),
        "source": texts.get("source", ""),
        "notes": (*filter(None, [texts.get("notes")]), *(notes or ())),
        **unit.facts,
        **options.facts,
    }
    if facts.get("measure") == "return" and "excess_of" not in facts:
        facts["excess_of"] = excess_of_heading(column, columns.units)
    given = options.facts.get("measure")
    if given in ("return", "log_return", "rate", "score") and "unit" not in options.facts:
        facts.update(unit="decimal", currency=options.facts.get("currency", ""))
    return Metadata(name=name, frequency=frequency, trail=tuple(steps), **facts)
