"""Tables as people publish them: found inside the file, read without guessing, reported on."""

from ultrum.sources.table.reader import Reading, read_series, read_table

__all__ = ["Reading", "read_series", "read_table"]
