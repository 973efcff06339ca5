"""What the queries of one plan share: levels, intervals, derived columns and tables, each a part made once."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import Protocol

from sqlglot import exp

from relatum.data.types import INTEGER, Type
from relatum.engine.sql.dialects import Dialect
from relatum.engine.sql.sheet import Sheet
from relatum.engine.sql.tables import StoredColumn, StoredTable, Tables
from relatum.engine.sql.terms import Sql, column
from relatum.model.names import column_name
from relatum.model.routes import Hop, Place
from relatum.plan.engine import Loss
from relatum.plan.nodes import Aggregation, Derivation, Plan, Restriction

_WORD = re.compile(r"[^a-z0-9]+")


class Worker(Protocol):
    """Works out what needs whole plans: derived columns with aggregates, and derived tables."""

    def derived_column(self, parts: Parts, derivation: Derivation) -> str:
        """The relation of a derived column: rows in ``k0``, values in ``v``."""
        ...

    def derived_table(self, parts: Parts, table: str, plan: Plan, columns: tuple[str, ...]) -> str:
        """The relation of a derived table's rows, which ``__row`` numbers."""
        ...


class Parts:
    """Parts of a query that several selects read.

    Parameters
    ----------
    sheet : Sheet
        Takes the parts down.
    tables : Tables
        The tables, and facts about them.
    dialect : Dialect
        What the database writes differently.
    worker : Worker
        Works out derived columns and tables.
    """

    #: The column of intervals that says when a row of an ``as_of`` lookup is replaced.
    until = "__until"
    #: The column that identifies the rows of one of our relations.
    row_column = "__row"

    def __init__(self, sheet: Sheet, tables: Tables, dialect: Dialect, worker: Worker) -> None:
        self.sheet = sheet
        self.tables = tables
        self.dialect = dialect
        self.worker = worker
        self._aliases: set[str] = set()
        self._counts: Counter[str] = Counter()
        self._levels: dict[Place, str] = {}
        self._level_columns: dict[Place, dict[str, str]] = {}
        self._intervals: dict[tuple[str, tuple[str, ...]], str] = {}
        self._derived: dict[tuple[str, str], str] = {}
        self._tables: dict[str, StoredTable] = {}
        self._quiet = 0
        #: Every aggregate over rows that was computed.
        self.aggregated: dict[Aggregation, None] = {}
        #: Tables whose rows were looked at, with the conditions on them.
        self.looked_at: dict[tuple[str, tuple[Restriction, ...]], None] = {}
        #: What is to be noted, each with the SELECT that counts where it holds.
        self.remarks: list[tuple[Loss, exp.Select]] = []
        #: Hops of which it is the question whether rows find something.
        self.unsure: set[Hop] = set()

    def remark(self, loss: Loss, select: exp.Select) -> None:
        """Have something noted where a SELECT, which counts as ``n``, counts any."""
        if not self._quiet:
            self.remarks.append((loss, select))

    def work_out(self, node: Aggregation) -> None:
        """Record that an aggregate is computed."""
        if not self._quiet:
            self.aggregated[node] = None

    def look_at(self, table: str, restrictions: tuple[Restriction, ...]) -> None:
        """Take down that rows of a table are looked at under conditions."""
        if not self._quiet:
            self.looked_at[table, restrictions] = None

    @contextmanager
    def quiet(self) -> Iterator[None]:
        """Work that is not the request's own: nothing is noted of it."""
        self._quiet += 1
        try:
            yield
        finally:
            self._quiet -= 1

    def alias(self, name: str) -> str:
        """A name for something in a FROM, made of the table's."""
        word = _WORD.sub("_", name.lower()).strip("_")[:30] or "t"
        alias = word
        while alias in self._aliases:
            self._counts[word] += 1
            alias = f"{word}_{self._counts[word] + 1}"
        self._aliases.add(alias)
        return alias

    def stored(self, table: str) -> StoredTable:
        """The table that holds the rows of a table, derived tables included."""
        owner = self.tables.rows_of(table)
        if owner not in self._tables:
            derived = self.tables.derived_table(owner)
            if derived is None:
                self._tables[owner] = self.tables.stored(owner)
            else:
                plan, types = derived
                with self.quiet():
                    name = self.worker.derived_table(self, owner, plan, tuple(types))
                columns = {
                    each: StoredColumn(each, type_, lambda sql: sql, True, lambda: True)
                    for each, type_ in types.items()
                }
                row = self._row_number
                self._tables[owner] = StoredTable(
                    owner, lambda alias: self.sheet.table(name, alias), columns, row, INTEGER, row
                )
        return self._tables[owner]

    def _row_number(self, alias: str) -> Sql:
        return column(alias, self.row_column)

    def derivation(self, table: str, name: str) -> Derivation:
        """A derived column."""
        found = self.tables.derivation(self.tables.rows_of(table), name)
        assert found is not None, f"{column_name(table, name)} is stored or derived"
        return found

    def column_type(self, table: str, name: str) -> Type:
        """The type of a column, stored or derived."""
        stored = self.stored(table).columns.get(name)
        return stored.type if stored is not None else self.derivation(table, name).type

    def nullable(self, place: Place, name: str) -> bool:
        """Whether a column may be null on a row."""
        if name in place.level:
            return False
        stored = self.stored(place.table).columns.get(name)
        return stored is None or stored.nullable()

    def may_miss(self, hop: Hop) -> bool:
        """Whether some row may find nothing along a hop."""
        return hop in self.unsure or self.tables.unmatched(hop)

    # -- levels -------------------------------------------------------------------------------------------------------

    def level(self, place: Place, make: Callable[[Mapping[str, str]], Sql]) -> str:
        """The relation of a level's distinct values, with the columns that they determine.

        It is made when all columns that are read of it are known.
        """
        if place not in self._levels:
            columns = self._level_columns[place] = {name: f"c{at}" for at, name in enumerate(place.level)}
            hint = f"{place.table}_by_{'_'.join(place.level)}"
            self._levels[place] = self.sheet.add(hint, lambda: make(columns))
        return self._levels[place]

    def level_column(self, place: Place, name: str) -> str:
        """What a level calls a column."""
        columns = self._level_columns[place]
        return columns.setdefault(name, f"c{len(columns)}")

    # -- intervals ----------------------------------------------------------------------------------------------------

    def intervals(self, table: str, columns: tuple[str, ...], make: Callable[[], Sql]) -> str:
        """The rows of an ``as_of`` lookup, each with the start of the next of the same keys."""
        key = (self.tables.rows_of(table), columns)
        if key not in self._intervals:
            self._intervals[key] = self.sheet.add(f"{table}_intervals", make())
        return self._intervals[key]

    # -- derived columns ----------------------------------------------------------------------------------------------

    def derived(self, derivation: Derivation) -> str:
        """The relation of a derived column's values."""
        key = (derivation.table, derivation.column)
        if key not in self._derived:
            with self.quiet():
                self._derived[key] = self.worker.derived_column(self, derivation)
        return self._derived[key]
