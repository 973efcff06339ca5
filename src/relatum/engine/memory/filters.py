"""Filters as tests on chunks of rows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.groups import run_starts
from relatum.data.types import Kind
from relatum.engine.memory.rows import Chunk, Evaluate, RowReader, evaluate_tree, extended, unsorted_texts
from relatum.engine.memory.store import MemoryStore, RowCodes
from relatum.language.expression import (
    Apply,
    ColumnValue,
    Constant,
    Expression,
    FilterPart,
    NoMatch,
    columns_in,
)
from relatum.model.routes import Place, Route
from relatum.plan.nodes import Restriction

#: Codes in at most this many unbroken runs are compared with the bounds of each run.
MOST_RUNS = 3
#: Passing rows are noted once at most one row in this many is left: before a costly test, and before any other.
_FEW, _VERY_FEW = 4, 24


class RowFilter(Protocol):
    """A condition on rows.

    ``share`` is an estimate of how many pass, and ``never`` is whether surely none does.
    """

    share: float
    never: bool

    @property
    def costly(self) -> bool:
        """Whether a row takes longer than comparing a number or looking up a mark."""
        ...

    def mask(self, chunk: Chunk) -> NDArray[np.bool_]:
        """Which rows of the chunk pass."""
        ...


class Marks(Struct, frozen=True, eq=False):
    """Which codes pass, the first few unbroken runs of these, and their share of all codes."""

    passing: NDArray[np.bool_]
    runs: list[tuple[int, int]]
    share: float

    @classmethod
    def of(cls, passing: NDArray[np.bool_]) -> Marks:
        """What is known of the codes marked in ``passing``."""
        starts = run_starts(passing)
        stops = np.append(starts[1:], len(passing)) - 1
        first = 0 if len(passing) and passing[0] else 1
        own = slice(first, first + 2 * (MOST_RUNS + 1), 2)
        runs = list(zip(starts[own].tolist(), stops[own].tolist(), strict=True))
        return cls(passing, runs, np.count_nonzero(passing) / max(len(passing), 1))

    @property
    def nbytes(self) -> int:
        """Bytes held in memory."""
        return self.passing.nbytes


class CodeTest(Struct):
    """Passes rows whose code is marked in a table of codes; unbroken runs of codes are compared, not looked up."""

    codes: RowCodes
    passing: NDArray[np.bool_]
    runs: list[tuple[int, int]]
    share: float
    never: bool

    @classmethod
    def of(cls, codes: RowCodes, marks: Marks) -> CodeTest:
        """The test that passes the marked codes."""
        return cls(codes, marks.passing, marks.runs, marks.share, not marks.runs)

    @property
    def costly(self) -> bool:
        """Where codes are found by way of another table."""
        return self.codes.positions is not None

    def mask(self, chunk: Chunk) -> NDArray[np.bool_]:
        """Which rows of the chunk pass."""
        part = self.codes.slice(chunk.start, chunk.stop, chunk.rows)
        if len(self.runs) > MOST_RUNS:
            return self.passing.take(part)
        result: NDArray[np.bool_] | None = None
        for low, high in self.runs:
            inside = _between(part, low, high, 0, len(self.passing) - 1)
            result = inside if result is None else result | inside
        return np.zeros(len(part), np.bool_) if result is None else result


def _between(values: Array, low: int, high: int, lowest: int, highest: int) -> NDArray[np.bool_]:
    """Which whole numbers, all of them from ``lowest`` to ``highest``, are from ``low`` to ``high``."""
    if low == high:
        return np.asarray(values == low)
    if low <= lowest:
        return np.asarray(values <= high)
    if high >= highest:
        return np.asarray(values >= low)
    # Numbers below `low` wrap round to large ones, so that one comparison is enough.
    unsigned = np.dtype(f"u{values.dtype.itemsize}")
    return np.asarray((values - values.dtype.type(low)).view(unsigned) <= high - low)


class RangeTest(Struct):
    """Passes rows whose own value in a column of whole numbers lies between two of them."""

    column: Column
    low: int
    high: int
    share: float
    never: bool

    @classmethod
    def of(cls, column: Column, low: int, high: int) -> RangeTest:
        """The test that passes values from ``low`` to ``high``; each may lie outside what the column holds."""
        low, high = max(low, column.lower), min(high, column.upper)
        share = max(high - low + 1, 0) / (column.upper - column.lower + 1)
        return cls(column, low, high, share, high < low)

    @property
    def costly(self) -> bool:
        """Never."""
        return False

    def mask(self, chunk: Chunk) -> NDArray[np.bool_]:
        """Which rows of the chunk pass."""
        column = self.column
        inside = _between(chunk.of(column.values), self.low, self.high, column.lower, column.upper)
        return inside if column.nulls is None else inside & ~chunk.of(column.nulls)


def narrowed(tests: Sequence[RowFilter]) -> list[RowFilter]:
    """The tests, those of one column's range put together, the most selective first."""
    ranges: dict[int, RangeTest] = {}
    others: list[RowFilter] = []
    for test in tests:
        if not isinstance(test, RangeTest):
            others.append(test)
            continue
        known = ranges.get(id(test.column))
        ranges[id(test.column)] = test if known is None else RangeTest.of(
            test.column, max(test.low, known.low), min(test.high, known.high)
        )  # fmt: skip
    return sorted([*ranges.values(), *others], key=lambda test: test.share)


