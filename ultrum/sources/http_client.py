"""HTTP policy: pooled connections, redirects, retries, limits and conditional requests."""

from __future__ import annotations

import email.utils
import logging
import re
import threading
import time
from collections import defaultdict
from dataclasses import dataclass, field
from datetime import UTC, datetime
from http.cookiejar import CookieJar, DefaultCookiePolicy
from typing import Final

import httpx
import tenacity

from ultrum.errors import NotFoundError, SourceError
from ultrum.sources.credentials import Secret, hidden_in_logs, refuse_secret
from ultrum.sources.download_and_limits import ACCEPTED, PLACE, CodingError, Download, HttpPolicy, decode_body
from ultrum.sources.network_rules import (
    DeadlineError,
    Exchange,
    NetworkError,
    Transport,
    exchange,
    may_reach,
    network_of,
)
from ultrum.sources.sdmx.queries import message_of_fault

BUSY: Final = (429, 500, 502, 503, 504)
_REDIRECTS: Final = (301, 302, 303, 307, 308)
_WHOLE: Final = (200, 203)
_LOG: Final = logging.getLogger(__name__)
_PRACTICE: Final = "http://127.0.0.1:8765/"  # where `ultrum practice` serves
_SYSTEM_ERROR: Final = re.compile(r"\[Errno -?\d+\] ")
_ASKS: Final = frozenset(("if-none-match", "if-modified-since"))
_NO_SECRET: Final = Secret({}, {}, ())
_LOGGERS: Final = (  # of the HTTP library; they write addresses and headers
    "httpx",
    "httpcore.connection",
    "httpcore.http11",
    "httpcore.http2",
    "httpcore.proxy",
)


class AnswerError(SourceError):
    """The server refused the request; ``status`` is its status code."""

    def __init__(self, text: str, status: int) -> None:
        super().__init__(text)
        self.status = status


class MissingAnswerError(AnswerError, NotFoundError):
    """The server has nothing at the address (404 or 410)."""


class _PassingError(Exception):
    """A temporary failure of the server or the connection."""

    def __init__(self, reason: str, wait: float | None = None) -> None:
        super().__init__(reason)
        self.wait = wait


