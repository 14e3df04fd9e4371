"""Tables as people publish them: detected, typed, and reported on."""

from ultrum.sources.table.reader import read_series, read_table
from ultrum.sources.table.reading_result import Reading, TableOptions

__all__ = ["Reading", "TableOptions", "read_series", "read_table"]
