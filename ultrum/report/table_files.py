"""Tables as files. A folder of results appears whole or not at all."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from ultrum.core.displayed_numbers import without_rounding
from ultrum.core.time.period_labels import period_label
from ultrum.errors import UltrumError, printable, reason
from ultrum.file_access import path_of

_DANGEROUS = ("=", "+", "-", "@", "\t", "\r")


@contextmanager
def whole_folder(path: str | os.PathLike[str]) -> Iterator[Path]:
    """A folder to write into that takes its place only when the block ends well.

    An older folder of that name is replaced, if it was made by Ultrum (it holds ``.ultrum``).
    """
    target = path_of(path)
    if target.exists() and not (target / ".ultrum").exists() and any(target.iterdir()):
        raise UltrumError(f"{target} holds files that Ultrum did not write; choose another folder with --out.")
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        work = Path(tempfile.mkdtemp(prefix=f".{target.name}-", dir=target.parent))
    except OSError as error:
        raise UltrumError(f"{target} cannot be written: {reason(error)}.") from error
    try:
        (work / ".ultrum").write_text("results\n")
        yield work
        os.chmod(work, 0o755)  # noqa: S103 - a folder of results is for reading by all
        if target.exists():
            old = Path(tempfile.mkdtemp(prefix=f".{target.name}-old-", dir=target.parent))
            os.replace(target, old / "old")
            os.replace(work, target)
            shutil.rmtree(old)
        else:
            os.replace(work, target)
    finally:
        shutil.rmtree(work, ignore_errors=True)


def to_csv(table: pd.DataFrame, path: Path, separator: str = ",", decimal_mark: str = ".") -> list[str]:
    """A table as CSV: full precision, SDMX period names, no text a sheet would run; the heads as written."""
    path = path_of(path)
    plain = flattened(table)
    for column in plain:
        if pd.api.types.is_float_dtype(plain[column]):
            plain[column] = without_rounding(plain[column].to_numpy(dtype=float))
        elif not pd.api.types.is_numeric_dtype(plain[column]):
            plain[column] = [safe_text(value) for value in plain[column]]
    plain.columns = [str(safe_text(c)) for c in plain.columns]
    plain.to_csv(
        path,
        index=False,
        sep=separator,
        decimal=decimal_mark,
        lineterminator="\n",
        encoding="utf-8",
    )
    return list(plain.columns)


def safe_text(value: Any) -> Any:
    """Text that no spreadsheet takes for a formula; periods by their SDMX names."""
    if isinstance(value, pd.Period | pd.Timestamp):
        return period_label(value)
    if not isinstance(value, str):
        return value
    plain = printable(value)
    return f"'{plain}" if plain.startswith(_DANGEROUS) else plain


def to_xlsx(table: pd.DataFrame, path: Path) -> None:
    """A table as a workbook of one sheet."""
    write_workbook({"data": table}, path)


def write_workbook(
    tables: Mapping[str, pd.DataFrame], path: Path, facts: Mapping[str, Any] | None = None
) -> None:
    """A sheet for each table: typed cells, heads frozen, no text run as a formula; ``facts`` of the book."""
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


def _write_sheet(book: Any, name: str, table: pd.DataFrame) -> None:
    """One sheet, its columns as wide as what they hold."""
    plain = flattened(table)
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
    """A table as Parquet, its dates as dates; ``metadata`` goes into the metadata of the file."""
    import pyarrow as pa
    import pyarrow.parquet

    arrow = pa.Table.from_pandas(flattened(table), preserve_index=False)
    arrow = arrow.replace_schema_metadata({**(arrow.schema.metadata or {}), **(metadata or {})})
    try:
        pyarrow.parquet.write_table(arrow, path)
    except OSError as error:
        raise UltrumError(f"{path} cannot be written: {reason(error)}.") from error


def flattened(table: pd.DataFrame) -> pd.DataFrame:
    """Index as a first column: dates where they are days, else SDMX names of periods."""
    plain = table.copy() if isinstance(table.index, pd.RangeIndex) else table.reset_index()
    plain.columns = [str(c) for c in plain.columns]
    for column in plain:
        if _holds_periods(plain[column]):
            plain[column] = [period_label(p) if isinstance(p, pd.Period) else p for p in plain[column]]
    return plain


def _holds_periods(column: pd.Series) -> bool:
    if isinstance(column.dtype, pd.PeriodDtype):
        return True
    return column.dtype == object and any(isinstance(v, pd.Period) for v in column)


def _cell(page: Any, row: int, column: int, value: Any) -> None:
    """One cell by its type; a missing number stays empty."""
    if value is None or (isinstance(value, float) and value != value):  # noqa: PLR0124
        return
    if isinstance(value, pd.Timestamp):
        page.write_string(row, column, value.isoformat() if value.tz is not None else str(value)[:10])
    elif isinstance(value, int | float) and not isinstance(value, bool):
        page.write_number(row, column, float(value))
    else:
        page.write_string(row, column, printable(str(value)))