@dataclass
class HttpClient:
    """Fetches complete responses under a policy. Close it, or use it as a context manager."""

    policy: HttpPolicy = field(default_factory=HttpPolicy)

    def __post_init__(self) -> None:
        timeout = httpx.Timeout(self.policy.read_timeout, connect=self.policy.connect_timeout)
        self._client = httpx.Client(
            transport=Transport(self.policy.connections),
            timeout=timeout,
            follow_redirects=False,
            headers={"user-agent": "ultrum", "accept-encoding": ACCEPTED},
            cookies=CookieJar(
                DefaultCookiePolicy(allowed_domains=[])
            ),  # none are kept, so no source sees another's
        )
        self._hosts: dict[str, threading.BoundedSemaphore] = defaultdict(
            lambda: threading.BoundedSemaphore(self.policy.connections_per_host)
        )
        self._networks: dict[str, str] = {}
        self._lock = threading.Lock()

    def __enter__(self) -> HttpClient:
        return self

    def __exit__(self, *_: object) -> None:
        self._client.close()

    def get(
        self, url: str, *, accept: str = "*/*", held: Download | None = None, secret: Secret | None = None
    ) -> Download:
        """Fetch one address.

        Parameters
        ----------
        url : str
            Where to ask.
        accept : str
            Media types wanted.
        held : Download, optional
            A stored copy; if the server confirms it, the response is ``unchanged``.
        secret : Secret, optional
            Sent to the host of ``url`` only, and removed from every message.

        Raises
        ------
        SourceError
            If there is no complete response; the message states the response.
        """
        refuse_secret(url, "The address")
        shown = secret or _NO_SECRET
        start = time.monotonic()
        asks = _conditions(held) if self.policy.conditional else {}
        try:
            with hidden_in_logs(shown.words, _LOGGERS):
                download = self._with_retries(url, {"accept": accept, **asks}, shown)
        except AnswerError as error:
            raise type(error)(shown.redact(str(error)), error.status) from None
        except SourceError as error:
            raise SourceError(shown.redact(str(error))) from None
        size = "unchanged" if download.unchanged else f"{len(download.body):,} bytes"
        _LOG.info("%s: %s in %.2f s", shown.redact(url), size, time.monotonic() - start)
        return download

    def _with_retries(self, url: str, headers: dict[str, str], secret: Secret) -> Download:
        first: list[Exception] = []

        def _try() -> Download:
            if first:  # the failure that made retrying necessary counts as the first try
                raise first.pop()
            return self._once(url, headers, secret)

        try:
            return self._once(url, headers, secret)
        except _PassingError as failure:
            first.append(failure)
            _LOG.info("%s: trying again, since %s", secret.redact(url), secret.redact(str(failure)))
        retry = tenacity.Retrying(
            stop=tenacity.stop_after_attempt(self.policy.attempts),
            retry=tenacity.retry_if_exception_type(_PassingError),
            wait=self._wait,
            sleep=time.sleep,
            reraise=True,
        )
        try:
            return retry(_try)
        except _PassingError as failure:
            why = _SYSTEM_ERROR.sub("", str(failure)).rstrip(".")
            practice = "; for the practice data, run 'ultrum practice' in another terminal"
            is_up = f"that the service is up{practice if url.startswith(_PRACTICE) else ''}"
            raise SourceError(
                f"{url} could not be downloaded in {_tries(self.policy.attempts)}: {why}. "
                f"Check the address and {is_up}, or run offline from the vault."
            ) from None

    def _wait(self, state: tenacity.RetryCallState) -> float:
        failure = state.outcome.exception() if state.outcome else None
        asked = failure.wait if isinstance(failure, _PassingError) else None
        backoff = tenacity.wait_random_exponential(self.policy.first_wait, self.policy.longest_wait / 3)
        return asked if asked is not None else backoff(state)

    def _once(self, url: str, headers: dict[str, str], secret: Secret) -> Download:
        """One attempt, through redirects, before one deadline."""
        asked = home = self._url(url)
        if home.host not in self._networks:
            self._networks[home.host] = network_of(home.host)
        limits = Exchange(time.monotonic() + self.policy.total_time, self._networks[home.host])
        try:
            for _ in range(self.policy.redirects + 1):
                same_place = _same_place(asked, home)
                sent = {**headers, **(secret.headers if same_place else {})}
                where = asked.copy_merge_params(dict(secret.query)) if same_place and secret.query else asked
                with exchange(limits):
                    answer = self._request_once(url, where, sent)
                if isinstance(answer, Download):
                    return answer
                _refuse_redirect(url, asked, answer, limits.home)
                asked = answer
        except DeadlineError:
            raise SourceError(
                f"{url} takes longer than {self.policy.total_time:g} s. Request less, or raise the limit with "
                "ul.limits(seconds=...)."
            ) from None
        except NetworkError:
            raise SourceError(
                f"{url} was refused: it leads to a host in another network ({asked.host})."
            ) from None
        raise SourceError(f"{url} redirects more than {self.policy.redirects} times.")

    def _url(self, url: str) -> httpx.URL:
        try:
            parsed = httpx.URL(url)
        except httpx.InvalidURL as error:
            raise SourceError(f"'{url}' is not a valid http or https address: {error}.") from None
        if parsed.scheme not in ("http", "https") or not parsed.host:
            raise SourceError(f"'{url}' is not an http or https address.")
        return parsed

    def _request_once(self, url: str, where: httpx.URL, headers: dict[str, str]) -> Download | httpx.URL:
        """The result of one request: a download, or the address of a redirect."""
        with self._lock:
            gate = self._hosts[where.netloc.decode()]
        try:
            with gate, self._client.stream("GET", where, headers=headers) as answer:
                if answer.status_code in _REDIRECTS:
                    if "location" not in answer.headers:
                        raise SourceError(
                            f"{url} redirects ({answer.status_code}) without a new address. Check the address."
                        )
                    return self._next(url, where, answer.headers["location"])
                return self._taken(url, answer, conditional=bool(_ASKS & headers.keys()))
        except (httpx.UnsupportedProtocol, httpx.InvalidURL) as error:
            raise SourceError(f"'{url}' is not a valid http or https address: {error}.") from None
        except httpx.HTTPError as error:
            raise _PassingError(str(error) or type(error).__name__) from None

    def _next(self, url: str, where: httpx.URL, location: str) -> httpx.URL:
        try:
            return self._url(str(where.copy_with(query=None).join(location)))
        except SourceError:
            raise SourceError(
                f"{url} redirects to an address that is not http or https, which is refused."
            ) from None

    def _taken(self, url: str, answer: httpx.Response, *, conditional: bool) -> Download:
        if answer.status_code == 304 and conditional:
            for _ in answer.iter_raw():  # read to its end the connection stays open for the next
                pass
            return Download(b"", unchanged=True)
        if answer.status_code in BUSY:
            wait = _retry_after(answer.headers.get("retry-after", ""))
            if wait is not None and wait > self.policy.longest_wait:
                raise SourceError(
                    f"{url} answered {answer.status_code} and asks clients to wait {wait:,.0f} "
                    "seconds. Try again after that, or run offline from the vault."
                )
            raise _PassingError(f"it answered {answer.status_code}", wait)
        body = self._whole(url, answer)
        if answer.status_code >= 400:
            kind = MissingAnswerError if answer.status_code in (404, 410) else AnswerError
            raise kind(_refusal(url, answer.status_code, body), answer.status_code)
        if answer.status_code not in _WHOLE:
            raise SourceError(
                f"{url} answered {answer.status_code}, which is not a complete response (200); "
                "nothing was stored."
            )
        head = answer.headers
        return Download(
            body,
            head.get("content-type", ""),
            _validator(head.get("etag", "")),
            _validator(head.get("last-modified", "")),
        )

    def _whole(self, url: str, answer: httpx.Response) -> bytes:
        parts, size = [], 0
        try:
            for part in decode_body(answer.iter_raw(), answer.headers.get("content-encoding", "")):
                size += len(part)
                if size > self.policy.largest_answer:
                    raise SourceError(
                        f"{url} sends more than {self.policy.largest_answer:,} bytes. Request less, or raise "
                        "the limit with ul.limits(answer_bytes=...)."
                    )
                parts.append(part)
        except CodingError as error:
            raise _PassingError(str(error)) from None
        return b"".join(parts)


