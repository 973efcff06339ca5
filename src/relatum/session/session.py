"""A session: a declaration and its data, checked against each other and ready for requests."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from relatum.data.columns import Column
from relatum.data.table import TableData
from relatum.data.types import DATE, TEXT, Type
from relatum.engine.memory.rows import RowReader
from relatum.engine.memory.run import MemoryEngine, derived_values
from relatum.engine.memory.store import JoinKeeper, Store
from relatum.errors import DataError, FormulaError, ModelError
from relatum.language.catalog import Catalog
from relatum.language.expression import Expression, is_plain
from relatum.language.parse import parse_formula
from relatum.language.resolve import Formulas
from relatum.language.tree import names_in
from relatum.model.declaration import Declaration, Relationship, Table
from relatum.model.names import column_name, quoted, split_name
from relatum.model.routes import RouteMap, hops_of
from relatum.plan.bounds import attached
from relatum.plan.compile import compile_rows
from relatum.plan.nodes import Engine
from relatum.wording import listed, suggestion

ColumnKey = tuple[str, str]


class Session:
    """Checks a declaration against its data, and answers from it.

    Parameters
    ----------
    declaration : Declaration
        The model.
    data : mapping of str to TableData
        The data of each of its tables.
    former : Session, optional
        A session whose work may be taken over.
    whole : bool
        Whether everything is there: a session that a derived table is worked out in lacks that table itself.
    joins : JoinKeeper, optional
        Keeps join indexes from one run to the next; that of ``former`` unless given.

    Raises
    ------
    ModelError
        A column that is named is not there; two names collide; two routes lead between two tables.
    FormulaError
        A derived column or measure cannot be understood.
    """

    def __init__(
        self,
        declaration: Declaration,
        data: Mapping[str, TableData],
        *,
        former: Session | None = None,
        whole: bool = True,
        joins: JoinKeeper | None = None,
    ) -> None:
        self.joins: JoinKeeper | None = joins or (former.joins if former is not None else None)
        self.declaration = declaration
        self.data = data
        for table in declaration.tables.values():
            self._check_columns(table)
        for number, relationship in enumerate(declaration.relationships):
            self._check_relationship(relationship, number)
        # What was computed for the former session holds as long as tables and relationships are the same.
        self.store: Store = (
            former.store
            if former is not None and former._serves(self)
            else Store(data, self._derive, self._date_columns(), self.joins)
        )
        types: dict[str, dict[str, Type]] = {
            name: dict(data[name].types) for name, table in declaration.tables.items() if not table.role_of
        }
        self.catalog = Catalog(declaration, types, RouteMap(declaration), self.store.determines, self.store.is_period)
        self.formulas = Formulas(self.catalog)
        self._derived: dict[ColumnKey, Expression] = {}
        for table_name, column in self._derived_order():
            formula = declaration.tables[table_name].derived[column].formula
            try:
                expression = self.formulas.derived(table_name, formula, _owner(table_name, column))
            except FormulaError as error:
                error.place = ("table", table_name, "derived", column, "formula")
                raise
            self._derived[table_name, column] = expression
            types[table_name][column] = expression.type
        if whole:
            self._check_settings()
        for name in declaration.measures if whole else ():
            try:
                self.formulas.measure(name)
            except FormulaError as error:
                error.place = ("measure", _owner_name(error, name), "formula")
                error.fix = "\n".join(filter(None, [error.fix, self._typeless()]))
                raise
        self.engine: Engine = MemoryEngine(self.store, self.catalog)

    def changed(self, declaration: Declaration, data: Mapping[str, TableData]) -> Session:
        """The session of a changed declaration; raises as the constructor does, and leaves this one as it is."""
        return Session(declaration, data, former=self)

    def _serves(self, other: Session) -> bool:
        mine, theirs = self.declaration, other.declaration
        return (
            mine.tables == theirs.tables
            and mine.relationships == theirs.relationships
            and all(self.data[name] is other.data[name] for name in mine.tables)
        )

    def _typeless(self) -> str:
        """Tables whose columns are text just because there are no rows that say otherwise."""
        empty = [
            quoted(name)
            for name, table in self.declaration.tables.items()
            if not table.role_of and not self.data[name].rows and set(self.data[name].types.values()) == {TEXT}
        ]
        return f"{listed(empty)} has no rows, so its columns are read as text: state their types." if empty else ""

    def derived_formula(self, table: str, column: str) -> Expression:
        """A derived column's formula, resolved."""
        return self._derived[self.declaration.rows_of(table), column]

    # -- derived columns ----------------------------------------------------------------------------------------------

    def _derive(self, table: str, name: str) -> Column | None:
        owner = self.declaration.rows_of(table)
        expression = self._derived.get((owner, name))
        if expression is None:
            return None
        if is_plain(expression):
            return RowReader(self.store, self.catalog, owner).whole(attached(expression, owner, self.catalog))
        fields, formula = compile_rows(self.catalog, owner, expression)
        return derived_values(self.store, self.catalog, fields, formula, self.data[owner].rows)

    def _derived_order(self) -> list[ColumnKey]:
        tables = self.declaration.tables
        every = {(name, column) for name, table in tables.items() for column in table.derived}
        needs: dict[ColumnKey, list[ColumnKey]] = {}
        for name, column in every:
            try:
                root = parse_formula(tables[name].derived[column].formula, _owner(name, column))
            except FormulaError as error:
                error.place = ("table", name, "derived", column, "formula")
                raise
            mentioned = [
                (name, parts[0]) if len(parts) == 1 else (self._rows_of(parts[0]), parts[1])
                for parts in (each.parts for each in names_in(root))
            ]
            needs[name, column] = [key for key in mentioned if key in every]
        ordered: dict[ColumnKey, None] = {}
        for key in sorted(every):
            self._visit(key, needs, ordered, [])
        return list(ordered)

    def _rows_of(self, table: str) -> str:
        tables = self.declaration.tables
        return tables[table].role_of or table if table in tables else table

    def _visit(
        self,
        key: ColumnKey,
        needs: Mapping[ColumnKey, list[ColumnKey]],
        ordered: dict[ColumnKey, None],
        path: list[ColumnKey],
    ) -> None:
        if key in ordered:
            return
        if key in path:
            circle = " -> ".join(column_name(*each) for each in [*path[path.index(key) :], key])
            raise ModelError(
                f"Derived columns use each other in a circle: {circle}.",
                fix="One of them has to be written without the others.",
                place=("table", key[0], "derived", key[1]),
            )
        for needed in needs[key]:
            self._visit(needed, needs, ordered, [*path, key])
        ordered[key] = None

    # -- checks -------------------------------------------------------------------------------------------------------

    def _known(self, table: str) -> dict[str, None]:
        owner = self.declaration.rows_of(table)
        return dict.fromkeys([*self.data[owner].types, *self.declaration.tables[owner].derived])

    def _need(self, table: str, column: str, place: tuple[str | int, ...], what: str) -> None:
        known = self._known(table)
        if column in known:
            return
        reason = self.data[table].left_out.get(column)
        if reason is not None:
            raise ModelError(
                f"{what}: {column_name(table, column)} cannot be used, since {reason}.",
                place=place,
                fix="Convert the column where the data is made.",
            )
        raise ModelError(
            f"{what}: the table {quoted(table)} has no column {column}.",
            place=place,
            fix=suggestion(column, known, noun="column"),
        )

    def _date_columns(self) -> dict[str, str]:
        """The column of each calendar, or role of one, that holds its dates."""
        found = {}
        for name in self.declaration.tables:
            described = self.declaration.tables[self.declaration.rows_of(name)]
            if described.calendar is not None:
                found[name] = "date"
            elif described.dated:
                found[name] = described.key[0]
        return found

    def _check_columns(self, table: Table) -> None:
        place = ("table", table.name)
        for column in table.derived:
            if column in self.data[table.name].types:
                raise ModelError(
                    f"{column_name(table.name, column)} is a column of the source already.",
                    fix="Give the derived column another name.",
                    place=(*place, "derived", column),
                )
        for column in table.key:
            self._need(table.name, column, (*place, "key"), f"The key of {quoted(table.name)}")
        if table.dated and (len(table.key) != 1 or self.data[table.name].types.get(table.key[0]) != DATE):
            raise ModelError(
                f"{quoted(table.name)} is stated to be a calendar, and its key is no date.",
                fix="State the date column as its key.",
                place=(*place, "calendar"),
            )
        self._check_through(table, place)

    def _check_through(self, table: Table, place: tuple[str | int, ...]) -> None:
        through = table.calendar.through if table.calendar is not None else ""
        if isinstance(through, str) and through:
            parts = split_name(through)
            if len(parts) != 2 or parts[0] not in self.declaration.tables:
                raise ModelError(
                    f"{through} is no column that could end the data.",
                    fix='Write through = "sales.sold_on", or a date.',
                    place=(*place, "calendar"),
                )
            self._need(*parts, (*place, "calendar"), "The end of the data")

    def _check_relationship(self, relationship: Relationship, number: int) -> None:
        for end in (relationship.many, relationship.one):
            for column in end.columns:
                self._need(end.table, column, ("relationship", number, "link"), f"The link {relationship}")

    def _check_settings(self) -> None:
        for name, table in self.declaration.tables.items():
            for column, settings in table.columns.items():
                place = ("table", name, "column", column)
                self._need(name, column, place, f"The settings of {column_name(name, column)}")
                if settings.order_by:
                    self._need(
                        name, settings.order_by, (*place, "order_by"), f"The order of {column_name(name, column)}"
                    )

        for name, hierarchy in self.declaration.hierarchies.items():
            for level in hierarchy.levels:
                parts = split_name(level)
                self._need(parts[0], parts[1], ("hierarchy", name, "levels"), f"The hierarchy {quoted(name)}")

    def verify(self, relationships: Iterable[Relationship]) -> None:
        """Check relationships on the data.

        Raises
        ------
        DataError
            A one side is not unique, or the two ends can never match.
        """
        for relationship in relationships:
            try:
                for hop in hops_of(relationship):
                    if hop.reach:
                        self.store.links(hop)
                    else:
                        self.store.index(hop)
            except DataError as error:
                error.place = ("relationship", self.declaration.relationships.index(relationship))
                raise


def _owner(table: str, column: str) -> str:
    return f"derived column {column_name(table, column)}"


def _owner_name(error: FormulaError, name: str) -> str:
    # A measure that fails inside another is the one whose formula is shown.
    return error.owner.removeprefix("measure ").strip('"') if error.owner.startswith("measure ") else name
