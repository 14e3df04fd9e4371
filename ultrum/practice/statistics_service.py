"""The observatory over SDMX REST 2.1 and 3.0, with simulated faults; the files of the practice world."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import re
import threading
from collections.abc import Awaitable, Callable, Mapping, MutableMapping
from dataclasses import dataclass, field
from datetime import date
from functools import cache
from pathlib import Path
from typing import Final

import numpy as np
import orjson
import pandas as pd
from starlette.requests import Request
from starlette.responses import HTMLResponse, PlainTextResponse, RedirectResponse, Response
from starlette.routing import Route
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ultrum.core.array_types import DAY, MONTH, Array
from ultrum.core.time.frequency import parse_period
from ultrum.errors import FrequencyError, SourceError, one_of
from ultrum.practice import data_messages, structure_messages
from ultrum.practice.data_messages import PREPARED, Content
from ultrum.practice.simulated_world import AGENCY, FLOWS, Flow, catalogue

DATA = Path(__file__).parent / "data"
_CENTS = ("open", "high", "low", "close")


@cache
def bars() -> pd.DataFrame:
    """Daily bars of all companies, in long form."""
    frame = pd.read_parquet(DATA / "bars.parquet")
    for column in _CENTS:
        frame[column] = frame[column] / 100.0
    frame["volume"] *= 100
    return frame


@cache
def observations() -> pd.DataFrame:
    """Columns ``flow key period value status``."""
    return pd.read_parquet(DATA / "observatory.parquet")


@cache
def vintages() -> pd.DataFrame:
    """Every release: ``flow key period release released value``."""
    return pd.read_parquet(DATA / "vintages.parquet")


def today_page(day: np.datetime64) -> str:
    """The page that shows only the freight rate of one day; its position on the page changes from day to day."""
    listed = table("freight").set_index("date")["rate"]
    rates = listed.set_axis(pd.DatetimeIndex(listed.index))[: pd.Timestamp(day)]
    rate, stamp = rates.iloc[-1], rates.index[-1]
    notes = ["Tug 4 is in dock.", "Fog signals are tested at noon.", "The north quay is dredged."]
    shift = int(hashlib.sha256(str(stamp).encode()).hexdigest(), 16) % 4
    filler = "".join(f"<p>{n}</p>" for n in notes[:shift])
    return (
        "<!doctype html><html><head><title>Freight today</title></head><body><h1>Harbour of Miravel</h1>"
        f"{filler}<table><tr><th>Berth</th><th>Ship</th></tr><tr><td>12</td><td>Whelk</td></tr></table>"
        f"<p>Freight rate today: QML {rate:,.1f} for a ton, as of {stamp:%d %B %Y}.</p></body></html>\n"
    )


@cache
def table(name: str) -> pd.DataFrame:
    """One of the exchange's small files."""
    return pd.read_csv(DATA / f"{name}.csv")


# Answers of the service

KINDS: Final = ("slow", "busy", "unavailable", "cut", "mistyped", "moved", "locked", "revised")
KEY: Final = "lantern-key"
_PAGE: Final = "<!doctype html><html><body><h1>We are renewing our service for you</h1></body></html>"