def _refuse_redirect(url: str, asked: httpx.URL, then: httpx.URL, home: str) -> None:
    """Refuse a redirect from https to http, or from one class of network into a private one."""
    if asked.scheme == "https" and then.scheme == "http":
        raise SourceError(f"{url} redirects from https to http, which is refused.")
    kind = network_of(then.host)
    if not may_reach(home, kind):
        raise SourceError(
            f"{url}, a {home} address, redirects to {then.host} in a {kind} network, which is refused."
        )


def _same_place(asked: httpx.URL, home: httpx.URL) -> bool:
    return (asked.scheme, asked.netloc) == (home.scheme, home.netloc)


def _retry_after(text: str) -> float | None:
    """Seconds in Retry-After, from a number or a date."""
    if re.fullmatch(r"[0-9]{1,9}(\.[0-9]+)?", text.strip()):
        return float(text)
    try:
        moment = email.utils.parsedate_to_datetime(text)
    except (TypeError, ValueError, OverflowError, IndexError):
        return None
    return max(0.0, (moment - datetime.now(UTC)).total_seconds()) if moment.tzinfo else None


def _validator(text: str) -> str:
    """A validator that can be sent back to its server; one in other characters is left out."""
    return text if text.isascii() and text.isprintable() and not text.startswith(PLACE) else ""


def _conditions(held: Download | None) -> dict[str, str]:
    if held is None:
        return {}
    tags = {"if-none-match": held.etag, "if-modified-since": held.last_modified}
    return {name: value for name, value in tags.items() if value}


def _refusal(url: str, status: int, body: bytes) -> str:
    """The server's own message, in one line."""
    if status in (401, 403):
        return (
            f"{url}: access refused ({status}). Set credentials in the settings of the source, or correct them."
        )
    fault = message_of_fault(body)
    if fault:
        return f"{url}: {fault}"
    text = " ".join(body[:300].decode("utf-8", "replace").split())
    text = "a web page" if text.lower().startswith(("<!doctype", "<html")) else f"'{text}'"
    if status == 404:
        return (
            f"{url}: not found (404). Check the name; 'ultrum find' lists what the source has. Its message: "
            f"{text}"
        )
    return f"{url}: the service answered {status}. Its message: {text}"


def _tries(count: int) -> str:
    return "1 try" if count == 1 else f"{count} tries"
