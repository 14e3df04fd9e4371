"""Tables as files: CSV with metadata, Parquet, workbooks, live formulas. A folder appears complete or not at
all.
"""

from __future__ import annotations

import glob
import json
import os
import shutil
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import ToLatex, without_rounding
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.period_labels_and_relative_dates import file_label, period_label
from ultrum.core.workings import Workings, in_a_spreadsheet
from ultrum.errors import UltrumError, printable, reason
from ultrum.file_access import is_of_dead, path_of, process_mark

if TYPE_CHECKING:
    from xlsxwriter.format import Format
    from xlsxwriter.workbook import Workbook
    from xlsxwriter.worksheet import Worksheet


_DANGEROUS = ("=", "+", "-", "@", "\t", "\r")


@contextmanager
def whole_folder(path: str | os.PathLike[str]) -> Iterator[Path]:
    """A folder to write to that replaces the target only when the block ends without an error.

    An older folder of that name is replaced if Ultrum wrote it (it contains ``.ultrum``).
    """
    target = path_of(path)
    if target.exists() and not (target / ".ultrum").exists() and any(target.iterdir()):
        raise UltrumError(f"{target} contains files that Ultrum did not write. Choose another folder with --out.")
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        _clear_after_dead(target)
        mark = process_mark()
        work = Path(tempfile.mkdtemp(prefix=f".{target.name}-{mark}", dir=target.parent))
    except OSError as error:
        raise UltrumError(f"{target} cannot be written: {reason(error)}.") from error
    try:
        (work / ".ultrum").write_text("results\n")
        yield work
        os.chmod(work, 0o755)  # noqa: S103 - a folder of results is for reading by all
        if target.exists():
            old = Path(tempfile.mkdtemp(prefix=f".{target.name}-old-{mark}", dir=target.parent))
            os.replace(target, old / "old")
            os.replace(work, target)
            shutil.rmtree(old)
        else:
            os.replace(work, target)
    finally:
        shutil.rmtree(work, ignore_errors=True)


def _clear_after_dead(target: Path) -> None:
    """Remove what a killed process left beside the target; results that it had moved away come back."""
    for left in target.parent.glob(f".{glob.escape(target.name)}-*"):
        was_old = is_of_dead(left.name, f".{target.name}-old-")
        if was_old and (left / "old" / ".ultrum").exists() and not target.exists():
            os.replace(left / "old", target)
        if was_old or (is_of_dead(left.name, f".{target.name}-") and (left / ".ultrum").exists()):
            shutil.rmtree(left, ignore_errors=True)


def to_csv(table: pd.DataFrame, path: Path, separator: str = ",", decimal_mark: str = ".") -> list[str]:
    """A table as CSV: full precision, SDMX period names, no text that a spreadsheet would execute; headings
    unchanged.
    """
    path = path_of(path)
    plain = flatten_index(table)
    for column in plain:
        if pd.api.types.is_float_dtype(plain[column]):
            plain[column] = without_rounding(plain[column].to_numpy(dtype=float))
        elif not pd.api.types.is_numeric_dtype(plain[column]):
            plain[column] = [safe_text(value) for value in plain[column]]
    plain.columns = [str(safe_text(c)) for c in plain.columns]
    plain.to_csv(path, index=False, sep=separator, decimal=decimal_mark, lineterminator="\n", encoding="utf-8")
    return list(plain.columns)


def safe_text(value: object) -> Any:
    """Text that no spreadsheet reads as a formula; periods by their SDMX names."""
    if isinstance(value, pd.Period | pd.Timestamp):
        return file_label(value)
    if not isinstance(value, str):
        return value
    plain = printable(value)
    return f"'{plain}" if plain.startswith(_DANGEROUS) else plain


def to_xlsx(table: pd.DataFrame, path: Path) -> None:
    """A table as a workbook of one sheet."""
    write_workbook({"data": table}, path)


