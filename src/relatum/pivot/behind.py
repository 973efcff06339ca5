"""The rows behind a whole grid: those that its sums are over, each with the members that it belongs to."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct

from relatum.data.columns import Array, Column
from relatum.data.types import INTEGER, Type
from relatum.errors import RequestError
from relatum.language.expression import Aggregate, ColumnValue, Expression, columns_in
from relatum.model.names import column_name
from relatum.pivot.axes import Resolved, resolve_request
from relatum.pivot.recipes import RecipeMaker
from relatum.pivot.request import Request
from relatum.pivot.result import Recipe
from relatum.plan.compile import Wanted
from relatum.plan.engine import Evidence
from relatum.plan.nodes import Aggregation
from relatum.session.session import Session

#: More rows than this are too many to hand out with a grid.
MOST_ROWS = 200_000


class TableBehind(Struct, frozen=True, eq=False):
    """The rows of one table that sums are over.

    ``rows`` are their numbers, ``columns`` what the sums read of them, by heading. ``members`` are for the position of
    each field the codes of the members that the rows belong to; fields that the table does not look up are not there.
    """

    table: str
    rows: Array
    columns: dict[str, Column]
    members: dict[int, Array]


class PartBehind(Struct, frozen=True, eq=False):
    """One sum: the table, and what each of its rows brings; None for a count, where each brings one."""

    table: int
    worth: Column | None


class RowsBehind(Struct, frozen=True, eq=False):
    """What a grid's values are put together from. ``recipes`` are by value, None for those that rows do not tell."""

    tables: tuple[TableBehind, ...]
    parts: tuple[PartBehind, ...]
    recipes: tuple[Recipe | None, ...]


def rows_behind(session: Session, request: Request) -> RowsBehind:
    """The rows behind a grid.

    Raises
    ------
    RequestError
        They are too many, or no value comes from rows.
    """
    resolved = resolve_request(session, request)
    maker = RecipeMaker(resolved.session, resolved.fields)
    recipes = [maker.recipe(each) for each in resolved.formulas]
    plain = [isinstance(each.expression, Aggregate) and each.merge == "sum" for each in maker.parts]
    usable = [
        recipe if recipe.steps and all(plain[number] for number in recipe.numbers) else None for recipe in recipes
    ]
    found = _Finder(resolved)
    parts = {
        number: found.add(maker.parts[number].expression) for recipe in usable if recipe for number in recipe.numbers
    }
    places = {number: part for number, part in parts.items() if part is not None}
    usable = [recipe if recipe and all(number in places for number in recipe.numbers) else None for recipe in usable]
    needed = sorted({number for recipe in usable if recipe for number in recipe.numbers})
    if not needed:
        raise RequestError(
            "No value in this grid is a sum or count of rows.", fix="Leave out --rows-behind, or ask for a sum."
        )
    order = {number: at for at, number in enumerate(needed)}
    renumbered = tuple(None if each is None else each.with_numbers(order) for each in usable)
    return RowsBehind(found.tables(), tuple(places[number] for number in needed), renumbered)


class _Finder:
    """Finds the rows of each sum under the request's filters, and puts those of one table together."""

    def __init__(self, resolved: Resolved) -> None:
        self.resolved, self.session = resolved, resolved.session
        self.found: list[tuple[str, Array, Evidence, list[Expression]]] = []

    def add(self, expression: Expression) -> PartBehind | None:
        """One sum, with the number of its table among those found; None where the request's filters do not reach it."""
        assert isinstance(expression, Aggregate), "sums over rows alone are looked for"
        wanted = Wanted((), (expression,), self.resolved.filters, keeps=self.resolved.keeps)
        plan, _ = self.session.plan(wanted)
        evidence = self.session.engine.look(plan, {})
        inputs = plan.grains[0].formulas[0].inputs
        if not inputs:
            return None  # it has no value anywhere
        (node,) = inputs
        assert isinstance(node, Aggregation), "a sum over rows is one step"
        found = evidence.rows(node, MOST_ROWS + 1)
        rows = found.rows
        table = expression.row_table
        if found.count > MOST_ROWS:
            raise RequestError(
                f"There are {found.count:,} rows of {table} behind the grid; the limit is {MOST_ROWS:,}.",
                fix="Filter with a condition: --where.",
            )
        same = (at for at, each in enumerate(self.found) if each[0] == table and np.array_equal(each[1], rows))
        at = next(same, len(self.found))
        if at == len(self.found):
            self.found.append((table, rows, evidence, []))
        self.found[at][3].extend(node.arguments)
        worth = evidence.columns(table, list(node.arguments[:1]), rows)
        if expression.function == "count":
            # Each row with a value counts one, whatever the value is.
            ones = np.ones(len(rows), np.int64)
            worth = [Column(INTEGER, ones, worth[0].nulls, None, 1, 1)]
        return PartBehind(at, worth[0] if worth else None)

    def tables(self) -> tuple[TableBehind, ...]:
        """The tables, each with its rows, the columns read, and the members that they belong to."""
        return tuple(self._table(*each) for each in self.found)

    def _table(self, table: str, rows: Array, evidence: Evidence, read: Sequence[Expression]) -> TableBehind:
        columns: dict[str, Column] = {}
        types = self.session.catalog.columns(table)
        for name in self.session.declaration.tables[self.session.declaration.rows_of(table)].key:
            columns[column_name(table, name)] = evidence.columns(table, [_own(table, name, types[name])], rows)[0]
        for value in (part for argument in read for part in columns_in(argument)):
            if isinstance(value, ColumnValue):
                heading = column_name(value.table, value.column)
                columns.setdefault(heading, evidence.columns(table, [value], rows)[0])
        return TableBehind(table, rows, columns, dict(self._members(table, rows, evidence)))

    def _members(self, table: str, rows: Array, evidence: Evidence) -> Iterator[tuple[int, Array]]:
        """The codes of the members that rows belong to, for each field that the table looks up."""
        for at in self.resolved.heads:
            place = self.resolved.fields[at].field
            route = self.session.catalog.lookup(table, place.table, place.column)
            if route is not None:
                yield at, evidence.codes(table, route, (place.table, place.column), rows)


def _own(table: str, name: str, type_: Type) -> ColumnValue:
    return ColumnValue(table, name, type_, route=())
