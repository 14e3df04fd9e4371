"""Every delivery kept whole: what came, from where, and when."""

from ultrum.vault.store import Record, Vault

__all__ = ["Record", "Vault"]
