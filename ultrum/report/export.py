"""Export of series, panels and results to files, with the metadata of each column."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal

import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.workings.steps_table import Workings
from ultrum.errors import UltrumError, reason
from ultrum.file_access import path_of
from ultrum.report.csv_export import CsvForm, described_csv, refuse_other_rows, with_periods
from ultrum.report.table_files import to_parquet, to_xlsx, write_workbook
from ultrum.report.workings_sheet import write_workings


@checked
def save(
    data: Any,
    path: str | os.PathLike[str],
    *,
    layout: Literal["wide", "long"] = "wide",
    periods: Literal["label", "columns"] = "label",
) -> list[Path]:
    """Write series, a panel or a result to CSV, XLSX or Parquet, by the ending of the path.

    Parameters
    ----------
    data : TimeSeries, SeriesTable, Panel, DataFrame, a result with ``to_frame``, or a mapping of names to these
        A mapping becomes the sheets of a workbook. :class:`Workings` become a sheet of live formulas.
    path : path
        Ending in ``.csv``, ``.xlsx`` or ``.parquet``.
    layout : {"wide", "long"}
        One row a period, or for panels one row a period and asset.
    periods : {"label", "columns"}
        The period by its SDMX name, or as numeric columns (``year`` and ``month`` or ``quarter``), which
        other statistical software asks for.

    Returns
    -------
    list of Path
        The files written. Next to a CSV, ``NAME.csv-metadata.json`` describes each column
        (CSV on the Web, W3C): title, unit, currency, source and the steps it went through.

    Raises
    ------
    UltrumError
        If the ending is none of these, or the file cannot be written.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     [file.name for file in save(ul.practice.panel(), Path(folder, "panel.csv"), layout="long")]
    ['panel.csv', 'panel.csv-metadata.json']
    """
    target = path_of(path)
    if isinstance(data, Mapping) or (isinstance(data, Workings) and target.suffix.lower() == ".xlsx"):
        return _saved_sheets(data if isinstance(data, Mapping) else {"workings": data}, target, layout)
    frame = _framed(data, layout)
    if periods == "columns":
        refuse_other_rows(frame)
    form = CsvForm(dates="period" if periods == "label" else "year and period")
    writers = {".xlsx": to_xlsx, ".parquet": to_parquet}
    kind = target.suffix.lower()
    if kind not in (".csv", *writers):
        raise UltrumError(f"'{target.name}' ends in none of .csv, {', '.join(writers)}.")
    try:
        if kind == ".csv":
            return described_csv(frame, target, form, _abouts(data))
        writers[kind](with_periods(frame, form.dates), target)
    except OSError as error:
        raise UltrumError(f"{target} cannot be written: {reason(error)}.") from error
    return [target]


def _saved_sheets(sheets: Mapping[str, Any], target: Path, layout: str) -> list[Path]:
    """Several tables as the sheets of a workbook, or several workings as sheets of formulas."""
    if target.suffix.lower() != ".xlsx":
        raise UltrumError(f"Several tables are the sheets of a workbook; '{target.name}' must end in .xlsx.")
    if not sheets:
        raise UltrumError("There is no table to write.")
    live = [isinstance(one, Workings) for one in sheets.values()]
    if any(live) and not all(live):
        raise UltrumError("Tables and workings cannot share a workbook; write two.")
    try:
        if any(live):
            write_workings(target, sheets)
        else:
            framed = {str(n): _framed(one, layout) for n, one in sheets.items()}
            write_workbook({n: with_periods(frame, "period") for n, frame in framed.items()}, target, {})
    except OSError as error:
        raise UltrumError(f"{target} cannot be written: {reason(error)}.") from error
    return [target]


def _framed(data: Any, layout: str) -> pd.DataFrame:
    if isinstance(data, Panel):
        if layout == "long":
            return data.long()
        wide = data.wide()
        wide.columns = pd.Index([str(name) for name in wide.columns.get_level_values(1)])
        return wide
    if isinstance(data, pd.DataFrame):
        return data
    if not hasattr(data, "to_frame"):
        raise UltrumError(f"A {type(data).__name__} cannot be written; give series, a panel or a table.")
    frame: pd.DataFrame = data.to_frame()
    if layout == "long" and isinstance(data, SeriesTable | TimeSeries):
        named = frame.rename_axis("period").reset_index()
        return named.melt("period", var_name="series", value_name="value").dropna()
    return frame


def _abouts(data: Any) -> Mapping[str, Metadata]:
    if isinstance(data, Panel):
        return data.metadata
    if isinstance(data, TimeSeries):
        return {data.name: data.metadata}
    return {a.name: a for a in data.metadata} if isinstance(data, SeriesTable) else {}
