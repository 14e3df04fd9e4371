"""Fault injection: the local services fail on request in the ways real ones do."""

from __future__ import annotations

import asyncio
import base64
import threading
from collections.abc import Awaitable, Callable, MutableMapping
from dataclasses import dataclass, field
from typing import Any, Final

from starlette.responses import HTMLResponse, PlainTextResponse, RedirectResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ultrum.errors import SourceError, one_of

KINDS: Final = ("slow", "busy", "unavailable", "cut", "mistyped", "moved", "locked", "revised")
KEY: Final = "lantern-key"
_PAGE: Final = "<!doctype html><html><body><h1>We are renewing our service for you</h1></body></html>"


@dataclass
class Fault:
    """One fault of the service, for a number of requests whose path contains a text.

    Attributes
    ----------
    times : int
        How often; −1 for always.
    seconds : float
        Wait of ``slow``, or Retry-After of ``busy`` and ``unavailable``.
    to : str
        Where ``moved`` redirects: an address in front of the path.
    """

    kind: str
    path: str = ""
    times: int = 1
    seconds: float = 1.0
    to: str = "/elsewhere"


@dataclass
class Faults:
    """The faults of a service, shared between its thread and the caller's."""

    waiting: list[Fault] = field(default_factory=list)
    delay: float = 0.0
    lock: threading.Lock = field(default_factory=threading.Lock)
    requests: list[tuple[str, dict[str, str]]] = field(default_factory=list)

    def add(self, fault: Fault) -> None:
        """Add a fault."""
        if fault.kind not in KINDS:
            raise SourceError(f"'{fault.kind}' is not a fault; {one_of(fault.kind, KINDS)}")
        with self.lock:
            self.waiting.append(fault)

    def clear(self) -> None:
        """Remove all faults."""
        with self.lock:
            self.waiting.clear()

    def next_for(self, path: str) -> Fault | None:
        """The fault for one request, used up by it."""
        with self.lock:
            for fault in self.waiting:
                if fault.kind != "revised" and fault.path in path and fault.times != 0:
                    fault.times -= 1
                    return fault
        return None

    def is_revised(self, path: str) -> bool:
        """Whether the data at a path have been revised."""
        return any(m.kind == "revised" and m.path in path for m in self.waiting)


class FaultMiddleware:
    """Middleware that lets a fault answer instead of the service."""

    def __init__(self, app: ASGIApp, faults: Faults) -> None:
        self.app, self.faults = app, faults

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer one request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        path = scope["path"]
        headers = {k.decode().lower(): v.decode() for k, v in scope["headers"]}
        self.faults.requests.append((path, headers))
        if self.faults.delay:
            await asyncio.sleep(self.faults.delay)
        fault = self.faults.next_for(path)
        scope["path"] = path.removeprefix("/elsewhere")
        answer = _answer(fault, scope, headers) if fault is not None else None
        if answer is not None:
            await answer(scope, receive, send)
        elif fault is not None and fault.kind == "cut":
            await self.app(scope, receive, _cutting(send))
        else:
            if fault is not None and fault.kind == "slow":
                await asyncio.sleep(fault.seconds)
            await self.app(scope, receive, send)


def _answer(fault: Fault | None, scope: Scope, headers: dict[str, str]) -> Response | None:
    """The response of a fault in place of the service's."""
    if fault is None:
        return None
    wait = {"retry-after": f"{fault.seconds:g}"}
    answers = {
        "busy": PlainTextResponse("too many requests\n", status_code=429, headers=wait),
        "unavailable": PlainTextResponse("closed for repairs\n", status_code=503, headers=wait),
        "mistyped": HTMLResponse(_PAGE),
        "moved": RedirectResponse(fault.to + _path_and_query(scope), status_code=302),
    }
    if fault.kind == "locked" and not _has_key(headers):
        return PlainTextResponse("a key is needed\n", status_code=401)
    return answers.get(fault.kind)


def _path_and_query(scope: Scope) -> str:
    query = scope["query_string"].decode()
    return str(scope["path"]) + (f"?{query}" if query else "")


def _has_key(headers: dict[str, str]) -> bool:
    """Whether the key came in one of the usual headers, plain or as a password."""
    basic = base64.b64encode(f"clerk:{KEY}".encode()).decode()
    shown = headers.get("authorization", "") + headers.get("x-api-key", "")
    return KEY in shown or basic in shown


def _cutting(send: Send) -> Callable[[MutableMapping[str, Any]], Awaitable[None]]:
    """Promise the whole answer and hang up half-way."""

    async def _half(message: Message) -> None:
        if message["type"] == "http.response.body" and message.get("body"):
            body = message["body"]
            message = {**message, "body": body[: len(body) // 2], "more_body": False}
        await send(message)

    return _half
