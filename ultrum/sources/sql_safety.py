"""Read-only SQL: one statement that selects, in a connection that refuses everything else."""

from __future__ import annotations

import re
import sqlite3
import time
from pathlib import Path
from typing import Any, Final

from ultrum.errors import SourceError

_TOKEN: Final = re.compile(
    r"(?P<text>'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|`[^`]*`|\$(?P<tag>\w*)\$.*?\$(?P=tag)\$)"
    r"|(?P<comment>--[^\n]*|/\*.*?\*/)|(?P<end>;)|(?P<word>\w+)|(?P<open>['\"`]|/\*)",
    re.DOTALL,
)
_READING: Final = ("select", "with", "values", "table")
_WRITING: Final = frozenset(("into", "outfile", "dumpfile"))
_ALLOWED: Final = frozenset((
    sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_FUNCTION, sqlite3.SQLITE_RECURSIVE,
    sqlite3.SQLITE_TRANSACTION,
))  # fmt: skip
_PRAGMAS: Final = frozenset(
    (
        "table_info",
        "table_xinfo",
        "table_list",
        "foreign_key_list",
        "index_list",
        "index_info",
        "index_xinfo",
    )
)
_BARRED: Final = frozenset(("load_extension", "writefile", "readfile", "edit", "fts3_tokenizer"))
_REACHING: Final = re.compile(  # functions of PostgreSQL that read-only transactions let through
    r"lo_\w+|dblink\w*|pg_(?:read|ls|stat)_\w*file\w*|pg_ls_\w+|pg_(?:terminate|cancel)_backend|pg_reload_conf|set_config"
)
_STEPS: Final = 20_000  # of the virtual machine between two looks at the clock


def refuse_writing(sql: str, name: str, *, dialect: str) -> None:
    """Refuse a text that is more than one statement, or does not select.

    Parameters
    ----------
    sql : str
    name : str
        Source and query, for messages.
    dialect : str
        Name of the database's dialect; where it has no read-only connection, INTO is refused too.

    Raises
    ------
    SourceError
        With what was found.
    """
    words: list[str] = []
    ended = False
    for token in _TOKEN.finditer(sql):
        if token["open"]:
            raise SourceError(f"{name}: the query has a quote or comment that does not close.")
        if token["end"]:
            ended = True
        elif token["word"] or token["text"]:
            if ended:
                raise SourceError(f"{name}: the query holds several statements; a source takes one SELECT.")
            words.append((token["word"] or "").lower())
    first = words[0] if words else "nothing"
    if first not in _READING:
        raise SourceError(
            f"{name}: the query begins with {first.upper()}; a source takes one SELECT, and only reads."
        )
    reaching = next((w for w in words if _REACHING.fullmatch(w)), "")
    if reaching and dialect == "postgresql":
        raise SourceError(f"{name}: the query calls {reaching}, which reaches beyond reading tables.")
    if dialect not in ("sqlite", "postgresql") and _WRITING & set(words):
        raise SourceError(f"{name}: the query writes (INTO); a source only reads.")


def open_sqlite(database: str | None, name: str, deadline: float) -> sqlite3.Connection:
    """A connection to an SQLite file that reads, and stops at a deadline.

    Raises
    ------
    SourceError
        If the file is not there, or the address is not the plain path of one.
    """
    if not database or database == ":memory:" or database.startswith("file:"):
        raise SourceError(
            f"{name}: the address of an SQLite database is the path of a file: sqlite:///prices.sqlite."
        )
    place = Path(database).absolute()
    if not place.is_file():
        raise SourceError(f"{name}: there is no file {place}.")
    connection = sqlite3.connect(f"{place.as_uri()}?mode=ro", uri=True, check_same_thread=False)
    connection.set_authorizer(_authorized)
    connection.set_progress_handler(lambda: int(time.monotonic() > deadline), _STEPS)
    return connection


def _authorized(action: int, first: str | None, second: str | None, *_: Any) -> int:
    """Whether SQLite may do something: select, read, call a harmless function, describe a table."""
    if action == sqlite3.SQLITE_FUNCTION and str(second).lower() in _BARRED:
        return sqlite3.SQLITE_DENY
    if action == sqlite3.SQLITE_PRAGMA:
        describes = str(first).lower() in _PRAGMAS or (first == "read_uncommitted" and second is None)
        return sqlite3.SQLITE_OK if describes else sqlite3.SQLITE_DENY
    return sqlite3.SQLITE_OK if action in _ALLOWED else sqlite3.SQLITE_DENY
