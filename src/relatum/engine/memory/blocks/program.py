"""A scan as a program for the compiled loops: rows of whole numbers, with the addresses of what they read; or why not.

The loops do not look whether a place lies within an array. This module is the only one that hands them addresses: it
holds the arrays as long as a program lives, and it checks each of them: its type, that it is in one piece, as long as
the table, and that its codes are below their number.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import assert_never

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data.columns import Array, Column
from relatum.data.groups import DENSE_GROUPS
from relatum.data.types import Kind
from relatum.data.vectors import HIGHEST, LOWEST
from relatum.engine.memory.blocks import instructions as words
from relatum.engine.memory.blocks.forms import AsFloat, Combined, Fixed, Form, Looked, Own, column_of
from relatum.engine.memory.distinct import DistinctFold
from relatum.engine.memory.filters import MOST_RUNS, CodeTest, RangeTest, RowFilter, RowTest
from relatum.engine.memory.folds import FoldKind
from relatum.engine.memory.scan_task import ScanTask
from relatum.engine.memory.store import RowCodes
from relatum.engine.memory.zones import zones_of
from relatum.model.routes import Route

_KINDS = {np.dtype(name): number for number, name in enumerate(words.KINDS)}
#: The types that codes and row numbers have.
_CODES = frozenset(map(np.dtype, ("u1", "u2", "u4", "i8")))
#: Accumulators for more groups than these are made only where there are as many rows.
FEW_GROUPS = 1 << 16
#: The bytes that all accumulators of a scan may take.
_MOST_BYTES = 1 << 29
#: Comparing all rows at once comes first, unless nearly all pass, or _MUCH_MORE times as many as by looking up.
_MOST_PASS, _MUCH_MORE = 0.7, 4
_REAL = np.array([1, 0], np.uint8)


class WhyNot(Struct, frozen=True):
    """Why a scan, or what follows its tests, is left to NumPy."""

    reason: str


class _Unfit(Exception):
    """An array is not as the loops read it."""


class Selection(Struct, frozen=True, eq=False):
    """The tests of a scan that the loops carry out, as ``steps``, and after them those that NumPy does."""

    steps: NDArray[np.int64]
    judged: tuple[RowFilter, ...]
    held: list[Array]


class Accumulator(Struct, frozen=True, eq=False):
    """What a fold folds into: how many numbers, what they are before, and their bytes; none where rows are counted.

    Sums of ``floats`` are apart for each stretch: what they are depends on the order in which they are added.
    """

    kind: FoldKind
    size: int
    filler: int
    bits: int
    reach: int
    counts_rows: bool
    floats: bool
    column: Column | None


class Program(Struct, frozen=True, eq=False):
    """How the rows that are left are folded; a fold has its accumulator's number where its address comes."""

    groups: int
    keys: NDArray[np.int64]
    operations: NDArray[np.int64]
    folds: NDArray[np.int64]
    registers: int
    missing: int
    accumulators: tuple[Accumulator, ...]
    lost: tuple[tuple[int, Route], ...]
    held: list[Array]


class _Test(Struct, frozen=True, eq=False):
    """A test as steps: those that compare all rows of a block, none where they cannot; and one for a few rows."""

    share: float
    compared: list[list[int]]
    alone: list[int]


def selection_of(tests: Sequence[RowFilter], rows: int) -> Selection:
    """The tests of a scan, in their order; what the loops cannot do comes last and is left to NumPy."""
    held: list[Array] = []
    every: list[_Test] = []
    judged: list[RowFilter] = []
    for test in tests:
        try:
            every += _steps_of(test, rows, held)
        except _Unfit:
            judged.append(test)
    compared = [test for test in every if test.compared and test.share < _MOST_PASS]
    others = [test for test in every if test not in compared]
    if compared and others and compared[0].share > _MUCH_MORE * others[0].share:
        compared, others = [], every
    steps = [step for test in compared for step in test.compared] + [test.alone for test in others]
    return Selection(_table(steps, words.STEP_WIDTH), tuple(judged), held)


def _steps_of(test: RowFilter, rows: int, held: list[Array]) -> list[_Test]:
    match test:
        case RangeTest(column, low, high):
            if high - low > HIGHEST:
                raise _Unfit("a range has more numbers than 63 bits hold")
            kind, address = _column(column.values, rows, held)
            step = [words.INSIDE, words.UNSIGNED[kind], address, low, high - low, 0]
            steps = [_Test(test.share, [step], step)]
            if column.nulls is not None:
                real = [words.MARKED, *_column(column.nulls, rows, held), 0, 0, _address(_REAL, held)]
                steps.append(_Test(test.share, [], real))
            return steps
        case CodeTest(RowCodes(codes, positions), passing, runs):
            marks = passing
            if positions is not None:
                codes, marks, runs = positions, passing.take(codes), []
            found = _codes(codes, rows, len(marks), held)
            ranges = [[words.EITHER, *found, low, high - low, 0] for low, high in runs if len(runs) <= MOST_RUNS]
            if ranges:
                ranges[-1][0] = words.INSIDE
            if len(ranges) == 1:
                return [_Test(test.share, ranges, ranges[0])]
            table = np.ascontiguousarray(marks).view(np.uint8)
            return [_Test(test.share, ranges, [words.MARKED, *found, 0, 0, _address(table, held)])]
        case RowTest():
            raise _Unfit("a condition is worked out on each row")
        case _:
            raise TypeError(f"{type(test).__name__} is not a test of rows")