@dataclass
class Fault:
    """One fault of the service, for a number of requests whose path contains a text.

    Attributes
    ----------
    times : int
        Number of times; −1 for always.
    seconds : float
        Delay of ``slow``, or Retry-After of ``busy`` and ``unavailable``.
    to : str
        Redirect target of ``moved``: an address before the path.
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
        """The fault of one request, which counts as used."""
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
    """Middleware that lets a fault answer in place of the service."""

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
    """Whether the key is in one of the usual headers, plain or as a password."""
    basic = base64.b64encode(f"clerk:{KEY}".encode()).decode()
    shown = headers.get("authorization", "") + headers.get("x-api-key", "")
    return KEY in shown or basic in shown


def _cutting(send: Send) -> Callable[[MutableMapping[str, object]], Awaitable[None]]:
    """Announce the full answer and close the connection half-way."""

    async def _half(message: Message) -> None:
        if message["type"] == "http.response.body" and message.get("body"):
            body = message["body"]
            message = {**message, "body": body[: len(body) // 2], "more_body": False}
        await send(message)

    return _half


# The observatory over SDMX: REST 2.1 and 3.0 paths, every format, structures, topics, availability

_DATA, _STRUCTURE = "application/vnd.sdmx.data+", "application/vnd.sdmx.structure+"
_SPECIFIC: Final = "application/vnd.sdmx.structurespecificdata+xml"
_GENERIC: Final = "application/vnd.sdmx.genericdata+xml"
_DATA_TYPES: Final = (
    (f"{_DATA}csv", "1.0.0"),
    (f"{_DATA}csv", "2.0.0"),
    (f"{_DATA}json", "1.0.0"),
    (f"{_DATA}json", "2.0.0"),
    (_SPECIFIC, "2.1"),
    (_GENERIC, "2.1"),
    ("text/csv", "1.0.0"),
    ("application/json", "1.0.0"),
    ("application/xml", "2.1"),
)
_STRUCTURE_TYPES: Final = (
    (f"{_STRUCTURE}json", "1.0.0"),
    (f"{_STRUCTURE}json", "2.0.0"),
    (f"{_STRUCTURE}xml", "2.1"),
    ("application/json", "1.0.0"),
    ("application/xml", "2.1"),
)
Reply = Callable[[Request, bytes, str], Response]


@dataclass
class Statistics:
    """The observatory's answers.

    Parameters
    ----------
    faults : Faults
        Whether the data have been revised.
    reply : callable
        Creates a response with an entity tag from a body and its type.
    as_of : str
        Point-in-time date of the data; empty for the latest.
    """

    faults: Faults
    reply: Reply
    as_of: str = ""
    _series: dict[str, dict[tuple[str, str], pd.DataFrame]] = field(default_factory=dict)

    def routes(self) -> list[Route]:
        """Paths of both versions of the standard."""
        parts = ["{agency}", "{agency}/{name}", "{agency}/{name}/{version}"]
        kinds = {"dataflow": self.flows, "datastructure": self.definitions, "categoryscheme": self.topics}
        return [
            *[
                Route(f"/sdmx/{above}{kind}{tail}", answer)
                for kind, answer in kinds.items()
                for above in ("", "structure/")
                for tail in ("", *[f"/{p}" for p in parts])
            ],
            Route("/sdmx/availableconstraint/{flow}", self.available),
            Route("/sdmx/availableconstraint/{flow}/{key}", self.available),
            Route("/sdmx/availability/dataflow/{agency}/{flow}/{version}/{key}", self.available),
            Route("/sdmx/schema/datastructure/{agency}/{name}/{version}", self.schema),
            Route("/sdmx/data/dataflow/{agency}/{flow}/{version}/{key}", self.data),
            Route("/sdmx/data/{flow}", self.data),
            Route("/sdmx/data/{flow}/{key}", self.data),
        ]

    async def flows(self, request: Request) -> Response:
        """Dataflows, all or one."""
        wanted = request.path_params.get("name", "all")
        flows = [f for f in FLOWS.values() if wanted in ("all", "*", f.id)]
        if request.path_params.get("agency", "all") not in ("all", "*", AGENCY) or not flows:
            return fault(request, 404, 100, "No results found")
        return self._structures(request, Content(flows=flows))

    async def definitions(self, request: Request) -> Response:
        """A data structure with its code lists and concepts."""
        flow = FLOWS.get(request.path_params.get("name", ""))
        if flow is None:
            return fault(request, 404, 100, "No results found")
        return self._structures(request, Content(definitions=[flow]))

    async def topics(self, request: Request) -> Response:
        """The category scheme, with what is in it."""
        return self._structures(request, Content(flows=list(FLOWS.values()), topics=True))

    async def available(self, request: Request) -> Response:
        """Codes for which there are data."""
        flow = _flow_of_name(request)
        if flow is None:
            return fault(request, 404, 100, "No results found")
        try:
            keys = [k for k, _ in self._select(flow, request)]
        except (FrequencyError, ValueError) as error:
            return fault(request, 400, 140, str(error))
        parts = [k.split(".") for k in keys]
        codes = {d: sorted({p[i] for p in parts}) for i, d in enumerate(flow.dimensions)}
        return self._structures(request, Content(constrained=flow, available=codes))

    async def schema(self, request: Request) -> Response:
        """Schema of a flow's structure-specific messages."""
        flow = FLOWS.get(request.path_params["name"])
        if flow is None:
            return fault(request, 404, 100, "No results found")
        return self.reply(request, structure_messages.specific_schema(flow), "application/xml")

    async def data(self, request: Request) -> Response:
        """Data at a key."""
        flow = _flow_of_name(request)
        if flow is None:
            return fault(request, 404, 100, "No results found")
        chosen = negotiate(request.headers.get("accept", ""), _DATA_TYPES)
        if chosen is None:
            return fault(request, 406, 406, "Not acceptable")
        try:
            series = self._select(flow, request)
        except (FrequencyError, ValueError) as error:
            return fault(request, 400, 140, str(error))
        if not series:
            return fault(request, 404, 100, "No results found")
        ask = request.query_params
        whole = ask.get("detail", "full") in ("full", "dataonly") and ask.get("measures") != "none"
        kind, version = chosen
        body = _encode(kind, version, flow, series, whole)
        return self.reply(request, body, f"{kind};version={version}")

    def _structures(self, request: Request, content: Content) -> Response:
        chosen = negotiate(request.headers.get("accept", ""), _STRUCTURE_TYPES)
        if chosen is None:
            return fault(request, 406, 406, "Not acceptable")
        kind, version = chosen
        if "xml" in kind:
            return self.reply(request, structure_messages.structures_xml(content), f"{kind};version={version}")
        body = orjson.dumps(structure_messages.structures_json(content, version))
        return self.reply(request, body, f"{kind};version={version}")

    def _select(self, flow: Flow, request: Request) -> list[data_messages.Series]:
        """Series of a query, cut to its span."""
        pattern = _pattern(flow, request)
        ask = request.query_params
        start, end = _bounds(ask)
        last = int(ask.get("lastNObservations", 0))
        if ask.get("updatedAfter", "") > PREPARED:
            return []
        chosen = []
        for (name, key), rows in self.by_series(self.faults.is_revised(request.url.path)).items():
            if name == flow.id and pattern(key):
                kept = rows[(rows["day"] >= start) if start is not None else slice(None)]
                kept = kept[(kept["day"] <= end) if end is not None else slice(None)]
                chosen.append((key, kept.tail(last) if last else kept))
        return [(key, rows) for key, rows in chosen if len(rows)]

    def by_series(self, revised: bool = False) -> dict[tuple[str, str], pd.DataFrame]:
        """Observations of each series, with the first day of each period."""
        word = f"{self.as_of}{revised}"
        if word not in self._series:
            values_by_key = _latest() if not self.as_of else _as_of(_latest(), date.fromisoformat(self.as_of))
            self._series[word] = {k: _revise(v) for k, v in values_by_key.items()} if revised else values_by_key
        return self._series[word]


