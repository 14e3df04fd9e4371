"""What the catalogue knows of one delivery."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ultrum.vault.receipts import FACTS


@dataclass(frozen=True)
class Record:
    """Catalogue entry of one delivery; ``retrieved`` is an ISO 8601 instant in UTC."""

    id: int
    source: str
    path: str
    retrieved: str
    checksum: str
    size: int
    content_type: str
    etag: str
    last_modified: str

    @property
    def facts(self) -> dict[str, Any]:
        """Everything but its number in this catalogue."""
        return {k: getattr(self, k) for k in FACTS}

    @property
    def name(self) -> str:
        """Source, path and instant, for people."""
        return f"{self.source}:{self.path}, retrieved {self.retrieved}"
