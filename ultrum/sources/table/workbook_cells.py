"""Facts about cells of an XLSX workbook beyond their values: percent formats, formulas without results."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Mapping
from typing import Final

import lxml.etree

from ultrum.errors import TableError
from ultrum.sources.table.cell_grid import Grid, Row
from ultrum.sources.table.unpacking import DAMAGED

_MAIN: Final = "{http://schemas.openxmlformats.org/spreadsheetml/2006/main}"
_RELATION: Final = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
_BUILT_IN_PERCENT: Final = (9, 10)  # formats 0% and 0.00%
_NO_RESULT: Final = re.compile(rb"</f>\s*(?:<v\s*/>|<v>\s*</v>|</c>)|<f[^<>]*/>\s*(?:<v\s*/>|<v>\s*</v>|</c>)")
_REFERENCE: Final = re.compile(rb"""<c\s[^<>]*?\br\s*=\s*["']([A-Z]+)(\d+)["'][^<>]*>""")
_STYLED: Final = re.compile(rb"<c\s([^<>]*)>")
_ATTRIBUTE: Final = re.compile(rb"""\b([rst])\s*=\s*["']([^"']*)["']""")


def with_cell_facts(grids: list[Grid], body: bytes, name: str) -> list[Grid]:
    """Sheets whose cells of a percent format have their percent sign.

    Raises
    ------
    TableError
        If a formula has no stored result.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as archive:
            paths = _sheet_paths(archive)
            styles = _percent_styles(archive)
            return [_with_signs(g, archive, paths, styles, name) for g in grids]
    except (*DAMAGED, lxml.etree.Error) as error:
        raise TableError(f"{name} is a damaged or locked workbook: {error}.") from error


def _tree(archive: zipfile.ZipFile, path: str) -> lxml.etree._Element | None:
    if path not in archive.namelist():
        return None
    parser = lxml.etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False)
    return lxml.etree.fromstring(archive.read(path), parser)


def _sheet_paths(archive: zipfile.ZipFile) -> Mapping[str, str]:
    """Path of each sheet in the archive, by its title."""
    book, links = _tree(archive, "xl/workbook.xml"), _tree(archive, "xl/_rels/workbook.xml.rels")
    if book is None or links is None:
        return {}
    targets = {str(link.get("Id")): str(link.get("Target")) for link in links}
    sheets = {str(s.get("name")): targets.get(str(s.get(_RELATION)), "") for s in book.iter(f"{_MAIN}sheet")}
    return {
        title: path.removeprefix("/") if path.startswith("/") else f"xl/{path}" for title, path in sheets.items()
    }


def _percent_styles(archive: zipfile.ZipFile) -> set[bytes]:
    """Numbers of the cell styles whose number format is a percentage."""
    styles = _tree(archive, "xl/styles.xml")
    if styles is None:
        return set()
    own = {str(f.get("numFmtId")) for f in styles.iter(f"{_MAIN}numFmt") if "%" in str(f.get("formatCode"))}
    formats = own | set(map(str, _BUILT_IN_PERCENT))
    cells = styles.find(f"{_MAIN}cellXfs")
    if cells is None:
        return set()
    return {str(k).encode() for k, style in enumerate(cells) if str(style.get("numFmtId")) in formats}


def _with_signs(
    grid: Grid, archive: zipfile.ZipFile, paths: Mapping[str, str], styles: set[bytes], name: str
) -> Grid:
    path = paths.get(grid.name, "")
    if path not in archive.namelist():
        return grid
    text = archive.read(path)
    _refuse_formulas_without_results(text, f"{name}, '{grid.name}'")
    if not styles:
        return grid
    rows: list[Row] = list(grid.rows)
    for cell in _STYLED.finditer(text):
        parts = dict(_ATTRIBUTE.findall(cell[1]))
        if parts.get(b"s") in styles and b"r" in parts:
            _sign(rows, *_place(parts[b"r"].decode()))
    return Grid(grid.name, rows, grid.lines, grid.how, grid.decisions, grid.above, grid.below)


def _sign(rows: list[Row], row: int, column: int) -> None:
    """Write the number of a cell as the sheet shows it, in percent."""
    if row >= len(rows) or column >= len(rows[row]):
        return
    value = rows[row][column]
    if isinstance(value, int | float) and not isinstance(value, bool):
        changed = list(rows[row])
        changed[column] = f"{100.0 * value:.15g}%"
        rows[row] = changed


def _place(reference: str) -> tuple[int, int]:
    """Row and column of a reference such as B12, from 0."""
    letters = reference.rstrip("0123456789")
    column = 0
    for letter in letters:
        column = 26 * column + ord(letter) - 64
    return int(reference[len(letters) :]) - 1, column - 1


def _refuse_formulas_without_results(text: bytes, where: str) -> None:
    for match in _NO_RESULT.finditer(text):
        cells = list(_REFERENCE.finditer(text, max(0, match.start() - 10_000), match.start() + 1))
        if cells and b't="str"' not in cells[-1][0]:  # an empty text is a result
            reference = (cells[-1][1] + cells[-1][2]).decode()
            raise TableError(
                f"{where}: cell {reference} has a formula without a stored result. Open the workbook in a "
                "spreadsheet, save it, and read it again."
            )
