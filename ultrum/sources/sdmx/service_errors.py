"""Errors of a service: the standard's codes in plain words, with a fix."""

from __future__ import annotations

import re
from typing import Any, Final

import orjson

MEANINGS: Final = {
    100: "nothing matches the query. Check the key; 'find' lists what there is.",
    110: "access was refused. The source needs credentials.",
    130: "the answer would be too large for the service. Ask for fewer series or a shorter span.",
    140: "the service does not understand the query. Check the key and the periods.",
    150: "the query asks for something that does not exist. Check the flow and the codes.",
    304: "nothing has changed since.",
    404: "there is no such thing at the service. Check the flow and the key.",
    406: "the service does not offer the format asked for. Set format = 'json', 'xml' or 'csv' for it.",
    413: "the answer would be too large for the service. Ask for fewer series or a shorter span.",
    414: "the address is too long for the service. Ask for fewer series at once.",
    500: "the service failed inside. Try again later.",
    501: "the service does not offer this query.",
    503: "the service is not available now. Try again later.",
    510: "the answer is larger than the service allows. Ask for fewer series or a shorter span.",
}


def message_of_fault(body: bytes) -> str:
    """The fault that a message carries, in words; empty if it carries none.

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
    """A code of the standard and the service's own words as one sentence."""
    meaning = MEANINGS.get(code) or MEANINGS.get(code // 100 * 100, "the service refused.")
    return f"{meaning} Its message: '{text.strip()[:200]}' ({code})" if text else f"{meaning} ({code})"


def _of_json(body: bytes) -> str:
    try:
        errors: Any = orjson.loads(body).get("errors")
    except (orjson.JSONDecodeError, AttributeError):
        return ""
    if not isinstance(errors, list) or not errors:
        return ""
    first: dict[str, Any] = errors[0] if isinstance(errors[0], dict) else {"title": str(errors[0])}
    title = first.get("title") or first.get("detail") or next(iter(first.get("titles", {}).values()), "")
    code = first.get("code", 0)
    return in_words(int(code) if str(code).isdigit() else 0, str(title))


def _of_xml(body: bytes) -> str:
    text = body[:20_000].decode("utf-8", "replace")
    code = re.search(r"\bcode=[\"'](\d+)[\"']", text)
    text_element = re.search(r"<(?:\w+:)?Text[^>]*>([^<]*)<", text)
    return in_words(int(code[1]) if code else 0, text_element[1] if text_element else "")
