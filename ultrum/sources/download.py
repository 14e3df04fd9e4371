"""Downloads before they are parsed, and addresses of series."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Final

from ultrum.errors import SourceError
from ultrum.sources.credentials import refuse_secret

_ADDRESS: Final = re.compile(r"^([A-Za-z][\w-]*):([^#\s][^#\t\n\r]*)(?:#(.+))?$")


@dataclass(frozen=True)
class Download:
    """Raw answer of a source, whole.

    ``unchanged``: the source confirmed the stored copy, and ``body`` is empty.
    """

    body: bytes
    content_type: str = ""
    etag: str = ""
    last_modified: str = ""
    unchanged: bool = False


@dataclass(frozen=True)
class Address:
    """Name of one series or table: ``source:path`` or ``source:path#field``.

    Examples
    --------
    >>> Address.parse("college:factors_monthly.zip#bill")
    Address(source='college', path='factors_monthly.zip', field='bill')
    """

    source: str
    path: str
    field: str = ""

    @classmethod
    def parse(cls, text: str) -> Address:
        """Read an address.

        Examples
        --------
        >>> from ultrum.sources.download import Address
        >>> Address.parse("exchange:prices.csv#close").field
        'close'
        """
        refuse_secret(f"?{text.partition('?')[2]}" if "?" in text else "", "The address")
        match = _ADDRESS.match(text.strip())
        if not match:
            raise SourceError(
                f"'{text}' is not an address. Write source:FLOW/KEY for a statistics service, "
                "source:path or source:path#field for a table."
            )
        source, path, field = match.groups()
        if ".." in path.split("/") or path.startswith("/"):
            raise SourceError(f"'{text}': an address stays inside its source; leave out '..'.")
        return cls(source, path, field or "")

    def __str__(self) -> str:
        return f"{self.source}:{self.path}" + (f"#{self.field}" if self.field else "")
