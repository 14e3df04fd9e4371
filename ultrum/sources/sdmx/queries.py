"""Queries of SDMX REST 2.1 and 3.0, and explanations of the errors of a service."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final
from urllib.parse import urlencode

import orjson

_DATA: Final = "application/vnd.sdmx.data+"
_FORMATS: Final = {
    "csv": (f"{_DATA}csv;version=1.0.0", f"{_DATA}csv;version=2.0.0"),
    "csv2": (f"{_DATA}csv;version=2.0.0", f"{_DATA}csv;version=1.0.0"),
    "json": (f"{_DATA}json;version=1.0.0", f"{_DATA}json;version=2.0.0"),
    "json2": (f"{_DATA}json;version=2.0.0", f"{_DATA}json;version=1.0.0"),
    "xml": ("application/vnd.sdmx.structurespecificdata+xml;version=2.1",),
    "xml generic": ("application/vnd.sdmx.genericdata+xml;version=2.1",),
}
FORMATS: Final = tuple(_FORMATS)
REST: Final = ("2.1", "3.0")


@dataclass(frozen=True)
class Span:
    """Which observations of a series to request.

    Attributes
    ----------
    start, end : str
        First and last period, as ``2010``, ``2010-Q1`` or ``2010-01``; empty for all.
    last : int
        Number of most recent observations; 0 for all.
    updated_after : str
        Only changes since an instant (ISO 8601).
    """

    start: str = ""
    end: str = ""
    last: int = 0
    updated_after: str = ""

    def __bool__(self) -> bool:
        return bool(self.start or self.end or self.last or self.updated_after)


EVERYTHING: Final = Span()


@dataclass(frozen=True)
class FlowName:
    """Agency, id and version of a dataflow."""

    id: str
    agency: str = "all"
    version: str = "latest"

    @classmethod
    def parse(cls, text: str) -> FlowName:
        """Parse ``FLOW``, ``AGENCY,FLOW`` or ``AGENCY,FLOW,1.0``."""
        parts = text.split(",")
        if len(parts) == 1:
            return cls(parts[0])
        return cls(parts[1], parts[0], parts[2] if len(parts) > 2 else "latest")


@dataclass(frozen=True)
class Paths:
    """Paths below a service's entry point, in one of the two versions of the standard."""

    rest: str = "2.1"

    def flows(self) -> str:
        """Every dataflow."""
        return "dataflow/all/all/latest" if self.rest == "2.1" else "structure/dataflow/*/*/~"

    def flow(self, name: FlowName) -> str:
        """One dataflow, by its version."""
        path = f"dataflow/{name.agency}/{name.id}/{name.version}"
        return path if self.rest == "2.1" else f"structure/{path}"

    def structure(self, reference: str) -> str:
        """A data structure ``agency/id/version`` with its code lists and concepts."""
        if self.rest == "2.1":
            return f"datastructure/{reference}?references=children"
        return f"structure/datastructure/{_wild(reference)}?references=children"

    def categories(self) -> str:
        """Every category scheme with its categorisations."""
        if self.rest == "2.1":
            return "categoryscheme/all/all/latest?references=parentsandsiblings"
        return "structure/categoryscheme/*/*/~?references=parentsandsiblings"

    def available(self, flow: FlowName, key: str) -> str:
        """Codes for which a dataflow has data."""
        if self.rest == "2.1":
            return f"availableconstraint/{self._flow(flow)}/{key or 'all'}"
        return f"availability/dataflow/{self._context(flow)}/{_key30(key)}"

    def data(
        self, flow: FlowName, key: str, span: Span = EVERYTHING, detail: str = "", dimensions: Sequence[str] = ()
    ) -> str:
        """Data of a dataflow at a key; wildcards and ``+`` are those of 2.1 in either version."""
        if self.rest == "2.1":
            path = f"data/{self._flow(flow)}/{key or 'all'}"
            query = {
                "startPeriod": span.start,
                "endPeriod": span.end,
                "updatedAfter": span.updated_after,
                "lastNObservations": str(span.last or ""),
                "detail": detail,
            }
        else:
            path = f"data/dataflow/{self._context(flow)}/{_key30(key)}"
            bounds = [f"ge:{span.start}" if span.start else "", f"le:{span.end}" if span.end else ""]
            query = {
                "c[TIME_PERIOD]": "+".join(b for b in bounds if b),
                "updatedAfter": span.updated_after,
                "lastNObservations": str(span.last or ""),
                **_detail30(detail),
                **_filters(key, dimensions),
            }
        parameters = {name: value for name, value in query.items() if value}
        return f"{path}?{urlencode(parameters, safe='[]:,')}" if parameters else path

    def _flow(self, flow: FlowName) -> str:
        return flow.id if flow.agency == "all" else f"{flow.agency},{flow.id},{flow.version}"

    def _context(self, flow: FlowName) -> str:
        return _wild(f"{flow.agency}/{flow.id}/{flow.version}")


def _wild(reference: str) -> str:
    """Wildcards of 2.1 in the syntax of 3.0."""
    return re.sub(r"(?<=/)latest$", "~", re.sub(r"^all(?=/)", "*", reference))


