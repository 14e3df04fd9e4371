"""The vault: every download kept whole, with its time and source."""
