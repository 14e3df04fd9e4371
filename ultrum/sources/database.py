"""SQL databases: a table or a query as a Parquet download, streamed so that memory stays bounded.

Databases are only read: SQLite in a connection that allows nothing else, PostgreSQL in a read-only
transaction with a time limit, others by refusing every text but one SELECT.
"""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Final

import pyarrow as pa
import pyarrow.parquet

from ultrum.errors import SourceError, choices
from ultrum.sources.download import Download
from ultrum.sources.limits import current
from ultrum.sources.sql_safety import open_sqlite, refuse_writing

CHUNK: Final = 50_000
MOST_ROWS: Final = 200_000_000
TYPE: Final = "application/vnd.apache.parquet"


@dataclass(frozen=True)
class Query:
    """A query and the roles of its columns.

    Attributes
    ----------
    sql : str
        Text of the query; empty to take a whole table.
    table : str
        Name of the table, with its schema before a point if need be.
    date, key : str
        Columns of dates and of the key of each series; detected by default.
    """

    sql: str = ""
    table: str = ""
    date: str = ""
    key: str = ""


def fetch(url: str, query: Query, name: str, password: str = "") -> Download:
    """Run a query and give its rows as Parquet.

    Parameters
    ----------
    url : str
        Address as SQLAlchemy writes it, without a password.
    query : Query
    name : str
        Source and path, for messages.
    password : str
        Put into the address just before connecting.

    Raises
    ------
    SourceError
        If the database cannot be reached, or the query fails.
    """
    import sqlalchemy
    import sqlalchemy.exc

    deadline = time.monotonic() + current().seconds
    try:
        address = sqlalchemy.engine.make_url(url)
        if address.password:
            raise SourceError(
                f"{name}: the address of the database holds a password. Take it out and name where it is "
                "kept: credentials = { kind = 'password', variable = '...' }."
            )
        if query.sql:
            refuse_writing(query.sql, name, dialect=address.get_backend_name())
        engine = _engine(address.set(password=password) if password else address, name, deadline)
    except (sqlalchemy.exc.ArgumentError, ImportError) as error:
        raise SourceError(f"{name}: the database cannot be opened: {_short(error, password)}.") from None
    try:
        with engine.connect().execution_options(stream_results=True, yield_per=CHUNK) as connection:
            return Download(_parquet(connection, query, name, deadline), TYPE)
    except sqlalchemy.exc.SQLAlchemyError as error:
        raise SourceError(f"{name}: the database refused: {_short(error, password)}.") from None
    finally:
        engine.dispose()


def _engine(address: Any, name: str, deadline: float) -> Any:
    """An engine whose connections only read, where the database can be held to it."""
    import sqlalchemy

    if address.get_backend_name() == "postgresql":
        seconds = max(deadline - time.monotonic(), 1.0)
        timeout = f"-c statement_timeout={int(1000 * seconds)}"
        held = {"options": f"-c default_transaction_read_only=on {timeout}"}
        libpq = address.get_driver_name() in ("psycopg", "psycopg2")
        return sqlalchemy.create_engine(
            address,
            execution_options={"postgresql_readonly": True},
            connect_args=held if libpq else {},
        )
    if address.get_backend_name() != "sqlite":
        return sqlalchemy.create_engine(address)
    return sqlalchemy.create_engine(
        "sqlite://", creator=lambda: open_sqlite(address.database, name, deadline),
        poolclass=sqlalchemy.pool.NullPool,
    )  # fmt: skip


def _short(error: Exception, password: str) -> str:
    """First line of a message, without the password."""
    text = str(getattr(error, "orig", None) or error).strip().splitlines()[0][:300].rstrip(".")
    return text.replace(password, "•••") if password else text


def _parquet(connection: Any, query: Query, name: str, deadline: float) -> bytes:
    result = connection.execute(_statement(connection, query, name))
    columns = list(result.keys())
    packed = pa.BufferOutputStream()
    writer: Any = None
    count = 0
    for rows in result.partitions(CHUNK):
        count += len(rows)
        if count > MOST_ROWS:
            raise SourceError(f"{name}: more than {MOST_ROWS:,} rows; narrow the query.")
        if time.monotonic() > deadline:
            raise SourceError(
                f"{name}: the query takes longer than {current().seconds:g} s; narrow it, or raise the "
                "limit, ul.limits(seconds=...)."
            )
        table = _table(columns, rows, writer.schema if writer is not None else None, name)
        if writer is None:
            writer = pyarrow.parquet.ParquetWriter(packed, table.schema, compression="zstd")
        writer.write_table(table)
    if writer is None:
        raise SourceError(f"{name}: the query gave no rows.")
    writer.close()
    return bytes(packed.getvalue())


def _statement(connection: Any, query: Query, name: str) -> Any:
    """The query itself, or everything of a table whose name is quoted by the database's own rules."""
    import sqlalchemy

    if query.sql:
        return sqlalchemy.text(query.sql)
    schema, _, table = query.table.rpartition(".")
    inspector = sqlalchemy.inspect(connection)
    names = [
        *inspector.get_table_names(schema=schema or None),
        *inspector.get_view_names(schema=schema or None),
    ]
    if table not in names:
        raise SourceError(f"{name}: no table '{query.table}'; there are: {choices(sorted(names)) or 'none'}.")
    return sqlalchemy.select(sqlalchemy.Table(table, sqlalchemy.MetaData(), schema=schema or None,
                                              autoload_with=connection))  # fmt: skip


def _table(columns: Sequence[str], rows: Sequence[Any], schema: Any, name: str) -> pa.Table:
    arrays = [_array(list(cells)) for cells in zip(*rows, strict=True)]
    try:
        table = pa.Table.from_arrays(arrays, names=list(columns))
        return table if schema is None else table.cast(schema)
    except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
        raise SourceError(f"{name}: a column changes its type between rows: {error}.") from None


def _array(cells: list[Any]) -> Any:
    """A column; exact decimals as floats, whatever else Arrow does not know as text."""
    if any(isinstance(c, Decimal) for c in cells):
        cells = [float(c) if c is not None else None for c in cells]
    try:
        array = pa.array(cells)
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        return pa.array([None if c is None else str(c) for c in cells])
    if pa.types.is_null(array.type):
        return array.cast(pa.float64())
    return array.cast(pa.float64()) if pa.types.is_integer(array.type) else array


def table_options(query: Query) -> Mapping[str, Any]:
    """Options of the table reader for the roles of the columns."""
    options = {"date_column": query.date, "asset_column": query.key}
    return {name: value for name, value in options.items() if value}
