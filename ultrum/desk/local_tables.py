"""Tables of local files, read in place and not stored."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Mapping
from datetime import date
from pathlib import Path
from typing import Any

from ultrum.core.series.time_series import TimeSeries
from ultrum.desk.addresses import column_of, files_below, with_address
from ultrum.errors import NotFoundError, SourceError, TableError
from ultrum.sources.download import PLACE, Address
from ultrum.sources.table.file_patterns import is_pattern, read_many
from ultrum.sources.table.reader import read_table
from ultrum.sources.table.reading_result import Reading, TableOptions
from ultrum.sources.table.unpacking import read_file


class LocalTables:
    """Local files as tables by address, like those of a :class:`ultrum.Desk`, without a vault.

    Parameters
    ----------
    settings : mapping
        Settings of a source of kind ``table`` whose ``url`` is a folder.
    """

    def __init__(self, settings: Mapping[str, Any]) -> None:
        self._root, self._options = str(settings["url"]), dict(settings.get("tables", {}))

    def table(self, address: str, **facts: object) -> Reading:
        """A whole table by its address, which may be a pattern.

        Parameters
        ----------
        address : str
        **facts
            Options and metadata as for :func:`ultrum.read_series`.

        Returns
        -------
        Reading

        Raises
        ------
        SourceError, TableError
            If a file is missing, or ambiguous.
        """
        wanted = Address.parse(address)
        given = {name: value for name, value in facts.items() if value is not None}
        options = TableOptions.of(**{**self._options.get(wanted.path, {}), **given})
        if not is_pattern(wanted.path):
            return with_address(self._read(wanted.path, options), wanted).warn_of_faults()
        places = files_below(self._root, wanted.path)
        reading = read_many(wanted.path, places, options, self._read, lambda path: read_below(self._root, path))
        return with_address(reading, wanted).warn_of_faults()

    def fetch(self, address: str) -> TimeSeries:
        """One column of a table.

        Parameters
        ----------
        address : str

        Returns
        -------
        TimeSeries

        Raises
        ------
        SourceError
            If the address names no existing column.
        """
        wanted = Address.parse(address)
        return column_of(self.table(f"{wanted.source}:{wanted.path}"), wanted)

    def _read(self, path: str, options: TableOptions) -> Reading:
        body = read_below(self._root, path)
        return read_table(body, path, options.in_charset("", body), str(date.today()))


def place_of(folder: str, path: str) -> str:
    """What stands for the location of a local file in the vault; it does not reveal the path.

    Examples
    --------
    >>> place_of("/data/one", "prices.csv") == place_of("/data/two", "prices.csv")
    False
    """
    file = (Path(folder) / path).resolve()
    return f"{PLACE}{hashlib.sha256(os.fsencode(file)).hexdigest()[:32]}"


def read_below(folder: str, path: str) -> bytes:
    """Bytes of a file within a folder.

    Raises
    ------
    SourceError
        If the file is outside the folder, missing or not a regular file.
    """
    root = Path(folder).resolve()
    file = (root / path).resolve()
    if not file.is_relative_to(root):
        raise SourceError(f"{path} is outside the folder {folder}. A source reads only its own folder.")
    try:
        return read_file(file)
    except NotFoundError:
        raise
    except TableError as error:
        raise SourceError(str(error)) from error
