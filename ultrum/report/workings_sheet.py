"""Workings as a sheet of live formulas."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, Final

from ultrum.core.time.period_labels import period_label
from ultrum.core.workings.expressions import in_a_spreadsheet
from ultrum.core.workings.steps_table import Workings
from ultrum.report.table_files import safe_text

_FIRST_STEP: Final = 3  # row of the first step; the title is above
_STEP_COLUMNS: Final = 4  # step, formula in words, value, and an empty column before the rows
_WIDTHS: Final = (48, 44, 18, 3)


def write_workings(path: Path, sheets: Mapping[str, Workings]) -> None:
    """Write a workbook with a sheet for each of some workings; every number that follows is a formula.

    Parameters
    ----------
    path : Path
    sheets : mapping of str to Workings
        By the name of the sheet.
    """
    import xlsxwriter

    with xlsxwriter.Workbook(str(path), {"nan_inf_to_errors": True}) as book:
        bold, number = (
            book.add_format({"bold": True}),
            book.add_format({"num_format": "0.0000000000"}),
        )
        for name, workings in sheets.items():
            sheet = book.add_worksheet(name[:31])
            _write_steps(sheet, workings, bold, number)
            _write_rows(sheet, workings, bold)
            for column, width in enumerate(_WIDTHS):
                sheet.set_column(column, column, width)
            sheet.freeze_panes(_FIRST_STEP - 1, 0)


def _write_steps(sheet: Any, workings: Workings, bold: Any, number: Any) -> None:
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


def _write_rows(sheet: Any, workings: Workings, bold: Any) -> None:
    """The rows, next to the steps; what follows row by row is a formula."""
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
            own = {c.name: f"{_letters(_STEP_COLUMNS + 1 + k)}{row + 1}" for k, c in enumerate(workings.columns)}
            formula = in_a_spreadsheet(column.formula, cells, ranges, own)
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
    """Letters of a column, from 0: A, B, ..., Z, AA."""
    from xlsxwriter.utility import xl_col_to_name

    return str(xl_col_to_name(column))
