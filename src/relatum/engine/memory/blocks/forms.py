"""What an aggregate takes of each row, in a form that the compiled loops know."""

from __future__ import annotations

from typing import assert_never

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.types import INTEGER, Kind
from relatum.engine.memory.aggregates import DistinctCode, MemberCode, RowNumber, RowValue
from relatum.engine.memory.blocks.instructions import (
    ADD,
    ADD_FLOATS,
    DIVIDE_FLOATS,
    MULTIPLY,
    MULTIPLY_FLOATS,
    SUBTRACT,
    SUBTRACT_FLOATS,
)
from relatum.engine.memory.rows import RowReader
from relatum.engine.memory.store import MemoryStore
from relatum.language.expression import (
    Aggregate,
    Apply,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    InContext,
    LetIn,
    LetValue,
    Narrowed,
    NoMatch,
    Ranked,
    Slot,
)
from relatum.model.routes import Route

_WORDS: dict[str, tuple[int, v.Arithmetic]] = {
    "+": (ADD, "add"),
    "-": (SUBTRACT, "subtract"),
    "*": (MULTIPLY, "multiply"),
}
_WORDS_OF_FLOATS = {"+": ADD_FLOATS, "-": SUBTRACT_FLOATS, "*": MULTIPLY_FLOATS, "/": DIVIDE_FLOATS}
#: What is said of the bounds of floats: nobody looks at them.
_ANY = (0, 0)


class Own(Struct, frozen=True, eq=False):
    """The value in a column of the table itself."""

    column: Column

    @property
    def bounds(self) -> tuple[int, int]:
        """Numbers between which all values are."""
        return self.column.lower, self.column.upper


class Looked(Struct, frozen=True, eq=False):
    """The value that a row finds along a route: ``table`` holds one for each row there, the virtual one last."""

    positions: Array
    table: NDArray[np.int64]
    nulls: NDArray[np.bool_] | None
    column: Column

    @property
    def bounds(self) -> tuple[int, int]:
        """Numbers between which all values are."""
        return self.column.lower, self.column.upper


class Fixed(Struct, frozen=True):
    """A whole number, or one with the bits of a float, that is the same for all rows."""

    value: int

    @property
    def bounds(self) -> tuple[int, int]:
        """The number, twice."""
        return self.value, self.value


class Combined(Struct, frozen=True, eq=False):
    """Two values added, subtracted, multiplied or divided; a whole number that comes of it fits 64 bits."""

    word: int
    left: Form
    right: Form
    bounds: tuple[int, int]


class AsFloat(Struct, frozen=True, eq=False):
    """Whole numbers as floats, divided by a number."""

    form: Form
    divisor: int
    bounds: tuple[int, int] = _ANY


Form = Own | Looked | Fixed | Combined | AsFloat


def form_of(reader: RowReader, value: RowValue) -> Form | None:
    """The form of what an aggregate takes of each row of the reader's table; None where the loops know none."""
    store = reader.store
    match value:
        case MemberCode(column):
            members = store.members(column.table, column.column)
            return Own(Column(INTEGER, members.codes, None, None, 0, members.size))
        case DistinctCode(column):
            return _code(store, column, reader.route(column))
        case RowNumber():
            return None
        case ColumnValue(column=name):
            route = reader.route(value)
            return _looked(store, route, name) if route else Own(store.column(reader.table, name))
        case Constant(value=number):
            if isinstance(number, float):
                return Fixed(int(np.float64(number).view(np.int64)))
            return Fixed(number) if isinstance(number, int) and value.type.exact else None
        case Apply():
            return _of_floats(reader, value) if value.type.kind is Kind.FLOAT else _combined(reader, value)
        case Choices() | NoMatch() | Aggregate() | Ranked() | Narrowed() | InContext() | LetIn() | LetValue() | Slot():
            return None  # no row has a number of it
        case _:
            assert_never(value)


def column_of(form: Form) -> Column | None:
    """The column that a form reads as it is."""
    match form:
        case Own(column) | Looked(column=column):
            return column
        case Fixed() | Combined() | AsFloat():
            return None
        case _:
            assert_never(form)


def _looked(store: MemoryStore, route: Route, name: str) -> Looked:
    place, index = route[-1].target, store.route_index(route)
    column = store.extended(place, name)
    stamps = (store.stamp(place.table, name), *(store.stamp(place.table, each) for each in place.level))
    table = store.work.keep_lately(("wide", place, name), stamps, lambda: _as_register(column))
    nulls = column.nulls
    if nulls is not None and not index.unmatched and not nulls[:-1].any():
        nulls = None
    return Looked(index.positions, table, nulls, column)


def _as_register(column: Column) -> NDArray[np.int64]:
    """The values of a column in the form that registers hold."""
    return column.values.view(np.int64) if column.type.kind is Kind.FLOAT else column.values.astype(np.int64)


def _code(store: MemoryStore, column: ColumnValue, route: Route) -> Own | None:
    members, codes = store.members(column.table, column.column), store.row_codes(route, column.table, column.column)
    if codes.positions is not None:
        return None
    if store.column(column.table, column.column).nulls is None and not (route and store.route_index(route).unmatched):
        return Own(Column(INTEGER, codes.codes, None, None, 0, members.no_match))
    stamps = (store.stamp(column.table, column.column), *store.route_stamps(route))
    key = ("no value", route, column.table, column.column)
    gone = store.work.keep_lately(key, stamps, lambda: codes.codes >= members.null)
    return Own(Column(INTEGER, codes.codes, gone, None, 0, members.no_match))


def _combined(reader: RowReader, value: Apply) -> Combined | None:
    if value.function not in _WORDS or value.type.kind not in (Kind.INTEGER, Kind.DECIMAL):
        return None
    word, operation = _WORDS[value.function]
    sides: list[Form] = []
    for argument in value.arguments:
        side = form_of(reader, argument) if argument.type.kind in (Kind.INTEGER, Kind.DECIMAL) else None
        if side is not None and operation != "multiply" and argument.type.scale != value.type.scale:
            side = _together(MULTIPLY, "multiply", side, Fixed(10 ** (value.type.scale - argument.type.scale)))
        if side is None:
            return None
        sides.append(side)
    return _together(word, operation, *sides)


def _of_floats(reader: RowReader, value: Apply) -> Combined | None:
    """Floats and whole numbers added and so on. Divided is by a constant alone: by 0 the value is null.

    What is not finite is null, which the loops do not see; but so is then what comes of it, and the sum.
    """
    if value.function not in _WORDS_OF_FLOATS:
        return None
    if value.function == "/" and not (isinstance(value.arguments[1], Constant) and value.arguments[1].value):
        return None
    left, right = (_float(reader, argument) for argument in value.arguments)
    if left is None or right is None:
        return None
    return Combined(_WORDS_OF_FLOATS[value.function], left, right, _ANY)


def _float(reader: RowReader, value: Expression) -> Form | None:
    if value.type.kind not in (Kind.FLOAT, Kind.INTEGER, Kind.DECIMAL):
        return None
    form = form_of(reader, value)
    return form if form is None or value.type.kind is Kind.FLOAT else AsFloat(form, 10**value.type.scale)


def _together(word: int, operation: v.Arithmetic, left: Form, right: Form) -> Combined | None:
    bounds = v.reach_of(operation, left.bounds, right.bounds)
    return (
        Combined(word, left, right, bounds)
        if all(v.fits(*each) for each in (left.bounds, right.bounds, bounds))
        else None
    )
