"""The stand-in services on loopback: the observatory over SDMX, everybody else as files."""

from __future__ import annotations

import hashlib
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache
from typing import Any

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
from ultrum.practice import world_files
from ultrum.practice.fault_injection import Mood, Moods, Moody
from ultrum.practice.statistics_service import Statistics
from ultrum.practice.world import LAST_DAY

_TABLES = ("companies", "dividends", "splits", "final_payments", "accounts", "indices")
_TYPES = {
    "csv": "text/csv; charset=utf-8", "txt": "text/plain; charset=utf-8", "zip": "application/zip",
    "geojson": "application/geo+json", "html": "text/html; charset=utf-8",
}  # fmt: skip


@dataclass(frozen=True)
class Service:
    """A running practice service: its address and its moods. It ends with its block, or with :meth:`close`."""

    url: str
    moods: Moods = field(default_factory=Moods)
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
        files = {
            name: f"{self.url}/{name}"
            for name in ("exchange", "college", "harbour", "council", "archive")
        }
        return {"observatory": self.sdmx, **files}

    def misbehave(self, kind: str, path: str = "", **options: Any) -> None:
        """Answer badly from now on.

        Parameters
        ----------
        kind : {"slow", "busy", "unavailable", "cut", "mistyped", "moved", "locked", "revised"}
        path : str
            Only requests whose path holds this.
        **options
            ``times`` (−1 for always), ``seconds`` and ``to``, as :class:`Mood` has them.
        """
        self.moods.tell(Mood(kind, path, **options))

    def behave(self) -> None:
        """Answer well again."""
        self.moods.clear()

    def set_today(self, day: str) -> None:
        """Day that the harbour's page of today shows."""
        self.clock["today"] = day


def serve(port: int = 0, *, delay: float = 0.0, as_of: str = "", today: str = LAST_DAY) -> Service:
    """Run the practice world's services on loopback, for a block or until they are closed.

    Parameters
    ----------
    port : int
        Port to listen on; a free one by default.
    delay : float
        Seconds every answer takes longer, as over a long line.
    as_of : str
        Day as of which the statistics stand, with the releases of then; the latest by default.
    today : str
        Day that the page of today's freight rate shows.

    Returns
    -------
    Service
        With the address in ``url``; a context manager that ends with its block, or with ``close()``.

    Examples
    --------
    >>> with serve() as service:
    ...     service.url.startswith("http://127.0.0.1:")
    True
    """
    moods, clock = Moods(delay=delay), {"today": today}
    config = uvicorn.Config(
        application(moods, clock, as_of), host="127.0.0.1", port=port, log_level="critical"
    )
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()

    def _end() -> None:
        server.should_exit = True
        thread.join(timeout=5)

    return Service(f"http://127.0.0.1:{_port(server, thread, port)}", moods, clock, _end)


def application(moods: Moods, clock: dict[str, str], as_of: str = "") -> Starlette:
    """The services as one web application."""
    files = _Files(clock)
    return Starlette(
        routes=[
            Route("/", _welcome),
            *Statistics(moods, reply, as_of).routes(),
            Route("/exchange/{file}", _exchange),
            Route("/harbour/today.html", files.today),
            Route("/archive/vintages.csv", _vintages),
            Route("/{place}/{file:path}", files.kept),
        ],
        middleware=[Middleware(Moody, moods=moods)],
    )


def _port(server: uvicorn.Server, thread: threading.Thread, wanted: int) -> int:
    """Wait until the server listens; its address."""
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
    return PlainTextResponse(
        "The Lantern Sea: /sdmx (statistics), /exchange, /college, /harbour, /council, /archive (files)\n"
    )


@dataclass(frozen=True)
class _Files:
    """Files of the college, the harbour and the council."""

    clock: dict[str, str]

    async def today(self, request: Request) -> Response:
        """The page that shows only the present freight rate."""
        page = world_files.today_page(np.datetime64(self.clock["today"], "D"))
        return reply(request, page.encode(), _TYPES["html"])

    async def kept(self, request: Request) -> Response:
        """A file as it was written."""
        place, name = request.path_params["place"], request.path_params["file"]
        file = (world_files.DATA / place / name).resolve()
        inside = file.is_relative_to(world_files.DATA) and place in (
            "college",
            "harbour",
            "council",
        )
        if not inside or not file.is_file():
            return PlainTextResponse("no such file\n", status_code=404)
        return reply(
            request, file.read_bytes(), _TYPES.get(file.suffix[1:], "application/octet-stream")
        )


async def _exchange(request: Request) -> Response:
    name = str(request.path_params["file"]).removesuffix(".csv")
    if name == "prices":
        return reply(request, _prices(), _TYPES["csv"])
    quoted = name.startswith("quotes_") and (world_files.DATA / f"{name}.csv").is_file()
    if name not in _TABLES and not quoted:
        return PlainTextResponse("no such file\n", status_code=404)
    return reply(request, (world_files.DATA / f"{name}.csv").read_bytes(), _TYPES["csv"])


async def _vintages(request: Request) -> Response:
    text = world_files.vintages().to_csv(index=False, date_format="%Y-%m-%d", lineterminator="\n")
    return reply(request, text.encode(), _TYPES["csv"])


@cache
def _prices() -> bytes:
    frame = world_files.bars().copy()
    frame["date"] = frame["date"].dt.strftime("%Y-%m-%d").astype("category")
    packed = pa.BufferOutputStream()
    options = pyarrow.csv.WriteOptions(quoting_style="none")
    pyarrow.csv.write_csv(pa.Table.from_pandas(frame, preserve_index=False), packed, options)
    return bytes(packed.getvalue())


def reply(request: Request, body: bytes, kind: str) -> Response:
    """The body with an entity tag, or 304 if the asker has it already."""
    tag = f'"{hashlib.sha256(body).hexdigest()[:32]}"'
    if request.headers.get("if-none-match") == tag:
        return Response(status_code=304, headers={"etag": tag})
    return Response(body, media_type=kind, headers={"etag": tag})
