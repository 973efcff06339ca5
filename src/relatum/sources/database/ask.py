"""The rows of a table of a database, or of a query that it answers."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from relatum.data.table import TableData
from relatum.errors import SourceError
from relatum.sources.arrow import table_data
from relatum.sources.database.base import Database, DatabaseTable, as_declared
from relatum.sources.database.duckdb import open_duckdb
from relatum.sources.database.kinds import DUCKDB, is_server, shown_address
from relatum.sources.database.postgresql import open_postgresql
from relatum.sources.database.sqlite import open_sqlite
from relatum.sources.files import plain_file
from relatum.sources.stated import Stated
from relatum.wording import suggestion


def read_database(address: str, part: str, query: str, folder: Path, stated: Stated) -> TableData:
    """The rows of a table of a database, or of a query that it answers.

    Raises
    ------
    SourceError
        The database cannot be reached, there is no such table, the query is not a SELECT or is refused.
    """
    with connected(address, folder) as database:
        if bool(part) == bool(query):
            tables = [each.name for each in database.tables()]
            raise SourceError(
                "The table has neither part nor query." if not part else "The table has both part and query.",
                path=database.shown,
                fix=f"Name a table of the database: {suggestion(part, tables, noun='table')}",
            )
        shown = f"{shown_address(address)} ({part or 'query'})"
        if part:
            chosen = database.table(part)
            columns = ", ".join(database.chosen(chosen))
            table, remarks = database.answer(f"select {columns} from {chosen.quoted}", shown)
            remarks += database.remarks(chosen)
            for name, type_ in database.declared(chosen).items():
                at = table.column_names.index(name)
                table = table.set_column(at, name, as_declared(table.column(at), type_))
        else:
            text, more = database.select(query, shown)
            table, remarks = database.answer(text, shown)
            remarks += more
    data = table_data(table.schema, stated, shown, table.num_rows, table.column)
    return TableData(data.types, data.rows, data.column, data.left_out, data.orders, [*data.remarks, *remarks])


def database_tables(address: str, folder: Path) -> list[DatabaseTable]:
    """What a database declares: its tables with their keys and foreign keys.

    Raises
    ------
    SourceError
        The database cannot be reached.
    """
    with connected(address, folder) as database:
        return database.tables()


@contextmanager
def connected(address: str, folder: Path) -> Iterator[Database]:
    """An open database, closed when done; nothing is ever written to it.

    Raises
    ------
    SourceError
        The database cannot be reached, or its driver is not installed.
    """
    with closing(_opened(address, folder)) as database:
        yield database


def _opened(address: str, folder: Path) -> Database:
    if is_server(address):
        return open_postgresql(address, shown_address(address))
    path = plain_file(folder / address)
    return open_duckdb(path) if path.suffix.lower() in DUCKDB else open_sqlite(path)
