"""Series out of typed rows, whether the table is wide or long."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Final

import numpy as np
import pandas as pd

from ultrum.core.descriptor import Descriptor, Step
from ultrum.core.frequency import Frequency
from ultrum.core.series import SeriesTable
from ultrum.core.types import Dates
from ultrum.errors import TableError
from ultrum.sources.table.layout import Rejected
from ultrum.sources.table.result import Decision, Reading, TableOptions

_MEASURES: Final = {
    **dict.fromkeys(("open", "high", "low", "close", "price"), "price"),
    "volume": "flow",
}


def assemble(
    name: str,
    records: pd.DataFrame,
    code: str,
    decisions: list[Decision],
    rejected: Sequence[Rejected],
    options: TableOptions,
) -> Reading:
    """Series out of typed rows, wide or long."""
    percent = any(d.what == "units" and d.chosen == "percent" for d in decisions)
    numeric = [c for c in records.columns[1:] if pd.api.types.is_numeric_dtype(records[c])]
    if percent:
        records = records.assign(**{c: records[c] / 100.0 for c in numeric})
    if options.records_only:
        return Reading(name, {}, records.reset_index(drop=True), tuple(decisions), tuple(rejected))
    steps = (Step("percent to decimals"),) if percent else ()
    facts = {**({"unit": "decimal"} if percent else {}), **options.facts, "trail": steps}
    asset = options.asset_column or _asset_column(records, numeric)
    days = records["date"].to_numpy().astype("datetime64[D]")
    frequency = Frequency.parse(options.frequency or _finer(code, days))
    fields = (
        _long_fields(name, records, asset, numeric, days, frequency, facts)
        if asset
        else _wide_fields(name, records, numeric, days, frequency, facts)
    )
    shape = f"long, one asset a row, named by '{asset}'" if asset else "wide, one series a column"
    decisions = [*decisions, Decision("shape", shape), Decision("frequency", frequency.name)]
    return Reading(name, fields, records.reset_index(drop=True), tuple(decisions), tuple(rejected))


def _finer(code: str, days: Dates) -> str:
    """Daily dates without weekends are business days."""
    return "B" if code == "D" and bool(np.is_busday(days).all()) else code


def _asset_column(records: pd.DataFrame, numeric: list[str]) -> str:
    """The text column that tells rows of the same date apart, if dates repeat."""
    if records["date"].is_unique:
        return ""
    for column in records.columns[1:]:
        if column not in numeric and not records.duplicated(["date", column]).any():
            return str(column)
    return ""


def _wide_fields(
    name: str,
    records: pd.DataFrame,
    numeric: list[str],
    days: Dates,
    frequency: Frequency,
    facts: Mapping[str, Any],
) -> dict[str, SeriesTable]:
    ordinals = frequency.ordinals(days)
    order = np.argsort(ordinals, kind="stable")
    twice = np.flatnonzero(np.diff(ordinals[order]) == 0)
    if len(twice):
        label = frequency.labels(ordinals[order][twice[:1]])[0]
        raise TableError(
            f"{name}: {len(twice)} {frequency.name} periods appear twice, first {label}. Remove one "
            "of each, or say which column names the asset: asset_column=..."
        )
    index = frequency.index(ordinals[order])
    return {
        column: SeriesTable.build(
            records[column].to_numpy(dtype=np.float64)[order][:, None],
            index,
            [_about(name, column, column, frequency, facts)],
        )
        for column in numeric
    }


def _long_fields(
    name: str,
    records: pd.DataFrame,
    asset: str,
    numeric: list[str],
    days: Dates,
    frequency: Frequency,
    facts: Mapping[str, Any],
) -> dict[str, SeriesTable]:
    ordinals, rows = np.unique(frequency.ordinals(days), return_inverse=True)
    columns, names = pd.factorize(records[asset])
    filled = np.zeros((len(ordinals), len(names)), dtype=bool)
    filled[rows, columns] = True
    if filled.sum() < len(records):
        raise TableError(
            f"{name}: {len(records) - int(filled.sum())} rows repeat the date and '{asset}' of another. "
            "Keep one of each."
        )
    currencies = _currencies(name, records, asset)
    index = frequency.index(ordinals)
    fields = {}
    for column in numeric:
        block = np.full(filled.shape, np.nan)
        block[rows, columns] = records[column].to_numpy(dtype=np.float64)
        priced = {"measure": _MEASURES[column]} if column in _MEASURES else {}
        abouts = [
            _about(name, str(n), f"{n}.{column}", frequency,
                   {**priced, "currency": currencies.get(n, ""), **facts} if priced.get("measure")
                   == "price" else {**priced, **facts})
            for n in names
        ]  # fmt: skip
        fields[column] = SeriesTable.build(block, index, abouts)
    return fields


def _currencies(name: str, records: pd.DataFrame, asset: str) -> dict[Any, str]:
    """Currency of each asset, from a column of that name."""
    if "currency" not in records:
        return {}
    pairs = records[[asset, "currency"]].drop_duplicates()
    torn = pairs[pairs[asset].duplicated()][asset].tolist()
    if torn:
        raise TableError(f"{name}: {torn[0]} changes its currency inside the table; part it there.")
    return dict(zip(pairs[asset], pairs["currency"], strict=True))


def _about(
    table: str, name: str, field_name: str, frequency: Frequency, facts: Mapping[str, Any]
) -> Descriptor:
    read = Step("read", (("from", f"{table}#{field_name}"),))
    said = {**facts, "trail": (read, *facts["trail"])}
    return Descriptor(name=name, frequency=frequency, **said)
