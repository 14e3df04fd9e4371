"""HTML tables to grids of cells, without hidden text and footnote marks."""

from __future__ import annotations

import re
from typing import Any, Final

from ultrum.core.displayed_numbers import quantity
from ultrum.errors import TableError
from ultrum.sources.limits import current
from ultrum.sources.table.cell_grid import Grid, Row
from ultrum.sources.table.file_kinds import kind_of
from ultrum.sources.table.number_formats import SUPERSCRIPTS
from ultrum.sources.table.unpacking import decode_page

_MOST_PARAGRAPHS: Final = 4
_LONGEST_PARAGRAPH: Final = 400
_HIDDEN: Final = re.compile(r"display\s*:\s*none|visibility\s*:\s*hidden", re.IGNORECASE)
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
    grids = []
    for number, table in enumerate(tables, start=1):
        rows = _spread(table)
        title = _title_of(table) or f"table {number}"
        decisions = (("table", f"{number} of {len(tables)}: {title}"),)
        above, below = _text_around(table)
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


def _title_of(table: Any) -> str:
    caption = table.find("caption")
    if caption is not None:
        return " ".join(caption.text_content().split())
    above = table.xpath("preceding::*[self::h1 or self::h2 or self::h3 or self::h4][1]")
    return " ".join(above[0].text_content().split()) if above else ""


def _text_around(table: Any) -> tuple[str, str]:
    """Caption, paragraphs directly above a table, and paragraphs directly below it, up to another table."""
    caption = table.find("caption")
    around = []
    for axis, nearest in (("preceding", True), ("following", False)):
        elements = table.xpath(
            f"{axis}::*[self::p or self::h1 or self::h2 or self::h3 or self::h4 or self::table]"
        )
        texts: list[str] = []
        for element in reversed(elements) if nearest else elements:
            if element.tag == "table" or len(texts) >= _MOST_PARAGRAPHS:
                break
            if not any(a.tag == "table" for a in element.iterancestors()):
                texts.append(" ".join(element.text_content().split())[:_LONGEST_PARAGRAPH])
        around.append("\n".join(reversed(texts) if nearest else texts))
    words = " ".join(caption.text_content().split()) if caption is not None else ""
    return f"{around[0]}\n{words}".strip(), around[1]


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
