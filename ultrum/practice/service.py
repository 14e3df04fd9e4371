"""The stand-in services on loopback: the observatory over SDMX, the exchange and college as files."""

from __future__ import annotations

import hashlib
import re
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from typing import Any

import orjson
import pandas as pd
import pyarrow as pa
import pyarrow.csv
import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response
from starlette.routing import Route

from ultrum.core.frequency import parse_period
from ultrum.errors import FrequencyError, SourceError
from ultrum.practice import messages, store
from ultrum.practice.observatory import AGENCY, FLOWS, Flow, catalogue

DATA_CSV = "application/vnd.sdmx.data+csv"
DATA_JSON = "application/vnd.sdmx.data+json"
STRUCTURE_JSON = "application/vnd.sdmx.structure+json"
_TABLES = ("companies", "dividends", "splits", "final_payments", "accounts", "indices")


@dataclass(frozen=True)
class Service:
    """Address of a running practice service."""

    url: str

    @property
    def sdmx(self) -> str:
        """Entry point of the observatory's SDMX service."""
        return f"{self.url}/sdmx"

    @property
    def places(self) -> dict[str, str]:
        """Address of each source of the practice world, by its name."""
        return {
            "observatory": self.sdmx,
            "exchange": f"{self.url}/exchange",
            "college": f"{self.url}/college",
        }


@contextmanager
def serve(port: int = 0) -> Iterator[Service]:
    """Run the practice world's services on loopback while the block lasts.

    Parameters
    ----------
    port : int
        Port to listen on; a free one by default.

    Yields
    ------
    Service
        With the address in ``url``.

    Examples
    --------
    >>> with serve() as service:
    ...     service.url.startswith("http://127.0.0.1:")
    True
    """
    config = uvicorn.Config(application(), host="127.0.0.1", port=port, log_level="critical")
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    try:
        yield Service(f"http://127.0.0.1:{_port(server, thread, port)}")
    finally:
        server.should_exit = True
        thread.join(timeout=5)


def application() -> Starlette:
    """The services as one web application."""
    return Starlette(
        routes=[
            Route("/", _welcome),
            Route("/sdmx/dataflow", _dataflows),
            Route("/sdmx/dataflow/{agency}", _dataflows),
            Route("/sdmx/dataflow/{agency}/{flow}", _dataflows),
            Route("/sdmx/dataflow/{agency}/{flow}/{version}", _dataflows),
            Route("/sdmx/datastructure/{agency}/{flow}", _structures),
            Route("/sdmx/datastructure/{agency}/{flow}/{version}", _structures),
            Route("/sdmx/data/{flow}", _data),
            Route("/sdmx/data/{flow}/{key}", _data),
            Route("/exchange/{file}", _exchange),
            Route("/college/{file}", _college),
        ]
    )


def _port(server: uvicorn.Server, thread: threading.Thread, wanted: int) -> int:
    """Wait until the server listens, and say where."""
    patience = time.monotonic() + 10
    while not server.started:
        if not thread.is_alive() or time.monotonic() > patience:
            raise SourceError(
                f"The practice service could not listen on 127.0.0.1:{wanted or 'any port'}; "
                "is the port taken? Choose another one."
            )
        time.sleep(0.01)
    return int(server.servers[0].sockets[0].getsockname()[1])


async def _welcome(request: Request) -> Response:
    return PlainTextResponse("The Lantern Sea: /sdmx (statistics), /exchange, /college (files)\n")


async def _dataflows(request: Request) -> Response:
    wanted = request.path_params.get("flow", "all")
    flows = [f for f in FLOWS.values() if wanted in ("all", f.id)]
    if request.path_params.get("agency", "all") not in ("all", AGENCY) or not flows:
        return _error(404, 100, "No results found")
    return _answer(request, orjson.dumps(messages.flows_json(flows)), STRUCTURE_JSON)


async def _structures(request: Request) -> Response:
    flow = FLOWS.get(request.path_params["flow"])
    if flow is None:
        return _error(404, 100, "No results found")
    return _answer(request, orjson.dumps(messages.structures_json([flow])), STRUCTURE_JSON)


