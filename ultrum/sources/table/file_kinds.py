"""The kind of a file, by its first bytes: workbook, Parquet, page, JSON or text."""

from __future__ import annotations

import re
from typing import Final

from ultrum.sources.table.ole_check import MARK
from ultrum.sources.table.unpacking import names_in

_PAGE: Final = re.compile(rb"\s*(<!doctype html|<html|<table|<\?xml[^>]*\?>\s*<!doctype html)", re.IGNORECASE)
_WORKBOOKS: Final = {"xl/workbook.xml", "xl/workbook.bin", "content.xml"}


def kind_of(body: bytes) -> str:
    """Kind of a file, by its first bytes: workbook, parquet (Feather too), page, json or text."""
    if body[:4] == b"PK\x03\x04" and _WORKBOOKS & names_in(body):
        return "workbook"
    if body[:8] == MARK:
        return "workbook"
    if body[:4] == b"PAR1" or body[:6] == b"ARROW1":
        return "parquet"
    start = body[:4096].removeprefix(b"\xef\xbb\xbf")
    if _PAGE.match(start) or (b"<table" in start.lower() and start.lstrip()[:1] == b"<"):
        return "page"
    return "json" if start.lstrip()[:1] in (b"{", b"[") else "text"
