"""The vault: every download kept whole, with its time and source."""

from ultrum.vault.archive import pack, unpack
from ultrum.vault.journal import Record
from ultrum.vault.search_index import Entry, Listings
from ultrum.vault.store import Vault

__all__ = ["Entry", "Listings", "Record", "Vault", "pack", "unpack"]