async def _data(request: Request) -> Response:
    flow = messages.flow_named(request.path_params["flow"])
    if flow is None:
        return _error(404, 100, "No results found")
    try:
        pattern = _pattern(flow, request.path_params.get("key", "all"))
        series = _select(flow, pattern, request)
    except (FrequencyError, ValueError) as error:
        return _error(400, 140, str(error))
    if not series:
        return _error(404, 100, "No results found")
    whole = request.query_params.get("detail", "full") in ("full", "dataonly")
    if "json" in request.headers.get("accept", ""):
        return _answer(request, orjson.dumps(messages.data_json(flow, series, whole)), DATA_JSON)
    return _answer(request, messages.data_csv(flow, series, whole), DATA_CSV)


def _pattern(flow: Flow, key: str) -> re.Pattern[str]:
    """Series keys that a key with wildcards and ``+`` asks for."""
    if key == "all":
        return re.compile(".*")
    parts = key.split(".")
    if len(parts) != len(flow.dimensions):
        raise ValueError(
            f"{flow.id} has {len(flow.dimensions)} dimensions, the key '{key}' {len(parts)}"
        )
    choices = ["|".join(map(re.escape, p.split("+"))) if p else "[^.]+" for p in parts]
    return re.compile(r"\.".join(f"(?:{c})" for c in choices))


def _select(flow: Flow, pattern: re.Pattern[str], request: Request) -> list[messages.Series]:
    ask = request.query_params
    start, end = (
        parse_period(ask[k])[1] if k in ask else None for k in ("startPeriod", "endPeriod")
    )
    last = int(ask.get("lastNObservations", 0))
    chosen = []
    for (name, key), rows in _by_series().items():
        if name == flow.id and pattern.fullmatch(key):
            kept = rows[(rows["day"] >= start) if start is not None else slice(None)]
            kept = kept[(kept["day"] <= end) if end is not None else slice(None)]
            chosen.append((key, kept.tail(last) if last else kept))
    return [(key, rows) for key, rows in chosen if len(rows)]


@cache
def _by_series() -> dict[tuple[str, str], pd.DataFrame]:
    """Observations of each series, with the first day of each period."""
    frame = store.observations()
    days = pd.to_datetime(frame["period"], format="ISO8601")
    grouped = frame.assign(day=days).groupby(["flow", "key"], sort=False)
    known = {(str(flow), str(key)): rows for (flow, key), rows in grouped}
    return {name: known[name] for name in catalogue()}


async def _exchange(request: Request) -> Response:
    name = str(request.path_params["file"]).removesuffix(".csv")
    if name != "prices" and name not in _TABLES:
        return PlainTextResponse("no such file\n", status_code=404)
    return _answer(request, _file(name), "text/csv; charset=utf-8")


async def _college(request: Request) -> Response:
    if request.path_params["file"] != "factors_monthly.zip":
        return PlainTextResponse("no such file\n", status_code=404)
    return _answer(request, (store.DATA / "factors_monthly.zip").read_bytes(), "application/zip")


@cache
def _file(name: str) -> bytes:
    if name != "prices":
        return (store.DATA / f"{name}.csv").read_bytes()
    frame = store.bars().copy()
    frame["date"] = frame["date"].dt.strftime("%Y-%m-%d").astype("category")
    packed = pa.BufferOutputStream()
    options = pyarrow.csv.WriteOptions(quoting_style="none")
    pyarrow.csv.write_csv(pa.Table.from_pandas(frame, preserve_index=False), packed, options)
    return bytes(packed.getvalue())


def _answer(request: Request, body: bytes, kind: str) -> Response:
    """The body with an entity tag, or 304 if the asker has it already."""
    tag = f'"{hashlib.sha256(body).hexdigest()[:32]}"'
    if request.headers.get("if-none-match") == tag:
        return Response(status_code=304, headers={"etag": tag})
    return Response(body, media_type=kind, headers={"etag": tag})


def _error(status: int, code: int, title: str) -> Response:
    body: Any = orjson.dumps(messages.error_json(code, title))
    return Response(body, status_code=status, media_type="application/json")