def program_of(task: ScanTask, likely: int, workers: int, stretches: int) -> Program | WhyNot:
    """How a scan's rows are folded, or why that is left to NumPy.

    Parameters
    ----------
    task : ScanTask
        The scan.
    likely : int
        About how many rows pass its tests.
    workers : int
        How many threads have accumulators of their own; marks of different values are shared.
    stretches : int
        In how many stretches rows are scanned, each of which has sums of floats of its own.
    """
    if task.keep:
        return WhyNot("an aggregate needs all rows of a group at once")
    groups = 1
    for _, size in task.keys:
        groups *= size
    if groups > min(max(FEW_GROUPS, likely), DENSE_GROUPS):
        return WhyNot("there are too many groups for a place each")
    try:
        return _Writer(task, groups, likely, workers, stretches).program()
    except _Unfit as unfit:
        return WhyNot(str(unfit))


def adds_by_stretch(groups: int) -> bool:
    """Whether floats of these groups are added up in each stretch by itself, row after row, and then the stretches.

    NumPy and the loops do the same, so that they come to the same bits. One group alone NumPy adds more exactly.
    """
    return 1 < groups <= FEW_GROUPS


class _Writer:
    """Writes a program: what is read twice is read into one register."""

    def __init__(self, task: ScanTask, groups: int, likely: int, workers: int, stretches: int) -> None:
        self.task, self.groups, self.likely, self.workers, self.stretches = task, groups, likely, workers, stretches
        self.held: list[Array] = []
        self.operations: list[tuple[int, ...]] = []
        self.registers: dict[tuple[int, ...], int] = {}
        self.missing = 0
        self.lost: list[tuple[int, Route]] = []

    def program(self) -> Program:
        task, held = self.task, self.held
        keys = []
        for found, size in task.keys:
            if found.positions is not None:
                raise _Unfit("a column's codes are found by way of another table")
            keys.append([*_codes(found.codes, task.rows, size, held), size])
        # All of them, also where nothing is folded of one: what its lookups do not find is counted.
        read = [self._read(number, argument.form) for number, argument in enumerate(task.arguments)]
        folds: list[list[int]] = []
        accumulators: list[Accumulator] = []
        for kind, number in task.folds:
            form = None if number is None else task.arguments[number].form
            register, unknown = (-1, -1) if number is None else read[number]
            made = self._accumulator(kind, form, unknown, task.takes_floats(number), ("sum", number) in task.folds)
            if not made.counts_rows:  # else it is what the first fold counts
                word = words.SUM_FLOATS if made.floats else _FOLDS[kind]
                folds.append([word, register, unknown, len(accumulators), made.bits])
            accumulators.append(made)
        if self.groups > 1:
            folds = _with_counts(folds)
        taken = sum(
            each.size * (1 if each.kind == "distinct" else 8 * (self.stretches if each.floats else self.workers))
            for each in accumulators
        )
        if taken > _MOST_BYTES:
            raise _Unfit("places for all groups would take too much memory")
        return Program(
            groups=self.groups,
            keys=_table(keys, words.KEY_WIDTH),
            operations=_table([list(each) for each in self.operations], words.OPERATION_WIDTH),
            folds=_table(folds, words.FOLD_WIDTH),
            registers=len(self.registers),
            missing=self.missing,
            accumulators=tuple(accumulators),
            lost=tuple(self.lost),
            held=held,
        )

    def _accumulator(self, kind: FoldKind, form: Form | None, unknown: int, floats: bool, summed: bool) -> Accumulator:
        """What a fold of a form folds into; ``summed`` is whether the same form is summed as well."""
        counts_rows = kind == "count" and form is not None and unknown < 0
        size, filler, bits, reach = (0 if counts_rows else self.groups), 0, 0, 0
        lower, upper = (0, 0) if form is None else form.bounds
        match kind:
            case "count":
                if floats and isinstance(form, Combined) and not summed:
                    # What is not finite is null, and only a sum of it tells.
                    raise _Unfit("floats that are worked out are counted by NumPy")
            case "sum" if floats:
                if not adds_by_stretch(self.groups):
                    raise _Unfit("floats of one group, or of very many, are added by NumPy")
            case "min" | "max" if floats:
                raise _Unfit("the least and the greatest float are found by NumPy")
            case "sum":
                reach = max(abs(lower), abs(upper)) * self.task.rows
                if reach >= 1 << 62:
                    raise _Unfit("a sum may need more than 64 bits")
            case "min":
                filler = HIGHEST
            case "max":
                filler = LOWEST
            case "distinct":
                bits = int(upper).bit_length()
                if not DistinctFold.marks_fit(self.groups << bits, self.likely):
                    raise _Unfit("there are too many different values to mark each")
                assert isinstance(form, Own), "different values are counted by their codes"
                _codes(form.column.values, self.task.rows, 1 << bits, self.held)
                size = self.groups << bits
            case _:
                assert_never(kind)
        column = None if form is None else column_of(form)
        return Accumulator(kind, size, filler, bits, reach, counts_rows, floats and kind == "sum", column)

    def _read(self, number: int, form: Form | None) -> tuple[int, int]:
        """The registers of an argument and of which rows have no value; -1 where all have one."""
        if form is None:
            raise _Unfit("an aggregate takes more than numbers added and multiplied")
        register = self._written(form)
        nulls = _nulls(form)
        lookups = self.task.arguments[number].lookups
        if not nulls and not lookups:
            return register, -1
        unknown, self.missing = self.missing, self.missing + 1
        self.operations.append((words.KNOWN, 0, 0, 0, 0, unknown))
        for each in nulls:
            if isinstance(each, Own):
                assert each.column.nulls is not None
                kind, address = _column(each.column.nulls, self.task.rows, self.held)
                self.operations.append((words.MISSING, kind, address, 0, 0, unknown))
            else:
                assert each.nulls is not None
                kind, address = _codes(each.positions, self.task.rows, len(each.table), self.held)
                table = _address(each.nulls.view(np.uint8), self.held)
                self.operations.append((words.MISSING_THERE, kind, address, table, 0, unknown))
        for route, index in lookups:
            kind, address = _codes(index.positions, self.task.rows, index.size + 1, self.held)
            # Each thread has counters of its own: their address is filled in there.
            self.operations.append((words.LOST, kind, address, index.size, len(self.lost), unknown))
            self.lost.append((number, route))
        return register, unknown

    def _written(self, form: Form) -> int:
        """The register that holds a form's value."""
        match form:
            case Own(column):
                values = column.values.view(np.int64) if column.type.kind is Kind.FLOAT else column.values
                kind, address = _column(values, self.task.rows, self.held)
                return self._register(words.LOAD, kind, address, 0, 0)
            case Looked(positions, table):
                kind, address = _codes(positions, self.task.rows, len(table), self.held)
                return self._register(words.PICK, kind, address, _address(table, self.held), 0)
            case Fixed(value):
                return self._register(words.FIXED, 0, 0, value, 0)
            case Combined(word, left, right):
                return self._register(word, 0, 0, self._written(left), self._written(right))
            case AsFloat(whole, divisor):
                return self._register(words.AS_FLOAT, 0, 0, self._written(whole), divisor)
            case _:
                assert_never(form)

    def _register(self, *operation: int) -> int:
        if operation not in self.registers:
            self.registers[operation] = len(self.registers)
            self.operations.append((*operation, self.registers[operation]))
        return self.registers[operation]


