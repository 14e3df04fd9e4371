"""The record of one download."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, Final

from ultrum.errors import VaultError
from ultrum.sources.download import Download

FACTS: Final = (
    "source", "path", "retrieved", "checksum", "size", "content_type", "etag", "last_modified",
)  # fmt: skip
_FORM: Final = "%Y-%m-%dT%H:%M:%S.%fZ"
_FIRST: Final = "2025"  # years between which a clock may be right
_LAST: Final = "2200"
_HURRY: Final = timedelta(days=1)  # that a clock may be ahead of another


@dataclass(frozen=True)
class Record:
    """One download.

    Attributes
    ----------
    id : int
        Its number in this vault's journal.
    retrieved : str
        ISO 8601 instant in UTC.
    imported : bool
        Whether it came out of an archive, and its source has not served the same bytes since.
    placed : str
        Instant that orders the downloads of an address; ``retrieved``, unless a clock was wrong.
    """

    id: int
    source: str
    path: str
    retrieved: str
    checksum: str
    size: int
    content_type: str
    etag: str
    last_modified: str
    imported: bool = False
    placed: str = ""

    @property
    def facts(self) -> dict[str, Any]:
        """What another vault would know of it too."""
        return {k: getattr(self, k) for k in FACTS}

    @property
    def name(self) -> str:
        """Source, path and instant, for people."""
        return f"{self.source}:{self.path}, retrieved {self.retrieved}"


def now() -> str:
    """The present instant, by the machine's clock."""
    return datetime.now(UTC).strftime(_FORM)


def arrived(source: str, path: str, checksum: str, download: Download, latest: Record | None) -> Record:
    """Record of a download that has just come, after the latest of its address."""
    retrieved, placed = stamps(latest)
    return Record(
        0, source, path, retrieved, checksum, len(download.body), download.content_type, download.etag,
        download.last_modified, placed=placed,
    )  # fmt: skip


def confirmed(record: Record) -> dict[str, Any]:
    """Line of the journal for a source that serves the same bytes now."""
    return {"do": "confirm", "of": record.id, "at": now()}


def stamps(latest: Record | None) -> tuple[str, str]:
    """Instant of a new download, and the instant that orders it after the latest of its address.

    A clock that went back by less than a day, or to before Ultrum, follows the latest. Otherwise the
    latest is the one that was stamped wrongly.

    Raises
    ------
    VaultError
        If the clock cannot be right.
    """
    instant = now()
    if instant[:4] >= _LAST:
        raise VaultError(f"The clock of this machine is at {instant[:10]}; set it, and try again.")
    if latest is None or (latest.placed or latest.retrieved) < instant:
        return instant, instant
    after = _moment(latest.placed or latest.retrieved) + timedelta(microseconds=1)
    following = after.strftime(_FORM)
    wrong = _moment(latest.retrieved) - _moment(instant) > _HURRY and instant[:4] >= _FIRST
    return (instant if wrong else following), following


def checked_instant(text: str, what: str) -> str:
    """An instant of another vault, if it is one and has passed.

    Raises
    ------
    VaultError
        If it is not.
    """
    try:
        moment = _moment(text)
        if moment.strftime(_FORM) != text:
            raise ValueError
    except ValueError:
        raise VaultError(f"{what}: '{text[:40]}' is not an instant; nothing was taken.") from None
    if moment - _moment(now()) > _HURRY:
        raise VaultError(f"{what}: {text[:40]} is in the future; nothing was taken.")
    return text


def _moment(text: str) -> datetime:
    return datetime.strptime(text, _FORM)
