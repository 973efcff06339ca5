"""Filters as tests on chunks of rows."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.types import Kind
from relatum.engine.memory.rows import Chunk, Evaluate, RowReader, evaluate_tree
from relatum.engine.memory.store import MemoryStore, RowCodes
from relatum.language.expression import ColumnValue, Expression, FilterPart, NoMatch, columns_in
from relatum.model.routes import Place, Route
from relatum.plan.nodes import Restriction

_MOST_RUNS = 3


class RowFilter(Protocol):
    """A condition on rows. ``share`` is an estimate of how many pass, and ``never`` is whether surely none does."""

    share: float
    never: bool

    def mask(self, chunk: Chunk) -> NDArray[np.bool_]:
        """Which rows of the chunk pass."""
        ...


class CodeTest(Struct):
    """Passes rows whose code is marked in a table of codes; unbroken runs of codes are compared, not looked up."""

    codes: RowCodes
    passing: NDArray[np.bool_]
    runs: list[tuple[int, int]]
    share: float
    never: bool

    @classmethod
    def of(cls, codes: RowCodes, passing: NDArray[np.bool_]) -> CodeTest:
        """The test that passes the codes marked in ``passing``."""
        edges = np.flatnonzero(np.diff(np.concatenate(([False], passing, [False])).astype(np.int8)))
        runs = [(int(start), int(stop) - 1) for start, stop in edges.reshape(-1, 2)[: _MOST_RUNS + 1]]
        return cls(codes, passing, runs, float(passing.mean()) if len(passing) else 0.0, not runs)

    def mask(self, chunk: Chunk) -> NDArray[np.bool_]:
        """Which rows of the chunk pass."""
        part = self.codes.slice(chunk.start, chunk.stop, chunk.rows)
        if len(self.runs) > _MOST_RUNS:
            return self.passing.take(part)
        result: NDArray[np.bool_] | None = None
        for low, high in self.runs:
            inside = _between(part, low, high, len(self.passing) - 1)
            result = inside if result is None else result | inside
        return np.zeros(len(part), np.bool_) if result is None else result


def _between(codes: Array, low: int, high: int, last: int) -> NDArray[np.bool_]:
    if low == high:
        return np.asarray(codes == low)
    if low == 0:
        return np.asarray(codes <= high)
    if high == last:
        return np.asarray(codes >= low)
    if codes.dtype.kind != "u":
        return np.asarray((codes >= low) & (codes <= high))
    # Unsigned codes below `low` wrap round to large numbers, so that one comparison is enough.
    return np.asarray(codes - codes.dtype.type(low) <= high - low)


class RowTest(Struct):
    """Passes rows for which a condition on the table's own row is true."""

    condition: Evaluate
    share: float = 0.4
    never: bool = False

    def mask(self, chunk: Chunk) -> NDArray[np.bool_]:
        """Which rows of the chunk pass."""
        result = v.spread(self.condition(chunk), len(chunk))
        return result.values if result.nulls is None else result.values & ~result.nulls


class PartTest(Struct):
    """A filter part ready to run on a table's rows.

    ``no_match`` passes just the rows whose lookup of the part's table found nothing, where there are such rows and
    the condition leaves them out.
    """

    part: FilterPart
    test: RowFilter
    no_match: CodeTest | None


def part_test(reader: RowReader, part: FilterPart, route: Route) -> PartTest:
    """Make a filter part a test on the rows of the reader's table; ``route`` leads to those that it judges."""
    store = reader.store
    columns = part.columns or frozenset()
    name = next(iter(columns)) if len(columns) == 1 else None
    if not route:
        kind = next((value.type.kind for value in columns_in(part.expression) if isinstance(value, ColumnValue)), None)
        if name and kind in (Kind.TEXT, Kind.BOOLEAN):
            return PartTest(part, _member_test(reader, part, route, name), None)
        return PartTest(part, RowTest(reader.compile(part.expression)), None)
    index = store.route_index(route)
    if name and store.members(part.table, name).codes.itemsize < index.positions.itemsize:
        # Members are narrower than row numbers, so that less memory is read.
        test = _member_test(reader, part, route, name)
    else:
        test = CodeTest.of(_positions(reader, route), _place_mask(reader, part, route[-1].target))
    no_match = None
    if index.unmatched and not test.passing[-1]:
        only = np.zeros(index.size + 1, np.bool_)
        only[-1] = True
        no_match = CodeTest.of(_positions(reader, route), only)
    return PartTest(part, test, no_match)


def _positions(reader: RowReader, route: Route) -> RowCodes:
    return RowCodes(reader.store.route_index(route).positions, None)


def _member_test(reader: RowReader, part: FilterPart, route: Route, name: str) -> CodeTest:
    codes = reader.store.row_codes(route, part.table, name)
    judged = v.with_nulls_after(
        reader.store.members(part.table, name).values, 2
    )  # null, and no match, in which columns read null
    return CodeTest.of(codes, _truth(part.expression, judged, len(judged)))


def _place_mask(reader: RowReader, part: FilterPart, place: Place) -> NDArray[np.bool_]:
    inner = RowReader(reader.store, place.table)

    def leaf(expression: Expression) -> Column:
        if isinstance(expression, NoMatch):
            return v.truth(_unmatched(reader.store, expression, place))
        assert isinstance(expression, ColumnValue)
        if not expression.route:
            return reader.store.extended(place, expression.column)
        return v.with_nulls_after(inner.whole(expression), 1)

    result = v.spread(evaluate_tree(part.expression, leaf), reader.store.rows(place) + 1)
    return result.values if result.nulls is None else result.values & ~result.nulls


def passes_unmatched(store: MemoryStore, restriction: Restriction) -> bool:
    """Whether the virtual row of a table, and those that it looks up, pass a condition."""
    place = restriction.route[-1].target if restriction.route else Place(restriction.part.table)
    return bool(_place_mask(RowReader(store, place.table), restriction.part, place)[-1])


def _unmatched(store: MemoryStore, test: NoMatch, place: Place) -> NDArray[np.bool_]:
    # The virtual row looks up the virtual rows further up.
    if not test.route:
        return np.asarray(np.arange(store.rows(place) + 1) == store.rows(place))
    index = store.route_index(test.route)
    return np.append(index.positions == index.size, True)


def _truth(expression: Expression, judged: Column, length: int) -> NDArray[np.bool_]:
    unmatched = v.truth(np.arange(length) == length - 1)

    def leaf(value: Expression) -> Column:
        return unmatched if isinstance(value, NoMatch) else judged

    result = v.spread(evaluate_tree(expression, leaf), length)
    return np.asarray(result.values if result.nulls is None else result.values & ~result.nulls)


def survivors(tests: list[RowFilter], start: int, stop: int) -> Chunk:
    """The rows of a stretch that pass every test: the most selective test first, the rest only for what it leaves."""
    chunk = Chunk(start, stop)
    mask: NDArray[np.bool_] | None = None
    for test in tests:
        found = test.mask(chunk)
        if chunk.rows is not None:
            chunk = Chunk(start, stop, chunk.rows[found])
            continue
        mask = found if mask is None else mask & found
        if np.count_nonzero(mask) * 4 < stop - start:
            chunk, mask = Chunk(start, stop, np.flatnonzero(mask)), None
    if mask is not None and not mask.all():
        chunk = Chunk(start, stop, np.flatnonzero(mask))
    return chunk
