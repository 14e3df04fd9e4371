"""Network transport with a deadline for the whole exchange, and without access from one network class to another.

A server that sends single bytes slowly never reaches the timeout of a single read. Every read and write of an
exchange therefore has the remaining time until its deadline: headers, interim responses, bodies and trailers. A
redirect can reach a private network only from the same one.
"""

from __future__ import annotations

import ipaddress
import socket
import ssl
import time
import urllib.request
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Final

import httpcore
import httpx

_BROKEN: Final = (httpcore.NetworkError, httpcore.ProtocolError, httpcore.ProxyError, httpcore.TimeoutException)
_CLASSES: Final = ("public", "private", "link-local", "loopback")


_TRANSLATED_WITHIN: Final = ipaddress.IPv6Network("64:ff9b:1::/48")  # NAT64 of an own network (RFC 8215)
_TRANSLATED: Final = (ipaddress.IPv6Network("64:ff9b::/96"), ipaddress.IPv6Network("::/96"), _TRANSLATED_WITHIN)


class DeadlineError(Exception):
    """The exchange took longer than its limit."""


class NetworkError(Exception):
    """The host is in a network that the exchange is not allowed to reach."""


@dataclass(frozen=True)
class Exchange:
    """Limits of one exchange: its deadline, and the network class of its start."""

    deadline: float
    home: str = ""

    @property
    def remaining(self) -> float:
        """Seconds that remain.

        Raises
        ------
        DeadlineError
            If none do.
        """
        rest = self.deadline - time.monotonic()
        if rest <= 0:
            raise DeadlineError
        return rest


_NOW: ContextVar[Exchange | None] = ContextVar("exchange", default=None)


@contextmanager
def exchange(limits: Exchange) -> Iterator[None]:
    """Apply limits to every connection of this block."""
    token = _NOW.set(limits)
    try:
        yield
    finally:
        _NOW.reset(token)


def network_of(host: str) -> str:
    """Network class of a host: public, private, link-local or loopback.

    Of several addresses the least public one counts; an unresolvable name is public.

    Examples
    --------
    >>> network_of("127.0.0.1"), network_of("169.254.169.254"), network_of("10.0.0.1")
    ('loopback', 'link-local', 'private')
    """
    try:
        addresses = {info[4][0] for info in socket.getaddrinfo(host.strip("[]"), None)}
    except (OSError, UnicodeError):
        return "public"
    return max(map(_class_of, map(str, addresses)), key=_CLASSES.index, default="public")


def _class_of(address: str) -> str:
    ip = ipaddress.ip_address(address.partition("%")[0])
    classes = [_class_of_ip(ip), *map(_class_of_ip, _inner_addresses(ip))]
    return max(classes, key=_CLASSES.index)


def _inner_addresses(ip: ipaddress.IPv4Address | ipaddress.IPv6Address) -> list[ipaddress.IPv4Address]:
    """IPv4 addresses that an IPv6 address leads to: mapped, translated (NAT64), or tunnelled (6to4, Teredo)."""
    if isinstance(ip, ipaddress.IPv4Address):
        return []
    found = [ip.ipv4_mapped, ip.sixtofour, *(ip.teredo or ())]
    if any(ip in network for network in _TRANSLATED):
        found.append(ipaddress.IPv4Address(int(ip) & 0xFFFFFFFF))
    return [one for one in found if one is not None]


def _class_of_ip(ip: ipaddress.IPv4Address | ipaddress.IPv6Address) -> str:
    mapped = getattr(ip, "ipv4_mapped", None)
    if mapped is not None:
        return _class_of_ip(mapped)
    if ip.is_loopback or ip.is_unspecified:
        return "loopback"
    if ip.is_link_local or ip.is_multicast:
        return "link-local"
    return "public" if ip.is_global and ip not in _TRANSLATED_WITHIN else "private"


def may_reach(home: str, host_class: str) -> bool:
    """Whether an exchange that started in one network class can continue in another."""
    return host_class in ("public", home)


class _Stream(httpcore.NetworkStream):
    """A connection whose reads and writes end at the deadline of the exchange."""

    def __init__(self, inner: httpcore.NetworkStream) -> None:
        self.inner = inner

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        """Read at most ``max_bytes`` before the deadline."""
        return self.inner.read(max_bytes, _shorter(timeout))

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        """Write all bytes before the deadline."""
        self.inner.write(buffer, _shorter(timeout))

    def close(self) -> None:
        """Close the connection."""
        self.inner.close()

    def start_tls(
        self, ssl_context: ssl.SSLContext, server_hostname: str | None = None, timeout: float | None = None
    ) -> httpcore.NetworkStream:
        """The same connection encrypted, with the same deadline."""
        return _Stream(self.inner.start_tls(ssl_context, server_hostname, _shorter(timeout)))

    def get_extra_info(self, info: str) -> object:
        """Information on the connection, from the inner one."""
        return self.inner.get_extra_info(info)


