"""The vault: every download stored in full, with its time and source."""