def write_workbook(
    tables: Mapping[str, pd.DataFrame], path: Path, facts: Mapping[str, object] | None = None
) -> None:
    """One sheet per table: typed cells, frozen headings, no text read as a formula; ``facts`` of the workbook."""
    import xlsxwriter

    options = {"strings_to_formulas": False, "strings_to_urls": False, "nan_inf_to_errors": False}
    try:
        with xlsxwriter.Workbook(path, options) as book:
            if facts:
                book.set_properties(dict(facts))
                book.set_calc_mode("manual")
            for name, table in tables.items():
                _write_sheet(book, name, table)
    except (OSError, xlsxwriter.exceptions.XlsxFileError) as error:
        raise UltrumError(f"{path} cannot be written: {reason(error)}.") from error


def _write_sheet(book: Workbook, name: str, table: pd.DataFrame) -> None:
    """One sheet, with columns as wide as their content."""
    plain = flatten_index(table)
    page = book.add_worksheet(name[:31])
    head = book.add_format({"bold": True, "text_wrap": True, "valign": "top"})
    page.freeze_panes(1, 1)
    for column, title in enumerate(plain):
        page.write_string(0, column, printable(str(title)), head)
        texts = [str(v) for v in plain[title].head(50) if isinstance(v, str)]
        page.set_column(column, column, min(60, max([12, len(str(title)), *map(len, texts)])))
        if pd.api.types.is_float_dtype(plain[title]):
            numbers = plain[title].to_numpy(dtype=float)
            for row in np.flatnonzero(np.isfinite(numbers)).tolist():
                page.write_number(row + 1, column, numbers[row])
            continue
        for row, value in enumerate(plain[title], start=1):
            _cell(page, row, column, value)


def to_parquet(table: pd.DataFrame, path: Path, metadata: Mapping[str, str] | None = None) -> None:
    """A table as Parquet, with typed dates; ``metadata`` is stored in the file."""
    import pyarrow as pa
    import pyarrow.parquet

    arrow = pa.Table.from_pandas(flatten_index(table), preserve_index=False)
    arrow = arrow.replace_schema_metadata({**(arrow.schema.metadata or {}), **(metadata or {})})
    try:
        pyarrow.parquet.write_table(arrow, path)
    except OSError as error:
        raise UltrumError(f"{path} cannot be written: {reason(error)}.") from error


def flatten_index(table: pd.DataFrame) -> pd.DataFrame:
    """Index as a first column: dates for days, otherwise SDMX names of periods."""
    numbered = table.index.name is None and pd.api.types.is_integer_dtype(table.index.dtype)
    plain = table.reset_index(drop=True) if numbered else table.reset_index()
    plain.columns = [str(c) for c in plain.columns]
    for column in plain:
        if _holds_periods(plain[column]):
            plain[column] = [file_label(p) if isinstance(p, pd.Period) else p for p in plain[column]]
    return plain


def _holds_periods(column: pd.Series) -> bool:
    if isinstance(column.dtype, pd.PeriodDtype):
        return True
    return column.dtype == object and any(isinstance(v, pd.Period) for v in column)


def _cell(page: Worksheet, row: int, column: int, value: object) -> None:
    """One cell by its type; a missing number is empty."""
    if value is None or (isinstance(value, float) and value != value):  # noqa: PLR0124
        return
    if isinstance(value, pd.Timestamp):
        page.write_string(row, column, period_label(value))
    elif isinstance(value, int | float) and not isinstance(value, bool):
        page.write_number(row, column, float(value))
    else:
        page.write_string(row, column, printable(str(value)))


# CSV files in a chosen form, with column metadata next to them: CSV on the Web (W3C)

_CONTEXT: Final = "http://www.w3.org/ns/csvw"
_TYPES: Final = {"A": "gYear", "M": "gYearMonth", "B": "date", "D": "date"}
_PARTS: Final = {"Q": "quarter", "M": "month", "S": "half"}


@dataclass(frozen=True)
class CsvForm:
    """Delimiter, decimal mark, and form of periods.

    Attributes
    ----------
    separator, decimal_mark : str
    dates : {"period", "iso", "year and period"}
        By their SDMX names, as the date of their end, or as numeric columns.
    """

    separator: str = ","
    decimal_mark: str = "."
    dates: str = "period"