def _latest() -> dict[tuple[str, str], pd.DataFrame]:
    frame = observations()
    days = pd.to_datetime(_first_days(frame["period"].to_numpy()))
    grouped = frame.assign(day=days).groupby(["flow", "key"], sort=False)
    by_key = {(str(flow), str(key)): rows for (flow, key), rows in grouped}
    return {name: by_key[name] for name in catalogue()}


def _first_days(periods: Array) -> Array:
    unique, place = np.unique(periods.astype(str), return_inverse=True)
    return np.array([parse_period(str(p))[1] for p in unique])[place]


def _as_of(values_by_key: dict[tuple[str, str], pd.DataFrame], day: date) -> dict[tuple[str, str], pd.DataFrame]:
    """Releases up to a day, as released."""
    releases = vintages()
    releases = releases[releases["released"] <= pd.Timestamp(day)]
    latest = releases.sort_values("release").groupby(["flow", "key", "period"], as_index=False).last()
    values = {k: g.set_index("period")["value"] for k, g in latest.groupby(["flow", "key"])}
    as_of = {}
    for name, rows in values_by_key.items():
        if name in values:
            of_key = values[name]
            kept = rows[rows["period"].isin(of_key.index)]
            as_of[name] = kept.assign(value=kept["period"].map(of_key))
        else:
            as_of[name] = rows[rows["day"] <= pd.Timestamp(day) - pd.Timedelta(days=_wait(name))]
    return as_of


def _wait(name: tuple[str, str]) -> int:
    """Days from the start of a period to its release."""
    lag = catalogue()[name].get("RELEASE_LAG", "")
    return 31 + 31 * int(lag[1:-1]) if lag else 0


