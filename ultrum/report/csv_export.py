"""CSV files in a chosen form, with column metadata next to them: CSV on the Web (W3C)."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Final

import pandas as pd

from ultrum.core.series.metadata import Metadata
from ultrum.errors import UltrumError
from ultrum.report.table_files import flattened, to_csv

_CONTEXT: Final = "http://www.w3.org/ns/csvw"
_TYPES: Final = {"A": "gYear", "M": "gYearMonth", "B": "date", "D": "date"}
_PARTS: Final = {"Q": "quarter", "M": "month", "S": "half"}


@dataclass(frozen=True)
class CsvForm:
    """Marks between cells and inside numbers, and how periods are written.

    Attributes
    ----------
    separator, decimal_mark : str
    dates : {"period", "iso", "year and period"}
        By their SDMX names, as the date of their end, or as numeric columns.
    """

    separator: str = ","
    decimal_mark: str = "."
    dates: str = "period"


def described_csv(
    table: pd.DataFrame,
    path: Path,
    form: CsvForm,
    metadata_list: Mapping[str, Metadata] | None = None,
    facts: Mapping[str, str] | None = None,
) -> list[Path]:
    """Write a table and ``NAME.csv-metadata.json`` next to it; both paths.

    Parameters
    ----------
    table : DataFrame
    path : Path
    form : CsvForm
    metadata_list : mapping of column to Metadata, optional
    facts : mapping, optional
        Of the whole file, in Dublin Core's terms.
    """
    flat = flattened(with_periods(table, form.dates))
    written = to_csv(flat, path, form.separator, form.decimal_mark)
    description = {
        "@context": _CONTEXT,
        "url": path.name,
        "dialect": {"delimiter": form.separator, "encoding": "utf-8", "header": True},
        **(facts or {}),
        "tableSchema": {"columns": _columns(flat, written, form, metadata_list or {})},
    }
    beside = path.with_name(f"{path.name}-metadata.json")
    beside.write_text(json.dumps(description, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    return [path, beside]


def with_periods(table: pd.DataFrame, dates: str) -> pd.DataFrame:
    """The table with its periods, in the index or a column, by name, as a date, or as numeric columns.

    Rows that are not periods stay as they are.
    """
    if dates == "period":
        return table
    inside = "period" in table.columns
    index: Any = pd.Index(table["period"]) if inside else table.index
    if not isinstance(index, pd.PeriodIndex | pd.DatetimeIndex):
        return table
    rest = table.drop(columns="period") if inside else table
    ends = index.to_timestamp(how="end") if isinstance(index, pd.PeriodIndex) else index
    columns: dict[str, Any] = {"date": ends.strftime("%Y-%m-%d")}
    if dates != "iso":
        code = index.freqstr[:1] if isinstance(index, pd.PeriodIndex) else "D"
        columns = {"year": ends.year}
        if code in _PARTS:
            columns[_PARTS[code]] = getattr(index, _PARTS[code])
        elif code not in "AY":
            columns |= {"month": ends.month, "day": ends.day}
    return pd.concat([pd.DataFrame(columns), rest.reset_index(drop=True)], axis=1)


def refuse_other_rows(table: pd.DataFrame) -> None:
    """Refuse rows that are not periods, where numeric columns of them are wanted."""
    rows: Any = pd.Index(table["period"]) if "period" in table.columns else table.index
    if not isinstance(rows, pd.PeriodIndex | pd.DatetimeIndex):
        raise UltrumError("periods='columns' needs rows of periods or dates.")


def _columns(
    table: pd.DataFrame, written: list[str], form: CsvForm, metadata_list: Mapping[str, Metadata]
) -> list[dict[str, Any]]:
    frequency = next((a.frequency.code for a in metadata_list.values()), "")
    columns = []
    for name, column in zip(written, table, strict=True):
        metadata = metadata_list.get(str(column))
        column_facts: dict[str, Any] = {
            "name": name,
            "titles": metadata.heading if metadata else name,
        }
        dated = column in ("period", "date") and frequency
        column_facts["datatype"] = _TYPES.get(frequency, "string") if dated else _type(table[column], form)
        columns.append(column_facts | (_facts(metadata) if metadata else {}))
    return columns


def _type(column: pd.Series, form: CsvForm) -> Any:
    if pd.api.types.is_bool_dtype(column):
        return "boolean"
    if not pd.api.types.is_numeric_dtype(column):
        return "string"
    if form.decimal_mark == ".":
        return "number"
    return {"base": "number", "format": {"decimalChar": form.decimal_mark}}


def _facts(metadata: Metadata) -> dict[str, str]:
    """Unit, source and trail of a series in Dublin Core and schema.org words."""
    texts = {
        "schema:unitText": " ".join(w for w in (metadata.measure, metadata.unit, metadata.currency) if w),
        "dc:source": metadata.address or metadata.source,
        "dc:provenance": "; ".join(str(step) for step in metadata.trail),
    }
    return {key: text for key, text in texts.items() if text}
