"""Cells of web pages and JSON texts, and what the formats of workbook cells state."""

from __future__ import annotations

import io
import itertools
import json
import re
import zipfile
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Final

from ultrum.core.presentation import quantity
from ultrum.errors import TableError
from ultrum.sources.download_and_limits import current
from ultrum.sources.table.cell_grid import Grid, Row, repeat_count
from ultrum.sources.table.date_formats import style_of
from ultrum.sources.table.number_formats_and_date_words import SUPERSCRIPTS
from ultrum.sources.table.unit_statements import currency_and_power
from ultrum.sources.table.unpacking import DAMAGED, decode, decode_page, kind_of

if TYPE_CHECKING:
    import lxml.etree

_MOST_PARAGRAPHS: Final = 4
_LONGEST_PARAGRAPH: Final = 400
_HIDDEN: Final = re.compile(r"display\s*:\s*none|visibility\s*:\s*hidden", re.IGNORECASE)
_HEADINGS: Final = ("h1", "h2", "h3", "h4")
_BREAKS: Final = frozenset(("br", "p", "div", "li"))


def page_grids(body: bytes, name: str, encoding: str | None = None) -> list[Grid]:
    """Every table of a web page, named by its caption or the heading above it."""
    import lxml.etree
    import lxml.html

    text, _ = decode_page(body, name, encoding)
    try:
        parser = lxml.html.HTMLParser(huge_tree=False, no_network=True)
        tree = lxml.html.document_fromstring(re.sub(r"^\s*<\?xml[^>]*\?>", "", text), parser=parser)
    except (lxml.etree.LxmlError, ValueError) as error:
        raise TableError(f"{name} is not a readable web page: {error}.") from error
    tables = [t for t in tree.iter("table") if t.find(".//table") is None]
    around = _surroundings(tree)
    grids = []
    for number, table in enumerate(tables, start=1):
        rows = _spread(table)
        caption = table.find("caption")
        words = " ".join(caption.text_content().split()) if caption is not None else ""
        title = (words if caption is not None else around[table].heading) or f"table {number}"
        decisions = (("table", f"{number} of {len(tables)}: {title}"),)
        above, below = "\n".join([*around[table].above, words]).strip(), "\n".join(around[table].below)
        lines = list(range(1, len(rows) + 1))
        grids.append(Grid(title, rows, lines, "page", decisions, above, below))
    if not grids:
        raise TableError(f"{name} is a web page without a table. Check the address.")
    return grids


def page_text(body: bytes, name: str) -> str:
    """Words of a page in reading order, for a number in prose."""
    import lxml.html

    text, _ = decode_page(body, name)
    if kind_of(body) != "page":
        return text
    tree = lxml.html.document_fromstring(re.sub(r"^\s*<\?xml[^>]*\?>", "", text))
    for hidden in tree.xpath("//script|//style"):
        hidden.drop_tree()
    return " ".join(" ".join(tree.itertext()).split())


@dataclass
class _Around:
    """What stands around a table of a page."""

    heading: str
    above: list[str]
    below: list[str]


def _surroundings(tree: Any) -> dict[Any, _Around]:
    """For each table the last heading before it, and paragraphs directly above and below it, up to another table.

    One walk over the page, so that many tables take time in proportion.
    """
    import lxml.etree

    found: dict[Any, _Around] = {}
    inside, heading = 0, ""
    above: list[str] = []
    below: list[str] = []
    for event, element in lxml.etree.iterwalk(tree, events=("start", "end"), tag=("table", "p", *_HEADINGS)):
        if element.tag == "table":
            if event == "start":
                inside += 1
                found[element] = _Around(heading, above[-_MOST_PARAGRAPHS:], [])
                below = []
            else:
                inside -= 1
                above = []
                below = found[element].below if element.find(".//table") is None else below
        elif event == "start":
            words = " ".join(element.text_content().split())
            heading = words if element.tag in _HEADINGS else heading
            if not inside:
                above.append(words[:_LONGEST_PARAGRAPH])
                if len(below) < _MOST_PARAGRAPHS:
                    below.append(words[:_LONGEST_PARAGRAPH])
    return found