#: A comparison of whole numbers as the range that it leaves: of a constant's floor, and whether it is whole.
_RANGES: dict[str, Callable[[int, bool], tuple[int, int]]] = {
    "=": lambda floor, whole: (floor, floor) if whole else (1, 0),
    "<": lambda floor, whole: (v.LOWEST, floor - 1 if whole else floor),
    "<=": lambda floor, whole: (v.LOWEST, floor),
    ">": lambda floor, whole: (floor + 1, v.HIGHEST),
    ">=": lambda floor, whole: (floor if whole else floor + 1, v.HIGHEST),
}
_TURNED = {"=": "=", "<": ">", "<=": ">=", ">": "<", ">=": "<="}


def _range_of(expression: Expression) -> tuple[ColumnValue, int, int] | None:
    """The range that a condition leaves of one column of whole numbers; None where it is not such a condition."""
    if not isinstance(expression, Apply) or len(expression.arguments) != 2:
        return None
    left, right = expression.arguments
    function = expression.function
    if function == "and":
        one, other = _range_of(left), _range_of(right)
        if one is None or other is None or one[0] != other[0]:
            return None
        return one[0], max(one[1], other[1]), min(one[2], other[2])
    if isinstance(left, Constant):
        left, right, function = right, left, _TURNED.get(function, "")
    if function not in _RANGES or not isinstance(left, ColumnValue) or not isinstance(right, Constant):
        return None
    value = right.value
    if isinstance(value, bool) or not isinstance(value, int) or not left.type.exact or not right.type.exact:
        return None
    scale = left.type.scale - right.type.scale
    floor, rest = (value * 10**scale, 0) if scale >= 0 else divmod(value, 10**-scale)
    return left, *_RANGES[function](floor, rest == 0)


class RowTest(Struct):
    """Passes rows for which a condition on the table's own row is true."""

    condition: Evaluate
    share: float = 0.4
    never: bool = False

    @property
    def costly(self) -> bool:
        """Always: a condition may be any."""
        return True

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
            return PartTest(part, _text_test(reader, part, name) or _member_test(reader, part, route, name), None)
        found = _range_of(part.expression)
        if found is not None and not found[0].route:
            own, low, high = found
            return PartTest(part, RangeTest.of(store.column(reader.table, own.column), low, high), None)
        return PartTest(part, RowTest(reader.compile(part.expression)), None)
    index = store.route_index(route)
    sorted_ = name and unsorted_texts(store, part.expression, part.table, name) is None
    if name and sorted_ and store.members(part.table, name).codes.itemsize < index.positions.itemsize:
        # Members are narrower than row numbers, so that less memory is read.
        test = _member_test(reader, part, route, name)
    else:
        test = CodeTest.of(_positions(reader, route), _place_marks(reader, part, route[-1].target))
    no_match = None
    if index.unmatched and not test.passing[-1]:
        only = np.zeros(index.size + 1, np.bool_)
        only[-1] = True
        no_match = CodeTest.of(_positions(reader, route), Marks.of(only))
    return PartTest(part, test, no_match)


def _positions(reader: RowReader, route: Route) -> RowCodes:
    return RowCodes(reader.store.route_index(route).positions, None)


def _member_test(reader: RowReader, part: FilterPart, route: Route, name: str) -> CodeTest:
    store = reader.store

    def judge() -> Marks:
        # Null, and no match, in which columns read null, come after the members.
        judged = v.with_nulls_after(store.members(part.table, name).values, 2)
        return Marks.of(_truth(part.expression, judged, v.truth(np.arange(len(judged)) == len(judged) - 1)))

    owner = store.tables.rows_of[part.table]
    key = ("truth", owner, name, part.expression)
    marks = store.work.keep_lately(key, (store.stamp(part.table, name),), judge)
    return CodeTest.of(store.row_codes(route, part.table, name), marks)


