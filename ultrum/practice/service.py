"""The services on loopback: the observatory over SDMX, all others as files."""

from __future__ import annotations

import hashlib
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache

import numpy as np
import pyarrow as pa
import pyarrow.csv
import uvicorn
from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response
from starlette.routing import Route

from ultrum.errors import SourceError
from ultrum.practice import statistics_service
from ultrum.practice.statistics_service import Fault, FaultMiddleware, Faults, Statistics

_TABLES = (
    "companies",
    "dividends",
    "splits",
    "final_payments",
    "accounts",
    "indices",
    "forecasts",
    "past_forecasts",
)
_TYPES = {
    "csv": "text/csv; charset=utf-8",
    "txt": "text/plain; charset=utf-8",
    "zip": "application/zip",
    "geojson": "application/geo+json",
    "html": "text/html; charset=utf-8",
}


@dataclass(frozen=True)
class Service:
    """A running practice service. It stops at the end of its ``with`` block, or with :meth:`close`."""

    url: str
    faults: Faults = field(default_factory=Faults)
    clock: dict[str, str] = field(default_factory=dict)
    end: Callable[[], None] = field(default=lambda: None, repr=False)

    def __enter__(self) -> Service:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Stop serving."""
        self.end()

    @property
    def sdmx(self) -> str:
        """Entry point of the observatory's SDMX service."""
        return f"{self.url}/sdmx"

    @property
    def places(self) -> dict[str, str]:
        """Address of each source of the practice world, by its name."""
        files = {name: f"{self.url}/{name}" for name in ("exchange", "college", "harbour", "council", "archive")}
        return {"observatory": self.sdmx, **files}

    def add_fault(self, kind: str, path: str = "", times: int = 1, seconds: float = 0.0, to: str = "") -> None:
        """Simulate a fault in the following answers.

        Parameters
        ----------
        kind : {"slow", "busy", "unavailable", "cut", "mistyped", "moved", "locked", "revised"}
        path : str
            Only for requests whose path contains this text; all by default.
        times, seconds, to
            As in :class:`Fault`; −1 times is always.
        """
        self.faults.add(Fault(kind, path, times, seconds, to))

    def clear_faults(self) -> None:
        """Remove all faults; answer as usual again."""
        self.faults.clear()

    def set_today(self, day: str) -> None:
        """Date shown by the harbour's page of today's rate."""
        self.clock["today"] = day


def serve(port: int, *, delay: float, as_of: str, today: str) -> Service:
    """Start the services in a thread; see :func:`ultrum.practice.serve`."""
    faults, clock = Faults(delay=delay), {"today": today}
    config = uvicorn.Config(application(faults, clock, as_of), host="127.0.0.1", port=port, log_level="critical")
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()

    def _end() -> None:
        server.should_exit = True
        thread.join(timeout=5)

    return Service(f"http://127.0.0.1:{_port(server, thread, port)}", faults, clock, _end)


def application(faults: Faults, clock: dict[str, str], as_of: str = "") -> Starlette:
    """The services as one web application."""
    files = _Files(clock)
    return Starlette(
        routes=[
            Route("/", _welcome),
            *Statistics(faults, reply, as_of).routes(),
            Route("/exchange/{file}", _exchange),
            Route("/harbour/today.html", files.today),
            Route("/archive/vintages.csv", _vintages),
            Route("/{place}/{file:path}", files.file_response),
        ],
        middleware=[Middleware(FaultMiddleware, faults=faults)],
    )


def _port(server: uvicorn.Server, thread: threading.Thread, wanted: int) -> int:
    """Wait until the server listens; returns its address."""
    deadline = time.monotonic() + 10
    while not server.started:
        if not thread.is_alive() or time.monotonic() > deadline:
            raise SourceError(
                f"The practice service could not listen on 127.0.0.1:{wanted or 'any port'}; "
                "the port may be in use. Choose another port."
            )
        time.sleep(0.01)
    return int(server.servers[0].sockets[0].getsockname()[1])


async def _welcome(request: Request) -> Response:
    return PlainTextResponse(
        "The Lantern Sea: /sdmx (statistics), /exchange, /college, /harbour, /council, /archive (files)\n"
    )


@dataclass(frozen=True)
class _Files:
    """Files of the college, the harbour and the council."""

    clock: dict[str, str]

    async def today(self, request: Request) -> Response:
        """The page that shows only the present freight rate."""
        page = statistics_service.today_page(np.datetime64(self.clock["today"], "D"))
        return reply(request, page.encode(), _TYPES["html"])

    async def file_response(self, request: Request) -> Response:
        """A file as it was written."""
        place, name = request.path_params["place"], request.path_params["file"]
        file = (statistics_service.DATA / place / name).resolve()
        inside = file.is_relative_to(statistics_service.DATA) and place in ("college", "harbour", "council")
        if not inside or not file.is_file():
            return PlainTextResponse("no such file\n", status_code=404)
        return reply(request, file.read_bytes(), _TYPES.get(file.suffix[1:], "application/octet-stream"))


async def _exchange(request: Request) -> Response:
    name = str(request.path_params["file"]).removesuffix(".csv")
    if name == "prices":
        return reply(request, _prices(), _TYPES["csv"])
    quoted = name.startswith("quotes_") and (statistics_service.DATA / f"{name}.csv").is_file()
    if name not in _TABLES and not quoted:
        return PlainTextResponse("no such file\n", status_code=404)
    return reply(request, (statistics_service.DATA / f"{name}.csv").read_bytes(), _TYPES["csv"])


async def _vintages(request: Request) -> Response:
    text = statistics_service.vintages().to_csv(index=False, date_format="%Y-%m-%d", lineterminator="\n")
    return reply(request, text.encode(), _TYPES["csv"])


@cache
def _prices() -> bytes:
    frame = statistics_service.bars().copy()
    frame["date"] = frame["date"].dt.strftime("%Y-%m-%d").astype("category")
    packed = pa.BufferOutputStream()
    options = pyarrow.csv.WriteOptions(quoting_style="none")
    pyarrow.csv.write_csv(pa.Table.from_pandas(frame, preserve_index=False), packed, options)
    return bytes(packed.getvalue())


def reply(request: Request, body: bytes, kind: str) -> Response:
    """The body with an entity tag, or 304 if the client has it."""
    tag = f'"{hashlib.sha256(body).hexdigest()[:32]}"'
    if request.headers.get("if-none-match") == tag:
        return Response(status_code=304, headers={"etag": tag})
    return Response(body, media_type=kind, headers={"etag": tag})