def _spread(table: Any) -> list[Row]:
    """Cells of a page's table; cells that span rows or columns are repeated."""
    grid: dict[tuple[int, int], str] = {}
    rows, most = list(table.iter("tr")), current()
    alone: set[int] = set()
    for r, row in enumerate(rows):
        c = 0
        if sum(1 for _ in row.iterchildren("td", "th")) == 1:
            alone.add(r)  # a note across the table is in its first cell
        for cell in row.iterchildren("td", "th"):
            while (r, c) in grid:
                c += 1
            text = _cell_words(cell)
            wide, high = (_span(cell.get(k)) for k in ("colspan", "rowspan"))
            for i in range(min(high, len(rows) - r)):
                for j in range(wide):
                    grid[r + i, c + j] = text
            c += wide
            most.check("columns", c, f"A table of the page: a line has {quantity(c, 'cell')}")
            most.check("cells", len(grid), f"A table of the page has at least {quantity(len(grid), 'cell')}")
    width = max((c for _, c in grid), default=-1) + 1
    spread: list[Row] = [[grid.get((r, c), "") for c in range(width)] for r in range(len(rows))]
    for r in alone:
        first = spread[r][0]
        spread[r] = [first, *["" if cell == first else cell for cell in spread[r][1:]]]
    return spread


def _cell_words(cell: Any) -> str:
    """Text of a page's cell: footnote marks raised, hidden parts removed, a space for each break."""
    if not len(cell):
        return " ".join((cell.text or "").split())
    pieces: list[str] = []

    def _add(element: Any) -> None:
        hidden = _HIDDEN.search(element.get("style") or "") or element.get("hidden") is not None
        if element.tag == "sup" and "".join(pieces).strip():
            pieces.append(_superscript("".join(element.itertext()).strip()))
        elif isinstance(element.tag, str) and element.tag not in ("script", "style") and not hidden:
            pieces.append(" " if element.tag in _BREAKS else "")
            pieces.append(element.text or "")
            for child in element:
                _add(child)
                pieces.append(child.tail or "")
            pieces.append(" " if element.tag in _BREAKS else "")

    _add(cell)
    return " ".join("".join(pieces).split())


def _superscript(text: str) -> str:
    """A raised text as a footnote mark or exponent, separate from the number before it."""
    digits = re.sub(r"[\s,;()\[\]]", "", text)
    if digits.isdigit():
        return digits.translate(str.maketrans("0123456789", SUPERSCRIPTS[:10]))
    if re.fullmatch(r"[*†‡§#]+", text):
        return text
    letters = re.sub(r"\W", "", text)
    return f"({letters[0]})" if letters else ""


def _span(text: str | None) -> int:
    return min(max(int(text), 1), 200) if text and text.strip().isdigit() else 1


# JSON to grids: lists of records, columns, rows under names, values by date, several series

_NESTING: Final = 6
_NOT_FINITE: Final = re.compile(r"NaN|Infinity|\d[eE]\+?\d{3}|\d{300}")


def json_grids(body: bytes, name: str) -> list[Grid]:
    """Records of a JSON text: a list of objects, columns, rows under column names, or values by date."""
    import orjson

    text, _ = decode(body, name, None)
    try:
        value = orjson.loads(text)
    except orjson.JSONDecodeError as error:
        value = _with_infinite(text) if _NOT_FINITE.search(text) else None
        value = _json_lines(text) if value is None else value
        if value is None:
            raise TableError(f"{name} is not JSON: {error}.") from error
    tables = list(_tables_in(value, 0))
    facts = "\n".join(_scalars(value))
    if not tables:
        raise TableError(
            f"{name} is not JSON of a known form. Known forms: a list of objects, lists by column name, or "
            "values by date."
        )
    alone = len(tables) == 1
    return [
        Grid(
            name if alone else where,
            rows,
            list(range(1, len(rows) + 1)),
            "JSON",
            (("records", where),),
            above=facts,
        )
        for rows, where in tables
    ]


def _with_infinite(text: str) -> object:
    """A JSON text with numbers too large for a double, or with NaN and Infinity; each is then a rejected cell."""
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return None


