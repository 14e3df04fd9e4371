"""The desk: sources and vault together, the place where a person works.

Every answer goes through the vault before anybody looks into it; offline, the vault answers.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any, Final

import pandas as pd

from ultrum.core.descriptor import Descriptor
from ultrum.core.series import TimeSeries
from ultrum.errors import SourceError, TableError, VaultError
from ultrum.sources.delivery import Address, Delivery
from ultrum.sources.http import HttpClient, HttpPolicy
from ultrum.sources.sdmx import SdmxSource
from ultrum.sources.table import Reading, TableOptions, read_table
from ultrum.sources.table.unpack import read_file
from ultrum.vault import Record, Vault

KINDS: Final = ("sdmx", "table")
_PAGE: Final = (b"<!doctype html", b"<html")


@dataclass(frozen=True)
class SourceSettings:
    """Where a source is: its kind, and its url or folder."""

    kind: str
    url: str
    format: str = "csv"


class Desk:
    """Sources and a vault.

    Parameters
    ----------
    path : path, optional
        Folder of the vault; by default one in the user's data folder.
    sources : mapping
        For each name ``{"kind": "sdmx" or "table", "url": ...}``; the url of a table source may be
        a local folder.
    offline : bool
        Take everything from the vault and ask nobody.
    progress : callable, optional
        Told in a few words what is being fetched.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
    ...     sources = {"observatory": {"kind": "sdmx", "url": service.sdmx}}
    ...     with Desk(folder, sources=sources) as desk:
    ...         desk.fetch("observatory:PRICES/M.QM.CPI").about.title
    'Consumer prices, all items, Miravel'
    """

    def __init__(
        self,
        path: str | os.PathLike[str] | None = None,
        *,
        sources: Mapping[str, Mapping[str, Any]],
        offline: bool = False,
        progress: Callable[[str], None] | None = None,
        policy: HttpPolicy | None = None,
    ) -> None:
        self.vault = Vault(path if path is not None else default_vault())
        self.sources = {name: _settings(name, said) for name, said in sources.items()}
        self.offline = offline
        self.used: list[Record] = []
        self._progress = progress or (lambda _: None)
        self._client = HttpClient(policy or HttpPolicy())
        self._obtained: dict[tuple[str, str], Delivery] = {}

    def __enter__(self) -> Desk:
        return self

    def __exit__(self, *_: object) -> None:
        self._client.__exit__()

    def fetch(self, address: str, **facts: Any) -> TimeSeries:
        """One series by its address.

        Parameters
        ----------
        address : str
            ``source:FLOW/KEY``, or ``source:path#field`` for a column of a table.
        **facts
            Fields of the descriptor that the source does not tell.

        Raises
        ------
        SourceError
            If the source cannot be reached, or has no such series.
        """
        wanted = Address.parse(address)
        if self._kind(wanted) == "sdmx":
            series = self._sdmx(wanted.source).series(wanted.path, part=wanted.field)
            return series.described(**facts) if facts else series
        if not wanted.field:
            raise SourceError(f"{address} is a whole table; name a column: {address}#column.")
        reading = self.table(address, **facts)
        if wanted.field not in reading.series:
            known = ", ".join(list(reading.series)[:12])
            raise SourceError(f"{address}: no column '{wanted.field}'; there are: {known}.")
        return reading.series[wanted.field]

    def fetch_all(self, address: str) -> list[TimeSeries]:
        """Every series of a statistics service that an address with wildcards names."""
        wanted = Address.parse(address)
        if self._kind(wanted) != "sdmx":
            return list(self.table(address).series.values())
        return self._sdmx(wanted.source).all_series(wanted.path)

    def table(self, address: str, **said: Any) -> Reading:
        """A whole table by its address.

        ``said`` holds decisions and facts as for :func:`ultrum.read_series`, such as
        ``records_only=True``, ``units="percent"`` or ``measure="return"``.
        """
        wanted = Address.parse(address)
        if self._kind(wanted) != "table":
            raise SourceError(f"{address}: {wanted.source} is a statistics service, not a table.")
        body = self._obtain(wanted.source, wanted.path, "*/*").body
        reading = read_table(body, wanted.path, TableOptions.of(**said))
        fields = {
            column: type(block)(
                block.values,
                tuple(_placed(a, wanted, column) for a in block.about),
                block.causes,
            )
            for column, block in reading.fields.items()
        }
        return replace(reading, fields=fields)

    def search(self, words: str = "") -> pd.DataFrame:
        """Listings whose title, codes or flow hold every word, best first.

        Returns
        -------
        DataFrame
            Columns ``address title frequency flow``.
        """
        rows = []
        wanted = words.lower().split()
        for name, settings in self.sources.items():
            if settings.kind != "sdmx":
                continue
            for listing in self._sdmx(name).listings():
                labels = " ".join(listing.labels)
                text = f"{listing.title} {labels} {listing.flow} {listing.address}".lower()
                if all(word in text for word in wanted):
                    rank = sum(word not in listing.title.lower() for word in wanted)
                    rows.append(
                        (rank, listing.address, listing.title, listing.frequency, listing.flow)
                    )
        rows.sort(key=lambda row: (row[0], row[1]))
        return pd.DataFrame(
            [r[1:] for r in rows], columns=["address", "title", "frequency", "flow"]
        )

    def _kind(self, address: Address) -> str:
        if address.source not in self.sources:
            known = ", ".join(self.sources) or "none"
            raise SourceError(f"'{address}': no source '{address.source}'; there are: {known}.")
        return self.sources[address.source].kind

    def _sdmx(self, name: str) -> SdmxSource:
        return SdmxSource(name, partial(self._obtain, name), self.sources[name].format)

    def _obtain(self, source: str, path: str, accept: str) -> Delivery:
        """The answer at a path, once a session: from the vault offline, else through it."""
        known = self._obtained.get((source, path))
        if known is not None:
            return known
        held = self.vault.latest(source, path)
        if self.offline:
            if held is None:
                raise VaultError(
                    f"The vault {self.vault.path} holds no {source}:{path}; "
                    "fetch it once without offline."
                )
            record = held
        else:
            self._progress(f"{source}: {path}")
            record = self._fetched(source, path, accept, held)
        self.used.append(record)
        delivery = Delivery(self.vault.payload(record), record.content_type, record.etag)
        self._obtained[source, path] = delivery
        return delivery

    def _fetched(self, source: str, path: str, accept: str, held: Record | None) -> Record:
        where = self.sources[source]
        if not where.url.startswith(("http://", "https://")):
            return self.vault.record(source, path, _from_folder(where.url, path))
        copy = Delivery(b"", etag=held.etag, last_modified=held.last_modified) if held else None
        answer = self._client.get(f"{where.url.rstrip('/')}/{path}", accept=accept, held=copy)
        if answer.unchanged and held is not None:
            return self.vault.confirm(held)
        if not answer.body:
            raise SourceError(f"{source}:{path}: the answer is empty. Check the address.")
        if answer.body[:64].lstrip().lower().startswith(_PAGE):
            raise SourceError(
                f"{source}:{path}: a web page came instead of data. Check the address."
            )
        return self.vault.record(source, path, answer)


def default_vault() -> Path:
    """Folder of the vault when none is named."""
    import platformdirs

    return Path(platformdirs.user_data_dir("ultrum", appauthor=False)) / "vault"


def _settings(name: str, said: Mapping[str, Any]) -> SourceSettings:
    kind, url = str(said.get("kind", "")), str(said.get("url", ""))
    if kind not in KINDS or not url:
        raise SourceError(f"Source '{name}' needs a kind ({' or '.join(KINDS)}) and a url.")
    return SourceSettings(kind, url, str(said.get("format", "csv")))


def _from_folder(folder: str, path: str) -> Delivery:
    root = Path(folder).resolve()
    file = (root / path).resolve()
    if not file.is_relative_to(root):
        raise SourceError(f"{path} leaves the folder {folder}; a source stays inside its folder.")
    try:
        return Delivery(read_file(file))
    except TableError as error:
        raise SourceError(str(error)) from None


def _placed(about: Descriptor, address: Address, column: str) -> Descriptor:
    """Descriptor that knows the source it came from."""
    name = about.name if about.name == column else f"{about.name}.{column}"
    where = Address(address.source, address.path, name)
    return about.changed(source=address.source, address=str(where))
