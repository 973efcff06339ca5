"""What every kind of database has in common: what it declares, and how it is asked."""

from __future__ import annotations

import threading
from abc import ABC, abstractmethod
from collections.abc import Iterable, Mapping
from contextlib import suppress
from typing import Any

import pyarrow as pa
from msgspec import Struct

from relatum.data.arrow import arrow_type
from relatum.data.types import BOOLEAN, Type
from relatum.errors import MissingSourceError, SourceError
from relatum.runtime.limits import refuse_above, refuse_memory
from relatum.sources.database.query import one_select
from relatum.wording import first_line, suggestion


class ForeignKey(Struct, frozen=True):
    """Columns of a table that a database declares to point to columns of another."""

    columns: tuple[str, ...]
    target: str
    target_columns: tuple[str, ...]


class DatabaseTable(Struct, frozen=True):
    """What a database declares of one table.

    ``parts`` are its schema, where one must be named, and its own name. ``fault`` says why a table, or a view that is
    broken, cannot be read; nothing else is known of it then.
    """

    name: str
    parts: tuple[str, ...]
    columns: tuple[str, ...] = ()
    key: tuple[str, ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    fault: str = ""

    @property
    def quoted(self) -> str:
        """Its name in SQL."""
        return ".".join(map(quoted, self.parts))


class Database(ABC):
    """An open database. Each kind declares its tables in its own way; none is ever written to.

    ``dialect`` is what its SQL is called where queries are checked.
    """

    dialect: str

    def __init__(self, connection: Any, shown: str) -> None:
        self.connection = connection
        self.shown = shown
        #: A connection answers one question at a time: those of several threads take turns.
        self.turn = threading.RLock()

    @abstractmethod
    def tables(self) -> list[DatabaseTable]:
        """What the database declares."""

    @abstractmethod
    def answer(self, statement: str, shown: str, parameters: tuple[str, ...] = ()) -> tuple[Any, list[str]]:
        """The answer to a statement as an Arrow table, and what a person should know of how it was read."""

    @abstractmethod
    def close(self) -> None:
        """Let go of it."""

    def select(self, query: str, shown: str) -> tuple[str, list[str]]:
        """A query of a model as the database is asked it, and what a person should know of what it reads.

        Raises
        ------
        SourceError
            It is not one SELECT, or calls what it may not.
        """
        one_select(query, self.dialect, shown)
        return query.strip().rstrip(";"), []

    def remarks(self, table: DatabaseTable) -> list[str]:
        """What a person should know of where a table's rows come from."""
        return []

    def chosen(self, table: DatabaseTable) -> list[str]:
        """The columns of a table as a select statement lists them."""
        return [quoted(name) for name in table.columns]

    def declared(self, table: DatabaseTable) -> Mapping[str, Type]:
        """Types that a table's columns are declared to have and that the rows themselves do not show."""
        return {}

    def table(self, part: str) -> DatabaseTable:
        """The table of a name.

        Raises
        ------
        MissingSourceError
            There is none.
        SourceError
            It is a view that is broken.
        """
        tables = {each.name: each for each in self.tables()}
        if part not in tables:
            raise MissingSourceError(
                f"There is no table {part}.", path=self.shown, fix=suggestion(part, tables, noun="table")
            )
        if tables[part].fault:
            raise SourceError(f"{part} cannot be read: {tables[part].fault}", path=self.shown)
        return tables[part]

    def records(self, statement: str, *parameters: str) -> list[dict[str, Any]]:
        """The answer to a statement of our own, row by row: there are few."""
        table, _ = self.answer(statement, self.shown, parameters)
        return list(table.to_pylist())


def quoted(name: str) -> str:
    """A name in SQL."""
    return '"' + name.replace('"', '""') + '"'


def described(
    columns: list[dict[str, Any]], keys: Mapping[Any, tuple[str, ...]], foreign: Mapping[Any, list[ForeignKey]]
) -> list[DatabaseTable]:
    """Tables from records of their columns: id, table_name, schema (empty where it need not be named), column_name."""
    tables: dict[Any, list[str]] = {}
    named = {}
    for each in columns:
        tables.setdefault(each["id"], []).append(each["column_name"])
        named[each["id"]] = tuple(filter(None, (each["schema"], each["table_name"])))
    return [
        DatabaseTable(".".join(named[id_]), named[id_], tuple(own), keys.get(id_, ()), tuple(foreign.get(id_, ())))
        for id_, own in tables.items()
    ]


def gathered(schema: Any, batches: Iterable[Any], shown: str) -> Any:
    """Batches as one Arrow table; refused where they come to more rows or bytes than the limits allow."""
    kept, rows = [], 0
    for batch in batches:
        rows += len(batch)
        refuse_above("rows", rows, f"{shown}: more than {rows - len(batch):,} rows")
        refuse_memory(batch.nbytes, shown)
        kept.append(batch)
    return pa.Table.from_batches(kept, schema)


def as_declared(array: Any, declared: Type) -> Any:
    """A column in the type that it is declared to have; as it is where some value has another."""
    if arrow_type(declared) == array.type:
        return array
    with suppress(pa.ArrowException):
        # A truth is stored as 0 or 1, everything else as it is written.
        stored = array if declared == BOOLEAN else array.cast(pa.string())
        return stored.cast(arrow_type(declared))
    return array


def reason(error: Exception) -> str:
    """What a driver says, without what it says to programmers."""
    text = first_line(error)
    for noise in ("IO: ", "NOT_FOUND: ", "INVALID_ARGUMENT: ", "[libpq] ", "Failed to prepare query: ", "ERROR:  "):
        text = text.replace(noise, "")
    return text.strip()


def refusal(error: Exception, shown: str) -> SourceError:
    """The error for a question that a database does not answer."""
    return SourceError(f"The database rejected the query: {reason(error)}", path=shown)
