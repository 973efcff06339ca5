"""What formulas can mention: the columns with their types, the measures, and the routes between tables."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from relatum.data.types import Type
from relatum.errors import counted
from relatum.model.declaration import Declaration
from relatum.model.names import quoted
from relatum.model.routes import Determines, Route, RouteMap


@dataclass(frozen=True, slots=True, eq=False)
class Catalog:
    """A declaration joined with what the data says: column types, and which columns a level determines."""

    declaration: Declaration
    types: Mapping[str, Mapping[str, Type]]
    routes: RouteMap
    determines: Determines

    def columns(self, table: str) -> Mapping[str, Type]:
        """The columns of a table with their types; those of the table it is a role of, for a role."""
        return self.types[self.declaration.rows_of(table)]

    def lookup(self, start: str, table: str, column: str) -> Route | None:
        """The route by which a row of ``start`` finds ``table.column``."""
        return self.routes.lookup(start, table, column, self.determines)

    def filter(self, table: str, columns: frozenset[str], start: str) -> Route | None:
        """The route along which a filter on ``columns`` of ``table`` reaches the rows of ``start``."""
        return self.routes.filter(table, columns, start, self.determines)

    def tables_with(self, column: str) -> list[str]:
        """The tables that have a column of this name."""
        return [table for table in self.declaration.tables if column in self.columns(table)]

    def row_tables(self, mentioned: Mapping[str, set[str]]) -> Iterator[str]:
        """The tables among those mentioned whose rows find every column mentioned."""
        for start in mentioned:
            if all(
                self.lookup(start, table, column) is not None for table, names in mentioned.items() for column in names
            ):
                yield start

    def row_table_problem(self, mentioned: Mapping[str, set[str]]) -> tuple[str, str]:
        """Why no row of one table finds all the columns mentioned, and what to do."""
        tables = [quoted(table) for table in mentioned]
        every = [
            start
            for start in self.declaration.tables
            if start not in mentioned
            and all(
                self.lookup(start, table, column) is not None for table, names in mentioned.items() for column in names
            )
        ]
        reason = f"No row of {' or '.join(tables)} finds a row in {'the other' if len(tables) == 2 else 'each other'}: "
        reason += f"no relationship leads between the {counted(len(tables), 'table')}."
        if every:
            return reason, f"Rows of {' and '.join(map(quoted, every))} find all of them: add over {quoted(every[0])}."
        return reason, f"Add a relationship that leads from one to the other: {tables[0]}.… -> {tables[1]}.…"