def _shorter(timeout: float | None) -> float | None:
    limits = _NOW.get()
    if limits is None:
        return timeout
    return limits.remaining if timeout is None else min(timeout, limits.remaining)


class _Backend(httpcore.NetworkBackend):
    """Opens connections, and checks their destination; a proxy that the user set can be anywhere."""

    def __init__(self, to_proxy: bool = False) -> None:
        self.inner, self.to_proxy = httpcore.SyncBackend(), to_proxy

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[httpcore.SOCKET_OPTION] | None = None,
    ) -> httpcore.NetworkStream:
        """A connection; refused if it leads into a network that this exchange is not allowed to reach."""
        stream = self.inner.connect_tcp(host, port, _shorter(timeout), local_address, socket_options)
        peer, limits = stream.get_extra_info("server_addr"), _NOW.get()
        if (
            not self.to_proxy
            and limits is not None
            and limits.home
            and peer
            and not may_reach(limits.home, _class_of(str(peer[0])))
        ):
            stream.close()
            raise NetworkError(host)
        return _Stream(stream)

    def connect_unix_socket(
        self, path: str, timeout: float | None = None, socket_options: Iterable[object] | None = None
    ) -> httpcore.NetworkStream:
        """Refused: only TCP is used."""
        raise NetworkError(path)

    def sleep(self, seconds: float) -> None:
        """Wait before the next attempt."""
        self.inner.sleep(seconds)


class Transport(httpx.BaseTransport):
    """A connection pool, through a proxy if the environment defines one.

    Parameters
    ----------
    connections : int
        Maximum number of connections.
    """

    def __init__(self, connections: int) -> None:
        self.size = connections
        self.proxies = {k: v for k, v in urllib.request.getproxies().items() if k in ("http", "https")}
        self.pools: dict[tuple[str, str], httpcore.ConnectionPool] = {}

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        """Send a request; the caller reads its body."""
        url = request.url
        sent = httpcore.Request(
            method=request.method,
            url=httpcore.URL(scheme=url.raw_scheme, host=url.raw_host, port=url.port, target=url.raw_path),
            headers=request.headers.raw,
            content=b"",
            extensions=request.extensions,
        )
        with _translate_faults():
            response = self._pool_for(url).handle_request(sent)
        return httpx.Response(
            response.status,
            headers=response.headers,
            stream=_Body(response.stream),
            extensions=response.extensions,
        )

    def close(self) -> None:
        """Close every connection."""
        for pool in self.pools.values():
            pool.close()

    def _pool_for(self, url: httpx.URL) -> httpcore.ConnectionPool:
        proxy = self.proxies.get(url.scheme, "")
        if proxy and urllib.request.proxy_bypass(url.host):
            proxy = ""
        if (url.scheme, proxy) not in self.pools:
            options: dict[str, Any] = {
                "ssl_context": self._context if "https" in (url.scheme, proxy.partition(":")[0]) else None,
                "max_connections": self.size,
                "max_keepalive_connections": self.size,
                "network_backend": _Backend(to_proxy=bool(proxy)),
            }
            self.pools[url.scheme, proxy] = (
                httpcore.HTTPProxy(proxy_url=proxy, **options) if proxy else httpcore.ConnectionPool(**options)
            )
        return self.pools[url.scheme, proxy]

    @cached_property
    def _context(self) -> ssl.SSLContext:
        """The certificates of this machine, which take a twentieth of a second to load."""
        return httpx.create_ssl_context()


class _Body(httpx.SyncByteStream):
    """Raw bytes of a response."""

    def __init__(self, stream: Any) -> None:
        self.stream = stream

    def __iter__(self) -> Iterator[bytes]:
        with _translate_faults():
            yield from self.stream

    def close(self) -> None:
        """Close the stream."""
        self.stream.close()


@contextmanager
def _translate_faults() -> Iterator[None]:
    """Connection errors as exceptions of the HTTP library."""
    try:
        yield
    except (httpcore.ConnectTimeout, httpcore.ReadTimeout, httpcore.WriteTimeout) as error:
        limits = _NOW.get()
        if limits is not None and limits.deadline - time.monotonic() <= 0:
            raise DeadlineError from None
        raise httpx.TimeoutException(str(error) or "it took too long to answer") from None
    except _BROKEN as error:
        raise httpx.TransportError(str(error) or type(error).__name__) from None
    except httpcore.UnsupportedProtocol as error:
        raise httpx.UnsupportedProtocol(str(error)) from None