def csv_with_metadata(
    table: pd.DataFrame,
    path: Path,
    form: CsvForm,
    metadata_list: Mapping[str, Metadata] | None = None,
    facts: Mapping[str, str] | None = None,
) -> list[Path]:
    """Write a table and ``NAME.csv-metadata.json`` next to it; returns both paths.

    Parameters
    ----------
    table : DataFrame
    path : Path
    form : CsvForm
    metadata_list : mapping of column to Metadata, optional
    facts : mapping, optional
        Metadata of the whole file, in Dublin Core terms.
    """
    flat = flatten_index(with_periods(table, form.dates))
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

    Rows that are not periods are unchanged.
    """
    if dates == "period":
        return table
    inside = "period" in table.columns
    index: object = pd.Index(table["period"]) if inside else table.index
    if not isinstance(index, pd.PeriodIndex | pd.DatetimeIndex):
        return table
    rest = table.drop(columns="period") if inside else table
    ends = index.to_timestamp(how="end") if isinstance(index, pd.PeriodIndex) else index
    columns: dict[str, object] = {"date": ends.strftime("%Y-%m-%d")}
    if dates != "iso":
        code = index.freqstr[:1] if isinstance(index, pd.PeriodIndex) else "D"
        columns = {"year": ends.year}
        if code in _PARTS:
            columns[_PARTS[code]] = getattr(index, _PARTS[code])
        elif code not in "AY":
            columns |= {"month": ends.month, "day": ends.day}
    return pd.concat([pd.DataFrame(columns), rest.reset_index(drop=True)], axis=1)


def refuse_other_rows(table: pd.DataFrame) -> None:
    """Refuse rows that are not periods, if numeric columns of them are requested."""
    rows: object = pd.Index(table["period"]) if "period" in table.columns else table.index
    if not isinstance(rows, pd.PeriodIndex | pd.DatetimeIndex):
        raise UltrumError("periods='columns' needs rows of periods or dates.")


def _columns(
    table: pd.DataFrame, written: list[str], form: CsvForm, metadata_list: Mapping[str, Metadata]
) -> list[dict[str, object]]:
    frequency = next((a.frequency.code for a in metadata_list.values()), "")
    columns = []
    for name, column in zip(written, table, strict=True):
        metadata = metadata_list.get(str(column))
        column_facts: dict[str, object] = {"name": name, "titles": metadata.heading if metadata else name}
        dated = column in ("period", "date") and frequency
        column_facts["datatype"] = _TYPES.get(frequency, "string") if dated else _type(table[column], form)
        columns.append(column_facts | (_facts(metadata) if metadata else {}))
    return columns


def _type(column: pd.Series, form: CsvForm) -> object:
    if pd.api.types.is_bool_dtype(column):
        return "boolean"
    if not pd.api.types.is_numeric_dtype(column):
        return "string"
    if form.decimal_mark == ".":
        return "number"
    return {"base": "number", "format": {"decimalChar": form.decimal_mark}}


def _facts(metadata: Metadata) -> dict[str, str]:
    """Unit, source and provenance of a series in Dublin Core and schema.org terms."""
    texts = {
        "schema:unitText": " ".join(w for w in (metadata.measure, metadata.unit, metadata.currency) if w),
        "dc:source": metadata.address or metadata.source,
        "dc:provenance": "; ".join(str(step) for step in metadata.trail),
    }
    return {key: text for key, text in texts.items() if text}


# Workings as a sheet of live formulas

_FIRST_STEP: Final = 3  # row of the first step; the title is above
_STEP_COLUMNS: Final = 4  # step, formula in words, value, and an empty column before the rows
_WIDTHS: Final = (48, 44, 18, 3)


def write_workings(path: Path, sheets: Mapping[str, Workings]) -> None:
    """Write a workbook with one sheet per calculation; every derived number is a formula.

    Parameters
    ----------
    path : Path
    sheets : mapping of str to Workings
        Workings by the name of the sheet.
    """
    import xlsxwriter

    with xlsxwriter.Workbook(str(path), {"nan_inf_to_errors": True}) as book:
        bold, number = (book.add_format({"bold": True}), book.add_format({"num_format": "0.0000000000"}))
        for name, workings in sheets.items():
            sheet = book.add_worksheet(name[:31])
            _write_steps(sheet, workings, bold, number)
            _write_rows(sheet, workings, bold)
            for column, width in enumerate(_WIDTHS):
                sheet.set_column(column, column, width)
            sheet.freeze_panes(_FIRST_STEP - 1, 0)


def _write_steps(sheet: Worksheet, workings: Workings, bold: Format, number: Format) -> None:
    """Title, steps and note, in the first columns."""
    sheet.write_string(0, 0, str(safe_text(workings.title)), bold)
    for column, heading in enumerate(("step", "formula", "value")):
        sheet.write_string(_FIRST_STEP - 2, column, heading, bold)
    cells, ranges = _cells(workings), _ranges(workings)
    for place, step in enumerate(workings.steps):
        row = _FIRST_STEP - 1 + place
        sheet.write_string(row, 0, str(safe_text(step.label)))
        sheet.write_string(row, 1, f"{step.name} = {step.formula}" if step.formula else step.name)
        if step.formula:
            formula = in_a_spreadsheet(step.formula, cells, ranges, {})
            sheet.write_formula(row, 2, formula, number, step.value)
        else:
            sheet.write_number(row, 2, step.value, number)
    if workings.note:
        sheet.write_string(_FIRST_STEP + len(workings.steps), 0, str(safe_text(workings.note)))


def _write_rows(sheet: Worksheet, workings: Workings, bold: Format) -> None:
    """The observations, next to the steps; derived columns are formulas."""
    if workings.rows.empty:
        return
    cells, ranges = _cells(workings), _ranges(workings)
    sheet.write_string(_FIRST_STEP - 2, _STEP_COLUMNS, "period", bold)
    for place, label in enumerate(workings.rows.index):
        sheet.write_string(_FIRST_STEP - 1 + place, _STEP_COLUMNS, str(safe_text(period_label(label))))
    for number, column in enumerate(workings.columns):
        where = _STEP_COLUMNS + 1 + number
        sheet.write_string(_FIRST_STEP - 2, where, str(safe_text(column.label)), bold)
        for place, value in enumerate(workings.rows[column.name]):
            row = _FIRST_STEP - 1 + place
            if not column.formula:
                sheet.write_number(row, where, float(value))
                continue
            cells_of_row = {
                c.name: f"{_letters(_STEP_COLUMNS + 1 + k)}{row + 1}" for k, c in enumerate(workings.columns)
            }
            formula = in_a_spreadsheet(column.formula, cells, ranges, cells_of_row)
            sheet.write_formula(row, where, formula, None, float(value))


def _cells(workings: Workings) -> dict[str, str]:
    """The cell of each step."""
    return {s.name: f"$C${_FIRST_STEP + k}" for k, s in enumerate(workings.steps)}


def _ranges(workings: Workings) -> dict[str, str]:
    """The range of each column."""
    first, last = _FIRST_STEP, _FIRST_STEP + len(workings.rows) - 1
    return {
        c.name: f"${_letters(_STEP_COLUMNS + 1 + k)}${first}:${_letters(_STEP_COLUMNS + 1 + k)}${last}"
        for k, c in enumerate(workings.columns)
    }


def _letters(column: int) -> str:
    """Letters of a column, counted from 0: A, B, ..., Z, AA."""
    from xlsxwriter.utility import xl_col_to_name

    return str(xl_col_to_name(column))


# Export of series, panels and results to files, with the metadata of each column


@validate_arguments
def save(
    data: object,
    path: str | os.PathLike[str],
    *,
    layout: Literal["wide", "long"] = "wide",
    periods: Literal["label", "columns"] = "label",
) -> list[Path]:
    """Write series, a panel or a result to CSV, XLSX, Parquet or LaTeX, by the extension of the path.

    Parameters
    ----------
    data : TimeSeries, SeriesTable, Panel, DataFrame, a result with ``to_frame``, or a mapping of names to these
        A mapping becomes the sheets of a workbook. :class:`Workings` become a sheet of live formulas.
    path : path
        Ending in ``.csv``, ``.xlsx``, ``.parquet``, or ``.tex`` for a table of a paper.
    layout : {"wide", "long"}
        One row per period, or for panels one row per period and asset.
    periods : {"label", "columns"}
        The period by its SDMX name, or as numeric columns (``year`` and ``month`` or ``quarter``) for other
        statistical software.

    Returns
    -------
    list of Path
        The files written. Next to a CSV file, ``NAME.csv-metadata.json`` describes each column (CSV on the Web,
        W3C): title, unit, currency, source and steps.

    Raises
    ------
    UltrumError
        If the extension is another one, or the file cannot be written.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     [file.name for file in save(ul.practice.panel(), Path(folder, "panel.csv"), layout="long")]
    ['panel.csv', 'panel.csv-metadata.json']
    """
    target = path_of(path)
    if isinstance(data, Mapping) or (isinstance(data, Workings) and target.suffix.lower() == ".xlsx"):
        return _save_sheets(data if isinstance(data, Mapping) else {"workings": data}, target, layout)
    if target.suffix.lower() == ".tex":
        return _save_latex(data, target, layout)
    frame = _frame_of(data, layout)
    if periods == "columns":
        refuse_other_rows(frame)
    form = CsvForm(dates="period" if periods == "label" else "year and period")
    writers = {".xlsx": to_xlsx, ".parquet": to_parquet}
    kind = target.suffix.lower()
    if kind not in (".csv", *writers):
        raise UltrumError(f"'{target.name}' ends in none of .csv, .tex, {', '.join(writers)}.")
    try:
        if kind == ".csv":
            return csv_with_metadata(frame, target, form, _abouts(data))
        writers[kind](with_periods(frame, form.dates), target)
    except OSError as error:
        raise UltrumError(f"{target} cannot be written: {reason(error)}.") from error
    return [target]


def _save_latex(data: object, target: Path, layout: str) -> list[Path]:
    """A result as a table of a paper."""
    from ultrum.report.model_tables import ModelTable, frame_table

    if isinstance(data, ToLatex | ModelTable):
        text = data.to_latex()
    else:
        text = frame_table(_frame_of(data, layout)).to_latex()
    try:
        target.write_text(text, encoding="utf-8")
    except OSError as error:
        raise UltrumError(f"{target} cannot be written: {reason(error)}.") from error
    return [target]


def _save_sheets(sheets: Mapping[str, Any], target: Path, layout: str) -> list[Path]:
    """Several tables as the sheets of a workbook, or several workings as sheets of formulas."""
    if target.suffix.lower() != ".xlsx":
        raise UltrumError(f"Several tables need a workbook: '{target.name}' must end in .xlsx.")
    if not sheets:
        raise UltrumError("There is no table to write.")
    live = [isinstance(one, Workings) for one in sheets.values()]
    if any(live) and not all(live):
        raise UltrumError("Tables and workings cannot share a workbook. Write two.")
    try:
        if any(live):
            write_workings(target, sheets)
        else:
            framed = {str(n): _frame_of(one, layout) for n, one in sheets.items()}
            write_workbook({n: with_periods(frame, "period") for n, frame in framed.items()}, target, {})
    except OSError as error:
        raise UltrumError(f"{target} cannot be written: {reason(error)}.") from error
    return [target]


def _frame_of(data: object, layout: str) -> pd.DataFrame:
    if isinstance(data, Panel):
        if layout == "long":
            return data.long()
        wide = data.wide()
        wide.columns = pd.Index([str(name) for name in wide.columns.get_level_values(1)])
        return wide
    if isinstance(data, pd.DataFrame):
        return data
    if not hasattr(data, "to_frame"):
        raise UltrumError(f"A {type(data).__name__} cannot be written. Pass series, a panel or a table.")
    frame: pd.DataFrame = data.to_frame()
    taken = sorted({"period", "date"} & set(map(str, frame.columns)))
    if taken and isinstance(data, SeriesTable | TimeSeries):
        raise UltrumError(
            f"A series is called '{taken[0]}', like the column of periods. Use with_metadata(name=...)."
        )
    if layout == "long" and isinstance(data, SeriesTable | TimeSeries):
        named = frame.rename_axis("period").reset_index()
        return named.melt("period", var_name="series", value_name="value").dropna()
    return frame


def _abouts(data: object) -> Mapping[str, Metadata]:
    if isinstance(data, Panel):
        return data.metadata
    if isinstance(data, TimeSeries):
        return {data.name: data.metadata}
    return {a.name: a for a in data.metadata} if isinstance(data, SeriesTable) else {}
