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
_PAGE: Final = (
    "<!doctype html><html><body><h1>We are renewing our service for you</h1></body></html>"
)


@dataclass
class Mood:
    """One way to misbehave, for so many requests whose path holds a text.

    Attributes
    ----------
    times : int
        How often; −1 for always.
    seconds : float
        Wait of ``slow``, or Retry-After of ``busy`` and ``unavailable``.
    to : str
        Where ``moved`` sends the asker: an address in front of the path.
    """

    kind: str
    path: str = ""
    times: int = 1
    seconds: float = 1.0
    to: str = "/elsewhere"


@dataclass
class Moods:
    """The moods of a service, shared between its thread and the caller's."""

    faults: list[Mood] = field(default_factory=list)
    delay: float = 0.0
    lock: threading.Lock = field(default_factory=threading.Lock)
    asked: list[tuple[str, dict[str, str]]] = field(default_factory=list)

    def tell(self, mood: Mood) -> None:
        """Add a mood."""
        if mood.kind not in KINDS:
            raise SourceError(f"'{mood.kind}' is not a fault; {one_of(mood.kind, KINDS)}")
        with self.lock:
            self.faults.append(mood)

    def clear(self) -> None:
        """Behave again."""
        with self.lock:
            self.faults.clear()

    def next_for(self, path: str) -> Mood | None:
        """The mood for one request, used up by it."""
        with self.lock:
            for mood in self.faults:
                if mood.kind != "revised" and mood.path in path and mood.times != 0:
                    mood.times -= 1
                    return mood
        return None

    def is_revised(self, path: str) -> bool:
        """Whether the data at a path have been revised."""
        return any(m.kind == "revised" and m.path in path for m in self.faults)


class Moody:
    """Middleware that lets a mood answer instead of the service."""

    def __init__(self, app: ASGIApp, moods: Moods) -> None:
        self.app, self.moods = app, moods

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer one request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        path = scope["path"]
        headers = {k.decode().lower(): v.decode() for k, v in scope["headers"]}
        self.moods.asked.append((path, headers))
        if self.moods.delay:
            await asyncio.sleep(self.moods.delay)
        mood = self.moods.next_for(path)
        scope["path"] = path.removeprefix("/elsewhere")
        answer = _answer(mood, scope, headers) if mood is not None else None
        if answer is not None:
            await answer(scope, receive, send)
        elif mood is not None and mood.kind == "cut":
            await self.app(scope, receive, _cutting(send))
        else:
            if mood is not None and mood.kind == "slow":
                await asyncio.sleep(mood.seconds)
            await self.app(scope, receive, send)


def _answer(mood: Mood | None, scope: Scope, headers: dict[str, str]) -> Response | None:
    """The response of a fault in place of the service's."""
    if mood is None:
        return None
    wait = {"retry-after": f"{mood.seconds:g}"}
    answers = {
        "busy": PlainTextResponse("too many requests\n", status_code=429, headers=wait),
        "unavailable": PlainTextResponse("closed for repairs\n", status_code=503, headers=wait),
        "mistyped": HTMLResponse(_PAGE),
        "moved": RedirectResponse(mood.to + _path_and_query(scope), status_code=302),
    }
    if mood.kind == "locked" and not _has_key(headers):
        return PlainTextResponse("a key is needed\n", status_code=401)
    return answers.get(mood.kind)


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
