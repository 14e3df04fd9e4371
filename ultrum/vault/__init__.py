"""Every delivery kept whole: what came, from where, and when."""

from ultrum.vault.archive import pack, unpack
from ultrum.vault.listing_index import Entry, Listings
from ultrum.vault.record import Record
from ultrum.vault.store import Vault

__all__ = ["Entry", "Listings", "Record", "Vault", "pack", "unpack"]