def _json_lines(text: str) -> list[object] | None:
    import orjson

    try:
        rows = [orjson.loads(line) for line in text.splitlines() if line.strip()]
    except orjson.JSONDecodeError:
        return None
    return rows if len(rows) > 1 else None


def _tables_in(document: object, depth: int, path: str = "the whole") -> Iterator[tuple[list[Row], str]]:
    """Every table within a JSON value, and its path."""
    rows = _as_rows(document)
    if rows is not None:
        yield rows, path
    elif depth <= _NESTING:
        inside = (
            document.items()
            if isinstance(document, dict)
            else enumerate(document)
            if isinstance(document, list)
            else ()
        )
        for key, value in inside:
            yield from _tables_in(value, depth + 1, str(key))


def _scalars(document: object, depth: int = 0) -> Iterator[str]:
    """Scalars next to the tables of a JSON value, as lines such as ``units: Percent``."""
    if not isinstance(document, dict) or depth > _NESTING:
        return
    for key, value in document.items():
        if isinstance(value, dict):
            yield from _scalars(value, depth + 1)
        elif isinstance(value, str) and not style_of(str(key)):
            yield f"{key}: {value}"


def _as_rows(value: object) -> list[Row] | None:
    several = _several_series(value)
    if several is not None:
        return several
    if isinstance(value, list) and value and all(isinstance(r, dict) for r in value):
        flat = [_flat(r) for r in value]
        names = list(dict.fromkeys(k for r in flat for k in r))
        current().check_shape(len(flat), len(names), "A list of records")
        rows: list[Row] = [[r.get(n) for n in names] for r in flat]
        return [names, *rows] if len(names) > 1 else None
    if isinstance(value, dict) and value:
        return _mapping_rows(value)
    if isinstance(value, list) and value and all(isinstance(r, list) and len(r) > 1 for r in value):
        plain = all(not isinstance(c, list | dict) for r in value for c in r)
        if not plain or not any(style_of(str(r[0])) for r in value):
            return None
        bare = all(len(r) == 2 and style_of(str(r[0])) for r in value)
        return [["date", "value"], *value] if bare else list(value)
    return None


def _several_series(document: object) -> list[Row] | None:
    """Series with an object or a name each, as rows keyed by name."""
    if isinstance(document, dict):
        named = [({"series": key}, value) for key, value in document.items()]
    elif isinstance(document, list) and all(isinstance(one, dict) for one in document):
        named = []
        for one in document:
            nested = [v for v in one.values() if isinstance(v, list | dict)]
            if len(nested) != 1:
                return None
            named.append(({k: v for k, v in one.items() if not isinstance(v, list | dict)}, nested[0]))
    else:
        return None
    parts = [(facts, _plain_rows(value)) for facts, value in named]
    if len(parts) < 2 or any(rows is None for _, rows in parts):
        return None
    records = [
        facts | dict(zip(map(str, rows[0]), row, strict=True))
        for facts, rows in parts
        if rows is not None
        for row in rows[1:]
    ]
    names = list(dict.fromkeys(k for r in records for k in r))
    current().check_shape(len(records), len(names), "A list of records")
    return [names, *[[r.get(n) for n in names] for r in records]]


def _plain_rows(value: object) -> list[Row] | None:
    """Rows of one series, with their names first, for a list or mapping with dates."""
    if isinstance(value, dict) and value and all(style_of(str(k)) for k in value):
        plain = not any(isinstance(v, list | dict) for v in value.values())
        return [["date", "value"], *[[k, v] for k, v in value.items()]] if plain else None
    if not isinstance(value, list) or not value:
        return None
    if all(isinstance(r, list) and len(r) == 2 and style_of(str(r[0])) for r in value):
        return [["date", "value"], *value]
    flat = all(isinstance(r, dict) and not any(isinstance(v, list | dict) for v in r.values()) for r in value)
    if not flat or not any(style_of(str(v)) for v in value[0].values()):
        return None
    names = list(dict.fromkeys(k for r in value for k in r))
    return [names, *[[r.get(n) for n in names] for r in value]]


