"""A pass over a table for aggregations: made ready, and what came of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import assert_never

import numpy as np
from msgspec import Struct

from relatum.data.columns import Array, Column
from relatum.data.types import INTEGER
from relatum.engine.memory.aggregates import Collected, DistinctCode, Folded, MemberCode, RowNumber, RowValue, kernel_of
from relatum.engine.memory.blocks.forms import form_of
from relatum.engine.memory.filters import PartTest
from relatum.engine.memory.folds import FoldKind
from relatum.engine.memory.groups import Groups
from relatum.engine.memory.rows import Chunk, RowReader, column_for
from relatum.engine.memory.scan import Scan
from relatum.engine.memory.scan_task import Argument, ScanResult
from relatum.language.expression import Apply, ColumnValue, columns_in
from relatum.model.routes import Hop, Place, Route
from relatum.plan.nodes import Aggregation, Match


class Coded(Struct, frozen=True):
    """Something that every row of a source has a code of: a member of ``table.column``, or a row of ``table``.

    With ``reach`` it is the number of the key by which the row of ``table`` reaches others along that hop.
    """

    route: Route
    table: str
    column: str
    reach: Hop | None = None


def coded(match: Match) -> Coded:
    """What a match compares."""
    return Coded(match.route, match.table, match.column)


class Prepared(Struct, frozen=True, eq=False):
    """A pass over a table made ready, and where in its results is what it is asked for.

    ``settled`` are coded columns that another one settles, with that one and their code for each of its codes;
    ``held`` is how many bytes are held of what rows look up. ``casts`` may lose values: with each the table whose rows
    it is of, and the tests that leave these.
    """

    source: str
    keys: list[Coded]
    numbers: Mapping[RowValue, int]
    folds: Mapping[tuple[FoldKind, int | None], int]
    settled: Mapping[Coded, tuple[Coded, Array]]
    scan: Scan
    held: int
    casts: tuple[tuple[str, Apply, list[PartTest]], ...]

    @property
    def nbytes(self) -> int:
        """About how many bytes are held beside the columns of tables."""
        return self.held + self.scan.nbytes


class Scanned(Struct, frozen=True, eq=False):
    """One pass over a table, and what came of it."""

    prepared: Prepared
    result: ScanResult

    @property
    def numbers(self) -> Mapping[RowValue, int]:
        """The number of each argument."""
        return self.prepared.numbers

    @property
    def folds(self) -> Mapping[tuple[FoldKind, int | None], int]:
        """The number of each fold."""
        return self.prepared.folds

    def has(self, key: Coded) -> bool:
        """Whether the groups have a code of a coded column."""
        keys, settled = self.prepared.keys, self.prepared.settled
        return key in keys or (key in settled and settled[key][0] in keys)

    def groups(self, wanted: Sequence[Coded], size: Callable[[Coded], int]) -> Groups:
        """The groups by some of the coded columns."""
        columns = [self._codes(key) for key in wanted]
        own = self.result
        if set(self.prepared.keys) <= set(wanted):
            # No two groups become one, whatever a key settles beside it.
            return Groups(columns, list(map(size, wanted)), own.folds, own.groups, own.columns)
        every = Groups(columns, list(map(size, wanted)), own.folds, own.groups, own.columns)
        return every.merged()

    def _codes(self, key: Coded) -> Array:
        if key in self.prepared.keys:
            return self.result.codes[:, self.prepared.keys.index(key)]
        base, codes = self.prepared.settled[key]
        return codes[self._codes(base)]


def row_values(aggregation: Aggregation) -> tuple[RowValue, ...]:
    """What a scan computes on each row for an aggregation."""
    kernel = kernel_of(aggregation)
    match kernel:
        case Collected():
            return aggregation.arguments
        case Folded(arguments=arguments):
            return arguments(aggregation)
        case _:
            assert_never(kernel)


def folds_of(aggregation: Aggregation, numbers: Mapping[RowValue, int]) -> list[tuple[FoldKind, int | None]]:
    """The folds that an aggregation needs, each with the number of what it takes."""
    kernel = kernel_of(aggregation)
    match kernel:
        case Collected():
            return []
        case Folded(folds):
            own = [numbers[value] for value in row_values(aggregation)]
            return [(kind, None if at is None else own[at]) for kind, at in folds]
        case _:
            assert_never(kernel)


def needs_rows(aggregation: Aggregation) -> bool:
    """Whether an aggregation needs all rows of a group at once."""
    return isinstance(kernel_of(aggregation), Collected)


def argument_of(reader: RowReader, value: RowValue) -> Argument:
    """How a scan works out what an aggregate takes of each row."""
    match value:
        case MemberCode(column):
            members = reader.store.members(column.table, column.column)

            def codes(chunk: Chunk) -> Column:
                return Column(INTEGER, chunk.of(members.codes), None, None, 0, members.size)

            return Argument(INTEGER, codes, (), form_of(reader, value))
        case DistinctCode(column):
            members = reader.store.members(column.table, column.column)
            own_codes = reader.store.row_codes(reader.route(column), column.table, column.column)

            def known_codes(chunk: Chunk) -> Column:
                codes = own_codes.slice(chunk.start, chunk.stop, chunk.rows)
                nulls = codes >= members.null
                return Column(INTEGER, codes, nulls if nulls.any() else None, None, 0, members.no_match)

            return Argument(INTEGER, known_codes, tuple(reader.matches(column)), form_of(reader, value))
        case RowNumber():
            count = reader.store.rows(Place(reader.table))

            def rows(chunk: Chunk) -> Column:
                numbers = np.arange(chunk.start, chunk.stop)
                return Column(INTEGER, numbers if chunk.rows is None else numbers[chunk.rows], None, None, 0, count)

            return Argument(INTEGER, rows, ())
        case _:
            return Argument(value.type, reader.compile(value), tuple(reader.matches(value)), form_of(reader, value))


def held_by(reader: RowReader, value: RowValue) -> int:
    """About how many bytes an argument holds: a number for each row that is looked up, or for each text."""
    if isinstance(value, MemberCode | DistinctCode | RowNumber):
        return 0  # codes, which are kept anyway
    store, total = reader.store, 0
    for each in set(columns_in(value)):
        route = reader.route(each)
        if route:
            total += 8 * (store.rows(route[-1].target) + 1)
        elif isinstance(each, ColumnValue):
            texts = column_for(store, value, reader.table, each.column).dictionary
            total += 0 if texts is None else 8 * len(texts)
    return total
