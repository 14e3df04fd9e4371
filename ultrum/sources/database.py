"""SQL databases: a table or a read-only query as a Parquet download, streamed in bounded memory.

Databases are read-only: SQLite through a connection that permits only reading, PostgreSQL in a read-only
transaction with a time limit, others by refusing every text but a single SELECT.
"""

from __future__ import annotations

import re
import sqlite3
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import pyarrow as pa

from ultrum.errors import SourceError, choices, missing_package
from ultrum.sources.download_and_limits import Download, current

if TYPE_CHECKING:
    from sqlalchemy import Executable
    from sqlalchemy.engine import URL, Connection, Engine


_TOKEN: Final = re.compile(
    r"(?P<text>'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|`[^`]*`|\$(?P<tag>\w*)\$.*?\$(?P=tag)\$)"
    r"|(?P<comment>--[^\n]*|/\*.*?\*/)|(?P<end>;)|(?P<word>\w+)|(?P<open>['\"`]|/\*)",
    re.DOTALL,
)
_READING: Final = ("select", "with", "values", "table")
_WRITING: Final = frozenset(("into", "outfile", "dumpfile"))
_ALLOWED: Final = frozenset(
    (
        sqlite3.SQLITE_SELECT,
        sqlite3.SQLITE_READ,
        sqlite3.SQLITE_FUNCTION,
        sqlite3.SQLITE_RECURSIVE,
        sqlite3.SQLITE_TRANSACTION,
    )
)
_PRAGMAS: Final = frozenset(
    ("table_info", "table_xinfo", "table_list", "foreign_key_list", "index_list", "index_info", "index_xinfo")
)
_BARRED: Final = frozenset(("load_extension", "writefile", "readfile", "edit", "fts3_tokenizer"))
_REACHING: Final = re.compile(  # functions of PostgreSQL that read-only transactions let through
    r"lo_\w+|dblink\w*|pg_(?:read|ls|stat)_\w*file\w*|pg_ls_\w+|pg_(?:terminate|cancel)_backend|pg_reload_conf|set_config"
)
_STEPS: Final = 20_000  # of the virtual machine between two looks at the clock


def refuse_writing(sql: str, name: str, *, dialect: str) -> None:
    """Refuse a text with several statements, or one that is not a SELECT.

    Parameters
    ----------
    sql : str
    name : str
        Source and query, for messages.
    dialect : str
        Name of the database's dialect; where it has no read-only connection, INTO is refused as well.

    Raises
    ------
    SourceError
        With what was found.
    """
    words: list[str] = []
    ended = False
    for token in _TOKEN.finditer(sql):
        if token["open"]:
            raise SourceError(f"{name}: the query has an unclosed quote or comment. Close it.")
        if token["end"]:
            ended = True
        elif token["word"] or token["text"]:
            if ended:
                raise SourceError(f"{name}: the query has several statements. Use a single SELECT.")
            words.append((token["word"] or "").lower())
    first = words[0] if words else "nothing"
    if first not in _READING:
        raise SourceError(
            f"{name}: the query begins with {first.upper()}. Use a single SELECT; sources are read-only."
        )
    reaching = next((w for w in words if _REACHING.fullmatch(w)), "")
    if reaching and dialect == "postgresql":
        raise SourceError(
            f"{name}: the query calls {reaching}, which is not allowed: a source only reads tables. Remove it."
        )
    if dialect not in ("sqlite", "postgresql") and _WRITING & set(words):
        raise SourceError(f"{name}: the query writes (INTO), but sources are read-only. Remove INTO.")