def _mapping_rows(value: Mapping[str, Any]) -> list[Row] | None:
    heads = ("columns", "header", "fields", "names")
    head = next((value[k] for k in heads if isinstance(value.get(k), list)), None)
    body = next((value[k] for k in ("data", "rows", "values") if isinstance(value.get(k), list)), None)
    if head and body and all(isinstance(r, list) for r in body):
        names = [h.get("name", h.get("id", "")) if isinstance(h, dict) else str(h) for h in head]
        return [names, *body]
    lists = {k: v for k, v in value.items() if isinstance(v, list)}
    lengths = {len(v) for v in lists.values()}
    flat = not any(isinstance(c, list | dict) for v in lists.values() for c in v)
    if len(lists) > 1 and len(lengths) == 1 and flat:
        return [list(lists), *map(list, zip(*lists.values(), strict=True))]
    if len(value) > 1 and all(style_of(str(k)) for k in value):
        if all(isinstance(v, dict) for v in value.values()):
            return _as_rows([{"date": k, **v} for k, v in value.items()])
        if not any(isinstance(v, list | dict) for v in value.values()):
            return [["date", "value"], *[[k, v] for k, v in value.items()]]
    return None


def _flat(record: Mapping[str, object], above: str = "", depth: int = 0) -> dict[str, object]:
    """Nested objects, flattened with names joined by points."""
    flat: dict[str, object] = {}
    for key, value in record.items():
        name = f"{above}{key}"
        if isinstance(value, dict) and depth < _NESTING:
            flat.update(_flat(value, f"{name}.", depth + 1))
        elif isinstance(value, bool) or not isinstance(value, list | dict):
            flat[name] = str(value).lower() if isinstance(value, bool) else value
    return flat


# Facts about cells of a workbook beyond their values: units in number formats, formulas without results

_MAIN: Final = "{http://schemas.openxmlformats.org/spreadsheetml/2006/main}"
_RELATION: Final = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
_BUILT_IN_PERCENT: Final = (9, 10)  # formats 0% and 0.00%
_PERCENT_STATED: Final = (100.0, "%")
_LITERAL: Final = re.compile(r'"([^"]*)"|\\(.)')
_UNSEEN: Final = re.compile(r'"[^"]*"|\\.|_.|\*.|\[[^\]]*\]')  # other characters of a format are shown
_CURRENCY_OF_FORMAT: Final = re.compile(r"\[\$([^\]-]+)(?:-([0-9A-Fa-f]+))?\]")
_DOLLARS: Final = {  # codes of languages with their country
    **{"409": "USD", "1009": "CAD", "C0C": "CAD", "C09": "AUD", "1409": "NZD"},
    **{"C04": "HKD", "1004": "SGD", "4804": "SGD", "404": "TWD", "80A": "MXN"},
}
_NO_RESULT: Final = re.compile(rb"</f>\s*(?:<v\s*/>|<v>\s*</v>|</c>)|<f[^<>]*/>\s*(?:<v\s*/>|<v>\s*</v>|</c>)")
_REFERENCE: Final = re.compile(rb"""<c\s[^<>]*?\br\s*=\s*["']([A-Z]+)(\d+)["'][^<>]*>""")
_STYLED: Final = re.compile(rb"<c\s([^<>]*)>")
_ATTRIBUTE: Final = re.compile(rb"""\b([rst])\s*=\s*["']([^"']*)["']""")
_OPEN_DOCUMENT: Final = "{urn:oasis:names:tc:opendocument:xmlns:%s:1.0}"
_TABLE, _OFFICE, _STYLE, _NUMBER = (_OPEN_DOCUMENT % part for part in ("table", "office", "style", "datastyle"))
_WORDS: Final = tuple(f"{_NUMBER}{part}" for part in ("text", "currency-symbol"))