def _key30(key: str) -> str:
    """A key of 2.1 in the syntax of 3.0: stars for wildcards, several codes as a filter."""
    if key in ("", "all"):
        return "*"
    return ".".join("*" if not part or "+" in part else part for part in key.split("."))


def _filters(key: str, dimensions: Sequence[str]) -> dict[str, str]:
    """Filters of 3.0 for the dimensions with several codes in a key."""
    pairs = zip(dimensions, key.split("."), strict=False)
    return {f"c[{d}]": part.replace("+", ",") for d, part in pairs if "+" in part}


def _detail30(detail: str) -> dict[str, str]:
    if detail == "serieskeysonly":
        return {"attributes": "none", "measures": "none"}
    return {}


def key_of(path: str) -> str:
    """Key of a data path, with the wildcards of 2.1."""
    key = path.partition("?")[0].rsplit("/", 1)[-1]
    return "all" if key == "*" else key.replace("*", "")


def covers(path: str, wanted: str, spans: bool = False) -> bool:
    """Whether a data path includes a series ``FLOW/KEY``, in full or for a span.

    Examples
    --------
    >>> covers("data/PRICES/M..CPI", "PRICES/M.QM.CPI")
    True
    """
    flow, _, key = wanted.partition("/")
    parts = path.partition("?")[0].split("/")
    if "?" in path and (not spans or "detail=" in path):
        return False
    if parts[0] != "data" or flow not in (parts[1], parts[-3] if len(parts) > 4 else ""):
        return False
    path_key = key_of(path)
    if path_key == "all":
        return True
    parts_of_path, parts_of_key = path_key.split("."), key.split(".")
    same = len(parts_of_path) == len(parts_of_key)
    return same and all(not a or b in a.split("+") for a, b in zip(parts_of_path, parts_of_key, strict=True))


def accept_of(format_name: str) -> str:
    """Accepted media types: the preferred format first, then all other readable ones."""
    rest = [t for name in ("csv", "json", "xml", "xml generic") for t in _FORMATS[name]]
    wanted = list(dict.fromkeys([*_FORMATS[format_name], *rest]))
    return ", ".join(f"{t};q={max(1.0 - 0.1 * k, 0.1):.1f}" if k else t for k, t in enumerate(wanted))


# Errors of a service: the standard's codes in plain words, with a fix

MEANINGS: Final = {
    100: "nothing matches the query. Check the key; 'ultrum find' lists what the source has.",
    110: "access was refused. The source needs credentials.",
    130: "the answer would be too large for the service. Request fewer series or a shorter span.",
    140: "the service does not understand the query. Check the key and the periods.",
    150: "the query requests something that does not exist. Check the dataflow and the codes.",
    304: "nothing has changed since.",
    404: "the service does not have what was requested. Check the dataflow and the key.",
    406: (
        "the service does not offer the requested format. Set format = 'json', 'xml' or 'csv' in the settings "
        "of the source."
    ),
    413: "the answer would be too large for the service. Request fewer series or a shorter span.",
    414: "the address is too long for the service. Request fewer series at once.",
    500: "the service had an internal error. Try again later.",
    501: "the service does not support this query.",
    503: "the service is unavailable. Try again later.",
    510: "the answer is larger than the service allows. Request fewer series or a shorter span.",
}


def message_of_fault(body: bytes) -> str:
    """The error that a message reports, in words; empty if it reports none.

    Examples
    --------
    >>> message_of_fault(b'{"errors": [{"code": 140, "title": "Syntax"}]}')
    "the service does not understand the query. Check the key and the periods. Its message: 'Syntax' (140)"
    """
    start = body[:4096].removeprefix(b"\xef\xbb\xbf").lstrip()
    if start.startswith(b"{") and b'"errors"' in body[:200_000]:
        return _of_json(body)
    if start.startswith(b"<") and re.search(rb"<(\w+:)?(Error|ErrorMessage)[ >]", start):
        return _of_xml(body)
    return ""


def in_words(code: int, text: str) -> str:
    """An error code of the standard and the service's own text as one sentence."""
    meaning = MEANINGS.get(code) or MEANINGS.get(code // 100 * 100, "the service refused.")
    return f"{meaning} Its message: '{text.strip()[:200]}' ({code})" if text else f"{meaning} ({code})"


def _of_json(body: bytes) -> str:
    try:
        errors: object = orjson.loads(body).get("errors")
    except (orjson.JSONDecodeError, AttributeError):
        return ""
    if not isinstance(errors, list) or not errors:
        return ""
    first = errors[0]
    if not isinstance(first, dict):
        return in_words(0, str(first))
    title = first.get("title") or first.get("detail") or next(iter(first.get("titles", {}).values()), "")
    code = first.get("code", 0)
    return in_words(int(code) if str(code).isdigit() else 0, str(title))


def _of_xml(body: bytes) -> str:
    text = body[:20_000].decode("utf-8", "replace")
    code = re.search(r"\bcode=[\"'](\d+)[\"']", text)
    text_element = re.search(r"<(?:\w+:)?Text[^>]*>([^<]*)<", text)
    return in_words(int(code[1]) if code else 0, text_element[1] if text_element else "")