def open_sqlite(database: str | None, name: str, deadline: float) -> sqlite3.Connection:
    """A read-only connection to an SQLite file that stops at a deadline.

    Raises
    ------
    SourceError
        If the file does not exist, or the address is not the plain path of a file.
    """
    if not database or database == ":memory:" or database.startswith("file:"):
        raise SourceError(
            f"{name}: the address of an SQLite database must be the path of a file, such as "
            "sqlite:///prices.sqlite."
        )
    place = Path(database).absolute()
    if not place.is_file():
        raise SourceError(f"{name}: there is no file {place}.")
    connection = sqlite3.connect(f"{place.as_uri()}?mode=ro", uri=True, check_same_thread=False)
    connection.set_authorizer(_authorize)
    connection.set_progress_handler(lambda: int(time.monotonic() > deadline), _STEPS)
    return connection


def _authorize(action: int, first: str | None, second: str | None, *_: object) -> int:
    """Whether an SQLite action is permitted: select, read, call a harmless function, describe a table."""
    if action == sqlite3.SQLITE_FUNCTION and str(second).lower() in _BARRED:
        return sqlite3.SQLITE_DENY
    if action == sqlite3.SQLITE_PRAGMA:
        describes = str(first).lower() in _PRAGMAS or (first == "read_uncommitted" and second is None)
        return sqlite3.SQLITE_OK if describes else sqlite3.SQLITE_DENY
    return sqlite3.SQLITE_OK if action in _ALLOWED else sqlite3.SQLITE_DENY


# SQL databases: a table or a query as a Parquet download, streamed so that memory stays bounded

CHUNK: Final = 50_000
_FIRST_ROWS: Final = 100  # until the size of a row is known
_CHUNK_BYTES: Final = 16 * 1024 * 1024
MOST_ROWS: Final = 200_000_000
TYPE: Final = "application/vnd.apache.parquet"


@dataclass(frozen=True)
class Query:
    """A query and the roles of its columns.

    Attributes
    ----------
    sql : str
        Text of the query; empty for a whole table.
    table : str
        Name of the table, with its schema before a point if needed.
    date, key : str
        Columns of dates and of the key of each series; detected by default.
    """

    sql: str = ""
    table: str = ""
    date: str = ""
    key: str = ""


def fetch(url: str, query: Query, name: str, password: str = "") -> Download:
    """Run a query and return its rows as Parquet.

    Parameters
    ----------
    url : str
        Address in the syntax of SQLAlchemy, without a password.
    query : Query
    name : str
        Source and path, for messages.
    password : str
        Password, added to the address at connection time.

    Raises
    ------
    SourceError
        If the database is unavailable, or the query fails.
    """
    try:
        import sqlalchemy
        import sqlalchemy.exc
    except ModuleNotFoundError as error:
        raise missing_package(error, f"{name}: a database", "sqlalchemy") from None

    deadline = time.monotonic() + current().seconds
    try:
        address = sqlalchemy.engine.make_url(url)
        if address.password:
            raise SourceError(
                f"{name}: the address of the database contains a password. Remove it and set where the password "
                f"is stored: credentials = {{ kind = 'password', variable = '...' }}."
            )
        if query.sql:
            refuse_writing(query.sql, name, dialect=address.get_backend_name())
        engine = _engine(address.set(password=password) if password else address, name, deadline)
    except (sqlalchemy.exc.ArgumentError, ImportError) as error:
        raise SourceError(f"{name}: the database cannot be opened: {_short(error, password)}.") from None
    try:
        with engine.connect().execution_options(stream_results=True, max_row_buffer=CHUNK) as connection:
            return Download(_parquet(connection, query, name, deadline), TYPE)
    except sqlalchemy.exc.SQLAlchemyError as error:
        raise SourceError(f"{name}: the database rejected the query: {_short(error, password)}.") from None
    finally:
        engine.dispose()


def _engine(address: URL, name: str, deadline: float) -> Engine:
    """An engine with read-only connections, where the database supports them."""
    import sqlalchemy

    if address.get_backend_name() == "postgresql":
        seconds = max(deadline - time.monotonic(), 1.0)
        timeout = f"-c statement_timeout={int(1000 * seconds)}"
        held = {"options": f"-c default_transaction_read_only=on {timeout}"}
        libpq = address.get_driver_name() in ("psycopg", "psycopg2")
        return sqlalchemy.create_engine(
            address, execution_options={"postgresql_readonly": True}, connect_args=held if libpq else {}
        )
    if address.get_backend_name() != "sqlite":
        return sqlalchemy.create_engine(address)
    return sqlalchemy.create_engine(
        "sqlite://",
        creator=lambda: open_sqlite(address.database, name, deadline),
        poolclass=sqlalchemy.pool.NullPool,
    )


