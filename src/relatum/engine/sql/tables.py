"""What the SQL engine knows of the tables that it reads."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import date
from typing import Protocol

from msgspec import Struct

from relatum.data.columns import Array, Members
from relatum.data.types import Type
from relatum.engine.sql.terms import Sql
from relatum.model.routes import Hop, Route
from relatum.plan.nodes import Calendar, Derivation, Plan


class StoredColumn(Struct, frozen=True, eq=False):
    """A column of a table as the database has it.

    ``name`` is what it is called there, ``read`` turns it into what the language reads. ``wide`` says that a whole
    number has 64 bits there, ``nullable`` whether some row has no value.
    """

    name: str
    type: Type
    read: Callable[[Sql], Sql]
    wide: bool
    nullable: Callable[[], bool]


class StoredTable(Struct, frozen=True, eq=False):
    """A table in the database.

    ``relation`` gives it as something to read from under an alias, ``row`` what tells its rows apart, and ``order``
    what puts them in order, both under an alias; ``key`` is the column that tells them apart, where one does.
    """

    name: str
    relation: Callable[[str], Sql]
    columns: Mapping[str, StoredColumn]
    row: Callable[[str], Sql]
    row_type: Type
    order: Callable[[str], Sql]
    key: str = ""


class Tables(Protocol):
    """Where the engine finds tables and facts about them."""

    def stored(self, table: str) -> StoredTable:
        """The table that holds the rows of a table."""
        ...

    def rows_of(self, table: str) -> str:
        """The table whose rows a table has: another one's where it is a role."""
        ...

    def derivation(self, table: str, column: str) -> Derivation | None:
        """A derived column."""
        ...

    def derived_table(self, table: str) -> tuple[Plan, Mapping[str, Type]] | None:
        """A table that a plan computes, with the types of its columns in order."""
        ...

    def unmatched(self, hop: Hop) -> bool:
        """Whether some row finds nothing along a hop."""
        ...

    def calendar_days(self, calendar: Calendar) -> Array:
        """The dates of a calendar, in days since 1970, in order."""
        ...

    def last_date(self, calendar: Calendar, ends: tuple[tuple[str, Route], ...]) -> date | None:
        """The date that ends the data."""
        ...


class Known(Tables, Protocol):
    """What the engine knows of tables, members included."""

    def members(self, table: str, column: str) -> Members:
        """The members of a column."""
        ...

    def key_of(self, table: str) -> tuple[str, ...]:
        """What a table states as its key."""
        ...

    def names(self) -> frozenset[str]:
        """What tables are called, so that no part of a query is called the same."""
        ...