def _with_counts(folds: list[list[int]]) -> list[list[int]]:
    """The folds, the first of which counts rows, that done by the first sum of what every row has, if there is one."""
    _, *others = folds
    for at, (word, register, unknown, accumulator, _) in enumerate(others):
        if word == words.SUM and unknown < 0:
            others[at] = [words.COUNT_AND_SUM, register, unknown, accumulator, 0]
            return others
    return folds


_FOLDS: dict[FoldKind, int] = {
    "count": words.COUNT,
    "sum": words.SUM,
    "min": words.LEAST,
    "max": words.GREATEST,
    "distinct": words.MARK,
}


def _nulls(form: Form) -> list[Own | Looked]:
    """What of a form may have no value."""
    match form:
        case Own(column):
            return [] if column.nulls is None else [form]
        case Looked(nulls=nulls):
            return [] if nulls is None else [form]
        case Fixed():
            return []
        case Combined(left=left, right=right):
            return [*_nulls(left), *_nulls(right)]
        case AsFloat(whole):
            return _nulls(whole)
        case _:
            assert_never(form)


# -- arrays that are handed over ---------------------------------------------------------------------------------------


def _table(rows: list[list[int]], width: int) -> NDArray[np.int64]:
    return np.array(rows, np.int64).reshape(-1, width)


def _column(values: Array, rows: int, held: list[Array]) -> tuple[int, int]:
    """The kind and address of a column."""
    if values.dtype == np.bool_:
        values = values.view(np.uint8)
    if values.ndim != 1 or len(values) < rows or values.dtype not in _KINDS:
        raise _Unfit("a column is not in one piece, or not of whole numbers")
    return _KINDS[values.dtype], _address(values, held)


def _codes(codes: Array, rows: int, size: int, held: list[Array]) -> tuple[int, int]:
    """The kind and address of codes, all of them below ``size``."""
    if codes.dtype not in _CODES or _above(codes) > size:
        raise _Unfit("a column's codes are not below their number")
    return _column(codes, rows, held)


def _address(array: Array, held: list[Array]) -> int:
    if not array.flags.c_contiguous:
        raise _Unfit("a column is not in one piece, or not of whole numbers")
    held.append(array)
    return int(array.ctypes.data)


def _above(codes: Array) -> int:
    """A number that all codes are below. What is below zero counts as too large."""
    least, greatest = zones_of(codes).bounds
    return HIGHEST if least < 0 else greatest + 1