def _short(error: Exception, password: str) -> str:
    """First line of a message, without the password."""
    text = str(getattr(error, "orig", None) or error).strip().splitlines()[0][:300].rstrip(".")
    return text.replace(password, "•••") if password else text


def _parquet(connection: Any, query: Query, name: str, deadline: float) -> bytes:
    from pyarrow.parquet import ParquetWriter

    result = connection.execute(_statement(connection, query, name))
    columns = list(result.keys())
    packed = pa.BufferOutputStream()
    writer: Any = None
    count = size = 0
    chunk = _FIRST_ROWS
    while rows := result.fetchmany(chunk):
        count += len(rows)
        if count > MOST_ROWS:
            raise SourceError(f"{name}: more than {MOST_ROWS:,} rows. Select fewer rows.")
        if time.monotonic() > deadline:
            raise SourceError(
                f"{name}: the query takes longer than {current().seconds:g} s; simplify it, or raise the limit "
                "with ul.limits(seconds=...)."
            )
        table = _table(columns, rows, writer.schema if writer is not None else None, name)
        size += table.nbytes
        current().check("answer_bytes", size, f"{name}: the answer has at least {size:,} bytes")
        chunk = min(CHUNK, max(1, _CHUNK_BYTES * count // max(size, 1)))  # rows of about these bytes at a time
        if writer is None:
            writer = ParquetWriter(packed, table.schema, compression="zstd")
        writer.write_table(table)
    if writer is None:
        raise SourceError(f"{name}: the query returned no rows. Check its conditions.")
    writer.close()
    return bytes(packed.getvalue())


def _statement(connection: Connection, query: Query, name: str) -> Executable:
    """The query itself, or all rows of a table whose name is quoted by the database's own rules."""
    import sqlalchemy

    if query.sql:
        return sqlalchemy.text(query.sql)
    schema, _, table = query.table.rpartition(".")
    inspector = sqlalchemy.inspect(connection)
    names = [*inspector.get_table_names(schema=schema or None), *inspector.get_view_names(schema=schema or None)]
    if table not in names:
        raise SourceError(f"{name}: no table '{query.table}'; there are: {choices(sorted(names)) or 'none'}.")
    return sqlalchemy.select(
        sqlalchemy.Table(table, sqlalchemy.MetaData(), schema=schema or None, autoload_with=connection)
    )


def _table(columns: Sequence[str], rows: Sequence[object], schema: object, name: str) -> pa.Table:
    arrays = [_array(list(cells)) for cells in zip(*rows, strict=True)]
    try:
        table = pa.Table.from_arrays(arrays, names=list(columns))
        return table if schema is None else table.cast(schema)
    except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
        raise SourceError(
            f"{name}: a column has values of several types: {error}. Convert it with CAST in the query."
        ) from None


def _array(cells: list[Any]) -> object:
    """A column; exact decimals as floats, other types unknown to Arrow as text."""
    if any(isinstance(c, Decimal) for c in cells):
        cells = [float(c) if c is not None else None for c in cells]
    try:
        array = pa.array(cells)
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        return pa.array([None if c is None else str(c) for c in cells])
    if pa.types.is_null(array.type):
        return array.cast(pa.float64())
    return array.cast(pa.float64()) if pa.types.is_integer(array.type) else array


def table_options(query: Query) -> Mapping[str, object]:
    """Options of the table reader for the roles of the columns."""
    options = {"date_column": query.date, "asset_column": query.key}
    return {name: value for name, value in options.items() if value}
