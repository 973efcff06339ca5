"""Programs carried out: a thread takes a stretch of the table, notes which rows pass, and folds those."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from typing import Any, assert_never

import numpy as np

from relatum.data.columns import Array
from relatum.engine.memory.blocks.instructions import BLOCK, COMPARED, COUNT_AND_SUM, LOST
from relatum.engine.memory.blocks.program import Accumulator, Program, Selection
from relatum.engine.memory.distinct import DistinctFold
from relatum.engine.memory.folds import CountFold, ExactSum, Extreme, FloatSum, Fold, FoldKind
from relatum.engine.memory.rows import Chunk

#: Rows that a thread takes at once: many, since threads wait for each other's Python; few enough to end soon.
#: Floats are added up in stretches of this length.
CHUNK_ROWS = 1 << 19
_WORD, _ADDRESS, _SECOND, _BITS = 0, 3, 4, 4

Loops = Any


class _Scratch(threading.local):
    """Where a thread notes what it needs for a moment: kept, since the system takes a while to hand out memory."""

    def __init__(self) -> None:
        # Some more: rows that do not pass are noted where the next ones would be.
        self.notes = np.empty(CHUNK_ROWS + 8, np.uint32)
        self.passing = np.empty(2 * COMPARED, np.uint8)
        self.groups = np.zeros(BLOCK, np.uint32)


_scratch = _Scratch()


def selected(loops: Loops, selection: Selection, start: int, stop: int) -> tuple[int, Array]:
    """How many rows of a stretch pass, and these, counted from its start; without tests all, unnoted."""
    count = stop - start
    # What is judged with NumPy may scan another table in this thread.
    notes = np.empty(count + 8, np.uint32) if selection.judged else _scratch.notes
    if len(selection.steps):
        count = loops.select(start, stop, selection.steps, notes, _scratch.passing)
    elif selection.judged:
        notes[:count] = np.arange(count)
    for test in selection.judged:
        if count:
            passing = notes[:count][test.mask(Chunk(start, stop, notes[:count].astype(np.int64)))]
            count = len(passing)
            notes[:count] = passing
    return count, notes


def survivors(loops: Loops, selection: Selection, start: int, stop: int) -> Chunk:
    """The rows of a stretch that pass."""
    count, notes = selected(loops, selection, start, stop)
    return Chunk(start, stop, None if count == stop - start else notes[:count].astype(np.int64))


def marks_of(program: Program) -> dict[int, Array]:
    """The marks of different values, by the number of the accumulator, that all threads share.

    Whichever makes a mark, it is the same.
    """
    return {at: _made(each) for at, each in enumerate(program.accumulators) if each.kind == "distinct"}


class Worker:
    """What one thread folds into, and what it notes on the way; ``marks`` are those that threads share."""

    def __init__(self, loops: Loops, selection: Selection, program: Program, marks: Mapping[int, Array]) -> None:
        self.loops, self.selection, self.program = loops, selection, program
        self.kept: list[Array] = [
            marks[at] if at in marks else _made(each) for at, each in enumerate(program.accumulators)
        ]
        self.lost = np.zeros(max(len(program.lost), 1), np.int64)
        self._registers = np.empty((max(program.registers, 1), BLOCK), np.int64)
        self._missing = np.zeros((max(program.missing, 1), BLOCK), np.uint8)
        self._operations, self._folds = program.operations.copy(), program.folds.copy()
        own = self._operations[:, _WORD] == LOST
        self._operations[own, _SECOND] = self.lost.ctypes.data + self.lost.itemsize * self._operations[own, _SECOND]
        addresses = np.array([kept.ctypes.data for kept in self.kept])
        self._folds[:, _ADDRESS] = addresses[self._folds[:, _ADDRESS]]
        self._folds[self._folds[:, _WORD] == COUNT_AND_SUM, _BITS] = addresses[0]
        #: Sums of floats, by the number of the accumulator, of each stretch by where it starts.
        self.stretches: dict[int, dict[int, Array]] = {
            at: {} for at, each in enumerate(program.accumulators) if each.floats
        }
        self._of_floats = {at: np.flatnonzero(program.folds[:, _ADDRESS] == at) for at in self.stretches}

    def take_in(self, start: int, stop: int, *, free: bool) -> None:
        """Take in the rows of a stretch: of a ``free`` one all, without looking at the tests."""
        program = self.program
        for at, known in self.stretches.items():
            known[start] = _made(program.accumulators[at])
            self._folds[self._of_floats[at], _ADDRESS] = known[start].ctypes.data
        into = (
            program.keys, self._operations, self._folds, program.groups == 1, _scratch.groups, self._registers,
            self._missing,
        )  # fmt: skip
        if free or not self.selection.judged:
            steps = self.selection.steps[:0] if free else self.selection.steps
            self.loops.both(start, stop, steps, _scratch.notes, _scratch.passing, *into)
            return
        count, notes = selected(self.loops, self.selection, start, stop)
        if count:
            self.loops.fold(start, stop, count, notes, *into)


def _made(accumulator: Accumulator) -> Array:
    if accumulator.floats:
        return np.zeros(accumulator.size)
    if accumulator.kind == "distinct":
        return np.zeros(accumulator.size, np.uint8)
    if accumulator.filler:
        return np.full(accumulator.size, accumulator.filler, np.int64)
    return np.zeros(accumulator.size, np.int64)


def folds_of(program: Program, workers: list[Worker]) -> list[Fold] | None:
    """What all threads have folded, put together into what the first one has.

    None where a sum of floats is not finite: then some value may be null, which the loops do not see.
    """
    first, *others = (worker.kept for worker in workers)
    for at, each in enumerate(program.accumulators):
        if each.floats:
            first[at] = _in_turn({start: sums for worker in workers for start, sums in worker.stretches[at].items()})
            if not np.isfinite(first[at]).all():
                return None
            continue
        for other in others:
            if other[at] is not first[at]:  # threads share marks
                _operation(each.kind)(first[at], other[at], out=first[at])
    return [_fold(program, each, first[0 if each.counts_rows else at]) for at, each in enumerate(program.accumulators)]


def _in_turn(stretches: Mapping[int, Array]) -> Array:
    """Sums of floats added up, one stretch after another."""
    (_, total), *others = sorted(stretches.items(), key=lambda each: each[0])
    with np.errstate(over="ignore", invalid="ignore"):
        for _, sums in others:
            total += sums
    return total


def _fold(program: Program, each: Accumulator, kept: Array) -> Fold:
    match each.kind:
        case "count":
            counted = CountFold(0)
            counted.counts = kept
            return counted
        case "sum" if each.floats:
            floats = FloatSum(0)
            floats.sums = kept
            return floats
        case "sum":
            total = ExactSum(0)
            total.low, total.reach = kept, each.reach
            return total
        case "min" | "max":
            extreme = Extreme(0, _operation(each.kind), each.filler, np.int64)
            extreme.best, extreme.column = kept, each.column
            return extreme
        case "distinct":
            found = DistinctFold(program.groups)
            found.take_marks(kept.view(np.bool_))
            return found
        case _:
            assert_never(each.kind)


def _operation(kind: FoldKind) -> np.ufunc:
    """What puts two accumulators together."""
    match kind:
        case "count" | "sum":
            return np.add
        case "min":
            return np.minimum
        case "max":
            return np.maximum
        case "distinct":
            return np.logical_or
        case _:
            assert_never(kind)
