"""Row expressions, evaluated for a stretch of a table's rows at a time."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec import Struct, field

from relatum.data import vectors as v
from relatum.data.buffers import texts_array
from relatum.data.columns import Array, Column
from relatum.data.joins import JoinIndex
from relatum.data.types import Kind
from relatum.engine.memory.kernels import Listed, evaluate
from relatum.engine.memory.store import MemoryStore
from relatum.language.expression import Apply, Choices, ColumnValue, Constant, Expression, NoMatch, columns_in
from relatum.model.routes import Place, Route
from relatum.plan.reads import reads_of


class Chunk(Struct):
    """A stretch of rows; ``rows`` are those that survived the filters, counted from its start, or None for all."""

    start: int
    stop: int
    rows: Array | None = None
    known: dict[Evaluate, Column] = field(default_factory=dict)

    def __len__(self) -> int:
        return self.stop - self.start if self.rows is None else len(self.rows)

    def of(self, array: Array) -> Array:
        """The chunk's part of an array over the whole table."""
        part = array[self.start : self.stop]
        return part if self.rows is None else part.take(self.rows)


Evaluate = Callable[[Chunk], Column]


def constant(node: Constant) -> Column:
    """A constant as a vector without dimensions."""
    value = node.value
    if value is None:
        return v.all_null(node.type)
    if node.type.kind is Kind.TEXT:
        return Column(node.type, np.zeros((), np.uint8), None, texts_array([str(value)]), 0, 0)
    if node.type.exact:
        return Column(node.type, np.asarray(value, dtype=np.int64), None, None, int(value), int(value))
    return Column(node.type, np.asarray(value), None, None, 0, 1)


def choices(node: Choices) -> Listed:
    """The constants of a list, distinct and in order."""
    if node.type.kind is Kind.TEXT:
        return Listed(node.type, np.arange(len(node.values)), None, texts_array([str(each) for each in node.values]))
    return Listed(node.type, np.unique(np.asarray(node.values)))


def evaluate_tree(
    expression: Expression, leaf: Callable[[Expression], Column], known: dict[int, Column] | None = None
) -> Column:
    """The value of an expression whose columns, aggregates or slots are given as vectors; shared parts once."""
    known = {} if known is None else known
    if id(expression) not in known:
        if isinstance(expression, Constant):
            value = constant(expression)
        elif isinstance(expression, Choices):
            value = choices(expression)
        elif isinstance(expression, Apply):
            arguments = [evaluate_tree(argument, leaf, known) for argument in expression.arguments]
            value = evaluate(expression.function, arguments, expression.type)
        else:
            value = leaf(expression)
        known[id(expression)] = value
    return known[id(expression)]


#: Dates repeat where a column spans no more of them than this, and has each of these so often on average.
_MOST_DATES, _OFTEN = 1 << 16, 4