def with_cell_facts(grids: list[Grid], body: bytes, name: str) -> list[Grid]:
    """Sheets whose cells have the percent sign, the currency or the basis points of their number format.

    Raises
    ------
    TableError
        If a formula has no stored result.
    """
    import lxml.etree

    try:
        with zipfile.ZipFile(io.BytesIO(body)) as archive:
            if "content.xml" in archive.namelist():
                return _with_signs_of_open_document(grids, archive, name)
            paths = _sheet_paths(archive)
            styles = _units_of_styles(archive)
            return [_with_signs(g, archive, paths, styles, name) for g in grids]
    except (*DAMAGED, lxml.etree.Error) as error:
        raise TableError(f"{name} is a damaged or locked workbook: {error}.") from error


def _tree(archive: zipfile.ZipFile, path: str) -> lxml.etree._Element | None:
    import lxml.etree

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


def _units_of_styles(archive: zipfile.ZipFile) -> dict[bytes, tuple[float, str]]:
    """Factor and unit that the number format of a cell style states, by the number of the style."""
    styles = _tree(archive, "xl/styles.xml")
    if styles is None:
        return {}
    stated = dict.fromkeys(map(str, _BUILT_IN_PERCENT), _PERCENT_STATED)
    for number_format in styles.iter(f"{_MAIN}numFmt"):
        unit = unit_of_format(str(number_format.get("formatCode")))
        if unit is not None:
            stated[str(number_format.get("numFmtId"))] = unit
    cells = styles.find(f"{_MAIN}cellXfs")
    ids = enumerate(() if cells is None else (str(style.get("numFmtId")) for style in cells))
    return {str(k).encode(): stated[number] for k, number in ids if number in stated}


def unit_of_format(code: str) -> tuple[float, str] | None:
    """Factor and unit that a number format states beside a number; None if it states none.

    A percent sign multiplies what is shown by 100, unless it is a literal text.

    Examples
    --------
    >>> unit_of_format("0.00%"), unit_of_format('0.00" %"'), unit_of_format('#,##0.00 "€"')
    ((100.0, '%'), (1.0, '%'), (1.0, ' EUR'))
    >>> unit_of_format("[$$-1009]#,##0"), unit_of_format('0" bp"'), unit_of_format("0.00")
    ((1.0, ' CAD'), (1.0, ' bp'), None)
    """
    section = code.split(";", maxsplit=1)[0]
    bare = _UNSEEN.sub("", section)
    if "%" in bare:
        return _PERCENT_STATED
    literal = "".join(a or b for a, b in _LITERAL.findall(section)).strip()
    if "%" in literal:
        return 1.0, "%"
    if literal.lower() in ("bp", "bps"):
        return 1.0, " bp"
    sign, language = next(iter(_CURRENCY_OF_FORMAT.findall(section)), ("", ""))
    shown = (sign or literal or re.sub(r"[#0,.?\s()+-]", "", bare)).strip()
    if shown == "$":
        return 1.0, f" {_DOLLARS.get(language.upper(), shown)}"
    currency, power = currency_and_power(shown)
    return (10.0**power, f" {currency}") if currency else None


