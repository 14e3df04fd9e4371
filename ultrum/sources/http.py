"""One policy for everything fetched over HTTP: pooled, patient, bounded and conditional.

Answers 429 and 5xx and broken connections are tried again with growing waits and jitter, as long
as Retry-After says if the server says it. An answer larger than the limit is refused.
"""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import Final

import httpx
import tenacity

from ultrum.errors import SourceError
from ultrum.sources.delivery import Delivery

BUSY: Final = (429, 500, 502, 503, 504)


@dataclass(frozen=True)
class HttpPolicy:
    """Limits of fetching; seconds and bytes."""

    attempts: int = 4
    first_wait: float = 0.25
    longest_wait: float = 20.0
    connect_timeout: float = 5.0
    read_timeout: float = 60.0
    largest_answer: int = 512 * 1024 * 1024
    connections: int = 8
    redirects: int = 5


class _PassingError(Exception):
    """The server or the line failed in a way that may pass."""

    def __init__(self, reason: str, wait: float | None = None) -> None:
        super().__init__(reason)
        self.wait = wait


@dataclass
class HttpClient:
    """Fetches whole answers under a policy. Close it, or use it as a context manager."""

    policy: HttpPolicy = field(default_factory=HttpPolicy)

    def __post_init__(self) -> None:
        limits = httpx.Limits(max_connections=self.policy.connections)
        patience = httpx.Timeout(self.policy.read_timeout, connect=self.policy.connect_timeout)
        self._client = httpx.Client(
            limits=limits,
            timeout=patience,
            follow_redirects=True,
            max_redirects=self.policy.redirects,
            headers={"user-agent": "ultrum"},
        )

    def __enter__(self) -> HttpClient:
        return self

    def __exit__(self, *_: object) -> None:
        self._client.close()

    def get(self, url: str, *, accept: str = "*/*", held: Delivery | None = None) -> Delivery:
        """Fetch one address.

        Parameters
        ----------
        url : str
            Where to ask.
        accept : str
            Media types wanted.
        held : Delivery, optional
            Copy already held; if the server confirms it, the answer is ``unchanged``.

        Raises
        ------
        SourceError
            If nothing whole could be had; the message says what came instead.
        """
        headers = {"accept": accept, **_conditions(held)}
        retry = tenacity.Retrying(
            stop=tenacity.stop_after_attempt(self.policy.attempts),
            retry=tenacity.retry_if_exception_type(_PassingError),
            wait=self._wait,
            sleep=time.sleep,
            reraise=True,
        )
        try:
            return retry(self._once, url, headers)
        except _PassingError as failure:
            raise SourceError(
                f"{url} could not be had in {self.policy.attempts} tries: {failure}. "
                "Check the address and that the service is up, or run offline from the vault."
            ) from None

    def _wait(self, state: tenacity.RetryCallState) -> float:
        failure = state.outcome.exception() if state.outcome else None
        asked = failure.wait if isinstance(failure, _PassingError) else None
        backoff = tenacity.wait_random_exponential(self.policy.first_wait, self.policy.longest_wait)
        return min(asked, self.policy.longest_wait) if asked is not None else backoff(state)

    def _once(self, url: str, headers: dict[str, str]) -> Delivery:
        try:
            with self._client.stream("GET", url, headers=headers) as answer:
                return self._taken(url, answer)
        except (httpx.UnsupportedProtocol, httpx.InvalidURL) as error:
            raise SourceError(f"'{url}' is not an http or https address: {error}.") from None
        except httpx.TooManyRedirects:
            raise SourceError(f"{url} redirects more than {self.policy.redirects} times.") from None
        except httpx.TransportError as error:
            raise _PassingError(str(error) or type(error).__name__) from None

    def _taken(self, url: str, answer: httpx.Response) -> Delivery:
        if answer.status_code == 304:
            return Delivery(b"", unchanged=True)
        if answer.status_code in BUSY:
            wait = answer.headers.get("retry-after", "")
            raise _PassingError(
                f"it answered {answer.status_code}", float(wait) if wait.isdigit() else None
            )
        body = self._whole(url, answer)
        if answer.status_code >= 400:
            raise SourceError(_refusal(url, answer.status_code, body))
        head = answer.headers
        return Delivery(
            body,
            head.get("content-type", ""),
            head.get("etag", ""),
            head.get("last-modified", ""),
        )

    def _whole(self, url: str, answer: httpx.Response) -> bytes:
        parts, size = [], 0
        for part in answer.iter_bytes():
            size += len(part)
            if size > self.policy.largest_answer:
                raise SourceError(
                    f"{url} sends more than {self.policy.largest_answer:,} bytes; ask for less, or "
                    "raise the limit."
                )
            parts.append(part)
        return b"".join(parts)


def _conditions(held: Delivery | None) -> dict[str, str]:
    if held is None:
        return {}
    tags = {"if-none-match": held.etag, "if-modified-since": held.last_modified}
    return {name: value for name, value in tags.items() if value}


def _refusal(url: str, status: int, body: bytes) -> str:
    """What the server said, in one line."""
    said = body[:400].decode("utf-8", "replace").strip().replace("\n", " ")
    if status == 404:
        return (
            f"{url}: not found (404). Check the name; 'find' lists what there is. It said: {said}"
        )
    if status in (401, 403):
        return f"{url}: access refused ({status}). The source needs credentials."
    return f"{url}: the service answered {status}. It said: {said}"