class RowReader:
    """Turns row expressions over one table into functions of a chunk.

    Parts of an expression that read one lookup only are worked out once for the lookup's few rows, and parts that
    read one column of texts or of repeated dates only once for its members; the chunk then just picks.
    """

    def __init__(self, store: MemoryStore, table: str) -> None:
        self.store = store
        self.table = table
        self._compiled: dict[Expression, Evaluate] = {}

    def compile(self, expression: Expression) -> Evaluate:
        """A function that gives the expression's values for a chunk; each is computed once per chunk."""
        if expression not in self._compiled:
            function = self._build(expression)

            def once(chunk: Chunk) -> Column:
                # Several readers may work on one chunk: a function is known by itself.
                if once not in chunk.known:
                    chunk.known[once] = function(chunk)
                return chunk.known[once]

            self._compiled[expression] = once
        return self._compiled[expression]

    def whole(self, expression: Expression) -> Column:
        """The expression's values for every row of the table."""
        rows = self.store.rows(Place(self.table))
        return v.spread(self.compile(expression)(Chunk(0, rows)), rows)

    def route(self, value: ColumnValue | NoMatch) -> Route:
        """How a row of the table finds a column."""
        assert value.route is not None, "the columns of a plan know how they are looked up"
        return value.route

    def matches(self, expression: Expression) -> list[tuple[Route, JoinIndex]]:
        """The lookups that an expression reads and that some rows do not find."""
        routes = {self.route(column) for column in columns_in(expression) if isinstance(column, ColumnValue)}
        indexes = [(route, self.store.route_index(route)) for route in routes if route]
        return sorted(
            ((route, index) for route, index in indexes if index.unmatched),
            key=lambda item: (len(item[0]), str(item[0])),
        )

    def _build(self, expression: Expression) -> Evaluate:
        if isinstance(expression, Constant | Choices):
            known = constant(expression) if isinstance(expression, Constant) else choices(expression)
            return lambda chunk: known
        columns = set(columns_in(expression))
        if not columns:
            value = evaluate_tree(expression, _no_leaf)
            return lambda chunk: value
        routes = {self.route(column) for column in columns}
        if len(routes) == 1:
            (route,) = routes
            if route:
                return self._picked(expression, route)
            if isinstance(expression, ColumnValue):
                return self._own(expression)
            one = next(iter(columns))
            if len(columns) == 1 and isinstance(one, ColumnValue) and self._repeats(one):
                texts = unsorted_texts(self.store, expression, one.table, one.column)
                if texts is not None:
                    return _slices(evaluate_tree(expression, lambda _: texts))
                return self._from_members(expression, one)
        if isinstance(expression, NoMatch):
            # The row's own table: a real row never means no match.
            return lambda chunk: v.truth(np.zeros(len(chunk), np.bool_))
        assert isinstance(expression, Apply)
        if _mixes_texts(expression):
            return _slices(evaluate_tree(expression, self._whole_column))
        arguments = [self.compile(argument) for argument in expression.arguments]
        function, type_ = expression.function, expression.type
        return lambda chunk: evaluate(function, [argument(chunk) for argument in arguments], type_)

    def _own(self, expression: ColumnValue) -> Evaluate:
        return _slices(self.store.column(self.table, expression.column))

    def _whole_column(self, expression: Expression) -> Column:
        return self.whole(expression)

    def _picked(self, expression: Expression, route: Route) -> Evaluate:
        place = route[-1].target
        base = evaluate_tree(expression, lambda leaf: self._extended(expression, place, leaf))
        base = v.spread(base, self.store.rows(place) + 1)
        index = self.store.route_index(route)
        nulls = base.nulls
        if nulls is not None and not index.unmatched and not nulls[:-1].any():
            nulls = None

        def pick(chunk: Chunk) -> Column:
            positions = chunk.of(index.positions)
            picked = None if nulls is None else nulls.take(positions)
            return Column(base.type, base.values.take(positions), picked, base.dictionary, base.lower, base.upper)

        return pick

    def _extended(self, whole: Expression, place: Place, leaf: Expression) -> Column:
        if isinstance(leaf, NoMatch):
            return v.truth(np.arange(self.store.rows(place) + 1) == self.store.rows(place))
        assert isinstance(leaf, ColumnValue)
        return extended(self.store, whole, place, leaf.column)

    def _repeats(self, column: ColumnValue) -> bool:
        """Whether what is made of a column is worked out once for each member: of texts, and of dates that repeat."""
        if column.type.kind is not Kind.DATE:
            return column.type.kind is Kind.TEXT
        dates = self.store.column(self.table, column.column)
        return dates.upper - dates.lower < min(_MOST_DATES, len(dates) // _OFTEN)

    def _from_members(self, expression: Expression, column: ColumnValue) -> Evaluate:
        members = self.store.members(self.table, column.column)
        base = v.spread(evaluate_tree(expression, lambda _: v.with_nulls_after(members.values, 1)), members.null + 1)

        def pick(chunk: Chunk) -> Column:
            codes = chunk.of(members.codes)
            nulls = None if base.nulls is None else base.nulls.take(codes)
            return Column(base.type, base.values.take(codes), nulls, base.dictionary, base.lower, base.upper)

        return pick


def unsorted_texts(store: MemoryStore, expression: Expression, table: str, name: str) -> Column | None:
    """A column's texts in any order, where it is not sorted so far and an expression asks for no order."""
    return store.texts(table, name) if (table, name) in reads_of(expression).texts else None


def column_for(store: MemoryStore, expression: Expression, table: str, name: str) -> Column:
    """A column as an expression needs it: as its source has it where that is enough."""
    texts = unsorted_texts(store, expression, table, name)
    return store.column(table, name) if texts is None else texts


def extended(store: MemoryStore, expression: Expression, place: Place, name: str) -> Column:
    """A column as an expression needs it, with the virtual row of no match after its real ones."""
    texts = unsorted_texts(store, expression, place.table, name)
    if texts is None:
        return store.extended(place, name)
    return v.with_nulls_after(texts.take(store.level(place).first_rows) if place.level else texts, 1)


def _slices(column: Column) -> Evaluate:
    def take(chunk: Chunk) -> Column:
        if not column.values.ndim:
            return column
        nulls = None if column.nulls is None else chunk.of(column.nulls)
        return Column(column.type, chunk.of(column.values), nulls, column.dictionary, column.lower, column.upper)

    return take


def _mixes_texts(expression: Apply) -> bool:
    # Dictionaries merged chunk by chunk would give each chunk its own dictionary.
    arguments = expression.arguments
    texts = [argument for argument in arguments if argument.type.kind is Kind.TEXT]
    varying = any(not isinstance(argument, Constant | Choices) for argument in texts)
    return (expression.type.kind is Kind.TEXT and bool(arguments)) or (varying and len(texts) > 1)


def _no_leaf(expression: Expression) -> Column:
    raise AssertionError(f"{expression} is not constant")