def _with_signs(
    grid: Grid,
    archive: zipfile.ZipFile,
    paths: Mapping[str, str],
    styles: Mapping[bytes, tuple[float, str]],
    name: str,
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
            _sign(rows, *_place(parts[b"r"].decode()), styles[parts[b"s"]])
    return replace(grid, rows=rows)


def _sign(rows: list[Row], row: int, column: int, stated: tuple[float, str] | None) -> None:
    """Write the number of a cell with its unit, as the sheet shows it."""
    if stated is None or row >= len(rows) or column >= len(rows[row]):
        return
    factor, unit = stated
    value = rows[row][column]
    if isinstance(value, int | float) and not isinstance(value, bool):
        changed = list(rows[row])
        changed[column] = f"{value!r}{unit}" if factor == 1.0 else f"{factor * value:.15g}{unit}"
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
            raise _no_result(where, reference)


def _no_result(where: str, cell: str) -> TableError:
    """The error of a formula whose result no spreadsheet has computed."""
    return TableError(
        f"{where}: cell {cell} has a formula without a stored result. Open the workbook in a spreadsheet, save "
        "it, and read it again."
    )


# The same of an OpenDocument sheet: types of values, currencies, and data styles


def _with_signs_of_open_document(grids: list[Grid], archive: zipfile.ZipFile, name: str) -> list[Grid]:
    import lxml.etree

    units: dict[str, tuple[float, str]] = {}
    _take_data_styles(units, _tree(archive, "styles.xml"))
    sheets = {g.name: _OpenSheet(list(g.rows), f"{name}, '{g.name}'") for g in grids}
    tags = f"{_OFFICE}automatic-styles", f"{_TABLE}table-column", f"{_TABLE}table-row"
    with archive.open("content.xml") as opened:
        for _, element in lxml.etree.iterparse(opened, tag=tags, resolve_entities=False, no_network=True):
            title = next((str(t.get(f"{_TABLE}name")) for t in element.iterancestors(f"{_TABLE}table")), "")
            if element.tag == tags[0]:
                _take_data_styles(units, element)
            elif title in sheets:
                (sheets[title].add_column if element.tag == tags[1] else sheets[title].sign_row)(element, units)
            element.clear()
    return [replace(g, rows=sheets[g.name].rows) for g in grids]


def _take_data_styles(units: dict[str, tuple[float, str]], styles: lxml.etree._Element | None) -> None:
    """Add factor and unit by name of a data style, and of a style of cells that has one."""
    for style in () if styles is None else styles.iter(f"{_NUMBER}*"):
        texts = (str(part.text or "").replace('"', "").strip("-−()") for part in style if part.tag in _WORDS)
        code = "".join(("0", *(f'"{text}"' for text in texts)))
        unit = _PERCENT_STATED if style.tag == f"{_NUMBER}percentage-style" else unit_of_format(code)
        if unit is not None:
            units[str(style.get(f"{_STYLE}name"))] = unit
    for style in () if styles is None else styles.iter(f"{_STYLE}style"):
        if (unit := units.get(str(style.get(f"{_STYLE}data-style-name")))) is not None:
            units[str(style.get(f"{_STYLE}name"))] = unit


@dataclass
class _OpenSheet:
    """Rows of a sheet, whose numbers get their units as its elements are read."""

    rows: list[Row]
    where: str
    above: int = 0

    def __post_init__(self) -> None:
        self.width = max(map(len, self.rows), default=0)
        self.styles: list[str] = []  # of columns

    def add_column(self, column: lxml.etree._Element, _: object) -> None:
        """Take the default style of a column."""
        times = min(repeat_count(column.get(f"{_TABLE}number-columns-repeated")), self.width - len(self.styles))
        self.styles += [str(column.get(f"{_TABLE}default-cell-style-name"))] * times

    def sign_row(self, row: lxml.etree._Element, units: Mapping[str, tuple[float, str]]) -> None:
        """Write the numbers of a row with their units."""
        start, below = 0, self.above + repeat_count(row.get(f"{_TABLE}number-rows-repeated"))
        for cell in row:
            end = start + repeat_count(cell.get(f"{_TABLE}number-columns-repeated"))
            own, by_row = cell.get(f"{_TABLE}style-name"), row.get(f"{_TABLE}default-cell-style-name")
            names = own, by_row, *self.styles[start : start + 1]
            unit = _unit_of_cell(cell, units.get(next((str(n) for n in names if n), "")))
            if cell.get(f"{_TABLE}formula") and not cell.get(f"{_OFFICE}value-type") and not len(cell):
                raise _no_result(self.where, f"in row {self.above + 1}, column {start + 1}")
            lines, places = range(self.above, min(below, len(self.rows))), range(start, min(end, self.width))
            for line, place in itertools.product(lines, places) if unit else ():
                _sign(self.rows, line, place, unit)
            start = end
        self.above = below


def _unit_of_cell(cell: lxml.etree._Element, styled: tuple[float, str] | None) -> tuple[float, str] | None:
    """Factor and unit that a cell states by its type or currency, or else by its style."""
    kind, currency = cell.get(f"{_OFFICE}value-type"), cell.get(f"{_OFFICE}currency")
    if kind == "currency" and currency:
        return 1.0, f" {currency}"
    return _PERCENT_STATED if kind == "percentage" else styled if kind == "float" else None
