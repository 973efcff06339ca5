"""From resolved formulas, axis fields and filters to a plan, with what the reader should know about it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from relatum.data.types import INTEGER
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    Aggregate,
    Constant,
    Expression,
    Filtered,
    FilterPart,
    Slot,
    aggregates_in,
    columns_in,
    rewritten,
)
from relatum.model.names import column_name, quoted
from relatum.model.routes import Place
from relatum.plan.nodes import Aggregation, Combine, Field, Plan


@dataclass(frozen=True, slots=True)
class Note:
    """Something true about a result that the reader should know."""

    kind: str
    text: str


@dataclass(frozen=True, slots=True)
class Grid:
    """What a plan is made from: axis fields, values by label, filters, and the grains wanted, finest first."""

    fields: tuple[Field, ...]
    formulas: tuple[Expression, ...]
    filters: tuple[FilterPart, ...]
    grains: tuple[tuple[int, ...], ...]
    show_empty: bool = False
    cell_limit: int = 1_000_000


def compile_plan(catalog: Catalog, grid: Grid) -> tuple[Plan, list[Note]]:
    """The plan that answers a grid.

    Parameters
    ----------
    catalog : Catalog
        Columns and routes.
    grid : Grid
        The resolved question.

    Returns
    -------
    tuple of Plan and list of Note
        The plan, and a note for every aggregate that has no value at a grain because nothing relates it.
    """
    compiler = _Compiler(catalog, grid)
    combines = tuple(compiler.combine(keys) for keys in grid.grains)
    full = grid.grains[0]
    judged = any(
        aggregate.function != "sole" and not compiler.repeated(aggregate, full)
        for formula in grid.formulas
        for aggregate in aggregates_in(formula)
    )
    visible = tuple(compiler.visible()) if full and (grid.show_empty or not judged) else ()
    return Plan(grid.fields, combines, visible, grid.cell_limit), list(compiler.notes)


class _Compiler:
    def __init__(self, catalog: Catalog, grid: Grid) -> None:
        self.catalog = catalog
        self.grid = grid
        self.notes: dict[Note, None] = {}

    def combine(self, keys: tuple[int, ...]) -> Combine:
        """One grain: each aggregate becomes an input, or null where it has no value."""
        inputs: dict[Aggregation, int] = {}

        def leaf(expression: Expression) -> Expression:
            if isinstance(expression, Filtered):
                return Constant(self._bears(expression, keys), expression.type)
            if not isinstance(expression, Aggregate):
                return expression
            aggregation = self._aggregation(expression, keys)
            if aggregation is None:
                return Constant(None, expression.type)
            return Slot(inputs.setdefault(aggregation, len(inputs)), expression.type)

        formulas = tuple(rewritten(formula, leaf) for formula in self.grid.formulas)
        return Combine(keys, tuple(inputs), formulas)

    def repeated(self, aggregate: Aggregate, keys: tuple[int, ...]) -> bool:
        """Whether an aggregate's value is the same for some axis, because it states so."""
        return aggregate.repeat and any(not self._reaches(self.grid.fields[key], aggregate.row_table) for key in keys)

    def _aggregation(self, aggregate: Aggregate, keys: tuple[int, ...]) -> Aggregation | None:
        table = aggregate.row_table
        reached = tuple(key for key in keys if self._reaches(self.grid.fields[key], table))
        filters = tuple(part for part in self.grid.filters if self._passes(part, table))
        if not aggregate.repeat:
            blank = [self.grid.fields[key] for key in keys if key not in reached]
            for field in blank:
                self._note_unrelated(aggregate, field.table, column_name(field.table, field.column), "by")
            for part in self.grid.filters:
                if part not in filters:
                    self._note_unrelated(aggregate, part.table, part.text, "where")
            if blank or len(filters) < len(self.grid.filters):
                return None
        return Aggregation(
            table, aggregate.function, aggregate.arguments, aggregate.fraction, aggregate.type, reached, filters
        )

    def _reaches(self, field: Field, table: str) -> bool:
        return self.catalog.filter(field.table, frozenset([field.column]), table) is not None

    def _passes(self, part: FilterPart, table: str) -> bool:
        if part.columns is not None:
            return self.catalog.filter(part.table, part.columns, table) is not None
        # A part that reads other tables as well is judged on rows of its own table, never on a level of it.
        route = self.catalog.filter(part.table, frozenset(), table)
        return route is not None and (not route or not route[-1].target.level)

    def _note_unrelated(self, aggregate: Aggregate, table: str, text: str, word: str) -> None:
        source = quoted(aggregate.row_table)
        found = self.catalog.routes.lookups(Place(aggregate.row_table))
        coarse = any(place.table == table and place.level for place in found)
        reason = (
            f"{source} is related to {quoted(table)} at a coarser level"
            if coarse
            else f"no relationship leads from {source} to {quoted(table)}"
        )
        self.notes[
            Note(
                "unrelated",
                f"{aggregate.text} has no value {word} {text}: {reason}. "
                'Relate them, or repeat the value with unrelated = "repeat" on its measure.',
            )
        ] = None

    def _bears(self, filtered: Filtered, keys: tuple[int, ...]) -> bool:
        if any(self.grid.fields[key] == Field(filtered.table, filtered.column) for key in keys):
            return True
        return any(
            column.table == filtered.table and column.column == filtered.column
            for part in self.grid.filters
            for column in columns_in(part.expression)
        )

    def visible(self) -> Iterator[Aggregation]:
        """Counts whose groups are the visible members: one for each group of fields on one chain of lookups."""
        for table, keys in self._chains().items():
            filters = tuple(part for part in self.grid.filters if self._passes(part, table))
            yield Aggregation(table, "rows", (), 0.0, INTEGER, keys, filters)

    def _chains(self) -> dict[str, tuple[int, ...]]:
        tables = list(dict.fromkeys(field.table for field in self.grid.fields))
        finest = [
            table for table in tables if not any(other != table and self._finds(other, table) for other in tables)
        ]
        chains: dict[str, list[int]] = {}
        for key, field in enumerate(self.grid.fields):
            owner = next(table for table in finest if table == field.table or self._finds(table, field.table))
            chains.setdefault(owner, []).append(key)
        return {table: tuple(keys) for table, keys in chains.items()}

    def _finds(self, table: str, lookup: str) -> bool:
        columns: Sequence[str] = [field.column for field in self.grid.fields if field.table == lookup]
        return all(self._reaches(Field(lookup, column), table) for column in columns)