def _text_test(reader: RowReader, part: FilterPart, name: str) -> CodeTest | None:
    """A test on each row's own text, where a column's texts are not sorted and the condition asks for no order."""
    store = reader.store
    texts = unsorted_texts(store, part.expression, part.table, name)
    if texts is None:
        return None

    def judge() -> Array:
        return _truth(part.expression, texts, v.truth(np.False_)).view(np.uint8)

    key = ("truth of rows", store.tables.rows_of[part.table], name, part.expression)
    truth = store.work.keep_lately(key, (store.stamp(part.table, name),), judge)
    return CodeTest.of(RowCodes(truth, None), Marks.of(np.array([False, True])))


def _place_marks(reader: RowReader, part: FilterPart, place: Place) -> Marks:
    """Which rows of a table or level, the virtual one last, a condition is true for."""
    store = reader.store
    stamps: list[object] = [store.tables.data[place.table], *(store.stamp(place.table, name) for name in place.level)]
    for each in columns_in(part.expression):
        if isinstance(each, ColumnValue):
            stamps.append(store.stamp(each.table, each.column))
        stamps += store.route_stamps(reader.route(each))
    key = ("truth", place, part.expression)
    return store.work.keep_lately(key, tuple(stamps), lambda: Marks.of(_judged_mask(reader, part, place)))


def _judged_mask(reader: RowReader, part: FilterPart, place: Place) -> NDArray[np.bool_]:
    inner = RowReader(reader.store, place.table)

    def leaf(expression: Expression) -> Column:
        if isinstance(expression, NoMatch):
            return v.truth(_unmatched(reader.store, expression, place))
        assert isinstance(expression, ColumnValue)
        if not expression.route:
            return extended(reader.store, part.expression, place, expression.column)
        return v.with_nulls_after(inner.whole(expression), 1)

    result = v.spread(evaluate_tree(part.expression, leaf), reader.store.rows(place) + 1)
    return result.values if result.nulls is None else result.values & ~result.nulls


def passes_unmatched(restriction: Restriction) -> bool:
    """Whether the virtual row of a table, and those that it looks up, pass a condition."""
    # It finds nothing, and what it looks up finds nothing: every column reads null there.
    result = evaluate_tree(
        restriction.part.expression,
        lambda leaf: v.truth(True) if isinstance(leaf, NoMatch) else v.all_null(leaf.type),
    )
    return bool(result.values) and not (result.nulls is not None and bool(result.nulls))


def _unmatched(store: MemoryStore, test: NoMatch, place: Place) -> NDArray[np.bool_]:
    # The virtual row looks up the virtual rows further up.
    if not test.route:
        return np.asarray(np.arange(store.rows(place) + 1) == store.rows(place))
    index = store.route_index(test.route)
    return np.append(index.positions == index.size, True)


def _truth(expression: Expression, judged: Column, unmatched: Column) -> NDArray[np.bool_]:
    """For which values of a column a condition is true; ``unmatched`` are those that stand for no match."""

    def leaf(value: Expression) -> Column:
        return unmatched if isinstance(value, NoMatch) else judged

    result = v.spread(evaluate_tree(expression, leaf), len(judged))
    return np.asarray(result.values if result.nulls is None else result.values & ~result.nulls)


def survivors(tests: list[RowFilter], start: int, stop: int) -> Chunk:
    """The rows of a stretch that pass every test: the most selective test first, the rest only for what it leaves.

    To note the rows that are left takes as long as many comparisons of all of them, unless they are few.
    """
    chunk = Chunk(start, stop)
    mask: NDArray[np.bool_] | None = None
    for number, test in enumerate(tests):
        found = test.mask(chunk)
        if chunk.rows is not None:
            chunk = Chunk(start, stop, chunk.rows[found])
            continue
        mask = found if mask is None else mask & found
        few = _FEW if number + 1 < len(tests) and tests[number + 1].costly else _VERY_FEW
        if np.count_nonzero(mask) * few < stop - start:
            chunk, mask = Chunk(start, stop, np.flatnonzero(mask)), None
    if mask is not None and not mask.all():
        chunk = Chunk(start, stop, np.flatnonzero(mask))
    return chunk
