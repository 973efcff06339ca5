"""What formulas can mention: the columns with their types, the measures, and the routes between tables."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from relatum.data.types import Type
from relatum.language.expression import Apply, ColumnValue, Expression, MemberOrder
from relatum.model.declaration import Declaration
from relatum.model.names import ColumnKey, quoted
from relatum.model.routes import Determines, Opened, Place, Route, RouteMap
from relatum.wording import counted

#: The functions that make bands.
BANDS = ("band_by", "band_at")


class Catalog(Struct, frozen=True, eq=False):
    """A declaration joined with what the data says: column types, and which columns a level determines."""

    declaration: Declaration
    types: Mapping[str, Mapping[str, Type]]
    routes: RouteMap
    determines: Determines
    is_period: Callable[[str, str], bool]
    #: Members with their own order, such as weekdays, by table and column.
    listed: Mapping[ColumnKey, tuple[str, ...]] = field(default_factory=dict)
    #: Derived columns whose members are bands.
    banded: frozenset[ColumnKey] = frozenset()
    #: Columns that are there and are not read, with the reason.
    unread: Mapping[ColumnKey, str] = field(default_factory=dict)

    def is_calendar(self, table: str) -> bool:
        """Whether a table is a calendar, or a role of one."""
        described = self.declaration.tables[self.declaration.rows_of(table)]
        return described.calendar is not None or described.dated

    def calendars(self, start: str) -> list[str]:
        """The calendars from which a filter reaches the rows of a table, at whichever level."""
        found = self.routes.filters(Place(start))
        return [
            name for name in self.declaration.tables if self.is_calendar(name) and any(p.table == name for p in found)
        ]

    def order(self, table: str, column: str) -> MemberOrder:
        """The order in which the members of a column are."""
        owner = self.declaration.rows_of(table)
        settings = self.declaration.tables[owner].columns.get(column)
        if settings is not None and settings.order_by:
            return MemberOrder(settings.order_by, self._own_order(owner, settings.order_by))
        return self._own_order(owner, column)

    def _own_order(self, owner: str, column: str) -> MemberOrder:
        return MemberOrder(listed=self.listed.get((owner, column), ()), banded=(owner, column) in self.banded)

    def is_band(self, expression: Expression) -> bool:
        """Whether a value is the text of a band, which is ordered by its lower edge."""
        match expression:
            case Apply(function, _):
                return function in BANDS
            case ColumnValue(table, column):
                return (self.declaration.rows_of(table), column) in self.banded
        return False

    def columns(self, table: str) -> Mapping[str, Type]:
        """The columns of a table with their types; those of the table it is a role of, for a role."""
        return self.types[self.declaration.rows_of(table)]

    def shown(self, table: str) -> list[str]:
        """The columns of a table that are shown to people."""
        return [each for each in self.columns(table) if not self.declaration.settings(table, each).hidden]

    def lookup(self, start: str, table: str, column: str) -> Route | None:
        """The route by which a row of ``start`` finds ``table.column``."""
        return self.routes.lookup(start, table, column, self.determines)

    def filter(self, table: str, columns: frozenset[str] | None, start: str) -> Route | None:
        """The route along which a filter on ``columns`` of ``table`` reaches the rows of ``start``."""
        return self.routes.filter(table, columns, start, self.determines)

    def opening(self, opened: Opened) -> Catalog:
        """The catalog with more relationships opened, as brackets do."""
        routes = self.routes.opening(opened)
        return self if routes is self.routes else replace(self, routes=routes)

    def finds(self, start: str, table: str, columns: Iterable[str]) -> bool:
        """Whether a row of ``start`` looks up a row of ``table`` and these columns of it."""
        found = self.routes.lookups(Place(start))
        return any(place.table == table for place in found) and all(
            self.lookup(start, table, column) is not None for column in columns
        )

    def rank(self, table: str, others: Sequence[str]) -> int:
        """How many of the rest are at the left end of a one-to-one relationship with a table."""
        return sum(
            each.kind == "one_to_one" and each.one.table == table and each.many.table in others
            for each in self.declaration.relationships
        )

    def tables_with(self, column: str) -> list[str]:
        """The tables that have a column of this name."""
        return [table for table in self.declaration.tables if column in self.columns(table)]

    def row_table_problem(self, mentioned: Mapping[str, set[str]]) -> tuple[str, str]:
        """Why no row of one table finds all the columns mentioned, and what to do."""
        tables = [quoted(table) for table in mentioned]
        every = [
            start
            for start in self.declaration.tables
            if start not in mentioned and all(self.finds(start, table, names) for table, names in mentioned.items())
        ]
        reason = f"No row of {' or '.join(tables)} finds a row in {'the other' if len(tables) == 2 else 'each other'}: "
        reason += f"no relationship leads between the {counted(len(tables), 'table')}."
        if every:
            return reason, f"Rows of {' and '.join(map(quoted, every))} find all of them: add over {quoted(every[0])}."
        return reason, f"Add a relationship that leads from one to the other: {tables[0]}.… -> {tables[1]}.…"