def _revise(rows: pd.DataFrame) -> pd.DataFrame:
    """The last twelve values, slightly higher."""
    values = rows["value"].to_numpy(dtype=float).copy()
    values[-12:] = np.round(values[-12:] * 1.004, 2)
    return rows.assign(value=values)


def _flow_of_name(request: Request) -> Flow | None:
    """Dataflow of ``PRICES`` or ``QLO,PRICES,1.0``, or of a 3.0 path."""
    parts = str(request.path_params["flow"]).split(",")
    agency = parts[0] if len(parts) > 1 else request.path_params.get("agency", AGENCY)
    return FLOWS.get(parts[1] if len(parts) > 1 else parts[0]) if agency in (AGENCY, "*", "all") else None


def _pattern(flow: Flow, request: Request) -> Callable[[str], bool]:
    """Whether a series key is requested: wildcards, ``+`` of 2.1, stars and filters of 3.0."""
    key = str(request.path_params.get("key", "all"))
    filters = {n: request.query_params.get(f"c[{n}]", "").split(",") for n in flow.dimensions}
    if key in ("all", "*", ""):
        choices: list[list[str]] = [[] for _ in flow.dimensions]
    else:
        parts = key.split(".")
        if len(parts) != len(flow.dimensions):
            raise ValueError(f"{flow.id} has {len(flow.dimensions)} dimensions, the key '{key}' {len(parts)}")
        choices = [[] if p in ("", "*") else re.split(r"\+", p) for p in parts]

    def _is_requested(value: str) -> bool:
        codes = zip(value.split("."), choices, filters.values(), strict=True)
        return all((not c or code in c) and (f == [""] or code in f) for code, c, f in codes)

    return _is_requested


def _bounds(ask: Mapping[str, str]) -> tuple[object, object]:
    """First and last requested day, in the parameters of either version."""
    bounds = {"start": ask.get("startPeriod", ""), "end": ask.get("endPeriod", "")}
    for part in ask.get("c[TIME_PERIOD]", "").split("+"):
        word, _, period = part.partition(":")
        if word in ("ge", "le"):
            bounds["start" if word == "ge" else "end"] = period
    start = parse_period(bounds["start"])[1] if bounds["start"] else None
    return start, _last_day(bounds["end"]) if bounds["end"] else None


def _last_day(period: str) -> object:
    """Last day of a period, so that an end of 2014 holds its December."""
    code, first = parse_period(period)
    months = {"A": 12, "S": 6, "Q": 3, "M": 1}.get(code)
    if months is None:
        return first
    after = first.astype("datetime64[M]") + MONTH * months
    return after.astype("datetime64[D]") - DAY


def _encode(kind: str, version: str, flow: Flow, series: list[data_messages.Series], whole: bool) -> bytes:
    if "csv" in kind:
        return data_messages.data_csv(flow, series, whole, version)
    if "json" in kind:
        return orjson.dumps(data_messages.data_json(flow, series, whole, version))
    return data_messages.data_xml(flow, series, whole, generic="generic" in kind)


def negotiate(accept: str, offered: tuple[tuple[str, str], ...]) -> tuple[str, str] | None:
    """The offered type and version that the client prefers; None if it accepts none."""
    accepted = []
    for part in accept.split(",") if accept else ["*/*"]:
        kind, *parameters = [p.strip() for p in part.split(";")]
        weights = dict(p.split("=", 1) for p in parameters if "=" in p)
        accepted.append((-float(weights.get("q", "1")), kind.lower(), weights.get("version", "")))
    for _, kind, version in sorted(accepted, key=lambda w: w[0]):
        for kind_offered, version_offered in offered:
            if kind in (kind_offered, "*/*") and version in ("", version_offered):
                return kind_offered, version_offered
    return None


def fault(request: Request, status: int, code: int, title: str) -> Response:
    """An error of the standard, in a format that the client accepts."""
    if "xml" in request.headers.get("accept", "") and "json" not in request.headers.get("accept", ""):
        return Response(data_messages.error_xml(code, title), status_code=status, media_type="application/xml")
    body: object = orjson.dumps(data_messages.error_json(code, title))
    return Response(body, status_code=status, media_type="application/json")
